use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::pki::Secret;
use zoisite_store::key_of;

use crate::asked;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, begin_run, end_run};
use crate::view::{self, Style, count, table::ranked};

/// Show and change who can open the strongbox: private keys, secrets, snapshots
///
/// Everything in it is encrypted with the public key of each person: that of a Zoisite identity, or an SSH key
/// (ed25519, RSA). When a person is added or removed, everything is encrypted again at once.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite strongbox\n  zoisite strongbox add --file bea.pub\n  zoisite strongbox add 'age1qyqszqgpqyqszqgpqyqszqgpqyqszqgpqyqszqgpqyqszqgpqyqs3290gq bea'\n  zoisite strongbox remove bea\n  zoisite strongbox passphrase\n  zoisite --identity ~/.ssh/id_ed25519 status   # opened by an SSH key"
)]
pub struct StrongboxArgs {
    #[command(subcommand)]
    what: Option<StrongboxCommand>,
}

#[derive(Debug, Subcommand)]
enum StrongboxCommand {
    /// Add a person
    Add {
        /// A public key, with a name behind it
        #[arg(value_name = "KEY", required_unless_present = "file", conflicts_with = "file")]
        key: Option<String>,
        /// Read the key from the first line of this file, such as ~/.ssh/id_ed25519.pub
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
    },
    /// Protect this identity with a passphrase
    Passphrase {
        /// Remove the passphrase
        #[arg(long)]
        none: bool,
    },
    /// Remove a person
    Remove {
        /// The name, or the key
        #[arg(value_name = "WHO")]
        who: String,
    },
}

pub fn run(options: &Options, args: &StrongboxArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.what {
        None => list(&site, options),
        Some(StrongboxCommand::Add { key, file }) => {
            let line = match (key, file) {
                (_, Some(path)) => std::fs::read_to_string(path)
                    .map_err(|error| Failure::file("reading", path, &error))?,
                (key, None) => key.clone().unwrap_or_default(),
            };
            let line = line.lines().find(|line| !line.trim().is_empty()).unwrap_or_default();
            add(&site, options, line.trim())
        }
        Some(StrongboxCommand::Passphrase { none }) => passphrase(&site, options, *none),
        Some(StrongboxCommand::Remove { who }) => drop_one(&site, options, who),
    }
}

/// What stands behind the key.
fn name_of(line: &str) -> &str {
    line.strip_prefix(&key_of(line)).unwrap_or_default().trim()
}

fn list(site: &Site, options: &Options) -> Result<ExitCode, Failure> {
    let people = site.existing_state()?.map(|state| state.people()).transpose()?;
    let people = people.unwrap_or_default();
    if options.json {
        let people: Vec<_> =
            people.iter().map(|line| json!({"key": key_of(line), "name": name_of(line)})).collect();
        view::json(&json!({"people": people}));
        return Ok(ExitCode::SUCCESS);
    }
    if people.is_empty() {
        view::out(
            "The strongbox is empty: the identity of the first raise is the first that opens it.",
        );
        return Ok(ExitCode::SUCCESS);
    }
    let own = site.strongbox()?;
    let rows = people.iter().map(|line| {
        let you = if own.is_of(line) { "this identity" } else { "" };
        vec![name_of(line).to_owned(), you.to_owned(), key_of(line)]
    });
    view::out(&ranked(&[("name", 0), ("", 1), ("key", 0)], rows));
    Ok(ExitCode::SUCCESS)
}

fn add(site: &Site, options: &Options, line: &str) -> Result<ExitCode, Failure> {
    zoisite_store::Strongbox::seals_for(line)?;
    site.raised_state()?;
    let known = |people: &[String]| people.iter().any(|one| key_of(one) == key_of(line));
    changed(site, options, &format!("strongbox add {}", called(line)), |people| {
        if known(people) {
            let what = format!("{} can open it already", called(line));
            return Err(Failure::new(Kind::Usage, what, "zoisite strongbox shows who can"));
        }
        people.push(line.to_owned());
        Ok(format!("{} can open it now", called(line)))
    })
}

