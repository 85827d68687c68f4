//! What every host must hold: users, directories, files, components and units, as plain data.
//!
//! Holdings are a pure function of the cluster file, the ledger and the components' checksums. They
//! are compared with what a host holds, rendered into a folder, shown for review, or carried out, and
//! all of those read the very same items. Lasting intent is kept apart from first-start facts: what
//! matters only when a thing starts for the first time is in [`Content::first_start`](crate::item::Content::first_start) and never
//! counts as a difference.

mod address;
mod config;
mod control_plane;
mod etcd;
mod etcd_paths;
mod load_balancer;
mod mesh;
mod monitoring;
mod node;
mod objects;
mod overlay;
mod placeholders;
mod preparation;
mod registry;
mod runtime;
mod saving;
mod sources;
mod unit;
mod windows;
mod workshop;

use std::collections::HashMap;
use std::net::IpAddr;

use rayon::prelude::*;
use serde::Serialize;

pub use address::{ADDRESS_AWAY, ADDRESS_STATE, ADDRESS_UNIT, CAN_SERVE};
pub use config::person_kubeconfig;
pub(crate) use control_plane::PODS_BUNDLE;
pub use control_plane::{API_SERVER_UNIT, CONTROLLER_MANAGER_UNIT, SCHEDULER_UNIT};
pub(crate) use etcd::cluster_token;
pub use etcd::{initial_cluster, peer_urls};
pub(crate) use etcd_paths::etcd_folder;
pub use etcd_paths::{ETCD_CONFIG, ETCD_UNIT, EtcdPaths};
pub use load_balancer::LOAD_BALANCER_UNIT;
use mesh::MESH_PEERS;
pub use mesh::MESH_UNIT;
pub(crate) use mesh::{MESH_DEVICE, MESH_KEYS, MESH_PUBLIC};
pub use monitoring::{MONITORING_UNIT, Target, Watched, targets};
pub use node::{
    KUBELET_AUTHORITY, KUBELET_UNIT, NodePaths, NodePut, NodeWanted, PUT_ANNOTATION, ROUTES,
    TOKEN_PATH, Taint, assign_subnets, node_wanted,
};
pub use objects::{ApiObject, REPORTS, objects};
pub use placeholders::Placeholders;
pub(crate) use preparation::{Bringing, bringing, swaps};
pub use registry::{REGISTRY_UNIT, RegistryLogin, registry_secrets};
pub use sources::{HostFacts, SharedSecrets, Sources};
pub use unit::UnitFile;
pub use windows::{Overlay, Remote, WindowsAct, WindowsHoldings};

use self::node::dns_address;
use self::workshop::{SharedTexts, Workshop};
use crate::aim::Scope;
use crate::cluster::{Cluster, FirewallRules, Host, HostName};
use crate::item::{Absent, Component, File, Item, Unit};
use crate::paths::{demands, demands_on_the_way};
use crate::pki::{AuthorityKind, Profile};

/// A part of the cluster that is brought up as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// What bare machines need first.
    Preparation,
    /// The encrypted network through which hosts connect to one another.
    Mesh,
    /// The etcd quorum.
    Etcd,
    /// API server, controller manager and scheduler.
    ControlPlane,
    /// The load balancers that forward the API endpoint.
    LoadBalancer,
    /// The virtual IP, held by one host at a time.
    Address,
    /// The cluster's own registry.
    Registry,
    /// What gives out metrics to the site's monitoring.
    Monitoring,
    /// Nodes: kubelet, kube-proxy, pod network; and what runs in the cluster itself.
    Nodes,
}

