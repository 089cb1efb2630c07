//! How functions are shown.

/// How a function is called: `round(number, digits?)`, the last of its parameters perhaps again and again.
pub fn usage<'n>(
    name: &str,
    parameters: impl Iterator<Item = &'n str>,
    required: usize,
    repeats: bool,
) -> String {
    let parameters: Vec<String> = parameters
        .enumerate()
        .map(|(position, name)| {
            let optional = if position >= required { "?" } else { "" };
            format!("{name}{optional}")
        })
        .collect();
    let more = if repeats { ", …" } else { "" };
    format!("{name}({}{more})", parameters.join(", "))
}
