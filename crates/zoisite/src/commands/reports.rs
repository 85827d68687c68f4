//! Reports: what offline hosts tell of themselves.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use clap::{Args, Subcommand};
use flate2::read::GzDecoder;
use serde_json::json;
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::holdings::{Part, REPORTS};
use zoisite_core::join_file::Report;
use zoisite_core::pki::{KeyRequest, Profile};
use zoisite_core::sequence::{Looks, differences};
use zoisite_core::survey::SiteFinding;
use zoisite_core::text::plain;
use zoisite_reach::ApiClient;
use zoisite_store::join_files::{Carried, Taken, carried, put_carried, word};
use zoisite_store::trust::{KeyDesk, asked_for};
use zoisite_store::{Met, State};

use super::with_api;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::prepare;
use crate::road::meet;
use crate::site::{Site, Working, now};
use crate::surveying::{found_of_told, keeps_out};
use crate::view::reports::render;
use crate::view::{self, Style};

/// Read the reports of offline hosts, and show the last ones
///
/// A host writes a report when it runs its join file: what was done, what failed, how far it has joined, and what
/// it is like. The report is authenticated with the host's passphrase and numbered: a changed or an old one is
/// refused.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite reports\n  zoisite reports fetch              # those that hosts could leave with the cluster\n  zoisite reports read stick/*.report\n  ssh tern-4-console cat tern-4.report | zoisite reports read -"
)]
pub struct ReportsArgs {
    #[command(subcommand)]
    what: Option<ReportsCommand>,
}

#[derive(Debug, Subcommand)]
enum ReportsCommand {
    /// Read the reports that hosts left in the cluster
    Fetch,
    /// Read reports from files
    Read {
        /// Files; '-' for standard input
        #[arg(value_name = "FILE", required = true)]
        files: Vec<PathBuf>,
    },
}

pub fn run(options: &Options, args: &ReportsArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.what {
        Some(ReportsCommand::Read { files }) => {
            let texts = files.iter().map(|path| (path.display().to_string(), text_of(path)));
            let mut work = site.briefly()?;
            return read(&site, options, &mut work.state, texts.collect());
        }
        Some(ReportsCommand::Fetch) => {
            site.raised_state()?;
            let mut work = site.briefly()?;
            let texts = fetch(&site, &mut work.state)?;
            if texts.is_empty() {
                view::note("no host has left a report with the cluster");
            }
            return read(&site, options, &mut work.state, texts);
        }
        None => {}
    }
    let state = site.existing_state()?;
    let known = state.as_ref().map(carried).transpose()?.unwrap_or_default();
    let hosts: Vec<HostName> = site.cluster.offline().map(|host| host.name.clone()).collect();
    if hosts.is_empty() && !options.json {
        view::out("The cluster file has no offline host.");
    }
    let found = match &state {
        Some(state) => found_of_told(&site, state, &hosts)?,
        None => Vec::new(),
    };
    tell(options, &hosts, &known, &found);
    Ok(ExitCode::SUCCESS)
}

/// Shows what was carried to hosts, what came back, and what is found of them by that.
fn tell(
    options: &Options,
    hosts: &[HostName],
    known: &BTreeMap<HostName, Carried>,
    found: &[SiteFinding],
) {
    if options.json {
        let all: Vec<_> =
            hosts.iter().map(|host| json!({"host": host, "carried": known.get(host)})).collect();
        view::json(&json!({"reports": all, "findings": found}));
    } else if !hosts.is_empty() {
        view::out(render(hosts, known, found, Style::stdout()).trim_end());
    }
}

/// One octet more than the largest report, so that a larger one is known for what it is.
const ENOUGH: u64 = Report::LARGEST as u64 + 1;

fn text_of(path: &Path) -> Result<String, Failure> {
    let failed = |error: std::io::Error| Failure::file("reading", path, &error);
    let mut octets = Vec::new();
    if path == Path::new("-") {
        std::io::stdin().take(ENOUGH).read_to_end(&mut octets).map_err(failed)?;
    } else {
        let file = fs::File::open(path).map_err(failed)?;
        file.take(ENOUGH).read_to_end(&mut octets).map_err(failed)?;
    }
    Ok(String::from_utf8_lossy(&octets).into_owned())
}

/// A text with its name, or why there is none.
type Texts = Vec<(String, Result<String, Failure>)>;

