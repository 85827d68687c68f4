//! How far hosts let one in.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use zoisite_core::cluster::HostName;
use zoisite_core::login::{Stage, WayIn};

use super::{Style, alike, count, names, table::ranked};

fn title(stage: Stage) -> &'static str {
    match stage {
        Stage::Name => "name",
        Stage::Route => "route",
        Stage::Port => "port",
        Stage::Server => "SSH",
        Stage::HostKey => "host key",
        Stage::Login => "login",
        Stage::Root => "root",
        Stage::Tools => "tools",
        Stage::Systemd => "systemd",
        Stage::Machine => "machine",
    }
}

/// Why a host stops one, where that is known and may be the same elsewhere.
fn reason(way: &WayIn) -> Option<(Stage, &str)> {
    let stopped = way.stopped.as_ref()?;
    Some((stopped.stage, stopped.trouble.cause.as_deref()?))
}

/// The table, and what keeps one out of each host that does not let one in.
pub fn render(ways: &[WayIn], did: &BTreeMap<HostName, &'static str>, style: Style) -> String {
    let rows = ways.iter().map(|way| {
        let mut row = vec![way.host.to_string()];
        row.extend(Stage::ALL.map(|stage| match way.passed(stage) {
            Some(true) => style.good("✓"),
            Some(false) => style.bad("✗"),
            None => style.dim("·"),
        }));
        let mut says: Vec<String> = Vec::new();
        if let Some(inside) = &way.inside {
            says.push(inside.user.clone());
            says.push(inside.os.clone());
        }
        says.extend(did.get(&way.host).map(|did| (*did).to_owned()));
        row.push(style.dim(&says.join(" · ")));
        row
    });
    let mut columns = vec![("host", 0)];
    columns.extend(Stage::ALL.map(|stage| (title(stage), 0)));
    columns.push(("", 1));
    let mut out = ranked(&columns, rows);
    // What stops many hosts for the same reason is reported once.
    let same = |a: &WayIn, b: &WayIn| reason(a).is_some() && reason(a) == reason(b);
    for some in alike(ways.iter().filter(|way| way.stopped.is_some()), same) {
        let Some(stopped) = &some[0].stopped else { continue };
        let trouble = &stopped.trouble;
        let _ = writeln!(
            out,
            "\n{} {}: {}, at {}: {}",
            style.bad("✗"),
            style.bold(some[0].host.as_str()),
            title(stopped.stage),
            trouble.attempted,
            trouble.answer
        );
        for line in &trouble.evidence {
            let _ = writeln!(out, "  {line}");
        }
        if let Some(cause) = &trouble.cause {
            let _ = writeln!(out, "  likely  {cause}");
        }
        let _ = writeln!(out, "  fix     {}", trouble.fix);
        let others: Vec<&HostName> = some[1..].iter().map(|way| &way.host).collect();
        if !others.is_empty() {
            let _ = writeln!(out, "  alike   {}", names(&others));
        }
    }
    let out_of = ways.iter().filter(|way| way.stopped.is_some()).count();
    let _ = match out_of {
        0 => writeln!(
            out,
            "\n{} {} let you in, as root",
            style.good("✓"),
            match ways.len() {
                1 => "1 host".to_owned(),
                n => format!("all {n} hosts"),
            }
        ),
        n => writeln!(
            out,
            "\n{} {} of {} not let you in",
            style.bad("✗"),
            n,
            match ways.len() {
                1 => "1 host does".to_owned(),
                all => format!("{} do", count(all, "host")),
            }
        ),
    };
    out
}
