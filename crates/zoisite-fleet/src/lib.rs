//! Reaching hosts.
//!
//! A [`Fleet`] carries out what the engine decides. There are two: [`SshFleet`] for real hosts over
//! the person's own OpenSSH, and [`Rehearsal`] for simulated ones on virtual time. [`run`] feeds the
//! engine with what a fleet reports; it is the same for both, and so are the events that a view gets.

mod api;
mod etcd;
mod fleet;
mod quorum;
mod rehearsal;
mod runner;
mod ssh;
mod verify;

pub use api::{ApiAccess, ApiClient, ApiError, ApiResult, FIELD_MANAGER};
pub use etcd::EtcdAccess;
pub use fleet::{Contents, Fleet, Progress};
pub use quorum::{MemberAnswer, judge};
pub use rehearsal::{Fault, Rehearsal, World};
pub use runner::{RunEvent, run};
pub use ssh::{Places, SshFleet, SshTarget};
pub use verify::{CHECKS, Tried, Verification, verify};
