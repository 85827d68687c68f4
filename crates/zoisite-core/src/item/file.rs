use std::fmt::{self, Write as _};
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use super::{Act, Described, Differs, Found, Kind, Look, Seen, access};
use crate::pki::{Secret, SecretRef};
use crate::text::{digest, quote};

/// A file, small enough to be written in a script.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct File {
    /// Absolute path.
    pub path: String,
    /// Owning user and group.
    pub owner: &'static str,
    /// Permission bits.
    pub mode: u32,
    /// What is in it.
    pub content: Content,
    /// The unit that must be restarted when this file changes.
    pub restarts: Option<&'static str>,
    /// Whether that unit takes it by a reload, so that what it serves goes on.
    pub reloads: bool,
}

/// A line of this beginning parts a file's lasting text from its first-start facts.
pub const FIRST_START: &str =
    "# First start only: the lines below are worked out when a member starts for the first time.";

/// What is in a [`File`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// Text for all to read.
    Text {
        /// What must always hold.
        lasting: Arc<str>,
        /// What matters at the first start only; stands below [`FIRST_START`].
        first_start: Option<Arc<str>>,
    },
    /// A secret: for its owner alone, and never shown.
    Secret {
        /// Which one.
        secret: SecretRef,
        /// What it is, as a person says it.
        label: String,
        /// SHA-256 of its text, in hexadecimal.
        sha256: String,
    },
}

impl Content {
    /// Plain text.
    pub fn text(text: impl Into<Arc<str>>) -> Self {
        Self::Text { lasting: text.into(), first_start: None }
    }

    /// The first-start facts, if it has any.
    pub fn first_start(&self) -> Option<&str> {
        match self {
            Self::Text { first_start, .. } => first_start.as_deref(),
            Self::Secret { .. } => None,
        }
    }

    /// The whole text of a file that is no secret.
    pub fn whole_text(&self) -> Option<String> {
        match self {
            Self::Text { lasting, first_start: None } => Some(lasting.to_string()),
            Self::Text { lasting, first_start: Some(first) } => {
                Some(format!("{lasting}{FIRST_START}\n{first}"))
            }
            Self::Secret { .. } => None,
        }
    }

    /// SHA-256 of the whole text of a file that has first-start facts.
    pub fn whole_sha256(&self) -> Option<String> {
        self.first_start()?;
        Some(digest(&self.whole_text()?))
    }

    /// SHA-256 of what must always hold, in hexadecimal: a difference here is a difference.
    pub fn lasting_sha256(&self) -> String {
        match self {
            Self::Text { lasting, .. } => digest(lasting),
            Self::Secret { sha256, .. } => sha256.clone(),
        }
    }
}

/// How the text of a private key is to appear in a script.
#[derive(Clone, Copy)]
pub enum KeyText<'a> {
    /// As a note that a key stands there: for reading.
    Masked,
    /// In full, from the strongbox: for the host alone.
    Opened(&'a dyn Fn(&SecretRef) -> Option<Secret>),
}

impl fmt::Debug for KeyText<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Masked => "Masked",
            Self::Opened(_) => "Opened(…)",
        })
    }
}

/// A file as found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileFacts {
    /// SHA-256 of its lasting text; `None` when it is absent.
    pub sha256: Option<String>,
    /// SHA-256 of all of it, where its lasting text is a part.
    pub whole_sha256: Option<String>,
    /// Owning user.
    pub owner: String,
    /// Permission bits, in octal digits.
    pub mode: String,
}

impl Kind for File {
    const LOOK: &'static str = r#"
# Checksums of every file that is there.
sums() { sha256sum "$@" 2>/dev/null | sed "s/^\([0-9a-f]*\)  \(.*\)/@${tab}sum$tab\2$tab\1/"; }
# The same, under another name: of the whole of files whose lasting lines are compared alone.
wholes() { sha256sum "$@" 2>/dev/null | sed "s/^\([0-9a-f]*\)  \(.*\)/@${tab}whole$tab\2$tab\1/"; }
# The checksum of the lines of a file before a mark.
sum_before() {
  [ -f "$2" ] || return 0
  awk -v mark="$1" 'index($0, mark) == 1 { exit } { print }' "$2" | sha256sum |
    while read -r sum _; do say sum "$2" "$sum"; done
}
"#;

