# shellcheck shell=bash
# Shared by the lab's scripts: real systemd hosts on one machine. Source it, do not run it.
#
# Everything that a running lab makes lies under $LAB and is named 'zlab-…' or is in a cgroup of that
# name, so that `lab/down` finds it after any crash. What is built once lies under $CACHE, by checksum.
#
# Two labs run beside each other where each is in a network namespace of its own and in another lane: ZOISITE_LANE=2.
set -euo pipefail

# shellcheck disable=SC2034 # used by the scripts that source this
{
HERE=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
PROJECT=$(dirname "$HERE")
LANE=${ZOISITE_LANE:-}
LAB=${ZOISITE_LAB:-/var/tmp/zoisite-lab$LANE}
CACHE=${ZOISITE_CACHE:-/var/cache/zoisite-lab}
BRIDGE=zlab0
TABLE=zlab
ADMIN=zlab$LANE-admin
# A router between a home and its provider's network.
FAR=zlab$LANE-far
SUITE=${ZOISITE_SUITE:-trixie}
LAB_USER=warden
# Where lab/mirror serves packages.
MIRROR_PORT=8099
}

say() { printf 'lab: %s\n' "$*" >&2; }
die() {
  say "$*"
  exit 1
}

need_root() { [ "$(id -u)" = 0 ] || die "run this as root: it mounts, makes a bridge and boots hosts"; }

# Installs Debian packages that are missing; says which.
need_packages() {
  local missing=() package
  for package in "$@"; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
  done
  [ ${#missing[@]} -gt 0 ] || return 0
  say "installing ${missing[*]}"
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}

# One at a time builds or takes away what is cached under this name; the lock goes with the script that took it.
lock_cache() {
  mkdir -p "$CACHE"
  exec 9>"$CACHE/.$1.lock"
  flock 9
}

# Waits until a command succeeds: seconds, what is waited for, command.
wait_until() {
  local end=$((SECONDS + $1)) what=$2
  shift 2
  until "$@" >/dev/null 2>&1; do
    [ $SECONDS -lt $end ] || die "waited in vain for $what"
    sleep 0.2
  done
}

# The zoisite program: $ZOISITE, or a release build of this tree.
zoisite() {
  if [ -z "${ZOISITE:-}" ]; then
    say "building zoisite"
    (cd "$PROJECT" && cargo build --release --quiet)
    ZOISITE=$PROJECT/target/release/zoisite
  fi
  "$ZOISITE" "$@"
}

host_dir() { printf '%s/hosts/%s' "$LAB" "$1"; }
# Where a lab that was kept lies: what hosts wrote on their disks, and what the administrator held.
kept_dir() { printf '%s/kept/%s' "$CACHE" "$1"; }
all_hosts() { ls "$LAB/hosts" 2>/dev/null || true; }
# The machine's side of a host's link. systemd-nspawn names it; the kernel allows 15 characters.
link_of() { cat "$(host_dir "$1")/link" 2>/dev/null; }
address_of() { cat "$(host_dir "$1")/address"; }
# systemd-nspawn's child: the host's first process, as this machine numbers it.
leader_of() {
  local nspawn
  nspawn=$(cat "$(host_dir "$1")/pid" 2>/dev/null) || return 1
  pgrep -P "$nspawn" | head -n 1
}
running() { [ -n "$(leader_of "$1" 2>/dev/null)" ]; }

cgroup_mounts() { awk '$3 == "cgroup" || $3 == "cgroup2" { print $2 }' /proc/mounts; }

# Moves the calling process into a cgroup of the host's own, in every hierarchy.
enter_cgroup() {
  local mount folder file
  for mount in $(cgroup_mounts); do
    folder=$mount/zlab$LANE-$1
    mkdir -p "$folder" 2>/dev/null || continue
    for file in cpuset.cpus cpuset.mems; do
      if [ -w "$folder/$file" ] && [ -z "$(cat "$folder/$file")" ]; then cat "$mount/$file" >"$folder/$file" || true; fi
    done
    echo "$BASHPID" >"$folder/cgroup.procs" 2>/dev/null || true
  done
}

# A killed host's cgroups stay and slow its next start: ends what is left in them and removes them.
drop_cgroup() {
  local mount folder pid round
  for mount in $(cgroup_mounts); do
    folder=$mount/zlab$LANE-$1
    [ -d "$folder" ] || continue
    for round in 1 2 3 4 5 6 7 8 9 10; do
      while IFS= read -r pid; do kill -KILL "$pid" 2>/dev/null || true; done \
        < <(find "$folder" -name cgroup.procs -exec cat {} + 2>/dev/null)
      find "$folder" -depth -type d -exec rmdir {} + 2>/dev/null || true
      [ -d "$folder" ] || break
      sleep "0.$round"
    done
  done
}

unmount_host() {
  local dir
  dir=$(host_dir "$1")
  while mountpoint -q "$dir/root"; do umount "$dir/root" 2>/dev/null || umount -l "$dir/root"; done
}

# The bridge of the network that an address is in: each network has its own, and a router between them.
bridge_of() {
  case $1 in
    10.77.0.*) printf '%s\n' "$BRIDGE" ;;
    *) printf 'zlab%s\n' "$(cut -d . -f 3 <<<"$1")" ;;
  esac
}

