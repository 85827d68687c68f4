mod certificates;
mod hosts;
mod tables;

#[cfg(test)]
pub(crate) use tables::COMPONENT_SOURCES;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::ops::Range;

use ipnet::IpNet;
use toml::de::{DeTable, DeValue};

use super::check;
use super::finding::{Finding, Grade, Places};
use super::host::{Host, Login};
use super::model::{Cluster, NodeSettings, Signer, Workers};
use super::names::{ClusterName, HostName, NameError, Version};
use super::pattern;
use super::reader::{At, Section, kind, near};

/// What reading a cluster file gave.
#[derive(Clone, Debug)]
pub struct Reading {
    /// The cluster, when nothing blocks.
    pub cluster: Option<Cluster>,
    /// Everything found, in the order of the file; what has no place comes last.
    pub findings: Vec<Finding>,
}

impl Reading {
    /// The findings of one grade.
    pub fn of(&self, grade: Grade) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(move |finding| finding.grade == grade)
    }
}

/// Reads and checks the text of a cluster file.
pub fn read(text: &str) -> Reading {
    let (document, errors) = DeTable::parse_recoverable(text);
    let mut parser =
        Parser { findings: errors.iter().map(syntax).collect(), places: Places::new() };
    let cluster = parser.cluster(document.get_ref(), text.len());
    let Parser { mut findings, places } = parser;
    if let Some(cluster) = &cluster {
        check::check(cluster, &places, &mut findings);
    }
    findings.sort_by_key(|f| f.span.as_ref().map_or(usize::MAX, |span| span.start));
    let blocked = findings.iter().any(|f| f.grade == Grade::Blocks);
    Reading { cluster: cluster.filter(|_| !blocked), findings }
}

fn syntax(error: &toml::de::Error) -> Finding {
    let finding = Finding::blocks("syntax", format!("this is not TOML: {}", error.message()));
    match error.span() {
        Some(span) => finding.at(span, "here"),
        None => finding,
    }
    .fix("in TOML text stands in quotes, a list in [ ], and a table begins with its [name]; zoisite new writes a file to compare with")
}

struct Parser {
    findings: Vec<Finding>,
    places: Places,
}

const HOST_KEYS: &[&str] = &[
    "address",
    "other-addresses",
    "interface",
    "mac",
    "site",
    "rack",
    "login",
    "endpoint",
    "offline",
    "windows",
];
/// Every table of the file with its keys.
pub(super) const TABLES: &[(&str, &[&str])] = &[
    ("cluster", &["name", "kubernetes", "etcd", "domain"]),
    ("hosts", HOST_KEYS),
    ("etcd", &["members", "client-port", "peer-port", "metrics-port", "folder", "settings"]),
    (
        "control-plane",
        &[
            "hosts",
            "endpoint",
            "port",
            "api-server",
            "controller-manager",
            "scheduler",
            "authentication",
            "audit-policy",
        ],
    ),
    ("load-balancers", &["hosts", "virtual-ip", "router-id", "vrrp", "forward", "settings"]),
    ("workers", &["hosts", "labels", "taints", "kubelet", "kube-proxy", "runtime", "on", "signer"]),
    (
        "network",
        &[
            "pods",
            "windows-pods",
            "services",
            "pod-subnet",
            "pod-network",
            "service-proxy",
            "manifests",
            "reserved",
            "service-addresses",
            "name-servers",
            "zone",
        ],
    ),
    ("login", LOGIN_KEYS),
    (
        "components",
        &[
            "from",
            "mirror",
            "images-mirror",
            "sources",
            "authority",
            "credentials",
            "proxy",
            "runtime",
            "runc",
            "network-plugins",
            "registry",
            "dns",
            "dns-image",
            "sandbox",
            "images",
        ],
    ),
    (
        "preparation",
        &[
            "programs",
            "names",
            "host-names",
            "time",
            "time-servers",
            "time-zone",
            "proxy",
            "no-proxy",
            "credentials",
            "firewall",
            "administrators",
            "clients",
            "registries",
        ],
    ),
    ("registry", &["host", "name", "port", "folder", "mirrors", "passwords", "read-only"]),
    ("monitoring", &["port", "from"]),
    ("drill", &["longest-gap", "recovered-within"]),
    ("snapshots", &["keep", "keep-for", "too-old", "copies", "on-members", "on-members-keep"]),
    ("state", &["backup"]),
    ("first-boot", &["networks", "routes", "keys", "packages", "unnamed"]),
    ("mesh", &["range", "hosts", "port", "mtu"]),
    (
        "certificates",
        &[
            "days",
            "life",
            "authority-days",
            "key",
            "keys-made",
            "hierarchy",
            "organization",
            "renew",
            "backdated",
            "profiles",
            "authorities",
        ],
    ),
];
const LOGIN_KEYS: &[&str] = &["address", "port", "user", "ssh-config"];

