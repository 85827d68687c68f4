//! Who must reach whom, and whether they do.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::paths::{
    Blocked, Demand, Link, Outcome, OutsideRow, Protocol, Sampling, Service, Trial, demands,
    untried,
};

use super::table::{Column, ranked, table};
use super::{Style, count, names};

/// Up to so many hosts every pair has its place in the picture.
const PICTURE: usize = 14;

/// Everything that must be able to travel.
pub fn demanded(cluster: &Cluster) -> String {
    let rows = demands(cluster).into_iter().map(|demand: Demand| {
        let from: Vec<String> = demand.from.iter().map(|from| from.name(cluster)).collect();
        vec![
            demand.service.to_string(),
            from.join("; "),
            demand.to.name(cluster),
            demand.protocol.to_string(),
            demand.why.to_owned(),
        ]
    });
    ranked(&[("what", 0), ("from", 0), ("to", 0), ("by", 0), ("why", 1)], rows)
}

/// What devices in front must let through.
pub fn outside(rows: &[OutsideRow]) -> String {
    let cells = rows.iter().map(|row| {
        vec![
            row.from.clone(),
            row.to.clone(),
            row.protocol.clone(),
            row.until.to_owned(),
            row.why.to_owned(),
        ]
    });
    ranked(&[("from", 0), ("to", 0), ("by", 0), ("until", 0), ("why", 1)], cells)
}

fn word(outcome: &Outcome) -> &'static str {
    match outcome {
        Outcome::Open => "open",
        Outcome::Refused => "refused",
        Outcome::NoAnswer => "no answer",
        Outcome::Other(_) => "another",
        Outcome::Mute => "mute",
        Outcome::LargeLost(_) => "large lost",
        Outcome::Busy(_) => "busy",
        Outcome::Unreachable(_) => "no way",
        Outcome::Untried(_) => "not tried",
    }
}

/// What was tried: by what travels there, then every pair of hosts, then what is not open and why.
pub fn tried(
    cluster: &Cluster,
    trials: &[Trial],
    blocked: &[Blocked],
    sampling: &Sampling,
    style: Style,
) -> String {
    let mut by: BTreeMap<(Service, Protocol), (usize, usize)> = BTreeMap::new();
    for trial in trials {
        let (all, open) = by.entry((trial.link.service, trial.link.protocol())).or_default();
        *all += 1;
        *open += usize::from(trial.outcome == Outcome::Open);
    }
    let rows = by.iter().map(|((service, protocol), (all, open))| {
        let mark = if all == open { style.good("✓") } else { style.bad("✗") };
        let said = format!("{open} of {}", count(*all, "path"));
        vec![mark, service.to_string(), protocol.to_string(), said]
    });
    let mut out = table(&["", "what", "by", "open"], rows);
    if let Some(picture) = picture(cluster, trials, style) {
        out.push('\n');
        out.push_str(&picture);
    }
    for block in blocked {
        let services: Vec<String> = block.services.iter().map(ToString::to_string).collect();
        let _ = writeln!(
            out,
            "\n{} {} → {}, {} ({}): {}",
            style.bad("✗"),
            names(&block.from),
            style.bold(block.to.as_str()),
            match block.ports.as_slice() {
                [0] => Protocol::Vrrp.to_string(),
                ports => {
                    let by = if block.services == [Service::Mesh] { "UDP" } else { "TCP" };
                    let ports: Vec<String> = ports.iter().map(ToString::to_string).collect();
                    format!("{by} {}", ports.join(", "))
                }
            },
            services.join(", "),
            word(&block.outcome)
        );
        if !block.open_from.is_empty() {
            let _ = writeln!(out, "  open from {}", names(&block.open_from));
        }
        let _ = writeln!(out, "  likely  {}\n  fix     {}", block.cause, block.fix);
    }
    for (why, n) in untried(trials) {
        let paths = count(n, "path");
        let _ = writeln!(out, "\n{} not tried: {paths}: {why}", style.warn("!"));
        let _ = writeln!(
            out,
            "  fix     zoisite login tells how far that host lets you in; then the same command again"
        );
    }
    for demand in demands(cluster) {
        if demand.protocol == Protocol::All {
            let _ = writeln!(
                out,
                "\n{} not tried: {} ({}): {}",
                style.dim("·"),
                demand.service,
                demand.protocol,
                demand.why
            );
        }
    }
    if trials.len() < sampling.tried {
        let _ = writeln!(
            out,
            "\n{} not tried: {}, which go through the mesh: it does not stand there yet (zoisite raise --part mesh)",
            style.dim("·"),
            count(sampling.tried - trials.len(), "path"),
        );
    }
    if sampling.tried < sampling.all {
        let _ = writeln!(
            out,
            "\n{} {} of {} were tried: all among hosts that carry the cluster; for the others stand {}",
            style.dim("·"),
            sampling.tried,
            count(sampling.all, "path"),
            names(&sampling.stand_in)
        );
    }
    let of = |is: fn(&Outcome) -> bool| trials.iter().filter(|one| is(&one.outcome)).count();
    let untried = of(|outcome| matches!(outcome, Outcome::Untried(_)));
    let closed = of(|outcome| !matches!(outcome, Outcome::Open | Outcome::Untried(_)));
    let all = are(trials.len());
    let not = |n: usize| format!("{n} not tried");
    let last = match (closed, untried) {
        (0, 0) => format!("{} {all} tried, all open", style.good("✓")),
        (0, n) if n == trials.len() => {
            format!("{} none of {} could be tried", style.bad("✗"), count(n, "path"))
        }
        (0, n) => format!(
            "{} {} of {}: the others are open",
            style.bad("✗"),
            not(n),
            count(trials.len(), "path")
        ),
        (n, 0) => format!("{} {n} of {all} not open", style.bad("✗")),
        (n, left) => format!("{} {n} of {all} not open, {}", style.bad("✗"), not(left)),
    };
    let _ = writeln!(out, "\n{last}");
    out
}

