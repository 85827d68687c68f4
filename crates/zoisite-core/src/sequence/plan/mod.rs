//! Building the sequence from the holdings and what was observed, a file for each part.

mod at_rest;
mod control_plane;
mod etcd;
mod membership;
mod mesh;
mod nodes;
mod preparation;
mod registry;
mod restore;
mod rollout;
mod service;
mod trust;

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use rayon::prelude::*;

use super::begun::{Begun, contradictions};
use super::differences::{Difference, differences};
use super::looks::{ApiLook, Looks, NodeFacts};
use super::real::{Formation, formation};
use super::rules::{self, Refusal};
use super::step::{Condition, Gate, MemberWork, Phase, Sequence, Step, When, Work};
use crate::aim::{Aim, Arm, Real};
use crate::cluster::{Cluster, HostName, Version};
use crate::components::Shelved;
use crate::diagnosis::Trouble;
use crate::holdings::{
    API_SERVER_UNIT, ApiObject, EtcdPaths, Holdings, HostHoldings, NodePut, NodeWanted, Part,
    Taint, swaps,
};
use crate::item::{Component, ComponentSums, Item, Pinned, Unit};
use crate::layout::Distribution;
use crate::script::{Observed, Operation, Stretch};
use crate::token::TokenRecord;

/// What a plan is made from.
#[derive(Clone, Copy, Debug)]
pub struct PlanInput<'a> {
    /// The cluster file, with the members of this stage.
    pub cluster: &'a Cluster,
    /// Where this stage ends.
    pub aim: &'a Aim,
    /// What is real of the quorum.
    pub real: &'a Real,
    /// What hosts must hold.
    pub holdings: &'a Holdings,
    /// What they hold.
    pub looks: &'a Looks,
    /// Checksums of the components.
    pub sums: &'a ComponentSums,
    /// What the API shows.
    pub api: &'a ApiLook,
    /// What the cluster itself must hold, in order: Zoisite's own objects, then the site's.
    pub objects: &'a [ApiObject],
    /// The images that the cluster's own registry is to hold.
    pub shelf: &'a [Shelved],
    /// What node objects must say.
    pub nodes: &'a [NodeWanted],
    /// Every join token that was made.
    pub tokens: &'a [TokenRecord],
    /// Hosts behind which another machine was accepted in this run.
    pub accepted: &'a [HostName],
    /// The cluster's own identity.
    pub identity: &'a str,
    /// What is recorded of its beginning.
    pub begun: Option<&'a Begun>,
    /// Whether a run is recorded that gave hosts the cluster's mark, also one that began no quorum.
    pub marked: bool,
    /// Hosts that were met and are no longer in the cluster file: they are not touched.
    pub departed: &'a BTreeSet<HostName>,
    /// The time.
    pub now: Timestamp,
}

/// Deadlines.
#[derive(Clone, Copy, Debug)]
pub struct PlanOptions {
    /// How long a unit may take to be ready, and a gate to hold, in seconds.
    pub timeout: u32,
}

impl Default for PlanOptions {
    fn default() -> Self {
        Self { timeout: 300 }
    }
}

/// Why there is no plan. All reasons are reported.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("there is no safe sequence")]
pub struct Unplannable {
    /// What safety rules forbid.
    pub refusals: Vec<Refusal>,
    /// What could not be found out or is not there.
    pub troubles: Vec<Trouble>,
}

