mod rights;

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};
use zoisite_core::cluster::{Cluster, dns_label};
use zoisite_core::holdings::person_kubeconfig;
use zoisite_core::pki::{AuthorityKind, Ledger, LedgerEntry, Profile, person};
use zoisite_store::State;

use self::rights::{Rights, Subject, bind, bindings, in_words, missing};
use super::{signed, with_api};
use crate::failure::{Failure, Kind};
use crate::handing::pipe_to;
use crate::kubeconfig::{Merge, own_kubeconfig, yaml};
use crate::options::Options;
use crate::site::{Private, Site, Working, begin_run, end_run, now};
use crate::view::{self, table::table};

/// Show who has which rights; write a kubeconfig for a named person, or revoke rights
///
/// Rights are bound to the person by name; a change replaces the old ones. A person's certificate cannot be
/// revoked, so it expires soon. Without a name, lists who has which rights and until when.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite access                                # who has what, and until when\n  zoisite access ada --out ada.yaml             # may read most things, for 30 days\n  zoisite access ada --role edit --namespaces birds,boats --expires 90d --merge\n  zoisite access ada --pipe-to './keep saltmarsh/ada'\n  zoisite access ada --etcd ada-etcd --expires 1h  # then: . ada-etcd/env; etcdctl member list\n  zoisite access ada --revoke\n  zoisite access ada --group wardens            # in a group too; --role then binds the whole group\n  zoisite access ada --break-glass --expires 1h --out glass.yaml\n  zoisite access sso:ada --bind-only --role view    # a user of your own issuer of tokens: no certificate"
)]
pub struct AccessArgs {
    /// The person; without it, everybody is listed
    #[arg(value_name = "NAME", value_parser = person_name)]
    name: Option<String>,
    /// Rights; with --group, the rights of all its members [default: view]
    #[arg(long, value_name = "RIGHTS", value_enum)]
    role: Option<Rights>,
    /// The rights hold in these namespaces
    #[arg(long, value_name = "NAMES", value_delimiter = ',', value_parser = namespace_name, conflicts_with_all = ["all_namespaces", "revoke", "break_glass", "etcd"])]
    namespaces: Vec<String>,
    /// The rights hold in every namespace, kube-system included: edit and admin are then nearly everything
    #[arg(long, conflicts_with_all = ["revoke", "break_glass", "etcd"])]
    all_namespaces: bool,
    /// Bind the rights only, and issue no certificate: for users and groups of your own issuer of tokens
    #[arg(long, conflicts_with_all = ["expires", "out", "merge", "pipe_to", "etcd", "break_glass", "revoke"])]
    bind_only: bool,
    /// Add the person to this group; with --role, the rights are bound to the group
    #[arg(long, value_name = "GROUP", value_parser = group_name)]
    group: Option<String>,
    /// When the certificate expires, such as 8h or 30d [default: 30d; with --etcd 8h]
    #[arg(long, value_name = "TIME", value_parser = view::span)]
    expires: Option<i64>,
    /// Write the kubeconfig to this file (0600) instead of standard output
    #[arg(long, value_name = "FILE", conflicts_with = "merge")]
    out: Option<PathBuf>,
    /// Add it as a context to your own kubeconfig; the old file is kept beside it
    #[arg(long)]
    merge: bool,
    /// Pipe it to this command, such as one of a secret store
    #[arg(long, value_name = "COMMAND", conflicts_with_all = ["out", "merge"])]
    pipe_to: Option<String>,
    /// Write a client certificate for etcdctl into this folder instead; it is valid for a day at most
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["out", "merge", "pipe_to", "role", "group", "break_glass", "revoke"])]
    etcd: Option<PathBuf>,
    /// Use the built-in group system:masters, for a day at most; the run is recorded
    #[arg(long, conflicts_with_all = ["group", "role"])]
    break_glass: bool,
    /// Revoke the rights of the person, or with --group those of the whole group
    #[arg(long, conflicts_with_all = ["role", "out", "merge", "pipe_to", "break_glass"])]
    revoke: bool,
    /// Do not ask before rights are bound to a whole group
    #[arg(long)]
    yes: bool,
}

