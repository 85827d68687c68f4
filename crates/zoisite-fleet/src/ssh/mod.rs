//! Real hosts over the person's own OpenSSH: their configuration, agent, jump hosts, known hosts and
//! hardware keys all just work.

mod api;
mod master;
mod tunnel;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use openssh::{ChildStdin, Session, Stdio};
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::sync::OnceCell;
use zoisite_core::blueprint::{
    API_SERVER_UNIT, ApiObject, BALANCER_UNIT, Component, HostBlueprint, KUBELET_UNIT,
};
use zoisite_core::cluster::{Cluster, Endpoint, HostName, Login};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::script::{
    Depth, KeyText, Observed, Outcome, Reply, Stretch, observe, plain, upload_script,
};
use zoisite_core::sequence::{ApiLook, ApiWork, Condition, Gate, Look, Proven, StepOutcome};

use self::master::Master;
use crate::api::{ApiAccess, ApiClient, Readiness};
use crate::etcd::{EtcdAccess, EtcdClient};
use crate::fleet::{Contents, Fleet, Progress};
use crate::quorum::judge;

/// How to reach one host.
#[derive(Clone, Debug)]
pub struct SshTarget {
    /// Its name; `Host` sections of the person's SSH configuration apply to it.
    pub name: HostName,
    /// What the cluster dials; logged in at too, unless the login says otherwise.
    pub address: IpAddr,
    /// How the administrator gets in; the SSH configuration file is an absolute path by now.
    pub login: Login,
}

/// Where what a run dials stands.
#[derive(Clone, Debug)]
pub struct Places {
    /// etcd's client port.
    pub etcd_port: u16,
    /// Hosts with an API server.
    pub api_hosts: Vec<HostName>,
    /// The port on which each listens.
    pub api_port: u16,
    /// The stable address.
    pub stable: Endpoint,
}

impl Places {
    /// Reads them off a cluster file.
    pub fn of(cluster: &Cluster) -> Self {
        Self {
            etcd_port: cluster.etcd.client_port,
            api_hosts: cluster.control_plane.hosts.clone(),
            api_port: cluster.control_plane.port,
            stable: cluster.control_plane.address.clone(),
        }
    }
}

/// A host with its standing connection.
struct Connected {
    target: SshTarget,
    master: OnceCell<Result<Master, Trouble>>,
}

/// The hosts of a cluster file over SSH.
pub struct SshFleet {
    hosts: BTreeMap<HostName, Connected>,
    /// Control sockets live here, and nowhere in the person's own folders.
    folder: Arc<tempfile::TempDir>,
    contents: Arc<dyn Contents>,
    access: Option<EtcdAccess>,
    api_access: Option<ApiAccess>,
    /// API servers that answered, by host.
    apis: std::sync::Mutex<BTreeMap<HostName, ApiClient>>,
    places: Places,
    generation: u64,
    began: Instant,
    /// Architectures, as observed.
    arch: std::sync::Mutex<BTreeMap<HostName, String>>,
    /// Prompts are asked one host at a time.
    prompt: tokio::sync::Mutex<()>,
}

impl std::fmt::Debug for SshFleet {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SshFleet").field("hosts", &self.hosts.keys()).finish_non_exhaustive()
    }
}

impl SshFleet {
    /// A fleet of these hosts; connects to none yet.
    ///
    /// # Errors
    /// When the folder for control sockets cannot be made.
    pub fn new(
        targets: Vec<SshTarget>,
        contents: Arc<dyn Contents>,
        places: Places,
        generation: u64,
    ) -> std::io::Result<Self> {
        // Socket paths have room for about a hundred characters, so they start near the root.
        let folder = tempfile::Builder::new().prefix("zoisite-").tempdir_in("/tmp")?;
        let hosts = targets
            .into_iter()
            .map(|target| (target.name.clone(), Connected { target, master: OnceCell::new() }))
            .collect();
        Ok(Self {
            hosts,
            folder: Arc::new(folder),
            contents,
            access: None,
            api_access: None,
            apis: std::sync::Mutex::default(),
            places,
            generation,
            began: Instant::now(),
            arch: std::sync::Mutex::default(),
            prompt: tokio::sync::Mutex::new(()),
        })
    }

    /// Gives the fleet the contents that its steps need.
    pub fn set_contents(&mut self, contents: Arc<dyn Contents>) {
        self.contents = contents;
    }

