//! `zoisite pki import`: an authority that the site has already.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::pki::{AuthorityKind, AuthorityState, Secret};
use zoisite_store::{FreshKeys, StoreError, authorities};

use super::import_signed::read;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::{self, Style, day};

/// Import an existing certificate authority, with its private key
///
/// It must fit: key, usages, expiry, strength, the chain up to a root, and certificates for all names of the
/// cluster verified under it. The key is encrypted in the strongbox. Once a cluster stands, the new authority is
/// added beside the present one, and zoisite pki rotate brings it to the hosts.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite pki import cluster --key our-ca.key our-ca.crt\n  zoisite pki import etcd-peer --key peers.key peers.crt middle.crt root.crt"
)]
pub struct ImportArgs {
    /// Which authority it becomes
    #[arg(value_name = "AUTHORITY", value_parser = ["cluster", "etcd-peer", "etcd-client", "front-proxy"])]
    authority: String,
    /// Its private key: PKCS #8, PEM, not encrypted
    #[arg(long, value_name = "FILE")]
    key: PathBuf,
    /// Its certificate and those above it up to the root, PEM, in any order
    #[arg(value_name = "FILE", required = true)]
    files: Vec<PathBuf>,
}

pub fn run(site: &Site, options: &Options, args: &ImportArgs) -> Result<ExitCode, Failure> {
    let text = read(&args.files)?;
    let key = std::fs::read_to_string(&args.key)
        .map(Secret::new)
        .map_err(|error| Failure::file("reading", &args.key, &error))?;
    let kind = AuthorityKind::ALL.into_iter().find(|kind| kind.id() == args.authority);
    let kind = kind.ok_or_else(|| Failure::reported(Kind::Usage))?;
    let work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let mut draft = site.draft()?;
    let strongbox = site.strongbox()?;
    let (what, source) = ((kind, text.as_str(), &key), (&FreshKeys as _, now()));
    let ledger = match authorities::bring(&mut draft, strongbox, &site.cluster, what, source) {
        Ok(ledger) => ledger,
        Err(StoreError::Answer { faults, .. }) => {
            let wrong = faults.iter().map(|fault| {
                let what = format!("this cannot be the {kind} authority: {fault}");
                Failure::new(
                    Kind::Usage,
                    what,
                    "bring one that fits, or have one made: zoisite pki issue; nothing was changed",
                )
            });
            return Err(wrong
                .reduce(Failure::and)
                .unwrap_or_else(|| Failure::reported(Kind::Usage)));
        }
        Err(error) => return Err(error.into()),
    };
    site.keep(&mut draft)?;
    let brought = ledger.authorities_of(kind).find(|one| {
        matches!(one.standing, AuthorityState::Signs | AuthorityState::Comes)
            && text_holds(&text, &one.pem)
    });
    let Some(one) = brought else { return Ok(ExitCode::SUCCESS) };
    if options.json {
        view::json(
            &json!({"authority": kind, "subject": one.subject, "serial": one.serial, "not_after": one.not_after, "is": one.standing}),
        );
        return Ok(ExitCode::SUCCESS);
    }
    view::out(&format!(
        "{} {} is the {kind} authority, until {}",
        Style::stdout().good("✓"),
        one.subject,
        day(one.not_after)
    ));
    if one.standing == AuthorityState::Comes {
        view::out(&format!("next    zoisite pki rotate {kind} brings it to every host"));
    }
    view::note(&format!(
        "its key is sealed here now: {} is not needed any more",
        args.key.display()
    ));
    Ok(ExitCode::SUCCESS)
}

/// Whether a certificate is among others, whatever their lines end with.
fn text_holds(text: &str, pem: &str) -> bool {
    let plain = |text: &str| text.split_whitespace().collect::<String>();
    plain(text).contains(&plain(pem))
}
