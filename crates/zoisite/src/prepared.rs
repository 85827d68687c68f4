//! Certificates and holdings, worked out before hosts are looked at and turned to each aim by what they show.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;

use futures_util::StreamExt as _;
use futures_util::stream::FuturesUnordered;
use ipnet::IpNet;
use zoisite_core::aim::{
    Aim, Next, Quorum, Real, Records, as_it_stands, forecast, leaving, next_aim,
};
use zoisite_core::cluster::{Cluster, Host, HostName};
use zoisite_core::components::{NodeImages, Shelved};
use zoisite_core::holdings::{
    self, ApiObject, Holdings, HoldingsError, HostFacts, HostHoldings, NodeWanted, Part, Sources,
    node_wanted, peer_urls,
};
use zoisite_core::item::Content;
use zoisite_core::pki::{AtRestStage, KeyAt, Ledger, LedgerEntry, Profile, Proof, TokenKeyTurn};
use zoisite_core::script::Depth;
use zoisite_core::sequence::{Begun, Looks, MachinePin, Refusal, Rule, real, recorded};
use zoisite_core::text::digest;
use zoisite_core::token::TokenRecord;
use zoisite_reach::Reach;
use zoisite_store::join_files::{Carried, carried};
use zoisite_store::trust::{self, Issued};
use zoisite_store::{FreshKeys, Met, State};

use crate::failure::{Failure, Kind};
use crate::site::{Site, now};
use crate::view::looking::Looking;

/// Certificates and holdings, ready to be held against hosts.
pub struct Prepared {
    pub issued: Issued,
    /// So many keys are to be made on hosts.
    pub asked_for: usize,
    /// What was issued, and what stands for what hosts will ask for.
    pub ledger: Ledger,
    pub proof: Proof,
    pub holdings: Holdings,
    /// What the cluster itself must hold.
    pub objects: Vec<ApiObject>,
    /// What node objects must say.
    pub nodes: Vec<NodeWanted>,
    /// Images that every node holds.
    pub images: NodeImages,
    /// Images that the cluster's own registry is to hold.
    pub shelf: Vec<Shelved>,
    /// Hosts that were met and are no longer in the cluster file.
    pub departed: BTreeMap<HostName, Met>,
    /// What is recorded of the cluster's beginning.
    pub begun: Option<Begun>,
    /// Whether hosts were given the cluster's mark, also by a run that began no quorum.
    pub marked: bool,
    /// Where this stage ends.
    pub aim: Aim,
    /// What is real of the quorum, once it was looked at.
    pub real: Real,
    /// The cluster file, with the members of this stage.
    pub cluster: Cluster,
    pub identity: String,
    subnets: BTreeMap<HostName, Vec<IpNet>>,
    pub tokens: Vec<TokenRecord>,
    /// What was carried to offline hosts, and came back.
    pub carried: BTreeMap<HostName, Carried>,
    /// What is to be done next of a key that is replaced, by which secrets are encrypted in etcd.
    pub at_rest: Option<AtRestStage>,
    /// How far the replacement of the key is that signs service accounts' tokens.
    pub tokens_turn: TokenKeyTurn,
    /// The parts that were asked for.
    pub parts: Vec<Part>,
    /// Hosts that were looked at and whose key for the mesh is not known.
    keyless: BTreeSet<HostName>,
}

/// Of the hosts of a mesh those that answered and have made no key yet.
fn keyless(site: &Site, state: &State, looks: &Looks) -> Result<BTreeSet<HostName>, Failure> {
    if site.cluster.mesh.is_none() {
        return Ok(BTreeSet::new());
    }
    let facts = state.facts()?;
    let known = |host: &HostName| facts.get(host).is_some_and(|facts| facts.mesh_key.is_some());
    let answered = looks.iter().filter(|(_, look)| look.is_ok()).map(|(host, _)| host);
    let of_file = answered.filter(|host| site.cluster.host(host).is_some());
    Ok(of_file.filter(|host| !known(host)).cloned().collect())
}

