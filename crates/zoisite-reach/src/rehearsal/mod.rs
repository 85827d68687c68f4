//! Simulated hosts on virtual time.
//!
//! A [`Rehearsal`] is a reach like the one over SSH: it is given the same stretches, gates and looks,
//! and carries them out as data on a [`World`] of simulated hosts. The world reads the configuration
//! that was really generated: a wrong peer URL or name in it fails here too. Time is tokio's, so a
//! test with a paused clock runs thousands of rehearsals in a moment. Faults are put into the world.

mod at_rest;
mod cluster;
mod drill;
mod etcd;
mod look;
mod mishaps;
mod own_keys;
mod restore;
mod seen;
mod state;
mod survey;
mod tls;
mod trust;
mod windows;
mod world;

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use tokio::sync::Notify;
use tokio::time::Instant;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::components::Shelved;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{ApiObject, HostHoldings};
use zoisite_core::item::{Component, Item};
use zoisite_core::pki::SecretRef;
use zoisite_core::script::{Depth, Operation, Outcome, Stretch};
use zoisite_core::sequence::{ApiLook, ApiWork, Condition, Gate, Look, MemberWork, StepOutcome};
use zoisite_core::survey::Facts;

pub use self::drill::RehearsedField;
pub use self::seen::Sighted;
pub use self::state::{Fault, World};
pub use self::windows::WindowsMachine;
use crate::access::Access;
use crate::quorum::{is_a_learners, judge, not_changed};
use crate::reach::{Contents, Progress, Reach};
use crate::save;

/// What is heard of an operation that is done when its connection is gone.
const UNHEARD: &str = "the connection broke, and the outcome is unknown";

/// A reach of simulated hosts.
pub struct Rehearsal {
    world: Arc<Mutex<World>>,
    contents: Arc<dyn Contents>,
    generation: u64,
    began: Instant,
    killed: Arc<Notify>,
}

impl std::fmt::Debug for Rehearsal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Rehearsal").field("generation", &self.generation).finish_non_exhaustive()
    }
}

impl Rehearsal {
    /// A run on `world`, which outlives it.
    pub fn new(world: Arc<Mutex<World>>, contents: Arc<dyn Contents>, generation: u64) -> Self {
        Self { world, contents, generation, began: Instant::now(), killed: Arc::new(Notify::new()) }
    }

    /// Completes when [`Fault::Killed`] strikes: the run must then be dropped as it stands.
    pub async fn killed(&self) {
        self.killed.notified().await;
    }

