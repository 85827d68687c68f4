//! The cluster's own registry: the service, then the images that it is to hold.

use super::service::{Service, service};
use super::{Condition, Draft, Part, Phase, Step, Work};
use crate::cluster::HostName;
use crate::components::Shelved;
use crate::holdings::REGISTRY_UNIT;

/// The registry: one host, and nothing that runs needs it.
const REGISTRY: Service = Service {
    part: Part::Registry,
    main: REGISTRY_UNIT,
    starting: "start the registry",
    restarting: "put right what differs, and restart the registry",
    first_alone: None,
    gate: keeps,
};

/// Plans for the registry; nothing else waits for it.
pub(super) fn plan(draft: &mut Draft<'_>) {
    let shares = draft.shares(Part::Registry);
    let Some(host) = shares.first().map(|share| share.host().clone()) else { return };
    let gates = service(draft, &REGISTRY, &[]);
    let answered = draft.input.api.answered();
    let silent = answered.map(|api| api.registry_silent.as_deref());
    let (known, why) = match silent {
        Some(None) => (answered.map(|api| &api.lacking), "it is not there".to_owned()),
        Some(Some(why)) => (None, format!("the registry did not answer ({why})")),
        None => (None, "what the registry holds is not known".into()),
    };
    let lacks = |image: &&Shelved| known.is_none_or(|all| all.contains(&image.name.to_string()));
    let lacking: Vec<Shelved> = draft.input.shelf.iter().filter(lacks).cloned().collect();
    if lacking.is_empty() {
        return;
    }
    let needs = if gates.is_empty() { vec![keeps(draft, &host, "", Vec::new())] } else { gates };
    let why: Vec<String> = lacking.iter().map(|image| format!("{}: {why}", image.name)).collect();
    let work = Work::Fill { host: host.clone(), images: lacking };
    let what = "put images into the registry";
    let step = Step::new(format!("{host}/registry-images"), Phase::Registry, what, work).on(&host);
    draft.push(step.because(why).after(needs));
}

/// The gate at which the registry answers.
fn keeps(draft: &mut Draft<'_>, host: &HostName, after: &str, needs: Vec<usize>) -> usize {
    draft.gate(
        (Phase::Registry, format!("registry-{host}{after}")),
        format!("the registry on {host} answers at its own address"),
        "images are pushed there, and nodes pull them".into(),
        Condition::Registry { host: host.clone() },
        needs,
    )
}
