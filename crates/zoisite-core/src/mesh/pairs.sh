# What a host's interface of the mesh says of its peers, and whether they answer. Changes nothing; what is sent makes peers
# that have nothing to say shake hands.
# one line of an answer of wg(8): the field beside a key
beside() {
  printf '%s\n' "$1" | while read -r key value; do
    if [ "$key" = "$2" ]; then printf '%s' "$value"; fi
  done
}
# name, address: asked in a process of its own
answers() {
  # The port that throws away what it is given (RFC 863); nothing need listen there.
  # shellcheck disable=SC2016 # bash's own
  timeout 2 bash -c 'echo >"/dev/udp/$0/9"' "$2" 2>/dev/null
  rtt=- lost=-
  if command -v ping >/dev/null; then
    heard=$(ping -n -q -c 4 -i 0.25 -W 1 "$2" 2>/dev/null)
    # Those that do not know each other yet try to shake hands every five seconds.
    case $heard in *' 100% packet loss'*) heard=$(ping -n -q -c 16 -i 0.5 -W 1 "$2" 2>/dev/null) ;; esac
    lost=$(printf '%s\n' "$heard" | sed -n 's/.* \([0-9.]*\)% packet loss.*/\1/p')
    rtt=$(printf '%s\n' "$heard" | sed -n 's|^r[^=]*= [0-9.]*/\([0-9.]*\)/.*|\1|p')
  else
    sleep 1
  fi
  say answers "$1" "${rtt:--}" "${lost:--}"
}
# the interface; then name and address of each other host, in turn
pairs() {
  dev=$1
  shift
  if ! ip link show dev "$dev" >/dev/null 2>&1; then
    say unmeshed "there is no interface $dev"
    return
  fi
  if ! told=$(wg show "$dev" allowed-ips 2>&1); then
    say unmeshed "$(one_line "$told")"
    return
  fi
  before=$(wg show "$dev" transfer)
  all=$*
  # shellcheck disable=SC2086
  set -- $all
  while [ $# -ge 2 ]; do
    answers "$1" "$2" &
    shift 2
  done
  wait
  endpoints=$(wg show "$dev" endpoints)
  shaken=$(wg show "$dev" latest-handshakes)
  moved=$(wg show "$dev" transfer)
  now=$(date +%s)
  # shellcheck disable=SC2086
  set -- $all
  while [ $# -ge 2 ]; do
    key=$(printf '%s\n' "$told" | tr '\t' ' ' | grep -F -e " $2/32" -e " $2/128" | cut -d ' ' -f 1)
    if [ -n "$key" ]; then
      # shellcheck disable=SC2046
      say peer "$1" "$key" "$(beside "$endpoints" "$key")" "$(beside "$shaken" "$key")" $(beside "$moved" "$key") "$now" $(beside "$before" "$key")
    else
      say unknown-peer "$1"
    fi
    shift 2
  done
  say paired "$now"
}
