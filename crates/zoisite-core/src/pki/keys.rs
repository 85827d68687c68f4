use std::fmt;

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::cluster::NameError;

/// Why something about certificates could not be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PkiError {
    /// A key could not be made or read.
    #[error("making a {kind} key")]
    Key {
        /// What was wanted.
        kind: KeyKind,
        /// What came back.
        #[source]
        source: rcgen::Error,
    },
    /// A certificate could not be built or signed.
    #[error("issuing a certificate for {subject}")]
    Issue {
        /// Common name of the subject.
        subject: String,
        /// What came back.
        #[source]
        source: rcgen::Error,
    },
    /// A stored certificate could not be read.
    #[error("reading the certificate of {what}: {why}")]
    Unreadable {
        /// Whose it is.
        what: String,
        /// What the parser said.
        why: String,
    },
    /// The authority has ended, or would end before the certificate begins.
    #[error("the {authority} ends on {end}: nothing can be issued under it any more")]
    Ended {
        /// The authority.
        authority: String,
        /// Its end.
        end: jiff::Timestamp,
    },
}

/// The algorithm of a key.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyKind {
    /// ECDSA on P-256 with SHA-256.
    #[default]
    EcdsaP256,
    /// ECDSA on P-384 with SHA-384.
    EcdsaP384,
    /// RSA with 3072 bits and SHA-256, where policy asks for it.
    #[serde(rename = "rsa-3072")]
    Rsa3072,
}

impl KeyKind {
    /// Reads the name used in the cluster file.
    ///
    /// # Errors
    /// When there is no such algorithm here.
    pub fn new(text: &str) -> Result<Self, NameError> {
        match text {
            "ecdsa-p256" => Ok(Self::EcdsaP256),
            "ecdsa-p384" => Ok(Self::EcdsaP384),
            "rsa-3072" => Ok(Self::Rsa3072),
            _ => Err(NameError("one of ecdsa-p256, ecdsa-p384, rsa-3072".into())),
        }
    }

    /// The algorithm by which such keys sign.
    pub fn algorithm(self) -> &'static rcgen::SignatureAlgorithm {
        match self {
            Self::EcdsaP256 => &rcgen::PKCS_ECDSA_P256_SHA256,
            Self::EcdsaP384 => &rcgen::PKCS_ECDSA_P384_SHA384,
            Self::Rsa3072 => &rcgen::PKCS_RSA_SHA256,
        }
    }
}

impl fmt::Display for KeyKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::EcdsaP256 => "ecdsa-p256",
            Self::EcdsaP384 => "ecdsa-p384",
            Self::Rsa3072 => "rsa-3072",
        })
    }
}

/// A key pair that was just made: its private half as text for the strongbox, its public half to certify.
#[derive(Debug)]
pub struct NewKey {
    /// The private key, PKCS #8 in PEM (RFC 5958, RFC 7468 section 10).
    pub private: Secret,
    /// The public key.
    pub public: PublicKey,
}

/// A public key, as a certificate holds it.
#[derive(Clone, Debug)]
pub struct PublicKey {
    /// Its algorithm.
    pub kind: KeyKind,
    /// An uncompressed point (SEC 1 section 2.3.3), or modulus and exponent (RFC 8017 appendix A.1.1).
    pub octets: Vec<u8>,
}

impl rcgen::PublicKeyData for PublicKey {
    fn der_bytes(&self) -> &[u8] {
        &self.octets
    }

    fn algorithm(&self) -> &'static rcgen::SignatureAlgorithm {
        self.kind.algorithm()
    }
}

/// Where keys and serial numbers come from: the strongbox in earnest, ready-made ones in rehearsals.
pub trait KeySource: Sync {
    /// A key pair of that kind.
    ///
    /// # Errors
    /// When the source cannot make one.
    fn key(&self, kind: KeyKind) -> Result<NewKey, PkiError>;

    /// 16 random octets for a serial number.
    fn serial(&self) -> [u8; 16];
}

/// Text that must not be seen by accident: it does not print, and its memory is cleared when dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(Zeroizing<String>);

impl Secret {
    /// Wraps a text.
    pub fn new(text: String) -> Self {
        Self(Zeroizing::new(text))
    }

    /// The text itself. Every use of this method is a place to look at in a review.
    pub fn expose(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(…)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_does_not_print() {
        assert_eq!(format!("{:?}", Secret::new("hush".into())), "Secret(…)");
    }
}
