//! A stage of an authority's replacement, as far as it is more than files on hosts (rule S14).

use super::{ApiObject, Condition, Difference, Draft, Phase, Step, When, Work};
use crate::holdings::PODS_BUNDLE;
use crate::item::{Content, Differs, Item};
use crate::pki::{AuthorityKind, TrustStage};
use crate::sequence::step::ApiWork;

/// Plans it, once control planes hold what the stage wants (`control` are their gates): what Zoisite itself has running
/// in the cluster reads once, when it starts, whom it believes.
pub(super) fn plan(draft: &mut Draft<'_>, stage: TrustStage, control: &[usize]) {
    if stage == TrustStage::Believe(AuthorityKind::Cluster) {
        believe(draft, "both authorities", control.to_vec());
    }
}

/// Plans the same where an authority was followed at once, as it had ended: control planes are about to publish another
/// one. It waits for nodes, whose kubelets join again.
pub(super) fn followed(draft: &mut Draft<'_>, control: &[usize]) {
    let published = |difference: &&Difference| {
        difference.how == Differs::Content
            && matches!(&draft.input.holdings.host(&difference.host).map(|host| &host.items[difference.item]),
                Some(Item::File(file)) if file.path == PODS_BUNDLE)
    };
    if !draft.differences.values().flatten().any(|difference| published(&difference)) {
        return;
    }
    let steps = draft.steps.iter().enumerate();
    let ready = steps.filter(|(_, step)| step.id.starts_with("ready-")).map(|(index, _)| index);
    let needs = ready.chain(control.iter().copied()).collect();
    if let Some(begun) = believe(draft, "the other authority", needs) {
        // A node that did not join is reported by its own step; the others carry the workloads.
        draft.steps[begun].when = When::Ended;
    }
}

/// Starts what Zoisite itself has running in the cluster again, once pods are given these; the step that does.
fn believe(draft: &mut Draft<'_>, whom: &str, needs: Vec<usize>) -> Option<usize> {
    let bundle = bundle(draft)?;
    let workloads: Vec<ApiObject> = draft
        .input
        .objects
        .iter()
        .filter(|object| object.is_own() && object.kind() == "Deployment")
        .cloned()
        .collect();
    if workloads.is_empty() {
        return None;
    }
    let names: Vec<String> = workloads.iter().map(ApiObject::title).collect();
    let seconds = draft.options.timeout;
    let work = ApiWork::Believe { bundle, workloads: workloads.clone(), seconds };
    let what = format!("start {} again, once pods are given {whom}", names.join(", "));
    let why = "who is in a pod reads whom to believe when it starts".to_owned();
    let step = Step::new("believe", Phase::Dns, what, Work::Api(work)).because([why]);
    let begun = draft.push(step.after(needs));
    draft.gate(
        (Phase::Dns, "believed".into()),
        format!("{} runs with {whom}", names.join(", ")),
        "it connects to API servers, which the other authority vouches for".into(),
        Condition::Rollout { workloads },
        vec![begun],
    );
    Some(begun)
}

/// What controller managers publish in every namespace, for pods to believe.
fn bundle(draft: &Draft<'_>) -> Option<String> {
    let items = draft.input.holdings.hosts.iter().flat_map(|host| &host.items);
    items.into_iter().find_map(|item| match item {
        Item::File(file) if file.path == PODS_BUNDLE => match &file.content {
            Content::Text { lasting, .. } => Some(lasting.to_string()),
            Content::Secret { .. } => None,
        },
        _ => None,
    })
}
