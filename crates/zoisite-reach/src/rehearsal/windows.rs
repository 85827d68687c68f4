//! A machine that runs Windows, as far as its join file is concerned: it carries the acts out as the file's own functions do,
//! and finds what could not be on a real one.

use std::collections::{BTreeMap, BTreeSet};

use ipnet::IpNet;
use serde_json::Value;

/// The machine.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WindowsMachine {
    features: BTreeSet<String>,
    /// Folders, and whether they are the system's and administrators' alone.
    folders: BTreeMap<String, bool>,
    files: BTreeMap<String, String>,
    ports: BTreeMap<String, String>,
    networks: BTreeMap<String, Value>,
    /// Services that run: with which command.
    services: BTreeMap<String, String>,
    /// Services whose files changed since they started.
    pending: BTreeSet<String>,
    /// In which order services were begun, or begun again.
    begun: Vec<String>,
}

/// Files that services write themselves, by the end of their paths.
const WRITTEN_BY_SERVICES: &[&str] = &["\\kubeconfig", "\\pki", ".log", "\\root", "\\state"];

impl WindowsMachine {
    /// Carries out what a join file says, one act after another; returns how many changed anything.
    ///
    /// # Errors
    /// What an act could not be done for, and of which.
    pub fn carry_out(&mut self, acts: &[Value]) -> Result<usize, String> {
        let mut changed = 0;
        for act in acts {
            let what = ["path", "name"].iter().find_map(|key| act[*key].as_str());
            let name = format!("{} {}", word(act, "do"), what.unwrap_or_default());
            changed += usize::from(self.one(act).map_err(|why| format!("{name}: {why}"))?);
        }
        Ok(changed)
    }

    /// The services that run.
    pub fn services(&self) -> impl Iterator<Item = &str> {
        self.services.keys().map(String::as_str)
    }

    /// In which order services were begun, or begun again.
    pub fn begun(&self) -> &[String] {
        &self.begun
    }

    fn one(&mut self, act: &Value) -> Result<bool, String> {
        match word(act, "do") {
            "feature" => Ok(self.features.insert(word(act, "name").to_owned())),
            "folder" => {
                let private = act["private"] == true;
                let path = word(act, "path").to_owned();
                Ok(self.folders.insert(path, private) != Some(private))
            }
            "file" => self.put(act, word(act, "content")),
            "program" => {
                let sum = word(act, "sha256");
                if sum.len() != 64 {
                    return Err(format!("'{sum}' is no checksum"));
                }
                self.put(act, sum)
            }
            "token" => match word(act, "token") {
                "" => Ok(false),
                token => self.put(act, token),
            },
            "overlay" => self.overlay(act),
            "port" => {
                let rule = format!("{} {} {}", act["udp"], act["port"], act["from"]);
                if act["from"].as_array().is_none_or(Vec::is_empty) {
                    return Err("it would be open to everybody".into());
                }
                let before = self.ports.insert(word(act, "name").to_owned(), rule.clone());
                Ok(before != Some(rule))
            }
            "service" => self.service(act),
            other => Err(format!("there is no way to do '{other}'")),
        }
    }

    fn put(&mut self, act: &Value, content: &str) -> Result<bool, String> {
        let path = word(act, "path");
        let folder = path.rsplit_once('\\').map_or("", |(folder, _)| folder);
        let Some(private) = self.folders.get(folder) else {
            return Err(format!("there is no folder {folder}"));
        };
        let secret = content.contains("PRIVATE KEY") || word(act, "do") == "token";
        if secret && !private {
            return Err(format!("{folder} is for everybody to read"));
        }
        let same = self.files.get(path).is_some_and(|there| there == content);
        if !same {
            self.files.insert(path.to_owned(), content.to_owned());
            self.pending.extend(act["restarts"].as_str().map(ToOwned::to_owned));
        }
        Ok(!same)
    }

    fn overlay(&mut self, act: &Value) -> Result<bool, String> {
        let range = |value: &Value| value.as_str().and_then(|text| text.parse::<IpNet>().ok());
        let own = range(&act["subnet"]).ok_or("it has no subnet")?;
        let mut taken = vec![own];
        for remote in act["remotes"].as_array().into_iter().flatten() {
            let net = range(&remote["subnet"]).ok_or("a remote has no subnet")?;
            if taken.iter().any(|other| other.contains(&net) || net.contains(other)) {
                return Err(format!("{net} is there twice"));
            }
            taken.push(net);
        }
        if act["identifier"].as_u64().is_none_or(|id| id < 4_096) {
            return Err("Windows takes no identifier below 4096".into());
        }
        let before = self.networks.insert(word(act, "name").to_owned(), act.clone());
        Ok(before.as_ref() != Some(act))
    }

    fn service(&mut self, act: &Value) -> Result<bool, String> {
        let (name, command) = (word(act, "name"), word(act, "command"));
        for needed in act["needs"].as_array().into_iter().flatten().filter_map(Value::as_str) {
            if !self.services.contains_key(needed) {
                return Err(format!("the service {needed} is not there"));
            }
        }
        self.is_there(command)?;
        // What its files name must be there too.
        let named: Vec<String> =
            words(command).filter_map(|path| self.files.get(path)).cloned().collect();
        for content in named {
            self.is_there(&content)?;
        }
        let same = self.services.get(name).is_some_and(|there| there == command);
        let pending = self.pending.remove(name);
        if !same || pending {
            self.services.insert(name.to_owned(), command.to_owned());
            self.begun.push(name.to_owned());
        }
        Ok(!same || pending)
    }

    /// Whether all paths in a text lead to something, or to what a service writes itself.
    fn is_there(&self, text: &str) -> Result<(), String> {
        let written = |path: &str| WRITTEN_BY_SERVICES.iter().any(|end| path.ends_with(end));
        for path in words(text) {
            if !self.files.contains_key(path) && !self.folders.contains_key(path) && !written(path)
            {
                return Err(format!("{path} is not there"));
            }
        }
        Ok(())
    }
}

fn word<'a>(act: &'a Value, key: &str) -> &'a str {
    act[key].as_str().unwrap_or_default()
}

/// The paths in a text.
fn words(text: &str) -> impl Iterator<Item = &str> {
    let ends = |c: char| c.is_whitespace() || "\"'=,".contains(c);
    text.split(ends).filter(|word| word.starts_with("C:\\"))
}
