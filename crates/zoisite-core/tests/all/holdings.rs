//! What hosts must hold: that it fits together, and that it is as narrow as it can be.

use std::collections::BTreeSet;

use crate::common::{Known, SALTMARSH, Trust, at, changed, host, two_families};
use serde_json::{Value, json};
use zoisite_core::cluster::{Cluster, read};
use zoisite_core::holdings::{Holdings, HostFacts, HostHoldings, Part, holdings, objects};
use zoisite_core::item::{File, Item};

const COMPACT: &str = include_str!("../../../../lab/clusters/compact.toml");
const SINGLE: &str = include_str!("../../../../lab/clusters/single.toml");

fn cluster(text: &str) -> Cluster {
    let reading = read(text);
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

fn made(text: &str) -> Holdings {
    with_facts(text, &[])
}

fn with_facts(text: &str, facts: &[(&str, HostFacts)]) -> Holdings {
    let cluster = cluster(text);
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let mut known = Known::of(&cluster);
    known.facts.extend(facts.iter().map(|(name, facts)| (host(name), facts.clone())));
    holdings(&cluster, known.sources(&trust.ledger, "0123456789abcdef"), Part::ALL).unwrap()
}

/// The demo, a compact cluster, a single host, a site with its own pod network, one with two families.
fn clusters() -> Vec<String> {
    vec![
        SALTMARSH.into(),
        COMPACT.into(),
        SINGLE.into(),
        changed("[network]\n", "[network]\npod-network = \"manifests\"\nmanifests = \"site\"\n"),
        two_families(),
    ]
}

fn file<'a>(holdings: &'a Holdings, name: &str, path: &str) -> &'a File {
    let found = holdings.host(&host(name)).unwrap().files().find(|file| file.path == path);
    found.unwrap_or_else(|| panic!("{name} has no {path}"))
}

fn text(holdings: &Holdings, name: &str, path: &str) -> String {
    file(holdings, name, path).content.whole_text().unwrap()
}

fn unit(holdings: &Holdings, name: &str, unit: &str) -> String {
    text(holdings, name, &format!("/etc/systemd/system/zoisite-{unit}.service"))
}

/// The value of a flag in a unit's command.
fn flag<'a>(unit: &'a str, name: &str) -> Option<&'a str> {
    let start = unit.lines().find_map(|line| line.strip_prefix("ExecStart="))?;
    let words = start.split(' ').map(|word| word.trim_matches('"'));
    words.into_iter().find_map(|word| word.strip_prefix(&format!("--{name}=")))
}

fn yaml(text: &str) -> Value {
    serde_saphyr::from_str(text).unwrap()
}

/// Paths of Zoisite's own places that a text names.
fn named_paths(text: &str) -> BTreeSet<String> {
    let own = ["/etc/zoisite/", "/usr/local/lib/zoisite/", "/etc/cni/net.d/"];
    text.split(|c: char| c.is_whitespace() || "\"'=,:;{}[]()".contains(c))
        .filter(|word| own.iter().any(|place| word.starts_with(place)))
        .map(|word| word.trim_end_matches('/').to_owned())
        .collect()
}

fn paths_of(host: &HostHoldings) -> BTreeSet<String> {
    let paths = host.items.iter().flat_map(|item| match item {
        Item::Absent(_) => Vec::new(),
        Item::Pair(pair) => vec![pair.certificate_path(), pair.key_path()],
        item => vec![item.describe().what],
    });
    paths.filter(|path| path.starts_with('/')).collect()
}

#[test]
fn every_path_that_a_file_names_is_on_that_host() {
    for text in clusters() {
        for host in &made(&text).hosts {
            let held = paths_of(host);
            let mut seen = 0;
            for file in host.files() {
                let Some(content) = file.content.whole_text() else { continue };
                for path in named_paths(&content) {
                    seen += 1;
                    assert!(held.contains(&path), "{}: {} names {path}", host.host, file.path);
                }
            }
            assert!(seen > 0, "{}", host.host);
        }
    }
}

