//! The etcd quorum: formed by starting together, kept by restarting one at a time.

use super::super::rules;
use super::rollout::one_by_one;
use super::{Condition, Draft, Operation, Part, Phase, Share, Step, Work};
use crate::aim::{Arm, Health};
use crate::cluster::HostName;
use crate::holdings::EtcdPaths;
use crate::item::{Differs, Item};
use crate::sequence::begun::{listed_members, voters};
use crate::sequence::differences::Difference;
use crate::sequence::real::{Formation, formation, health};

/// How far a member's process has come.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Process {
    Absent,
    /// It runs, and has not said that it is ready.
    Beginning,
    Ready,
}

/// One member, ready to be planned for. One that did not answer counts as down for the quorum and as up for
/// disruption.
pub(super) struct Member<'a> {
    pub share: Share<'a>,
    pub paths: &'a EtcdPaths,
    pub health: Health,
}

impl<'a> Member<'a> {
    fn host(&self) -> &'a HostName {
        self.share.host()
    }

    pub fn must_restart(&self) -> bool {
        self.share.restarts().contains(self.paths.unit)
    }

    /// Whether it surely serves no client: it is down, or its own host is told that its certificate has ended (Go's
    /// words for `x509.Expired`, of a time that is after its end).
    fn serves_no_client(&self) -> bool {
        let said = self.share.observed.etcd.silent.as_deref().unwrap_or_default();
        let ended = said.contains("certificate has expired") && said.contains("is after");
        self.health == Health::Down || (self.health == Health::Unknown && ended)
    }

    pub fn process(&self) -> Process {
        match self.share.observed.found.units.get(self.paths.unit).map(|unit| unit.active.as_str())
        {
            Some("active") => Process::Ready,
            Some("activating" | "reloading") => Process::Beginning,
            _ => Process::Absent,
        }
    }
}

/// Plans for the members. Returns the last gate, when there is one.
pub(super) fn plan(draft: &mut Draft<'_>) -> Option<usize> {
    let input = draft.input;
    let looked = input.looks.values().filter_map(|look| look.as_ref().ok());
    let formation = formation(looked, input.begun);
    let formed = formation == Formation::Formed;
    if !formed {
        for host in input.holdings.hosts.iter().filter(|host| host.etcd.is_some()) {
            if let Some(Err(trouble)) = input.looks.get(&host.host) {
                draft.none.troubles.push(trouble.clone());
            }
        }
    }
    let mut members = Vec::new();
    for share in draft.shares(Part::Etcd) {
        let Some(paths) = &share.holdings.etcd else { continue };
        let observed = share.observed;
        // A member that the quorum does not know has been reported as that.
        let told = |r: &rules::Refusal| {
            r.rule == rules::Rule::QuorumFirst && r.host.as_ref() == Some(share.host())
        };
        let formed = formed && !draft.none.refusals.iter().any(told);
        let forbidden = rules::quorum_first(share.host(), paths, input.real, formed);
        draft.none.refusals.extend(forbidden.err());
        let health = health(observed, input.cluster.etcd.members.len() == 1);
        members.push(Member { share, paths, health });
    }
    let total = voters(listed_members(input.looks, input.begun), input.cluster);
    // Every restart stands behind a gate at which all members that are reached answer, those that are
    // brought back by this very sequence included.
    let reached = members.len() + leaving(draft, &members);
    // While others are brought back, those that are well stay as they are.
    let fixes = input.aim.arm == Arm::Fix;
    // Where every certificate has ended nobody is served whom a restart could interrupt, and nobody can show any more
    // that the others carry the quorum.
    let silent = formed && members.len() == total && members.iter().all(Member::serves_no_client);
    let rolls = |member: &&Member<'_>| {
        let stays = member.health == Health::Down || fixes && member.health == Health::Well;
        !stays && !silent && member.must_restart()
    };
    for member in members.iter().filter(rolls) {
        if let Err(refusal) = rules::others_keep_quorum(member.host(), total, reached) {
            draft.none.refusals.push(refusal);
        }
    }
    let before_gate = together(draft, &members, formation, silent);
    // Those that do not answer go first: the others must prove that they carry the quorum without them.
    let (unsure, sure): (Vec<&Member<'_>>, Vec<&Member<'_>>) =
        members.iter().filter(rolls).partition(|member| member.health == Health::Unknown);
    let rolling: Vec<&Member<'_>> = unsure.iter().chain(&sure).copied().collect();
    let quiet = members.iter().filter(|m| m.health != Health::Down && !m.must_restart());
    let put: Vec<usize> = quiet.filter_map(|member| quietly(draft, member)).collect();
    let unproven: Vec<&Member<'_>> =
        members.iter().filter(|m| m.share.observed.etcd.formed.is_none()).collect();
    let ailing = members.iter().any(|member| member.health != Health::Well);
    if !ailing && rolling.is_empty() && unproven.is_empty() {
        beside(draft, &members, put);
        return None;
    }
    let why = match (formation, rolling.is_empty()) {
        (Formation::Formed, false) => {
            "before a member restarts, all others must be well".to_owned()
        }
        (Formation::Formed, true) => "members must be well again".to_owned(),
        _ => "the first write shows that the quorum carries".to_owned(),
    };
    let all: Vec<&Member<'_>> = members.iter().collect();
    let without = |member: Option<&&Member<'_>>| -> Vec<&Member<'_>> {
        let others = all.iter().filter(|m| member.is_none_or(|member| m.host() != member.host()));
        others.copied().collect()
    };
    let first = gate(draft, &without(unsure.first()), "quorum", why, before_gate);
    let turns: Vec<(usize, &Member<'_>)> = rolling.iter().copied().enumerate().collect();
    let back = |draft: &mut Draft<'_>, (index, member): &(usize, &Member<'_>), restarted| {
        let id = format!("quorum-after-{}", member.host());
        let why = format!("{} must be back before the next one goes", member.host());
        gate(draft, &without(unsure.get(index + 1)), &id, why, vec![restarted])
    };
    let gates =
        one_by_one(draft, &turns, vec![first], |d, (_, m), after| restart(d, m, after), back);
    let last = gates.last().copied().unwrap_or(first);
    for member in unproven {
        mark_formed(draft, member, last);
    }
    beside(draft, &members, put.into_iter().chain([last]).collect());
    Some(last)
}

