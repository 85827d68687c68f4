use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use crate::holdings::HostFacts;
use crate::script::{holder, nature};
use crate::text::{digest, plain};

/// What a host says of itself. Sizes are in MiB, times in milliseconds where nothing else is said.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Facts {
    /// Its machine id (machine-id(5)).
    pub machine: String,
    /// SHA-256 of each of its SSH host keys.
    pub host_keys: Vec<String>,
    /// The id of the cluster whose host it is, where it is one of ours.
    pub cluster: Option<String>,
    /// Distribution and version: `ID` and `VERSION_ID` of os-release(5).
    pub os: String,
    /// The distribution as it calls itself.
    pub release: String,
    /// Release of the kernel.
    pub kernel: String,
    /// Architecture: `amd64`, `arm64`.
    pub arch: String,
    /// Processors online.
    pub cores: u32,
    /// Memory in all.
    pub memory: u64,
    /// Memory that can be had without swapping.
    pub memory_free: u64,
    /// Whether it is a container: its kernel and its clock are those of the machine beneath.
    pub container: bool,
    /// File systems where something of the cluster will live.
    pub places: Vec<PlaceFacts>,
    /// How fast small writes come to lie on the disk of etcd's data.
    pub written: Option<Written>,
    /// Network interfaces.
    pub links: Vec<LinkFacts>,
    /// Addresses.
    pub addresses: Vec<AddressFacts>,
    /// Routes, without those of ours and default ones.
    pub routes: Vec<RouteFacts>,
    /// Name servers in use.
    pub name_servers: Vec<NameServer>,
    /// What names lead to, as the host sees them.
    pub names: Vec<Named<String, IpAddr>>,
    /// What addresses are called, as the host sees them.
    pub reverse: Vec<Named<IpAddr, String>>,
    /// Its clock.
    pub clock: Option<Clock>,
    /// Its time zone.
    pub zone: String,
    /// Time services that run.
    pub time_services: Vec<String>,
    /// Whether the clock is kept by one of them; `None` where that is not known.
    pub synchronized: Option<bool>,
    /// What it swaps to now.
    pub swaps: Vec<String>,
    /// What it swaps to from the next boot on, and where that is said.
    pub boot_swaps: Vec<(String, String)>,
    /// Kernel modules: `loaded`, `loadable`, `missing`.
    pub modules: BTreeMap<String, String>,
    /// Whether it forwards packets.
    pub forwarding: bool,
    /// Version of the control groups: 1 or 2.
    pub cgroups: u8,
    /// Whether nftables works.
    pub nftables: bool,
    /// Who answers at the virtual IP, by the hardware address; asked of those who may hold it.
    pub virtual_ip: Option<String>,
    /// Who else advertises a virtual router of the same id on the segment; asked of the same.
    #[serde(default)]
    pub routers: Vec<String>,
    /// Managers of the firewall that run.
    pub firewall: Vec<String>,
    /// Chains that meet what comes in or passes through.
    pub policies: Vec<Policy>,
    /// Mandatory access control.
    pub mandatory: Vec<String>,
    /// Ports at which something listens.
    pub listening: Vec<Listening>,
    /// Programs of the distribution: their versions, `None` where one is missing.
    pub programs: BTreeMap<String, Option<String>>,
    /// What decides how it is prepared.
    pub nature: HostFacts,
    /// Package managers.
    pub packages: Vec<String>,
    /// Whether what packages come from answers: asked where a program is missing.
    pub sources: BTreeMap<String, String>,
    /// What an earlier cluster left.
    pub leftovers: Vec<Leftover>,
    /// Why it should be restarted.
    pub reboot: Vec<String>,
    /// Units that cannot be started.
    pub masked: Vec<String>,
    /// Whether a data directory of etcd is there.
    pub etcd_data: bool,
    /// Whose data that is, where it says so.
    pub etcd_owner: Option<String>,
}

