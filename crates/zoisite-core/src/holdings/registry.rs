//! The registry that the cluster has itself: the OCI reference registry, with TLS from the cluster's authority; and
//! what nodes are told of it and of the registries that the site has.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::net::SocketAddr;

use base64::prelude::{BASE64_STANDARD, Engine as _};
use serde_json::json;
use zeroize::Zeroizing;

use super::unit::HARDENED;
use super::{HostHoldings, Part, UnitFile, WRITTEN, Workshop};
use crate::cluster::{Cluster, folder_of};
use crate::item::{Component, Content, Item, Pinned, ReadBy, User};
use crate::pki::{AuthorityKind, Profile, REGISTRY_USER, Secret, SecretRef};

/// Name of the registry's unit.
pub const REGISTRY_UNIT: &str = "zoisite-registry.service";
const FOLDER: &str = "/etc/zoisite/registry";
/// What the runtimes of nodes read of registries: a folder for each.
const REGISTRIES: &str = "/etc/zoisite/runtime/registries";

pub(super) fn registry(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let (cluster, own) = (shop.cluster, &shop.cluster.registry);
    let version = cluster.components.registry.to_string();
    let programs = format!("/usr/local/lib/zoisite/registry-{version}");
    let mut items = vec![
        Item::User(User { name: REGISTRY_USER, home: own.folder.clone() }),
        Workshop::directory("/usr/local/lib/zoisite", "root", 0o755),
        Workshop::directory(&programs, "root", 0o755),
        Workshop::directory("/etc/zoisite", "root", 0o755),
        Workshop::directory(FOLDER, "root", 0o755),
        Workshop::directory(&own.folder, REGISTRY_USER, 0o700),
        Item::Component(Component {
            path: format!("{programs}/registry"),
            pinned: Pinned { name: "registry", version, file: "registry" },
            restarts: Some(REGISTRY_UNIT),
        }),
    ];
    let read_by = ReadBy { unit: REGISTRY_UNIT, reloads: false };
    items.extend(shop.certificate_read_by(Profile::RegistryServer, read_by));
    let passwords = format!("{FOLDER}/passwords");
    let secret = SecretRef::RegistryPasswords;
    let sum = shop.sources.site_secrets.get(&secret);
    if let Some(sha256) = sum {
        let label = "names and passwords of the cluster's own registry".into();
        let content = Content::Secret { secret, label, sha256: sha256.clone() };
        items.push(Workshop::key(&passwords, REGISTRY_USER, content, Some(REGISTRY_UNIT)));
    }
    let text = shop.yaml(&config(shop, sum.map(|_| passwords.as_str())));
    let host = shop.host.name.clone();
    items.push(Workshop::file(&format!("{FOLDER}/registry.yaml"), text, Some(REGISTRY_UNIT)));
    let start = format!("{programs}/registry serve {FOLDER}/registry.yaml");
    let unit = UnitFile::service(
        &format!("registry of {} on {host}", cluster.name),
        "network-online.target time-sync.target",
    )
    .section(
        "Service",
        [
            ("User", REGISTRY_USER),
            ("Group", REGISTRY_USER),
            ("ExecStart", &start),
            // Traces are for those who say where to; it would look for a collector on this host.
            ("Environment", "OTEL_TRACES_EXPORTER=none"),
            ("Restart", "always"),
            ("RestartSec", "2"),
            ("LimitNOFILE", "16384"),
            ("ReadWritePaths", &own.folder),
        ]
        .into_iter()
        .chain(HARDENED),
    )
    .at_boot();
    items.extend(Workshop::unit(REGISTRY_UNIT, Some(own.port), &unit));
    out.extend(Part::Registry, items);
}

