//! Unnamed machines: machines that the cluster file knows by a card alone, until a person gives them a name.

use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::holdings::REPORTS;
use zoisite_core::token::{TokenRecord, token_path};
use zoisite_reach::ApiClient;
use zoisite_store::first_boot::host_keys;
use zoisite_store::join_files::carried;
use zoisite_store::{State, unnamed};

use super::write::know;
use crate::commands::login::chosen_hosts;
use crate::commands::raise::recorded;
use crate::commands::{block_on, with_api};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::unnamed::{Unnamed, offer, render};
use crate::view::{self, Style, few};

/// Give machines the names that the cluster file has for their network cards
#[derive(Args, Debug)]
pub struct NameArgs {
    /// Hosts of the cluster file, with '*' for any text [default: all that were unnamed]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
}

/// Forget machines that the cluster file no longer lists: SSH keys, passphrases, report tokens
#[derive(Args, Debug)]
pub struct ForgetArgs {
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

pub fn show(options: &Options) -> Result<ExitCode, Failure> {
    let site = &Site::load(options)?;
    let (mut surveyed, mut files, mut named) = (BTreeMap::new(), BTreeMap::new(), Vec::new());
    let mut left_out = BTreeSet::new();
    if let Some(state) = site.existing_state()? {
        surveyed = state.surveyed()?;
        files = carried(&state)?;
        named = to_be_named(&state, &site.cluster.hosts.iter().collect::<Vec<_>>())?;
        left_out = unnamed::left_out(&state, &site.cluster)?;
    }
    let known = site.cluster.unnamed().into_iter().filter_map(|host| {
        Some(Unnamed {
            mac: host.mac?.to_string(),
            seeded: files.get(&host.name).map(|file| file.made),
            reported: surveyed.remove(&host.name),
            name: host.name,
        })
    });
    let known: Vec<Unnamed> = known.collect();
    if options.json {
        let all: Vec<_> = known
            .iter()
            .map(|one| {
                let report = one.reported.as_ref();
                json!({"name": one.name, "mac": one.mac, "seeded": one.seeded,
                       "reported": report.map(|(at, _)| at), "facts": report.map(|(_, facts)| facts),
                       "offer": offer(one)})
            })
            .collect();
        let named: Vec<&HostName> = named.iter().map(|(_, host)| host).collect();
        view::json(&json!({"unnamed": all, "to_be_named": named, "left_out": left_out}));
        return Ok(ExitCode::SUCCESS);
    }
    if known.is_empty() {
        view::out("The cluster file names no unnamed machines that are not among its hosts.");
    } else {
        view::out(render(&known, Style::stdout()).trim_end());
    }
    for (_, host) in named {
        view::note(&format!("{host} was an unnamed machine: zoisite first-boot name {host}"));
    }
    if !left_out.is_empty() {
        let names: Vec<HostName> = left_out.into_iter().collect();
        let names = few(&names);
        view::note(&format!(
            "the file names {names} no more, of whom secrets are kept: zoisite first-boot forget"
        ));
    }
    Ok(ExitCode::SUCCESS)
}

/// Hosts of which something is known by their card alone: what they were called, and what they are called by now.
fn to_be_named(state: &State, hosts: &[&Host]) -> Result<Vec<(HostName, HostName)>, Failure> {
    let mut out = Vec::new();
    for host in hosts {
        let Some(unnamed) = host.unnamed_name() else { continue };
        if unnamed::is_known(state, &unnamed)? {
            out.push((unnamed, host.name.clone()));
        }
    }
    Ok(out)
}

pub fn name(options: &Options, args: &NameArgs) -> Result<ExitCode, Failure> {
    let site = &Site::load(options)?;
    let hosts = chosen_hosts(site, &args.hosts)?;
    let mut work = site.briefly()?;
    let state = &mut work.state;
    let all = to_be_named(state, &hosts)?;
    if all.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            match args.hosts.is_empty() {
                true => "no host of the cluster file was an unnamed machine".to_owned(),
                false => format!("nothing is known by its card of {}", args.hosts.join(", ")),
            },
            "add the machine under [hosts]: tern-4 = { address = \"…\", mac = \"…\" }; zoisite first-boot unnamed shows both",
        ));
    }
    site.recipients(state)?;
    let strongbox = site.strongbox()?;
    let names: Vec<HostName> = all.iter().map(|(_, host)| host.clone()).collect();
    let mut spent = Vec::new();
    recorded(state, &format!("first-boot name {}", few(&names)), |state, _| {
        spent = unnamed::name(state, strongbox, &all, now())?;
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
            names.iter().partition(|host| site.cluster.is_offline(host));
        if let Some(host) = dialled.first() {
            view::out(&format!(
                "zoisite first-boot apply {host} tells it so, and starts it again."
            ));
        }
        if let Some(host) = away.first() {
            view::out(&format!("zoisite join-file write {host} --out DIR, as for others."));
        }
    }
    uninstall(site, state, &spent, all.iter().map(|(unnamed, _)| unnamed))
}

/// Forgets those that the file names no more.
pub fn forget(options: &Options, args: &ForgetArgs) -> Result<ExitCode, Failure> {
    let site = &Site::load(options)?;
    let mut work = site.briefly()?;
    let state = &mut work.state;
    let left_out = unnamed::left_out(state, &site.cluster)?;
    let names: Vec<HostName> = left_out.iter().cloned().collect();
    if names.is_empty() {
        match options.json {
            true => view::json(&json!({"forgotten": names})),
            false => {
                view::out("The cluster file names every unnamed machine of whom anything is kept.");
            }
        }
        return Ok(ExitCode::SUCCESS);
    }
    if !args.yes && !view::asked(&format!("Forget {}?", few(&names))) {
        return Err(Failure::not_confirmed("forgotten"));
    }
    let mut spent = Vec::new();
    recorded(state, &format!("first-boot forget {}", few(&names)), |state, _| {
        spent = unnamed::forget(state, &left_out, now())?;
        Ok(format!("forgot {}", view::count(names.len(), "machine")))
    })?;
    match options.json {
        true => view::json(&json!({"forgotten": names})),
        false => view::out(&format!(
            "{}: forgotten. What they write from now on is not read.",
            few(&names)
        )),
    }
    uninstall(site, state, &spent, left_out.iter())
}

/// Takes the tokens back by which they reported in, and what they left with the cluster.
fn uninstall<'a>(
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
        for unnamed in all {
            api.delete(&format!("/api/v1/namespaces/{REPORTS}/configmaps/{unnamed}")).await?;
        }
        Ok(())
    })?;
    Ok(ExitCode::SUCCESS)
}
