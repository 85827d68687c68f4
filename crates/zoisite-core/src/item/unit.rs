use serde::{Deserialize, Serialize};

use super::{Act, Described, Differs, Found, Kind, Look, Seen};
use crate::cluster::Version;

/// A unit that is enabled and runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unit {
    /// Name with its ending.
    pub name: &'static str,
    /// The port at which it listens once it is well, where systemd cannot know: it calls such a unit active from
    /// the moment it starts.
    pub port: Option<u16>,
}

/// A unit as found (systemctl(1), properties of the same names).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnitFacts {
    /// `loaded`, `not-found`…
    pub load: String,
    /// `active`, `inactive`, `failed`, `activating`…
    pub active: String,
    /// The finer state.
    pub sub: String,
    /// Whether it starts at boot, or others start it.
    pub enabled: bool,
    /// How often systemd restarted it by itself.
    pub restarts: u32,
    /// A file that it reads only at its start was replaced, and it was not restarted since.
    pub pending: bool,
    /// The program that runs: its path.
    pub runs: Option<String>,
    /// The program that it would start: the path in its unit file.
    pub starts: Option<String>,
}

impl UnitFacts {
    /// The component that runs, or else would be started, and its version: Zoisite's folders of programs name both.
    pub fn program(&self) -> Option<(&str, Version)> {
        [&self.runs, &self.starts].into_iter().flatten().find_map(|path| program(path))
    }

    /// Whether it runs, is on its way up, or starts at the next boot.
    pub fn may_start(&self) -> bool {
        self.enabled || !["", "inactive", "failed"].contains(&self.active.as_str())
    }

    /// Takes a property as systemctl(1) shows it, or what was found beside those.
    fn take(&mut self, key: &str, value: &str) {
        match key {
            "LoadState" => self.load = value.into(),
            "ActiveState" => self.active = value.into(),
            "SubState" => self.sub = value.into(),
            // One without an install section has no say in it.
            "UnitFileState" => {
                let set = ["enabled", "static", "indirect", "alias", "generated"];
                self.enabled = set.contains(&value);
            }
            "NRestarts" => self.restarts = value.parse().unwrap_or(0),
            "NeedDaemonReload" => self.pending |= value == "yes",
            "Pending" => self.pending = true,
            "Runs" if !value.is_empty() => {
                // The kernel says so of a program whose file was replaced.
                let path = value.strip_suffix(" (deleted)").unwrap_or(value);
                self.runs = Some(path.into());
            }
            "Starts" if self.starts.is_none() => self.starts = Some(value.into()),
            _ => {}
        }
    }
}

/// The component and version of a program of Zoisite's, as the folder in its path names them.
pub fn program(path: &str) -> Option<(&str, Version)> {
    let folder = path.strip_prefix("/usr/local/lib/zoisite/")?.split('/').next()?;
    let (component, version) = folder.rsplit_once('-')?;
    Some((component, Version::new(version).ok()?))
}

impl Kind for Unit {
    const LOOK: &'static str = r#"
# systemd answers for all units at once, in order, with an empty line between them.
units() {
  for unit in "$@"; do
    if [ -e "$state/pending/$unit" ]; then say unit "$unit" Pending yes; fi
  done
  shown=$(systemctl show "$@" -p LoadState -p ActiveState -p SubState -p UnitFileState \
    -p NeedDaemonReload -p NRestarts -p Result -p MainPID -p ExecStart 2>/dev/null)
  while IFS='=' read -r key value; do
    if [ -z "$key" ]; then
      shift
      continue
    fi
    case $key in
      # The very program that runs, and the one that would be started: `{ path=/… ; argv[]=… }`.
      MainPID)
        if [ "$value" != 0 ]; then
          program=$(readlink "/proc/$value/exe")
          say unit "$1" Runs "$program"
          running="$running $1=$program "
        fi
        ;;
      ExecStart) value=${value#*path=} && say unit "$1" Starts "${value%% ;*}" ;;
      *) say unit "$1" "$key" "$value" ;;
    esac
    if [ "$key=$value" = ActiveState=active ]; then active="$active $1 "; fi
  done <<SHOWN
$shown
SHOWN
}
"#;

    const ACT: &'static str = r#"
