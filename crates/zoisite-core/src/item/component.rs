//! Pinned files of components, and the checksums of the folder that they come from.

use std::collections::BTreeMap;
use std::fmt;

use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A pinned file from the components folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Component {
    /// Where it goes.
    pub path: String,
    /// Which one it is.
    pub pinned: Pinned,
    /// The unit that must be restarted when it changes.
    pub restarts: Option<&'static str>,
}

impl Component {
    /// The helper with which a host takes one by a descriptor of its own, beside those of [`Item::ACT`].
    ///
    /// [`Item::ACT`]: super::Item::ACT
    pub(crate) const UPLOAD: &str = r#"
# One large file by descriptor 8, continued where an earlier copy broke off: path, checksum, size, mode, run,
# unit to restart or nothing; and the address and port of a host that gives it instead. The host's lock is held only
# for putting it in its place.
from_host() {
  # Connecting has a deadline of its own.
  # shellcheck disable=SC2016
  timeout -k 2 1800 bash -c '
    (sleep 6; kill $$) >/dev/null 2>&1 &
    exec 3<>"/dev/tcp/$0/$1" || exit 1
    kill $!
    printf "%s %s\n" "$2" "$3" >&3
    exec cat <&3' "$@"
}
upload() {
  begin "component $1"
  part="$1.zoisite-$2"
  if [ ! -d "${1%/*}" ]; then
    lock "$5"
    make_folder "${1%/*}"
    unlock
  fi
  # What an earlier copy left is copied in turn: that one may still be at work on its own.
  have=0 best=/dev/null
  for old in "$part".*; do
    if [ ! -f "$old" ] || [ -L "$old" ]; then continue; fi
    size=$(stat -c %s "$old")
    if [ "$size" -gt "$have" ] && [ "$size" -le "$3" ]; then have=$size best=$old; fi
  done
  new="$part.$$"
  out=$(new_file "$new" 2>&1 <"$best") || { rm -f "$new"; fail "writing $1" "$out"; }
  have=$(stat -c %s "$new")
  say have "$have"
  if [ -n "${7:-}" ]; then
    out=$(from_host "$7" "$8" "$2" "$have" 2>&1 >>"$new") || fail "taking $1 from $7" "$(one_line "${out:-no answer}")"
    size=$(stat -c %s "$new")
    if [ "$size" -lt "$3" ]; then fail "taking $1 from $7" "it gave $size of $3 octets"; fi
  else
    out=$(cat 2>&1 >>"$new" <&8) || { rm -f "$new"; fail "writing $1" "$out"; }
    size=$(stat -c %s "$new")
  fi
  # Cut in the midst: what is there stays for the next copy.
  if [ "$size" -lt "$3" ]; then exit 1; fi
  sum=$(sha256sum <"$new" | cut -d ' ' -f 1)
  if [ "$sum" != "$2" ]; then
    rm -f "$part".*
    fail "checking $1" "its checksum is $sum after the copy, not $2"
  fi
  attempt "setting the mode of $1" chmod "$4" "$new"
  attempt "writing $1" sync "$new"
  lock "$5"
  note_path component "$1"
  [ -z "${6:-}" ] || ! systemctl is-active -q "$6" || pending "$6"
  into_place "$new" "$1"
  # Policies know no programs below this folder: without a label of theirs systemd may not start them.
  if [ -r "$root/sys/fs/selinux/enforce" ] && command -v chcon >/dev/null; then
    attempt "labelling $1" chcon -t bin_t "$1"
  fi
  # The next look need not read it all once more.
  printf '%s %s\n' "$2" "$(stat -c '%s %i %Y %n' "$1")" >>"$state/verified"
  rm -f "$part".*
  changed
}
"#;
}

