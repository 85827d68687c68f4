use std::fmt::Write as _;
use std::sync::Arc;

use super::{Act, Described, Differs, FileFacts, Found, KeyText, Kind, Look, Seen, access};
use crate::pki::{KeyKind, LedgerEntry, OwnKey, SecretRef};
use crate::text::{digest, quote};

/// A certificate with its key. Both stand in a folder of their own, named by the serial number, to which a link
/// leads: a new pair goes in by one rename, and no reader gets half of each.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pair {
    /// Absolute path of the link.
    pub path: String,
    /// System user that reads the key.
    pub owner: &'static str,
    /// Serial number of the certificate.
    pub serial: String,
    /// Its certificate, as a person says it.
    pub label: String,
    /// The certificate, PEM.
    pub certificate: Arc<str>,
    /// SHA-256 of the key's PEM text, in hexadecimal; empty where its host has still to make it.
    pub key_sha256: String,
    /// Its host makes the key and keeps it for itself.
    pub own_key: Option<OwnKey>,
    /// The unit that reads it when it starts, and must have read another one; most read theirs at every connection.
    pub read_by: Option<ReadBy>,
}

/// Who reads a pair when it starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ReadBy {
    /// The unit.
    pub unit: &'static str,
    /// A reload is enough for it to read it again: no client is interrupted.
    pub reloads: bool,
}

impl Pair {
    /// Path of the certificate.
    pub fn certificate_path(&self) -> String {
        format!("{}/tls.crt", self.path)
    }

    /// Path of the key.
    pub fn key_path(&self) -> String {
        format!("{}/tls.key", self.path)
    }

    /// The folder below the host's own state in which a key is kept that nothing certifies yet.
    pub(crate) fn kept_under(&self, own: &OwnKey) -> String {
        format!("{}.{}", self.path.trim_start_matches('/').replace('/', "."), own.kind)
    }

    /// Has the host make the key where it has none that fits, and say what it asks for it.
    pub(crate) fn ask(&self, own: &OwnKey, act: &mut Act<'_>) {
        let organization = own.organization.as_ref().map(|o| format!("/O={o}"));
        let subject = format!("{}/CN={}", organization.unwrap_or_default(), own.common_name);
        let (algorithm, option, digest) = match own.kind {
            KeyKind::EcdsaP256 => ("EC", "ec_paramgen_curve:P-256", "sha256"),
            KeyKind::EcdsaP384 => ("EC", "ec_paramgen_curve:P-384", "sha384"),
            KeyKind::Rsa3072 => ("RSA", "rsa_keygen_bits:3072", "sha256"),
        };
        let how = [own.openssl.as_str(), algorithm, option, digest, &subject];
        let what = [self.path.as_str(), &self.kept_under(own), &self.key_sha256];
        act.call("own_key", &[&what[..], &how].concat());
    }

    /// The same with the certificate that was signed for the key that its host made.
    #[must_use]
    pub fn certified(&self, entry: &LedgerEntry) -> Self {
        Self {
            serial: entry.serial.clone(),
            certificate: entry.pem.as_str().into(),
            key_sha256: entry.key_sha256.clone(),
            ..self.clone()
        }
    }

    /// What is said of who reads it, as words for the helpers.
    fn reader(&self) -> String {
        let how = |by: ReadBy| if by.reloads { "reload" } else { "restart" };
        self.read_by.map_or(String::new(), |by| format!(" {} {}", quote(by.unit), how(by)))
    }

    /// Where a key stands that was made and not certified yet.
    pub fn kept_key_path(&self) -> Option<String> {
        let own = self.own_key.as_ref()?;
        Some(format!("/var/lib/zoisite/keys/{}/tls.key", self.kept_under(own)))
    }

    /// Where the link leads to.
    fn target(&self) -> String {
        let name = self.path.rsplit('/').next().unwrap_or_default();
        format!("{name}-{}", self.serial)
    }

    /// Both files: path, owner, mode, checksum.
    fn halves(&self) -> [(String, &'static str, u32, String); 2] {
        [
            (self.certificate_path(), "root", 0o644, digest(&self.certificate)),
            (self.key_path(), self.owner, 0o600, self.key_sha256.clone()),
        ]
    }
}

impl Kind for Pair {
    const LOOK: &'static str = r#"
# Where links lead to.
pairs() {
  for path in "$@"; do
    if [ -L "$path" ]; then say pair "$path" "$(readlink "$path")"; fi
  done
}
"#;

