//! What was asked while something was lost, what changed, and what that comes to.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{By, Drill};
use crate::cluster::{DrillLimits, HostName};

/// What is asked, several times a second.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ask {
    /// A TCP connection to the API endpoint.
    Dial,
    /// A read through it, on a new connection.
    Read,
    /// A write through it, on a new connection.
    Write,
    /// A TCP connection to the service of a workload, from nodes.
    Service,
}

impl Ask {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Dial, Self::Read, Self::Write, Self::Service];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Dial => "dial",
            Self::Read => "read",
            Self::Write => "write",
            Self::Service => "service",
        }
    }
}

/// One request. Times are in milliseconds; those of the clock count from the loss.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Asked {
    /// What was asked.
    pub ask: Ask,
    /// The host from which it was asked.
    pub from: HostName,
    /// When.
    pub at: i64,
    /// For how long.
    pub took: i64,
    /// What came instead of an answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

/// Something whose state is watched.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Sight {
    /// Who holds the virtual IP.
    Holder,
    /// Which etcd member leads.
    Leader,
    /// Whether a node is Ready.
    Node(HostName),
    /// Where pods of the workload are ready.
    Pods,
}

impl Sight {
    /// What it is, for people.
    pub fn title(&self) -> String {
        match self {
            Self::Holder => "address".into(),
            Self::Leader => "etcd leader".into(),
            Self::Node(host) => format!("node {host}"),
            Self::Pods => "pods".into(),
        }
    }
}

/// A change of what is watched.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// When, in milliseconds from the loss.
    pub at: i64,
    /// Of what.
    pub of: Sight,
    /// What it is from then on; empty for none.
    pub is: String,
}

/// What a drill measured.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Measured {
    /// What was lost.
    pub drill: Drill,
    /// When.
    pub began: Timestamp,
    /// Every request, by when it was made.
    pub asked: Vec<Asked>,
    /// Every change; what stood before the loss comes first.
    pub changes: Vec<Change>,
    /// When it was given back, in milliseconds from the loss.
    pub fixed: Option<i64>,
    /// When all was as before.
    pub whole: Option<i64>,
    /// What was not as before at the end, if anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left: Option<String>,
    /// Writes that were acknowledged and are not there.
    pub lost_writes: Vec<u32>,
}

/// Requests of one kind, added up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Sum {
    /// The kind.
    pub ask: Ask,
    /// How many were made.
    pub asked: usize,
    /// Those without an answer.
    pub failed: usize,
    /// Those whose answer took longer than [`SLOW`].
    pub slow: usize,
    /// The longest time without an answer to any request, in milliseconds.
    pub longest_gap: i64,
    /// When that began, in milliseconds from the loss.
    pub gap_at: i64,
}

/// From how many milliseconds on an answer is slow.
pub const SLOW: i64 = 1_000;

impl Sum {
    fn of(ask: Ask, all: &[Asked]) -> Option<Self> {
        let own: Vec<&Asked> = all.iter().filter(|asked| asked.ask == ask).collect();
        let mut answered: Vec<i64> = own
            .iter()
            .filter(|asked| asked.fault.is_none())
            .map(|asked| asked.at + asked.took)
            .collect();
        answered.sort_unstable();
        // A gap that goes on when nothing is asked any more counts too, and so does one from the beginning.
        let first = own.iter().map(|asked| asked.at).min()?;
        let last = own.iter().map(|asked| asked.at + asked.took).max()?;
        let points: Vec<i64> =
            std::iter::once(first).chain(answered).chain(std::iter::once(last)).collect();
        let gap = points.windows(2).map(|pair| (pair[1] - pair[0], pair[0]));
        let (longest_gap, gap_at) = gap.max_by_key(|(gap, _)| *gap)?;
        let failed = own.iter().filter(|asked| asked.fault.is_some()).count();
        let slow = own.iter().filter(|a| a.fault.is_none() && a.took > SLOW).count();
        Some(Self { ask, asked: own.len(), failed, slow, longest_gap, gap_at })
    }
}

