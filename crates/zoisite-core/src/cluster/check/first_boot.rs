//! First-boot data.

use std::collections::BTreeSet;
use std::net::IpAddr;

use super::super::finding::Finding;
use super::super::host::Host;
use super::Check;

impl Check<'_> {
    /// Every address that a host gets there is in a network that the table names, and every router can be reached from one.
    pub(super) fn first_boot(&mut self) {
        let cluster = self.cluster;
        let Some(first) = &cluster.first_boot else { return };
        let within =
            |address: IpAddr| first.networks.iter().any(|(range, _)| range.contains(&address));
        // One of a mesh is given an address where it stands, unless the file has one there.
        let stands = cluster.hosts.iter().filter(|host| !cluster.is_in_mesh(&host.name));
        let outside = |host: &&Host| host.dialled().any(|address| !within(address));
        let outside: Vec<&Host> = stands.filter(outside).collect();
        if let Some(one) = outside.first() {
            let more = match outside.len() {
                1 => String::new(),
                n => format!(", and {} more hosts", n - 1),
            };
            let lies = one.dialled().find(|address| !within(*address));
            let address = lies.map(|address| address.to_string()).unwrap_or_default();
            let finding = Finding::blocks(
                "first-boot-network",
                format!("{} has the address {address}, in none of first-boot.networks{more}", one.name),
            )
            .fix("name the network it is in, with its router or \"none\": how many bits its address has follows from that");
            self.add(finding, "first-boot.networks", "these");
        }
        let mut seen = BTreeSet::new();
        if let Some(mac) = first.unnamed.iter().find(|mac| !seen.insert(**mac)) {
            let finding =
                Finding::blocks("duplicate-mac", format!("{mac} is in first-boot.unnamed twice"))
                    .fix("each machine is named once, by one of its cards");
            self.add(finding, "first-boot.unnamed", "here");
        }
        let away = first.networks.iter().find_map(|(range, router)| {
            let router = (*router)?;
            (!range.contains(&router)).then_some((range, router))
        });
        if let Some((range, router)) = away {
            let finding = Finding::blocks(
                "first-boot-network",
                format!("the router {router} is not in its network {range}"),
            )
            .fix("a router is reached without another one: name its address in that network");
            self.add(finding, "first-boot.networks", "here");
        }
        let lost = first.routes.iter().find(|(_, via)| !within(*via));
        if let Some((to, via)) = lost {
            let finding = Finding::blocks(
                "first-boot-network",
                format!("the router {via}, which leads to {to}, is in none of first-boot.networks"),
            )
            .fix("hosts reach a router in a network of their own alone");
            self.add(finding, "first-boot.routes", "here");
        }
    }
}
