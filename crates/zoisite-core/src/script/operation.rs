use std::collections::BTreeMap;
use std::fmt;
use std::fmt::Write as _;
use std::net::IpAddr;

use zeroize::Zeroizing;

use super::relay::RELAY_PORT;
use super::wrapped;
use crate::cluster::HostName;
use crate::holdings::ADDRESS_AWAY;
use crate::item::{Act, Component, Item, KEEP_RULES, KeyText, Pair};
use crate::pki::{LedgerEntry, OwnKey, Secret};
use crate::text::quote;

const ACT: &str = include_str!("act.sh");
const FETCH: &str = include_str!("fetch.sh");

/// For how long a host that was told to leave the virtual IP is waited for: where no other host can serve there,
/// no other host takes it.
const GIVE_AWAY_SECONDS: u32 = 15;

/// One thing to do on a host. Each is idempotent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Put an item.
    Put(Item),
    /// Write a mark, once.
    Mark {
        /// Absolute path.
        path: String,
        /// Owning user and group.
        owner: &'static str,
        /// What it says.
        text: String,
    },
    /// Take a file away that must not stay.
    Remove(String),
    /// Stop an etcd member that is none any more, or begins again, and move its data aside: it is never started again,
    /// and never deleted.
    SetAside {
        /// Its unit.
        unit: &'static str,
        /// The folder that holds its data and its marks.
        folder: String,
        /// The mark of a proven quorum, which goes.
        formed_mark: String,
        /// The folder of its configuration and keys, which goes too where the host is to be no member any more.
        config: Option<&'static str>,
    },
    /// Stop a unit, also for the next boots; what it has under way has a second to end.
    Stop(&'static str),
    /// Make a member's data from a snapshot, beside what stands: nothing of that is touched.
    MakeData(Box<MadeData>),
    /// Put data in its place that was made, where no member's data stands any more.
    TakeData(Box<MadeData>),
    /// Delete a member's folder, and all that was moved aside in it, where its mark says that it is this cluster's.
    Wipe {
        /// The folder.
        folder: String,
        /// The mark that says whose it is.
        owner_mark: String,
        /// What it must say.
        cluster_id: String,
    },
    /// Have systemd read unit files again, and the unit start at boot.
    Enable(&'static str),
    /// Start a unit, without waiting.
    Start(&'static str),
    /// Restart a unit, without waiting.
    Restart(&'static str),
    /// Leave the virtual IP to others, and wait until it is gone: what is done next interrupts no client.
    GiveAway(IpAddr),
    /// Hold the virtual IP again, where one can serve there.
    TakePart,
    /// Wait on the host until a unit is ready. Comes last in a stretch: it lets go of the host's lock.
    Settle {
        /// The unit.
        unit: &'static str,
        /// The port at which it must listen, where systemd cannot know whether it is well.
        port: Option<u16>,
        /// Deadline, in seconds.
        seconds: u32,
    },
}

/// The data of a member that begins a quorum of its own with a snapshot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MadeData {
    /// etcd's own program that makes it (`etcdutl`).
    pub program: String,
    /// Where the snapshot was brought.
    pub snapshot: String,
    /// The folder that holds the data directory.
    pub folder: String,
    /// The folder in it in which the data is made: of this snapshot, for these members, and no others.
    pub made: String,
    /// The data directory.
    pub data: String,
    /// Which of the cluster's quorums it is.
    pub epoch: u32,
    /// The mark that says so.
    pub mark: String,
    /// By how much revisions go on behind those of the snapshot.
    pub bump: u64,
    /// The member's name.
    pub name: HostName,
    /// All members that begin, and where each will be dialled, this one among them.
    pub members: BTreeMap<HostName, String>,
    /// What tells its cluster from others (etcd's `initial-cluster-token`).
    pub token: String,
    /// etcd's user.
    pub user: &'static str,
}

impl fmt::Display for Operation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Put(item) => {
                let item = item.describe();
                write!(f, "{} {}", item.kind, item.what)
            }
            Self::Mark { path, .. } => write!(f, "mark {path}"),
            Self::Remove(path) => write!(f, "remove {path}"),
            Self::SetAside { folder, .. } => write!(f, "move what is left in {folder} aside"),
            Self::Stop(unit) => write!(f, "stop {unit}"),
            Self::MakeData(made) => write!(f, "make a member's data from {}", made.snapshot),
            Self::TakeData(made) => write!(f, "put it in its place, {}", made.data),
            Self::Wipe { folder, .. } => write!(f, "delete {folder}"),
            Self::Enable(unit) => write!(f, "enable {unit}"),
            Self::Start(unit) => write!(f, "start {unit}"),
            Self::Restart(unit) => write!(f, "restart {unit}"),
            Self::GiveAway(address) => write!(f, "leave {address} to others"),
            Self::TakePart => f.write_str("take part in holding the virtual IP"),
            Self::Settle { unit, .. } => write!(f, "wait for {unit}"),
        }
    }
}