/// Works out what must be done so that the hosts hold what the holdings say.
///
/// A host that could not be looked at, or is unfit, is left out with what needs it, and the others are looked
/// after; before the quorum is formed every member must be there, as they start together.
///
/// # Errors
/// Every refusal by a safety rule and every trouble that stands in the way.
pub fn plan(input: PlanInput<'_>, options: PlanOptions) -> Result<Sequence, Unplannable> {
    let mut none = Unplannable { refusals: judge(&input), troubles: Vec::new() };
    // Of versions that are refused nothing is looked for.
    let skewed = none.refusals.iter().any(|refusal| refusal.rule == rules::Rule::Skew);
    let left_out = unfit(&input, !skewed);
    let mut looks = without(input.looks, &left_out);
    begins_again(&mut looks, &input.aim.arm);
    let input = PlanInput { looks: &looks, ..input };
    let hosts = &input.holdings.hosts;
    let compared = hosts.par_iter().filter_map(|holdings| {
        let observed = input.looks.get(&holdings.host)?.as_ref().ok()?;
        Some((&holdings.host, differences(holdings, observed, input.sums)))
    });
    let mut differences: BTreeMap<_, _> = compared.collect();
    let mut draft = Draft { input, options, steps: Vec::new(), differences: &differences, none };
    let prepared = preparation::plan(&mut draft);
    let met = mesh::plan(&mut draft);
    let quorum = match input.aim.arm {
        Arm::File | Arm::Fix | Arm::Trust { .. } => etcd::plan(&mut draft),
        _ => None,
    };
    let control = control_plane::plan(&mut draft, quorum);
    membership::plan(&mut draft, &control);
    if let Arm::RewriteBy { key } = &input.aim.arm {
        at_rest::plan(&mut draft, key, control.clone());
    }
    if let Arm::Trust { stage } = &input.aim.arm {
        trust::plan(&mut draft, *stage, &control);
    }
    if let Arm::Restore { members, from } = &input.aim.arm {
        restore::plan(&mut draft, members, from);
    }
    registry::plan(&mut draft);
    monitoring(&mut draft);
    nodes::plan(&mut draft, &control);
    if !matches!(input.aim.arm, Arm::Trust { .. }) {
        trust::followed(&mut draft, &control);
    }
    preparation::first(&mut draft, &prepared);
    mesh::first(&mut draft, &met);
    none = draft.none;
    if !none.refusals.is_empty() || !none.troubles.is_empty() {
        let told: Vec<Trouble> = std::mem::take(&mut none.troubles);
        none.troubles.extend(left_out.iter().cloned());
        none.troubles.extend(told.into_iter().filter(|trouble| !left_out.contains(trouble)));
        return Err(none);
    }
    // In the order of the cluster file, as everything that is shown.
    let steps = draft.steps;
    let differences =
        hosts.iter().filter_map(|host| differences.remove(&host.host)).flatten().collect();
    // A tenth of the nodes, when the first one has shown that the change works.
    let nodes_at_once = (input.nodes.len() / 10).clamp(1, 10);
    Ok(Sequence { steps, differences, nodes_at_once, left_out })
}

/// What gives out metrics: nothing waits for it, and it disturbs nothing.
fn monitoring(draft: &mut Draft<'_>) {
    for share in draft.shares(Part::Monitoring) {
        draft.put_right(&share, "give out metrics to monitoring");
    }
}

/// What makes hosts unfit, each told with its host; whether components are looked for too.
fn unfit(input: &PlanInput<'_>, components: bool) -> Vec<Trouble> {
    let of = |holdings: &HostHoldings| {
        let Some(Ok(observed)) = input.looks.get(&holdings.host) else { return Vec::new() };
        let mut out = unusable(input, holdings, observed);
        if components && input.sums.are_known() {
            out.extend(missing(input, holdings, observed));
        }
        out
    };
    input.holdings.hosts.par_iter().flat_map_iter(of).collect()
}

/// The looks, in which these hosts could not be looked at.
fn without<'a>(looks: &'a Looks, left_out: &[Trouble]) -> Cow<'a, Looks> {
    let mut looks = Cow::Borrowed(looks);
    for trouble in left_out {
        if let Some(host) = &trouble.host
            && looks.get(host).is_some_and(Result::is_ok)
        {
            looks.to_mut().insert(host.clone(), Err(trouble.clone()));
        }
    }
    looks
}

/// Data that is moved aside counts as gone: what matters to a member that begins is compared then.
fn begins_again(looks: &mut Cow<'_, Looks>, arm: &Arm) {
    if let Arm::Learn { host, old_data: true, .. } = arm
        && let Some(Ok(observed)) = looks.to_mut().get_mut(host)
    {
        observed.etcd.data = false;
    }
}

/// Files that a host needs and that nothing pins for its architecture.
fn missing(input: &PlanInput<'_>, holdings: &HostHoldings, observed: &Observed) -> Option<Trouble> {
    let arch = observed.arch.as_str();
    let needed = holdings.components().map(|component| &component.pinned);
    let missing: BTreeSet<&Pinned> =
        needed.filter(|pinned| input.sums.sha256(pinned, arch).is_none()).collect();
    let names: Vec<String> = missing.iter().map(ToString::to_string).collect();
    let attempted = format!("finding its components for {arch}");
    let answer = format!("nothing pins {}", names.join(", "));
    (!names.is_empty()).then(|| {
        Trouble::new(Some(holdings.host.clone()), attempted, answer, Vec::new())
            .fix(format!("zoisite components fetch --arch {arch} brings and pins what is missing"))
    })
}

