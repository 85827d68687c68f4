//! A node: container runtime, pod network, kubelet and kube-proxy.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::config::{Credential, Flags, kubeconfig, merge};
use super::runtime::{Layout, runtime};
use super::unit::NO_CORE;
use super::{
    HoldingsError, HostFacts, HostHoldings, MESH_DEVICE, Part, UnitFile, Workshop,
    kubernetes_folder,
};
use crate::cluster::{Cluster, Host, HostName, PodsBy, ServicesBy, size_of};
use crate::item::{Absent, Content, Item, Pods, ROUTE_PROTOCOL, Routes, Sysctl, Workspace};
use crate::layout::{CNI_CONFIG, IP, MODPROBE, NFT, SYSTEMD_SYSCTL};
use crate::pki::{AuthorityCertificate, AuthorityKind, Profile, SecretRef};

/// Name of the kubelet's unit.
pub const KUBELET_UNIT: &str = "zoisite-kubelet.service";
/// Where a join token is for as long as the join takes: in memory, never on a disk.
pub const TOKEN_PATH: &str = "/run/zoisite/join.token";

/// Modules of the kernel on which containers and the rules of services stand.
pub(super) const MODULES: [&str; 2] = ["overlay", "br_netfilter"];
const NETWORK_UNIT: &str = "zoisite-network.service";
const PROXY_UNIT: &str = "zoisite-kube-proxy.service";
const KUBELET: &str = "/etc/zoisite/kubelet";
/// The certificate of the authority by which a kubelet knows the API servers.
pub const KUBELET_AUTHORITY: &str = "/etc/zoisite/kubelet/cluster-authority.crt";
const PROXY: &str = "/etc/zoisite/kube-proxy";
/// Where a node keeps its routes to the others' pods.
pub(super) const NETWORK: &str = "/etc/zoisite/network";
/// Routes to other nodes' pods, as ip-route(8) reads them in a batch.
pub const ROUTES: &str = "/etc/zoisite/network/routes";
const KUBELET_STATE: &str = "/var/lib/kubelet";
/// Where the kubelet tells logind how long it may take to end pods when the host goes down.
const KUBELET_LOGIND: &str = "/etc/systemd/logind.conf.d/99-kubelet.conf";

/// Where a node keeps what tells whether it has joined.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodePaths {
    /// The kubelet's client certificate with its key, as it was signed at joining.
    pub client: String,
    /// The key of the authority that is to have signed it (RFC 5280 section 4.2.1.2, in hexadecimal).
    pub signed_by: Option<String>,
    /// The name that every node must resolve, unless the API endpoint is an address.
    pub api_name: Option<String>,
}

/// A taint (the platform's `v1.Taint`).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taint {
    /// Key.
    pub key: String,
    /// Value; may be empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub value: String,
    /// `NoSchedule`, `PreferNoSchedule` or `NoExecute`.
    pub effect: String,
}

impl Taint {
    /// Reads `key=value:Effect` or `key:Effect`.
    pub fn read(text: &str) -> Option<Self> {
        let (rest, effect) = text.rsplit_once(':')?;
        let (key, value) = rest.split_once('=').unwrap_or((rest, ""));
        Some(Self { key: key.into(), value: value.into(), effect: effect.into() })
    }
}

/// What the cluster file says of a node object.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct NodeWanted {
    /// Its name.
    pub host: HostName,
    /// Labels that it must have, besides those that the platform gives it.
    pub labels: BTreeMap<String, String>,
    /// Taints with which it registers, and which it must have.
    pub taints: Vec<Taint>,
    /// Its pod subnets.
    pub subnets: Vec<IpNet>,
}

/// Label and taint of control-plane nodes.
const CONTROL_PLANE_LABEL: &str = "node-role.kubernetes.io/control-plane";
/// Label of nodes that carry workloads: the platform's client shows roles by such labels.
const WORKER_LABEL: &str = "node-role.kubernetes.io/worker";

/// Annotation of a node object under which Zoisite remembers what it put there.
pub const PUT_ANNOTATION: &str = "zoisite/put";

