use std::collections::BTreeMap;
use std::process::ExitCode;

use clap::Args;
use jiff::Timestamp;
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::sequence::Refusal;
use zoisite_core::survey::{
    Change, Differs, Facts, NameRow, SiteFinding, changes, differences, judge, names,
};
use zoisite_reach::{Hosts, Reach as _};

use super::login::chosen;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::{Site, now};
use crate::surveying::{self, Surveyed, keeps_out, other_machines};
use crate::view::{self, Style};
use crate::watching::{Round, WatchArgs, watch};

/// Show what hosts are like, and what blocks a raise, with the fix
///
/// Looks at each host once: system, disks and their speed, network, names, clock, swap, firewall, ports, remains
/// of other clusters. Changes nothing. Offline hosts are shown by their last report. Exits with 3 when something
/// blocks a raise or a host does not answer, with 4 when a host is another machine than before.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite survey\n  zoisite survey heron            # one host in full\n  zoisite survey --watch          # until nothing blocks\n  zoisite survey --names --json"
)]
pub struct SurveyArgs {
    /// Hosts, with '*' for any text; a single name shows that host in full [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// Show every name that was looked up, and its addresses
    #[arg(long)]
    names: bool,
    #[command(flatten)]
    watching: WatchArgs,
}

/// One look, judged.
struct Report {
    surveyed: Surveyed,
    findings: Vec<SiteFinding>,
    names: Vec<NameRow>,
    differences: Vec<Differs>,
    /// When offline hosts reported what is shown of them.
    reported: BTreeMap<HostName, Timestamp>,
    /// Those of them that have reported nothing yet.
    unreported: Vec<HostName>,
    others: Vec<Refusal>,
    changes: Vec<Change>,
    /// The time before, where hosts were surveyed before.
    before: Option<Timestamp>,
}

impl Report {
    fn well(&self) -> bool {
        self.surveyed.troubles.is_empty() && !self.findings.iter().any(keeps_out)
    }

    fn status(&self) -> Result<ExitCode, Failure> {
        if !self.others.is_empty() {
            return Err(self.others.clone().into());
        }
        if self.well() { Ok(ExitCode::SUCCESS) } else { Err(Failure::reported(Kind::Findings)) }
    }
}

pub fn run(options: &Options, args: &SurveyArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let hosts = chosen(&site, &args.hosts)?;
    let password = site.sudo_password()?;
    let look = async || {
        // A host that was refused once is tried afresh.
        let reach = road::hosts_without_prompts(&site, password.clone())?;
        let report = look(&site, &reach, &hosts).await;
        reach.close().await;
        report
    };
    if args.watching.watch {
        return watch(&args.watching, options.json, async || {
            let report = look().await?;
            if options.json {
                tell(options, args, &report);
            }
            Ok(round(args, &report, hosts.len()))
        });
    }
    let report = super::block_on(look())??;
    let Surveyed { facts, troubles } = &report.surveyed;
    if let (true, [first, ..]) = (facts.is_empty() && troubles.is_empty(), &report.unreported[..]) {
        return Err(Failure::new(
            Kind::Usage,
            format!("{first} is offline, and no report describes it yet"),
            format!("zoisite join-file write {first} --inspect --out DIR has it tell that"),
        ));
    }
    tell(options, args, &report);
    report.status()
}

