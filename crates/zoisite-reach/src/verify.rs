//! Proving that a cluster works: writes, pods on every node, connections between them, service
//! addresses, DNS, logs and exec; all in a namespace of its own that is removed afterwards.

use std::collections::BTreeMap;
use std::time::Duration;

use k8s_openapi::api::core::v1::Pod;
use kube::api::{AttachParams, LogParams};
use serde::Serialize;
use serde_json::{Value, json};
use tokio::io::AsyncReadExt as _;
use tokio::time::Instant;
use zoisite_core::cluster::HostName;

use crate::api::{ApiClient, ApiError, ApiResult};

/// One thing that was tried.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Tried {
    /// What, such as `pod to pod`.
    pub check: &'static str,
    /// From where, or about whom.
    pub on: String,
    /// `None` when it works, else what came back.
    pub fault: Option<String>,
    /// How long it took, in milliseconds.
    pub milliseconds: u64,
}

/// What is to be verified.
#[derive(Clone, Debug)]
pub struct Verification {
    /// The nodes that the cluster must have.
    pub nodes: Vec<HostName>,
    /// The image that answers and asks.
    pub image: String,
    /// The cluster's DNS domain.
    pub domain: String,
    /// Namespace of this proof; made and removed.
    pub namespace: String,
    /// Deadline for pods to run, and for each connection.
    pub patience: Duration,
}

/// The checks, in the order of the scoreboard.
pub const CHECKS: [&str; 9] = [
    "API server ready",
    "write and read",
    "node Ready",
    "pod runs",
    "pod to pod",
    "service address",
    "DNS",
    "logs",
    "cleaned up",
];

/// Port on which the probe image answers.
const PORT: u16 = 8080;

struct Verifier<'a> {
    api: &'a ApiClient,
    wanted: &'a Verification,
    tried: Vec<Tried>,
    said: &'a mut (dyn FnMut(&Tried) + Send),
}

/// Verifies a cluster through the stable address. `servers` are its API servers, each at its own address. When
/// `interrupt` completes, nothing more is tried, and what was made is removed.
pub async fn verify(
    stable: &ApiClient,
    servers: &[(HostName, Result<ApiClient, String>)],
    wanted: &Verification,
    interrupt: impl Future<Output = ()>,
    said: &mut (dyn FnMut(&Tried) + Send),
) -> Vec<Tried> {
    let mut verifier = Verifier { api: stable, wanted, tried: Vec::new(), said };
    for (host, server) in servers {
        let began = Instant::now();
        let asked = match server {
            Ok(server) => server.readyz().await.map_err(|e| e.to_string()),
            Err(why) => Err(why.clone()),
        };
        verifier.note(CHECKS[0], host.as_str(), began, asked);
    }
    verifier.sweep().await;
    let trying = async {
        if verifier.begin(servers).await {
            verifier.nodes().await;
            let pods = verifier.pods().await;
            verifier.connections(&pods).await;
        }
    };
    tokio::select! {
        () = trying => {}
        () = interrupt => {}
    }
    verifier.clean_up().await;
    verifier.tried
}

/// Until when a proof's namespace may be in use: one that is older was left by a proof that was killed.
const UNTIL: &str = "zoisite/verify-until";
const IN_USE: jiff::SignedDuration = jiff::SignedDuration::from_mins(15);
const NAMESPACES: &str = "/api/v1/namespaces";
const OURS: &str = "/api/v1/namespaces?labelSelector=app.kubernetes.io%2Fmanaged-by%3Dzoisite";

/// Whether a namespace was left by a proof that did not end.
fn is_left(namespace: &Value, now: jiff::Timestamp) -> bool {
    let metadata = &namespace["metadata"];
    let ours = metadata["name"].as_str().is_some_and(|name| name.starts_with(NAMESPACE));
    let until = metadata["annotations"][UNTIL].as_str().and_then(|until| until.parse().ok());
    ours && until.is_some_and(|until: jiff::Timestamp| until < now)
}

/// How the namespaces of proofs begin.
pub const NAMESPACE: &str = "zoisite-verify-";

