use serde::{Deserialize, Serialize};

use super::{Act, Described, Differs, Found, Kind, Look, Seen};

/// A package of the host's distribution, installed and held at its version: nothing upgrades it by the way. It is
/// brought with what it depends on; nothing that is there is upgraded or removed for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Package {
    /// Its name.
    pub name: &'static str,
}

/// A package as found (dpkg-query(1)).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PackageFacts {
    /// What is wanted of it: `install`, `hold`, `deinstall`…
    pub want: String,
    /// What became of that: `installed`, `half-configured`…
    pub status: String,
    /// Its version.
    pub version: String,
}

impl Kind for Package {
    const LOOK: &'static str = r#"
# All at once, by dpkg's own list.
packages_held() {
  dpkg-query -W -f "@${tab}held-package${tab}\${Package}${tab}\${db:Status-Want}${tab}\${db:Status-Status}${tab}\${Version}\n" "$@" 2>/dev/null
}
"#;

    const ACT: &'static str = r#"
package_state() { dpkg-query -W -f '${db:Status-Want} ${db:Status-Status}' "$1" 2>/dev/null; }
# name
package() {
  begin "package $1"
  packages_free
  was=$(package_state "$1")
  case $was in
    'hold installed')
      same
      return
      ;;
    *' installed') note package "$1" there "${was%% *}" ;;
    *) install_package "$1" ;;
  esac
  packages_free
  attempt "holding $1 at its version" apt-mark hold "$1"
  changed
}
# Who has dpkg's lock, as the kernel tells (proc(5), /proc/locks), or nothing.
packages_holder() {
  for lock in lock-frontend lock; do
    inode=$(stat -c %i "$root/var/lib/dpkg/$lock" 2>/dev/null) || continue
    pid=$(awk -v inode=":$inode" '$2 == "POSIX" && substr($6, length($6) - length(inode) + 1) == inode { print $5; exit }' "$root/proc/locks" 2>/dev/null)
    if [ -n "$pid" ]; then
      printf '%s (process %s)' "$(cat "/proc/$pid/comm" 2>/dev/null)" "$pid"
      return
    fi
  done
}
# Waits for others who install something, and says who.
packages_free() {
  end=$(($(date +%s) + 900))
  while holder=$(packages_holder) && [ -n "$holder" ]; do
    if [ "$(date +%s)" -ge "$end" ]; then
      fail "waiting for the package database" "$holder has had it for 15 minutes"
    fi
    say progress "$step" "$holder has the package database"
    sleep 1
  done
}
# Runs apt-get on its own: a lost connection does not break it off in the middle. What it says goes to a file,
# the last line of which tells how far it is.
packages_run() {
  packages_free
  log=$state/packages.log
  (
    trap '' HUP PIPE INT TERM
    export DEBIAN_FRONTEND=noninteractive APT_LISTCHANGES_FRONTEND=none NEEDRESTART_SUSPEND=1
    # No other run waits for this one's lock because of it: dpkg has its own.
    exec 9>&-
    # In a session of its own: whoever ends ours does not end this.
    setsid "$@" </dev/null >"$log" 2>&1
  ) &
  going=$!
  last=
  while kill -0 "$going" 2>/dev/null; do
    now=$(tail -n 1 "$log" 2>/dev/null | tr '\r' '\n' | tail -n 1 | cut -c 1-150)
    if [ "$now" != "$last" ]; then say progress "$step" "$(one_line "$now")"; fi
    last=$now
    sleep 0.2
  done
  # The shell keeps how it ended, whoever looked first.
  wait "$going"
}
apt() {
  packages_run apt-get -q -y -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold \
    -o APT::Install-Recommends=false -o APT::Get::Upgrade=false -o Acquire::Retries=2 \
    -o Dir::Cache::archives="$state/archives/" \
    -o Acquire::http::Timeout=20 -o Acquire::https::Timeout=20 "$@"
}
# What went wrong, without what did not.
packages_said() { grep -a '^[EW]:\|^dpkg: \|^ \|^Err:' "$state/packages.log" | tail -n 6 | tr '\n' ' '; }
# What an earlier run of ours left half done is ours to end; what others left is reported.
packages_whole() {
  interrupted=$(ls "$root/var/lib/dpkg/updates" 2>/dev/null)
  broken=$(dpkg-query -W -f '${Package} ${db:Status-Status}\n' 2>/dev/null | grep ' half-\| unpacked$\| triggers-' | head -n 5)
  if [ -z "$interrupted$broken" ]; then return; fi
  if [ -e "$state/packages.ours" ]; then
    # What was only half unpacked is unpacked again when it is installed.
    packages_run dpkg --force-confdef --force-confold --configure -a || :
    return
  fi
  fail "looking at the package database" "dpkg was interrupted earlier: $(one_line "$interrupted $broken"); dpkg --configure -a, on the host, ends that"
}
# name: it and what comes with it is noted before any of it is there
install_package() {
  packages_free
  packages_whole
  for try in first again; do
    if plan=$(apt-get -s -q -o APT::Install-Recommends=false install "$1" 2>&1); then
      plan_is_ours "$1"
      attempt "noting that packages are installed" put_text "$1" "$state/packages.ours" root
      attempt "making $state/archives" mkdir -p "$state/archives/partial"
      if apt install "$1"; then break; fi
      if [ "$try" = again ]; then fail "installing $1" "$(packages_said)"; fi
    elif [ "$try" = again ]; then
      fail "planning to install $1" "$(printf '%s\n' "$plan" | grep '^E:\|^ ' | tail -n 6 | tr '\n' ' ')"
    fi
    # Lists may be old, or not there yet.
    apt update || fail "asking where packages come from" "$(packages_said)"
    if grep -aq '^W: Failed to fetch\|^Err:' "$state/packages.log"; then
      fail "asking where packages come from" "$(packages_said)"
    fi
  done
  rm -rf "$state/packages.ours" "$state/archives"
}
# What is planned (apt-get(8), --simulate) brings packages, and changes none that is there.
plan_is_ours() {
  others=$(printf '%s\n' "$plan" | sed -n 's/^Remv \([^ ]*\).*/remove:\1/p; s/^Inst \([^ ]*\) \[.*/upgrade:\1/p')
  told=
  for other in $others; do
    name=${other#*:}
    # What an earlier run of ours left half installed is ours to install.
    if [ "${other%%:*}" = remove ] || ! is_noted package "${name%%:*}"; then told="$told, ${other%%:*} $name"; fi
  done
  if [ -n "$told" ]; then
    fail "planning to install $1" "it would also${told#,}; do that yourself, or bring $1, and run this again"
  fi
  for brought in $(printf '%s\n' "$plan" | sed -n 's/^Inst \([^ ]*\) .*/\1/p'); do
    note package "${brought%%:*}" absent
  done
}
# name, then 'absent', or 'there' and what was wanted of it
back_package() {
  now=$(package_state "$1")
  case ${now##* } in '' | not-installed) same && return ;; esac
  packages_free
  if [ "$2" = there ]; then
    if [ "$3" = hold ]; then same; return; fi
    attempt "letting go of $1" apt-mark unhold "$1"
    changed
    return
  fi
  case $now in hold*) attempt "letting go of $1" apt-mark unhold "$1" ;; esac
  if packages_run dpkg --purge "$1"; then changed; return; fi
  # Something that came later stands on it: it is not ours to remove.
  if grep -q 'depend' "$state/packages.log"; then say left "$1"; return; fi
  fail "removing $1" "$(packages_said)"
}
"#;

    fn describe(&self) -> Described {
        Described::new("package", self.name).with_note("installed, and held at its version")
    }

    fn look(&self, look: &mut Look) {
        look.batch("packages_held", self.name);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["held-package", name, want, status, version] = fields {
            let facts = PackageFacts {
                want: (*want).into(),
                status: (*status).into(),
                version: (*version).into(),
            };
            found.packages.insert((*name).into(), facts);
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.packages.get(self.name) {
            Some(found) if found.status == "installed" && found.want == "hold" => Vec::new(),
            Some(found) if found.status == "installed" => {
                vec![Differs::Value("not held at its version".into())]
            }
            _ => vec![Differs::Missing],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call("package", &[self.name]);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        let facts = PackageFacts {
            want: "hold".into(),
            status: "installed".into(),
            version: String::new(),
        };
        found.packages.insert(self.name.into(), facts);
    }
}
