//! `zoisite snapshot restore`: another quorum begins with a snapshot.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use zoisite_core::aim::{Quorum, Restoring};
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::sequence::Begun;
use zoisite_core::snapshot::Snapshot;
use zoisite_reach::Hosts;
use zoisite_store::{SnapshotFolder, State, at_rest};

use crate::commands::block_on;
use crate::commands::raise::{RaiseArgs, carry_through};
use crate::commands::trial::{at_odds, chosen, programs, try_it};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::Site;
use crate::view::{self, count};

#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite snapshot restore 2026-11-27-030000\n  zoisite snapshot restore 2026-11-27-030000 --lost ibis   # a machine that burnt\n  zoisite snapshot restore --cancel                          # stop, as long as nothing of it has begun"
)]
pub struct RestoreArgs {
    /// Its name
    #[arg(value_name = "NAME", required_unless_present = "cancel")]
    name: Option<String>,
    /// Use a snapshot of this folder, such as that of the copies
    #[arg(long, value_name = "FOLDER")]
    from: Option<PathBuf>,
    /// This machine is lost for good; may be repeated
    #[arg(long, value_name = "HOST")]
    lost: Vec<String>,
    /// Restore it although it was never tried
    #[arg(long)]
    untried: bool,
    /// Accept that another machine has the address of this host now; may be repeated
    #[arg(long, value_name = "HOST")]
    accept: Vec<String>,
    /// Cancel a restore that has not begun on any host
    #[arg(long, conflicts_with_all = ["name", "from", "lost", "untried", "accept"])]
    cancel: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

pub fn run(site: &Site, options: &Options, args: &RestoreArgs) -> Result<ExitCode, Failure> {
    let begun = stands(site)?;
    let mut work = site.working()?;
    if args.cancel {
        return cancel(site, options, &mut work.state, begun);
    }
    let snapshot = fit(site, options, &work.state, args)?;
    let lost: BTreeSet<HostName> = args
        .lost
        .iter()
        .map(|name| known(site, &work.state, &begun, name))
        .collect::<Result<_, _>>()?;
    without_departed(site, &work.state, &lost)?;
    let seen = block_on(look(site, &begun, &lost))??;
    tell_loss(options, &snapshot, &seen, &begun);
    let question = format!("Begin another quorum with {}?", snapshot.name);
    if !args.yes && !view::asked(&question) {
        return Err(Failure::not_confirmed("done"));
    }
    if let Some(path) = &args.from {
        SnapshotFolder::at(path).copy(&snapshot, &site.snapshots())?;
    }
    // Its secrets are read by the key of its time, until they are written again.
    let accepted = at_rest::accept_again(&mut work.state, site.strongbox()?, &snapshot.encryption)?;
    if accepted.is_none() {
        let what = format!("{} needs a key for secrets that is not known here", snapshot.name);
        return Err(Failure::new(Kind::Refused, what, "zoisite encryption shows which are known"));
    }
    let restoring = wanted(&begun, &snapshot, seen.hosts, lost);
    work.state.put_begun(&begun.restore(restoring))?;
    let raise = RaiseArgs::agreed(args.accept.clone());
    carry_through(site, options, &raise, &mut work, "snapshot restore")
}

/// What is recorded of a cluster that stands.
fn stands(site: &Site) -> Result<Begun, Failure> {
    let begun = site.raised_state()?.begun()?;
    begun.filter(|begun| begun.formed.is_some()).ok_or_else(|| {
        let what = "no quorum was proven yet: there is none to put anything back into";
        Failure::new(
            Kind::Usage,
            what,
            "zoisite raise forms one; of a lost state: zoisite backup restore",
        )
    })
}

/// A host that left the file may run an API server still, which knows what was.
fn without_departed(site: &Site, state: &State, lost: &BTreeSet<HostName>) -> Result<(), Failure> {
    let departed = state.departed(&site.cluster)?;
    let still: Vec<&str> =
        departed.keys().filter(|host| !lost.contains(*host)).map(HostName::as_str).collect();
    if still.is_empty() {
        return Ok(());
    }
    let names = still.join(", ");
    let what =
        format!("{names} left the cluster file and may still run: what is there knows what was");
    let fix = "zoisite retire takes it back; or switch it off for good, and say --lost HOST";
    Err(Failure::new(Kind::Refused, what, fix))
}

/// A host of the file, a member that it does not name any more, or one that left it.
fn known(site: &Site, state: &State, begun: &Begun, name: &str) -> Result<HostName, Failure> {
    let departed = state.departed(&site.cluster)?;
    let mut members = begun.members.keys().chain(&begun.left).chain(departed.keys());
    match members.find(|host| host.as_str() == name) {
        Some(host) => Ok(host.clone()),
        None => site.host_named(name),
    }
}

/// The snapshot of that name, where it may be put back; one that was not tried yet is tried now.
fn fit(
    site: &Site,
    options: &Options,
    state: &State,
    args: &RestoreArgs,
) -> Result<Snapshot, Failure> {
    let folder =
        args.from.as_ref().map_or_else(|| site.snapshots(), |path| SnapshotFolder::at(path));
    let mut snapshot = chosen(&folder, args.name.as_deref())?;
    let refused = |snapshot: &Snapshot, why: &str| {
        let what = format!("{} is not put back: {why}", snapshot.name);
        Failure::new(
            Kind::Refused,
            what,
            "zoisite snapshot lists the others, and what is known of each",
        )
    };
    let faults = at_odds(site, state, &snapshot)?;
    if !faults.is_empty() {
        return Err(refused(&snapshot, &faults.join("; ")));
    }
    if snapshot.tried.is_none() && !args.untried {
        view::note(&format!("{} was not tried yet: that comes first", snapshot.name));
        (snapshot, _) = try_it(site, options, (&folder, &programs(site)?), snapshot)?;
    }
    match snapshot.tried.as_ref().and_then(|tried| tried.fault.as_ref()) {
        Some(fault) => Err(refused(&snapshot, &format!("a trial found it bad: {fault}"))),
        None => Ok(snapshot),
    }
}

/// What hosts show before anything is done.
struct Found {
    /// Whose members begin with it.
    hosts: BTreeSet<HostName>,
    /// How far the quorum is that serves now, if one does.
    revision: Option<i64>,
    /// Who serves.
    serving: usize,
}

/// A look at members, by which nothing is done.
async fn seen(site: &Site) -> Result<Sighting, Failure> {
    let how = (&[Part::Etcd][..], Depth::Quick, 0);
    let nothing = async |_: &mut Hosts, _: &mut Prepared, _: &mut State, _: &mut Sighting| Ok(());
    road::visit(site, how, nothing).await.map(|(_, sighting, ())| sighting)
}

async fn look(site: &Site, begun: &Begun, lost: &BTreeSet<HostName>) -> Result<Found, Failure> {
    let sighting = seen(site).await?;
    // Whoever cannot be looked at is reported by the run itself, which does nothing without.
    let hosts: BTreeSet<HostName> =
        site.cluster.etcd.members.iter().filter(|host| !lost.contains(*host)).cloned().collect();
    if hosts.is_empty() {
        let what = "every member of the file is said to be gone: none is left to begin with it";
        return Err(Failure::new(Kind::Usage, what, "name hosts in etcd.members that are there"));
    }
    let serving = sighting.looks.values().flatten().filter_map(|seen| seen.etcd.status.as_ref());
    let serving = serving
        .filter(|status| status.has_leader() && Some(&status.cluster_id) == begun.formed.as_ref());
    let revisions: Vec<i64> = serving.map(|status| status.revision).collect();
    Ok(Found { hosts, revision: revisions.iter().max().copied(), serving: revisions.len() })
}

/// Says what is lost by it, before anybody is asked.
fn tell_loss(options: &Options, snapshot: &Snapshot, found: &Found, begun: &Begun) {
    if options.json {
        return;
    }
    let of = format!(
        "{}, of {} UTC, revision {}",
        snapshot.name,
        snapshot.at.strftime("%Y-%m-%d %H:%M:%S"),
        snapshot.taken.revision
    );
    let hosts: Vec<&str> = found.hosts.iter().map(HostName::as_str).collect();
    view::say(&format!("Put back {of}, on {}.", hosts.join(", ")));
    let lost = match found.serving {
        0 => "No member serves: what was written after it is LOST.".to_owned(),
        serving => format!(
            "{} now: what was written since is LOST{}. It is saved first.",
            if serving == 1 {
                "One member serves".into()
            } else {
                format!("{serving} members serve")
            },
            since(snapshot, found, begun)
        ),
    };
    view::say(&lost);
    if snapshot.epoch < begun.epoch {
        view::say(&format!(
            "It is of quorum {} of this cluster, and quorum {} is the last.",
            snapshot.epoch, begun.epoch
        ));
    }
    view::say("API servers stop until that is done. Every member's data is moved aside and kept.");
}

/// How many revisions came after it, where they can be counted.
fn since(snapshot: &Snapshot, found: &Found, begun: &Begun) -> String {
    let later = found.revision.map_or(0, |now| now - snapshot.taken.revision);
    match usize::try_from(later) {
        Ok(later) if snapshot.epoch == begun.epoch => format!(" ({})", count(later, "revision")),
        _ => String::new(),
    }
}

/// What is recorded: each that begins is a quorum of its own, and the same one goes on.
fn wanted(
    begun: &Begun,
    snapshot: &Snapshot,
    hosts: BTreeSet<HostName>,
    lost: BTreeSet<HostName>,
) -> Restoring {
    let (name, sha256) = (snapshot.name.clone(), snapshot.taken.sha256.clone());
    let before = begun.restoring.as_ref();
    let same = before.filter(|from| from.sha256 == sha256 && from.hosts == hosts);
    let last = before.map_or(begun.epoch, |from| from.epoch);
    let epoch = same.map_or(last + 1, |from| from.epoch);
    Restoring { snapshot: name, sha256, hosts, epoch, of_epoch: snapshot.epoch, lost }
}

/// Leaves it, where the quorum that was still serves and nothing has begun with it.
fn cancel(
    site: &Site,
    options: &Options,
    state: &mut State,
    begun: Begun,
) -> Result<ExitCode, Failure> {
    let Some(from) = &begun.restoring else {
        return Err(Failure::new(Kind::Usage, "no snapshot is being put back", "zoisite status"));
    };
    let sighting = block_on(seen(site))??;
    let began = sighting.looks.values().flatten().any(|seen| seen.epoch() >= Some(from.epoch));
    let real = zoisite_core::sequence::real(&sighting.looks, Some(&begun));
    let serves =
        matches!(real.quorum, Quorum::Listed(_)) && real.well().count() > real.voters().len() / 2;
    if began || !serves {
        let what = match began {
            true => format!("members have begun with {}", from.snapshot),
            false => "the quorum that was does not serve any more".to_owned(),
        };
        let fix = "zoisite raise goes on with it; to have back what was before, put the snapshot back that this run saved first";
        return Err(Failure::new(
            Kind::Refused,
            format!("{what}: it is too late to leave it"),
            fix,
        ));
    }
    let name = from.snapshot.clone();
    state.put_begun(&Begun { restoring: None, ..begun })?;
    if !options.json {
        view::out(&format!(
            "{name} is not put back. zoisite raise starts what was stopped for it."
        ));
    }
    Ok(ExitCode::SUCCESS)
}
