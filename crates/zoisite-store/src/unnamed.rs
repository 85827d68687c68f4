//! Machines without a name: what is known of them by their card is known by their name once they have one, or is forgotten.

use std::collections::BTreeSet;

use jiff::Timestamp;
use zoisite_core::cluster::{Cluster, HostName, Mac};
use zoisite_core::pki::SecretRef;
use zoisite_core::token::TokenRecord;

use crate::first_boot::seed_records;
use crate::join_files::carried;
use crate::records::Change;
use crate::state::{CARRIED, SEED_RECORDS, SURVEYED, State, json, sealed};
use crate::{StoreError, Strongbox};

/// Whether anything is known of a machine by its card.
///
/// # Errors
/// When the store cannot be read.
pub fn is_known(state: &State, unnamed: &HostName) -> Result<bool, StoreError> {
    state.holds_secret(&SecretRef::LoginKey(unnamed.clone()).kept_under().unwrap_or_default())
}

/// Unnamed machines of which something is kept, though the cluster file names them no more, nor a host with their card.
///
/// # Errors
/// When the store cannot be read.
pub fn left_out(state: &State, cluster: &Cluster) -> Result<BTreeSet<HostName>, StoreError> {
    let mut known: BTreeSet<HostName> = seed_records(state)?.into_keys().collect();
    known.extend(carried(state)?.into_keys());
    known.extend(state.surveyed()?.into_keys());
    let named =
        cluster.hosts.iter().flat_map(|host| [Some(host.name.clone()), host.unnamed_name()]);
    let named: BTreeSet<HostName> =
        named.flatten().chain(cluster.unnamed().into_iter().map(|host| host.name)).collect();
    known.retain(|name| Mac::of_name(name.as_str()).is_some() && !named.contains(name));
    Ok(known)
}

/// Forgets unnamed machines: their SSH keys, passphrases, first-boot data and reports. All in one transaction.
/// Returns the tokens to be taken back.
///
/// # Errors
/// When the store cannot be used; nothing is changed then.
pub fn forget(
    state: &mut State,
    unnamed: &BTreeSet<HostName>,
    now: Timestamp,
) -> Result<Vec<TokenRecord>, StoreError> {
    let (mut changes, mut spent) = (Vec::new(), Vec::new());
    for unnamed in unnamed {
        spent.extend(state.tokens_of(unnamed)?);
        changes.extend(state.own_of(unnamed, now)?);
    }
    state.write(changes)?;
    Ok(spent)
}

/// Gives unnamed machines their names: the SSH key of each, its passphrase, first-boot data and last report are
/// the host's from then on, and its token is of no use any more. All in one transaction. Returns the tokens to be taken back.
///
/// # Errors
/// When the store cannot be used, the strongbox cannot be opened, or the host has such a thing of its own already; nothing is
/// changed then.
pub fn name(
    state: &mut State,
    strongbox: &Strongbox,
    all: &[(HostName, HostName)],
    now: Timestamp,
) -> Result<Vec<TokenRecord>, StoreError> {
    let recipients = state.recipients(strongbox)?;
    let (mut changes, mut spent) = (Vec::new(), Vec::new());
    for (unnamed, host) in all {
        let (own, tokens) = named(state, (strongbox, &recipients), (unnamed, host), now)?;
        changes.extend(own);
        spent.extend(tokens);
    }
    state.write(changes)?;
    Ok(spent)
}

/// What changes for one, and its tokens.
fn named(
    state: &mut State,
    (strongbox, recipients): (&Strongbox, &[String]),
    (unnamed, host): (&HostName, &HostName),
    now: Timestamp,
) -> Result<(Vec<Change>, Vec<TokenRecord>), StoreError> {
    let mut changes = Vec::new();
    type Which = fn(HostName) -> SecretRef;
    for which in [SecretRef::LoginKey as Which, SecretRef::HostWord] {
        let (old, new) = (which(unnamed.clone()), which(host.clone()));
        let Some(secret) = state.kept(&old, strongbox)? else { continue };
        if state.kept(&new, strongbox)?.is_some() {
            return Err(StoreError::Named(host.clone()));
        }
        changes.push(sealed(&new, &secret, recipients)?);
    }
    let mut tellings = seed_records(state)?;
    if let Some(known) = tellings.remove(unnamed) {
        changes.push(Change::put(SEED_RECORDS, host.as_str(), json(SEED_RECORDS, &known)?));
    }
    let mut surveys = state.surveyed()?;
    if let Some(known) = surveys.remove(unnamed) {
        changes.push(Change::put(SURVEYED, host.as_str(), json(SURVEYED, &known)?));
    }
    let mut files = carried(state)?;
    if let Some(known) = files.remove(unnamed) {
        changes.push(Change::put(CARRIED, host.as_str(), json(CARRIED, &known)?));
    }
    let spent = state.tokens_of(unnamed)?;
    changes.extend(state.own_of(unnamed, now)?);
    Ok((changes, spent))
}
