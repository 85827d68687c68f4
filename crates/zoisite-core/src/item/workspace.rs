use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A folder that a program of the cluster fills with what is of no use without it (containers, their logs, what the
/// kubelet keeps), or a file that it writes. Where it was not there before, taking back removes it with all that is in it; what is mounted in it
/// is never touched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Workspace {
    /// Absolute path.
    pub path: &'static str,
}

impl Kind for Workspace {
    const LOOK: &'static str = r#"
# That it was noted is all there is to it: the program makes it.
workspaces() {
  for path in "$@"; do
    case $noted in *"workspace$tab$path$tab"*) say workspace "$path" ;; esac
  done
}
noted=
if [ -r "$state/notes" ]; then noted=$(grep "^workspace$tab" "$state/notes"); fi
"#;

    const ACT: &'static str = r#"
# path
workspace() {
  begin "workspace $1"
  if is_noted workspace "$1"; then same; return; fi
  if [ ! -e "$1" ]; then
    note workspace "$1" absent
  elif [ ! -d "$1" ]; then
    note workspace "$1" there
  elif [ -z "$(ls -A "$1")" ]; then
    note workspace "$1" empty
  else
    note workspace "$1" there
  fi
  changed
}
# path, what it was
back_workspace() {
  if [ "$2" = there ] || [ ! -e "$1" ]; then same; return; fi
  if [ ! -d "$1" ]; then
    attempt "removing $1" rm -f "$1"
    changed
    return
  fi
  inside=$(awk -v path="$1/" 'index($2, path) == 1 { print $2 }' "$root/proc/mounts" 2>/dev/null | head -n 1)
  if [ -n "$inside" ]; then
    say left "$1"
    return
  fi
  out=$(find "$1" -xdev -mindepth 1 -delete 2>&1) || fail "emptying $1" "$out"
  # A file system of its own that is mounted there stays.
  if [ "$2" = absent ]; then rmdir "$1" 2>/dev/null; fi
  changed
}
"#;

    fn describe(&self) -> Described {
        Described::new("workspace", self.path)
            .with_note("filled by what runs; deleted by uninstall")
    }

    fn look(&self, look: &mut Look) {
        look.batch("workspaces", self.path);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["workspace", path] = fields {
            found.workspaces.insert((*path).into(), ());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.workspaces.contains_key(self.path) {
            true => Vec::new(),
            false => vec![Differs::NotNoted],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("workspace", &[self.path]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.workspaces.insert(self.path.into(), ());
    }
}
