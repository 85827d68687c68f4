use std::collections::BTreeSet;
use std::process::ExitCode;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use clap::Args;
use jiff::SignedDuration;
use serde_json::json;
use zoisite_core::blueprint::{ComponentSums, Part};
use zoisite_core::cluster::HostName;
use zoisite_core::script::Depth;
use zoisite_core::sequence::{ApiLook, Engine, Looks, Sequence, State as StepState};
use zoisite_fleet::{Fleet, RunEvent, SshFleet, World};
use zoisite_store::{FreshKeys, RunRecord, State, StoreError, Vault, trust};

use crate::cli::Options;
use crate::failure::{Failure, Kind};
use crate::road::{self, Phases, Prepared, prepare};
use crate::site::{Site, lock_holder, now};
use crate::standing::{self, Standing};
use crate::view::{self, Style, count, seconds};

/// Bring every host to what the cluster file says, in a safe order
///
/// Looks first and does only what differs, so the same command begins, continues, repairs and
/// upgrades: etcd quorum, control plane, balancers, nodes by join token, DNS, the site's manifests.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite raise\n  zoisite raise --part etcd\n  zoisite raise --rehearse      # on simulated hosts, nothing is touched"
)]
pub struct RaiseArgs {
    #[command(flatten)]
    parts: super::PartArgs,
    /// Accept that another machine now stands behind this host's address; may be repeated
    #[arg(long, value_name = "HOST")]
    accept: Vec<String>,
    /// How long a unit may take to be ready and a gate to hold
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    patience: u32,
    /// Compute every checksum on the hosts anew
    #[arg(long)]
    deep: bool,
    /// How many hosts may fail to join before no other is begun
    #[arg(long, value_name = "NUMBER", default_value_t = 3)]
    may_fail: usize,
    /// Do it on simulated hosts that hold nothing yet; nothing is touched or stored
    #[arg(long)]
    rehearse: bool,
}

