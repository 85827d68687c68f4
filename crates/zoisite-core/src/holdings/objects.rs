//! What the cluster itself must hold: the rights that joining needs, and its DNS.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::monitoring;
use super::node::dns_address;
use crate::cluster::{Cluster, Signer};
use crate::components::NodeImages;
use crate::pki::MONITORING;
use crate::token::JOINING;

/// An object of the platform's API, applied with server-side apply under Zoisite's own field manager.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ApiObject(pub Value);

impl ApiObject {
    fn text(&self, pointer: &str) -> &str {
        self.0.pointer(pointer).and_then(Value::as_str).unwrap_or_default()
    }

    /// Whether it is one of Zoisite's own, and none of the site's.
    pub fn is_own(&self) -> bool {
        self.text("/metadata/labels/app.kubernetes.io~1managed-by") == "zoisite"
    }

    /// `apiVersion`, such as `apps/v1`.
    pub fn api_version(&self) -> &str {
        self.text("/apiVersion")
    }

    /// `kind`.
    pub fn kind(&self) -> &str {
        self.text("/kind")
    }

    /// `metadata.name`.
    pub fn name(&self) -> &str {
        self.text("/metadata/name")
    }

    /// `metadata.namespace`; empty where there is none.
    pub fn namespace(&self) -> &str {
        self.text("/metadata/namespace")
    }

    /// `Deployment kube-system/coredns`.
    pub fn title(&self) -> String {
        let title = match self.namespace() {
            "" => format!("{} {}", self.kind(), self.name()),
            namespace => format!("{} {namespace}/{}", self.kind(), self.name()),
        };
        crate::text::plain(&title).into_owned()
    }
}

/// Every object that Zoisite applies by itself, in order.
pub fn objects(cluster: &Cluster, images: &NodeImages) -> Vec<ApiObject> {
    let group = |name: &str| json!([{"apiGroup": RBAC, "kind": "Group", "name": name}]);
    let mut out = vec![
        binding("zoisite:join", "system:node-bootstrapper", group(JOINING)),
        binding("zoisite:kubelet-api", "system:kubelet-api-admin", group("zoisite:kubelet-api")),
    ];
    let user = json!([{"apiGroup": RBAC, "kind": "User", "name": MONITORING}]);
    out.push(monitoring::role(MONITORING, &labels()));
    out.push(binding(MONITORING, MONITORING, user));
    if cluster.workers.signer == Signer::InCluster {
        // The platform's own approver asks for these rights of whoever asks for a certificate.
        let requests = "system:certificates.k8s.io:certificatesigningrequests";
        for (name, role, who) in [
            ("zoisite:join-signed", "nodeclient", JOINING),
            ("zoisite:renew-signed", "selfnodeclient", "system:nodes"),
        ] {
            out.push(binding(name, &format!("{requests}:{role}"), group(who)));
        }
    }
    if cluster.offline().next().is_some() || !cluster.unnamed().is_empty() {
        out.extend(reports());
    }
    out.extend(dns(cluster, images));
    out.into_iter().map(ApiObject).collect()
}

/// Namespace in which offline hosts leave their reports, each a ConfigMap of the host's name.
pub const REPORTS: &str = "zoisite-reports";
/// So many reports are kept there at most: who joins may write some, and no more than the namespace holds.
const MOST_REPORTS: usize = 5_000;

/// Where such hosts leave their reports. Whoever joins, or has joined, may write there and nowhere else; what counts is the
/// seal by the host's own word.
fn reports() -> Vec<Value> {
    let meta = |name: &str| json!({"name": name, "namespace": REPORTS, "labels": labels()});
    let group = |name: &str| json!({"apiGroup": RBAC, "kind": "Group", "name": name});
    vec![
        json!({
            "apiVersion": "v1",
            "kind": "Namespace",
            "metadata": {"name": REPORTS, "labels": labels()},
        }),
        json!({
            "apiVersion": "v1",
            "kind": "ResourceQuota",
            "metadata": meta("reports"),
            "spec": {"hard": {"count/configmaps": MOST_REPORTS.to_string()}},
        }),
        json!({
            "apiVersion": format!("{RBAC}/v1"),
            "kind": "Role",
            "metadata": meta("reports"),
            "rules": [{"apiGroups": [""], "resources": ["configmaps"], "verbs": ["create", "patch"]}],
        }),
        json!({
            "apiVersion": format!("{RBAC}/v1"),
            "kind": "RoleBinding",
            "metadata": meta("reports"),
            "roleRef": {"apiGroup": RBAC, "kind": "Role", "name": "reports"},
            "subjects": [group("system:bootstrappers"), group("system:nodes")],
        }),
    ]
}

const RBAC: &str = "rbac.authorization.k8s.io";

fn binding(name: &str, role: &str, subjects: Value) -> Value {
    json!({
        "apiVersion": format!("{RBAC}/v1"),
        "kind": "ClusterRoleBinding",
        "metadata": {"name": name, "labels": labels()},
        "roleRef": {"apiGroup": RBAC, "kind": "ClusterRole", "name": role},
        "subjects": subjects,
    })
}

fn labels() -> Value {
    json!({"app.kubernetes.io/managed-by": "zoisite"})
}

