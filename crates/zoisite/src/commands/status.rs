use std::process::ExitCode;

use clap::Args;

use crate::cli::Options;
use crate::failure::{Failure, Kind};
use crate::road::{self, Ahead};
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
    let Ahead { state, sums, prepared, looks, .. } = road::look_ahead(&site, args.deep)?;
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
