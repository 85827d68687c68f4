//! What the site's own servers and routers need to know of a cluster, each in a form that they read.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::net::IpAddr;

use ipnet::IpNet;

use super::address::EndpointHost;
use super::model::{Cluster, PodsBy};
use super::names::HostName;

/// A form in which something of the site reads it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NetworkFilesForm {
    /// Lines of a hosts file (hosts(5)), the same for every machine.
    Hosts,
    /// A fragment of the hosts' own zone (RFC 1035 section 5, RFC 3596).
    Zone,
    /// The zones that lead from addresses back to names.
    Reverse,
    /// Reservations of addresses by hardware address, as comma-separated values.
    Reservations,
    /// The same, with names, as dnsmasq reads them (`dhcp-host`, `host-record`).
    Dnsmasq,
    /// Routes to pods, for a router that hosts do not share a segment with (ip(8), `-batch`).
    Routes,
}

impl NetworkFilesForm {
    /// Every form.
    pub const ALL: [Self; 6] =
        [Self::Hosts, Self::Zone, Self::Reverse, Self::Reservations, Self::Dnsmasq, Self::Routes];

    /// Name of the file that holds it.
    pub fn file(self) -> &'static str {
        match self {
            Self::Hosts => "hosts",
            Self::Zone => "forward.zone",
            Self::Reverse => "reverse.zone",
            Self::Reservations => "reservations.csv",
            Self::Dnsmasq => "dnsmasq.conf",
            Self::Routes => "routes.batch",
        }
    }
}

/// A text in one of the forms.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NetworkFilesText {
    /// The text.
    pub text: String,
    /// What is not in it, and why: for a person to read.
    pub left_out: Vec<String>,
}

/// Writes a form. `subnets` are the pod subnets of nodes, as assigned.
///
/// # Errors
/// What the cluster file does not say and this form needs.
pub fn network_files(
    cluster: &Cluster,
    subnets: &BTreeMap<HostName, Vec<IpNet>>,
    form: NetworkFilesForm,
) -> Result<NetworkFilesText, String> {
    let network_files = NetworkFiles { cluster };
    match form {
        NetworkFilesForm::Hosts => Ok(network_files.hosts()),
        NetworkFilesForm::Zone => network_files.forward(),
        NetworkFilesForm::Reverse => network_files.reverse(),
        NetworkFilesForm::Reservations => Ok(network_files.reservations()),
        NetworkFilesForm::Dnsmasq => Ok(network_files.dnsmasq()),
        NetworkFilesForm::Routes => Ok(network_files.routes(subnets)),
    }
}

struct NetworkFiles<'a> {
    cluster: &'a Cluster,
}

