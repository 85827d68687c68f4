//! The cluster file: the only thing that a person edits.
//!
//! [`read`] turns its text into a [`Cluster`] and a list of [`Finding`]s, reporting every mistake at
//! once with the place where it stands. After that, bad values cannot be represented: names,
//! addresses, ranges and versions have types of their own. [`Topology`] says who does what and how
//! many losses each layer survives; [`draft`] writes a new file from nothing but addresses.

mod address;
mod check;
mod draft;
mod finding;
mod model;
mod names;
mod parse;
mod pattern;
mod reader;
mod topology;

pub use address::{Endpoint, EndpointHost, subnets_in};
pub use check::MADE_UP_NAME;
use draft::made_up_name;
pub use draft::{DraftError, DraftHost, draft, draft_hosts};
pub use finding::{Finding, Grade};
pub use model::{
    Balancers, Certificates, Cluster, Components, ControlPlane, Etcd, Host, Login, Network, PodsBy,
    Role, Settings, Signer, Workers,
};
pub use names::{ClusterName, HostName, NameError, Version};
pub use parse::{Reading, read};
pub use topology::{Layer, Tolerance, Topology};
