use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use futures_util::StreamExt as _;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::login::{Opened, Stage, Stopped, WayIn, fingerprint, is_changed_key};
use zoisite_core::pki::Secret;
use zoisite_reach::{Hosts, OpenSsh, Reach as _, Target};
use zoisite_store::State;

use super::{chosen_to_dial, judged, tell, ways_in};
use crate::asked;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::person;
use crate::road;
use crate::site::{Site, begin_run, end_run};
use crate::view;

/// Set up the login on hosts that still ask for a password: your SSH key, and sudo
///
/// Shows the keys of new hosts and asks for the password once. Then it places your public key and, for users
/// other than root, a sudo rule without password, and proves both by a new login. The password is tried on one
/// host first, and is not stored. Hosts where you can log in already are left alone.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite login setup                    # every host that still asks\n  zoisite login setup heron 'tern-*' --key ~/.ssh/saltmarsh.pub\n  zoisite login setup heron --undo"
)]
pub struct SetupArgs {
    /// Hosts, with '*' for any text [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// Public key to place [default: the first of your agent, or of your SSH configuration]
    #[arg(long, value_name = "FILE", conflicts_with = "undo")]
    key: Option<PathBuf>,
    /// Accept the keys of new hosts without asking: for networks that you trust
    #[arg(long, conflicts_with = "undo")]
    accept_new: bool,
    /// Remove what was placed
    #[arg(long)]
    undo: bool,
}

/// Hosts that are opened at once.
const AT_ONCE: usize = 16;
/// So many hosts stand behind one another at most.
const DEEPEST: usize = 4;
/// So many hosts may refuse the password: accounts that many machines share are locked after a few tries.
const REFUSALS: usize = 2;

pub fn run(options: &Options, args: &SetupArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let hosts = chosen_to_dial(&site, &args.hosts)?;
    if args.undo {
        return crate::commands::block_on(undo(&site, options, &hosts, !args.hosts.is_empty()))?;
    }
    crate::commands::block_on(open(&site, options, args, &hosts))?
}

/// Looks afresh, without questions.
async fn look(site: &Site, hosts: &[HostName]) -> Result<Vec<WayIn>, Failure> {
    let reach = road::hosts_without_prompts(site, None)?;
    let ways = ways_in(site, &reach, hosts).await;
    reach.close().await;
    ways
}

/// Whether a host is stopped at a stage that a password, or a key that is accepted, gets one past.
fn stopped_at(way: &WayIn, stages: &[Stage]) -> bool {
    let can = |stopped: &Stopped| {
        stages.contains(&stopped.stage) && !is_changed_key(&stopped.trouble.answer)
    };
    way.stopped.as_ref().is_some_and(can)
}

async fn open(
    site: &Site,
    options: &Options,
    args: &SetupArgs,
    hosts: &[HostName],
) -> Result<ExitCode, Failure> {
    let mut ways = look(site, hosts).await?;
    let (targets, carrier) = road::carrier(site, &BTreeMap::new())?;
    let carrier = carrier.without_prompts();
    // A host behind another one shows its key once that one is known.
    let mut accepted = false;
    for _ in 0..DEEPEST {
        let new: Vec<&Target> = with_hosts(&targets, &ways, &[Stage::HostKey]);
        if new.is_empty() || !accept(&carrier, &new, args.accept_new).await? {
            break;
        }
        accepted = true;
        ways = look(site, hosts).await?;
    }
    let closed: Vec<Target> =
        with_hosts(&targets, &ways, &[Stage::Login, Stage::Root]).into_iter().cloned().collect();
    let mut did = BTreeMap::new();
    if !closed.is_empty() {
        let key = key_line(&carrier, args, &closed[0]).await?;
        let names: Vec<&str> = closed.iter().map(|target| target.name.as_str()).collect();
        let password = ask_password(&names)?;
        let mut named = Vec::new();
        for target in &closed {
            named.push((target.name.clone(), person::login_user(&carrier, target).await?));
        }
        let mut work = site.briefly()?;
        let doors = Doors::of(site, password)?;
        let run = begin_run(&mut work.state, &format!("login setup {}", view::few(&names)))?;
        let done = open_all(&doors, &named, &key, &mut work.state).await;
        doors.close().await;
        let mut done = done?;
        let well = done.values().filter(|result| result.is_ok()).count();
        let outcome = format!("opened {} of {}", well, view::count(closed.len(), "host"));
        end_run(&mut work.state, run, &outcome)?;
        for way in ways.iter_mut().filter(|way| stopped_at(way, &[Stage::Login, Stage::Root])) {
            match done.remove(&way.host) {
                Some(Ok(now)) => {
                    did.insert(now.host.clone(), "opened now");
                    *way = now;
                }
                Some(Err(trouble)) => {
                    let trouble = match refuses(&trouble) {
                        true => told_once(trouble),
                        false => trouble,
                    };
                    if let Some(stopped) = &mut way.stopped {
                        stopped.trouble = trouble;
                    }
                }
                None => {
                    did.insert(way.host.clone(), "not tried: another refused the password");
                }
            }
        }
    }
    tell(options, &ways, &did);
    if closed.is_empty()
        && !accepted
        && ways.iter().all(|way| way.stopped.is_none())
        && !options.json
    {
        view::out("There was nothing to open.");
    }
    judged(&ways)
}