#[test]
fn what_is_needed_is_put_before_what_needs_it() {
    for text in clusters() {
        for host in &made(&text).hosts {
            let mut there: BTreeSet<&str> =
                // The last one is made by every script that acts, for its lock.
                ["/", "/etc", "/etc/systemd/system", "/usr/local/lib", "/var/lib/zoisite"].into();
            let mut users: BTreeSet<&str> = ["root"].into();
            let mut units = BTreeSet::new();
            for item in &host.items {
                let name = &host.host;
                match item {
                    Item::User(user) => {
                        users.insert(user.name);
                    }
                    Item::Directory(directory) => {
                        assert!(users.contains(directory.owner), "{name}: {directory:?}");
                        there.insert(&directory.path);
                    }
                    Item::File(file) => {
                        assert!(users.contains(file.owner), "{name}: {}", file.path);
                        let (folder, last) = file.path.rsplit_once('/').unwrap();
                        assert!(there.contains(folder), "{name}: no folder for {}", file.path);
                        if last.ends_with(".service") || last.ends_with(".timer") {
                            units.insert(last.to_owned());
                        }
                    }
                    Item::Pair(pair) => {
                        assert!(users.contains(pair.owner), "{name}: {}", pair.path);
                        let (folder, _) = pair.path.rsplit_once('/').unwrap();
                        assert!(there.contains(folder), "{name}: no folder for {}", pair.path);
                    }
                    Item::Component(component) => {
                        let (folder, _) = component.path.rsplit_once('/').unwrap();
                        assert!(there.contains(folder), "{name}: {}", component.path);
                    }
                    Item::Unit(unit) if unit.name.starts_with("zoisite-") => {
                        assert!(units.contains(unit.name), "{name}: {} has no file yet", unit.name);
                    }
                    _ => {}
                }
            }
        }
    }
}

#[test]
fn s5_keys_are_for_their_owner_alone_and_nothing_is_for_others_to_write() {
    for text in clusters() {
        for host in &made(&text).hosts {
            for item in &host.items {
                let Some(mode) = item.describe().mode else { continue };
                assert_eq!(mode & 0o022, 0, "{}: {}", host.host, item.title());
                assert_eq!(
                    item.secret().is_some(),
                    mode == 0o600,
                    "{}: {}",
                    host.host,
                    item.title()
                );
            }
        }
    }
}

#[test]
fn what_a_unit_reads_restarts_it_and_only_a_unit_of_that_host() {
    for text in clusters() {
        for host in &made(&text).hosts {
            let units: BTreeSet<&str> = host.units().map(|unit| unit.name).collect();
            for file in host.files() {
                if let Some(unit) = file.restarts {
                    assert!(units.contains(unit), "{}: {} restarts {unit}", host.host, file.path);
                }
            }
            for unit in units.iter().filter(|name| name.starts_with("zoisite-")) {
                let path = format!("/etc/systemd/system/{unit}");
                let own = host.files().find(|file| file.path == path).unwrap();
                assert_eq!(own.restarts, Some(*unit), "{}", host.host);
            }
        }
    }
}

#[test]
fn services_run_as_users_of_their_own_with_nothing_they_do_not_need() {
    let holdings = made(SALTMARSH);
    let mut users = BTreeSet::new();
    for (name, service) in [
        ("heron", "etcd"),
        ("curlew", "api-server"),
        ("curlew", "controller-manager"),
        ("curlew", "scheduler"),
        ("jetty-a", "load-balancer"),
    ] {
        let text = unit(&holdings, name, service);
        let user = text.lines().find_map(|line| line.strip_prefix("User=")).unwrap();
        assert!(user.starts_with("zoisite-"), "{service} runs as {user}");
        assert!(users.insert(user.to_owned()), "{service} shares {user}");
        for line in
            ["NoNewPrivileges=yes", "ProtectSystem=strict", "ProtectHome=yes", "PrivateTmp=yes"]
        {
            assert!(text.lines().any(|l| l == line), "{service}: {line}");
        }
    }
    // What manages the host's own containers and rules cannot.
    for service in ["kubelet", "kube-proxy"] {
        assert!(!unit(&holdings, "tern-1", service).contains("User="), "{service}");
    }
}

