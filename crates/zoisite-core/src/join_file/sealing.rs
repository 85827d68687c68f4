//! Who signed a join file, and for whom it is sealed. Both are undone on the host by openssl alone, whatever version.

use aws_lc_rs::cipher::{AES_256, EncryptionContext, StreamingEncryptingKey, UnboundCipherKey};
use aws_lc_rs::iv::FixedLength;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use aws_lc_rs::{hmac, pbkdf2};
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use flate2::Compression;
use flate2::write::GzEncoder;
use std::fmt::Write as _;
use std::io::Write as _;
use std::num::NonZeroU32;
use zeroize::Zeroizing;

use crate::pki::{Secret, sha256};

/// How often a word is hashed before it seals: it is drawn, not chosen, and needs no more.
pub(super) const ROUNDS: u32 = 2_000;
/// Of which a word is made: none is easily taken for another.
const ALPHABET: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
/// So many of them: 125 bits, in five groups that a person can read out.
const LENGTH: usize = 25;
/// So many characters of base64 a line.
const WIDTH: usize = 76;

/// A fresh word from random octets.
pub fn make_word(random: [u8; LENGTH]) -> Secret {
    let mut word = Zeroizing::new(String::with_capacity(LENGTH + 4));
    for (at, octet) in random.into_iter().enumerate() {
        if at > 0 && at % 5 == 0 {
            word.push('-');
        }
        word.push(char::from(ALPHABET[usize::from(octet) % ALPHABET.len()]));
    }
    Secret::new(std::mem::take(&mut *word))
}

/// A word as it seals: as a person may have typed it, without what only parts it.
fn plain_word(word: &Secret) -> Secret {
    let parts = |c: &char| !c.is_whitespace() && *c != '-';
    Secret::new(word.expose().chars().filter(parts).map(|c| c.to_ascii_lowercase()).collect())
}

/// The key by which a host seals its reports (RFC 2104 with SHA-256).
pub(super) fn report_key(word: &Secret, host: &str) -> Zeroizing<[u8; 32]> {
    let key = hmac::Key::new(hmac::HMAC_SHA256, plain_word(word).expose().as_bytes());
    let tag = hmac::sign(&key, format!("zoisite report of {host}").as_bytes());
    let mut out = Zeroizing::new([0; 32]);
    out.copy_from_slice(tag.as_ref());
    out
}

/// The two blocks that RFC 2104 puts before what is hashed, as printf(1) takes octets: a host has no other way to keep a
/// key out of the arguments of programs.
pub(super) fn pads(key: &[u8; 32]) -> Zeroizing<String> {
    let mut out = Zeroizing::new(String::with_capacity(2 * (64 * 4 + 1)));
    for pad in [0x36_u8, 0x5c] {
        for at in 0..64 {
            let octet = key.get(at).copied().unwrap_or(0) ^ pad;
            let _ = write!(out, "\\0{octet:03o}");
        }
        out.push('\n');
    }
    out
}

/// Whether a seal is that of a text.
pub(super) fn seals(key: &[u8; 32], text: &[u8], seal: &[u8]) -> bool {
    hmac::verify(&hmac::Key::new(hmac::HMAC_SHA256, key), text, seal).is_ok()
}

/// The key that signs join files is no key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the key that signs join files cannot be read: {0}")]
pub struct SignerError(String);

/// Who signs join files: a key of the cluster's own, for this alone.
pub struct Signer {
    pair: EcdsaKeyPair,
    public: String,
    fingerprint: String,
}

impl std::fmt::Debug for Signer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Signer").field("fingerprint", &self.fingerprint).finish_non_exhaustive()
    }
}

