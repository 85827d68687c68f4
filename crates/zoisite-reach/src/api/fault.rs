//! Why a piece of work on the API was not done.

use super::ApiError;

/// Why a piece of work was not done.
pub(crate) struct WorkError {
    pub attempted: String,
    pub answer: String,
    pub evidence: Vec<String>,
    /// Whether doing the same again may help.
    pub passing: bool,
}

pub(super) fn failed(attempted: impl Into<String>) -> impl FnOnce(ApiError) -> WorkError {
    let attempted = attempted.into();
    move |error| WorkError {
        attempted,
        passing: error.passing(),
        answer: error.to_string(),
        evidence: Vec::new(),
    }
}

pub(super) fn refused(
    attempted: String,
    answer: impl Into<String>,
    evidence: Vec<String>,
) -> WorkError {
    WorkError { attempted, answer: answer.into(), evidence, passing: false }
}
