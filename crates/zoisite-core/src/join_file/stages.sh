# How far this host has come in joining, each stage with what shows it.
stage() { say stage "$1" "$2" "$(one_line "$3" | tail -c 300)"; }
# Whether anybody answers it in the mesh: the interface. Who does not know its key says nothing at all.
meshed() {
  if ! peers=$(wg show "$1" latest-handshakes 2>&1); then
    stage mesh no "it is not in the mesh: $peers"
    return 1
  fi
  agreed=$(printf '%s\n' "$peers" | awk -v now="$(date +%s)" 'NF == 2 { n++; if ($2 > 0 && now - $2 < 180) k++ } END { print k + 0, n + 0 }')
  key=$(wg show "$1" public-key 2>/dev/null)
  case $agreed in
    '0 0') stage mesh no "it was told of nobody else: zoisite join-file write makes a newer file" ;;
    '0 '*) stage mesh open "none of ${agreed#* } answers: do they know its key, $key? Its report tells it: zoisite reports read, then zoisite raise" ;;
    *) stage mesh yes "${agreed% *} of ${agreed#* } answer it by its key, $key" && return 0 ;;
  esac
  return 1
}
# host, its addresses, the API endpoint, its port, the authority's certificate, the kubelet's certificate, its token,
# the mesh's interface where there is one
stages() {
  name=$1 addresses=$2 stable=$3 port=$4 authority=$5 client=$6 token=$7 device=$8
  api_at "$stable" "$port"
  stage booted yes "for $(cut -d . -f 1 /proc/uptime) s, kernel $(uname -r)"
  has='' lacks=''
  for address in $addresses; do
    on=$(ip -o address show to "$address" 2>/dev/null | awk '{ print $2; exit }')
    if [ -n "$on" ]; then has="$has $address on $on"; else lacks="$lacks $address"; fi
  done
  if [ -n "$has" ]; then
    stage address yes "${has# }"
  else
    stage address no "it has none of$lacks, but $(ip -o address show scope global 2>/dev/null | awk '{ print $4 }' | tr '\n' ' ')"
    return
  fi
  if [ -n "$device" ] && ! meshed "$device"; then return; fi
  leads=$(getent ahosts "$stable" 2>/dev/null | awk '{ print $1; exit }')
  if [ -z "$leads" ]; then stage name no "it finds no address for $stable"; return; fi
  stage name yes "$stable is $leads"
  if route=$(ip route get "$leads" 2>&1); then
    stage route yes "$(printf '%s' "$route" | head -n 1)"
  else
    stage route no "$route"
    return
  fi
  if [ -r "$authority" ]; then set -- -CAfile "$authority" -verify_return_error "$check" "$stable"; else set --; fi
  tried=$(timeout 15 openssl s_client -connect "$at" "$@" </dev/null 2>&1)
  case $tried in
    *CONNECTED*) stage port yes "$at lets it in" ;;
    *)
      why=$(printf '%s\n' "$tried" | grep -io 'connection refused\|connection timed out\|no route to host\|network is unreachable' | head -n 1)
      stage port no "$at: ${why:-no answer within 15 s}"
      return
      ;;
  esac
  if [ ! -r "$authority" ]; then
    stage authority open "the certificate by which it would know the cluster is not here yet"
    return
  fi
  case $tried in
    *"no peer certificate"*)
      stage authority no "$at lets it in, and says nothing: what is behind it cannot be reached"
      return
      ;;
    *"Verify return code: 0 (ok)"* | *"Verification: OK"*) stage authority yes "who answers shows a certificate of the cluster's authority" ;;
    *)
      why=$(printf '%s\n' "$tried" | sed -n 's/^verify error:num=[0-9]*://p; s/^ *Verify return code: [0-9]* (\(.*\))/\1/p' | head -n 1)
      by=$(printf '%s\n' "$tried" | sed -n 's/^ *issuer=//p' | head -n 1)
      stage authority no "who answers shows a certificate of ${by:-somebody else}: ${why:-it does not hold}"
      return
      ;;
  esac
  if openssl x509 -checkend 0 -noout -in "$client" >/dev/null 2>&1; then
    stage token yes "it needs none any more"
    stage kubelet yes "$(systemctl is-active zoisite-kubelet.service 2>/dev/null)"
    stage signed yes "until $(openssl x509 -enddate -noout -in "$client" 2>/dev/null | sed 's/^notAfter=//')"
    rm -f "$token"
  else
    if [ ! -r "$token" ]; then stage token no "it has none"; return; fi
    got=$({
      printf 'GET /version HTTP/1.0\r\nHost: %s\r\n' "$stable"
      bearer "$token"
      printf '\r\n'
    } | asked "$check" "$stable" | head -n 1)
    case $got in
      *" 401 "*) stage token no "the cluster does not know its token, or that has ended"; return ;;
      HTTP/*) stage token yes "the cluster knows its token" ;;
      *) stage token no "no answer: ${got:-nothing came back}"; return ;;
    esac
    if systemctl is-active -q zoisite-kubelet.service; then
      stage kubelet yes "it runs, and asks"
    else
      # What it says itself; the rest is systemd's.
      stage kubelet no "it does not run: $(journalctl -u zoisite-kubelet.service -n 12 -o cat --no-pager 2>/dev/null | grep -v zoisite-kubelet | tail -n 1)"
      return
    fi
    stage signed open "its request waits: zoisite raise checks and signs it"
    return
  fi
  got=$(printf 'GET /api/v1/nodes/%s HTTP/1.0\r\nHost: %s\r\nAccept: application/json\r\n\r\n' "$name" "$stable" |
    asked "$check" "$stable" -cert "$client" -key "$client")
  case $got in
    *" 404 "*) stage registered open "its kubelet has not registered it yet"; return ;;
    HTTP/*" 200 "*) stage registered yes "the cluster has its node" ;;
    HTTP/*) stage registered no "the cluster answers: $(printf '%s' "$got" | head -n 1)"; return ;;
    *) stage registered open "no answer yet"; return ;;
  esac
  # One condition an object: the one of the type Ready.
  ready=$(printf '%s' "$got" | tr -d '\n\r' | tr '{' '\n' | grep '"type":"Ready"' | head -n 1)
  case $ready in
    *'"status":"True"'*) stage Ready yes "its node is Ready" ;;
    *) stage Ready open "its node is not Ready: $(printf '%s' "$ready" | sed -n 's/.*"message":"\([^"]*\)".*/\1/p')" ;;
  esac
}
