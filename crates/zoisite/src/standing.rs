//! What stands: the quorum, each control plane, load balancers, the API endpoint, nodes, and what differs.

use std::collections::BTreeMap;
use std::net::IpAddr;

use jiff::Timestamp;
use serde::Serialize;
use zoisite_core::aim::is_of;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::{HostHoldings, Part};
use zoisite_core::item::ComponentSums;
use zoisite_core::pki::{Ledger, LedgerEntry, Profile};
use zoisite_core::script::{EtcdMember, EtcdStatus, Identity, Pace};
use zoisite_core::sequence::{
    ApiLook, Condition, Difference, Gate, Look, Looks, NodeFacts, differences, listed_members,
    voters,
};
use zoisite_core::snapshot::{taken_at, too_old};
use zoisite_reach::{Hosts, Reach};
use zoisite_store::State;
use zoisite_store::join_files::Carried;

use crate::failure::Failure;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, now};

/// What looking at hosts and asking the API gave.
pub struct Seen<'a> {
    pub looks: &'a Looks,
    pub api: &'a ApiLook,
    /// API servers and the API endpoint, asked one by one; empty when no API server runs.
    pub asked: &'a Asked,
}

/// What each of the API servers, and the API endpoint, answered when it was asked whether it is ready.
pub type Asked = BTreeMap<String, Result<(), String>>;

/// The name under which the API endpoint stands in [`Asked`].
const STABLE: &str = "the API endpoint";

/// What stands now, on hosts that a visit looked at.
///
/// # Errors
/// When a machine is another one than before (rule S4), or etcd's own answers cannot be asked for.
pub async fn as_it_stands(
    site: &Site,
    state: &mut State,
    (reach, prepared, sighting): (&mut Hosts, &Prepared, &mut Sighting),
) -> Result<Standing, Failure> {
    sighting.met()?;
    reach.set_access(road::etcd_access(site, state, &prepared.ledger)?);
    let asked = ask_each(site, reach, prepared, &sighting.looks).await;
    let seen = Seen { looks: &sighting.looks, api: &sighting.api, asked: &asked };
    let sums = site.sums_if_any()?;
    Ok(standing(site, (prepared, &prepared.ledger), &seen, &sums))
}

/// Asks each API server, and the API endpoint, whether it is ready; empty where no API server runs.
pub async fn ask_each(site: &Site, reach: &dyn Reach, prepared: &Prepared, looks: &Looks) -> Asked {
    let mut asked = Asked::new();
    if !road::may_ask(prepared, looks) {
        return asked;
    }
    let mut conditions: Vec<(String, Condition)> = Vec::new();
    for host in &site.cluster.control_plane.hosts {
        if looks.get(host).is_some_and(Result::is_ok) {
            conditions.push((host.to_string(), Condition::Api { host: host.clone() }));
        }
    }
    for host in &site.cluster.load_balancers.hosts {
        let looked = looks.get(host).is_some_and(Result::is_ok);
        if looked && prepared.holdings.host(host).is_some_and(|held| held.has(Part::LoadBalancer)) {
            let condition = Condition::Stable { from: host.clone(), load_balancer: true };
            conditions.push((load_balancer_of(host), condition));
        }
    }
    let registry = site.cluster.registry.host.iter().filter(|_| prepared.has(Part::Registry));
    for host in registry.filter(|host| looks.get(*host).is_some_and(Result::is_ok)) {
        conditions.push((registry_of(host), Condition::Registry { host: host.clone() }));
    }
    // The API endpoint is dialled from a host of the cluster: its name is the site's.
    let from = prepared.nodes.iter().find(|node| looks.get(&node.host).is_some_and(Result::is_ok));
    if let Some(node) = from {
        let condition = Condition::Stable { from: node.host.clone(), load_balancer: false };
        conditions.push((STABLE.into(), condition));
    }
    let asking = conditions.into_iter().map(|(name, condition)| async move {
        let gate = Gate { condition, seconds: 0 };
        let proven = reach.prove(&gate, &|_| {}).await.ended();
        (name, proven.map_err(|trouble| trouble.answer))
    });
    asked.extend(futures_util::future::join_all(asking).await);
    asked
}

/// The name under which a load balancer stands in [`Asked`].
fn load_balancer_of(host: &HostName) -> String {
    format!("the load balancer on {host}")
}

/// The name under which the registry stands in [`Asked`].
fn registry_of(host: &HostName) -> String {
    format!("the registry on {host}")
}

