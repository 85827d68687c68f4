# Losing something, and fixing it by a timer of the host's own.
drill=$root/run/zoisite-drill
# A drill of before that has ended leaves nothing; one that goes on is not joined by another.
drill_begins() {
  if [ -e "$drill/fix" ]; then fail "beginning a drill" "another drill goes on here: it ends by itself"; fi
  rm -rf "$drill"
  attempt "making $drill" mkdir -p -m 0700 "$drill"
}
# seconds, how it is fixed. (Not by standard input: in a pipeline a failure would not end the script, and what no timer
# gives back would be lost.)
fixes_itself() {
  {
    printf '# Gives back what a drill took; the host runs it by itself.\n%s\n' "$2"
    printf 'rm -rf %s\n' "$drill"
  } | new_file "$drill/fix" || fail "writing $drill/fix" "it cannot be written"
  # One that was left by a drill of before is nobody's any more.
  systemctl reset-failed zoisite-drill.service 2>/dev/null
  attempt "having the host fix it by itself" systemd-run -q --collect --unit zoisite-drill --on-active="$1" \
    --timer-property=AccuracySec=100ms /bin/sh "$drill/fix"
}
# It cannot be lost: nothing is left of the try.
not_lost() {
  drill_over
  fail "$1" "$2"
}
drill_over() {
  systemctl stop zoisite-drill.timer 2>/dev/null
  if [ -e "$drill/fix" ]; then sh "$drill/fix" >/dev/null 2>&1; fi
}
# unit, seconds
lose_unit() {
  begin "stop $1"
  drill_begins
  [ "$(systemctl is-active "$1")" = active ] || fail "stopping $1" "it does not run"
  # Where it takes longer to stop than the drill lasts, it stops first: a start in the midst would cancel that.
  fixes_itself "$2" "while [ \"\$(systemctl is-active $1)\" = deactivating ]; do sleep 0.2; done
systemctl start --no-block $1"
  say progress "$step" lost
  out=$(systemctl stop "$1" 2>&1) || not_lost "stopping $1" "$out"
  changed
}
# own address, port of the login, seconds, virtual IP or '', whose word is not heard or ''
lose_network() {
  begin "cut off"
  drill_begins
  dev=$(ip -o address show to "$1" | awk '{ print $2; exit }')
  [ -n "$dev" ] || fail "cutting the host off" "no interface carries $1"
  command -v nft >/dev/null || fail "cutting the host off" "the host has no nft, the packet filter's tool (package nftables)"
  # Below everything, so that what programs send past the rest is cut too: who holds an address tells it that way.
  rules netdev "hook ingress device \"$dev\"" "hook egress device \"$dev\"" "$@" >"$drill/rules"
  if ! nft -c -f "$drill/rules" 2>/dev/null; then
    # Older kernels do not filter there.
    rules inet 'hook prerouting' 'hook postrouting' "$@" >"$drill/rules"
  fi
  attempt "checking the rules" nft -c -f "$drill/rules"
  fixes_itself "$3" 'nft delete table netdev zoisite_drill 2>/dev/null
nft delete table inet zoisite_drill 2>/dev/null'
  say progress "$step" lost
  out=$(nft -f "$drill/rules" 2>&1) || not_lost "cutting the host off" "$out"
  changed
}
# family, the way in, the way out; then as above
rules() {
  family=$1 own=$4 login=$5 virtual_ip=$7 from=$8
  printf 'table %s zoisite_drill {\n  chain in {\n    type filter %s priority -310;\n' "$family" "$2"
  only=
  if [ "$family" = inet ]; then only="iifname \"$dev\" "; fi
  printf '    %stcp dport %s accept\n' "$only" "$login"
  if [ -n "$from" ]; then
    case $from in *:*) printf '    %sip6 saddr %s drop\n  }\n}\n' "$only" "$from" ;; *) printf '    %sip saddr %s drop\n  }\n}\n' "$only" "$from" ;; esac
    return
  fi
  # The login's neighbours still find this host, and never where the virtual IP is (RFC 826, RFC 4861).
  near='icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept'
  arp=
  case "$family $own" in 'inet '* | *:*) ;; *) arp="ip $own accept" ;; esac
  if [ -n "$arp" ]; then printf '    arp daddr %s\n' "$arp"; fi
  printf '    %s%s\n    %sdrop\n  }\n' "$only" "$near" "$only"
  printf '  chain out {\n    type filter %s priority -310;\n' "$3"
  if [ "$family" = inet ]; then only="oifname \"$dev\" "; fi
  printf '    %stcp sport %s accept\n' "$only" "$login"
  if [ -n "$arp" ]; then printf '    arp saddr %s\n' "$arp"; fi
  case $virtual_ip in *:*) printf '    %sip6 saddr %s drop\n' "$only" "$virtual_ip" ;; esac
  printf '    %s%s\n    %sdrop\n  }\n}\n' "$only" "$near" "$only"
}
# The machine starts again once this has been said.
lose_machine() {
  begin "start the machine again"
  drill_begins
  rm -rf "$drill"
  attempt "having it start again" systemd-run -q --collect --on-active=1 --timer-property=AccuracySec=100ms systemctl reboot
  say progress "$step" lost
  changed
}
# What was lost is given back now, if it is not already.
fix_drill() {
  begin "give back what was lost"
  if [ ! -e "$drill/fix" ]; then same; return; fi
  drill_over
  changed
}
