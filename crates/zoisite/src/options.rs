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
    /// Identity (private key) that opens the strongbox; made on first use [default: zoisite/identity.txt in your configuration folder]
    #[arg(long, global = true, value_name = "FILE", env = "ZOISITE_IDENTITY")]
    pub identity: Option<PathBuf>,
    /// SSH client configuration to use instead of your own
    #[arg(long, global = true, value_name = "FILE", env = "ZOISITE_SSH_CONFIG")]
    pub ssh_config: Option<PathBuf>,
    /// Ask for the sudo password, once for all hosts
    #[arg(long, global = true)]
    pub ask_sudo: bool,
    /// Print JSON, for programs
    #[arg(long, global = true)]
    pub json: bool,
    /// Print each event as a line of JSON to standard error, for programs
    #[arg(long, global = true)]
    pub events: bool,
}
