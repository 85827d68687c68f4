//! A control-plane host: API server, controller manager and scheduler, each under a user of its own.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde_json::{Value, json};

use super::config::{Credential, Flags, kubeconfig, merge};
use super::etcd_paths::url;
use super::unit::HARDENED;
use super::{HostHoldings, Part, UnitFile, Workshop, kubernetes_folder};
use crate::cluster::{Cluster, Host, HostName, Role, Settings, Signer};
use crate::item::{Absent, Content, Item, User};
use crate::paths::{CONTROLLER_MANAGER, SCHEDULER};
use crate::pki::{AuthorityKind, Profile, SecretRef};

/// Name of the API server's unit.
pub const API_SERVER_UNIT: &str = "zoisite-api-server.service";
/// Name of the controller manager's unit.
pub const CONTROLLER_MANAGER_UNIT: &str = "zoisite-controller-manager.service";
/// Name of the scheduler's unit.
pub const SCHEDULER_UNIT: &str = "zoisite-scheduler.service";

const API_USER: &str = "zoisite-api";
const CONTROLLER_USER: &str = "zoisite-controller";
const SCHEDULER_USER: &str = "zoisite-scheduler";

/// Where the cluster authority's key stands while the cluster itself signs.
pub(super) const SIGNING_KEY: &str = "/etc/zoisite/controller-manager/cluster-authority.key";

const API_FOLDER: &str = "/etc/zoisite/api-server";
const CONTROLLER_FOLDER: &str = "/etc/zoisite/controller-manager";
/// Whom pods are to believe: controller managers publish it in every namespace.
pub(crate) const PODS_BUNDLE: &str = "/etc/zoisite/controller-manager/pods-authority.crt";
const SCHEDULER_FOLDER: &str = "/etc/zoisite/scheduler";
const API_LOGS: &str = "/var/log/zoisite-api";

pub(super) fn control_plane(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let mut items = shop.kubernetes(&[
        ("kube-apiserver", Some(API_SERVER_UNIT)),
        ("kube-controller-manager", Some(CONTROLLER_MANAGER_UNIT)),
        ("kube-scheduler", Some(SCHEDULER_UNIT)),
    ]);
    items.extend(api_server(shop));
    items.extend(controller_manager(shop));
    items.extend(scheduler(shop));
    out.extend(Part::ControlPlane, items);
}

/// A secret of the API server that all control planes share.
fn shared(path: &str, secret: SecretRef, label: &str, sha256: &str) -> Item {
    let (label, sha256) = (label.to_owned(), sha256.to_owned());
    Workshop::key(path, API_USER, Content::Secret { secret, label, sha256 }, Some(API_SERVER_UNIT))
}