/// What Zoisite put on a node object: only that is ever taken away again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodePut {
    /// Keys of labels.
    pub labels: BTreeSet<String>,
    /// Taints.
    pub taints: Vec<Taint>,
}

impl NodePut {
    /// What stands there from before objects remembered: the mark of a control plane, in any case.
    pub fn unremembered() -> Self {
        let taint = control_plane_taint();
        Self { labels: [taint.key.clone()].into(), taints: vec![taint] }
    }

    /// What of this is on a node that has `labels` and `taints`, and is no longer `wanted`.
    pub fn left_over(
        &self,
        wanted: &NodeWanted,
        labels: &BTreeMap<String, String>,
        taints: &[Taint],
    ) -> Self {
        let label = |key: &&String| labels.contains_key(*key) && !wanted.labels.contains_key(*key);
        let taint = |taint: &&Taint| taints.contains(taint) && !wanted.taints.contains(taint);
        Self {
            labels: self.labels.iter().filter(label).cloned().collect(),
            taints: self.taints.iter().filter(taint).cloned().collect(),
        }
    }
}

/// Only what is made for it is to land on a node that runs Windows.
fn windows_taint() -> Taint {
    Taint { key: "os".into(), value: "windows".into(), effect: "NoSchedule".into() }
}

fn control_plane_taint() -> Taint {
    Taint { key: CONTROL_PLANE_LABEL.into(), value: String::new(), effect: "NoSchedule".into() }
}

impl NodeWanted {
    /// What the node object must remember.
    pub fn put(&self) -> NodePut {
        NodePut { labels: self.labels.keys().cloned().collect(), taints: self.taints.clone() }
    }
}

/// Works out a node object from the cluster file and the assigned subnets.
pub fn node_wanted(cluster: &Cluster, host: &HostName, subnets: &[IpNet]) -> NodeWanted {
    let mut labels = cluster.workers.labels.get(host).cloned().unwrap_or_default();
    let texts = cluster.workers.taints.get(host).into_iter().flatten();
    let mut taints: Vec<Taint> = texts.filter_map(|text| Taint::read(text)).collect();
    if cluster.workers.hosts.contains(host) {
        labels.insert(WORKER_LABEL.into(), String::new());
    }
    if cluster.control_plane.hosts.contains(host) {
        labels.insert(CONTROL_PLANE_LABEL.into(), String::new());
        // A control-plane host that is a worker too carries workloads.
        if !cluster.workers.hosts.contains(host) {
            taints.push(control_plane_taint());
        }
    }
    if cluster.runs_windows(host) {
        taints.push(windows_taint());
    }
    NodeWanted { host: host.clone(), labels, taints, subnets: subnets.to_vec() }
}

/// Gives every node that has none a pod subnet of each range: the lowest that is free. What was
/// assigned before stays as it is. Nodes for which a range has no room are left out.
pub fn assign_subnets(cluster: &Cluster, assigned: &mut BTreeMap<HostName, Vec<IpNet>>) -> bool {
    let mut changed = false;
    let network = &cluster.network;
    for (ranges, linux) in [(&network.pods, true), (&network.windows_pods, false)] {
        for (i, range) in ranges.iter().enumerate() {
            let Ok(mut free) = range.subnets(network.subnet_prefix(range)) else { continue };
            let taken: std::collections::HashSet<IpNet> =
                assigned.values().filter_map(|nets| nets.get(i).copied()).collect();
            for node in cluster.nodes().into_iter().filter(|host| host.is_linux() == linux) {
                let nets = assigned.entry(node.name.clone()).or_default();
                if nets.len() == i
                    && let Some(subnet) = free.find(|subnet| !taken.contains(subnet))
                {
                    nets.push(subnet);
                    changed = true;
                }
            }
        }
    }
    changed
}