/// A file system, at a place.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceFacts {
    /// What lives there.
    pub purpose: String,
    /// The place itself, which need not be there yet.
    pub path: String,
    /// The device.
    pub device: String,
    /// Type of file system.
    pub kind: String,
    /// Where it is mounted.
    pub mount: String,
    /// How large it is.
    pub size: u64,
    /// How much is free.
    pub free: u64,
    /// How many inodes it has; 0 where it counts none.
    pub inodes: u64,
    /// How many of them are free.
    pub inodes_free: u64,
    /// Options it is mounted with.
    pub options: Vec<String>,
}

/// Small writes, each of which waits until it lies on the disk.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Written {
    /// How many were done.
    pub writes: u32,
    /// How long one took, on the average.
    pub milliseconds: f64,
    /// What kept them from being done.
    pub fault: Option<String>,
}

/// A network interface.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LinkFacts {
    /// Its name.
    pub name: String,
    /// Largest packet, in octets.
    pub mtu: u32,
    /// Whether it is up.
    pub up: bool,
    /// Its hardware address.
    pub mac: String,
    /// What kind it is, where it is not a plain one: `bridge`, `vxlan`, `veth`.
    pub kind: String,
}

/// An address on an interface.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddressFacts {
    /// The interface.
    pub link: String,
    /// The address, and how long its network's prefix is.
    pub net: IpNet,
    /// For how many seconds more it is leased; `None` for one that stays.
    pub leased: Option<u64>,
}

impl AddressFacts {
    /// Whether it counts on one wire alone.
    pub fn is_link_local(&self) -> bool {
        is_link_local(self.net.addr())
    }

    /// An address that stays.
    pub fn fixed(link: &str, address: IpAddr) -> Self {
        Self { link: link.to_owned(), net: IpNet::from(address), leased: None }
    }
}

/// A route.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RouteFacts {
    /// Where it leads.
    pub to: IpNet,
    /// Through which interface; empty where it leads nowhere.
    pub link: String,
    /// Through which gateway.
    pub via: Option<IpAddr>,
}

/// A name server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameServer {
    /// Its address.
    pub address: IpAddr,
    /// Whether resolv.conf names it; else a resolver on the host asks it.
    pub direct: bool,
    /// What kept it from answering; `None` when it answers, or was not asked.
    pub fault: Option<String>,
}

/// What was asked, and what came back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Named<A, B> {
    /// What was asked.
    pub asked: A,
    /// What came back.
    pub got: Vec<B>,
    /// Whether a file on the host says so, and not a server.
    pub by_file: bool,
}

/// A clock, held against the one here.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clock {
    /// By how much it is ahead of the one here.
    pub ahead: i64,
    /// By how much that may be wrong: half of the time that packets were under way.
    pub within: i64,
}

/// A chain of the kernel's packet filter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Policy {
    /// Its table and its name.
    pub chain: String,
    /// `input` or `forward`.
    pub hook: String,
    /// What becomes of what no rule names: `accept` or `drop`.
    pub policy: String,
}

/// A port at which something listens.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Listening {
    /// `tcp` or `udp`.
    pub protocol: String,
    /// At which address; `None` for all.
    pub address: Option<IpAddr>,
    /// The port.
    pub port: u16,
    /// Which program.
    pub program: String,
    /// Which unit, where systemd knows.
    pub unit: String,
}

impl Listening {
    /// Who it is, as a person says it.
    pub fn holder(&self) -> String {
        holder(&self.program, &self.unit)
    }
}

/// Something of an earlier cluster.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Leftover {
    /// `folder`, `unit`, `chains`, `containers`, `link`.
    pub kind: String,
    /// Which.
    pub what: String,
    /// How many things are in it, or in which state it is.
    pub detail: String,
}

/// When a host was asked and had answered by the clock here, in milliseconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Times {
    /// When the script was sent.
    pub asked: i64,
    /// When its last line had come.
    pub answered: i64,
}

