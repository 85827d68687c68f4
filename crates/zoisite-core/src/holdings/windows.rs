//! Nodes that run Windows: what they hold is a list of acts, which a join file carries out in their order. There is no SSH
//! there, and no sh.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::{IpNet, Ipv4Net};
use serde::Serialize;
use serde_json::{Value, json};

use super::config::{Credential, kubeconfig, merge};
use super::node::{api_url, eviction, node_wanted};
use super::overlay::{IDENTIFIER, nth, older, own_mac, v4};
use super::runtime::toml_text;
use super::{HoldingsError, HostHoldings, Workshop, dns_address};
use crate::cluster::{Cluster, Host, ImageSource};
use crate::item::{Content, Pinned};
use crate::paths::{KUBELET as KUBELET_PORT, OVERLAY};
use crate::pki::{AuthorityCertificate, AuthorityKind, Profile, SecretRef};

/// The network on nodes that run Windows.
const NETWORK: &str = "zoisite";
/// Where everything of ours stands there.
const WINDOWS_FOLDER: &str = r"C:\zoisite";
/// Where the kubelet keeps pods' files there: where drivers look for them.
const KUBELET_ROOT: &str = r"C:\var\lib\kubelet";
/// Where the kubelet keeps the certificates that it is given.
const IDENTITY: &str = r"C:\zoisite\kubelet\pki";
/// Where its join token is until the kubelet has its certificate.
const TOKEN: &str = r"C:\zoisite\kubelet\join.token";
const RUNTIME: &str = "zoisite-containerd";
const KUBELET: &str = "zoisite-kubelet";
const PROXY: &str = "zoisite-kube-proxy";

/// What a node that runs Windows holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WindowsHoldings {
    /// What is done there, one after another; each changes nothing where it was done before.
    pub acts: Vec<WindowsAct>,
}

impl WindowsHoldings {
    /// The programs that it needs.
    pub fn programs(&self) -> impl Iterator<Item = &Pinned> {
        self.acts.iter().filter_map(|act| match act {
            WindowsAct::Program { pinned, .. } => Some(pinned),
            _ => None,
        })
    }

    /// The secrets among its files, each with what it is.
    pub fn secrets(&self) -> impl Iterator<Item = (&SecretRef, &str)> {
        self.acts.iter().filter_map(|act| match act {
            WindowsAct::File { content: Content::Secret { secret, label, .. }, .. } => {
                Some((secret, label.as_str()))
            }
            _ => None,
        })
    }
}

/// One thing that is done on a node that runs Windows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WindowsAct {
    /// A folder.
    Folder {
        /// Its path.
        path: String,
        /// Whether only the system and administrators may look into it.
        private: bool,
    },
    /// A file.
    File {
        /// Its path.
        path: String,
        /// What is in it.
        content: Content,
        /// The service that reads it when it starts.
        restarts: Option<&'static str>,
    },
    /// A program.
    Program {
        /// Its path.
        path: String,
        /// Which one.
        pinned: Pinned,
        /// The service that runs it.
        restarts: Option<&'static str>,
    },
    /// The overlay.
    Overlay(Box<Overlay>),
    /// A port that is let in.
    Port {
        /// What it is for.
        name: &'static str,
        /// Whether it is one of UDP.
        udp: bool,
        /// The port.
        port: u16,
        /// From where.
        from: Vec<IpAddr>,
    },
    /// The join token, where it is still to be used.
    Token {
        /// Its path.
        path: &'static str,
        /// The folder in which the kubelet's certificate will be.
        identity: &'static str,
        /// By whose key that is to be signed, by its identifier in hexadecimal; another one is in its way.
        signs: Option<String>,
        /// What begins again without the other one.
        restarts: &'static str,
        /// Whose it is.
        secret: SecretRef,
    },
    /// A service that starts with the machine.
    Service {
        /// Its name.
        name: &'static str,
        /// Program and arguments.
        command: String,
        /// Services that it needs.
        needs: Vec<&'static str>,
    },
}

