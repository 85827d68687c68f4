//! The mesh: an interface of WireGuard on every host, with those as its peers that it meets there.
//!
//! Each host makes its key itself, and only its public half ever leaves it. Who is added touches the others by a reload, in
//! which those that are connected stay so. Where the kernel has no WireGuard a program of its own carries it.

use std::fmt::Write as _;
use std::net::IpAddr;

use ipnet::IpNet;

use super::node::ROUTES;
use super::unit::NO_CORE;
use super::{HostHoldings, Part, UnitFile, WRITTEN, Workshop};
use crate::cluster::{Host, Mesh};
use crate::item::{Content, File, Item};
use crate::layout::{IP, WIREGUARD, WIREGUARD_PROGRAM};

/// Name of the unit that holds the mesh's interface.
pub const MESH_UNIT: &str = "zoisite-mesh.service";
/// The interface.
pub(crate) const MESH_DEVICE: &str = "zoisite-mesh";
/// The public half of the key that a host made for itself.
pub(crate) const MESH_PUBLIC: &str = "/var/lib/zoisite/mesh/public";
/// Where a host keeps the key that it made, with its public half.
pub(crate) const MESH_KEYS: &str = "/var/lib/zoisite/mesh";
const FOLDER: &str = "/etc/zoisite/mesh";
/// Whom a host meets: without this file the mesh goes.
pub(super) const MESH_PEERS: &str = "/etc/zoisite/mesh/peers";
const FINDING_UNIT: &str = "zoisite-mesh-find.service";
const FINDING_TIMER: &str = "zoisite-mesh-find.timer";
const FIND: &str = include_str!("mesh_find.sh");
/// Seconds after which a host behind a router that translates addresses says something, so that the way back stays open.
const KEEPALIVE: u16 = 25;
/// Whatever listens at an address of the mesh begins after it.
const BEFORE: &str = "zoisite-etcd.service zoisite-api-server.service zoisite-load-balancer.service \
                      zoisite-network.service zoisite-kube-proxy.service zoisite-kubelet.service \
                      zoisite-registry.service zoisite-monitoring.service";

pub(super) fn mesh(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let Some(mesh) = &shop.cluster.mesh else { return };
    let by_kernel = shop.facts().wireguard;
    let at = |name: &str| format!("{FOLDER}/{name}");
    let mut items = vec![
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(FOLDER, "root", 0o755),
        Item::File(File {
            path: at("set"),
            owner: "root",
            mode: 0o755,
            content: Content::text(set(shop, mesh)),
            restarts: Some(MESH_UNIT),
            reloads: true,
        }),
        Workshop::reloaded(MESH_PEERS, peers(shop, mesh), MESH_UNIT),
        Workshop::program(&at("find"), format!("#!/bin/sh\n{WRITTEN}{FIND}")),
    ];
    let what = format!("mesh of {} on {}", shop.cluster.name, shop.host.name);
    let gone = format!("-{IP} link delete {MESH_DEVICE}");
    let mut service = match by_kernel {
        true => vec![
            ("Type", "oneshot".to_owned()),
            ("RemainAfterExit", "yes".into()),
            ("ExecStartPre", gone.clone()),
            ("ExecStart", format!("{IP} link add {MESH_DEVICE} type wireguard")),
            ("ExecStart", at("set")),
            ("Restart", "on-failure".into()),
        ],
        false => vec![
            ("Type", "exec".to_owned()),
            ("ExecStartPre", gone.clone()),
            ("ExecStart", format!("{WIREGUARD_PROGRAM} -f {MESH_DEVICE}")),
            ("ExecStartPost", at("set")),
            ("Restart", "always".into()),
        ],
    };
    service.extend([
        ("ExecReload", at("set")),
        ("ExecStopPost", gone),
        ("RestartSec", "2".into()),
        ("LimitCORE", NO_CORE.into()),
    ]);
    let unit = UnitFile::service(&what, "network-online.target")
        .with("Before", BEFORE)
        .with("ConditionPathExists", MESH_PEERS)
        .section("Service", service)
        .at_boot();
    items.extend(Workshop::unit(MESH_UNIT, None, &unit));
    items.extend(finding(&at("find")));
    out.programs.push(WIREGUARD.to_owned());
    if !by_kernel {
        out.programs.push(WIREGUARD_PROGRAM.to_owned());
    }
    out.extend(Part::Mesh, items);
}

/// What looks every half minute for hosts that are silent.
fn finding(program: &str) -> Vec<Item> {
    let what = "looks for hosts of the mesh that do not answer where they should be found";
    let service = UnitFile::default().section("Unit", [("Description", what)]).section(
        "Service",
        [("Type", "oneshot"), ("ExecStart", program), ("TimeoutStartSec", "60")],
    );
    let when = [("OnActiveSec", "30"), ("OnUnitInactiveSec", "30"), ("AccuracySec", "5")];
    let when = when.map(|(key, seconds)| (key, seconds.to_owned())).into();
    let every = format!("{what}, every half minute");
    Workshop::timed((FINDING_UNIT, &service), (FINDING_TIMER, every, when))
}

