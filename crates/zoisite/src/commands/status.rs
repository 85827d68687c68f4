use std::process::ExitCode;

use clap::Args;
use zoisite_core::blueprint::Part;
use zoisite_core::script::Depth;
use zoisite_core::sequence::Sequence;
use zoisite_fleet::Fleet as _;

use crate::cli::Options;
use crate::failure::{Failure, Kind};
use crate::road::{self, prepare};
use crate::site::Site;
use crate::view::{self, Style};

/// Show the quorum, its members, certificates' ends and what differs on hosts
///
/// Ends with status 3 when a member is not well or something differs.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  zoisite status\n  zoisite status --json")]
pub struct StatusArgs {
    /// Compute every checksum on the hosts anew
    #[arg(long)]
    deep: bool,
}

pub fn run(options: &Options, args: &StatusArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    if site.existing_state()?.is_none() {
        return Err(Failure::new(
            Kind::Usage,
            format!("nothing has been raised from {} yet", site.file.display()),
            "zoisite sequence shows what would be done, zoisite raise does it",
        ));
    }
    let sums = site.sums()?;
    let mut state = site.scratch()?;
    let prepared = prepare(&site, &mut state, || site.scratch_vault(), Part::ALL)?;
    let nothing =
        site.contents(&Sequence::default(), &mut state, &zoisite_store::Vault::fleeting())?;
    let fleet = road::ssh_fleet(&site, &prepared.blueprint, nothing, 0)?;
    let depth = if args.deep { Depth::Deep } else { Depth::Quick };
    let looks = super::block_on(async {
        let looks = road::look(&fleet, &prepared.blueprint, depth).await;
        fleet.close().await;
        looks
    })?;
    let status = road::quorum_status(&site, &prepared, &looks, &sums);
    if options.json {
        view::json(&status);
    } else {
        view::out(&road::render_status(&status, Style::stdout()));
    }
    // Another machine behind an address is worth more than a line in a table.
    road::meet(&state, &looks, &[])?;
    let well = status.healthy == status.members_wanted
        && status.agree
        && status.members.iter().all(|member| member.differences.is_empty());
    if well { Ok(ExitCode::SUCCESS) } else { Err(Failure::told(Kind::Findings)) }
}
