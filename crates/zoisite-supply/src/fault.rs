//! What went wrong on the way.

/// Why a component could not be had.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// What was attempted.
    pub attempted: String,
    /// What came back.
    pub answer: String,
    /// What to do next.
    pub fix: String,
    /// Whether something is not what was pinned or published: nothing may go on with it.
    pub changed: bool,
}

impl Fault {
    pub(crate) fn new(
        attempted: impl Into<String>,
        answer: impl Into<String>,
        fix: impl Into<String>,
    ) -> Self {
        Self { attempted: attempted.into(), answer: answer.into(), fix: fix.into(), changed: false }
    }

    pub(crate) fn changed(mut self) -> Self {
        self.changed = true;
        self
    }

    /// A file here that could not be read or written.
    pub(crate) fn here(doing: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        let fix = match error.kind() {
            std::io::ErrorKind::StorageFull => {
                "make room on this file system; what is whole stays, and the same command goes on"
            }
            _ => "check that it is there and that you may read and write it",
        };
        Self::new(format!("{doing} {}", path.display()), error.to_string(), fix)
    }
}
