//! Real hosts, each through a channel of its own.
//!
//! [`Hosts`] says what is done; [`channel`] sees to it that it gets there: opened again when it is gone, within
//! bounds, with deadlines. What carries the octets is a [`Carrier`], and that is [`OpenSsh`] for people.

mod api;
mod at_rest;
mod carrier;
mod channel;
mod copy;
mod defragment;
mod drill;
mod first_boot;
mod joining;
mod lines;
mod members;
mod mesh;
mod openssh;
mod relay;
mod served;
mod survey;
mod trial;
mod way;
mod way_in;

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use tokio::time::Instant;
use zoisite_core::adopt::{HeldThere, held_script, read_held};
use zoisite_core::cluster::{Cluster, Endpoint, HostName};
use zoisite_core::components::Shelved;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{
    API_SERVER_UNIT, ApiObject, HostHoldings, KUBELET_UNIT, LOAD_BALANCER_UNIT, MESH_UNIT,
    REGISTRY_UNIT,
};
use zoisite_core::item::{Component, KeyText};
use zoisite_core::pki::{KeyRequest, Secret, SecretRef};
use zoisite_core::script::{
    Depth, Notes, Observed, Outcome, Reply, Stretch, Unread, keep_rules_script, notes_script,
    observe, uninstall_script,
};
use zoisite_core::sequence::{ApiLook, ApiWork, Condition, Gate, Look, MemberWork, StepOutcome};
use zoisite_core::snapshot::{SavedThere, read_saved, saved_script};
use zoisite_core::survey::Facts;
use zoisite_core::text::plain;

pub use self::carrier::{Broken, Carrier, Connection, Hope, NotOpened, Process, Target};
use self::channel::{Answer, Channel, Limits, Saying};
pub use self::defragment::{Defragmented, DefragmentedMember};
pub use self::drill::Field;
pub use self::openssh::{ANSWERS, OpenSsh, answer};
use self::relay::Relay;
use self::way::Way;
use crate::access::{Access, Dial};
use crate::api::{ApiClient, Readiness};
use crate::reach::{Carried, Contents, Progress, Reach, signed};

/// What a script that acts said besides how it ended.
#[derive(Debug, Default)]
struct Said {
    /// What was to be taken back and stays.
    left: Vec<String>,
    /// What is asked for keys that the host made.
    requests: Vec<KeyRequest>,
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
    /// The API endpoint.
    pub stable: Endpoint,
    /// The cluster's own registry: its host, and its port.
    pub registry: Option<(HostName, u16)>,
}

impl Places {
    /// Reads them off a cluster file.
    pub fn of(cluster: &Cluster) -> Self {
        Self {
            etcd_port: cluster.etcd.client_port,
            api_hosts: cluster.control_plane.hosts.clone(),
            api_port: cluster.control_plane.port,
            stable: cluster.control_plane.endpoint.clone(),
            registry: cluster.registry.host.clone().map(|host| (host, cluster.registry.port)),
        }
    }
}

/// The hosts of a cluster file, over a carrier.
pub struct Hosts {
    hosts: BTreeMap<HostName, Arc<Channel>>,
    contents: Arc<dyn Contents>,
    access: Option<Access>,
    api_access: Option<Access>,
    /// Clients of API servers, by host: each keeps its connection.
    apis: std::sync::Mutex<BTreeMap<HostName, ApiClient>>,
    /// The one that answered last.
    last_api: std::sync::Mutex<Option<HostName>>,
    places: Places,
    generation: u64,
    began: Instant,
    deadlines: Deadlines,
    /// Architectures, as observed.
    arch: std::sync::Mutex<BTreeMap<HostName, String>>,
    /// How files go from host to host inside a site.
    relay: Relay,
}

impl std::fmt::Debug for Hosts {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Hosts").field("hosts", &self.hosts.keys()).finish_non_exhaustive()
    }
}

/// For how long hosts are waited for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Deadlines {
    /// For how long a host that is looked at may say nothing.
    pub looking: Duration,
    /// The same, while it acts.
    pub acting: Duration,
    /// The same, of a log or a name that is looked up.
    pub asking: Duration,
    /// For how long a host that was lost in the midst of a step is waited for.
    pub timeout: Duration,
}

impl Default for Deadlines {
    fn default() -> Self {
        Self {
            // A deep look at a large file on a slow disk takes its time.
            looking: Duration::from_secs(90),
            // The longest single thing is the import of an image.
            acting: Duration::from_secs(900),
            asking: Duration::from_secs(20),
            timeout: Duration::from_secs(300),
        }
    }
}

