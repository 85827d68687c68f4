//! How far a host has come in joining, by evidence from the cluster's side: also of an offline host, and of one that never
//! appears. Each stage is passed, or not, by evidence that somebody else gave: the record of tokens, packets that arrive at
//! the API endpoint, requests that wait, certificates that were signed, node objects.

mod callers;

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use jiff::Timestamp;
use serde::Serialize;

pub use callers::{callers_script, read_callers};

use crate::cluster::{Cluster, Host, HostName};
use crate::holdings::HostFacts;
use crate::pki::{Ledger, Profile};
use crate::sequence::ApiObserved;
use crate::token::{TokenRecord, TokenState};

/// A stage of joining, in the order in which hosts pass them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// Somebody made a token that lets it in.
    Token,
    /// It meets others in the mesh: where it is one of those that are reached through it alone.
    Mesh,
    /// It connects to the API endpoint.
    Connects,
    /// It requests its certificate.
    Requests,
    /// Its request was signed.
    Signed,
    /// Its node is registered.
    Registered,
    /// Its node is Ready.
    Ready,
}

impl Stage {
    /// Every stage.
    pub const ALL: [Self; 7] = [
        Self::Token,
        Self::Mesh,
        Self::Connects,
        Self::Requests,
        Self::Signed,
        Self::Registered,
        Self::Ready,
    ];

    /// What it is, for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Token => "token",
            Self::Mesh => "mesh",
            Self::Connects => "connects",
            Self::Requests => "requests",
            Self::Signed => "signed",
            Self::Registered => "registered",
            Self::Ready => "Ready",
        }
    }
}

/// How a host stands to a stage.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum Passed {
    /// It is past it; by which evidence.
    Yes {
        /// The evidence.
        seen: String,
    },
    /// It is not.
    No {
        /// The evidence.
        seen: String,
        /// What a person can do.
        fix: String,
    },
    /// It has not come so far, or was not looked at.
    Open,
}

/// How far one host has come.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Joining {
    /// The host.
    pub host: HostName,
    /// Every stage, in order.
    pub stages: Vec<(Stage, Passed)>,
}

impl Callers {
    /// Takes in what another host heard meanwhile.
    pub fn add(&mut self, other: Self) {
        self.who.extend(other.who);
        self.met.extend(other.met);
        self.knocks.extend(other.knocks);
    }
}

impl Joining {
    /// Where it is stopped; nothing of one whose node is Ready.
    pub fn stopped(&self) -> Option<(Stage, &str, &str)> {
        self.stages.iter().find_map(|(stage, passed)| match passed {
            Passed::No { seen, fix } => Some((*stage, seen.as_str(), fix.as_str())),
            Passed::Yes { .. } | Passed::Open => None,
        })
    }

    /// Whether its node is Ready.
    pub fn is_ready(&self) -> bool {
        matches!(self.stages.last(), Some((Stage::Ready, Passed::Yes { .. })))
    }
}

/// Who was heard while somebody counted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Callers {
    /// From where the API endpoint was dialled.
    pub who: BTreeSet<IpAddr>,
    /// Who was met in the mesh, by keys.
    pub met: BTreeSet<String>,
    /// From where something came to the mesh's port by an unknown key.
    pub knocks: BTreeSet<IpAddr>,
    /// For how many seconds was counted.
    pub seconds: u32,
}

/// What is known of those that join.
#[derive(Clone, Copy, Debug)]
pub struct Evidence<'a> {
    /// The cluster file.
    pub cluster: &'a Cluster,
    /// What the API shows.
    pub api: &'a ApiObserved,
    /// Every token that was made.
    pub tokens: &'a [TokenRecord],
    /// Every certificate that was issued.
    pub ledger: &'a Ledger,
    /// What is known of hosts themselves.
    pub facts: &'a BTreeMap<HostName, HostFacts>,
    /// Who dialled, where somebody counted.
    pub callers: Option<&'a Callers>,
    /// The time.
    pub now: Timestamp,
}

