use std::process::ExitCode;

use clap::{Args, Subcommand};
use jiff::Timestamp;
use serde_json::json;
use zoisite_core::pki::{AuthorityKind, Holder, Ledger, LedgerEntry, edges, prove};
use zoisite_store::{FreshKeys, trust};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::table::{ranked, table};
use crate::view::{self, Style, count, day};

/// Certificates: issue, list, prove
#[derive(Args, Debug)]
pub struct PkiArgs {
    #[command(subcommand)]
    command: PkiCommand,
}

#[derive(Debug, Subcommand)]
enum PkiCommand {
    /// Issue what is missing, changed or due; a second time it does nothing
    #[command(after_help = "Example:\n  zoisite pki issue")]
    Issue {
        /// Issue every certificate anew, with new keys
        #[arg(long)]
        again: bool,
    },
    /// List certificates by authority, with names, place and end
    #[command(after_help = "Examples:\n  zoisite pki list\n  zoisite pki list --json")]
    List {
        /// Show replaced and ended ones too
        #[arg(long)]
        all: bool,
    },
    /// Prove every connection that will be dialled, on the certificates as they are
    #[command(after_help = "Example:\n  zoisite pki prove")]
    Prove {
        /// Show every connection, not only those that would fail
        #[arg(long)]
        all: bool,
    },
}

pub fn run(options: &Options, args: &PkiArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match args.command {
        PkiCommand::Issue { again } => issue(&site, options, again),
        PkiCommand::List { all } => list(&site, options, all),
        PkiCommand::Prove { all } => prove_all(&site, options, all),
    }
}

fn issue(site: &Site, options: &Options, again: bool) -> Result<ExitCode, Failure> {
    let work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let mut draft = site.draft()?;
    let strongbox = site.strongbox()?;
    let issued = trust::issue(&mut draft, strongbox, &site.cluster, &FreshKeys, now(), again)?;
    site.keep(&mut draft)?;
    if options.json {
        let certificates: Vec<_> = issued
            .certificates
            .iter()
            .map(|due| json!({"profile": due.wanted.profile, "host": due.wanted.host, "why": due.why.to_string()}))
            .collect();
        view::json(&json!({"authorities": issued.authorities, "certificates": certificates}));
        return Ok(ExitCode::SUCCESS);
    }
    if issued.is_empty() {
        view::out("Every certificate is as it must be: nothing was issued.");
        return Ok(ExitCode::SUCCESS);
    }
    for kind in &issued.authorities {
        view::out(&format!("made the {kind} authority"));
    }
    let rows = issued.certificates.iter().map(|due| {
        let host = due.wanted.host.as_ref().map_or(String::new(), ToString::to_string);
        vec![due.wanted.profile.to_string(), host, due.why.to_string()]
    });
    view::out(&table(&["issued", "for", "because"], rows));
    view::out(&format!(
        "\n{} issued. Next: zoisite pki prove",
        count(issued.certificates.len(), "certificate")
    ));
    Ok(ExitCode::SUCCESS)
}

fn shown(ledger: &Ledger, all: bool, now: Timestamp) -> Vec<&LedgerEntry> {
    let mut entries: Vec<&LedgerEntry> = ledger
        .entries
        .iter()
        .filter(|e| {
            all || (e.is_in_force() && e.not_after > now && e.profile.holder() != Holder::Run)
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
                })
            })
            .collect();
        let authorities: Vec<_> = ledger
            .authorities
            .iter()
            .map(|a| {
                json!({"authority": a.kind, "subject": a.subject, "serial": a.serial,
                       "not_after": a.not_after, "sha256": a.sha256})
            })
            .collect();
        view::json(&json!({"authorities": authorities, "certificates": certificates}));
        return Ok(ExitCode::SUCCESS);
    }
    let style = Style::stdout();
    for kind in AuthorityKind::ALL {
        let Some(authority) = ledger.authority(kind) else { continue };
        view::out(&format!(
            "{}  ends {}, sha256 {}…",
            style.bold(&authority.subject),
            day(authority.not_after),
            &authority.sha256[..16]
        ));
        let rows = entries.iter().filter(|e| e.authority == kind).map(|e| {
            let end = match (&e.replaced_by, e.renew_from() <= now()) {
                _ if e.retired.is_some() => style.dim("retired"),
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
            day(next.renew_from())
        ));
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
    if failed > 0 { Err(Failure::told(Kind::Findings)) } else { Ok(ExitCode::SUCCESS) }
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
        0 => format!(
            "{} all {} that will be dialled hold",
            style.good("✓"),
            count(held.len(), "connection")
        ),
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
