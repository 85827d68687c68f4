//! What the first raise does to machines that nothing was put on yet, before it does it.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::item::Item;
use zoisite_core::script::Operation;
use zoisite_core::sequence::{Sequence, Work};

use super::{count, few, names};

/// What is shown by name, in the order in which a person asks for it. All else counts as a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Shown {
    HostName,
    Packages,
    Swap,
    Lines,
    Firewall,
    Kernel,
    Modules,
    Users,
    Services,
}

impl Shown {
    fn of(item: &Item) -> Option<Self> {
        Some(match item {
            Item::OwnName(_) => Self::HostName,
            Item::Package(_) => Self::Packages,
            Item::NoSwap(_) => Self::Swap,
            Item::Block(_) => Self::Lines,
            Item::Rules(_) => Self::Firewall,
            Item::Sysctl(_) => Self::Kernel,
            Item::Module(_) => Self::Modules,
            Item::User(_) => Self::Users,
            Item::Unit(_) => Self::Services,
            _ => return None,
        })
    }

    fn title(self) -> &'static str {
        match self {
            Self::HostName => "host name",
            Self::Packages => "packages",
            Self::Swap => "swap",
            Self::Lines => "lines in",
            Self::Firewall => "firewall",
            Self::Kernel => "kernel",
            Self::Modules => "modules",
            Self::Users => "users",
            Self::Services => "services",
        }
    }
}

/// What a sequence puts on hosts, by kind, with how much of the rest there is.
pub fn render(cluster: &Cluster, sequence: &Sequence) -> String {
    let mut by_kind: BTreeMap<Shown, (BTreeSet<String>, BTreeSet<&HostName>)> = BTreeMap::new();
    let (mut hosts, mut files) = (BTreeSet::new(), 0_usize);
    for step in &sequence.steps {
        let Work::Act(stretch) = &step.work else { continue };
        hosts.insert(&stretch.host);
        for operation in &stretch.operations {
            let (kind, what) = match operation {
                Operation::Put(item) => match Shown::of(item) {
                    Some(kind) => (kind, item.describe().what),
                    None => {
                        files += 1;
                        continue;
                    }
                },
                Operation::Enable(unit) => {
                    (Shown::Services, unit.trim_end_matches(".service").to_owned())
                }
                _ => continue,
            };
            let (all, on) = by_kind.entry(kind).or_default();
            all.insert(what);
            on.insert(&stretch.host);
        }
    }
    let mut out = format!(
        "This is the first raise of {}. It changes {}:\n",
        cluster.name,
        names(&hosts.iter().collect::<Vec<_>>())
    );
    for (kind, (what, on)) in &by_kind {
        let what: Vec<&String> = what.iter().collect();
        let what = match kind {
            Shown::HostName => "each host is named as in the cluster file".to_owned(),
            Shown::Swap => "switched off, now and at boot".to_owned(),
            Shown::Kernel => few(&what),
            _ => names(&what),
        };
        let _ = writeln!(out, "  {:<10} {what} (on {})", kind.title(), count(on.len(), "host"));
    }
    if !by_kind.contains_key(&Shown::Firewall) {
        let _ = writeln!(out, "  {:<10} not changed", "firewall");
    }
    let _ = writeln!(out, "  {:<10} {}, certificates and folders", "files", count(files, "file"));
    out.push_str(
        "zoisite sequence shows every step, [preparation] in the cluster file says what is left alone,\n\
         and zoisite uninstall --whole-cluster removes all of it again.",
    );
    out
}

#[cfg(test)]
mod tests {
    use zoisite_core::sequence::Sequence;

    #[test]
    fn what_is_put_nowhere_is_not_told() {
        let read =
            zoisite_core::cluster::read(include_str!("../../../../demo/saltmarsh/zoisite.toml"));
        let cluster = read.cluster.unwrap();
        let told = super::render(&cluster, &Sequence::default());
        assert!(
            told.contains("first raise of saltmarsh") && told.contains("firewall   not changed")
        );
        assert!(!told.contains("packages"), "{told}");
    }
}
