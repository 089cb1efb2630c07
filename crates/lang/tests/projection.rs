//! A rule gives and tells the same, whether its records are read whole or only as far as it can see.
#![allow(clippy::unwrap_used, clippy::panic, reason = "tests say what is wrong by panicking")]

use kyanite_formats::json::{
    self, Reader, ReaderOptions, SlotTemplates, Slotted, Style, ValueTemplates,
};
use kyanite_lang::{
    Arguments, Flow, HandedOn, Plan, RecordUnit, RowEdit, RowNames, RowValue, Rows, RuleText,
    Runner, Session, SpillSettings, Syntax, TupleStore, compile,
};
use kyanite_tree::{Arena, Value, locate};
use proptest::prelude::*;

/// Rules that see records only by the names of their members.
const IN_SLOTS: [&str; 20] = [
    "$[*].a",
    "for r in $[*] return {r.a, r.other, c: r.a.b, list: r.list}",
    "for r in $[*] return {r.b, again: r.b}",
    "for r in $[*] group by k = r.b return {k, n: count(r[*]), a: count(r[*].a)}",
    "for r in $[*] group by k = r.b, r.a return {k, a, s: sum(r[*].a.b), m: max(r[*].other)}",
    "for r in $[*] group by k = r.a.b return {k, n: count(r[*].a), s: avg(r[*].list[0].b)}",
    "for r in $[*] group by k = r.b order by count(r[*]) descending first 1 return k",
    "$[?@.a.b == 1 && @.list[0].b].b",
    "count($[*])",
    "count($[?@.a])",
    "sum($[?@.a != 'x'].a.b)",
    "for r in $[*] where r.a == 1 return {r.a, r.b, l: r.list[*].b, n: count(r.list[*])}",
    "for r in $[*] let s = r.a return [s.b ?? 0, s.list ?? 1]",
    "for r in $[*] for l in r.list[*] return {r.a, l.b}",
    "for l in $[*].list[*] return l.b",
    "for r in $[*] return [exists(r.a), exists(r.a.b), exists(r.list[0])]",
    "for r in $[*] group by k = r.b ?? 0 return {k, n: count(r[*]), s: sum(r[*].a)}",
    "for r in $[*] group by k = r.a.b ?? 0, l = r.b ?? 1 return {k, l, m: max(r[*].list[*].b)}",
    "for r in $[*] where exists(r.a[?@ == r.b]) return r.other",
    "for r in $[*] return if exists(r.a) then r.a.b else r.list[0]",
];

