//! What can be known from the file alone, once its values are read.

mod first_boot;
mod mesh;
mod offline;
mod trust;
mod windows;

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

use ipnet::IpNet;

use super::address::{EndpointHost, Mac, subnets_in};
use super::address_plan::{Clash, clashes};
use super::finding::{Finding, Grade, Places};
use super::host::Host;
use super::model::{Cluster, PodsBy, Programs, Role, ServicesBy, Signer};
use super::names::HostName;
use super::own_settings::{
    API_SERVER_OWN, AUDIT_POLICY_OWN, AUTHENTICATION_OWN, CONTROLLER_MANAGER_OWN, ETCD_OWN,
    KUBE_PROXY_OWN, KUBELET_OWN, RUNTIME_OWN, SCHEDULER_OWN,
};

/// Fields with which etcd would begin a cluster of its own, or find one elsewhere: never set by hand.
const ETCD_AGAIN: &[&str] = &[
    "force-new-cluster",
    "force-new-cluster-bump-amount",
    "discovery",
    "discovery-srv",
    "discovery-srv-name",
    "discovery-fallback",
    "discovery-proxy",
    "discovery-token",
    "discovery-endpoints",
];

/// Code of the finding about a API endpoint name that leads nowhere by itself.
pub const MADE_UP_NAME: &str = "made-up-name";

pub(super) fn check(cluster: &Cluster, places: &Places, findings: &mut Vec<Finding>) {
    let mut check = Check { cluster, places, findings };
    check.addresses();
    check.roles();
    check.quorum();
    check.ranges();
    check.routes();
    check.pinned_programs();
    check.signer();
    check.ports();
    check.load_balancers();
    check.registry();
    check.monitoring();
    check.first_boot();
    check.mesh();
    check.offline();
    check.windows();
    check.lifetimes();
    check.authentication();
    check.audit_policy();
    check.settings();
    check.single_points();
    check.name_servers();
    check.made_up_name();
}

/// So many nodes are connected by routes without a warning.
const MOST_ROUTED: usize = 128;

struct Check<'a> {
    cluster: &'a Cluster,
    places: &'a Places,
    findings: &'a mut Vec<Finding>,
}

