use std::collections::BTreeMap;
use std::fmt;

/// A file of a component at one version.
///
/// In the components folder it stands at `NAME/VERSION/linux-ARCH/FILE`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Pinned {
    /// The component, such as `etcd`.
    pub name: &'static str,
    /// Its version, without a leading `v`.
    pub version: String,
    /// The file, such as `etcdctl`.
    pub file: &'static str,
}

impl Pinned {
    /// Path below the components folder for an architecture (`amd64`, `arm64`).
    pub fn path(&self, arch: &str) -> String {
        format!("{}/{}/linux-{arch}/{}", self.name, self.version, self.file)
    }
}

impl fmt::Display for Pinned {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.file, self.version)
    }
}

/// A line of SHA256SUMS that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line} of SHA256SUMS is not 'HASH  PATH': {text}")]
pub struct ComponentsError {
    /// Line number, from 1.
    pub line: usize,
    /// What stands there.
    pub text: String,
}

/// The checksums of a components folder, as `sha256sum` writes them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ComponentSums {
    sums: BTreeMap<String, String>,
    known: bool,
}

impl Default for ComponentSums {
    fn default() -> Self {
        Self { sums: BTreeMap::new(), known: true }
    }
}

impl ComponentSums {
    /// Reads the text of SHA256SUMS.
    ///
    /// # Errors
    /// At the first line that is neither empty nor a checksum with a path.
    pub fn read(text: &str) -> Result<Self, ComponentsError> {
        let mut sums = BTreeMap::new();
        for (i, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
            let parts = line.split_once(' ').map(|(hash, path)| {
                (hash, path.trim_start_matches([' ', '*']).trim_start_matches("./"))
            });
            match parts {
                Some((hash, path))
                    if hash.len() == 64
                        && hash.bytes().all(|b| b.is_ascii_hexdigit())
                        && !path.is_empty() =>
                {
                    sums.insert(path.to_owned(), hash.to_ascii_lowercase());
                }
                _ => {
                    return Err(ComponentsError {
                        line: i + 1,
                        text: line.chars().take(80).collect(),
                    });
                }
            }
        }
        Ok(Self { sums, known: true })
    }

    /// For looking where there is no components folder: nothing is known of any file.
    pub fn unknown() -> Self {
        Self { sums: BTreeMap::new(), known: false }
    }

    /// Whether there is a components folder.
    pub fn are_known(&self) -> bool {
        self.known
    }

    /// The checksum of a pinned file for an architecture, in hexadecimal.
    pub fn sha256(&self, pinned: &Pinned, arch: &str) -> Option<&str> {
        self.sums.get(&pinned.path(arch)).map(String::as_str)
    }

    /// Adds a checksum; for rehearsals and tests.
    pub fn insert(&mut self, path: String, sha256: String) {
        self.sums.insert(path, sha256);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_what_sha256sum_writes() {
        let hash = "ab".repeat(32);
        let text = format!("{hash}  etcd/3.6.16/linux-amd64/etcd\n{hash} *./etcd/x\n\n");
        let sums = ComponentSums::read(&text).unwrap();
        let pinned = Pinned { name: "etcd", version: "3.6.16".into(), file: "etcd" };
        assert_eq!(sums.sha256(&pinned, "amd64"), Some(hash.as_str()));
        assert_eq!(sums.sha256(&pinned, "arm64"), None);
    }

    #[test]
    fn a_broken_line_is_named() {
        let error = ComponentSums::read("\nnot a sum\n").unwrap_err();
        assert_eq!((error.line, error.text.as_str()), (2, "not a sum"));
        assert!(ComponentSums::read(&"ab".repeat(32)).is_err());
    }
}
