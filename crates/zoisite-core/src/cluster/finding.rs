use std::collections::HashMap;
use std::ops::Range;

use serde::Serialize;

/// Where values stand in the file, by dotted path (`etcd.members`, `hosts.heron`).
pub(super) type Places = HashMap<String, Range<usize>>;

/// How much a [`Finding`] matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    /// Nothing can be raised before this is fixed.
    Blocks,
    /// It works, but not as well as most people would want.
    Warns,
}

/// One thing found wrong, or risky, in a cluster file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Stable name of the kind of finding, such as `unknown-key`.
    pub code: &'static str,
    /// How much it matters.
    pub grade: Grade,
    /// What is wrong, in one sentence.
    pub message: String,
    /// A few words to stand right under the place in the file.
    pub label: String,
    /// What to do about it.
    pub fix: String,
    /// Byte range in the file's text; `None` when something is missing altogether.
    pub span: Option<Range<usize>>,
}

/// A text with words of the file in it: in one line, without end only so far, and nothing that a terminal
/// would obey.
fn tame(text: String) -> String {
    const MOST: usize = 400;
    let text = match text.char_indices().nth(MOST) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text,
    };
    crate::text::plain(&text).replace('\n', " ")
}

impl Finding {
    /// A finding that blocks.
    pub fn blocks(code: &'static str, message: impl Into<String>) -> Self {
        Self {
            code,
            grade: Grade::Blocks,
            message: tame(message.into()),
            label: String::new(),
            fix: String::new(),
            span: None,
        }
    }

    /// A finding that warns.
    pub fn warns(code: &'static str, message: impl Into<String>) -> Self {
        Self { grade: Grade::Warns, ..Self::blocks(code, message) }
    }

    /// Adds where in the file it stands, and the words to put there.
    pub fn at(mut self, span: Range<usize>, label: impl Into<String>) -> Self {
        self.span = Some(span);
        self.label = tame(label.into());
        self
    }

    /// Adds what to do about it.
    pub fn fix(mut self, fix: impl Into<String>) -> Self {
        self.fix = tame(fix.into());
        self
    }

    /// The line, counted from 1, on which the finding stands in `text`.
    pub fn line(&self, text: &str) -> Option<usize> {
        let start = self.span.as_ref()?.start.min(text.len());
        Some(text.as_bytes()[..start].iter().filter(|b| **b == b'\n').count() + 1)
    }
}
