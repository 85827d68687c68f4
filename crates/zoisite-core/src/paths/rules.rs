use std::fmt::Write as _;

use ipnet::IpNet;
use serde::Serialize;

use super::{Demand, End, Protocol, Service, demands};
use crate::cluster::{Cluster, Host};

/// In whose words rules are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Firewall {
    /// The kernel's own (nft(8)).
    Nftables,
    /// firewalld (firewall-cmd(1)).
    Firewalld,
    /// Uncomplicated Firewall (ufw(8)).
    Ufw,
}

impl Firewall {
    /// The one that manages a host, by the units that run there; the kernel's own where none does.
    pub fn of(units: &[String]) -> Self {
        let runs = |name: &str| units.iter().any(|unit| unit == name);
        match (runs("firewalld"), runs("ufw")) {
            (true, _) => Self::Firewalld,
            (false, true) => Self::Ufw,
            (false, false) => Self::Nftables,
        }
    }
}

/// What a host lets in.
struct Admitted {
    service: Service,
    protocol: Protocol,
    /// From where; `None` for everybody.
    from: Option<Vec<IpNet>>,
    why: &'static str,
}

/// The rules with which a host lets in what its part in the cluster needs, and nothing else. `administrators`
/// and `clients` are whom SSH and the stable address are open to: everybody, where nobody is named.
pub fn rules(
    cluster: &Cluster,
    host: &Host,
    firewall: Firewall,
    (administrators, clients): (&[IpNet], &[IpNet]),
) -> String {
    let all = demands(cluster);
    let admitted: Vec<Admitted> = all
        .iter()
        .filter(|demand| demand.to.hosts().contains(&host.name))
        .filter_map(|demand| admitted(cluster, host, demand, administrators, clients))
        .collect();
    match firewall {
        Firewall::Nftables => nftables(cluster, host, &admitted),
        Firewall::Firewalld => firewalld(cluster, host, &admitted),
        Firewall::Ufw => ufw(cluster, host, &admitted),
    }
}

fn admitted(
    cluster: &Cluster,
    host: &Host,
    demand: &Demand,
    administrators: &[IpNet],
    clients: &[IpNet],
) -> Option<Admitted> {
    let mut from = Vec::new();
    let mut everybody = false;
    for end in &demand.from {
        match end {
            End::Hosts(names) => {
                let others = names.iter().filter(|name| **name != host.name);
                let others = others.filter_map(|name| cluster.host(name));
                from.extend(
                    others.flat_map(|other| other.addresses().map(IpNet::from).collect::<Vec<_>>()),
                );
            }
            End::Administrators => match administrators {
                [] => everybody = true,
                named => from.extend_from_slice(named),
            },
            End::Clients | End::OwnBalancers => match clients {
                [] => everybody = true,
                named => from.extend_from_slice(named),
            },
            End::Pods => from.extend_from_slice(&cluster.network.pods),
            End::Servers(_) => {}
        }
    }
    if demand.service == Service::Pods {
        from.clone_from(&cluster.network.pods);
    }
    if from.is_empty() && !everybody {
        return None;
    }
    Some(Admitted {
        service: demand.service,
        protocol: demand.protocol,
        from: (!everybody).then(|| shortened(from)),
        why: demand.why,
    })
}

/// A list as it stands, while a person can read it; of more, neighbours are put together into ranges that hold
/// them and nobody else.
fn shortened(mut from: Vec<IpNet>) -> Vec<IpNet> {
    const READABLE: usize = 40;
    if from.len() > READABLE {
        return IpNet::aggregate(&from);
    }
    from.sort();
    from.dedup();
    from
}

