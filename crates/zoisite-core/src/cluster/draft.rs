//! Writing a new cluster file from nothing but addresses.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::net::IpAddr;

use ipnet::IpNet;

use super::address::{Endpoint, EndpointHost, Mac};
use super::host::{Login, Place};
use super::model::Role;
use super::names::{ClusterName, HostName};
use super::parse::address;
use super::pattern;

/// A host for a new cluster file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DraftHost {
    /// Its name.
    pub name: HostName,
    /// Its address.
    pub address: IpAddr,
    /// Its address of the other family.
    pub second: Option<IpAddr>,
    /// Its hardware address.
    pub mac: Option<Mac>,
    /// What somebody already decided that it does.
    pub roles: BTreeSet<Role>,
    /// Where it stands.
    pub place: Place,
    /// How one logs in at it.
    pub login: Login,
}

impl DraftHost {
    /// A host of which no more is known.
    pub fn new(name: HostName, address: IpAddr) -> Self {
        Self {
            name,
            address,
            second: None,
            mac: None,
            roles: BTreeSet::new(),
            place: Place::default(),
            login: Login::default(),
        }
    }
}

/// What a new cluster file begins with.
#[derive(Clone, Debug)]
pub struct Draft<'a> {
    /// The cluster's name.
    pub cluster: &'a ClusterName,
    /// Its hosts.
    pub hosts: &'a [DraftHost],
    /// Version of Kubernetes.
    pub kubernetes: &'a str,
    /// Version of etcd.
    pub etcd: &'a str,
    /// The API endpoint, where somebody named one.
    pub endpoint: Option<&'a Endpoint>,
    /// An unused address of the hosts' network that load balancers, or control planes, are to hold: the endpoint, where
    /// nobody named another.
    pub virtual_ip: Option<IpAddr>,
    /// SSH client configuration that leads to the hosts, if not one's own.
    pub ssh_config: Option<&'a str>,
}

/// What was wrong with the words from which a file was to be written; every one is reported.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}", .0.join("\n"))]
pub struct DraftError(pub Vec<String>);

/// Reads hosts from words: `ADDRESS`, `NAME=ADDRESS`, with ranges such as `10.77.0.{11..13}`,
/// `10.77.0.11-13` and `tern-{1..3}=10.77.0.{101..103}`. Hosts without a name get `CLUSTER-N`.
///
/// # Errors
/// When a word cannot be read, or a name or address stands twice; every such word is named.
pub fn draft_hosts(cluster: &ClusterName, words: &[String]) -> Result<Vec<DraftHost>, DraftError> {
    let mut hosts: Vec<DraftHost> = Vec::new();
    let mut errors = Vec::new();
    for word in words {
        match word_hosts(cluster, word, hosts.len()) {
            // What is wrong with a word that is one address names it.
            Err(why) if why.contains(word.as_str()) => errors.push(why),
            Err(why) => errors.push(format!("'{word}': {why}")),
            Ok(found) => {
                for host in found {
                    if hosts.iter().any(|h| h.address == host.address) {
                        errors.push(format!("'{word}': {} stands twice", host.address));
                    } else if hosts.iter().any(|h| h.name == host.name) {
                        errors.push(format!("'{word}': the name {} stands twice", host.name));
                    } else {
                        hosts.push(host);
                    }
                }
            }
        }
    }
    if hosts.is_empty() && errors.is_empty() {
        errors.push("no address was given".into());
    }
    if let Some(own) = hosts.iter().find(|host| host.address.is_loopback() && hosts.len() > 1) {
        errors.push(format!("{}: a loopback address reaches no other host", own.address));
    }
    if errors.is_empty() { Ok(hosts) } else { Err(DraftError(errors)) }
}

fn word_hosts(cluster: &ClusterName, word: &str, taken: usize) -> Result<Vec<DraftHost>, String> {
    let (names, addresses) = match word.split_once('=') {
        Some((names, addresses)) => (Some(pattern::expand(names)?), addresses),
        None => (None, word),
    };
    let addresses = dashed(addresses).map_or_else(|| pattern::expand(addresses), Ok)?;
    if let Some(names) = names.as_ref().filter(|names| names.len() != addresses.len()) {
        return Err(format!("{} names and {} addresses", names.len(), addresses.len()));
    }
    addresses
        .iter()
        .enumerate()
        .map(|(i, text)| {
            let address = address(text).map_err(|why| of_network(text).unwrap_or(why.0))?;
            let name = match &names {
                Some(names) => names[i].clone(),
                None => format!("{cluster}-{}", taken + i + 1),
            };
            let name = HostName::new(&name).map_err(|why| format!("name '{name}': {why}"))?;
            Ok(DraftHost::new(name, address))
        })
        .collect()
}

