use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use jiff::Timestamp;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{API_SERVER_UNIT, ETCD_UNIT};
use zoisite_core::item::{Component, ComponentSums, Content, File, Found, Item, Pair, Seen};
use zoisite_core::layout::RUNTIME_UNIT;
use zoisite_core::pki::{Secret, SecretRef};
use zoisite_core::script::{EtcdMember, Operation, Outcome};
use zoisite_core::text::digest;

use super::etcd::Config;
use super::state::{Fault, Member, SimFile, SimHost, World, usual_arch};
use crate::quorum::{MemberAnswer, NOT_FOR_LEARNERS};

/// For how many moments a unit that was started is on its way up.
const WARMING: u8 = 4;

pub(super) fn failed(attempted: &str, answer: impl Into<String>) -> Outcome {
    Outcome::Failed { attempted: attempted.to_owned(), answer: answer.into(), evidence: Vec::new() }
}

impl World {
    /// Hosts that are switched on and hold nothing. `now` is the time by which certificates are judged there.
    pub fn new(hosts: impl IntoIterator<Item = (HostName, IpAddr)>, now: Timestamp) -> Self {
        let mut world = Self { clock: now, ..Self::default() };
        world.switch_on(hosts);
        world
    }

    /// A host is a machine of another architecture.
    pub fn is_of(&mut self, host: &HostName, arch: &str) {
        if let Some(sim) = self.hosts.get_mut(host) {
            arch.clone_into(&mut sim.arch);
        }
    }

    /// Adds hosts that are switched on and hold nothing; those that are there stay as they are.
    pub fn switch_on(&mut self, hosts: impl IntoIterator<Item = (HostName, IpAddr)>) {
        for (name, address) in hosts {
            let machine = digest(name.as_str())[..32].to_owned();
            self.hosts.entry(name).or_insert_with(|| SimHost {
                address,
                up: true,
                machine,
                arch: usual_arch(),
                generation: 0,
                found: Found::default(),
                files: BTreeMap::new(),
                units: BTreeMap::new(),
                pending: BTreeSet::new(),
                data: None,
                stray: None,
                made: None,
                process: None,
                lost: 0,
                away: false,
                seen: None,
                loaded: BTreeSet::new(),
                shelf: BTreeSet::new(),
            });
        }
    }

    /// It is that time now.
    pub fn set_clock(&mut self, now: Timestamp) {
        self.clock = now;
    }

    /// A host's clock, in seconds since 1970.
    pub(super) fn clock(&self, host: &HostName) -> i64 {
        let ahead = |fault: &Fault| match fault {
            Fault::ClockAhead(off, milliseconds) if off == host => *milliseconds,
            _ => 0,
        };
        self.clock.as_second() + self.faults.iter().map(ahead).sum::<i64>() / 1_000
    }

    /// Puts a fault into the world.
    pub fn fault(&mut self, fault: Fault) {
        self.faults.push(fault);
    }

    /// Takes every fault out.
    pub fn fix(&mut self) {
        self.faults.clear();
    }

    /// How many operations were begun so far.
    pub fn operations(&self) -> u64 {
        self.operations
    }

    /// Safety rules that were broken, in words. Empty unless the program is wrong.
    pub fn broken(&self) -> &[String] {
        &self.broken
    }

    pub(super) fn break_rule(&mut self, how: String) {
        self.broken.push(how);
    }

    /// Takes the power from a host, or gives it back; an enabled unit then starts by itself.
    pub fn power(&mut self, host: &HostName, on: bool) {
        self.left.retain(|left| left.host != *host);
        let Some(sim) = self.hosts.get_mut(host) else { return };
        sim.up = on;
        sim.process = None;
        // What is in memory is gone.
        sim.files.retain(|path, _| !path.starts_with("/run/"));
        let units: Vec<String> =
            sim.units.iter().filter(|(_, unit)| unit.enabled).map(|(n, _)| n.clone()).collect();
        for unit in sim.units.values_mut() {
            unit.started = false;
        }
        for unit in units.iter().filter(|_| on) {
            self.start(host, unit);
        }
        // Whoever meets it again has waited for longer than a unit takes.
        if let Some(sim) = self.hosts.get_mut(host) {
            sim.units.values_mut().for_each(|unit| unit.warming = 0);
        }
    }

    /// A moment passes: what is on its way up comes nearer.
    pub(super) fn passes(&mut self) {
        for unit in self.hosts.values_mut().flat_map(|sim| sim.units.values_mut()) {
            unit.warming = unit.warming.saturating_sub(1);
        }
    }

