//! What hosts are like: side by side, one in full, what was found, what names lead to.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use jiff::Timestamp;
use zoisite_core::cluster::{Grade, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::survey::{
    Change, Differs, Facts, Fixer, Group, NameRow, Naming, SiteFinding, groups,
};

use super::table::{Column, ranked, table};
use super::{Style, alike, count, few, minute, names};

/// The table: a line for hosts that are alike.
pub fn side_by_side(facts: &BTreeMap<HostName, Facts>, style: Style) -> String {
    let groups = groups(facts);
    // What most have is not worth a colour.
    let usual: Vec<Option<String>> = (0..Group::COLUMNS.len())
        .map(|i| {
            let mut votes: BTreeMap<&str, usize> = BTreeMap::new();
            for group in &groups {
                *votes.entry(group.values[i].as_str()).or_default() += group.hosts.len();
            }
            let (value, most) = votes.into_iter().max_by_key(|(_, n)| *n)?;
            (most * 2 > facts.len()).then(|| value.to_owned())
        })
        .collect();
    let measured = |i: usize| ["least room", "write", "clock"].contains(&Group::COLUMNS[i]);
    let rows = groups.iter().map(|group| {
        let mut row = vec![style.bold(&few(&group.hosts))];
        row.extend(group.values.iter().enumerate().map(|(i, value)| match &usual[i] {
            Some(usual) if usual != value && !measured(i) => style.warn(value),
            _ if Group::COLUMNS[i] == "clock" && value != "right" => style.warn(value),
            _ => value.clone(),
        }));
        row
    });
    let mut columns: Vec<Column<'_>> = vec![("host", 0)];
    columns.extend(Group::COLUMNS.map(|title| {
        let rank = match title {
            "cores" | "memory" => 3,
            "firewall" | "kernel" => 2,
            "least room" | "swap" => 1,
            _ => 0,
        };
        (title, rank)
    }));
    ranked(&columns, rows)
}

/// Offline hosts with a report, and those without.
pub fn by_report(
    reported: &BTreeMap<HostName, Timestamp>,
    unreported: &[HostName],
    style: Style,
) -> String {
    let mut out = String::new();
    let same =
        |a: &(&HostName, &Timestamp), b: &(&HostName, &Timestamp)| minute(*a.1) == minute(*b.1);
    for some in alike(&reported.iter().collect::<Vec<_>>(), same) {
        let hosts: Vec<&HostName> = some.iter().map(|(host, _)| *host).collect();
        let reports = if hosts.len() == 1 { "its report" } else { "their reports" };
        let at = minute(*some[0].1);
        let _ = writeln!(out, "{} {}: by {reports} of {at} UTC", style.dim("·"), few(&hosts));
    }
    if !unreported.is_empty() {
        let _ = writeln!(
            out,
            "{} {}: offline, and not reported yet: zoisite join-file write {} --inspect --out DIR",
            style.dim("·"),
            few(unreported),
            unreported[0]
        );
    }
    out
}

/// Facts that differ, and who has which.
pub fn differing(differs: &[Differs], style: Style) -> String {
    let rows = differs.iter().map(|differs| {
        let values = differs.values.iter().enumerate().map(|(i, (value, hosts))| match i {
            0 => format!("{value} ({})", hosts.len()),
            _ => format!("{} on {}", style.warn(value), few(hosts)),
        });
        vec![differs.fact.to_owned(), values.collect::<Vec<_>>().join(" · ")]
    });
    table(&["not alike", ""], rows)
}

/// What changed since the last look; the same on several hosts is shown once.
pub fn changed(changes: &[Change], since: &str, style: Style) -> String {
    let same = |a: &Change, b: &Change| (a.fact, &a.before, &a.now) == (b.fact, &b.before, &b.now);
    let rows = alike(changes, same).into_iter().map(|some| {
        let hosts: Vec<&HostName> = some.iter().map(|change| &change.host).collect();
        let text = format!("{} → {}", style.dim(&some[0].before), some[0].now);
        vec![few(&hosts), some[0].fact.to_owned(), text]
    });
    let title = format!("changed since {since}");
    table(&[title.as_str(), "", ""], rows)
}

/// One host in full.
pub fn in_full(host: &HostName, facts: &Facts, style: Style) -> String {
    let mut rows = Vec::new();
    machine_rows(facts, &mut rows);
    network_rows(facts, &mut rows);
    system_rows(facts, &mut rows);
    what_stands_rows(facts, &mut rows);
    let rows = rows.into_iter().map(|(what, text)| {
        vec![style.dim(what), text.split_whitespace().collect::<Vec<_>>().join(" ")]
    });
    table(&[host.as_str(), ""], rows)
}

type Rows = Vec<(&'static str, String)>;

fn list(all: &[String]) -> String {
    if all.is_empty() { "none".to_owned() } else { all.join(", ") }
}

/// The machine itself, and room on its disks.
fn machine_rows(facts: &Facts, rows: &mut Rows) {
    rows.push(("system", format!("{} ({})", facts.release, facts.os)));
    rows.push(("kernel", format!("{} on {}", facts.kernel, facts.arch)));
    let kind = if facts.container { "a container" } else { "a machine of its own" };
    rows.push(("machine", format!("{} · {kind}", facts.machine)));
    rows.push((
        "strength",
        format!(
            "{} · {} MiB of memory, {} free",
            count(facts.cores as usize, "core"),
            facts.memory,
            facts.memory_free
        ),
    ));
    for place in &facts.places {
        rows.push((
            "room",
            format!(
                "{}: {} MiB of {} free on {} ({}, {}; {}){}",
                place.purpose,
                place.free,
                place.size,
                place.mount,
                place.kind,
                place.device,
                hurting(&place.options),
                if place.inodes > 0 {
                    format!(", {} inodes free", place.inodes_free)
                } else {
                    String::new()
                }
            ),
        ));
    }
    if let Some(written) = &facts.written {
        let fault = written.fault.as_ref().map_or(String::new(), |fault| format!("; {fault}"));
        let each =
            format!("{} ms for each of {} small writes", written.milliseconds, written.writes);
        rows.push(("etcd's disk", format!("{each}{fault}")));
    }
}

/// Interfaces, routes, name servers.
fn network_rows(facts: &Facts, rows: &mut Rows) {
    for link in facts.links.iter().filter(|link| link.name != "lo") {
        let at = facts.addresses.iter().filter(|address| address.link == link.name);
        let at: Vec<String> = at
            .map(|address| match address.leased {
                Some(left) => format!("{} (leased, {} min left)", address.net, left / 60),
                None => address.net.to_string(),
            })
            .collect();
        let state = if link.up { "up" } else { "down" };
        let kind = if link.kind.is_empty() { "" } else { &link.kind };
        rows.push((
            "interface",
            format!(
                "{} {state}, packets up to {} {kind} {}: {}",
                link.name,
                link.mtu,
                link.mac,
                list(&at)
            ),
        ));
    }
    for route in &facts.routes {
        let via = route.via.map_or(String::new(), |via| format!(" via {via}"));
        rows.push(("route", format!("{}{via} on {}", route.to, route.link)));
    }
    for server in &facts.name_servers {
        let how = if server.direct { "" } else { " (asked by the host's own resolver)" };
        let answers = server.fault.as_deref().unwrap_or("answers");
        rows.push(("name server", format!("{}{how}: {answers}", server.address)));
    }
}

/// Time, swap, kernel.
fn system_rows(facts: &Facts, rows: &mut Rows) {
    if let Some(clock) = facts.clock {
        let services = list(&facts.time_services);
        let kept = match facts.synchronized {
            Some(true) => "synchronised",
            Some(false) => "not synchronised",
            None => "not known whether synchronised",
        };
        rows.push((
            "clock",
            format!(
                "{:+.3} s against the one here, within {:.3} s; kept by {services}; {kept}; {}",
                clock.ahead as f64 / 1_000.0,
                clock.within as f64 / 1_000.0,
                facts.zone
            ),
        ));
    }
    let boot: Vec<String> =
        facts.boot_swaps.iter().map(|(place, what)| format!("{what} ({place})")).collect();
    rows.push(("swap", format!("now {}; at boot {}", list(&facts.swaps), list(&boot))));
    let modules: Vec<String> =
        facts.modules.iter().map(|(name, state)| format!("{name} {state}")).collect();
    rows.push((
        "kernel parts",
        format!(
            "control groups {}; nftables {}; forwarding {}; {}; {}",
            facts.cgroups,
            yes(facts.nftables),
            if facts.forwarding { "on" } else { "off" },
            list(&modules),
            list(&facts.mandatory)
        ),
    ));
}

/// What stands there already: firewalls, what listens, programs, leftovers.
fn what_stands_rows(facts: &Facts, rows: &mut Rows) {
    let policies: Vec<String> =
        facts.policies.iter().map(|p| format!("{} {} {}", p.chain, p.hook, p.policy)).collect();
    rows.push(("firewall", format!("{}; chains: {}", list(&facts.firewall), list(&policies))));
    for socket in &facts.listening {
        let at = socket.address.map_or("every address".to_owned(), |address| address.to_string());
        rows.push((
            "listens",
            format!(
                "{} {} at {at}: {} {}",
                socket.protocol, socket.port, socket.program, socket.unit
            ),
        ));
    }
    for (path, version) in &facts.programs {
        rows.push(("program", format!("{path}: {}", version.as_deref().unwrap_or("missing"))));
    }
    rows.push(("packages", list(&facts.packages)));
    for left in &facts.leftovers {
        rows.push(("left over", format!("{} {}: {}", left.kind, left.what, left.detail)));
    }
    if !facts.masked.is_empty() {
        rows.push(("masked", list(&facts.masked)));
    }
}

/// Options of a mount that say something of it, and not of what lies beneath.
fn hurting(options: &[String]) -> String {
    options.iter().filter(|option| !option.contains('=')).cloned().collect::<Vec<_>>().join(",")
}

fn yes(is: bool) -> &'static str {
    if is { "yes" } else { "no" }
}

/// Names that were asked, and what they lead to.
pub fn naming(rows: &[NameRow], style: Style) -> String {
    let cells = rows.iter().map(|row| {
        let who: Vec<String> = row
            .askers
            .iter()
            .map(|asker| asker.as_ref().map_or("here".to_owned(), ToString::to_string))
            .collect();
        let got = if row.got.is_empty() { "nothing".to_owned() } else { few(&row.got) };
        let mark = match row.naming {
            Naming::Right => style.good("✓"),
            Naming::Unknown => style.dim("·"),
            Naming::Wrong => style.bad("✗"),
        };
        let by = if row.by_file { "its hosts file" } else { "a name server" };
        let by = if row.got.is_empty() { "" } else { by };
        vec![mark, row.asked.clone(), few(&row.expected), got, by.to_owned(), few(&who)]
    });
    ranked(
        &[("", 0), ("name", 0), ("must lead to", 1), ("leads to", 0), ("by", 2), ("asked from", 0)],
        cells,
    )
}

/// Findings: the worst first, the same on several hosts once.
pub fn found(findings: &[SiteFinding], troubles: &[Trouble], style: Style) -> String {
    let mut out = String::new();
    let same = |a: &Trouble, b: &Trouble| {
        a.cause.is_some() && (&a.attempted, &a.cause) == (&b.attempted, &b.cause)
    };
    for some in alike(troubles, same) {
        let trouble = some[0];
        let host = trouble.host.as_ref().map_or("this machine", HostName::as_str);
        let _ = writeln!(
            out,
            "\n{} {}: {}: {}",
            style.bad("✗"),
            style.bold(host),
            trouble.attempted,
            trouble.answer
        );
        for line in &trouble.evidence {
            let _ = writeln!(out, "  seen    {line}");
        }
        let _ = writeln!(out, "  fix     {}", trouble.fix);
        let others: Vec<&HostName> = some[1..].iter().filter_map(|t| t.host.as_ref()).collect();
        if !others.is_empty() {
            let _ = writeln!(out, "  alike   {}", names(&others));
        }
    }
    let same = |a: &SiteFinding, b: &SiteFinding| {
        (a.code, a.grade, &a.message, &a.fix) == (b.code, b.grade, &b.message, &b.fix)
    };
    for some in alike(findings.iter().filter(|found| found.fixer == Fixer::Person), same) {
        let first = some[0];
        let host = |found: &SiteFinding| {
            found.host.as_ref().map_or("this machine".to_owned(), ToString::to_string)
        };
        let hosts: Vec<String> = some.iter().map(|found| host(found)).collect();
        let (mark, word) = match first.grade {
            Grade::Blocks => (style.bad("✗"), style.bad("blocks")),
            Grade::Warns => (style.warn("!"), style.warn("warns")),
        };
        let _ = writeln!(
            out,
            "\n{mark} {}: {} ({word}, {})",
            style.bold(&names(&hosts)),
            first.message,
            first.code
        );
        for line in &first.evidence {
            let _ = writeln!(out, "  seen    {line}");
        }
        let _ = writeln!(out, "  fix     {}", first.fix);
    }
    if findings.iter().any(|found| found.fixer == Fixer::Person && found.host.is_some()) {
        let _ = writeln!(out, "\n{} commands under fix are for root on that host", style.dim("·"));
    }
    out
}

/// What a raise does about it by itself.
pub fn by_raise(findings: &[SiteFinding], style: Style) -> String {
    let mut by: BTreeMap<&str, Vec<&HostName>> = BTreeMap::new();
    for found in findings.iter().filter(|found| found.fixer == Fixer::Raise) {
        by.entry(found.message.as_str()).or_default().extend(found.host.as_ref());
    }
    let mut out = String::new();
    for (message, hosts) in by {
        let _ =
            writeln!(out, "{} raise fixes by itself: {message} ({})", style.dim("·"), few(&hosts));
    }
    out
}

/// The last line: what it comes to.
pub fn comes_to((hosts, silent): (usize, usize), findings: &[SiteFinding], style: Style) -> String {
    let of = |grade: Grade| {
        findings.iter().filter(|f| f.grade == grade && f.fixer == Fixer::Person).count()
    };
    let (blocks, warns) = (of(Grade::Blocks), of(Grade::Warns));
    let warned = match warns {
        0 => String::new(),
        n => format!(" · {}", count(n, "warning")),
    };
    let away = match silent {
        0 => String::new(),
        n => format!(" · {n} of {} did not answer", count(hosts, "host")),
    };
    match (blocks, silent) {
        (0, 0) => {
            let hosts = count(hosts, "host");
            format!("{} nothing is in the way of a raise on {hosts}{warned}", style.good("✓"))
        }
        (0, silent) if silent == hosts => {
            format!(
                "{} no host answered: what is in the way of a raise is not known",
                style.bad("✗")
            )
        }
        (0, _) => format!("{} nothing blocks those that answered{away}{warned}", style.warn("!")),
        (n, _) => format!("{} {} in the way of a raise{away}{warned}", style.bad("✗"), count_of(n)),
    }
}

fn count_of(n: usize) -> String {
    if n == 1 { "1 thing is".to_owned() } else { format!("{n} things are") }
}
