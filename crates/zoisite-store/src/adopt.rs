//! The record of a cluster without a record here, made again of what its hosts hold.

use std::collections::BTreeMap;

use ipnet::IpNet;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::{HostFacts, SharedSecrets};
use zoisite_core::pki::{Ledger, Secret, SecretRef, TokenKeyTurn};
use zoisite_core::sequence::{Begun, MachinePin};

use crate::records::Change;
use crate::state::{
    AUTHORITY, CERTIFICATE, FACTS, HOST, META, Met, PIN, SHARED, SUBNETS, State, json, sealed,
};
use crate::{StoreError, Strongbox, at_rest};

/// What is known of a cluster by its hosts alone.
#[derive(Debug)]
pub struct Adopted {
    /// Its beginning, its members, its quorum.
    pub begun: Begun,
    /// Authorities and certificates, without the authorities' keys.
    pub ledger: Ledger,
    /// Public keys with which service accounts' tokens are verified, PEM.
    pub service_accounts: String,
    /// The private one.
    pub service_accounts_key: Secret,
    /// How API servers encrypt secrets, with the keys.
    pub encryption: Secret,
    /// Which machine each host is.
    pub pins: BTreeMap<HostName, MachinePin>,
    /// Where each was met.
    pub met: BTreeMap<HostName, Met>,
    /// What each is like.
    pub facts: BTreeMap<HostName, HostFacts>,
    /// Subnets of their pods.
    pub subnets: BTreeMap<HostName, Vec<IpNet>>,
}

/// Records all of it at once, in a store that knows no cluster yet.
///
/// # Errors
/// When the store cannot be used, or knows a cluster; nothing is recorded then.
pub fn adopt(
    state: &mut State,
    strongbox: &Strongbox,
    adopted: &Adopted,
) -> Result<(), StoreError> {
    if let Some(known) = state.known_cluster_id()? {
        return Err(StoreError::Known(known));
    }
    let recipients = state.recipients(strongbox)?;
    let shared = SharedSecrets {
        service_accounts: adopted.service_accounts.clone(),
        service_accounts_accepted: Vec::new(),
        service_accounts_turn: TokenKeyTurn::Done,
        service_accounts_sha256: crate::sha256(adopted.service_accounts_key.expose().as_bytes()),
        encryption_sha256: crate::sha256(adopted.encryption.expose().as_bytes()),
        at_rest: at_rest::ring_of(&adopted.encryption),
    };
    let identity = adopted.begun.identity.clone().into_bytes();
    let mut changes = vec![
        Change::put(META, "cluster-id", identity),
        Change::put(META, "begun", json(META, &adopted.begun)?),
        Change::put(META, SHARED, json(META, &shared)?),
        sealed(&SecretRef::ServiceAccounts, &adopted.service_accounts_key, &recipients)?,
        sealed(&SecretRef::EncryptionAtRest, &adopted.encryption, &recipients)?,
    ];
    for authority in &adopted.ledger.authorities {
        changes.push(Change::put(AUTHORITY, authority.kind.id(), json(AUTHORITY, authority)?));
    }
    for entry in &adopted.ledger.entries {
        changes.push(Change::put(CERTIFICATE, entry.serial.as_str(), json(CERTIFICATE, entry)?));
    }
    for (host, pin) in &adopted.pins {
        changes.push(Change::put(PIN, host.as_str(), json(PIN, pin)?));
    }
    for (host, met) in &adopted.met {
        changes.push(Change::put(HOST, host.as_str(), json(HOST, met)?));
    }
    for (host, facts) in &adopted.facts {
        changes.push(Change::put(FACTS, host.as_str(), json(FACTS, facts)?));
    }
    for (host, subnets) in &adopted.subnets {
        changes.push(Change::put(SUBNETS, host.as_str(), json(SUBNETS, subnets)?));
    }
    state.write(changes)
}