fn are(n: usize) -> String {
    if n == 1 { "1 path is".into() } else { format!("{n} paths are") }
}

/// A field for each pair of hosts: rows dial, columns are dialled.
fn picture(cluster: &Cluster, trials: &[Trial], style: Style) -> Option<String> {
    let mut hosts: BTreeSet<&HostName> = BTreeSet::new();
    let mut pairs: BTreeMap<(&HostName, &HostName), Vec<&Trial>> = BTreeMap::new();
    for trial in trials {
        hosts.extend([&trial.link.from, &trial.link.to]);
        pairs.entry((&trial.link.from, &trial.link.to)).or_default().push(trial);
    }
    if hosts.len() > PICTURE || hosts.is_empty() {
        return None;
    }
    let hosts: Vec<&HostName> =
        cluster.hosts.iter().map(|host| &host.name).filter(|name| hosts.contains(name)).collect();
    let mut columns: Vec<Column<'_>> = vec![("from \\ to", 0)];
    columns.extend(hosts.iter().map(|host| (host.as_str(), 0)));
    let rows = hosts.iter().map(|from| {
        let mut row = vec![from.to_string()];
        row.extend(hosts.iter().map(|to| {
            let at = |link: &Link| match link.protocol() {
                Protocol::Vrrp => Protocol::Vrrp.to_string(),
                _ => link.port.to_string(),
            };
            let Some(trials) = pairs.get(&(*from, *to)) else { return style.dim("·") };
            let not: Vec<&&Trial> =
                trials.iter().filter(|trial| trial.outcome != Outcome::Open).collect();
            match not.as_slice() {
                [] => style.good("✓"),
                [one] => style.bad(&format!("{} {}", at(&one.link), word(&one.outcome))),
                [one, rest @ ..] => {
                    style.bad(&format!("{} +{} {}", at(&one.link), rest.len(), word(&one.outcome)))
                }
            }
        }));
        row
    });
    Some(ranked(&columns, rows))
}
