//! A store, a file and five simulated hosts, with which raises are lived through; and what such a raise may be kept
//! from doing right.

use std::collections::BTreeMap;
use std::future::pending;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use jiff::Timestamp;
use zoisite_core::aim::{Aim, Arm, Next, Records, Restoring, leaving, next_aim};
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::components::NodeImages;
use zoisite_core::holdings::{Holdings, HostHoldings, Part, peer_urls};
use zoisite_core::item::{ComponentSums, Item, Pinned};
use zoisite_core::script::{Depth, Operation, Stretch};
use zoisite_core::sequence::{
    ApiLook, Begun, Engine, Looks, MachinePin, PlanInput, PlanOptions, Sequence, Work, plan, real,
    recorded, same_machine,
};
use zoisite_reach::{Reach as _, Rehearsal, World, run};
use zoisite_store::{Overlay, State, Strongbox, at_rest, authorities, token_key};

use crate::simulated::{self, ID, Issued, TestContents, host, now, on_virtual_time};

pub const HOSTS: [&str; 5] = ["heron", "egret", "ibis", "curlew", "plover"];

/// Five hosts of the demo that may be members, with everything issued for all of them.
pub fn issued() -> &'static Issued {
    static ISSUED: OnceLock<Issued> = OnceLock::new();
    ISSUED.get_or_init(|| {
        let mut cluster = simulated::saltmarsh();
        cluster.hosts.retain(|one| HOSTS.contains(&one.name.as_str()));
        cluster.etcd.members = HOSTS.map(host).to_vec();
        cluster.control_plane.hosts.clear();
        cluster.load_balancers.hosts.clear();
        cluster.workers.hosts.clear();
        Issued::of(cluster)
    })
}

/// What this program is kept from doing right, to see that the world notices.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bug {
    /// A member whose data is gone starts as if it had never served: rules S1 `quorum_first` and `ExecCondition`.
    StartsAsNew,
    /// A voter is taken out whoever else is well: rule S1 `permits`.
    RemovesAnyway,
    /// What a member is told that begins is not compared again: it begins as it did at first.
    OldFirstStart,
    /// Data of a membership that is over is not moved aside.
    NothingAside,
    /// Whom this program let in is not recorded.
    RecordsNothing,
    /// Unnamed machines are told to begin a quorum, not to come to one.
    BeginsAnother,
    /// What restarts is not waited for, nor proven, before the next does: rule S2.
    WaitsForNothing,
    /// A voter is taken out, and nothing was saved before: rule S10.
    SavesNothing,
    /// A host with another cluster's data is begun anyway: rule S3.
    TakesForeignData,
    /// Whichever machine answers is taken for the host: rule S4.
    TakesAnyMachine,
    /// It is planned from a look at a host on which another script acts: rule S11.
    PlansBesideOthers,
}

/// Those that lives of chance find; rule S11 has a test of its own.
pub const BUGS: [Bug; 10] = [
    Bug::SavesNothing,
    Bug::StartsAsNew,
    Bug::RemovesAnyway,
    Bug::OldFirstStart,
    Bug::NothingAside,
    Bug::RecordsNothing,
    Bug::BeginsAnother,
    Bug::WaitsForNothing,
    Bug::TakesForeignData,
    Bug::TakesAnyMachine,
];

pub struct Stage {
    pub cluster: Cluster,
    /// What is issued for it, and the parts of it that are raised.
    pub issued: &'static Issued,
    pub parts: &'static [Part],
    /// Where it is issued from, if more is to come.
    pub store: Option<(State, Strongbox)>,
    pub world: Arc<Mutex<World>>,
    pub runs: u64,
    pub begun: Option<Begun>,
    pub bug: Option<Bug>,
    /// The machines that were met.
    pub pins: BTreeMap<HostName, MachinePin>,
    /// Arms that stages took, in order.
    pub taken: Vec<Arm>,
    /// What time it is here, by which more is issued.
    pub now: Timestamp,
    /// What failed in the last raise.
    pub troubles: Vec<String>,
}

/// How a raise ended.
#[derive(Debug, PartialEq, Eq)]
pub enum Ended {
    /// The file is reached, and nothing waits.
    Reached,
    /// Something of the file waits.
    Held,
    Failed,
    Refused,
    Killed,
}

impl Stage {
    pub fn new(members: &[&str]) -> Self {
        Self::of(issued(), members)
    }

