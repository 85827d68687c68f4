//! Every range of addresses that a cluster uses, or that something else uses on the same networks.

use std::collections::BTreeMap;
use std::net::IpAddr;

use ipnet::IpNet;

use super::address::{overlap, subnets_in};
use super::finding::Grade;
use super::host::Host;
use super::model::Cluster;

/// What a range is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RangeUse {
    /// The neighbourhood of so many addresses of hosts, as they dial one another.
    Hosts(usize),
    /// The same, of their addresses on other networks.
    OtherNetworks(usize),
    /// Pods, in subnets of so many bits: how many there are room for (`None`: more than can be counted), and
    /// how many are used.
    Pods {
        /// Prefix length of a node's subnet, in bits.
        prefix: u8,
        /// Subnets that fit.
        fit: Option<u64>,
        /// Nodes of the cluster file.
        used: u64,
    },
    /// Pods on nodes that run Windows: the same.
    WindowsPods {
        /// Prefix length of a node's subnet, in bits.
        prefix: u8,
        /// Subnets that fit.
        fit: u64,
        /// Nodes of the cluster file that run Windows.
        used: u64,
    },
    /// Addresses of services inside the cluster.
    Services,
    /// The encrypted network laid over others.
    Mesh,
    /// Kept for addresses under which services are reached from outside.
    ServiceAddresses,
    /// The address that moves between load balancers.
    VirtualIp,
    /// The API endpoint, where it is an address.
    Stable,
    /// A name server of the site.
    Resolver,
    /// Used by something else, as the cluster file says.
    Reserved,
}

/// One range of the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlannedRange {
    /// What it is for.
    pub what: RangeUse,
    /// From where to where.
    pub range: IpNet,
}

/// The ranges of a cluster, by kind, those of IPv4 before those of IPv6.
pub fn address_plan(cluster: &Cluster) -> Vec<PlannedRange> {
    let network = &cluster.network;
    let mut plan = Vec::new();
    let dialled = cluster.hosts.iter().flat_map(Host::dialled);
    let near = neighbourhoods(dialled);
    plan.extend(near.into_iter().map(|(range, n)| (RangeUse::Hosts(n), range)));
    let others = cluster.hosts.iter().flat_map(|host| host.others.iter().copied());
    let near = neighbourhoods(others);
    plan.extend(near.into_iter().map(|(range, n)| (RangeUse::OtherNetworks(n), range)));
    let windows = cluster.windows().count() as u64;
    let used = cluster.nodes().len() as u64 - windows;
    plan.extend(network.pods.iter().map(|range| {
        let prefix = network.subnet_prefix(range);
        let fit = Some(subnets_in(range, prefix)).filter(|fit| *fit != u64::MAX);
        (RangeUse::Pods { prefix, fit, used }, *range)
    }));
    plan.extend(network.windows_pods.iter().map(|range| {
        let prefix = network.subnet_prefix(range);
        (RangeUse::WindowsPods { prefix, fit: subnets_in(range, prefix), used: windows }, *range)
    }));
    plan.extend(network.services.iter().map(|range| (RangeUse::Services, *range)));
    let mesh = cluster.mesh.iter().flat_map(|mesh| &mesh.ranges);
    plan.extend(mesh.map(|range| (RangeUse::Mesh, *range)));
    let kept = network.service_addresses.iter();
    plan.extend(kept.map(|range| (RangeUse::ServiceAddresses, *range)));
    let virtual_ip = cluster.load_balancers.virtual_ip;
    plan.extend(virtual_ip.map(|address| (RangeUse::VirtualIp, IpNet::from(address))));
    let stable = cluster.api_ip().filter(|stable| Some(*stable) != virtual_ip);
    plan.extend(stable.map(|address| (RangeUse::Stable, IpNet::from(address))));
    let name_servers = network.name_servers.iter();
    plan.extend(name_servers.map(|address| (RangeUse::Resolver, IpNet::from(*address))));
    plan.extend(network.reserved.iter().map(|range| (RangeUse::Reserved, *range)));
    plan.into_iter().map(|(what, range)| PlannedRange { what, range }).collect()
}

/// Addresses by the /24 or /64 that they are in: what a network segment usually is.
fn neighbourhoods(addresses: impl Iterator<Item = IpAddr>) -> BTreeMap<IpNet, usize> {
    let mut all = BTreeMap::new();
    for address in addresses {
        let bits = if address.is_ipv4() { 24 } else { 64 };
        if let Ok(net) = IpNet::new(address, bits) {
            *all.entry(net.trunc()).or_default() += 1;
        }
    }
    all
}