/// The virtual IP, as `status` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct VirtualIpStatus {
    pub address: IpAddr,
    /// Who has it: one, where all is well.
    pub held_by: Vec<HostName>,
    /// Since when, where one has it.
    pub since: Option<Timestamp>,
    /// Who else could serve there.
    pub others: Vec<HostName>,
    pub holders: Vec<ServiceStatus>,
}

impl VirtualIpStatus {
    fn of(prepared: &Prepared, seen: &Seen, holders: Vec<ServiceStatus>) -> Option<Self> {
        let all = &prepared.holdings.hosts;
        let address = all.iter().find_map(|host| host.address)?;
        let mut out =
            Self { address, held_by: Vec::new(), since: None, others: Vec::new(), holders };
        for holder in &mut out.holders {
            let look = seen.looks.get(&holder.host).and_then(|look| look.as_ref().ok());
            let Some(facts) = look.and_then(|look| look.address.as_ref()) else { continue };
            if facts.held {
                out.held_by.push(holder.host.clone());
                out.since = Timestamp::from_second(facts.since).ok().filter(|_| facts.since > 0);
            } else if facts.serves {
                out.others.push(holder.host.clone());
            }
            if holder.state == "ready" && !facts.serves {
                holder.state = "not ready";
                holder.why = Some(match facts.away {
                    true => {
                        "it still leaves the virtual IP to other hosts: a run that took it out was cut off"
                            .into()
                    }
                    false => "it could not serve at the virtual IP".into(),
                });
            }
        }
        Some(out)
    }
}

/// One member, as `status` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct MemberStatus {
    pub host: HostName,
    /// `healthy`, `off`, `unreachable`, `not running`, `not answering`, `without a leader`.
    pub state: &'static str,
    pub leader: bool,
    /// Whether it has no vote.
    pub learner: bool,
    /// What came back instead of an answer.
    pub why: Option<String>,
    pub status: Option<EtcdStatus>,
    /// How fast its disk is.
    pub pace: Option<Pace>,
    /// End of the certificate that ends first.
    pub certificates_end: Option<Timestamp>,
    pub differences: Vec<Difference>,
}

/// The quorum, as `status` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct QuorumStatus {
    pub cluster: String,
    pub healthy: usize,
    pub members_wanted: usize,
    /// Members that vote, by etcd's own list where it is known.
    pub voters: usize,
    pub quorum: usize,
    /// Whether the healthy members carry reading and writing.
    pub serves: bool,
    /// Whether all answers agree on the cluster id.
    pub agree: bool,
    pub leader: Option<HostName>,
    pub members: Vec<MemberStatus>,
    /// Members of the quorum's own list that the file does not name.
    pub unnamed: Vec<EtcdMember>,
}

