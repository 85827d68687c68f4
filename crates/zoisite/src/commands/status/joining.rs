use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::{Cluster, Host, HostName, Role};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{HostFacts, Part};
use zoisite_core::joining::{Callers, Evidence, Joining, Passed, Stage};
use zoisite_core::script::Depth;
use zoisite_core::token::TokenRecord;
use zoisite_reach::Hosts;
use zoisite_store::join_files::{Carried, carried};

use crate::commands::block_on;
use crate::commands::login::chosen;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::{Site, now};
use crate::view::{self, Style, count, reports::sign, table::table};

/// Show how far hosts have joined, also those that you cannot log in to
///
/// Uses evidence from the cluster: tokens, connections to the API endpoint, certificate requests, certificates,
/// nodes. It shows whether a host never connected, is blocked, or is only slow. Exits with 3 if a node is not
/// Ready.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite status joining\n  zoisite status joining tern-3 --listen 30    # counts connections for half a minute"
)]
pub struct JoiningArgs {
    /// Hosts, with '*' for any text [default: every node of the file]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// How long to count connections to the API endpoint, in seconds; 0 for not at all
    #[arg(long, value_name = "SECONDS", default_value_t = 12, value_parser = clap::value_parser!(u32).range(0..=60))]
    listen: u32,
}

pub fn run(options: &Options, args: &JoiningArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let state = site.raised_state()?;
    let named = chosen(&site, &args.hosts)?;
    let hosts: Vec<&Host> =
        site.cluster.nodes().into_iter().filter(|host| named.contains(&host.name)).collect();
    if hosts.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            format!("{} will be no node", view::few(&named)),
            "workers and control planes join; zoisite status shows the others",
        ));
    }
    let tokens = state.tokens()?;
    let carried = carried(&state)?;
    let facts = state.facts()?;
    let (joining, troubles) = block_on(look(&site, &hosts, (args.listen, &tokens, &facts)))??;
    let ready = joining.iter().all(Joining::is_ready);
    if options.json {
        view::json(
            &json!({"ok": ready, "hosts": joining.iter().map(|one| told(one, &carried)).collect::<Vec<_>>(), "troubles": troubles}),
        );
    } else {
        let mesh = site.cluster.mesh.is_some();
        view::out(render(&joining, &carried, mesh, Style::stdout()).trim_end());
        for trouble in &troubles {
            view::note(&trouble.to_string());
        }
    }
    Ok(if ready { ExitCode::SUCCESS } else { ExitCode::from(3) })
}

fn told(joining: &Joining, carried: &BTreeMap<HostName, Carried>) -> serde_json::Value {
    let stages: serde_json::Map<String, serde_json::Value> = joining
        .stages
        .iter()
        .map(|(stage, passed)| (stage.title().to_lowercase(), json!(passed)))
        .collect();
    json!({"host": joining.host, "ready": joining.is_ready(), "stages": stages,
           "carried": carried.get(&joining.host)})
}

async fn look(
    site: &Site,
    hosts: &[&Host],
    (seconds, tokens, facts): (u32, &[TokenRecord], &BTreeMap<HostName, HostFacts>),
) -> Result<(Vec<Joining>, Vec<Trouble>), Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut crate::prepared::Prepared,
                      _: &mut zoisite_store::State,
                      sighting: &mut road::Sighting| {
        sighting.met()?;
        let Some(api) = sighting.api.answered() else {
            return Err(Failure::new(
                Kind::Run,
                "no API server answers, and no host can join",
                "zoisite status shows why",
            ));
        };
        let evidence = |callers| Evidence {
            cluster: &site.cluster,
            api,
            tokens,
            ledger: &prepared.ledger,
            facts,
            callers,
            now: now(),
        };
        let at_once: Vec<Joining> = hosts.iter().map(|host| evidence(None).of(host)).collect();
        // Who is past that need not be listened for.
        let dials = |one: &Joining| {
            one.stages.iter().any(|(s, p)| *s == Stage::Connects && *p == Passed::Open)
        };
        if seconds == 0 || !at_once.iter().any(dials) {
            return Ok((at_once, Vec::new()));
        }
        view::say(&format!("counting connections to the API endpoint, for {seconds} s"));
        let (callers, troubles) = count_callers(site, reach, seconds).await;
        let heard = !callers.who.is_empty() || !callers.met.is_empty();
        let callers = (heard || troubles.is_empty()).then_some(&callers);
        Ok((hosts.iter().map(|host| evidence(callers).of(host)).collect(), troubles))
    };
    let how = (Part::ALL, Depth::Quick, 0);
    Ok(road::visit(site, how, work).await?.2)
}