pub(super) fn node(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let host = shop.host.name.clone();
    let facts = shop.facts();
    let layout = Layout::of(shop.cluster, &facts);
    let facts = HostFacts { nftables: layout.nftables(&facts), ..facts };
    let subnets = shop.sources.subnets.get(&host).cloned().unwrap_or_default();
    if subnets.len() < shop.cluster.network.pods.len() {
        shop.errors.push(HoldingsError::NoSubnet { host });
        return;
    }
    let proxied = shop.cluster.network.service_proxy == ServicesBy::KubeProxy;
    let mut programs = vec![("kubelet", Some(KUBELET_UNIT))];
    if proxied {
        programs.push(("kube-proxy", Some(PROXY_UNIT)));
    }
    let mut items = shop.kubernetes(&programs);
    items.extend(runtime(shop, &facts, &layout));
    items.extend(network(shop, &facts, &subnets));
    items.extend(kubelet(shop, &facts, &subnets));
    if proxied {
        items.extend(proxy(shop, &facts));
    }
    out.extend(Part::Nodes, items);
    out.programs.extend(layout.node_programs());
    out.node = Some(NodePaths {
        client: format!("{KUBELET_STATE}/pki/kubelet-client-current.pem"),
        signed_by: shop
            .sources
            .ledger
            .authority(AuthorityKind::Cluster)
            .and_then(AuthorityCertificate::key_id),
        api_name: match &shop.cluster.control_plane.endpoint.host {
            crate::cluster::EndpointHost::Name(name) => Some(name.clone()),
            crate::cluster::EndpointHost::Address(_) => None,
        },
    });
}

/// Settings of the kernel without which pods do not reach each other. A family that pods do not have stays as it
/// is: a host that forwards IPv6 listens to no router any more.
fn settings(cluster: &Cluster) -> Vec<Sysctl> {
    let setting = |key, optional| Sysctl { key, value: "1", optional };
    let mut all = Vec::new();
    for (family, forwards, bridged) in [
        (false, "net.ipv4.ip_forward", "net.bridge.bridge-nf-call-iptables"),
        (true, "net.ipv6.conf.all.forwarding", "net.bridge.bridge-nf-call-ip6tables"),
    ] {
        if cluster.network.pods.iter().any(|range| matches!(range, IpNet::V6(_)) == family) {
            all.extend([setting(forwards, false), setting(bridged, true)]);
        }
    }
    all
}

/// Whether a host that is no longer in the file was reached through the mesh alone.
fn met_elsewhere(shop: &Workshop<'_>, host: &HostName, address: IpAddr) -> bool {
    let facts = shop.sources.facts.get(host);
    let keyed = facts.is_some_and(|facts| facts.mesh_key.is_some());
    keyed && shop.cluster.mesh.as_ref().is_none_or(|mesh| mesh.range_of(address).is_some())
}

