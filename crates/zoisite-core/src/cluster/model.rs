use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::net::{IpAddr, SocketAddr};

use ipnet::IpNet;
use serde::Serialize;
use sha2::{Digest as _, Sha256};

use super::address::{Endpoint, EndpointHost, Mac};
use super::host::{Host, Login, Windows};
use super::image::{ImageName, ImageSource};
use super::names::{ClusterName, HostName, Version};
use super::policy::Certificates;
use super::words::words;

/// A component's own configuration fields, by their documented names.
pub type Settings = BTreeMap<String, serde_json::Value>;

/// What a host does in the cluster.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Runs a voting etcd member.
    EtcdMember,
    /// Runs API server, controller manager and scheduler.
    ControlPlane,
    /// Forwards the API endpoint to the API servers.
    LoadBalancer,
    /// Keeps images.
    Registry,
    /// Runs workloads.
    Worker,
}

impl Role {
    /// Every role, in the order in which a cluster is brought up.
    pub const ALL: [Self; 5] =
        [Self::EtcdMember, Self::ControlPlane, Self::LoadBalancer, Self::Registry, Self::Worker];
    /// Those that other hosts depend on.
    pub const DEPENDED_ON: [Self; 4] =
        [Self::EtcdMember, Self::ControlPlane, Self::LoadBalancer, Self::Registry];
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::EtcdMember => "etcd member",
            Self::ControlPlane => "control plane",
            Self::LoadBalancer => "load balancer",
            Self::Registry => "registry",
            Self::Worker => "worker",
        })
    }
}

/// A whole cluster file, valid: references resolve and nothing in it blocks.
#[derive(Clone, Debug)]
pub struct Cluster {
    /// `cluster.name`.
    pub name: ClusterName,
    /// `cluster.kubernetes`, the version of every Kubernetes component.
    pub kubernetes: Version,
    /// `cluster.etcd`.
    pub etcd_version: Version,
    /// `cluster.domain`, the DNS domain of services inside the cluster.
    pub domain: String,
    /// `hosts`, in the order of the file.
    pub hosts: Vec<Host>,
    /// `etcd`.
    pub etcd: Etcd,
    /// `control-plane`.
    pub control_plane: ControlPlane,
    /// `load-balancers`.
    pub load_balancers: LoadBalancers,
    /// `workers`.
    pub workers: Workers,
    /// `network`.
    pub network: Network,
    /// `login`, for hosts that say nothing of their own.
    pub login: Login,
    /// `components`.
    pub components: Components,
    /// `preparation`.
    pub preparation: Preparation,
    /// `registry`.
    pub registry: Registry,
    /// `monitoring`, where the file has that table.
    pub monitoring: Option<Monitoring>,
    /// `drill`.
    pub drill: DrillLimits,
    /// `snapshots`.
    pub snapshots: Snapshots,
    /// `state.backup`: a file that every raise writes a copy of the state into.
    pub state_backup: Option<String>,
    /// `certificates`.
    pub certificates: Certificates,
    /// `first-boot`, where the file has that table.
    pub first_boot: Option<FirstBoot>,
    /// `mesh`, where the file has that table: an encrypted network over others.
    pub mesh: Option<Mesh>,
}

/// The etcd quorum.
#[derive(Clone, Debug)]
pub struct Etcd {
    /// Voting members.
    pub members: Vec<HostName>,
    /// TCP port for clients.
    pub client_port: u16,
    /// TCP port between members.
    pub peer_port: u16,
    /// TCP port for metrics and health, on loopback only.
    pub metrics_port: u16,
    /// Folder on the host that holds the data directory.
    pub folder: String,
    /// Own settings, merged into etcd's configuration file.
    pub settings: Settings,
}

/// The control plane.
#[derive(Clone, Debug)]
pub struct ControlPlane {
    /// Hosts of API server, controller manager and scheduler.
    pub hosts: Vec<HostName>,
    /// The API endpoint.
    pub endpoint: Endpoint,
    /// TCP port on which each API server listens.
    pub port: u16,
    /// Own settings of the API server.
    pub api_server: Settings,
    /// Own settings of the controller manager.
    pub controller_manager: Settings,
    /// Own settings of the scheduler.
    pub scheduler: Settings,
    /// Own fields of `AuthenticationConfiguration`: whom API servers believe besides.
    pub authentication: Settings,
    /// Own fields of the audit policy (`audit.k8s.io/v1`, `Policy`), in the place of the built-in rules.
    pub audit_policy: Settings,
}

