# A trial of a snapshot here: a member of its own is started from it, heard by nobody else, and asked what it holds.
trial=$root/var/lib/zoisite/trial
end_trial() {
  systemctl stop zoisite-trial-end.timer zoisite-trial.service 2>/dev/null
  rm -rf "$trial"
}
# octets: whether there is room, and for what; what an earlier trial left goes
begin_trial() {
  end_trial
  mkdir -p "$state"
  if ! why=$(mkdir -m 0700 "$trial" 2>&1); then
    say cannot "$(one_line "$why")"
    return
  fi
  # Whatever becomes of the run, nothing stays that is in the clear.
  if ! why=$(systemd-run --quiet --collect --unit=zoisite-trial-end --on-active=4h \
    /bin/sh -c "systemctl stop zoisite-trial.service; rm -rf $trial" 2>&1); then
    end_trial
    say cannot "$(one_line "$why")"
    return
  fi
  # The stream, the data that is made of it, what a member adds while it starts, and programs.
  needs=$(($1 * 3 / 1024 + 262144))
  room=$(df -Pk "$trial" | sed -n '2s/^[^ ]* *[0-9]* *[0-9]* *\([0-9]*\).*/\1/p')
  if [ "$room" -lt "$needs" ]; then
    end_trial
    say cannot "$((room / 1024)) MiB are free below /var/lib, and a trial needs $((needs / 1024))"
  fi
}
# revision, what starts the member and asks it: what it says of everything up to there
try_snapshot() {
  systemctl stop zoisite-trial.service 2>/dev/null
  if ! why=$(printf '%s' "$2" 2>&1 >"$trial/run"); then
    say cannot "$(one_line "$why")"
    return
  fi
  # Its network is its own: nobody else on this host reaches it.
  systemd-run --quiet --pipe --wait --collect --unit=zoisite-trial --property=PrivateNetwork=yes \
    --property=RuntimeMaxSec=3600 /bin/sh "$trial/run" "$trial" "$1" ||
    say cannot "systemd ran it, and it ended with $?"
}
