//! What facts of hosts mean for a cluster: a function for each rule.

mod among;
mod disks;
mod leftovers;
mod network;
mod system;
mod windows;

pub use network::unneeded;

use std::collections::BTreeMap;

use serde::Serialize;

use super::facts::Facts;
use crate::cluster::{Cluster, Grade, Host, HostName, Role};

/// Who fixes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fixer {
    /// A person.
    Person,
    /// `raise`, on its way.
    Raise,
}

/// Something found wrong, or risky, on hosts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SiteFinding {
    /// The host; `None` for this machine.
    pub host: Option<HostName>,
    /// Stable name of the kind of finding, such as `port-busy`.
    pub code: &'static str,
    /// How much it matters: what blocks keeps the host out of a raise.
    pub grade: Grade,
    /// What is wrong, in one sentence.
    pub message: String,
    /// What was seen.
    pub evidence: Vec<String>,
    /// What to do about it; commands are for the host's root.
    pub fix: String,
    /// Who does that.
    pub fixer: Fixer,
}

/// A host, what it is to do, and what it says.
struct Case<'a> {
    cluster: &'a Cluster,
    host: &'a Host,
    facts: &'a Facts,
    /// The id of our own cluster, where it has one yet.
    identity: Option<&'a str>,
}

impl Case<'_> {
    fn holds(&self, role: Role) -> bool {
        self.cluster.holds(&self.host.name, role)
    }

    fn is_node(&self) -> bool {
        self.cluster.is_node(&self.host.name)
    }

    /// Whether it carries our own cluster already.
    fn is_ours(&self) -> bool {
        let mark = self.facts.cluster.as_deref().and_then(|mark| mark.split_whitespace().next());
        mark.is_some() && mark == self.identity
    }

    fn found(&self, grade: Grade, code: &'static str, message: String) -> SiteFinding {
        SiteFinding {
            host: Some(self.host.name.clone()),
            code,
            grade,
            message,
            evidence: Vec::new(),
            fix: String::new(),
            fixer: Fixer::Person,
        }
    }

    fn blocks(&self, code: &'static str, message: impl Into<String>) -> SiteFinding {
        self.found(Grade::Blocks, code, message.into())
    }

    fn warns(&self, code: &'static str, message: impl Into<String>) -> SiteFinding {
        self.found(Grade::Warns, code, message.into())
    }
}

impl SiteFinding {
    fn seen(mut self, evidence: impl Into<String>) -> Self {
        self.evidence.push(evidence.into());
        self
    }

    fn fix(mut self, fix: impl Into<String>) -> Self {
        self.fix = fix.into();
        self
    }

    fn by_raise(mut self) -> Self {
        self.fixer = Fixer::Raise;
        self
    }
}

/// What is looked into on each host, by its own facts.
const RULES: &[fn(&Case<'_>) -> Vec<SiteFinding>] = &[
    network::addresses,
    network::segment,
    network::ranges,
    network::name_servers,
    network::ports,
    disks::rooms,
    disks::mounts,
    disks::disk_speed,
    system::strength,
    system::programs,
    system::swap,
    system::kernel,
    system::time_service,
    network::filters,
    leftovers::leftovers,
    system::restart,
];

/// The same of hosts that run Windows.
const RULES_OF_WINDOWS: &[fn(&Case<'_>) -> Vec<SiteFinding>] =
    &[network::addresses, windows::release];

/// Everything found on hosts, the worst first. `here` is what this machine sees of names; `identity` is the
/// id of our own cluster, where it has one.
pub fn judge(
    cluster: &Cluster,
    facts: &BTreeMap<HostName, Facts>,
    here: Option<&Facts>,
    identity: Option<&str>,
) -> Vec<SiteFinding> {
    let mut out = Vec::new();
    for host in &cluster.hosts {
        let Some(facts) = facts.get(&host.name) else { continue };
        let case = Case { cluster, host, facts, identity };
        let rules = if host.is_linux() { RULES } else { RULES_OF_WINDOWS };
        out.extend(rules.iter().flat_map(|rule| rule(&case)));
    }
    // Hosts that run Windows are alike in nothing that is compared here.
    let mut of_linux = BTreeMap::new();
    let facts = match cluster.windows().next() {
        None => facts,
        Some(_) => {
            let all = facts.iter().filter(|(host, _)| !cluster.runs_windows(host));
            of_linux.extend(all.map(|(host, facts)| (host.clone(), facts.clone())));
            &of_linux
        }
    };
    out.extend(among::machines(facts));
    out.extend(among::clocks(cluster, facts));
    out.extend(among::virtual_ip(cluster, facts));
    out.extend(among::packets(cluster, facts));
    out.extend(among::named(cluster, facts, here));
    // Stable: of one grade the hosts stay in the order of the file.
    out.sort_by_key(|finding| (finding.fixer, finding.grade));
    out
}
