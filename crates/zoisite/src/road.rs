//! What the commands that meet hosts share: certificates, looking, planning, running, telling.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use futures_util::StreamExt as _;
use futures_util::stream::FuturesUnordered;
use ipnet::IpNet;
use zoisite_core::aim::{
    Aim, Next, Quorum, Real, Records, Scope, as_it_stands, forecast, leaving, next_aim,
};
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::components::{NodeImages, Shelved};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{
    self, API_SERVER_UNIT, ApiObject, Holdings, HoldingsError, HostHoldings, NodeWanted, Part,
    Sources, node_wanted, peer_urls,
};
use zoisite_core::item::{ComponentSums, Content};
use zoisite_core::pki::{AuthorityKind, Ledger, LedgerEntry, Profile, Proof, Secret};
use zoisite_core::script::Depth;
use zoisite_core::sequence::{
    ApiLook, Begun, Condition, Engine, Gate, Looks, MachinePin, PlanInput, PlanOptions, Refusal,
    Rule, Sequence, Work, plan, real, recorded, same_machine,
};
use zoisite_core::text::digest;
use zoisite_core::token::TokenRecord;
use zoisite_reach::{Access, Hosts, OpenSsh, Places, Reach, Rehearsal, Target, World};
use zoisite_store::trust::{self, Issued};
use zoisite_store::{FreshKeys, Met, State};

use crate::contents::SiteContents;
use crate::failure::{Failure, Kind};
use crate::interrupt::Interrupts;
use crate::site::{Site, now};
use crate::surveying;
use crate::view::{self, looking::Looking, run::Told};

/// Steps that run at once at most.
pub const PARALLEL: usize = 40;

/// Certificates and holdings, ready to be held against hosts.
pub struct Prepared {
    pub issued: Issued,
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
    /// Where this leg ends.
    pub aim: Aim,
    /// What is real of the quorum, once it was looked at.
    pub real: Real,
    /// The cluster file, with the members of this leg.
    pub cluster: Cluster,
    identity: String,
    subnets: BTreeMap<HostName, Vec<IpNet>>,
    tokens: Vec<TokenRecord>,
    /// The parts that were asked for.
    pub parts: Vec<Part>,
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
    let ledger = if issued.is_empty() { ledger } else { state.ledger()? };
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
    Ok(Prepared {
        shelf: if asked(Part::Registry) { site.shelf(&images) } else { Vec::new() },
        images,
        issued,
        ledger,
        proof,
        holdings,
        objects,
        nodes,
        departed,
        begun,
        aim,
        real: Real::default(),
        cluster,
        identity: state.cluster_id()?,
        subnets,
        tokens: state.tokens()?,
        parts: parts.to_vec(),
    })
}

