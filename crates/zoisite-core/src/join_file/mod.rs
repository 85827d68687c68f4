//! Join files: what a run does on a host, carried there by hand. For offline hosts.
//!
//! A join file is one text, run by sh as root. Its first part is for all to read: for which host it is, until when, and the
//! program that checks all that. Then comes what is done there, the very operations that a run sends over SSH, sealed by the
//! host's *word* (it holds keys and a token), and last a signature over all of it.
//!
//! Back comes a [`report`]: the replies that a run would have read, sealed by the same word.

mod report;
mod sealing;
pub mod windows;

use std::net::IpAddr;

use jiff::Timestamp;
use zeroize::Zeroizing;

pub use report::{Outcome, Report, ReportBody, ReportError, ReportedStage};
use sealing::report_key;
pub use sealing::{Signer, SignerError, make_word};

use crate::cluster::{Cluster, Host, HostName};
use crate::holdings::{
    HostHoldings, KUBELET_AUTHORITY, KUBELET_UNIT, MESH_DEVICE, NodePaths, REPORTS, TOKEN_PATH,
};
use crate::item::{Act, Component, Item, KEEP_RULES, KeyText};
use crate::pki::Secret;
use crate::script::{Depth, Operation, Stretch, acting, observe, uninstall_script, wrapped};
use crate::sequence::{Sequence, Work};
use crate::survey::survey_script;
use crate::text::quote;

const HEAD: &str = include_str!("head.sh");
const SIGNATURE: &str = include_str!("signature.sh");
const VERIFY: &str = include_str!("verify.sh");
const CARRY: &str = include_str!("carry.sh");
const ASKING: &str = include_str!("asking.sh");
const STAGES: &str = include_str!("stages.sh");
const POST: &str = include_str!("post.sh");

/// Where a host keeps what it knows of join files: its word, who signs, which was the last, its reports.
pub const JOIN_FOLDER: &str = "/var/lib/zoisite/join";

/// How long a unit that was changed may take to run again, in seconds.
const SECONDS: u32 = 120;
/// The step of a join that takes the token away: the host does that itself, once it was signed for.
const FORGET: &str = "forget";
/// The step in which a kubelet begins.
const JOIN: &str = "join";

/// What a join file has its host do.
#[derive(Clone, Copy, Debug)]
pub enum Errand<'a> {
    /// Look at itself: its report tells what it is like.
    Look,
    /// Look at itself, before it has a role: its report says what it is fit for.
    Report {
        /// By what it may leave its report with the cluster, where there is one.
        by: Option<Presented<'a>>,
    },
    /// Hold what it must hold, and join.
    Join {
        /// What a run would do there.
        sequence: &'a Sequence,
        /// The host's architecture, as components name it.
        arch: &'a str,
        /// Where a folder of components can be fetched from, where none is carried along.
        from: Option<&'a str>,
        /// By what it may leave its report with the cluster, where it is not brought so far that it could by itself.
        by: Option<Presented<'a>>,
    },
    /// Take everything back that was put there.
    Uninstall,
}

/// What a machine shows that is no host of the cluster, and how it knows the cluster.
#[derive(Clone, Copy, Debug)]
pub struct Presented<'a> {
    /// The cluster's authority, in PEM.
    pub authority: &'a str,
    /// Its token.
    pub token: &'a Secret,
}

impl Errand<'_> {
    /// In few words, for people.
    pub fn what(&self) -> &'static str {
        match self {
            Self::Look | Self::Report { .. } => "looks at itself, and changes nothing",
            Self::Join { .. } => "is put right, and joins",
            Self::Uninstall => "takes everything back",
        }
    }
}

/// For whom a join file is, and until when.
#[derive(Clone, Copy, Debug)]
pub struct Addressed<'a> {
    /// The cluster file.
    pub cluster: &'a Cluster,
    /// The cluster's own identity.
    pub identity: &'a str,
    /// The host.
    pub host: &'a Host,
    /// Which file it is: a host carries out no older one than the last.
    pub number: u64,
    /// When it was made.
    pub made: Timestamp,
    /// When it ends.
    pub expires: Timestamp,
}

