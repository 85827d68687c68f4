//! An authority that issues: RFC 5280 throughout, stated field by field.

use jiff::Timestamp;
use rcgen::{
    CertificateParams, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose,
    PublicKeyData, SanType, SerialNumber,
};

use super::encoding::{authority_params, hex, name, offset, positive, sha256, whole};
use super::issued::{AuthorityCertificate, KeyAt, LedgerEntry};
use super::keys::{KeyKind, KeySource, NewKey, PkiError, Secret};
use super::profile::AuthorityKind;
use super::request::CheckedRequest;
use super::root::Root;
use super::standing::AuthorityState;
use super::wanted::{San, Wanted};
use crate::cluster::{Cluster, ClusterName};

/// An authority with its key: able to issue.
pub struct Authority {
    certificate: AuthorityCertificate,
    issuer: Issuer<'static, KeyPair>,
}

impl std::fmt::Debug for Authority {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Authority").field("kind", &self.certificate.kind).finish_non_exhaustive()
    }
}

impl Authority {
    /// Makes a new authority that signs itself, or that a root signs; so many of its kind were there before it.
    ///
    /// # Errors
    /// When the key cannot be made or the certificate not be signed.
    pub fn make(
        cluster: &Cluster,
        (kind, before): (AuthorityKind, usize),
        root: Option<&Root>,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<(Self, Secret), PkiError> {
        let policy = &cluster.certificates;
        let (key, seconds) = (policy.authority_key_of(kind), policy.authority_seconds_of(kind));
        let subject = authority_subject(&cluster.name, kind, before);
        let serial = positive(keys.serial());
        let (mut not_before, mut not_after) = (whole(now, -policy.backdated), whole(now, seconds));
        if let Some(root) = root.map(Root::certificate) {
            not_before = not_before.max(root.not_before);
            not_after = not_after.min(root.not_after);
        }
        let mut params = authority_params(&subject, policy.organization.as_deref());
        params.serial_number = Some(SerialNumber::from_slice(&serial));
        params.not_before = offset(not_before);
        params.not_after = offset(not_after);
        let NewKey { private: secret, .. } = keys.key(key)?;
        let pair = KeyPair::from_pem(secret.expose())
            .map_err(|source| PkiError::Key { kind: key, source })?;
        let made = match root {
            None => params.self_signed(&pair),
            Some(root) => {
                params.use_authority_key_identifier_extension = true;
                params.signed_by(&pair, &root.issuer)
            }
        };
        let made = made.map_err(|source| PkiError::Issue { subject: subject.clone(), source })?;
        let certificate = AuthorityCertificate {
            kind,
            serial: hex(&serial),
            subject,
            not_before,
            not_after,
            sha256: sha256(made.der()),
            pem: made.pem(),
            key_sha256: sha256(secret.expose().as_bytes()),
            standing: AuthorityState::Signs,
            issuers: root.map(|root| root.certificate().pem.clone()).into_iter().collect(),
        };
        Ok((Self::from_pair(certificate, pair)?, secret))
    }

    /// Opens an authority from its certificate and the key that the strongbox holds.
    ///
    /// # Errors
    /// When either is damaged.
    pub fn open(certificate: AuthorityCertificate, key: &Secret) -> Result<Self, PkiError> {
        let pair = KeyPair::from_pem(key.expose()).map_err(|e| PkiError::Unreadable {
            what: format!("the {} authority's key", certificate.kind),
            why: e.to_string(),
        })?;
        Self::from_pair(certificate, pair)
    }

    fn from_pair(certificate: AuthorityCertificate, pair: KeyPair) -> Result<Self, PkiError> {
        let issuer = Issuer::from_ca_cert_der(&certificate.der()?, pair).map_err(|e| {
            PkiError::Unreadable {
                what: format!("the {} authority", certificate.kind),
                why: e.to_string(),
            }
        })?;
        Ok(Self { certificate, issuer })
    }

    /// Its certificate.
    pub fn certificate(&self) -> &AuthorityCertificate {
        &self.certificate
    }

    /// Issues a certificate with a new key.
    ///
    /// It begins a little in the past but not before the authority, and never outlives it.
    ///
    /// # Errors
    /// When the authority has ended, or the key or certificate cannot be made.
    pub fn issue(
        &self,
        wanted: &Wanted,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<(LedgerEntry, Secret), PkiError> {
        let NewKey { private: secret, public } = keys.key(wanted.key)?;
        let mut entry = self.certify(wanted, &public, keys.serial(), now)?;
        entry.key_sha256 = sha256(secret.expose().as_bytes());
        Ok((entry, secret))
    }

    /// Signs a request that was checked; everything but its public key comes from `wanted`.
    ///
    /// # Errors
    /// When the authority has ended, or the certificate cannot be made.
    pub fn sign(
        &self,
        request: &CheckedRequest,
        wanted: &Wanted,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<LedgerEntry, PkiError> {
        self.certify(wanted, &request.0.public_key, keys.serial(), now)
    }

    /// What stands for a certificate whose key its host has still to make: signed for this public key, which nobody is
    /// to have.
    ///
    /// # Errors
    /// When the authority has ended, or the certificate cannot be made.
    pub fn to_come(
        &self,
        wanted: &Wanted,
        public: &impl PublicKeyData,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<LedgerEntry, PkiError> {
        let entry = self.certify(wanted, public, keys.serial(), now)?;
        Ok(LedgerEntry { key_at: KeyAt::ToCome, ..entry })
    }

    fn certify(
        &self,
        wanted: &Wanted,
        public: &impl PublicKeyData,
        serial: [u8; 16],
        now: Timestamp,
    ) -> Result<LedgerEntry, PkiError> {
        if self.certificate.not_after <= now {
            return Err(PkiError::Ended {
                authority: self.certificate.subject.clone(),
                end: self.certificate.not_after,
            });
        }
        let serial = positive(serial);
        let not_before = whole(now, -wanted.backdated).max(self.certificate.not_before);
        let not_after = whole(now, wanted.seconds).min(self.certificate.not_after);
        let mut params = CertificateParams::default();
        // RFC 5280 section 4.1.2.2: positive, at most 20 octets; unpredictable by policy.
        params.serial_number = Some(SerialNumber::from_slice(&serial));
        params.distinguished_name = name(&wanted.common_name, wanted.organization.as_deref());
        params.not_before = offset(not_before);
        params.not_after = offset(not_after);
        params.is_ca = IsCa::ExplicitNoCa;
        // RFC 5280 section 4.2.1.1: must be in every certificate that is not self-signed.
        params.use_authority_key_identifier_extension = true;
        // RFC 5280 section 4.2.1.3: TLS 1.2 and 1.3 handshakes sign; RSA key exchange encrypts.
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        if wanted.key == KeyKind::Rsa3072 && wanted.profile.usage().server() {
            params.key_usages.push(KeyUsagePurpose::KeyEncipherment);
        }
        if wanted.profile.usage().server() {
            params.extended_key_usages.push(ExtendedKeyUsagePurpose::ServerAuth);
        }
        if wanted.profile.usage().client() {
            params.extended_key_usages.push(ExtendedKeyUsagePurpose::ClientAuth);
        }
        let failed = |source| PkiError::Issue { subject: wanted.common_name.clone(), source };
        params.subject_alt_names = wanted
            .names
            .iter()
            .map(|san| match san {
                San::Ip(ip) => Ok(SanType::IpAddress(*ip)),
                San::Dns(name) => Ok(SanType::DnsName(name.as_str().try_into()?)),
            })
            .collect::<Result<_, rcgen::Error>>()
            .map_err(failed)?;
        let made = params.signed_by(public, &self.issuer).map_err(failed)?;
        Ok(LedgerEntry {
            serial: hex(&serial),
            profile: wanted.profile,
            host: wanted.host.clone(),
            authority: self.certificate.kind,
            authority_sha256: self.certificate.sha256.clone(),
            common_name: wanted.common_name.clone(),
            organization: wanted.organization.clone(),
            names: wanted.names.clone(),
            key: wanted.key,
            not_before,
            not_after,
            sha256: sha256(made.der()),
            pem: made.pem() + &self.certificate.shown_chain(),
            key_sha256: String::new(),
            key_at: KeyAt::Strongbox,
            unwanted: false,
            replaced_by: None,
            retired: None,
        })
    }
}

/// The name of an authority; so many of its kind were there before it. Verifiers find an issuer by its name: no two
/// authorities share one.
pub(super) fn authority_subject(
    cluster: &ClusterName,
    kind: AuthorityKind,
    before: usize,
) -> String {
    match before {
        0 => format!("{cluster} {kind} authority"),
        before => format!("{cluster} {kind} authority {}", before + 1),
    }
}

/// Issues all of `dues`, on every core, in their order.
///
/// # Errors
/// The first failure; nothing is recorded here, so nothing is half-done.
pub fn issue_all<'a>(
    dues: &[super::Due],
    authority: impl Fn(AuthorityKind) -> Option<&'a Authority> + Sync,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<Vec<(LedgerEntry, Secret)>, PkiError> {
    use rayon::prelude::*;
    dues.par_iter()
        .map(|due| {
            let kind = due.wanted.profile.authority();
            let authority = authority(kind).ok_or_else(|| PkiError::Unreadable {
                what: format!("the {kind} authority"),
                why: "it has not been made".into(),
            })?;
            authority.issue(&due.wanted, keys, now)
        })
        .collect()
}
