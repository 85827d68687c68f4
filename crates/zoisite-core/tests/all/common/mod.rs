//! Shared by the core's tests: the demo cluster, and trust made on the spot with the store's keys.

#![allow(clippy::disallowed_methods, reason = "kubelets make their own keys")]

pub mod scene;

use std::collections::BTreeMap;

use jiff::Timestamp;
use zoisite_core::aim::{Aim, Next, Real, next_aim};
use zoisite_core::cluster::{Cluster, ClusterName, Draft, DraftHost, HostName, draft, read};
use zoisite_core::components::{NodeImages, node_images};
use zoisite_core::holdings::{HostFacts, SharedSecrets, Sources, assign_subnets, peer_urls};
use zoisite_core::item::Item;
use zoisite_core::pki::{Authority, AuthorityKind, Ledger, Root, Secret, SecretRef, due, wanted};
use zoisite_core::script::Observed;
use zoisite_core::sequence::{Begun, Looks};
use zoisite_core::token::TokenRecord;
use zoisite_store::FreshKeys;

pub const SALTMARSH: &str = include_str!("../../../../../demo/saltmarsh/zoisite.toml");

pub fn host(name: &str) -> HostName {
    HostName::new(name).unwrap()
}

pub fn saltmarsh() -> Cluster {
    read(SALTMARSH).cluster.unwrap()
}

/// The demo's text with one change, which must apply.
pub fn changed(from: &str, to: &str) -> String {
    assert!(SALTMARSH.contains(from), "the demo has no {from}");
    SALTMARSH.replacen(from, to, 1)
}

/// The demo with both families on every host.
pub fn two_families() -> String {
    let mut text = SALTMARSH.to_owned();
    for host in saltmarsh().hosts {
        let (name, v4) = (host.name, host.address.to_string());
        let last = v4.rsplit('.').next().unwrap();
        text = text.replace(
            &format!("{name} = \"{v4}\""),
            &format!("{name} = {{ address = [\"{v4}\", \"fd77::{last}\"] }}"),
        );
    }
    text.replace("\"10.77.0.{31,32}\"", "{ address = [\"10.77.0.{31,32}\", \"fd77::{31,32}\"] }")
        .replace(
            "\"10.77.0.{101..103}\"",
            "{ address = [\"10.77.0.{101..103}\", \"fd77::{101..103}\"] }",
        )
        .replace("\"10.90.0.0/16\"", "[\"10.90.0.0/16\", \"fd5a:90::/48\"]")
        .replace("\"10.91.0.0/20\"", "[\"10.91.0.0/20\", \"fd5a:91::/112\"]")
}

/// A new file for these hosts, of which nobody named the API endpoint.
pub fn drafted(cluster: &ClusterName, hosts: &[DraftHost]) -> String {
    let (kubernetes, etcd) = ("1.36.3", "3.6.16");
    draft(&Draft {
        cluster,
        hosts,
        kubernetes,
        etcd,
        endpoint: None,
        virtual_ip: None,
        ssh_config: None,
    })
}

pub fn at(day: &str) -> Timestamp {
    format!("{day}T12:00:00Z").parse().unwrap()
}

/// What holdings need besides the ledger.
#[derive(Default)]
pub struct Known {
    pub shared: SharedSecrets,
    pub subnets: BTreeMap<HostName, Vec<ipnet::IpNet>>,
    pub facts: BTreeMap<HostName, HostFacts>,
    pub departed: BTreeMap<HostName, std::net::IpAddr>,
    pub images: NodeImages,
    pub site_secrets: BTreeMap<SecretRef, String>,
}

impl Known {
    pub fn of(cluster: &Cluster) -> Self {
        let mut known = Self::default();
        known.shared.service_accounts = "-----BEGIN PUBLIC KEY-----".into();
        known.shared.service_accounts_sha256 = "aa".repeat(32);
        known.shared.encryption_sha256 = "bb".repeat(32);
        assign_subnets(cluster, &mut known.subnets);
        known.images.sources = node_images(cluster, &[]);
        known
    }

    pub fn sources<'a>(&'a self, ledger: &'a Ledger, cluster_id: &'a str) -> Sources<'a> {
        let Self { shared, subnets, facts, departed, images, site_secrets } = self;
        Sources {
            ledger,
            cluster_id,
            epoch: 1,
            shared,
            subnets,
            facts,
            departed,
            images,
            site_secrets,
            etcd: None,
        }
    }
}

/// Where a run goes next, by what was looked at; with the real state of the quorum.
pub fn next(
    cluster: &Cluster,
    looks: &Looks,
    begun: Option<&Begun>,
    consent: bool,
) -> (Next, Real) {
    let real = zoisite_core::sequence::real(looks, begun);
    let wanted = peer_urls(cluster).into_iter().collect();
    let kept = begun.map(Begun::records).unwrap_or_default();
    (next_aim(cluster, &wanted, &kept, &real, consent), real)
}

