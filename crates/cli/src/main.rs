//! The program `kyanite`: arguments in, words and exit statuses out. All computation is in the core crates.

mod arguments;
mod browse;
mod cases;
mod counted;
mod demo;
mod diff;
mod interrupt;
mod manual;
mod messages;
mod patch;
mod progress;
mod report;
mod rule_files;
mod rule_text;
mod run;
mod schemas;
mod settings;
mod split;
mod stats;
mod status;
mod survey;
mod trace;
mod usage;
mod validate;
mod watch;
mod written;

use std::process::ExitCode;

use arguments::{Arguments, Command, Rules};
use clap::Parser;
use kyanite_tree::{Code, Diagnostic, Setting};
use messages::Messages;
use status::Status;

fn main() -> ExitCode {
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => {
            let Some(problem) = usage::problem(&error) else {
                // Help and version come this way, too; when standard output is gone, nobody wants them.
                let _ = error.print();
                return Status::Done.into();
            };
            Messages::plain().show(&problem);
            return Status::Command.into();
        }
    };
    let stack = kyanite_flow::stack_size(arguments.command.depth());
    let worker = std::thread::Builder::new().stack_size(stack).spawn(move || run(arguments));
    let status = match worker.map(std::thread::JoinHandle::join) {
        Ok(Ok(status)) => status,
        // The panic has been reported by its own message.
        Ok(Err(_)) => Status::Rule,
        Err(error) => {
            let message = format!("there is no room for a stack of {stack} bytes: {error}");
            let advice = ("if the limit of memory is meant, lower ", Setting::Depth);
            Messages::plain().show(&Diagnostic::error(Code::Limit, message).advise(advice));
            Status::Input
        }
    };
    status.into()
}

fn run(arguments: Arguments) -> Status {
    let mut messages = Messages::new(&arguments.messages);
    match arguments.command {
        Command::Browse(browse) => browse::run(&browse, &arguments.messages, &mut messages),
        Command::Survey(survey) => survey::run(&survey, &arguments.messages, &mut messages),
        Command::Query(query) => run::query(&query, &arguments.messages, &mut messages),
        Command::Reshape(reshape) if reshape.watch => {
            watch::watch(&reshape, &arguments.messages, &mut messages)
        }
        Command::Reshape(reshape) => {
            run::reshape(&reshape, &arguments.messages, &mut messages, None)
        }
        Command::Convert(convert) => run::convert(&convert, &arguments.messages, &mut messages),
        Command::Combine(combine) => run::combine(&combine, &arguments.messages, &mut messages),
        Command::Rules(Rules::Check(check)) => {
            rule_files::check(&check, &arguments.messages, &mut messages)
        }
        Command::Rules(Rules::Format { rules, only_tell }) => {
            rule_files::format(&rules, only_tell, &mut messages)
        }
        Command::Rules(Rules::Draft { input, wanted, schemas, output }) => {
            let when = arguments.messages.progress;
            rule_files::draft((&input, &wanted), schemas, output.as_deref(), when, &mut messages)
        }
        Command::Rules(Rules::Test { rule, cases }) => cases::test(&rule, &cases, &mut messages),
        Command::Diff(diff) => diff::run(&diff, &arguments.messages, &mut messages),
        Command::Patch(patch) => patch::run(&patch, &arguments.messages, &mut messages),
        Command::Split(split) => split::run(&split, &arguments.messages, &mut messages),
        Command::Validate(validate) => validate::run(&validate, &arguments.messages, &mut messages),
        Command::Schema(command) => {
            schemas::run(&command, arguments.messages.progress, &mut messages)
        }
        Command::Demo(demo) => demo::demo(&demo, &mut messages),
        Command::Completions { shell } => manual::completions(shell),
        Command::Manual => manual::manual(),
    }
}
