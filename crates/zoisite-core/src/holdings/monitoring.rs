//! What the site's monitoring asks: a door on each host that lets one certificate through to the metrics of what
//! listens on loopback alone.
//!
//! API servers and kubelets answer such a client themselves, by the platform's own rights. A member of etcd would give
//! whoever it believes everything, schedulers and controller managers show certificates that nobody can verify, and
//! load balancers know no certificates at all: those are read on loopback, by HAProxy, and given out over TLS.

use std::fmt::Write as _;
use std::net::{IpAddr, SocketAddr};

use serde_json::{Value, json};

use super::config::word;
use super::etcd_paths::own_loopback;
use super::load_balancer::haproxy;
use super::runtime::Layout;
use super::unit::HARDENED;
use super::{HostHoldings, Part, UnitFile, WRITTEN, Workshop};
use crate::cluster::{Cluster, Host, Role};
use crate::item::{Item, ReadBy, User};
use crate::paths::{CONTROLLER_MANAGER, KUBELET, LOAD_BALANCER_HEALTH, SCHEDULER};
use crate::pki::{AuthorityKind, MONITORING, MONITORING_USER, Profile};

/// Name of the door's unit.
pub const MONITORING_UNIT: &str = "zoisite-monitoring.service";
const FOLDER: &str = "/etc/zoisite/monitoring";

/// What monitoring reads on a host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Watched {
    /// A member of etcd.
    Etcd,
    /// An API server.
    ApiServer,
    /// A controller manager.
    ControllerManager,
    /// A scheduler.
    Scheduler,
    /// A load balancer.
    LoadBalancer,
    /// A kubelet.
    Kubelet,
}

impl Watched {
    const ALL: [Self; 6] = [
        Self::Etcd,
        Self::ApiServer,
        Self::ControllerManager,
        Self::Scheduler,
        Self::LoadBalancer,
        Self::Kubelet,
    ];

    /// Its name in targets and paths.
    pub fn id(self) -> &'static str {
        match self {
            Self::Etcd => "etcd",
            Self::ApiServer => "api-server",
            Self::ControllerManager => "controller-manager",
            Self::Scheduler => "scheduler",
            Self::LoadBalancer => "load-balancer",
            Self::Kubelet => "kubelet",
        }
    }

    fn runs_on(self, cluster: &Cluster, host: &Host) -> bool {
        let holds = |role| cluster.holds(&host.name, role);
        match self {
            Self::Etcd => holds(Role::EtcdMember),
            Self::ApiServer | Self::ControllerManager | Self::Scheduler => {
                holds(Role::ControlPlane)
            }
            Self::LoadBalancer => holds(Role::LoadBalancer),
            Self::Kubelet => cluster.is_node(&host.name),
        }
    }

    /// Whether it answers monitoring at a port of its own, with no door before it.
    fn own_port(self, cluster: &Cluster) -> Option<u16> {
        match self {
            Self::ApiServer => Some(cluster.control_plane.port),
            Self::Kubelet => Some(KUBELET),
            Self::Etcd | Self::ControllerManager | Self::Scheduler | Self::LoadBalancer => None,
        }
    }

    /// Where the door reads it, and whether that speaks TLS.
    fn behind_the_door(self, cluster: &Cluster, host: &Host) -> Option<(SocketAddr, bool)> {
        let loopback = IpAddr::from([127, 0, 0, 1]);
        match self {
            Self::Etcd => {
                let at = own_loopback(host.address);
                Some((SocketAddr::new(at, cluster.etcd.metrics_port), false))
            }
            Self::ControllerManager => {
                let own = cluster.control_plane.controller_manager.get("secure-port");
                let own = own.and_then(|port| word(port).parse().ok());
                Some((SocketAddr::new(loopback, own.unwrap_or(CONTROLLER_MANAGER)), true))
            }
            Self::Scheduler => Some((SocketAddr::new(loopback, SCHEDULER), true)),
            Self::LoadBalancer => Some((SocketAddr::new(loopback, LOAD_BALANCER_HEALTH), false)),
            Self::ApiServer | Self::Kubelet => None,
        }
    }
}

/// An address that the site's monitoring reads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// What is read there.
    pub what: Watched,
    /// Address and port.
    pub at: SocketAddr,
    /// The path.
    pub path: String,
    /// On which host.
    pub host: crate::cluster::HostName,
}

impl Target {
    /// All of it, as one address.
    pub fn url(&self) -> String {
        format!("https://{}{}", self.at, self.path)
    }
}

/// Everything that the site's monitoring can read, by what it is, in the order of the cluster file. Without
/// `[monitoring]` these are API servers and kubelets alone.
pub fn targets(cluster: &Cluster) -> Vec<Target> {
    let mut out = Vec::new();
    for what in Watched::ALL {
        for host in cluster.hosts.iter().filter(|host| what.runs_on(cluster, host)) {
            let (port, path) = match (what.own_port(cluster), &cluster.monitoring) {
                (Some(port), _) => (port, "/metrics".to_owned()),
                (None, Some(monitoring)) => (monitoring.port, format!("/{}", what.id())),
                (None, None) => continue,
            };
            let at = SocketAddr::new(host.address, port);
            out.push(Target { what, at, path, host: host.name.clone() });
        }
    }
    out
}