/// Issues what is due, proves every edge, and works out what hosts must hold. `state` lies over the store:
/// nothing of this counts before it was judged and kept.
pub fn prepare(site: &Site, state: &mut State, parts: &[Part]) -> Result<Prepared, Failure> {
    let now = now();
    let ledger = state.ledger()?;
    let begun = state.begun()?;
    let mut aim = Aim::of_file(&site.cluster, &wanted_members(site));
    if let Some(begun) = begun.as_ref().filter(|begun| begun.formed.is_some()) {
        aim.etcd.members.extend(leaving(&site.cluster, &begun.records()));
        // Of a quorum that stands nobody is told to begin another one, whoever carries the files there.
        let told = begun.members.iter().map(|(host, url)| (host.to_string(), url.clone()));
        aim.etcd.initial = Some(told.collect());
    }
    let cluster = aim.cluster(&site.cluster);
    // The strongbox is opened only when something must be issued: a run with nothing to do needs no key.
    let issued = if trust::is_complete(state, &cluster, &ledger, now)? {
        Issued::default()
    } else {
        trust::issue(state, site.strongbox()?, &cluster, &FreshKeys, now, false)?
    };
    let mut ledger = if issued.is_empty() { ledger } else { state.ledger()? };
    let dues = trust::asked_for(&cluster, &ledger, now);
    let asked_for = dues.len();
    if asked_for > 0 {
        // What hosts are to ask for is planned and proven by what stands for it.
        ledger = ledger.and(trust::to_come(state, site.strongbox()?, dues, &FreshKeys, now)?);
    }
    let proof = site.prove_edges(&ledger, now)?;
    let subnets = state.subnets(&site.cluster)?;
    let (mut objects, mut nodes, mut images) = (Vec::new(), Vec::new(), NodeImages::default());
    let asked = |part: Part| parts.contains(&part);
    if asked(Part::Nodes) || asked(Part::Registry) {
        let manifests = site.manifests()?;
        images = site.node_images(&manifests)?;
        if asked(Part::Nodes) {
            objects = holdings::objects(&site.cluster, &images);
            objects.extend(manifests);
            nodes.extend(site.cluster.nodes().iter().map(|host| {
                let nets = subnets.get(&host.name).map_or(&[][..], Vec::as_slice);
                node_wanted(&site.cluster, &host.name, nets)
            }));
        }
    }
    let departed = state.departed(&site.cluster)?;
    let known = (&subnets, &departed, &images);
    let holdings = make_holdings(site, state, &ledger, known, (parts, &aim))?;
    let shared = state.shared_secrets()?;
    Ok(Prepared {
        shelf: if asked(Part::Registry) { site.shelf(&images) } else { Vec::new() },
        images,
        issued,
        asked_for,
        ledger,
        proof,
        holdings,
        objects,
        nodes,
        departed,
        begun,
        marked: state.marked()?,
        aim,
        real: Real::default(),
        cluster,
        identity: state.cluster_id()?,
        subnets,
        tokens: state.tokens()?,
        carried: carried(state)?,
        at_rest: shared.as_ref().and_then(|shared| shared.at_rest_keys().stage()),
        tokens_turn: shared.unwrap_or_default().service_accounts_turn,
        parts: parts.to_vec(),
        keyless: BTreeSet::new(),
    })
}

/// What is known besides the ledger: pod subnets, hosts that are no longer in the file, images.
type Known<'a> = (&'a BTreeMap<HostName, Vec<IpNet>>, &'a BTreeMap<HostName, Met>, &'a NodeImages);

/// What is taken to be so of an offline host, and that has told nothing yet. Nobody could ask whether names lead
/// anywhere there: they are put there. Of one that is like another one all else is taken to be as there.
fn unheard(like: Option<&HostFacts>) -> HostFacts {
    let like = like.cloned().unwrap_or_default();
    let (brought, called) = (BTreeSet::new(), String::new());
    HostFacts { unknown_names: true, mesh_key: None, brought, called, ..like }
}

