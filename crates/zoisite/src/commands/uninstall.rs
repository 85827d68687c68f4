use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;

use clap::Args;
use futures_util::StreamExt as _;
use serde_json::json;
use zoisite_core::cluster::{HostName, Role};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::EtcdPaths;
use zoisite_core::script::{Notes, Operation, Stretch};
use zoisite_core::snapshot::SAVED_THERE;
use zoisite_reach::{Hosts, Reach as _};
use zoisite_store::{SqliteRecords, State};

use super::login::chosen_to_dial;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::{Site, begin_run, end_run};
use crate::view::looking::{Doing, of_each};
use crate::view::{self, count, names};

/// Remove from hosts everything that Zoisite put there, and restore what was there before
///
/// Each host keeps a list of what was put on it, and of what was there before: files, links, lines, settings,
/// swap, packages, units, users, images, pods. The data of etcd and of a registry stay. A host on which others
/// depend (etcd member, control plane, load balancer, registry) is uninstalled with the whole cluster only.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite uninstall tern-3 --list       # what was put there, and what stood there before\n  zoisite uninstall tern-3\n  zoisite uninstall --whole-cluster\n  zoisite uninstall --whole-cluster --wipe --forget   # and nothing of it is left anywhere"
)]
pub struct UninstallArgs {
    /// Hosts, with '*' for any text
    #[arg(value_name = "HOST", required_unless_present = "whole_cluster")]
    hosts: Vec<String>,
    /// All hosts; only the data of etcd stay
    #[arg(long, conflicts_with = "hosts")]
    whole_cluster: bool,
    /// Also delete the data of etcd and the snapshots of members: everything the cluster stored
    #[arg(long, requires = "whole_cluster", conflicts_with_all = ["hosts", "list"])]
    wipe: bool,
    /// Also delete the state here: private keys, certificates and history. Snapshots stay
    #[arg(long, requires = "wipe")]
    forget: bool,
    /// Only list what was put there
    #[arg(long)]
    list: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

impl UninstallArgs {
    /// Of hosts of which a person said so already.
    pub(super) fn agreed() -> Self {
        Self {
            hosts: Vec::new(),
            whole_cluster: false,
            wipe: false,
            forget: false,
            list: false,
            yes: true,
        }
    }
}

/// Hosts that are taken back at once.
const AT_ONCE: usize = 16;

pub fn run(options: &Options, args: &UninstallArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    // Of the whole cluster none is named.
    let hosts = chosen_to_dial(&site, &args.hosts)?;
    if args.list {
        return super::block_on(list(&site, options, &hosts))?;
    }
    others_do_not_depend_on_it(&site, args.whole_cluster, &hosts)?;
    if args.wipe {
        agreed_to_lose(args, &hosts)?;
    }
    let mut work = site.briefly()?;
    let all = if args.whole_cluster { "--whole-cluster".into() } else { names(&hosts) };
    let run = begin_run(&mut work.state, &format!("uninstall {all}"))?;
    let reach = road::hosts(&site, &BTreeMap::new(), run.generation)?;
    let wiped = args.wipe.then(|| work.state.cluster_id()).transpose()?;
    let done = super::block_on(async {
        let mut done = uninstall(&site, args, &mut work.state, &reach, &hosts).await;
        // Nothing is deleted before everything stopped everywhere.
        if let Ok(done) = &mut done
            && let Some(identity) = &wiped
            && done.troubles.is_empty()
        {
            done.troubles = wipe(&site, identity, &reach, &hosts).await;
        }
        reach.close().await;
        done
    })?;
    let outcome = match &done {
        Ok(done) => format!("took back {} of {}", done.back.len(), count(hosts.len(), "host")),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(&mut work.state, run, &outcome)?;
    let Done { back, left, troubles } = done?;
    if options.json {
        view::json(&json!({"back": back, "left": left, "troubles": troubles}));
    } else {
        for (host, left) in left.iter().filter(|(_, left)| !left.is_empty()) {
            let what: Vec<&str> = left.iter().map(String::as_str).collect();
            view::note(&format!(
                "{host}: {} stays: others use it, or data is in it",
                what.join(", ")
            ));
        }
        if !back.is_empty() {
            view::out(&format!("Took back what was put on {}.", names(&back)));
        }
    }
    if !troubles.is_empty() {
        return Err(Failure::troubles(&troubles));
    }
    if args.forget {
        drop(work);
        forget(&site, options)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// A person's word that what cannot be had back may go.
fn agreed_to_lose(args: &UninstallArgs, hosts: &[HostName]) -> Result<(), Failure> {
    let keys = match args.forget {
        true => ", and the keys of its authorities are FORGOTTEN here",
        false => "",
    };
    let question = format!(
        "Everything that the cluster held is DELETED on {}{keys}. Go on?",
        count(hosts.len(), "host")
    );
    if args.yes || view::asked(&question) {
        return Ok(());
    }
    Err(Failure::not_confirmed("done"))
}

/// Deletes what etcd wrote and what members saved, where a mark says that it is this cluster's (rule S3).
async fn wipe(site: &Site, identity: &str, reach: &Hosts, hosts: &[HostName]) -> Vec<Trouble> {
    let outcomes = of_each(hosts, AT_ONCE, async |host| {
        let stretch = wipe_stretch(site, host, identity);
        reach.act(&stretch, &|what| view::doing(Some(host), &what)).await
    });
    outcomes.await.into_iter().filter_map(|(_, outcome)| outcome.ended().err()).collect()
}

/// What deletes a member's data, what was moved aside, and what its host saved; the folder that has the mark goes last.
pub(super) fn wipe_stretch(site: &Site, host: &HostName, identity: &str) -> Stretch {
    let paths = EtcdPaths::of(&site.cluster, None, identity);
    let wipe = |folder: String| Operation::Wipe {
        folder,
        owner_mark: paths.owner_mark.clone(),
        cluster_id: identity.to_owned(),
    };
    let operations = vec![wipe(SAVED_THERE.into()), wipe(paths.folder.clone())];
    Stretch { host: host.clone(), operations }
}

/// Takes the store away: this workstation has no record of the cluster any more.
fn forget(site: &Site, options: &Options) -> Result<(), Failure> {
    SqliteRecords::forget(&site.store)?;
    if !options.json {
        view::out(&format!(
            "The cluster is forgotten here. What stays: snapshots in {}, copies of the state, and your identity.",
            site.snapshots().path().display()
        ));
    }
    Ok(())
}

/// A host that others depend on is not taken from under them (rules S1 and S2).
fn others_do_not_depend_on_it(site: &Site, whole: bool, hosts: &[HostName]) -> Result<(), Failure> {
    let begun = match site.existing_state()? {
        Some(state) => state.begun()?.is_some(),
        None => false,
    };
    let carries = |host: &&HostName| site.cluster.is_depended_on(host);
    let carriers: Vec<&HostName> = hosts.iter().filter(carries).collect();
    if whole || !begun || carriers.is_empty() {
        return Ok(());
    }
    Err(Failure::new(
        Kind::Refused,
        format!("others depend on {} (rules S1 quorum first, S2 one at a time)", names(&carriers)),
        "zoisite uninstall --whole-cluster takes everything back; a worker goes alone",
    ))
}

/// What was done.
pub(super) struct Done {
    pub back: Vec<HostName>,
    left: BTreeMap<HostName, Vec<String>>,
    pub troubles: Vec<Trouble>,
}

pub(super) async fn notes(
    reach: &Hosts,
    hosts: &[HostName],
) -> (BTreeMap<HostName, Notes>, Vec<Trouble>) {
    let mut all = BTreeMap::new();
    let mut troubles = Vec::new();
    for (host, found) in of_each(hosts, AT_ONCE, async |host| reach.notes(host).await).await {
        match found {
            Ok(notes) => {
                all.insert(host, notes);
            }
            Err(trouble) => troubles.push(trouble),
        }
    }
    (all, troubles)
}

async fn list(site: &Site, options: &Options, hosts: &[HostName]) -> Result<ExitCode, Failure> {
    let reach = road::hosts(site, &BTreeMap::new(), 0)?;
    let (all, troubles) = notes(&reach, hosts).await;
    reach.close().await;
    if options.json {
        view::json(&json!({"hosts": all, "troubles": troubles}));
    } else {
        let rows: Vec<Vec<String>> = all
            .iter()
            .flat_map(|(host, notes)| {
                notes.all.iter().map(move |noted| {
                    let before = match (noted.before.as_str(), noted.before.split_once(' ')) {
                        ("absent", _) => "nothing".into(),
                        (_, Some(("file", _))) => "a file, which is kept".into(),
                        (_, Some(("link", to))) => format!("a link to {to}"),
                        (before, _) => before.to_owned(),
                    };
                    vec![host.to_string(), noted.kind.clone(), noted.what.clone(), before]
                })
            })
            .collect();
        match rows.is_empty() {
            true => view::out("Nothing was put there."),
            false => {
                let table = view::table::table(&["host", "kind", "put", "stood there"], rows);
                view::out(table.trim_end());
            }
        }
    }
    match troubles.is_empty() {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::troubles(&troubles)),
    }
}

pub(super) async fn uninstall(
    site: &Site,
    args: &UninstallArgs,
    state: &mut State,
    reach: &Hosts,
    hosts: &[HostName],
) -> Result<Done, Failure> {
    let (found, mut troubles) = notes(reach, hosts).await;
    let own = state.known_cluster_id()?;
    let foreign: Vec<&HostName> = found
        .iter()
        .filter(|(_, notes)| notes.cluster.is_some() && notes.cluster != own)
        .map(|(host, _)| host)
        .collect();
    if !foreign.is_empty() {
        return Err(Failure::new(
            Kind::Refused,
            format!("{} belongs to another cluster (rule S9 own things only)", names(&foreign)),
            "take it back with the cluster file and the store of that cluster",
        ));
    }
    let wanted: Vec<HostName> = hosts
        .iter()
        .filter(|host| found.get(host).is_some_and(|n| !n.all.is_empty()))
        .cloned()
        .collect();
    let mut done = Done { back: Vec::new(), left: BTreeMap::new(), troubles: Vec::new() };
    if wanted.is_empty() {
        if troubles.is_empty() {
            view::say("Nothing was put there.");
        }
        done.troubles = troubles;
        return Ok(done);
    }
    for host in &wanted {
        view::say(&format!("{host}: {}", summary(&found[host])));
    }
    let question = format!("Take all of it back on {}?", count(wanted.len(), "host"));
    if !args.yes && !view::asked(&question) {
        return Err(Failure::not_confirmed("done"));
    }
    // Who depends on others goes first.
    let order = |host: &HostName| match () {
        () if site.cluster.holds(host, Role::EtcdMember) => 2,
        () if site.cluster.is_depended_on(host) => 1,
        () => 0,
    };
    let doing = Doing::begin();
    for group in 0..=2 {
        let group: Vec<HostName> =
            wanted.iter().filter(|host| order(host) == group).cloned().collect();
        if group.is_empty() || (!troubles.is_empty() && args.whole_cluster) {
            continue;
        }
        let back = async |host: &HostName| {
            let tell = |what: String| doing.says(&format!("{host}: {what}"));
            reach.uninstall(host, &tell).await
        };
        let going = futures_util::stream::iter(&group).map(|host| {
            let back = &back;
            async move { (host, back(host).await) }
        });
        let mut going = std::pin::pin!(going.buffer_unordered(AT_ONCE));
        while let Some((host, result)) = going.next().await {
            let host = host.clone();
            match result {
                Ok(left) => {
                    let left: BTreeSet<String> = left.into_iter().collect();
                    done.left.insert(host.clone(), left.into_iter().collect());
                    done.back.push(host);
                }
                Err(trouble) => troubles.push(trouble),
            }
        }
    }
    doing.end();
    done.troubles = troubles;
    Ok(done)
}

/// What was put on a host, counted by kind.
fn summary(notes: &Notes) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for noted in &notes.all {
        *counts.entry(noted.kind.as_str()).or_default() += 1;
    }
    let words: Vec<String> = counts.iter().map(|(kind, n)| format!("{n} {kind}")).collect();
    words.join(", ")
}