impl Facts {
    /// Reads what [`survey_script`](super::survey_script) said; `None` when it did not come to its end. Without times,
    /// as of what was carried here, nothing is known of its clock.
    pub fn read(text: &str, times: impl Into<Option<Times>>) -> Option<Self> {
        let mut facts = Self::default();
        let mut reading = Reading::default();
        let mut over = false;
        for line in text.lines() {
            let Some(rest) = line.strip_prefix("@\t") else { continue };
            let rest = plain(rest);
            let fields: Vec<&str> = rest.split('\t').map(str::trim).collect();
            over |= fields == ["end"];
            facts.take(&fields, &mut reading);
            nature(&mut reading.nature, &fields);
        }
        if let Some(nature) = reading.nature.take() {
            facts.nature = HostFacts { os: facts.os.clone(), arch: facts.arch.clone(), ..nature };
        }
        if !over {
            return None;
        }
        facts.host_keys.sort();
        // The same folder may be found under two names.
        facts.masked.sort();
        facts.masked.dedup();
        reading.finish(&mut facts, times.into());
        Some(facts)
    }

    fn take(&mut self, fields: &[&str], reading: &mut Reading) {
        let text = |word: &str| word.to_owned();
        match fields {
            ["time", seconds] => reading.clocks.extend(milliseconds(seconds)),
            ["machine", id] => self.machine = text(id),
            ["host-key", key] => self.host_keys.push(digest(key)),
            ["cluster", id] if !id.is_empty() => self.cluster = Some(text(id)),
            ["os", os] => self.os = text(os),
            ["release", name] => self.release = text(name),
            ["kernel", release] => self.kernel = text(release),
            ["arch", arch] => self.arch = crate::script::architecture(arch),
            ["cores", n] => self.cores = n.parse().unwrap_or(0),
            ["memory", which, kib] => {
                let mib = kib.parse::<u64>().unwrap_or(0) / 1_024;
                match *which {
                    "MemTotal:" => self.memory = mib,
                    _ => self.memory_free = mib,
                }
            }
            ["container", answer] => self.container = *answer == "yes",
            ["cgroups", version] => self.cgroups = version.parse().unwrap_or(0),
            ["nftables", answer] => self.nftables = *answer == "yes",
            ["zone", zone] => self.zone = text(zone),
            ["reboot", why] => self.reboot.push(text(why)),
            ["place", rest @ ..] => self.places.extend(place(rest)),
            ["written", writes, seconds, fault] => self.written = written(writes, seconds, fault),
            ["link", line] => self.links.extend(link(line)),
            ["address", line] => self.addresses.extend(address(line)),
            ["route", line] => self.routes.extend(route(line)),
            ["resolver", line] => reading.direct.extend(name_server(line)),
            ["upstream", line] => reading.upstream.extend(name_server(line)),
            ["server", address, said] => {
                if let Ok(address) = address.parse::<IpAddr>() {
                    reading.answers.insert(address, text(said));
                }
            }
            ["hosts-file", line] => {
                reading.in_file.extend(hosts_line(line));
            }
            ["asked", all @ ..] => reading.asked.extend(all.iter().map(|word| text(word))),
            // `10.77.0.11 STREAM heron`, once for each kind of socket.
            ["name", asked, line] => {
                let got =
                    line.split_whitespace().next().and_then(|word| word.parse::<IpAddr>().ok());
                reading.found.entry(text(asked)).or_default().extend(got);
            }
            // `10.77.0.11 heron heron.saltmarsh.example`.
            ["reverse", line] => {
                let mut words = line.split_whitespace();
                if let Some(asked) = words.next().and_then(|word| word.parse().ok()) {
                    reading.called.entry(asked).or_insert_with(|| words.map(text).collect());
                }
            }
            ["time-service", unit] => self.time_services.push(text(unit)),
            ["synchronized", answer] => self.synchronized = Some(*answer == "yes"),
            ["swaps", device, kind] => self.swaps.push(format!("{device} ({kind})")),
            ["boot-swap", place, what] => self.boot_swaps.push((text(place), text(what))),
            ["module", module, state] => {
                self.modules.insert(text(module), text(state));
            }
            ["forwarding", answer] => self.forwarding = *answer == "1",
            ["mandatory", what] => self.mandatory.push(text(what)),
            ["router", address] => self.routers.push(text(address)),
            ["neighbour", _, mac] => self.virtual_ip = Some(text(mac)),
            ["firewall", unit] => self.firewall.push(text(unit)),
            ["policy", table, chain, hook, policy] => self.policies.push(Policy {
                chain: format!("{table} {chain}"),
                hook: text(hook),
                policy: text(policy),
            }),
            ["listens", line] => reading.sockets.push(text(line)),
            ["unit-of", pid, unit] => {
                reading.units.insert(text(pid), text(unit));
            }
            ["program", path, version] => {
                let version = (*version != "missing").then(|| text(version));
                self.programs.insert(text(path), version);
            }
            ["packages", manager] => self.packages.push(text(manager)),
            ["source", host, said] => {
                self.sources.insert(text(host), text(said));
            }
            ["left", kind, what, detail] => {
                let (kind, what, detail) = (text(kind), text(what), text(detail));
                self.leftovers.push(Leftover { kind, what, detail });
            }
            ["masked", unit] => self.masked.push(text(unit)),
            ["etcd-data", there] => self.etcd_data = *there == "present",
            ["etcd-owner", id] => self.etcd_owner = Some(text(id)),
            _ => {}
        }
    }

