//! What is only seen beside the other hosts: clones, clocks, sizes of packets, names.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use super::super::facts::Facts;
use super::super::names::{Naming, names};
use super::{Fixer, SiteFinding};
use crate::cluster::{Cluster, Grade, HostName, Names, TimeService, Vrrp};
use crate::login::clones;

/// Hosts that share what belongs to one machine alone.
pub(super) fn machines(facts: &BTreeMap<HostName, Facts>) -> Vec<SiteFinding> {
    let all = facts.iter().map(|(host, f)| (host, f.machine.as_str(), f.host_keys.as_slice()));
    clones(all)
        .into_iter()
        .map(|clone| SiteFinding {
            host: Some(clone.host),
            code: "clone",
            grade: Grade::Blocks,
            message: clone.answer,
            evidence: Vec::new(),
            fix: clone.fix,
            fixer: Fixer::Person,
        })
        .collect()
}

/// Certificates are valid from so many milliseconds before they were made; a clock further off refuses them,
/// or hands out leases that others take for ended.
const CLOCK_BLOCKS: i64 = 30_000;
/// etcd warns of clocks that differ by more.
const CLOCK_WARNS: i64 = 1_000;

/// Clocks, held against the one that most agree on: where all hosts agree, it is this machine's that is off.
pub(super) fn clocks(cluster: &Cluster, facts: &BTreeMap<HostName, Facts>) -> Vec<SiteFinding> {
    let mut ahead: Vec<i64> = facts.values().filter_map(|f| f.clock).map(|c| c.ahead).collect();
    if ahead.is_empty() {
        return Vec::new();
    }
    ahead.sort_unstable();
    let median = ahead[ahead.len() / 2];
    // One host alone does not tell whose clock is off; two do not either.
    let usual = if ahead.len() > 2 { median } else { 0 };
    let within = facts.values().filter_map(|f| f.clock).map(|c| c.within).min().unwrap_or(0);
    // Where no time service runs, preparing the machine brings one.
    let wanted = cluster.preparation.time == TimeService::WhereNeeded;
    let brought = |facts: &Facts| {
        wanted && !facts.container && facts.time_services.is_empty() && facts.nature.apt
    };
    let found = |host: Option<&HostName>, off: i64, against: &str, seen: String| {
        let grade = if off.abs() > CLOCK_BLOCKS { Grade::Blocks } else { Grade::Warns };
        let way = if off > 0 { "fast" } else { "slow" };
        SiteFinding {
            host: host.cloned(),
            code: "clock-off",
            grade,
            message: format!("its clock is {} {way}, held against {against}", span(off.abs())),
            evidence: vec![seen],
            fix: match host.and_then(|host| facts.get(host)).is_some_and(brought) {
                true => "zoisite raise --part preparation brings a time service there, which sets the clock once a time server answers it (UDP 123); date -u shows the time that it has".into(),
                false => "apt-get install systemd-timesyncd (or chrony), and let it reach a time server (UDP 123); date -u shows the time that it has".into(),
            },
            fixer: Fixer::Person,
        }
    };
    let mut out = Vec::new();
    if usual.abs() - within > CLOCK_WARNS {
        let seen = format!("hosts are ahead of it by {} in the middle", signed(usual));
        out.push(found(None, -usual, "those of the hosts", seen));
    }
    for (host, facts) in facts {
        let Some(clock) = facts.clock else { continue };
        let off = clock.ahead - usual;
        if off.abs() - clock.within > CLOCK_WARNS {
            let against = if usual == 0 { "the one here" } else { "those of the other hosts" };
            let seen =
                format!("{} against the one here, within {} ms", signed(clock.ahead), clock.within);
            out.push(found(Some(host), off, against, seen));
        }
    }
    out
}

fn span(milliseconds: i64) -> String {
    match milliseconds / 1_000 {
        0..=99 => format!("{:.1} s", milliseconds as f64 / 1_000.0),
        seconds @ 100..=5_999 => format!("{} min", seconds / 60),
        seconds => format!("{} h", seconds / 3_600),
    }
}

fn signed(milliseconds: i64) -> String {
    let sign = if milliseconds < 0 { "-" } else { "+" };
    format!("{sign}{:.3} s", milliseconds.abs() as f64 / 1_000.0)
}

