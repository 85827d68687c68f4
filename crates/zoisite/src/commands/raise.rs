use std::collections::BTreeSet;
use std::fs;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::process::ExitCode;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::Part;
use zoisite_core::item::ComponentSums;
use zoisite_core::script::Depth;
use zoisite_core::sequence::{ApiLook, Begun, Engine, Looks, Phase, Sequence, State as StepState};
use zoisite_reach::{Deadlines, Hosts, Reach, RunEvent, World};
use zoisite_store::{RunRecord, State, StoreError, trust};

use super::Time;
use crate::failure::{Failure, Kind};
use crate::forecast::Forecast;
use crate::interrupt::Interrupts;
use crate::options::Options;
use crate::road::{self, Phases, Prepared, Sighting, prepare};
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
    after_help = "Examples:\n  zoisite raise\n  zoisite raise --part etcd\n  zoisite raise --rehearse                # on simulated hosts, nothing is touched\n  zoisite raise --rehearse --stage try    # and once more, with a changed file, to see what that does"
)]
pub struct RaiseArgs {
    #[command(flatten)]
    parts: super::PartArgs,
    /// Accept that another machine now stands behind this host's address; may be repeated
    #[arg(long, value_name = "HOST")]
    accept: Vec<String>,
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
    /// Go on with systems on which nobody has raised a cluster yet
    #[arg(long)]
    unproven: bool,
    /// Do it on simulated hosts that hold nothing yet; nothing is touched or stored
    #[arg(long)]
    rehearse: bool,
    /// Keep the simulated hosts and a store of theirs in this folder, and go on from there next time
    #[arg(long, value_name = "DIR", requires = "rehearse")]
    stage: Option<PathBuf>,
}

impl RaiseArgs {
    /// As nobody asks for anything else, on simulated hosts.
    pub fn rehearsed() -> Self {
        Self {
            parts: super::PartArgs::default(),
            accept: Vec::new(),
            patience: 300,
            deep: false,
            may_fail: 3,
            events: false,
            unproven: false,
            rehearse: true,
            stage: None,
        }
    }
}

pub fn run(options: &Options, args: &RaiseArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let accept = accepted(&site, &args.accept)?;
    if args.rehearse {
        return rehearse(site, options, args, &accept);
    }
    let sums = site.sums()?;
    let mut work = site.working()?;
    recorded(&mut work.state, "raise", |state, run| {
        raise(&site, options, args, &accept, sums, state, run)
    })
}

/// A run between its first and its last line in the journal.
fn recorded(
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

fn accepted(site: &Site, names: &[String]) -> Result<Vec<HostName>, Failure> {
    names.iter().map(|name| site.host_named(name)).collect()
}

/// What one run knows, on real hosts or simulated ones.
struct Raise<'a> {
    site: &'a Site,
    json: bool,
    sums: ComponentSums,
    prepared: Prepared,
    run: RunRecord,
    /// Time that looking took.
    looked: Duration,
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
    let depth = if args.deep { Depth::Deep } else { Depth::Quick };
    let json = options.json;
    let looked = Duration::ZERO;
    let (may_fail, events) = (args.may_fail, args.events);
    let mut raise = Raise { site, json, sums, prepared, run, looked, patience, may_fail, events };
    super::block_on(async {
        let how = (depth, accept);
        let sighting = road::sighting(site, &mut draft, &mut reach, &mut raise.prepared, how).await;
        let result = match sighting {
            Ok(sighting) => {
                raise.over_ssh(args, accept, (draft, state), &mut reach, sighting).await
            }
            Err(failure) => Err(failure),
        };
        reach.close().await;
        result
    })?
}

