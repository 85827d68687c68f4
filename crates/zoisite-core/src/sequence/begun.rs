//! What is recorded of a cluster that was begun, and what a cluster file may no longer change of it.

use std::collections::{BTreeMap, BTreeSet};

use ipnet::IpNet;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::looks::Looks;
use super::rules::{Refusal, Rule};
use crate::aim::{Arm, Machine, Quorum, Real, Records, Restoring};
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
    /// The virtual IP and who holds it, in words; `None` where there was none.
    #[serde(default)]
    pub virtual_ip: Option<String>,
}

/// The virtual IP and who holds it, in words.
fn virtual_ip(cluster: &Cluster) -> Option<String> {
    let holders = match cluster.front() {
        Role::LoadBalancer => "the load balancers",
        _ => "the control planes",
    };
    cluster.load_balancers.virtual_ip.map(|address| format!("{address}, held by {holders}"))
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
    /// Members that this program made or is about to make, with the URL at which the others dial each.
    pub members: BTreeMap<HostName, String>,
    /// Members that were taken out, and of which something may be left on their hosts.
    #[serde(default)]
    pub left: BTreeSet<HostName>,
    /// etcd's own cluster id, once the quorum was proven: the cluster stands.
    pub formed: Option<String>,
    /// The snapshot that is being put back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restoring: Option<Restoring>,
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
                virtual_ip: virtual_ip(cluster),
            },
            members: peer_urls(cluster).into_iter().collect(),
            left: BTreeSet::new(),
            formed: None,
            restoring: None,
        }
    }

    /// The same, once a person has a snapshot put back. Members may have begun with one that was put back before and was
    /// never proven: what is left of them serves no more, or they would be a quorum of their own.
    pub fn restore(mut self, from: Restoring) -> Self {
        let before = self.restoring.take().map(|before| before.hosts).unwrap_or_default();
        let begins = |host: &HostName| from.hosts.contains(host) || self.members.contains_key(host);
        self.left.extend(before.into_iter().filter(|host| !begins(host)));
        self.restoring = Some(from);
        self
    }

    /// The same, once a quorum that begins with a snapshot was proven under this cluster id of etcd's.
    pub fn restored(&self, arm: &Arm, cluster_id: &str) -> Option<Self> {
        let Arm::Restore { from, .. } = arm else { return None };
        let Records { members, left, restoring, .. } = self.records().after(arm);
        let (epoch, formed) = (from.epoch, Some(cluster_id.to_owned()));
        Some(Self { epoch, formed, members, left, restoring, ..self.clone() })
    }

    /// Members that the file no longer names. Of a first start: nothing is started as if new before each of them is
    /// known to hold no data.
    pub fn dropped<'a>(&'a self, cluster: &'a Cluster) -> impl Iterator<Item = &'a HostName> {
        self.members.keys().filter(|member| !cluster.etcd.members.contains(member))
    }
}

/// What the record must say of members before a stage towards `arm` begins: those that are in, whoever is about to be let
/// in or moved, and those that were taken out and of which something may be left.
pub fn recorded(begun: Option<&Begun>, cluster: &Cluster, real: &Real, arm: &Arm) -> Records {
    let wanted: BTreeMap<HostName, String> = peer_urls(cluster).into_iter().collect();
    let known = begun.map(Begun::records);
    if let Some(known) = known.as_ref().filter(|known| known.restoring.is_some()) {
        return known.clone();
    }
    let fresh = Records { members: wanted.clone(), ..Records::default() };
    let list = match &real.quorum {
        Quorum::Unbegun => return fresh,
        Quorum::Unseen => return known.unwrap_or(fresh),
        Quorum::Listed(list) => list,
    };
    let Records { mut members, mut left, restoring, .. } = known.unwrap_or_default();
    for (host, url) in &mut members {
        let listed = list.iter().find(|member| member.name == host.as_str());
        if let Some(now) = listed.and_then(|member| member.urls.first()) {
            url.clone_from(now);
        }
    }
    let listed = |host: &HostName, url: &String| list.iter().any(|member| member.is_of(host, url));
    left.extend(members.extract_if(.., |host, url| !listed(host, url)).map(|(host, _)| host));
    members.extend(wanted.into_iter().filter(|(host, url)| listed(host, url)));
    if let Arm::Learn { host, url, .. } | Arm::Move { host, url, .. } = arm {
        members.insert(host.clone(), url.clone());
    }
    left.retain(|host| {
        let nothing = matches!(real.machine(host), Machine::Seen { data: false, .. });
        !nothing && !members.contains_key(host)
    });
    Records { members, left, restoring, ..Records::default() }
}

/// etcd's own list of its members, where a host gave it: every member that gives one gives the same.
/// One of another quorum than the record knows, by etcd's own cluster id, says nothing of it.
pub fn listed_members<'a>(looks: &'a Looks, begun: Option<&Begun>) -> Option<&'a [EtcdMember]> {
    let formed = begun.and_then(|begun| begun.formed.as_deref());
    looks.values().find_map(|look| {
        let etcd = &look.as_ref().ok()?.etcd;
        let other = |formed| etcd.status.as_ref().is_some_and(|its| its.cluster_id != formed);
        etcd.members.as_deref().filter(|_| !formed.is_some_and(other))
    })
}

/// How many members vote: by etcd's own list where it is known, else as many as the cluster file names. (A
/// quorum always has one that votes.)
pub fn voters(listed: Option<&[EtcdMember]>, cluster: &Cluster) -> usize {
    match listed.unwrap_or_default().iter().filter(|member| !member.learner).count() {
        0 => cluster.etcd.members.len(),
        voters => voters,
    }
}

/// What of a cluster file contradicts the record of a cluster that stands.
pub fn contradictions(begun: Option<&Begun>, cluster: &Cluster) -> Vec<Refusal> {
    let standing = begun.filter(|begun| begun.formed.is_some());
    standing.map_or_else(Vec::new, |begun| fixed(&begun.facts, cluster))
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
    let floats = facts.virtual_ip.clone().map(|begun| {
        let now = virtual_ip(cluster).unwrap_or_else(|| "none".into());
        ("load-balancers.virtual-ip", begun, now)
    });
    all.into_iter()
        .chain(floats)
        .filter(|(_, begun, now)| begun != now)
        .map(|(key, begun, now)| Refusal {
            rule: Rule::SafeWay,
            host: None,
            found: format!("{key} was {begun} when the cluster began, and the file now says {now}"),
            fix: format!("every node and service was built upon it, and this version changes it on no cluster that stands: put {begun} back, or raise another cluster"),
        })
        .collect()
}
