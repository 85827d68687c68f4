//! Building the sequence from the blueprint and what was observed.

use std::collections::BTreeMap;

use super::differences::{Difference, Differs, differences};
use super::rules::{self, Refusal};
use super::step::{Gate, Sequence, Step, Work};
use crate::blueprint::{Blueprint, Component, ComponentSums, EtcdPaths, HostBlueprint, Item, Part};
use crate::cluster::{Cluster, HostName};
use crate::diagnosis::Trouble;
use crate::script::{Observed, Operation, Stretch};

/// What looking at a host gave.
pub type Look = Result<Observed, Trouble>;

/// What looking at every host of a blueprint gave.
pub type Looks = BTreeMap<HostName, Look>;

/// What a plan is made from.
#[derive(Clone, Copy, Debug)]
pub struct PlanInput<'a> {
    /// The cluster file.
    pub cluster: &'a Cluster,
    /// What hosts must hold.
    pub blueprint: &'a Blueprint,
    /// What they hold.
    pub looks: &'a Looks,
    /// Checksums of the components.
    pub sums: &'a ComponentSums,
}

/// Deadlines.
#[derive(Clone, Copy, Debug)]
pub struct PlanOptions {
    /// How long a unit may take to be ready, and a gate to hold, in seconds.
    pub patience: u32,
}

impl Default for PlanOptions {
    fn default() -> Self {
        Self { patience: 300 }
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

/// How far the quorum has come, by what its hosts show.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Formation {
    /// No member has data.
    Fresh,
    /// Some have, and none shows that the quorum was ever proven: a first start was interrupted.
    Forming,
    /// It was proven once, or it answers now.
    Formed,
}

/// Reads it off the hosts.
pub fn formation<'a>(observed: impl IntoIterator<Item = &'a Observed>) -> Formation {
    let mut formation = Formation::Fresh;
    for one in observed {
        let answers = one.etcd.status.as_ref().is_some_and(|status| status.has_leader());
        if one.etcd.formed.is_some() || answers {
            return Formation::Formed;
        }
        if one.etcd.data {
            formation = Formation::Forming;
        }
    }
    formation
}

/// How far a member's process has come.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Process {
    Absent,
    /// It runs, and has not said that it is ready.
    Beginning,
    Ready,
}

/// One member, ready to be planned for.
struct Member<'a> {
    blueprint: &'a HostBlueprint,
    paths: &'a EtcdPaths,
    observed: &'a Observed,
    differences: Vec<Difference>,
    /// It runs and knows a leader.
    healthy: bool,
}

impl Member<'_> {
    fn host(&self) -> &HostName {
        &self.blueprint.host
    }

    fn must_restart(&self) -> bool {
        self.differences.iter().any(|difference| difference.restarts.is_some())
    }

    fn process(&self) -> Process {
        match self.observed.units.get(self.paths.unit).map(|unit| unit.active.as_str()) {
            Some("active") => Process::Ready,
            Some("activating" | "reloading") => Process::Beginning,
            _ => Process::Absent,
        }
    }

    fn why(&self) -> Vec<String> {
        self.differences.iter().map(ToString::to_string).collect()
    }
}

