use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use clap::Args;
use serde_json::json;
use tokio::time::Instant;
use zoisite_core::aim::{Arm, Held};
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::Part;
use zoisite_core::item::ComponentSums;
use zoisite_core::script::Depth;
use zoisite_core::sequence::{
    ApiLook, Begun, Engine, Looks, Phase, Proven, Sequence, State as StepState, Tally,
};
use zoisite_reach::{Deadlines, Hosts, Reach, RunEvent, World};
use zoisite_store::{RunRecord, State, StoreError, trust};

use crate::failure::{Failure, Kind};
use crate::forecast::Forecast;
use crate::interrupt::Interrupts;
use crate::options::Options;
use crate::phases::Phases;
use crate::road::{self, Prepared, Sighting, prepare};
use crate::site::{Site, Working, begin_run, now};
use crate::standing::{self, Seen, Standing};
use crate::view::run::Told;
use crate::view::{self, Style, count, seconds};
use crate::watching;

/// Bring every host to what the cluster file says, in a safe order
///
/// Looks first and does only what differs, so the same command begins, continues, repairs and
/// upgrades: etcd quorum, control plane, balancers, nodes by join token, DNS, the site's manifests.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite raise\n  zoisite raise --part etcd\n  zoisite raise --rehearse                # on simulated hosts, nothing is touched\n  zoisite raise --rehearse --stage try    # and once more, with a changed file, to see what that does\n  zoisite raise --rehearse --stage try --mishaps 7   # while hosts lose their power and steps fail\n  zoisite raise --rehearse --as-they-are  # what the file changes, on copies of the hosts as they are now"
)]
pub struct RaiseArgs {
    #[command(flatten)]
    pub(super) parts: super::PartArgs,
    /// Accept that another machine now stands behind this host's address; may be repeated
    #[arg(long, value_name = "HOST")]
    pub(super) accept: Vec<String>,
    /// How long a unit may take to be ready, a gate to hold, and all to be well after the last step
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    patience: u32,
    /// Compute every checksum on the hosts anew
    #[arg(long)]
    deep: bool,
    /// How many hosts may fail to join before no other is begun
    #[arg(long, value_name = "NUMBER", default_value_t = 3)]
    may_fail: usize,
    /// Tell each event as a line of JSON on the standard error stream, for programs that watch
    #[arg(long)]
    events: bool,
    /// Change who is a member of the quorum without asking
    #[arg(long)]
    yes: bool,
    /// Go on with systems on which nobody has raised a cluster yet
    #[arg(long)]
    unproven: bool,
    /// Do it on simulated hosts that hold nothing yet; nothing is touched or stored
    #[arg(long)]
    pub rehearse: bool,
    /// Keep the simulated hosts and a store of theirs in this folder, and go on from there next time
    #[arg(long, value_name = "DIR", requires = "rehearse")]
    pub(super) stage: Option<PathBuf>,
    /// Let hosts lose their power and steps fail, drawn from this number: the same number, the same mishaps
    #[arg(long, value_name = "SEED", requires = "rehearse")]
    pub(super) mishaps: Option<u64>,
    /// Begin with the real hosts as they are, which are looked at, and with a copy of the store
    #[arg(long, requires = "rehearse", conflicts_with = "stage")]
    pub(super) as_they_are: bool,
}

impl RaiseArgs {
    /// As nobody asks for anything else, on simulated hosts.
    pub fn rehearsed() -> Self {
        Self { rehearse: true, ..Self::by_itself() }
    }

    /// As a person agreed to it, machines accepted.
    pub fn agreed(accept: Vec<String>) -> Self {
        Self { accept, yes: true, ..Self::by_itself() }
    }

    fn by_itself() -> Self {
        Self {
            parts: super::PartArgs::default(),
            accept: Vec::new(),
            patience: 300,
            deep: false,
            may_fail: 3,
            events: false,
            yes: false,
            unproven: false,
            rehearse: false,
            stage: None,
            mishaps: None,
            as_they_are: false,
        }
    }
}