impl Evidence<'_> {
    /// How far a host has come.
    pub fn of(&self, host: &Host) -> Joining {
        let name = &host.name;
        let mut stages: BTreeMap<Stage, Passed> = BTreeMap::new();
        let yes = |seen: String| Passed::Yes { seen };
        let no = |seen: String, fix: &str| Passed::No { seen, fix: fix.to_owned() };
        let node = self.api.nodes.get(name.as_str());
        let subject = format!("system:node:{name}");
        let asks = self.api.requests.iter().find(|one| one.subject().as_deref() == Some(&subject));
        let current = self.ledger.current();
        let signed = current.get(&(Profile::KubeletClient, name.clone()));
        let mine = |token: &&TokenRecord| token.is_for(name);
        let used = self.tokens.iter().filter(mine).find_map(|token| {
            token.used.iter().find(|(by, _)| by == name).map(|(_, at)| (token, *at))
        });
        let newest = self.tokens.iter().filter(mine).max_by_key(|token| token.made);

        // From the last stage backwards: what is past a stage was past those before.
        if let Some(node) = node {
            stages.insert(Stage::Registered, yes(format!("its node object is of {}", node.since)));
            stages.insert(
                Stage::Ready,
                match node.ready {
                    true => yes("its node is Ready".into()),
                    false => no(
                        format!("its node is not Ready: {}", or(&node.why, "the kubelet gives no reason")),
                        "zoisite status shows what does not run there; on the host: journalctl -u zoisite-kubelet",
                    ),
                },
            );
        }
        let past = node.is_some();
        stages.insert(
            Stage::Signed,
            match (signed, asks) {
                (Some(entry), _) => yes(format!("signed on {}", day(entry.not_before))),
                (None, _) if past => yes("its node exists".into()),
                (None, Some(request)) => no(
                    format!("its request {} waits", request.name),
                    "zoisite raise checks and signs it",
                ),
                (None, None) => Passed::Open,
            },
        );
        let past = past || signed.is_some();
        stages.insert(
            Stage::Requests,
            match (asks, past) {
                (Some(request), _) => yes(format!("its request {} is there", request.name)),
                (None, true) => yes("its request was signed".into()),
                (None, false) => Passed::Open,
            },
        );
        let past = past || asks.is_some();
        let came = |callers: &&Callers| host.addresses().any(|own| callers.who.contains(&own));
        stages.insert(
            Stage::Connects,
            match (past, self.callers) {
                (true, _) => yes("it has asked".into()),
                (false, Some(callers)) if came(&callers) => {
                    yes(format!("it connected within {} s", callers.seconds))
                }
                (false, Some(callers)) => no(self.silent(callers), "see that it is on, and that what lies between lets it reach the API endpoint; on its own screen: journalctl -u zoisite-kubelet"),
                (false, None) => Passed::Open,
            },
        );
        let dials = matches!(stages[&Stage::Connects], Passed::Yes { .. });
        if self.cluster.is_in_mesh(name) {
            stages.insert(Stage::Mesh, self.mesh(name, dials));
        }
        if dials && !past {
            let fix = "on the host: journalctl -u zoisite-kubelet says why: another authority, a token that ended, a clock that is off";
            stages.insert(
                Stage::Requests,
                no("it connects to the API endpoint, and no request of its arrives".into(), fix),
            );
        }
        stages.insert(
            Stage::Token,
            match (past, used, newest) {
                (_, Some((token, at)), _) => yes(format!("{} was used on {}", token.id, day(at))),
                (true, None, _) => yes("it needs none any more".into()),
                (false, None, None) => no(
                    "no token was made for it".into(),
                    "zoisite raise makes one for hosts that it can log in to, zoisite tokens issue for others",
                ),
                (false, None, Some(token)) => self.token(token),
            },
        );
        if signed.is_some() && node.is_none() {
            let fix = "on the host: journalctl -u zoisite-kubelet; a kubelet whose machine was made again asks again with a new token";
            stages.insert(
                Stage::Registered,
                no("its certificate was signed, and no node of its name registered".into(), fix),
            );
        }
        let stage = |stage: Stage| (stage, stages.remove(&stage).unwrap_or(Passed::Open));
        Joining { host: name.clone(), stages: Stage::ALL.map(stage).to_vec() }
    }

    /// Whether others meet a host in the mesh. What it sends by an unknown key is not answered at all.
    fn mesh(&self, host: &HostName, dials: bool) -> Passed {
        let key = self.facts.get(host).and_then(|facts| facts.mesh_key.as_ref());
        let Some(callers) = self.callers.filter(|_| !dials) else {
            let seen = "it has connected through it".to_owned();
            return if dials { Passed::Yes { seen } } else { Passed::Open };
        };
        let knocks = match callers.knocks.len() {
            0 => String::new(),
            1..=4 => {
                let from: Vec<String> = callers.knocks.iter().map(ToString::to_string).collect();
                format!("; {} knocks with an unknown key", from.join(", "))
            }
            n => format!("; {n} addresses knock with unknown keys"),
        };
        match key {
            Some(key) if callers.met.contains(key) => {
                Passed::Yes { seen: format!("it was met by its key, {key}") }
            }
            Some(key) => Passed::No {
                seen: format!(
                    "no host met it by its key, {key}, within {} s{knocks}",
                    callers.seconds
                ),
                fix: "zoisite mesh tells why two do not meet; on its own screen stands its key"
                    .into(),
            },
            None => Passed::No {
                seen: format!("its key is not known{knocks}"),
                fix: match self.cluster.is_offline(host) {
                    true => format!(
                        "its report tells it: zoisite reports read {host}.report, then zoisite raise"
                    ),
                    false => "zoisite raise has it make one, and tells the others".into(),
                },
            },
        }
    }

    fn token(&self, token: &TokenRecord) -> Passed {
        let fix = "zoisite tokens issue makes another one";
        let no = |seen: String| Passed::No { seen, fix: fix.into() };
        match token.state(self.now) {
            TokenState::Usable if self.api.tokens.contains(&token.id) => Passed::Yes {
                seen: format!("{} may be used until {}", token.id, day(token.expires)),
            },
            TokenState::Usable => {
                no(format!("{} is not published in the cluster any more", token.id))
            }
            TokenState::Ended => no(format!("{} ended on {}", token.id, day(token.expires))),
            TokenState::Revoked => no(format!("{} was revoked", token.id)),
            TokenState::UsedUp => no(format!("{} was used up by others", token.id)),
        }
    }

    /// Nothing of a host arrived: an unknown sender may be it, behind a router that translates.
    fn silent(&self, callers: &Callers) -> String {
        let known: BTreeSet<IpAddr> = self.cluster.hosts.iter().flat_map(Host::addresses).collect();
        let strangers: Vec<String> = callers
            .who
            .iter()
            .filter(|at| !known.contains(at) && !at.is_loopback())
            .map(ToString::to_string)
            .collect();
        let others = match strangers.len() {
            0 => String::new(),
            1..=4 => format!("; {} did, of no host of the file", strangers.join(", ")),
            n => format!("; {n} addresses of no host of the file did"),
        };
        format!("no packet of it reached the API endpoint within {} s{others}", callers.seconds)
    }
}

fn or<'a>(text: &'a str, other: &'a str) -> &'a str {
    if text.is_empty() { other } else { text }
}

/// To the minute, as records are reported.
fn day(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M").to_string()
}
