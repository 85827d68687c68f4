//! Simulated hosts that a sequence is carried out on, again and again, by one record.

use std::collections::BTreeMap;
use std::future::pending;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use zoisite_core::aim::Aim;
use zoisite_core::cluster::{Cluster, Host, HostName};
use zoisite_core::components::{NodeImages, node_images};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{
    ApiObject, Holdings, NodeWanted, Part, assign_subnets, node_wanted, peer_urls,
};
use zoisite_core::item::{ComponentSums, Item};
use zoisite_core::script::Depth;
use zoisite_core::sequence::{
    ApiLook, Begun, Engine, Looks, PlanInput, PlanOptions, Sequence, Tally, Unplannable, plan,
};
use zoisite_core::token::TokenRecord;
use zoisite_reach::{Reach as _, Rehearsal, World, run};

use crate::simulated::{self, ID, Issued, TestContents, host, now, on_virtual_time};

pub const CONFIG: &str = "/etc/zoisite/etcd/etcd.yaml";

pub fn issued() -> &'static Issued {
    static ISSUED: OnceLock<Issued> = OnceLock::new();
    ISSUED.get_or_init(|| Issued::of(simulated::saltmarsh()))
}

pub struct Stage {
    pub cluster: Cluster,
    pub holdings: Holdings,
    pub sums: ComponentSums,
    pub world: Arc<Mutex<World>>,
    pub runs: u64,
    /// What the program has recorded of the cluster's beginning.
    pub begun: Option<Begun>,
    pub objects: Vec<ApiObject>,
    pub nodes: Vec<NodeWanted>,
    /// What failed in the last raise.
    pub troubles: Vec<String>,
    /// Whether requests are signed unseen.
    pub signs_anything: bool,
}

/// How a raise on the stage ended.
#[derive(Debug)]
pub enum Ended {
    Nothing,
    Done(Tally),
    Refused(Unplannable),
    Killed,
}

impl Stage {
    /// The whole cluster, with nodes.
    pub fn whole() -> Self {
        Self::of(Part::ALL)
    }

    /// The quorum alone.
    pub fn etcd() -> Self {
        Self::of(&[Part::Etcd])
    }

    pub fn of(parts: &[Part]) -> Self {
        let cluster = &issued().cluster;
        let mut subnets = BTreeMap::new();
        assign_subnets(cluster, &mut subnets);
        let images = NodeImages { sources: node_images(cluster, &[]), ..NodeImages::default() };
        let holdings = issued().holdings(cluster, parts, (&subnets, &images), None);
        let (mut objects, mut nodes) = (Vec::new(), Vec::new());
        if parts.contains(&Part::Nodes) {
            objects = zoisite_core::holdings::objects(cluster, &images);
            let wanted = |host: &&Host| node_wanted(cluster, &host.name, &subnets[&host.name]);
            nodes = cluster.nodes().iter().map(wanted).collect();
        }
        let mut sums = ComponentSums::default();
        for component in holdings.hosts.iter().flat_map(|h| h.components()) {
            sums.insert(component.pinned.path("amd64"), "ab".repeat(32));
        }
        let world = World::new(cluster.hosts.iter().map(|h| (h.name.clone(), h.address)), now());
        let world = Arc::new(Mutex::new(world));
        Self {
            cluster: cluster.clone(),
            holdings,
            sums,
            world,
            runs: 0,
            begun: None,
            troubles: Vec::new(),
            signs_anything: false,
            objects,
            nodes,
        }
    }

    pub fn raised() -> Self {
        let mut stage = Self::etcd();
        stage.must_converge("from nothing");
        stage
    }

