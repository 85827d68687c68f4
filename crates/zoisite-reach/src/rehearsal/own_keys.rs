//! Keys that simulated hosts make for themselves.

use std::borrow::Cow;

use rcgen::{CertificateParams, KeyPair, RsaKeySize};
use zoisite_core::cluster::HostName;
use zoisite_core::item::Pair;
use zoisite_core::pki::{KeyKind, KeyRequest, OwnKey};
use zoisite_core::script::{Outcome, Stretch};
use zoisite_core::sequence::StepOutcome;
use zoisite_core::text::digest;

use super::Rehearsal;
use super::state::{SimFile, SimHost, World};
use super::world::failed;
use crate::reach::{Progress, signed};

/// What stands for a key that was seen on a real host and that only it has; its SHA-256 follows.
const UNSEEN: &str = "(a key that only its host has) ";

impl SimFile {
    /// A key that was seen on a real host, by its SHA-256.
    pub(super) fn unseen_key(sha256: &str) -> String {
        format!("{UNSEEN}{sha256}")
    }

    /// The SHA-256 of such a key.
    pub(super) fn unseen(text: &str) -> Option<&str> {
        text.strip_prefix(UNSEEN)
    }

    /// SHA-256 of what it says.
    pub(super) fn sha256(&self) -> String {
        Self::unseen(&self.text).map_or_else(|| digest(&self.text), ToOwned::to_owned)
    }
}

impl Rehearsal {
    /// The same stretch, with certificates for the keys that its host makes.
    pub(super) async fn with_own_keys<'a>(
        &self,
        stretch: &'a Stretch,
        progress: Progress<'_>,
    ) -> Result<Cow<'a, Stretch>, StepOutcome> {
        let host = &stretch.host;
        let failed = |outcome| Self::fail(host, outcome);
        let mut requests = Vec::new();
        for (pair, own) in stretch.own_pairs() {
            let what = format!("key of {}", pair.path);
            progress(what.clone());
            self.operation(host, &what).await.map_err(failed)?;
            requests.extend(self.world().make_key(host, pair, own).map_err(failed)?);
        }
        match signed(&*self.contents, stretch, &requests) {
            Ok(signed) if signed.is_empty() => Ok(Cow::Borrowed(stretch)),
            Ok(signed) => Ok(Cow::Owned(stretch.certified(&signed))),
            Err(trouble) => Err(StepOutcome::Failed(trouble)),
        }
    }
}

impl SimHost {
    /// The key of a pair that its host has, where it has it: in its place, or kept until it is certified.
    pub(super) fn own_key(&self, pair: &Pair) -> Option<&SimFile> {
        let places = [Some(pair.key_path()), pair.kept_key_path()];
        let mut found = places.into_iter().flatten().filter_map(|path| self.files.get(&path));
        found.find(|key| key.sha256() == pair.key_sha256)
    }
}

impl World {
    /// Makes the key of a pair where its host has none that fits; what is asked for it.
    fn make_key(
        &mut self,
        host: &HostName,
        pair: &Pair,
        own: &OwnKey,
    ) -> Result<Option<KeyRequest>, Outcome> {
        let (Some(path), Some(sim)) = (pair.kept_key_path(), self.hosts.get_mut(host)) else {
            return Ok(None);
        };
        if sim.own_key(pair).is_some() {
            return Ok(None);
        }
        let wrong = |error: rcgen::Error| {
            failed(&format!("making the key of {}", pair.path), error.to_string())
        };
        let key = match sim.files.get(&path) {
            Some(made) => KeyPair::from_pem(&made.text),
            None if own.kind == KeyKind::Rsa3072 => {
                KeyPair::generate_rsa_for(own.kind.algorithm(), RsaKeySize::_3072)
            }
            None => KeyPair::generate_for(own.kind.algorithm()),
        };
        let key = key.map_err(wrong)?;
        let mut params = CertificateParams::default();
        params.distinguished_name = own.subject();
        let der = params.serialize_request(&key).map_err(wrong)?.der().to_vec();
        let made = SimFile::new(key.serialize_pem(), "root", 0o600);
        let key_sha256 = made.sha256();
        sim.files.insert(path, made);
        Ok(Some(KeyRequest { profile: own.profile, der, key_sha256 }))
    }
}
