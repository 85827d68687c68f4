//! The tables of the file besides hosts and workers: a function for each.

use std::collections::BTreeMap;
use std::net::IpAddr;

use ipnet::IpNet;
use toml::de::DeValue;

use super::super::address::{Endpoint, EndpointHost, Mac};
use super::super::finding::Finding;
use super::super::host::Host;
use super::super::image::{ImageName, ImageSource};
use super::super::model::{
    Components, ControlPlane, DrillLimits, Etcd, FirewallRules, FirstBoot, HostNames,
    LoadBalancers, Mesh, Monitoring, Names, Network, PodsBy, Preparation, Programs, Registry,
    RegistryMirror, ServicesBy, Snapshots, TimeService, Vrrp,
};
use super::super::names::{ClusterName, HostName, NameError, Version, dns_name};
use super::super::reader::Section;
use super::{ETCD, KUBERNETES, Parser, absolute, address, in_units, range, served};

/// The version of CoreDNS where the file says none.
const DNS: Version = Version { major: 1, minor: 15, patch: 0 };
/// The version of the registry where the file says none.
const REGISTRY: Version = Version { major: 3, minor: 1, patch: 2 };
/// In the list of images: all that the site's manifests name.
const OF_MANIFESTS: &str = "of-manifests";
/// Components whose base address can be set.
pub(crate) const COMPONENT_SOURCES: &[&str] =
    &["kubernetes", "etcd", "runtime", "runc", "network-plugins", "registry"];

/// An address on the web, in which no password may stand: the file is no place for one.
fn web_address(text: &str) -> Result<String, NameError> {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    match rest.map(|rest| rest.split('/').next().unwrap_or_default()) {
        Some(host) if host.contains('@') => Err(NameError(
            "no name or password stands in it: components.credentials names a file for them".into(),
        )),
        Some(host) if !host.is_empty() && !text.contains(char::is_whitespace) => {
            Ok(text.trim_end_matches('/').to_owned())
        }
        _ => Err(NameError(
            "an address begins with https://, or http:// on a network of your own".into(),
        )),
    }
}

fn mirror(text: &str) -> Result<String, NameError> {
    if text.contains("://") { web_address(text) } else { beside(text) }
}

/// A registry's host, perhaps with a port and a path; with `http://` before it where it has no certificate.
fn images_mirror(text: &str) -> Result<String, NameError> {
    let bare =
        text.strip_prefix("https://").or_else(|| text.strip_prefix("http://")).unwrap_or(text);
    ImageName::new(&format!("{}/a", bare.trim_end_matches('/')))?;
    match bare
        .split('/')
        .next()
        .is_some_and(|host| host.contains(['.', ':']) || host == "localhost")
    {
        true => Ok(text.trim_end_matches('/').to_owned()),
        false => {
            Err(NameError("it begins with a host, such as \"registry.saltmarsh.example\"".into()))
        }
    }
}

/// A registry's name, perhaps with a port, as images begin with it.
fn registry_name(text: &str) -> Result<String, NameError> {
    ImageName::new(&format!("{text}/a"))?;
    match text.contains(['.', ':']) && !text.contains('/') {
        true => Ok(text.to_owned()),
        false => Err(NameError("a registry is named like \"registry.saltmarsh.example\"".into())),
    }
}

/// A path, relative to the cluster file.
fn beside(text: &str) -> Result<String, NameError> {
    match text.is_empty() || text.chars().any(char::is_control) {
        true => Err(NameError("it is no path".into())),
        false => Ok(text.to_owned()),
    }
}

/// What the table `[cluster]` says, as far as it can be read.
#[derive(Default)]
pub(super) struct Named {
    pub name: Option<ClusterName>,
    pub kubernetes: Option<Version>,
    pub etcd: Option<Version>,
    pub domain: Option<String>,
}

type Table<'s, 'd> = Option<&'s Section<'d>>;

impl Parser {
    /// `[cluster]`
    pub(super) fn named(&mut self, table: Table<'_, '_>) -> Named {
        let Some(s) = table else { return Named::default() };
        let mut version = |key: &str, example: &str, what: &str, minors| {
            self.required(s, key, example, "bad-version", |text| {
                served(Version::new(text)?, what, minors)
            })
        };
        let kubernetes = version("kubernetes", "\"1.36.3\"", "Kubernetes", KUBERNETES);
        let etcd = version("etcd", "\"3.6.16\"", "etcd", ETCD);
        Named {
            name: self.required(s, "name", "\"saltmarsh\"", "bad-name", ClusterName::new),
            kubernetes,
            etcd,
            domain: self.optional(s, "domain", "bad-name", domain),
        }
    }