/// Whether the host was gone before its script ended, or is about to be.
fn gone<T>(heard: &Answer<T>, reply: &Reply) -> bool {
    reply.is_shutting_down() || heard.cut && !reply.is_over()
}

/// For how long a look that was cut is tried again.
const LOOK_AGAIN: Duration = Duration::from_secs(30);

impl Hosts {
    /// These hosts; connects to none yet. `password` is for sudo on hosts where it asks.
    pub fn new(
        targets: Vec<Target>,
        carrier: Arc<dyn Carrier>,
        contents: Arc<dyn Contents>,
        places: Places,
        generation: u64,
        password: Option<Secret>,
    ) -> Self {
        let limits = Arc::new(Limits::default());
        let channel = |target: Target| {
            let name = target.name.clone();
            let (carrier, limits) = (Arc::clone(&carrier), Arc::clone(&limits));
            (name, Arc::new(Channel::new(target, carrier, limits, password.clone())))
        };
        Self {
            hosts: targets.into_iter().map(channel).collect(),
            contents,
            access: None,
            api_access: None,
            apis: std::sync::Mutex::default(),
            last_api: std::sync::Mutex::default(),
            places,
            generation,
            began: Instant::now(),
            deadlines: Deadlines::default(),
            arch: std::sync::Mutex::default(),
            relay: Relay::default(),
        }
    }

    /// Gives the contents that its steps need.
    pub fn set_contents(&mut self, contents: Arc<dyn Contents>) {
        self.contents = contents;
    }

    /// Gives what it needs to dial etcd.
    pub fn set_access(&mut self, access: Access) {
        self.access = Some(access);
    }

    /// Sets for how long hosts are waited for.
    pub fn set_deadlines(&mut self, deadlines: Deadlines) {
        self.deadlines = deadlines;
    }

    fn channel(&self, host: &HostName) -> Result<&Arc<Channel>, Trouble> {
        self.hosts.get(host).ok_or_else(|| {
            let answer = "it is not one of this run's hosts";
            Trouble::new(Some(host.clone()), "reaching the host", answer, vec![])
        })
    }

    /// The way to an address as a host reaches it.
    fn way(
        &self,
        host: &HostName,
        to: (String, u16),
        from_here: bool,
    ) -> Result<Arc<dyn Dial>, String> {
        let channel = self.channel(host).map_err(|trouble| trouble.to_string())?;
        Ok(Arc::new(Way { channel: Arc::clone(channel), host: to.0, port: to.1, from_here }))
    }

    /// Runs a script that looks, or does what is harmless when it is done twice, to its end; what it said.
    async fn report(
        &self,
        host: &HostName,
        script: &str,
        attempted: &str,
    ) -> Result<String, Trouble> {
        let channel = self.channel(host)?;
        let until = Instant::now() + LOOK_AGAIN;
        let saying = Saying { attempted, script: 0, silence: self.deadlines.looking, until };
        let (text, heard) = loop {
            let (text, heard) = channel.script_output(script, &saying).await?;
            // One that was cut is run again.
            if !heard.cut || Instant::now() >= until {
                break (text, heard);
            }
        };
        let Some(unread) = Unread::of(&text) else { return Ok(text) };
        if let Some(fault) = heard.fault {
            return Err(hangs(host, attempted, fault, unread.doing.as_deref()));
        }
        let answer = match (heard.said.trim(), unread.tail.as_str()) {
            ("", "") if heard.cut => "the connection broke off".to_owned(),
            ("", "") => "no answer".to_owned(),
            ("", tail) => tail.to_owned(),
            (said, _) => in_one_line(said),
        };
        Err(Trouble::new(Some(host.clone()), attempted, answer, Vec::new()))
    }

    /// Dials addresses from a host, each for a few seconds: why one is not reached, `None` where it is.
    pub async fn probe(&self, from: &HostName, targets: &[Endpoint]) -> Vec<Option<String>> {
        let said = self.lines_of(from, &probe_script(targets), "dialling").await;
        read_probe(targets.len(), &said)
    }

