//! First-boot data of machines that run: what changed since, and bringing it to them.

use std::collections::BTreeMap;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use serde_json::{Value, json};
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::first_boot::{
    Change, Medium, Seed, SeedRecord, SeedState, Way, carried, changed, in_order, locked_out,
    may_restart, way_of,
};
use zoisite_reach::{Hosts, Reach as _};
use zoisite_store::State;
use zoisite_store::first_boot::{host_keys, record_seeds, seed_records};

use super::write::{keys, seeds_of};
use crate::commands::block_on;
use crate::commands::login::hosts_to_dial;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::{Site, Working, begin_run, end_run, now};
use crate::view::{self, Style, count, looking::Doing};
use crate::well::{ailing_now, until_well};

/// The run that tells, in the history.
const APPLY: &str = "first-boot apply";

#[derive(Args, Debug)]
pub struct ChangesArgs {
    /// Hosts, with '*' for any text [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
}

#[derive(Args, Debug)]
pub struct ApplyArgs {
    /// Hosts, with '*' for any text [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// Also hosts without which something of the cluster stops; it is away while they restart
    #[arg(long)]
    outage: bool,
    /// How long each host may be away, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 600)]
    timeout: u64,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

/// How a machine's data compares with the file.
enum Comparison {
    /// It is the same.
    Same,
    /// It differs, and in this.
    Differs(Box<SeedRecord>, Vec<Change>),
    /// It was not written from here.
    Stranger(String),
    /// It hears nothing.
    Deaf,
}

/// Every host's data as it would be now, and as it is.
struct Compared {
    seeds: BTreeMap<HostName, (Seed, SeedRecord)>,
    standings: BTreeMap<HostName, Comparison>,
    troubles: Vec<Trouble>,
}

/// Hosts' data as it would be now. A host that generates its own SSH key keeps doing so.
fn seeds(
    site: &Site,
    state: &mut State,
    hosts: &[&Host],
) -> Result<BTreeMap<HostName, (Seed, SeedRecord)>, Failure> {
    seeds_of(site, hosts, &[], (&BTreeMap::new(), None))?;
    let own = block_on(keys(site))??;
    let before = seed_records(state)?;
    let with_key = |host: &&&Host| {
        let last = before.get(&host.name).and_then(|tellings| tellings.last());
        last.is_none_or(|telling| telling.user_data.get("ssh_keys").is_some())
    };
    let names: Vec<HostName> =
        hosts.iter().filter(with_key).map(|host| host.name.clone()).collect();
    let made = host_keys(state, site.strongbox()?, &names)?;
    let mut out = BTreeMap::new();
    for (host, seed) in seeds_of(site, hosts, &own, (&made, None))? {
        let telling = SeedRecord::of(&seed).map_err(|why| {
            Failure::new(Kind::Run, format!("{host}: {why}"), "report this, please")
        })?;
        out.insert(host.clone(), (seed, telling));
    }
    Ok(out)
}

async fn compared(
    reach: &Hosts,
    state: &State,
    seeds: BTreeMap<HostName, (Seed, SeedRecord)>,
) -> Result<Compared, Failure> {
    let before = seed_records(state)?;
    let asked =
        seeds.keys().map(|host| async move { (host.clone(), reach.seed_state(host).await) });
    let mut standings = BTreeMap::new();
    let mut troubles = Vec::new();
    for (host, heard) in futures_util::future::join_all(asked).await {
        match heard {
            Err(trouble) => troubles.push(trouble),
            Ok(heard) => {
                let now = &seeds[&host].1;
                let known = before.get(&host).map_or(&[][..], Vec::as_slice);
                standings.insert(host, stands(heard, known, now));
            }
        }
    }
    Ok(Compared { seeds, standings, troubles })
}

fn stands(heard: SeedState, known: &[SeedRecord], now: &SeedRecord) -> Comparison {
    let Some(instance) = heard.instance else { return Comparison::Deaf };
    if instance == now.instance {
        return Comparison::Same;
    }
    match known.iter().rev().find(|telling| telling.instance == instance) {
        Some(telling) => Comparison::Differs(Box::new(telling.clone()), changed(telling, now)),
        None => Comparison::Stranger(instance),
    }
}

pub fn changes(options: &Options, args: &ChangesArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let hosts = hosts_to_dial(&site, &args.hosts)?;
    let mut state = site.scratch()?;
    let seeds = seeds(&site, &mut state, &hosts)?;
    let compared = block_on(async {
        let reach = road::hosts(&site, &BTreeMap::new(), 0)?;
        let compared = compared(&reach, &state, seeds).await;
        reach.close().await;
        compared
    })??;
    if options.json {
        let one = |(host, standing): (&HostName, &Comparison)| match standing {
            Comparison::Same => json!({"host": host, "state": "same"}),
            Comparison::Differs(before, changes) => json!({
                "host": host, "state": "differs", "applied": before.instance,
                "would_apply": compared.seeds[host].1.instance, "way": way_of(changes), "changes": changes,
            }),
            Comparison::Stranger(heard) => {
                json!({"host": host, "state": "unknown", "applied": heard})
            }
            Comparison::Deaf => json!({"host": host, "state": "no-cloud-init"}),
        };
        let all: Vec<_> = compared.standings.iter().map(one).collect();
        view::json(&json!({"hosts": all, "troubles": compared.troubles}));
    } else {
        view::out(render(&compared, Style::stdout()).trim_end());
    }
    match compared.troubles.is_empty() {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::troubles(&compared.troubles)),
    }
}

