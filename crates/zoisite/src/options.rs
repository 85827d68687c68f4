use std::path::PathBuf;

use clap::Args;

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
    /// Tell what a command does, each event as a line of JSON on the standard error stream, for programs that watch
    #[arg(long, global = true)]
    pub events: bool,
}
