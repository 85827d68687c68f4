//! Newcomers: machines that the cluster file knows by a card alone, until a person gives them a name.

use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::holdings::LETTERS;
use zoisite_core::token::{TokenRecord, token_path};
use zoisite_reach::ApiClient;
use zoisite_store::first_boot::host_keys;
use zoisite_store::join_files::carried;
use zoisite_store::{State, newcomers};

use super::login::chosen_hosts;
use super::raise::recorded;
use super::seeding::know;
use super::{block_on, with_api};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::newcomers::{Newcomer, offer, render};
use crate::view::{self, Style, few};

/// Show machines that have no name yet: which have reported in, and what they are like
///
/// The cluster file names them by a card, under first-boot.newcomers; first-boot write --newcomers makes what they are told.
/// One that has booted with that reports in by a letter. Add it under [hosts] with its mac and a name of your own, then give
/// it that name.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite first-boot write --newcomers --as image --out seeds\n  zoisite letters fetch            # or: letters read FILE\n  zoisite newcomers\n  zoisite newcomers name tern-4    # as the file calls it by now\n  zoisite first-boot apply tern-4  # tells it so"
)]
pub struct NewcomersArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Give machines the names that the cluster file has for their cards: what is known of them goes by those from then on
    Name {
        /// Hosts of the cluster file, with '*' for any text [default: all that were newcomers]
        #[arg(value_name = "HOST")]
        hosts: Vec<String>,
    },
    /// Forget machines that the cluster file names no more: their SSH keys, their words, and the tokens by which they report in
    Forget {
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

pub fn run(options: &Options, args: &NewcomersArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.what {
        Some(What::Name { hosts }) => name(&site, options, hosts),
        Some(What::Forget { yes }) => forget(&site, options, *yes),
        None => show(&site, options),
    }
}

fn show(site: &Site, options: &Options) -> Result<ExitCode, Failure> {
    let (mut surveyed, mut files, mut named) = (BTreeMap::new(), BTreeMap::new(), Vec::new());
    let mut left_out = BTreeSet::new();
    if let Some(state) = site.existing_state()? {
        surveyed = state.surveyed()?;
        files = carried(&state)?;
        named = to_be_named(&state, &site.cluster.hosts.iter().collect::<Vec<_>>())?;
        left_out = newcomers::left_out(&state, &site.cluster)?;
    }
    let known = site.cluster.newcomers().into_iter().filter_map(|host| {
        Some(Newcomer {
            mac: host.mac?.to_string(),
            told: files.get(&host.name).map(|file| file.made),
            heard: surveyed.remove(&host.name),
            name: host.name,
        })
    });
    let known: Vec<Newcomer> = known.collect();
    if options.json {
        let all: Vec<_> = known
            .iter()
            .map(|one| {
                let heard = one.heard.as_ref();
                json!({"name": one.name, "mac": one.mac, "told": one.told,
                       "heard": heard.map(|(at, _)| at), "facts": heard.map(|(_, facts)| facts),
                       "offer": offer(one)})
            })
            .collect();
        let named: Vec<&HostName> = named.iter().map(|(_, host)| host).collect();
        view::json(&json!({"newcomers": all, "to_be_named": named, "left_out": left_out}));
        return Ok(ExitCode::SUCCESS);
    }
    if known.is_empty() {
        view::out("The cluster file names no newcomers that are not among its hosts.");
    } else {
        view::out(render(&known, Style::stdout()).trim_end());
    }
    for (_, host) in named {
        view::note(&format!("{host} was a newcomer: zoisite newcomers name {host}"));
    }
    if !left_out.is_empty() {
        let names: Vec<HostName> = left_out.into_iter().collect();
        let names = few(&names);
        view::note(&format!(
            "the file names {names} no more, of whom secrets are kept: zoisite newcomers forget"
        ));
    }
    Ok(ExitCode::SUCCESS)
}

/// Hosts of which something is known by their card alone: what they were called, and what they are called by now.
fn to_be_named(state: &State, hosts: &[&Host]) -> Result<Vec<(HostName, HostName)>, Failure> {
    let mut out = Vec::new();
    for host in hosts {
        let Some(newcomer) = host.newcomer_name() else { continue };
        if newcomers::is_known(state, &newcomer)? {
            out.push((newcomer, host.name.clone()));
        }
    }
    Ok(out)
}

fn name(site: &Site, options: &Options, words: &[String]) -> Result<ExitCode, Failure> {
    let hosts = chosen_hosts(site, words)?;
    let mut work = site.briefly()?;
    let state = &mut work.state;
    let all = to_be_named(state, &hosts)?;
    if all.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            match words.is_empty() {
                true => "no host of the cluster file was a newcomer".to_owned(),
                false => format!("nothing is known by its card of {}", words.join(", ")),
            },
            "add the machine under [hosts]: tern-4 = { address = \"…\", mac = \"…\" }; zoisite newcomers shows both",
        ));
    }
    site.recipients(state)?;
    let strongbox = site.strongbox()?;
    let names: Vec<HostName> = all.iter().map(|(_, host)| host.clone()).collect();
    let mut spent = Vec::new();
    recorded(state, &format!("newcomers name {}", few(&names)), |state, _| {
        spent = newcomers::name(state, strongbox, &all, now())?;
        Ok(format!("named {}", view::count(all.len(), "machine")))
    })?;
    let made = host_keys(state, strongbox, &names)?;
    block_on(know(site, &made))??;
    if options.json {
        let all: Vec<_> = all.iter().map(|(was, host)| json!({"host": host, "was": was})).collect();
        view::json(&json!({"named": all}));
    } else {
        view::out(&format!("{}: known by name from now on.", few(&names)));
        let (away, dialled): (Vec<&HostName>, Vec<&HostName>) =
            names.iter().partition(|host| site.cluster.is_out_of_reach(host));
        if let Some(host) = dialled.first() {
            view::out(&format!("zoisite first-boot apply {host} tells it so, and starts it anew."));
        }
        if let Some(host) = away.first() {
            view::out(&format!("zoisite join-file write {host} --out DIR, as for others."));
        }
    }
    take_back(site, state, &spent, all.iter().map(|(newcomer, _)| newcomer))
}

