use std::net::IpAddr;

use ipnet::IpNet;
use serde_json::{Map, Value, json};

use super::HostKey;
use crate::cluster::{Cluster, FirstBoot, Host};
use crate::join_file::{JOIN_FOLDER, Signer, verifier};
use crate::pki::{Secret, sha256};

/// What goes into first-boot data besides the cluster file.
#[derive(Clone, Copy, Debug)]
pub struct SeedInput<'a> {
    /// Lines of authorized_keys (sshd(8)): whose holders may log in.
    pub keys: &'a [String],
    /// The host's own key, where it was made here.
    pub host_key: Option<&'a HostKey>,
    /// With what an offline host decrypts and verifies its join files.
    pub carried: Option<JoinWord<'a>>,
}

/// What an offline host needs for its join files.
#[derive(Clone, Copy, Debug)]
pub struct JoinWord<'a> {
    /// Its word.
    pub word: &'a Secret,
    /// Who signs them.
    pub signer: &'a Signer,
    /// Where its first one comes from, which it carries out by itself.
    pub first: Option<FirstFile<'a>>,
}

/// A host's first join file.
#[derive(Clone, Copy, Debug)]
pub enum FirstFile<'a> {
    /// Its text.
    Text(&'a Secret),
    /// Where it is fetched from.
    Web(&'a str),
}

/// The three texts that cloud-init reads.
#[derive(Clone, Debug)]
pub struct Seed {
    /// Host and version of the data: `instance-id` changes with its content, so that cloud-init applies it again.
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
    #[error("writing the first-boot data of {0}: {1}")]
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
    /// The `instance-id`: a host with this data reports it.
    pub fn instance(&self) -> &str {
        self.meta_data["instance-id"].as_str().unwrap_or_default()
    }

    /// First-boot data of one host.
    ///
    /// # Errors
    /// What the cluster file does not say and this needs.
    pub fn of(cluster: &Cluster, host: &Host, input: SeedInput<'_>) -> Result<Self, SeedError> {
        let first = cluster.first_boot.as_ref().ok_or(SeedError::NoNetworks)?;
        let user = cluster.login_of(host).user;
        let user = user.ok_or_else(|| SeedError::NoUser(host.name.clone()))?;
        let network = network(cluster, first, host);
        let text = super::yaml(&user_data(cluster, first, host, &user, input))
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
    input: SeedInput<'_>,
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
    account["ssh_authorized_keys"] = json!(input.keys);
    put("users", json!([account]));
    put("disable_root", json!(user != "root"));
    put("ssh_pwauth", json!(false));
    if let Some(key) = input.host_key {
        // The machine makes none of its own, and those of a cloned image go.
        put("ssh_deletekeys", json!(true));
        put(
            "ssh_keys",
            json!({"ed25519_private": key.private.expose(), "ed25519_public": format!("{} {}", key.public, host.name)}),
        );
    }
    let mut files: Vec<Value> = Vec::new();
    let mut commands: Vec<Value> = Vec::new();
    if let Some(carried) = &input.carried {
        files.extend(join_files(host, carried));
        if carried.first.is_some() {
            commands.push(json!(["systemctl", "daemon-reload"]));
            commands.push(json!(["systemctl", "enable", "--now", "--no-block", JOIN_UNIT]));
        }
    }
    if user != "root" {
        // The last rule that matches wins, and files are read in the order of their names (sudoers(5)).
        let name: String = user.chars().map(|c| if c == '.' { '_' } else { c }).collect();
        files.insert(
            0,
            json!({
                "path": format!("/etc/sudoers.d/zz-zoisite-{name}"),
                "owner": "root:root",
                "permissions": "0440",
                "content": format!("# Placed by zoisite at the first boot: it reaches this host as {user}.\n{user} ALL=(ALL:ALL) NOPASSWD: ALL\n"),
            }),
        );
    }
    if !files.is_empty() {
        put("write_files", Value::Array(files));
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
    let mut packages: Vec<&str> = first.packages.iter().map(String::as_str).collect();
    // A join file is opened by it.
    if input.carried.is_some() && !packages.contains(&"openssl") {
        packages.push("openssl");
    }
    if !packages.is_empty() {
        put("package_update", json!(true));
        put("packages", json!(packages));
    }
    if cluster.is_node(&host.name) && !crate::holdings::swaps(cluster) {
        // A kubelet does not start on a host that swaps.
        let fstab = r"sed -i 's/^[^#[:space:]]\+[[:space:]]\+[^[:space:]]\+[[:space:]]\+swap[[:space:]].*/#zoisite: &/' /etc/fstab";
        let off = [
            json!(["swapoff", "-a"]),
            json!(["sh", "-c", format!("[ ! -e /etc/fstab ] || {fstab}")]),
        ];
        commands.splice(0..0, off);
    }
    if !commands.is_empty() {
        put("runcmd", Value::Array(commands));
    }
    Value::Object(all)
}

/// The unit that carries out a host's first join file, again at each start until its node was Ready.
const JOIN_UNIT: &str = "zoisite-join.service";

/// How large a join file may be, in octets: it brings no programs.
const MOST: u32 = 64 << 20;

/// Files by which a host knows its join files, and the first of them.
fn join_files(host: &Host, carried: &JoinWord<'_>) -> Vec<Value> {
    let name = &host.name;
    let file = |path: String, mode: &str, content: String| json!({"path": path, "owner": "root:root", "permissions": mode, "content": content});
    let at = |name: &str| format!("{JOIN_FOLDER}/{name}");
    let verify = at("verify");
    let mut out = vec![
        file(at("host"), "0600", format!("{name}\n")),
        file(at("signer"), "0600", format!("{}\n", carried.signer.fingerprint())),
        file(verify.clone(), "0700", verifier(carried.signer)),
        file(at("passphrase"), "0600", format!("{}\n", carried.word.expose())),
    ];
    let join = at(&format!("{name}.join"));
    let fetched = match carried.first {
        None => return out,
        Some(FirstFile::Text(text)) => {
            out.push(file(join.clone(), "0600", text.expose().to_owned()));
            String::new()
        }
        // systemd takes '%' for something of its own (systemd.unit(5), specifiers).
        Some(FirstFile::Web(from)) => {
            let from = from.replace('%', "%%");
            format!(
                "ExecStartPre=/bin/sh -c 'curl -fsSL --proto =https --max-filesize {MOST} -o {join}.new \"{from}/{name}.join\" || wget -q -O {join}.new \"{from}/{name}.join\"; sh {verify} --only {join}.new && mv {join}.new {join}'\n"
            )
        }
    };
    let unit = format!(
        "# Placed by zoisite at the first boot.\n[Unit]\nDescription=Zoisite carries out the join file of {name}\nWants=network-online.target\nAfter=network-online.target\n\
         ConditionPathExists=!{JOIN_FOLDER}/ready\n\n[Service]\nType=oneshot\n{fetched}ExecStart=/bin/sh {verify} {join} --wait 3600\nRestart=on-failure\nRestartSec=30\n\n\
         [Install]\nWantedBy=multi-user.target\n"
    );
    out.push(file(format!("/etc/systemd/system/{JOIN_UNIT}"), "0644", unit));
    out
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
    let own: Vec<IpAddr> = match cluster.is_in_mesh(&host.name) {
        // Where one logs in to it may be a router that leads there.
        true => cluster.outside(host).filter(|own| here(*own).is_some()).into_iter().collect(),
        false => host.dialled().collect(),
    };
    if host.is_unnamed() || own.is_empty() {
        // Whoever gives addresses there gives it one, of either family.
        card.insert("dhcp4".into(), json!(true));
        card.insert("dhcp6".into(), json!(true));
        return json!({"version": 2, "ethernets": {name: card}});
    }
    card.insert("dhcp4".into(), json!(false));
    card.insert("dhcp6".into(), json!(false));
    card.insert("accept-ra".into(), json!(false));
    let lies = |address: IpAddr| {
        let prefix = here(address)
            .map_or(if address.is_ipv4() { 32 } else { 128 }, |(range, _)| range.prefix_len());
        format!("{address}/{prefix}")
    };
    card.insert("addresses".into(), own.iter().copied().map(lies).collect());
    let mut routes: Vec<Value> = Vec::new();
    for &address in &own {
        if let Some((_, Some(router))) = here(address) {
            let all = if address.is_ipv4() { "0.0.0.0/0" } else { "::/0" };
            routes.push(json!({"to": all, "via": router}));
        }
    }
    let reached =
        |via: IpAddr| own.iter().copied().filter_map(here).any(|(range, _)| range.contains(&via));
    let more = first.routes.iter().filter(|(_, via)| reached(*via));
    routes.extend(more.map(|(to, via): &(IpNet, IpAddr)| json!({"to": to, "via": via})));
    if !routes.is_empty() {
        card.insert("routes".into(), Value::Array(routes));
    }
    // Where to search is not understood everywhere without whom to ask.
    if !cluster.network.name_servers.is_empty() {
        let mut servers = json!({"addresses": cluster.network.name_servers});
        if let Some(zone) = cluster.zone() {
            servers["search"] = json!([zone]);
        }
        card.insert("nameservers".into(), servers);
    }
    let mut cards = Map::new();
    cards.insert(name.to_owned(), Value::Object(card));
    json!({"version": 2, "ethernets": cards})
}
