//! Failures as a person meets them, and exit statuses.

use std::fmt::Write as _;
use std::process::ExitCode;

use zoisite_core::aim::Held;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::sequence::{Refusal, Unplannable};
use zoisite_store::StoreError;

use crate::view::{alike, names};

/// What kind of failure it is, and so which exit status.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A run failed: 1.
    Run,
    /// Wrong usage, or a file that is invalid: 2.
    Usage,
    /// Findings: 3.
    Findings,
    /// Refused by a safety rule: 4.
    Refused,
}

/// One thing that went wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// What was attempted, or what is wrong.
    pub what: String,
    /// Further lines: a label and its text.
    pub notes: Vec<(&'static str, String)>,
    /// Of a host's trouble whose cause is known: the host, and what it was kept from and why. What several hosts share is
    /// told once.
    pub of: Option<(HostName, String)>,
}

/// Why a command did not do what was asked: every problem.
#[derive(Clone, Debug)]
pub struct Failure {
    kind: Kind,
    problems: Vec<Problem>,
}

impl Failure {
    /// One problem with its fix.
    pub fn new(kind: Kind, what: impl Into<String>, fix: impl Into<String>) -> Self {
        let notes = vec![("fix", fix.into())];
        Self { kind, problems: vec![Problem { what: what.into(), notes, of: None }] }
    }

    /// A person was asked and did not say yes, or there is no terminal to ask at: nothing was `done`.
    pub fn not_confirmed(done: &str) -> Self {
        let fix = "answer yes at a terminal, or say --yes";
        Self::new(Kind::Refused, format!("you did not agree, and nothing was {done}"), fix)
    }

    /// A failure that says nothing more: all was said before.
    pub fn reported(kind: Kind) -> Self {
        Self { kind, problems: Vec::new() }
    }

    /// A file or folder that could not be read or written.
    pub fn file(doing: &str, path: &std::path::Path, error: &std::io::Error) -> Self {
        Self::new(
            Kind::Usage,
            format!("{doing} {}: {error}", path.display()),
            "check that it is there and that you may read and write it",
        )
    }

    /// Troubles of hosts.
    pub fn troubles<'a>(troubles: impl IntoIterator<Item = &'a Trouble>) -> Self {
        Self { kind: Kind::Run, problems: troubles.into_iter().map(trouble).collect() }
    }

    /// What the file wants and a run leaves as it is.
    pub fn held<'a>(kind: Kind, held: impl IntoIterator<Item = &'a Held>) -> Self {
        let problem = |held: &Held| Problem {
            what: held.to_string(),
            notes: vec![("fix", held.fix.clone())],
            of: None,
        };
        Self { kind, problems: held.into_iter().map(problem).collect() }
    }

    /// Adds a note to the last problem.
    pub fn note(mut self, label: &'static str, text: impl Into<String>) -> Self {
        if let Some(problem) = self.problems.last_mut() {
            let before = problem.notes.len().saturating_sub(1);
            problem.notes.insert(before, (label, text.into()));
        }
        self
    }

    /// With the problems of another one after its own, each told once.
    pub fn and(mut self, other: Self) -> Self {
        for problem in other.problems {
            if !self.problems.contains(&problem) {
                self.problems.push(problem);
            }
        }
        self
    }

    /// Its kind.
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// A word for the journal.
    pub fn summary(&self) -> String {
        match self.problems.as_slice() {
            [] => "failed".into(),
            [one] => one.what.clone(),
            [one, rest @ ..] => format!("{}, and {} more", one.what, rest.len()),
        }
    }

    /// Writes it to the standard error stream.
    #[expect(clippy::print_stderr, reason = "this is where errors go")]
    pub fn print(&self) {
        let mut out = String::new();
        let same = |a: &Problem, b: &Problem| match (&a.of, &b.of) {
            (Some((_, one)), Some((_, other))) => one == other,
            _ => false,
        };
        for some in alike(&self.problems, same) {
            let _ = writeln!(out, "error: {}", some[0].what);
            for (label, text) in &some[0].notes {
                let _ = writeln!(out, "  {label:<9} {text}");
            }
            let others = some[1..].iter().filter_map(|one| one.of.as_ref());
            let others: Vec<&HostName> = others.map(|(host, _)| host).collect();
            if !others.is_empty() {
                let _ = writeln!(out, "  {:<9} {}", "alike", names(&others));
            }
        }
        let out = crate::view::wrapped(&out, &console::Term::stderr());
        eprint!("{}", crate::view::tame(&out));
    }

    /// The exit status.
    pub fn exit_code(&self) -> ExitCode {
        ExitCode::from(match self.kind {
            Kind::Run => 1,
            Kind::Usage => 2,
            Kind::Findings => 3,
            Kind::Refused => 4,
        })
    }
}

fn trouble(trouble: &Trouble) -> Problem {
    let host = trouble.host.as_ref().map_or(String::new(), |host| format!("{host}: "));
    let mut notes = vec![("came back", trouble.answer.clone())];
    notes.extend(trouble.cause.iter().map(|cause| ("likely", cause.clone())));
    let seen = &trouble.evidence[trouble.evidence.len().saturating_sub(4)..];
    notes.extend(seen.iter().map(|line| ("evidence", line.clone())));
    notes.push(("fix", trouble.fix.clone()));
    let cause = trouble.cause.as_ref().map(|cause| format!("{}: {cause}", trouble.attempted));
    let of = trouble.host.clone().zip(cause);
    Problem { what: format!("{host}{} failed", trouble.attempted), notes, of }
}

fn refusal(refusal: &Refusal) -> Problem {
    Problem {
        what: refusal.to_string(),
        notes: vec![
            ("rule", format!("{} (docs/safety.md)", refusal.rule)),
            ("fix", refusal.fix.clone()),
        ],
        of: None,
    }
}

impl From<Vec<Refusal>> for Failure {
    fn from(refusals: Vec<Refusal>) -> Self {
        Self { kind: Kind::Refused, problems: refusals.iter().map(refusal).collect() }
    }
}

impl From<Unplannable> for Failure {
    fn from(none: Unplannable) -> Self {
        let kind = if none.refusals.is_empty() { Kind::Run } else { Kind::Refused };
        let problems =
            none.refusals.iter().map(refusal).chain(none.troubles.iter().map(trouble)).collect();
        Self { kind, problems }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        let mut notes = Vec::new();
        let mut source = std::error::Error::source(&error);
        while let Some(cause) = source {
            notes.push(("because", cause.to_string()));
            source = cause.source();
        }
        notes.push(("fix", error.fix()));
        let kind = match error {
            StoreError::Locked { .. } => Kind::Refused,
            StoreError::File { .. }
            | StoreError::LooseIdentity { .. }
            | StoreError::BadIdentity { .. }
            | StoreError::BadRecipient(_)
            | StoreError::WrongIdentity { .. }
            | StoreError::NoIdentity { .. }
            | StoreError::Newer { .. }
            | StoreError::Unsound { .. }
            | StoreError::Damaged { .. }
            | StoreError::Named(_)
            | StoreError::Replacing(_)
            | StoreError::NotReplacing(_)
            | StoreError::TooLate(_)
            | StoreError::Asked(_)
            | StoreError::NotAsked(_)
            | StoreError::Answer { .. }
            | StoreError::NoTokenKey => Kind::Usage,
            _ => Kind::Run,
        };
        if matches!(error, StoreError::Locked { .. }) {
            notes.insert(0, ("rule", "S11 one hand (docs/safety.md)".into()));
        }
        Self { kind, problems: vec![Problem { what: error.to_string(), notes, of: None }] }
    }
}
