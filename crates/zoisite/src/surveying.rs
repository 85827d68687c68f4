//! What the commands that survey hosts share: asking hosts and this machine, judging, what keeps a host out.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::time::Duration;

use zoisite_core::cluster::{Grade, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::Part;
use zoisite_core::script::Observed;
use zoisite_core::sequence::{Looks, MachinePin, Refusal, same_machine};
use zoisite_core::survey::{Facts, Fixer, Named, SiteFinding, hosts_line, judge, names_to_ask};
use zoisite_reach::Reach;
use zoisite_store::State;

use crate::failure::{Failure, Kind};
use crate::site::Site;
use crate::view::looking::of_each;

/// Hosts that are surveyed at once.
const AT_ONCE: usize = 64;
/// For how long a name is looked up here.
const LOOKUP: Duration = Duration::from_secs(5);

/// What was found on hosts.
pub struct Surveyed {
    /// What each says of itself.
    pub facts: BTreeMap<HostName, Facts>,
    /// What kept the others from it.
    pub troubles: Vec<Trouble>,
}

/// Surveys hosts, side by side.
pub async fn survey(site: &Site, reach: &dyn Reach, hosts: &[HostName]) -> Surveyed {
    let mut facts = BTreeMap::new();
    let mut troubles = Vec::new();
    let look = async |host: &HostName| reach.survey(&site.cluster, host).await;
    for (host, seen) in of_each(hosts, AT_ONCE, look).await {
        match seen {
            Ok(seen) => {
                facts.insert(host, seen);
            }
            Err(trouble) => troubles.push(trouble),
        }
    }
    Surveyed { facts, troubles }
}

/// What is found of these offline hosts, by what is known of all; hosts that told nothing are not judged.
pub fn found_of_told(
    site: &Site,
    state: &State,
    hosts: &[HostName],
) -> Result<Vec<SiteFinding>, Failure> {
    let known = state.surveyed()?.into_iter().map(|(host, (_, facts))| (host, facts));
    let all = known.filter(|(host, _)| site.cluster.host(host).is_some()).collect();
    let identity = state.known_cluster_id()?;
    let mut found = judge(&site.cluster, &all, None, identity.as_deref());
    found.retain(|found| found.host.as_ref().is_some_and(|host| hosts.contains(host)));
    Ok(found)
}

/// What names lead to as this machine sees them: the only facts of it that matter.
pub async fn here(site: &Site) -> Facts {
    let Some(first) = site.cluster.hosts.first() else { return Facts::default() };
    let (names, addresses) = names_to_ask(&site.cluster, first);
    let file = std::fs::read_to_string("/etc/hosts").unwrap_or_default();
    let by_file: BTreeSet<String> =
        file.lines().filter_map(hosts_line).flat_map(|(_, names)| names).collect();
    let ask = |asked: String| {
        let by_file = by_file.contains(asked.as_str());
        async move {
            let found = tokio::time::timeout(LOOKUP, tokio::net::lookup_host((asked.as_str(), 0)));
            let got: BTreeSet<IpAddr> = match found.await {
                Ok(Ok(found)) => found.map(|at| at.ip()).collect(),
                Ok(Err(_)) | Err(_) => BTreeSet::new(),
            };
            Named { asked, got: got.into_iter().collect(), by_file }
        }
    };
    let back = |asked: IpAddr| async move {
        let found = tokio::task::spawn_blocking(move || dns_lookup::lookup_addr(&asked));
        let got = match tokio::time::timeout(LOOKUP, found).await {
            // Where there is no name the address itself comes back.
            Ok(Ok(Ok(name))) if name.parse::<IpAddr>().is_err() => vec![name],
            _ => Vec::new(),
        };
        Named { asked, got, by_file: false }
    };
    let (names, reverse) = tokio::join!(
        futures_util::future::join_all(names.into_iter().map(ask)),
        futures_util::future::join_all(addresses.into_iter().map(back)),
    );
    Facts { names, reverse, ..Facts::default() }
}

/// Machines that are others than before (rule S4), among these: their ids and host keys.
pub fn other_machines<'a>(
    pins: &BTreeMap<String, MachinePin>,
    seen: impl Iterator<Item = (&'a HostName, &'a str, &'a [String])>,
) -> Vec<Refusal> {
    let held = seen.filter_map(|(host, machine, host_keys)| {
        let pin = pins.get(host.as_str())?;
        let (machine, host_keys) = (machine.to_owned(), host_keys.to_vec());
        let seen = Observed { machine, host_keys, ..Observed::default() };
        same_machine(host, pin, &seen).err()
    });
    held.collect()
}

/// Surveys hosts that have nothing of ours yet, and tells what keeps one from being raised. Hosts that carry
/// the cluster are not asked: what matters of them is looked at by every run. With `unproven` a system that nobody
/// has proven keeps none out.
///
/// # Errors
/// What is wrong here, so that nothing can be raised anywhere.
pub async fn unfit(
    site: &Site,
    reach: &dyn Reach,
    looks: &Looks,
    parts: &[Part],
    unproven: bool,
) -> Result<BTreeMap<HostName, Trouble>, Failure> {
    let bare = looks.iter().filter(|(host, look)| {
        let bare = look.as_ref().is_ok_and(|seen| seen.cluster.is_none());
        bare && site.cluster.host(host).is_some()
    });
    let bare: Vec<HostName> = bare.map(|(host, _)| host.clone()).collect();
    if bare.is_empty() {
        return Ok(BTreeMap::new());
    }
    let Surveyed { facts, troubles } = survey(site, reach, &bare).await;
    let mut out: BTreeMap<HostName, Trouble> = BTreeMap::new();
    for trouble in troubles {
        if let Some(host) = trouble.host.clone() {
            out.insert(host, trouble);
        }
    }
    let identity = match site.existing_state()? {
        Some(state) => state.known_cluster_id()?,
        None => None,
    };
    let blocks = judge(&site.cluster, &facts, None, identity.as_deref());
    // What a safety rule judges is refused by that rule, and nothing else goes on then.
    let ruled = |found: &SiteFinding| ["other-data", "other-cluster"].contains(&found.code);
    let agreed = |found: &SiteFinding| unproven && found.code == "system-unproven";
    // Preparing a machine is what brings a time service to it; certificates come later.
    let early = |found: &SiteFinding| parts == [Part::Preparation] && found.code == "clock-off";
    let counts =
        |found: &SiteFinding| keeps_out(found) && !ruled(found) && !agreed(found) && !early(found);
    for found in blocks.into_iter().filter(counts) {
        let Some(host) = found.host else {
            return Err(Failure::new(
                Kind::Run,
                format!("this machine: {}", found.message),
                found.fix,
            ));
        };
        match out.get_mut(&host) {
            Some(trouble) => {
                trouble.answer.push_str(&format!("; {}", found.message));
                trouble.fix.push_str(&format!("; {}", found.fix));
                trouble.evidence.extend(found.evidence);
            }
            None => {
                let trouble = Trouble::new(
                    Some(host.clone()),
                    "surveying the host before anything is put on it",
                    found.message,
                    found.evidence,
                );
                out.insert(host, Trouble { cause: None, ..trouble }.fix(found.fix));
            }
        }
    }
    Ok(out)
}

/// Whether a finding keeps its host out of a raise.
pub fn keeps_out(found: &SiteFinding) -> bool {
    found.grade == Grade::Blocks && found.fixer == Fixer::Person
}
