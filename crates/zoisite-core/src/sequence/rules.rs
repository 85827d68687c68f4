//! The safety rules, by name. Each is one function; a plan that would break one is refused whole,
//! before anything is touched.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::aim::{Machine, Real};
use crate::cluster::{Cluster, HostName, Version};
use crate::holdings::{CLUSTER_MARK, ETCD_UNIT, EtcdPaths};
use crate::item::UnitFacts;
use crate::script::{EtcdStatus, Observed};
use crate::sequence::{Begun, Looks};

/// A rule that no schedule, crash or fault may break.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub enum Rule {
    /// Nothing is done to a formed quorum that could lose it or its data.
    #[serde(rename = "S1")]
    QuorumFirst,
    /// At most one member is disrupted at once, and only while the others keep the quorum.
    #[serde(rename = "S2")]
    OneAtATime,
    /// A data directory of another cluster is never reused, overwritten or deleted.
    #[serde(rename = "S3")]
    NoForeignData,
    /// Another machine behind a known address is refused until a person accepts it.
    #[serde(rename = "S4")]
    SameMachine,
    /// Versions stay within the platform's published skew; no minor version is changed in this version.
    #[serde(rename = "S8")]
    Skew,
    /// Two runs never act at once.
    #[serde(rename = "S11")]
    OneHand,
    /// A change of a cluster that stands is made in a way that is known to be safe, or not at all.
    #[serde(rename = "S12")]
    SafeWay,
}

impl Rule {
    /// Number and name, as in docs/safety.md.
    pub fn title(self) -> &'static str {
        match self {
            Self::QuorumFirst => "S1 quorum first",
            Self::OneAtATime => "S2 one at a time",
            Self::NoForeignData => "S3 no foreign data",
            Self::SameMachine => "S4 same machine",
            Self::Skew => "S8 skew",
            Self::OneHand => "S11 one hand",
            Self::SafeWay => "S12 safe way",
        }
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.title())
    }
}

/// Something that a safety rule forbids.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Refusal {
    /// The rule.
    pub rule: Rule,
    /// The host.
    pub host: Option<HostName>,
    /// What was found.
    pub found: String,
    /// What a person can do.
    pub fix: String,
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.host {
            Some(host) => write!(f, "{host}: {}", self.found),
            None => f.write_str(&self.found),
        }
    }
}

/// The machine that answered at a host's address when it was first met.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MachinePin {
    /// Its `/etc/machine-id`.
    pub machine: String,
    /// SHA-256 of its SSH host keys.
    pub host_keys: Vec<String>,
}

impl MachinePin {
    /// Pins the machine that was observed.
    pub fn of(observed: &Observed) -> Self {
        Self { machine: observed.machine.clone(), host_keys: observed.host_keys.clone() }
    }
}

/// S4: the machine that answers is the one that was pinned.
///
/// New host keys beside a known one are fine; none in common, or another machine id, is not.
///
/// # Errors
/// The refusal.
pub fn same_machine(host: &HostName, pin: &MachinePin, observed: &Observed) -> Result<(), Refusal> {
    let common = pin.host_keys.iter().any(|key| observed.host_keys.contains(key));
    let found = if pin.machine != observed.machine {
        format!(
            "another machine answers: its machine id is {}, and {} was met first",
            short(&observed.machine),
            short(&pin.machine)
        )
    } else if !pin.host_keys.is_empty() && !common {
        "another machine answers: none of its SSH host keys is known".into()
    } else {
        return Ok(());
    };
    Err(Refusal {
        rule: Rule::SameMachine,
        host: Some(host.clone()),
        found,
        fix: format!(
            "if {host} was replaced or set up again on purpose: zoisite raise --accept {host}"
        ),
    })
}

