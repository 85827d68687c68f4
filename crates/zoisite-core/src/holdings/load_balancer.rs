//! A load balancer: HAProxy in TCP mode in front of the API servers, with a TLS check of their readiness.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use super::config::word;
use super::runtime::Layout;
use super::unit::HARDENED;
use super::{HostHoldings, Part, UnitFile, WRITTEN, Workshop};
use crate::cluster::{Role, Settings};
use crate::item::{Item, Sysctl, User};
use crate::layout::SYSTEMD_SYSCTL;
use crate::paths::LOAD_BALANCER_HEALTH;
use crate::pki::AuthorityKind;

/// Name of the load balancer's unit.
pub const LOAD_BALANCER_UNIT: &str = "zoisite-load-balancer.service";
const USER: &str = "zoisite-load-balancer";
const FOLDER: &str = "/etc/zoisite/load-balancer";
/// Whether an API server can serve, whatever its etcd does (its documented checks of health).
const ALIVE: &str = "/readyz?exclude=etcd&exclude=etcd-readiness";

pub(super) fn load_balancer(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let mut items = vec![
        Item::User(User { name: USER, home: FOLDER.into() }),
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(FOLDER, "root", 0o755),
    ];
    let authority = format!("{FOLDER}/cluster-authority.crt");
    // OpenSSL, with which it verifies, believes roots alone.
    let kind = AuthorityKind::Cluster;
    items.extend(shop.authority_up_to_root(kind, &authority, Some(LOAD_BALANCER_UNIT)));
    let mut before = Vec::new();
    if shop.cluster.load_balancers.virtual_ip.is_some() {
        let settings = [
            Sysctl { key: "net.ipv4.ip_nonlocal_bind", value: "1", optional: true },
            Sysctl { key: "net.ipv6.ip_nonlocal_bind", value: "1", optional: true },
        ];
        let lines: String = settings.iter().map(Sysctl::line).collect();
        let path = format!("{FOLDER}/sysctl.conf");
        items.push(Workshop::file(&path, format!("{WRITTEN}{lines}"), Some(LOAD_BALANCER_UNIT)));
        items.extend(settings.map(Item::Sysctl));
        before.push(("ExecStartPre", format!("+{SYSTEMD_SYSCTL} {path}")));
    }
    let path = format!("{FOLDER}/haproxy.cfg");
    items.push(Workshop::reloaded(&path, config(shop, &authority), LOAD_BALANCER_UNIT));
    let what = format!("load balancer of {} on {}", shop.cluster.name, shop.host.name);
    let layout = Layout::of(shop.cluster, &shop.facts());
    let unit = UnitFile::service(&what, "network-online.target")
        .section(
            "Service",
            haproxy(layout.haproxy(), USER, &path)
                .into_iter()
                .chain([
                    ("LimitNOFILE", "16384".to_owned()),
                    ("AmbientCapabilities", "CAP_NET_BIND_SERVICE".to_owned()),
                ])
                .chain(before)
                .chain(
                    HARDENED
                        .iter()
                        .copied()
                        .filter(|(key, _)| *key != "CapabilityBoundingSet")
                        .map(|(key, value)| (key, value.to_owned())),
                )
                .chain([("CapabilityBoundingSet", "CAP_NET_BIND_SERVICE".to_owned())]),
        )
        .at_boot();
    items.extend(Workshop::unit(LOAD_BALANCER_UNIT, None, &unit));
    out.programs.push(layout.haproxy().to_owned());
    out.extend(Part::LoadBalancer, items);
}

