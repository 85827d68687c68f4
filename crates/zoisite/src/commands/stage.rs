//! One stage of a raise: its steps carried out, and what stands after the last one.

use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::time::Duration;

use serde_json::json;
use tokio::time::Instant;
use zoisite_core::aim::Arm;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::item::ComponentSums;
use zoisite_core::script::Depth;
use zoisite_core::sequence::{
    ApiLook, Begun, Engine, Looks, Phase, Proven, Sequence, State as StepState, Tally,
};
use zoisite_reach::{Hosts, Reach, RunEvent};
use zoisite_store::{RunRecord, State, StoreError, trust};

use crate::failure::{Failure, Kind};
use crate::forecast::Forecast;
use crate::interrupt::Interrupts;
use crate::phases::Phases;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, Working, now};
use crate::standing::{self, Seen, Standing};
use crate::view::run::Audience;
use crate::view::{self, Style, count, seconds};
use crate::watching;

/// What all stages of a run came to.
#[derive(Default)]
pub(super) struct Sum {
    pub stages: usize,
    done: usize,
    pub failed: usize,
    changed: usize,
    proven: Option<Proven>,
    phases: Phases,
}

impl Sum {
    /// With what came of one more.
    pub fn and(&mut self, carried: Carried) {
        let Carried { tally, proven, phases } = carried;
        self.done += tally.done;
        self.failed += tally.failed;
        self.changed += tally.changed;
        self.proven = proven.or(self.proven.take());
        self.phases.and(phases);
    }
}

/// What a stage knows, on real hosts or simulated ones.
pub(super) struct Stage<'a> {
    pub site: &'a Site,
    pub json: bool,
    pub sums: ComponentSums,
    pub prepared: Prepared,
    pub run: RunRecord,
    /// Since when, and until when, hosts were looked at.
    pub looked: (Duration, Duration),
    /// How long what was disturbed may take to be well again.
    pub timeout: Duration,
    /// How many hosts may fail to join.
    pub max_failed: usize,
    /// The only hosts that this run is about; empty where it is about all.
    pub named: BTreeSet<HostName>,
    /// Hosts are simulated ones: nothing can be done with them afterwards.
    pub rehearsed: bool,
}

/// What came of a stage's steps.
pub(super) struct Carried {
    tally: Tally,
    proven: Option<Proven>,
    phases: Phases,
}

