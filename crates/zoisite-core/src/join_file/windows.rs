//! The join file of a node that runs Windows: the same in PowerShell (5.1, which every such system has).
//!
//! What is sealed is no script but a list of acts in JSON, which the file's own functions carry out.

use serde_json::{Value, json};
use zeroize::Zeroizing;

use super::sealing::{self, Signer, report_key};
use super::{Addressed, Errand, day};
use crate::holdings::{REPORTS, WindowsAct, WindowsHoldings};
use crate::item::{ComponentSums, Content, KeyText};
use crate::pki::{Secret, SecretRef};

const HEAD: &str = include_str!("windows/head.ps1");
const SIGNATURE: &str = include_str!("windows/signature.ps1");
const VERIFY: &str = include_str!("windows/verify.ps1");
const ACTS: &str = include_str!("windows/acts.ps1");
const REPORT: &str = include_str!("windows/report.ps1");
const NATIVE: &str = include_str!("windows/native.cs");

/// What a join file for Windows brings along or fetches.
#[derive(Clone, Copy, Debug)]
pub struct Brought<'a> {
    /// The checksums of the components.
    pub sums: &'a ComponentSums,
    /// Where a folder of components can be fetched from, where none is carried along.
    pub from: Option<&'a str>,
    /// The certificates of the cluster's authority, in PEM.
    pub authority: &'a str,
}