    /// Runs a script on a host that is short, harmless, and done twice without harm; what it prints.
    async fn lines_of(&self, host: &HostName, script: &str, attempted: &str) -> Vec<String> {
        let mut lines = Vec::new();
        let mut line = |text: &str| lines.push(plain(text).chars().take(400).collect());
        let (silence, until) = (self.deadlines.asking, Instant::now());
        let saying = Saying { attempted, script: 0, silence, until };
        if let Ok(channel) = self.channel(host) {
            let _ = channel.script(script, &saying, &mut line).await;
        }
        lines
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
            .fix("wait until it ends, then run the same command again"),
            Outcome::Newer(generation) => Trouble::new(
                host,
                attempted,
                format!("a newer run ({generation}) has acted on this host (rule S11 one hand)"),
                Vec::new(),
            )
            .fix("this run is out of date: run the same command again"),
            Outcome::Cut(said) => {
                let said = if said.is_empty() { "the connection broke off".into() } else { said };
                Trouble::new(host, attempted, said, Vec::new())
            }
        })
    }

    /// Runs a script that acts, each operation of which looks before it does anything, to its end; how it ended,
    /// and what it said besides.
    async fn carried_out(
        &self,
        host: &HostName,
        script: &str,
        progress: Progress<'_>,
    ) -> (StepOutcome, Said) {
        let attempted = "acting on the host";
        let mut said = Said::default();
        let mut before = 0;
        let mut shuts_down = false;
        let mut until = Instant::now() + self.deadlines.timeout;
        loop {
            let mut reply = Reply::default();
            let mut line = |line: &str| {
                if let Some(doing) = reply.line(line) {
                    progress(doing);
                }
            };
            let saying = Saying { attempted, script: 0, silence: self.deadlines.acting, until };
            let heard = match self.channel(host) {
                Ok(channel) => channel.script(script, &saying, &mut line).await,
                Err(trouble) => Err(trouble),
            };
            let heard: Answer<()> = match heard {
                Ok(heard) => heard,
                Err(trouble) => return (StepOutcome::Failed(trouble), said),
            };
            // Cut in the midst: everything in a stretch is looked at before it is done, so all of it goes
            // there once more, and what is done already is left as it is. A host that got on has its
            // timeout again.
            said.left.extend(reply.left().iter().cloned());
            said.requests = reply.requests().to_vec();
            let changed = reply.changed();
            if gone(&heard, &reply) && Instant::now() < until {
                before += changed;
                if reply.is_shutting_down() {
                    // It still answers, and is asked until it does no longer.
                    if !std::mem::replace(&mut shuts_down, true) {
                        progress("the host shuts down: waiting for it".to_owned());
                    }
                    tokio::time::sleep(Duration::from_secs(1)).await;
                } else {
                    if changed > 0 {
                        until = Instant::now() + self.deadlines.timeout;
                    }
                    progress("the connection broke off: waiting for the host".to_owned());
                }
                continue;
            }
            let outcome = match (heard.fault, reply.is_over()) {
                (Some(fault), false) => {
                    StepOutcome::Failed(hangs(host, attempted, fault, reply.doing()))
                }
                _ => match self.outcome(host, attempted, reply.outcome(&heard.said)) {
                    StepOutcome::Done { changed } => {
                        StepOutcome::Done { changed: changed + before }
                    }
                    other => other,
                },
            };
            return (outcome, said);
        }
    }

    /// Lists what was put on a host.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn notes(&self, host: &HostName) -> Result<Notes, Trouble> {
        let text = self.report(host, &notes_script(host), "reading what was put there").await?;
        Ok(Notes::read(&text))
    }

    /// What a host holds of its cluster, but for what is secret.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn held_by(&self, cluster: &Cluster, host: &HostName) -> Result<HeldThere, Trouble> {
        let script = held_script(cluster, host);
        let text = self.report(host, &script, "looking what it holds of its cluster").await?;
        Ok(read_held(&text))
    }

    /// The snapshots that a host took of its member by itself, oldest first.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn saved_by(&self, host: &HostName) -> Result<Vec<SavedThere>, Trouble> {
        let text = self.report(host, &saved_script(host), "listing what it saved").await?;
        Ok(read_saved(host, &text))
    }

    /// Takes everything back that was put on a host; what stays, as others use it.
    ///
    /// # Errors
    /// When something cannot be taken back: what was put before it stays too, and the next try goes on there.
    pub async fn uninstall(
        &self,
        host: &HostName,
        progress: Progress<'_>,
    ) -> Result<Vec<String>, Trouble> {
        let script = uninstall_script(host, self.generation);
        match self.carried_out(host, &script, progress).await {
            (StepOutcome::Failed(trouble), _) => Err(trouble),
            (StepOutcome::Done { .. } | StepOutcome::Proven(_), said) => Ok(said.left),
        }
    }

    /// Opens a connection of its own to a host whose firewall has new rules on trial, and has them kept.
    async fn come_in_again(
        &self,
        host: &HostName,
        end: Instant,
        progress: Progress<'_>,
    ) -> StepOutcome {
        let fix = "is this machine among administrators under [preparation], and is the SSH port of the host in the file? (zoisite paths rules shows what is let in); the host has taken the new rules back by itself, or does so within a minute";
        loop {
            let opened = match self.channel(host) {
                Ok(channel) => channel.open_again().await,
                Err(trouble) => Err(trouble),
            };
            match opened {
                Ok(()) => break,
                Err(trouble) if Instant::now() >= end => {
                    return StepOutcome::Failed(trouble.fix(fix));
                }
                Err(trouble) => progress(trouble.to_string()),
            }
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        let script = keep_rules_script(host, self.generation);
        match self.carried_out(host, &script, progress).await.0 {
            StepOutcome::Failed(trouble) => StepOutcome::Failed(trouble.fix(fix)),
            other => other,
        }
    }

    /// Adds evidence to a gate that did not hold, unless it was only asked once: what the unit concerned
    /// has logged, or where the API endpoint leads.
    async fn with_evidence(&self, gate: &Gate, trouble: Trouble) -> Trouble {
        let evidence = match (&gate.condition, gate.seconds) {
            (_, 0) => return trouble,
            (Condition::Ready { host, .. }, _) => self.evidence(host, &[KUBELET_UNIT]).await,
            (Condition::Meets { host, .. }, _) => self.evidence(host, &[MESH_UNIT]).await,
            (Condition::Api { host }, _) => self.evidence(host, &[API_SERVER_UNIT]).await,
            (Condition::Registry { host }, _) => self.evidence(host, &[REGISTRY_UNIT]).await,
            (Condition::Stable { from, load_balancer: true }, _) => {
                self.evidence(from, &[LOAD_BALANCER_UNIT]).await
            }
            (Condition::Stable { from, load_balancer: false }, _) => self.leads_to(from).await,
            (
                Condition::Quorum { .. } | Condition::Rollout { .. } | Condition::LetsIn { .. },
                _,
            ) => return trouble,
        };
        Trouble::new(trouble.host, trouble.attempted, trouble.answer, evidence)
    }
}