impl Raise<'_> {
    async fn over_ssh(
        &mut self,
        args: &RaiseArgs,
        accept: &[HostName],
        (mut draft, state): (State, &mut State),
        reach: &mut Hosts,
        mut sighting: Sighting,
    ) -> Result<String, Failure> {
        let site = self.site;
        let pins = sighting.met()?;
        sighting.leave_out_unfit(site, reach, &self.prepared.parts, args.unproven).await?;
        self.looked = reach.elapsed();
        let sequence = sighting.plan(site, &self.prepared, &self.sums, accept, args.patience)?;
        if !sequence.is_empty() {
            let ledger = &self.prepared.ledger;
            if let Some(access) = road::access(site, &mut draft, ledger, &sequence)? {
                reach.set_access(access);
            }
            if sighting.api == ApiLook::Absent {
                reach.set_api_access(road::api_access(site, &mut draft, ledger)?);
            }
        }
        let looks = &sighting.looks;
        let vouched = site.vouched(&sequence, looks, &self.sums)?;
        // It was judged: only now anything of it counts.
        self.prepared.keep(site, &mut draft, looks, &pins)?;
        drop(draft);
        if !self.json {
            tell_prepared(&self.prepared);
            road::tell_departed(&self.prepared);
        }
        let told = if sequence.is_empty() {
            forget_old_keys(state, &self.prepared, looks)?;
            Ok(self.tell_nothing(looks))
        } else {
            let strongbox = site.strongbox()?;
            let contents = site.contents_with_desk(&sequence, state, strongbox)?;
            reach.set_contents(Arc::new(contents.knowing(vouched)));
            self.carry_out(state, reach, sequence, looks).await
        };
        and_left_out(told, sighting.troubles().into_iter())
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
                seconds(self.looked)
            ));
        }
        "nothing differed".into()
    }

    /// Carries the sequence out, looks again, and tells what stands.
    async fn carry_out(
        &self,
        state: &mut State,
        reach: &dyn Reach,
        sequence: Sequence,
        looks: &Looks,
    ) -> Result<String, Failure> {
        if !self.json {
            let hosts: BTreeSet<&HostName> =
                sequence.steps.iter().filter_map(|step| step.host.as_ref()).collect();
            let steps = count(sequence.steps.len(), "step");
            let hosts = count(hosts.len(), "host");
            let name = &self.site.cluster.name;
            view::say(&format!("raising {name}: {steps} on {hosts}"));
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
        phases.add("look", Duration::ZERO, self.looked);
        let mut stopped = Ok(());
        let interrupts = Interrupts::listen();
        let told = Told::fitting(self.json, self.events);
        let how = (told, self.may_fail);
        let engine = road::carry_out(reach, sequence, how, &interrupts, |event, engine| {
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
        let total = reach.elapsed();
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
        self.tell(&engine, &status, &phases, total);
        all_well(&status, looks)?;
        Ok(format!("{} changed in {} steps", tally.changed, tally.done))
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
        if begun.formed.is_some() || state.begun()?.is_some_and(|begun| begun.formed.is_some()) {
            return Ok(());
        }
        state.put_begun(&Begun { formed: Some(proven.cluster_id.clone()), ..begun.clone() })
    }

    fn tell(&self, engine: &Engine, status: &Standing, phases: &Phases, total: Duration) {
        let tally = engine.tally();
        if self.json {
            view::json(&json!({"changed": tally.changed, "steps": tally.done,
                               "seconds": total.as_secs_f64(), "proven": engine.proven(),
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
        if let Some(proven) = engine.proven() {
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

/// The same on simulated hosts, with a store of theirs: nothing else is touched.
fn rehearse(
    site: Site,
    options: &Options,
    args: &RaiseArgs,
    accept: &[HostName],
) -> Result<ExitCode, Failure> {
    let passing = tempfile::tempdir()
        .map_err(|e| Failure::file("making a folder in", &std::env::temp_dir(), &e))?;
    let folder = args.stage.as_deref().unwrap_or(passing.path());
    fs::create_dir_all(folder).map_err(|e| Failure::file("making", folder, &e))?;
    let site = site.on_stage(folder);
    let file = folder.join("hosts.json");
    let mut world = match fs::read(&file) {
        Ok(text) => serde_json::from_slice(&text).map_err(|error| {
            let what = format!("{} holds no simulated hosts: {error}", file.display());
            Failure::new(Kind::Usage, what, "name another folder with --stage")
        })?,
        Err(_) => World::default(),
    };
    world.switch_on(site.cluster.hosts.iter().map(|h| (h.name.clone(), h.address)));
    let world = Arc::new(Mutex::new(world));
    let ended = rehearse_on(&site, options, args, accept, (&world, Time::Virtual));
    let text = serde_json::to_vec(&*world.lock().unwrap_or_else(PoisonError::into_inner)).map_err(
        |e| Failure::new(Kind::Run, format!("writing {}: {e}", file.display()), "report this"),
    )?;
    fs::write(&file, text).map_err(|e| Failure::file("writing", &file, &e))?;
    if !options.json {
        view::note(&match &args.stage {
            None => "this was a rehearsal: no host was touched, and nothing was stored".to_owned(),
            Some(stage) => format!(
                "this was a rehearsal: no host was touched; the simulated ones are in {}",
                stage.display()
            ),
        });
    }
    ended
}

/// A raise on simulated hosts, with the site's store.
pub fn rehearse_on(
    site: &Site,
    options: &Options,
    args: &RaiseArgs,
    accept: &[HostName],
    (world, time): (&Arc<Mutex<World>>, Time),
) -> Result<ExitCode, Failure> {
    let mut work = site.working()?;
    recorded(&mut work.state, "raise, rehearsed", |state, run| {
        let mut draft = site.draft()?;
        let mut prepared = prepare(site, &mut draft, &args.parts.chosen())?;
        super::block_on_time(time, async {
            let mut looking = road::rehearsal(world, site.no_contents(), run.generation);
            let how = (Depth::Quick, accept);
            let mut found =
                road::sighting(site, &mut draft, &mut looking, &mut prepared, how).await?;
            let pins = found.met()?;
            found.leave_out_unfit(site, &looking, &prepared.parts, args.unproven).await?;
            let sums = simulated_sums(&prepared);
            let sequence = found.plan(site, &prepared, &sums, accept, args.patience)?;
            let left_out = found.troubles().into_iter().cloned().collect::<Vec<_>>();
            let looks = found.looks;
            prepared.keep(site, &mut draft, &looks, &pins)?;
            drop(draft);
            let (json, looked) = (options.json, looking.elapsed());
            let contents = site.contents(&sequence, state, site.strongbox()?)?;
            let reach = road::rehearsal(world, contents, run.generation);
            let (may_fail, events) = (args.may_fail, args.events);
            let patience = Duration::from_secs(args.patience.into());
            let raise =
                Raise { site, json, sums, prepared, run, looked, patience, may_fail, events };
            if sequence.is_empty() {
                return Ok(raise.tell_nothing(&looks));
            }
            let told = raise.carry_out(state, &reach, sequence, &looks).await;
            and_left_out(told, left_out.iter())
        })?
    })
}

/// Raises on simulated hosts in no time, and tells nobody.
pub fn on_world(site: &Site, world: &Arc<Mutex<World>>) -> Result<(), Failure> {
    let mut work = site.working()?;
    let mut draft = site.draft()?;
    let mut prepared = prepare(site, &mut draft, Part::ALL)?;
    super::block_on_time(Time::Virtual, async {
        let mut looking = road::rehearsal(world, site.no_contents(), 1);
        let how = (Depth::Quick, &[][..]);
        let mut found = road::sighting(site, &mut draft, &mut looking, &mut prepared, how).await?;
        let pins = found.met()?;
        let sequence = found.plan(site, &prepared, &simulated_sums(&prepared), &[], 300)?;
        prepared.keep(site, &mut draft, &found.looks, &pins)?;
        drop(draft);
        let contents = site.contents(&sequence, &mut work.state, site.strongbox()?)?;
        let reach = road::rehearsal(world, contents, 1);
        let mut engine = Engine::new(sequence, road::PARALLEL);
        let nobody = || std::future::pending();
        zoisite_reach::run(&mut engine, &reach, (nobody(), nobody()), &mut |_, _| {}).await;
        match engine.troubles().next() {
            None => Ok(()),
            Some(_) => Err(Failure::new(
                Kind::Run,
                "the rehearsed raise did not come to its end",
                "zoisite raise --rehearse shows where it stops",
            )),
        }
    })?
}

/// Checksums for components that a rehearsal only pretends to bring.
pub fn simulated_sums(prepared: &Prepared) -> ComponentSums {
    let mut sums = ComponentSums::default();
    for component in prepared.holdings.hosts.iter().flat_map(|host| host.components()) {
        sums.insert(component.pinned.path("amd64"), "0".repeat(64));
    }
    sums
}
