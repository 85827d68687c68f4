//! A small model of etcd: what it reads from its configuration, when it starts, and when it serves.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};

use sha2::{Digest as _, Sha256};
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::ETCD_UNIT;
use zoisite_core::sequence::MemberWork;

use super::state::{Fault, Member, Papers, Peer, Process, SimHost, World};
use super::tls::As;
use crate::quorum::{HAS_ITS_VOTE, NOT_FOR_LEARNERS};

/// What etcd says of a learner that has not caught up.
pub(super) const NOT_IN_SYNC: &str =
    "etcdserver: can only promote a learner member which is in sync with leader";

/// How many of these vote.
fn voters(peers: &[Peer]) -> usize {
    peers.iter().filter(|peer| !peer.learner).count()
}

impl Peer {
    /// Whether that is its id, in hexadecimal.
    fn is(&self, id: &str) -> bool {
        format!("{:016x}", self.id) == id
    }
}

impl Member {
    /// How many of the members vote.
    pub fn voters(&self) -> usize {
        voters(&self.peers)
    }

    pub fn votes(&self, id: u64) -> bool {
        self.peers.iter().any(|peer| peer.id == id && !peer.learner)
    }

    /// Whether it dials another one where that listens.
    fn knows(&self, other: &Self, listens: &str) -> bool {
        self.peers.iter().any(|peer| peer.id == other.id && peer.url == listens)
    }
}

/// What etcd reads from its configuration file, and what systemd gives it.
pub(super) struct Config {
    user: String,
    name: String,
    data_dir: String,
    listens: String,
    advertises: String,
    initial_cluster: String,
    /// It learns from the others who is a member.
    existing: bool,
    /// The mark without which it may start though it has no data.
    formed_mark: Option<String>,
    token: String,
    peers: Papers,
    clients: Papers,
}

type Log = Vec<String>;

