//! What a proof or a drill has running in the cluster: a namespace of its own, pods that answer, a service.
//!
//! The pods run the cluster's own DNS server: no other image is needed, here or at a site without a registry.

use std::net::SocketAddr;
use std::time::Duration;

use serde_json::{Value, json};
use tokio::time::Instant;
use zoisite_core::cluster::Endpoint;

use crate::api::{ApiClient, ApiResult};

/// Port on which the pods answer: no right is needed for it.
pub(crate) const PORT: u16 = 1053;
/// The user that they run as; some images name theirs in words, which the kubelet cannot judge.
const USER: u32 = 65_532;

/// Each answers with its own name, whatever it is asked below this zone.
pub(crate) const ANSWERS: &str = "\
probe.:1053 {
    template IN TXT probe. {
        answer \"{{ .Name }} 0 IN TXT {$POD}\"
    }
    ready :8181
}
";

/// Until when a namespace may be in use: one that is older was left by a run that was killed.
const UNTIL: &str = "zoisite/verify-until";
const IN_USE: jiff::SignedDuration = jiff::SignedDuration::from_mins(30);
const NAMESPACES: &str = "/api/v1/namespaces";
const OURS: &str = "/api/v1/namespaces?labelSelector=app.kubernetes.io%2Fmanaged-by%3Dzoisite";

/// How the namespaces of proofs and drills begin.
pub const NAMESPACE: &str = "zoisite-verify-";

/// For how long pods of a workload stay on a node that is gone, in seconds. (The platform's own default is 300.)
const STAY: u32 = 5;
/// For how long a workload may take to be ready.
const RUNNING: Duration = Duration::from_secs(180);

/// A namespace for a proof or a drill, and the image of its pods.
#[derive(Clone, Debug)]
pub struct Probe {
    /// The namespace; made and removed.
    pub namespace: String,
    /// The image that answers and asks.
    pub image: String,
}

/// Whether a namespace was left by a run that did not end.
fn is_left(namespace: &Value, now: jiff::Timestamp) -> bool {
    let metadata = &namespace["metadata"];
    let ours = metadata["name"].as_str().is_some_and(|name| name.starts_with(NAMESPACE));
    let until = metadata["annotations"][UNTIL].as_str().and_then(|until| until.parse().ok());
    ours && until.is_some_and(|until: jiff::Timestamp| until < now)
}

impl Probe {
    /// A path in the namespace of the core API.
    pub(crate) fn path(&self, rest: &str) -> String {
        format!("{NAMESPACES}/{}{rest}", self.namespace)
    }

    /// Removes what earlier runs left that were killed.
    async fn sweep(&self, api: &ApiClient) {
        let now = jiff::Timestamp::now();
        // What cannot be swept now is swept by a later one.
        let all = api.list(OURS).await.unwrap_or_default();
        for namespace in all.iter().filter(|namespace| is_left(namespace, now)) {
            let name = namespace["metadata"]["name"].as_str().unwrap_or_default();
            let _ = api.delete(&format!("{NAMESPACES}/{name}")).await;
        }
    }

    /// Makes the namespace, and sweeps those that were left.
    pub(crate) async fn begin(&self, api: &ApiClient) -> ApiResult<()> {
        self.sweep(api).await;
        let namespace = json!({
            "apiVersion": "v1",
            "kind": "Namespace",
            "metadata": {
                "name": self.namespace,
                "labels": {
                    "app.kubernetes.io/managed-by": "zoisite",
                    "pod-security.kubernetes.io/enforce": "restricted",
                },
                "annotations": {UNTIL: (jiff::Timestamp::now() + IN_USE).to_string()},
            },
        });
        api.create(NAMESPACES, &namespace).await.map(|_| ())
    }

    /// Removes the namespace and waits until it is gone.
    ///
    /// # Errors
    /// What was answered instead, or that it is still there.
    pub(crate) async fn end(&self, api: &ApiClient, timeout: Duration) -> Result<(), String> {
        let path = self.path("");
        let end = Instant::now() + timeout;
        api.delete(&path).await.map_err(|e| e.to_string())?;
        loop {
            match api.get(&path).await {
                Ok(None) => return Ok(()),
                _ if Instant::now() >= end => {
                    return Err(format!("the namespace {} is still there", self.namespace));
                }
                _ => tokio::time::sleep(Duration::from_millis(300)).await,
            }
        }
    }

    /// A configuration for pods.
    pub(crate) fn config(name: &str, corefile: &str) -> Value {
        json!({
            "apiVersion": "v1",
            "kind": "ConfigMap",
            "metadata": {"name": name},
            "data": {"Corefile": corefile},
        })
    }

    /// The service in front of pods of the app `probe`.
    pub(crate) fn service() -> Value {
        json!({
            "apiVersion": "v1",
            "kind": "Service",
            "metadata": {"name": "probe"},
            "spec": {
                "selector": {"app": "probe"},
                "ports": [
                    {"name": "udp", "protocol": "UDP", "port": 53, "targetPort": PORT},
                    {"name": "tcp", "protocol": "TCP", "port": 53, "targetPort": PORT},
                ],
            },
        })
    }

