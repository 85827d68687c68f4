//! What is recorded of each certificate that was issued.

use jiff::{SignedDuration, Timestamp};
use rustls_pki_types::CertificateDer;
use serde::{Deserialize, Serialize};

use super::keys::{KeyKind, PkiError};
use super::profile::{AuthorityKind, Profile};
use super::standing::AuthorityState;
use super::wanted::San;
use crate::cluster::HostName;

/// An authority's certificate, as the ledger holds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AuthorityCertificate {
    /// The trust domain.
    pub kind: AuthorityKind,
    /// Serial number, in hexadecimal.
    pub serial: String,
    /// Subject's common name.
    pub subject: String,
    /// Begin.
    pub not_before: Timestamp,
    /// End.
    pub not_after: Timestamp,
    /// SHA-256 of the DER encoding, in hexadecimal.
    pub sha256: String,
    /// The certificate, PEM.
    pub pem: String,
    /// SHA-256 of the private key's PEM text, in hexadecimal.
    #[serde(default)]
    pub key_sha256: String,
    /// What it does at the moment.
    #[serde(default)]
    pub standing: AuthorityState,
    /// The certificates above it, PEM: its issuer first, the root last. None where it signed itself.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub issuers: Vec<String>,
}

impl AuthorityCertificate {
    /// What is shown beside a certificate that it issued, for those that believe the root alone: its own, and those
    /// between the root and it, PEM.
    pub fn shown_chain(&self) -> String {
        match self.issuers.split_last() {
            None => String::new(),
            Some((_, between)) => {
                std::iter::once(&self.pem).chain(between).map(String::as_str).collect()
            }
        }
    }

    /// The certificate, DER.
    ///
    /// # Errors
    /// When the stored text is damaged.
    pub fn der(&self) -> Result<CertificateDer<'static>, PkiError> {
        der(&self.pem, &format!("the {} authority", self.kind))
    }
}

/// Where the private key of a certificate is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyAt {
    /// Made here and sealed in the strongbox, or handed out and not kept.
    #[default]
    Strongbox,
    /// On the host that made it, and nowhere else.
    Host,
    /// Its host has still to make it: such an entry stands for the one to come where a run is planned and proven, is
    /// signed for a key that does not exist, and is never recorded.
    ToCome,
}

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
    /// The certificate, PEM; after it those that a verifier needs that believes a root above its authority.
    pub pem: String,
    /// SHA-256 of the private key's PEM text: tells a changed key on a host without opening it. Empty
    /// where the key was made elsewhere.
    pub key_sha256: String,
    /// Where the private key is.
    #[serde(default, skip_serializing_if = "KeyAt::is_strongbox")]
    pub key_at: KeyAt,
    /// Whether a person asked for another one with another key, which its host has still to make.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unwanted: bool,
    /// Serial of the certificate that took its place.
    pub replaced_by: Option<String>,
    /// When its host was retired: it is in use no more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retired: Option<Timestamp>,
}

impl KeyAt {
    fn is_strongbox(&self) -> bool {
        *self == Self::Strongbox
    }
}

impl LedgerEntry {
    /// The certificate, DER.
    ///
    /// # Errors
    /// When the stored text is damaged.
    pub fn der(&self) -> Result<CertificateDer<'static>, PkiError> {
        der(&self.pem, &self.label())
    }

    /// Whether nothing took its place and its holder is there.
    pub fn is_in_force(&self) -> bool {
        self.replaced_by.is_none() && self.retired.is_none()
    }

    /// `etcd-peer of heron`.
    pub fn label(&self) -> String {
        match self.holder() {
            Some(holder) => format!("{} of {holder}", self.profile),
            None => self.profile.to_string(),
        }
    }

    /// Whose it is: a host's or a person's; a run's own certificate belongs to neither.
    pub fn holder(&self) -> Option<&str> {
        match (&self.host, self.profile) {
            (Some(host), _) => Some(host.as_str()),
            (None, Profile::Person) => Some(&self.common_name),
            (None, Profile::PersonInEtcd) => {
                Some(self.common_name.strip_prefix("person:").unwrap_or(&self.common_name))
            }
            (None, Profile::Monitoring) => Some("the site's monitoring"),
            (None, _) => None,
        }
    }

    /// When it should be replaced: so many seconds before its end as the cluster file says, but not before half of its
    /// life; by default in the last third of its life, and at most 60 days before its end.
    pub fn renew_from(&self, renew: Option<i64>) -> Timestamp {
        let life = self.not_after.as_second() - self.not_before.as_second();
        let early = renew.map_or((life / 3).min(60 * 86_400), |renew| renew.min(life / 2));
        let early = SignedDuration::from_secs(early);
        self.not_after.checked_sub(early).unwrap_or(self.not_before)
    }
}

pub(super) fn der(pem: &str, what: &str) -> Result<CertificateDer<'static>, PkiError> {
    use rustls_pki_types::pem::PemObject as _;
    CertificateDer::from_pem_slice(pem.as_bytes())
        .map_err(|e| PkiError::Unreadable { what: what.to_owned(), why: e.to_string() })
}
