use std::collections::BTreeSet;
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
use zoisite_core::holdings::{Part, ROUTES};
use zoisite_core::item::ComponentSums;
use zoisite_core::pki::TrustStage;
use zoisite_core::script::Depth;
use zoisite_core::sequence::Sequence;
use zoisite_reach::{Deadlines, Hosts, Reach, World};
use zoisite_store::{RunRecord, State, at_rest, authorities, token_key};

use super::login::chosen;
use super::stage::{Stage, Sum, forget_old_keys};
use crate::failure::{Failure, Kind};
use crate::interrupt::Interrupts;
use crate::options::Options;
use crate::prepared::{Prepared, prepare};
use crate::road::{self, Sighting};
use crate::site::{Site, Working, begin_run, end_run, now};
use crate::view::{self, Style, count};

/// Bring every host to what the cluster file says, in a safe order
///
/// Looks at all hosts first, and changes only what differs. The same command starts, resumes, repairs and
/// upgrades: etcd quorum, control plane, load balancers, nodes, DNS, and manifests of the site.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite raise\n  zoisite raise tern-5                    # this host alone\n  zoisite raise --part etcd\n  zoisite raise --rehearse                # on simulated hosts, nothing is touched\n  zoisite raise --rehearse --stage try    # and once more, with a changed file, to see what that does\n  zoisite raise --rehearse --stage try --mishaps 7   # while hosts lose their power and steps fail\n  zoisite raise --rehearse --as-they-are  # what the file changes, on copies of the hosts as they are now"
)]
pub struct RaiseArgs {
    /// Change only these hosts, with '*' for any text; all hosts when none is named
    #[arg(value_name = "HOST")]
    pub(super) hosts: Vec<String>,
    #[command(flatten)]
    pub(super) parts: super::PartArgs,
    /// Accept that another machine has the address of this host now; may be repeated
    #[arg(long, value_name = "HOST")]
    pub(super) accept: Vec<String>,
    /// How long a unit may take to start, a gate to be passed, and everything to be well at the end
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    timeout: u32,
    /// Read and checksum every file on hosts, also unchanged ones
    #[arg(long)]
    deep: bool,
    /// How many hosts may fail to join before the run begins no other
    #[arg(long, value_name = "NUMBER", default_value_t = 3)]
    max_failed: usize,
    /// Do not ask: before the first raise, and before members are added or removed
    #[arg(long)]
    yes: bool,
    /// Accept operating systems on which Zoisite is not proven
    #[arg(long)]
    untested_systems: bool,
    /// Rehearse on simulated hosts; nothing is changed or stored
    #[arg(long)]
    pub rehearse: bool,
    /// Keep the simulated hosts and their state in this folder, and continue from there
    #[arg(long, value_name = "DIR", requires = "rehearse")]
    pub(super) stage: Option<PathBuf>,
    /// Add random failures and power losses; the same number gives the same ones
    #[arg(long, value_name = "SEED", requires = "rehearse")]
    pub(super) mishaps: Option<u64>,
    /// Begin with the real hosts as they are, and with a copy of the state
    #[arg(long, requires = "rehearse", conflicts_with = "stage")]
    pub(super) as_they_are: bool,
}

impl RaiseArgs {
    /// By default, on simulated hosts.
    pub fn rehearsed() -> Self {
        Self { rehearse: true, ..Self::by_itself() }
    }

    /// By default, with that timeout.
    pub fn patient(timeout: u32) -> Self {
        Self { timeout, ..Self::by_itself() }
    }

    /// As a person agreed to it, machines accepted.
    pub fn agreed(accept: Vec<String>) -> Self {
        Self { accept, yes: true, ..Self::by_itself() }
    }

    /// Of the mesh alone.
    pub fn of_the_mesh() -> Self {
        Self { parts: super::PartArgs::mesh(), ..Self::by_itself() }
    }

