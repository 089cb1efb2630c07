//! Completions and the manual page, made from the same definitions as `--help`.

use std::io::{self, Write};

use clap::CommandFactory;

use crate::arguments::Arguments;
use crate::status::Status;

/// Prints the completions of a shell.
pub fn completions(shell: clap_complete::Shell) -> Status {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "kyanite", &mut script);
    print(&script)
}

/// Prints the manual page: the program, then each command.
pub fn manual() -> Status {
    let mut page = Vec::new();
    let mut command = Arguments::command();
    command.build();
    let mut rendered = clap_mangen::Man::new(command.clone()).render(&mut page);
    for subcommand in command.get_subcommands().filter(|command| command.get_name() != "help") {
        let name = format!("kyanite {}", subcommand.get_name());
        let subcommand = subcommand.clone().display_name(name);
        rendered = rendered.and_then(|()| clap_mangen::Man::new(subcommand).render(&mut page));
    }
    match rendered {
        Ok(()) => print(&page),
        Err(_) => Status::Output,
    }
}

fn print(bytes: &[u8]) -> Status {
    match io::stdout().lock().write_all(bytes) {
        Ok(()) => Status::Done,
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Status::Done,
        Err(_) => Status::Output,
    }
}
