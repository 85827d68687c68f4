mod setup;

use std::collections::BTreeMap;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::cluster::{Host, HostName, matches};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::login::{Stage, Stopped, WayIn, find_clones, is_changed_key};
use zoisite_reach::{Hosts, Reach as _};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::Site;
use crate::surveying::other_machines;
use crate::view::{self, Style, looking::of_each};

/// Show whether you can log in to every host, and what is in the way
///
/// Checks name, route, port, SSH, host key, login, root, programs, systemd and machine id. Changes nothing and
/// asks nothing. Exits with 3 when a login fails, with 4 when a host has another key, or is another machine, than
/// before.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite login\n  zoisite login heron 'tern-*'\n  zoisite login --ask-sudo       # where sudo asks for a password"
)]
#[command(args_conflicts_with_subcommands = true)]
pub struct LoginArgs {
    #[command(subcommand)]
    what: Option<LoginCommand>,
    /// Hosts, with '*' for any text [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
}

#[derive(Debug, Subcommand)]
enum LoginCommand {
    Setup(setup::SetupArgs),
}

/// Hosts that are looked at at once.
const AT_ONCE: usize = 48;

pub fn run(options: &Options, args: &LoginArgs) -> Result<ExitCode, Failure> {
    if let Some(LoginCommand::Setup(args)) = &args.what {
        return setup::run(options, args);
    }
    let site = Site::load(options)?;
    let hosts = chosen_to_dial(&site, &args.hosts)?;
    let reach = road::hosts_without_prompts(&site, site.sudo_password()?)?;
    let ways = super::block_on(async {
        let ways = ways_in(&site, &reach, &hosts).await;
        reach.close().await;
        ways
    })??;
    tell(options, &ways, &BTreeMap::new());
    judged(&ways)
}

/// The hosts that words name; all where there are none.
pub fn chosen(site: &Site, words: &[String]) -> Result<Vec<HostName>, Failure> {
    let names = site.cluster.hosts.iter().map(|host| &host.name);
    let unknown: Vec<&str> = words
        .iter()
        .filter(|word| !names.clone().any(|name| matches(word, name.as_str())))
        .map(String::as_str)
        .collect();
    if !unknown.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            format!("the cluster file has no host {}", unknown.join(", ")),
            "hosts are named as under [hosts], with '*' for any text",
        ));
    }
    let wanted = |name: &&HostName| {
        words.is_empty() || words.iter().any(|word| matches(word, name.as_str()))
    };
    Ok(names.filter(wanted).cloned().collect())
}

/// The same of those that are dialled: where none is named, the others are left out.
///
/// # Errors
/// Where an offline host is named.
pub fn chosen_to_dial(site: &Site, words: &[String]) -> Result<Vec<HostName>, Failure> {
    let mut hosts = chosen(site, words)?;
    let named = |host: &&HostName| words.iter().any(|word| word == host.as_str());
    let away: Vec<HostName> =
        hosts.iter().filter(|host| site.cluster.is_offline(host)).cloned().collect();
    if let Some(one) = away.iter().find(named) {
        return Err(Failure::new(
            Kind::Usage,
            format!("{one} is offline, by the cluster file: there is no login"),
            format!(
                "zoisite join-file write {one} --inspect --out DIR has it tell what it is like"
            ),
        ));
    }
    hosts.retain(|host| !away.contains(host));
    Ok(hosts)
}

/// Those that are chosen, dialled or not, with all that the file says of them.
pub fn chosen_hosts<'a>(site: &'a Site, words: &[String]) -> Result<Vec<&'a Host>, Failure> {
    Ok(said_of(site, &chosen(site, words)?))
}

/// Those that are chosen to be dialled, with all that the file says of them.
///
/// # Errors
/// As for [`chosen_to_dial`].
pub fn hosts_to_dial<'a>(site: &'a Site, words: &[String]) -> Result<Vec<&'a Host>, Failure> {
    Ok(said_of(site, &chosen_to_dial(site, words)?))
}

fn said_of<'a>(site: &'a Site, names: &[HostName]) -> Vec<&'a Host> {
    site.cluster.hosts.iter().filter(|host| names.contains(&host.name)).collect()
}

/// How far these hosts let one in, in this order; another machine than before is reported too (rule S4).
pub async fn ways_in(
    site: &Site,
    reach: &Hosts,
    hosts: &[HostName],
) -> Result<Vec<WayIn>, Failure> {
    let look = async |host: &HostName| reach.way_in(host).await;
    let ways = of_each(hosts, AT_ONCE, look).await;
    let mut ways: Vec<WayIn> = ways.into_iter().map(|(_, way)| way).collect();
    find_clones(&mut ways);
    let pins = match site.existing_state()? {
        Some(state) => state.pins()?,
        None => BTreeMap::new(),
    };
    let others = {
        let inside = ways.iter().filter(|way| way.stopped.is_none());
        let inside = inside.filter_map(|way| Some((&way.host, way.inside.as_ref()?)));
        let inside = inside.map(|(host, i)| (host, i.machine.as_str(), i.host_keys.as_slice()));
        other_machines(&pins, inside)
    };
    for refusal in others {
        let Some(way) = ways.iter_mut().find(|way| Some(&way.host) == refusal.host.as_ref()) else {
            continue;
        };
        let trouble = Trouble::new(
            refusal.host,
            "telling whether it is the machine of before",
            refusal.found,
            Vec::new(),
        );
        way.stopped = Some(Stopped { stage: Stage::Machine, trouble: trouble.fix(refusal.fix) });
    }
    Ok(ways)
}

/// Shows them; `opened` says what was done about a host.
pub fn tell(options: &Options, ways: &[WayIn], opened: &BTreeMap<HostName, &'static str>) {
    if options.json {
        let hosts: Vec<_> = ways
            .iter()
            .map(|way| {
                json!({"host": way.host, "in": way.stopped.is_none(), "stopped": way.stopped,
                       "inside": way.inside, "did": opened.get(&way.host)})
            })
            .collect();
        view::json(&json!({"hosts": hosts}));
    } else {
        view::out(view::login::render(ways, opened, Style::stdout()).trim_end());
    }
}

/// The exit status that they are worth.
pub fn judged(ways: &[WayIn]) -> Result<ExitCode, Failure> {
    let stopped = || ways.iter().filter_map(|way| way.stopped.as_ref());
    let another = |stopped: &Stopped| {
        is_changed_key(&stopped.trouble.answer)
            || stopped.trouble.answer.starts_with("another machine answers")
    };
    if stopped().any(another) {
        return Err(Failure::reported(Kind::Refused));
    }
    match stopped().next() {
        Some(_) => Err(Failure::reported(Kind::Findings)),
        None => Ok(ExitCode::SUCCESS),
    }
}