const UNRESTRICTED: &str = "system:masters";
const DAY: i64 = 86_400;

fn person_name(text: &str) -> Result<String, String> {
    plain(text, "a name has up to 256 characters and does not begin with 'system:'")
}

fn group_name(text: &str) -> Result<String, String> {
    plain(text, "a group has up to 256 characters, and the platform's own ones are not given out")
}

/// A name that API servers take from a token of the site's issuer may have any characters; the platform's own are not
/// given out.
fn plain(text: &str, rule: &str) -> Result<String, String> {
    let fits = |c: char| !c.is_control() && (c == ' ' || !c.is_whitespace());
    let own = text.starts_with("system:");
    if text.trim().is_empty() || text.len() > 256 || own || !text.chars().all(fits) {
        return Err(rule.to_owned());
    }
    Ok(text.to_owned())
}

fn namespace_name(text: &str) -> Result<String, String> {
    match dns_label(text) {
        Ok(()) => Ok(text.to_owned()),
        Err(_) => Err("a namespace has lower-case letters, digits and dashes".into()),
    }
}

/// What a name in a certificate may be.
fn goes_into_certificates(name: &str) -> Result<(), Failure> {
    let fits = |c: char| c.is_ascii_alphanumeric() || ".-_@".contains(c);
    match name.len() <= 63 && name.chars().all(fits) {
        true => Ok(()),
        false => Err(Failure::new(
            Kind::Usage,
            format!(
                "'{name}' goes into no certificate: a name there has up to 63 letters, digits and .-_@"
            ),
            "for a user or group of your own issuer of tokens add --bind-only",
        )),
    }
}

/// Where rights hold: in these namespaces, or (`None`) in all.
fn holds_in(args: &AccessArgs, role: Rights) -> Result<Option<BTreeSet<String>>, Failure> {
    let named: BTreeSet<String> = args.namespaces.iter().cloned().collect();
    match role {
        Rights::Everything if !named.is_empty() => Err(Failure::new(
            Kind::Usage,
            "everything is the whole cluster",
            "within namespaces the most is --role admin",
        )),
        Rights::Edit | Rights::Admin if named.is_empty() && !args.all_namespaces => {
            Err(Failure::new(
                Kind::Usage,
                format!(
                    "{} in every namespace is nearly the whole cluster: in kube-system it may run pods with any rights there",
                    role.word()
                ),
                "say where: --namespaces ONE,TWO, or --all-namespaces when that is meant",
            ))
        }
        _ if named.is_empty() => Ok(None),
        _ => Ok(Some(named)),
    }
}

pub fn run(options: &Options, args: &AccessArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let state = site.raised_state()?;
    match (&args.name, args.revoke) {
        (None, false) if args.group.is_none() => list(&site, options),
        (None, true) if args.group.is_none() => Err(Failure::new(
            Kind::Usage,
            "--revoke wants a person or a group",
            "zoisite access NAME --revoke, or --group GROUP --revoke",
        )),
        (None, false) if args.bind_only => bind_only(&site, state, args),
        (None, false) => Err(Failure::new(
            Kind::Usage,
            "--group wants a person who is put into it",
            "zoisite access NAME --group GROUP",
        )),
        (_, true) => revoke(&site, state, args),
        (Some(name), false) if let Some(folder) = &args.etcd => {
            goes_into_certificates(name)?;
            super::etcd_client::give(&site, state, name, folder, args.expires)
        }
        (Some(_), false) if args.bind_only => bind_only(&site, state, args),
        (Some(name), false) => give(&site, state, args, name),
    }
}

