//! Typed operations, written as readable POSIX sh, and the replies of the hosts.
//!
//! Everything that happens on a host is an [`Operation`] in a [`Stretch`]; the rehearsal carries them
//! out as data, and [`Stretch::script`] writes them as one script for `sudo sh`. Its body is one
//! function called on the last line, so a script cut in transit does nothing; commands in it read
//! from /dev/null; file contents stand in here-documents, so nothing secret is an argument. Replies
//! are lines beginning with `@`; [`Observed`] and [`Reply`] are read from them.

mod observe;
mod operation;
mod reply;

pub use observe::{Depth, observe};
pub use operation::{KeyText, Operation, Stretch, fetch_script, upload_script};
pub use reply::{
    DirectoryFacts, EtcdFacts, EtcdMember, EtcdStatus, FileFacts, Identity, Observed, Outcome,
    Piece, Reply, UnitFacts, Unread, program_version,
};
pub(crate) use reply::{architecture, digest};

/// A text from elsewhere without what a terminal would obey: control characters but for tabs and ends of
/// lines, and characters that turn the direction of writing, are replaced by `·`. (OpenSSH ends its own lines
/// with a carriage return too: that one is no odd character.)
pub fn plain(text: &str) -> std::borrow::Cow<'_, str> {
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

/// Who holds a port, by the names of the program and its unit, each empty where it is not known.
pub(crate) fn holder(program: &str, unit: &str) -> String {
    match (program, unit) {
        ("", _) => "something".to_owned(),
        (program, "") => program.to_owned(),
        (program, unit) => format!("{program} ({unit})"),
    }
}

const COMMON: &str = include_str!("common.sh");

/// Quotes one word for sh.
pub(crate) fn quote(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-:=,@%+".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        word.to_owned()
    } else {
        format!("'{}'", word.replace('\'', r"'\''"))
    }
}

/// Wraps a body so that nothing of it runs unless all of it has arrived.
fn wrapped(title: &str, helpers: &[&str], body: &str) -> String {
    let parts = COMMON.len() + helpers.iter().map(|helper| helper.len()).sum::<usize>();
    // With room for everything at once, no copy of a part is left behind by growing.
    let mut out = String::with_capacity(parts + body.len() + title.len() + 512);
    out.push_str(&format!(
        "# {}\nzoisite() {{\nset -u\nexport LC_ALL=C\numask 077\n",
        title.replace('\n', " ")
    ));
    for helper in std::iter::once(&COMMON).chain(helpers) {
        out.push_str(helper);
    }
    out.push_str("# --- what is done here ---\n");
    out.push_str(body);
    out.push_str("say end\n}\nzoisite </dev/null\n");
    out
}

/// A script of the way in: the same wrapping, with helpers of its own.
pub(crate) fn wrapped_login(title: &str, helpers: &str, body: &str) -> String {
    wrapped(&format!("zoisite: {title}"), &[helpers], body)
}

/// A script that looks, with helpers of its own beside those of every look.
pub(crate) fn wrapped_look(title: &str, helpers: &str, body: &str) -> String {
    wrapped(&format!("zoisite: {title}"), &[observe::OBSERVE, helpers], body)
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
