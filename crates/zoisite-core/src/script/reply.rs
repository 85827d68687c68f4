//! Reading what hosts answer.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Pace;
use crate::holdings::HostFacts;
use crate::item::{ComponentSums, Found, Seen};
use crate::paths::Firewall;
use crate::pki::{KeyRequest, Profile, signing_key};
use crate::text::{digest, plain};

/// What a host asks for a key that it made: where that is to stand, its checksum, the request in base64.
pub(crate) fn key_request(path: &str, key_sha256: &str, request: &str) -> Option<KeyRequest> {
    use base64::Engine as _;
    let der = base64::engine::general_purpose::STANDARD.decode(request).ok()?;
    Some(KeyRequest { profile: Profile::at(path)?, der, key_sha256: key_sha256.to_owned() })
}

/// The certificate with which a kubelet shows who it is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Identity {
    /// It has none.
    #[default]
    Absent,
    /// It has one, until then.
    Until(Timestamp),
    /// A file is there, and no certificate can be read from it.
    Unreadable,
}

impl Identity {
    /// Whether its node can show who it is at `now`.
    pub fn holds(self, now: Timestamp) -> bool {
        matches!(self, Self::Until(end) if end > now)
    }

    /// Why it cannot, or since when it should have another one by itself; `None` when all is well.
    pub fn fault(self, now: Timestamp) -> Option<String> {
        match self {
            Self::Absent => Some("it has no certificate yet".into()),
            Self::Unreadable => Some("its certificate cannot be read".into()),
            Self::Until(end) if end <= now => {
                Some(format!("its certificate ended on {}", end.strftime("%Y-%m-%d")))
            }
            Self::Until(_) => None,
        }
    }

    /// Reads the first certificate of a PEM text; and which key signed it, where it says so.
    pub fn of(pem: &[u8]) -> (Self, Option<String>) {
        use rustls_pki_types::pem::PemObject as _;
        let Ok(der) = rustls_pki_types::CertificateDer::from_pem_slice(pem) else {
            return (Self::Unreadable, None);
        };
        let end = x509_parser::parse_x509_certificate(&der)
            .ok()
            .and_then(|(_, c)| Timestamp::from_second(c.validity().not_after.timestamp()).ok());
        (end.map_or(Self::Unreadable, Self::Until), signing_key(&der))
    }
}

/// A member, as etcd's own list has it (`MemberListResponse`).
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct EtcdMember {
    /// Its id, in hexadecimal.
    pub id: String,
    /// Its name; empty while it was never started.
    pub name: String,
    /// Where the others dial it.
    pub peer_urls: Vec<String>,
    /// Whether it does not vote yet.
    pub learner: bool,
    /// Whether it ever served: it tells the others its client URLs (`clientURLs`) once it does. Of members that begin
    /// together the list has the names before.
    #[serde(default)]
    pub served: bool,
}

/// A member's own status (etcd's `StatusResponse`).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EtcdStatus {
    /// Cluster id, in hexadecimal.
    pub cluster_id: String,
    /// Member id, in hexadecimal.
    pub member_id: String,
    /// Leader's member id, in hexadecimal; zeros when there is none.
    pub leader: String,
    /// Server version.
    pub version: String,
    /// Store revision.
    pub revision: i64,
    /// Raft index.
    pub raft_index: u64,
    /// Raft term.
    pub raft_term: u64,
    /// Size of the database file, in bytes.
    pub db_size: i64,
    /// How much of it is in use: the rest is won by writing it again.
    pub in_use: i64,
    /// The largest that it may become, in bytes; 0 where the member does not say.
    pub quota: i64,
    /// Whether it does not vote yet.
    pub learner: bool,
    /// Alarms and other trouble, as etcd words it.
    pub errors: Vec<String>,
}

impl EtcdStatus {
    /// What of its database a person should know before it stops: near its quota, or an alarm, with what to do.
    pub fn needs_upkeep(&self) -> Vec<(String, &'static str)> {
        let mut out = Vec::new();
        for error in &self.errors {
            let (what, fix) = match error {
                full if full.contains("NOSPACE") => (
                    "its database reached its quota, and the whole quorum refuses writes (NOSPACE)"
                        .to_owned(),
                    "zoisite defragment makes room and takes the alarm back",
                ),
                other if other.contains("CORRUPT") => (
                    "its data is not what the others hold (CORRUPT)".to_owned(),
                    "take it out of etcd.members and raise, then name it again: it comes back as a new one",
                ),
                other => (other.clone(), "zoisite status and its own log say more"),
            };
            out.push((what, fix));
        }
        let full = self.quota > 0 && self.db_size / 4 >= self.quota / 5;
        if full && self.errors.is_empty() {
            let what = format!(
                "its database has reached {} % of its quota",
                self.db_size * 100 / self.quota
            );
            out.push((
                what,
                "zoisite defragment makes room; more of it: [etcd] settings quota-backend-bytes",
            ));
        }
        out
    }

