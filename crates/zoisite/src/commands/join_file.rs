//! Join files: what `raise` would do on an offline host, carried there by hand.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use futures_util::StreamExt as _;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::holdings::{HostHoldings, Part};
use zoisite_core::item::{ComponentSums, KeyText, Pinned};
use zoisite_core::join_file::windows::{self, Brought};
use zoisite_core::join_file::{Addressed, Errand, Presented, Signer, join_file, scripts, verifier};
use zoisite_core::pki::{AuthorityKind, Secret, SecretRef, TrustStage};
use zoisite_core::script::{Identity, Observed};
use zoisite_core::sequence::{ApiLook, Looks, PlanInput, PlanOptions, Sequence, Work, plan};
use zoisite_core::token::{TOKENS_PATH, TokenRecord, TokenState, token_object, token_path};
use zoisite_reach::{ApiClient, ApiResult};
use zoisite_store::join_files::{Brings, Carried, carried, put_carried, signer, word, words};
use zoisite_store::{FreshKeys, State, trust};

use super::login::chosen_hosts;
use super::{node_names, with_api};
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::{Prepared, prepare};
use crate::site::{Site, begin_run, end_run, now, private_folder, write_private};
use crate::surveying::{found_of_told, keeps_out};
use crate::view::{self, count};

/// Write files with which offline hosts do by themselves what a raise would do
///
/// A join file is one script for one host that the cluster file calls offline. It is signed, encrypted with the
/// host's own passphrase, and expires. Run on the host as root, it does what raise would do over SSH, and the
/// host joins. Bring back the report that it leaves: zoisite reports.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite join-file write tern-4 --out stick\n  zoisite join-file passphrase tern-4              # to be carried another way\n  zoisite join-file write --inspect --out stick # only looks: its report tells what the host is like\n\nOn the host:\n  sh verify-join tern-4.join                       # proves it first: zoisite join-file verifier"
)]
pub struct JoinFileArgs {
    #[command(subcommand)]
    what: JoinFileCommand,
}

