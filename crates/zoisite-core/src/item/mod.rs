//! The kinds of things that stand on hosts, a file for each.
//!
//! A kind says in its own file how such an item is looked at, compared, put, and taken back: its share of the
//! scripts stands beside the Rust that reads their answers. What stood there before an item was first put is
//! noted on the host by the put itself (`notes.sh`), so that taking back needs nothing but the host.
//!
//! A new kind is a file here, its `mod` line, and its line in the list of [`kinds!`].

mod absent;
mod block;
mod component;
mod directory;
mod file;
mod image;
mod link;
mod module;
mod own_name;
mod package;
mod pair;
mod pods;
mod routes;
mod rules;
mod swap;
mod sysctl;
mod unit;
mod user;
mod workspace;

use std::collections::BTreeMap;
use std::fmt::{self, Write as _};

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

pub use absent::Absent;
pub use block::Block;
pub use component::{Component, ComponentSums, ComponentsError, Pinned};
pub use directory::{Directory, DirectoryFacts};
pub use file::{Content, FIRST_START, File, FileFacts, KeyText};
pub use image::Image;
pub use link::Link;
pub use module::Module;
pub use own_name::OwnName;
pub(crate) use own_name::is_called;
pub use package::{Package, PackageFacts};
pub use pair::{Pair, ReadBy};
pub use pods::Pods;
pub(crate) use routes::ROUTE_PROTOCOL;
pub use routes::Routes;
pub(crate) use rules::KEEP as KEEP_RULES;
pub use rules::{Rules, RulesFacts, TRIAL_OF_RULES};
pub use swap::NoSwap;
pub use sysctl::Sysctl;
pub use unit::{Unit, UnitFacts, program};
pub use user::User;
pub use workspace::Workspace;

use crate::pki::SecretRef;
use crate::text::quote;

/// In which way something on a host is not as wanted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Differs {
    /// It is not there.
    Missing,
    /// The host does not know of it yet.
    NotNoted,
    /// It is there, and must not be.
    StillThere,
    /// Its content is another.
    Content,
    /// The kernel has not loaded it.
    NotLoaded,
    /// Its value is another: as found.
    Value(String),
    /// What it says for the first start, which is still to come, is out of date.
    FirstStart,
    /// Not all of it is set in the running kernel: what is missing.
    NotSet(String),
    /// Its owner or mode is another: as found.
    Access(String),
    /// Whether it is there cannot be seen: the service that knows does not run.
    Unseen(&'static str),
    /// A unit does not start at boot.
    NotEnabled,
    /// A unit does not run: its state.
    NotRunning(String),
    /// A unit runs with older files than stand on the host.
    NotRestarted,
}

impl fmt::Display for Differs {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing => f.write_str("is missing"),
            Self::NotNoted => f.write_str("is not noted yet"),
            Self::StillThere => f.write_str("is still there"),
            Self::Content => f.write_str("has other content"),
            Self::NotLoaded => f.write_str("is not loaded"),
            Self::Value(found) => write!(f, "is {found}"),
            Self::NotSet(what) => write!(f, "is not set in the kernel: {what}"),
            Self::FirstStart => f.write_str("says something else for the first start"),
            Self::Access(found) => write!(f, "has owner and mode {found}"),
            Self::Unseen(unit) => write!(f, "cannot be seen while {unit} does not answer"),
            Self::NotEnabled => f.write_str("does not start at boot"),
            Self::NotRunning(state) => write!(f, "does not run ({state})"),
            Self::NotRestarted => f.write_str("runs with older files than are there"),
        }
    }
}

/// What there is to say of an item to a person.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Described {
    /// Its kind, one word.
    pub kind: &'static str,
    /// Its path or name.
    pub what: String,
    /// Its owner, where it has one.
    pub owner: Option<&'static str>,
    /// Its permission bits, where it has some.
    pub mode: Option<u32>,
    /// What else there is to say.
    pub note: Option<String>,
}

impl Described {
    fn new(kind: &'static str, what: impl Into<String>) -> Self {
        Self { kind, what: what.into(), owner: None, mode: None, note: None }
    }

    fn with_access(mut self, owner: &'static str, mode: u32) -> Self {
        (self.owner, self.mode) = (Some(owner), Some(mode));
        self
    }

    fn with_note(mut self, note: impl Into<String>) -> Self {
        self.note = Some(note.into());
        self
    }
}

/// What a host is like, as far as comparing its items needs it.
#[derive(Clone, Copy, Debug)]
pub struct Seen<'a> {
    /// Its items.
    pub found: &'a Found,
    /// Its architecture, as Go names it.
    pub arch: &'a str,
    /// Whether what was meant for a first start has been used.
    pub begun: bool,
    /// Whether something on it did not answer in time.
    pub hangs: bool,
    /// Checksums of the components.
    pub sums: &'a ComponentSums,
}

