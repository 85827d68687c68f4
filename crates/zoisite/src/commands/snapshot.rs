mod fetch;
mod restore;

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::snapshot::{Snapshot, Tried, too_old};
use zoisite_reach::{Hosts, Reach as _, check_stream};
use zoisite_store::{SnapshotFolder, State};

use super::block_on;
use super::trial::{at_odds, chosen, programs, try_it, try_on};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Private, Site, begin_run, end_run, now};
use crate::snapshots::told;
use crate::view::{self, Style, count, table::ranked};
use restore::RestoreArgs;

/// Back up and restore etcd: take, check, try and restore snapshots
///
/// A snapshot is read from a healthy member, verified, encrypted for everyone who may open the strongbox, and
/// kept in .zoisite/snapshots and in the folder under [snapshots] copies. Only a snapshot that was tried is known
/// to be good: a member is started from it here, and its keys are compared with those that the source reported.
#[derive(Args, Debug)]
#[command(
    args_conflicts_with_subcommands = true,
    after_help = "Examples:\n  zoisite snapshot take --try\n  zoisite snapshot\n  zoisite snapshot fetch --try             # what members saved by themselves\n  zoisite snapshot check --all\n  zoisite snapshot try 2026-11-27-030000\n  zoisite snapshot try --on tern-1         # where this machine has no program or no room for it\n  zoisite snapshot prune"
)]
pub struct SnapshotArgs {
    #[command(subcommand)]
    what: Option<SnapshotCommand>,
    /// Use the snapshots of this folder, such as that of the copies
    #[arg(long, value_name = "FOLDER")]
    from: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
enum SnapshotCommand {
    /// Take a snapshot now, and prune old ones
    Take {
        /// Try it at once
        #[arg(long = "try")]
        trial: bool,
    },
    /// Fetch the newest snapshot that a member saved by itself ([snapshots] on-members), where it is newer
    Fetch {
        /// All that are not here
        #[arg(long)]
        all: bool,
        /// Try it at once
        #[arg(long = "try")]
        trial: bool,
    },
    /// Open a snapshot and verify its checksums [default: the newest]
    Check {
        /// Its name
        #[arg(value_name = "NAME", conflicts_with = "all")]
        name: Option<String>,
        /// All of them
        #[arg(long)]
        all: bool,
        /// Use the snapshots of this folder, such as that of the copies
        #[arg(long, value_name = "FOLDER")]
        from: Option<PathBuf>,
    },
    /// Start a member from a snapshot, and count its keys [default: the newest]
    Try {
        /// Its name
        #[arg(value_name = "NAME")]
        name: Option<String>,
        /// On this host instead of here; it keeps nothing
        #[arg(long, value_name = "HOST")]
        on: Option<String>,
        /// Use the snapshots of this folder, such as that of the copies
        #[arg(long, value_name = "FOLDER")]
        from: Option<PathBuf>,
    },
    /// Decrypt a snapshot for etcd's own tools, readable by you only [default: the newest]
    Export {
        /// Its name
        #[arg(value_name = "NAME")]
        name: Option<String>,
        /// File to write
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// Use the snapshots of this folder, such as that of the copies
        #[arg(long, value_name = "FOLDER")]
        from: Option<PathBuf>,
    },
    /// Restore a snapshot into the whole quorum; what was written after it is lost
    ///
    /// Shows what is lost first, and saves what is still there. The snapshot is brought to the hosts and verified
    /// before anything stops. Then API servers stop, the data of every member is moved aside (not deleted), and all
    /// members start together from the snapshot. A raise starts everything else. Interrupted, zoisite raise resumes.
    Restore(RestoreArgs),
    /// Delete the snapshots that [snapshots] does not keep, here and among the copies
    Prune,
}

pub fn run(options: &Options, args: &SnapshotArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let folder = |from: &Option<PathBuf>| match from {
        Some(path) => SnapshotFolder::at(path),
        None => site.snapshots(),
    };
    match &args.what {
        None => list(&site, options, &folder(&args.from)),
        Some(SnapshotCommand::Take { trial }) => take(&site, options, *trial),
        Some(SnapshotCommand::Fetch { all, trial }) => fetch::run(&site, options, *all, *trial),
        Some(SnapshotCommand::Check { name, all, from }) => {
            let folder = folder(from);
            let chosen = match all {
                true => folder.list()?,
                false => vec![chosen(&folder, name.as_deref())?],
            };
            // Where the state is lost there is nothing to hold it against but itself.
            let state = site.existing_state()?;
            check(&site, options, state.as_ref(), &folder, &chosen)
        }
        Some(SnapshotCommand::Try { name, on, from }) => {
            let folder = folder(from);
            site.raised_state()?;
            let on = on.as_ref().map(|host| site.host_named(host)).transpose()?;
            let mut work = site.working()?;
            let snapshot = chosen(&folder, name.as_deref())?;
            let Some(host) = on else {
                let (_, tried) = try_it(&site, options, (&folder, &programs(&site)?), snapshot)?;
                return tell_trial(options, &tried);
            };
            let run = begin_run(&mut work.state, "snapshot try")?;
            let tried = try_on(&site, (&host, run.generation), &folder, snapshot);
            let outcome = match &tried {
                Ok((one, Tried { fault: None, .. })) => format!("{} is good", one.name),
                Ok((one, _)) => format!("{} is not good", one.name),
                Err(failure) => format!("failed: {}", failure.summary()),
            };
            end_run(&mut work.state, run, &outcome)?;
            tell_trial(options, &tried?.1)
        }
        Some(SnapshotCommand::Export { name, out, from }) => {
            let folder = folder(from);
            let snapshot = chosen(&folder, name.as_deref())?;
            open(&site, &folder, &snapshot, out)
        }
        Some(SnapshotCommand::Restore(args)) => restore::run(&site, options, args),
        Some(SnapshotCommand::Prune) => {
            site.raised_state()?;
            let _work = site.working()?;
            tell_gone(options, &site.tend_snapshots()?);
            Ok(ExitCode::SUCCESS)
        }
    }
}

fn take(site: &Site, options: &Options, trial: bool) -> Result<ExitCode, Failure> {
    site.raised_state()?;
    // What a trial needs is sure before anything is taken.
    let programs = trial.then(|| programs(site)).transpose()?;
    let mut work = site.working()?;
    let run = begin_run(&mut work.state, "snapshot take")?;
    let generation = run.generation;
    let saved = block_on(save(site, &mut work.state, generation))?;
    let outcome = match &saved {
        Ok(()) => "a snapshot was taken".to_owned(),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(&mut work.state, run, &outcome)?;
    saved?;
    let folder = site.snapshots();
    let mut snapshot = chosen(&folder, None)?;
    let tried = match programs {
        Some(programs) => {
            let (known, tried) = try_it(site, options, (&folder, &programs), snapshot)?;
            snapshot = known;
            Some(tried)
        }
        None => None,
    };
    // Whatever becomes of the copies, it is taken: that is reported first.
    let tended = site.tend_snapshots();
    let gone = tended.as_deref().unwrap_or_default();
    if options.json {
        view::json(&json!({"snapshot": snapshot, "gone": gone}));
    } else {
        let style = Style::stdout();
        view::out(&format!(
            "{} {} was taken from {}: revision {}, {}, sealed in {}",
            style.good("✓"),
            snapshot.name,
            snapshot.taken.from,
            snapshot.taken.revision,
            view::fetching::size(snapshot.taken.octets),
            folder.sealed(&snapshot.name).display()
        ));
        if let (Some(copies), Ok(_)) = (site.snapshot_copies(), &tended) {
            view::note(&format!("copied to {}", copies.sealed(&snapshot.name).display()));
        }
        tell_gone(options, gone);
    }
    tended?;
    match tried {
        Some(tried) if options.json => status_of(&tried),
        Some(tried) => tell_trial(options, &tried),
        None => {
            view::note("only one that was tried is known to be good: zoisite snapshot try");
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// Saves from the members that the hosts say are well.
async fn save(site: &Site, state: &mut State, generation: u64) -> Result<(), Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      scratch: &mut State,
                      sighting: &mut Sighting| {
        sighting.met()?;
        prepared.turn_to_what_stands(site, scratch, &sighting.looks)?;
        let well = prepared.real.well();
        let through: Vec<HostName> =
            well.filter_map(|member| site.known_host(&member.name)).collect();
        if through.is_empty() {
            return Err(Failure::new(
                Kind::Run,
                "no member is known to be well: there is no member to save from",
                "zoisite status shows which members serve; zoisite raise brings them back",
            ));
        }
        let place = site.snapshot_place(state)?;
        reach.set_access(road::etcd_access(site, state, &prepared.ledger)?);
        reach.set_contents(Arc::new(site.no_contents().saving_to(place)));
        let quiet = |what: String| view::doing(None, &what);
        let saved = reach.save(&through, "asked for", &quiet).await.ended();
        saved.map_err(|trouble| Failure::troubles([&trouble]))
    };
    let how = (&[Part::Etcd][..], Depth::Quick, generation);
    road::visit(site, how, work).await.map(|_| ())
}

fn check(
    site: &Site,
    options: &Options,
    state: Option<&State>,
    folder: &SnapshotFolder,
    all: &[Snapshot],
) -> Result<ExitCode, Failure> {
    let strongbox = site.strongbox()?;
    let mut checked = Vec::new();
    let mut bad = 0;
    for snapshot in all {
        let at_odds = state.map(|state| at_odds(site, state, snapshot)).transpose()?;
        let mut faults = at_odds.unwrap_or_default();
        let whole = match folder.open(&snapshot.name, strongbox) {
            Ok(stream) => check_stream(stream, &snapshot.taken, &mut std::io::sink()),
            Err(error) => Err(told(&error)),
        };
        faults.extend(whole.err());
        bad += usize::from(!faults.is_empty());
        if options.json {
            checked.push(json!({"name": snapshot.name, "faults": faults}));
            continue;
        }
        let style = Style::stdout();
        let said = match faults.is_empty() {
            true => format!("{} {} is whole", style.good("✓"), snapshot.name),
            false => format!("{} {}: {}", style.bad("✗"), snapshot.name, faults.join("; ")),
        };
        view::out(&said);
    }
    if options.json {
        view::json(&json!({"checked": checked}));
    }
    match bad {
        0 => Ok(ExitCode::SUCCESS),
        _ => Err(Failure::reported(Kind::Findings)),
    }
}

/// Writes one in the clear, whole or not at all.
fn open(
    site: &Site,
    folder: &SnapshotFolder,
    snapshot: &Snapshot,
    out: &Path,
) -> Result<ExitCode, Failure> {
    let stream = folder.open(&snapshot.name, site.strongbox()?)?;
    let mut file = Private::begin(out)?;
    check_stream(stream, &snapshot.taken, &mut file).map_err(|why| {
        Failure::new(
            Kind::Run,
            format!("{}: {why}", snapshot.name),
            "another snapshot may be whole: zoisite snapshot check --all",
        )
    })?;
    file.end("")?;
    view::note(&format!(
        "{} holds everything that etcd held, in the clear but for what the API servers encrypt: remove it when it was used",
        out.display()
    ));
    Ok(ExitCode::SUCCESS)
}

fn status_of(tried: &Tried) -> Result<ExitCode, Failure> {
    match tried.fault {
        None => Ok(ExitCode::SUCCESS),
        Some(_) => Err(Failure::reported(Kind::Findings)),
    }
}

fn tell_trial(options: &Options, tried: &Tried) -> Result<ExitCode, Failure> {
    let style = Style::stdout();
    if options.json {
        view::json(&json!({"tried": tried}));
    } else {
        match &tried.fault {
            None => view::out(&format!(
                "{} it is good: a member was started from it, and holds {}",
                style.good("✓"),
                count(usize::try_from(tried.keys).unwrap_or(usize::MAX), "key")
            )),
            Some(fault) => view::out(&format!("{} it is not good: {fault}", style.bad("✗"))),
        }
    }
    status_of(tried)
}

fn tell_gone(options: &Options, gone: &[String]) {
    if options.json {
        return;
    }
    for name in gone {
        view::note(&format!("{name} went: [snapshots] keeps no more"));
    }
}

fn list(site: &Site, options: &Options, folder: &SnapshotFolder) -> Result<ExitCode, Failure> {
    let all = folder.list()?;
    let old = too_old(&all, &site.cluster.snapshots, now());
    if options.json {
        view::json(&json!({"snapshots": all, "too_old": old}));
        return Ok(ExitCode::SUCCESS);
    }
    let style = Style::stdout();
    if all.is_empty() {
        view::out(&format!("{} there is no snapshot yet: zoisite snapshot take", style.warn("!")));
        return Ok(ExitCode::SUCCESS);
    }
    let rows = all.iter().rev().map(|one| {
        let state = match &one.tried {
            None => style.warn("not tried"),
            Some(Tried { fault: None, keys, .. }) => style.good(&format!("good, {keys} keys")),
            Some(Tried { fault: Some(fault), .. }) => style.bad(fault),
        };
        vec![
            one.name.clone(),
            one.taken.from.to_string(),
            one.taken.revision.to_string(),
            view::fetching::size(one.taken.octets),
            one.why.clone(),
            state,
        ]
    });
    let columns =
        [("name", 0), ("from", 2), ("revision", 2), ("size", 1), ("why", 2), ("state", 0)];
    let keep = &site.cluster.snapshots;
    view::out(&format!(
        "{}\n{}; kept are {} at most, for {} days",
        ranked(&columns, rows),
        count(all.len(), "snapshot"),
        keep.keep,
        keep.keep_for / 86_400
    ));
    if let Some(old) = old {
        view::note(&old);
    }
    Ok(ExitCode::SUCCESS)
}
