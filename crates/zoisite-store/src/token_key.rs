//! The key that signs service accounts' tokens, replaced: accepted, then used, and the one before accepted as long as a
//! token that it signed may last.

use jiff::Timestamp;
use zoisite_core::holdings::SharedSecrets;
use zoisite_core::pki::{
    KeyKind, KeySource, NewKey, PkiError, Secret, SecretRef, TokenKeyTurn, TrustStage,
};

use crate::records::Change;
use crate::state::{META, SECRET, SHARED, State, json, sealed};
use crate::{StoreError, Strongbox};

fn shared(state: &State) -> Result<SharedSecrets, StoreError> {
    let missing = || StoreError::NoSecret("service accounts' tokens".to_owned());
    state.shared_secrets()?.ok_or_else(missing)
}

/// A key pair: the public half in PEM, and the private one.
pub(crate) fn pair(keys: &dyn KeySource) -> Result<(String, Secret), StoreError> {
    let NewKey { private, .. } = keys.key(KeyKind::EcdsaP256)?;
    let pair = rcgen::KeyPair::from_pem(private.expose())
        .map_err(|source| PkiError::Key { kind: KeyKind::EcdsaP256, source })?;
    Ok((pair.public_key_pem(), private))
}

/// Goes on with the replacement, by a person's word: makes another key, or, once the other one signs, ends what the one
/// before signed. Where a stage is under way nothing is changed.
///
/// # Errors
/// When the store cannot be used or the strongbox cannot be opened; nothing is recorded then.
pub fn replace(
    state: &mut State,
    strongbox: &Strongbox,
    keys: &dyn KeySource,
) -> Result<SharedSecrets, StoreError> {
    let before = shared(state)?;
    match before.service_accounts_turn {
        TokenKeyTurn::Comes | TokenKeyTurn::Signs => Ok(before),
        TokenKeyTurn::Since(_) => alone(state, before),
        TokenKeyTurn::Done => {
            let (public, private) = pair(keys)?;
            let recipients = state.recipients(strongbox)?;
            let secret = sealed(&SecretRef::OtherServiceAccounts, &private, &recipients)?;
            let after = SharedSecrets {
                service_accounts_accepted: vec![public],
                service_accounts_turn: TokenKeyTurn::Comes,
                ..before
            };
            keep(state, after, vec![secret])
        }
    }
}

/// What follows once a stage holds on every API server.
///
/// # Errors
/// As for [`replace`].
pub fn go_on(
    state: &mut State,
    strongbox: &Strongbox,
    stage: TrustStage,
    now: Timestamp,
) -> Result<SharedSecrets, StoreError> {
    let before = shared(state)?;
    match (before.service_accounts_turn.stage() == Some(stage), stage) {
        (true, TrustStage::AcceptTokens) => exchanged(state, strongbox, before),
        (true, _) => {
            let turn = TokenKeyTurn::Since(now);
            keep(state, SharedSecrets { service_accounts_turn: turn, ..before }, Vec::new())
        }
        (false, _) => Ok(before),
    }
}

/// Takes it back: the key before signs again, and the other one is accepted as long as what it signed may last.
///
/// # Errors
/// Where nothing is being replaced ([`StoreError::NoTokenKey`]), or as for [`replace`].
pub fn uninstall(state: &mut State, strongbox: &Strongbox) -> Result<SharedSecrets, StoreError> {
    let before = shared(state)?;
    match before.service_accounts_turn {
        TokenKeyTurn::Done => Err(StoreError::NoTokenKey),
        TokenKeyTurn::Comes => alone(state, before),
        TokenKeyTurn::Signs | TokenKeyTurn::Since(_) => exchanged(state, strongbox, before),
    }
}

fn keep(
    state: &mut State,
    after: SharedSecrets,
    mut changes: Vec<Change>,
) -> Result<SharedSecrets, StoreError> {
    changes.push(Change::put(META, SHARED, json(META, &after)?));
    state.write(changes)?;
    Ok(after)
}

/// The key that signs is accepted, and no other.
fn alone(state: &mut State, before: SharedSecrets) -> Result<SharedSecrets, StoreError> {
    let other = SecretRef::OtherServiceAccounts.kept_under();
    let gone = other.map(|under| Change::remove(SECRET, under)).into_iter().collect();
    let after = SharedSecrets {
        service_accounts_accepted: Vec::new(),
        service_accounts_turn: TokenKeyTurn::Done,
        ..before
    };
    keep(state, after, gone)
}

/// The other key signs, and the one that did is accepted.
fn exchanged(
    state: &mut State,
    strongbox: &Strongbox,
    before: SharedSecrets,
) -> Result<SharedSecrets, StoreError> {
    let other = state.secret(&SecretRef::OtherServiceAccounts, strongbox)?;
    let old = state.secret(&SecretRef::ServiceAccounts, strongbox)?;
    let recipients = state.recipients(strongbox)?;
    let changes = vec![
        sealed(&SecretRef::ServiceAccounts, &other, &recipients)?,
        sealed(&SecretRef::OtherServiceAccounts, &old, &recipients)?,
    ];
    let after = SharedSecrets {
        service_accounts: before.service_accounts_accepted.concat(),
        service_accounts_accepted: vec![before.service_accounts.clone()],
        service_accounts_turn: TokenKeyTurn::Signs,
        service_accounts_sha256: crate::sha256(other.expose().as_bytes()),
        ..before
    };
    keep(state, after, changes)
}
