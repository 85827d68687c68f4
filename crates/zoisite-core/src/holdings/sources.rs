use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::aim::EtcdAim;
use crate::cluster::HostName;
use crate::components::NodeImages;
use crate::paths::Firewall;
use crate::pki::{AtRestKey, AtRestKeys, Ledger, Ring, SecretRef, TokenKeyTurn};

/// What holdings are made from, besides the cluster file.
#[derive(Clone, Copy, Debug)]
pub struct Sources<'a> {
    /// Certificates in force.
    pub ledger: &'a Ledger,
    /// This cluster's own identity, made once: tells its data from another cluster's.
    pub cluster_id: &'a str,
    /// Counts the quorums that the cluster had: one that began with a snapshot is another one.
    pub epoch: u32,
    /// What is known of the cluster's shared secrets without opening them.
    pub shared: &'a SharedSecrets,
    /// The pod subnets of each node, as first assigned.
    pub subnets: &'a BTreeMap<HostName, Vec<ipnet::IpNet>>,
    /// What is known of hosts; one that was never met is taken for an ordinary one.
    pub facts: &'a BTreeMap<HostName, HostFacts>,
    /// SHA-256 of secrets that stand in files of the site's own ([`super::registry_secrets`]).
    pub site_secrets: &'a BTreeMap<SecretRef, String>,
    /// The images that every node holds.
    pub images: &'a NodeImages,
    /// The members of the stage that is to be taken; `None` where they begin together, as the file says.
    pub etcd: Option<&'a EtcdAim>,
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
    /// How far its replacement is.
    #[serde(default)]
    pub service_accounts_turn: TokenKeyTurn,
    /// SHA-256 of the private key's PEM text.
    pub service_accounts_sha256: String,
    /// SHA-256 of the text that says how secrets are encrypted in etcd.
    pub encryption_sha256: String,
    /// By which keys, where more than the first one was ever made.
    #[serde(default)]
    pub at_rest: Option<AtRestKeys>,
}

impl SharedSecrets {
    /// The keys by which secrets are encrypted in etcd.
    pub fn at_rest_keys(&self) -> AtRestKeys {
        self.at_rest.clone().unwrap_or_else(|| {
            let id = self.encryption_sha256.chars().take(16).collect();
            AtRestKeys::only(AtRestKey { name: "first".into(), id, made: None })
        })
    }

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
    /// Distribution and version: `ID` and `VERSION_ID` of os-release(5).
    #[serde(default)]
    pub os: String,
    /// What it calls itself; empty where that is not known.
    #[serde(default)]
    pub called: String,
    /// Size of the file system on which pods keep what they write, in GiB; 0 where it is not known.
    #[serde(default)]
    pub disk_gib: u64,
    /// Whether its resolver is one on the host itself, and where that one asks is written beside it.
    #[serde(default)]
    pub stub_resolver: bool,
    /// Whether a time service runs.
    #[serde(default)]
    pub time_kept: bool,
    /// Whether names of the cluster's hosts, or the API endpoint's name, led nowhere before anything was put there.
    #[serde(default)]
    pub unknown_names: bool,
    /// Where its container runtime is.
    #[serde(default)]
    pub runtime: Option<String>,
    /// Where one of the reference plugins of container networks is.
    #[serde(default)]
    pub plugins: Option<String>,
    /// Whether the runtime has a configuration of its distribution's or the site's.
    #[serde(default)]
    pub runtime_config: bool,
    /// Where the firewall's program is.
    #[serde(default)]
    pub nft: Option<String>,
    /// What manages its firewall.
    #[serde(default)]
    pub firewall: Firewall,
    /// Where HAProxy is.
    #[serde(default)]
    pub haproxy: Option<String>,
    /// Where keepalived is.
    #[serde(default)]
    pub keepalived: Option<String>,
    /// Where openssl is.
    #[serde(default)]
    pub openssl: Option<String>,
    /// Whether its kernel has WireGuard.
    #[serde(default)]
    pub wireguard: bool,
    /// The public half of the key that it made for the mesh, in base64.
    #[serde(default)]
    pub mesh_key: Option<String>,
    /// The hardware address of its end of the overlay, where it runs Windows.
    #[serde(default)]
    pub overlay_mac: Option<String>,
    /// Whether apt-get(8) is there.
    #[serde(default)]
    pub apt: bool,
    /// Packages that Zoisite brought there.
    #[serde(default)]
    pub brought: BTreeSet<String>,
    /// Whether no source of packages answered when a program was still to come.
    #[serde(default)]
    pub no_source: bool,
}

impl Default for HostFacts {
    /// A bare machine with Debian's tools, whose clock is kept and whose site has DNS.
    fn default() -> Self {
        Self {
            unified_cgroups: true,
            container: false,
            nftables: true,
            arch: String::new(),
            os: String::new(),
            called: String::new(),
            disk_gib: 0,
            stub_resolver: false,
            time_kept: true,
            unknown_names: false,
            runtime: None,
            plugins: None,
            runtime_config: false,
            nft: Some(crate::layout::NFT.into()),
            firewall: Firewall::Nftables,
            haproxy: None,
            keepalived: None,
            openssl: None,
            wireguard: false,
            mesh_key: None,
            overlay_mac: None,
            apt: true,
            brought: BTreeSet::new(),
            no_source: false,
        }
    }
}
