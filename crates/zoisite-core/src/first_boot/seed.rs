use std::net::IpAddr;

use ipnet::IpNet;
use serde_json::{Map, Value, json};

use super::HostKey;
use crate::cluster::{Cluster, FirstBoot, Host};
use crate::pki::{Secret, sha256};

/// Who and what a host is told of, besides the cluster file.
#[derive(Clone, Copy, Debug)]
pub struct Told<'a> {
    /// Lines of authorized_keys (sshd(8)): whose holders may log in.
    pub keys: &'a [String],
    /// The host's own key, where it was made here.
    pub host_key: Option<&'a HostKey>,
}

/// The three texts that cloud-init reads.
#[derive(Clone, Debug)]
pub struct Seed {
    /// Which host and which telling this is: `instance-id` changes with what is told, so that it counts anew.
    pub meta_data: Value,
    /// What is set up: `#cloud-config`. It holds the host's private key, where that was made here.
    pub user_data: Secret,
    /// Networks, version 2.
    pub network: Value,
}

/// Why there is no seed for a host.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SeedError {
    /// The file has no table for it.
    #[error("the cluster file does not say which networks hosts are in")]
    NoNetworks,
    /// Nobody is named who logs in there.
    #[error("nothing says who logs in at {0}")]
    NoUser(crate::cluster::HostName),
    /// It cannot be written.
    #[error("writing what {0} is told: {1}")]
    Unwritable(crate::cluster::HostName, String),
}

/// What is no line of authorized_keys is left out: comments and empty lines.
///
/// # Errors
/// The line that is no public key, or that there is none.
pub fn public_key_lines(text: &str) -> Result<Vec<String>, String> {
    let lines =
        text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let mut keys = Vec::new();
    for line in lines {
        if line.contains("PRIVATE KEY") {
            return Err("it holds a private key; name the file that ends in .pub".into());
        }
        let key = ssh_key::PublicKey::from_openssh(line);
        keys.push(
            key.map(|_| line.to_owned())
                .map_err(|why| format!("'{line}' is no public SSH key: {why}"))?,
        );
    }
    if keys.is_empty() { Err("it holds no public SSH key".into()) } else { Ok(keys) }
}

impl Seed {
    /// Which telling this is: a host that was told it says so of itself.
    pub fn instance(&self) -> &str {
        self.meta_data["instance-id"].as_str().unwrap_or_default()
    }

    /// What one host is told.
    ///
    /// # Errors
    /// What the cluster file does not say and this needs.
    pub fn of(cluster: &Cluster, host: &Host, told: Told<'_>) -> Result<Self, SeedError> {
        let first = cluster.first_boot.as_ref().ok_or(SeedError::NoNetworks)?;
        let user = cluster.login_of(host).user;
        let user = user.ok_or_else(|| SeedError::NoUser(host.name.clone()))?;
        let network = network(cluster, first, host);
        let text = super::yaml(&user_data(cluster, first, host, &user, told))
            .map_err(|why| SeedError::Unwritable(host.name.clone(), why))?;
        let user_data =
            Secret::new(format!("#cloud-config\n# Written by zoisite for {}.\n{text}", host.name));
        let sum = sha256(format!("{}{network}", user_data.expose()).as_bytes());
        let id = format!("{}-{}", host.name, &sum[..12]);
        let meta_data = json!({"instance-id": id, "local-hostname": host.name});
        Ok(Self { meta_data, user_data, network })
    }
}

