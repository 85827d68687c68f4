# Ports that are served for a few minutes by systemd, so that others can try them. Each says who it is, takes a
# large packet and gives one. Whatever crashes here or elsewhere, a timer ends them.
units=/run/systemd/system
timer=zoisite-path-end
# What takes everything away again. (systemd would read a '$' in it as its own.)
heard=/run/zoisite-path.heard
end_all="systemctl stop 'zoisite-path-*.socket' 'zoisite-path-*@*.service'; systemctl reset-failed 'zoisite-path-*@*.service' 'zoisite-path-*.socket'; rm -f $units/zoisite-path-* $heard; systemctl daemon-reload"
end_paths() { sh -c "$end_all" 2>/dev/null; }
# how long, in seconds: another trial is waited for, then nothing of an older one stays
begin_paths() {
  seconds=$1
  waited=0
  while systemctl is-active -q "$timer.timer" "$timer.service" && [ "$waited" -lt $((seconds + 10)) ]; do
    # Whoever waits for this hears that it still waits.
    if [ $((waited % 5)) = 0 ]; then say now "another trial of paths, which ends by itself"; fi
    sleep 1
    waited=$((waited + 1))
  done
  end_paths
  mkdir -p "$units"
}
# number, address, port, word: writes a unit, unless somebody has that port
serve() {
  taken=$(ss -Hltnp "sport = :$3" 2>/dev/null | awk -v at="$2" '
    { here = $4; sub(/:[0-9]+$/, "", here); gsub(/[][]/, "", here); sub(/%.*/, "", here) }
    here == at || here == "0.0.0.0" || here == "*" || here == "::" { print; exit }')
  if [ -n "$taken" ]; then
    pid=$(printf '%s' "$taken" | sed -n 's/.*pid=\([0-9]*\).*/\1/p')
    group=$(sed -n 's/^0:://p; s/^1:name=systemd://p' "/proc/${pid:-0}/cgroup" 2>/dev/null | head -n 1)
    say taken "$1" "$(printf '%s' "$taken" | sed -n 's/.*(("\([^"]*\)".*/\1/p')" "${group##*/}"
    return
  fi
  name=zoisite-path-$1
  case $2 in *:*) at="[$2]:$3" ;; *) at=$2:$3 ;; esac
  cat >"$units/$name.socket" <<UNIT
[Unit]
Description=Zoisite tries whether this port is reached
[Socket]
ListenStream=$at
Accept=yes
MaxConnections=512
TriggerLimitBurst=0
UNIT
  cat >"$units/$name@.service" <<UNIT
[Unit]
Description=Zoisite answers whoever tries this port
CollectMode=inactive-or-failed
[Service]
ExecStart=/bin/sh -c 'echo "zoisite $4"; echo "got \$(head -c 16000 | wc -c)"; head -c 16000 /dev/zero'
StandardInput=socket
StandardOutput=socket
StandardError=null
RuntimeMaxSec=60
User=daemon
UNIT
  chmod 0644 "$units/$name.socket" "$units/$name@.service"
  served="${served:-} $1"
}
# number, port, the interface and the unit of the mesh: writes a unit that keeps what arrives by UDP, unless the mesh has it
serve_datagrams() {
  if ip link show dev "$3" >/dev/null 2>&1; then
    say taken "$1" - "$4"
    return
  fi
  taken=$(ss -Hlunp "sport = :$2" 2>/dev/null | head -n 1)
  if [ -n "$taken" ]; then
    say taken "$1" "$(printf '%s' "$taken" | sed -n 's/.*(("\([^"]*\)".*/\1/p')" ''
    return
  fi
  name=zoisite-path-$1
  cat >"$units/$name.socket" <<UNIT
[Unit]
Description=Zoisite tries whether datagrams arrive here
[Socket]
ListenDatagram=$2
Service=$name@udp.service
TriggerLimitBurst=0
UNIT
  cat >"$units/$name@.service" <<UNIT
[Unit]
Description=Zoisite keeps what arrives
[Service]
ExecStart=/bin/cat
StandardInput=socket
StandardOutput=file:$heard
StandardError=null
RuntimeMaxSec=120
UNIT
  chmod 0644 "$units/$name.socket" "$units/$name@.service"
  served="${served:-} $1"
}
# how long
start_paths() {
  # Where nothing is served there is nothing to end, and the next trial need not wait for that.
  if [ -z "${served:-}" ]; then return; fi
  systemctl daemon-reload
  # First what ends it: what is killed from here on leaves nothing that stays.
  if ! systemd-run --quiet --collect --unit="$timer" --on-active="$1" /bin/sh -c "$end_all" 2>/dev/null; then
    end_paths
    say untimed
    return
  fi
  for one in ${served:-}; do
    if why=$(systemctl start "zoisite-path-$one.socket" 2>&1); then
      say listens "$one"
    else
      say failed "$one" "$(one_line "$why" | cut -c 1-200)"
    fi
  done
}
stop_paths() {
  end_paths
  systemctl stop "$timer.timer" 2>/dev/null
}