    /// Gives the fleet what it needs to dial etcd.
    pub fn set_access(&mut self, access: EtcdAccess) {
        self.access = Some(access);
    }

    /// Gives the fleet what it needs to dial the API.
    pub fn set_api_access(&mut self, access: ApiAccess) {
        self.api_access = Some(access);
    }

    async fn session(&self, host: &HostName) -> Result<&Session, Trouble> {
        let connected = self.hosts.get(host).ok_or_else(|| {
            Trouble::new(Some(host.clone()), "reaching the host", "it is not in the fleet", vec![])
        })?;
        let socket = self.socket(host, "h");
        let master = connected
            .master
            .get_or_init(|| Master::open(&connected.target, socket, &self.prompt))
            .await;
        master.as_ref().map(|master| &master.session).map_err(Clone::clone)
    }

    /// Runs a command as root and converses with it: `send` has its standard input, `line` gets each
    /// line of its answer. Returns how sending went, and what came on standard error.
    async fn converse<T>(
        &self,
        host: &HostName,
        command: &str,
        attempted: &str,
        send: impl AsyncFnOnce(ChildStdin) -> T,
        line: &mut (dyn FnMut(&str) + Send),
    ) -> Result<(Option<T>, String), Trouble> {
        let session = self.session(host).await?;
        let mut child = session
            .raw_command(format!("sudo -n {command}"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .await
            .map_err(|e| Trouble::new(Some(host.clone()), attempted, e.to_string(), Vec::new()))?;
        let stdin = child.stdin().take();
        let stdout = child.stdout().take();
        let stderr = child.stderr().take();
        let send = async {
            match stdin {
                Some(stdin) => Some(send(stdin).await),
                None => None,
            }
        };
        let receive = async {
            if let Some(stdout) = stdout {
                let mut lines = BufReader::new(stdout).lines();
                while let Ok(Some(text)) = lines.next_line().await {
                    line(&text);
                }
            }
        };
        let (sent, (), said) = tokio::join!(send, receive, read_all(stderr));
        // The reply itself says whether all was done; the status adds nothing to it.
        let _ = child.wait().await;
        Ok((sent, said))
    }

    /// Runs a script that goes by standard input; returns what came back, line by line to `line`.
    async fn script(
        &self,
        host: &HostName,
        script: &str,
        attempted: &str,
        line: &mut (dyn FnMut(&str) + Send),
    ) -> Result<String, Trouble> {
        let send = async |mut stdin: ChildStdin| {
            // A shell that does not start (sudo refuses) closes its end: its words tell why.
            let _ = stdin.write_all(script.as_bytes()).await;
            let _ = stdin.shutdown().await;
        };
        self.converse(host, "sh", attempted, send, line).await.map(|(_, said)| said)
    }

    fn outcome(&self, host: &HostName, attempted: &str, outcome: Outcome) -> StepOutcome {
        let host = Some(host.clone());
        StepOutcome::Failed(match outcome {
            Outcome::Done { changed } => return StepOutcome::Done { changed },
            Outcome::Failed { attempted, answer, evidence } => {
                Trouble::new(host, attempted, answer, evidence)
            }
            Outcome::Busy => Trouble::new(
                host,
                attempted,
                "another run is at work on this host (rule S11 one hand)",
                Vec::new(),
            )
            .mend("wait until it ends, then run the same command again"),
            Outcome::Newer(generation) => Trouble::new(
                host,
                attempted,
                format!("a newer run ({generation}) has acted on this host (rule S11 one hand)"),
                Vec::new(),
            )
            .mend("this run is out of date: run the same command again"),
            Outcome::Cut(said) => {
                let said = if said.is_empty() { "the connection broke off".into() } else { said };
                Trouble::new(host, attempted, said, Vec::new())
            }
        })
    }

    /// Adds evidence to a gate that did not hold, unless it was only asked once: what the unit concerned
    /// has logged, or where the stable address leads.
    async fn with_evidence(&self, gate: &Gate, trouble: Trouble) -> Trouble {
        let evidence = match (&gate.condition, gate.seconds) {
            (_, 0) => return trouble,
            (Condition::Ready { host, .. }, _) => self.log_of(host, KUBELET_UNIT).await,
            (Condition::Api { host }, _) => self.log_of(host, API_SERVER_UNIT).await,
            (Condition::Stable { from, balancer: true }, _) => {
                self.log_of(from, BALANCER_UNIT).await
            }
            (Condition::Stable { from, balancer: false }, _) => self.leads_to(from).await,
            (Condition::Quorum { .. } | Condition::Rollout { .. }, _) => return trouble,
        };
        Trouble::new(trouble.host, trouble.attempted, trouble.answer, evidence)
    }

    async fn etcd(&self, host: &HostName) -> Result<EtcdClient, String> {
        let access = self.access.as_ref().ok_or("this run has no certificate for etcd")?;
        let name = self.hosts[host].target.address.to_string();
        let way = self.way(host, "e", (name.clone(), self.places.etcd_port)).await;
        let way = way.map_err(|trouble| trouble.answer)?;
        EtcdClient::connect(access, &name, move || way.clone().connect()).await
    }

    /// One attempt at proving a quorum.
    async fn attempt(&self, members: &[HostName]) -> Result<Proven, Trouble> {
        let failed = |host: &HostName, what: &'static str| {
            let host = host.clone();
            move |answer: String| Trouble::new(Some(host), what, answer, Vec::new())
        };
        let mut clients = Vec::new();
        let connecting = members.iter().map(|host| async move {
            let client = self.etcd(host).await.map_err(failed(host, "dialling etcd"))?;
            let answer = client.answer().await.map_err(failed(host, "asking the member"))?;
            Ok::<_, Trouble>((host.clone(), client, answer))
        });
        for result in futures_util::future::join_all(connecting).await {
            clients.push(result?);
        }
        let answers: Vec<_> =
            clients.iter().map(|(host, _, answer)| (host.clone(), answer.clone())).collect();
        let mut proven = judge(&answers)?;
        let key = format!("/zoisite/proof/{}", self.generation);
        let value = format!("{:?}", self.began.elapsed());
        let Some((writer, client, _)) = clients.first() else { return Ok(proven) };
        let lease = client
            .put(&key, &value, 120)
            .await
            .map_err(failed(writer, "writing a key through the member"))?;
        let others = if clients.len() > 1 { &clients[1..] } else { &clients[..] };
        let mut read = Ok(());
        for (host, other, _) in others {
            let found = other.get(&key).await;
            read = match found {
                Ok(Some(found)) if found == value => {
                    proven.read.push(host.to_string());
                    continue;
                }
                Ok(found) => {
                    let text = format!("it read {found:?} where {writer} had written {value:?}");
                    Err(failed(host, "reading the key through the member")(text))
                }
                Err(why) => Err(failed(host, "reading the key through the member")(why)),
            };
            break;
        }
        client.revoke(lease).await.map_err(failed(writer, "removing the key again"))?;
        read?;
        proven.wrote = writer.to_string();
        Ok(proven)
    }
}

async fn read_all(from: Option<impl tokio::io::AsyncRead + Unpin>) -> String {
    let mut text = Vec::new();
    if let Some(mut from) = from {
        let _ = from.read_to_end(&mut text).await;
    }
    plain(&String::from_utf8_lossy(&text)).into_owned()
}

const COMPONENT_MEND: &str = "nothing of it was copied: put the right file into the components folder, or mend its line in SHA256SUMS if the file is the right one";

/// Quotes a script as one word for the login shell on the host.
fn shell_word(script: &str) -> String {
    format!("'{}'", script.replace('\'', r"'\''"))
}

#[async_trait]
impl Fleet for SshFleet {
    async fn observe(&self, blueprint: &HostBlueprint, depth: Depth) -> Look {
        let host = &blueprint.host;
        let attempted = "looking at the host";
        let mut text = String::new();
        let said = self
            .script(host, &observe(blueprint, depth), attempted, &mut |line| {
                text.push_str(line);
                text.push('\n');
            })
            .await?;
        let observed = Observed::read(&text).map_err(|tail| {
            let answer = match (said.trim(), tail.as_str()) {
                ("", "") => "no answer".to_owned(),
                ("", tail) => tail.to_owned(),
                (said, _) => said.lines().collect::<Vec<_>>().join(" | "),
            };
            Trouble::new(Some(host.clone()), attempted, answer, Vec::new())
        })?;
        if let Ok(mut arch) = self.arch.lock() {
            arch.insert(host.clone(), observed.arch.clone());
        }
        Ok(observed)
    }

