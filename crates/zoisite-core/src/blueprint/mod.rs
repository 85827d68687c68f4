//! What every host must hold: users, directories, files, components and units, as plain data.
//!
//! A blueprint is a pure function of the cluster file, the ledger and the components' checksums. It
//! is compared with what a host holds, rendered into a folder, shown for review, or carried out, and
//! all of those read the very same items. Lasting intent is kept apart from first-start facts: what
//! matters only when a thing starts for the first time is in [`Content::first_start`] and never
//! counts as a difference.

mod components;
mod etcd;
mod unit;

use std::sync::Arc;

use serde::Serialize;
use sha2::{Digest as _, Sha256};

pub use components::{ComponentSums, ComponentsError, Pinned};
pub use etcd::{EtcdPaths, initial_cluster};
pub use unit::UnitFile;

use crate::cluster::{Cluster, HostName};
use crate::pki::{AuthorityKind, Ledger, Profile};

/// A part of the cluster that is brought up as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// The etcd quorum.
    Etcd,
}

impl Part {
    /// Every part, in the order in which a cluster is brought up.
    pub const ALL: &'static [Self] = &[Self::Etcd];

    /// Its name in options and output.
    pub fn id(self) -> &'static str {
        match self {
            Self::Etcd => "etcd",
        }
    }
}

impl std::fmt::Display for Part {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.id())
    }
}

/// Everything that the hosts must hold.
#[derive(Clone, Debug, Default)]
pub struct Blueprint {
    /// One for each host that holds anything, in the order of the cluster file.
    pub hosts: Vec<HostBlueprint>,
}

impl Blueprint {
    /// The blueprint of one host.
    pub fn host(&self, name: &HostName) -> Option<&HostBlueprint> {
        self.hosts.iter().find(|host| host.host == *name)
    }
}

/// What one host must hold.
#[derive(Clone, Debug)]
pub struct HostBlueprint {
    /// The host.
    pub host: HostName,
    /// Items in the order in which they are put there.
    pub items: Vec<Item>,
    /// What it holds of etcd, if it is a member.
    pub etcd: Option<EtcdPaths>,
}

impl HostBlueprint {
    /// The units among the items.
    pub fn units(&self) -> impl Iterator<Item = &Unit> {
        self.items.iter().filter_map(|item| match item {
            Item::Unit(unit) => Some(unit),
            _ => None,
        })
    }

    /// The files among the items.
    pub fn files(&self) -> impl Iterator<Item = &File> {
        self.items.iter().filter_map(|item| match item {
            Item::File(file) => Some(file),
            _ => None,
        })
    }

    /// The components among the items.
    pub fn components(&self) -> impl Iterator<Item = &Component> {
        self.items.iter().filter_map(|item| match item {
            Item::Component(component) => Some(component),
            _ => None,
        })
    }
}

/// One thing on a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Item {
    /// A system user.
    User(User),
    /// A directory.
    Directory(Directory),
    /// A file.
    File(File),
    /// A pinned file of a component, large and the same everywhere.
    Component(Component),
    /// A systemd unit: whether it is enabled and runs. Its file is a [`File`] of its own.
    Unit(Unit),
}

/// A system user without a shell or a password.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// Its name, and its group's.
    pub name: &'static str,
    /// Its home directory.
    pub home: String,
}

/// A directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Directory {
    /// Absolute path.
    pub path: String,
    /// Owning user and group.
    pub owner: &'static str,
    /// Permission bits.
    pub mode: u32,
}

/// A file, small enough to be written in a script.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct File {
    /// Absolute path.
    pub path: String,
    /// Owning user and group.
    pub owner: &'static str,
    /// Permission bits.
    pub mode: u32,
    /// What is in it.
    pub content: Content,
    /// The unit that must be restarted when this file changes.
    pub restarts: Option<&'static str>,
}

/// A line of this beginning parts a file's lasting text from its first-start facts.
pub const FIRST_START: &str =
    "# First start only: the lines below are worked out when a member starts for the first time.";