/// What may not be done at all, whatever differs: judged on everything that is known.
fn judge(input: &PlanInput<'_>) -> Vec<Refusal> {
    let observed =
        || input.looks.iter().filter_map(|(host, look)| Some((host, look.as_ref().ok()?)));
    let mut out: Vec<Refusal> = observed()
        .filter_map(|(host, seen)| rules::no_foreign_host(host, input.identity, seen).err())
        .collect();
    out.extend(observed().filter_map(|(host, seen)| rules::one_hand(host, seen).err()));
    // Whatever the stage does: who comes, who serves, and whose data is moved aside.
    out.extend(
        observed().filter_map(|(host, seen)| rules::no_older_quorum(host, input.begun, seen).err()),
    );
    let proven = input.begun.and_then(|begun| begun.formed.as_deref());
    out.extend(observed().filter_map(|(host, seen)| {
        let paths = match &input.aim.arm {
            Arm::Aside { host: aside } if aside == host => {
                EtcdPaths::of(input.cluster, None, input.identity)
            }
            // Every member's data is moved aside, whoever it is.
            Arm::Restore { .. } if restore::members(input).contains(host) => {
                EtcdPaths::of(input.cluster, None, input.identity)
            }
            _ => input.holdings.host(host)?.etcd.clone()?,
        };
        rules::no_foreign_data(host, &paths, seen, proven).err()
    }));
    out.extend(contradictions(input.begun, input.cluster));
    let members = input.holdings.hosts.iter().any(|host| host.etcd.is_some());
    let formation = formation(observed().map(|(_, seen)| seen), input.begun);
    if members && formation != Formation::Formed {
        let known = (input.begun, input.marked);
        out.extend(rules::nothing_as_new(input.cluster, known, input.looks, input.identity));
    }
    let mut etcd: BTreeMap<Version, BTreeSet<String>> = BTreeMap::new();
    let mut kubernetes = etcd.clone();
    let mut dns = etcd.clone();
    for (host, seen) in observed() {
        for unit in seen.found.units.values() {
            let (found, version) = match unit.program() {
                Some(("etcd", version)) => (&mut etcd, version),
                Some(("kubernetes", version)) => (&mut kubernetes, version),
                _ => continue,
            };
            found.entry(version).or_default().insert(host.to_string());
        }
    }
    if let Some(api) = input.api.answered() {
        for (node, facts) in &api.nodes {
            let known = HostName::new(node).is_ok_and(|host| input.cluster.host(&host).is_some());
            if let (true, Ok(version)) = (known, Version::new(&facts.version)) {
                kubernetes.entry(version).or_default().insert(node.clone());
            }
        }
        if let Ok(version) = Version::new(&api.dns) {
            dns.entry(version).or_default().insert("the cluster".into());
        }
    }
    let cluster = input.cluster;
    out.extend(rules::same_minor("etcd", cluster.etcd_version, &etcd));
    out.extend(rules::same_minor("Kubernetes", cluster.kubernetes, &kubernetes));
    out.extend(rules::same_minor("CoreDNS", cluster.components.dns, &dns));
    out
}