    /// Stops a unit, as a person would.
    pub(super) fn stop(&mut self, host: &HostName, unit: &str) {
        let Some(sim) = self.hosts.get_mut(host) else { return };
        if unit == ETCD_UNIT {
            sim.process = None;
        }
        if let Some(unit) = sim.units.get_mut(unit) {
            unit.started = false;
        }
    }

    /// Starts what starts at boot and does not run.
    pub(super) fn start_enabled(&mut self, host: &HostName) {
        let Some(sim) = self.hosts.get(host) else { return };
        let runs = |name: &str, started: bool| match name {
            ETCD_UNIT => sim.process.is_some(),
            _ => started,
        };
        let stopped =
            sim.units.iter().filter(|(name, unit)| unit.enabled && !runs(name, unit.started));
        let stopped: Vec<String> = stopped.map(|(name, _)| name.clone()).collect();
        for unit in stopped {
            self.start(host, &unit);
        }
    }

    /// Who leads the etcd members.
    pub fn leads(&self) -> Option<HostName> {
        let leader = self.hosts.keys().find_map(|host| self.leader(host))?;
        let led = self
            .hosts
            .iter()
            .find(|(_, sim)| sim.data.as_ref().is_some_and(|member| member.id == leader));
        led.map(|(host, _)| host.clone())
    }

    /// Who holds the virtual IP.
    pub fn holds_virtual_ip(&self) -> Option<HostName> {
        self.floats_at()
    }

    /// Replaces a file's text, as a person with an editor would.
    pub fn edit(&mut self, host: &HostName, path: &str, change: impl FnOnce(&str) -> String) {
        if let Some(file) = self.hosts.get_mut(host).and_then(|sim| sim.files.get_mut(path)) {
            let text = change(&file.text);
            *file = SimFile::new(text, file.owner.clone(), file.mode);
        }
    }

    /// A file's text.
    pub fn text(&self, host: &HostName, path: &str) -> Option<&str> {
        self.hosts.get(host)?.files.get(path).map(|file| file.text.as_str())
    }

    /// Every file on every host, with its text.
    pub fn files(&self) -> impl Iterator<Item = (&HostName, &str, &str)> {
        self.hosts.iter().flat_map(|(name, host)| {
            host.files.iter().map(move |(path, file)| (name, path.as_str(), file.text.as_str()))
        })
    }

    /// Loses a member's data: with everything beside it, as a replaced disk would, or alone.
    pub fn lose_data(&mut self, host: &HostName, alone: bool) {
        if let Some(sim) = self.hosts.get_mut(host) {
            sim.data = None;
            sim.process = None;
            if !alone {
                sim.files.retain(|path, _| !path.starts_with("/var/lib/etcd/"));
                sim.forget_below("/var/lib/etcd/");
            }
            if let Some(unit) = sim.units.get_mut(ETCD_UNIT) {
                unit.started = false;
            }
        }
    }

    /// Puts another cluster's data where a member would keep its own, or takes it away again. Not under the feet of a
    /// script that is at work there.
    pub fn foreign_data(&mut self, host: &HostName, path: Option<&str>) {
        if path.is_some() && self.acts(host) {
            return;
        }
        if let Some(sim) = self.hosts.get_mut(host) {
            sim.stray = path.map(ToOwned::to_owned);
        }
    }

    /// Puts another machine behind a host's address, on which nothing is.
    pub fn another_machine(&mut self, host: &HostName) {
        let Some(sim) = self.hosts.remove(host) else { return };
        self.left.retain(|left| left.host != *host);
        self.switch_on([(host.clone(), sim.address)]);
        if let Some(new) = self.hosts.get_mut(host) {
            new.machine = digest(&sim.machine)[..32].to_owned();
            new.up = sim.up;
        }
    }

    /// A person says that the machine that answers for a host is the right one.
    pub fn accept(&mut self, host: &HostName) {
        self.met.remove(host);
    }

    pub(super) fn unreachable(&self, host: &HostName) -> Option<String> {
        match self.hosts.get(host) {
            Some(sim) if sim.up => None,
            Some(sim) => Some(format!("connect to host {} port 22: No route to host", sim.address)),
            None => Some(format!("Could not resolve hostname {host}")),
        }
    }