/// The load balancers in front of the control plane; empty when the site has its own.
#[derive(Clone, Debug, Default)]
pub struct LoadBalancers {
    /// Load balancer hosts.
    pub hosts: Vec<HostName>,
    /// Address that moves between them, or between the control planes where there are none.
    pub virtual_ip: Option<IpAddr>,
    /// The virtual router's id, where the file says one.
    pub router_id: Option<u8>,
    /// How holders of the virtual IP speak to one another.
    pub vrrp: Vrrp,
    /// Ports at which load balancers take connections for workloads, each with the node port that it leads to.
    pub forward: BTreeMap<u16, u16>,
    /// Own keywords of HAProxy's section `defaults`.
    pub settings: Settings,
}

/// The workers.
#[derive(Clone, Debug, Default)]
pub struct Workers {
    /// Worker hosts; a control-plane host named here too carries workloads.
    pub hosts: Vec<HostName>,
    /// Node labels by host.
    pub labels: BTreeMap<HostName, BTreeMap<String, String>>,
    /// Node taints by host, as `key=value:Effect`.
    pub taints: BTreeMap<HostName, Vec<String>>,
    /// Own settings of what runs on every node.
    pub own: NodeSettings,
    /// Those of single hosts, which go before.
    pub on: BTreeMap<HostName, NodeSettings>,
    /// Who signs what joining kubelets ask for.
    pub signer: Signer,
}

/// A person's own settings of what runs on a node.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct NodeSettings {
    /// Fields of the kubelet's configuration.
    pub kubelet: Settings,
    /// Fields of kube-proxy's configuration.
    pub kube_proxy: Settings,
    /// Fields of containerd's configuration.
    pub runtime: Settings,
}

impl Workers {
    /// The settings of one component on a host: those of every node, with those of this host over them.
    pub fn settings_on(
        &self,
        host: &HostName,
        of: impl Fn(&NodeSettings) -> &Settings,
    ) -> Settings {
        let mut all = of(&self.own).clone();
        all.extend(self.on.get(host).into_iter().flat_map(|own| of(own).clone()));
        all
    }
}

/// Who signs the client certificates of joining kubelets.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Signer {
    /// A run, from the strongbox: no key that signs is on any host.
    #[default]
    Run,
    /// The platform's own controllers, with the cluster authority's key on every control-plane host.
    InCluster,
}

impl Signer {
    /// Reads the word used in the cluster file.
    ///
    /// # Errors
    /// When there is no such signer.
    pub fn new(text: &str) -> Result<Self, super::NameError> {
        match text {
            "run" => Ok(Self::Run),
            "in-cluster" => Ok(Self::InCluster),
            _ => Err(super::NameError("one of run, in-cluster".into())),
        }
    }
}

/// Who connects pods of different hosts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum PodsBy {
    /// Routes between the hosts, which must share a network segment.
    #[default]
    Routes,
    /// The site's own manifests.
    Manifests,
}

impl PodsBy {
    /// Reads the word used in the cluster file.
    ///
    /// # Errors
    /// When there is no such way.
    pub fn new(text: &str) -> Result<Self, super::NameError> {
        match text {
            "routes" => Ok(Self::Routes),
            "manifests" => Ok(Self::Manifests),
            _ => Err(super::NameError("one of routes, manifests".into())),
        }
    }
}

/// Address ranges; one of each family at most.
#[derive(Clone, Debug)]
pub struct Network {
    /// Pod ranges, cut into one subnet per node.
    pub pods: Vec<IpNet>,
    /// The range of pods on nodes that run Windows, one at most: an overlay of their own, cut in the same way.
    pub windows_pods: Vec<IpNet>,
    /// Service ranges.
    pub services: Vec<IpNet>,
    /// Prefix length, in bits, of a node's IPv4 pod subnet; IPv6 subnets have 64.
    pub pod_subnet: u8,
    /// Who connects pods of different hosts.
    pub pod_network: PodsBy,
    /// Who leads services' addresses to pods.
    pub service_proxy: ServicesBy,
    /// Folder of the site's own manifests, relative to the cluster file, applied after all else.
    pub manifests: Option<String>,
    /// Ranges that something else on the site's networks uses.
    pub reserved: Vec<IpNet>,
    /// Ranges kept for addresses under which services are reached from outside.
    pub service_addresses: Vec<IpNet>,
    /// The site's own name servers, which hosts ask.
    pub name_servers: Vec<IpAddr>,
    /// DNS zone of the hosts.
    pub zone: Option<String>,
}

