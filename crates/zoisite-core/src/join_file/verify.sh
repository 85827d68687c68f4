# Runs a join file once it is proven: signed by the key above, whole, and not older than the last one that was carried out
# here. Nothing of it runs before.
umask 077
export LC_ALL=C
known=${ZOISITE_ROOT:-}/var/lib/zoisite/join

refuse() {
  printf 'zoisite: %s\nzoisite: nothing of it was run\n' "$1" >&2
  exit 1
}
prove() {
  [ -f "$1" ] && [ -r "$1" ] || refuse "the join file $1 cannot be read"
  is_signed "$1" "$work" || refuse "the join file $1 was cut or altered, or is not signed by the key $by"
  number=$(sed -n 's/^host=.* number=\([0-9][0-9]*\)$/\1/p' "$work/signed" | head -n 1)
  last=$(cat "$known/number" 2>/dev/null || echo 0)
  if [ -z "$number" ] || [ "$number" -lt "$last" ]; then
    refuse "the join file $1 is number ${number:-?}, and number $last was carried out here"
  fi
}
main() {
  only=
  if [ "${1:-}" = --only ]; then only=yes && shift; fi
  case ${1:-} in
    '' | -*)
      printf 'Usage: sh %s [--only] HOST.join [OPTION…]\n  --only  prove the join file, and do not run it\n' "${0##*/}" >&2
      exit 2
      ;;
  esac
  work=$(mktemp -d) || exit 1
  trap 'rm -rf "$work"' EXIT
  prove "$1"
  rm -rf "$work"
  trap - EXIT
  if [ -n "$only" ]; then exit 0; fi
  exec sh "$@"
}
