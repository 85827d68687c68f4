//! Join files and reports: who signs them, each host's word, and what was written and came back last.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use zoisite_core::cluster::HostName;
use zoisite_core::join_file::{Outcome, ReportBody, Signer, make_word};
use zoisite_core::pki::{KeyKind, KeySource, Secret, SecretRef};

use crate::keys::random;
use crate::records::Change;
use crate::state::{CARRIED, State, json, sealed};
use crate::{StoreError, Strongbox};

/// The last join file of a host, and the last report that came back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Carried {
    /// Its number; later ones are larger.
    pub number: u64,
    /// What it has the host do, in few words.
    pub errand: String,
    /// When it was made.
    pub made: Timestamp,
    /// When it ends.
    pub expires: Timestamp,
    /// The token in it, by its id.
    pub token: Option<String>,
    /// The last report.
    pub report: Option<Taken>,
    /// The last file with which the host joins: its number, and what is said there of whom to believe.
    #[serde(default)]
    pub brings: Option<Brings>,
    /// What the host told that it holds of that.
    #[serde(default)]
    pub holds: Option<String>,
}

/// What a join file says of whom to believe, and who signs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Brings {
    /// The file's number.
    pub number: u64,
    /// What stands for it: another one where an authority is replaced.
    pub trust: String,
}

impl Carried {
    /// Takes in what the host tells. That it holds what a file brought counts until another file was carried out.
    pub fn take(&mut self, report: Taken) {
        let done = matches!(report.body.outcome, Outcome::Done | Outcome::Again);
        if let Some(brings) = self.brings.as_ref().filter(|_| done)
            && brings.number == report.body.number
        {
            self.holds = Some(brings.trust.clone());
        }
        self.report = Some(report);
    }

    /// Whether the host has been given a file with which it joins, and may hold something else than this of whom to
    /// believe.
    pub fn may_believe_otherwise(&self, trust: &str) -> bool {
        self.brings.is_some() && self.holds.as_deref() != Some(trust)
    }

    /// What a person should know of it; nothing where all is well.
    pub fn fault(&self) -> Option<String> {
        let body = &self.report.as_ref()?.body;
        if let Some(why) = body.failed.as_ref().filter(|_| body.outcome == Outcome::Failed) {
            return Some(why.clone());
        }
        let stopped = body.stages.iter().find(|stage| stage.passed == Some(false));
        stopped.map(|stage| format!("{}: {}", stage.stage, stage.seen))
    }
}

/// What is kept of a report.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taken {
    /// What the host reported.
    #[serde(flatten)]
    pub body: ReportBody,
    /// When it was read here.
    pub read: Timestamp,
    /// What is not as wanted there.
    pub differs: Vec<String>,
}

/// Who signs join files; made at first use.
///
/// # Errors
/// When the store cannot be used or the strongbox cannot be opened; nothing is recorded then.
pub fn signer(
    state: &mut State,
    strongbox: &Strongbox,
    keys: &dyn KeySource,
) -> Result<Signer, StoreError> {
    let which = SecretRef::JoinFileSigner;
    let private = match state.kept(&which, strongbox)? {
        Some(kept) => kept,
        None => {
            let recipients = state.recipients(strongbox)?;
            let made = keys.key(KeyKind::EcdsaP256)?.private;
            state.write(vec![sealed(&which, &made, &recipients)?])?;
            made
        }
    };
    Signer::of(&private).map_err(|why| StoreError::NoSecret(format!("join files ({why})")))
}

/// The words of hosts. Those that have none get one, and keep it.
///
/// # Errors
/// As for [`signer`].
pub fn words(
    state: &mut State,
    strongbox: &Strongbox,
    hosts: &[HostName],
) -> Result<BTreeMap<HostName, Secret>, StoreError> {
    let recipients = state.recipients(strongbox)?;
    let (mut words, mut changes) = (BTreeMap::new(), Vec::new());
    for host in hosts {
        let word = match word(state, strongbox, host)? {
            Some(kept) => kept,
            None => {
                let made = make_word(random());
                changes.push(sealed(&SecretRef::HostWord(host.clone()), &made, &recipients)?);
                made
            }
        };
        words.insert(host.clone(), word);
    }
    state.write(changes)?;
    Ok(words)
}

/// The word of a host, where it has one.
///
/// # Errors
/// When the store cannot be used or the strongbox cannot be opened.
pub fn word(
    state: &mut State,
    strongbox: &Strongbox,
    host: &HostName,
) -> Result<Option<Secret>, StoreError> {
    state.kept(&SecretRef::HostWord(host.clone()), strongbox)
}

/// What was written and came back, by host.
///
/// # Errors
/// When a record cannot be read.
pub fn carried(state: &State) -> Result<BTreeMap<HostName, Carried>, StoreError> {
    state.by_host(CARRIED)
}

/// Records what was written for hosts, or came back.
///
/// # Errors
/// When the store cannot be used.
pub fn put_carried(
    state: &mut State,
    all: impl IntoIterator<Item = (HostName, Carried)>,
) -> Result<(), StoreError> {
    let mut changes = Vec::new();
    for (host, carried) in all {
        changes.push(Change::put(CARRIED, host.as_str(), json(CARRIED, &carried)?));
    }
    state.write(changes)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn taken(number: u64, outcome: Outcome) -> Taken {
        let body = ReportBody {
            number,
            count: number,
            at: Timestamp::UNIX_EPOCH,
            outcome,
            changed: 0,
            failed: None,
            stages: Vec::new(),
        };
        Taken { body, read: Timestamp::UNIX_EPOCH, differs: Vec::new() }
    }

    #[test]
    fn a_host_believes_what_its_report_says_was_done_and_nothing_before() {
        let at = Timestamp::UNIX_EPOCH;
        let brings = |number, trust: &str| Some(Brings { number, trust: trust.into() });
        let mut carried = Carried {
            number: 1,
            errand: "looks".into(),
            made: at,
            expires: at,
            token: None,
            report: None,
            brings: None,
            holds: None,
        };
        assert!(!carried.may_believe_otherwise("one"), "nothing was put there");
        carried.brings = brings(2, "one");
        assert!(carried.may_believe_otherwise("one"), "it is not known whether it was carried out");
        for outcome in [Outcome::Looked, Outcome::Failed, Outcome::Asked] {
            carried.take(taken(2, outcome));
            assert!(carried.may_believe_otherwise("one"), "{outcome:?}");
        }
        // Of another file it says nothing of this one.
        carried.take(taken(1, Outcome::Done));
        assert!(carried.may_believe_otherwise("one"));
        carried.take(taken(2, Outcome::Done));
        assert!(!carried.may_believe_otherwise("one") && carried.may_believe_otherwise("both"));
        // Another file is on its way: until its report comes it holds what it held.
        carried.brings = brings(3, "both");
        assert!(!carried.may_believe_otherwise("one") && carried.may_believe_otherwise("both"));
        carried.take(taken(3, Outcome::Again));
        assert!(!carried.may_believe_otherwise("both") && carried.may_believe_otherwise("one"));
    }
}
