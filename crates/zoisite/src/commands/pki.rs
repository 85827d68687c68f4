mod import;
mod import_signed;
mod prove;
mod request;
mod rotate;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::builder::PossibleValuesParser;
use clap::{Args, Subcommand};
use jiff::Timestamp;
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::pki::{
    AuthorityKind, AuthorityState, Ending, Ends, Holder, KeyAt, KeySource, Ledger, LedgerEntry,
    Profile, Wanted, edges, endings, prove,
};
use zoisite_store::{FreshKeys, trust};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::table::{ranked, table};
use crate::view::{self, Style, count, day};

/// Certificates and certificate authorities: issue, list, prove, rotate
#[derive(Args, Debug)]
pub struct PkiArgs {
    #[command(subcommand)]
    command: PkiCommand,
}

#[derive(Debug, Subcommand)]
enum PkiCommand {
    /// Issue certificates that are missing, changed or due
    #[command(
        after_help = "Examples:\n  zoisite pki issue\n  zoisite pki issue --reissue                      # everything again; zoisite raise puts it in place\n  zoisite pki issue --reissue --host heron --profile etcd-peer"
    )]
    Issue {
        /// Issue valid certificates again too, with new keys: all, or those chosen
        #[arg(long)]
        reissue: bool,
        /// Only those of these hosts
        #[arg(long = "host", value_name = "HOST", requires = "reissue")]
        hosts: Vec<String>,
        /// Only those of these profiles
        #[arg(long = "profile", value_name = "PROFILE", requires = "reissue", value_parser = PossibleValuesParser::new(issued_for_hosts()))]
        profiles: Vec<String>,
    },
    /// List certificates by authority, with names, place and expiry
    #[command(
        after_help = "Examples:\n  zoisite pki list\n  zoisite pki list --expiring 60d   # exits with 3 where anything does: for cron"
    )]
    List {
        /// Also replaced and expired ones
        #[arg(long)]
        all: bool,
        /// Only those that expire within this time, such as 60d; exits with 3 if there are any
        #[arg(long, value_name = "TIME", value_parser = view::span, conflicts_with = "all")]
        expiring: Option<i64>,
    },
    /// Show a timeline of what expires when
    #[command(
        after_help = "Examples:\n  zoisite pki expiry\n  zoisite pki expiry --svg expiry.svg"
    )]
    Expiry {
        /// Write it to this file, as SVG
        #[arg(long, value_name = "FILE")]
        svg: Option<PathBuf>,
    },
    /// Write an authority's certificate, for machines that are to trust it
    #[command(
        after_help = "Examples:\n  zoisite pki export cluster >/usr/local/share/ca-certificates/saltmarsh.crt\n  zoisite pki export cluster --up-to-root   # for what believes roots alone"
    )]
    Export {
        /// The authority; during a rotation, both trusted certificates are written
        #[arg(value_name = "AUTHORITY", value_parser = ["cluster", "etcd-peer", "etcd-client", "front-proxy"])]
        authority: String,
        /// With the certificates above it, up to the root
        #[arg(long)]
        up_to_root: bool,
    },
    Rotate(rotate::RotateArgs),
    Request(request::RequestArgs),
    ImportSigned(import_signed::ImportSignedArgs),
    Import(import::ImportArgs),
    /// Prove every TLS connection of the cluster, with the certificates as they are
    #[command(
        after_help = "Examples:\n  zoisite pki prove\n  zoisite pki prove --on-hosts   # what lies there, and what is shown to whom"
    )]
    Prove {
        /// Show every connection, not only those that would fail
        #[arg(long, conflicts_with = "on_hosts")]
        all: bool,
        /// On the hosts: verify the installed certificates and keys, and try every connection from the host that makes it; changes nothing
        #[arg(long)]
        on_hosts: bool,
    },
}

