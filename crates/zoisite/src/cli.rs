use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

use crate::commands::{
    access, check, demo, drawing, files, history, lan, login, manual, new, open, paths, pki, raise,
    sequence, status, survey, tokens, verify,
};

/// From one cluster file to a highly available Kubernetes cluster on machines you own
///
/// Zoisite makes the authorities, certificates and configuration that a highly available cluster
/// needs, works out what differs on each host, and brings that over SSH in a safe order.
#[derive(Debug, Parser)]
#[command(
    name = "zoisite",
    version,
    arg_required_else_help = true,
    after_help = "Example: a cluster from nothing\n  zoisite new saltmarsh 10.77.0.11-13 --out zoisite.toml\n  zoisite check\n  zoisite raise\n  zoisite verify\n\n\
                  Exit status: 0 done, 1 a run failed, 2 wrong usage or invalid file, 3 findings, 4 refused by a safety rule."
)]
pub struct Cli {
    #[command(flatten)]
    pub options: Options,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of every command.
#[derive(Args, Clone, Debug)]
pub struct Options {
    /// Cluster file
    #[arg(
        long,
        global = true,
        value_name = "FILE",
        default_value = "zoisite.toml",
        env = "ZOISITE_CLUSTER"
    )]
    pub cluster: PathBuf,
    /// Identity that opens the strongbox; made on first use [default: zoisite/identity.txt in your configuration folder]
    #[arg(long, global = true, value_name = "FILE", env = "ZOISITE_IDENTITY")]
    pub identity: Option<PathBuf>,
    /// SSH client configuration to use instead of your own
    #[arg(long, global = true, value_name = "FILE", env = "ZOISITE_SSH_CONFIG")]
    pub ssh_config: Option<PathBuf>,
    /// Ask once for the password with which sudo makes you root on hosts; it goes there by standard input
    #[arg(long, global = true)]
    pub ask_sudo: bool,
    /// Answer in JSON, for programs
    #[arg(long, global = true)]
    pub json: bool,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    New(new::NewArgs),
    Check(check::CheckArgs),
    Drawing(drawing::DrawingArgs),
    Survey(survey::SurveyArgs),
    Paths(paths::PathsArgs),
    Lan(lan::LanArgs),
    Login(login::LoginArgs),
    Open(open::OpenArgs),
    Pki(pki::PkiArgs),
    Files(files::FilesArgs),
    Sequence(sequence::SequenceArgs),
    Raise(raise::RaiseArgs),
    Status(status::StatusArgs),
    Verify(verify::VerifyArgs),
    Tokens(tokens::TokensArgs),
    Access(access::AccessArgs),
    History(history::HistoryArgs),
    Demo(demo::DemoArgs),
    Manual(manual::ManualArgs),
    Completions(manual::CompletionsArgs),
}
