use std::collections::BTreeMap;

use serde::Serialize;

use super::facts::{Facts, is_link_local};
use crate::cluster::HostName;

/// A fact that is not the same on all hosts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Differs {
    /// Which.
    pub fact: &'static str,
    /// Its values, and who has which: what most have comes first.
    pub values: Vec<(String, Vec<HostName>)>,
}

/// A fact that is another one than before.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Change {
    /// The host.
    pub host: HostName,
    /// Which.
    pub fact: &'static str,
    /// What it was.
    pub before: String,
    /// What it is.
    pub now: String,
}

/// Hosts that look alike in a table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Group {
    /// The hosts.
    pub hosts: Vec<HostName>,
    /// What they have in common: the values of [`Group::COLUMNS`].
    pub values: Vec<String>,
}

/// How a fact is compared.
struct Fact {
    name: &'static str,
    /// `None` where it does not matter for what the host is to do.
    value: fn(&Facts) -> Option<String>,
    /// Whether hosts should have it alike; else it is only held against the time before.
    alike: bool,
}

/// Facts that hosts are compared by, what matters most first.
const FACTS: &[Fact] = &[
    Fact { name: "architecture", value: |f| Some(f.arch.clone()), alike: true },
    Fact { name: "system", value: |f| Some(f.os.clone()), alike: true },
    Fact { name: "kernel", value: |f| Some(f.kernel.clone()), alike: true },
    Fact { name: "control groups", value: |f| Some(format!("version {}", f.cgroups)), alike: true },
    Fact { name: "access control", value: |f| Some(listed(&f.mandatory)), alike: true },
    Fact { name: "firewall", value: |f| Some(firewall(f)), alike: true },
    Fact { name: "time service", value: |f| Some(listed(&f.time_services)), alike: true },
    Fact { name: "time zone", value: |f| Some(or_none(&f.zone)), alike: true },
    Fact { name: "name servers", value: |f| Some(name_servers(f)), alike: true },
    Fact { name: "largest packet", value: |f| Some(packet(f)), alike: true },
    Fact { name: "swap", value: |f| Some(listed(&f.swaps)), alike: true },
    Fact { name: "containerd", value: |f| version(f, "/containerd"), alike: true },
    Fact { name: "haproxy", value: |f| version(f, "/haproxy"), alike: true },
    Fact { name: "cores", value: |f| Some(f.cores.to_string()), alike: true },
    Fact { name: "memory", value: |f| Some(gib(f.memory)), alike: true },
    Fact { name: "etcd's file system", value: |f| file_system(f, "etcd"), alike: true },
    Fact { name: "images' file system", value: |f| file_system(f, "images"), alike: true },
    Fact { name: "machine", value: |f| Some(f.machine.clone()), alike: false },
    Fact { name: "host keys", value: |f| Some(host_keys(f)), alike: false },
    Fact { name: "addresses", value: |f| Some(addresses(f)), alike: false },
    Fact { name: "ports", value: |f| Some(ports(f)), alike: false },
    Fact { name: "leftovers", value: leftovers, alike: false },
];

fn or_none(text: &str) -> String {
    if text.is_empty() { "none".into() } else { text.to_owned() }
}

fn listed(all: &[String]) -> String {
    or_none(&all.join(", "))
}

/// The beginnings of their checksums: enough to see whether they are others than before.
fn host_keys(facts: &Facts) -> String {
    let begin = |key: &String| key.chars().take(12).collect();
    listed(&facts.host_keys.iter().map(begin).collect::<Vec<_>>())
}

/// Sizes in GiB, where a few MiB make no difference.
fn gib(mib: u64) -> String {
    format!("{:.1} GiB", mib as f64 / 1_024.0)
}

fn firewall(facts: &Facts) -> String {
    let drops = |hook: &str| facts.policies.iter().any(|p| p.hook == hook && p.policy == "drop");
    let mut words = facts.firewall.clone();
    if drops("input") {
        words.push("drops by default".into());
    }
    listed(&words)
}

fn name_servers(facts: &Facts) -> String {
    let direct = facts.name_servers.iter().filter(|server| server.direct);
    listed(&direct.map(|server| server.address.to_string()).collect::<Vec<_>>())
}

/// Those of plain interfaces that are up: bridges and tunnels have their own reasons.
fn packet(facts: &Facts) -> String {
    let links = facts.links.iter().filter(|link| link.up && !link.mac.is_empty());
    let plain = links.filter(|link| ["", "bond", "vlan"].contains(&link.kind.as_str()));
    let mut sizes: Vec<u32> = plain.map(|link| link.mtu).collect();
    sizes.sort_unstable();
    sizes.dedup();
    listed(&sizes.iter().map(ToString::to_string).collect::<Vec<_>>())
}

fn version(facts: &Facts, program: &str) -> Option<String> {
    let (_, version) = facts.programs.iter().find(|(path, _)| path.ends_with(program))?;
    Some(version.clone().unwrap_or_else(|| "missing".into()))
}

fn file_system(facts: &Facts, purpose: &str) -> Option<String> {
    facts.place(purpose).map(|place| place.kind.clone())
}