/// The network of pods on a node that runs Windows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Overlay {
    /// Its name.
    pub name: &'static str,
    /// Its identifier (VNI).
    pub identifier: u32,
    /// The pods of this node.
    pub subnet: IpNet,
    /// Where they send what is not for one another.
    pub gateway: IpAddr,
    /// The node's own address, from which it is sent.
    pub address: IpAddr,
    /// What is reached through it.
    pub remotes: Vec<Remote>,
}

/// The pods of another node.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Remote {
    /// Their addresses.
    pub subnet: IpNet,
    /// The node's address.
    pub address: IpAddr,
    /// The hardware address of its end of the overlay.
    pub mac: String,
}

/// What a node that runs Windows holds.
pub(super) fn node(shop: &mut Workshop<'_>, out: &mut HostHoldings) {
    let host = shop.host.name.clone();
    let subnets = shop.sources.subnets.get(&host).cloned().unwrap_or_default();
    let (Some(subnet), Some(address)) = (older(&subnets), v4(shop.host)) else {
        shop.errors.push(HoldingsError::NoSubnet { host });
        return;
    };
    let mut acts = Vec::new();
    for (folder, private) in [
        ("", true),
        (r"\programs", false),
        (r"\logs", false),
        (r"\containerd", false),
        (r"\network", false),
        (r"\kubelet", true),
        (r"\kubelet\serving", true),
        (r"\kube-proxy", true),
        (r"\kube-proxy\client", true),
    ] {
        acts.push(WindowsAct::Folder { path: format!("{WINDOWS_FOLDER}{folder}"), private });
    }
    for path in [KUBELET_ROOT, r"C:\var\log\pods", r"C:\var\log\containers"] {
        acts.push(WindowsAct::Folder { path: path.into(), private: false });
    }
    let programs = programs(shop.cluster, &mut acts);
    acts.push(WindowsAct::Overlay(Box::new(overlay(shop, subnet, address))));
    let apis = shop.cluster.control_plane.hosts.iter();
    let apis = apis.filter_map(|name| shop.cluster.host(name)).flat_map(Host::dialled).collect();
    acts.push(port("kubelet", false, KUBELET_PORT, apis));
    let nodes = shop.cluster.nodes().into_iter().filter(|node| node.name != host);
    acts.push(port("overlay", true, OVERLAY, nodes.flat_map(Host::dialled).collect()));
    acts.extend(runtime(shop.cluster, &programs));
    acts.extend(plugins(shop, &subnet, address));
    acts.extend(kubelet(shop, &programs, &subnets));
    acts.extend(proxy(shop, &programs, subnet));
    out.windows = Some(WindowsHoldings { acts });
}

fn port(name: &'static str, udp: bool, port: u16, from: Vec<IpAddr>) -> WindowsAct {
    WindowsAct::Port { name, udp, port, from }
}

fn text(
    path: String,
    content: impl Into<std::sync::Arc<str>>,
    restarts: &'static str,
) -> WindowsAct {
    WindowsAct::File { path, content: Content::text(content), restarts: Some(restarts) }
}

/// Where the programs are.
struct Programs {
    kubernetes: String,
    runtime: String,
    plugins: String,
}

fn programs(cluster: &Cluster, acts: &mut Vec<WindowsAct>) -> Programs {
    let version = |version: Option<crate::cluster::Version>| {
        version.map_or_else(String::new, |version| version.to_string())
    };
    let mut bring = |name: &'static str, version: String, files: &[(&'static str, Option<_>)]| {
        let folder = format!(r"{WINDOWS_FOLDER}\programs\{name}-{version}");
        acts.push(WindowsAct::Folder { path: folder.clone(), private: false });
        acts.extend(files.iter().map(|(file, restarts)| WindowsAct::Program {
            path: format!(r"{folder}\{file}"),
            pinned: Pinned { name, version: version.clone(), file },
            restarts: *restarts,
        }));
        folder
    };
    let kubernetes = [
        ("kubelet.exe", Some(KUBELET)),
        ("kube-proxy.exe", Some(PROXY)),
        ("kube-log-runner.exe", None),
    ];
    let runtime = [
        ("containerd.exe", Some(RUNTIME)),
        ("containerd-shim-runhcs-v1.exe", None),
        ("ctr.exe", None),
    ];
    let plugins = [("win-overlay.exe", None), ("host-local.exe", None)];
    Programs {
        kubernetes: bring("kubernetes", cluster.kubernetes.to_string(), &kubernetes),
        runtime: bring("containerd", version(cluster.components.runtime), &runtime),
        plugins: bring("network-plugins", version(cluster.components.network_plugins), &plugins),
    }
}

