use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use serde::Serialize;

use super::{End, Protocol, Service, demands};
use crate::cluster::{Cluster, Endpoint, Host, HostName};
use crate::script::{holder, wrapped_login};
use crate::text::{plain, quote};

pub(super) const LISTEN: &str = include_str!("listen.sh");
const PROBE: &str = include_str!("probe.sh");

/// For how many seconds ports are served at most, whatever happens to the program that asked for it.
pub const SECONDS: u32 = 90;

/// A path between two hosts that can be tried.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Link {
    /// Who dials.
    pub from: HostName,
    /// Who is dialled.
    pub to: HostName,
    /// What for.
    pub service: Service,
    /// At which address.
    pub address: IpAddr,
    /// At which port: of UDP where it is the mesh's, else of TCP; 0 where it is VRRP, which has none.
    pub port: u16,
    /// Where it is found from outside, where that is another address: in a mesh.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub endpoint: Option<Endpoint>,
    /// Whether it goes through the mesh.
    pub meshed: bool,
}

impl Link {
    /// How it travels.
    pub fn protocol(&self) -> Protocol {
        match self.service {
            Service::Vrrp => Protocol::Vrrp,
            Service::Mesh => Protocol::Udp(self.port),
            _ => Protocol::Tcp(self.port),
        }
    }
}

/// Every pair of hosts that must reach one another on a TCP port, by VRRP, or by the mesh's datagrams.
pub fn links(cluster: &Cluster) -> Vec<Link> {
    let mut out = mesh_links(cluster);
    for demand in demands(cluster) {
        let port = match demand.protocol {
            Protocol::Tcp(port) => port,
            Protocol::Vrrp => 0,
            Protocol::UdpAndTcp(_) | Protocol::Udp(_) | Protocol::All => continue,
        };
        let virtual_ip =
            cluster.load_balancers.virtual_ip.filter(|_| demand.protocol == Protocol::Vrrp);
        for from in demand.from.iter().flat_map(End::hosts) {
            for to in demand.to.hosts().iter().filter(|to| *to != from) {
                let Some(host) = cluster.host(to) else { continue };
                out.insert(Link {
                    from: from.clone(),
                    to: to.clone(),
                    service: demand.service,
                    address: virtual_ip
                        .and_then(|virtual_ip| host.address_beside(virtual_ip))
                        .unwrap_or(host.address),
                    port,
                    endpoint: None,
                    meshed: cluster.meet_in_mesh(from, to),
                });
            }
        }
    }
    out.into_iter().collect()
}

/// From every host to each that has an endpoint: a host without one is answered by the way its packets came.
fn mesh_links(cluster: &Cluster) -> BTreeSet<Link> {
    let Some(mesh) = &cluster.mesh else { return BTreeSet::new() };
    let found = cluster.hosts.iter().filter(|host| host.endpoint.is_some());
    let pairs = found.flat_map(|to| cluster.hosts.iter().map(move |from| (from, to)));
    let link = |(from, to): (&Host, &Host)| Link {
        from: from.name.clone(),
        to: to.name.clone(),
        service: Service::Mesh,
        address: to.address,
        port: mesh.port,
        endpoint: to.endpoint.clone(),
        meshed: false,
    };
    pairs.filter(|(from, to)| cluster.meet_in_mesh(&from.name, &to.name)).map(link).collect()
}

/// Which of many paths are tried.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Sampling {
    /// How many there are.
    pub all: usize,
    /// How many are tried.
    pub tried: usize,
    /// The hosts that stand for the others, where not all are tried.
    pub stand_in: Vec<HostName>,
}

/// Up to so many hosts every path is tried.
const ALL: usize = 40;
/// So many hosts stand for the others then.
const STAND_INS: usize = 12;

