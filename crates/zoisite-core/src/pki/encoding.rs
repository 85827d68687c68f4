//! What certificates are put together from.

use jiff::Timestamp;
use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, IsCa, KeyUsagePurpose,
};

/// What an authority's certificate says of it, whichever key signs it.
pub(super) fn authority_params(subject: &str, organization: Option<&str>) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name = name(subject, organization);
    // RFC 5280 section 4.2.1.9: critical in an authority. No authority stands below this one.
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params
}

/// A positive number whose first octet is not zero, so that its encoding is what was drawn.
pub(super) fn positive(mut serial: [u8; 16]) -> [u8; 16] {
    serial[0] = (serial[0] & 0x7f) | 0x40;
    serial
}

/// `seconds` after `now`, in whole seconds: certificates hold no fractions.
pub(super) fn whole(now: Timestamp, seconds: i64) -> Timestamp {
    let end = now.as_second().saturating_add(seconds);
    Timestamp::from_second(end).unwrap_or(Timestamp::MAX)
}

/// A time as the library of certificates has it.
pub(super) fn offset(time: Timestamp) -> time::OffsetDateTime {
    time::OffsetDateTime::from_unix_timestamp(time.as_second())
        .unwrap_or(time::OffsetDateTime::UNIX_EPOCH)
}

/// Octets in hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    let digit = |nibble: u8| char::from(b"0123456789abcdef"[usize::from(nibble)]);
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

/// SHA-256 in hexadecimal digits: what files, certificates and keys are known by.
pub fn sha256(octets: &[u8]) -> String {
    hex(aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, octets).as_ref())
}

/// A subject's name.
pub(super) fn name(common_name: &str, organization: Option<&str>) -> DistinguishedName {
    let mut name = DistinguishedName::new();
    if let Some(organization) = organization {
        name.push(DnType::OrganizationName, organization);
    }
    name.push(DnType::CommonName, common_name);
    name
}