impl Parser {
    /// Reads what can be read. `None` only when there is nothing to check at all.
    fn cluster(&mut self, document: &DeTable<'_>, end: usize) -> Option<Cluster> {
        if document.is_empty() {
            if self.findings.is_empty() {
                self.findings.push(
                    Finding::blocks("empty", "the cluster file is empty")
                        .fix("write one with: zoisite new NAME ADDRESS…"),
                );
            }
            return None;
        }
        let f = &mut self.findings;
        let known: Vec<&str> = TABLES.iter().map(|(table, _)| *table).collect();
        let root = Section::open("", document, end..end, &known, f);
        let nothing = DeTable::default();
        let open = |key: &str, required: bool, f: &mut Vec<Finding>| {
            if required && !document.contains_key(key) {
                f.push(
                    Finding::blocks("missing-key", format!("the table [{key}] is missing"))
                        .fix("docs/cluster-file.md shows it with an example"),
                );
            }
            let keys = TABLES.iter().find(|(table, _)| *table == key);
            root.section(key, keys.map_or(&[], |(_, keys)| *keys), f)
        };

        let cluster = open("cluster", true, f);
        let etcd = open("etcd", true, f);
        let control = open("control-plane", true, f);
        let load_balancers = open("load-balancers", false, f);
        let workers = open("workers", false, f);
        let network = open("network", true, f);
        let login = open("login", false, f);
        let components = open("components", false, f);
        let preparation = open("preparation", false, f);
        let registry = open("registry", false, f);
        let monitoring = open("monitoring", false, f);
        let drill = open("drill", false, f);
        let snapshots = open("snapshots", false, f);
        let state = open("state", false, f);
        let certificates = open("certificates", false, f);
        let first_boot = open("first-boot", false, f);
        let mesh = open("mesh", false, f);
        let host_table = root.table("hosts", &mut self.findings);
        let (host_table, hosts_span) = host_table.unwrap_or((&nothing, end..end));
        let hosts = self.hosts(host_table, hosts_span);

        let root = self.named(cluster.as_ref());
        let etcd = self.etcd(etcd.as_ref(), &hosts);
        let control_plane = self.control_plane(control.as_ref(), &hosts);
        let load_balancers = self.load_balancers(load_balancers.as_ref(), &hosts);
        let workers = workers.map(|section| self.workers(&section, &hosts)).unwrap_or_default();
        let network = self.network(network.as_ref());
        let login = login.map(|section| self.login(&section)).unwrap_or_default();
        let components = self.components(components.as_ref());
        let preparation = self.preparation(preparation.as_ref());
        let registry = self.registry(registry.as_ref(), &hosts);
        let monitoring = monitoring.map(|section| self.monitoring(&section));
        let drill = self.drill(drill.as_ref());
        let snapshots = self.snapshots(snapshots.as_ref());
        let state_backup = self.state_backup(state.as_ref());
        let certificates = self.certificates(certificates.as_ref());
        let first_boot = first_boot.map(|section| self.first_boot(&section));
        let mesh = mesh.map(|section| self.mesh(&section, &hosts));
        let mut cluster = Cluster {
            name: root.name.or_else(|| ClusterName::new("unnamed").ok())?,
            kubernetes: root.kubernetes.unwrap_or(Version { major: 1, minor: 36, patch: 0 }),
            etcd_version: root.etcd.unwrap_or(Version { major: 3, minor: 6, patch: 0 }),
            domain: root.domain.unwrap_or_else(|| "cluster.local".into()),
            hosts,
            etcd,
            control_plane,
            load_balancers,
            workers,
            network,
            login,
            components,
            preparation,
            registry,
            monitoring,
            drill,
            snapshots,
            state_backup,
            certificates,
            first_boot,
            mesh,
        };
        cluster.forward_for_themselves();
        if cluster.registry.name.is_empty() {
            let zone = cluster.zone().unwrap_or(cluster.name.as_str());
            cluster.registry.name = format!("registry.{zone}");
        }
        Some(cluster)
    }