/// Forgets those that the file names no more.
fn forget(site: &Site, options: &Options, yes: bool) -> Result<ExitCode, Failure> {
    let mut work = site.briefly()?;
    let state = &mut work.state;
    let left_out = newcomers::left_out(state, &site.cluster)?;
    let names: Vec<HostName> = left_out.iter().cloned().collect();
    if names.is_empty() {
        match options.json {
            true => view::json(&json!({"forgotten": names})),
            false => view::out("The cluster file names every newcomer of whom anything is kept."),
        }
        return Ok(ExitCode::SUCCESS);
    }
    if !yes && !view::asked(&format!("Forget {}?", few(&names))) {
        return Err(Failure::nobody_agreed("forgotten"));
    }
    let mut spent = Vec::new();
    recorded(state, &format!("newcomers forget {}", few(&names)), |state, _| {
        spent = newcomers::forget(state, &left_out, now())?;
        Ok(format!("forgot {}", view::count(names.len(), "machine")))
    })?;
    match options.json {
        true => view::json(&json!({"forgotten": names})),
        false => view::out(&format!(
            "{}: forgotten. What they write from now on is read by nobody.",
            few(&names)
        )),
    }
    take_back(site, state, &spent, left_out.iter())
}

/// Takes the tokens back by which they reported in, and what they left with the cluster.
fn take_back<'a>(
    site: &Site,
    state: &mut State,
    spent: &[TokenRecord],
    all: impl Iterator<Item = &'a HostName>,
) -> Result<ExitCode, Failure> {
    if spent.is_empty() {
        return Ok(ExitCode::SUCCESS);
    }
    with_api(site, state, async |api: &ApiClient| {
        for token in spent {
            api.delete(&token_path(&token.id)).await?;
        }
        for newcomer in all {
            api.delete(&format!("/api/v1/namespaces/{LETTERS}/configmaps/{newcomer}")).await?;
        }
        Ok(())
    })?;
    Ok(ExitCode::SUCCESS)
}
