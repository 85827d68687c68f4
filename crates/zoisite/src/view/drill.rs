//! A drill for people: what can be lost, and what it came to.

use std::collections::BTreeMap;

use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::drill::{By, Kind, Lane, Measured, Patch, duration, lanes};

use super::style::Style;
use super::table::{ranked, table};
use super::{count, few};

/// What can be lost here, and what was measured last.
pub fn choices(cluster: &Cluster, last: &BTreeMap<String, Measured>, style: Style) -> String {
    let rows = Kind::ALL.into_iter().map(|kind| {
        let hosts = kind.places(cluster);
        let of = match (kind, hosts.as_slice()) {
            (Kind::Link, _) => "any two hosts".to_owned(),
            (_, []) => "none here".to_owned(),
            (Kind::Holder | Kind::Leader, hosts) => format!("one of {}", few(hosts)),
            (_, hosts) => few(hosts),
        };
        let ways: Vec<&str> = kind.ways().iter().map(|by| by.word()).collect();
        let latest = last.values().filter(|measured| measured.drill.kind == kind);
        let latest = latest.max_by_key(|measured| measured.began);
        let measured = latest.map_or_else(
            || "never".to_owned(),
            |m| {
                format!(
                    "{} on {}, {}",
                    duration(m.longest_gap()),
                    m.drill.host,
                    super::day(m.began)
                )
            },
        );
        vec![kind.word().to_owned(), kind.title().to_owned(), of, ways.join(", "), measured]
    });
    let columns =
        [("drill", 0), ("loses", 2), ("of", 1), ("by", 0), ("longest gap, measured last", 0)];
    let head = format!("{} · what can be lost on purpose\n\n", style.bold(cluster.name.as_str()));
    head + &ranked(&columns, rows)
}

/// Columns of the time line.
const WIDTH: usize = 76;

/// What a drill came to: the time line, what happened when, and what it adds up to beside what was expected and
/// what was measured before.
pub fn render(
    cluster: &str,
    measured: &Measured,
    (expected, before): (Option<&Measured>, Option<&Measured>),
    style: Style,
) -> String {
    let mut out = format!("{} · {}\n\n", style.bold(cluster), measured.drill.title());
    out.push_str(&time_line(measured, style));
    out.push('\n');
    for (at, what) in measured.moments() {
        out.push_str(&format!("  {:>12}  {what}\n", duration(at)));
    }
    out.push('\n');
    out.push_str(&sums(measured, expected, before));
    out
}

fn sums(measured: &Measured, expected: Option<&Measured>, before: Option<&Measured>) -> String {
    // What there is to compare with stands beside it.
    let elsewhere = before.filter(|before| before.drill.host != measured.drill.host);
    let before_title = elsewhere.map_or_else(
        || "the time before".to_owned(),
        |before| format!("the time before, {}", before.drill.host),
    );
    let beside = [("expected", expected), (before_title.as_str(), before)];
    let beside: Vec<_> = beside.into_iter().filter_map(|(title, of)| Some((title, of?))).collect();
    let mut rows = Vec::new();
    for sum in measured.sums() {
        let counts = [sum.asked, sum.failed, sum.slow].map(|n| n.to_string());
        let gap = |of: &Measured| {
            let other = of.sums().into_iter().find(|other| other.ask == sum.ask);
            other.map_or_else(|| "–".to_owned(), |other| duration(other.longest_gap))
        };
        let mut row = vec![sum.ask.word().to_owned()];
        row.extend(counts);
        row.push(duration(sum.longest_gap));
        row.extend(beside.iter().map(|(_, of)| gap(of)));
        rows.push(row);
    }
    let whole = |of: &Measured| {
        let whole = of.whole.zip(of.fixed).map(|(whole, fixed)| duration(whole - fixed));
        whole.unwrap_or_else(|| "–".to_owned())
    };
    let mut last = vec!["as before, after its end".to_owned()];
    last.extend([""; 3].map(ToOwned::to_owned));
    last.push(whole(measured));
    last.extend(beside.iter().map(|(_, of)| whole(of)));
    rows.push(last);
    let titles = ["asked", "times", "failed", "slow", "longest gap"];
    let titles: Vec<&str> =
        titles.into_iter().chain(beside.iter().map(|(title, _)| *title)).collect();
    table(&titles, rows)
}

