use std::process::ExitCode;

use clap::{Args, ValueEnum};
use serde_json::json;
use zoisite_core::cluster::{Fewest, RangeUse, Topology, address_plan, losses, sizes};

use crate::failure::Failure;
use crate::options::Options;
use crate::site::Site;
use crate::view::{self, Style};

/// Show losses that the cluster survives, its address plan, and the minimum size of each machine
///
/// Everything is computed from the cluster file; no host is contacted.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite design\n  zoisite design losses --survive 2\n  zoisite design addresses\n  zoisite design sizes --json"
)]
pub struct DesignArgs {
    /// Only these
    #[arg(value_enum, value_name = "WHAT")]
    what: Vec<DesignPart>,
    /// Show what it takes to survive this many losses
    #[arg(long, value_name = "HOSTS", value_parser = clap::value_parser!(u8).range(1..=3))]
    survive: Option<u8>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum DesignPart {
    /// What is left when a host, a pair of hosts, a rack or a site is lost
    Losses,
    /// Which address ranges are used for what, and how full they are
    Addresses,
    /// Minimum cores, memory and disk of each host
    Sizes,
}

pub fn run(options: &Options, args: &DesignArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let cluster = &site.cluster;
    let wanted = |what: DesignPart| args.what.is_empty() || args.what.contains(&what);
    let topology = Topology::of(cluster);
    let survive = args.survive.map_or(topology.tolerance.whole + 1, usize::from);
    if options.json {
        let plan = address_plan(cluster);
        let ranges = plan.iter().map(|planned| {
            let (prefix, fit, used) = match planned.what {
                RangeUse::Pods { prefix, fit, used } => (Some(prefix), fit, Some(used)),
                _ => (None, None, None),
            };
            json!({"use": view::design::what(&planned.what), "range": planned.range,
                   "subnet": prefix, "fit": fit, "used": used})
        });
        let mut all = serde_json::Map::new();
        if wanted(DesignPart::Losses) {
            let fewest = Fewest::for_losses(survive);
            all.insert("losses".into(), json!(losses(cluster)));
            let change = topology.to_survive(cluster, survive);
            all.insert(
                "survive".into(),
                json!({"hosts": survive, "fewest": fewest, "change": change}),
            );
        }
        if wanted(DesignPart::Addresses) {
            all.insert("addresses".into(), ranges.collect());
        }
        if wanted(DesignPart::Sizes) {
            all.insert("sizes".into(), json!(sizes(cluster)));
        }
        view::json(&all);
        return Ok(ExitCode::SUCCESS);
    }
    let style = Style::stdout();
    let mut parts = Vec::new();
    if wanted(DesignPart::Losses) {
        parts.push(view::design::losses(cluster, &topology, survive, style));
    }
    if wanted(DesignPart::Addresses) {
        parts.push(view::design::addresses(cluster, style));
    }
    if wanted(DesignPart::Sizes) {
        parts.push(view::design::sizes(cluster, style));
    }
    view::out(parts.join("\n").trim_end());
    Ok(ExitCode::SUCCESS)
}