    async fn act(&self, stretch: &Stretch, progress: Progress<'_>) -> StepOutcome {
        let host = &stretch.host;
        let open = |serial: &str| self.contents.key(serial);
        let script = match stretch.script(self.generation, KeyText::Opened(&open)) {
            Ok(script) => script,
            Err(label) => {
                let answer = format!("the strongbox does not hold the key of {label}");
                return StepOutcome::Failed(
                    Trouble::new(Some(host.clone()), "writing the script", answer, Vec::new())
                        .mend("zoisite pki issue makes what is missing"),
                );
            }
        };
        let attempted = "acting on the host";
        let mut reply = Reply::default();
        let said = self
            .script(host, script.expose(), attempted, &mut |line| {
                if let Some(doing) = reply.line(line) {
                    progress(doing);
                }
            })
            .await;
        match said {
            Ok(said) => self.outcome(host, attempted, reply.outcome(&said)),
            Err(trouble) => StepOutcome::Failed(trouble),
        }
    }

    async fn upload(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        progress: Progress<'_>,
    ) -> StepOutcome {
        let attempted = format!("bringing {}", component.pinned);
        let fail = |answer: String| {
            StepOutcome::Failed(Trouble::new(Some(host.clone()), attempted.clone(), answer, vec![]))
        };
        let arch = self.arch.lock().ok().and_then(|a| a.get(host).cloned()).unwrap_or_default();
        let path: PathBuf = match self.contents.component(component, sha256, &arch) {
            Ok(path) => path,
            // What is wrong with a file here is plain: nothing on the host needs to be looked at.
            Err(why) => {
                return StepOutcome::Failed(
                    Trouble::new(Some(host.clone()), attempted.clone(), why, vec![])
                        .mend(COMPONENT_MEND),
                );
            }
        };
        let script = upload_script(host, component, sha256, self.generation);
        let command = format!("sh -c {}", shell_word(&script));
        let send = async |mut stdin: ChildStdin| {
            let mut file = tokio::fs::File::open(&path).await?;
            let total = file.metadata().await?.len().max(1);
            let (mut sent, mut shown) = (0_u64, 0);
            let mut block = vec![0; 256 * 1_024];
            loop {
                let n = file.read(&mut block).await?;
                if n == 0 {
                    break;
                }
                // A host that stops reading has said why in its reply.
                if stdin.write_all(&block[..n]).await.is_err() {
                    break;
                }
                sent += n as u64;
                let percent = sent * 100 / total;
                if percent >= shown + 10 {
                    shown = percent;
                    progress(format!("{} {percent} %", component.pinned));
                }
            }
            let _ = stdin.shutdown().await;
            Ok::<(), std::io::Error>(())
        };
        let mut reply = Reply::default();
        let mut line = |text: &str| {
            reply.line(text);
        };
        match self.converse(host, &command, &attempted, send, &mut line).await {
            Err(trouble) => StepOutcome::Failed(trouble),
            Ok((Some(Err(error)), _)) => fail(format!("{}: {error}", path.display())),
            Ok((_, said)) => self.outcome(host, &attempted, reply.outcome(&said)),
        }
    }

