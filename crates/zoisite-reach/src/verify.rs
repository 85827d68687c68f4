//! Proving that a cluster works: writes, pods on every node, connections between them, service
//! addresses, DNS, logs and exec; all in a namespace of its own that is removed afterwards.

mod images;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::Duration;

use async_trait::async_trait;

use k8s_openapi::api::core::v1::Pod;
use kube::api::{AttachParams, LogParams};
use serde::Serialize;
use serde_json::{Value, json};
use simple_dns::rdata::RData;
use simple_dns::{CLASS, Name, Packet, PacketFlag, Question, RCODE, TYPE};
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::time::Instant;
use zoisite_core::cluster::HostName;

pub use self::images::Pushing;
use crate::access::Stream;
use crate::api::{ApiClient, ApiError, ApiResult};
use crate::probe::{ANSWERS, PORT, Probe};

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
    /// Namespace of this proof, and the image that answers and asks.
    pub probe: Probe,
    /// The cluster's DNS domain.
    pub domain: String,
    /// Deadline for pods to run, and for each connection.
    pub timeout: Duration,
    /// Node ports that load balancers lead to, each with the ways there: their names, and what is dialled.
    pub forwards: BTreeMap<u16, Vec<(String, SocketAddr)>>,
    /// Images that every node is to pull again.
    pub pulls: Vec<String>,
    /// The cluster's own registry, where it takes images.
    pub pushing: Option<Pushing>,
}

/// Dials an address as a host of the cluster reaches it.
#[async_trait]
pub trait FromHost: Send + Sync {
    /// A stream to there, or why there is none.
    async fn stream(&self, to: SocketAddr) -> Result<Box<dyn Stream>, String>;
}

/// The checks, in the order of the scoreboard.
pub const CHECKS: [&str; 13] = [
    "API server ready",
    "write and read",
    "node Ready",
    "pod runs",
    "pod to pod",
    "service address",
    "DNS",
    "logs",
    "exec",
    "forwarded",
    images::PUSHED,
    images::PULLED,
    "cleaned up",
];

/// Those that are tried only where there is something of it.
pub const NOT_EVERYWHERE: [&str; 3] = [CHECKS[9], images::PUSHED, images::PULLED];

/// Configuration of a pod that asks on: of each name somebody else, over TCP as it is asked, and once over UDP.
fn asking((next, last): (&str, &str), service: Option<&str>, domain: &str) -> String {
    let zone = |name: &str, to: &str, how: &str| {
        format!("{name}:{PORT} {{\n    forward . {to}{how}\n}}\n")
    };
    let udp = " {\n        prefer_udp\n    }";
    let service = service.map(|address| zone("service.probe.", &socket(address, 53), ""));
    [
        format!(".:{PORT} {{\n    ready :8181\n}}\n"),
        zone("next.probe.", next, ""),
        zone("last.probe.", last, udp),
        service.unwrap_or_default(),
        zone(&format!("{domain}."), "/etc/resolv.conf", udp),
    ]
    .concat()
}

/// Asks a pod's DNS server through a forwarded port.
async fn query(pods: &kube::Api<Pod>, pod: &str, name: &str, kind: TYPE) -> Result<String, String> {
    let words = |error: kube::Error| ApiError::from(error).to_string();
    let mut forwarded = pods.portforward(pod, &[PORT]).await.map_err(words)?;
    let stream = forwarded.take_stream(PORT).ok_or("forwarding a port: there is no stream")?;
    exchange(stream, name, kind).await.map_err(|why| format!("forwarding a port: {why}"))
}

/// Asks a DNS server over TCP (RFC 1035, 4.2.2: each message with its length before it).
async fn exchange(
    mut stream: impl AsyncRead + AsyncWrite + Unpin,
    name: &str,
    kind: TYPE,
) -> Result<String, String> {
    let io = |error: std::io::Error| error.to_string();
    let name = Name::new(name).map_err(|error| error.to_string())?;
    let mut query = Packet::new_query(0);
    query.set_flags(PacketFlag::RECURSION_DESIRED);
    query.questions.push(Question::new(name, kind.into(), CLASS::IN.into(), false));
    let octets = query.build_bytes_vec().map_err(|error| error.to_string())?;
    let length = u16::try_from(octets.len()).unwrap_or_default();
    stream.write_all(&length.to_be_bytes()).await.map_err(io)?;
    stream.write_all(&octets).await.map_err(io)?;
    stream.flush().await.map_err(io)?;
    let mut length = [0; 2];
    stream.read_exact(&mut length).await.map_err(io)?;
    let mut answer = vec![0; usize::from(u16::from_be_bytes(length))];
    stream.read_exact(&mut answer).await.map_err(io)?;
    drop(stream);
    answered(&answer)
}