    fn required<T, E: std::fmt::Display>(
        &mut self,
        section: &Section<'_>,
        key: &str,
        example: &str,
        code: &'static str,
        parse: impl FnOnce(&str) -> Result<T, E>,
    ) -> Option<T> {
        section.missing(key, example, &mut self.findings);
        self.optional(section, key, code, parse)
    }

    fn optional<T, E: std::fmt::Display>(
        &mut self,
        section: &Section<'_>,
        key: &str,
        code: &'static str,
        parse: impl FnOnce(&str) -> Result<T, E>,
    ) -> Option<T> {
        let at = section.parsed(key, code, parse, &mut self.findings)?;
        self.places.insert(section.join(key), at.span);
        Some(at.value)
    }

    fn number(
        &mut self,
        section: &Section<'_>,
        key: &str,
        code: &'static str,
        range: std::ops::RangeInclusive<i64>,
    ) -> Option<i64> {
        let at = section.number(key, code, range, &mut self.findings)?;
        self.places.insert(section.join(key), at.span);
        Some(at.value)
    }

    fn port(&mut self, section: Option<&Section<'_>>, key: &str, default: u16) -> u16 {
        section
            .and_then(|s| self.number(s, key, "bad-port", 1..=65_535))
            .and_then(|n| u16::try_from(n).ok())
            .unwrap_or(default)
    }

    fn settings(&mut self, section: Option<&Section<'_>>, key: &str) -> super::Settings {
        let Some(section) = section else { return super::Settings::new() };
        let settings = section.settings(key, &mut self.findings);
        if let Some((table, _)) = section.table(key, &mut Vec::new()) {
            for (name, _) in table.iter() {
                let path = format!("{}.{}", section.join(key), name.get_ref());
                self.places.insert(path, name.span());
            }
        }
        settings
    }

    fn expand(&mut self, pattern: &str, span: &Range<usize>) -> Option<Vec<String>> {
        pattern::expand(pattern)
            .map_err(|why| {
                self.findings.push(
                    Finding::blocks("bad-pattern", format!("'{pattern}' cannot be written out"))
                        .at(span.clone(), why)
                        .fix("ranges look like tern-{1..40}, lists like jetty-{a,b}"),
                );
            })
            .ok()
    }

    fn login(&mut self, section: &Section<'_>) -> Login {
        Login {
            address: section.string("address", &mut self.findings).map(|at| at.value),
            port: self
                .number(section, "port", "bad-port", 1..=65_535)
                .and_then(|n| u16::try_from(n).ok()),
            user: self.optional(section, "user", "bad-name", |text| {
                let plain = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
                if !text.is_empty() && !text.starts_with('-') && text.chars().all(plain) {
                    Ok(text.to_owned())
                } else {
                    Err(NameError("a user name has letters, digits, '.', '_' and '-'".into()))
                }
            }),
            ssh_config: section.string("ssh-config", &mut self.findings).map(|at| at.value),
        }
    }

    /// The hosts that a list of names, ranges and globs stands for.
    fn role(
        &mut self,
        section: Option<&Section<'_>>,
        key: &str,
        path: &str,
        hosts: &[Host],
    ) -> Vec<HostName> {
        let Some(section) = section else { return Vec::new() };
        section.missing(key, "[\"heron\"]", &mut self.findings);
        let Some(patterns) = section.strings(key, &mut self.findings) else { return Vec::new() };
        let mut names: Vec<HostName> = Vec::new();
        let mut taken = std::collections::HashSet::new();
        let (mut first, mut last) = (usize::MAX, 0);
        for At { value: pattern, span } in patterns {
            (first, last) = (first.min(span.start), last.max(span.end));
            for name in self.matching(&pattern, &span, path, hosts) {
                if taken.insert(name.clone()) {
                    names.push(name);
                } else {
                    self.findings.push(
                        Finding::blocks("repeated-host", format!("{path} names {name} twice"))
                            .at(span.clone(), "named before")
                            .fix("name every host once"),
                    );
                }
            }
        }
        if first < last {
            self.places.insert(path.to_owned(), first..last);
        } else {
            self.places.insert(path.to_owned(), section.span.clone());
        }
        names
    }

