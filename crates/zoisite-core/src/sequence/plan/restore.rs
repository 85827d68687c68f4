//! Another quorum from a snapshot: everything is made beside what stands before anything stops, nobody serves while it
//! begins, and nothing of what was is deleted.

use std::collections::{BTreeMap, BTreeSet};

use super::etcd::{Member, configure, mark_formed, quorum};
use super::membership::{member, save_first, set_aside, well};
use super::{Draft, Operation, Phase, PlanInput, Step, Trouble, Work};
use crate::aim::Restoring;
use crate::cluster::HostName;
use crate::holdings::{
    API_SERVER_UNIT, CONTROLLER_MANAGER_UNIT, ETCD_CONFIG, EtcdPaths, SCHEDULER_UNIT,
    cluster_token, etcd_folder,
};
use crate::item::{Component, Pinned};
use crate::script::{MadeData, Observed};
use crate::snapshot::SNAPSHOT;
use crate::text::digest;

/// Revisions of each quorum begin so far behind those of the one before it: more than that is never written. Who watches
/// has seen none of them, and must look again.
const REVISIONS: u64 = 100_000_000_000;
/// Where one is brought to. The folder above it is closed to everybody but root.
const BROUGHT: &str = "/var/lib/zoisite/put-back";

/// Plans it, from wherever an earlier run was cut off.
pub(super) fn plan(draft: &mut Draft<'_>, members: &BTreeMap<HostName, String>, from: &Restoring) {
    let begin: Vec<Member<'_>> = members.keys().filter_map(|host| member(draft, host)).collect();
    // One that was left out meanwhile could serve on beside the others.
    if begin.len() < members.len() {
        return;
    }
    let mut ready = save(draft, from);
    for member in &begin {
        let made = made(draft, member, members, from);
        ready.extend(make(draft, member, made, from));
    }
    let silent = stop_who_dials(draft, &ready);
    let aside = all_aside(draft, from, &silent);
    let begun: Vec<usize> = begin
        .iter()
        .map(|member| {
            let made = made(draft, member, members, from);
            start(draft, member, made, &aside)
        })
        .collect();
    let hosts: Vec<HostName> = members.keys().cloned().collect();
    let why = "API servers connect to it, and others learn from it".to_owned();
    let proven = quorum(draft, hosts, "quorum", why, begun);
    for member in &begin {
        mark_formed(draft, member, proven);
    }
}

/// Whatever is lost by it is kept, where somebody still has it (rule S10).
fn save(draft: &mut Draft<'_>, from: &Restoring) -> Vec<usize> {
    let serving = well(draft, None);
    if serving.is_empty() {
        return Vec::new();
    }
    let before = format!("putting {} back", from.snapshot);
    vec![save_first(draft, &serving, before, Vec::new())]
}

/// Whether a host's data is made of this snapshot already, and stands in its place.
fn in_place(observed: &Observed, epoch: u32) -> bool {
    observed.etcd.data && observed.etcd.epoch == Some(epoch)
}

fn made(
    draft: &Draft<'_>,
    member: &Member<'_>,
    members: &BTreeMap<HostName, String>,
    from: &Restoring,
) -> MadeData {
    let (cluster, paths) = (draft.input.cluster, member.paths);
    let bump = REVISIONS * u64::from(from.epoch.saturating_sub(from.of_epoch));
    // What an earlier try made of another snapshot, or for other members, is not taken for it.
    let of = digest(&format!("{} {bump} {members:?}", from.sha256));
    MadeData {
        program: format!("{}/etcdutl", etcd_folder(cluster)),
        snapshot: format!("{BROUGHT}/{}", from.snapshot),
        folder: paths.folder.clone(),
        made: format!("{}/made-{}-{}", paths.folder, from.epoch, &of[..12]),
        data: paths.data.clone(),
        epoch: from.epoch,
        mark: paths.epoch_mark.clone(),
        bump,
        name: member.share.holdings.host.clone(),
        members: members.clone(),
        token: cluster_token(cluster, draft.input.identity, from.epoch),
        user: paths.user,
    }
}

/// Brings the snapshot, configures the member, and makes its data beside what stands.
fn make(
    draft: &mut Draft<'_>,
    member: &Member<'_>,
    made: MadeData,
    from: &Restoring,
) -> Vec<usize> {
    let configured = configure(draft, member, None);
    if in_place(member.share.observed, from.epoch) {
        return vec![configured];
    }
    let arch = &member.share.observed.arch;
    let brought = bring(draft, (&made.name, arch), &made, from);
    let step = (Phase::Quorum, "etcd-make-data", "make the member's data from the snapshot");
    let why = vec!["it is made beside what stands: until it is whole nothing stops".to_owned()];
    let needs = brought.into_iter().chain([configured]).collect();
    let host = made.name.clone();
    vec![draft.act(&host, step, why, vec![Operation::MakeData(Box::new(made))], needs)]
}

