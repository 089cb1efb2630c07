//! Tuples that memory has no room for: the same is given as when there is room for all.
#![allow(clippy::unwrap_used, reason = "a test that fails may panic")]

use std::path::Path;

use kyanite_flow::{Counters, Destination, Events, Input, InputOptions, Job, Layout, Output, run};
use kyanite_formats::Format;
use kyanite_lang::{RuleText, Syntax, compile};

/// The result of a rule, with `memory` bytes for tuples; or why it fails.
fn given(rule: &str, input: &Path, memory: usize) -> Result<String, String> {
    let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
    let target = input.with_extension("out");
    let layout = Layout::of(Format::JsonLines);
    let mut output = Output::open(Destination::File(target.clone()), layout).unwrap();
    let options = InputOptions { memory, threads: 2, ..InputOptions::default() };
    let job = Job::new(&plan, &options);
    let mut events = Events { tell: &mut |_| {}, counters: &Counters::default() };
    run(&job, &[Input::File(input.to_owned())], &mut output, &mut events)
        .map_err(|failed| format!("{failed:?}"))?;
    output.finish().unwrap();
    Ok(std::fs::read_to_string(&target).unwrap())
}

const RULES: [&str; 9] = [
    "for r in $RECORDS order by r.k return r.n",
    "for r in $RECORDS order by r.k descending, r.t return {r.n, all: r}",
    "for r in $RECORDS let x = r.t order by r.maybe skip 10 first 20000 return [x, r.n]",
    "for r in $RECORDS order by r.k first 150000 return r.n",
    "for r in $RECORDS order by r.n descending carry sum from 0 = sum + number(r.n) first 5000 return sum",
    "for r in $RECORDS group by k = r.k return {k, n: r[*].n}",
    "for r in $RECORDS group by k = r.k, m = r.maybe order by count(r[*]) descending, k return {k, m, last: r[-1].t}",
    "for r in $RECORDS order by r.t window 3 step 7 return r[*].n",
    "for r in $RECORDS order by r.k where r.n > 100 group by t = r.t return {t, most: max(r[*].n)}",
];

#[test]
fn the_same_with_little_room() {
    let folder = tempfile::tempdir().unwrap();
    let (mut lines, mut elements) = (String::new(), String::from("<feed>"));
    for n in 0..4_000_u32 {
        let key = n.wrapping_mul(2_654_435_761) % 97;
        let maybe = if n % 3 == 0 { String::new() } else { format!(", \"maybe\": {}.50", n % 7) };
        lines.push_str(&format!(
            "{{\"n\": {n}, \"k\": {key}, \"t\": \"t\u{e9}{}\"{maybe}}}\n",
            n % 31
        ));
        elements.push_str(&format!("<r a='x'><n>{n}</n><k>{key}</k><t>t{}</t></r>\n", n % 31));
    }
    elements.push_str("</feed>");
    let (json, xml) = (folder.path().join("r.jsonl"), folder.path().join("r.xml"));
    std::fs::write(&json, lines).unwrap();
    std::fs::write(&xml, elements).unwrap();
    for rule in RULES {
        for (file, records) in [(&json, "$[*]"), (&xml, "$.feed.r[*]")] {
            let rule = rule.replace("$RECORDS", records);
            let whole = given(&rule, file, usize::MAX).unwrap();
            assert!(whole.lines().count() > 10, "{rule}");
            // Few runs, and more than are merged at a time.
            for memory in [300_000, 10_000] {
                assert!(whole == given(&rule, file, memory).unwrap(), "{rule} {memory}");
            }
        }
    }
    let failing = "for r in $[*] order by r.k where r.n + r.maybe > 0 return r";
    for memory in [usize::MAX, 10_000] {
        assert!(given(failing, &json, memory).unwrap_err().contains("maybe"), "{memory}");
    }
}