    fn matching(
        &mut self,
        pattern: &str,
        span: &Range<usize>,
        path: &str,
        hosts: &[Host],
    ) -> Vec<HostName> {
        let Some(wanted) = self.expand(pattern, span) else { return Vec::new() };
        let mut names = Vec::new();
        for wanted in wanted {
            let before = names.len();
            names.extend(
                hosts
                    .iter()
                    .filter(|h| pattern::glob(&wanted, h.name.as_str()))
                    .map(|h| h.name.clone()),
            );
            if names.len() == before {
                let finding = Finding::blocks("unknown-host", format!("{path} names '{wanted}'"))
                    .at(span.clone(), "no such host under [hosts]");
                let fix = match near(&wanted, hosts.iter().map(|h| h.name.as_str())) {
                    Some(close) => format!("did you mean '{close}'?"),
                    None => "add it under [hosts], or take it out here".into(),
                };
                self.findings.push(finding.fix(fix));
            }
        }
        names
    }

    /// A table that stands as a value.
    fn inner<'t>(
        &mut self,
        path: &str,
        value: &'t toml::Spanned<DeValue<'t>>,
        keys: &'t [&'t str],
        fix: &str,
    ) -> Option<Section<'t>> {
        match value.get_ref() {
            DeValue::Table(own) => {
                Some(Section::open(path, own, value.span(), keys, &mut self.findings))
            }
            other => {
                self.findings.push(
                    Finding::blocks("wrong-type", format!("{path} takes a table"))
                        .at(value.span(), format!("this is {}", kind(other)))
                        .fix(fix),
                );
                None
            }
        }
    }

    /// Own settings of what runs on nodes.
    fn node_settings(&mut self, section: &Section<'_>) -> NodeSettings {
        NodeSettings {
            kubelet: self.settings(Some(section), "kubelet"),
            kube_proxy: self.settings(Some(section), "kube-proxy"),
            runtime: self.settings(Some(section), "runtime"),
        }
    }

    /// The same on single hosts, by name or pattern.
    fn settings_on(
        &mut self,
        section: &Section<'_>,
        hosts: &[Host],
    ) -> BTreeMap<HostName, NodeSettings> {
        let mut out: BTreeMap<HostName, NodeSettings> = BTreeMap::new();
        let Some((all, _)) = section.table("on", &mut self.findings) else { return out };
        for (pattern, value) in all.iter() {
            let path = format!("workers.on.{}", pattern.get_ref());
            let example = "write: on.\"tern-*\" = { kubelet = { maxPods = 30 } }";
            let Some(own) =
                self.inner(&path, value, &["kubelet", "kube-proxy", "runtime"], example)
            else {
                continue;
            };
            let settings = self.node_settings(&own);
            for host in self.matching(pattern.get_ref(), &pattern.span(), "workers.on", hosts) {
                let known = out.entry(host).or_default();
                known.kubelet.extend(settings.kubelet.clone());
                known.kube_proxy.extend(settings.kube_proxy.clone());
                known.runtime.extend(settings.runtime.clone());
            }
        }
        out
    }

    fn workers(&mut self, section: &Section<'_>, hosts: &[Host]) -> Workers {
        let names = self.role(Some(section), "hosts", "workers.hosts", hosts);
        let mut labels: BTreeMap<HostName, BTreeMap<String, String>> = BTreeMap::new();
        if let Some((table, _)) = section.table("labels", &mut self.findings) {
            for (pattern, value) in table.iter() {
                let DeValue::Table(pairs) = value.get_ref() else {
                    self.findings.push(
                        Finding::blocks("wrong-type", "labels take a table of texts")
                            .at(value.span(), format!("this is {}", kind(value.get_ref())))
                            .fix("write: labels.\"tern-*\" = { shore = \"north\" }"),
                    );
                    continue;
                };
                for host in
                    self.matching(pattern.get_ref(), &pattern.span(), "workers.labels", hosts)
                {
                    for (key, value) in pairs.iter() {
                        let DeValue::String(text) = value.get_ref() else { continue };
                        labels
                            .entry(host.clone())
                            .or_default()
                            .insert(key.get_ref().to_string(), text.to_string());
                    }
                }
                for (key, value) in pairs.iter() {
                    let DeValue::String(text) = value.get_ref() else { continue };
                    if let Err(why) = label(key.get_ref(), text) {
                        self.findings.push(
                            Finding::blocks(
                                "bad-label",
                                format!("'{}' with '{text}' cannot be a node's label", key.get_ref()),
                            )
                            .at(key.span(), why.to_string())
                            .fix("write it like shore = \"north\" or \"saltmarsh.example/shore\" = \"north\""),
                        );
                    }
                }
                for (key, value) in pairs.iter().filter(|(_, v)| !v.get_ref().is_str()) {
                    self.findings.push(
                        Finding::blocks(
                            "wrong-type",
                            format!("label '{}' takes a text", key.get_ref()),
                        )
                        .at(value.span(), format!("this is {}", kind(value.get_ref())))
                        .fix("put it in quotes"),
                    );
                }
            }
        }
        let mut taints: BTreeMap<HostName, Vec<String>> = BTreeMap::new();
        let known: Vec<String> = section
            .table("taints", &mut self.findings)
            .map(|(table, _)| table.iter().map(|(k, _)| k.get_ref().to_string()).collect())
            .unwrap_or_default();
        let known: Vec<&str> = known.iter().map(String::as_str).collect();
        if let Some(inner) = section.section("taints", &known, &mut self.findings) {
            for pattern in known {
                let texts = inner.strings(pattern, &mut self.findings).unwrap_or_default();
                let Some(first) = texts.first() else { continue };
                let span = first.span.clone();
                for At { value, span } in &texts {
                    let (key, text) =
                        value.rsplit_once(':').map_or((value.as_str(), ""), |(l, _)| {
                            l.split_once('=').unwrap_or((l, ""))
                        });
                    if let Err(why) = label(key, text) {
                        self.findings.push(
                            Finding::blocks("bad-taint", format!("'{value}' is no taint"))
                                .at(span.clone(), why.to_string())
                                .fix("write key=value:NoSchedule, or key:NoSchedule"),
                        );
                    }
                    let effect = value.rsplit_once(':').map(|(_, effect)| effect);
                    if !matches!(effect, Some("NoSchedule" | "PreferNoSchedule" | "NoExecute")) {
                        self.findings.push(
                            Finding::blocks("bad-taint", format!("'{value}' is no taint"))
                                .at(span.clone(), "no known effect after the last ':'")
                                .fix("write key=value:NoSchedule, :PreferNoSchedule or :NoExecute"),
                        );
                    }
                }
                for host in self.matching(pattern, &span, "workers.taints", hosts) {
                    taints.entry(host).or_default().extend(texts.iter().map(|t| t.value.clone()));
                }
            }
        }
        Workers {
            hosts: names,
            labels,
            taints,
            own: self.node_settings(section),
            on: self.settings_on(section, hosts),
            signer: self.optional(section, "signer", "bad-signer", Signer::new).unwrap_or_default(),
        }
    }

    /// A list of things that are written alike; the list stands at its first.
    fn lists<T>(
        &mut self,
        section: Option<&Section<'_>>,
        key: &str,
        read: impl Fn(&str) -> Result<T, NameError>,
    ) -> Vec<T> {
        let Some(section) = section else { return Vec::new() };
        let path = section.join(key);
        let mut all = Vec::new();
        for At { value, span } in section.strings(key, &mut self.findings).unwrap_or_default() {
            match read(&value) {
                Ok(one) => all.push(one),
                Err(why) => self.findings.push(
                    Finding::blocks("bad-range", format!("'{value}' cannot be in {path}"))
                        .at(span.clone(), why.to_string())
                        .fix("docs/cluster-file.md says what this key takes"),
                ),
            }
            self.places.entry(path.clone()).or_insert(span);
        }
        all
    }

    fn ranges(&mut self, section: Option<&Section<'_>>, key: &str, example: &str) -> Vec<IpNet> {
        let Some(section) = section else { return Vec::new() };
        section.missing(key, example, &mut self.findings);
        let texts = section.strings(key, &mut self.findings).unwrap_or_default();
        let mut ranges: Vec<IpNet> = Vec::new();
        for At { value, span } in texts {
            let path = section.join(key);
            let range = match range(&value) {
                Ok(range) => range,
                Err(why) => {
                    self.findings.push(
                        Finding::blocks("bad-range", format!("'{value}' cannot be {path}"))
                            .at(span, why.to_string())
                            .fix(match value.parse::<IpNet>() {
                                Ok(near) => format!("write {}", near.trunc()),
                                Err(_) => format!("write it like {example}"),
                            }),
                    );
                    continue;
                }
            };
            let v4 = matches!(range, IpNet::V4(_));
            if ranges.iter().any(|other| matches!(other, IpNet::V4(_)) == v4) {
                self.findings.push(
                    Finding::blocks("bad-range", format!("{path} has two ranges of one family"))
                        .at(span, "one IPv4 and one IPv6 range at most")
                        .fix("take one out"),
                );
                continue;
            }
            self.places.insert(path, span);
            ranges.push(range);
        }
        ranges
    }
}

