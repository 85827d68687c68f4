mod apply;
mod reporting_in;
mod unnamed;
mod write;

use std::process::ExitCode;

use clap::{Args, Subcommand};

use crate::failure::Failure;
use crate::options::Options;

/// Write data for a machine's first boot: name, addresses, users, SSH key (cloud-init)
///
/// For machines that read cloud-init data at their first boot. Contents follow from the cluster file and its
/// table [first-boot]. The machine's SSH host key is made here, kept in the strongbox and added to your known
/// hosts, so the first login is to a known host.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite first-boot write --out seeds                         # a folder per host\n  zoisite first-boot write --out seeds --as image              # a disk image per host, to be attached\n  zoisite first-boot write heron --out seeds --format properties   # for a hypervisor's keys and values\n  zoisite first-boot changes\n  zoisite first-boot apply 'tern-*'"
)]
pub struct FirstBootArgs {
    #[command(subcommand)]
    what: FirstBootCommand,
}

#[derive(Debug, Subcommand)]
enum FirstBootCommand {
    /// Write the data for every host, or for those named
    Write(write::WriteArgs),
    /// Ask hosts which data they have, and show what would change
    Changes(apply::ChangesArgs),
    /// Bring changed data to hosts, one at a time, without a restart where possible
    Apply(apply::ApplyArgs),
    /// Show machines that have no name yet: which have reported, and what they are like
    ///
    /// The cluster file lists them by the MAC address of a network card, under first-boot.unnamed; first-boot write
    /// --unnamed writes their data. A machine that has booted with it reports. Add it under [hosts] with its mac and
    /// a name of your own, then give it that name.
    #[command(
        after_help = "Examples:\n  zoisite first-boot write --unnamed --format image --out seeds\n  zoisite reports fetch            # or: reports read FILE\n  zoisite first-boot unnamed\n  zoisite first-boot name tern-4    # the name that the cluster file has for it now\n  zoisite first-boot apply tern-4"
    )]
    Unnamed,
    Name(unnamed::NameArgs),
    Forget(unnamed::ForgetArgs),
}

pub fn run(options: &Options, args: &FirstBootArgs) -> Result<ExitCode, Failure> {
    match &args.what {
        FirstBootCommand::Write(args) => write::write(options, args),
        FirstBootCommand::Changes(args) => apply::changes(options, args),
        FirstBootCommand::Apply(args) => apply::apply(options, args),
        FirstBootCommand::Unnamed => unnamed::show(options),
        FirstBootCommand::Name(args) => unnamed::name(options, args),
        FirstBootCommand::Forget(args) => unnamed::forget(options, args),
    }
}