const RULES: [&str; 71] = [
    "$..b",
    "for l in $..list where exists(l[0].b) return l",
    "$[*].a",
    "$[*].a.b",
    "$[*].list[0].b",
    "$[*].list[-1:].b",
    "$[*].*.b",
    "$[*]['a','b']",
    "$[*].list[?@.b > 1].a",
    "$[*].list[?@.b].*",
    "$[*].a..b",
    "$[?@.a.b == 1].list[*].b",
    "$[?@.a]",
    "$[?@.b != 'x' && @.a.b != 2]",
    "$[1:4:2]",
    "for r in $[*] return r",
    "for r in $[*] where r.a == 1 || r.b == 'x' return r",
    "for r in $[*] where exists(r.a) return {...r, b: r.list, c: 1}",
    "$[?count(@.list[*]) > 1].a",
    "$[?length(@.a) > 0].b",
    "for r in $[*] return r.a",
    "for r in $[*] return {r.a.b, x: r.list[*].b}",
    "for r in $[*] where exists(r.a.b) return r.b",
    "for r in $[*] where r.a == 1 || r.b == 'x' return 1",
    "for r in $[*] let s = r.a let t = s.b where present(t) return [t, s.a ?? 0]",
    "for r in $[*] for l in r.list return l.b",
    "for r in $[*] for l in r.list[*] for m in l return m",
    "for r in $[*] for l at i in r.list[*] return {i, l.a}",
    "for r in $[*] return for l in r.list[*] order by l.b return l.a",
    "for r in $[*] return sum(for l in r.list[*] where l.b > 0 return l.b)",
    "for r in $[*] return if exists(r.a) then r.a.b else r.list[0]",
    "for r in $[*] return case r.b when 'x' then r.a when r.list[0].b then 2 else 3 end",
    "for r in $[*] return f\"{r.b ?? '-'} {r.a.b ?? '-'}\"",
    "for r in $[*] let k = 'b' return r.a[(k)]",
    "def f(x) = x.b\nfor r in $[*] return f(r.a)",
    "for r in $[*] return {...r.a, n: (r.list[*].b)[0]}",
    "count($[*].list[*])",
    "sum($[?@.b != 'x'].a)",
    "{most: max(for r in $[*] where exists(r.a.b) return r.a.b)}",
    "for r in $[*] return let l = r.list return l[*].b",
    "for r in $[*] order by r.a ?? 0 return r.b",
    "for r in $[*] order by r.list[0].b first 2 return r.a",
    "for r in $[*] let x = r.a order by text(r.b ?? 'z') descending skip 1 return {x, r.list}",
    "for r in $[*] for l in r.list[*] group by k = l.b ?? 'none' return {k, n: count(r[*]), of: r[*].a, l}",
    "for r in $[*] group by k = exists(r.a) return {k, total: sum(r[*].list[*].b), b: r[0].b}",
    "for r in $[*] group by k = r.b ?? 0 order by k return k",
    "for r in $[*] group by k = r.b ?? 0 group by n = length(r) return {n, k, r: r[*][*].a}",
    "for r in $[*] carry n from 0 = n + 1 return [n, r.a]",
    "for r in $[*] carry last from null = r.b ?? last where exists(r.a) return {last, r.a}",
    "for r in $[*] window 2 return {a: r[*].a, b: r[-1].b}",
    "for r in $[*] window 2 step 3 order by count(r[*].a) return r[0].list",
    "for r at i in $[*] carry n from 0 = n + i group by k = n return {k, i, r: r[?@.a].b}",
    "for r in $[*] group by k = r.b ?? 0 return {k, n: count(r[*]), m: length(r), a: count(r[?@.a == 1].list[*])}",
    "for r in $[*] for l in r.list[*] group by k = l.b ?? 0 order by k return {k, s: sum(r[*].a), t: max(l[*].b)}",
    "for r in $[*] group by k = exists(r.a) return if k then avg(r[*].a) else 'none'",
    "for r in $[*] group by k = r.b ?? 0 let n = count(r[*]) where n > 1 order by n descending, k first 1 return [k, n]",
    "for r in $[*] group by k = r.b ?? 0 let m = length(r) group by n = m return {n, k, c: count(k[*])}",
    "for r at i in $[*] group by k = r.b ?? 0 return {k, last: max(i[*]), least: min(r[*].list[0].a)}",
    "for r in $[*] first 3 order by r.a ?? 0 descending first 1 return r",
    "for r in $[*] return r set .a = 1",
    "for r in $[*] return r set .a.b = [@, r.b], .other = r.list[0].b",
    "for r in $[*] return r set .b = null, .a = @ ?? 'new', .new = 1, .list = if present(@) then @",
    "for r in $[*] where exists(r.b) return r set .a = for x in @[*] return x, .b = r.a",
    "for r in $[*] return r remove .a, .other, .list",
    "for r in $[*] return r remove .a.b, .b",
    "for r in $[*] return r set .a = 1, .a = @ + 1",
    "for r in $[*] return r set .a = 1, .a.b = 2",
    "for r in $[*] return r set ..b = 7, .list[*].a = @.b",
    "for r in $[*] return {r.b, e: r set .a = r.other}",
    "for r in $[*].list[*] return r set .b = 1",
    "for r in $[*] group by k = r.b ?? 0 return {k, r: (r set [0].b = count(r[*].a))}",
];

/// How records are read.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum How {
    Whole,
    Needed,
    /// As far as they can be, into slots.
    Slots,
    /// The same, and maps are written as lines.
    Lines,
}

/// Rows as texts of JSON.
struct Texts<'n> {
    names: &'n [String],
    rows: Vec<String>,
    /// The members of the row under way.
    members: Vec<String>,
}

impl Texts<'_> {
    fn text(value: RowValue<'_, '_>) -> String {
        let mut written = value.token.to_vec();
        if written.is_empty() {
            json::write(*value.value, Style::Compact, &mut written);
        }
        String::from_utf8(written).unwrap()
    }
}