fn drop_one(site: &Site, options: &Options, who: &str) -> Result<ExitCode, Failure> {
    site.raised_state()?;
    let own = site.strongbox()?;
    changed(site, options, &format!("strongbox remove {who}"), |people| {
        let is = |line: &String| name_of(line) == who || key_of(line) == who;
        let usage = |what: String, fix: &str| Err(Failure::new(Kind::Usage, what, fix));
        match people.iter().filter(|line| is(line)).count() {
            1 => {}
            0 => {
                return usage(
                    format!("no person of that name or key can open it: {who}"),
                    "zoisite strongbox shows who can",
                );
            }
            _ => {
                return usage(
                    format!("{who} is the name of more than one"),
                    "say the key: zoisite strongbox shows them",
                );
            }
        }
        if people.iter().any(|line| is(line) && own.is_of(line)) {
            let what = "that is the identity that opens it here".to_owned();
            return usage(what, "another one of them takes it away, with --identity of theirs");
        }
        people.retain(|line| !is(line));
        Ok(format!(
            "{who} cannot open it any more. What {who} opened before is known to them, and snapshots and copies \
             that were sealed before open for them still"
        ))
    })
}

/// Keeps the identity under a passphrase, or under none.
fn passphrase(site: &Site, options: &Options, none: bool) -> Result<ExitCode, Failure> {
    let own = site.strongbox()?;
    let new = match none {
        true => None,
        false => Some(new_passphrase()?),
    };
    own.keep_under(new.as_ref())?;
    if options.json {
        view::json(&json!({"passphrase": !none}));
        return Ok(ExitCode::SUCCESS);
    }
    view::out(match none {
        true => "This identity is kept under no passphrase any more.",
        false => {
            "This identity is kept under the passphrase from now on. It cannot be opened without; copies of the file \
             that were made before open as they did."
        }
    });
    Ok(ExitCode::SUCCESS)
}

/// Asks for a new passphrase, twice.
fn new_passphrase() -> Result<Secret, Failure> {
    let ask = |prompt: &str| {
        asked::secret(prompt).map_err(|error| {
            let what = format!("asking for a passphrase: {error}");
            Failure::new(Kind::Usage, what, "run it at a terminal")
        })
    };
    let refused = |what: &str| {
        Failure::new(Kind::Usage, what, "run the same command again; nothing was changed")
    };
    let new = ask("new passphrase: ")?;
    if new.expose().chars().count() < 8 {
        return Err(refused("that passphrase has fewer than 8 characters"));
    }
    if ask("the same again: ")? != new {
        return Err(refused("those were two different ones"));
    }
    Ok(new)
}

/// What a key is called: its name, or its beginning.
fn called(line: &str) -> String {
    match name_of(line) {
        "" => key_of(line).chars().take(20).collect(),
        name => name.to_owned(),
    }
}

/// Changes who can open it, and seals everything again.
fn changed(
    site: &Site,
    options: &Options,
    command: &str,
    change: impl FnOnce(&mut Vec<String>) -> Result<String, Failure>,
) -> Result<ExitCode, Failure> {
    let mut work = site.briefly()?;
    let own = site.strongbox()?;
    let mut people = site.recipients(&mut work.state)?;
    let done = change(&mut people)?;
    let run = begin_run(&mut work.state, command)?;
    let sealed = work.state.reseal(own, &people);
    let outcome = match &sealed {
        Ok(sealed) => format!("{} sealed again", count(*sealed, "secret")),
        Err(error) => format!("failed: {error}"),
    };
    end_run(&mut work.state, run, &outcome)?;
    let sealed = sealed?;
    if options.json {
        view::json(&json!({"people": people.len(), "sealed": sealed}));
    } else {
        let style = Style::stdout();
        view::out(&format!(
            "{} {} sealed again: {done}.",
            style.good("✓"),
            count(sealed, "secret")
        ));
    }
    Ok(ExitCode::SUCCESS)
}
