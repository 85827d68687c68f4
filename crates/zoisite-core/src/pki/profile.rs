use std::fmt;

use serde::{Deserialize, Serialize};

use crate::cluster::Role;

/// A trust domain with an authority of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AuthorityKind {
    /// API servers, kubelets and the control plane's clients.
    Cluster,
    /// etcd members among themselves.
    EtcdPeer,
    /// etcd's client side. Every holder of a client certificate may do everything there, so there
    /// are few of them.
    EtcdClient,
    /// The API server's front proxy, towards extension API servers.
    FrontProxy,
}

impl AuthorityKind {
    /// Every authority.
    pub const ALL: [Self; 4] = [Self::Cluster, Self::EtcdPeer, Self::EtcdClient, Self::FrontProxy];

    /// Its name in files and output.
    pub fn id(self) -> &'static str {
        match self {
            Self::Cluster => "cluster",
            Self::EtcdPeer => "etcd-peer",
            Self::EtcdClient => "etcd-client",
            Self::FrontProxy => "front-proxy",
        }
    }
}

impl fmt::Display for AuthorityKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.id())
    }
}

/// Which side of a TLS connection a certificate serves (RFC 5280 section 4.2.1.12).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Usage {
    /// Server only.
    Server,
    /// Client only.
    Client,
    /// Both: an etcd peer dials and is dialled with the same certificate.
    Both,
}

impl Usage {
    /// Whether it serves a server.
    pub fn server(self) -> bool {
        self != Self::Client
    }

    /// Whether it serves a client.
    pub fn client(self) -> bool {
        self != Self::Server
    }
}

/// Who holds certificates of a profile.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holder {
    /// Each host of a role.
    Role(Role),
    /// Each host with a kubelet.
    Nodes,
    /// Each host where monitoring reads what is on loopback otherwise.
    Monitored,
    /// Each host with a kubelet, which makes its own key and asks for it when it joins.
    Joining,
    /// The administrator's run, for its own short time; no host.
    Run,
    /// A named person, with a kubeconfig of their own.
    Person,
    /// The site's monitoring.
    Monitoring,
}

/// Where a certificate lives on its host, and who may read its key.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place {
    /// Folder below `/etc/zoisite`.
    pub folder: &'static str,
    /// Name of the link that leads to certificate and key.
    pub stem: &'static str,
    /// System user that reads the key; only root can besides.
    pub owner: &'static str,
}

impl Place {
    /// Path of the pair.
    pub fn path(&self) -> String {
        format!("/etc/zoisite/{}/{}", self.folder, self.stem)
    }

    /// Path of the certificate.
    pub fn certificate(&self) -> String {
        format!("{}/tls.crt", self.path())
    }

    /// Path of the private key.
    pub fn key(&self) -> String {
        format!("{}/tls.key", self.path())
    }
}

