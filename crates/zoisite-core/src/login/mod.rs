//! Getting into hosts: how far one lets the person in, stage by stage, what keeps them out, and what opens it.

mod opening;

pub use opening::{
    Opened, Opening, OpeningFailed, closing_scripts, find_key_script, key_script, rule_script,
};

use std::collections::BTreeMap;

use serde::Serialize;

use crate::cluster::HostName;
use crate::diagnosis::Trouble;
use crate::script::wrapped_look;
use crate::text::digest;

/// What lies between a person and a host's shell as root, in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// Its name resolves.
    Name,
    /// A route leads there.
    Route,
    /// Something listens at the port.
    Port,
    /// It speaks SSH.
    Server,
    /// Its key is the one that is known.
    HostKey,
    /// It takes the person's key, or what else their configuration offers, without asking.
    Login,
    /// They become root there without a password.
    Root,
    /// sh and the small programs that scripts need are there.
    Tools,
    /// systemd runs it.
    Systemd,
    /// It is a machine of its own: no other has its id or its keys.
    Machine,
}

impl Stage {
    /// Every stage, in order.
    pub const ALL: [Self; 10] = [
        Self::Name,
        Self::Route,
        Self::Port,
        Self::Server,
        Self::HostKey,
        Self::Login,
        Self::Root,
        Self::Tools,
        Self::Systemd,
        Self::Machine,
    ];
}

/// How far a host let one in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct WayIn {
    /// The host.
    pub host: HostName,
    /// The stage that was not passed, and why; `None` where all were.
    pub stopped: Option<Stopped>,
    /// What was seen there.
    pub inside: Option<Inside>,
}

/// Where it ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Stopped {
    /// The stage.
    pub stage: Stage,
    /// What was attempted, what came back, and the fix.
    pub trouble: Trouble,
}

/// What a host says of itself after the login.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Inside {
    /// Its machine id.
    pub machine: String,
    /// SHA-256 of each of its SSH host keys, as [`crate::script::Observed`] has them.
    pub host_keys: Vec<String>,
    /// Who logged in.
    pub user: String,
    /// Distribution and version.
    pub os: String,
    /// Programs that scripts need and that are not there.
    pub lacks: Vec<String>,
    /// Whether systemd runs it.
    pub systemd: bool,
}

impl WayIn {
    /// A host that stopped one at a stage.
    pub fn stopped(host: &HostName, stage: Stage, trouble: Trouble) -> Self {
        Self { host: host.clone(), stopped: Some(Stopped { stage, trouble }), inside: None }
    }

    /// Whether a stage was passed; `None` where it was not come to.
    pub fn passed(&self, stage: Stage) -> Option<bool> {
        match &self.stopped {
            None => Some(true),
            Some(stopped) if stage < stopped.stage => Some(true),
            Some(stopped) if stage == stopped.stage => Some(false),
            Some(_) => None,
        }
    }

    /// Judges what a host said of itself.
    pub fn of_inside(host: &HostName, inside: Inside) -> Self {
        let stop = |stage, answer: String, fix: String| {
            let trouble = Trouble::new(Some(host.clone()), "looking around", answer, Vec::new());
            Some(Stopped { stage, trouble: trouble.fix(fix) })
        };
        let stopped = if !inside.lacks.is_empty() {
            let lacks = inside.lacks.join(", ");
            let fix = format!(
                "install them on {host}: on Debian, apt-get install coreutils findutils gawk util-linux"
            );
            stop(Stage::Tools, format!("it lacks {lacks}"), fix)
        } else if !inside.systemd {
            let fix = format!(
                "set {host} up with a distribution that systemd runs; a container needs it as its first process"
            );
            stop(Stage::Systemd, "systemd does not run it".into(), fix)
        } else if inside.machine.is_empty() {
            let fix = format!("make one on {host}: {NEW_ID}; then reboot it");
            stop(Stage::Machine, "it has no machine id".into(), fix)
        } else {
            None
        };
        Self { host: host.clone(), stopped, inside: Some(inside) }
    }
}

/// A new machine id. systemd-machine-id-setup(1) would take the old one again from D-Bus, or from what runs the
/// virtual machine: clones share those too.
const NEW_ID: &str = "rm -f /etc/machine-id /var/lib/dbus/machine-id && tr -d - </proc/sys/kernel/random/uuid >/etc/machine-id";

/// What to do about two hosts with one machine id.
pub fn clone_fix(host: &HostName) -> String {
    format!("check the addresses; on a clone, make a new id on {host}: {NEW_ID}; then reboot it")
}

/// A host that shares with others what belongs to one machine alone.
pub struct Copied {
    /// The host.
    pub host: HostName,
    /// What it shares, and with whom.
    pub answer: String,
    /// What to do about it.
    pub fix: String,
}

