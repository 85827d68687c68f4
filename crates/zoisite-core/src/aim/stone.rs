//! A stepping stone: which change a stage makes, who the members are then, and what is touched.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::cluster::{Cluster, HostName};
use crate::pki::{AtRestStage, TrustStage};

/// What is recorded of a cluster's members.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Records {
    /// Those that this program made, or was about to make, with the URL at which the others dial each.
    pub members: BTreeMap<HostName, String>,
    /// Those that were taken out, and of which something may be left on their hosts.
    pub left: BTreeSet<HostName>,
    /// The snapshot that is being put back, from a person's word until the quorum made of it was proven.
    pub restoring: Option<Restoring>,
    /// What is to be done next of a key that is replaced, by which secrets are encrypted in etcd.
    pub at_rest: Option<AtRestStage>,
    /// What is to be done next of an authority that is replaced, or of the key that signs tokens.
    pub trust: Option<TrustStage>,
    /// Hosts that were looked at and whose key for the mesh is not known.
    pub keyless: BTreeSet<HostName>,
    /// Offline hosts and that may hold something else than is wanted now of whom nodes believe.
    pub unbrought: BTreeSet<HostName>,
    /// Hosts that left the file and were not retired.
    pub departed: BTreeSet<HostName>,
    /// Hosts that hold an API server's certificate and are no control plane of the file's (any more).
    pub old_control_planes: BTreeSet<HostName>,
}

/// A snapshot that is being put back: members begin another quorum with it, together, and others learn from them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restoring {
    /// What the snapshot is called.
    pub snapshot: String,
    /// SHA-256 of its stream, in hexadecimal.
    pub sha256: String,
    /// The hosts whose members begin with it.
    pub hosts: BTreeSet<HostName>,
    /// Counts the quorums that the cluster had, the one that comes of it among them.
    pub epoch: u32,
    /// Of which of them the snapshot is.
    pub of_epoch: u32,
    /// Machines of which a person said that they are gone for good: nothing of theirs serves any more.
    #[serde(default)]
    pub lost: BTreeSet<HostName>,
}

impl Records {
    /// What is recorded once a change was made.
    pub fn after(&self, arm: &Arm) -> Self {
        let mut next = self.clone();
        match arm {
            Arm::Learn { host, url, .. } | Arm::Move { host, url, .. } => {
                next.members.insert(host.clone(), url.clone());
                next.left.remove(host);
            }
            Arm::Remove { who, .. } | Arm::Uninstall { who, .. } => {
                if let Ok(host) = HostName::new(who)
                    && next.members.remove(&host).is_some()
                {
                    next.left.insert(host);
                }
            }
            Arm::Aside { host } => {
                next.left.remove(host);
            }
            Arm::Restore { members, .. } => {
                let all = std::mem::replace(&mut next.members, members.clone());
                next.left.extend(all.into_keys().filter(|host| !members.contains_key(host)));
                next.left.retain(|host| !members.contains_key(host));
                next.restoring = None;
            }
            Arm::AcceptKey { key } => next.at_rest = Some(AtRestStage::Rewrite(key.clone())),
            Arm::RewriteBy { .. } => next.at_rest = None,
            Arm::Trust { stage } => next.trust = stage.next(),
            Arm::Mesh { .. } => next.keyless.clear(),
            Arm::File | Arm::Fix | Arm::Promote { .. } => {}
        }
        next
    }
}

/// What the members are at the end of a stage, and during it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EtcdAim {
    /// Hosts of the file that hold a member, and where the others dial each.
    pub members: BTreeMap<HostName, String>,
    /// What a member without data is told of all members, by name and URL; `None` while they begin together.
    pub initial: Option<Vec<(String, String)>>,
    /// Whom API servers dial.
    pub dialled: Vec<HostName>,
}

impl EtcdAim {
    /// Whether hosts must hold the same for it. In which order a member that begins is told of the others says nothing.
    pub fn is_like(&self, other: &Self) -> bool {
        let told = |aim: &Self| aim.initial.as_ref().map(|all| BTreeSet::from_iter(all.clone()));
        self.members == other.members && self.dialled == other.dialled && told(self) == told(other)
    }
}

