//! Every connection that will be made: who dials whom, by which name or address, and which
//! authority verifies which side.

use std::fmt;
use std::net::IpAddr;

use super::profile::{AuthorityKind, Profile};
use super::wanted::{San, source_address};
use crate::cluster::{Cluster, EndpointHost, Host, HostName, Role};
use crate::paths::KUBELET;

/// One end of an edge.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Party {
    /// A host, by name.
    Host(HostName),
    /// Every node, as many as there are.
    Nodes(usize),
    /// The administrator's own run.
    Run,
    /// People with a kubeconfig.
    People,
    /// The site's monitoring.
    Monitoring,
    /// Extension API servers, wherever they run.
    Extensions,
}

impl Party {
    /// The host, if it is one.
    pub fn host(&self) -> Option<&HostName> {
        match self {
            Self::Host(name) => Some(name),
            Self::Nodes(_) | Self::Run | Self::People | Self::Monitoring | Self::Extensions => None,
        }
    }
}

impl fmt::Display for Party {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Host(name) => write!(f, "{name}"),
            Self::Nodes(1) => f.write_str("the node"),
            Self::Nodes(n) => write!(f, "{n} nodes"),
            Self::Run => f.write_str("this run"),
            Self::People => f.write_str("people"),
            Self::Monitoring => f.write_str("monitoring"),
            Self::Extensions => f.write_str("extension API servers"),
        }
    }
}

/// A connection that will be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edge {
    /// Who dials.
    pub client: Party,
    /// With which certificate; `None` where the key is made elsewhere, at joining or by a person.
    pub client_profile: Option<Profile>,
    /// The client's own address, where the server holds it against the certificate.
    pub source: Option<IpAddr>,
    /// Who is dialled.
    pub server: Party,
    /// With which certificate it answers; `None` where that is not ours.
    pub server_profile: Option<Profile>,
    /// By which name or address.
    pub dialled: San,
    /// On which TCP port; 0 where that is not ours.
    pub port: u16,
}

impl Edge {
    /// From whom to whom, each with the certificate that it shows, and what is dialled at which port.
    fn new(
        (client, client_profile): (Party, Option<Profile>),
        (server, server_profile): (Party, Option<Profile>),
        (dialled, port): (San, u16),
    ) -> Self {
        Self { client, client_profile, source: None, server, server_profile, dialled, port }
    }
}

impl Edge {
    /// The authority against which the client verifies the server.
    pub fn server_authority(&self) -> Option<AuthorityKind> {
        self.server_profile.map(Profile::authority)
    }

    /// The authority against which the server verifies the client.
    pub fn client_authority(&self) -> Option<AuthorityKind> {
        self.client_profile.map(Profile::authority)
    }
}

impl fmt::Display for Edge {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let by = |profile: Option<Profile>| profile.map_or(String::new(), |p| format!(" ({p})"));
        write!(
            f,
            "{}{} → {}{}",
            self.client,
            by(self.client_profile),
            self.server,
            by(self.server_profile)
        )?;
        match self.port {
            0 => Ok(()),
            port => write!(f, ", reached as {} port {port}", self.dialled),
        }
    }
}