impl Config {
    /// Follows the unit to the configuration file and reads that.
    pub fn read(host: &SimHost, unit: &str) -> Result<Self, Log> {
        let say = |text: String| vec![text];
        let unit_file = host
            .files
            .get(&format!("/etc/systemd/system/{unit}"))
            .ok_or_else(|| say(format!("Unit {unit} not found")))?;
        let setting = |key: &str| {
            unit_file.text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('='))
        };
        let user = setting("User").unwrap_or("root").to_owned();
        if !host.has_user(&user) {
            return Err(say(format!("Failed to determine user credentials: {user}")));
        }
        let start = setting("ExecStart").unwrap_or_default();
        let mut words = start.split(' ');
        let program = words.next().unwrap_or_default();
        if !host.found.components.contains_key(program) {
            return Err(say(format!("Failed to locate executable {program}")));
        }
        let path = words.next_back().unwrap_or_default();
        let text = host
            .files
            .get(path)
            .map(|file| file.text.as_str())
            .ok_or_else(|| say(format!("open {path}: no such file or directory")))?;
        let yaml: serde_json::Value = serde_saphyr::from_str(text)
            .map_err(|error| say(format!("error unmarshaling {path}: {error}")))?;
        let text_of = |pointer: &str| {
            yaml.pointer(pointer).and_then(|v| v.as_str()).unwrap_or_default().to_owned()
        };
        let papers = |side: &str| {
            let [certificate, key, authority] = ["cert-file", "key-file", "trusted-ca-file"]
                .map(|file| text_of(&format!("/{side}-transport-security/{file}")));
            Papers { certificate, key, authority }
        };
        Ok(Self {
            user,
            name: text_of("/name"),
            data_dir: text_of("/data-dir"),
            listens: text_of("/listen-peer-urls"),
            advertises: text_of("/initial-advertise-peer-urls"),
            initial_cluster: text_of("/initial-cluster"),
            formed_mark: setting("ExecCondition")
                .and_then(|test| test.trim_end_matches('\'').rsplit(' ').next())
                .map(ToOwned::to_owned),
            existing: text_of("/initial-cluster-state") == "existing",
            token: text_of("/initial-cluster-token"),
            peers: papers("peer"),
            clients: papers("client"),
        })
    }

    /// A process that was started with it, and has reported ready or not yet.
    pub fn process(&self, was_ready: bool) -> Process {
        let (peers, clients) = (self.peers.clone(), self.clients.clone());
        Process { listens: self.listens.clone(), peers, clients, was_ready, believes: None }
    }

    /// Whether it is told of a member that is dialled there.
    pub fn names(&self, url: &str) -> bool {
        self.initial_cluster
            .split(',')
            .any(|pair| pair.split_once('=').is_some_and(|(_, u)| u == url))
    }

    /// Starts the process: from its data where there is some, else from the first-start facts. `quorum` is what the
    /// others that can be dialled know of the members, where one of them runs.
    pub fn start(self, host: &SimHost, quorum: Option<&Member>) -> Result<(Member, Process), Log> {
        let files = [&self.clients, &self.peers]
            .map(|papers| [&papers.certificate, &papers.key, &papers.authority]);
        for path in files.into_iter().flatten() {
            let Some(file) = host.files.get(path) else {
                return Err(vec![format!("open {path}: no such file or directory")]);
            };
            if !file.text.contains("-----BEGIN ") {
                return Err(vec![format!("tls: failed to find any PEM data in {path}")]);
            }
            if file.mode & 0o004 == 0 && file.owner != self.user {
                return Err(vec![format!("open {path}: permission denied")]);
            }
        }
        match host.found.directories.get(&self.data_dir) {
            Some(found) if found.mode == "700" && found.owner == self.user => {}
            _ => {
                return Err(vec![format!(
                    "cannot access data directory {}: permission denied",
                    self.data_dir
                )]);
            }
        }
        if !self.listens.contains(&host.address.to_string()) {
            return Err(vec![format!(
                "listen {}: bind: cannot assign requested address",
                self.listens
            )]);
        }
        let read = |papers: &Papers| host.files.get(&papers.authority).cloned();
        let believes = read(&self.peers).zip(read(&self.clients));
        let process = Process { believes, ..self.process(false) };
        if let Some(data) = &host.data {
            if !data.peers.iter().any(|peer| peer.id == data.id) {
                return Err(vec![format!(
                    "the member has been permanently removed from the cluster: {:016x}",
                    data.id
                )]);
            }
            let mut data = data.clone();
            if let Some(before) = data.unsettled.take() {
                data.peers = before;
            }
            return Ok((data, process));
        }
        if self.formed_mark.is_some_and(|mark| host.files.contains_key(&mark)) {
            return Err(vec!["Skipped due to 'exec-condition'".into()]);
        }
        let initial: BTreeMap<&str, &str> =
            self.initial_cluster.split(',').filter_map(|pair| pair.split_once('=')).collect();
        match initial.get(self.name.as_str()) {
            None => {
                return Err(vec![format!(
                    "couldn't find local name \"{}\" in the initial cluster",
                    self.name
                )]);
            }
            Some(url) if *url != self.advertises => {
                return Err(vec![format!(
                    "\"{}\" has different advertised URLs ({url} vs {})",
                    self.name, self.advertises
                )]);
            }
            Some(_) => {}
        }
        let joined = match (self.existing, quorum) {
            (true, quorum) => existing(&self.name, &self.advertises, &initial, quorum),
            (false, quorum) => new(&self.advertises, &self.token, &initial, quorum),
        };
        joined.map(|member| (member, process))
    }
}

/// A member that begins with the others: what it is told is what it believes (etcd's `initial-cluster-state: new`). It
/// asks those that run, and one that was heard of before does not begin again.
pub(super) fn new(
    own: &str,
    token: &str,
    initial: &BTreeMap<&str, &str>,
    quorum: Option<&Member>,
) -> Result<Member, Log> {
    let id_of = |url: &str| hash(&format!("{url}{token}"));
    let id = id_of(own);
    let known = quorum.and_then(|quorum| quorum.peers.iter().find(|peer| peer.id == id));
    if known.is_some_and(|peer| peer.started) {
        return Err(vec![format!("member {id:016x} has already been bootstrapped")]);
    }
    let peer = |(name, url): (&&str, &&str)| Peer {
        id: id_of(url),
        name: (*name).to_owned(),
        url: (*url).to_owned(),
        learner: false,
        started: false,
    };
    let all: Vec<String> = initial.iter().map(|(name, url)| format!("{name}={url}")).collect();
    let cluster_id = hash(&format!("{}{token}", all.join(",")));
    let peers = initial.iter().map(peer).collect();
    Ok(Member { id, cluster_id, peers, holds: 0, unsettled: None })
}