/// How a unit runs HAProxy, as that user, by that configuration: a reload is judged first, and those that are served go on
/// with the process that serves them (haproxy(1), options -Ws and -c).
pub(super) fn haproxy(program: &str, user: &str, config: &str) -> [(&'static str, String); 9] {
    [
        ("Type", "notify".into()),
        ("User", user.into()),
        ("Group", user.into()),
        ("ExecStart", format!("{program} -Ws -f {config}")),
        ("ExecReload", format!("{program} -c -f {config}")),
        ("ExecReload", "/bin/kill -USR2 $MAINPID".into()),
        ("Restart", "always".into()),
        ("RestartSec", "1".into()),
        ("TimeoutStopSec", "10".into()),
    ]
}

/// A person's own lines of the section `defaults`: the later one of a keyword counts.
fn own_lines(settings: &Settings) -> String {
    settings.iter().map(|(keyword, value)| format!("    {keyword} {}\n", word(value))).collect()
}

/// HAProxy's configuration (its configuration manual, sections 3, 4 and 5).
fn config(shop: &Workshop<'_>, authority: &str) -> String {
    let control = &shop.cluster.control_plane;
    // Beside an API server at the same port there is room at the virtual IP alone.
    let virtual_ip = shop.cluster.load_balancers.virtual_ip;
    let beside = shop.cluster.holds(&shop.host.name, Role::ControlPlane)
        && control.port == control.endpoint.port;
    let own = (!beside || virtual_ip.is_none()).then_some(shop.host.address);
    // A virtual IP that another host has now is listened at all the same (sysctl.conf).
    let binds = |own: Option<IpAddr>, port: u16| -> String {
        let all = own.into_iter().chain(virtual_ip);
        all.map(|address| format!("    bind {}\n", SocketAddr::new(address, port))).collect()
    };
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
    # An API server whose etcd does not answer says so after two seconds.
    timeout check 3s
    # Watches are silent for long: keep-alives find dead peers, not these.
    timeout client 1h
    timeout server 1h
    option clitcpka
    option srvtcpka
{}
frontend api
{}    # While etcd's members have no leader no API server is ready: clients wait at one that lives, and are not turned away.
    use_backend api-servers if {{ nbsrv(api-servers) gt 0 }}
    default_backend api-servers-alive

frontend health
    mode http
    bind 127.0.0.1:{LOAD_BALANCER_HEALTH}
    monitor-uri /serves
    monitor fail if {{ nbsrv(api-servers-alive) lt 1 }}
{}",
        WRITTEN,
        own_lines(&shop.cluster.load_balancers.settings),
        binds(own, control.endpoint.port),
        match shop.cluster.monitoring {
            Some(_) => "    http-request use-service prometheus-exporter if { path /metrics }\n",
            None => "",
        },
    );
    // One that lives and whose etcd does not answer keeps its connections, and is given no new ones (L7OKC).
    let check = |uri: &str, otherwise: &str| {
        format!(
            "    http-check connect default\n    http-check send meth GET uri {uri}\n    \
             http-check expect status 200{otherwise}\n"
        )
    };
    let lives = check(ALIVE, "");
    let ready = check("/readyz?exclude=etcd", " error-status L7OKC");
    for (backend, checks) in [("api-servers", lives.clone() + &ready), ("api-servers-alive", lives)]
    {
        out.push_str(&format!(
            "
backend {backend}
    balance leastconn
    option httpchk
{checks}    default-server check check-ssl verify required ca-file {authority} inter 2s fall 2 rise 1 \
on-marked-down shutdown-sessions
"
        ));
        for api in shop.cluster.hosts_of(Role::ControlPlane) {
            let address = SocketAddr::new(api.address, control.port);
            let name = &api.name;
            out.push_str(&format!(
                "    server {name} {address} check-sni {name} verifyhost {name}\n"
            ));
        }
    }
    let forward = &shop.cluster.load_balancers.forward;
    for (port, to) in forward {
        out.push_str(&format!(
            "\nfrontend forward-{port}\n{}    default_backend node-port-{to}\n",
            binds(Some(shop.host.address), *port)
        ));
    }
    let workers = shop.cluster.hosts_of(Role::Worker);
    let node_ports: BTreeSet<u16> = forward.values().copied().collect();
    for to in node_ports {
        out.push_str(&format!(
            "\nbackend node-port-{to}\n    balance leastconn\n    default-server check inter 2s fall 2 rise 1\n"
        ));
        for worker in &workers {
            let address = SocketAddr::new(worker.address, to);
            out.push_str(&format!("    server {} {address}\n", worker.name));
        }
    }
    out
}
