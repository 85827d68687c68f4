//! Snapshots of what etcd holds: what is recorded of each, which are good for what, and which may go.

mod there;
mod trial;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

pub(crate) use self::there::SAVE;
pub use self::there::{SAVED_THERE, SavedThere, read_saved, saved_script, taken_at};
pub use self::trial::{
    SNAPSHOT, TrialThere, begin_trial_script, end_trial_script, read_trial, trial_files,
    trial_script,
};
use crate::cluster::{HostName, Snapshots};

/// What a member said and gave when it was saved from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taken {
    /// The member it was taken from.
    pub from: HostName,
    /// etcd's own cluster id, in hexadecimal.
    pub cluster_id: String,
    /// All members by then, by name.
    pub members: Vec<String>,
    /// The member's version of etcd.
    pub version: String,
    /// Everything up to this revision is in it.
    pub revision: i64,
    /// etcd's hash over all keys up to that revision (`HashKV`).
    pub hash: u32,
    /// Up to which revision history was compacted by then: another compaction makes another hash.
    pub compacted: i64,
    /// Size of the whole stream, in octets.
    pub octets: u64,
    /// SHA-256 of the whole stream, in hexadecimal.
    pub sha256: String,
}

impl Taken {
    /// Holds what a member that was started from it says of everything up to its revision against what was recorded.
    ///
    /// # Errors
    /// How they differ.
    pub fn held_against(&self, hash: u32, compacted: i64) -> Result<(), String> {
        match (compacted, hash) == (self.compacted, self.hash) {
            true => Ok(()),
            false => Err(format!(
                "its keys are others: up to revision {} their hash is {hash}, and the member that it was taken from said {}",
                self.revision, self.hash
            )),
        }
    }
}

/// What a member says of its keys, in etcdctl's `endpoint hashkv -w json`.
struct HashKv {
    revision: i64,
    hash: u32,
    compacted: i64,
}

fn hash_kv(text: &str) -> Option<HashKv> {
    let said: serde_json::Value = serde_json::from_str(text).ok()?;
    let said = said.get(0)?.get("HashKV")?;
    let number = |key: &str| said.get(key).and_then(serde_json::Value::as_i64);
    Some(HashKv {
        revision: number("hash_revision")?,
        hash: u32::try_from(number("hash")?).ok()?,
        compacted: number("compact_revision").unwrap_or(0),
    })
}

/// What became of a trial: a member of its own was started from it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tried {
    /// When.
    pub at: Timestamp,
    /// How many keys it holds.
    pub keys: u64,
    /// What was wrong with it; `None` where it is good.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

/// A snapshot, as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    /// What it is called: when it was taken, in UTC.
    pub name: String,
    /// When it was taken.
    pub at: Timestamp,
    /// The cluster's own identity, which its hosts carry too.
    pub cluster: String,
    /// Which of the quorums that the cluster had.
    pub epoch: u32,
    /// Why: asked for, or before what.
    pub why: String,
    /// By which keys its secrets may be encrypted, by their ids ([`crate::pki::AtRestKey`]). (The keys themselves are
    /// in the strongbox.)
    #[serde(default)]
    pub encryption: Vec<String>,
    /// What the member said.
    #[serde(flatten)]
    pub taken: Taken,
    /// What its last trial came to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tried: Option<Tried>,
}

impl Snapshot {
    /// What a snapshot of this moment is called.
    pub fn name_of(at: Timestamp) -> String {
        at.strftime("%Y-%m-%d-%H%M%S").to_string()
    }

    /// Whether a trial found it good.
    pub fn is_good(&self) -> bool {
        self.tried.as_ref().is_some_and(|tried| tried.fault.is_none())
    }

    /// Whether a trial found something wrong with it.
    pub fn is_bad(&self) -> bool {
        self.tried.as_ref().is_some_and(|tried| tried.fault.is_some())
    }
}

