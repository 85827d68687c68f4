//! What every host must hold: users, directories, files, components and units, as plain data.
//!
//! A blueprint is a pure function of the cluster file, the ledger and the components' checksums. It
//! is compared with what a host holds, rendered into a folder, shown for review, or carried out, and
//! all of those read the very same items. Lasting intent is kept apart from first-start facts: what
//! matters only when a thing starts for the first time is in [`Content::first_start`] and never
//! counts as a difference.

mod balancer;
mod config;
mod control_plane;
mod etcd;
mod node;
mod objects;
mod unit;

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use rayon::prelude::*;
use serde::Serialize;
use serde_json::Value;

pub use balancer::{BALANCER_PROGRAM, BALANCER_UNIT};
pub use config::person_kubeconfig;
pub use control_plane::API_SERVER_UNIT;
pub(crate) use control_plane::{API_SERVER_OWN, CONTROLLER_MANAGER_OWN, SCHEDULER_OWN};
pub use etcd::{ETCD_UNIT, EtcdPaths, initial_cluster, peer_urls};
pub(crate) use node::{KUBELET_OWN, ROUTE_PROTOCOL, package_of};
pub use node::{
    KUBELET_UNIT, NODE_PROGRAMS, NodePaths, NodePut, NodeWanted, PUT_ANNOTATION, TOKEN_PATH, Taint,
    assign_subnets, image_name, node_wanted,
};
pub use objects::{ApiObject, objects};
pub use unit::UnitFile;

use std::collections::BTreeMap;

use crate::cluster::{Cluster, Host, HostName};
use crate::item::{Absent, Component, Content, Directory, File, Item, Pinned, Unit};
use crate::pki::{AuthorityKind, Ledger, LedgerEntry, Profile};

/// A part of the cluster that is brought up as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The etcd quorum.
    Etcd,
    /// API server, controller manager and scheduler.
    ControlPlane,
    /// The balancers that forward the stable address.
    Balancer,
    /// Nodes: kubelet, kube-proxy, pod network; and what runs in the cluster itself.
    Nodes,
}

impl Part {
    /// Every part, in the order in which a cluster is brought up.
    pub const ALL: &'static [Self] = &[Self::Etcd, Self::ControlPlane, Self::Balancer, Self::Nodes];

    /// Its name in options and output.
    pub fn id(self) -> &'static str {
        match self {
            Self::Etcd => "etcd",
            Self::ControlPlane => "control-plane",
            Self::Balancer => "balancers",
            Self::Nodes => "nodes",
        }
    }
}

impl std::fmt::Display for Part {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.id())
    }
}

/// Everything that the hosts must hold.
#[derive(Clone, Debug, Default)]
pub struct Blueprint {
    /// One for each host that holds anything, in the order of the cluster file.
    pub hosts: Vec<HostBlueprint>,
}

impl Blueprint {
    /// The blueprint of one host.
    pub fn host(&self, name: &HostName) -> Option<&HostBlueprint> {
        self.hosts.iter().find(|host| host.host == *name)
    }
}

/// What one host must hold.
#[derive(Clone, Debug)]
pub struct HostBlueprint {
    /// The host.
    pub host: HostName,
    /// Items in the order in which they are put there.
    pub items: Vec<Item>,
    /// To which part each item belongs, in the same order.
    parts: Vec<Part>,
    /// What it holds of etcd, if it is a member.
    pub etcd: Option<EtcdPaths>,
    /// What it holds as a node, if it has a kubelet.
    pub node: Option<NodePaths>,
    /// Programs that its distribution must have brought, by path.
    pub programs: Vec<&'static str>,
}

impl HostBlueprint {
    /// One that holds nothing.
    pub fn new(host: &HostName) -> Self {
        Self {
            host: host.clone(),
            items: Vec::new(),
            parts: Vec::new(),
            etcd: None,
            node: None,
            programs: Vec::new(),
        }
    }

    /// For a host that was an etcd member: besides what it holds by now (`known`), it is looked at whether
    /// it holds a member's data.
    pub fn of_old_member(
        cluster: &Cluster,
        host: &HostName,
        cluster_id: &str,
        known: Option<&Self>,
    ) -> Self {
        let etcd = EtcdPaths::of(cluster, None, cluster_id);
        Self { etcd: Some(etcd), ..known.cloned().unwrap_or_else(|| Self::new(host)) }
    }