impl Network {
    /// Prefix length of a node's subnet in `range`, in bits.
    pub fn subnet_prefix(&self, range: &IpNet) -> u8 {
        match range {
            IpNet::V4(_) => self.pod_subnet,
            IpNet::V6(_) => 64,
        }
    }
}

/// Where the pinned files come from.
#[derive(Clone, Debug)]
pub struct Components {
    /// Folder, relative to the cluster file.
    pub from: String,
    /// A server or folder that holds published files, each below the name of the server that publishes it.
    pub mirror: Option<String>,
    /// A registry that holds images, each below the name of its own registry.
    pub images_mirror: Option<String>,
    /// Base addresses of single components' published files, in place of their projects' own.
    pub sources: BTreeMap<String, String>,
    /// File with the certificates of authorities that mirrors are verified by, beside those of this computer.
    pub authority: Option<String>,
    /// File with names and passwords for mirrors and the proxy, in the form of netrc.
    pub credentials: Option<String>,
    /// The proxy on the way to them.
    pub proxy: Option<String>,
    /// Version of containerd, where it does not come with the hosts' distribution.
    pub runtime: Option<Version>,
    /// Version of runc, likewise.
    pub runc: Option<Version>,
    /// Version of the reference plugins of container networks, likewise.
    pub network_plugins: Option<Version>,
    /// Version of the registry that the cluster has itself.
    pub registry: Version,
    /// Version of CoreDNS, the cluster's DNS server.
    pub dns: Version,
    /// Its image.
    pub dns_image: ImageSource,
    /// The image of the process that holds a pod's namespaces.
    pub sandbox: ImageSource,
    /// Images that every node holds for the site's own workloads.
    pub images: Vec<ImageSource>,
    /// Whether every node holds all images that the site's manifests name, too.
    pub images_of_manifests: bool,
}

/// What `raise` does to a machine before anything of the cluster stands on it.
#[derive(Clone, Debug, Default)]
pub struct Preparation {
    /// Where programs come from that a host lacks.
    pub programs: Programs,
    /// Whether hosts know the others by their hosts file.
    pub names: Names,
    /// Whether a host is called what the file calls it.
    pub host_names: HostNames,
    /// Whether a time service is brought to hosts that have none.
    pub time: TimeService,
    /// The site's own time servers, for a time service that is brought.
    pub time_servers: Vec<String>,
    /// The time zone of every host (`Europe/Berlin`), where the file says one.
    pub time_zone: Option<String>,
    /// The proxy through which container runtimes reach registries.
    pub proxy: Option<String>,
    /// What they reach without it, besides the cluster's own networks and names.
    pub no_proxy: Vec<String>,
    /// File with names and passwords for registries (netrc), for nodes.
    pub credentials: Option<String>,
    /// Whether raise sets what hosts' firewalls let in.
    pub firewall: FirewallRules,
    /// From where administrators log in; from everywhere where none is named.
    pub administrators: Vec<IpNet>,
    /// From where people and programs use the cluster; from everywhere where none is named.
    pub clients: Vec<IpNet>,
    /// Registries that stand in for others, by the name of the other one.
    pub registries: BTreeMap<String, RegistryMirror>,
}

/// The registry that the cluster has itself, if the file names a host for it.
#[derive(Clone, Debug)]
pub struct Registry {
    /// Where it runs.
    pub host: Option<HostName>,
    /// What its images begin with; nodes are told where that leads.
    pub name: String,
    /// TCP port.
    pub port: u16,
    /// Folder on the host that holds the images.
    pub folder: String,
    /// Registries for whose images nodes ask it first.
    pub mirrors: Vec<String>,
    /// File with names and passwords, as `htpasswd -B` writes it; everybody may pull and push where there is none.
    pub passwords: Option<String>,
    /// Whether nothing can be put there.
    pub read_only: bool,
}

