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
# folder, data directory, owner's mark, formed mark
etcd_data() {
  if [ -d "$2/member" ]; then say etcd-data present; else say etcd-data absent; fi
  if is_plain "$3"; then say_first etcd-owner "$3"; fi
  if is_plain "$4"; then say_first etcd-formed "$4"; fi
  if [ -d "$1" ]; then
    find "$1" -maxdepth 3 -type d -name member ! -path "$2/member" 2>/dev/null | while read -r stray; do
      say etcd-stray "$stray"
    done
  fi
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
# What a node's own nature decides, and what would keep it from joining.
node_facts() {
  if [ -e "$root/sys/fs/cgroup/cgroup.controllers" ]; then say cgroups 2; else say cgroups 1; fi
  # systemd writes down what contains it when it starts.
  if [ -s "$root/run/systemd/container" ]; then say container yes; else say container no; fi
  if nft list tables >/dev/null 2>&1; then say nftables yes; else say nftables no; fi
  if [ "$(wc -l <"$root/proc/swaps")" -gt 1 ]; then say swap yes; else say swap no; fi
}
# the kubelet's certificate, a name that must resolve or nothing, a join token
node_state() {
  # Its first certificate, without the key that stands beside it.
  if [ -s "$1" ]; then
    say identity "$(awk '/-END CERT/ { exit } inside { printf "%s", $0 } /-BEGIN CERT/ { inside = 1 }' "$1")"
  fi
  if [ -e "$3" ]; then say token-left yes; fi
  now 'the stable name'
  [ -z "$2" ] || if timeout 10 getent ahosts "$2" >/dev/null 2>&1; then say resolves yes; else say resolves no; fi
}
# Programs of the distribution that are not there.
programs() { for program in "$@"; do [ -x "$program" ] || say lacks "$program"; done; }
