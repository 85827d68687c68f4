mod apply;
mod reporting_in;
mod unnamed;
mod write;

use std::process::ExitCode;

use clap::{Args, Subcommand};

use crate::failure::Failure;
use crate::options::Options;

/// What machines are told before anybody can log in: name, addresses, who may log in, and their own SSH key
///
/// For machines that read cloud-init's data at their first boot. What is said follows from the cluster file, with
/// [first-boot] for what is said nowhere else. Each machine's SSH key is made here, kept in the strongbox and added to
/// your known hosts, so that its first contact is already with somebody known.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite first-boot write --out seeds                         # a folder per host\n  zoisite first-boot write --out seeds --as image              # a disk image per host, to be attached\n  zoisite first-boot write heron --out seeds --format properties   # for a hypervisor's keys and values\n  zoisite first-boot changes\n  zoisite first-boot apply 'tern-*'"
)]
pub struct FirstBootArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Write it for every host, or those named, in the form that a carrier takes
    Write(write::WriteArgs),
    /// Ask hosts which data they have, and show what would change
    Changes(apply::ChangesArgs),
    /// Bring changed data to hosts, one after another: while they run where that is possible, else by a restart
    Apply(apply::ApplyArgs),
    /// Show machines that have no name yet: which have reported in, and what they are like
    ///
    /// The cluster file lists them by the MAC address of a network card, under first-boot.unnamed; first-boot write --unnamed
    /// writes their data. A machine that has booted with it reports in. Add it under [hosts] with its mac and a name of your
    /// own, then give it that name.
    #[command(
        after_help = "Examples:\n  zoisite first-boot write --unnamed --format image --out seeds\n  zoisite reports fetch            # or: reports read FILE\n  zoisite first-boot unnamed\n  zoisite first-boot name tern-4    # the name that the cluster file has for it now\n  zoisite first-boot apply tern-4"
    )]
    Unnamed,
    Name(unnamed::NameArgs),
    Forget(unnamed::ForgetArgs),
}

pub fn run(options: &Options, args: &FirstBootArgs) -> Result<ExitCode, Failure> {
    match &args.what {
        What::Write(args) => write::write(options, args),
        What::Changes(args) => apply::changes(options, args),
        What::Apply(args) => apply::apply(options, args),
        What::Unnamed => unnamed::show(options),
        What::Name(args) => unnamed::name(options, args),
        What::Forget(args) => unnamed::forget(options, args),
    }
}