/// Routes to the other nodes' pods, forwarding, masquerading: set by a small unit, so that the host's
/// own network manager stays as it is.
fn network(shop: &Workshop<'_>, facts: &HostFacts, subnets: &[IpNet]) -> Vec<Item> {
    let settings = settings(shop.cluster);
    let lines: String = settings.iter().map(Sysctl::line).collect();
    let sysctl = format!("{}{lines}", super::WRITTEN);
    let routed = shop.cluster.network.pod_network == PodsBy::Routes;
    let mut routes = String::from(super::WRITTEN);
    let others = shop.sources.subnets.iter().filter(|(other, _)| **other != shop.host.name);
    // Those of nodes that run Windows are reached otherwise.
    let is_routed =
        |net: &&IpNet| shop.cluster.network.pods.iter().any(|range| range.contains(*net));
    for (other, nets) in routed.then_some(others).into_iter().flatten() {
        // A host that was taken out of the file runs on, and its pods are dialled on; but for one that was reached through
        // the mesh, of which it is no part any more.
        let departed = || {
            let via = shop.sources.departed.get(other).copied();
            via.filter(|via| !met_elsewhere(shop, other, *via))
        };
        for net in nets.iter().filter(is_routed) {
            let via = match shop.by_name.get(other) {
                Some(host) => host.address_beside(net.addr()),
                None => departed().filter(|via| via.is_ipv4() == net.addr().is_ipv4()),
            };
            let Some(via) = via else { continue };
            let meshed = shop.cluster.meet_in_mesh(&shop.host.name, other);
            let dev = match &shop.host.interface {
                _ if meshed => format!(" dev {MESH_DEVICE}"),
                Some(interface) => format!(" dev {interface}"),
                None => String::new(),
            };
            routes
                .push_str(&format!("route replace {net} via {via}{dev} proto {ROUTE_PROTOCOL}\n"));
        }
    }
    if routed {
        routes.push_str(&super::overlay::lines_on_linux(shop));
    }
    let mut lines = vec![
        ("Type", "oneshot".to_owned()),
        ("RemainAfterExit", "yes".into()),
        ("ExecStart", format!("-{MODPROBE} -a {}", MODULES.join(" "))),
        ("ExecStart", format!("{SYSTEMD_SYSCTL} {NETWORK}/sysctl.conf")),
        ("ExecStart", format!("-{IP} -4 route flush proto {ROUTE_PROTOCOL}")),
        ("ExecStart", format!("-{IP} -6 route flush proto {ROUTE_PROTOCOL}")),
        // A node that is out of reach takes no route to another away.
        ("ExecStart", format!("-{IP} -force -batch {ROUTES}")),
        ("ExecStop", format!("-{IP} -4 route flush proto {ROUTE_PROTOCOL}")),
        ("ExecStop", format!("-{IP} -6 route flush proto {ROUTE_PROTOCOL}")),
    ];
    let mut items = vec![
        Workshop::directory(NETWORK, "root", 0o755),
        Workshop::directory(CNI_CONFIG, "root", 0o755),
        Workshop::file(&format!("{NETWORK}/sysctl.conf"), sysctl, Some(NETWORK_UNIT)),
        Workshop::file(ROUTES, routes, Some(NETWORK_UNIT)),
    ];
    if routed && facts.nftables {
        let path = format!("{NETWORK}/masquerade.nft");
        lines.push(("ExecStart", format!("{NFT} -f {path}")));
        items.push(Workshop::file(&path, masquerade(shop.cluster), Some(NETWORK_UNIT)));
    }
    let path = &format!("{CNI_CONFIG}/10-zoisite.conflist");
    items.push(match routed {
        true => {
            let mtu = shop.cluster.mesh.as_ref().map(|mesh| mesh.mtu);
            Workshop::file(path, cni(subnets, !facts.nftables, mtu), None)
        }
        // It would stand before the site's own.
        false => Item::Absent(Absent { path: path.clone() }),
    });
    // The unit sets them at boot; whoever turns them off later stops the traffic of pods. Before it starts: what
    // they were is noted when they are put.
    items.extend(settings.into_iter().map(Item::Sysctl));
    let what = format!("pod network of {} on {}", shop.cluster.name, shop.host.name);
    let unit =
        UnitFile::service(&what, "network-online.target").section("Service", lines).at_boot();
    items.extend(Workshop::unit(NETWORK_UNIT, None, &unit));
    items.push(Item::Routes(Routes { path: ROUTES.into() }));
    items
}

/// Pods keep their addresses among themselves and show their host's to the rest of the world.
fn masquerade(cluster: &Cluster) -> String {
    let mut out = String::from(super::WRITTEN);
    for range in &cluster.network.pods {
        let (family, ip, table) = match range {
            IpNet::V4(_) => ("ip", "ip", "zoisite_pods"),
            IpNet::V6(_) => ("ip6", "ip6", "zoisite_pods6"),
        };
        let beside = cluster.network.windows_pods.iter();
        let beside: Vec<&IpNet> =
            beside.filter(|other| other.addr().is_ipv4() == range.addr().is_ipv4()).collect();
        let inside = match beside[..] {
            [] => range.to_string(),
            [other, ..] => format!("{{ {range}, {other} }}"),
        };
        out.push_str(&format!(
            "table {family} {table}
delete table {family} {table}
table {family} {table} {{
  chain postrouting {{
    type nat hook postrouting priority srcnat; policy accept;
    {ip} saddr {range} {ip} daddr != {inside} masquerade
  }}
}}
"
        ));
    }
    out
}

