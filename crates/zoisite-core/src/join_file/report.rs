//! What an offline host tells of itself.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::sealing;
use crate::cluster::HostName;
use crate::pki::{KeyRequest, Secret};
use crate::script::{Observed, fields, key_request};
use crate::survey::Facts;
use crate::text::plain;

/// Its first line.
const FORM: &str = "Zoisite report, form 1";

/// What came of a join file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// The host looked at itself.
    Looked,
    /// All of it was done.
    Done,
    /// It had been done before.
    Again,
    /// It goes on when the keys are signed that the host made.
    Asked,
    /// Something failed.
    Failed,
}

/// How a host stands to a stage of joining, as it sees it itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportedStage {
    /// The stage, in a word.
    pub stage: String,
    /// Whether it is past it; `None` where that has still to come.
    pub passed: Option<bool>,
    /// What shows it.
    pub seen: String,
}

/// What a host tells of a join file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportBody {
    /// Of which join file it tells.
    pub number: u64,
    /// How many reports the host wrote before, and this one.
    pub count: u64,
    /// When, by its own clock.
    pub at: Timestamp,
    /// What came of the join file.
    pub outcome: Outcome,
    /// So many things changed.
    pub changed: usize,
    /// What failed, in the host's words.
    pub failed: Option<String>,
    /// How far it has come in joining.
    pub stages: Vec<ReportedStage>,
}

/// A host's report.
#[derive(Clone, Debug)]
pub struct Report {
    /// Which host says that it is its own.
    pub host: HostName,
    /// The cluster's identity.
    pub cluster: String,
    /// What it tells.
    pub body: ReportBody,
    /// What it is like: the answer that a look would have had. `None` where it is not complete.
    pub observed: Option<Box<Observed>>,
    /// What it asks for keys that it made.
    pub requests: Vec<KeyRequest>,
    /// What a survey of it finds; `None` where it was not asked, or that is not complete.
    pub facts: Option<Box<Facts>>,
    sealed: Sealed,
}

/// What the seal is of.
#[derive(Clone, Debug)]
struct Sealed {
    text: Vec<u8>,
    seal: Vec<u8>,
}

/// Why a text is no report that counts.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ReportError {
    /// It is something else.
    #[error("it is no report of a host: {0}")]
    NoReport(String),
    /// It ends before its seal.
    #[error("it is cut: its seal is missing")]
    Cut,
    /// Another text was sealed, or by another word.
    #[error("its seal does not hold: it was altered, or {0} did not write it")]
    Forged(HostName),
}

impl Report {
    /// The largest that is read, in octets: one of a host has some ten thousand.
    pub const LARGEST: usize = 4 * 1_024 * 1_024;

    /// Reads a report. Nothing of it is to be believed before [`report::is_sealed_by`] says so.
    ///
    /// # Errors
    /// Where it is none, or cut.
    pub fn read(text: &str) -> Result<Self, ReportError> {
        let none = |why: &str| ReportError::NoReport(why.to_owned());
        if text.len() > Self::LARGEST {
            return Err(none("it is larger than any"));
        }
        if text.lines().next() != Some(FORM) {
            return Err(none(&format!("it does not begin with '{FORM}'")));
        }
        let at = text.find("\n#-- end\n").ok_or(ReportError::Cut)? + "\n#-- end\n".len();
        let (whole, seal) = text.split_at(at);
        let seal = seal.strip_prefix("seal ").and_then(|seal| seal.strip_suffix('\n'));
        let seal = seal.and_then(octets).ok_or(ReportError::Cut)?;
        let (head, parts) = whole.split_once("\n#-- said\n").ok_or(ReportError::Cut)?;
        let (said, rest) = parts.split_once("#-- stands\n").ok_or(ReportError::Cut)?;
        let (stands, rest) = rest.split_once("#-- looked\n").ok_or(ReportError::Cut)?;
        // Join files of before asked nothing of the kind.
        let (looked, surveyed) = rest.split_once("#-- surveyed\n").unwrap_or((rest, ""));
        let field = |key: &str| {
            let mut lines = head.lines().filter_map(|line| line.split_once(' '));
            lines.find(|(known, _)| *known == key).map(|(_, value)| value)
        };
        let wanted = |key: &str| field(key).ok_or_else(|| none(&format!("it has no {key}")));
        let number = |key: &str| -> Result<u64, ReportError> {
            wanted(key)?.parse().map_err(|_| none(&format!("its {key} is no number")))
        };
        let outcome = match wanted("outcome")? {
            "looked" => Outcome::Looked,
            "done" => Outcome::Done,
            "again" => Outcome::Again,
            "asked" => Outcome::Asked,
            "failed" => Outcome::Failed,
            _ => return Err(none("its outcome is not known")),
        };
        let seconds = i64::try_from(number("at")?).unwrap_or(i64::MAX);
        let (changed, failed) = replies(said);
        Ok(Self {
            host: HostName::new(wanted("host")?).map_err(|_| none("it names no host"))?,
            cluster: plain(wanted("cluster")?).into_owned(),
            body: ReportBody {
                number: number("number")?,
                count: number("count")?,
                at: Timestamp::from_second(seconds).map_err(|_| none("its time is none"))?,
                outcome,
                changed,
                failed,
                stages: reported_stages(stands),
            },
            observed: Observed::read(looked).ok().map(Box::new),
            requests: requests(said),
            facts: Facts::read(surveyed, None).map(Box::new),
            sealed: Sealed { text: whole.as_bytes().to_vec(), seal },
        })
    }

    /// Whether the host with this word wrote it.
    ///
    /// # Errors
    /// Where somebody else did, or altered it.
    pub fn is_sealed_by(&self, word: &Secret) -> Result<(), ReportError> {
        let key = sealing::report_key(word, self.host.as_str());
        match sealing::seals(&key, &self.sealed.text, &self.sealed.seal) {
            true => Ok(()),
            false => Err(ReportError::Forged(self.host.clone())),
        }
    }
}

/// How many things changed, and what failed.
fn replies(text: &str) -> (usize, Option<String>) {
    let (mut changed, mut failed) = (0, None);
    for line in text.lines() {
        match fields(&plain(line)).as_deref() {
            Some(["changed", ..]) => changed += 1,
            Some(["failed", _, what, why]) => failed = Some(format!("{what}: {why}")),
            Some(["busy"]) => failed = Some("another run is at work there".into()),
            Some(["newer", run]) => failed = Some(format!("run {run}, which is newer, was there")),
            _ => {}
        }
    }
    (changed, failed)
}

fn requests(text: &str) -> Vec<KeyRequest> {
    let mut out = Vec::new();
    for line in text.lines() {
        if let Some(["key", path, key_sha256, request]) = fields(&plain(line)).as_deref() {
            out.extend(key_request(path, key_sha256, request));
        }
    }
    out
}

fn reported_stages(text: &str) -> Vec<ReportedStage> {
    let mut out = Vec::new();
    for line in text.lines() {
        if let Some(["stage", stage, passed, seen]) = fields(&plain(line)).as_deref() {
            let passed = match *passed {
                "yes" => Some(true),
                "no" => Some(false),
                _ => None,
            };
            let (stage, seen) = ((*stage).to_owned(), (*seen).to_owned());
            out.push(ReportedStage { stage, passed, seen });
        }
    }
    out
}

/// Octets of hexadecimal digits.
fn octets(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes();
    (digits.len() == 64).then_some(())?;
    digits
        .chunks(2)
        .map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok())
        .collect()
}
