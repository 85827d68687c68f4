//! The mesh: each host with its key and its peers, then the others met before anything else begins there.

use std::collections::BTreeMap;

use super::{Condition, Draft, Part, Phase, When, Work};
use crate::aim::Arm;
use crate::cluster::HostName;

/// The step of each host that is told of its peers, after which it meets them.
pub(super) fn plan(draft: &mut Draft<'_>) -> BTreeMap<HostName, usize> {
    let shares = draft.shares(Part::Mesh);
    // Hosts that only wait for something from the others need not find each other now.
    let cluster = draft.input.cluster;
    let answered = shares.iter().map(|share| share.host());
    let sought: Vec<HostName> =
        answered.filter(|host| cluster.is_depended_on(host)).cloned().collect();
    let mut told = Vec::new();
    for share in &shares {
        // Those that are connected stay so: all at once.
        let what = "tell it of its peers in the mesh";
        told.extend(draft.put_right(share, what).map(|step| (share.host().clone(), step)));
    }
    // Where keys are still to be made, nobody can be met yet.
    if matches!(draft.input.aim.arm, Arm::Mesh { .. }) {
        return BTreeMap::new();
    }
    let mut met = BTreeMap::new();
    for (host, step) in told {
        let others: Vec<HostName> =
            sought.iter().filter(|other| cluster.meet_in_mesh(&host, other)).cloned().collect();
        if others.is_empty() {
            continue;
        }
        let gate = draft.gate(
            (Phase::Mesh, format!("{host}/meets")),
            format!("{host} meets {} through the mesh", hosts(&others)),
            "all else goes through it".into(),
            Condition::Meets { host: host.clone(), others },
            vec![step],
        );
        met.insert(host, gate);
    }
    met
}

fn hosts(all: &[HostName]) -> String {
    match all {
        [one] => one.to_string(),
        [one, other] => format!("{one} and {other}"),
        more => format!("{} others", more.len()),
    }
}

/// Whatever else is done on a host comes after it met the others.
pub(super) fn first(draft: &mut Draft<'_>, met: &BTreeMap<HostName, usize>) {
    for step in &mut draft.steps {
        let there = matches!(step.work, Work::Act(_) | Work::Upload { .. });
        let before = matches!(step.phase, Phase::Preparation | Phase::Mesh);
        if let Some(gate) = step.host.as_ref().and_then(|host| met.get(host))
            && there
            && !before
            && step.when != When::Begun
        {
            step.needs.push(*gate);
        }
    }
}