    fn extend(&mut self, part: Part, items: impl IntoIterator<Item = Item>) {
        self.items.extend(items);
        self.parts.resize(self.items.len(), part);
    }

    /// The mark that says whose host this is comes first, with whatever part is put first.
    fn marked(&mut self, cluster: &Cluster, cluster_id: &str) {
        let ranges = |all: &[ipnet::IpNet]| {
            all.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
        };
        let text = format!(
            "{}\n{WRITTEN}name {}\ndomain {}\npods {}\nservices {}\n",
            cluster_mark(cluster_id),
            cluster.name,
            cluster.domain,
            ranges(&cluster.network.pods),
            ranges(&cluster.network.services)
        );
        self.items.insert(0, Workshop::file(CLUSTER_MARK, text, None));
        let first = self.parts.first().copied().unwrap_or(Part::Etcd);
        self.parts.insert(0, first);
    }

    /// The part to which an item belongs.
    pub fn part_of(&self, item: usize) -> Part {
        self.parts[item]
    }

    /// Whether the host holds anything of a part.
    pub fn has(&self, part: Part) -> bool {
        self.parts.contains(&part)
    }

    /// The units of one part, in the order in which they start.
    pub fn units_of(&self, part: Part) -> impl Iterator<Item = &Unit> {
        let items = self.items.iter().zip(&self.parts);
        items.filter(move |(_, of)| **of == part).filter_map(|(item, _)| match item {
            Item::Unit(unit) => Some(unit),
            _ => None,
        })
    }

    /// The units among the items.
    pub fn units(&self) -> impl Iterator<Item = &Unit> {
        self.items.iter().filter_map(|item| match item {
            Item::Unit(unit) => Some(unit),
            _ => None,
        })
    }

    /// The files among the items.
    pub fn files(&self) -> impl Iterator<Item = &File> {
        self.items.iter().filter_map(|item| match item {
            Item::File(file) => Some(file),
            _ => None,
        })
    }

    /// The components among the items.
    pub fn components(&self) -> impl Iterator<Item = &Component> {
        self.items.iter().filter_map(|item| match item {
            Item::Component(component) => Some(component),
            _ => None,
        })
    }
}

/// What a blueprint is made from, besides the cluster file.
#[derive(Clone, Copy, Debug)]
pub struct Sources<'a> {
    /// Certificates in force.
    pub ledger: &'a Ledger,
    /// This cluster's own identity, made once: tells its data from another cluster's.
    pub cluster_id: &'a str,
    /// What is known of the cluster's shared secrets without opening them.
    pub shared: &'a SharedSecrets,
    /// The pod subnets of each node, as first assigned.
    pub subnets: &'a BTreeMap<HostName, Vec<ipnet::IpNet>>,
    /// What is known of hosts; one that was never met is taken for an ordinary one.
    pub facts: &'a BTreeMap<HostName, HostFacts>,
    /// Addresses of hosts that were met and are no longer in the cluster file: they run on.
    pub departed: &'a BTreeMap<HostName, std::net::IpAddr>,
}

/// What is known of the secrets that all control planes share, without opening them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct SharedSecrets {
    /// Public key with which service accounts' tokens are verified, PEM.
    pub service_accounts: String,
    /// SHA-256 of the private key's PEM text.
    pub service_accounts_sha256: String,
    /// SHA-256 of the text that says how secrets are encrypted in etcd.
    pub encryption_sha256: String,
}

/// Under which key the strongbox holds the key that signs service accounts' tokens.
pub const SERVICE_ACCOUNTS_KEY: &str = "service-accounts";
/// Under which key the strongbox holds the encryption of secrets at rest.
pub const ENCRYPTION_KEY: &str = "encryption-at-rest";

/// Under which key the strongbox holds a host's join token.
pub fn token_key(host: &HostName) -> String {
    format!("token/{host}")
}

/// The host whose join token the strongbox holds under a key, if that is what it is.
pub fn token_host(key: &str) -> Option<HostName> {
    HostName::new(key.strip_prefix("token/")?).ok()
}

/// What a host's own nature decides: never a constant, always looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct HostFacts {
    /// Whether its cgroup hierarchy is the unified one (cgroups(7), version 2).
    pub unified_cgroups: bool,
    /// Whether it is itself a container: it can then set nothing for the whole machine.
    pub container: bool,
    /// Whether its kernel and tools speak nftables.
    pub nftables: bool,
}