/// Hosts that share what belongs to one machine alone, as clones of one image do: of each its name, its machine
/// id, and the checksums of its host keys.
pub fn clones<'a>(
    hosts: impl Iterator<Item = (&'a HostName, &'a str, &'a [String])> + Clone,
) -> Vec<Copied> {
    let mut machines: BTreeMap<&str, Vec<&HostName>> = BTreeMap::new();
    let mut keys: BTreeMap<&str, Vec<&HostName>> = BTreeMap::new();
    for (host, machine, host_keys) in hosts.clone() {
        machines.entry(machine).or_default().push(host);
        for key in host_keys {
            keys.entry(key).or_default().push(host);
        }
    }
    let mut out = Vec::new();
    for (host, machine, host_keys) in hosts {
        let others = |shared: Option<&Vec<&HostName>>| {
            let others = shared.into_iter().flatten().filter(|other| **other != host);
            let others: Vec<&str> = others.map(|other| other.as_str()).collect();
            (!others.is_empty()).then(|| others.join(", "))
        };
        let shared_key = host_keys.iter().find_map(|key| others(keys.get(key.as_str())));
        let (answer, fix) = match (others(machines.get(machine)), shared_key) {
            (Some(others), _) => (
                format!(
                    "it has the same machine id as {others}: one machine behind two names, or a clone"
                ),
                clone_fix(host),
            ),
            (None, Some(others)) => (
                format!("it has the same SSH host keys as {others}: either can pose as the other"),
                format!(
                    "make new ones on {host}: rm /etc/ssh/ssh_host_*key* && ssh-keygen -A && systemctl restart ssh; the next look tells how the old one is taken out here"
                ),
            ),
            (None, None) => continue,
        };
        out.push(Copied { host: host.clone(), answer, fix });
    }
    out
}

/// Stops hosts at their machine that share what belongs to one alone.
pub fn find_clones(ways: &mut [WayIn]) {
    let found = {
        let inside = ways.iter().filter(|way| way.stopped.is_none());
        let inside = inside.filter_map(|way| Some((&way.host, way.inside.as_ref()?)));
        clones(inside.map(|(host, i)| (host, i.machine.as_str(), i.host_keys.as_slice())))
    };
    for clone in found {
        let Some(way) = ways.iter_mut().find(|way| way.host == clone.host) else { continue };
        let (host, answer) = (Some(clone.host), clone.answer);
        let trouble = Trouble::new(host, "telling machines apart", answer, Vec::new());
        way.stopped = Some(Stopped { stage: Stage::Machine, trouble: trouble.fix(clone.fix) });
    }
}

/// At which stage ssh stopped, by its words: those of OpenSSH's client.
pub fn stage_of(said: &str) -> Stage {
    let any = |words: &[&str]| words.iter().any(|word| said.contains(word));
    if any(&["Could not resolve hostname", "Name or service not known", "name resolution"]) {
        Stage::Name
    } else if any(&["No route to host", "unreachable", "Host is down"]) {
        Stage::Route
    } else if any(&["Connection refused", "Connection timed out", "Operation timed out"])
        && !said.contains("banner")
    {
        Stage::Port
    } else if is_changed_key(said) || any(&["Host key verification failed", "host key is known"]) {
        Stage::HostKey
    } else if any(&["Permission denied", "Too many authentication failures"]) {
        Stage::Login
    } else {
        Stage::Server
    }
}

/// Whether a host showed another key than before: it is another machine, or somebody stands between.
pub fn is_changed_key(said: &str) -> bool {
    said.contains("IDENTIFICATION HAS CHANGED")
}

/// The fingerprint of the key in a line of known_hosts, as ssh-keygen shows it: `SHA256:… (ssh-ed25519)`.
pub fn fingerprint(line: &str) -> String {
    use base64::Engine as _;
    use sha2::Digest as _;
    let mut words = line.split_whitespace().skip(1);
    let (kind, text) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
    let octets = base64::prelude::BASE64_STANDARD.decode(text).unwrap_or_default();
    let sum = base64::prelude::BASE64_STANDARD_NO_PAD.encode(sha2::Sha256::digest(octets));
    format!("SHA256:{sum} ({kind})")
}

const LOGIN: &str = include_str!("login.sh");

/// The script that looks around, as root.
pub fn look_around() -> String {
    wrapped_look("look around", LOGIN, "look_around\nhost_facts\n")
}

/// The rules that sudo has for a user, in the order of its files, with the file of each where it says that.
pub const RULES: &str = "LC_ALL=C sudo -n -ll 2>&1 </dev/null";

/// What of [`RULES`] says which rule asks for a password after one that does not: the last that matches wins.
pub fn overriding_rule(rules: &str) -> Option<String> {
    let mut entries: Vec<(String, bool)> = Vec::new();
    for line in rules.lines() {
        let line = line.trim();
        if let Some(rest) = line.strip_prefix("Sudoers entry:") {
            entries.push((rest.trim().to_owned(), false));
        } else if line.contains("!authenticate")
            && let Some(last) = entries.last_mut()
        {
            last.1 = true;
        }
    }
    let (last, free) = entries.last()?;
    (!free && entries.iter().any(|(_, free)| *free)).then(|| last.clone())
}

/// Reads what [`look_around`] said; `None` when it did not come to its end.
pub fn read_inside(text: &str) -> Option<Inside> {
    let mut inside = Inside::default();
    let mut over = false;
    for line in text.lines() {
        let Some(rest) = line.strip_prefix("@\t") else { continue };
        let fields: Vec<&str> = rest.split('\t').collect();
        match fields.as_slice() {
            ["machine", id] => inside.machine = (*id).to_owned(),
            ["host-key", key] => inside.host_keys.push(digest(key)),
            ["os", os] => inside.os = (*os).to_owned(),
            ["user", user] => inside.user = (*user).to_owned(),
            ["lacks", program] => inside.lacks.push((*program).to_owned()),
            ["systemd", "yes"] => inside.systemd = true,
            ["end"] => over = true,
            _ => {}
        }
    }
    inside.host_keys.sort();
    over.then_some(inside)
}
