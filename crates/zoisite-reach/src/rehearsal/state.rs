//! What simulated hosts are and hold, as data; what becomes of it stands in the files beside this one.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::net::IpAddr;
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::ApiObject;
use zoisite_core::item::Found;
use zoisite_core::pki::{NodeRequest, Secret, SecretRef};
use zoisite_core::script::{Observed, Operation};
use zoisite_core::sequence::NodeFacts;

/// Something that goes wrong in a rehearsal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// This program is killed when it is about to do the operation of this number (from 0, counted
    /// over the world's whole life).
    Killed {
        /// Number of the operation.
        operation: u64,
    },
    /// This program is killed when it is about to do the operation of this number, and the script that it had
    /// started goes on by itself.
    LeftRunning {
        /// Number of the operation.
        operation: u64,
        /// How many moments each of its operations takes.
        pace: u32,
    },
    /// The operation of this number is done, but its answer is lost; a script goes on by itself.
    AnswerLost {
        /// Number of the operation.
        operation: u64,
    },
    /// The operation of this number fails, once.
    Fails {
        /// Number of the operation.
        operation: u64,
    },
    /// A host loses its power, or has it again, just before the operation of this number.
    Power {
        /// Number of the operation.
        operation: u64,
        /// The host.
        host: HostName,
        /// Whether it has power from then on.
        on: bool,
    },
    /// A unit, or whichever is started, does not come up on a host, so many times.
    Refuses {
        /// The host.
        host: HostName,
        /// The unit; none means any.
        unit: Option<&'static str>,
        /// How many times more.
        times: u32,
    },
    /// Whatever goes to a host and back takes so much longer.
    Slow(HostName, Duration),
    /// Whatever takes time takes another time each time it is done: from half as long to four times, drawn from this number.
    Pace(u64),
    /// Two hosts do not reach each other.
    Cut(HostName, HostName),
    /// A host's disk is full.
    DiskFull(HostName),
    /// A host's disk is dead: nothing can be written to it.
    DiskDead(HostName),
    /// A host's clock is ahead, by so many milliseconds.
    ClockAhead(HostName, i64),
    /// What others write does not come through to a member, who hears them well enough otherwise.
    Lags(HostName),
    /// The first host dials the second in vain: a firewall lets nothing new through that way. Members of a quorum need one
    /// of both ways alone: each sends over connections that either has begun.
    Blocked(HostName, HostName),
    /// Just before the operation of this number a stranger asks for a host's certificate in its name, with a token that was
    /// made for another host.
    Forged {
        /// Number of the operation.
        operation: u64,
        /// The host in whose name it asks.
        host: HostName,
    },
}

/// A file on a simulated host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct SimFile {
    /// What it is compared by.
    pub sum: u64,
    pub text: String,
    pub owner: String,
    pub mode: u32,
}

/// A unit on a simulated host.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct SimUnit {
    pub(super) enabled: bool,
    /// The log with which it failed to start, when it did.
    pub(super) failed: Option<Vec<String>>,
    pub started: bool,
    /// For how many moments more it is on its way up.
    #[serde(skip)]
    pub(super) warming: u8,
    /// The program with which it was started.
    pub(super) program: Option<String>,
    /// Of an API server: the keys that it was started with for secrets in etcd, the one that encrypts first.
    #[serde(default)]
    pub(super) keys: Vec<String>,
    /// Of an API server: whom it takes for etcd, as it read it when it started.
    #[serde(default)]
    pub(super) believes: Option<SimFile>,
}

/// A simulated host.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct SimHost {
    pub address: IpAddr,
    pub up: bool,
    pub machine: String,
    /// Its architecture, as Go names it.
    #[serde(default = "usual_arch")]
    pub arch: String,
    pub(super) generation: u64,
    /// Items that need no more than to be there: users, folders, components, images…
    pub found: Found,
    pub files: BTreeMap<String, SimFile>,
    pub units: BTreeMap<String, SimUnit>,
    pub(super) pending: BTreeSet<String>,
    /// The data directory's content: what etcd wrote at its first start.
    pub data: Option<Member>,
    pub(super) stray: Option<String>,
    /// A member's data that was made from a snapshot and does not stand in its place yet, and where it is.
    #[serde(default)]
    pub(super) made: Option<(String, Member)>,
    /// The running etcd process.
    pub process: Option<Process>,
    /// At which operation it lost its power in the midst of a run, if it did.
    #[serde(default)]
    pub(super) lost: u64,
    /// Whether it leaves the virtual IP to others.
    #[serde(default)]
    pub(super) away: bool,
    /// What a look at the real one showed, where it began as that was.
    #[serde(skip)]
    pub(super) seen: Option<Box<Observed>>,
    /// Modules that its kernel has loaded.
    #[serde(default)]
    pub(super) loaded: BTreeSet<String>,
    /// Images that its registry holds, by name.
    #[serde(default)]
    pub(super) shelf: BTreeSet<String>,
}

