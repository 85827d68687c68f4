# Who dials this host at the port of the API endpoint, and who sends to the mesh's port, counted by the packet filter for a
# while. Nothing is held up.
callers=zoisite_callers
# what the packet filter lists of one of its sets, each a line
heard() {
  nft list set inet "$callers" "$1" 2>/dev/null | tr -d '\n' | sed -n 's/.*elements = {\([^}]*\)}.*/\1/p' |
    sed 's/ \. /#/g' | tr -d ' ' | tr ',' '\n'
  echo
}
# the interface, seconds: who has agreed on keys not longer ago, and who sends though nobody knows its key
meshed() {
  now=$(date +%s)
  wg show "$1" latest-handshakes 2>/dev/null | while read -r key at; do
    if [ "$((now - at))" -lt "$2" ]; then say met "$key"; fi
  done
  known=$(wg show "$1" endpoints 2>/dev/null | tr '\t' ' ')
  for who in knocks4 knocks6; do heard "$who"; done | while IFS='#' read -r who port; do
    case "$known " in *" $who:$port"[!0-9]* | *" [$who]:$port"[!0-9]*) continue ;; esac
    if [ -n "$who" ]; then say knocks "$who"; fi
  done
}
# seconds; ports, with a comma and a space between; the port of the mesh, its interface and after how many seconds it
# should have agreed on keys again, or nothing
callers() {
  if ! command -v nft >/dev/null; then
    say uncounted "there is no nft"
    return
  fi
  nft delete table inet "$callers" 2>/dev/null
  # Should this script be cut off, the host ends it by itself.
  systemctl stop zoisite-callers.timer 2>/dev/null
  systemctl reset-failed zoisite-callers.service 2>/dev/null
  if ! systemd-run --quiet --collect --unit=zoisite-callers --on-active="$(($1 + 30))" nft delete table inet "$callers" 2>/dev/null; then
    say uncounted "no timer could be set that ends it"
    return
  fi
  dials='' sends=''
  if [ -n "$2" ]; then
    dials="tcp dport { $2 } tcp flags & (syn | ack) == syn add @who4 { ip saddr }
    tcp dport { $2 } tcp flags & (syn | ack) == syn add @who6 { ip6 saddr }"
  fi
  if [ -n "${3:-}" ]; then
    sends="udp dport $3 add @knocks4 { ip saddr . udp sport }
    udp dport $3 add @knocks6 { ip6 saddr . udp sport }"
  fi
  rules="table inet $callers {
  set who4 { type ipv4_addr; flags dynamic; size 4096; }
  set who6 { type ipv6_addr; flags dynamic; size 4096; }
  set knocks4 { type ipv4_addr . inet_service; flags dynamic; size 4096; }
  set knocks6 { type ipv6_addr . inet_service; flags dynamic; size 4096; }
  chain in {
    type filter hook prerouting priority -310;
    $dials
    $sends
  }
}"
  if ! why=$(printf '%s\n' "$rules" | nft -f - 2>&1); then
    say uncounted "$(one_line "$why" | cut -c 1-200)"
    return
  fi
  sleep "$1"
  for who in who4 who6; do heard "$who"; done | while read -r who; do if [ -n "$who" ]; then say caller "$who"; fi; done
  if [ -n "${4:-}" ]; then meshed "$4" "$5"; fi
  nft delete table inet "$callers" 2>/dev/null
  systemctl stop zoisite-callers.timer 2>/dev/null
  say counted
}