fn give(site: &Site, state: State, args: &AccessArgs, name: &str) -> Result<ExitCode, Failure> {
    let expires = args.expires.unwrap_or(30 * DAY);
    if args.break_glass && expires > DAY {
        return Err(Failure::new(
            Kind::Usage,
            "--break-glass is for a day at most",
            "add --expires 1h, or ask for --role everything",
        ));
    }
    goes_into_certificates(name)?;
    args.group.as_deref().map_or(Ok(()), goes_into_certificates)?;
    let role = args.role.unwrap_or(Rights::View);
    let whole = args.break_glass || (args.group.is_some() && args.role.is_none());
    if whole && (args.all_namespaces || !args.namespaces.is_empty()) {
        return Err(Failure::new(
            Kind::Usage,
            "nothing is bound here that would hold in namespaces",
            "add --role, or leave the namespaces out",
        ));
    }
    let holds = if whole { None } else { holds_in(args, role)? };
    // Where it goes is sure before anything is bound or issued.
    let place = match (&args.out, args.merge) {
        _ if let Some(command) = &args.pipe_to => Place::Handed(command.clone()),
        (_, true) => Place::Merged(Box::new(Merge::begin(&own_kubeconfig()?)?)),
        (Some(path), false) => Place::File(Private::begin(path)?),
        (None, false) => Place::Output,
    };
    let mut work = Working::briefly(state)?;
    let state = &mut work.state;
    let group = if args.break_glass { Some(UNRESTRICTED) } else { args.group.as_deref() };
    let bound = match (&args.group, args.role) {
        _ if args.break_glass => None,
        // Being put into a group is no reason to give the group anything.
        (Some(_), None) => None,
        (Some(group), Some(role)) => {
            group_on_purpose(state, group, name, role, args.yes)?;
            Some((Subject::Group(group.clone()), role))
        }
        (None, _) => Some((Subject::Person(name.to_owned()), role)),
    };
    if bound.is_some() {
        has_namespaces(site, state, holds.as_ref())?;
    }
    let wanted = person(&site.cluster, name, group, expires);
    let command = match group {
        Some(group) => format!("access {name} in {group}"),
        None => format!("access {name}"),
    };
    let record = begin_run(state, &command)?;
    if let Some((subject, role)) = &bound {
        let wanted = Some((role.role(), holds.as_ref()));
        with_api(site, state, async |api| bind(api, subject, wanted).await.map(|_| ()))
            .inspect_err(|failure| {
                let _ = end_run(state, record.clone(), &failure.summary());
            })?;
    }
    let (entry, key) = signed(site, state, record, &wanted)?;
    let authority = state.ledger()?.bundle_up_to_root(AuthorityKind::Cluster);
    let authority = base64(&authority.unwrap_or_default());
    let config = person_kubeconfig(
        &site.cluster,
        name,
        &authority,
        base64(&entry.pem),
        base64(key.expose()),
    );
    match place {
        Place::Merged(merge) => {
            let path = merge.path.clone();
            let kept = merge.end(&config)?;
            let context = config["current-context"].as_str().unwrap_or_default();
            view::note(&format!(
                "added the context {context} to {}{}",
                path.display(),
                kept.map_or(String::new(), |kept| format!(
                    "; a copy of before is {}",
                    kept.display()
                ))
            ));
        }
        Place::File(file) => {
            let path = file.path.clone();
            file.end(&yaml(&config)?)?;
            view::note(&format!("wrote {}", path.display()));
        }
        Place::Handed(command) => {
            pipe_to(&command, "the kubeconfig", &yaml(&config)?)?;
            view::note(&format!("handed to: {command}"));
        }
        Place::Output => view::verbatim(&yaml(&config)?),
    }
    tell_unknown_name(&site.cluster);
    let end = view::minute(entry.not_after);
    view::note(&match (&bound, group) {
        _ if args.break_glass => {
            format!("{name} in {UNRESTRICTED} (everything, unrestricted) until {end}")
        }
        (Some((Subject::Person(_), role)), _) => {
            format!("{name} ({}) until {end}", rights_in(*role, holds.as_ref()))
        }
        (Some((Subject::Group(group), role)), _) => {
            let rights = rights_in(*role, holds.as_ref());
            format!("{name} in {group}, and all in {group} ({rights}), until {end}")
        }
        (None, Some(group)) => {
            format!(
                "{name} in {group}, with whatever {group} may do, until {end}; zoisite access shows it"
            )
        }
        (None, None) => format!("{name} until {end}"),
    });
    Ok(ExitCode::SUCCESS)
}

