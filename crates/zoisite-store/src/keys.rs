use zeroize::Zeroizing;
use zoisite_core::pki::{KeyKind, KeySource, NewKey, PkiError, PublicKey, Secret};

/// Keys and serial numbers from the operating system's random generator.
#[derive(Clone, Copy, Debug, Default)]
pub struct FreshKeys;

impl KeySource for FreshKeys {
    fn key(&self, kind: KeyKind) -> Result<NewKey, PkiError> {
        fresh(kind).map_err(|source| PkiError::Key { kind, source })
    }

    fn serial(&self) -> [u8; 16] {
        random()
    }
}

/// A key pair from the operating system's random generator.
///
/// The pair is not parsed again on the way, as making an `rcgen` pair would: that costs as much as
/// making the key did.
fn fresh(kind: KeyKind) -> Result<NewKey, rcgen::Error> {
    use aws_lc_rs::encoding::{AsDer as _, Pkcs8V1Der};
    use aws_lc_rs::signature::{
        ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P384_SHA384_ASN1_SIGNING, EcdsaKeyPair, KeyPair as _,
    };
    let failed = |_| rcgen::Error::RingUnspecified;
    let (private, octets) = match kind {
        KeyKind::EcdsaP256 | KeyKind::EcdsaP384 => {
            let algorithm = match kind {
                KeyKind::EcdsaP384 => &ECDSA_P384_SHA384_ASN1_SIGNING,
                _ => &ECDSA_P256_SHA256_ASN1_SIGNING,
            };
            let pair = EcdsaKeyPair::generate(algorithm).map_err(failed)?;
            let private = Zeroizing::new(pair.to_pkcs8v1().map_err(failed)?.as_ref().to_vec());
            (private, pair.public_key().as_ref().to_vec())
        }
        KeyKind::Rsa3072 => {
            let pair = aws_lc_rs::rsa::KeyPair::generate(aws_lc_rs::rsa::KeySize::Rsa3072)
                .map_err(failed)?;
            let private: Pkcs8V1Der<'_> = pair.as_der().map_err(failed)?;
            (Zeroizing::new(private.as_ref().to_vec()), pair.public_key().as_ref().to_vec())
        }
    };
    let block = pem::Pem::new("PRIVATE KEY", &private[..]);
    let unix = pem::EncodeConfig::new().set_line_ending(pem::LineEnding::LF);
    Ok(NewKey {
        private: Secret::new(pem::encode_config(&block, unix)),
        public: PublicKey { kind, octets },
    })
}

/// Random octets.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];

    aws_lc_rs::rand::fill(&mut bytes).expect("the operating system has a random generator");
    bytes
}