/// What is in a [`File`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// Text for all to read.
    Text {
        /// What must always hold.
        lasting: Arc<str>,
        /// What matters at the first start only; stands below [`FIRST_START`].
        first_start: Option<Arc<str>>,
    },
    /// A private key from the vault.
    Key {
        /// Serial number of its certificate.
        serial: String,
        /// Its certificate, as a person says it.
        label: String,
        /// SHA-256 of its PEM text, in hexadecimal.
        sha256: String,
    },
}

impl Content {
    /// Plain text.
    pub fn text(text: impl Into<Arc<str>>) -> Self {
        Self::Text { lasting: text.into(), first_start: None }
    }

    /// The first-start facts, if it has any.
    pub fn first_start(&self) -> Option<&str> {
        match self {
            Self::Text { first_start, .. } => first_start.as_deref(),
            Self::Key { .. } => None,
        }
    }

    /// The whole text of a file that is no secret.
    pub fn whole_text(&self) -> Option<String> {
        match self {
            Self::Text { lasting, first_start: None } => Some(lasting.to_string()),
            Self::Text { lasting, first_start: Some(first) } => {
                Some(format!("{lasting}{FIRST_START}\n{first}"))
            }
            Self::Key { .. } => None,
        }
    }

    /// SHA-256 of what must always hold, in hexadecimal: a difference here is a difference.
    pub fn lasting_sha256(&self) -> String {
        match self {
            Self::Text { lasting, .. } => crate::pki::hex(&Sha256::digest(lasting.as_bytes())),
            Self::Key { sha256, .. } => sha256.clone(),
        }
    }
}

/// A pinned file from the components folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Component {
    /// Where it goes.
    pub path: String,
    /// Which one it is.
    pub pinned: Pinned,
    /// The unit that must be restarted when it changes.
    pub restarts: Option<&'static str>,
}

/// A unit that is enabled and runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unit {
    /// Name with its ending.
    pub name: &'static str,
    /// The role that is disrupted while it restarts.
    pub part: Part,
}

/// What a blueprint is made from, besides the cluster file.
#[derive(Clone, Copy, Debug)]
pub struct Sources<'a> {
    /// Certificates in force.
    pub ledger: &'a Ledger,
    /// This cluster's own identity, made once: tells its data from another cluster's.
    pub cluster_id: &'a str,
}

/// A certificate that a host needs is not in the ledger.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BlueprintError {
    /// A leaf is missing.
    #[error("the {profile} certificate of {host} has not been issued")]
    NoCertificate {
        /// The profile.
        profile: Profile,
        /// The host.
        host: HostName,
    },
    /// An authority is missing.
    #[error("the {0} authority has not been made")]
    NoAuthority(AuthorityKind),
    /// A configuration could not be written as YAML.
    #[error("the etcd configuration of {host} cannot be written: {why}")]
    Yaml {
        /// The host.
        host: HostName,
        /// What the writer said.
        why: String,
    },
}

/// Works out what every host must hold for `parts`.
///
/// # Errors
/// When certificates are missing; every one is reported.
pub fn blueprint(
    cluster: &Cluster,
    sources: Sources<'_>,
    parts: &[Part],
) -> Result<Blueprint, Vec<BlueprintError>> {
    let current = sources.ledger.current();
    let mut errors = Vec::new();
    let mut hosts = Vec::new();
    let members: std::collections::HashSet<&HostName> = cluster.etcd.members.iter().collect();
    for host in &cluster.hosts {
        let mut made = HostBlueprint { host: host.name.clone(), items: Vec::new(), etcd: None };
        for part in parts {
            let done = match part {
                Part::Etcd if members.contains(&host.name) => {
                    etcd::member(cluster, host, sources, &current, &mut made)
                }
                Part::Etcd => Ok(()),
            };
            if let Err(more) = done {
                errors.extend(more);
            }
        }
        if !made.items.is_empty() {
            hosts.push(made);
        }
    }
    if errors.is_empty() { Ok(Blueprint { hosts }) } else { Err(errors) }
}