fn render(compared: &Compared, style: Style) -> String {
    let mut out = String::new();
    let mut same = 0;
    for (host, standing) in &compared.standings {
        match standing {
            Comparison::Same => same += 1,
            Comparison::Differs(_, changes) => {
                let way = match way_of(changes) {
                    Way::InPlace => "changes while it runs",
                    Way::Restart => "changes, and restarts",
                };
                out.push_str(&format!("{} {way}\n", style.bold(host.as_str())));
                for Change { what, before, now, .. } in changes {
                    out.push_str(&format!("  {}\n", style.dim(what)));
                    for (sign, value) in [("-", before), ("+", now)] {
                        let value = value.as_ref().map(|value| match value {
                            Value::String(text) => text.clone(),
                            other => other.to_string(),
                        });
                        out.extend(value.map(|value| format!("    {sign} {value}\n")));
                    }
                }
            }
            Comparison::Stranger(heard) => out.push_str(&format!(
                "{} has first-boot data {heard}, which was not written from here: what differs is not known\n",
                style.bold(host.as_str())
            )),
            Comparison::Deaf => out.push_str(&format!(
                "{} {}\n",
                style.bold(host.as_str()),
                style.dim("cannot be changed: it has no cloud-init, or was set up without")
            )),
        }
    }
    if same > 0 {
        let heard = format!("{} as the file says", count(same, "host"));
        out.push_str(&format!("{} {heard}\n", style.good("✓")));
    }
    out
}

