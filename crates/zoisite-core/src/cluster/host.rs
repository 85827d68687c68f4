//! One machine of the cluster file.

use std::net::{IpAddr, Ipv4Addr};

use serde::Serialize;

use super::address::{Endpoint, Mac};
use super::names::HostName;
use super::words::words;

/// One machine.
#[derive(Clone, Debug)]
pub struct Host {
    /// Its name, and the name of its node.
    pub name: HostName,
    /// What the cluster dials.
    pub address: IpAddr,
    /// Its address of the other family, by which pods of that family are routed.
    pub second: Option<IpAddr>,
    /// Addresses on networks that the cluster does not use: no range may hold one, certificates name them.
    pub others: Vec<IpAddr>,
    /// The network interface that has `address`, where routes must name it.
    pub interface: Option<String>,
    /// The hardware address of that interface, for reservations on the site's own server.
    pub mac: Option<Mac>,
    /// Where it stands.
    pub place: Place,
    /// How the administrator gets in, where that differs from the cluster's `login`.
    pub login: Login,
    /// Where others find it from outside, by UDP, before they met; `None` behind a router that lets nobody in.
    pub endpoint: Option<Endpoint>,
    /// Whether it is offline: it gets its steps as a join file.
    pub offline: bool,
    /// It runs Windows Server, of this release.
    pub windows: Option<Windows>,
}

impl Windows {
    /// Its build: images for its containers are of the same.
    pub fn build(self) -> u32 {
        match self {
            Self::Server2022 => 20_348,
            Self::Server2025 => 26_100,
        }
    }
}

words! {
    /// A release of Windows Server that the platform supports on nodes.
    Windows {
        /// Windows Server 2022.
        #[default]
        Server2022 = "2022",
        /// Windows Server 2025.
        Server2025 = "2025",
    }
}

impl Host {
    /// What one has for an address that is only known by a card.
    const NOWHERE: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

    /// A machine that is only known by a card: out of reach, and never required to have an address.
    pub(super) fn unnamed(mac: &Mac) -> Option<Self> {
        Some(Self {
            name: HostName::new(&mac.name()).ok()?,
            address: Self::NOWHERE,
            second: None,
            others: Vec::new(),
            interface: None,
            mac: Some(*mac),
            place: Place::default(),
            login: Login::default(),
            endpoint: None,
            offline: true,
            windows: None,
        })
    }

    /// The addresses by which the cluster may dial it: one of each family at most.
    pub fn dialled(&self) -> impl Iterator<Item = IpAddr> + use<> {
        std::iter::once(self.address).chain(self.second)
    }

    /// Whether it runs Linux, as nearly all do.
    pub fn is_linux(&self) -> bool {
        self.windows.is_none()
    }

    /// Whether the file knows nothing of it but a card: it has the address that it is given where it stands.
    pub fn is_unnamed(&self) -> bool {
        self.address == Self::NOWHERE
    }

    /// What it was called before it had a name, if it was an unnamed machine.
    pub fn unnamed_name(&self) -> Option<HostName> {
        HostName::new(&self.mac?.name()).ok()
    }

    /// Every address that the file gives it.
    pub fn addresses(&self) -> impl Iterator<Item = IpAddr> + '_ {
        self.dialled().chain(self.others.iter().copied())
    }

    /// Its address of the family of `other`, if the cluster may dial it there.
    pub fn address_beside(&self, other: IpAddr) -> Option<IpAddr> {
        self.dialled().find(|address| address.is_ipv4() == other.is_ipv4())
    }
}

/// Where a host stands: what may be lost at once.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Place {
    /// Building, hide, island.
    pub site: Option<String>,
    /// Rack, shelf or power circuit at that site.
    pub rack: Option<String>,
}

/// How the administrator reaches a host; what is absent is left to the person's own SSH setup.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct Login {
    /// Name or address to log in at; the host's address when absent.
    pub address: Option<String>,
    /// SSH port.
    pub port: Option<u16>,
    /// User with passwordless sudo.
    pub user: Option<String>,
    /// SSH client configuration file, relative to the cluster file.
    pub ssh_config: Option<String>,
}
