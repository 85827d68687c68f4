# One large file by descriptor 8, continued where an earlier copy broke off: path, checksum, size, mode, run,
# unit to restart or nothing. The host's lock is held only for putting it in its place.
upload() {
  begin "component $1"
  part="$1.zoisite-$2"
  attempt "making the folder of $1" mkdir -p "$(dirname "$1")"
  # What an earlier copy left is copied in turn: that one may still be at work on its own.
  have=0 best=/dev/null
  for old in "$part".*; do
    if [ ! -f "$old" ] || [ -L "$old" ]; then continue; fi
    size=$(stat -c %s "$old")
    if [ "$size" -gt "$have" ] && [ "$size" -le "$3" ]; then have=$size best=$old; fi
  done
  new="$part.$$"
  out=$(new_file "$new" 2>&1 <"$best") || { rm -f "$new"; fail "writing $1" "$out"; }
  have=$(stat -c %s "$new")
  say have "$have"
  out=$(cat 2>&1 >>"$new" <&8) || { rm -f "$new"; fail "writing $1" "$out"; }
  size=$(stat -c %s "$new")
  # Cut in the midst: what is there stays for the next copy.
  if [ "$size" -lt "$3" ]; then exit 1; fi
  sum=$(sha256sum <"$new" | cut -d ' ' -f 1)
  if [ "$sum" != "$2" ]; then
    rm -f "$part".*
    fail "checking $1" "its checksum is $sum after the copy, not $2"
  fi
  attempt "setting the mode of $1" chmod "$4" "$new"
  attempt "writing $1" sync "$new"
  lock "$5"
  record file "$1"
  [ -z "${6:-}" ] || ! systemctl is-active -q "$6" || pending "$6"
  attempt "replacing $1" mv -f "$new" "$1"
  rm -f "$part".*
  changed
}