pub fn run(options: &Options, args: &PkiArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.command {
        PkiCommand::Issue { reissue, hosts, profiles } => {
            issue(&site, options, *reissue, (hosts, profiles))
        }
        PkiCommand::List { all, expiring: None } => list(&site, options, *all),
        PkiCommand::List { expiring: Some(within), .. } => expiring(&site, options, *within),
        PkiCommand::Expiry { svg } => ends(&site, options, svg.as_deref()),
        PkiCommand::Export { authority, up_to_root } => export(&site, authority, *up_to_root),
        PkiCommand::Request(args) => request::run(&site, options, args),
        PkiCommand::Import(args) => import::run(&site, options, args),
        PkiCommand::ImportSigned(args) => import_signed::run(&site, options, args),
        PkiCommand::Rotate(args) => rotate::run(&site, options, args),
        PkiCommand::Prove { on_hosts: true, .. } => prove::on_hosts(&site, options),
        PkiCommand::Prove { all, .. } => prove_all(&site, options, *all),
    }
}

fn export(site: &Site, authority: &str, up_to_root: bool) -> Result<ExitCode, Failure> {
    let ledger = site.existing_state()?.ok_or_else(nothing_issued)?.ledger()?;
    let kind = AuthorityKind::ALL.into_iter().find(|kind| kind.id() == authority);
    let bundle = kind.and_then(|kind| match up_to_root {
        true => ledger.bundle_up_to_root(kind),
        false => ledger.bundle(kind),
    });
    view::out(bundle.ok_or_else(nothing_issued)?.trim_end());
    Ok(ExitCode::SUCCESS)
}

/// Profiles whose certificates hosts are given.
fn issued_for_hosts() -> Vec<&'static str> {
    Profile::ALL.iter().filter(|one| one.place().is_some()).map(|one| one.id()).collect()
}

fn issue(
    site: &Site,
    options: &Options,
    reissue: bool,
    (hosts, profiles): (&[String], &[String]),
) -> Result<ExitCode, Failure> {
    for host in hosts {
        site.host_named(host)?;
    }
    let among = |all: &[String], one: &str| all.is_empty() || all.iter().any(|name| name == one);
    let chosen = |wanted: &Wanted| {
        let host = wanted.host.as_ref().map_or("", HostName::as_str);
        reissue && among(hosts, host) && among(profiles, wanted.profile.id())
    };
    let work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let mut draft = site.draft()?;
    let strongbox = site.strongbox()?;
    let how: (&dyn KeySource, Timestamp) = (&FreshKeys, now());
    let issued = trust::issue_again(&mut draft, strongbox, &site.cluster, how, &chosen)?;
    let waiting = trust::asked_for(&site.cluster, &draft.ledger()?, now()).len();
    site.keep(&mut draft)?;
    if options.json {
        let certificates: Vec<_> = issued
            .certificates
            .iter()
            .map(|due| json!({"profile": due.wanted.profile, "host": due.wanted.host, "why": due.why.to_string()}))
            .collect();
        let unwanted = issued.unwanted.iter().map(|due| &due.wanted);
        let unwanted: Vec<_> = unwanted
            .map(|wanted| json!({"profile": wanted.profile, "host": wanted.host}))
            .collect();
        view::json(&json!({
            "authorities": issued.authorities,
            "certificates": certificates,
            "keys_to_be_made_again": unwanted,
            "keys_to_be_made": waiting,
        }));
        return Ok(ExitCode::SUCCESS);
    }
    if issued.is_empty() {
        view::out(&match waiting {
            0 => "Every certificate is valid and matches the file: nothing was issued.".to_owned(),
            waiting => format!(
                "Nothing was issued here: {} to be made on hosts. Next: zoisite raise",
                count(waiting, "key")
            ),
        });
        return Ok(ExitCode::SUCCESS);
    }
    for kind in &issued.authorities {
        view::out(&format!("made the {kind} authority"));
    }
    let rows = issued.certificates.iter().map(|due| {
        let host = due.wanted.host.as_ref().map_or(String::new(), ToString::to_string);
        vec![due.wanted.profile.to_string(), host, due.why.to_string()]
    });
    let here = issued.certificates.len();
    if here > 0 {
        view::out(&table(&["issued", "for", "because"], rows));
        view::out(&format!("\n{} issued.", count(here, "certificate")));
    }
    view::out(&match waiting {
        0 => "Next: zoisite pki prove".to_owned(),
        waiting => format!("{} to be made on hosts. Next: zoisite raise", count(waiting, "key")),
    });
    Ok(ExitCode::SUCCESS)
}