impl Measured {
    /// Which of earlier drills it is compared with: the last of the same kind in the same way, at the same place if
    /// there was one there. Whoever names no host loses the one that leads, follows or holds *now*, which was
    /// another one the last time, perhaps.
    pub fn before<'a>(&self, earlier: impl IntoIterator<Item = &'a Self>) -> Option<&'a Self> {
        let like = |of: &&Self| {
            let [own, its] = [&self.drill, &of.drill];
            (own.kind, own.by, &own.from) == (its.kind, its.by, &its.from)
                && (own.from.is_none() || own.host == its.host)
        };
        let earlier = earlier.into_iter().filter(like);
        earlier.max_by_key(|of| (of.drill.host == self.drill.host, of.began))
    }

    /// Requests of each kind, added up.
    pub fn sums(&self) -> Vec<Sum> {
        Ask::ALL.iter().filter_map(|ask| Sum::of(*ask, &self.asked)).collect()
    }

    /// The longest time without an answer, of any kind of request, in milliseconds.
    pub fn longest_gap(&self) -> i64 {
        self.sums().iter().map(|sum| sum.longest_gap).max().unwrap_or(0)
    }

    /// What goes beyond the limits of the cluster file, or must never be, in words.
    pub fn beyond(&self, limits: &DrillLimits) -> Vec<String> {
        let mut out = Vec::new();
        for sum in self.sums() {
            if let Some(limit) = limits.longest_gap.filter(|limit| sum.longest_gap > *limit) {
                out.push(format!(
                    "{}: {} without an answer, and [drill] longest-gap is {}",
                    sum.ask.word(),
                    duration(sum.longest_gap),
                    duration(limit)
                ));
            }
        }
        match (self.whole, self.fixed, limits.recovered_within) {
            (None, _, _) => {
                let why = self.left.as_deref().unwrap_or("it was not waited for");
                out.push(format!("not all is as before: {why}"));
            }
            (Some(whole), Some(fixed), Some(limit)) if whole - fixed > limit => {
                out.push(format!(
                    "all was as before {} after the loss ended, and [drill] recovered-within is {}",
                    duration(whole - fixed),
                    duration(limit)
                ));
            }
            _ => {}
        }
        if !self.lost_writes.is_empty() {
            out.push(format!(
                "{} of the writes that were acknowledged are not there",
                self.lost_writes.len()
            ));
        }
        out
    }

    /// What happened when, in words: each in milliseconds from the loss.
    pub fn moments(&self) -> Vec<(i64, String)> {
        let mut out = Vec::new();
        let host = &self.drill.host;
        let lost = match (self.drill.by, &self.drill.from) {
            (_, Some(from)) => format!("{host} gets no packets from {from}"),
            (By::Stop, None) => {
                format!("{} is stopped on {host}", self.drill.unit().unwrap_or("it"))
            }
            (By::Cut, None) => format!("{host} is cut off"),
            (By::Reboot, None) => format!("{host} goes down to start again"),
        };
        out.push((0, lost));
        for change in self.changes.iter().filter(|change| change.at > 0) {
            let is = &change.is;
            out.push((
                change.at,
                match (&change.of, is.is_empty()) {
                    (Sight::Holder, true) => "no host holds the virtual IP".into(),
                    (Sight::Holder, false) => format!("the virtual IP is held by {is}"),
                    (Sight::Leader, true) => "the etcd members have no leader".into(),
                    (Sight::Leader, false) => format!("{is} leads the etcd members"),
                    (Sight::Node(node), _) => format!("node {node} is {is}"),
                    (Sight::Pods, true) => "no pod is ready".into(),
                    (Sight::Pods, false) => format!("pods are ready on {is}"),
                },
            ));
        }
        for sum in self.sums() {
            let word = sum.ask.word();
            let end = sum.gap_at + sum.longest_gap;
            if sum.longest_gap > SLOW {
                let gap = duration(sum.longest_gap);
                out.push((end, format!("{word} is answered again, after {gap}")));
            }
            // Where only some go unanswered, that goes on beyond the gap.
            let failed = self.asked.iter().filter(|a| a.ask == sum.ask && a.fault.is_some());
            let last = failed.map(|asked| asked.at).max();
            if let Some(last) = last.filter(|last| *last >= end) {
                out.push((
                    last,
                    format!("the last of {} that went unanswered: {word}", sum.failed),
                ));
            }
        }
        if let Some(at) = self.fixed {
            out.push((
                at,
                match self.drill.by {
                    By::Reboot => format!("{host} is back"),
                    By::Stop | By::Cut => "what was lost is given back".into(),
                },
            ));
        }
        if let Some(at) = self.whole {
            out.push((at, "all is as before".into()));
        }
        out.sort_by_key(|(at, _)| *at);
        out
    }

    /// From when to when something was seen, in milliseconds from the loss.
    pub fn span(&self) -> (i64, i64) {
        let begins = self.asked.iter().map(|asked| asked.at).min().unwrap_or(0).min(0);
        let ends = self.asked.iter().map(|asked| asked.at + asked.took);
        let ends = ends.chain(self.fixed).chain(self.whole).max().unwrap_or(0);
        (begins, ends.max(1))
    }
}

/// A time in milliseconds, as people read it.
pub fn duration(milliseconds: i64) -> String {
    match milliseconds {
        ..1_000 => format!("{milliseconds} ms"),
        1_000..120_000 => format!("{}.{} s", milliseconds / 1_000, milliseconds % 1_000 / 100),
        _ => format!("{} min {} s", milliseconds / 60_000, milliseconds % 60_000 / 1_000),
    }
}