/// A range that shares addresses with something else.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Clash {
    /// The key of the cluster file that gives the range.
    pub key: &'static str,
    /// The range.
    pub range: IpNet,
    /// With what it shares addresses, as the end of a sentence.
    pub with: String,
    /// Whether that cannot work, or only may not.
    pub grade: Grade,
}

/// Ranges that mean something else everywhere (RFC 6890), whatever is chosen.
const SPECIAL: &[(&str, &str)] = &[
    ("0.0.0.0/8", "this network"),
    ("127.0.0.0/8", "loopback"),
    ("169.254.0.0/16", "link-local"),
    ("224.0.0.0/3", "multicast and reserved"),
    ("::/127", "loopback"),
    ("fe80::/10", "link-local"),
    ("ff00::/8", "multicast"),
];

/// Ranges that programs and boxes take without being asked.
const USUAL: &[(&str, &str)] = &[
    ("172.17.0.0/16", "the bridge that container runtimes make by default"),
    ("172.18.0.0/15", "further bridges that container runtimes make by default"),
    ("10.88.0.0/16", "the bridge that container tools make by default"),
    ("10.0.3.0/24", "the bridge that system containers make by default"),
    ("192.168.122.0/24", "the bridge that virtual machines get by default"),
    ("192.168.0.0/23", "home routers"),
    ("192.168.178.0/24", "home routers"),
    ("10.0.0.0/24", "home routers"),
    ("100.64.0.0/10", "providers, and networks laid over others (RFC 6598)"),
];

/// What of the ranges that the cluster file gives away shares addresses with anything else.
pub(super) fn clashes(cluster: &Cluster) -> Vec<Clash> {
    let network = &cluster.network;
    let none = Vec::new();
    let given: Vec<(&'static str, IpNet)> = [
        ("network.pods", &network.pods),
        ("network.windows-pods", &network.windows_pods),
        ("network.services", &network.services),
        ("network.service-addresses", &network.service_addresses),
        ("mesh.range", cluster.mesh.as_ref().map_or(&none, |mesh| &mesh.ranges)),
    ]
    .into_iter()
    .flat_map(|(key, ranges)| ranges.iter().map(move |range| (key, *range)))
    .collect();
    let fixed =
        (cluster.load_balancers.virtual_ip.map(|at| ("load-balancers.virtual-ip", at)).into_iter())
            .chain(cluster.api_ip().map(|at| ("control-plane.endpoint", at)))
            .chain(network.name_servers.iter().map(|at| ("network.name-servers", *at)));
    let fixed: Vec<(&str, IpAddr)> = fixed.collect();
    let read = |text: &str| text.parse::<IpNet>().ok();
    let mut found = Vec::new();
    for (i, (key, range)) in given.iter().enumerate() {
        let mut clash = |grade: Grade, with: String| {
            found.push(Clash { key, range: *range, with, grade });
        };
        for (text, what) in SPECIAL.iter().chain(USUAL) {
            let grade = match SPECIAL.contains(&(*text, *what)) {
                true => Grade::Blocks,
                false => Grade::Warns,
            };
            let usual = grade == Grade::Warns;
            // Addresses to the outside are of the site's own network, whatever that is.
            if usual && *key == "network.service-addresses" {
                continue;
            }
            if let Some(other) = read(text).filter(|other| overlap(range, other)) {
                clash(
                    grade,
                    match usual {
                        true => format!("shares addresses with {other}, which is taken by {what}"),
                        false => format!("shares addresses with {other}: {what}"),
                    },
                );
            }
        }
        for (other_key, other) in &given[..i] {
            if overlap(range, other) {
                clash(Grade::Blocks, format!("overlaps {other_key} {other}"));
            }
        }
        for other in network.reserved.iter().filter(|other| overlap(range, other)) {
            // A part of the site's own network may be kept on purpose.
            if *key != "network.service-addresses" {
                clash(Grade::Blocks, format!("overlaps network.reserved {other}"));
            }
        }
        // Hosts and what leads to them have their addresses in the mesh.
        if *key == "mesh.range" {
            continue;
        }
        let hosts = cluster.hosts.iter().flat_map(|host| host.addresses().map(move |a| (host, a)));
        let inside: Vec<_> = hosts.filter(|(_, address)| range.contains(address)).collect();
        if let Some((host, address)) = inside.first() {
            let more = match inside.len() {
                1 => String::new(),
                n => format!(" and {} more", n - 1),
            };
            clash(Grade::Blocks, format!("holds the host {} {address}{more}", host.name));
        }
        for (what, address) in fixed.iter().filter(|(_, address)| range.contains(address)) {
            clash(Grade::Blocks, format!("holds {what} {address}"));
        }
    }
    found
}