/// Works out what must be done so that the hosts hold what the blueprint says.
///
/// An unreachable member of a formed quorum is left out and the others are looked after; before the
/// quorum is formed every member must be there, as they start together.
///
/// # Errors
/// Every refusal by a safety rule and every trouble that stands in the way.
pub fn plan(input: PlanInput<'_>, options: PlanOptions) -> Result<Sequence, Unplannable> {
    let mut none = Unplannable { refusals: Vec::new(), troubles: Vec::new() };
    let formation = formation(input.looks.values().filter_map(|look| look.as_ref().ok()));
    let formed = formation == Formation::Formed;
    let mut members = Vec::new();
    for blueprint in &input.blueprint.hosts {
        let Some(paths) = &blueprint.etcd else { continue };
        let observed = match input.looks.get(&blueprint.host) {
            Some(Ok(observed)) => observed,
            Some(Err(trouble)) => {
                if !formed {
                    none.troubles.push(trouble.clone());
                }
                continue;
            }
            None => continue,
        };
        none.troubles.extend(unusable(blueprint, observed, input.sums));
        let forbidden = [
            rules::no_foreign_data(&blueprint.host, paths, observed),
            rules::quorum_first(&blueprint.host, paths, observed, formed),
        ];
        none.refusals.extend(forbidden.into_iter().filter_map(Result::err));
        let running = observed.units.get(paths.unit).is_some_and(|unit| unit.active == "active");
        members.push(Member {
            blueprint,
            paths,
            observed,
            differences: differences(blueprint, observed, input.sums),
            healthy: running && observed.etcd.status.as_ref().is_some_and(|s| s.has_leader()),
        });
    }
    let total = input.cluster.etcd.members.len();
    // Every restart stands behind a gate at which all members that are reached answer, those that are
    // brought back by this very sequence included.
    let reached = members.len();
    for member in members.iter().filter(|member| member.healthy && member.must_restart()) {
        if let Err(refusal) = rules::others_keep_quorum(member.host(), total, reached) {
            none.refusals.push(refusal);
        }
    }
    if !none.refusals.is_empty() || !none.troubles.is_empty() {
        return Err(none);
    }
    Ok(Builder { input, options, steps: Vec::new(), members: &members }.build(formation))
}

/// Smallest room, in bytes, with which a member is begun.
const ROOM: u64 = 512 * 1_024 * 1_024;

/// What makes a host unfit before anything is tried.
fn unusable(blueprint: &HostBlueprint, observed: &Observed, sums: &ComponentSums) -> Vec<Trouble> {
    let host = &blueprint.host;
    let mut out = Vec::new();
    if observed.init != "systemd" {
        let answer = format!("its first process is '{}', not systemd", observed.init);
        out.push(
            Trouble::new(Some(host.clone()), "looking at the host", answer, Vec::new())
                .mend("Zoisite needs a host that runs systemd"),
        );
    }
    for component in blueprint.components() {
        if sums.sha256(&component.pinned, &observed.arch).is_none() {
            let answer = format!("SHA256SUMS has no {}", component.pinned.path(&observed.arch));
            out.push(
                Trouble::new(
                    Some(host.clone()),
                    format!("finding {} for {}", component.pinned, observed.arch),
                    answer,
                    Vec::new(),
                )
                .mend("put the file into the components folder and its checksum into SHA256SUMS"),
            );
        }
    }
    let fresh = blueprint.etcd.as_ref().filter(|_| !observed.etcd.data);
    if let Some(room) = fresh.and_then(|etcd| observed.room.get(&etcd.folder))
        && *room < ROOM
    {
        let answer = format!("{} MiB free, No space left on device is near", room / 1_048_576);
        out.push(
            Trouble::new(
                Some(host.clone()),
                "looking for room for etcd's data",
                answer,
                Vec::new(),
            )
            .mend(format!("make room on {host}: {} MiB are needed to begin", ROOM / 1_048_576)),
        );
    }
    out
}

struct Builder<'a> {
    input: PlanInput<'a>,
    options: PlanOptions,
    steps: Vec<Step>,
    members: &'a [Member<'a>],
}