/// Puts together what the hosts showed of etcd.
fn quorum_status(
    site: &Site,
    prepared: &Prepared,
    looks: &Looks,
    differing: &Differing<'_>,
) -> QuorumStatus {
    let current = prepared.ledger.current();
    let mut members = Vec::new();
    let listed = listed_members(looks, prepared.begun.as_ref());
    let urls = &prepared.aim.etcd.members;
    let learns = |host: &HostName| {
        let url = urls.get(host).cloned().unwrap_or_default();
        let is = |m: &&EtcdMember| is_of(&m.name, &m.peer_urls, host, &url);
        listed.unwrap_or_default().iter().find(is).is_some_and(|member| member.learner)
    };
    for host in &prepared.holdings.hosts {
        let Some(paths) = &host.etcd else { continue };
        let certificates_end = current
            .iter()
            .filter(|((_, holder), _)| *holder == host.host)
            .map(|(_, entry)| entry.not_after)
            .min();
        let mut member = MemberStatus {
            host: host.host.clone(),
            state: "unreachable",
            leader: false,
            learner: learns(&host.host),
            why: None,
            status: None,
            pace: None,
            certificates_end,
            differences: Vec::new(),
        };
        match looks.get(&host.host) {
            Some(Ok(observed)) => {
                let active = observed.found.units.get(paths.unit).map(|unit| unit.active.as_str());
                member.differences = of_part(host, differing, Part::Etcd);
                member.state = match (&observed.etcd.status, active) {
                    (Some(status), _) if status.has_leader() => "healthy",
                    (Some(_), _) => "without a leader",
                    (None, Some("active" | "activating")) => "not answering",
                    (None, _) => "not running",
                };
                member.why.clone_from(&observed.etcd.silent);
                member.pace = observed.etcd.pace;
                member.leader =
                    observed.etcd.status.as_ref().is_some_and(|status| {
                        status.has_leader() && status.leader == status.member_id
                    });
                member.status.clone_from(&observed.etcd.status);
            }
            Some(Err(trouble)) => member.why = Some(trouble.answer.clone()),
            None => {}
        }
        members.push(member);
    }
    let votes = |member: &&MemberStatus| member.state == "healthy" && !member.learner;
    let healthy = members.iter().filter(votes).count();
    let wanted = site.cluster.etcd.members.len();
    // Members that the file does not name vote too.
    let voters = voters(listed, &site.cluster);
    let named = |member: &EtcdMember| {
        site.cluster.etcd.members.iter().any(|host| host.as_str() == member.name)
    };
    let listed = listed.unwrap_or_default();
    let unnamed: Vec<EtcdMember> = listed.iter().filter(|member| !named(member)).cloned().collect();
    let ids: std::collections::BTreeSet<&str> =
        members.iter().filter_map(|m| m.status.as_ref()).map(|s| s.cluster_id.as_str()).collect();
    QuorumStatus {
        cluster: site.cluster.name.to_string(),
        healthy,
        members_wanted: wanted,
        voters,
        quorum: voters / 2 + 1,
        serves: healthy > voters / 2,
        agree: ids.len() <= 1,
        leader: members.iter().find(|member| member.leader).map(|member| member.host.clone()),
        members,
        unnamed,
    }
}

/// A host that serves one part of the cluster, as `status` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct ServiceStatus {
    pub host: HostName,
    /// `ready`, `not ready`, `not running`, `unreachable`.
    pub state: &'static str,
    /// What came back instead of an answer.
    pub why: Option<String>,
    /// Units, with systemd's word for each.
    pub units: BTreeMap<&'static str, String>,
    pub differences: Vec<Difference>,
}

/// A node, as `status` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct NodeStatus {
    pub host: HostName,
    /// `Ready`, `not Ready`, `not joined`, `unknown`.
    pub state: &'static str,
    pub why: Option<String>,
    /// Whether the host itself could be looked at; an offline one need not be.
    pub looked: bool,
    /// Whether it is offline.
    pub offline: bool,
    /// What was carried to such a host, and what came back.
    pub carried: Option<Carried>,
    pub facts: Option<NodeFacts>,
    /// End of the certificate with which its kubelet shows who it is: as the host has it, else as it was
    /// issued last.
    pub certificate_end: Option<Timestamp>,
    /// `absent`, `valid`, `ends soon` (its kubelet should have renewed it by now), `ended`.
    pub certificate: &'static str,
    pub differences: Vec<Difference>,
}

/// Everything that `status` shows.
#[derive(Clone, Debug, Serialize)]
pub struct Standing {
    #[serde(flatten)]
    pub quorum: QuorumStatus,
    pub control_planes: Vec<ServiceStatus>,
    pub load_balancers: Vec<ServiceStatus>,
    pub virtual_ip: Option<VirtualIpStatus>,
    /// The cluster's own registry.
    pub registries: Vec<ServiceStatus>,
    /// Hosts that give out metrics to the site's monitoring.
    pub monitors: Vec<ServiceStatus>,
    /// Where hosts connect to one another through a mesh: whether each is in it.
    pub meshed: Vec<ServiceStatus>,
    /// What came back from the API endpoint; `None` when it was not asked.
    pub stable: Option<Result<(), String>>,
    pub nodes: Vec<NodeStatus>,
    /// Objects of the cluster that are not as wanted, and workloads that do not run as wanted.
    pub objects: Vec<String>,
    /// Why the API could not be asked.
    pub api_silent: Option<String>,
    /// Hosts that were met and are no longer in the cluster file: they run on, and nothing is done with them.
    pub departed: BTreeMap<HostName, IpAddr>,
    /// The newest snapshot that was tried and found good: its name, and when it was taken.
    pub snapshot: Option<(String, Timestamp)>,
    /// The newest one that a member saved by itself on its host: which host, and when.
    pub saved_there: Option<(HostName, Timestamp)>,
    /// What the file wants of the members and waits, what their databases need, and what would fix that.
    pub waits: Vec<(String, String)>,
    /// What did not answer in time on hosts that did.
    pub hanging: BTreeMap<HostName, Vec<String>>,
    /// Hosts that could not be looked at, by what to do about it.
    pub fixes: BTreeMap<String, Vec<HostName>>,
}