impl Default for HostFacts {
    fn default() -> Self {
        Self { unified_cgroups: true, container: false, nftables: true }
    }
}

/// A certificate that a host needs is not in the ledger.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BlueprintError {
    /// A leaf is missing.
    #[error("the {profile} certificate of {host} has not been issued")]
    NoCertificate {
        /// The profile.
        profile: Profile,
        /// The host.
        host: HostName,
    },
    /// An authority is missing.
    #[error("the {0} authority has not been made")]
    NoAuthority(AuthorityKind),
    /// A configuration could not be written as YAML.
    #[error("a configuration of {host} cannot be written: {why}")]
    Yaml {
        /// The host.
        host: HostName,
        /// What the writer said.
        why: String,
    },
    /// A node has no pod subnet: the range is used up.
    #[error("{host} has no pod subnet: network.pods is used up")]
    NoSubnet {
        /// The host.
        host: HostName,
    },
}

/// What is needed to work out the items of one host, and the faults found on the way.
struct Workshop<'a> {
    cluster: &'a Cluster,
    host: &'a Host,
    sources: Sources<'a>,
    /// Every host of the cluster file.
    by_name: &'a HashMap<&'a HostName, &'a Host>,
    current: &'a HashMap<(Profile, HostName), &'a LedgerEntry>,
    shared: &'a SharedTexts,
    errors: Vec<BlueprintError>,
}

/// Texts that are the same on many hosts, written once.
#[derive(Debug, Default)]
struct SharedTexts(Mutex<HashMap<String, Arc<str>>>);

impl Workshop<'_> {
    /// A configuration as YAML that is the same on every host with this `key`; made when first asked for.
    fn shared_yaml(&mut self, key: String, value: impl FnOnce() -> Value) -> Arc<str> {
        let known = self.shared.0.lock().ok().and_then(|texts| texts.get(&key).cloned());
        known.unwrap_or_else(|| {
            let text: Arc<str> = self.yaml(&value()).into();
            if let Ok(mut texts) = self.shared.0.lock() {
                texts.insert(key, Arc::clone(&text));
            }
            text
        })
    }

    fn directory(path: &str, owner: &'static str, mode: u32) -> Item {
        Item::Directory(Directory { path: path.to_owned(), owner, mode })
    }

    /// A file for all to read.
    fn file(path: &str, text: impl Into<Arc<str>>, restarts: Option<&'static str>) -> Item {
        Item::File(File {
            path: path.to_owned(),
            owner: "root",
            mode: 0o644,
            content: Content::text(text),
            restarts,
        })
    }

    /// A unit file, and the unit.
    fn unit(name: &'static str, file: &UnitFile) -> [Item; 2] {
        let path = format!("/etc/systemd/system/{name}");
        [Self::file(&path, file.to_string(), Some(name)), Item::Unit(Unit { name })]
    }

    /// An authority's certificate.
    fn authority(
        &mut self,
        kind: AuthorityKind,
        path: &str,
        restarts: Option<&'static str>,
    ) -> Vec<Item> {
        match self.sources.ledger.authority(kind) {
            Some(authority) => vec![Self::file(path, authority.pem.as_str(), restarts)],
            None => {
                self.errors.push(BlueprintError::NoAuthority(kind));
                Vec::new()
            }
        }
    }

    /// A certificate for all to read, and its key for its owner alone.
    fn certificate(&mut self, profile: Profile) -> Vec<Item> {
        let host = self.host.name.clone();
        let (Some(place), Some(entry)) =
            (profile.place(), self.current.get(&(profile, host.clone())))
        else {
            self.errors.push(BlueprintError::NoCertificate { profile, host });
            return Vec::new();
        };
        let key = Content::Key {
            serial: entry.serial.clone(),
            label: entry.label(),
            sha256: entry.key_sha256.clone(),
        };
        vec![
            Self::file(&place.certificate(), entry.pem.as_str(), None),
            Self::key(&place.key(), place.owner, key, None),
        ]
    }

    /// A secret from the strongbox, for its owner alone.
    fn key(
        path: &str,
        owner: &'static str,
        content: Content,
        restarts: Option<&'static str>,
    ) -> Item {
        Item::File(File { path: path.to_owned(), owner, mode: 0o600, content, restarts })
    }

    /// A value as YAML, under a line that says who wrote it.
    fn yaml(&mut self, value: &impl Serialize) -> String {
        match serde_saphyr::to_string(value) {
            Ok(text) => format!("{WRITTEN}{text}"),
            Err(error) => {
                let host = self.host.name.clone();
                self.errors.push(BlueprintError::Yaml { host, why: error.to_string() });
                String::new()
            }
        }
    }

    /// Programs of Kubernetes that a host runs, each with the unit that runs it.
    fn kubernetes(&self, programs: &[(&'static str, Option<&'static str>)]) -> Vec<Item> {
        let version = self.cluster.kubernetes.to_string();
        let folder = kubernetes_folder(self.cluster);
        let mut items = vec![
            Self::directory("/usr/local/lib/zoisite", "root", 0o755),
            Self::directory(&folder, "root", 0o755),
            Self::directory("/etc/zoisite", "root", 0o755),
        ];
        items.extend(programs.iter().map(|(file, restarts)| {
            Item::Component(Component {
                path: format!("{folder}/{file}"),
                pinned: Pinned { name: "kubernetes", version: version.clone(), file },
                restarts: *restarts,
            })
        }));
        items
    }
}