fn overlay(shop: &Workshop<'_>, subnet: Ipv4Net, address: Ipv4Addr) -> Overlay {
    let others = shop.cluster.nodes().into_iter().filter(|node| node.name != shop.host.name);
    let remote = |node: &Host| {
        let mac = match node.windows {
            None => own_mac(v4(node)?),
            Some(_) => shop.sources.facts.get(&node.name)?.overlay_mac.clone()?,
        };
        let subnet = shop.sources.subnets.get(&node.name).and_then(|all| older(all))?;
        Some(Remote { subnet: subnet.into(), address: v4(node)?.into(), mac })
    };
    Overlay {
        name: NETWORK,
        identifier: IDENTIFIER,
        subnet: subnet.into(),
        gateway: nth(&subnet, 1).into(),
        address: address.into(),
        remotes: others.filter_map(remote).collect(),
    }
}

fn runtime(cluster: &Cluster, programs: &Programs) -> Vec<WindowsAct> {
    let config = format!(r"{WINDOWS_FOLDER}\containerd\containerd.toml");
    let sandbox = match &cluster.components.sandbox {
        ImageSource::Named(name) => name.to_string(),
        // check refuses that: its images are of another system.
        ImageSource::Archive(place) => place.clone(),
    };
    // containerd-config.toml(5), version 2.
    let settings = json!({
        "version": 2,
        "root": format!(r"{WINDOWS_FOLDER}\containerd\root"),
        "state": format!(r"{WINDOWS_FOLDER}\containerd\state"),
        "plugins": {"io.containerd.grpc.v1.cri": {
            "sandbox_image": sandbox,
            "cni": {"bin_dir": programs.plugins, "conf_dir": format!(r"{WINDOWS_FOLDER}\network")},
        }},
    });
    let command = format!(
        r"{}\containerd.exe --run-service --service-name {RUNTIME} --config {config} --log-file {WINDOWS_FOLDER}\logs\containerd.log",
        programs.runtime
    );
    vec![
        text(config, toml_text(&settings), RUNTIME),
        WindowsAct::Service { name: RUNTIME, command, needs: Vec::new() },
    ]
}

/// The container network configuration (CNI specification 1.0.0) with the reference plugin for overlays.
fn plugins(shop: &Workshop<'_>, subnet: &Ipv4Net, address: Ipv4Addr) -> Vec<WindowsAct> {
    let cluster = shop.cluster;
    let older = |range: &&IpNet| range.addr().is_ipv4();
    let inside: Vec<&IpNet> =
        cluster.pod_ranges().chain(&cluster.network.services).filter(older).collect();
    let policy = |value: Value| json!({"name": "EndpointPolicy", "value": value});
    let mut policies =
        vec![policy(json!({"Type": "OutBoundNAT", "Settings": {"Exceptions": inside}}))];
    let services = cluster.network.services.iter().filter(older);
    policies.extend(services.map(|range| {
        policy(json!({"Type": "SDNRoute", "Settings": {"DestinationPrefix": range, "NeedEncap": true}}))
    }));
    policies
        .push(policy(json!({"Type": "ProviderAddress", "Settings": {"ProviderAddress": address}})));
    let dns: Vec<IpAddr> = cluster.network.services.iter().filter_map(dns_address).collect();
    let config = json!({
        "cniVersion": "1.0.0",
        "name": NETWORK,
        "type": "win-overlay",
        "apiVersion": 2,
        "loopbackDSR": true,
        "capabilities": {"dns": true},
        "dns": {"nameservers": dns, "search": [format!("svc.{}", cluster.domain)]},
        // The first addresses are the gateway's and kube-proxy's own.
        "ipam": {"type": "host-local", "subnet": subnet, "rangeStart": nth(subnet, 16)},
        "policies": policies,
    });
    let path = format!(r"{WINDOWS_FOLDER}\network\10-zoisite.conf");
    let content = Content::text(format!("{config:#}\n"));
    vec![WindowsAct::File { path, content, restarts: None }]
}

