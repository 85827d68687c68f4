use std::collections::BTreeMap;
use std::net::IpAddr;

use serde::Serialize;

use super::facts::{Facts, Named};
use crate::cluster::{Cluster, Host, HostName};

/// So many hosts are asked for by name from each host; of more only those that others depend on.
pub(crate) const ALL_NAMES: usize = 24;

/// Names and addresses that a host is asked for: the API endpoint's name, and those of the hosts.
pub fn names_to_ask(cluster: &Cluster, host: &Host) -> (Vec<String>, Vec<IpAddr>) {
    let all = cluster.hosts.len() <= ALL_NAMES;
    let depended =
        [&cluster.etcd.members, &cluster.control_plane.hosts, &cluster.load_balancers.hosts];
    let wanted = |other: &&Host| {
        all || host.name == other.name || depended.iter().any(|hosts| hosts.contains(&other.name))
    };
    let asked = || cluster.hosts.iter().filter(wanted);
    let stable = cluster.api_name().map(ToOwned::to_owned);
    let names = asked().map(|host| host.name.to_string());
    (stable.into_iter().chain(names).collect(), asked().flat_map(Host::dialled).collect())
}

/// How an answer stands to what is expected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Naming {
    /// As expected.
    Right,
    /// Nothing came back.
    Unknown,
    /// Something else.
    Wrong,
}

/// One answer to one name or address, and who gets it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct NameRow {
    /// What was asked.
    pub asked: String,
    /// What must come back: one or more of these, nothing else.
    pub expected: Vec<String>,
    /// What came back.
    pub got: Vec<String>,
    /// How that stands to what is expected.
    pub naming: Naming,
    /// Whether it is the API endpoint's name.
    pub stable: bool,
    /// Who gets that; `None` stands for this machine.
    pub askers: Vec<Option<HostName>>,
    /// Whether a file on the asker says so.
    pub by_file: bool,
}

/// Every name and address that was asked, from here and from hosts: one row for each answer that differs.
pub fn names(
    cluster: &Cluster,
    facts: &BTreeMap<HostName, Facts>,
    here: Option<&Facts>,
) -> Vec<NameRow> {
    let mut rows: Vec<NameRow> = Vec::new();
    let askers = here.map(|here| (None, here));
    let askers = askers.into_iter().chain(facts.iter().map(|(host, facts)| (Some(host), facts)));
    let stable = cluster.api_name();
    let by_name: BTreeMap<&str, &Host> =
        cluster.hosts.iter().map(|host| (host.name.as_str(), host)).collect();
    let by_address: BTreeMap<IpAddr, &Host> = cluster
        .hosts
        .iter()
        .flat_map(|host| host.dialled().map(move |address| (address, host)))
        .collect();
    let mut add = |row: NameRow| {
        let same = |known: &&mut NameRow| {
            (&known.asked, &known.got, known.naming, known.by_file)
                == (&row.asked, &row.got, row.naming, row.by_file)
        };
        match rows.iter_mut().find(same) {
            Some(known) => known.askers.extend(row.askers),
            None => rows.push(row),
        }
    };
    for (asker, seen) in askers {
        for named in &seen.names {
            let is_stable = stable == Some(named.asked.as_str());
            let expected: Vec<IpAddr> = match by_name.get(named.asked.as_str()) {
                _ if is_stable => cluster.api_leads_to(),
                Some(host) => host.addresses().collect(),
                None => continue,
            };
            // Debian's own hosts files lead a host's own name to loopback.
            let own = asker.is_some_and(|asker| asker.as_str() == named.asked);
            // Neighbours that answer for their names by themselves tell of addresses on the link too (RFC 4795).
            let right = named.got.iter().any(|got| expected.contains(got));
            let on_link =
                |got: &IpAddr| matches!(got, IpAddr::V6(got) if got.is_unicast_link_local());
            let fits = |got: &IpAddr| {
                expected.contains(got) || (own && got.is_loopback()) || (right && on_link(got))
            };
            add(row(&named.asked, &expected, named, fits, (asker, is_stable)));
        }
        for named in &seen.reverse {
            let Some(host) = by_address.get(&named.asked) else { continue };
            let mut expected = vec![host.name.to_string()];
            expected
                .extend(cluster.network.zone.as_ref().map(|zone| format!("{}.{zone}", host.name)));
            let fits = |got: &String| {
                let first = got.split('.').next().unwrap_or_default();
                first == host.name.as_str() || stable == Some(got.as_str())
            };
            let asked = named.asked.to_string();
            add(row(&asked, &expected, named, fits, (asker, false)));
        }
    }
    // Worst first, then in the order of asking.
    rows.sort_by_key(|row| match (row.naming, row.stable) {
        (Naming::Wrong, _) => 0,
        (Naming::Unknown, true) => 1,
        (Naming::Unknown, false) => 2,
        (Naming::Right, _) => 3,
    });
    rows
}

fn row<A, B: ToString + PartialEq>(
    asked: &str,
    expected: &[impl ToString],
    named: &Named<A, B>,
    fits: impl Fn(&B) -> bool,
    (asker, stable): (Option<&HostName>, bool),
) -> NameRow {
    // Of the names of an address the first is its own, the others are aliases.
    let reverse = asked.parse::<IpAddr>().is_ok();
    let counts = if reverse { 1 } else { named.got.len() };
    let naming = match named.got.is_empty() {
        true => Naming::Unknown,
        false if named.got.iter().take(counts).all(fits) => Naming::Right,
        false => Naming::Wrong,
    };
    NameRow {
        asked: asked.to_owned(),
        expected: expected.iter().map(ToString::to_string).collect(),
        got: named.got.iter().map(ToString::to_string).collect(),
        naming,
        stable,
        askers: vec![asker.cloned()],
        by_file: named.by_file,
    }
}