/// Sources of each family by themselves, as every filter wants them.
fn by_family(from: &[IpNet]) -> [(&'static str, Vec<&IpNet>); 2] {
    let of = |v4: bool| from.iter().filter(|net| net.addr().is_ipv4() == v4).collect();
    [("ipv4", of(true)), ("ipv6", of(false))]
}

/// One address without the length of its prefix.
fn word(net: &IpNet) -> String {
    match net.prefix_len() == net.max_prefix_len() {
        true => net.addr().to_string(),
        false => net.to_string(),
    }
}

fn head(cluster: &Cluster, host: &Host) -> String {
    format!(
        "# {}: what its part in the cluster {} needs is let in, and nothing else.\n# Printed by: zoisite paths rules {}\n",
        host.name, cluster.name, host.name
    )
}

fn nftables(cluster: &Cluster, host: &Host, admitted: &[Admitted]) -> String {
    let mut out = head(cluster, host);
    out.push_str(
        "# To keep it: write it to /etc/nftables.conf (or a file that one includes), check it with\n\
         # nft -c -f /etc/nftables.conf, then: systemctl enable nftables && nft -f /etc/nftables.conf\n",
    );
    let table = format!("inet {}_hosts", cluster.name.to_string().replace(['-', '.'], "_"));
    let _ = write!(
        out,
        "table {table}\ndelete table {table}\ntable {table} {{\n  chain input {{\n    \
         type filter hook input priority filter; policy drop;\n    ct state established,related accept\n    \
         iif \"lo\" accept\n    # Errors and the size of packets are told by these; IPv6 does not work without them.\n    \
         meta l4proto {{ icmp, ipv6-icmp }} accept\n    udp sport 67 udp dport 68 accept\n    \
         ip6 saddr fe80::/10 udp sport 547 udp dport 546 accept\n"
    );
    for rule in admitted {
        let what = match rule.protocol {
            Protocol::Tcp(port) => format!("tcp dport {port} "),
            Protocol::Udp(port) => format!("udp dport {port} "),
            Protocol::UdpAndTcp(port) => format!("meta l4proto {{ tcp, udp }} th dport {port} "),
            Protocol::All => String::new(),
            Protocol::Vrrp => "meta l4proto 112 ".to_owned(),
        };
        let _ = writeln!(out, "    # {}: {}", rule.service, rule.why);
        let Some(from) = &rule.from else {
            let _ = writeln!(out, "    {what}accept");
            continue;
        };
        for (family, nets) in by_family(from) {
            if !nets.is_empty() {
                let word_of = if family == "ipv4" { "ip" } else { "ip6" };
                let nets: Vec<String> = nets.into_iter().map(word).collect();
                let _ = writeln!(out, "    {word_of} saddr {{ {} }} {what}accept", nets.join(", "));
            }
        }
    }
    out.push_str("  }\n");
    if cluster.is_node(&host.name) {
        out.push_str(
            "  chain forward {\n    type filter hook forward priority filter; policy drop;\n    \
             ct state established,related accept\n",
        );
        for net in &cluster.network.pods {
            let word_of = if net.addr().is_ipv4() { "ip" } else { "ip6" };
            let _ =
                writeln!(out, "    {word_of} saddr {net} accept\n    {word_of} daddr {net} accept");
        }
        out.push_str("  }\n");
    }
    out.push_str("}\n");
    out
}

fn firewalld(cluster: &Cluster, host: &Host, admitted: &[Admitted]) -> String {
    let mut out = head(cluster, host);
    let permanent = "firewall-cmd --permanent";
    for rule in admitted {
        let _ = writeln!(out, "# {}: {}", rule.service, rule.why);
        if rule.protocol == Protocol::All {
            for net in rule.from.iter().flatten() {
                let _ = writeln!(out, "{permanent} --zone=trusted --add-source={net}");
            }
            continue;
        }
        let ports = rule.protocol.ports();
        let Some(from) = &rule.from else {
            for (port, protocol) in ports {
                let _ = writeln!(out, "{permanent} --add-port={port}/{protocol}");
            }
            continue;
        };
        for (family, nets) in by_family(from) {
            for net in nets {
                let source = format!("rule family=\"{family}\" source address=\"{}\"", word(net));
                if rule.protocol == Protocol::Vrrp {
                    let _ = writeln!(
                        out,
                        "{permanent} --add-rich-rule='{source} protocol value=\"vrrp\" accept'"
                    );
                }
                for (port, protocol) in &ports {
                    let _ = writeln!(
                        out,
                        "{permanent} --add-rich-rule='{source} port port=\"{port}\" protocol=\"{protocol}\" accept'"
                    );
                }
            }
        }
        if rule.service == Service::Ssh {
            let _ = writeln!(
                out,
                "# SSH is open to everybody else until this too:\n{permanent} --remove-service=ssh"
            );
        }
    }
    out.push_str("firewall-cmd --reload\n");
    out
}

fn ufw(cluster: &Cluster, host: &Host, admitted: &[Admitted]) -> String {
    let mut out = head(cluster, host);
    out.push_str("ufw default deny incoming\n");
    for rule in admitted {
        let comment = format!("comment '{}'", rule.service);
        let ports = rule.protocol.ports();
        match (&rule.from, rule.protocol) {
            (None, _) => {
                for (port, protocol) in ports {
                    let _ = writeln!(out, "ufw allow {port}/{protocol} {comment}");
                }
            }
            (Some(from), Protocol::All) => {
                for net in from {
                    let _ = writeln!(
                        out,
                        "ufw allow from {net} {comment}\nufw route allow from {net} {comment}\nufw route allow to {net} {comment}"
                    );
                }
            }
            (Some(_), Protocol::Vrrp) => {
                let _ = writeln!(
                    out,
                    "# ufw has no words for IP protocol 112: add '-A ufw-before-input -p vrrp -j ACCEPT' to /etc/ufw/before.rules"
                );
            }
            (Some(from), _) => {
                for net in from {
                    for (port, protocol) in &ports {
                        let _ = writeln!(
                            out,
                            "ufw allow proto {protocol} from {} to any port {port} {comment}",
                            word(net)
                        );
                    }
                }
            }
        }
    }
    out.push_str("ufw enable\n");
    out
}

/// What a device between people, hosts and the world must let through.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct OutsideRow {
    /// Who begins.
    pub from: String,
    /// Whom they reach.
    pub to: String,
    /// How.
    pub protocol: String,
    /// What fails without it.
    pub why: &'static str,
    /// For how long it is needed.
    pub until: &'static str,
}

/// What devices in front must let through: routers, a provider's filters. What hosts say to one another is
/// among it where they do not all stand at one site.
pub fn outside(cluster: &Cluster) -> Vec<OutsideRow> {
    let sites: std::collections::BTreeSet<_> =
        cluster.hosts.iter().map(|host| host.place.site.as_deref()).collect();
    let mut out = Vec::new();
    for demand in demands(cluster) {
        let to_servers = matches!(demand.to, End::Servers(_));
        for end in &demand.from {
            let among_hosts = matches!(end, End::Hosts(_) | End::Pods) && !to_servers;
            if among_hosts && sites.len() < 2 {
                continue;
            }
            out.push(OutsideRow {
                from: end.name(cluster),
                to: demand.to.name(cluster),
                protocol: demand.protocol.to_string(),
                why: demand.why,
                until: demand.until,
            });
        }
    }
    out
}