/// A kind of item.
trait Kind {
    /// Functions of sh with which a look asks for items of this kind.
    const LOOK: &'static str = "";
    /// Functions of sh that put an item (and note what stood there before), and `back_KIND`, which takes it
    /// back: it is given the item's name and what was noted.
    const ACT: &'static str;
    /// Whether a script puts it by itself. (A component comes as a stream of octets; a unit is started and
    /// restarted when its turn comes.)
    const BY_SCRIPT: bool = true;

    /// For a person.
    fn describe(&self) -> Described;
    /// Adds what a look has to ask.
    fn look(&self, look: &mut Look);
    /// Takes a line of a look's answer, if it is about this kind.
    fn read(found: &mut Found, fields: &[&str]);
    /// In which ways it is not as wanted.
    fn differs(&self, seen: Seen<'_>) -> Vec<Differs>;
    /// Adds what puts it; the error is the label of a secret that is not at hand.
    fn put(&self, act: &mut Act<'_>) -> Result<(), String>;
    /// Notes in `found` what a look finds where it stands as it must. The checksum is a component's.
    fn hold(&self, found: &mut Found, sha256: &str);
    /// The unit that must restart when it changes.
    fn restarts(&self) -> Option<&'static str> {
        None
    }
    /// The secret in it, and what a person calls it.
    fn secret(&self) -> Option<(SecretRef, &str)> {
        None
    }
}

/// Makes of the list of kinds, each with what a look finds of one, the type of an item, what is found of them, and
/// the ways to each kind.
macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident in $place:ident: $found:ty),* $(,)?) => {
        /// One thing on a host.
        #[derive(Clone, Debug, PartialEq, Eq)]
        pub enum Item {
            $($(#[$doc])* $kind($kind),)*
        }

        $(impl From<$kind> for Item {
            fn from(item: $kind) -> Self {
                Self::$kind(item)
            }
        })*

        /// What a look found of items, by their names.
        #[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
        pub struct Found {
            $($(#[$doc])* pub $place: BTreeMap<String, $found>,)*
        }

        impl Found {
            /// Takes a line of a look's answer: its fields.
            pub(crate) fn read(&mut self, fields: &[&str]) {
                $(<$kind as Kind>::read(self, fields);)*
            }
        }

        impl Item {
            /// The kinds there are.
            pub const KINDS: &[&str] = &[$(stringify!($kind)),*];
            /// The helpers of sh with which a look asks for items of every kind.
            pub(crate) const LOOK: &[&str] = &[$(<$kind as Kind>::LOOK),*];
            /// Those that put items of every kind and take them back.
            pub(crate) const ACT: &[&str] = &[NOTES, $(<$kind as Kind>::ACT),*];

            /// What there is to say of it.
            pub fn describe(&self) -> Described {
                match self { $(Self::$kind(item) => item.describe(),)* }
            }

            /// Whether a script puts it by itself.
            pub fn by_script(&self) -> bool {
                match self { $(Self::$kind(_) => <$kind as Kind>::BY_SCRIPT,)* }
            }

            /// The unit that must restart when it changes.
            pub fn restarts(&self) -> Option<&'static str> {
                match self { $(Self::$kind(item) => item.restarts(),)* }
            }

            /// The secret in it, and what a person calls it.
            pub fn secret(&self) -> Option<(SecretRef, &str)> {
                match self { $(Self::$kind(item) => item.secret(),)* }
            }

            /// In which ways it is not as wanted.
            pub fn differs(&self, seen: Seen<'_>) -> Vec<Differs> {
                match self { $(Self::$kind(item) => item.differs(seen),)* }
            }

            /// Notes what a look finds where the item stands as it must; the checksum is a component's.
            pub fn hold(&self, found: &mut Found, sha256: &str) {
                match self { $(Self::$kind(item) => item.hold(found, sha256),)* }
            }

            pub(crate) fn look(&self, look: &mut Look) {
                match self { $(Self::$kind(item) => item.look(look),)* }
            }

            pub(crate) fn put(&self, act: &mut Act<'_>) -> Result<(), String> {
                match self { $(Self::$kind(item) => item.put(act),)* }
            }
        }
    };
}

kinds! {
    /// A system user.
    User in users: bool,
    /// A directory.
    Directory in directories: DirectoryFacts,
    /// A file.
    File in files: FileFacts,
    /// A certificate with its key; where the link leads.
    Pair in pairs: String,
    /// A pinned file of a component, large and the same everywhere.
    Component in components: String,
    /// A file that must not be there: what an earlier cluster file asked for and this one forbids.
    Absent in leftovers: (),
    /// An image in the container runtime's store.
    Image in images: (),
    /// A package of the host's distribution.
    Package in packages: PackageFacts,
    /// No swap: what swaps now or will at the next boot.
    NoSwap in swaps: (),
    /// Lines in somebody else's file; the checksum of them.
    Block in blocks: String,
    /// What the host calls itself; there is one.
    OwnName in own_name: String,
    /// A symbolic link; where it leads.
    Link in links: String,
    /// A folder that what runs fills.
    Workspace in workspaces: (),
    /// That pods run here; noted once.
    Pods in pods: (),
    /// A module of the kernel; those that could be loaded and are not.
    Module in modules: (),
    /// A setting of the running kernel.
    Sysctl in sysctls: String,
    /// Routes that the kernel has; those that it lacks.
    Routes in routes: Vec<String>,
    /// What the firewall lets in; there is one.
    Rules in rules: RulesFacts,
    /// A systemd unit: whether it is enabled and runs. Its file is a [`File`] of its own.
    Unit in units: UnitFacts,
}

impl Item {
    /// Whether the unit that must have read it takes it by a reload.
    pub fn reloads(&self) -> bool {
        match self {
            Self::File(file) => file.reloads,
            Self::Pair(pair) => pair.read_by.is_some_and(|by| by.reloads),
            _ => false,
        }
    }

    /// Its name in messages: a path, or a name with its kind.
    pub fn title(&self) -> String {
        let described = self.describe();
        let plain =
            described.what.starts_with('/') && !matches!(self, Self::Block(_) | Self::Workspace(_));
        match plain || matches!(self, Self::Unit(_)) {
            true => described.what,
            false => format!("{} {}", described.kind, described.what),
        }
    }
}

const NOTES: &str = include_str!("notes.sh");

/// What a look has to ask, in the making: programs are started once for all items of a kind.
#[derive(Debug, Default)]
pub(crate) struct Look {
    batches: Vec<(&'static str, Vec<String>)>,
    lines: String,
}

impl Look {
    /// One more word for a function that takes many.
    fn batch(&mut self, function: &'static str, word: &str) {
        let word = quote(word);
        match self.batches.iter_mut().find(|(known, _)| *known == function) {
            Some((_, words)) => words.push(word),
            None => self.batches.push((function, vec![word])),
        }
    }

    /// A call of its own.
    fn line(&mut self, function: &str, words: &[&str]) {
        self.lines.push_str(&call(function, words));
    }

    /// All of it, as calls.
    pub(crate) fn body(mut self) -> String {
        let mut body = self.lines;
        // Whether a unit runs is what others ask by.
        self.batches.sort_by_key(|(function, _)| *function != "units");
        for (function, words) in self.batches {
            let _ = writeln!(body, "now {function}\n{function} \\\n  {}", words.join(" \\\n  "));
        }
        body
    }
}

/// What is done on a host, in the making. Keys may stand in it.
pub(crate) struct Act<'a> {
    /// The calls.
    pub(crate) body: Zeroizing<String>,
    /// How secrets appear.
    pub(crate) keys: KeyText<'a>,
}

impl Act<'_> {
    /// The text of a secret, as it is to appear.
    fn secret(
        &self,
        secret: &SecretRef,
        label: &str,
        sha256: &str,
    ) -> Result<Zeroizing<String>, String> {
        Ok(Zeroizing::new(match self.keys {
            KeyText::Masked => format!("(private key: {label}, sha256 {sha256})\n"),
            KeyText::Opened(open) => open(secret).ok_or(label)?.expose().to_owned(),
        }))
    }

    /// A call of one of the helpers, to which a text comes by standard input: lines, none of which is the marker.
    fn call_with(&mut self, function: &str, words: &[&str], text: &str) {
        let call = call(function, words);
        let _ = write!(self.body, "{} <<'END_OF_LINES'\n{text}END_OF_LINES\n", call.trim_end());
    }

    /// A call of one of the helpers.
    pub(crate) fn call(&mut self, function: &str, words: &[&str]) {
        self.body.push_str(&call(function, words));
    }
}

fn call(function: &str, words: &[&str]) -> String {
    let words: Vec<String> = words.iter().map(|word| quote(word)).collect();
    format!("{function} {}\n", words.join(" "))
}

/// Whether owner and mode are others.
fn access(owner: &str, mode: &str, wanted_owner: &str, wanted_mode: u32) -> Option<Differs> {
    let same = owner == wanted_owner && u32::from_str_radix(mode, 8) == Ok(wanted_mode);
    (!same).then(|| Differs::Access(format!("{owner} {mode}")))
}
