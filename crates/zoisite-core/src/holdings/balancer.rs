//! A balancer: HAProxy in TCP mode in front of the API servers, with a TLS check of their readiness.

use super::unit::HARDENED;
use super::{HostHoldings, Part, UnitFile, Workshop};
use crate::cluster::Role;
use crate::item::{Item, User};
use crate::layout::HAPROXY;
use crate::pki::AuthorityKind;

/// Name of the balancer's unit.
pub const BALANCER_UNIT: &str = "zoisite-balancer.service";
const USER: &str = "zoisite-balancer";
const FOLDER: &str = "/etc/zoisite/balancer";

pub(super) fn balancer(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let mut items = vec![
        Item::User(User { name: USER, home: FOLDER.into() }),
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(FOLDER, "root", 0o755),
    ];
    let authority = format!("{FOLDER}/cluster-authority.crt");
    items.extend(shop.authority(AuthorityKind::Cluster, &authority, Some(BALANCER_UNIT)));
    let path = format!("{FOLDER}/haproxy.cfg");
    items.push(Workshop::file(&path, config(shop, &authority), Some(BALANCER_UNIT)));
    let what = format!("balancer of {} on {}", shop.cluster.name, shop.host.name);
    let start = format!("{HAPROXY} -Ws -f {path}");
    let unit = UnitFile::service(&what, "network-online.target")
        .section(
            "Service",
            [
                ("Type", "notify"),
                ("User", USER),
                ("Group", USER),
                ("ExecStart", &start),
                ("Restart", "always"),
                ("RestartSec", "1"),
                ("TimeoutStopSec", "10"),
                ("LimitNOFILE", "16384"),
                ("AmbientCapabilities", "CAP_NET_BIND_SERVICE"),
            ]
            .into_iter()
            .chain(HARDENED.iter().copied().filter(|(key, _)| *key != "CapabilityBoundingSet"))
            .chain([("CapabilityBoundingSet", "CAP_NET_BIND_SERVICE")]),
        )
        .at_boot();
    items.extend(Workshop::unit(BALANCER_UNIT, None, &unit));
    out.programs.push(HAPROXY);
    out.extend(Part::Balancer, items);
}

/// HAProxy's configuration (its configuration manual, sections 3, 4 and 5).
fn config(shop: &Workshop<'_>, authority: &str) -> String {
    let control = &shop.cluster.control_plane;
    let bind = std::net::SocketAddr::new(shop.host.address, control.address.port);
    let mut out = format!(
        "{}\
global
    log stderr format raw local0 info
    maxconn 8000

defaults
    mode tcp
    log global
    option dontlognull
    timeout connect 5s
    # Watches are silent for long: keep-alives find dead peers, not these.
    timeout client 1h
    timeout server 1h
    option clitcpka
    option srvtcpka

frontend api
    bind {bind}
    default_backend api-servers

backend api-servers
    balance leastconn
    option httpchk
    http-check send meth GET uri /readyz
    http-check expect status 200
    default-server check check-ssl verify required ca-file {authority} inter 2s fall 2 rise 1 \
on-marked-down shutdown-sessions
",
        super::WRITTEN
    );
    for api in shop.cluster.hosts_of(Role::ControlPlane) {
        let address = std::net::SocketAddr::new(api.address, control.port);
        let name = &api.name;
        out.push_str(&format!("    server {name} {address} check-sni {name} verifyhost {name}\n"));
    }
    out
}
