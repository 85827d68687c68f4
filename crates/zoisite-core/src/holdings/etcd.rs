//! An etcd member: its user, folders, certificates, configuration file and unit.

use std::sync::Arc;

use serde::Serialize;

use super::etcd_paths::{
    ETCD_CONFIG, ETCD_UNIT, EtcdPaths, authority_path, etcd_folder, own_loopback, place, url,
};
use super::saving::saving;
use super::{HoldingsError, HostHoldings, Part, UnitFile, Workshop, unit::HARDENED};
use crate::cluster::{Cluster, ETCD_QUOTA, Host, HostName, Role};
use crate::item::{Component, Content, File, Item, Pinned, User};
use crate::pki::{AuthorityKind, ETCD_USER, Profile};

/// The fields of etcd's configuration file that Zoisite sets, by their documented names
/// (etcd's `etcd.conf.yml.sample`).
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct EtcdConfig<'a> {
    name: &'a str,
    data_dir: &'a str,
    listen_peer_urls: String,
    listen_client_urls: String,
    advertise_client_urls: String,
    listen_client_http_urls: String,
    client_transport_security: TransportSecurity,
    peer_transport_security: TransportSecurity,
    strict_reconfig_check: bool,
    enable_grpc_gateway: bool,
    #[serde(flatten)]
    tuning: std::collections::BTreeMap<&'a str, serde_json::Value>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct TransportSecurity {
    cert_file: String,
    key_file: String,
    trusted_ca_file: String,
    client_cert_auth: bool,
}

/// What etcd reads only when it has no data yet.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FirstStart<'a> {
    initial_advertise_peer_urls: String,
    initial_cluster: String,
    initial_cluster_token: String,
    initial_cluster_state: &'a str,
}

/// Where the others dial each member, in the order of the cluster file.
pub fn peer_urls(cluster: &Cluster) -> Vec<(HostName, String)> {
    let members = cluster.hosts_of(Role::EtcdMember);
    members.iter().map(|host| (host.name.clone(), cluster.peer_url(host.address))).collect()
}

/// `NAME=URL,…` of all members, in the order of the cluster file.
pub fn initial_cluster(cluster: &Cluster) -> String {
    joined(&peer_urls(cluster))
}

fn joined(all: &[(impl std::fmt::Display, String)]) -> String {
    all.iter().map(|(name, url)| format!("{name}={url}")).collect::<Vec<_>>().join(",")
}

/// What tells the cluster of a quorum from others; each that begins with a snapshot is another one.
pub(crate) fn cluster_token(cluster: &Cluster, cluster_id: &str, epoch: u32) -> String {
    match epoch {
        1 => format!("{}-{cluster_id}", cluster.name),
        later => format!("{}-{cluster_id}-{later}", cluster.name),
    }
}

pub(super) fn member(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let (cluster, host) = (shop.cluster, shop.host);
    let version = cluster.etcd_version.to_string();
    let binaries = etcd_folder(cluster);
    let paths = EtcdPaths::of(cluster, Some(host.address), shop.sources.cluster_id);
    let mut items = vec![
        Item::User(User { name: ETCD_USER, home: paths.folder.clone() }),
        Workshop::directory("/usr/local/lib/zoisite", "root", 0o755),
        Workshop::directory(&binaries, "root", 0o755),
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(ETCD_CONFIG, "root", 0o755),
        // Marks stand in it that root writes and trusts: it is not etcd's to put anything there.
        Workshop::directory(&paths.folder, "root", 0o755),
        Workshop::directory(&paths.data, ETCD_USER, 0o700),
    ];
    for file in ["etcd", "etcdctl"] {
        items.push(Item::Component(Component {
            path: format!("{binaries}/{file}"),
            pinned: Pinned { name: "etcd", version: version.clone(), file },
            restarts: (file == "etcd").then_some(ETCD_UNIT),
        }));
    }
    // etcd reads its authorities when it starts, and its own certificates at every handshake.
    for kind in [AuthorityKind::EtcdClient, AuthorityKind::EtcdPeer] {
        items.extend(shop.authority(kind, &authority_path(kind), Some(ETCD_UNIT)));
    }
    for profile in [Profile::EtcdServer, Profile::EtcdPeer, Profile::EtcdProbe] {
        items.extend(shop.certificate(profile));
    }
    match config(shop, &paths) {
        Ok(content) => items.push(Item::File(File {
            path: paths.config.clone(),
            owner: "root",
            mode: 0o644,
            content,
            restarts: Some(ETCD_UNIT),
            reloads: false,
        })),
        Err(why) => {
            shop.errors.push(HoldingsError::Yaml { host: host.name.clone(), why });
        }
    }
    items.extend(Workshop::unit(ETCD_UNIT, None, &unit_file(cluster, host, &binaries, &paths)));
    items.extend(saving(shop, &paths));
    out.extend(Part::Etcd, items);
    out.etcd = Some(paths);
}