impl<'a> NetworkFiles<'a> {
    fn needed_zone(&self) -> Result<&'a str, String> {
        let why = "the hosts' DNS zone is not known: set network.zone = \"saltmarsh.example\"";
        self.cluster.zone().ok_or_else(|| why.to_owned())
    }

    /// The addresses by which the cluster dials its hosts.
    fn dialled(&self) -> impl Iterator<Item = (&'a HostName, IpAddr)> + use<'a> {
        let hosts = self.cluster.hosts.iter();
        hosts.flat_map(|host| host.dialled().map(move |at| (&host.name, at)))
    }

    /// The API endpoint name with every address that it must lead to.
    fn stable(&self) -> Option<(&'a str, Vec<IpAddr>)> {
        match &self.cluster.control_plane.endpoint.host {
            EndpointHost::Name(name) => Some((name, self.cluster.api_leads_to())),
            EndpointHost::Address(_) => None,
        }
    }

    /// Every name that leads to an address, the whole one first: of hosts, and the endpoint.
    fn names(&self) -> impl Iterator<Item = (Vec<String>, IpAddr)> {
        let hosts = self.dialled().map(|(name, address)| {
            let zone = self.cluster.zone().filter(|_| !name.as_str().contains('.'));
            let whole = zone.map(|zone| format!("{name}.{zone}"));
            (whole.into_iter().chain([name.to_string()]).collect(), address)
        });
        let (stable, addresses) = self.stable().unwrap_or_default();
        hosts.chain(addresses.into_iter().map(|address| (vec![stable.to_owned()], address)))
    }

    fn title(&self, comment: char) -> String {
        let name = &self.cluster.name;
        format!(
            "{comment} The cluster {name}: written by 'zoisite network-files' from its cluster file.\n"
        )
    }

    fn hosts(&self) -> NetworkFilesText {
        let mut text = self.title('#');
        for (names, address) in self.names() {
            let _ = writeln!(text, "{address} {}", names.join(" "));
        }
        NetworkFilesText { text, left_out: Vec::new() }
    }

    fn forward(&self) -> Result<NetworkFilesText, String> {
        let zone = self.needed_zone()?;
        let mut text = self.title(';');
        let _ = writeln!(text, "$ORIGIN {zone}.\n$TTL 3600");
        let mut record = |name: &str, address: IpAddr| {
            let name = match name.strip_suffix(zone).and_then(|rest| rest.strip_suffix('.')) {
                Some(inside) => inside.to_owned(),
                None if name.contains('.') => format!("{name}."),
                None => name.to_owned(),
            };
            let kind = if address.is_ipv4() { "A" } else { "AAAA" };
            let _ = writeln!(text, "{name} IN {kind} {address}");
        };
        for (name, address) in self.dialled() {
            record(name.as_str(), address);
        }
        let mut left_out = Vec::new();
        if let Some((name, addresses)) = self.stable() {
            match name.ends_with(&format!(".{zone}")) {
                true => addresses.into_iter().for_each(|address| record(name, address)),
                false => left_out.push(format!("{name} is not in the zone {zone}")),
            }
        }
        Ok(NetworkFilesText { text, left_out })
    }

    fn reverse(&self) -> Result<NetworkFilesText, String> {
        let zone = self.needed_zone()?;
        let mut zones: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (name, address) in self.dialled() {
            let (label, origin) = pointer(address);
            let target = match name.as_str().contains('.') {
                true => format!("{name}."),
                false => format!("{name}.{zone}."),
            };
            zones.entry(origin).or_default().push(format!("{label} IN PTR {target}"));
        }
        let mut text = self.title(';');
        for (origin, records) in zones {
            let _ = writeln!(text, "$ORIGIN {origin}.\n$TTL 3600\n{}", records.join("\n"));
        }
        Ok(NetworkFilesText { text, left_out: Vec::new() })
    }

    fn without_mac(&self) -> Vec<String> {
        let without = self.cluster.hosts.iter().filter(|host| host.mac.is_none());
        let without: Vec<&str> = without.map(|host| host.name.as_str()).collect();
        match without.as_slice() {
            [] => Vec::new(),
            [first, rest @ ..] => {
                let more = match rest.len() {
                    0 => String::new(),
                    n => format!(" and {n} more"),
                };
                vec![format!(
                    "{first}{more}, whose hardware address is not known (hosts.{first}.mac)"
                )]
            }
        }
    }

    fn reservations(&self) -> NetworkFilesText {
        let mut text = String::from("name,mac,address\n");
        for host in &self.cluster.hosts {
            let Some(mac) = host.mac else { continue };
            for address in host.dialled() {
                let _ = writeln!(text, "{},{mac},{address}", host.name);
            }
        }
        NetworkFilesText { text, left_out: self.without_mac() }
    }

    fn dnsmasq(&self) -> NetworkFilesText {
        let mut text = self.title('#');
        for host in &self.cluster.hosts {
            let Some(mac) = host.mac else { continue };
            let addresses = host.dialled().map(|at| match at {
                IpAddr::V4(v4) => v4.to_string(),
                IpAddr::V6(v6) => format!("[{v6}]"),
            });
            let addresses: Vec<String> = addresses.collect();
            let _ = writeln!(text, "dhcp-host={mac},{},{}", addresses.join(","), host.name);
        }
        for (names, address) in self.names() {
            let _ = writeln!(text, "host-record={},{address}", names.join(","));
        }
        NetworkFilesText { text, left_out: self.without_mac() }
    }

    fn routes(&self, subnets: &BTreeMap<HostName, Vec<IpNet>>) -> NetworkFilesText {
        let mut text = self.title('#');
        let mut left_out = Vec::new();
        if self.cluster.network.pod_network == PodsBy::Manifests {
            left_out
                .push("pods are connected by the site's own manifests: they know the way".into());
            return NetworkFilesText { text, left_out };
        }
        for host in self.cluster.nodes() {
            let nets = subnets.get(&host.name).map_or(&[][..], Vec::as_slice);
            if nets.is_empty() {
                left_out.push(format!("{} has no pod subnet yet", host.name));
            }
            for net in nets {
                match host.address_beside(net.addr()) {
                    Some(via) => {
                        let _ = writeln!(text, "route replace {net} via {via}");
                    }
                    None => {
                        left_out.push(format!("{net} of {}: no address leads there", host.name));
                    }
                }
            }
        }
        NetworkFilesText { text, left_out }
    }
}

/// The label of an address in its reverse zone, and that zone: of a /24 (RFC 1035 section 3.5) or a /64 (RFC
/// 3596 section 2.5).
fn pointer(address: IpAddr) -> (String, String) {
    match address {
        IpAddr::V4(v4) => {
            let [a, b, c, d] = v4.octets();
            (d.to_string(), format!("{c}.{b}.{a}.in-addr.arpa"))
        }
        IpAddr::V6(v6) => {
            let nibbles: Vec<String> = v6
                .octets()
                .iter()
                .flat_map(|octet| [octet >> 4, octet & 15])
                .rev()
                .map(|nibble| format!("{nibble:x}"))
                .collect();
            let (label, zone) = nibbles.split_at(16);
            (label.join("."), format!("{}.ip6.arpa", zone.join(".")))
        }
    }
}
