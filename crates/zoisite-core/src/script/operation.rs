use std::fmt;
use std::fmt::Write as _;

use zeroize::Zeroizing;

use super::{quote, wrapped};
use crate::blueprint::{Component, Content, Directory, File, Image, User};
use crate::cluster::HostName;
use crate::pki::Secret;

const ACT: &str = include_str!("act.sh");
const UPLOAD: &str = include_str!("upload.sh");
const FETCH: &str = include_str!("fetch.sh");

/// One thing to do on a host. Each is idempotent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Make a system user.
    User(User),
    /// Make a directory, or set its owner and mode.
    Directory(Directory),
    /// Write a file, replacing it in one instant.
    File(File),
    /// Write a mark, once.
    Mark {
        /// Absolute path.
        path: String,
        /// Owning user and group.
        owner: &'static str,
        /// What it says.
        text: String,
    },
    /// Bring an image from its archive on the host into the container runtime's store.
    Import(Image),
    /// Take a file away that must not stay.
    Remove(String),
    /// Have systemd read unit files anew, and the unit start at boot.
    Enable(&'static str),
    /// Start a unit, without waiting.
    Start(&'static str),
    /// Restart a unit, without waiting.
    Restart(&'static str),
    /// Wait on the host until a unit is ready. Comes last in a stretch: it lets go of the host's lock.
    Settle {
        /// The unit.
        unit: &'static str,
        /// Deadline, in seconds.
        seconds: u32,
    },
}

impl fmt::Display for Operation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::User(user) => write!(f, "user {}", user.name),
            Self::Directory(directory) => write!(f, "directory {}", directory.path),
            Self::File(file) => write!(f, "file {}", file.path),
            Self::Mark { path, .. } => write!(f, "mark {path}"),
            Self::Import(image) => write!(f, "image {}", image.name),
            Self::Remove(path) => write!(f, "remove {path}"),
            Self::Enable(unit) => write!(f, "enable {unit}"),
            Self::Start(unit) => write!(f, "start {unit}"),
            Self::Restart(unit) => write!(f, "restart {unit}"),
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

/// How the text of a private key is to appear in a script.
#[derive(Clone, Copy)]
pub enum KeyText<'a> {
    /// As a note that a key stands there: for reading.
    Masked,
    /// In full, from the strongbox, by serial number: for the host alone.
    Opened(&'a dyn Fn(&str) -> Option<Secret>),
}

impl fmt::Debug for KeyText<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Masked => "Masked",
            Self::Opened(_) => "Opened(…)",
        })
    }
}

impl Stretch {
    /// The script, for the run of that generation.
    ///
    /// It is secret when keys are opened. A key that cannot be opened is an error, its label.
    ///
    /// # Errors
    /// The label of the key that the strongbox does not hold.
    pub fn script(&self, generation: u64, keys: KeyText<'_>) -> Result<Secret, String> {
        // Keys may stand in it: what is built on the way to the secret is cleared too.
        let mut body = Zeroizing::new(String::with_capacity(128 * 1_024));
        let _ = writeln!(body, "lock {generation}");
        for operation in &self.operations {
            match operation {
                Operation::User(user) => {
                    let _ = writeln!(body, "user {} {}", quote(user.name), quote(&user.home));
                }
                Operation::Directory(d) => {
                    let _ = writeln!(body, "directory {} {} {:o}", quote(&d.path), d.owner, d.mode);
                }
                Operation::File(file) => write_file(&mut body, file, keys)?,
                Operation::Mark { path, owner, text } => {
                    let _ = writeln!(body, "mark {} {owner} {}", quote(path), quote(text));
                }
                Operation::Import(image) => {
                    let (name, archive) = (quote(&image.name), quote(&image.archive));
                    let _ = writeln!(body, "import {name} {archive}");
                }
                Operation::Remove(path) => {
                    let _ = writeln!(body, "remove {}", quote(path));
                }
                Operation::Enable(unit) => {
                    let _ = writeln!(body, "start_at_boot {}", quote(unit));
                }
                Operation::Start(unit) => {
                    let _ = writeln!(body, "start {}", quote(unit));
                }
                Operation::Restart(unit) => {
                    let _ = writeln!(body, "restart {}", quote(unit));
                }
                Operation::Settle { unit, seconds } => {
                    let _ = writeln!(body, "unlock\nsettle {} {seconds}", quote(unit));
                }
            }
        }
        let title = format!("zoisite: act on {}, run {generation}", self.host);
        Ok(Secret::new(wrapped(&title, &[ACT], &body)))
    }
}

fn write_file(body: &mut String, file: &File, keys: KeyText<'_>) -> Result<(), String> {
    let text = Zeroizing::new(match (&file.content, keys) {
        (Content::Key { label, sha256, .. }, KeyText::Masked) => {
            format!("(private key: {label}, sha256 {sha256})\n")
        }
        (Content::Key { serial, label, .. }, KeyText::Opened(open)) => {
            open(serial).ok_or_else(|| label.clone())?.expose().to_owned()
        }
        (content, _) => content.whole_text().unwrap_or_default(),
    });
    let restarts = file.restarts.map_or(String::new(), |unit| format!(" {}", quote(unit)));
    // The marker must stand in no line of the text; a line of the text never equals it.
    let mut marker = String::from("END_OF_FILE");
    while text.lines().any(|line| line == marker) {
        marker.push('_');
    }
    let _ = write!(
        body,
        "file {} {} {:o}{restarts} <<'{marker}'\n{}{}{marker}\n",
        quote(&file.path),
        file.owner,
        file.mode,
        *text,
        if text.ends_with('\n') || text.is_empty() { "" } else { "\n" },
    );
    Ok(())
}

/// The script that takes one component by the rest of its standard input, whose size is in octets. It says
/// first how many of them are there already. It holds nothing secret.
pub fn upload_script(
    host: &HostName,
    component: &Component,
    (sha256, size): (&str, u64),
    generation: u64,
) -> String {
    let restarts = component.restarts.map_or(String::new(), |unit| format!(" {}", quote(unit)));
    let body =
        format!("upload {} {sha256} {size} 755 {generation}{restarts}\n", quote(&component.path));
    let script =
        wrapped(&format!("zoisite: {} for {host}", component.pinned), &[ACT, UPLOAD], &body);
    // The function's own input is /dev/null; the file comes by a descriptor of its own.
    script.replace("\nzoisite </dev/null\n", "\nzoisite 8<&0 </dev/null\n")
}

/// The script that gives a piece of a file: from an offset on, so many octets at most.
pub fn fetch_script(path: &str, from: u64, octets: u64) -> String {
    let body = format!("fetch {} {from} {octets}\n", quote(path));
    wrapped("zoisite: give a file", &[FETCH], &body)
}