/// How many voters are well that the file does not name any more: they carry the quorum too, as long as they are there.
fn leaving(draft: &Draft<'_>, members: &[Member<'_>]) -> usize {
    let named = |name: &str| members.iter().any(|member| member.host().as_str() == name);
    draft.input.real.well().filter(|member| !named(&member.name)).count()
}

/// Members that do not serve are configured, then started together; `silent` ones too that must restart. Returns the
/// last steps.
fn together(
    draft: &mut Draft<'_>,
    members: &[Member<'_>],
    formation: Formation,
    silent: bool,
) -> Vec<usize> {
    let ailing: Vec<&Member<'_>> = members
        .iter()
        .filter(|member| match member.health {
            Health::Down => !member.share.differences.is_empty() || formation != Formation::Formed,
            _ => silent && member.must_restart(),
        })
        .collect();
    let configured: Vec<usize> =
        ailing.iter().map(|member| configure(draft, member, None)).collect();
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
        let settle = Operation::Settle {
            unit: member.paths.unit,
            port: None,
            seconds: draft.options.timeout,
        };
        last.push(draft.act(
            member.host(),
            (Phase::Quorum, "etcd-start", "start the etcd member, and wait until it is ready"),
            vec![why],
            vec![Operation::Enable(member.paths.unit), begin, settle],
            configured.clone(),
        ));
    }
    last
}

/// Brings everything but the start: components, then users, folders, files and marks.
pub(super) fn configure(
    draft: &mut Draft<'_>,
    member: &Member<'_>,
    first: Option<Operation>,
) -> usize {
    let uploaded = draft.upload(&member.share);
    let mut operations: Vec<Operation> = first.into_iter().chain(member.share.puts()).collect();
    if !member.share.observed.etcd.data {
        operations.push(Operation::Mark {
            path: member.paths.owner_mark.clone(),
            owner: "root",
            text: member.paths.cluster_id.clone(),
        });
    }
    // A unit that starts at boot before every member is configured could form a quorum without
    // the others: it is enabled when it is started.
    if member.process() == Process::Ready {
        operations.push(Operation::Enable(member.paths.unit));
    }
    draft.act(
        member.host(),
        (Phase::Configuration, "etcd-configure", "write etcd's configuration and certificates"),
        member.share.why_but_components(),
        operations,
        uploaded.into_iter().collect(),
    )
}