pub fn run(options: &Options, args: &RaiseArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let accept = accepted(&site, &args.accept)?;
    if args.rehearse {
        let world = World::new(site.cluster.hosts.iter().map(|h| (h.name.clone(), h.address)));
        return rehearse(&site, options, args, &Arc::new(Mutex::new(world)));
    }
    let sums = site.sums()?;
    let mut state = site.state()?;
    let holder = lock_holder();
    lock(&mut state)?;
    let run = state.begin_run("raise", &format!("{} on {}", holder.user, holder.host), now())?;
    let result = raise(&site, options, args, &accept, sums, &mut state, run.clone());
    let outcome = match &result {
        Ok(done) => done.clone(),
        Err(failure) if failure.kind() == Kind::Refused => {
            format!("refused: {}", failure.summary())
        }
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    let ended = state.end_run(run, &outcome, now());
    let unlocked = state.records().unlock(&holder);
    result?;
    ended?;
    unlocked?;
    Ok(ExitCode::SUCCESS)
}

/// Takes the store's lock, or renews it: long enough for the longest silence of a run.
fn lock(state: &mut State) -> Result<(), StoreError> {
    let until = now().saturating_add(SignedDuration::from_mins(60)).unwrap_or(now());
    state.records().lock(&lock_holder(), now(), until)
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
    /// How many hosts may fail to join.
    may_fail: usize,
}

/// One raise over SSH, between lock and unlock. Returns a line for the journal.
fn raise(
    site: &Site,
    options: &Options,
    args: &RaiseArgs,
    accept: &[HostName],
    sums: ComponentSums,
    state: &mut State,
    run: RunRecord,
) -> Result<String, Failure> {
    let prepared = prepare(site, state, || site.vault(), &args.parts.chosen())?;
    if !options.json {
        tell_prepared(&prepared);
    }
    let mut fleet = road::ssh_fleet(site, run.generation)?;
    let depth = if args.deep { Depth::Deep } else { Depth::Quick };
    let mut raise = Raise {
        site,
        json: options.json,
        sums,
        prepared,
        run,
        looked: Duration::ZERO,
        may_fail: args.may_fail,
    };
    super::block_on(async {
        let looks = road::look(&fleet, &raise.prepared.blueprint, depth).await;
        let result = raise.over_ssh(args, accept, state, &mut fleet, &looks).await;
        fleet.close().await;
        result
    })?
}

impl Raise<'_> {
    async fn over_ssh(
        &mut self,
        args: &RaiseArgs,
        accept: &[HostName],
        state: &mut State,
        fleet: &mut SshFleet,
        looks: &Looks,
    ) -> Result<String, Failure> {
        let pins = road::meet(state, looks, accept)?;
        self.prepared.learn(self.site, state, looks)?;
        let api = road::ask(self.site, state, fleet, &self.prepared, looks).await?;
        self.looked = fleet.elapsed();
        let Self { site, sums, prepared, .. } = self;
        let sequence = road::plan_for(site, prepared, (looks, &api), sums, accept, args.patience)?;
        state.pin(&pins)?;
        let told = if sequence.is_empty() {
            self.tell_nothing(looks)
        } else {
            let vault = site.vault()?;
            fleet.set_contents(Arc::new(site.contents_with_desk(&sequence, state, &vault)?));
            if let Some(access) = road::access(site, state, &vault, &prepared.ledger, &sequence)? {
                fleet.set_access(access);
            }
            if api == ApiLook::Absent {
                fleet.set_api_access(road::api_access(site, state, &vault, &prepared.ledger)?);
            }
            self.carry_out(state, fleet, sequence).await?
        };
        // Members of a formed quorum that could not be reached were left out, and that is told.
        let unreachable: Vec<_> = looks.values().filter_map(|look| look.as_ref().err()).collect();
        if unreachable.is_empty() { Ok(told) } else { Err(Failure::troubles(unreachable)) }
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
        fleet: &dyn Fleet,
        sequence: Sequence,
    ) -> Result<String, Failure> {
        if !self.json {
            use std::io::Write as _;
            let hosts: BTreeSet<&HostName> =
                sequence.steps.iter().filter_map(|step| step.host.as_ref()).collect();
            let steps = count(sequence.steps.len(), "step");
            let hosts = count(hosts.len(), "host");
            let name = &self.site.cluster.name;
            let _ = writeln!(std::io::stderr(), "raising {name}: {steps} on {hosts}");
        }
        let mut phases = Phases::default();
        phases.add("look", Duration::ZERO, self.looked);
        let engine = road::carry_out(fleet, sequence, self.json, self.may_fail, |event, engine| {
            if let RunEvent::Ended { step, at, took, .. } = event {
                let id = &engine.steps()[*step].id;
                phases.add(road::phase(id), at.saturating_sub(*took), *at);
            }
            // A journal that cannot be written must not stop the run; its end is recorded once more.
            let line = journal_line(event, engine);
            let _ = state.records().append(self.run.generation, now(), &line);
            let _ = lock(state);
        })
        .await;
        let total = fleet.elapsed();
        let tally = engine.tally();
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
        let seen = standing::see(self.site, fleet, &self.prepared).await;
        // What was signed in this run is in the ledger since.
        let ledger = state.ledger()?;
        let status = standing::standing(self.site, (&self.prepared, &ledger), &seen, &self.sums);
        self.tell(&engine, &status, &phases, total);
        still_different(&status)?;
        Ok(format!("{} changed in {} steps", tally.changed, tally.done))
    }

    fn tell(&self, engine: &Engine, status: &Standing, phases: &Phases, total: Duration) {
        let tally = engine.tally();
        if self.json {
            view::json(&json!({"changed": tally.changed, "steps": tally.done,
                               "seconds": total.as_secs_f64(), "proven": engine.proven(),
                               "stands": status}));
            return;
        }
        let stands = standing::render(self.site, status, now(), Style::stdout());
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

/// What differs right after a run is somebody else's doing, and worth a failure.
fn still_different(status: &Standing) -> Result<(), Failure> {
    let mut left: Vec<String> = status
        .differences()
        .map(|difference| format!("{}: {difference}", difference.host))
        .collect();
    left.extend(status.objects.iter().cloned());
    left.truncate(12);
    if left.is_empty() {
        return Ok(());
    }
    Err(Failure::new(
        Kind::Run,
        format!("after the run there still differs: {}", left.join("; ")),
        "something changes these files meanwhile; find it, then run the same command again",
    ))
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

fn journal_line(event: &RunEvent, engine: &Engine) -> String {
    let id = |step: &usize| engine.steps()[*step].id.clone();
    let value = match event {
        RunEvent::Began { step, .. } => json!({"step": id(step), "is": "begun"}),
        RunEvent::Doing { step, what } => json!({"step": id(step), "is": "doing", "what": what}),
        RunEvent::Ended { step, state, took, .. } => match state {
            StepState::Failed(trouble) => {
                json!({"step": id(step), "is": "failed", "what": trouble.answer, "seconds": took.as_secs_f64()})
            }
            StepState::Done(changed) => {
                json!({"step": id(step), "is": "done", "changed": changed, "seconds": took.as_secs_f64()})
            }
            StepState::Waiting | StepState::Running | StepState::NotTaken => {
                json!({"step": id(step), "is": "left"})
            }
        },
        RunEvent::Interrupted => json!({"is": "interrupted"}),
    };
    value.to_string()
}

/// The same on simulated hosts: certificates are issued in an overlay of the store, nothing is touched.
fn rehearse(
    site: &Site,
    options: &Options,
    args: &RaiseArgs,
    world: &Arc<Mutex<World>>,
) -> Result<ExitCode, Failure> {
    let mut state = site.scratch()?;
    let vault = site.scratch_vault()?;
    rehearse_with(site, options, args.patience, world, &mut state, &vault)?;
    if !options.json {
        view::note("this was a rehearsal: no host was touched, and nothing was stored");
    }
    Ok(ExitCode::SUCCESS)
}

/// A raise on simulated hosts with this state and vault.
pub fn rehearse_with(
    site: &Site,
    options: &Options,
    patience: u32,
    world: &Arc<Mutex<World>>,
    state: &mut State,
    vault: &Vault,
) -> Result<(), Failure> {
    trust::issue(state, vault, &site.cluster, &FreshKeys, now(), false)?;
    let prepared = prepare(site, state, || Ok(Vault::fleeting()), Part::ALL)?;
    let sums = simulated_sums(&prepared);
    let run = state.begin_run("raise, rehearsed", "rehearsal", now())?;
    super::block_on(async {
        let looking = road::rehearsal_fleet(world, site.no_contents(), run.generation);
        let looks = road::look(&looking, &prepared.blueprint, Depth::Quick).await;
        let seen = (&looks, &ApiLook::Absent);
        let sequence = road::plan_for(site, &prepared, seen, &sums, &[], patience)?;
        let contents = site.contents(&sequence, state, vault)?;
        let fleet = road::rehearsal_fleet(world, contents, run.generation);
        let looked = looking.elapsed();
        let raise = Raise { site, json: options.json, sums, prepared, run, looked, may_fail: 0 };
        let told = raise.carry_out(state, &fleet, sequence).await?;
        state.end_run(raise.run, &told, now())?;
        Ok(())
    })?
}

/// Checksums for components that a rehearsal only pretends to bring.
pub fn simulated_sums(prepared: &Prepared) -> ComponentSums {
    let mut sums = ComponentSums::default();
    for component in prepared.blueprint.hosts.iter().flat_map(|host| host.components()) {
        sums.insert(component.pinned.path("amd64"), "0".repeat(64));
    }
    sums
}
