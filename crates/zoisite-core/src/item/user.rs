use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A system user without a shell or a password.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// Its name, and its group's.
    pub name: &'static str,
    /// Its home directory.
    pub home: String,
}

impl Kind for User {
    const LOOK: &'static str = r#"
user() { if id "$1" >/dev/null 2>&1; then say user "$1" yes; else say user "$1" no; fi; }
"#;

    const ACT: &'static str = r#"
# name, home
user() {
  begin "user $1"
  if id "$1" >/dev/null 2>&1; then same; return; fi
  note user "$1" absent
  attempt "adding user $1" useradd --system --user-group --no-create-home --home-dir "$2" \
    --shell /usr/sbin/nologin "$1"
  changed
}
back_user() {
  if ! id "$1" >/dev/null 2>&1; then same; return; fi
  attempt "removing user $1" userdel "$1"
  changed
}
"#;

    fn describe(&self) -> Described {
        let note = format!("system user without a shell, home {}", self.home);
        Described::new("user", self.name).with_note(note)
    }

    fn look(&self, look: &mut Look) {
        look.line("user", &[self.name]);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["user", name, there] = fields {
            found.users.insert((*name).into(), *there == "yes");
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let there = seen.found.users.get(self.name).copied().unwrap_or(false);
        if there { Vec::new() } else { vec![Differs::Missing] }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("user", &[self.name, &self.home]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.users.insert(self.name.into(), true);
    }
}