/// What came on several lines, for a message.
fn in_one_line(said: &str) -> String {
    said.lines().collect::<Vec<_>>().join(" | ")
}

/// A host that fell silent, or said too much, in the midst; and at what, where that is known.
fn hangs(host: &HostName, attempted: &str, fault: String, doing: Option<&str>) -> Trouble {
    let answer = match doing {
        Some(doing) => format!("{fault}, at: {doing}"),
        None => fault,
    };
    Trouble::new(Some(host.clone()), attempted, answer, Vec::new()).fix(format!(
        "something on {host} hangs (a dead mount, a disk, a runtime): log in and try the same; then run the same command again"
    ))
}

#[async_trait]
impl Reach for Hosts {
    async fn observe(&self, holdings: &HostHoldings, depth: Depth) -> Look {
        let host = &holdings.host;
        let attempted = "looking at the host";
        let text = self.report(host, &observe(holdings, depth), attempted).await?;
        let observed = Observed::read(&text)
            .map_err(|unread| Trouble::new(Some(host.clone()), attempted, unread.tail, vec![]))?;
        if let Ok(mut arch) = self.arch.lock() {
            arch.insert(host.clone(), observed.arch.clone());
        }
        if let Some(site) = self.channel(host)?.target.site.as_deref() {
            for (path, sha256) in &observed.found.components {
                self.relay.holds(site, host, path, sha256);
            }
        }
        Ok(observed)
    }

    async fn survey(&self, cluster: &Cluster, host: &HostName) -> Result<Facts, Trouble> {
        self.facts_of(cluster, host).await
    }

    async fn act(&self, stretch: &Stretch, progress: Progress<'_>) -> StepOutcome {
        let host = &stretch.host;
        let mut own = Cow::Borrowed(stretch);
        if let Some(script) = stretch.key_script(self.generation) {
            let said = match self.carried_out(host, &script, progress).await {
                (StepOutcome::Done { .. }, said) => said,
                (other, _) => return other,
            };
            match signed(&*self.contents, stretch, &said.requests) {
                Ok(signed) => own = Cow::Owned(stretch.certified(&signed)),
                Err(trouble) => return StepOutcome::Failed(trouble),
            }
        }
        let open = |secret: &SecretRef| self.contents.secret(secret);
        let script = match own.script(self.generation, KeyText::Opened(&open)) {
            Ok(script) => script,
            Err(label) => {
                let answer = format!("the strongbox does not hold the key of {label}");
                return StepOutcome::Failed(
                    Trouble::new(Some(host.clone()), "writing the script", answer, Vec::new())
                        .fix("zoisite pki issue makes what is missing"),
                );
            }
        };
        self.carried_out(host, script.expose(), progress).await.0
    }