fn range(text: &str) -> Result<IpNet, NameError> {
    match text.parse::<IpNet>() {
        Ok(range) if range.trunc() == range => Ok(range),
        Ok(range) => Err(NameError(format!("host bits are set: the range is {}", range.trunc()))),
        Err(_) => Err(NameError("not ADDRESS/BITS".into())),
    }
}

/// An address that a host can have.
pub(super) fn address(text: &str) -> Result<IpAddr, NameError> {
    let address: IpAddr =
        text.parse().map_err(|_| NameError(format!("'{text}' is no IPv4 or IPv6 address")))?;
    if address.is_unspecified() || address.is_multicast() {
        return Err(NameError("no host can be reached there".into()));
    }
    Ok(address)
}

fn absolute(text: &str) -> Result<String, NameError> {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-".contains(c);
    let tame = text.chars().all(plain) && !text.split('/').any(|part| part == "..");
    let deep = text.split('/').filter(|part| !part.is_empty()).count() >= 2;
    if text.starts_with('/') && !text.ends_with('/') && tame && deep {
        Ok(text.to_owned())
    } else {
        Err(NameError("a path such as /var/lib/etcd: absolute, two folders deep at least".into()))
    }
}

/// Minor versions of Kubernetes that the generated configuration serves: older API servers do not know the
/// first stable form of their authentication's configuration (`apiserver.config.k8s.io/v1`), newer ones were
/// never tried.
const KUBERNETES: &[(u32, u32)] = &[(1, 34), (1, 35), (1, 36)];
/// Minor versions of etcd that the generated configuration serves.
const ETCD: &[(u32, u32)] = &[(3, 5), (3, 6)];