fn api_server(shop: &mut Workshop<'_>) -> Vec<Item> {
    let at = |name: &str| format!("{API_FOLDER}/{name}");
    let mut items = vec![
        Item::User(User { name: API_USER, home: API_LOGS.into() }),
        Workshop::directory(API_FOLDER, "root", 0o755),
        Workshop::directory(API_LOGS, API_USER, 0o700),
    ];
    for (kind, name) in [
        (AuthorityKind::Cluster, "cluster-authority.crt"),
        (AuthorityKind::EtcdClient, "etcd-authority.crt"),
        (AuthorityKind::FrontProxy, "front-proxy-authority.crt"),
    ] {
        items.extend(shop.authority(kind, &at(name), Some(API_SERVER_UNIT)));
    }
    for profile in
        [Profile::ApiServer, Profile::ApiToEtcd, Profile::ApiToKubelet, Profile::FrontProxy]
    {
        items.extend(shop.certificate(profile));
    }
    let secrets = shop.sources.shared;
    items.extend([
        Workshop::file(
            &at("service-accounts.pub"),
            secrets.service_account_keys().all().copied().collect::<String>(),
            Some(API_SERVER_UNIT),
        ),
        shared(
            &at("service-accounts.key"),
            SecretRef::ServiceAccounts,
            "service accounts",
            &secrets.service_accounts_sha256,
        ),
        shared(
            &at("encryption.yaml"),
            SecretRef::EncryptionAtRest,
            "encryption at rest",
            &secrets.encryption_sha256,
        ),
    ]);
    let mut authentication = authentication();
    merge(&mut authentication, &shop.cluster.control_plane.authentication);
    let authentication = shop.yaml(&authentication);
    items.push(Workshop::file(&at("authentication.yaml"), authentication, Some(API_SERVER_UNIT)));
    let audit = shop.yaml(&audit_policy(&shop.cluster.control_plane.audit_policy));
    items.push(Workshop::file(&at("audit.yaml"), audit, Some(API_SERVER_UNIT)));
    let flags = api_server_flags(shop.cluster, shop.host, shop.dialled())
        .own(&shop.cluster.control_plane.api_server);
    let start = flags.command(&format!("{}/kube-apiserver", kubernetes_folder(shop.cluster)));
    let unit = service(
        shop,
        "API server",
        "network-online.target time-sync.target zoisite-etcd.service",
        API_USER,
        &start,
        &[
            ("Type", "notify"),
            ("TimeoutStartSec", "infinity"),
            ("LimitNOFILE", "16384"),
            ("ReadWritePaths", API_LOGS),
            ("AmbientCapabilities", "CAP_NET_BIND_SERVICE"),
        ],
        &[("CapabilityBoundingSet", "CAP_NET_BIND_SERVICE")],
    );
    items.extend(Workshop::unit(API_SERVER_UNIT, None, &unit));
    items
}

/// Anonymous callers may ask for health and nothing else (`apiserver.config.k8s.io/v1`).
fn authentication() -> Value {
    json!({
        "apiVersion": "apiserver.config.k8s.io/v1",
        "kind": "AuthenticationConfiguration",
        "anonymous": {
            "enabled": true,
            "conditions": [{"path": "/livez"}, {"path": "/readyz"}, {"path": "/healthz"}],
        },
    })
}

/// Who changed what; contents of secrets, and what changes by itself all the time, are left out
/// (`audit.k8s.io/v1`).
fn audit_policy(own: &Settings) -> Value {
    let mut policy = json!({"apiVersion": "audit.k8s.io/v1", "kind": "Policy"});
    if !own.is_empty() {
        merge(&mut policy, own);
        return policy;
    }
    json!({
        "apiVersion": "audit.k8s.io/v1",
        "kind": "Policy",
        "omitStages": ["RequestReceived"],
        "rules": [
            // Who read a secret is worth knowing; who read anything else is not.
            {"level": "Metadata", "resources": [{"group": "", "resources": ["secrets"]}]},
            // What runs in pods or passes through them begins with a `get`, where it goes by WebSocket.
            {"level": "Metadata", "resources": [{"group": "", "resources": [
                "pods/exec", "pods/attach", "pods/portforward", "pods/proxy", "services/proxy",
                "nodes/proxy",
            ]}]},
            {"level": "None", "verbs": ["get", "list", "watch"]},
            {"level": "None", "resources": [
                {"group": "coordination.k8s.io", "resources": ["leases"]},
                {"group": "", "resources": ["events", "nodes/status", "pods/status"]},
                {"group": "events.k8s.io", "resources": ["events"]},
            ]},
            {"level": "Metadata", "resources": [
                {"group": "", "resources": ["configmaps", "serviceaccounts/token"]},
                {"group": "authentication.k8s.io", "resources": ["tokenreviews"]},
            ]},
            {"level": "Request", "resources": [
                {"group": "rbac.authorization.k8s.io"},
                {"group": "certificates.k8s.io"},
            ]},
            {"level": "Metadata"},
        ],
    })
}