    /// `[etcd]`
    pub(super) fn etcd(&mut self, table: Table<'_, '_>, hosts: &[Host]) -> Etcd {
        Etcd {
            members: self.role(table, "members", "etcd.members", hosts),
            client_port: self.port(table, "client-port", 2379),
            peer_port: self.port(table, "peer-port", 2380),
            metrics_port: self.port(table, "metrics-port", 2381),
            folder: table
                .and_then(|s| self.optional(s, "folder", "bad-path", absolute))
                .unwrap_or_else(|| "/var/lib/etcd".into()),
            settings: self.settings(table, "settings"),
        }
    }

    /// `[control-plane]`
    pub(super) fn control_plane(&mut self, table: Table<'_, '_>, hosts: &[Host]) -> ControlPlane {
        let example = "\"api.saltmarsh.example:6443\"";
        ControlPlane {
            hosts: self.role(table, "hosts", "control-plane.hosts", hosts),
            endpoint: table
                .and_then(|s| self.required(s, "endpoint", example, "bad-address", Endpoint::new))
                .unwrap_or(Endpoint { host: EndpointHost::Name(String::new()), port: 6443 }),
            port: self.port(table, "port", 6443),
            api_server: self.settings(table, "api-server"),
            controller_manager: self.settings(table, "controller-manager"),
            scheduler: self.settings(table, "scheduler"),
            authentication: self.settings(table, "authentication"),
            audit_policy: self.settings(table, "audit-policy"),
        }
    }

    /// `[load-balancers]`
    pub(super) fn load_balancers(&mut self, table: Table<'_, '_>, hosts: &[Host]) -> LoadBalancers {
        let Some(s) = table else { return LoadBalancers::default() };
        LoadBalancers {
            // Without any, control planes hold the virtual IP themselves.
            hosts: match s.has("virtual-ip") && !s.has("hosts") {
                true => Vec::new(),
                false => self.role(table, "hosts", "load-balancers.hosts", hosts),
            },
            virtual_ip: self.optional(s, "virtual-ip", "bad-address", address),
            router_id: self
                .number(s, "router-id", "bad-router-id", 1..=255)
                .and_then(|id| u8::try_from(id).ok()),
            vrrp: self.optional(s, "vrrp", "bad-vrrp", Vrrp::new).unwrap_or_default(),
            forward: self.forwarded(s),
            settings: self.settings(table, "settings"),
        }
    }

    /// `load-balancers.forward`: a port of the load balancers, and the node port to which it leads.
    fn forwarded(&mut self, load_balancers: &Section<'_>) -> BTreeMap<u16, u16> {
        let Some((own, span)) = load_balancers.table("forward", &mut self.findings) else {
            return BTreeMap::new();
        };
        self.places.insert("load-balancers.forward".into(), span);
        let port = |text: &str| text.parse::<u16>().ok().filter(|port| *port > 0);
        let mut all = BTreeMap::new();
        for (key, value) in own.iter() {
            let to = match value.get_ref() {
                DeValue::Integer(number) => port(number.as_str()),
                _ => None,
            };
            let (Some(from), Some(to)) = (port(key.get_ref()), to) else {
                let message = format!("'{}' forwards nothing", key.get_ref());
                self.findings.push(
                    Finding::blocks("bad-forward", message)
                        .at(
                            key.span().start..value.span().end,
                            "a port, and the node port it leads to",
                        )
                        .fix("forward = { 80 = 30080, 443 = 30443 }"),
                );
                continue;
            };
            all.insert(from, to);
        }
        all
    }

    /// `[network]`
    pub(super) fn network(&mut self, table: Table<'_, '_>) -> Network {
        Network {
            pods: self.ranges(table, "pods", "\"10.90.0.0/16\""),
            windows_pods: self.lists(table, "windows-pods", range),
            services: self.ranges(table, "services", "\"10.91.0.0/20\""),
            pod_subnet: table
                .and_then(|s| self.number(s, "pod-subnet", "bad-range", 16..=30))
                .map_or(24, |n| u8::try_from(n).unwrap_or(24)),
            pod_network: table
                .and_then(|s| self.optional(s, "pod-network", "bad-network", PodsBy::new))
                .unwrap_or_default(),
            service_proxy: table
                .and_then(|s| self.optional(s, "service-proxy", "bad-network", ServicesBy::new))
                .unwrap_or_default(),
            manifests: table
                .and_then(|s| s.string("manifests", &mut self.findings))
                .map(|at| at.value),
            reserved: self.lists(table, "reserved", range),
            service_addresses: self.lists(table, "service-addresses", range),
            name_servers: self.lists(table, "name-servers", address),
            zone: table.and_then(|s| self.optional(s, "zone", "bad-name", domain)),
        }
    }

