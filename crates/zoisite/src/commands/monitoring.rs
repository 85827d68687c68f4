use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use serde_json::{Value, json};
use zoisite_core::holdings::{Target, targets};
use zoisite_core::pki::{AuthorityKind, Ledger, LedgerEntry, Profile, Secret, monitoring};
use zoisite_store::private_folder;

use super::signed;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Private, Site, begin_run, now};
use crate::view::{self, count, table::table};

/// Show metrics endpoints; write scrape targets and a certificate that can read metrics only
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite monitoring                          # what can be read, and where\n  zoisite monitoring --out /srv/monitoring   # client.crt, client.key, authority.crt, targets.json, targets.txt\n  zoisite monitoring --out . --reissue           # another certificate in any case"
)]
pub struct MonitoringArgs {
    /// Write everything that your monitoring needs into this folder
    #[arg(long, value_name = "FOLDER")]
    out: Option<PathBuf>,
    /// When a new certificate expires, such as 90d
    #[arg(long, value_name = "TIME", default_value = "90d", value_parser = view::span, requires = "out")]
    expires: i64,
    /// Issue a new certificate, even if the old one is still valid
    #[arg(long, requires = "out")]
    reissue: bool,
}

pub fn run(options: &Options, args: &MonitoringArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let all = targets(&site.cluster);
    match &args.out {
        None => show(&site, options, &all),
        Some(folder) => write(&site, options, &all, folder, args),
    }
}

fn show(site: &Site, options: &Options, all: &[Target]) -> Result<ExitCode, Failure> {
    let ledger = match site.existing_state()? {
        Some(state) => state.ledger()?,
        None => Ledger::default(),
    };
    let lives: Vec<&LedgerEntry> = ledger
        .entries
        .iter()
        .filter(|one| one.profile == Profile::Monitoring && one.not_after > now())
        .filter(|one| ledger.believes(one))
        .collect();
    if options.json {
        let shown = all
            .iter()
            .map(|one| json!({"what": one.what.id(), "host": one.host, "url": one.url()}));
        view::json(&json!({
            "targets": shown.collect::<Vec<_>>(),
            "certificates": lives.iter().map(|one| json!({"serial": one.serial, "not_after": one.not_after})).collect::<Vec<_>>(),
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let rows =
        all.iter().map(|one| vec![one.what.id().to_owned(), one.host.to_string(), one.url()]);
    view::out(&table(&["what", "host", "read at"], rows));
    if site.cluster.monitoring.is_none() {
        view::note(
            "members, schedulers, controller managers and load balancers are read on loopback alone: with [monitoring] in the cluster file, and raise, hosts give them out over TLS",
        );
    }
    match lives.iter().map(|one| one.not_after).max() {
        Some(end) => view::note(&format!(
            "{} for monitoring {} believed, the last until {}",
            count(lives.len(), "certificate"),
            if lives.len() == 1 { "is" } else { "are" },
            view::minute(end)
        )),
        None => view::note(
            "they cannot be read yet: zoisite monitoring --out FOLDER makes a certificate",
        ),
    }
    Ok(ExitCode::SUCCESS)
}

fn write(
    site: &Site,
    options: &Options,
    all: &[Target],
    folder: &Path,
    args: &MonitoringArgs,
) -> Result<ExitCode, Failure> {
    private_folder(folder).map_err(|error| Failure::file("making", folder, &error))?;
    let at = |name: &str| folder.join(name);
    let mut work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let ledger = work.state.ledger()?;
    let authority = ledger.bundle_up_to_root(AuthorityKind::Cluster).ok_or_else(|| {
        let what = "nothing has been issued yet";
        Failure::new(Kind::Usage, what, "zoisite pki issue, or zoisite raise, first")
    })?;
    let held = held(&ledger, &at("client.crt"), &at("client.key"));
    let kept =
        held.filter(|one| !args.reissue && ledger.believes(one) && one.renew_from(None) > now());
    let (end, made) = match kept {
        Some(one) => (one.not_after, false),
        None => {
            // That both can be written is known before anything is issued.
            let (certificate, key) =
                (Private::begin(&at("client.crt"))?, Private::begin(&at("client.key"))?);
            let wanted = monitoring(&site.cluster, args.expires);
            let record = begin_run(&mut work.state, "monitoring: a certificate to read metrics")?;
            let (entry, secret) = signed(site, &mut work.state, record, &wanted)?;
            key.end(secret.expose())?;
            certificate.end(&entry.pem)?;
            (entry.not_after, true)
        }
    };
    Private::begin(&at("authority.crt"))?.end(&authority)?;
    let json = serde_json::to_string_pretty(&discovery(site, all)).unwrap_or_default();
    Private::begin(&at("targets.json"))?.end(&(json + "\n"))?;
    let list: String = all.iter().map(|one| one.url() + "\n").collect();
    Private::begin(&at("targets.txt"))?.end(&list)?;

    if options.json {
        view::json(&json!({"out": folder, "targets": all.len(), "made": made, "not_after": end}));
        return Ok(ExitCode::SUCCESS);
    }
    view::out(&format!(
        "{} in {}: targets.json, targets.txt, authority.crt",
        count(all.len(), "target"),
        folder.display()
    ));
    view::out(&format!(
        "client.crt and client.key {}, until {}",
        if made { "made" } else { "kept as they are" },
        view::minute(end)
    ));
    if site.cluster.monitoring.is_none() {
        view::note(
            "only API servers and kubelets are among them: with [monitoring] in the cluster file, and raise, members, control planes and load balancers too",
        );
    }
    Ok(ExitCode::SUCCESS)
}

/// The recorded certificate that lies there with its key, if one does.
fn held<'a>(ledger: &'a Ledger, certificate: &Path, key: &Path) -> Option<&'a LedgerEntry> {
    let certificate = std::fs::read_to_string(certificate).ok()?;
    let key = Secret::new(std::fs::read_to_string(key).ok()?);
    ledger.recorded(&certificate, &key).filter(|one| one.profile == Profile::Monitoring)
}

/// Targets for file-based discovery: a list of groups, each with addresses and labels. Labels that begin with two
/// underscores say how they are read.
fn discovery(site: &Site, all: &[Target]) -> Value {
    let groups = all.iter().map(|one| {
        json!({
            "targets": [one.at.to_string()],
            "labels": {
                "__scheme__": "https",
                "__metrics_path__": one.path,
                "job": one.what.id(),
                "instance": one.host,
                "cluster": site.cluster.name,
            },
        })
    });
    Value::Array(groups.collect())
}