#[derive(Debug, Subcommand)]
enum JoinFileCommand {
    /// Write join files, with tokens for hosts that have not joined
    Write(WriteArgs),
    /// Write the script that proves a join file before anything of it runs
    ///
    /// A join file checks its own signature, but a forged one would not. This script holds the public key of this
    /// cluster's join files. Bring it to the machine once, by a way that you trust; it holds nothing secret. First-boot
    /// data has it already.
    Verifier {
        /// For Windows, in PowerShell
        #[arg(long)]
        windows: bool,
        /// File to write to [default: the output]
        #[arg(long, short, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Show the passphrase that opens a host's join files
    Passphrase {
        /// The host
        #[arg(value_name = "HOST")]
        host: String,
    },
}

#[derive(Args, Debug)]
struct WriteArgs {
    /// Hosts, with '*' for any text [default: every offline host]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// Folder to write to
    #[arg(long, short, value_name = "DIR", required_unless_present = "show_script")]
    out: Option<PathBuf>,
    /// When they expire, such as 24h or 7d
    #[arg(long, value_name = "TIME", default_value = "72h", value_parser = view::span)]
    expires: i64,
    /// Hosts fetch programs from this web server, which has the components folder
    #[arg(long, value_name = "URL", value_parser = web_address)]
    from: Option<String>,
    /// Write the programs beside the files, into the folder components
    #[arg(long, conflicts_with = "from")]
    with_components: bool,
    /// Architecture of hosts that have not reported yet
    #[arg(long, value_name = "ARCH", default_value = "amd64", value_parser = ["amd64", "arm64"])]
    arch: String,
    /// Take hosts that have not reported yet to be like this one
    #[arg(long, value_name = "HOST")]
    like: Option<String>,
    /// Also for hosts that have joined before, whose machine was reinstalled
    #[arg(long)]
    rejoin: bool,
    /// Change nothing: the host only reports what it is like
    #[arg(long, conflicts_with_all = ["uninstall", "from", "with_components", "rejoin"])]
    inspect: bool,
    /// Uninstall from the host everything that was put there
    #[arg(long, conflicts_with_all = ["from", "with_components", "rejoin"])]
    uninstall: bool,
    /// Show the scripts without keys, and write nothing
    #[arg(long, conflicts_with = "with_components")]
    show_script: bool,
}

impl WriteArgs {
    /// Whether hosts are put right and join, as by a raise.
    fn raises(&self) -> bool {
        !(self.inspect || self.uninstall)
    }
}

/// The address of a folder on a web server.
pub fn web_address(text: &str) -> Result<String, String> {
    let plain = |c: char| c.is_ascii_graphic() && !"'\"\\`$".contains(c);
    match ["http://", "https://"].iter().any(|scheme| text.starts_with(scheme)) {
        true if text.chars().all(plain) => Ok(text.trim_end_matches('/').to_owned()),
        _ => Err("write it as https://SERVER/FOLDER".into()),
    }
}

/// The same, of what is run there: only a server that proves who it is.
pub fn https_address(text: &str) -> Result<String, String> {
    match text.starts_with("http://") {
        true => Err("a join file is fetched over https only: https://SERVER/FOLDER".into()),
        false => web_address(text),
    }
}

pub fn run(options: &Options, args: &JoinFileArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    match &args.what {
        JoinFileCommand::Write(args) => write(&site, options, args),
        JoinFileCommand::Verifier { windows, out } => {
            let mut work = site.briefly()?;
            let by = signer(&mut work.state, site.strongbox()?, &FreshKeys)?;
            let text = if *windows { windows::verifier(&by) } else { verifier(&by) };
            match out {
                Some(path) => {
                    fs::write(path, text)
                        .map_err(|error| Failure::file("writing", path, &error))?;
                    view::out(&format!("Wrote {}.", path.display()));
                }
                None => view::verbatim(&text),
            }
            Ok(ExitCode::SUCCESS)
        }
        JoinFileCommand::Passphrase { host } => {
            let host = site.host_named(host)?;
            let mut work = site.briefly()?;
            let Some(word) = word(&mut work.state, site.strongbox()?, &host)? else {
                return Err(Failure::new(
                    Kind::Usage,
                    format!("{host} has no passphrase: no join file was written for it"),
                    format!("zoisite join-file write {host} --out DIR"),
                ));
            };
            if options.json {
                view::json(&json!({"host": host, "passphrase": word.expose()}));
            } else {
                view::verbatim(word.expose());
            }
            view::note(&format!(
                "anyone who has it and a join file of {host} can read the keys in it: carry both by different ways"
            ));
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// The hosts that words name, all of them out of reach.
pub fn offline<'a>(site: &'a Site, words: &[String]) -> Result<Vec<&'a Host>, Failure> {
    let mut hosts = chosen_hosts(site, words)?;
    let dialled: Vec<HostName> =
        hosts.iter().filter(|host| !host.offline).map(|host| host.name.clone()).collect();
    hosts.retain(|host| host.offline);
    if !words.is_empty() && !dialled.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            format!("{} is not offline, by the cluster file", view::few(&dialled)),
            "zoisite raise does it there; for an offline host: offline = true, under [hosts]",
        ));
    }
    if hosts.is_empty() {
        return Err(Failure::new(
            Kind::Usage,
            "the cluster file has no offline host",
            "say it under [hosts]: tern-4 = { address = \"…\", offline = true }",
        ));
    }
    Ok(hosts)
}

/// All programs for Windows that are not among the components are named at once.
fn lack_nothing<'a>(
    holdings: impl Iterator<Item = &'a HostHoldings>,
    sums: &ComponentSums,
) -> Result<(), Failure> {
    let wanted = holdings.filter_map(|host| host.windows.as_ref());
    let lacks = |pinned: &&Pinned| sums.sha256_on_windows(pinned).is_none();
    let missing: BTreeSet<String> = wanted
        .flat_map(|windows| windows.programs().filter(lacks).map(Pinned::path_on_windows))
        .collect();
    match missing.is_empty() {
        true => Ok(()),
        false => Err(Failure::new(
            Kind::Usage,
            format!(
                "programs for Windows are not among the components: {}",
                missing.into_iter().collect::<Vec<_>>().join(", ")
            ),
            "zoisite components fetch brings them",
        )),
    }
}

/// What goes into the join file of one host.
struct Draft<'a> {
    host: &'a Host,
    holdings: HostHoldings,
    sequence: Sequence,
    arch: String,
    /// Whether it has still to join.
    joins: bool,
}

