//! What the commands that meet hosts share: looking, planning, running, telling.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex};

use zoisite_core::aim::Scope;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{API_SERVER_UNIT, HostHoldings, Part};
use zoisite_core::item::ComponentSums;
use zoisite_core::pki::{AuthorityKind, Ledger, Profile, Secret};
use zoisite_core::script::Depth;
use zoisite_core::sequence::{
    ApiLook, Condition, Engine, Gate, Looks, MachinePin, PlanInput, PlanOptions, Refusal, Rule,
    Sequence, Work, plan, same_machine,
};
use zoisite_reach::{Access, Hosts, OpenSsh, Places, Reach, Rehearsal, Target, World};
use zoisite_store::{FreshKeys, Met, State, trust};

use crate::contents::SiteContents;
use crate::failure::{Failure, Kind};
use crate::interrupt::Interrupts;
use crate::prepared::{Prepared, look_at, prepare};
use crate::site::{Site, now};
use crate::surveying;
use crate::view::{self, run::Audience};

/// Steps that run at once at most.
pub const PARALLEL: usize = 40;

/// Whether there may be an API to be asked: an API server was seen to run, or none was looked at.
pub fn may_ask(prepared: &Prepared, looks: &Looks) -> bool {
    if !prepared.has(Part::ControlPlane) {
        return prepared.has(Part::Nodes);
    }
    looks.values().filter_map(|look| look.as_ref().ok()).any(|observed| {
        observed.found.units.get(API_SERVER_UNIT).is_some_and(|unit| unit.active == "active")
    })
}

/// Every host of the cluster, and those that departed, over the person's own SSH; it connects to those that
/// are asked.
pub fn hosts(
    site: &Site,
    departed: &BTreeMap<HostName, Met>,
    generation: u64,
) -> Result<Hosts, Failure> {
    let password = site.sudo_password()?;
    let (targets, carrier) = carrier(site, departed)?;
    Ok(hosts_over(site, targets, carrier, generation, password))
}

/// The person's own SSH, and the hosts that it leads to.
pub fn carrier(
    site: &Site,
    departed: &BTreeMap<HostName, Met>,
) -> Result<(Vec<Target>, OpenSsh), Failure> {
    let targets = site.targets(departed);
    for config in targets.iter().filter_map(|target| target.login.ssh_config.as_deref()).take(1) {
        if !std::path::Path::new(config).exists() {
            return Err(Failure::new(
                Kind::Usage,
                format!("there is no SSH configuration {config}"),
                "login.ssh-config and --ssh-config name a file; a path in the cluster file starts at its folder",
            ));
        }
    }
    let carrier = OpenSsh::new(&targets).map_err(|error| {
        Failure::file("making a folder for connections in", "/tmp".as_ref(), &error)
    })?;
    Ok((targets, carrier))
}

/// Every host of the cluster over SSH without questions. `password` is for sudo where it asks.
pub fn hosts_without_prompts(site: &Site, password: Option<Secret>) -> Result<Hosts, Failure> {
    let (targets, carrier) = carrier(site, &BTreeMap::new())?;
    Ok(hosts_over(site, targets, carrier.without_prompts(), 0, password))
}

/// Hosts over a carrier. `password` is what sudo is told where it asks.
pub fn hosts_over(
    site: &Site,
    targets: Vec<Target>,
    carrier: OpenSsh,
    generation: u64,
    password: Option<Secret>,
) -> Hosts {
    let contents = Arc::new(site.no_contents());
    let (carrier, places) = (Arc::new(carrier), Places::of(&site.cluster));
    Hosts::new(targets, carrier, contents, places, generation, password)
}

/// Simulated hosts.
pub fn rehearsal(world: &Arc<Mutex<World>>, contents: SiteContents, generation: u64) -> Rehearsal {
    Rehearsal::new(Arc::clone(world), Arc::new(contents), generation)
}

/// What looking at hosts and asking the API found.
pub struct Sighting {
    pub looks: Looks,
    pub api: ApiLook,
    met: Result<Vec<(HostName, MachinePin)>, Failure>,
    /// What else makes hosts unfit that are left out.
    also: Vec<Trouble>,
    /// Hosts that were members and are nothing else: one that does not answer is no trouble.
    were: BTreeSet<HostName>,
}