/// Text in single quotes, as PowerShell takes it.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// The whole of a join file.
///
/// # Errors
/// The label of a key that the strongbox does not hold, or of a program that is not among the components.
pub fn join_file(
    to: Addressed<'_>,
    errand: Errand<'_>,
    holdings: &WindowsHoldings,
    brought: Brought<'_>,
    (keys, word, signer): (KeyText<'_>, &Secret, &Signer),
) -> Result<Secret, String> {
    let mut sealed = sealed(to, errand, holdings, brought, keys)?;
    let key = report_key(word, to.host.name.as_str());
    sealed["report"] = sealing::in_base64(&key[..]).into();
    let sealed = Zeroizing::new(sealed.to_string());
    signer.closed(head(to, errand, signer), (word, &sealed), commented)
}

/// PowerShell takes no notice of such lines.
fn commented(lines: &str) -> String {
    lines.lines().map(|line| format!("# {line}\n")).collect()
}

/// What everybody may read.
fn head(to: Addressed<'_>, errand: Errand<'_>, signer: &Signer) -> String {
    let Addressed { cluster, identity, host, number, made, expires } = to;
    let (name, by) = (&host.name, signer.fingerprint());
    let addresses: Vec<String> = host.addresses().map(|own| quoted(&own.to_string())).collect();
    let was = host.unnamed_name().map_or_else(String::new, |was| was.to_string());
    format!(
        "# Zoisite join file for Windows, form 1: carried to {name} of the cluster {}, which {}.\n\
         # On {name}, as an administrator: powershell -ExecutionPolicy Bypass -File {name}.ps1\n\
         # Made {}, ends {}, signed by {by}.\n\
         param([string]$PassphraseFile, [string]$Report, [int]$Wait = 600, [switch]$Here)\n\
         $File = @{{\n    Host = {}\n    Cluster = {}\n    Id = {}\n    Number = {number}\n    Made = {}\n    Ends = {}\n    \
         Addresses = @({})\n    Was = {}\n    By = {}\n    Point = {}\n    Rounds = {}\n}}\n\
         $Native = @'\n{NATIVE}'@\n\
         {SIGNATURE}\n{HEAD}\n{ACTS}\n{REPORT}\n\
         exit (Invoke-Main)\n",
        cluster.name,
        errand.what(),
        day(made),
        day(expires),
        quoted(name.as_str()),
        quoted(cluster.name.as_str()),
        quoted(identity),
        made.as_second(),
        expires.as_second(),
        addresses.join(", "),
        quoted(&was),
        quoted(by),
        quoted(&signer.point()),
        sealing::ROUNDS,
    )
}

/// A script that proves a join file, and runs it only then, as [`super::verifier`] on other systems.
pub fn verifier(signer: &Signer) -> String {
    format!(
        "# Zoisite: proves a join file and runs it. As an administrator:\n\
         # powershell -ExecutionPolicy Bypass -File verify-join.ps1 HOST.ps1\n\
         param([Parameter(Mandatory)][string]$JoinFile, [switch]$Only, [Parameter(ValueFromRemainingArguments)]$Options = @())\n\
         $By = {}\n\
         $Point = {}\n\
         {SIGNATURE}\n{VERIFY}\n\
         Invoke-Main\n",
        quoted(signer.fingerprint()),
        quoted(&signer.point()),
    )
}

/// What is done there to hold what it must, one after another.
///
/// # Errors
/// As for [`join_file`].
pub fn acts(
    holdings: &WindowsHoldings,
    brought: Brought<'_>,
    keys: KeyText<'_>,
) -> Result<Vec<Value>, String> {
    let feature = json!({"do": "feature", "name": "Containers"});
    let acts = holdings.acts.iter().map(|act| act_of(act, brought, keys));
    std::iter::once(Ok(feature)).chain(acts).collect()
}

/// What only the host reads.
///
/// # Errors
/// As for [`join_file`].
pub fn sealed(
    to: Addressed<'_>,
    errand: Errand<'_>,
    holdings: &WindowsHoldings,
    brought: Brought<'_>,
    keys: KeyText<'_>,
) -> Result<Value, String> {
    let stable = &to.cluster.control_plane.endpoint;
    let (mut token, mut identity, mut network) = ("", "", "");
    for act in &holdings.acts {
        match act {
            WindowsAct::Token { path, identity: folder, .. } => (token, identity) = (path, folder),
            WindowsAct::Overlay(overlay) => network = overlay.name,
            _ => {}
        }
    }
    let all = match errand {
        Errand::Look | Errand::Report { .. } => Vec::new(),
        Errand::Uninstall => vec![json!({"do": "uninstall"})],
        Errand::Join { .. } => acts(holdings, brought, keys)?,
    };
    let stable = match errand {
        Errand::Uninstall => Value::Null,
        _ => json!({"host": stable.host.to_string(), "port": stable.port}),
    };
    Ok(json!({
        "acts": all,
        "stable": stable,
        "authority": brought.authority,
        "token": token,
        "identity": identity,
        "network": network,
        "reports": REPORTS,
    }))
}

fn act_of(act: &WindowsAct, brought: Brought<'_>, keys: KeyText<'_>) -> Result<Value, String> {
    let secret = |secret: &SecretRef, label: &str| -> Result<String, String> {
        match keys {
            KeyText::Masked => Ok(format!("(the {label} stands here)\n")),
            KeyText::Opened(open) => {
                let text = open(secret).ok_or_else(|| label.to_owned())?;
                Ok(text.expose().to_owned())
            }
        }
    };
    Ok(match act {
        WindowsAct::Folder { path, private } => {
            json!({"do": "folder", "path": path, "private": private})
        }
        WindowsAct::File { path, content, restarts } => {
            let content = match content {
                Content::Secret { secret: which, label, .. } => secret(which, label)?,
                text => text.whole_text().unwrap_or_default(),
            };
            json!({"do": "file", "path": path, "content": content, "restarts": restarts})
        }
        WindowsAct::Program { path, pinned, restarts } => {
            let sha256 = match brought.sums.sha256_on_windows(pinned) {
                Some(sum) => sum,
                None if matches!(keys, KeyText::Masked) => "",
                None => return Err(format!("{pinned} for Windows")),
            };
            json!({"do": "program", "path": path, "from": pinned.path_on_windows(), "sha256": sha256,
                   "web": brought.from, "restarts": restarts})
        }
        WindowsAct::Overlay(overlay) => {
            let mut value = serde_json::to_value(overlay).map_err(|why| why.to_string())?;
            value["do"] = "overlay".into();
            value
        }
        WindowsAct::Port { name, udp, port, from } => {
            json!({"do": "port", "name": name, "udp": udp, "port": port, "from": from})
        }
        WindowsAct::Token { path, identity, signs, restarts, secret: which } => {
            // One that has joined needs none.
            let token = secret(which, "join token").unwrap_or_default();
            json!({"do": "token", "path": path, "identity": identity, "signs": signs,
                   "restarts": restarts, "token": token.trim()})
        }
        WindowsAct::Service { name, command, needs } => {
            json!({"do": "service", "name": name, "command": command, "needs": needs})
        }
    })
}
