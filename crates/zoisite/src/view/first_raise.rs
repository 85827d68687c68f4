//! What the first raise does to machines that nothing was put on yet, before it does it.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::script::Operation;
use zoisite_core::sequence::{Sequence, Work};

use super::{count, few, names};

/// Kinds of items in the order in which a person asks for them, each with what it is called here.
const KINDS: [(&str, &str); 9] = [
    ("own name", "host name"),
    ("package", "packages"),
    ("swap", "swap"),
    ("lines of", "lines in"),
    ("rule set of", "firewall"),
    ("sysctl", "kernel"),
    ("module", "modules"),
    ("user", "users"),
    ("unit", "services"),
];

/// What a sequence puts on hosts, by kind, with how much of the rest there is.
pub fn render(cluster: &Cluster, sequence: &Sequence) -> String {
    let mut by_kind: BTreeMap<&str, (BTreeSet<String>, BTreeSet<&HostName>)> = BTreeMap::new();
    let (mut hosts, mut files) = (BTreeSet::new(), 0_usize);
    for step in &sequence.steps {
        let Work::Act(stretch) = &step.work else { continue };
        hosts.insert(&stretch.host);
        for operation in &stretch.operations {
            let (kind, what) = match operation {
                Operation::Put(item) => {
                    let described = item.describe();
                    (described.kind, described.what)
                }
                Operation::Enable(unit) => ("unit", unit.trim_end_matches(".service").to_owned()),
                _ => continue,
            };
            if !KINDS.iter().any(|(known, _)| *known == kind) {
                files += 1;
                continue;
            }
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
    for (kind, called) in KINDS {
        let Some((what, on)) = by_kind.get(kind) else { continue };
        let what: Vec<&String> = what.iter().collect();
        let what = match kind {
            "own name" => "each host is named as in the cluster file".to_owned(),
            "swap" => "switched off, now and at boot".to_owned(),
            "sysctl" => few(&what),
            _ => names(&what),
        };
        let _ = writeln!(out, "  {called:<10} {what} (on {})", count(on.len(), "host"));
    }
    if !by_kind.contains_key("rule set of") {
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
