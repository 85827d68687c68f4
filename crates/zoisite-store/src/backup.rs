//! A backup of a whole state in one sealed file: what is lost with a workstation, brought back from elsewhere.

use std::fs;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::{SqliteRecords, StoreError, Strongbox, private_folder};

/// The form of a backup that this program writes.
const FORM: u32 = 1;
/// The first words of a backup, once it is opened.
const BEGINS: &str = "zoisite backup";
/// The largest heading that is read, in octets.
const HEADING: usize = 1 << 20;
/// The store itself.
const STORE: &str = "store.sqlite";

/// What a backup says of itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BackupHeading {
    form: u32,
    /// The cluster's name.
    pub name: String,
    /// The cluster's own identity; empty where it has none yet.
    pub cluster: String,
    /// When it was made.
    pub at: Timestamp,
    /// The last run that it knows, by generation.
    pub last_run: u64,
    /// What is in it.
    files: Vec<Copied>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Copied {
    name: String,
    octets: usize,
    sha256: String,
}

/// A backup that was opened: every octet of it was held against its checksum.
#[derive(Debug)]
pub struct Backup {
    /// What it says of itself.
    pub heading: BackupHeading,
    store: Vec<u8>,
    files: Vec<(String, Vec<u8>)>,
}

/// Whose state is copied, and when.
#[derive(Clone, Debug)]
pub struct BackupOf {
    /// The cluster's name.
    pub name: String,
    /// The cluster's own identity; empty where it has none yet.
    pub cluster: String,
    /// Now.
    pub at: Timestamp,
    /// The last run, by generation.
    pub last_run: u64,
}

/// Writes a store, and files beside it, into one file (0600) that `recipients` can open; whole or not at all. What an
/// older backup of that name held is replaced.
///
/// # Errors
/// When the store cannot be read, or the backup cannot be written.
pub fn write_backup(
    store: &SqliteRecords,
    files: &[(String, Vec<u8>)],
    of: &BackupOf,
    recipients: &[String],
    into: &Path,
) -> Result<BackupHeading, StoreError> {
    let failed = |source| StoreError::File { doing: "writing", path: into.to_owned(), source };
    let all = std::iter::once((STORE.to_owned(), store.dump()?)).chain(files.iter().cloned());
    let all: Vec<(String, Vec<u8>)> = all.collect();
    let copied = |(name, text): &(String, Vec<u8>)| Copied {
        name: name.clone(),
        octets: text.len(),
        sha256: crate::sha256(text),
    };
    let heading = BackupHeading {
        form: FORM,
        name: of.name.clone(),
        cluster: of.cluster.clone(),
        at: of.at,
        last_run: of.last_run,
        files: all.iter().map(copied).collect(),
    };
    let line = serde_json::to_string(&heading).map_err(|error| failed(error.into()))?;
    let file = tempfile::NamedTempFile::new_in(crate::folder_of(into)).map_err(failed)?;
    let mut sealing = Strongbox::encryptor(recipients)?.wrap_output(file).map_err(failed)?;
    sealing.write_all(format!("{BEGINS}\n{line}\n").as_bytes()).map_err(failed)?;
    for (_, text) in &all {
        sealing.write_all(text).map_err(failed)?;
    }
    let file = sealing.finish().map_err(failed)?;
    crate::put_in_place(file, into).map_err(failed)?;
    Ok(heading)
}

/// Opens a backup and holds all of it against its checksums.
///
/// # Errors
/// When it cannot be read, is sealed for somebody else, is no backup, or is damaged.
pub fn read_backup(path: &Path, strongbox: &Strongbox) -> Result<Backup, StoreError> {
    let failed = |source| StoreError::File { doing: "reading", path: path.to_owned(), source };
    let damaged = |why: &str| StoreError::Unsound { path: path.to_owned(), why: why.to_owned() };
    let file = std::io::BufReader::new(fs::File::open(path).map_err(failed)?);
    let mut text = Vec::new();
    let read = strongbox.reader(file, path)?.read_to_end(&mut text);
    read.map_err(|error| damaged(&error.to_string()))?;
    let mut lines = text.splitn(3, |octet| *octet == b'\n');
    let (Some(begins), Some(line), Some(rest)) = (lines.next(), lines.next(), lines.next()) else {
        return Err(damaged("it is not a backup of a state"));
    };
    if begins != BEGINS.as_bytes() || line.len() > HEADING {
        return Err(damaged("it is not a backup of a state"));
    }
    let heading: BackupHeading =
        serde_json::from_slice(line).map_err(|error| damaged(&error.to_string()))?;
    if heading.form > FORM {
        return Err(damaged("a newer program made it"));
    }
    let (mut rest, mut store, mut files) = (rest, None, Vec::new());
    for copied in &heading.files {
        let (own, after) =
            rest.split_at_checked(copied.octets).ok_or_else(|| damaged("it is cut"))?;
        if crate::sha256(own) != copied.sha256 {
            return Err(damaged("what is in it is not what it says"));
        }
        rest = after;
        match copied.name.as_str() {
            STORE => store = Some(own.to_vec()),
            name => files.push((name.to_owned(), own.to_vec())),
        }
    }
    let store = store.ok_or_else(|| damaged("there is no store in it"))?;
    Ok(Backup { heading, store, files })
}

