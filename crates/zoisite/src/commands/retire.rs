use std::collections::BTreeMap;
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::sequence::ApiWork;
use zoisite_reach::{Hosts, Reach as _, in_waves};
use zoisite_store::{Met, State};

use super::block_on;
use super::raise::{RaiseArgs, carry_through, recorded};
use super::uninstall::{UninstallArgs, notes, uninstall, wipe_stretch};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, Working, now};
use crate::view::{self, count};

/// Remove hosts from the cluster that the cluster file no longer names
///
/// Take the host out of the file first. Its pods are evicted within their disruption budgets, and the others stop
/// using it, one change at a time: etcd quorum, load balancers. Then everything on it is uninstalled, its node is
/// deleted and its certificates are recorded as retired. Interrupted, the same command resumes.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite retire tern-3\n  zoisite retire tern-4 tern-5 tern-6 --timeout 1800\n  zoisite retire ibis --wipe    # a member of etcd, whose data goes too\n  zoisite retire tern-2 --lost  # a machine that is dead already"
)]
pub struct RetireArgs {
    /// Hosts that the file no longer names
    #[arg(value_name = "HOST", required = true)]
    hosts: Vec<String>,
    /// These machines are lost: nothing is done on them
    #[arg(long, conflicts_with = "wipe")]
    lost: bool,
    /// Delete the data of etcd there too; without it they stay
    #[arg(long)]
    wipe: bool,
    /// Delete pods that no controller recreates; their data is lost
    #[arg(long)]
    delete_unmanaged_pods: bool,
    /// How long the pods of a host may take to leave
    #[arg(long, value_name = "SECONDS", default_value_t = 900)]
    timeout: u32,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

pub fn run(options: &Options, args: &RetireArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let (departed, already) = departed(&site, args)?;
    let hosts: Vec<HostName> = departed.into_keys().collect();
    let names = hosts.iter().chain(&already).map(HostName::as_str).collect::<Vec<_>>().join(", ");
    let mut work = site.working()?;
    if hosts.is_empty() {
        view::say(&format!(
            "{names} was retired already: what of the others rested on it follows."
        ));
        return followed(&site, options, &mut work, (&already, &names));
    }
    view::say(&format!("Retire {names}: {}.", what(args)));
    if !args.yes && !view::asked(&format!("Retire {}?", count(hosts.len(), "host"))) {
        return Err(Failure::not_confirmed("done"));
    }
    let command = format!("retire {names}");
    let state = &mut work.state;
    if !args.lost {
        recorded(state, &command, |state, run| {
            block_on(drained(&site, args, (&hosts, run.generation), state))??;
            Ok("no pod is left".into())
        })?;
    }
    // Whoever depends on them does without them before they stop.
    carry_through(&site, options, &RaiseArgs::agreed(Vec::new()), &mut work, "raise")?;
    recorded(&mut work.state, &command, |state, run| {
        block_on(taken_back(&site, args, (&hosts, run.generation), state))??;
        for host in &hosts {
            state.retire(host, now())?;
        }
        Ok(format!("retired {}", count(hosts.len(), "host")))
    })?;
    let all: Vec<HostName> = hosts.into_iter().chain(already).collect();
    followed(&site, options, &mut work, (&all, &names))
}

/// Routes and rules of the others follow.
fn followed(
    site: &Site,
    options: &Options,
    work: &mut Working,
    (hosts, names): (&[HostName], &str),
) -> Result<ExitCode, Failure> {
    carry_through(site, options, &RaiseArgs::agreed(Vec::new()), work, "raise")?;
    if options.json {
        view::json(&json!({"retired": hosts}));
    } else {
        view::out(&format!("Retired {names}."));
    }
    Ok(ExitCode::SUCCESS)
}

fn what(args: &RetireArgs) -> &'static str {
    match (args.lost, args.wipe) {
        (true, _) => "the others do without, and nothing is done there",
        (false, true) => "pods leave, everything is uninstalled, and etcd's data is DELETED",
        (false, false) => "pods leave, and everything is uninstalled; etcd's data stays",
    }
}