/// Simulated hosts, and what goes wrong with them.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct World {
    /// What time it is, but for what clocks are off.
    #[serde(skip)]
    pub(super) clock: Timestamp,
    pub(super) hosts: BTreeMap<HostName, SimHost>,
    /// What the API holds; it lives in etcd.
    pub(super) api: SimApi,
    #[serde(skip)]
    pub(super) faults: Vec<Fault>,
    pub(super) operations: u64,
    /// How many times something took a time that was drawn.
    #[serde(skip)]
    pub(super) paced: u64,
    /// At which operation a quorum was proven last.
    #[serde(default)]
    pub(super) proved: u64,
    /// Scripts that go on after their program is gone.
    #[serde(skip)]
    pub(super) left: Vec<Left>,
    /// The machine that was touched first behind each host's address.
    #[serde(default)]
    pub(super) met: BTreeMap<HostName, String>,
    /// Runs that saved what etcd holds, by generation.
    #[serde(default)]
    pub(super) saved: BTreeSet<u64>,
    /// Rules that were broken, in words; empty unless the program is wrong.
    pub(super) broken: Vec<String>,
    /// Every write that etcd acknowledged, key and value, in order. A member's data holds the first so many of it.
    #[serde(default)]
    pub(super) acknowledged: Vec<(String, String)>,
    /// How many of those writes each snapshot holds, by its name.
    #[serde(default)]
    pub(super) snapshots: BTreeMap<String, usize>,
    /// Secrets that etcd holds, each with the key that encrypts it.
    #[serde(default)]
    pub(super) secrets: BTreeMap<String, String>,
    /// Those that each snapshot holds.
    #[serde(default)]
    pub(super) kept_secrets: BTreeMap<String, BTreeMap<String, String>>,
    /// Whether somebody writes all the while.
    #[serde(skip)]
    pub(super) under_load: bool,
    /// Whether it is judged that every client is believed (rule S14): not where somebody spoils whom hosts believe.
    #[serde(default)]
    pub(super) judges_trust: bool,
}

/// The rest of a script whose program is gone, or whose connection is.
#[derive(Clone, Debug)]
pub(super) struct Left {
    pub host: HostName,
    pub operations: VecDeque<Operation>,
    /// How many moments each of them takes, and how many are left of the next one.
    pub pace: (u32, u32),
    /// What it was given to put.
    pub secrets: Vec<(SecretRef, Secret)>,
}

/// What the API holds.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct SimApi {
    pub(super) objects: BTreeMap<String, ApiObject>,
    pub(super) nodes: BTreeMap<HostName, NodeFacts>,
    /// Published tokens: the whole text, by id.
    pub(super) tokens: BTreeMap<String, String>,
    /// Requests for kubelets' certificates without an answer yet.
    #[serde(default)]
    pub(super) requests: Vec<SimRequest>,
    /// How many requests there ever were, by which each has a name of its own.
    #[serde(default)]
    pub(super) asked: u64,
}

/// A request for a kubelet's certificate that waits.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct SimRequest {
    pub request: NodeRequest,
    /// The host that asks, and the key that it made; none where a stranger asks in its name.
    pub by: Option<(HostName, String)>,
}

/// Where a process finds what it shows of itself, and whom it trusts.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Papers {
    pub certificate: String,
    pub key: String,
    pub authority: String,
}

/// A running etcd process.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Process {
    /// Where it listens for the others.
    pub listens: String,
    /// What it shows other members, and whom it takes for one.
    #[serde(default)]
    pub peers: Papers,
    /// What it shows clients, and whom it serves.
    #[serde(default)]
    pub clients: Papers,
    /// It once reported ready; systemd then calls it active until it stops.
    pub was_ready: bool,
    /// Whom it takes for a member, and whom it serves, as it read them when it started (its own certificates it reads
    /// at every handshake); what stands on the disk where nobody saw it start.
    #[serde(default)]
    pub believes: Option<(SimFile, SimFile)>,
}

/// A member of the quorum, as one of them knows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Peer {
    pub id: u64,
    /// Of one that was added to others it is empty until it has started.
    pub name: String,
    /// Where the others dial it.
    pub url: String,
    /// It takes everything, and has no vote.
    pub learner: bool,
    /// It was heard of since: its name is known.
    pub started: bool,
}

/// A member, as its data directory knows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Member {
    pub id: u64,
    pub cluster_id: u64,
    /// All members, as far as this one has heard.
    pub peers: Vec<Peer>,
    /// How many of the acknowledged writes its data holds, from the first on.
    pub holds: usize,
    /// All members as they were before the last one but itself was taken out: a lone member's disk learns that it is
    /// alone only with the next write.
    #[serde(default)]
    pub unsettled: Option<Vec<Peer>>,
}

/// What hosts are where nothing else is said.
pub(super) fn usual_arch() -> String {
    "amd64".to_owned()
}
