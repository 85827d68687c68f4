//! The hosts that an SSH client configuration names (ssh_config(5)).

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

/// A host of an SSH configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SshHost {
    /// Its name there, in a `Host` line.
    pub name: String,
    /// The name or address that ssh would dial.
    pub dials: String,
}

/// How deep files may include one another, as ssh itself bounds it.
const DEEPEST: usize = 16;

/// The hosts that a configuration and what it includes name whole, in their order; patterns name no host. ssh
/// itself says where each is.
///
/// # Errors
/// Everything that cannot be read, and what ssh says of a configuration that it does not understand.
pub fn ssh_hosts(config: &Path) -> Result<Vec<SshHost>, Vec<String>> {
    let mut found = Found::default();
    found.read(config, 0);
    let Found { names, mut errors, .. } = found;
    let mut hosts = Vec::new();
    for name in names {
        let asked = Command::new("ssh")
            .arg("-F")
            .arg(config)
            .args(["-G", "--", &name])
            .stdin(Stdio::null())
            .output();
        match asked {
            Ok(said) if said.status.success() => {
                let text = String::from_utf8_lossy(&said.stdout);
                let dials = text.lines().find_map(|line| line.strip_prefix("hostname "));
                let dials = dials.unwrap_or(&name).to_owned();
                hosts.push(SshHost { name, dials });
            }
            Ok(said) => {
                let text = String::from_utf8_lossy(&said.stderr);
                // The same mistake for every host is reported once.
                errors.push(zoisite_core::text::plain(text.trim()).into_owned());
                break;
            }
            Err(error) => {
                errors.push(format!("asking ssh: {error}"));
                break;
            }
        }
    }
    if errors.is_empty() { Ok(hosts) } else { Err(errors) }
}

#[derive(Default)]
struct Found {
    names: Vec<String>,
    seen: BTreeSet<String>,
    errors: Vec<String>,
}

impl Found {
    fn read(&mut self, path: &Path, depth: usize) {
        let octets = match std::fs::read(path) {
            Ok(octets) => octets,
            Err(error) => {
                self.errors.push(format!("reading {}: {error}", path.display()));
                return;
            }
        };
        for line in String::from_utf8_lossy(&octets).lines() {
            // A keyword and its arguments are parted by blanks or one `=`.
            let line = line.trim();
            let Some(at) = line.find(|c: char| c.is_whitespace() || c == '=') else { continue };
            let (keyword, rest) = line.split_at(at);
            let rest = rest.trim_start().trim_start_matches('=').trim();
            match keyword.to_lowercase().as_str() {
                "host" => {
                    for name in
                        words(rest).into_iter().filter(|name| !name.contains(['*', '?', '!']))
                    {
                        if self.seen.insert(name.clone()) {
                            self.names.push(name);
                        }
                    }
                }
                "include" if depth < DEEPEST => {
                    for pattern in words(rest) {
                        for path in included(&pattern) {
                            self.read(&path, depth + 1);
                        }
                    }
                }
                _ => {}
            }
        }
    }
}

/// A path as ssh reads it. What begins with `~/` is in the home that ssh knows: the account's, which need not be the
/// `HOME` of the environment.
pub fn ssh_path(path: &str) -> PathBuf {
    static HOME: OnceLock<PathBuf> = OnceLock::new();
    let Some(rest) = path.strip_prefix("~/") else { return PathBuf::from(path) };
    HOME.get_or_init(|| home_of_ssh().or_else(std::env::home_dir).unwrap_or_default()).join(rest)
}

/// The home as ssh expands it (`%d` in ssh_config(5)).
fn home_of_ssh() -> Option<PathBuf> {
    let mut ssh = Command::new("ssh");
    ssh.args(["-F", "none", "-G", "-o", "ControlPath=%d/", "localhost"]).stdin(Stdio::null());
    let said = ssh.output().ok()?.stdout;
    let said = String::from_utf8_lossy(&said);
    said.lines().find_map(|line| line.strip_prefix("controlpath ")).map(PathBuf::from)
}

/// The files of an `Include`: a path without a `/` in front starts at the person's own SSH folder.
fn included(pattern: &str) -> Vec<PathBuf> {
    let whole = match pattern {
        own if own.starts_with(['/', '~']) => ssh_path(own),
        own => ssh_path(&format!("~/.ssh/{own}")),
    };
    match glob::glob(&whole.to_string_lossy()) {
        Ok(paths) => paths.flatten().filter(|path| path.is_file()).collect(),
        Err(_) => Vec::new(),
    }
}

/// Arguments, some perhaps in double quotes; a comment ends them.
fn words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = text.trim_start();
    while !rest.is_empty() && !rest.starts_with('#') {
        let (word, after) = match rest.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"').unwrap_or((quoted, "")),
            None => rest.split_once(char::is_whitespace).unwrap_or((rest, "")),
        };
        words.push(word.to_owned());
        rest = after.trim_start();
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_are_those_named_whole_and_includes_are_followed() {
        let folder = tempfile::tempdir().unwrap();
        let (main, more) = (folder.path().join("config"), folder.path().join("more.conf"));
        std::fs::write(&more, "Host=curlew \"plover\" # the east hide\n  HostName 10.77.0.21\n")
            .unwrap();
        let text = format!(
            "Include {}/*.conf\nHost heron egret *.example !ibis\n  User warden\n\
             Host heron\n  HostName 10.77.0.11\nMatch user nobody\nHost *\n  Port 2222\n",
            folder.path().display()
        );
        std::fs::write(&main, text).unwrap();
        let hosts = ssh_hosts(&main).unwrap();
        let all: Vec<(&str, &str)> =
            hosts.iter().map(|host| (host.name.as_str(), host.dials.as_str())).collect();
        let wanted = [
            ("curlew", "10.77.0.21"),
            ("plover", "10.77.0.21"),
            ("heron", "10.77.0.11"),
            ("egret", "egret"),
        ];
        assert_eq!(all, wanted);
        // A file that includes itself ends.
        std::fs::write(&main, format!("Include {}\n", main.display())).unwrap();
        let errors = ssh_hosts(&main);
        assert_eq!(errors.unwrap(), []);
        std::fs::write(&main, "Host heron\n  Hostnam 10.77.0.11\n").unwrap();
        let errors = ssh_hosts(&main).unwrap_err();
        assert!(errors.len() == 1 && errors[0].contains("hostnam"), "{errors:?}");
        assert!(ssh_hosts(&folder.path().join("none")).unwrap_err()[0].contains("none"));
    }
}
