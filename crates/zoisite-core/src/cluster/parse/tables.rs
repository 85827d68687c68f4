//! The tables of the file besides hosts and workers: a function for each.

use super::super::address::{Endpoint, EndpointHost};
use super::super::model::{
    Balancers, Certificates, Components, ControlPlane, Etcd, Host, Network, PodsBy,
};
use super::super::names::{ClusterName, Version, dns_name};
use super::super::reader::Section;
use super::{ETCD, KUBERNETES, Parser, absolute, address, range, served};
use crate::pki::KeyKind;

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
            address: table
                .and_then(|s| self.required(s, "address", example, "bad-address", Endpoint::new))
                .unwrap_or(Endpoint { host: EndpointHost::Name(String::new()), port: 6443 }),
            port: self.port(table, "port", 6443),
            api_server: self.settings(table, "api-server"),
            controller_manager: self.settings(table, "controller-manager"),
            scheduler: self.settings(table, "scheduler"),
        }
    }

    /// `[balancers]`
    pub(super) fn balancers(&mut self, table: Table<'_, '_>, hosts: &[Host]) -> Balancers {
        let Some(s) = table else { return Balancers::default() };
        Balancers {
            hosts: self.role(table, "hosts", "balancers.hosts", hosts),
            floating: self.optional(s, "floating", "bad-address", address),
        }
    }

    /// `[network]`
    pub(super) fn network(&mut self, table: Table<'_, '_>) -> Network {
        Network {
            pods: self.ranges(table, "pods", "\"10.90.0.0/16\""),
            services: self.ranges(table, "services", "\"10.91.0.0/20\""),
            pod_subnet: table
                .and_then(|s| self.number(s, "pod-subnet", "bad-range", 16..=30))
                .map_or(24, |n| u8::try_from(n).unwrap_or(24)),
            pods_by: table
                .and_then(|s| self.optional(s, "pods-by", "bad-network", PodsBy::new))
                .unwrap_or_default(),
            manifests: table
                .and_then(|s| s.string("manifests", &mut self.findings))
                .map(|at| at.value),
            taken: self.lists(table, "taken", range),
            service_addresses: self.lists(table, "service-addresses", range),
            resolvers: self.lists(table, "resolvers", address),
            zone: table.and_then(|s| self.optional(s, "zone", "bad-name", domain)),
        }
    }

    /// `[components]`
    pub(super) fn components(&mut self, table: Table<'_, '_>) -> Components {
        let mut version = |key: &str, default: Version| {
            table
                .and_then(|s| self.optional(s, key, "bad-version", Version::new))
                .unwrap_or(default)
        };
        let dns = version("dns", Version { major: 1, minor: 15, patch: 0 });
        let images = version("images", Version { major: 1, minor: 0, patch: 0 });
        let from = table.and_then(|s| s.string("from", &mut self.findings));
        Components { from: from.map_or_else(|| "components".into(), |at| at.value), dns, images }
    }

    /// `[certificates]`
    pub(super) fn certificates(&mut self, table: Table<'_, '_>) -> Certificates {
        let mut days = |key, most, default| {
            table
                .and_then(|s| self.number(s, key, "bad-lifetime", 1..=most))
                .map_or(default, |n| u32::try_from(n).unwrap_or(default))
        };
        Certificates {
            days: days("days", 3_650, 365),
            authority_days: days("authority-days", 36_500, 3_650),
            key: table
                .and_then(|s| self.optional(s, "key", "bad-key", KeyKind::new))
                .unwrap_or_default(),
        }
    }
}

fn domain(text: &str) -> Result<String, super::super::names::NameError> {
    dns_name(text, 200).map(|()| text.to_owned())
}