/// Rights, and where they hold, in words.
fn rights_in(role: Rights, holds: Option<&BTreeSet<String>>) -> String {
    let namespaces = holds.cloned();
    rights::Bound { role: role.word(), namespaces }.to_string()
}

/// Rights in a missing namespace would take effect once it is made: every one that is missing is named.
fn has_namespaces(
    site: &Site,
    state: &mut State,
    holds: Option<&BTreeSet<String>>,
) -> Result<(), Failure> {
    let Some(namespaces) = holds else { return Ok(()) };
    let mut lacking = Vec::new();
    with_api(site, state, async |api| {
        lacking = missing(api, namespaces).await?;
        Ok(())
    })?;
    match lacking.is_empty() {
        true => Ok(()),
        false => Err(Failure::new(
            Kind::Usage,
            format!("the cluster has no namespace {}: nothing was done", view::names(&lacking)),
            format!("kubectl create namespace {}", lacking[0]),
        )),
    }
}

/// Rights for a user or a group whom the site's own issuer of tokens names.
fn bind_only(site: &Site, state: State, args: &AccessArgs) -> Result<ExitCode, Failure> {
    let subject = match (&args.name, &args.group) {
        (Some(name), None) => Subject::Person(name.clone()),
        (None, Some(group)) => Subject::Group(group.clone()),
        _ => {
            return Err(Failure::new(
                Kind::Usage,
                "--bind-only is for one user or one group",
                "zoisite access NAME --bind-only, or --group GROUP --bind-only",
            ));
        }
    };
    let role = args.role.unwrap_or(Rights::View);
    let holds = holds_in(args, role)?;
    let mut work = Working::briefly(state)?;
    let state = &mut work.state;
    has_namespaces(site, state, holds.as_ref())?;
    let (whom, rights) = (whom(&subject), rights_in(role, holds.as_ref()));
    let record = begin_run(state, &format!("rights of {whom}: {rights}"))?;
    let wanted = Some((role.role(), holds.as_ref()));
    let done = with_api(site, state, async |api| bind(api, &subject, wanted).await.map(|_| ()));
    let outcome = match &done {
        Ok(()) => "bound".to_owned(),
        Err(failure) => failure.summary(),
    };
    end_run(state, record, &outcome)?;
    done?;
    view::out(&format!("{whom} has {rights}, until zoisite access … --revoke."));
    Ok(ExitCode::SUCCESS)
}

fn whom(subject: &Subject) -> String {
    match subject {
        Subject::Person(name) => name.clone(),
        Subject::Group(group) => format!("the group {group}"),
    }
}

/// A kubeconfig dials the API endpoint by its name, which this machine may not know.
fn tell_unknown_name(cluster: &Cluster) {
    use std::net::ToSocketAddrs as _;
    let stable = &cluster.control_plane.endpoint;
    let known = || (stable.host.to_string(), stable.port).to_socket_addrs().is_ok();
    if cluster.api_ip().is_none() && !known() {
        view::note(&format!(
            "this machine finds no address for {}: until it does, kubectl does not reach the cluster from here",
            stable.host
        ));
    }
}

/// Rights of a group are rights of everybody in it: who that is, is shown, and asked.
fn group_on_purpose(
    state: &State,
    group: &str,
    name: &str,
    role: Rights,
    yes: bool,
) -> Result<(), Failure> {
    let ledger = state.ledger()?;
    let others: BTreeSet<&str> = people(&ledger)
        .filter(|entry| entry.organization.as_deref() == Some(group))
        .map(|entry| entry.common_name.as_str())
        .filter(|other| *other != name)
        .collect();
    let others: Vec<&str> = others.into_iter().collect();
    let who = match others.as_slice() {
        [] => "it has no other member yet".to_owned(),
        others => format!("in it too: {}", view::names(others)),
    };
    view::note(&format!("{} for the whole group {group}; {who}", role.word()));
    if others.is_empty() || yes || view::asked("bind the whole group?") {
        return Ok(());
    }
    Err(Failure::new(
        Kind::Usage,
        format!("the rights of {} would change too: nothing was done", view::names(&others)),
        "add --yes when that is meant, or leave --group out: rights are then bound to the person",
    ))
}

