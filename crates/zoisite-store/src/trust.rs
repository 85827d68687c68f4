//! Issuing what is due: certificates and their sealed keys are recorded in one transaction.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};

use jiff::{SignedDuration, Timestamp};
use rayon::prelude::*;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::holdings::SharedSecrets;
use zoisite_core::pki::{
    AS_ASKED, Asker, AtRestKeys, Authority, AuthorityKind, Due, KeyAt, KeyKind, KeyRequest,
    KeySource, Ledger, LedgerEntry, NodeRequest, Profile, Secret, SecretRef, TokenKeyTurn, Wanted,
    check_key_request, check_request, due, kubelet_client, run_client, wanted,
};
use zoisite_core::token::{TOKEN_SECONDS, TokenRecord, make_token};

use crate::records::Change;
use crate::state::{
    AUTHORITY, CERTIFICATE, META, SECRET, SHARED, State, json, sealed, token_changes,
};
use crate::{StoreError, Strongbox};
use crate::{asked, at_rest, authorities, root, token_key};

/// What issuing did.
#[derive(Clone, Debug, Default)]
pub struct Issued {
    /// Authorities that were made.
    pub authorities: Vec<AuthorityKind>,
    /// Certificates that were issued, with the reason.
    pub certificates: Vec<Due>,
    /// Those for which hosts are to make other keys, as a person asked for.
    pub unwanted: Vec<Due>,
}

impl Issued {
    /// Whether nothing had to be done.
    pub fn is_empty(&self) -> bool {
        self.authorities.is_empty() && self.certificates.is_empty() && self.unwanted.is_empty()
    }
}

/// Whether nothing has to be made or issued, so that a run need not open the strongbox for it.
///
/// # Errors
/// When the store cannot be used.
pub fn is_complete(
    state: &State,
    cluster: &Cluster,
    ledger: &Ledger,
    now: Timestamp,
) -> Result<bool, StoreError> {
    let lasts = |kind| ledger.authority(kind).is_some_and(|signs| signs.not_after > now);
    let authorities = AuthorityKind::ALL.into_iter().all(lasts);
    Ok(authorities
        && state.shared_secrets()?.is_some()
        && due(&wanted(cluster), ledger, now).iter().all(Due::is_asked_for))
}

