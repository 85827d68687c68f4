# Leaves a report with the cluster itself, as its token or its certificate lets the host.
# host, the namespace, the API endpoint, its port, the authority's certificate, the kubelet's certificate, its token;
# the three are in the folder kept where they are not named; and addresses at which it is to be found too
post() {
  name=$1 namespace=$2 stable=$3 port=$4 places="$3 ${8:-}" authority=${5:-${kept:-}/authority} client=$6 token=${7:-${kept:-}/token}
  if [ ! -r "$authority" ] || [ ! -r "${report:-}" ]; then say unposted "it does not know the cluster yet"; return; fi
  api_at "$stable" "$port"
  body=$(
    printf '{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"%s","namespace":"%s"},"binaryData":{"report.gz":"' "$name" "$namespace"
    gzip -c <"$report" | base64 | tr -d '\n'
    printf '"}}'
  )
  head=$(printf 'PATCH /api/v1/namespaces/%s/configmaps/%s?fieldManager=zoisite-report&force=true HTTP/1.0\r\nHost: %s\r\nContent-Type: application/apply-patch+yaml\r\nContent-Length: %s' \
    "$namespace" "$name" "$stable" "${#body}")
  set -- "$check" "$stable"
  if openssl x509 -checkend 0 -noout -in "$client" >/dev/null 2>&1; then
    set -- "$@" -cert "$client" -key "$client"
  elif [ ! -r "$token" ]; then
    say unposted "it has neither a certificate nor a token"
    return
  fi
  # One that has no host's names yet dials where the name leads, and takes nobody else for it.
  for place in $places; do
    placed "$place" "$port"
    got=$({
      printf '%s\r\n' "$head"
      case " $* " in *" -cert "*) ;; *) bearer "$token" ;; esac
      printf '\r\n%s' "$body"
    } | asked "$@" | head -n 1 | tr -d '\r')
    case $got in *" 200"* | *" 201"*) say posted && return ;; esac
  done
  say unposted "${got:-no answer}"
}
