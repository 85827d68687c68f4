//! What a look at a simulated host shows.

use zoisite_core::cluster::HostName;
use zoisite_core::holdings::{
    ADDRESS_UNIT, CLUSTER_MARK, ETCD_UNIT, HostFacts, HostHoldings, MESH_UNIT, Part, TOKEN_PATH,
};
use zoisite_core::item::{FIRST_START, File, FileFacts, Item, UnitFacts, program};
use zoisite_core::script::{AddressFacts, EtcdFacts, EtcdStatus, Identity, Observed};
use zoisite_core::text::digest;

use super::state::{SimFile, World};

impl SimFile {
    /// What a look says of it.
    fn seen_as(&self, file: &File) -> FileFacts {
        let lasting = self.text.split(FIRST_START).next();
        self.seen(lasting.filter(|_| file.content.first_start().is_some()))
    }

    /// The same, where only its lasting text is compared.
    fn seen(&self, lasting: Option<&str>) -> FileFacts {
        FileFacts {
            sha256: Some(lasting.map_or_else(|| self.sha256(), digest)),
            whole_sha256: lasting.map(|_| digest(&self.text)),
            owner: self.owner.clone(),
            mode: format!("{:o}", self.mode),
        }
    }
}

impl World {
    pub(super) fn observe(&self, holdings: &HostHoldings) -> Observed {
        let Some(sim) = self.hosts.get(&holdings.host) else { return Observed::default() };
        // What no rehearsal changes is as it was seen.
        let nature = match &sim.seen {
            Some(seen) => Observed { machine: sim.machine.clone(), ..(**seen).clone() },
            None => Observed {
                machine: sim.machine.clone(),
                host_keys: vec![digest(&format!("{} ssh", sim.machine))],
                arch: sim.arch.clone(),
                os: "rehearsal 1".into(),
                init: "systemd".into(),
                boot: sim.machine.clone(),
                facts: Some(HostFacts::default()),
                ..Observed::default()
            },
        };
        let mut out = Observed {
            cluster: sim
                .files
                .get(CLUSTER_MARK)
                .and_then(|file| file.text.lines().next().map(ToOwned::to_owned)),
            generation: sim.generation,
            acting: self.acts(&holdings.host),
            found: sim.found.clone(),
            address: None,
            ..nature
        };
        for item in &holdings.items {
            match item {
                Item::File(file) => {
                    let facts = sim.files.get(&file.path).map(|found| found.seen_as(file));
                    out.found.files.extend(facts.map(|facts| (file.path.clone(), facts)));
                }
                Item::Pair(pair) => {
                    for path in [pair.certificate_path(), pair.key_path()] {
                        let _ = match sim.files.get(&path).map(|found| found.seen(None)) {
                            Some(facts) => out.found.files.insert(path, facts),
                            // What was put and is gone since.
                            None => out.found.files.remove(&path),
                        };
                    }
                }
                Item::Absent(absent) if sim.files.contains_key(&absent.path) => {
                    out.found.leftovers.insert(absent.path.clone(), ());
                }
                Item::Module(module) if !sim.loaded.contains(module.name) => {
                    out.found.modules.insert(module.name.into(), ());
                }
                Item::Unit(unit) => {
                    let facts = self.unit_facts(&holdings.host, unit.name);
                    out.found.units.insert(unit.name.into(), facts);
                }
                _ => {}
            }
        }
        if holdings.has(Part::Mesh)
            && let Some(facts) = &mut out.facts
        {
            // A machine makes its key once, when the unit starts for the first time.
            let makes = sim.started(MESH_UNIT).then(|| digest(&format!("{} mesh", sim.machine)));
            facts.mesh_key = facts.mesh_key.take().or(makes);
        }
        if holdings.address.is_some() && sim.started(ADDRESS_UNIT) {
            let held = self.floats_at().as_ref() == Some(&holdings.host);
            let serves = !sim.away && self.could_serve(&holdings.host);
            let state = match (held, serves) {
                (true, _) => "MASTER",
                (false, true) => "BACKUP",
                (false, false) => "FAULT",
            };
            out.address =
                Some(AddressFacts { held, state: state.into(), since: 0, serves, away: sim.away });
        }
        if let Some(node) = &holdings.node {
            if let Some(file) = sim.files.get(&node.client) {
                (out.identity, out.identity_by) = Identity::of(file.text.as_bytes());
            }
            out.token_left = sim.files.contains_key(TOKEN_PATH);
            out.resolves = node.api_name.as_ref().map(|_| true);
        }
        if let Some(etcd) = &holdings.etcd {
            let full = self.disk_is_full(&holdings.host);
            let room = if full { 0 } else { 40 * 1_024 * 1_024 * 1_024 };
            out.room.insert(etcd.folder.clone(), room);
            let mark = |path: &str| sim.files.get(path).map(|file| file.text.clone());
            let status = self.answer(&holdings.host).ok().map(|(_, answer)| EtcdStatus {
                cluster_id: format!("{:016x}", answer.cluster_id),
                member_id: format!("{:016x}", answer.member_id),
                leader: format!("{:016x}", answer.leader),
                version: sim
                    .program(ETCD_UNIT)
                    .as_deref()
                    .and_then(program)
                    .map_or_else(String::new, |(_, version)| version.to_string()),
                revision: 3,
                raft_index: 12,
                raft_term: 2,
                db_size: 20_480,
                ..EtcdStatus::default()
            });
            out.etcd = EtcdFacts {
                // Simulated timers save nothing.
                saved: None,
                unsaved: None,
                pace: None,
                data: sim.data.is_some(),
                owner: mark(&etcd.owner_mark),
                formed: mark(&etcd.formed_mark),
                epoch: mark(&etcd.epoch_mark).and_then(|mark| mark.parse().ok()),
                strays: sim.stray.iter().cloned().collect(),
                members: status.as_ref().and_then(|_| self.members_seen_by(&holdings.host)),
                status,
                silent: None,
            };
        }
        out
    }

    fn unit_facts(&self, host: &HostName, unit: &str) -> UnitFacts {
        let sim = &self.hosts[host];
        let present = sim.knows(unit);
        let known = sim.units.get(unit).cloned().unwrap_or_default();
        let (active, sub) = match (&sim.process, known.failed) {
            _ if unit != ETCD_UNIT && known.started => match self.service_ready(host, unit) {
                true => ("active", "running"),
                false => ("activating", "start"),
            },
            (_, None) if unit != ETCD_UNIT => ("inactive", "dead"),
            (_, Some(_)) if unit != ETCD_UNIT => ("activating", "auto-restart"),
            (Some(process), _) if process.was_ready || self.serves(host) => ("active", "running"),
            (Some(_), _) => ("activating", "start"),
            (None, Some(_)) => ("activating", "auto-restart"),
            (None, None) => ("inactive", "dead"),
        };
        UnitFacts {
            load: if present { "loaded" } else { "not-found" }.into(),
            active: active.into(),
            sub: sub.into(),
            enabled: known.enabled,
            restarts: 0,
            pending: sim.pending.contains(unit),
            runs: known.program,
            starts: sim.program(unit),
        }
    }
}
