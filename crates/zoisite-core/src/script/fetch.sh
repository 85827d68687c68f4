# A piece of a file, in base64: path, how many octets are there already, how many more at most.
fetch() {
  if [ ! -f "$1" ]; then
    say absent
    return
  fi
  say file "$(stat -Lc '%s %Y' "$1")"
  if [ "$2" = 0 ]; then say sum "$(sha256sum <"$1" | cut -d ' ' -f 1)"; fi
  tail -c +$(($2 + 1)) "$1" | head -c "$3" | base64 -w 4096 | awk '{ print "@\tdata\t" $0 }'
}
