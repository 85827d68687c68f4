use std::fs;
use std::process::ExitCode;
use std::sync::{Arc, Mutex};

use clap::Args;
use zoisite_core::cluster::{Topology, read};
use zoisite_core::drill::{Kind as Drilled, Stands, Wanted, choose as choose_drill};
use zoisite_core::holdings::Part;
use zoisite_core::pki::{edges, prove};
use zoisite_core::script::Depth;
use zoisite_reach::World;
use zoisite_store::{FreshKeys, trust};

use super::Time;
use super::{pki, raise};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::prepare;
use crate::road;
use crate::site::{Site, now};
use crate::view::{self, Style, count};

const SALTMARSH: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");

/// Try everything on a demo cluster of simulated hosts, offline
///
/// In a temporary folder: checks the cluster file of a bird observatory, issues its certificates, proves its
/// connections, rehearses the raise, shows the status, and rehearses the loss of a host.
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  zoisite demo")]
pub struct DemoArgs {
    /// Folder to work in; it is kept [default: a new temporary folder]
    #[arg(long, value_name = "DIR")]
    folder: Option<std::path::PathBuf>,
}

pub fn run(options: &Options, args: &DemoArgs) -> Result<ExitCode, Failure> {
    let style = Style::stdout();
    let folder = match &args.folder {
        Some(folder) => {
            fs::create_dir_all(folder).map_err(|e| Failure::file("making", folder, &e))?;
            folder.clone()
        }
        None => tempfile::Builder::new()
            .prefix("zoisite-demo-")
            .tempdir()
            .map_err(|e| Failure::file("making a folder in", &std::env::temp_dir(), &e))?
            .keep(),
    };
    let file = folder.join("zoisite.toml");
    fs::write(&file, SALTMARSH).map_err(|e| Failure::file("writing", &file, &e))?;
    let options = Options {
        cluster: file.clone(),
        identity: Some(folder.join("identity.txt")),
        ..options.clone()
    };
    let title = |number: u8, text: &str| {
        view::out(&style.busy(&format!("\n── {number} · {text}\n")));
    };

    title(1, "the cluster file, checked");
    let reading = read(SALTMARSH);
    let cluster = reading.cluster.ok_or_else(|| {
        Failure::new(Kind::Run, "the demo's cluster file is faulty", "report this, please")
    })?;
    view::out(&view::topology::render(&cluster, &Topology::of(&cluster), style));

    title(2, "certificates issued, every connection proven before a byte is copied");
    let site = Site::of(cluster, &options);
    let mut draft = site.draft()?;
    let strongbox = site.strongbox()?;
    let issued = trust::issue(&mut draft, strongbox, &site.cluster, &FreshKeys, now(), false)?;
    site.keep(&mut draft)?;
    view::out(&format!(
        "{} authorities and {} made, their keys encrypted in {}",
        issued.authorities.len(),
        count(issued.certificates.len(), "certificate"),
        folder.join(".zoisite").display()
    ));
    let proof = prove(&edges(&site.cluster), &draft.ledger()?, &[], now());
    view::out(
        &pki::render(&proof.held[..proof.held.len().min(6)], &[], true, style)
            .lines()
            .take(6)
            .collect::<Vec<_>>()
            .join("\n"),
    );
    view::out(&pki::render(&proof.held, &proof.failed, false, style));

    title(3, "raised on simulated hosts: quorum, control plane, load balancers, nodes, DNS");
    let world = World::new(site.cluster.hosts.iter().map(|h| (h.name.clone(), h.address)), now());
    let world = Arc::new(Mutex::new(world));
    super::rehearse::rehearse_on(
        &site,
        &options,
        &raise::RaiseArgs::rehearsed(),
        &[],
        (&world, Time::Real),
    )?;

    title(4, "raised again: nothing differs");
    let mut scratch = site.scratch()?;
    let mut prepared = prepare(&site, &mut scratch, Part::ALL)?;
    let sums = raise::simulated_sums(&prepared);
    let mut reach = road::rehearsal(&world, site.no_contents(), u64::MAX);
    let how = (Depth::Quick, &[][..]);
    let mut found =
        super::block_on(road::sighting(&site, &mut scratch, &mut reach, &mut prepared, how))??;
    let sequence = found.plan(&prepared, &sums, &[], 300)?;
    view::out(&super::sequence::render(&sequence, false, style));

    title(5, "the host that holds the API endpoint is lost, as it is to be expected");
    let wanted = Wanted { kind: Drilled::Holder, host: None, from: None, by: None, seconds: None };
    let choose = |stands: &Stands| choose_drill(&site.cluster, stands, &wanted);
    let measured = super::drill::rehearse_on(&site, &world, None, choose)?;
    let name = site.cluster.name.as_str();
    view::out(&view::drill::render(name, &measured, (None, None), style));

    title(6, "where to look");
    let file = file.display();
    view::out(&format!(
        "the cluster file      {file}\n\
         its certificates      zoisite --cluster {file} pki list\n\
         what a host would get zoisite --cluster {file} --identity {} files --out {}\n\
         on your own machines  zoisite new NAME ADDRESS…",
        folder.join("identity.txt").display(),
        folder.join("files").display()
    ));
    Ok(ExitCode::SUCCESS)
}
