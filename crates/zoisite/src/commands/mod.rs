//! One file for each command: its arguments and what it does with them. Subcommands that do much have a file each, in a folder
//! of the command's name.

pub mod access;
pub mod backup;
pub mod check;
pub mod components;
pub mod defragment;
pub mod demo;
pub mod design;
pub mod drill;
pub mod encryption;
mod etcd_client;
pub mod files;
pub mod first_boot;
pub mod history;
pub mod join_file;
pub mod login;
pub mod manual;
pub mod mesh;
pub mod monitoring;
pub mod network_files;
pub mod new;
pub mod paths;
pub mod pki;
pub mod raise;
pub mod rehearse;
pub mod reports;
mod restarting;
pub mod retire;
pub mod sequence;
pub mod snapshot;
mod stage;
pub mod status;
pub mod strongbox;
pub mod survey;
pub mod tokens;
mod trial;
pub mod uninstall;
pub mod verify;

use std::collections::{BTreeMap, BTreeSet};

use clap::{Args, ValueEnum};
use zoisite_core::holdings::Part;
use zoisite_core::pki::{LedgerEntry, Secret, Wanted};
use zoisite_reach::{ApiClient, Reach as _};
use zoisite_store::{FreshKeys, RunRecord, State, trust};

use crate::failure::{Failure, Kind};
use crate::road;
use crate::site::{Site, end_run, now};
use crate::view;

/// Drives a future to its end.
pub fn block_on<T>(future: impl Future<Output = T>) -> Result<T, Failure> {
    block_on_time(Time::Real, future)
}

/// How time passes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Time {
    /// As it does.
    Real,
    /// From one thing that is waited for to the next: no time passes outside.
    Virtual,
}

/// Drives a future to its end, in a time of its own.
pub fn block_on_time<T>(time: Time, future: impl Future<Output = T>) -> Result<T, Failure> {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .start_paused(time == Time::Virtual)
        .build()
        .map(|runtime| runtime.block_on(future))
        .map_err(|error| {
            Failure::new(Kind::Run, format!("starting the runtime: {error}"), "try again")
        })
}

/// Which parts of the cluster a command is about.
#[derive(Args, Debug, Default)]
pub struct PartArgs {
    /// Only this part; may be repeated
    #[arg(long, value_name = "PART", value_enum)]
    part: Vec<PartArg>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum PartArg {
    /// What bare machines need first; goes before every other part
    Preparation,
    /// The encrypted network between hosts, where there is one; goes before all but preparation
    Mesh,
    /// The etcd quorum
    Etcd,
    /// API servers, controller managers, schedulers
    ControlPlane,
    /// The load balancers
    LoadBalancers,
    /// The virtual IP
    Address,
    /// The cluster's own registry, and its images
    Registry,
    /// What gives out metrics to the site's monitoring
    Monitoring,
    /// Nodes, and what runs in the cluster
    Nodes,
}

impl PartArgs {
    /// The mesh, and what it stands on.
    pub fn mesh() -> Self {
        Self { part: vec![PartArg::Mesh] }
    }

    /// The parts asked for; all when none is named.
    pub fn chosen(&self) -> Vec<Part> {
        let named = |part: &PartArg| match part {
            PartArg::Preparation => Part::Preparation,
            PartArg::Mesh => Part::Mesh,
            PartArg::Etcd => Part::Etcd,
            PartArg::ControlPlane => Part::ControlPlane,
            PartArg::LoadBalancers => Part::LoadBalancer,
            PartArg::Address => Part::Address,
            PartArg::Registry => Part::Registry,
            PartArg::Monitoring => Part::Monitoring,
            PartArg::Nodes => Part::Nodes,
        };
        let asked: Vec<Part> = self.part.iter().map(named).collect();
        // Whatever stands on a machine stands on a prepared one, and dials others through the mesh if there is one.
        let below = |part: Part| match part {
            Part::Preparation => true,
            Part::Mesh => asked != [Part::Preparation],
            _ => false,
        };
        let wanted = |part: &&Part| asked.is_empty() || asked.contains(part) || below(**part);
        Part::ALL.iter().filter(wanted).copied().collect()
    }
}

/// Issues a certificate whose key is handed out and not kept, and ends its run in the journal with what became of it.
fn signed(
    site: &Site,
    state: &mut State,
    run: RunRecord,
    wanted: &Wanted,
) -> Result<(LedgerEntry, Secret), Failure> {
    let issued = site.strongbox().and_then(|strongbox| {
        Ok(trust::issue_unkept(state, strongbox, wanted, &FreshKeys, now())?)
    });
    let outcome = match &issued {
        Ok((entry, _)) => format!("until {}", view::minute(entry.not_after)),
        Err(failure) => failure.summary(),
    };
    end_run(state, run, &outcome)?;
    issued
}

/// The names of the nodes that the cluster knows.
async fn node_names(api: &ApiClient) -> zoisite_reach::ApiResult<BTreeSet<String>> {
    let nodes = api.list("/api/v1/nodes").await?;
    let name = |node: &serde_json::Value| node["metadata"]["name"].as_str().map(str::to_owned);
    Ok(nodes.iter().filter_map(name).collect())
}

/// Does something with an API server that is ready. The run's certificate is recorded in `state`.
pub fn with_api(
    site: &Site,
    state: &mut State,
    work: impl AsyncFnOnce(&ApiClient) -> zoisite_reach::ApiResult<()>,
) -> Result<(), Failure> {
    let mut reach = road::hosts(site, &BTreeMap::new(), 0)?;
    let ledger = state.ledger()?;
    reach.set_api_access(road::api_access(site, state, &ledger)?);
    block_on(async {
        let done = match reach.any_api().await {
            Ok(api) => work(&api).await.map_err(|error| {
                Failure::new(
                    Kind::Run,
                    format!("asking the API: {error}"),
                    "zoisite status shows what runs",
                )
            }),
            Err(trouble) => Err(Failure::troubles([&trouble])),
        };
        reach.close().await;
        done
    })?
}
