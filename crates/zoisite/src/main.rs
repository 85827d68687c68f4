//! The program: arguments, wiring and views. One file for each command under `commands/`; what they
//! share stands in `site` (the cluster file and its store), `supplies` (the pinned components), `road` (looking, planning, running) and
//! `surveying` (what hosts are like).

use std::io::Write as _;
use std::process::ExitCode;

use clap::Parser as _;

mod cli;
mod commands;
mod contents;
mod failure;
mod forecast;
mod interrupt;
mod kubeconfig;
mod options;
mod phases;
mod road;
mod site;
mod snapshots;
mod standing;
mod supplies;
mod surveying;
mod view;
mod watching;

fn main() -> ExitCode {
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
    let cli = cli::Cli::parse();
    match cli::run(cli) {
        Ok(code) => code,
        Err(failure) => {
            failure.print();
            failure.exit_code()
        }
    }
}