/// The registry's configuration file, version 0.1 (its documentation, "Configuring a registry").
fn config(shop: &Workshop<'_>, passwords: Option<&str>) -> serde_json::Value {
    let own = &shop.cluster.registry;
    let (certificate, key) = Profile::RegistryServer
        .place()
        .map_or_else(Default::default, |place| (place.certificate(), place.key()));
    let mut config = json!({
        "version": "0.1",
        // Every request would be a line.
        "log": {"level": "warn", "formatter": "text", "accesslog": {"disabled": true}},
        "storage": {
            "filesystem": {"rootdirectory": own.folder},
            "delete": {"enabled": !own.read_only},
            "maintenance": {
                "readonly": {"enabled": own.read_only},
                // What was begun and never ended.
                "uploadpurging": {"enabled": true, "age": "168h", "interval": "24h", "dryrun": false},
            },
        },
        "http": {
            "addr": SocketAddr::new(shop.host.address, own.port).to_string(),
            "tls": {"certificate": certificate, "key": key, "minimumtls": "tls1.2"},
            "headers": {"X-Content-Type-Options": ["nosniff"]},
        },
        "health": {"storagedriver": {"enabled": true, "interval": "10s", "threshold": 3}},
    });
    if let Some(path) = passwords {
        config["auth"] =
            json!({"htpasswd": {"realm": shop.cluster.name.to_string(), "path": path}});
    }
    config
}

/// Where the cluster's own registry is dialled.
fn registry_address(cluster: &Cluster) -> Option<SocketAddr> {
    let host = cluster.host(cluster.registry.host.as_ref()?)?;
    Some(SocketAddr::new(host.address, cluster.registry.port))
}

/// A name with its password.
#[derive(Clone, Copy, Debug)]
pub struct RegistryLogin<'a> {
    /// The registry, perhaps with its port.
    pub registry: &'a str,
    /// The name.
    pub name: &'a str,
    /// The password.
    pub password: &'a Secret,
}

impl RegistryLogin<'_> {
    /// Both as HTTP's basic authentication has them (RFC 7617).
    pub fn basic(&self) -> Zeroizing<String> {
        let both = Zeroizing::new(format!("{}:{}", self.name, self.password.expose()));
        Zeroizing::new(BASE64_STANDARD.encode(both.as_bytes()))
    }

    /// The one for a registry, with its port or without.
    pub fn of<'a>(all: &[RegistryLogin<'a>], registry: &str) -> Option<RegistryLogin<'a>> {
        let bare = registry.rsplit_once(':').map_or(registry, |(host, _)| host);
        let named = |name: &str| all.iter().find(|login| login.registry == name).copied();
        named(registry).or_else(|| named(bare))
    }
}

