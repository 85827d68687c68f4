//! A trial of a snapshot on a host: what is brought there, what is run, and what it says.

use super::{Snapshot, hash_kv};
use crate::cluster::{HostName, Version};
use crate::item::{Component, Pinned};
use crate::script::{fields, wrapped_look};
use crate::text::quote;

/// What a snapshot is called among the components that are brought to hosts: the run opens it where it is kept.
pub const SNAPSHOT: &str = "snapshot";

const TRIAL: &str = include_str!("trial.sh");
const MEMBER: &str = include_str!("trial_member.sh");
/// The folder of a trial, which only root reads.
const FOLDER: &str = "/var/lib/zoisite/trial";

/// The files that a trial on a host needs there: etcd's programs, and the snapshot.
pub fn trial_files(version: Version, snapshot: &Snapshot) -> Vec<Component> {
    let file = |name, version: &str, file: &'static str| Component {
        path: format!("{FOLDER}/{file}"),
        pinned: Pinned { name, version: version.to_owned(), file },
        restarts: None,
    };
    let version = version.to_string();
    let programs = ["etcd", "etcdctl", "etcdutl"].map(|one| file("etcd", &version, one));
    programs.into_iter().chain([file(SNAPSHOT, &snapshot.name, "stream")]).collect()
}

/// The script that makes ready for a trial of a snapshot of so many octets. A timer of the host's takes everything
/// away again, whatever becomes of the run.
pub fn begin_trial_script(host: &HostName, octets: u64) -> String {
    let body = format!("begin_trial {octets}\n");
    wrapped_look(&format!("make ready for a trial on {host}"), TRIAL, &body)
}

/// The script that tries the snapshot that was brought; done again, it begins again.
pub fn trial_script(host: &HostName, revision: i64) -> String {
    // Its text expands where it runs.
    let body = format!("# shellcheck disable=SC2016\ntry_snapshot {revision} {}\n", quote(MEMBER));
    wrapped_look(&format!("try a snapshot on {host}"), TRIAL, &body)
}

/// The script that takes everything of a trial away.
pub fn end_trial_script(host: &HostName) -> String {
    wrapped_look(&format!("end the trial on {host}"), TRIAL, "end_trial\n")
}

/// What a trial on a host came to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TrialThere {
    /// It could not be held there: why.
    Cannot(String),
    /// What is wrong with the snapshot.
    Bad(String),
    /// The member serves.
    Holds {
        /// Its hash up to the revision that was asked for.
        hash: u32,
        /// Up to which revision history was compacted.
        compacted: i64,
        /// How many keys it holds.
        keys: u64,
    },
}

/// Reads a host's answer to [`begin_trial_script`] or [`trial_script`]; `None` where nothing is reported.
pub fn read_trial(text: &str) -> Option<TrialThere> {
    text.lines().find_map(|line| match fields(line).as_deref() {
        Some(["cannot", why]) => Some(TrialThere::Cannot((*why).to_owned())),
        Some(["bad", why]) => Some(TrialThere::Bad((*why).to_owned())),
        Some(["holds", hash, keys]) => Some(holds(hash, keys).unwrap_or_else(|| {
            TrialThere::Cannot(format!("what the member says cannot be read: '{hash}', '{keys}'"))
        })),
        _ => None,
    })
}

/// From etcdctl's `endpoint hashkv -w json` and `get --count-only -w fields`.
fn holds(hash: &str, keys: &str) -> Option<TrialThere> {
    let known = hash_kv(hash)?;
    Some(TrialThere::Holds {
        hash: known.hash,
        compacted: known.compacted,
        keys: keys.parse().ok()?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_trial_says_is_read() {
        let hash = r#"[{"Endpoint":"http://127.0.0.1:2379","HashKV":{"header":{"revision":9},"hash":4177313137,"compact_revision":411,"hash_revision":812}}]"#;
        let held = format!("@\tgoes-on\nnoise\n@\tholds\t{hash}\t219\n@\tend\n");
        let holds = TrialThere::Holds { hash: 4_177_313_137, compacted: 411, keys: 219 };
        assert_eq!(read_trial(&held), Some(holds));
        let bad = "@\tbad\tit does not serve: no\n";
        assert_eq!(read_trial(bad), Some(TrialThere::Bad("it does not serve: no".into())));
        let odd = read_trial("@\tholds\t{}\t{}\n");
        assert!(matches!(odd, Some(TrialThere::Cannot(why)) if why.contains("cannot be read")));
        assert_eq!(read_trial("@\tend\n"), None);
    }
}