    /// Whether it knows a leader.
    pub fn has_leader(&self) -> bool {
        !self.leader.trim_start_matches('0').is_empty()
    }
}

/// What was found of etcd on a host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EtcdFacts {
    /// Whether the data directory holds a member's data.
    pub data: bool,
    /// What the owner mark says: the identity of the cluster whose data it is.
    pub owner: Option<String>,
    /// What the formed mark says: etcd's own cluster id.
    pub formed: Option<String>,
    /// Which of the cluster's quorums its data began, where it was made from a snapshot.
    pub epoch: Option<u32>,
    /// The newest snapshot that the host took of its member by itself, by its name.
    pub saved: Option<String>,
    /// Why it could not take the last one.
    pub unsaved: Option<String>,
    /// How fast its disk is, by the member's own counters.
    pub pace: Option<Pace>,
    /// Other members' data found in the folder.
    pub strays: Vec<String>,
    /// The member's answer.
    pub status: Option<EtcdStatus>,
    /// All members, as this one knows them from the quorum; `None` when it did not say.
    pub members: Option<Vec<EtcdMember>>,
    /// What came back instead of an answer.
    pub silent: Option<String>,
}

/// What a host holds, as far as its holdings ask.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Observed {
    /// `/etc/machine-id`.
    pub machine: String,
    /// SHA-256 of each SSH host key, sorted.
    pub host_keys: Vec<String>,
    /// Architecture as Go and the components name it (`amd64`, `arm64`).
    pub arch: String,
    /// Distribution and version, `debian 13`.
    pub os: String,
    /// The host's clock, in seconds since 1970.
    pub clock: i64,
    /// The newest run that acted here.
    pub generation: u64,
    /// A script acts here, of this run or of another one: what is seen is about to change.
    pub acting: bool,
    /// Name of the first process.
    pub init: String,
    /// The kernel's id of this boot.
    pub boot: String,
    /// The cluster that the host carries, and its epoch, as its mark says.
    pub cluster: Option<String>,
    /// Free space, in bytes, by path.
    pub room: BTreeMap<String, u64>,
    /// Items.
    pub found: Found,
    /// etcd.
    pub etcd: EtcdFacts,
    /// The host's own nature, asked of nodes.
    pub facts: Option<HostFacts>,
    /// Whether it swaps, asked of nodes.
    pub swap: bool,
    /// The kubelet's client certificate.
    pub identity: Identity,
    /// By which key it was signed (RFC 5280 section 4.2.1.1, in hexadecimal), where it says so.
    pub identity_by: Option<String>,
    /// Whether a join token is still there, though it is needed no more.
    pub token_left: bool,
    /// Whether the API endpoint resolves, asked of nodes where it is a name.
    pub resolves: Option<bool>,
    /// Programs of the distribution that are not there.
    pub lacks: Vec<String>,
    /// What it shows of the virtual IP, where it may hold it.
    pub address: Option<AddressFacts>,
    /// What did not answer in time, in words.
    pub hangs: Vec<String>,
}

/// What a host shows of the virtual IP.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct AddressFacts {
    /// Whether it has the address.
    pub held: bool,
    /// What the daemon says of itself: `MASTER`, `BACKUP`, `FAULT`; empty where it has said nothing yet.
    pub state: String,
    /// Since when, in seconds since 1970.
    pub since: i64,
    /// Whether it could serve there.
    pub serves: bool,
    /// It was told to leave the address to others, and not yet to take part again.
    pub away: bool,
}

/// An answer that is not complete.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unread {
    /// Its last lines.
    pub tail: String,
    /// What was being looked at when it ended.
    pub doing: Option<String>,
}

impl Unread {
    /// Of a text that did not come to its end; `None` where it did.
    pub fn of(text: &str) -> Option<Self> {
        if text.lines().any(|line| line == "@\tend") {
            return None;
        }
        let doing = text.lines().rev().find_map(|line| line.strip_prefix("@\tnow\t"));
        Some(Self { tail: tail(text), doing: doing.map(|what| plain(what).into_owned()) })
    }
}

