# Carrying out operations. Each is idempotent and says 'same' or 'changed'.
step=0
begin() { step=$((step + 1)); say begin "$step" "$1"; }
same() { say same "$step"; }
changed() { say changed "$step"; }
# A host that shuts down fails at whatever asks systemd, which in the end answers no more.
shuts_down() {
  case $(timeout 5 systemctl is-system-running 2>/dev/null) in
    stopping) return 0 ;;
    unknown | '') case $(cat /proc/1/comm) in systemd*) return 0 ;; esac ;;
  esac
  return 1
}
fail() {
  if shuts_down; then say shutting-down; fi
  say failed "$step" "$1" "$(one_line "$2" | tail -c 400)"
  exit 1
}
attempt() {
  what=$1
  shift
  out=$("$@" 2>&1) || fail "$what" "$out"
}

# Standard input into a new file: never through a link, nor into a file that somebody put there.
new_file() { rm -f "$1" && (set -C && cat >"$1"); }
# A small text, path, owner: there in one instant, and lasting.
put_text() {
  printf '%s\n' "$1" | new_file "$2.zoisite-new" && chown "$3:$3" "$2.zoisite-new" &&
    sync "$2.zoisite-new" && mv -f "$2.zoisite-new" "$2"
}

# One hand at a time: no two runs act at once, and none acts after a newer one.
lock() {
  attempt "making $state" mkdir -p -m 0700 "$state" "$state/pending"
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
  read_notes
  renew_notes
}
unlock() { exec 9>&-; }
# A unit runs with older files until it was started again, or has read them again where that is enough; a mark says so.
pending() {
  if [ "${2:-restart}" = reload ] && [ -e "$state/pending/$1" ]; then return; fi
  attempt "noting that $1 must ${2:-restart}" put_text "${2:-restart}" "$state/pending/$1" root
}