fn served(version: Version, what: &str, known: &[(u32, u32)]) -> Result<Version, NameError> {
    if known.contains(&(version.major, version.minor)) {
        return Ok(version);
    }
    let names: Vec<String> =
        known.iter().map(|(major, minor)| format!("{major}.{minor}")).collect();
    Err(NameError(format!("this version of Zoisite raises {what} {}", names.join(", "))))
}

/// Judges a node label's or taint's key and value by the platform's rules: a name of letters, digits, '-',
/// '_' and '.', perhaps behind a DNS name and a '/'.
fn label(key: &str, value: &str) -> Result<(), NameError> {
    let plain = |text: &str| {
        let inner = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        let edge = |c: Option<char>| c.is_some_and(|c| c.is_ascii_alphanumeric());
        text.len() <= 63
            && text.chars().all(inner)
            && edge(text.chars().next())
            && edge(text.chars().next_back())
    };
    let (prefix, name) = match key.split_once('/') {
        Some((prefix, name)) => (Some(prefix), name),
        None => (None, key),
    };
    if !plain(name) {
        let rule = "1 to 63 letters, digits, '-', '_' and '.', a letter or digit first and last";
        return Err(NameError(format!("'{name}' is no key: {rule}")));
    }
    if let Some(prefix) = prefix {
        super::names::dns_name(prefix, 253)
            .map_err(|why| NameError(format!("'{prefix}' before the '/' is no DNS name: {why}")))?;
    }
    if !value.is_empty() && !plain(value) {
        let rule = "nothing, or up to 63 letters, digits, '-', '_' and '.', a letter or digit first and last";
        return Err(NameError(format!("'{value}' is no value: {rule}")));
    }
    Ok(())
}

/// A number with one of these units behind it, in what each is worth.
fn in_units(text: &str, units: &[(&str, i64)]) -> Option<i64> {
    units.iter().find_map(|(unit, worth)| {
        let number = text.strip_suffix(unit)?.trim_end().parse::<i64>().ok()?;
        number.checked_mul(*worth)
    })
}