/// What of registries is secret on hosts: it comes from files of the site's own.
pub fn registry_secrets(
    cluster: &Cluster,
    logins: Option<&[RegistryLogin<'_>]>,
    passwords: Option<Secret>,
) -> BTreeMap<SecretRef, Secret> {
    let mut all = BTreeMap::new();
    all.extend(passwords.map(|text| (SecretRef::RegistryPasswords, text)));
    let Some(logins) = logins else { return all };
    all.insert(SecretRef::RegistryLogins, for_kubelets(logins));
    for (name, mut text, secret) in hosts_files(cluster, logins) {
        if secret {
            all.insert(SecretRef::RegistryHosts(name), Secret::new(std::mem::take(&mut *text)));
        }
    }
    all
}

/// Names and passwords for registries, as a kubelet reads them from `config.json` in its own folder (Kubernetes,
/// "Configuring nodes to authenticate to a private registry").
fn for_kubelets(logins: &[RegistryLogin<'_>]) -> Secret {
    let mut text = Zeroizing::new(String::from("{\"auths\":{"));
    for (i, login) in logins.iter().enumerate() {
        let comma = if i == 0 { "" } else { "," };
        let registry = json!(login.registry);
        let _ = write!(text, "{comma}{registry}:{{\"auth\":\"{}\"}}", *login.basic());
    }
    text.push_str("}}\n");
    Secret::new(std::mem::take(&mut *text))
}

/// One that is asked for a registry's images.
struct Asked<'a> {
    address: String,
    authority: Option<&'a str>,
    /// Whether its address is whole, so that nothing is put behind it.
    whole: bool,
    login: Option<RegistryLogin<'a>>,
}

/// By registry: what a node's runtime reads (containerd's `hosts.toml`), and whether a password is in it.
fn hosts_files(
    cluster: &Cluster,
    logins: &[RegistryLogin<'_>],
) -> Vec<(String, Zeroizing<String>, bool)> {
    let mut all: BTreeMap<&str, (String, Vec<Asked<'_>>)> = BTreeMap::new();
    let server = |name: &str| format!("https://{name}");
    if let Some(address) = registry_address(cluster) {
        let own = &cluster.registry;
        let login = RegistryLogin::of(logins, &own.name);
        let authority = Some(OWN_AUTHORITY);
        let at = format!("https://{address}");
        let asked = Asked { address: at.clone(), authority, whole: false, login };
        // Where else its name leads to is nobody's business here.
        all.insert(&own.name, (at.clone(), vec![asked]));
        for other in own.mirrors.iter().filter(|other| **other != own.name) {
            let address = format!("{at}/v2/{}", folder_of(other));
            let asked = Asked { address, authority, whole: true, login };
            all.insert(other, (server(other), vec![asked]));
        }
    }
    for (name, mirror) in &cluster.preparation.registries {
        let (_, asked) = all.entry(name).or_insert_with(|| (server(name), Vec::new()));
        asked.extend(mirror.addresses.iter().map(|address| {
            let bare = address.rsplit("://").next().unwrap_or_default();
            Asked {
                address: address.clone(),
                authority: mirror.authority.as_deref(),
                whole: false,
                login: RegistryLogin::of(logins, bare.split('/').next().unwrap_or_default()),
            }
        }));
    }
    let written = |(name, (server, asked)): (&str, (String, Vec<Asked<'_>>))| {
        let mut text = Zeroizing::new(format!("{WRITTEN}server = {}\n", json!(server)));
        let secret = asked.iter().any(|one| one.login.is_some());
        for one in asked {
            let address = json!(one.address);
            let _ = write!(text, "\n[host.{address}]\ncapabilities = [\"pull\", \"resolve\"]\n");
            if let Some(authority) = one.authority {
                let _ = writeln!(text, "ca = {}", json!(authority));
            }
            if one.whole {
                text.push_str("override_path = true\n");
            }
            if let Some(login) = one.login {
                let basic = login.basic();
                let _ =
                    write!(text, "[host.{address}.header]\nauthorization = \"Basic {}\"\n", *basic);
            }
        }
        (name.to_owned(), text, secret)
    };
    all.into_iter().map(written).collect()
}

/// What verifies the cluster's own registry, on nodes.
const OWN_AUTHORITY: &str = "/etc/zoisite/runtime/registries/cluster-authority.crt";

/// Where a node's runtime reads of registries, where any is configured.
pub(super) fn configured(cluster: &Cluster) -> Option<&'static str> {
    let any = !cluster.preparation.registries.is_empty() || cluster.registry.host.is_some();
    any.then_some(REGISTRIES)
}

/// What a node's runtime is told of registries. It is read whenever an image is pulled: nothing restarts.
pub(super) fn files(shop: &mut Workshop<'_>) -> Vec<Item> {
    if configured(shop.cluster).is_none() {
        return Vec::new();
    }
    let mut items = vec![Workshop::directory(REGISTRIES, "root", 0o755)];
    if shop.cluster.registry.host.is_some() {
        items.extend(shop.authority(AuthorityKind::Cluster, OWN_AUTHORITY, None));
    }
    for (name, text, _) in hosts_files(shop.cluster, &[]) {
        let folder = format!("{REGISTRIES}/{name}");
        let path = format!("{folder}/hosts.toml");
        items.push(Workshop::directory(&folder, "root", 0o755));
        let secret = SecretRef::RegistryHosts(name);
        items.push(match shop.sources.site_secrets.get(&secret) {
            None => Workshop::file(&path, text.as_str(), None),
            Some(sha256) => {
                let label = "where a registry is, with its password".into();
                let content = Content::Secret { secret, label, sha256: sha256.clone() };
                Workshop::key(&path, "root", content, None)
            }
        });
    }
    items
}