/// The container network configuration (CNI specification 1.0.0) with the reference plugins.
fn cni(subnets: &[IpNet], masquerade: bool, mtu: Option<u16>) -> String {
    let ranges: Vec<Value> = subnets.iter().map(|net| json!([{"subnet": net}])).collect();
    let routes: Vec<Value> = subnets
        .iter()
        .map(|net| match net {
            IpNet::V4(_) => json!({"dst": "0.0.0.0/0"}),
            IpNet::V6(_) => json!({"dst": "::/0"}),
        })
        .collect();
    let mut config = json!({
        "cniVersion": "1.0.0",
        "name": "zoisite",
        "plugins": [
            {
                "type": "bridge",
                "bridge": "zoisite0",
                "isGateway": true,
                "ipMasq": masquerade,
                "hairpinMode": true,
                "ipam": {"type": "host-local", "ranges": ranges, "routes": routes},
            },
            {"type": "portmap", "capabilities": {"portMappings": true}},
        ],
    });
    if let Some(mtu) = mtu {
        config["plugins"][0]["mtu"] = mtu.into();
    }
    format!("{config:#}\n")
}

fn kubelet(shop: &mut Workshop<'_>, facts: &HostFacts, subnets: &[IpNet]) -> Vec<Item> {
    let mut items = vec![
        Workshop::directory(KUBELET, "root", 0o755),
        Workshop::directory(KUBELET_STATE, "root", 0o700),
    ];
    for path in [KUBELET_STATE, "/var/log/pods", "/var/log/containers", KUBELET_LOGIND] {
        items.push(Item::Workspace(Workspace { path }));
    }
    items.push(Item::Pods(Pods));
    let secret = SecretRef::RegistryLogins;
    if let Some(sha256) = shop.sources.site_secrets.get(&secret) {
        let label = "names and passwords for registries".into();
        let content = Content::Secret { secret, label, sha256: sha256.clone() };
        // The kubelet looks there by itself, and again when it pulls.
        items.push(Workshop::key(&format!("{KUBELET_STATE}/config.json"), "root", content, None));
    }
    let authority = KUBELET_AUTHORITY;
    items.extend(shop.authority(AuthorityKind::Cluster, authority, Some(KUBELET_UNIT)));
    items.extend(shop.certificate(Profile::KubeletServing));
    let wanted = node_wanted(shop.cluster, &shop.host.name, subnets);
    let cluster = shop.cluster;
    let own = cluster.workers.settings_on(&shop.host.name, |own| &own.kubelet);
    let reserved = reserved(cluster, &shop.host.name);
    let HostFacts { unified_cgroups, container, stub_resolver, disk_gib, .. } = facts;
    let alike = (unified_cgroups, container, stub_resolver, disk_gib, &reserved);
    let text =
        shop.shared_yaml(format!("kubelet.yaml {alike:?} {own:?} {:?}", wanted.taints), || {
            let mut config = kubelet_config(cluster, facts, &wanted, authority);
            config["systemReserved"] = reserved.clone();
            merge(&mut config, &own);
            config
        });
    items.push(Workshop::file(&format!("{KUBELET}/kubelet.yaml"), text, Some(KUBELET_UNIT)));
    let bootstrap = shop.shared_yaml("join.yaml".into(), || {
        kubeconfig(
            cluster.name.as_str(),
            &api_url(cluster),
            json!({"certificate-authority": authority}),
            "join",
            &Credential::TokenFile(TOKEN_PATH),
        )
    });
    items.push(Workshop::file(&format!("{KUBELET}/join.yaml"), bootstrap, Some(KUBELET_UNIT)));
    let flags = Flags::new([
        ("bootstrap-kubeconfig", format!("{KUBELET}/join.yaml")),
        ("cert-dir", format!("{KUBELET_STATE}/pki")),
        ("config", format!("{KUBELET}/kubelet.yaml")),
        ("hostname-override", shop.host.name.to_string()),
        ("kubeconfig", format!("{KUBELET_STATE}/kubeconfig")),
        ("node-ip", node_addresses(shop.cluster, shop.host)),
        ("root-dir", KUBELET_STATE.into()),
    ]);
    let start = flags.command(&format!("{}/kubelet", kubernetes_folder(shop.cluster)));
    let unit = root_service(shop, "kubelet", "containerd.service zoisite-network.service", &start);
    let port = (!own.contains_key("healthzPort")).then_some(10_248);
    items.extend(Workshop::unit(KUBELET_UNIT, port, &unit));
    items
}

