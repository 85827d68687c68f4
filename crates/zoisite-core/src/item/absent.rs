use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A file that must not be there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Absent {
    /// Absolute path.
    pub path: String,
}

impl Kind for Absent {
    const LOOK: &'static str = r#"
leftovers() {
  for path in "$@"; do
    if [ -e "$path" ] || [ -L "$path" ]; then say leftover "$path"; fi
  done
}
"#;

    const ACT: &'static str = r#"
absent() {
  begin "absent $1"
  if [ ! -e "$1" ] && [ ! -L "$1" ]; then same; return; fi
  # What Zoisite itself put there is no loss, and may be a key: no copy of it is kept.
  is_noted file "$1" || note_path absent "$1"
  attempt "removing $1" rm -f "$1"
  changed
}
back_absent() { back_path "$@"; }
"#;

    fn describe(&self) -> Described {
        Described::new("absent", &self.path).with_note("must not be there")
    }

    fn look(&self, look: &mut Look) {
        look.batch("leftovers", &self.path);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["leftover", path] = fields {
            found.leftovers.insert((*path).into(), ());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let there = seen.found.leftovers.contains_key(&self.path);
        if there { vec![Differs::StillThere] } else { Vec::new() }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("absent", &[&self.path]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.leftovers.remove(&self.path);
        found.files.remove(&self.path);
    }
}
