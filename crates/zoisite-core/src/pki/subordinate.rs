//! Authorities under somebody else's: a request for each, and what comes back held against all that it must be.
//!
//! Verifiers of the cluster's own believe the authority itself and nothing above it, so that whoever else the same root
//! vouches for is nobody here; the chain above is shown to those that believe the root alone.

use std::collections::BTreeSet;
use std::time::Duration;

use jiff::Timestamp;
use rcgen::{CertificateSigningRequestParams, KeyPair, PublicKeyData as _};
use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, UnixTime};
use serde::{Deserialize, Serialize};
use webpki::{EndEntityCert, KeyUsage, anchor_from_trusted_cert};
use x509_parser::prelude::{FromDer as _, X509Certificate};
use x509_parser::public_key::PublicKey;

use super::authority::{Authority, authority_subject};
use super::encoding::{authority_params, hex, sha256};
use super::issued::AuthorityCertificate;
use super::keys::{KeySource, NewKey, PkiError, Secret};
use super::profile::{AuthorityKind, Usage};
use super::proof::day;
use super::standing::AuthorityState;
use super::wanted::{San, Wanted, wanted};
use crate::cluster::Cluster;

/// A request for an authority's certificate, as it waits for its answer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AuthorityRequest {
    /// The trust domain.
    pub kind: AuthorityKind,
    /// The common name that is asked for.
    pub subject: String,
    /// The organisation beside it in its subject; nothing else is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub organization: Option<String>,
    /// PKCS #10 in PEM (RFC 2986, RFC 7468 section 7): an authority with no other below it (path length 0).
    pub pem: String,
    /// When it was made.
    pub made: Timestamp,
}