impl Standing {
    /// Whether all is as wanted.
    pub fn well(&self) -> bool {
        let soon = self.nodes.iter().any(|node| node.certificate == "ends soon");
        // One that was carried nothing yet is nobody's trouble.
        let stands = |node: &NodeStatus| {
            let told = node.carried.as_ref().and_then(Carried::fault);
            node.state != "not Ready" && told.is_none()
        };
        let away = self.nodes.iter().filter(|node| node.offline).all(stands);
        let as_the_file = away && self.waits.is_empty() && self.quorum.unnamed.is_empty();
        !soon && as_the_file && self.ailing(&|_| false).is_empty()
    }

    /// Everything that is not as wanted, a few words each; but for what is said elsewhere of hosts that
    /// are `away`.
    pub fn ailing(&self, away: &dyn Fn(&HostName) -> bool) -> Vec<String> {
        let mut out = Vec::new();
        let quorum = &self.quorum;
        for member in quorum.members.iter().filter(|m| m.state != "healthy" && !away(&m.host)) {
            if quorum.members_wanted > 0 {
                out.push(format!("{}: the etcd member is {}", member.host, member.state));
            }
        }
        if !quorum.agree {
            out.push("members do not agree on which cluster they form".into());
        }
        for service in self.services().filter(|s| s.state != "ready" && !away(&s.host)) {
            let why = service.why.as_ref().map_or(String::new(), |why| format!(" ({why})"));
            out.push(format!("{}: it is {}{why}", service.host, service.state));
        }
        // The API calls a silent node Ready for a while: the host itself must answer too.
        // No run waits for an offline host.
        let dialled = self.nodes.iter().filter(|node| !node.offline);
        for node in dialled.filter(|n| !away(&n.host)) {
            let why = node.why.as_ref().map_or(String::new(), |why| format!(" ({why})"));
            match (node.state, node.looked) {
                ("Ready", true) if node.certificate == "ended" => {
                    out.push(format!("{}: its kubelet's certificate has ended", node.host));
                }
                ("Ready", true) => {}
                ("Ready", false) => out.push(format!("{}: it does not answer", node.host)),
                (state, _) => out.push(format!("{}: the node is {state}{why}", node.host)),
            }
        }
        if let Some(virtual_ip) = &self.virtual_ip {
            let (address, held) = (virtual_ip.address, &virtual_ip.held_by);
            match held.as_slice() {
                [_] => {}
                [] => out.push(format!("no host holds the virtual IP {address}")),
                _ => {
                    let who: Vec<&str> = held.iter().map(HostName::as_str).collect();
                    out.push(format!(
                        "{} all hold {address}: they do not hear one another (VRRP, IP protocol 112)",
                        who.join(" and ")
                    ));
                }
            }
        }
        if let Some(Err(why)) = &self.stable {
            out.push(format!("the API endpoint does not answer ({why})"));
        }
        if let Some(why) = &self.api_silent {
            out.push(format!("the API does not answer ({why})"));
        }
        out.extend(self.objects.iter().cloned());
        for (host, what) in &self.hanging {
            out.extend(what.iter().map(|what| format!("{host}: {what}")));
        }
        let differing = self.differences().filter(|d| !away(&d.host));
        out.extend(differing.map(|d| format!("{}: {d}", d.host)));
        out
    }

    /// Every host that serves a part.
    pub fn services(&self) -> impl Iterator<Item = &ServiceStatus> {
        let holders = self.virtual_ip.iter().flat_map(|virtual_ip| &virtual_ip.holders);
        self.control_planes
            .iter()
            .chain(&self.load_balancers)
            .chain(holders)
            .chain(&self.registries)
            .chain(&self.monitors)
            .chain(&self.meshed)
    }

    /// Everything that differs on hosts.
    pub fn differences(&self) -> impl Iterator<Item = &Difference> {
        let quorum = self.quorum.members.iter().flat_map(|member| &member.differences);
        let services = self.services().flat_map(|service| &service.differences);
        quorum.chain(services).chain(self.nodes.iter().flat_map(|node| &node.differences))
    }
}

/// What differs on each host that could be looked at.
type Differing<'a> = BTreeMap<&'a HostName, Vec<Difference>>;

