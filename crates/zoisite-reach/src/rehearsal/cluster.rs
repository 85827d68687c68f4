//! A small model of the rest of a cluster: services that need their files, an API that needs etcd,
//! tokens that let kubelets in, nodes that are Ready when what they need runs.

use std::collections::{BTreeMap, BTreeSet};

use zoisite_core::cluster::HostName;
use zoisite_core::components::Shelved;
use zoisite_core::holdings::{
    ADDRESS_UNIT, API_SERVER_UNIT, ApiObject, BALANCER_UNIT, ETCD_UNIT, KUBELET_UNIT, NodeWanted,
    REGISTRY_UNIT, TOKEN_PATH,
};
use zoisite_core::layout::{CNI_CONFIG, RUNTIME_UNIT};
use zoisite_core::pki::Secret;
use zoisite_core::sequence::{ApiLook, ApiObserved, ApiWork, NodeFacts};
use zoisite_core::token::TokenRecord;

use super::state::{SimFile, SimHost, World};

const NETWORK: &str = "zoisite-network.service";
const CLIENT: &str = "/var/lib/kubelet/pki/kubelet-client-current.pem";

/// Where a host's join token comes from.
pub(super) type Tokens<'a> = &'a dyn Fn(&HostName) -> Result<(TokenRecord, Secret), String>;

impl SimHost {
    fn unit_text(&self, unit: &str) -> Option<&str> {
        self.files.get(&format!("/etc/systemd/system/{unit}")).map(|file| file.text.as_str())
    }

    /// Whether systemd knows the unit: Zoisite's own by its file, the distribution's always.
    pub fn knows(&self, unit: &str) -> bool {
        unit == RUNTIME_UNIT || self.unit_text(unit).is_some()
    }

    pub fn started(&self, unit: &str) -> bool {
        self.up && self.units.get(unit).is_some_and(|unit| unit.started)
    }

    /// Starts a unit: its user, its program and every file that its command names must be there.
    pub fn begin(&self, unit: &str) -> Result<(), Vec<String>> {
        let Some(text) = self.unit_text(unit) else {
            return if unit == RUNTIME_UNIT {
                Ok(())
            } else {
                Err(vec![format!("Unit {unit} not found")])
            };
        };
        let user = text.lines().find_map(|line| line.strip_prefix("User=")).unwrap_or("root");
        if !self.has_user(user) {
            return Err(vec![format!("Failed to determine user credentials: {user}")]);
        }
        for command in text.lines().filter_map(|line| line.strip_prefix("ExecStart=")) {
            let program = command.split(' ').next().unwrap_or_default();
            if program.starts_with("/usr/local/") && !self.found.components.contains_key(program) {
                return Err(vec![format!("Failed to locate executable {program}")]);
            }
            for path in command.split([' ', '=', '"']).filter(|w| w.starts_with("/etc/zoisite/")) {
                match self.files.get(path) {
                    None => return Err(vec![format!("open {path}: no such file or directory")]),
                    Some(file)
                        if file.mode & 0o004 == 0 && file.owner != user && user != "root" =>
                    {
                        return Err(vec![format!("open {path}: permission denied")]);
                    }
                    Some(_) => {}
                }
            }
        }
        Ok(())
    }

    /// Whether pods can run here, or why not. `networked` tells whether something else brings a pod network.
    fn carries(&self, networked: bool) -> Result<(), String> {
        for unit in [KUBELET_UNIT, RUNTIME_UNIT, NETWORK] {
            if !self.started(unit) {
                return Err(format!("{unit} does not run"));
            }
        }
        if !networked && !self.files.contains_key(&format!("{CNI_CONFIG}/10-zoisite.conflist")) {
            return Err("container runtime network not ready: cni plugin not initialized".into());
        }
        if self.found.images.is_empty() {
            return Err("the sandbox image is missing".into());
        }
        Ok(())
    }
}

impl World {
    /// Whether a service other than etcd says that it is ready.
    pub(super) fn service_ready(&self, host: &HostName, unit: &str) -> bool {
        let Some(sim) = self.hosts.get(host).filter(|sim| sim.started(unit)) else { return false };
        if unit != API_SERVER_UNIT {
            return true;
        }
        // It is ready when one of the members that its own command names serves.
        let servers = sim
            .unit_text(unit)
            .and_then(|text| text.split("--etcd-servers=").nth(1))
            .and_then(|rest| rest.split([' ', '\n', '"']).next())
            .unwrap_or_default();
        servers.split(',').any(|url| {
            self.hosts.iter().any(|(member, other)| {
                url.starts_with(&format!("https://{}:", other.address)) && self.serves(member)
            })
        })
    }

    pub(super) fn api_ready(&self, host: &HostName) -> Result<(), String> {
        match self.service_ready(host, API_SERVER_UNIT) {
            true => Ok(()),
            false => Err("Connection refused".into()),
        }
    }

