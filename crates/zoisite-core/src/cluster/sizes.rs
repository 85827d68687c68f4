//! What a host needs at least for what it holds.

use serde::Serialize;

use super::model::{Cluster, ETCD_QUOTA, Role};
use super::names::HostName;

/// What is needed at least.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Need {
    /// Thousandths of a processor core.
    pub millicores: u64,
    /// Memory, in MiB.
    pub memory_mib: u64,
    /// Room on disk, in MiB.
    pub disk_mib: u64,
}

impl std::ops::AddAssign for Need {
    fn add_assign(&mut self, other: Self) {
        self.millicores += other.millicores;
        self.memory_mib += other.memory_mib;
        self.disk_mib += other.disk_mib;
    }
}

/// Hosts that need the same, and for what.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Size {
    /// The hosts, in the order of the file.
    pub hosts: Vec<HostName>,
    /// What they need in all, without what workloads need.
    pub need: Need,
    /// What of it is for what.
    pub parts: Vec<(&'static str, Need)>,
}

const fn need(millicores: u64, memory_mib: u64, disk_mib: u64) -> Need {
    Need { millicores, memory_mib, disk_mib }
}

/// A small Debian with its SSH server.
const SYSTEM: Need = need(100, 256, 4_096);
/// A load balancer for a few hundred connections.
const LOAD_BALANCER: Need = need(100, 64, 64);
/// A registry, without its images.
const REGISTRY: Need = need(100, 128, 128);
/// Controller manager and scheduler.
const CONTROLLERS: Need = need(150, 192, 128);
/// kubelet, container runtime, kube-proxy: their processes, programs and images.
const NODE: Need = need(200, 384, 2_048);

/// etcd: its database is mapped into memory, and written again beside itself when it is defragmented. `quota`
/// is the largest that it may become (etcd's `quota-backend-bytes`).
fn member(cluster: &Cluster) -> Need {
    const MIB: u64 = 1 << 20;
    let set = cluster.etcd.settings.get("quota-backend-bytes").and_then(serde_json::Value::as_u64);
    let quota = set.filter(|quota| *quota > 0).unwrap_or(ETCD_QUOTA).div_ceil(MIB);
    // Write-ahead log and snapshots: what etcd keeps of them by default (5 files of 64 MB each).
    need(200, 256 + objects(cluster).div_ceil(100), 2 * quota + 640)
}

/// An API server: every object is in its memory once, and those that are watched are encoded again for each.
fn api_server(cluster: &Cluster) -> Need {
    need(250 + 10 * nodes(cluster), 512 + objects(cluster).div_ceil(20), 1_024)
}

/// Objects of a cluster whose nodes are full: so many pods as a kubelet takes by default, with what belongs
/// to them.
fn objects(cluster: &Cluster) -> u64 {
    const PODS: u64 = 110;
    let set = cluster.workers.own.kubelet.get("maxPods").and_then(serde_json::Value::as_u64);
    nodes(cluster) * set.unwrap_or(PODS) * 2
}

/// As many nodes as the next ten: what kubelets keep for the system follows from it, and one worker more is to restart
/// nobody.
fn nodes(cluster: &Cluster) -> u64 {
    (cluster.nodes().len() as u64).next_multiple_of(10)
}

/// What one host needs at least; see [`sizes`].
pub fn size_of(cluster: &Cluster, host: &HostName) -> Size {
    let mut parts = vec![("the system", SYSTEM)];
    if cluster.holds(host, Role::EtcdMember) {
        parts.push(("etcd", member(cluster)));
    }
    if cluster.holds(host, Role::ControlPlane) {
        parts.push(("the API server", api_server(cluster)));
        parts.push(("controllers", CONTROLLERS));
    }
    if cluster.holds(host, Role::LoadBalancer) {
        parts.push(("the load balancer", LOAD_BALANCER));
    }
    if cluster.holds(host, Role::Registry) {
        parts.push(("the registry", REGISTRY));
    }
    if cluster.is_node(host) {
        parts.push(("the node", NODE));
    }
    let mut need = Need::default();
    parts.iter().for_each(|(_, part)| need += *part);
    Size { hosts: vec![host.clone()], need, parts }
}

/// What the hosts of a cluster need at least, from what they hold and how many there are of it; hosts that
/// need the same stand together. What workloads need is not among it.
///
/// The figures are a floor: measured on hosts that do just that and rounded up (docs/your-own-machines.md).
pub fn sizes(cluster: &Cluster) -> Vec<Size> {
    let mut sizes: Vec<Size> = Vec::new();
    for host in &cluster.hosts {
        let size = size_of(cluster, &host.name);
        match sizes.iter_mut().find(|same| same.parts == size.parts) {
            Some(same) => same.hosts.extend(size.hosts),
            None => sizes.push(size),
        }
    }
    sizes
}
