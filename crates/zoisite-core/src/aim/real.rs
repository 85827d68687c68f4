//! What is real, as plain data: each fact known, or known not to be.

use std::collections::BTreeMap;

use crate::cluster::HostName;

/// How a member does, as far as was seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Health {
    /// It answered, and knows a leader.
    Well,
    /// Its host was looked at, and it does not serve.
    Down,
    /// Nobody knows: it, or its host, did not answer.
    Unknown,
}

/// A member, as etcd's own list has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Member {
    /// Its id, in hexadecimal.
    pub id: String,
    /// Its name; empty until it was started once.
    pub name: String,
    /// Where the others dial it.
    pub urls: Vec<String>,
    /// It takes everything, and has no vote.
    pub learner: bool,
    /// How it does.
    pub health: Health,
}

impl Member {
    /// Whether it is this host's, which the others dial there.
    pub fn is_of(&self, host: &HostName, url: &String) -> bool {
        is_of(&self.name, &self.urls, host, url)
    }

    /// What people call it: its name, or where it is dialled while it has none.
    pub fn called(&self) -> &str {
        match self.name.as_str() {
            "" => self.urls.first().unwrap_or(&self.id),
            name => name,
        }
    }
}

/// Whether a member of etcd's list is a host's: by its name, or by where it is dialled while it has none.
pub fn is_of(name: &str, urls: &[String], host: &HostName, url: &String) -> bool {
    name == host.as_str() || name.is_empty() && urls.contains(url)
}

/// The quorum, as far as it was seen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Quorum {
    /// Nothing was ever proven: members begin together.
    #[default]
    Unbegun,
    /// It stands, and no member gave its list of members.
    Unseen,
    /// etcd's own list.
    Listed(Vec<Member>),
}

/// A host, as far as a member's data goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Machine {
    /// It did not answer, or is not dialled.
    Silent,
    /// It was looked at.
    Seen {
        /// It holds a member's data.
        data: bool,
        /// Its member was proven once, or serves by etcd's own list, or nothing says that it was ever configured for
        /// this cluster: without data it must not start as if new.
        spent: bool,
    },
}

/// What looking showed, for [`super::next_aim`].
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Real {
    /// The quorum.
    pub quorum: Quorum,
    /// Hosts that are, were or are to be members.
    pub machines: BTreeMap<HostName, Machine>,
    /// How far the log of a member goes that runs, in entries.
    pub entries: BTreeMap<HostName, u64>,
}

impl Real {
    /// The voters that are known to be well, by etcd's own list.
    pub fn well(&self) -> impl Iterator<Item = &Member> {
        self.voters().into_iter().filter(|member| member.health == Health::Well)
    }

    /// Everybody who votes, as etcd's own list has it; empty where no member gave that.
    pub fn voters(&self) -> Vec<&Member> {
        let listed: &[Member] = match &self.quorum {
            Quorum::Listed(list) => list,
            Quorum::Unbegun | Quorum::Unseen => &[],
        };
        listed.iter().filter(|member| !member.learner).collect()
    }

    /// A host, silent where it was not looked at.
    pub fn machine(&self, host: &HostName) -> Machine {
        self.machines.get(host).copied().unwrap_or(Machine::Silent)
    }
}
