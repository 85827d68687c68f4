use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// Marks the routes that are Zoisite's own (ip-route(8), `proto`): a number that no daemon uses, by the list of iproute2 (`rt_protos`).
pub(crate) const ROUTE_PROTOCOL: u8 = 90;

/// Routes that the kernel has as long as it runs, from a file with a line for each (ip(8), `-batch`). A unit sets them at
/// boot; a network manager that removes what it does not know takes them away later.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Routes {
    /// Absolute path of the file.
    pub path: String,
}

/// What both scripts ask: `lacking`.
macro_rules! lacking {
    () => {
        r#"
# Routes of a file that the kernel does not have; its lines are `route replace NET via GATEWAY …`.
lacking() {
  { ip -4 route show proto 90; ip -6 route show proto 90; } 2>/dev/null |
    awk 'FILENAME == "-" { for (i = 2; i < NF; i++) if ($i == "via") have[$1 " " $(i + 1)]; next }
      $1 == "route" && !(($3 " " $5) in have) { print $3, $4, $5 }' - "$1"
}
"#
    };
}

impl Kind for Routes {
    const LOOK: &'static str = concat!(
        lacking!(),
        r#"
routes() {
  for batch in "$@"; do
    [ -r "$batch" ] || continue
    lacking "$batch" | while read -r route; do say route "$batch" "$route"; done
  done
}
"#
    );

    const ACT: &'static str = concat!(
        lacking!(),
        r#"
# path: one that cannot be set keeps no other from being set
routes() {
  begin "routes $1"
  if [ -z "$(lacking "$1")" ]; then same; return; fi
  note routes "$1" absent
  out=$(ip -force -batch "$1" 2>&1) || fail "setting the routes of $1" "$out"
  changed
}
back_routes() {
  ip -4 route flush proto 90 2>/dev/null
  ip -6 route flush proto 90 2>/dev/null
  changed
}
"#
    );

    // What cannot be set is reported by a step of its own, and holds nothing else up.
    const BY_SCRIPT: bool = false;

    fn describe(&self) -> Described {
        Described::new("routes", &self.path).with_note("each of its lines is set in the kernel")
    }

    fn look(&self, look: &mut Look) {
        look.batch("routes", &self.path);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["route", path, route] = fields {
            found.routes.entry((*path).into()).or_default().push((*route).into());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.routes.get(&self.path).map_or(&[][..], Vec::as_slice) {
            [] => Vec::new(),
            [one] => vec![Differs::NotSet(one.clone())],
            [one, more @ ..] => vec![Differs::NotSet(format!("{one} and {} more", more.len()))],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("routes", &[&self.path]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.routes.remove(&self.path);
    }
}