/// A virtual IP that somebody else has, or that is not in the network of those who are to hold it.
pub(super) fn virtual_ip(cluster: &Cluster, facts: &BTreeMap<HostName, Facts>) -> Vec<SiteFinding> {
    let Some(virtual_ip) = cluster.load_balancers.virtual_ip else { return Vec::new() };
    let holders = cluster.virtual_ip_holders();
    let found = |host: &HostName, code, message: String, fix: &str| SiteFinding {
        host: Some(host.clone()),
        code,
        grade: Grade::Blocks,
        message,
        evidence: Vec::new(),
        fix: fix.to_owned(),
        fixer: Fixer::Person,
    };
    // Where one of them carries the cluster already it may be the one that answers, whatever it was asked.
    let known = |host: &HostName| facts.get(host).is_some_and(|facts| facts.cluster.is_none());
    let fresh = holders.iter().all(known);
    let mut out = Vec::new();
    for host in &holders {
        let (Some(seen), Some(address)) =
            (facts.get(host), cluster.host(host).and_then(|host| host.address_beside(virtual_ip)))
        else {
            continue;
        };
        if let Some(own) = seen.addresses.iter().find(|own| own.net.addr() == address)
            && !own.net.contains(&virtual_ip)
        {
            let message = format!(
                "the virtual IP {virtual_ip} is not in its network {}: its neighbours would not find it there",
                own.net.trunc()
            );
            out.push(found(
                host,
                "virtual-ip-elsewhere",
                message,
                "choose an unused address of the network that all its holders stand in",
            ));
        }
        if let ([_, ..], Some(id)) = (&seen.routers[..], cluster.router_id()) {
            let message = format!(
                "{} advertises a virtual router with the id {id} on this segment too",
                seen.routers.join(", ")
            );
            // Who speaks to its own peers alone is not confused by it.
            let alone = cluster.load_balancers.vrrp == Vrrp::Unicast;
            let fix =
                "choose another id for load-balancers.router-id, or give the other one another";
            out.push(SiteFinding {
                grade: if alone { Grade::Warns } else { Grade::Blocks },
                ..found(host, "router-id-taken", message, fix)
            });
        }
        if let Some(mac) = seen.virtual_ip.as_ref().filter(|_| fresh) {
            let message = format!("another machine has the virtual IP {virtual_ip} already: {mac}");
            out.push(found(
                host,
                "virtual-ip-taken",
                message,
                "find out whose it is, and choose a free address for load-balancers.virtual-ip",
            ));
        }
    }
    out
}

/// Largest packets of the interfaces that have hosts' addresses: pods get that of their own host.
pub(super) fn packets(cluster: &Cluster, facts: &BTreeMap<HostName, Facts>) -> Vec<SiteFinding> {
    let mut by_size: BTreeMap<u32, Vec<&HostName>> = BTreeMap::new();
    for host in &cluster.hosts {
        let link = facts.get(&host.name).and_then(|facts| facts.link_of(host.address));
        if let Some(link) = link {
            by_size.entry(link.mtu).or_default().push(&host.name);
        }
    }
    let Some((usual, _)) = by_size.iter().max_by_key(|(size, hosts)| (hosts.len(), **size)) else {
        return Vec::new();
    };
    let usual = *usual;
    by_size
        .into_iter()
        .filter(|(size, _)| *size != usual)
        .flat_map(|(size, hosts)| hosts.into_iter().map(move |host| (size, host)))
        .map(|(size, host)| SiteFinding {
            host: Some(host.clone()),
            code: "mtu-differs",
            grade: Grade::Warns,
            message: format!("its largest packet has {size} octets, and {usual} on most others: large answers get lost where nothing tells"),
            evidence: Vec::new(),
            fix: format!("give all hosts of one network the same: {usual}; zoisite paths try tells whether such packets arrive"),
            fixer: Fixer::Person,
        })
        .collect()
}

pub(super) fn named(
    cluster: &Cluster,
    facts: &BTreeMap<HostName, Facts>,
    here: Option<&Facts>,
) -> Vec<SiteFinding> {
    let nodes: BTreeSet<&HostName> = cluster.nodes().into_iter().map(|host| &host.name).collect();
    let mut out = Vec::new();
    for row in names(cluster, facts, here) {
        let reverse = row.asked.parse::<IpAddr>().is_ok();
        for asker in &row.askers {
            let needs = asker.as_ref().is_some_and(|asker| nodes.contains(asker));
            let (code, grade) = match (row.naming, row.stable) {
                (Naming::Right, _) | (Naming::Unknown, false) => continue,
                (Naming::Unknown, true) if needs => ("name-unknown", Grade::Blocks),
                (Naming::Unknown, true) => ("name-unknown", Grade::Warns),
                (Naming::Wrong, true) if needs => ("name-wrong", Grade::Blocks),
                (Naming::Wrong, _) if reverse => ("reverse-wrong", Grade::Warns),
                (Naming::Wrong, _) => ("name-wrong", Grade::Warns),
            };
            let expected = row.expected.join(", ");
            let message = match (row.naming, reverse) {
                (Naming::Unknown, _) => {
                    format!("the API endpoint's name {} leads nowhere", row.asked)
                }
                (_, true) => format!(
                    "it takes {} for {}, and not for {expected}",
                    row.asked,
                    row.got.join(", ")
                ),
                (_, false) => format!(
                    "the name {} leads to {}, and not to {expected}",
                    row.asked,
                    row.got.join(", ")
                ),
            };
            let place = match (row.by_file, asker) {
                (true, _) => "its /etc/hosts".to_owned(),
                (false, None) => "the DNS that this machine asks".to_owned(),
                (false, Some(host)) => match facts.get(host).map(|f| f.name_servers.as_slice()) {
                    Some([first, ..]) => format!("the DNS that it asks ({})", first.address),
                    _ => "its DNS, or its /etc/hosts".to_owned(),
                },
            };
            let form = match (row.naming, reverse, row.by_file) {
                (_, _, true) => "zoisite network-files hosts writes the lines",
                (_, true, _) => "zoisite network-files reverse writes the records",
                _ => {
                    "zoisite network-files zone writes the records, and zoisite network-files hosts lines for /etc/hosts"
                }
            };
            let told = asker.is_some()
                && row.naming == Naming::Unknown
                && cluster.preparation.names != Names::Never;
            let (fixer, fix) = match told {
                true => {
                    (Fixer::Raise, "nothing: raise writes the lines into its /etc/hosts".into())
                }
                false => (Fixer::Person, format!("put it right in {place}; {form}")),
            };
            let (host, evidence) = (asker.clone(), Vec::new());
            out.push(SiteFinding { host, code, grade, message, evidence, fix, fixer });
        }
    }
    out
}
