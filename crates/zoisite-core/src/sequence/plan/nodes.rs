//! Nodes and what runs in the cluster: prepared, joined by token, kept right.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use super::{
    ApiObject, Condition, Draft, NodeFacts, NodePut, NodeWanted, Part, Phase, Share, Step, Taint,
    When, Work,
};
use crate::cluster::{HostName, PodsBy, Signer};
use crate::holdings::{KUBELET_UNIT, TOKEN_PATH};
use crate::item::{Content, Directory, File, Item};
use crate::pki::SecretRef;
use crate::script::{Identity, Operation};
use crate::sequence::rules;
use crate::sequence::step::ApiWork;
use crate::token::TokenRecord;

pub(super) fn plan(draft: &mut Draft<'_>, control: &[usize]) {
    let input = draft.input;
    if !input.holdings.hosts.iter().any(|host| host.has(Part::Nodes)) {
        return;
    }
    let answered = input.api.answered();
    // Where none of the hosts that carry it could be looked at, there is no API to be waited for.
    let carried = input.holdings.hosts.iter().any(|host| host.has(Part::ControlPlane));
    if answered.is_none() && carried && draft.shares(Part::ControlPlane).is_empty() {
        return;
    }
    let own = input.objects.iter().take_while(|object| object.is_own()).count();
    let (own, site) = input.objects.split_at(own);
    let rights = apply(
        draft,
        (Phase::Rights, "objects"),
        "apply the rights that joining needs, and DNS",
        own,
        control,
    );
    let before: Vec<usize> = rights.into_iter().chain(control.iter().copied()).collect();
    // Nodes are not Ready until there is a pod network: where the site brings it, it comes first.
    let network = match input.cluster.network.pod_network {
        PodsBy::Routes => None,
        PodsBy::Manifests => {
            apply(draft, (Phase::Manifests, "manifests"), MANIFESTS, site, &before)
        }
    };

    let shares = draft.shares(Part::Nodes);
    let mut ready = Vec::new();
    let mut stable = None;
    let nodes: BTreeMap<_, _> = input.nodes.iter().map(|wanted| (&wanted.host, wanted)).collect();
    for share in &shares {
        let Some(wanted) = nodes.get(share.host()).copied() else { continue };
        let facts = answered.and_then(|api| api.nodes.get(share.host().as_str()));
        let known = facts.is_some() || answered.is_none();
        // A certificate that has ended lets nobody in any more, and one of an authority that goes soon will not: such a
        // kubelet joins again.
        if is_in(share, input.now) && known {
            ready.extend(upkeep(draft, share, wanted, facts, (&before, network)));
            continue;
        }
        let gate = *stable.get_or_insert_with(|| {
            let from = share.host().clone();
            draft.gate(
                (Phase::Rights, "api-endpoint".into()),
                format!("the API endpoint answers for this cluster, asked from {from}"),
                "kubelets connect to it and nothing else".into(),
                Condition::Stable { from, load_balancer: false },
                before.clone(),
            )
        });
        ready.push(join(draft, share, wanted, facts, (gate, network)));
    }
    requests(draft, &shares);
    spent(draft, &shares);
    rollout(draft, (Phase::Dns, "dns"), "DNS runs", own, rights, &ready);
    let mut needs = before;
    needs.extend(&ready);
    let applied = match input.cluster.network.pod_network {
        PodsBy::Routes => {
            let applied = apply(draft, (Phase::Manifests, "manifests"), MANIFESTS, site, &needs);
            if let Some(applied) = applied {
                draft.steps[applied].when = When::Ended;
            }
            applied
        }
        PodsBy::Manifests => network,
    };
    rollout(
        draft,
        (Phase::Manifests, "manifests-run"),
        "the site's workloads run",
        site,
        applied,
        &[],
    );
}

const SIGNED_HERE: &str = "check its request, and sign it from the strongbox";
const MANIFESTS: &str = "apply the site's manifests";