impl Registry {
    /// Under what name it holds an image of another registry: below that one's name, in which no colon may stand.
    pub fn keeps(&self, image: &ImageName) -> ImageName {
        let repository = match image.registry == self.name {
            true => image.repository.clone(),
            false => format!("{}/{}", folder_of(&image.registry), image.repository),
        };
        ImageName { registry: self.name.clone(), repository, ..image.clone() }
    }
}

/// A registry's name as a part of a repository's.
pub(crate) fn folder_of(registry: &str) -> String {
    registry.to_ascii_lowercase().replace([':', '[', ']'], "-")
}

/// A registry that holds what another one has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RegistryMirror {
    /// Its addresses, tried in order.
    pub addresses: Vec<String>,
    /// File with the certificates of authorities that it is verified by, on hosts.
    pub authority: Option<String>,
}

words! {
    /// Who leads services' addresses to pods.
    ServicesBy {
        /// kube-proxy on every node.
        #[default]
        KubeProxy = "kube-proxy",
        /// The site's own manifests: a pod network that does it itself.
        Manifests = "manifests",
    }
}

words! {
    /// How holders of the virtual IP speak to one another.
    Vrrp {
        /// To each other alone.
        #[default]
        Unicast = "unicast",
        /// To the whole segment.
        Multicast = "multicast",
    }
}

words! {
    /// Where programs come from that a host lacks.
    Programs {
        /// From its distribution's packages; pinned ones where no source of packages answers and the file pins them.
        #[default]
        Distribution = "distribution",
        /// The pinned ones, which are brought from here.
        Pinned = "pinned",
        /// A person brings them.
        ByHand = "by-hand",
    }
}

words! {
    /// Whether hosts know the others by their hosts file.
    Names {
        /// On hosts that were found not to know them otherwise.
        #[default]
        WhereNeeded = "where-needed",
        /// On every host.
        Always = "always",
        /// On none: the site's DNS knows them.
        Never = "never",
    }
}

words! {
    /// Whether a host is called what the cluster file calls it.
    HostNames {
        /// It is made so.
        #[default]
        Set = "set",
        /// It keeps the name that it has.
        Keep = "keep",
    }
}

words! {
    /// Whether raise sets what hosts' firewalls let in.
    FirewallRules {
        /// They stay as the site has them.
        #[default]
        Keep = "keep",
        /// What the host's part in the cluster needs is let in; where no other firewall runs, nothing else is.
        Set = "set",
    }
}

words! {
    /// Whether a time service is brought to hosts that have none.
    TimeService {
        /// To those that have none.
        #[default]
        WhereNeeded = "where-needed",
        /// To none.
        Never = "never",
    }
}

/// What a drill may show at most; times in milliseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct DrillLimits {
    /// The longest time without an answer.
    pub longest_gap: Option<i64>,
    /// The longest time from the end of the loss until all is as before.
    pub recovered_within: Option<i64>,
}

/// How large a member's database may become where the file says nothing, in octets (etcd's `quota-backend-bytes`).
pub const ETCD_QUOTA: u64 = 4 << 30;

/// Which snapshots of etcd are kept, and where; times in seconds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Snapshots {
    /// So many at most.
    pub keep: usize,
    /// So long at most.
    pub keep_for: i64,
    /// From when on the newest one that was tried is too old, if that matters.
    pub too_old: Option<i64>,
    /// Another folder, beside the cluster file or elsewhere, into which each is copied.
    pub copies: Option<String>,
    /// How often members save by themselves, on their hosts, if they do.
    pub on_members: Option<i64>,
    /// So many of those are kept on each at most.
    pub on_members_keep: usize,
}

impl Default for Snapshots {
    fn default() -> Self {
        Self {
            keep: 14,
            keep_for: 30 * 86_400,
            too_old: None,
            copies: None,
            on_members: Some(6 * 3_600),
            on_members_keep: 4,
        }
    }
}

