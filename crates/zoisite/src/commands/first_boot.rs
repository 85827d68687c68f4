use std::process::ExitCode;

use clap::{Args, Subcommand};

use super::seeding::{self, WriteArgs};
use super::telling::{self, ApplyArgs, ChangesArgs};
use crate::failure::Failure;
use crate::options::Options;

/// What machines are told before anybody can log in: name, addresses, who may log in, and their own SSH key
///
/// For machines that read cloud-init's data at their first boot. What is said follows from the cluster file, with
/// [first-boot] for what is said nowhere else. Each machine's SSH key is made here, kept in the strongbox and added to
/// your known hosts, so that its first contact is already with somebody known.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite first-boot write --out seeds                         # a folder per host\n  zoisite first-boot write --out seeds --as image              # a disk image per host, to be attached\n  zoisite first-boot write heron --out seeds --as properties   # for a hypervisor's keys and values\n  zoisite first-boot changes\n  zoisite first-boot apply 'tern-*'"
)]
pub struct FirstBootArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Write it for every host, or those named, in the form that a carrier takes
    Write(WriteArgs),
    /// Ask hosts what they heard, and show what they would be told now
    Changes(ChangesArgs),
    /// Tell hosts what has changed, one after another: as they run where that can be, else by starting anew
    Apply(ApplyArgs),
}

pub fn run(options: &Options, args: &FirstBootArgs) -> Result<ExitCode, Failure> {
    match &args.what {
        What::Write(args) => seeding::write(options, args),
        What::Changes(args) => telling::changes(options, args),
        What::Apply(args) => telling::apply(options, args),
    }
}
