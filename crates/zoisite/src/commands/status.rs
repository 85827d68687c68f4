use std::process::ExitCode;

use clap::Args;
use zoisite_reach::Hosts;

use crate::cli::Options;
use crate::failure::{Failure, Kind};
use crate::road::{self, Ahead, Prepared, Survey};
use crate::site::{Site, now};
use crate::standing::{Seen, ask_each, standing};
use crate::view::{self, Style};

/// Show what stands: quorum, control plane, balancers, nodes, and what differs on hosts
///
/// Ends with status 3 when anything is not well or differs.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  zoisite status\n  zoisite status --json")]
pub struct StatusArgs {
    #[command(flatten)]
    parts: super::PartArgs,
    /// Compute every checksum on the hosts anew
    #[arg(long)]
    deep: bool,
}

pub fn run(options: &Options, args: &StatusArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    site.raised_state()?;
    let how = (&args.parts.chosen()[..], args.deep);
    let further = async |reach: &Hosts, prepared: &Prepared, survey: &Survey| {
        ask_each(&site, reach, prepared, &survey.looks).await
    };
    let (Ahead { sums, prepared, mut survey }, asked) = road::look_ahead(&site, how, further)?;
    if !options.json && !sums.are_known() {
        view::note(&format!(
            "there is no {}: whether the components on hosts are the right ones cannot be said",
            site.components_folder().join("SHA256SUMS").display()
        ));
    }
    let seen = Seen { looks: &survey.looks, api: &survey.api, asked: &asked };
    let standing = standing(&site, (&prepared, &prepared.ledger), &seen, &sums);
    if options.json {
        view::json(&standing);
    } else {
        view::out(&view::standing::render(&site, &standing, now(), Style::stdout()));
    }
    // Another machine behind an address is worth more than a line in a table.
    survey.met()?;
    if standing.well() { Ok(ExitCode::SUCCESS) } else { Err(Failure::told(Kind::Findings)) }
}