/// Which change a stage makes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Arm {
    /// Everything else that the file says: the last stage.
    File,
    /// Have hosts make their keys for the mesh, whose public halves the others are then told.
    Mesh {
        /// Whose are not known yet.
        hosts: BTreeSet<HostName>,
    },
    /// Bring members back that do not serve.
    Fix,
    /// Let a host's member in, without a vote.
    Learn {
        /// The host.
        host: HostName,
        /// Where the others will dial it.
        url: String,
        /// It holds data of a membership that is over: that is moved aside.
        old_data: bool,
    },
    /// Give a learner its vote, once it has everything.
    Promote {
        /// The host.
        host: HostName,
        /// Its id.
        id: String,
    },
    /// Take a learner out again that this program let in and the file does not name any more.
    Uninstall {
        /// Its id.
        id: String,
        /// What people call it.
        who: String,
    },
    /// Take a voter out.
    Remove {
        /// Its id.
        id: String,
        /// What people call it.
        who: String,
        /// Why.
        why: Why,
    },
    /// Have the others dial a member elsewhere.
    Move {
        /// The host.
        host: HostName,
        /// Its id.
        id: String,
        /// Where they dialled it.
        from: String,
        /// Where they will.
        url: String,
    },
    /// Stop what is left of a member that was taken out, and move its data aside.
    Aside {
        /// The host.
        host: HostName,
    },
    /// Have every API server accept another key, by which secrets will be encrypted in etcd.
    AcceptKey {
        /// Its name.
        key: String,
    },
    /// Have every API server encrypt by that key, then everything written again that is encrypted by another one.
    RewriteBy {
        /// Its name.
        key: String,
    },
    /// Everything that the file says, in a stage of the replacement of an authority, or of the key that signs tokens.
    Trust {
        /// Which one.
        stage: TrustStage,
    },
    /// Stop everything that dials etcd, move every member's data aside, and begin another quorum from a snapshot.
    Restore {
        /// The members that begin it, and where each will be dialled.
        members: BTreeMap<HostName, String>,
        /// Which snapshot.
        from: Restoring,
    },
}

/// Why a voter goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// The file does not name it any more, and it serves.
    Unwanted,
    /// The file does not name it any more, and it does not serve.
    Dead,
    /// Its host has lost its data.
    Lost,
}

impl Arm {
    /// Whether it changes who is a member, or where: a person must want it.
    pub fn changes_membership(&self) -> bool {
        match self {
            Self::File | Self::Mesh { .. } | Self::Fix | Self::Aside { .. } => false,
            Self::AcceptKey { .. } | Self::RewriteBy { .. } | Self::Trust { .. } => false,
            Self::Learn { .. } | Self::Promote { .. } | Self::Uninstall { .. } => true,
            Self::Remove { .. } | Self::Move { .. } | Self::Restore { .. } => true,
        }
    }

    /// Whether nothing comes after it.
    pub fn is_last(&self) -> bool {
        *self == Self::File
    }

    /// What of a key's replacement holds once this is done.
    pub fn at_rest(&self) -> Option<AtRestStage> {
        match self {
            Self::AcceptKey { key } => Some(AtRestStage::Accept(key.clone())),
            Self::RewriteBy { key } => Some(AtRestStage::Rewrite(key.clone())),
            _ => None,
        }
    }

    /// The stage of an authority's replacement that holds once this is done.
    pub fn trust(&self) -> Option<TrustStage> {
        match self {
            Self::Trust { stage } => Some(*stage),
            _ => None,
        }
    }

    /// Whether it counts only where it holds on every host.
    pub fn is_a_stage(&self) -> bool {
        self.at_rest().is_some() || self.trust().is_some()
    }

    /// Whether it takes something back that a run began: the run ends with it.
    pub fn takes_back(&self) -> bool {
        matches!(self, Self::Uninstall { .. })
    }
}