/// Where an API server listens: at its own address; everywhere, where the virtual IP is to lead to it.
fn listens_at(cluster: &Cluster, host: &Host) -> IpAddr {
    let leads_here = cluster.front() == Role::ControlPlane && !cluster.is_in_mesh(&host.name);
    match cluster.load_balancers.virtual_ip.filter(|_| leads_here) {
        None => host.address,
        // Where hosts have both families, the address that floats may be of either.
        Some(virtual_ip) if host.address.is_ipv4() && virtual_ip.is_ipv4() => {
            Ipv4Addr::UNSPECIFIED.into()
        }
        Some(_) => Ipv6Addr::UNSPECIFIED.into(),
    }
}

fn api_server_flags(cluster: &Cluster, host: &Host, dialled: &[HostName]) -> Flags {
    let at = |name: &str| format!("{API_FOLDER}/{name}");
    let etcd: Vec<String> = cluster
        .hosts
        .iter()
        .filter(|host| dialled.contains(&host.name))
        .map(|member| url("https", member.address, cluster.etcd.client_port))
        .collect();
    let services: Vec<String> = cluster.network.services.iter().map(ToString::to_string).collect();
    Flags::new([
        ("advertise-address", host.address.to_string()),
        ("allow-privileged", "true".into()),
        ("audit-log-format", "json".into()),
        ("audit-log-maxage", "30".into()),
        ("audit-log-maxbackup", "10".into()),
        ("audit-log-maxsize", "100".into()),
        ("audit-log-path", format!("{API_LOGS}/audit.log")),
        ("audit-policy-file", at("audit.yaml")),
        ("authentication-config", at("authentication.yaml")),
        ("authorization-mode", "Node,RBAC".into()),
        ("bind-address", listens_at(cluster, host).to_string()),
        ("client-ca-file", at("cluster-authority.crt")),
        ("enable-admission-plugins", "NodeRestriction".into()),
        ("enable-bootstrap-token-auth", "true".into()),
        ("encryption-provider-config", at("encryption.yaml")),
        ("etcd-cafile", at("etcd-authority.crt")),
        ("etcd-certfile", at("etcd/tls.crt")),
        ("etcd-keyfile", at("etcd/tls.key")),
        ("etcd-servers", etcd.join(",")),
        ("kubelet-certificate-authority", at("cluster-authority.crt")),
        ("kubelet-client-certificate", at("kubelet/tls.crt")),
        ("kubelet-client-key", at("kubelet/tls.key")),
        ("kubelet-preferred-address-types", "InternalIP,Hostname".into()),
        ("profiling", "false".into()),
        ("proxy-client-cert-file", at("front-proxy/tls.crt")),
        ("proxy-client-key-file", at("front-proxy/tls.key")),
        ("requestheader-allowed-names", "zoisite:front-proxy".into()),
        ("requestheader-client-ca-file", at("front-proxy-authority.crt")),
        ("requestheader-extra-headers-prefix", "X-Remote-Extra-".into()),
        ("requestheader-group-headers", "X-Remote-Group".into()),
        ("requestheader-username-headers", "X-Remote-User".into()),
        ("secure-port", cluster.control_plane.port.to_string()),
        ("service-account-issuer", format!("https://kubernetes.default.svc.{}", cluster.domain)),
        ("service-account-key-file", at("service-accounts.pub")),
        ("service-account-signing-key-file", at("service-accounts.key")),
        ("service-cluster-ip-range", services.join(",")),
        // A plain stop waits for every watch to end, which takes about a minute.
        ("shutdown-delay-duration", "5s".into()),
        ("shutdown-watch-termination-grace-period", "10s".into()),
        ("tls-cert-file", at("server/tls.crt")),
        ("tls-min-version", "VersionTLS12".into()),
        ("tls-private-key-file", at("server/tls.key")),
    ])
}