/// At which ports each host counts who dials it: those in front, which everything reaches the API by. Who has the stable
/// address for itself dials API servers from there, and others in the mesh first.
fn counted(cluster: &Cluster) -> BTreeMap<&HostName, BTreeSet<u16>> {
    let control = &cluster.control_plane;
    let mut out: BTreeMap<&HostName, BTreeSet<u16>> = BTreeMap::new();
    for host in cluster.dialled_load_balancers() {
        out.entry(&host.name).or_default().insert(control.endpoint.port);
    }
    if cluster.front() == Role::ControlPlane || cluster.mesh.is_some() {
        for host in &control.hosts {
            out.entry(host).or_default().insert(control.port);
        }
    }
    let found = cluster.hosts.iter().filter(|host| host.endpoint.is_some());
    for host in found {
        out.entry(&host.name).or_default();
    }
    out.retain(|host, _| !cluster.is_offline(host));
    out
}

/// Who dials meanwhile, and who sends to the mesh.
async fn count_callers(site: &Site, reach: &Hosts, seconds: u32) -> (Callers, Vec<Trouble>) {
    let mesh = site.cluster.mesh.as_ref().map(|mesh| mesh.port);
    let counted = counted(&site.cluster);
    let asked = counted.iter().map(|(host, ports)| reach.callers(host, (ports, mesh), seconds));
    let mut callers = Callers { seconds, ..Callers::default() };
    let mut troubles = Vec::new();
    for heard in futures_util::future::join_all(asked).await {
        match heard {
            Ok(some) => callers.add(some),
            Err(trouble) => troubles.push(trouble),
        }
    }
    (callers, troubles)
}

fn render(
    all: &[Joining],
    carried: &BTreeMap<HostName, Carried>,
    mesh: bool,
    style: Style,
) -> String {
    let mark = |passed: &Passed| match passed {
        Passed::Yes { .. } => style.good("✓"),
        Passed::No { .. } => style.bad("✗"),
        Passed::Open => style.dim("·"),
    };
    let shown = |stage: &Stage| mesh || *stage != Stage::Mesh;
    let titles = Stage::ALL.into_iter().filter(shown).map(Stage::title);
    let header: Vec<&str> = std::iter::once("host").chain(titles).collect();
    let rows = all.iter().map(|one| {
        std::iter::once(one.host.to_string())
            .chain(one.stages.iter().filter(|(at, _)| shown(at)).map(|(_, passed)| mark(passed)))
            .collect()
    });
    let mut out = table(&header, rows);
    for one in all {
        let Some((stage, seen, fix)) = one.stopped() else { continue };
        out.push_str(&format!(
            "\n{} {}: {}, {seen}\n  fix   {fix}\n",
            style.bad("✗"),
            style.bold(one.host.as_str()),
            stage.title()
        ));
        // What only the host itself can see, where it told of it.
        let report = carried.get(&one.host).and_then(|carried| carried.report.as_ref());
        for stage in report.map(|report| &report.body.stages).into_iter().flatten() {
            let sign = sign(stage, style);
            out.push_str(&format!("  {sign} by its report, {}: {}\n", stage.stage, stage.seen));
        }
    }
    let ready = all.iter().filter(|one| one.is_ready()).count();
    let (sign, rest) = match all.len() - ready {
        0 => (style.good("✓"), String::new()),
        n => (style.bad("✗"), format!(", {n} not")),
    };
    out.push_str(&format!("\n{sign} {} Ready{rest}\n", count(ready, "node")));
    out
}
