//! The root of the cluster's own, where the cluster file asks for one.

use jiff::Timestamp;
use zoisite_core::cluster::{Cluster, Hierarchy};
use zoisite_core::pki::{AuthorityKind, KeySource, Root, RootCertificate, SecretRef};

use crate::records::Change;
use crate::state::{META, State, json, sealed};
use crate::{StoreError, Strongbox};

const ROOTS: &str = "root-authorities";

/// Under whom authorities are made that are made now: none, or a root. One that would end before them, or whose key
/// is lost, is followed by another one, which the changes record.
///
/// # Errors
/// When the store cannot be used, the strongbox not be opened or the root not be made.
pub(crate) fn above(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    kinds: &[AuthorityKind],
    (keys, now): (&dyn KeySource, Timestamp),
) -> Result<(Option<Root>, Vec<Change>), StoreError> {
    let policy = &cluster.certificates;
    if policy.hierarchy == Hierarchy::Separate || kinds.is_empty() {
        return Ok((None, Vec::new()));
    }
    let mut roots: Vec<RootCertificate> = state.json(META, ROOTS)?.unwrap_or_default();
    let longest = kinds.iter().map(|kind| policy.authority_seconds_of(*kind)).max();
    let longest = longest.unwrap_or(policy.authority_seconds);
    let key = match state.secret(&SecretRef::RootAuthority, strongbox) {
        Ok(key) => Some(key),
        Err(StoreError::NoSecret(_)) => None,
        Err(error) => return Err(error),
    };
    if let (Some(newest), Some(key)) = (roots.last(), key)
        && newest.outlasts(longest, now)
    {
        return Ok((Some(Root::open(newest.clone(), &key)?), Vec::new()));
    }
    let (root, key) = Root::make(cluster, roots.len(), keys, now)?;
    roots.push(root.certificate().clone());
    let recipients = state.recipients(strongbox)?;
    let changes = vec![
        Change::put(META, ROOTS, json(META, &roots)?),
        sealed(&SecretRef::RootAuthority, &key, &recipients)?,
    ];
    Ok((Some(root), changes))
}
