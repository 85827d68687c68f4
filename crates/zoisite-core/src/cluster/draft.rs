//! Writing a new cluster file from nothing but addresses.

use std::fmt::Write as _;
use std::net::IpAddr;

use ipnet::IpNet;

use super::names::{ClusterName, HostName};
use super::pattern;

/// A host for a new cluster file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DraftHost {
    /// Its name.
    pub name: HostName,
    /// Its address.
    pub address: IpAddr,
}

/// What was wrong with the words from which a file was to be written; every one is reported.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}", .0.join("\n"))]
pub struct DraftError(pub Vec<String>);

/// Reads hosts from words: `ADDRESS`, `NAME=ADDRESS`, with ranges such as `10.77.0.{11..13}`,
/// `10.77.0.11-13` and `tern-{1..3}=10.77.0.{101..103}`. Hosts without a name get `CLUSTER-N`.
///
/// # Errors
/// When a word cannot be read, or a name or address stands twice; every such word is named.
pub fn draft_hosts(cluster: &ClusterName, words: &[String]) -> Result<Vec<DraftHost>, DraftError> {
    let mut hosts: Vec<DraftHost> = Vec::new();
    let mut errors = Vec::new();
    for word in words {
        match word_hosts(cluster, word, hosts.len()) {
            Err(why) => errors.push(format!("'{word}': {why}")),
            Ok(found) => {
                for host in found {
                    if hosts.iter().any(|h| h.address == host.address) {
                        errors.push(format!("'{word}': {} stands twice", host.address));
                    } else if hosts.iter().any(|h| h.name == host.name) {
                        errors.push(format!("'{word}': the name {} stands twice", host.name));
                    } else {
                        hosts.push(host);
                    }
                }
            }
        }
    }
    if hosts.is_empty() && errors.is_empty() {
        errors.push("no address was given".into());
    }
    if errors.is_empty() { Ok(hosts) } else { Err(DraftError(errors)) }
}

fn word_hosts(cluster: &ClusterName, word: &str, taken: usize) -> Result<Vec<DraftHost>, String> {
    let (names, addresses) = match word.split_once('=') {
        Some((names, addresses)) => (Some(pattern::expand(names)?), addresses),
        None => (None, word),
    };
    let addresses = dashed(addresses).map_or_else(|| pattern::expand(addresses), Ok)?;
    if let Some(names) = names.as_ref().filter(|names| names.len() != addresses.len()) {
        return Err(format!("{} names and {} addresses", names.len(), addresses.len()));
    }
    addresses
        .iter()
        .enumerate()
        .map(|(i, text)| {
            let address =
                text.parse().map_err(|_| format!("'{text}' is no IPv4 or IPv6 address"))?;
            let name = match &names {
                Some(names) => names[i].clone(),
                None => format!("{cluster}-{}", taken + i + 1),
            };
            let name = HostName::new(&name).map_err(|why| format!("name '{name}': {why}"))?;
            Ok(DraftHost { name, address })
        })
        .collect()
}

/// `10.77.0.11-13` and `10.77.0.11-10.77.0.13`, as network people write ranges.
fn dashed(text: &str) -> Option<Vec<String>> {
    let (from, to) = text.split_once('-')?;
    let from: std::net::Ipv4Addr = from.parse().ok()?;
    let to = match to.parse::<std::net::Ipv4Addr>() {
        Ok(to) => to,
        Err(_) => {
            let [a, b, c, _] = from.octets();
            std::net::Ipv4Addr::new(a, b, c, to.parse().ok()?)
        }
    };
    let (from, to) = (u32::from(from), u32::from(to));
    (from <= to && to - from < 10_000)
        .then(|| (from..=to).map(|n| std::net::Ipv4Addr::from(n).to_string()).collect())
}

/// The stable name of a cluster for which nobody named one.
pub(super) fn made_up_name(cluster: &ClusterName) -> String {
    format!("api.{cluster}.internal")
}