impl Rows for Texts<'_> {
    fn begin(&mut self, record: Option<&str>) {
        let inside = record.map(|record| record[1..record.len() - 1].to_owned());
        self.members = inside.into_iter().filter(|members| !members.is_empty()).collect();
    }

    fn member(&mut self, name: usize, value: RowValue<'_, '_>) {
        self.members.push(format!("{:?}:{}", self.names[name], Self::text(value)));
    }

    fn end(&mut self) {
        self.rows.push(format!("{{{}}}", std::mem::take(&mut self.members).join(",")));
    }

    fn whole(&mut self, value: RowValue<'_, '_>) {
        self.rows.push(Self::text(value));
    }

    fn record(&mut self, write: &mut dyn FnMut(&mut Vec<u8>)) {
        let mut written = Vec::new();
        write(&mut written);
        self.rows.push(String::from_utf8(written).unwrap());
    }

    /// Splits the record into its members, as none of the texts here has a comma that is no mark between them.
    fn edited(&mut self, record: &str, edits: &[RowEdit<'_>]) {
        let mut text = record.to_owned();
        let key = |name: &usize| format!("{:?}:", self.names[*name]);
        for RowEdit { at, new, name, .. } in edits.iter().rev().filter(|edit| edit.is_there) {
            match new {
                Some((value, token)) => {
                    text.replace_range(at.clone(), &Self::text(RowValue { value, token }));
                }
                None => {
                    text.replace_range(at.start - key(name).len()..at.end, "");
                    text = text.replace(",,", ",").replace("{,", "{").replace(",}", "}");
                }
            }
        }
        for RowEdit { new, name, .. } in edits.iter().filter(|edit| !edit.is_there) {
            let Some((value, token)) = new else { continue };
            let new = Self::text(RowValue { value, token });
            let comma = if text == "{}" { "" } else { "," };
            text.insert_str(text.len() - 1, &format!("{comma}{}{}", key(name), new));
        }
        self.rows.push(text);
    }

    fn take_back(&mut self) {
        self.members.clear();
    }

    fn pop(&mut self, take: &mut dyn FnMut(&str)) {
        self.rows.pop().into_iter().for_each(|row| take(&row));
    }
}

/// What a run over records gives: each result with its path, and the failure that ended it.
fn results(plan: &Plan, text: &str, how: How) -> (Vec<(String, Option<String>)>, Option<String>) {
    let (arena, mut templates) = (Arena::new(), ValueTemplates::default());
    let projection = plan.projection(RecordUnit::Items).unwrap();
    let mut reader = Reader::new(text, &arena, ReaderOptions::default());
    if how != How::Whole {
        reader = reader.with_templates(&mut templates, Some(&projection));
    }
    let arguments = Arguments::read(plan, &[], &arena).unwrap();
    let mut session = Session::new(plan);
    let (bound, mut state) = Runner::new(plan, &arguments, None, &arena, &mut session)
        .unwrap()
        .begin_records(RecordUnit::Items)
        .unwrap();
    let keep = Arena::new();
    let nowhere = || Err(std::io::ErrorKind::Unsupported.into());
    let spill = SpillSettings { memory: usize::MAX, file: Box::new(nowhere) };
    let mut store = TupleStore::new(plan, &keep, &spill);
    let row_names = plan.row_names(RecordUnit::Items).filter(|_| how == How::Lines);
    let names = row_names.as_ref().map(RowNames::names).unwrap_or_default();
    let mut rows = Texts { names, rows: Vec::new(), members: Vec::new() };
    let are_slots = how == How::Slots || how == How::Lines;
    let field_plan =
        plan.field_plan(RecordUnit::Items, row_names.as_ref()).ok().filter(|_| are_slots);
    let runner = Runner::for_batch(plan, RecordUnit::Items, bound.clone(), &arena, &mut session);
    let to_rows = row_names.as_ref().map(|names| (names, &mut rows as &mut dyn Rows));
    let mut runner = runner.with_field_plan(field_plan.as_ref()).with_rows(to_rows);
    let (mut results, mut index, mut known) = (Vec::new(), 0, SlotTemplates::default());
    loop {
        let read = match &field_plan {
            Some(field_plan) => {
                reader.next_slots(&field_plan.slots, &mut known, runner.slots()).unwrap()
            }
            None => reader.next_value().unwrap().map(Slotted::Value),
        };
        let Some(read) = read else { break };
        let record = if let Slotted::Value(record) = read { Some(record) } else { None };
        let ran = runner.slotted(&mut state, &mut store, index, read, &mut |value| {
            let mut written = Vec::new();
            json::write(value.unwrap(), Style::Compact, &mut written);
            let place = record.and_then(|record| locate(record, value.unwrap().origin()));
            results.push((String::from_utf8(written).unwrap(), place.map(|p| p.to_string())));
            Flow::Continue(())
        });
        index += 1;
        runner.write_records(|out| reader.write_line(&mut known, out));
        if let Err(failure) = ran {
            drop(runner);
            results.extend(rows.rows.into_iter().map(|row| (row, None)));
            let place = record.and_then(|record| locate(record, failure.origin()));
            let place = place.map(|place| place.readable());
            return (results, Some(format!("{} {place:?}", failure.message().to_owned())));
        }
    }
    let mut ended = None;
    runner.put_down(&state, &mut store).unwrap();
    results.extend(rows.rows.into_iter().map(|row| (row, None)));
    let packed = store.has_packed(plan).then(|| {
        let runner =
            Runner::for_batch(plan, RecordUnit::Items, bound.clone(), &arena, &mut session);
        runner.hand_on_packed(&mut state, &mut store, &mut |handed_on| {
            let mut written = Vec::new();
            match handed_on {
                HandedOn::Line(line) => written.extend_from_slice(line.as_bytes()),
                HandedOn::Value(value) => json::write(value, Style::Compact, &mut written),
            }
            ended.get_or_insert_with(String::new).push_str(&String::from_utf8(written).unwrap());
            Flow::Continue(())
        })
    });
    if let Some(Err(failure)) = packed {
        return (results, Some(failure.message().to_owned()));
    }
    let runner = Runner::for_batch(plan, RecordUnit::Items, bound, &arena, &mut session);
    let finished = runner.end_records(&mut state, &mut store, Some(index), &mut |value| {
        let mut written = Vec::new();
        json::write(value.unwrap_or(Value::NULL), Style::Compact, &mut written);
        ended.get_or_insert_with(String::new).push_str(&String::from_utf8(written).unwrap());
        Flow::Continue(())
    });
    (results, finished.err().map(|failure| failure.message().to_owned()).or(ended))
}

