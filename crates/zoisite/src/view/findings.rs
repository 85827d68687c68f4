//! Findings, each under the place in the file where it stands.

use std::fmt;
use std::ops::Range;
use std::path::Path;

use miette::{
    Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteError,
    MietteSpanContents, Severity, SourceCode, SourceSpan, SpanContents, ThemeCharacters,
    ThemeStyles,
};
use zoisite_core::cluster::{Finding, Grade};
use zoisite_core::text::plain;

use super::{Style, count};

/// So many findings are shown; more are counted.
const MOST: usize = 100;
/// So many characters of a long line are shown around a place in it.
const WINDOW: usize = 120;

/// The lines around a place in the file, long ones cut to a window, without what a terminal would obey.
struct Excerpt {
    name: String,
    text: String,
    /// Number of its first line, from 0.
    line: usize,
    /// The place, in the excerpt.
    span: Range<usize>,
}

impl Excerpt {
    fn of(name: &str, text: &str, span: &Range<usize>) -> Self {
        // The end of the file is the end of its last line.
        let last = text.trim_end_matches('\n').len();
        let start = floor(text, span.start.min(last));
        let end = floor(text, span.end.max(start)).max(start);
        let begin_of = |at: usize| text[..at].rfind('\n').map_or(0, |newline| newline + 1);
        let end_of = |at: usize| text[at..].find('\n').map_or(text.len(), |newline| at + newline);
        let own = begin_of(start);
        let first = if own == 0 { 0 } else { begin_of(own - 1) };
        // A place over many lines is shown by its first one.
        let last = end_of(start);
        let after = if last < text.len() { end_of(last + 1) } else { last };
        let mut out = Self {
            name: name.to_owned(),
            text: String::new(),
            line: text[..first].bytes().filter(|byte| *byte == b'\n').count(),
            span: 0..0,
        };
        if first < own {
            out.window(&text[first..own - 1], 0..0);
            out.text.push('\n');
        }
        let inside = |at: usize| at.clamp(own, last) - own;
        out.span = out.window(&text[own..last], inside(start)..inside(end));
        if last < after {
            out.text.push('\n');
            out.window(&text[last + 1..after], 0..0);
        }
        out
    }

    /// Adds a line, or a window of it around `place`; where that then stands.
    fn window(&mut self, line: &str, place: Range<usize>) -> Range<usize> {
        let before = line[..place.start].chars().count();
        let whole = line.chars().count() <= WINDOW + 40;
        let skip = if whole { 0 } else { before.saturating_sub(WINDOW / 3) };
        let from = line.char_indices().nth(skip).map_or(line.len(), |(at, _)| at);
        let shown = line[from..].char_indices();
        let take = if whole { usize::MAX } else { WINDOW };
        if skip > 0 {
            self.text.push('…');
        }
        let mut span: Option<Range<usize>> = None;
        for (at, character) in shown.take(take) {
            let there = self.text.len();
            self.text.push_str(&plain(character.encode_utf8(&mut [0; 4])));
            if place.contains(&(from + at)) {
                span = Some(span.map_or(there, |span| span.start)..self.text.len());
            }
        }
        if !whole && line[from..].chars().count() > WINDOW {
            self.text.push('…');
        }
        span.unwrap_or(self.text.len()..self.text.len())
    }
}

fn floor(text: &str, at: usize) -> usize {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

impl SourceCode for Excerpt {
    fn read_span<'a>(
        &'a self,
        span: &SourceSpan,
        before: usize,
        after: usize,
    ) -> Result<Box<dyn SpanContents<'a> + 'a>, MietteError> {
        let inner = self.text.read_span(span, before, after)?;
        Ok(Box::new(MietteSpanContents::new_named(
            self.name.clone(),
            inner.data(),
            *inner.span(),
            inner.line() + self.line,
            inner.column(),
            inner.line_count(),
        )))
    }
}

struct Shown<'a> {
    finding: &'a Finding,
    excerpt: Option<&'a Excerpt>,
}

impl fmt::Debug for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.finding.fmt(f)
    }
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.finding.message)
    }
}

impl std::error::Error for Shown<'_> {}

