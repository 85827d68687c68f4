# What is sent by UDP to other hosts, where each is found from outside, and what of it arrives.
# the trial's word and who sends; by standard input the name or address and the port of each, in turn
sends() {
  if ! command -v bash >/dev/null; then
    say unsent - "bash is not there to send with"
    return
  fi
  ends=$(cat)
  # Some times: single datagrams may be lost.
  for turn in 1 2 3; do
    printf '%s\n' "$ends" | while read -r end port; do
      # shellcheck disable=SC2016
      if ! why=$(timeout 5 bash -c 'echo "zoisite $2" >"/dev/udp/$0/$1"' "$end" "$port" "$1" 2>&1) && [ "$turn" = 3 ]; then
        say unsent "$end" "$(one_line "${why:-no answer within 5 s}" | sed 's/.*: //' | cut -c 1-200)"
      fi
    done
    sleep 0.4
  done
}
# the trial's word; where what arrives is kept
arrived() {
  while read -r us word from; do
    if [ "$us $word" = "zoisite $1" ]; then say heard "$from"; fi
  done <"$2" 2>/dev/null
}
