use super::{Act, Described, Differs, Found, Kind, Look, Seen};
use crate::cluster::HostName;

/// What a host calls itself, now and after the next boot (hostname(5)); with its domain it is the same name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnName {
    /// The name.
    pub name: HostName,
}

impl Kind for OwnName {
    const LOOK: &'static str = r#"
own_name() {
  first_line "$root/etc/hostname"
  kept=$line
  first_line "$root/proc/sys/kernel/hostname"
  say own-name "$kept" "$line"
}
"#;

    const ACT: &'static str = r#"
# name
own_name() {
  begin "own name $1"
  kept=$(cat "$root/etc/hostname" 2>/dev/null)
  runs=$(cat "$root/proc/sys/kernel/hostname" 2>/dev/null)
  case $kept in
    "$1" | "$1".*) if [ "$runs" = "$kept" ]; then same; return; fi ;;
  esac
  note own_name "$1" "${kept:--}" "${runs:--}"
  set_own_name "$1" "$1"
}
# as it is kept, as it runs
set_own_name() {
  if [ "$1" != - ]; then
    printf '%s\n' "$1" | new_file "$root/etc/hostname.zoisite-new" || fail "naming the host" "/etc/hostname cannot be written"
    attempt "naming the host" chmod 0644 "$root/etc/hostname.zoisite-new"
    into_place "$root/etc/hostname.zoisite-new" "$root/etc/hostname"
  else
    attempt "naming the host" rm -f "$root/etc/hostname"
  fi
  attempt "naming the host $2" hostname "$2"
  changed
}
# our name, then the old one as it was kept, and as it ran
back_own_name() { set_own_name "$2" "$3"; }
"#;

    fn describe(&self) -> Described {
        Described::new("own name", self.name.to_string())
    }

    fn look(&self, look: &mut Look) {
        look.line("own_name", &[]);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["own-name", kept, runs] = fields {
            let both = if kept == runs { (*kept).into() } else { format!("{kept}, {runs}") };
            found.own_name.insert(String::new(), both);
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.own_name.get("") {
            Some(found) if is_called(found, &self.name) => Vec::new(),
            Some(found) => vec![Differs::Value(format!("'{found}'"))],
            None => vec![Differs::Missing],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("own_name", &[self.name.as_str()]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.own_name.insert(String::new(), self.name.to_string());
    }
}

/// Whether it is the name, perhaps with a domain.
pub(crate) fn is_called(found: &str, name: &HostName) -> bool {
    let rest = found.strip_prefix(name.as_str());
    rest.is_some_and(|rest| rest.is_empty() || (rest.starts_with('.') && !rest.contains(',')))
}
