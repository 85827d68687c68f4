//! Reaching hosts.
//!
//! A [`Reach`] carries out what the engine decides. There are two: [`Hosts`] for real hosts over
//! the person's own OpenSSH, and [`Rehearsal`] for simulated ones on virtual time. [`run`] feeds the
//! engine with what a reach reports; it is the same for both, and so are the events that a view gets.

mod access;
mod api;
mod drill;
mod etcd;
mod hosts;
mod probe;
mod quorum;
mod reach;
mod registry;
mod rehearsal;
mod runner;
mod save;
mod ssh_hosts;
mod trial;
mod verify;

pub use access::{Access, Stream};
pub use api::{ApiClient, ApiError, ApiResult, FIELD_MANAGER, in_waves};
pub use drill::{Conduct, Ground, Stage, Witnessed, conduct};
pub use hosts::{
    ANSWERS, Broken, Carrier, Connection, Deadlines, Defragmented, DefragmentedMember, Field, Hope,
    Hosts, NotOpened, OpenSsh, Places, Process, Target, answer,
};
pub use probe::{NAMESPACE, Probe};
pub use quorum::{MemberAnswer, judge};
pub use reach::{Carried, Contents, Progress, Reach, SnapshotFile};
pub use registry::Registry;
pub use rehearsal::{Fault, Rehearsal, RehearsedField, Sighted, WindowsMachine, World};
pub use runner::{RunEvent, run};
pub use save::{check_stream, check_whole};
pub use ssh_hosts::{SshHost, ssh_hosts, ssh_path};
pub use trial::{EtcdPrograms, try_snapshot};
pub use verify::{CHECKS, FromHost, NOT_EVERYWHERE, Pushing, Server, Tried, Verification, verify};
