//! What the commands that meet hosts share: certificates, looking, planning, running, telling.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use ipnet::IpNet;
use jiff::Timestamp;
use zoisite_core::blueprint::{
    self, API_SERVER_UNIT, ApiObject, Blueprint, BlueprintError, ComponentSums, NodeWanted, Part,
    Sources, node_wanted,
};
use zoisite_core::cluster::HostName;
use zoisite_core::pki::{AuthorityKind, Ledger, Profile, Proof, edges, prove};
use zoisite_core::script::Depth;
use zoisite_core::sequence::{
    ApiLook, Condition, Engine, Gate, Looks, MachinePin, PlanInput, PlanOptions, Refusal, Sequence,
    Work, plan, same_machine,
};
use zoisite_core::token::TokenRecord;
use zoisite_fleet::{ApiAccess, EtcdAccess, Fleet, Places, Rehearsal, SshFleet, World};
use zoisite_store::trust::{self, Issued};
use zoisite_store::{FreshKeys, State, Vault};

use crate::failure::{Failure, Kind};
use crate::site::{Site, SiteContents, now};
use crate::standing::{Seen, see_api};
use crate::view;

/// Steps that run at once at most.
const PARALLEL: usize = 40;

/// Certificates and blueprint, ready to be held against hosts.
pub struct Prepared {
    pub issued: Issued,
    pub ledger: Ledger,
    pub proof: Proof,
    pub blueprint: Blueprint,
    /// What the cluster itself must hold.
    pub objects: Vec<ApiObject>,
    /// What node objects must say.
    pub nodes: Vec<NodeWanted>,
    subnets: BTreeMap<HostName, Vec<IpNet>>,
    tokens: Vec<TokenRecord>,
    parts: Vec<Part>,
}

/// Issues what is due, proves every edge, and works out what hosts must hold.
pub fn prepare(
    site: &Site,
    state: &mut State,
    vault: impl FnOnce() -> Result<Vault, Failure>,
    parts: &[Part],
) -> Result<Prepared, Failure> {
    let now = now();
    let ledger = state.ledger()?;
    // The vault is opened only when something must be issued: a run with nothing to do needs no key.
    let issued = if trust::is_complete(state, &site.cluster, &ledger, now)? {
        Issued::default()
    } else {
        trust::issue(state, &vault()?, &site.cluster, &FreshKeys, now, false)?
    };
    let ledger = if issued.is_empty() { ledger } else { state.ledger()? };
    let proof = prove_edges(site, &ledger, now)?;
    let subnets = state.subnets(&site.cluster)?;
    let (mut objects, mut nodes) = (Vec::new(), Vec::new());
    if parts.contains(&Part::Nodes) {
        objects = blueprint::objects(&site.cluster);
        objects.extend(site.manifests()?);
        nodes.extend(site.cluster.nodes().iter().map(|host| {
            let nets = subnets.get(&host.name).map_or(&[][..], Vec::as_slice);
            node_wanted(&site.cluster, &host.name, nets)
        }));
    }
    let tokens = state.tokens()?;
    let blueprint = make_blueprint(site, state, &ledger, &subnets, parts)?;
    Ok(Prepared {
        issued,
        ledger,
        proof,
        blueprint,
        objects,
        nodes,
        subnets,
        tokens,
        parts: parts.to_vec(),
    })
}

fn make_blueprint(
    site: &Site,
    state: &mut State,
    ledger: &Ledger,
    subnets: &BTreeMap<HostName, Vec<IpNet>>,
    parts: &[Part],
) -> Result<Blueprint, Failure> {
    let cluster_id = state.cluster_id()?;
    let shared = state.shared_secrets()?.unwrap_or_default();
    let facts = state.facts()?;
    let sources =
        Sources { ledger, cluster_id: &cluster_id, shared: &shared, subnets, facts: &facts };
    blueprint::blueprint(&site.cluster, sources, parts).map_err(|errors| {
        let all: Vec<String> = errors.iter().map(ToString::to_string).collect();
        let exhausted = errors.iter().any(|e| matches!(e, BlueprintError::NoSubnet { .. }));
        let mend = match exhausted {
            true => "a node keeps its subnet for ever: make network.pods larger (its first address must stay)",
            false => "zoisite pki issue makes what is missing",
        };
        Failure::new(Kind::Run, all.join("; "), mend)
    })
}

impl Prepared {
    /// Whether a part was asked for.
    pub fn has(&self, part: Part) -> bool {
        self.parts.contains(&part)
    }

    /// Takes what looking showed of the hosts' own nature into the blueprint.
    pub fn learn(&mut self, site: &Site, state: &mut State, looks: &Looks) -> Result<(), Failure> {
        let seen = looks
            .iter()
            .filter_map(|(host, look)| Some((host.clone(), look.as_ref().ok()?.facts.clone()?)));
        if state.note_facts(seen)? {
            self.blueprint = make_blueprint(site, state, &self.ledger, &self.subnets, &self.parts)?;
        }
        Ok(())
    }
}

