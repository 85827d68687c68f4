//! What is stored of a cluster, in the words of the job rather than of records.

use std::collections::BTreeMap;

use ipnet::IpNet;
use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use zoisite_core::blueprint::{HostFacts, SharedSecrets, assign_subnets};
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::pki::{AuthorityCertificate, Ledger, LedgerEntry, Secret};
use zoisite_core::sequence::MachinePin;
use zoisite_core::token::TokenRecord;

use crate::records::{Change, Records};
use crate::{StoreError, Vault};

pub(crate) const AUTHORITY: &str = "authority";
pub(crate) const CERTIFICATE: &str = "certificate";
pub(crate) const SECRET: &str = "secret";
pub(crate) const META: &str = "meta";
pub(crate) const SHARED: &str = "shared-secrets";
const SUBNETS: &str = "pod-subnets";
const FACTS: &str = "host-facts";
const PIN: &str = "pin";
const RUN: &str = "run";
const TOKEN: &str = "token";

/// One run, as `history` shows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunRecord {
    /// Its generation: later runs have larger ones.
    pub generation: u64,
    /// The command.
    pub command: String,
    /// Who ran it, and from where.
    pub who: String,
    /// When it began.
    pub began: Timestamp,
    /// When it ended; `None` when it was cut off.
    pub ended: Option<Timestamp>,
    /// How it ended, in a few words.
    pub outcome: Option<String>,
}

/// One line of a run's journal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredEvent {
    /// When.
    pub at: Timestamp,
    /// What, as JSON.
    pub event: String,
}

/// The stored state of one cluster.
pub struct State {
    records: Box<dyn Records>,
}

impl std::fmt::Debug for State {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("State").finish_non_exhaustive()
    }
}

impl State {
    /// The state in these records.
    pub fn new(records: Box<dyn Records>) -> Self {
        Self { records }
    }

    /// The records themselves, for locks.
    pub fn records(&mut self) -> &mut dyn Records {
        self.records.as_mut()
    }