pub fn run(options: &Options, args: &RaiseArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    // What cannot work makes no store.
    accepted(&site, &args.accept)?;
    site.sums()?;
    let mut work = site.working()?;
    carry_through(&site, options, args, &mut work, "raise")
}

/// A raise under a lock that is held, recorded as that command.
pub(super) fn carry_through(
    site: &Site,
    options: &Options,
    args: &RaiseArgs,
    work: &mut Working,
    command: &str,
) -> Result<ExitCode, Failure> {
    let accept = accepted(site, &args.accept)?;
    let sums = site.sums()?;
    let ended = recorded(&mut work.state, command, |state, run| {
        raise(site, options, args, &accept, sums, state, run)
    })?;
    if let Some(copy) = &site.cluster.state_copy {
        let path = site.folder.join(copy);
        super::copy::take(site, &mut work.state, &path).map_err(|failure| {
            let what = format!(
                "all else is done, and no copy of the state was written: {}",
                failure.summary()
            );
            Failure::new(Kind::Run, what, "[state] copy says where; zoisite copy take tries again")
        })?;
    }
    Ok(ended)
}

/// A run between its first and its last line in the journal.
pub(super) fn recorded(
    state: &mut State,
    command: &str,
    raise: impl FnOnce(&mut State, RunRecord) -> Result<String, Failure>,
) -> Result<ExitCode, Failure> {
    let run = begin_run(state, command)?;
    let result = raise(state, run.clone());
    let outcome = match &result {
        Ok(done) => done.clone(),
        Err(failure) if failure.kind() == Kind::Refused => {
            format!("refused: {}", failure.summary())
        }
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    let ended = state.end_run(run, &outcome, now());
    result?;
    ended?;
    Ok(ExitCode::SUCCESS)
}

pub(super) fn accepted(site: &Site, names: &[String]) -> Result<Vec<HostName>, Failure> {
    names.iter().map(|name| site.host_named(name)).collect()
}

/// What a run acts on.
pub(super) enum Ground<'a> {
    /// Real hosts.
    Hosts(&'a mut Hosts),
    /// Simulated ones.
    World(&'a Arc<Mutex<World>>),
}

/// What one run is told and knows, leg after leg.
pub(super) struct Run<'a> {
    site: &'a Site,
    args: &'a RaiseArgs,
    accept: &'a [HostName],
    json: bool,
    sums: ComponentSums,
    record: RunRecord,
    /// Whether a person wants the membership changed; `None` before anybody was asked.
    consent: Option<bool>,
    /// The change of the leg before, and of all legs what came of them.
    before: Option<Arm>,
    legs: usize,
    began: Instant,
    done: usize,
    changed: usize,
    proven: Option<Proven>,
    phases: Phases,
    /// From the first step on it is this program that ends itself when a person asks it to.
    interrupts: Option<Interrupts>,
}

/// What a leg knows, on real hosts or simulated ones.
struct Leg<'a> {
    site: &'a Site,
    json: bool,
    sums: ComponentSums,
    prepared: Prepared,
    run: RunRecord,
    /// Since when, and until when, hosts were looked at.
    looked: (Duration, Duration),
    /// How long what was disturbed may take to be well again.
    patience: Duration,
    /// How many hosts may fail to join.
    may_fail: usize,
    events: bool,
}

/// One raise over SSH, under the store's lock. Returns a line for the journal.
fn raise(
    site: &Site,
    options: &Options,
    args: &RaiseArgs,
    accept: &[HostName],
    sums: ComponentSums,
    state: &mut State,
    run: RunRecord,
) -> Result<String, Failure> {
    let mut draft = site.draft()?;
    let prepared = prepare(site, &mut draft, &args.parts.chosen())?;
    let mut reach = road::hosts(site, &prepared.departed, run.generation)?;
    let patience = Duration::from_secs(args.patience.into());
    reach.set_deadlines(Deadlines { patience, ..Deadlines::default() });
    super::block_on(async {
        let mut run = Run::new(site, options, args, accept, (sums, run));
        let result = run.legs(state, Some((draft, prepared)), &mut Ground::Hosts(&mut reach)).await;
        reach.close().await;
        result
    })?
}