fn with_hosts<'a>(targets: &'a [Target], ways: &[WayIn], stages: &[Stage]) -> Vec<&'a Target> {
    let stopped: BTreeSet<&HostName> =
        ways.iter().filter(|way| stopped_at(way, stages)).map(|way| &way.host).collect();
    targets.iter().filter(|target| stopped.contains(&target.name)).collect()
}

/// What came of opening each host: how far it lets one in now.
type Done = BTreeMap<HostName, Result<WayIn, Trouble>>;

/// The way in with the password, and the one without.
struct Doors {
    with_password: Hosts,
    without_prompts: Hosts,
}

impl Doors {
    fn of(site: &Site, password: Secret) -> Result<Self, Failure> {
        let (targets, carrier) = road::carrier(site, &BTreeMap::new())?;
        let carrier = carrier
            .with_password(password.clone())
            .map_err(|error| Failure::file("making a socket in", "/tmp".as_ref(), &error))?;
        let with_password = road::hosts_over(site, targets, carrier, 0, Some(password));
        Ok(Self { with_password, without_prompts: road::hosts_without_prompts(site, None)? })
    }

    /// Opens a host and proves that it is open; what does not open it is taken back.
    async fn open(
        &self,
        host: &HostName,
        about: &Opened,
        key: &str,
    ) -> (HostName, Option<Opened>, Result<WayIn, Trouble>) {
        let mut opened = match self.with_password.open(host, &about.user, key).await {
            Ok(opened) => opened,
            // How far it came is not known where the connection broke off.
            Err(trouble) => return (host.clone(), Some(about.clone()), Err(trouble)),
        };
        // What an earlier try placed is ours to take back too.
        opened.key = opened.key.or_else(|| about.key.clone());
        let way = self.without_prompts.way_in(host).await;
        let closed = [Stage::Login, Stage::Root];
        match &way.stopped {
            Some(Stopped { stage, trouble }) if closed.contains(stage) => {
                let afresh = match stage {
                    Stage::Login => "logging in afresh by the key that was placed",
                    _ => "becoming root without a password, by the rule that was placed",
                };
                let attempted = format!("{afresh} {PASSWORD_WAS_RIGHT}");
                let trouble = Trouble { attempted, ..trouble.clone() };
                let mut trouble = trouble.fix(
                    "the server of SSH or sudo does not heed what was placed, and it was removed: look at sshd -T and sudo -l there",
                );
                match self.with_password.close_again(host, &opened).await {
                    Ok(()) => (host.clone(), None, Err(trouble)),
                    Err(why) => {
                        trouble.evidence.push(format!("taking it back: {}", why.answer));
                        (host.clone(), Some(opened), Err(trouble))
                    }
                }
            }
            _ => (host.clone(), Some(opened), Ok(way)),
        }
    }

    async fn close(&self) {
        self.with_password.close().await;
        self.without_prompts.close().await;
    }
}

/// How a step ends, in words, that came after the password was taken.
const PASSWORD_WAS_RIGHT: &str = "(the password was right)";

/// Whether a host refused the password itself.
fn refuses(trouble: &Trouble) -> bool {
    if trouble.attempted.ends_with(PASSWORD_WAS_RIGHT) {
        return false;
    }
    let words = ["Permission denied", "becoming root with the password"];
    words.iter().any(|word| trouble.answer.contains(word) || trouble.attempted.contains(word))
}

/// What there is to know of a password that was refused.
fn told_once(trouble: Trouble) -> Trouble {
    let cause = "the password is not this user's, or the host takes none; it was sent once";
    Trouble { cause: Some(cause.to_owned()), ..trouble }
        .fix("run the same command again with the right one; hosts with passwords of their own are named one by one")
}

/// Opens one host, and the others once that one has taken the password.
async fn open_all(
    doors: &Doors,
    closed: &[(HostName, String)],
    key: &str,
    state: &mut State,
) -> Result<Done, Failure> {
    let mut done = Done::new();
    let mut refused = 0;
    let known = state.opened()?;
    // The first one by itself, the others side by side.
    let (first, others) = closed.split_at(1.min(closed.len()));
    for some in std::iter::once(first).chain(others.chunks(AT_ONCE)) {
        let looked = some.iter().map(|(host, user)| async move {
            (host, doors.with_password.about_to_open(host, user, key).await)
        });
        let mut ready = Vec::new();
        for (host, about) in futures_util::future::join_all(looked).await {
            match about {
                // Recorded before it is placed: killed in between, --undo still knows of it.
                Ok(mut about) => {
                    let before = known.get(host).and_then(|before| before.key.clone());
                    about.key = about.key.or(before);
                    state.put_opened(host, Some(&about))?;
                    ready.push((host, about));
                }
                Err(trouble) => {
                    refused += usize::from(refuses(&trouble));
                    done.insert(host.clone(), Err(trouble));
                }
            }
        }
        let mut opening: futures_util::stream::FuturesUnordered<_> =
            ready.iter().map(|(host, about)| doors.open(host, about, key)).collect();
        while let Some((host, opened, result)) = opening.next().await {
            state.put_opened(&host, opened.as_ref())?;
            refused += usize::from(result.as_ref().err().is_some_and(refuses));
            done.insert(host, result);
        }
        if refused >= REFUSALS || (done.len() == 1 && refused == 1) {
            break;
        }
    }
    Ok(done)
}

