//! Code that is compiled twice: as usual, and for instructions that newer processors have.

/// Something to do, for [`tuned`]. Mark `run` with `#[inline(always)]`, and what it calls in turn: only what is inlined is
/// compiled for other instructions.
pub trait Work {
    /// What comes of it.
    type Output;

    /// Does it.
    fn run(self) -> Self::Output;
}

/// Does the work with the instructions for bits, the counting of them, and 16 bytes at once (BMI, POPCNT and SSE4.1 of
/// x86-64) where the processor has them; else as usual, with the same outcome.
#[inline]
#[allow(unsafe_code, reason = "a call of code for instructions that were looked for")]
pub fn tuned<W: Work>(work: W) -> W::Output {
    #[cfg(target_arch = "x86_64")]
    if is_x86_feature_detected!("bmi1")
        && is_x86_feature_detected!("bmi2")
        && is_x86_feature_detected!("popcnt")
        && is_x86_feature_detected!("sse4.1")
    {
        // SAFETY: these instructions were detected.
        return unsafe { on_newer(work) };
    }
    work.run()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "bmi1,bmi2,popcnt,sse4.1")]
fn on_newer<W: Work>(work: W) -> W::Output {
    work.run()
}