impl fmt::Display for Arm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::File => f.write_str("everything else that the file says"),
            Self::Mesh { hosts } => {
                let hosts: Vec<&str> = hosts.iter().map(HostName::as_str).collect();
                write!(f, "have {} make their keys for the mesh", hosts.join(", "))
            }
            Self::Fix => f.write_str("bring members back that do not serve"),
            Self::Learn { host, .. } => write!(f, "let {host} into the quorum, without a vote"),
            Self::Promote { host, .. } => write!(f, "give {host} its vote, once it has everything"),
            Self::Uninstall { who, .. } => write!(f, "take the learner {who} back"),
            Self::Remove { who, why: Why::Unwanted, .. } => {
                write!(f, "take {who} out of the quorum")
            }
            Self::Remove { who, why: Why::Dead, .. } => {
                write!(f, "take {who}, which is not seen to serve, out of the quorum")
            }
            Self::Remove { who, why: Why::Lost, .. } => {
                write!(f, "take {who}, whose data is gone, out of the quorum")
            }
            Self::Move { host, url, .. } => write!(f, "have the others reach {host} at {url}"),
            Self::Aside { host } => write!(f, "stop what is left of the member on {host}"),
            Self::AcceptKey { key } => {
                write!(f, "have every API server accept {key}, by which secrets will be encrypted")
            }
            Self::RewriteBy { key } => {
                write!(f, "have every secret in etcd written again by {key}")
            }
            Self::Trust { stage: TrustStage::Believe(kind) } => {
                write!(
                    f,
                    "have every host believe another {kind} authority beside the one that signs"
                )
            }
            Self::Trust { stage: TrustStage::SignBy(kind) } => {
                write!(f, "have everything signed by the other {kind} authority")
            }
            Self::Trust { stage: TrustStage::Forget(kind) } => {
                write!(f, "stop trusting the old {kind} authority everywhere")
            }
            Self::Trust { stage: TrustStage::AcceptTokens } => {
                f.write_str("have every API server accept another key for service accounts' tokens")
            }
            Self::Trust { stage: TrustStage::SignTokens } => {
                f.write_str("have every API server sign service accounts' tokens by the other key")
            }
            Self::Restore { from, .. } => {
                let hosts: Vec<&str> = from.hosts.iter().map(HostName::as_str).collect();
                write!(f, "put snapshot {} back on {}", from.snapshot, hosts.join(", "))
            }
        }
    }
}

/// What a stage compares and touches.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Scope {
    /// Everything that the file says.
    Whole,
    /// Members on these hosts, and how machines are prepared.
    Members(BTreeSet<HostName>),
    /// API servers, and how machines are prepared.
    Dialling,
    /// The mesh, and how machines are prepared.
    Mesh,
}

/// Something that the file wants and that waits, neither compared nor touched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// The host that it is about.
    pub host: Option<HostName>,
    /// What waits.
    pub what: String,
    /// For what it waits.
    pub why: String,
    /// What a person can do.
    pub fix: String,
}

impl fmt::Display for Held {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} waits: {}", self.what, self.why)
    }
}

/// A stepping stone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Aim {
    /// Which change this stage makes.
    pub arm: Arm,
    /// The members.
    pub etcd: EtcdAim,
    /// What is compared and touched.
    pub scope: Scope,
    /// What waits though the file wants it.
    pub held: Vec<Held>,
}

impl Aim {
    /// The aim of a cluster that begins, or whose members are those of the file.
    pub fn of_file(cluster: &Cluster, wanted: &BTreeMap<HostName, String>) -> Self {
        let etcd = EtcdAim {
            members: wanted.clone(),
            initial: None,
            dialled: cluster.etcd.members.clone(),
        };
        Self { arm: Arm::File, etcd, scope: Scope::Whole, held: Vec::new() }
    }

    /// The cluster file, with the members of this stage.
    pub fn cluster(&self, file: &Cluster) -> Cluster {
        let mut cluster = file.clone();
        let hosts = cluster.hosts.iter().map(|host| &host.name);
        let members = hosts.filter(|host| self.etcd.members.contains_key(*host)).cloned();
        // In the order of the file's own list, then of its hosts.
        let mut members: Vec<HostName> = members.collect();
        let order = |host: &HostName| file.etcd.members.iter().position(|known| known == host);
        members.sort_by_key(|host| order(host).unwrap_or(usize::MAX));
        cluster.etcd.members = members;
        cluster
    }
}