fn holdings_of_all(
    site: &Site,
    state: &mut State,
    ledger: &Ledger,
    (subnets, departed, images): Known<'_>,
    (parts, aim): (&[Part], &Aim),
) -> Result<Holdings, Failure> {
    let cluster_id = state.cluster_id()?;
    let shared = state.shared_secrets()?.unwrap_or_default();
    let mut facts = state.facts()?;
    for host in site.cluster.offline() {
        facts.entry(host.name.clone()).or_insert_with(|| unheard(None));
    }
    let departed = departed.iter().map(|(host, met)| (host.clone(), met.address)).collect();
    let own = &site.own_secrets()?.on_hosts;
    let site_secrets =
        own.iter().map(|(secret, text)| (secret.clone(), digest(text.expose()))).collect();
    let sources = Sources {
        ledger,
        cluster_id: &cluster_id,
        epoch: state.begun()?.map_or(1, |begun| begun.epoch),
        shared: &shared,
        subnets,
        facts: &facts,
        departed: &departed,
        images,
        site_secrets: &site_secrets,
        etcd: Some(&aim.etcd),
    };
    let cluster = aim.cluster(&site.cluster);
    let made = holdings::holdings(&cluster, sources, parts).map_err(|errors| {
        let all: Vec<String> = errors.iter().map(ToString::to_string).collect();
        let exhausted = errors.iter().any(|e| matches!(e, HoldingsError::NoSubnet { .. }));
        let fix = match exhausted {
            true => "a node keeps its subnet for ever: make network.pods larger (its first address must stay)",
            false => "zoisite pki issue makes what is missing",
        };
        Failure::new(Kind::Run, all.join("; "), fix)
    })?;
    Ok(made.within(&aim.scope))
}

/// What hosts must hold that are dialled: nothing is asked of the others, and nothing done there.
fn make_holdings(
    site: &Site,
    state: &mut State,
    ledger: &Ledger,
    known: Known<'_>,
    how: (&[Part], &Aim),
) -> Result<Holdings, Failure> {
    let mut made = holdings_of_all(site, state, ledger, known, how)?;
    made.hosts.retain(|host| !site.cluster.is_offline(&host.host));
    Ok(made)
}

/// The members that the file wants, and where the others are to dial each.
fn wanted_members(site: &Site) -> BTreeMap<HostName, String> {
    peer_urls(&site.cluster).into_iter().collect()
}

impl Prepared {
    /// Turns to the next aim: what hosts must hold is made for it. `consent` says whether a person wants the
    /// membership changed.
    ///
    /// # Errors
    /// Where there is no safe way on.
    pub fn turn(
        &mut self,
        site: &Site,
        state: &mut State,
        looks: &Looks,
        consent: bool,
    ) -> Result<(), Failure> {
        self.real = real(looks, self.begun.as_ref());
        if self.has(Part::Mesh) {
            self.keyless = keyless(site, state, looks)?;
        }
        let wanted = wanted_members(site);
        let restoring = self.begun.as_ref().is_some_and(|begun| begun.restoring.is_some());
        if restoring && !(self.has(Part::Etcd) && self.has(Part::ControlPlane)) {
            let found =
                "a snapshot is being put back, and that concerns etcd and API servers".into();
            let fix = "zoisite raise, of all parts, goes on with it".into();
            let refusal = Refusal { rule: Rule::QuorumFirst, host: None, found, fix };
            return Err(vec![refusal].into());
        }
        let aim = match self.has(Part::Etcd) || !self.keyless.is_empty() {
            true => next_aim(&site.cluster, &wanted, &self.records(), &self.real, consent),
            false => Next::Stage(Box::new(self.standing_aim(site))),
        };
        match aim {
            Next::Stage(aim) => self.take(site, state, *aim),
            Next::Refused { found, fix } => {
                Err(vec![Refusal { rule: Rule::QuorumFirst, host: None, found, fix }].into())
            }
        }
    }

    /// Turns to the cluster with the members that it has, whatever the file says of them.
    pub fn turn_to_what_stands(
        &mut self,
        site: &Site,
        state: &mut State,
        looks: &Looks,
    ) -> Result<(), Failure> {
        self.real = real(looks, self.begun.as_ref());
        let aim = self.standing_aim(site);
        self.take(site, state, aim)
    }

