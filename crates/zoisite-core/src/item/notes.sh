# What stood there before an item was first put is noted once, in the order of putting. One line each: kind, name, what
# that kind needs to know to take it back, and a full stop: a line that was cut is none.
nl='
'
notes=
read_notes() {
  if [ ! -f "$state/notes" ]; then return; fi
  # The last line may have been cut by a loss of power.
  if [ -n "$(tail -c 1 "$state/notes")" ]; then printf '\n' >>"$state/notes"; fi
  notes=$(grep "${tab}[.]\$" "$state/notes")
}
is_noted() { case $nl$notes in *"$nl$1$tab$2$tab"*) ;; *) return 1 ;; esac; }
# kind, name, what was before
note() {
  if is_noted "$1" "$2"; then return; fi
  line=
  for field in "$@"; do line=$line$field$tab; done
  if ! printf '%s.\n' "$line" >>"$state/notes" || ! sync "$state/notes"; then
    fail "noting what stood before $2" "cannot write $state/notes"
  fi
  notes=$notes${notes:+$nl}$line.
}
# A copy of a file, under the number of its note to be.
keep() {
  kept=$(printf '%s' "$notes${notes:+$nl}" | wc -l)
  attempt "making $state/kept" mkdir -p -m 0700 "$state/kept"
  attempt "keeping the old $1" cp -p "$1" "$state/kept/$kept"
}
# kind, path: a file, a link or nothing may stand there
note_path() {
  if is_noted "$1" "$2"; then return; fi
  if [ -L "$2" ]; then
    note "$1" "$2" link "$(readlink "$2")"
  elif [ -f "$2" ]; then
    keep "$2"
    note "$1" "$2" file "$kept"
  else
    note "$1" "$2" absent
  fi
}
# path, what stood there, its number or where it led
back_path() {
  case $2 in
    file)
      attempt "bringing the old $1 back" cp -p "$state/kept/$3" "$1.zoisite-new"
      into_place "$1.zoisite-new" "$1"
      ;;
    link)
      rm -f "$1.zoisite-new"
      attempt "bringing the old $1 back" ln -s "$3" "$1.zoisite-new"
      into_place "$1.zoisite-new" "$1"
      ;;
    *)
      if [ ! -e "$1" ] && [ ! -L "$1" ]; then same && return; fi
      attempt "removing $1" rm -f "$1"
      ;;
  esac
  changed
}
# Where SELinux is enforced, what was put gets the label that the host's own policy has for its place.
label() {
  if [ ! -r "$root/sys/fs/selinux/enforce" ] || ! command -v restorecon >/dev/null; then return 0; fi
  out=$(restorecon -RF "$1" 2>&1) || fail "labelling $1" "$out"
}
# A new file takes its place in one instant; a link there is replaced, not followed.
into_place() {
  if [ -L "$2" ] && [ -d "$2" ]; then rm -f "$2"; fi
  if [ -d "$2" ]; then
    rm -f "$1"
    fail "replacing $2" "a directory stands there"
  fi
  # One that may not be replaced (immutable, busy) leaves nothing beside it.
  out=$(mv -f "$1" "$2" 2>&1) || { rm -f "$1"; fail "replacing $2" "$out"; }
  label "$2"
}
# The list as earlier versions kept it.
renew_notes() {
  if [ ! -f "$state/manifest" ]; then return; fi
  while read -r kind name; do
    old="$state/replaced/$(printf '%s' "$name" | tr / _)"
    if [ "$kind" = file ] && [ -f "$old" ]; then
      keep "$old"
      note file "$name" file "$kept"
    else
      note "$kind" "$name" absent
    fi
  done <"$state/manifest"
  rm -rf "$state/manifest" "$state/replaced"
}
# Everything that was put here, the last first; each note goes when its item is back.
uninstall() {
  attempt "making $state/resume" mkdir -p -m 0700 "$state/resume"
  while [ -n "$notes" ]; do
    set -f
    IFS=$tab
    # shellcheck disable=SC2086 # the fields of the last line
    set -- ${notes##*"$nl"}
    unset IFS
    set +f
    kind=$1
    shift
    begin "take back $kind $1"
    command -v "back_$kind" >/dev/null || fail "taking back $1" "this version knows no $kind"
    "back_$kind" "$@"
    case $notes in
      *"$nl"*) notes=${notes%"$nl"*} ;;
      *) notes= ;;
    esac
    attempt "noting that $1 is back" put_text "$notes" "$state/notes" root
  done
  rm -rf "$state/notes" "$state/kept" "$state/pending"
  attempt "reloading systemd" systemctl daemon-reload
  for unit in "$state"/resume/*; do
    if [ ! -f "$unit" ] || [ "$(property "${unit##*/}" LoadState)" = not-found ]; then continue; fi
    attempt "starting ${unit##*/}" systemctl start --no-block "${unit##*/}"
  done
  # Whose data is there, its own folder says.
  rm -rf "$state/resume" "$state/verified" "$state/packages.log" "$state/etcd-formed" "$state/etcd-epoch" "$state/put-back" "$state/keys" "$state/mesh"
}