/// What stands for the certificates that hosts will ask for in a run (see [`asked_for`] and [`KeyAt::ToCome`]). The
/// authorities that will sign them must be there.
///
/// # Errors
/// When the store cannot be used, or an authority not be opened.
pub fn to_come(
    state: &mut State,
    strongbox: &Strongbox,
    mut asked_for: Vec<Due>,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<Vec<LedgerEntry>, StoreError> {
    let lost = lost(state, &state.ledger()?)?;
    asked_for.retain(|due| Some(due.wanted.profile.authority()) != lost);
    let mut authorities = BTreeMap::new();
    open_authorities(state, strongbox, &asked_for, &mut authorities)?;
    // Its private half ends here.
    let nobodys = keys.key(KeyKind::EcdsaP256)?.public;
    asked_for
        .par_iter()
        .map(|due| {
            let authority = &authorities[&due.wanted.profile.authority()];
            Ok(authority.to_come(&due.wanted, &nobodys, keys, now)?)
        })
        .collect()
}

/// What hosts are to ask for.
pub fn asked_for(cluster: &Cluster, ledger: &Ledger, now: Timestamp) -> Vec<Due> {
    if !cluster.certificates.any_made_on_hosts() {
        return Vec::new();
    }
    due(&wanted(cluster), ledger, now).into_iter().filter(Due::is_asked_for).collect()
}

/// Makes missing authorities and issues every certificate that is due; a second call does nothing.
///
/// With `again`, every certificate is issued again.
///
/// # Errors
/// When the store cannot be used, or an authority has ended; nothing is recorded then.
pub fn issue(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    keys: &dyn KeySource,
    now: Timestamp,
    again: bool,
) -> Result<Issued, StoreError> {
    issue_again(state, strongbox, cluster, (keys, now), &|_| again)
}

/// The same; those are issued again that `again` chooses, beside what is due.
///
/// # Errors
/// As for [`issue`].
pub fn issue_again(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    (keys, now): (&dyn KeySource, Timestamp),
    again: &dyn Fn(&Wanted) -> bool,
) -> Result<Issued, StoreError> {
    let mut ledger = state.ledger()?;
    let mut issued = Issued::default();
    let mut changes = Vec::new();
    let mut opened = BTreeMap::new();
    let chosen = wanted(cluster).iter().any(again);
    if !chosen && is_complete(state, cluster, &ledger, now)? {
        return Ok(issued);
    }
    issued.authorities = authorities::outlived(state, strongbox, cluster, (keys, now))?;
    ledger = state.ledger()?;
    let shared = state.shared_secrets()?;
    let recipients = state.recipients(strongbox)?;
    let lacks = |kind: &AuthorityKind| ledger.authority(*kind).is_none();
    let missing: Vec<AuthorityKind> = AuthorityKind::ALL.into_iter().filter(lacks).collect();
    for kind in &missing {
        if asked::open_request(state, *kind)?.is_some() {
            return Err(StoreError::Asked(*kind));
        }
    }
    let (root, above) = root::above(state, strongbox, cluster, &missing, (keys, now))?;
    changes.extend(above);
    for kind in missing {
        let (authority, key) = Authority::make(cluster, (kind, 0), root.as_ref(), keys, now)?;
        let certificate = authority.certificate();
        changes.push(Change::put(AUTHORITY, kind.id(), json(AUTHORITY, certificate)?));
        changes.push(sealed(&SecretRef::Authority(kind), &key, &recipients)?);
        ledger.authorities.push(certificate.clone());
        issued.authorities.push(kind);
        opened.insert(kind, authority);
    }
    let mut dues = due(&wanted(cluster), &ledger, now);
    if chosen {
        dues = with_chosen(cluster, &ledger, dues, again);
    }
    let lost = lost(state, &ledger)?;
    dues.retain(|due| Some(due.wanted.profile.authority()) != lost);
    let (asked_for, dues): (Vec<Due>, Vec<Due>) = dues.into_iter().partition(Due::is_asked_for);
    open_authorities(state, strongbox, &dues, &mut opened)?;
    let by_serial: HashMap<&str, &LedgerEntry> =
        ledger.entries.iter().map(|entry| (entry.serial.as_str(), entry)).collect();
    for due in asked_for.into_iter().filter(|due| due.why == AS_ASKED) {
        let serial = due.replaces.as_deref().unwrap_or_default();
        let Some(&old) = by_serial.get(serial).filter(|old| !old.unwanted) else { continue };
        let old = LedgerEntry { unwanted: true, ..old.clone() };
        changes.push(Change::put(CERTIFICATE, serial, json(CERTIFICATE, &old)?));
        issued.unwanted.push(due);
    }
    // Sealing costs more than signing: all cores do it.
    let recorded =
        dues.par_iter().zip(sign(&dues, &opened, keys, now)?).map(|(one, (entry, key))| {
            let mut changes = Vec::new();
            if let Some(old) =
                one.replaces.as_ref().and_then(|serial| by_serial.get(serial.as_str()))
            {
                // Its key stays until the new pair was seen in its place: see `forget_old_keys`.
                changes.push(replaced(old, &entry)?);
            }
            changes.push(sealed(&SecretRef::Certificate(entry.serial.clone()), &key, &recipients)?);
            changes.push(Change::put(
                CERTIFICATE,
                entry.serial.as_str(),
                json(CERTIFICATE, &entry)?,
            ));
            Ok(changes)
        });
    let recorded: Vec<Vec<Change>> = recorded.collect::<Result<_, StoreError>>()?;
    changes.extend(recorded.into_iter().flatten());
    if shared.is_none() {
        changes.extend(shared_secrets(keys, &recipients)?);
    }
    issued.certificates = dues;
    state.write(changes)?;
    Ok(issued)
}

/// Takes out the keys of certificates that were replaced, once `in_place` says that the host holds the
/// pair that took their place. Returns how many.
///
/// # Errors
/// When the store cannot be used.
pub fn forget_old_keys(
    state: &mut State,
    in_place: impl Fn(&LedgerEntry) -> bool,
) -> Result<usize, StoreError> {
    let ledger = state.ledger()?;
    let by_serial: HashMap<&str, &LedgerEntry> =
        ledger.entries.iter().map(|entry| (entry.serial.as_str(), entry)).collect();
    let mut changes = Vec::new();
    for old in ledger.entries.iter().filter(|entry| entry.replaced_by.is_some()) {
        // The one in force: what took its place may have been replaced itself.
        let mut newest = old;
        while let Some(next) = newest.replaced_by.as_deref().and_then(|by| by_serial.get(by)) {
            newest = next;
        }
        if in_place(newest) && state.holds_secret(&old.serial)? {
            changes.push(Change::remove(SECRET, old.serial.clone()));
        }
    }
    let forgotten = changes.len();
    state.write(changes)?;
    Ok(forgotten)
}

/// Makes what all control planes share: the key that signs service accounts' tokens, and the key by which secrets are
/// encrypted in etcd.
fn shared_secrets(keys: &dyn KeySource, recipients: &[String]) -> Result<Vec<Change>, StoreError> {
    let (public, private) = token_key::pair(keys)?;
    let (encryption, key) = at_rest::first(keys);
    let known = SharedSecrets {
        service_accounts: public,
        service_accounts_accepted: Vec::new(),
        service_accounts_turn: TokenKeyTurn::Done,
        service_accounts_sha256: crate::sha256(private.expose().as_bytes()),
        encryption_sha256: crate::sha256(encryption.expose().as_bytes()),
        at_rest: Some(AtRestKeys::only(key)),
    };
    Ok(vec![
        Change::put(META, SHARED, json(META, &known)?),
        sealed(&SecretRef::ServiceAccounts, &private, recipients)?,
        sealed(&SecretRef::EncryptionAtRest, &encryption, recipients)?,
    ])
}

/// Makes a join token for hosts and records it, its secret half sealed.
///
/// # Errors
/// When the store cannot be used.
pub fn make_join_token(
    state: &mut State,
    recipients: &[String],
    hosts: Vec<HostName>,
    uses: u32,
    seconds: i64,
    now: Timestamp,
    by_run: bool,
) -> Result<(TokenRecord, Secret), StoreError> {
    let (id, token) = make_token(crate::keys::random::<16>);
    let ends = now.saturating_add(SignedDuration::from_secs(seconds)).unwrap_or(Timestamp::MAX);
    let (used, gone) = (Vec::new(), None);
    let record = TokenRecord { id, hosts, uses, made: now, expires: ends, used, gone, by_run };
    state.put_token(&record, Some((&token, recipients)))?;
    Ok((record, token))
}

/// Lets nodes in: makes their tokens, and signs what they ask for, recording it before anybody sees it.
pub struct NodeDesk {
    state: State,
    authority: Authority,
    cluster: Cluster,
    recipients: Vec<String>,
    /// Tokens made here, by host.
    tokens: BTreeMap<HostName, (TokenRecord, Secret)>,
    /// Certificates signed for hosts that are being let in with a token made here.
    joining: BTreeMap<HostName, u32>,
}

/// A kubelet keeps the key of its first certificate in memory until it has it: each life that ends before asks
/// with another one. So many are signed while its host is being let in, and no more.
const LIVES: u32 = 5;

impl std::fmt::Debug for NodeDesk {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NodeDesk").finish_non_exhaustive()
    }
}