    /// What hosts hold as things stand, by these looks: also those of a member that the file does not name any more.
    ///
    /// # Errors
    /// Where a certificate of theirs is gone from the store.
    pub fn held_as_it_stands(
        &mut self,
        site: &Site,
        state: &mut State,
        looks: &Looks,
    ) -> Result<Holdings, Failure> {
        self.real = real(looks, self.begun.as_ref());
        let mut aim = self.standing_aim(site);
        if let Quorum::Listed(list) = &self.real.quorum {
            let known = list.iter().filter_map(|member| {
                let host = site.known_host(&member.name)?;
                Some((host, member.urls.first()?.clone()))
            });
            aim.etcd.members.extend(known);
        }
        let known = (&self.subnets, &self.departed, &self.images);
        make_holdings(site, state, &self.ledger, known, (&self.parts[..], &aim))
    }

    /// What offline hosts must hold, as things stand. Those that have told nothing yet are taken to be `like`
    /// another one, where a person says so; what is noted of them is in `state` alone.
    ///
    /// # Errors
    /// Where a certificate of theirs is gone from the store.
    pub fn offline(
        &self,
        site: &Site,
        state: &mut State,
        like: Option<&HostName>,
    ) -> Result<Holdings, Failure> {
        if let Some(like) = like {
            let facts = state.facts()?;
            let Some(known) = facts.get(like) else {
                return Err(Failure::new(
                    Kind::Usage,
                    format!("nothing is known of {like} yet"),
                    "a raise looks at hosts that it can log in to; offline hosts tell it in their reports",
                ));
            };
            let heard = |host: &&Host| !facts.contains_key(&host.name);
            let away = site.cluster.offline().filter(heard);
            state.note_facts(away.map(|host| (host.name.clone(), unheard(Some(known)))))?;
        }
        let known = (&self.subnets, &self.departed, &self.images);
        let how = (&self.parts[..], &self.aim);
        let mut all = holdings_of_all(site, state, &self.ledger, known, how)?;
        all.hosts.retain(|host| site.cluster.is_offline(&host.host));
        Ok(all)
    }

    fn standing_aim(&self, site: &Site) -> Aim {
        as_it_stands(&site.cluster, &wanted_members(site), &self.records(), &self.real)
    }

    /// Every stage from here to what the file says.
    pub fn forecast(&self, site: &Site, consent: bool) -> Vec<Aim> {
        forecast(&site.cluster, &wanted_members(site), &self.records(), &self.real, consent)
    }

    fn records(&self) -> Records {
        let known = self.begun.as_ref().map(Begun::records).unwrap_or_default();
        // What concerns API servers alone waits for a run that looks at them.
        let at_rest = self.at_rest.clone().filter(|_| self.has(Part::ControlPlane));
        let control_planes = &self.cluster.control_plane.hosts;
        let holders = self.ledger.current().into_keys();
        let servers = holders.filter(|(profile, _)| *profile == Profile::ApiServer);
        let old = servers.map(|(_, host)| host).filter(|host| !control_planes.contains(host));
        // Everybody believes somebody: that waits for a run that looks at everything.
        let trust = self
            .ledger
            .stage()
            .or(self.tokens_turn.stage())
            .filter(|_| Part::ALL.iter().all(|part| self.has(*part)));
        let departed = self.departed.keys().cloned().collect();
        let keyless = self.keyless.clone();
        let nodes_trust = self.ledger.trust_of_nodes();
        let otherwise = |host: &&HostName| {
            self.carried
                .get(*host)
                .is_some_and(|carried| carried.may_believe_otherwise(&nodes_trust))
        };
        let away = self.cluster.offline().map(|host| &host.name);
        let unbrought = away.filter(otherwise).cloned().collect();
        Records {
            unbrought,
            keyless,
            at_rest,
            trust,
            departed,
            old_control_planes: old.collect(),
            ..known
        }
    }

    fn take(&mut self, site: &Site, state: &mut State, aim: Aim) -> Result<(), Failure> {
        // What was made to look by is what this stage must hold, where the members are those of the file.
        let same = aim.scope == self.aim.scope && aim.etcd.is_like(&self.aim.etcd);
        if !same {
            let known = (&self.subnets, &self.departed, &self.images);
            let how = (&self.parts[..], &aim);
            self.holdings = make_holdings(site, state, &self.ledger, known, how)?;
        }
        self.cluster = aim.cluster(&site.cluster);
        self.aim = aim;
        Ok(())
    }