pub(crate) fn fields(line: &str) -> Option<Vec<&str>> {
    Some(line.strip_prefix("@\t")?.split('\t').collect())
}

impl Observed {
    /// Identity of the cluster that the host carries, as its mark says.
    pub fn carries(&self) -> Option<&str> {
        self.cluster.as_deref()?.split(' ').next()
    }

    /// Which of that cluster's quorums was the last that the host heard of.
    pub fn epoch(&self) -> Option<u32> {
        let marked = self.cluster.as_deref().and_then(|mark| mark.split(' ').nth(1)?.parse().ok());
        marked.max(self.etcd.epoch)
    }

    /// What its items are compared by.
    pub fn seen<'a>(&'a self, sums: &'a ComponentSums) -> Seen<'a> {
        let Self { found, arch, .. } = self;
        Seen { found, arch, begun: self.etcd.data, hangs: !self.hangs.is_empty(), sums }
    }

    /// Reads a host's answer to [`super::observe`].
    ///
    /// # Errors
    /// When the answer is not complete.
    pub fn read(text: &str) -> Result<Self, Unread> {
        let mut out = Self::default();
        for line in text.lines() {
            let line = plain(line);
            let Some(fields) = fields(&line) else { continue };
            match fields[..] {
                ["machine", id] => out.machine = id.into(),
                ["host-key", key] => out.host_keys.push(digest(key)),
                ["arch", arch] => out.arch = architecture(arch),
                ["os", os] => out.os = os.trim().into(),
                ["clock", seconds] => out.clock = seconds.parse().unwrap_or(0),
                ["acting"] => out.acting = true,
                ["generation", n] => out.generation = n.parse().unwrap_or(0),
                ["init", name] => out.init = name.into(),
                ["boot", id] => out.boot = id.into(),
                ["cluster", mark] if !mark.is_empty() => out.cluster = Some(mark.into()),
                ["room", path, kilobytes] => {
                    let bytes = kilobytes.parse::<u64>().unwrap_or(0).saturating_mul(1_024);
                    out.room.insert(path.into(), bytes);
                }
                ["etcd-data", state] => out.etcd.data = state == "present",
                ["etcd-owner", mark] => out.etcd.owner = Some(mark.trim().into()),
                ["etcd-formed", mark] => out.etcd.formed = Some(mark.trim().into()),
                ["etcd-epoch", mark] => out.etcd.epoch = mark.trim().parse().ok(),
                // In their order: the last one is the newest.
                ["etcd-saved", name] => out.etcd.saved = Some(name.into()),
                ["etcd-pace", text] => {
                    out.etcd.pace = Pace::read(&text.replace(';', "\n"), out.clock);
                }
                ["etcd-unsaved", why] => out.etcd.unsaved = Some(why.trim().into()),
                ["etcd-stray", path] => out.etcd.strays.push(path.into()),
                ["etcd-status", json] => match status(json) {
                    Some(status) => out.etcd.status = Some(status),
                    None => out.etcd.silent = Some(json.chars().take(300).collect()),
                },
                ["etcd-members", json] => out.etcd.members = members(json),
                ["etcd-silent", why] => out.etcd.silent = Some(why.trim().into()),
                ["swap", there] => out.swap = there == "yes",
                ["identity", base64] => {
                    let pem = format!(
                        "-----BEGIN CERTIFICATE-----\n{base64}\n-----END CERTIFICATE-----\n"
                    );
                    (out.identity, out.identity_by) = Identity::of(pem.as_bytes());
                }
                ["token-left", there] => out.token_left = there == "yes",
                ["resolves", it] => out.resolves = Some(it == "yes"),
                ["lacks", program] => out.lacks.push(program.into()),
                ["address", held, serves, state, since, away] => {
                    out.address = Some(AddressFacts {
                        held: held == "held",
                        serves: serves == "serves",
                        state: state.into(),
                        since: since.parse().unwrap_or(0),
                        away: away == "away",
                    });
                }
                ["hangs", what] => out.hangs.push(what.into()),
                _ if nature(&mut out.facts, &fields) => {}
                _ => out.found.read(&fields),
            }
        }
        if let Some(facts) = &mut out.facts {
            facts.arch.clone_from(&out.arch);
            facts.os.clone_from(&out.os);
        }
        out.host_keys.sort();
        Unread::of(text).map_or(Ok(out), Err)
    }
}

