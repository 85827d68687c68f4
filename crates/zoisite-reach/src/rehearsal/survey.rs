//! What simulated hosts are like: tidy ones, but for the faults in their world.

use std::net::IpAddr;

use ipnet::IpNet;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::holdings::CLUSTER_MARK;
use zoisite_core::survey::{
    AddressFacts, Clock, Facts, LinkFacts, NameServer, Named, PlaceFacts, Written,
};

use super::state::{Fault, World};

impl World {
    /// What a host says of itself.
    pub(super) fn facts(&self, cluster: &Cluster, host: &HostName) -> Facts {
        let server = NameServer { address: [10, 0, 0, 53].into(), direct: true, fault: None };
        let mut facts = Facts {
            name_servers: vec![server],
            os: "debian 13".into(),
            release: "simulated Debian".into(),
            kernel: "6.12.0".into(),
            cores: 4,
            memory: 16_384,
            memory_free: 15_360,
            cgroups: 2,
            nftables: true,
            forwarding: true,
            time_services: vec!["systemd-timesyncd".into()],
            synchronized: Some(true),
            clock: Some(Clock { ahead: 0, within: 1 }),
            written: Some(Written { writes: 64, milliseconds: 0.4, fault: None }),
            ..Facts::default()
        };
        facts.modules.insert("overlay".into(), "loaded".into());
        if let Some(sim) = self.hosts.get(host) {
            facts.machine.clone_from(&sim.machine);
            facts.arch.clone_from(&sim.arch);
            facts.cluster = sim.files.get(CLUSTER_MARK).map(|file| file.text.trim().to_owned());
            facts.etcd_data = sim.data.is_some();
            facts.addresses.push(beside(sim.address, cluster.load_balancers.virtual_ip));
        }
        let second = cluster.host(host).and_then(|known| known.second);
        facts
            .addresses
            .extend(second.map(|second| beside(second, cluster.load_balancers.virtual_ip)));
        facts.links.push(LinkFacts {
            name: "eth0".into(),
            mtu: 1_500,
            up: true,
            ..LinkFacts::default()
        });
        for (purpose, path) in [
            ("programs", "/usr/local/lib/zoisite"),
            ("etcd", cluster.etcd.folder.as_str()),
            ("images", "/var/lib/containerd"),
        ] {
            facts.places.push(PlaceFacts {
                purpose: purpose.into(),
                path: path.into(),
                kind: "ext4".into(),
                mount: "/".into(),
                size: 200_000,
                free: 180_000,
                ..PlaceFacts::default()
            });
        }
        if let Some(name) = cluster.api_name() {
            let got = cluster.api_leads_to();
            facts.names.push(Named { asked: name.to_owned(), got, by_file: false });
        }
        for fault in &self.faults {
            match fault {
                Fault::DiskDead(dead) if dead == host => {
                    let fault = Some("Input/output error".to_owned());
                    facts.written = Some(Written { writes: 0, milliseconds: 0.0, fault });
                }
                Fault::DiskFull(full) if full == host => {
                    facts.places.iter_mut().for_each(|place| place.free = 0);
                }
                Fault::ClockAhead(off, ahead) if off == host => {
                    facts.clock = Some(Clock { ahead: *ahead, within: 1 });
                }
                _ => {}
            }
        }
        facts
    }
}

/// An address in a network of the usual size, or a larger one where the virtual IP stands in it too: a
/// rehearsal cannot know how large the site's is.
fn beside(address: IpAddr, virtual_ip: Option<IpAddr>) -> AddressFacts {
    let usual = if address.is_ipv4() { 24 } else { 64 };
    let virtual_ip = virtual_ip.filter(|virtual_ip| virtual_ip.is_ipv4() == address.is_ipv4());
    let fits = |net: &IpNet| virtual_ip.is_none_or(|virtual_ip| net.contains(&virtual_ip));
    let nets = (0..=usual).rev().filter_map(|bits| IpNet::new(address, bits).ok());
    let net = nets.into_iter().find(fits).unwrap_or_else(|| IpNet::from(address));
    AddressFacts { net, ..AddressFacts::fixed("eth0", address) }
}
