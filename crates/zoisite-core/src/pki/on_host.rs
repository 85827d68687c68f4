//! Keys that hosts generate: instructions for a host, and its requests compared with what it is to get.

use rcgen::{CertificateSigningRequestParams, DistinguishedName};

use super::encoding::name;
use super::keys::KeyKind;
use super::profile::Profile;
use super::request::{CheckedRequest, key_faults, subject_faults};
use super::wanted::Wanted;

/// Instructions for a key that a host is to generate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnKey {
    /// For a certificate of this profile.
    pub profile: Profile,
    /// The algorithm.
    pub kind: KeyKind,
    /// The common name that it asks for.
    pub common_name: String,
    /// The organisation that it asks for.
    pub organization: Option<String>,
    /// Where openssl is there, which makes the key and the request.
    pub openssl: String,
}

impl OwnKey {
    /// The subject that the host asks for.
    pub fn subject(&self) -> DistinguishedName {
        name(&self.common_name, self.organization.as_deref())
    }
}

/// What a host asks for a key that it made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyRequest {
    /// A certificate of this profile.
    pub profile: Profile,
    /// The request (PKCS #10, RFC 2986), DER.
    pub der: Vec<u8>,
    /// SHA-256 of the private key's PEM text, in hexadecimal: the key itself stays there.
    pub key_sha256: String,
}

/// Holds a host's request against what it is to get. Names and addresses are none of its business: they are worked out
/// here.
///
/// # Errors
/// Every reason why it must not be signed.
pub fn check_key_request(
    request: &KeyRequest,
    wanted: &Wanted,
) -> Result<CheckedRequest, Vec<String>> {
    // Its signature is verified there, and extensions that nobody expects are refused.
    let parsed = CertificateSigningRequestParams::from_der(&request.der.as_slice().into());
    let parsed = parsed.map_err(|error| {
        vec![format!("it cannot be read or is not signed by its own key: {error}")]
    })?;
    let mut faults = subject_faults(&parsed, wanted);
    faults.extend(key_faults(&parsed, wanted.key));
    if request.key_sha256.len() != 64 || !request.key_sha256.bytes().all(|b| b.is_ascii_hexdigit())
    {
        faults.push("it does not say what its key is known by".into());
    }
    if faults.is_empty() { Ok(CheckedRequest(parsed)) } else { Err(faults) }
}