/// A member that comes to others: it must be told of all of them, and be one of them already
/// (etcd's `initial-cluster-state: existing`).
fn existing(
    name: &str,
    own: &str,
    initial: &BTreeMap<&str, &str>,
    quorum: Option<&Member>,
) -> Result<Member, Log> {
    let invalid = |why: &str| vec![format!("error validating peerURLs {own}: {why}")];
    let Some(quorum) = quorum else {
        return Err(vec![
            "cannot fetch cluster info from peer urls: could not retrieve cluster information"
                .into(),
        ]);
    };
    if quorum.peers.len() != initial.len() {
        return Err(invalid("member count is unequal"));
    }
    if quorum.peers.iter().any(|peer| !initial.values().any(|url| *url == peer.url)) {
        return Err(invalid("unmatched member while checking PeerURLs"));
    }
    let Some(me) = quorum.peers.iter().find(|peer| peer.url == own) else {
        return Err(invalid(&format!("no entry of {name}")));
    };
    // etcd lets it in, and its raft stops it: the leader knows that it had entries once.
    if me.started {
        return Err(vec![
            "tocommit is out of range [lastIndex(0)]. Was the raft log corrupted, truncated, or lost?".into(),
        ]);
    }
    Ok(Member { id: me.id, holds: 0, unsettled: None, ..quorum.clone() })
}

impl SimHost {
    /// The member that runs there, and its process.
    fn member(&self) -> Option<(&Member, &Process)> {
        self.data.as_ref().zip(self.process.as_ref()).filter(|_| self.started(ETCD_UNIT))
    }
}

impl World {
    /// The members that one reaches in both directions, itself among them; none where it does not run.
    fn reached(&self, host: &HostName) -> Vec<(&HostName, &Member)> {
        let Some((member, process)) = self.hosts.get(host).and_then(SimHost::member) else {
            return Vec::new();
        };
        let hears = |name: &HostName, peer: &Member, other: &Process| {
            name == host
                || (peer.cluster_id == member.cluster_id
                    && member.knows(peer, &other.listens)
                    && peer.knows(member, &process.listens)
                    && !self.cut(host, name)
                    && self.trust(host, name).is_ok())
        };
        let others = self.hosts.iter().filter_map(|(name, sim)| Some((name, sim.member()?)));
        let heard = others.filter(|(name, (peer, other))| hears(name, peer, other));
        heard.map(|(name, (peer, _))| (name, peer)).collect()
    }

    /// Whether two members that dial one another trust what each shows: the one that was dialled as a server under
    /// its address, the one that dials as a client from its own.
    pub(super) fn trust(&self, one: &HostName, other: &HostName) -> Result<(), String> {
        let side = |name: &HostName| {
            let sim = self.hosts.get(name)?;
            Some((sim, sim.process.as_ref()?, sim.address.to_string(), self.clock(name)))
        };
        let (Some(one), Some(other)) = (side(one), side(other)) else {
            return Err("connection refused".into());
        };
        for ((by, trusts, _, clock), (who, shows, address, _)) in [(&one, &other), (&other, &one)] {
            let shown = (*who, &shows.peers);
            let peers = by.believed(trusts, true)?;
            by.accepts(peers, shown, As::Server(address), *clock)?;
            by.accepts(peers, shown, As::Client(Some(address)), *clock)?;
        }
        Ok(())
    }

    /// How many of the acknowledged writes a host's data holds.
    fn held(&self, host: &HostName) -> usize {
        self.hosts.get(host).and_then(|sim| sim.data.as_ref()).map_or(0, |data| data.holds)
    }

    /// Those that vote of the members that one reaches, by its own word.
    fn voters_reached(&self, host: &HostName) -> Vec<HostName> {
        let Some((member, _)) = self.hosts.get(host).and_then(SimHost::member) else {
            return Vec::new();
        };
        let reached = self.reached(host).into_iter();
        reached.filter(|(_, peer)| member.votes(peer.id)).map(|(name, _)| name.clone()).collect()
    }

    /// Whose member leads the one on a host, where that reaches a majority of the voters: nobody is elected whose
    /// log lacks what another one's has; among equals it is the first by name.
    pub(super) fn led_by(&self, host: &HostName) -> Option<HostName> {
        let (member, _) = self.hosts.get(host)?.member()?;
        let reached = self.voters_reached(host);
        if reached.len() < member.voters() / 2 + 1 {
            return None;
        }
        let leads = reached.into_iter().filter(|name| !self.disk_is_full(name));
        leads.min_by_key(|name| (Reverse(self.held(name)), name.clone()))
    }

