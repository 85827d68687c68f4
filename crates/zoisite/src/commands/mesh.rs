mod keys;

use std::collections::BTreeMap;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::HostFacts;
use zoisite_core::mesh::{Peer, Peers, stranger};
use zoisite_reach::{Hosts, Reach as _};

use super::block_on;
use super::login::chosen_to_dial;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::Site;
use crate::view::looking::of_each;
use crate::view::{self, Style, bytes, count, table::table};

/// So many hosts are asked at once.
const AT_ONCE: usize = 64;
/// So many pairs that meet are listed without being asked for.
const LISTED: usize = 45;

/// Show how hosts of the mesh reach each other, and why some do not
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite mesh\n  zoisite mesh --all          # every pair, however many there are\n  zoisite mesh renew          # another key for every host, one at a time\n  zoisite mesh renew egret"
)]
pub struct MeshArgs {
    #[command(subcommand)]
    what: Option<MeshCommand>,
    /// List every pair, also connected ones
    #[arg(long)]
    all: bool,
}

#[derive(Debug, Subcommand)]
enum MeshCommand {
    /// Make new keys for hosts, one host at a time
    Renew {
        /// Hosts [default: all that are not offline]
        #[arg(value_name = "HOST")]
        hosts: Vec<String>,
        /// Also where offline hosts lose the connection until they get a new join file
        #[arg(long)]
        carry: bool,
    },
}

/// Two hosts, and what each sees of the other.
struct Pair<'a> {
    one: &'a HostName,
    other: &'a HostName,
    there: Option<&'a Peer>,
    back: Option<&'a Peer>,
    /// Why they do not meet, and what to do.
    fault: Option<(String, String)>,
}

pub fn run(options: &Options, args: &MeshArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let Some(mesh) = &site.cluster.mesh else {
        return Err(Failure::new(
            Kind::Usage,
            "this cluster has no mesh",
            "[mesh] in the cluster file makes one: docs/mesh.md",
        ));
    };
    if let Some(MeshCommand::Renew { hosts, carry }) = &args.what {
        return keys::renew(&site, options, hosts, *carry);
    }
    let facts = site.raised_state()?.facts()?;
    let hosts: Vec<HostName> = site.cluster.hosts.iter().map(|host| host.name.clone()).collect();
    let asked = chosen_to_dial(&site, &[])?;
    let (seen, troubles) = block_on(look(&site, &asked, &hosts))??;
    let pairs = pairs(&site, &hosts, &facts, &seen);
    let meet = pairs.iter().filter(|pair| pair.fault.is_none()).count();
    let ok = meet == pairs.len() && troubles.is_empty();
    if options.json {
        let pairs: Vec<_> = pairs.iter().map(told).collect();
        view::json(&json!({"ok": ok, "pairs": pairs, "troubles": troubles}));
    } else {
        let ranges: Vec<String> = mesh.ranges.iter().map(ToString::to_string).collect();
        let head =
            format!("{} · mesh {}, UDP port {}", site.cluster.name, ranges.join(", "), mesh.port);
        view::out(render(&head, &pairs, args.all, Style::stdout()).trim_end());
        for trouble in &troubles {
            view::note(&trouble.to_string());
        }
    }
    Ok(if ok { ExitCode::SUCCESS } else { ExitCode::from(3) })
}

/// What each host sees, and who could not be asked.
async fn look(
    site: &Site,
    asked: &[HostName],
    hosts: &[HostName],
) -> Result<(BTreeMap<HostName, Peers>, Vec<Trouble>), Failure> {
    let reach: Hosts = road::hosts(site, &BTreeMap::new(), 0)?;
    let mut seen = BTreeMap::new();
    let mut troubles = Vec::new();
    let ask = async |host: &HostName| {
        let met = hosts.iter().filter(|other| site.cluster.meet_in_mesh(host, other));
        reach.peers(host, &met.cloned().collect::<Vec<_>>()).await
    };
    for (host, told) in of_each(asked, AT_ONCE, ask).await {
        match told {
            Ok(peers) => {
                seen.insert(host, peers);
            }
            Err(trouble) => troubles.push(trouble),
        }
    }
    reach.close().await;
    Ok((seen, troubles))
}

/// Every pair of hosts that meets in the mesh and of which one could be asked.
fn pairs<'a>(
    site: &Site,
    hosts: &'a [HostName],
    facts: &BTreeMap<HostName, HostFacts>,
    seen: &'a BTreeMap<HostName, Peers>,
) -> Vec<Pair<'a>> {
    let of = |host: &HostName, other: &HostName| seen.get(host)?.as_ref().ok()?.peers.get(other);
    let mut out = Vec::new();
    for (at, one) in hosts.iter().enumerate() {
        for other in &hosts[at + 1..] {
            let (sees, seen) = (seen.get(one), seen.get(other));
            let unasked = sees.is_none() && seen.is_none();
            if unasked || !site.cluster.meet_in_mesh(one, other) {
                continue;
            }
            let fault = stranger((&site.cluster, facts), (one, sees), (other, seen));
            let (there, back) = (of(one, other), of(other, one));
            out.push(Pair { one, other, there, back, fault });
        }
    }
    out
}

fn told(pair: &Pair<'_>) -> serde_json::Value {
    let fault = pair.fault.as_ref().map(|(what, fix)| json!({"what": what, "fix": fix}));
    json!({"hosts": [pair.one, pair.other], "meet": pair.fault.is_none(),
           "there": pair.there, "back": pair.back, "fault": fault})
}

fn render(head: &str, pairs: &[Pair<'_>], all: bool, style: Style) -> String {
    let meet = pairs.iter().filter(|pair| pair.fault.is_none()).count();
    let sign = if meet == pairs.len() { style.good("✓") } else { style.bad("✗") };
    let mut out =
        format!("{} · {sign} {meet} of {} meet\n", style.bold(head), count(pairs.len(), "pair"));
    if all || pairs.len() <= LISTED {
        let header =
            ["pair", "", "by", "and back by", "agreed", "round trip", "lost", "there", "back"];
        out.push('\n');
        out.push_str(&table(&header, pairs.iter().map(|pair| row(pair, style))));
    }
    for pair in pairs {
        let Some((what, fix)) = &pair.fault else { continue };
        out.push_str(&format!(
            "\n{} {}: {what}\n  fix   {fix}\n",
            style.bad("✗"),
            style.bold(&format!("{} and {}", pair.one, pair.other)),
        ));
    }
    out
}

fn row(pair: &Pair<'_>, style: Style) -> Vec<String> {
    let none = || style.dim("-");
    let by = |peer: Option<&Peer>| peer.and_then(|peer| peer.endpoint.clone()).unwrap_or_else(none);
    // Whoever could be asked tells of both.
    let of = |get: &dyn Fn(&Peer) -> Option<String>| {
        pair.there.and_then(get).or_else(|| pair.back.and_then(get)).unwrap_or_else(none)
    };
    let sent = |peer: Option<&Peer>| {
        peer.map_or_else(none, |peer| bytes(i64::try_from(peer.sent).unwrap_or(i64::MAX)))
    };
    let sign = if pair.fault.is_none() { style.good("✓") } else { style.bad("✗") };
    vec![
        format!("{} – {}", pair.one, pair.other),
        sign,
        by(pair.there),
        by(pair.back),
        of(&|peer| Some(format!("{} s ago", peer.handshake?))),
        of(&|peer| Some(format!("{:.1} ms", peer.round_trip? as f64 / 1_000.0))),
        of(&|peer| Some(format!("{} %", peer.lost?))),
        sent(pair.there),
        sent(pair.back),
    ]
}
