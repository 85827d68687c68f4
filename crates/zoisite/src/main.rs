//! The program: arguments, wiring and views. One file for each command under `commands/`; what they
//! share stands in `site` (the cluster file and its store), `supplies` (the pinned components), `road` (looking, planning, running) and
//! `surveying` (what hosts are like).

use std::io::Write as _;
use std::process::ExitCode;

use clap::FromArgMatches as _;

mod asked;
mod cli;
mod commands;
mod contents;
mod failure;
mod forecast;
mod guesses;
mod handing;
mod interrupt;
mod kubeconfig;
mod options;
mod person;
mod phases;
mod prepared;
mod road;
mod site;
mod snapshots;
mod standing;
mod supplies;
mod surveying;
mod view;
mod watching;
mod well;

/// Keys in memory, and those that ssh's processes hold, are never written to a disk after a crash.
fn leave_no_core() {
    use rustix::process::{Resource, Rlimit, setrlimit};
    // Lowering one's own limit is allowed to everybody.
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
}

fn main() -> ExitCode {
    leave_no_core();
    // ssh starts this program to be told a password.
    if let Some(socket) = std::env::var_os(zoisite_reach::ANSWERS) {
        let prompt = std::env::args().nth(1).unwrap_or_default();
        return match zoisite_reach::answer(socket.as_ref(), &prompt) {
            // As it is, whatever characters are in it.
            Ok(password) => match writeln!(std::io::stdout(), "{password}") {
                Ok(()) => ExitCode::SUCCESS,
                Err(_) => ExitCode::FAILURE,
            },
            Err(_) => ExitCode::FAILURE,
        };
    }
    let cli =
        cli::program().try_get_matches().and_then(|matches| cli::Cli::from_arg_matches(&matches));
    let ended = match cli {
        Ok(cli) => cli::run(cli),
        Err(error) => match guesses::answer(&error) {
            Some(failure) => Err(failure),
            None => error.exit(),
        },
    };
    match ended {
        Ok(code) => code,
        Err(failure) => {
            failure.print();
            failure.exit_code()
        }
    }
}
