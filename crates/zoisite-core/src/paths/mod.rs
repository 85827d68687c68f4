//! Who must reach whom: computed from the topology, tried between the real hosts before anything is installed,
//! and written as the rules that a firewall needs.
//!
//! [`demands`] is the one list; everything else is read from it: [`links`] pairs of hosts, [`served`] what a
//! host serves, [`rules`] what its firewall must let in, [`outside`] what devices in front must.

mod datagrams;
mod routers;
mod rules;
mod trial;

use std::collections::BTreeSet;
use std::fmt;
use std::net::IpAddr;

use serde::Serialize;

pub use datagrams::{Datagrams, arrived_script, keep_datagrams_script, send_datagrams_script};
pub(crate) use routers::group;
pub use routers::{RoutersHeard, advertise_script, hear_script, heard_routers_script};
pub use rules::{Firewall, OutsideRow, outside, rules};
pub(crate) use rules::{own_rules, table};
pub use trial::{
    Blocked, Link, Listener, Listeners, Outcome, SECONDS as TRIAL_SECONDS, Sampling, Trial,
    blocked, end_script, links, listen_script, probe_script, read_listeners, read_probes, sample,
    untried,
};

use crate::cluster::{Cluster, Host, HostName, PodsBy, Role};

/// What travels on a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Service {
    /// Logging in, which everything that Zoisite does goes through.
    Ssh,
    /// The encrypted network through which hosts connect to one another.
    Mesh,
    /// etcd members among themselves.
    EtcdPeer,
    /// API servers to etcd.
    EtcdClient,
    /// API servers, each at its own address.
    Api,
    /// The API endpoint.
    StableAddress,
    /// API servers to kubelets: logs, exec, metrics.
    Kubelet,
    /// Pods of different hosts, at their own addresses.
    Pods,
    /// Pods on nodes that run Windows, packed up between hosts (VXLAN, RFC 7348).
    Overlay,
    /// Load balancers among themselves, about who holds the virtual IP.
    Vrrp,
    /// Files that one host of a site gives the next.
    Copies,
    /// Workloads, by ports that load balancers forward.
    Forwarded,
    /// Images, from the cluster's own registry.
    Registry,
    /// Metrics, for the site's monitoring.
    Metrics,
    /// Names.
    Dns,
    /// The time.
    Time,
}

impl fmt::Display for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Ssh => "SSH",
            Self::Mesh => "mesh",
            Self::EtcdPeer => "etcd peers",
            Self::EtcdClient => "etcd clients",
            Self::Api => "API server",
            Self::StableAddress => "API endpoint",
            Self::Kubelet => "kubelet",
            Self::Pods => "pods",
            Self::Overlay => "overlay",
            Self::Vrrp => "VRRP",
            Self::Copies => "copies",
            Self::Forwarded => "forwarded",
            Self::Registry => "registry",
            Self::Metrics => "metrics",
            Self::Dns => "DNS",
            Self::Time => "time",
        })
    }
}

/// How it travels.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Protocol {
    /// TCP, to that port.
    Tcp(u16),
    /// UDP and TCP, to that port.
    UdpAndTcp(u16),
    /// UDP, to that port.
    Udp(u16),
    /// Every protocol, from and to addresses of pods.
    All,
    /// IP protocol 112 (RFC 9568).
    Vrrp,
}

impl Protocol {
    /// The ports that it goes to, each with `tcp` or `udp`; none where it has none.
    fn ports(self) -> Vec<(u16, &'static str)> {
        match self {
            Self::Tcp(port) => vec![(port, "tcp")],
            Self::Udp(port) => vec![(port, "udp")],
            Self::UdpAndTcp(port) => vec![(port, "tcp"), (port, "udp")],
            Self::All | Self::Vrrp => Vec::new(),
        }
    }
}

impl fmt::Display for Protocol {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tcp(port) => write!(f, "TCP {port}"),
            Self::UdpAndTcp(port) => write!(f, "UDP and TCP {port}"),
            Self::Udp(port) => write!(f, "UDP {port}"),
            Self::All => f.write_str("all"),
            Self::Vrrp => f.write_str("IP 112"),
        }
    }
}

