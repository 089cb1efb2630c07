//! `kyanite patch`: a JSON Patch or JSON Merge Patch, applied.

use std::io::IsTerminal;
use std::path::PathBuf;
use std::sync::Arc;

use kyanite_flow::{
    Destination, Events, Input, Layout, Output, Patched, Patching, RunError, Sink, format_of,
    patch, patch_in_place,
};
use kyanite_formats::{Format, json, xml};
use kyanite_tree::Diagnostic;

use crate::arguments::{MessageOptions, Patch};
use crate::messages::Messages;
use crate::progress::Progress;
use crate::run::{destination_of, format_of as format_by_name, put_in_place};
use crate::stats::Stats;
use crate::status::Status;
use crate::written::keep_apart;

/// Runs the command.
pub fn run(command: &Patch, options: &MessageOptions, messages: &mut Messages) -> Status {
    match patched(command, options, messages) {
        Ok(()) => Status::Done,
        Err(failed) => messages.end_with(&failed),
    }
}

fn patched(
    command: &Patch,
    message_options: &MessageOptions,
    messages: &mut Messages,
) -> Result<(), RunError> {
    let (input, patch_input) = command.inputs()?;
    let options = command.reading.options();
    let format = format_of(&input, &options)?;
    let destination = match (&input, command.in_place) {
        (Input::File(path), true) => Destination::File(path.clone()),
        (_, true) => {
            let advice = "name a file, or leave --in-place out";
            return Err(RunError::command("only a file can be changed in place", advice));
        }
        _ => destination_of(command.output.as_deref(), None),
    };
    let replaced = match &destination {
        Destination::File(path) => Some(path.as_path()),
        Destination::Stream(_) => None,
    };
    if let Some(back) = command.reverse.as_deref() {
        keep_apart(replaced.into_iter().chain([back]), [])?;
        keep_apart([back], command.input.as_deref().into_iter().chain([&*command.patch]))?;
    }
    let layout = command.layout(format);
    let what = Patching {
        patch: &patch_input,
        input: &input,
        options: &options,
        merges: command.merge,
        reverses: command.reverse.is_some(),
        gives_xml: layout.format == Format::Xml,
    };
    // Written first: once the document is another one, only this leads back.
    let write_back = |back: Option<Vec<u8>>| match (&command.reverse, back) {
        (Some(file), Some(back)) => destination_of(Some(file), None).write(&back),
        _ => Ok(()),
    };
    let on_terminal =
        matches!(destination, Destination::Stream(_)) && std::io::stdout().is_terminal();
    let progress = Progress::start(message_options.progress, on_terminal, input.size());
    let counters = Arc::clone(&progress.counters);
    let stats = Stats::start(command.stats, 1);
    let is_edited = matches!(format, Format::Json | Format::Yaml | Format::Toml | Format::Xml);
    if command.dry_run && !is_edited {
        let advice = "leave --dry-run out, or write the result to another file";
        let message = "what would change is shown in JSON, YAML, TOML and XML";
        return Err(RunError::command(message, advice));
    }
    if command.in_place && is_edited {
        let mut tell = |found: Diagnostic| {
            progress.make_room();
            messages.show(&found);
        };
        let mut events = Events { tell: &mut tell, counters: &counters };
        let (file, back) = patch_in_place(what, &mut events)?;
        write_back(back)?;
        drop(progress);
        let written = put_in_place(&[file], command.dry_run, messages);
        stats.finish(&counters, None, messages);
        return written;
    }
    let mut told = Vec::new();
    let mut tell = |found: Diagnostic| told.push(found);
    let mut events = Events { tell: &mut tell, counters: &counters };
    let (mut destination, mut remarks) = (Some(destination), Vec::new());
    let mut write = |made: Patched<'_>| {
        let value = made.document;
        write_back(made.back)?;
        let Some(destination) = destination.take() else { return Ok(()) };
        let mut output = Output::open(destination, layout.clone())?;
        output.add_losses(made.losses);
        if output.format().has_records() && value.as_list().is_some() {
            for item in value.as_list().unwrap_or_default() {
                let _ = output.item(*item);
            }
            output.end_items();
        } else {
            let _ = output.single(Some(value));
        }
        remarks = output.finish()?;
        Ok(())
    };
    let patched = patch(what, &mut events, &mut write);
    drop(progress);
    messages.show_all(&told);
    for remark in &remarks {
        // What it advises are options of other commands.
        messages.show(&Diagnostic::warning(remark.code(), remark.message()));
    }
    patched?;
    stats.finish(&counters, None, messages);
    Ok(())
}

impl Patch {
    /// The document, and the patch.
    fn inputs(&self) -> Result<(Input, Input), RunError> {
        let input = self.input.as_deref().map_or(Input::Standard, Input::of_word);
        let patch = Input::of_word(&self.patch);
        if input == Input::Standard && self.input.is_none() && std::io::stdin().is_terminal() {
            let advice = "name the document, or pipe it in";
            return Err(RunError::command("there is no input", advice));
        }
        if input == patch && input == Input::Standard {
            let message = "the patch and the document cannot both come from standard input";
            return Err(RunError::command(message, "name a file for one"));
        }
        Ok((input, patch))
    }

    /// How the result is laid out.
    fn layout(&self, input: Format) -> Layout {
        let by_extension = |path: &PathBuf| format_by_name(path);
        let format = self.to.or_else(|| self.output.as_ref().and_then(by_extension));
        let indent = usize::from(self.indent);
        Layout {
            style: json::Style::Indented(indent),
            indent,
            xml: xml::Layout { indent: Some(indent), ..xml::Layout::default() },
            ..Layout::of(format.unwrap_or(input))
        }
    }
}
