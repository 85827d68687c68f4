//! `zoisite pki rotate`: an authority is replaced in stages.

use std::process::ExitCode;

use clap::Args;
use clap::builder::PossibleValuesParser;
use jiff::Timestamp;
use zoisite_core::holdings::SharedSecrets;
use zoisite_core::pki::{
    AuthorityCertificate, AuthorityKind, AuthorityState, Ledger, LedgerEntry, Profile, TOKEN_LASTS,
    TokenKeyTurn,
};
use zoisite_store::{FreshKeys, authorities, token_key};

use crate::commands::raise::{RaiseArgs, carry_through};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::{Site, now};
use crate::view::{self, Style, day};

/// Rotate a certificate authority while the cluster works
///
/// In stages, each finished on every host before the next begins: a new authority is trusted beside the old one;
/// everything is issued by it; the old one is no longer trusted. People and pods depend on the cluster authority,
/// so each of its stages waits until you repeat this command. The key that signs service account tokens is
/// rotated in the same way; the old one is accepted until you repeat the command, because pods' tokens may last a
/// year. Interrupted, zoisite raise resumes.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite pki rotate etcd-peer      # all stages\n  zoisite pki rotate cluster        # the first stage, or the next one\n  zoisite pki rotate cluster --cancel  # take it back, whatever stage it is in\n  zoisite pki rotate service-accounts"
)]
pub struct RotateArgs {
    /// The authority, or the signing key of service account tokens
    #[arg(value_name = "AUTHORITY", value_parser = PossibleValuesParser::new(replaceable()))]
    authority: String,
    /// Cancel the rotation: the old one signs again, and the new one is removed
    #[arg(long)]
    cancel: bool,
    /// How long a unit may take to start, and a gate to be passed
    #[arg(long, value_name = "SECONDS", default_value_t = 300)]
    timeout: u32,
}

/// The key that signs service accounts' tokens, among authorities.
const TOKENS: &str = "service-accounts";

fn replaceable() -> Vec<&'static str> {
    AuthorityKind::ALL.iter().map(|kind| kind.id()).chain([TOKENS]).collect()
}

pub fn run(site: &Site, options: &Options, args: &RotateArgs) -> Result<ExitCode, Failure> {
    let kind = AuthorityKind::ALL.into_iter().find(|kind| kind.id() == args.authority);
    let stands = site.raised_state()?.begun()?.is_some_and(|begun| begun.formed.is_some());
    if !stands {
        let what =
            "no quorum was proven yet: there is nothing that would be replaced while it works";
        return Err(Failure::new(Kind::Usage, what, "zoisite raise makes the first authorities"));
    }
    site.sums()?;
    let mut work = site.working()?;
    let strongbox = site.strongbox()?;
    let state = &mut work.state;
    let goes_on = match (kind, args.cancel) {
        (Some(kind), cancel) => {
            let before = standings(&state.ledger()?, kind);
            let after = match cancel {
                true => authorities::uninstall(state, strongbox, kind)?,
                false => {
                    authorities::replace(state, strongbox, &site.cluster, kind, &FreshKeys, now())?
                }
            };
            standings(&after, kind) == before
        }
        (None, true) => {
            token_key::uninstall(state, strongbox)?;
            false
        }
        (None, false) => {
            let before = state.shared_secrets()?;
            before == Some(token_key::replace(state, strongbox, &FreshKeys)?)
        }
    };
    if !options.json && goes_on {
        view::note("a stage of it is under way already: this goes on with it");
    }
    let command = if args.cancel { "pki rotate --cancel" } else { "pki rotate" };
    let command = format!("{command} {}", args.authority);
    let raise = RaiseArgs::patient(args.timeout);
    let ended = carry_through(site, options, &raise, &mut work, &command)?;
    if !options.json {
        let lines = match kind {
            Some(kind) => {
                let mut lines = told(&work.state.ledger()?, kind, now());
                let both = |one: &AuthorityCertificate| one.standing == AuthorityState::Believed;
                if work.state.ledger()?.authorities_of(kind).any(both) && kind.waits_for_people() {
                    // What cannot be asked now is reported by the line itself.
                    let pods = crate::commands::restarting::workloads(site, &mut work.state);
                    let next = lines.pop();
                    lines.extend(
                        pods.unwrap_or_default().into_iter().map(|of| format!("        {of}")),
                    );
                    lines.extend(next);
                }
                lines
            }
            None => token_lines(work.state.shared_secrets()?.unwrap_or_default()),
        };
        for line in lines {
            view::out(&line);
        }
    }
    Ok(ended)
}

