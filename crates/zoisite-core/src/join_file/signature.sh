# file, a folder: whether the key $signer signed it, and nothing but that signature stands behind the signed text, as sh
# would read on there. The signed text is FOLDER/signed then.
is_signed() {
  printf '%s\n' "$signer" >"$2/signer"
  sed '/^#signature$/,$d' "$1" >"$2/signed"
  sed '1,/^#signature$/d' "$1" >"$2/lines"
  [ -s "$2/lines" ] && ! grep -q -v '^[A-Za-z0-9+/=]*$' "$2/lines" &&
    base64 -d <"$2/lines" >"$2/signature" 2>/dev/null &&
    openssl dgst -sha256 -verify "$2/signer" -signature "$2/signature" "$2/signed" >/dev/null 2>&1
}
