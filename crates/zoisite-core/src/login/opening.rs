//! Opening a host: a key for logging in, a rule for becoming root, and taking both back.

use serde::{Deserialize, Serialize};

use crate::script::wrapped_login;
use crate::text::quote;

const OPEN: &str = include_str!("open.sh");

/// What was placed on a host: enough to take it back.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Opened {
    /// Who logs in.
    pub user: String,
    /// The line that was added to the user's authorized keys; `None` where it stood there before.
    pub key: Option<String>,
    /// The file with the rule of sudo; `None` where none was needed, or its name is not known yet.
    pub rule: Option<String>,
    /// It was begun, and is not known to have ended: the rule is found by what it says of itself.
    #[serde(default)]
    pub begun: bool,
}

/// What an opening script did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Opening {
    /// The rule stands in this file.
    Rule(String),
    /// The key was added.
    KeyPlaced,
    /// The key stood there before.
    KeyHad,
    /// The key does not stand there.
    KeyLacks,
    /// Something was taken back.
    Taken,
}

/// Why a host was not opened: nothing of that script stayed there.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct OpeningFailed(pub String);

/// The script that lets `user` become root without a password; runs as root.
pub fn rule_script(user: &str) -> String {
    wrapped_login("let a user become root", OPEN, &format!("put_rule {}\n", quote(user)))
}

/// The script that adds a public key, one line of an authorized_keys file (sshd(8)); runs as the login user.
pub fn key_script(line: &str) -> String {
    wrapped_login("add a key", OPEN, &format!("put_key {}\n", quote(line)))
}

/// The script that says whether a public key stands in the login user's list; changes nothing.
pub fn find_key_script(line: &str) -> String {
    wrapped_login("look for a key", OPEN, &format!("find_key {}\n", quote(line)))
}

/// The scripts that take back what was placed: the first as root, the second as the login user.
pub fn closing_scripts(opened: &Opened) -> (Option<String>, Option<String>) {
    let script = |what: &str, word: &str| {
        wrapped_login("take back", OPEN, &format!("{what} {}\n", quote(word)))
    };
    let rule = match &opened.rule {
        Some(rule) => Some(script("take_rule", rule)),
        None if opened.begun && opened.user != "root" => {
            Some(script("take_rules_of", &opened.user))
        }
        None => None,
    };
    let key = opened.key.as_ref().map(|key| script("take_key", key));
    (rule, key)
}

impl Opening {
    /// Reads what a script said.
    ///
    /// # Errors
    /// What kept it from being done.
    pub fn read(text: &str) -> Result<Self, OpeningFailed> {
        let mut done = None;
        let mut over = false;
        for line in text.lines() {
            let Some(rest) = line.strip_prefix("@\t") else { continue };
            let fields: Vec<&str> = rest.split('\t').collect();
            match fields.as_slice() {
                ["refused", why] => {
                    return Err(OpeningFailed(crate::text::plain(why).into_owned()));
                }
                ["rule", file] => done = Some(Self::Rule((*file).to_owned())),
                ["key", "placed"] => done = Some(Self::KeyPlaced),
                ["key", "had"] => done = Some(Self::KeyHad),
                ["key", "lacks"] => done = Some(Self::KeyLacks),
                ["end"] => over = true,
                _ => {}
            }
        }
        match over {
            true => Ok(done.unwrap_or(Self::Taken)),
            false => Err(OpeningFailed("the connection broke off".into())),
        }
    }
}
