# Asking the API endpoint, by openssl alone.
# name or address, port
placed() { case $1 in *:*) at="[$1]:$2" ;; *) at=$1:$2 ;; esac; }
api_at() {
  placed "$1" "$2"
  case $1 in *[!0-9.]*) check=-verify_hostname ;; *) check=-verify_ip ;; esac
  case $1 in *:*) check=-verify_ip ;; esac
}
# further options: what comes by standard input is sent, through TLS with the cluster's authority, and the answer told
asked() {
  timeout 20 openssl s_client -quiet -connect "$at" -CAfile "$authority" -verify_return_error "$@" 2>/dev/null
}
# file: the bearer of a token says so; nothing secret is an argument
bearer() {
  printf 'Authorization: Bearer '
  tr -d '\n' <"$1"
  printf '\r\n'
}