/// One end of a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// These hosts.
    Hosts(Vec<HostName>),
    /// The machine that Zoisite runs on, and those of other administrators.
    Administrators,
    /// People and programs that use the cluster: whom that is the site decides.
    Clients,
    /// What the site watches its machines with.
    Monitoring,
    /// The site's own load balancers.
    OwnLoadBalancers,
    /// Hosts of the cluster, from wherever in the world they are.
    Anywhere,
    /// Pods, at their own addresses.
    Pods,
    /// Servers of the site, or of the world.
    Servers(Vec<IpAddr>),
}

impl End {
    /// The hosts, where it is some.
    pub fn hosts(&self) -> &[HostName] {
        match self {
            Self::Hosts(hosts) => hosts,
            _ => &[],
        }
    }

    /// What a person calls it.
    pub fn name(&self, cluster: &Cluster) -> String {
        match self {
            Self::Hosts(hosts) if hosts.len() == cluster.hosts.len() => "every host".into(),
            Self::Hosts(hosts) => few(hosts),
            Self::Administrators => "administrators".into(),
            Self::Clients => "clients of the cluster".into(),
            Self::Monitoring => "the site's monitoring".into(),
            Self::OwnLoadBalancers => "the site's load balancers".into(),
            Self::Anywhere => "hosts, wherever they are".into(),
            Self::Pods => "pods".into(),
            Self::Servers(servers) if servers.is_empty() => "the site's servers".into(),
            Self::Servers(servers) => few(servers),
        }
    }
}

/// The first and the last of many.
fn few<T: fmt::Display>(all: &[T]) -> String {
    match all {
        [first, .., last] if all.len() > 4 => format!("{first} … {last} ({})", all.len()),
        _ => all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    }
}

/// Something that must be able to travel.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Demand {
    /// What.
    pub service: Service,
    /// How.
    pub protocol: Protocol,
    /// From whom: any of these.
    pub from: Vec<End>,
    /// To whom.
    pub to: End,
    /// What fails without it.
    pub why: &'static str,
    /// For how long it is needed.
    pub until: &'static str,
}

/// Port of a kubelet's own server (its `port`, which Zoisite leaves alone).
pub(crate) const KUBELET: u16 = 10_250;
/// Port of the overlay (VXLAN): no other one is known to Windows.
pub(crate) const OVERLAY: u16 = 4_789;
/// Port of a controller manager (its `secure-port`), on loopback.
pub(crate) const CONTROLLER_MANAGER: u16 = 10_257;
/// Port of a scheduler, on loopback.
pub(crate) const SCHEDULER: u16 = 10_259;
/// The port on loopback at which a load balancer tells whether an API server behind it is ready.
pub(crate) const LOAD_BALANCER_HEALTH: u16 = 10_262;
/// What serves at the port for monitoring.
pub(crate) const METRICS: &str = "metrics for monitoring";
const ALWAYS: &str = "always";

/// The same while members come, move and go: those that are in, by name and URL, are let through where they are dialled
/// now, besides what the file says.
pub(crate) fn demands_on_the_way(cluster: &Cluster, listed: &[(String, String)]) -> Vec<Demand> {
    let mut all = demands(cluster);
    let mut hosts = cluster.etcd.members.clone();
    let is = |name: &str| cluster.hosts.iter().find(|host| host.name.as_str() == name);
    for host in listed.iter().filter_map(|(name, _)| is(name)) {
        if !hosts.contains(&host.name) {
            hosts.push(host.name.clone());
        }
    }
    let extra = hosts.len() > cluster.etcd.members.len();
    let members = End::Hosts(hosts);
    let port = |url: &String| url.rsplit_once(':').and_then(|(_, port)| port.parse().ok());
    let mut ports: BTreeSet<u16> = listed.iter().filter_map(|(_, url)| port(url)).collect();
    ports.insert(cluster.etcd.peer_port);
    if !extra && ports.len() == 1 {
        return all;
    }
    all.retain(|demand| !matches!(demand.service, Service::EtcdPeer | Service::EtcdClient));
    let until = "until the members are those of the file";
    for port in ports {
        all.push(Demand {
            service: Service::EtcdPeer,
            protocol: Protocol::Tcp(port),
            from: vec![members.clone()],
            to: members.clone(),
            why: "members replicate and elect, those too that are to move or to go",
            until,
        });
    }
    all.push(Demand {
        service: Service::EtcdClient,
        protocol: Protocol::Tcp(cluster.etcd.client_port),
        from: vec![End::Hosts(cluster.control_plane.hosts.clone())],
        to: members,
        why: "API servers use these members until they are given others",
        until,
    });
    all
}