    /// Whether what one host dials at another does not come through.
    pub(super) fn blocked(&self, from: &HostName, to: &HostName) -> bool {
        self.faults.iter().any(|fault| match fault {
            Fault::Cut(x, y) => (x, y) == (from, to) || (x, y) == (to, from),
            Fault::Blocked(x, y) => (x, y) == (from, to),
            _ => false,
        })
    }

    /// Whether two hosts reach each other in neither way.
    pub(super) fn cut(&self, a: &HostName, b: &HostName) -> bool {
        self.blocked(a, b) && self.blocked(b, a)
    }

    /// Counts an operation. `Err(None)` means that the program is killed here.
    pub(super) fn next_operation(
        &mut self,
        host: &HostName,
        what: &str,
    ) -> Result<(), Option<Outcome>> {
        let number = self.operations;
        self.operations += 1;
        for fault in self.faults.clone() {
            match fault {
                Fault::Power { operation, host, on } if operation == number => {
                    self.power(&host, on);
                    if let Some(sim) = self.hosts.get_mut(&host).filter(|_| !on) {
                        sim.lost = self.operations;
                    }
                }
                Fault::Forged { operation, host } if operation == number => self.forge(&host),
                _ => {}
            }
        }
        self.left_go_on();
        self.passes();
        self.replicate();
        // While nobody leads there is no quorum that a restart could cost; it counts again when it is proven.
        if self.leads().is_none() {
            self.proved = 0;
        }
        if self.under_load {
            self.load();
        }
        self.use_secrets();
        if self.judges_trust {
            self.believe_one_another();
        }
        let struck = |fault: &Fault| match fault {
            Fault::Killed { operation }
            | Fault::LeftRunning { operation, .. }
            | Fault::Fails { operation } => *operation == number,
            Fault::DiskFull(full) => {
                full == host && (what.starts_with("file") || what.starts_with('/'))
            }
            Fault::Power { .. }
            | Fault::AnswerLost { .. }
            | Fault::Refuses { .. }
            | Fault::Slow(..)
            | Fault::Pace(..)
            | Fault::Cut(..)
            | Fault::Blocked(..)
            | Fault::Forged { .. }
            | Fault::DiskDead(_)
            | Fault::ClockAhead(..)
            | Fault::Lags(_) => false,
        };
        match self.faults.iter().find(|fault| struck(fault)) {
            Some(Fault::Killed { .. } | Fault::LeftRunning { .. }) => Err(None),
            Some(Fault::DiskFull(_)) => {
                Err(Some(failed(&format!("writing {what}"), "No space left on device")))
            }
            Some(_) => Err(Some(failed(what, "it failed, as this rehearsal wants it"))),
            None => Ok(()),
        }
    }

    /// Rule S11 on the host: an older run never acts after a newer one.
    pub(super) fn take_generation(&mut self, host: &HostName, generation: u64) -> Result<(), u64> {
        let Some(sim) = self.hosts.get_mut(host) else { return Ok(()) };
        if sim.generation > generation {
            return Err(sim.generation);
        }
        sim.generation = generation;
        Ok(())
    }

    pub(super) fn put_component(
        &mut self,
        host: &HostName,
        component: &Component,
        sha256: &str,
    ) -> Result<(), Outcome> {
        if self.disk_is_full(host) {
            return Err(failed(&format!("writing {}", component.path), "No space left on device"));
        }
        self.watch_whose(host);
        if let Some(sim) = self.hosts.get_mut(host) {
            Item::from(component.clone()).hold(&mut sim.found, sha256);
            let runs = |unit: &&str| sim.units.get(*unit).is_some_and(|unit| unit.started);
            if let Some(unit) = component.restarts.filter(runs) {
                sim.pending.insert(unit.to_owned());
            }
        }
        Ok(())
    }