/// The rights of monitoring: to read metrics, and nothing else (RBAC, `rbac.authorization.k8s.io/v1`). Kubelets ask the
/// API for `nodes/metrics`.
pub(super) fn role(name: &str, labels: &Value) -> Value {
    json!({
        "apiVersion": "rbac.authorization.k8s.io/v1",
        "kind": "ClusterRole",
        "metadata": {"name": name, "labels": labels},
        "rules": [
            {"nonResourceURLs": ["/metrics", "/metrics/*"], "verbs": ["get"]},
            {"apiGroups": [""], "resources": ["nodes/metrics"], "verbs": ["get"]},
        ],
    })
}

pub(super) fn door(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let Some(port) = shop.cluster.monitoring.as_ref().map(|monitoring| monitoring.port) else {
        return;
    };
    let authority = format!("{FOLDER}/cluster-authority.crt");
    let mut items = vec![
        Item::User(User { name: MONITORING_USER, home: FOLDER.into() }),
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(FOLDER, "root", 0o755),
    ];
    // OpenSSL, with which it verifies, believes roots alone.
    let kind = AuthorityKind::Cluster;
    items.extend(shop.authority_up_to_root(kind, &authority, Some(MONITORING_UNIT)));
    let read_by = ReadBy { unit: MONITORING_UNIT, reloads: true };
    items.extend(shop.certificate_read_by(Profile::MonitoringServer, read_by));
    let path = format!("{FOLDER}/haproxy.cfg");
    items.push(Workshop::reloaded(&path, config(shop, port, &authority), MONITORING_UNIT));
    let what = format!("metrics of {} for monitoring", shop.host.name);
    let layout = Layout::of(shop.cluster, &shop.facts());
    let unit = UnitFile::service(&what, "network-online.target")
        .section(
            "Service",
            haproxy(layout.haproxy(), MONITORING_USER, &path)
                .into_iter()
                .chain(HARDENED.map(|(key, value)| (key, value.to_owned()))),
        )
        .at_boot();
    items.extend(Workshop::unit(MONITORING_UNIT, None, &unit));
    out.programs.push(layout.haproxy().to_owned());
    out.extend(Part::Monitoring, items);
}

/// HAProxy's configuration (its configuration manual, sections 3, 4, 5 and 7.3).
fn config(shop: &Workshop<'_>, port: u16, authority: &str) -> String {
    let host = shop.host;
    let pair =
        Profile::MonitoringServer.place().map_or_else(String::new, |place| place.certificate());
    let at = SocketAddr::new(host.address, port);
    // Below a company's root others stand too: the authority that issued it is named, and no other one.
    let authorities: Vec<String> = shop
        .sources
        .ledger
        .ring(AuthorityKind::Cluster)
        .map(|ring| ring.all().map(|authority| format!("\"{}\"", authority.subject)).collect())
        .unwrap_or_default();
    let mut out = format!(
        "{WRITTEN}\
global
    log stderr format raw local0 info
    maxconn 200
    # The key of tls.crt is tls.key.
    ssl-load-extra-del-ext

defaults
    mode http
    log global
    option dontlognull
    option dontlog-normal
    timeout http-request 10s
    timeout connect 5s
    timeout client 30s
    timeout server 30s

frontend monitoring
    bind {at} ssl crt {pair} ca-file {authority} verify required ssl-min-ver TLSv1.2
    http-request deny deny_status 403 unless {{ ssl_c_s_dn(cn) -m str {MONITORING} }} \
{{ ssl_c_i_dn(cn) -m str {} }}
    http-request deny deny_status 405 unless METH_GET
",
        authorities.join(" "),
    );
    let behind: Vec<_> = Watched::ALL
        .into_iter()
        .filter(|what| what.runs_on(shop.cluster, host))
        .filter_map(|what| Some((what.id(), what.behind_the_door(shop.cluster, host)?)))
        .collect();
    let paths: String = behind.iter().map(|(id, _)| format!(" /{id}")).collect();
    let _ = writeln!(out, "    http-request deny deny_status 404 unless {{ path{paths} }}");
    for (id, _) in &behind {
        let _ = writeln!(out, "    use_backend {id} if {{ path /{id} }}");
    }
    for (id, (at, tls)) in &behind {
        // On loopback it shows a certificate of its own making.
        let tls = if *tls { " ssl verify none" } else { "" };
        let _ = write!(
            out,
            "\nbackend {id}\n    http-request set-path /metrics\n    server own {at}{tls}\n"
        );
    }
    out
}
