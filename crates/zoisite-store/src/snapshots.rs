//! Snapshots in a folder: each a sealed file, and beside it what is recorded of it. They do not lie in the store: what
//! is lost with that, they are for.

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use zoisite_core::snapshot::Snapshot;

use crate::{StoreError, Strongbox, private_folder};

const SEALED: &str = "sealed";
const RECORD: &str = "json";

/// A folder of snapshots.
#[derive(Clone, Debug)]
pub struct SnapshotFolder {
    path: PathBuf,
}

/// A snapshot that is being written. Nothing of it is there before [`Writing::end`].
pub struct Writing {
    folder: SnapshotFolder,
    sealing: age::stream::StreamWriter<tempfile::NamedTempFile>,
}

impl std::fmt::Debug for Writing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Writing").field("folder", &self.folder).finish_non_exhaustive()
    }
}

impl Write for Writing {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        self.sealing.write(octets)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.sealing.flush()
    }
}

impl Writing {
    /// Closes the file and records what it is, both in one instant each; a name that is taken gets a number. Returns
    /// what was recorded.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn end(self, mut snapshot: Snapshot) -> Result<Snapshot, StoreError> {
        let Self { folder, sealing } = self;
        let base = snapshot.name.clone();
        let mut number = 1;
        while folder.file(&snapshot.name, SEALED).exists() {
            number += 1;
            snapshot.name = format!("{base}-{number}");
        }
        let path = folder.file(&snapshot.name, SEALED);
        let failed = |source| StoreError::File { doing: "writing", path: path.clone(), source };
        let file = sealing.finish().map_err(failed)?;
        file.as_file().sync_all().map_err(failed)?;
        file.persist_noclobber(&path).map_err(|error| failed(error.error))?;
        folder.note(&snapshot)?;
        Ok(snapshot)
    }
}

impl SnapshotFolder {
    /// The snapshots in a folder, which need not be there yet.
    pub fn at(path: &Path) -> Self {
        Self { path: path.to_owned() }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn file(&self, name: &str, ending: &str) -> PathBuf {
        self.path.join(format!("{name}.{ending}"))
    }

    /// Where a snapshot's sealed file is.
    pub fn sealed(&self, name: &str) -> PathBuf {
        self.file(name, SEALED)
    }

    fn make(&self) -> Result<(), StoreError> {
        private_folder(&self.path).map_err(|source| StoreError::File {
            doing: "making",
            path: self.path.clone(),
            source,
        })
    }

    /// Begins one, sealed for `recipients`. What a run that was killed left half written is swept first.
    ///
    /// # Errors
    /// When a recipient is none, or nothing can be written there.
    pub fn begin(&self, recipients: &[String]) -> Result<Writing, StoreError> {
        self.make()?;
        self.sweep(false);
        let failed =
            |source| StoreError::File { doing: "writing in", path: self.path.clone(), source };
        let file = tempfile::Builder::new().prefix(".half-").tempfile_in(&self.path);
        let sealing = Strongbox::encryptor(recipients)?.wrap_output(file.map_err(failed)?);
        Ok(Writing { folder: self.clone(), sealing: sealing.map_err(failed)? })
    }

    /// A folder for what is opened, gone with this value; one that a killed program left is swept first. The store's
    /// lock is held by the caller.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn scratch(&self) -> Result<tempfile::TempDir, StoreError> {
        self.make()?;
        self.sweep(true);
        let made = tempfile::Builder::new().prefix(".half-open-").tempdir_in(&self.path);
        made.map_err(|source| StoreError::File {
            doing: "making a folder in",
            path: self.path.clone(),
            source,
        })
    }

