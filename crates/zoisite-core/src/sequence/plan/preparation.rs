//! Bare machines made ready, all side by side: nothing of it interrupts what runs.

use std::collections::BTreeMap;

use super::{Condition, Difference, Draft, Gate, Part, Phase, Share, Step, When, Work};
use crate::cluster::HostName;
use crate::item::{Differs, Item, TRIAL_OF_RULES};
use crate::script::Operation;

/// The step of each host that is still to be prepared.
pub(super) fn plan(draft: &mut Draft<'_>) -> BTreeMap<HostName, usize> {
    let mut prepared = BTreeMap::new();
    for share in draft.shares(Part::Preparation) {
        let operations = share.all(|_| true, draft.options.timeout);
        let (rules, operations): (Vec<_>, Vec<_>) = operations
            .into_iter()
            .partition(|operation| matches!(operation, Operation::Put(Item::Rules(_))));
        let host = share.host();
        let mut last = None;
        if !operations.is_empty() {
            let what = (Phase::Preparation, "prepare", "prepare the machine");
            let why = reasons(&share, |item| !matches!(item, Item::Rules(_)));
            last = Some(draft.act(host, what, why, operations, Vec::new()));
        }
        if !rules.is_empty() {
            let what = (Phase::Preparation, "firewall", "set what the firewall lets in, on trial");
            let why = reasons(&share, |item| matches!(item, Item::Rules(_)));
            let step = draft.act(host, what, why, rules, last.into_iter().collect());
            let work = Work::Gate(Gate {
                condition: Condition::LetsIn { host: host.clone() },
                seconds: 2 * TRIAL_OF_RULES,
            });
            let why = "else the host takes them back by itself".to_owned();
            let id = format!("{host}/firewall-kept");
            let what = "come in again through its firewall, and keep the rules";
            let gate = Step::new(id, Phase::Preparation, what, work).because([why]).after([step]);
            last = Some(draft.push(gate));
        }
        prepared.extend(last.map(|step| (host.clone(), step)));
    }
    prepared
}

/// The differences of some of the items, in words. What is only noted changes nothing, and is no reason where there
/// is another.
fn reasons(share: &Share<'_>, of: impl Fn(&Item) -> bool) -> Vec<String> {
    let all: Vec<&&Difference> =
        share.differences.iter().filter(|difference| of(share.item(difference))).collect();
    let plain = all.iter().filter(|difference| difference.how != Differs::NotNoted);
    let why: Vec<String> = plain.map(ToString::to_string).collect();
    match why.is_empty() {
        true => all.iter().map(ToString::to_string).collect(),
        false => why,
    }
}

/// Whatever else is done on a host comes after it was prepared.
pub(super) fn first(draft: &mut Draft<'_>, prepared: &BTreeMap<HostName, usize>) {
    let on_host = |step: &Step| {
        let there = matches!(step.work, Work::Act(_) | Work::Upload { .. });
        step.host.clone().filter(|_| there)
    };
    let hosts: Vec<Option<HostName>> = draft.steps.iter().map(on_host).collect();
    for (index, host) in hosts.iter().enumerate() {
        let Some(before) = host.as_ref().and_then(|host| prepared.get(host)) else { continue };
        let step = &mut draft.steps[index];
        // What waits for another step on this host waits for this one with it.
        let waits = step.needs.iter().any(|need| hosts[*need] == *host);
        // What tidies up does so only where something was begun.
        if step.phase != Phase::Preparation && !waits && step.when != When::Begun {
            step.needs.push(*before);
        }
    }
}
