//! Which certificates a cluster needs, with the names that its topology asks for.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use super::keys::KeyKind;
use super::profile::{Holder, Profile};
use crate::cluster::{Cluster, EndpointHost, Host, HostName, KeysMade};

/// A subject alternative name (RFC 5280 section 4.2.1.6).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum San {
    /// An address.
    Ip(IpAddr),
    /// A DNS name.
    Dns(String),
}

impl fmt::Display for San {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Ip(ip) => write!(f, "{ip}"),
            Self::Dns(name) => f.write_str(name),
        }
    }
}

/// A certificate that must exist.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// Its row in the table.
    pub profile: Profile,
    /// The host that holds it; `None` for the run's own.
    pub host: Option<HostName>,
    /// Subject's common name: the user, for Kubernetes clients.
    pub common_name: String,
    /// Subject's organisation: the group, for Kubernetes clients.
    pub organization: Option<String>,
    /// Names and addresses, sorted.
    pub names: Vec<San>,
    /// Algorithm of its key.
    pub key: KeyKind,
    /// Where it is made.
    pub keys_made: KeysMade,
    /// Lifetime, in seconds.
    pub seconds: i64,
    /// So long before its end it is issued again, in seconds, where the file says it.
    pub renew: Option<i64>,
    /// So far in the past it begins, in seconds.
    pub backdated: i64,
}

/// Lifetime of a run's own certificates, in seconds: longer than any run, shorter than a day.
const RUN_SECONDS: i64 = 12 * 3_600;

/// Common name of a run's own certificates.
const RUN: &str = "zoisite:run";

/// The platform's built-in group that no rule restricts. A run needs it: it makes the very rules by
/// which others are let in. Its certificate is short-lived, its key in memory only.
const EVERY_RIGHT: &str = "system:masters";

/// The client certificate of a node, for which its kubelet asks when it joins
/// (signer `kubernetes.io/kube-apiserver-client-kubelet`: no names are allowed in it).
pub fn kubelet_client(cluster: &Cluster, host: &HostName) -> Wanted {
    Wanted {
        host: Some(host.clone()),
        key: KeyKind::EcdsaP256,
        ..client(
            cluster,
            Profile::KubeletClient,
            &format!("system:node:{host}"),
            Some("system:nodes"),
        )
    }
}

/// The client certificate of a person, in one group at most.
pub fn person(cluster: &Cluster, name: &str, group: Option<&str>, seconds: i64) -> Wanted {
    Wanted { seconds, ..client(cluster, Profile::Person, name, group) }
}

/// The client certificate of a person towards etcd.
pub fn person_in_etcd(cluster: &Cluster, name: &str, seconds: i64) -> Wanted {
    Wanted { seconds, ..client(cluster, Profile::PersonInEtcd, &format!("person:{name}"), None) }
}

/// Who the site's monitoring is: it may read metrics and nothing else.
pub const MONITORING: &str = "zoisite:monitoring";

/// The client certificate of the site's monitoring.
pub fn monitoring(cluster: &Cluster, seconds: i64) -> Wanted {
    Wanted { seconds, ..client(cluster, Profile::Monitoring, MONITORING, None) }
}

/// A client's certificate, which names nothing but the client.
fn client(cluster: &Cluster, profile: Profile, name: &str, group: Option<&str>) -> Wanted {
    let policy = &cluster.certificates;
    Wanted {
        profile,
        host: None,
        common_name: name.to_owned(),
        organization: group.map(ToOwned::to_owned),
        names: Vec::new(),
        key: policy.key_of(profile),
        keys_made: policy.keys_made_of(profile),
        seconds: policy.seconds_of(profile),
        renew: policy.renew,
        backdated: policy.backdated,
    }
}

/// Every certificate that the hosts of `cluster` need, by profile and host.
///
/// (A node's client certificate is not among them: its key is made on the node.)
pub fn wanted(cluster: &Cluster) -> Vec<Wanted> {
    let nodes = cluster.nodes();
    let mut out = Vec::new();
    for profile in Profile::ALL {
        let hosts = match profile.holder() {
            Holder::Role(role) => cluster.hosts_of(role),
            Holder::Nodes => nodes.clone(),
            Holder::Monitored => {
                cluster.hosts.iter().filter(|host| cluster.has_monitoring(&host.name)).collect()
            }
            Holder::Joining | Holder::Run | Holder::Person | Holder::Monitoring => continue,
        };
        out.extend(hosts.into_iter().map(|host| for_host(cluster, *profile, host)));
    }
    out
}