/// Those of the host itself: what pods and bridges have comes and goes.
fn addresses(facts: &Facts) -> String {
    let passing = |name: &str| {
        let kind = facts.links.iter().find(|link| link.name == name).map(|link| &link.kind);
        name.starts_with("veth") || kind.is_some_and(|kind| kind == "bridge")
    };
    let lasting = facts.addresses.iter().filter(|address| {
        let at = address.net.addr();
        !at.is_loopback() && !is_link_local(at) && !passing(&address.link)
    });
    listed(&lasting.map(|a| format!("{} on {}", a.net, a.link)).collect::<Vec<_>>())
}

/// Ports that are not picked again at every start.
fn ports(facts: &Facts) -> String {
    let lasting = facts.listening.iter().filter(|s| s.port < 32_768);
    let outward = lasting.filter(|s| s.address.is_none_or(|address| !address.is_loopback()));
    let mut all: Vec<String> =
        outward.map(|s| format!("{}/{} {}", s.port, s.protocol, s.program)).collect();
    all.dedup();
    listed(&all)
}

/// Of a host that carries a cluster of ours these are the cluster's own things.
fn leftovers(facts: &Facts) -> Option<String> {
    let all = listed(&facts.leftovers.iter().map(|left| left.what.clone()).collect::<Vec<_>>());
    facts.is_bare().then_some(all)
}

/// Facts that differ among hosts which should have them alike. In the order of what matters most.
pub fn differences(facts: &BTreeMap<HostName, Facts>) -> Vec<Differs> {
    let mut out = Vec::new();
    for fact in FACTS.iter().filter(|fact| fact.alike) {
        let mut values: Vec<(String, Vec<HostName>)> = Vec::new();
        for (host, facts) in facts {
            let Some(value) = (fact.value)(facts) else { continue };
            match values.iter_mut().find(|(known, _)| *known == value) {
                Some((_, hosts)) => hosts.push(host.clone()),
                None => values.push((value, vec![host.clone()])),
            }
        }
        if values.len() > 1 {
            values.sort_by_key(|(_, hosts)| std::cmp::Reverse(hosts.len()));
            out.push(Differs { fact: fact.name, values });
        }
    }
    out
}

/// What is another one than before, on hosts that were looked at both times.
pub fn changes(before: &BTreeMap<HostName, Facts>, now: &BTreeMap<HostName, Facts>) -> Vec<Change> {
    let mut out = Vec::new();
    for (host, now) in now {
        let Some(before) = before.get(host) else { continue };
        for fact in FACTS {
            let (was, is) = ((fact.value)(before), (fact.value)(now));
            if was != is {
                let word = |value: Option<String>| value.unwrap_or_else(|| "none".into());
                let (host, before, now) = (host.clone(), word(was), word(is));
                out.push(Change { host, fact: fact.name, before, now });
            }
        }
    }
    out
}

impl Group {
    /// What hosts are shown by.
    pub const COLUMNS: [&'static str; 9] =
        ["system", "kernel", "cores", "memory", "least room", "write", "clock", "firewall", "swap"];
}

/// Hosts with the same values in a table of few columns: hundreds of equals are one line. What is measured is
/// put into steps, and shown as the worst of the group.
pub fn groups(facts: &BTreeMap<HostName, Facts>) -> Vec<Group> {
    let mut keys: Vec<[String; 7]> = Vec::new();
    let mut alike: Vec<Vec<(&HostName, &Facts)>> = Vec::new();
    for (host, facts) in facts {
        let swap = match (facts.swaps.is_empty(), facts.boot_swaps.is_empty()) {
            (false, _) => "on",
            (true, false) => "at boot",
            (true, true) => "off",
        };
        let key = [
            facts.os.clone(),
            facts.kernel.clone(),
            facts.cores.to_string(),
            gib(facts.memory),
            firewall(facts),
            swap.to_owned(),
            facts.written.is_some().to_string(),
        ];
        match keys.iter().position(|known| *known == key) {
            Some(at) => alike[at].push((host, facts)),
            None => {
                keys.push(key);
                alike.push(vec![(host, facts)]);
            }
        }
    }
    keys.into_iter()
        .zip(alike)
        .map(|(key, hosts)| {
            let room = hosts.iter().filter_map(|(_, f)| least_room(f)).min();
            let slowest = hosts.iter().filter_map(|(_, f)| f.written.as_ref());
            let slowest = slowest
                .map(|w| w.milliseconds)
                .fold(None, |worst: Option<f64>, ms| Some(worst.map_or(ms, |worst| worst.max(ms))));
            let furthest = hosts.iter().filter_map(|(_, f)| f.clock);
            let furthest = furthest.max_by_key(|clock| clock.ahead.abs());
            let clock = furthest.map_or("?".into(), |clock| match clock.ahead.abs() {
                off if off <= clock.within.max(100) => "right".to_owned(),
                _ => format!("{:+.1} s", clock.ahead as f64 / 1_000.0),
            });
            let write = slowest.map_or("–".into(), |ms| format!("{ms:.1} ms"));
            let room = room.map_or("?".into(), gib);
            let [os, kernel, cores, memory, firewall, swap, _] = key;
            Group {
                hosts: hosts.into_iter().map(|(host, _)| host.clone()).collect(),
                values: vec![os, kernel, cores, memory, room, write, clock, firewall, swap],
            }
        })
        .collect()
}

fn least_room(facts: &Facts) -> Option<u64> {
    let places = facts.places.iter().filter(|place| place.purpose != "temporary files");
    places.map(|place| place.free).min()
}