    const ACT: &'static str = r#"
# path, owner, serial, the unit that reads it and how; certificate and key come by descriptors of their own
pair() {
  begin "pair $1"
  stand "$@"
}
# path, where its key is kept until something certifies it, the SHA-256 of one that is certified, openssl, algorithm, its
# option, digest, subject: a key is made where none fits, and what is asked for it is said.
own_key() {
  begin "key of $1"
  kept=$state/keys/$2
  if key=$(own_key_is "$1" "$kept" "$3"); then same; return; fi
  if [ ! -e "$kept/tls.key" ]; then
    attempt "making $state/keys" mkdir -p -m 0700 "$state/keys"
    rm -rf "$kept" "$kept.half"
    attempt "making $kept" mkdir -m 0700 "$kept.half"
    attempt "making a key with $4" "$4" genpkey -algorithm "$5" -pkeyopt "$6" -out "$kept.half/tls.key"
    attempt "keeping the key" sync "$kept.half/tls.key"
    attempt "keeping the key" mv "$kept.half" "$kept"
  fi
  # Nothing of the host's own configuration goes into it.
  printf '[req]\ndistinguished_name=none\n[none]\n' | new_file "$kept/request.conf"
  attempt "asking for a certificate" "$4" req -new -config "$kept/request.conf" -key "$kept/tls.key" \
    "-$7" -subj "$8" -outform DER -out "$kept/request"
  say key "$1" "$(sum_of "$kept/tls.key")" "$(base64 <"$kept/request" | tr -d '\n')"
  changed
}
sum_of() { sha256sum <"$1" | cut -d ' ' -f 1; }
# path, where its key is kept, the key's SHA-256: the file that holds it
own_key_is() {
  for key in "$2/tls.key" "$1/tls.key"; do
    if [ -n "$3" ] && [ -f "$key" ] && [ "$(sum_of "$key")" = "$3" ]; then
      printf '%s' "$key"
      return
    fi
  done
  return 1
}
# path, owner, serial, where its key is kept, its SHA-256, the unit that reads it and how; the certificate comes by a
# descriptor of its own
own_pair() {
  begin "pair $1"
  key=$(own_key_is "$1" "$state/keys/$4" "$5") || fail "putting $1" "the key that it is for is not on this host any more"
  stand "$1" "$2" "$3" "${6:-}" "${7:-}" 4<"$key"
  rm -rf "$state/keys/${4%.*}".*
}
stand() {
  new="$1.zoisite-new"
  rm -rf "$new"
  attempt "making $new" mkdir -m 0755 "$new"
  out=$( (new_file "$new/tls.crt" <&3 && new_file "$new/tls.key" <&4) 2>&1) || { rm -rf "$new"; fail "writing $1" "$out"; }
  attempt "giving the key of $1 to $2" chown "$2:$2" "$new/tls.key"
  attempt "setting the mode of $1" chmod 644 "$new/tls.crt"
  attempt "setting the mode of the key of $1" chmod 600 "$new/tls.key"
  if [ -L "$1" ] && [ "$(readlink "$1")" = "${1##*/}-$3" ] && alike tls.crt && alike tls.key; then
    rm -rf "$new"
    same
    return
  fi
  attempt "writing $1" sync "$new/tls.crt" "$new/tls.key"
  # One that was carried here by hand is a folder itself.
  if [ -d "$1" ] && [ ! -L "$1" ] && [ "$(ls "$1")" = "tls.crt${nl}tls.key" ]; then
    note pair "$1" absent
    attempt "putting $1 aside" mv "$1" "$1-by-hand"
  fi
  if [ -d "$1" ] && [ ! -L "$1" ]; then
    rm -rf "$new"
    fail "replacing $1" "a directory stands there"
  fi
  note_path pair "$1"
  if [ -n "${4:-}" ] && ! { cmp -s "$new/tls.crt" "$1/tls.crt" && cmp -s "$new/tls.key" "$1/tls.key"; }; then
    pending "$4" "$5"
  fi
  # Damaged or half gone: the good one takes the place of the bad one beside it.
  rm -rf "$1-$3.zoisite-bad"
  if [ -e "$1-$3" ]; then attempt "putting the damaged $1 aside" mv "$1-$3" "$1-$3.zoisite-bad"; fi
  attempt "putting $1" mv "$new" "$1-$3"
  label "$1-$3"
  rm -f "$1.zoisite-link"
  attempt "linking $1" ln -s "${1##*/}-$3" "$1.zoisite-link"
  attempt "replacing $1" mv -fT "$1.zoisite-link" "$1"
  drop_pairs "$1" "$1-$3"
  changed
}
# Whether a half is as it should be, with its owner and mode.
alike() {
  cmp -s "$new/$1" "${new%.zoisite-new}/$1" &&
    [ "$(stat -c '%U %a' "$new/$1")" = "$(stat -c '%U %a' "${new%.zoisite-new}/$1")" ]
}
# Folders of pairs behind a link, but for one.
drop_pairs() {
  for old in "$1"-*; do
    if [ "$old" != "${2:-}" ] && [ -d "$old" ] && [ ! -L "$old" ] && [ -e "$old/tls.key" ]; then rm -rf "$old"; fi
  done
}
back_pair() {
  back_path "$@"
  drop_pairs "$1"
}
"#;