# What it was before: whether it started at boot, and ran.
note_unit() {
  if is_noted unit "$1"; then return; fi
  boot=$(systemctl is-enabled "$1" 2>/dev/null)
  was=$(systemctl is-active "$1" 2>/dev/null)
  note unit "$1" "${boot:-none}" "${was:-none}"
}
start_at_boot() {
  begin "enable $1"
  # One that has no say in it is started by others.
  case $(systemctl is-enabled "$1" 2>/dev/null) in
    enabled | static | indirect | alias | generated)
      attempt "reloading systemd" systemctl daemon-reload
      same
      return
      ;;
  esac
  note_unit "$1"
  # By itself it would have systemd read all units once more, which costs a small host a second each time.
  attempt "enabling $1" systemctl enable -q --no-reload "$1"
  attempt "reloading systemd" systemctl daemon-reload
  changed
}
start() {
  begin "start $1"
  note_unit "$1"
  case $(property "$1" ActiveState) in
    # One that began by itself since it was looked at goes on, and its mark stays.
    active) if [ -e "$state/pending/$1" ] && flaps "$1"; then begin_again "$1"; else same; fi ;;
    # One that is on its way with older files begins again: the mark would be lost with a start alone.
    activating | reloading | deactivating)
      if [ -e "$state/pending/$1" ]; then begin_again "$1"; else same; fi
      ;;
    *)
      attempt "starting $1" systemctl start --no-block "$1"
      rm -f "$state/pending/$1"
      changed
      ;;
  esac
}
# Whether systemd keeps starting it, and calls it active from the moment it starts: that says nothing then.
flaps() { [ "$(property "$1" Type)" != notify ] && [ "$(property "$1" NRestarts)" != 0 ]; }
restart() {
  begin "restart $1"
  note_unit "$1"
  if reloads "$1"; then
    # It looks at them first: with files that are no good it goes on as it is.
    out=$(systemctl reload "$1" 2>&1) || {
      # What it says itself of its files; the rest is systemd's.
      said=$(journalctl -u "$1" -n 12 -o cat --no-pager 2>/dev/null | grep -v "$1" | tail -n 5)
      fail "having $1 read its files again" "${said:-$out}"
    }
    rm -f "$state/pending/$1"
    changed
    return
  fi
  begin_again "$1"
}
# Whether it runs as its unit file says and has only files to read that it takes by a reload.
reloads() {
  [ "$(cat "$state/pending/$1" 2>/dev/null)" = reload ] && [ "$(property "$1" ActiveState)" = active ] &&
    [ "$(property "$1" CanReload)" = yes ] && [ "$(property "$1" NeedDaemonReload)" = no ]
}
begin_again() {
  attempt "restarting $1" systemctl restart "$1" --no-block
  rm -f "$state/pending/$1"
  changed
}
property() { systemctl show "$1" -p "$2" --value 2>/dev/null; }
# Whether something listens at a port of this host (proc(5), /proc/net/tcp).
listens() {
  cat "$root/proc/net/tcp" "$root/proc/net/tcp6" 2>/dev/null |
    awk -v port="$(printf '%04X' "$1")" \
      '$4 == "0A" && substr($2, length($2) - 3) == port { found = 1 } END { exit !found }'
}
# unit, seconds, a port or nothing: returns the moment the unit is ready, or with evidence when it will not be
settle() {
  begin "wait for $1"
  end=$(($(date +%s) + $2))
  before=$(property "$1" NRestarts)
  tried=0
  while :; do
    # Where systemd is about to try again by itself, it is not hurried: what the unit needs may be on its way.
    if [ "$(property "$1" SubState)" = auto-restart ]; then
      sleep 0.2
    else
      timeout 2 systemctl start "$1" >/dev/null 2>&1
    fi
    case $(property "$1" ActiveState) in
      active)
        if [ -z "${3:-}" ] || listens "$3"; then
          changed
          return
        fi
        ;;
      # systemd does not try it again: it is not started over and over here either.
      failed)
        tried=$((tried + 1))
        if [ "$tried" -ge 3 ]; then evidence "$1" "it failed $tried times"; fi
        sleep 1
        ;;
    esac
    again=$(($(property "$1" NRestarts) - ${before:-0}))
    if [ "$again" -ge 3 ]; then evidence "$1" "it stopped $again times"; fi
    if [ "$(date +%s)" -ge "$end" ]; then evidence "$1" "not ready after $2 seconds"; fi
    say waiting "$step" "$(property "$1" SubState)"
    sleep 0.2
  done
}
evidence() {
  say unit-state "$1" "$(property "$1" ActiveState)" "$(property "$1" SubState)" "$(property "$1" Result)"
  journalctl -u "$1" -n 15 -o cat --no-pager 2>/dev/null | while IFS= read -r line; do
    say log "$(one_line "$line" | tail -c 600)"
  done
  fail "waiting for $1" "$2"
}
# name, what systemd said of its start at boot, and of its state
back_unit() {
  if [ "$(property "$1" LoadState)" = not-found ]; then same; return; fi
  case $3 in active | activating | reloading) attempt "noting that $1 ran" put_text start "$state/resume/$1" root ;; esac
  attempt "stopping $1" systemctl stop "$1"
  case $2 in enabled | static | indirect | alias | generated) ;; *) attempt "disabling $1" systemctl disable -q "$1" ;; esac
  changed
}
"#;

    const BY_SCRIPT: bool = false;

    fn describe(&self) -> Described {
        Described::new("unit", self.name).with_note("enabled and started")
    }

    fn look(&self, look: &mut Look) {
        look.batch("units", self.name);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["unit", name, key, value @ ..] = fields {
            let value = value.first().copied().unwrap_or_default();
            found.units.entry((*name).into()).or_default().take(key, value);
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let Some(found) = seen.found.units.get(self.name).filter(|unit| unit.load == "loaded")
        else {
            return vec![Differs::Missing];
        };
        let mut out = Vec::new();
        if !found.enabled {
            out.push(Differs::NotEnabled);
        }
        if found.active != "active" {
            out.push(Differs::NotRunning(format!("{}, {}", found.active, found.sub)));
        } else if found.pending {
            out.push(Differs::NotRestarted);
        }
        out
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("start_at_boot", &[self.name]);
        act.call("start", &[self.name]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        let facts = UnitFacts {
            load: "loaded".into(),
            active: "active".into(),
            enabled: true,
            ..UnitFacts::default()
        };
        found.units.insert(self.name.into(), facts);
    }
}