/// Applies objects, if any differs or their state is unknown.
fn apply(
    draft: &mut Draft<'_>,
    (phase, id): (Phase, &str),
    what: &str,
    objects: &[ApiObject],
    needs: &[usize],
) -> Option<usize> {
    let differing = draft.input.api.answered().map(|api| &api.differing);
    let why: Vec<String> = match differing {
        None => vec!["the API was not there to be looked at".into()],
        Some(differing) => objects
            .iter()
            .map(ApiObject::title)
            .filter(|title| differing.contains(title))
            .map(|title| format!("{title} is not as wanted"))
            .collect(),
    };
    if objects.is_empty() || why.is_empty() {
        return None;
    }
    let work = ApiWork::Apply { objects: objects.to_vec() };
    let step = Step::new(id, phase, what, Work::Api(work)).because(why);
    Some(draft.push(step.after(needs.iter().copied())))
}

/// Something that is done through the API for the node of a host.
fn of_node(host: &HostName, (phase, name): (Phase, &str), what: &str, work: ApiWork) -> Step {
    Step::new(format!("{host}/{name}"), phase, what, Work::Api(work)).on(host)
}

/// Waits for workloads that were applied in this sequence, or that do not run as wanted.
fn rollout(
    draft: &mut Draft<'_>,
    (phase, id): (Phase, &str),
    what: &str,
    objects: &[ApiObject],
    applied: Option<usize>,
    ready: &[usize],
) {
    let answered = draft.input.api.answered();
    let workloads: Vec<ApiObject> = objects
        .iter()
        .filter(|object| matches!(object.kind(), "Deployment" | "DaemonSet" | "StatefulSet"))
        .filter(|object| {
            applied.is_some()
                || answered.is_some_and(|api| api.waiting.contains_key(&object.title()))
        })
        .cloned()
        .collect();
    if workloads.is_empty() {
        return;
    }
    let names: Vec<String> = workloads.iter().map(ApiObject::title).collect();
    let needs = applied.into_iter().chain(ready.iter().copied()).collect();
    let gate = draft.gate(
        (phase, id.to_owned()),
        format!("{what}: {}", names.join(", ")),
        "what was applied must also run".into(),
        Condition::Rollout { workloads },
        needs,
    );
    // A node that did not join is reported by its own step; the others carry the workloads.
    draft.steps[gate].when = When::Ended;
}

/// A node that has joined: put right what differs on the host and in its node object.
fn upkeep(
    draft: &mut Draft<'_>,
    share: &Share<'_>,
    wanted: &NodeWanted,
    facts: Option<&NodeFacts>,
    (before, network): (&[usize], Option<usize>),
) -> Option<usize> {
    if let Some(refusal) = facts.and_then(|facts| taken(draft, share, facts)) {
        draft.none.refusals.push(refusal);
        return None;
    }
    let host = share.host();
    let acted = draft.put_right(share, "put right what differs; pods go on");
    let restarts = share.restarts().iter().any(|unit| share.runs(unit));
    if let (Some(acted), true) = (acted, restarts) {
        let step = &mut draft.steps[acted];
        step.disrupts.insert(Part::Nodes);
        // API servers go before kubelets: those may be older, never newer.
        step.needs.extend(before);
    }
    set_routes(draft, share, acted);
    let set = facts.map(|facts| node_differences(wanted, facts)).filter(|why| !why.is_empty()).map(
        |why| {
            let work = ApiWork::SetNode { node: wanted.clone() };
            let what = "put the node object right";
            let step = of_node(host, (Phase::Nodes, "node-object"), what, work).because(why);
            draft.push(step.after(before.iter().copied()))
        },
    );
    if share.observed.token_left {
        forget(draft, host, Vec::new());
    }
    let unready = facts.is_some_and(|facts| !facts.ready);
    let needs: Vec<usize> = acted.into_iter().chain(set).chain(network).collect();
    if !unready && needs.is_empty() {
        return None;
    }
    let machine = Some(share.observed.machine.clone());
    Some(ready_gate(draft, host, machine, needs))
}

/// Sets routes that somebody removed. One that cannot be set is reported, and holds nothing else up.
fn set_routes(draft: &mut Draft<'_>, share: &Share<'_>, acted: Option<usize>) {
    let lacking = share.differences.iter().filter(|d| matches!(share.item(d), Item::Routes(_)));
    for difference in lacking.copied().collect::<Vec<_>>() {
        let put = Operation::Put(share.item(difference).clone());
        let what = (Phase::Nodes, "routes", "set routes to other nodes' pods that are missing");
        let why = vec![difference.to_string()];
        draft.act(share.host(), what, why, vec![put], acted.into_iter().collect());
    }
}

