//! A stage of an authority's replacement, as far as it is more than files on hosts (rule S14).

use super::{ApiObject, Condition, Draft, Phase, Step, Work};
use crate::holdings::PODS_BUNDLE;
use crate::item::{Content, Item};
use crate::pki::{AuthorityKind, TrustStage};
use crate::sequence::step::ApiWork;

/// Plans it, once control planes hold what the stage wants (`control` are their gates): what Zoisite itself has running
/// in the cluster reads once, when it starts, whom it believes.
pub(super) fn plan(draft: &mut Draft<'_>, stage: TrustStage, control: &[usize]) {
    if stage != TrustStage::Believe(AuthorityKind::Cluster) {
        return;
    }
    let Some(bundle) = bundle(draft) else { return };
    let workloads: Vec<ApiObject> = draft
        .input
        .objects
        .iter()
        .filter(|object| object.is_own() && object.kind() == "Deployment")
        .cloned()
        .collect();
    if workloads.is_empty() {
        return;
    }
    let names: Vec<String> = workloads.iter().map(ApiObject::title).collect();
    let seconds = draft.options.patience;
    let work = ApiWork::Believe { bundle, workloads: workloads.clone(), seconds };
    let what = format!("start {} anew, once pods are given both authorities", names.join(", "));
    let why = "who is in a pod reads whom to believe when it starts".to_owned();
    let step = Step::new("believe", Phase::Dns, what, Work::Api(work)).because([why]);
    let begun = draft.push(step.after(control.iter().copied()));
    draft.gate(
        (Phase::Dns, "believed".into()),
        format!("{} runs with both", names.join(", ")),
        "it dials API servers, which the other authority vouches for next".into(),
        Condition::Rollout { workloads },
        vec![begun],
    );
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
