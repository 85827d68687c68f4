# One large file by standard input: path, checksum, mode, unit to restart or nothing.
upload() {
  begin "component $1"
  new="$1.zoisite-new"
  attempt "making the folder of $1" mkdir -p "$(dirname "$1")"
  out=$(new_file "$new" 2>&1) || { rm -f "$new"; fail "writing $1" "$out"; }
  sum=$(sha256sum <"$new" | cut -d ' ' -f 1)
  if [ "$sum" != "$2" ]; then
    rm -f "$new"
    fail "checking $1" "its checksum is $sum after the copy, not $2"
  fi
  record file "$1"
  attempt "setting the mode of $1" chmod "$3" "$new"
  attempt "writing $1" sync "$new"
  [ -z "${4:-}" ] || ! systemctl is-active -q "$4" || pending "$4"
  attempt "replacing $1" mv -f "$new" "$1"
  changed
}