    /// Who holds the floating address: the first that runs what holds it and can serve there.
    pub(super) fn floats_at(&self) -> Option<HostName> {
        let mut holders: Vec<(&HostName, &SimHost)> = self
            .hosts
            .iter()
            .filter(|(host, sim)| sim.started(ADDRESS_UNIT) && !sim.away && self.could_serve(host))
            .collect();
        holders.sort_by_key(|(_, sim)| sim.address);
        holders.first().map(|(host, _)| (*host).clone())
    }

    /// Whether a host could serve at the floating address.
    pub(super) fn could_serve(&self, host: &HostName) -> bool {
        let Some(sim) = self.hosts.get(host) else { return false };
        match sim.knows(BALANCER_UNIT) {
            true => sim.started(BALANCER_UNIT) && self.any_api().is_ok(),
            false => self.service_ready(host, API_SERVER_UNIT),
        }
    }

    fn any_api(&self) -> Result<(), String> {
        let ready = self.hosts.keys().any(|host| self.api_ready(host).is_ok());
        if ready { Ok(()) } else { Err("no API server is ready".into()) }
    }

    /// The stable address, or the balancer on one host.
    pub(super) fn stable(&self, balancer: Option<&HostName>) -> Result<(), String> {
        let runs = |sim: &SimHost| sim.started(BALANCER_UNIT);
        let forwarded = match balancer {
            Some(host) => self.hosts.get(host).is_some_and(runs),
            None => {
                let known = self.hosts.values().any(|sim| sim.knows(BALANCER_UNIT));
                !known || self.hosts.values().any(runs)
            }
        };
        if !forwarded {
            return Err("no balancer forwards".into());
        }
        let floats = self.hosts.values().any(|sim| sim.knows(ADDRESS_UNIT));
        if balancer.is_none() && floats && self.floats_at().is_none() {
            return Err("nobody holds the floating address".into());
        }
        self.any_api()
    }

    pub(super) fn node_ready(&self, host: &HostName) -> Result<(), String> {
        self.any_api()?;
        if !self.api.nodes.contains_key(host) {
            return Err("it has no node object yet".into());
        }
        // Manifests of the site's that were applied are taken for a pod network that works.
        let networked = self.api.objects.values().any(|object| !object.is_own());
        let host = self.hosts.get(host).ok_or("no such host")?;
        host.carries(networked)
    }

    pub(super) fn rolled_out(&self) -> Result<(), String> {
        match self.api.nodes.keys().any(|host| self.node_ready(host).is_ok()) {
            true => Ok(()),
            false => Err("no node is Ready to carry it".into()),
        }
    }

    /// Rule S2 for the control plane: another API server is ready while one restarts, if there is one.
    pub(super) fn watch_control_plane(&mut self, host: &HostName, unit: &str) {
        if unit != API_SERVER_UNIT || !self.service_ready(host, unit) {
            return;
        }
        let others: Vec<&HostName> = self
            .hosts
            .iter()
            .filter(|(other, sim)| *other != host && sim.up && sim.knows(API_SERVER_UNIT))
            .map(|(other, _)| other)
            .collect();
        if !others.is_empty() && others.iter().all(|other| self.api_ready(other).is_err()) {
            self.break_rule(format!(
                "S2: the API server of {host} was restarted while no other was ready"
            ));
        }
    }

    /// Whether the registry on a host answers.
    pub(super) fn registry_answers(&self, host: &HostName) -> Result<(), String> {
        match self.hosts.get(host).is_some_and(|sim| sim.started(REGISTRY_UNIT)) {
            true => Ok(()),
            false => Err("Connection refused".into()),
        }
    }

    /// Puts an image into the registry on a host; whether it was not there.
    pub(super) fn shelve(&mut self, host: &HostName, image: &Shelved) -> Result<bool, String> {
        self.registry_answers(host)?;
        Ok(self.hosts.get_mut(host).is_some_and(|sim| sim.shelf.insert(image.name.to_string())))
    }

