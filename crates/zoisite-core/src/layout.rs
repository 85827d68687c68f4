//! Where distributions keep what Zoisite needs of them, and which of them were proven.
//!
//! What a host already has is found where it is ([`crate::holdings::HostFacts`]); what is here says where a
//! distribution's own packages put it.

/// Name of the container runtime's unit.
pub const RUNTIME_UNIT: &str = "containerd.service";
/// The container runtime's own configuration, which stays the site's.
pub const RUNTIME_CONFIG: &str = "/etc/containerd/config.toml";
/// Folder of the configuration of container networks.
pub const CNI_CONFIG: &str = "/etc/cni/net.d";
/// The firewall's program.
pub const NFT: &str = "/usr/sbin/nft";
/// The network's program.
pub const IP: &str = "/sbin/ip";
/// The program that speaks with interfaces of WireGuard.
pub const WIREGUARD: &str = "/usr/bin/wg";
/// Its package.
pub const WIREGUARD_TOOLS: &str = "wireguard-tools";
/// The program that carries WireGuard where the kernel does not.
pub const WIREGUARD_PROGRAM: &str = "/usr/bin/wireguard-go";
/// Its package.
pub const WIREGUARD_GO: &str = "wireguard-go";
/// The program that loads modules into the kernel.
pub const MODPROBE: &str = "/sbin/modprobe";
/// systemd's program that sets the kernel's settings from a file.
pub const SYSTEMD_SYSCTL: &str = "/usr/lib/systemd/systemd-sysctl";
/// Folder of unit files that an administrator adds.
pub const UNITS: &str = "/etc/systemd/system";
/// Folder of the programs that Zoisite brings, each below its version.
pub const BROUGHT: &str = "/usr/local/lib/zoisite";

/// A program of a distribution, and the package that brings it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Program {
    /// Its path.
    pub path: &'static str,
    /// Its package.
    pub package: &'static str,
}

/// A distribution that runs systemd.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Distribution {
    /// `ID` of os-release(5).
    pub id: &'static str,
    /// `VERSION_ID`, or its beginning; empty for every one.
    pub version: &'static str,
    /// What was not tried or is not there yet; `None` where a cluster was raised on it, taken back and compared.
    pub unproven: Option<&'static str>,
    /// Whether its packages are installed with apt-get(8).
    pub apt: bool,
    /// The container runtime.
    pub runtime: Program,
    /// One of the reference plugins of container networks: where it is, all are.
    pub plugins: Program,
    /// The program of load balancers.
    pub load_balancer: Program,
    /// The program of the firewall.
    pub nft: Program,
    /// The program that holds a virtual IP.
    pub keepalived: Program,
    /// The program that asks an API server by TLS.
    pub openssl: Program,
    /// A small time service: the package, which is also the name of its unit.
    pub time_service: &'static str,
}

/// Debian's places, which most others share.
const DEBIAN: Distribution = Distribution {
    id: "debian",
    version: "",
    unproven: Some("this version is not proven yet"),
    apt: true,
    runtime: Program { path: "/usr/bin/containerd", package: "containerd" },
    plugins: Program { path: "/usr/lib/cni/bridge", package: "containernetworking-plugins" },
    load_balancer: Program { path: "/usr/sbin/haproxy", package: "haproxy" },
    nft: Program { path: NFT, package: "nftables" },
    keepalived: Program { path: "/usr/sbin/keepalived", package: "keepalived" },
    openssl: Program { path: "/usr/bin/openssl", package: "openssl" },
    time_service: "systemd-timesyncd",
};

/// What is known of distributions. The first row that fits counts.
pub const DISTRIBUTIONS: &[Distribution] = &[
    Distribution { version: "12", unproven: None, ..DEBIAN },
    Distribution { version: "13", unproven: None, ..DEBIAN },
    DEBIAN,
    Distribution {
        id: "ubuntu",
        unproven: Some("its packages are Debian's by name, but no cluster was raised on it yet"),
        ..DEBIAN
    },
    Distribution {
        id: "raspbian",
        unproven: Some("its packages are Debian's, but no cluster was raised on it yet"),
        ..DEBIAN
    },
    Distribution { id: "fedora", ..RED_HAT },
    Distribution { id: "rhel", ..RED_HAT },
    Distribution { id: "rocky", ..RED_HAT },
    Distribution { id: "almalinux", ..RED_HAT },
    Distribution { id: "centos", ..RED_HAT },
];

/// The family of dnf(8).
const RED_HAT: Distribution = Distribution {
    id: "",
    unproven: Some(
        "its packages are not installed by Zoisite (pin the runtime under [components], or install it), its units are not proven under SELinux, and no cluster was raised on it yet",
    ),
    apt: false,
    plugins: Program { path: "/usr/libexec/cni/bridge", package: "containernetworking-plugins" },
    time_service: "chronyd",
    ..DEBIAN
};

impl Distribution {
    /// The row of `os`: `ID` and `VERSION_ID` with a space between; `None` where none fits.
    pub fn known(os: &str) -> Option<&'static Self> {
        let (id, version) = os.split_once(' ').unwrap_or((os, ""));
        let fits = |row: &&Self| {
            let major = version.split('.').next().unwrap_or_default();
            row.id == id && (row.version.is_empty() || row.version == major)
        };
        DISTRIBUTIONS.iter().find(fits)
    }

    /// The row of `os`, or Debian's places where there is none.
    pub fn of(os: &str) -> &'static Self {
        Self::known(os).unwrap_or(&DEBIAN)
    }

    /// The package that brings a program.
    pub fn package_of(&self, path: &str) -> &'static str {
        match path {
            WIREGUARD => return WIREGUARD_TOOLS,
            WIREGUARD_PROGRAM => return WIREGUARD_GO,
            _ => {}
        }
        let all = [
            self.runtime,
            self.plugins,
            self.load_balancer,
            self.nft,
            self.keepalived,
            self.openssl,
        ];
        let beside = |program: &&Program| program.path == path;
        all.iter().find(beside).map_or(self.runtime.package, |program| program.package)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_found_by_what_hosts_say() {
        assert_eq!(Distribution::of("debian 13").unproven, None);
        assert_eq!(Distribution::of("debian 12").version, "12");
        assert!(Distribution::of("debian 11").unproven.is_some());
        assert!(Distribution::of("debian 14").apt);
        assert!(Distribution::of("ubuntu 24.04").unproven.is_some());
        assert!(!Distribution::of("rocky 9.5").apt);
        assert_eq!(Distribution::known("arch "), None);
        assert_eq!(Distribution::of("arch ").runtime, DEBIAN.runtime);
        assert_eq!(DEBIAN.package_of("/usr/sbin/haproxy"), "haproxy");
    }
}