    async fn prove(&self, gate: &Gate, progress: Progress<'_>) -> StepOutcome {
        let end = Instant::now() + Duration::from_secs(gate.seconds.into());
        let mut readiness = Readiness::default();
        loop {
            let attempt = match &gate.condition {
                Condition::Quorum { members } => {
                    self.attempt(members).await.map(StepOutcome::Proven)
                }
                other => self.attempt_api(other, &mut readiness).await,
            };
            match attempt {
                Ok(outcome) => return outcome,
                Err(trouble) if Instant::now() >= end => {
                    return StepOutcome::Failed(self.with_evidence(gate, trouble).await);
                }
                Err(trouble) => progress(trouble.to_string()),
            }
            tokio::time::sleep(Duration::from_millis(300)).await;
        }
    }

    async fn ask(&self, objects: &[ApiObject]) -> ApiLook {
        self.look_at_api(objects).await
    }

    async fn api(
        &self,
        host: Option<&HostName>,
        work: &ApiWork,
        progress: Progress<'_>,
    ) -> StepOutcome {
        self.work_on_api(host, work, progress).await
    }

    fn elapsed(&self) -> Duration {
        self.began.elapsed()
    }

    async fn close(&self) {
        // A master does not end while something still goes through it.
        if let Ok(mut apis) = self.apis.lock() {
            apis.clear();
        }
        let masters = self.hosts.values().filter_map(|host| host.master.get()?.as_ref().ok());
        futures_util::future::join_all(masters.map(Master::close)).await;
    }
}
