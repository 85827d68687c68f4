//! Where the items of one host are made, out of what is known.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use serde::Serialize;
use serde_json::Value;

use super::runtime::Layout;
use super::{HoldingsError, HostFacts, Sources, UnitFile, WRITTEN, kubernetes_folder};
use crate::cluster::{Cluster, Host, HostName};
use crate::item::{Component, Content, Directory, File, Item, Pair, Pinned, ReadBy, Unit};
use crate::layout::UNITS;
use crate::paths::Demand;
use crate::pki::{AuthorityKind, KeyAt, LedgerEntry, OwnKey, Profile};

/// What is needed to work out the items of one host, and the faults found on the way.
pub(super) struct Workshop<'a> {
    pub(super) cluster: &'a Cluster,
    pub(super) host: &'a Host,
    pub(super) sources: Sources<'a>,
    /// Every host of the cluster file.
    pub(super) by_name: &'a HashMap<&'a HostName, &'a Host>,
    pub(super) current: &'a HashMap<(Profile, HostName), &'a LedgerEntry>,
    pub(super) shared: &'a SharedTexts,
    /// Everything that must be able to travel, where firewalls are told of it.
    pub(super) demands: &'a [Demand],
    /// Whether it is prepared to be a node.
    pub(super) node: bool,
    /// Whether it is prepared to run HAProxy: as a load balancer, or to give out metrics.
    pub(super) haproxy: bool,
    /// Whether it is prepared to hold the virtual IP.
    pub(super) floats: bool,
    pub(super) errors: Vec<HoldingsError>,
}

/// Texts that are the same on many hosts, written once.
#[derive(Debug, Default)]
pub(super) struct SharedTexts(Mutex<HashMap<String, Arc<str>>>);

