use std::fmt;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::StoreError;

/// A record as read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stored {
    /// Its value.
    pub value: Vec<u8>,
    /// How often the record of this kind and key was written, its removals included: it grows with
    /// every change.
    pub revision: u64,
}

/// Over what a change may be written (compare and swap).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Over {
    /// Over whatever stands there.
    Whatever,
    /// Only where nothing stands.
    Nothing,
    /// Only over the record that was read at this revision.
    Revision(u64),
}

/// One change in a transaction.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// Kind of record.
    pub kind: &'static str,
    /// Its key.
    pub key: String,
    /// Its new value; `None` takes it out.
    pub value: Option<Vec<u8>>,
    /// Over what it may be written.
    pub over: Over,
}

impl Change {
    /// Writes a record, replacing an older one.
    pub fn put(kind: &'static str, key: impl Into<String>, value: Vec<u8>) -> Self {
        Self { kind, key: key.into(), value: Some(value), over: Over::Whatever }
    }

    /// Takes a record out.
    pub fn remove(kind: &'static str, key: impl Into<String>) -> Self {
        Self { kind, key: key.into(), value: None, over: Over::Whatever }
    }
}

/// Who holds the lock: enough to tell whether that process is still alive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LockHolder {
    /// The person's login name.
    pub user: String,
    /// The workstation.
    pub host: String,
    /// Process id there.
    pub pid: u32,
    /// When that process started, in the kernel's clock ticks: tells a reused process id.
    pub started: u64,
}

impl fmt::Display for LockHolder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} on {} (process {})", self.user, self.host, self.pid)
    }
}

/// Where records live. Small on purpose: another home for them has to do just this.
pub trait Records: Send {
    /// The record of that kind and key.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn get(&self, kind: &'static str, key: &str) -> Result<Option<Stored>, StoreError>;

    /// All records of a kind, by key.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn list(&self, kind: &'static str) -> Result<Vec<(String, Stored)>, StoreError>;

    /// Makes all changes, or none; the revisions that the records then have, in order. What was written
    /// outlasts a power cut.
    ///
    /// # Errors
    /// [`StoreError::Overtaken`] when a record is not what the change was made over,
    /// [`StoreError::LockLost`] when the lock that was taken through these records is another's by now,
    /// and when the store cannot be written.
    fn write(&mut self, changes: &[Change]) -> Result<Vec<u64>, StoreError>;

    /// Writes what only lies over another store into that store; for any other there is nothing to do.
    ///
    /// # Errors
    /// As [`Records::write`]; nothing is written then.
    fn keep(&mut self) -> Result<(), StoreError> {
        Ok(())
    }

    /// Appends an event to a run's journal.
    ///
    /// # Errors
    /// When the store cannot be written.
    fn append(&mut self, run: u64, at: Timestamp, event: &str) -> Result<(), StoreError>;

    /// A run's journal, oldest first.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn events(&self, run: u64) -> Result<Vec<(Timestamp, String)>, StoreError>;

    /// Takes the lock until `until`, or renews it.
    ///
    /// A lock whose time is over, or whose process is gone, is taken over.
    ///
    /// # Errors
    /// [`StoreError::Locked`] when another holder has it.
    fn lock(
        &mut self,
        holder: &LockHolder,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<(), StoreError>;

    /// Lets the lock go, if `holder` has it.
    ///
    /// # Errors
    /// When the store cannot be written.
    fn unlock(&mut self, holder: &LockHolder) -> Result<(), StoreError>;
}
