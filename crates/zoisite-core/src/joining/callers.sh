# Who dials this host at the port of the stable address, counted by the packet filter for a while. Nothing is held up.
callers=zoisite_callers
# seconds, port
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
  rules="table inet $callers {
  set who4 { type ipv4_addr; flags dynamic; size 4096; }
  set who6 { type ipv6_addr; flags dynamic; size 4096; }
  chain in {
    type filter hook prerouting priority -310;
    tcp dport $2 tcp flags & (syn | ack) == syn add @who4 { ip saddr }
    tcp dport $2 tcp flags & (syn | ack) == syn add @who6 { ip6 saddr }
  }
}"
  if ! why=$(printf '%s\n' "$rules" | nft -f - 2>&1); then
    say uncounted "$(one_line "$why" | cut -c 1-200)"
    return
  fi
  sleep "$1"
  for who in who4 who6; do
    nft list set inet "$callers" "$who" 2>/dev/null | tr -d '\n' | sed -n 's/.*elements = {\([^}]*\)}.*/\1/p' | tr -d ' ' | tr ',' '\n'
    echo
  done | while read -r who; do if [ -n "$who" ]; then say caller "$who"; fi; done
  nft delete table inet "$callers" 2>/dev/null
  systemctl stop zoisite-callers.timer 2>/dev/null
  say counted
}