    /// The place of that purpose.
    pub fn place(&self, purpose: &str) -> Option<&PlaceFacts> {
        self.places.iter().find(|place| place.purpose == purpose)
    }

    /// The interface that has an address.
    pub fn link_of(&self, address: IpAddr) -> Option<&LinkFacts> {
        let at = self.addresses.iter().find(|known| known.net.addr() == address)?;
        self.links.iter().find(|link| link.name == at.link)
    }

    /// Who listens at a port, where it would be in the way of a server at one of these addresses.
    pub fn listener(&self, protocol: &str, port: u16, at: &[IpAddr]) -> Option<&Listening> {
        self.listening.iter().find(|socket| {
            socket.protocol == protocol
                && socket.port == port
                && socket.address.is_none_or(|address| at.contains(&address))
        })
    }

    /// Whether it has nothing of ours yet.
    pub fn is_bare(&self) -> bool {
        self.cluster.is_none()
    }
}

/// What only makes sense together with what comes later.
#[derive(Default)]
struct Reading {
    nature: Option<HostFacts>,
    clocks: Vec<i64>,
    direct: Vec<IpAddr>,
    upstream: Vec<IpAddr>,
    answers: BTreeMap<IpAddr, String>,
    /// The hosts file: addresses and their names.
    in_file: Vec<(IpAddr, Vec<String>)>,
    /// Names and addresses that were asked for.
    asked: Vec<String>,
    /// What servers answered to names, and to addresses.
    found: BTreeMap<String, BTreeSet<IpAddr>>,
    called: BTreeMap<IpAddr, Vec<String>>,
    sockets: Vec<String>,
    units: BTreeMap<String, String>,
}

impl Reading {
    fn finish(self, facts: &mut Facts, times: Option<Times>) {
        if let (Some(first), Some(last), Some(times)) =
            (self.clocks.first(), self.clocks.last(), times)
        {
            facts.clock = Some(clock(*first, *last, times));
        }
        let mut known = BTreeSet::new();
        let direct = self.direct.iter().map(|address| (*address, true));
        let upstream = self.upstream.iter().map(|address| (*address, false));
        for (address, direct) in direct.chain(upstream) {
            if known.insert(address) {
                let said = self.answers.get(&address).map(String::as_str);
                let fault = said.and_then(fault_of_answer);
                facts.name_servers.push(NameServer { address, direct, fault });
            }
        }
        for asked in &self.asked {
            match asked.parse::<IpAddr>() {
                Ok(address) => {
                    let got = self.called.get(&address).cloned().unwrap_or_default();
                    let by_file = self.in_file.iter().any(|(known, _)| *known == address);
                    facts.reverse.push(Named { asked: address, got, by_file });
                }
                Err(_) => {
                    // A file comes before every server (nsswitch.conf(5), `hosts: files …`).
                    let named = self.in_file.iter().filter(|(_, names)| names.contains(asked));
                    let named: BTreeSet<IpAddr> = named.map(|(address, _)| *address).collect();
                    let by_file = !named.is_empty();
                    let found = || self.found.get(asked).cloned().unwrap_or_default();
                    let got = if by_file { named } else { found() };
                    let (asked, got) = (asked.clone(), got.into_iter().collect());
                    facts.names.push(Named { asked, got, by_file });
                }
            }
        }
        let sockets = self.sockets.iter().filter_map(|line| listening(line, &self.units));
        facts.listening.extend(sockets);
        facts.listening.sort_by(|a, b| (a.port, &a.protocol).cmp(&(b.port, &b.protocol)));
        facts.listening.dedup();
        for link in &facts.links {
            if ["vxlan", "ipip", "geneve"].contains(&link.kind.as_str()) {
                let (kind, what) = ("link".to_owned(), link.name.clone());
                facts.leftovers.push(Leftover { kind, what, detail: link.kind.clone() });
            }
        }
        let mut seen = BTreeSet::new();
        facts.leftovers.retain(|left| seen.insert((left.kind.clone(), left.what.clone())));
    }
}