/// What is wrong with a network in the place of an address, or with an address that has a prefix length.
fn of_network(text: &str) -> Option<String> {
    let net: IpNet = text.parse().ok()?;
    Some(match net.addr() == net.network() && net.prefix_len() < net.max_prefix_len() {
        true => format!("{text} is a whole network: name the addresses of its hosts"),
        false => format!("an address stands without a prefix length: {}", net.addr()),
    })
}

/// `10.77.0.11-13` and `10.77.0.11-10.77.0.13`, as network people write ranges.
fn dashed(text: &str) -> Option<Vec<String>> {
    let (from, to) = text.split_once('-')?;
    let from: std::net::Ipv4Addr = from.parse().ok()?;
    let to = match to.parse::<std::net::Ipv4Addr>() {
        Ok(to) => to,
        Err(_) => {
            let [a, b, c, _] = from.octets();
            std::net::Ipv4Addr::new(a, b, c, to.parse().ok()?)
        }
    };
    let (from, to) = (u32::from(from), u32::from(to));
    (from <= to && to - from < 10_000)
        .then(|| (from..=to).map(|n| std::net::Ipv4Addr::from(n).to_string()).collect())
}

/// Who does what.
struct Assigned<'a> {
    etcd: Vec<&'a HostName>,
    control_plane: Vec<&'a HostName>,
    load_balancers: Vec<&'a HostName>,
    workers: Vec<&'a HostName>,
}

impl<'a> Assigned<'a> {
    /// As somebody decided; hosts of which nobody did are workers then. Where nobody decided anything: one host
    /// does everything; up to four do everything together; from five on, three carry etcd and the control
    /// plane and the rest are workers; from eight on, two of the rest are load balancers.
    fn of(hosts: &'a [DraftHost]) -> Self {
        let names: Vec<&HostName> = hosts.iter().map(|host| &host.name).collect();
        if hosts.iter().any(|host| !host.roles.is_empty()) {
            let with = |role: Role| {
                let holds = |host: &&DraftHost| {
                    host.roles.contains(&role) || (role == Role::Worker && host.roles.is_empty())
                };
                hosts.iter().filter(holds).map(|host| &host.name).collect()
            };
            return Self {
                etcd: with(Role::EtcdMember),
                control_plane: with(Role::ControlPlane),
                load_balancers: with(Role::LoadBalancer),
                workers: with(Role::Worker),
            };
        }
        let trio = if hosts.len() >= 3 { 3 } else { 1 };
        let load_balancers = if hosts.len() >= 8 { 2 } else { 0 };
        let core = names[..trio.min(names.len())].to_vec();
        Self {
            etcd: core.clone(),
            control_plane: core,
            load_balancers: names[trio.min(names.len())..][..load_balancers].to_vec(),
            workers: if hosts.len() >= 5 { names[trio + load_balancers..].to_vec() } else { names },
        }
    }
}

/// Writes a commented cluster file in which the hosts have sensible roles. What it says works as it is: where
/// nobody named an API endpoint, it is a host's own, which every machine finds.
pub fn draft(draft: &Draft<'_>) -> String {
    let assigned = Assigned::of(draft.hosts);
    let mut out = String::new();
    cluster_and_hosts(draft, &mut out);
    etcd(&assigned, &mut out);
    control_plane(draft, &assigned, &mut out);
    load_balancers(draft.virtual_ip, &assigned, &mut out);
    workers(&assigned, draft.hosts.len(), &mut out);
    network(draft.hosts, &mut out);
    the_rest(draft, &mut out);
    own_samples(draft, &out)
}

