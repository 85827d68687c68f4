use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::cluster::HostName;
use crate::components::NodeImages;
use crate::pki::{Ledger, Ring};

/// What holdings are made from, besides the cluster file.
#[derive(Clone, Copy, Debug)]
pub struct Sources<'a> {
    /// Certificates in force.
    pub ledger: &'a Ledger,
    /// This cluster's own identity, made once: tells its data from another cluster's.
    pub cluster_id: &'a str,
    /// What is known of the cluster's shared secrets without opening them.
    pub shared: &'a SharedSecrets,
    /// The pod subnets of each node, as first assigned.
    pub subnets: &'a BTreeMap<HostName, Vec<ipnet::IpNet>>,
    /// What is known of hosts; one that was never met is taken for an ordinary one.
    pub facts: &'a BTreeMap<HostName, HostFacts>,
    /// The images that every node holds.
    pub images: &'a NodeImages,
    /// Addresses of hosts that were met and are no longer in the cluster file: they run on.
    pub departed: &'a BTreeMap<HostName, std::net::IpAddr>,
}

/// What is known of the secrets that all control planes share, without opening them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SharedSecrets {
    /// Public key with which service accounts' tokens are verified, PEM.
    pub service_accounts: String,
    /// Public keys that are accepted beside it, PEM.
    #[serde(default)]
    pub service_accounts_accepted: Vec<String>,
    /// SHA-256 of the private key's PEM text.
    pub service_accounts_sha256: String,
    /// SHA-256 of the text that says how secrets are encrypted in etcd.
    pub encryption_sha256: String,
}

impl SharedSecrets {
    /// The public keys with which service accounts' tokens are verified.
    pub fn service_account_keys(&self) -> Ring<&str> {
        let accepted = self.service_accounts_accepted.iter().map(String::as_str).collect();
        Ring { used: &self.service_accounts, accepted }
    }
}

/// What a host's own nature decides: never a constant, always looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostFacts {
    /// Whether its cgroup hierarchy is the unified one (cgroups(7), version 2).
    pub unified_cgroups: bool,
    /// Whether it is itself a container: it can then set nothing for the whole machine.
    pub container: bool,
    /// Whether its kernel and tools speak nftables.
    pub nftables: bool,
    /// Its architecture in Go's words; empty where it is not known.
    #[serde(default)]
    pub arch: String,
}

impl Default for HostFacts {
    fn default() -> Self {
        Self { unified_cgroups: true, container: false, nftables: true, arch: String::new() }
    }
}
