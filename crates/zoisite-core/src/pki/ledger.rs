//! What was issued, and what must be issued next.

use std::collections::HashMap;
use std::fmt;

use jiff::{SignedDuration, Timestamp};
use rustls_pki_types::CertificateDer;
use serde::{Deserialize, Serialize};

use super::authority::AuthorityCertificate;
use super::keys::{KeyKind, PkiError};
use super::profile::{AuthorityKind, Holder, Profile};
use super::wanted::{San, Wanted};
use crate::cluster::HostName;

/// One certificate that was issued.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LedgerEntry {
    /// Serial number, in hexadecimal; unique under one authority, and the entry's key.
    pub serial: String,
    /// Its row in the table of profiles.
    pub profile: Profile,
    /// The host that holds it.
    pub host: Option<HostName>,
    /// The authority that issued it.
    pub authority: AuthorityKind,
    /// SHA-256 of that authority's certificate.
    pub authority_sha256: String,
    /// Subject's common name.
    pub common_name: String,
    /// Subject's organisation.
    pub organization: Option<String>,
    /// Names and addresses.
    pub names: Vec<San>,
    /// Algorithm of its key.
    pub key: KeyKind,
    /// Begin.
    pub not_before: Timestamp,
    /// End.
    pub not_after: Timestamp,
    /// SHA-256 of the DER encoding, in hexadecimal.
    pub sha256: String,
    /// The certificate, PEM.
    pub pem: String,
    /// SHA-256 of the private key's PEM text: tells a changed key on a host without opening it. Empty
    /// where the key was made elsewhere.
    pub key_sha256: String,
    /// Serial of the certificate that took its place.
    pub replaced_by: Option<String>,
}

impl LedgerEntry {
    /// The certificate, DER.
    ///
    /// # Errors
    /// When the stored text is damaged.
    pub fn der(&self) -> Result<CertificateDer<'static>, PkiError> {
        super::authority::der(&self.pem, &self.label())
    }

    /// `etcd-peer of heron`.
    pub fn label(&self) -> String {
        match self.holder() {
            Some(holder) => format!("{} of {holder}", self.profile),
            None => self.profile.to_string(),
        }
    }

    /// Whose it is: a host's or a person's; a run's own certificate is nobody's.
    pub fn holder(&self) -> Option<&str> {
        match (&self.host, self.profile) {
            (Some(host), _) => Some(host.as_str()),
            (None, Profile::Person) => Some(&self.common_name),
            (None, _) => None,
        }
    }

    /// When it should be replaced: in the last third of its life, and at most 60 days before its end.
    pub fn renew_from(&self) -> Timestamp {
        let life = self.not_after.as_second() - self.not_before.as_second();
        let early = SignedDuration::from_secs((life / 3).min(60 * 86_400));
        self.not_after.checked_sub(early).unwrap_or(self.not_before)
    }
}

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
