use std::sync::Arc;

use super::{Act, Described, Differs, Found, Kind, Look, Seen};
use crate::text::digest;

/// Lines of ours in a file that is somebody else's, between two marks at its end; all other lines stay as they are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Block {
    /// The file. Where it is a link, what it leads to is written.
    pub path: &'static str,
    /// The lines, each with its end.
    pub text: Arc<str>,
}

impl Kind for Block {
    const LOOK: &'static str = r#"
block_sum() {
  if [ ! -r "$1" ] || ! grep -q '^# zoisite: from here' "$1"; then return; fi
  said=$(awk '/^# zoisite: to here/ { exit } inside { print } /^# zoisite: from here/ { inside = 1 }' "$1" | sha256sum)
  say block "$1" "${said%% *}"
}
"#;

    const ACT: &'static str = r#"
without_block() { awk '/^# zoisite: from here/ { inside = 1 } !inside { print } /^# zoisite: to here/ { inside = 0 }' "$1"; }
# path; the lines come by standard input
block() {
  begin "lines in $1"
  file=$(readlink -f "$1")
  new=$file.zoisite-new
  rm -f "$new"
  if [ -e "$file" ]; then
    # A last line without an end gets one, and loses it again with our lines.
    if [ -n "$(tail -c 1 "$file")" ]; then note block "$1" unended; else note block "$1" there; fi
    attempt "writing $file" cp -p "$file" "$new"
  else
    note block "$1" absent
    out=$( (set -C && : >"$new" && chmod 0644 "$new") 2>&1) || fail "writing $file" "$out"
  fi
  out=$( {
    if [ -e "$file" ]; then without_block "$file"; fi
    printf '# zoisite: from here on lines are put right by each raise\n'
    cat
    printf '# zoisite: to here\n'
  } 2>&1 >"$new") || { rm -f "$new"; fail "writing $file" "$out"; }
  if cmp -s "$new" "$file"; then rm -f "$new"; same; return; fi
  attempt "writing $file" sync "$new"
  into_place "$new" "$file"
  changed
}
# path, what stood there
back_block() {
  file=$(readlink -f "$1")
  if ! grep -q '^# zoisite: from here' "$file" 2>/dev/null; then same; return; fi
  attempt "writing $file" cp -p "$file" "$file.zoisite-new"
  out=$( (without_block "$file" >"$file.zoisite-new") 2>&1) || fail "writing $file" "$out"
  # All line ends at its end are those that we gave it.
  if [ "$2" = unended ]; then printf '%s' "$(without_block "$file")" >"$file.zoisite-new"; fi
  if [ "$2" = absent ] && [ ! -s "$file.zoisite-new" ]; then
    rm -f "$file.zoisite-new"
    attempt "removing $file" rm -f "$file"
  else
    into_place "$file.zoisite-new" "$file"
  fi
  changed
}
"#;

    fn describe(&self) -> Described {
        let lines = self.text.lines().count();
        Described::new("lines of", self.path).with_note(format!("{lines} lines of its own"))
    }

    fn look(&self, look: &mut Look) {
        look.line("block_sum", &[self.path]);
    }

    fn read(found: &mut Found, fields: &[&str]) {
        if let ["block", path, sum] = fields {
            found.blocks.insert((*path).into(), (*sum).into());
        }
    }

    fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
        match seen.found.blocks.get(self.path) {
            None => vec![Differs::Missing],
            Some(sum) if *sum == digest(&self.text) => Vec::new(),
            Some(_) => vec![Differs::Content],
        }
    }

    fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
        act.call_with("block", &[self.path], &self.text);
        Ok(())
    }

    fn hold(&self, found: &mut Found, _: &str) {
        found.blocks.insert(self.path.into(), digest(&self.text));
    }
}