impl NodeDesk {
    /// Opens the cluster authority's key for as long as this value lives.
    ///
    /// # Errors
    /// When the authority is missing or cannot be opened.
    pub fn new(
        mut state: State,
        strongbox: &Strongbox,
        cluster: &Cluster,
    ) -> Result<Self, StoreError> {
        let authority = open_authority(&mut state, strongbox, AuthorityKind::Cluster)?;
        let recipients = state.recipients(strongbox)?;
        let (tokens, joining) = (BTreeMap::new(), BTreeMap::new());
        Ok(Self { state, authority, cluster: cluster.clone(), recipients, tokens, joining })
    }

    /// The join token of a host, made when it is first asked for.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn token(
        &mut self,
        host: &HostName,
        now: Timestamp,
    ) -> Result<(TokenRecord, Secret), StoreError> {
        if let Some(known) = self.tokens.get(host) {
            return Ok(known.clone());
        }
        let hosts = vec![host.clone()];
        let recipients = &self.recipients;
        let made =
            make_join_token(&mut self.state, recipients, hosts, 1, TOKEN_SECONDS, now, true)?;
        self.tokens.insert(host.clone(), made.clone());
        Ok(made)
    }

    /// Takes back the tokens of a host that were made elsewhere (in a run that was cut off), or, when it
    /// is let in or has failed, all of them. Returns their ids.
    ///
    /// # Errors
    /// When the store cannot be used.
    pub fn retire(
        &mut self,
        host: &HostName,
        this_run_too: bool,
        now: Timestamp,
    ) -> Result<Vec<String>, StoreError> {
        let own = self.tokens.get(host).map(|(record, _)| record.id.clone());
        if this_run_too {
            self.joining.remove(host);
        }
        let mut gone = Vec::new();
        for record in self.state.tokens()? {
            let current = own.as_ref() == Some(&record.id);
            if record.hosts != [host.clone()] || (current && !this_run_too) {
                continue;
            }
            if record.gone.is_none() {
                self.state.put_token(&TokenRecord { gone: Some(now), ..record.clone() }, None)?;
                gone.push(record.id);
            } else if current {
                gone.push(record.id);
            }
        }
        Ok(gone)
    }

    /// Checks a node's request and signs it: asked for by a token that belongs to this host, or by the
    /// node itself. The inner error says every reason why it is refused.
    ///
    /// # Errors
    /// When the store cannot be used or the certificate cannot be made.
    pub fn sign(
        &mut self,
        host: &HostName,
        request: &NodeRequest,
        now: Timestamp,
    ) -> Result<Result<LedgerEntry, Vec<String>>, StoreError> {
        let wanted = kubelet_client(&self.cluster, host);
        let tokens = self.state.tokens()?;
        let by_token = request
            .token()
            .and_then(|id| tokens.iter().find(|token| token.id == id && token.is_for(host)));
        let asker = match &by_token {
            Some(token) => Asker::Token(&token.id),
            None => Asker::Node(host),
        };
        let checked = match check_request(request, &wanted, asker) {
            Ok(checked) => checked,
            Err(faults) => return Ok(Err(faults)),
        };
        let ledger = self.state.ledger()?;
        let old = ledger.current().get(&(Profile::KubeletClient, host.clone())).copied();
        let own = by_token
            .filter(|token| self.tokens.get(host).is_some_and(|(record, _)| record.id == token.id));
        let fresh = by_token.filter(|token| token.admits(host));
        if let (Some(token), None) = (by_token, fresh) {
            // Where the answer did not reach the API, the same is asked once more.
            if let Some(entry) = old.filter(|entry| checked.has_key_of(entry)) {
                return Ok(Ok(entry.clone()));
            }
            let lives = own.and_then(|_| self.joining.get_mut(host));
            match lives {
                Some(lives) if *lives < LIVES => *lives += 1,
                _ => {
                    let id = &token.id;
                    return Ok(Err(vec![format!("the token {id} was used up or revoked")]));
                }
            }
        }
        let entry = self.authority.sign(&checked, &wanted, &crate::FreshKeys, now)?;
        let mut changes =
            vec![Change::put(CERTIFICATE, entry.serial.as_str(), json(CERTIFICATE, &entry)?)];
        if let Some(old) = old {
            changes.push(replaced(old, &entry)?);
        }
        // One transaction: a token whose certificate is recorded is used, and the other way round.
        if let Some(token) = fresh {
            let mut token = token.clone();
            token.used.push((host.clone(), now));
            if token.used.len() >= token.uses as usize {
                token.gone = Some(now);
            }
            changes.extend(token_changes(&token)?);
        }
        self.state.write(changes)?;
        if fresh.is_some() && own.is_some() {
            self.joining.insert(host.clone(), 1);
        }
        Ok(Ok(entry))
    }
}