/// User, folder, certificate and kubeconfig of a component that dials its own host's API server.
fn client(
    shop: &mut Workshop<'_>,
    user: &'static str,
    folder: &str,
    profile: Profile,
    unit: &'static str,
) -> Vec<Item> {
    let mut items = vec![
        Item::User(User { name: user, home: folder.into() }),
        Workshop::directory(folder, "root", 0o755),
    ];
    let authority = format!("{folder}/cluster-authority.crt");
    items.extend(shop.authority(AuthorityKind::Cluster, &authority, Some(unit)));
    items.extend(shop.certificate(profile));
    let server = url("https", shop.host.address, shop.cluster.control_plane.port);
    let (certificate, key) =
        (format!("{folder}/client/tls.crt"), format!("{folder}/client/tls.key"));
    let config = shop.yaml(&kubeconfig(
        shop.cluster.name.as_str(),
        &server,
        json!({"certificate-authority": authority}),
        profile.id(),
        &Credential::Files { certificate: &certificate, key: &key },
    ));
    items.push(Workshop::file(&format!("{folder}/kubeconfig.yaml"), config, Some(unit)));
    items
}

fn controller_manager(shop: &mut Workshop<'_>) -> Vec<Item> {
    let folder = CONTROLLER_FOLDER;
    let profile = Profile::ControllerManager;
    let mut items = client(shop, CONTROLLER_USER, folder, profile, CONTROLLER_MANAGER_UNIT);
    let mut flags = controller_manager_flags(shop.cluster);
    let (kind, unit) = (AuthorityKind::Cluster, Some(CONTROLLER_MANAGER_UNIT));
    items.extend(shop.authority_up_to_root(kind, PODS_BUNDLE, unit));
    let key = SIGNING_KEY.to_owned();
    if shop.cluster.workers.signer == Signer::Run {
        items.push(Item::Absent(Absent { path: key }));
    } else {
        flags = flags.and([
            ("cluster-signing-cert-file", format!("{CONTROLLER_FOLDER}/cluster-authority.crt")),
            ("cluster-signing-key-file", key.clone()),
        ]);
        let authority = shop.sources.ledger.authority(AuthorityKind::Cluster);
        let sha256 = authority.map(|a| a.key_sha256.clone()).unwrap_or_default();
        let secret = SecretRef::Authority(AuthorityKind::Cluster);
        let content = Content::Secret { secret, label: "the cluster authority".into(), sha256 };
        items.push(Workshop::key(&key, CONTROLLER_USER, content, Some(CONTROLLER_MANAGER_UNIT)));
    }
    let flags = flags.own(&shop.cluster.control_plane.controller_manager);
    let start =
        flags.command(&format!("{}/kube-controller-manager", kubernetes_folder(shop.cluster)));
    let after = "network-online.target zoisite-api-server.service";
    let unit = service(shop, "controller manager", after, CONTROLLER_USER, &start, &[], &[]);
    let own = &shop.cluster.control_plane.controller_manager;
    let port = own.get("secure-port").is_none().then_some(CONTROLLER_MANAGER);
    items.extend(Workshop::unit(CONTROLLER_MANAGER_UNIT, port, &unit));
    items
}

fn controller_manager_flags(cluster: &Cluster) -> Flags {
    let kubeconfig = format!("{CONTROLLER_FOLDER}/kubeconfig.yaml");
    let services: Vec<String> = cluster.network.services.iter().map(ToString::to_string).collect();
    let mut controllers = vec!["*", "bootstrap-signer-controller", "token-cleaner-controller"];
    // No signing key: Zoisite approves and signs from the strongbox. Pod subnets are Zoisite's as well.
    if cluster.workers.signer == Signer::Run {
        controllers.push("-certificatesigningrequest-approving-controller");
        controllers.push("-certificatesigningrequest-signing-controller");
    }
    Flags::new([
        ("allocate-node-cidrs", "false".into()),
        ("authentication-kubeconfig", kubeconfig.clone()),
        ("authorization-kubeconfig", kubeconfig.clone()),
        ("bind-address", "127.0.0.1".into()),
        ("controllers", controllers.join(",")),
        ("kubeconfig", kubeconfig),
        ("leader-elect", "true".into()),
        ("profiling", "false".into()),
        ("root-ca-file", PODS_BUNDLE.to_owned()),
        ("service-cluster-ip-range", services.join(",")),
        ("use-service-account-credentials", "true".into()),
    ])
    .and(metrics_for_the_door(cluster))
}