impl Kind for Component {
    const LOOK: &'static str = r#"
# Large files: their checksums are remembered with size, inode and time, unless a deep look is wanted.
components() {
  known=/dev/null
  if [ "$depth" = quick ] && [ -r "$state/verified" ]; then known=$state/verified; fi
  stat -c '%s %i %Y %n' "$@" 2>/dev/null |
    awk 'FILENAME != "-" { sum[substr($0, 66)] = $1; next } { print ($0 in sum) ? sum[$0] : "-", $0 }' "$known" - |
    while read -r sum size inode time path; do
      if [ "$sum" = - ]; then
        sum=$(sha256sum <"$path")
        sum=${sum%% *}
        # shellcheck disable=SC2174
        if mkdir -p -m 0700 "$state" 2>/dev/null; then
          printf '%s %s %s %s %s\n' "$sum" "$size" "$inode" "$time" "$path" >>"$state/verified" 2>/dev/null || :
        fi
      fi
      say component "$path" "$sum"
    done
}
"#;

    // It is put by a copy of its own.
    const ACT: &'static str = r#"
back_component() { back_path "$@"; }
"#;

    const BY_SCRIPT: bool = false;

    fn describe(&self) -> Described {
        Described::new("component", &self.path)
            .with_access("root", 0o755)
            .with_note(format!("from the components folder: {}", self.pinned))
    }

    fn look(&self, look: &mut Look) {
        look.batch("components", &self.path);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["component", path, sum] = fields
            && *sum != "-"
        {
            found.components.insert((*path).into(), (*sum).into());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let wanted = seen.sums.sha256(&self.pinned, seen.arch);
        match seen.found.components.get(&self.path) {
            None => vec![Differs::Missing],
            // Where no checksums are known, nothing can be said of what is there.
            Some(found) if wanted.is_some_and(|wanted| wanted != found) => vec![Differs::Content],
            Some(_) => Vec::new(),
        }
    }

    fn put(&self, _: &mut Act<'_>) -> Result<(), String> {
        Ok(())
    }

    fn hold(&self, found: &mut Found, sha256: &str) {
        found.components.insert(self.path.clone(), sha256.to_owned());
    }

    fn restarts(&self) -> Option<&'static str> {
        self.restarts
    }
}

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
    /// The name under which images stand, each at what the cluster file says of it.
    pub const IMAGES: &str = "images";

    /// Path below the components folder for an architecture (`amd64`, `arm64`).
    pub fn path(&self, arch: &str) -> String {
        format!("{}/{}/linux-{arch}/{}", self.name, self.version, self.file)
    }

    /// The same for hosts that run Windows: the platform has it for one architecture.
    pub fn path_on_windows(&self) -> String {
        format!("{}/{}/windows-amd64/{}", self.name, self.version, self.file)
    }
}

impl fmt::Display for Pinned {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.name {
            Self::IMAGES => write!(f, "image {}", self.version),
            _ => write!(f, "{} {}", self.file, self.version),
        }
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
    /// What images are called inside the cluster, by what the cluster file says of them.
    pub names: BTreeMap<String, String>,
}

impl Default for ComponentSums {
    fn default() -> Self {
        Self { sums: BTreeMap::new(), known: true, names: BTreeMap::new() }
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
        Ok(Self { sums, ..Self::default() })
    }

    /// For looking where there is no components folder: nothing is known of any file.
    pub fn unknown() -> Self {
        Self { known: false, ..Self::default() }
    }

    /// Whether there is a components folder.
    pub fn are_known(&self) -> bool {
        self.known
    }

    /// Every path with its checksum.
    pub fn all(&self) -> impl Iterator<Item = (&str, &str)> {
        self.sums.iter().map(|(path, sum)| (path.as_str(), sum.as_str()))
    }

    /// The checksum of a pinned file for an architecture, in hexadecimal.
    pub fn sha256(&self, pinned: &Pinned, arch: &str) -> Option<&str> {
        self.sums.get(&pinned.path(arch)).map(String::as_str)
    }

    /// The same for hosts that run Windows.
    pub fn sha256_on_windows(&self, pinned: &Pinned) -> Option<&str> {
        self.sums.get(&pinned.path_on_windows()).map(String::as_str)
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
