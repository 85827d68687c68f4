//! A whole cluster on data alone: what every host shows, what the API shows, and the plan for it.

use std::collections::BTreeSet;

use zoisite_core::aim::{Aim, Next, Real};
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{Holdings, NodeWanted, Part, Sources, holdings, node_wanted, objects};
use zoisite_core::item::ComponentSums;
use zoisite_core::script::{EtcdMember, EtcdStatus, Identity, Observed};
use zoisite_core::sequence::{
    ApiLook, ApiObserved, Begun, Looks, NodeFacts, PlanInput, PlanOptions, Sequence, Unplannable,
    plan,
};
use zoisite_core::token::TokenRecord;

use super::{Known, Trust, at, hold, host, next, saltmarsh, stage};

pub const ID: &str = "0123456789abcdef";

pub struct Scene {
    pub cluster: Cluster,
    pub known: Known,
    pub trust: Trust,
    pub looks: Looks,
    pub api: ApiLook,
    pub tokens: Vec<TokenRecord>,
    pub departed: BTreeSet<HostName>,
    /// What is recorded of its beginning.
    pub begun: Option<Begun>,
    pub shelf: Vec<zoisite_core::components::Shelved>,
}

impl Scene {
    /// Every host is switched on and bare.
    pub fn bare() -> Self {
        Self::of(saltmarsh())
    }

    pub fn of(cluster: Cluster) -> Self {
        let mut trust = Trust::new(&cluster, at("2026-11-23"));
        trust.issue(&cluster, at("2026-11-23"));
        let looks = cluster
            .hosts
            .iter()
            .map(|h| {
                let observed = Observed {
                    machine: format!("machine of {}", h.name),
                    arch: "amd64".into(),
                    init: "systemd".into(),
                    resolves: Some(true),
                    ..Observed::default()
                };
                (h.name.clone(), Ok(observed))
            })
            .collect();
        let known = Known::of(&cluster);
        Self {
            cluster,
            known,
            trust,
            looks,
            api: ApiLook::Absent,
            tokens: Vec::new(),
            departed: BTreeSet::new(),
            begun: None,
            shelf: Vec::new(),
        }
    }

    /// Everything is as wanted.
    pub fn raised() -> Self {
        Self::raised_of(saltmarsh())
    }

    pub fn raised_of(cluster: Cluster) -> Self {
        let mut scene = Self::of(cluster);
        let holdings = scene.holdings();
        let mut api = ApiObserved::default();
        for (name, look) in &mut scene.looks {
            let observed = look.as_mut().unwrap();
            for item in &holdings.host(name).unwrap().items {
                hold(observed, item);
            }
            observed.identity = Identity::Until(at("2027-11-23"));
            if scene.cluster.etcd.members.contains(name) {
                observed.etcd.data = true;
                observed.etcd.owner = Some(ID.into());
                observed.etcd.formed = Some("9".into());
                observed.etcd.status = Some(EtcdStatus {
                    cluster_id: "9".into(),
                    leader: "0000000000000009".into(),
                    ..EtcdStatus::default()
                });
            }
        }
        for node in scene.nodes() {
            let facts = NodeFacts {
                ready: true,
                machine: format!("machine of {}", node.host),
                put: Some(node.put()),
                subnets: node.subnets,
                labels: node.labels,
                taints: node.taints,
                ..NodeFacts::default()
            };
            api.nodes.insert(node.host.to_string(), facts);
        }
        scene.api = ApiLook::Answered(Box::new(api));
        scene
    }

    /// The same, with all that a cluster that stands shows and that is recorded of it.
    pub fn standing() -> Self {
        Self::standing_of(saltmarsh())
    }

    pub fn standing_of(cluster: Cluster) -> Self {
        let mut scene = Self::raised_of(cluster);
        let list = scene.members("https://10.77.0.11:2380");
        let begun = Begun::of(&scene.cluster, ID, at("2026-11-23"));
        scene.begun = Some(Begun { formed: Some("9".into()), ..begun });
        let (etcd, kubernetes) = (scene.cluster.etcd_version, scene.cluster.kubernetes);
        let dns = scene.cluster.components.dns.to_string();
        for look in scene.looks.values_mut() {
            let observed = look.as_mut().unwrap();
            observed.cluster = Some(format!("{ID} 1"));
            observed.etcd.members = observed.etcd.status.as_ref().map(|_| list.clone());
            for (name, unit) in &mut observed.found.units {
                let folder = match name.as_str() {
                    "zoisite-etcd.service" => format!("etcd-{etcd}"),
                    _ => format!("kubernetes-{kubernetes}"),
                };
                if name.starts_with("zoisite-") {
                    unit.runs = Some(format!("/usr/local/lib/zoisite/{folder}/program"));
                }
            }
        }
        scene.api(|api| {
            api.dns = dns;
            for facts in api.nodes.values_mut() {
                facts.version = kubernetes.to_string();
            }
        });
        scene
    }