/// Writes a commented cluster file in which the hosts have sensible roles.
///
/// One host does everything; up to four do everything together; from five on, three carry etcd and
/// the control plane and the rest are workers; from eight on, two of the rest are balancers.
pub fn draft(cluster: &ClusterName, hosts: &[DraftHost], kubernetes: &str, etcd: &str) -> String {
    let names: Vec<&HostName> = hosts.iter().map(|h| &h.name).collect();
    let trio = if hosts.len() >= 3 { 3 } else { 1 };
    let balancers = if hosts.len() >= 8 { 2 } else { 0 };
    let core = &names[..trio];
    let forwarders = &names[trio..trio + balancers];
    let workers = if hosts.len() >= 5 { &names[trio + balancers..] } else { &names[..] };
    let v6 = hosts.first().is_some_and(|h| h.address.is_ipv6());
    let stable = match hosts {
        [only] => super::Endpoint { host: super::EndpointHost::Address(only.address), port: 6443 },
        _ => super::Endpoint { host: super::EndpointHost::Name(made_up_name(cluster)), port: 6443 },
    };
    let pods = free_range(hosts, if v6 { PODS_V6 } else { PODS_V4 });
    let services = free_range(hosts, if v6 { SERVICES_V6 } else { SERVICES_V4 });
    let list = |names: &[&HostName]| {
        names.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ")
    };

    let mut out = String::new();
    let mut line = |text: &str| {
        let _ = writeln!(out, "{text}");
    };
    line(&format!(
        "# The cluster {cluster}: the one file that Zoisite reads. Nothing secret is in it:"
    ));
    line("# keep it in version control. After a change: zoisite check");
    line("");
    line("[cluster]");
    line(&format!("name = \"{cluster}\""));
    line(&format!("kubernetes = \"{kubernetes}\"        # version of every Kubernetes component"));
    line(&format!("etcd = \"{etcd}\""));
    line("# domain = \"cluster.local\"       # DNS domain of services inside the cluster");
    line("");
    line("[hosts]                          # name = the address that the cluster dials");
    for host in hosts {
        line(&format!("{} = \"{}\"", key(host.name.as_str()), host.address));
    }
    line("");
    line("[etcd]");
    line(match trio {
        1 => {
            "# One member survives no loss. Three survive one, five survive two; two are worse than one."
        }
        _ => "# Three members survive the loss of one, five of two. An even count adds nothing.",
    });
    line(&format!("members = [{}]", list(core)));
    line("# client-port = 2379");
    line("# peer-port = 2380");
    line("# metrics-port = 2381            # on loopback only");
    line("# folder = \"/var/lib/etcd\"       # holds the data directory");
    line(
        "# settings = { heartbeat-interval = 100, election-timeout = 1000 }   # etcd's own fields",
    );
    line("");
    line("[control-plane]");
    line(&format!("hosts = [{}]", list(core)));
    match hosts.len() {
        1 => line("# The stable address that everything dials. With one host, its own."),
        _ if balancers == 0 => {
            line(
                "# The stable address that everything dials: a name that your own balancer answers,",
            );
            line("# or that resolves to the control-plane hosts.");
        }
        _ => line(
            "# The stable address that everything dials: a name that resolves to the balancers.",
        ),
    }
    line(&format!("address = \"{stable}\""));
    line("# port = 6443                    # where each API server listens");
    line("");
    if balancers > 0 {
        line("[balancers]");
        line(&format!("hosts = [{}]", list(forwarders)));
        line("# floating = \"ADDRESS\"           # an unused address that moves between them");
        line("");
    }
    line("[workers]");
    if hosts.len() < 5 {
        line("# Every host carries workloads too.");
    }
    line(&format!("hosts = [{}]", list(workers)));
    line("# labels.\"tern-*\" = { shore = \"north\" }");
    line("# taints.\"tern-1\" = [\"slow=yes:NoSchedule\"]");
    line("");
    line("[network]                        # nothing else on your network may use these ranges");
    line(&format!("pods = \"{pods}\"            # a subnet per node"));
    line(&format!("services = \"{services}\""));
    line("# pod-subnet = 24                # bits of each node's subnet");
    line("");
    line("[login]                          # the rest comes from your own SSH configuration");
    line("# user = \"warden\"                # needs sudo without a password");
    line("# port = 22");
    line("");
    line("[components]");
    line("from = \"components\"              # folder with the pinned files and their SHA256SUMS");
    line("");
    line("[certificates]");
    line("days = 365");
    line("authority-days = 3650");
    line("key = \"ecdsa-p256\"               # or ecdsa-p384, rsa-3072");
    out
}

/// A TOML key, in quotes where it needs them.
fn key(name: &str) -> String {
    if name.contains('.') { format!("\"{name}\"") } else { name.to_owned() }
}

const PODS_V4: &[&str] = &["10.90.0.0/16", "10.190.0.0/16", "172.28.0.0/16", "192.168.0.0/16"];
const SERVICES_V4: &[&str] = &["10.91.0.0/20", "10.191.0.0/20", "172.29.0.0/20", "172.30.0.0/20"];
const PODS_V6: &[&str] = &["fd5a:90::/48", "fd5b:90::/48"];
const SERVICES_V6: &[&str] = &["fd5a:91::/112", "fd5b:91::/112"];

/// The first candidate whose neighbourhood no host is in: a host's whole /16 (or /32 for IPv6) is
/// taken to be its LAN.
fn free_range(hosts: &[DraftHost], candidates: &'static [&'static str]) -> &'static str {
    let near = |range: &IpNet| {
        hosts.iter().any(|host| {
            let bits = if host.address.is_ipv4() { 16 } else { 32 };
            IpNet::new(host.address, bits)
                .is_ok_and(|lan| super::address::overlap(&lan.trunc(), range))
        })
    };
    candidates
        .iter()
        .find(|text| text.parse::<IpNet>().is_ok_and(|range| !near(&range)))
        .unwrap_or(&candidates[0])
}