    pub fn world(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn reach(&self, generation: u64) -> Rehearsal {
        let signs_anything = self.signs_anything;
        let contents = TestContents { issued: issued(), signs_anything };
        Rehearsal::new(self.world.clone(), Arc::new(contents), generation)
    }

    pub async fn looks(&self, reach: &Rehearsal) -> Looks {
        let mut looks = Looks::new();
        for host in &self.holdings.hosts {
            looks.insert(host.host.clone(), reach.observe(host, Depth::Quick).await);
        }
        looks
    }

    pub async fn planned(&self, reach: &Rehearsal) -> Result<Sequence, Unplannable> {
        let looks = self.looks(reach).await;
        let Self { cluster, holdings, sums, objects, nodes, .. } = self;
        let api = match looks.values().flatten().any(|seen| {
            seen.found.units.get("zoisite-api-server.service").is_some_and(|u| u.active == "active")
        }) {
            true => reach.ask(objects, &[]).await,
            false => ApiLook::Absent,
        };
        let (looks, api) = (&looks, &api);
        let record = |node: &NodeWanted| simulated::join_token(&node.host).0;
        let tokens: Vec<TokenRecord> = nodes.iter().map(record).collect();
        let (tokens, accepted) = (&tokens, &[]);
        let real = zoisite_core::sequence::real(looks, self.begun.as_ref());
        let aim = &Aim::of_file(cluster, &peer_urls(cluster).into_iter().collect());
        let input = PlanInput {
            cluster,
            aim,
            real: &real,
            holdings,
            looks,
            sums,
            api,
            objects,
            shelf: &[],
            nodes,
            tokens,
            accepted,
            identity: ID,
            begun: self.begun.as_ref(),
            marked: false,
            departed: &Default::default(),
            now: now(),
        };
        plan(input, PlanOptions { timeout: 60 })
    }

    /// One raise, on virtual time.
    pub fn raise(&mut self) -> Ended {
        self.runs += 1;
        on_virtual_time(async {
            let reach = self.reach(self.runs);
            let sequence = match self.planned(&reach).await {
                Ok(sequence) if sequence.is_empty() => return Ended::Nothing,
                Ok(sequence) => sequence,
                Err(none) => return Ended::Refused(none),
            };
            self.begun.get_or_insert_with(|| Begun::of(&self.cluster, ID, now()));
            let mut engine = Engine::new(sequence, 40);
            let mut unseen = |_: &_, _: &_| {};
            let raising = run(&mut engine, &reach, (pending(), pending()), &mut unseen);
            let killed = tokio::select! {
                () = raising => false,
                () = reach.killed() => true,
            };
            if let (Some(begun), Some(proven)) = (&mut self.begun, engine.proven()) {
                begun.formed = Some(proven.cluster_id.clone());
            }
            let told = |trouble: &Trouble| format!("{trouble} {:?}", trouble.evidence);
            self.troubles = engine.troubles().map(told).collect();
            if killed { Ended::Killed } else { Ended::Done(engine.tally()) }
        })
    }

    /// Raises once, and once more to see that nothing is left to do.
    pub fn must_converge(&mut self, when: &str) {
        match self.raise() {
            Ended::Nothing => {}
            Ended::Done(tally) => {
                assert_eq!((tally.failed, tally.not_taken), (0, 0), "{when}: {:?}", self.troubles);
            }
            other => panic!("{when}: {other:?}"),
        }
        assert!(matches!(self.raise(), Ended::Nothing), "{when}: a second raise does nothing");
        for member in &self.cluster.etcd.members {
            assert!(self.world().serves(member), "{when}: {member} serves");
        }
        let wanted: Vec<HostName> = self.nodes.iter().map(|node| node.host.clone()).collect();
        let (mut ready, mut wanted) = (self.world().ready_nodes(), wanted);
        ready.sort();
        wanted.sort();
        assert_eq!(ready, wanted, "{when}: every node is Ready");
        assert_eq!(self.world().broken(), [""; 0], "{when}");
        self.only_own_keys(when);
        self.no_tokens(when);
    }

    /// Rule S6: a join token is gone, in the cluster and on the host, after its use.
    pub fn no_tokens(&self, when: &str) {
        assert!(self.world().published_tokens().is_empty(), "{when}: a token is published");
        for (name, path, text) in self.world().files() {
            assert!(!text.contains("secretofthistoken"), "{when}: a token is in {path} of {name}");
        }
    }

    /// Rule S5: a private key is only on the host whose holdings name it.
    pub fn only_own_keys(&self, when: &str) {
        for (name, path, text) in self.world().files() {
            if text.contains("PRIVATE KEY") {
                let wanted = self.holdings.host(name).unwrap();
                let own = wanted.items.iter().any(|item| match item {
                    Item::Pair(pair) => pair.key_path() == path,
                    item => item.secret().is_some() && item.describe().what == path,
                });
                // A kubelet makes its own, on its host.
                let made = wanted.node.as_ref().is_some_and(|node| node.client == path);
                assert!(own || made, "{when}: a key stands in {path} of {name}");
            }
        }
    }

    pub fn edit(&self, name: &str) {
        self.world().edit(&host(name), CONFIG, |text| {
            text.replace("election-timeout: 1000", "election-timeout: 9000")
        });
    }
}