    fn describe(&self) -> Described {
        let note = match self.own_key {
            None => format!("certificate and key of {}", self.label),
            Some(_) => format!("certificate of {}, whose key the host makes", self.label),
        };
        Described::new("pair", &self.path).with_access(self.owner, 0o600).with_note(note)
    }

    fn look(&self, look: &mut Look) {
        look.batch("pairs", &self.path);
        for (path, ..) in self.halves() {
            look.batch("paths", &path);
            look.batch("sums", &path);
        }
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["pair", path, target] = fields {
            found.pairs.insert((*path).into(), (*target).into());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let Some(target) = seen.found.pairs.get(&self.path) else { return vec![Differs::Missing] };
        if self.key_sha256.is_empty() {
            return vec![Differs::Content];
        }
        let halves = self.halves();
        let found: Vec<&FileFacts> =
            halves.iter().filter_map(|(path, ..)| seen.found.files.get(path)).collect();
        if found.len() < 2 || found.iter().any(|half| half.sha256.is_none()) {
            return vec![Differs::Missing];
        }
        let pairs = || found.iter().zip(&halves);
        if *target != self.target()
            || pairs().any(|(half, (.., sum))| half.sha256.as_ref() != Some(sum))
        {
            return vec![Differs::Content];
        }
        pairs()
            .find_map(|(half, (_, owner, mode, _))| access(&half.owner, &half.mode, owner, *mode))
            .into_iter()
            .collect()
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        if let Some(own) = &self.own_key {
            if self.key_sha256.is_empty() && matches!(act.keys, KeyText::Opened(_)) {
                return Err(self.label.clone());
            }
            let _ = write!(
                act.body,
                "own_pair {} {} {} {} {}{} 3<<'CERTIFICATE'\n{}CERTIFICATE\n",
                quote(&self.path),
                self.owner,
                quote(&self.serial),
                quote(&self.kept_under(own)),
                quote(&self.key_sha256),
                self.reader(),
                self.certificate,
            );
            return Ok(());
        }
        let secret = SecretRef::Certificate(self.serial.clone());
        let key = act.secret(&secret, &self.label, &self.key_sha256)?;
        // No line of a PEM text is a marker.
        let _ = write!(
            act.body,
            "pair {} {} {}{} 3<<'CERTIFICATE' 4<<'KEY'\n{}CERTIFICATE\n{}KEY\n",
            quote(&self.path),
            self.owner,
            quote(&self.serial),
            self.reader(),
            self.certificate,
            *key,
        );
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.pairs.insert(self.path.clone(), self.target());
        for (path, owner, mode, sum) in self.halves() {
            let facts = FileFacts {
                sha256: Some(sum),
                whole_sha256: None,
                owner: owner.into(),
                mode: format!("{mode:o}"),
            };
            found.files.insert(path, facts);
        }
    }

    fn restarts(&self) -> Option<&'static str> {
        self.read_by.map(|by| by.unit)
    }

    fn secret(&self) -> Option<(SecretRef, &str)> {
        let secret = || (SecretRef::Certificate(self.serial.clone()), self.label.as_str());
        self.own_key.is_none().then(secret)
    }
}