fn ready_gate(
    draft: &mut Draft<'_>,
    host: &HostName,
    machine: Option<String>,
    needs: Vec<usize>,
) -> usize {
    draft.gate(
        (Phase::Joins, format!("ready-{host}")),
        format!("{host} is Ready"),
        "a node that is not Ready carries nothing".into(),
        Condition::Ready { host: host.clone(), machine },
        needs,
    )
}

/// What the cluster file says of a node and the node object does not.
fn node_differences(wanted: &NodeWanted, facts: &NodeFacts) -> Vec<String> {
    let mut out = Vec::new();
    for (key, value) in &wanted.labels {
        if facts.labels.get(key) != Some(value) {
            out.push(format!("the label {key}={value} is missing"));
        }
    }
    for taint in &wanted.taints {
        if !facts.taints.contains(taint) {
            out.push(format!("the taint {} is missing", taint.key));
        }
    }
    if facts.subnets.is_empty() && !wanted.subnets.is_empty() {
        out.push("it has no pod subnet".into());
    }
    let put = facts.put.clone().unwrap_or_else(NodePut::unremembered);
    let left = put.left_over(wanted, &facts.labels, &facts.taints);
    out.extend(left.labels.iter().map(|key| format!("the label {key} is no longer asked for")));
    let taint = |taint: &Taint| format!("the taint {} is no longer asked for", taint.key);
    out.extend(left.taints.iter().map(taint));
    if out.is_empty() && facts.put.as_ref() != Some(&wanted.put()) {
        out.push("it does not remember what was put there".into());
    }
    out
}

/// Rule S4 for nodes: the machine behind a node object is the one behind the host's address.
fn taken(draft: &Draft<'_>, share: &Share<'_>, facts: &NodeFacts) -> Option<rules::Refusal> {
    if draft.input.accepted.contains(share.host()) {
        return None;
    }
    rules::same_node(share.host(), &facts.machine, share.observed).err()
}

/// A host that has not joined yet: prepared, let in with a token of its own, and made Ready.
fn join(
    draft: &mut Draft<'_>,
    share: &Share<'_>,
    wanted: &NodeWanted,
    facts: Option<&NodeFacts>,
    (stable, network): (usize, Option<usize>),
) -> usize {
    let host = share.host();
    let first = draft.steps.len();
    if let Some(refusal) = facts.and_then(|facts| taken(draft, share, facts)) {
        draft.none.refusals.push(refusal);
    }
    let replaced = facts.filter(|f| f.machine != share.observed.machine).map(|_| {
        let work = ApiWork::RemoveNode { host: host.clone() };
        let what = "remove the node object of the machine that was replaced";
        let why = "another machine was accepted behind this name".to_owned();
        let step = of_node(host, (Phase::Joins, "node-removed"), what, work);
        draft.push(step.because([why]).after([stable]))
    });
    let prepared = prepared(draft, share);
    let work = ApiWork::Publish { host: host.clone() };
    let what = "publish a join token for this host, with its end";
    let step = of_node(host, (Phase::Joins, "token"), what, work);
    let needs = [stable].into_iter().chain(prepared).chain(replaced);
    let step = step.because(["it is published before it is used".to_owned()]).after(needs);
    let published = draft.push(step);
    let started = started(draft, share, published);
    let admitted = admitted(draft, wanted, started);
    retract(draft, host, vec![published, started, admitted]);
    forget(draft, host, vec![started, admitted]);
    let needs = [admitted].into_iter().chain(network).collect();
    let machine = Some(share.observed.machine.clone());
    let ready = ready_gate(draft, host, machine, needs);
    for step in &mut draft.steps[first..] {
        step.joins = true;
    }
    draft.steps[ready].host = Some(host.clone());
    ready
}

/// All that a node needs beside its kubelet.
fn prepared(draft: &mut Draft<'_>, share: &Share<'_>) -> Option<usize> {
    let host = share.host();
    let uploaded = draft.upload(share);
    let mut operations = share.all(|unit| unit != KUBELET_UNIT, draft.options.timeout);
    for operation in &mut operations {
        // kube-proxy listens when its node is there, which is still to come.
        if let Operation::Settle { port, .. } = operation {
            *port = None;
        }
    }
    (!operations.is_empty()).then(|| {
        draft.act(
            host,
            (Phase::Nodes, "nodes-prepare", "prepare runtime, pod network, images and kube-proxy"),
            share.why_but_components(),
            operations,
            uploaded.into_iter().collect(),
        )
    })
}

