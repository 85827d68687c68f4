//! What a bare machine needs before anything of the cluster stands on it. Nothing of it interrupts what runs.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::sync::Arc;

use super::node::MODULES;
use super::runtime::{Layout, Origin};
use super::{HostFacts, HostHoldings, Part, Workshop};
use crate::cluster::{Cluster, FirewallRules, Host, HostName, HostNames, Names, Role, TimeService};
use crate::item::{
    Block, Item, Link, Module, NoSwap, OwnName, Package, Rules, Unit, Workspace, is_called,
};
use crate::layout::{Distribution, UNITS, WIREGUARD_GO, WIREGUARD_TOOLS};
use crate::paths::{Firewall, own_rules, table};
use crate::survey::ALL_NAMES;

/// Folders that the container runtime and its plugins make and fill.
const RUNTIME_FILLS: [&str; 5] =
    ["/var/lib/containerd", "/var/lib/cni", "/opt/containerd", "/opt/cni", "/etc/cni"];
/// Name of the time service's unit, where Zoisite brings one.
const TIME_UNIT: &str = "systemd-timesyncd.service";

pub(super) fn preparation(shop: &Workshop<'_>, out: &mut HostHoldings) {
    let facts = shop.facts();
    let layout = Layout::of(shop.cluster, &facts);
    let mut items = Vec::new();
    items.extend(own_name(shop, &facts));
    items.extend(names(shop, &facts));
    let zone = shop.cluster.preparation.time_zone.as_ref();
    items.extend(zone.map(|zone| {
        let to = format!("/usr/share/zoneinfo/{zone}");
        Item::Link(Link { path: "/etc/localtime".into(), to })
    }));
    items.extend(time(shop, &facts));
    if shop.node {
        // A runtime that comes as a package is started by it at once, uses the first of these, and fills the others.
        items.extend(MODULES.map(|name| Item::Module(Module { name })));
        items.extend(RUNTIME_FILLS.map(|path| Item::Workspace(Workspace { path })));
    }
    items.extend(packages(shop, &facts, &layout));
    items.extend(rules(shop, &facts));
    if shop.node && !facts.container && !swaps(shop.cluster) {
        items.push(Item::NoSwap(NoSwap));
    }
    out.names = asked_names(shop);
    if shop.node {
        out.needs.extend(["runtime", "plugins", "nft"]);
    }
    if shop.haproxy {
        out.needs.push("haproxy");
    }
    if shop.floats {
        out.needs.push("keepalived");
    }
    out.extend(Part::Preparation, items);
}

/// Whether the kubelet is told to bear swap.
pub(crate) fn swaps(cluster: &Cluster) -> bool {
    cluster.workers.own.kubelet.get("failSwapOn") == Some(&false.into())
}

/// What the host is called, unless it is called so already, perhaps with its domain. An offline host may never have
/// reported it.
fn own_name(shop: &Workshop<'_>, facts: &HostFacts) -> Option<Item> {
    let name = &shop.host.name;
    let long = facts.called != name.as_str() && is_called(&facts.called, name);
    let set = shop.cluster.preparation.host_names == HostNames::Set;
    let told = !facts.called.is_empty() || shop.host.offline;
    (set && told && !long).then(|| Item::OwnName(OwnName { name: name.clone() }))
}

/// The hosts that a host must know by name: those that a survey asks it for.
fn known<'a>(shop: &Workshop<'a>) -> Vec<&'a Host> {
    let cluster = shop.cluster;
    if cluster.hosts.len() <= ALL_NAMES {
        return cluster.hosts.iter().collect();
    }
    let names = Role::DEPENDED_ON.iter().flat_map(|role| cluster.holders(*role));
    let names: BTreeSet<&HostName> = names.chain([&shop.host.name]).collect();
    names.into_iter().filter_map(|name| shop.by_name.get(name).copied()).collect()
}

/// Names that must lead somewhere on a host: asked before anything is put there.
fn asked_names(shop: &Workshop<'_>) -> Vec<String> {
    let cluster = shop.cluster;
    if cluster.preparation.names != Names::WhereNeeded {
        return Vec::new();
    }
    let stable = cluster.api_name().map(ToOwned::to_owned);
    stable.into_iter().chain(known(shop).iter().map(|host| host.name.to_string())).collect()
}

/// Lines of the hosts file (hosts(5)): the API endpoint's name, and the hosts.
fn names(shop: &Workshop<'_>, facts: &HostFacts) -> Option<Item> {
    let cluster = shop.cluster;
    let wanted = match cluster.preparation.names {
        Names::Always => true,
        Names::WhereNeeded => facts.unknown_names,
        Names::Never => false,
    };
    let make = || {
        let mut text = String::new();
        if let Some(name) = cluster.api_name() {
            for address in cluster.api_leads_to() {
                let _ = writeln!(text, "{address} {name}");
            }
        }
        for other in known(shop) {
            let long = cluster.network.zone.as_ref();
            let long = long.map_or_else(String::new, |zone| format!(" {}.{zone}", other.name));
            for address in other.dialled() {
                let _ = writeln!(text, "{address} {}{long}", other.name);
            }
        }
        Arc::from(text)
    };
    let alike = cluster.hosts.len() <= ALL_NAMES;
    wanted.then(|| {
        let text = if alike { shop.shared_text("hosts file", make) } else { make() };
        Item::Block(Block { path: "/etc/hosts", text })
    })
}

