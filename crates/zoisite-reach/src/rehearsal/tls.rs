//! Whether two ends of a connection trust one another, judged by a real verifier on the certificates that lie on
//! simulated disks: authority, names, usage, dates by the verifying host's own clock, and the key beside each.

use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::time::Duration;

use rcgen::{KeyPair, PublicKeyData as _};
use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use webpki::{EndEntityCert, KeyUsage, anchor_from_trusted_cert};

use super::state::{Papers, Process, SimFile, SimHost};

/// What a certificate is shown as.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum As<'a> {
    /// By the server that was dialled under this name or address.
    Server(&'a str),
    /// By who dials, from this address where that is compared.
    Client(Option<&'a str>),
}

impl SimFile {
    /// A file; its sum identifies it in comparisons.
    pub fn new(text: String, owner: impl Into<String>, mode: u32) -> Self {
        let mut hasher = DefaultHasher::new();
        text.hash(&mut hasher);
        Self { sum: hasher.finish(), text, owner: owner.into(), mode }
    }
}

impl SimHost {
    /// A file that is read.
    ///
    /// # Errors
    /// Where it is not there.
    pub fn paper(&self, path: &str) -> Result<&SimFile, String> {
        self.files.get(path).ok_or_else(|| format!("open {path}: no such file or directory"))
    }

    /// Whom a member here takes for one (`peers`), or whom it serves.
    ///
    /// # Errors
    /// Where the file is not there.
    pub fn believed<'a>(
        &'a self,
        process: &'a Process,
        peers: bool,
    ) -> Result<&'a SimFile, String> {
        match (&process.believes, peers) {
            (Some((believed, _)), true) | (Some((_, believed)), false) => Ok(believed),
            (None, true) => self.paper(&process.peers.authority),
            (None, false) => self.paper(&process.clients.authority),
        }
    }

    /// Whether this host, which trusts these authorities, accepts what another one shows. `now` is this
    /// host's clock, in seconds since 1970.
    ///
    /// # Errors
    /// What a TLS library would say.
    pub fn accepts(
        &self,
        authority: &SimFile,
        (other, papers): (&Self, &Papers),
        shown: As<'_>,
        now: i64,
    ) -> Result<(), String> {
        let (certificate, key) = (other.paper(&papers.certificate)?, other.paper(&papers.key)?);
        let mut hasher = DefaultHasher::new();
        (authority.sum, certificate.sum, key.sum, shown, now).hash(&mut hasher);
        let question = hasher.finish();
        VERDICTS.with_borrow_mut(|known| {
            let judge = || judge(&authority.text, (&certificate.text, &key.text), shown, now);
            known.entry(question).or_insert_with(judge).clone()
        })
    }
}

thread_local! {
    /// The same is asked again and again.
    static VERDICTS: RefCell<HashMap<u64, Result<(), String>>> = RefCell::default();
}

fn judge(
    authority: &str,
    (certificate, key): (&str, &str),
    shown: As<'_>,
    now: i64,
) -> Result<(), String> {
    let said = |error: webpki::Error| format!("tls: {error}");
    let leaf = CertificateDer::from_pem_slice(certificate.as_bytes())
        .map_err(|_| "tls: failed to find any PEM data in certificate input".to_owned())?;
    let leaf = EndEntityCert::try_from(&leaf).map_err(said)?;
    if SimFile::unseen(key).is_none() {
        fits(key, &leaf)?;
    }
    let trusted: Vec<CertificateDer<'_>> =
        CertificateDer::pem_slice_iter(authority.as_bytes()).flatten().collect();
    let anchors: Vec<_> =
        trusted.iter().filter_map(|der| anchor_from_trusted_cert(der).ok()).collect();
    let (usage, name) = match shown {
        As::Server(name) => (KeyUsage::server_auth(), Some(name)),
        As::Client(name) => (KeyUsage::client_auth(), name),
    };
    let now = UnixTime::since_unix_epoch(Duration::from_secs(u64::try_from(now).unwrap_or(0)));
    let algorithms = webpki::ALL_VERIFICATION_ALGS;
    leaf.verify_for_usage(algorithms, &anchors, &[], now, usage, None, None).map_err(said)?;
    let Some(name) = name else { return Ok(()) };
    let name = ServerName::try_from(name).map_err(|_| format!("{name} is no name"))?;
    leaf.verify_is_valid_for_subject_name(&name).map_err(said)
}

/// Whether a key is the one that is certified.
fn fits(key: &str, leaf: &EndEntityCert<'_>) -> Result<(), String> {
    let no_key = || "tls: failed to parse private key".to_owned();
    let own = PrivateKeyDer::from_pem_slice(key.as_bytes()).map_err(|_| no_key())?;
    let own = KeyPair::try_from(&own).map_err(|_| no_key())?;
    if own.subject_public_key_info() != leaf.subject_public_key_info().as_ref() {
        return Err("tls: private key does not match public key".into());
    }
    Ok(())
}
