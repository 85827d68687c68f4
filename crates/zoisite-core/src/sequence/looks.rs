//! What was seen before a plan is made: hosts, and what the API shows.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::cluster::HostName;
use crate::diagnosis::Trouble;
use crate::holdings::{NodePut, Taint};
use crate::pki::NodeRequest;
use crate::script::Observed;

/// What looking at a host gave.
pub type Look = Result<Observed, Trouble>;

/// What looking at every host gave.
pub type Looks = BTreeMap<HostName, Look>;

/// A node object, as the API shows it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeFacts {
    /// Whether its condition `Ready` holds.
    pub ready: bool,
    /// Why not, in the kubelet's words.
    pub why: String,
    /// The kubelet's version.
    pub version: String,
    /// The machine id that its kubelet reports.
    pub machine: String,
    /// When it registered.
    pub since: String,
    /// Its pod subnets.
    pub subnets: Vec<ipnet::IpNet>,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// Its taints.
    pub taints: Vec<Taint>,
    /// What of these Zoisite put there, as the object itself remembers.
    pub put: Option<NodePut>,
}

/// What the API shows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ApiObserved {
    /// The server's version.
    pub version: String,
    /// Nodes, by name.
    pub nodes: BTreeMap<String, NodeFacts>,
    /// Requests for kubelets' client certificates that wait for an answer.
    pub requests: Vec<NodeRequest>,
    /// Wanted objects that are not as wanted: their titles.
    pub differing: BTreeSet<String>,
    /// Wanted objects of which it cannot be said whether they are as wanted: title, and why.
    pub uncompared: BTreeMap<String, String>,
    /// Workloads that do not run as wanted, and why.
    pub waiting: BTreeMap<String, String>,
    /// The version of the DNS server that runs.
    pub dns: String,
    /// Ids of the join tokens that are published.
    pub tokens: BTreeSet<String>,
    /// Images that the cluster's own registry is to hold and does not.
    pub lacking: BTreeSet<String>,
    /// Why it could not be asked, where it could not.
    pub registry_silent: Option<String>,
}

/// What asking the API gave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ApiLook {
    /// No API server runs yet, or none was asked for.
    Absent,
    /// It answered.
    Answered(Box<ApiObserved>),
    /// API servers run, and none answers.
    Silent(Trouble),
}

impl ApiLook {
    /// What it showed.
    pub fn answered(&self) -> Option<&ApiObserved> {
        match self {
            Self::Answered(observed) => Some(observed),
            Self::Absent | Self::Silent(_) => None,
        }
    }
}
