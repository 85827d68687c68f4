use std::collections::{BTreeSet, HashMap};

use serde::Serialize;

use super::model::{Cluster, Role};
use super::names::HostName;

/// How many hosts may be lost, whichever they are, with each layer still answering: a layer survives no more
/// than what it stands on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Tolerance {
    /// Load balancers, which stand on the API; `None` when the site brings its own.
    pub load_balancers: Option<usize>,
    /// API servers, which stand on etcd.
    pub api: usize,
    /// etcd members: of `2n + 1`, `n`.
    pub etcd: usize,
    /// The whole cluster: the least of all.
    pub whole: usize,
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
    /// Load balancers, API and etcd, in this order.
    pub layers: Vec<Layer>,
    /// Workers, in the order of the file.
    pub workers: Vec<HostName>,
    /// Each host's roles, in the order of the file.
    pub roles: Vec<(HostName, Vec<Role>)>,
    /// Losses survived, by layer.
    pub tolerance: Tolerance,
    /// The cheapest change with which the whole cluster survives one loss more.
    pub next: Option<String>,
    /// Whether the API endpoint is one host's own.
    owned: bool,
}

impl Topology {
    /// Works it out.
    pub fn of(cluster: &Cluster) -> Self {
        let load_balancers = cluster.shared_load_balancers();
        let api = &cluster.control_plane.hosts;
        let etcd = &cluster.etcd.members;
        let api_host = cluster
            .api_ip()
            .and_then(|address| cluster.hosts.iter().find(|host| host.address == address));
        let etcd_alone = etcd.len().saturating_sub(1) / 2;
        let api_alone = api.len().saturating_sub(1);
        let load_balancers_alone = match (load_balancers.len(), api_host) {
            (_, Some(_)) => Some(0),
            // Control planes hold the address themselves, or the site leads to them.
            (0, None) => cluster.load_balancers.virtual_ip.map(|_| api_alone),
            (n, None) => Some(n - 1),
        };
        let on_etcd = api_alone.min(etcd_alone);
        let on_api = load_balancers_alone.map(|alone| alone.min(on_etcd));
        let tolerance = Tolerance {
            load_balancers: on_api,
            api: on_etcd,
            etcd: etcd_alone,
            whole: on_api.unwrap_or(on_etcd),
        };
        let layers = vec![
            Layer {
                name: "load balancers",
                hosts: load_balancers,
                survives: tolerance.load_balancers,
            },
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
        let next = cheapest(cluster, tolerance.whole + 1, api_host.is_some());
        let workers = cluster.workers.hosts.clone();
        Self { layers, workers, roles, tolerance, next, owned: api_host.is_some() }
    }

    /// The cheapest change with which the whole cluster survives so many losses; `None` where it does.
    pub fn to_survive(&self, cluster: &Cluster, losses: usize) -> Option<String> {
        cheapest(cluster, losses, self.owned)
    }
}

/// The fewest machines with which a cluster survives a number of losses, whichever they are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Fewest {
    /// etcd members.
    pub members: usize,
    /// Control-plane hosts.
    pub control_plane: usize,
    /// Load balancers, where the site has none of its own.
    pub load_balancers: usize,
    /// Machines, where one may carry every layer.
    pub shared: usize,
    /// Machines, where each carries one layer, without workers.
    pub apart: usize,
}

impl Fewest {
    /// For so many losses.
    pub fn for_losses(losses: usize) -> Self {
        let (members, others) = (2 * losses + 1, losses + 1);
        Self {
            members,
            control_plane: others,
            load_balancers: others,
            shared: members,
            apart: members + 2 * others,
        }
    }
}

/// What to add so that every layer survives `wanted` losses, on hosts that are there where they suffice; one
/// new machine may carry what several layers miss.
fn cheapest(cluster: &Cluster, wanted: usize, owned: bool) -> Option<String> {
    let layers = [
        ("etcd member", 2 * wanted + 1, &cluster.etcd.members),
        ("control-plane host", wanted + 1, &cluster.control_plane.hosts),
        ("load balancer", wanted + 1, &cluster.load_balancers.hosts),
    ];
    let mut out = Vec::new();
    let mut machines = 0;
    for (what, needed, have) in layers {
        let missing = needed.saturating_sub(have.len());
        // Load balancers of the site's own are the site's business.
        if missing == 0 || (have.is_empty() && what == "load balancer") {
            continue;
        }
        let have: BTreeSet<&HostName> = have.iter().collect();
        let spare = cluster.hosts.iter().filter(|host| !host.offline).map(|host| &host.name);
        let spare = spare.filter(|name| !have.contains(name));
        let spare: Vec<&str> = spare.map(HostName::as_str).take(missing).collect();
        machines = machines.max(missing - spare.len());
        let s = if missing == 1 { "" } else { "s" };
        let on = match spare.is_empty() {
            true => String::new(),
            false => format!(" ({})", spare.join(", ")),
        };
        out.push(format!("{missing} more {what}{s}{on}"));
    }
    if owned {
        out.push("an API endpoint that no single host owns".into());
    }
    let last = out.pop()?;
    let mut text = match out.is_empty() {
        true => last,
        false => format!("{} and {last}", out.join(", ")),
    };
    match machines {
        0 => {}
        1 => text.push_str(", with a new machine"),
        n => text.push_str(&format!(", with {n} new machines")),
    }
    Some(text)
}
