//! What hosts are like before anything is put on them: facts, what they mean for this cluster, how hosts differ
//! from one another and from the time before.
//!
//! [`survey_script`] asks a host in one round trip and [`Facts`] are read from its answer. [`judge`] holds them
//! against the cluster file: each [`SiteFinding`] has its reason and its fix, and is gone by itself once the
//! host is fixed, as nothing of it is remembered. Only facts are asked for that some finding, comparison or
//! default uses.

mod compare;
mod facts;
mod findings;
mod names;
mod script;

pub use compare::{Change, Differs, Group, changes, differences, groups};
pub use facts::{
    AddressFacts, Clock, Facts, Leftover, LinkFacts, Listening, NameServer, Named, PlaceFacts,
    Policy, RouteFacts, Times, Written, hosts_line,
};
pub use findings::{Fixer, SiteFinding, judge, unneeded};
pub(crate) use names::ALL_NAMES;
pub use names::{NameRow, Naming, names, names_to_ask};
pub use script::survey_script;
