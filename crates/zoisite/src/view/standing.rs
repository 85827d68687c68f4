//! What stands, for a person: quorum, control plane, load balancers, nodes, and what differs on hosts.

use jiff::Timestamp;
use zoisite_core::cluster::HostName;
use zoisite_core::script::{EtcdStatus, Pace};
use zoisite_core::sequence::{Difference, NodeFacts};

use super::reports::in_short;
use super::table::{Column, ranked};
use super::{Style, bytes, count, day, names};
use crate::site::Site;
use crate::standing::{NodeStatus, QuorumStatus, ServiceStatus, Standing};

/// What to do about hosts that did not answer is much the same for many of them.
const FIXES: usize = 6;

/// What stands, for a person.
pub fn render(site: &Site, standing: &Standing, now: Timestamp, style: Style) -> String {
    let mut out = format!("{} · ", style.bold(&standing.quorum.cluster));
    if standing.quorum.members_wanted > 0 {
        out.push_str(&render_quorum(&standing.quorum, style));
        out.push('\n');
    }
    if !standing.control_planes.is_empty() {
        out.push_str(&render_control(site, standing, now, style));
    }
    if !standing.nodes.is_empty() {
        out.push('\n');
        out.push_str(&render_nodes(standing, now, style));
    }
    if let Some((name, _)) = &standing.snapshot {
        out.push_str(&format!("\n  newest good snapshot: {name}"));
    }
    if let Some((host, at)) = &standing.saved_there {
        out.push_str(&format!(
            "\n  newest saved by members: {} on {host}",
            zoisite_core::snapshot::Snapshot::name_of(*at)
        ));
    }
    for (host, address) in &standing.departed {
        out.push_str(&format!("\n  {}", style.warn(&super::departed(host, *address))));
    }
    for member in &standing.quorum.unnamed {
        let (name, urls) = (&member.name, member.peer_urls.join(", "));
        let votes = if member.learner { "learner" } else { "member" };
        let text =
            format!("{name} ({urls}) is a {votes} of the quorum, and the file does not name it");
        out.push_str(&format!("\n  {}", style.warn(&text)));
    }
    for (text, fix) in &standing.waits {
        out.push_str(&format!("\n  {}\n    fix   {fix}", style.warn(text)));
    }
    for text in &standing.objects {
        out.push_str(&format!("\n  {}", style.warn(text)));
    }
    for (host, what) in &standing.hanging {
        for what in what {
            out.push_str(&format!("\n  {}", style.bad(&format!("{host}: {what}"))));
        }
    }
    for (fix, hosts) in standing.fixes.iter().take(FIXES) {
        let who = names(hosts);
        out.push_str(&format!("\n  {who}: {fix}"));
    }
    if standing.fixes.len() > FIXES {
        let more = count(standing.fixes.len() - FIXES, "host");
        out.push_str(&format!("\n  and {more} more that did not answer"));
    }
    let differences: Vec<&Difference> = standing.differences().collect();
    for difference in differences.iter().take(12) {
        let text = format!("{}: {difference}", difference.host);
        out.push_str(&format!("\n  {}", style.warn(&text)));
    }
    if differences.len() > 12 {
        out.push_str(&format!("\n  and {} more", count(differences.len() - 12, "difference")));
    }
    if !differences.is_empty() {
        out.push_str("\n  zoisite sequence shows what raise would do about it");
    }
    out.push('\n');
    out
}

