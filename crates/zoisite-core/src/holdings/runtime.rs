//! Where a host's programs come from, and its container runtime.

use serde_json::{Value, json};

use super::config::merge;
use super::{HostFacts, UnitFile, Workshop, registry};
use crate::cluster::{Cluster, PodsBy, Programs, Version};
use crate::components::image_pinned;
use crate::item::{Component, Image, Item, Pinned, Unit};
use crate::layout::{
    BROUGHT, CNI_CONFIG, Distribution, MODPROBE, Program, RUNTIME_CONFIG, RUNTIME_UNIT, UNITS,
};

const FOLDER: &str = "/etc/zoisite/runtime";
const IMAGES: &str = "/usr/local/lib/zoisite/images";

/// Who brings a program to a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Origin {
    /// It is there, or a person brings it: its path.
    There(String),
    /// Zoisite, from the distribution's packages.
    Package(Program),
    /// Zoisite, from here.
    Pinned,
}

impl Origin {
    /// Where one program comes from, by what was found on the host. What Zoisite once brought one way it goes on
    /// bringing that way.
    fn of(
        cluster: &Cluster,
        facts: &HostFacts,
        program: Program,
        found: Option<&String>,
        pinned: bool,
    ) -> Self {
        let here = found.is_some_and(|path| path.starts_with(BROUGHT));
        let wanted = cluster.preparation.programs;
        if pinned && (here || wanted == Programs::Pinned) {
            return Self::Pinned;
        }
        if facts.brought.contains(program.package) {
            return Self::Package(program);
        }
        match found.filter(|_| !here) {
            Some(path) => Self::There(path.clone()),
            None if wanted == Programs::ByHand => Self::There(program.path.into()),
            None if pinned && (facts.no_source || !facts.apt) => Self::Pinned,
            None if facts.apt && Distribution::of(&facts.os).apt => Self::Package(program),
            None => Self::There(program.path.into()),
        }
    }

    /// The program's path; a pinned one's is given.
    fn path<'a>(&'a self, pinned: &'a str) -> &'a str {
        match self {
            Self::There(path) => path,
            Self::Package(program) => program.path,
            Self::Pinned => pinned,
        }
    }

    /// The package that Zoisite installs for it.
    pub fn package(&self) -> Option<&'static str> {
        match self {
            Self::Package(program) => Some(program.package),
            Self::There(_) | Self::Pinned => None,
        }
    }
}

/// Where the programs of one host are, and who brings them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    /// The container runtime.
    pub runtime: Origin,
    /// The reference plugins of container networks.
    pub plugins: Origin,
    /// The load balancer.
    pub load_balancer: Origin,
    /// What holds the virtual IP.
    pub keepalived: Origin,
    /// What asks an API server by TLS.
    pub openssl: Origin,
    /// The firewall's program; `None` where there is none and none is brought.
    pub nft: Option<Origin>,
    versions: Option<(Version, Version)>,
    plugins_version: Option<Version>,
}

impl Layout {
    /// Of a host, by its facts.
    pub fn of(cluster: &Cluster, facts: &HostFacts) -> Self {
        let row = Distribution::of(&facts.os);
        let components = &cluster.components;
        let versions = components.runtime.zip(components.runc);
        let plugins_version = components.network_plugins;
        let of = |program, found: &Option<String>, pinned| {
            Origin::of(cluster, facts, program, found.as_ref(), pinned)
        };
        let nft = match (&facts.nft, of(row.nft, &None, false)) {
            (Some(_), package @ Origin::Package(_)) if facts.brought.contains(row.nft.package) => {
                Some(package)
            }
            (Some(path), _) => Some(Origin::There(path.clone())),
            (None, package @ Origin::Package(_)) if !facts.no_source => Some(package),
            (None, _) => None,
        };
        Self {
            runtime: of(row.runtime, &facts.runtime, versions.is_some()),
            plugins: of(row.plugins, &facts.plugins, plugins_version.is_some()),
            load_balancer: of(row.load_balancer, &facts.haproxy, false),
            keepalived: of(row.keepalived, &facts.keepalived, false),
            openssl: of(row.openssl, &facts.openssl, false),
            nft,
            versions,
            plugins_version,
        }
    }

    /// Whether the firewall of the host speaks nftables, or will.
    pub fn nftables(&self, facts: &HostFacts) -> bool {
        facts.nftables || (facts.nft.is_none() && self.nft.is_some())
    }

    /// The folder of a pinned program.
    fn folder(name: &str, version: Option<Version>) -> String {
        format!("{BROUGHT}/{name}-{}", version.map_or_else(String::new, |v| v.to_string()))
    }

