use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Command};

use crate::failure::Failure;
use crate::view;

/// Write the manual pages of every command into a folder
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  zoisite manual --out ~/.local/share/man/man1")]
pub struct ManualArgs {
    /// Folder to write to
    #[arg(long, short, value_name = "DIR")]
    out: PathBuf,
}

/// Write shell completions to standard output
#[derive(Args, Debug)]
#[command(
    after_help = "Example:\n  zoisite completions bash > ~/.local/share/bash-completion/completions/zoisite"
)]
pub struct CompletionsArgs {
    /// The shell
    shell: clap_complete::Shell,
}

pub fn manual(args: &ManualArgs, program: Command) -> Result<ExitCode, Failure> {
    let failed =
        |error: std::io::Error| Failure::file("writing manual pages to", &args.out, &error);
    std::fs::create_dir_all(&args.out).map_err(failed)?;
    clap_mangen::generate_to(program, &args.out).map_err(failed)?;
    view::out(&format!("Wrote the manual pages to {}.", args.out.display()));
    Ok(ExitCode::SUCCESS)
}

pub fn completions(args: &CompletionsArgs, mut program: Command) -> Result<ExitCode, Failure> {
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut program, "zoisite", &mut text);
    view::verbatim(&String::from_utf8_lossy(&text));
    Ok(ExitCode::SUCCESS)
}
