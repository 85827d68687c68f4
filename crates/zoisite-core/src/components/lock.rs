//! The lock file: what every published file and image is, by SHA-256.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::{ImageNames, Needed};

/// Name of the lock file, which stands beside the cluster file.
pub const LOCK_FILE: &str = "components.lock";

/// What is pinned.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lock {
    /// SHA-256 of published files, by the address that their project publishes them at.
    pub published: BTreeMap<String, String>,
    /// Digests of images (OCI image specification, "Digests"), by their names.
    pub images: BTreeMap<String, String>,
    /// What images are called inside the cluster, by what the cluster file says of them.
    pub names: ImageNames,
    /// SHA-256 of the files in the components folder, by their places in it.
    pub files: BTreeMap<String, String>,
}

/// A lock file that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{LOCK_FILE} {0}")]
pub struct LockError(String);

const HEAD: &str = "\
# What zoisite components fetch pinned, by SHA-256. Commit it: what differs from it stops a run before a host
# is touched. Lines come and go with the versions in the cluster file; change none by hand.
";

impl Lock {
    /// Reads its text.
    ///
    /// # Errors
    /// When it is not what [`Lock::text`] writes.
    pub fn read(text: &str) -> Result<Self, LockError> {
        let table: toml::Table = toml::from_str(text).map_err(|error: toml::de::Error| {
            let line = error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1);
            LockError(format!("cannot be read, at line {line}: {}", error.message()))
        })?;
        let mut lock = Self::default();
        for (name, value) in &table {
            let part = match name.as_str() {
                "published" => &mut lock.published,
                "images" => &mut lock.images,
                "names" => &mut lock.names,
                "files" => &mut lock.files,
                other => return Err(LockError(format!("has a table [{other}] that is not known"))),
            };
            let entries = value.as_table();
            let entries =
                entries.ok_or_else(|| LockError(format!("has '{name}' that is no table")))?;
            for (key, value) in entries {
                let wrong =
                    || LockError(format!("says of \"{key}\" in [{name}] what it cannot be"));
                let value = value.as_str().ok_or_else(wrong)?;
                let sum = value.strip_prefix("sha256:").unwrap_or(value);
                let is_sum = sum.len() == 64 && sum.bytes().all(|b| b.is_ascii_hexdigit());
                if name != "names" && !is_sum {
                    return Err(wrong());
                }
                part.insert(key.clone(), value.to_owned());
            }
        }
        Ok(lock)
    }

    /// Forgets what belongs to nothing that may be needed: versions and images of earlier cluster files.
    pub fn retain(&mut self, pinnable: &Needed) {
        let addresses: BTreeSet<&str> =
            pinnable.published.iter().map(|one| one.address.as_str()).collect();
        let places: BTreeSet<&str> = pinnable.places().collect();
        let sources: BTreeSet<String> =
            pinnable.images.iter().map(|image| image.source.to_string()).collect();
        self.published.retain(|address, _| addresses.contains(address.as_str()));
        self.files.retain(|place, _| places.contains(place.as_str()));
        self.images.retain(|source, _| sources.contains(source));
        self.names.retain(|source, _| sources.contains(source));
    }

    /// Forgets what is pinned of one published address or image, and of the files that came from it. Returns whether
    /// anything was.
    pub fn forget(&mut self, what: &str, pinnable: &Needed) -> bool {
        let files = pinnable.published.iter().filter(|one| one.address == what);
        let mut places: Vec<&str> =
            files.flat_map(|one| &one.gives).map(|(_, place)| place.as_str()).collect();
        let images = pinnable.images.iter().filter(|image| image.source.to_string() == what);
        places.extend(images.map(|image| image.place.as_str()));
        let before = self.clone();
        self.published.remove(what);
        self.images.remove(what);
        self.names.remove(what);
        self.files.retain(|place, _| !places.contains(&place.as_str()));
        *self != before
    }

    /// Its text, sorted.
    pub fn text(&self) -> String {
        let mut out = String::from(HEAD);
        let tables = [
            ("published", &self.published),
            ("images", &self.images),
            ("names", &self.names),
            ("files", &self.files),
        ];
        for (name, entries) in tables.into_iter().filter(|(_, entries)| !entries.is_empty()) {
            let _ = write!(out, "\n[{name}]\n");
            for (key, value) in entries {
                let _ = writeln!(out, "{} = {}", quoted(key), quoted(value));
            }
        }
        out
    }
}

fn quoted(text: &str) -> String {
    // What JSON escapes and how is the same in TOML's basic strings.
    serde_json::Value::from(text).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_reads_what_it_writes_and_refuses_anything_else() {
        let sum = "ab".repeat(32);
        let entry = |key: &str, value: &str| BTreeMap::from([(key.to_owned(), value.to_owned())]);
        let lock = Lock {
            published: entry("https://a.example/x", &sum),
            images: entry("a.example/\"b\":1", &format!("sha256:{sum}")),
            names: entry("images/a.tar", "a.example/b:1"),
            files: entry("etcd/3.6.16/linux-amd64/etcd", &sum),
        };
        assert_eq!(Lock::read(&lock.text()), Ok(lock.clone()));
        let (mut older, nothing) = (lock, Needed::default());
        assert!(older.forget("a.example/\"b\":1", &nothing) && older.images.is_empty());
        assert!(!older.forget("a.example/c:1", &nothing));
        older.retain(&nothing);
        assert_eq!(older, Lock::default());
        for wrong in
            ["[files]\n\"x\" = \"1\"", "files = 1", "[other]\na = \"b\"", "[files]\nx = 1", "["]
        {
            assert!(Lock::read(wrong).unwrap_err().to_string().starts_with(LOCK_FILE), "{wrong}");
        }
    }
}
