//! Issuing what is due: certificates and their sealed keys are recorded in one transaction.

use std::collections::BTreeMap;

use jiff::Timestamp;
use zoisite_core::cluster::Cluster;
use zoisite_core::pki::{
    Authority, AuthorityKind, Due, KeySource, Ledger, LedgerEntry, Profile, Secret, due,
    run_client, wanted,
};

use crate::records::Change;
use crate::state::{AUTHORITY, CERTIFICATE, SECRET, State, json};
use crate::{StoreError, Vault};

/// What issuing did.
#[derive(Clone, Debug, Default)]
pub struct Issued {
    /// Authorities that were made.
    pub authorities: Vec<AuthorityKind>,
    /// Certificates that were issued, with the reason.
    pub certificates: Vec<Due>,
}

impl Issued {
    /// Whether nothing had to be done.
    pub fn is_empty(&self) -> bool {
        self.authorities.is_empty() && self.certificates.is_empty()
    }
}

/// Makes missing authorities and issues every certificate that is due; a second call does nothing.
///
/// With `again`, every certificate is issued anew.
///
/// # Errors
/// When the store cannot be used, or an authority has ended; nothing is recorded then.
pub fn issue(
    state: &mut State,
    vault: &Vault,
    cluster: &Cluster,
    keys: &dyn KeySource,
    now: Timestamp,
    again: bool,
) -> Result<Issued, StoreError> {
    let mut ledger = state.ledger()?;
    let mut issued = Issued::default();
    let mut changes = Vec::new();
    let mut authorities = BTreeMap::new();
    let complete = AuthorityKind::ALL.iter().all(|kind| ledger.authority(*kind).is_some());
    if complete && !again && due(&wanted(cluster), &ledger, now).is_empty() {
        return Ok(issued);
    }
    let recipients = state.recipients(vault)?;
    for kind in AuthorityKind::ALL {
        let authority = match ledger.authority(kind) {
            Some(certificate) => {
                let key = state.secret(&authority_key(kind), vault)?;
                Authority::open(certificate.clone(), &key)?
            }
            None => {
                let policy = &cluster.certificates;
                let (authority, key) = Authority::make(
                    &cluster.name,
                    kind,
                    policy.key,
                    policy.authority_days,
                    keys,
                    now,
                )?;
                let certificate = authority.certificate();
                changes.push(put(AUTHORITY, kind.id(), json(AUTHORITY, certificate)?));
                changes.push(put(SECRET, &authority_key(kind), Vault::seal(&key, &recipients)?));
                ledger.authorities.push(certificate.clone());
                issued.authorities.push(kind);
                authority
            }
        };
        authorities.insert(kind, authority);
    }
    let mut dues = due(&wanted(cluster), &ledger, now);
    if again {
        dues = everything(cluster, &ledger, dues);
    }
    for (one, (entry, key)) in dues.iter().zip(sign(&dues, &authorities, keys, now)?) {
        if let Some(old) = one
            .replaces
            .as_ref()
            .and_then(|serial| ledger.entries.iter().find(|old| old.serial == *serial))
        {
            let replaced = LedgerEntry { replaced_by: Some(entry.serial.clone()), ..old.clone() };
            changes.push(put(CERTIFICATE, &old.serial, json(CERTIFICATE, &replaced)?));
            changes.push(Change::Remove { kind: SECRET, key: old.serial.clone() });
        }
        changes.push(put(SECRET, &entry.serial, Vault::seal(&key, &recipients)?));
        changes.push(put(CERTIFICATE, &entry.serial, json(CERTIFICATE, &entry)?));
    }
    issued.certificates = dues;
    state.write(&changes)?;
    Ok(issued)
}

/// Signs on all cores, in order.
fn sign(
    dues: &[Due],
    authorities: &BTreeMap<AuthorityKind, Authority>,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<Vec<(LedgerEntry, Secret)>, StoreError> {
    zoisite_core::pki::issue_all(dues, |kind| authorities.get(&kind), keys, now)
        .map_err(StoreError::Pki)
}

/// Every certificate, those that are right as they are included.
fn everything(cluster: &Cluster, ledger: &Ledger, dues: Vec<Due>) -> Vec<Due> {
    let current = ledger.current();
    let mut dues: BTreeMap<_, _> =
        dues.into_iter().map(|d| ((d.wanted.profile, d.wanted.host.clone()), d)).collect();
    wanted(cluster)
        .into_iter()
        .map(|wanted| {
            let found = dues.remove(&(wanted.profile, wanted.host.clone()));
            found.unwrap_or_else(|| {
                let old = wanted.host.clone().and_then(|h| current.get(&(wanted.profile, h)));
                Due {
                    replaces: old.map(|entry| entry.serial.clone()),
                    wanted,
                    why: zoisite_core::pki::Why::Changed("key, as you asked,"),
                }
            })
        })
        .collect()
}

/// A short-lived certificate for this run, recorded but with its key in memory only.
///
/// # Errors
/// When the authority is missing or cannot be opened.
pub fn for_this_run(
    state: &mut State,
    vault: &Vault,
    cluster: &Cluster,
    profile: Profile,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<(LedgerEntry, Secret), StoreError> {
    let kind = profile.authority();
    let ledger = state.ledger()?;
    let certificate = ledger
        .authority(kind)
        .ok_or_else(|| StoreError::NoSecret(format!("the {kind} authority")))?;
    let key = state.secret(&authority_key(kind), vault)?;
    let authority = Authority::open(certificate.clone(), &key)?;
    let (entry, key) = authority.issue(&run_client(cluster, profile), keys, now)?;
    state.write(&[put(CERTIFICATE, &entry.serial, json(CERTIFICATE, &entry)?)])?;
    Ok((entry, key))
}

fn authority_key(kind: AuthorityKind) -> String {
    format!("authority/{kind}")
}

fn put(kind: &'static str, key: &str, value: Vec<u8>) -> Change {
    Change::Put { kind, key: key.to_owned(), value }
}
