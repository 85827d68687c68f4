//! Secrets in etcd, and the keys by which API servers encrypt them (rule S13: each can be read at every instant).

use zoisite_core::holdings::API_SERVER_UNIT;

use super::state::{SimHost, World};

const CONFIGURATION: &str = "/etc/zoisite/api-server/encryption.yaml";

impl SimHost {
    /// The keys that an API server is started with here, by name, the one that encrypts first.
    pub(super) fn keys_at_rest(&self) -> Vec<String> {
        let text = self.files.get(CONFIGURATION).map_or("", |file| file.text.as_str());
        let names = text.lines().filter_map(|line| line.trim().strip_prefix("- name: "));
        names.map(ToOwned::to_owned).collect()
    }
}

impl World {
    /// The keys of every API server that is ready, by its host.
    fn ready_with_keys(&self) -> Vec<(String, Vec<String>)> {
        let ready = self.hosts.iter().filter(|(host, _)| self.api_ready(host).is_ok());
        ready
            .filter_map(|(host, sim)| {
                let keys = &sim.units.get(API_SERVER_UNIT)?.keys;
                (!keys.is_empty()).then(|| (host.to_string(), keys.clone()))
            })
            .collect()
    }

    /// Every API server that is ready writes a secret, and reads what all of them wrote.
    pub(super) fn use_secrets(&mut self) {
        // Where all go by one key there is nothing to see, and who is ready takes long to find out.
        let mut by =
            self.hosts.values().filter_map(|sim| sim.units.get(API_SERVER_UNIT)?.keys.first());
        let settled = |by: &String| self.secrets.values().all(|other| other == by);
        if !self.secrets.is_empty() && by.all(settled) {
            return;
        }
        let ready = self.ready_with_keys();
        for (host, keys) in &ready {
            if !self.secrets.contains_key("first") {
                for name in ["first", "second", "third"] {
                    self.secrets.insert(name.to_owned(), keys[0].clone());
                }
            }
            self.secrets.insert(format!("of-{host}"), keys[0].clone());
        }
        for (host, keys) in &ready {
            let unread = self.secrets.iter().find(|(_, by)| !keys.contains(by));
            if let Some((name, by)) = unread {
                let how = format!(
                    "S13: the API server of {host} knows {}, and cannot read the secret {name}, which {by} encrypts",
                    keys.join(" and ")
                );
                return self.break_rule(how);
            }
        }
    }

    /// Writes a secret again that is encrypted by another key than the one in use; whether there was one.
    pub(super) fn rewrite_one(&mut self) -> Result<bool, String> {
        let ready = self.ready_with_keys();
        let (_, keys) = ready.first().ok_or("no API server is ready")?;
        match self.secrets.values_mut().find(|by| **by != keys[0]) {
            Some(by) => {
                by.clone_from(&keys[0]);
                Ok(true)
            }
            None => Ok(false),
        }
    }

    /// By which keys secrets are encrypted in etcd.
    pub fn keys_of_secrets(&self) -> std::collections::BTreeSet<&str> {
        self.secrets.values().map(String::as_str).collect()
    }
}