pub fn apply(options: &Options, args: &ApplyArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let hosts = hosts_to_dial(&site, &args.hosts)?;
    let mut work = site.working()?;
    site.recipients(&mut work.state)?;
    let seeds = seeds(&site, &mut work.state, &hosts)?;
    let unheard = interrupted_apply(&site, &work.state)?;
    let run = begin_run(&mut work.state, APPLY)?;
    let stands = work.state.begun()?.is_some();
    let state = &mut work.state;
    let done = block_on(async {
        if let Some(unheard) = unheard {
            until_heard(&site, args, state, unheard, run.generation).await?;
        }
        tell_all(&site, args, state, (seeds, stands), run.generation).await
    })?;
    let outcome = match &done {
        Ok(changed) => format!("changed {}", count(changed.len(), "host")),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(&mut work.state, run, &outcome)?;
    let changed = done?;
    if options.json {
        view::json(&json!({"changed": changed}));
    } else if changed.is_empty() {
        view::out("Every host with cloud-init is as the file says.");
    } else {
        view::out(&format!(
            "{} Changed {}: {}",
            Style::stdout().good("✓"),
            count(changed.len(), "host"),
            view::few(&changed)
        ));
    }
    Ok(ExitCode::SUCCESS)
}

/// Whom the last run was telling something when it was cut off, and whether the cluster had to wait for it. A run that was cut
/// off before it told anybody leaves it to the one before.
fn interrupted_apply(site: &Site, state: &State) -> Result<Option<(HostName, bool)>, Failure> {
    let runs = state.runs()?;
    let cluster = &site.cluster;
    let dialled = |host: &HostName| cluster.host(host).is_some() && !cluster.is_offline(host);
    let last = runs.iter().rev().filter(|run| run.command == APPLY);
    for run in last.take_while(|run| run.ended.is_none()) {
        let Some(last) = state.events(run.generation)?.pop() else { continue };
        let event: Value = serde_json::from_str(&last.event).unwrap_or_default();
        let host = event["step"].as_str().and_then(|name| HostName::new(name).ok());
        let unheard = host.filter(|host| event["is"] == "begun" && dialled(host));
        return Ok(unheard.map(|host| (host, event["restarts"] == true)));
    }
    Ok(None)
}

/// Waits for a machine that a run was telling something when it was cut off.
async fn until_heard(
    site: &Site,
    args: &ApplyArgs,
    state: &mut State,
    (host, restarts): (HostName, bool),
    generation: u64,
) -> Result<(), Failure> {
    view::say(&format!("the last run was cut off while it changed {host}: waiting for that host"));
    let doing = Doing::begin();
    let timeout = Duration::from_secs(args.timeout);
    let tell = |what: String| doing.says(&format!("{host}: {what}"));
    let reach = road::hosts(site, &BTreeMap::new(), generation)?;
    let settled = reach.settled(&host, timeout, &tell).await;
    reach.close().await;
    let back = match settled {
        Err(trouble) => Err(Failure::troubles([&trouble])),
        Ok(()) if restarts => until_well(site, state, (generation, timeout), &tell).await,
        Ok(()) => Ok(()),
    };
    doing.end();
    back
}

async fn tell_all(
    site: &Site,
    args: &ApplyArgs,
    state: &mut State,
    (seeds, stands): (BTreeMap<HostName, (Seed, SeedRecord)>, bool),
    generation: u64,
) -> Result<Vec<HostName>, Failure> {
    let reach = road::hosts(site, &BTreeMap::new(), generation)?;
    let done = async {
        let compared = compared(&reach, state, seeds).await?;
        if !compared.troubles.is_empty() {
            return Err(Failure::troubles(&compared.troubles));
        }
        let text = render(&compared, Style::stderr());
        let differs = |(host, standing): (&HostName, &Comparison)| {
            matches!(standing, Comparison::Differs(..) | Comparison::Stranger(_))
                .then(|| host.clone())
        };
        let mut order: Vec<HostName> = compared.standings.iter().filter_map(differs).collect();
        if order.is_empty() {
            return Ok(order);
        }
        in_order(&site.cluster, &mut order);
        view::say(text.trim_end());
        if !args.yes && !view::asked("Change them, one after another?") {
            return Err(Failure::not_confirmed("changed"));
        }
        for (done, host) in order.iter().enumerate() {
            one(site, args, state, &reach, &compared, (host, stands, generation)).await.map_err(
                |failure| {
                    let left = order.len() - done;
                    match left {
                        1 => failure,
                        _ => failure.and(Failure::new(
                            Kind::Run,
                            format!("{} after it were not changed", count(left - 1, "host")),
                            "the same command goes on with them",
                        )),
                    }
                },
            )?;
        }
        Ok(order)
    };
    let done = done.await;
    reach.close().await;
    done
}

/// Changes one host, and waits until it has applied the data and the cluster is as before.
async fn one(
    site: &Site,
    args: &ApplyArgs,
    state: &mut State,
    reach: &Hosts,
    compared: &Compared,
    (host, stands, generation): (&HostName, bool, u64),
) -> Result<(), Failure> {
    Working::lock(state)?;
    let (seed, record) = &compared.seeds[host];
    let (changes, way, locked) = match &compared.standings[host] {
        Comparison::Differs(before, changes) => {
            (&changes[..], way_of(changes), locked_out(before, record))
        }
        _ => (&[][..], Way::Restart, Vec::new()),
    };
    // Nothing rests yet on one that carries nothing of the cluster.
    let restarts = way == Way::Restart
        && stands
        && !reach.survey(&site.cluster, host).await.map_err(|t| Failure::troubles([&t]))?.is_bare();
    if restarts {
        let ailing = ailing_now(site, state, generation).await?;
        may_restart(&site.cluster, host, (changes, &ailing), args.outage)?;
    }
    let files = carried(host, seed, &Medium::Files)
        .map_err(|why| Failure::new(Kind::Run, why.to_string(), "report this, please"))?;
    record_seeds(state, [(host.clone(), record.clone())])?;
    let note = |is: &str| json!({"step": host, "is": is, "what": "changed", "restarts": restarts});
    state.records().append(generation, now(), &note("begun").to_string())?;
    view::say(&match way {
        Way::InPlace => format!("changing {host} while it runs"),
        Way::Restart => format!("changing {host}, which restarts"),
    });
    let doing = Doing::begin();
    let timeout = Duration::from_secs(args.timeout);
    let tell = |what: String| doing.says(&format!("{host}: {what}"));
    let heard = reach
        .tell(host, (&files, &locked), (&record.instance, way), timeout, &tell)
        .await
        .map_err(|trouble| Failure::troubles([&trouble]));
    let back = match heard {
        Ok(()) if restarts => until_well(site, state, (generation, timeout), &tell).await,
        heard => heard,
    };
    doing.end();
    back?;
    Ok(state.records().append(generation, now(), &note("done").to_string())?)
}