impl Stage<'_> {
    /// What the steps need to dial etcd and the API.
    pub fn give_access(
        &self,
        draft: &mut State,
        reach: &mut Hosts,
        sequence: &Sequence,
        found: &Sighting,
    ) -> Result<(), Failure> {
        if sequence.is_empty() {
            return Ok(());
        }
        let ledger = &self.prepared.ledger;
        if let Some(access) = road::access(self.site, draft, ledger, sequence)? {
            reach.set_access(access);
        }
        if found.api == ApiLook::Absent {
            reach.set_api_access(road::api_access(self.site, draft, ledger)?);
        }
        Ok(())
    }

    pub fn tell_nothing(&self, looks: &Looks) -> String {
        let reached = looks.values().filter(|look| look.is_ok()).count();
        if self.json {
            view::json(&json!({"changed": 0, "steps": 0}));
        } else if reached == 0 {
            let style = Style::stdout();
            view::out(&format!("{} no host could be looked at: nothing was done", style.bad("✗")));
        } else {
            let named: Vec<&HostName> = self.named.iter().collect();
            let hosts = match named.as_slice() {
                [] => count(reached, "host"),
                named => view::few(named),
            };
            view::out(&format!(
                "{} nothing differs on {hosts}: nothing was done (looked in {})",
                Style::stdout().good("✓"),
                seconds(self.looked.1.saturating_sub(self.looked.0))
            ));
        }
        "nothing differed".into()
    }

    /// Carries the sequence out.
    pub async fn carry_out(
        &self,
        state: &mut State,
        reach: &dyn Reach,
        sequence: Sequence,
        (looks, interrupts): (&Looks, &Interrupts),
    ) -> Result<Carried, Failure> {
        if !self.json {
            let steps = count(sequence.steps.len(), "step");
            let hosts = count(sequence.hosts().len(), "host");
            let name = &self.site.cluster.name;
            view::say(&match &self.prepared.aim.arm {
                Arm::File => format!("raising {name}: {steps} on {hosts}"),
                arm => format!("stage: {arm}: {steps} on {hosts}"),
            });
        }
        let mut forecast = Forecast::of(self.site, &sequence, looks);
        if let Some(forecast) = forecast.as_mut().filter(|_| !self.json) {
            let rate = match &forecast.first {
                Some(host) => reach.measured(host).await,
                None => None,
            };
            view::say(&forecast.text(rate));
        }
        let mut brought = (Duration::MAX, Duration::ZERO);
        let mut phases = Phases::default();
        phases.add("look", self.looked.0, self.looked.1);
        let mut stopped = Ok(());
        let told = Audience::fitting(self.json);
        let how = (told, self.max_failed);
        let engine = road::carry_out(reach, sequence, how, interrupts, |event, engine| {
            if let RunEvent::Ended { phase, at, took, .. } = event {
                let began = at.saturating_sub(*took);
                phases.add(&phase.to_string(), began, *at);
                if *phase == Phase::Components {
                    brought = (brought.0.min(began), brought.1.max(*at));
                }
            }
            // A journal that cannot be written must not stop the run; its end is recorded once more.
            let line = json!(event).to_string();
            let _ = state.records().append(self.run.generation, now(), &line);
            if stopped.is_ok() {
                // What no longer holds the lock stops: another run may be at work by now.
                stopped = Working::lock(state).and_then(|()| self.proven(state, engine));
            }
            if stopped.is_err() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        })
        .await;
        stopped?;
        if let Some(forecast) = forecast.filter(|_| !self.json) {
            view::say(&forecast.against(reach.carried(), brought.1.saturating_sub(brought.0)));
        }
        let tally = engine.tally();
        if !engine.finished() {
            return Err(stopped_at_once(&engine));
        }
        if tally.failed > 0 {
            let failure = Failure::troubles(engine.troubles());
            return Err(match tally.not_taken {
                0 => failure,
                1 => failure.note("left out", "1 step that needs it"),
                n => failure.note("left out", format!("{n} steps that need it")),
            });
        }
        if tally.not_taken > 0 {
            return Err(Failure::new(
                Kind::Run,
                format!("stopped as you asked: {} done, {} left", tally.done, tally.not_taken),
                "run the same command again: it goes on from here",
            ));
        }
        Ok(Carried { tally, proven: engine.proven().cloned(), phases })
    }

    /// Looks again after the last stage, and tells what stands.
    pub async fn end(
        &mut self,
        state: &mut State,
        reach: &dyn Reach,
        looks: &Looks,
        (sum, began, interrupts): (&Sum, Instant, Option<Interrupts>),
    ) -> Result<String, Failure> {
        let total = began.elapsed();
        self.prepared.certified(self.site, state)?;
        let interrupts = interrupts.unwrap_or_else(Interrupts::listen);
        let status = tokio::select! {
            status = self.settle(state, reach, looks) => status?,
            () = interrupts.asked(1) => {
                return Err(Failure::new(
                    Kind::Run,
                    "every step is done; you stopped the look at what stands",
                    "zoisite status looks again",
                ));
            }
        };
        self.tell(sum, &status, total);
        self.all_well(&status, looks)?;
        Ok(format!("{} changed in {} steps", sum.changed, sum.done))
    }

    /// Looks at what stands after a run, until it is well.
    async fn settle(
        &self,
        state: &mut State,
        reach: &dyn Reach,
        before: &Looks,
    ) -> Result<Standing, Failure> {
        let look = async || {
            // Nobody else begins meanwhile.
            Working::lock(state)?;
            let looks = self.prepared.look(self.site, reach, Depth::Quick, || {}).await;
            let api = road::ask(reach, &self.prepared, &looks).await;
            let asked = standing::ask_each(self.site, reach, &self.prepared, &looks).await;
            forget_old_keys(state, &self.prepared, &looks)?;
            let seen = Seen { looks: &looks, api: &api, asked: &asked };
            // What was signed in this run is in the ledger since.
            let ledger = state.ledger()?;
            let prepared = (&self.prepared, &ledger);
            let status = standing::standing(self.site, prepared, &seen, &self.sums);
            let ailing = self.ailing(&status, before);
            Ok((status, ailing))
        };
        let tell = |ailing: Vec<String>| {
            if !self.json {
                let what = some(ailing);
                view::say(&format!("every step is done; waiting for what is not well yet: {what}"));
            }
        };
        watching::settled(self.timeout, look, tell).await
    }

    /// Records that the quorum was proven, the moment it was: from then on nothing starts as if new.
    fn proven(&self, state: &mut State, engine: &Engine) -> Result<(), StoreError> {
        let (Some(proven), Some(begun)) = (engine.proven(), &self.prepared.begun) else {
            return Ok(());
        };
        if let Some(after) = begun.restored(&self.prepared.aim.arm, &proven.cluster_id) {
            return state.put_begun(&after);
        }
        if begun.formed.is_some() || state.begun()?.is_some_and(|begun| begun.formed.is_some()) {
            return Ok(());
        }
        state.put_begun(&Begun { formed: Some(proven.cluster_id.clone()), ..begun.clone() })
    }

    /// What is not well right after a run makes the run a failed one, whatever its steps said.
    fn all_well(&self, status: &Standing, looks: &Looks) -> Result<(), Failure> {
        let left = self.ailing(status, looks);
        if left.is_empty() {
            return Ok(());
        }
        Err(Failure::new(
            Kind::Run,
            format!("after the run not all is well: {}", some(left)),
            "run the same command again: it goes on from here; zoisite status shows all of it",
        ))
    }

    /// What is not well, but for hosts that could not be reached from the beginning, and for what this run is not about.
    fn ailing(&self, status: &Standing, before: &Looks) -> Vec<String> {
        let others = |host: &HostName| !self.named.is_empty() && !self.named.contains(host);
        let mut lines =
            status.ailing(&|host| others(host) || before.get(host).is_some_and(Result::is_err));
        if !self.named.is_empty() {
            lines.retain(|line| !status.objects.contains(line));
        }
        lines
    }

    fn tell(&self, sum: &Sum, status: &Standing, total: Duration) {
        let phases = &sum.phases;
        if self.json {
            view::json(&json!({"changed": sum.changed, "steps": sum.done, "stages": sum.stages,
                               "seconds": total.as_secs_f64(), "proven": sum.proven,
                               "stands": status}));
            return;
        }
        if self.prepared.parts.iter().all(|part| matches!(part, Part::Preparation | Part::Mesh)) {
            view::out(&format!("\ntime    {} in all\n        {}", seconds(total), phases.render()));
            view::out(match self.prepared.has(Part::Mesh) {
                true => {
                    "next    zoisite mesh shows who meets whom; zoisite raise goes on from there"
                }
                false => "next    the machines are prepared; zoisite raise goes on from there",
            });
            return;
        }
        let stands = view::standing::render(self.site, status, now(), Style::stdout());
        view::out(&format!("\n{stands}"));
        if let Some(proven) = &sum.proven {
            let read = match proven.read.as_slice() {
                [] => "itself".to_owned(),
                others => others.join(" and "),
            };
            view::out(&format!(
                "proven  a key written through {} was read through {read}; cluster id {}",
                proven.wrote, proven.cluster_id
            ));
        }
        view::out(&format!("time    {} in all\n        {}", seconds(total), phases.render()));
        view::out(match self.rehearsed {
            true => "next    zoisite raise does the same on the hosts of the cluster file",
            false => {
                "next    zoisite verify proves that it works; zoisite access NAME lets a person in"
            }
        });
    }
}

