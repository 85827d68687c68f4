//! What is recorded of a cluster that was begun, and what a cluster file may no longer change of it.

use std::collections::{BTreeMap, BTreeSet};

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::looks::Looks;
use super::rules::{Refusal, Rule};
use crate::cluster::{Cluster, HostName, Role};
use crate::holdings::peer_urls;
use crate::script::EtcdMember;

/// Facts that everything in a cluster was built upon: no safe way leads to other ones yet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FixedFacts {
    /// `cluster.domain`.
    pub domain: String,
    /// `network.pods`.
    pub pods: Vec<IpNet>,
    /// `network.services`.
    pub services: Vec<IpNet>,
    /// `network.pod-subnet`, in bits.
    pub pod_subnet: u8,
    /// The floating address and who holds it, in words; `None` where there was none.
    #[serde(default)]
    pub floating: Option<String>,
}

/// The floating address and who holds it, in words.
fn floating(cluster: &Cluster) -> Option<String> {
    let holders = match cluster.front() {
        Role::Balancer => "the balancers",
        _ => "the control planes",
    };
    cluster.balancers.floating.map(|address| format!("{address}, held by {holders}"))
}

/// The record of a cluster that was begun. Nothing ever starts as if new against it, whatever the file says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Begun {
    /// The cluster's own identity, which its hosts carry too.
    pub identity: String,
    /// Counts the quorums that the cluster had: a restored one is another one.
    pub epoch: u32,
    /// When it began.
    pub since: Timestamp,
    /// What it was built upon.
    pub facts: FixedFacts,
    /// Members with which the quorum began, or which were proven last, with the URL at which the others
    /// dial each.
    pub members: BTreeMap<HostName, String>,
    /// etcd's own cluster id, once the quorum was proven: the cluster stands.
    pub formed: Option<String>,
}

impl Begun {
    /// The record of what a cluster file describes.
    pub fn of(cluster: &Cluster, identity: &str, now: Timestamp) -> Self {
        let network = &cluster.network;
        Self {
            identity: identity.to_owned(),
            epoch: 1,
            since: now,
            facts: FixedFacts {
                domain: cluster.domain.clone(),
                pods: network.pods.clone(),
                services: network.services.clone(),
                pod_subnet: network.pod_subnet,
                floating: floating(cluster),
            },
            members: peer_urls(cluster).into_iter().collect(),
            formed: None,
        }
    }

    /// Members of its first start that the file no longer names: nothing is started as if new before each
    /// of them is known to hold no data.
    pub fn dropped<'a>(&'a self, cluster: &'a Cluster) -> impl Iterator<Item = &'a HostName> {
        self.members.keys().filter(|member| !cluster.etcd.members.contains(member))
    }
}

/// etcd's own list of its members, where a host gave it: every member that gives one gives the same.
pub fn listed_members(looks: &Looks) -> Option<&[EtcdMember]> {
    looks.values().find_map(|look| look.as_ref().ok()?.etcd.members.as_deref())
}

/// How many members vote: by etcd's own list where it is known, else as many as the cluster file names. (A
/// quorum always has one that votes.)
pub fn voters(listed: Option<&[EtcdMember]>, cluster: &Cluster) -> usize {
    match listed.unwrap_or_default().iter().filter(|member| !member.learner).count() {
        0 => cluster.etcd.members.len(),
        voters => voters,
    }
}

/// What of a cluster file contradicts the record of a cluster that stands. Members are held against
/// `listed`, etcd's own list, where it is known, and against the record elsewhere.
pub fn contradictions(
    begun: Option<&Begun>,
    listed: Option<&[EtcdMember]>,
    cluster: &Cluster,
) -> Vec<Refusal> {
    let standing = begun.filter(|begun| begun.formed.is_some());
    let mut out = Vec::new();
    if let Some(begun) = standing {
        out.extend(fixed(&begun.facts, cluster));
    }
    match (listed, standing) {
        (Some(listed), _) => out.extend(members(&of_list(listed), cluster)),
        (None, Some(begun)) => {
            let known = begun.members.iter().map(|(name, url)| {
                (name.to_string(), Known { urls: vec![url.clone()], learner: false })
            });
            out.extend(members(&known.collect(), cluster));
        }
        (None, None) => {}
    }
    out
}

