use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::TOKEN_PATH;
use zoisite_core::token::{TOKENS_PATH, TokenRecord, TokenState, token_object, token_path};
use zoisite_reach::ApiClient;
use zoisite_store::{State, trust};

use super::with_api;
use crate::failure::{Failure, Kind};
use crate::handing;
use crate::options::Options;
use crate::site::{Private, Site, Working, now};
use crate::view::{self, Style, count, table::ranked};

/// List, issue and revoke join tokens
///
/// Lists for whom each token is, when it expires, who used it and its state; never its secret. A raise makes a
/// token for each host that it joins and revokes it afterwards, so this command is for hosts that are set up by
/// other means. The next raise lets them in.
#[derive(Args, Debug)]
#[command(
    args_conflicts_with_subcommands = true,
    after_help = "Examples:\n  zoisite tokens\n  zoisite tokens issue tern-4 --expires 30m --out token\n  zoisite tokens issue --hosts 20\n  zoisite tokens issue --hosts 20 --expires 12h --unless-good-for 3h --pipe-to ./into-the-store   # by a timer\n  zoisite tokens revoke abc123"
)]
pub struct TokensArgs {
    #[command(subcommand)]
    what: Option<TokensCommand>,
    /// Also those that can no longer be used
    #[arg(long)]
    all: bool,
}

#[derive(Debug, Subcommand)]
enum TokensCommand {
    /// Make a token, and write it to standard output or a file
    Issue {
        /// The host that may join with it
        #[arg(value_name = "HOST", required_unless_present = "hosts", conflicts_with = "hosts")]
        host: Option<String>,
        /// For this many hosts of the cluster file, whichever they are
        #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..=5_000))]
        hosts: Option<u32>,
        /// When it expires, such as 30m or 2h
        #[arg(long, value_name = "TIME", default_value = "15m", value_parser = view::span)]
        expires: i64,
        /// Write it to this file (0600) instead of standard output
        #[arg(long, value_name = "FILE")]
        out: Option<std::path::PathBuf>,
        /// Pipe it to this command, such as one of a secret store
        #[arg(long, value_name = "COMMAND", conflicts_with = "out")]
        pipe_to: Option<String>,
        /// Only if no such token is valid for this long, such as 3h: for a timer
        #[arg(long, value_name = "TIME", value_parser = view::span)]
        unless_good_for: Option<i64>,
    },
    /// Revoke a token, here and in the cluster
    Revoke {
        /// Its id: the part before the dot
        #[arg(value_name = "ID")]
        id: String,
    },
}

