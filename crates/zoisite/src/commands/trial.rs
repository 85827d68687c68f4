//! Which snapshot is meant, what is at odds with it, and what a trial shows of it.

use zoisite_core::cluster::Version;
use zoisite_core::item::Pinned;
use zoisite_core::snapshot::{Snapshot, Tried};
use zoisite_reach::{EtcdPrograms, try_snapshot};
use zoisite_store::{SnapshotFolder, State};

use super::block_on;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::snapshots::{encryption_in_use, open_snapshot};
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
        let mend = "zoisite snapshot lists them, with --from those of another folder; zoisite snapshot take takes one";
        Failure::new(Kind::Usage, what, mend)
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
    let own = encryption_in_use(state)?;
    if snapshot.encryption.is_some() && own.is_some() && snapshot.encryption != own {
        out.push(
            "its secrets are encrypted by a key that is not the one in use: they could not be read"
                .into(),
        );
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
                format!("zoisite components fetch --arch {arch} brings and pins it"),
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

/// Tries one and records what came of it.
pub fn try_it(
    site: &Site,
    options: &Options,
    (folder, programs): (&SnapshotFolder, &EtcdPrograms),
    mut snapshot: Snapshot,
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
    let at = now();
    let tried = match tried {
        Ok(keys) => Tried { at, keys, fault: None },
        Err(fault) => Tried { at, keys: 0, fault: Some(fault) },
    };
    snapshot.tried = Some(tried.clone());
    folder.note(&snapshot)?;
    Ok((snapshot, tried))
}