impl AuthorityRequest {
    /// Makes a key and the request that it signs; so many authorities of its kind were there before it.
    ///
    /// # Errors
    /// When the key cannot be made or the request not be signed.
    pub fn make(
        cluster: &Cluster,
        (kind, before): (AuthorityKind, usize),
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<(Self, Secret), PkiError> {
        let policy = &cluster.certificates;
        let key = policy.authority_key_of(kind);
        let subject = authority_subject(&cluster.name, kind, before);
        let organization = policy.organization.clone();
        let NewKey { private: secret, .. } = keys.key(key)?;
        let pair = KeyPair::from_pem(secret.expose())
            .map_err(|source| PkiError::Key { kind: key, source })?;
        let pem = authority_params(&subject, organization.as_deref())
            .serialize_request(&pair)
            .and_then(|request| request.pem())
            .map_err(|source| PkiError::Issue { subject: subject.clone(), source })?;
        Ok((Self { kind, subject, organization, pem, made: now }, secret))
    }

    /// Whether a certificate for the key of this request is among these, PEM.
    pub fn is_answered_by(&self, answer: &str) -> bool {
        let public = self.public_key();
        CertificateDer::pem_slice_iter(answer.as_bytes()).filter_map(Result::ok).any(|der| {
            X509Certificate::from_der(&der).is_ok_and(|(_, read)| is_for(&read, public.as_deref()))
        })
    }

    fn public_key(&self) -> Option<Vec<u8>> {
        let read = CertificateSigningRequestParams::from_pem(&self.pem).ok()?;
        Some(read.public_key.der_bytes().to_vec())
    }

    /// Takes what came back: the authority's certificate and those above it up to a root, PEM, in any order.
    ///
    /// At the end certificates for everything that the authority is to sign for are made under it and verified up to
    /// the root by a TLS verifier; they are kept nowhere.
    ///
    /// # Errors
    /// Every reason why it cannot be the authority that was asked for.
    pub fn answered(
        &self,
        key: &Secret,
        answer: &str,
        cluster: &Cluster,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<AuthorityCertificate, Vec<String>> {
        let subject = match &self.organization {
            Some(organization) => format!("O={organization}, CN={}", self.subject),
            None => format!("CN={}", self.subject),
        };
        let stranger = "it answers another one";
        let expected = Expected {
            kind: self.kind,
            public: self.public_key(),
            stranger: format!("is for the key of this request: {stranger}"),
            asked: Some(subject),
        };
        expected.taken(key, answer, cluster, keys, now)
    }
}

/// Takes an authority that was made elsewhere, with its key: its certificate and those above it up to a root, PEM, in
/// any order; one that signed itself stands alone. It is held against all that an answer is held against, but for its
/// name, which is as it is, and its path length: it may have none.
///
/// # Errors
/// Every reason why it cannot be the authority of this kind.
pub fn brought(
    kind: AuthorityKind,
    key: &Secret,
    text: &str,
    cluster: &Cluster,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<AuthorityCertificate, Vec<String>> {
    let pair = KeyPair::from_pem(key.expose()).map_err(|error| {
        vec![format!(
            "its key cannot be read: {error} (a private key in PKCS #8, PEM, not encrypted, is: openssl pkcs8 -topk8 -nocrypt makes one of another form)"
        )]
    })?;
    let expected = Expected {
        kind,
        public: Some(pair.der_bytes().to_vec()),
        stranger: "fits the key".into(),
        asked: None,
    };
    expected.taken(key, text, cluster, keys, now)
}

/// What an authority that was not made here must be.
struct Expected {
    kind: AuthorityKind,
    /// The octets of its public key.
    public: Option<Vec<u8>>,
    /// What none of the certificates does that are not its own, in words.
    stranger: String,
    /// The subject that was asked for; one that was not asked for is called as it is.
    asked: Option<String>,
}

impl Expected {
    fn taken(
        &self,
        key: &Secret,
        text: &str,
        cluster: &Cluster,
        keys: &dyn KeySource,
        now: Timestamp,
    ) -> Result<AuthorityCertificate, Vec<String>> {
        let read: Result<Vec<CertificateDer<'static>>, _> =
            CertificateDer::pem_slice_iter(text.as_bytes()).collect();
        let all = read.map_err(|error| vec![format!("it cannot be read as PEM: {error}")])?;
        if all.is_empty() {
            return Err(vec!["there is no certificate in it".into()]);
        }
        let parsed: Result<Vec<_>, _> =
            all.iter().map(|der| X509Certificate::from_der(der).map(|(_, read)| read)).collect();
        let parsed = parsed.map_err(|error| vec![format!("a certificate is damaged: {error}")])?;
        let Some(at) = parsed.iter().position(|one| is_for(one, self.public.as_deref())) else {
            return Err(vec![format!(
                "none of the {} certificates in it {}",
                parsed.len(),
                self.stranger
            )]);
        };

        let wanted: Vec<Wanted> = wanted(cluster)
            .into_iter()
            .filter(|wanted| wanted.profile.authority() == self.kind)
            .collect();
        let (made, own) = (&parsed[at], &all[at]);
        let mut faults = self.faults_of(made, &wanted, now);
        let alone = self.asked.is_none() && made.subject() == made.issuer();
        let above = if alone { Vec::new() } else { above(made, &parsed, now, &mut faults) };
        let name = made.subject().iter_common_name().next().and_then(|name| name.as_str().ok());
        if name.is_none() {
            faults.push("its subject has no common name".into());
        }
        if !faults.is_empty() {
            return Err(faults);
        }
        let issuers: Vec<&CertificateDer<'_>> = above.iter().map(|at| &all[*at]).collect();
        let certificate = AuthorityCertificate {
            kind: self.kind,
            serial: hex(made.raw_serial()),
            subject: name.unwrap_or_default().to_owned(),
            not_before: time(made.validity().not_before.timestamp()),
            not_after: time(made.validity().not_after.timestamp()),
            sha256: sha256(own),
            pem: pem(own),
            key_sha256: sha256(key.expose().as_bytes()),
            standing: AuthorityState::Signs,
            issuers: issuers.iter().map(|one| pem(one)).collect(),
        };
        proven(&certificate, (own, &issuers), key, &wanted, (keys, now))
            .map_err(|why| vec![why])?;
        Ok(certificate)
    }

    /// What is wrong with the authority's own certificate.
    fn faults_of(
        &self,
        made: &X509Certificate<'_>,
        wanted: &[Wanted],
        now: Timestamp,
    ) -> Vec<String> {
        let mut faults = Vec::new();
        let subject = made.subject().to_string();
        if let Some(asked) = self.asked.as_ref().filter(|asked| **asked != subject) {
            faults.push(format!("its subject is {subject}, and {asked} was asked for"));
        }
        match made.basic_constraints().ok().flatten() {
            Some(found) if found.value.ca && found.critical => {
                match (found.value.path_len_constraint, &self.asked) {
                    (Some(0), _) | (_, None) => {}
                    (Some(more), Some(_)) => faults.push(format!(
                        "its path length is {more}: others could stand below it, and 0 was asked for"
                    )),
                    (None, Some(_)) => faults.push(
                        "it has no path length: others could stand below it, and 0 was asked for"
                            .into(),
                    ),
                }
            }
            _ => faults.push("it is no authority (basic constraints, critical)".into()),
        }
        let signs = made.key_usage().ok().flatten().is_some_and(|ku| ku.value.key_cert_sign());
        if !signs {
            faults.push("its key usage lacks keyCertSign".into());
        }
        if let Ok(Some(usages)) = made.extended_key_usage() {
            let (server, client) = (usages.value.server_auth, usages.value.client_auth);
            if !(usages.value.any || server && client) {
                faults.push(
                    "it is limited to some extended usages: servers and clients stand below it"
                        .into(),
                );
            }
        }
        faults.extend(weak_key(made).map(|weak| format!("it has a weak key: {weak}")));
        faults.extend(ended(made, "it", now));
        let needs = wanted.iter().map(|wanted| wanted.seconds).max().unwrap_or_default();
        let ends = made.validity().not_after.timestamp();
        if ends > now.as_second() && ends < now.as_second().saturating_add(needs) {
            faults.push(format!(
                "it ends on {}, sooner than what it is to sign would ({} days)",
                day(time(ends)),
                needs / 86_400
            ));
        }
        faults
    }
}

/// Which of all are the certificates above an authority, its issuer first and the root last; what is wrong with them is
/// added.
fn above(
    made: &X509Certificate<'_>,
    all: &[X509Certificate<'_>],
    now: Timestamp,
    faults: &mut Vec<String>,
) -> Vec<usize> {
    let mut chain: Vec<usize> = Vec::new();
    let mut below = made;
    while below.subject() != below.issuer() {
        let Some(at) = all.iter().position(|one| one.subject() == below.issuer()) else {
            faults.push(format!(
                "{} issued {}, and its certificate is not there: add all up to the root",
                below.issuer(),
                if chain.is_empty() { "it".to_owned() } else { below.subject().to_string() },
            ));
            return chain;
        };
        let issuer = &all[at];
        let title = issuer.subject().to_string();
        let found = issuer.basic_constraints().ok().flatten();
        let depth = u32::try_from(chain.len() + 1).unwrap_or(u32::MAX);
        match found.map(|found| found.value) {
            Some(found) if found.ca => {
                if let Some(length) = found.path_len_constraint
                    && length < depth
                {
                    faults.push(format!(
                        "{title} allows a path length of {length}, and {depth} is needed"
                    ));
                }
            }
            _ => faults.push(format!("{title} is no authority")),
        }
        faults.extend(weak_key(issuer).map(|weak| format!("{title} has a weak key: {weak}")));
        if let Some(weak) = weak_signature(below) {
            faults.push(format!("{} is signed by {weak}, which is weak", below.subject()));
        }
        faults.extend(ended(issuer, &title, now));
        let end = issuer.validity().not_after.timestamp();
        if end > now.as_second() && end < below.validity().not_after.timestamp() {
            faults.push(format!("{title} ends on {}, before what stands below it", day(time(end))));
        }
        if chain.contains(&at) {
            faults.push(format!("{title} stands above itself"));
            return chain;
        }
        chain.push(at);
        below = issuer;
    }
    if chain.is_empty() {
        faults.push("it is self-signed: there is no authority above it".into());
    }
    chain
}

fn is_for(one: &X509Certificate<'_>, public_key: Option<&[u8]>) -> bool {
    public_key.is_some_and(|key| *one.public_key().subject_public_key.data == *key)
}

fn weak_key(one: &X509Certificate<'_>) -> Option<String> {
    match one.public_key().parsed() {
        Ok(PublicKey::RSA(key)) if key.key_size() < 2048 => {
            Some(format!("RSA of {} bits", key.key_size()))
        }
        _ => None,
    }
}

fn weak_signature(one: &X509Certificate<'_>) -> Option<&'static str> {
    match one.signature_algorithm.algorithm.to_id_string().as_str() {
        "1.2.840.113549.1.1.4" => Some("MD5 with RSA"),
        "1.2.840.113549.1.1.5" => Some("SHA-1 with RSA"),
        "1.2.840.10045.4.1" => Some("ECDSA with SHA-1"),
        _ => None,
    }
}

fn ended(one: &X509Certificate<'_>, title: &str, now: Timestamp) -> Option<String> {
    let validity = one.validity();
    let (from, to) = (validity.not_before.timestamp(), validity.not_after.timestamp());
    if to <= now.as_second() {
        return Some(format!("{title} ended on {}", day(time(to))));
    }
    let begins = from > now.as_second();
    begins.then(|| format!("{title} begins on {}, and that is still to come", day(time(from))))
}

/// Makes what the authority is to sign for and verifies it up to the root, as those do that believe the root alone.
fn proven(
    certificate: &AuthorityCertificate,
    (own, issuers): (&CertificateDer<'_>, &[&CertificateDer<'_>]),
    key: &Secret,
    wanted: &[Wanted],
    (keys, now): (&dyn KeySource, Timestamp),
) -> Result<(), String> {
    let said = |error: PkiError| error.to_string();
    let authority = Authority::open(certificate.clone(), key).map_err(said)?;
    let (root, between): (&CertificateDer<'_>, Vec<CertificateDer<'_>>) = match issuers.split_last()
    {
        Some((root, middle)) => {
            (root, std::iter::once(own).chain(middle.iter().copied()).cloned().collect())
        }
        None => (own, Vec::new()),
    };
    let anchor = anchor_from_trusted_cert(root)
        .map_err(|error| format!("the root cannot be believed: {error}"))?;
    let names: BTreeSet<San> = wanted.iter().flat_map(|one| one.names.iter().cloned()).collect();
    for (usage, side) in [(Usage::Server, "server"), (Usage::Client, "client")] {
        let has = |one: &&Wanted| {
            let found = one.profile.usage();
            if usage == Usage::Server { found.server() } else { found.client() }
        };
        let Some(one) = wanted.iter().find(has) else { continue };
        let mut one = one.clone();
        one.names = names.iter().cloned().collect();
        let (leaf, _) = authority.issue(&one, keys, now).map_err(said)?;
        let der = leaf.der().map_err(said)?;
        let leaf = EndEntityCert::try_from(&der).map_err(|error| error.to_string())?;
        let seconds = u64::try_from(now.as_second()).unwrap_or(0);
        let needed = match usage {
            Usage::Server => KeyUsage::server_auth(),
            _ => KeyUsage::client_auth(),
        };
        let at = UnixTime::since_unix_epoch(Duration::from_secs(seconds));
        let anchors = [anchor.clone()];
        let algorithms = webpki::ALL_VERIFICATION_ALGS;
        leaf.verify_for_usage(algorithms, &anchors, &between, at, needed, None, None).map_err(
            |error| match error {
                webpki::Error::NameConstraintViolation => format!(
                    "names that the cluster needs are not allowed above it (name constraints): {}",
                    names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
                ),
                webpki::Error::UnknownIssuer | webpki::Error::InvalidSignatureForPublicKey => {
                    "a signature in its chain does not fit the key above it".to_owned()
                }
                other => format!(
                    "a {side} certificate under it is refused by a TLS verifier that believes the root: {other}"
                ),
            },
        )?;
    }
    Ok(())
}

fn time(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap_or(Timestamp::MAX)
}

fn pem(der: &CertificateDer<'_>) -> String {
    let config = pem::EncodeConfig::new().set_line_ending(pem::LineEnding::LF);
    pem::encode_config(&pem::Pem::new("CERTIFICATE", der.to_vec()), config)
}