fn of_part(host: &HostHoldings, differing: &Differing<'_>, part: Part) -> Vec<Difference> {
    let all = differing.get(&host.host).into_iter().flatten();
    all.filter(|difference| host.part_of(difference.item) == part).cloned().collect()
}

/// Puts together what was seen.
pub fn standing(
    site: &Site,
    (prepared, ledger): (&Prepared, &Ledger),
    seen: &Seen,
    sums: &ComponentSums,
) -> Standing {
    let looked = prepared
        .holdings
        .hosts
        .iter()
        .filter_map(|host| Some((host, seen.looks.get(&host.host)?.as_ref().ok()?)));
    let differing: Differing<'_> =
        looked.map(|(host, observed)| (&host.host, differences(host, observed, sums))).collect();
    let mut quorum = quorum_status(site, prepared, seen.looks, &differing);
    if !prepared.has(Part::Etcd) {
        quorum.members_wanted = 0;
    }
    let services = |part| services(prepared, seen, &differing, part);
    let mut objects: Vec<String> = Vec::new();
    if let Some(api) = seen.api.answered() {
        objects.extend(api.differing.iter().map(|title| format!("{title} is not as wanted")));
        let unknown = api.uncompared.iter();
        objects
            .extend(unknown.map(|(title, why)| format!("{title} could not be compared ({why})")));
        objects.extend(api.waiting.values().cloned());
        objects.extend(api.lacking.iter().map(|image| format!("the registry lacks {image}")));
    }
    let mut fixes: BTreeMap<String, Vec<HostName>> = BTreeMap::new();
    let mut hanging = BTreeMap::new();
    for (host, look) in seen.looks {
        match look {
            // One that was a member once and is nothing else by now is nobody's trouble.
            Err(_) if prepared.holdings.host(host).is_none() => {}
            Err(trouble) => {
                fixes.entry(trouble.fix.clone()).or_default().push(host.clone());
            }
            Ok(observed) if !observed.hangs.is_empty() => {
                hanging.insert(host.clone(), observed.hangs.clone());
            }
            Ok(_) => {}
        }
    }
    let held = prepared.aim.held.iter().map(|held| (held.to_string(), held.fix.clone()));
    let restoring = prepared.begun.as_ref().and_then(|begun| begun.restoring.as_ref());
    let restoring = restoring.map(|from| {
        let what = format!("snapshot {} is being put back, and that is not done", from.snapshot);
        (what, "zoisite raise, at a terminal or with --yes, goes on with it".to_owned())
    });
    let replaced = prepared.at_rest.as_ref().map(|_| {
        let what = "the key for secrets in etcd is being replaced, and that is not done";
        (
            what.to_owned(),
            "zoisite raise goes on with it; zoisite encryption shows how far it is".to_owned(),
        )
    });
    let trust = ledger.stage().or(prepared.tokens_turn.stage()).map(|stage| {
        let what = format!("{} is being replaced, and that stage is not done", stage.what());
        (what, "zoisite raise goes on with it; zoisite pki list shows how far it is".to_owned())
    });
    // A record that cannot be read is reported by `zoisite snapshot`, which is about nothing else.
    let saved = site.snapshots().list().unwrap_or_default();
    let old = too_old(&saved, &site.cluster.snapshots, now());
    let databases = seen.looks.iter().flat_map(|(host, look)| {
        let status = look.as_ref().ok().and_then(|look| look.etcd.status.as_ref());
        let needs = status.map(EtcdStatus::needs_upkeep).unwrap_or_default();
        needs.into_iter().map(move |(what, fix)| (format!("{host}: {what}"), fix.to_owned()))
    });
    let good = saved.iter().rev().find(|one| one.is_good());
    let looked = || seen.looks.iter().filter_map(|(host, look)| Some((host, look.as_ref().ok()?)));
    let saved_there = looked()
        .filter_map(|(host, seen)| Some((host.clone(), taken_at(seen.etcd.saved.as_deref()?)?)))
        .max_by_key(|(_, at)| *at);
    let unsaved = looked().filter_map(|(host, seen)| {
        let what = format!("{host} could not save its member: {}", seen.etcd.unsaved.as_deref()?);
        let fix = format!("on {host}: journalctl -u zoisite-snapshot tells more");
        Some((what, fix))
    });
    let stale = saved_there.as_ref().and_then(|(host, at)| {
        let most = 2 * site.cluster.snapshots.on_members? + 3_600;
        let what = format!(
            "the newest snapshot that a member saved by itself is of {}, on {host}",
            at.strftime("%Y-%m-%d %H:%M")
        );
        let old = now().duration_since(*at).as_secs() > most;
        old.then(|| (what, format!("on {host}: systemctl list-timers zoisite-snapshot.timer")))
    });
    Standing {
        waits: restoring
            .into_iter()
            .chain(replaced)
            .chain(trust)
            .chain(held)
            .chain(databases)
            .chain(old.map(|old| (old, "zoisite snapshot take --try".into())))
            .chain(unsaved)
            .chain(stale)
            .collect(),
        snapshot: good.map(|one| (one.name.clone(), one.at)),
        saved_there,
        hanging,
        fixes,
        quorum,
        control_planes: services(Part::ControlPlane),
        load_balancers: services(Part::LoadBalancer),
        registries: services(Part::Registry),
        monitors: services(Part::Monitoring),
        meshed: services(Part::Mesh),
        virtual_ip: VirtualIpStatus::of(prepared, seen, services(Part::Address)),
        stable: seen.asked.get(STABLE).cloned(),
        nodes: nodes((prepared, ledger), seen, &differing, now()),
        objects,
        api_silent: match &seen.api {
            ApiLook::Silent(trouble) => Some(trouble.answer.clone()),
            ApiLook::Absent | ApiLook::Answered(_) => None,
        },
        departed: prepared.departed.iter().map(|(host, met)| (host.clone(), met.address)).collect(),
    }
}

