//! The mesh: which hosts reach each other through it, and what of the API endpoint they have for themselves.

use std::net::IpAddr;

use super::host::Host;
use super::model::{Cluster, Role};
use super::names::HostName;

impl Cluster {
    /// Whether others reach a host through the mesh alone.
    pub fn is_in_mesh(&self, host: &HostName) -> bool {
        self.mesh.as_ref().is_some_and(|mesh| mesh.hosts.contains(host))
    }

    /// Whether hosts connect to one another through the mesh alone, all of them.
    pub fn is_all_mesh(&self) -> bool {
        self.mesh.is_some() && self.hosts.iter().all(|host| self.is_in_mesh(&host.name))
    }

    /// Whether two hosts reach each other through the mesh.
    pub fn meet_in_mesh(&self, one: &HostName, other: &HostName) -> bool {
        one != other && (self.is_in_mesh(one) || self.is_in_mesh(other))
    }

    /// The address that a host of the mesh has outside of it, where the file gives one: certificates name it too.
    pub fn outside(&self, host: &Host) -> Option<IpAddr> {
        let own: IpAddr = host.login.address.as_ref()?.parse().ok()?;
        Some(own).filter(|own| self.is_in_mesh(&host.name) && !own.is_loopback())
    }

    /// The API endpoint that a host has for itself, whose own load balancer forwards from there: an address cannot move
    /// through a mesh.
    pub fn carried_by(&self, host: &HostName) -> Option<IpAddr> {
        self.load_balancers.virtual_ip.filter(|_| self.is_in_mesh(host))
    }

    /// The hosts that may hold the virtual IP; none where there is no such address, or it moves nowhere.
    pub fn virtual_ip_holders(&self) -> Vec<HostName> {
        if self.load_balancers.virtual_ip.is_none() {
            return Vec::new();
        }
        let front = self.holders(self.front()).iter();
        front.filter(|host| !self.is_in_mesh(host)).cloned().collect()
    }

    /// Adds to the load balancers whoever forwards the API endpoint for itself.
    pub(super) fn forward_for_themselves(&mut self) {
        if self.load_balancers.virtual_ip.is_none() || self.mesh.is_none() {
            return;
        }
        // Where the mesh is of all hosts and the file names load balancers, these are meant to be all.
        let all = self.is_all_mesh();
        let added = |host: &HostName| match all {
            true => self.load_balancers.hosts.is_empty(),
            false => {
                self.is_in_mesh(host) && self.is_node(host) && !self.holds(host, Role::LoadBalancer)
            }
        };
        let names = self.hosts.iter().map(|host| &host.name);
        let more: Vec<HostName> = names.filter(|host| added(host)).cloned().collect();
        self.load_balancers.hosts.extend(more);
    }

    /// Load balancers that others may dial at an address of their own: not those that forward for themselves alone.
    pub fn dialled_load_balancers(&self) -> impl Iterator<Item = &Host> {
        let all = self.hosts_of(Role::LoadBalancer).into_iter();
        all.filter(|host| self.carried_by(&host.name).is_none())
    }

    /// The load balancers by which others find the API: where some forward for themselves alone, not these.
    pub fn shared_load_balancers(&self) -> Vec<HostName> {
        let all = self.is_all_mesh();
        let shared = |host: &&HostName| all || self.carried_by(host).is_none();
        self.holders(Role::LoadBalancer).iter().filter(shared).cloned().collect()
    }
}