    /// Whether a member has a vote, by its own word: a learner serves no client.
    pub(super) fn takes_part(&self, host: &HostName) -> bool {
        let member = self.hosts.get(host).and_then(SimHost::member);
        member.is_some_and(|(member, _)| member.votes(member.id))
    }

    /// The leader that a member follows, by its id.
    pub(super) fn leader(&self, host: &HostName) -> Option<u64> {
        let leader = self.led_by(host)?;
        self.hosts.get(&leader)?.member().map(|(member, _)| member.id)
    }

    /// The leader of the member on a host, and whom it reaches, itself among them; where those are a majority.
    fn leading(&self, via: &HostName) -> Result<(HostName, Vec<HostName>), String> {
        let timed_out = || "etcdserver: request timed out".to_owned();
        let leader = self.led_by(via).ok_or_else(timed_out)?;
        let (member, _) = self.hosts[&leader].member().ok_or_else(timed_out)?;
        let lags = |name: &HostName| {
            let behind = |fault: &Fault| matches!(fault, Fault::Lags(l) if l == name);
            *name != leader && (self.faults.iter().any(behind) || self.disk_is_full(name))
        };
        let reached = self.reached(&leader).into_iter();
        let follow: Vec<(&HostName, &Member)> = reached.filter(|(name, _)| !lags(name)).collect();
        // What a majority of the voters does not take is not acknowledged.
        let taken = follow.iter().filter(|(_, peer)| member.votes(peer.id)).count();
        if taken < member.voters() / 2 + 1 {
            return Err(timed_out());
        }
        let follow = follow.into_iter().map(|(name, _)| name.clone()).collect();
        Ok((leader, follow))
    }

    /// Followers have what their leader has, and hear who has started.
    pub(super) fn replicate(&mut self) {
        let leaders: BTreeSet<HostName> =
            self.hosts.keys().filter_map(|host| self.led_by(host)).collect();
        // One that has not heard of a change yet follows another one than the rest for a moment; what must never be
        // is two majorities that have nobody in common.
        let reached = |leader: &HostName| -> BTreeSet<HostName> {
            self.voters_reached(leader).into_iter().collect()
        };
        let mut apart = Vec::new();
        for (number, one) in leaders.iter().enumerate() {
            let others = leaders.iter().skip(number + 1);
            let apart_from = others.filter(|other| reached(one).is_disjoint(&reached(other)));
            apart.extend(apart_from.map(|other| format!("{one} and {other}")));
        }
        for pair in apart {
            let how = format!("S1: two quorums: {pair} lead at once");
            if !self.broken.contains(&how) {
                self.broken.push(how);
            }
        }
        let Some(any) = self.hosts.keys().find(|host| self.led_by(host).is_some()).cloned() else {
            return;
        };
        let Ok((leader, follow)) = self.leading(&any) else { return };
        let started: Vec<(u64, String)> = follow
            .iter()
            .filter_map(|host| Some((self.hosts[host].data.as_ref()?.id, host.to_string())))
            .collect();
        let Some(data) = self.hosts.get_mut(&leader).and_then(|sim| sim.data.as_mut()) else {
            return;
        };
        for peer in &mut data.peers {
            let name = started.iter().find(|(id, _)| *id == peer.id);
            if let Some((_, name)) = name.filter(|_| !peer.started) {
                peer.name.clone_from(name);
                peer.started = true;
            }
        }
        let (peers, holds) = (data.peers.clone(), data.holds);
        for host in follow.iter().filter(|host| **host != leader) {
            if let Some(data) = self.hosts.get_mut(host).and_then(|sim| sim.data.as_mut()) {
                data.peers.clone_from(&peers);
                data.holds = data.holds.max(holds);
            }
        }
    }

