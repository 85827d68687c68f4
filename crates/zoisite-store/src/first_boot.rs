//! Records of first-boot data, and the SSH host keys in it.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD_NO_PAD;
use zeroize::Zeroizing;
use zoisite_core::cluster::HostName;
use zoisite_core::first_boot::{HostKey, SeedRecord};
use zoisite_core::pki::{Secret, SecretRef};

use crate::keys::random;
use crate::records::Change;
use crate::state::{SEED_RECORDS, State, json, sealed};
use crate::{StoreError, Strongbox};

/// Number of records kept for a host: the machine may have any of them.
const KEPT: usize = 6;

/// The SSH keys of hosts. Those that have none get one, and keep it.
///
/// # Errors
/// When the store cannot be used or the strongbox cannot be opened; nothing is recorded then.
pub fn host_keys(
    state: &mut State,
    strongbox: &Strongbox,
    hosts: &[HostName],
) -> Result<BTreeMap<HostName, HostKey>, StoreError> {
    let recipients = state.recipients(strongbox)?;
    let mut changes = Vec::new();
    let mut keys = BTreeMap::new();
    for host in hosts {
        let which = SecretRef::LoginKey(host.clone());
        let seed = match state.kept(&which, strongbox)? {
            Some(kept) => decoded(&kept),
            None => {
                let seed = Zeroizing::new(random::<32>());
                let text = Secret::new(BASE64_STANDARD_NO_PAD.encode(*seed));
                changes.push(sealed(&which, &text, &recipients)?);
                Some(seed)
            }
        };
        let unusable = |why: String| StoreError::NoSecret(format!("the SSH key of {host} ({why})"));
        let seed = seed.ok_or_else(|| unusable("it is not what was written".into()))?;
        keys.insert(host.clone(), HostKey::of(&seed).map_err(unusable)?);
    }
    state.write(changes)?;
    Ok(keys)
}

fn decoded(text: &Secret) -> Option<Zeroizing<[u8; 32]>> {
    let octets = Zeroizing::new(BASE64_STANDARD_NO_PAD.decode(text.expose()).ok()?);
    let mut seed = Zeroizing::new([0; 32]);
    (octets.len() == seed.len()).then(|| seed.copy_from_slice(&octets))?;
    Some(seed)
}

/// Records of each host's data, the newest last.
///
/// # Errors
/// When a record cannot be read.
pub fn seed_records(state: &State) -> Result<BTreeMap<HostName, Vec<SeedRecord>>, StoreError> {
    state.by_host(SEED_RECORDS)
}

/// Records the data that hosts get now.
///
/// # Errors
/// When the store cannot be used.
pub fn record_seeds(
    state: &mut State,
    tellings: impl IntoIterator<Item = (HostName, SeedRecord)>,
) -> Result<(), StoreError> {
    let mut all = seed_records(state)?;
    let mut changes = Vec::new();
    for (host, telling) in tellings {
        let mut known = all.remove(&host).unwrap_or_default();
        if known.last() == Some(&telling) {
            continue;
        }
        known.retain(|other| other.instance != telling.instance);
        known.push(telling);
        known.drain(..known.len().saturating_sub(KEPT));
        changes.push(Change::put(SEED_RECORDS, host.as_str(), json(SEED_RECORDS, &known)?));
    }
    state.write(changes)
}