/// Brings the snapshot, and etcd's program that reads it.
fn bring(
    draft: &mut Draft<'_>,
    (host, arch): (&HostName, &str),
    made: &MadeData,
    from: &Restoring,
) -> Option<usize> {
    let version = draft.input.cluster.etcd_version.to_string();
    let pinned = Pinned { name: "etcd", version, file: "etcdutl" };
    let sums = draft.input.sums;
    let sum = match sums.sha256(&pinned, arch) {
        None if sums.are_known() => {
            let answer = format!("nothing pins {pinned} for {arch}, which makes a member's data");
            let attempted = "putting a snapshot back";
            let trouble = Trouble::new(Some(host.clone()), attempted, answer, Vec::new());
            let fix = format!("zoisite components fetch --arch {arch} brings and pins it");
            draft.none.troubles.push(trouble.fix(fix));
            return None;
        }
        sum => sum.unwrap_or_default().to_owned(),
    };
    let program = Component { path: made.program.clone(), pinned, restarts: None };
    let pinned = Pinned { name: SNAPSHOT, version: from.snapshot.clone(), file: "stream" };
    let stream = Component { path: made.snapshot.clone(), pinned, restarts: None };
    let components = vec![(program, sum), (stream, from.sha256.clone())];
    let work = Work::Upload { host: host.clone(), components };
    let what = format!("bring snapshot {}", from.snapshot);
    let step = Step::new(format!("{host}/etcd-snapshot"), Phase::Components, what, work);
    let why = "it is brought and read before anything stops".to_owned();
    Some(draft.push(step.on(host).because([why])))
}

/// API servers, and what is beside them, know what was: they are started again when the quorum stands. What they have
/// under way is lost with all that was written since the snapshot.
fn stop_who_dials(draft: &mut Draft<'_>, needs: &[usize]) -> Vec<usize> {
    let units = [API_SERVER_UNIT, CONTROLLER_MANAGER_UNIT, SCHEDULER_UNIT];
    let mut steps = needs.to_vec();
    for host in &draft.input.cluster.control_plane.hosts {
        if !matches!(draft.input.looks.get(host), Some(Ok(_))) {
            continue;
        }
        let what = "stop API server, controller manager and scheduler";
        let why = vec!["they know what was, and must not write it to what comes".to_owned()];
        let stops = units.into_iter().map(Operation::Stop).collect();
        let step = (Phase::ControlPlane, "control-plane-stop", what);
        steps.push(draft.act(host, step, why, stops, needs.to_vec()));
    }
    steps
}

/// Whoever is a member by the record or by this stage, or was one and may have left something.
pub(super) fn members(input: &PlanInput<'_>) -> BTreeSet<HostName> {
    let known = input.begun.into_iter().flat_map(|begun| begun.members.keys().chain(&begun.left));
    known.chain(&input.cluster.etcd.members).cloned().collect()
}

/// Every member stops, and its data goes aside; of those that do not begin also what they would start with.
fn all_aside(draft: &mut Draft<'_>, from: &Restoring, needs: &[usize]) -> Vec<usize> {
    let mut steps = needs.to_vec();
    let paths = EtcdPaths::of(draft.input.cluster, None, draft.input.identity);
    for host in members(&draft.input) {
        let Some(Ok(observed)) = draft.input.looks.get(&host) else { continue };
        if in_place(observed, from.epoch) {
            continue;
        }
        let what = "stop the member, and move its data aside";
        let why = "nothing of it may serve beside what comes; it is never deleted".to_owned();
        let step = (Phase::Quorum, "etcd-aside", what);
        let begins = from.hosts.contains(&host);
        let aside = vec![set_aside(&paths, (!begins).then_some(ETCD_CONFIG))];
        steps.push(draft.act(&host, step, vec![why], aside, needs.to_vec()));
    }
    steps
}

/// A member begins with what was made for it. It never starts without: the others would take it for what it is not.
fn start(draft: &mut Draft<'_>, member: &Member<'_>, made: MadeData, needs: &[usize]) -> usize {
    let unit = member.paths.unit;
    let (host, stands) = (made.name.clone(), in_place(member.share.observed, made.epoch));
    let why = format!("quorum {} of this cluster begins with it", made.epoch);
    let mut operations = Vec::new();
    if !stands {
        operations.push(Operation::TakeData(Box::new(made)));
    }
    // It reads its certificates and its configuration as they are now.
    let runs_on = stands && !member.must_restart();
    operations.push(Operation::Enable(unit));
    operations.push(if runs_on { Operation::Start(unit) } else { Operation::Restart(unit) });
    operations.push(Operation::Settle { unit, port: None, seconds: draft.options.timeout });
    let what = "put the data in its place, and start the member that begins with it";
    let step = (Phase::Quorum, "etcd-begin", what);
    draft.act(&host, step, vec![why], operations, needs.to_vec())
}
