//! Policy for certificates: how long, which algorithms, who stands above whom, names besides those that follow.

use std::collections::BTreeMap;

use super::words::words;
use crate::pki::{AuthorityKind, KeyKind, Profile, San};

words! {
    /// Who stands above the authorities that are made here.
    Hierarchy {
        /// Nobody: each signs itself.
        #[default]
        Separate = "separate",
        /// A root of the cluster's own, whose key is sealed beside theirs.
        OneRoot = "one-root",
    }
}

words! {
    /// Where the keys of certificates for hosts are made.
    KeysMade {
        /// On the administrator's machine: they are sealed in its strongbox, and sent to the host that uses them.
        #[default]
        Here = "here",
        /// On the host that uses them: they never leave it, and exist nowhere else.
        OnHosts = "on-hosts",
    }
}

/// Policy for certificates.
#[derive(Clone, Debug)]
pub struct Certificates {
    /// Lifetime of a leaf, in seconds.
    pub seconds: i64,
    /// Lifetime of an authority, in seconds.
    pub authority_seconds: i64,
    /// Key algorithm.
    pub key: KeyKind,
    /// Where keys are made.
    pub keys_made: KeysMade,
    /// Who stands above the authorities.
    pub hierarchy: Hierarchy,
    /// The organisation in authorities' names. (In a leaf's that field is a group of Kubernetes.)
    pub organization: Option<String>,
    /// So long before its end a leaf is issued again, in seconds; by default in the last third of its life, and at most
    /// sixty days.
    pub renew: Option<i64>,
    /// So far in the past certificates begin, in seconds, since hosts' clocks differ.
    pub backdated: i64,
    /// What is said of single profiles.
    pub profiles: BTreeMap<Profile, ProfilePolicy>,
    /// What is said of single authorities.
    pub authorities: BTreeMap<AuthorityKind, AuthorityPolicy>,
}

/// What the file says of the certificates of one profile.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProfilePolicy {
    /// Lifetime, in seconds.
    pub seconds: Option<i64>,
    /// Key algorithm.
    pub key: Option<KeyKind>,
    /// Where its keys are made.
    pub keys_made: Option<KeysMade>,
    /// Names and addresses besides those that follow from the file.
    pub names: Vec<San>,
}

/// What the file says of one authority.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct AuthorityPolicy {
    /// Lifetime, in seconds.
    pub seconds: Option<i64>,
    /// Key algorithm.
    pub key: Option<KeyKind>,
}

impl Certificates {
    /// Lifetime of what a profile is issued, in seconds.
    pub fn seconds_of(&self, profile: Profile) -> i64 {
        self.profiles.get(&profile).and_then(|own| own.seconds).unwrap_or(self.seconds)
    }

    /// The algorithm of its keys.
    pub fn key_of(&self, profile: Profile) -> KeyKind {
        self.profiles.get(&profile).and_then(|own| own.key).unwrap_or(self.key)
    }

    /// Where its keys are made. (One that is not for hosts is made here.)
    pub fn keys_made_of(&self, profile: Profile) -> KeysMade {
        match profile.place() {
            None => KeysMade::Here,
            Some(_) => {
                let own = self.profiles.get(&profile).and_then(|own| own.keys_made);
                own.unwrap_or(self.keys_made)
            }
        }
    }

    /// Whether hosts make any of their keys.
    pub fn any_made_on_hosts(&self) -> bool {
        Profile::ALL.iter().any(|profile| self.keys_made_of(*profile) == KeysMade::OnHosts)
    }

    /// Its names and addresses, besides those that follow from the file.
    pub fn names_of(&self, profile: Profile) -> &[San] {
        self.profiles.get(&profile).map_or(&[], |own| &own.names)
    }

    /// Lifetime of an authority that is made, in seconds.
    pub fn authority_seconds_of(&self, kind: AuthorityKind) -> i64 {
        self.authorities.get(&kind).and_then(|own| own.seconds).unwrap_or(self.authority_seconds)
    }

    /// The algorithm of its key.
    pub fn authority_key_of(&self, kind: AuthorityKind) -> KeyKind {
        self.authorities.get(&kind).and_then(|own| own.key).unwrap_or(self.key)
    }
}
