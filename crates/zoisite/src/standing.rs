//! What stands: the quorum, each control plane, balancers, the stable address, nodes, and what differs.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::Serialize;
use zoisite_core::blueprint::{ComponentSums, HostBlueprint, Part};
use zoisite_core::cluster::HostName;
use zoisite_core::pki::{Ledger, Profile};
use zoisite_core::script::{Depth, EtcdStatus};
use zoisite_core::sequence::{
    ApiLook, Condition, Difference, Gate, Looks, NodeFacts, StepOutcome, differences,
};
use zoisite_fleet::Fleet;

use crate::road::{self, Prepared};
use crate::site::Site;
use crate::view::{self, Style, count, table::table};

/// What looking at hosts and asking the API gave.
pub struct Seen {
    pub looks: Looks,
    pub api: ApiLook,
    /// API servers and the stable address, asked one by one; empty when no API server runs.
    pub asked: BTreeMap<String, Result<(), String>>,
}

/// The name under which the stable address stands in [`Seen::asked`].
const STABLE: &str = "the stable address";

/// Looks at everything. `fleet` can dial the API, if there is one.
pub async fn see(site: &Site, fleet: &dyn Fleet, prepared: &Prepared) -> Seen {
    let looks = road::look(fleet, &prepared.blueprint, Depth::Quick).await;
    see_api(site, fleet, prepared, looks).await
}

/// Asks the API, each of its servers, and the stable address.
pub async fn see_api(site: &Site, fleet: &dyn Fleet, prepared: &Prepared, looks: Looks) -> Seen {
    let mut asked = BTreeMap::new();
    if !road::may_ask(prepared, &looks) {
        return Seen { looks, api: ApiLook::Absent, asked };
    }
    let api = fleet.ask(&prepared.objects).await;
    let mut conditions: Vec<(String, Condition)> = Vec::new();
    for host in &site.cluster.control_plane.hosts {
        if looks.get(host).is_some_and(Result::is_ok) {
            conditions.push((host.to_string(), Condition::Api { host: host.clone() }));
        }
    }
    // The stable address is dialled from a host of the cluster: its name is the site's.
    let from = prepared.nodes.iter().find(|node| looks.get(&node.host).is_some_and(Result::is_ok));
    if let Some(node) = from {
        let condition = Condition::Stable { from: node.host.clone(), balancer: false };
        conditions.push((STABLE.into(), condition));
    }
    let asking = conditions.into_iter().map(|(name, condition)| async move {
        let gate = Gate { condition, seconds: 0 };
        let answer = match fleet.prove(&gate, &|_| {}).await {
            StepOutcome::Failed(trouble) => Err(trouble.answer),
            StepOutcome::Done { .. } | StepOutcome::Proven(_) => Ok(()),
        };
        (name, answer)
    });
    asked.extend(futures_util::future::join_all(asking).await);
    Seen { looks, api, asked }
}