# Boots a host that lab/up has made.
boot_host() {
  local name=$1 dir link=
  dir=$(host_dir "$name")
  running "$name" && return 0
  drop_cgroup "$name"
  mountpoint -q "$dir/root" || mount -t overlay overlay \
    -o "lowerdir=$(cat "$dir/base"),upperdir=$dir/upper,workdir=$dir/work" "$dir/root"
  rm -f "$dir/pid"
  # A host that starts again by itself ends with 133 (systemd-nspawn(1), --keep-unit).
  # shellcheck disable=SC2016 # for the shell that stays with it
  local stays='pid=$1; shift
    status=133
    while [ "$status" = 133 ]; do "$@" & echo $! >"$pid"; wait $!; status=$?; done'
  (
    enter_cgroup "$name"
    exec setsid bash -c "$stays" stays "$dir/pid" systemd-nspawn --quiet -D "$dir/root" -M "$name" --register=no --keep-unit \
      --network-bridge="$(bridge_of "$(address_of "$name")")" --capability=all --system-call-filter=@keyring --console=pipe \
      --resolv-conf=off --timezone=off --link-journal=no \
      --bind="$dir/containerd:/var/lib/containerd" --bind=/dev/net/tun -b
  ) </dev/null >"$dir/console.log" 2>&1 &
  wait_until 120 "$name's first process" running "$name"
  # The peer index of the host's own interface names the machine's side of the link.
  link=$(peer_link "$name") || true
  [ -n "$link" ] && printf '%s' "$link" >"$dir/link"
}

peer_link() {
  local leader index end=$((SECONDS + 60))
  while [ $SECONDS -lt $end ]; do
    leader=$(leader_of "$1") || true
    index=$(nsenter -t "${leader:-1}" -n cat /sys/class/net/host0/iflink 2>/dev/null) ||
      index=$(nsenter -t "${leader:-1}" -n ip -o link show host0 2>/dev/null | sed -n 's/.*host0@if\([0-9]*\):.*/\1/p')
    if [ -n "$index" ]; then
      ip -o link | awk -F ': ' -v index_="$index" '$1 == index_ { split($2, a, "@"); print a[1] }'
      return
    fi
    sleep 0.1
  done
}

answers() { ssh -n -F "$LAB/ssh_config" -o ConnectTimeout=5 -o BatchMode=yes "$1" true; }

# Ends a host: 'clean' shuts it down, 'hard' is a power cut.
stop_host() {
  local name=$1 how=$2 leader
  leader=$(leader_of "$name") || true
  if [ -n "${leader:-}" ]; then
    if [ "$how" = clean ]; then
      kill -RTMIN+4 "$leader" 2>/dev/null || true
      local end=$((SECONDS + 60))
      while running "$name" && [ $SECONDS -lt $end ]; do sleep 0.1; done
    fi
    leader=$(leader_of "$name") || true
    [ -z "${leader:-}" ] || kill -KILL "$leader" 2>/dev/null || true
    wait_until 60 "$name to be off" not_running "$name"
  fi
  drop_cgroup "$name"
  unmount_host "$name"
}
not_running() { ! running "$1"; }