/// What gives out metrics to monitoring reads them on loopback, as a user without rights.
fn metrics_for_the_door(cluster: &Cluster) -> Option<(&'static str, String)> {
    let open = "/healthz,/livez,/readyz,/metrics".to_owned();
    cluster.monitoring.as_ref().map(|_| ("authorization-always-allow-paths", open))
}

fn scheduler(shop: &mut Workshop<'_>) -> Vec<Item> {
    let mut items =
        client(shop, SCHEDULER_USER, SCHEDULER_FOLDER, Profile::Scheduler, SCHEDULER_UNIT);
    let path = format!("{SCHEDULER_FOLDER}/scheduler.yaml");
    let mut config = scheduler_config();
    merge(&mut config, &shop.cluster.control_plane.scheduler);
    let text = shop.yaml(&config);
    items.push(Workshop::file(&path, text, Some(SCHEDULER_UNIT)));
    let kubeconfig = format!("{SCHEDULER_FOLDER}/kubeconfig.yaml");
    let flags = Flags::new([
        ("authentication-kubeconfig", kubeconfig.clone()),
        ("authorization-kubeconfig", kubeconfig),
        ("bind-address", "127.0.0.1".into()),
        ("config", path),
    ])
    .and(metrics_for_the_door(shop.cluster));
    let start = flags.command(&format!("{}/kube-scheduler", kubernetes_folder(shop.cluster)));
    let after = "network-online.target zoisite-api-server.service";
    let unit = service(shop, "scheduler", after, SCHEDULER_USER, &start, &[], &[]);
    items.extend(Workshop::unit(SCHEDULER_UNIT, Some(SCHEDULER), &unit));
    items
}

/// `kubescheduler.config.k8s.io/v1`.
fn scheduler_config() -> Value {
    json!({
        "apiVersion": "kubescheduler.config.k8s.io/v1",
        "kind": "KubeSchedulerConfiguration",
        "clientConnection": {"kubeconfig": format!("{SCHEDULER_FOLDER}/kubeconfig.yaml")},
        "leaderElection": {"leaderElect": true},
        "enableProfiling": false,
    })
}

fn service(
    shop: &Workshop<'_>,
    what: &str,
    after: &str,
    user: &str,
    start: &str,
    more: &[(&'static str, &str)],
    instead: &[(&'static str, &str)],
) -> UnitFile {
    let hardened = HARDENED
        .iter()
        .copied()
        .map(|setting| instead.iter().copied().find(|(k, _)| *k == setting.0).unwrap_or(setting));
    UnitFile::service(&format!("{what} of {} on {}", shop.cluster.name, shop.host.name), after)
        .section(
            "Service",
            [
                ("User", user),
                ("Group", user),
                ("ExecStart", start),
                ("Restart", "always"),
                ("RestartSec", "1"),
                ("TimeoutStopSec", "45"),
            ]
            .into_iter()
            .chain(more.iter().copied())
            .chain(hardened),
        )
        .at_boot()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cluster::{API_SERVER_OWN, CONTROLLER_MANAGER_OWN};

    /// What Zoisite computes is refused as a person's own setting; the rest of what it sets is a default.
    #[test]
    fn what_is_computed_is_what_is_refused() {
        let text = include_str!("../../../../demo/saltmarsh/zoisite.toml");
        let cluster = crate::cluster::read(text).cluster.unwrap();
        let defaults = [
            "allow-privileged",
            "audit-",
            "authorization-always-allow-paths",
            "bind-address",
            "enable-admission-plugins",
            "leader-elect",
            "profiling",
            "shutdown-",
            "tls-min-version",
        ];
        let host = &cluster.hosts[0];
        for (flags, own) in [
            (api_server_flags(&cluster, host, &cluster.etcd.members), API_SERVER_OWN),
            (controller_manager_flags(&cluster), CONTROLLER_MANAGER_OWN),
        ] {
            for name in flags.names() {
                let default = defaults.iter().any(|d| name.starts_with(d));
                assert!(own.contains(&name) || default, "{name} is neither refused nor a default");
            }
        }
    }
}
