//! How a service comes up and is changed that a host serves to others: each host ready before the next is touched.

use super::rollout::one_by_one;
use super::{Draft, Part, Phase, Share};
use crate::cluster::{HostName, Role};
use crate::holdings::ADDRESS_UNIT;
use crate::script::Operation;

/// A service that many hosts share, of which one may be away at a time.
pub(super) struct Service {
    pub part: Part,
    /// The unit whose restart interrupts what the host serves.
    pub main: &'static str,
    /// What starting a host's units is, in a few words.
    pub starting: &'static str,
    /// What restarting them is.
    pub restarting: &'static str,
    /// The first one ever starts alone: why, and why the others wait for it.
    pub first_alone: Option<(&'static str, &'static str)>,
    /// Adds the gate at which a host answers; the words are the end of the gate's name.
    pub gate: fn(&mut Draft<'_>, &HostName, &str, Vec<usize>) -> usize,
}

/// Starts what does not run, puts right what needs no interruption, and restarts the others one after
/// another, each ready before the next. Returns the last gates.
pub(super) fn service(draft: &mut Draft<'_>, service: &Service, before: &[usize]) -> Vec<usize> {
    let shares = draft.shares(service.part);
    let (running, absent): (Vec<_>, Vec<_>) =
        shares.iter().partition(|share| share.runs(service.main));
    let rolls = |share: &&Share<'_>| share.restarts().iter().any(|unit| share.runs(unit));
    let part = service.part;
    let alone = service.first_alone.filter(|_| running.is_empty() && !filled(draft));
    let (rolling, quiet): (Vec<_>, Vec<_>) = running.into_iter().partition(rolls);
    let mut gates = Vec::new();
    for share in absent {
        let configured = configure(draft, share);
        let mut needs: Vec<usize> = before.iter().copied().chain(configured).collect();
        let why = match (alone, gates.first()) {
            (None, _) => "it does not run",
            (Some((first, _)), None) => first,
            (Some((_, others)), Some(gate)) => {
                needs.push(*gate);
                others
            }
        };
        let id = format!("{part}-start");
        let operations = starts(share, draft.options.timeout);
        let what = (Phase::of(part), id.as_str(), service.starting);
        let started = draft.act(share.host(), what, vec![why.to_owned()], operations, needs);
        gates.push((service.gate)(draft, share.host(), "", vec![started]));
    }
    for share in quiet {
        draft.put_right(share, "put right what differs");
    }
    let restart = |draft: &mut Draft<'_>, share: &&Share<'_>, after: &[usize]| {
        let uploaded = draft.upload(share);
        let needs = uploaded.iter().chain(after).chain(before).copied().collect();
        let id = format!("{part}-restart");
        let operations = aside(draft, share, share.all(|_| true, draft.options.timeout));
        let what = (Phase::of(part), id.as_str(), service.restarting);
        let restarted = draft.act(share.host(), what, share.why(), operations, needs);
        draft.steps[restarted].disrupts.insert(part);
        restarted
    };
    let gate = |draft: &mut Draft<'_>, share: &&Share<'_>, restarted| {
        (service.gate)(draft, share.host(), "-after-restart", vec![restarted])
    };
    one_by_one(draft, &rolling, gates, restart, gate)
}

/// Whether etcd holds what a first API server fills it with: a quorum that was only proven has a few revisions.
fn filled(draft: &Draft<'_>) -> bool {
    const PROVEN_ALONE: i64 = 100;
    let looked = draft.input.looks.values().filter_map(|look| look.as_ref().ok());
    let revisions = looked.filter_map(|seen| Some(seen.etcd.status.as_ref()?.revision));
    revisions.max().is_some_and(|revision| revision > PROVEN_ALONE)
}

/// Puts everything but starts nothing.
fn configure(draft: &mut Draft<'_>, share: &Share<'_>) -> Option<usize> {
    let uploaded = draft.upload(share);
    let operations = share.puts();
    if operations.is_empty() {
        return uploaded;
    }
    let id = format!("{}-configure", share.part);
    Some(draft.act(
        share.host(),
        (Phase::Configuration, &id, "write configuration and certificates"),
        share.why_but_components(),
        operations,
        uploaded.into_iter().collect(),
    ))
}

/// Starts every unit of a part, and waits for them.
fn starts(share: &Share<'_>, seconds: u32) -> Vec<Operation> {
    use Operation::{Enable, Restart, Settle, Start};
    let units: Vec<_> = share.holdings.units_of(share.part).collect();
    let restarts = share.restarts();
    let begin = units.iter().flat_map(|unit| {
        let restart = share.runs(unit.name) && restarts.contains(unit.name);
        [Enable(unit.name), if restart { Restart(unit.name) } else { Start(unit.name) }]
    });
    // The others dial the API server, and come and go until it is ready: its own gate is what counts.
    let settle = units.iter().map(|unit| Settle { unit: unit.name, port: None, seconds });
    begin.chain(settle).collect()
}

/// What interrupts what a host serves at the virtual IP is done while another one holds it (rule S2).
fn aside(draft: &Draft<'_>, share: &Share<'_>, operations: Vec<Operation>) -> Vec<Operation> {
    let serves = match draft.input.cluster.front() {
        Role::LoadBalancer => Part::LoadBalancer,
        _ => Part::ControlPlane,
    };
    let interrupts = share.part == serves && share.runs(ADDRESS_UNIT) && !share.only_reloads();
    match share.holdings.address.filter(|_| interrupts) {
        None => operations,
        Some(address) => std::iter::once(Operation::GiveAway(address))
            .chain(operations)
            .chain([Operation::TakePart])
            .collect(),
    }
}