fn standings(ledger: &Ledger, kind: AuthorityKind) -> Vec<(String, AuthorityState)> {
    ledger.authorities_of(kind).map(|one| (one.serial.clone(), one.standing)).collect()
}

/// What holds of the key that signs tokens.
fn token_lines(shared: SharedSecrets) -> Vec<String> {
    let good = |what: &str| format!("{} {what}", Style::stdout().good("✓"));
    match shared.service_accounts_turn {
        TokenKeyTurn::Since(since) => {
            let until = since.saturating_add(TOKEN_LASTS).unwrap_or(since);
            vec![
                good("every API server signs service accounts' tokens by the other key"),
                format!(
                    "until   {}: the last token that the one before signed ends then; pods get theirs again within the hour, and a workload that reads it only once may hold one of a year",
                    day(until)
                ),
                format!("next    zoisite pki rotate {TOKENS} ends the acceptance of the old ones"),
            ]
        }
        TokenKeyTurn::Done => {
            vec![good("one key signs service accounts' tokens, and no other is accepted")]
        }
        TokenKeyTurn::Comes | TokenKeyTurn::Signs => Vec::new(),
    }
}

/// People's certificates that rest on another authority of the cluster's than the newest that is believed, each once.
fn people_behind(ledger: &Ledger, now: Timestamp) -> Vec<&LedgerEntry> {
    let ring = ledger.ring(AuthorityKind::Cluster);
    let newest = ring.and_then(|ring| ring.all().copied().max_by_key(|one| one.not_before));
    let Some(newest) = newest else { return Vec::new() };
    let hers = |entry: &&LedgerEntry| {
        matches!(entry.profile, Profile::Person | Profile::Monitoring) && entry.is_in_force()
    };
    // Whoever got one since then was given both authorities to believe.
    let behind = |entry: &&LedgerEntry| match newest.standing {
        AuthorityState::Signs => entry.authority_sha256 != newest.sha256,
        _ => entry.not_before < newest.not_before,
    };
    ledger
        .entries
        .iter()
        .filter(hers)
        .filter(|entry| entry.not_after > now)
        .filter(behind)
        .collect()
}

/// What of a replacement holds now, and what a person has to do before it goes on.
fn told(ledger: &Ledger, kind: AuthorityKind, now: Timestamp) -> Vec<String> {
    let style = Style::stdout();
    let is = |standing| ledger.authorities_of(kind).find(|one| one.standing == standing);
    let good = |what: String| format!("{} {what}", style.good("✓"));
    let mut out = Vec::new();
    let next = format!("next    zoisite pki rotate {kind}");
    let people = |out: &mut Vec<String>| {
        for entry in people_behind(ledger, now) {
            let (name, end) = (&entry.common_name, day(entry.not_after));
            out.push(match entry.profile {
                Profile::Monitoring => format!(
                    "people  the site's monitoring, until {end}: zoisite monitoring --out FOLDER gives what holds afterwards"
                ),
                _ => format!(
                    "people  {name}, until {end}: zoisite access {name} gives what holds afterwards"
                ),
            });
        }
    };
    if is(AuthorityState::Believed).is_some() {
        out.push(good(format!("every host believes both {kind} authorities")));
        people(&mut out);
        out.push("pods    of those that began before now, which connect to the API and read trusted authorities only at their start must be started again first".into());
        out.push(format!("{next} has the other one sign"));
    } else if is(AuthorityState::Spent).is_some() {
        out.push(good(format!(
            "everything that hosts show was issued by the other {kind} authority"
        )));
        people(&mut out);
        out.push(format!("{next} takes the old one out"));
    } else if ledger.replacing().is_none()
        && let Some(signs) = is(AuthorityState::Signs)
    {
        out.push(good(format!(
            "{} signs, until {}, and no other {kind} authority is believed",
            signs.subject,
            day(signs.not_after)
        )));
    }
    out
}
