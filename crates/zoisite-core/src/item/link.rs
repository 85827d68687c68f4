use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A symbolic link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// Where it stands.
    pub path: String,
    /// Where it leads.
    pub to: String,
}

impl Kind for Link {
    const LOOK: &'static str = r#"
links() { for path in "$@"; do if [ -L "$path" ]; then say link "$path" "$(readlink "$path")"; fi; done; }
"#;

    const ACT: &'static str = r#"
# path, where it leads
link() {
  begin "link $1"
  if [ -L "$1" ] && [ "$(readlink "$1")" = "$2" ]; then same; return; fi
  note_path link "$1"
  rm -f "$1.zoisite-new"
  attempt "making the link $1" ln -s "$2" "$1.zoisite-new"
  into_place "$1.zoisite-new" "$1"
  changed
}
back_link() { back_path "$@"; }
"#;

    fn describe(&self) -> Described {
        Described::new("link", &self.path).with_note(format!("leads to {}", self.to))
    }

    fn look(&self, look: &mut Look) {
        look.batch("links", &self.path);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["link", path, to] = fields {
            found.links.insert((*path).into(), (*to).into());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.links.get(&self.path) {
            None => vec![Differs::Missing],
            Some(to) if *to == self.to => Vec::new(),
            Some(to) => vec![Differs::Value(format!("a link to {to}"))],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("link", &[&self.path, &self.to]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.links.insert(self.path.clone(), self.to.clone());
    }
}
