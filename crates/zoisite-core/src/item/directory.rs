use serde::{Deserialize, Serialize};

use super::{Act, Described, Differs, Found, Kind, Look, Seen, access};

/// A directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Directory {
    /// Absolute path.
    pub path: String,
    /// Owning user and group.
    pub owner: &'static str,
    /// Permission bits.
    pub mode: u32,
}

/// A directory as found; one that is absent is not found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct DirectoryFacts {
    /// Owning user.
    pub owner: String,
    /// Permission bits, in octal digits.
    pub mode: String,
}

impl Kind for Directory {
    // A link of root's own leads to where a site wants its data: what it leads to is looked at.
    const LOOK: &'static str = r#"
directories() {
  paths "$@"
  for path in "$@"; do
    if [ -L "$path" ] && own_link "$path"; then follow "$path"; fi
  done
}
follow() { stat -L -c "@${tab}at${tab}%n${tab}%F${tab}%U${tab}%a" "$1" 2>/dev/null; }
"#;

    const ACT: &'static str = r#"
# A folder, and those above it that are not there: each is noted, and all may pass through it.
make_folder() {
  if [ -z "$1" ] || [ -d "$1" ]; then return; fi
  make_folder "${1%/*}"
  note directory "$1" absent
  attempt "making $1" mkdir -m 0755 "$1"
  label "$1"
}
# path, owner, mode
directory() {
  begin "directory $1"
  own_link "$1" || fail "making $1" "a foreign link is there"
  was=$(stat -L -c '%U %a %G' "$1" 2>/dev/null)
  if [ -d "$1" ] && [ "${was% *}" = "$2 $3" ]; then same; return; fi
  if [ -d "$1" ]; then
    # shellcheck disable=SC2086 # three words
    note directory "$1" $was
  else
    make_folder "$1"
  fi
  attempt "giving $1 to $2" chown "$2:$2" "$1/."
  # With two more digits the set-group-id bit of the folder above is not kept.
  attempt "setting the mode of $1" chmod "00$3" "$1/."
  changed
}
# path, then 'absent', or owner, mode and group
back_directory() {
  if [ "$2" != absent ]; then
    if [ ! -d "$1" ]; then same; return; fi
    attempt "giving $1 back" chown "$2:$4" "$1/."
    attempt "setting the mode of $1" chmod "00$3" "$1/."
    changed
  elif [ ! -d "$1" ]; then
    same
  elif rmdir "$1" 2>/dev/null; then
    changed
  else
    # What others keep in it is theirs, and data is never deleted by taking back.
    say left "$1"
  fi
}
"#;

    fn describe(&self) -> Described {
        Described::new("directory", &self.path).with_access(self.owner, self.mode)
    }

    fn look(&self, look: &mut Look) {
        look.batch("directories", &self.path);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["at", path, "directory", owner, mode] = fields {
            let facts = DirectoryFacts { owner: (*owner).into(), mode: (*mode).into() };
            found.directories.insert((*path).into(), facts);
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.directories.get(&self.path) {
            None => vec![Differs::Missing],
            Some(found) => {
                access(&found.owner, &found.mode, self.owner, self.mode).into_iter().collect()
            }
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("directory", &[&self.path, self.owner, &format!("{:o}", self.mode)]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        let (owner, mode) = (self.owner.into(), format!("{:o}", self.mode));
        found.directories.insert(self.path.clone(), DirectoryFacts { owner, mode });
    }
}