/// What a DNS server answered, in words.
fn answered(octets: &[u8]) -> Result<String, String> {
    let answer = Packet::parse(octets).map_err(|error| error.to_string())?;
    if answer.rcode() != RCODE::NoError {
        return Err(format!("DNS says {:?}", answer.rcode()));
    }
    let words = answer.answers.iter().filter_map(|record| match &record.rdata {
        RData::TXT(text) => String::try_from(text.clone()).ok(),
        RData::A(address) => Some(std::net::Ipv4Addr::from(address.address).to_string()),
        RData::AAAA(address) => Some(std::net::Ipv6Addr::from(address.address).to_string()),
        _ => None,
    });
    let words: Vec<String> = words.collect();
    Ok(zoisite_core::text::plain(&words.join(" ")).into_owned())
}

/// Hears of each pod whether it runs, or why it does not.
type Ran<'a, Verifier> = &'a mut (dyn FnMut(&mut Verifier, &str, Result<(), String>) + Send);

struct Verifier<'a> {
    api: &'a ApiClient,
    wanted: &'a Verification,
    tried: Vec<Tried>,
    said: &'a mut (dyn FnMut(&Tried) + Send),
}

/// An API server by its host, and a client of it.
pub type Server = (HostName, Result<ApiClient, String>);

/// Verifies a cluster through the API endpoint. `servers` are its API servers, each at its own address. When
/// `interrupt` completes, nothing more is tried, and what was made is removed.
pub async fn verify(
    stable: &ApiClient,
    (servers, host): (&[Server], &dyn FromHost),
    wanted: &Verification,
    interrupt: impl Future<Output = ()>,
    said: &mut (dyn FnMut(&Tried) + Send),
) -> Vec<Tried> {
    let mut verifier = Verifier { api: stable, wanted, tried: Vec::new(), said };
    let trying = async {
        for (host, server) in servers {
            let began = Instant::now();
            let asked = match server {
                Ok(server) => verifier.is_ready(server).await,
                Err(why) => Err(why.clone()),
            };
            verifier.note(CHECKS[0], host.as_str(), began, asked);
        }
        if verifier.begin(servers).await {
            verifier.nodes().await;
            let pods = verifier.pods().await;
            verifier.connections(&pods).await;
            verifier.forwarded(host).await;
            verifier.images().await;
        }
    };
    tokio::select! {
        () = trying => {}
        () = interrupt => {}
    }
    verifier.clean_up().await;
    verifier.tried
}