#[test]
fn the_api_server_lets_in_only_who_shows_who_they_are() {
    let holdings = made(SALTMARSH);
    let unit = unit(&holdings, "curlew", "api-server");
    for (name, value) in [
        ("authorization-mode", "Node,RBAC"),
        ("enable-bootstrap-token-auth", "true"),
        ("enable-admission-plugins", "NodeRestriction"),
        ("bind-address", "10.77.0.21"),
        ("secure-port", "6443"),
        ("etcd-servers", "https://10.77.0.11:2379,https://10.77.0.12:2379,https://10.77.0.13:2379"),
        ("requestheader-allowed-names", "zoisite:front-proxy"),
        ("tls-min-version", "VersionTLS12"),
        ("profiling", "false"),
        ("service-cluster-ip-range", "10.91.0.0/20"),
    ] {
        assert_eq!(flag(&unit, name), Some(value), "{name}");
    }
    for never in ["token-auth-file", "anonymous-auth", "insecure-port"] {
        assert_eq!(flag(&unit, never), None);
    }
    let folder = "/etc/zoisite/api-server";
    let authentication = yaml(&text(&holdings, "curlew", &format!("{folder}/authentication.yaml")));
    let paths: Vec<&str> = authentication["anonymous"]["conditions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|condition| condition["path"].as_str().unwrap())
        .collect();
    assert_eq!(paths, ["/livez", "/readyz", "/healthz"], "anonymous access to health alone");
    let encryption = file(&holdings, "curlew", &format!("{folder}/encryption.yaml"));
    assert_eq!((encryption.owner, encryption.mode), ("zoisite-api", 0o600));
    // The front proxy's authority is another than the one that clients are verified with.
    assert_ne!(flag(&unit, "requestheader-client-ca-file"), flag(&unit, "client-ca-file"));
}

#[test]
fn the_audit_log_names_who_read_a_secret_and_never_what_it_holds() {
    let holdings = made(SALTMARSH);
    let unit = unit(&holdings, "curlew", "api-server");
    for (name, value) in
        [("audit-log-maxage", "30"), ("audit-log-maxbackup", "10"), ("audit-log-maxsize", "100")]
    {
        assert_eq!(flag(&unit, name), Some(value), "it is rotated");
    }
    let policy = yaml(&text(&holdings, "curlew", flag(&unit, "audit-policy-file").unwrap()));
    // The first rule that matches decides (audit.k8s.io/v1, `Policy.rules`).
    let level = |verb: &str, resource: &str| {
        let holds = |rule: &Value, key: &str, what: &str| {
            rule[key].as_array().is_none_or(|list| list.iter().any(|one| one == what))
        };
        let rule = policy["rules"].as_array().unwrap().iter().find(|rule| {
            let groups = rule["resources"].as_array();
            holds(rule, "verbs", verb)
                && groups.is_none_or(|groups| {
                    groups.iter().any(|g| g["group"] == "" && holds(g, "resources", resource))
                })
        });
        rule.unwrap()["level"].as_str().unwrap().to_owned()
    };
    assert_eq!(level("get", "secrets"), "Metadata");
    assert_eq!(level("create", "secrets"), "Metadata");
    assert_eq!(level("list", "pods"), "None");
    assert_eq!(level("delete", "pods"), "Metadata");
    assert_eq!(level("create", "events"), "None");
    // By WebSocket they are requests to read.
    for through in ["exec", "attach", "portforward", "proxy"] {
        for verb in ["get", "create"] {
            assert_eq!(level(verb, &format!("pods/{through}")), "Metadata", "{verb} {through}");
        }
    }
    assert_eq!(level("get", "nodes/proxy"), "Metadata");
    assert_eq!(level("get", "services/proxy"), "Metadata");
    assert_eq!(level("get", "pods/log"), "None");
}

#[test]
fn an_audit_policy_of_the_sites_own_takes_the_place_of_the_built_in_one() {
    let own = |rules: &str| {
        SALTMARSH
            .replace("[control-plane]\n", &format!("[control-plane]\naudit-policy = {rules}\n"))
    };
    let rules = own("{ rules = [{ level = \"Metadata\" }], omitStages = [\"RequestReceived\"] }");
    let holdings = made(&rules);
    let path = "/etc/zoisite/api-server/audit.yaml";
    let policy = yaml(&text(&holdings, "curlew", path));
    let wanted = json!({"apiVersion": "audit.k8s.io/v1", "kind": "Policy",
        "omitStages": ["RequestReceived"], "rules": [{"level": "Metadata"}]});
    assert_eq!(policy, wanted);

    let secrets = "resources = [{ group = \"\", resources = [\"secrets\"] }]";
    for (rules, code) in [
        ("{ omitStages = [] }".to_owned(), "bad-audit-policy"),
        ("{ rules = [] }".to_owned(), "bad-audit-policy"),
        ("{ rules = [{ level = \"All\" }] }".to_owned(), "bad-audit-policy"),
        ("{ kind = \"Other\", rules = [{ level = \"None\" }] }".to_owned(), "setting-clash"),
        ("{ rules = [{ level = \"RequestResponse\" }] }".to_owned(), "audit-reveals-secrets"),
        (
            format!(
                "{{ rules = [{{ level = \"None\", users = [\"a\"], {secrets} }}, {{ level = \"Request\" }}] }}"
            ),
            "audit-reveals-secrets",
        ),
    ] {
        let codes: Vec<_> = read(&own(&rules)).findings.iter().map(|found| found.code).collect();
        assert!(codes.contains(&code), "{rules}: {codes:?}");
    }
    let sound =
        format!("{{ rules = [{{ level = \"Metadata\", {secrets} }}, {{ level = \"Request\" }}] }}");
    let codes: Vec<_> = read(&own(&sound)).findings.iter().map(|found| found.code).collect();
    assert!(!codes.iter().any(|code| code.contains("audit")), "{codes:?}");
}

#[test]
fn no_controller_signs_and_tokens_are_cleaned() {
    let holdings = made(SALTMARSH);
    let unit = unit(&holdings, "plover", "controller-manager");
    let controllers = flag(&unit, "controllers").unwrap();
    for on in ["*", "bootstrap-signer-controller", "token-cleaner-controller"] {
        assert!(controllers.split(',').any(|one| one == on), "{on}");
    }
    assert!(controllers.contains("-certificatesigningrequest-signing-controller"));
    assert_eq!(flag(&unit, "cluster-signing-key-file"), None);
    assert_eq!(flag(&unit, "allocate-node-cidrs"), Some("false"), "the address plan does it");
    assert_eq!(flag(&unit, "leader-elect"), Some("true"));
}

#[test]
fn load_balancers_ask_each_api_server_whether_it_is_ready_and_verify_it() {
    let holdings = made(SALTMARSH);
    let config = text(&holdings, "jetty-b", "/etc/zoisite/load-balancer/haproxy.cfg");
    assert!(config.contains("bind 10.77.0.32:6443"), "{config}");
    assert!(config.contains("check-ssl verify required"));
    // One that is not ready for want of etcd alone is given no new connections and loses none; where all are like that
    // whoever comes is let in to wait.
    assert!(config.contains(
        "    http-check send meth GET uri /readyz?exclude=etcd\n    http-check expect status 200 error-status L7OKC\n"
    ));
    assert!(config.contains(
        "    use_backend api-servers if { nbsrv(api-servers) gt 0 }\n    default_backend api-servers-alive\n"
    ));
    assert!(config.contains("monitor fail if { nbsrv(api-servers-alive) lt 1 }"));
    for (name, address) in [("curlew", 21), ("plover", 22), ("sandpiper", 23)] {
        let server =
            format!("server {name} 10.77.0.{address}:6443 check-sni {name} verifyhost {name}");
        assert!(config.contains(&server), "{config}");
    }
    // A watch is silent for as long as nothing happens.
    assert!(config.contains("timeout client 1h") && config.contains("timeout server 1h"));
    assert!(
        holdings
            .host(&host("tern-1"))
            .unwrap()
            .units()
            .all(|unit| !unit.name.contains("load-balancer"))
    );
}

#[test]
fn load_balancers_may_share_control_plane_hosts_on_another_port_and_not_on_the_same() {
    let shared = |port: &str| {
        changed("[control-plane]\n", &format!("[control-plane]\nport = {port}\n"))
            .replace("hosts = [\"jetty-{a,b}\"]", "hosts = [\"curlew\", \"plover\"]")
            .replace("virtual-ip = \"10.77.0.5\"\n", "")
    };
    let holdings = made(&shared("6444"));
    let config = text(&holdings, "curlew", "/etc/zoisite/load-balancer/haproxy.cfg");
    assert!(
        config.contains("bind 10.77.0.21:6443") && config.contains("server plover 10.77.0.22:6444")
    );
    assert_eq!(flag(&unit(&holdings, "curlew", "api-server"), "secure-port"), Some("6444"));
    let reading = read(&shared("6443"));
    assert!(reading.findings.iter().any(|finding| finding.code == "port-clash"));
}

#[test]
fn every_host_routes_to_all_other_nodes_pods_and_to_none_of_its_own() {
    let holdings = made(SALTMARSH);
    let cluster = cluster(SALTMARSH);
    let known = Known::of(&cluster);
    for node in cluster.nodes() {
        let routes = text(&holdings, node.name.as_str(), "/etc/zoisite/network/routes");
        for (other, nets) in &known.subnets {
            let via = cluster.host(other).unwrap().address;
            let route = format!("route replace {} via {via} ", nets[0]);
            assert_eq!(routes.contains(&route), *other != node.name, "{} to {other}", node.name);
        }
        let conflist = text(&holdings, node.name.as_str(), "/etc/cni/net.d/10-zoisite.conflist");
        assert!(conflist.contains(&known.subnets[&node.name][0].to_string()), "its own subnet");
    }
}

#[test]
fn two_address_families_reach_every_place_that_names_addresses() {
    let holdings = made(&two_families());
    let both = "10.91.0.0/20,fd5a:91::/112";
    assert_eq!(
        flag(&unit(&holdings, "curlew", "api-server"), "service-cluster-ip-range"),
        Some(both)
    );
    let kubelet = yaml(&text(&holdings, "tern-1", "/etc/zoisite/kubelet/kubelet.yaml"));
    assert_eq!(kubelet["clusterDNS"], serde_json::json!(["10.91.0.10", "fd5a:91::a"]));
    let proxy = yaml(&text(&holdings, "tern-1", "/etc/zoisite/kube-proxy/kube-proxy.yaml"));
    assert_eq!(proxy["clusterCIDR"], "10.90.0.0/16,fd5a:90::/48");
    let routes = text(&holdings, "tern-1", "/etc/zoisite/network/routes");
    for route in ["10.90.4.0/24 via 10.77.0.102", "fd5a:90:0:4::/64 via fd77::102"] {
        assert!(routes.contains(&format!("route replace {route} proto")), "{routes}");
    }
    let kubelet = unit(&holdings, "tern-1", "kubelet");
    assert_eq!(flag(&kubelet, "node-ip"), Some("10.77.0.101,fd77::101"));
    let masquerade = text(&holdings, "tern-1", "/etc/zoisite/network/masquerade.nft");
    assert!(
        masquerade.contains("table ip zoisite_pods")
            && masquerade.contains("table ip6 zoisite_pods6")
    );
    let conflist: Value =
        serde_json::from_str(&text(&holdings, "tern-1", "/etc/cni/net.d/10-zoisite.conflist"))
            .unwrap();
    assert_eq!(conflist["plugins"][0]["ipam"]["ranges"].as_array().unwrap().len(), 2);
    let all = objects(&cluster(&two_families()), &Default::default());
    let dns = all.iter().find(|object| object.title() == "Service kube-system/coredns").unwrap();
    assert_eq!(dns.0["spec"]["clusterIPs"], serde_json::json!(["10.91.0.10", "fd5a:91::a"]));
}

#[test]
fn routes_name_the_interface_where_the_file_does() {
    let tern = "{ address = \"10.77.0.{101..103}\", interface = \"enp2s0\" }";
    let holdings = made(&changed("\"10.77.0.{101..103}\"", tern));
    let routes = text(&holdings, "tern-1", "/etc/zoisite/network/routes");
    assert!(routes.contains("via 10.77.0.21 dev enp2s0 proto"), "{routes}");
    let routes = text(&holdings, "curlew", "/etc/zoisite/network/routes");
    assert!(!routes.contains(" dev "), "{routes}");
}

#[test]
fn a_host_that_is_a_container_itself_is_not_asked_for_what_it_cannot_give() {
    let facts = HostFacts {
        unified_cgroups: true,
        container: true,
        nftables: true,
        ..HostFacts::default()
    };
    let holdings = with_facts(SALTMARSH, &[("tern-1", facts)]);
    let proxy = |name| yaml(&text(&holdings, name, "/etc/zoisite/kube-proxy/kube-proxy.yaml"));
    assert_eq!(proxy("tern-1")["conntrack"]["maxPerCore"], 0);
    assert_eq!(proxy("tern-2")["conntrack"], Value::Null);
    let runtime = |name| text(&holdings, name, "/etc/zoisite/runtime/settings.toml");
    assert!(runtime("tern-1").contains("restrict_oom_score_adj = true"));
    assert!(runtime("tern-2").contains("restrict_oom_score_adj = false"));
}

#[test]
fn rights_in_the_cluster_are_the_least_that_joining_and_dns_need() {
    let all = objects(&cluster(SALTMARSH), &Default::default());
    for object in &all {
        assert_eq!(object.0["metadata"]["labels"]["app.kubernetes.io/managed-by"], "zoisite");
        if object.name() == "zoisite:monitoring" && object.kind() == "ClusterRole" {
            let rules = serde_json::json!([
                {"nonResourceURLs": ["/metrics", "/metrics/*"], "verbs": ["get"]},
                {"apiGroups": [""], "resources": ["nodes/metrics"], "verbs": ["get"]},
            ]);
            assert_eq!(object.0["rules"], rules, "monitoring reads metrics and nothing else");
            continue;
        }
        for rule in object.0["rules"].as_array().into_iter().flatten() {
            for verb in rule["verbs"].as_array().unwrap() {
                assert!(verb == "list" || verb == "watch", "{}: {verb}", object.title());
            }
        }
        let role = object.0["roleRef"]["name"].as_str().unwrap_or_default();
        assert!(role != "cluster-admin" && !role.contains("nodeclient"), "{}", object.title());
    }
    let dns = all.iter().find(|object| object.kind() == "Deployment").unwrap();
    let spec = &dns.0["spec"];
    assert_eq!(spec["replicas"], 2);
    let pod = &spec["template"]["spec"];
    assert_eq!(pod["topologySpreadConstraints"][0]["topologyKey"], "kubernetes.io/hostname");
    assert_eq!(pod["containers"][0]["securityContext"]["runAsNonRoot"], true);
    assert_ne!(pod["containers"][0]["imagePullPolicy"], "Always", "no registry is needed");
}

#[test]
fn one_host_that_does_everything_holds_every_part_once() {
    let holdings = made(SINGLE);
    assert_eq!(holdings.hosts.len(), 1);
    let only = &holdings.hosts[0];
    for part in [Part::Etcd, Part::ControlPlane, Part::Nodes] {
        assert!(only.has(part), "{part}");
    }
    assert!(!only.has(Part::LoadBalancer), "the API server is dialled itself");
    let units: Vec<&str> = only.units().map(|unit| unit.name).collect();
    let once: BTreeSet<&str> = units.iter().copied().collect();
    assert_eq!(units.len(), once.len(), "{units:?}");
    assert_eq!(only.node.as_ref().unwrap().api_name, None, "an address needs no name");
}

#[test]
fn the_same_file_gives_the_same_holdings_whatever_the_number_of_cores() {
    let cluster = crate::common::workers(200);
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let known = Known::of(&cluster);
    let make =
        || holdings(&cluster, known.sources(&trust.ledger, "0123456789abcdef"), Part::ALL).unwrap();
    let one = rayon::ThreadPoolBuilder::new().num_threads(1).build().unwrap().install(make);
    let many = make();
    let names = |b: &Holdings| b.hosts.iter().map(|h| h.host.clone()).collect::<Vec<_>>();
    assert_eq!(names(&one), names(&many));
    assert_eq!(names(&one).len(), 200, "in the order of the cluster file");
    for (left, right) in one.hosts.iter().zip(&many.hosts) {
        assert_eq!(left.items, right.items, "{}", left.host);
    }
}

#[test]
fn a_virtual_ip_address_is_held_by_load_balancers_or_else_by_control_planes() {
    let with = |from: &str| changed("[load-balancers]\n", &format!("[load-balancers]\n{from}"));
    let holdings = made(SALTMARSH);
    let holds = |holdings: &Holdings| -> Vec<String> {
        let all = holdings.hosts.iter().filter(|host| host.has(Part::Address));
        all.map(|host| host.host.to_string()).collect()
    };
    assert_eq!(holds(&holdings), ["jetty-a", "jetty-b"]);
    let config = text(&holdings, "jetty-a", "/etc/zoisite/address/keepalived.conf");
    assert!(
        config.contains("    unicast_src_ip 10.77.0.31\n    unicast_peer {\n        10.77.0.32\n")
    );
    assert!(config.contains("        10.77.0.5\n") && config.contains("    nopreempt\n"));
    let id = |config: &str| -> u8 {
        let line = config.lines().find(|line| line.contains("virtual_router_id")).unwrap();
        line.split_whitespace().last().unwrap().parse().unwrap()
    };
    let other = text(&holdings, "jetty-b", "/etc/zoisite/address/keepalived.conf");
    assert_eq!(id(&config), id(&other), "they are one virtual router");
    assert!(id(&config) > 0);
    // The load balancer listens there, whoever has the address, and says whether it could serve.
    let load_balancer = text(&holdings, "jetty-a", "/etc/zoisite/load-balancer/haproxy.cfg");
    assert!(
        load_balancer.contains("bind 10.77.0.31:6443\n    bind 10.77.0.5:6443\n"),
        "{load_balancer}"
    );
    let check = text(&holdings, "jetty-a", "/etc/zoisite/address/can-serve");
    assert!(check.contains("/dev/tcp/127.0.0.1/10262"), "{check}");
    let api = unit(&holdings, "curlew", "api-server");
    assert_eq!(flag(&api, "bind-address"), Some("10.77.0.21"));

    let own = with("router-id = 77\nvrrp = \"multicast\"\n");
    let holdings = made(&own.replace("hosts = [\"jetty-{a,b}\"]\n", ""));
    assert_eq!(holds(&holdings), ["curlew", "plover", "sandpiper"]);
    let config = text(&holdings, "plover", "/etc/zoisite/address/keepalived.conf");
    assert!(config.contains("virtual_router_id 77\n") && !config.contains("unicast"), "{config}");
    let check = text(&holdings, "plover", "/etc/zoisite/address/can-serve");
    assert!(
        check.contains("-connect 10.77.0.22:6443") && check.contains("-verify_hostname plover")
    );
    // An API server answers at the address too.
    assert_eq!(flag(&unit(&holdings, "plover", "api-server"), "bind-address"), Some("0.0.0.0"));

    // Beside an API server at the same port a load balancer has room at the virtual IP alone.
    let shared = changed("hosts = [\"jetty-{a,b}\"]", "hosts = [\"curlew\", \"plover\"]");
    let load_balancer = text(&made(&shared), "curlew", "/etc/zoisite/load-balancer/haproxy.cfg");
    assert!(
        load_balancer.contains("frontend api\n    bind 10.77.0.5:6443\n    # "),
        "{load_balancer}"
    );
}

#[test]
fn load_balancers_forward_ports_to_node_ports_of_every_worker() {
    let line = "[load-balancers]\nforward = { 80 = 30080, 8080 = 30080, 443 = 30443 }\n";
    let holdings = made(&changed("[load-balancers]\n", line));
    let config = text(&holdings, "jetty-a", "/etc/zoisite/load-balancer/haproxy.cfg");
    let front = "\nfrontend forward-80\n    bind 10.77.0.31:80\n    bind 10.77.0.5:80\n    default_backend node-port-30080\n";
    assert!(config.contains(front), "{config}");
    assert!(config.contains("\nfrontend forward-8080\n"), "{config}");
    assert_eq!(config.matches("\nbackend node-port-30080\n").count(), 1, "{config}");
    for worker in ["tern-1 10.77.0.101:30443", "tern-3 10.77.0.103:30443"] {
        assert!(config.contains(&format!("    server {worker}\n")), "{worker}: {config}");
    }
}

#[test]
fn a_worker_more_restarts_nothing_anywhere_else() {
    let before = cluster(SALTMARSH);
    let (three, four) =
        ("\"tern-{1..3}\" = \"10.77.0.{101..103}\"", "\"tern-{1..4}\" = \"10.77.0.{101..104}\"");
    assert!(SALTMARSH.contains(three));
    let after = cluster(&SALTMARSH.replace(three, four));
    let mut trust = Trust::new(&after, at("2026-11-23"));
    trust.issue(&after, at("2026-11-23"));
    let made = |cluster: &Cluster| {
        let known = Known::of(cluster);
        let sources = known.sources(&trust.ledger, "0123456789abcdef");
        holdings(cluster, sources, Part::ALL).unwrap()
    };
    let (before, after) = (made(&before), made(&after));
    let mut compared = 0;
    for host in &before.hosts {
        let now = after.host(&host.host).unwrap();
        // Routes are put beside those that are there.
        let restarts = |file: &&File| file.restarts.is_some() && !file.reloads;
        let files = host.files().filter(|file| !file.path.starts_with("/etc/zoisite/network/"));
        for file in files.filter(restarts) {
            let same = now.files().find(|one| one.path == file.path).unwrap();
            assert_eq!(file.content, same.content, "{}: {}", host.host, file.path);
            compared += 1;
        }
    }
    assert!(compared > 100, "{compared}");
}