    fn containerd(&self) -> String {
        let pinned = Self::folder("containerd", self.versions.map(|(runtime, _)| runtime));
        self.runtime.path(&format!("{pinned}/containerd")).to_owned()
    }

    /// Folder of the reference plugins.
    fn plugins_folder(&self) -> String {
        let pinned = format!("{}/bridge", Self::folder("network-plugins", self.plugins_version));
        let path = self.plugins.path(&pinned);
        path.rsplit_once('/').map_or(path, |(folder, _)| folder).to_owned()
    }

    /// Programs of a node that must be there already: none of them is brought from here.
    pub fn node_programs(&self) -> Vec<String> {
        let (runtime, plugins) = (self.containerd(), format!("{}/bridge", self.plugins_folder()));
        let kept = [(&self.runtime, runtime), (&self.plugins, plugins)];
        kept.into_iter()
            .filter(|(origin, _)| **origin != Origin::Pinned)
            .map(|(_, path)| path)
            .collect()
    }

    /// What holds the virtual IP.
    pub fn keepalived(&self) -> &str {
        self.keepalived.path("")
    }

    /// What asks an API server by TLS.
    pub fn openssl(&self) -> &str {
        self.openssl.path("")
    }

    /// The load balancer's program.
    pub fn haproxy(&self) -> &str {
        self.load_balancer.path("")
    }

    /// The pinned programs, and the folders that they stand in.
    fn pinned(&self) -> Vec<Item> {
        let mut items = Vec::new();
        let mut bring = |name: &'static str, version: Version, files: &[&'static str]| {
            let folder = Self::folder(name, Some(version));
            items.push(Workshop::directory(&folder, "root", 0o755));
            items.extend(files.iter().map(|file| {
                Item::Component(Component {
                    path: format!("{folder}/{file}"),
                    pinned: Pinned { name, version: version.to_string(), file },
                    restarts: (name != "network-plugins").then_some(RUNTIME_UNIT),
                })
            }));
        };
        if let (Origin::Pinned, Some((runtime, runc))) = (&self.runtime, self.versions) {
            bring("containerd", runtime, &["containerd", "containerd-shim-runc-v2", "ctr"]);
            bring("runc", runc, &["runc"]);
        }
        if let (Origin::Pinned, Some(version)) = (&self.plugins, self.plugins_version) {
            bring("network-plugins", version, &["bridge", "host-local", "loopback", "portmap"]);
        }
        items
    }
}

/// The container runtime, what it may reach, and the images.
pub(super) fn runtime(shop: &mut Workshop<'_>, facts: &HostFacts, layout: &Layout) -> Vec<Item> {
    let mut items = layout.pinned();
    let reads = |name: &str, text: String| {
        Workshop::file(&format!("{FOLDER}/{name}"), text, Some(RUNTIME_UNIT))
    };
    items.push(Workshop::directory(FOLDER, "root", 0o755));
    items.push(reads("settings.toml", toml_text(&settings(shop, facts, layout))));
    let own = shop.cluster.workers.settings_on(&shop.host.name, |own| &own.runtime);
    let mut imports = Vec::new();
    // What stands there is read first, and what is computed counts.
    if facts.runtime_config || matches!(layout.runtime, Origin::Package(_)) {
        imports.push(RUNTIME_CONFIG.to_owned());
    }
    imports.push(format!("{FOLDER}/settings.toml"));
    if !own.is_empty() {
        let mut all = json!({"version": 2});
        merge(&mut all, &own);
        items.push(reads("own.toml", toml_text(&all)));
        imports.push(format!("{FOLDER}/own.toml"));
    }
    let root = json!({"version": 2, "imports": imports});
    items.push(reads("containerd.toml", toml_text(&root)));
    items.extend(registry::files(shop));
    items.extend(unit(shop, layout));
    items.push(Item::Unit(Unit { name: RUNTIME_UNIT, port: None }));
    items.push(Workshop::directory(IMAGES, "root", 0o755));
    for source in &shop.sources.images.sources {
        let pinned = image_pinned(source);
        let archive = format!("{IMAGES}/{}.tar", pinned.version.replace('/', "+"));
        let name = shop.sources.images.name_of(source);
        items.push(Item::Component(Component { path: archive.clone(), pinned, restarts: None }));
        items.push(Item::Image(Image { name, archive }));
    }
    items
}