/// Puts the person's own hosts, network and names into what comments show as samples.
fn own_samples(draft: &Draft<'_>, text: &str) -> String {
    let cluster = draft.cluster.as_str();
    let network = draft.hosts.iter().find_map(|host| match host.address {
        IpAddr::V4(address) => Some(address.octets()),
        IpAddr::V6(_) => None,
    });
    let network = network.map(|[a, b, c, _]| format!("{a}.{b}.{c}."));
    let [first, second, last] = [0, 1, usize::MAX].map(|at| {
        let host = draft.hosts.get(at.min(draft.hosts.len().saturating_sub(1)));
        host.map_or("heron", |host| host.name.as_str())
    });
    let own = |comment: &str| {
        let mut comment = comment
            .replace("Saltmarsh Bird Observatory", cluster)
            .replace("saltmarsh", cluster)
            .replace("heron", first)
            .replace("jetty-a", first)
            .replace("jetty-b", second)
            .replace("tern-*", last)
            .replace("tern-1", last);
        if let Some(network) = &network {
            comment = comment.replace("10.77.0.", network);
        }
        comment
    };
    let mut out = String::with_capacity(text.len());
    for line in text.lines() {
        let line = if line.starts_with('#') { &own(line) } else { line };
        let _ = writeln!(out, "{line}");
    }
    out
}

fn list(names: &[&HostName]) -> String {
    names.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ")
}

fn cluster_and_hosts(draft: &Draft<'_>, o: &mut String) {
    let Draft { cluster, hosts, .. } = draft;
    let _ = writeln!(
        o,
        "# The cluster {cluster}: the one file that Zoisite reads. Nothing secret is in it:\n\
         # keep it in version control. After a change: zoisite check\n\n\
         [cluster]\n\
         name = \"{cluster}\"\n\
         kubernetes = \"{}\"            # version of every Kubernetes component\n\
         etcd = \"{}\"\n\
         # domain = \"cluster.local\"       # DNS domain of services inside the cluster\n\n\
         [hosts]                          # name = the address that the cluster uses\n\
         # heron = {{ address = [\"10.77.0.11\", \"fd77::11\"], other-addresses = [\"192.168.50.11\"],\n\
         #   interface = \"eth0\", mac = \"02:00:5e:10:00:11\", site = \"north hide\", rack = \"a\",\n\
         #   endpoint = \"hide.saltmarsh.example:51820\",   # in a mesh: where others find it from outside\n\
         #   offline = true,                       # no login over SSH: zoisite join-file\n\
         #   windows = \"2022\",                          # it runs that release of Windows Server\n\
         #   login = {{ address = \"192.168.50.11\", port = 22, user = \"warden\", ssh-config = \"ssh_config\" }} }}",
        draft.kubernetes, draft.etcd
    );
    for host in *hosts {
        let _ = writeln!(o, "{} = {}", key(host.name.as_str()), entry(host));
    }
}

fn etcd(assigned: &Assigned<'_>, o: &mut String) {
    let members = match assigned.etcd.len() {
        1 => {
            "One member survives no loss. Three survive one, five survive two; two are worse than one."
        }
        _ => "Three members survive the loss of one, five of two. An even count adds nothing.",
    };
    let _ = writeln!(
        o,
        "\n[etcd]\n\
         # {members}\n\
         members = [{}]\n\
         # client-port = 2379\n\
         # peer-port = 2380\n\
         # metrics-port = 2381            # on loopback only\n\
         # folder = \"/var/lib/etcd\"       # holds the data directory\n\
         # settings = {{ heartbeat-interval = 100, election-timeout = 1000 }}   # etcd's own fields",
        list(&assigned.etcd),
    );
}

