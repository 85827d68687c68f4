use std::collections::BTreeSet;
use std::process::ExitCode;

use clap::{Args, ValueEnum};
use serde_json::json;
use zoisite_core::aim::Aim;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::item::{Component, KeyText};
use zoisite_core::sequence::{Phase, Sequence, Step, Work};
use zoisite_reach::Hosts;
use zoisite_store::State;

use super::raise::{named_hosts, only_named};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Ahead, Sighting};
use crate::site::Site;
use crate::supplies;
use crate::view::{self, Style, count, table::ranked};

/// Show what raise would do, host by host, with reasons; changes nothing
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite sequence\n  zoisite sequence tern-5\n  zoisite sequence --format table\n  zoisite sequence --show-script heron | less"
)]
pub struct SequenceArgs {
    /// Show only the steps of these hosts, with '*' for any text; of all hosts when none is named
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    #[command(flatten)]
    parts: super::PartArgs,
    /// Output format
    #[arg(long = "format", value_name = "FORM", value_enum, default_value_t = Form::Tree)]
    form: Form,
    /// Print the script that would run on this host, without private keys
    #[arg(long, value_name = "HOST")]
    show_script: Option<String>,
    /// Read and checksum every file on hosts, also unchanged ones
    #[arg(long)]
    deep: bool,
    /// Accept operating systems on which Zoisite is not proven
    #[arg(long)]
    untested_systems: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Form {
    /// By host
    Tree,
    /// One line for each step, in order
    Table,
}

pub fn run(options: &Options, args: &SequenceArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let named = named_hosts(&site, &args.hosts)?;
    let how = (&args.parts.chosen()[..], args.deep);
    let further = async |reach: &Hosts,
                         prepared: &mut Prepared,
                         state: &mut State,
                         sighting: &mut Sighting| {
        sighting.leave_out_unfit(&site, reach, &prepared.parts, args.untested_systems).await?;
        prepared.turn(&site, state, &sighting.looks, true)
    };
    let (ahead, fit) = super::block_on(road::look_ahead(&site, how, further))??;
    let Ahead { sums, prepared, mut sighting } = ahead;
    sighting.met()?;
    fit?;
    let sequence = sighting.plan(&prepared, &sums, &[], 300)?;
    let sequence = only_named(sequence, &prepared, &named)?;
    let stages = prepared.forecast(&site, true);
    if let Some(host) = &args.show_script {
        return show_script(&site, &sequence, host);
    }
    if options.json {
        view::json(&to_json(&sequence, &stages));
    } else {
        road::tell_departed(&prepared);
        supplies::tell_components(&site, &sums, &sequence);
        if !prepared.issued.certificates.is_empty() {
            view::note(&format!(
                "{} would be issued first",
                count(prepared.issued.certificates.len(), "certificate")
            ));
        }
        if prepared.asked_for > 0 {
            let keys = count(prepared.asked_for, "key");
            view::note(&format!("{keys} would be made on hosts, and signed for"));
        }
        view::out(&render(&sequence, args.form == Form::Table, Style::stdout()));
        view::out(&view::stages::render(&stages, "  the steps above", Style::stdout()));
    }
    let troubles = sighting.troubles();
    if troubles.is_empty() { Ok(ExitCode::SUCCESS) } else { Err(Failure::troubles(troubles)) }
}

fn show_script(site: &Site, sequence: &Sequence, host: &str) -> Result<ExitCode, Failure> {
    let host = HostName::new(host).map_err(|why| {
        Failure::new(Kind::Usage, format!("--show-script {host}: {why}"), "name a host")
    })?;
    let mut shown = 0;
    for step in sequence.steps.iter().filter(|step| step.host.as_ref() == Some(&host)) {
        match &step.work {
            Work::Act(stretch) => {
                if let Some(keys) = stretch.key_script(0) {
                    view::out(&format!("#!/bin/sh\n# step {}, first\n{keys}", step.id));
                    shown += 1;
                }
                if let Ok(script) = stretch.script(0, KeyText::Masked) {
                    view::verbatim(&format!("#!/bin/sh\n# step {}\n{}", step.id, script.expose()));
                    shown += 1;
                }
            }
            Work::Upload { components, .. } => {
                for (component, sha256) in components {
                    let what = (sha256.as_str(), size_here(site, component));
                    view::verbatim(&zoisite_core::script::upload_script(
                        &host, component, what, 0, None,
                    ));
                    shown += 1;
                }
            }
            Work::Gate(_)
            | Work::Api(_)
            | Work::Member { .. }
            | Work::Save { .. }
            | Work::Rewrite { .. }
            | Work::Fill { .. }
            | Work::MarkFormed { .. } => {}
        }
    }
    if shown == 0 {
        view::note(&format!("nothing would be run on {host}"));
    }
    Ok(ExitCode::SUCCESS)
}

/// The size of a component's file here, where it is.
fn size_here(site: &Site, component: &Component) -> u64 {
    let folder = site.components_folder();
    let facts = |arch| std::fs::metadata(folder.join(component.pinned.path(arch)));
    ["amd64", "arm64"].into_iter().find_map(|arch| facts(arch).ok()).map_or(0, |facts| facts.len())
}

/// The documented form for programs.
pub fn to_json(sequence: &Sequence, stages: &[Aim]) -> serde_json::Value {
    let steps: Vec<_> = sequence
        .steps
        .iter()
        .map(|step| {
            let needs: Vec<&str> =
                step.needs.iter().map(|need| sequence.steps[*need].id.as_str()).collect();
            json!({"id": step.id, "host": step.host, "phase": step.phase, "what": step.what, "why": step.why,
                   "needs": needs, "disrupts": step.disrupts})
        })
        .collect();
    let held: Vec<String> =
        stages.iter().flat_map(|aim| &aim.held).map(ToString::to_string).collect();
    let stages: Vec<_> = stages
        .iter()
        .map(|aim| json!({"stage": aim.arm.to_string(), "members": aim.etcd.members}))
        .collect();
    json!({"steps": steps, "differences": sequence.differences, "stages": stages, "waits": held})
}

/// Parts by name, as far as there are any.
fn listed(parts: &BTreeSet<Part>) -> String {
    parts.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// The sequence for a person.
pub fn render(sequence: &Sequence, as_table: bool, style: Style) -> String {
    if sequence.is_empty() {
        return format!("{} nothing differs: there is nothing to do", style.good("✓"));
    }
    let mut out = String::new();
    let needs = |step: &Step| {
        step.needs.iter().map(|n| sequence.steps[*n].id.as_str()).collect::<Vec<_>>().join(", ")
    };
    if as_table {
        let rows = sequence.steps.iter().enumerate().map(|(i, step)| {
            let disrupts = listed(&step.disrupts);
            vec![(i + 1).to_string(), step.id.clone(), disrupts, needs(step), step.what.clone()]
        });
        let columns = [("", 0), ("step", 0), ("disrupts", 1), ("needs", 2), ("what", 0)];
        out.push_str(&ranked(&columns, rows));
    } else {
        let mut hosts: Vec<Option<&HostName>> = Vec::new();
        for step in &sequence.steps {
            if !hosts.contains(&step.host.as_ref()) {
                hosts.push(step.host.as_ref());
            }
        }
        // Gates belong to no host, and come last.
        hosts.sort_by_key(|host| host.is_none());
        let width = sequence.steps.iter().map(|step| step.name().len()).max().unwrap_or(0);
        for host in hosts {
            let title = host.map_or("gates".to_owned(), ToString::to_string);
            out.push_str(&format!("{}\n", style.bold(&title)));
            for step in sequence.steps.iter().filter(|step| step.host.as_ref() == host) {
                let disrupts = match listed(&step.disrupts) {
                    none if none.is_empty() => none,
                    parts => style.warn(&format!("  disrupts {parts}")),
                };
                out.push_str(&format!(
                    "  {} {}{disrupts}\n",
                    style.busy(&format!("{:<width$}", step.name())),
                    step.what
                ));
                // A few reasons are worth reading, many are not: the first ones stand for all. What is done to a
                // machine itself is reported whole.
                let whole = step.why.len() <= 4 || step.phase == Phase::Preparation;
                let shown = if whole { step.why.len() } else { 2 };
                for why in &step.why[..shown] {
                    out.push_str(&style.dim(&format!("  {:<width$} because {why}\n", "")));
                }
                if step.why.len() > shown {
                    let more = step.why.len() - shown;
                    out.push_str(&style.dim(&format!("  {:<width$} and {more} more\n", "")));
                }
                if !step.needs.is_empty() {
                    out.push_str(&style.dim(&format!("  {:<width$} after {}\n", "", needs(step))));
                }
            }
        }
    }
    out.push_str(&format!(
        "\n{} on {}",
        count(sequence.steps.len(), "step"),
        count(sequence.hosts().len(), "host")
    ));
    out
}