/// S4 for nodes: the machine that registered under a host's name is the one behind its address.
///
/// # Errors
/// The refusal.
pub(super) fn same_node(
    host: &HostName,
    registered: &str,
    observed: &Observed,
) -> Result<(), Refusal> {
    if registered.is_empty() || registered == observed.machine {
        return Ok(());
    }
    Err(Refusal {
        rule: Rule::SameMachine,
        host: Some(host.clone()),
        found: format!(
            "the node name {host} is taken by another machine: its id is {}, and {} answers at the host's address",
            short(registered),
            short(&observed.machine)
        ),
        fix: format!(
            "if that machine is gone for good: zoisite raise --accept {host} removes its node object and joins this one"
        ),
    })
}

fn short(id: &str) -> &str {
    match id.get(..12) {
        Some(start) => start,
        None if id.is_empty() => "empty",
        None => id,
    }
}

/// S11: nothing is planned from what is about to change. A script whose program was killed, or whose connection was
/// cut, may still be at work.
pub(super) fn one_hand(host: &HostName, observed: &Observed) -> Result<(), Refusal> {
    if !observed.acting {
        return Ok(());
    }
    Err(Refusal {
        rule: Rule::OneHand,
        host: Some(host.clone()),
        found: "a script of another run is still at work there: what it does is not known yet"
            .into(),
        fix: "it ends by itself: the same command again in a minute".into(),
    })
}

/// S3: the host carries no other cluster.
pub(super) fn no_foreign_host(
    host: &HostName,
    identity: &str,
    observed: &Observed,
) -> Result<(), Refusal> {
    match observed.carries() {
        Some(found) if found != identity => Err(Refusal {
            rule: Rule::NoForeignData,
            host: Some(host.clone()),
            found: format!("it carries another cluster ({found})"),
            fix: format!(
                "check its address; if that cluster is not needed, take its units and files away by \
                 hand (ssh {host} sudo cat /var/lib/zoisite/notes), then {CLUSTER_MARK}"
            ),
        }),
        _ => Ok(()),
    }
}

/// S3: data found in a member's folder is this cluster's own: a mark says so, or its member serves in the quorum that
/// was proven, whose cluster id is `proven`.
pub(super) fn no_foreign_data(
    host: &HostName,
    etcd: &EtcdPaths,
    observed: &Observed,
    proven: Option<&str>,
) -> Result<(), Refusal> {
    let facts = &observed.etcd;
    let serves_here = facts
        .status
        .as_ref()
        .is_some_and(|s| s.has_leader() && Some(s.cluster_id.as_str()) == proven);
    let refuse = |found: String, path: &str| {
        Err(Refusal {
            rule: Rule::NoForeignData,
            host: Some(host.clone()),
            found,
            fix: format!(
                "look at it; if it is not needed, move it aside by hand: ssh {host} sudo mv {path} {path}.aside"
            ),
        })
    };
    if let Some(stray) = facts.strays.first() {
        return refuse(
            format!("{} holds data of another etcd: {stray}", etcd.folder),
            &etcd.folder,
        );
    }
    match (&facts.owner, facts.data) {
        (Some(owner), _) if *owner != etcd.cluster_id => {
            refuse(format!("{} belongs to another cluster ({owner})", etcd.folder), &etcd.folder)
        }
        (None, true) if !serves_here => refuse(
            format!("{} holds etcd data, and nothing says that it is this cluster's", etcd.data),
            &etcd.folder,
        ),
        _ => Ok(()),
    }
}

/// S1: in a formed quorum, a member whose data is gone is replaced, never started as if new: it would
/// vote without remembering what it voted for.
///
/// A member that was configured for the first start and never served (the quorum formed without it)
/// has the owner's mark and not the mark of a proven quorum, and no client URLs in etcd's list: that one may start.
pub(super) fn quorum_first(
    host: &HostName,
    etcd: &EtcdPaths,
    real: &Real,
    formed: bool,
) -> Result<(), Refusal> {
    if !formed || real.machine(host) != (Machine::Seen { data: false, spent: true }) {
        return Ok(());
    }
    Err(Refusal {
        rule: Rule::QuorumFirst,
        host: Some(host.clone()),
        found: format!("the quorum is formed, and {} holds no data of this member", etcd.data),
        fix: "if its data was lost for good, zoisite raise, at a terminal or with --yes, takes the member out and \
               lets it in again as a new one. Starting it as if new is not safe"
            .into(),
    })
}

