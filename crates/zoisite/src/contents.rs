//! What a run needs besides its sequence: keys, components, a desk that lets nodes in, a place for snapshots.

use std::collections::{BTreeSet, HashMap};
use std::path::PathBuf;
use std::sync::Mutex;

use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::holdings::{Holdings, WindowsHoldings};
use zoisite_core::item::Component;
use zoisite_core::pki::{KeyRequest, LedgerEntry, NodeRequest, Profile, Secret, SecretRef};
use zoisite_core::script::{Operation, Stretch};
use zoisite_core::sequence::{ApiWork, Sequence, Work};
use zoisite_core::snapshot::SNAPSHOT;
use zoisite_core::token::TokenRecord;
use zoisite_reach::{Contents, SnapshotFile};
use zoisite_store::trust::{KeyDesk, NodeDesk};
use zoisite_store::{State, StoreError, Strongbox};

use crate::failure::Failure;
use crate::site::{Site, Working, now};
use crate::snapshots::{OpenedSnapshot, SnapshotPlace, told};

impl Site {
    /// The secrets that holdings name, of those that this store and this site keep: for what is to be compared here.
    ///
    /// # Errors
    /// Where the strongbox or the site's own secrets cannot be opened.
    pub fn keys_on_hosts(
        &self,
        state: &mut State,
        holdings: &Holdings,
    ) -> Result<HashMap<SecretRef, Secret>, Failure> {
        let strongbox = self.strongbox()?;
        let mut out = HashMap::new();
        for item in holdings.hosts.iter().flat_map(|host| &host.items) {
            let Some((secret, label)) = item.secret() else { continue };
            if !out.contains_key(&secret) {
                let text = self.secret_on_hosts((&secret, label), state, strongbox)?;
                out.extend(text.map(|text| (secret, text)));
            }
        }
        Ok(out)
    }

    /// Enough for looking: no key, and no host is let in.
    pub fn no_contents(&self) -> SiteContents {
        SiteContents {
            folder: self.components_folder(),
            secrets: HashMap::new(),
            verified: Default::default(),
            desk: Desk::Closed,
            keys: None,
            snapshots: None,
            opened: None,
        }
    }

    /// A secret that hosts hold: the site's own, or one that the store keeps. Tokens are none: they are made when they
    /// are published, not before.
    fn secret_on_hosts(
        &self,
        (secret, label): (&SecretRef, &str),
        state: &mut State,
        strongbox: &Strongbox,
    ) -> Result<Option<Secret>, Failure> {
        if let Some(own) = self.own_secrets()?.on_hosts.get(secret) {
            return Ok(Some(own.clone()));
        }
        if secret.kept_under().is_none() {
            return Ok(None);
        }
        let text = state.secret(secret, strongbox).map_err(|error| match error {
            StoreError::NoSecret(_) => StoreError::NoSecret(label.to_owned()),
            other => other,
        })?;
        Ok(Some(text))
    }

    /// The keys that a sequence's steps name, and no others (rule S5).
    fn keys(
        &self,
        sequence: &Sequence,
        state: &mut State,
        strongbox: &Strongbox,
    ) -> Result<SiteContents, Failure> {
        let mut contents = self.no_contents();
        contents.secrets = self.keys_of(sequence, state, strongbox)?;
        Ok(contents)
    }

    /// The same, by which each is.
    ///
    /// # Errors
    /// Where one is not kept.
    pub fn keys_of(
        &self,
        sequence: &Sequence,
        state: &mut State,
        strongbox: &Strongbox,
    ) -> Result<HashMap<SecretRef, Secret>, Failure> {
        let mut secrets = HashMap::new();
        for step in &sequence.steps {
            let Work::Act(stretch) = &step.work else { continue };
            for operation in &stretch.operations {
                let Operation::Put(item) = operation else { continue };
                let Some((secret, label)) = item.secret() else { continue };
                let text = self.secret_on_hosts((&secret, label), state, strongbox)?;
                secrets.extend(text.map(|text| (secret, text)));
            }
        }
        Ok(secrets)
    }

    /// The secrets that a node holds which runs Windows, by which each is.
    ///
    /// # Errors
    /// Where one is not kept.
    pub fn keys_of_windows(
        &self,
        own: &WindowsHoldings,
        state: &mut State,
        strongbox: &Strongbox,
    ) -> Result<HashMap<SecretRef, Secret>, Failure> {
        let mut secrets = HashMap::new();
        for (secret, label) in own.secrets() {
            let text = self.secret_on_hosts((secret, label), state, strongbox)?;
            secrets.extend(text.map(|text| (secret.clone(), text)));
        }
        Ok(secrets)
    }