/// What differs on hosts is worth a column where it is not the same everywhere; what is as wanted is said
/// once.
fn on_hosts(all: &mut [Vec<String>], titles: &mut Vec<Column<'static>>) -> &'static str {
    let same = all.iter().all(|row| row.last().is_some_and(|cell| cell == MATCHES));
    if !same || all.is_empty() {
        return "";
    }
    titles.pop();
    all.iter_mut().for_each(|row| {
        row.pop();
    });
    ", hosts match the file"
}

const MATCHES: &str = "matches the file";

fn on_host(state: &str, differences: &[Difference]) -> String {
    match differences.len() {
        0 if state == "unreachable" || state == "unknown" => "unknown".into(),
        0 => MATCHES.into(),
        n => count(n, "difference"),
    }
}

fn render_control(site: &Site, standing: &Standing, now: Timestamp, style: Style) -> String {
    let ready = standing.control_planes.iter().filter(|one| one.state == "ready").count();
    let all = standing.control_planes.len();
    let address = &site.cluster.control_plane.endpoint;
    let head = match (ready, &standing.stable) {
        (0, _) => style.bad("no API server is ready"),
        (_, Some(Err(_))) => style.bad(&format!("{address} does not answer")),
        (n, Some(Ok(()))) if n == all => style.good(&format!("ready at {address}")),
        (_, Some(Ok(()))) => style.warn(&format!("ready at {address}, not all are well")),
        (_, None) => style.warn("the API endpoint was not asked"),
    };
    let rows = standing.control_planes.iter().map(|service| ("control plane", service));
    let rows = rows.chain(standing.load_balancers.iter().map(|service| ("load balancer", service)));
    let holders = standing.virtual_ip.iter().flat_map(|virtual_ip| &virtual_ip.holders);
    let rows = rows.chain(holders.map(|service| ("address", service)));
    let rows = rows.chain(standing.registries.iter().map(|service| ("registry", service)));
    // Nearly every host is one: those that are well say nothing.
    let ails = |one: &&ServiceStatus| one.state != "ready" || !one.differences.is_empty();
    let meshed = standing.meshed.iter().filter(ails);
    let rows = rows.chain(meshed.map(|service| ("mesh", service)));
    let monitors = standing.monitors.iter().filter(ails);
    let rows = rows.chain(monitors.map(|service| ("monitoring", service)));
    let rows = rows.map(|(what, service)| {
        let ailing: Vec<String> = service
            .units
            .iter()
            .filter(|(_, state)| *state != "active")
            .map(|(unit, state)| format!("{} {state}", short(unit)))
            .collect();
        let units = match (ailing.is_empty(), service.units.is_empty()) {
            (_, true) => "unknown".into(),
            (true, _) => {
                service.units.keys().map(|unit| short(unit)).collect::<Vec<_>>().join(", ")
            }
            (false, _) => ailing.join(", "),
        };
        vec![
            service.host.to_string(),
            what.to_owned(),
            service.state.to_owned(),
            units,
            on_host(service.state, &service.differences),
        ]
    });
    let mut titles =
        vec![("host", 0), ("serves as", 0), ("state", 0), ("units", 2), ("on the host", 0)];
    let mut rows: Vec<Vec<String>> = rows.collect();
    let same = on_hosts(&mut rows, &mut titles);
    let mut out = format!("control plane: {head} ({ready} of {all}){same}\n\n");
    out.push_str(&ranked(&titles, rows));
    if let Some(virtual_ip) = &standing.virtual_ip {
        let since =
            virtual_ip.since.map_or(String::new(), |since| format!(" for {}", age(since, now)));
        let held = match virtual_ip.held_by.as_slice() {
            [] => style.bad("not held by any host"),
            [one] => style.good(&format!("held by {one}{since}")),
            several => style.bad(&format!(
                "held by {} at once: they do not hear one another (VRRP, IP protocol 112)",
                names(several)
            )),
        };
        let others = match virtual_ip.others.as_slice() {
            [] => style.warn("no other host could serve there"),
            others => format!("{} can take over", names(others)),
        };
        out.push_str(&format!("\n  virtual IP {}: {held}; {others}\n", virtual_ip.address));
    }
    if let Some(Err(why)) = &standing.stable {
        out.push_str(&format!("\n  {address}: {}\n", style.dim(why)));
    }
    for service in standing.services() {
        if let Some(why) = &service.why {
            out.push_str(&format!("\n  {}: {}\n", service.host, style.dim(why)));
        }
    }
    out
}

/// `zoisite-api-server.service` as a person says it.
fn short(unit: &str) -> &str {
    let unit = unit.strip_suffix(".service").unwrap_or(unit);
    unit.strip_prefix("zoisite-").unwrap_or(unit)
}

fn render_nodes(standing: &Standing, now: Timestamp, style: Style) -> String {
    let ready = standing.nodes.iter().filter(|node| node.state == "Ready").count();
    let all = standing.nodes.len();
    let head = match &standing.api_silent {
        Some(why) => style.bad(&format!("unknown: {why}")),
        None if standing.nodes.iter().any(|node| !node.looked) => {
            style.warn("not all hosts could be reached")
        }
        None if ready == all => style.good("all Ready"),
        None => style.warn("not all are Ready"),
    };
    let row = |node: &NodeStatus| {
        let from = |value: &dyn Fn(&NodeFacts) -> String| {
            node.facts.as_ref().map_or_else(|| "–".to_owned(), value)
        };
        let subnets = |facts: &NodeFacts| {
            facts.subnets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        };
        vec![
            node.host.to_string(),
            node.state.to_owned(),
            from(&|facts| facts.version.clone()),
            from(&|facts| facts.since.parse().map_or("–".into(), |since| age(since, now))),
            from(&subnets),
            match (node.certificate, node.certificate_end) {
                (_, None) => "–".into(),
                ("valid", Some(end)) => day(end),
                (state, Some(end)) => format!("{} ({state})", day(end)),
            },
            match (node.offline, node.looked) {
                (true, _) => "offline".into(),
                (false, true) => on_host(node.state, &node.differences),
                (false, false) => on_host("unreachable", &node.differences),
            },
        ]
    };
    let mut titles = vec![
        ("node", 0),
        ("state", 0),
        ("kubelet", 2),
        ("age", 3),
        ("pod subnet", 4),
        ("certificate ends", 1),
        ("on the host", 0),
    ];
    let well =
        |node: &&NodeStatus| node.state == "Ready" && node.looked && node.differences.is_empty();
    // Of a large cluster what is well is one line, and what ails in the same way is one.
    let mut rows: Vec<Vec<String>> = match all > MOST_NODES {
        false => standing.nodes.iter().map(row).collect(),
        true => grouped(
            standing.nodes.iter().filter(|node| !well(node)).map(|node| (&node.host, row(node))),
        ),
    };
    let same = on_hosts(&mut rows, &mut titles);
    let mut out = format!("nodes: {head} ({ready} of {all}){same}\n\n");
    if !rows.is_empty() {
        out.push_str(&ranked(&titles, rows));
    }
    if all > MOST_NODES {
        let well = standing.nodes.iter().filter(well).count();
        out.push_str(&format!("  {} Ready, matching the file\n", count(well, "node")));
    }
    let ailing = |node: &&NodeStatus| node.state != "Ready" || !node.looked;
    for node in standing.nodes.iter().filter(ailing).take(12) {
        if let Some(why) = &node.why {
            let short: String = why.chars().take(160).collect();
            out.push_str(&format!("\n  {}: {}\n", node.host, style.dim(&short)));
        }
    }
    let away = standing.nodes.iter().filter(|node| node.offline);
    for (at, node) in away.take(12).enumerate() {
        let gap = if at == 0 { "\n" } else { "" };
        let told = in_short(node.carried.as_ref());
        out.push_str(&format!("{gap}  {} is offline: {}\n", node.host, style.dim(&told)));
    }
    out
}

/// More nodes than this are shown in groups.
const MOST_NODES: usize = 40;

/// Rows of hosts in the same state with the same differences become one, with all their names; what is not
/// the same in them is left out.
fn grouped<'a>(rows: impl Iterator<Item = (&'a HostName, Vec<String>)>) -> Vec<Vec<String>> {
    let mut groups: Vec<(Vec<&HostName>, Vec<String>)> = Vec::new();
    for (host, row) in rows {
        let alike = |group: &&mut (Vec<&HostName>, Vec<String>)| {
            group.1[1] == row[1] && group.1.last() == row.last()
        };
        match groups.iter_mut().find(alike) {
            None => groups.push((vec![host], row)),
            Some((hosts, known)) => {
                hosts.push(host);
                for (known, cell) in known.iter_mut().zip(row) {
                    if *known != cell {
                        *known = "–".into();
                    }
                }
            }
        }
    }
    let named = groups.into_iter().map(|(hosts, mut row)| {
        row[0] = names(&hosts);
        row
    });
    named.collect()
}