    pub fn of(issued: &'static Issued, members: &[&str]) -> Self {
        let mut cluster = issued.cluster.clone();
        cluster.etcd.members = members.iter().copied().map(host).collect();
        let world = World::new(cluster.hosts.iter().map(|h| (h.name.clone(), h.address)), now());
        let world = Arc::new(Mutex::new(world));
        Self {
            cluster,
            issued,
            parts: &[Part::Etcd],
            store: None,
            world,
            runs: 0,
            begun: None,
            bug: None,
            pins: BTreeMap::new(),
            now: now(),
            taken: Vec::new(),
            troubles: Vec::new(),
        }
    }

    pub fn raised(members: &[&str]) -> Self {
        let mut stage = Self::new(members);
        assert_eq!(stage.raise(), Ended::Reached);
        stage
    }

    /// Three members that are control planes too, raised, with a store that more is issued from.
    pub fn of_three() -> Self {
        let mut cluster = simulated::saltmarsh();
        cluster.hosts.retain(|one| HOSTS[..3].contains(&one.name.as_str()));
        let three: Vec<_> = HOSTS[..3].iter().copied().map(host).collect();
        (cluster.etcd.members, cluster.control_plane.hosts) = (three.clone(), three);
        cluster.load_balancers.hosts.clear();
        cluster.load_balancers.virtual_ip = None;
        cluster.workers.hosts.clear();
        let mut state = State::new(Box::new(Overlay::over(None)));
        let strongbox = Strongbox::fleeting();
        let issued = Issued::within(cluster, &mut state, &strongbox);
        let mut stage = Self::of(Box::leak(Box::new(issued)), &HOSTS[..3]);
        stage.parts = &[Part::Etcd, Part::ControlPlane];
        stage.store = Some((state, strongbox));
        stage.world().judge_trust(true);
        assert_eq!(stage.raise(), Ended::Reached, "{:?}", stage.troubles);
        stage
    }

    pub fn want(&mut self, members: &[&str]) {
        self.cluster.etcd.members = members.iter().copied().map(host).collect();
    }

