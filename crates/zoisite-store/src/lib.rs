//! Records, locks and secrets.
//!
//! The state of a cluster lives in a folder `.zoisite/` beside its cluster file: one SQLite file
//! behind the trait [`Records`]. Secrets are encrypted by the [`Strongbox`] before they reach it.
//! [`trust`] issues what is due and records it in the same transaction. What is stored here is intent
//! and history; what is true is found by looking at the hosts.

mod adopt;
pub mod asked;
pub mod at_rest;
pub mod authorities;
mod backup;
mod error;
pub mod first_boot;
pub mod join_files;
mod keys;
mod overlay;
mod records;
mod root;
mod snapshots;
mod sqlite;
mod state;
mod strongbox;
pub mod token_key;
pub mod trust;
pub mod unnamed;

pub use adopt::{Adopted, adopt};
pub use backup::{Backup, BackupHeading, BackupOf, read_backup, write_backup};
pub use error::StoreError;
pub use keys::FreshKeys;
pub use overlay::Overlay;
pub use records::{Change, LockHolder, Over, Records, Stored};
pub use snapshots::{SnapshotFolder, Writing};
pub use sqlite::{FORMAT, SqliteRecords};
pub use state::{Met, RunRecord, State, StoredEvent};
pub use strongbox::{Passphrase, Strongbox, key_of};

pub(crate) use zoisite_core::pki::sha256;

/// Puts a file that was written into its place in one instant, so that it outlasts a power cut; what stood there is
/// replaced.
pub(crate) fn put_in_place(
    file: tempfile::NamedTempFile,
    path: &std::path::Path,
) -> std::io::Result<()> {
    file.as_file().sync_all()?;
    file.persist(path).map_err(|error| error.error)?;
    sync_folder(folder_of(path))
}

/// A new file beside `path`, which takes its name once it is whole; `mode` is who may read it. What runs that were
/// killed left of the same file is removed.
///
/// # Errors
/// When nothing can be written there.
pub fn begin_file(path: &std::path::Path, mode: u32) -> std::io::Result<tempfile::NamedTempFile> {
    use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
    let folder = folder_of(path);
    let prefix = format!(".half-{}-", path.file_name().unwrap_or_default().to_string_lossy());
    for left in std::fs::read_dir(folder)?.flatten() {
        let half = left.file_name().to_string_lossy().starts_with(&prefix);
        // Whoever writes one holds its lock.
        if half && std::fs::File::open(left.path()).is_ok_and(|file| file.try_lock().is_ok()) {
            let _ = std::fs::remove_file(left.path());
        }
    }
    loop {
        let permissions = std::fs::Permissions::from_mode(mode);
        let mut builder = tempfile::Builder::new();
        let file = builder.prefix(&prefix).permissions(permissions).tempfile_in(folder)?;
        // Some file systems have no locks: there it is left to whoever looks.
        let _ = file.as_file().try_lock();
        // Another run may have taken it for one that was left, before it was locked.
        if file.as_file().metadata()?.nlink() > 0 {
            return Ok(file);
        }
    }
}

/// The folder that a file is in.
pub fn folder_of(file: &std::path::Path) -> &std::path::Path {
    match file.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => std::path::Path::new("."),
    }
}

/// Makes a folder that only its owner enters, and those above it; one that is there stays as it is.
///
/// # Errors
/// When it cannot be made.
pub fn private_folder(folder: &std::path::Path) -> std::io::Result<()> {
    use std::os::unix::fs::DirBuilderExt as _;
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)
}

/// Makes what was made or replaced in a folder outlast a power cut.
pub(crate) fn sync_folder(folder: &std::path::Path) -> std::io::Result<()> {
    std::fs::File::open(folder)?.sync_all()
}