    /// Writes through a member. The leader takes it, and whoever it reaches follows; a majority of the voters makes
    /// it acknowledged. What was acknowledged before and is not on the leader's disk is lost: that breaks rule S1.
    ///
    /// # Errors
    /// Where no majority is reached.
    pub fn write(&mut self, via: &HostName, key: &str, value: &str) -> Result<(), String> {
        if !self.takes_part(via) {
            return Err(NOT_FOR_LEARNERS.into());
        }
        let (leader, follow) = self.leading(via)?;
        let (held, all) = (self.held(&leader), self.acknowledged.len());
        if held < all {
            self.broken.push(format!(
                "S1: {} acknowledged writes are lost: {leader} leads without them",
                all - held
            ));
            self.acknowledged.truncate(held);
        }
        self.acknowledged.push((key.to_owned(), value.to_owned()));
        let all = self.acknowledged.len();
        for data in self.hosts.values_mut().filter_map(|sim| sim.data.as_mut()) {
            data.holds = data.holds.min(all - 1);
        }
        for host in &follow {
            if let Some(data) = self.hosts.get_mut(host).and_then(|sim| sim.data.as_mut()) {
                data.holds = all;
                data.unsettled = None;
            }
        }
        self.replicate();
        Ok(())
    }

    /// Changes the membership through one of these members, as etcd does with `strict-reconfig-check`; whether it was
    /// not so before.
    ///
    /// # Errors
    /// What etcd says.
    pub(super) fn reconfigure(
        &mut self,
        work: &MemberWork,
        through: &[HostName],
    ) -> Result<bool, String> {
        self.replicate();
        let serves = |host: &&HostName| self.led_by(host).is_some() && self.takes_part(host);
        let via = through.iter().find(serves).cloned().ok_or("no member that was asked serves")?;
        let (leader, _) = self.leading(&via)?;
        let reached = self.voters_reached(&leader);
        let (member, _) = self.hosts[&leader].member().ok_or("the leader is gone")?;
        let mut peers = member.peers.clone();
        let unhealthy = || Err("etcdserver: unhealthy cluster".to_owned());
        match work {
            MemberWork::Learn { url, .. } => {
                if peers.iter().any(|peer| peer.url == *url) {
                    return Ok(false);
                }
                if reached.len() < member.voters() {
                    return unhealthy();
                }
                if peers.iter().any(|peer| peer.learner) {
                    return Err("etcdserver: too many learner members in cluster".into());
                }
                let id = hash(&format!("{url}{}", self.acknowledged.len()));
                let (name, url) = (String::new(), url.clone());
                peers.push(Peer { id, name, url, learner: true, started: false });
            }
            MemberWork::Promote { host, id } => {
                let known = peers.iter_mut().find(|peer| peer.is(id));
                let Some(peer) = known else { return Err("etcdserver: member not found".into()) };
                if !peer.learner {
                    return Ok(false);
                }
                let heard = self.reached(&leader).iter().any(|(name, _)| *name == host);
                if !heard || 10 * self.held(host) < 9 * self.held(&leader) {
                    return Err(NOT_IN_SYNC.into());
                }
                peer.learner = false;
            }
            MemberWork::Remove { id, learner, .. } => {
                let at = peers.iter().position(|peer| peer.is(id));
                let Some(at) = at else { return Ok(false) };
                if *learner && !peers[at].learner {
                    return Err(HAS_ITS_VOTE.into());
                }
                let gone = peers.remove(at);
                if !gone.learner {
                    let stay = reached.iter().filter(|host| {
                        self.hosts[*host].data.as_ref().is_some_and(|m| m.id != gone.id)
                    });
                    if stay.count() < voters(&peers) / 2 + 1 {
                        return unhealthy();
                    }
                }
            }
            MemberWork::Move { id, url, .. } => {
                let known = peers.iter_mut().find(|peer| peer.is(id));
                let Some(peer) = known else { return Err("etcdserver: member not found".into()) };
                if peer.url == *url {
                    return Ok(false);
                }
                peer.url.clone_from(url);
            }
        }
        let before = member.peers.clone();
        // (Where somebody writes all the while, that is settled at once.)
        let shrinks = voters(&peers) == 1 && voters(&before) > 1 && !self.under_load;
        // A change is an entry of the log like any other: a majority of those before it takes it.
        let told: Vec<HostName> = self.leading(&via)?.1;
        self.write(&via, "membership", &format!("{work:?}"))?;
        for host in told {
            let Some(sim) = self.hosts.get_mut(&host) else { continue };
            if let Some(data) = sim.data.as_mut() {
                data.peers.clone_from(&peers);
                data.unsettled = shrinks.then(|| before.clone());
                // One that is a member no more hears of it, and stops.
                if !peers.iter().any(|peer| peer.id == data.id) {
                    sim.process = None;
                }
            }
        }
        Ok(true)
    }