/// Operations on one host that go there in one round trip.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// The host.
    pub host: HostName,
    /// What to do, in order.
    pub operations: Vec<Operation>,
}

impl Stretch {
    /// Pairs whose keys the host makes.
    pub fn own_pairs(&self) -> impl Iterator<Item = (&Pair, &OwnKey)> {
        self.operations.iter().filter_map(|operation| match operation {
            Operation::Put(Item::Pair(pair)) => Some((pair, pair.own_key.as_ref()?)),
            _ => None,
        })
    }

    /// Whether nothing is signed yet for any of the keys that the host makes.
    pub fn awaits_signatures(&self) -> bool {
        self.own_pairs().any(|(pair, _)| pair.key_sha256.is_empty())
    }

    /// The script that goes before this stretch where the host makes keys: it makes those that it has not, and says what
    /// it asks for them. `None` where there are none.
    pub fn key_script(&self, generation: u64) -> Option<String> {
        let mut act = Act { body: Zeroizing::default(), keys: KeyText::Masked };
        act.call("lock", &[&generation.to_string()]);
        let mut any = false;
        for (pair, own) in self.own_pairs() {
            pair.ask(own, &mut act);
            any = true;
        }
        let title = format!("zoisite: keys of {}, run {generation}", self.host);
        any.then(|| wrapped(&title, &acting(&[]), &act.body))
    }

    /// The same stretch with what was signed for keys that the host made.
    #[must_use]
    pub fn certified(&self, signed: &[LedgerEntry]) -> Self {
        let mut out = self.clone();
        for operation in &mut out.operations {
            if let Operation::Put(Item::Pair(pair)) = operation
                && let Some(own) = &pair.own_key
                && let Some(entry) = signed.iter().find(|entry| entry.profile == own.profile)
            {
                *pair = pair.certified(entry);
            }
        }
        out
    }

    /// Whether the operation before this one stops a unit.
    fn stops_before(&self, at: usize) -> bool {
        at.checked_sub(1).is_some_and(|at| matches!(self.operations[at], Operation::Stop(_)))
    }

    /// The units that are stopped one after another from this operation on.
    fn stopped_from(&self, at: usize) -> Vec<&'static str> {
        let stops = self.operations[at..].iter().map_while(|operation| match operation {
            Operation::Stop(unit) => Some(*unit),
            _ => None,
        });
        stops.collect()
    }

    /// The script, for the run of that generation.
    ///
    /// It is secret when keys are opened. A key that cannot be opened is an error, its label.
    ///
    /// # Errors
    /// The label of the key that the strongbox does not hold.
    pub fn script(&self, generation: u64, keys: KeyText<'_>) -> Result<Secret, String> {
        // Keys may stand in it: what is built on the way to the secret is cleared too.
        let body = Zeroizing::new(String::with_capacity(128 * 1_024));
        let mut act = Act { body, keys };
        act.call("lock", &[&generation.to_string()]);
        self.calls(&mut act)?;
        let title = format!("zoisite: act on {}, run {generation}", self.host);
        Ok(Secret::new(wrapped(&title, &acting(&[]), &act.body)))
    }

    /// Its operations as calls of the helpers, in order.
    pub(crate) fn calls(&self, act: &mut Act<'_>) -> Result<(), String> {
        for (at, operation) in self.operations.iter().enumerate() {
            match operation {
                Operation::Put(item) => item.put(act)?,
                Operation::Mark { path, owner, text } => act.call("mark", &[path, owner, text]),
                Operation::Remove(path) => act.call("remove", &[path]),
                Operation::SetAside { unit, folder, formed_mark, config } => {
                    act.call("set_aside", &[unit, folder, formed_mark, config.unwrap_or_default()]);
                }
                // It stops together with those before it.
                Operation::Stop(_) if self.stops_before(at) => {}
                Operation::Stop(_) => act.call("stop", &self.stopped_from(at)),
                Operation::MakeData(made) => {
                    let name = made.name.as_str();
                    let what = [&made.program, &made.snapshot, &made.folder, made.made.as_str()];
                    let all: Vec<String> =
                        made.members.iter().map(|(host, url)| format!("{host}={url}")).collect();
                    let url = made.members.get(&made.name).map_or("", String::as_str);
                    let whose = [name, url, &all.join(","), &made.token, made.user];
                    let bump = made.bump.to_string();
                    act.call("make_data", &[&what[..], &whose, &[&bump]].concat());
                }
                Operation::TakeData(made) => {
                    let epoch = made.epoch.to_string();
                    let places = [&made.made, &made.data, epoch.as_str()];
                    act.call("take_data", &[&places[..], &[&made.mark, &made.snapshot]].concat());
                }
                Operation::Wipe { folder, owner_mark, cluster_id } => {
                    act.call("wipe", &[folder, owner_mark, cluster_id]);
                }
                Operation::Enable(unit) => act.call("start_at_boot", &[unit]),
                Operation::Start(unit) => act.call("start", &[unit]),
                Operation::Restart(unit) => act.call("restart", &[unit]),
                Operation::GiveAway(address) => act.call(
                    "give_away",
                    &[&address.to_string(), ADDRESS_AWAY, &GIVE_AWAY_SECONDS.to_string()],
                ),
                Operation::TakePart => act.call("take_part", &[ADDRESS_AWAY]),
                Operation::Settle { unit, port, seconds } => {
                    act.body.push_str("unlock\n");
                    let port = port.map_or(String::new(), |port| format!(" {port}"));
                    let _ = writeln!(act.body, "settle {} {seconds}{port}", quote(unit));
                }
            }
        }
        Ok(())
    }
}

