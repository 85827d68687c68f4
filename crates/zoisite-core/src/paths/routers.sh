# Whether IP protocol 112 (VRRP) comes through. No program of a host sends it on request: what goes to port 9
# (discard) of the others leaves as protocol 112, rewritten by the host's own packet filter before any rule about what
# may go out; and what comes of it is noted, after every rule about what may come in.
timer=zoisite-routers-end
# for how long; own address; the group, and its hardware's address, or '-' for both; the others
hear() {
  if ! command -v nft >/dev/null; then
    say unheard "there is no nft"
    return
  fi
  dev=$(ip -o address show to "$2" 2>/dev/null | awk '{ print $2; exit }')
  seconds=$1 group=$3 mac=$4
  shift 4
  systemctl stop "$timer.timer" 2>/dev/null
  nft delete table inet zoisite_routers 2>/dev/null
  if ! systemd-run --quiet --collect --service-type=oneshot --unit="$timer" --on-active="$seconds" /bin/sh -c \
    "nft delete table inet zoisite_routers; [ $mac = - ] || ip maddress del $mac dev $dev" 2>/dev/null; then
    say unheard "no timer could be set that ends it"
    return
  fi
  # What is for a group that nobody on the host has joined never comes in.
  hook='input priority 300'
  if [ "$group" != - ]; then
    hook='prerouting priority 300'
    ip maddress add "$mac" dev "$dev" 2>/dev/null
    set -- "$group"
  fi
  rules=$({
    printf 'table inet zoisite_routers {\n  set who4 { type ipv4_addr; flags dynamic; size 256; }\n  set who6 { type ipv6_addr; flags dynamic; size 256; }\n'
    printf '  chain out {\n    type filter hook output priority -300;\n'
    for other in "$@"; do
      case $other in
        *:*) printf '    ip6 daddr %s udp dport 9 ip6 hoplimit set 255 ip6 nexthdr set 112\n' "$other" ;;
        *) printf '    ip daddr %s udp dport 9 ip ttl set 255 ip protocol set 112\n' "$other" ;;
      esac
    done
    printf '  }\n  chain in {\n    type filter hook %s;\n' "$hook"
    printf '    ip protocol 112 add @who4 { ip saddr }\n    ip6 nexthdr 112 add @who6 { ip6 saddr }\n  }\n}\n'
  })
  if why=$(printf '%s\n' "$rules" | nft -f - 2>&1); then
    say hears
  else
    say unheard "$(one_line "$why" | cut -c 1-200)"
  fi
}
# own address; where to, some times: single packets may be lost
advertise() {
  if ! command -v bash >/dev/null; then
    say unsent "bash is not there to send with"
    return
  fi
  dev=$(ip -o address show to "$1" 2>/dev/null | awk '{ print $2; exit }')
  shift
  for turn in 1 2 3; do
    for to in "$@"; do
      case $to in ff*) to=$to%$dev ;; esac
      # shellcheck disable=SC2016
      if ! why=$(timeout 5 bash -c 'echo zoisite >"/dev/udp/$0/9"' "$to" 2>&1) && [ "$turn" = 3 ]; then
        say unsent "$(one_line "$why" | sed 's/.*: //' | cut -c 1-200)"
      fi
    done
    sleep 0.4
  done
}
told() {
  for who in who4 who6; do
    nft list set inet zoisite_routers "$who" 2>/dev/null | tr -d '\n' | sed -n 's/.*elements = {\([^}]*\)}.*/\1/p' | tr -d ' ' | tr ',' '\n'
    echo
  done | while read -r who; do if [ -n "$who" ]; then say router "$who"; fi; done
  # What would have ended it does so now, and is waited for (it is a oneshot).
  systemctl start "$timer.service" 2>/dev/null
  systemctl stop "$timer.timer" 2>/dev/null
}