/// Whether there may be an API to be asked: an API server was seen to run, or none was looked at.
pub fn may_ask(prepared: &Prepared, looks: &Looks) -> bool {
    if !prepared.has(Part::ControlPlane) {
        return prepared.has(Part::Nodes);
    }
    looks.values().filter_map(|look| look.as_ref().ok()).any(|observed| {
        observed.units.get(API_SERVER_UNIT).is_some_and(|unit| unit.active == "active")
    })
}

/// Proves every edge; one that would fail is a failure that names client, server, name and reason.
pub fn prove_edges(site: &Site, ledger: &Ledger, now: Timestamp) -> Result<Proof, Failure> {
    let proof = prove(&edges(&site.cluster), ledger, &[], now);
    if proof.failed.is_empty() {
        return Ok(proof);
    }
    let mut failure: Option<Failure> = None;
    let all: Vec<String> = proof.failed.iter().map(ToString::to_string).collect();
    for text in all.iter().take(10) {
        failure = Some(match failure {
            None => Failure::new(
                Kind::Run,
                format!(
                    "{} of {} connections would fail",
                    proof.failed.len(),
                    proof.failed.len() + proof.held.len()
                ),
                "nothing was copied; 'zoisite pki issue' replaces certificates whose names changed",
            )
            .note("would fail", text),
            Some(failure) => failure.note("would fail", text),
        });
    }
    Err(failure.unwrap_or_else(|| Failure::told(Kind::Run)))
}

/// A fleet over SSH for every host of the cluster; it connects to those that are asked.
pub fn ssh_fleet(site: &Site, generation: u64) -> Result<SshFleet, Failure> {
    let targets = site.targets(site.cluster.hosts.iter().map(|host| &host.name));
    for config in targets.iter().filter_map(|target| target.login.ssh_config.as_deref()).take(1) {
        if !std::path::Path::new(config).exists() {
            return Err(Failure::new(
                Kind::Usage,
                format!("there is no SSH configuration {config}"),
                "login.ssh-config and --ssh-config name a file; a path in the cluster file starts at its folder",
            ));
        }
    }
    SshFleet::new(targets, Arc::new(site.no_contents()), Places::of(&site.cluster), generation)
        .map_err(|error| {
            Failure::file("making a folder for connections in", "/tmp".as_ref(), &error)
        })
}

/// A fleet of simulated hosts.
pub fn rehearsal_fleet(
    world: &Arc<Mutex<World>>,
    contents: SiteContents,
    generation: u64,
) -> Rehearsal {
    Rehearsal::new(Arc::clone(world), Arc::new(contents.rehearsed()), generation)
}

/// Looks at every host of a blueprint, all at once.
pub async fn look(fleet: &dyn Fleet, blueprint: &Blueprint, depth: Depth) -> Looks {
    let mut looks = Looks::new();
    let looking = blueprint
        .hosts
        .iter()
        .map(|host| async move { (host.host.clone(), fleet.observe(host, depth).await) });
    for (host, look) in futures_util::future::join_all(looking).await {
        looks.insert(host, look);
    }
    looks
}

/// What there is to know without changing anything, here or on hosts.
pub struct Ahead {
    pub state: State,
    pub sums: ComponentSums,
    pub prepared: Prepared,
    pub seen: Seen,
}

/// Looks ahead over SSH: certificates that are due are issued in an overlay and forgotten.
pub fn look_ahead(site: &Site, parts: &[Part], deep: bool) -> Result<Ahead, Failure> {
    let sums = site.sums()?;
    let mut state = site.scratch()?;
    let mut prepared = prepare(site, &mut state, || site.scratch_vault(), parts)?;
    let mut fleet = ssh_fleet(site, 0)?;
    let depth = if deep { Depth::Deep } else { Depth::Quick };
    let seen = crate::commands::block_on(async {
        let looks = look(&fleet, &prepared.blueprint, depth).await;
        if may_ask(&prepared, &looks) {
            // The store is under an overlay here: the run's certificate is forgotten with it.
            let vault = site.scratch_vault()?;
            fleet.set_api_access(api_access(site, &mut state, &vault, &prepared.ledger)?);
        }
        let seen = see_api(site, &fleet, &prepared, looks).await;
        fleet.close().await;
        Ok::<_, Failure>(seen)
    })??;
    prepared.learn(site, &mut state, &seen.looks)?;
    Ok(Ahead { state, sums, prepared, seen })
}

/// Asks the API what a plan needs, when an API server runs.
pub async fn ask(
    site: &Site,
    state: &mut State,
    fleet: &mut SshFleet,
    prepared: &Prepared,
    looks: &Looks,
) -> Result<ApiLook, Failure> {
    if !may_ask(prepared, looks) || prepared.objects.is_empty() {
        return Ok(ApiLook::Absent);
    }
    let vault = site.vault()?;
    fleet.set_api_access(api_access(site, state, &vault, &prepared.ledger)?);
    Ok(fleet.ask(&prepared.objects).await)
}

