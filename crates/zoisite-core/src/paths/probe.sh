# Tries ports of other hosts, so many at once as a host bears.
# number, address, port, the word that must come back, or '-' where a real server answers
try() {
  # Connecting has a deadline of its own; what serves the port may be slow to start, and is given longer.
  # shellcheck disable=SC2016
  said=$(timeout -k 1 45 bash -c '
    (sleep 6; kill $$) >/dev/null 2>&1 &
    exec 3<>"/dev/tcp/$0/$1" || exit 1
    kill $!
    echo connected
    if [ "$2" = - ]; then exit 0; fi
    IFS= read -r -t 15 line <&3 || { echo mute; exit 0; }
    if [ "$line" != "zoisite $2" ]; then echo "other $line"; exit 0; fi
    head -c 16000 /dev/zero >&3
    IFS= read -r -t 10 line <&3 || { echo stuck there; exit 0; }
    if [ "$(timeout 10 head -c 16000 <&3 | wc -c)" != 16000 ]; then echo stuck back; exit 0; fi
    echo well' "$2" "$3" "$4" 2>&1)
  say tried "$1" "$(one_line "${said:-silent}" | cut -c 1-200)"
}
tries() {
  if ! command -v bash >/dev/null; then
    say without bash
    return
  fi
  n=0
  while read -r number address port word; do
    try "$number" "$address" "$port" "$word" </dev/null &
    n=$((n + 1))
    if [ $((n % 24)) = 0 ]; then wait; fi
  done
  wait
}
