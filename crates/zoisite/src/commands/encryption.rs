use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::pki::{AtRestKey, AtRestKeys, AtRestStage};
use zoisite_store::{FreshKeys, State, at_rest};

use super::raise::{RaiseArgs, carry_through};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::{self, Style, table::ranked};

/// Show and rotate the key that encrypts secrets in etcd
///
/// API servers encrypt secrets before etcd stores them. The key is rotated in stages, and every secret stays
/// readable: every API server accepts the new key, then encrypts with it, then every secret is rewritten, and the
/// old key is removed. The old key stays in the strongbox, because older snapshots need it.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite encryption                # which keys there are, and what each does\n  zoisite encryption rotate        # another key, and everything written again by it\n\nCut off anywhere, zoisite raise goes on with it."
)]
pub struct EncryptionArgs {
    #[command(subcommand)]
    what: Option<EncryptionCommand>,
}

#[derive(Debug, Subcommand)]
enum EncryptionCommand {
    /// Make a new key, and rewrite every secret in etcd with it
    Rotate(RotateArgs),
}

#[derive(Args, Debug)]
struct RotateArgs {
    /// How long a unit may take to start, and a gate to be passed
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    timeout: u32,
}

pub fn run(options: &Options, args: &EncryptionArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.what {
        None => list(&site, options),
        Some(EncryptionCommand::Rotate(args)) => replace(&site, options, args),
    }
}

/// What a key does at the moment.
fn duty(keys: &AtRestKeys, key: &AtRestKey) -> &'static str {
    let among = |keys: &[AtRestKey]| keys.contains(key);
    match () {
        () if keys.used == *key => "encrypts",
        () if keys.coming.as_ref() == Some(key) => "comes: is to be accepted everywhere first",
        () if among(&keys.going) => "goes: accepted until all is written again",
        () => "gone: kept for snapshots of its time",
    }
}

fn known(state: &State) -> Result<Option<AtRestKeys>, Failure> {
    Ok(state.shared_secrets()?.map(|shared| shared.at_rest_keys()))
}

fn list(site: &Site, options: &Options) -> Result<ExitCode, Failure> {
    let keys = site.existing_state()?.map(|state| known(&state)).transpose()?.flatten();
    let Some(keys) = keys else {
        match options.json {
            true => view::json(&json!({"keys": [], "next": null})),
            false => view::out("No key yet: the first raise makes it."),
        }
        return Ok(ExitCode::SUCCESS);
    };
    let next = keys.stage().map(|stage| match stage {
        AtRestStage::Accept(key) => format!("every API server is to accept {key}"),
        AtRestStage::Rewrite(key) => format!("every secret is to be written again by {key}"),
    });
    if options.json {
        let all: Vec<_> = keys
            .all()
            .map(|key| json!({"name": key.name, "id": key.id, "made": key.made, "is": duty(&keys, key)}))
            .collect();
        view::json(&json!({"keys": all, "next": next}));
        return Ok(ExitCode::SUCCESS);
    }
    let rows = keys.all().map(|key| {
        let made = key.made.map_or_else(|| "at first".to_owned(), view::day);
        vec![key.name.clone(), made, duty(&keys, key).to_owned(), key.id.clone()]
    });
    view::out(&ranked(&[("key", 0), ("made", 1), ("it", 0), ("id", 2)], rows));
    if let Some(next) = next {
        view::out(&format!("\nnext    {next}: zoisite raise goes on with it"));
    }
    Ok(ExitCode::SUCCESS)
}

fn replace(site: &Site, options: &Options, args: &RotateArgs) -> Result<ExitCode, Failure> {
    let stands = site.raised_state()?.begun()?.is_some_and(|begun| begun.formed.is_some());
    if !stands {
        let what = "no quorum was proven yet: there is nothing that could be encrypted again";
        return Err(Failure::new(Kind::Usage, what, "zoisite raise makes the first key"));
    }
    site.sums()?;
    let mut work = site.working()?;
    let strongbox = site.strongbox()?;
    let before = known(&work.state)?.and_then(|keys| keys.stage());
    let keys = at_rest::replace(&mut work.state, strongbox, &FreshKeys, now())?;
    if !options.json {
        view::note(&match (before, &keys.coming) {
            (Some(_), _) => "a key is being replaced already: this goes on with it".to_owned(),
            (None, Some(key)) => format!("made {}", key.name),
            (None, None) => "nothing was made".to_owned(),
        });
    }
    let raise = RaiseArgs::patient(args.timeout);
    let ended = carry_through(site, options, &raise, &mut work, "at-rest replace")?;
    let after = known(&work.state)?.filter(|keys| keys.stage().is_none());
    if let (Some(keys), false) = (after, options.json) {
        let style = Style::stdout();
        let used = &keys.used.name;
        view::out(&format!("{} every secret in etcd is encrypted by {used}", style.good("✓")));
    }
    Ok(ended)
}