    /// `[components]`
    pub(super) fn components(&mut self, table: Table<'_, '_>) -> Components {
        let dns = self.version(table, "dns").unwrap_or(DNS);
        let image = |text: &str| ImageSource::new(text);
        let named = |text: String| ImageSource::new(&text).unwrap_or(ImageSource::Archive(text));
        let (sources, from) = (self.sources(table), self.text(table, "from", beside));
        let mut images = self.lists(table, "images", |text| match text {
            OF_MANIFESTS => Ok(None),
            name => image(name).map(Some),
        });
        let listed = images.len();
        images.retain(Option::is_some);
        Components {
            from: from.unwrap_or_else(|| "components".into()),
            mirror: self.text(table, "mirror", mirror),
            images_mirror: self.text(table, "images-mirror", images_mirror),
            sources,
            authority: self.text(table, "authority", beside),
            credentials: self.text(table, "credentials", beside),
            proxy: self.text(table, "proxy", web_address),
            runtime: self.version(table, "runtime"),
            runc: self.version(table, "runc"),
            network_plugins: self.version(table, "network-plugins"),
            registry: self.version(table, "registry").unwrap_or(REGISTRY),
            dns,
            dns_image: self
                .text(table, "dns-image", image)
                .unwrap_or_else(|| named(format!("registry.k8s.io/coredns/coredns:v{dns}"))),
            sandbox: self
                .text(table, "sandbox", image)
                .unwrap_or_else(|| named("registry.k8s.io/pause:3.10".into())),
            images_of_manifests: images.len() < listed,
            images: images.into_iter().flatten().collect(),
        }
    }

    /// `[monitoring]`
    pub(super) fn monitoring(&mut self, table: &Section<'_>) -> Monitoring {
        Monitoring {
            port: self.port(Some(table), "port", 10_263),
            from: self.lists(Some(table), "from", range),
        }
    }

    /// `[first-boot]`
    pub(super) fn first_boot(&mut self, table: &Section<'_>) -> FirstBoot {
        table.missing("networks", "{ \"10.77.0.0/24\" = \"10.77.0.1\" }", &mut self.findings);
        let router = |text: &str| match text {
            "none" => Some(None),
            text => text.parse::<IpAddr>().ok().map(Some),
        };
        let networks = self.led(table, "networks", "its router, or \"none\"", router);
        let leads = |text: &str| text.parse::<IpAddr>().ok();
        FirstBoot {
            networks,
            routes: self.led(table, "routes", "the router that leads there", leads),
            keys: self.lists(Some(table), "keys", beside),
            packages: self.lists(Some(table), "packages", package),
            unnamed: self.lists(Some(table), "unnamed", Mac::new),
        }
    }

    /// `[mesh]`
    pub(super) fn mesh(&mut self, table: &Section<'_>, hosts: &[Host]) -> Mesh {
        table.missing("range", "\"10.99.0.0/24\"", &mut self.findings);
        let mtu = self.number(table, "mtu", "bad-number", 1_280..=9_000);
        Mesh {
            hosts: match table.has("hosts") {
                true => self.role(Some(table), "hosts", "mesh.hosts", hosts).into_iter().collect(),
                false => hosts.iter().map(|host| host.name.clone()).collect(),
            },
            ranges: self.lists(Some(table), "range", range),
            port: self.port(Some(table), "port", 51_820),
            mtu: mtu.and_then(|n| u16::try_from(n).ok()).unwrap_or(1_420),
        }
    }

    /// Networks, each with what leads there.
    fn led<T>(
        &mut self,
        table: &Section<'_>,
        key: &str,
        takes: &str,
        read: impl Fn(&str) -> Option<T>,
    ) -> Vec<(IpNet, T)> {
        let Some((own, span)) = table.table(key, &mut self.findings) else { return Vec::new() };
        self.places.insert(table.join(key), span);
        let mut all = Vec::new();
        for (name, value) in own.iter() {
            let to = value.get_ref().as_str().and_then(&read);
            match (range(name.get_ref()), to) {
                (Ok(range), Some(to)) => all.push((range, to)),
                (bad, _) => {
                    let why = match bad {
                        Err(why) => format!("'{}': {why}", name.get_ref()),
                        Ok(_) => format!("'{}' takes {takes}", name.get_ref()),
                    };
                    self.findings.push(
                        Finding::blocks(
                            "bad-network",
                            format!("{} cannot be read", table.join(key)),
                        )
                        .at(name.span().start..value.span().end, why)
                        .fix(format!("{key} = {{ \"10.77.0.0/24\" = \"10.77.0.1\" }}")),
                    );
                }
            }
        }
        all
    }