/// Those that may go, oldest first: beyond the number or the age that the cluster file keeps. The newest one stays, and
/// so does the newest that was tried and found good. One that was found bad goes with the next that is good.
pub fn to_go<'a>(all: &'a [Snapshot], keep: &Snapshots, now: Timestamp) -> Vec<&'a Snapshot> {
    let mut newest: Vec<&Snapshot> = all.iter().collect();
    newest.sort_by_key(|one| std::cmp::Reverse(one.at));
    let best = newest.iter().find(|one| one.is_good()).map(|one| one.at);
    let stays = |(rank, one): &(usize, &Snapshot)| {
        let young = now.duration_since(one.at).as_secs() <= keep.keep_for;
        let outdone = one.is_bad() && best.is_some_and(|best| best > one.at);
        let kept = *rank < keep.keep && young && !outdone;
        *rank == 0 || best == Some(one.at) || kept
    };
    let gone = newest.into_iter().enumerate().filter(|one| !stays(one)).map(|(_, one)| one);
    let mut gone: Vec<&Snapshot> = gone.collect();
    gone.reverse();
    gone
}

/// What is wrong with how old the newest good one is, by what the cluster file wants; `None` where nothing is.
pub fn too_old(all: &[Snapshot], wanted: &Snapshots, now: Timestamp) -> Option<String> {
    let most = wanted.too_old?;
    let good = all.iter().filter(|one| one.is_good()).max_by_key(|one| one.at);
    match good {
        None => Some("there is no snapshot that was tried and found good".into()),
        Some(one) if now.duration_since(one.at).as_secs() > most => Some(format!(
            "the newest snapshot that was tried and found good is of {}",
            one.at.strftime("%Y-%m-%d %H:%M")
        )),
        Some(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: i64 = 86_400;

    fn of(day: i64, good: Option<bool>) -> Snapshot {
        let at = Timestamp::from_second(day * DAY).unwrap();
        let tried = good.map(|good| Tried {
            at,
            keys: 7,
            fault: (!good).then(|| "its hash is another one".to_owned()),
        });
        Snapshot {
            name: Snapshot::name_of(at),
            at,
            cluster: "c0ffee".into(),
            epoch: 1,
            why: "asked for".into(),
            encryption: Vec::new(),
            taken: Taken {
                from: HostName::new("heron").unwrap(),
                cluster_id: "01".into(),
                members: vec!["heron".into()],
                version: "3.6.16".into(),
                revision: 9,
                hash: 1,
                compacted: 0,
                octets: 10,
                sha256: "ab".into(),
            },
            tried,
        }
    }

    fn policy(keep: usize, days: i64) -> Snapshots {
        Snapshots { keep, keep_for: days * DAY, too_old: Some(2 * DAY), ..Snapshots::default() }
    }

    fn gone(all: &[Snapshot], keep: &Snapshots, day: i64) -> Vec<i64> {
        let now = Timestamp::from_second(day * DAY).unwrap();
        to_go(all, keep, now).iter().map(|one| one.at.as_second() / DAY).collect()
    }

    #[test]
    fn they_are_kept_by_number_and_age_and_the_newest_good_one_always_stays() {
        let all: Vec<Snapshot> = (1..=6).map(|day| of(day, (day == 2).then_some(true))).collect();
        assert_eq!(gone(&all, &policy(9, 90), 6), [0; 0]);
        assert_eq!(gone(&all, &policy(3, 90), 6), [1, 3]);
        assert_eq!(gone(&all, &policy(9, 2), 6), [1, 3]);
        assert_eq!(
            gone(&all, &policy(1, 1), 400),
            [1, 3, 4, 5],
            "the newest, and the newest good one"
        );
        // One that is bad stays only as long as there is nothing better.
        let all = [of(1, Some(true)), of(2, Some(false)), of(3, Some(false)), of(4, Some(true))];
        assert_eq!(gone(&all, &policy(9, 90), 5), [2, 3]);
        assert_eq!(gone(&all[..3], &policy(9, 90), 5), [0; 0]);
    }

    #[test]
    fn only_one_that_was_tried_counts_as_new() {
        let now = Timestamp::from_second(10 * DAY).unwrap();
        let old = |all: &[Snapshot]| too_old(all, &policy(9, 90), now);
        assert!(old(&[of(9, None), of(9, Some(false))]).unwrap().contains("there is no snapshot"));
        assert!(old(&[of(7, Some(true)), of(9, None)]).unwrap().contains("is of 1970-01-08"));
        assert_eq!(old(&[of(8, Some(true))]), None);
        assert_eq!(too_old(&[], &Snapshots::default(), now), None, "it was not asked for");
    }
}