/// What hosts left with the cluster.
fn fetch(site: &Site, state: &mut State) -> Result<Texts, Failure> {
    let mut texts = Texts::new();
    let former: Vec<HostName> = site.cluster.hosts.iter().filter_map(Host::unnamed_name).collect();
    with_api(site, state, async |api: &ApiClient| {
        for object in api.list(&format!("/api/v1/namespaces/{REPORTS}/configmaps")).await? {
            let Some(packed) = object["binaryData"]["report.gz"].as_str() else { continue };
            let name = object["metadata"]["name"].as_str().unwrap_or_default();
            // What it wrote before it had a name is not of any host by now.
            if former.iter().any(|old| old.as_str() == name) {
                continue;
            }
            let mut text = String::new();
            let unpacked =
                BASE64_STANDARD.decode(packed).map_err(|why| why.to_string()).and_then(|octets| {
                    let unpacked =
                        GzDecoder::new(&octets[..]).take(ENOUGH).read_to_string(&mut text);
                    unpacked.map(|_| text).map_err(|why| why.to_string())
                });
            let name = format!("the report of {}", plain(name));
            let text =
                unpacked.map_err(|why| not_taken(&name, &format!("it cannot be unpacked: {why}")));
            texts.push((name, text));
        }
        Ok(())
    })?;
    Ok(texts)
}

/// Takes reports in; what is wrong with any is reported, and the others count.
fn read(
    site: &Site,
    options: &Options,
    state: &mut State,
    texts: Texts,
) -> Result<ExitCode, Failure> {
    let (mut reports, mut refused) = (Vec::<Report>::new(), None::<Failure>);
    let mut known = carried(state)?;
    let unnamed = unnamed(site);
    let mut again = Vec::new();
    for (name, text) in texts {
        let one = text.and_then(|text| {
            let report = Report::read(&text).map_err(|why| not_taken(&name, &why.to_string()))?;
            believed(site, state, (&name, &report), (&known, &unnamed))?;
            Ok(report)
        });
        match one {
            Ok(report) => {
                let last = known.get(&report.host).and_then(|carried| carried.report.as_ref());
                if last.is_some_and(|last| last.body.count == report.body.count) {
                    again.push(report.host);
                } else {
                    reports.push(report);
                }
            }
            Err(failure) => {
                refused = Some(match refused {
                    None => failure,
                    Some(before) => before.and(failure),
                });
            }
        }
    }
    // Of several from one host the last one counts.
    reports.sort_by_key(|report| std::cmp::Reverse(report.body.count));
    let mut seen = BTreeSet::new();
    reports.retain(|report| seen.insert(report.host.clone()));
    let (taken, unsigned) = take(site, state, &reports, (&mut known, &unnamed))?;
    let refused = refused.into_iter().chain(unsigned).reduce(Failure::and);
    for unnamed in taken.iter().filter(|host| unnamed.contains(*host)) {
        view::note(&format!(
            "{unnamed} reported in: zoisite first-boot unnamed shows what it is like"
        ));
    }
    for host in &again {
        view::note(&format!("{host}: that report was taken in before"));
    }
    let hosts: Vec<HostName> = site
        .cluster
        .offline()
        .map(|host| host.name.clone())
        .filter(|name| taken.contains(name))
        .collect();
    let found = found_of_told(site, state, &hosts)?;
    tell(options, &hosts, &known, &found);
    if let Some(failure) = refused {
        return Err(failure);
    }
    let well = |host: &HostName| known.get(host).and_then(Carried::fault).is_none();
    let well = hosts.iter().all(well) && !found.iter().any(keeps_out);
    Ok(if well { ExitCode::SUCCESS } else { ExitCode::from(3) })
}

fn not_taken(name: &str, why: &str) -> Failure {
    Failure::new(
        Kind::Usage,
        format!("{name}: {why}"),
        "nothing of it was taken in; the host keeps its reports in /var/lib/zoisite/join too",
    )
}

/// Whether a report is of a host of this cluster, about a join file that was written here, and newer than the last.
fn believed(
    site: &Site,
    state: &mut State,
    (name, report): (&str, &Report),
    (known, unnamed): (&BTreeMap<HostName, Carried>, &BTreeSet<HostName>),
) -> Result<(), Failure> {
    let host = &report.host;
    let refuse = |why: String| Err(not_taken(name, &why));
    let identity = state.cluster_id()?;
    if report.cluster != identity {
        return refuse(format!("it is of another cluster ({})", report.cluster));
    }
    let writes = site.cluster.is_offline(host) || unnamed.contains(host);
    let Some(before) = known.get(host).filter(|_| writes) else {
        return refuse(format!("{host} is no host for which a join file was written here"));
    };
    let Some(word) = word(state, site.strongbox()?, host)? else {
        return refuse(format!("{host} has no passphrase: who wrote a report cannot be proven"));
    };
    if let Err(why) = report.is_sealed_by(&word) {
        return refuse(why.to_string());
    }
    if report.body.number > before.number {
        return refuse(format!(
            "it tells of a join file ({}) that was not written here",
            report.body.number
        ));
    }
    match &before.report {
        Some(last) if report.body.count < last.body.count => refuse(format!(
            "it is older than the last one of {host}: number {} after {}",
            report.body.count, last.body.count
        )),
        _ => Ok(()),
    }
}