impl Backup {
    /// A file that was beside the store.
    pub fn file(&self, name: &str) -> Option<&[u8]> {
        self.files.iter().find(|(known, _)| known == name).map(|(_, text)| text.as_slice())
    }

    /// Makes the store of it in a folder that holds none, whole or not at all; that this program reads it is seen
    /// before.
    ///
    /// # Errors
    /// When there is one, it cannot be written, or this program does not read it.
    pub fn restore(&self, folder: &Path) -> Result<(), StoreError> {
        let path = folder.join(STORE);
        let failed = |source| StoreError::File { doing: "writing", path: path.clone(), source };
        private_folder(folder).map_err(failed)?;
        let stage =
            tempfile::Builder::new().prefix("restoring-").tempdir_in(folder).map_err(failed)?;
        let staged = stage.path().join(STORE);
        let mut new = fs::OpenOptions::new();
        let mut file =
            new.write(true).create_new(true).mode(0o600).open(&staged).map_err(failed)?;
        file.write_all(&self.store).and_then(|()| file.sync_all()).map_err(failed)?;
        drop(SqliteRecords::open(stage.path())?);
        // Never over one that is there.
        fs::hard_link(&staged, &path).map_err(failed)?;
        crate::sync_folder(folder).map_err(failed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::{Change, LockHolder, Records as _};

    fn holder() -> LockHolder {
        LockHolder { user: "ada".into(), host: "marsh".into(), pid: 1, started: 1 }
    }

    #[test]
    fn a_state_is_copied_while_it_is_used_and_brought_back_elsewhere() {
        let dir = tempfile::tempdir().unwrap();
        let mut store = SqliteRecords::open(&dir.path().join("here")).unwrap();
        let at: Timestamp = "2026-11-27T03:00:00Z".parse().unwrap();
        store.lock(&holder(), at, "2030-01-01T00:00:00Z".parse().unwrap()).unwrap();
        store.write(&[Change::put("meta", "cluster-id", b"c0ffee".to_vec())]).unwrap();
        let (ada, eve) = (Strongbox::fleeting(), Strongbox::fleeting());
        let path = dir.path().join("saltmarsh.backup");
        let of = BackupOf { name: "saltmarsh".into(), cluster: "c0ffee".into(), at, last_run: 7 };
        let files = [("zoisite.toml".to_owned(), b"[cluster]\n\n".to_vec())];
        let heading = write_backup(&store, &files, &of, &[ada.recipient()], &path).unwrap();
        let backup = read_backup(&path, &ada).unwrap();
        assert_eq!(backup.heading, heading);
        assert_eq!(backup.file("zoisite.toml"), Some(&b"[cluster]\n\n"[..]));
        let there = dir.path().join("there");
        backup.restore(&there).unwrap();
        let mut brought = SqliteRecords::open(&there).unwrap();
        assert_eq!(brought.get("meta", "cluster-id").unwrap().unwrap().value, b"c0ffee");
        // Whoever held the lock there does not hold it here.
        let other = LockHolder { user: "eve".into(), ..holder() };
        brought.lock(&other, at, "2026-11-27T04:00:00Z".parse().unwrap()).unwrap();
        assert!(backup.restore(&there).is_err(), "never over a state that is there");
        assert_eq!(
            fs::read_dir(&there)
                .unwrap()
                .filter(|entry| {
                    entry.as_ref().unwrap().file_name().to_string_lossy().starts_with("restoring-")
                })
                .count(),
            0
        );
        // For nobody else, and not where it was altered or cut anywhere.
        assert!(matches!(read_backup(&path, &eve), Err(StoreError::WrongIdentity { .. })));
        let whole = fs::read(&path).unwrap();
        for at in [0, 30, whole.len() / 2, whole.len() - 1] {
            let mut other = whole.clone();
            other[at] ^= 1;
            fs::write(&path, &other).unwrap();
            assert!(read_backup(&path, &ada).is_err(), "{at}");
            fs::write(&path, &whole[..at]).unwrap();
            assert!(read_backup(&path, &ada).is_err(), "{at}");
        }
        // Something that is sealed alike and is no backup.
        let sealed =
            Strongbox::seal(&zoisite_core::pki::Secret::new("marsh".into()), &[ada.recipient()]);
        fs::write(&path, sealed.unwrap()).unwrap();
        assert!(read_backup(&path, &ada).unwrap_err().to_string().contains("not a backup"));
    }
}
