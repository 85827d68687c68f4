//! The control plane and the load balancers in front of it: one after another, each ready at its own
//! address before the next is touched.

use super::service::{Service, service};
use super::{Condition, Draft, Part, Phase, Share};
use crate::cluster::HostName;
use crate::holdings::{ADDRESS_UNIT, API_SERVER_UNIT, LOAD_BALANCER_UNIT};
use crate::script::Operation;

const API_SERVERS: Service = Service {
    part: Part::ControlPlane,
    main: API_SERVER_UNIT,
    starting: "start API server, controller manager and scheduler",
    restarting: "put right what differs, and restart what must",
    // It fills an empty etcd; the others then find everything there.
    first_alone: Some(("the first one fills the empty etcd", "the first one answers")),
    gate: answers,
};

const LOAD_BALANCERS: Service = Service {
    part: Part::LoadBalancer,
    main: LOAD_BALANCER_UNIT,
    starting: "start the load balancer",
    restarting: "put right what differs, and restart the load balancer",
    first_alone: None,
    gate: forwards,
};

const ADDRESS: Service = Service {
    part: Part::Address,
    main: ADDRESS_UNIT,
    starting: "begin to hold the virtual IP, one host at a time",
    restarting: "put right what differs, and restart what holds the virtual IP",
    first_alone: None,
    gate: leads,
};

/// Plans for control planes, load balancers, then the virtual IP in front of them. Returns the last gates, for which later steps wait.
pub(super) fn plan(draft: &mut Draft<'_>, quorum: Option<usize>) -> Vec<usize> {
    let mut quorum: Vec<usize> = quorum.into_iter().collect();
    quorum.extend(take_part(draft));
    let api = service(draft, &API_SERVERS, &quorum);
    let load_balancers = service(draft, &LOAD_BALANCERS, &api);
    let mut before = if load_balancers.is_empty() { api } else { load_balancers };
    let address = service(draft, &ADDRESS, &before);
    before.extend(address);
    before
}

/// Runs that were cut off may have left it to others on every host that can hold it: then nobody does, and nothing
/// else can go on.
fn take_part(draft: &mut Draft<'_>) -> Vec<usize> {
    let shares = draft.shares(Part::Address);
    let away = |share: &&Share<'_>| share.observed.address.as_ref().is_some_and(|one| one.away);
    let hosts: Vec<HostName> =
        shares.iter().filter(away).map(|share| share.host().clone()).collect();
    let back = hosts.iter().map(|host| {
        let what = "take part in holding the virtual IP again";
        let step = (Phase::Address, "address-back", what);
        let why = vec!["a run that was cut off left it to others".to_owned()];
        draft.act(host, step, why, vec![Operation::TakePart], Vec::new())
    });
    back.collect()
}

fn answers(draft: &mut Draft<'_>, host: &HostName, after: &str, needs: Vec<usize>) -> usize {
    draft.gate(
        (Phase::ControlPlane, format!("api-{host}{after}")),
        format!("the API server of {host} is ready at its own address"),
        "the next one waits until it answers".into(),
        Condition::Api { host: host.clone() },
        needs,
    )
}

fn leads(draft: &mut Draft<'_>, host: &HostName, after: &str, needs: Vec<usize>) -> usize {
    draft.gate(
        (Phase::Address, format!("address-{host}{after}")),
        format!("the API endpoint answers for this cluster, asked from {host}"),
        "one of its holders has it and can serve there".into(),
        Condition::Stable { from: host.clone(), load_balancer: false },
        needs,
    )
}

fn forwards(draft: &mut Draft<'_>, host: &HostName, after: &str, needs: Vec<usize>) -> usize {
    draft.gate(
        (Phase::LoadBalancers, format!("load-balancer-{host}{after}")),
        format!("the load balancer on {host} forwards to an API server that is ready"),
        "the API endpoint leads through it".into(),
        Condition::Stable { from: host.clone(), load_balancer: true },
        needs,
    )
}
