//! Addresses, ranges, name servers, ports and filters of a host.

use std::net::IpAddr;

use ipnet::IpNet;

use super::super::facts::{AddressFacts, Facts, Listening, is_link_local};
use super::{Case, SiteFinding};
use crate::cluster::{Cluster, Host, PodsBy};
use crate::paths::served;

pub(super) fn addresses(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, host, facts, .. } = case;
    // An address in the mesh is given to the host once the mesh is made.
    let given =
        |address: &IpAddr| cluster.mesh.iter().any(|mesh| mesh.range_of(*address).is_some());
    let has = |address: &IpAddr| facts.addresses.iter().find(|seen| seen.net.addr() == *address);
    let mut out = Vec::new();
    for address in host.dialled().filter(|address| !given(address)) {
        match has(&address) {
            None => {
                let seen: Vec<String> = facts
                    .addresses
                    .iter()
                    .filter(|seen| {
                        !seen.net.addr().is_loopback() && !is_link_local(seen.net.addr())
                    })
                    .map(|seen| format!("{} on {}", seen.net.addr(), seen.link))
                    .collect();
                out.push(
                    case.blocks("address-missing", format!("no interface has its address {address}"))
                        .seen(format!("it has {}", seen.join(", ")))
                        .fix("put the address right under [hosts]; an address that only the login uses belongs into login.address"),
                );
            }
            Some(seen) => {
                if let Some(left) = seen.leased {
                    let mac = facts.link_of(address).map_or("", |link| link.mac.as_str());
                    out.push(
                        case.warns("address-leased", format!("its address {address} is leased, and may change"))
                            .seen(format!("{} on {}, for {} more minutes", seen.net, seen.link, left / 60))
                            .fix(format!("reserve it for {mac} (zoisite network-files reservations writes that), or give the host a fixed one")),
                    );
                }
            }
        }
    }
    if let Some(interface) = &host.interface
        && !facts.links.iter().any(|link| link.name == *interface)
    {
        let seen: Vec<&str> = facts.links.iter().map(|link| link.name.as_str()).collect();
        out.push(
            case.blocks("interface-missing", format!("it has no interface {interface}"))
                .seen(format!("it has {}", seen.join(", ")))
                .fix("put 'interface' right under [hosts]"),
        );
    }
    out
}

/// Where pods are routed from host to host, each node must find the others beside itself: the kernel takes no
/// route through a host that is behind another one.
pub(super) fn segment(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, host, facts, .. } = case;
    if cluster.network.pod_network != PodsBy::Routes || !case.is_node() {
        return Vec::new();
    }
    let own: Vec<&AddressFacts> = facts
        .addresses
        .iter()
        .filter(|seen| host.dialled().any(|address| address == seen.net.addr()))
        // An address without a network says nothing of who is beside it.
        .filter(|seen| seen.net.prefix_len() < seen.net.max_prefix_len())
        .collect();
    let beside = |address: IpAddr| {
        let mut same = own.iter().filter(|seen| seen.net.addr().is_ipv4() == address.is_ipv4());
        same.clone().next().is_none() || same.any(|seen| seen.net.trunc().contains(&address))
    };
    let nodes = cluster.nodes();
    let met = |node: &Host| cluster.meet_in_mesh(&host.name, &node.name);
    let far = nodes.iter().filter(|node| node.name != host.name && !met(node));
    let far: Vec<String> = far
        .flat_map(|node| node.dialled().map(move |address| (node, address)))
        .filter(|(_, address)| !beside(*address))
        .map(|(node, address)| format!("{} at {address}", node.name))
        .collect();
    if far.is_empty() {
        return Vec::new();
    }
    let nets: Vec<String> = own.iter().map(|seen| seen.net.trunc().to_string()).collect();
    vec![
        case.blocks("segment-differs", "other nodes are not in its own network, and pods cannot be routed through them")
            .seen(format!("its network is {}; beyond it: {}", nets.join(", "), shortened(&far)))
            .fix("give all nodes addresses of one network (segment); or name those beyond it in [mesh] hosts (docs/mesh.md); or pod-network = \"manifests\" under [network], with a pod network of your own that tunnels"),
    ]
}

fn shortened(all: &[String]) -> String {
    match all {
        [first, second, third, rest @ ..] if rest.len() > 1 => {
            format!("{first}, {second}, {third} and {} more", rest.len())
        }
        _ => all.join(", "),
    }
}

/// Routes that are there already lead where ours would.
pub(super) fn ranges(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, facts, .. } = case;
    if case.is_ours() {
        return Vec::new();
    }
    let network = &cluster.network;
    let ours = network.pods.iter().map(|range| (range, "pods"));
    let ours = ours.chain(network.services.iter().map(|range| (range, "services")));
    let ours = ours.chain(network.windows_pods.iter().map(|range| (range, "windows-pods")));
    let mut out = Vec::new();
    for (range, what) in ours {
        let meets = |to: &IpNet| to.contains(range) || range.contains(to);
        let met: Vec<String> = facts
            .routes
            .iter()
            .filter(|route| meets(&route.to))
            .map(|route| match (route.via, route.link.as_str()) {
                (Some(via), link) => format!("{} via {via} on {link}", route.to),
                (None, "") => format!("{} leads nowhere", route.to),
                (None, link) => format!("{} on {link}", route.to),
            })
            .collect();
        if !met.is_empty() {
            let mut found = case
                .blocks("range-in-use", format!("it has a route into the range {range} of {what} already"))
                .fix(format!("take another range for network.{what}, and name this one under network.reserved; or take the route away, where it is a leftover"));
            found.evidence = met;
            out.push(found);
        }
    }
    out
}