fn value() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("1".to_owned()),
        Just("2.5".to_owned()),
        Just("\"x\"".to_owned()),
        Just("null".to_owned()),
        Just("\"\\u00e9\"".to_owned()),
    ];
    leaf.prop_recursive(3, 12, 4, |inner| {
        let name = prop_oneof![Just("a"), Just("b"), Just("list"), Just("other")];
        let member = (name, inner.clone()).prop_map(|(name, value)| format!("\"{name}\":{value}"));
        prop_oneof![
            proptest::collection::vec(inner, 0..4)
                .prop_map(|items| format!("[{}]", items.join(","))),
            proptest::collection::vec(member, 0..5)
                .prop_map(|members| format!("{{{}}}", members.join(","))),
        ]
    })
}

proptest! {
    #[test]
    fn what_is_not_needed_is_not_missed(records in proptest::collection::vec(value(), 1..5)) {
        let text = records.join("\n");
        for rule in RULES {
            let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
            prop_assert_eq!(results(&plan, &text, How::Needed), results(&plan, &text, How::Whole), "{}", rule);
        }
    }
}

/// Results without their paths, and whether a failure ended them: of a failure that a run over slots meets, the message
/// comes from a run without.
fn values(plan: &Plan, text: &str, how: How) -> (Vec<String>, Option<String>) {
    let (results, ended) = results(plan, text, how);
    let ended = ended.map(|ended| {
        if ended.contains("None") || ended.contains("Some") { String::new() } else { ended }
    });
    (results.into_iter().map(|(value, _)| value).collect(), ended)
}

proptest! {
    #[test]
    fn slots_give_the_same(records in proptest::collection::vec(value(), 1..5)) {
        let text = records.join("\n");
        let mut in_slots = 0;
        for rule in RULES.into_iter().chain(IN_SLOTS) {
            let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
            in_slots += usize::from(plan.field_plan(RecordUnit::Items, None).is_ok());
            for how in [How::Slots, How::Lines] {
                prop_assert_eq!(values(&plan, &text, how), values(&plan, &text, How::Whole), "{} {}", rule, text);
            }
        }
        prop_assert!(in_slots > IN_SLOTS.len());
    }
}