    pub(super) fn apply(
        &mut self,
        host: &HostName,
        operation: &Operation,
        keys: &dyn Fn(&SecretRef) -> Option<Secret>,
    ) -> Result<bool, Outcome> {
        self.watch_whose(host);
        let Some(sim) = self.hosts.get_mut(host) else { return Ok(false) };
        match operation {
            Operation::Put(Item::File(file)) => sim.put(file, keys),
            Operation::Put(Item::Pair(pair)) => sim.put_pair(pair, keys),
            Operation::Put(Item::Module(module)) => Ok(sim.loaded.insert(module.name.to_owned())),
            Operation::Put(item) => sim.put_item(item),
            Operation::Mark { path, owner, text } => {
                let new = SimFile::new(text.clone(), *owner, 0o600);
                Ok(match sim.files.get(path) {
                    Some(_) => false,
                    None => sim.files.insert(path.clone(), new).is_none(),
                })
            }
            Operation::Remove(path) => Ok(sim.files.remove(path).is_some()),
            Operation::SetAside { unit, formed_mark, config, .. } => {
                let config = config.map(|folder| format!("{folder}/"));
                let mut changed = sim.process.take().is_some() | sim.data.take().is_some();
                changed |= sim.files.remove(formed_mark).is_some();
                if let Some(folder) = config {
                    sim.files.retain(|path, _| !path.starts_with(&folder));
                    sim.forget_below(&folder);
                }
                if let Some(unit) = sim.units.get_mut(*unit) {
                    changed |= unit.enabled || unit.started;
                    (unit.enabled, unit.started, unit.failed) = (false, false, None);
                }
                Ok(changed)
            }
            Operation::Stop(unit) => {
                if *unit == ETCD_UNIT {
                    sim.process = None;
                }
                let Some(unit) = sim.units.get_mut(*unit) else { return Ok(false) };
                let ran = unit.enabled || unit.started;
                (unit.enabled, unit.started, unit.failed) = (false, false, None);
                Ok(ran)
            }
            Operation::Wipe { .. } => Ok(sim.data.take().is_some()),
            Operation::MakeData(made) => self.make_data(host, made),
            Operation::TakeData(made) => self.take_data(host, made),
            Operation::Enable(unit) => {
                if !sim.knows(unit) {
                    return Err(failed(&format!("enabling {unit}"), "the unit does not exist"));
                }
                let unit = sim.units.entry((*unit).to_owned()).or_default();
                Ok(!std::mem::replace(&mut unit.enabled, true))
            }
            Operation::Start(unit) => {
                let runs = match *unit {
                    ETCD_UNIT => sim.process.is_some(),
                    _ => sim.units.get(*unit).is_some_and(|unit| unit.started),
                };
                // One that is on its way with older files begins again.
                let again = !runs || (sim.pending.contains(*unit) && !self.ready(host, unit));
                if again {
                    self.start(host, unit);
                }
                Ok(again)
            }
            Operation::Restart(unit) => {
                self.watch_disruption(host, unit);
                self.start(host, unit);
                Ok(true)
            }
            Operation::GiveAway(_) => Ok(!std::mem::replace(&mut sim.away, true)),
            Operation::TakePart => Ok(std::mem::replace(&mut sim.away, false)),
            Operation::Settle { .. } => Ok(true),
        }
    }

    /// Rule S2: taking a serving member down must leave the quorum standing.
    fn watch_disruption(&mut self, host: &HostName, unit: &str) {
        if unit != ETCD_UNIT {
            return self.watch_control_plane(host, unit);
        }
        let sim = self.hosts.get(host).filter(|sim| sim.process.is_some());
        let Some(member) = sim.and_then(|sim| sim.data.clone()) else { return };
        // Before a quorum was ever proven nobody depends on it.
        if self.answer(host).is_err()
            || member.voters() == 1
            || !member.votes(member.id)
            || self.proved == 0
        {
            return;
        }
        // One that was lost after the last proof nobody could know of.
        let unknown = |name: &HostName| {
            self.hosts.get(name).is_some_and(|sim| !sim.up && sim.lost > self.proved)
        };
        let votes = |name: &HostName| {
            let data = self.hosts.get(name).and_then(|sim| sim.data.as_ref());
            data.is_some_and(|data| member.votes(data.id))
        };
        let counts = |name: &HostName| votes(name) && (self.serves(name) || unknown(name));
        let serving = self.hosts.keys().filter(|other| *other != host && counts(other)).count();
        if serving < member.voters() / 2 + 1 {
            self.broken.push(format!("S2: {host} was restarted while {serving} others served"));
        }
    }