/// The run's own certificate for the API.
pub fn api_access(
    site: &Site,
    state: &mut State,
    vault: &Vault,
    ledger: &Ledger,
) -> Result<ApiAccess, Failure> {
    let (entry, key) =
        trust::for_this_run(state, vault, &site.cluster, Profile::RunApi, &FreshKeys, now())?;
    let authority = ledger.authority(AuthorityKind::Cluster).map(|a| a.pem.clone());
    Ok(ApiAccess { authority: authority.unwrap_or_default(), certificate: entry.pem, key })
}

/// Holds the machines that answered against those met before (rule S4). Returns the pins of hosts met
/// for the first time, or accepted anew.
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
                rule: zoisite_core::sequence::Rule::SameMachine,
                host: Some(host.clone()),
                found: format!("it has the machine id of {other}: one machine behind two names, or a clone"),
                mend: format!("check the addresses; on a clone, make a new id: rm /etc/machine-id && systemd-machine-id-setup, then reboot {host}"),
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

/// Plans; every refusal and trouble is a failure.
pub fn plan_for(
    site: &Site,
    prepared: &Prepared,
    seen: (&Looks, &ApiLook),
    sums: &ComponentSums,
    accepted: &[HostName],
    patience: u32,
) -> Result<Sequence, Failure> {
    let (looks, api) = seen;
    let Prepared { blueprint, objects, nodes, tokens, .. } = prepared;
    let cluster = &site.cluster;
    let input =
        PlanInput { cluster, blueprint, looks, sums, api, objects, nodes, tokens, accepted };
    plan(input, PlanOptions { patience }).map_err(Failure::from)
}

/// The run's own certificate for etcd, when the sequence has a gate.
pub fn access(
    site: &Site,
    state: &mut State,
    vault: &Vault,
    ledger: &Ledger,
    sequence: &Sequence,
) -> Result<Option<EtcdAccess>, Failure> {
    let quorum =
        |work: &Work| matches!(work, Work::Gate(Gate { condition: Condition::Quorum { .. }, .. }));
    if !sequence.steps.iter().any(|step| quorum(&step.work)) {
        return Ok(None);
    }
    let (entry, key) =
        trust::for_this_run(state, vault, &site.cluster, Profile::RunEtcd, &FreshKeys, now())?;
    let authority = ledger.authority(AuthorityKind::EtcdClient).map(|a| a.pem.clone());
    Ok(Some(EtcdAccess { authority: authority.unwrap_or_default(), certificate: entry.pem, key }))
}

/// Carries a sequence out under a watch. The engine tells afterwards how it went.
pub async fn carry_out(
    fleet: &dyn Fleet,
    sequence: Sequence,
    json: bool,
    may_fail: usize,
    mut journal: impl FnMut(&zoisite_fleet::RunEvent, &Engine) + Send,
) -> Engine {
    let mut engine = Engine::new(sequence, PARALLEL).with_budget(may_fail);
    let mut watch = view::run::Watch::fitting(&engine, json);
    let interrupt = async {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
    };
    zoisite_fleet::run(&mut engine, fleet, interrupt, &mut |event, engine| {
        watch.event(event, engine);
        journal(event, engine);
    })
    .await;
    watch.end(&engine);
    engine
}

/// Time that each kind of step took, first begin to last end, in order.
#[derive(Debug, Default)]
pub struct Phases(Vec<(String, Duration, Duration)>);

impl Phases {
    /// Adds one span of time to a phase.
    pub fn add(&mut self, name: &str, from: Duration, to: Duration) {
        match self.0.iter_mut().find(|(known, _, _)| known == name) {
            Some((_, start, end)) => {
                *start = (*start).min(from);
                *end = (*end).max(to);
            }
            None => self.0.push((name.to_owned(), from, to)),
        }
    }

    /// `components 1.2 s · configuration 0.4 s`, a few on a line.
    pub fn render(&self) -> String {
        let all: Vec<String> = self
            .0
            .iter()
            .map(|(name, from, to)| format!("{name} {}", view::seconds(to.saturating_sub(*from))))
            .collect();
        all.chunks(5).map(|line| line.join(" · ")).collect::<Vec<_>>().join("\n        ")
    }
}

/// The phase of a step, by its name: how a person would divide the time of a run.
pub fn phase(id: &str) -> &'static str {
    let name = id.rsplit('/').next().unwrap_or(id);
    match name {
        "token" | "join" | "admit" | "forget" | "node-removed" => "joins",
        "objects" | "stable-address" => "rights",
        "nodes-prepare" | "nodes-put-right" | "node-object" => "nodes",
        _ if name.ends_with("-components") => "components",
        _ if name.ends_with("-configure") => "configuration",
        _ if name.starts_with("etcd-") || name.starts_with("quorum") => "quorum",
        _ if name.starts_with("control-plane-") || name.starts_with("api-") => "control plane",
        _ if name.starts_with("balancer") => "balancers",
        _ if name.starts_with("ready-") => "joins",
        _ if name.starts_with("dns") => "DNS",
        _ if name.starts_with("manifests") => "manifests",
        _ => "requests",
    }
}
