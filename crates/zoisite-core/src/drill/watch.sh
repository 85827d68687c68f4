# Watching while something is lost: each line carries the host's own time, in milliseconds.
ms() { t=$(date +%s%N) && echo "${t%??????}"; }
# number, host, port
dial() {
  at=$(ms)
  # shellcheck disable=SC2016
  if why=$(timeout 2 bash -c 'exec 3<>"/dev/tcp/$0/$1"' "$2" "$3" 2>&1); then
    say dialled "$1" "$at" "$(ms)"
  else
    why=$(printf '%s' "$why" | head -n 1)
    why=${why##*: }
    say dialled "$1" "$at" "$(ms)" "$(one_line "${why:-no answer within 2 seconds}")"
  fi
}
# seconds, the virtual IP or ''; then pairs of host and port that are dialled
watch() {
  end=$(($(ms) + $1 * 1000))
  virtual_ip=$2
  shift 2
  was=
  say clock "$(ms)"
  while [ "$(ms)" -lt "$end" ]; do
    # Once nobody listens, nothing is said to nobody.
    say beat "$(ms)" || exit 0
    if [ -n "$virtual_ip" ]; then
      if [ -n "$(ip -o address show to "$virtual_ip" 2>/dev/null)" ]; then is=yes; else is=no; fi
      if [ "$is" != "$was" ]; then say held "$(ms)" "$is"; fi
      was=$is
    fi
    each "$@"
    sleep 0.25
  done
  wait
}
each() {
  number=0
  while [ $# -gt 1 ]; do
    dial "$number" "$1" "$2" &
    number=$((number + 1))
    shift 2
  done
}