    /// etcd's own list of the demo's members, with heron at this URL.
    pub fn members(&self, heron: &str) -> Vec<EtcdMember> {
        let wanted = zoisite_core::holdings::peer_urls(&self.cluster);
        let member = |(name, url): (HostName, String)| EtcdMember {
            id: format!("{name:0>16}"),
            peer_urls: vec![if name.as_str() == "heron" { heron.to_owned() } else { url }],
            name: name.to_string(),
            learner: false,
            served: true,
        };
        wanted.into_iter().map(member).collect()
    }

    /// A host does not answer any more.
    pub fn lose(&mut self, name: &str) {
        let lost = Trouble::new(Some(host(name)), "logging in", "No route to host", vec![]);
        self.looks.insert(host(name), Err(lost));
    }

    /// Of etcd nothing is seen but what the file's members show, who are other hosts by now.
    pub fn forget_old_members(&mut self) {
        for look in self.looks.values_mut().flatten() {
            look.etcd = Default::default();
        }
    }

    pub fn holdings(&self) -> Holdings {
        holdings(&self.cluster, self.known.sources(&self.trust.ledger, ID), Part::ALL).unwrap()
    }

    pub fn nodes(&self) -> Vec<NodeWanted> {
        let wanted = |h: &&zoisite_core::cluster::Host| {
            node_wanted(&self.cluster, &h.name, &self.known.subnets[&h.name])
        };
        self.cluster.nodes().iter().map(wanted).collect()
    }

    pub fn edit(&mut self, name: &str, change: impl FnOnce(&mut Observed)) {
        change(self.looks.get_mut(&host(name)).unwrap().as_mut().unwrap());
    }

    pub fn api(&mut self, change: impl FnOnce(&mut ApiObserved)) {
        match &mut self.api {
            ApiLook::Answered(api) => change(api),
            other => panic!("{other:?}"),
        }
    }

    pub fn plan(&self) -> Result<Sequence, Unplannable> {
        self.plan_accepting(&[])
    }

    pub fn plan_accepting(&self, accepted: &[HostName]) -> Result<Sequence, Unplannable> {
        let (aim, real) = self.next(true);
        self.plan_to(&stage(aim), &real, accepted)
    }

    /// Where a run goes next; `consent` says whether a person wants the membership changed.
    pub fn next(&self, consent: bool) -> (Next, Real) {
        next(&self.cluster, &self.looks, self.begun.as_ref(), consent)
    }

    /// The plan of the stage to an aim.
    pub fn plan_to(
        &self,
        aim: &Aim,
        real: &Real,
        accepted: &[HostName],
    ) -> Result<Sequence, Unplannable> {
        let cluster = aim.cluster(&self.cluster);
        let sources = self.known.sources(&self.trust.ledger, ID);
        let sources = Sources { etcd: Some(&aim.etcd), ..sources };
        let holdings = holdings(&cluster, sources, Part::ALL).unwrap().within(&aim.scope);
        let mut sums = ComponentSums::default();
        for component in holdings.hosts.iter().flat_map(|h| h.components()) {
            sums.insert(component.pinned.path("amd64"), "ab".repeat(32));
        }
        let input = PlanInput {
            cluster: &cluster,
            aim,
            real,
            holdings: &holdings,
            looks: &self.looks,
            sums: &sums,
            api: &self.api,
            objects: &objects(&self.cluster, &self.known.images),
            shelf: &self.shelf,
            nodes: &self.nodes(),
            tokens: &self.tokens,
            accepted,
            identity: ID,
            begun: self.begun.as_ref(),
            marked: false,
            departed: &self.departed,
            now: at("2026-11-23"),
        };
        plan(input, PlanOptions::default())
    }
}

pub fn index(sequence: &Sequence, id: &str) -> usize {
    let ids: Vec<&str> = sequence.steps.iter().map(|step| step.id.as_str()).collect();
    ids.iter().position(|known| *known == id).unwrap_or_else(|| panic!("no {id} in {ids:?}"))
}

/// Whether `later` needs `earlier`, directly or through others.
pub fn needs(sequence: &Sequence, later: usize, earlier: usize) -> bool {
    let direct = &sequence.steps[later].needs;
    direct.contains(&earlier) || direct.iter().any(|need| needs(sequence, *need, earlier))
}