const SYSTEM: &str = "kube-system";
const DNS: &str = "coredns";
/// Port on which the DNS server listens in its pod: no right is needed for it.
const DNS_PORT: u16 = 1053;

fn dns(cluster: &Cluster, images: &NodeImages) -> Vec<Value> {
    let meta = json!({"name": DNS, "namespace": SYSTEM, "labels": labels()});
    let select = json!({"k8s-app": DNS});
    let corefile = format!(
        ".:{DNS_PORT} {{
    errors
    health :8080
    ready :8181
    kubernetes {} in-addr.arpa ip6.arpa {{
        fallthrough in-addr.arpa ip6.arpa
    }}
    prometheus :9153
    forward . /etc/resolv.conf
    cache 30
    loop
    reload
    loadbalance
}}
",
        cluster.domain
    );
    let addresses: Vec<_> = cluster.network.services.iter().filter_map(dns_address).collect();
    vec![
        json!({"apiVersion": "v1", "kind": "ServiceAccount", "metadata": meta}),
        json!({
            "apiVersion": format!("{RBAC}/v1"),
            "kind": "ClusterRole",
            "metadata": {"name": "zoisite:dns", "labels": labels()},
            "rules": [
                {
                    "apiGroups": [""],
                    "resources": ["services", "pods", "namespaces"],
                    "verbs": ["list", "watch"],
                },
                {
                    "apiGroups": ["discovery.k8s.io"],
                    "resources": ["endpointslices"],
                    "verbs": ["list", "watch"],
                },
            ],
        }),
        binding(
            "zoisite:dns",
            "zoisite:dns",
            json!([{"kind": "ServiceAccount", "name": DNS, "namespace": SYSTEM}]),
        ),
        json!({
            "apiVersion": "v1",
            "kind": "ConfigMap",
            "metadata": meta,
            "data": {"Corefile": corefile},
        }),
        json!({
            "apiVersion": "apps/v1",
            "kind": "Deployment",
            "metadata": meta,
            "spec": {
                "replicas": 2.min(cluster.nodes().len()),
                "selector": {"matchLabels": select},
                "template": {
                    "metadata": {"labels": select},
                    "spec": dns_pod(cluster, images, &select),
                },
            },
        }),
        json!({
            "apiVersion": "policy/v1",
            "kind": "PodDisruptionBudget",
            "metadata": meta,
            "spec": {"maxUnavailable": 1, "selector": {"matchLabels": select}},
        }),
        json!({
            "apiVersion": "v1",
            "kind": "Service",
            "metadata": meta,
            "spec": {
                "selector": select,
                "clusterIP": addresses.first(),
                "clusterIPs": addresses,
                "ipFamilyPolicy": if addresses.len() > 1 { "RequireDualStack" } else { "SingleStack" },
                "ports": [
                    {"name": "dns", "port": 53, "protocol": "UDP", "targetPort": DNS_PORT},
                    {"name": "dns-tcp", "port": 53, "protocol": "TCP", "targetPort": DNS_PORT},
                    {"name": "metrics", "port": 9153, "protocol": "TCP", "targetPort": 9153},
                ],
            },
        }),
    ]
}

fn dns_pod(cluster: &Cluster, images: &NodeImages, select: &Value) -> Value {
    json!({
        "serviceAccountName": DNS,
        "priorityClassName": "system-cluster-critical",
        // Its own lookups go to the site's DNS servers, as the host's do.
        "dnsPolicy": "Default",
        "tolerations": [
            {"key": "node-role.kubernetes.io/control-plane", "operator": "Exists", "effect": "NoSchedule"},
        ],
        "topologySpreadConstraints": [{
            "maxSkew": 1,
            "topologyKey": "kubernetes.io/hostname",
            "whenUnsatisfiable": "ScheduleAnyway",
            "labelSelector": {"matchLabels": select},
        }],
        "containers": [{
            "name": DNS,
            "image": images.name_of(&cluster.components.dns_image),
            "imagePullPolicy": "IfNotPresent",
            "args": ["-conf", "/etc/coredns/Corefile"],
            "ports": [
                {"name": "dns", "containerPort": DNS_PORT, "protocol": "UDP"},
                {"name": "dns-tcp", "containerPort": DNS_PORT, "protocol": "TCP"},
            ],
            "resources": {"requests": {"cpu": "50m", "memory": "70Mi"}, "limits": {"memory": "170Mi"}},
            "readinessProbe": {"httpGet": {"path": "/ready", "port": 8181}, "periodSeconds": 2},
            "livenessProbe": {
                "httpGet": {"path": "/health", "port": 8080},
                "initialDelaySeconds": 30,
                "failureThreshold": 5,
            },
            "securityContext": {
                "allowPrivilegeEscalation": false,
                // Its program may carry this right in its own file: without it here it would not start.
                "capabilities": {"drop": ["ALL"], "add": ["NET_BIND_SERVICE"]},
                "readOnlyRootFilesystem": true,
                "runAsNonRoot": true,
                // Some images name theirs in words, which the kubelet cannot judge.
                "runAsUser": 65_532,
            },
            "volumeMounts": [{"name": "config", "mountPath": "/etc/coredns", "readOnly": true}],
        }],
        "volumes": [{"name": "config", "configMap": {"name": DNS}}],
    })
}
