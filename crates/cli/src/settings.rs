//! The command-line spelling of the settings that an advice names.

use kyanite_tree::{Advice, AdvicePart, Setting};

/// The option that sets it, with its value: `--from jsonl`.
pub fn option(setting: &Setting) -> String {
    match setting {
        Setting::Lenient => "--lenient".into(),
        Setting::Repairs => "--repairs".into(),
        Setting::From(None) => "--from".into(),
        Setting::From(Some(format)) => format!("--from {format}"),
        Setting::To(None) => "--to".into(),
        Setting::To(Some(format)) => format!("--to {format}"),
        Setting::Encoding => "--encoding NAME".into(),
        Setting::Delimiter(sign) => format!("--delimiter '{}'", sign.escape_default()),
        Setting::Depth => "--depth N".into(),
        Setting::Expansion => "--expansion SIZE".into(),
        Setting::Aliases => "--aliases N".into(),
        Setting::SizeLimit => "--size-limit SIZE".into(),
        Setting::Memory => "--memory SIZE".into(),
        Setting::TemporaryFolder => "TMPDIR".into(),
        Setting::Timeout => "--timeout SECONDS".into(),
        Setting::Header => "--header".into(),
        Setting::Unwrap => "--unwrap".into(),
        Setting::Gather => "--gather".into(),
        Setting::Flatten => "--flatten".into(),
        Setting::Columns => "--columns".into(),
        Setting::Paths => "--paths".into(),
        Setting::Losses => "--losses".into(),
        Setting::Strict => "--strict".into(),
        Setting::Param(name) => format!("--param {name}=…"),
        Setting::List(path) => format!("--list {path}"),
        Setting::AsMap(path) => format!("--as-map {path}"),
        Setting::Records(path) => format!("kyanite query '{path}' … --to jsonl"),
        Setting::Apart => "--apart FOLDER".into(),
        Setting::Root => "--root NAME".into(),
        Setting::Namespace(prefix, uri) => format!("--namespace {prefix}={uri}"),
        Setting::IgnoreNamespaces => "--ignore-namespaces".into(),
        Setting::Schema => "--schema SCHEMA".into(),
        Setting::Merge => "--merge".into(),
        Setting::Key(path, member) => format!("--key '{path}={member}'"),
        Setting::Exclude => "--exclude GLOB".into(),
        Setting::SchemaMap(uri) => format!("--schema-map {uri}=FILE"),
        Setting::Syntax(syntax) => format!("--syntax {syntax}"),
        other => other.to_string(),
    }
}

/// An advice as it is shown: its settings as options.
pub fn words<P>(advice: &Advice<P>) -> String {
    let parts = advice.parts().iter().map(|part| match part {
        AdvicePart::Words(words) => words.to_string(),
        AdvicePart::Setting(setting) => option(setting),
    });
    parts.collect()
}