fn services(
    prepared: &Prepared,
    seen: &Seen,
    differing: &Differing<'_>,
    part: Part,
) -> Vec<ServiceStatus> {
    let hosts = prepared.holdings.hosts.iter().filter(|host| host.has(part));
    hosts
        .map(|host| {
            let mut out = ServiceStatus {
                host: host.host.clone(),
                state: "unreachable",
                why: None,
                units: BTreeMap::new(),
                differences: Vec::new(),
            };
            match seen.looks.get(&host.host) {
                Some(Ok(observed)) => {
                    out.differences = of_part(host, differing, part);
                    for unit in host.units_of(part) {
                        let active = observed.found.units.get(unit.name).map(|u| u.active.clone());
                        out.units.insert(unit.name, active.unwrap_or_else(|| "absent".into()));
                    }
                    let runs = out.units.values().all(|state| state == "active");
                    let asked = match part {
                        Part::ControlPlane => seen.asked.get(host.host.as_str()),
                        Part::LoadBalancer => seen.asked.get(&load_balancer_of(&host.host)),
                        Part::Registry => seen.asked.get(&registry_of(&host.host)),
                        _ => None,
                    };
                    out.state = match (runs, asked) {
                        (false, _) => "not running",
                        (true, Some(Err(_))) => "not ready",
                        (true, _) => "ready",
                    };
                    out.why = asked.and_then(|asked| asked.clone().err()).filter(|_| runs);
                }
                Some(Err(trouble)) => out.why = Some(trouble.answer.clone()),
                None => {}
            }
            out
        })
        .collect()
}

fn nodes(
    (prepared, ledger): (&Prepared, &Ledger),
    seen: &Seen,
    differing: &Differing<'_>,
    now: Timestamp,
) -> Vec<NodeStatus> {
    let current = ledger.current();
    prepared
        .nodes
        .iter()
        .map(|wanted| {
            let host = &wanted.host;
            let look = seen.looks.get(host);
            let answered = seen.api.answered();
            let facts = answered.and_then(|api| api.nodes.get(host.as_str())).cloned();
            let state = match (&facts, answered) {
                (Some(facts), _) if facts.ready => "Ready",
                (Some(_), _) => "not Ready",
                (None, Some(_)) => "not joined",
                (None, None) => "unknown",
            };
            let unreachable = look.and_then(|look| look.as_ref().err()).map(|t| t.answer.clone());
            let why = facts.as_ref().filter(|facts| !facts.ready).map(|facts| facts.why.clone());
            let holdings = prepared.holdings.host(host);
            let differences = holdings.map(|host| of_part(host, differing, Part::Nodes));

            let issued = current.get(&(Profile::KubeletClient, host.clone())).copied();
            let (certificate, certificate_end) = certificate(issued, look, now);
            let away = prepared.cluster.is_offline(host);
            let carried = prepared.carried.get(host);
            let told = || carried.and_then(Carried::fault);
            NodeStatus {
                host: host.clone(),
                state,
                why: unreachable.or(why).or_else(told),
                looked: away || look.is_some_and(Result::is_ok),
                offline: away,
                carried: carried.filter(|_| away).cloned(),
                facts,
                certificate_end,
                certificate,
                differences: differences.unwrap_or_default(),
            }
        })
        .collect()
}

