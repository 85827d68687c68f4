//! Simulated hosts that begin as real ones were seen: so that a change can be rehearsed on what is there.
//!
//! What a look does not show is taken for what is wanted: of a file that differs it is known that it does, not what it
//! says; it stands there as the wanted text with a line before it.

use std::collections::BTreeSet;

use jiff::Timestamp;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::components::Shelved;
use zoisite_core::holdings::{ApiObject, ETCD_UNIT, Holdings, HostHoldings, REGISTRY_UNIT};
use zoisite_core::item::{Content, FileFacts, Found, Item};
use zoisite_core::pki::{Secret, SecretRef};
use zoisite_core::script::{EtcdMember, Observed};
use zoisite_core::sequence::{ApiLook, Looks};
use zoisite_core::text::digest;

use super::etcd::Config;
use super::state::{Member, Peer, Process, SimFile, SimHost, SimUnit, World};

/// What was looked at, and what it was held against.
#[derive(Clone, Copy)]
pub struct Sighted<'a> {
    /// The hosts.
    pub cluster: &'a Cluster,
    /// What they must hold as things stand.
    pub holdings: &'a Holdings,
    /// What looking showed.
    pub looks: &'a Looks,
    /// What the API answered.
    pub api: &'a ApiLook,
    /// What it is to hold.
    pub objects: &'a [ApiObject],
    /// What the cluster's own registry is to hold.
    pub shelf: &'a [Shelved],
    /// Keys that stand on hosts.
    pub keys: &'a dyn Fn(&SecretRef) -> Option<Secret>,
}

impl std::fmt::Debug for Sighted<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Sighted").field("looks", self.looks).finish_non_exhaustive()
    }
}

impl World {
    /// Hosts as they were seen; those that did not answer are switched off.
    pub fn as_seen(sighted: Sighted<'_>, now: Timestamp) -> Self {
        let Sighted { cluster, holdings, looks, api, objects, shelf, keys } = sighted;
        let mut world = Self::new(cluster.hosts.iter().map(|h| (h.name.clone(), h.address)), now);
        let listed = looks.values().flatten().find_map(|seen| seen.etcd.members.as_deref());
        for (name, sim) in &mut world.hosts {
            match (looks.get(name), holdings.host(name)) {
                (Some(Ok(seen)), held) => sim.becomes(seen, held, listed.unwrap_or_default(), keys),
                (Some(Err(_)), _) => sim.up = false,
                (None, _) => {}
            }
        }
        if let ApiLook::Answered(answered) = api {
            let nodes = answered.nodes.iter();
            world.api.nodes = nodes
                .filter_map(|(name, facts)| Some((HostName::new(name).ok()?, facts.clone())))
                .collect();
            let there = objects.iter().filter(|object| {
                let title = object.title();
                !answered.differing.contains(&title) && !answered.uncompared.contains_key(&title)
            });
            world.api.objects = there.map(|object| (object.title(), object.clone())).collect();
            world.api.tokens =
                answered.tokens.iter().map(|id| (id.clone(), String::new())).collect();
            let images = shelf.iter().map(|image| image.name.to_string());
            let held: BTreeSet<String> =
                images.filter(|name| !answered.lacking.contains(name)).collect();
            for sim in world.hosts.values_mut().filter(|sim| sim.knows(REGISTRY_UNIT)) {
                sim.shelf.clone_from(&held);
            }
        }
        // A quorum that answers is one that others depend on.
        if world.leads().is_some() {
            (world.operations, world.proved) = (1, 1);
        }
        world
    }
}

impl SimHost {
    fn becomes(
        &mut self,
        seen: &Observed,
        holdings: Option<&HostHoldings>,
        listed: &[EtcdMember],
        keys: &dyn Fn(&SecretRef) -> Option<Secret>,
    ) {
        self.machine.clone_from(&seen.machine);
        self.generation = seen.generation;
        self.found = Found {
            files: Default::default(),
            units: Default::default(),
            leftovers: Default::default(),
            modules: Default::default(),
            ..seen.found.clone()
        };
        self.seen = Some(Box::new(seen.clone()));
        let Some(holdings) = holdings else { return };
        for item in &holdings.items {
            self.has(item, seen, keys);
        }
        if let Some(paths) = &holdings.etcd {
            for (path, text) in
                [(&paths.owner_mark, &seen.etcd.owner), (&paths.formed_mark, &seen.etcd.formed)]
            {
                let file = text.as_ref().map(|text| SimFile::new(text.clone(), "root", 0o600));
                self.files.extend(file.map(|file| (path.clone(), file)));
            }
            self.is_member(&holdings.host, seen, listed);
        }
    }