/// A run that did not wait for what ran. What was begun on hosts ends there by itself, or stays half done.
fn stopped_at_once(engine: &Engine) -> Failure {
    let mut left: Vec<&str> = Vec::new();
    for (step, state) in engine.steps().iter().zip(engine.states()) {
        if *state == StepState::Running {
            left.push(&step.id);
        }
    }
    let more = left.len().saturating_sub(12);
    left.truncate(12);
    let mut names = left.join(", ");
    if more > 0 {
        names.push_str(&format!(" and {more} more"));
    }
    Failure::new(
        Kind::Run,
        format!("stopped at once, as you asked: {names} may be half done"),
        "run the same command again: it looks at all of it, revokes the join tokens of this run, and goes on",
    )
}

/// The first twelve, and how many more there are.
fn some(mut lines: Vec<String>) -> String {
    let more = lines.len().saturating_sub(12);
    lines.truncate(12);
    if more > 0 {
        lines.push(format!("and {more} more"));
    }
    lines.join("; ")
}

/// A key that was replaced is of no use any more once the host holds the pair that took its place.
pub(super) fn forget_old_keys(
    state: &mut State,
    prepared: &Prepared,
    looks: &Looks,
) -> Result<(), Failure> {
    trust::forget_old_keys(state, |entry| prepared.in_place(entry, looks))?;
    Ok(())
}
