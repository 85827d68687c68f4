//! A root of the cluster's own, above its authorities.

use jiff::Timestamp;
use rcgen::{BasicConstraints, IsCa, Issuer, KeyPair, SerialNumber};
use serde::{Deserialize, Serialize};

use super::encoding::{authority_params, offset, positive, sha256, whole};
use super::issued::der;
use super::keys::{KeySource, NewKey, PkiError, Secret};
use crate::cluster::Cluster;
use crate::pki::AuthorityKind;

/// A root's certificate, as it is recorded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RootCertificate {
    /// Subject's common name.
    pub subject: String,
    /// Begin.
    pub not_before: Timestamp,
    /// End.
    pub not_after: Timestamp,
    /// The certificate, PEM.
    pub pem: String,
    /// SHA-256 of the private key's PEM text, in hexadecimal.
    pub key_sha256: String,
}

/// A root with its key: able to sign authorities, and nothing else.
pub struct Root {
    certificate: RootCertificate,
    pub(super) issuer: Issuer<'static, KeyPair>,
}

impl std::fmt::Debug for Root {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Root").field("subject", &self.certificate.subject).finish_non_exhaustive()
    }
}

impl Root {
    /// Makes a root; so many of this cluster were there before it. It lasts twice as long as the authority that lasts
    /// longest, so that those that take the first ones' places stand under it too.
    ///
    /// # Errors
    /// When the key cannot be made or the certificate not be signed.
    pub fn make(
        cluster: &Cluster,
        before: usize,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<(Self, Secret), PkiError> {
        let policy = &cluster.certificates;
        let subject = match before {
            0 => format!("{} root authority", cluster.name),
            before => format!("{} root authority {}", cluster.name, before + 1),
        };
        let longest =
            AuthorityKind::ALL.map(|kind| policy.authority_seconds_of(kind)).into_iter().max();
        let seconds = longest.unwrap_or(policy.authority_seconds).saturating_mul(2);
        let (not_before, not_after) = (whole(now, -policy.backdated), whole(now, seconds));
        let mut params = authority_params(&subject, policy.organization.as_deref());
        // Authorities stand below it, and nobody below those (RFC 5280 section 4.2.1.9).
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(1));
        params.serial_number = Some(SerialNumber::from_slice(&positive(keys.serial())));
        params.not_before = offset(not_before);
        params.not_after = offset(not_after);
        let NewKey { private: secret, .. } = keys.key(policy.key)?;
        let pair = KeyPair::from_pem(secret.expose())
            .map_err(|source| PkiError::Key { kind: policy.key, source })?;
        let made = params
            .self_signed(&pair)
            .map_err(|source| PkiError::Issue { subject: subject.clone(), source })?;
        let key_sha256 = sha256(secret.expose().as_bytes());
        let certificate =
            RootCertificate { subject, not_before, not_after, pem: made.pem(), key_sha256 };
        Ok((Self::from_pair(certificate, pair)?, secret))
    }

    /// Opens a root from its certificate and the key that the strongbox holds.
    ///
    /// # Errors
    /// When either is damaged.
    pub fn open(certificate: RootCertificate, key: &Secret) -> Result<Self, PkiError> {
        let pair = KeyPair::from_pem(key.expose()).map_err(|error| PkiError::Unreadable {
            what: "the root authority's key".into(),
            why: error.to_string(),
        })?;
        Self::from_pair(certificate, pair)
    }

    fn from_pair(certificate: RootCertificate, pair: KeyPair) -> Result<Self, PkiError> {
        let what = "the root authority";
        let issuer = Issuer::from_ca_cert_der(&der(&certificate.pem, what)?, pair)
            .map_err(|error| PkiError::Unreadable { what: what.into(), why: error.to_string() })?;
        Ok(Self { certificate, issuer })
    }

    /// Its certificate.
    pub fn certificate(&self) -> &RootCertificate {
        &self.certificate
    }
}

impl RootCertificate {
    /// Whether an authority that is made now would last as long under it as it should.
    pub fn outlasts(&self, seconds: i64, now: Timestamp) -> bool {
        self.not_after >= whole(now, seconds)
    }
}
