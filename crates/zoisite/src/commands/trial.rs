//! Which snapshot is meant, what is at odds with it, and what a trial shows of it.

use std::sync::Arc;

use zoisite_core::cluster::{HostName, Version};
use zoisite_core::holdings::Part;
use zoisite_core::item::Pinned;
use zoisite_core::script::Depth;
use zoisite_core::snapshot::{SNAPSHOT, Snapshot, Tried, trial_files};
use zoisite_reach::{EtcdPrograms, Hosts, try_snapshot};
use zoisite_store::{SnapshotFolder, State};

use super::block_on;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, now};
use crate::snapshots::{OpenedSnapshot, open_snapshot};
use crate::supplies::here;
use crate::view;

/// The snapshot of that name, or the newest.
pub fn chosen(folder: &SnapshotFolder, name: Option<&str>) -> Result<Snapshot, Failure> {
    let mut all = folder.list()?;
    let found = match name {
        None => all.pop(),
        Some(name) => all.into_iter().find(|one| one.name == name),
    };
    found.ok_or_else(|| {
        let what = match name {
            Some(name) => format!("there is no snapshot {name} in {}", folder.path().display()),
            None => format!("there is no snapshot in {}", folder.path().display()),
        };
        let fix = "zoisite snapshot lists them, with --from those of another folder; zoisite snapshot take takes one";
        Failure::new(Kind::Usage, what, fix)
    })
}

/// What is wrong with a snapshot for this cluster, before it is opened.
pub fn at_odds(site: &Site, state: &State, snapshot: &Snapshot) -> Result<Vec<String>, Failure> {
    let mut out = Vec::new();
    if state.known_cluster_id()?.is_some_and(|own| own != snapshot.cluster) {
        out.push(format!("it is of another cluster ({})", snapshot.cluster));
    }
    let version = Version::new(&snapshot.taken.version);
    let newer = version.is_ok_and(|its| {
        let own = site.cluster.etcd_version;
        (its.major, its.minor) > (own.major, own.minor)
    });
    if newer {
        out.push(format!(
            "it is of etcd {}, and the cluster file says {}",
            snapshot.taken.version, site.cluster.etcd_version
        ));
    }
    if let Some(shared) = state.shared_secrets()? {
        let keys = shared.at_rest_keys();
        let known = |id: &String| keys.all().any(|key| key.id == *id);
        if !snapshot.encryption.iter().all(known) {
            out.push(
                "its secrets are encrypted by a key that the strongbox does not hold: they could not be read"
                    .into(),
            );
        }
    }
    Ok(out)
}

/// The programs that a trial needs, of this machine's architecture, their checksums verified.
pub fn programs(site: &Site) -> Result<EtcdPrograms, Failure> {
    let (sums, version) = (site.sums_if_any()?, site.cluster.etcd_version.to_string());
    let arch = here().arch;
    let of = |file: &'static str| {
        let pinned = Pinned { name: "etcd", version: version.clone(), file };
        let path = site.components_folder().join(pinned.path(&arch));
        let found = zoisite_supply::sha256_of(&path).ok();
        match (found, sums.sha256(&pinned, &arch)) {
            (Some(found), Some(wanted)) if found == wanted => Ok(path),
            (None, _) => Err(Failure::new(
                Kind::Usage,
                format!("{} is not there, and a trial runs it on this machine", path.display()),
                format!(
                    "zoisite components fetch --arch {arch} brings and pins it; zoisite snapshot try --on HOST tries it there"
                ),
            )),
            (Some(_), _) => Err(Failure::new(
                Kind::Usage,
                format!("{} is not the pinned file", path.display()),
                "zoisite components verify shows what is other than it was",
            )),
        }
    };
    Ok(EtcdPrograms { etcd: of("etcd")?, etcdutl: of("etcdutl")? })
}

/// Tries one here, and records what came of it.
pub fn try_it(
    site: &Site,
    options: &Options,
    (folder, programs): (&SnapshotFolder, &EtcdPrograms),
    snapshot: Snapshot,
) -> Result<(Snapshot, Tried), Failure> {
    let (opened, whole) = open_snapshot(site, folder, &snapshot, site.strongbox()?)?;
    let progress = |what: String| {
        if !options.json {
            view::note(&what);
        }
    };
    let tried = match whole {
        Ok(()) => {
            let (plain, scratch) = (opened.path(), opened.scratch());
            block_on(try_snapshot(&plain, &snapshot.taken, programs, scratch, &progress))?
        }
        Err(why) => Err(why),
    };
    record(folder, snapshot, tried)
}

/// Tries one on a host, where this machine has no program for it or no room, and records what came of it.
pub fn try_on(
    site: &Site,
    at: (&HostName, u64),
    folder: &SnapshotFolder,
    snapshot: Snapshot,
) -> Result<(Snapshot, Tried), Failure> {
    let (opened, whole) = open_snapshot(site, folder, &snapshot, site.strongbox()?)?;
    let tried = match whole {
        Ok(()) => block_on(tried_on(site, at, (opened, &snapshot)))??,
        Err(why) => Err(why),
    };
    record(folder, snapshot, tried)
}

async fn tried_on(
    site: &Site,
    (host, generation): (&HostName, u64),
    (opened, snapshot): (OpenedSnapshot, &Snapshot),
) -> Result<Result<u64, String>, Failure> {
    let sums = site.sums_if_any()?;
    let work =
        async |reach: &mut Hosts, _: &mut Prepared, _: &mut State, sighting: &mut Sighting| {
            let arch = match sighting.looks.get(host) {
                Some(Ok(seen)) => seen.arch.clone(),
                Some(Err(trouble)) => return Err(Failure::troubles([trouble])),
                None => {
                    return Err(Failure::new(
                        Kind::Run,
                        format!("{host} was not looked at"),
                        "zoisite status shows which hosts are",
                    ));
                }
            };
            let mut files = Vec::new();
            for file in trial_files(site.cluster.etcd_version, snapshot) {
                let sha256 = match file.pinned.name {
                    SNAPSHOT => Some(snapshot.taken.sha256.as_str()),
                    _ => sums.sha256(&file.pinned, &arch),
                };
                let sha256 = sha256.ok_or_else(|| {
                    let what = format!(
                        "nothing pins {} for {arch}, which a trial on {host} runs",
                        file.pinned
                    );
                    let fix = format!("zoisite components fetch --arch {arch} brings and pins it");
                    Failure::new(Kind::Usage, what, fix)
                })?;
                files.push((file.clone(), sha256.to_owned()));
            }
            reach.set_contents(Arc::new(site.no_contents().bringing(opened)));
            let tell = |what: String| view::doing(Some(host), &what);
            let tried = reach.try_there(host, &snapshot.taken, &files, &tell).await;
            tried.map_err(|trouble| Failure::troubles([&trouble]))
        };
    // Whatever it does for the cluster.
    let how = (Part::ALL, Depth::Quick, generation);
    road::visit(site, how, work).await.map(|(_, _, tried)| tried)
}

fn record(
    folder: &SnapshotFolder,
    mut snapshot: Snapshot,
    tried: Result<u64, String>,
) -> Result<(Snapshot, Tried), Failure> {
    let at = now();
    let tried = match tried {
        Ok(keys) => Tried { at, keys, fault: None },
        Err(fault) => Tried { at, keys: 0, fault: Some(fault) },
    };
    snapshot.tried = Some(tried.clone());
    folder.note(&snapshot)?;
    Ok((snapshot, tried))
}