    /// What a pod of `app` runs, with a configuration; it answers under the name in `pod`.
    pub(crate) fn pod_spec(&self, app: &str, config: &str, pod: &Value) -> Value {
        json!({
            "automountServiceAccountToken": false,
            "terminationGracePeriodSeconds": 1,
            "securityContext": {
                "runAsNonRoot": true,
                "runAsUser": USER,
                "seccompProfile": {"type": "RuntimeDefault"},
            },
            "containers": [{
                "name": app,
                "image": self.image,
                "imagePullPolicy": "IfNotPresent",
                "args": ["-conf", "/etc/probe/Corefile"],
                "env": [pod],
                "ports": [{"containerPort": PORT}],
                "readinessProbe": {"httpGet": {"path": "/ready", "port": 8181}, "periodSeconds": 1},
                "securityContext": {
                    "allowPrivilegeEscalation": false,
                    // Its program may carry this right in its own file: without it here it would not start.
                    "capabilities": {"drop": ["ALL"], "add": ["NET_BIND_SERVICE"]},
                    "readOnlyRootFilesystem": true,
                },
                "volumeMounts": [{"name": "config", "mountPath": "/etc/probe", "readOnly": true}],
            }],
            "volumes": [{"name": "config", "configMap": {"name": config}}],
        })
    }

    /// A workload of so many pods, spread over nodes, that leave a node [`STAY`] seconds after it is gone, with a
    /// service; waits until all are ready. Where the service is dialled.
    ///
    /// # Errors
    /// What was answered instead, or what is not ready.
    pub(crate) async fn workload(&self, api: &ApiClient, pods: usize) -> Result<Endpoint, String> {
        let name =
            json!({"name": "POD", "valueFrom": {"fieldRef": {"fieldPath": "metadata.name"}}});
        let mut spec = self.pod_spec("probe", "probe", &name);
        let gone = |key: &str| json!({"key": key, "operator": "Exists", "effect": "NoExecute", "tolerationSeconds": STAY});
        let labels = json!({"app": "probe"});
        spec["tolerations"] =
            json!([gone("node.kubernetes.io/not-ready"), gone("node.kubernetes.io/unreachable")]);
        spec["topologySpreadConstraints"] = json!([{
            "maxSkew": 1,
            "topologyKey": "kubernetes.io/hostname",
            "whenUnsatisfiable": "ScheduleAnyway",
            "labelSelector": {"matchLabels": labels},
        }]);
        let deployment = json!({
            "apiVersion": "apps/v1",
            "kind": "Deployment",
            "metadata": {"name": "probe"},
            "spec": {
                "replicas": pods,
                "selector": {"matchLabels": labels},
                "template": {"metadata": {"labels": labels}, "spec": spec},
            },
        });
        let path = format!("/apis/apps/v1/namespaces/{}/deployments", self.namespace);
        let made = async {
            api.create(&self.path("/configmaps"), &Self::config("probe", ANSWERS)).await?;
            api.create(&path, &deployment).await?;
            api.create(&self.path("/services"), &Self::service()).await
        };
        let service = made.await.map_err(|error| error.to_string())?;
        let address = service.pointer("/spec/clusterIP").and_then(Value::as_str);
        let address = address.and_then(|address| address.parse().ok());
        let address = address.ok_or("the service has no address")?;
        let end = Instant::now() + RUNNING;
        loop {
            let found = api.get(&format!("{path}/probe")).await.ok().flatten();
            let ready = found.and_then(|found| found.pointer("/status/readyReplicas")?.as_u64());
            let ready = usize::try_from(ready.unwrap_or(0)).unwrap_or(0);
            if ready >= pods {
                return Endpoint::new(&SocketAddr::new(address, 53).to_string())
                    .map_err(|e| e.to_string());
            }
            if Instant::now() >= end {
                return Err(format!(
                    "{ready} of {pods} pods are ready: zoisite verify shows what is wrong"
                ));
            }
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_a_killed_run_left_is_swept() {
        let now: jiff::Timestamp = "2026-11-25T12:00:00Z".parse().unwrap();
        let namespace = |name: &str, until: &str| json!({"metadata": {"name": name, "annotations": {UNTIL: until}}});
        assert!(is_left(&namespace("zoisite-verify-0a1b2c", "2026-11-25T11:59:00Z"), now));
        assert!(
            !is_left(&namespace("zoisite-verify-0a1b2c", "2026-11-25T12:10:00Z"), now),
            "in use"
        );
        assert!(!is_left(&namespace("tides", "2026-11-25T11:00:00Z"), now), "somebody else's");
        let bare = json!({"metadata": {"name": "zoisite-verify-0a1b2c"}});
        assert!(!is_left(&bare, now), "until when is not known");
    }
}