impl Sighting {
    /// Pins of the machines that were met for the first time, or accepted again. Asked for once: it judges.
    ///
    /// # Errors
    /// When a machine is another one than before (rule S4).
    pub fn met(&mut self) -> Result<Vec<(HostName, MachinePin)>, Failure> {
        std::mem::replace(&mut self.met, Ok(Vec::new()))
    }

    /// Plans; every refusal and trouble is a failure.
    pub fn plan(
        &mut self,
        prepared: &Prepared,
        sums: &ComponentSums,
        accepted: &[HostName],
        timeout: u32,
    ) -> Result<Sequence, Failure> {
        let Prepared { holdings, tokens, .. } = prepared;
        // A stage that is about members alone leaves all else as it is.
        let (objects, shelf, nodes) = match prepared.aim.scope {
            Scope::Whole => (&prepared.objects[..], &prepared.shelf[..], &prepared.nodes[..]),
            Scope::Members(_) | Scope::Dialling | Scope::Mesh => (&[][..], &[][..], &[][..]),
        };
        let departed = prepared.departed.keys().cloned().collect();
        let input = PlanInput {
            cluster: &prepared.cluster,
            aim: &prepared.aim,
            real: &prepared.real,
            holdings,
            looks: &self.looks,
            sums,
            api: &self.api,
            objects,
            shelf,
            nodes,
            tokens,
            accepted,
            identity: &prepared.identity,
            begun: prepared.begun.as_ref(),
            marked: prepared.marked,
            departed: &departed,
            now: now(),
        };
        // What does not let it be planned is reported together with what else is wrong on hosts.
        let sequence = plan(input, PlanOptions { timeout })
            .map_err(|why| Failure::from(why).and(Failure::troubles(self.troubles())))?;
        for trouble in &sequence.left_out {
            if let Some(look) = trouble.host.as_ref().and_then(|host| self.looks.get_mut(host))
                && look.is_ok()
            {
                *look = Err(trouble.clone());
            } else {
                self.also.push(trouble.clone());
            }
        }
        Ok(sequence)
    }

    /// Leaves hosts out that have nothing of ours yet and are not fit for it, as if they had not answered; whether
    /// an unproven system is fit enough.
    ///
    /// # Errors
    /// What is wrong here, so that nothing can be raised anywhere.
    pub async fn leave_out_unfit(
        &mut self,
        site: &Site,
        reach: &dyn Reach,
        parts: &[Part],
        unproven: bool,
    ) -> Result<(), Failure> {
        for (host, trouble) in surveying::unfit(site, reach, &self.looks, parts, unproven).await? {
            self.looks.insert(host, Err(trouble));
        }
        Ok(())
    }

    /// Hosts on which a script is at work.
    pub fn acting(&self) -> Vec<&HostName> {
        let looks = self.looks.iter().filter_map(|(host, look)| Some((host, look.as_ref().ok()?)));
        looks.filter(|(_, seen)| seen.acting).map(|(host, _)| host).collect()
    }

    /// Hosts that could not be looked at, or were left out.
    pub fn troubles(&self) -> Vec<&Trouble> {
        let looks = self.looks.iter().filter(|(host, _)| !self.were.contains(*host));
        let looks = looks.filter_map(|(_, look)| look.as_ref().err());
        looks.chain(&self.also).collect()
    }
}

