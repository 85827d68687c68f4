//! `zoisite snapshot fetch`: what members saved by themselves, brought here.

use std::process::ExitCode;

use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::snapshot::{SavedThere, Snapshot};
use zoisite_reach::{Hosts, Reach as _, check_whole};
use zoisite_store::State;

use crate::commands::block_on;
use crate::commands::trial::{programs, try_it};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, begin_run, end_run};
use crate::view::{self, Style, count};

/// Brings the newest that a host saved, where none here is as new, or all of them.
pub fn run(site: &Site, options: &Options, all: bool, trial: bool) -> Result<ExitCode, Failure> {
    site.raised_state()?;
    let programs = trial.then(|| programs(site)).transpose()?;
    let mut work = site.working()?;
    let run = begin_run(&mut work.state, "snapshot fetch")?;
    let fetched = block_on(fetch(site, &mut work.state, all, run.generation))?;
    let outcome = match &fetched {
        Ok((brought, _)) => format!("{} brought", count(brought.len(), "snapshot")),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(&mut work.state, run, &outcome)?;
    let (mut brought, troubles) = fetched?;
    if let Some(programs) = &programs {
        for one in &mut brought {
            let folder = site.snapshots();
            *one = try_it(site, options, (&folder, programs), one.clone())?.0;
        }
    }
    let tended = site.tend_snapshots();
    let bad = brought.iter().filter(|one| one.is_bad()).count();
    if options.json {
        view::json(&json!({"brought": brought, "gone": tended.as_deref().unwrap_or_default()}));
    } else {
        tell(&brought);
    }
    tended?;
    match (troubles.is_empty(), bad) {
        (true, 0) => Ok(ExitCode::SUCCESS),
        (true, _) => Err(Failure::reported(Kind::Findings)),
        (false, _) => Err(Failure::troubles(&troubles)),
    }
}

fn tell(brought: &[Snapshot]) {
    let style = Style::stdout();
    if brought.is_empty() {
        view::out(&format!("{} nothing newer was saved by members", style.good("✓")));
    }
    for one in brought {
        let (mark, state) = match &one.tried {
            None => (style.good("✓"), "not tried yet".to_owned()),
            Some(tried) => match &tried.fault {
                None => (style.good("✓"), format!("good, {} keys", tried.keys)),
                Some(fault) => (style.bad("✗"), format!("not good: {fault}")),
            },
        };
        view::out(&format!(
            "{mark} {}, saved by {}: revision {}, {}, {state}",
            one.name,
            one.taken.from,
            one.taken.revision,
            view::fetching::size(one.taken.octets)
        ));
    }
}

/// What was brought, and what kept others from it.
async fn fetch(
    site: &Site,
    state: &mut State,
    all: bool,
    generation: u64,
) -> Result<(Vec<Snapshot>, Vec<Trouble>), Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      scratch: &mut State,
                      sighting: &mut Sighting| {
        sighting.met()?;
        prepared.turn_to_what_stands(site, scratch, &sighting.looks)?;
        let own = prepared.begun.as_ref().and_then(|begun| begun.formed.clone());
        let mut troubles: Vec<Trouble> = sighting.troubles().into_iter().cloned().collect();
        let mut there = Vec::new();
        for (host, look) in &sighting.looks {
            if !look.as_ref().is_ok_and(|seen| seen.etcd.saved.is_some()) {
                continue;
            }
            match reach.saved_by(host).await {
                Ok(found) => there.extend(found),
                Err(trouble) => troubles.push(trouble),
            }
        }
        // Of another quorum than the one that stands there is nothing to bring.
        there.retain(|one| own.as_ref().is_none_or(|own| one.taken.cluster_id == *own));
        let known = site.snapshots().list()?;
        let is_known = |one: &SavedThere| {
            known.iter().any(|old| old.at == one.at && old.taken.from == one.taken.from)
        };
        there.retain(|one| !is_known(one));
        there.sort_by_key(|one| one.at);
        if !all {
            let newest = known.iter().map(|one| one.at).max();
            there.retain(|one| newest.is_none_or(|newest| one.at > newest));
            there = there.pop().into_iter().collect();
        }
        let mut brought = Vec::new();
        for one in &there {
            match bring(site, state, reach, one).await {
                Ok(snapshot) => brought.push(snapshot),
                Err(Brought::Not(trouble)) => troubles.push(*trouble),
                Err(Brought::Here(failure)) => return Err(failure),
            }
        }
        Ok((brought, troubles))
    };
    let how = (&[Part::Etcd][..], Depth::Quick, generation);
    road::visit(site, how, work).await.map(|(_, _, done)| done)
}

/// Why one did not come.
enum Brought {
    /// Something on its host, or on the way.
    Not(Box<Trouble>),
    /// Something here.
    Here(Failure),
}

impl From<Failure> for Brought {
    fn from(failure: Failure) -> Self {
        Self::Here(failure)
    }
}

/// Brings one into a folder that only its owner reads, holds it against its own checksum, and seals it.
async fn bring(
    site: &Site,
    state: &mut State,
    reach: &Hosts,
    one: &SavedThere,
) -> Result<Snapshot, Brought> {
    let host: &HostName = &one.taken.from;
    let scratch = site.snapshots().scratch().map_err(Failure::from)?;
    let path = scratch.path().join("stream");
    let tell = |what: String| view::doing(Some(host), &what);
    let came = reach.fetch(host, &one.stream(), &path, &tell).await;
    came.map_err(|trouble| Brought::Not(Box::new(trouble)))?;
    let place = site.snapshot_place(state)?;
    let why = "saved by the member itself";
    let mut writing = place.folder.begin(&place.recipients).map_err(Failure::from)?;
    let file = std::fs::File::open(&path).map_err(|e| Failure::file("reading", &path, &e))?;
    let (octets, sha256) = check_whole(file, &mut writing).map_err(|why| {
        let attempted = format!("bringing the snapshot {}", one.name);
        let trouble = Trouble::new(Some(host.clone()), attempted, why, Vec::new());
        Brought::Not(Box::new(trouble.fix("another one of that host may be whole: --all")))
    })?;
    let taken = zoisite_core::snapshot::Taken { octets, sha256, ..one.taken.clone() };
    Ok(writing.end(place.taken_then(one.at, why, taken)).map_err(Failure::from)?)
}