impl Workshop<'_> {
    /// The members that API servers dial.
    pub(super) fn dialled(&self) -> &[HostName] {
        self.sources.etcd.map_or(&self.cluster.etcd.members, |aim| &aim.dialled)
    }

    /// A configuration as YAML that is the same on every host with this `key`; made when first asked for.
    pub(super) fn shared_yaml(&mut self, key: String, value: impl FnOnce() -> Value) -> Arc<str> {
        let known = self.shared.0.lock().ok().and_then(|texts| texts.get(&key).cloned());
        known.unwrap_or_else(|| {
            let text: Arc<str> = self.yaml(&value()).into();
            if let Ok(mut texts) = self.shared.0.lock() {
                texts.insert(key, Arc::clone(&text));
            }
            text
        })
    }

    /// A text that is the same on every host; made when first asked for.
    pub(super) fn shared_text(&self, key: &str, make: impl FnOnce() -> Arc<str>) -> Arc<str> {
        match self.shared.0.lock() {
            Ok(mut texts) => Arc::clone(texts.entry(key.to_owned()).or_insert_with(make)),
            Err(_) => make(),
        }
    }

    /// What is known of the host.
    pub(super) fn facts(&self) -> HostFacts {
        self.sources.facts.get(&self.host.name).cloned().unwrap_or_default()
    }

    pub(super) fn directory(path: &str, owner: &'static str, mode: u32) -> Item {
        Item::Directory(Directory { path: path.to_owned(), owner, mode })
    }

    /// A file for all to read.
    pub(super) fn file(
        path: &str,
        text: impl Into<Arc<str>>,
        restarts: Option<&'static str>,
    ) -> Item {
        Item::File(File {
            path: path.to_owned(),
            owner: "root",
            mode: 0o644,
            content: Content::text(text),
            restarts,
            reloads: false,
        })
    }

    /// A small program for all to read and root to write; its next start runs the new one.
    pub(super) fn program(path: &str, text: impl Into<Arc<str>>) -> Item {
        Item::File(File {
            path: path.to_owned(),
            owner: "root",
            mode: 0o755,
            content: Content::text(text),
            restarts: None,
            reloads: false,
        })
    }

    /// What a timer starts, and the timer, each with its name: it runs from the raise on.
    pub(super) fn timed(
        (unit, service): (&str, &UnitFile),
        (timer, what, when): (&'static str, String, Vec<(&'static str, String)>),
    ) -> Vec<Item> {
        let file = UnitFile::default()
            .section("Unit", [("Description", what)])
            .section("Timer", when)
            .section("Install", [("WantedBy", "timers.target")]);
        let mut items = vec![Self::file(&format!("{UNITS}/{unit}"), service.to_string(), None)];
        items.extend(Self::unit(timer, None, &file));
        items
    }

    /// A file of which a unit takes a change by a reload.
    pub(super) fn reloaded(path: &str, text: impl Into<Arc<str>>, unit: &'static str) -> Item {
        Item::File(File {
            path: path.to_owned(),
            owner: "root",
            mode: 0o644,
            content: Content::text(text),
            restarts: Some(unit),
            reloads: true,
        })
    }

    /// A unit file, and the unit; the port is where it listens, if systemd cannot know whether it is well.
    pub(super) fn unit(name: &'static str, port: Option<u16>, file: &UnitFile) -> [Item; 2] {
        let path = format!("{UNITS}/{name}");
        [Self::file(&path, file.to_string(), Some(name)), Item::Unit(Unit { name, port })]
    }

    /// The certificates of authorities that are believed.
    pub(super) fn authority(
        &mut self,
        kind: AuthorityKind,
        path: &str,
        restarts: Option<&'static str>,
    ) -> Vec<Item> {
        let bundle = self.sources.ledger.bundle(kind);
        self.believed(kind, bundle, path, restarts)
    }

    /// The same, and all that stands above them.
    pub(super) fn authority_up_to_root(
        &mut self,
        kind: AuthorityKind,
        path: &str,
        restarts: Option<&'static str>,
    ) -> Vec<Item> {
        let bundle = self.sources.ledger.bundle_up_to_root(kind);
        self.believed(kind, bundle, path, restarts)
    }

    fn believed(
        &mut self,
        kind: AuthorityKind,
        bundle: Option<String>,
        path: &str,
        restarts: Option<&'static str>,
    ) -> Vec<Item> {
        match bundle {
            Some(bundle) => vec![Self::file(path, bundle, restarts)],
            None => {
                self.errors.push(HoldingsError::NoAuthority(kind));
                Vec::new()
            }
        }
    }

    /// A certificate for all to read, with its key for its owner alone.
    pub(super) fn certificate(&mut self, profile: Profile) -> Vec<Item> {
        self.certificate_read_by(profile, None)
    }

    /// The same for a unit that reads it when it starts.
    pub(super) fn certificate_read_by(
        &mut self,
        profile: Profile,
        read_by: impl Into<Option<ReadBy>>,
    ) -> Vec<Item> {
        let host = self.host.name.clone();
        let (Some(place), Some(entry)) =
            (profile.place(), self.current.get(&(profile, host.clone())))
        else {
            self.errors.push(HoldingsError::NoCertificate { profile, host });
            return Vec::new();
        };
        vec![Item::Pair(Pair {
            path: place.path(),
            owner: place.owner,
            serial: entry.serial.clone(),
            label: entry.label(),
            certificate: entry.pem.as_str().into(),
            key_sha256: entry.key_sha256.clone(),
            own_key: (entry.key_at != KeyAt::Strongbox).then(|| OwnKey {
                profile,
                kind: entry.key,
                common_name: entry.common_name.clone(),
                organization: entry.organization.clone(),
                openssl: Layout::of(self.cluster, &self.facts()).openssl().to_owned(),
            }),
            read_by: read_by.into(),
        })]
    }

    /// A secret from the strongbox, for its owner alone.
    pub(super) fn key(
        path: &str,
        owner: &'static str,
        content: Content,
        restarts: Option<&'static str>,
    ) -> Item {
        Item::File(File {
            path: path.to_owned(),
            owner,
            mode: 0o600,
            content,
            restarts,
            reloads: false,
        })
    }

    /// A value as YAML, under a line that says who wrote it.
    pub(super) fn yaml(&mut self, value: &impl Serialize) -> String {
        match serde_saphyr::to_string(value) {
            Ok(text) => format!("{WRITTEN}{text}"),
            Err(error) => {
                let host = self.host.name.clone();
                self.errors.push(HoldingsError::Yaml { host, why: error.to_string() });
                String::new()
            }
        }
    }

    /// Programs of Kubernetes that a host runs, each with the unit that runs it.
    pub(super) fn kubernetes(
        &self,
        programs: &[(&'static str, Option<&'static str>)],
    ) -> Vec<Item> {
        let version = self.cluster.kubernetes.to_string();
        let folder = kubernetes_folder(self.cluster);
        let mut items = vec![
            Self::directory("/usr/local/lib/zoisite", "root", 0o755),
            Self::directory(&folder, "root", 0o755),
            Self::directory("/etc/zoisite", "root", 0o755),
        ];
        items.extend(programs.iter().map(|(file, restarts)| {
            Item::Component(Component {
                path: format!("{folder}/{file}"),
                pinned: Pinned { name: "kubernetes", version: version.clone(), file },
                restarts: *restarts,
            })
        }));
        items
    }
}