/// The road from hosts to a plan, the same for every command that goes it, on real hosts and simulated ones:
/// looks, holds machines against their pins, learns what hosts are, asks the API.
pub async fn sighting(
    site: &Site,
    state: &mut State,
    reach: &mut dyn Reach,
    prepared: &mut Prepared,
    (depth, accept): (Depth, &[HostName]),
) -> Result<Sighting, Failure> {
    // Of a cluster that was formed an API is all but sure to be asked.
    let sure = prepared.begun.as_ref().is_some_and(|begun| begun.formed.is_some());
    let mut access = None;
    let mut looks = {
        let ledger = &prepared.ledger;
        let make = || {
            if sure && reach.wants_access() && prepared.has(Part::Nodes) {
                access = Some(api_access(site, state, ledger));
            }
        };
        prepared.look(site, reach, depth, make).await
    };
    let met = meet(state, &looks, accept);
    // What a host turned out to need is looked at too.
    let others: BTreeSet<HostName> = prepared.learn(site, state, &looks)?.into_iter().collect();
    let asked = |host: &&HostHoldings| {
        others.contains(&host.host) && looks.get(&host.host).is_some_and(Result::is_ok)
    };
    let again: Vec<&HostHoldings> = prepared.holdings.hosts.iter().filter(asked).collect();
    if !again.is_empty() {
        looks.extend(look_at(&again, reach, depth, || {}).await);
    }
    if may_ask(prepared, &looks) && reach.wants_access() {
        let access = access.unwrap_or_else(|| api_access(site, state, &prepared.ledger))?;
        reach.set_api_access(access);
    }
    let api = ask(reach, prepared, &looks).await;
    let is = |host: &&HostName| prepared.holdings.host(host).is_some();
    let were = looks.keys().filter(|host| !is(host)).cloned().collect();
    Ok(Sighting { looks, api, met, also: Vec::new(), were })
}

/// Asks the API what there is to know of it, if there may be one.
pub async fn ask(reach: &dyn Reach, prepared: &Prepared, looks: &Looks) -> ApiLook {
    match may_ask(prepared, looks) {
        true => reach.ask(&prepared.objects, &prepared.shelf).await,
        false => ApiLook::Absent,
    }
}

/// What there is to know without changing anything, here or on hosts.
pub struct Ahead {
    pub sums: ComponentSums,
    pub prepared: Prepared,
    pub sighting: Sighting,
}

/// Goes to hosts over SSH, looks at them, and does `work` there before the connections end. Certificates that are due
/// are issued in an overlay and forgotten.
pub async fn visit<T>(
    site: &Site,
    (parts, depth, generation): (&[Part], Depth, u64),
    work: impl AsyncFnOnce(&mut Hosts, &mut Prepared, &mut State, &mut Sighting) -> Result<T, Failure>,
) -> Result<(Prepared, Sighting, T), Failure> {
    let mut state = site.scratch()?;
    let mut prepared = prepare(site, &mut state, parts)?;
    let mut reach = hosts(site, &prepared.departed, generation)?;
    let done = async {
        let how = (depth, &[][..]);
        let mut sighting = sighting(site, &mut state, &mut reach, &mut prepared, how).await?;
        let done = work(&mut reach, &mut prepared, &mut state, &mut sighting).await?;
        Ok::<_, Failure>((sighting, done))
    };
    let done = done.await;
    reach.close().await;
    let (sighting, done) = done?;
    Ok((prepared, sighting, done))
}

/// Looks ahead over SSH. `further` asks what else is to be known.
pub async fn look_ahead<T>(
    site: &Site,
    (parts, deep): (&[Part], bool),
    further: impl AsyncFnOnce(&Hosts, &mut Prepared, &mut State, &mut Sighting) -> T,
) -> Result<(Ahead, T), Failure> {
    let sums = site.sums_if_any()?;
    let depth = if deep { Depth::Deep } else { Depth::Quick };
    let how = (parts, depth, 0);
    let further = async |reach: &mut Hosts,
                         prepared: &mut Prepared,
                         state: &mut State,
                         sighting: &mut Sighting| {
        Ok(further(reach, prepared, state, sighting).await)
    };
    let (prepared, sighting, further) = visit(site, how, further).await?;
    Ok((Ahead { sums, prepared, sighting }, further))
}

/// Says which hosts are no longer in the cluster file.
pub fn tell_departed(prepared: &Prepared) {
    for (host, met) in &prepared.departed {
        view::note(&view::departed(host, met.address));
    }
}