impl Builder<'_> {
    fn build(mut self, formation: Formation) -> Sequence {
        let members = self.members;
        let mut before_gate = self.together(members, formation);
        let rolling: Vec<&Member<'_>> =
            members.iter().filter(|m| m.healthy && m.must_restart()).collect();
        for member in members.iter().filter(|m| m.healthy && !m.must_restart()) {
            self.quietly(member);
        }
        let unproven: Vec<&Member<'_>> =
            members.iter().filter(|m| m.observed.etcd.formed.is_none()).collect();
        let ailing = members.iter().any(|member| !member.healthy);
        if ailing || !rolling.is_empty() || !unproven.is_empty() {
            let why = match (formation, rolling.is_empty()) {
                (Formation::Formed, false) => {
                    "before a member restarts, all must be well".to_owned()
                }
                (Formation::Formed, true) => "members must be well again".to_owned(),
                _ => "the first write shows that the quorum carries".to_owned(),
            };
            let mut last = self.gate("quorum", why, std::mem::take(&mut before_gate));
            for member in rolling {
                let restarted = self.restart(member, last);
                last = self.gate(
                    &format!("quorum-after-{}", member.host()),
                    format!("{} must be back before the next one goes", member.host()),
                    vec![restarted],
                );
            }
            for member in unproven {
                self.mark_formed(member, last);
            }
        }
        let differences = members.iter().flat_map(|member| member.differences.clone()).collect();
        Sequence { steps: self.steps, differences }
    }

    /// Members that do not serve are configured, then started together. Returns the last steps.
    fn together(&mut self, members: &[Member<'_>], formation: Formation) -> Vec<usize> {
        let ailing: Vec<&Member<'_>> = members
            .iter()
            .filter(|member| {
                !member.healthy
                    && (!member.differences.is_empty() || formation != Formation::Formed)
            })
            .collect();
        let configured: Vec<usize> = ailing.iter().map(|member| self.configure(member)).collect();
        let mut last = Vec::new();
        for (member, own) in ailing.iter().zip(&configured) {
            let begin = match (member.process(), member.must_restart()) {
                (Process::Absent, _) => Operation::Start(member.paths.unit),
                (_, true) => Operation::Restart(member.paths.unit),
                (Process::Beginning, false) => Operation::Start(member.paths.unit),
                (Process::Ready, false) => {
                    last.push(*own);
                    continue;
                }
            };
            let why = match formation {
                Formation::Formed => "it does not serve".to_owned(),
                _ => "members form the quorum by starting together".to_owned(),
            };
            let settle =
                Operation::Settle { unit: member.paths.unit, seconds: self.options.patience };
            last.push(self.act(
                member,
                "start",
                "start the etcd member, and wait until it is ready",
                vec![why],
                vec![Operation::Enable(member.paths.unit), begin, settle],
                configured.clone(),
                None,
            ));
        }
        last
    }

    /// Brings everything but the start: components, then users, folders, files and marks.
    fn configure(&mut self, member: &Member<'_>) -> usize {
        let uploaded = self.upload(member);
        let mut operations = puts(member);
        if !member.observed.etcd.data {
            operations.push(Operation::Mark {
                path: member.paths.owner_mark.clone(),
                owner: member.paths.user,
                text: member.paths.cluster_id.clone(),
            });
        }
        // A unit that starts at boot before every member is configured could form a quorum without
        // the others: it is enabled when it is started.
        if member.process() == Process::Ready {
            operations.push(Operation::Enable(member.paths.unit));
        }
        let why = not_components(member);
        self.act(
            member,
            "configure",
            "write configuration and certificates",
            why,
            operations,
            uploaded.into_iter().collect(),
            None,
        )
    }

    /// Changes that need no restart: on a healthy member, at once.
    fn quietly(&mut self, member: &Member<'_>) {
        if member.differences.is_empty() {
            return;
        }
        let uploaded = self.upload(member);
        let mut operations = puts(member);
        if member.differences.iter().any(|d| d.how == Differs::NotEnabled) {
            operations.push(Operation::Enable(member.paths.unit));
        }
        if operations.is_empty() {
            return;
        }
        self.act(
            member,
            "put-right",
            "put right what differs; nothing restarts",
            not_components(member),
            operations,
            uploaded.into_iter().collect(),
            None,
        );
    }

    /// Changes that need a restart: one member, all in one stretch, after `before`.
    fn restart(&mut self, member: &Member<'_>, before: usize) -> usize {
        let uploaded = self.upload(member);
        let unit = member.paths.unit;
        let mut operations = puts(member);
        operations.extend([
            Operation::Enable(unit),
            Operation::Restart(unit),
            Operation::Settle { unit, seconds: self.options.patience },
        ]);
        let needs = uploaded.into_iter().chain([before]).collect();
        self.act(
            member,
            "restart",
            "put right what differs, restart the member, and wait until it is ready",
            member.why(),
            operations,
            needs,
            Some(Part::Etcd),
        )
    }

    fn upload(&mut self, member: &Member<'_>) -> Option<usize> {
        let components: Vec<(Component, String)> = member
            .differences
            .iter()
            .filter_map(|difference| match &member.blueprint.items[difference.item] {
                Item::Component(component) => {
                    let sum = self.input.sums.sha256(&component.pinned, &member.observed.arch)?;
                    Some((component.clone(), sum.to_owned()))
                }
                _ => None,
            })
            .collect();
        if components.is_empty() {
            return None;
        }
        let names: Vec<String> = components.iter().map(|(c, _)| c.pinned.to_string()).collect();
        let why = components.iter().map(|(c, _)| format!("{} is not there", c.path)).collect();
        let host = member.host().clone();
        Some(self.push(Step {
            id: format!("{host}/components"),
            host: Some(host.clone()),
            what: format!("bring {}", names.join(" and ")),
            why,
            needs: Vec::new(),
            disrupts: None,
            work: Work::Upload { host, components },
        }))
    }

    #[expect(clippy::too_many_arguments, reason = "a step has that many fields")]
    fn act(
        &mut self,
        member: &Member<'_>,
        id: &str,
        what: &str,
        why: Vec<String>,
        operations: Vec<Operation>,
        needs: Vec<usize>,
        disrupts: Option<Part>,
    ) -> usize {
        let host = member.host().clone();
        self.push(Step {
            id: format!("{host}/{id}"),
            host: Some(host.clone()),
            what: what.to_owned(),
            why,
            needs,
            disrupts,
            work: Work::Act(Stretch { host, operations }),
        })
    }

    fn gate(&mut self, id: &str, why: String, needs: Vec<usize>) -> usize {
        let members: Vec<HostName> = self.members.iter().map(|m| m.host().clone()).collect();
        let what = match members.len() {
            1 => "the member answers, and carries a write and a read".to_owned(),
            n => format!("{n} members agree; a key written through one is read through each other"),
        };
        self.push(Step {
            id: id.to_owned(),
            host: None,
            what,
            why: vec![why],
            needs,
            disrupts: None,
            work: Work::Gate(Gate { members, seconds: self.options.patience }),
        })
    }

    fn mark_formed(&mut self, member: &Member<'_>, gate: usize) {
        let host = member.host().clone();
        self.push(Step {
            id: format!("{host}/note"),
            host: Some(host.clone()),
            what: "note on the host that the quorum was proven".into(),
            why: vec!["a member that loses its data must never again start as if new".into()],
            needs: vec![gate],
            disrupts: None,
            work: Work::MarkFormed {
                host,
                path: member.paths.formed_mark.clone(),
                owner: member.paths.user,
            },
        });
    }

    fn push(&mut self, step: Step) -> usize {
        self.steps.push(step);
        self.steps.len() - 1
    }
}

/// What to put for the differences of a member, in the blueprint's order; one operation an item.
fn puts(member: &Member<'_>) -> Vec<Operation> {
    let mut items: Vec<usize> = member.differences.iter().map(|d| d.item).collect();
    items.sort_unstable();
    items.dedup();
    items
        .into_iter()
        .filter_map(|item| match &member.blueprint.items[item] {
            Item::User(user) => Some(Operation::User(user.clone())),
            Item::Directory(directory) => Some(Operation::Directory(directory.clone())),
            Item::File(file) => Some(Operation::File(file.clone())),
            Item::Component(_) | Item::Unit(_) => None,
        })
        .collect()
}

/// The reasons that are not about components: those have a step of their own.
fn not_components(member: &Member<'_>) -> Vec<String> {
    member
        .differences
        .iter()
        .filter(|d| !matches!(member.blueprint.items[d.item], Item::Component(_)))
        .map(ToString::to_string)
        .collect()
}
