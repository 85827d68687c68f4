//! `zoisite pki import-signed`: what came back for authorities that were asked for.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use zoisite_core::pki::{AuthorityKind, AuthorityState};
use zoisite_store::{FreshKeys, StoreError, asked, authorities};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::{self, Style, day};

/// Import certificates that were signed for zoisite pki request
///
/// All files are read together: the authorities' certificates and those above them up to the root, PEM, in any
/// order. Each must fit its request: key, name, path length, usages, expiry, chain, and name constraints above
/// it. If one does not fit, every reason is printed, and nothing is imported.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite pki import-signed etcd-peer.crt etcd-client.crt front-proxy.crt cluster.crt root.crt\n  zoisite pki import-signed from-the-company.pem"
)]
pub struct ImportSignedArgs {
    /// Signed certificates, PEM
    #[arg(value_name = "FILE", required = true)]
    files: Vec<PathBuf>,
}

pub fn run(site: &Site, options: &Options, args: &ImportSignedArgs) -> Result<ExitCode, Failure> {
    let text = read(&args.files)?;
    let work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let open = asked::requests(&work.state)?;
    let (answered, left): (Vec<_>, Vec<_>) = open.iter().partition(|one| one.is_answered_by(&text));
    if answered.is_empty() {
        return Err(unasked(left.iter().map(|one| one.kind)));
    }
    let mut draft = site.draft()?;
    let strongbox = site.strongbox()?;
    let mut wrong = Vec::new();
    for one in &answered {
        let (answer, source) = ((one.kind, text.as_str()), (&FreshKeys as _, now()));
        match authorities::answer(&mut draft, strongbox, &site.cluster, answer, source) {
            Ok(_) => {}
            Err(ref error @ StoreError::Answer { kind, ref faults }) => {
                wrong.extend(faults.iter().map(|fault| {
                    let what = format!("the answer for the {kind} authority: {fault}");
                    Failure::new(Kind::Usage, what, error.fix())
                }));
            }
            Err(error) => return Err(error.into()),
        }
    }
    if let Some(failure) = wrong.into_iter().reduce(Failure::and) {
        return Err(failure);
    }
    site.keep(&mut draft)?;

    let ledger = draft.ledger()?;
    let newest = answered.iter().filter_map(|asked| {
        ledger.authorities_of(asked.kind).find(|one| one.subject == asked.subject)
    });
    let taken: Vec<_> = newest.collect();
    if options.json {
        let shown = taken.iter().map(|one| {
            json!({"authority": one.kind, "subject": one.subject, "serial": one.serial, "not_after": one.not_after, "is": one.standing})
        });
        view::json(
            &json!({"taken": shown.collect::<Vec<_>>(), "waits": left.iter().map(|one| one.kind).collect::<Vec<_>>()}),
        );
        return Ok(ExitCode::SUCCESS);
    }
    let style = Style::stdout();
    for one in &taken {
        view::out(&format!(
            "{} {}, until {}, proven up to its root",
            style.good("✓"),
            one.subject,
            day(one.not_after)
        ));
    }
    for one in &left {
        view::out(&format!("waits   {}: its answer has not come", one.subject));
    }
    for one in taken.iter().filter(|one| one.standing == AuthorityState::Comes) {
        view::out(&format!("next    zoisite pki rotate {} brings it to every host", one.kind));
    }
    Ok(ExitCode::SUCCESS)
}

pub(super) fn read(files: &[PathBuf]) -> Result<String, Failure> {
    let mut text = String::new();
    let mut unread = Vec::new();
    for path in files {
        match std::fs::read_to_string(path) {
            Ok(read) => text += &(read + "\n"),
            Err(error) => unread.push(Failure::file("reading", path, &error)),
        }
    }
    match unread.into_iter().reduce(Failure::and) {
        Some(failure) => Err(failure),
        None => Ok(text),
    }
}

fn unasked(open: impl Iterator<Item = AuthorityKind>) -> Failure {
    let open: Vec<&str> = open.map(AuthorityKind::id).collect();
    let (what, fix) = match open.is_empty() {
        true => (
            "no authority's certificate was asked for".to_owned(),
            "zoisite pki request asks for them",
        ),
        false => (
            format!(
                "none of the certificates in these files is for a key that was asked for ({})",
                open.join(", ")
            ),
            "zoisite pki request writes the requests that wait once more: have these signed",
        ),
    };
    Failure::new(Kind::Usage, what, fix)
}