    fn by_itself() -> Self {
        Self {
            hosts: Vec::new(),
            parts: super::PartArgs::default(),
            accept: Vec::new(),
            timeout: 300,
            deep: false,
            max_failed: 3,
            yes: false,
            untested_systems: false,
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
    named_hosts(&site, &args.hosts)?;
    site.sums()?;
    let mut work = site.working()?;
    let first = work.state.begun()?.is_none();
    let ended = carry_through(&site, options, args, &mut work, "raise")?;
    if first && !options.json {
        tell_what_to_keep(&site)?;
    }
    Ok(ended)
}

/// What cannot be had back from hosts, once a cluster stands.
fn tell_what_to_keep(site: &Site) -> Result<(), Failure> {
    let identity = site.identity_path()?;
    view::note(&format!(
        "keep two things safe: {} (your identity), and {} (the state). Without both, private keys are lost",
        identity.display(),
        site.store.display()
    ));
    if site.cluster.state_backup.is_none() {
        view::note(
            "zoisite backup write copies the state into one encrypted file; with [state] backup every raise does",
        );
    }
    Ok(())
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
    if let Some(file) = &site.cluster.state_backup {
        let path = site.folder.join(file);
        super::backup::write(site, &mut work.state, &path).map_err(|failure| {
            let what = format!(
                "all else is done, and no backup of the state was written: {}",
                failure.summary()
            );
            Failure::new(
                Kind::Run,
                what,
                "[state] backup says where; zoisite backup write tries again",
            )
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
    let ended = end_run(state, run, &outcome);
    result?;
    ended?;
    Ok(ExitCode::SUCCESS)
}

pub(super) fn accepted(site: &Site, names: &[String]) -> Result<Vec<HostName>, Failure> {
    names.iter().map(|name| site.host_named(name)).collect()
}

/// The hosts of a command line, to change over SSH; none where all are meant.
///
/// # Errors
/// Where one is not in the cluster file, or is offline.
pub(super) fn named_hosts(site: &Site, names: &[String]) -> Result<BTreeSet<HostName>, Failure> {
    if names.is_empty() {
        return Ok(BTreeSet::new());
    }
    let named: BTreeSet<HostName> = chosen(site, names)?.into_iter().collect();
    match named.iter().find(|host| site.cluster.is_offline(host)) {
        Some(host) => Err(Failure::new(
            Kind::Usage,
            format!("{host} is offline: nothing is changed there over SSH"),
            format!("write its join file: zoisite join-file write {host}"),
        )),
        None => Ok(named),
    }
}

/// The part of a sequence that changes the named hosts; all of it where none is named.
///
/// # Errors
/// Where the next stage concerns the whole cluster.
pub(super) fn only_named(
    sequence: Sequence,
    prepared: &Prepared,
    named: &BTreeSet<HostName>,
) -> Result<Sequence, Failure> {
    if named.is_empty() {
        return Ok(sequence);
    }
    let arm = &prepared.aim.arm;
    let begins = prepared.has(Part::Etcd)
        && prepared.begun.as_ref().is_none_or(|begun| begun.formed.is_none());
    let whole = match arm {
        _ if begins => "the first start of the quorum".to_owned(),
        Arm::File | Arm::Fix => {
            let (sequence, (mut hosts, left)) = sequence.only(named);
            hosts.extend(left.iter().map(|difference| difference.host.clone()));
            if !hosts.is_empty() {
                let hosts = view::few(&Vec::from_iter(hosts));
                view::note(&format!("left as they are, and not as the file says: {hosts}"));
            }
            if left.iter().any(|difference| difference.what == ROUTES) {
                view::note("routes to new nodes' pods are missing there until zoisite raise");
            }
            return Ok(sequence);
        }
        arm => arm.to_string(),
    };
    let what = format!("what comes next concerns the whole cluster, not single hosts: {whole}");
    Err(Failure::new(Kind::Refused, what, "name no host: zoisite raise"))
}

/// What a run acts on.
pub(super) enum Ground<'a> {
    /// Real hosts.
    Hosts(&'a mut Hosts),
    /// Simulated ones.
    World(&'a Arc<Mutex<World>>),
}

/// What one run is given and knows, stage after stage.
pub(super) struct Run<'a> {
    site: &'a Site,
    args: &'a RaiseArgs,
    accept: &'a [HostName],
    /// The only hosts that are to change; empty where all are.
    named: BTreeSet<HostName>,
    json: bool,
    sums: ComponentSums,
    record: RunRecord,
    /// Whether a person wants the membership changed; `None` before anybody was asked.
    consent: Option<bool>,
    /// The change of the stage before, and of all stages what came of them.
    before: Option<Arm>,
    sum: Sum,
    began: Instant,
    /// From the first step on it is this program that ends itself when a person asks it to.
    interrupts: Option<Interrupts>,
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
    let timeout = Duration::from_secs(args.timeout.into());
    reach.set_deadlines(Deadlines { timeout, ..Deadlines::default() });
    super::block_on(async {
        let mut run = Run::new(site, options, args, accept, (sums, run))?;
        let result =
            run.stages(state, Some((draft, prepared)), &mut Ground::Hosts(&mut reach)).await;
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
    ) -> Result<Self, Failure> {
        Ok(Self {
            named: named_hosts(site, &args.hosts)?,
            site,
            args,
            accept,
            json: options.json,
            sums,
            record,
            consent: args.yes.then_some(true),
            before: None,
            sum: Sum::default(),
            began: Instant::now(),
            interrupts: None,
        })
    }

    /// Stage after stage, until the file is reached.
    pub(super) async fn stages(
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
            if let Some(line) = self.stage(state, (draft, prepared), ground).await? {
                return Ok(line);
            }
        }
    }

    /// One stage: a look, an aim, a plan, and its steps. The line for the journal, where it was the last one.
    async fn stage(
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
        let timeout = Duration::from_secs(args.timeout.into());
        let looking = settled_sighting(site, &mut draft, reach, &mut prepared, (how, timeout));
        let mut found = match &interrupts {
            None => looking.await?,
            Some(interrupts) => tokio::select! {
                biased;
                () = interrupts.asked(1) => return Err(stopped_between_stages()),
                found = looking => found?,
            },
        };
        let pins = found.met()?;
        found.leave_out_unfit(site, reach, &prepared.parts, args.untested_systems).await?;
        let looked = (began, reach.elapsed());
        if matches!(ground, Ground::World(_)) && !args.as_they_are {
            self.sums = simulated_sums(&prepared);
        }
        let sequence = self.choose(&mut draft, &mut prepared, &mut found)?;
        let first = self.sum.stages == 0;
        self.sum.stages += 1;
        if first && matches!(ground, Ground::Hosts(_)) {
            self.agreed_to_begin(&draft, &sequence)?;
        }
        // What waits concerns the whole cluster.
        let named = !self.named.is_empty();
        let held = if named { Vec::new() } else { prepared.aim.held.clone() };
        let arm = prepared.aim.arm.clone();
        let mut stage = Stage {
            site,
            json: self.json,
            sums: self.sums.clone(),
            prepared,
            run: self.record.clone(),
            looked,
            timeout: Duration::from_secs(args.timeout.into()),
            max_failed: args.max_failed,
            named: self.named.clone(),
            rehearsed: matches!(ground, Ground::World(_)),
        };
        let looks = &found.looks;
        let rehearsed;
        let reach: &dyn Reach = match ground {
            Ground::Hosts(hosts) => {
                stage.give_access(&mut draft, hosts, &sequence, &found)?;
                let vouched = site.vouched(&sequence, looks, &stage.sums)?;
                // It was judged: only now anything of it counts.
                stage.prepared.keep(site, &mut draft, looks, &pins)?;
                drop(draft);
                if !self.json && first {
                    tell_prepared(&stage.prepared);
                    road::tell_departed(&stage.prepared);
                }
                if !sequence.is_empty() {
                    let contents = site.contents(
                        (&stage.prepared.cluster, &sequence),
                        state,
                        site.strongbox()?,
                    )?;
                    hosts.set_contents(Arc::new(contents.knowing(vouched)));
                }
                *hosts
            }
            Ground::World(world) => {
                stage.prepared.keep(site, &mut draft, looks, &pins)?;
                drop(draft);
                let contents = match sequence.is_empty() {
                    true => site.no_contents(),
                    false => site.contents(
                        (&stage.prepared.cluster, &sequence),
                        state,
                        site.strongbox()?,
                    )?,
                };
                rehearsed = road::rehearsal(world, contents, generation);
                &rehearsed
            }
        };
        if first && sequence.is_empty() && arm.is_last() {
            forget_old_keys(state, &stage.prepared, looks)?;
            let told = and_held(site, Ok(stage.tell_nothing(looks)), &held);
            return and_left_out(told, found.troubles().into_iter()).map(Some);
        }
        let saves = sequence.saves();
        let line = json!({"step": "stage", "is": "begun", "what": arm.to_string()}).to_string();
        view::events::tell_line(&line);
        let _ = state.records().append(generation, now(), &line);
        let told = match sequence.is_empty() {
            // A stage before it did all there was.
            true => Ok(None),
            false => {
                let interrupts = self.interrupts.get_or_insert_with(Interrupts::listen);
                stage.carry_out(state, reach, sequence, (looks, interrupts)).await.map(Some)
            }
        };
        let last = arm.is_last();
        let told = match told {
            Ok(carried) => {
                if let Some(carried) = carried {
                    self.sum.and(carried);
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
                if let Some(stage) = arm.at_rest() {
                    at_rest::go_on(state, site.strongbox()?, &stage)?;
                }
                if let Some(stage) = arm.trust() {
                    // Who could not join holds it back: it believes what it did before.
                    if self.sum.failed > 0 {
                        let what = format!("not done everywhere: {arm}");
                        let fix = "fix what failed, then zoisite raise goes on with it";
                        return Err(Failure::new(Kind::Run, what, fix));
                    }
                    match stage {
                        TrustStage::Believe(_) | TrustStage::SignBy(_) | TrustStage::Forget(_) => {
                            authorities::go_on(state, site.strongbox()?, stage)?;
                        }
                        TrustStage::AcceptTokens | TrustStage::SignTokens => {
                            token_key::go_on(state, site.strongbox()?, stage, now())?;
                        }
                    }
                }
                if !last {
                    if !self.json {
                        view::say(&format!("{} {arm}", Style::stderr().good("✓")));
                    }
                    self.before = Some(arm);
                    return Ok(None);
                }
                stage
                    .end(state, reach, looks, (&self.sum, self.began, self.interrupts.clone()))
                    .await
            }
            Err(failure) => Err(failure),
        };
        let told = and_held(site, told, &held);
        and_left_out(told, found.troubles().into_iter()).map(Some)
    }

    /// Says what the first raise does to machines; asks where there is a person to ask.
    fn agreed_to_begin(&self, state: &State, sequence: &Sequence) -> Result<(), Failure> {
        if self.json || sequence.is_empty() || state.begun()?.is_some() {
            return Ok(());
        }
        view::say(&view::first_raise::render(&self.site.cluster, sequence));
        if self.args.yes || !view::is_attended() || view::asked("Begin?") {
            return Ok(());
        }
        Err(Failure::not_confirmed("changed on any host"))
    }

    /// Chooses the next aim and plans the stage to it. A person is asked once whether who is a member is to change.
    fn choose(
        &mut self,
        draft: &mut State,
        prepared: &mut Prepared,
        found: &mut Sighting,
    ) -> Result<Sequence, Failure> {
        let site = self.site;
        loop {
            prepared.turn(site, draft, &found.looks, self.consent.unwrap_or(true))?;
            let arm = &prepared.aim.arm.clone();
            if arm.changes_membership() && self.sum.stages == 0 && !self.json {
                view::say(&view::stages::render(
                    &prepared.forecast(site, true),
                    "",
                    Style::stderr(),
                ));
            }
            if arm.changes_membership() && self.consent.is_none() {
                let agreed = view::asked("Change who is a member of the quorum, in these stages?");
                self.consent = Some(agreed);
                continue;
            }
            // Of the other members nothing was to be brought back.
            let rest = *arm == Arm::Fix && !self.named.is_empty();
            if self.before.as_ref() == Some(arm) && rest {
                prepared.turn_to_what_stands(site, draft, &found.looks)?;
            } else if self.before.as_ref() == Some(arm) {
                let told = Failure::new(
                    Kind::Run,
                    format!(
                        "the stage to {arm} is done, and what hosts show has not changed by it"
                    ),
                    "zoisite status shows the members, and what their hosts say",
                );
                return and_left_out(Err(told), found.troubles().into_iter());
            }
            let timeout = self.args.timeout;
            let sequence = found.plan(prepared, &self.sums, self.accept, timeout)?;
            let sequence = only_named(sequence, prepared, &self.named)?;
            if sequence.is_empty() && prepared.aim.arm == Arm::Fix {
                // Nobody of them can be brought back from here: all else is looked after, and why is told at its end.
                prepared.turn_to_what_stands(site, draft, &found.looks)?;
                let sequence = found.plan(prepared, &self.sums, self.accept, timeout)?;
                return only_named(sequence, prepared, &self.named);
            }
            // The host that this stage is about turned out to be unfit: where to go is asked again, without it.
            // (A stage of a replacement holds only where it holds everywhere.)
            let without = !sequence.left_out.is_empty() && !arm.is_last();
            if without && (sequence.is_empty() || arm.is_a_stage()) {
                self.before = None;
                continue;
            }
            return Ok(sequence);
        }
    }
}

/// What the file wants and was left as it is makes the run a failed one, whatever its steps said; but where it waits for
/// what is carried to offline hosts, which is a person's to do.
fn and_held<T>(site: &Site, told: Result<T, Failure>, held: &[Held]) -> Result<T, Failure> {
    if held.is_empty() {
        return told;
    }
    let away = |held: &Held| held.host.as_ref().is_some_and(|host| site.cluster.is_offline(host));
    let kind = if held.iter().all(away) { Kind::Findings } else { Kind::Run };
    let held = Failure::held(kind, held);
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
    (how, timeout): ((Depth, &[HostName]), Duration),
) -> Result<Sighting, Failure> {
    let began = reach.elapsed();
    let mut told = false;
    loop {
        let found = road::sighting(site, draft, reach, prepared, how).await?;
        let busy = found.acting();
        if busy.is_empty() || reach.elapsed() - began > timeout {
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

fn stopped_between_stages() -> Failure {
    Failure::new(
        Kind::Run,
        "stopped as you asked, between two stages: what was begun is whole",
        "run the same command again: it goes on from here",
    )
}

/// Hosts that could not be reached, or are not fit, were left out, and that is reported.
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

fn tell_prepared(prepared: &Prepared) {
    let issued = &prepared.issued;
    if !issued.authorities.is_empty() {
        view::note(&format!("made {} authorities", issued.authorities.len()));
    }
    if !issued.certificates.is_empty() {
        view::note(&format!("issued {}", count(issued.certificates.len(), "certificate")));
    }
    if prepared.asked_for > 0 {
        let keys = count(prepared.asked_for, "key");
        view::note(&format!("{keys} to be made on hosts"));
    }
    if !issued.is_empty() || prepared.asked_for > 0 {
        let all = count(prepared.proof.held.len(), "connection");
        view::note(&format!("proved {all} that will be made"));
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