pub(super) fn name_servers(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, facts, .. } = case;
    let mut out = Vec::new();
    let direct: Vec<_> = facts.name_servers.iter().filter(|server| server.direct).collect();
    if direct.is_empty() {
        out.push(
            case.warns("resolver-none", "its resolv.conf names no name server")
                .fix("name the site's own there, or in the settings of its network"),
        );
    }
    let own = cluster.workers.own.kubelet.get("resolvConf");
    // What a stub asks is written beside it, and the kubelet is given that.
    let behind = facts.name_servers.iter().any(|server| !server.direct);
    let stub = direct.iter().any(|server| server.address.is_loopback());
    if case.is_node() && own.is_none() && stub && !behind {
        let fix = "name the site's own name servers in /etc/resolv.conf, or in a file that workers.kubelet.resolvConf names";
        out.push(
            case.warns("resolver-stub", "its resolv.conf names a resolver on the host itself, which pods would look for in themselves")
                .seen(format!("nameserver {}", direct.iter().map(|s| s.address.to_string()).collect::<Vec<_>>().join(", ")))
                .fix(fix),
        );
    }
    for server in &facts.name_servers {
        if let Some(fault) = &server.fault {
            out.push(
                case.warns("resolver-silent", format!("its name server {} does not answer", server.address))
                    .seen(fault.clone())
                    .fix("start it, open port 53 (UDP and TCP) to it, or take it out of the host's settings: every name waits for it"),
            );
        }
    }
    out
}

/// Ports that the host must serve, and that something else has.
pub(super) fn ports(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, host, facts, .. } = case;
    let mut out = Vec::new();
    for port in served(cluster, host) {
        let at: Vec<IpAddr> = match port.loopback {
            true => vec![IpAddr::from([127, 0, 0, 1])],
            false => host.dialled().collect(),
        };
        let Some(by) = facts.listener("tcp", port.port, &at) else { continue };
        if by.unit.starts_with("zoisite-") {
            continue;
        }
        let fix = match by.unit.as_str() {
            unit if unit.ends_with(".service") || unit.ends_with(".socket") => {
                format!(
                    "systemctl disable --now {unit}, where it is not needed; or another port in the cluster file"
                )
            }
            _ => format!(
                "ss -ltnp 'sport = :{}' shows it; stop it, or take another port in the cluster file",
                port.port
            ),
        };
        out.push(
            case.blocks(
                "port-busy",
                format!(
                    "port {}, which {} needs, is held by {}",
                    port.port,
                    port.what,
                    by.holder()
                ),
            )
            .fix(fix),
        );
    }
    out
}

pub(super) fn filters(case: &Case<'_>) -> Vec<SiteFinding> {
    let facts = case.facts;
    let mut out = Vec::new();
    if facts.mandatory.iter().any(|kind| kind.starts_with("SELinux")) {
        out.push(
            case.warns("selinux", "SELinux is enforced, and Zoisite's units are not proven under it")
                .fix("watch for refusals while it is raised: ausearch -m avc -ts recent; setenforce 0 shows whether it is that"),
        );
    }
    let dropping = facts.policies.iter().filter(|p| p.hook == "forward" && p.policy == "drop");
    let dropping: Vec<String> = dropping.map(|p| format!("chain {} drops", p.chain)).collect();
    if case.is_node() && !dropping.is_empty() && !case.is_ours() {
        let mut found = case
            .warns(
                "forward-dropped",
                "a chain drops what is forwarded, and pods would not reach those of other hosts",
            )
            .fix(
                "zoisite paths rules HOST prints what must pass; pods are its range"
                    .replace("HOST", case.host.name.as_str()),
            );
        found.evidence = dropping;
        out.push(found);
    }
    out
}

/// What listens on a host for others, and is nothing that the cluster needs: firewalls may close it.
pub fn unneeded<'a>(cluster: &Cluster, host: &Host, facts: &'a Facts) -> Vec<&'a Listening> {
    let ssh = cluster.login_of(host).port.unwrap_or(22);
    let needed: Vec<u16> = served(cluster, host).iter().map(|served| served.port).collect();
    // Ports of clients, which are picked again each time, begin there (ip(7), ip_local_port_range).
    const PICKED: u16 = 32_768;
    let mut out: Vec<&Listening> = Vec::new();
    for socket in &facts.listening {
        let outward = socket.address.is_none_or(|address| !address.is_loopback());
        let own = socket.protocol == "tcp" && (socket.port == ssh || needed.contains(&socket.port));
        let told = out
            .iter()
            .any(|known| (&known.protocol, known.port) == (&socket.protocol, socket.port));
        if outward && !own && !told && socket.port < PICKED {
            out.push(socket);
        }
    }
    out
}
