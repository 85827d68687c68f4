# Carrying out operations. Each is idempotent and says 'same' or 'changed'.
state=/var/lib/zoisite
step=0
begin() { step=$((step + 1)); say begin "$step" "$1"; }
same() { say same "$step"; }
changed() { say changed "$step"; }
fail() { say failed "$step" "$1" "$(one_line "$2" | tail -c 400)"; exit 1; }
attempt() {
  what=$1
  shift
  out=$("$@" 2>&1) || fail "$what" "$out"
}

# Root's own links may lead elsewhere; nobody else's is followed.
own_link() { [ ! -L "$1" ] || [ "$(stat -c %U "$1")" = root ]; }
# Standard input into a new file: never through a link, nor into a file that somebody put there.
new_file() { rm -f "$1" && (set -C && cat >"$1"); }
# A small text, path, owner: there in one instant, and lasting.
put_text() {
  printf '%s\n' "$1" | new_file "$2.zoisite-new" && chown "$3:$3" "$2.zoisite-new" &&
    sync "$2.zoisite-new" && mv -f "$2.zoisite-new" "$2"
}

# One hand at a time: no two runs act at once, and none acts after a newer one.
lock() {
  attempt "making $state" mkdir -p -m 0700 "$state" "$state/pending" "$state/replaced"
  exec 9>"$state/lock"
  # Another run is not waited for long; another step of this very run may take its time.
  waited=0
  until flock -w 10 9; do
    waited=$((waited + 10))
    if [ "$(cat "$state/generation" 2>/dev/null)" = "$1" ] && [ "$waited" -lt 3600 ]; then continue; fi
    if [ "$waited" -ge 60 ]; then say busy; exit 75; fi
  done
  last=$(cat "$state/generation" 2>/dev/null || echo 0)
  if [ "$last" -gt "$1" ]; then say newer "$last"; exit 76; fi
  if [ "$last" != "$1" ]; then
    attempt "noting the run" put_text "$1" "$state/generation" root
  fi
}
unlock() { exec 9>&-; }
# What Zoisite puts here is listed; what it replaces is kept.
record() {
  grep -qxF "$1 $2" "$state/manifest" 2>/dev/null && return
  if [ "$1" = file ] && [ -e "$2" ]; then
    kept="$state/replaced/$(printf '%s' "$2" | tr / _)"
    attempt "keeping the old $2" cp -p "$2" "$kept"
  fi
  printf '%s %s\n' "$1" "$2" >>"$state/manifest" || fail "listing $2" "cannot write $state/manifest"
}
pending() { attempt "noting that $1 must restart" put_text restart "$state/pending/$1" root; }

user() {
  begin "user $1"
  if id "$1" >/dev/null 2>&1; then same; return; fi
  record user "$1"
  attempt "adding user $1" useradd --system --user-group --no-create-home --home-dir "$2" \
    --shell /usr/sbin/nologin "$1"
  changed
}
directory() {
  begin "directory $1"
  own_link "$1" || fail "making $1" "a link of somebody else's stands there"
  if [ -d "$1" ] && [ "$(stat -c '%U %a' "$1")" = "$2 $3" ]; then same; return; fi
  [ -d "$1" ] || record directory "$1"
  attempt "making $1" mkdir -p "$1"
  attempt "giving $1 to $2" chown "$2:$2" "$1"
  attempt "setting the mode of $1" chmod "$3" "$1"
  changed
}
# path, owner, mode, unit to restart or nothing; the content comes by standard input
file() {
  begin "file $1"
  new="$1.zoisite-new"
  out=$(new_file "$new" 2>&1) || { rm -f "$new"; fail "writing $1" "$out"; }
  if [ -f "$1" ] && [ ! -L "$1" ] && cmp -s "$new" "$1" && [ "$(stat -c '%U %a' "$1")" = "$2 $3" ]; then
    rm -f "$new"
    same
    return
  fi
  record file "$1"
  attempt "giving $1 to $2" chown "$2:$2" "$new"
  attempt "setting the mode of $1" chmod "$3" "$new"
  attempt "writing $1" sync "$new"
  [ -z "${4:-}" ] || pending "$4"
  attempt "replacing $1" mv -f "$new" "$1"
  changed
}
# A mark is written once and never changed here.
mark() {
  begin "mark $1"
  [ ! -L "$1" ] || fail "writing $1" "a link stands there"
  if [ -e "$1" ]; then same; return; fi
  attempt "writing $1" put_text "$3" "$1" "$2"
  changed
}
# name, archive: the runtime may have been started a moment ago
import() {
  begin "image $1"
  end=$(($(date +%s) + 90))
  until ctr --connect-timeout 2s -n k8s.io images ls -q >/dev/null 2>&1; do
    if [ "$(date +%s)" -ge "$end" ]; then evidence containerd.service "the container runtime does not answer"; fi
    sleep 0.2
  done
  if ctr -n k8s.io images ls -q "$pinned" 2>/dev/null | grep -qxF "$1"; then same; return; fi
  attempt "importing $1 from $2" ctr -n k8s.io images import "$2"
  attempt "pinning $1" ctr -n k8s.io images label "$1" io.cri-containerd.pinned=pinned
  changed
}
remove() {
  begin "remove $1"
  if [ ! -e "$1" ] && [ ! -L "$1" ]; then same; return; fi
  attempt "removing $1" rm -f "$1"
  changed
}
start_at_boot() {
  begin "enable $1"
  attempt "reloading systemd" systemctl daemon-reload
  if systemctl is-enabled -q "$1" 2>/dev/null; then same; return; fi
  attempt "enabling $1" systemctl enable -q "$1"
  changed
}
start() {
  begin "start $1"
  if systemctl is-active -q "$1"; then same; return; fi
  attempt "starting $1" systemctl start --no-block "$1"
  rm -f "$state/pending/$1"
  changed
}
restart() {
  begin "restart $1"
  attempt "restarting $1" systemctl restart "$1" --no-block
  rm -f "$state/pending/$1"
  changed
}
property() { systemctl show "$1" -p "$2" --value 2>/dev/null; }
# unit, seconds: returns the moment the unit is ready, or with evidence when it will not be
settle() {
  begin "wait for $1"
  end=$(($(date +%s) + $2))
  before=$(property "$1" NRestarts)
  while :; do
    timeout 2 systemctl start "$1" >/dev/null 2>&1
    if [ "$(property "$1" ActiveState)" = active ]; then changed; return; fi
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
