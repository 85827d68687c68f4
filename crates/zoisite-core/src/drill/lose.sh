# Losing something, and mending it by a timer of the host's own.
drill=$root/run/zoisite-drill
# A drill of before that has ended leaves nothing; one that goes on is not joined by another.
drill_begins() {
  if [ -e "$drill/mend" ]; then fail "beginning a drill" "another drill goes on here: it ends by itself"; fi
  rm -rf "$drill"
  attempt "making $drill" mkdir -p -m 0700 "$drill"
}
# seconds; how it is mended comes by standard input
mends_itself() {
  {
    printf '# Gives back what a drill took; the host runs it by itself.\n'
    cat
    printf 'rm -rf %s\n' "$drill"
  } | new_file "$drill/mend" || fail "writing $drill/mend" "it cannot be written"
  # One that was left by a drill of before is nobody's any more.
  systemctl reset-failed zoisite-drill.service 2>/dev/null
  attempt "having the host mend it by itself" systemd-run -q --collect --unit zoisite-drill --on-active="$1" \
    --timer-property=AccuracySec=100ms /bin/sh "$drill/mend"
}
# It cannot be lost: nothing is left of the try.
not_lost() {
  drill_over
  fail "$1" "$2"
}
drill_over() {
  systemctl stop zoisite-drill.timer 2>/dev/null
  if [ -e "$drill/mend" ]; then sh "$drill/mend" >/dev/null 2>&1; fi
}
# unit, seconds
lose_unit() {
  begin "stop $1"
  drill_begins
  [ "$(systemctl is-active "$1")" = active ] || fail "stopping $1" "it does not run"
  printf 'systemctl start --no-block %s\n' "$1" | mends_itself "$2"
  say progress "$step" lost
  out=$(systemctl stop "$1" 2>&1) || not_lost "stopping $1" "$out"
  changed
}
# own address, port of the login, seconds, floating address or '', whose word is not heard or ''
lose_network() {
  begin "cut off"
  drill_begins
  dev=$(ip -o address show to "$1" | awk '{ print $2; exit }')
  [ -n "$dev" ] || fail "cutting the host off" "no interface carries $1"
  command -v nft >/dev/null || fail "cutting the host off" "the host has no nft, the packet filter's tool (package nftables)"
  case $5 in *:*) family=ip6 ;; *) family=ip ;; esac
  {
    printf 'table inet zoisite_drill {\n'
    printf '  chain in {\n    type filter hook prerouting priority -310;\n    iifname "%s" tcp dport %s accept\n' "$dev" "$2"
    if [ -n "$5" ]; then
      printf '    iifname "%s" %s saddr %s drop\n  }\n' "$dev" "$family" "$5"
    else
      # The login's own neighbours are still looked for, and never where the floating address is.
      printf '    iifname "%s" icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept\n' "$dev"
      printf '    iifname "%s" drop\n  }\n' "$dev"
      printf '  chain out {\n    type filter hook postrouting priority -310;\n    oifname "%s" tcp sport %s accept\n' "$dev" "$2"
      case $4 in *:*) printf '    oifname "%s" ip6 saddr %s drop\n' "$dev" "$4" ;; esac
      printf '    oifname "%s" icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept\n' "$dev"
      printf '    oifname "%s" drop\n  }\n' "$dev"
    fi
    printf '}\n'
  } >"$drill/rules"
  # Whoever asks who has the floating address hears nothing of this host either (RFC 826).
  case $5$4 in
    '' | *:*) ;;
    *)
      if [ -z "$5" ]; then
        {
          printf 'table arp zoisite_drill {\n  chain in {\n    type filter hook input priority 0;\n    iifname "%s" arp daddr ip %s drop\n  }\n' "$dev" "$4"
          printf '  chain out {\n    type filter hook output priority 0;\n    oifname "%s" arp saddr ip %s drop\n  }\n}\n' "$dev" "$4"
        } >"$drill/more"
        if nft -c -f "$drill/more" 2>/dev/null; then cat "$drill/more" >>"$drill/rules"; fi
      fi
      ;;
  esac
  attempt "checking the rules" nft -c -f "$drill/rules"
  printf 'nft delete table inet zoisite_drill 2>/dev/null\nnft delete table arp zoisite_drill 2>/dev/null\n' | mends_itself "$3"
  say progress "$step" lost
  out=$(nft -f "$drill/rules" 2>&1) || not_lost "cutting the host off" "$out"
  changed
}
# The machine starts anew once this has been said.
lose_machine() {
  begin "start the machine anew"
  drill_begins
  rm -rf "$drill"
  attempt "having it start anew" systemd-run -q --collect --on-active=1 --timer-property=AccuracySec=100ms systemctl reboot
  say progress "$step" lost
  changed
}
# What was lost is given back now, if it is not already.
mend_drill() {
  begin "give back what was lost"
  if [ ! -e "$drill/mend" ]; then same; return; fi
  drill_over
  changed
}