    /// Takes away what was begun and never ended: files without a record, parts of files; and what was `opened`, where
    /// none of it is in use.
    fn sweep(&self, opened: bool) {
        let Ok(entries) = fs::read_dir(&self.path) else { return };
        for path in entries.filter_map(|entry| Some(entry.ok()?.path())) {
            let name = path.file_name().map(|name| name.to_string_lossy().into_owned());
            let half = name.is_some_and(|name| name.starts_with(".half-"));
            let unknown = path.extension().is_some_and(|ending| ending == SEALED)
                && !path.with_extension(RECORD).exists();
            if half && path.is_dir() {
                if opened {
                    let _ = fs::remove_dir_all(&path);
                }
            } else if half || unknown {
                let _ = fs::remove_file(&path);
            }
        }
    }

    /// Records what is known of one.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn note(&self, snapshot: &Snapshot) -> Result<(), StoreError> {
        let path = self.file(&snapshot.name, RECORD);
        let failed = |source| StoreError::File { doing: "writing", path: path.clone(), source };
        let text = serde_json::to_vec_pretty(snapshot).map_err(|e| failed(e.into()))?;
        let mut file =
            tempfile::Builder::new().prefix(".half-").tempfile_in(&self.path).map_err(failed)?;
        file.write_all(&text).map_err(failed)?;
        crate::put_in_place(file, &path).map_err(failed)
    }

    /// Every one that is recorded, oldest first; a record that cannot be read is an error and not a gap.
    ///
    /// # Errors
    /// When the folder or a record cannot be read.
    pub fn list(&self) -> Result<Vec<Snapshot>, StoreError> {
        let failed = |path: &Path, source| StoreError::File {
            doing: "reading",
            path: path.to_owned(),
            source,
        };
        let entries = match fs::read_dir(&self.path) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(failed(&self.path, error)),
        };
        let mut out: Vec<Snapshot> = Vec::new();
        for entry in entries {
            let path = entry.map_err(|error| failed(&self.path, error))?.path();
            if path.extension().is_some_and(|ending| ending == RECORD) {
                let text = fs::read(&path).map_err(|error| failed(&path, error))?;
                let read = serde_json::from_slice(&text);
                out.push(read.map_err(|error| failed(&path, error.into()))?);
            }
        }
        out.sort_by(|a, b| (a.at, &a.name).cmp(&(b.at, &b.name)));
        Ok(out)
    }

    /// Opens one. What is read is the stream as it was taken; that it is whole is known only at its end.
    ///
    /// # Errors
    /// When it is not there, or is sealed for somebody else.
    pub fn open(&self, name: &str, strongbox: &Strongbox) -> Result<impl Read + use<>, StoreError> {
        let path = self.sealed(name);
        let failed = |source| StoreError::File { doing: "reading", path: path.clone(), source };
        let file = io::BufReader::new(fs::File::open(&path).map_err(failed)?);
        strongbox.reader(file, &path)
    }

    /// Takes one away. The record goes last: what is half gone is listed, not forgotten.
    ///
    /// # Errors
    /// When that cannot be done.
    pub fn forget(&self, name: &str) -> Result<(), StoreError> {
        for path in [self.sealed(name), self.file(name, RECORD)] {
            match fs::remove_file(&path) {
                Err(source) if source.kind() != io::ErrorKind::NotFound => {
                    return Err(StoreError::File { doing: "removing", path, source });
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Copies one into another folder, whole or not at all.
    ///
    /// # Errors
    /// When it cannot be read here or written there.
    pub fn copy(&self, snapshot: &Snapshot, to: &Self) -> Result<(), StoreError> {
        to.make()?;
        let (from, path) = (self.sealed(&snapshot.name), to.sealed(&snapshot.name));
        let failed = |source| StoreError::File { doing: "copying to", path: path.clone(), source };
        let mut read = fs::File::open(&from).map_err(failed)?;
        let mut file =
            tempfile::Builder::new().prefix(".half-").tempfile_in(&to.path).map_err(failed)?;
        io::copy(&mut read, &mut file).map_err(failed)?;
        crate::put_in_place(file, &path).map_err(failed)?;
        to.note(snapshot)
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;
    use zoisite_core::cluster::HostName;
    use zoisite_core::snapshot::Taken;

    use super::*;

    fn snapshot() -> Snapshot {
        let at: Timestamp = "2026-11-27T03:00:00Z".parse().unwrap();
        Snapshot {
            name: Snapshot::name_of(at),
            at,
            cluster: "c0ffee".into(),
            epoch: 1,
            why: "asked for".into(),
            encryption: Vec::new(),
            taken: Taken {
                from: HostName::new("heron").unwrap(),
                cluster_id: "01".into(),
                members: vec!["heron".into()],
                version: "3.6.16".into(),
                revision: 9,
                hash: 1,
                compacted: 0,
                octets: 10,
                sha256: "ab".into(),
            },
            tried: None,
        }
    }

    fn take(folder: &SnapshotFolder, text: &[u8], strongbox: &Strongbox) -> Snapshot {
        let mut writing = folder.begin(&[strongbox.recipient()]).unwrap();
        writing.write_all(text).unwrap();
        writing.end(snapshot()).unwrap()
    }

    #[test]
    fn what_is_taken_is_sealed_listed_copied_and_forgotten() {
        let dir = tempfile::tempdir().unwrap();
        let folder = SnapshotFolder::at(&dir.path().join("deep/snapshots"));
        assert_eq!(folder.list().unwrap(), []);
        let (ada, eve) = (Strongbox::fleeting(), Strongbox::fleeting());
        let marsh = b"reeds and mud ".repeat(20_000);
        let first = take(&folder, &marsh, &ada);
        let second = take(&folder, b"later", &ada);
        assert_eq!((&*first.name, &*second.name), ("2026-11-27-030000", "2026-11-27-030000-2"));
        assert_eq!(folder.list().unwrap(), [first.clone(), second.clone()]);
        let sealed = fs::read(folder.sealed(&first.name)).unwrap();
        assert!(!sealed.windows(5).any(|octets| octets == b"reeds"));
        let read = |folder: &SnapshotFolder, name: &str| {
            let mut text = Vec::new();
            folder.open(name, &ada)?.read_to_end(&mut text).map(|_| text).map_err(|source| {
                StoreError::File { doing: "reading", path: folder.sealed(name), source }
            })
        };
        assert_eq!(read(&folder, &first.name).unwrap(), marsh);
        assert!(matches!(
            folder.open(&first.name, &eve).err(),
            Some(StoreError::WrongIdentity { .. })
        ));
        // One that was cut or altered is never taken for a whole one.
        fs::write(folder.sealed(&second.name), &sealed[..sealed.len() - 1]).unwrap();
        assert!(read(&folder, &second.name).is_err());
        let other = SnapshotFolder::at(&dir.path().join("copies"));
        folder.copy(&first, &other).unwrap();
        folder.forget(&first.name).unwrap();
        folder.forget(&first.name).unwrap();
        assert_eq!(folder.list().unwrap(), [second]);
        assert_eq!(other.list().unwrap(), std::slice::from_ref(&first));
        assert_eq!(read(&other, &first.name).unwrap(), marsh);
    }

    #[test]
    fn what_was_cut_off_is_swept_and_never_listed() {
        let dir = tempfile::tempdir().unwrap();
        let folder = SnapshotFolder::at(dir.path());
        let ada = Strongbox::fleeting();
        fs::write(dir.path().join(".half-x"), "half").unwrap();
        fs::write(dir.path().join("2026-11-27-010000.sealed"), "no record").unwrap();
        let mut half = folder.begin(&[ada.recipient()]).unwrap();
        half.write_all(b"begun").unwrap();
        drop(half);
        let whole = take(&folder, b"whole", &ada);
        assert_eq!(folder.list().unwrap(), std::slice::from_ref(&whole));
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2, "a file and its record");
        fs::write(dir.path().join("x.json"), "{").unwrap();
        assert!(folder.list().is_err(), "what cannot be read is no gap");
    }
}
