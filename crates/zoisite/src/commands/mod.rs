//! One file for each command: its arguments and what it does with them.

pub mod check;
pub mod demo;
pub mod history;
pub mod manual;
pub mod new;
pub mod pki;
pub mod raise;
pub mod render;
pub mod sequence;
pub mod status;

use std::process::ExitCode;

use crate::cli::{Cli, Command};
use crate::failure::{Failure, Kind};

/// Runs a command.
pub fn run(cli: Cli) -> Result<ExitCode, Failure> {
    let Cli { options, command } = cli;
    match command {
        Command::New(args) => new::run(&args),
        Command::Check(args) => check::run(&options, &args),
        Command::Pki(args) => pki::run(&options, &args),
        Command::Render(args) => render::run(&options, &args),
        Command::Sequence(args) => sequence::run(&options, &args),
        Command::Raise(args) => raise::run(&options, &args),
        Command::Status(args) => status::run(&options, &args),
        Command::History(args) => history::run(&options, &args),
        Command::Demo(args) => demo::run(&options, &args),
        Command::Manual(args) => manual::manual(&args),
        Command::Completions(args) => manual::completions(&args),
    }
}

/// Drives a future to its end.
pub fn block_on<T>(future: impl Future<Output = T>) -> Result<T, Failure> {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map(|runtime| runtime.block_on(future))
        .map_err(|error| {
            Failure::new(Kind::Run, format!("starting the runtime: {error}"), "try again")
        })
}
