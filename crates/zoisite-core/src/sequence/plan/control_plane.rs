//! The control plane and the balancers in front of it: one after another, each ready at its own
//! address before the next is touched.

use super::{Condition, Draft, Part, Share};
use crate::cluster::HostName;

/// What later steps wait for.
pub(super) struct Control {
    /// The last gates of API servers and balancers, in this sequence.
    pub gates: Vec<usize>,
}

const API_SERVER: &str = "zoisite-api-server.service";

pub(super) fn plan(draft: &mut Draft<'_>, quorum: Option<usize>) -> Control {
    let quorum: Vec<usize> = quorum.into_iter().collect();
    let api = api_servers(draft, &quorum);
    let balancers = balancers(draft, &api);
    let gates = if balancers.is_empty() { api } else { balancers };
    Control { gates }
}

/// Whether a part of a host can be brought right without anything that serves being interrupted.
fn quiet(share: &Share<'_>, main: &str) -> bool {
    share.runs(main) && !share.restarts().contains(main)
}

fn api_servers(draft: &mut Draft<'_>, quorum: &[usize]) -> Vec<usize> {
    let shares = draft.shares(Part::ControlPlane);
    let serving = shares.iter().any(|share| share.runs(API_SERVER));
    let mut gates = Vec::new();
    let mut first: Option<usize> = None;
    for share in shares.iter().filter(|share| !share.runs(API_SERVER)) {
        let configured = configure(draft, share);
        let mut needs: Vec<usize> = quorum.to_vec();
        needs.extend(configured);
        // The first one fills an empty etcd; the others then find everything there.
        needs.extend(first.filter(|_| !serving));
        let why = match (serving, first) {
            (false, None) => "the first one fills the empty etcd".to_owned(),
            (false, Some(_)) => "the first one answers".to_owned(),
            (true, _) => "it does not run".to_owned(),
        };
        // Files were put before; what is left is to start the units.
        let started = draft.act(
            share.host(),
            ("control-plane-start", "start API server, controller manager and scheduler"),
            vec![why],
            starts(share, draft.options.patience),
            needs,
        );
        let gate = gate(draft, share.host(), "", vec![started]);
        first.get_or_insert(gate);
        gates.push(gate);
    }
    for share in shares.iter().filter(|share| quiet(share, API_SERVER)) {
        put_right(draft, share);
    }
    let rolling = shares.iter().filter(|share| share.runs(API_SERVER) && !quiet(share, API_SERVER));
    for share in rolling {
        let uploaded = draft.upload(share);
        let needs = uploaded.into_iter().chain(gates.iter().copied()).chain(quorum.iter().copied());
        let needs: Vec<usize> = needs.collect();
        let restarted = draft.act(
            share.host(),
            ("control-plane-restart", "put right what differs, and restart what must"),
            share.why(),
            share.all(|_| true, draft.options.patience),
            needs,
        );
        draft.steps[restarted].disrupts = Some(Part::ControlPlane);
        gates = vec![gate(draft, share.host(), "-after-restart", vec![restarted])];
    }
    gates
}

fn gate(draft: &mut Draft<'_>, host: &HostName, after: &str, needs: Vec<usize>) -> usize {
    draft.gate(
        format!("api-{host}{after}"),
        format!("the API server of {host} is ready at its own address"),
        "the next one waits until it answers".into(),
        Condition::Api { host: host.clone() },
        needs,
    )
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
        (&id, "write configuration and certificates"),
        share.why_but_components(),
        operations,
        uploaded.into_iter().collect(),
    ))
}

/// Starts every unit of a part, and waits for them.
fn starts(share: &Share<'_>, seconds: u32) -> Vec<super::Operation> {
    use super::Operation::{Enable, Restart, Settle, Start};
    let units: Vec<&'static str> = share.blueprint.units_of(share.part).map(|u| u.name).collect();
    let restarts = share.restarts();
    let begin = units.iter().flat_map(|unit| {
        let restart = share.runs(unit) && restarts.contains(unit);
        [Enable(unit), if restart { Restart(unit) } else { Start(unit) }]
    });
    let settle = units.iter().map(|unit| Settle { unit, seconds });
    begin.chain(settle).collect()
}

/// Changes after which nothing that serves is interrupted.
fn put_right(draft: &mut Draft<'_>, share: &Share<'_>) {
    let uploaded = draft.upload(share);
    let operations = share.all(|_| true, draft.options.patience);
    if operations.is_empty() {
        return;
    }
    let id = format!("{}-put-right", share.part);
    draft.act(
        share.host(),
        (&id, "put right what differs"),
        share.why_but_components(),
        operations,
        uploaded.into_iter().collect(),
    );
}

fn balancers(draft: &mut Draft<'_>, api: &[usize]) -> Vec<usize> {
    let unit = crate::blueprint::BALANCER_UNIT;
    let shares = draft.shares(Part::Balancer);
    let mut gates = Vec::new();
    for share in shares.iter().filter(|share| !share.runs(unit)) {
        let mut needs: Vec<usize> = configure(draft, share).into_iter().collect();
        needs.extend_from_slice(api);
        let started = draft.act(
            share.host(),
            ("balancers-start", "start the balancer"),
            vec!["it does not run".into()],
            starts(share, draft.options.patience),
            needs,
        );
        gates.push(forwards(draft, share.host(), "", vec![started]));
    }
    for share in shares.iter().filter(|share| quiet(share, unit)) {
        put_right(draft, share);
    }
    for share in shares.iter().filter(|share| share.runs(unit) && !quiet(share, unit)) {
        let needs: Vec<usize> = gates.iter().chain(api).copied().collect();
        let restarted = draft.act(
            share.host(),
            ("balancers-restart", "put right what differs, and restart the balancer"),
            share.why(),
            share.all(|_| true, draft.options.patience),
            needs,
        );
        draft.steps[restarted].disrupts = Some(Part::Balancer);
        gates = vec![forwards(draft, share.host(), "-after-restart", vec![restarted])];
    }
    gates
}

fn forwards(draft: &mut Draft<'_>, host: &HostName, after: &str, needs: Vec<usize>) -> usize {
    draft.gate(
        format!("balancer-{host}{after}"),
        format!("the balancer on {host} forwards to an API server that is ready"),
        "the stable address leads through it".into(),
        Condition::Stable { from: host.clone(), balancer: true },
        needs,
    )
}