/// Says on every host which cluster it carries, and that this cluster was begun.
pub const CLUSTER_MARK: &str = "/var/lib/zoisite/cluster";

/// The first line of that mark: the cluster's identity, and its epoch (a restored quorum is another one).
pub fn cluster_mark(cluster_id: &str) -> String {
    format!("{cluster_id} 1")
}

/// The first line of what Zoisite writes.
const WRITTEN: &str = "# Written by zoisite: edits are put right by the next raise.\n";

fn kubernetes_folder(cluster: &Cluster) -> String {
    format!("/usr/local/lib/zoisite/kubernetes-{}", cluster.kubernetes)
}

/// Works out what every host must hold for `parts`.
///
/// # Errors
/// When certificates are missing; every one is reported.
pub fn blueprint(
    cluster: &Cluster,
    sources: Sources<'_>,
    parts: &[Part],
) -> Result<Blueprint, Vec<BlueprintError>> {
    let current = sources.ledger.current();
    let mut errors = Vec::new();
    let mut hosts = Vec::new();
    let named = |names: &[HostName]| -> std::collections::HashSet<HostName> {
        names.iter().cloned().collect()
    };
    let members = named(&cluster.etcd.members);
    let control = named(&cluster.control_plane.hosts);
    let balancers = named(&cluster.balancers.hosts);
    let nodes: std::collections::HashSet<_> =
        cluster.nodes().iter().map(|host| host.name.clone()).collect();
    let shared = SharedTexts::default();
    let by_name: HashMap<&HostName, &Host> =
        cluster.hosts.iter().map(|host| (&host.name, host)).collect();
    let host = |host: &Host| {
        let mut made = HostBlueprint::new(&host.name);
        let errors = Vec::new();
        let mut shop = Workshop {
            cluster,
            host,
            sources,
            by_name: &by_name,
            current: &current,
            shared: &shared,
            errors,
        };
        for part in parts {
            match part {
                Part::Etcd if members.contains(&host.name) => etcd::member(&mut shop, &mut made),
                Part::ControlPlane if control.contains(&host.name) => {
                    control_plane::control_plane(&mut shop, &mut made);
                }
                Part::Balancer if balancers.contains(&host.name) => {
                    balancer::balancer(&mut shop, &mut made);
                }
                Part::Nodes if nodes.contains(&host.name) => node::node(&mut shop, &mut made),
                Part::Etcd | Part::ControlPlane | Part::Balancer | Part::Nodes => {}
            }
        }
        if !made.items.is_empty() {
            made.marked(cluster, sources.cluster_id);
            if !control.contains(&host.name) {
                // A host that was a control plane once keeps no key that signs.
                let last = made.parts.last().copied().unwrap_or(Part::Nodes);
                made.extend(
                    last,
                    [Item::Absent(Absent { path: control_plane::SIGNING_KEY.into() })],
                );
            }
        }
        (made, shop.errors)
    };
    let all: Vec<_> = cluster.hosts.par_iter().map(host).collect();
    for (made, mut faults) in all {
        errors.append(&mut faults);
        if !made.items.is_empty() {
            hosts.push(made);
        }
    }
    if errors.is_empty() { Ok(Blueprint { hosts }) } else { Err(errors) }
}
