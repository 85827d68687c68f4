use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use clap::Args;
use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use serde_json::json;
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::drill::{
    By, Drill, Kind, Measured, NoDrill, Sight, Stands, Wanted, choose, picture,
};
use zoisite_core::holdings::Part;
use zoisite_core::script::Depth;
use zoisite_core::sequence::Condition;
use zoisite_reach::{Conduct, Field, Ground, Hosts, Reach, RehearsedField, Stage, World, conduct};
use zoisite_store::State;

use super::{Time, block_on, block_on_time};
use crate::failure::{self, Failure};
use crate::interrupt::Interrupts;
use crate::options::Options;
use crate::prepared::Prepared;
use crate::road::{self, Sighting};
use crate::site::{Site, begin_run, end_run, now};
use crate::standing::as_it_stands;
use crate::view::looking::Doing;
use crate::view::{self, Style};

/// Cause a loss on purpose, and measure how long the API is affected
///
/// Without a kind: lists possible drills, and what was measured last. With one: sends reads, writes and
/// connections to the API endpoint several times a second, causes the loss, and waits until everything is as
/// before. A timer on the host ends the loss, also when this program dies. Exits with 1 beyond a limit under
/// [drill], with 4 where a safety rule forbids the drill.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite drill                            # what can be lost here\n  zoisite drill holder --rehearse          # on simulated hosts: what is to be expected\n  zoisite drill holder                     # who holds the virtual IP is cut off for 20 s\n  zoisite drill worker tern-2 --by reboot\n  zoisite drill link egret heron --for 30  # egret gets no packets from heron"
)]
pub struct DrillArgs {
    /// What is lost
    #[arg(value_parser = kinds(), value_name = "KIND")]
    kind: Option<Kind>,
    /// On which host [default: the one concerned, or the first of the file]
    #[arg(value_name = "HOST")]
    host: Option<String>,
    /// For a link: the host whose packets are dropped
    #[arg(value_name = "FROM")]
    from: Option<String>,
    /// How it is lost [default: the first way that zoisite drill lists]
    #[arg(long, value_parser = ways(), value_name = "WAY")]
    by: Option<By>,
    /// Duration of the loss, in seconds [default: 20; a worker 90, a control plane 60]
    #[arg(long = "for", value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(3..=900))]
    seconds: Option<u32>,
    /// How long to wait, afterwards, until everything is as before
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    timeout: u64,
    /// Only on simulated hosts
    #[arg(long)]
    rehearse: bool,
    /// Write the timeline to this file, as SVG
    #[arg(long, value_name = "FILE")]
    svg: Option<PathBuf>,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

/// The kinds by their words.
fn kinds() -> impl TypedValueParser<Value = Kind> {
    let all = Kind::ALL.map(|kind| PossibleValue::new(kind.word()).help(kind.title()));
    let named = |word: String| Kind::ALL.into_iter().find(|kind| kind.word() == word);
    PossibleValuesParser::new(all).try_map(move |word| named(word).ok_or("there is no such drill"))
}

/// The ways by their words.
fn ways() -> impl TypedValueParser<Value = By> {
    let all = By::ALL.map(|by| PossibleValue::new(by.word()).help(by.title()));
    let named = |word: String| By::ALL.into_iter().find(|by| by.word() == word);
    PossibleValuesParser::new(all).try_map(move |word| named(word).ok_or("there is no such way"))
}

pub fn run(options: &Options, args: &DrillArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let Some(kind) = args.kind else { return list(&site, options) };
    let named =
        |name: &Option<String>| name.as_deref().map(|name| site.host_named(name)).transpose();
    let wanted = Wanted {
        kind,
        host: named(&args.host)?,
        from: named(&args.from)?,
        by: args.by,
        seconds: args.seconds,
    };
    if args.rehearse {
        let measured =
            rehearsed(&site, (options, None), |stands| choose(&site.cluster, stands, &wanted))?;
        view::note("this was a rehearsal: no host was touched, and nothing was stored");
        return tell(&site, options, args, (&measured, None, None));
    }
    site.raised_state()?;
    let mut work = site.working()?;
    let run = begin_run(&mut work.state, &format!("drill {}", wanted.kind.word()))?;
    let measured =
        block_on(on_hosts(&site, (options, args), &mut work.state, &wanted, run.generation))?;
    let outcome = match &measured {
        Ok((measured, _)) => format!("{}: {}", measured.drill.title(), gap(measured)),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(&mut work.state, run, &outcome)?;
    let (measured, expected) = measured?;
    let earlier = work.state.drills()?;
    work.state.put_drill(&measured)?;
    let before = measured.before(earlier.values());
    tell(&site, options, args, (&measured, expected.as_ref(), before))
}

fn gap(measured: &Measured) -> String {
    format!("{} without an answer", zoisite_core::drill::duration(measured.longest_gap()))
}

fn list(site: &Site, options: &Options) -> Result<ExitCode, Failure> {
    let last = match site.existing_state()? {
        Some(state) => state.drills()?,
        None => BTreeMap::new(),
    };
    if options.json {
        view::json(&json!({"measured": last}));
    } else {
        let choices = view::drill::choices(&site.cluster, &last, Style::stdout());
        view::out(choices.trim_end());
    }
    Ok(ExitCode::SUCCESS)
}

/// What was measured, what was expected, and what was measured before.
type Three<'a> = (&'a Measured, Option<&'a Measured>, Option<&'a Measured>);

fn tell(
    site: &Site,
    options: &Options,
    args: &DrillArgs,
    (measured, expected, before): Three<'_>,
) -> Result<ExitCode, Failure> {
    let cluster = site.cluster.name.as_str();
    let beyond = measured.beyond(&site.cluster.drill);
    if let Some(path) = &args.svg {
        write_picture(path, &picture(measured, cluster))?;
    }
    if options.json {
        view::json(&json!({
            "ok": beyond.is_empty(), "beyond": beyond, "sums": measured.sums(), "measured": measured,
            "expected": expected.map(Measured::sums), "before": before.map(Measured::sums),
            "before_host": before.map(|before| &before.drill.host),
        }));
    } else {
        let style = Style::stdout();
        let shown = view::drill::render(cluster, measured, (expected, before), style);
        view::out(shown.trim_end());
        let mark = |well: bool| if well { style.good("✓") } else { style.bad("✗") };
        let asked = view::drill::asked(measured);
        view::out(&format!("\n{} {asked}, {}", mark(beyond.is_empty()), gap(measured)));
    }
    if beyond.is_empty() {
        return Ok(ExitCode::SUCCESS);
    }
    Err(Failure::new(
        failure::Kind::Run,
        beyond.join("; "),
        "zoisite status shows what differs; docs/drills.md says what the times come from",
    ))
}

fn write_picture(path: &Path, text: &str) -> Result<(), Failure> {
    std::fs::write(path, text).map_err(|e| Failure::file("writing", path, &e))?;
    view::note(&format!("the time line is in {}", path.display()));
    Ok(())
}

/// Why there is no drill, as a person meets it.
fn refused(no: NoDrill) -> Failure {
    match no {
        NoDrill::Wrong(what, fix) => Failure::new(failure::Kind::Usage, what, fix),
        NoDrill::Refused(refusals) => refusals.into(),
    }
}

/// The drill on simulated hosts on which the cluster was raised.
fn rehearsed(
    site: &Site,
    (options, real): (&Options, Option<&Stands>),
    choose: impl FnOnce(&Stands) -> Result<Drill, NoDrill>,
) -> Result<Measured, Failure> {
    let world = raised_world(site, options)?;
    rehearse_on(site, &world, real, choose)
}

/// The same on a world on which the cluster stands; as things stand on real hosts, or else there.
pub fn rehearse_on(
    site: &Site,
    world: &Arc<Mutex<World>>,
    real: Option<&Stands>,
    choose: impl FnOnce(&Stands) -> Result<Drill, NoDrill>,
) -> Result<Measured, Failure> {
    let stands = real.cloned().unwrap_or_else(|| {
        let world = world.lock().unwrap_or_else(PoisonError::into_inner);
        Stands { holder: world.holds_virtual_ip(), leader: world.leads(), ailing: Vec::new() }
    });
    let drill = choose(&stands).map_err(refused)?;
    let what = planned(site, drill, &stands, Duration::from_secs(900));
    let reach = road::rehearsal(world, site.no_contents(), u64::MAX);
    let (world, about) = (Arc::clone(world), (&what.drill, &stands));
    let field = RehearsedField::new(world, &site.cluster, about, what.from.clone());
    let ground = (&field as &dyn Ground, &reach as &dyn Reach);
    let nobody = std::future::pending();
    let measured = block_on_time(Time::Virtual, conduct(ground, &what, now(), nobody, &|_| {}))?;
    measured.map_err(|trouble| Failure::troubles([&trouble]))
}

/// Simulated hosts on which the cluster of the file stands.
fn raised_world(site: &Site, options: &Options) -> Result<Arc<Mutex<World>>, Failure> {
    let passing = tempfile::tempdir()
        .map_err(|e| Failure::file("making a folder in", &std::env::temp_dir(), &e))?;
    let site = Site::of(site.cluster.clone(), options).on_stage(passing.path());
    let world = World::new(site.cluster.hosts.iter().map(|h| (h.name.clone(), h.address)), now());
    let world = Arc::new(Mutex::new(world));
    super::rehearse::on_world(&site, &world)?;
    Ok(world)
}

/// From where is asked, what is watched, and what must hold at the end.
fn planned(site: &Site, drill: Drill, stands: &Stands, timeout: Duration) -> Conduct {
    let cluster = &site.cluster;
    let concerned = |host: &HostName| *host == drill.host || drill.from.as_ref() == Some(host);
    let node = |host: &&HostName| cluster.is_node(host) && !concerned(host);
    let holds = |host: &&HostName| stands.holder.as_ref() == Some(*host);
    let workers = cluster.workers.hosts.iter();
    let all = workers.chain(cluster.control_plane.hosts.iter());
    let others = || all.clone().filter(node);
    // In a mesh nobody but the host itself asks its load balancer.
    let asks_itself = cluster.carried_by(&drill.host).is_some()
        && drill.kind == Kind::LoadBalancer
        && drill.by == By::Stop;
    let from = match asks_itself {
        true => None,
        false => others().find(|host| !holds(host)).or_else(|| others().next()),
    };
    let from = from.unwrap_or(&drill.host).clone();
    let mut sights = Vec::new();
    if !cluster.virtual_ip_holders().is_empty() {
        sights.push(Sight::Holder);
    }
    sights.push(Sight::Leader);
    let nodes: Vec<HostName> = std::iter::once(&drill.host)
        .chain(&drill.from)
        .filter(|host| cluster.is_node(host))
        .cloned()
        .collect();
    sights.extend(nodes.iter().cloned().map(Sight::Node));
    if drill.kind == Kind::Worker {
        sights.push(Sight::Pods);
    }
    let whole = whole(cluster, &nodes, &from);
    Conduct { drill, from, sights, whole, timeout }
}

/// What holds of a cluster that is as wanted: its quorum, its API servers, the way to them from a host, and these
/// nodes.
fn whole(cluster: &Cluster, nodes: &[HostName], from: &HostName) -> Vec<Condition> {
    let mut all =
        vec![Condition::Quorum { members: cluster.etcd.members.clone(), learners: false }];
    let servers = cluster.control_plane.hosts.iter();
    all.extend(servers.map(|host| Condition::Api { host: host.clone() }));
    let stable =
        |from: &HostName, load_balancer| Condition::Stable { from: from.clone(), load_balancer };
    let load_balancers =
        cluster.load_balancers.hosts.iter().filter(|host| !cluster.is_offline(host));
    all.extend(load_balancers.map(|host| stable(host, true)));
    all.push(stable(from, false));
    all.extend(nodes.iter().map(|host| Condition::Ready { host: host.clone(), machine: None }));
    all
}

async fn on_hosts(
    site: &Site,
    (options, args): (&Options, &DrillArgs),
    state: &mut State,
    wanted: &Wanted,
    generation: u64,
) -> Result<(Measured, Option<Measured>), Failure> {
    let work = async |reach: &mut Hosts,
                      prepared: &mut Prepared,
                      _: &mut State,
                      sighting: &mut Sighting| {
        let stands = as_it_stands(site, state, (reach, prepared, sighting)).await?;
        let stands = Stands {
            holder: stands
                .virtual_ip
                .as_ref()
                .and_then(|virtual_ip| virtual_ip.held_by.first().cloned()),
            leader: stands.quorum.leader.clone(),
            ailing: stands.ailing(&|_| false),
        };
        let drill = choose(&site.cluster, &stands, wanted).map_err(refused)?;
        let expected = expected(site, (options, &stands), &drill);
        let what = planned(site, drill, &stands, Duration::from_secs(args.timeout));
        agreed(args, &what, expected.as_ref())?;
        let probe = super::verify::probe(site, prepared);
        let measured = carry_out(site, reach, &what, probe).await?;
        Ok((measured, expected))
    };
    let (_, _, done) = road::visit(site, (Part::ALL, Depth::Quick, generation), work).await?;
    Ok(done)
}

/// What a rehearsal makes of it, where one can be had: it is told beside what is measured, and nothing depends on it.
fn expected(
    site: &Site,
    (options, stands): (&Options, &Stands),
    drill: &Drill,
) -> Option<Measured> {
    // It has a time of its own, so a thread of its own.
    std::thread::scope(|scope| {
        let rehearse =
            scope.spawn(|| rehearsed(site, (options, Some(stands)), |_| Ok(drill.clone())).ok());
        rehearse.join().ok().flatten()
    })
}

fn agreed(args: &DrillArgs, what: &Conduct, expected: Option<&Measured>) -> Result<(), Failure> {
    let restored = match what.drill.by {
        By::Reboot => "it starts by itself what it ran before",
        By::Stop | By::Cut => "a timer on the host gives it back, whatever becomes of this program",
    };
    let title = what.drill.title();
    view::say(view::drill::intention(&what.from, &title, expected, restored).trim_end());
    if args.yes || view::asked("Lose it?") {
        return Ok(());
    }
    Err(Failure::not_confirmed("lost"))
}

async fn carry_out(
    site: &Site,
    reach: &Hosts,
    what: &Conduct,
    probe: zoisite_reach::Probe,
) -> Result<Measured, Failure> {
    let trouble = |trouble| Failure::troubles([&trouble]);
    let interrupts = Interrupts::listen();
    let doing = Doing::begin();
    doing.says("preparing what is asked");
    let tell = |stage: Stage| match stage {
        Stage::Before => view::say("asking, while all is well"),
        Stage::Lost => view::say(&format!("lost: {}", what.drill.title())),
        Stage::Fixing => view::say("giving it back"),
        Stage::Waiting(for_what) => doing.says(&for_what),
    };
    let interrupt = async {
        interrupts.asked(1).await;
        view::note(
            "stopping: what is lost is given back first; once more stops at once, and the host gives it back by itself",
        );
    };
    let conducting = async {
        let field =
            Field::prepared(reach, &site.cluster, &what.drill, what.from.clone(), probe.clone());
        let field = field.await?;
        let ground = (&field as &dyn Ground, reach as &dyn Reach);
        let measured = conduct(ground, what, now(), interrupt, &tell).await;
        if let Err(why) = field.cleared().await {
            view::note(&format!("{}: {why}; a later verify or drill sweeps it", probe.namespace));
        }
        measured
    };
    let measured = tokio::select! {
        measured = conducting => measured.map_err(trouble),
        () = interrupts.asked(2) => Err(Failure::new(
            failure::Kind::Run,
            "stopped at once, as you asked",
            "the host gives back by itself what is lost; zoisite status shows when all is well",
        )),
    };
    doing.end();
    measured
}