impl Check<'_> {
    fn add(&mut self, finding: Finding, place: &str, label: &str) {
        self.findings.push(match self.places.get(place) {
            Some(span) => finding.at(span.clone(), label),
            None => finding,
        });
    }

    fn addresses(&mut self) {
        let mut taken: HashMap<IpAddr, &HostName> = HashMap::new();
        let mut macs: HashMap<Mac, &HostName> = HashMap::new();
        for host in &self.cluster.hosts {
            let place = format!("hosts.{}", host.name);
            for address in host.addresses() {
                if let Some(other) = taken.insert(address, &host.name) {
                    let finding = Finding::blocks(
                        "duplicate-address",
                        format!("{} and {other} have the same address, {address}", host.name),
                    )
                    .fix("give every host an address of its own");
                    self.add(finding, &place, "taken");
                }
            }
            if let Some(other) = host.mac.and_then(|mac| macs.insert(mac, &host.name)) {
                let finding = Finding::blocks(
                    "duplicate-address",
                    format!("{} and {other} have the same hardware address", host.name),
                )
                .fix("a reservation serves one machine: look at ip link on both");
                self.add(finding, &place, "taken");
            }
            if host.address.is_loopback() && self.cluster.hosts.len() > 1 {
                let finding = Finding::warns(
                    "loopback-address",
                    format!("{} has a loopback address, {}", host.name, host.address),
                )
                .fix("no other machine can reach it; right only when everything runs on this one");
                self.add(finding, &place, "loopback");
            }
        }
    }

    fn roles(&mut self) {
        let required =
            [(Role::EtcdMember, "etcd.members"), (Role::ControlPlane, "control-plane.hosts")];
        for (role, place) in required {
            let told = |f: &Finding| {
                f.code == "unknown-host"
                    || f.message.starts_with(place)
                    || f.message.starts_with("the table")
            };
            if self.cluster.holders(role).is_empty() && !self.findings.iter().any(told) {
                let finding = Finding::blocks("empty-role", format!("no host is {role}"))
                    .fix("name at least one, three to survive the loss of one");
                self.add(finding, place, "empty");
            }
        }
        if self.findings.iter().any(|f| f.code == "unknown-host") {
            return; // The host that seems idle is most likely the one that was misspelt.
        }
        let busy: HashSet<&HostName> =
            Role::ALL.iter().flat_map(|role| self.cluster.holders(*role)).collect();
        let idle: Vec<&HostName> =
            self.cluster.hosts.iter().map(|h| &h.name).filter(|n| !busy.contains(n)).collect();
        if let Some(first) = idle.first() {
            let who = match idle.len() {
                1 => format!("{first} has no role"),
                n => format!("{n} hosts have no role, {first} first"),
            };
            let finding = Finding::warns("idle-host", who).fix("add it to a role, or take it out");
            self.add(finding, &format!("hosts.{first}"), "nothing to do");
        }
        let workers: HashSet<&HostName> = self.cluster.nodes().iter().map(|h| &h.name).collect();
        let stray: Vec<HostName> = (self.cluster.workers.labels.keys())
            .chain(self.cluster.workers.taints.keys())
            .filter(|name| !workers.contains(name))
            .cloned()
            .collect();
        for name in stray {
            let finding = Finding::warns(
                "label-without-node",
                format!("{name} has labels or taints, and no node to carry them"),
            )
            .fix("add it to workers.hosts, or take the labels out");
            self.add(finding, &format!("hosts.{name}"), "neither worker nor control plane");
        }
    }

    fn quorum(&mut self) {
        let misspelt =
            |f: &Finding| f.code == "unknown-host" && f.message.starts_with("etcd.members");
        if self.findings.iter().any(misspelt) {
            return; // How many members are meant is not known.
        }
        let members = self.cluster.etcd.members.len();
        let finding = match members {
            2 => Finding::blocks(
                "two-etcd-members",
                "two etcd members are worse than one: losing either stops both",
            )
            .fix("name one member, or three: a third may be a worker"),
            n if n > 7 => Finding::warns(
                "many-etcd-members",
                format!("{n} etcd members: every write waits for {}", n / 2 + 1),
            )
            .fix("seven at most; five survive two losses"),
            n if n > 0 && n % 2 == 0 => Finding::warns(
                "even-etcd-members",
                format!("{n} etcd members survive {} lost, as {} do", (n - 1) / 2, n - 1),
            )
            .fix(format!(
                "name {} or {}: an even count adds cost and no tolerance",
                n - 1,
                n + 1
            )),
            _ => return,
        };
        self.add(finding, "etcd.members", &format!("{members} members"));
    }

    fn ranges(&mut self) {
        for clash in clashes(self.cluster) {
            let Clash { key, range, with, grade } = clash;
            let finding = match grade {
                Grade::Blocks => {
                    Finding::blocks("range-overlap", format!("{key} {range} {with}"))
                        .fix("choose a range that no machine on your networks uses: ranges share no address")
                }
                Grade::Warns => Finding::warns("usual-range", format!("{key} {range} {with}"))
                    .fix("fine where none of your hosts and routers uses it; another range is safer"),
            };
            self.add(finding, key, "overlaps");
        }
        let network = &self.cluster.network;
        let linux = self.cluster.nodes().into_iter().filter(|host| host.is_linux());
        let nodes = linux.count() as u64;
        for range in &network.pods {
            let prefix = network.subnet_prefix(range);
            let fit = subnets_in(range, prefix);
            if fit < nodes {
                let finding = Finding::blocks(
                    "too-few-pod-subnets",
                    format!("{range} has room for {fit} nodes with a /{prefix} each, and there are {nodes}"),
                )
                .fix("widen network.pods, or make network.pod-subnet a larger number");
                self.add(finding, "network.pods", "too small");
            }
        }
        for range in &network.services {
            let bits = range.max_prefix_len() - range.prefix_len();
            let most = if matches!(range, IpNet::V4(_)) { 24 } else { 20 };
            if !(4..=most).contains(&bits) {
                let finding = Finding::blocks(
                    "bad-range",
                    format!("{range} holds 2^{bits} service addresses"),
                )
                .fix(format!("the API server takes 2^4 to 2^{most}; /20 is usual for IPv4"));
                self.add(finding, "network.services", "not possible");
            }
        }
        // The API server refuses to serve an address of a family that its services do not have.
        let v6_host = self.cluster.hosts_of(Role::ControlPlane).into_iter().find(|host| {
            !network.services.is_empty()
                && !network.services.iter().any(|r| r.addr().is_ipv4() == host.address.is_ipv4())
        });
        if let Some(host) = v6_host {
            let (own, other) = match host.address.is_ipv4() {
                true => ("IPv4", "IPv6"),
                false => ("IPv6", "IPv4"),
            };
            let finding = Finding::blocks(
                "family-mismatch",
                format!("{} has an {own} address, and services are {other} only", host.name),
            )
            .fix(format!("add an {own} range to network.services and network.pods"));
            self.add(finding, "network.services", &format!("no {own} range"));
        }
        let families = |ranges: &[IpNet]| {
            let v4 = ranges.iter().any(|r| matches!(r, IpNet::V4(_)));
            (v4, ranges.iter().any(|r| matches!(r, IpNet::V6(_))))
        };
        // A route needs a neighbour of its own family.
        let reaches = |range: &IpNet, host: &Host| host.address_beside(range.addr()).is_some();
        let routed = self.cluster.nodes().len() > 1 && network.pod_network == PodsBy::Routes;
        for range in network.pods.iter().filter(|_| routed) {
            let lame: Vec<&HostName> = self
                .cluster
                .nodes()
                .into_iter()
                .filter(|host| host.is_linux() && !reaches(range, host))
                .map(|host| &host.name)
                .collect();
            let Some(first) = lame.first() else { continue };
            let family = if range.addr().is_ipv4() { "IPv4" } else { "IPv6" };
            let more = match lame.len() {
                1 => String::new(),
                n => format!(" and {} more", n - 1),
            };
            let finding = Finding::blocks(
                "family-mismatch",
                format!("pods of {range} would not reach {first}{more}: no {family} address leads there"),
            )
            .fix(format!(
                "give nodes two addresses, address = [\"10.77.0.11\", \"fd77::11\"]; or take the {family} range out"
            ));
            self.add(finding, "network.pods", "no route to them");
        }
        let complete = !network.pods.is_empty() && !network.services.is_empty();
        if complete && families(&network.pods) != families(&network.services) {
            let finding = Finding::blocks(
                "family-mismatch",
                "pods and services have ranges of different address families",
            )
            .fix("give both IPv4, both IPv6, or both one of each");
            self.add(finding, "network.services", "differs from network.pods");
        }
    }

    /// Hosts that find the API endpoint by name need somebody to ask.
    fn name_servers(&mut self) {
        let by_name = matches!(self.cluster.control_plane.endpoint.host, EndpointHost::Name(_));
        if self.cluster.network.name_servers.len() == 1 && by_name && self.cluster.hosts.len() > 1 {
            let finding = Finding::warns(
                "single-point-of-failure",
                "one resolver: without it no host finds the API endpoint",
            )
            .fix("name a second one; or put the API endpoint's name into every host's own hosts file (zoisite network-files hosts)");
            self.add(finding, "network.name-servers", "single point of failure");
        }
    }

    /// Names that no DNS of the world leads anywhere (`internal` is kept for private use; RFC 6762, `local`).
    fn made_up_name(&mut self) {
        let EndpointHost::Name(name) = &self.cluster.control_plane.endpoint.host else { return };
        if [".internal", ".local"].iter().any(|end| name.ends_with(end)) {
            let finding = Finding::warns(
                MADE_UP_NAME,
                format!("{name} is in a zone that does not exist, and resolves nowhere by itself"),
            )
            .fix("name one of your own; or add it to your DNS, or to /etc/hosts on every host (zoisite network-files writes both)");
            self.add(finding, "control-plane.endpoint", "every host must resolve it");
        }
    }

    /// Every node has a route to every other one.
    fn routes(&mut self) {
        let nodes = self.cluster.nodes().len();
        if self.cluster.network.pod_network == PodsBy::Routes && nodes > MOST_ROUTED {
            let finding = Finding::warns(
                "many-routes",
                format!("{nodes} nodes would each hold a route to every other one"),
            )
            .fix("set network.pod-network = \"manifests\" and bring a pod network made for that many");
            self.add(finding, "network.pods", "routed between hosts");
        }
        let network = &self.cluster.network;
        for (by_manifests, key, nobody) in [
            (network.pod_network == PodsBy::Manifests, "pod-network", "nothing connects the pods"),
            (
                network.service_proxy == ServicesBy::Manifests,
                "service-proxy",
                "nothing leads services to pods",
            ),
        ] {
            if by_manifests && network.manifests.is_none() {
                let finding = Finding::blocks(
                    "no-pod-network",
                    format!("network.{key} is \"manifests\", and network.manifests names no folder"),
                )
                .fix("name the folder that holds your pod network's manifests: network.manifests = \"manifests\"");
                self.add(finding, &format!("network.{key}"), nobody);
            }
        }
    }

    /// What is to be brought from here has a version.
    fn pinned_programs(&mut self) {
        let components = &self.cluster.components;
        let all = [
            ("runtime", components.runtime.is_some()),
            ("runc", components.runc.is_some()),
            ("network-plugins", components.network_plugins.is_some()),
        ];
        let missing: Vec<&str> =
            all.iter().filter(|(_, named)| !named).map(|(key, _)| *key).collect();
        if self.cluster.preparation.programs == Programs::Pinned && !missing.is_empty() {
            let finding = Finding::blocks(
                "no-version",
                format!("pinned programs are to be brought, and [components] names no {}", missing.join(", no ")),
            )
            .fix("add their versions under [components]: runtime = \"2.1.4\", runc = \"1.3.0\", network-plugins = \"1.7.1\"");
            self.add(finding, "preparation.programs", "which versions?");
        }
    }

    /// What it costs to let the cluster sign.
    fn signer(&mut self) {
        if self.cluster.workers.signer == Signer::InCluster {
            let finding = Finding::warns(
                "signer-in-cluster",
                "the cluster authority's key will be on every control-plane host",
            )
            .fix("anyone who reads it there can make any certificate, an administrator's too: use it only for fleets that come and go without you");
            self.add(finding, "workers.signer", "no longer only in the strongbox");
        }
    }

    fn ports(&mut self) {
        let etcd = &self.cluster.etcd;
        let ports = [
            ("etcd.client-port", etcd.client_port),
            ("etcd.peer-port", etcd.peer_port),
            ("etcd.metrics-port", etcd.metrics_port),
            ("control-plane.port", self.cluster.control_plane.port),
        ];
        for (i, (name, port)) in ports.iter().enumerate() {
            if let Some((other, _)) = ports[..i].iter().find(|(_, p)| p == port) {
                let finding =
                    Finding::blocks("port-clash", format!("{name} and {other} are both {port}"))
                        .fix("give each a port of its own");
                self.add(finding, name, "taken");
            }
        }
        let control = &self.cluster.control_plane;
        let shared: Vec<&HostName> = self
            .cluster
            .load_balancers
            .hosts
            .iter()
            .filter(|h| control.hosts.contains(h))
            .collect();
        if let Some(host) = shared.first()
            && control.port == control.endpoint.port
            && self.cluster.load_balancers.virtual_ip.is_none()
        {
            let finding = Finding::blocks(
                "port-clash",
                format!(
                    "{host} is load balancer and control plane, and both want port {}",
                    control.port
                ),
            )
            .fix("set control-plane.port to another one, such as 6444, or load-balancers.virtual-ip to an unused address: the load balancer listens there then");
            self.add(finding, "load-balancers.hosts", "two listeners on one port");
        }
    }

    /// The port at which hosts give out metrics is free on each of them.
    fn monitoring(&mut self) {
        let cluster = self.cluster;
        let Some(port) = cluster.monitoring.as_ref().map(|monitoring| monitoring.port) else {
            return;
        };
        for host in cluster.hosts.iter().filter(|host| cluster.has_monitoring(&host.name)) {
            let served = crate::paths::served(cluster, host);
            let other =
                served.iter().find(|one| one.port == port && one.what != crate::paths::METRICS);
            if let Some(other) = other {
                let finding = Finding::blocks(
                    "port-clash",
                    format!("metrics on {} want port {port}, where {} is", host.name, other.what),
                )
                .fix("set monitoring.port to another one");
                self.add(finding, "monitoring.port", "taken");
                return;
            }
        }
    }

    /// The cluster's own registry: a port that its host has free, a name of its own, a login where it asks for one.
    fn registry(&mut self) {
        let cluster = self.cluster;
        let registry = &cluster.registry;
        let Some(host) = registry.host.as_ref().and_then(|name| cluster.host(name)) else { return };
        let served = crate::paths::served(cluster, host);
        let mut there = served.iter().filter(|served| served.port == registry.port);
        if let (Some(other), Some(_)) = (there.next(), there.next()) {
            let finding = Finding::blocks(
                "port-clash",
                format!(
                    "the registry on {} wants port {}, where {} is",
                    host.name, registry.port, other.what
                ),
            )
            .fix("set registry.port to another one, or name another host");
            self.add(finding, "registry.port", "taken");
        }
        if registry.mirrors.contains(&registry.name) {
            let finding = Finding::blocks(
                "registry-loop",
                format!("{} cannot stand in for itself", registry.name),
            )
            .fix("take it out of registry.mirrors: nodes know where it is");
            self.add(finding, "registry.mirrors", "its own name");
        }
        if registry.passwords.is_some() && cluster.preparation.credentials.is_none() {
            let finding = Finding::blocks(
                "no-login",
                "the registry asks for passwords, and no node has one to pull with",
            )
            .fix(format!(
                "name a file with preparation.credentials, and write into it: machine {} login NAME password PASSWORD",
                registry.name
            ));
            self.add(finding, "registry.passwords", "no host could pull");
        }
    }

    /// Ports that load balancers forward: free on every load balancer, and to node ports.
    fn forwarded(&mut self) {
        let cluster = &self.cluster;
        let forward = &cluster.load_balancers.forward;
        if forward.is_empty() {
            return;
        }
        let mut found = Vec::new();
        let mut say = |message: String, fix: &str| {
            found.push(Finding::blocks("bad-forward", message).fix(fix));
        };
        if cluster.load_balancers.hosts.is_empty() {
            say(
                "nothing forwards: there are no load balancers".into(),
                "name load-balancers.hosts",
            );
        }
        if cluster.workers.hosts.is_empty() {
            say("there is no target: there are no workers".into(), "name workers.hosts");
        }
        let (control, etcd) = (&cluster.control_plane, &cluster.etcd);
        let logins = cluster.load_balancers.hosts.iter().filter_map(|name| cluster.host(name));
        let logins = logins.map(|host| cluster.login_of(host).port.unwrap_or(22));
        let mut taken: Vec<u16> = logins.collect();
        taken.extend([control.port, control.endpoint.port]);
        taken.extend([etcd.client_port, etcd.peer_port, etcd.metrics_port]);
        for port in forward.keys() {
            // The components' own ports, by their defaults.
            if taken.contains(port) || (10_248..=10_262).contains(port) {
                say(
                    format!("port {port} is the cluster's own on a load balancer"),
                    "forward another port",
                );
            }
        }
        // The API server's own default of service-node-port-range.
        if !control.api_server.contains_key("service-node-port-range") {
            for to in forward.values().filter(|to| !(30_000..=32_767).contains(*to)) {
                say(
                    format!("{to} is no node port"),
                    "node ports are 30000 to 32767, unless control-plane.api-server sets service-node-port-range",
                );
            }
        }
        for finding in found {
            self.add(finding, "load-balancers.forward", "here");
        }
    }

    fn load_balancers(&mut self) {
        self.forwarded();
        let load_balancers = &self.cluster.load_balancers;
        if let Some(virtual_ip) = load_balancers.virtual_ip {
            let control = &self.cluster.control_plane;
            if self.cluster.front() == Role::ControlPlane && control.port != control.endpoint.port {
                let finding = Finding::blocks(
                    "virtual-ip-port",
                    format!(
                        "control planes hold the virtual IP themselves, and serve at port {}, not {}",
                        control.port, control.endpoint.port
                    ),
                )
                .fix("give control-plane.endpoint and control-plane.port the same port, or name load-balancers.hosts");
                self.add(finding, "load-balancers.virtual-ip", "nothing serves there");
            }
            let holders = self.cluster.virtual_ip_holders();
            let strange: Vec<String> = holders
                .iter()
                .filter_map(|name| self.cluster.host(name))
                .filter(|host| host.address_beside(virtual_ip).is_none())
                .map(|host| host.name.to_string())
                .collect();
            if !strange.is_empty() {
                let finding = Finding::blocks(
                    "virtual-ip-family",
                    format!("{} have no address of the family of {virtual_ip}", strange.join(", ")),
                )
                .fix("choose an address of the family that its holders have, in their own network");
                self.add(finding, "load-balancers.virtual-ip", "another family");
            }
            if let Some(host) = self.cluster.hosts.iter().find(|h| h.address == virtual_ip) {
                let finding = Finding::blocks(
                    "duplicate-address",
                    format!("the virtual IP is {}'s own", host.name),
                )
                .fix("choose an address that no machine has");
                self.add(finding, "load-balancers.virtual-ip", "taken");
            }
        }
        let Some(stable) = self.cluster.api_ip() else { return };
        if load_balancers.virtual_ip.is_some_and(|virtual_ip| virtual_ip != stable) {
            let finding = Finding::warns(
                "two-endpoints",
                format!("control-plane.endpoint is {stable}, not the virtual IP"),
            )
            .fix("use the virtual IP, or a name that resolves to it");
            self.add(finding, "control-plane.endpoint", "does not move");
        }
        let forwards = |name: &HostName| self.cluster.holds(name, self.cluster.front());
        if let Some(host) = self.cluster.hosts.iter().find(|h| h.address == stable)
            && !forwards(&host.name)
        {
            let finding = Finding::blocks(
                "address-forwards-nowhere",
                format!("the API endpoint is {}'s, which does not answer for the API", host.name),
            )
            .fix("use a load balancer, a control-plane host, or a name");
            self.add(finding, "control-plane.endpoint", "not a load balancer");
        }
    }

    fn settings(&mut self) {
        let cluster = self.cluster;
        let control = &cluster.control_plane;
        let tables = [
            ("etcd.settings", &cluster.etcd.settings, ETCD_OWN),
            ("control-plane.api-server", &control.api_server, API_SERVER_OWN),
            (
                "control-plane.controller-manager",
                &control.controller_manager,
                CONTROLLER_MANAGER_OWN,
            ),
            ("control-plane.scheduler", &control.scheduler, SCHEDULER_OWN),
            ("control-plane.authentication", &control.authentication, AUTHENTICATION_OWN),
            ("control-plane.audit-policy", &control.audit_policy, AUDIT_POLICY_OWN),
            ("workers.kubelet", &cluster.workers.own.kubelet, KUBELET_OWN),
            ("workers.kube-proxy", &cluster.workers.own.kube_proxy, KUBE_PROXY_OWN),
            ("workers.runtime", &cluster.workers.own.runtime, RUNTIME_OWN),
        ];
        for key in cluster.etcd.settings.keys().filter(|key| ETCD_AGAIN.contains(&key.as_str())) {
            let finding = Finding::blocks(
                "setting-begins-again",
                format!("etcd.settings.{key} would make a member leave the quorum it belongs to"),
            )
            .fix("take it out: a quorum that lost its majority is restored from a snapshot, member by member");
            self.add(finding, &format!("etcd.settings.{key}"), "begins another cluster");
        }
        let on = cluster.workers.on.iter().flat_map(|(host, own)| {
            [
                (format!("workers.on.{host}.kubelet"), &own.kubelet, KUBELET_OWN),
                (format!("workers.on.{host}.kube-proxy"), &own.kube_proxy, KUBE_PROXY_OWN),
                (format!("workers.on.{host}.runtime"), &own.runtime, RUNTIME_OWN),
            ]
        });
        let tables =
            tables.into_iter().map(|(table, settings, own)| (table.to_owned(), settings, own));
        for (table, settings, own) in tables.chain(on) {
            for key in settings.keys().filter(|key| own.contains(&key.as_str())) {
                let finding = Finding::blocks(
                    "setting-clash",
                    format!("{table}.{key} is computed from the cluster file"),
                )
                .fix(format!("take it out; docs/cluster-file.md lists what [{table}] may not set"));
                self.add(finding, &format!("{table}.{key}"), "set by Zoisite");
            }
        }
    }

    fn single_points(&mut self) {
        if self.cluster.hosts.len() == 1 {
            let finding = Finding::warns("single-host", "one host: nothing survives its loss")
                .fix("fine for a try; three hosts survive the loss of one");
            self.add(finding, &format!("hosts.{}", self.cluster.hosts[0].name), "everything");
            return;
        }
        let single = |n: usize, what: &str, fix: &str| {
            (n == 1).then(|| {
                Finding::warns(
                    "single-point-of-failure",
                    format!("one {what}: its loss stops the cluster"),
                )
                .fix(fix)
            })
        };
        let cluster = self.cluster;
        let etcd = single(
            cluster.etcd.members.len(),
            "etcd member",
            "name three; members may share hosts",
        );
        if let Some(finding) = etcd {
            self.add(finding, "etcd.members", "single point of failure");
        }
        let api = cluster.control_plane.hosts.len();
        if let Some(finding) = single(api, "control-plane host", "name a second one") {
            self.add(finding, "control-plane.hosts", "single point of failure");
        }
        if api < 2 {
            return;
        }
        let load_balancers = cluster.shared_load_balancers().len();
        if let Some(finding) = single(
            load_balancers,
            "load balancer",
            "name a second one, and an unused address of their network as load-balancers.virtual-ip",
        ) {
            self.add(finding, "load-balancers.hosts", "single point of failure");
        }
        let owner = cluster.hosts.iter().find(|h| Some(h.address) == cluster.api_ip());
        if let Some(host) = owner.filter(|_| load_balancers != 1) {
            let finding = Finding::warns(
                "single-point-of-failure",
                format!("the API endpoint is {}'s own: its loss stops the API", host.name),
            )
            .fix("name an unused address of the hosts' network as load-balancers.virtual-ip, and use it here; or a name that your own load balancer answers");
            self.add(finding, "control-plane.endpoint", "single point of failure");
        }
    }
}