impl Draft<'_> {
    /// What its file is called.
    fn file(&self) -> String {
        let ending = if self.host.is_linux() { "join" } else { "ps1" };
        format!("{}.{ending}", self.host.name)
    }

    /// Whether it makes keys of which nothing is signed yet: its file brings it so far that its report asks for that.
    fn asks_first(&self) -> bool {
        self.sequence
            .steps
            .iter()
            .any(|step| matches!(&step.work, Work::Act(stretch) if stretch.awaits_signatures()))
    }
}

fn write(site: &Site, options: &Options, args: &WriteArgs) -> Result<ExitCode, Failure> {
    let hosts = offline(site, &args.hosts)?;
    if args.raises() {
        site.raised_state()?;
    }
    let mut work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let mut draft = site.draft()?;
    let prepared = prepare(site, &mut draft, Part::ALL)?;
    let sums = match args.raises() {
        true => site.sums()?,
        false => site.sums_if_any()?,
    };
    let like = args.like.as_deref().map(|name| site.host_named(name)).transpose()?;
    site.keep(&mut draft)?;
    // What is only taken to be so is not kept.
    let mut taken = site.draft()?;
    let all = prepared.offline(site, &mut taken, like.as_ref())?;
    let state = &mut work.state;
    let authority = prepared.ledger.bundle(AuthorityKind::Cluster).unwrap_or_default();
    let brought = Brought { sums: &sums, from: args.from.as_deref(), authority: &authority };
    if args.raises() {
        lack_nothing(hosts.iter().filter_map(|host| all.host(&host.name)), &sums)?;
    }
    let nodes = match args.raises() {
        true => known_nodes(site, state)?,
        false => BTreeSet::new(),
    };
    let facts = taken.facts()?;
    let trust = prepared.ledger.trust_of_nodes();
    // Who was let in by the authority that goes asks the other one.
    let all_join =
        args.rejoin || prepared.ledger.stage() == Some(TrustStage::SignBy(AuthorityKind::Cluster));
    let mut drafts = Vec::new();
    for host in hosts {
        let Some(holdings) = all.host(&host.name) else { continue };
        let arch = facts.get(&host.name).map(|facts| facts.arch.clone());
        let arch = arch.filter(|arch| !arch.is_empty()).unwrap_or_else(|| args.arch.clone());
        let joins = all_join || !nodes.contains(host.name.as_str());
        let sequence = match args.raises() && host.is_linux() {
            true => steps(&prepared, holdings, &sums, (&arch, joins))?,
            false => Sequence::default(),
        };
        drafts.push(Draft { host, holdings: holdings.clone(), sequence, arch, joins });
    }
    let Some(out) = args.out.as_deref().filter(|_| !args.show_script) else {
        return show(site, state, &drafts, args, brought);
    };
    private_folder(out)?;
    let names: Vec<HostName> = drafts.iter().map(|draft| draft.host.name.clone()).collect();
    site.recipients(state)?;
    let strongbox = site.strongbox()?;
    let by = signer(state, strongbox, &FreshKeys)?;
    let words = words(state, strongbox, &names)?;
    let run = begin_run(state, &format!("join-file write {}", view::few(&names)))?;
    let done = (|| {
        let tokens = match args.raises() {
            true => {
                let joining = drafts.iter().filter(|draft| draft.joins);
                let joining = joining.map(|draft| draft.host.name.clone());
                let all = names.iter().cloned().collect();
                tokens(site, state, &all, (joining, token_object), args.expires)?
            }
            false => Tokens::new(),
        };
        let made = now();
        let expires =
            made.saturating_add(SignedDuration::from_secs(args.expires)).unwrap_or(Timestamp::MAX);
        let files = seal(
            site,
            state,
            &drafts,
            (args, brought),
            (&by, &words, &tokens),
            (run.generation, made, expires),
        )?;
        keep(state, &drafts, args, (&tokens, &trust), (run.generation, made, expires))?;
        for (file, text) in &files {
            write_private(&out.join(file), text.expose())?;
        }
        if args.with_components {
            with_components(site, &drafts, out)?;
        }
        Ok::<_, Failure>((files.len(), expires))
    })();
    let outcome = match &done {
        Ok((files, _)) => format!("wrote {}", count(*files, "join file")),
        Err(failure) => format!("failed: {}", failure.summary()),
    };
    end_run(state, run, &outcome)?;
    let (_, expires) = done?;
    tell(options, args, out, &drafts, (&by, expires));
    for draft in drafts.iter().filter(|draft| draft.asks_first()) {
        view::note(&format!(
            "{} makes its keys, and asks for them to be signed: zoisite reports read takes its report in, and its next join file goes on",
            draft.host.name
        ));
    }
    if args.raises() {
        for found in found_of_told(site, state, &names)?.iter().filter(|found| keeps_out(found)) {
            let host = found.host.as_ref().map_or("", HostName::as_str);
            view::note(&format!(
                "{host}, by its last report: {}; fix there first: {}",
                found.message, found.fix
            ));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What would be sealed, for reading it first.
fn show(
    site: &Site,
    state: &mut State,
    drafts: &[Draft<'_>],
    args: &WriteArgs,
    brought: Brought<'_>,
) -> Result<ExitCode, Failure> {
    let identity = state.cluster_id()?;
    let made = now();
    for draft in drafts {
        let host = draft.host;
        let to = Addressed {
            cluster: &site.cluster,
            identity: &identity,
            host,
            number: 0,
            made,
            expires: made,
        };
        if let Some(windows) = &draft.holdings.windows {
            let shown =
                windows::sealed(to, errand(args, draft, None), windows, brought, KeyText::Masked)
                    .map_err(|label| no_key(&host.name, &label))?;
            view::out(&format!("{shown:#}"));
            continue;
        }
        let shown = scripts(to, errand(args, draft, None), &draft.holdings, KeyText::Masked)
            .map_err(|label| no_key(&host.name, &label))?;
        for (_, script) in shown {
            view::verbatim(script.expose());
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn no_key(host: &HostName, label: &str) -> Failure {
    Failure::new(
        Kind::Run,
        format!("writing the join file of {host}: the strongbox does not hold {label}"),
        "zoisite pki issue makes what is missing",
    )
}

/// The nodes that the cluster knows: who is in needs no token.
fn known_nodes(site: &Site, state: &mut State) -> Result<BTreeSet<String>, Failure> {
    let mut out = BTreeSet::new();
    with_api(site, state, async |api: &ApiClient| {
        out = node_names(api).await?;
        Ok(())
    })?;
    Ok(out)
}

/// What a run would do on a host of which nothing is known but what it is like: everything is put there. What stands there
/// already stays as it is.
fn steps(
    prepared: &Prepared,
    holdings: &HostHoldings,
    sums: &ComponentSums,
    (arch, joins): (&str, bool),
) -> Result<Sequence, Failure> {
    let holdings = zoisite_core::holdings::Holdings { hosts: vec![holdings.clone()] };
    let name = holdings.hosts[0].host.clone();
    let identity = if joins { Identity::Absent } else { Identity::Until(Timestamp::MAX) };
    let seen =
        Observed { init: "systemd".into(), arch: arch.into(), identity, ..Observed::default() };
    let looks = Looks::from([(name.clone(), Ok(seen))]);
    let api = match joins {
        true => ApiLook::Answered(Box::default()),
        // Its node is known, and what the API would say of it is a run's to put right.
        false => ApiLook::Absent,
    };
    let nodes: Vec<_> = prepared.nodes.iter().filter(|node| node.host == name).cloned().collect();
    let departed = prepared.departed.keys().cloned().collect();
    let input = PlanInput {
        cluster: &prepared.cluster,
        aim: &prepared.aim,
        real: &prepared.real,
        holdings: &holdings,
        looks: &looks,
        sums,
        api: &api,
        objects: &[],
        shelf: &[],
        nodes: &nodes,
        tokens: &[],
        accepted: &[],
        identity: &prepared.identity,
        begun: prepared.begun.as_ref(),
        marked: prepared.marked,
        departed: &departed,
        now: now(),
    };
    let sequence = plan(input, PlanOptions::default())?;
    if !sequence.left_out.is_empty() {
        return Err(Failure::troubles(&sequence.left_out));
    }
    Ok(sequence)
}

/// How a token is published: what it is good for.
type TokenObject = fn(&TokenRecord, &Secret) -> Value;

/// Tokens for hosts, published; those of earlier join files of `hosts` are taken back.
pub fn tokens(
    site: &Site,
    state: &mut State,
    hosts: &BTreeSet<HostName>,
    (joining, object): (impl Iterator<Item = HostName>, TokenObject),
    seconds: i64,
) -> Result<Tokens, Failure> {
    let mut out = Tokens::new();
    let recipients = site.recipients(state)?;
    let earlier: BTreeSet<String> = carried(state)?
        .into_iter()
        .filter(|(host, _)| hosts.contains(host))
        .filter_map(|(_, carried)| carried.token)
        .collect();
    let usable = |token: &TokenRecord| {
        earlier.contains(&token.id) && token.state(now()) == TokenState::Usable
    };
    let old: Vec<TokenRecord> = state.tokens()?.into_iter().filter(usable).collect();
    for host in joining {
        let hosts = vec![host.clone()];
        let made = trust::make_join_token(state, &recipients, hosts, 1, seconds, now(), false)?;
        out.insert(host, made);
    }
    publish(site, state, (&out, object), old)?;
    Ok(out)
}

/// Makes tokens known to the API, and takes others back.
fn publish(
    site: &Site,
    state: &mut State,
    (made, object): (&Tokens, TokenObject),
    old: Vec<TokenRecord>,
) -> Result<(), Failure> {
    let published = with_api(site, state, async |api: &ApiClient| {
        let publish = made.values().map(|(record, token)| async move {
            api.create(TOKENS_PATH, &object(record, token)).await.map(|_| ())
        });
        let gone = old.iter().map(|token| async move { api.delete(&token_path(&token.id)).await });
        all_done(publish).await?;
        all_done(gone).await
    });
    let spent = match &published {
        Ok(()) => old,
        // What nobody has must not be listed as usable.
        Err(_) => made.values().map(|(record, _)| record.clone()).collect(),
    };
    for token in spent {
        state.put_token(&TokenRecord { gone: Some(now()), ..token }, None)?;
    }
    published
}

/// So many requests at once.
const AT_ONCE: usize = 16;

/// Makes requests, some at once; nothing more is awaited after one that failed.
async fn all_done(requests: impl Iterator<Item: Future<Output = ApiResult<()>>>) -> ApiResult<()> {
    let mut all = futures_util::stream::iter(requests).buffer_unordered(AT_ONCE);
    while let Some(done) = all.next().await {
        done?;
    }
    Ok(())
}

/// The token of each host that has still to join.
pub type Tokens = BTreeMap<HostName, (TokenRecord, Secret)>;

fn seal(
    site: &Site,
    state: &mut State,
    drafts: &[Draft<'_>],
    (args, brought): (&WriteArgs, Brought<'_>),
    (by, words, tokens): (&Signer, &BTreeMap<HostName, Secret>, &Tokens),
    (number, made, expires): (u64, Timestamp, Timestamp),
) -> Result<Vec<(String, Secret)>, Failure> {
    let identity = state.cluster_id()?;
    let strongbox = site.strongbox()?;
    let mut kept = BTreeMap::new();
    for draft in drafts {
        kept.extend(site.keys_of(&draft.sequence, state, strongbox)?);
        if let Some(own) = draft.holdings.windows.as_ref().filter(|_| args.raises()) {
            kept.extend(site.keys_of_windows(own, state, strongbox)?);
        }
    }
    let open = |secret: &SecretRef| match secret {
        SecretRef::JoinToken(host) => tokens.get(host).map(|(_, token)| token.clone()),
        other => kept.get(other).cloned(),
    };
    let one = |draft: &Draft<'_>| {
        let host = draft.host;
        let to =
            Addressed { cluster: &site.cluster, identity: &identity, host, number, made, expires };
        let token = tokens.get(&host.name).filter(|_| draft.asks_first());
        let presents = token.map(|(_, token)| Presented { authority: brought.authority, token });
        let errand = errand(args, draft, presents);
        let how = (KeyText::Opened(&open), &words[&host.name], by);
        let text = match &draft.holdings.windows {
            None => join_file(to, errand, &draft.holdings, how),
            Some(own) => windows::join_file(to, errand, own, brought, how),
        };
        Ok((draft.file(), text.map_err(|label| no_key(&host.name, &label))?))
    };
    drafts.iter().map(one).collect()
}

fn errand<'a>(args: &'a WriteArgs, draft: &'a Draft<'_>, by: Option<Presented<'a>>) -> Errand<'a> {
    match (args.inspect, args.uninstall) {
        (true, _) => Errand::Look,
        (_, true) => Errand::Uninstall,
        _ => Errand::Join {
            sequence: &draft.sequence,
            arch: &draft.arch,
            from: args.from.as_deref(),
            by,
        },
    }
}

fn keep(
    state: &mut State,
    drafts: &[Draft<'_>],
    args: &WriteArgs,
    (tokens, trust): (&Tokens, &str),
    (number, made, expires): (u64, Timestamp, Timestamp),
) -> Result<(), Failure> {
    let mut known = carried(state)?;
    let all: Vec<(HostName, Carried)> = drafts
        .iter()
        .map(|draft| {
            let host = draft.host.name.clone();
            let before = known.remove(&host);
            let (report, brought, holds) = match before {
                Some(Carried { report, brings, holds, .. }) => (report, brings, holds),
                None => (None, None, None),
            };
            let token = tokens.get(&host).map(|(record, _)| record.id.clone());
            let brings = match () {
                () if args.raises() => Some(Brings { number, trust: trust.to_owned() }),
                () if args.uninstall => None,
                () => brought,
            };
            let errand = errand(args, draft, None).what().to_owned();
            (host, Carried { number, errand, made, expires, token, report, brings, holds })
        })
        .collect();
    Ok(put_carried(state, all)?)
}

/// The programs that the files name, each once, by hard links where that is possible.
fn with_components(site: &Site, drafts: &[Draft<'_>], out: &Path) -> Result<(), Failure> {
    let from = site.components_folder();
    let mut wanted = BTreeSet::new();
    for draft in drafts {
        for step in &draft.sequence.steps {
            if let Work::Upload { components, .. } = &step.work {
                wanted.extend(components.iter().map(|(c, _)| c.pinned.path(&draft.arch)));
            }
        }
        let own = draft.holdings.windows.iter().flat_map(|windows| windows.programs());
        wanted.extend(own.map(Pinned::path_on_windows));
    }
    for path in wanted {
        let (source, target) = (from.join(&path), out.join("components").join(&path));
        let failed = |error: std::io::Error| Failure::file("writing", &target, &error);
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).map_err(failed)?;
        }
        if target.exists() {
            fs::remove_file(&target).map_err(failed)?;
        }
        if fs::hard_link(&source, &target).is_err() {
            fs::copy(&source, &target).map_err(failed)?;
        }
    }
    Ok(())
}

fn tell(
    options: &Options,
    args: &WriteArgs,
    out: &Path,
    drafts: &[Draft<'_>],
    (by, expires): (&Signer, Timestamp),
) {
    let names: Vec<&HostName> = drafts.iter().map(|draft| &draft.host.name).collect();
    if options.json {
        let files: Vec<_> = drafts
            .iter()
            .map(|draft| {
                let file = out.join(draft.file());
                json!({"host": draft.host.name, "file": file, "joins": draft.joins,
                       "does": errand(args, draft, None).what(), "arch": draft.arch})
            })
            .collect();
        view::json(&json!({"files": files, "expires": expires, "signer": by.fingerprint()}));
        return;
    }
    view::out(&format!(
        "Wrote {} to {}, until {}, signed by {}.",
        count(names.len(), "join file"),
        out.display(),
        view::minute(expires),
        by.fingerprint()
    ));
    if let [one] = drafts
        && !one.host.is_linux()
    {
        let one = &one.host.name;
        view::out(&format!(
            "On {one}, as an administrator: powershell -ExecutionPolicy Bypass -File {one}.ps1. It asks for its passphrase: zoisite join-file passphrase {one} shows that."
        ));
    } else if let [one] = names[..] {
        view::out(&format!(
            "On {one}, as root: sh verify-join {one}.join (zoisite join-file verifier). It asks for its passphrase: zoisite join-file passphrase {one} shows that."
        ));
    } else {
        view::out(
            "On each host, as root: sh verify-join HOST.join (zoisite join-file verifier). It asks for its passphrase: zoisite join-file passphrase HOST shows that.",
        );
    }
    if args.raises() && !args.with_components && args.from.is_none() {
        view::note(
            "programs are not with them: --with-components puts them beside the files, --from URL has hosts fetch them",
        );
    }
    if args.raises() && drafts.iter().any(|draft| draft.joins) {
        view::out("Once a host has asked, zoisite raise signs what it asks for and lets it in.");
    }
    view::out("What a host leaves behind as HOST.report: zoisite reports read FILE.");
}
