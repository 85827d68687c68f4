//! Where snapshots of etcd are kept, and what is put there.

use std::io::{self, Write};
use std::path::Path;

use zoisite_core::snapshot::{Snapshot, Taken, to_go};
use zoisite_reach::SnapshotFile;
use zoisite_store::{SnapshotFolder, State, StoreError, Writing};

use crate::failure::Failure;
use crate::site::{Site, now};

/// Where a run keeps snapshots, and whose they are.
#[derive(Clone, Debug)]
pub struct SnapshotPlace {
    folder: SnapshotFolder,
    recipients: Vec<String>,
    cluster: String,
    epoch: u32,
    encryption: Option<String>,
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
            encryption: encryption_in_use(state)?,
        })
    }

    /// Copies what is not in the copies' folder yet, and takes away there and here what the file does not keep. Returns
    /// the names of what went.
    pub fn tend_snapshots(&self) -> Result<Vec<String>, Failure> {
        let (folder, copies) = (self.snapshots(), self.snapshot_copies());
        let all = folder.list()?;
        let gone: Vec<String> = to_go(&all, &self.cluster.snapshots, now())
            .iter()
            .map(|one| one.name.clone())
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

/// By which key the API servers encrypt secrets now: the first octets of the SHA-256 of their configuration.
pub fn encryption_in_use(state: &State) -> Result<Option<String>, Failure> {
    let shared = state.shared_secrets()?;
    Ok(shared.map(|shared| shared.encryption_sha256.chars().take(16).collect()))
}

impl SnapshotPlace {
    /// Begins one.
    pub fn begin(&self, why: &str) -> Result<Box<dyn SnapshotFile>, StoreError> {
        let writing = self.folder.begin(&self.recipients)?;
        Ok(Box::new(Kept { writing, place: self.clone(), why: why.to_owned() }))
    }
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
        let at = now();
        let snapshot = Snapshot {
            name: Snapshot::name_of(at),
            at,
            cluster: place.cluster,
            epoch: place.epoch,
            why,
            encryption: place.encryption,
            taken,
            tried: None,
        };
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