/// Takes a line about the host's own nature; returns whether it was one.
pub(crate) fn nature(facts: &mut Option<HostFacts>, fields: &[&str]) -> bool {
    if let Some(facts) = facts {
        return take_nature(facts, fields);
    }
    // What is there is said, and what is not is not.
    let mut looked = HostFacts { time_kept: false, nft: None, apt: false, ..HostFacts::default() };
    let is_one = take_nature(&mut looked, fields);
    if is_one {
        *facts = Some(looked);
    }
    is_one
}

fn take_nature(facts: &mut HostFacts, fields: &[&str]) -> bool {
    match *fields {
        ["cgroups", version] => facts.unified_cgroups = version == "2",
        ["container", it] => facts.container = it == "yes",
        ["nftables", it] => facts.nftables = it == "yes",
        ["called", name] => facts.called = name.into(),
        // A file system that grew a little is the same.
        ["pods-disk", size] => facts.disk_gib = size.parse().unwrap_or(0) / (1 << 20),
        ["brought", names] => {
            facts.brought = names.split_whitespace().map(ToOwned::to_owned).collect();
        }
        ["stub", it] => facts.stub_resolver = it == "yes",
        ["time-kept", it] => facts.time_kept = it == "yes",
        ["unknown-names", it] => facts.unknown_names = it == "yes",
        ["at-runtime", path] => facts.runtime = Some(path.into()),
        ["at-plugins", path] => facts.plugins = Some(path.into()),
        ["at-runtime-config", _] => facts.runtime_config = true,
        ["at-nft", path] => facts.nft = Some(path.into()),
        ["firewall", word] => facts.firewall = Firewall::of(&[word.into()]),
        ["at-haproxy", path] => facts.haproxy = Some(path.into()),
        ["at-keepalived", path] => facts.keepalived = Some(path.into()),
        ["at-openssl", path] => facts.openssl = Some(path.into()),
        ["at-apt", _] => facts.apt = true,
        ["mesh-key", key] => facts.mesh_key = Some(key.into()),
        ["overlay", mac] => facts.overlay_mac = hardware_address(mac),
        ["wireguard", it] => facts.wireguard = it == "yes",
        ["sources", answer] => facts.no_source = answer == "no",
        _ => return false,
    }
    true
}

/// A hardware address as a script takes it; `None` for anything else.
fn hardware_address(text: &str) -> Option<String> {
    crate::cluster::Mac::new(text).ok().map(|mac| mac.to_string())
}

/// An architecture by the name that Go has for it, from that of uname(1).
pub(crate) fn architecture(machine: &str) -> String {
    match machine {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    }
    .into()
}

fn tail(text: &str) -> String {
    let lines: Vec<&str> = text.lines().filter(|l| !l.trim().is_empty()).collect();
    lines[lines.len().saturating_sub(3)..].join(" | ")
}

/// Reads etcdctl's `endpoint status -w json`: a list of one, the fields of `StatusResponse`.
pub(crate) fn status(json: &str) -> Option<EtcdStatus> {
    let value: serde_json::Value = serde_json::from_str(json).ok()?;
    let status = value.get(0)?.get("Status")?;
    let header = status.get("header")?;
    let number = |value: &serde_json::Value, key: &str| value.get(key).and_then(|v| v.as_u64());
    let hex = |n: Option<u64>| format!("{:016x}", n.unwrap_or(0));
    Some(EtcdStatus {
        cluster_id: hex(number(header, "cluster_id")),
        member_id: hex(number(header, "member_id")),
        leader: hex(number(status, "leader")),
        version: status.get("version")?.as_str()?.into(),
        revision: header.get("revision").and_then(|v| v.as_i64()).unwrap_or(0),
        raft_index: number(status, "raftIndex").unwrap_or(0),
        raft_term: number(status, "raftTerm").unwrap_or(0),
        db_size: status.get("dbSize").and_then(|v| v.as_i64()).unwrap_or(0),
        in_use: status.get("dbSizeInUse").and_then(|v| v.as_i64()).unwrap_or(0),
        quota: status.get("dbSizeQuota").and_then(|v| v.as_i64()).unwrap_or(0),
        learner: status.get("isLearner").and_then(|v| v.as_bool()).unwrap_or(false),
        errors: status
            .get("errors")
            .and_then(|v| v.as_array())
            .map(|list| list.iter().filter_map(|e| e.as_str()).map(ToOwned::to_owned).collect())
            .unwrap_or_default(),
    })
}

