# What a run over SSH does from elsewhere is done on the host itself.
# One file of a component: path, checksum, run, unit to restart or nothing, name below a components folder, where such a
# folder can be fetched from or nothing. It is taken from beside the join file first.
bring() {
  if [ -f "$1" ] && [ "$(sha256sum <"$1" | cut -d ' ' -f 1)" = "$2" ]; then
    begin "component $1"
    same
    return
  fi
  from=${along:-}/$5
  if [ ! -f "$from" ]; then
    if [ -z "${6:-}" ]; then
      begin "component $1"
      fail "looking for $5" "it is not in ${along:-the folder components} beside the join file: carry that folder along"
    fi
    from=$state/join/fetched-$2
    fetch_file "$6/$5" "$from"
  fi
  # What an earlier try left here is as near as the file itself.
  rm -f "$1.zoisite-$2".*
  exec 8<"$from"
  upload "$1" "$2" "$(stat -c %s "$from")" 755 "$3" "$4"
  exec 8<&-
  case $from in "$state"/join/fetched-*) rm -f "$from" ;; esac
}
# where it is, into which file; one that was broken off goes on
fetch_file() {
  begin "fetch $1"
  if command -v curl >/dev/null; then
    out=$(curl -fsSL --retry 3 --connect-timeout 20 -C - -o "$2" "$1" 2>&1) || fail "fetching $1" "$out"
  elif command -v wget >/dev/null; then
    out=$(wget -q -c -O "$2" "$1" 2>&1) || fail "fetching $1" "${out:-wget could not}"
  else
    fail "fetching $1" "neither curl nor wget is here: carry the folder components along"
  fi
  changed
}
# Whether what was signed is for a key that is here: path, where such keys are kept, SHA-256 of the key or nothing
is_signed() {
  if ! own_key_is "$1" "$state/keys/$2" "$3" >/dev/null; then unsigned=yes; fi
}
# What its keys are for is signed elsewhere, and comes with another file.
await_signatures() {
  if [ -n "${unsigned:-}" ]; then
    say asked
    say end
    exit
  fi
}
# The kubelet's certificate, by whose key one is to be signed or nothing, its unit: one that has ended, or that an authority
# gave which goes, is in the way of the next.
old_identity() {
  begin "certificate $1"
  if [ ! -e "$1" ]; then same; return; fi
  by=$(openssl x509 -noout -ext authorityKeyIdentifier -in "$1" 2>/dev/null | tr -d ' :\n' | tr '[:upper:]' '[:lower:]')
  if openssl x509 -checkend 0 -noout -in "$1" >/dev/null 2>&1; then
    case $by in '' | *"$2"*) same; return ;; esac
  fi
  attempt "removing $1" rm -f "$1"
  pending "$3"
  changed
}
# unit: it begins, or begins again where it runs with older files
begin_or_renew() {
  if [ -e "$state/pending/$1" ]; then restart "$1"; else start "$1"; fi
}
# seconds, run: what runs with older files than were put begins again
renew_pending() {
  for mark in "$state"/pending/*; do
    [ -e "$mark" ] || continue
    unit=${mark##*/}
    case $(property "$unit" ActiveState) in active | activating | reloading) ;; *) continue ;; esac
    lock "$2"
    restart "$unit"
    unlock
    settle "$unit" "$1"
  done
}
# the architecture that this file is for, as Go names it
arch_is() {
  begin "architecture $1"
  case $(uname -m) in x86_64) own=amd64 ;; aarch64) own=arm64 ;; *) own=$(uname -m) ;; esac
  if [ "$own" != "$1" ]; then fail "looking at its architecture" "it is $own, and this join file is for $1: zoisite join-file write --arch $own"; fi
  same
}
