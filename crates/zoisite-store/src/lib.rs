//! Records, locks and secrets.
//!
//! The state of a cluster lives in a folder `.zoisite/` beside its cluster file: one SQLite file
//! behind the trait [`Records`]. Secrets are encrypted by the [`Vault`] before they reach it.
//! [`trust`] issues what is due and records it in the same transaction. What is stored here is intent
//! and history; what is true is found by looking at the hosts.

mod error;
mod keys;
mod records;
mod sqlite;
mod state;
pub mod trust;
mod vault;

pub use error::StoreError;
pub use keys::FreshKeys;
pub use records::{Change, LockHolder, Records};
pub use sqlite::{FORMAT, SqliteRecords};
pub use state::{RunRecord, State, StoredEvent};
pub use vault::Vault;