/// Every edge of a cluster, from etcd outwards.
pub fn edges(cluster: &Cluster) -> Vec<Edge> {
    let members = cluster.hosts_of(Role::EtcdMember);
    let apis = cluster.hosts_of(Role::ControlPlane);
    let mut out = Vec::new();
    for member in &members {
        between_members(cluster, member, &members, &mut out);
    }
    let load_balancers: Vec<&Host> = cluster.dialled_load_balancers().collect();
    let nodes = cluster.nodes();
    for api in &apis {
        for member in &members {
            let server = (host(member), Some(Profile::EtcdServer));
            let at = (San::Ip(member.address), cluster.etcd.client_port);
            out.push(Edge::new((host(api), Some(Profile::ApiToEtcd)), server, at));
        }
        to_api_server(cluster, api, &load_balancers, nodes.len(), &mut out);
        from_api_server(api, &nodes, &mut out);
    }
    for registry in cluster.hosts_of(Role::Registry) {
        // Nodes are told its address; whoever dials it shows a password at most.
        for client in [(Party::Nodes(nodes.len()), None), (Party::Run, None)] {
            let server = (host(registry), Some(Profile::RegistryServer));
            let at = (San::Ip(registry.address), cluster.registry.port);
            out.push(Edge::new(client, server, at));
        }
    }
    if let Some(port) = cluster.monitoring.as_ref().map(|monitoring| monitoring.port) {
        let dials = |profile, to: &Host, port| {
            let at = (San::Ip(to.address), port);
            Edge::new((Party::Monitoring, None), (host(to), Some(profile)), at)
        };
        for to in cluster.hosts.iter().filter(|host| cluster.has_monitoring(&host.name)) {
            out.push(dials(Profile::MonitoringServer, to, port));
        }
        out.extend(apis.iter().map(|to| dials(Profile::ApiServer, to, cluster.control_plane.port)));
        out.extend(nodes.iter().map(|to| dials(Profile::KubeletServing, to, KUBELET)));
    }
    out
}

fn host(host: &Host) -> Party {
    Party::Host(host.name.clone())
}

/// What dials a member: the others, its own probe, a run.
fn between_members(cluster: &Cluster, member: &Host, members: &[&Host], out: &mut Vec<Edge>) {
    for peer in members.iter().filter(|peer| peer.name != member.name) {
        let client = (host(member), Some(Profile::EtcdPeer));
        let server = (host(peer), Some(Profile::EtcdPeer));
        // etcd holds the source address against the addresses in a peer's certificate
        // (its documented check of peers with IP names), so the source is part of the edge.
        out.push(Edge {
            source: Some(source_address(member.address)),
            ..Edge::new(client, server, (San::Ip(peer.address), cluster.etcd.peer_port))
        });
    }
    for client in [(host(member), Some(Profile::EtcdProbe)), (Party::Run, Some(Profile::RunEtcd))] {
        let server = (host(member), Some(Profile::EtcdServer));
        let at = (San::Ip(member.address), cluster.etcd.client_port);
        out.push(Edge::new(client, server, at));
    }
}

/// What dials an API server, itself or through the API endpoint.
fn to_api_server(
    cluster: &Cluster,
    api: &Host,
    load_balancers: &[&Host],
    nodes: usize,
    out: &mut Vec<Edge>,
) {
    let server = || (host(api), Some(Profile::ApiServer));
    let own = || (San::Ip(api.address), cluster.control_plane.port);
    let stable = || {
        let address = &cluster.control_plane.endpoint;
        let name = match &address.host {
            EndpointHost::Name(name) => San::Dns(name.clone()),
            EndpointHost::Address(ip) => San::Ip(*ip),
        };
        (name, address.port)
    };
    for profile in [Profile::ControllerManager, Profile::Scheduler] {
        out.push(Edge::new((host(api), Some(profile)), server(), own()));
    }
    for load_balancer in load_balancers {
        // Its check of readiness is anonymous, and verifies the server by its host's name.
        let at = (San::Dns(api.name.to_string()), cluster.control_plane.port);
        out.push(Edge::new((host(load_balancer), None), server(), at));
    }
    out.push(Edge::new((Party::Run, Some(Profile::RunApi)), server(), own()));
    for client in [
        (Party::Nodes(nodes), None),
        (Party::Nodes(nodes), Some(Profile::KubeProxy)),
        (Party::People, None),
    ] {
        out.push(Edge::new(client, server(), stable()));
    }
}

/// What an API server dials beside etcd: kubelets, and servers that extend the API.
fn from_api_server(api: &Host, nodes: &[&Host], out: &mut Vec<Edge>) {
    for node in nodes {
        let server = (host(node), Some(Profile::KubeletServing));
        let at = (San::Ip(node.address), KUBELET);
        out.push(Edge::new((host(api), Some(Profile::ApiToKubelet)), server, at));
    }
    let extensions = (San::Dns("kubernetes.default.svc".into()), 0);
    let client = (host(api), Some(Profile::FrontProxy));
    out.push(Edge::new(client, (Party::Extensions, None), extensions));
}
