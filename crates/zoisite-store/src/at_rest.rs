//! The keys by which secrets are encrypted in etcd, and the ring of them that API servers are given.

use std::collections::BTreeMap;

use jiff::Timestamp;
use zeroize::Zeroizing;
use zoisite_core::holdings::SharedSecrets;
use zoisite_core::pki::{AtRestKey, AtRestKeys, AtRestStage, KeySource, Secret, SecretRef};

use crate::records::Change;
use crate::state::{META, SHARED, State, json, sealed};
use crate::{StoreError, Strongbox};

/// Keys as the API servers' configuration has them (base64), by name.
type Keys = BTreeMap<String, Secret>;

/// The first key, and the configuration that has it alone.
pub(crate) fn first(keys: &dyn KeySource) -> (Secret, AtRestKey) {
    let key = fresh(keys);
    let id = id_of("first", &key);
    (
        configuration(std::iter::once(("first", &key))),
        AtRestKey { name: "first".into(), id, made: None },
    )
}

/// 32 random octets, as `secretbox` takes them.
fn fresh(keys: &dyn KeySource) -> Secret {
    use base64::Engine as _;
    let mut key = Zeroizing::new([0_u8; 32]);
    key[..16].copy_from_slice(&keys.serial());
    key[16..].copy_from_slice(&keys.serial());
    Secret::new(base64::engine::general_purpose::STANDARD.encode(&key[..]))
}

/// Tells a key from every other one.
fn id_of(name: &str, key: &Secret) -> String {
    let alone = configuration(std::iter::once((name, key)));
    crate::sha256(alone.expose().as_bytes()).chars().take(16).collect()
}

/// How secrets are encrypted in etcd (`apiserver.config.k8s.io/v1`, `EncryptionConfiguration`): the first key
/// encrypts, all of them decrypt.
fn configuration<'a>(ring: impl Iterator<Item = (&'a str, &'a Secret)>) -> Secret {
    let mut text = Zeroizing::new(String::with_capacity(1_024));
    text.push_str(
        "apiVersion: apiserver.config.k8s.io/v1\n\
         kind: EncryptionConfiguration\n\
         resources:\n\
         - resources: [secrets]\n\
         \x20 providers:\n\
         \x20 - secretbox:\n\
         \x20     keys:\n",
    );
    for (name, key) in ring {
        text.push_str("      - name: ");
        text.push_str(name);
        text.push_str("\n        secret: ");
        text.push_str(key.expose());
        text.push('\n');
    }
    text.push_str("  - identity: {}\n");
    Secret::new(text.to_string())
}

/// The keys of a configuration that [`configuration`] wrote.
fn keys_of(configuration: &Secret) -> Keys {
    let mut name = None;
    let mut keys = Keys::new();
    for line in configuration.expose().lines().map(str::trim) {
        if let Some(found) = line.strip_prefix("- name: ") {
            name = Some(found.to_owned());
        } else if let (Some(key), Some(name)) = (line.strip_prefix("secret: "), name.take()) {
            keys.insert(name, Secret::new(key.to_owned()));
        }
    }
    keys
}

/// What API servers share; nothing of it is there before a first run.
fn shared(state: &State) -> Result<SharedSecrets, StoreError> {
    let missing = || StoreError::NoSecret("the encryption of secrets".to_owned());
    state.shared_secrets()?.ok_or_else(missing)
}

/// The ring that a configuration holds, as it was found where it is used: what is not used first is still accepted.
pub(crate) fn ring_of(configuration: &Secret) -> Option<AtRestKeys> {
    let keys = keys_of(configuration);
    let order =
        configuration.expose().lines().filter_map(|line| line.trim().strip_prefix("- name: "));
    let known = order.filter_map(|name| {
        let id = id_of(name, keys.get(name)?);
        Some(AtRestKey { name: name.to_owned(), id, made: None })
    });
    let mut known = known.collect::<Vec<_>>().into_iter();
    let used = known.next()?;
    Some(AtRestKeys { going: known.collect(), ..AtRestKeys::only(used) })
}