/// Everything that must be able to travel, from the topology.
pub fn demands(cluster: &Cluster) -> Vec<Demand> {
    let names = |hosts: &[HostName]| End::Hosts(hosts.to_vec());
    let members = names(&cluster.etcd.members);
    let apis = names(&cluster.control_plane.hosts);
    let nodes = End::Hosts(cluster.nodes().iter().map(|host| host.name.clone()).collect());
    let load_balancers = names(&cluster.load_balancers.hosts);
    let own = cluster.load_balancers.hosts.is_empty();
    let api_port = cluster.control_plane.endpoint.port;
    let mut out = Vec::new();
    let mut add = |service, protocol, from: Vec<End>, to: &End, why, until| {
        out.push(Demand { service, protocol, from, to: to.clone(), why, until });
    };

    let mut by_port: Vec<(u16, Vec<HostName>)> = Vec::new();
    for host in &cluster.hosts {
        let port = cluster.login_of(host).port.unwrap_or(22);
        match by_port.iter_mut().find(|(known, _)| *known == port) {
            Some((_, hosts)) => hosts.push(host.name.clone()),
            None => by_port.push((port, vec![host.name.clone()])),
        }
    }
    for (port, hosts) in by_port {
        let to = End::Hosts(hosts);
        let until = "as long as Zoisite is to look after the host";
        add(
            Service::Ssh,
            Protocol::Tcp(port),
            vec![End::Administrators],
            &to,
            "everything that Zoisite does",
            until,
        );
    }
    if let Some(mesh) = &cluster.mesh {
        let why = match cluster.is_all_mesh() {
            true => "hosts reach one another through it; a host with an endpoint is found there",
            false => {
                "hosts elsewhere and the others reach one another through it; a host with an endpoint is found there"
            }
        };
        let all = End::Hosts(cluster.hosts.iter().map(|host| host.name.clone()).collect());
        let from = vec![End::Anywhere];
        add(Service::Mesh, Protocol::Udp(mesh.port), from, &all, why, ALWAYS);
    }
    if cluster.etcd.members.len() > 1 {
        let why = "members replicate and elect";
        let port = Protocol::Tcp(cluster.etcd.peer_port);
        add(Service::EtcdPeer, port, vec![members.clone()], &members, why, ALWAYS);
    }
    let port = Protocol::Tcp(cluster.etcd.client_port);
    let why = "API servers keep everything there; no other host needs it";
    add(Service::EtcdClient, port, vec![apis.clone()], &members, why, ALWAYS);
    let port = Protocol::Tcp(cluster.control_plane.port);
    match own {
        false => {
            // Pods find the API by its service, which leads to each server itself.
            let why = "load balancers forward there; pods find the API there by its service";
            let from = vec![load_balancers.clone(), nodes.clone(), End::Pods];
            add(Service::Api, port, from, &apis, why, ALWAYS);
            let why = "nodes and people reach the API there";
            let from = vec![nodes.clone(), End::Clients];
            let port = Protocol::Tcp(api_port);
            let shared = names(&cluster.shared_load_balancers());
            add(Service::StableAddress, port, from, &shared, why, ALWAYS);
        }
        true => {
            let why = "the API endpoint leads there, by the site's own means";
            let from = vec![nodes.clone(), End::Pods, End::OwnLoadBalancers, End::Clients];
            add(Service::Api, port, from, &apis, why, ALWAYS);
        }
    }
    let why = "API servers fetch logs, open shells and forward ports";
    add(Service::Kubelet, Protocol::Tcp(KUBELET), vec![apis.clone()], &nodes, why, ALWAYS);
    let routed = cluster.nodes().into_iter().filter(|host| host.is_linux());
    let routed: Vec<HostName> = routed.map(|host| host.name.clone()).collect();
    if cluster.network.pod_network == PodsBy::Routes && routed.len() > 1 {
        let why = "pods of different hosts talk at their own addresses";
        let routed = End::Hosts(routed);
        add(Service::Pods, Protocol::All, vec![routed.clone()], &routed, why, ALWAYS);
    }
    if cluster.windows().next().is_some() {
        let why = "pods on Windows and the others talk through an overlay of their own";
        let windows = cluster.windows().map(|(host, _)| host.name.clone());
        let windows = End::Hosts(windows.collect());
        let port = Protocol::Udp(OVERLAY);
        add(Service::Overlay, port, vec![windows.clone()], &nodes, why, ALWAYS);
        add(Service::Overlay, port, vec![nodes.clone()], &windows, why, ALWAYS);
    }
    let holders = cluster.virtual_ip_holders();
    if holders.len() > 1 {
        let why = "they agree on who holds the virtual IP";
        let holders = names(&holders);
        add(Service::Vrrp, Protocol::Vrrp, vec![holders.clone()], &holders, why, ALWAYS);
    }
    let workers = names(&cluster.workers.hosts);
    for (port, to) in &cluster.load_balancers.forward {
        let why = "people reach workloads there";
        let from = vec![End::Clients];
        add(Service::Forwarded, Protocol::Tcp(*port), from, &load_balancers, why, ALWAYS);
        let why = "load balancers forward to the node port of a service there";
        let from = vec![load_balancers.clone()];
        add(Service::Forwarded, Protocol::Tcp(*to), from, &workers, why, ALWAYS);
    }
    if let Some(host) = &cluster.registry.host {
        let why = "nodes pull images there, and people push them";
        let port = Protocol::Tcp(cluster.registry.port);
        let from = vec![nodes.clone(), End::Clients];
        add(Service::Registry, port, from, &names(std::slice::from_ref(host)), why, ALWAYS);
    }
    if let Some(monitoring) = &cluster.monitoring {
        let why = "what members, control planes and load balancers count is read there";
        let hosts = cluster.hosts.iter().map(|host| host.name.clone());
        let hosts: Vec<HostName> = hosts.filter(|host| cluster.has_monitoring(host)).collect();
        let from = vec![End::Monitoring];
        add(Service::Metrics, Protocol::Tcp(monitoring.port), from, &names(&hosts), why, ALWAYS);
        let why = "API servers tell what they count";
        let port = Protocol::Tcp(cluster.control_plane.port);
        add(Service::Metrics, port, vec![End::Monitoring], &apis, why, ALWAYS);
        let why = "kubelets tell what they count";
        add(Service::Metrics, Protocol::Tcp(KUBELET), vec![End::Monitoring], &nodes, why, ALWAYS);
    }
    let everyone = End::Hosts(cluster.hosts.iter().map(|host| host.name.clone()).collect());
    let name_servers = End::Servers(cluster.network.name_servers.clone());
    let why = "hosts look up the API endpoint's name, pods names of the world";
    add(Service::Dns, Protocol::UdpAndTcp(53), vec![everyone.clone()], &name_servers, why, ALWAYS);
    let why = "certificates and leases go by the clock";
    let servers = End::Servers(Vec::new());
    add(Service::Time, Protocol::Udp(123), vec![everyone], &servers, why, ALWAYS);
    out
}