fn control_plane(draft: &Draft<'_>, assigned: &Assigned<'_>, o: &mut String) {
    let Draft { cluster, hosts, .. } = draft;
    let owner = assigned.load_balancers.first().or(assigned.control_plane.first());
    let owner = hosts.iter().find(|host| Some(&&host.name) == owner);
    let at = |address| Endpoint { host: EndpointHost::Address(address), port: 6443 }.to_string();
    let endpoint = match (draft.endpoint, draft.virtual_ip, owner) {
        (Some(named), ..) => named.to_string(),
        (None, Some(virtual_ip), _) => at(virtual_ip),
        (None, None, Some(owner)) => at(owner.address),
        (None, None, None) => format!("api.{cluster}.internal:6443"),
    };
    let leads = match (draft.endpoint, hosts.len(), assigned.load_balancers.len()) {
        (None, ..) if draft.virtual_ip.is_some() => {
            "# The API endpoint: the virtual IP, which moves when its holder is lost."
        }
        (Some(_), ..) => {
            "# The API endpoint: it must lead to the load balancers, or to the control\n\
             # plane where there are none. zoisite network-files writes what your DNS needs for that."
        }
        (None, 1, _) => "# The API endpoint. With one host, its own.",
        (None, _, 0) => {
            "# The API endpoint: one host's own, which works at once and is lost with\n\
             # it. Better, before you raise: an unused address of the hosts' network under [load-balancers] virtual-ip,\n\
             # and here; or a name in your DNS that leads to every control-plane host, such as\n\
             # \"api.saltmarsh.example:6443\" (zoisite network-files writes the records), or to a load balancer of your own."
        }
        _ => {
            "# The API endpoint: one load balancer's own, which works at once and is lost\n\
             # with it. Better, before you raise: an unused address of their network under [load-balancers] virtual-ip,\n\
             # and here; or a name in your DNS that leads to both load balancers, such as\n\
             # \"api.saltmarsh.example:6443\" (zoisite network-files writes the records)."
        }
    };
    let _ = writeln!(
        o,
        "\n[control-plane]\n\
         hosts = [{}]\n\
         {leads}\n\
         endpoint = \"{endpoint}\"\n\
         # port = 6443                    # where each API server listens\n\
         # api-server = {{ event-ttl = \"2h\" }}              # the components' own flags, without dashes\n\
         # controller-manager = {{ node-monitor-grace-period = \"40s\" }}\n\
         # scheduler = {{ parallelism = 16 }}               # its own configuration's fields\n\
         # authentication.jwt = [{{ issuer = {{ url = \"https://sso.saltmarsh.example\", audiences = [\"saltmarsh\"] }}, claimMappings = {{ username = {{ claim = \"sub\", prefix = \"sso:\" }} }} }}]\n\
         # audit-policy.rules = [{{ level = \"Metadata\" }}]      # in the place of the built-in rules",
        list(&assigned.control_plane),
    );
}

fn load_balancers(virtual_ip: Option<IpAddr>, assigned: &Assigned<'_>, o: &mut String) {
    const KEYS: &str = "\
        # router-id = 77                 # of VRRP, 1 to 255; else it follows from the name and the address\n\
        # vrrp = \"unicast\"             # or \"multicast\"\n\
        # forward = { 80 = 30080 }       # a port here, to the node port of a service on every worker\n\
        # settings = { \"timeout client\" = \"2h\" }   # keywords of HAProxy's section 'defaults'";
    let title = match assigned.load_balancers.is_empty() && virtual_ip.is_none() {
        true => "# [load-balancers]                    ",
        false => "[load-balancers]",
    };
    let (without, hosts, free) = match assigned.load_balancers.as_slice() {
        [] => (
            " # without hosts, control planes hold the address, or the site's own leads to them",
            "# hosts = [\"jetty-a\", \"jetty-b\"]".to_owned(),
            "the hosts'",
        ),
        some => ("", format!("hosts = [{}]", list(some)), "their"),
    };
    let virtual_ip = match virtual_ip {
        Some(address) => {
            format!("virtual-ip = \"{address}\"         # held by one of them at a time")
        }
        None => format!(
            "# virtual-ip = \"10.77.0.5\"         # an unused address of {free} network, held by one of them at a time"
        ),
    };
    let _ = writeln!(o, "\n{title}{without}\n{hosts}\n{virtual_ip}\n{KEYS}");
}

fn workers(assigned: &Assigned<'_>, hosts: usize, o: &mut String) {
    let all = assigned.workers.len() == hosts;
    let _ = writeln!(
        o,
        "\n[workers]\n{}hosts = [{}]\n\
         # labels.\"tern-*\" = {{ shore = \"north\" }}\n\
         # taints.\"tern-1\" = [\"slow=yes:NoSchedule\"]\n\
         # kubelet = {{ maxPods = 110 }}    # the kubelet's own configuration's fields\n\
         # kube-proxy = {{ metricsBindAddress = \"0.0.0.0:10249\" }}   # likewise\n\
         # runtime = {{ debug = {{ level = \"warn\" }} }}              # containerd's\n\
         # on.\"tern-*\" = {{ kubelet = {{ maxPods = 30 }} }}           # the same on single hosts\n\
         # signer = \"run\"                 # or \"in-cluster\": who signs what joining kubelets ask for",
        if all { "# Every host carries workloads too.\n" } else { "" },
        list(&assigned.workers),
    );
}