    pub fn world(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A person has a snapshot put back, on the members of the file; what was begun with another one is over.
    pub fn put_back(&mut self, snapshot: &str) {
        let hosts = self.cluster.etcd.members.iter().cloned().collect();
        let Some(begun) = self.begun.clone().filter(|begun| begun.formed.is_some()) else {
            return;
        };
        let last = begun.restoring.as_ref().map_or(begun.epoch, |from| from.epoch);
        self.begun = Some(begun.restore(Restoring {
            snapshot: snapshot.to_owned(),
            sha256: zoisite_core::text::digest(snapshot),
            hosts,
            epoch: last + 1,
            of_epoch: 1,
            lost: Default::default(),
        }));
    }

    /// Changes what is issued.
    pub fn store(&mut self, change: impl FnOnce(&mut State, &Strongbox)) {
        let (state, strongbox) = self.store.as_mut().expect("a store");
        change(state, strongbox);
        // For as long as the test lives.
        let issued = Issued::at(self.issued.cluster.clone(), state, strongbox, self.now);
        self.issued = Box::leak(Box::new(issued));
    }

    /// Nobody was there until then: hosts and this program have that time, and nothing was issued meanwhile.
    pub fn nobody_was_there_until(&mut self, then: &str) {
        self.now = then.parse().unwrap();
        self.world().set_clock(self.now);
        self.store(|_, _| {});
    }

    /// The cluster file, with members that it does not name any more and that are there still.
    fn stands(&self) -> Cluster {
        let mut cluster = self.cluster.clone();
        let formed = self.begun.as_ref().filter(|begun| begun.formed.is_some());
        let leaving = formed.map(|begun| leaving(&cluster, &begun.records()));
        cluster.etcd.members.extend(leaving.into_iter().flatten().map(|(host, _)| host));
        cluster
    }

    fn holdings(&self, aim: Option<&Aim>) -> (Cluster, Holdings) {
        let cluster = aim.map_or_else(|| self.stands(), |aim| aim.cluster(&self.cluster));
        let (subnets, images) = (BTreeMap::new(), NodeImages::default());
        let etcd = aim.map(|aim| &aim.etcd);
        let made = self.issued.holdings(&cluster, self.parts, (&subnets, &images), etcd);
        (cluster, aim.map_or(made.clone(), |aim| made.within(&aim.scope)))
    }

    /// Raises until nothing is left to do, whatever was cut off before.
    pub fn must_come_through(&mut self, when: &str) {
        self.world().fix();
        for name in &HOSTS[..3] {
            self.world().power(&host(name), true);
        }
        let mut ended = self.raise();
        for _ in 0..3 {
            if ended == Ended::Reached {
                break;
            }
            ended = self.raise();
        }
        assert_eq!(ended, Ended::Reached, "{when}: {:?}", self.troubles);
        assert_eq!(self.world().broken(), [""; 0], "{when}");
    }

    /// One raise on virtual time, stage after stage.
    pub fn raise(&mut self) -> Ended {
        self.runs += 1;
        let world = self.world.clone();
        on_virtual_time(async {
            let mut before = None;
            loop {
                let contents = Arc::new(TestContents::of(self.issued));
                let reach = Rehearsal::new(world.clone(), contents, self.runs);
                match self.stage(&reach, before.as_ref()).await {
                    Ok(arm) => before = Some(arm),
                    Err(ended) => return ended,
                }
            }
        })
    }

    async fn stage(&mut self, reach: &Rehearsal, before: Option<&Arm>) -> Result<Arm, Ended> {
        let (_, wanted) = self.holdings(None);
        let old =
            self.begun.iter().flat_map(|begun| begun.dropped(&self.cluster).chain(&begun.left));
        let old = old.map(|name| {
            let address = self.cluster.host(name).map(|host| host.address);
            HostHoldings::of_old_member(&self.cluster, (name, address), ID, wanted.host(name))
        });
        let hosts: Vec<HostHoldings> = wanted.hosts.iter().cloned().chain(old).collect();
        let mut looks = Looks::new();
        // As a raise does: what acts there still is waited for (rule S11).
        for _ in 0..100 {
            for host in &hosts {
                looks.insert(host.host.clone(), reach.observe(host, Depth::Quick).await);
            }
            if self.bug == Some(Bug::PlansBesideOthers) {
                looks.values_mut().flatten().for_each(|seen| seen.acting = false);
            }
            if !looks.values().flatten().any(|seen| seen.acting) {
                break;
            }
        }
        for (host, seen) in
            looks.iter().filter_map(|(host, look)| Some((host, look.as_ref().ok()?)))
        {
            let pin = self.pins.entry(host.clone()).or_insert_with(|| MachinePin::of(seen));
            let same = same_machine(host, pin, seen).is_ok();
            if !same && self.bug != Some(Bug::TakesAnyMachine) {
                return Err(Ended::Refused);
            }
        }
        if self.bug == Some(Bug::TakesForeignData) {
            looks.values_mut().flatten().for_each(|seen| seen.etcd.strays.clear());
        }
        if self.bug == Some(Bug::StartsAsNew) {
            for name in HOSTS {
                let unit = "/etc/systemd/system/zoisite-etcd.service";
                self.world().edit(&host(name), unit, |text| text.replace("ExecCondition=", "# "));
            }
            for seen in looks.values_mut().flatten().filter(|seen| !seen.etcd.data) {
                (seen.etcd.owner, seen.etcd.formed) = (Some(ID.into()), None);
            }
        }
        let mut now_real = real(&looks, self.begun.as_ref());
        if let (Some(Bug::RemovesAnyway), zoisite_core::aim::Quorum::Listed(list)) =
            (self.bug, &mut now_real.quorum)
        {
            for member in list
                .iter_mut()
                .filter(|m| self.cluster.etcd.members.iter().any(|w| w.as_str() == m.name))
            {
                member.health = zoisite_core::aim::Health::Well;
            }
        }
        let urls = peer_urls(&self.cluster).into_iter().collect();
        let kept = self.begun.as_ref().map(Begun::records).unwrap_or_default();
        let at_rest = self.issued.shared.at_rest_keys().stage();
        let kept = Records {
            at_rest,
            trust: self.issued.ledger.stage().or(self.issued.shared.service_accounts_turn.stage()),
            ..kept
        };
        let aim = match next_aim(&self.cluster, &urls, &kept, &now_real, true) {
            Next::Stage(aim) => *aim,
            Next::Refused { found, fix } => {
                self.troubles = vec![format!("{found}; {fix}")];
                return Err(Ended::Refused);
            }
        };
        if before == Some(&aim.arm) {
            return Err(Ended::Failed);
        }
        let mut told = aim.clone();
        if self.bug == Some(Bug::BeginsAnother) {
            told.etcd.initial = None;
        }
        let (cluster, holdings) = self.holdings(Some(&told));
        let mut sums = ComponentSums::default();
        for component in holdings.hosts.iter().flat_map(|h| h.components()) {
            sums.insert(component.pinned.path("amd64"), "ab".repeat(32));
        }
        let program =
            Pinned { name: "etcd", version: cluster.etcd_version.to_string(), file: "etcdutl" };
        sums.insert(program.path("amd64"), "cd".repeat(32));
        let (looks, departed) = (&looks, Default::default());
        let input = PlanInput {
            cluster: &cluster,
            aim: &aim,
            real: &now_real,
            holdings: &holdings,
            looks,
            sums: &sums,
            api: &ApiLook::Absent,
            objects: &[],
            shelf: &[],
            nodes: &[],
            tokens: &[],
            accepted: &[],
            identity: ID,
            begun: self.begun.as_ref(),
            marked: false,
            departed: &departed,
            now: now(),
        };
        let mut sequence = match plan(input, PlanOptions { timeout: 60 }) {
            Ok(sequence) => sequence,
            Err(none) => {
                let refusals = none.refusals.iter().map(ToString::to_string);
                self.troubles =
                    refusals.chain(none.troubles.iter().map(ToString::to_string)).collect();
                return Err(Ended::Refused);
            }
        };
        self.spoil(&mut sequence);
        let arm = aim.arm.clone();
        self.troubles.clear();
        if self.bug != Some(Bug::RecordsNothing) {
            let Records { members, left, restoring, .. } =
                recorded(self.begun.as_ref(), &self.cluster, &now_real, &arm);
            let begun = Begun::of(&self.cluster, ID, now());
            let formed = self.begun.as_ref().and_then(|begun| begun.formed.clone());
            let epoch = self.begun.as_ref().map_or(1, |begun| begun.epoch);
            self.begun = Some(Begun { epoch, members, left, restoring, formed, ..begun });
        } else {
            self.begun.get_or_insert_with(|| Begun::of(&self.cluster, ID, now()));
        }
        if !sequence.is_empty() {
            self.taken.push(arm.clone());
            let mut engine = Engine::new(sequence, 40);
            let mut unseen = |_: &_, _: &_| {};
            let raising = run(&mut engine, reach, (pending(), pending()), &mut unseen);
            let killed = tokio::select! {
                () = raising => false,
                () = reach.killed() => true,
            };
            if let (Some(begun), Some(proven)) = (&mut self.begun, engine.proven()) {
                match begun.restored(&arm, &proven.cluster_id) {
                    Some(after) => *begun = after,
                    None => begun.formed = Some(proven.cluster_id.clone()),
                }
            }
            if killed {
                return Err(Ended::Killed);
            }
            self.troubles = engine
                .troubles()
                .map(|trouble| format!("{trouble} {:?}", trouble.evidence))
                .collect();
            let tally = engine.tally();
            if tally.failed + tally.not_taken > 0 {
                return Err(Ended::Failed);
            }
        }
        if let Some(stage) = arm.at_rest() {
            self.store(|state, strongbox| {
                at_rest::go_on(state, strongbox, &stage).unwrap();
            });
        }
        if let Some(stage) = arm.trust() {
            self.store(|state, strongbox| {
                authorities::go_on(state, strongbox, stage).unwrap();
                token_key::go_on(state, strongbox, stage, now()).unwrap();
            });
        }
        match arm {
            Arm::File if aim.held.is_empty() => Err(Ended::Reached),
            Arm::File => {
                self.troubles.extend(aim.held.iter().map(ToString::to_string));
                Err(Ended::Held)
            }
            arm => Ok(arm),
        }
    }

    /// Does wrong what the bug does wrong.
    fn spoil(&self, sequence: &mut Sequence) {
        for step in &mut sequence.steps {
            if self.bug == Some(Bug::WaitsForNothing) {
                step.needs.clear();
                step.disrupts.clear();
                if let Work::Act(stretch) = &mut step.work {
                    stretch.operations.retain(|o| !matches!(o, Operation::Settle { .. }));
                }
            }
            if let (Some(Bug::SavesNothing), Work::Save { through, .. }) = (self.bug, &step.work) {
                let stretch = Stretch { host: through[0].clone(), operations: Vec::new() };
                step.work = Work::Act(stretch);
            }
            if let (Some(Bug::NothingAside), Work::Act(stretch)) = (self.bug, &mut step.work) {
                stretch.operations.retain(|o| !matches!(o, Operation::SetAside { .. }));
            }
            if let (Some(Bug::OldFirstStart), Work::Act(stretch)) = (self.bug, &mut step.work)
                && stretch.operations.iter().any(|o| matches!(o, Operation::SetAside { .. }))
            {
                stretch.operations.retain(|o| {
                    !matches!(o, Operation::Put(Item::File(file)) if file.path.ends_with("etcd.yaml"))
                });
            }
        }
    }

    /// Where the file dropped members in the midst of their first start, and they hold data of it, a person does what the
    /// refusal says: they are named again until the quorum stands.
    fn first_start_is_ended(&mut self) {
        let first = self.begun.as_ref().filter(|begun| begun.formed.is_none());
        let Some(first) = first.map(|begun| begun.members.keys().cloned().collect()) else {
            return;
        };
        if self.raise() != Ended::Refused {
            return;
        }
        assert!(
            self.troubles.iter().all(|why| why.contains("this cluster's first start")),
            "{:?}",
            self.troubles
        );
        let wanted = std::mem::replace(&mut self.cluster.etcd.members, first);
        for _ in 0..4 {
            if self.raise() == Ended::Reached {
                break;
            }
        }
        self.cluster.etcd.members = wanted;
    }

    /// Where the file drops members of a quorum that does not answer, and too few of them are seen to hold its data, a
    /// person does what the refusal says: they are named again until it answers. Whether they were.
    fn dropped_members_are_named_again(&mut self) -> bool {
        let dropped = "the quorum does not answer, and the file drops members of it";
        let known = self.begun.as_ref().map(|begun| begun.members.keys().cloned().collect());
        let Some(known) = known.filter(|_| self.troubles.iter().any(|why| why.contains(dropped)))
        else {
            return false;
        };
        let wanted = std::mem::replace(&mut self.cluster.etcd.members, known);
        for _ in 0..6 {
            if self.raise() == Ended::Reached {
                break;
            }
        }
        self.cluster.etcd.members = wanted;
        true
    }

    /// Once all is fixed, raises come to what the file says, and everything that was acknowledged is there.
    pub fn must_converge(&mut self, when: &str) {
        self.world().fix();
        let all: Vec<HostName> = HOSTS.map(host).to_vec();
        for host in &all {
            self.world().power(host, true);
            self.world().foreign_data(host, None);
            // A person says that the machines that answer are the right ones.
            self.pins.remove(host);
            self.world().accept(host);
        }
        // Of a snapshot that was to be put back on a host that the file dropped meanwhile a person is asked again.
        let from = self.begun.as_ref().and_then(|begun| begun.restoring.clone());
        if let Some(from) = from
            .filter(|from| from.hosts.iter().any(|host| !self.cluster.etcd.members.contains(host)))
        {
            self.put_back(&from.snapshot);
        }
        self.first_start_is_ended();
        let mut ended = Vec::new();
        let mut named_again = false;
        for _ in 0..6 {
            ended.push(self.raise());
            match ended.last() {
                Some(Ended::Reached) => break,
                Some(Ended::Refused) if !named_again => {
                    named_again = self.dropped_members_are_named_again();
                }
                _ => {}
            }
        }
        assert_eq!(
            ended.last(),
            Some(&Ended::Reached),
            "{when}: {ended:?} by {:?}: {:?}",
            self.taken,
            self.troubles
        );
        let before = self.taken.len();
        assert_eq!(self.raise(), Ended::Reached, "{when}");
        assert_eq!(self.taken.len(), before, "{when}: a second raise does nothing");
        for name in &all {
            let member = self.cluster.etcd.members.contains(name);
            assert_eq!(self.world().serves(name), member, "{when}: {name}");
        }
        let voters = self.world().voters();
        let mut wanted = self.cluster.etcd.members.clone();
        wanted.sort();
        assert_eq!(voters, wanted, "{when}");
        self.world().write(&wanted[0], "last", "word").unwrap();
        assert_eq!(self.world().broken(), [""; 0], "{when}");
    }
}