/// How a node's certificate stands, and its end. Kubelets renew theirs before a tenth of its life is left.
fn certificate(
    issued: Option<&LedgerEntry>,
    look: Option<&Look>,
    now: Timestamp,
) -> (&'static str, Option<Timestamp>) {
    let end = match look.and_then(|look| look.as_ref().ok()).map(|seen| seen.identity) {
        Some(Identity::Until(end)) => Some(end),
        Some(Identity::Absent | Identity::Unreadable) => None,
        None => issued.map(|entry| entry.not_after),
    };
    let Some(end) = end else { return ("absent", None) };
    let tenth = issued.map_or(0, |e| (e.not_after.as_second() - e.not_before.as_second()) / 10);
    let state = match end.as_second() - now.as_second() {
        ..=0 => "ended",
        left if left < tenth => "ends soon",
        _ => "valid",
    };
    (state, Some(end))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn host(name: &str) -> HostName {
        HostName::new(name).unwrap_or_else(|why| panic!("{why}"))
    }

    fn node(name: &str, state: &'static str, looked: bool) -> NodeStatus {
        NodeStatus {
            host: host(name),
            state,
            why: (state != "Ready").then(|| "CSINode is not yet initialized".into()),
            looked,
            offline: false,
            carried: None,
            facts: None,
            certificate_end: None,
            certificate: "valid",
            differences: Vec::new(),
        }
    }

    fn standing(nodes: Vec<NodeStatus>) -> Standing {
        let quorum = QuorumStatus {
            cluster: "saltmarsh".into(),
            healthy: 0,
            members_wanted: 0,
            voters: 0,
            quorum: 1,
            serves: false,
            agree: true,
            leader: None,
            members: Vec::new(),
            unnamed: Vec::new(),
        };
        Standing {
            quorum,
            control_planes: Vec::new(),
            virtual_ip: None,
            registries: Vec::new(),
            monitors: Vec::new(),
            meshed: Vec::new(),
            load_balancers: Vec::new(),
            stable: None,
            nodes,
            objects: Vec::new(),
            api_silent: None,
            waits: Vec::new(),
            snapshot: None,
            saved_there: None,
            hanging: BTreeMap::new(),
            fixes: BTreeMap::new(),
            departed: BTreeMap::new(),
        }
    }

    #[test]
    fn whatever_is_not_well_is_named_and_hosts_that_are_away_are_told_elsewhere() {
        let well = standing(vec![node("tern-1", "Ready", true)]);
        assert!(well.well());
        let ailing = standing(vec![
            node("tern-1", "not Ready", true),
            node("tern-2", "Ready", false),
            node("tern-3", "not joined", true),
        ]);
        assert!(!ailing.well());
        let texts = ailing.ailing(&|name| name.as_str() == "tern-3");
        assert_eq!(texts.len(), 2, "{texts:?}");
        assert!(texts[0].contains("tern-1: the node is not Ready (CSINode"), "{texts:?}");
        assert!(texts[1].contains("tern-2: it does not answer"), "{texts:?}");
        let mut soon = standing(vec![node("tern-1", "Ready", true)]);
        soon.nodes[0].certificate = "ends soon";
        assert!(
            !soon.well() && soon.ailing(&|_| false).is_empty(),
            "told, and no failure of a run"
        );
        soon.nodes[0].certificate = "ended";
        assert_eq!(soon.ailing(&|_| false), ["tern-1: its kubelet's certificate has ended"]);
        let mut hanging = standing(vec![node("tern-1", "Ready", true)]);
        let tern = hanging.nodes[0].host.clone();
        hanging.hanging.insert(tern, vec!["the runtime does not list its images".into()]);
        assert_eq!(hanging.ailing(&|_| false), ["tern-1: the runtime does not list its images"]);
        let mut unknown = standing(Vec::new());
        unknown
            .objects
            .push("Service kube-system/coredns could not be compared (timed out)".into());
        assert!(!unknown.well());
    }
}
