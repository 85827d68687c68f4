//! Certificates that were found where they are used, read back into what the ledger holds of them.

use jiff::Timestamp;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::prelude::{FromDer as _, X509Certificate};
use x509_parser::public_key::PublicKey;

use super::encoding::{hex, sha256};
use super::issued::{AuthorityCertificate, KeyAt, LedgerEntry, der};
use super::keys::{KeyKind, PkiError};
use super::profile::{AuthorityKind, Profile};
use super::standing::AuthorityState;
use super::wanted::San;
use crate::cluster::HostName;

/// What any certificate says of itself.
struct Read {
    serial: String,
    common_name: String,
    organization: Option<String>,
    not_before: Timestamp,
    not_after: Timestamp,
    sha256: String,
    names: Vec<San>,
    key: KeyKind,
    /// The issuer's name, and its own, as they are encoded.
    names_raw: (Vec<u8>, Vec<u8>),
}

fn read(pem: &str, what: &str) -> Result<Read, PkiError> {
    let unreadable = |why: String| PkiError::Unreadable { what: what.to_owned(), why };
    let octets = der(pem, what)?;
    let (_, found) =
        X509Certificate::from_der(&octets).map_err(|error| unreadable(error.to_string()))?;
    let time = |seconds: i64| Timestamp::from_second(seconds).unwrap_or_default();
    let common_name = found.subject().iter_common_name().next();
    let common_name = common_name.and_then(|value| value.as_str().ok()).unwrap_or_default();
    let organization = found.subject().iter_organization().next();
    let organization = organization.and_then(|value| value.as_str().ok());
    let alternative = found.subject_alternative_name().ok().flatten();
    let general = alternative.map(|names| names.value.general_names.clone()).unwrap_or_default();
    let mut names: Vec<San> = general.iter().filter_map(san).collect();
    names.sort();
    let key = match found.public_key().parsed() {
        Ok(PublicKey::EC(point)) if point.key_size() > 256 => KeyKind::EcdsaP384,
        Ok(PublicKey::EC(_)) => KeyKind::EcdsaP256,
        Ok(PublicKey::RSA(_)) => KeyKind::Rsa3072,
        _ => return Err(unreadable("its key is of a kind that is not used here".into())),
    };
    Ok(Read {
        serial: hex(found.raw_serial()),
        common_name: common_name.to_owned(),
        organization: organization.map(ToOwned::to_owned),
        not_before: time(found.validity().not_before.timestamp()),
        not_after: time(found.validity().not_after.timestamp()),
        sha256: sha256(&octets),
        names,
        key,
        names_raw: (found.issuer().as_raw().to_vec(), found.subject().as_raw().to_vec()),
    })
}

fn san(name: &GeneralName<'_>) -> Option<San> {
    match name {
        GeneralName::DNSName(name) => Some(San::Dns((*name).to_owned())),
        GeneralName::IPAddress(octets) => match octets.len() {
            4 => <[u8; 4]>::try_from(*octets).ok().map(|ip| San::Ip(ip.into())),
            16 => <[u8; 16]>::try_from(*octets).ok().map(|ip| San::Ip(ip.into())),
            _ => None,
        },
        _ => None,
    }
}

/// The identifier of the key that signed a certificate (RFC 5280 section 4.2.1.1), in hexadecimal.
pub(crate) fn signing_key(der: &[u8]) -> Option<String> {
    let (_, found) = X509Certificate::from_der(der).ok()?;
    found.iter_extensions().find_map(|extension| match extension.parsed_extension() {
        ParsedExtension::AuthorityKeyIdentifier(by) => Some(hex(by.key_identifier.as_ref()?.0)),
        _ => None,
    })
}

impl AuthorityCertificate {
    /// The identifier of its key (RFC 5280 section 4.2.1.2), in hexadecimal.
    pub fn key_id(&self) -> Option<String> {
        let der = self.der().ok()?;
        let (_, found) = X509Certificate::from_der(&der).ok()?;
        found.iter_extensions().find_map(|extension| match extension.parsed_extension() {
            ParsedExtension::SubjectKeyIdentifier(own) => Some(hex(own.0)),
            _ => None,
        })
    }

    /// The subject of the root that it stands under; `None` where it signed itself.
    pub fn stands_under(&self) -> Option<String> {
        let root = self.issuers.last()?;
        let der = der(root, "a root").ok()?;
        let (_, found) = X509Certificate::from_der(&der).ok()?;
        Some(found.subject().to_string())
    }

    /// The authorities of a bundle that a verifier was given, the one that is used first. Their keys are elsewhere.
    ///
    /// # Errors
    /// When a certificate cannot be read.
    pub fn of_bundle(kind: AuthorityKind, bundle: &str) -> Result<Vec<Self>, PkiError> {
        const END: &str = "-----END CERTIFICATE-----";
        let all = bundle.split_inclusive(END).filter(|one| one.contains(END));
        all.map(|pem| {
            let pem = format!("{}\n", pem.trim());
            let found = read(&pem, &format!("the {kind} authority"))?;
            Ok(Self {
                issuers: Vec::new(),
                kind,
                serial: found.serial,
                subject: found.common_name,
                not_before: found.not_before,
                not_after: found.not_after,
                sha256: found.sha256,
                pem,
                key_sha256: String::new(),
                standing: AuthorityState::Signs,
            })
        })
        .collect()
    }
}

impl LedgerEntry {
    /// The record of a certificate that a host was found to hold, with the SHA-256 of its key.
    ///
    /// # Errors
    /// When it cannot be read, or none of these authorities is called as its issuer is.
    pub fn found(
        (profile, host): (Profile, &HostName),
        pem: &str,
        key_sha256: &str,
        authorities: &[AuthorityCertificate],
    ) -> Result<Self, PkiError> {
        let what = format!("{profile} of {host}");
        let found = read(pem, &what)?;
        let kind = profile.authority();
        let own = authorities.iter().filter(|one| one.kind == kind).find(|one| {
            read(&one.pem, "an authority").is_ok_and(|of| of.names_raw.1 == found.names_raw.0)
        });
        let authority = own.ok_or_else(|| PkiError::Unreadable {
            what,
            why: format!("no {kind} authority that was found has issued it"),
        })?;
        Ok(Self {
            serial: found.serial,
            profile,
            host: Some(host.clone()),
            authority: kind,
            authority_sha256: authority.sha256.clone(),
            common_name: found.common_name,
            organization: found.organization,
            names: found.names,
            key: found.key,
            not_before: found.not_before,
            not_after: found.not_after,
            sha256: found.sha256,
            pem: pem.to_owned(),
            key_sha256: key_sha256.to_owned(),
            key_at: KeyAt::Strongbox,
            unwanted: false,
            replaced_by: None,
            retired: None,
        })
    }
}
