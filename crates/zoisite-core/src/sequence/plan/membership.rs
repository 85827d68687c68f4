//! A change of who is a member of the quorum: one in a stage (rule S1).

use super::etcd::{Member, configure, mark_formed, quorum};
use super::{Draft, MemberWork, Operation, Part, Phase, Share, Step, Work};
use crate::aim::{Arm, Health, Why};
use crate::cluster::HostName;
use crate::holdings::{ETCD_CONFIG, EtcdPaths};
use crate::item::Item;
use crate::sequence::real::health;

/// Plans the change of this stage. API servers were told first (`control` are their gates) where a member leaves that
/// they dial.
pub(super) fn plan(draft: &mut Draft<'_>, control: &[usize]) {
    let arm = draft.input.aim.arm.clone();
    match &arm {
        // The last one is another quorum, not a change of this one.
        Arm::File
        | Arm::Mesh { .. }
        | Arm::Fix
        | Arm::Trust { .. }
        | Arm::Restore { .. }
        | Arm::AcceptKey { .. }
        | Arm::RewriteBy { .. } => {}
        Arm::Learn { host, url, old_data } => learn(draft, host, url, *old_data),
        Arm::Promote { host, id } => promote(draft, host, id),
        Arm::Uninstall { id, who } => {
            let why =
                "it has no vote yet, and its data is gone or the file does not name it".to_owned();
            remove(draft, (id, who, true), why, Vec::new());
        }
        Arm::Remove { id, who, why } => {
            let why = match why {
                Why::Unwanted => "the file does not name it any more",
                Why::Dead => "the file does not name it any more, and it does not serve",
                Why::Lost => "its data is gone: it comes back as a new member",
            };
            remove(draft, (id, who, false), why.to_owned(), control.to_vec());
        }
        Arm::Move { host, id, url, .. } => relocate(draft, host, id, url),
        Arm::Aside { host } => aside(draft, host),
    }
}

/// Certificates and keys of the other members are put right first: who comes, or comes back elsewhere, is to trust
/// them, and they it. etcd reads them at every handshake, so that nothing restarts.
fn trusted(draft: &mut Draft<'_>, host: &HostName) -> Vec<usize> {
    let shares = draft.shares(Part::Etcd);
    let mut steps = Vec::new();
    // A host without a member's data has nobody there who could show anything.
    let shows = |share: &&Share<'_>| share.host() != host && share.observed.etcd.data;
    for share in shares.iter().filter(shows) {
        let mut puts = share.puts();
        puts.retain(|put| matches!(put, Operation::Put(Item::Pair(_))));
        if puts.is_empty() {
            continue;
        }
        let what = "put certificates and keys right that other members are shown";
        let why = vec![format!("{host} is to trust it")];
        let step = (Phase::Quorum, "etcd-trusted", what);
        steps.push(draft.act(share.host(), step, why, puts, Vec::new()));
    }
    steps
}

/// The voters that are known to be well and can be dialled, but for one.
pub(super) fn well(draft: &Draft<'_>, but: Option<&str>) -> Vec<HostName> {
    let well = draft.input.real.well();
    well.filter(|member| but != Some(member.id.as_str()))
        .filter_map(|member| HostName::new(&member.name).ok())
        .filter(|host| draft.input.cluster.host(host).is_some())
        .collect()
}

/// The host's share; none where it was left out meanwhile.
pub(super) fn member<'a>(draft: &Draft<'a>, host: &HostName) -> Option<Member<'a>> {
    let share = draft.shares(Part::Etcd).into_iter().find(|share| share.host() == host)?;
    let paths = share.holdings.etcd.as_ref()?;
    let health = health(share.observed, false);
    Some(Member { share, paths, health })
}

fn changes(
    draft: &mut Draft<'_>,
    (host, id, what): (Option<&HostName>, String, String),
    why: String,
    work: MemberWork,
    through: Vec<HostName>,
    needs: Vec<usize>,
) -> usize {
    let seconds = draft.options.timeout;
    let work = Work::Member { work, through, seconds };
    let mut step = Step::new(id, Phase::Quorum, what, work).because([why]).after(needs);
    step.host = host.cloned();
    draft.push(step)
}

fn before(draft: &mut Draft<'_>, members: Vec<HostName>, needs: Vec<usize>) -> usize {
    let why = "members change only while the quorum carries a write".to_owned();
    quorum(draft, members, "quorum", why, needs)
}

/// Rule S10: before a step that could lose what etcd holds, it is saved in this run, checked, and off the hosts.
pub(super) fn save_first(
    draft: &mut Draft<'_>,
    through: &[HostName],
    before: String,
    needs: Vec<usize>,
) -> usize {
    let work = Work::Save { through: through.to_vec(), why: format!("before {before}") };
    let what = "save a snapshot here, and check it";
    let why = "what could go wrong next must not be able to lose data (rule S10)".to_owned();
    draft.push(Step::new("snapshot", Phase::Quorum, what, work).because([why]).after(needs))
}