impl<'a> Run<'a> {
    pub(super) fn new(
        site: &'a Site,
        options: &Options,
        args: &'a RaiseArgs,
        accept: &'a [HostName],
        (sums, record): (ComponentSums, RunRecord),
    ) -> Self {
        Self {
            site,
            args,
            accept,
            json: options.json,
            sums,
            record,
            consent: args.yes.then_some(true),
            before: None,
            legs: 0,
            began: Instant::now(),
            done: 0,
            changed: 0,
            proven: None,
            phases: Phases::default(),
            interrupts: None,
        }
    }

    /// Leg after leg, until the file is reached.
    pub(super) async fn legs(
        &mut self,
        state: &mut State,
        mut first: Option<(State, Prepared)>,
        ground: &mut Ground<'_>,
    ) -> Result<String, Failure> {
        loop {
            let (draft, prepared) = match first.take() {
                Some(first) => first,
                None => {
                    Working::lock(state)?;
                    let mut draft = self.site.draft()?;
                    let prepared = prepare(self.site, &mut draft, &self.args.parts.chosen())?;
                    (draft, prepared)
                }
            };
            if let Some(line) = self.leg(state, (draft, prepared), ground).await? {
                return Ok(line);
            }
        }
    }

    /// One leg: a look, an aim, a plan, and its steps. The line for the journal, where it was the last one.
    async fn leg(
        &mut self,
        state: &mut State,
        (mut draft, mut prepared): (State, Prepared),
        ground: &mut Ground<'_>,
    ) -> Result<Option<String>, Failure> {
        let (site, args) = (self.site, self.args);
        let generation = self.record.generation;
        let mut looking;
        let reach: &mut dyn Reach = match ground {
            Ground::Hosts(hosts) => *hosts,
            Ground::World(world) => {
                looking = road::rehearsal(world, site.no_contents(), generation);
                &mut looking
            }
        };
        let began = reach.elapsed();
        let how = (if args.deep { Depth::Deep } else { Depth::Quick }, self.accept);
        let interrupts = self.interrupts.clone();
        let patience = Duration::from_secs(args.patience.into());
        let looking = settled_sighting(site, &mut draft, reach, &mut prepared, (how, patience));
        let mut found = match &interrupts {
            None => looking.await?,
            Some(interrupts) => tokio::select! {
                biased;
                () = interrupts.asked(1) => return Err(stopped_between_legs()),
                found = looking => found?,
            },
        };
        let pins = found.met()?;
        found.leave_out_unfit(site, reach, &prepared.parts, args.unproven).await?;
        let looked = (began, reach.elapsed());
        if matches!(ground, Ground::World(_)) && !args.as_they_are {
            self.sums = simulated_sums(&prepared);
        }
        let sequence = self.choose(&mut draft, &mut prepared, &mut found)?;
        let first = self.legs == 0;
        self.legs += 1;
        let held = prepared.aim.held.clone();
        let arm = prepared.aim.arm.clone();
        let mut leg = Leg {
            site,
            json: self.json,
            sums: self.sums.clone(),
            prepared,
            run: self.record.clone(),
            looked,
            patience: Duration::from_secs(args.patience.into()),
            may_fail: args.may_fail,
            events: args.events,
        };
        let looks = &found.looks;
        let rehearsed;
        let reach: &dyn Reach = match ground {
            Ground::Hosts(hosts) => {
                leg.give_access(&mut draft, hosts, &sequence, &found)?;
                let vouched = site.vouched(&sequence, looks, &leg.sums)?;
                // It was judged: only now anything of it counts.
                leg.prepared.keep(site, &mut draft, looks, &pins)?;
                drop(draft);
                if !self.json && first {
                    tell_prepared(&leg.prepared);
                    road::tell_departed(&leg.prepared);
                }
                if !sequence.is_empty() {
                    let contents = site.contents(&sequence, state, site.strongbox()?)?;
                    hosts.set_contents(Arc::new(contents.knowing(vouched)));
                }
                *hosts
            }
            Ground::World(world) => {
                leg.prepared.keep(site, &mut draft, looks, &pins)?;
                drop(draft);
                let contents = match sequence.is_empty() {
                    true => site.no_contents(),
                    false => site.contents(&sequence, state, site.strongbox()?)?,
                };
                rehearsed = road::rehearsal(world, contents, generation);
                &rehearsed
            }
        };
        if first && sequence.is_empty() && arm.is_last() {
            forget_old_keys(state, &leg.prepared, looks)?;
            let told = and_held(Ok(leg.tell_nothing(looks)), &held);
            return and_left_out(told, found.troubles().into_iter()).map(Some);
        }
        let saves = sequence.saves();
        let line = json!({"step": "leg", "is": "begun", "what": arm.to_string()}).to_string();
        let _ = state.records().append(generation, now(), &line);
        let told = match sequence.is_empty() {
            // A leg before it did all there was.
            true => Ok(None),
            false => {
                let interrupts = self.interrupts.get_or_insert_with(Interrupts::listen);
                leg.carry_out(state, reach, sequence, (looks, interrupts)).await.map(Some)
            }
        };
        let last = arm.is_last();
        let told = match told {
            Ok(carried) => {
                if let Some(Carried { tally, proven, phases }) = carried {
                    self.done += tally.done;
                    self.changed += tally.changed;
                    self.proven = proven.or(self.proven.take());
                    self.phases.and(phases);
                }
                if arm.takes_back() {
                    return Err(Failure::new(
                        Kind::Run,
                        format!("done: {arm}; nothing else was begun"),
                        "run the same command again: the rest of the file follows",
                    ));
                }
                if saves {
                    // What is saved is kept here; that it could not be copied costs nothing of the run.
                    if let Err(failure) = site.tend_snapshots() {
                        view::note(&format!("the snapshot is kept here: {}", failure.summary()));
                    }
                }
                if !last {
                    if !self.json {
                        view::say(&format!("{} {arm}", Style::stderr().good("✓")));
                    }
                    self.before = Some(arm);
                    return Ok(None);
                }
                leg.end(state, reach, looks, self).await
            }
            Err(failure) => Err(failure),
        };
        let told = and_held(told, &held);
        and_left_out(told, found.troubles().into_iter()).map(Some)
    }