/// User data (cloud-init's modules, by their documented keys).
fn user_data(
    cluster: &Cluster,
    first: &FirstBoot,
    host: &Host,
    user: &str,
    told: Told<'_>,
) -> Value {
    let mut all = Map::new();
    let mut put = |key: &str, value: Value| {
        all.insert(key.to_owned(), value);
    };
    put("hostname", json!(host.name));
    if let Some(zone) = cluster.zone().filter(|_| !host.name.as_str().contains('.')) {
        put("fqdn", json!(format!("{}.{zone}", host.name)));
    }
    put("prefer_fqdn_over_hostname", json!(false));
    put("preserve_hostname", json!(false));
    // Its own name alone: the other lines are left as they are at later boots.
    put("manage_etc_hosts", json!("localhost"));
    let mut account = json!({"name": user});
    if user != "root" {
        account["gecos"] = json!(format!("reaches the hosts of {}", cluster.name));
        account["shell"] = json!("/bin/bash");
        account["lock_passwd"] = json!(true);
    }
    account["ssh_authorized_keys"] = json!(told.keys);
    put("users", json!([account]));
    put("disable_root", json!(user != "root"));
    put("ssh_pwauth", json!(false));
    if let Some(key) = told.host_key {
        // The machine makes none of its own, and those of a cloned image go.
        put("ssh_deletekeys", json!(true));
        put(
            "ssh_keys",
            json!({"ed25519_private": key.private.expose(), "ed25519_public": format!("{} {}", key.public, host.name)}),
        );
    }
    if user != "root" {
        // The last rule that matches wins, and files are read in the order of their names (sudoers(5)).
        let name: String = user.chars().map(|c| if c == '.' { '_' } else { c }).collect();
        put(
            "write_files",
            json!([{
                "path": format!("/etc/sudoers.d/zz-zoisite-{name}"),
                "owner": "root:root",
                "permissions": "0440",
                "content": format!("# Placed by zoisite at the first boot: it reaches this host as {user}.\n{user} ALL=(ALL:ALL) NOPASSWD: ALL\n"),
            }]),
        );
    }
    let preparation = &cluster.preparation;
    if let Some(zone) = &preparation.time_zone {
        put("timezone", json!(zone));
    }
    if !preparation.time_servers.is_empty() {
        put(
            "ntp",
            json!({"enabled": true, "ntp_client": "systemd-timesyncd", "servers": preparation.time_servers}),
        );
    }
    if !first.packages.is_empty() {
        put("package_update", json!(true));
        put("packages", json!(first.packages));
    }
    if cluster.is_node(&host.name) && !crate::holdings::swaps(cluster) {
        // A kubelet does not start on a host that swaps.
        let fstab = r"sed -i 's/^[^#[:space:]]\+[[:space:]]\+[^[:space:]]\+[[:space:]]\+swap[[:space:]].*/#zoisite: &/' /etc/fstab";
        put(
            "runcmd",
            json!([["swapoff", "-a"], ["sh", "-c", format!("[ ! -e /etc/fstab ] || {fstab}")]]),
        );
    }
    Value::Object(all)
}

/// What the one card is called where its name is not known.
const CARD: &str = "cluster";

/// Network configuration, version 2, as cloud-init documents it.
fn network(cluster: &Cluster, first: &FirstBoot, host: &Host) -> Value {
    let here = |address: IpAddr| first.networks.iter().find(|(range, _)| range.contains(&address));
    let mut card = Map::new();
    // By its name alone where that is known: every renderer understands it.
    let (name, found) = match (&host.interface, &host.mac) {
        (Some(name), None) => (name.as_str(), None),
        (name, Some(mac)) => {
            (name.as_deref().unwrap_or(CARD), Some(json!({"macaddress": mac.to_string()})))
        }
        // Whatever card there is.
        (None, None) => (CARD, Some(json!({"name": "e*"}))),
    };
    if let Some(found) = found {
        card.insert("match".into(), found);
    }
    card.insert("dhcp4".into(), json!(false));
    card.insert("dhcp6".into(), json!(false));
    card.insert("accept-ra".into(), json!(false));
    let lies = |address: IpAddr| {
        let prefix = here(address)
            .map_or(if address.is_ipv4() { 32 } else { 128 }, |(range, _)| range.prefix_len());
        format!("{address}/{prefix}")
    };
    card.insert("addresses".into(), host.dialled().map(lies).collect());
    let mut routes: Vec<Value> = Vec::new();
    for address in host.dialled() {
        if let Some((_, Some(router))) = here(address) {
            let all = if address.is_ipv4() { "0.0.0.0/0" } else { "::/0" };
            routes.push(json!({"to": all, "via": router}));
        }
    }
    let reached =
        |via: IpAddr| host.dialled().filter_map(here).any(|(range, _)| range.contains(&via));
    let more = first.routes.iter().filter(|(_, via)| reached(*via));
    routes.extend(more.map(|(to, via): &(IpNet, IpAddr)| json!({"to": to, "via": via})));
    if !routes.is_empty() {
        card.insert("routes".into(), Value::Array(routes));
    }
    // Where to search is not understood everywhere without whom to ask.
    if !cluster.network.resolvers.is_empty() {
        let mut servers = json!({"addresses": cluster.network.resolvers});
        if let Some(zone) = cluster.zone() {
            servers["search"] = json!([zone]);
        }
        card.insert("nameservers".into(), servers);
    }
    let mut cards = Map::new();
    cards.insert(name.to_owned(), Value::Object(card));
    json!({"version": 2, "ethernets": cards})
}
