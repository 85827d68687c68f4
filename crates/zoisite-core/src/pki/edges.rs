//! Every connection that will be dialled: who dials whom, by which name or address, and which
//! authority verifies which side.

use std::fmt;
use std::net::IpAddr;

use super::profile::{AuthorityKind, Profile};
use super::wanted::{San, source_address};
use crate::cluster::{Cluster, EndpointHost, HostName, Role};

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
    /// Extension API servers, wherever they run.
    Extensions,
}

impl Party {
    /// The host, if it is one.
    pub fn host(&self) -> Option<&HostName> {
        match self {
            Self::Host(name) => Some(name),
            Self::Nodes(_) | Self::Run | Self::People | Self::Extensions => None,
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
            Self::Extensions => f.write_str("extension API servers"),
        }
    }
}

/// A connection that will be dialled.
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
            port => write!(f, ", dialled as {} port {port}", self.dialled),
        }
    }
}

/// Every edge of a cluster, from etcd outwards.
pub fn edges(cluster: &Cluster) -> Vec<Edge> {
    let members = cluster.hosts_of(Role::EtcdMember);
    let apis = cluster.hosts_of(Role::ControlPlane);
    let nodes = cluster.nodes();
    let host = |h: &crate::cluster::Host| Party::Host(h.name.clone());
    let mut out = Vec::new();

    for client in &members {
        for server in members.iter().filter(|server| server.name != client.name) {
            // etcd holds the source address against the addresses in a peer's certificate
            // (its documented check of peers with IP names), so the source is part of the edge.
            out.push(Edge {
                client: host(client),
                client_profile: Some(Profile::EtcdPeer),
                source: Some(source_address(client.address)),
                server: host(server),
                server_profile: Some(Profile::EtcdPeer),
                dialled: San::Ip(server.address),
                port: cluster.etcd.peer_port,
            });
        }
        out.push(Edge {
            client: host(client),
            client_profile: Some(Profile::EtcdProbe),
            source: None,
            server: host(client),
            server_profile: Some(Profile::EtcdServer),
            dialled: San::Ip(client.address),
            port: cluster.etcd.client_port,
        });
        out.push(Edge {
            client: Party::Run,
            client_profile: Some(Profile::RunEtcd),
            source: None,
            server: host(client),
            server_profile: Some(Profile::EtcdServer),
            dialled: San::Ip(client.address),
            port: cluster.etcd.client_port,
        });
    }
    let (stable, stable_port) = match &cluster.control_plane.address.host {
        EndpointHost::Name(name) => (San::Dns(name.clone()), cluster.control_plane.address.port),
        EndpointHost::Address(ip) => (San::Ip(*ip), cluster.control_plane.address.port),
    };
    for api in &apis {
        let to_api = |client, client_profile, dialled, port| Edge {
            client,
            client_profile,
            source: None,
            server: host(api),
            server_profile: Some(Profile::ApiServer),
            dialled,
            port,
        };
        let own = San::Ip(api.address);
        let port = cluster.control_plane.port;
        for member in &members {
            out.push(Edge {
                client: host(api),
                client_profile: Some(Profile::ApiToEtcd),
                source: None,
                server: host(member),
                server_profile: Some(Profile::EtcdServer),
                dialled: San::Ip(member.address),
                port: cluster.etcd.client_port,
            });
        }
        for profile in [Profile::ControllerManager, Profile::Scheduler] {
            out.push(to_api(host(api), Some(profile), own.clone(), port));
        }
        for balancer in cluster.hosts_of(Role::Balancer) {
            // Its check of readiness is anonymous, and verifies the server by its host's name.
            out.push(to_api(host(balancer), None, San::Dns(api.name.to_string()), port));
        }
        out.push(to_api(Party::Run, Some(Profile::RunApi), own, port));
        out.push(to_api(Party::Nodes(nodes.len()), None, stable.clone(), stable_port));
        out.push(to_api(
            Party::Nodes(nodes.len()),
            Some(Profile::KubeProxy),
            stable.clone(),
            stable_port,
        ));
        out.push(to_api(Party::People, None, stable.clone(), stable_port));
        for node in &nodes {
            out.push(Edge {
                client: host(api),
                client_profile: Some(Profile::ApiToKubelet),
                source: None,
                server: host(node),
                server_profile: Some(Profile::KubeletServing),
                dialled: San::Ip(node.address),
                port: 10_250,
            });
        }
        out.push(Edge {
            client: host(api),
            client_profile: Some(Profile::FrontProxy),
            source: None,
            server: Party::Extensions,
            server_profile: None,
            dialled: San::Dns("kubernetes.default.svc".into()),
            port: 0,
        });
    }
    out
}
