use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::{Host, HostName, ImageName, Role};
use zoisite_core::holdings::Part;
use zoisite_core::pki::KeySource as _;
use zoisite_reach::{
    ApiClient, CHECKS, Hosts, NAMESPACE, NOT_EVERYWHERE, Probe, Pushing, Reach as _, Tried,
    Verification, verify,
};
use zoisite_store::FreshKeys;

use crate::failure::{Failure, Kind};
use crate::interrupt::Interrupts;
use crate::options::Options;
use crate::prepared::{Prepared, prepare};
use crate::road;
use crate::site::Site;
use crate::view::{self, Style, count, table::table};

/// Prove that the cluster works, and clean up
///
/// Writes through the API endpoint and reads through every API server; runs a pod on every node; connects the
/// pods to each other, to a service and to DNS; reads logs; pushes to the cluster's own registry and pulls from
/// it. Exits with 1 when anything fails.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite verify\n  zoisite verify --json\n  zoisite verify --pull registry.saltmarsh.example/gulls/counter:2.1"
)]
pub struct VerifyArgs {
    /// How long pods may take to run
    #[arg(long, value_name = "SECONDS", default_value_t = 120)]
    timeout: u64,
    /// Pull this image again on every node; may be repeated
    #[arg(long, value_name = "IMAGE", value_parser = image)]
    pull: Vec<ImageName>,
}

fn image(text: &str) -> Result<ImageName, String> {
    ImageName::new(text).map_err(|why| why.to_string())
}

pub fn run(options: &Options, args: &VerifyArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    site.raised_state()?;
    let mut state = site.scratch()?;
    let prepared = prepare(&site, &mut state, Part::ALL)?;
    let mut reach = road::hosts(&site, &prepared.departed, 0)?;
    reach.set_api_access(road::api_access(&site, &mut state, &prepared.ledger)?);
    let probe = probe(&site, &prepared);
    let mut wanted = Verification {
        nodes: prepared.nodes.iter().map(|node| node.host.clone()).collect(),
        domain: site.cluster.domain.clone(),
        timeout: Duration::from_secs(args.timeout),
        forwards: forwards(&site),
        pulls: pulls(&prepared, &args.pull)?,
        pushing: None,
        probe,
    };
    let style = Style::stdout();
    let (tried, took, stopped) = super::block_on(async {
        wanted.pushing = pushing(&site, &reach, &wanted.probe);
        let mut servers = Vec::new();
        for host in &site.cluster.control_plane.hosts {
            servers.push((host.clone(), reach.api_of(host)));
        }
        // The API endpoint is dialled from a host of the cluster: the name is the site's.
        let dialled = |host: &&HostName| !site.cluster.is_offline(host);
        let from = wanted.nodes.iter().find(dialled).cloned().ok_or_else(|| {
            Failure::new(
                Kind::Usage,
                "the cluster has no nodes",
                "name workers in the cluster file",
            )
        })?;
        let stable = reach.api_endpoint(&from).map_err(|why| {
            Failure::new(
                Kind::Run,
                format!("dialling the API endpoint from {from}: {why}"),
                "zoisite status shows what runs",
            )
        })?;
        let host = reach.from_host(&from).map_err(|trouble| Failure::troubles([&trouble]))?;
        leave_out_strangers(&site, &stable, &mut wanted.nodes).await;
        leave_out_windows(&site, &mut wanted.nodes);
        let mut said = |tried: &Tried| {
            if !options.json {
                view::say(&line(tried));
            }
        };
        // From here on something is made: it is removed also when a person does not want to wait.
        let interrupts = Interrupts::listen();
        let stopped = std::cell::Cell::new(false);
        let interrupt = async {
            interrupts.asked(1).await;
            stopped.set(true);
            view::note(
                "stopping: what was made in the cluster is removed first; once more stops at once",
            );
        };
        let tried = tokio::select! {
            tried = verify(&stable, (&servers, &host), &wanted, interrupt, &mut said) => tried,
            () = interrupts.asked(2) => Vec::new(),
        };
        let took = reach.elapsed();
        reach.close().await;
        Ok::<_, Failure>((tried, took, stopped.get()))
    })??;
    if stopped {
        return Err(Failure::new(
            Kind::Run,
            format!("stopped as you asked, after {}", count(tried.len(), "proof")),
            format!(
                "what may be left in the namespace {} is swept by a later verify",
                wanted.probe.namespace
            ),
        ));
    }
    let failed = tried.iter().filter(|tried| tried.fault.is_some()).count();
    if options.json {
        view::json(&json!({"ok": failed == 0, "tried": tried, "seconds": took.as_secs_f64()}));
    } else {
        view::out(&render(site.cluster.name.as_str(), &tried, style));
        let all = count(tried.len(), "proof");
        view::out(&match failed {
            0 => format!("{} {all} in {}: the cluster works", style.good("✓"), view::seconds(took)),
            n => format!("{} {n} of {all} failed", style.bad("✗")),
        });
    }
    if failed == 0 { Ok(ExitCode::SUCCESS) } else { Err(Failure::reported(Kind::Run)) }
}

/// An offline host may not have joined yet: nothing is tried there then.
async fn leave_out_strangers(site: &Site, api: &ApiClient, nodes: &mut Vec<HostName>) {
    if site.cluster.offline().next().is_none() {
        return;
    }
    let known = super::node_names(api).await.unwrap_or_default();
    let joined = |host: &HostName| known.contains(host.as_str());
    let (tried, left): (Vec<HostName>, Vec<HostName>) =
        nodes.drain(..).partition(|host| !site.cluster.is_offline(host) || joined(host));
    *nodes = tried;
    if !left.is_empty() {
        let who = if left.len() == 1 { "is offline and has" } else { "are offline and have" };
        view::note(&format!("{} {who} not joined: nothing is tried there", view::few(&left)));
    }
}