/// The addresses of a node: both where pods have both families (the kubelet's `--node-ip`).
fn node_addresses(cluster: &Cluster, host: &Host) -> String {
    let both = cluster.network.pods.len() > 1;
    let second = host.second.filter(|_| both).map(|second| format!(",{second}"));
    format!("{}{}", host.address, second.unwrap_or_default())
}

/// `kubelet.config.k8s.io/v1beta1`.
fn kubelet_config(
    cluster: &Cluster,
    facts: &HostFacts,
    wanted: &NodeWanted,
    authority: &str,
) -> Value {
    let dns: Vec<IpAddr> = cluster.network.services.iter().filter_map(dns_address).collect();
    json!({
        "apiVersion": "kubelet.config.k8s.io/v1beta1",
        "kind": "KubeletConfiguration",
        "authentication": {
            "anonymous": {"enabled": false},
            "webhook": {"enabled": true},
            "x509": {"clientCAFile": authority},
        },
        "authorization": {"mode": "Webhook"},
        "cgroupDriver": if facts.unified_cgroups { "systemd" } else { "cgroupfs" },
        "failCgroupV1": facts.unified_cgroups,
        "clusterDNS": dns,
        "clusterDomain": cluster.domain,
        "containerRuntimeEndpoint": "unix:///run/containerd/containerd.sock",
        "registerWithTaints": wanted.taints,
        "rotateCertificates": true,
        "serverTLSBootstrap": false,
        "tlsCertFile": format!("{KUBELET}/serving/tls.crt"),
        "tlsPrivateKeyFile": format!("{KUBELET}/serving/tls.key"),
        "tlsMinVersion": "VersionTLS12",
        // A change of the node's condition is reported soon, all is reported again seldom.
        "nodeStatusUpdateFrequency": "4s",
        "nodeStatusReportFrequency": "5m0s",
        "readOnlyPort": 0,
        // A stub on the host is none for pods: they would look for it in themselves.
        "resolvConf": match facts.stub_resolver {
            true => "/run/systemd/resolve/resolv.conf",
            false => "/etc/resolv.conf",
        },
        "seccompDefault": !facts.container,
        // Pods get notice before the host goes down; in a container the kubelet gets none.
        "shutdownGracePeriod": if facts.container { "0s" } else { "30s" },
        "shutdownGracePeriodCriticalPods": if facts.container { "0s" } else { "10s" },
        "containerLogMaxSize": "10Mi",
        "containerLogMaxFiles": 5,
        "evictionHard": eviction(facts),
        "volumePluginDir": format!("{KUBELET_STATE}/volume-plugins"),
        "imageGCHighThresholdPercent": 85,
        "imageGCLowThresholdPercent": 80,
    })
}

/// From where on pods are taken off a node (kubelet's `evictionHard`): shares of a small disk, and no more than a
/// few GiB of a large one.
pub(super) fn eviction(facts: &HostFacts) -> Value {
    // In MiB; a share of a hundred, and at most so much.
    let room = |share: u64, most: u64| match facts.disk_gib {
        0 => format!("{share}%"),
        size => format!("{}Mi", (size * 1_024 * share / 100).min(most)),
    };
    json!({
        "memory.available": "100Mi",
        "nodefs.available": room(10, 10 * 1_024),
        "nodefs.inodesFree": "5%",
        "imagefs.available": room(15, 15 * 1_024),
    })
}