/// The hosts that were named, each met once and no longer in the file, and those of them that were retired already: a
/// run may have been cut off right after that. All that is wrong with them is reported at once.
fn departed(
    site: &Site,
    args: &RetireArgs,
) -> Result<(BTreeMap<HostName, Met>, Vec<HostName>), Failure> {
    let state = site.raised_state()?;
    let (known, retired) = (state.departed(&site.cluster)?, state.retired()?);
    let mut out = BTreeMap::new();
    let (mut already, mut wrong) = (Vec::new(), Vec::new());
    for name in &args.hosts {
        match known.iter().find(|(host, _)| host.as_str() == name) {
            Some((host, met)) => {
                out.insert(host.clone(), met.clone());
            }
            None if site.cluster.hosts.iter().any(|host| host.name.as_str() == name) => {
                wrong.push(Failure::new(
                    Kind::Usage,
                    format!("{name} is still in {}", site.file.display()),
                    "take it out there first, from its parts and from [hosts]; then the same command again",
                ));
            }
            None if retired.keys().any(|host| host.as_str() == name) => {
                already.extend(HostName::new(name));
            }
            None => wrong.push(Failure::new(
                Kind::Usage,
                format!("{name} is no host that was met and left the file"),
                "zoisite status names those that are to be retired",
            )),
        }
    }
    match wrong.into_iter().reduce(Failure::and) {
        Some(failure) => Err(failure),
        None => Ok((out, already)),
    }
}

/// One thing after the other is reported, and nothing where no terminal shows it.
fn tell(host: &HostName) -> impl Fn(String) + Send + Sync + use<> {
    let (host, said) = (host.clone(), std::sync::Mutex::new(String::new()));
    move |what: String| {
        if let Ok(mut said) = said.lock()
            && *said != what
        {
            view::doing(Some(&host), &what);
            *said = what;
        }
    }
}

/// Pods leave all of them, a few hosts at once.
async fn drained(
    site: &Site,
    args: &RetireArgs,
    (hosts, generation): (&[HostName], u64),
    state: &mut State,
) -> Result<(), Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      _: &mut State,
                      _: &mut Sighting| {
        // Pods of a machine that is dead never leave it.
        let (_, dead) = notes(reach, hosts).await;
        if !dead.is_empty() {
            let lost = "of a machine that is dead for good: zoisite retire HOST --lost, which needs nothing of it";
            return Err(Failure::troubles(&dead).note("or", lost));
        }
        reach.set_api_access(road::api_access(site, state, &prepared.ledger)?);
        // All are closed before any is emptied: no pod goes from one of them to the next.
        let close = |host: &HostName| ApiWork::Close { host: host.clone() };
        on_each(reach, hosts, "zoisite retire again goes on", close).await?;
        let leave = |host: &HostName| {
            let (delete_unmanaged_pods, seconds) = (args.delete_unmanaged_pods, args.timeout);
            ApiWork::Drain { host: host.clone(), delete_unmanaged_pods, seconds }
        };
        let fix = "zoisite retire again goes on; --delete-unmanaged-pods deletes pods that no controller recreates, --timeout waits longer; a budget that never gives way is for its owner to change";
        on_each(reach, hosts, fix, leave).await
    };
    let how = (&[Part::Nodes][..], Depth::Quick, generation);
    road::visit(site, how, work).await.map(|_| ())
}

/// Does something about each of them through the API, a few at once; all that failed is reported.
async fn on_each(
    reach: &Hosts,
    hosts: &[HostName],
    fix: &str,
    work: impl Fn(&HostName) -> ApiWork,
) -> Result<(), Failure> {
    let each = async |host: &HostName| reach.api(Some(host), &work(host), &tell(host)).await;
    let ended = in_waves(hosts, each).await;
    let troubles: Vec<Trouble> =
        ended.into_iter().filter_map(|outcome| Some(outcome.ended().err()?.fix(fix))).collect();
    match troubles.is_empty() {
        true => Ok(()),
        false => Err(Failure::troubles(&troubles)),
    }
}

/// What was put there is taken back, and the cluster's own objects of them go.
async fn taken_back(
    site: &Site,
    args: &RetireArgs,
    (hosts, generation): (&[HostName], u64),
    state: &mut State,
) -> Result<(), Failure> {
    let work =
        async |reach: &mut Hosts, prepared: &mut Prepared, _: &mut State, _: &mut Sighting| {
            reach.set_api_access(road::api_access(site, state, &prepared.ledger)?);
            if !args.lost {
                let done = uninstall(site, &UninstallArgs::agreed(), state, reach, hosts).await?;
                if !done.troubles.is_empty() {
                    return Err(Failure::troubles(&done.troubles));
                }
            }
            let identity = state.cluster_id()?;
            for host in hosts {
                let mut outcomes = Vec::new();
                if args.wipe {
                    let stretch = wipe_stretch(site, host, &identity);
                    outcomes.push(reach.act(&stretch, &tell(host)).await);
                }
                let remove = ApiWork::RemoveNode { host: host.clone() };
                outcomes.push(reach.api(Some(host), &remove, &tell(host)).await);
                for outcome in outcomes {
                    outcome.ended().map_err(|trouble| Failure::troubles([&trouble]))?;
                }
            }
            Ok(())
        };
    let how = (&[Part::Nodes][..], Depth::Quick, generation);
    road::visit(site, how, work).await.map(|_| ())
}