impl Verifier<'_> {
    fn note(&mut self, check: &'static str, on: &str, began: Instant, result: Result<(), String>) {
        let milliseconds = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let tried = Tried { check, on: on.to_owned(), fault: result.err(), milliseconds };
        (self.said)(&tried);
        self.tried.push(tried);
    }

    fn path(&self, rest: &str) -> String {
        format!("/api/v1/namespaces/{}{rest}", self.wanted.namespace)
    }

    /// Removes what earlier proofs left that were killed.
    async fn sweep(&self) {
        let now = jiff::Timestamp::now();
        // What cannot be swept now is swept by a later one.
        let all = self.api.list(OURS).await.unwrap_or_default();
        for namespace in all.iter().filter(|namespace| is_left(namespace, now)) {
            let name = namespace["metadata"]["name"].as_str().unwrap_or_default();
            let _ = self.api.delete(&format!("{NAMESPACES}/{name}")).await;
        }
    }

    /// Makes the namespace; writes through the stable address and reads through every API server.
    async fn begin(&mut self, servers: &[(HostName, Result<ApiClient, String>)]) -> bool {
        let began = Instant::now();
        let namespace = json!({
            "apiVersion": "v1",
            "kind": "Namespace",
            "metadata": {
                "name": self.wanted.namespace,
                "labels": {
                    "app.kubernetes.io/managed-by": "zoisite",
                    "pod-security.kubernetes.io/enforce": "restricted",
                },
                "annotations": {UNTIL: (jiff::Timestamp::now() + IN_USE).to_string()},
            },
        });
        let value = self.wanted.namespace.clone();
        let note = json!({
            "apiVersion": "v1",
            "kind": "Secret",
            "metadata": {"name": "note"},
            "stringData": {"value": value},
        });
        let written = async {
            self.api.create(NAMESPACES, &namespace).await?;
            self.api.create(&self.path("/secrets"), &note).await?;
            Ok::<(), ApiError>(())
        };
        let written = written.await.map_err(|e| e.to_string());
        let made = written.is_ok();
        self.note(CHECKS[1], "the stable address", began, written);
        if !made {
            return false;
        }
        for (host, server) in servers {
            let Ok(server) = server else { continue };
            let began = Instant::now();
            let read = match server.get(&self.path("/secrets/note")).await {
                Ok(Some(_)) => Ok(()),
                Ok(None) => Err("what was written is not there".into()),
                Err(error) => Err(error.to_string()),
            };
            self.note(CHECKS[1], host.as_str(), began, read);
        }
        true
    }

    async fn nodes(&mut self) {
        for host in &self.wanted.nodes {
            let began = Instant::now();
            let ready = crate::api::ready_now(self.api, host).await;
            self.note(CHECKS[2], host.as_str(), began, ready);
        }
    }

    /// A pod on every node, placed by the scheduler. Returns the addresses of those that run, by node.
    async fn pods(&mut self) -> BTreeMap<String, String> {
        let began = Instant::now();
        let path = self.path("/pods");
        let service = json!({
            "apiVersion": "v1",
            "kind": "Service",
            "metadata": {"name": "probe"},
            "spec": {"selector": {"app": "probe"}, "ports": [{"port": 80, "targetPort": PORT}]},
        });
        let _ = self.api.create(&self.path("/services"), &service).await;
        let mut waiting: BTreeMap<String, String> = BTreeMap::new();
        for host in &self.wanted.nodes {
            let pod = self.pod(host);
            match self.create_pod(&path, &pod).await {
                Ok(()) => {
                    waiting.insert(host.to_string(), "it was not placed".into());
                }
                Err(error) => self.note(CHECKS[3], host.as_str(), began, Err(error.to_string())),
            }
        }
        let mut running = BTreeMap::new();
        let end = Instant::now() + self.wanted.patience;
        while !waiting.is_empty() && Instant::now() < end {
            for pod in self.api.list(&path).await.unwrap_or_default() {
                let text = |pointer: &str| {
                    pod.pointer(pointer).and_then(Value::as_str).unwrap_or_default().to_owned()
                };
                let node = text("/metadata/labels/node");
                if !waiting.contains_key(&node) {
                    continue;
                }
                let ready = crate::api::condition(&pod, "Ready")
                    .is_some_and(|condition| condition["status"] == "True");
                if ready {
                    waiting.remove(&node);
                    running.insert(node.clone(), text("/status/podIP"));
                    self.note(CHECKS[3], &node, began, Ok(()));
                } else {
                    waiting.insert(node, why_waiting(&pod));
                }
            }
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
        for (node, why) in waiting {
            self.note(CHECKS[3], &node, began, Err(why));
        }
        running
    }

    /// A namespace's default service account is made a moment after the namespace.
    async fn create_pod(&self, path: &str, pod: &Value) -> ApiResult<()> {
        let end = Instant::now() + Duration::from_secs(20);
        loop {
            match self.api.create(path, pod).await {
                Ok(_) => return Ok(()),
                Err(error) if error.code == 409 => return Ok(()),
                Err(error) if Instant::now() >= end => return Err(error),
                Err(error) if error.code == 403 || error.passing() => {}
                Err(error) => return Err(error),
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }

    fn pod(&self, host: &HostName) -> Value {
        json!({
            "apiVersion": "v1",
            "kind": "Pod",
            "metadata": {"name": format!("probe-{host}"), "labels": {"app": "probe", "node": host}},
            "spec": {
                "nodeSelector": {"kubernetes.io/hostname": host},
                "tolerations": [{"operator": "Exists"}],
                "automountServiceAccountToken": false,
                "terminationGracePeriodSeconds": 1,
                "securityContext": {
                    "runAsNonRoot": true,
                    "seccompProfile": {"type": "RuntimeDefault"},
                },
                "containers": [{
                    "name": "probe",
                    "image": self.wanted.image,
                    "imagePullPolicy": "Never",
                    "args": ["serve"],
                    "ports": [{"containerPort": PORT}],
                    "readinessProbe": {"httpGet": {"path": "/", "port": PORT}, "periodSeconds": 1},
                    "securityContext": {
                        "allowPrivilegeEscalation": false,
                        "capabilities": {"drop": ["ALL"]},
                        "readOnlyRootFilesystem": true,
                    },
                }],
            },
        })
    }

    /// From every pod: the next and the last one in a ring, the service, DNS; and its logs.
    async fn connections(&mut self, pods: &BTreeMap<String, String>) {
        let nodes: Vec<(&String, &String)> = pods.iter().collect();
        let service = self.service_address().await;
        let names = [
            format!("kubernetes.default.svc.{}", self.wanted.domain),
            format!("probe.{}.svc.{}", self.wanted.namespace, self.wanted.domain),
        ];
        for (i, (node, _)) in nodes.iter().enumerate() {
            let others: std::collections::BTreeSet<usize> =
                [(i + 1) % nodes.len(), (i + nodes.len() - 1) % nodes.len()].into();
            for other in others.into_iter().filter(|other| *other != i) {
                let (to, address) = nodes[other];
                let began = Instant::now();
                let url = format!("http://{}/", socket(address, PORT));
                let answered =
                    self.ask(node, &["/probe", "fetch", &url], &format!("probe-{to}")).await;
                self.note(CHECKS[4], &format!("{node} → {to}"), began, answered);
            }
            let began = Instant::now();
            let answered = match &service {
                Ok(address) => {
                    let url = format!("http://{}/", socket(address, 80));
                    self.ask(node, &["/probe", "fetch", &url], "probe-").await
                }
                Err(why) => Err(why.clone()),
            };
            self.note(CHECKS[5], node, began, answered);
            for name in &names {
                let began = Instant::now();
                let answered = self.ask(node, &["/probe", "name", name], "").await;
                let short = name.split('.').next().unwrap_or_default();
                self.note(CHECKS[6], &format!("{node}: {short}"), began, answered);
            }
            let began = Instant::now();
            let logs = self.logs(node).await;
            self.note(CHECKS[7], node, began, logs);
        }
    }

    async fn service_address(&self) -> Result<String, String> {
        let found = self.api.get(&self.path("/services/probe")).await.map_err(|e| e.to_string())?;
        let found = found.ok_or("the service is not there")?;
        let address = found.pointer("/spec/clusterIP").and_then(Value::as_str);
        Ok(address.ok_or("the service has no address")?.to_owned())
    }

    fn pods_api(&self) -> kube::Api<Pod> {
        kube::Api::namespaced(self.api.client(), &self.wanted.namespace)
    }

    /// Runs a command in a node's pod until its answer holds `expected`: service rules and DNS records
    /// need a moment to be everywhere.
    async fn ask(&self, node: &str, command: &[&str], expected: &str) -> Result<(), String> {
        let end = Instant::now() + self.wanted.patience.min(Duration::from_secs(30));
        loop {
            let answer =
                match tokio::time::timeout(self.wanted.patience, self.exec(node, command)).await {
                    Ok(answer) => answer,
                    Err(_) => Err("exec: timed out".into()),
                };
            match answer {
                Ok(said) if !said.is_empty() && said.contains(expected) => return Ok(()),
                Ok(said) if Instant::now() >= end => {
                    return Err(format!("it answered '{}'", said.trim()));
                }
                Err(why) if Instant::now() >= end => return Err(why),
                _ => tokio::time::sleep(Duration::from_millis(300)).await,
            }
        }
    }

    async fn exec(&self, node: &str, command: &[&str]) -> Result<String, String> {
        let words = |error: kube::Error| ApiError::from(error).to_string();
        let parameters = AttachParams::default().stdout(true).stderr(true);
        let pod = format!("probe-{node}");
        let mut process =
            self.pods_api().exec(&pod, command.to_vec(), &parameters).await.map_err(words)?;
        let (mut out, mut err) = (String::new(), String::new());
        let (stdout, stderr) = (process.stdout(), process.stderr());
        let status = process.take_status();
        let read_out = async {
            if let Some(mut stdout) = stdout {
                let _ = stdout.read_to_string(&mut out).await;
            }
        };
        let read_err = async {
            if let Some(mut stderr) = stderr {
                let _ = stderr.read_to_string(&mut err).await;
            }
        };
        tokio::join!(read_out, read_err);
        let status = match status {
            Some(status) => status.await,
            None => None,
        };
        match status.and_then(|status| status.status) {
            Some(word) if word == "Success" => Ok(out),
            _ => Err(err.trim().to_owned()),
        }
    }

    async fn logs(&self, node: &str) -> Result<(), String> {
        let pod = format!("probe-{node}");
        let text = self.pods_api().logs(&pod, &LogParams::default()).await;
        let text = text.map_err(|error| ApiError::from(error).to_string())?;
        let said = format!("probe serves on {pod}");
        if text.contains(&said) { Ok(()) } else { Err(format!("its log is '{}'", text.trim())) }
    }

    /// Removes the namespace and waits until it is gone.
    async fn clean_up(&mut self) {
        let began = Instant::now();
        let path = format!("/api/v1/namespaces/{}", self.wanted.namespace);
        let end = began + self.wanted.patience;
        let mut gone = self.api.delete(&path).await.map_err(|e| e.to_string());
        while gone.is_ok() {
            match self.api.get(&path).await {
                Ok(None) => break,
                _ if Instant::now() >= end => {
                    gone = Err(format!("the namespace {} is still there", self.wanted.namespace));
                }
                _ => tokio::time::sleep(Duration::from_millis(300)).await,
            }
        }
        let namespace = self.wanted.namespace.clone();
        self.note(CHECKS[8], &namespace, began, gone);
    }
}

fn socket(address: &str, port: u16) -> String {
    match address.parse() {
        Ok(address) => std::net::SocketAddr::new(address, port).to_string(),
        Err(_) => format!("{address}:{port}"),
    }
}

/// Why a pod does not run yet, in the words of scheduler or kubelet.
fn why_waiting(pod: &Value) -> String {
    let waiting = pod
        .pointer("/status/containerStatuses/0/state/waiting")
        .or_else(|| pod.pointer("/status/containerStatuses/0/state/terminated"));
    let words = |value: &Value| {
        let part = |key: &str| value[key].as_str().unwrap_or_default().to_owned();
        [part("reason"), part("message")].join(" ").trim().to_owned()
    };
    waiting
        .or_else(|| crate::api::condition(pod, "PodScheduled").filter(|c| c["status"] != "True"))
        .map(words)
        .filter(|text| !text.is_empty())
        .unwrap_or_else(|| "it does not run yet".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_a_killed_proof_left_is_swept() {
        let now: jiff::Timestamp = "2026-11-25T12:00:00Z".parse().unwrap();
        let namespace = |name: &str, until: &str| json!({"metadata": {"name": name, "annotations": {UNTIL: until}}});
        assert!(is_left(&namespace("zoisite-verify-0a1b2c", "2026-11-25T11:59:00Z"), now));
        assert!(
            !is_left(&namespace("zoisite-verify-0a1b2c", "2026-11-25T12:10:00Z"), now),
            "in use"
        );
        assert!(!is_left(&namespace("tides", "2026-11-25T11:00:00Z"), now), "somebody else's");
        let bare = json!({"metadata": {"name": "zoisite-verify-0a1b2c"}});
        assert!(!is_left(&bare, now), "nobody said until when");
    }
}