/// Whether a node can show who it is, now and when the authority is gone that goes.
fn is_in(share: &Share<'_>, now: Timestamp) -> bool {
    share.observed.identity.holds(now) && !of_another(share)
}

/// Whether a kubelet's certificate was issued by another authority than the one that signs.
fn of_another(share: &Share<'_>) -> bool {
    let signs = share.holdings.node.as_ref().and_then(|node| node.signed_by.as_ref());
    let signed = share.observed.identity_by.as_ref();
    signs.zip(signed).is_some_and(|(signs, signed)| signs != signed)
}

/// The kubelet begins with its token, and with no identity that is of no use.
fn started(draft: &mut Draft<'_>, share: &Share<'_>, published: usize) -> usize {
    let host = share.host();
    let token = Operation::Put(Item::File(File {
        path: TOKEN_PATH.into(),
        owner: "root",
        mode: 0o600,
        content: Content::Secret {
            secret: SecretRef::JoinToken(host.clone()),
            label: format!("join token of {host}"),
            sha256: String::new(),
        },
        restarts: None,
        reloads: false,
    }));
    let directory = Operation::Put(Item::Directory(Directory {
        path: "/run/zoisite".into(),
        owner: "root",
        mode: 0o700,
    }));
    // What is of no use any more is in the way of what takes its place: a kubelet expects its own link there.
    let useless = match (share.observed.identity, &share.holdings.node) {
        (Identity::Absent, _) | (_, None) => None,
        (_, Some(_)) if is_in(share, draft.input.now) => None,
        (_, Some(node)) => Some(Operation::Remove(node.client.clone())),
    };
    let begin = match share.runs(KUBELET_UNIT) {
        true => Operation::Restart(KUBELET_UNIT),
        false => Operation::Start(KUBELET_UNIT),
    };
    draft.act(
        host,
        (Phase::Joins, "join", "start the kubelet with the token; it makes its own key and asks"),
        vec![match share.observed.identity.fault(draft.input.now) {
            Some(fault) => fault,
            None if of_another(share) => {
                "its certificate was issued by an authority that goes".into()
            }
            None => "the cluster does not know its node".into(),
        }],
        useless
            .into_iter()
            .chain([directory, token, Operation::Enable(KUBELET_UNIT), begin])
            .collect(),
        vec![published],
    )
}

/// Its request is answered, and its node object is put right.
fn admitted(draft: &mut Draft<'_>, wanted: &NodeWanted, started: usize) -> usize {
    let host = &wanted.host;
    let signer = draft.input.cluster.workers.signer;
    let seconds = draft.options.timeout;
    let work = ApiWork::Admit { node: wanted.clone(), signer, seconds };
    let (what, why) = match signer {
        Signer::Run => (SIGNED_HERE, "no key that signs is in the cluster"),
        Signer::InCluster => {
            ("wait until the cluster has signed its request", "workers.signer says so")
        }
    };
    let step = of_node(host, (Phase::Joins, "admit"), what, work);
    draft.push(step.because([why.to_owned()]).after([started]))
}

/// Rule S6: a token is taken back in the cluster after its use, also when it was of no use.
fn retract(draft: &mut Draft<'_>, host: &HostName, needs: Vec<usize>) {
    let work = ApiWork::Retract { host: host.clone() };
    let step = of_node(host, (Phase::Joins, "token-back"), "take the token back", work);
    let mut step = step.because(["a token is gone after its use".to_owned()]).after(needs);
    step.when = When::Begun;
    draft.push(step);
}

/// Rule S6: a token is gone from the host after its use, also when it was of no use.
fn forget(draft: &mut Draft<'_>, host: &HostName, needs: Vec<usize>) {
    let step = draft.act(
        host,
        (Phase::Joins, "forget", "remove the token from the host"),
        vec!["a token is gone after its use".into()],
        vec![Operation::Remove(TOKEN_PATH.into())],
        needs,
    );
    draft.steps[step].when = When::Begun;
}

