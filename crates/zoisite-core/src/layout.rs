//! Where distributions keep what Zoisite needs of them. These are Debian's places, and those of most others; one that
//! differs is a change here.

/// The container runtime.
pub const CONTAINERD: &str = "/usr/bin/containerd";
/// Its client.
pub const CONTAINERD_CLIENT: &str = "/usr/bin/ctr";
/// Folder of the container runtime's configuration.
pub const CONTAINERD_CONFIG: &str = "/etc/containerd";
/// Name of the container runtime's unit.
pub const RUNTIME_UNIT: &str = "containerd.service";
/// Folder of the reference plugins of container networks.
pub const CNI_PLUGINS: &str = "/usr/lib/cni";
/// One of them: where it is, all are.
pub const CNI_BRIDGE: &str = "/usr/lib/cni/bridge";
/// Folder of the configuration of container networks.
pub const CNI_CONFIG: &str = "/etc/cni/net.d";
/// The program of balancers.
pub const HAPROXY: &str = "/usr/sbin/haproxy";
/// The firewall's program.
pub const NFT: &str = "/usr/sbin/nft";
/// The network's program.
pub const IP: &str = "/sbin/ip";
/// The program that loads modules into the kernel.
pub const MODPROBE: &str = "/sbin/modprobe";
/// systemd's program that sets the kernel's settings from a file.
pub const SYSTEMD_SYSCTL: &str = "/usr/lib/systemd/systemd-sysctl";
/// Folder of unit files that an administrator adds.
pub const UNITS: &str = "/etc/systemd/system";

/// Programs that a node's distribution must have brought.
pub const NODE_PROGRAMS: [&str; 3] = [CONTAINERD, CONTAINERD_CLIENT, CNI_BRIDGE];

/// The package of Debian that brings a program.
pub(crate) fn package_of(program: &str) -> &'static str {
    match program {
        HAPROXY => "haproxy",
        CNI_BRIDGE => "containernetworking-plugins",
        _ => "containerd",
    }
}