/// A member as it stands.
struct Known {
    urls: Vec<String>,
    learner: bool,
}

/// One that was never started has no name: it goes by its URL.
fn of_list(listed: &[EtcdMember]) -> BTreeMap<String, Known> {
    let known = |member: &EtcdMember| {
        let name = match member.name.as_str() {
            "" => member.peer_urls.first().cloned().unwrap_or_else(|| member.id.clone()),
            name => name.to_owned(),
        };
        (name, Known { urls: member.peer_urls.clone(), learner: member.learner })
    };
    listed.iter().map(known).collect()
}

fn members(known: &BTreeMap<String, Known>, cluster: &Cluster) -> Vec<Refusal> {
    let mut out = Vec::new();
    let mut refuse = |host: Option<HostName>, found: String, mend: String| {
        out.push(Refusal { rule: Rule::QuorumFirst, host, found, mend });
    };
    let all = known.keys().map(String::as_str).collect::<Vec<_>>().join(", ");
    let wanted = peer_urls(cluster);
    for (name, url) in &wanted {
        let host = Some(name.clone());
        match known.get(name.as_str()) {
            None => refuse(
                host,
                format!("the file names it an etcd member, and the quorum that stands has {all}"),
                format!("this version adds no member to a quorum that stands: take {name} out of etcd.members again"),
            ),
            Some(Known { urls, .. }) if !urls.contains(url) => refuse(
                host,
                format!("the quorum dials it at {}, and the file says {url}", urls.join(", ")),
                "this version moves no member of a quorum that stands: put its address and etcd.peer-port back".into(),
            ),
            Some(Known { learner: true, .. }) => refuse(
                host,
                "it is a learner in the quorum that stands, and has no vote yet".into(),
                format!("promote it, or take it out, with etcd's own client (member promote, member remove); zoisite status shows {name}"),
            ),
            Some(_) => {}
        }
    }
    let named: BTreeSet<&str> = wanted.iter().map(|(name, _)| name.as_str()).collect();
    for (name, Known { urls, .. }) in
        known.iter().filter(|(name, _)| !named.contains(name.as_str()))
    {
        refuse(
            HostName::new(name).ok(),
            format!("it is a member of the quorum that stands ({}), and the file does not name it", urls.join(", ")),
            "this version removes no member from a quorum that stands: name it in etcd.members, or remove it with etcd's own client (member remove)".into(),
        );
    }
    out
}

fn fixed(facts: &FixedFacts, cluster: &Cluster) -> Vec<Refusal> {
    let list = |nets: &[IpNet]| nets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let network = &cluster.network;
    let all = [
        ("cluster.domain", facts.domain.clone(), cluster.domain.clone()),
        ("network.pods", list(&facts.pods), list(&network.pods)),
        ("network.services", list(&facts.services), list(&network.services)),
        ("network.pod-subnet", facts.pod_subnet.to_string(), network.pod_subnet.to_string()),
    ];
    // One may be added. Taken over by others it would lead nowhere for minutes, and everything dials it.
    let floats = facts.floating.clone().map(|begun| {
        let now = floating(cluster).unwrap_or_else(|| "none".into());
        ("balancers.floating", begun, now)
    });
    all.into_iter()
        .chain(floats)
        .filter(|(_, begun, now)| begun != now)
        .map(|(key, begun, now)| Refusal {
            rule: Rule::SafeWay,
            host: None,
            found: format!("{key} was {begun} when the cluster began, and the file now says {now}"),
            mend: format!("every node and service was built upon it, and this version changes it on no cluster that stands: put {begun} back, or raise another cluster"),
        })
        .collect()
}
