use std::fmt::Write as _;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use super::{Demand, End, Protocol, Service, demands};
use crate::cluster::{Cluster, Host};
use crate::script::RELAY_PORT;

/// In whose words rules are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Firewall {
    /// The kernel's own (nft(8)).
    #[default]
    Nftables,
    /// firewalld (firewall-cmd(1)).
    Firewalld,
    /// Uncomplicated Firewall (ufw(8)).
    Ufw,
}

impl Firewall {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Nftables => "nftables",
            Self::Firewalld => "firewalld",
            Self::Ufw => "ufw",
        }
    }

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
/// and `clients` are whom SSH and the API endpoint are open to: everybody, where no range is named.
pub fn rules(
    cluster: &Cluster,
    host: &Host,
    firewall: Firewall,
    (administrators, clients): (&[IpNet], &[IpNet]),
) -> String {
    let open = (administrators, clients);
    let (head, all) = (head(cluster, host), all_admitted(cluster, host, &demands(cluster), open));
    match firewall {
        Firewall::Nftables => format!(
            "{head}# To keep it: write it to /etc/nftables.conf (or a file that one includes), check it with\n\
             # nft -c -f /etc/nftables.conf, then: systemctl enable nftables && nft -f /etc/nftables.conf\n{}",
            nftables(cluster, host, &all)
        ),
        Firewall::Firewalld => {
            let mut out = head;
            for (what, lines) in firewalld(&all) {
                let _ = writeln!(out, "# {what}");
                for line in lines {
                    let _ = writeln!(out, "firewall-cmd --permanent {line}");
                }
            }
            if !administrators.is_empty() {
                out.push_str("# SSH is open to everybody else until this too:\nfirewall-cmd --permanent --remove-service=ssh\n");
            }
            out + "firewall-cmd --reload\n"
        }
        Firewall::Ufw => {
            let mut out = format!("{head}ufw default deny incoming\n");
            for line in ufw(&all, "") {
                let _ = writeln!(out, "ufw {line}");
            }
            out + "ufw enable\n"
        }
    }
}

/// The same, as a raise sets them: a file for nft(8), or what goes to ufw(8) and firewall-cmd(1), line by line. A
/// firewall that the site manages is only told what to let in: what it closes, and to whom, stays the site's.
/// The demands are the whole cluster's, worked out once for all hosts.
pub(crate) fn own_rules(
    cluster: &Cluster,
    host: &Host,
    demands: &[Demand],
    firewall: Firewall,
) -> String {
    let (administrators, clients) =
        (&cluster.preparation.administrators, &cluster.preparation.clients);
    let all = all_admitted(cluster, host, demands, (administrators, clients));
    let lines = match firewall {
        Firewall::Nftables => {
            return format!("{}{}", crate::holdings::WRITTEN, nftables(cluster, host, &all));
        }
        Firewall::Firewalld => firewalld(&all).into_iter().flat_map(|(_, lines)| lines).collect(),
        Firewall::Ufw => ufw(&all, "zoisite: "),
    };
    lines.into_iter().map(|line| line + "\n").collect()
}

/// The table of nftables that holds a host's rules.
pub(crate) fn table(cluster: &Cluster) -> String {
    format!("{}_hosts", cluster.name.to_string().replace(['-', '.'], "_"))
}