/// Certificates of people that have not ended.
fn people(ledger: &Ledger) -> impl Iterator<Item = &LedgerEntry> {
    let now = now();
    let counts = move |e: &&LedgerEntry| {
        e.profile == Profile::Person && e.not_after > now && ledger.believes(e)
    };
    ledger.entries.iter().filter(counts)
}

fn revoke(site: &Site, state: State, args: &AccessArgs) -> Result<ExitCode, Failure> {
    let subject = match (&args.name, &args.group) {
        (_, Some(group)) => Subject::Group(group.clone()),
        (Some(name), None) => Subject::Person(name.clone()),
        (None, None) => return Err(Failure::reported(Kind::Usage)),
    };
    let mut work = Working::briefly(state)?;
    let state = &mut work.state;
    let whom = whom(&subject);
    let command = format!("rights of {whom} revoked");
    let record = begin_run(state, &command)?;
    let (mut groups, mut had) = (BTreeMap::new(), false);
    let done = with_api(site, state, async |api| {
        had = bind(api, &subject, None).await?;
        groups = bindings(api).await?;
        Ok(())
    });
    let outcome = match &done {
        Ok(()) => "rights are gone".to_owned(),
        Err(failure) => failure.summary(),
    };
    end_run(state, record, &outcome)?;
    done?;
    view::out(&match had {
        true => format!("{whom} has no rights of their own in the cluster any more, from now on."),
        false => format!("Nothing was bound to {whom}: zoisite access shows who has what."),
    });
    let ledger = state.ledger()?;
    let lives: Vec<&LedgerEntry> = people(&ledger)
        .filter(|entry| match &subject {
            Subject::Person(name) => entry.common_name == *name,
            Subject::Group(group) => entry.organization.as_ref() == Some(group),
        })
        .collect();
    for entry in lives {
        let (name, end) = (&entry.common_name, view::minute(entry.not_after));
        let left = match &entry.organization {
            Some(group) if group == UNRESTRICTED => {
                format!(
                    "it is in {UNRESTRICTED}, which no rule restricts: it may do everything until then"
                )
            }
            Some(group) => match groups.get(&Subject::Group(group.clone())) {
                Some(bound) => format!(
                    "it is in {group}, which has {}: zoisite access --group {group} --revoke",
                    in_words(bound)
                ),
                None => "nothing is bound to it".into(),
            },
            None => "nothing is bound to it".into(),
        };
        view::note(&format!("a certificate of {name} lives until {end}: {left}"));
    }
    Ok(ExitCode::SUCCESS)
}

/// Who it is that a certificate for etcd was made for.
fn in_etcd_as(entry: &LedgerEntry) -> &str {
    entry.common_name.strip_prefix("person:").unwrap_or(&entry.common_name)
}