/// What pods may not have: what the host itself and the cluster's own services on it need at least.
fn reserved(cluster: &Cluster, host: &HostName) -> Value {
    let (cpu, memory) = match cluster.is_depended_on(host) {
        true => {
            let need = size_of(cluster, host).need;
            (need.millicores, need.memory_mib)
        }
        // The system, and what a node is made of.
        false => (100, 400),
    };
    json!({"cpu": format!("{cpu}m"), "memory": format!("{memory}Mi")})
}

/// The address of the cluster's DNS service: the tenth one of a service range.
pub(super) fn dns_address(range: &IpNet) -> Option<IpAddr> {
    Some(match range {
        IpNet::V4(net) => IpAddr::V4((u32::from(net.network()).checked_add(10)?).into()),
        IpNet::V6(net) => IpAddr::V6((u128::from(net.network()).checked_add(10)?).into()),
    })
}

pub(super) fn api_url(cluster: &Cluster) -> String {
    format!("https://{}", cluster.control_plane.endpoint)
}

fn proxy(shop: &mut Workshop<'_>, facts: &HostFacts) -> Vec<Item> {
    let mut items = vec![Workshop::directory(PROXY, "root", 0o755)];
    let authority = format!("{PROXY}/cluster-authority.crt");
    items.extend(shop.authority(AuthorityKind::Cluster, &authority, Some(PROXY_UNIT)));
    items.extend(shop.certificate(Profile::KubeProxy));
    let cluster = shop.cluster;
    let config = shop.shared_yaml("kube-proxy kubeconfig.yaml".into(), || {
        kubeconfig(
            cluster.name.as_str(),
            &api_url(cluster),
            json!({"certificate-authority": authority}),
            Profile::KubeProxy.id(),
            &Credential::Files {
                certificate: &format!("{PROXY}/client/tls.crt"),
                key: &format!("{PROXY}/client/tls.key"),
            },
        )
    });
    items.push(Workshop::file(&format!("{PROXY}/kubeconfig.yaml"), config, Some(PROXY_UNIT)));
    let pods: Vec<String> = shop.cluster.network.pods.iter().map(ToString::to_string).collect();
    // `kubeproxy.config.k8s.io/v1alpha1`.
    let mut config = json!({
        "apiVersion": "kubeproxy.config.k8s.io/v1alpha1",
        "kind": "KubeProxyConfiguration",
        "bindAddress": shop.host.address,
        "clientConnection": {"kubeconfig": format!("{PROXY}/kubeconfig.yaml")},
        "clusterCIDR": pods.join(","),
        "hostnameOverride": shop.host.name,
        "mode": if facts.nftables { "nftables" } else { "iptables" },
    });
    let own = cluster.workers.settings_on(&shop.host.name, |own| &own.kube_proxy);
    merge(&mut config, &own);
    if facts.container {
        // The table's size is the whole machine's, and not a container's to set.
        config["conntrack"] = json!({"maxPerCore": 0, "min": 0});
    }
    let text = shop.yaml(&config);
    items.push(Workshop::file(&format!("{PROXY}/kube-proxy.yaml"), text, Some(PROXY_UNIT)));
    let start =
        format!("{}/kube-proxy --config={PROXY}/kube-proxy.yaml", kubernetes_folder(shop.cluster));
    let unit = root_service(shop, "kube-proxy", "zoisite-network.service", &start);
    items.extend(Workshop::unit(PROXY_UNIT, Some(10_256), &unit));
    items
}

fn root_service(shop: &Workshop<'_>, what: &str, after: &str, start: &str) -> UnitFile {
    let what = format!("{what} of {} on {}", shop.cluster.name, shop.host.name);
    UnitFile::service(&what, &format!("network-online.target {after}"))
        .section(
            "Service",
            [
                ("ExecStart", start),
                ("Restart", "always"),
                ("RestartSec", "2"),
                ("TimeoutStopSec", "30"),
                // Pods and their mounts belong to the runtime: they outlive this service.
                ("KillMode", "process"),
                ("Delegate", "yes"),
                ("LimitNOFILE", "16384"),
                ("LimitCORE", NO_CORE),
            ],
        )
        .at_boot()
}