/// The certificate of an authority, and a certificate with its key, each where a service reads it.
fn trust(
    shop: &mut Workshop<'_>,
    (folder, profile, of): (&str, Profile, &str),
    restarts: &'static str,
) -> Vec<WindowsAct> {
    let mut out = Vec::new();
    match shop.sources.ledger.bundle(AuthorityKind::Cluster) {
        Some(bundle) => {
            out.push(text(format!(r"{folder}\cluster-authority.crt"), bundle, restarts));
        }
        None => shop.errors.push(HoldingsError::NoAuthority(AuthorityKind::Cluster)),
    }
    let host = shop.host.name.clone();
    match shop.current.get(&(profile, host.clone())) {
        Some(entry) => {
            out.push(text(format!(r"{folder}\{of}\tls.crt"), entry.pem.as_str(), restarts));
            let secret = SecretRef::Certificate(entry.serial.clone());
            let (label, sha256) = (entry.label(), entry.key_sha256.clone());
            let content = Content::Secret { secret, label, sha256 };
            let path = format!(r"{folder}\{of}\tls.key");
            out.push(WindowsAct::File { path, content, restarts: Some(restarts) });
        }
        None => shop.errors.push(HoldingsError::NoCertificate { profile, host }),
    }
    out
}

/// A program's command that writes what it says into a file: a service of Windows has nowhere else to say it.
fn logged(programs: &Programs, program: &str, flags: &[(&str, String)]) -> String {
    let folder = &programs.kubernetes;
    // No value has a space or a quote in it.
    let flags: String = flags.iter().map(|(flag, value)| format!(" --{flag}={value}")).collect();
    format!(
        r"{folder}\kube-log-runner.exe -log-file={WINDOWS_FOLDER}\logs\{program}.log -also-stdout=false {folder}\{program}.exe{flags} --windows-service"
    )
}

fn kubelet(shop: &mut Workshop<'_>, programs: &Programs, subnets: &[IpNet]) -> Vec<WindowsAct> {
    let folder = &format!(r"{WINDOWS_FOLDER}\kubelet");
    let mut acts = trust(shop, (folder, Profile::KubeletServing, "serving"), KUBELET);
    let cluster = shop.cluster;
    let authority = format!(r"{folder}\cluster-authority.crt");
    let wanted = node_wanted(cluster, &shop.host.name, subnets);
    let dns: Vec<IpAddr> = cluster.network.services.iter().filter_map(dns_address).collect();
    let mut room = eviction(&shop.facts());
    if let Some(room) = room.as_object_mut() {
        // There are no inodes.
        room.remove("nodefs.inodesFree");
    }
    // `kubelet.config.k8s.io/v1beta1`.
    let mut config = json!({
        "apiVersion": "kubelet.config.k8s.io/v1beta1",
        "kind": "KubeletConfiguration",
        "authentication": {
            "anonymous": {"enabled": false},
            "webhook": {"enabled": true},
            "x509": {"clientCAFile": authority},
        },
        "authorization": {"mode": "Webhook"},
        // Control groups are Linux's.
        "cgroupsPerQOS": false,
        "enforceNodeAllocatable": [],
        "clusterDNS": dns,
        "clusterDomain": cluster.domain,
        "containerRuntimeEndpoint": "npipe:////./pipe/containerd-containerd",
        "registerWithTaints": wanted.taints,
        "resolvConf": "",
        "rotateCertificates": true,
        "serverTLSBootstrap": false,
        "tlsCertFile": format!(r"{folder}\serving\tls.crt"),
        "tlsPrivateKeyFile": format!(r"{folder}\serving\tls.key"),
        "tlsMinVersion": "VersionTLS12",
        "nodeStatusUpdateFrequency": "4s",
        "nodeStatusReportFrequency": "5m0s",
        "readOnlyPort": 0,
        "containerLogMaxSize": "10Mi",
        "containerLogMaxFiles": 5,
        "evictionHard": room,
        "imageGCHighThresholdPercent": 85,
        "imageGCLowThresholdPercent": 80,
        // What the system itself needs: Windows starts nothing in less.
        "systemReserved": {"cpu": "500m", "memory": "2Gi"},
    });
    merge(&mut config, &cluster.workers.settings_on(&shop.host.name, |own| &own.kubelet));
    let config = shop.yaml(&config);
    let bootstrap = shop.yaml(&kubeconfig(
        cluster.name.as_str(),
        &api_url(cluster),
        json!({"certificate-authority": authority}),
        "join",
        &Credential::TokenFile(TOKEN),
    ));
    acts.push(text(format!(r"{folder}\kubelet.yaml"), config, KUBELET));
    acts.push(text(format!(r"{folder}\join.yaml"), bootstrap, KUBELET));
    let secret = SecretRef::JoinToken(shop.host.name.clone());
    let signs = shop.sources.ledger.authority(AuthorityKind::Cluster);
    let signs = signs.and_then(AuthorityCertificate::key_id);
    let restarts = KUBELET;
    acts.push(WindowsAct::Token { path: TOKEN, identity: IDENTITY, signs, restarts, secret });
    let flags = [
        ("bootstrap-kubeconfig", format!(r"{folder}\join.yaml")),
        ("cert-dir", IDENTITY.into()),
        ("config", format!(r"{folder}\kubelet.yaml")),
        ("hostname-override", shop.host.name.to_string()),
        ("kubeconfig", format!(r"{folder}\kubeconfig")),
        ("node-ip", v4(shop.host).map_or_else(String::new, |own| own.to_string())),
        ("root-dir", KUBELET_ROOT.into()),
    ];
    let command = logged(programs, "kubelet", &flags);
    acts.push(WindowsAct::Service { name: KUBELET, command, needs: vec![RUNTIME] });
    acts
}

