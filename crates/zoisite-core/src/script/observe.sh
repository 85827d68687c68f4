# What a host holds. Changes nothing, but for remembering the checksums of large files.
# Programs are started once for all paths, not once for each: that is most of what a look costs.
# What is looked at now: where a host hangs, it is the last that it said.
now() { say now "$1"; }
# A file and no link: what a link leads to is not what it says it is.
is_plain() { [ -f "$1" ] && [ ! -L "$1" ]; }
# The first line of a file goes into `line`.
first_line() {
  line=
  if [ -r "$1" ]; then read -r line <"$1" || :; fi
}
# Says the first line of a file.
say_first() { first_line "$2" && say "$1" "$line"; }

host_facts() {
  say_first machine "$root"/etc/machine-id
  for key in "$root"/etc/ssh/ssh_host_*_key.pub; do
    if [ -r "$key" ]; then
      read -r kind text _ <"$key"
      say host-key "$kind $text"
    fi
  done
  say arch "$(uname -m)"
  # shellcheck disable=SC1091
  say os "$( (. "$root/etc/os-release" && printf '%s %s' "$ID" "${VERSION_ID:-}") 2>/dev/null)"
  say clock "$(date +%s)"
  say_first generation "$state/generation"
  # Whoever acts here holds the lock: also a script whose program is gone.
  if [ -e "$state/lock" ]; then
    flock -s -n "$state/lock" true 2>/dev/null
    if [ $? -eq 1 ]; then say acting; fi
  fi
  say_first init "$root"/proc/1/comm
  say_first boot "$root"/proc/sys/kernel/random/boot_id
  say_first cluster "$state/cluster"
}
# The room, in kilobytes, on the file system that holds a path or its nearest folder.
room() {
  at=$1
  while [ ! -d "$at" ]; do at=$(dirname "$at"); done
  df -Pk "$at" | while read -r _ _ _ free _; do say room "$1" "$free"; done
}
# Kind, owner and mode of every path that is there.
paths() { stat -c "@${tab}at${tab}%n${tab}%F${tab}%U${tab}%a" "$@" 2>/dev/null; }
active=
running=
# Whether a unit was seen to be active.
is_active() { case $active in *" $1 "*) ;; *) return 1 ;; esac; }
# folder, data directory, owner's mark, formed mark, the mark of which quorum it is
etcd_data() {
  if [ -d "$2/member" ]; then say etcd-data present; else say etcd-data absent; fi
  if is_plain "$3"; then say_first etcd-owner "$3"; fi
  if is_plain "$4"; then say_first etcd-formed "$4"; fi
  if is_plain "$5"; then say_first etcd-epoch "$5"; fi
  for saved in "$root"/var/lib/zoisite/snapshots/*/stream; do
    if [ -f "$saved" ]; then
      saved=${saved%/stream}
      say etcd-saved "${saved##*/}"
    fi
  done
  if systemctl is-failed -q zoisite-snapshot.service 2>/dev/null; then
    say etcd-unsaved "$(one_line "$(journalctl -u zoisite-snapshot.service -n 5 -o cat --no-pager _SYSTEMD_UNIT=zoisite-snapshot.service 2>/dev/null | tail -n 1)")"
  fi
  if [ -d "$1" ]; then
    find "$1" -maxdepth 3 -type d -name member ! -path "$2/member" ! -path "$1/left-*" ! -path "$1/made-*" 2>/dev/null | while read -r stray; do
      say etcd-stray "$stray"
    done
  fi
}
# unit, address, port: how fast the member's disk is, by its own counters
etcd_pace() {
  is_active "$1" || return 0
  # shellcheck disable=SC2016 # bash's own
  counters=$(timeout 3 bash -c 'exec 3<>"/dev/tcp/$0/$1" && printf "GET /metrics HTTP/1.0\r\n\r\n" >&3 && cat <&3' "$2" "$3" 2>/dev/null |
    grep -E '^(etcd_disk_wal_fsync_duration_seconds_(bucket|count)|etcd_server_slow_apply_total|process_start_time_seconds)' | tr '\n' ';')
  if [ -n "$counters" ]; then say etcd-pace "$counters"; fi
}
# endpoint, authority, certificate, key, unit; a member that is not ready is not asked
etcd_status() {
  is_active "$5" || return 0
  # The client that stands beside the program that runs, whatever version is wanted now.
  runs=${running##* "$5"=}
  runs=${runs%% *}
  client=${runs%/*}/etcdctl
  for beside in "$root"/usr/local/lib/zoisite/etcd-*/etcdctl; do
    if [ ! -x "$client" ]; then client=$beside; fi
  done
  ask() {
    "$client" --endpoints "$endpoint" --cacert "$authority" --cert "$certificate" --key "$key" \
      --dial-timeout 2s --command-timeout 4s "$@" -w json 2>&1
  }
  endpoint=$1 authority=$2 certificate=$3 key=$4
  answer=$(ask endpoint status)
  case $answer in
    '['*'"Status"'*) say etcd-status "$(one_line "$answer")" ;;
    *)
      say etcd-silent "$(one_line "$answer" | tail -c 300)"
      return 0
      ;;
  esac
  answer=$(ask member list)
  case $answer in
    '{'*'"members"'*) say etcd-members "$(one_line "$answer")" ;;
  esac
}
# What a host's own nature decides. Nearly all of it is read without starting a program.
nature() {
  if [ -e "$root/sys/fs/cgroup/cgroup.controllers" ]; then say cgroups 2; else say cgroups 1; fi
  # systemd writes down what contains it when it starts.
  if [ -s "$root/run/systemd/container" ]; then say container yes; else say container no; fi
  if nft list tables >/dev/null 2>&1; then say nftables yes; else say nftables no; fi
  say_first called "$root"/proc/sys/kernel/hostname
  brought=' '
  if [ -r "$state/notes" ]; then
    while IFS=$tab read -r kind name was _; do
      if [ "$kind $was" = 'package absent' ]; then brought="$brought$name "; fi
    done <"$state/notes"
  fi
  say brought "$brought"
  # A resolver on the host itself is none for pods; where it asks is written beside it.
  stub=
  while read -r key value _; do
    case "$key $value" in
      'nameserver 127.'* | 'nameserver ::1') stub=${stub:-yes} ;;
      'nameserver '*) stub=no ;;
    esac
  done 2>/dev/null <"$root/etc/resolv.conf"
  if [ -r "$root/run/systemd/resolve/resolv.conf" ] && [ "$stub" = yes ]; then say stub yes; else say stub no; fi
  kept=no
  # A site that masks it wants none of it.
  if [ -L "$root/etc/systemd/system/systemd-timesyncd.service" ]; then kept=yes; fi
  for unit in chrony chronyd systemd-timesyncd ntp ntpd ntpsec openntpd; do
    # systemd keeps a link there for each unit that runs.
    if [ -L "$root/run/systemd/units/invocation:$unit.service" ]; then kept=yes; fi
  done
  say time-kept "$kept"
  if [ -L "$root/run/systemd/units/invocation:firewalld.service" ]; then say firewall firewalld; fi
  while read -r text; do
    if [ "$text" = 'ENABLED=yes' ]; then say firewall ufw; fi
  done 2>/dev/null <"$root/etc/ufw/ufw.conf"
  # Where programs of the distribution are, or those that were brought.
  runtime=
  while read -r text; do
    case $text in ExecStart=/usr/local/lib/zoisite/*) runtime=${text#ExecStart=} && runtime=${runtime%% *} ;; esac
  done 2>/dev/null <"$root/etc/systemd/system/containerd.service"
  first_of runtime "${runtime:-/}" /usr/bin/containerd /usr/local/bin/containerd
  if [ -e "$root/etc/containerd/config.toml" ]; then say at-runtime-config /etc/containerd/config.toml; fi
  first_of plugins /usr/lib/cni/bridge /opt/cni/bin/bridge /usr/libexec/cni/bridge
  for path in "$root"/usr/local/lib/zoisite/network-plugins-*/bridge; do
    if [ -x "$path" ]; then say at-plugins "${path#"$root"}" && there="${there}plugins "; fi
  done
  first_of nft /usr/sbin/nft /sbin/nft
  first_of haproxy /usr/sbin/haproxy /usr/local/sbin/haproxy
  first_of keepalived /usr/sbin/keepalived /usr/local/sbin/keepalived
  first_of openssl /usr/bin/openssl /usr/local/bin/openssl
  first_of apt /usr/bin/apt-get
}
# the public half of the key that the host made for the mesh
mesh_facts() {
  if is_plain "$1"; then say_first mesh-key "$1"; fi
  kernel=$root/lib/modules/$(uname -r)
  if [ -d "$root/sys/module/wireguard" ] || grep -qs '/wireguard\.ko' "$kernel/modules.dep" "$kernel/modules.builtin"; then
    say wireguard yes
  fi
}
# word, paths: says the first that is a program
there=' '
first_of() {
  word=$1
  shift
  for path in "$@"; do
    if [ -f "$root$path" ] && [ -x "$root$path" ]; then
      say at-"$word" "$path"
      there="$there$word "
      return
    fi
  done
}
# The size of the file system on which pods keep what they write, in kilobytes.
pods_disk() {
  at=$root/var/lib/kubelet
  while [ ! -d "$at" ]; do at=$(dirname "$at"); done
  df -Pk "$at" | while read -r _ size _; do say pods-disk "$size"; done
}
# Whether names lead anywhere, on a host on which nothing of ours stands yet; else whether it was helped.
knows() {
  if grep -q '^# zoisite: from here' "$root/etc/hosts" 2>/dev/null; then
    say unknown-names yes
    return
  fi
  if [ -e "$state/cluster" ]; then return; fi
  for name in "$@"; do
    { timeout 5 getent ahosts "$name" >/dev/null 2>&1 || say unknown-names yes; } &
  done
  wait
}
# Whether a source of packages lets itself be dialled: asked where a program is still to come.
sources_answer() {
  command -v apt-get >/dev/null && command -v bash >/dev/null || return 0
  answers=no
  # apt-get(8) says where it would ask, and asks nobody.
  for source in $(apt-get --print-uris update 2>/dev/null | sed -n "s|^'\([a-z]*://*[^/']*\).*|\1|p" | sort -u | head -n 4); do
    case $source in file:* | copy:*) answers=yes && continue ;; esac
    host=${source#*://}
    case $source in https:*) port=443 ;; http:*) port=80 ;; *) continue ;; esac
    case $host in *:*) port=${host##*:} host=${host%:*} ;; esac
    # shellcheck disable=SC2016
    if why=$(timeout 4 bash -c 'exec 3<>"/dev/tcp/$0/$1"' "$host" "$port" 2>&1); then
      say source "$host" answers
      answers=yes
    else
      say source "$host" "$(printf '%s' "${why:-silent}" | head -n 1 | tr '\t' ' ' | sed 's/^[^:]*: *//' | cut -c 1-120)"
    fi
  done
  say sources "$answers"
}
# Whether it swaps, which keeps a kubelet from starting.
swaps() { if [ "$(wc -l <"$root/proc/swaps")" -gt 1 ]; then say swap yes; else say swap no; fi; }
# the kubelet's certificate, a name that must resolve or nothing, a join token
node_state() {
  # Its first certificate, without the key that stands beside it.
  if [ -s "$1" ]; then
    say identity "$(awk '/-END CERT/ { exit } inside { printf "%s", $0 } /-BEGIN CERT/ { inside = 1 }' "$1")"
  fi
  if [ -e "$3" ]; then say token-left yes; fi
  now 'the name of the API endpoint'
  [ -z "$2" ] || if timeout 10 getent ahosts "$2" >/dev/null 2>&1; then say resolves yes; else say resolves no; fi
}
# the virtual IP, what tells whether this host can serve, what the daemon says of itself, the mark of one that
# left it to others
virtual_ip() {
  held=no serves=no away=no
  if [ -n "$(ip -o address show to "$1" 2>/dev/null)" ]; then held=held; fi
  if [ -x "$2" ] && timeout 6 "$2" >/dev/null 2>&1; then serves=serves; fi
  first_line "$3"
  says=${line%% *} since=${line##* }
  if [ -e "$4" ]; then away=away; fi
  say address "$held" "$serves" "${says:-}" "${since:-0}" "$away"
}
# Programs of the distribution that are not there.
programs() { for program in "$@"; do [ -x "$program" ] || say lacks "$program"; done; }
# words of what the host needs of its distribution: where one of it is nowhere, whether it could be installed
needs() {
  for word in "$@"; do
    case $there in *" $word "*) ;; *) sources_answer && return ;; esac
  done
}
