use std::fmt;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::StoreError;

/// One change in a transaction.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Write a record, replacing an older one.
    Put {
        /// Kind of record.
        kind: &'static str,
        /// Its key.
        key: String,
        /// Its value.
        value: Vec<u8>,
    },
    /// Take a record out.
    Remove {
        /// Kind of record.
        kind: &'static str,
        /// Its key.
        key: String,
    },
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
    fn get(&self, kind: &'static str, key: &str) -> Result<Option<Vec<u8>>, StoreError>;

    /// All records of a kind, by key.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn list(&self, kind: &'static str) -> Result<Vec<(String, Vec<u8>)>, StoreError>;

    /// Makes all changes, or none.
    ///
    /// # Errors
    /// When the store cannot be written.
    fn write(&mut self, changes: &[Change]) -> Result<(), StoreError>;

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
