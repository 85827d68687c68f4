//! What is stored of a cluster, in the words of the job rather than of records.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};

use ipnet::IpNet;
use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use zoisite_core::cluster::{Cluster, HostName, Login};
use zoisite_core::drill::Measured;
use zoisite_core::holdings::{HostFacts, SharedSecrets, assign_subnets};
use zoisite_core::login::Opened;
use zoisite_core::pki::{AuthorityCertificate, Ledger, LedgerEntry, Secret, SecretRef};
use zoisite_core::sequence::{Begun, MachinePin};
use zoisite_core::survey::Facts;
use zoisite_core::token::TokenRecord;

use crate::records::{Change, Over, Records, Stored};
use crate::{StoreError, Strongbox};

pub(crate) const AUTHORITY: &str = "authority";
pub(crate) const CERTIFICATE: &str = "certificate";
pub(crate) const SECRET: &str = "secret";
pub(crate) const META: &str = "meta";
pub(crate) const SHARED: &str = "shared-secrets";
const MARKED: &str = "marked";
pub(crate) const SUBNETS: &str = "pod-subnet";
pub(crate) const FACTS: &str = "host-facts";
pub(crate) const PIN: &str = "pin";
const RUN: &str = "run";
const TOKEN: &str = "token";
pub(crate) const HOST: &str = "host";
const RETIRED: &str = "retired-host";
const OPENED: &str = "opened";
pub(crate) const SEED_RECORDS: &str = "first-boot-records";
pub(crate) const CARRIED: &str = "carried";
pub(crate) const SURVEYED: &str = "surveyed";
const DRILL: &str = "drill";

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

/// A host that was met: enough to find it again once it is no longer in the cluster file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Met {
    /// What the cluster dialled.
    pub address: std::net::IpAddr,
    /// How the administrator got in.
    pub login: Login,
}

/// The stored state of one cluster.
///
/// It remembers at which revision it read each record, and replaces only what it has seen: where two
/// runs meet after all, the later one is reported, and nothing of the earlier one is lost.
pub struct State {
    records: Box<dyn Records>,
    /// Revisions of the records that were read, or written here.
    seen: RefCell<HashMap<(&'static str, String), u64>>,
}

impl std::fmt::Debug for State {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("State").finish_non_exhaustive()
    }
}

impl State {
    /// The state in these records.
    pub fn new(records: Box<dyn Records>) -> Self {
        Self { records, seen: RefCell::default() }
    }

    /// Writes what only lies over another store into that store.
    ///
    /// # Errors
    /// When the store cannot be written, or was changed meanwhile; nothing is written then.
    pub fn keep(&mut self) -> Result<(), StoreError> {
        self.records.keep()
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
        if let Some(id) = self.known_cluster_id()? {
            return Ok(id);
        }
        let id: String =
            crate::keys::random::<8>().iter().map(|byte| format!("{byte:02x}")).collect();
        let value = id.clone().into_bytes();
        self.write(vec![Change::put(META, "cluster-id", value)])?;
        Ok(id)
    }

