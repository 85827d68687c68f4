# Looks for hosts of the mesh that do not answer any more where they should be found: their names may lead elsewhere by now, and
# what was learnt of them may be old. WireGuard itself looks a name up once.
set -u
dev=zoisite-mesh
kept=${0%/*}
seen=/run/zoisite-mesh.seen
# The cluster file has no mesh any more.
if [ ! -e "$kept/peers" ]; then
  systemctl disable --now zoisite-mesh.service zoisite-mesh-find.timer
  exit
fi
tab=$(printf '\t')
# a key: the name of its host, and where that should be found
place_of() {
  while read -r word is value; do
    case $word in
    '#') name=$is ;;
    PublicKey) key=$value ;;
    Endpoint) if [ "$key" = "$1" ]; then printf '%s %s\n' "$name" "$value"; fi ;;
    esac
  done <"$kept/peers"
}
before=$(cat "$seen" 2>/dev/null)
now=$(wg show "$dev" transfer) || exit 0
printf '%s\n' "$now" >"$seen"
printf '%s\n' "$now" | while IFS=$tab read -r key heard sent; do
  # Something was sent to it since the last look, and nothing came.
  case "$before
" in
  *"$key$tab$heard$tab$sent
"*) continue ;;
  *"$key$tab$heard$tab"*) ;;
  *) continue ;;
  esac
  place=$(place_of "$key")
  if [ -z "$place" ]; then continue; fi
  echo "${place% *} is silent, and looked for at ${place#* }"
  WG_ENDPOINT_RESOLUTION_RETRIES=3 wg set "$dev" peer "$key" endpoint "${place#* }" || :
done