    /// Takes in what hosts were signed for keys that they made in this stage.
    ///
    /// # Errors
    /// Where the store cannot be read.
    pub fn certified(&mut self, site: &Site, state: &mut State) -> Result<(), Failure> {
        // A key that was gone is asked for too, though nothing was due.
        if !site.cluster.certificates.any_made_on_hosts() {
            return Ok(());
        }
        let ledger = state.ledger()?;
        let before: HashMap<&String, &String> = self
            .ledger
            .entries
            .iter()
            .filter_map(|entry| Some((entry.replaced_by.as_ref()?, &entry.serial)))
            .collect();
        let in_force = ledger.current();
        // Who was left out has still to ask: what it has is what it had.
        let waits = |entry: &&LedgerEntry| {
            let of = entry.host.clone().map(|host| (entry.profile, host));
            let has = of.and_then(|of| in_force.get(&of)).map(|now| &now.serial);
            entry.key_at == KeyAt::ToCome && has == before.get(&entry.serial).copied()
        };
        let left: Vec<LedgerEntry> = self.ledger.entries.iter().filter(waits).cloned().collect();
        self.asked_for = left.len();
        self.ledger = ledger.and(left);
        let known = (&self.subnets, &self.departed, &self.images);
        let how = (&self.parts[..], &self.aim);
        self.holdings = make_holdings(site, state, &self.ledger, known, how)?;
        Ok(())
    }

    /// Whether a part was asked for.
    pub fn has(&self, part: Part) -> bool {
        self.parts.contains(&part)
    }

    /// Takes what looking showed of the hosts' own nature into the holdings; the hosts that must hold something else
    /// by that than what they were asked for.
    pub fn learn(
        &mut self,
        site: &Site,
        state: &mut State,
        looks: &Looks,
    ) -> Result<Vec<HostName>, Failure> {
        let seen = looks
            .iter()
            .filter_map(|(host, look)| Some((host.clone(), look.as_ref().ok()?.facts.clone()?)));
        if !state.note_facts(seen)? {
            return Ok(Vec::new());
        }
        let known = (&self.subnets, &self.departed, &self.images);
        let how = (&self.parts[..], &self.aim);
        let before = make_holdings(site, state, &self.ledger, known, how)?;
        let before = std::mem::replace(&mut self.holdings, before);
        // Both are in the order of the cluster file, and have the same hosts.
        let both = self.holdings.hosts.iter().zip(&before.hosts);
        let other = both.filter(|(now, before)| now.items != before.items);
        Ok(other.map(|(now, _)| now.host.clone()).collect())
    }

    /// Members that the file no longer names: they are looked at too. Nothing may start as if new while one of an
    /// interrupted first start holds data, and nothing is left of one that was taken out.
    fn old_members(&self, site: &Site) -> Vec<HostHoldings> {
        let Some(begun) = self.begun.as_ref().filter(|_| self.has(Part::Etcd)) else {
            return Vec::new();
        };
        let stands = |host: &&HostName| site.cluster.host(host).is_some();
        let can_be_dialled = |host: &&HostName| stands(host) || self.departed.contains_key(*host);
        let old = |host| {
            let known = self.holdings.host(host);
            let address = site.cluster.host(host).map(|host| host.address);
            let address = address.or_else(|| self.departed.get(host).map(|met| met.address));
            HostHoldings::of_old_member(&site.cluster, (host, address), &self.identity, known)
        };
        // Of those that were taken out only hosts that the file still has are looked after.
        let left = begun.left.iter().filter(stands);
        begun.dropped(&site.cluster).filter(can_be_dialled).chain(left).map(old).collect()
    }

    /// Looks at every host that holds anything, and at members that the file no longer names; see [`look_at`].
    pub async fn look(
        &self,
        site: &Site,
        reach: &dyn Reach,
        depth: Depth,
        meanwhile: impl FnOnce(),
    ) -> Looks {
        let old = self.old_members(site);
        let others = self.holdings.hosts.iter();
        let others = others.filter(|host| !old.iter().any(|old| old.host == host.host));
        let hosts: Vec<&HostHoldings> = others.chain(&old).collect();
        look_at(&hosts, reach, depth, meanwhile).await
    }

