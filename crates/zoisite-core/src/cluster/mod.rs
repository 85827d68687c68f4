//! The cluster file: the only thing that a person edits.
//!
//! [`read`] turns its text into a [`Cluster`] and a list of [`Finding`]s, reporting every mistake at
//! once with the place where it stands. After that, bad values cannot be represented: names,
//! addresses, ranges and versions have types of their own. [`Topology`] says who does what and how
//! many losses each layer survives; [`draft`] writes a new file from nothing but addresses.

mod address;
mod address_plan;
mod check;
mod draft;
mod finding;
mod host;
mod image;
mod inventory;
mod losses;
mod mesh;
mod model;
mod names;
mod network_files;
mod own_settings;
mod parse;
mod pattern;
mod policy;
mod reader;
mod sizes;
mod topology;
mod words;

pub use address::{Endpoint, EndpointHost, Mac, subnets_in};
pub use address_plan::{PlannedRange, RangeUse, address_plan};
pub use check::MADE_UP_NAME;
pub use draft::{Draft, DraftError, DraftHost, brief, draft, draft_hosts};
pub use finding::{Finding, Grade};
pub use host::{Host, Login, Place, Windows};
pub use image::{ImageName, ImageSource};
pub use inventory::{Inventory, inventory};
pub use losses::{Left, Loss, Lost, losses};
pub(crate) use model::folder_of;
pub use model::{
    Cluster, Components, ControlPlane, DrillLimits, ETCD_QUOTA, Etcd, FirewallRules, FirstBoot,
    HostNames, LoadBalancers, Mesh, Monitoring, Names, Network, NodeSettings, PodsBy, Preparation,
    Programs, Registry, RegistryMirror, Role, ServicesBy, Settings, Signer, Snapshots, TimeService,
    Vrrp, Workers,
};
pub use names::{ClusterName, HostName, NameError, Version, dns_label};
pub use network_files::{NetworkFilesForm, NetworkFilesText, network_files};
#[cfg(test)]
pub(crate) use own_settings::{API_SERVER_OWN, CONTROLLER_MANAGER_OWN};
#[cfg(test)]
pub(crate) use parse::COMPONENT_SOURCES;
pub use parse::{Reading, read};
pub use pattern::glob as matches;
pub use policy::{AuthorityPolicy, Certificates, Hierarchy, KeysMade, ProfilePolicy};
pub use sizes::{Need, Size, size_of, sizes};
pub use topology::{Fewest, Layer, Tolerance, Topology};
