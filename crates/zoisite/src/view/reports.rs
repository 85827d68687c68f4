//! Join files and reports of offline hosts.

use std::collections::BTreeMap;

use zoisite_core::cluster::HostName;
use zoisite_core::join_file::{Outcome, ReportedStage};
use zoisite_core::survey::SiteFinding;
use zoisite_store::join_files::{Carried, Taken};

use super::{Style, count, survey, table::table};
use crate::view;

/// What is known of an offline host, in a few words.
pub fn in_short(carried: Option<&Carried>) -> String {
    let Some(carried) = carried else { return "nothing was carried there yet".into() };
    let Some(report) = &carried.report else {
        return format!(
            "no report came back; its join file ends {}",
            view::minute(carried.expires)
        );
    };
    let differed = match report.differs.len() {
        0 => "nothing differed".to_owned(),
        n => format!("{} differed", count(n, "thing")),
    };
    let older = match report.body.number < carried.number {
        true => "; a newer join file was written since",
        false => "",
    };
    format!(
        "its report of {}: {}, {differed}{older}",
        view::minute(report.body.at),
        outcome(report.body.outcome)
    )
}

/// How far a host has come, by its own report.
fn stage(report: &Taken) -> String {
    match report.body.stages.iter().find(|stage| stage.passed != Some(true)) {
        Some(stage) => stage.stage.clone(),
        None => report.body.stages.last().map_or_else(|| "–".into(), |stage| stage.stage.clone()),
    }
}

/// Whether a stage is passed, as a sign.
pub fn sign(stage: &ReportedStage, style: Style) -> String {
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

/// Join files, reports, and findings by them.
pub fn render(
    hosts: &[HostName],
    known: &BTreeMap<HostName, Carried>,
    found: &[SiteFinding],
    style: Style,
) -> String {
    let none = || "–".to_owned();
    let rows = hosts.iter().map(|host| {
        let carried = known.get(host);
        let report = carried.and_then(|carried| carried.report.as_ref());
        let sign = match (carried.and_then(Carried::fault), report) {
            (Some(_), _) => style.bad("✗"),
            (None, Some(_)) => style.good("✓"),
            (None, None) => style.dim("·"),
        };
        vec![
            format!("{sign} {host}"),
            carried.map_or_else(none, |carried| view::minute(carried.made)),
            carried.map_or_else(none, |carried| view::minute(carried.expires)),
            report.map_or_else(none, |report| view::minute(report.body.at)),
            report.map_or_else(none, |report| outcome(report.body.outcome).to_owned()),
            report.map_or_else(none, stage),
            report.map_or_else(none, |report| report.differs.len().to_string()),
        ]
    });
    let columns = ["host", "join file", "ends", "its report", "came of it", "stage", "differs"];
    let mut out = table(&columns, rows);
    for host in hosts {
        let Some(carried) = known.get(host) else {
            out.push_str(&format!(
                "\n{} {}: nothing was carried there yet\n  fix   zoisite join-file write {host} --out DIR\n",
                style.dim("·"),
                style.bold(host.as_str())
            ));
            continue;
        };
        let asks = |report: &Taken| {
            report.body.outcome == Outcome::Asked && report.body.number == carried.number
        };
        if carried.report.as_ref().is_some_and(asks) {
            out.push_str(&format!(
                "\n{} {}: it goes on with what was signed for its keys\n  next  zoisite join-file write {host} --out DIR\n",
                style.dim("·"),
                style.bold(host.as_str())
            ));
        }
        if let Some(fault) = carried.fault() {
            out.push_str(&format!("\n{} {}: {fault}\n", style.bad("✗"), style.bold(host.as_str())));
        }
        let Some(report) = &carried.report else { continue };
        for stage in &report.body.stages {
            let sign = sign(stage, style);
            out.push_str(&format!("  {sign} {:<10} {}\n", stage.stage, stage.seen));
        }
        if report.body.number < carried.number {
            out.push_str("  its report is of an earlier join file than the last one\n");
        }
    }
    out.push_str(&survey::found(found, &[], style));
    let back = hosts.iter().filter(|host| known.get(*host).is_some_and(|c| c.report.is_some()));
    out.push_str(&format!("\n{} offline, {} reported\n", count(hosts.len(), "host"), back.count()));
    out
}
