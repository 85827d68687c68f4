//! `zoisite pki request`: authorities' certificates are asked for where somebody else signs them.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use clap::builder::PossibleValuesParser;
use serde_json::json;
use zoisite_core::pki::AuthorityKind;
use zoisite_store::{FreshKeys, State, asked};

use crate::failure::Failure;
use crate::options::Options;
use crate::site::{Site, now};
use crate::view;

/// Write certificate requests for authorities that another root signs
///
/// Each authority gets a private key, which stays in the strongbox, and a request (PKCS #10) to be signed by a
/// company's authority or by an offline root. zoisite pki import-signed imports the answer. Before the first
/// raise they become the cluster's authorities; afterwards they replace the present ones in stages. Repeated, the
/// command writes the same requests.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite pki request                      # all four, into requests/\n  zoisite pki request cluster --out /media/stick\n  zoisite pki request front-proxy --cancel    # it is made here after all"
)]
pub struct RequestArgs {
    /// Which authorities [default: all]
    #[arg(value_name = "AUTHORITY", value_parser = PossibleValuesParser::new(AuthorityKind::ALL.map(AuthorityKind::id)))]
    authorities: Vec<String>,
    /// Folder to write requests to
    #[arg(long, value_name = "FOLDER", default_value = "requests")]
    out: PathBuf,
    /// Forget the requests and their keys
    #[arg(long, conflicts_with = "out")]
    cancel: bool,
}

pub fn run(site: &Site, options: &Options, args: &RequestArgs) -> Result<ExitCode, Failure> {
    let work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let mut draft = site.draft()?;
    match args.cancel {
        true => withdrawn(site, options, args, &mut draft),
        false => asked_for(site, options, args, &mut draft),
    }
}

fn named(args: &RequestArgs) -> Vec<AuthorityKind> {
    let named = |kind: &AuthorityKind| args.authorities.iter().any(|name| name == kind.id());
    AuthorityKind::ALL.into_iter().filter(named).collect()
}

fn withdrawn(
    site: &Site,
    options: &Options,
    args: &RequestArgs,
    draft: &mut State,
) -> Result<ExitCode, Failure> {
    let kinds: Vec<AuthorityKind> = match args.authorities.is_empty() {
        true => asked::requests(draft)?.iter().map(|one| one.kind).collect(),
        false => named(args),
    };
    for kind in &kinds {
        asked::withdraw(draft, *kind)?;
    }
    site.keep(draft)?;
    if options.json {
        view::json(&json!({"withdrawn": kinds}));
        return Ok(ExitCode::SUCCESS);
    }
    if kinds.is_empty() {
        view::out("no authority's certificate was asked for");
    }
    for kind in &kinds {
        view::out(&format!("the certificate of the {kind} authority is not asked for any more"));
    }
    Ok(ExitCode::SUCCESS)
}

fn asked_for(
    site: &Site,
    options: &Options,
    args: &RequestArgs,
    draft: &mut State,
) -> Result<ExitCode, Failure> {
    let kinds = match args.authorities.is_empty() {
        true => AuthorityKind::ALL.to_vec(),
        false => named(args),
    };
    let strongbox = site.strongbox()?;
    let mut requests = Vec::new();
    for kind in kinds {
        let source = (&FreshKeys as _, now());
        requests.push(asked::request(draft, strongbox, &site.cluster, kind, source)?);
    }
    std::fs::create_dir_all(&args.out)
        .map_err(|error| Failure::file("making", &args.out, &error))?;
    // Kept first: a request that is written and not kept would be of a key that nobody has.
    site.keep(draft)?;
    let mut written = Vec::new();
    for request in &requests {
        let path = args.out.join(format!("{}.csr", request.kind));
        std::fs::write(&path, &request.pem)
            .map_err(|error| Failure::file("writing", &path, &error))?;
        written.push((request, path));
    }
    if options.json {
        let shown = written.iter().map(|(request, path)| {
            json!({"authority": request.kind, "subject": request.subject, "made": request.made, "file": path})
        });
        view::json(&json!({"requests": shown.collect::<Vec<_>>()}));
        return Ok(ExitCode::SUCCESS);
    }
    for (request, path) in &written {
        view::out(&format!("{}  asks for {}", path.display(), request.subject));
    }
    let days = site.cluster.certificates.authority_seconds / 86_400;
    view::out(&format!(
        "\nsign    each as an authority: path length 0, key usages keyCertSign and cRLSign, its subject as it is, for {days} days or so"
    ));
    view::out(
        "next    zoisite pki import-signed FILE… with what comes back, and what stands above it up to the root",
    );
    Ok(ExitCode::SUCCESS)
}