/// Rule S6: a token that was used, or taken back, and is still published (a run was cut off) goes; so does
/// one that a run made for a host that is in by now.
fn spent(draft: &mut Draft<'_>, shares: &[Share<'_>]) {
    let Some(answered) = draft.input.api.answered() else { return };
    let now = draft.input.now;
    for share in shares.iter().filter(|share| is_in(share, now)) {
        let host = share.host();
        let left = |token: &&TokenRecord| {
            token.by_run
                && token.gone.is_none()
                && token.hosts == [host.clone()]
                && answered.tokens.contains(&token.id)
        };
        if answered.nodes.contains_key(host.as_str()) && draft.input.tokens.iter().any(|t| left(&t))
        {
            retract(draft, host, Vec::new());
        }
    }
    let spent = draft.input.tokens.iter().filter(|token| token.gone.is_some());
    let ids: Vec<String> =
        spent.map(|token| token.id.clone()).filter(|id| answered.tokens.contains(id)).collect();
    if ids.is_empty() {
        return;
    }
    let (what, work) = ("revoke tokens that were used", Work::Api(ApiWork::Unpublish { ids }));
    let step = Step::new("tokens", Phase::Joins, what, work);
    draft.push(step.because(["a token is gone after its use".to_owned()]));
}

/// Requests that wait for an answer: nodes' own for their next certificate are checked and signed, hosts
/// that were set up by other means with a token of theirs are let in, and unexpected requests are refused.
fn requests(draft: &mut Draft<'_>, shares: &[Share<'_>]) {
    let input = draft.input;
    let Some(answered) = input.api.answered() else { return };
    if input.cluster.workers.signer == Signer::InCluster {
        return;
    }
    let mut let_in = BTreeSet::new();
    for request in &answered.requests {
        let subject = request.subject().unwrap_or_default();
        // A host that was taken out of the file is not touched, and nor is what it asks for.
        let departed = |host: &HostName| subject == format!("system:node:{host}");
        if input.departed.iter().any(departed) && request.username == subject {
            continue;
        }
        let node = input.nodes.iter().find(|node| subject == format!("system:node:{}", node.host));
        let id = format!("request-{}", request.name);
        match (node, request.token()) {
            (Some(node), None) if request.username == subject => {
                let host = &node.host;
                let work = ApiWork::Renew { host: host.clone(), request: request.name.clone() };
                let what = format!("check and sign the next certificate of {host}");
                let step = Step::new(id, Phase::Requests, what, Work::Api(work)).on(host);
                draft.push(step.because(["its kubelet asks for the next one".to_owned()]));
                continue;
            }
            (Some(node), Some(token)) => {
                let share = shares.iter().find(|share| *share.host() == node.host);
                let joining = share.is_some_and(|share| {
                    !is_in(share, input.now) || !answered.nodes.contains_key(node.host.as_str())
                });
                // A joining host's request is looked at when it is let in.
                if joining || let_in.contains(&node.host) {
                    continue;
                }
                let token = input.tokens.iter().find(|known| known.id == token);
                if token.is_some_and(|token| token.admits(&node.host)) {
                    let_in.insert(&node.host);
                    set_up_elsewhere(draft, id, node, share.is_some());
                    continue;
                }
            }
            _ => {}
        }
        let why = format!("{} asks for {subject}, and that is not expected", request.username);
        let work = ApiWork::Deny { request: request.name.clone(), why: why.clone() };
        let what = "refuse an unexpected request";
        let step = Step::new(id, Phase::Requests, what, Work::Api(work));
        draft.push(step.because([why]));
    }
}

/// Lets a host in that was set up by other means; one that cannot be looked at is waited for, too.
fn set_up_elsewhere(draft: &mut Draft<'_>, id: String, node: &NodeWanted, reached: bool) {
    let (host, seconds) = (&node.host, draft.options.timeout);
    let work = ApiWork::Admit { node: node.clone(), signer: Signer::Run, seconds };
    let mut step = Step::new(id, Phase::Requests, SIGNED_HERE, Work::Api(work)).on(host);
    step.joins = true;
    let why = "it was set up by other means, with a token of its own".to_owned();
    let admitted = draft.push(step.because([why]));
    retract(draft, host, vec![admitted]);
    if !reached {
        let ready = ready_gate(draft, host, None, vec![admitted]);
        draft.steps[ready].joins = true;
        draft.steps[ready].host = Some(host.clone());
    }
}