/// What the site's monitoring reads, beside API servers and kubelets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Monitoring {
    /// TCP port of each host at which metrics are read that are on loopback otherwise.
    pub port: u16,
    /// From where it asks; from everywhere where nothing is named.
    pub from: Vec<IpNet>,
}

/// An encrypted network laid over others (WireGuard).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mesh {
    /// The hosts that are elsewhere: everybody reaches them through the mesh alone, and they everybody. The others dial
    /// each other directly. All hosts, where the file names none.
    pub hosts: BTreeSet<HostName>,
    /// The addresses of these hosts; one range of each family at most.
    pub ranges: Vec<IpNet>,
    /// UDP port at which every host listens.
    pub port: u16,
    /// The largest packet, in octets, that goes through it whole.
    pub mtu: u16,
}

impl Mesh {
    /// The range that an address is in.
    pub fn range_of(&self, address: IpAddr) -> Option<&IpNet> {
        self.ranges.iter().find(|range| range.contains(&address))
    }
}

/// First-boot data of machines, besides what follows from the rest of the file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FirstBoot {
    /// The networks that hosts' addresses are in, each with its router, if it has one.
    pub networks: Vec<(IpNet, Option<IpAddr>)>,
    /// Further networks, each with the router that leads there.
    pub routes: Vec<(IpNet, IpAddr)>,
    /// Files with the public keys of who may log in, relative to the cluster file.
    pub keys: Vec<String>,
    /// Packages of the site's own.
    pub packages: Vec<String>,
    /// Machines that have neither name nor address yet, by a card of theirs.
    pub unnamed: Vec<Mac>,
}

impl Cluster {
    /// The virtual router's id (RFC 9568, section 5.2.3), 1 to 255, where there is a virtual IP: the file's, or
    /// one that follows from the cluster's name and the address, so that clusters on one segment seldom meet.
    pub fn router_id(&self) -> Option<u8> {
        let virtual_ip = self.load_balancers.virtual_ip?;
        Some(self.load_balancers.router_id.unwrap_or_else(|| {
            let sum = Sha256::digest(format!("{} {virtual_ip}", self.name));
            let number = u16::from_be_bytes([sum[0], sum[1]]);
            u8::try_from(number % 255 + 1).unwrap_or(u8::MAX)
        }))
    }

    /// The host of that name. Every name in a role resolves, by construction.
    pub fn host(&self, name: &HostName) -> Option<&Host> {
        self.hosts.iter().find(|host| host.name == *name)
    }

    /// Where other members dial the one at this address.
    pub fn peer_url(&self, address: IpAddr) -> String {
        format!("https://{}", SocketAddr::new(address, self.etcd.peer_port))
    }

    /// The hosts that hold `role`, in the order of the role's list.
    pub fn holders(&self, role: Role) -> &[HostName] {
        match role {
            Role::EtcdMember => &self.etcd.members,
            Role::ControlPlane => &self.control_plane.hosts,
            Role::LoadBalancer => &self.load_balancers.hosts,
            Role::Registry => self.registry.host.as_slice(),
            Role::Worker => &self.workers.hosts,
        }
    }

    /// The role of the hosts in front, which everything dials: load balancers, or the control planes themselves where
    /// there are none.
    pub fn front(&self) -> Role {
        match self.shared_load_balancers().is_empty() {
            true => Role::ControlPlane,
            false => Role::LoadBalancer,
        }
    }

    /// Whether a host holds a role.
    pub fn holds(&self, host: &HostName, role: Role) -> bool {
        self.holders(role).contains(host)
    }

    /// Nodes that run Windows.
    pub fn windows(&self) -> impl Iterator<Item = (&Host, Windows)> {
        self.hosts.iter().filter_map(|host| Some((host, host.windows?)))
    }

    /// Whether a host runs Windows.
    pub fn runs_windows(&self, name: &HostName) -> bool {
        self.host(name).is_some_and(|host| !host.is_linux())
    }

    /// Every range that pods have addresses of.
    pub fn pod_ranges(&self) -> impl Iterator<Item = &IpNet> {
        self.network.pods.iter().chain(&self.network.windows_pods)
    }

    /// Offline hosts.
    pub fn offline(&self) -> impl Iterator<Item = &Host> {
        self.hosts.iter().filter(|host| host.offline)
    }