/// What is computed of containerd's configuration, version 2 (containerd-config.toml(5)), which later versions read
/// too.
fn settings(shop: &Workshop<'_>, facts: &HostFacts, layout: &Layout) -> Value {
    let mut options = json!({"SystemdCgroup": facts.unified_cgroups});
    if layout.runtime == Origin::Pinned {
        let runc = Layout::folder("runc", layout.versions.map(|(_, runc)| runc));
        options["BinaryName"] = format!("{runc}/runc").into();
    }
    // A pod network of the site's own puts its plugins where it likes, which is where most look for them.
    let plugins = match shop.cluster.network.pod_network {
        PodsBy::Routes => layout.plugins_folder(),
        PodsBy::Manifests => "/opt/cni/bin".into(),
    };
    let mut cri = json!({
        "sandbox_image": shop.sources.images.name_of(&shop.cluster.components.sandbox),
        // A container cannot lower its own score, nor load profiles: only where the host is one.
        "restrict_oom_score_adj": facts.container,
        "disable_apparmor": facts.container,
        "cni": {"bin_dir": plugins, "conf_dir": CNI_CONFIG},
        "containerd": {"runtimes": {"runc": {
            "runtime_type": "io.containerd.runc.v2",
            "options": options,
        }}},
    });
    if let Some(folder) = registry::configured(shop.cluster) {
        cri["registry"] = json!({"config_path": folder});
    }
    json!({"version": 2, "plugins": {"io.containerd.grpc.v1.cri": cri}})
}

pub(super) fn toml_text(value: &Value) -> String {
    let text = toml::to_string(value).unwrap_or_default();
    format!("{}{text}", super::WRITTEN)
}

/// The runtime's unit: the distribution's own with a few lines of ours beside it, or one of ours where the programs
/// are pinned.
fn unit(shop: &Workshop<'_>, layout: &Layout) -> Vec<Item> {
    let start = format!("{} --config {FOLDER}/containerd.toml", layout.containerd());
    let beside = format!("{UNITS}/{RUNTIME_UNIT}.d");
    let mut environment: Vec<(&'static str, String)> = Vec::new();
    if let Some(proxy) = &shop.cluster.preparation.proxy {
        let quoted = |name: &str, value: &str| {
            format!("\"{name}={}\"", value.replace('%', "%%").replace('"', ""))
        };
        for name in ["HTTP_PROXY", "HTTPS_PROXY"] {
            environment.push(("Environment", quoted(name, proxy)));
        }
        environment.push(("Environment", quoted("NO_PROXY", &no_proxy(shop.cluster))));
    }
    let (path, file) = match layout.runtime {
        Origin::Pinned => {
            let folder = |name, version| Layout::folder(name, version);
            let (runtime, runc) = layout.versions.unzip();
            let path = format!(
                "PATH={}:{}:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
                folder("containerd", runtime),
                folder("runc", runc)
            );
            let what = format!("container runtime of {} on {}", shop.cluster.name, shop.host.name);
            let unit = UnitFile::service(&what, "network.target local-fs.target").section(
                "Service",
                [
                    ("Type", "notify".to_owned()),
                    ("Environment", path),
                    ("ExecStartPre", format!("-{MODPROBE} overlay")),
                    ("ExecStart", start),
                    ("Restart", "always".into()),
                    ("RestartSec", "2".into()),
                    // Containers outlive it, and have groups of their own.
                    ("KillMode", "process".into()),
                    ("Delegate", "yes".into()),
                    ("TasksMax", "infinity".into()),
                    ("OOMScoreAdjust", "-999".into()),
                ]
                .into_iter()
                .chain(environment),
            );
            (format!("{UNITS}/{RUNTIME_UNIT}"), unit.at_boot())
        }
        Origin::There(_) | Origin::Package(_) => {
            let settings = [("ExecStart", String::new()), ("ExecStart", start)];
            let unit =
                UnitFile::default().section("Service", settings.into_iter().chain(environment));
            (format!("{beside}/zoisite.conf"), unit)
        }
    };
    let mut items = Vec::new();
    if path.starts_with(&beside) {
        items.push(Workshop::directory(&beside, "root", 0o755));
    }
    items.push(Workshop::file(&path, file.to_string(), Some(RUNTIME_UNIT)));
    items
}

/// What is reached without a proxy: everything of the cluster's own, by address and by name.
fn no_proxy(cluster: &Cluster) -> String {
    let network = &cluster.network;
    let mut out = vec!["localhost".to_owned(), "127.0.0.1".into(), "::1".into()];
    out.extend(cluster.pod_ranges().chain(&network.services).map(ToString::to_string));
    out.extend(network.service_addresses.iter().map(ToString::to_string));
    out.extend(cluster.hosts.iter().take(64).map(|host| host.address.to_string()));
    out.extend(cluster.api_name().map(ToOwned::to_owned));
    out.extend(cluster.api_ip().map(|address| address.to_string()));
    out.extend([format!(".{}", cluster.domain), ".svc".into()]);
    out.extend(network.zone.iter().map(|zone| format!(".{zone}")));
    out.extend(cluster.preparation.no_proxy.iter().cloned());
    out.join(",")
}
