//! What was carried to hosts that nobody dials, and what they told.

use std::collections::BTreeMap;

use zoisite_core::cluster::HostName;
use zoisite_core::join_file::{Outcome, ToldStage};
use zoisite_core::survey::SiteFinding;
use zoisite_store::join_files::{Carried, Taken};

use super::{Style, count, survey, table::table};
use crate::view;

/// What is known of a host that nobody dials, in a few words.
pub fn in_short(carried: Option<&Carried>) -> String {
    let Some(carried) = carried else { return "nothing was carried there yet".into() };
    let Some(letter) = &carried.letter else {
        return format!("no letter came back; its join file ends {}", view::minute(carried.ends));
    };
    let differed = match letter.differs.len() {
        0 => "nothing differed".to_owned(),
        n => format!("{} differed", count(n, "thing")),
    };
    let older = match letter.told.number < carried.number {
        true => "; a newer join file was written since",
        false => "",
    };
    format!(
        "its letter of {}: {}, {differed}{older}",
        view::minute(letter.told.at),
        outcome(letter.told.outcome)
    )
}

/// How far a host has come, by its own letter.
fn stage(letter: &Taken) -> String {
    match letter.told.stages.iter().find(|stage| stage.passed != Some(true)) {
        Some(stage) => stage.stage.clone(),
        None => letter.told.stages.last().map_or_else(|| "–".into(), |stage| stage.stage.clone()),
    }
}

/// Whether a stage is passed, as a sign.
pub fn sign(stage: &ToldStage, style: Style) -> String {
    match stage.passed {
        Some(true) => style.good("✓"),
        Some(false) => style.bad("✗"),
        None => style.dim("·"),
    }
}

fn outcome(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Looked => "looked",
        Outcome::Done => "done",
        Outcome::Again => "done before",
        Outcome::Asked => "asks for signatures",
        Outcome::Failed => "failed",
    }
}

/// What was carried to hosts, what they told, and what is found of them by that.
pub fn render(
    hosts: &[HostName],
    known: &BTreeMap<HostName, Carried>,
    found: &[SiteFinding],
    style: Style,
) -> String {
    let none = || "–".to_owned();
    let rows = hosts.iter().map(|host| {
        let carried = known.get(host);
        let letter = carried.and_then(|carried| carried.letter.as_ref());
        let sign = match (carried.and_then(Carried::fault), letter) {
            (Some(_), _) => style.bad("✗"),
            (None, Some(_)) => style.good("✓"),
            (None, None) => style.dim("·"),
        };
        vec![
            format!("{sign} {host}"),
            carried.map_or_else(none, |carried| view::minute(carried.made)),
            carried.map_or_else(none, |carried| view::minute(carried.ends)),
            letter.map_or_else(none, |letter| view::minute(letter.told.at)),
            letter.map_or_else(none, |letter| outcome(letter.told.outcome).to_owned()),
            letter.map_or_else(none, stage),
            letter.map_or_else(none, |letter| letter.differs.len().to_string()),
        ]
    });
    let columns = ["host", "join file", "ends", "its letter", "came of it", "stage", "differs"];
    let mut out = table(&columns, rows);
    for host in hosts {
        let Some(carried) = known.get(host) else {
            out.push_str(&format!(
                "\n{} {}: nothing was carried there yet\n  mend  zoisite join-file write {host} --out DIR\n",
                style.dim("·"),
                style.bold(host.as_str())
            ));
            continue;
        };
        let asks = |letter: &Taken| {
            letter.told.outcome == Outcome::Asked && letter.told.number == carried.number
        };
        if carried.letter.as_ref().is_some_and(asks) {
            out.push_str(&format!(
                "\n{} {}: it goes on with what was signed for its keys\n  next  zoisite join-file write {host} --out DIR\n",
                style.dim("·"),
                style.bold(host.as_str())
            ));
        }
        if let Some(fault) = carried.fault() {
            out.push_str(&format!("\n{} {}: {fault}\n", style.bad("✗"), style.bold(host.as_str())));
        }
        let Some(letter) = &carried.letter else { continue };
        for stage in &letter.told.stages {
            let sign = sign(stage, style);
            out.push_str(&format!("  {sign} {:<10} {}\n", stage.stage, stage.seen));
        }
        if letter.told.number < carried.number {
            out.push_str("  its letter is of an earlier join file than the last one\n");
        }
    }
    out.push_str(&survey::found(found, &[], style));
    let back = hosts.iter().filter(|host| known.get(*host).is_some_and(|c| c.letter.is_some()));
    out.push_str(&format!(
        "\n{} out of reach, {} wrote back\n",
        count(hosts.len(), "host"),
        back.count()
    ));
    out
}