fn config(shop: &Workshop<'_>, paths: &EtcdPaths) -> Result<Content, String> {
    let (cluster, host) = (shop.cluster, shop.host);
    let etcd = &cluster.etcd;
    let aim = shop.sources.etcd;
    let dialled = aim.and_then(|aim| aim.members.get(&host.name)).cloned();
    let peer_url = dialled.unwrap_or_else(|| cluster.peer_url(host.address));
    let initial = aim.and_then(|aim| aim.initial.as_ref());
    let security = |profile, authority| {
        let (cert_file, key_file) = place(profile);
        TransportSecurity {
            cert_file,
            key_file,
            trusted_ca_file: authority_path(authority),
            client_cert_auth: true,
        }
    };
    let metrics = own_loopback(host.address);
    let mut tuning: std::collections::BTreeMap<&str, serde_json::Value> = [
        ("heartbeat-interval", 100.into()),
        ("election-timeout", 1_000.into()),
        ("quota-backend-bytes", ETCD_QUOTA.into()),
        ("tls-min-version", "TLS1.3".into()),
        ("logger", "zap".into()),
        ("log-level", "info".into()),
        ("log-outputs", serde_json::json!(["stderr"])),
    ]
    .into();
    tuning.extend(etcd.settings.iter().map(|(key, value)| (key.as_str(), value.clone())));
    let lasting = EtcdConfig {
        name: host.name.as_str(),
        data_dir: &paths.data,
        listen_peer_urls: peer_url.clone(),
        listen_client_urls: url("https", host.address, etcd.client_port),
        advertise_client_urls: url("https", host.address, etcd.client_port),
        // Metrics and health apart, so that calls are served by gRPC's own server: where both share a port, calls that are
        // under way when a member stops are cut off, and API servers answer their clients with an error for them.
        listen_client_http_urls: url("http", metrics, etcd.metrics_port),
        client_transport_security: security(Profile::EtcdServer, AuthorityKind::EtcdClient),
        peer_transport_security: security(Profile::EtcdPeer, AuthorityKind::EtcdPeer),
        strict_reconfig_check: true,
        // The gateway would dial its own server with the server's certificate, which is no client's.
        enable_grpc_gateway: false,
        tuning,
    };
    let first = FirstStart {
        initial_advertise_peer_urls: peer_url,
        initial_cluster: match initial {
            None => initial_cluster(cluster),
            Some(all) => joined(all),
        },
        // One that has no data gets it from the others.
        initial_cluster_token: cluster_token(cluster, shop.sources.cluster_id, 1),
        // Of a quorum that stands a member without data learns from the others who is in it.
        initial_cluster_state: if initial.is_some() { "existing" } else { "new" },
    };
    let yaml = |text: Result<String, serde_saphyr::ser::Error>| text.map_err(|e| e.to_string());
    let lasting = yaml(serde_saphyr::to_string(&lasting))?;
    let head = format!(
        "# etcd member {} of {}. Written by zoisite: edits are put right by the next raise.\n",
        host.name, cluster.name
    );
    Ok(Content::Text {
        lasting: Arc::from(format!("{head}{lasting}")),
        first_start: Some(Arc::from(yaml(serde_saphyr::to_string(&first))?)),
    })
}

/// Seconds that a member may take to stop: it lets calls under way end for five seconds and two election timeouts (watches
/// of API servers never do), hands over, and closes its database.
fn stops_within(cluster: &Cluster) -> u64 {
    let own = cluster.etcd.settings.get("election-timeout").and_then(serde_json::Value::as_u64);
    30 + 2 * own.unwrap_or(1_000).div_ceil(1_000)
}

fn unit_file(cluster: &Cluster, host: &Host, binaries: &str, paths: &EtcdPaths) -> UnitFile {
    let start = format!("{binaries}/etcd --config-file {}", paths.config);
    let stops_within = stops_within(cluster).to_string();
    // One that was proven once and whose data is gone would begin as if new, by itself, at the next boot. (Only root
    // sees the mark, hence the plus.)
    let remembers = format!(
        "+/bin/sh -c 'test -d {data}/member || test ! -e {formed}'",
        data = paths.data,
        formed = paths.formed_mark
    );
    UnitFile::service(
        &format!("etcd member {} of {}", host.name, cluster.name),
        "network-online.target time-sync.target",
    )
    .section(
        "Service",
        [
            ("Type", "notify"),
            ("User", ETCD_USER),
            ("Group", ETCD_USER),
            ("ExecCondition", &remembers),
            ("ExecStart", &start),
            ("Restart", "always"),
            ("RestartSec", "1"),
            // It reports ready when it has a leader; a member that waits for its peers is not at fault.
            ("TimeoutStartSec", "infinity"),
            ("TimeoutStopSec", &stops_within),
            ("LimitNOFILE", "16384"),
            ("ReadWritePaths", &paths.data),
        ]
        .into_iter()
        .chain(HARDENED),
    )
    .at_boot()
}
