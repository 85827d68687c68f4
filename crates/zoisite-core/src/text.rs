//! Texts that come from elsewhere or go elsewhere: made harmless, quoted, summed.

use std::borrow::Cow;

/// A text from elsewhere without what a terminal would obey: control characters but for tabs and ends of
/// lines, and characters that turn the direction of writing, are replaced by `·`. (OpenSSH ends its own lines
/// with a carriage return too: that one is no odd character.)
pub fn plain(text: &str) -> Cow<'_, str> {
    let odd = |c: char| {
        (c.is_control() && c != '\t' && c != '\n')
            || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    };
    if text.contains(odd) {
        text.replace("\r\n", "\n").replace(odd, "·").into()
    } else {
        text.into()
    }
}

/// Quotes one word for sh.
pub(crate) fn quote(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-:=,@%+".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        word.to_owned()
    } else {
        format!("'{}'", word.replace('\'', r"'\''"))
    }
}

/// SHA-256 of a text, in hexadecimal.
pub fn digest(text: &str) -> String {
    crate::pki::sha256(text.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::{plain, quote};

    #[test]
    fn words_are_quoted_when_they_must_be() {
        assert_eq!(quote("/etc/zoisite"), "/etc/zoisite");
        assert_eq!(quote(""), "''");
        assert_eq!(quote("it's; $x"), r"'it'\''s; $x'");
    }

    #[test]
    fn what_a_terminal_would_obey_is_seen_instead() {
        assert_eq!(plain("a\tb\nc"), "a\tb\nc");
        assert_eq!(plain("no route\r\nto host\r\n"), "no route\nto host\n");
        assert_eq!(plain("over\rwritten \u{1b}[2J \u{202e}"), "over·written ·[2J ·");
    }
}
