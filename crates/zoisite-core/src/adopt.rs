//! What hosts hold of a cluster without a record here: read, so that the record can be made again.
//!
//! Hosts hold certificates and their own keys, the marks that say whose hosts they are, what API servers share. They
//! do not hold the authorities' keys: those cannot come back.

use std::collections::BTreeMap;

use ipnet::IpNet;

use crate::cluster::{Cluster, HostName};
use crate::holdings::{CLUSTER_MARK, built_upon};
use crate::layout::CNI_CONFIG;
use crate::pki::{AuthorityKind, Profile, wanted};
use crate::script::{fields, wrapped_look};
use crate::text::quote;

/// The API servers' private key for service accounts' tokens, and their configuration with the key for secrets.
pub const SHARED_FILES: [&str; 2] =
    ["/etc/zoisite/api-server/service-accounts.key", "/etc/zoisite/api-server/encryption.yaml"];
/// The public half of the first.
const SERVICE_ACCOUNTS: &str = "/etc/zoisite/api-server/service-accounts.pub";

/// Where bundles of authorities lie: at etcd members, at control planes.
const AUTHORITIES: [(AuthorityKind, &str); 5] = [
    (AuthorityKind::EtcdClient, "/etc/zoisite/etcd/client-authority.crt"),
    (AuthorityKind::EtcdPeer, "/etc/zoisite/etcd/peer-authority.crt"),
    (AuthorityKind::Cluster, "/etc/zoisite/api-server/cluster-authority.crt"),
    (AuthorityKind::EtcdClient, "/etc/zoisite/api-server/etcd-authority.crt"),
    (AuthorityKind::FrontProxy, "/etc/zoisite/api-server/front-proxy-authority.crt"),
];

/// What one host holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HeldThere {
    /// Certificates, PEM, with the SHA-256 of the key beside each.
    pub certificates: BTreeMap<Profile, (String, String)>,
    /// Bundles of authorities, PEM.
    pub authorities: BTreeMap<AuthorityKind, String>,
    /// What its mark says: the cluster's identity and epoch, then what it was built upon, a line each.
    pub mark: Option<String>,
    /// Subnets from which its pods get their addresses.
    pub subnets: Vec<IpNet>,
    /// Public keys for service accounts' tokens, PEM.
    pub service_accounts: Option<String>,
}

/// Profiles whose certificates a host may hold, by the cluster file.
fn profiles(cluster: &Cluster, host: &HostName) -> Vec<Profile> {
    let all = wanted(cluster).into_iter().filter(|one| one.host.as_ref() == Some(host));
    all.map(|one| one.profile).collect()
}

/// The script that shows what a host holds; it shows nothing secret.
pub fn held_script(cluster: &Cluster, host: &HostName) -> String {
    let mut body = String::from(
        "text_of() { if [ -f \"$2\" ]; then say \"$1\" \"$(tr '\\n\\t' '| ' <\"$2\")\"; fi; }\n",
    );
    for profile in profiles(cluster, host) {
        let Some(place) = profile.place() else { continue };
        let (certificate, key) = (quote(&place.certificate()), quote(&place.key()));
        body.push_str(&format!(
            "if [ -f {certificate} ]; then say certificate {profile} \"$(sha256sum <{key} 2>/dev/null | cut -d ' ' -f 1)\" \"$(tr '\\n' '|' <{certificate})\"; fi\n"
        ));
    }
    for (kind, path) in AUTHORITIES {
        body.push_str(&format!("text_of 'authority {kind}' {}\n", quote(path)));
    }
    body.push_str(&format!("text_of mark {}\n", quote(CLUSTER_MARK)));
    body.push_str(&format!("text_of service-accounts {}\n", quote(SERVICE_ACCOUNTS)));
    let network = format!("{CNI_CONFIG}/10-zoisite.conflist");
    body.push_str(&format!("text_of network {}\n", quote(&network)));
    wrapped_look(&format!("show what {host} holds of its cluster"), "", &body)
}

/// Reads a host's answer to [`held_script`].
pub fn read_held(text: &str) -> HeldThere {
    let lines = |text: &str| text.replace('|', "\n");
    let mut out = HeldThere::default();
    for line in text.lines() {
        match fields(line).as_deref() {
            Some(["certificate", profile, key, pem]) => {
                let known = Profile::ALL.iter().find(|one| one.to_string() == *profile);
                if let Some(profile) = known {
                    out.certificates.insert(*profile, (lines(pem), (*key).to_owned()));
                }
            }
            Some(["mark", mark]) => out.mark = Some(lines(mark)),
            Some(["service-accounts", pem]) => out.service_accounts = Some(lines(pem)),
            Some(["network", text]) => out.subnets = subnets(&lines(text)),
            Some([kind, pem]) => {
                let kind = kind.strip_prefix("authority ");
                let known = AuthorityKind::ALL.iter().find(|one| kind == Some(one.id()));
                if let Some(kind) = known {
                    out.authorities.insert(*kind, lines(pem));
                }
            }
            _ => {}
        }
    }
    out
}

/// From the configuration of the plugins that give pods their addresses (CNI, `ipam.ranges`).
fn subnets(conflist: &str) -> Vec<IpNet> {
    let value: serde_json::Value = serde_json::from_str(conflist).unwrap_or_default();
    let plugins = value["plugins"].as_array().into_iter().flatten();
    let ranges =
        plugins.flat_map(|plugin| plugin["ipam"]["ranges"].as_array().into_iter().flatten());
    let nets = ranges.flat_map(|range| range.as_array().into_iter().flatten());
    nets.filter_map(|net| net["subnet"].as_str()?.parse().ok()).collect()
}

/// What of the cluster file contradicts a host's mark, in words.
pub fn contradicted(cluster: &Cluster, mark: &str) -> Vec<String> {
    let said = |key: &str| {
        mark.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix(' ').map(str::trim))
    };
    let differs = built_upon(cluster).into_iter().filter_map(|(key, now)| {
        let then = said(key).filter(|then| *then != now)?;
        Some(format!("{key} was {then} when the cluster began, and the file says {now}"))
    });
    differs.collect()
}
