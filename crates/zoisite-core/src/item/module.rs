use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A module of the running kernel (modprobe(8)). What loads it at the next boot stands in a file beside it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Module {
    /// Its name, as `/sys/module` has it.
    pub name: &'static str,
}

impl Kind for Module {
    // One that the kernel has built in, or that nobody can load, is no difference: the survey tells of the latter.
    const LOOK: &'static str = r#"
modules() {
  if [ -s "$root/run/systemd/container" ]; then return; fi
  for module in "$@"; do
    if [ -d "$root/sys/module/$module" ]; then continue; fi
    case $(modprobe --show-depends "$module" 2>/dev/null | tail -n 1) in
      insmod*) say module-item "$module" ;;
    esac
  done
}
"#;

    const ACT: &'static str = r#"
module() {
  begin "module $1"
  if [ -d "$root/sys/module/$1" ]; then same; return; fi
  note module "$1" absent
  attempt "loading the module $1" modprobe "$1"
  changed
}
# What came to use it since keeps it.
back_module() {
  if [ ! -d "$root/sys/module/$1" ]; then same; return; fi
  modprobe -r "$1" 2>/dev/null || say left "module $1"
  changed
}
"#;

    fn describe(&self) -> Described {
        Described::new("module", self.name).with_note("loaded now and at boot")
    }

    fn look(&self, look: &mut Look) {
        look.batch("modules", self.name);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["module-item", name] = fields {
            found.modules.insert((*name).into(), ());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.modules.contains_key(self.name) {
            true => vec![Differs::NotLoaded],
            false => Vec::new(),
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("module", &[self.name]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.modules.remove(self.name);
    }
}