/// Changes that need no restart: on a healthy member, at once.
fn quietly(draft: &mut Draft<'_>, member: &Member<'_>) -> Option<usize> {
    if member.share.differences.is_empty() {
        return None;
    }
    let uploaded = draft.upload(&member.share);
    let mut operations = member.share.puts();
    if member.share.differences.iter().any(|d| d.how == Differs::NotEnabled) {
        operations.push(Operation::Enable(member.paths.unit));
    }
    if operations.is_empty() {
        return None;
    }
    Some(draft.act(
        member.host(),
        (Phase::Quorum, "etcd-put-right", "put right what differs; nothing restarts"),
        member.share.why_but_components(),
        operations,
        uploaded.into_iter().collect(),
    ))
}

/// What runs beside the member on its host, once the member is as it is to be.
fn beside(draft: &mut Draft<'_>, members: &[Member<'_>], after: Vec<usize>) {
    for member in members {
        let share = &member.share;
        let unit = |difference: &&&Difference| match share.item(difference) {
            Item::Unit(unit) => unit.name != member.paths.unit,
            _ => difference.restarts.is_some_and(|restarts| restarts != member.paths.unit),
        };
        let why: Vec<String> =
            share.differences.iter().filter(unit).map(ToString::to_string).collect();
        let operations: Vec<Operation> = share
            .all(|unit| unit != member.paths.unit, draft.options.timeout)
            .into_iter()
            .filter(|operation| !matches!(operation, Operation::Put(_)))
            .collect();
        if why.is_empty() || operations.is_empty() {
            continue;
        }
        let what = (
            Phase::Quorum,
            "etcd-beside",
            "have the host save what the member holds, now and then",
        );
        draft.act(member.host(), what, why, operations, after.clone());
    }
}

/// Changes that need a restart: one member, all in one stretch, after `before`.
fn restart(draft: &mut Draft<'_>, member: &Member<'_>, before: &[usize]) -> usize {
    let uploaded = draft.upload(&member.share);
    let unit = member.paths.unit;
    let mut operations = member.share.puts();
    operations.extend([
        Operation::Enable(unit),
        Operation::Restart(unit),
        Operation::Settle { unit, port: None, seconds: draft.options.timeout },
    ]);
    let needs = uploaded.iter().chain(before).copied().collect();
    let step = draft.act(
        member.host(),
        (
            Phase::Quorum,
            "etcd-restart",
            "put right what differs, restart the member, and wait until it is ready",
        ),
        member.share.why(),
        operations,
        needs,
    );
    draft.steps[step].disrupts.insert(Part::Etcd);
    step
}

fn gate(
    draft: &mut Draft<'_>,
    members: &[&Member<'_>],
    id: &str,
    why: String,
    needs: Vec<usize>,
) -> usize {
    let members: Vec<HostName> = members.iter().map(|m| m.host().clone()).collect();
    quorum(draft, members, id, why, needs)
}

/// Proves that these members agree and carry a write.
pub(super) fn quorum(
    draft: &mut Draft<'_>,
    members: Vec<HostName>,
    id: &str,
    why: String,
    needs: Vec<usize>,
) -> usize {
    let what = match members.len() {
        1 => "the member answers, and carries a write and a read".to_owned(),
        n => format!("{n} members agree; a key written through one is read through each other"),
    };
    // Whether a learner gets its vote is a stage of its own: it keeps nobody from being brought back.
    let learners = draft.input.aim.arm == Arm::Fix;
    let condition = Condition::Quorum { members, learners };
    draft.gate((Phase::Quorum, id.to_owned()), what, why, condition, needs)
}

pub(super) fn mark_formed(draft: &mut Draft<'_>, member: &Member<'_>, gate: usize) {
    let host = member.host().clone();
    let path = member.paths.formed_mark.clone();
    let work = Work::MarkFormed { host: host.clone(), path, owner: "root" };
    let what = "note on the host that the quorum was proven";
    let why = "a member that loses its data must never again start as if new".to_owned();
    let step = Step::new(format!("{host}/etcd-note"), Phase::Quorum, what, work);
    draft.push(step.on(&host).because([why]).after([gate]));
}