    /// Takes over what was seen of an item.
    fn has(&mut self, item: &Item, seen: &Observed, keys: &dyn Fn(&SecretRef) -> Option<Secret>) {
        match item {
            Item::File(file) => {
                let Some(facts) = seen.found.files.get(&file.path) else { return };
                let (text, lasting) = match &file.content {
                    Content::Secret { secret, .. } => {
                        let text = keys(secret).map(|key| key.expose().to_owned());
                        (text.clone(), text.unwrap_or_default())
                    }
                    content @ Content::Text { lasting, .. } => {
                        (content.whole_text(), lasting.to_string())
                    }
                };
                self.stands(&file.path, (text.unwrap_or_default(), &lasting), facts);
            }
            Item::Pair(pair) => {
                let key = match &pair.own_key {
                    None => keys(&SecretRef::Certificate(pair.serial.clone()))
                        .map_or(String::new(), |key| key.expose().to_owned()),
                    Some(_) => SimFile::unseen_key(&pair.key_sha256),
                };
                let halves = [
                    (pair.certificate_path(), pair.certificate.to_string()),
                    (pair.key_path(), key),
                ];
                for (path, text) in halves {
                    if let Some(facts) = seen.found.files.get(&path) {
                        let lasting = text.clone();
                        self.stands(&path, (text, &lasting), facts);
                    }
                }
            }
            Item::Absent(absent) if seen.found.leftovers.contains_key(&absent.path) => {
                let left = SimFile::new("it must not be there\n".into(), "root", 0o644);
                self.files.insert(absent.path.clone(), left);
            }
            Item::Module(module) if !seen.found.modules.contains_key(module.name) => {
                self.loaded.insert(module.name.to_owned());
            }
            Item::Unit(unit) => {
                let Some(facts) = seen.found.units.get(unit.name) else { return };
                let started =
                    matches!(facts.active.as_str(), "active" | "activating" | "reloading");
                let (enabled, program) = (facts.enabled, facts.runs.clone());
                let unit_ = SimUnit { enabled, started, program, ..SimUnit::default() };
                self.units.insert(unit.name.to_owned(), unit_);
                if facts.pending {
                    self.pending.insert(unit.name.to_owned());
                }
            }
            _ => {}
        }
    }

    /// A file that was seen: as it is wanted, or with a line before it that says that it is not.
    fn stands(&mut self, path: &str, (text, lasting): (String, &str), facts: &FileFacts) {
        let Some(sum) = &facts.sha256 else { return };
        let known = SimFile::unseen(lasting).map_or_else(|| digest(lasting), ToOwned::to_owned);
        let text = match *sum == known {
            true => text,
            false => format!("# what stands here differs\n{text}"),
        };
        let mode = u32::from_str_radix(&facts.mode, 8).unwrap_or(0o600);
        self.files.insert(path.to_owned(), SimFile::new(text, facts.owner.clone(), mode));
    }

    /// The member that was seen here, by the quorum's own list.
    fn is_member(&mut self, host: &HostName, seen: &Observed, listed: &[EtcdMember]) {
        let number = |hexadecimal: &str| u64::from_str_radix(hexadecimal, 16).unwrap_or_default();
        let Some(own) = listed.iter().find(|member| member.name == host.as_str()) else { return };
        if !seen.etcd.data {
            return;
        }
        let cluster_id = match (&seen.etcd.status, &seen.etcd.formed) {
            (Some(status), _) => status.cluster_id.clone(),
            (None, formed) => formed.clone().unwrap_or_default(),
        };
        let peer = |member: &EtcdMember| Peer {
            id: number(&member.id),
            name: member.name.clone(),
            url: member.peer_urls.first().cloned().unwrap_or_default(),
            learner: member.learner,
            started: member.served,
        };
        self.data = Some(Member {
            id: number(&own.id),
            cluster_id: number(&cluster_id),
            peers: listed.iter().map(peer).collect(),
            holds: 0,
            unsettled: None,
        });
        let listens = own.peer_urls.first().cloned().unwrap_or_default();
        let runs = self.units.get(ETCD_UNIT).is_some_and(|unit| unit.started);
        self.process = Config::read(self, ETCD_UNIT)
            .ok()
            .filter(|_| runs)
            .map(|config| Process { listens, ..config.process(true) });
    }
}
