//! What is left of a cluster when hosts are lost, one at a time, in pairs, or a whole place at once.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::host::Host;
use super::model::{Cluster, Role};
use super::names::HostName;

/// What is lost at once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Lost {
    /// Any one of hosts that are alike: what is said holds for each of them.
    OneOf(Vec<HostName>),
    /// Any two of hosts that are alike.
    TwoOf(Vec<HostName>),
    /// Any one of some, and any one of others.
    OneOfEach(Vec<HostName>, Vec<HostName>),
    /// All that stands in one rack.
    Rack(String),
    /// All that stands at one site.
    Site(String),
}

/// How many of a layer are left.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Left {
    /// That many.
    pub left: usize,
    /// Of so many.
    pub of: usize,
}

/// One row of the loss table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Loss {
    /// What is lost.
    pub lost: Lost,
    /// Load balancers left; `None` where the site brings its own.
    pub load_balancers: Option<Left>,
    /// API servers left.
    pub api_servers: Left,
    /// etcd members left.
    pub members: Left,
    /// Workers left.
    pub workers: Left,
    /// Why the cluster does not answer at its API endpoint any more; `None` where it does.
    pub outage: Option<String>,
}

/// The loss table of a cluster: a row for each kind of host that may be lost, one for each kind of pair that the cluster
/// does not survive though it survives either alone (for the worst pair, where it survives all), and one for each rack and
/// site that the file names.
///
/// A host in several layers is one loss of all of them. A cluster answers while a majority of its members, an
/// API server, and what its API endpoint leads to are left; load balancers and names that the site brings itself
/// are taken to be there.
pub fn losses(cluster: &Cluster) -> Vec<Loss> {
    let table = Table::of(cluster);
    let mut rows = Vec::new();
    let kinds = table.kinds();
    for kind in &kinds {
        let gone = kind.iter().take(1).copied().collect();
        rows.push(table.row(Lost::OneOf(kind.iter().map(|host| (*host).clone()).collect()), &gone));
    }
    rows.extend(table.worst_pairs(&kinds));
    let mut racks: BTreeMap<String, BTreeSet<&HostName>> = BTreeMap::new();
    let mut sites: BTreeMap<String, BTreeSet<&HostName>> = BTreeMap::new();
    for Host { name, place, .. } in &cluster.hosts {
        if let Some(site) = &place.site {
            sites.entry(site.clone()).or_default().insert(name);
        }
        if let Some(rack) = &place.rack {
            let rack = match &place.site {
                Some(site) => format!("{rack}, {site}"),
                None => rack.clone(),
            };
            racks.entry(rack).or_default().insert(name);
        }
    }
    rows.extend(racks.into_iter().map(|(rack, gone)| table.row(Lost::Rack(rack), &gone)));
    rows.extend(sites.into_iter().map(|(site, gone)| table.row(Lost::Site(site), &gone)));
    rows
}

struct Table<'a> {
    cluster: &'a Cluster,
    /// The host whose own address is the endpoint.
    stable: Option<&'a HostName>,
    layers: [BTreeSet<&'a HostName>; Role::ALL.len()],
}

impl<'a> Table<'a> {
    fn of(cluster: &'a Cluster) -> Self {
        let owner = cluster.hosts.iter().find(|host| Some(host.address) == cluster.api_ip());
        let shared = cluster.shared_load_balancers();
        let layers = Role::ALL.map(|role| {
            let layer = cluster.holders(role).iter();
            // Who forwards for itself alone is lost to nobody else.
            layer.filter(|host| role != Role::LoadBalancer || shared.contains(host)).collect()
        });
        Self { cluster, stable: owner.map(|host| &host.name), layers }
    }