fn make_holdings(
    site: &Site,
    state: &mut State,
    ledger: &Ledger,
    (subnets, departed, images): (
        &BTreeMap<HostName, Vec<IpNet>>,
        &BTreeMap<HostName, Met>,
        &NodeImages,
    ),
    (parts, aim): (&[Part], &Aim),
) -> Result<Holdings, Failure> {
    let cluster_id = state.cluster_id()?;
    let shared = state.shared_secrets()?.unwrap_or_default();
    let facts = state.facts()?;
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
        let mend = match exhausted {
            true => "a node keeps its subnet for ever: make network.pods larger (its first address must stay)",
            false => "zoisite pki issue makes what is missing",
        };
        Failure::new(Kind::Run, all.join("; "), mend)
    })?;
    Ok(made.within(&aim.scope))
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
        let wanted = wanted_members(site);
        let restoring = self.begun.as_ref().is_some_and(|begun| begun.restoring.is_some());
        if restoring && !(self.has(Part::Etcd) && self.has(Part::ControlPlane)) {
            let found =
                "a snapshot is being put back, and that concerns etcd and API servers".into();
            let mend = "zoisite raise, of all parts, goes on with it".into();
            let refusal = Refusal { rule: Rule::QuorumFirst, host: None, found, mend };
            return Err(vec![refusal].into());
        }
        let aim = match self.has(Part::Etcd) {
            true => next_aim(&site.cluster, &wanted, &self.records(), &self.real, consent),
            false => Next::Leg(Box::new(self.standing_aim(site))),
        };
        match aim {
            Next::Leg(aim) => self.take(site, state, *aim),
            Next::Refused { found, mend } => {
                Err(vec![Refusal { rule: Rule::QuorumFirst, host: None, found, mend }].into())
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

    fn standing_aim(&self, site: &Site) -> Aim {
        as_it_stands(&site.cluster, &wanted_members(site), &self.records(), &self.real)
    }

    /// Every leg from here to what the file says.
    pub fn forecast(&self, site: &Site, consent: bool) -> Vec<Aim> {
        forecast(&site.cluster, &wanted_members(site), &self.records(), &self.real, consent)
    }

    fn records(&self) -> Records {
        self.begun.as_ref().map(Begun::records).unwrap_or_default()
    }

    fn take(&mut self, site: &Site, state: &mut State, aim: Aim) -> Result<(), Failure> {
        // What was made to look by is what this leg must hold, where the members are those of the file.
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
        let Records { members, left, restoring } =
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
        site.keep(draft)
    }
}

/// Looks at these hosts, side by side. Says how far it is where that takes long. `meanwhile` is done while hosts are
/// at work.
async fn look_at(
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

/// Whether there may be an API to be asked: an API server was seen to run, or none was looked at.
pub fn may_ask(prepared: &Prepared, looks: &Looks) -> bool {
    if !prepared.has(Part::ControlPlane) {
        return prepared.has(Part::Nodes);
    }
    looks.values().filter_map(|look| look.as_ref().ok()).any(|observed| {
        observed.found.units.get(API_SERVER_UNIT).is_some_and(|unit| unit.active == "active")
    })
}

/// Every host of the cluster, and those that departed, over the person's own SSH; it connects to those that
/// are asked.
pub fn hosts(
    site: &Site,
    departed: &BTreeMap<HostName, Met>,
    generation: u64,
) -> Result<Hosts, Failure> {
    let password = site.sudo_password()?;
    let (targets, carrier) = carrier(site, departed)?;
    Ok(hosts_over(site, targets, carrier, generation, password))
}

/// The person's own SSH, and the hosts that it leads to.
pub fn carrier(
    site: &Site,
    departed: &BTreeMap<HostName, Met>,
) -> Result<(Vec<Target>, OpenSsh), Failure> {
    let targets = site.targets(departed);
    for config in targets.iter().filter_map(|target| target.login.ssh_config.as_deref()).take(1) {
        if !std::path::Path::new(config).exists() {
            return Err(Failure::new(
                Kind::Usage,
                format!("there is no SSH configuration {config}"),
                "login.ssh-config and --ssh-config name a file; a path in the cluster file starts at its folder",
            ));
        }
    }
    let carrier = OpenSsh::new(&targets).map_err(|error| {
        Failure::file("making a folder for connections in", "/tmp".as_ref(), &error)
    })?;
    Ok((targets, carrier))
}

/// Every host of the cluster over SSH that asks nobody. `password` is what sudo is told where it asks.
pub fn hosts_asking_nobody(site: &Site, password: Option<Secret>) -> Result<Hosts, Failure> {
    let (targets, carrier) = carrier(site, &BTreeMap::new())?;
    Ok(hosts_over(site, targets, carrier.asking_nobody(), 0, password))
}

/// Hosts over a carrier. `password` is what sudo is told where it asks.
pub fn hosts_over(
    site: &Site,
    targets: Vec<Target>,
    carrier: OpenSsh,
    generation: u64,
    password: Option<Secret>,
) -> Hosts {
    let contents = Arc::new(site.no_contents());
    let (carrier, places) = (Arc::new(carrier), Places::of(&site.cluster));
    Hosts::new(targets, carrier, contents, places, generation, password)
}

/// Simulated hosts.
pub fn rehearsal(world: &Arc<Mutex<World>>, contents: SiteContents, generation: u64) -> Rehearsal {
    Rehearsal::new(Arc::clone(world), Arc::new(contents), generation)
}

/// What looking at hosts and asking the API found.
pub struct Sighting {
    pub looks: Looks,
    pub api: ApiLook,
    met: Result<Vec<(HostName, MachinePin)>, Failure>,
    /// What else makes hosts unfit that are left out.
    also: Vec<Trouble>,
    /// Hosts that were members and are nothing else: one that does not answer is nobody's trouble.
    were: BTreeSet<HostName>,
}

impl Sighting {
    /// Pins of the machines that were met for the first time, or accepted anew. Asked for once: it judges.
    ///
    /// # Errors
    /// When a machine is another one than before (rule S4).
    pub fn met(&mut self) -> Result<Vec<(HostName, MachinePin)>, Failure> {
        std::mem::replace(&mut self.met, Ok(Vec::new()))
    }

    /// Plans; every refusal and trouble is a failure.
    pub fn plan(
        &mut self,
        prepared: &Prepared,
        sums: &ComponentSums,
        accepted: &[HostName],
        patience: u32,
    ) -> Result<Sequence, Failure> {
        let Prepared { holdings, tokens, .. } = prepared;
        // A leg that is about members alone leaves all else as it is.
        let (objects, shelf, nodes) = match prepared.aim.scope {
            Scope::Whole => (&prepared.objects[..], &prepared.shelf[..], &prepared.nodes[..]),
            Scope::Members(_) | Scope::Dialling => (&[][..], &[][..], &[][..]),
        };
        let departed = prepared.departed.keys().cloned().collect();
        let input = PlanInput {
            cluster: &prepared.cluster,
            aim: &prepared.aim,
            real: &prepared.real,
            holdings,
            looks: &self.looks,
            sums,
            api: &self.api,
            objects,
            shelf,
            nodes,
            tokens,
            accepted,
            identity: &prepared.identity,
            begun: prepared.begun.as_ref(),
            departed: &departed,
            now: now(),
        };
        // What does not let it be planned is told together with what else is wrong on hosts.
        let sequence = plan(input, PlanOptions { patience })
            .map_err(|why| Failure::from(why).and(Failure::troubles(self.troubles())))?;
        for trouble in &sequence.left_out {
            if let Some(look) = trouble.host.as_ref().and_then(|host| self.looks.get_mut(host))
                && look.is_ok()
            {
                *look = Err(trouble.clone());
            } else {
                self.also.push(trouble.clone());
            }
        }
        Ok(sequence)
    }

    /// Leaves hosts out that have nothing of ours yet and are not fit for it, as if they had not answered; whether
    /// a system that nobody has proven is fit enough.
    ///
    /// # Errors
    /// What is wrong here, so that nothing can be raised anywhere.
    pub async fn leave_out_unfit(
        &mut self,
        site: &Site,
        reach: &dyn Reach,
        parts: &[Part],
        unproven: bool,
    ) -> Result<(), Failure> {
        for (host, trouble) in surveying::unfit(site, reach, &self.looks, parts, unproven).await? {
            self.looks.insert(host, Err(trouble));
        }
        Ok(())
    }

    /// Hosts on which a script is at work.
    pub fn acting(&self) -> Vec<&HostName> {
        let looks = self.looks.iter().filter_map(|(host, look)| Some((host, look.as_ref().ok()?)));
        looks.filter(|(_, seen)| seen.acting).map(|(host, _)| host).collect()
    }

    /// Hosts that could not be looked at, or were left out.
    pub fn troubles(&self) -> Vec<&Trouble> {
        let looks = self.looks.iter().filter(|(host, _)| !self.were.contains(*host));
        let looks = looks.filter_map(|(_, look)| look.as_ref().err());
        looks.chain(&self.also).collect()
    }
}

/// The road from hosts to a plan, the same for every command that goes it, on real hosts and simulated ones:
/// looks, holds machines against their pins, learns what hosts are, asks the API.
pub async fn sighting(
    site: &Site,
    state: &mut State,
    reach: &mut dyn Reach,
    prepared: &mut Prepared,
    (depth, accept): (Depth, &[HostName]),
) -> Result<Sighting, Failure> {
    // Of a cluster that was formed an API is all but sure to be asked.
    let sure = prepared.begun.as_ref().is_some_and(|begun| begun.formed.is_some());
    let mut access = None;
    let mut looks = {
        let ledger = &prepared.ledger;
        let make = || {
            if sure && reach.wants_access() && prepared.has(Part::Nodes) {
                access = Some(api_access(site, state, ledger));
            }
        };
        prepared.look(site, reach, depth, make).await
    };
    let met = meet(state, &looks, accept);
    // What a host turned out to need is looked at too.
    let others: BTreeSet<HostName> = prepared.learn(site, state, &looks)?.into_iter().collect();
    let asked = |host: &&HostHoldings| {
        others.contains(&host.host) && looks.get(&host.host).is_some_and(Result::is_ok)
    };
    let again: Vec<&HostHoldings> = prepared.holdings.hosts.iter().filter(asked).collect();
    if !again.is_empty() {
        looks.extend(look_at(&again, reach, depth, || {}).await);
    }
    if may_ask(prepared, &looks) && reach.wants_access() {
        let access = access.unwrap_or_else(|| api_access(site, state, &prepared.ledger))?;
        reach.set_api_access(access);
    }
    let api = ask(reach, prepared, &looks).await;
    let is = |host: &&HostName| prepared.holdings.host(host).is_some();
    let were = looks.keys().filter(|host| !is(host)).cloned().collect();
    Ok(Sighting { looks, api, met, also: Vec::new(), were })
}

/// Asks the API what there is to know of it, if there may be one.
pub async fn ask(reach: &dyn Reach, prepared: &Prepared, looks: &Looks) -> ApiLook {
    match may_ask(prepared, looks) {
        true => reach.ask(&prepared.objects, &prepared.shelf).await,
        false => ApiLook::Absent,
    }
}

/// What there is to know without changing anything, here or on hosts.
pub struct Ahead {
    pub sums: ComponentSums,
    pub prepared: Prepared,
    pub sighting: Sighting,
}

/// Goes to hosts over SSH, looks at them, and does `work` there before the connections end. Certificates that are due
/// are issued in an overlay and forgotten.
pub async fn visit<T>(
    site: &Site,
    (parts, depth, generation): (&[Part], Depth, u64),
    work: impl AsyncFnOnce(&mut Hosts, &mut Prepared, &mut State, &mut Sighting) -> Result<T, Failure>,
) -> Result<(Prepared, Sighting, T), Failure> {
    let mut state = site.scratch()?;
    let mut prepared = prepare(site, &mut state, parts)?;
    let mut reach = hosts(site, &prepared.departed, generation)?;
    let done = async {
        let how = (depth, &[][..]);
        let mut sighting = sighting(site, &mut state, &mut reach, &mut prepared, how).await?;
        let done = work(&mut reach, &mut prepared, &mut state, &mut sighting).await?;
        Ok::<_, Failure>((sighting, done))
    };
    let done = done.await;
    reach.close().await;
    let (sighting, done) = done?;
    Ok((prepared, sighting, done))
}

/// Looks ahead over SSH. `further` asks what else is to be known.
pub async fn look_ahead<T>(
    site: &Site,
    (parts, deep): (&[Part], bool),
    further: impl AsyncFnOnce(&Hosts, &mut Prepared, &mut State, &mut Sighting) -> T,
) -> Result<(Ahead, T), Failure> {
    let sums = site.sums_if_any()?;
    let depth = if deep { Depth::Deep } else { Depth::Quick };
    let how = (parts, depth, 0);
    let further = async |reach: &mut Hosts,
                         prepared: &mut Prepared,
                         state: &mut State,
                         sighting: &mut Sighting| {
        Ok(further(reach, prepared, state, sighting).await)
    };
    let (prepared, sighting, further) = visit(site, how, further).await?;
    Ok((Ahead { sums, prepared, sighting }, further))
}

/// Says which hosts are no longer in the cluster file.
pub fn tell_departed(prepared: &Prepared) {
    for (host, met) in &prepared.departed {
        view::note(&view::departed(host, met.address));
    }
}

/// The run's own certificate for the API.
pub fn api_access(site: &Site, state: &mut State, ledger: &Ledger) -> Result<Access, Failure> {
    let strongbox = site.strongbox()?;
    let (entry, key) =
        trust::for_this_run(state, strongbox, &site.cluster, Profile::RunApi, &FreshKeys, now())?;
    let authority = ledger.bundle(AuthorityKind::Cluster).unwrap_or_default();
    let registry_login = site.own_secrets()?.registry_login.clone();
    Ok(Access { authority, certificate: entry.pem, key, registry_login })
}

/// Holds the machines that answered against those met before (rule S4). Returns the pins of hosts met
/// for the first time, or accepted anew.
pub fn meet(
    state: &State,
    looks: &Looks,
    accept: &[HostName],
) -> Result<Vec<(HostName, MachinePin)>, Failure> {
    let known = state.pins()?;
    let mut fresh = Vec::new();
    let mut refusals: Vec<Refusal> = Vec::new();
    let mut seen: BTreeMap<&str, &HostName> = BTreeMap::new();
    for (host, look) in looks {
        let Ok(observed) = look else { continue };
        if let Some(other) = seen.insert(&observed.machine, host) {
            refusals.push(Refusal {
                rule: Rule::SameMachine,
                host: Some(host.clone()),
                found: format!(
                    "it has the machine id of {other}: one machine behind two names, or a clone"
                ),
                mend: zoisite_core::login::clone_mend(host),
            });
        }
        match known.get(host.as_str()) {
            Some(pin) if !accept.contains(host) => {
                if let Err(refusal) = same_machine(host, pin, observed) {
                    refusals.push(refusal);
                }
            }
            Some(pin) if *pin == MachinePin::of(observed) => {}
            _ => fresh.push((host.clone(), MachinePin::of(observed))),
        }
    }
    if refusals.is_empty() { Ok(fresh) } else { Err(refusals.into()) }
}

/// The run's own certificate for etcd, when the sequence has a gate.
pub fn access(
    site: &Site,
    state: &mut State,
    ledger: &Ledger,
    sequence: &Sequence,
) -> Result<Option<Access>, Failure> {
    let quorum = |work: &Work| {
        let gate = matches!(work, Work::Gate(Gate { condition: Condition::Quorum { .. }, .. }));
        gate || matches!(work, Work::Member { .. } | Work::Save { .. })
    };
    if !sequence.steps.iter().any(|step| quorum(&step.work)) {
        return Ok(None);
    }
    etcd_access(site, state, ledger).map(Some)
}

/// The run's own certificate for etcd.
pub fn etcd_access(site: &Site, state: &mut State, ledger: &Ledger) -> Result<Access, Failure> {
    let strongbox = site.strongbox()?;
    let (entry, key) =
        trust::for_this_run(state, strongbox, &site.cluster, Profile::RunEtcd, &FreshKeys, now())?;
    let authority = ledger.bundle(AuthorityKind::EtcdClient).unwrap_or_default();
    Ok(Access { authority, certificate: entry.pem, key, registry_login: None })
}

/// Carries a sequence out under a watch. The engine tells afterwards how it went. `journal` may end the run:
/// what runs is waited for, nothing new is begun. The second time that a person asks to stop, nothing is.
pub async fn carry_out(
    reach: &dyn Reach,
    sequence: Sequence,
    (told, may_fail): (Told, usize),
    interrupts: &Interrupts,
    mut journal: impl FnMut(&zoisite_reach::RunEvent, &Engine) -> ControlFlow<()> + Send,
) -> Engine {
    let mut engine = Engine::new(sequence, PARALLEL).with_budget(may_fail);
    let mut watch = view::run::Watch::fitting(&engine, told);
    let broken = tokio::sync::Notify::new();
    let interrupt = async {
        tokio::select! {
            () = interrupts.asked(1) => {}
            () = broken.notified() => {}
        }
    };
    let stop = interrupts.asked(2);
    zoisite_reach::run(&mut engine, reach, (interrupt, stop), &mut |event, engine| {
        watch.event(event, engine);
        if journal(event, engine).is_break() {
            broken.notify_one();
        }
    })
    .await;
    watch.end(&engine);
    engine
}