/// Makes another key, which every API server is to accept first. Where one is being replaced already nothing is made.
///
/// # Errors
/// When the store cannot be used or the strongbox cannot be opened; nothing is recorded then.
pub fn replace(
    state: &mut State,
    strongbox: &Strongbox,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<AtRestKeys, StoreError> {
    let before = shared(state)?.at_rest_keys();
    if before.stage().is_some() {
        return Ok(before);
    }
    let (name, key) = (before.next_name(), fresh(keys));
    let coming = AtRestKey { id: id_of(&name, &key), name: name.clone(), made: Some(now) };
    let after = AtRestKeys { coming: Some(coming), ..before };
    turn(state, strongbox, after, Keys::from([(name, key)]))
}

/// What follows once a stage of the replacement holds on every API server.
///
/// # Errors
/// As for [`replace`].
pub fn go_on(
    state: &mut State,
    strongbox: &Strongbox,
    stage: &AtRestStage,
) -> Result<AtRestKeys, StoreError> {
    let after = shared(state)?.at_rest_keys().after(stage);
    turn(state, strongbox, after, Keys::new())
}

/// Has API servers accept a key of before again, by its id, until everything is written again. `None` where nobody
/// knows it any more.
///
/// # Errors
/// As for [`replace`].
pub fn accept_again(
    state: &mut State,
    strongbox: &Strongbox,
    ids: &[String],
) -> Result<Option<AtRestKeys>, StoreError> {
    let mut after = shared(state)?.at_rest_keys();
    for id in ids {
        let Some(next) = after.accepting(id) else { return Ok(None) };
        after = next;
    }
    turn(state, strongbox, after, Keys::new()).map(Some)
}

/// Writes a ring down: the configuration, sealed, and those keys that leave it, each by itself.
fn turn(
    state: &mut State,
    strongbox: &Strongbox,
    after: AtRestKeys,
    new: Keys,
) -> Result<AtRestKeys, StoreError> {
    let before = shared(state)?;
    if before.at_rest_keys() == after {
        return Ok(after);
    }
    let recipients = state.recipients(strongbox)?;
    let mut keys = keys_of(&state.secret(&SecretRef::EncryptionAtRest, strongbox)?);
    keys.extend(new);
    for key in after.ring().all().filter(|key| before.at_rest_keys().gone.contains(key)) {
        let former = SecretRef::FormerKey(key.name.clone());
        keys.insert(key.name.clone(), state.secret(&former, strongbox)?);
    }
    let mut changes = Vec::new();
    for key in &after.gone {
        if let Some(text) = keys.get(&key.name) {
            changes.push(sealed(&SecretRef::FormerKey(key.name.clone()), text, &recipients)?);
        }
    }
    let missing = |name: &str| StoreError::NoSecret(format!("the key {name}"));
    let ring: Vec<(&str, &Secret)> = after
        .ring()
        .all()
        .map(|key| {
            let text = keys.get(&key.name).ok_or_else(|| missing(&key.name))?;
            Ok((key.name.as_str(), text))
        })
        .collect::<Result<_, StoreError>>()?;
    let text = configuration(ring.into_iter());
    let encryption_sha256 = crate::sha256(text.expose().as_bytes());
    let known = SharedSecrets { encryption_sha256, at_rest: Some(after.clone()), ..before };
    changes.push(Change::put(META, SHARED, json(META, &known)?));
    changes.push(sealed(&SecretRef::EncryptionAtRest, &text, &recipients)?);
    state.write(changes)?;
    Ok(after)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_configuration_gives_its_keys_back_and_an_id_tells_them_apart() {
        let keys = [("key-2", Secret::new("AgIC".into())), ("first", Secret::new("AQEB".into()))];
        let text = configuration(keys.iter().map(|(name, key)| (*name, key)));
        let names: Vec<&str> =
            text.expose().lines().filter_map(|line| line.trim().strip_prefix("- name: ")).collect();
        assert_eq!(names, ["key-2", "first"]);
        let found = keys_of(&text);
        assert_eq!(found["first"].expose(), "AQEB");
        assert_eq!(found["key-2"].expose(), "AgIC");
        assert_ne!(id_of("first", &found["first"]), id_of("first", &found["key-2"]));
        let alone = configuration(std::iter::once(("first", &found["first"])));
        assert!(
            crate::sha256(alone.expose().as_bytes()).starts_with(&id_of("first", &found["first"]))
        );
    }
}