    /// This cluster's own identity, where it has one yet.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn known_cluster_id(&self) -> Result<Option<String>, StoreError> {
        let id = self.read(META, "cluster-id")?;
        Ok(id.map(|id| String::from_utf8_lossy(&id).into_owned()))
    }

    /// Public keys for which secrets are sealed; `own` is added when there are none yet.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn recipients(&mut self, own: &Strongbox) -> Result<Vec<String>, StoreError> {
        let known: Vec<String> = self.json(META, "recipients")?.unwrap_or_default();
        if !known.is_empty() {
            return Ok(known);
        }
        let known = vec![own.recipient()];
        self.put(META, "recipients", &known)?;
        Ok(known)
    }

    /// Who can open the strongbox, one line each; empty before anything was sealed.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn people(&self) -> Result<Vec<String>, StoreError> {
        Ok(self.json(META, "recipients")?.unwrap_or_default())
    }

    /// Seals everything again for these people, all of it or nothing. Returns how many secrets that were.
    ///
    /// # Errors
    /// When a line is no public key, or a secret cannot be opened.
    pub fn reseal(&mut self, own: &Strongbox, people: &[String]) -> Result<usize, StoreError> {
        let before = self.recipients(own)?;
        let mut changes = vec![Change::put(META, "recipients", json(META, &people)?)];
        for (key, sealed) in self.list(SECRET)? {
            let secret = own.unseal(&sealed, &before)?;
            changes.push(Change::put(SECRET, key, Strongbox::seal(&secret, people)?));
        }
        let secrets = changes.len() - 1;
        self.write(changes)?;
        Ok(secrets)
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

    /// A secret that is kept.
    ///
    /// # Errors
    /// When it is not there, or not for this identity.
    pub fn secret(
        &mut self,
        secret: &SecretRef,
        strongbox: &Strongbox,
    ) -> Result<Secret, StoreError> {
        let recipients = self.recipients(strongbox)?;
        let own = recipients.iter().any(|line| strongbox.is_of(line));
        if let (Some(path), false) = (strongbox.unwritten(), own) {
            return Err(StoreError::NoIdentity { path: path.to_owned(), recipients });
        }
        let key = secret.kept_under();
        let sealed = match &key {
            Some(key) => self.read(SECRET, key)?,
            None => None,
        };
        let sealed = sealed.ok_or_else(|| {
            StoreError::NoSecret(match secret {
                SecretRef::Certificate(serial) => format!("the certificate {serial}"),
                other => other.kept_under().unwrap_or_else(|| "a join token".into()),
            })
        })?;
        strongbox.unseal(&sealed, &recipients)
    }

    /// The same, where it is kept at all.
    pub(crate) fn kept(
        &mut self,
        which: &SecretRef,
        strongbox: &Strongbox,
    ) -> Result<Option<Secret>, StoreError> {
        match self.holds_secret(&which.kept_under().unwrap_or_default())? {
            true => self.secret(which, strongbox).map(Some),
            false => Ok(None),
        }
    }

    /// Whether a private key is kept.
    pub(crate) fn holds_secret(&self, serial: &str) -> Result<bool, StoreError> {
        Ok(self.read(SECRET, serial)?.is_some())
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
        let known: BTreeMap<HostName, Vec<IpNet>> = self.by_host(SUBNETS)?;
        let mut assigned = known.clone();
        if assign_subnets(cluster, &mut assigned) {
            self.put_changed(SUBNETS, &known, &assigned)?;
        }
        Ok(assigned)
    }

    /// What hosts' own nature decides, as last seen.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn facts(&self) -> Result<BTreeMap<HostName, HostFacts>, StoreError> {
        self.by_host(FACTS)
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
        self.put_changed(FACTS, &known, &facts)
    }

    /// Every host that was ever met.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn met(&self) -> Result<BTreeMap<HostName, Met>, StoreError> {
        self.by_host(HOST)
    }

    /// Records hosts that were met.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn meet(
        &mut self,
        hosts: impl IntoIterator<Item = (HostName, Met)>,
    ) -> Result<(), StoreError> {
        let known = self.met()?;
        let mut met = known.clone();
        met.extend(hosts);
        self.put_changed(HOST, &known, &met).map(|_| ())
    }

    /// Hosts that were met and are no longer in the cluster file.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn departed(&self, cluster: &Cluster) -> Result<BTreeMap<HostName, Met>, StoreError> {
        let present: std::collections::HashSet<&HostName> =
            cluster.hosts.iter().map(|host| &host.name).collect();
        let mut met = self.met()?;
        met.retain(|host, _| !present.contains(host));
        Ok(met)
    }

    /// When hosts were retired, by their names.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn retired(&self) -> Result<BTreeMap<HostName, Timestamp>, StoreError> {
        self.by_host(RETIRED)
    }

    /// What is recorded of the cluster's beginning; `None` before that.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn begun(&self) -> Result<Option<Begun>, StoreError> {
        self.json(META, "begun")
    }

    /// Whether hosts were given the cluster's mark, also by a run that began no quorum.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn marked(&self) -> Result<bool, StoreError> {
        Ok(self.json(META, MARKED)?.unwrap_or(false))
    }

    /// Records that hosts are given it.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn put_marked(&mut self) -> Result<(), StoreError> {
        match self.marked()? {
            true => Ok(()),
            false => self.put(META, MARKED, &true),
        }
    }

    /// Records that the cluster begins, or that its quorum was proven.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn put_begun(&mut self, begun: &Begun) -> Result<(), StoreError> {
        self.begun()?;
        self.put(META, "begun", begun)
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
        let mut changes = token_changes(record)?;
        if let Some((token, recipients)) = token {
            let value = Strongbox::seal(token, recipients)?;
            changes.push(Change::put(SECRET, token_secret(&record.id), value));
        }
        self.write(changes)
    }

    /// What was placed on hosts so that one gets in, by host.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn opened(&self) -> Result<BTreeMap<HostName, Opened>, StoreError> {
        self.by_host(OPENED)
    }

    /// Records what was placed on a host; `None` once it was taken back.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn put_opened(
        &mut self,
        host: &HostName,
        opened: Option<&Opened>,
    ) -> Result<(), StoreError> {
        let change = match opened {
            Some(opened) => Change::put(OPENED, host.as_str(), json(OPENED, opened)?),
            None => Change::remove(OPENED, host.as_str()),
        };
        self.write(vec![change])
    }

    /// What hosts said of themselves the last time that they were surveyed, and when.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn surveyed(&self) -> Result<BTreeMap<HostName, (Timestamp, Facts)>, StoreError> {
        self.by_host(SURVEYED)
    }

    /// Records what hosts said of themselves, and when, in the place of the time before.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn put_surveyed(
        &mut self,
        all: &BTreeMap<HostName, (Timestamp, Facts)>,
    ) -> Result<(), StoreError> {
        // What was found last stands: whatever it replaces was read.
        self.surveyed()?;
        let changes = all
            .iter()
            .map(|(host, said)| Ok(Change::put(SURVEYED, host.as_str(), json(SURVEYED, said)?)));
        let changes = changes.collect::<Result<_, StoreError>>()?;
        self.write(changes)
    }

    /// What the last drill of each kind, place and way measured.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn drills(&self) -> Result<BTreeMap<String, Measured>, StoreError> {
        let all = self.list(DRILL)?;
        all.iter().map(|(key, value)| Ok((key.clone(), parse(DRILL, key, value)?))).collect()
    }

    /// Records what a drill measured, in the place of the one before.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn put_drill(&mut self, measured: &Measured) -> Result<(), StoreError> {
        self.drills()?;
        self.put(DRILL, &measured.drill.key(), measured)
    }

    /// The machines met so far.
    ///
    /// # Errors
    /// When a record cannot be read.
    pub fn pins(&self) -> Result<BTreeMap<String, MachinePin>, StoreError> {
        let pins = self.list(PIN)?;
        pins.iter().map(|(key, value)| Ok((key.clone(), parse(PIN, key, value)?))).collect()
    }

    /// Pins machines to hosts.
    ///
    /// # Errors
    /// When the store cannot be written.
    pub fn pin(&mut self, pins: &[(HostName, MachinePin)]) -> Result<(), StoreError> {
        let changes = pins
            .iter()
            .map(|(host, pin)| Ok(Change::put(PIN, host.as_str(), json(PIN, pin)?)))
            .collect::<Result<_, StoreError>>()?;
        self.write(changes)
    }

    /// Forgets a host that was retired: its machine, its subnet, what it was like. Its certificates are recorded as
    /// retired, their keys go, and tokens that were for it alone count no more.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn retire(&mut self, host: &HostName, now: Timestamp) -> Result<(), StoreError> {
        let mut changes = Vec::new();
        for entry in self.ledger()?.entries {
            if entry.host.as_ref() != Some(host) || entry.retired.is_some() {
                continue;
            }
            if self.holds_secret(&entry.serial)? {
                changes.push(Change::remove(SECRET, entry.serial.clone()));
            }
            let retired = LedgerEntry { retired: Some(now), ..entry };
            let key = retired.serial.clone();
            changes.push(Change::put(CERTIFICATE, key, json(CERTIFICATE, &retired)?));
        }
        changes.extend(self.own_of(host, now)?);
        // What rests on it elsewhere may be still to follow.
        self.read(RETIRED, host.as_str())?;
        changes.push(Change::put(RETIRED, host.as_str(), json(RETIRED, &now)?));
        self.write(changes)
    }

    /// The tokens that are for one host alone, and not gone.
    pub(crate) fn tokens_of(&self, host: &HostName) -> Result<Vec<TokenRecord>, StoreError> {
        let mut tokens = self.tokens()?;
        tokens.retain(|token| token.gone.is_none() && token.hosts == [host.clone()]);
        Ok(tokens)
    }

    /// The changes by which nothing is kept of a host any more: what it is like, its words and keys; tokens that were for it
    /// alone count no more.
    pub(crate) fn own_of(
        &self,
        host: &HostName,
        now: Timestamp,
    ) -> Result<Vec<Change>, StoreError> {
        let mut changes = Vec::new();
        for token in self.tokens_of(host)? {
            changes.extend(token_changes(&TokenRecord { gone: Some(now), ..token })?);
        }
        for own in [SecretRef::LoginKey(host.clone()), SecretRef::HostWord(host.clone())] {
            let kept = own.kept_under().unwrap_or_default();
            if self.holds_secret(&kept)? {
                changes.push(Change::remove(SECRET, kept));
            }
        }
        for kind in [HOST, PIN, SUBNETS, FACTS, OPENED, SURVEYED, SEED_RECORDS, CARRIED] {
            // What is read may be replaced.
            if self.read(kind, host.as_str())?.is_some() {
                changes.push(Change::remove(kind, host.as_str()));
            }
        }
        Ok(changes)
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

    /// Makes all changes, or none, each over what was read of its record.
    pub(crate) fn write(&mut self, mut changes: Vec<Change>) -> Result<(), StoreError> {
        if changes.is_empty() {
            return Ok(());
        }
        let mut seen = self.seen.borrow_mut();
        for change in &mut changes {
            let read = seen.get(&(change.kind, change.key.clone()));
            change.over = match (read, &change.value) {
                (Some(revision), _) => Over::Revision(*revision),
                (None, Some(_)) => Over::Nothing,
                // What is not there need not be taken out.
                (None, None) => Over::Whatever,
            };
        }
        let revisions = self.records.write(&changes)?;
        for (change, revision) in changes.into_iter().zip(revisions) {
            match change.value {
                Some(_) => seen.insert((change.kind, change.key), revision),
                None => seen.remove(&(change.kind, change.key)),
            };
        }
        Ok(())
    }

    pub(crate) fn read(
        &self,
        kind: &'static str,
        key: &str,
    ) -> Result<Option<Vec<u8>>, StoreError> {
        let found = self.records.get(kind, key)?;
        let mut seen = self.seen.borrow_mut();
        match &found {
            Some(stored) => seen.insert((kind, key.to_owned()), stored.revision),
            None => seen.remove(&(kind, key.to_owned())),
        };
        Ok(found.map(|stored| stored.value))
    }

    fn list(&self, kind: &'static str) -> Result<Vec<(String, Vec<u8>)>, StoreError> {
        let all = self.records.list(kind)?;
        let mut seen = self.seen.borrow_mut();
        let noted = all.into_iter().map(|(key, Stored { value, revision })| {
            seen.insert((kind, key.clone()), revision);
            (key, value)
        });
        Ok(noted.collect())
    }

    fn put<T: Serialize>(
        &mut self,
        kind: &'static str,
        key: &str,
        value: &T,
    ) -> Result<(), StoreError> {
        let value = json(kind, value)?;
        self.write(vec![Change::put(kind, key, value)])
    }

    /// Writes the records of those hosts for which something else stands now; whether there are any.
    fn put_changed<T: Serialize + PartialEq>(
        &mut self,
        kind: &'static str,
        known: &BTreeMap<HostName, T>,
        now: &BTreeMap<HostName, T>,
    ) -> Result<bool, StoreError> {
        let new = now.iter().filter(|(host, value)| known.get(*host) != Some(value));
        let changes: Vec<Change> = new
            .map(|(host, value)| Ok(Change::put(kind, host.as_str(), json(kind, value)?)))
            .collect::<Result<_, StoreError>>()?;
        let any = !changes.is_empty();
        self.write(changes)?;
        Ok(any)
    }

    pub(crate) fn json<T: DeserializeOwned>(
        &self,
        kind: &'static str,
        key: &str,
    ) -> Result<Option<T>, StoreError> {
        self.read(kind, key)?.map(|value| parse(kind, key, &value)).transpose()
    }

    fn all<T: DeserializeOwned>(&self, kind: &'static str) -> Result<Vec<T>, StoreError> {
        self.list(kind)?.iter().map(|(key, value)| parse(kind, key, value)).collect()
    }

    pub(crate) fn by_host<T: DeserializeOwned>(
        &self,
        kind: &'static str,
    ) -> Result<BTreeMap<HostName, T>, StoreError> {
        let mut out = BTreeMap::new();
        for (key, value) in self.list(kind)? {
            // A name that is none cannot have been written here.
            if let Ok(host) = HostName::new(&key) {
                out.insert(host, parse(kind, &key, &value)?);
            }
        }
        Ok(out)
    }
}

/// What recording a token changes, but for its secret half: what is gone needs none any more.
pub(crate) fn token_changes(record: &TokenRecord) -> Result<Vec<Change>, StoreError> {
    let mut changes = vec![Change::put(TOKEN, record.id.clone(), json(TOKEN, record)?)];
    if record.gone.is_some() {
        changes.push(Change::remove(SECRET, token_secret(&record.id)));
    }
    Ok(changes)
}

/// Under which key the secret half of a token is sealed.
pub(crate) fn token_secret(id: &str) -> String {
    format!("join-token/{id}")
}

/// Keys sort as generations do.
fn run_key(generation: u64) -> String {
    format!("{generation:020}")
}

/// Keeps a secret, sealed for those who may open it.
pub(crate) fn sealed(
    which: &SecretRef,
    secret: &Secret,
    recipients: &[String],
) -> Result<Change, StoreError> {
    let key = which.kept_under().unwrap_or_default();
    Ok(Change::put(SECRET, key, Strongbox::seal(secret, recipients)?))
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