    /// Chooses the next aim and plans the leg to it. A person is asked once whether who is a member is to change.
    fn choose(
        &mut self,
        draft: &mut State,
        prepared: &mut Prepared,
        found: &mut Sighting,
    ) -> Result<Sequence, Failure> {
        let site = self.site;
        loop {
            prepared.turn(site, draft, &found.looks, self.consent.unwrap_or(true))?;
            let arm = &prepared.aim.arm;
            if arm.changes_membership() && self.legs == 0 && !self.json {
                view::say(&view::legs::render(&prepared.forecast(site, true), "", Style::stderr()));
            }
            if arm.changes_membership() && self.consent.is_none() {
                let agreed = view::asked("Change who is a member of the quorum, in these legs?");
                self.consent = Some(agreed);
                continue;
            }
            if self.before.as_ref() == Some(arm) {
                let told = Failure::new(
                    Kind::Run,
                    format!("the leg to {arm} is done, and what hosts show has not changed by it"),
                    "zoisite status shows the members, and what their hosts say",
                );
                return and_left_out(Err(told), found.troubles().into_iter());
            }
            let patience = self.args.patience;
            let sequence = found.plan(prepared, &self.sums, self.accept, patience)?;
            if sequence.is_empty() && prepared.aim.arm == Arm::Mend {
                // Nobody of them can be brought back from here: all else is looked after, and why is told at its end.
                prepared.turn_to_what_stands(site, draft, &found.looks)?;
                return found.plan(prepared, &self.sums, self.accept, patience);
            }
            // The host that this leg is about turned out to be unfit: where to go is asked again, without it.
            if sequence.is_empty() && !sequence.left_out.is_empty() && !arm.is_last() {
                self.before = None;
                continue;
            }
            return Ok(sequence);
        }
    }
}