fn network(hosts: &[DraftHost], o: &mut String) {
    let v6 = hosts.first().is_some_and(|host| host.address.is_ipv6());
    let both = !hosts.is_empty() && hosts.iter().all(|host| host.second.is_some());
    let ranges = |v4: &'static [&'static str], v6s: &'static [&'static str]| {
        let (first, other) = if v6 { (v6s, v4) } else { (v4, v6s) };
        let first = free_range(hosts, first);
        match both {
            true => format!("[\"{first}\", \"{}\"]", free_range(hosts, other)),
            false => format!("\"{first}\""),
        }
    };
    let pods = ranges(PODS_V4, PODS_V6);
    let services = ranges(SERVICES_V4, SERVICES_V6);
    let _ = writeln!(
        o,
        "\n[network]                        # nothing else on your networks may use these ranges\n\
         pods = {pods}            # a subnet per node\n\
         services = {services}\n\
         # windows-pods = \"10.93.0.0/16\" # pods on nodes that run Windows: an overlay beside\n\
         # pod-subnet = 24                # prefix length of each node's IPv4 subnet\n\
         # pod-network = \"routes\"             # or \"manifests\", where you bring a pod network of your own\n\
         # service-proxy = \"kube-proxy\"     # or \"manifests\", where that network leads services too\n\
         # manifests = \"manifests\"        # folder of your own manifests, applied after all else\n\
         # reserved = [\"192.168.50.0/24\"]    # ranges that something else on your networks uses\n\
         # service-addresses = [\"10.77.0.192/27\"]   # kept for services that are reached from outside\n\
         # name-servers = [\"10.77.0.2\", \"10.77.0.3\"]   # your own name servers\n\
         # zone = \"saltmarsh.example\"     # DNS zone of the hosts",
    );
}