/// Leaves out paths of most hosts where there are hundreds: those that carry the cluster are all tried, of the
/// others a few, evenly over the file and at least one of each site and rack.
pub fn sample(cluster: &Cluster, links: Vec<Link>) -> (Vec<Link>, Sampling) {
    let all = links.len();
    if cluster.hosts.len() <= ALL {
        return (links, Sampling { all, tried: all, stand_in: Vec::new() });
    }
    let carrying: BTreeSet<&HostName> = cluster
        .etcd
        .members
        .iter()
        .chain(&cluster.control_plane.hosts)
        .chain(&cluster.load_balancers.hosts)
        .collect();
    let others: Vec<_> =
        cluster.hosts.iter().filter(|host| !carrying.contains(&host.name)).collect();
    let mut chosen = BTreeSet::new();
    let mut places = BTreeSet::new();
    for host in &others {
        if places.insert((host.place.site.as_deref(), host.place.rack.as_deref())) {
            chosen.insert(&host.name);
        }
    }
    for i in 0..STAND_INS {
        let at = i * others.len().saturating_sub(1) / (STAND_INS - 1);
        chosen.extend(others.get(at).map(|host| &host.name));
    }
    let wanted = |name: &HostName| carrying.contains(name) || chosen.contains(name);
    let tried: Vec<Link> =
        links.into_iter().filter(|link| wanted(&link.from) && wanted(&link.to)).collect();
    let stand_in = chosen.into_iter().cloned().collect();
    let sampling = Sampling { all, tried: tried.len(), stand_in };
    (tried, sampling)
}

/// What becomes of a port that is to be served for a trial.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Listener {
    /// It is served.
    Serves,
    /// A server of the cluster has it already: that one is tried.
    Real,
    /// Something else has it.
    Taken(String),
    /// It could not be served.
    Failed(String),
}

/// What a host said of ports that it is to serve, by their places in the list.
pub type Listeners = Vec<Listener>;

/// The script with which a host serves ports for a trial: each says `word`. They end by themselves.
pub fn listen_script(host: &HostName, ports: &[(IpAddr, u16)], word: &str) -> String {
    let mut body = format!("begin_paths {SECONDS}\n");
    for (i, (address, port)) in ports.iter().enumerate() {
        body.push_str(&format!("serve {i} {address} {port} {}\n", quote(word)));
    }
    body.push_str(&format!("start_paths {SECONDS}\n"));
    wrapped_login(&format!("serve ports of {host} for a trial"), LISTEN, &body)
}

/// The script that takes them away again.
pub fn end_script(host: &HostName) -> String {
    wrapped_login(&format!("end the trial at {host}"), LISTEN, "stop_paths\n")
}

/// Reads what [`listen_script`] said.
pub fn read_listeners(count: usize, text: &str) -> Listeners {
    let mut out = vec![Listener::Failed("no answer came from there".into()); count];
    for line in text.lines() {
        let Some(rest) = line.strip_prefix("@\t") else { continue };
        let rest = plain(rest);
        let fields: Vec<&str> = rest.split('\t').collect();
        let (at, listener) = match fields.as_slice() {
            ["listens", at] => (at, Listener::Serves),
            ["taken", at, _, unit] if unit.starts_with("zoisite-") => (at, Listener::Real),
            ["taken", at, program, unit] => (at, Listener::Taken(holder(program, unit))),
            ["failed", at, why] => (at, Listener::Failed((*why).to_owned())),
            ["untimed"] => {
                let why = "no timer could be set that ends it";
                out.fill(Listener::Failed(why.into()));
                return out;
            }
            _ => continue,
        };
        if let Some(place) = at.parse::<usize>().ok().and_then(|at| out.get_mut(at)) {
            *place = listener;
        }
    }
    out
}

/// How a trial of one path ended.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It is open.
    Open,
    /// Something refuses, though the host serves the port.
    Refused,
    /// No answer comes.
    NoAnswer,
    /// It is answered by something else than the host.
    Other(String),
    /// It opens, and then nothing comes through.
    Mute,
    /// Small packets come through and large ones do not: from there to here, or back.
    LargeLost(bool),
    /// Something else has the port on the host that is dialled.
    Busy(String),
    /// It leads nowhere.
    Unreachable(String),
    /// It was not tried.
    Untried(String),
}

/// A path and how it ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Trial {
    /// The path.
    pub link: Link,
    /// How it ended.
    pub outcome: Outcome,
}

/// The script with which a host tries paths: address, port, and the word that must come back; without one a real
/// server answers.
pub fn probe_script(host: &HostName, paths: &[(IpAddr, u16, Option<&str>)]) -> String {
    let mut body = String::from("tries <<PATHS\n");
    for (i, (address, port, word)) in paths.iter().enumerate() {
        body.push_str(&format!("{i} {address} {port} {}\n", word.unwrap_or("-")));
    }
    body.push_str("PATHS\n");
    wrapped_login(&format!("try paths from {host}"), PROBE, &body)
}