/// What came of a leg's steps.
struct Carried {
    tally: Tally,
    proven: Option<Proven>,
    phases: Phases,
}

impl Leg<'_> {
    /// What the steps need to dial etcd and the API.
    fn give_access(
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

    fn tell_nothing(&self, looks: &Looks) -> String {
        let reached = looks.values().filter(|look| look.is_ok()).count();
        if self.json {
            view::json(&json!({"changed": 0, "steps": 0}));
        } else {
            view::out(&format!(
                "{} nothing differs on {}: nothing was done (looked in {})",
                Style::stdout().good("✓"),
                count(reached, "host"),
                seconds(self.looked.1.saturating_sub(self.looked.0))
            ));
        }
        "nothing differed".into()
    }

    /// Carries the sequence out.
    async fn carry_out(
        &self,
        state: &mut State,
        reach: &dyn Reach,
        sequence: Sequence,
        (looks, interrupts): (&Looks, &Interrupts),
    ) -> Result<Carried, Failure> {
        if !self.json {
            let hosts: BTreeSet<&HostName> =
                sequence.steps.iter().filter_map(|step| step.host.as_ref()).collect();
            let steps = count(sequence.steps.len(), "step");
            let hosts = count(hosts.len(), "host");
            let name = &self.site.cluster.name;
            view::say(&match &self.prepared.aim.arm {
                Arm::File => format!("raising {name}: {steps} on {hosts}"),
                arm => format!("leg: {arm}: {steps} on {hosts}"),
            });
        }
        let mut forecast = Forecast::of(self.site, &sequence, looks);
        if let Some(forecast) = forecast.as_mut().filter(|_| !self.json) {
            let rate = match &forecast.first {
                Some(host) => reach.measured(host).await,
                None => None,
            };
            view::say(&forecast.told(rate));
        }
        let mut brought = (Duration::MAX, Duration::ZERO);
        let mut phases = Phases::default();
        phases.add("look", self.looked.0, self.looked.1);
        let mut stopped = Ok(());
        let told = Told::fitting(self.json, self.events);
        let how = (told, self.may_fail);
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

    /// Looks again after the last leg, and tells what stands.
    async fn end(
        &self,
        state: &mut State,
        reach: &dyn Reach,
        looks: &Looks,
        run: &Run<'_>,
    ) -> Result<String, Failure> {
        let total = run.began.elapsed();
        let interrupts = run.interrupts.clone().unwrap_or_else(Interrupts::listen);
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
        self.tell(run, &status, total);
        all_well(&status, looks)?;
        Ok(format!("{} changed in {} steps", run.changed, run.done))
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
            let ailing = ailing(&status, before);
            Ok((status, ailing))
        };
        let tell = |ailing: Vec<String>| {
            if !self.json {
                let what = some(ailing);
                view::say(&format!("every step is done; waiting for what is not well yet: {what}"));
            }
        };
        watching::settled(self.patience, look, tell).await
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

    fn tell(&self, run: &Run<'_>, status: &Standing, total: Duration) {
        let phases = &run.phases;
        if self.json {
            view::json(&json!({"changed": run.changed, "steps": run.done, "legs": run.legs,
                               "seconds": total.as_secs_f64(), "proven": run.proven,
                               "stands": status}));
            return;
        }
        if self.prepared.parts == [Part::Preparation] {
            view::out(&format!("\ntime    {} in all\n        {}", seconds(total), phases.render()));
            view::out("next    the machines are prepared; zoisite raise goes on from there");
            return;
        }
        let stands = view::standing::render(self.site, status, now(), Style::stdout());
        view::out(&format!("\n{stands}"));
        if let Some(proven) = &run.proven {
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
        view::out(
            "next    zoisite verify proves that it works; zoisite access NAME lets a person in",
        );
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
        "run the same command again: it looks at all of it, takes back the join tokens of this run, and goes on",
    )
}

/// What the file wants and was left as it is makes the run a failed one, whatever its steps said.
fn and_held<T>(told: Result<T, Failure>, held: &[Held]) -> Result<T, Failure> {
    if held.is_empty() {
        return told;
    }
    let held = Failure::held(held);
    Err(match told {
        Ok(_) => held,
        Err(failure) => failure.and(held),
    })
}

/// Looks, and looks again while a script of another run is still at work on a host (rule S11): what is planned from
/// would be out of date. After that long it is planned all the same, and refused.
async fn settled_sighting(
    site: &Site,
    draft: &mut State,
    reach: &mut dyn Reach,
    prepared: &mut Prepared,
    (how, patience): ((Depth, &[HostName]), Duration),
) -> Result<Sighting, Failure> {
    let began = reach.elapsed();
    let mut told = false;
    loop {
        let found = road::sighting(site, draft, reach, prepared, how).await?;
        let busy = found.acting();
        if busy.is_empty() || reach.elapsed() - began > patience {
            return Ok(found);
        }
        if !told {
            let hosts: Vec<&str> = busy.into_iter().map(HostName::as_str).collect();
            let hosts = hosts.join(", ");
            view::note(&format!(
                "{hosts}: a script of another run is still at work; waiting for its end"
            ));
            told = true;
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

fn stopped_between_legs() -> Failure {
    Failure::new(
        Kind::Run,
        "stopped as you asked, between two legs: what was begun is whole",
        "run the same command again: it goes on from here",
    )
}

/// Hosts that could not be reached, or are not fit, were left out, and that is told.
fn and_left_out<'a, T>(
    told: Result<T, Failure>,
    left_out: impl ExactSizeIterator<Item = &'a Trouble>,
) -> Result<T, Failure> {
    if left_out.len() == 0 {
        return told;
    }
    let left_out = Failure::troubles(left_out);
    Err(match told {
        Ok(_) => left_out,
        Err(failure) => failure.and(left_out),
    })
}

/// What is not well right after a run makes the run a failed one, whatever its steps said. Hosts that could
/// not be reached from the beginning are told by themselves.
fn all_well(status: &Standing, looks: &Looks) -> Result<(), Failure> {
    let left = ailing(status, looks);
    if left.is_empty() {
        return Ok(());
    }
    Err(Failure::new(
        Kind::Run,
        format!("after the run not all is well: {}", some(left)),
        "run the same command again: it goes on from here; zoisite status shows all of it",
    ))
}

/// What is not well, but for hosts that could not be reached from the beginning.
fn ailing(status: &Standing, before: &Looks) -> Vec<String> {
    status.ailing(&|host| before.get(host).is_some_and(Result::is_err))
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
fn forget_old_keys(state: &mut State, prepared: &Prepared, looks: &Looks) -> Result<(), Failure> {
    trust::forget_old_keys(state, |entry| prepared.in_place(entry, looks))?;
    Ok(())
}

fn tell_prepared(prepared: &Prepared) {
    let issued = &prepared.issued;
    if !issued.authorities.is_empty() {
        view::note(&format!("made {} authorities", issued.authorities.len()));
    }
    if !issued.certificates.is_empty() {
        view::note(&format!("issued {}", count(issued.certificates.len(), "certificate")));
    }
    if !issued.is_empty() {
        let all = count(prepared.proof.held.len(), "connection");
        view::note(&format!("proved {all} that will be dialled"));
    }
}

/// Checksums for components that a rehearsal only pretends to bring.
pub(super) fn simulated_sums(prepared: &Prepared) -> ComponentSums {
    let mut sums = ComponentSums::default();
    for component in prepared.holdings.hosts.iter().flat_map(|host| host.components()) {
        sums.insert(component.pinned.path("amd64"), "0".repeat(64));
    }
    sums
}
