//! Where an etcd member keeps things on its host, and where it is asked.

use std::net::IpAddr;

use crate::cluster::Cluster;
use crate::pki::{AuthorityKind, ETCD_USER, Profile};

/// Name of the member's unit.
pub const ETCD_UNIT: &str = "zoisite-etcd.service";
/// Folder of its configuration and certificates.
pub const ETCD_CONFIG: &str = "/etc/zoisite/etcd";

/// Where it is noted on a host that its member's quorum was proven.
const FORMED_MARK: &str = "/var/lib/zoisite/etcd-formed";
/// Where it is noted which quorum the data began that was made from a snapshot.
const EPOCH_MARK: &str = "/var/lib/zoisite/etcd-epoch";

/// Where a member keeps things, and how its own host asks for its health.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EtcdPaths {
    /// The unit.
    pub unit: &'static str,
    /// System user.
    pub user: &'static str,
    /// Folder that holds the data directory and the mark that says whose it is.
    pub folder: String,
    /// The data directory.
    pub data: String,
    /// Mark that says whose data it is: the cluster's identity.
    pub owner_mark: String,
    /// Mark that says that the quorum was once proven, with etcd's own cluster id. It does not lie beside the data: a
    /// disk that is lost must not take along that there was one.
    pub formed_mark: String,
    /// Mark that says which of the cluster's quorums the data began, where it was made from a snapshot.
    pub epoch_mark: String,
    /// Configuration file.
    pub config: String,
    /// Client endpoint of this member.
    pub endpoint: String,
    /// Where it serves its counters to its own host; `None` without an address.
    pub metrics: Option<std::net::SocketAddr>,
    /// Authority for the client side.
    pub authority: String,
    /// Health client's certificate.
    pub certificate: String,
    /// Health client's key.
    pub key: String,
    /// The cluster's identity, which the owner mark must hold.
    pub cluster_id: String,
}

impl EtcdPaths {
    /// Where a member of `cluster` keeps things, and where it is asked; without an address only the folders matter.
    pub fn of(cluster: &Cluster, address: Option<IpAddr>, cluster_id: &str) -> Self {
        let folder = cluster.etcd.folder.clone();
        let (certificate, key) = place(Profile::EtcdProbe);
        Self {
            unit: ETCD_UNIT,
            user: ETCD_USER,
            data: format!("{folder}/data"),
            owner_mark: format!("{folder}/cluster"),
            formed_mark: FORMED_MARK.to_owned(),
            epoch_mark: EPOCH_MARK.to_owned(),
            config: format!("{ETCD_CONFIG}/etcd.yaml"),
            endpoint: address.map_or_else(String::new, |address| {
                url("https", address, cluster.etcd.client_port)
            }),
            metrics: address
                .map(|address| (own_loopback(address), cluster.etcd.metrics_port).into()),
            authority: authority_path(AuthorityKind::EtcdClient),
            certificate,
            key,
            cluster_id: cluster_id.to_owned(),
            folder,
        }
    }
}

pub(super) fn url(scheme: &str, address: IpAddr, port: u16) -> String {
    format!("{scheme}://{}", std::net::SocketAddr::new(address, port))
}

/// The folder of etcd's programs.
pub(crate) fn etcd_folder(cluster: &Cluster) -> String {
    format!("/usr/local/lib/zoisite/etcd-{}", cluster.etcd_version)
}

/// Metrics are for the host itself; an address that is loopback already keeps its own.
pub(super) fn own_loopback(address: IpAddr) -> IpAddr {
    match address {
        address if address.is_loopback() => address,
        IpAddr::V4(_) => IpAddr::V4(std::net::Ipv4Addr::LOCALHOST),
        IpAddr::V6(_) => IpAddr::V6(std::net::Ipv6Addr::LOCALHOST),
    }
}

pub(super) fn authority_path(kind: AuthorityKind) -> String {
    let stem = if kind == AuthorityKind::EtcdPeer { "peer" } else { "client" };
    format!("{ETCD_CONFIG}/{stem}-authority.crt")
}

/// Paths of certificate and key of a profile that lives on hosts.
pub(super) fn place(profile: Profile) -> (String, String) {
    profile.place().map_or_else(Default::default, |p| (p.certificate(), p.key()))
}
