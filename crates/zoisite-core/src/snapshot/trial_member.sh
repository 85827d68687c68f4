# Starts a member from a snapshot in a folder, in a network of its own, and asks it what it holds: folder, revision.
trial=$1
rm -rf "$trial/data"
peer=http://127.0.0.1:2380 clients=http://127.0.0.1:2379
last() { grep -v '^ *$' "$1" | tail -n 1 | tr '\t' ' ' | cut -c 1-400; }
ask() { "$trial/etcdctl" --endpoints "$clients" --command-timeout 60s "$@"; }
bad() {
  printf '@\tbad\t%s\n' "$1"
  exit
}
# It is heard that it goes on.
(while sleep 5; do printf '@\tgoes-on\n'; done) &
"$trial/etcdutl" snapshot restore "$trial/stream" --name trial --initial-cluster "trial=$peer" \
  --initial-advertise-peer-urls "$peer" --initial-cluster-token trial --data-dir "$trial/data" \
  >"$trial/said" 2>&1 || bad "etcd's own program refuses it: $(last "$trial/said")"
# What is thrown away need not outlast a power cut.
"$trial/etcd" --name trial --data-dir "$trial/data" --initial-cluster "trial=$peer" \
  --initial-advertise-peer-urls "$peer" --listen-peer-urls "$peer" --listen-client-urls "$clients" \
  --advertise-client-urls "$clients" --log-level warn --unsafe-no-fsync >"$trial/said" 2>&1 &
member=$!
tries=0
until ask endpoint health >/dev/null 2>&1; do
  kill -0 "$member" 2>/dev/null || bad "the member that was started from it ended: $(last "$trial/said")"
  tries=$((tries + 1))
  [ "$tries" -lt 600 ] || bad "it does not serve: $(last "$trial/said")"
  sleep 0.3
done
hash=$(ask endpoint hashkv --rev "$2" -w json 2>"$trial/why") ||
  bad "it does not hold everything up to revision $2: $(last "$trial/why")"
keys=$(ask get '' --from-key --count-only -w fields 2>"$trial/why" | sed -n 's/^"Count" : //p')
printf '@\tholds\t%s\t%s\n' "$hash" "$keys"