impl Signer {
    /// Reads a key of ECDSA on P-256 (PKCS#8, PEM).
    ///
    /// # Errors
    /// What it is instead.
    pub fn of(private: &Secret) -> Result<Self, SignerError> {
        let failed = |why: String| SignerError(why);
        let pem = pem::parse(private.expose()).map_err(|why| failed(why.to_string()))?;
        let contents = Zeroizing::new(pem.into_contents());
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &contents)
            .map_err(|why| failed(why.to_string()))?;
        let public =
            rcgen::KeyPair::from_pem(private.expose()).map_err(|why| failed(why.to_string()))?;
        let public = public.public_key_pem();
        let der = pem::parse(&public).map_err(|why| failed(why.to_string()))?;
        Ok(Self { pair, fingerprint: sha256(der.contents()), public })
    }

    /// Its public half, PEM.
    pub fn public_pem(&self) -> &str {
        &self.public
    }

    /// Its public half as the two numbers of its point (SEC 1, section 2.3.3, without the first octet), in base64.
    pub(super) fn point(&self) -> String {
        // DER of such a key ends with the point.
        let der = pem::parse(&self.public).map(pem::Pem::into_contents).unwrap_or_default();
        in_base64(&der[der.len().saturating_sub(64)..])
    }

    /// SHA-256 of that (DER), in hexadecimal: what a host believes.
    pub fn fingerprint(&self) -> &str {
        &self.fingerprint
    }

    /// A whole join file: its head for all to read, what is sealed by the host's word, and the signature over both. Each of
    /// these two is in lines of base64, in the form that `shaped` gives them.
    ///
    /// # Errors
    /// What cannot sign.
    pub(super) fn closed(
        &self,
        head: String,
        (word, body): (&Secret, &str),
        shaped: impl Fn(&str) -> String,
    ) -> Result<Secret, String> {
        let mut text = Zeroizing::new(head);
        text.push_str("#sealed\n");
        text.push_str(&shaped(&self.sealed(word, body)));
        let signature = self.signed(text.as_bytes())?;
        text.push_str("#signature\n");
        text.push_str(&shaped(&signature));
        Ok(Secret::new(std::mem::take(&mut *text)))
    }

    /// A signature (ECDSA with SHA-256, in DER) in lines of base64.
    fn signed(&self, text: &[u8]) -> Result<String, String> {
        let signature = self
            .pair
            .sign(&SystemRandom::new(), text)
            .map_err(|_| "the key that signs join files".to_owned())?;
        Ok(lines(signature.as_ref()))
    }

    /// A text compressed, and sealed by a word and this signer: what another one signed is not opened by the word. As
    /// openssl-enc(1) opens it: `-aes-256-ctr -pbkdf2 -md sha256`.
    fn sealed(&self, word: &Secret, text: &str) -> String {
        // Another one for every text, so that no two are sealed by the same key.
        let sum = sha256(text.as_bytes());
        let salt = &sum.as_bytes()[..8];
        let passphrase =
            Zeroizing::new(format!("{}{}", plain_word(word).expose(), self.fingerprint));
        let rounds = NonZeroU32::new(ROUNDS).expect("some");
        let mut derived = Zeroizing::new([0; 48]);
        let sha = pbkdf2::PBKDF2_HMAC_SHA256;
        pbkdf2::derive(sha, rounds, salt, passphrase.as_bytes(), &mut *derived);
        let (key, counter) = derived.split_at(32);
        let mut octets = Zeroizing::new(Vec::with_capacity(64 * 1_024));
        let mut packed = GzEncoder::new(&mut *octets, Compression::default());
        let done = packed.write_all(text.as_bytes()).and_then(|()| packed.try_finish());
        drop(packed);
        done.expect("memory takes what is written");
        let mut out = [b"Salted__".as_slice(), salt].concat();
        let counter: [u8; 16] = counter.try_into().expect("16 octets");
        let mut encrypted = vec![0; octets.len() + 16];
        let key = UnboundCipherKey::new(&AES_256, key).expect("32 octets");
        let context = EncryptionContext::Iv128(FixedLength::from(counter));
        let mut cipher =
            StreamingEncryptingKey::less_safe_ctr(key, context).expect("AES has this mode");
        let written =
            cipher.update(&octets, &mut encrypted).expect("there is room").written().len();
        let (_, rest) = cipher.finish(&mut encrypted[written..]).expect("there is room");
        let all = written + rest.written().len();
        out.extend_from_slice(&encrypted[..all]);
        lines(&out)
    }
}

/// Octets on one line (RFC 4648).
pub(super) fn in_base64(octets: &[u8]) -> String {
    BASE64_STANDARD.encode(octets)
}

fn lines(octets: &[u8]) -> String {
    let text = BASE64_STANDARD.encode(octets);
    let mut out = String::with_capacity(text.len() + text.len() / WIDTH + 1);
    for line in text.as_bytes().chunks(WIDTH) {
        out.extend(line.iter().map(|octet| char::from(*octet)));
        out.push('\n');
    }
    out
}