/// A time service where none runs. The clock of a container is kept by the machine beneath.
fn time(shop: &Workshop<'_>, facts: &HostFacts) -> Vec<Item> {
    let row = Distribution::of(&facts.os);
    let ours = facts.brought.contains(row.time_service);
    let wanted = shop.cluster.preparation.time == TimeService::WhereNeeded;
    if !wanted || facts.container || (facts.time_kept && !ours) || !facts.apt || !row.apt {
        return Vec::new();
    }
    let mut items = vec![Item::Package(Package { name: row.time_service })];
    let servers = &shop.cluster.preparation.time_servers;
    if !servers.is_empty() {
        // timesyncd.conf(5).
        let text = format!("{}[Time]\nNTP={}\n", super::WRITTEN, servers.join(" "));
        let folder = "/etc/systemd/timesyncd.conf.d";
        items.push(Workshop::directory(folder, "root", 0o755));
        items.push(Workshop::file(&format!("{folder}/zoisite.conf"), text, Some(TIME_UNIT)));
    }
    items.push(Item::Unit(Unit { name: TIME_UNIT, port: None }));
    items
}

/// What the firewall lets in, where raise is to set that.
fn rules(shop: &Workshop<'_>, facts: &HostFacts) -> Option<Item> {
    let (cluster, words) = (shop.cluster, facts.firewall);
    (cluster.preparation.firewall == FirewallRules::Set).then(|| {
        let text = own_rules(cluster, shop.host, shop.demands, words);
        Item::Rules(Rules { words, table: table(cluster), text })
    })
}

/// Packages for what the host does.
fn packages(shop: &Workshop<'_>, facts: &HostFacts, layout: &Layout) -> Vec<Item> {
    let mut items = Vec::new();
    let mut names: Vec<&'static str> = Vec::new();
    if shop.node {
        names.extend(layout.runtime.package());
        names.extend(layout.plugins.package());
    }
    let sets = shop.cluster.preparation.firewall == FirewallRules::Set;
    if shop.node || (sets && facts.firewall == Firewall::Nftables) {
        names.extend(layout.nft.as_ref().and_then(Origin::package));
    }
    // The plugin for ports of hosts calls it.
    let helper = "iptables";
    if shop.node && (layout.runtime.package().is_some() || facts.brought.contains(helper)) {
        names.push(helper);
    }
    if shop.haproxy
        && let Some(name) = layout.load_balancer.package()
    {
        // The distribution's own unit stays off: the load balancer has one of its own.
        let path = format!("{UNITS}/haproxy.service");
        items.push(Item::Link(Link { path, to: "/dev/null".into() }));
        names.push(name);
    }
    if shop.floats
        && let Some(name) = layout.keepalived.package()
    {
        let path = format!("{UNITS}/keepalived.service");
        items.push(Item::Link(Link { path, to: "/dev/null".into() }));
        names.push(name);
    }
    if shop.cluster.mesh.is_some() && facts.apt && Distribution::of(&facts.os).apt {
        names.push(WIREGUARD_TOOLS);
        if !facts.wireguard {
            names.push(WIREGUARD_GO);
        }
    }
    if calls_openssl(shop.cluster, shop.floats) {
        names.extend(layout.openssl.package());
    }
    items.extend(names.into_iter().map(|name| Item::Package(Package { name })));
    items
}

/// How a host's programs come to it, by its facts: for what is reported before anything is done.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Bringing {
    /// Packages that `raise` installs.
    pub packages: Vec<&'static str>,
    /// Whether pinned programs are brought.
    pub pinned: bool,
    /// What a person must bring: the program, and the package that has it.
    pub by_hand: Vec<(String, &'static str)>,
}

/// Whether openssl is called on a host, which may hold the virtual IP or not. A load balancer tells by itself whether it
/// could serve there.
fn calls_openssl(cluster: &Cluster, floats: bool) -> bool {
    (floats && cluster.front() == Role::ControlPlane) || cluster.certificates.any_made_on_hosts()
}

/// How programs come to a host.
pub(crate) fn bringing(cluster: &Cluster, host: &Host, facts: &HostFacts) -> Bringing {
    let layout = Layout::of(cluster, facts);
    let row = Distribution::of(&facts.os);
    let mut parts = Vec::new();
    if cluster.is_node(&host.name) {
        parts.extend([
            (&layout.runtime, &facts.runtime, row.runtime),
            (&layout.plugins, &facts.plugins, row.plugins),
        ]);
    }
    if cluster.holds(&host.name, Role::LoadBalancer) || cluster.has_monitoring(&host.name) {
        parts.push((&layout.load_balancer, &facts.haproxy, row.load_balancer));
    }
    let floats = cluster.virtual_ip_holders().contains(&host.name);
    if floats {
        parts.push((&layout.keepalived, &facts.keepalived, row.keepalived));
    }
    if calls_openssl(cluster, floats) {
        parts.push((&layout.openssl, &facts.openssl, row.openssl));
    }
    let mut out = Bringing::default();
    for (origin, found, program) in parts {
        match origin {
            Origin::Package(program) if found.is_none() => out.packages.push(program.package),
            Origin::There(path) if found.is_none() => {
                out.by_hand.push((path.clone(), program.package));
            }
            Origin::Pinned => out.pinned |= found.is_none(),
            Origin::Package(_) | Origin::There(_) => {}
        }
    }
    out
}