/// The short-lived certificate with which a run itself dials.
pub fn run_client(cluster: &Cluster, profile: Profile) -> Wanted {
    let group = (profile == Profile::RunApi).then_some(EVERY_RIGHT);
    Wanted { seconds: RUN_SECONDS, ..client(cluster, profile, RUN, group) }
}

fn for_host(cluster: &Cluster, profile: Profile, host: &Host) -> Wanted {
    let name = host.name.to_string();
    let (common_name, organization) = match profile {
        Profile::EtcdServer
        | Profile::EtcdPeer
        | Profile::RegistryServer
        | Profile::MonitoringServer => (name, None),
        Profile::EtcdProbe => (format!("probe:{name}"), None),
        Profile::ApiServer => ("kube-apiserver".into(), None),
        Profile::ApiToEtcd => (format!("api:{name}"), None),
        Profile::ApiToKubelet => ("zoisite:api-server".into(), Some("zoisite:kubelet-api")),
        Profile::FrontProxy => ("zoisite:front-proxy".into(), None),
        Profile::ControllerManager => ("system:kube-controller-manager".into(), None),
        Profile::Scheduler => ("system:kube-scheduler".into(), None),
        Profile::KubeProxy => ("system:kube-proxy".into(), None),
        Profile::KubeletServing | Profile::KubeletClient => {
            (format!("system:node:{name}"), Some("system:nodes"))
        }
        Profile::Monitoring => (MONITORING.into(), None),
        Profile::RunEtcd | Profile::RunApi | Profile::Person | Profile::PersonInEtcd => {
            (RUN.into(), None)
        }
    };
    let mut names = names(cluster, profile, host);
    names.extend_from_slice(cluster.certificates.names_of(profile));
    names.sort();
    names.dedup();
    let host = Some(host.name.clone());
    Wanted { host, names, ..client(cluster, profile, &common_name, organization) }
}

fn names(cluster: &Cluster, profile: Profile, host: &Host) -> Vec<San> {
    let own = || {
        let addresses = host.addresses().chain(cluster.outside(host)).map(San::Ip);
        std::iter::once(San::Dns(host.name.to_string())).chain(addresses).collect::<Vec<_>>()
    };
    let loopback = [
        San::Dns("localhost".into()),
        San::Ip(Ipv4Addr::LOCALHOST.into()),
        San::Ip(Ipv6Addr::LOCALHOST.into()),
    ];
    match profile {
        Profile::EtcdPeer => {
            let source = San::Ip(source_address(host.address));
            own().into_iter().chain([source]).collect()
        }
        Profile::KubeletServing | Profile::MonitoringServer => own(),
        Profile::RegistryServer => {
            let called = cluster.registry.name.rsplit_once(':');
            let called = called.map_or(cluster.registry.name.as_str(), |(name, _)| name);
            let called = called.parse().map_or_else(|_| San::Dns(called.to_owned()), San::Ip);
            own().into_iter().chain(loopback).chain([called]).collect()
        }
        Profile::EtcdServer => own().into_iter().chain(loopback).collect(),
        Profile::ApiServer => {
            let domain = &cluster.domain;
            let mut names: Vec<San> = own().into_iter().chain(loopback).collect();
            names.extend(
                ["kubernetes", "kubernetes.default", "kubernetes.default.svc"]
                    .map(|name| San::Dns(name.into())),
            );
            names.push(San::Dns(format!("kubernetes.default.svc.{domain}")));
            names.extend(cluster.network.services.iter().filter_map(first_address).map(San::Ip));
            names.extend(cluster.load_balancers.virtual_ip.map(San::Ip));
            names.push(match &cluster.control_plane.endpoint.host {
                EndpointHost::Name(name) => San::Dns(name.clone()),
                EndpointHost::Address(ip) => San::Ip(*ip),
            });
            names.extend(cluster.dialled_load_balancers().map(|host| San::Ip(host.address)));
            names
        }
        _ => Vec::new(),
    }
}

/// The address from which a host dials its neighbours. Whoever dials a loopback address dials from the
/// first one, whichever of them is its own.
pub(super) fn source_address(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(v4) if v4.is_loopback() => IpAddr::V4(Ipv4Addr::LOCALHOST),
        other => other,
    }
}

/// The address of the service `kubernetes`: the first one of the service range.
fn first_address(range: &IpNet) -> Option<IpAddr> {
    Some(match range {
        IpNet::V4(net) => IpAddr::V4((u32::from(net.network()).checked_add(1)?).into()),
        IpNet::V6(net) => IpAddr::V6((u128::from(net.network()).checked_add(1)?).into()),
    })
}
