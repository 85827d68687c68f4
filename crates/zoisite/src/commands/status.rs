mod joining;

use std::process::ExitCode;

use clap::{Args, Subcommand};
use zoisite_reach::Hosts;
use zoisite_store::State;

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Ahead, Sighting};
use crate::site::{Site, now};
use crate::standing::{Seen, Standing, ask_each, standing};
use crate::view::{self, Style};
use crate::watching::{Round, WatchArgs, watch};

/// Show the status of quorum, control plane, load balancers and nodes, and the drift of hosts
///
/// Exits with 3 when anything is not well, or differs.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite status\n  zoisite status --json\n  zoisite status --watch          # until all is well"
)]
#[command(args_conflicts_with_subcommands = true)]
pub struct StatusArgs {
    #[command(subcommand)]
    what: Option<StatusCommand>,
    #[command(flatten)]
    parts: super::PartArgs,
    /// Read and checksum every file on hosts, also unchanged ones
    #[arg(long)]
    deep: bool,
    #[command(flatten)]
    watching: WatchArgs,
}

#[derive(Debug, Subcommand)]
enum StatusCommand {
    Joining(joining::JoiningArgs),
}

pub fn run(options: &Options, args: &StatusArgs) -> Result<ExitCode, Failure> {
    if let Some(StatusCommand::Joining(args)) = &args.what {
        return joining::run(options, args);
    }
    let site = Site::load(options)?;
    site.raised_state()?;
    if args.watching.watch {
        return watch(&args.watching, options.json, async || {
            let mut stands = look(&site, options, args).await?;
            if options.json {
                view::json(&stands.standing);
            }
            Ok(round(&site, &mut stands))
        });
    }
    let mut stands = super::block_on(look(&site, options, args))??;
    if options.json {
        view::json(&stands.standing);
    } else {
        view::out(&view::standing::render(&site, &stands.standing, now(), Style::stdout()));
    }
    stands.status()
}

/// What one look came to.
struct Stands {
    standing: Standing,
    sighting: Sighting,
}

impl Stands {
    fn status(&mut self) -> Result<ExitCode, Failure> {
        // Another machine behind an address is worth more than a line in a table.
        self.sighting.met()?;
        if self.standing.well() {
            Ok(ExitCode::SUCCESS)
        } else {
            Err(Failure::reported(Kind::Findings))
        }
    }
}

async fn look(site: &Site, options: &Options, args: &StatusArgs) -> Result<Stands, Failure> {
    let how = (&args.parts.chosen()[..], args.deep);
    let further = async |reach: &Hosts,
                         prepared: &mut Prepared,
                         state: &mut State,
                         sighting: &mut Sighting| {
        prepared.turn_to_what_stands(site, state, &sighting.looks)?;
        Ok::<_, Failure>(ask_each(site, reach, prepared, &sighting.looks).await)
    };
    let (ahead, asked) = road::look_ahead(site, how, further).await?;
    let asked = asked?;
    let Ahead { sums, prepared, sighting } = ahead;
    if !options.json && !sums.are_known() {
        view::note(&format!(
            "there is no {}: whether the components on hosts are the right ones cannot be said",
            site.components_folder().join("SHA256SUMS").display()
        ));
    }
    let seen = Seen { looks: &sighting.looks, api: &sighting.api, asked: &asked };
    let standing = standing(site, (&prepared, &prepared.ledger), &seen, &sums);
    Ok(Stands { standing, sighting })
}

/// The same for somebody who watches.
fn round(site: &Site, stands: &mut Stands) -> Round {
    let standing = &stands.standing;
    let quorum = &standing.quorum;
    let ready = standing.services().filter(|service| service.state == "ready").count();
    let nodes = standing.nodes.iter().filter(|node| node.state == "Ready" && node.looked).count();
    Round {
        headline: format!(
            "{} of {} healthy · {ready} of {} ready · {nodes} of {} Ready",
            quorum.healthy,
            view::count(quorum.voters, "member"),
            view::count(standing.services().count(), "service"),
            view::count(standing.nodes.len(), "node"),
        ),
        ailing: standing.ailing(&|_| false),
        picture: view::standing::render(site, standing, now(), Style::stdout()),
        status: stands.status(),
    }
}