    /// What a member answers for a key, as its leader has it.
    ///
    /// # Errors
    /// Where no majority is reached.
    pub fn read(&self, via: &HostName, key: &str) -> Result<Option<&str>, String> {
        if !self.takes_part(via) {
            return Err(NOT_FOR_LEARNERS.into());
        }
        let leader = self.led_by(via).ok_or("etcdserver: request timed out")?;
        let log = &self.acknowledged[..self.held(&leader).min(self.acknowledged.len())];
        let found = log.iter().rev().find(|(known, _)| known == key);
        Ok(found.map(|(_, value)| value.as_str()))
    }

    /// From now on somebody writes through whichever member takes it, at every operation of a run.
    pub fn write_all_the_while(&mut self) {
        self.under_load = true;
    }

    /// What a member that serves knows.
    fn served_by(&self) -> Option<&Member> {
        let serving = self.hosts.keys().find(|host| self.led_by(host).is_some());
        serving.and_then(|host| self.hosts[host].data.as_ref())
    }

    /// The hosts whose members vote, by the word of those that serve, sorted.
    pub fn voters(&self) -> Vec<HostName> {
        let Some(member) = self.served_by() else { return Vec::new() };
        let votes = member.peers.iter().filter(|peer| !peer.learner);
        let mut voters: Vec<HostName> =
            votes.filter_map(|peer| HostName::new(&peer.name).ok()).collect();
        voters.sort();
        voters
    }

    /// How many members learn, by the word of those that serve.
    pub fn learners(&self) -> usize {
        self.served_by().map_or(0, |member| member.peers.len() - member.voters())
    }

    /// Loses a member's data, as a replaced disk would, where the other voters that serve are a quorum without it
    /// and hold all that was acknowledged; whether it was lost.
    pub fn lose_data_that_others_hold(&mut self, host: &HostName, alone: bool) -> bool {
        self.replicate();
        let serving = self.hosts.keys().find(|one| *one != host && self.led_by(one).is_some());
        let Some(via) = serving.cloned() else { return false };
        let Some(member) = self.hosts[&via].data.clone() else { return false };
        let whole = |one: &&HostName| *one != host && self.held(one) == self.acknowledged.len();
        let reached = self.voters_reached(&via);
        if reached.iter().filter(whole).count() < member.voters() / 2 + 1 {
            return false;
        }
        self.lose_data(host, alone);
        true
    }

    /// Starts what starts at boot and does not run, as a person would who tries to help.
    pub fn start_enabled_units(&mut self, host: &HostName) {
        if self.unreachable(host).is_none() {
            self.start_enabled(host);
        }
    }

    /// How many writes were acknowledged so far.
    pub fn acknowledged(&self) -> usize {
        self.acknowledged.len()
    }

    /// One more of those writes.
    pub(super) fn load(&mut self) {
        let members = self.hosts.iter().filter(|(_, sim)| sim.process.is_some());
        let members: Vec<HostName> = members.map(|(name, _)| name.clone()).collect();
        let value = self.operations.to_string();
        let _ = members.iter().any(|via| self.write(via, "load", &value).is_ok());
    }

    pub(super) fn waiting_log(&self, host: &HostName, unit: &str) -> Vec<String> {
        if unit != ETCD_UNIT {
            return vec![format!("{unit} has not said that it is ready")];
        }
        let Some((member, _)) = self.hosts.get(host).and_then(SimHost::member) else {
            return vec!["the process is not there".into()];
        };
        let clash = self.hosts.values().filter_map(SimHost::member).any(|(other, process)| {
            member.peers.iter().any(|peer| peer.url == process.listens)
                && other.cluster_id != member.cluster_id
        });
        if clash {
            return vec!["request cluster ID mismatch".into()];
        }
        let strangers =
            self.hosts.iter().filter(|(other, sim)| *other != host && sim.process.is_some());
        let mut distrusted = strangers.filter_map(|(other, _)| {
            Some(format!("rejected connection: {other}: {}", self.trust(host, other).err()?))
        });
        if let Some(why) = distrusted.next() {
            return vec![why];
        }
        let others = member.peers.iter().filter(|peer| peer.id != member.id);
        let urls: Vec<&str> = others.map(|peer| peer.url.as_str()).collect();
        vec![format!("prober detected unhealthy status: dial tcp {}: i/o timeout", urls.join(", "))]
    }
}

fn hash(text: &str) -> u64 {
    let digest = Sha256::digest(text.as_bytes());
    digest.iter().take(8).fold(0, |id, byte| (id << 8) | u64::from(*byte))
}
