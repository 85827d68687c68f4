# All of this is one group of commands, which sh reads to its end before it begins: of a file that was cut nothing runs,
# and sh says so.
umask 077
export LC_ALL=C
# Every path of the host's own stands below this one, for tries in a folder of one's own.
root=${ZOISITE_ROOT:-}
known=$root/var/lib/zoisite/join
running=$root/run/zoisite
issue=$root/run/issue.d/zoisite.issue
dir=

# What a person at its own screen or serial line reads: now, and beside the next prompt to log in (agetty(8)).
tell() {
  printf '%s\n' "zoisite: $1"
  if [ -w /dev/console ]; then (printf '%s\r\n' "zoisite: $1" >/dev/console) 2>/dev/null & fi
}
show() {
  mkdir -p "${issue%/*}" 2>/dev/null && chmod 0755 "${issue%/*}" &&
    printf '%s: cluster %s, join file %s\n%s: %s\n\n' "$host" "$cluster" "$number" "$(date -u +%H:%M:%S)" "$1" >"$issue" 2>/dev/null &&
    chmod 0644 "$issue"
  tell "$1"
}
stop() {
  show "$1"
  if [ -n "${2:-}" ]; then tell "fix: $2"; fi
  exit "${3:-1}"
}
leave() {
  if [ -n "$dir" ]; then rm -rf "$dir"; fi
}
# key=value pairs of options
read_options() {
  while [ $# -gt 0 ]; do
    case $1 in
      --passphrase | --report | --wait)
        if [ $# -lt 2 ]; then stop "$1 wants something after it" "sh $file --help" 2; fi
        case $1 in --passphrase) passphrase_file=$2 ;; --report) report=$2 ;; *) wait=$2 ;; esac
        shift
        ;;
      --here) here=yes ;;
      -h | --help) usage && exit 0 ;;
      *) usage >&2 && stop "there is no option $1" '' 2 ;;
    esac
    shift
  done
  case $wait in '' | *[!0-9]*) stop "--wait wants seconds, not '$wait'" '' 2 ;; esac
}
usage() {
  cat <<HELP
Run as root on $host: sh ${file##*/} [OPTION…]
  --passphrase FILE  the host's passphrase; without it a file of the first boot, else it is asked for
  --report FILE      where its report goes [$report]
  --wait SECONDS     how long to watch it join [$wait]
  --here             this machine is $host, though neither its name nor its addresses say so
HELP
}

# Who signed, and until when: before anything of it is opened.
check_file() {
  for program in openssl sha256sum base64 gzip awk sed flock systemctl; do
    command -v "$program" >/dev/null || stop "$program is not there" "install its package, and run this again"
  done
  if ! is_signed "$file" "$dir" || [ "$(openssl pkey -pubin -in "$dir/signer" -outform DER 2>/dev/null | sha256sum | cut -c 1-64)" != "$by" ]; then
    stop "this join file was cut or altered: its signature does not hold" "carry it here again; nothing was done"
  fi
  if [ -r "$known/signer" ] && [ "$(cat "$known/signer")" != "$by" ]; then
    stop "this join file was signed by somebody else ($by) than this machine was told of" \
      "if the cluster's signer is another one now: rm $known/signer, and run this again"
  fi
  now=$(date +%s)
  if [ "$now" -lt $((made - 86400)) ]; then
    stop "this machine's clock is before the day on which the join file was made: $(date -u)" "set its clock; nothing was done"
  fi
  if [ "$now" -gt "$ends" ]; then
    stop "this join file ended on $(date -u -d "@$ends" 2>/dev/null || echo "second $ends")" \
      "zoisite join-file write makes another one; nothing was done"
  fi
}
# By what its first boot read, its name, or one of its addresses.
check_host() {
  if [ -n "$here" ]; then return; fi
  if [ -r "$known/host" ]; then
    told=$(cat "$known/host")
    # By its card, before it had a name.
    if [ "$told" = "$host" ] || [ "$told" = "$was" ]; then return; fi
    stop "this join file is for $host, and this machine was told that it is $told" "carry each file to its own machine; nothing was done"
  fi
  called=$(cat /proc/sys/kernel/hostname)
  if [ "${called%%.*}" = "$host" ]; then return; fi
  for address in $addresses; do
    if [ -n "$(ip -o address show to "$address" 2>/dev/null)" ]; then return; fi
  done
  stop "this join file is for $host, and this machine calls itself $called and has none of its addresses ($addresses)" \
    "carry each file to its own machine, or say --here; nothing was done"
}
# A file that is older than the last one would undo what that one did.
check_turn() {
  last=$(cat "$known/number" 2>/dev/null || echo 0)
  if [ "$last" -gt "$number" ]; then
    stop "this join file is number $number, and number $last was carried out here on $(cat "$known/carried" 2>/dev/null)" \
      "an older file is not carried out; nothing was done"
  fi
}
# Whether it was carried out before, and nothing is left of it to do: a join has its end with a node that is Ready.
was_done() {
  [ "$(cat "$known/number" 2>/dev/null)" = "$number" ] && [ -e "$known/carried" ] &&
    { [ -e "$known/ready" ] || [ ! -s "$dir/stages" ]; }
}
open_file() {
  [ -n "$passphrase_file" ] || passphrase_file=$known/passphrase
  if [ -r "$passphrase_file" ]; then
    tr -d ' \n\r\t-' <"$passphrase_file" | tr '[:upper:]' '[:lower:]' >"$dir/passphrase"
  elif (: </dev/tty) 2>/dev/null; then
    printf 'passphrase of %s: ' "$host" >/dev/tty
    stty -echo </dev/tty
    trap 'stty echo </dev/tty; leave' EXIT
    IFS= read -r passphrase </dev/tty
    stty echo </dev/tty
    trap leave EXIT
    printf '\n' >/dev/tty
    printf '%s' "$passphrase" | tr -d ' \n\r\t-' | tr '[:upper:]' '[:lower:]' >"$dir/passphrase"
    passphrase=
  else
    stop "the passphrase of $host cannot be asked for here" "name the file that holds it: --passphrase FILE"
  fi
  # What another signer sealed is not opened by it.
  printf '%s' "$by" >>"$dir/passphrase"
  sed -n '/^#sealed$/,$p' "$dir/signed" | sed 1d | base64 -d >"$dir/sealed" 2>/dev/null
  if ! openssl enc -d -aes-256-ctr -md sha256 -pbkdf2 -iter "$rounds" -pass "file:$dir/passphrase" -in "$dir/sealed" 2>/dev/null |
    gzip -d >"$dir/opened" 2>/dev/null || ! grep -q '^#-- zoisite end$' "$dir/opened"; then
    stop "the passphrase does not open this join file" "zoisite join-file passphrase $host, where it was written, shows it; nothing was done"
  fi
  rm -f "$dir/passphrase" "$dir/sealed" "$dir/signed"
  for part in pads act look survey stages authority token post; do
    awk -v part="$part" '/^#-- zoisite /{ on = ($3 == part); next } on' "$dir/opened" >"$dir/$part"
  done
  rm -f "$dir/opened"
}

# What it says is the very text that a run over SSH reads; what a person follows are its steps.
follow() {
  tab=$(printf '\t')
  while IFS= read -r line; do
    printf '%s\n' "$line" >>"$dir/said"
    case $line in
      "@${tab}begin$tab"*) what=${line#"@${tab}begin$tab"} && what=${what#*"$tab"} ;;
      "@${tab}changed$tab"*) tell "$what" ;;
      "@${tab}failed$tab"*) printf '%s\n' "${line#"@${tab}failed$tab"}" | sed "s/^[0-9]*$tab//; s/$tab/: /" >"$dir/failed" ;;
      "@${tab}busy"*) echo "another run is at work on this machine" >"$dir/failed" ;;
      "@${tab}newer$tab"*) echo "a newer run was here: ${line##*"$tab"}" >"$dir/failed" ;;
      "@${tab}asked") : >"$dir/asked" ;;
      "@${tab}end") : >"$dir/ended" ;;
    esac
  done
}
act() {
  rm -f "$dir/ended" "$dir/failed" "$dir/asked"
  : >"$dir/said"
  folder=$(cd "$(dirname "$file")" && pwd)
  along=$folder/components sh "$dir/act" 2>"$dir/errors" | follow
  if [ ! -e "$dir/ended" ] && [ ! -s "$dir/failed" ]; then
    { echo "it ended before it was done:"; tail -n 3 "$dir/errors"; } | tr '\n' ' ' >"$dir/failed"
  fi
  [ ! -s "$dir/failed" ]
}
stages() { sh "$dir/stages" >"$dir/stands" 2>/dev/null; }
# The stage that it is at: the first that is not passed. Ready is what says so itself, not what tells of nothing else.
at_stage() {
  awk -F '\t' '
    $2 == "stage" && !found { last = $3; if ($4 != "yes") { print $3 ": " $5; found = 1 } }
    END {
      if (found) exit
      if (last == "Ready") print "Ready"
      else print "how far it is was not told" (last == "" ? "" : ", but that " last " is passed")
    }' "$dir/stands"
}
watch_joining() {
  end=$(($(date +%s) + wait))
  before=
  while :; do
    stages
    at=$(at_stage)
    if [ "$at" != "$before" ]; then show "$at"; fi
    before=$at
    if [ "$at" = Ready ]; then : >"$known/ready"; fi
    if [ "$at" = Ready ] || [ "$(date +%s)" -ge "$end" ]; then return; fi
    sleep 3
  done
}