/// How to log in, components, certificates.
fn the_rest(draft: &Draft<'_>, o: &mut String) {
    let config = match draft.ssh_config {
        Some(path) => format!("ssh-config = {}", quoted(path)),
        None => "# ssh-config = \"ssh_config\"      # a configuration other than your own".into(),
    };
    let _ = write!(
        o,
        "\n[login]                          # the rest comes from your own SSH configuration\n\
         # user = \"warden\"                # root, or a user with sudo\n\
         # port = 22\n\
         # address = \"10.77.0.1\"          # for a single host: where to log in, if not at its address\n\
         {config}\n\n\
         [components]\n\
         from = \"components\"              # folder that zoisite components fetch fills\n\
         # dns = \"1.15.0\"                 # version of CoreDNS, and its image where it is another one\n\
         # dns-image = \"registry.saltmarsh.example/coredns:1.15.0\"\n\
         # sandbox = \"registry.saltmarsh.example/pause:3.10\"   # or an archive: \"images/pause.tar\"\n\
         # images = [\"registry.saltmarsh.example/gulls/counter:2.1\", \"of-manifests\"]   # every node holds these too\n\
         # runtime = \"2.1.4\"              # containerd, where hosts do not bring their own\n\
         # runc = \"1.3.0\"\n\
         # network-plugins = \"1.7.1\"\n\
         # registry = \"3.1.2\"            # where [registry] names a host\n\
         # mirror = \"https://mirror.saltmarsh.example\"         # or a folder: files below their servers' names\n\
         # images-mirror = \"registry.saltmarsh.example\"\n\
         # sources = {{ etcd = \"https://mirror.saltmarsh.example/etcd\" }}\n\
         # authority = \"mirror-ca.pem\"    # what those are verified by\n\
         # credentials = \"mirror.netrc\"   # names and passwords for them, for your eyes only\n\
         # proxy = \"http://proxy.saltmarsh.example:3128\"\n\n\
         [preparation]                    # what raise does to a machine first; zoisite uninstall undoes all of it\n\
         # programs = \"distribution\"      # or \"pinned\": those that components fetch brings; or \"by-hand\"\n\
         # names = \"where-needed\"         # or \"always\", \"never\": all hosts in every hosts file\n\
         # host-names = \"set\"             # or \"keep\": whether a host is called what it is called here\n\
         # time = \"where-needed\"          # or \"never\": a time service where there is none\n\
         # time-servers = [\"10.77.0.2\"]   # for a time service that raise brings\n\
         # time-zone = \"Europe/Berlin\"    # where hosts are to have another one than they have\n\
         # proxy = \"http://proxy.saltmarsh.example:3128\"     # by which container runtimes reach registries\n\
         # no-proxy = [\".saltmarsh.example\"]                 # besides the cluster's own networks and names\n\
         # credentials = \"registries.netrc\"                 # names and passwords that nodes pull with\n\
         # firewall = \"keep\"              # or \"set\": what is needed is let in, and nothing else\n\
         # administrators = [\"10.77.0.0/24\"]                # SSH is open to these alone then\n\
         # clients = [\"10.0.0.0/8\"]      # and the API endpoint to these\n\
         # registries.\"registry.k8s.io\" = {{ addresses = [\"https://registry.saltmarsh.example\"] }}\n\n\
         # [registry]                       # one of the cluster's own, with the images that nodes hold\n\
         # host = \"jetty-a\"\n\
         # name = \"registry.saltmarsh.example\"               # nodes need no DNS for it\n\
         # port = 5000\n\
         # folder = \"/var/lib/zoisite-registry\"\n\
         # mirrors = [\"registry.k8s.io\"]               # nodes ask it first for these\n\
         # passwords = \"registry.htpasswd\"                   # who may pull and push; everybody without it\n\
         # read-only = true\n\n\
         # [monitoring]                     # metrics of members, control planes and load balancers: zoisite monitoring\n\
         # port = 10263                     # where each of these hosts gives them out, over TLS\n\
         # from = [\"10.77.0.2/32\"]        # who is let in there by the firewall that raise sets\n\n\
         # [drill]                          # what zoisite drill may show at most; beyond it ends with status 1\n\
         # longest-gap = \"10s\"            # the longest time without an answer\n\
         # recovered-within = \"2m\"            # from the end of the loss until all is as before\n\n\
         # [snapshots]                      # of what etcd holds: zoisite snapshot take\n\
         # keep = 14                        # so many at most\n\
         # keep-for = \"30d\"               # and so long at most; the newest that was tried always stays\n\
         # too-old = \"2d\"                 # zoisite status tells when the newest that was tried is older\n\
         # copies = \"/srv/saltmarsh\"      # each is copied there too: a disk of its own\n\
         # on-members = \"6h\"              # members save by themselves so often, on their hosts; or never\n\
         # on-members-keep = 4              # so many of those on each\n\n\
         # [state]                          # what this workstation alone knows: zoisite backup\n\
         # backup = \"/mnt/other/saltmarsh.backup\"                # every raise writes one there, encrypted\n\n\
         # [first-boot]                     # what machines get before their first login: zoisite first-boot\n\
         # networks = {{ \"10.77.0.0/24\" = \"10.77.0.1\" }}    # those that hosts are in, each with its router, or \"none\"\n\
         # routes = {{ \"192.168.0.0/16\" = \"10.77.0.254\" }} # further ones\n\
         # keys = [\"ada.pub\"]             # public SSH keys of who may log in; yours without it\n\
         # packages = [\"qemu-guest-agent\"]                 # of the site's own\n\
         # unnamed = [\"02:00:5e:10:00:4d\"]               # machines without a name yet, by a card: zoisite first-boot unnamed\n\n\
         # [mesh]                           # an encrypted network over others; hosts' addresses are in it: docs/mesh.md\n\
         # range = \"10.99.0.0/24\"\n\
         # hosts = [\"tern-*\"]               # those that are elsewhere, where the others are in one network\n\
         # port = 51820                     # UDP; a host that others find from outside has an endpoint under [hosts]\n\
         # mtu = 1420                       # the largest packet that goes through it whole\n\n\
         [certificates]\n\
         days = 365\n\
         authority-days = 3650\n\
         key = \"ecdsa-p256\"               # or ecdsa-p384, rsa-3072\n\
         keys-made = \"on-hosts\"           # where they are used, and nowhere else; or here, sealed in the strongbox\n\
         # life = \"90d\"                   # instead of days: from 5m on\n\
         # renew = \"30d\"                  # so long before the end issued again; in the last third of its life without it\n\
         # backdated = \"5m\"               # certificates begin so far in the past: clocks differ\n\
         # hierarchy = \"separate\"         # or one-root: a root of the cluster's own above all authorities\n\
         # organization = \"Saltmarsh Bird Observatory\"     # in authorities' names\n\
         # profiles.api-server = {{ names = [\"api.example.org\", \"203.0.113.7\"] }}   # names that follow from nothing here\n\
         # profiles.\"etcd-*\" = {{ life = \"90d\", key = \"ecdsa-p384\" }}\n\
         # authorities.cluster = {{ life = \"7300d\", key = \"ecdsa-p384\" }}\n"
    );
}