async fn undo(
    site: &Site,
    options: &Options,
    hosts: &[HostName],
    named: bool,
) -> Result<ExitCode, Failure> {
    let state = site.existing_state()?;
    let recorded = state.as_ref().map(State::opened).transpose()?.unwrap_or_default();
    let wanted: BTreeMap<HostName, Opened> =
        recorded.into_iter().filter(|(host, _)| hosts.contains(host)).collect();
    if wanted.is_empty() {
        let which = if named { "on these hosts" } else { "on any host" };
        view::out(&format!("Nothing was placed {which}."));
        return Ok(ExitCode::SUCCESS);
    }
    let mut work = site.briefly()?;
    let names: Vec<&str> = wanted.keys().map(HostName::as_str).collect();
    let run = begin_run(&mut work.state, &format!("login setup {} --undo", view::few(&names)))?;
    let reach = road::hosts_without_prompts(site, None)?;
    let mut troubles = Vec::new();
    let mut closing: futures_util::stream::FuturesUnordered<_> = wanted
        .iter()
        .map(|(host, opened)| {
            let reach = &reach;
            async move { (host, reach.close_again(host, opened).await) }
        })
        .collect();
    let mut closed = Vec::new();
    while let Some((host, result)) = closing.next().await {
        match result {
            Ok(()) => {
                work.state.put_opened(host, None)?;
                closed.push(host.to_string());
            }
            Err(trouble) => troubles.push(trouble),
        }
    }
    drop(closing);
    reach.close().await;
    closed.sort();
    let outcome = format!("closed {} of {}", closed.len(), view::count(wanted.len(), "host"));
    end_run(&mut work.state, run, &outcome)?;
    if options.json {
        view::json(&serde_json::json!({"closed": closed, "troubles": troubles}));
    } else if !closed.is_empty() {
        view::out(&format!("Took back what was placed on {}.", closed.join(", ")));
    }
    match troubles.is_empty() {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Failure::troubles(&troubles)),
    }
}

/// Shows the keys of hosts that are new, and adds them to the person's known hosts once they say so; whether
/// there were any.
async fn accept(carrier: &OpenSsh, new: &[&Target], without_asking: bool) -> Result<bool, Failure> {
    let asked = new.iter().map(|target| async { (*target, carrier.shown_keys(target).await) });
    let mut lines: BTreeMap<PathBuf, Vec<String>> = BTreeMap::new();
    let mut shown = Vec::new();
    for (target, keys) in futures_util::future::join_all(asked).await {
        // What shows no key now is told of by the next look.
        let Ok(keys) = keys else { continue };
        let file = person::known_hosts(carrier, target).await?;
        for key in keys {
            shown.push(vec![target.name.to_string(), fingerprint(&key)]);
            lines.entry(file.clone()).or_default().push(key);
        }
    }
    if shown.is_empty() {
        return Ok(false);
    }
    view::say(
        "These hosts are new. Compare with what ssh-keygen -lf shows on them, under /etc/ssh:",
    );
    view::say(view::table::table(&["host", "key"], shown).trim_end());
    if !without_asking && !view::asked("Is each of these keys the host's own?") {
        return Err(Failure::new(
            Kind::Refused,
            "the keys of new hosts were not accepted, and nothing was done",
            "compare them, then answer yes at a terminal; --accept-new in a network that you trust",
        ));
    }
    for (file, lines) in lines {
        person::add_known(&file, &lines)?;
    }
    Ok(true)
}

/// The public key to place, as one line of authorized_keys.
async fn key_line(carrier: &OpenSsh, args: &SetupArgs, target: &Target) -> Result<String, Failure> {
    match &args.key {
        Some(path) => Ok(person::keys_in(path)?.swap_remove(0)),
        None => person::key_line(carrier, target, "--key FILE").await,
    }
}

fn ask_password(names: &[&str]) -> Result<Secret, Failure> {
    let whose = view::few(names);
    let answer = asked::secret(&format!("password on {whose}: ")).map_err(|error| {
        Failure::new(
            Kind::Usage,
            format!("asking for the password: {error}"),
            "this needs a terminal; without one, place your key and sudo's rule in another way",
        )
    })?;
    if answer.expose().is_empty() {
        return Err(Failure::new(Kind::Usage, "no password was given", "nothing was done"));
    }
    Ok(answer)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_that_is_refused_after_the_password_was_taken_is_not_the_passwords_fault() {
        let said = |attempted: &str| {
            refuses(&Trouble::new(None, attempted, "Permission denied (publickey).", Vec::new()))
        };
        assert!(said("logging in"));
        assert!(!said(&format!(
            "logging in afresh by the key that was placed {PASSWORD_WAS_RIGHT}"
        )));
    }
}