/// What makes a host unfit before anything is tried.
fn unusable(input: &PlanInput<'_>, holdings: &HostHoldings, observed: &Observed) -> Vec<Trouble> {
    let host = &holdings.host;
    let trouble = |attempted: String, answer: String| {
        Trouble::new(Some(host.clone()), attempted, answer, Vec::new())
    };
    let mut out = Vec::new();
    if observed.init != "systemd" {
        let answer = format!("its first process is '{}', not systemd", observed.init);
        out.push(
            trouble("looking at the host".into(), answer)
                .fix("Zoisite needs a host that runs systemd"),
        );
    }
    let row = Distribution::of(&observed.os);
    let brought = |package: &str| {
        holdings.items.iter().any(|item| matches!(item, Item::Package(own) if own.name == package))
    };
    let lacks = observed.lacks.iter().filter(|program| holdings.programs.contains(program));
    for program in lacks.filter(|program| !brought(row.package_of(program))) {
        let package = row.package_of(program);
        out.push(
            trouble(format!("looking for {program}"), "it is not there".into()).fix(format!(
                "install it from the host's distribution; on Debian and Ubuntu: ssh {host} sudo apt-get install {package}"
            )),
        );
    }
    let off = holdings.items.iter().any(|item| matches!(item, Item::NoSwap(_)));
    if observed.swap && !off && !swaps(input.cluster) {
        out.push(
            trouble(
                "looking for swap".into(),
                "the host swaps, and a kubelet does not start there".into(),
            )
            .fix(format!("on {host}: swapoff -a, and take its line out of /etc/fstab")),
        );
    }
    let told = holdings.items.iter().any(|item| matches!(item, Item::Block(_)));
    if observed.resolves == Some(false) && !told {
        let name = holdings.node.as_ref().and_then(|n| n.api_name.as_deref()).unwrap_or_default();
        out.push(
            trouble(format!("resolving {name}"), "the host finds no address for it".into()).fix(
                "the API endpoint must resolve on every node: add it to the site's DNS, or to /etc/hosts everywhere",
            ),
        );
    }
    let fresh = holdings.etcd.as_ref().filter(|_| !observed.etcd.data);
    if let Some(room) = fresh.and_then(|etcd| observed.room.get(&etcd.folder))
        && *room < ROOM
    {
        let answer = format!("{} MiB free, No space left on device is near", room / 1_048_576);
        out.push(
            trouble("looking for room for etcd's data".into(), answer)
                .fix(format!("make room on {host}: {} MiB are needed to begin", ROOM / 1_048_576)),
        );
    }
    out
}

/// Smallest room, in bytes, with which a member is begun.
const ROOM: u64 = 512 * 1_024 * 1_024;

/// A sequence in the making.
struct Draft<'a> {
    input: PlanInput<'a>,
    options: PlanOptions,
    steps: Vec<Step>,
    differences: &'a BTreeMap<&'a HostName, Vec<Difference>>,
    none: Unplannable,
}

/// One host's share of a part.
#[derive(Clone)]
struct Share<'a> {
    holdings: &'a HostHoldings,
    observed: &'a Observed,
    part: Part,
    differences: Vec<&'a Difference>,
}

impl<'a> Share<'a> {
    fn host(&self) -> &'a HostName {
        &self.holdings.host
    }

    fn item(&self, difference: &Difference) -> &'a Item {
        &self.holdings.items[difference.item]
    }

    /// Units of this part that must restart.
    fn restarts(&self) -> BTreeSet<&'static str> {
        self.differences.iter().filter_map(|difference| difference.restarts).collect()
    }

    /// Whether all that differs of a unit that runs is taken by a reload: no client is interrupted.
    fn only_reloads(&self) -> bool {
        let mut restarting =
            self.differences.iter().filter(|difference| difference.restarts.is_some());
        restarting.all(|difference| self.item(difference).reloads())
    }

    fn runs(&self, unit: &str) -> bool {
        self.observed.found.units.get(unit).is_some_and(|unit| unit.active == "active")
    }

    fn why(&self) -> Vec<String> {
        self.differences.iter().map(ToString::to_string).collect()
    }

    /// The reasons that are not about what has a step of its own.
    fn why_but_components(&self) -> Vec<String> {
        let plain =
            |d: &&&Difference| !matches!(self.item(d), Item::Component(_) | Item::Routes(_));
        self.differences.iter().filter(plain).map(ToString::to_string).collect()
    }

    /// What to put for the differences, in the holdings' order; one operation an item.
    fn puts(&self) -> Vec<Operation> {
        let mut items: Vec<usize> = self.differences.iter().map(|d| d.item).collect();
        items.sort_unstable();
        items.dedup();
        items
            .into_iter()
            .map(|item| &self.holdings.items[item])
            .filter(|item| item.by_script())
            .map(|item| Operation::Put(item.clone()))
            .collect()
    }

    /// Everything that differs, in the holdings' order: what a unit reads is put before it is
    /// (re)started, and it runs before what needs it. Units for which `begins` is false are only
    /// configured. Waiting for them comes last, as it lets go of the host's lock.
    fn all(&self, begins: impl Fn(&str) -> bool, seconds: u32) -> Vec<Operation> {
        let restarts = self.restarts();
        let differs: BTreeSet<usize> = self.differences.iter().map(|d| d.item).collect();
        let mut out = Vec::new();
        let mut settle = Vec::new();
        for (index, item) in self.holdings.items.iter().enumerate() {
            let different = differs.contains(&index);
            match item {
                Item::Unit(unit)
                    if self.holdings.part_of(index) == self.part
                        && (different || restarts.contains(unit.name))
                        && begins(unit.name) =>
                {
                    out.push(Operation::Enable(unit.name));
                    // A package starts its own service, with other files than are put after it.
                    let own = unit.name.starts_with("zoisite-");
                    out.push(match self.runs(unit.name) {
                        true if restarts.contains(unit.name) => Operation::Restart(unit.name),
                        false if !own => Operation::Restart(unit.name),
                        _ => Operation::Start(unit.name),
                    });
                    let Unit { name: unit, port } = *unit;
                    // While the API server comes back, what dials it may come and go.
                    let port = port.filter(|_| !restarts.contains(API_SERVER_UNIT));
                    settle.push(Operation::Settle { unit, port, seconds });
                }
                item if different && item.by_script() => out.push(Operation::Put(item.clone())),
                _ => {}
            }
        }
        out.extend(settle);
        out
    }
}

