//! What a person sees: findings in their place, tables, the live view of a run and its plain lines.

pub mod design;
pub mod drill;
pub mod ends;
pub mod events;
pub mod fetching;
pub mod findings;
pub mod first_raise;
mod live;
pub mod login;
pub mod looking;
pub mod paths;
mod plain;
pub mod reports;
pub mod run;
pub mod stages;
pub mod standing;
mod style;
pub mod survey;
pub mod table;
pub mod topology;
pub mod unnamed;

use std::io::Write as _;

use zoisite_core::cluster::HostName;

pub use style::Style;

/// A text as a terminal may have it: of all that it would obey only colours are left, which come from here.
/// (Texts of hosts and files are cleared where they come in; nothing else gets past here either.)
pub fn tame(text: &str) -> std::borrow::Cow<'_, str> {
    if !text.contains(|c: char| c.is_control() && c != '\n') {
        return text.into();
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        out.push_str(&zoisite_core::text::plain(&rest[..at]));
        rest = &rest[at..];
        let body = rest[1..].strip_prefix('[').unwrap_or_default();
        let numbers =
            body.len() - body.trim_start_matches(|c: char| c.is_ascii_digit() || c == ';').len();
        if body[numbers..].starts_with('m') {
            let end = 2 + numbers + 1;
            out.push_str(&rest[..end]);
            rest = &rest[end..];
        } else {
            out.push('·');
            rest = &rest[1..];
        }
    }
    out.push_str(&zoisite_core::text::plain(rest));
    out.into()
}

/// Writes to standard output, on a terminal in lines that fit. A reader that has gone away is no error.
pub fn out(text: &str) {
    verbatim(&wrapped(text, &console::Term::stdout()));
}

/// Writes what is copied from there, such as a file, to standard output: its lines stay whole.
pub fn verbatim(text: &str) {
    let mut stdout = std::io::stdout().lock();
    let _ = stdout.write_all(tame(text).as_bytes());
    if !text.ends_with('\n') {
        let _ = stdout.write_all(b"\n");
    }
}

/// Lines that are longer than a terminal is wide continue below, parted between words, and deeper than they began.
/// Elsewhere lines have no end.
pub fn wrapped(text: &str, term: &console::Term) -> String {
    match term.size_checked() {
        Some((_, width)) => folded(text, width.into()),
        None => text.to_owned(),
    }
}

fn folded(text: &str, width: usize) -> String {
    use console::measure_text_width;
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        if measure_text_width(line.trim_end_matches('\n')) <= width {
            out.push_str(line);
            continue;
        }
        let deep = line.len() - line.trim_start().len() + 2;
        // A label and its text: what follows stands below the text.
        let label = line.trim_start().find("  ").map(|at| {
            let rest = &line.trim_start()[at..];
            deep - 2 + at + rest.len() - rest.trim_start().len()
        });
        let deep = label.filter(|deep| *deep < width / 3).unwrap_or(deep).min(width / 2);
        let (body, indent) = (line.trim(), line.len() - line.trim_start().len());
        let parts = table::parted(body, width.saturating_sub(indent), width - deep);
        let parts: Vec<&str> = parts.iter().map(|part| part.trim_end()).collect();
        let further = format!("\n{}", " ".repeat(deep));
        out.push_str(&" ".repeat(indent));
        out.push_str(&parts.join(&further));
        out.push_str(&line[line.trim_end_matches('\n').len()..]);
    }
    out
}

/// Begins a terminal's screen again.
pub fn again() {
    let _ = console::Term::stdout().clear_screen();
}

/// Writes JSON to standard output, for programs.
pub fn json(value: &impl serde::Serialize) {
    verbatim(&serde_json::to_string_pretty(value).unwrap_or_else(|error| format!("\"{error}\"")));
}

/// A line on the standard error stream.
pub fn say(text: &str) {
    let mut stderr = std::io::stderr().lock();
    let _ = writeln!(stderr, "{}", tame(&wrapped(text, &console::Term::stderr())));
}

/// Says something beside the matter, on the standard error stream.
pub fn note(text: &str) {
    say(&format!("note: {text}"));
}

/// Says what is being done, on a host if it is on one.
pub fn doing(host: Option<&HostName>, what: &str) {
    match (events::enabled(), host) {
        (true, _) => {
            events::tell(&serde_json::json!({"is": "doing", "host": host, "what": what}));
        }
        (false, Some(host)) => note(&format!("{host}: {what}")),
        (false, None) => note(what),
    }
}

