//! A small model of the rest of a cluster: services that need their files, an API that needs etcd,
//! tokens that let kubelets in, nodes that are Ready when what they need runs.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use zoisite_core::cluster::HostName;
use zoisite_core::components::Shelved;
use zoisite_core::holdings::{
    ADDRESS_UNIT, API_SERVER_UNIT, ApiObject, ETCD_UNIT, KUBELET_UNIT, LOAD_BALANCER_UNIT,
    MESH_UNIT, NodeWanted, REGISTRY_UNIT, TOKEN_PATH,
};
use zoisite_core::layout::{CNI_CONFIG, RUNTIME_UNIT};
use zoisite_core::pki::{KUBELET_CLIENT_SIGNER, NodeRequest};
use zoisite_core::sequence::{ApiLook, ApiObserved, ApiWork, NodeFacts};
use zoisite_core::token::JOINING;

use super::state::{Papers, Process, SimFile, SimHost, SimRequest, SimUnit, World};
use super::tls::As;
use crate::reach::Contents;

const NETWORK: &str = "zoisite-network.service";
const CLIENT: &str = "/var/lib/kubelet/pki/kubelet-client-current.pem";
const JOIN: &str = "/etc/zoisite/kubelet/join.yaml";

impl SimHost {
    fn unit_text(&self, unit: &str) -> Option<&str> {
        self.files.get(&format!("/etc/systemd/system/{unit}")).map(|file| file.text.as_str())
    }

    /// What a unit's command gives to a flag.
    pub(super) fn flag(&self, unit: &str, name: &str) -> Option<&str> {
        let text = self.unit_text(unit)?;
        let rest = text.split(&format!("--{name}=")).nth(1)?;
        rest.split([' ', '\n', '"']).next()
    }

    /// Whether the kubelet here takes an API server for the one that it dials.
    fn sees_as_api(&self, server: &Self, now: i64) -> Result<(), String> {
        let text = self.files.get(JOIN).map_or("", |file| file.text.as_str());
        let value = |key: &str| {
            let line = text
                .lines()
                .find_map(|line| line.trim().trim_start_matches("- ").strip_prefix(key));
            line.map(|value| value.trim().trim_matches('"')).unwrap_or_default()
        };
        let dialled = value("server:").trim_start_matches("https://");
        let name = dialled.rsplit_once(':').map_or(dialled, |(name, _)| name);
        let name = name.trim_matches(['[', ']']);
        let flag = |name: &str| server.flag(API_SERVER_UNIT, name).unwrap_or_default().to_owned();
        let (certificate, key) = (flag("tls-cert-file"), flag("tls-private-key-file"));
        let papers = Papers { certificate, key, authority: String::new() };
        let authority = self.paper(value("certificate-authority:"))?;
        self.accepts(authority, (server, &papers), As::Server(name), now)
    }

    /// Whether systemd knows the unit: Zoisite's own by its file, the distribution's always.
    pub fn knows(&self, unit: &str) -> bool {
        unit == RUNTIME_UNIT || self.unit_text(unit).is_some()
    }

    /// Whether a unit runs, and is not on its way up any more.
    pub fn started(&self, unit: &str) -> bool {
        let ready = |unit: &SimUnit| unit.started && unit.warming == 0;
        self.up && self.units.get(unit).is_some_and(ready)
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
        // It is ready when one of the members that its own command names serves it.
        let flag = |name: &str| sim.flag(unit, name).unwrap_or_default();
        let serves = |member: &HostName, other: &SimHost, process: &Process| {
            self.serves(member)
                && !self.blocked(host, member)
                && self.api_and_etcd((host, sim), (member, other, process)).is_ok()
        };
        flag("etcd-servers").split(',').any(|url| {
            let named = |(_, other): &(&HostName, &SimHost)| {
                url.starts_with(&format!("https://{}:", other.address))
            };
            let mut members = self.hosts.iter().filter(named);
            members.any(|(member, other)| {
                other.process.as_ref().is_some_and(|process| serves(member, other, process))
            })
        })
    }