    /// This cluster's own identity; made at first use.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn cluster_id(&mut self) -> Result<String, StoreError> {
        if let Some(id) = self.records.get(META, "cluster-id")? {
            return Ok(String::from_utf8_lossy(&id).into_owned());
        }
        let id: String =
            crate::keys::random::<8>().iter().map(|byte| format!("{byte:02x}")).collect();
        let value = id.clone().into_bytes();
        self.records.write(&[Change::Put { kind: META, key: "cluster-id".into(), value }])?;
        Ok(id)
    }

    /// Public keys for which secrets are sealed; `own` is added when there are none yet.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn recipients(&mut self, own: &Vault) -> Result<Vec<String>, StoreError> {
        let known: Vec<String> = self.json(META, "recipients")?.unwrap_or_default();
        if !known.is_empty() {
            return Ok(known);
        }
        let known = vec![own.recipient()];
        self.put(META, "recipients", &known)?;
        Ok(known)
    }

    /// Everything issued so far.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn ledger(&self) -> Result<Ledger, StoreError> {
        Ok(Ledger {
            authorities: self.all::<AuthorityCertificate>(AUTHORITY)?,
            entries: self.all::<LedgerEntry>(CERTIFICATE)?,
        })
    }

    /// The private key whose certificate has this serial number.
    ///
    /// # Errors
    /// When it is not there, or not for this identity.
    pub fn secret(&mut self, serial: &str, vault: &Vault) -> Result<Secret, StoreError> {
        let recipients = self.recipients(vault)?;
        let sealed = self
            .records
            .get(SECRET, serial)?
            .ok_or_else(|| StoreError::NoSecret(format!("the certificate {serial}")))?;
        vault.unseal(&sealed, &recipients)
    }

    /// What is known of the control planes' shared secrets; `None` before anything was issued.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn shared_secrets(&self) -> Result<Option<SharedSecrets>, StoreError> {
        self.json(META, SHARED)
    }

    /// The pod subnets of every node. Nodes that have none get one, and keep it.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn subnets(
        &mut self,
        cluster: &Cluster,
    ) -> Result<BTreeMap<HostName, Vec<IpNet>>, StoreError> {
        let mut assigned = self.json(META, SUBNETS)?.unwrap_or_default();
        if assign_subnets(cluster, &mut assigned) {
            self.put(META, SUBNETS, &assigned)?;
        }
        Ok(assigned)
    }

    /// What hosts' own nature decides, as last seen.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn facts(&self) -> Result<BTreeMap<HostName, HostFacts>, StoreError> {
        Ok(self.json(META, FACTS)?.unwrap_or_default())
    }

    /// Records it; returns whether anything is new.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn note_facts(
        &mut self,
        seen: impl IntoIterator<Item = (HostName, HostFacts)>,
    ) -> Result<bool, StoreError> {
        let known = self.facts()?;
        let mut facts = known.clone();
        facts.extend(seen);
        let new = facts != known;
        if new {
            self.put(META, FACTS, &facts)?;
        }
        Ok(new)
    }

    /// Every join token, oldest first.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn tokens(&self) -> Result<Vec<TokenRecord>, StoreError> {
        let mut all: Vec<TokenRecord> = self.all(TOKEN)?;
        all.sort_by_key(|token| token.made);
        Ok(all)
    }

    /// Records a token, and its secret half, sealed for these people, when it is new.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn put_token(
        &mut self,
        record: &TokenRecord,
        token: Option<(&Secret, &[String])>,
    ) -> Result<(), StoreError> {
        let key = token_secret(&record.id);
        let mut changes =
            vec![Change::Put { kind: TOKEN, key: record.id.clone(), value: json(TOKEN, record)? }];
        if let Some((token, recipients)) = token {
            let value = Vault::seal(token, recipients)?;
            changes.push(Change::Put { kind: SECRET, key: key.clone(), value });
        }
        // What is gone needs no secret half any more.
        if record.gone.is_some() {
            changes.push(Change::Remove { kind: SECRET, key });
        }
        self.records.write(&changes)
    }

    /// The machines met so far.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn pins(&self) -> Result<BTreeMap<String, MachinePin>, StoreError> {
        self.records
            .list(PIN)?
            .into_iter()
            .map(|(key, value)| Ok((key.clone(), parse(PIN, &key, &value)?)))
            .collect()
    }

    /// Pins machines to hosts.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn pin(&mut self, pins: &[(HostName, MachinePin)]) -> Result<(), StoreError> {
        let changes: Vec<Change> = pins
            .iter()
            .map(|(host, pin)| {
                Ok(Change::Put { kind: PIN, key: host.to_string(), value: json(PIN, pin)? })
            })
            .collect::<Result<_, StoreError>>()?;
        self.records.write(&changes)
    }

    /// Begins a run: its generation is later than that of every run before, on this workstation or,
    /// by the clock, another.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn begin_run(
        &mut self,
        command: &str,
        who: &str,
        now: Timestamp,
    ) -> Result<RunRecord, StoreError> {
        let last = self.runs()?.last().map_or(0, |run| run.generation);
        let clock = u64::try_from(now.as_microsecond()).unwrap_or(0);
        let run = RunRecord {
            generation: clock.max(last + 1),
            command: command.to_owned(),
            who: who.to_owned(),
            began: now,
            ended: None,
            outcome: None,
        };
        self.put(RUN, &run_key(run.generation), &run)?;
        Ok(run)
    }

    /// Ends a run.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn end_run(
        &mut self,
        mut run: RunRecord,
        outcome: &str,
        now: Timestamp,
    ) -> Result<(), StoreError> {
        run.ended = Some(now);
        run.outcome = Some(outcome.to_owned());
        self.put(RUN, &run_key(run.generation), &run)
    }

    /// Every run, oldest first.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn runs(&self) -> Result<Vec<RunRecord>, StoreError> {
        self.all(RUN)
    }

    /// A run's journal.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn events(&self, generation: u64) -> Result<Vec<StoredEvent>, StoreError> {
        let events = self.records.events(generation)?;
        Ok(events.into_iter().map(|(at, event)| StoredEvent { at, event }).collect())
    }

    pub(crate) fn write(&mut self, changes: &[Change]) -> Result<(), StoreError> {
        self.records.write(changes)
    }

    fn put<T: Serialize>(
        &mut self,
        kind: &'static str,
        key: &str,
        value: &T,
    ) -> Result<(), StoreError> {
        let value = json(kind, value)?;
        self.records.write(&[Change::Put { kind, key: key.to_owned(), value }])
    }

    fn json<T: DeserializeOwned>(
        &self,
        kind: &'static str,
        key: &str,
    ) -> Result<Option<T>, StoreError> {
        self.records.get(kind, key)?.map(|value| parse(kind, key, &value)).transpose()
    }

    fn all<T: DeserializeOwned>(&self, kind: &'static str) -> Result<Vec<T>, StoreError> {
        self.records.list(kind)?.iter().map(|(key, value)| parse(kind, key, value)).collect()
    }
}

/// Under which key the secret half of a token is sealed.
pub(crate) fn token_secret(id: &str) -> String {
    format!("join-token/{id}")
}

/// Keys sort as generations do.
fn run_key(generation: u64) -> String {
    format!("{generation:020}")
}

pub(crate) fn json<T: Serialize>(kind: &'static str, value: &T) -> Result<Vec<u8>, StoreError> {
    serde_json::to_vec(value).map_err(|source| StoreError::Record {
        kind,
        key: String::new(),
        source,
    })
}

fn parse<T: DeserializeOwned>(
    kind: &'static str,
    key: &str,
    value: &[u8],
) -> Result<T, StoreError> {
    serde_json::from_slice(value).map_err(|source| StoreError::Record {
        kind,
        key: key.to_owned(),
        source,
    })
}
