# Another key for the mesh. The unit makes one where there is none, each time it is reloaded.
mesh_key() {
  begin "make another key for the mesh"
  state=$root/var/lib/zoisite/mesh
  [ -s "$state/key" ] || fail "making another key for the mesh" "there is none yet"
  was=$(cat "$state/public" 2>/dev/null)
  attempt "taking the old key away" rm -f "$state/key"
  attempt "having zoisite-mesh.service make another key" systemctl reload zoisite-mesh.service
  if [ ! -s "$state/key" ] || [ "$(cat "$state/public" 2>/dev/null)" = "$was" ]; then
    fail "making another key for the mesh" "zoisite-mesh.service made none: journalctl -u zoisite-mesh tells why"
  fi
  changed
}