fn learn(draft: &mut Draft<'_>, host: &HostName, url: &str, old_data: bool) {
    let Some(member) = member(draft, host) else { return };
    let mut needs = trusted(draft, host);
    let spent = old_data || member.share.observed.etcd.formed.is_some();
    let first = spent.then(|| set_aside(member.paths, None));
    let configured = configure(draft, &member, first);
    let others = well(draft, None);
    needs.push(configured);
    needs.push(before(draft, others.clone(), Vec::new()));
    let learns = changes(
        draft,
        (
            Some(host),
            format!("{host}/etcd-learn"),
            "let it into the quorum as a learner".to_owned(),
        ),
        "a learner takes everything and has no vote: it cannot cost the quorum".to_owned(),
        MemberWork::Learn { host: host.clone(), url: url.to_owned() },
        others,
        needs,
    );
    start(draft, &member, vec![learns]);
}

fn start(draft: &mut Draft<'_>, member: &Member<'_>, needs: Vec<usize>) -> usize {
    let unit = member.paths.unit;
    let begin = match member.must_restart() {
        true => Operation::Restart(unit),
        false => Operation::Start(unit),
    };
    let settle = Operation::Settle { unit, port: None, seconds: draft.options.timeout };
    draft.act(
        member.share.host(),
        (Phase::Quorum, "etcd-start", "start the etcd member, and wait until it is ready"),
        vec!["it learns from the others what they hold".to_owned()],
        vec![Operation::Enable(unit), begin, settle],
        needs,
    )
}

fn promote(draft: &mut Draft<'_>, host: &HostName, id: &str) {
    let Some(member) = member(draft, host) else { return };
    let mut needs = trusted(draft, host);
    if member.health != Health::Well || !member.share.differences.is_empty() {
        let configured = configure(draft, &member, None);
        needs.push(configured);
        needs = vec![start(draft, &member, needs)];
    }
    let others = well(draft, None);
    needs.push(before(draft, others.clone(), Vec::new()));
    let promoted = changes(
        draft,
        (
            Some(host),
            format!("{host}/etcd-promote"),
            "wait until it has what the leader has, and give it its vote".to_owned(),
        ),
        "one that does not catch up in time is removed".to_owned(),
        MemberWork::Promote { host: host.clone(), id: id.to_owned() },
        others.clone(),
        needs,
    );
    let all = others.into_iter().chain([host.clone()]).collect();
    let why = format!("{host} must carry the quorum with the others");
    let proven = quorum(draft, all, &format!("quorum-with-{host}"), why, vec![promoted]);
    mark_formed(draft, &member, proven);
}

fn remove(
    draft: &mut Draft<'_>,
    (id, who, learner): (&str, &str, bool),
    why: String,
    needs: Vec<usize>,
) {
    let others = well(draft, Some(id));
    let mut carries = vec![before(draft, others.clone(), needs)];
    // One without a vote takes nothing with it.
    if !learner {
        carries =
            vec![save_first(draft, &others, format!("taking {who} out of the quorum"), carries)];
    }
    let host = HostName::new(who).ok();
    let name = host.as_ref().map_or_else(|| id.to_owned(), ToString::to_string);
    let removed = changes(
        draft,
        (host.as_ref(), format!("{name}/etcd-remove"), "take it out of the quorum".to_owned()),
        why,
        MemberWork::Remove { id: id.to_owned(), who: who.to_owned(), learner },
        others.clone(),
        carries,
    );
    let why = format!("the others must carry the quorum without {who}");
    quorum(draft, others, &format!("quorum-without-{name}"), why, vec![removed]);
}

fn relocate(draft: &mut Draft<'_>, host: &HostName, id: &str, url: &str) {
    let Some(member) = member(draft, host) else { return };
    let mut needs = trusted(draft, host);
    let configured = configure(draft, &member, None);
    let others = well(draft, Some(id));
    // The only member of a quorum answers for itself.
    let through = if others.is_empty() { vec![host.clone()] } else { others.clone() };
    needs.push(configured);
    needs.push(before(draft, through.clone(), Vec::new()));
    let moved = changes(
        draft,
        (Some(host), format!("{host}/etcd-move"), format!("have the others reach it at {url}")),
        "the file says so".to_owned(),
        MemberWork::Move { host: host.clone(), id: id.to_owned(), url: url.to_owned() },
        through,
        needs,
    );
    let unit = member.paths.unit;
    let settle = Operation::Settle { unit, port: None, seconds: draft.options.timeout };
    let restarted = draft.act(
        host,
        (Phase::Quorum, "etcd-restart", "restart the member, which listens there then"),
        vec![format!("it must listen at {url}")],
        vec![Operation::Enable(unit), Operation::Restart(unit), settle],
        vec![moved],
    );
    draft.steps[restarted].disrupts.insert(Part::Etcd);
    let all = others.into_iter().chain([host.clone()]).collect();
    let why = format!("{host} must be back before anything else is changed");
    quorum(draft, all, &format!("quorum-after-{host}"), why, vec![restarted]);
}

fn aside(draft: &mut Draft<'_>, host: &HostName) {
    let paths = EtcdPaths::of(draft.input.cluster, None, draft.input.identity);
    draft.act(
        host,
        (Phase::Quorum, "etcd-aside", "stop what is left of the member, and move its data aside"),
        vec![
            "it is no member any more: its data is never started again, and never deleted"
                .to_owned(),
        ],
        vec![set_aside(&paths, Some(ETCD_CONFIG))],
        Vec::new(),
    );
}

pub(super) fn set_aside(paths: &EtcdPaths, config: Option<&'static str>) -> Operation {
    Operation::SetAside {
        unit: paths.unit,
        folder: paths.folder.clone(),
        formed_mark: paths.formed_mark.clone(),
        config,
    }
}