fn all_admitted(
    cluster: &Cluster,
    host: &Host,
    demands: &[Demand],
    (administrators, clients): (&[IpNet], &[IpNet]),
) -> Vec<Admitted> {
    let mut all: Vec<Admitted> = demands
        .iter()
        .filter(|demand| demand.to.hosts().contains(&host.name))
        .filter_map(|demand| admitted(cluster, host, demand, administrators, clients))
        .collect();
    // Without it each file comes straight from here, and that is slower: so it is no demand.
    let beside = cluster.hosts.iter().filter(|other| {
        other.name != host.name && host.place.site.is_some() && other.place.site == host.place.site
    });
    let beside: Vec<IpNet> = beside.flat_map(Host::addresses).map(IpNet::from).collect();
    if !beside.is_empty() {
        all.push(Admitted {
            service: Service::Copies,
            protocol: Protocol::Tcp(RELAY_PORT),
            from: Some(shortened(beside)),
            why: "hosts of a site give one another what came there once",
        });
    }
    // A node alone has pods too, and a host forwards what they say to the world.
    let pods = || all.iter().any(|admitted| admitted.service == Service::Pods);
    if cluster.is_node(&host.name) && !pods() {
        all.push(Admitted {
            service: Service::Pods,
            protocol: Protocol::All,
            from: Some(cluster.pod_ranges().copied().collect()),
            why: "pods reach one another, their host and the world",
        });
    }
    all
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
    // Pods speak from their own addresses, not from their hosts'.
    let ends = match demand.service {
        Service::Pods => &[End::Pods],
        _ => demand.from.as_slice(),
    };
    for end in ends {
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
            End::Monitoring => match cluster.monitoring.as_ref().map(|from| from.from.as_slice()) {
                None | Some([]) => everybody = true,
                Some(named) => from.extend_from_slice(named),
            },
            End::Clients | End::OwnLoadBalancers => match clients {
                [] => everybody = true,
                named => from.extend_from_slice(named),
            },
            End::Anywhere => everybody = true,
            End::Pods => from.extend(cluster.pod_ranges()),
            End::Servers(_) => {}
        }
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
/// them alone.
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
    let mut out = String::new();
    let table = format!("inet {}", table(cluster));
    let _ = write!(
        out,
        "table {table}\ndelete table {table}\ntable {table} {{\n  chain input {{\n    \
         type filter hook input priority filter; policy drop;\n    ct state established,related accept\n    \
         iif \"lo\" accept\n    # ICMP reports errors and packet sizes; IPv6 does not work without it.\n    \
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
        for net in cluster.pod_ranges() {
            let word_of = if net.addr().is_ipv4() { "ip" } else { "ip6" };
            let _ =
                writeln!(out, "    {word_of} saddr {net} accept\n    {word_of} daddr {net} accept");
        }
        out.push_str("  }\n");
    }
    out.push_str("}\n");
    out
}

/// What each is for, and its lines.
fn firewalld(admitted: &[Admitted]) -> Vec<(String, Vec<String>)> {
    let mut out = Vec::new();
    for rule in admitted {
        let mut lines = Vec::new();
        let ports = rule.protocol.ports();
        let to = |(port, protocol): &(u16, &str)| {
            format!("port port=\"{port}\" protocol=\"{protocol}\" accept'")
        };
        match (&rule.from, rule.protocol) {
            (from, Protocol::All) => {
                let nets = from.iter().flatten();
                lines.extend(nets.map(|net| format!("--zone=trusted --add-source={net}")));
            }
            (None, _) => {
                lines
                    .extend(ports.iter().map(|port| format!("--add-rich-rule='rule {}", to(port))));
            }
            (Some(from), protocol) => {
                for (family, nets) in by_family(from) {
                    for net in nets {
                        let source = format!(
                            "--add-rich-rule='rule family=\"{family}\" source address=\"{}\"",
                            word(net)
                        );
                        if protocol == Protocol::Vrrp {
                            lines.push(format!("{source} protocol value=\"vrrp\" accept'"));
                        }
                        lines.extend(ports.iter().map(|port| format!("{source} {}", to(port))));
                    }
                }
            }
        }
        out.push((format!("{}: {}", rule.service, rule.why), lines));
    }
    out
}

/// The lines, with a comment each that begins so.
fn ufw(admitted: &[Admitted], comment: &str) -> Vec<String> {
    let mut out = Vec::new();
    for rule in admitted {
        let comment = format!("comment '{comment}{}'", rule.service);
        let ports = rule.protocol.ports();
        match (&rule.from, rule.protocol) {
            (None, _) => {
                out.extend(
                    ports
                        .iter()
                        .map(|(port, protocol)| format!("allow {port}/{protocol} {comment}")),
                );
            }
            (Some(from), Protocol::All) => {
                for net in from {
                    out.extend(
                        ["allow from", "route allow from", "route allow to"]
                            .map(|way| format!("{way} {net} {comment}")),
                    );
                }
            }
            (Some(from), Protocol::Vrrp) => {
                let nets = from.iter().filter(|net| net.addr().is_ipv4());
                out.extend(
                    nets.map(|net| format!("allow proto vrrp from {} {comment}", word(net))),
                );
            }
            (Some(from), _) => {
                for net in from {
                    out.extend(ports.iter().map(|(port, protocol)| {
                        format!(
                            "allow proto {protocol} from {} to any port {port} {comment}",
                            word(net)
                        )
                    }));
                }
            }
        }
    }
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