    fn world(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn wait(&self, milliseconds: u64) {
        tokio::time::sleep(Duration::from_millis(milliseconds)).await;
        self.world().passes();
    }

    /// Lets virtual time pass, then lets the world say whether the host still answers.
    async fn reach(&self, host: &HostName, takes: Duration) -> Result<(), Trouble> {
        let takes = {
            let mut world = self.world();
            world.lasts(takes) + world.slowed(host)
        };
        tokio::time::sleep(takes).await;
        self.world().passes();
        let unreachable = self.world().unreachable(host);
        match unreachable {
            None => Ok(()),
            Some(why) => {
                tokio::time::sleep(Duration::from_secs(3)).await;
                Err(Trouble::new(Some(host.clone()), "logging in over ssh", why, Vec::new()))
            }
        }
    }

    /// The host's lock: whatever acts there still is waited for; and its generation: an older run does nothing more.
    async fn one_hand(&self, host: &HostName) -> Result<(), Outcome> {
        while self.world().acts(host) {
            tokio::time::sleep(Duration::from_secs(1)).await;
            self.world().left_go_on();
        }
        self.world().take_generation(host, self.generation).map_err(Outcome::Newer)
    }

    /// Counts an operation; does not return when the program is killed at this point.
    async fn operation(&self, host: &HostName, what: &str) -> Result<u64, Outcome> {
        let (number, verdict) = {
            let mut world = self.world();
            (world.operations(), world.next_operation(host, what))
        };
        match verdict {
            Ok(()) => Ok(number),
            Err(Some(outcome)) => Err(outcome),
            Err(None) => {
                self.killed.notify_one();
                std::future::pending().await
            }
        }
    }

    /// Carries out the first of these, which are left of a script: it may go on without us.
    async fn one(
        &self,
        host: &HostName,
        left: &[Operation],
        progress: Progress<'_>,
    ) -> Result<bool, Outcome> {
        let Some((operation, rest)) = left.split_first() else { return Ok(false) };
        let keys = |secret: &SecretRef| self.contents.secret(secret);
        let text = operation.to_string();
        progress(text.clone());
        let leaves = self.world().leaves_running();
        if let Some(pace) = leaves {
            self.world().leave(host, (left, pace), &keys);
        }
        let number = self.operation(host, &text).await?;
        let lasts = self.world().lasts(takes(operation));
        tokio::time::sleep(lasts).await;
        if let Some(why) = self.world().unreachable(host) {
            let answer = format!("the connection is gone ({why})");
            return Err(Outcome::Failed { attempted: text, answer, evidence: Vec::new() });
        }
        if let Operation::Settle { unit, seconds, .. } = operation {
            let end = Instant::now() + Duration::from_secs(u64::from(*seconds));
            loop {
                if self.world().ready(host, unit) {
                    return Ok(true);
                }
                let failed = self.world().unit_log(host, unit);
                if let Some(log) = failed {
                    return Err(Outcome::Failed {
                        attempted: format!("waiting for {unit}"),
                        answer: "it stopped 3 times".into(),
                        evidence: log,
                    });
                }
                if Instant::now() >= end {
                    return Err(Outcome::Failed {
                        attempted: format!("waiting for {unit}"),
                        answer: format!("not ready after {seconds} seconds"),
                        evidence: self.world().waiting_log(host, unit),
                    });
                }
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        }
        let mut world = self.world();
        let done = world.apply(host, operation, &keys)?;
        if world.answer_is_lost(number) {
            world.leave(host, (rest, 1), &keys);
            return Err(Outcome::Failed {
                attempted: text,
                answer: UNHEARD.into(),
                evidence: Vec::new(),
            });
        }
        Ok(done)
    }

    /// Whether a gate's condition holds now.
    fn holds(&self, condition: &Condition) -> Result<StepOutcome, Trouble> {
        let mut world = self.world();
        let (host, held) = match condition {
            Condition::Quorum { members, learners } => {
                let asked = members.iter().map(|host| world.answer(host));
                let answers = asked
                    .filter(|answer| !(*learners && is_a_learners(answer)))
                    .collect::<Result<Vec<_>, _>>()?;
                let members: Vec<HostName> = answers.iter().map(|(host, _)| host.clone()).collect();
                let members = &members;
                let mut proven = judge(&answers)?;
                let failed = |host: &HostName, what: &str, why: String| {
                    Trouble::new(Some(host.clone()), what, why, Vec::new())
                };
                let (key, value) = ("/zoisite/proof", world.operations().to_string());
                let writer = &members[0];
                world
                    .write(writer, key, &value)
                    .map_err(|why| failed(writer, "writing a key through the member", why))?;
                for other in if members.len() > 1 { &members[1..] } else { members.as_slice() } {
                    let what = "reading the key through the member";
                    match world.read(other, key) {
                        Ok(Some(found)) if found == value => proven.read.push(other.to_string()),
                        Ok(found) => {
                            let why =
                                format!("it read {found:?} where {writer} had written {value:?}");
                            return Err(failed(other, what, why));
                        }
                        Err(why) => return Err(failed(other, what, why)),
                    }
                }
                proven.wrote = writer.to_string();
                world.proved = world.operations();
                return Ok(StepOutcome::Proven(proven));
            }
            Condition::Api { host } => (Some(host), world.api_ready(host)),
            Condition::Stable { from, load_balancer } => {
                (Some(from), world.stable(load_balancer.then_some(from)))
            }
            Condition::Ready { host, .. } => (Some(host), world.node_ready(host)),
            Condition::Registry { host } => (Some(host), world.registry_answers(host)),
            Condition::LetsIn { host } => (Some(host), Ok(())),
            Condition::Meets { host, others } => (Some(host), world.meets(host, others)),
            Condition::Rollout { .. } => (None, world.rolled_out()),
        };
        held.map(|()| StepOutcome::Done { changed: 0 })
            .map_err(|why| Trouble::new(host.cloned(), "proving a gate", why, Vec::new()))
    }

    fn fail(host: &HostName, outcome: Outcome) -> StepOutcome {
        StepOutcome::Failed(match outcome {
            Outcome::Failed { attempted, answer, evidence } => {
                Trouble::new(Some(host.clone()), attempted, answer, evidence)
            }
            other => {
                Trouble::new(Some(host.clone()), "acting on the host", format!("{other:?}"), vec![])
            }
        })
    }
}

/// How long an operation takes on a simulated host.
fn takes(operation: &Operation) -> Duration {
    Duration::from_millis(match operation {
        Operation::Put(Item::User(_)) => 40,
        Operation::Put(Item::Image(_)) => 400,
        Operation::Put(_) | Operation::Mark { .. } => 12,
        Operation::Remove(_) | Operation::TakePart => 10,
        Operation::SetAside { .. } | Operation::Stop(_) | Operation::Wipe { .. } => 400,
        Operation::MakeData(_) => 2_000,
        Operation::TakeData(_) => 50,
        Operation::GiveAway(_) => 3_000,
        Operation::Enable(_) => 150,
        Operation::Start(_) | Operation::Restart(_) => 60,
        Operation::Settle { .. } => 300,
    })
}

#[async_trait]
impl Reach for Rehearsal {
    async fn observe(&self, holdings: &HostHoldings, _: Depth) -> Look {
        self.reach(&holdings.host, Duration::from_millis(60)).await?;
        let mut world = self.world();
        let seen = world.observe(holdings);
        // Members hear of one another whether somebody looks or not, and what acts goes on.
        world.left_go_on();
        world.replicate();
        Ok(seen)
    }

    async fn survey(&self, cluster: &Cluster, host: &HostName) -> Result<Facts, Trouble> {
        self.reach(host, Duration::from_millis(90)).await?;
        Ok(self.world().facts(cluster, host))
    }

    async fn act(&self, stretch: &Stretch, progress: Progress<'_>) -> StepOutcome {
        let host = &stretch.host;
        if let Err(trouble) = self.reach(host, Duration::from_millis(20)).await {
            return StepOutcome::Failed(trouble);
        }
        if let Err(outcome) = self.one_hand(host).await {
            return Self::fail(host, outcome);
        }
        let stretch = &match self.with_own_keys(stretch, progress).await {
            Ok(stretch) => stretch,
            Err(outcome) => return outcome,
        };
        let mut changed = 0;
        for at in 0..stretch.operations.len() {
            match self.one(host, &stretch.operations[at..], progress).await {
                Ok(true) => changed += 1,
                Ok(false) => {}
                Err(outcome) => return Self::fail(host, outcome),
            }
        }
        StepOutcome::Done { changed }
    }

    async fn upload(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        progress: Progress<'_>,
    ) -> StepOutcome {
        for percent in [0, 25, 50, 75] {
            if let Err(trouble) = self.reach(host, Duration::from_millis(90)).await {
                return StepOutcome::Failed(trouble);
            }
            // Each piece of it is a script of its own.
            if let Err(outcome) = self.one_hand(host).await {
                return Self::fail(host, outcome);
            }
            progress(format!("{} {percent} %", component.pinned));
        }
        if let Err(outcome) = self.operation(host, &component.path).await {
            return Self::fail(host, outcome);
        }
        match self.world().put_component(host, component, sha256) {
            Ok(()) => StepOutcome::Done { changed: 1 },
            Err(outcome) => Self::fail(host, outcome),
        }
    }

    async fn prove(&self, gate: &Gate, progress: Progress<'_>) -> StepOutcome {
        let end = Instant::now() + Duration::from_secs(gate.seconds.into());
        loop {
            self.wait(200).await;
            let asked = match &gate.condition {
                Condition::Quorum { members, .. } => members.first(),
                Condition::Stable { from, .. } => Some(from),
                one => one.host(),
            };
            if let Some(host) = asked
                && let Err(outcome) = self.operation(host, "proving a gate").await
            {
                return Self::fail(host, outcome);
            }
            match self.holds(&gate.condition) {
                Ok(outcome) => return outcome,
                Err(trouble) if Instant::now() >= end => return StepOutcome::Failed(trouble),
                Err(trouble) => progress(trouble.to_string()),
            }
        }
    }

    fn wants_access(&self) -> bool {
        false
    }

    fn set_api_access(&mut self, _: Access) {}

    async fn ask(&self, objects: &[ApiObject], shelf: &[Shelved]) -> ApiLook {
        tokio::time::sleep(Duration::from_millis(80)).await;
        let mut world = self.world();
        world.kubelets_ask();
        world.ask(objects, shelf)
    }

    async fn fill(
        &self,
        host: &HostName,
        images: &[Shelved],
        progress: Progress<'_>,
    ) -> StepOutcome {
        let mut changed = 0;
        for image in images {
            progress(image.name.to_string());
            tokio::time::sleep(Duration::from_millis(400)).await;
            if let Err(outcome) = self.operation(host, "putting images into the registry").await {
                return Self::fail(host, outcome);
            }
            match self.world().shelve(host, image) {
                Ok(new) => changed += usize::from(new),
                Err(why) => {
                    let attempted = "putting images into the registry";
                    let trouble = Trouble::new(Some(host.clone()), attempted, why, Vec::new());
                    return StepOutcome::Failed(trouble);
                }
            }
        }
        StepOutcome::Done { changed }
    }

    async fn api(
        &self,
        host: Option<&HostName>,
        work: &ApiWork,
        progress: Progress<'_>,
    ) -> StepOutcome {
        tokio::time::sleep(Duration::from_millis(120)).await;
        if let Some(host) = host
            && let Err(outcome) = self.operation(host, "working on the API").await
        {
            return Self::fail(host, outcome);
        }
        let seconds = match work {
            ApiWork::Admit { seconds, .. } => *seconds,
            _ => 30,
        };
        let end = Instant::now() + Duration::from_secs(seconds.into());
        loop {
            let done = self.world().work(work, self.contents.as_ref());
            match done {
                Ok(changed) => return StepOutcome::Done { changed },
                Err(why) if Instant::now() >= end => {
                    let host = host.cloned();
                    return StepOutcome::Failed(Trouble::new(
                        host,
                        "working on the API",
                        why,
                        vec![],
                    ));
                }
                Err(why) => progress(why),
            }
            self.wait(300).await;
        }
    }

    async fn change_members(
        &self,
        work: &MemberWork,
        through: &[HostName],
        seconds: u32,
        progress: Progress<'_>,
    ) -> StepOutcome {
        let end = Instant::now() + Duration::from_secs(seconds.into());
        loop {
            self.wait(200).await;
            let mut number = None;
            if let Some(host) = through.first() {
                match self.operation(host, "changing the members").await {
                    Ok(begun) => number = Some(begun),
                    Err(outcome) => return Self::fail(host, outcome),
                }
            }
            let done = self.world().reconfigure(work, through);
            if let (Ok(true), MemberWork::Remove { who, learner: false, .. }) = (&done, work) {
                self.world().watch_saved(self.generation, who);
            }
            let unheard = number.is_some_and(|number| self.world().answer_is_lost(number));
            let why = match done {
                Ok(_) if unheard => UNHEARD.to_owned(),
                Ok(changed) => return StepOutcome::Done { changed: usize::from(changed) },
                Err(why) if Instant::now() < end => {
                    progress(why);
                    continue;
                }
                Err(why) => why,
            };
            let back = work.taken_back();
            let taken_back = back.map(|back| self.world().reconfigure(&back, through).map(|_| ()));
            return StepOutcome::Failed(not_changed(work, why, taken_back));
        }
    }

    async fn save(&self, through: &[HostName], _: &str, progress: Progress<'_>) -> StepOutcome {
        let mut said = Vec::new();
        for host in through {
            if let Err(outcome) = self.operation(host, "saving what etcd holds").await {
                return Self::fail(host, outcome);
            }
            progress(format!("from {host}"));
            self.wait(800).await;
            let gives = self.world().answer(host);
            match gives {
                Ok(_) => {
                    self.world().saved_by(self.generation);
                    return StepOutcome::Done { changed: 1 };
                }
                Err(trouble) => said.push(trouble.to_string()),
            }
        }
        StepOutcome::Failed(save::not_taken(said))
    }

    async fn rewrite(&self, _: &str, through: &[HostName], progress: Progress<'_>) -> StepOutcome {
        let end = Instant::now() + Duration::from_secs(30);
        let mut changed = 0;
        loop {
            let Some(host) = through.first() else {
                let why = "no member is known to be well";
                return StepOutcome::Failed(Trouble::new(
                    None,
                    "writing secrets again",
                    why,
                    vec![],
                ));
            };
            // One by one: it may be cut between any two.
            if let Err(outcome) = self.operation(host, "writing a secret again").await {
                return Self::fail(host, outcome);
            }
            let one = self.world().rewrite_one();
            match one {
                Ok(true) => {
                    changed += 1;
                    progress(format!("{changed} secrets"));
                }
                Ok(false) => return StepOutcome::Done { changed },
                Err(why) if Instant::now() >= end => {
                    return StepOutcome::Failed(Trouble::new(
                        None,
                        "writing secrets again",
                        why,
                        vec![],
                    ));
                }
                Err(why) => progress(why),
            }
            self.wait(100).await;
        }
    }

    async fn fetch(
        &self,
        host: &HostName,
        path: &str,
        into: &std::path::Path,
        progress: Progress<'_>,
    ) -> Result<(), Trouble> {
        self.reach(host, Duration::from_millis(90)).await?;
        progress(path.to_owned());
        let trouble = |answer: String| {
            Trouble::new(Some(host.clone()), format!("taking {path}"), answer, Vec::new())
        };
        let text = self.world().text(host, path).map(ToOwned::to_owned);
        let text = text.ok_or_else(|| trouble("there is no such file".to_owned()))?;
        std::fs::write(into, text).map_err(|e| trouble(format!("{}: {e}", into.display())))
    }

    async fn evidence(&self, _: &HostName, _: &[&str]) -> Vec<String> {
        // Simulated units write no log.
        Vec::new()
    }

    fn elapsed(&self) -> Duration {
        self.began.elapsed()
    }

    async fn close(&self) {}
}
