# Another key for the mesh. The unit makes one where there is none, each time it is reloaded.
# folder of its keys, unit
mesh_key() {
  begin "make another key for the mesh"
  keys=$root$1
  [ -s "$keys/key" ] || fail "making another key for the mesh" "there is none yet"
  was=$(cat "$keys/public" 2>/dev/null)
  attempt "taking the old key away" rm -f "$keys/key"
  attempt "having $2 make another key" systemctl reload "$2"
  if [ ! -s "$keys/key" ] || [ "$(cat "$keys/public" 2>/dev/null)" = "$was" ]; then
    fail "making another key for the mesh" "$2 made none: journalctl -u $2 tells why"
  fi
  changed
}