/// Signs for keys that hosts make: what is asked for is held against what is wanted, and recorded before anybody sees it.
pub struct KeyDesk {
    state: State,
    authorities: BTreeMap<AuthorityKind, Authority>,
    /// What hosts are to have, by what it is for.
    wanted: HashMap<(Profile, HostName), Wanted>,
    /// What is in force of it.
    current: HashMap<(Profile, HostName), LedgerEntry>,
}

impl std::fmt::Debug for KeyDesk {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("KeyDesk").finish_non_exhaustive()
    }
}

impl KeyDesk {
    /// Opens the keys of the authorities that issue these profiles, for as long as this value lives.
    ///
    /// # Errors
    /// When an authority is missing or cannot be opened.
    pub fn new(
        mut state: State,
        strongbox: &Strongbox,
        cluster: &Cluster,
        profiles: BTreeSet<Profile>,
    ) -> Result<Self, StoreError> {
        // One whose key is lost signs nothing; what has its certificate already needs it for nothing.
        let mut authorities = BTreeMap::new();
        for kind in profiles.iter().map(|one| one.authority()).collect::<BTreeSet<_>>() {
            match open_authority(&mut state, strongbox, kind) {
                Ok(authority) => drop(authorities.insert(kind, authority)),
                Err(StoreError::LostAuthority(_)) => {}
                Err(error) => return Err(error),
            }
        }
        let ledger = state.ledger()?;
        let current = ledger.current().into_iter().map(|(of, entry)| (of, entry.clone())).collect();
        let all = wanted(cluster).into_iter().filter(|one| profiles.contains(&one.profile));
        let wanted = all.filter_map(|one| Some(((one.profile, one.host.clone()?), one))).collect();
        Ok(Self { state, authorities, wanted, current })
    }