impl<'a> Draft<'a> {
    /// The reachable hosts' shares of a part.
    fn shares(&self, part: Part) -> Vec<Share<'a>> {
        let input = self.input;
        input
            .holdings
            .hosts
            .iter()
            .filter(|holdings| holdings.has(part))
            .filter_map(|holdings| {
                let observed = input.looks.get(&holdings.host)?.as_ref().ok()?;
                let found = self.differences.get(&holdings.host).into_iter().flatten();
                let differences = found.filter(|d| holdings.part_of(d.item) == part).collect();
                Some(Share { holdings, observed, part, differences })
            })
            .collect()
    }

    fn push(&mut self, step: Step) -> usize {
        self.steps.push(step);
        self.steps.len() - 1
    }

    /// Brings the components that differ, if any do.
    fn upload(&mut self, share: &Share<'_>) -> Option<usize> {
        let components: Vec<(Component, String)> = share
            .differences
            .iter()
            .filter_map(|difference| match share.item(difference) {
                Item::Component(component) => {
                    let sums = self.input.sums;
                    let sum = match sums.sha256(&component.pinned, &share.observed.arch) {
                        // It is only told what would be brought.
                        None if !sums.are_known() => "",
                        sum => sum?,
                    };
                    Some((component.clone(), sum.to_owned()))
                }
                _ => None,
            })
            .collect();
        if components.is_empty() {
            return None;
        }
        let names: Vec<String> = components.iter().map(|(c, _)| c.pinned.to_string()).collect();
        let why: Vec<String> =
            components.iter().map(|(c, _)| format!("{} is not there", c.path)).collect();
        let host = share.host().clone();
        let id = format!("{host}/{}-components", share.part);
        let what = format!("bring {}", names.join(" and "));
        let work = Work::Upload { host: host.clone(), components };
        let step = Step::new(id, Phase::Components, what, work).on(&host).because(why);
        Some(self.push(step))
    }

    /// Operations on a host, in one round trip.
    fn act(
        &mut self,
        host: &HostName,
        (phase, id, what): (Phase, &str, &str),
        why: Vec<String>,
        operations: Vec<Operation>,
        needs: Vec<usize>,
    ) -> usize {
        let work = Work::Act(Stretch { host: host.clone(), operations });
        let step = Step::new(format!("{host}/{id}"), phase, what, work);
        self.push(step.on(host).because(why).after(needs))
    }

    /// Changes after which nothing that serves is interrupted: all that differs, in one round trip.
    fn put_right(&mut self, share: &Share<'_>, what: &str) -> Option<usize> {
        let uploaded = self.upload(share);
        let operations = share.all(|_| true, self.options.timeout);
        if operations.is_empty() {
            return None;
        }
        let id = format!("{}-put-right", share.part);
        let needs = uploaded.into_iter().collect();
        let what = (Phase::of(share.part), id.as_str(), what);
        Some(self.act(share.host(), what, share.why_but_components(), operations, needs))
    }

    fn gate(
        &mut self,
        (phase, id): (Phase, String),
        what: String,
        why: String,
        condition: Condition,
        needs: Vec<usize>,
    ) -> usize {
        let seconds = self.options.timeout;
        let work = Work::Gate(Gate { condition, seconds });
        self.push(Step::new(id, phase, what, work).because([why]).after(needs))
    }
}