/// A port that a host serves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Served {
    /// The TCP port.
    pub port: u16,
    /// What serves there.
    pub what: &'static str,
    /// Whether only on loopback.
    pub loopback: bool,
}

/// Every TCP port that a host will serve, those on loopback included.
pub fn served(cluster: &Cluster, host: &Host) -> Vec<Served> {
    let holds = |role: Role| cluster.holds(&host.name, role);
    let mut out = Vec::new();
    let mut add = |port, what, loopback| out.push(Served { port, what, loopback });
    if holds(Role::EtcdMember) {
        add(cluster.etcd.client_port, "etcd", false);
        add(cluster.etcd.peer_port, "etcd", false);
        add(cluster.etcd.metrics_port, "etcd's metrics", true);
    }
    if holds(Role::ControlPlane) {
        add(cluster.control_plane.port, "the API server", false);
        add(CONTROLLER_MANAGER, "the controller manager", true);
        add(SCHEDULER, "the scheduler", true);
    }
    if holds(Role::LoadBalancer) {
        add(cluster.control_plane.endpoint.port, "the load balancer", false);
        add(LOAD_BALANCER_HEALTH, "the load balancer's own word", true);
        for port in cluster.load_balancers.forward.keys() {
            add(*port, "the load balancer", false);
        }
    }
    if holds(Role::Registry) {
        add(cluster.registry.port, "the registry", false);
    }
    if let Some(monitoring) =
        cluster.monitoring.as_ref().filter(|_| cluster.has_monitoring(&host.name))
    {
        add(monitoring.port, METRICS, false);
    }
    if cluster.is_node(&host.name) {
        add(KUBELET, "the kubelet", false);
        add(10_248, "the kubelet", true);
        add(10_249, "kube-proxy", true);
        add(10_256, "kube-proxy", false);
    }
    out
}