/// Reads etcdctl's `member list -w json`: the fields of `MemberListResponse`.
pub(crate) fn members(json: &str) -> Option<Vec<EtcdMember>> {
    let value: serde_json::Value = serde_json::from_str(json).ok()?;
    let mut all = Vec::new();
    for member in value.get("members")?.as_array()? {
        let urls = member.get("peerURLs").and_then(|v| v.as_array());
        let urls = urls.into_iter().flatten().filter_map(|url| url.as_str());
        all.push(EtcdMember {
            id: format!("{:016x}", member.get("ID")?.as_u64()?),
            name: member.get("name").and_then(|v| v.as_str()).unwrap_or_default().into(),
            peer_urls: urls.map(ToOwned::to_owned).collect(),
            learner: member.get("isLearner").and_then(|v| v.as_bool()).unwrap_or(false),
            served: member
                .get("clientURLs")
                .and_then(|v| v.as_array())
                .is_some_and(|u| !u.is_empty()),
        });
    }
    all.sort_by(|a, b| a.name.cmp(&b.name));
    Some(all)
}

/// How a stretch ended on its host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// All of it was done.
    Done {
        /// How many operations changed something.
        changed: usize,
    },
    /// An operation failed; the ones after it were not tried.
    Failed {
        /// What was attempted.
        attempted: String,
        /// What came back.
        answer: String,
        /// State and log lines of the unit concerned, as evidence.
        evidence: Vec<String>,
    },
    /// Another run holds the host's lock.
    Busy,
    /// A newer run has acted on the host.
    Newer(u64),
    /// The answer broke off; nothing more is known.
    Cut(String),
}

/// A host's answer to a stretch, read line by line.
#[derive(Clone, Debug, Default)]
pub struct Reply {
    changed: usize,
    failed: Option<(String, String)>,
    evidence: Vec<String>,
    busy: bool,
    newer: Option<u64>,
    end: bool,
    shutting_down: bool,
    noise: Vec<String>,
    doing: Option<String>,
    have: Option<u64>,
    left: Vec<String>,
    requests: Vec<KeyRequest>,
}

impl Reply {
    /// What is asked for keys that the host made.
    pub fn requests(&self) -> &[KeyRequest] {
        &self.requests
    }

    /// What was to be taken back and stays, as others use it.
    pub fn left(&self) -> &[String] {
        &self.left
    }

    /// How many operations said that they changed something, so far.
    pub fn changed(&self) -> usize {
        self.changed
    }

    /// Whether the script said how it ended.
    pub fn is_over(&self) -> bool {
        self.end || self.busy || self.newer.is_some() || self.failed.is_some()
    }

    /// Whether an operation failed as the host shuts down: once it is back, all of the script may go there again.
    pub fn is_shutting_down(&self) -> bool {
        self.shutting_down
    }

    /// What was begun last.
    pub fn doing(&self) -> Option<&str> {
        self.doing.as_deref()
    }

    /// Of a copy that was begun before: how much of it is there.
    pub fn have(&self) -> Option<u64> {
        self.have
    }

    /// Takes one line; returns what is being done or waited for, when it says so.
    pub fn line(&mut self, line: &str) -> Option<String> {
        let line = plain(line);
        let Some(fields) = fields(&line) else {
            if !line.trim().is_empty() && self.noise.len() < 20 {
                self.noise.push(line.trim().to_owned());
            }
            return None;
        };
        match fields[..] {
            ["begin", _, what] => {
                self.doing = Some(what.to_owned());
                return self.doing.clone();
            }
            ["left", what] => self.left.push(what.to_owned()),
            ["key", path, key_sha256, request] => {
                // What cannot be read is no request, and it is told that there is none.
                self.requests.extend(key_request(path, key_sha256, request));
            }
            ["have", octets] => self.have = octets.parse().ok(),
            ["progress", _, what] => return Some(what.to_owned()),
            ["waiting", _, state] => return Some(format!("waiting: systemd says {state}")),
            ["changed", _] => self.changed += 1,
            ["failed", _, attempted, answer] => {
                self.failed = Some((attempted.to_owned(), answer.trim().to_owned()));
            }
            ["log", text] => self.evidence.push(text.trim().to_owned()),
            ["unit-state", unit, active, sub, result] => {
                self.evidence.push(format!("{unit} is {active} ({sub}, result {result})"));
            }
            ["shutting-down"] => {
                self.shutting_down = true;
                self.evidence.push("the host is shutting down".to_owned());
            }
            ["busy"] => self.busy = true,
            ["newer", generation] => self.newer = generation.parse().ok(),
            ["end"] => self.end = true,
            _ => {}
        }
        None
    }

