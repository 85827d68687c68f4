use std::process::ExitCode;

use clap::Args;
use serde_json::json;

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::Site;
use crate::view::{
    self, seconds,
    table::{ranked, table},
};

/// List runs: when, by whom, how long, and how they ended
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite history\n  zoisite history 3       # the steps of the third run"
)]
pub struct HistoryArgs {
    /// Show the steps of this run
    #[arg(value_name = "RUN")]
    run: Option<usize>,
}

pub fn run(options: &Options, args: &HistoryArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let runs = match site.existing_state()? {
        Some(state) => state.runs()?,
        None => Vec::new(),
    };
    if let Some(number) = args.run {
        let run = number.checked_sub(1).and_then(|index| runs.get(index)).ok_or_else(|| {
            let fix = format!("zoisite history lists {}", view::count(runs.len(), "run"));
            Failure::new(Kind::Usage, format!("there is no run {number}"), fix)
        })?;
        return steps(&site, options, run.generation);
    }
    if options.json {
        view::json(&json!({"runs": runs}));
        return Ok(ExitCode::SUCCESS);
    }
    if runs.is_empty() {
        view::out("There were no runs yet.");
        return Ok(ExitCode::SUCCESS);
    }
    let rows = runs.iter().enumerate().map(|(i, run)| {
        let took = run.ended.map(|end| {
            std::time::Duration::try_from(end.duration_since(run.began)).unwrap_or_default()
        });
        vec![
            (i + 1).to_string(),
            run.began.strftime("%Y-%m-%d %H:%M:%S UTC").to_string(),
            run.command.clone(),
            run.who.clone(),
            took.map_or_else(|| "–".into(), seconds),
            run.outcome.clone().unwrap_or_else(|| "was cut off".into()),
        ]
    });
    let columns =
        [("run", 0), ("began", 0), ("command", 0), ("by", 2), ("took", 1), ("outcome", 0)];
    view::out(&ranked(&columns, rows));
    Ok(ExitCode::SUCCESS)
}

fn steps(site: &Site, options: &Options, generation: u64) -> Result<ExitCode, Failure> {
    let Some(state) = site.existing_state()? else { return Ok(ExitCode::SUCCESS) };
    let events = state.events(generation)?;
    let values: Vec<(jiff::Timestamp, serde_json::Value)> = events
        .iter()
        .map(|event| (event.at, serde_json::from_str(&event.event).unwrap_or_default()))
        .collect();
    if options.json {
        let events: Vec<_> =
            values.iter().map(|(at, event)| json!({"at": at, "event": event})).collect();
        view::json(&json!({"events": events}));
        return Ok(ExitCode::SUCCESS);
    }
    let text = |value: &serde_json::Value, key: &str| match &value[key] {
        serde_json::Value::String(text) => text.clone(),
        serde_json::Value::Null => String::new(),
        other => other.to_string(),
    };
    let rows = values.iter().filter(|(_, event)| event["is"] != "doing").map(|(at, event)| {
        let took = event["seconds"].as_f64().map(std::time::Duration::from_secs_f64);
        vec![
            at.strftime("%H:%M:%S%.3f").to_string(),
            text(event, "step"),
            text(event, "is"),
            took.map_or_else(String::new, seconds),
            text(event, "what"),
        ]
    });
    view::out(&table(&["at", "step", "", "took", ""], rows));
    Ok(ExitCode::SUCCESS)
}