/// What is tried with runs on Linux alone.
fn leave_out_windows(site: &Site, nodes: &mut Vec<HostName>) {
    let (left, tried): (Vec<HostName>, Vec<HostName>) =
        nodes.drain(..).partition(|host| site.cluster.runs_windows(host));
    *nodes = tried;
    if !left.is_empty() {
        let who = if left.len() == 1 { "runs" } else { "run" };
        view::note(&format!("{} {who} Windows: nothing is tried there", view::few(&left)));
    }
}

/// What nodes are to pull for a person, who may not mean an image that they hold.
fn pulls(prepared: &Prepared, asked: &[ImageName]) -> Result<Vec<String>, Failure> {
    let images = &prepared.images;
    let held: Vec<String> = images.sources.iter().map(|source| images.name_of(source)).collect();
    let asked: Vec<String> = asked.iter().map(ToString::to_string).collect();
    match asked.iter().find(|image| held.contains(image)) {
        None => Ok(asked),
        Some(image) => Err(Failure::new(
            Kind::Usage,
            format!("--pull {image}: every node holds it, and a pull would unpin it there"),
            "name another image that the registry has",
        )),
    }
}

/// The cluster's own registry, with unique names for images.
fn pushing(site: &Site, reach: &Hosts, probe: &Probe) -> Option<Pushing> {
    let registry = &site.cluster.registry;
    registry.host.as_ref().filter(|_| !registry.read_only)?;
    let tag = probe.namespace.trim_start_matches(NAMESPACE);
    let image = |of: &String| ImageName::new(&format!("{of}/zoisite/verify:{tag}")).ok();
    let names = std::iter::once(&registry.name).chain(&registry.mirrors).filter_map(image);
    let images = names.map(|name| (registry.keeps(&name), name)).collect();
    Some(Pushing { images, registry: reach.registry() })
}

/// The ways to each node port that load balancers lead to: every worker, and every load balancer at the ports that it forwards
/// there, by its own address and the virtual IP.
fn forwards(site: &Site) -> BTreeMap<u16, Vec<(String, SocketAddr)>> {
    let cluster = &site.cluster;
    let mut all: BTreeMap<u16, Vec<(String, SocketAddr)>> = BTreeMap::new();
    for (port, to) in &cluster.load_balancers.forward {
        let ways = all.entry(*to).or_insert_with(|| {
            let workers = cluster.hosts_of(Role::Worker).into_iter();
            let way =
                |host: &Host| (format!("{}:{to}", host.name), SocketAddr::new(host.address, *to));
            workers.map(way).collect()
        });
        let load_balancers = cluster.hosts_of(Role::LoadBalancer).into_iter();
        let own = load_balancers.map(|host| (host.name.to_string(), host.address));
        let virtual_ip = cluster.load_balancers.virtual_ip.map(|at| (at.to_string(), at));
        ways.extend(
            own.chain(virtual_ip)
                .map(|(name, address)| (format!("{name}:{port}"), SocketAddr::new(address, *port))),
        );
    }
    all
}

/// A namespace that no other run has, and the image that every node has.
pub fn probe(site: &Site, prepared: &Prepared) -> Probe {
    let reports = FreshKeys.serial();
    Probe {
        namespace: format!("{NAMESPACE}{:02x}{:02x}{:02x}", reports[0], reports[1], reports[2]),
        image: prepared.images.name_of(&site.cluster.components.dns_image),
    }
}

fn line(tried: &Tried) -> String {
    match &tried.fault {
        None => format!("{:<16} {:<22} {} ms", tried.check, tried.on, tried.milliseconds),
        Some(why) => format!("{:<16} {:<22} failed: {why}", tried.check, tried.on),
    }
}

/// The scoreboard: a line for each check, and one for each thing that failed.
pub fn render(cluster: &str, tried: &[Tried], style: Style) -> String {
    let mut rows = Vec::new();
    let mut faults = String::new();
    for check in CHECKS {
        let own: Vec<&Tried> = tried.iter().filter(|tried| tried.check == check).collect();
        let good = own.iter().filter(|tried| tried.fault.is_none()).count();
        let slowest = own.iter().map(|tried| tried.milliseconds).max().unwrap_or(0);
        if own.is_empty() && NOT_EVERYWHERE.contains(&check) {
            continue;
        }
        let result = match (own.len(), good) {
            (0, _) => "not tried".to_owned(),
            (n, good) if n == good => format!("✓ {good} of {n}"),
            (n, good) => format!("✗ {good} of {n}"),
        };
        let on: Vec<&str> = own.iter().map(|tried| tried.on.as_str()).take(4).collect();
        let more = own.len().saturating_sub(on.len());
        let on = match more {
            0 => on.join(", "),
            more => format!("{} and {more} more", on.join(", ")),
        };
        rows.push(vec![check.to_owned(), result, format!("{slowest} ms"), on]);
        for tried in own {
            if let Some(why) = &tried.fault {
                faults.push_str(&format!(
                    "  {} {}, {}: {why}\n",
                    style.bad("✗"),
                    tried.check,
                    tried.on
                ));
            }
        }
    }
    let head = format!("{} · does it work?\n\n", style.bold(cluster));
    head + &table(&["proof", "works", "slowest", "of"], rows) + "\n" + &faults
}