macro_rules! profiles {
    ($($(#[$doc:meta])* $variant:ident = $id:literal, $authority:ident, $usage:ident, $holder:expr,
       $place:expr;)*) => {
        /// A kind of certificate: one row of the table from which everything about it follows.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case")]
        pub enum Profile {
            $($(#[$doc])* $variant,)*
        }

        impl Profile {
            /// Every profile, in the order of the table.
            pub const ALL: &'static [Self] = &[$(Self::$variant),*];

            /// The one that lives there on its host.
            pub fn at(path: &str) -> Option<Self> {
                let placed = |one: &&Self| one.place().is_some_and(|place| place.path() == path);
                Self::ALL.iter().find(placed).copied()
            }

            /// Its name in files and output.
            pub fn id(self) -> &'static str {
                match self { $(Self::$variant => $id,)* }
            }

            /// The authority that issues it.
            pub fn authority(self) -> AuthorityKind {
                match self { $(Self::$variant => AuthorityKind::$authority,)* }
            }

            /// Which side of a connection it serves.
            pub fn usage(self) -> Usage {
                match self { $(Self::$variant => Usage::$usage,)* }
            }

            /// Who holds it.
            pub fn holder(self) -> Holder {
                match self { $(Self::$variant => $holder,)* }
            }

            /// Where it lives on its host; `None` for what never leaves the strongbox.
            pub fn place(self) -> Option<Place> {
                match self { $(Self::$variant => $place,)* }
            }
        }
    };
}

const fn at(folder: &'static str, stem: &'static str, owner: &'static str) -> Option<Place> {
    Some(Place { folder, stem, owner })
}

/// System user of the etcd members.
pub(crate) const ETCD_USER: &str = "zoisite-etcd";
/// System user of the registry.
pub(crate) const REGISTRY_USER: &str = "zoisite-registry";
/// System user that gives out metrics.
pub(crate) const MONITORING_USER: &str = "zoisite-monitoring";
const API_USER: &str = "zoisite-api";

profiles! {
    /// An etcd member towards its clients.
    EtcdServer = "etcd-server", EtcdClient, Server, Holder::Role(Role::EtcdMember),
        at("etcd", "server", ETCD_USER);
    /// An etcd member towards the others, dialling and being dialled.
    EtcdPeer = "etcd-peer", EtcdPeer, Both, Holder::Role(Role::EtcdMember),
        at("etcd", "peer", ETCD_USER);
    /// Health checks of a member from its own host.
    #[serde(alias = "etcd-health")]
    EtcdProbe = "etcd-probe", EtcdClient, Client, Holder::Role(Role::EtcdMember),
        at("etcd", "probe", "root");
    /// An API server towards everybody.
    ApiServer = "api-server", Cluster, Server, Holder::Role(Role::ControlPlane),
        at("api-server", "server", API_USER);
    /// An API server towards etcd.
    #[serde(alias = "api-server-etcd")]
    ApiToEtcd = "api-to-etcd", EtcdClient, Client, Holder::Role(Role::ControlPlane),
        at("api-server", "etcd", API_USER);
    /// An API server towards kubelets, for logs and exec.
    #[serde(alias = "api-server-kubelet")]
    ApiToKubelet = "api-to-kubelet", Cluster, Client, Holder::Role(Role::ControlPlane),
        at("api-server", "kubelet", API_USER);
    /// An API server towards extension API servers, speaking for its callers.
    FrontProxy = "front-proxy", FrontProxy, Client, Holder::Role(Role::ControlPlane),
        at("api-server", "front-proxy", API_USER);
    /// The controller manager towards its API server.
    ControllerManager = "controller-manager", Cluster, Client, Holder::Role(Role::ControlPlane),
        at("controller-manager", "client", "zoisite-controller");
    /// The scheduler towards its API server.
    Scheduler = "scheduler", Cluster, Client, Holder::Role(Role::ControlPlane),
        at("scheduler", "client", "zoisite-scheduler");
    /// The cluster's own registry towards everybody.
    RegistryServer = "registry-server", Cluster, Server, Holder::Role(Role::Registry),
        at("registry", "server", REGISTRY_USER);
    /// What gives out metrics of a host, towards the site's monitoring.
    MonitoringServer = "monitoring-server", Cluster, Server, Holder::Monitored,
        at("monitoring", "server", MONITORING_USER);
    /// kube-proxy towards the API endpoint.
    KubeProxy = "kube-proxy", Cluster, Client, Holder::Nodes,
        at("kube-proxy", "client", "root");
    /// A kubelet towards API servers that ask for logs or exec.
    KubeletServing = "kubelet-serving", Cluster, Server, Holder::Nodes,
        at("kubelet", "serving", "root");
    /// A kubelet towards the API endpoint: signed from its own request, its key never leaves it.
    KubeletClient = "kubelet-client", Cluster, Client, Holder::Joining, None;
    /// A person towards the API endpoint.
    Person = "person", Cluster, Client, Holder::Person, None;
    /// A person towards etcd, with etcd's own tools: short-lived.
    PersonInEtcd = "person-in-etcd", EtcdClient, Client, Holder::Person, None;
    /// The site's monitoring, towards all that it reads.
    Monitoring = "monitoring", Cluster, Client, Holder::Monitoring, None;
    /// This run towards etcd: short-lived, never on a host.
    RunEtcd = "run-etcd", EtcdClient, Client, Holder::Run, None;
    /// This run towards the API: short-lived, never on a host.
    RunApi = "run-api", Cluster, Client, Holder::Run, None;
}

impl fmt::Display for Profile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.id())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn no_two_profiles_share_a_name_or_a_place() {
        let ids: HashSet<_> = Profile::ALL.iter().map(|p| p.id()).collect();
        assert_eq!(ids.len(), Profile::ALL.len());
        let places: Vec<_> = Profile::ALL.iter().filter_map(|p| p.place()).collect();
        let paths: HashSet<_> = places.iter().map(Place::key).collect();
        assert_eq!(paths.len(), places.len());
    }

    #[test]
    fn ids_are_what_is_stored() {
        for profile in Profile::ALL {
            assert_eq!(serde_json::to_value(profile).unwrap(), profile.id());
        }
        for authority in AuthorityKind::ALL {
            assert_eq!(serde_json::to_value(authority).unwrap(), authority.id());
        }
    }

    #[test]
    fn what_is_not_shipped_has_no_place_on_hosts() {
        for profile in Profile::ALL {
            let shipped =
                matches!(profile.holder(), Holder::Role(_) | Holder::Nodes | Holder::Monitored);
            assert_eq!(profile.place().is_some(), shipped, "{profile}");
        }
    }
}