/// S1: hosts that heard of a quorum which began with a snapshot are not led back to what was before it.
pub(super) fn no_older_quorum(
    host: &HostName,
    begun: Option<&Begun>,
    observed: &Observed,
) -> Result<(), Refusal> {
    let Some(begun) = begun else { return Ok(()) };
    let known = begun.restoring.as_ref().map_or(begun.epoch, |from| from.epoch);
    match observed.epoch() {
        Some(heard) if heard > known => Err(Refusal {
            rule: Rule::QuorumFirst,
            host: Some(host.clone()),
            found: format!(
                "it has been in quorum {heard} of this cluster, which began with a snapshot, and the store knows of {known}"
            ),
            fix: "bring the newest copy of the state back: zoisite backup restore".into(),
        }),
        _ => Ok(()),
    }
}

/// S1: nothing starts as if new while anything says that this cluster was begun: members of its first start
/// that the file no longer names hold no data and do not start, those that it names hold none of a start with others, and hosts that carry its mark know no more than the store. Where that is known
/// to have been given before there was a quorum (`marked`), by a run of other parts alone, it tells of one beside data only.
pub(super) fn nothing_as_new(
    cluster: &Cluster,
    (begun, marked): (Option<&Begun>, bool),
    looks: &Looks,
    identity: &str,
) -> Vec<Refusal> {
    let refuse = |host: &HostName, found: String, fix: String| Refusal {
        rule: Rule::QuorumFirst,
        host: Some(host.clone()),
        found,
        fix,
    };
    let Some(begun) = begun else {
        let carries = |observed: &Observed| {
            observed.carries() == Some(identity) && (observed.etcd.data || !marked)
        };
        let carriers = looks.iter().filter(|(_, look)| look.as_ref().is_ok_and(carries));
        return carriers
            .map(|(host, _)| {
                refuse(
                    host,
                    "its mark says that this cluster was begun, and the store does not know of it".into(),
                    "bring the newest backup of .zoisite back: a second quorum beside a first one would lose what that holds".into(),
                )
            })
            .collect();
    };
    // With its unit out of the way nothing of it begins at a boot, nor writes to what is moved.
    let disable = format!("systemctl disable --now {ETCD_UNIT}");
    let or_aside = |host: &HostName| {
        let folder = &cluster.etcd.folder;
        format!(
            "or, when nothing of that start is needed: ssh {host} 'sudo {disable} && sudo mv {folder}/data {folder}/data.aside'"
        )
    };
    // Those that began with data of other members than the file names now wait for these for ever.
    let first: BTreeSet<&HostName> = begun.members.keys().collect();
    let others = first != cluster.etcd.members.iter().collect();
    let waits = |host: &&HostName| {
        let waits = |seen: &Observed| {
            seen.etcd.data && !seen.etcd.status.as_ref().is_some_and(EtcdStatus::has_leader)
        };
        others && looks.get(*host).is_some_and(|look| look.as_ref().is_ok_and(waits))
    };
    let kept = first.iter().copied().filter(|host| cluster.etcd.members.contains(host));
    let waiting = kept.filter(waits).map(|host| {
        let names: Vec<&str> = first.iter().map(|host| host.as_str()).collect();
        refuse(
            host,
            format!(
                "it holds data of this cluster's first start, which was that of {}",
                names.join(", ")
            ),
            format!("name these in etcd.members until the quorum stands; {}", or_aside(host)),
        )
    });
    begun
        .dropped(cluster)
        .filter_map(|host| {
            let named = format!("name {host} in etcd.members again");
            let aside = format!("{named}; {}", or_aside(host));
            let (found, fix) = match looks.get(host) {
                Some(Ok(observed)) if observed.etcd.data => (
                    "it holds data of this cluster's first start, and the file no longer names it a member",
                    aside,
                ),
                Some(Ok(observed)) if observed.found.units.get(ETCD_UNIT).is_some_and(UnitFacts::may_start) => (
                    "its etcd was to begin in this cluster's first start: at a boot it would begin a quorum without the members that the file names",
                    format!("{named}; or ssh {host} sudo {disable}"),
                ),
                Some(Ok(_)) => return None,
                Some(Err(_)) | None => (
                    "it was a member of this cluster's first start, and whether it holds data cannot be seen",
                    aside,
                ),
            };
            Some(refuse(host, found.into(), fix))
        })
        .chain(waiting)
        .collect()
}