    /// Starts, or starts again, the process of a unit, from what stands in the host's files.
    fn start(&mut self, host: &HostName, unit: &str) {
        let Some(sim) = self.hosts.get_mut(host) else { return };
        sim.pending.remove(unit);
        let program = sim.program(unit);
        let keys = if unit == API_SERVER_UNIT { sim.keys_at_rest() } else { Vec::new() };
        let believes = match unit {
            API_SERVER_UNIT => sim.paper(&sim.papers_for_etcd().authority).ok().cloned(),
            _ => None,
        };
        let slot = sim.units.entry(unit.to_owned()).or_default();
        (slot.program, slot.warming, slot.keys) = (program, WARMING, keys);
        slot.believes = believes;
        if self.refuses(host, unit) {
            let Some(sim) = self.hosts.get_mut(host) else { return };
            if unit == ETCD_UNIT {
                sim.process = None;
            }
            let slot = sim.units.entry(unit.to_owned()).or_default();
            slot.started = unit == ETCD_UNIT;
            slot.failed = Some(vec!["it does not come up, as this rehearsal wants it".into()]);
            return;
        }
        let Some(sim) = self.hosts.get_mut(host) else { return };
        if unit != ETCD_UNIT {
            let outcome = sim.begin(unit);
            let slot = sim.units.entry(unit.to_owned()).or_default();
            slot.started = outcome.is_ok();
            slot.failed = outcome.err();
            return;
        }
        let config = Config::read(sim, unit);
        let known = config.as_ref().ok().and_then(|config| self.known_to_others(host, config));
        let Some(sim) = self.hosts.get_mut(host) else { return };
        let outcome = config.and_then(|config| config.start(sim, known.as_ref()));
        let slot = sim.units.entry(unit.to_owned()).or_default();
        slot.started = true;
        match outcome {
            Ok((member, process)) => {
                slot.failed = None;
                sim.data = Some(member);
                sim.process = Some(process);
            }
            Err(log) => {
                slot.failed = Some(log);
                sim.process = None;
            }
        }
    }

    /// What the members that a configuration names know of all members, where one of them runs and is reached.
    fn known_to_others(&self, host: &HostName, config: &Config) -> Option<Member> {
        let others = self.hosts.iter().filter(|(name, sim)| {
            *name != host && sim.up && !self.blocked(host, name) && sim.process.is_some()
        });
        let mut known = others.filter(|(_, sim)| {
            sim.process.as_ref().is_some_and(|process| config.names(&process.listens))
        });
        known.find_map(|(_, sim)| sim.data.clone())
    }

    pub(super) fn unit_log(&self, host: &HostName, unit: &str) -> Option<Vec<String>> {
        self.hosts.get(host)?.units.get(unit)?.failed.clone()
    }

    /// Whether the member serves; systemd calls it active from then on.
    pub(super) fn ready(&mut self, host: &HostName, unit: &str) -> bool {
        self.passes();
        if unit != ETCD_UNIT {
            return self.service_ready(host, unit);
        }
        // What waits for the others to be reached tries again and again.
        let again = self.hosts.get(host).is_some_and(|sim| {
            let unit = sim.units.get(unit);
            sim.up && sim.process.is_none() && unit.is_some_and(|unit| unit.started)
        });
        if again {
            self.start(host, unit);
        }
        self.replicate();
        let ready = self.serves(host);
        let process = self.hosts.get_mut(host).and_then(|sim| sim.process.as_mut());
        if let Some(process) = process.filter(|_| ready) {
            process.was_ready = true;
        }
        ready
    }

    /// Whether a member reaches a quorum and so serves.
    pub fn serves(&self, host: &HostName) -> bool {
        self.leader(host).is_some()
    }

    pub(super) fn answer(&self, host: &HostName) -> Result<(HostName, MemberAnswer), Trouble> {
        let trouble = |answer: &str| {
            Trouble::new(Some(host.clone()), "asking the member", answer.to_owned(), Vec::new())
        };
        if let Some(why) = self.unreachable(host) {
            return Err(trouble(&why));
        }
        let sim = self.hosts.get(host).filter(|sim| sim.process.is_some());
        let member =
            sim.and_then(|sim| sim.data.as_ref()).ok_or_else(|| trouble("Connection refused"))?;
        if !self.takes_part(host) {
            return Err(trouble(NOT_FOR_LEARNERS));
        }
        let leader = self.leader(host).ok_or_else(|| trouble("context deadline exceeded"))?;
        let members = member.peers.iter().map(|peer| (peer.id, peer.name.clone())).collect();
        Ok((
            host.clone(),
            MemberAnswer { cluster_id: member.cluster_id, member_id: member.id, leader, members },
        ))
    }

    /// All members, as the quorum's own list has them.
    pub(super) fn members_seen_by(&self, host: &HostName) -> Option<Vec<EtcdMember>> {
        // As its leader has it: etcd gives no list that may be out of date (a linearizable read), and a learner gives none.
        if !self.takes_part(host) {
            return None;
        }
        let member = self.hosts.get(&self.led_by(host)?)?.data.as_ref()?;
        let listed = member.peers.iter().map(|peer| EtcdMember {
            id: format!("{:016x}", peer.id),
            name: peer.name.clone(),
            peer_urls: vec![peer.url.clone()],
            learner: peer.learner,
            served: peer.started,
        });
        Some(listed.collect())
    }
}

