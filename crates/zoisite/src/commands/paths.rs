use std::collections::BTreeSet;
use std::process::ExitCode;

use clap::{Args, Subcommand, ValueEnum};
use ipnet::IpNet;
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::paths::{
    Firewall, Link, Outcome, blocked, demands, links, outside, rules, sample, untried,
};
use zoisite_core::survey::unneeded;
use zoisite_reach::Reach as _;

use super::login::{chosen, chosen_to_dial};
use crate::failure::{Failure, Kind};
use crate::interrupt::Interrupts;
use crate::options::Options;
use crate::road;
use crate::site::{Site, now};
use crate::view::{self, Style};

/// Show which ports must be open between hosts, try them, and print firewall rules
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite paths                        # who must reach whom\n  zoisite paths try                    # whether they do\n  zoisite paths rules heron            # what heron's firewall must let in\n  zoisite paths outside                # what routers in front must let through"
)]
pub struct PathsArgs {
    #[command(subcommand)]
    what: Option<PathsCommand>,
}

#[derive(Debug, Subcommand)]
enum PathsCommand {
    Try(TryArgs),
    Rules(RulesArgs),
    /// Show what firewalls and routers between networks must let through
    Outside,
}

/// Try every path between the real hosts: open, refused, silent, or answered by another program
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite paths try\n  zoisite paths try heron 'tern-*'     # paths from and to these\n  zoisite paths try --json"
)]
struct TryArgs {
    /// Hosts, with '*' for any text: paths from and to them [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// List every path
    #[arg(long)]
    all: bool,
}

/// Print the rules for a host's own firewall
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite paths rules heron\n  zoisite paths rules heron --format ufw --administrators 10.77.0.0/24\n  zoisite paths rules 'tern-*'         # one after the other"
)]
struct RulesArgs {
    /// Hosts, with '*' for any text
    #[arg(value_name = "HOST", required = true)]
    hosts: Vec<String>,
    /// Output format [default: that of the firewall that the last survey found]
    #[arg(long, value_enum, value_name = "FIREWALL")]
    format: Option<Words>,
    /// From where administrators log in; may be repeated [default: the cluster file's, else everywhere]
    #[arg(long, value_name = "RANGE", value_parser = range)]
    administrators: Vec<IpNet>,
    /// From where people and programs use the cluster; may be repeated [default: the cluster file's, else everywhere]
    #[arg(long, value_name = "RANGE", value_parser = range)]
    clients: Vec<IpNet>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Words {
    /// For nft
    Nftables,
    /// For firewall-cmd
    Firewalld,
    /// For ufw
    Ufw,
}

impl From<Words> for Firewall {
    fn from(format: Words) -> Self {
        match format {
            Words::Nftables => Self::Nftables,
            Words::Firewalld => Self::Firewalld,
            Words::Ufw => Self::Ufw,
        }
    }
}

/// A range, or one address.
fn range(text: &str) -> Result<IpNet, String> {
    let address = |_| text.parse::<std::net::IpAddr>().map(IpNet::from);
    text.parse::<IpNet>()
        .or_else(address)
        .map_err(|_| "an address, or a range: 10.77.0.0/24".into())
}

pub fn run(options: &Options, args: &PathsArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.what {
        None => {
            match options.json {
                true => view::json(&json!({"demands": demands(&site.cluster)})),
                false => view::out(view::paths::demanded(&site.cluster).trim_end()),
            }
            Ok(ExitCode::SUCCESS)
        }
        Some(PathsCommand::Try(args)) => try_them(&site, options, args),
        Some(PathsCommand::Rules(args)) => print_rules(&site, options, args),
        Some(PathsCommand::Outside) => {
            let rows = outside(&site.cluster);
            match options.json {
                true => view::json(&json!({"outside": rows})),
                false => view::out(view::paths::outside(&rows).trim_end()),
            }
            Ok(ExitCode::SUCCESS)
        }
    }
}

fn try_them(site: &Site, options: &Options, args: &TryArgs) -> Result<ExitCode, Failure> {
    let cluster = &site.cluster;
    let hosts: BTreeSet<HostName> = chosen_to_dial(site, &args.hosts)?.into_iter().collect();
    let wanted = |link: &Link| {
        let dialled = [&link.from, &link.to].iter().all(|host| !cluster.is_offline(host));
        let named = hosts.contains(&link.from) || hosts.contains(&link.to);
        dialled && (args.hosts.is_empty() || named)
    };
    let all: Vec<Link> = links(cluster).into_iter().filter(wanted).collect();
    let (links, sampling) = match args.all {
        true => {
            let sampling = zoisite_core::paths::Sampling {
                all: all.len(),
                tried: all.len(),
                stand_in: Vec::new(),
            };
            (all, sampling)
        }
        false => sample(cluster, all),
    };
    let reach = road::hosts_without_prompts(site, site.sudo_password()?)?;
    // Two trials at once are told apart by it; it is no secret.
    let word = format!("{:x}-{}", now().as_microsecond(), std::process::id());
    let progress = view::looking::Doing::begin();
    let trials = super::block_on(async {
        let interrupts = Interrupts::listen();
        let say = |text: &str| progress.says(text);
        let trials = tokio::select! {
            trials = reach.try_paths((&links, cluster.load_balancers.vrrp), &word, &say) => Some(trials),
            () = interrupts.asked(1) => None,
        };
        if trials.is_none() {
            progress.says("hosts close their ports again");
            reach.end_paths(&links).await;
        }
        reach.close().await;
        trials
    })?;
    progress.end();
    let Some(trials) = trials else {
        return Err(Failure::new(
            Kind::Run,
            "stopped as you asked: nothing stays on hosts",
            "run the same command again",
        ));
    };
    let blocked = blocked(&trials);
    if options.json {
        view::json(&json!({"trials": trials, "blocked": blocked, "untried": untried(&trials),
            "sampling": sampling}));
    } else if trials.is_empty() {
        view::out("There is no path to try: none of these hosts needs another one.");
    } else {
        let text = view::paths::tried(cluster, &trials, &blocked, &sampling, Style::stdout());
        view::out(text.trim_end());
    }
    match trials.iter().all(|trial| trial.outcome == Outcome::Open) {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::reported(Kind::Findings)),
    }
}