/// S8: no minor version is changed; judged by what runs, or would be started, on the hosts that were looked
/// at, and by what nodes say of themselves.
pub(super) fn same_minor(
    what: &str,
    wanted: Version,
    found: &BTreeMap<Version, BTreeSet<String>>,
) -> Vec<Refusal> {
    found
        .iter()
        .filter(|(found, _)| (found.major, found.minor) != (wanted.major, wanted.minor))
        .map(|(found, hosts)| {
            let names: Vec<&str> = hosts.iter().map(String::as_str).take(6).collect();
            let more = match hosts.len() - names.len() {
                0 => String::new(),
                n => format!(" and {n} more"),
            };
            Refusal {
                rule: Rule::Skew,
                host: None,
                found: format!(
                    "{what} {found} runs on {}{more}, and the file says {wanted}",
                    names.join(", ")
                ),
                fix: format!(
                    "this version changes patch releases only: name {}.{}.x in the cluster file",
                    found.major, found.minor
                ),
            }
        })
        .collect()
}

/// S2: the members that stay keep the quorum while one restarts, when all `reached` ones are healthy
/// before it. The only member of a cluster of one has no others, and may restart.
pub(super) fn others_keep_quorum(
    host: &HostName,
    members: usize,
    reached: usize,
) -> Result<(), Refusal> {
    let quorum = members / 2 + 1;
    if members == 1 || reached > quorum {
        return Ok(());
    }
    Err(Refusal {
        rule: Rule::OneAtATime,
        host: Some(host.clone()),
        found: format!(
            "it must restart, and of {members} members only {reached} can be reached: without it the \
             quorum of {quorum} is lost"
        ),
        fix: "bring the other members back first: zoisite status says which are not healthy".into(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn host() -> HostName {
        HostName::new("heron").unwrap()
    }

    fn observed(machine: &str, keys: &[&str]) -> Observed {
        Observed {
            machine: machine.into(),
            host_keys: keys.iter().map(|k| (*k).to_owned()).collect(),
            ..Observed::default()
        }
    }

    #[test]
    fn s4_another_machine_is_refused_and_a_new_key_beside_a_known_one_is_not() {
        let pin = MachinePin::of(&observed("m1", &["k1", "k2"]));
        assert!(same_machine(&host(), &pin, &observed("m1", &["k2", "k3"])).is_ok());
        for (machine, keys) in [("m2", vec!["k1"]), ("m1", vec!["k3"]), ("", vec!["k1"])] {
            let refusal = same_machine(&host(), &pin, &observed(machine, &keys)).unwrap_err();
            assert_eq!(refusal.rule, Rule::SameMachine);
        }
    }

    #[test]
    fn s2_a_restart_never_takes_the_quorum_along() {
        assert!(others_keep_quorum(&host(), 1, 1).is_ok());
        assert!(others_keep_quorum(&host(), 3, 3).is_ok());
        assert!(others_keep_quorum(&host(), 3, 2).is_err());
        assert!(others_keep_quorum(&host(), 5, 4).is_ok());
        assert!(others_keep_quorum(&host(), 5, 3).is_err());
    }
}