    /// Whether a host's kubelet and an API server that is ready trust one another: the server as the API endpoint's name that
    /// the kubelet dials, the kubelet with the certificate that it was let in with.
    fn is_let_in(&self, host: &HostName) -> Result<(), String> {
        let Some(sim) = self.hosts.get(host) else { return Err("no such host".into()) };
        let now = Timestamp::from_second(self.clock(host)).unwrap_or_default();
        // Of one that was seen and not let in here the end of its certificate is known, and no more.
        let known = sim.seen.as_ref().is_some_and(|seen| seen.identity.holds(now));
        let known = known && !sim.files.contains_key(CLIENT);
        let mut why = "no API server is ready".to_owned();
        for (name, server) in &self.hosts {
            if self.api_ready(name).is_err() || self.blocked(host, name) {
                continue;
            }
            let shown = sim.sees_as_api(server, self.clock(host)).and_then(|()| {
                if known {
                    return Ok(());
                }
                let own = Papers {
                    certificate: CLIENT.into(),
                    key: CLIENT.into(),
                    authority: String::new(),
                };
                let trusts = server.flag(API_SERVER_UNIT, "client-ca-file").unwrap_or_default();
                server.accepts(
                    server.paper(trusts)?,
                    (sim, &own),
                    As::Client(None),
                    self.clock(name),
                )
            });
            match shown {
                Ok(()) => return Ok(()),
                Err(error) => why = error,
            }
        }
        Err(why)
    }

    pub(super) fn api_ready(&self, host: &HostName) -> Result<(), String> {
        match self.service_ready(host, API_SERVER_UNIT) {
            true => Ok(()),
            false => Err("Connection refused".into()),
        }
    }

    /// Who holds the virtual IP: the first that runs what holds it and can serve there.
    pub(super) fn floats_at(&self) -> Option<HostName> {
        let mut holders: Vec<(&HostName, &SimHost)> = self
            .hosts
            .iter()
            .filter(|(host, sim)| sim.started(ADDRESS_UNIT) && !sim.away && self.could_serve(host))
            .collect();
        holders.sort_by_key(|(_, sim)| sim.address);
        holders.first().map(|(host, _)| (*host).clone())
    }

    /// Whether a host could serve at the virtual IP.
    pub(super) fn could_serve(&self, host: &HostName) -> bool {
        let Some(sim) = self.hosts.get(host) else { return false };
        match sim.knows(LOAD_BALANCER_UNIT) {
            true => sim.started(LOAD_BALANCER_UNIT) && self.any_api().is_ok(),
            false => self.service_ready(host, API_SERVER_UNIT),
        }
    }

    fn any_api(&self) -> Result<(), String> {
        let ready = self.hosts.keys().any(|host| self.api_ready(host).is_ok());
        if ready { Ok(()) } else { Err("no API server is ready".into()) }
    }

    /// The API endpoint, or the load balancer on one host.
    pub(super) fn stable(&self, load_balancer: Option<&HostName>) -> Result<(), String> {
        let runs = |sim: &SimHost| sim.started(LOAD_BALANCER_UNIT);
        let forwarded = match load_balancer {
            Some(host) => self.hosts.get(host).is_some_and(runs),
            None => {
                let known = self.hosts.values().any(|sim| sim.knows(LOAD_BALANCER_UNIT));
                !known || self.hosts.values().any(runs)
            }
        };
        if !forwarded {
            return Err("no load balancer forwards".into());
        }
        let floats = self.hosts.values().any(|sim| sim.knows(ADDRESS_UNIT));
        if load_balancer.is_none() && floats && self.floats_at().is_none() {
            return Err("no host holds the virtual IP".into());
        }
        self.any_api()
    }

