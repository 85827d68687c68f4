//! The mesh that is laid over other networks.

use std::net::IpAddr;

use super::super::address::EndpointHost;
use super::super::finding::Finding;
use super::super::host::Host;
use super::super::model::{Mesh, Role};
use super::Check;

/// So many pairs that cannot meet are named.
const NAMED: usize = 6;

impl Check<'_> {
    /// Hosts of the mesh have addresses in it and are logged in at elsewhere, of each pair that meets there one side can be
    /// found by the other, and whoever dials the API endpoint has it for itself.
    pub(super) fn mesh(&mut self) {
        let cluster = self.cluster;
        let Some(mesh) = &cluster.mesh else {
            if let Some(host) = cluster.hosts.iter().find(|host| host.endpoint.is_some()) {
                let finding = Finding::blocks(
                    "mesh-missing",
                    format!("{} has an endpoint, and there is no mesh", host.name),
                )
                .fix("add [mesh] with its range, or take the endpoint out");
                self.add(finding, &format!("hosts.{}", host.name), "here");
            }
            return;
        };
        if mesh.hosts.is_empty() {
            let finding = Finding::warns("mesh-empty", "mesh.hosts is empty")
                .fix("name the hosts that are elsewhere, or take [mesh] out");
            self.add(finding, "mesh.hosts", "no host");
        }
        self.mesh_addresses(mesh);
        self.mesh_strangers();
        self.mesh_endpoints();
        match cluster.load_balancers.virtual_ip {
            Some(stable) if cluster.is_all_mesh() => self.carried_by_each(mesh, stable),
            Some(stable) => self.held_outside(mesh, stable),
            None if cluster.control_plane.hosts.len() > 1
                && cluster.load_balancers.hosts.is_empty() =>
            {
                let finding = Finding::warns(
                    "mesh-stable",
                    "nothing leads the API endpoint to another API server when one is lost",
                )
                .fix("load-balancers.virtual-ip = an address of mesh.range that no host has: every host then has it for itself, and forwards to an API server that is ready");
                self.add(finding, "mesh.range", "in this mesh");
            }
            None => {}
        }
    }

    fn mesh_addresses(&mut self, mesh: &Mesh) {
        let cluster = self.cluster;
        let (within, beside): (Vec<&Host>, Vec<&Host>) =
            cluster.hosts.iter().partition(|host| cluster.is_in_mesh(&host.name));
        let outside = |host: &&Host| host.dialled().any(|own| mesh.range_of(own).is_none());
        let outside: Vec<&Host> = within.iter().copied().filter(outside).collect();
        if !outside.is_empty() {
            let finding = Finding::blocks(
                "mesh-address",
                format!("{} have addresses that are not in mesh.range", some(&outside)),
            )
            .fix("hosts of a mesh reach one another in it: give each an address of the range, and put the one that it has outside into login.address");
            self.add(finding, "mesh.range", "this range");
        }
        let inside = |host: &&Host| host.dialled().any(|own| mesh.range_of(own).is_some());
        let inside: Vec<&Host> = beside.into_iter().filter(inside).collect();
        if !inside.is_empty() {
            let finding = Finding::blocks(
                "mesh-address",
                format!(
                    "{} have addresses in mesh.range, and are not among mesh.hosts",
                    some(&inside)
                ),
            )
            .fix("name them there, or give them the addresses that they have in their own network");
            self.add(finding, "mesh.hosts", "not named here");
        }
        let nowhere = |host: &&Host| host.login.address.is_none() && !host.offline;
        let nowhere: Vec<&Host> = within.into_iter().filter(nowhere).collect();
        if !nowhere.is_empty() {
            let finding = Finding::warns(
                "mesh-login",
                format!("{} have no login.address", some(&nowhere)),
            )
            .fix("an address in the mesh answers once the mesh stands: login.address says how you get there before, or your SSH configuration does");
            self.add(finding, "mesh.range", "not reached first");
        }
    }

    fn mesh_strangers(&mut self) {
        let cluster = self.cluster;
        let hidden: Vec<&Host> =
            cluster.hosts.iter().filter(|host| host.endpoint.is_none()).collect();
        let strangers = |(at, one): (usize, &&Host)| {
            let one = one.name.clone();
            let others = hidden[at + 1..].iter().map(|other| &other.name);
            let met = others.filter(|other| cluster.meet_in_mesh(&one, other));
            met.map(|other| format!("{one} and {other}")).collect::<Vec<_>>()
        };
        let strangers: Vec<String> = hidden.iter().enumerate().flat_map(strangers).collect();
        if strangers.is_empty() {
            return;
        }
        let more = match strangers.len().saturating_sub(NAMED) {
            0 => String::new(),
            n => format!(", and {n} more pairs"),
        };
        let named = strangers[..strangers.len().min(NAMED)].join("; ");
        let finding =
            Finding::blocks("mesh-strangers", format!("neither finds the other: {named}{more}"))
                .fix("of each pair one host needs an endpoint that the other reaches: a port that its router forwards, or a host that is out in the open");
        self.add(finding, "mesh.range", "in this mesh");
    }

    /// What goes to a host beside the mesh goes into it: no endpoint may be there.
    fn mesh_endpoints(&mut self) {
        let cluster = self.cluster;
        let beside = |host: &&Host| !cluster.is_in_mesh(&host.name);
        let inward: Vec<IpAddr> =
            cluster.hosts.iter().filter(beside).flat_map(Host::dialled).collect();
        for host in &cluster.hosts {
            let at = host.endpoint.as_ref().and_then(|endpoint| match endpoint.host {
                EndpointHost::Address(at) => Some(at),
                EndpointHost::Name(_) => None,
            });
            if let Some(at) = at.filter(|at| inward.contains(at)) {
                let finding = Finding::blocks(
                    "mesh-endpoint",
                    format!("{} should be found at {at}, which others reach through the mesh itself", host.name),
                )
                .fix("an endpoint is an address outside: of the router that forwards the port; a host that is out in the open belongs into mesh.hosts, with an address of mesh.range");
                self.add(finding, &format!("hosts.{}", host.name), "here");
            }
        }
    }

    /// Every host dials the API endpoint at itself.
    fn carried_by_each(&mut self, mesh: &Mesh, stable: IpAddr) {
        let cluster = self.cluster;
        if mesh.range_of(stable).is_none() {
            let finding = Finding::blocks(
                "mesh-address",
                format!("the API endpoint {stable} is not in mesh.range"),
            )
            .fix("every host of a mesh has it for itself, and forwards from there: choose one of the range that no host has");
            self.add(finding, "load-balancers.virtual-ip", "outside");
        }
        let mut without = cluster.nodes();
        without.retain(|host| !cluster.holds(&host.name, Role::LoadBalancer));
        if !without.is_empty() {
            let finding = Finding::blocks(
                "mesh-load-balancers",
                format!("{} would not reach the API endpoint", some(&without)),
            )
            .fix("in a mesh it does not move: every node forwards for itself; name all in load-balancers.hosts, or leave that out");
            self.add(finding, "load-balancers.hosts", "not named here");
        }
    }

    /// It moves between hosts of one network beside the mesh.
    fn held_outside(&mut self, mesh: &Mesh, stable: IpAddr) {
        if mesh.range_of(stable).is_some() {
            let finding = Finding::blocks(
                "mesh-address",
                format!("the API endpoint {stable} is in mesh.range"),
            )
            .fix("hosts beside the mesh find it in their own network: choose one there that no host has");
            self.add(finding, "load-balancers.virtual-ip", "inside");
        }
        if self.cluster.virtual_ip_holders().is_empty() {
            let finding = Finding::blocks(
                "mesh-load-balancers",
                "no host outside the mesh would hold the API endpoint",
            )
            .fix("name hosts in load-balancers.hosts that are not among mesh.hosts, or leave mesh.hosts out: all hosts are in the mesh then");
            self.add(finding, "load-balancers.virtual-ip", "not held by any host");
        }
    }
}

/// The first three, and how many more there are.
fn some(hosts: &[&Host]) -> String {
    let names: Vec<&str> = hosts.iter().take(3).map(|host| host.name.as_str()).collect();
    match hosts.len().saturating_sub(3) {
        0 => names.join(", "),
        n => format!("{} and {n} more", names.join(", ")),
    }
}