    const ACT: &'static str = r#"
# path, owner, mode, unit to restart or nothing, 'reload' where that is enough; the content comes by standard input
file() {
  begin "file $1"
  new="$1.zoisite-new"
  out=$(new_file "$new" 2>&1) || { rm -f "$new"; fail "writing $1" "$out"; }
  if [ -f "$1" ] && [ ! -L "$1" ] && cmp -s "$new" "$1"; then
    rm -f "$new"
    if [ "$(stat -c '%U %a' "$1")" = "$2 $3" ]; then same; return; fi
    # What reads it goes on with what it read: nothing has to restart.
    note_path file "$1"
    attempt "giving $1 to $2" chown "$2:$2" "$1"
    attempt "setting the mode of $1" chmod "$3" "$1"
    changed
    return
  fi
  note_path file "$1"
  attempt "giving $1 to $2" chown "$2:$2" "$new"
  attempt "setting the mode of $1" chmod "$3" "$new"
  attempt "writing $1" sync "$new"
  [ -z "${4:-}" ] || pending "$4" "${5:-restart}"
  into_place "$new" "$1"
  changed
}
back_file() { back_path "$@"; }
"#;

    fn describe(&self) -> Described {
        let described = Described::new("file", &self.path).with_access(self.owner, self.mode);
        match &self.content {
            Content::Secret { label, .. } => {
                described.with_note(format!("private key of {label}: not written"))
            }
            content if content.first_start().is_some() => {
                described.with_note("its last lines matter at the first start only")
            }
            Content::Text { .. } => described,
        }
    }

    fn look(&self, look: &mut Look) {
        look.batch("paths", &self.path);
        match self.content.first_start() {
            Some(_) => {
                look.line("sum_before", &[FIRST_START, &self.path]);
                look.batch("wholes", &self.path);
            }
            None => look.batch("sums", &self.path),
        }
    }

    fn read(found: &mut Found, fields: &[&str]) {
        let mut facts = |path: &str, note: &dyn Fn(&mut FileFacts)| {
            note(found.files.entry(path.into()).or_default());
        };
        match *fields {
            ["at", _, "directory", ..] => {}
            ["at", path, _, owner, mode] => facts(path, &|file| {
                (file.owner, file.mode) = (owner.into(), mode.into());
            }),
            ["sum", path, sum] => facts(path, &|file| file.sha256 = Some(sum.into())),
            ["whole", path, sum] => facts(path, &|file| file.whole_sha256 = Some(sum.into())),
            _ => {}
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        let found = seen.found.files.get(&self.path);
        let Some((found, sha256)) = found.and_then(|found| Some((found, found.sha256.as_ref()?)))
        else {
            return vec![Differs::Missing];
        };
        let whole = self.content.whole_sha256();
        if *sha256 != self.content.lasting_sha256() {
            vec![Differs::Content]
        } else if whole.is_some() && !seen.begun && found.whole_sha256 != whole {
            // First-start facts matter as long as the member has no data; then they never differ again.
            vec![Differs::FirstStart]
        } else {
            access(&found.owner, &found.mode, self.owner, self.mode).into_iter().collect()
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        let text = match &self.content {
            Content::Secret { secret, label, sha256 } => act.secret(secret, label, sha256)?,
            content => Zeroizing::new(content.whole_text().unwrap_or_default()),
        };
        let how = if self.reloads { " reload" } else { "" };
        let restarts = self.restarts.map_or(String::new(), |unit| format!(" {}{how}", quote(unit)));
        // The marker must stand in no line of the text; a line of the text never equals it.
        let mut marker = String::from("END_OF_FILE");
        while text.lines().any(|line| line == marker) {
            marker.push('_');
        }
        let _ = write!(
            act.body,
            "file {} {} {:o}{restarts} <<'{marker}'\n{}{}{marker}\n",
            quote(&self.path),
            self.owner,
            self.mode,
            *text,
            if text.ends_with('\n') || text.is_empty() { "" } else { "\n" },
        );
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        let facts = FileFacts {
            sha256: Some(self.content.lasting_sha256()),
            whole_sha256: self.content.whole_sha256(),
            owner: self.owner.into(),
            mode: format!("{:o}", self.mode),
        };
        found.files.insert(self.path.clone(), facts);
    }

    fn restarts(&self) -> Option<&'static str> {
        self.restarts
    }

    fn secret(&self) -> Option<(SecretRef, &str)> {
        match &self.content {
            Content::Secret { secret, label, .. } => Some((secret.clone(), label)),
            Content::Text { .. } => None,
        }
    }
}