    pub(super) fn node_ready(&self, host: &HostName) -> Result<(), String> {
        self.any_api()?;
        if !self.api.nodes.contains_key(host) {
            return Err("it has no node object yet".into());
        }
        self.is_let_in(host)?;
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

    /// Whether others answer a host through the mesh.
    pub(super) fn meets(&self, host: &HostName, others: &[HostName]) -> Result<(), String> {
        let up = |host: &HostName| {
            self.hosts.get(host).is_some_and(|sim| sim.up && sim.started(MESH_UNIT))
        };
        let silent = |other: &&HostName| !up(host) || !up(other) || self.cut(host, other);
        let silent: Vec<&str> = others.iter().filter(silent).map(HostName::as_str).collect();
        match silent.is_empty() {
            true => Ok(()),
            false => Err(format!("no answer through the mesh from {}", silent.join(", "))),
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
            requests: self.api.requests.iter().map(|asked| asked.request.clone()).collect(),
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
    pub(super) fn work(
        &mut self,
        work: &ApiWork,
        contents: &dyn Contents,
    ) -> Result<usize, String> {
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
                // Those of runs that were cut off go first.
                self.unpublish(&contents.retire_tokens(host, false)?);
                // What was asked for with them waits for nobody any more.
                self.api.requests.retain(|asked| !asked.request.joins(host));
                let (record, token) = contents.join_token(host)?;
                self.api.tokens.insert(record.id, token.expose().to_owned());
                Ok(1)
            }
            ApiWork::Admit { node, .. } => {
                self.admit(node, contents)?;
                Ok(1)
            }
            ApiWork::Retract { host } => Ok(self.unpublish(&contents.retire_tokens(host, true)?)),
            ApiWork::SetNode { node } => {
                if let Some(facts) = self.api.nodes.get_mut(&node.host) {
                    set(facts, node);
                }
                Ok(1)
            }
            ApiWork::RemoveNode { host } => Ok(usize::from(self.api.nodes.remove(host).is_some())),
            ApiWork::Unpublish { ids } => Ok(self.unpublish(ids)),
            ApiWork::Close { host } | ApiWork::Drain { host, .. } => {
                Ok(usize::from(self.api.nodes.contains_key(host)))
            }
            ApiWork::Deny { request, .. } => {
                self.api.requests.retain(|asked| asked.request.name != *request);
                Ok(1)
            }
            // No certificate comes to its end within a rehearsal.
            ApiWork::Renew { .. } | ApiWork::Believe { .. } => Ok(1),
        }
    }

    fn unpublish(&mut self, ids: &[String]) -> usize {
        let before = self.api.tokens.len();
        self.api.tokens.retain(|id, _| !ids.contains(id));
        before - self.api.tokens.len()
    }

    /// Kubelets that run without a certificate ask for one, with the token that they were given; it waits for its answer.
    pub(super) fn kubelets_ask(&mut self) {
        let asks_already = |host: &HostName| {
            let by = |asked: &SimRequest| asked.by.as_ref().is_some_and(|(by, _)| by == host);
            self.api.requests.iter().any(by)
        };
        let ask: Vec<(HostName, String)> = self
            .hosts
            .iter()
            .filter(|(host, sim)| sim.up && sim.started(KUBELET_UNIT) && !asks_already(host))
            .filter_map(|(host, sim)| {
                let token = sim.files.get(TOKEN_PATH)?.text.trim();
                let (id, _) = self.api.tokens.iter().find(|(_, published)| *published == token)?;
                Some((host.clone(), id.clone()))
            })
            .collect();
        for (host, id) in ask {
            if self.stable(None).is_ok() && self.is_let_in(&host).is_err() {
                self.ask_for(&host, &id, true);
            }
        }
    }

    /// A stranger asks in a host's name: with another host's token, where one is published.
    pub(super) fn forge(&mut self, host: &HostName) {
        // Where no API answers there is nothing to ask.
        if self.stable(None).is_err() {
            return;
        }
        let its = self.hosts.get(host).and_then(|sim| sim.files.get(TOKEN_PATH));
        let its = its.map(|file| file.text.trim().to_owned());
        let stolen = self.api.tokens.iter().find(|(_, published)| Some(*published) != its.as_ref());
        let id = stolen.map_or_else(|| "stolen".to_owned(), |(id, _)| id.clone());
        self.ask_for(host, &id, false);
    }

    fn ask_for(&mut self, host: &HostName, token: &str, itself: bool) {
        self.api.asked += 1;
        match asks(host, token, self.api.asked) {
            Ok((request, key)) => {
                let by = itself.then(|| (host.clone(), key));
                self.api.requests.push(SimRequest { request, by });
            }
            Err(why) => self.break_rule(format!("{host} cannot ask: {why}")),
        }
    }

    /// What is asked for in a host's name is checked, and signed or refused, as on real hosts; whether its own was signed.
    fn answer_requests(&mut self, host: &HostName, contents: &dyn Contents) -> bool {
        let all = std::mem::take(&mut self.api.requests);
        let (asked, others): (Vec<_>, Vec<_>) =
            all.into_iter().partition(|asked| asked.request.joins(host));
        self.api.requests = others;
        let mut signed_its_own = false;
        for asked in asked {
            match (contents.sign(host, &asked.request), asked.by) {
                (Err(_), _) => {}
                (Ok(_), None) => {
                    self.break_rule(format!("a stranger was let in as {host}"));
                }
                (Ok(signed), Some((host, key))) => {
                    let pair = SimFile::new(format!("{signed}{key}"), "root", 0o600);
                    if let Some(sim) = self.hosts.get_mut(&host) {
                        sim.files.insert(CLIENT.into(), pair);
                        signed_its_own = true;
                    }
                }
            }
        }
        signed_its_own
    }

    /// A kubelet that runs with the certificate that it once got registers; what one without asks for is answered first.
    fn admit(&mut self, node: &NodeWanted, contents: &dyn Contents) -> Result<(), String> {
        self.stable(None)?;
        let Some(sim) = self.hosts.get(&node.host) else { return Err("no such host".into()) };
        let waiting = || "waiting for the kubelet's request".to_owned();
        if !sim.started(KUBELET_UNIT) {
            return Err(waiting());
        }
        if self.is_let_in(&node.host).is_err() {
            self.kubelets_ask();
            if !self.answer_requests(&node.host, contents) {
                return Err(waiting());
            }
            self.is_let_in(&node.host)?;
        }
        let Some(sim) = self.hosts.get(&node.host) else { return Err("no such host".into()) };
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

    /// How many requests for kubelets' certificates have no answer yet.
    pub fn requests_that_wait(&self) -> usize {
        self.api.requests.len()
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

/// What a kubelet asks for with a join token (the platform's TLS bootstrapping), and the key that it made.
fn asks(host: &HostName, token: &str, number: u64) -> Result<(NodeRequest, String), String> {
    let said = |error: rcgen::Error| format!("making a request: {error}");
    let key = rcgen::KeyPair::generate().map_err(said)?;
    let mut asked = rcgen::CertificateParams::default();
    asked.distinguished_name.push(rcgen::DnType::OrganizationName, "system:nodes");
    asked.distinguished_name.push(rcgen::DnType::CommonName, format!("system:node:{host}"));
    let pem = asked.serialize_request(&key).and_then(|request| request.pem()).map_err(said)?;
    let request = NodeRequest {
        name: format!("node-csr-{number}"),
        username: format!("system:bootstrap:{token}"),
        groups: vec!["system:bootstrappers".into(), JOINING.into()],
        signer: KUBELET_CLIENT_SIGNER.into(),
        usages: vec!["digital signature".into(), "client auth".into()],
        pem,
    };
    Ok((request, key.serialize_pem()))
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
