//! What looking showed, as the plain facts that an aim is made from.

use super::begun::{Begun, listed_members};
use super::looks::Looks;
use crate::aim::{Health, Machine, Member, Quorum, Real, Records};
use crate::cluster::HostName;
use crate::holdings::ETCD_UNIT;
use crate::script::Observed;

impl Begun {
    /// What it says of members.
    pub fn records(&self) -> Records {
        Records {
            members: self.members.clone(),
            left: self.left.clone(),
            restoring: self.restoring.clone(),
            ..Records::default()
        }
    }
}

/// How far the quorum has come, by what its hosts show.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Formation {
    /// No member has data.
    Fresh,
    /// Some have, and none shows that the quorum was ever proven: a first start was interrupted.
    Forming,
    /// It was proven once, or it answers now.
    Formed,
}

/// Reads it off the hosts, and off what is recorded: a record may forbid to start as if new, only hosts
/// allow it.
pub fn formation<'a>(
    observed: impl IntoIterator<Item = &'a Observed>,
    begun: Option<&Begun>,
) -> Formation {
    if begun.is_some_and(|begun| begun.formed.is_some()) {
        return Formation::Formed;
    }
    let mut formation = Formation::Fresh;
    for one in observed {
        let answers = one.etcd.status.as_ref().is_some_and(|status| status.has_leader());
        if one.etcd.formed.is_some() || answers {
            return Formation::Formed;
        }
        if one.etcd.data {
            formation = Formation::Forming;
        }
    }
    formation
}

/// How the member on a host does that was looked at; `alone` where it is the only one.
pub(super) fn health(observed: &Observed, alone: bool) -> Health {
    let unit = observed.found.units.get(ETCD_UNIT);
    match (unit.is_some_and(|unit| unit.active == "active"), &observed.etcd.status) {
        (true, Some(status)) if status.has_leader() => Health::Well,
        // The only member of a cluster has no others that could lose their quorum.
        (true, None) if !alone => Health::Unknown,
        _ => Health::Down,
    }
}

/// The real state of the quorum, and of the hosts that are, were or are to be members.
pub fn real(looks: &Looks, begun: Option<&Begun>) -> Real {
    let listed = listed_members(looks, begun);
    // A run that was cut off after a vote, and before the host was told of it: the list knows.
    let served = |host: &HostName| {
        listed.into_iter().flatten().any(|member| member.name == host.as_str() && member.served)
    };
    let machine = |host: &HostName, observed: &Observed| {
        let etcd = &observed.etcd;
        let spent = etcd.formed.is_some() || etcd.owner.is_none() || served(host);
        Machine::Seen { data: etcd.data, spent }
    };
    let machines = looks.iter().map(|(host, look)| {
        (host.clone(), look.as_ref().map_or(Machine::Silent, |seen| machine(host, seen)))
    });
    let quorum = match (listed, formation(looks.values().flatten(), begun)) {
        (_, Formation::Fresh | Formation::Forming) => Quorum::Unbegun,
        (None, Formation::Formed) => Quorum::Unseen,
        (Some(listed), Formation::Formed) => {
            let alone = listed.len() == 1;
            let member = |member: &crate::script::EtcdMember| {
                let host = HostName::new(&member.name).ok();
                let look = host.and_then(|host| looks.get(&host)?.as_ref().ok());
                Member {
                    id: member.id.clone(),
                    name: member.name.clone(),
                    urls: member.peer_urls.clone(),
                    learner: member.learner,
                    health: look.map_or(Health::Unknown, |seen| health(seen, alone)),
                }
            };
            Quorum::Listed(listed.iter().map(member).collect())
        }
    };
    let entries = looks.iter().filter_map(|(host, look)| {
        let status = look.as_ref().ok()?.etcd.status.as_ref()?;
        Some((host.clone(), status.raft_index))
    });
    Real { quorum, machines: machines.collect(), entries: entries.collect() }
}
