//! What an earlier cluster left on a host.

use super::super::facts::Facts;
use super::{Case, SiteFinding};
use crate::cluster::Role;

pub(super) fn leftovers(case: &Case<'_>) -> Vec<SiteFinding> {
    let Case { cluster, facts, .. } = case;
    if case.is_ours() {
        return Vec::new();
    }
    let mut out = Vec::new();
    if let Some(mark) = &facts.cluster {
        let id = mark.split_whitespace().next().unwrap_or_default();
        out.push(
            case.blocks("other-cluster", "it carries another cluster of Zoisite's")
                .seen(format!("cluster {id}"))
                .fix("take it out of that cluster first; or another host here"),
        );
    }
    let folder = cluster.etcd.folder.as_str();
    let data = facts.leftovers.iter().find(|left| left.kind == "folder" && left.what == folder);
    if case.holds(Role::EtcdMember) && (facts.etcd_data || data.is_some()) {
        let owner = facts.etcd_owner.as_deref().unwrap_or("of unknown origin");
        out.push(
            case.blocks(
                "other-data",
                format!("etcd's folder {folder} holds data of another cluster"),
            )
            .seen(match data {
                Some(left) => format!("entries in it: {}; owner: {owner}", left.detail),
                None => format!("a data directory; owner: {owner}"),
            })
            .fix(format!(
                "look whose it is; then move it aside: mv {folder} {folder}.before-zoisite"
            )),
        );
    }
    let others: Vec<String> = facts
        .leftovers
        .iter()
        .filter(|left| {
            !(left.kind == "folder" && left.what == folder && case.holds(Role::EtcdMember))
        })
        .map(|left| match left.kind.as_str() {
            "folder" => format!("{}: entries in it: {}", left.what, left.detail),
            "unit" => format!("{}: {}", left.what, left.detail),
            "chains" => format!("{} chains in the table {}", left.detail, left.what),
            "containers" => format!("{} containers in the runtime", left.detail),
            _ => format!("interface {} ({})", left.what, left.detail),
        })
        .collect();
    if !others.is_empty() {
        let mut found = case
            .warns("leftovers", "an earlier cluster left things that may be in the way")
            .fix(leftover_fix(facts));
        found.evidence = others;
        out.push(found);
    }
    out
}

/// What takes an earlier cluster's things away, in the order in which that works.
fn leftover_fix(facts: &Facts) -> String {
    let of = |kind: &'static str| {
        facts.leftovers.iter().filter(move |left| left.kind == kind).map(|left| left.what.as_str())
    };
    let mut ways = Vec::new();
    let units: Vec<&str> = of("unit").collect();
    if !units.is_empty() {
        ways.push(format!("systemctl disable --now {}", units.join(" ")));
    }
    if of("containers").next().is_some() {
        ways.push("its pods: ctr -n k8s.io tasks ls, kill and rm each".into());
    }
    ways.extend(of("link").map(|link| format!("ip link delete {link}")));
    ways.extend(
        of("chains").map(|table| format!("nft delete table {table}, where only that is in it")),
    );
    let folders: Vec<String> = of("folder").map(|f| format!("mv {f} {f}.before-zoisite")).collect();
    ways.extend(folders);
    format!("if they are not needed: {}", ways.join("; "))
}