    /// Checks what a host asks for keys that it made, and signs it. The inner error says every reason why it is refused;
    /// nothing of it is recorded then.
    ///
    /// # Errors
    /// When the store cannot be used or a certificate cannot be made.
    pub fn certify(
        &mut self,
        host: &HostName,
        requests: &[KeyRequest],
        now: Timestamp,
    ) -> Result<Result<Vec<LedgerEntry>, Vec<String>>, StoreError> {
        let (mut signed, mut changes, mut faults) = (Vec::new(), Vec::new(), Vec::new());
        for request in requests {
            let profile = request.profile;
            let of = (profile, host.clone());
            let Some(wanted) = self.wanted.get(&of) else {
                faults.push(format!("{profile}: no key is wanted for it"));
                continue;
            };
            let kind = profile.authority();
            let Some(authority) = self.authorities.get(&kind) else {
                faults.push(format!("{profile}: {}", StoreError::LostAuthority(kind)));
                continue;
            };
            let checked = match check_key_request(request, wanted) {
                Ok(checked) => checked,
                Err(found) => {
                    faults.extend(found.into_iter().map(|fault| format!("{profile}: {fault}")));
                    continue;
                }
            };
            let old = self.current.get(&of);
            let entry = LedgerEntry {
                key_sha256: request.key_sha256.clone(),
                key_at: KeyAt::Host,
                ..authority.sign(&checked, wanted, &crate::FreshKeys, now)?
            };
            if let Some(old) = old {
                changes.push(replaced(old, &entry)?);
            }
            let serial = entry.serial.as_str();
            changes.push(Change::put(CERTIFICATE, serial, json(CERTIFICATE, &entry)?));
            signed.push(entry);
        }
        if !faults.is_empty() {
            return Ok(Err(faults));
        }
        self.state.write(changes)?;
        for entry in &signed {
            self.current.insert((entry.profile, host.clone()), entry.clone());
        }
        Ok(Ok(signed))
    }
}

