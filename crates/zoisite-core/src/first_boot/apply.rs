//! First-boot data of a machine that runs: what it has, and bringing it other data.

use serde_json::Value;

use super::{Carried, Change, SeedRecord, Way};
use crate::cluster::{Cluster, HostName, Role};
use crate::script::{acting, fields, wrapped};
use crate::sequence::{Refusal, Rule};
use crate::text::quote;

const APPLY: &str = include_str!("apply.sh");

/// What a machine says of its first boot.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SeedState {
    /// Which start of the machine this is.
    pub boot: String,
    /// It is about to restart.
    pub leaving: bool,
    /// The `instance-id` of the data that it has; none without cloud-init.
    pub instance: Option<String>,
    /// How far it is with that, in cloud-init's words: `running`, `done`, `error`…
    pub state: Option<String>,
}

impl SeedState {
    /// Whether it still applies its data, or is about to.
    pub fn is_at_it(&self) -> bool {
        self.leaving || matches!(self.state.as_deref(), Some("running" | "not started" | "not run"))
    }
}

/// The script that asks a machine which data it has.
pub fn state_script(host: &HostName) -> String {
    wrapped(&format!("zoisite: first-boot data of {host}"), &acting(&[APPLY]), "heard\n")
}

/// The same in a run of its own: what an earlier run sent has been done when it answers, or never will be.
pub fn settled_state_script(host: &HostName, generation: u64) -> String {
    let body = format!("lock {generation}\nheard\n");
    wrapped(&format!("zoisite: first-boot data of {host}"), &acting(&[APPLY]), &body)
}

/// Reads the answer to either.
pub fn read_state(text: &str) -> SeedState {
    let mut heard = SeedState::default();
    for line in text.lines() {
        let fields: Vec<&str> = fields(line).unwrap_or_default();
        let some = |text: &str| Some(text.to_owned()).filter(|text| !text.is_empty());
        match fields[..] {
            ["boot", id] => heard.boot = id.to_owned(),
            ["leaving"] => heard.leaving = true,
            ["instance", id] => heard.instance = some(id),
            ["state", word] => heard.state = some(word),
            _ => {}
        }
    }
    heard
}

/// The script that brings a machine other data: written first, then applied while it runs or at its next start.
pub fn apply_script(
    host: &HostName,
    files: &[Carried],
    locked_out: &[(String, String)],
    way: Way,
    generation: u64,
) -> String {
    let text = |name: &str| {
        let file = files.iter().find(|file| file.name == name);
        quote(file.map_or("", |file| file.text.expose()))
    };
    let mut body = format!(
        "lock {generation}\nlay {} {} {}\n",
        text("user-data"),
        text("network-config"),
        text("meta-data")
    );
    for (user, key) in locked_out {
        body.push_str(&format!("lock_out {} {}\n", quote(user), quote(key)));
    }
    body.push_str(match way {
        Way::InPlace => "hear_now\n",
        Way::Restart => "start_again\n",
    });
    wrapped(
        &format!("zoisite: tell {host} something else, run {generation}"),
        &acting(&[APPLY]),
        &body,
    )
}

/// Who may log in no more: user and key. Adding is the machine's own work, taking away is not.
pub fn locked_out(before: &SeedRecord, now: &SeedRecord) -> Vec<(String, String)> {
    let keys = |record: &SeedRecord| -> Vec<(String, String)> {
        let users = record.user_data["users"].as_array().cloned().unwrap_or_default();
        let of = |user: &Value| -> Vec<(String, String)> {
            let name = user["name"].as_str().unwrap_or_default().to_owned();
            let keys = user["ssh_authorized_keys"].as_array().cloned().unwrap_or_default();
            keys.iter()
                .filter_map(Value::as_str)
                .map(|key| (name.clone(), key.to_owned()))
                .collect()
        };
        users.iter().flat_map(of).collect()
    };
    let stays = keys(now);
    keys(before).into_iter().filter(|one| !stays.contains(one)).collect()
}

/// S1, S2 and S12: whether a machine of a cluster that stands may start again for these changes. `ailing` is what is not as it
/// must be already.
///
/// # Errors
/// What forbids it. What depends on that machine alone is a matter of the person's word, `outage`.
pub fn may_restart(
    cluster: &Cluster,
    host: &HostName,
    (changes, ailing): (&[Change], &[String]),
    outage: bool,
) -> Result<(), Vec<Refusal>> {
    let refusal = |rule, found: String, fix: &str| Refusal {
        rule,
        host: Some(host.clone()),
        found,
        fix: fix.to_owned(),
    };
    let mut refusals = Vec::new();
    let moves = changes.iter().any(|change| change.what.ends_with(".addresses"));
    // In a mesh the others dial it by its address there.
    if moves && !cluster.is_in_mesh(host) {
        let found =
            format!("{host} would have another address, and the others reach it at the one it has");
        let fix = "retire it and add it again; or put the address in the file back";
        refusals.push(refusal(Rule::SafeWay, found, fix));
    }
    if !ailing.is_empty() {
        let found = format!(
            "{host} would start again while something else is not well: {}",
            ailing.join("; ")
        );
        refusals.push(refusal(
            Rule::OneAtATime,
            found,
            "zoisite raise fixes what can be; then run the same command again",
        ));
    }
    let members = cluster.holders(Role::EtcdMember);
    if !outage {
        let fix = "wait for an hour in which that may be, and say --outage";
        if members.contains(host) && members.len() < 3 {
            let found = format!("without {host} the {} members have no quorum", members.len());
            refusals.push(refusal(Rule::QuorumFirst, found, fix));
        }
        for role in [Role::ControlPlane, Role::LoadBalancer] {
            if cluster.holders(role) == std::slice::from_ref(host) {
                let found = format!("{host} is the only {role}: the API is unreachable meanwhile");
                refusals.push(refusal(Rule::OneAtATime, found, fix));
            }
        }
    }
    if refusals.is_empty() { Ok(()) } else { Err(refusals) }
}

/// The way of a whole change: at a start where one part of it needs that.
pub fn way_of(changes: &[Change]) -> Way {
    changes.iter().map(|change| change.way).max().unwrap_or(Way::InPlace)
}

/// The order in which machines hear something else: those that fewest depend on first.
pub fn in_order(cluster: &Cluster, hosts: &mut [HostName]) {
    let weight = |host: &HostName| {
        let roles = [Role::Registry, Role::LoadBalancer, Role::ControlPlane, Role::EtcdMember];
        roles.iter().rposition(|role| cluster.holds(host, *role)).map_or(0, |at| at + 1)
    };
    hosts.sort_by_key(weight);
}
