//! Findings, each under the place in the file where it stands.

use std::fmt;
use std::path::Path;

use miette::{
    Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, Severity,
    SourceCode, ThemeCharacters, ThemeStyles,
};
use zoisite_core::cluster::{Finding, Grade};

use super::Style;

struct Shown<'a> {
    finding: &'a Finding,
    source: &'a NamedSource<String>,
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
        (!self.finding.mend.is_empty()).then(|| Box::new(&self.finding.mend) as _)
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        self.finding.span.as_ref().map(|_| self.source as _)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let span = self.finding.span.clone()?;
        let label = LabeledSpan::new_with_span(Some(self.finding.label.clone()), span);
        Some(Box::new(std::iter::once(label)))
    }
}

/// All findings as text, the file's lines beside them.
pub fn render(file: &Path, text: &str, findings: &[Finding], style: Style) -> String {
    let source = NamedSource::new(file.display().to_string(), text.to_owned());
    let styles = if style.colours() { ThemeStyles::ansi() } else { ThemeStyles::none() };
    let handler = GraphicalReportHandler::new_themed(GraphicalTheme {
        characters: ThemeCharacters::unicode(),
        styles,
    })
    .with_width(100)
    .with_context_lines(1);
    let mut out = String::new();
    for finding in findings {
        let _ = handler.render_report(&mut out, &Shown { finding, source: &source });
        out.push('\n');
    }
    // The handler calls it help; here it is the mend.
    out.replace("  help: ", "  mend: ")
}

/// Writes what blocks to the standard error stream.
pub fn print(file: &Path, text: &str, findings: &[Finding]) {
    use std::io::Write as _;
    let blocking: Vec<Finding> =
        findings.iter().filter(|f| f.grade == Grade::Blocks).cloned().collect();
    let shown = render(file, text, &blocking, Style::stderr());
    let _ = std::io::stderr().lock().write_all(shown.as_bytes());
}