/// The run's own certificate for the API.
pub fn api_access(site: &Site, state: &mut State, ledger: &Ledger) -> Result<Access, Failure> {
    let strongbox = site.strongbox()?;
    let (entry, key) =
        trust::for_this_run(state, strongbox, &site.cluster, Profile::RunApi, &FreshKeys, now())?;
    let authority = ledger.bundle(AuthorityKind::Cluster).unwrap_or_default();
    let registry_login = site.own_secrets()?.registry_login.clone();
    Ok(Access { authority, certificate: entry.pem, key, registry_login })
}

/// Holds the machines that answered against those met before (rule S4). Returns the pins of hosts met
/// for the first time, or accepted again.
pub fn meet(
    state: &State,
    looks: &Looks,
    accept: &[HostName],
) -> Result<Vec<(HostName, MachinePin)>, Failure> {
    let known = state.pins()?;
    let mut fresh = Vec::new();
    let mut refusals: Vec<Refusal> = Vec::new();
    let mut seen: BTreeMap<&str, &HostName> = BTreeMap::new();
    for (host, look) in looks {
        let Ok(observed) = look else { continue };
        if let Some(other) = seen.insert(&observed.machine, host) {
            refusals.push(Refusal {
                rule: Rule::SameMachine,
                host: Some(host.clone()),
                found: format!(
                    "it has the machine id of {other}: one machine behind two names, or a clone"
                ),
                fix: zoisite_core::login::clone_fix(host),
            });
        }
        match known.get(host.as_str()) {
            Some(pin) if !accept.contains(host) => {
                if let Err(refusal) = same_machine(host, pin, observed) {
                    refusals.push(refusal);
                }
            }
            Some(pin) if *pin == MachinePin::of(observed) => {}
            _ => fresh.push((host.clone(), MachinePin::of(observed))),
        }
    }
    if refusals.is_empty() { Ok(fresh) } else { Err(refusals.into()) }
}

/// The run's own certificate for etcd, when the sequence has a gate.
pub fn access(
    site: &Site,
    state: &mut State,
    ledger: &Ledger,
    sequence: &Sequence,
) -> Result<Option<Access>, Failure> {
    let quorum = |work: &Work| {
        let gate = matches!(work, Work::Gate(Gate { condition: Condition::Quorum { .. }, .. }));
        gate || matches!(work, Work::Member { .. } | Work::Save { .. } | Work::Rewrite { .. })
    };
    if !sequence.steps.iter().any(|step| quorum(&step.work)) {
        return Ok(None);
    }
    etcd_access(site, state, ledger).map(Some)
}

/// The run's own certificate for etcd.
pub fn etcd_access(site: &Site, state: &mut State, ledger: &Ledger) -> Result<Access, Failure> {
    let strongbox = site.strongbox()?;
    let (entry, key) =
        trust::for_this_run(state, strongbox, &site.cluster, Profile::RunEtcd, &FreshKeys, now())?;
    let authority = ledger.bundle(AuthorityKind::EtcdClient).unwrap_or_default();
    Ok(Access { authority, certificate: entry.pem, key, registry_login: None })
}

/// Carries a sequence out under a watch. The engine tells afterwards how it went. `journal` may end the run:
/// what runs is waited for, nothing new is begun. The second time that a person asks to stop, nothing is.
pub async fn carry_out(
    reach: &dyn Reach,
    sequence: Sequence,
    (told, may_fail): (Audience, usize),
    interrupts: &Interrupts,
    mut journal: impl FnMut(&zoisite_reach::RunEvent, &Engine) -> ControlFlow<()> + Send,
) -> Engine {
    let mut engine = Engine::new(sequence, PARALLEL).with_budget(may_fail);
    let mut watch = view::run::Watch::fitting(&engine, told);
    let broken = tokio::sync::Notify::new();
    let interrupt = async {
        tokio::select! {
            () = interrupts.asked(1) => {}
            () = broken.notified() => {}
        }
    };
    let stop = interrupts.asked(2);
    zoisite_reach::run(&mut engine, reach, (interrupt, stop), &mut |event, engine| {
        watch.event(event, engine);
        if journal(event, engine).is_break() {
            broken.notify_one();
        }
    })
    .await;
    watch.end(&engine);
    engine
}
