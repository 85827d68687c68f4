//! Snapshots that members save by themselves, on their own hosts: how, and what is found of them.

use jiff::Timestamp;
use jiff::civil::DateTime;

use super::{Taken, hash_kv};
use crate::cluster::HostName;
use crate::script::{fields, member_list, member_status, wrapped_look};
use crate::text::quote;

/// The folder in which a member's host keeps them, each in a folder of its name.
pub const SAVED_THERE: &str = "/var/lib/zoisite/snapshots";

/// What saves one, run by a timer of systemd's; after lines that set what it uses.
pub(crate) const SAVE: &str = include_str!("save.sh");

/// One that a member's host holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SavedThere {
    /// What it is called there: when it was taken, in UTC.
    pub name: String,
    /// When it was taken.
    pub at: Timestamp,
    /// What the member said of itself just before. How large the stream is and which SHA-256 it has is known once it
    /// was read.
    pub taken: Taken,
}

impl SavedThere {
    /// The stream's path on the host.
    pub fn stream(&self) -> String {
        format!("{SAVED_THERE}/{}/stream", self.name)
    }
}

/// When one was taken that is called so.
pub fn taken_at(name: &str) -> Option<Timestamp> {
    let read = DateTime::strptime("%Y-%m-%d-%H%M%S", name).ok()?;
    read.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|at| at.timestamp())
}

/// The script that lists what a host saved, with what stands beside each; it holds nothing secret.
pub fn saved_script(host: &HostName) -> String {
    let body = format!(
        "for one in {}/*; do\n  if [ -f \"$one/stream\" ]; then\n    say saved \"${{one##*/}}\" \"$(one_line \"$(cat \"$one/hash\")\")\" \"$(one_line \"$(cat \"$one/status\")\")\" \"$(one_line \"$(cat \"$one/members\")\")\"\n  fi\ndone\n",
        quote(SAVED_THERE)
    );
    wrapped_look(&format!("list what {host} saved"), "", &body)
}

/// Reads a host's answer to [`saved_script`], oldest first. What cannot be read is passed over: it is no snapshot.
pub fn read_saved(host: &HostName, text: &str) -> Vec<SavedThere> {
    let mut all: Vec<SavedThere> = text
        .lines()
        .filter_map(|line| match fields(line).as_deref() {
            Some(["saved", name, hash, status, members]) => {
                one(host, name, hash, (status, members))
            }
            _ => None,
        })
        .collect();
    all.sort_by_key(|one| one.at);
    all
}

/// From etcdctl's `endpoint hashkv`, `endpoint status` and `member list`, with `-w json`.
fn one(
    host: &HostName,
    name: &str,
    hash: &str,
    (status, members): (&str, &str),
) -> Option<SavedThere> {
    let known = hash_kv(hash)?;
    let status = member_status(status)?;
    let taken = Taken {
        from: host.clone(),
        cluster_id: status.cluster_id,
        members: member_list(members)?.into_iter().map(|member| member.name).collect(),
        version: status.version,
        revision: known.revision,
        hash: known.hash,
        compacted: known.compacted,
        octets: 0,
        sha256: String::new(),
    };
    Some(SavedThere { name: name.to_owned(), at: taken_at(name)?, taken })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_host_tells_of_its_snapshots_is_read_and_nonsense_passed_over() {
        let hash = r#"[{"Endpoint":"https://10.77.0.11:2379","HashKV":{"header":{"cluster_id":9,"revision":812},"hash":4177313137,"compact_revision":411,"hash_revision":812}}]"#;
        let status = r#"[{"Endpoint":"x","Status":{"header":{"cluster_id":9,"member_id":3,"revision":812},"version":"3.6.16","dbSize":20480,"leader":3}}]"#;
        let members =
            r#"{"members":[{"ID":3,"name":"heron","peerURLs":["https://10.77.0.11:2380"]}]}"#;
        let line =
            |name: &str, hash: &str| format!("@\tsaved\t{name}\t{hash}\t{status}\t{members}\n");
        let text = [
            line("2026-11-27-091500", hash),
            line("2026-11-27-031500", hash),
            line("lost+found", hash),
            line("2026-11-27-101500", ""),
        ];
        let host = HostName::new("heron").unwrap();
        let all = read_saved(&host, &text.concat());
        let names: Vec<&str> = all.iter().map(|one| one.name.as_str()).collect();
        assert_eq!(names, ["2026-11-27-031500", "2026-11-27-091500"]);
        let newest = &all[1];
        assert_eq!(newest.at, "2026-11-27T09:15:00Z".parse().unwrap());
        let Taken { revision, hash, compacted, version, members, .. } = &newest.taken;
        assert_eq!((*revision, *hash, *compacted), (812, 4_177_313_137, 411));
        assert_eq!((version.as_str(), members.as_slice()), ("3.6.16", &["heron".to_owned()][..]));
        assert_eq!(super::super::Snapshot::name_of(newest.at), newest.name);
    }
}