/// `1764105376.123456789` in milliseconds.
fn milliseconds(seconds: &str) -> Option<i64> {
    let (whole, part) = seconds.split_once('.').unwrap_or((seconds, "0"));
    let part = format!("{part:0<3}");
    Some(whole.parse::<i64>().ok()? * 1_000 + part.get(..3)?.parse::<i64>().ok()?)
}

/// A clock that showed `first` and `last` within the time that passed here: what of that time was not spent
/// there was spent on the way, half of it each way.
fn clock(first: i64, last: i64, times: Times) -> Clock {
    let way = ((times.answered - times.asked) - (last - first)).max(0);
    Clock { ahead: first - (times.asked + way / 2), within: way / 2 }
}

fn place(fields: &[&str]) -> Option<PlaceFacts> {
    let [purpose, path, device, kind, mount, size, free, inodes, left, options] = fields else {
        return None;
    };
    let number = |text: &str| text.parse::<u64>().unwrap_or(0);
    Some(PlaceFacts {
        purpose: (*purpose).to_owned(),
        path: (*path).to_owned(),
        device: (*device).to_owned(),
        kind: (*kind).to_owned(),
        mount: (*mount).to_owned(),
        size: number(size) / 1_024,
        free: number(free) / 1_024,
        inodes: number(inodes),
        inodes_free: number(left),
        options: options.split(',').map(ToOwned::to_owned).collect(),
    })
}

fn written(writes: &str, seconds: &str, fault: &str) -> Option<Written> {
    let writes = writes.parse::<u32>().ok()?;
    let seconds = seconds.parse::<f64>().ok()?;
    let fault = (!fault.is_empty()).then(|| fault.to_owned());
    let milliseconds = (seconds * 1_000.0 / f64::from(writes.max(1)) * 100.0).round() / 100.0;
    Some(Written { writes, milliseconds, fault })
}

/// `2: eth0@if9: <BROADCAST,UP,LOWER_UP> mtu 1500 … \    link/ether 52:54:… \    vxlan id 1 …` (ip-link(8)).
fn link(line: &str) -> Option<LinkFacts> {
    let mut words = line.split_whitespace().skip(1);
    let name = words.next()?.trim_end_matches(':');
    let name = name.split('@').next()?.to_owned();
    let flags = words.next()?;
    let up = flags.trim_matches(['<', '>']).split(',').any(|flag| flag == "UP");
    let after = |word: &str| {
        let mut words = line.split_whitespace();
        words.find(|found| *found == word)?;
        words.next()
    };
    let mtu = after("mtu")?.parse().ok()?;
    let mac = after("link/ether").unwrap_or_default().to_owned();
    const KINDS: [&str; 9] =
        ["bridge", "vxlan", "veth", "ipip", "geneve", "dummy", "wireguard", "bond", "vlan"];
    let mut kind = line.split('\\').filter_map(|part| part.split_whitespace().next());
    let kind = kind.rfind(|word| KINDS.contains(word)).unwrap_or_default().to_owned();
    Some(LinkFacts { name, mtu, up, mac, kind })
}