    /// `[drill]`
    pub(super) fn drill(&mut self, table: Table<'_, '_>) -> DrillLimits {
        let Some(s) = table else { return DrillLimits::default() };
        DrillLimits {
            longest_gap: self.optional(s, "longest-gap", "bad-time", time),
            recovered_within: self.optional(s, "recovered-within", "bad-time", time),
        }
    }

    /// `[snapshots]`
    pub(super) fn snapshots(&mut self, table: Table<'_, '_>) -> Snapshots {
        let usual = Snapshots::default();
        let Some(s) = table else { return usual };
        let keep = self.number(s, "keep", "bad-number", 1..=10_000);
        Snapshots {
            keep: keep.and_then(|n| usize::try_from(n).ok()).unwrap_or(usual.keep),
            keep_for: self.optional(s, "keep-for", "bad-time", long_time).unwrap_or(usual.keep_for),
            too_old: self.optional(s, "too-old", "bad-time", long_time),
            copies: self.text(table, "copies", beside),
            on_members: self
                .optional(s, "on-members", "bad-time", now_and_then)
                .unwrap_or(usual.on_members),
            on_members_keep: self
                .number(s, "on-members-keep", "bad-number", 1..=1_000)
                .and_then(|n| usize::try_from(n).ok())
                .unwrap_or(usual.on_members_keep),
        }
    }

    /// `[state]`
    pub(super) fn state_backup(&mut self, table: Table<'_, '_>) -> Option<String> {
        self.text(table, "backup", beside)
    }

    /// `[preparation]`
    pub(super) fn preparation(&mut self, table: Table<'_, '_>) -> Preparation {
        let Some(s) = table else { return Preparation::default() };
        let word = "bad-preparation";
        Preparation {
            programs: self.optional(s, "programs", word, Programs::new).unwrap_or_default(),
            names: self.optional(s, "names", word, Names::new).unwrap_or_default(),
            host_names: self.optional(s, "host-names", word, HostNames::new).unwrap_or_default(),
            time: self.optional(s, "time", word, TimeService::new).unwrap_or_default(),
            time_servers: self.lists(table, "time-servers", host_or_address),
            time_zone: self.optional(s, "time-zone", word, zone),
            proxy: self.optional(s, "proxy", "bad-source", web_address),
            no_proxy: self.lists(table, "no-proxy", host_or_address),
            credentials: self.text(table, "credentials", beside),
            firewall: self.optional(s, "firewall", word, FirewallRules::new).unwrap_or_default(),
            administrators: self.lists(table, "administrators", range),
            clients: self.lists(table, "clients", range),
            registries: self.registries(s),
        }
    }

    /// `[registry]`; its name is empty where the file says none.
    pub(super) fn registry(&mut self, table: Table<'_, '_>, hosts: &[Host]) -> Registry {
        let known = |name: &str| {
            let host = HostName::new(name)?;
            match hosts.iter().any(|known| known.name == host) {
                true => Ok(host),
                false => Err(NameError(format!("{name} is no host of this file"))),
            }
        };
        let name = table.and_then(|s| self.optional(s, "name", "bad-name", registry_name));
        Registry {
            host: table
                .and_then(|s| self.required(s, "host", "\"jetty-a\"", "unknown-host", known)),
            name: name.unwrap_or_default(),
            port: self.port(table, "port", 5000),
            folder: table
                .and_then(|s| self.optional(s, "folder", "bad-path", absolute))
                .unwrap_or_else(|| "/var/lib/zoisite-registry".into()),
            mirrors: self.lists(table, "mirrors", registry_name),
            passwords: self.text(table, "passwords", beside),
            read_only: table.is_some_and(|s| s.yes("read-only", &mut self.findings)),
        }
    }