/// What the file says of a host: its address, or a table where more is known.
fn entry(host: &DraftHost) -> String {
    let mut parts = vec![match host.second {
        Some(second) => format!("address = [\"{}\", \"{second}\"]", host.address),
        None => format!("address = \"{}\"", host.address),
    }];
    parts.extend(host.mac.map(|mac| format!("mac = \"{mac}\"")));
    let Place { site, rack } = &host.place;
    parts.extend(site.as_ref().map(|site| format!("site = {}", quoted(site))));
    parts.extend(rack.as_ref().map(|rack| format!("rack = {}", quoted(rack))));
    let mut login = Vec::new();
    login.extend(host.login.address.as_ref().map(|at| format!("address = {}", quoted(at))));
    login.extend(host.login.port.map(|port| format!("port = {port}")));
    login.extend(host.login.user.as_ref().map(|user| format!("user = {}", quoted(user))));
    if !login.is_empty() {
        parts.push(format!("login = {{ {} }}", login.join(", ")));
    }
    match parts.as_slice() {
        [_] if host.second.is_none() => format!("\"{}\"", host.address),
        parts => format!("{{ {} }}", parts.join(", ")),
    }
}

/// A basic string of TOML (TOML 1.0, "String").
fn quoted(text: &str) -> String {
    let mut out = String::from('"');
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04x}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// A TOML key, in quotes where it needs them.
fn key(name: &str) -> String {
    if name.contains('.') { format!("\"{name}\"") } else { name.to_owned() }
}

const PODS_V4: &[&str] = &["10.90.0.0/16", "10.190.0.0/16", "172.28.0.0/16", "192.168.0.0/16"];
const SERVICES_V4: &[&str] = &["10.91.0.0/20", "10.191.0.0/20", "172.29.0.0/20", "172.30.0.0/20"];
const PODS_V6: &[&str] = &["fd5a:90::/48", "fd5b:90::/48"];
const SERVICES_V6: &[&str] = &["fd5a:91::/112", "fd5b:91::/112"];

/// The first candidate whose neighbourhood no host is in: a host's whole /16 (or /32 for IPv6) is
/// taken to be its LAN.
fn free_range(hosts: &[DraftHost], candidates: &'static [&'static str]) -> &'static str {
    let near = |range: &IpNet| {
        hosts.iter().flat_map(|h| std::iter::once(h.address).chain(h.second)).any(|address| {
            let bits = if address.is_ipv4() { 16 } else { 32 };
            IpNet::new(address, bits).is_ok_and(|lan| super::address::overlap(&lan.trunc(), range))
        })
    };
    candidates
        .iter()
        .find(|text| text.parse::<IpNet>().is_ok_and(|range| !near(&range)))
        .unwrap_or(&candidates[0])
}

/// Keys that a brief draft shows though they are not set, by their table.
const SHOWN: [(&str, &str); 3] = [("login", "user"), ("snapshots", "copies"), ("state", "backup")];

/// A draft without the keys that are not set, but for those that nearly every site sets. It means the same.
pub fn brief(draft: &str) -> String {
    let mut out: Vec<&str> = Vec::new();
    let (mut table, mut sample, mut waiting) = ("", false, None);
    for line in draft.lines() {
        let plain = line.trim_start_matches("# ");
        if let Some((name, _)) = plain.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            (table, sample, waiting) = (name, false, Some(line));
            continue;
        }
        let key = plain.split_once(" = ").map(|(key, _)| key).unwrap_or_default();
        let is_key = !key.is_empty() && !key.contains(' ');
        let unset = line.starts_with('#') && !table.is_empty() && is_key;
        // A sample of several lines goes on further in.
        sample = (unset && line.ends_with(',')) || (sample && line.starts_with("#  "));
        let shown = SHOWN.contains(&(table, key));
        if sample || (unset && !shown) {
            continue;
        }
        if line.is_empty() {
            if out.last().is_some_and(|last| !last.is_empty()) {
                out.push(line);
            }
            continue;
        }
        out.extend(waiting.take());
        out.push(line);
    }
    let text = out.join("\n");
    format!(
        "{}\n\n# Every other key, with its default: zoisite new --full, or docs/cluster-file.md\n",
        text.trim_end()
    )
}

