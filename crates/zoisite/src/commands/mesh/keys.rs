//! Another key for the mesh, on one host after another.

use std::collections::BTreeMap;
use std::process::ExitCode;
use std::time::Duration;

use zoisite_core::cluster::HostName;
use zoisite_reach::Reach as _;
use zoisite_store::State;

use crate::commands::block_on;
use crate::commands::login::chosen_to_dial;
use crate::commands::raise::{RaiseArgs, carry_through, recorded};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::Site;
use crate::view::{self, Style, count, looking::Doing, names};
use crate::well::until_well;

/// For so long is waited until all is well after one host, before the next.
const TIMEOUT: Duration = Duration::from_secs(300);

/// Has these hosts make another key, and tells the others of each before the next goes.
pub fn renew(
    site: &Site,
    options: &Options,
    hosts: &[String],
    carry: bool,
) -> Result<ExitCode, Failure> {
    let chosen = chosen_to_dial(site, hosts)?;
    if !carry {
        would_not_be_told(site)?;
    }
    site.raised_state()?;
    site.sums()?;
    let mut work = site.working()?;
    // One host at a time is not met by the others for a moment: all is well before (rule S2).
    let wait = |timeout: Duration, state: &mut State| {
        let doing = Doing::begin();
        let tell = |what: String| doing.says(&what);
        let well = block_on(until_well(site, state, (0, timeout), &tell));
        doing.end();
        well?
    };
    let mut timeout = Duration::ZERO;
    for host in &chosen {
        wait(timeout, &mut work.state)?;
        recorded(&mut work.state, &format!("mesh renew {host}"), |_, run| {
            block_on(make_another(site, host, run.generation))??;
            Ok(format!("{host} has another key"))
        })?;
        view::note(&format!("{host} has another key: bringing it to the others"));
        let told = format!("mesh renew {host}: the others");
        carry_through(site, options, &RaiseArgs::of_the_mesh(), &mut work, &told)?;
        timeout = TIMEOUT;
    }
    wait(timeout, &mut work.state)?;
    if !options.json {
        let (sign, hosts) = (Style::stdout().good("✓"), count(chosen.len(), "host"));
        view::out(&format!("{sign} another key on {hosts}, and all is well"));
    }
    Ok(ExitCode::SUCCESS)
}

/// Offline hosts know the old key.
fn would_not_be_told(site: &Site) -> Result<(), Failure> {
    let away: Vec<&str> = site.cluster.offline().map(|host| host.name.as_str()).collect();
    if away.is_empty() {
        return Ok(());
    }
    let away = names(&away);
    Err(Failure::new(
        Kind::Usage,
        format!("{away}: offline, and does not know another key until it gets a join file"),
        "--carry does it all the same: then carry each a join file (zoisite join-file write)",
    ))
}

async fn make_another(site: &Site, host: &HostName, generation: u64) -> Result<(), Failure> {
    let reach = road::hosts(site, &BTreeMap::new(), generation)?;
    let made = reach.renew_mesh_key(host).await;
    reach.close().await;
    made.map_err(|trouble| Failure::troubles([&trouble]))
}