/// The aim, where there is a way on.
pub fn stage(next: Next) -> Aim {
    match next {
        Next::Stage(aim) => *aim,
        Next::Refused { found, .. } => panic!("there is no way on: {found}"),
    }
}

/// A host comes to hold an item as its holdings say.
pub fn hold(observed: &mut Observed, item: &Item) {
    item.hold(&mut observed.found, &"ab".repeat(32));
}

/// Authorities and what they issued, in memory.
#[derive(Default)]
pub struct Trust {
    pub keys: FreshKeys,
    pub authorities: Vec<Authority>,
    pub ledger: Ledger,
    pub secrets: Vec<(String, Secret)>,
}

impl Trust {
    pub fn new(cluster: &Cluster, now: Timestamp) -> Self {
        let mut trust = Self::default();
        for kind in AuthorityKind::ALL {
            let (authority, _) =
                Authority::make(cluster, (kind, 0), None, &trust.keys, now).unwrap();
            trust.ledger.authorities.push(authority.certificate().clone());
            trust.authorities.push(authority);
        }
        trust
    }

    /// The same under a root of the cluster's own, which signs them.
    pub fn under_one_root(cluster: &Cluster, now: Timestamp) -> (Self, Root) {
        let mut trust = Self::default();
        let (root, _) = Root::make(cluster, 0, &trust.keys, now).unwrap();
        for kind in AuthorityKind::ALL {
            let (authority, _) =
                Authority::make(cluster, (kind, 0), Some(&root), &trust.keys, now).unwrap();
            trust.ledger.authorities.push(authority.certificate().clone());
            trust.authorities.push(authority);
        }
        (trust, root)
    }

    /// Issues what is due; returns what it was, `profile of host: why`.
    pub fn issue(&mut self, cluster: &Cluster, now: Timestamp) -> Vec<String> {
        let dues = due(&wanted(cluster), &self.ledger, now);
        for due in &dues {
            let kind = due.wanted.profile.authority();
            let authority = self.authorities.iter().find(|a| a.certificate().kind == kind).unwrap();
            let (entry, key) = authority.issue(&due.wanted, &self.keys, now).unwrap();
            if let Some(old) = &due.replaces {
                let old = self.ledger.entries.iter_mut().find(|e| e.serial == *old).unwrap();
                old.replaced_by = Some(entry.serial.clone());
            }
            self.secrets.push((entry.serial.clone(), key));
            self.ledger.entries.push(entry);
        }
        dues.iter()
            .map(|due| {
                let host = due.wanted.host.as_ref().unwrap();
                format!("{} of {host}: {}", due.wanted.profile, due.why)
            })
            .collect()
    }
}

/// The demo with so many hosts, all but eight of them workers.
pub fn workers_text(hosts: usize) -> String {
    let last = hosts - 8;
    let range: Vec<String> = (0..last)
        .map(|n| format!("10.{}.{}.{}", 100 + n / 62_500, n / 250 % 250, n % 250 + 1))
        .collect();
    let names: String = (0..last).map(|n| format!("tern-{} = \"{}\"\n", n + 1, range[n])).collect();
    changed("\"tern-{1..3}\" = \"10.77.0.{101..103}\"\n", &names)
        .replace("labels.\"tern-{1..2}\" = { shore = \"north\" }\nlabels.tern-3 = { shore = \"south\" }\n", "")
        .replace("10.90.0.0/16", "172.16.0.0/12")
        .replace(
            "[network]\n",
            "[network]\npod-subnet = 26\npod-network = \"manifests\"\nmanifests = \"network\"\n",
        )
}

pub fn workers(hosts: usize) -> Cluster {
    read(&workers_text(hosts)).cluster.unwrap()
}

/// A token of one host.
pub fn token(id: &str, name: &str) -> TokenRecord {
    TokenRecord {
        id: id.into(),
        hosts: vec![host(name)],
        uses: 1,
        made: at("2026-11-23"),
        expires: at("2026-11-24"),
        used: Vec::new(),
        gone: None,
        by_run: false,
    }
}

/// A kubelet's own request for a node's certificate.
pub fn request_pem(node: &str) -> String {
    use rcgen::{CertificateParams, DnType, KeyPair};
    let mut params = CertificateParams::default();
    params.distinguished_name = rcgen::DistinguishedName::new();
    params.distinguished_name.push(DnType::OrganizationName, "system:nodes");
    params.distinguished_name.push(DnType::CommonName, format!("system:node:{node}"));
    let key = KeyPair::generate().unwrap();
    params.serialize_request(&key).unwrap().pem().unwrap()
}