/// One member, as `status` shows it.
#[derive(Clone, Debug, Serialize)]
pub struct MemberStatus {
    pub host: HostName,
    /// `healthy`, `off`, `unreachable`, `not running`, `not answering`, `without a leader`.
    pub state: &'static str,
    pub leader: bool,
    /// What came back instead of an answer.
    pub why: Option<String>,
    pub status: Option<EtcdStatus>,
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
    pub quorum: usize,
    /// Whether the healthy members carry reading and writing.
    pub serves: bool,
    /// Whether all answers agree on the cluster id.
    pub agree: bool,
    pub leader: Option<HostName>,
    pub members: Vec<MemberStatus>,
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
    for host in &prepared.blueprint.hosts {
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
            why: None,
            status: None,
            certificates_end,
            differences: Vec::new(),
        };
        match looks.get(&host.host) {
            Some(Ok(observed)) => {
                let active = observed.units.get(paths.unit).map(|unit| unit.active.as_str());
                member.differences = of_part(host, differing, Part::Etcd);
                member.state = match (&observed.etcd.status, active) {
                    (Some(status), _) if status.has_leader() => "healthy",
                    (Some(_), _) => "without a leader",
                    (None, Some("active" | "activating")) => "not answering",
                    (None, _) => "not running",
                };
                member.why.clone_from(&observed.etcd.silent);
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
    let healthy = members.iter().filter(|member| member.state == "healthy").count();
    let wanted = site.cluster.etcd.members.len();
    let ids: std::collections::BTreeSet<&str> =
        members.iter().filter_map(|m| m.status.as_ref()).map(|s| s.cluster_id.as_str()).collect();
    QuorumStatus {
        cluster: site.cluster.name.to_string(),
        healthy,
        members_wanted: wanted,
        quorum: wanted / 2 + 1,
        serves: healthy > wanted / 2,
        agree: ids.len() <= 1,
        leader: members.iter().find(|member| member.leader).map(|member| member.host.clone()),
        members,
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
    /// Whether the host itself could be looked at.
    pub looked: bool,
    pub facts: Option<NodeFacts>,
    /// End of the certificate with which its kubelet shows who it is.
    pub certificate_end: Option<Timestamp>,
    pub differences: Vec<Difference>,
}

/// Everything that `status` shows.
#[derive(Clone, Debug, Serialize)]
pub struct Standing {
    #[serde(flatten)]
    pub quorum: QuorumStatus,
    pub control_planes: Vec<ServiceStatus>,
    pub balancers: Vec<ServiceStatus>,
    /// What came back from the stable address; `None` when it was not asked.
    pub stable: Option<Result<(), String>>,
    pub nodes: Vec<NodeStatus>,
    /// Objects of the cluster that are not as they must be, and workloads that do not run as wanted.
    pub objects: Vec<String>,
    /// Why the API could not be asked.
    pub api_silent: Option<String>,
}

impl Standing {
    /// Whether all is as it must be.
    pub fn well(&self) -> bool {
        let quorum = &self.quorum;
        quorum.healthy == quorum.members_wanted
            && quorum.agree
            && self.services().all(|service| service.state == "ready")
            // The API calls a silent node Ready for a while: the host itself must answer too.
            && self.nodes.iter().all(|node| node.state == "Ready" && node.looked)
            && self.stable.as_ref().is_none_or(Result::is_ok)
            && self.objects.is_empty()
            && self.api_silent.is_none()
            && self.differences().next().is_none()
    }

    fn services(&self) -> impl Iterator<Item = &ServiceStatus> {
        self.control_planes.iter().chain(&self.balancers)
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

fn of_part(host: &HostBlueprint, differing: &Differing<'_>, part: Part) -> Vec<Difference> {
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
        .blueprint
        .hosts
        .iter()
        .filter_map(|host| Some((host, seen.looks.get(&host.host)?.as_ref().ok()?)));
    let differing: Differing<'_> =
        looked.map(|(host, observed)| (&host.host, differences(host, observed, sums))).collect();
    let mut quorum = quorum_status(site, prepared, &seen.looks, &differing);
    if !prepared.has(Part::Etcd) {
        quorum.members_wanted = 0;
    }
    let services = |part| services(prepared, seen, &differing, part);
    let mut objects: Vec<String> = Vec::new();
    if let Some(api) = seen.api.answered() {
        objects.extend(api.differing.iter().map(|title| format!("{title} is not as it must be")));
        objects.extend(api.waiting.values().cloned());
    }
    Standing {
        quorum,
        control_planes: services(Part::ControlPlane),
        balancers: services(Part::Balancer),
        stable: seen.asked.get(STABLE).cloned(),
        nodes: nodes((prepared, ledger), seen, &differing),
        objects,
        api_silent: match &seen.api {
            ApiLook::Silent(trouble) => Some(trouble.answer.clone()),
            ApiLook::Absent | ApiLook::Answered(_) => None,
        },
    }
}

fn services(
    prepared: &Prepared,
    seen: &Seen,
    differing: &Differing<'_>,
    part: Part,
) -> Vec<ServiceStatus> {
    let hosts = prepared.blueprint.hosts.iter().filter(|host| host.has(part));
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
                        let active = observed.units.get(unit.name).map(|u| u.active.clone());
                        out.units.insert(unit.name, active.unwrap_or_else(|| "absent".into()));
                    }
                    let runs = out.units.values().all(|state| state == "active");
                    let asked =
                        seen.asked.get(host.host.as_str()).filter(|_| part == Part::ControlPlane);
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
            let blueprint = prepared.blueprint.host(host);
            let differences = blueprint.map(|host| of_part(host, differing, Part::Nodes));

            let certificate = current.get(&(Profile::KubeletClient, host.clone()));
            NodeStatus {
                host: host.clone(),
                state,
                why: unreachable.or(why),
                looked: look.is_some_and(Result::is_ok),
                facts,
                certificate_end: certificate.map(|entry| entry.not_after),
                differences: differences.unwrap_or_default(),
            }
        })
        .collect()
}

/// What stands, for a person.
pub fn render(site: &Site, standing: &Standing, now: Timestamp, style: Style) -> String {
    let mut out = format!("{} · ", style.bold(&standing.quorum.cluster));
    if standing.quorum.members_wanted > 0 {
        out.push_str(&render_quorum(&standing.quorum, style));
        out.push('\n');
    }
    if !standing.control_planes.is_empty() {
        out.push_str(&render_control(site, standing, style));
    }
    if !standing.nodes.is_empty() {
        out.push('\n');
        out.push_str(&render_nodes(standing, now, style));
    }
    for text in &standing.objects {
        out.push_str(&format!("\n  {}", style.warn(text)));
    }
    let differences: Vec<&Difference> = standing.differences().collect();
    for difference in differences.iter().take(12) {
        let text = format!("{}: {difference}", difference.host);
        out.push_str(&format!("\n  {}", style.warn(&text)));
    }
    if differences.len() > 12 {
        out.push_str(&format!("\n  and {} more", count(differences.len() - 12, "difference")));
    }
    if !differences.is_empty() {
        out.push_str("\n  zoisite sequence shows what raise would do about it");
    }
    out.push('\n');
    out
}

fn on_host(state: &str, differences: &[Difference]) -> String {
    match differences.len() {
        0 if state == "unreachable" || state == "unknown" => "unknown".into(),
        0 => "as it must be".into(),
        n => count(n, "difference"),
    }
}

fn render_control(site: &Site, standing: &Standing, style: Style) -> String {
    let ready = standing.control_planes.iter().filter(|one| one.state == "ready").count();
    let all = standing.control_planes.len();
    let address = &site.cluster.control_plane.address;
    let head = match (ready, &standing.stable) {
        (0, _) => style.bad("no API server is ready"),
        (_, Some(Err(_))) => style.bad(&format!("{address} does not answer")),
        (n, Some(Ok(()))) if n == all => style.good(&format!("ready at {address}")),
        (_, Some(Ok(()))) => style.warn(&format!("ready at {address}, not all are well")),
        (_, None) => style.warn("the stable address was not asked"),
    };
    let mut out = format!("control plane: {head} ({ready} of {all})\n\n");
    let rows = standing.control_planes.iter().map(|service| ("control plane", service));
    let rows = rows.chain(standing.balancers.iter().map(|service| ("balancer", service)));
    let rows = rows.map(|(what, service)| {
        let ailing: Vec<String> = service
            .units
            .iter()
            .filter(|(_, state)| *state != "active")
            .map(|(unit, state)| format!("{} {state}", short(unit)))
            .collect();
        let units = match (ailing.is_empty(), service.units.is_empty()) {
            (_, true) => "unknown".into(),
            (true, _) => {
                service.units.keys().map(|unit| short(unit)).collect::<Vec<_>>().join(", ")
            }
            (false, _) => ailing.join(", "),
        };
        vec![
            service.host.to_string(),
            what.to_owned(),
            service.state.to_owned(),
            units,
            on_host(service.state, &service.differences),
        ]
    });
    out.push_str(&table(&["host", "serves as", "state", "units", "on the host"], rows));
    if let Some(Err(why)) = &standing.stable {
        out.push_str(&format!("\n  {address}: {}\n", style.dim(why)));
    }
    for service in standing.services() {
        if let Some(why) = &service.why {
            out.push_str(&format!("\n  {}: {}\n", service.host, style.dim(why)));
        }
    }
    out
}

/// `zoisite-api-server.service` as a person says it.
fn short(unit: &str) -> &str {
    let unit = unit.strip_suffix(".service").unwrap_or(unit);
    unit.strip_prefix("zoisite-").unwrap_or(unit)
}

fn render_nodes(standing: &Standing, now: Timestamp, style: Style) -> String {
    let ready = standing.nodes.iter().filter(|node| node.state == "Ready").count();
    let all = standing.nodes.len();
    let head = match &standing.api_silent {
        Some(why) => style.bad(&format!("unknown: {why}")),
        None if standing.nodes.iter().any(|node| !node.looked) => {
            style.warn("not all hosts could be reached")
        }
        None if ready == all => style.good("all Ready"),
        None => style.warn("not all are Ready"),
    };
    let mut out = format!("nodes: {head} ({ready} of {all})\n\n");
    // Of a large cluster, what is well is one line.
    let many = all > 40;
    let shown = standing
        .nodes
        .iter()
        .filter(|node| !many || node.state != "Ready" || !node.differences.is_empty());
    let rows = shown.map(|node| {
        let from = |value: &dyn Fn(&NodeFacts) -> String| {
            node.facts.as_ref().map_or_else(|| "–".to_owned(), value)
        };
        let subnets = |facts: &NodeFacts| {
            facts.subnets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        };
        vec![
            node.host.to_string(),
            node.state.to_owned(),
            from(&|facts| facts.version.clone()),
            from(&|facts| facts.since.parse().map_or("–".into(), |since| age(since, now))),
            from(&subnets),
            node.certificate_end.map_or_else(|| "–".into(), view::day),
            on_host(if node.looked { node.state } else { "unreachable" }, &node.differences),
        ]
    });
    let titles =
        ["node", "state", "kubelet", "age", "pod subnet", "certificate ends", "on the host"];
    out.push_str(&table(&titles, rows));
    if many {
        out.push_str(&format!("  {} more are Ready and as they must be\n", ready));
    }
    let ailing = |node: &&NodeStatus| node.state != "Ready" || !node.looked;
    for node in standing.nodes.iter().filter(ailing).take(12) {
        if let Some(why) = &node.why {
            let short: String = why.chars().take(160).collect();
            out.push_str(&format!("\n  {}: {}\n", node.host, style.dim(&short)));
        }
    }
    out
}

/// `40 s`, `12 min`, `3 h`, `25 d`.
fn age(since: Timestamp, now: Timestamp) -> String {
    match now.as_second() - since.as_second() {
        ..0 => "0 s".into(),
        seconds @ 0..120 => format!("{seconds} s"),
        seconds @ 120..7_200 => format!("{} min", seconds / 60),
        seconds @ 7_200..172_800 => format!("{} h", seconds / 3_600),
        seconds => format!("{} d", seconds / 86_400),
    }
}

fn render_quorum(status: &QuorumStatus, style: Style) -> String {
    let head = match (status.serves, status.healthy == status.members_wanted, status.agree) {
        (_, _, false) => style.bad("members do not agree on which cluster they form"),
        (true, true, _) => style.good("healthy"),
        (true, false, _) => style.warn("reading and writing go on, not all members are well"),
        (false, _, _) => style.bad("no quorum: nothing can be written"),
    };
    let leader =
        status.leader.as_ref().map_or(String::new(), |leader| format!(", led by {leader}"));
    let mut out = format!(
        "etcd quorum: {head} ({} of {}{leader})\n\n",
        status.healthy,
        count(status.members_wanted, "member"),
    );
    let rows = status.members.iter().map(|member| {
        let from = |value: &dyn Fn(&EtcdStatus) -> String| {
            member.status.as_ref().map_or_else(|| "–".to_owned(), value)
        };
        let mut alarms = from(&|s| s.errors.join(", "));
        if alarms.is_empty() {
            alarms = "none".into();
        }
        vec![
            member.host.to_string(),
            if member.leader {
                format!("{}, leads", member.state)
            } else {
                member.state.to_owned()
            },
            from(&|s| s.version.clone()),
            from(&|s| s.revision.to_string()),
            from(&|s| s.raft_index.to_string()),
            from(&|s| view::bytes(s.db_size)),
            alarms,
            member.certificates_end.map_or_else(|| "–".into(), view::day),
            on_host(member.state, &member.differences),
        ]
    });
    out.push_str(&table(
        &[
            "member",
            "state",
            "version",
            "revision",
            "raft index",
            "database",
            "alarms",
            "first end",
            "on the host",
        ],
        rows,
    ));
    for member in &status.members {
        if let Some(why) = &member.why {
            let short: String = why.chars().take(160).collect();
            out.push_str(&format!("\n  {}: {}\n", member.host, style.dim(&short)));
        }
    }
    out
}
