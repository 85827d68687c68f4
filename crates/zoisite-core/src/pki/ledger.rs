//! What was issued, and what must be issued next.

use std::collections::HashMap;
use std::fmt;

use jiff::Timestamp;

use super::issued::{AuthorityCertificate, LedgerEntry};
use super::profile::{AuthorityKind, Holder, Profile};
use super::wanted::{San, Wanted};
use crate::cluster::HostName;

/// Everything issued so far.
#[derive(Clone, Debug, Default)]
pub struct Ledger {
    /// The authorities, one of each kind at most.
    pub authorities: Vec<AuthorityCertificate>,
    /// The certificates, replaced ones included.
    pub entries: Vec<LedgerEntry>,
}

impl Ledger {
    /// The authority of that kind.
    pub fn authority(&self, kind: AuthorityKind) -> Option<&AuthorityCertificate> {
        self.authorities.iter().find(|authority| authority.kind == kind)
    }

    /// The certificates in force for hosts, by profile and host.
    pub fn current(&self) -> HashMap<(Profile, HostName), &LedgerEntry> {
        self.entries
            .iter()
            .filter(|entry| entry.replaced_by.is_none())
            .filter_map(|entry| Some(((entry.profile, entry.host.clone()?), entry)))
            .collect()
    }
}

/// Why a certificate must be issued.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Why {
    /// There is none yet.
    New,
    /// Its names changed.
    Names {
        /// What was missing.
        added: Vec<San>,
        /// What is no longer wanted.
        removed: Vec<San>,
    },
    /// Its subject, key algorithm or authority changed; the word says which.
    Changed(&'static str),
    /// It ends soon.
    Ends(Timestamp),
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list =
            |names: &[San]| names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        match self {
            Self::New => f.write_str("there is none yet"),
            Self::Names { added, removed } => {
                let gone = if removed.is_empty() {
                    String::new()
                } else {
                    format!("{} no longer wanted", list(removed))
                };
                match (added.is_empty(), removed.is_empty()) {
                    (false, true) => write!(f, "{} missing", list(added)),
                    (true, _) => f.write_str(&gone),
                    (false, false) => write!(f, "{} missing, {gone}", list(added)),
                }
            }
            Self::Changed(what) => write!(f, "its {what} changed"),
            Self::Ends(end) => write!(f, "it ends on {}", end.strftime("%Y-%m-%d")),
        }
    }
}

/// A certificate to issue.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Due {
    /// What to issue.
    pub wanted: Wanted,
    /// Why.
    pub why: Why,
    /// Serial of the one whose place it takes.
    pub replaces: Option<String>,
}

/// What must be issued so that everything in `wanted` is in force at `now`; empty when all is right.
pub fn due(wanted: &[Wanted], ledger: &Ledger, now: Timestamp) -> Vec<Due> {
    let current = ledger.current();
    wanted
        .iter()
        .filter_map(|wanted| {
            debug_assert_ne!(wanted.profile.holder(), Holder::Run);
            let host = wanted.host.clone()?;
            let entry = current.get(&(wanted.profile, host)).copied();
            let authority = ledger.authority(wanted.profile.authority());
            let why = why(wanted, entry, authority, now)?;
            Some(Due {
                wanted: wanted.clone(),
                why,
                replaces: entry.map(|entry| entry.serial.clone()),
            })
        })
        .collect()
}

fn why(
    wanted: &Wanted,
    entry: Option<&LedgerEntry>,
    authority: Option<&AuthorityCertificate>,
    now: Timestamp,
) -> Option<Why> {
    let Some(entry) = entry else { return Some(Why::New) };
    if authority.is_none_or(|authority| authority.sha256 != entry.authority_sha256) {
        return Some(Why::Changed("authority"));
    }
    if entry.names != wanted.names {
        let missing_in = |have: &[San], want: &[San]| -> Vec<San> {
            want.iter().filter(|name| !have.contains(name)).cloned().collect()
        };
        return Some(Why::Names {
            added: missing_in(&entry.names, &wanted.names),
            removed: missing_in(&wanted.names, &entry.names),
        });
    }
    if (&entry.common_name, &entry.organization) != (&wanted.common_name, &wanted.organization) {
        return Some(Why::Changed("subject"));
    }
    if entry.key != wanted.key {
        return Some(Why::Changed("key algorithm"));
    }
    (entry.renew_from() <= now).then_some(Why::Ends(entry.not_after))
}
