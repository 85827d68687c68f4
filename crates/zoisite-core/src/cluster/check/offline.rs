//! Offline hosts.

use super::super::finding::Finding;
use super::Check;

impl Check<'_> {
    /// What other hosts depend on is watched, changed step by step, and put right at once: that wants a host that can be
    /// dialled.
    pub(super) fn offline(&mut self) {
        let cluster = self.cluster;
        for host in cluster.offline() {
            let finding = match cluster.depended_on_as(&host.name) {
                Some(role) => Finding::blocks(
                    "offline",
                    format!("{} is offline, and {role}", host.name),
                )
                .fix(
                    "others depend on such a host: make it reachable, or give that role to another one",
                ),
                None if !cluster.is_node(&host.name) => Finding::blocks(
                    "offline",
                    format!("{} is offline, and has nothing to do", host.name),
                )
                .fix("join files are for workers: name it in workers.hosts, or take it out"),
                None => continue,
            };
            self.add(finding, &format!("hosts.{}", host.name), "here");
        }
    }
}