/// What machines are called that have no name yet.
fn unnamed(site: &Site) -> BTreeSet<HostName> {
    site.cluster.unnamed().into_iter().map(|host| host.name).collect()
}

/// Records what reports tell: what hosts are like, which machines they are, what differs there; and signs what they ask
/// for. Returns whose they are, and what was not signed.
fn take(
    site: &Site,
    state: &mut State,
    reports: &[Report],
    (known, unnamed): (&mut BTreeMap<HostName, Carried>, &BTreeSet<HostName>),
) -> Result<(Vec<HostName>, Option<Failure>), Failure> {
    if reports.is_empty() {
        return Ok((Vec::new(), None));
    }
    let mut looks = Looks::new();
    // Which machine it is counts from then on, as it has a name.
    for report in reports.iter().filter(|report| !unnamed.contains(&report.host)) {
        if let Some(observed) = &report.observed {
            looks.insert(report.host.clone(), Ok((**observed).clone()));
        }
    }
    let pins = meet(state, &looks, &[])?;
    let facts = looks
        .iter()
        .filter_map(|(host, look)| Some((host.clone(), look.as_ref().ok()?.facts.clone()?)));
    state.note_facts(facts)?;
    let surveyed = reports.iter().filter_map(|report| {
        Some((report.host.clone(), (report.body.at, report.facts.as_deref()?.clone())))
    });
    state.put_surveyed(&surveyed.collect())?;
    state.pin(&pins)?;
    // One that is taken out of the file later is known, and can be retired.
    let met = reports.iter().filter_map(|report| {
        let host = site.cluster.host(&report.host)?;
        let login = site.cluster.login_of(host);
        Some((host.name.clone(), Met { address: host.address, login }))
    });
    state.meet(met)?;
    let unsigned = sign(site, state, reports)?;
    let mut scratch = site.scratch()?;
    let prepared = prepare(site, &mut scratch, Part::ALL)?;
    let all = prepared.offline(site, &mut scratch, None)?;
    let sums = site.sums_if_any()?;
    let mut changed = Vec::new();
    for report in reports {
        let Some(carried) = known.get_mut(&report.host) else { continue };
        let holdings = all.host(&report.host);
        let differs = match (holdings, &report.observed) {
            (Some(holdings), Some(observed)) => {
                differences(holdings, observed, &sums).iter().map(ToString::to_string).collect()
            }
            _ => Vec::new(),
        };
        carried.take(Taken { body: report.body.clone(), read: now(), differs });
        changed.push((report.host.clone(), carried.clone()));
    }
    let hosts = changed.iter().map(|(host, _)| host.clone()).collect();
    put_carried(state, changed)?;
    Ok((hosts, unsigned))
}

/// Signs what hosts ask for keys that they made: their next join file brings it there. Returns what was refused.
fn sign(site: &Site, state: &mut State, reports: &[Report]) -> Result<Option<Failure>, Failure> {
    let ledger = state.ledger()?;
    let (current, dues) = (ledger.current(), asked_for(&site.cluster, &ledger, now()));
    let mut refused = Vec::new();
    for report in reports {
        // What was signed before is on its way, unless it is due again.
        let signed = |request: &&KeyRequest| {
            let of = (request.profile, report.host.clone());
            let due = dues
                .iter()
                .any(|due| due.wanted.profile == of.0 && due.wanted.host.as_ref() == Some(&of.1));
            !due && current.get(&of).is_some_and(|entry| entry.key_sha256 == request.key_sha256)
        };
        let requests: Vec<KeyRequest> =
            report.requests.iter().filter(|request| !signed(request)).cloned().collect();
        if requests.is_empty() {
            continue;
        }
        let host = &report.host;
        let profiles: BTreeSet<Profile> = requests.iter().map(|request| request.profile).collect();
        let mut own = site.state()?;
        Working::lock(&mut own)?;
        let mut desk = KeyDesk::new(own, site.strongbox()?, &site.cluster, profiles)?;
        match desk.certify(host, &requests, now())? {
            Ok(entries) => {
                let what: Vec<String> =
                    entries.iter().map(|entry| entry.profile.to_string()).collect();
                view::note(&format!(
                    "{host} made its keys, and they are signed: {}; zoisite join-file write {host} brings what was signed",
                    what.join(", ")
                ));
            }
            Err(why) => {
                let asked = format!("signing for the keys that {host} made: {}", why.join("; "));
                let fix = "nothing was signed for it; rm -r /var/lib/zoisite/keys there, and it makes others with its next join file";
                refused.push(Failure::new(Kind::Run, asked, fix));
            }
        }
    }
    Ok(refused.into_iter().reduce(Failure::and))
}
