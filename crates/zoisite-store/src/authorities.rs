//! Authorities that are replaced: another one made, their standings turned, their keys kept as long as they may sign.

use jiff::Timestamp;
use zoisite_core::cluster::{Cluster, Hierarchy};
use zoisite_core::pki::{
    Authority, AuthorityCertificate, AuthorityKind, AuthorityState, KeySource, Ledger, Secret,
    SecretRef, TrustStage, brought,
};

use crate::records::Change;
use crate::state::{AUTHORITY, SECRET, State, json, sealed};
use crate::{StoreError, Strongbox, asked, root};

/// Goes on with the replacement of an authority, by a person's word: makes another one, or lets the stage begin that
/// waits for it. Where a stage is under way already nothing is changed.
///
/// # Errors
/// When another one is being replaced, there is none yet, the store cannot be used or the strongbox not be opened;
/// nothing is recorded then.
pub fn replace(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    kind: AuthorityKind,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<Ledger, StoreError> {
    let ledger = state.ledger()?;
    match ledger.replacing() {
        Some(other) if other != kind => return Err(StoreError::Replacing(other)),
        Some(_) => {
            let confirmed = ledger.confirmed_replacements(kind);
            return turn(state, strongbox, confirmed);
        }
        None => {}
    }
    still_signs(state, strongbox, kind)?;
    if asked::open_request(state, kind)?.is_some() {
        return Err(StoreError::Asked(kind));
    }
    let (root, besides) = root::above(state, strongbox, cluster, &[kind], (keys, now))?;
    let which = (kind, ledger.authorities_of(kind).count());
    let (made, key) = Authority::make(cluster, which, root.as_ref(), keys, now)?;
    let made =
        AuthorityCertificate { standing: AuthorityState::Comes, ..made.certificate().clone() };
    added(state, strongbox, (made, &key), besides)
}

/// Takes the answer to a request. The first authority of its kind signs at once; another one comes beside the one that
/// does, as one that was made here.
///
/// # Errors
/// When it was not asked for, the answer is not what it must be (then [`StoreError::Answer`]), another authority is
/// being replaced, the store cannot be used or the strongbox not be opened; nothing is recorded then.
pub fn answer(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    (kind, text): (AuthorityKind, &str),
    (keys, now): (&dyn KeySource, Timestamp),
) -> Result<Ledger, StoreError> {
    let asked = asked::open_request(state, kind)?.ok_or(StoreError::NotAsked(kind))?;
    let key = state.secret(&SecretRef::AskedAuthority(kind), strongbox)?;
    let made = asked
        .answered(&key, text, cluster, keys, now)
        .map_err(|faults| StoreError::Answer { kind, faults })?;
    takes_its_place(state, strongbox, (made, &key), asked::forgotten(kind), now)
}

/// Takes an authority that the site has, with its key, as one that was made here.
///
/// # Errors
/// When it is not what it must be (then [`StoreError::Answer`]), one of its kind is asked for, another authority is being
/// replaced, the store cannot be used or the strongbox not be opened; nothing is recorded then.
pub fn bring(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    (kind, text, key): (AuthorityKind, &str, &Secret),
    (keys, now): (&dyn KeySource, Timestamp),
) -> Result<Ledger, StoreError> {
    if asked::open_request(state, kind)?.is_some() {
        return Err(StoreError::Asked(kind));
    }
    let made = brought(kind, key, text, cluster, keys, now)
        .map_err(|faults| StoreError::Answer { kind, faults })?;
    takes_its_place(state, strongbox, (made, key), Vec::new(), now)
}

/// Records what was not made here: it signs at once where it is the first of its kind, or comes beside the one that does.
fn takes_its_place(
    state: &mut State,
    strongbox: &Strongbox,
    (mut made, key): (AuthorityCertificate, &Secret),
    besides: Vec<Change>,
    now: Timestamp,
) -> Result<Ledger, StoreError> {
    let (kind, ledger) = (made.kind, state.ledger()?);
    let mut faults = Vec::new();
    for other in &ledger.authorities {
        // Verifiers find an issuer by its name, and the store an authority by its serial number.
        if other.sha256 == made.sha256 {
            faults.push(match other.kind == kind {
                true => "it was this cluster's already".to_owned(),
                false => format!(
                    "it is the {} authority's: a certificate of one would be accepted as one of the other",
                    other.kind
                ),
            });
        } else if other.key_sha256 == made.key_sha256 {
            faults.push(format!("its key is that of {}", other.subject));
        } else if other.subject == made.subject {
            faults.push(format!("another authority here is called {} too", other.subject));
        } else if other.kind == kind && other.serial == made.serial {
            faults.push("its serial number is one that was used before".into());
        }
    }
    if !faults.is_empty() {
        return Err(StoreError::Answer { kind, faults });
    }
    if ledger.authority(kind).is_some_and(|used| used.not_after <= now) {
        return succeeds(state, strongbox, (made, key), besides);
    }
    if ledger.authority(kind).is_some() {
        if let Some(other) = ledger.replacing() {
            return Err(StoreError::Replacing(other));
        }
        still_signs(state, strongbox, kind)?;
        made.standing = AuthorityState::Comes;
    }
    added(state, strongbox, (made, key), besides)
}

/// Makes another authority where the one that signs has ended: nothing that it issued is believed any more, so nobody is
/// left for whom both would have to be believed. Of one under somebody else's root the next is asked for as it was.
///
/// # Errors
/// When it must be asked for (then [`StoreError::EndedBelow`]), the store cannot be used or the strongbox not be opened;
/// nothing is recorded then.
pub(crate) fn outlived(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    (keys, now): (&dyn KeySource, Timestamp),
) -> Result<Vec<AuthorityKind>, StoreError> {
    let ledger = state.ledger()?;
    let ended = |kind: &AuthorityKind| ledger.authority(*kind).filter(|used| used.not_after <= now);
    let all: Vec<_> = AuthorityKind::ALL.iter().filter_map(ended).collect();
    for used in &all {
        let own = cluster.certificates.hierarchy == Hierarchy::OneRoot;
        if asked::open_request(state, used.kind)?.is_some() {
            return Err(StoreError::Asked(used.kind));
        }
        if !used.issuers.is_empty() && !own {
            return Err(StoreError::EndedBelow(used.kind));
        }
    }
    let kinds: Vec<AuthorityKind> = all.iter().map(|used| used.kind).collect();
    for kind in &kinds {
        let (root, besides) = root::above(state, strongbox, cluster, &[*kind], (keys, now))?;
        let which = (*kind, ledger.authorities_of(*kind).count());
        let (made, key) = Authority::make(cluster, which, root.as_ref(), keys, now)?;
        succeeds(state, strongbox, (made.certificate().clone(), &key), besides)?;
    }
    Ok(kinds)
}

/// Records an authority that signs at once; those before it are gone, and their keys.
fn succeeds(
    state: &mut State,
    strongbox: &Strongbox,
    (made, key): (AuthorityCertificate, &Secret),
    mut besides: Vec<Change>,
) -> Result<Ledger, StoreError> {
    let (kind, ledger) = (made.kind, state.ledger()?);
    // What takes its place has read it.
    match state.secret(&SecretRef::Authority(kind), strongbox) {
        Ok(_) | Err(StoreError::NoSecret(_)) => {}
        Err(error) => return Err(error),
    }
    let before: Vec<AuthorityCertificate> = ledger.authorities_of(kind).cloned().collect();
    for other in before.iter().filter(|one| one.standing != AuthorityState::Signs) {
        let kept = SecretRef::OtherAuthority(other.serial.clone()).kept_under();
        besides.extend(kept.map(|under| Change::remove(SECRET, under)));
    }
    let gone = before
        .into_iter()
        .map(|one| AuthorityCertificate { standing: AuthorityState::Gone, ..one });
    let all: Vec<_> = gone.chain([made]).collect();
    let recipients = state.recipients(strongbox)?;
    besides.extend(records(kind, &all)?);
    besides.push(sealed(&SecretRef::Authority(kind), key, &recipients)?);
    state.write(besides)?;
    state.ledger()
}

/// The one before signs until every host believes the other one: its key must be there, where a run shows what it signs.
/// (Members and API servers, to whom these two are, show one another what they have.)
fn still_signs(
    state: &mut State,
    strongbox: &Strongbox,
    kind: AuthorityKind,
) -> Result<(), StoreError> {
    match state.secret(&SecretRef::Authority(kind), strongbox) {
        Err(StoreError::NoSecret(_)) => match kind {
            AuthorityKind::EtcdPeer | AuthorityKind::FrontProxy => Ok(()),
            AuthorityKind::Cluster | AuthorityKind::EtcdClient => {
                Err(StoreError::LostAuthority(kind))
            }
        },
        found => found.map(drop),
    }
}

/// Records an authority beside those of its kind, its key sealed, with what changes besides.
fn added(
    state: &mut State,
    strongbox: &Strongbox,
    (made, key): (AuthorityCertificate, &Secret),
    besides: Vec<Change>,
) -> Result<Ledger, StoreError> {
    let recipients = state.recipients(strongbox)?;
    let secret = sealed(&key_under(&made), key, &recipients)?;
    let (kind, ledger) = (made.kind, state.ledger()?);
    let all: Vec<_> = ledger.authorities_of(kind).cloned().chain([made]).collect();
    let mut changes = records(kind, &all)?;
    changes.push(secret);
    changes.extend(besides);
    state.write(changes)?;
    state.ledger()
}

/// What follows once a stage holds on every host.
///
/// # Errors
/// When the store cannot be used or the strongbox cannot be opened.
pub fn go_on(
    state: &mut State,
    strongbox: &Strongbox,
    stage: TrustStage,
) -> Result<Ledger, StoreError> {
    let after = state.ledger()?.after(stage);
    turn(state, strongbox, after)
}

/// Takes the replacement of an authority back; where the new one has signed, its stages are gone through the other way
/// round.
///
/// # Errors
/// When there is nothing to take back (then [`StoreError::NotReplacing`]) or it is too late, the key of the one before is
/// lost, the store cannot be used or the strongbox not be opened; nothing is changed then.
pub fn uninstall(
    state: &mut State,
    strongbox: &Strongbox,
    kind: AuthorityKind,
) -> Result<Ledger, StoreError> {
    let ledger = state.ledger()?;
    let back = ledger.taken_back(kind);
    if back.is_empty() {
        return Err(match ledger.replacing() == Some(kind) {
            true => StoreError::TooLate(kind),
            false => StoreError::NotReplacing(kind),
        });
    }
    turn(state, strongbox, back)
}

fn key_under(authority: &AuthorityCertificate) -> SecretRef {
    match authority.standing {
        AuthorityState::Signs => SecretRef::Authority(authority.kind),
        _ => SecretRef::OtherAuthority(authority.serial.clone()),
    }
}

/// Writes standings down, and keeps the keys where they are looked for; of one that leaves none is kept.
fn turn(
    state: &mut State,
    strongbox: &Strongbox,
    after: Vec<AuthorityCertificate>,
) -> Result<Ledger, StoreError> {
    let ledger = state.ledger()?;
    let Some(kind) = after.first().map(|one| one.kind) else { return Ok(ledger) };
    let recipients = state.recipients(strongbox)?;
    let mut changes = records(kind, &after)?;
    for now in &after {
        let before = ledger.authorities_of(kind).find(|one| one.serial == now.serial);
        let Some(before) = before.filter(|before| before.standing != now.standing) else {
            continue;
        };
        // Where it is kept under the same name, nothing moves.
        if key_under(before) == key_under(now) && now.standing.is_believed() {
            continue;
        }
        let key: Option<Secret> = match state.secret(&key_under(before), strongbox) {
            Ok(key) => Some(key),
            // Hosts do not give the key of one back that was adopted; it goes without.
            Err(StoreError::NoSecret(_)) if now.standing != AuthorityState::Signs => None,
            Err(StoreError::NoSecret(_)) => return Err(StoreError::LostAuthority(kind)),
            Err(error) => return Err(error),
        };
        if let Some(under) = SecretRef::OtherAuthority(now.serial.clone()).kept_under() {
            changes.push(Change::remove(SECRET, under));
        }
        if let (Some(key), true) = (key, now.standing.is_believed()) {
            changes.push(sealed(&key_under(now), &key, &recipients)?);
        }
    }
    state.write(changes)?;
    state.ledger()
}

/// The records of all authorities of a kind, each under its own serial number.
fn records(kind: AuthorityKind, all: &[AuthorityCertificate]) -> Result<Vec<Change>, StoreError> {
    let mut changes = vec![Change::remove(AUTHORITY, kind.id().to_owned())];
    for one in all {
        changes.push(Change::put(
            AUTHORITY,
            format!("{kind}/{}", one.serial),
            json(AUTHORITY, one)?,
        ));
    }
    Ok(changes)
}