    /// What the record of the cluster's beginning must say once this run was judged; `None` when it does.
    fn begins(&self, site: &Site, looks: &Looks) -> Option<Begun> {
        let observed = || looks.values().filter_map(|look| look.as_ref().ok());
        let fresh = Begun::of(&site.cluster, &self.identity, now());
        let known = self.begun.clone();
        let formed = known.as_ref().and_then(|begun| begun.formed.clone()).or_else(|| {
            observed().find_map(|seen| {
                let answered = seen.etcd.status.as_ref().filter(|status| status.has_leader());
                seen.etcd.formed.clone().or(answered.map(|status| status.cluster_id.clone()))
            })
        });
        if formed.is_none() && !self.has(Part::Etcd) {
            return None;
        }
        let since = known.as_ref().map_or(fresh.since, |begun| begun.since);
        let epoch = known.as_ref().map_or(fresh.epoch, |begun| begun.epoch);
        let Records { members, left, restoring, .. } =
            recorded(known.as_ref(), &site.cluster, &self.real, &self.aim.arm);
        let wanted = Begun { epoch, since, formed, members, left, restoring, ..fresh };
        (known.as_ref() != Some(&wanted)).then_some(wanted)
    }

    /// Whether a host holds the certificate and the key of an entry where they belong.
    pub fn in_place(&self, entry: &LedgerEntry, looks: &Looks) -> bool {
        let look = entry.host.as_ref().and_then(|host| looks.get(host)?.as_ref().ok());
        let (Some(place), Some(seen)) = (entry.profile.place(), look) else { return false };
        let holds = |path: String, sha256: &str| {
            seen.found.files.get(&path).and_then(|f| f.sha256.as_deref()) == Some(sha256)
        };
        holds(place.certificate(), &Content::text(entry.pem.as_str()).lasting_sha256())
            && holds(place.key(), &entry.key_sha256)
    }

    /// Records what a judged run knows: machines and hosts met, the cluster's beginning, what was issued.
    pub fn keep(
        &mut self,
        site: &Site,
        draft: &mut State,
        looks: &Looks,
        pins: &[(HostName, MachinePin)],
    ) -> Result<(), Failure> {
        draft.pin(pins)?;
        let met = looks.iter().filter(|(_, look)| look.is_ok()).filter_map(|(host, _)| {
            let host = site.cluster.host(host)?;
            let login = site.cluster.login_of(host);
            Some((host.name.clone(), Met { address: host.address, login }))
        });
        draft.meet(met)?;
        if let Some(begun) = self.begins(site, looks) {
            draft.put_begun(&begun)?;
            self.begun = Some(begun);
        }
        if self.parts.iter().any(|part| *part != Part::Preparation) {
            draft.put_marked()?;
            self.marked = true;
        }
        site.keep(draft)
    }
}

/// Looks at these hosts, side by side. Says how far it is where that takes long. `meanwhile` is done while hosts are
/// at work.
pub async fn look_at(
    hosts: &[&HostHoldings],
    reach: &dyn Reach,
    depth: Depth,
    meanwhile: impl FnOnce(),
) -> Looks {
    let mut looking: FuturesUnordered<_> = hosts
        .iter()
        .map(|host| async { (host.host.clone(), reach.observe(host, depth).await) })
        .collect();
    let mut shown = Looking::at(hosts.iter().map(|host| host.host.clone()));
    let mut again = tokio::time::interval(Duration::from_millis(500));
    let mut looks = Looks::new();
    let mut meanwhile = Some(meanwhile);
    loop {
        tokio::select! {
            biased;
            seen = looking.next() => match seen {
                Some((host, look)) => {
                    shown.seen(&host);
                    looks.insert(host, look);
                }
                None => break,
            },
            // It ticks at once too, when every host has been turned to.
            _ = again.tick() => {
                shown.show();
                if let Some(meanwhile) = meanwhile.take() {
                    meanwhile();
                }
            }
        }
    }
    shown.end();
    looks
}
