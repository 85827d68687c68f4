//! Another quorum from a snapshot: nobody serves while it begins, nothing of what was is deleted, and one member proves
//! it before the others learn from it.

use super::etcd::{configure, mark_formed, quorum};
use super::membership::{member, save_first, set_aside, well};
use super::{Draft, Operation, Phase, Step, Trouble, Work};
use crate::aim::Restoring;
use crate::cluster::HostName;
use crate::holdings::{
    API_SERVER_UNIT, CONTROLLER_MANAGER_UNIT, ETCD_CONFIG, EtcdPaths, SCHEDULER_UNIT,
    cluster_token, etcd_folder,
};
use crate::item::{Component, Pinned};
use crate::script::MadeData;

/// What a snapshot is called among the components that are brought: the run opens it where it is kept.
pub const SNAPSHOT: &str = "snapshot";
/// Where one is brought to. The folder above it is closed to everybody but root.
const BROUGHT: &str = "/var/lib/zoisite/put-back";

/// Plans it, from wherever an earlier run was cut off.
pub(super) fn plan(draft: &mut Draft<'_>, url: &str, from: &Restoring) {
    let Some(member) = member(draft, &from.host) else { return };
    let host = &from.host;
    let etcd = &member.share.observed.etcd;
    let in_place = etcd.epoch == Some(from.epoch) && etcd.data;
    let made = made(draft, member.paths, url, from);
    let mut needs = Vec::new();
    if !in_place {
        // Whatever is lost by it is kept: what is not in the snapshot too, where somebody still has it (rule S10).
        let serving = well(draft, None);
        if !serving.is_empty() {
            let before = format!("putting {} back", from.snapshot);
            needs.push(save_first(draft, &serving, before, Vec::new()));
        }
        needs.extend(bring(draft, &member.share.observed.arch, &made, from));
    }
    let configured = configure(draft, &member, None);
    needs.push(configured);
    if !in_place {
        let step = (Phase::Quorum, "etcd-make-data", "make a member's data from the snapshot");
        let why = vec!["it is made beside what stands: until it is whole nothing stops".to_owned()];
        needs = vec![draft.act(host, step, why, vec![Operation::MakeData(made.clone())], needs)];
    }
    let silent = stop_who_dials(draft, &needs);
    let aside = others_aside(draft, from, &silent);
    let mut operations = Vec::new();
    if !in_place {
        operations.push(set_aside(member.paths, None));
        operations.push(Operation::TakeData(made));
    }
    let unit = member.paths.unit;
    // It reads its certificates and its configuration as they are now.
    let runs_on = in_place && !member.must_restart();
    operations.push(Operation::Enable(unit));
    operations.push(if runs_on { Operation::Start(unit) } else { Operation::Restart(unit) });
    operations.push(Operation::Settle { unit, port: None, seconds: draft.options.patience });
    let what = "put the data in its place, and start the member that begins with it";
    let why = format!("quorum {} of this cluster begins with {}", from.epoch, from.snapshot);
    let begun = draft.act(host, (Phase::Quorum, "etcd-begin", what), vec![why], operations, aside);
    let why = "the others learn from it, and API servers dial it".to_owned();
    let proven = quorum(draft, vec![host.clone()], "quorum", why, vec![begun]);
    mark_formed(draft, &member, proven);
}

fn made(draft: &Draft<'_>, paths: &EtcdPaths, url: &str, from: &Restoring) -> Box<MadeData> {
    let cluster = draft.input.cluster;
    Box::new(MadeData {
        program: format!("{}/etcdutl", etcd_folder(cluster)),
        snapshot: format!("{BROUGHT}/{}", from.snapshot),
        folder: paths.folder.clone(),
        data: paths.data.clone(),
        epoch: from.epoch,
        mark: paths.epoch_mark.clone(),
        name: from.host.clone(),
        url: url.to_owned(),
        token: cluster_token(cluster, draft.input.identity, from.epoch),
        user: paths.user,
    })
}

/// Brings the snapshot, and etcd's program that reads it.
fn bring(draft: &mut Draft<'_>, arch: &str, made: &MadeData, from: &Restoring) -> Option<usize> {
    let version = draft.input.cluster.etcd_version.to_string();
    let pinned = Pinned { name: "etcd", version, file: "etcdutl" };
    let sums = draft.input.sums;
    let sum = match sums.sha256(&pinned, arch) {
        None if sums.are_known() => {
            let answer = format!("nothing pins {pinned} for {arch}, which makes a member's data");
            let trouble = Trouble::new(
                Some(from.host.clone()),
                "putting a snapshot back",
                answer,
                Vec::new(),
            );
            let mend = format!("zoisite components fetch --arch {arch} brings and pins it");
            draft.none.troubles.push(trouble.mend(mend));
            return None;
        }
        sum => sum.unwrap_or_default().to_owned(),
    };
    let program = Component { path: made.program.clone(), pinned, restarts: None };
    let pinned = Pinned { name: SNAPSHOT, version: from.snapshot.clone(), file: "stream" };
    let stream = Component { path: made.snapshot.clone(), pinned, restarts: None };
    let components = vec![(program, sum), (stream, from.sha256.clone())];
    let work = Work::Upload { host: from.host.clone(), components };
    let what = format!("bring snapshot {}", from.snapshot);
    let step = Step::new(format!("{}/etcd-snapshot", from.host), Phase::Components, what, work);
    let why = "it is brought and read before anything stops".to_owned();
    Some(draft.push(step.on(&from.host).because([why])))
}

/// API servers, and what is beside them, know what was: they are started anew when the quorum stands.
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

/// Every other member's data goes aside, with what it would start with.
fn others_aside(draft: &mut Draft<'_>, from: &Restoring, needs: &[usize]) -> Vec<usize> {
    let mut steps = needs.to_vec();
    let begun = draft.input.begun.into_iter();
    let mut members: Vec<HostName> = begun
        .flat_map(|begun| begun.members.keys().chain(&begun.left))
        .chain(&draft.input.cluster.etcd.members)
        .filter(|host| **host != from.host)
        .cloned()
        .collect();
    members.sort();
    members.dedup();
    let paths = EtcdPaths::of(draft.input.cluster, None, draft.input.identity);
    for host in members {
        if !matches!(draft.input.looks.get(&host), Some(Ok(_))) {
            continue;
        }
        let what = "stop the member, and move its data aside";
        let why = "nothing of it may serve beside what comes; it is never deleted".to_owned();
        let step = (Phase::Quorum, "etcd-aside", what);
        let aside = vec![set_aside(&paths, Some(ETCD_CONFIG))];
        steps.push(draft.act(&host, step, vec![why], aside, needs.to_vec()));
    }
    steps
}