/// The whole of a join file.
///
/// # Errors
/// The label of a key that the strongbox does not hold.
pub fn join_file(
    to: Addressed<'_>,
    errand: Errand<'_>,
    holdings: &HostHoldings,
    (keys, word, signer): (KeyText<'_>, &Secret, &Signer),
) -> Result<Secret, String> {
    let parts = scripts(to, errand, holdings, keys)?;
    let body = body(&parts, &report_key(word, to.host.name.as_str()));
    signer.closed(head(to, errand, signer), (word, &body), str::to_owned)
}

/// A script that proves a join file, and runs it only then: a file proves itself by what it brings along. It holds the
/// signer's public key, and nothing secret.
pub fn verifier(signer: &Signer) -> String {
    format!(
        "#!/bin/sh\n\
         # Zoisite: proves a join file and runs it. As root: sh verify-join HOST.join\n\
         {{\n\
         by={}\n\
         signer={}\n\
         {SIGNATURE}{VERIFY}\
         main \"$@\"\n\
         exit\n\
         }}\n",
        signer.fingerprint(),
        quote(signer.public_pem().trim_end()),
    )
}

/// A moment, as a person reads it.
fn day(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// What everybody may read.
fn head(to: Addressed<'_>, errand: Errand<'_>, signer: &Signer) -> String {
    let Addressed { cluster, identity, host, number, made, expires } = to;
    let addresses = host.addresses().filter(|address| !address.is_unspecified());
    let addresses: Vec<String> = addresses.map(|address| address.to_string()).collect();
    let (name, by) = (&host.name, signer.fingerprint());
    format!(
        "#!/bin/sh\n\
         # Zoisite join file, form 1: carried to {name} of the cluster {}, which {}.\n\
         # On {name}, as root: sh verify-join {name}.join\n\
         # Made {}, ends {}, signed by {by}.\n\
         {{\n\
         host={name} cluster={} id={identity} number={number}\n\
         made={} ends={}\n\
         addresses={}\n\
         was={}\n\
         rounds={}\n\
         by={by}\n\
         signer={}\n\
         {SIGNATURE}{HEAD}\
         main \"$@\"\n\
         exit\n\
         }}\n",
        cluster.name,
        errand.what(),
        day(made),
        day(expires),
        quote(cluster.name.as_str()),
        made.as_second(),
        expires.as_second(),
        quote(&addresses.join(" ")),
        quote(host.unnamed_name().as_ref().map_or("", HostName::as_str)),
        sealing::ROUNDS,
        quote(signer.public_pem().trim_end()),
    )
}

/// What only the host reads, by parts: what it does, looks for, is asked, and tells. Each is a script.
///
/// # Errors
/// The label of a key that the strongbox does not hold.
pub fn scripts(
    to: Addressed<'_>,
    errand: Errand<'_>,
    holdings: &HostHoldings,
    keys: KeyText<'_>,
) -> Result<Vec<(&'static str, Secret)>, String> {
    let mut out = Vec::new();
    match errand {
        Errand::Look | Errand::Report { .. } => {}
        Errand::Join { sequence, arch, from, .. } => {
            let node = holdings.node.as_ref();
            out.push(("act", acts(to, sequence, (arch, from, node), keys)?));
        }
        Errand::Uninstall => {
            out.push(("act", Secret::new(uninstall_script(&to.host.name, to.number))));
        }
    }
    out.push(("look", Secret::new(observe(holdings, Depth::Quick))));
    if matches!(errand, Errand::Uninstall) {
        return Ok(out);
    }
    out.push(("survey", Secret::new(survey_script(to.cluster, to.host))));
    if let Some(node) = &holdings.node {
        out.push(("stages", Secret::new(stages(to, &node.client))));
    }
    let by = match errand {
        Errand::Report { by } | Errand::Join { by, .. } => by,
        Errand::Look | Errand::Uninstall => None,
    };
    match (by, &holdings.node) {
        // It keeps neither longer than this runs.
        (Some(by), _) => {
            out.push(("authority", Secret::new(by.authority.to_owned())));
            out.push(("token", by.token.clone()));
            out.push(("post", Secret::new(post(to, ("", "", "")))));
        }
        (None, Some(node)) => {
            let own = (KUBELET_AUTHORITY, node.client.as_str(), TOKEN_PATH);
            out.push(("post", Secret::new(post(to, own))));
        }
        (None, None) => {}
    }
    Ok(out)
}

/// The same as one text, with what seals the host's report.
fn body(parts: &[(&str, Secret)], report_key: &[u8; 32]) -> Zeroizing<String> {
    let size: usize = parts.iter().map(|(_, text)| text.expose().len() + 64).sum();
    // With room for everything at once, no copy of a part is left behind by growing.
    let mut out = Zeroizing::new(String::with_capacity(size + 1_024));
    out.push_str("#-- zoisite pads\n");
    out.push_str(&sealing::pads(report_key));
    for (name, text) in parts {
        out.push_str("#-- zoisite ");
        out.push_str(name);
        out.push('\n');
        out.push_str(text.expose());
        if !text.expose().ends_with('\n') {
            out.push('\n');
        }
    }
    out.push_str("#-- zoisite end\n");
    out
}

/// What a run would do on the host, one after another.
fn acts(
    to: Addressed<'_>,
    sequence: &Sequence,
    (arch, from, node): (&str, Option<&str>, Option<&NodePaths>),
    keys: KeyText<'_>,
) -> Result<Secret, String> {
    let mut act = Act { body: Zeroizing::new(String::with_capacity(128 * 1_024)), keys };
    let number = to.number.to_string();
    act.call("arch_is", &[arch]);
    for step in &sequence.steps {
        match &step.work {
            Work::Upload { components, .. } => {
                for (component, sha256) in components {
                    bring(&mut act, component, (arch, sha256, &number), from);
                }
            }
            Work::Act(stretch) if step.name() != FORGET => {
                act.call("lock", &[&number]);
                for (pair, own) in stretch.own_pairs() {
                    pair.ask(own, &mut act);
                    let kept = pair.kept_under(own);
                    act.call("is_signed", &[&pair.path, &kept, &pair.key_sha256]);
                }
                if stretch.own_pairs().next().is_some() {
                    act.call("await_signatures", &[]);
                }
                // There is nothing to go on with yet.
                if stretch.awaits_signatures() {
                    break;
                }
                if let (JOIN, Some(node)) = (step.name(), node) {
                    let signs = node.signed_by.as_deref().unwrap_or_default();
                    act.call("old_identity", &[&node.client, signs, KUBELET_UNIT]);
                }
                let together = |one: &_, next: &_| as_a_run_does(one) && as_a_run_does(next);
                for operations in stretch.operations.chunk_by(together) {
                    match operations {
                        // Whether it runs with older files is known there alone.
                        [Operation::Start(unit) | Operation::Restart(unit)] => {
                            act.call("begin_or_renew", &[unit]);
                        }
                        _ => {
                            let host = stretch.host.clone();
                            Stretch { host, operations: operations.to_vec() }.calls(&mut act)?;
                        }
                    }
                    // Nobody comes in here, and nobody is shut out.
                    if operations.iter().any(sets_rules) {
                        act.call("keep_rules", &[]);
                    }
                }
                act.call("unlock", &[]);
            }
            _ => {}
        }
    }
    act.call("renew_pending", &[&SECONDS.to_string(), &number]);
    let title = format!("zoisite: what {} does by itself, number {number}", to.host.name);
    let helpers = acting(&[Component::UPLOAD, KEEP_RULES, CARRY]);
    Ok(Secret::new(wrapped(&title, &helpers, &act.body)))
}

/// Whether an operation is carried out as a run does it, together with those beside it.
fn as_a_run_does(operation: &Operation) -> bool {
    !matches!(operation, Operation::Start(_) | Operation::Restart(_)) && !sets_rules(operation)
}

fn sets_rules(operation: &Operation) -> bool {
    matches!(operation, Operation::Put(Item::Rules(_)))
}

fn bring(
    act: &mut Act<'_>,
    component: &Component,
    (arch, sha256, number): (&str, &str, &str),
    from: Option<&str>,
) {
    let restarts = component.restarts.unwrap_or_default();
    let name = component.pinned.path(arch);
    act.call(
        "bring",
        &[&component.path, sha256, number, restarts, &name, from.unwrap_or_default()],
    );
}

/// How the host tells how far it has come in joining.
fn stages(to: Addressed<'_>, client: &str) -> String {
    let addresses: Vec<String> = to.host.dialled().map(|a: IpAddr| a.to_string()).collect();
    let title = format!("zoisite: how far {} has come", to.host.name);
    let device = if to.cluster.is_in_mesh(&to.host.name) { MESH_DEVICE } else { "" };
    let by = (KUBELET_AUTHORITY, client, TOKEN_PATH);
    let body = asking("stages", to, (&addresses.join(" "), device), by);
    wrapped(&title, &[ASKING, STAGES], &body)
}

/// How it leaves a report with the cluster.
fn post(to: Addressed<'_>, by: (&str, &str, &str)) -> String {
    let title = format!("zoisite: the report of {}", to.host.name);
    // A host of the cluster has its names.
    let own = to.cluster.api_leads_to().into_iter().filter(|_| to.host.is_unnamed());
    let own: Vec<String> = own.map(|address| address.to_string()).collect();
    wrapped(&title, &[ASKING, POST], &asking("post", to, (REPORTS, &own.join(" ")), by))
}

/// A call that asks the API endpoint something, as this host; with a word more after its name, and one at the end. It
/// knows the cluster by an authority's file, and shows the certificate or the token in two others.
fn asking(
    function: &str,
    to: Addressed<'_>,
    (further, last): (&str, &str),
    (authority, client, token): (&str, &str, &str),
) -> String {
    let stable = &to.cluster.control_plane.endpoint;
    let (name, port) = (to.host.name.as_str(), stable.port.to_string());
    let dialled = stable.host.to_string();
    let words = [name, further, &dialled, &port, authority, client, token, last];
    let words: Vec<String> = words.iter().map(|word| quote(word)).collect();
    format!("{function} {}\n", words.join(" "))
}