# Its report: facts, each step's result, how far it has come; with a seal by its own passphrase (RFC 2104, with SHA-256), and
# counted, so that neither a forged nor an old one is taken for it.
write_report() {
  count=$(($(cat "$known/count" 2>/dev/null || echo 0) + 1))
  echo "$count" >"$known/count.new" && mv "$known/count.new" "$known/count"
  sh "$dir/look" >"$dir/looked" 2>/dev/null
  # What it is like is asked once: that takes its time.
  [ -e "$dir/surveyed" ] || sh "$dir/survey" >"$dir/surveyed" 2>/dev/null
  {
    printf 'Zoisite report, form 1\nhost %s\ncluster %s\nnumber %s\ncount %s\nat %s\noutcome %s\n' \
      "$host" "$id" "$number" "$count" "$(date +%s)" "$1"
    for part in said stands looked surveyed; do printf '#-- %s\n' "$part" && cat "$dir/$part" 2>/dev/null; done
    printf '#-- end\n'
  } >"$dir/report"
  { read -r inner && read -r outer; } <"$dir/pads"
  sum=$({ printf '%b' "$inner" && cat "$dir/report"; } | sha256sum | awk '
    BEGIN { for (i = 0; i < 256; i++) octal[sprintf("%02x", i)] = sprintf("\\0%03o", i) }
    { for (i = 1; i < 64; i += 2) printf "%s", octal[substr($1, i, 2)] }')
  sum=$({ printf '%b' "$outer" && printf '%b' "$sum"; } | sha256sum)
  printf 'seal %s\n' "${sum%% *}" >>"$dir/report"
  # One stays here, for whoever carries none away.
  cp "$dir/report" "$known/$host.report"
  if ! cp "$dir/report" "$report.new" 2>/dev/null || ! mv "$report.new" "$report"; then
    report=$known/$host.report
  fi
  posted=
  if [ -s "$dir/post" ] && kept=$dir report=$known/$host.report sh "$dir/post" 2>/dev/null | grep -q "^@$(printf '\t')posted"; then
    posted=yes
    tell "its report is with the cluster (zoisite reports fetch), and here: $report"
  else
    tell "its report is $report: carry it back, and give it to zoisite reports read"
  fi
}

main() {
  file=$0 passphrase_file='' report=${0%.join}.report wait=600 here=''
  if [ ! -f "$file" ] || ! grep -q '^#signature$' "$file"; then
    echo "zoisite: a join file is run from a file that is whole: sh $host.join" >&2
    exit 2
  fi
  read_options "$@"
  if [ -z "$root" ] && [ "$(id -u)" != 0 ]; then
    echo "zoisite: this wants to be root: sudo sh $file" >&2
    exit 1
  fi
  mkdir -p "$known" "$running"
  exec 7>"$running/join.lock"
  if ! flock -n 7; then
    echo "zoisite: a join file is at work here: this one waits for it; $issue shows how far that is" >&2
    flock -w 3600 7 || exit 1
  fi
  # What one that was killed left.
  rm -rf "$running"/join.??????
  dir=$(mktemp -d "$running/join.XXXXXX") || exit 1
  trap leave EXIT
  trap 'exit 130' INT TERM HUP
  check_file
  check_host
  check_turn
  open_file
  # From the first one that its passphrase opened on, it believes that signer alone.
  printf '%s\n' "$by" >"$known/signer" && printf '%s\n' "$host" >"$known/host"
  : >"$dir/said"
  if [ ! -s "$dir/act" ]; then
    show "looks at itself, and changes nothing"
    outcome=looked
  elif was_done; then
    show "this join file was carried out on $(cat "$known/carried"): nothing is done again"
    outcome=again
  else
    show "begins with join file $number"
    printf '%s\n' "$number" >"$known/number"
    rm -f "$known/carried" "$known/ready"
    if ! act; then
      outcome=failed
      show "$(cat "$dir/failed")"
    elif [ -e "$dir/asked" ]; then
      outcome=asked
    else
      date -u +%Y-%m-%dT%H:%M:%SZ >"$known/carried"
      outcome='done'
    fi
  fi
  if [ -s "$dir/stages" ]; then
    # Where it waits, somebody should hear of it meanwhile.
    if [ "$outcome" = 'done' ] && stages && [ "$(at_stage)" != Ready ]; then write_report "$outcome"; fi
    case $outcome in
      looked | failed) stages ;;
      asked)
        stages
        show "it made its keys, and asks for them to be signed: its report tells it (zoisite reports read), and the next join file brings what was signed; $(at_stage)"
        ;;
      *) watch_joining ;;
    esac
  fi
  write_report "$outcome"
  # Whoever had it run goes on with the next file.
  case $outcome in failed) exit 1 ;; asked) exit 3 ;; esac
  # Nobody hears of a machine that could not tell anybody: whoever had it run runs it again.
  if [ -s "$dir/token" ] && [ -z "$posted" ]; then exit 3; fi
  if [ -s "$dir/stages" ] && [ "$outcome" != looked ] && [ "$(at_stage)" != Ready ]; then exit 3; fi
}
