//! Nodes that run Windows.

use super::super::address::subnets_in;
use super::super::finding::Finding;
use super::super::host::Host;
use super::super::image::ImageSource;
use super::super::model::{PodsBy, ServicesBy};
use super::super::policy::KeysMade;
use super::Check;
use crate::pki::Profile;

impl Check<'_> {
    /// A host that runs Windows is a worker that joins by a join file, and its pods have an overlay of their own.
    pub(super) fn windows(&mut self) {
        let cluster = self.cluster;
        let network = &cluster.network;
        let hosts: Vec<&Host> = cluster.windows().map(|(host, _)| host).collect();
        let Some(first) = hosts.first() else {
            if !network.windows_pods.is_empty() {
                let finding = Finding::warns(
                    "windows-pods",
                    "network.windows-pods is kept, and no host runs Windows",
                )
                .fix("say windows = \"2022\" of a host, or take the range out");
                self.add(finding, "network.windows-pods", "unused");
            }
            return;
        };
        for host in &hosts {
            if !host.offline {
                let finding = Finding::blocks(
                    "windows",
                    format!("{} runs Windows, and nothing is done there over SSH", host.name),
                )
                .fix("it joins by a join file: offline = true");
                self.add(finding, &format!("hosts.{}", host.name), "here");
            }
            if !host.dialled().any(|address| address.is_ipv4()) {
                let finding = Finding::blocks(
                    "windows",
                    format!(
                        "{} runs Windows, whose overlay is of IPv4, and has no address of it",
                        host.name
                    ),
                )
                .fix("give it a second address: address = [\"10.77.0.109\", \"fd77::109\"]");
                self.add(finding, &format!("hosts.{}", host.name), "here");
            }
        }
        let mut wants = |place: &str, message: String, fix: &str| {
            self.add(Finding::blocks("windows", message).fix(fix), place, "for Windows");
        };
        let name = &first.name;
        match &network.windows_pods[..] {
            [] => wants(
                "network.pods",
                format!(
                    "{name} runs Windows, and its pods have no range: they are not routed, but in an overlay"
                ),
                "network.windows-pods = \"10.93.0.0/16\": a range that nothing else uses",
            ),
            [range] if range.addr().is_ipv4() => {
                let prefix = network.subnet_prefix(range);
                let fit = subnets_in(range, prefix);
                if fit < hosts.len() as u64 {
                    wants(
                        "network.windows-pods",
                        format!(
                            "{range} has room for {fit} nodes with a /{prefix} each, and {} run Windows",
                            hosts.len()
                        ),
                        "widen network.windows-pods",
                    );
                }
                // The first sixteen addresses are not given to pods.
                if prefix > 26 {
                    wants(
                        "network.windows-pods",
                        format!(
                            "a /{prefix} leaves a node that runs Windows too few addresses for pods"
                        ),
                        "make network.pod-subnet 26 or less",
                    );
                }
            }
            _ => wants(
                "network.windows-pods",
                "network.windows-pods is one range of IPv4".into(),
                "Windows has one overlay, and it is of that family",
            ),
        }
        if network.pod_network != PodsBy::Routes || network.service_proxy != ServicesBy::KubeProxy {
            wants(
                "network.pods",
                format!(
                    "{name} runs Windows, and the site's own manifests make the pod network or lead to services"
                ),
                "nodes with Windows are connected where Zoisite does both: pod-network = \"routes\", service-proxy = \"kube-proxy\"",
            );
        }
        if cluster.mesh.is_some() {
            wants(
                "mesh.range",
                format!("{name} runs Windows, and no mesh is made there"),
                "give the cluster a network without [mesh], or take that host out",
            );
        }
        for (key, version) in [
            ("runtime", cluster.components.runtime),
            ("network-plugins", cluster.components.network_plugins),
        ] {
            if version.is_none() {
                wants(
                    &format!("components.{key}"),
                    format!(
                        "{name} runs Windows, and no package of its system brings components.{key}"
                    ),
                    "pin its version under [components]",
                );
            }
        }
        let made_there = |profile| cluster.certificates.keys_made_of(profile) == KeysMade::OnHosts;
        if made_there(Profile::KubeProxy) || made_there(Profile::KubeletServing) {
            wants(
                "certificates",
                format!("{name} runs Windows, and hosts are to make the keys of nodes themselves"),
                "keys for Windows are made here: profiles.kube-proxy = { keys-made = \"here\" } and profiles.kubelet-serving likewise, under [certificates]",
            );
        }
        if matches!(cluster.components.sandbox, ImageSource::Archive(_)) {
            wants(
                "components.sandbox",
                format!(
                    "{name} runs Windows, and components.sandbox is an archive of an image for Linux"
                ),
                "name an image that its registry has for both",
            );
        }
    }
}
