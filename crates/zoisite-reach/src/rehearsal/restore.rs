//! A snapshot that is put back: another quorum begins with it.

use std::collections::BTreeMap;

use zoisite_core::cluster::HostName;
use zoisite_core::script::{MadeData, Outcome};

use super::etcd::new;
use super::state::{Member, SimFile, World};
use super::world::failed;

impl World {
    /// Keeps what is acknowledged up to now under a name, as a snapshot would.
    pub fn take_snapshot(&mut self, name: &str) {
        self.snapshots.insert(name.to_owned(), self.acknowledged.len());
        self.kept_secrets.insert(name.to_owned(), self.secrets.clone());
    }

    /// Whether there is one of that name.
    pub fn has_snapshot(&self, name: &str) -> bool {
        self.snapshots.contains_key(name)
    }

    pub(super) fn make_data(&mut self, host: &HostName, made: &MadeData) -> Result<bool, Outcome> {
        let name = made.snapshot.rsplit('/').next().unwrap_or_default();
        let Some(sim) = self.hosts.get_mut(host) else { return Ok(false) };
        let known = self.snapshots.get(name);
        let there = [&made.program, &made.snapshot];
        let brought = there.iter().all(|path| sim.found.components.contains_key(*path));
        let Some(holds) = known.copied().filter(|_| brought) else {
            return Err(failed("making a member's data from the snapshot", "no such file"));
        };
        if sim.made.as_ref().is_some_and(|(at, _)| *at == made.made) {
            return Ok(false);
        }
        let initial: BTreeMap<&str, &str> =
            made.members.iter().map(|(host, url)| (host.as_str(), url.as_str())).collect();
        let own = initial.get(made.name.as_str()).copied().unwrap_or_default();
        let member = new(own, &made.token, &initial, None);
        let member = member.map_err(|log| failed("making a member's data", log.join("; ")))?;
        sim.made = Some((made.made.clone(), Member { holds, ..member }));
        Ok(true)
    }

    /// From here on what came after the snapshot is lost, as a person said; what else serves breaks rule S1.
    pub(super) fn take_data(&mut self, host: &HostName, made: &MadeData) -> Result<bool, Outcome> {
        let Some(sim) = self.hosts.get_mut(host) else { return Ok(false) };
        let mark = sim.files.get(&made.mark).map(|mark| mark.text.clone());
        if mark == Some(made.epoch.to_string()) && sim.data.is_some() {
            return Ok(false);
        }
        let put = |why: &str| failed("putting the data in its place", why);
        if sim.data.is_some() {
            return Err(put("a member's data stands there"));
        }
        let Some((_, member)) = sim.made.take_if(|(at, _)| *at == made.made) else {
            return Err(put("it is not there"));
        };
        let (holds, cluster_id) = (member.holds, member.cluster_id);
        sim.data = Some(member);
        let mark = SimFile::new(made.epoch.to_string(), "root", 0o600);
        sim.files.insert(made.mark.clone(), mark);
        sim.found.components.remove(&made.snapshot);
        let other = |one: &&HostName| {
            let data = self.hosts.get(*one).and_then(|sim| sim.data.as_ref());
            data.is_some_and(|data| data.cluster_id != cluster_id) && self.led_by(one).is_some()
        };
        let serve: Vec<&str> = self.hosts.keys().filter(other).map(HostName::as_str).collect();
        if !serve.is_empty() {
            let how = format!(
                "S1: another quorum begins from a snapshot while {} serve",
                serve.join(" and ")
            );
            self.broken.push(how);
        }
        // Those that began before it may have written since.
        let begun = self.hosts.iter().any(|(one, sim)| {
            one != host && sim.data.as_ref().is_some_and(|data| data.cluster_id == cluster_id)
        });
        if !begun {
            self.acknowledged.truncate(holds);
            let name = made.snapshot.rsplit('/').next().unwrap_or_default();
            self.secrets = self.kept_secrets.get(name).cloned().unwrap_or_default();
            for data in self.hosts.values_mut().filter_map(|sim| sim.data.as_mut()) {
                data.holds = data.holds.min(holds);
            }
        }
        Ok(true)
    }
}
