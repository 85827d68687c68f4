use std::collections::{BTreeSet, HashMap};

use serde::Serialize;

use super::model::{Cluster, Role};
use super::names::HostName;

/// How many hosts of each layer may be lost with the layer still answering.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Tolerance {
    /// Balancers; `None` when the site brings its own.
    pub balancers: Option<usize>,
    /// API servers.
    pub api: usize,
    /// etcd members: of `2n + 1`, `n`.
    pub etcd: usize,
}

/// One layer of the control plane, from the client's side inwards.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Its name, as a person says it.
    pub name: &'static str,
    /// The hosts it consists of.
    pub hosts: Vec<HostName>,
    /// Losses survived; `None` when that is the site's own business.
    pub survives: Option<usize>,
}

/// Who does what, and what it survives.
#[derive(Clone, Debug)]
pub struct Topology {
    /// Balancers, API and etcd, in this order.
    pub layers: Vec<Layer>,
    /// Workers, in the order of the file.
    pub workers: Vec<HostName>,
    /// Each host's roles, in the order of the file.
    pub roles: Vec<(HostName, Vec<Role>)>,
    /// Losses survived, by layer.
    pub tolerance: Tolerance,
    /// The cheapest changes that survive one loss more, a sentence each.
    pub next: Vec<String>,
}

impl Topology {
    /// Works it out.
    pub fn of(cluster: &Cluster) -> Self {
        let balancers = &cluster.balancers.hosts;
        let api = &cluster.control_plane.hosts;
        let etcd = &cluster.etcd.members;
        let stable_host = cluster
            .stable_ip()
            .and_then(|address| cluster.hosts.iter().find(|host| host.address == address));
        let tolerance = Tolerance {
            balancers: match (balancers.len(), stable_host) {
                (_, Some(_)) => Some(0),
                (0, None) => None,
                (n, None) => Some(n - 1),
            },
            api: api.len().saturating_sub(1),
            etcd: etcd.len().saturating_sub(1) / 2,
        };
        let layers = vec![
            Layer { name: "balancers", hosts: balancers.clone(), survives: tolerance.balancers },
            Layer { name: "API", hosts: api.clone(), survives: Some(tolerance.api) },
            Layer { name: "etcd", hosts: etcd.clone(), survives: Some(tolerance.etcd) },
        ];
        let mut by_host: HashMap<&HostName, Vec<Role>> = HashMap::new();
        for role in Role::ALL {
            for name in cluster.holders(role) {
                by_host.entry(name).or_default().push(role);
            }
        }
        let roles = cluster
            .hosts
            .iter()
            .map(|host| (host.name.clone(), by_host.remove(&host.name).unwrap_or_default()))
            .collect();
        let next = cheapest(cluster, tolerance);
        Self { layers, workers: cluster.workers.hosts.clone(), roles, tolerance, next }
    }
}

/// What to add so that the weakest layers survive one loss more, preferring hosts already there.
fn cheapest(cluster: &Cluster, tolerance: Tolerance) -> Vec<String> {
    let weakest = tolerance.balancers.unwrap_or(usize::MAX).min(tolerance.api).min(tolerance.etcd);
    let mut out = Vec::new();
    if tolerance.etcd == weakest {
        let add = 2 * (weakest + 1) + 1 - cluster.etcd.members.len();
        out.push(additional(cluster, "etcd member", add, &cluster.etcd.members));
    }
    if tolerance.api == weakest {
        out.push(additional(cluster, "control-plane host", 1, &cluster.control_plane.hosts));
    }
    if tolerance.balancers == Some(weakest) {
        if cluster.stable_ip().is_some_and(|ip| cluster.hosts.iter().any(|h| h.address == ip)) {
            out.push("give the API a stable address that no single host owns".into());
        }
        if cluster.balancers.hosts.len() < weakest + 2 {
            let wanted = weakest + 2 - cluster.balancers.hosts.len();
            out.push(additional(cluster, "balancer", wanted, &cluster.balancers.hosts));
        }
    }
    out
}

fn additional(cluster: &Cluster, what: &str, count: usize, have: &[HostName]) -> String {
    let have: BTreeSet<&HostName> = have.iter().collect();
    let spare: Vec<&HostName> =
        cluster.hosts.iter().map(|h| &h.name).filter(|n| !have.contains(n)).take(count).collect();
    let s = if count == 1 { "" } else { "s" };
    let missing = count - spare.len();
    let names: Vec<String> = spare.iter().map(ToString::to_string).collect();
    match (names.is_empty(), missing) {
        (false, 0) => {
            format!("{count} more {what}{s}, on hosts that are there: {}", names.join(" and "))
        }
        (false, new) => format!(
            "{count} more {what}{s}: {} and {new} new machine{}",
            names.join(", "),
            if new == 1 { "" } else { "s" }
        ),
        (true, new) => {
            format!("{count} more {what}{s}: {new} new machine{}", if new == 1 { "" } else { "s" })
        }
    }
}