    /// What a sequence needs besides itself: keys, and a desk that lets nodes in where it has any use for one. `cluster` is
    /// the one of its stage.
    pub fn contents(
        &self,
        (cluster, sequence): (&Cluster, &Sequence),
        state: &mut State,
        strongbox: &Strongbox,
    ) -> Result<SiteContents, Failure> {
        let mut contents = self.keys(sequence, state, strongbox)?;
        let lets_in = |work: &Work| match work {
            Work::Api(work) => matches!(
                work,
                ApiWork::Publish { .. }
                    | ApiWork::Admit { .. }
                    | ApiWork::Retract { .. }
                    | ApiWork::Renew { .. }
            ),
            _ => false,
        };
        if sequence.steps.iter().any(|step| lets_in(&step.work)) {
            let mut own = self.state()?;
            Working::lock(&mut own)?;
            let desk = NodeDesk::new(own, strongbox, &self.cluster)?;
            contents.desk = Desk::Open(Box::new(Mutex::new(desk)));
        }
        let stretches = sequence.steps.iter().filter_map(|step| match &step.work {
            Work::Act(stretch) => Some(stretch),
            _ => None,
        });
        let profiles: BTreeSet<Profile> =
            stretches.flat_map(Stretch::own_pairs).map(|(_, own)| own.profile).collect();
        if !profiles.is_empty() {
            let mut own = self.state()?;
            Working::lock(&mut own)?;
            let desk = KeyDesk::new(own, strongbox, cluster, profiles)?;
            contents.keys = Some(Mutex::new(desk));
        }
        if sequence.saves() {
            contents.snapshots = Some(self.snapshot_place(state)?);
        }
        let brought = sequence.steps.iter().find_map(|step| match &step.work {
            Work::Upload { components, .. } => {
                components.iter().find(|(one, _)| one.pinned.name == SNAPSHOT)
            }
            _ => None,
        });
        if let Some((component, _)) = brought {
            contents.opened = Some(self.opened_snapshot(&component.pinned.version, strongbox)?);
        }
        Ok(contents)
    }
}

/// Keys that a run needs, and the components folder.
pub struct SiteContents {
    folder: PathBuf,
    secrets: HashMap<SecretRef, Secret>,
    verified: Mutex<HashMap<PathBuf, String>>,
    desk: Desk,
    /// Who signs for keys that hosts make, if they make any.
    keys: Option<Mutex<KeyDesk>>,
    /// Where it keeps what it saves, if it saves anything.
    snapshots: Option<SnapshotPlace>,
    /// The snapshot that it brings to a host, if any.
    opened: Option<OpenedSnapshot>,
}

/// Who lets nodes in.
enum Desk {
    /// Nobody: the run has no use for it.
    Closed,
    /// The strongbox.
    Open(Box<Mutex<NodeDesk>>),
}

impl SiteContents {
    /// With a place for snapshots.
    pub fn saving_to(mut self, place: SnapshotPlace) -> Self {
        self.snapshots = Some(place);
        self
    }

    /// With a snapshot that it brings to hosts.
    pub fn bringing(mut self, opened: OpenedSnapshot) -> Self {
        self.opened = Some(opened);
        self
    }

    /// With checksums of components that are known already.
    pub fn knowing(mut self, verified: HashMap<PathBuf, String>) -> Self {
        self.verified = Mutex::new(verified);
        self
    }

    fn desk<T>(
        &self,
        ask: impl FnOnce(&mut NodeDesk) -> Result<T, StoreError>,
    ) -> Result<T, String> {
        match &self.desk {
            Desk::Open(desk) => {
                let mut desk = desk.lock().map_err(|_| "a step failed badly".to_owned())?;
                ask(&mut desk).map_err(|error| error.to_string())
            }
            Desk::Closed => Err("this run lets no node in".into()),
        }
    }
}

impl Contents for SiteContents {
    fn secret(&self, secret: &SecretRef) -> Option<Secret> {
        match secret {
            SecretRef::JoinToken(host) => self.join_token(host).ok().map(|(_, token)| token),
            kept => self.secrets.get(kept).cloned(),
        }
    }

    fn join_token(&self, host: &HostName) -> Result<(TokenRecord, Secret), String> {
        self.desk(|desk| desk.token(host, now()))
    }

    fn retire_tokens(&self, host: &HostName, this_run_too: bool) -> Result<Vec<String>, String> {
        self.desk(|desk| desk.retire(host, this_run_too, now()))
    }

    fn snapshot(&self, why: &str) -> Result<Box<dyn SnapshotFile>, String> {
        let place = self.snapshots.as_ref().ok_or("this run keeps no snapshots")?;
        place.begin(why).map_err(|error| told(&error))
    }

    fn sign(&self, host: &HostName, request: &NodeRequest) -> Result<String, Vec<String>> {
        let signed = self.desk(|desk| desk.sign(host, request, now()));
        signed.map_err(|why| vec![why])?.map(|entry| entry.pem)
    }

    fn certify(
        &self,
        host: &HostName,
        requests: &[KeyRequest],
    ) -> Result<Vec<LedgerEntry>, Vec<String>> {
        let one = |why: String| vec![why];
        let desk = self.keys.as_ref().ok_or("this run signs for no host's keys".to_owned());
        let desk = desk.map_err(one)?.lock();
        let mut desk = desk.map_err(|_| one("a step failed badly".to_owned()))?;
        desk.certify(host, requests, now()).map_err(|error| one(error.to_string()))?
    }

    fn component(
        &self,
        component: &Component,
        sha256: &str,
        arch: &str,
    ) -> Result<PathBuf, String> {
        if component.pinned.name == SNAPSHOT {
            let opened = self.opened.as_ref().ok_or("this run has opened no snapshot")?;
            return opened.file(sha256);
        }
        let path = self.folder.join(component.pinned.path(arch));
        let mut verified = self.verified.lock().map_err(|_| "a step failed badly".to_owned())?;
        let found = match verified.get(&path) {
            Some(found) => found.clone(),
            None => {
                let found = zoisite_supply::sha256_of(&path)
                    .map_err(|error| format!("{}: {error}", path.display()))?;
                verified.insert(path.clone(), found.clone());
                found
            }
        };
        if found == sha256 {
            return Ok(path);
        }
        Err(format!(
            "{} has checksum {found}, and {sha256} is pinned: it is another file, or damaged",
            path.display()
        ))
    }
}