    pub(super) fn ask(&self, objects: &[ApiObject], shelf: &[Shelved]) -> ApiLook {
        if let Err(why) = self.any_api() {
            let host = None;
            return ApiLook::Silent(zoisite_core::diagnosis::Trouble::new(
                host,
                "asking the API servers",
                why,
                Vec::new(),
            ));
        }
        let nodes = self.api.nodes.iter().map(|(host, facts)| {
            let ready = self.node_ready(host);
            let why = ready.clone().err().unwrap_or_default();
            (host.to_string(), NodeFacts { ready: ready.is_ok(), why, ..facts.clone() })
        });
        ApiLook::Answered(Box::new(ApiObserved {
            version: "rehearsed".into(),
            nodes: nodes.collect(),
            differing: objects
                .iter()
                .filter(|object| self.api.objects.get(&object.title()) != Some(object))
                .map(ApiObject::title)
                .collect(),
            tokens: self.api.tokens.keys().cloned().collect(),
            requests: Vec::new(),
            waiting: BTreeMap::new(),
            uncompared: BTreeMap::new(),
            dns: String::new(),
            lacking: shelf
                .iter()
                .map(|image| image.name.to_string())
                .filter(|name| !self.hosts.values().any(|sim| sim.shelf.contains(name)))
                .collect(),
            registry_silent: match self.hosts.values().any(|sim| sim.started(REGISTRY_UNIT)) {
                false if !shelf.is_empty() => Some("Connection refused".into()),
                _ => None,
            },
        }))
    }

    /// Does a piece of work through the API; `Err` says what it still waits for.
    pub(super) fn work(&mut self, work: &ApiWork, tokens: Tokens<'_>) -> Result<usize, String> {
        self.any_api()?;
        match work {
            ApiWork::Apply { objects } => {
                let new = objects.iter().filter(|object| {
                    let old = self.api.objects.insert(object.title(), (*object).clone());
                    old.as_ref() != Some(object)
                });
                Ok(new.count())
            }
            ApiWork::Publish { host } => {
                let (record, token) = tokens(host)?;
                self.api.tokens.insert(record.id, token.expose().to_owned());
                Ok(1)
            }
            ApiWork::Admit { node, .. } => {
                self.admit(node)?;
                Ok(1)
            }
            ApiWork::Retract { host } => {
                let (record, _) = tokens(host)?;
                Ok(usize::from(self.api.tokens.remove(&record.id).is_some()))
            }
            ApiWork::SetNode { node } => {
                if let Some(facts) = self.api.nodes.get_mut(&node.host) {
                    set(facts, node);
                }
                Ok(1)
            }
            ApiWork::RemoveNode { host } => Ok(usize::from(self.api.nodes.remove(host).is_some())),
            ApiWork::Unpublish { ids } => {
                let before = self.api.tokens.len();
                self.api.tokens.retain(|id, _| !ids.contains(id));
                Ok(before - self.api.tokens.len())
            }
            ApiWork::Renew { .. } | ApiWork::Deny { .. } => Ok(1),
        }
    }

    /// A kubelet that runs with a published token, or with the certificate that it once got, registers.
    fn admit(&mut self, node: &NodeWanted) -> Result<(), String> {
        self.stable(None)?;
        let Some(sim) = self.hosts.get_mut(&node.host) else { return Err("no such host".into()) };
        if !sim.started(KUBELET_UNIT) {
            return Err("waiting for the kubelet's request".into());
        }
        let token = sim.files.get(TOKEN_PATH).map(|file| &file.text);
        let known = token.is_some_and(|token| {
            self.api.tokens.values().any(|published| published == token.trim())
        });
        if !known && !sim.files.contains_key(CLIENT) {
            return Err("waiting for the kubelet's request".into());
        }
        let certificate = SimFile { text: "signed".into(), owner: "root".into(), mode: 0o600 };
        sim.files.insert(CLIENT.into(), certificate);
        let machine = sim.machine.clone();
        let version = sim
            .found
            .components
            .keys()
            .find_map(|path| path.strip_suffix("/kubelet")?.rsplit_once("kubernetes-"))
            .map_or("", |(_, version)| version)
            .to_owned();
        let facts = self.api.nodes.entry(node.host.clone()).or_default();
        facts.machine = machine;
        facts.version = version;
        set(facts, node);
        Ok(())
    }

    /// Join tokens that are published.
    pub fn published_tokens(&self) -> BTreeSet<String> {
        self.api.tokens.keys().cloned().collect()
    }

    /// Nodes that are Ready.
    pub fn ready_nodes(&self) -> Vec<HostName> {
        self.api.nodes.keys().filter(|host| self.node_ready(host).is_ok()).cloned().collect()
    }

    /// Whether a unit runs and says that it is ready.
    pub fn runs(&self, host: &HostName, unit: &str) -> bool {
        if unit == ETCD_UNIT { self.serves(host) } else { self.service_ready(host, unit) }
    }
}

fn set(facts: &mut NodeFacts, node: &NodeWanted) {
    let put = facts.put.replace(node.put()).unwrap_or_default();
    facts.labels.retain(|key, _| !put.labels.contains(key));
    facts.taints.retain(|taint| !put.taints.contains(taint));
    facts.labels.extend(node.labels.clone());
    if facts.subnets.is_empty() {
        facts.subnets.clone_from(&node.subnets);
    }
    for taint in &node.taints {
        if !facts.taints.contains(taint) {
            facts.taints.push(taint.clone());
        }
    }
}
