# What the member here holds, saved where it is: whole or not at all, with what it said of itself before.
set -eu
umask 077
ask() { "$client" --endpoints "$endpoint" --cacert "$authority" --cert "$certificate" --key "$key" "$@"; }
compacted() { sed -n 's/.*"compact_revision":\([0-9]*\).*/\1/p' "$1"; }
fail() {
  echo "$1" >&2
  exit 1
}
rm -rf "$at/.half"
octets=$(ask endpoint status -w json | sed -n 's/.*"dbSize":\([0-9]*\).*/\1/p')
[ -n "$octets" ] || fail "the member does not say how large its database is"
needs=$((octets / 1024))
room=$(df -Pk "$at" | sed -n '2s/^[^ ]* *[0-9]* *[0-9]* *\([0-9]*\).*/\1/p')
# As much as it takes is left free.
[ "$room" -gt $((needs * 2)) ] || fail "$((room / 1024)) MiB are free for a snapshot of about $((needs / 1024)): none was taken"
tries=0
while :; do
  mkdir "$at/.half"
  name=$(date -u +%Y-%m-%d-%H%M%S)
  ask endpoint hashkv -w json >"$at/.half/hash"
  ask endpoint status -w json >"$at/.half/status"
  # Without a quorum nobody says who is in it, and what the member holds is worth the more.
  ask member list -w json >"$at/.half/members" 2>/dev/null || echo '{"members":[]}' >"$at/.half/members"
  ask snapshot save "$at/.half/stream" >/dev/null
  ask endpoint hashkv -w json >"$at/.half/after"
  # History that was compacted meanwhile makes another hash.
  if [ "$(compacted "$at/.half/hash")" = "$(compacted "$at/.half/after")" ]; then break; fi
  tries=$((tries + 1))
  [ "$tries" -lt 5 ] || fail "history was compacted while it was saved, $tries times"
  rm -rf "$at/.half"
done
rm "$at/.half/after"
sync -f "$at/.half/stream"
mv "$at/.half" "$at/$name"
echo "saved $name"
find "$at" -mindepth 1 -maxdepth 1 -name '[0-9]*' | sort -r | tail -n +$((keep + 1)) | while IFS= read -r old; do
  rm -rf "$old"
done