impl Diagnostic for Shown<'_> {
    fn code(&self) -> Option<Box<dyn fmt::Display + '_>> {
        let grade = match self.finding.grade {
            Grade::Blocks => "blocks",
            Grade::Warns => "warns",
        };
        Some(Box::new(format!("{grade}: {}", self.finding.code)))
    }

    fn severity(&self) -> Option<Severity> {
        Some(match self.finding.grade {
            Grade::Blocks => Severity::Error,
            Grade::Warns => Severity::Warning,
        })
    }

    fn help(&self) -> Option<Box<dyn fmt::Display + '_>> {
        (!self.finding.fix.is_empty()).then(|| Box::new(&self.finding.fix) as _)
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        self.excerpt.map(|excerpt| excerpt as _)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let span = self.excerpt?.span.clone();
        let label = LabeledSpan::new_with_span(Some(self.finding.label.clone()), span);
        Some(Box::new(std::iter::once(label)))
    }
}

/// The findings as text, the file's lines beside them: the first hundred, and how many more there are.
pub fn render(file: &Path, text: &str, findings: &[Finding], style: Style) -> String {
    let name = file.display().to_string();
    let styles = if style.colours() { ThemeStyles::ansi() } else { ThemeStyles::none() };
    let handler = GraphicalReportHandler::new_themed(GraphicalTheme {
        characters: ThemeCharacters::unicode(),
        styles,
    })
    .with_width(100)
    .with_context_lines(1);
    let mut out = String::new();
    for finding in findings.iter().take(MOST) {
        let excerpt = finding.span.as_ref().map(|span| Excerpt::of(&name, text, span));
        let _ = handler.render_report(&mut out, &Shown { finding, excerpt: excerpt.as_ref() });
        out.push('\n');
    }
    if let Some(more @ 1..) = findings.len().checked_sub(MOST) {
        out.push_str(&format!("and {} more; fix these first\n\n", count(more, "finding")));
    }
    // The handler calls it help; here it is the fix.
    out.replace("  help: ", "  fix: ")
}

/// Writes what blocks to the standard error stream.
pub fn print(file: &Path, text: &str, findings: &[Finding]) {
    use std::io::Write as _;
    let blocking: Vec<Finding> =
        findings.iter().filter(|f| f.grade == Grade::Blocks).cloned().collect();
    let shown = render(file, text, &blocking, Style::stderr());
    let _ = std::io::stderr().lock().write_all(shown.as_bytes());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str, span: Range<usize>) -> String {
        let finding = Finding::blocks("odd", "it is odd").at(span, "here").fix("fix it");
        render(Path::new("zoisite.toml"), text, &[finding], Style::plain())
    }

    #[test]
    fn the_line_and_its_neighbours_are_shown_with_their_numbers() {
        let text = "one = 1\ntwo = 2\nthree = 3\nfour = 4\n";
        let out = shown(text, 16..21);
        assert!(out.contains("zoisite.toml:3:1"), "{out}");
        assert!(out.contains("2 │ two = 2") && out.contains("3 │ three = 3"), "{out}");
        assert!(out.contains("4 │ four = 4") && !out.contains("one = 1"), "{out}");
        // Also at the very end, and where the place is empty.
        assert!(shown(text, text.len()..text.len()).contains("here"));
        assert!(shown("", 0..0).contains("it is odd"));
    }

    #[test]
    fn of_a_line_without_end_a_window_is_shown() {
        let text = format!("x = \"{}tide{}\"\n", "a".repeat(50_000), "b".repeat(50_000));
        let at = text.find("tide").unwrap();
        let out = shown(&text, at..at + 4);
        assert!(out.len() < 1_200, "{}", out.len());
        assert!(out.contains("aaatidebbb") && out.contains('…'), "{out}");
    }

    #[test]
    fn what_a_terminal_would_obey_is_shown_and_not_sent() {
        let text = "a = \"\u{1b}]0;owned\u{7}\"\nmembers = 3\n";
        let out = shown(text, 4..10);
        assert!(!out.contains(['\u{1b}', '\u{7}']), "{out:?}");
        assert!(out.contains("·]0;owned·"), "{out}");
    }

    #[test]
    fn so_many_are_shown_and_the_others_counted() {
        let many: Vec<Finding> =
            (0..250).map(|n| Finding::blocks("odd", format!("no {n}."))).collect();
        let out = render(Path::new("zoisite.toml"), "", &many, Style::plain());
        assert!(out.contains("no 99.") && !out.contains("no 100."), "{out}");
        assert!(out.contains("and 150 findings more"), "{out}");
    }
}
