# Files of components that this host has, given to others of its site for as long as a run takes: by their
# checksums, from an octet on. Nothing in them is secret. A timer ends it, whatever becomes of the run.
units=/run/systemd/system
relay=/run/zoisite-relay
relay_end="systemctl stop zoisite-relay.socket 'zoisite-relay@*.service'; rm -rf $relay $units/zoisite-relay.socket $units/zoisite-relay@.service; systemctl daemon-reload"
end_relay() { sh -c "$relay_end" 2>/dev/null; }
withdraw() {
  systemctl stop zoisite-relay-end.timer 2>/dev/null
  end_relay
}
# address, port, how long in seconds, checksum, path
offer() {
  case $1 in *:*) at="[$1]:$2" ;; *) at=$1:$2 ;; esac
  if ! systemctl is-active -q zoisite-relay.socket || ! grep -qxF "ListenStream=$at" "$units/zoisite-relay.socket" 2>/dev/null; then
    withdraw
    begin_relay "$3" || return
  fi
  grep -qxF "$4 $5" "$relay/list" || printf '%s %s\n' "$4" "$5" >>"$relay/list"
  say offers "$4"
}
begin_relay() {
  mkdir -p "$units" "$relay"
  chmod 0755 "$units" "$relay"
  : >"$relay/list"
  # Whoever asks names a checksum and an octet on one line; nothing else is given.
  cat >"$relay/give" <<'GIVE'
IFS=' ' read -r sum from
case $sum in '' | *[!0-9a-f]*) exit 1 ;; esac
case $from in '' | *[!0-9]*) exit 1 ;; esac
path=$(sed -n "s|^$sum ||p" /run/zoisite-relay/list | head -n 1)
if [ -n "$path" ]; then exec tail -c "+$((from + 1))" "$path"; fi
GIVE
  cat >"$units/zoisite-relay.socket" <<UNIT
[Unit]
Description=Zoisite gives files of components to hosts of this site
[Socket]
ListenStream=$at
Accept=yes
MaxConnections=16
TriggerLimitBurst=0
UNIT
  cat >"$units/zoisite-relay@.service" <<UNIT
[Unit]
Description=Zoisite gives a file of components
CollectMode=inactive-or-failed
[Service]
ExecStart=/bin/sh $relay/give
StandardInput=socket
StandardOutput=socket
StandardError=null
RuntimeMaxSec=1800
User=daemon
UNIT
  chmod 0644 "$relay/list" "$relay/give" "$units/zoisite-relay.socket" "$units/zoisite-relay@.service"
  systemctl daemon-reload
  # First what ends it: what is killed from here on leaves nothing that stays.
  if ! why=$(systemd-run --quiet --collect --unit=zoisite-relay-end --on-active="$1" /bin/sh -c "$relay_end" 2>&1) ||
    ! why=$(systemctl start zoisite-relay.socket 2>&1); then
    withdraw
    say cannot "$(one_line "$why" | cut -c 1-200)"
    return 1
  fi
}