pub fn run(options: &Options, args: &TokensArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    if let Some(TokensCommand::Issue { expires, unless_good_for: Some(good), .. }) = &args.what
        && good >= expires
    {
        return Err(Failure::new(
            Kind::Usage,
            "no token that --expires makes is good for as long as --unless-good-for asks: one would be made each time",
            "let --expires be longer, such as --expires 12h --unless-good-for 3h",
        ));
    }
    let state = site.raised_state()?;
    let Some(what) = &args.what else { return list(options, &state, args.all) };
    let mut work = Working::briefly(state)?;
    let state = &mut work.state;
    match what {
        TokensCommand::Issue { host, hosts, expires, out, pipe_to, unless_good_for } => {
            let named = host.as_deref().map(|name| site.host_named(name)).transpose()?;
            let batch = Batch {
                hosts: named.into_iter().collect(),
                uses: hosts.unwrap_or(1),
                expires: *expires,
                unless_good_for: *unless_good_for,
            };
            issue(&site, state, options, &batch, (out.as_deref(), pipe_to.as_deref()))
        }
        TokensCommand::Revoke { id } => {
            let found = state.tokens()?.into_iter().find(|token| token.id == *id);
            let Some(record) = found else {
                return Err(Failure::new(
                    Kind::Usage,
                    format!("there is no token {id}"),
                    "zoisite tokens --all shows every one",
                ));
            };
            with_api(&site, state, async |api: &ApiClient| api.delete(&token_path(id)).await)?;
            let gone = record.gone.or(Some(now()));
            state.put_token(&TokenRecord { gone, ..record }, None)?;
            view::note(&format!("the token {id} is gone, here and in the cluster"));
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// For whom a token is, and for how long.
struct Batch {
    hosts: Vec<HostName>,
    uses: u32,
    expires: i64,
    unless_good_for: Option<i64>,
}

impl Batch {
    /// A token of the same kind that can be used for long enough yet, by hosts that are still to come.
    fn good<'a>(&self, tokens: &'a [TokenRecord], now: jiff::Timestamp) -> Option<&'a TokenRecord> {
        let until = now + jiff::SignedDuration::from_secs(self.unless_good_for?);
        tokens.iter().find(|token| {
            let alike = token.hosts == self.hosts && token.uses == self.uses && !token.by_run;
            alike && token.state(now) == TokenState::Usable && token.expires >= until
        })
    }
}

fn issue(
    site: &Site,
    state: &mut State,
    options: &Options,
    batch: &Batch,
    (out, pipe_to): (Option<&std::path::Path>, Option<&str>),
) -> Result<ExitCode, Failure> {
    if let Some(token) = batch.good(&state.tokens()?, now()) {
        let left = token.uses as usize - token.used.len();
        view::note(&format!(
            "{} can be used until {}, by {}: none was made",
            token.id,
            view::minute(token.expires),
            count(left, "more host")
        ));
        return Ok(ExitCode::SUCCESS);
    }
    // Where it goes is sure before it is made and published.
    let place = out.map(Private::begin).transpose()?;
    let recipients = site.recipients(state)?;
    let (hosts, uses) = (batch.hosts.clone(), batch.uses);
    let (record, token) =
        trust::make_join_token(state, &recipients, hosts, uses, batch.expires, now(), false)?;
    let object = token_object(&record, &token);
    let gone = |state: &mut State| {
        // What nobody has must not be listed as usable.
        let gone = TokenRecord { gone: Some(now()), ..record.clone() };
        let _ = state.put_token(&gone, None);
    };
    with_api(site, state, async |api: &ApiClient| {
        api.create(TOKENS_PATH, &object).await.map(|_| ())
    })
    .inspect_err(|_| gone(state))?;
    match (place, pipe_to) {
        (Some(file), _) => file.end(token.expose())?,
        (None, Some(command)) => {
            if let Err(failure) = handing::pipe_to(command, "the token", token.expose()) {
                let path = token_path(&record.id);
                let _ = with_api(site, state, async |api: &ApiClient| api.delete(&path).await);
                gone(state);
                return Err(failure);
            }
        }
        (None, None) if options.json => {
            view::json(
                &json!({"id": record.id, "token": token.expose(), "expires": record.expires}),
            );
        }
        (None, None) => view::verbatim(token.expose()),
    }
    view::note(&format!(
        "for {}, until {}; it is published, and anyone who has it may ask for a node's certificate",
        record.for_whom(),
        view::minute(record.expires)
    ));
    view::note(&format!(
        "put it into {TOKEN_PATH} on the host, by standard input (sudo writes commands into the journal), and start the kubelet; the next raise lets it in"
    ));
    Ok(ExitCode::SUCCESS)
}

fn list(options: &Options, state: &State, all: bool) -> Result<ExitCode, Failure> {
    let now = now();
    let tokens: Vec<TokenRecord> = state
        .tokens()?
        .into_iter()
        .filter(|token| all || token.state(now) == TokenState::Usable)
        .collect();
    if options.json {
        let tokens: Vec<_> = tokens
            .iter()
            .map(|token| {
                json!({"id": token.id, "hosts": token.hosts, "uses": token.uses, "made": token.made,
                       "expires": token.expires, "used": token.used, "state": token.state(now)})
            })
            .collect();
        view::json(&json!({"tokens": tokens}));
        return Ok(ExitCode::SUCCESS);
    }
    view::out(&render(&tokens, now, Style::stdout()));
    if !all {
        view::note("zoisite tokens --all shows those that were used, too");
    }
    Ok(ExitCode::SUCCESS)
}

fn render(tokens: &[TokenRecord], now: jiff::Timestamp, style: Style) -> String {
    if tokens.is_empty() {
        return format!("{} no token can be used", style.good("✓"));
    }
    let rows = tokens.iter().map(|token| {
        let used: Vec<String> = token.used.iter().map(|(host, _)| host.to_string()).collect();
        let state = match token.state(now) {
            TokenState::Usable => style.warn("usable"),
            other => other.to_string(),
        };
        vec![
            token.id.clone(),
            token.for_whom(),
            view::minute(token.made),
            view::minute(token.expires),
            if used.is_empty() { "–".into() } else { used.join(", ") },
            state,
        ]
    });
    let usable = tokens.iter().filter(|token| token.state(now) == TokenState::Usable).count();
    let columns =
        [("id", 0), ("for", 0), ("made", 2), ("expires", 0), ("used by", 1), ("state", 0)];
    let table = ranked(&columns, rows);
    format!("{table}\n{} can be used", count(usable, "token"))
}