    async fn upload(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        progress: Progress<'_>,
    ) -> StepOutcome {
        self.bring(host, component, sha256, progress).await
    }

    async fn prove(&self, gate: &Gate, progress: Progress<'_>) -> StepOutcome {
        let end = Instant::now() + Duration::from_secs(gate.seconds.into());
        let mut readiness = Readiness::default();
        if let Condition::LetsIn { host } = &gate.condition {
            return self.come_in_again(host, end, progress).await;
        }
        loop {
            let attempt = match &gate.condition {
                Condition::Quorum { members, learners } => {
                    self.attempt(members, *learners).await.map(StepOutcome::Proven)
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

    fn wants_access(&self) -> bool {
        true
    }

    fn set_api_access(&mut self, access: Access) {
        self.api_access = Some(access);
    }

    async fn change_members(
        &self,
        work: &MemberWork,
        through: &[HostName],
        seconds: u32,
        progress: Progress<'_>,
    ) -> StepOutcome {
        self.reconfigure(work, through, Duration::from_secs(seconds.into()), progress).await
    }

    async fn save(&self, through: &[HostName], why: &str, progress: Progress<'_>) -> StepOutcome {
        self.save_through(through, why, progress).await
    }

    async fn rewrite(
        &self,
        key: &str,
        through: &[HostName],
        progress: Progress<'_>,
    ) -> StepOutcome {
        self.rewrite_secrets(key, through, progress).await
    }

    async fn ask(&self, objects: &[ApiObject], shelf: &[Shelved]) -> ApiLook {
        let (mut looked, lacking) = tokio::join!(self.look_at_api(objects), self.lacking(shelf));
        if let ApiLook::Answered(api) = &mut looked {
            match lacking {
                Ok(lacking) => api.lacking = lacking,
                Err(why) => api.registry_silent = Some(why),
            }
        }
        looked
    }

    async fn fill(
        &self,
        host: &HostName,
        images: &[Shelved],
        progress: Progress<'_>,
    ) -> StepOutcome {
        self.put_images(host, images, progress).await
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

    async fn fetch(
        &self,
        host: &HostName,
        path: &str,
        into: &std::path::Path,
        progress: Progress<'_>,
    ) -> Result<(), Trouble> {
        self.take(host, path, into, progress).await
    }

    async fn evidence(&self, host: &HostName, units: &[&str]) -> Vec<String> {
        let script: String = units
            .iter()
            .map(|unit| format!("journalctl -u {unit} -n 12 -o cat --no-pager\n"))
            .collect();
        self.lines_of(host, &script, "reading the log").await
    }

    async fn measured(&self, host: &HostName) -> Option<f64> {
        self.rate_to(host).await
    }

    fn carried(&self) -> Carried {
        self.relay.carried()
    }

    async fn close(&self) {
        self.withdraw().await;
        if let Ok(mut apis) = self.apis.lock() {
            apis.clear();
        }
        futures_util::future::join_all(self.hosts.values().map(|channel| channel.close())).await;
    }
}

/// bash dials each address for a few seconds, all at once.
fn probe_script(targets: &[Endpoint]) -> String {
    let mut script = String::from(
        "dial() {\n  if said=$(timeout 5 bash -c 'exec 3<>\"/dev/tcp/$0/$1\"' \"$2\" \"$3\" 2>&1); then\n    \
         printf '@\\treached\\t%s\\n' \"$1\"\n  else\n    \
         printf '@\\tmissed\\t%s\\t%s\\n' \"$1\" \"$(printf '%s' \"$said\" | head -n 1 | tr '\\t' ' ')\"\n  fi\n}\n",
    );
    for (i, target) in targets.iter().enumerate() {
        script.push_str(&format!("dial {i} '{}' {} </dev/null &\n", target.host, target.port));
    }
    script.push_str("wait\n");
    script
}

/// Reads what [`probe_script`] says.
fn read_probe(count: usize, said: &[String]) -> Vec<Option<String>> {
    let mut found = vec![Some("it could not be tried".to_owned()); count];
    for line in said {
        let fields: Vec<&str> = line.split('\t').collect();
        let (of, result) = match fields[..] {
            ["@", "reached", of] => (of, None),
            // `bash: connect: Connection refused`; nothing is said when the time is over.
            ["@", "missed", of, why] => {
                let why = why.rsplit(": ").next().filter(|why| !why.is_empty());
                (of, Some(why.unwrap_or("no answer within 5 seconds").to_owned()))
            }
            _ => continue,
        };
        if let Some(place) = of.parse::<usize>().ok().and_then(|of| found.get_mut(of)) {
            *place = result;
        }
    }
    found
}