/// Who, what, until when.
fn list(site: &Site, options: &Options) -> Result<ExitCode, Failure> {
    let mut scratch = site.scratch()?;
    let ledger = scratch.ledger()?;
    let mut bound = BTreeMap::new();
    let asked = with_api(site, &mut scratch, async |api| {
        bound = bindings(api).await?;
        Ok(())
    });
    // By name and group; the certificate that ends last counts.
    let mut all: BTreeMap<(&str, Option<&str>), (Timestamp, usize)> = BTreeMap::new();
    for entry in people(&ledger) {
        let key = (entry.common_name.as_str(), entry.organization.as_deref());
        let known = all.entry(key).or_insert((entry.not_after, 0));
        *known = (known.0.max(entry.not_after), known.1 + 1);
    }
    let rights = |name: &str, group: Option<&str>| -> String {
        let own = bound.get(&Subject::Person(name.to_owned())).map(|own| in_words(own));
        let by_group = group.and_then(|group| match group {
            UNRESTRICTED => Some("everything, unrestricted".to_owned()),
            group => {
                let own = bound.get(&Subject::Group(group.to_owned()))?;
                Some(format!("{}, as all in {group}", in_words(own)))
            }
        });
        match (asked.is_ok(), own, by_group) {
            (_, _, Some(whole)) if group == Some(UNRESTRICTED) => whole,
            (false, ..) => "unknown".into(),
            (true, Some(own), Some(group)) => format!("{own}; {group}"),
            (true, Some(one), None) | (true, None, Some(one)) => one,
            (true, None, None) => "nothing".into(),
        }
    };
    let in_etcd: Vec<&LedgerEntry> = ledger
        .entries
        .iter()
        .filter(|one| one.profile == Profile::PersonInEtcd && one.not_after > now())
        .filter(|one| ledger.believes(one))
        .collect();
    // Rights of those whose certificates have all ended stand, and are worth nothing until the next one.
    let asleep: Vec<(&Subject, String)> = bound
        .iter()
        .map(|(subject, own)| (subject, in_words(own)))
        .filter(|(subject, _)| match subject {
            Subject::Person(name) => !all.keys().any(|(known, _)| known == name),
            Subject::Group(name) => !all.keys().any(|(_, group)| *group == Some(name)),
        })
        .collect();
    if options.json {
        let people: Vec<Value> = all
            .iter()
            .map(|((name, group), (until, certificates))| {
                json!({"person": name, "group": group, "role": rights(name, *group), "until": until,
                       "certificates": certificates})
            })
            .collect();
        let bindings: Vec<Value> = bound
            .iter()
            .flat_map(|(subject, own)| own.iter().map(move |one| (subject, one)))
            .map(|(subject, one)| {
                json!({"binding": subject.binding(), "role": one.role, "namespaces": one.namespaces})
            })
            .collect();
        let in_etcd: Vec<Value> = in_etcd
            .iter()
            .map(|entry| json!({"person": in_etcd_as(entry), "until": entry.not_after}))
            .collect();
        view::json(
            &json!({"people": people, "in_etcd": in_etcd, "bindings": bindings, "asked": asked.is_ok()}),
        );
    } else if all.is_empty() && asleep.is_empty() && in_etcd.is_empty() {
        view::out("No access has been given.");
    } else {
        let rows = all.iter().map(|((name, group), (until, certificates))| {
            let certificates = match certificates {
                1 => view::minute(*until),
                n => format!("{} ({n} certificates)", view::minute(*until)),
            };
            vec![
                (*name).to_owned(),
                rights(name, *group),
                group.unwrap_or("–").to_owned(),
                certificates,
            ]
        });
        let ended = asleep.iter().map(|(subject, role)| {
            let (name, group) = match subject {
                Subject::Person(name) => (name.clone(), "–".to_owned()),
                Subject::Group(name) => ("–".to_owned(), name.clone()),
            };
            vec![name, role.clone(), group, "no certificate lives".into()]
        });
        let in_etcd = in_etcd.iter().map(|entry| {
            let name = in_etcd_as(entry).to_owned();
            vec![name, "everything in etcd".into(), "–".into(), view::minute(entry.not_after)]
        });
        let rows = rows.chain(in_etcd).chain(ended);
        view::out(&table(&["person", "role", "group", "until"], rows));
    }
    asked.map(|()| ExitCode::SUCCESS)
}

fn base64(text: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(text)
}

/// Where a kubeconfig goes.
enum Place {
    Output,
    File(Private),
    Merged(Box<Merge>),
    Handed(String),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_platforms_own_groups_are_not_given_out() {
        assert!(group_name("system:masters").is_err());
        assert!(person_name("system:admin").is_err());
        assert!(group_name("wardens").is_ok());
    }
}