#[cfg(test)]
mod tests {
    use super::super::parse::TABLES;
    use super::*;

    #[test]
    fn a_brief_draft_fits_on_a_screen_and_means_the_same() {
        let cluster = ClusterName::new("saltmarsh").unwrap();
        for (words, virtual_ip) in
            [("10.77.0.11", None), ("10.77.0.11-15", Some("10.77.0.5")), ("10.77.0.11-19", None)]
        {
            let hosts = draft_hosts(&cluster, &[words.to_owned()]).unwrap();
            let full = draft(&Draft {
                cluster: &cluster,
                hosts: &hosts,
                kubernetes: "1.36.3",
                etcd: "3.6.16",
                endpoint: None,
                virtual_ip: virtual_ip.map(|address| address.parse().unwrap()),
                ssh_config: None,
            });
            let text = brief(&full);
            let lines = text.lines().filter(|line| !line.is_empty()).count();
            assert!(lines - hosts.len() <= 40, "{text}");
            for shown in ["# user = ", "# [state]", "# backup = ", "# copies = "] {
                assert!(text.contains(shown), "{shown}: {text}");
            }
            assert!(!text.contains("peer-port") && !text.contains("jetty"), "{text}");
            let (full, brief) = (super::super::read(&full), super::super::read(&text));
            assert_eq!(format!("{:?}", full.cluster), format!("{:?}", brief.cluster));
            assert!(brief.cluster.is_some());
        }
    }

    #[test]
    fn every_key_that_exists_stands_in_a_new_file() {
        let cluster = ClusterName::new("saltmarsh").unwrap();
        for words in ["10.77.0.11", "10.77.0.11-15", "10.77.0.11-19"] {
            let hosts = draft_hosts(&cluster, &[words.to_owned()]).unwrap();
            let (kubernetes, etcd) = ("1.36.3", "3.6.16");
            let new = Draft {
                cluster: &cluster,
                hosts: &hosts,
                kubernetes,
                etcd,
                endpoint: None,
                virtual_ip: None,
                ssh_config: None,
            };
            let text = draft(&new);
            for (table, keys) in TABLES {
                let title = format!("[{table}]");
                let line = |line: &&str| line.trim_start_matches("# ").starts_with(&title);
                let at = text.lines().position(|l| line(&l)).unwrap_or_else(|| panic!("{title}"));
                let part: Vec<&str> =
                    text.lines().skip(at + 1).take_while(|l| !l.is_empty()).collect();
                for key in *keys {
                    // At the head of a line, or within the table of a host.
                    let stands = |line: &&str| {
                        line.trim_start_matches("# ").starts_with(&format!("{key} ="))
                            || line.trim_start_matches("# ").starts_with(&format!("{key}."))
                            || (*table == "hosts" && line.contains(&format!("{key} =")))
                    };
                    assert!(part.iter().any(stands), "{title} {key} in\n{text}");
                }
            }
        }
    }

    #[test]
    fn the_reference_has_every_key_and_no_other() {
        let reference = include_str!("../../../../docs/cluster-file.md");
        for (table, keys) in TABLES {
            let title = format!("## `[{table}]`\n");
            let (_, part) = reference.split_once(&title).unwrap_or_else(|| panic!("{title}"));
            let part = part.split("\n## ").next().unwrap_or_default();
            let cells = part.lines().filter_map(|line| line.strip_prefix("| `")?.split_once(" | "));
            let told: BTreeSet<&str> =
                cells.flat_map(|(cell, _)| cell.trim_end_matches('`').split("`, `")).collect();
            assert_eq!(told, keys.iter().copied().collect(), "docs/cluster-file.md, [{table}]");
        }
    }

    #[test]
    fn texts_are_quoted_as_toml_reads_them() {
        let text = "a \"quoted\" \\ one\n";
        let read = format!("key = {}", quoted(text));
        let (table, errors) = toml::de::DeTable::parse_recoverable(&read);
        assert!(errors.is_empty());
        assert_eq!(table.get_ref()["key"].get_ref().as_str(), Some(text));
    }
}