    /// Registries that stand in for others.
    fn registries(&mut self, preparation: &Section<'_>) -> BTreeMap<String, RegistryMirror> {
        let Some((all, _)) = preparation.table("registries", &mut self.findings) else {
            return BTreeMap::new();
        };
        let mut out = BTreeMap::new();
        for (name, value) in all.iter() {
            let name = name.get_ref().to_string();
            if registry_name(&name).is_err() {
                self.findings.push(
                    Finding::blocks("bad-source", format!("'{name}' is no registry's name"))
                        .at(value.span(), "here")
                        .fix("registries.\"registry.k8s.io\" = { addresses = [\"https://…\"] }"),
                );
                continue;
            }
            let path = format!("preparation.registries.{name}");
            let example = "{ addresses = [\"https://…\"], authority = \"/etc/ssl/…\" }";
            let Some(section) = self.inner(&path, value, &["addresses", "authority"], example)
            else {
                continue;
            };
            section.missing("addresses", "[\"https://…\"]", &mut self.findings);
            let mirror = RegistryMirror {
                addresses: self.lists(Some(&section), "addresses", web_address),
                authority: self.optional(&section, "authority", "bad-path", absolute),
            };
            out.insert(name, mirror);
        }
        out
    }

    fn version(&mut self, table: Table<'_, '_>, key: &str) -> Option<Version> {
        table.and_then(|s| self.optional(s, key, "bad-version", Version::new))
    }

    fn text<T>(
        &mut self,
        table: Table<'_, '_>,
        key: &str,
        read: impl Fn(&str) -> Result<T, NameError>,
    ) -> Option<T> {
        table.and_then(|s| self.optional(s, key, "bad-source", read))
    }

    /// Base addresses by component.
    fn sources(&mut self, table: Table<'_, '_>) -> BTreeMap<String, String> {
        let Some((own, span)) = table.and_then(|s| s.table("sources", &mut self.findings)) else {
            return BTreeMap::new();
        };
        let section =
            Section::open("components.sources", own, span, COMPONENT_SOURCES, &mut self.findings);
        let mut sources = BTreeMap::new();
        for key in COMPONENT_SOURCES {
            if let Some(base) = self.text(Some(&section), key, web_address) {
                sources.insert((*key).to_owned(), base);
            }
        }
        sources
    }
}

/// The name of a distribution's package (Debian policy, section 5.6.1).
fn package(text: &str) -> Result<String, NameError> {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "+-.".contains(c);
    match text.len() > 1 && text.chars().all(fits) && !text.starts_with(['+', '-', '.']) {
        true => Ok(text.to_owned()),
        false => Err(NameError("a package's name has a-z, 0-9, '+', '-' and '.'".into())),
    }
}

/// A time, in milliseconds.
fn time(text: &str) -> Result<i64, NameError> {
    match in_units(text, &[("ms", 1), ("s", 1_000), ("m", 60_000)]) {
        Some(time @ 1..=3_600_000) => Ok(time),
        Some(_) => Err(NameError("from a millisecond to an hour".into())),
        None => Err(NameError("a number and a unit: 800ms, 10s, 2m".into())),
    }
}

/// A time between an hour and ten years, in seconds.
fn long_time(text: &str) -> Result<i64, NameError> {
    match in_units(text, &[("h", 3_600), ("d", 86_400)]) {
        Some(time @ 3_600..=315_360_000) => Ok(time),
        Some(_) => Err(NameError("from an hour to ten years".into())),
        None => Err(NameError("a number and a unit: 12h, 2d, 30d".into())),
    }
}

/// How often, or never.
fn now_and_then(text: &str) -> Result<Option<i64>, NameError> {
    match text {
        "never" => Ok(None),
        often => match long_time(often) {
            Ok(time @ ..=2_592_000) => Ok(Some(time)),
            Ok(_) => Err(NameError("at least once in 30 days; or never".into())),
            Err(NameError(why)) => Err(NameError(format!("{why}; or never"))),
        },
    }
}

/// A time zone as the zone database names it: `Europe/Berlin`, `UTC`.
fn zone(text: &str) -> Result<String, NameError> {
    let part = |part: &str| {
        let plain = |c: char| c.is_ascii_alphanumeric() || "_+-".contains(c);
        !part.is_empty() && part.chars().all(plain)
    };
    match text.split('/').all(part) {
        true => Ok(text.to_owned()),
        false => Err(NameError("a time zone is called as in Europe/Berlin".into())),
    }
}

/// A name, a name's ending with a dot before it, an address or a range.
fn host_or_address(text: &str) -> Result<String, NameError> {
    let name = text.strip_prefix('.').unwrap_or(text);
    match range(text).is_ok() || address(text).is_ok() || dns_name(name, 253).is_ok() {
        true => Ok(text.to_owned()),
        false => Err(NameError("neither a name nor an address".into())),
    }
}

fn domain(text: &str) -> Result<String, NameError> {
    dns_name(text, 200).map(|()| text.to_owned())
}