/// The helpers of every script that acts, with others beside them.
pub(crate) fn acting(more: &[&'static str]) -> Vec<&'static str> {
    std::iter::once(&ACT).chain(Item::ACT).chain(more).copied().collect()
}

/// The script that takes everything back that Zoisite put on a host, the last first, by the host's own notes.
/// Data that others keep in a folder stays there.
pub fn uninstall_script(host: &HostName, generation: u64) -> String {
    let body = format!("lock {generation}\nuninstall\n");
    wrapped(&format!("zoisite: uninstall what was put on {host}"), &acting(&[]), &body)
}

/// The script by which new rules of a host's firewall are kept: run once a new connection has come through them.
pub fn keep_rules_script(host: &HostName, generation: u64) -> String {
    let body = format!("lock {generation}\nkeep_rules\n");
    wrapped(&format!("zoisite: keep the rules of {host}"), &acting(&[KEEP_RULES]), &body)
}

/// The script that lists what was put on a host, with what stood there before: the host's own notes.
pub fn notes_script(host: &HostName) -> String {
    let body = "if [ -r \"$state/notes\" ]; then sed \"s/^/@${tab}noted$tab/; s/${tab}[.]\\$//\" \"$state/notes\"; fi\nsay_first cluster \"$state/cluster\"\n";
    super::wrapped_look(&format!("list what was put on {host}"), "", body)
}

/// The script that takes one component by the rest of its standard input, whose size is in octets. It says
/// first how many of them are there already. It holds nothing secret. With `from` the file comes from another host
/// of its site, which offers it.
pub fn upload_script(
    host: &HostName,
    component: &Component,
    (sha256, size): (&str, u64),
    generation: u64,
    from: Option<IpAddr>,
) -> String {
    let restarts = quote(component.restarts.unwrap_or_default());
    let from = from.map_or(String::new(), |address| format!(" {address} {RELAY_PORT}"));
    let path = quote(&component.path);
    let body = format!("upload {path} {sha256} {size} 755 {generation} {restarts}{from}\n");
    let script = wrapped(
        &format!("zoisite: {} for {host}", component.pinned),
        &acting(&[Component::UPLOAD]),
        &body,
    );
    // The function's own input is /dev/null; the file comes by a descriptor of its own.
    script.replace("\nzoisite </dev/null\n", "\nzoisite 8<&0 </dev/null\n")
}

/// The script that gives a piece of a file: from an offset on, so many octets at most.
pub fn fetch_script(path: &str, from: u64, octets: u64) -> String {
    let body = format!("fetch {} {from} {octets}\n", quote(path));
    wrapped("zoisite: give a file", &[FETCH], &body)
}
