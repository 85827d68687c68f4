//! Machines that get a name: what is known of them by their card is known by that name from then on.

use jiff::Timestamp;
use zoisite_core::cluster::HostName;
use zoisite_core::pki::SecretRef;
use zoisite_core::token::TokenRecord;

use crate::first_boot::told;
use crate::join_files::carried;
use crate::records::Change;
use crate::state::{CARRIED, SECRET, SURVEYED, State, TOLD, json, sealed, token_changes};
use crate::{StoreError, Strongbox};

/// Whether anything is known of a machine by its card.
///
/// # Errors
/// When the store cannot be read.
pub fn is_known(state: &State, newcomer: &HostName) -> Result<bool, StoreError> {
    state.holds_secret(&SecretRef::LoginKey(newcomer.clone()).kept_under().unwrap_or_default())
}

/// Gives newcomers their names: the SSH key of each, its word, what it was told and told of itself, and its last letter are
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
    for (newcomer, host) in all {
        let (own, tokens) = named(state, (strongbox, &recipients), (newcomer, host), now)?;
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
    (newcomer, host): (&HostName, &HostName),
    now: Timestamp,
) -> Result<(Vec<Change>, Vec<TokenRecord>), StoreError> {
    let mut changes = Vec::new();
    type Which = fn(HostName) -> SecretRef;
    for which in [SecretRef::LoginKey as Which, SecretRef::HostWord] {
        let (old, new) = (which(newcomer.clone()), which(host.clone()));
        let Some(secret) = state.kept(&old, strongbox)? else { continue };
        if state.kept(&new, strongbox)?.is_some() {
            return Err(StoreError::Named(host.clone()));
        }
        changes.push(sealed(&new, &secret, recipients)?);
        changes.push(Change::remove(SECRET, old.kept_under().unwrap_or_default()));
    }
    let mut tellings = told(state)?;
    if let Some(known) = tellings.remove(newcomer) {
        changes.push(Change::put(TOLD, host.as_str(), json(TOLD, &known)?));
    }
    let mut surveys = state.surveyed()?;
    if let Some(known) = surveys.remove(newcomer) {
        changes.push(Change::put(SURVEYED, host.as_str(), json(SURVEYED, &known)?));
    }
    let mut files = carried(state)?;
    if let Some(known) = files.remove(newcomer) {
        changes.push(Change::put(CARRIED, host.as_str(), json(CARRIED, &known)?));
    }
    let mut spent = Vec::new();
    for token in state.tokens()? {
        if token.gone.is_none() && token.hosts == [newcomer.clone()] {
            changes.extend(token_changes(&TokenRecord { gone: Some(now), ..token.clone() })?);
            spent.push(token);
        }
    }
    for kind in [TOLD, SURVEYED, CARRIED] {
        if state.read(kind, newcomer.as_str())?.is_some() {
            changes.push(Change::remove(kind, newcomer.as_str()));
        }
    }
    Ok((changes, spent))
}