fn shown(ledger: &Ledger, all: bool, now: Timestamp) -> Vec<&LedgerEntry> {
    let mut entries: Vec<&LedgerEntry> = ledger
        .entries
        .iter()
        .filter(|e| {
            all || (e.is_in_force()
                && e.not_after > now
                && e.profile.holder() != Holder::Run
                && ledger.believes(e))
        })
        .collect();
    entries.sort_by_key(|e| (e.authority, e.profile, e.host.clone(), e.not_before));
    entries
}

fn nothing_issued() -> Failure {
    Failure::new(
        Kind::Usage,
        "no certificate has been issued for this cluster",
        "zoisite pki issue",
    )
}

/// Where the key of a certificate is.
fn key_is(entry: &LedgerEntry) -> &'static str {
    match (entry.profile.holder(), entry.key_at) {
        (Holder::Joining, _) | (_, KeyAt::Host) => "on its host",
        (Holder::Person | Holder::Monitoring, _) => "handed out",
        (Holder::Run, _) => "gone with its run",
        (_, KeyAt::Strongbox | KeyAt::ToCome) => "here",
    }
}

fn list(site: &Site, options: &Options, all: bool) -> Result<ExitCode, Failure> {
    let state = site.existing_state()?.ok_or_else(nothing_issued)?;
    let ledger = state.ledger()?;
    let entries = shown(&ledger, all, now());
    if options.json {
        let certificates: Vec<_> = entries
            .iter()
            .map(|e| {
                json!({
                    "profile": e.profile, "host": e.host, "authority": e.authority,
                    "serial": e.serial, "not_before": e.not_before, "not_after": e.not_after,
                    "sha256": e.sha256, "subject": e.common_name, "names": e.names,
                    "path": e.profile.place().map(|p| p.certificate()),
                    "replaced_by": e.replaced_by, "retired": e.retired,
                    "key": key_is(e),
                })
            })
            .collect();
        let authorities: Vec<_> = ledger
            .authorities
            .iter()
            .map(|a| {
                json!({"authority": a.kind, "subject": a.subject, "serial": a.serial,
                       "not_after": a.not_after, "sha256": a.sha256, "is": a.standing, "under": a.stands_under()})
            })
            .collect();
        view::json(&json!({"authorities": authorities, "certificates": certificates}));
        return Ok(ExitCode::SUCCESS);
    }
    let style = Style::stdout();
    for kind in AuthorityKind::ALL {
        for authority in ledger.authorities_of(kind) {
            let is = match authority.standing {
                AuthorityState::Signs => String::new(),
                AuthorityState::Gone if !all => continue,
                other => style.warn(&format!(", {other}")),
            };
            view::out(&format!(
                "{}  ends {}, sha256 {}…{}{is}",
                style.bold(&authority.subject),
                day(authority.not_after),
                &authority.sha256[..16],
                authority.stands_under().map(|root| format!(", under {root}")).unwrap_or_default()
            ));
        }
        let rows = entries.iter().filter(|e| e.authority == kind).map(|e| {
            let end = match (&e.replaced_by, e.renew_from(site.cluster.certificates.renew) <= now())
            {
                _ if e.retired.is_some() => style.dim("retired"),
                (None, _) if !ledger.believes(e) => style.dim("not believed any more"),
                (Some(_), _) => style.dim("replaced"),
                (None, true) => style.warn(&format!("{}, renew", day(e.not_after))),
                (None, false) => day(e.not_after),
            };
            vec![
                e.profile.to_string(),
                e.holder().unwrap_or("this run").to_owned(),
                end,
                e.profile.place().map_or("–".into(), |p| p.certificate()),
                if e.names.is_empty() { "–".into() } else { view::names(&e.names) },
            ]
        });
        let columns = [("profile", 0), ("holder", 0), ("ends", 0), ("place", 2), ("names", 1)];
        view::out(&ranked(&columns, rows));
    }
    let next = entries.iter().min_by_key(|e| e.not_after);
    if let Some(next) = next {
        view::out(&format!(
            "{}; the first to end is {} on {}, renewed from {}",
            count(entries.len(), "certificate"),
            next.label(),
            day(next.not_after),
            day(next.renew_from(site.cluster.certificates.renew))
        ));
    }
    Ok(ExitCode::SUCCESS)
}

