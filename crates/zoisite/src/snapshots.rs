//! Where snapshots of etcd are kept, and what is put there.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use zoisite_core::pki::{AtRestKey, AtRestKeys};
use zoisite_core::snapshot::{Snapshot, Taken, to_go};
use zoisite_reach::{SnapshotFile, check_stream};
use zoisite_store::{SnapshotFolder, State, StoreError, Strongbox, Writing};

use crate::failure::{Failure, Kind};
use crate::site::{Site, now};

/// Where a run keeps snapshots, and whose they are.
#[derive(Clone, Debug)]
pub struct SnapshotPlace {
    pub folder: SnapshotFolder,
    pub recipients: Vec<String>,
    cluster: String,
    epoch: u32,
    keys: Option<AtRestKeys>,
}

impl Site {
    /// The folder of this site's snapshots.
    pub fn snapshots(&self) -> SnapshotFolder {
        SnapshotFolder::at(&self.store.join("snapshots"))
    }

    /// The folder into which the file wants each copied.
    pub fn snapshot_copies(&self) -> Option<SnapshotFolder> {
        let path = self.cluster.snapshots.copies.as_ref()?;
        Some(SnapshotFolder::at(&self.folder.join(Path::new(path))))
    }

    /// Where a run keeps what it saves.
    pub fn snapshot_place(&self, state: &mut State) -> Result<SnapshotPlace, Failure> {
        let begun = state.begun()?;
        Ok(SnapshotPlace {
            folder: self.snapshots(),
            recipients: self.recipients(state)?,
            cluster: state.cluster_id()?,
            epoch: begun.map_or(1, |begun| begun.epoch),
            keys: state.shared_secrets()?.map(|shared| shared.at_rest_keys()),
        })
    }

    /// Copies what is not in the copies' folder yet, and takes away there and here what the file does not keep. Returns
    /// the names of what went.
    pub fn tend_snapshots(&self) -> Result<Vec<String>, Failure> {
        let (folder, copies) = (self.snapshots(), self.snapshot_copies());
        let all = folder.list()?;
        // One that is being put back stays until that is done.
        let begun = self.existing_state()?.map(|state| state.begun()).transpose()?.flatten();
        let needed = begun.and_then(|begun| begun.restoring).map(|from| from.snapshot);
        let gone: Vec<String> = to_go(&all, &self.cluster.snapshots, now())
            .iter()
            .map(|one| one.name.clone())
            .filter(|name| needed.as_ref() != Some(name))
            .collect();
        if let Some(copies) = &copies {
            let there = copies.list()?;
            for one in all.iter().filter(|one| !gone.contains(&one.name)) {
                // What is known of it may have grown: a trial.
                if !there.contains(one) {
                    folder.copy(one, copies)?;
                }
            }
            for name in gone.iter().filter(|name| there.iter().any(|one| one.name == **name)) {
                copies.forget(name)?;
            }
        }
        for name in &gone {
            folder.forget(name)?;
        }
        Ok(gone)
    }
}

impl SnapshotPlace {
    /// What is recorded of one that is taken now: its secrets are encrypted by keys that API servers have.
    fn taken_now(&self, why: &str, taken: Taken) -> Snapshot {
        let keys = self.keys.iter().flat_map(|keys| keys.ring().all().copied().collect::<Vec<_>>());
        self.of(now(), why, taken, keys)
    }

    /// What is recorded of one that was taken then: by keys that are gone since, perhaps.
    pub fn taken_then(&self, at: Timestamp, why: &str, taken: Taken) -> Snapshot {
        let made = |key: &&AtRestKey| key.made.is_none_or(|made| made <= at);
        let keys = self.keys.iter().flat_map(AtRestKeys::all).filter(made);
        self.of(at, why, taken, keys)
    }

    fn of<'a>(
        &self,
        at: Timestamp,
        why: &str,
        taken: Taken,
        keys: impl Iterator<Item = &'a AtRestKey>,
    ) -> Snapshot {
        Snapshot {
            name: Snapshot::name_of(at),
            at,
            cluster: self.cluster.clone(),
            epoch: self.epoch,
            why: why.to_owned(),
            encryption: keys.map(|key| key.id.clone()).collect(),
            taken,
            tried: None,
        }
    }

    /// Begins one.
    pub fn begin(&self, why: &str) -> Result<Box<dyn SnapshotFile>, StoreError> {
        let writing = self.folder.begin(&self.recipients)?;
        Ok(Box::new(Kept { writing, place: self.clone(), why: why.to_owned() }))
    }
}

/// One that lies here in the clear for as long as this value lives, where only its owner reads.
pub struct OpenedSnapshot {
    folder: tempfile::TempDir,
    sha256: String,
}

impl OpenedSnapshot {
    /// Its file, where its checksum is that one.
    pub fn file(&self, sha256: &str) -> Result<PathBuf, String> {
        match self.sha256 == sha256 {
            true => Ok(self.path()),
            false => Err(format!("its checksum is {}, not {sha256}", self.sha256)),
        }
    }

    /// Where its stream is.
    pub fn path(&self) -> PathBuf {
        self.folder.path().join("stream")
    }

    /// Where more may be made of it.
    pub fn scratch(&self) -> &Path {
        self.folder.path()
    }
}

impl Site {
    /// Opens one of this site's snapshots and holds it against its checksums. The store's lock is held.
    pub fn opened_snapshot(
        &self,
        name: &str,
        strongbox: &Strongbox,
    ) -> Result<OpenedSnapshot, Failure> {
        let folder = self.snapshots();
        let known = folder.list()?.into_iter().find(|one| one.name == name);
        let gone = || {
            let what = format!("there is no snapshot {name} in {}", folder.path().display());
            Failure::new(Kind::Run, what, "zoisite snapshot restore names another one")
        };
        let snapshot = known.ok_or_else(gone)?;
        let (opened, whole) = open_snapshot(self, &folder, &snapshot, strongbox)?;
        whole.map_err(|why| {
            let fix = "another snapshot may be whole: zoisite snapshot check --all";
            Failure::new(Kind::Run, format!("{name}: {why}"), fix)
        })?;
        Ok(opened)
    }
}

/// Opens one of a folder's; and what is wrong with it, if anything is.
pub fn open_snapshot(
    site: &Site,
    folder: &SnapshotFolder,
    snapshot: &Snapshot,
    strongbox: &Strongbox,
) -> Result<(OpenedSnapshot, Result<(), String>), Failure> {
    let sha256 = snapshot.taken.sha256.clone();
    let opened = OpenedSnapshot { folder: site.snapshots().scratch()?, sha256 };
    let path = opened.path();
    let stream = folder.open(&snapshot.name, strongbox)?;
    let mut file =
        std::fs::File::create(&path).map_err(|error| Failure::file("writing", &path, &error))?;
    let whole = check_stream(stream, &snapshot.taken, &mut file);
    Ok((opened, whole))
}

/// One that is being written.
struct Kept {
    writing: Writing,
    place: SnapshotPlace,
    why: String,
}

impl Write for Kept {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        self.writing.write(octets)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.writing.flush()
    }
}

impl SnapshotFile for Kept {
    fn end(self: Box<Self>, taken: Taken) -> Result<(), String> {
        let Self { writing, place, why } = *self;
        let snapshot = place.taken_now(&why, taken);
        writing.end(snapshot).map(|_| ()).map_err(|error| told(&error))
    }
}

/// An error with its cause.
pub fn told(error: &StoreError) -> String {
    match std::error::Error::source(error) {
        Some(cause) => format!("{error}: {cause}"),
        None => error.to_string(),
    }
}