    /// How it ended; `stderr` is what else came back.
    pub fn outcome(self, stderr: &str) -> Outcome {
        if let Some(generation) = self.newer {
            Outcome::Newer(generation)
        } else if self.busy {
            Outcome::Busy
        } else if let Some((attempted, answer)) = self.failed {
            Outcome::Failed { attempted, answer, evidence: self.evidence }
        } else if self.end {
            Outcome::Done { changed: self.changed }
        } else {
            let mut said = self.noise;
            said.extend(
                stderr.lines().filter(|l| !l.trim().is_empty()).map(|l| l.trim().to_owned()),
            );
            Outcome::Cut(said[said.len().saturating_sub(3)..].join(" | "))
        }
    }
}

/// Something that was put on a host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Noted {
    /// Its kind.
    pub kind: String,
    /// Its name or path.
    pub what: String,
    /// What stood there before, in the words of its kind.
    pub before: String,
}

/// What a host notes of what was put on it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Notes {
    /// The identity of the cluster that it carries.
    pub cluster: Option<String>,
    /// What was put, in the order in which it was.
    pub all: Vec<Noted>,
}

impl Notes {
    /// Reads a host's answer to [`super::notes_script`].
    pub fn read(text: &str) -> Self {
        let mut notes = Self::default();
        for line in text.lines() {
            let line = plain(line);
            match fields(&line).as_deref() {
                Some(["noted", kind, what, before @ ..]) => notes.all.push(Noted {
                    kind: kind.replace('_', " "),
                    what: (*what).into(),
                    before: before.join(" "),
                }),
                Some(["cluster", mark]) if !mark.is_empty() => {
                    notes.cluster = mark.split(' ').next().map(ToOwned::to_owned);
                }
                _ => {}
            }
        }
        notes
    }
}

/// A piece of a file, as [`super::fetch_script`] gives it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Piece {
    /// Size in octets and time of change of the whole file; `None` when it is not there.
    pub file: Option<(u64, i64)>,
    /// SHA-256 of the whole file, with its first piece.
    pub sha256: Option<String>,
    /// The octets.
    pub octets: Vec<u8>,
    /// Whether the script came to its end.
    pub complete: bool,
}

impl Piece {
    /// Takes one line of the answer.
    pub fn line(&mut self, line: &str) {
        use base64::Engine as _;
        let Some(fields) = fields(line) else { return };
        match fields[..] {
            ["file", facts] => {
                let mut numbers = facts.split(' ').map(str::parse::<i64>);
                if let (Some(Ok(size)), Some(Ok(time))) = (numbers.next(), numbers.next()) {
                    self.file = Some((size.unsigned_abs(), time));
                }
            }
            ["sum", sum] => self.sha256 = Some(sum.to_owned()),
            ["data", text] => {
                // What cannot be read is missing, and the checksum tells.
                let octets = base64::engine::general_purpose::STANDARD.decode(text);
                self.octets.extend(octets.unwrap_or_default());
            }
            ["end"] => self.complete = true,
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_database_needs_is_told_before_it_stops() {
        let of = |size: i64, errors: &[&str]| {
            let errors = errors.iter().map(|&error| error.to_owned()).collect();
            EtcdStatus { db_size: size, quota: 1_000, errors, ..EtcdStatus::default() }
        };
        assert_eq!(of(799, &[]).needs_upkeep(), []);
        assert!(of(800, &[]).needs_upkeep()[0].0.contains("80 % of its quota"));
        let full = of(1_000, &["memberID:7 alarm:NOSPACE "]).needs_upkeep();
        assert!(full.len() == 1 && full[0].0.contains("refuses writes"), "{full:?}");
        assert!(full[0].1.contains("zoisite defragment"));
        let spoiled = of(1, &["memberID:7 alarm:CORRUPT "]).needs_upkeep();
        assert!(spoiled[0].1.contains("take it out"), "never just taken back");
        // A member that does not say its quota is not judged by it.
        assert_eq!(EtcdStatus { db_size: 9, ..EtcdStatus::default() }.needs_upkeep(), []);
    }
}
