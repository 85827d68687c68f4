//! Authorities whose certificates somebody else signs: asked for, and their keys sealed until the answer comes.

use jiff::Timestamp;
use zoisite_core::cluster::Cluster;
use zoisite_core::pki::{AuthorityKind, AuthorityRequest, KeySource, SecretRef};

use crate::records::Change;
use crate::state::{META, SECRET, State, json, sealed};
use crate::{StoreError, Strongbox};

fn place(kind: AuthorityKind) -> String {
    format!("authority-asked/{kind}")
}

/// The requests that wait for an answer.
///
/// # Errors
/// When the store cannot be used.
pub fn requests(state: &State) -> Result<Vec<AuthorityRequest>, StoreError> {
    let all = AuthorityKind::ALL.into_iter().map(|kind| open_request(state, kind));
    all.filter_map(Result::transpose).collect()
}

/// The one for an authority of that kind.
pub(crate) fn open_request(
    state: &State,
    kind: AuthorityKind,
) -> Result<Option<AuthorityRequest>, StoreError> {
    state.json(META, &place(kind))
}

/// Asks for the certificate of an authority: the first of its kind, or one that is to take the place of the one that
/// signs. One that was asked for already is the same again.
///
/// # Errors
/// When the store cannot be used or the strongbox not be opened; nothing is recorded then.
pub fn request(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    kind: AuthorityKind,
    (keys, now): (&dyn KeySource, Timestamp),
) -> Result<AuthorityRequest, StoreError> {
    if let Some(known) = open_request(state, kind)? {
        return Ok(known);
    }
    let before = state.ledger()?.authorities_of(kind).count();
    let (request, key) = AuthorityRequest::make(cluster, (kind, before), keys, now)?;
    let recipients = state.recipients(strongbox)?;
    state.write(vec![
        Change::put(META, place(kind), json(META, &request)?),
        sealed(&SecretRef::AskedAuthority(kind), &key, &recipients)?,
    ])?;
    Ok(request)
}

/// Forgets that an authority was asked for, and its key.
///
/// # Errors
/// When it was not, or the store cannot be used.
pub fn withdraw(state: &mut State, kind: AuthorityKind) -> Result<(), StoreError> {
    if open_request(state, kind)?.is_none() {
        return Err(StoreError::NotAsked(kind));
    }
    state.write(forgotten(kind))
}

/// Takes the record of a request and its key out.
pub(crate) fn forgotten(kind: AuthorityKind) -> Vec<Change> {
    let key = SecretRef::AskedAuthority(kind).kept_under();
    let key = key.map(|key| Change::remove(SECRET, key));
    key.into_iter().chain([Change::remove(META, place(kind))]).collect()
}