async fn look(site: &Site, reach: &Hosts, hosts: &[HostName]) -> Result<Report, Failure> {
    let (away, dialled): (Vec<HostName>, Vec<HostName>) =
        hosts.iter().cloned().partition(|host| site.cluster.is_offline(host));
    let (mut surveyed, here) =
        tokio::join!(surveying::survey(site, reach, &dialled), surveying::here(site));
    let (mut before, mut pins, mut identity) = (BTreeMap::new(), BTreeMap::new(), None);
    if let Some(state) = site.existing_state()? {
        before = state.surveyed()?;
        pins = state.pins()?;
        identity = state.known_cluster_id()?;
    }
    let mut reported = before.clone();
    reported.retain(|host, _| away.contains(host));
    before.retain(|host, _| dialled.contains(host));
    let unreported = away.into_iter().filter(|host| !reported.contains_key(host)).collect();
    let asked: BTreeMap<HostName, (Timestamp, Facts)> =
        surveyed.facts.iter().map(|(host, facts)| (host.clone(), (now(), facts.clone()))).collect();
    let (reported, of_reports): (BTreeMap<_, _>, BTreeMap<_, _>) =
        reported.into_iter().map(|(host, (at, facts))| ((host.clone(), at), (host, facts))).unzip();
    surveyed.facts.extend(of_reports);
    let findings = judge(&site.cluster, &surveyed.facts, Some(&here), identity.as_deref());
    let names = names(&site.cluster, &surveyed.facts, Some(&here));
    let differences = differences(&surveyed.facts);
    let seen = surveyed.facts.iter();
    let seen = seen.map(|(host, f)| (host, f.machine.as_str(), f.host_keys.as_slice()));
    let others = other_machines(&pins, seen);
    let at = before.values().map(|(at, _)| *at).max();
    let before: BTreeMap<HostName, Facts> =
        before.into_iter().map(|(host, (_, facts))| (host, facts)).collect();
    let changes = changes(&before, &surveyed.facts);
    if !asked.is_empty() {
        // What was seen is worth showing also while a run holds the store.
        let kept = site
            .briefly()
            .and_then(|mut work| work.state.put_surveyed(&asked).map_err(Failure::from));
        if let Err(failure) = kept {
            view::note(&format!("what was seen is not kept: {}", failure.summary()));
        }
    }
    Ok(Report {
        surveyed,
        findings,
        names,
        differences,
        reported,
        unreported,
        others,
        changes,
        before: at,
    })
}

fn tell(options: &Options, args: &SurveyArgs, report: &Report) {
    if options.json {
        let Surveyed { facts, troubles } = &report.surveyed;
        view::json(&json!({
            "fit": report.well(), "hosts": facts, "troubles": troubles,
            "findings": report.findings, "names": report.names,
            "differences": report.differences, "changes": report.changes,
            "before": report.before, "reported": report.reported, "unreported": report.unreported,
        }));
        return;
    }
    view::out(text(report, args, Style::stdout()).trim_end());
}

fn text(report: &Report, args: &SurveyArgs, style: Style) -> String {
    let Report { surveyed: Surveyed { facts, troubles }, findings, differences, .. } = report;
    let mut parts: Vec<String> = Vec::new();
    let one = args.hosts.len() == 1 && !args.hosts[0].contains('*');
    match facts.iter().next() {
        Some((host, facts)) if one => parts.push(view::survey::in_full(host, facts, style)),
        Some(_) => parts.push(view::survey::side_by_side(facts, style)),
        None => {}
    }
    let reported = view::survey::by_report(&report.reported, &report.unreported, style);
    if !reported.is_empty() {
        parts.push(reported);
    }
    // What is in the way comes before what is only another one than elsewhere, or than before.
    let found = view::survey::found(findings, troubles, style);
    if !found.is_empty() {
        parts.push(found.trim_start_matches('\n').to_owned());
    }
    if !differences.is_empty() {
        parts.push(view::survey::differing(differences, style));
    }
    if let (Some(before), false) = (report.before, report.changes.is_empty()) {
        let since = format!("{} UTC", view::minute(before));
        parts.push(view::survey::changed(&report.changes, &since, style));
    }
    if args.names {
        parts.push(view::survey::naming(&report.names, style));
    }
    let silent = troubles.len();
    let last = view::survey::comes_to((facts.len() + silent, silent), findings, style);
    parts.push(format!("{}{last}", view::survey::by_raise(findings, style)));
    parts.join("\n")
}

/// What one look comes to, for somebody who watches.
fn round(args: &SurveyArgs, report: &Report, all: usize) -> Round {
    let who = |host: &Option<HostName>| {
        host.as_ref().map_or("this machine".to_owned(), ToString::to_string)
    };
    let Surveyed { facts, troubles } = &report.surveyed;
    let blocking = report.findings.iter().filter(|found| keeps_out(found));
    let blocking = blocking
        .map(|found| format!("{}: {}; fix: {}", who(&found.host), found.message, found.fix));
    let silent = troubles
        .iter()
        .map(|trouble| format!("{}: {}; fix: {}", who(&trouble.host), trouble.answer, trouble.fix));
    let well = if report.well() { ": nothing is in the way any more" } else { "" };
    Round {
        headline: format!("{} of {} have appeared{well}", facts.len(), view::count(all, "host")),
        ailing: blocking.chain(silent).collect(),
        picture: text(report, args, Style::stdout()),
        status: report.status(),
    }
}