fn proxy(shop: &mut Workshop<'_>, programs: &Programs, subnet: Ipv4Net) -> Vec<WindowsAct> {
    let folder = &format!(r"{WINDOWS_FOLDER}\kube-proxy");
    let mut acts = trust(shop, (folder, Profile::KubeProxy, "client"), PROXY);
    let cluster = shop.cluster;
    let access = shop.yaml(&kubeconfig(
        cluster.name.as_str(),
        &api_url(cluster),
        json!({"certificate-authority": format!(r"{folder}\cluster-authority.crt")}),
        Profile::KubeProxy.id(),
        &Credential::Files {
            certificate: &format!(r"{folder}\client\tls.crt"),
            key: &format!(r"{folder}\client\tls.key"),
        },
    ));
    acts.push(text(format!(r"{folder}\kubeconfig.yaml"), access, PROXY));
    let ranges: Vec<String> =
        cluster.network.windows_pods.iter().map(ToString::to_string).collect();
    // `kubeproxy.config.k8s.io/v1alpha1`.
    let mut config = json!({
        "apiVersion": "kubeproxy.config.k8s.io/v1alpha1",
        "kind": "KubeProxyConfiguration",
        "bindAddress": v4(shop.host),
        "clientConnection": {"kubeconfig": format!(r"{folder}\kubeconfig.yaml")},
        "clusterCIDR": ranges.join(","),
        "hostnameOverride": shop.host.name,
        "mode": "kernelspace",
        // Its own address in the overlay: what it sends on for a service comes from there.
        "winkernel": {"networkName": NETWORK, "sourceVip": nth(&subnet, 3), "enableDSR": false},
    });
    merge(&mut config, &cluster.workers.settings_on(&shop.host.name, |own| &own.kube_proxy));
    let config = shop.yaml(&config);
    acts.push(text(format!(r"{folder}\kube-proxy.yaml"), config, PROXY));
    let flags = [("config", format!(r"{folder}\kube-proxy.yaml"))];
    let command = logged(programs, "kube-proxy", &flags);
    acts.push(WindowsAct::Service { name: PROXY, command, needs: Vec::new() });
    acts
}
