use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::Seed;
use crate::join_file::JOIN_FOLDER;
use crate::text::digest;

/// First-boot data of a host as it is recorded, without secrets.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeedRecord {
    /// Which record it was: the host says so of itself.
    pub instance: String,
    /// User data, by its keys.
    pub user_data: Value,
    /// Network configuration.
    pub network: Value,
}

/// How a change reaches a host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// As it runs.
    InPlace,
    /// At its next start.
    Restart,
}

/// One value that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Change {
    /// The key, as cloud-init names it.
    pub what: String,
    /// The value that the host has; none for a new key.
    pub before: Option<Value>,
    /// The value that it would get; none for a key that is gone.
    pub now: Option<Value>,
    /// How it gets there.
    pub way: Way,
}

/// Keys that count at a start alone: what is already under way does not hear of them.
const AT_START: [&str; 3] = ["hostname", "fqdn", "ssh_keys"];

impl SeedRecord {
    /// What is recorded of a seed.
    ///
    /// # Errors
    /// Where its user data cannot be read.
    pub fn of(seed: &Seed) -> Result<Self, String> {
        let read: Value =
            serde_saphyr::from_str(seed.user_data.expose()).map_err(|why| why.to_string())?;
        let mut user_data = read;
        if let Some(key) = user_data.pointer_mut("/ssh_keys") {
            *key = key["ed25519_public"].take();
        }
        // Words and join files too: what they are is recorded, not what they say.
        for file in user_data
            .pointer_mut("/write_files")
            .and_then(Value::as_array_mut)
            .into_iter()
            .flatten()
        {
            let of_join = file["path"].as_str().is_some_and(|path| path.starts_with(JOIN_FOLDER));
            if let (true, Some(content)) = (of_join, file["content"].as_str()) {
                file["content"] = format!("sha256 {}", digest(content)).into();
            }
        }
        Ok(Self { instance: seed.instance().to_owned(), user_data, network: seed.network.clone() })
    }
}

/// Differences between the data that a host has and the data that it would get now, down to single values.
pub fn changed(before: &SeedRecord, now: &SeedRecord) -> Vec<Change> {
    let keys = |record: &SeedRecord| -> Vec<String> {
        record.user_data.as_object().map(|all| all.keys().cloned().collect()).unwrap_or_default()
    };
    let mut names = keys(before);
    names.extend(keys(now).into_iter().filter(|key| before.user_data.get(key).is_none()));
    let mut out = Vec::new();
    for name in names {
        let way = if AT_START.contains(&name.as_str()) { Way::Restart } else { Way::InPlace };
        let (was, is) = (before.user_data.get(&name), now.user_data.get(&name));
        differing(&name, (was, is), way, &mut out);
    }
    let cards = |record: &SeedRecord| record.network.get("ethernets").cloned();
    let (was, is) = (cards(before), cards(now));
    differing("network", (was.as_ref(), is.as_ref()), Way::Restart, &mut out);
    out
}

fn differing(path: &str, pair: (Option<&Value>, Option<&Value>), way: Way, out: &mut Vec<Change>) {
    match pair {
        (was, is) if was == is => {}
        (Some(Value::Object(was)), Some(Value::Object(is))) => {
            let new = is.keys().filter(|key| !was.contains_key(*key));
            for key in was.keys().chain(new) {
                differing(&format!("{path}.{key}"), (was.get(key), is.get(key)), way, out);
            }
        }
        (Some(Value::Array(was)), Some(Value::Array(is))) => {
            let gone = was.iter().filter(|one| !is.contains(one));
            let new = is.iter().filter(|one| !was.contains(one));
            let (gone, new): (Vec<&Value>, Vec<&Value>) = (gone.collect(), new.collect());
            // One of each, and both of the same name: what differs is within.
            if let ([was], [is]) = (&gone[..], &new[..])
                && let Some(name) = was.get("name").and_then(Value::as_str)
                && is["name"] == name
            {
                return differing(&format!("{path}.{name}"), (Some(was), Some(is)), way, out);
            }
            let change = |before: Option<&Value>, now: Option<&Value>| Change {
                what: path.to_owned(),
                before: before.cloned(),
                now: now.cloned(),
                way,
            };
            out.extend(gone.into_iter().map(|one| change(Some(one), None)));
            out.extend(new.into_iter().map(|one| change(None, Some(one))));
        }
        (was, is) => {
            out.push(Change { what: path.to_owned(), before: was.cloned(), now: is.cloned(), way });
        }
    }
}