/// `40 s`, `12 min`, `3 h`, `25 d`.
fn age(since: Timestamp, now: Timestamp) -> String {
    match now.as_second() - since.as_second() {
        ..0 => "0 s".into(),
        seconds @ 0..120 => format!("{seconds} s"),
        seconds @ 120..7_200 => format!("{} min", seconds / 60),
        seconds @ 7_200..172_800 => format!("{} h", seconds / 3_600),
        seconds => format!("{} d", seconds / 86_400),
    }
}

fn render_quorum(status: &QuorumStatus, style: Style) -> String {
    let head = match (status.serves, status.healthy == status.voters, status.agree) {
        (_, _, false) => style.bad("members do not agree on which cluster they form"),
        (true, true, _) => style.good("healthy"),
        (true, false, _) => style.warn("reading and writing go on, not all members are well"),
        (false, _, _) => style.bad("no quorum: nothing can be written"),
    };
    let leader =
        status.leader.as_ref().map_or(String::new(), |leader| format!(", led by {leader}"));
    let rows = status.members.iter().map(|member| {
        let from = |value: &dyn Fn(&EtcdStatus) -> String| {
            member.status.as_ref().map_or_else(|| "–".to_owned(), value)
        };
        let mut alarms = from(&|s| s.errors.join(", "));
        if alarms.is_empty() {
            alarms = "none".into();
        }
        vec![
            member.host.to_string(),
            match (member.leader, member.learner) {
                (true, _) => format!("{}, leads", member.state),
                (false, true) => format!("{}, learns (no vote yet)", member.state),
                (false, false) => member.state.to_owned(),
            },
            from(&|s| s.version.clone()),
            from(&|s| s.revision.to_string()),
            from(&|s| s.raft_index.to_string()),
            from(&|s| bytes(s.db_size)),
            member.pace.map_or_else(
                || "–".to_owned(),
                |pace| pace.disk_ms.map_or_else(|| "> 8 s".to_owned(), |ms| format!("{ms} ms")),
            ),
            alarms,
            member.certificates_end.map_or_else(|| "–".into(), day),
            on_host(member.state, &member.differences),
        ]
    });
    let mut titles = vec![
        ("member", 0),
        ("state", 0),
        ("version", 1),
        ("revision", 4),
        ("raft index", 4),
        ("database", 3),
        ("disk", 3),
        ("alarms", 0),
        ("first end", 1),
        ("on the host", 0),
    ];
    let mut rows: Vec<Vec<String>> = rows.collect();
    let same = on_hosts(&mut rows, &mut titles);
    // No alarm is nothing to show, nor is what nobody said.
    let mut without = |title: &str, nothing: &str| {
        let at = titles.iter().position(|(known, _)| *known == title).filter(|at| {
            rows.iter().all(|row| row.get(*at).is_some_and(|shown| shown == nothing))
        })?;
        titles.remove(at);
        rows.iter_mut().for_each(|row| {
            row.remove(at);
        });
        Some(())
    };
    let quiet = without("alarms", "none").is_some();
    without("disk", "–");
    let mut out = format!(
        "etcd quorum: {head} ({} of {}{leader}){}{same}\n\n",
        status.healthy,
        count(status.voters, "member"),
        if quiet { ", no alarms" } else { "" },
    );
    out.push_str(&ranked(&titles, rows));
    for member in &status.members {
        if let Some(why) = &member.why {
            let short: String = why.chars().take(160).collect();
            out.push_str(&format!("\n  {}: {}\n", member.host, style.dim(&short)));
        }
    }
    let suffer = status.members.iter().flat_map(|member| {
        let all = member.pace.iter().flat_map(Pace::suffers);
        all.map(move |what| style.warn(&format!("{}: {what}", member.host)))
    });
    let suffer: Vec<String> = suffer.map(|what| format!("  {what}\n")).collect();
    if !suffer.is_empty() {
        out.push_str(&format!("\n{}", suffer.concat()));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hundreds_that_ail_in_the_same_way_are_one_row() {
        let hosts: Vec<HostName> =
            (1..=300).filter_map(|n| HostName::new(&format!("tern-{n}")).ok()).collect();
        let row = |host: &HostName| {
            let odd = host.as_str() == "tern-7";
            let state = if odd { "not joined" } else { "not Ready" };
            let cells = [host.as_str(), state, "1.36.3", host.as_str(), "matches the file"];
            cells.map(ToOwned::to_owned).to_vec()
        };
        let rows = grouped(hosts.iter().map(|host| (host, row(host))));
        assert_eq!(rows.len(), 2);
        assert_eq!(rows[0][0], "tern-1, tern-2 … tern-300 (299)");
        assert_eq!(rows[0][1..], ["not Ready", "1.36.3", "–", "matches the file"]);
        assert_eq!(rows[1][0], "tern-7");
    }

    #[test]
    fn what_is_as_it_must_be_everywhere_is_said_once() {
        let titles = || vec![("host", 0), ("on the host", 0)];
        let row = |text: &str| vec!["heron".to_owned(), text.to_owned()];
        let (mut rows, mut same) = (vec![row(MATCHES); 3], titles());
        assert!(on_hosts(&mut rows, &mut same).contains("hosts match the file"));
        assert_eq!((same.len(), rows[0].len()), (1, 1));
        let (mut rows, mut other) = (vec![row(MATCHES), row("1 difference")], titles());
        assert_eq!(on_hosts(&mut rows, &mut other), "");
        assert_eq!((other.len(), rows[1].len()), (2, 2));
    }
}