#[test]
fn rules_whose_records_go_into_slots() {
    for (rule, are_in_slots) in IN_SLOTS.map(|rule| (rule, true)).into_iter().chain([
        ("for r in $[*] return r", false),
        ("for r in $[*] return {...r, x: 1}", false),
        ("for r in $[*] let s = r return s.a", false),
        ("for r in $[*] return r[0]", false),
        ("for r in $[*] return r[?@.a].b", false),
        ("for r in $[*] return r..a", false),
        ("$[*]", false),
        ("$[?@ == 1].a", false),
        ("for r in $[*] order by r.a return r.b", false),
        ("for r in $[*] group by k = r.a return r[*].b", false),
    ]) {
        let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
        assert_eq!(plan.field_plan(RecordUnit::Items, None).is_ok(), are_in_slots, "{rule}");
    }
}

/// Records that are given as they are go into slots where they are written as lines, and are copied as text.
#[test]
fn rules_whose_records_are_copied() {
    for (rule, are_copied) in [
        ("$[?@.a == 1]", true),
        ("for r in $[*] where r.a == 1 return r", true),
        ("for r in $[*] where r.a == 1 return {...r, x: r.b}", true),
        ("for r in $[*] where r.a == 1 return r set .b = 1", true),
        ("for r in $[*] where r.a == 1 return r remove ..b", false),
        ("$[?@.a == 1].b", false),
        ("for r in $[*].a where r.b == 1 return r", false),
        ("$[?@ == 1]", false),
        ("count($[?@.a == 1])", false),
        ("for r in $[*] where r.a == 1 return [r]", false),
    ] {
        let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
        let names = plan.row_names(RecordUnit::Items);
        let field_plan = plan.field_plan(RecordUnit::Items, names.as_ref()).ok();
        let copied = field_plan.is_some_and(|field_plan| field_plan.slots.may_have_text());
        assert_eq!(copied, are_copied, "{rule}");
    }
}

#[test]
fn rules_that_keep_the_whole_list_have_no_projection() {
    for rule in [
        "$",
        "count($[*]) + count($[*].a)",
        "sum(for r in $[*] order by r.a return r.b)",
        "$..[?@.a]",
        "$..*",
        "[$[*].a]",
        "true && count($[*]) > 1",
        "median($[*])",
    ] {
        assert_eq!(
            compile(RuleText::new("rule", rule), Syntax::Rule)
                .unwrap()
                .projection(RecordUnit::Items),
            None,
            "{rule}"
        );
    }
}

/// What a run over the whole list gives: its results, and the failure that ended it.
fn of_document(plan: &Plan, text: &str) -> (String, Option<String>) {
    let arena = Arena::new();
    let mut reader = Reader::new(text, &arena, ReaderOptions::default());
    let mut records = Vec::new();
    while let Some(record) = reader.next_value().unwrap() {
        records.push(record);
    }
    let arguments = Arguments::read(plan, &[], &arena).unwrap();
    let mut session = Session::new(plan);
    let root = Some(arena.list(&records));
    let mut written = Vec::new();
    let ran =
        Runner::new(plan, &arguments, root, &arena, &mut session).unwrap().document(&mut |value| {
            json::write(value.unwrap_or(Value::NULL), Style::Compact, &mut written);
            Flow::Continue(())
        });
    (String::from_utf8(written).unwrap(), ran.err().map(|failure| failure.message().to_owned()))
}

proptest! {
    #[test]
    fn record_by_record_as_all_at_once(records in proptest::collection::vec(value(), 0..12)) {
        let text = records.join("\n");
        for rule in RULES {
            let plan = compile(RuleText::new("rule", rule), Syntax::Rule).unwrap();
            let (streamed, last) = results(&plan, &text, How::Needed);
            let (whole, failure) = of_document(&plan, &text);
            let mut given: String = streamed.into_iter().map(|(value, _)| value).collect();
            match failure {
                Some(failure) => {
                    let said = last.as_deref().is_some_and(|last| last.starts_with(&failure));
                    prop_assert!(said, "{rule}: {last:?} for {failure}");
                }
                None => {
                    given.extend(last);
                    prop_assert_eq!(given, whole, "{}", rule);
                }
            }
        }
    }
}
