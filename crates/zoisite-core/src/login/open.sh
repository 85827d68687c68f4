# Lets a user become root without a password, and takes that back.
rules=/etc/sudoers.d
refuse() { say refused "$1"; exit 1; }
# user: its rule stands in a file that sorts after every other one, since the last rule that matches wins.
put_rule() {
  [ -d "$rules" ] || refuse "there is no folder $rules: sudo is not installed, or set up in another way"
  grep -qE '^[@#]includedir[[:space:]]+/etc/sudoers\.d/?[[:space:]]*$' /etc/sudoers ||
    refuse "/etc/sudoers does not include $rules: add the line '@includedir $rules' at its end with visudo"
  name=zz-zoisite-$(printf '%s' "$1" | tr -c 'A-Za-z0-9_\n-' _)
  # shellcheck disable=SC2010
  others=$(ls "$rules" | grep -v '[.~]' | grep -vxF "$name")
  tries=0
  while [ "$(printf '%s\n%s\n' "$others" "$name" | LC_ALL=C sort | tail -n 1)" != "$name" ]; do
    name=z$name
    tries=$((tries + 1))
    [ "$tries" -lt 40 ] || refuse "no name sorts after those in $rules"
  done
  new=$rules/.zoisite-new
  text="# Placed by zoisite: it reaches this host as $1. Taken back by: zoisite login setup --undo
$1 ALL=(ALL:ALL) NOPASSWD: ALL"
  (umask 0337 && rm -f "$new" && printf '%s\n' "$text" >"$new") 2>/dev/null ||
    refuse "$rules cannot be written: $( (: >"$rules/.zoisite-try") 2>&1 | sed 's/.*: //')"
  if ! why=$(visudo -c -f "$new" 2>&1); then
    rm -f "$new"
    refuse "sudo's own checker finds fault with the rule: $(one_line "$why")"
  fi
  # What it finds fault with already is not for us to judge.
  if visudo -c >/dev/null 2>&1; then well=yes; else well=no; fi
  mv -f "$new" "$rules/$name" || refuse "$rules/$name cannot be written"
  if [ "$well" = yes ] && ! why=$(visudo -c 2>&1); then
    rm -f "$rules/$name"
    refuse "sudo's own checker finds fault with its rules as they would be: $(one_line "$why" | tail -c 300)"
  fi
  if ! sudo -u "$1" -- sudo -k -n true 2>/dev/null; then
    last=$(sudo -ll -U "$1" 2>/dev/null | sed -n 's/^ *Sudoers entry: *//p' | tail -n 1)
    rm -f "$rules/$name"
    refuse "another rule overrides it: what stands last is in ${last:-/etc/sudoers, after its @includedir line}"
  fi
  say rule "$rules/$name"
}
# file: only one that says that it is ours.
take_rule() {
  if [ -e "$1" ] && ! grep -q '^# Placed by zoisite' "$1"; then refuse "$1 is no rule that zoisite placed"; fi
  rm -f "$1" || refuse "$1 cannot be removed"
}
# user: where it is not known how far the placing came. A half-written rule has a name that sudo passes over.
take_rules_of() {
  [ -d "$rules" ] || return 0
  rm -f "$rules/.zoisite-new"
  for file in "$rules"/*zz-zoisite-*; do
    [ -f "$file" ] || continue
    case $(head -n 1 "$file") in
      "# Placed by zoisite: it reaches this host as $1."*) take_rule "$file" ;;
    esac
  done
}
# key: whether it stands in the login user's own list.
find_key() {
  cd 2>/dev/null || { say key lacks; return; }
  if grep -qxF "$1" .ssh/authorized_keys 2>/dev/null; then say key had; else say key lacks; fi
}
# key: into the login user's own list.
put_key() {
  cd || refuse "the login user has no home"
  if [ -n "$(find . -maxdepth 0 -perm /022)" ]; then
    refuse "others may write to $PWD, so that sshd trusts no key in it: chmod go-w $PWD"
  fi
  mkdir -p -m 0700 .ssh 2>/dev/null || refuse "$PWD/.ssh cannot be made"
  list=.ssh/authorized_keys
  if [ -e "$list" ] && grep -qxF "$1" "$list"; then
    say key had
    return
  fi
  if [ -s "$list" ] && [ -n "$(tail -c 1 "$list")" ]; then echo >>"$list"; fi
  (umask 077 && printf '%s\n' "$1" >>"$list") 2>/dev/null || refuse "$PWD/$list cannot be written"
  say key placed
}
take_key() {
  cd || return 0
  list=.ssh/authorized_keys
  [ -e "$list" ] || return 0
  (umask 077 && grep -vxF "$1" "$list" >"$list.zoisite-new") 2>/dev/null
  [ -e "$list.zoisite-new" ] || refuse "$PWD/.ssh cannot be written"
  # Its mode and what links to it stay.
  cat "$list.zoisite-new" >"$list" && rm -f "$list.zoisite-new"
}