/// The script that gives the interface its key, its peers and its addresses, at each start and reload (wg(8)).
fn set(shop: &Workshop<'_>, mesh: &Mesh) -> String {
    let mut addresses = String::new();
    let (cluster, host) = (shop.cluster, shop.host);
    let own = host.dialled().filter_map(|address| Some((address, mesh.range_of(address)?)));
    let own = own.map(|(address, range)| format!("{address}/{}", range.prefix_len()));
    let carried = cluster.carried_by(&host.name).map(|address| IpNet::from(address).to_string());
    for net in own.chain(carried).filter(|_| cluster.is_in_mesh(&host.name)) {
        let nodad = if net.contains(':') { " nodad" } else { "" };
        let _ = writeln!(addresses, "ip address replace {net} dev \"$dev\"{nodad}");
    }
    // Those that have no address in the range of the other's.
    let others = cluster.hosts.iter().filter(|other| {
        cluster.meet_in_mesh(&host.name, &other.name)
            && !(cluster.is_in_mesh(&host.name) && cluster.is_in_mesh(&other.name))
    });
    let there = others.flat_map(|other| other.dialled());
    let routes: Vec<(IpAddr, IpAddr)> =
        there.filter_map(|to| Some((to, host.address_beside(to)?))).collect();
    let routed: String = routes.iter().map(|(to, _)| format!(" {to}")).collect();
    for (to, from) in &routes {
        let _ = writeln!(addresses, "ip route replace {to} dev \"$dev\" src {from} proto static");
    }
    format!(
        "#!/bin/sh
{WRITTEN}# Gives the interface of the mesh its key, its peers and its addresses. Those that are connected stay so.
set -eu
umask 077
dev={MESH_DEVICE}
kept=${{0%/*}}
state={MESH_KEYS}
if [ ! -s \"$state/key\" ]; then
  mkdir -p \"$state\"
  wg genkey >\"$state/key.new\"
  sync \"$state/key.new\"
  mv \"$state/key.new\" \"$state/key\"
fi
wg pubkey <\"$state/key\" >\"$state/public.new\"
mv \"$state/public.new\" \"$state/public\"
tries=0
until ip link show dev \"$dev\" >/dev/null 2>&1; do
  tries=$((tries + 1))
  [ \"$tries\" -lt 200 ] || {{ echo \"there is no $dev\" >&2; exit 1; }}
  sleep 0.1
done
export WG_ENDPOINT_RESOLUTION_RETRIES=3
{{ printf '[Interface]\\nPrivateKey = ' && cat \"$state/key\" \"$kept/peers\"; }} | wg syncconf \"$dev\" /dev/stdin
ip link set \"$dev\" mtu {mtu} up
routed='{routed} '
for family in -4 -6; do
  ip $family route show dev \"$dev\" proto static 2>/dev/null | while read -r to _; do
    case $routed in *\" $to \"*) ;; *) ip $family route delete \"$to\" dev \"$dev\" ;; esac
  done
done
{addresses}# Routes through an interface that was taken away went with it.
if [ -r {ROUTES} ]; then ip -force -batch {ROUTES} >/dev/null 2>&1 || :; fi
",
        mtu = mesh.mtu,
    )
}

/// Every host that it meets there and whose key is known (wg(8), the format of its configuration files).
fn peers(shop: &Workshop<'_>, mesh: &Mesh) -> String {
    let mut out = format!("ListenPort = {}\n", mesh.port);
    let found = shop.host.endpoint.is_some();
    let met = |other: &&Host| shop.cluster.meet_in_mesh(&shop.host.name, &other.name);
    for other in shop.cluster.hosts.iter().filter(met) {
        let key = shop.sources.facts.get(&other.name).and_then(|facts| facts.mesh_key.as_deref());
        let Some(key) = key else { continue };
        let _ = write!(out, "\n# {}\n[Peer]\nPublicKey = {key}\n", other.name);
        let _ = writeln!(out, "AllowedIPs = {}", behind(shop, other).join(", "));
        if let Some(endpoint) = &other.endpoint {
            let _ = writeln!(out, "Endpoint = {endpoint}");
            // Who cannot be found keeps the way open by which it is answered.
            if !found {
                let _ = writeln!(out, "PersistentKeepalive = {KEEPALIVE}");
            }
        }
    }
    out
}

/// The addresses that are reached at a host: its own, and its pods'.
fn behind(shop: &Workshop<'_>, other: &Host) -> Vec<String> {
    let own = other.dialled().map(|address| IpNet::from(address).to_string());
    let pods = shop.sources.subnets.get(&other.name).into_iter().flatten();
    own.chain(pods.map(ToString::to_string)).collect()
}