# A mark is written once and never changed here.
mark() {
  begin "mark $1"
  [ ! -L "$1" ] || fail "writing $1" "a link stands there"
  if [ -e "$1" ]; then same; return; fi
  attempt "writing $1" put_text "$3" "$1" "$2"
  changed
}
remove() {
  begin "remove $1"
  if [ ! -e "$1" ] && [ ! -L "$1" ]; then same; return; fi
  attempt "removing $1" rm -f "$1"
  changed
}
# unit: whether it is off, also for the next boots.
is_off() {
  case $(systemctl is-active "$1" 2>/dev/null)$(systemctl is-enabled "$1" 2>/dev/null) in
    inactivedisabled | unknowndisabled) return 0 ;;
  esac
  return 1
}
# units: from now on they stop, also for the next boots; systemd reads its files again for all of them once.
end() {
  attempt "disabling $*" systemctl disable --quiet "$@"
  attempt "stopping $*" systemctl stop --no-block "$@"
}
# unit that stops, tenths of a second for what it has to end
ended_within() {
  waited=0
  while [ "$waited" -lt "$2" ]; do
    case $(systemctl is-active "$1" 2>/dev/null) in inactive | failed | unknown) break ;; esac
    waited=$((waited + 1))
    sleep 0.1
  done
  systemctl kill --signal=KILL "$1" 2>/dev/null
  attempt "stopping $1" systemctl stop "$1"
}
# unit, its folder, the mark of a proven quorum, the folder of its keys: a member that is none any more, or begins again.
# Its data is never deleted; what was moved aside is nobody's stray.
set_aside() {
  begin "move what is left in $2 aside"
  did=
  if [ -e "$root/etc/systemd/system/$1" ]; then
    if ! is_off "$1"; then
      # One that leads would hand that on first, for long where the others stop too. What was acknowledged is on its
      # disk, however it ends.
      end "$1"
      ended_within "$1" 5
      did=yes
    fi
    systemctl reset-failed "$1" 2>/dev/null
  fi
  if [ -d "$2/data/member" ] && [ ! -L "$2/data" ]; then
    left=$2/left-$(date +%s)
    while [ -e "$left" ]; do left=$left-; done
    attempt "moving $2/data aside" mv "$2/data" "$left"
    did=yes
  fi
  if [ -e "$3" ]; then attempt "removing $3" rm -f "$3"; did=yes; fi
  if [ -n "$4" ] && [ -d "$4" ]; then attempt "removing $4" rm -rf "$4"; did=yes; fi
  if [ -n "$did" ]; then changed; else same; fi
}
# units: they stop together, also for the next boots
stop() {
  running=
  for unit in "$@"; do
    if [ -e "$root/etc/systemd/system/$unit" ] && ! is_off "$unit"; then running="$running $unit"; fi
  done
  # shellcheck disable=SC2086 # units are words
  if [ -n "$running" ]; then end $running; fi
  for unit in "$@"; do
    begin "stop $unit"
    case "$running " in
      *" $unit "*)
        ended_within "$unit" 10
        systemctl reset-failed "$unit" 2>/dev/null
        changed
        ;;
      *) same ;;
    esac
  done
}
# etcd's own program, the snapshot, the member's folder, the one that is made in it, the member's name, where it is dialled,
# all that begin, what tells their cluster from others, etcd's user, by how much revisions go on: data is made beside
# what stands, whole or not at all.
make_data() {
  begin "make a member's data from the snapshot"
  if [ -d "$4/member" ]; then same; return; fi
  # What was made for another try is of no use.
  rm -rf "$3"/made-*
  attempt "making a member's data from the snapshot" "$1" snapshot restore "$2" --name "$5" \
    --initial-cluster "$7" --initial-cluster-token "$8" --initial-advertise-peer-urls "$6" \
    --data-dir "$4.half" --bump-revision "${10}" --mark-compacted
  attempt "giving the data to $9" chown -R "$9:$9" "$4.half"
  attempt "setting its mode" chmod 0700 "$4.half"
  attempt "writing the data" sync -f "$4.half"
  attempt "keeping the data" mv "$4.half" "$4"
  changed
}
# what was made, the member's data directory, which quorum, the mark that says so, the snapshot, which is not needed any more
take_data() {
  begin "put the data in its place"
  if [ "$(cat "$4" 2>/dev/null)" = "$3" ] && [ -d "$2/member" ]; then same; return; fi
  [ -d "$1/member" ] || fail "putting the data in its place" "$1 is not there"
  [ ! -e "$2/member" ] || fail "putting the data in its place" "a member's data stands there"
  if [ -d "$2" ]; then attempt "making way for the data" rmdir "$2"; fi
  attempt "putting the data in its place" mv "$1" "$2"
  attempt "noting which quorum it is of" put_text "$3" "$4" root
  rm -f "$5"
  changed
}
# the member's folder, the mark that says whose it is, what that must say
wipe() {
  begin "delete $1"
  if [ ! -d "$1" ] || [ -L "$1" ]; then same; return; fi
  [ "$(cat "$2" 2>/dev/null)" = "$3" ] || fail "deleting $1" "nothing says that it is this cluster's"
  attempt "deleting $1" rm -rf "$1"
  changed
}
# address, the file that says so, seconds: whoever else can serve takes it
give_away() {
  begin "leave $1 to others"
  attempt "making ${2%/*}" mkdir -p "${2%/*}"
  : >"$2" || fail "writing $2" "it cannot be written"
  end=$(($(date +%s) + $3))
  if [ -z "$(ip -o address show to "$1" 2>/dev/null)" ]; then same; return; fi
  while [ -n "$(ip -o address show to "$1" 2>/dev/null)" ] && [ "$(date +%s)" -lt "$end" ]; do
    say waiting "$step" "another one takes it"
    sleep 0.2
  done
  changed
}
take_part() {
  begin "take part in holding the virtual IP"
  rm -f "$1"
  changed
}