/// Reads what [`probe_script`] said.
pub fn read_probes(count: usize, text: &str) -> Vec<Outcome> {
    let mut out = vec![Outcome::Untried("no answer came from there".into()); count];
    for line in text.lines() {
        let Some(rest) = line.strip_prefix("@\t") else { continue };
        let rest = plain(rest);
        let fields: Vec<&str> = rest.split('\t').collect();
        match fields.as_slice() {
            ["without", program] => {
                out.fill(Outcome::Untried(format!("{program} is not there to connect with")));
            }
            ["tried", at, said] => {
                if let Some(place) = at.parse::<usize>().ok().and_then(|at| out.get_mut(at)) {
                    *place = outcome(said);
                }
            }
            _ => {}
        }
    }
    out
}

/// `connected well`, `connected stuck there`, `bash: connect: Connection refused`.
fn outcome(said: &str) -> Outcome {
    let said = said.trim();
    if let Some(rest) = said.strip_prefix("connected") {
        return match rest.trim() {
            "well" | "" => Outcome::Open,
            "mute" => Outcome::Mute,
            "stuck there" => Outcome::LargeLost(true),
            "stuck back" => Outcome::LargeLost(false),
            other => match other.strip_prefix("other ") {
                Some(line) => Outcome::Other(line.to_owned()),
                // It was cut off while something was under way.
                None => Outcome::LargeLost(other.contains("there")),
            },
        };
    }
    if said == "silent" || said.contains("timed out") {
        Outcome::NoAnswer
    } else if said.contains("refused") {
        Outcome::Refused
    } else {
        let why = said.rsplit(": ").next().unwrap_or(said);
        Outcome::Unreachable(why.to_owned())
    }
}

/// Paths of one host that end alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Blocked {
    /// Who is dialled.
    pub to: HostName,
    /// What for.
    pub services: Vec<Service>,
    /// At which ports, of UDP where it is the mesh's, else of TCP; 0 where it is VRRP, which has none.
    pub ports: Vec<u16>,
    /// From whom it is not reached.
    pub from: Vec<HostName>,
    /// From whom it is.
    pub open_from: Vec<HostName>,
    /// How it ended.
    pub outcome: Outcome,
    /// What that means.
    pub cause: String,
    /// What to do about it.
    pub fix: String,
}

/// What is not open, told once for all who do not get through, with who does: that tells where it is stopped.
pub fn blocked(trials: &[Trial]) -> Vec<Blocked> {
    let mut by: BTreeMap<(&HostName, u16, &Outcome), Vec<&Trial>> = BTreeMap::new();
    let stopped =
        trials.iter().filter(|trial| !matches!(trial.outcome, Outcome::Open | Outcome::Untried(_)));
    for trial in stopped {
        by.entry((&trial.link.to, trial.link.port, &trial.outcome)).or_default().push(trial);
    }
    let told = by.into_iter().map(|((to, port, outcome), stopped)| {
        let open = trials.iter().filter(|trial| {
            trial.outcome == Outcome::Open && (&trial.link.to, trial.link.port) == (to, port)
        });
        let names = |all: &mut dyn Iterator<Item = &HostName>| {
            let names: BTreeSet<HostName> = all.cloned().collect();
            names.into_iter().collect::<Vec<_>>()
        };
        let from = names(&mut stopped.iter().map(|trial| &trial.link.from));
        let open_from = names(&mut open.map(|trial| &trial.link.from));
        let services: BTreeSet<Service> = stopped.iter().map(|t| t.link.service).collect();
        let (cause, fix) = match &stopped[0].link.endpoint {
            Some(end) => meaning_of_mesh((to, end), outcome, (&from, &open_from)),
            None => meaning(to, port, outcome, (&from, &open_from), trials),
        };
        let services = services.into_iter().collect();
        let (to, outcome) = (to.clone(), outcome.clone());
        Blocked { to, services, ports: vec![port], from, open_from, outcome, cause, fix }
    });
    // The same at several ports of a host is reported once.
    let mut out: Vec<Blocked> = Vec::new();
    for one in told {
        let same = |known: &&mut Blocked| {
            (&known.to, &known.outcome, &known.from, &known.cause)
                == (&one.to, &one.outcome, &one.from, &one.cause)
        };
        match out.iter_mut().find(same) {
            Some(known) => {
                known.ports.extend(one.ports);
                known.services.extend(one.services);
                known.services.sort();
                known.services.dedup();
            }
            None => out.push(one),
        }
    }
    out
}

/// Paths that were not tried: why, and how many for that reason.
pub fn untried(trials: &[Trial]) -> BTreeMap<&str, usize> {
    let mut out = BTreeMap::new();
    for trial in trials {
        if let Outcome::Untried(why) = &trial.outcome {
            *out.entry(why.as_str()).or_default() += 1;
        }
    }
    out
}