fn print_rules(site: &Site, options: &Options, args: &RulesArgs) -> Result<ExitCode, Failure> {
    let surveyed = match site.existing_state()? {
        Some(state) => state.surveyed()?,
        None => Default::default(),
    };
    // What is typed goes before what the cluster file says.
    let own = &site.cluster.preparation;
    let or = |typed: &'_ [IpNet], file: &[IpNet]| match typed.is_empty() {
        true => file.to_vec(),
        false => typed.to_vec(),
    };
    let administrators = or(&args.administrators, &own.administrators);
    let clients = or(&args.clients, &own.clients);
    let ends = (&administrators[..], &clients[..]);
    let mut texts = serde_json::Map::new();
    for name in chosen(site, &args.hosts)? {
        let Some(host) = site.cluster.host(&name) else { continue };
        if !host.is_linux() {
            view::note(&format!(
                "{name} runs Windows: its join file sets the rules of its firewall"
            ));
            continue;
        }
        let known = surveyed.get(&name).map(|(_, facts)| facts);
        let units = known.map_or(&[][..], |facts| facts.firewall.as_slice());
        let firewall = args.format.map_or_else(|| Firewall::of(units), Firewall::from);
        let text = rules(&site.cluster, host, firewall, ends);
        if options.json {
            texts.insert(name.to_string(), json!({"format": firewall, "text": text}));
            continue;
        }
        view::verbatim(&text);
        if administrators.is_empty() {
            view::note(&format!(
                "{name}: SSH is open to everybody: --administrators RANGE narrows it"
            ));
        }
        for socket in known.map(|facts| unneeded(&site.cluster, host, facts)).unwrap_or_default() {
            let program = if socket.program.is_empty() { "something" } else { &socket.program };
            view::note(&format!(
                "{name}: {program} listens at {} {}, and nothing of the cluster needs that",
                socket.protocol, socket.port
            ));
        }
    }
    if options.json {
        view::json(&texts);
    }
    Ok(ExitCode::SUCCESS)
}