/// What ends within so many seconds, or should be issued again by now.
fn expiring(site: &Site, options: &Options, within: i64) -> Result<ExitCode, Failure> {
    let state = site.existing_state()?.ok_or_else(nothing_issued)?;
    let ledger = state.ledger()?;
    let now = now();
    let soon = |end: Timestamp| end.as_second() - now.as_second() <= within;
    let all: Vec<Ending> = endings(&ledger, site.cluster.certificates.renew)
        .into_iter()
        .filter(|one| soon(one.end))
        .collect();
    if options.json {
        view::json(&json!({"expiring": all.iter().map(as_json).collect::<Vec<_>>()}));
    } else {
        let days = usize::try_from(within / 86_400).unwrap_or(0);
        let within = if days == 0 { "that time".to_owned() } else { count(days, "day") };
        let style = Style::stdout();
        if all.is_empty() {
            view::out(&format!("{} nothing ends within {within}", style.good("✓")));
        } else {
            view::out(&view::ends::lines(&all, now, style));
            view::out(&format!("ends within {within}: {}", view::ends::summed(&all, now)));
        }
    }
    match all.is_empty() {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::reported(Kind::Findings)),
    }
}

fn as_json(one: &Ending) -> serde_json::Value {
    let (authority, profile) = match one.what {
        Ends::Authority(kind) => (Some(kind), None),
        Ends::Profile(profile) => (None, Some(profile)),
    };
    json!({"authority": authority, "profile": profile, "holders": one.holders, "ends": one.end, "renewed_from": one.renewed})
}

fn ends(site: &Site, options: &Options, svg: Option<&Path>) -> Result<ExitCode, Failure> {
    let state = site.existing_state()?.ok_or_else(nothing_issued)?;
    let all = endings(&state.ledger()?, site.cluster.certificates.renew);
    let now = now();
    if let Some(path) = svg {
        let text = view::ends::svg(site.cluster.name.as_str(), &all, now);
        std::fs::write(path, text).map_err(|error| Failure::file("writing", path, &error))?;
        view::note(&format!("{} shows what ends when", path.display()));
    }
    if options.json {
        view::json(&json!({"ends": all.iter().map(as_json).collect::<Vec<_>>()}));
    } else if svg.is_none() {
        view::out(&view::ends::lines(&all, now, Style::stdout()));
        view::out(&view::ends::summed(&all, now));
    }
    Ok(ExitCode::SUCCESS)
}

fn prove_all(site: &Site, options: &Options, all: bool) -> Result<ExitCode, Failure> {
    let state = site.existing_state()?.ok_or_else(nothing_issued)?;
    let ledger = state.ledger()?;
    let proof = prove(&edges(&site.cluster), &ledger, &[], now());
    let failed = proof.failed.len();
    if options.json {
        let fails: Vec<_> = proof
            .failed
            .iter()
            .map(|f| {
                json!({"client": f.edge.client.to_string(), "server": f.edge.server.to_string(),
                       "dialled": f.edge.dialled, "port": f.edge.port,
                       "holder": f.holder.to_string(), "why": f.why})
            })
            .collect();
        view::json(&json!({"held": proof.held.len(), "failed": fails}));
    } else {
        view::out(&render(&proof.held, &proof.failed, all, Style::stdout()));
    }
    if failed > 0 { Err(Failure::reported(Kind::Findings)) } else { Ok(ExitCode::SUCCESS) }
}

/// Connections by kind, and each one that would fail.
pub fn render(
    held: &[zoisite_core::pki::Edge],
    failed: &[zoisite_core::pki::EdgeFailure],
    all: bool,
    style: Style,
) -> String {
    let mut out = String::new();
    if all {
        for edge in held {
            out.push_str(&format!("{} {edge}\n", style.good("✓")));
        }
    }
    for failure in failed {
        out.push_str(&format!("{} {}\n", style.bad("✗"), failure));
    }
    let verdict = match failed.len() {
        0 => format!("{} all {} hold", style.good("✓"), count(held.len(), "connection")),
        n => format!(
            "{} {} of {} would fail",
            style.bad("✗"),
            n,
            count(held.len() + n, "connection")
        ),
    };
    out.push_str(&verdict);
    out
}