/// Of a path of the mesh: what is sent there arrives, or is lost unseen.
fn meaning_of_mesh(
    (to, end): (&HostName, &Endpoint),
    outcome: &Outcome,
    (from, open_from): (&[HostName], &[HostName]),
) -> (String, String) {
    let first = from.first().map_or("", HostName::as_str);
    match outcome {
        Outcome::Busy(who) => {
            let who = if who.is_empty() { "something" } else { who.as_str() };
            (
                format!("{who} has the UDP port on {to}"),
                format!("ss -lunp on {to} shows it: stop it, or give mesh.port another one"),
            )
        }
        Outcome::Unreachable(why) => (
            format!("{first} cannot send to {end}: {why}"),
            format!("getent hosts {} on {first}, and ip route get ADDRESS", end.host),
        ),
        _ if open_from.is_empty() => (
            format!("nothing that is sent to {end} arrives at {to}"),
            format!(
                "does its router forward that UDP port to {to}, and its firewall let it in? zoisite paths rules {to} prints that"
            ),
        ),
        _ => (
            format!(
                "what others send to {end} arrives at {to}, so it is stopped on the way from {first}"
            ),
            format!("what may go out where {first} is: UDP port {}", end.port),
        ),
    }
}

fn meaning(
    to: &HostName,
    port: u16,
    outcome: &Outcome,
    (from, open_from): (&[HostName], &[HostName]),
    trials: &[Trial],
) -> (String, String) {
    let first = from.first().map_or("", HostName::as_str);
    let rules = format!("zoisite paths rules {to} prints what its firewall must let in");
    let others_reach = trials.iter().any(|t| t.link.to == *to && t.outcome == Outcome::Open);
    match outcome {
        Outcome::NoAnswer if port == 0 => (
            match others_reach {
                true => format!("IP protocol 112 does not come through: {to} is reached at its ports, so a firewall drops it, there, on {first} or in front of either"),
                false => format!("no port of {to} is reached: it may be the host, not the protocol"),
            },
            format!("two hosts that do not hear one another both hold the virtual IP: let IP protocol 112 (VRRP) through; {rules}"),
        ),
        Outcome::NoAnswer | Outcome::Refused => {
            let how = match outcome {
                Outcome::NoAnswer => "drops",
                _ => "refuses",
            };
            let answer = match outcome {
                Outcome::NoAnswer => "something drops what is sent",
                _ => "the port is served there, and something answers in its place that it is not",
            };
            match (open_from.is_empty(), others_reach) {
                (false, _) => (
                    format!("{answer}: others reach it, so it is stopped on the way from {first}, or by a rule on {to} about it"),
                    format!("on {to}: nft list ruleset | grep -e {port} -e drop -e reject; on {first} the same for what goes out; {rules}"),
                ),
                (true, true) => (
                    format!("{answer}: {to} is reached at other ports, so a firewall {how} this one, there or in front of it"),
                    rules,
                ),
                (true, false) => (
                    format!("{answer}: no port of {to} is reached, so a firewall {how} all of it, or its address is another one"),
                    format!("ip address on {to}; {rules}"),
                ),
            }
        }
        Outcome::Other(said) => (
            format!("another machine answers at this address, or something between: it says '{said}'"),
            format!("ip neighbour show on {first} tells which machine it is; look for a second one with {to}'s address"),
        ),
        Outcome::Mute => (
            "the connection opens, and nothing comes through it: something between answers for the host".into(),
            format!("look for a proxy or a filter between {first} and {to}"),
        ),
        Outcome::LargeLost(there) => {
            let (a, b) = if *there { (first, to.as_str()) } else { (to.as_str(), first) };
            (
                format!("small packets arrive and large ones do not, from {a} to {b}: somewhere between a smaller size is allowed, and no message says so"),
                format!("on {a}: ping -M do -s 1472 {b}, smaller until it answers; then give the interfaces that size (28 octets are its head), or let ICMP 'fragmentation needed' pass"),
            )
        }
        Outcome::Busy(who) => (
            format!("{who} has the port on {to}"),
            format!("ss -ltnp 'sport = :{port}' on {to} shows it: stop it, or take another port in the cluster file"),
        ),
        Outcome::Unreachable(why) => (
            format!("{first} finds no way there: {why}"),
            format!("ip route get ADDRESS on {first}, and whether {to} is switched on"),
        ),
        Outcome::Open | Outcome::Untried(_) => (String::new(), String::new()),
    }
}
