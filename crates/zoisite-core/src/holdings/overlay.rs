//! The overlay (VXLAN, RFC 7348) through which nodes reach the pods of those that run Windows, beside the routed pod network.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net};

use super::Workshop;
use crate::cluster::{Host, HostName};
use crate::item::ROUTE_PROTOCOL;
use crate::paths::OVERLAY;

/// The network's identifier: Windows takes none below this one.
pub(super) const IDENTIFIER: u32 = 4_096;
/// The interface of the overlay on nodes that run Linux.
const DEVICE: &str = "zoisite-vx";
/// What the packing takes of a packet, in octets.
const PACKED: u16 = 50;

/// The hardware address of the end of the overlay on a node that runs Linux: it follows from its address, so that nobody
/// need ask.
pub(super) fn own_mac(address: Ipv4Addr) -> String {
    let [a, b, c, d] = address.octets();
    format!("02:7a:{a:02x}:{b:02x}:{c:02x}:{d:02x}")
}

/// The nth address of a subnet.
pub(super) fn nth(subnet: &Ipv4Net, n: u32) -> Ipv4Addr {
    Ipv4Addr::from(u32::from(subnet.network()).saturating_add(n))
}

/// The subnet of the older family, of those a node has: Windows has one alone.
pub(super) fn older(subnets: &[IpNet]) -> Option<Ipv4Net> {
    subnets.iter().find_map(|subnet| match subnet {
        IpNet::V4(subnet) => Some(*subnet),
        IpNet::V6(_) => None,
    })
}

pub(super) fn v4(host: &Host) -> Option<Ipv4Addr> {
    host.dialled().find_map(|address| match address {
        IpAddr::V4(address) => Some(address),
        IpAddr::V6(_) => None,
    })
}

/// Lines for ip(8) (`-batch`) by which a node that runs Linux has its end of the overlay, and routes to the pods of those
/// nodes that run Windows and have told their own; none where there are no such nodes.
pub(super) fn lines_on_linux(shop: &Workshop<'_>) -> String {
    let subnets = |name: &HostName| shop.sources.subnets.get(name).and_then(|all| older(all));
    let (Some(own), Some(subnet)) = (v4(shop.host), subnets(&shop.host.name)) else {
        return String::new();
    };
    let ranges = &shop.cluster.network.windows_pods;
    if ranges.is_empty() {
        return String::new();
    }
    let (mac, mtu, first) = (own_mac(own), 1_500 - PACKED, subnet.network());
    // Each packet says by its route where it is sent: nothing is learnt, and nobody else is heard.
    let mut out = format!(
        "link add {DEVICE} type vxlan external dstport {OVERLAY} local {own}\n\
         link set {DEVICE} address {mac} mtu {mtu} up\n\
         address replace {first}/32 dev {DEVICE}\n"
    );
    for name in shop.sources.subnets.keys() {
        let Some(net) =
            subnets(name).filter(|net| ranges.iter().any(|range| range.contains(&IpNet::V4(*net))))
        else {
            continue;
        };
        // One that was taken out of the file runs on.
        let address = match shop.by_name.get(name) {
            Some(host) => v4(host).map(IpAddr::V4),
            None => shop.sources.departed.get(name).copied(),
        };
        let mac = shop.sources.facts.get(name).and_then(|facts| facts.overlay_mac.as_ref());
        let (Some(address), Some(mac)) = (address, mac) else { continue };
        let gateway = nth(&net, 1);
        out.push_str(&format!(
            "neigh replace {gateway} lladdr {mac} dev {DEVICE} nud permanent\n\
             route replace {net} via {gateway} dev {DEVICE} onlink proto {ROUTE_PROTOCOL} encap ip id {IDENTIFIER} dst {address}\n"
        ));
    }
    out
}