    fn layer(&self, role: Role) -> &BTreeSet<&'a HostName> {
        let at = Role::ALL.iter().position(|other| *other == role).unwrap_or_default();
        &self.layers[at]
    }

    /// Hosts that hold the same, in the order of the file.
    fn kinds(&self) -> Vec<Vec<&'a HostName>> {
        let mut kinds: Vec<(Vec<bool>, Vec<&HostName>)> = Vec::new();
        for Host { name, .. } in &self.cluster.hosts {
            let layers = self.layers.iter().map(|layer| layer.contains(name));
            let kind: Vec<bool> = layers.chain([self.stable == Some(name)]).collect();
            match kinds.iter_mut().find(|(known, _)| *known == kind) {
                Some((_, hosts)) => hosts.push(name),
                None => kinds.push((kind, vec![name])),
            }
        }
        kinds.into_iter().map(|(_, hosts)| hosts).collect()
    }

    fn left(&self, role: Role, gone: &BTreeSet<&HostName>) -> Left {
        let layer = self.layer(role);
        let left = layer.iter().filter(|host| !gone.contains(*host)).count();
        Left { left, of: layer.len() }
    }

    fn row(&self, lost: Lost, gone: &BTreeSet<&HostName>) -> Loss {
        let members = self.left(Role::EtcdMember, gone);
        let api_servers = self.left(Role::ControlPlane, gone);
        let load_balancers = Some(self.left(Role::LoadBalancer, gone))
            .filter(|load_balancers| load_balancers.of > 0);
        let mut why = Vec::new();
        if members.left * 2 <= members.of {
            why.push(format!("no quorum ({} of {} members left)", members.left, members.of));
        }
        if api_servers.left == 0 {
            why.push("no API server".to_owned());
        }
        if load_balancers.is_some_and(|load_balancers| load_balancers.left == 0) {
            why.push("no load balancer".to_owned());
        }
        if let Some(owner) = self.stable.filter(|owner| gone.contains(*owner)) {
            why.push(format!("the API endpoint is {owner}'s own address"));
        }
        let outage = (!why.is_empty()).then(|| why.join("; "));
        let workers = self.left(Role::Worker, gone);
        Loss { lost, load_balancers, api_servers, members, workers, outage }
    }

    /// How much is left above what the cluster needs: the less, the worse.
    fn margin(loss: &Loss) -> (bool, usize, usize) {
        let members = loss.members.left.saturating_sub(loss.members.of / 2 + 1);
        let api = loss.api_servers.left.saturating_sub(1);
        let load_balancers =
            loss.load_balancers.map_or(usize::MAX, |left| left.left.saturating_sub(1));
        (loss.outage.is_none(), members.min(api).min(load_balancers), loss.workers.left)
    }

    /// Of hosts that are alike two stand for all, so that large clusters are as quick as small ones.
    fn worst_pairs(&self, kinds: &[Vec<&'a HostName>]) -> Vec<Loss> {
        let named = |kind: &[&HostName]| kind.iter().map(|host| (*host).clone()).collect();
        let mut pairs: Vec<(bool, Loss)> = Vec::new();
        for (at, kind) in kinds.iter().enumerate() {
            if let [one, other, ..] = kind.as_slice() {
                let loss = self.row(Lost::TwoOf(named(kind)), &BTreeSet::from([*one, *other]));
                pairs.push((self.survives_without(one), loss));
            }
            for others in &kinds[at + 1..] {
                let (one, other) = (kind[0], others[0]);
                let lost = Lost::OneOfEach(named(kind), named(others));
                let loss = self.row(lost, &BTreeSet::from([one, other]));
                pairs.push((self.survives_without(one) && self.survives_without(other), loss));
            }
        }
        let outage = |(either, loss): &(bool, Loss)| *either && loss.outage.is_some();
        match pairs.iter().any(outage) {
            true => pairs.into_iter().filter(outage).map(|(_, loss)| loss).collect(),
            false => {
                let worst = pairs.into_iter().map(|(_, loss)| loss).min_by_key(Self::margin);
                worst.into_iter().collect()
            }
        }
    }

    fn survives_without(&self, host: &'a HostName) -> bool {
        self.row(Lost::OneOf(Vec::new()), &BTreeSet::from([host])).outage.is_none()
    }
}