/// `2: eth0    inet 10.77.0.11/24 brd … scope global dynamic eth0\       valid_lft 86000sec …` (ip-address(8)).
fn address(line: &str) -> Option<AddressFacts> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let link = words.get(1)?.split('@').next()?.to_owned();
    let at = words.iter().position(|word| ["inet", "inet6"].contains(word))?;
    let net = words.get(at + 1)?;
    let net: IpNet = match net.parse() {
        Ok(net) => net,
        Err(_) => IpNet::from(net.parse::<IpAddr>().ok()?),
    };
    let left = words.iter().position(|word| *word == "valid_lft").and_then(|at| words.get(at + 1));
    let leased = left.and_then(|left| left.trim_end_matches("sec").parse().ok());
    let leased = leased.filter(|_| words.contains(&"dynamic"));
    Some(AddressFacts { link, net, leased })
}

/// `10.90.0.0/24 via 10.77.0.1 dev eth0 proto static`, `unreachable 10.0.0.0/8` (ip-route(8)); no default ones,
/// nor those of a link alone.
fn route(line: &str) -> Option<RouteFacts> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let first = words.first()?;
    let kinds = ["unreachable", "blackhole", "prohibit", "unicast"];
    let to = if kinds.contains(first) { words.get(1)? } else { first };
    let to: IpNet = match to.parse() {
        Ok(net) => net,
        Err(_) => IpNet::from(to.parse::<IpAddr>().ok()?),
    };
    let after = |word: &str| {
        words.iter().position(|found| *found == word).and_then(|at| words.get(at + 1)).copied()
    };
    let narrow = match to {
        IpNet::V4(_) => false,
        IpNet::V6(net) => is_link_local(net.addr().into()) || net.addr().is_multicast(),
    };
    if to.prefix_len() == 0 || narrow {
        return None;
    }
    Some(RouteFacts {
        to,
        link: after("dev").unwrap_or_default().to_owned(),
        via: after("via").and_then(|via| via.parse().ok()),
    })
}

/// A line of a hosts file (hosts(5)): an address and its names.
pub fn hosts_line(line: &str) -> Option<(IpAddr, Vec<String>)> {
    let mut words = line.split('#').next()?.split_whitespace();
    let address = words.next()?.parse().ok()?;
    Some((address, words.map(ToOwned::to_owned).collect()))
}

/// `nameserver 10.77.0.1` (resolv.conf(5)).
fn name_server(line: &str) -> Option<IpAddr> {
    let address = line.strip_prefix("nameserver")?.trim();
    address.split('%').next()?.parse().ok()
}

/// What kept a name server from answering, by the first octets of its answer or by what was said instead.
fn fault_of_answer(said: &str) -> Option<String> {
    match said.strip_prefix("5a 6f ") {
        Some(_) => None,
        None if said.is_empty() || said == "silent" => Some("no answer within 6 seconds".into()),
        None => Some(said.to_owned()),
    }
}

/// `tcp LISTEN 0 4096 10.77.0.11:2379 0.0.0.0:* users:(("etcd",pid=412,fd=8))` (ss(8)).
fn listening(line: &str, units: &BTreeMap<String, String>) -> Option<Listening> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let (protocol, at) = (words.first()?, words.get(4)?);
    let (address, port) = at.rsplit_once(':')?;
    let address = address.split('%').next().unwrap_or_default().trim_matches(['[', ']']);
    let address = address.parse::<IpAddr>().ok().filter(|address| !address.is_unspecified());
    let users = words.get(6).copied().unwrap_or_default();
    let program = users.split('"').nth(1).unwrap_or_default().to_owned();
    let pid = users.split("pid=").nth(1).and_then(|rest| rest.split(',').next());
    let unit = pid.and_then(|pid| units.get(pid)).cloned().unwrap_or_default();
    let port = port.parse().ok()?;
    Some(Listening { protocol: (*protocol).to_owned(), address, port, program, unit })
}

pub(super) fn is_link_local(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => address.is_link_local(),
        IpAddr::V6(address) => address.is_unicast_link_local(),
    }
}
