//! What was issued, and what must be issued next.

use std::collections::HashMap;
use std::fmt;

use jiff::Timestamp;

use super::encoding::sha256;
use super::issued::{AuthorityCertificate, KeyAt, LedgerEntry};
use super::keys::Secret;
use super::profile::{AuthorityKind, Holder, Profile};
use super::ring::Ring;
use super::standing::AuthorityState;
use super::wanted::{San, Wanted};
use crate::cluster::{HostName, KeysMade};

/// Everything issued so far.
#[derive(Clone, Debug, Default)]
pub struct Ledger {
    /// The authorities, those that are gone included.
    pub authorities: Vec<AuthorityCertificate>,
    /// The certificates, replaced ones included.
    pub entries: Vec<LedgerEntry>,
}

impl Ledger {
    /// The authorities of that kind.
    pub fn ring(&self, kind: AuthorityKind) -> Option<Ring<&AuthorityCertificate>> {
        let (used, mut accepted): (Vec<_>, Vec<_>) = self
            .authorities_of(kind)
            .filter(|authority| authority.standing.is_believed())
            .partition(|authority| authority.standing == AuthorityState::Signs);
        accepted.sort_by_key(|authority| std::cmp::Reverse(authority.not_before));
        Some(Ring { used: used.first()?, accepted })
    }

    /// The authority of that kind that signs.
    pub fn authority(&self, kind: AuthorityKind) -> Option<&AuthorityCertificate> {
        self.ring(kind).map(|ring| ring.used)
    }

    /// What verifiers of that kind are given: every authority in its ring, PEM.
    pub fn bundle(&self, kind: AuthorityKind) -> Option<String> {
        self.ring(kind).map(|ring| ring.bundle())
    }

    /// What those are given whose TLS library believes a root alone: the same, and all that stands above it.
    pub fn bundle_up_to_root(&self, kind: AuthorityKind) -> Option<String> {
        self.ring(kind).map(|ring| ring.bundle_up_to_root())
    }

    /// The authority that issued a certificate, if it is still in its ring.
    pub fn issuer(&self, entry: &LedgerEntry) -> Option<&AuthorityCertificate> {
        let ring = self.ring(entry.profile.authority())?;
        ring.all().copied().find(|authority| authority.sha256 == entry.authority_sha256)
    }

    /// The recorded certificate of a pair, where both are of one.
    pub fn recorded(&self, certificate: &str, key: &Secret) -> Option<&LedgerEntry> {
        let der = super::issued::der(certificate, "a pair").ok()?;
        let (certificate, key) = (sha256(&der), sha256(key.expose().as_bytes()));
        let is = |entry: &&LedgerEntry| entry.sha256 == certificate && entry.key_sha256 == key;
        self.entries.iter().find(is)
    }

    /// Whether anybody believes a certificate still: its authority may be gone, and people's are not issued again by
    /// themselves.
    pub fn believes(&self, entry: &LedgerEntry) -> bool {
        self.issuer(entry).is_some()
    }

    /// The same once these were issued, each in the place of what its host has of its profile.
    pub fn and(mut self, more: Vec<LedgerEntry>) -> Self {
        let taken: HashMap<(Profile, Option<HostName>), String> = more
            .iter()
            .map(|entry| ((entry.profile, entry.host.clone()), entry.serial.clone()))
            .collect();
        for entry in self.entries.iter_mut().filter(|entry| entry.is_in_force()) {
            let by = taken.get(&(entry.profile, entry.host.clone()));
            entry.replaced_by = by.cloned();
        }
        self.entries.extend(more);
        self
    }

    /// The certificates in force for hosts, by profile and host.
    pub fn current(&self) -> HashMap<(Profile, HostName), &LedgerEntry> {
        self.entries
            .iter()
            .filter(|entry| entry.is_in_force())
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

/// A person asked for another key.
pub const AS_ASKED: Why = Why::Changed("key, as you asked,");

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

impl Due {
    /// Whether its host makes its key, and asks for it.
    pub fn is_asked_for(&self) -> bool {
        self.wanted.keys_made == KeysMade::OnHosts
    }
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
            let why = why(wanted, entry, ledger, now)?;
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
    ledger: &Ledger,
    now: Timestamp,
) -> Option<Why> {
    let Some(entry) = entry else { return Some(Why::New) };
    // One that is only to be believed beside it makes nothing due.
    let signs = |authority: &AuthorityCertificate| authority.standing == AuthorityState::Signs;
    if !ledger.issuer(entry).is_some_and(signs) {
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
    if (entry.key_at == KeyAt::Host) != (wanted.keys_made == KeysMade::OnHosts) {
        return Some(Why::Changed("key's place"));
    }
    if entry.unwanted {
        return Some(AS_ASKED);
    }
    (entry.renew_from(wanted.renew) <= now).then_some(Why::Ends(entry.not_after))
}
