# What a host holds. Changes nothing, but for remembering the checksums of large files.
state=/var/lib/zoisite
owner_of() { stat -c '%U %a' "$1"; }
sum_of() { sha256sum <"$1" | cut -d ' ' -f 1; }

host_facts() {
  say machine "$(cat /etc/machine-id 2>/dev/null)"
  for key in /etc/ssh/ssh_host_*_key.pub; do
    [ -r "$key" ] && say host-key "$(cut -d ' ' -f 1,2 "$key" | sha256sum | cut -d ' ' -f 1)"
  done
  say arch "$(uname -m)"
  say os "$( (. /etc/os-release && printf '%s %s' "$ID" "${VERSION_ID:-}") 2>/dev/null)"
  say clock "$(date +%s)"
  say generation "$(cat "$state/generation" 2>/dev/null || echo 0)"
  say init "$(cat /proc/1/comm 2>/dev/null)"
}
# The room, in kilobytes, on the file system that holds a path or its nearest folder.
room() {
  at=$1
  while [ ! -d "$at" ]; do at=$(dirname "$at"); done
  say room "$1" "$(df -Pk "$at" | awk 'NR == 2 { print $4 }')"
}
user() { if id "$1" >/dev/null 2>&1; then say user "$1" yes; else say user "$1" no; fi; }
directory() {
  # shellcheck disable=SC2046 # two fields are wanted
  if [ -d "$1" ]; then say directory "$1" $(owner_of "$1"); else say directory "$1" - -; fi
}
# A file's checksum; with a mark, that of the lines before it.
file() {
  if [ ! -f "$1" ]; then say file "$1" - - -; return; fi
  if [ -n "${2:-}" ]; then
    sum=$(awk -v mark="$2" 'index($0, mark) == 1 { exit } { print }' "$1" | sha256sum | cut -d ' ' -f 1)
  else
    sum=$(sum_of "$1")
  fi
  # shellcheck disable=SC2046 # two fields are wanted
  say file "$1" "$sum" $(owner_of "$1")
}
# A large file: its checksum is remembered with size, inode and time, unless a deep look is wanted.
component() {
  if [ ! -f "$1" ]; then say component "$1" -; return; fi
  seen="$(stat -c '%s %i %Y' "$1") $1"
  sum=
  if [ "$2" = quick ] && [ -r "$state/verified" ]; then
    sum=$(awk -v seen="$seen" 'substr($0, 66) == seen { sum = $1 } END { print sum }' "$state/verified")
  fi
  if [ -z "$sum" ]; then
    sum=$(sum_of "$1")
    if mkdir -p -m 0700 "$state" 2>/dev/null; then
      printf '%s %s\n' "$sum" "$seen" >>"$state/verified" 2>/dev/null || :
    fi
  fi
  say component "$1" "$sum"
}
unit() {
  systemctl show "$1" -p LoadState -p ActiveState -p SubState -p UnitFileState -p NeedDaemonReload \
    -p NRestarts -p Result 2>/dev/null | while IFS='=' read -r key value; do
    say unit "$1" "$key" "$value"
  done
  [ -e "$state/pending/$1" ] && say unit "$1" Pending yes
  return 0
}
# folder, data directory, owner's mark, formed mark
etcd_data() {
  if [ -d "$2/member" ]; then say etcd-data present; else say etcd-data absent; fi
  if [ -r "$3" ]; then say etcd-owner "$(one_line "$(cat "$3")")"; fi
  if [ -r "$4" ]; then say etcd-formed "$(one_line "$(cat "$4")")"; fi
  if [ -d "$1" ]; then
    find "$1" -maxdepth 3 -type d -name member ! -path "$2/member" 2>/dev/null | while read -r stray; do
      say etcd-stray "$stray"
    done
  fi
  return 0
}
# client program, endpoint, authority, certificate, key
etcd_status() {
  [ -x "$1" ] && [ -r "$5" ] || return 0
  answer=$("$1" --endpoints "$2" --cacert "$3" --cert "$4" --key "$5" --dial-timeout 2s \
    --command-timeout 4s endpoint status -w json 2>&1)
  case $answer in
    *'"Status"'*) say etcd-status "$(printf '%s\n' "$answer" | grep '"Status"' | tr -d '\n\t')" ;;
    *) say etcd-silent "$(one_line "$answer" | tail -c 300)" ;;
  esac
}