    /// Whether a host is offline.
    pub fn is_offline(&self, name: &HostName) -> bool {
        self.host(name).is_some_and(|host| host.offline)
    }

    /// Machines that are only known by a card, as long as no host of the file has it: out of reach, and asked for an address
    /// by nobody.
    pub fn unnamed(&self) -> Vec<Host> {
        let all = self.first_boot.iter().flat_map(|first| &first.unnamed);
        let taken: BTreeSet<Mac> = self.hosts.iter().filter_map(|host| host.mac).collect();
        all.filter(|mac| !taken.contains(mac)).filter_map(Host::unnamed).collect()
    }

    /// What a host does that other hosts depend on, if anything. Who forwards the API endpoint for itself alone is no
    /// load balancer of theirs.
    pub fn depended_on_as(&self, host: &HostName) -> Option<Role> {
        let itself = |role| role == Role::LoadBalancer && self.carried_by(host).is_some();
        Role::DEPENDED_ON.into_iter().find(|role| self.holds(host, *role) && !itself(*role))
    }

    /// Whether other hosts depend on what a host does.
    pub fn is_depended_on(&self, host: &HostName) -> bool {
        self.depended_on_as(host).is_some()
    }

    /// Whether a host will have a kubelet.
    pub fn is_node(&self, host: &HostName) -> bool {
        self.holds(host, Role::ControlPlane) || self.holds(host, Role::Worker)
    }

    /// Whether monitoring reads anything on a host that is on loopback otherwise.
    pub fn has_monitoring(&self, host: &HostName) -> bool {
        let roles = [Role::EtcdMember, Role::ControlPlane, Role::LoadBalancer];
        self.monitoring.is_some() && roles.iter().any(|role| self.holds(host, *role))
    }

    /// Hosts that will have a kubelet, and so a pod subnet: control plane and workers.
    pub fn nodes(&self) -> Vec<&Host> {
        let named: std::collections::HashSet<&HostName> =
            self.control_plane.hosts.iter().chain(&self.workers.hosts).collect();
        self.hosts.iter().filter(|host| named.contains(&host.name)).collect()
    }

    /// The hosts of `role` with all that the file says of them.
    pub fn hosts_of(&self, role: Role) -> Vec<&Host> {
        let by_name: std::collections::HashMap<&HostName, &Host> =
            self.hosts.iter().map(|host| (&host.name, host)).collect();
        self.holders(role).iter().filter_map(|name| by_name.get(name).copied()).collect()
    }

    /// How to log in at `host`: its own words first, then the cluster's.
    pub fn login_of(&self, host: &Host) -> Login {
        let (own, shared) = (&host.login, &self.login);
        Login {
            address: own.address.clone(),
            port: own.port.or(shared.port),
            user: own.user.clone().or_else(|| shared.user.clone()),
            ssh_config: own.ssh_config.clone().or_else(|| shared.ssh_config.clone()),
        }
    }

    /// Where a API endpoint name must lead: to the virtual IP, the load balancers, or the control plane itself; the
    /// API endpoint where it is one.
    pub fn api_leads_to(&self) -> Vec<IpAddr> {
        match (self.api_ip(), self.load_balancers.virtual_ip) {
            (Some(own), _) | (None, Some(own)) => vec![own],
            (None, None) => self.hosts_of(self.front()).iter().map(|host| host.address).collect(),
        }
    }

    /// The zone that the hosts are in: as the file says, or the one that the API endpoint's name is in.
    pub fn zone(&self) -> Option<&str> {
        let by_name = self.api_name().and_then(|name| name.split_once('.'));
        self.network.zone.as_deref().or(by_name.map(|(_, zone)| zone))
    }

    /// The API endpoint name, when it is one and no address.
    pub fn api_name(&self) -> Option<&str> {
        match &self.control_plane.endpoint.host {
            EndpointHost::Name(name) => Some(name),
            EndpointHost::Address(_) => None,
        }
    }

    /// The API endpoint, when it is an address and not a name.
    pub fn api_ip(&self) -> Option<IpAddr> {
        match self.control_plane.endpoint.host {
            EndpointHost::Address(address) => Some(address),
            EndpointHost::Name(_) => None,
        }
    }
}