impl SimHost {
    /// What stood in a folder that is gone is not there any more.
    fn forget_below(&mut self, folder: &str) {
        let below = |path: &str| path.starts_with(folder) || format!("{path}/") == folder;
        self.found.directories.retain(|path, _| !below(path));
        self.found.links.retain(|path, _| !below(path));
        self.found.pairs.retain(|path, _| !below(path));
    }

    /// The program that a unit's file names.
    pub(super) fn program(&self, unit: &str) -> Option<String> {
        let text = &self.files.get(&format!("/etc/systemd/system/{unit}"))?.text;
        let start = text.lines().find_map(|line| line.strip_prefix("ExecStart="))?;
        start.split(' ').next().map(|program| program.trim_start_matches('-').to_owned())
    }

    fn put_item(&mut self, item: &Item) -> Result<bool, Outcome> {
        let described = item.describe();
        let attempted = format!("putting {}", item.title());
        if described.owner.is_some_and(|owner| !self.has_user(owner)) {
            return Err(failed(&attempted, "invalid user"));
        }
        if let Item::Image(image) = item {
            if !self.units.get(RUNTIME_UNIT).is_some_and(|unit| unit.started) {
                return Err(failed(&attempted, "the container runtime does not answer"));
            }
            if !self.found.components.contains_key(&image.archive) {
                return Err(failed(&attempted, format!("open {}", image.archive)));
            }
        }
        let had_file = match item {
            Item::Absent(absent) => self.files.remove(&absent.path).is_some(),
            _ => false,
        };
        let sums = ComponentSums::unknown();
        let seen =
            Seen { found: &self.found, arch: &self.arch, begun: false, hangs: false, sums: &sums };
        let changed = had_file || !item.differs(seen).is_empty();
        item.hold(&mut self.found, "");
        Ok(changed)
    }

    fn put_pair(
        &mut self,
        pair: &Pair,
        keys: &dyn Fn(&SecretRef) -> Option<Secret>,
    ) -> Result<bool, Outcome> {
        let attempted = format!("putting {}", pair.path);
        let key = match &pair.own_key {
            Some(_) => self.own_key(pair).map(|key| key.text.clone()),
            None => {
                let secret = SecretRef::Certificate(pair.serial.clone());
                keys(&secret).map(|key| key.expose().to_owned())
            }
        };
        let key = key.ok_or_else(|| failed(&attempted, format!("no key of {}", pair.label)))?;
        if let Some(kept) = pair.kept_key_path() {
            self.files.remove(&kept);
        }
        let halves = [
            (pair.certificate_path(), pair.certificate.to_string(), "root", 0o644),
            (pair.key_path(), key, pair.owner, 0o600),
        ];
        let mut changed = self.put_item(&Item::Pair(pair.clone()))?;
        for (path, text, owner, mode) in halves {
            let new = SimFile::new(text, owner, mode);
            let old = self.files.insert(path, new.clone());
            changed |= old.is_none_or(|old| old != new);
        }
        if let Some(by) = pair.read_by.filter(|_| changed) {
            self.pending.insert(by.unit.to_owned());
        }
        Ok(changed)
    }

    /// Whether there is such a user.
    pub(super) fn has_user(&self, name: &str) -> bool {
        name == "root" || self.found.users.contains_key(name)
    }

    fn put(
        &mut self,
        file: &File,
        keys: &dyn Fn(&SecretRef) -> Option<Secret>,
    ) -> Result<bool, Outcome> {
        let attempted = format!("writing {}", file.path);
        if !self.has_user(file.owner) {
            return Err(failed(&attempted, format!("invalid user: {}", file.owner)));
        }
        let text = match &file.content {
            Content::Secret { secret, label, .. } => keys(secret)
                .ok_or_else(|| failed(&attempted, format!("no key of {label}")))?
                .expose()
                .to_owned(),
            content => content.whole_text().unwrap_or_default(),
        };
        let new = SimFile::new(text, file.owner, file.mode);
        let same = self.files.get(&file.path).is_some_and(|old| {
            old.text == new.text && old.owner == new.owner && old.mode == new.mode
        });
        if !same {
            if let Some(unit) = file.restarts {
                self.pending.insert(unit.to_owned());
            }
            self.files.insert(file.path.clone(), new);
        }
        Ok(!same)
    }
}
