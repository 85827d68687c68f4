use zoisite_core::pki::{KeyKind, KeySource, PkiError};

/// Keys and serial numbers from the operating system's random generator.
#[derive(Clone, Copy, Debug, Default)]
pub struct FreshKeys;

impl KeySource for FreshKeys {
    fn key(&self, kind: KeyKind) -> Result<rcgen::KeyPair, PkiError> {
        let made = match kind {
            KeyKind::EcdsaP256 => rcgen::KeyPair::generate_for(&rcgen::PKCS_ECDSA_P256_SHA256),
            KeyKind::EcdsaP384 => rcgen::KeyPair::generate_for(&rcgen::PKCS_ECDSA_P384_SHA384),
            KeyKind::Rsa3072 => {
                rcgen::KeyPair::generate_rsa_for(&rcgen::PKCS_RSA_SHA256, rcgen::RsaKeySize::_3072)
            }
        };
        made.map_err(|source| PkiError::Key { kind, source })
    }

    fn serial(&self) -> [u8; 16] {
        random()
    }
}

/// Random octets.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    #[expect(clippy::expect_used, reason = "without randomness no key may be made at all")]
    aws_lc_rs::rand::fill(&mut bytes).expect("the operating system has a random generator");
    bytes
}