impl Part {
    /// Every part, in the order in which a cluster is brought up.
    pub const ALL: &'static [Self] = &[
        Self::Preparation,
        Self::Mesh,
        Self::Etcd,
        Self::ControlPlane,
        Self::LoadBalancer,
        Self::Address,
        Self::Registry,
        Self::Monitoring,
        Self::Nodes,
    ];

    /// Its name in options and output.
    pub fn id(self) -> &'static str {
        match self {
            Self::Preparation => "preparation",
            Self::Mesh => "mesh",
            Self::Etcd => "etcd",
            Self::ControlPlane => "control-plane",
            Self::LoadBalancer => "load-balancers",
            Self::Address => "address",
            Self::Registry => "registry",
            Self::Monitoring => "monitoring",
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
pub struct Holdings {
    /// One for each host that holds anything, in the order of the cluster file.
    pub hosts: Vec<HostHoldings>,
}

impl Holdings {
    /// What of them a stage compares and touches. Whatever a stage is about, hosts connect to one another through the mesh.
    pub fn within(self, scope: &Scope) -> Self {
        let only = |host: HostHoldings| match scope {
            Scope::Whole => host,
            Scope::Members(hosts) if hosts.contains(&host.host) => {
                host.only(&[Part::Preparation, Part::Mesh, Part::Etcd])
            }
            Scope::Members(_) | Scope::Mesh => host.only(&[Part::Preparation, Part::Mesh]),
            Scope::Dialling => host.only(&[Part::Preparation, Part::Mesh, Part::ControlPlane]),
        };
        Self { hosts: self.hosts.into_iter().map(only).filter(|host| !host.is_empty()).collect() }
    }

    /// The holdings of one host.
    pub fn host(&self, name: &HostName) -> Option<&HostHoldings> {
        self.hosts.iter().find(|host| host.host == *name)
    }
}

/// What one host must hold.
#[derive(Clone, Debug)]
pub struct HostHoldings {
    /// The host.
    pub host: HostName,
    /// Items in the order in which they are put there.
    pub items: Vec<Item>,
    /// To which part each item belongs, in the same order.
    parts: Vec<Part>,
    /// What it holds of etcd, if it is a member.
    pub etcd: Option<EtcdPaths>,
    /// The virtual IP, if it may hold it.
    pub address: Option<IpAddr>,
    /// What it holds as a node, if it has a kubelet.
    pub node: Option<NodePaths>,
    /// What it holds as a node that runs Windows: it holds nothing else then.
    pub windows: Option<WindowsHoldings>,
    /// Programs that its distribution must have brought, or will, by path.
    pub programs: Vec<String>,
    /// What it needs of its distribution, in words: where one is nowhere, it is asked whether it could be installed.
    pub needs: Vec<&'static str>,
    /// Names that must lead somewhere, asked before anything is put there.
    pub names: Vec<String>,
}

impl HostHoldings {
    /// One that holds nothing.
    pub fn new(host: &HostName) -> Self {
        Self {
            host: host.clone(),
            items: Vec::new(),
            parts: Vec::new(),
            etcd: None,
            address: None,
            node: None,
            windows: None,
            programs: Vec::new(),
            needs: Vec::new(),
            names: Vec::new(),
        }
    }

    /// For a host that was an etcd member, and may still be one: besides what it holds by now (`known`), it is looked
    /// at whether its member serves, and whether it holds a member's data.
    pub fn of_old_member(
        cluster: &Cluster,
        (host, address): (&HostName, Option<IpAddr>),
        cluster_id: &str,
        known: Option<&Self>,
    ) -> Self {
        let mut out = known.cloned().unwrap_or_else(|| Self::new(host));
        if out.etcd.is_some() {
            return out;
        }
        out.extend(Part::Etcd, [Unit { name: ETCD_UNIT, port: None }.into()]);
        out.etcd = Some(EtcdPaths::of(cluster, address, cluster_id));
        out
    }

    /// What makes keys there, where any are made there.
    fn makes_keys_with(&self) -> Option<String> {
        let own = |item: &Item| match item {
            Item::Pair(pair) => pair.own_key.as_ref().map(|own| own.openssl.clone()),
            _ => None,
        };
        let program = self.items.iter().find_map(own);
        program.filter(|program| !self.programs.contains(program))
    }

    fn extend(&mut self, part: Part, items: impl IntoIterator<Item = Item>) {
        self.items.extend(items);
        self.parts.resize(self.items.len(), part);
    }

    /// The mark that says whose host this is comes first, with whatever part is put first.
    fn marked(&mut self, cluster: &Cluster, cluster_id: &str, epoch: u32) {
        let facts = built_upon(cluster).map(|(key, value)| format!("{key} {value}\n")).concat();
        let text = format!("{}\n{WRITTEN}{facts}", cluster_mark(cluster_id, epoch));
        // What is prepared carries nothing of the cluster yet.
        let Some(at) = self.parts.iter().position(|part| *part != Part::Preparation) else {
            return;
        };
        self.items.insert(at, Workshop::file(CLUSTER_MARK, text, None));
        self.parts.insert(at, self.parts[at]);
    }

    /// Whether it holds nothing.
    fn is_empty(&self) -> bool {
        self.items.is_empty() && self.windows.is_none()
    }

    /// Only what it holds of some parts.
    fn only(&self, parts: &[Part]) -> Self {
        let mut out = Self::new(&self.host);
        for (item, part) in self.items.iter().zip(&self.parts) {
            if parts.contains(part) {
                out.extend(*part, [item.clone()]);
            }
        }
        if parts.contains(&Part::Etcd) {
            out.etcd.clone_from(&self.etcd);
        }
        // No stage concerns it: it is offline.
        out.windows.clone_from(&self.windows);
        out.programs.clone_from(&self.programs);
        out.needs.clone_from(&self.needs);
        out
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

/// A certificate that a host needs is not in the ledger.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HoldingsError {
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

/// Says on every host which cluster it carries, and that this cluster was begun.
pub const CLUSTER_MARK: &str = "/var/lib/zoisite/cluster";

/// The first line of that mark: the cluster's identity, and its epoch (a restored quorum is another one).
pub fn cluster_mark(cluster_id: &str, epoch: u32) -> String {
    format!("{cluster_id} {epoch}")
}

/// What a host's mark says besides, a line each: what its cluster was built upon.
pub(crate) fn built_upon(cluster: &Cluster) -> [(&'static str, String); 4] {
    let ranges =
        |all: &[ipnet::IpNet]| all.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    [
        ("name", cluster.name.to_string()),
        ("domain", cluster.domain.clone()),
        ("pods", ranges(&cluster.network.pods)),
        ("services", ranges(&cluster.network.services)),
    ]
}

/// The first line of what Zoisite writes.
pub(crate) const WRITTEN: &str = "# Written by zoisite: edits are put right by the next raise.\n";

fn kubernetes_folder(cluster: &Cluster) -> String {
    format!("/usr/local/lib/zoisite/kubernetes-{}", cluster.kubernetes)
}

/// Works out what every host must hold for `parts`.
///
/// # Errors
/// When certificates are missing; every one is reported.
pub fn holdings(
    cluster: &Cluster,
    sources: Sources<'_>,
    parts: &[Part],
) -> Result<Holdings, Vec<HoldingsError>> {
    let current = sources.ledger.current();
    let mut errors = Vec::new();
    let mut hosts = Vec::new();
    let named = |names: &[HostName]| -> std::collections::HashSet<HostName> {
        names.iter().cloned().collect()
    };
    let members = named(&cluster.etcd.members);
    let control = named(&cluster.control_plane.hosts);
    let load_balancers = named(&cluster.load_balancers.hosts);
    let holders = named(&cluster.virtual_ip_holders());
    let keeps = named(cluster.registry.host.as_slice());
    let nodes: std::collections::HashSet<_> =
        cluster.nodes().iter().map(|host| host.name.clone()).collect();
    // A machine is prepared for what is to stand on it now; for all of it where nothing else is asked for.
    let whole = parts.iter().all(|part| *part == Part::Preparation);
    let brought = |part: Part| whole || parts.contains(&part);
    let any = |name: &HostName| {
        [&members, &control, &load_balancers, &keeps, &nodes]
            .iter()
            .any(|names| names.contains(name))
    };
    let shared = SharedTexts::default();
    let demands = match cluster.preparation.firewall {
        FirewallRules::Set => match sources.etcd.and_then(|aim| aim.initial.as_ref()) {
            Some(listed) => demands_on_the_way(cluster, listed),
            None => demands(cluster),
        },
        FirewallRules::Keep => Vec::new(),
    };
    let by_name: HashMap<&HostName, &Host> =
        cluster.hosts.iter().map(|host| (&host.name, host)).collect();
    let host = |host: &Host| {
        let mut made = HostHoldings::new(&host.name);
        let errors = Vec::new();
        let mut shop = Workshop {
            cluster,
            host,
            sources,
            by_name: &by_name,
            current: &current,
            shared: &shared,
            demands: &demands,
            node: nodes.contains(&host.name) && brought(Part::Nodes),
            haproxy: (load_balancers.contains(&host.name) && brought(Part::LoadBalancer))
                || (cluster.has_monitoring(&host.name) && brought(Part::Monitoring)),
            floats: holders.contains(&host.name) && brought(Part::Address),
            errors,
        };
        if !host.is_linux() {
            if shop.node {
                windows::node(&mut shop, &mut made);
            }
            return (made, shop.errors);
        }
        for part in parts {
            match part {
                Part::Preparation if any(&host.name) => {
                    preparation::preparation(&shop, &mut made);
                }
                Part::Mesh if any(&host.name) => mesh::mesh(&mut shop, &mut made),
                Part::Etcd if members.contains(&host.name) => etcd::member(&mut shop, &mut made),
                Part::ControlPlane if control.contains(&host.name) => {
                    control_plane::control_plane(&mut shop, &mut made);
                }
                Part::LoadBalancer if load_balancers.contains(&host.name) => {
                    load_balancer::load_balancer(&mut shop, &mut made);
                }
                Part::Address if holders.contains(&host.name) => {
                    address::address(&mut shop, &mut made);
                }
                Part::Registry if keeps.contains(&host.name) => {
                    registry::registry(&mut shop, &mut made);
                }
                Part::Monitoring if cluster.has_monitoring(&host.name) => {
                    monitoring::door(&mut shop, &mut made);
                }
                Part::Nodes if nodes.contains(&host.name) => node::node(&mut shop, &mut made),
                Part::Preparation
                | Part::Mesh
                | Part::Etcd
                | Part::ControlPlane
                | Part::LoadBalancer
                | Part::Address
                | Part::Registry
                | Part::Monitoring
                | Part::Nodes => {}
            }
        }
        made.programs.extend(made.makes_keys_with());
        if !made.items.is_empty() {
            made.marked(cluster, sources.cluster_id, sources.epoch);
            let last = made.parts.last().copied().filter(|part| *part != Part::Preparation);
            if let Some(last) = last {
                let absent = |path: &str| Item::Absent(Absent { path: path.into() });
                // A host that was a control plane once keeps no key that signs.
                let signs = (!control.contains(&host.name)).then_some(control_plane::SIGNING_KEY);
                // One that held the virtual IP once cannot say any more that it could serve there.
                let held = (!holders.contains(&host.name)).then_some(CAN_SERVE);
                // Without a mesh in the file those that were in it meet nobody any more.
                let met = cluster.mesh.is_none().then_some(MESH_PEERS);
                made.extend(last, signs.into_iter().chain(held).chain(met).map(absent));
            }
        }
        (made, shop.errors)
    };
    let all: Vec<_> = cluster.hosts.par_iter().map(host).collect();
    for (made, mut faults) in all {
        errors.append(&mut faults);
        if !made.is_empty() {
            hosts.push(made);
        }
    }
    if errors.is_empty() { Ok(Holdings { hosts }) } else { Err(errors) }
}