impl Verifier<'_> {
    fn note(&mut self, check: &'static str, on: &str, began: Instant, result: Result<(), String>) {
        let milliseconds = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let tried = Tried { check, on: on.to_owned(), fault: result.err(), milliseconds };
        (self.said)(&tried);
        self.tried.push(tried);
    }

    fn path(&self, rest: &str) -> String {
        self.wanted.probe.path(rest)
    }

    /// Whether an API server is ready, or is so soon: one that has just started, or whose etcd took a moment too long
    /// for one of its checks, says otherwise for a while.
    async fn is_ready(&self, server: &ApiClient) -> Result<(), String> {
        let end = Instant::now() + self.wanted.timeout.min(Duration::from_secs(30));
        loop {
            match server.readyz().await {
                Err(_) if Instant::now() < end => {}
                answer => return answer.map_err(|error| error.to_string()),
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }

    /// Makes the namespace; writes through the API endpoint and reads through every API server.
    async fn begin(&mut self, servers: &[Server]) -> bool {
        let began = Instant::now();
        let value = self.wanted.probe.namespace.clone();
        let note = json!({
            "apiVersion": "v1",
            "kind": "Secret",
            "metadata": {"name": "note"},
            "stringData": {"value": value},
        });
        let written = async {
            self.wanted.probe.begin(self.api).await?;
            self.api.create(&self.path("/secrets"), &note).await?;
            Ok::<(), ApiError>(())
        };
        let written = written.await.map_err(|e| e.to_string());
        let made = written.is_ok();
        self.note(CHECKS[1], "the API endpoint", began, written);
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
        let _ = self.api.create(&self.path("/services"), &Probe::service()).await;
        let answers = Probe::config("probe", ANSWERS);
        let _ = self.api.create(&self.path("/configmaps"), &answers).await;
        let pods = self.wanted.nodes.iter().map(|host| (host.to_string(), "probe".to_owned()));
        let pods: Vec<_> = pods.collect();
        let mut ran =
            |verifier: &mut Self, node: &str, how| verifier.note(CHECKS[3], node, began, how);
        self.run("probe", &pods, &mut ran).await
    }

    /// Makes pods, each on a node with a configuration, and waits until they answer; `ran` hears of each. Returns
    /// the addresses of those that do, by node.
    async fn run(
        &mut self,
        app: &str,
        pods: &[(String, String)],
        ran: Ran<'_, Self>,
    ) -> BTreeMap<String, String> {
        let path = self.path("/pods");
        let mut waiting: BTreeMap<String, String> = BTreeMap::new();
        for (node, config) in pods {
            match self.create_pod(&path, &self.pod(app, node, config)).await {
                Ok(()) => {
                    waiting.insert(node.clone(), "it was not placed".into());
                }
                Err(error) => ran(self, node, Err(error.to_string())),
            }
        }
        let mut running = BTreeMap::new();
        let end = Instant::now() + self.wanted.timeout;
        let list = format!("{path}?labelSelector=app%3D{app}");
        while !waiting.is_empty() && Instant::now() < end {
            for pod in self.api.list(&list).await.unwrap_or_default() {
                let text = |pointer: &str| {
                    pod.pointer(pointer).and_then(Value::as_str).unwrap_or_default().to_owned()
                };
                let node = text("/metadata/labels/node");
                if !waiting.contains_key(&node) {
                    continue;
                }
                if crate::api::says_ready(&pod) {
                    waiting.remove(&node);
                    running.insert(node.clone(), text("/status/podIP"));
                    ran(self, &node, Ok(()));
                } else {
                    waiting.insert(node, why_waiting(&pod));
                }
            }
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
        for (node, why) in waiting {
            let why = format!("{why}{}", self.pressure(&node).await);
            ran(self, &node, Err(why));
        }
        running
    }

    /// What a node says that it runs out of, for which its kubelet starts nothing.
    async fn pressure(&self, node: &str) -> String {
        let found = self.api.get(&format!("/api/v1/nodes/{node}")).await;
        found.ok().flatten().map_or(String::new(), |node| pressure(&node))
    }

    /// A namespace's default service account is made after the namespace, by the controller manager: it may be just
    /// starting, and is waited for as long as everything else.
    async fn create_pod(&self, path: &str, pod: &Value) -> ApiResult<()> {
        let end = Instant::now() + self.wanted.timeout;
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

    fn pod(&self, app: &str, node: &str, config: &str) -> Value {
        let name = format!("{app}-{node}");
        let mut spec =
            self.wanted.probe.pod_spec(app, config, &json!({"name": "POD", "value": name}));
        spec["nodeSelector"] = json!({"kubernetes.io/hostname": node});
        spec["tolerations"] = json!([{"operator": "Exists"}]);
        json!({
            "apiVersion": "v1",
            "kind": "Pod",
            "metadata": {"name": name, "labels": {"app": app, "node": node}},
            "spec": spec,
        })
    }

    /// Of every pod: its logs, and a command run in it. From every node: the next and the last pod in a ring, the
    /// service, DNS; asked of a second pod there, which asks on.
    async fn connections(&mut self, pods: &BTreeMap<String, String>) {
        let nodes: Vec<(&String, &String)> = pods.iter().collect();
        let service = self.service_address().await;
        let mut askers = Vec::new();
        for (i, (node, _)) in nodes.iter().enumerate() {
            let began = Instant::now();
            let logs = self.logs(node).await;
            self.note(CHECKS[7], node, began, logs);
            let began = Instant::now();
            let said = self.exec(node, &["/proc/1/exe", "-version"]).await;
            let said = said.and_then(|said| match said.contains("CoreDNS") {
                true => Ok(()),
                false => Err(format!("it answered '{}'", said.trim())),
            });
            self.note(CHECKS[8], node, began, said);
            let at = |other: usize| socket(nodes[other % nodes.len()].1, PORT);
            let corefile = asking(
                (&at(i + 1), &at(i + nodes.len() - 1)),
                service.as_deref().ok(),
                &self.wanted.domain,
            );
            let name = format!("ask-{node}");
            let config = Probe::config(&name, &corefile);
            let _ = self.api.create(&self.path("/configmaps"), &config).await;
            askers.push(((*node).clone(), name));
        }
        let mut ran = |verifier: &mut Self, node: &str, how: Result<(), String>| {
            if let Err(why) = how {
                let why = format!("the pod that asks does not run: {why}");
                verifier.note(CHECKS[4], node, Instant::now(), Err(why));
            }
        };
        let running = self.run("ask", &askers, &mut ran).await;
        let kind = match service.as_ref().is_ok_and(|address| address.contains(':')) {
            true => TYPE::AAAA,
            false => TYPE::A,
        };
        let names = [
            format!("kubernetes.default.svc.{}", self.wanted.domain),
            format!("probe.{}.svc.{}", self.wanted.probe.namespace, self.wanted.domain),
        ];
        for (i, (node, _)) in
            nodes.iter().enumerate().filter(|(_, (node, _))| running.contains_key(*node))
        {
            let (next, last) = ((i + 1) % nodes.len(), (i + nodes.len() - 1) % nodes.len());
            let mut others = vec![(next, "next.probe."), (last, "last.probe.")];
            others.dedup_by_key(|(other, _)| *other);
            for (other, name) in others.into_iter().filter(|(other, _)| *other != i) {
                let to = nodes[other].0;
                let began = Instant::now();
                let answered = self.ask(node, name, TYPE::TXT, &format!("probe-{to}")).await;
                self.note(CHECKS[4], &format!("{node} → {to}"), began, answered);
            }
            let began = Instant::now();
            let answered = match &service {
                Ok(_) => self.ask(node, "service.probe.", TYPE::TXT, "probe-").await,
                Err(why) => Err(why.clone()),
            };
            self.note(CHECKS[5], node, began, answered);
            for name in &names {
                let began = Instant::now();
                let answered = self.ask(node, &format!("{name}."), kind, "").await;
                let short = name.split('.').next().unwrap_or_default();
                self.note(CHECKS[6], &format!("{node}: {short}"), began, answered);
            }
        }
    }

    /// The way from outside: node ports on every node, and ports that load balancers forward to them. Where a service of
    /// the site's has the node port already, it is its own proof.
    async fn forwarded(&mut self, host: &dyn FromHost) {
        let wanted = self.wanted;
        for (node_port, ways) in &wanted.forwards {
            let mut service = Probe::service();
            service["metadata"]["name"] = json!(format!("probe-{node_port}"));
            service["spec"]["type"] = json!("NodePort");
            service["spec"]["ports"] =
                json!([{"name": "tcp", "port": 53, "targetPort": PORT, "nodePort": node_port}]);
            match self.api.create(&self.path("/services"), &service).await {
                Ok(_) => {}
                Err(error) if error.code == 422 && error.message.contains("already allocated") => {
                    continue;
                }
                Err(error) => {
                    let on = format!("node port {node_port}");
                    self.note(CHECKS[9], &on, Instant::now(), Err(error.to_string()));
                    continue;
                }
            }
            for (name, to) in ways {
                let began = Instant::now();
                let end = began + wanted.timeout.min(Duration::from_secs(30));
                // Rules of services and checks of load balancers need a moment to be everywhere.
                let answered = loop {
                    let asked = async {
                        let stream = host.stream(*to).await?;
                        exchange(stream, "forwarded.probe.", TYPE::TXT).await
                    };
                    let asked = tokio::time::timeout(Duration::from_secs(5), asked).await;
                    match asked.unwrap_or_else(|_| Err("no answer within 5 seconds".into())) {
                        Ok(said) if said.contains("probe-") => break Ok(()),
                        other if Instant::now() >= end => {
                            break Err(other
                                .map_or_else(|why| why, |said| format!("it answered '{said}'")));
                        }
                        _ => tokio::time::sleep(Duration::from_millis(500)).await,
                    }
                };
                self.note(CHECKS[9], name, began, answered);
            }
        }
    }

    async fn service_address(&self) -> Result<String, String> {
        let found = self.api.get(&self.path("/services/probe")).await.map_err(|e| e.to_string())?;
        let found = found.ok_or("the service is not there")?;
        let address = found.pointer("/spec/clusterIP").and_then(Value::as_str);
        Ok(address.ok_or("the service has no address")?.to_owned())
    }

    fn pods_api(&self) -> kube::Api<Pod> {
        kube::Api::namespaced(self.api.client(), &self.wanted.probe.namespace)
    }

    /// Asks a node's second pod for a name until its answer holds `expected`: service rules and DNS records need a
    /// moment to be everywhere.
    async fn ask(&self, node: &str, name: &str, kind: TYPE, expected: &str) -> Result<(), String> {
        let end = Instant::now() + self.wanted.timeout.min(Duration::from_secs(30));
        loop {
            let pod = format!("ask-{node}");
            let pods = self.pods_api();
            let asked = query(&pods, &pod, name, kind);
            let answer = match tokio::time::timeout(self.wanted.timeout, asked).await {
                Ok(answer) => answer,
                Err(_) => Err("no answer: timed out".into()),
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
        let asked = async || self.pods_api().logs(&pod, &LogParams::default()).await;
        let mut text = asked().await;
        // Of a kubelet that began again the API server may hold a connection that is closed by now: its first use fails.
        if text.is_err() {
            tokio::time::sleep(Duration::from_secs(1)).await;
            text = asked().await;
        }
        let text = text.map_err(|error| ApiError::from(error).to_string())?;
        if text.contains("CoreDNS") { Ok(()) } else { Err(format!("its log is '{}'", text.trim())) }
    }

    /// Removes the namespace and waits until it is gone.
    async fn clean_up(&mut self) {
        let began = Instant::now();
        let gone = self.wanted.probe.end(self.api, self.wanted.timeout).await;
        let namespace = self.wanted.probe.namespace.clone();
        self.note(CHECKS[12], &namespace, began, gone);
    }
}

fn socket(address: &str, port: u16) -> String {
    match address.parse() {
        Ok(address) => SocketAddr::new(address, port).to_string(),
        Err(_) => format!("{address}:{port}"),
    }
}

/// Conditions of a node under which its kubelet takes no pods (`NodeCondition` of the platform's API), in words.
fn pressure(node: &Value) -> String {
    let of =
        |kind: &&str| crate::api::condition(node, kind).filter(|found| found["status"] == "True");
    let found = ["DiskPressure", "MemoryPressure", "PIDPressure", "NetworkUnavailable"];
    let found: Vec<String> = found
        .iter()
        .filter_map(of)
        .map(|found| {
            format!(
                "; its node says {}: {}",
                found["type"].as_str().unwrap_or_default(),
                found["message"].as_str().unwrap_or_default()
            )
        })
        .collect();
    zoisite_core::text::plain(&found.concat()).into_owned()
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
    fn answers_of_dns_are_read_and_refusals_told() {
        let mut reply = Packet::new_reply(0);
        assert_eq!(answered(&reply.build_bytes_vec().unwrap()), Ok(String::new()));
        let name = Name::new_unchecked("next.probe.");
        let mut text = simple_dns::rdata::TXT::new();
        text.add_string("probe-\u{1b}egret").unwrap();
        let record = simple_dns::ResourceRecord::new(name, CLASS::IN, 0, RData::TXT(text));
        reply.answers.push(record);
        let said = answered(&reply.build_bytes_vec().unwrap()).unwrap();
        assert!(said.starts_with("probe-") && said.ends_with("egret"), "{said}");
        assert!(!said.contains('\u{1b}'), "nothing of it moves a terminal");
        let mut refused = Packet::new_reply(0);
        *refused.rcode_mut() = RCODE::ServerFailure;
        assert!(
            answered(&refused.build_bytes_vec().unwrap()).unwrap_err().contains("ServerFailure")
        );
        assert!(answered(b"<html>").is_err());
    }

    #[test]
    fn what_a_node_runs_out_of_is_told_with_its_pod() {
        let node = json!({"status": {"conditions": [
            {"type": "Ready", "status": "True"},
            {"type": "MemoryPressure", "status": "False"},
            {"type": "DiskPressure", "status": "True", "message": "kubelet has disk pressure"},
        ]}});
        assert_eq!(pressure(&node), "; its node says DiskPressure: kubelet has disk pressure");
        assert_eq!(pressure(&json!({})), "");
    }

    #[test]
    fn each_name_is_asked_of_somebody_else() {
        let corefile =
            asking(("10.90.1.2:1053", "[fd00::1]:1053"), Some("10.91.0.7"), "cluster.local");
        for line in [
            "next.probe.:1053 {\n    forward . 10.90.1.2:1053\n}",
            "forward . [fd00::1]:1053 {\n        prefer_udp",
            "forward . 10.91.0.7:53\n",
            "cluster.local.:1053",
        ] {
            assert!(corefile.contains(line), "{line}: {corefile}");
        }
        assert!(!asking(("a", "b"), None, "c").contains("service"));
    }
}