/// Whether a person can be asked.
pub fn is_attended() -> bool {
    use std::io::IsTerminal as _;
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// Asks a person at a terminal; without one the answer is no.
pub fn asked(question: &str) -> bool {
    if !is_attended() {
        return false;
    }
    let mut stderr = std::io::stderr().lock();
    let _ = write!(stderr, "{question} [y/N] ");
    let _ = stderr.flush();
    let mut answer = String::new();
    let _ = std::io::stdin().read_line(&mut answer);
    matches!(answer.trim(), "y" | "Y" | "yes")
}

/// `1 host`, `3 hosts`.
pub fn count(n: usize, what: &str) -> String {
    if n == 1 { format!("1 {what}") } else { format!("{n} {what}s") }
}

/// `20 KiB`, `1.4 MiB`.
pub fn bytes(n: i64) -> String {
    let n = n.max(0);
    #[expect(clippy::cast_precision_loss, reason = "one decimal is shown")]
    match n {
        0..1_024 => format!("{n} B"),
        1_024..1_048_576 => format!("{} KiB", n / 1_024),
        _ => format!("{:.1} MiB", n as f64 / 1_048_576.0),
    }
}

/// `0.4 s`, `12.0 s`, `3 min 20 s`.
pub fn seconds(duration: std::time::Duration) -> String {
    let seconds = duration.as_secs_f64();
    if seconds < 100.0 {
        format!("{seconds:.1} s")
    } else {
        format!("{} min {} s", duration.as_secs() / 60, duration.as_secs() % 60)
    }
}

/// `2027-11-23`.
pub fn day(time: jiff::Timestamp) -> String {
    time.strftime("%Y-%m-%d").to_string()
}

/// `2027-11-23 14:05`, in universal time.
pub fn minute(time: jiff::Timestamp) -> String {
    time.strftime("%Y-%m-%d %H:%M").to_string()
}

/// Reads `30m`, `8h` or `30d` as seconds.
pub fn span(text: &str) -> Result<i64, String> {
    let rule = "a number and a unit: 30m, 8h, 30d";
    let end = text.char_indices().last().map_or(0, |(at, _)| at);
    let (number, unit) = text.split_at(end);
    let unit = match unit {
        "m" => 60,
        "h" => 3_600,
        "d" => 86_400,
        _ => return Err(rule.into()),
    };
    match number.parse::<i64>().ok().and_then(|n| n.checked_mul(unit)) {
        Some(seconds @ 60..=157_680_000) => Ok(seconds),
        Some(_) => Err("from one minute to five years".into()),
        None => Err(rule.into()),
    }
}

/// Puts together what is the same, in the order in which it first comes.
pub fn alike<'a, T>(
    all: impl IntoIterator<Item = &'a T>,
    same: impl Fn(&T, &T) -> bool,
) -> Vec<Vec<&'a T>> {
    let mut out: Vec<Vec<&T>> = Vec::new();
    for one in all {
        match out.iter_mut().find(|some| same(some[0], one)) {
            Some(some) => some.push(one),
            None => out.push(vec![one]),
        }
    }
    out
}

/// The names of a few, or the first and the last of more: where there is little room.
pub fn few<T: std::fmt::Display>(all: &[T]) -> String {
    match all {
        [first, .., last] if all.len() > 4 => format!("{first} … {last} ({})", all.len()),
        _ => names(all),
    }
}

/// Names in one line, a long list cut in the middle.
pub fn names<T: std::fmt::Display>(names: &[T]) -> String {
    match names {
        [] => "none".into(),
        [first, second, .., last] if names.len() > 12 => {
            format!("{first}, {second} … {last} ({})", names.len())
        }
        _ => names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    }
}

/// What is said of a host that was met and is no longer in the cluster file.
pub fn departed(host: &HostName, address: std::net::IpAddr) -> String {
    format!(
        "{host} ({address}) is no longer in the cluster file: it runs on, and nothing is done with it (zoisite retire {host})"
    )
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn only_colours_get_past() {
        assert_eq!(tame("a\u{1b}[33mb\u{1b}[0m\n"), "a\u{1b}[33mb\u{1b}[0m\n");
        assert_eq!(tame("\u{1b}]0;x\u{7}\u{1b}[2J\u{1b}[1;31m\u{1b}"), "·]0;x··[2J\u{1b}[1;31m·");
        assert_eq!(tame("\u{9b}2J\r"), "·2J·");
    }

    #[test]
    fn long_lines_are_parted_between_words_and_go_on_deeper() {
        let text =
            "short\n  fix       bring the others back first, then type the same command again\n";
        assert_eq!(
            folded(text, 40),
            "short\n  fix       bring the others back first,\n            then type the same command\n            again\n"
        );
        assert_eq!(folded("one two three", 9), "one two\n  three");
        // A word that is longer than a line is not parted, and colours take no room.
        assert_eq!(folded("\u{1b}[31mone\u{1b}[0m two", 7), "\u{1b}[31mone\u{1b}[0m two");
        assert_eq!(folded("/a/very/long/path/to/it and", 12), "/a/very/long/path/to/it\n  and");
    }

    #[test]
    fn numbers_are_told_as_people_say_them() {
        assert_eq!(
            [0, 1_023, 20_480, 1_468_006].map(bytes),
            ["0 B", "1023 B", "20 KiB", "1.4 MiB"]
        );
        assert_eq!(seconds(Duration::from_millis(440)), "0.4 s");
        assert_eq!(seconds(Duration::from_secs(200)), "3 min 20 s");
        assert_eq!((count(1, "host"), count(3, "host")), ("1 host".into(), "3 hosts".into()));
    }

    #[test]
    fn spans_are_a_number_and_a_unit() {
        assert_eq!((span("30m"), span("8h"), span("30d")), (Ok(1_800), Ok(28_800), Ok(2_592_000)));
        for wrong in ["", "m", "30", "0m", "-1h", "99999d", "30 d", "é"] {
            assert!(span(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn long_lists_of_names_are_cut_in_the_middle() {
        assert_eq!(names::<&str>(&[]), "none");
        assert_eq!(names(&["heron", "egret"]), "heron, egret");
        let terns: Vec<String> = (1..=40).map(|n| format!("tern-{n}")).collect();
        assert_eq!(names(&terns), "tern-1, tern-2 … tern-40 (40)");
    }
}