fn time_line(measured: &Measured, style: Style) -> String {
    let (begin, end) = measured.span();
    let lanes = lanes(measured);
    let widest = lanes.iter().map(|lane| lane.title.chars().count()).max().unwrap_or(0);
    let columns = i64::try_from(WIDTH).unwrap_or(1);
    let column = |at: i64| {
        let column = (at - begin).clamp(0, end - begin) * columns / (end - begin).max(1);
        usize::try_from(column.min(columns - 1)).unwrap_or(0)
    };
    let mut out = String::new();
    for lane in &lanes {
        out.push_str(&format!("  {:<widest$}  {}\n", lane.title, drawn(lane, &column, style)));
    }
    out.push_str(&format!("  {:<widest$}  {}\n", "", scale((begin, end), &column)));
    let from = column(0);
    let until = column(measured.fixed.unwrap_or(end)).max(from + 1);
    let word = match measured.drill.by {
        By::Stop => " stopped ",
        By::Cut => " cut ",
        By::Reboot => " away ",
    };
    let room = until - from;
    let mark = match room.checked_sub(word.len()) {
        Some(room) => format!("{}{word}{}", "━".repeat(room / 2), "━".repeat(room - room / 2)),
        None => "━".repeat(room),
    };
    out.push_str(&format!("  {:<widest$}  {:from$}{}\n", "", "", style.warn(&mark)));
    out
}

/// A lane, a character for each column.
fn drawn(lane: &Lane, column: &dyn Fn(i64) -> usize, style: Style) -> String {
    let mut cells = vec![(' ', None); WIDTH];
    // What is worse covers what is better.
    let rank = |patch: Option<Patch>| match patch {
        None => 0,
        Some(Patch::Answered | Patch::Well) => 1,
        Some(Patch::Slow) => 2,
        Some(Patch::Failed | Patch::Ill) => 3,
    };
    for (from, until, patch, name) in &lane.patches {
        let (left, right) = (column(*from), column(*until));
        let glyph = match patch {
            Patch::Answered => '·',
            Patch::Slow => '~',
            Patch::Failed => '×',
            Patch::Well => '─',
            Patch::Ill => '░',
        };
        let is_state = matches!(patch, Patch::Well | Patch::Ill);
        // An answer stands where it was asked for; what waited covers all of its time.
        let right = if *patch == Patch::Answered { left } else { right };
        for cell in &mut cells[left..=right.max(left)] {
            if is_state || rank(Some(*patch)) >= rank(cell.1) {
                *cell = (glyph, Some(*patch));
            }
        }
        if is_state {
            let room = (right - left).saturating_sub(1);
            for (cell, report) in cells[left..].iter_mut().zip(name.chars().take(room)) {
                cell.0 = report;
            }
        }
    }
    let mut out = String::new();
    for run in cells.chunk_by(|a, b| a.1 == b.1) {
        let text: String = run.iter().map(|(glyph, _)| glyph).collect();
        out.push_str(&match run[0].1 {
            Some(Patch::Answered) => style.good(&text),
            Some(Patch::Slow) => style.warn(&text),
            Some(Patch::Failed | Patch::Ill) => style.bad(&text),
            Some(Patch::Well) | None => text,
        });
    }
    out.trim_end().to_owned()
}

/// Seconds from the loss, in steps that leave room for their words.
fn scale((begin, end): (i64, i64), column: &dyn Fn(i64) -> usize) -> String {
    let steps = [1_000, 2_000, 5_000, 10_000, 20_000, 30_000, 60_000, 120_000, 300_000];
    let step = steps.into_iter().find(|step| (end - begin) / step <= 8).unwrap_or(600_000);
    let mut cells = vec![' '; WIDTH + 8];
    let first = begin.div_euclid(step) + 1;
    for at in (first..).map(|i| i * step).take_while(|at| *at <= end) {
        let words = format!("{} s", at / 1_000);
        for (cell, report) in cells[column(at)..].iter_mut().zip(words.chars()) {
            *cell = report;
        }
    }
    cells.into_iter().collect::<String>().trim_end().to_owned()
}

/// The head of what is asked before anything is lost.
pub fn intention(
    measured_from: &HostName,
    title: &str,
    expected: Option<&Measured>,
    restored: &str,
) -> String {
    let mut out = format!("{title}\n  {restored}\n  asked meanwhile from {measured_from}\n");
    if let Some(expected) = expected {
        let whole =
            expected.whole.zip(expected.fixed).map(|(whole, fixed)| duration(whole - fixed));
        out.push_str(&format!(
            "  expected: {} without an answer, as before {} after its end\n",
            duration(expected.longest_gap()),
            whole.unwrap_or_else(|| "some time".into())
        ));
    }
    out
}

/// How many requests were made, in words.
pub fn asked(measured: &Measured) -> String {
    count(measured.asked.len(), "request")
}
