//! A person's own kubeconfig: found, locked, and merged into.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::failure::{Failure, Kind};
use crate::site::{Private, now, write_private};

/// A value as YAML.
pub fn yaml(value: &Value) -> Result<String, Failure> {
    serde_saphyr::to_string(value).map_err(|error| {
        Failure::new(Kind::Run, format!("writing YAML: {error}"), "report this, please")
    })
}

/// The person's own kubeconfig, as the platform's clients find it.
pub fn own_kubeconfig() -> Result<PathBuf, Failure> {
    let first = std::env::var_os("KUBECONFIG")
        .and_then(|paths| std::env::split_paths(&paths).find(|p| !p.as_os_str().is_empty()));
    let home = std::env::var_os("HOME").map(|home| Path::new(&home).join(".kube/config"));
    first.or(home).ok_or_else(|| {
        Failure::new(Kind::Usage, "neither KUBECONFIG nor HOME is set", "name a file with --out")
    })
}

/// A kubeconfig that something is merged into: read, locked and proven writable before that is made.
pub struct Merge {
    /// The file itself, behind any link.
    pub path: PathBuf,
    old: Option<String>,
    whole: Value,
    file: Private,
    _lock: MergeLock,
}

/// The lock that the platform's own clients take while they write a kubeconfig: a file beside it.
struct MergeLock(PathBuf);

impl MergeLock {
    fn take(path: &Path) -> Result<Self, Failure> {
        let mut name = path.as_os_str().to_owned();
        name.push(".lock");
        let lock = PathBuf::from(name);
        let end = Instant::now() + Duration::from_secs(15);
        loop {
            match std::fs::OpenOptions::new().write(true).create_new(true).open(&lock) {
                Ok(_) => return Ok(Self(lock)),
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
                    if Instant::now() >= end {
                        return Err(Failure::new(
                            Kind::Usage,
                            format!(
                                "another program writes {}: {} is there",
                                path.display(),
                                lock.display()
                            ),
                            format!("when none does, remove {}", lock.display()),
                        ));
                    }
                    std::thread::sleep(Duration::from_millis(100));
                }
                Err(error) => return Err(Failure::file("locking", &lock, &error)),
            }
        }
    }
}

impl Drop for MergeLock {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

impl Merge {
    pub fn begin(path: &Path) -> Result<Self, Failure> {
        let failed = |doing: &str, error: &std::io::Error| Failure::file(doing, path, error);
        if let Some(parent) = path.parent().filter(|parent| !parent.as_os_str().is_empty()) {
            std::fs::create_dir_all(parent)
                .map_err(|error| failed("making the folder of", &error))?;
        }
        // A link stays one: what it leads to is replaced.
        let path = std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        let lock = MergeLock::take(&path)?;
        let old = match std::fs::read_to_string(&path) {
            Ok(text) => Some(text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
            Err(error) => return Err(failed("reading", &error)),
        };
        let whole: Value = match old.as_deref().map(str::trim) {
            None | Some("") => json!({"apiVersion": "v1", "kind": "Config"}),
            Some(text) => serde_saphyr::from_str(text)
                .ok()
                .filter(|whole: &Value| whole.is_object())
                .ok_or_else(|| {
                    Failure::new(
                        Kind::Usage,
                        format!("{} is not a kubeconfig", path.display()),
                        "it was left as it is; write the new one elsewhere with --out FILE",
                    )
                })?,
        };
        let file = Private::begin(&path)?;
        Ok(Self { path, old, whole, file, _lock: lock })
    }

    /// Puts cluster, user and context in and leaves all else; keeps a copy of what was there.
    pub fn end(mut self, config: &Value) -> Result<Option<PathBuf>, Failure> {
        let whole = &mut self.whole;
        for list in ["clusters", "users", "contexts"] {
            let new = config[list][0].clone();
            if !whole[list].is_array() {
                whole[list] = json!([]);
            }
            if let Some(entries) = whole[list].as_array_mut() {
                match entries.iter_mut().find(|entry| entry["name"] == new["name"]) {
                    Some(entry) => *entry = new,
                    None => entries.push(new),
                }
            }
        }
        if whole["current-context"].as_str().unwrap_or_default().is_empty() {
            whole["current-context"] = config["current-context"].clone();
        }
        let kept = match &self.old {
            None => None,
            Some(text) => {
                let stamp = now().strftime("%Y%m%d-%H%M%S%.6f").to_string();
                let mut name = self.path.as_os_str().to_owned();
                name.push(format!(".before-{stamp}"));
                let kept = PathBuf::from(name);
                write_private(&kept, text)?;
                Some(kept)
            }
        };
        self.file.end(&yaml(&self.whole)?)?;
        Ok(kept)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn merge_into(path: &Path, config: &Value) -> Result<Option<PathBuf>, Failure> {
        Merge::begin(path)?.end(config)
    }

    fn new(user: &str, server: &str) -> Value {
        json!({
            "clusters": [{"name": "saltmarsh", "cluster": {"server": server}}],
            "users": [{"name": user, "user": {}}],
            "contexts": [{"name": user, "context": {}}],
            "current-context": user,
        })
    }

    fn read(path: &Path) -> Value {
        serde_saphyr::from_str(&std::fs::read_to_string(path).unwrap()).unwrap()
    }

    #[test]
    fn merging_leaves_all_else_and_keeps_a_copy() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("config");
        let mine = "apiVersion: v1\nkind: Config\nclusters:\n- name: mudflat\n  cluster:\n    server: https://mudflat.example\nusers: []\ncontexts: []\ncurrent-context: mudflat\n";
        std::fs::write(&path, mine).unwrap();
        for server in ["https://a", "https://b"] {
            let kept = merge_into(&path, &new("ada@saltmarsh", server)).unwrap();
            assert!(kept.unwrap().exists());
        }
        let whole = read(&path);
        assert_eq!(whole["current-context"], "mudflat", "which one is current is theirs to say");
        assert_eq!(whole["clusters"].as_array().unwrap().len(), 2, "the same name is replaced");
        assert_eq!(whole["clusters"][1]["cluster"]["server"], "https://b");
        std::fs::write(&path, "- no\n- config\n").unwrap();
        assert!(merge_into(&path, &new("ada@saltmarsh", "https://a")).is_err());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "- no\n- config\n");
        assert!(!dir.path().join("config.lock").exists());
    }

    #[test]
    fn a_kubeconfig_that_is_a_link_stays_one() {
        let dir = tempfile::tempdir().unwrap();
        let (real, link) = (dir.path().join("dotfiles-config"), dir.path().join("config"));
        std::fs::write(&real, "kind: Config\n").unwrap();
        std::os::unix::fs::symlink(&real, &link).unwrap();
        merge_into(&link, &new("ada@saltmarsh", "https://a")).unwrap();
        assert_eq!(std::fs::read_link(&link).unwrap(), real);
        assert_eq!(read(&real)["users"][0]["name"], "ada@saltmarsh");
    }

    #[test]
    fn two_merges_at_once_lose_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("config");
        std::thread::scope(|scope| {
            for n in 0..8 {
                let path = &path;
                scope.spawn(move || merge_into(path, &new(&format!("p{n}"), "https://a")).unwrap());
            }
        });
        assert_eq!(read(&path)["users"].as_array().unwrap().len(), 8);
    }
}