/// Opens the authorities that issue these, but for those that are open already. Keys of others stay closed: one of them
/// may be lost.
fn open_authorities(
    state: &mut State,
    strongbox: &Strongbox,
    dues: &[Due],
    opened: &mut BTreeMap<AuthorityKind, Authority>,
) -> Result<(), StoreError> {
    for kind in dues.iter().map(|due| due.wanted.profile.authority()) {
        if let Entry::Vacant(place) = opened.entry(kind) {
            let _ = place.insert(open_authority(state, strongbox, kind)?);
        }
    }
    Ok(())
}

/// Issues a certificate that is recorded and whose key is handed out and not kept: a person's, a run's.
///
/// # Errors
/// When the authority is missing or cannot be opened.
pub fn issue_unkept(
    state: &mut State,
    strongbox: &Strongbox,
    wanted: &Wanted,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<(LedgerEntry, Secret), StoreError> {
    let authority = open_authority(state, strongbox, wanted.profile.authority())?;
    let (entry, key) = authority.issue(wanted, keys, now)?;
    state.write(vec![Change::put(
        CERTIFICATE,
        entry.serial.as_str(),
        json(CERTIFICATE, &entry)?,
    )])?;
    Ok((entry, key))
}

fn open_authority(
    state: &mut State,
    strongbox: &Strongbox,
    kind: AuthorityKind,
) -> Result<Authority, StoreError> {
    let ledger = state.ledger()?;
    let certificate = ledger
        .authority(kind)
        .ok_or_else(|| StoreError::NoSecret(format!("the {kind} authority")))?;
    let key = match state.secret(&SecretRef::Authority(kind), strongbox) {
        Err(StoreError::NoSecret(_)) => return Err(StoreError::LostAuthority(kind)),
        found => found?,
    };
    Ok(Authority::open(certificate.clone(), &key)?)
}

/// The authority whose key is lost and that another one follows: what it was to sign waits for that one.
fn lost(state: &State, ledger: &Ledger) -> Result<Option<AuthorityKind>, StoreError> {
    let Some(kind) = ledger.replacing() else { return Ok(None) };
    let kept = match SecretRef::Authority(kind).kept_under() {
        Some(under) => state.holds_secret(&under)?,
        None => false,
    };
    Ok((!kept).then_some(kind))
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

/// What is due, and those that are chosen though they are right as they are.
fn with_chosen(
    cluster: &Cluster,
    ledger: &Ledger,
    dues: Vec<Due>,
    again: &dyn Fn(&Wanted) -> bool,
) -> Vec<Due> {
    let current = ledger.current();
    let mut dues: BTreeMap<_, _> =
        dues.into_iter().map(|d| ((d.wanted.profile, d.wanted.host.clone()), d)).collect();
    wanted(cluster)
        .into_iter()
        .filter_map(|wanted| {
            let found = dues.remove(&(wanted.profile, wanted.host.clone()));
            let again = || {
                let old = wanted.host.clone().and_then(|h| current.get(&(wanted.profile, h)));
                again(&wanted).then(|| Due {
                    replaces: old.map(|entry| entry.serial.clone()),
                    wanted: wanted.clone(),
                    why: AS_ASKED,
                })
            };
            found.or_else(again)
        })
        .collect()
}

/// A short-lived certificate for this run, recorded but with its key in memory only.
///
/// # Errors
/// When the authority is missing or cannot be opened.
pub fn for_this_run(
    state: &mut State,
    strongbox: &Strongbox,
    cluster: &Cluster,
    profile: Profile,
    keys: &dyn KeySource,
    now: Timestamp,
) -> Result<(LedgerEntry, Secret), StoreError> {
    issue_unkept(state, strongbox, &run_client(cluster, profile), keys, now)
}

/// Records that a certificate took the place of another.
fn replaced(old: &LedgerEntry, by: &LedgerEntry) -> Result<Change, StoreError> {
    let replaced = LedgerEntry { replaced_by: Some(by.serial.clone()), ..old.clone() };
    Ok(Change::put(CERTIFICATE, old.serial.as_str(), json(CERTIFICATE, &replaced)?))
}
