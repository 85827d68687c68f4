//! A small model of etcd: what it reads from its configuration, when it starts, and when it serves.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use sha2::{Digest as _, Sha256};
use zoisite_core::cluster::HostName;

use super::state::{Member, SimHost, World};

impl Member {
    pub fn id_of(&self, url: &str) -> u64 {
        hash(&format!("{url}{}", self.token))
    }

    pub fn own_id(&self) -> u64 {
        self.peers.get(&self.name).map_or(0, |url| self.id_of(url))
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
    token: String,
    files: Vec<String>,
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
        let files = ["client", "peer"]
            .iter()
            .flat_map(|side| {
                ["cert-file", "key-file", "trusted-ca-file"]
                    .map(|file| format!("/{side}-transport-security/{file}"))
            })
            .map(|pointer| text_of(&pointer))
            .collect();
        Ok(Self {
            user,
            name: text_of("/name"),
            data_dir: text_of("/data-dir"),
            listens: text_of("/listen-peer-urls"),
            advertises: text_of("/initial-advertise-peer-urls"),
            initial_cluster: text_of("/initial-cluster"),
            token: text_of("/initial-cluster-token"),
            files,
        })
    }

    /// Starts the process: from its data where there is some, else from the first-start facts.
    pub fn start(self, host: &SimHost) -> Result<Member, Log> {
        for path in &self.files {
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
        if let Some(data) = &host.data {
            return Ok(Member { listens: self.listens, was_ready: false, ..data.clone() });
        }
        let peers: BTreeMap<String, String> = self
            .initial_cluster
            .split(',')
            .filter_map(|pair| pair.split_once('='))
            .map(|(name, url)| (name.to_owned(), url.to_owned()))
            .collect();
        match peers.get(&self.name) {
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
        let all: Vec<String> = peers.iter().map(|(name, url)| format!("{name}={url}")).collect();
        Ok(Member {
            cluster_id: hash(&format!("{}{}", all.join(","), self.token)),
            name: self.name,
            token: self.token,
            peers,
            listens: self.listens,
            holds: 0,
            was_ready: false,
        })
    }
}

impl SimHost {
    /// The member that runs there.
    fn member(&self) -> Option<&Member> {
        self.process.as_ref().filter(|_| self.up)
    }
}

impl World {
    /// The members that one reaches in both directions, itself among them; none where it does not run.
    fn reached(&self, host: &HostName) -> Vec<(&HostName, &Member)> {
        let Some(member) = self.hosts.get(host).and_then(SimHost::member) else {
            return Vec::new();
        };
        let knows = |a: &Member, b: &Member| a.peers.get(&b.name) == Some(&b.listens);
        let hears = |name: &HostName, peer: &Member| {
            name == host
                || (peer.cluster_id == member.cluster_id
                    && knows(member, peer)
                    && knows(peer, member)
                    && !self.cut(host, name))
        };
        let others = self.hosts.iter().filter_map(|(name, sim)| Some((name, sim.member()?)));
        others.filter(|(name, peer)| hears(name, peer)).collect()
    }

    /// How many of the acknowledged writes a host's data holds.
    fn held(&self, host: &HostName) -> usize {
        self.hosts.get(host).and_then(|sim| sim.data.as_ref()).map_or(0, |data| data.holds)
    }

    /// Whose member leads the one on a host, where that reaches a majority of the voters: nobody is elected whose
    /// log lacks what another one's has; among equals it is the first by name.
    fn led_by(&self, host: &HostName) -> Option<&HostName> {
        let voters = self.hosts.get(host)?.process.as_ref()?.peers.len();
        let reached = self.reached(host);
        if reached.len() < voters / 2 + 1 {
            return None;
        }
        let names = reached.into_iter().map(|(name, _)| name);
        names.min_by_key(|name| (Reverse(self.held(name)), *name))
    }

    /// The leader that a member follows, by its id.
    pub(super) fn leader(&self, host: &HostName) -> Option<u64> {
        let leader = self.led_by(host)?;
        self.hosts.get(leader)?.process.as_ref().map(Member::own_id)
    }

    /// Writes through a member. The leader takes it, and whoever it reaches follows; a majority of the voters makes
    /// it acknowledged. What was acknowledged before and is not on the leader's disk is lost: that breaks rule S1.
    ///
    /// # Errors
    /// Where no majority is reached.
    pub fn write(&mut self, via: &HostName, key: &str, value: &str) -> Result<(), String> {
        let timed_out = || "etcdserver: request timed out".to_owned();
        let leader = self.led_by(via).cloned().ok_or_else(timed_out)?;
        let voters = self.hosts[&leader].process.as_ref().map_or(0, |member| member.peers.len());
        let follow: Vec<HostName> =
            self.reached(&leader).into_iter().map(|(name, _)| name.clone()).collect();
        if follow.len() < voters / 2 + 1 {
            return Err(timed_out());
        }
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
            }
        }
        Ok(())
    }

    /// What a member answers for a key, as its leader has it.
    ///
    /// # Errors
    /// Where no majority is reached.
    pub fn read(&self, via: &HostName, key: &str) -> Result<Option<&str>, String> {
        let leader = self.led_by(via).ok_or("etcdserver: request timed out")?;
        let log = &self.acknowledged[..self.held(leader).min(self.acknowledged.len())];
        let found = log.iter().rev().find(|(known, _)| known == key);
        Ok(found.map(|(_, value)| value.as_str()))
    }

    /// From now on somebody writes through whichever member takes it, at every operation of a run.
    pub fn write_all_the_while(&mut self) {
        self.under_load = true;
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
        if unit != zoisite_core::holdings::ETCD_UNIT {
            return vec![format!("{unit} has not said that it is ready")];
        }
        let Some(member) = self.hosts.get(host).and_then(|sim| sim.process.as_ref()) else {
            return vec!["the process is not there".into()];
        };
        let clash = self.hosts.values().filter_map(|other| other.process.as_ref()).any(|other| {
            member.peers.contains_key(&other.name) && other.cluster_id != member.cluster_id
        });
        if clash {
            return vec!["request cluster ID mismatch".into()];
        }
        let urls: Vec<&str> = member
            .peers
            .iter()
            .filter(|(n, _)| **n != member.name)
            .map(|(_, u)| u.as_str())
            .collect();
        vec![format!("prober detected unhealthy status: dial tcp {}: i/o timeout", urls.join(", "))]
    }
}

fn hash(text: &str) -> u64 {
    let digest = Sha256::digest(text.as_bytes());
    digest.iter().take(8).fold(0, |id, byte| (id << 8) | u64::from(*byte))
}
