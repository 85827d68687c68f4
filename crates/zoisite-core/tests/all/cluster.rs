//! The cluster file: what is read from it, what is found wrong with it, and where.

use crate::common::{SALTMARSH, changed, drafted, host, saltmarsh};
use proptest::prelude::*;
use zoisite_core::cluster::{
    ClusterName, Finding, Grade, MADE_UP_NAME, Role, Topology, draft_hosts, read,
};

#[test]
fn the_demo_is_read_in_full_and_nothing_is_found() {
    let reading = read(SALTMARSH);
    assert_eq!(reading.findings, []);
    let cluster = reading.cluster.unwrap();
    assert_eq!(cluster.hosts.len(), 11);
    assert_eq!(cluster.holders(Role::EtcdMember), [host("heron"), host("egret"), host("ibis")]);
    assert_eq!(cluster.holders(Role::LoadBalancer), [host("jetty-a"), host("jetty-b")]);
    assert_eq!(cluster.host(&host("tern-3")).unwrap().address.to_string(), "10.77.0.103");
    assert_eq!(cluster.workers.labels[&host("tern-2")]["shore"], "north");
    assert_eq!(cluster.login_of(&cluster.hosts[0]).user.as_deref(), Some("warden"));
    assert_eq!(cluster.nodes().len(), 6);
    assert_eq!(cluster.domain, "cluster.local");
}

/// One mistake: the change, the code of the finding, the text it must stand under, words of the fix.
const MISTAKES: &[(&str, &str, &str, &str, &str)] = &[
    ("[workers]", "[wrokers]", "unknown-key", "wrokers", "did you mean 'workers'?"),
    ("members =", "memebrs =", "unknown-key", "memebrs", "did you mean 'members'?"),
    ("heron = \"10", "Heron = \"10", "bad-name", "Heron", "a-z"),
    ("\"10.77.0.12\"", "\"10.77.0.312\"", "bad-address", "\"10.77.0.312\"", "IPv4 or IPv6"),
    ("\"10.77.0.12\"", "\"10.77.0.11\"", "duplicate-address", "\"10.77.0.11\"", "of its own"),
    ("\"10.77.0.12\"", "12", "wrong-type", "12", "10.77.0.11"),
    ("\"ibis\"]", "\"ibsi\"]", "unknown-host", "\"ibsi\"", "did you mean 'ibis'?"),
    ("\"ibis\"]", "\"egret\"]", "repeated-host", "\"egret\"", "once"),
    ("\"tern-*\"]", "\"gull-*\"]", "unknown-host", "\"gull-*\"", "add it under [hosts]"),
    ("{1..3}\" =", "{1..4}\" =", "pattern-mismatch", "\"10.77.0.{101..103}\"", "equally long"),
    ("{1..3}\" =", "{3..1}\" =", "bad-pattern", "\"tern-{3..1}\"", "tern-{1..40}"),
    ("10.90.0.0/16", "10.77.0.0/16", "range-overlap", "\"10.77.0.0/16\"", "no machine"),
    ("10.91.0.0/20", "10.90.16.0/20", "range-overlap", "\"10.90.16.0/20\"", "share no address"),
    ("10.90.0.0/16", "10.90.0.0/22", "too-few-pod-subnets", "\"10.90.0.0/22\"", "widen"),
    ("10.91.0.0/20", "10.91.0.1/20", "bad-range", "\"10.91.0.1/20\"", "10.91.0.0/20"),
    ("10.91.0.0/20", "10.92.0.0/7", "bad-range", "\"10.92.0.0/7\"", "10.0.0.0/7"),
    ("example:6443", "example:99999", "bad-address", "\"api.saltmarsh.example:99999\"", "docs"),
    ("\"1.36.3\"", "\"v1.36\"", "bad-version", "\"v1.36\"", "docs"),
    ("\"3.6.16\"", "\"2.3.8\"", "bad-version", "\"2.3.8\"", "docs"),
    (", \"ibis\"]", "]", "two-etcd-members", "\"heron\", \"egret\"", "three"),
    (
        "[load-balancers]",
        "[load-balancers]\nvirtual-ip = \"10.77.0.11\"",
        "duplicate-address",
        "\"10.77.0.11\"",
        "no machine has",
    ),
    (
        "[load-balancers]",
        "[load-balancers]\nvirtual-ip = \"fd77::5\"",
        "virtual-ip-family",
        "\"fd77::5\"",
        "their own network",
    ),
    (
        "endpoint = \"api.saltmarsh.example:6443\"\n\n[load-balancers]\nhosts = [\"jetty-{a,b}\"]",
        "endpoint = \"api.saltmarsh.example:443\"\n\n[load-balancers]\nvirtual-ip = \"10.77.0.5\"",
        "virtual-ip-port",
        "\"10.77.0.5\"",
        "the same port",
    ),
    ("[load-balancers]", "[load-balancers]\nrouter-id = 256", "bad-router-id", "256", "1 to 255"),
    (
        "[load-balancers]",
        "[load-balancers]\nvrrp = \"broadcast\"",
        "bad-vrrp",
        "\"broadcast\"",
        "docs",
    ),
    ("user = \"warden\"", "port = 0", "bad-port", "0", "1 to 65535"),
    ("[etcd]\n", "[etcd]\npeer-port = 2379\n", "port-clash", "2379", "of its own"),
    (
        "[etcd]\n",
        "[etcd]\nsettings = { data-dir = \"/tmp\" }\n",
        "setting-clash",
        "data-dir",
        "take it out",
    ),
    ("[etcd]\n", "[etcd]\nfolder = \"etcd\"\n", "bad-path", "\"etcd\"", "docs"),
    ("name = \"saltmarsh\"", "name = \"Salt Marsh\"", "bad-name", "\"Salt Marsh\"", "docs"),
    ("[network]\n", "[network]\npods =\n", "syntax", "", "TOML"),
];

fn the_one<'a>(findings: &'a [Finding], code: &str, text: &str) -> &'a Finding {
    findings.iter().find(|f| f.code == code).unwrap_or_else(|| {
        let codes: Vec<_> = findings.iter().map(|f| (f.code, &f.message)).collect();
        panic!("no {code} in {codes:?} for\n{text}")
    })
}

#[test]
fn each_mistake_is_found_where_it_stands_with_a_fix() {
    for (from, to, code, place, fix) in MISTAKES {
        let text = changed(from, to);
        let reading = read(&text);
        let finding = the_one(&reading.findings, code, &text);
        assert_eq!(finding.grade, Grade::Blocks, "{code}");
        assert!(reading.cluster.is_none(), "{code} must block");
        let span = finding.span.clone().unwrap_or_else(|| panic!("{code} stands nowhere"));
        assert!(text[span.clone()].contains(place), "{code}: '{}' is not '{place}'", &text[span]);
        assert!(finding.fix.contains(fix), "{code}: {}", finding.fix);
    }
}

#[test]
fn all_mistakes_are_reported_at_once() {
    // Changes that do not touch one another's text.
    let mut text = SALTMARSH.to_owned();
    for (from, to) in [
        ("[load-balancers]", "[balancres]"),
        ("heron = \"10.77.0.11\"", "he_ron = \"10.77.0.11\""),
        ("\"10.77.0.12\"", "\"10.77.0\""),
        ("\"tern-*\"]", "\"gull-*\"]"),
        ("10.91.0.0/20", "10.90.0.0/20"),
        ("\"1.36.3\"", "\"1.36\""),
    ] {
        assert!(text.contains(from));
        text = text.replacen(from, to, 1);
    }
    let reading = read(&text);
    for code in
        ["unknown-key", "bad-name", "bad-address", "unknown-host", "range-overlap", "bad-version"]
    {
        the_one(&reading.findings, code, &text);
    }
    let starts: Vec<_> =
        reading.findings.iter().filter_map(|f| f.span.as_ref()).map(|s| s.start).collect();
    assert!(starts.is_sorted(), "in the order of the file");
}

#[test]
fn warnings_do_not_block() {
    let cases = [
        (", \"ibis\"]", ", \"ibis\", \"curlew\"]", "even-etcd-members"),
        ("\"heron\", \"egret\", \"ibis\"]", "\"heron\"]", "single-point-of-failure"),
        ("hosts = [\"jetty-{a,b}\"]", "hosts = [\"jetty-a\"]", "idle-host"),
        ("hosts = [\"jetty-{a,b}\"]", "hosts = [\"jetty-a\"]", "single-point-of-failure"),
        ("[workers]", "[workers]\nsigner = \"in-cluster\"", "signer-in-cluster"),
    ];
    for (from, to, code) in cases {
        let text = changed(from, to);
        let reading = read(&text);
        assert_eq!(the_one(&reading.findings, code, &text).grade, Grade::Warns);
        assert!(reading.cluster.is_some(), "{code}");
    }
}

#[test]
fn missing_tables_and_keys_are_named() {
    let reading = read("[cluster]\nname = \"x\"\n");
    let messages: Vec<_> = reading.findings.iter().map(|f| f.message.as_str()).collect();
    for what in
        ["no hosts", "[etcd]", "[control-plane]", "[network]", "cluster.kubernetes", "cluster.etcd"]
    {
        assert!(messages.iter().any(|m| m.contains(what)), "{what} in {messages:?}");
    }
    assert_eq!(read("").findings[0].code, "empty");
    assert_eq!(read("# nothing yet\n").findings[0].code, "empty");
}

#[test]
fn tolerances_follow_the_topology() {
    let tolerance = |text: &str| Topology::of(&read(text).cluster.unwrap()).tolerance;
    let demo = tolerance(SALTMARSH);
    assert_eq!(
        (demo.load_balancers, demo.api, demo.etcd),
        (Some(1), 1, 1),
        "the API stands on etcd"
    );
    let five = tolerance(&changed("\"ibis\"]", "\"ibis\", \"curlew\", \"plover\"]"));
    assert_eq!(five.etcd, 2);
    let four = tolerance(&changed("\"ibis\"]", "\"ibis\", \"curlew\"]"));
    assert_eq!(four.etcd, 1, "an even count adds no tolerance");
    let own =
        changed("[load-balancers]\nhosts = [\"jetty-{a,b}\"]\nvirtual-ip = \"10.77.0.5\"\n", "");
    assert_eq!(tolerance(&own).load_balancers, None, "the site's own");
    let held = changed("[load-balancers]\nhosts = [\"jetty-{a,b}\"]\n", "[load-balancers]\n");
    assert_eq!(tolerance(&held).load_balancers, Some(1), "control planes hold the address");
}

#[test]
fn the_cheapest_next_step_prefers_hosts_that_are_there() {
    let topology = Topology::of(&saltmarsh());
    assert_eq!(topology.tolerance.whole, 1);
    let next = topology.next.unwrap();
    assert_eq!(next, "2 more etcd members (curlew, plover) and 1 more load balancer (heron)");
}

#[test]
fn a_layer_survives_no_more_than_what_it_stands_on() {
    let name = ClusterName::new("saltmarsh").unwrap();
    let of = |hosts: &str| {
        let hosts = draft_hosts(&name, &[hosts.into()]).unwrap();
        Topology::of(&read(&drafted(&name, &hosts)).cluster.unwrap())
    };
    // Three hosts that do everything: two of them are the quorum of etcd, and the API stands on that.
    let three = of("10.77.0.11-13");
    assert_eq!((three.tolerance.api, three.tolerance.etcd, three.tolerance.whole), (1, 1, 0));
    assert_eq!(three.next.as_deref(), Some("an API endpoint that no single host owns"));
    let hosts = draft_hosts(&name, &["10.77.0.11-13".into()]).unwrap();
    let named = drafted(&name, &hosts).replace("10.77.0.11:6443", "api.saltmarsh.example:6443");
    let three = Topology::of(&read(&named).cluster.unwrap());
    assert_eq!((three.tolerance.api, three.tolerance.etcd, three.tolerance.whole), (1, 1, 1));
    let next = three.next.unwrap();
    assert_eq!(next, "2 more etcd members, with 2 new machines", "one change is offered, not two");
    let one = of("10.77.0.11");
    assert_eq!(one.tolerance.whole, 0);
    assert!(one.next.unwrap().contains("an API endpoint that no single host owns"));
}

#[test]
fn versions_settings_and_labels_that_cannot_be_served_are_refused_with_what_can() {
    let cases = [
        ("\"1.36.3\"", "\"1.33.0\"", "bad-version", "raises Kubernetes 1.34, 1.35, 1.36"),
        ("\"1.36.3\"", "\"1.37.0\"", "bad-version", "raises Kubernetes 1.34, 1.35, 1.36"),
        ("\"3.6.16\"", "\"3.7.0\"", "bad-version", "raises etcd 3.5, 3.6"),
        (
            "[etcd]\n",
            "[etcd]\nsettings = { force-new-cluster = true }\n",
            "setting-begins-again",
            "begins another cluster",
        ),
        (
            "[etcd]\n",
            "[etcd]\nsettings = { discovery-srv = \"x\" }\n",
            "setting-begins-again",
            "begins another cluster",
        ),
        ("shore = \"north\"", "\"-shore\" = \"north\"", "bad-label", "a letter or digit first"),
        ("shore = \"north\"", "shore = \"north side\"", "bad-label", "'north side' is no value"),
        ("shore = \"north\"", "\"Salt.Marsh/shore\" = \"north\"", "bad-label", "no DNS name"),
        (
            "labels.tern-3",
            "taints.tern-3 = [\"a b=c:NoSchedule\"]\nlabels.tern-3",
            "bad-taint",
            "'a b' is no key",
        ),
        ("curlew = \"10.77.0.21\"", "curlew = \"fd00::21\"", "family-mismatch", "no IPv6 range"),
    ];
    for (from, to, code, label) in cases {
        let reading = read(&changed(from, to));
        let mut blocks = reading.of(Grade::Blocks);
        let found = blocks.any(|f| f.code == code && f.label.contains(label));
        assert!(found, "{to}: {:?}", reading.findings);
    }
}

#[test]
fn a_stable_name_in_nobodys_zone_is_warned_of() {
    let made_up = read(&changed("api.saltmarsh.example", "api.saltmarsh.internal"));
    assert!(made_up.of(Grade::Warns).any(|f| f.code == MADE_UP_NAME), "{:?}", made_up.findings);
    assert!(!read(SALTMARSH).findings.iter().any(|f| f.code == MADE_UP_NAME));
}

#[test]
fn words_of_the_file_bring_nothing_to_a_terminal_that_it_would_obey() {
    let reading = read(&changed("\"saltmarsh\"", "\"salt\\u001b]0;owned\\u0007\""));
    for finding in &reading.findings {
        let text = format!("{}{}{}", finding.message, finding.label, finding.fix);
        assert!(!text.contains(['\u{1b}', '\u{7}']), "{text:?}");
    }
    assert!(reading.findings.iter().any(|f| f.message.contains("owned")));
    // Nor without end.
    let reading = read(&changed("\"saltmarsh\"", &format!("\"{}\"", "a".repeat(100_000))));
    assert!(reading.findings.iter().all(|f| f.message.len() < 2_000));
}

#[test]
fn a_new_file_passes_check_as_written_at_every_size() {
    let name = ClusterName::new("saltmarsh").unwrap();
    for n in 1..=40 {
        let hosts = draft_hosts(&name, &[format!("10.90.0.{{1..{n}}}")]).unwrap();
        let reading = read(&drafted(&name, &hosts));
        let blocking: Vec<_> = reading.of(Grade::Blocks).collect();
        assert!(blocking.is_empty(), "{n} hosts: {blocking:?}");
        let cluster = reading.cluster.unwrap();
        assert_eq!(cluster.etcd.members.len(), if n < 3 { 1 } else { 3 }, "{n} hosts");
        assert!(!cluster.network.pods[0].contains(&cluster.hosts[0].address));
    }
    let v6 = draft_hosts(&name, &["fd00::{1..3}".into()]).unwrap();
    assert!(read(&drafted(&name, &v6)).cluster.is_some());
}

#[test]
fn a_new_file_shows_samples_of_its_own_network_and_of_nobody_elses() {
    let name = ClusterName::new("reef").unwrap();
    let hosts = draft_hosts(&name, &["10.9.8.1-5".into()]).unwrap();
    let text = drafted(&name, &hosts);
    for other in ["altmarsh", "10.77.", "heron", "jetty", "tern"] {
        assert!(!text.contains(other), "{other}: {text}");
    }
    for own in ["# name-servers = [\"10.9.8.2\"", "api.reef.example:6443", "taints.\"reef-5\""] {
        assert!(text.contains(own), "{own}: {text}");
    }
}

#[test]
fn addresses_that_no_host_can_have_are_refused_by_name() {
    let name = ClusterName::new("saltmarsh").unwrap();
    let words = [
        "10.77.0.0/28",
        "heron=10.77.0.11/24",
        "fd77::/64",
        "10.77.0.256",
        "0.0.0.0",
        "::1",
        "::2",
    ];
    let error = draft_hosts(&name, &words.map(ToOwned::to_owned)).unwrap_err();
    assert_eq!(
        error.0,
        [
            "10.77.0.0/28 is a whole network: name the addresses of its hosts",
            "'heron=10.77.0.11/24': an address stands without a prefix length: 10.77.0.11",
            "fd77::/64 is a whole network: name the addresses of its hosts",
            "'10.77.0.256' is no IPv4 or IPv6 address",
            "'0.0.0.0': no host can be reached there",
            "::1: a loopback address reaches no other host",
        ]
    );
}

#[test]
fn words_for_a_new_file_are_all_judged() {
    let name = ClusterName::new("saltmarsh").unwrap();
    let words =
        ["10.77.0.11-13", "heron=10.77.0.20", "10.77.0.12", "10.77.0.999", "a_b=10.77.0.30"];
    let error = draft_hosts(&name, &words.map(ToOwned::to_owned)).unwrap_err();
    assert_eq!(error.0.len(), 3, "{error}");
    let good = draft_hosts(&name, &["10.77.0.11-13".into(), "heron=10.77.0.20".into()]).unwrap();
    let names: Vec<_> = good.iter().map(|h| h.name.as_str()).collect();
    assert_eq!(names, ["saltmarsh-1", "saltmarsh-2", "saltmarsh-3", "heron"]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// A half-written file never panics, and always says what is wrong with it.
    #[test]
    fn a_cut_file_is_findings_or_a_cluster(cut in 0..SALTMARSH.len()) {
        if SALTMARSH.is_char_boundary(cut) {
            let text = &SALTMARSH[..cut];
            let reading = read(text);
            prop_assert!(reading.cluster.is_some() || reading.of(Grade::Blocks).count() > 0);
            for finding in &reading.findings {
                prop_assert!(!finding.fix.is_empty(), "{finding:?}");
                if let Some(span) = &finding.span {
                    prop_assert!(span.start <= span.end && span.end <= text.len(), "{finding:?}");
                }
            }
        }
    }

    /// Nor does a file with a byte changed anywhere.
    #[test]
    fn a_spoilt_file_is_findings_or_a_cluster(place in 0..SALTMARSH.len(), with in "[ -~\n]") {
        let mut text = SALTMARSH.to_owned();
        if text.is_char_boundary(place) && text.is_char_boundary(place + 1) {
            text.replace_range(place..=place, &with);
            let reading = read(&text);
            prop_assert!(reading.cluster.is_some() || reading.of(Grade::Blocks).count() > 0);
        }
    }
}

#[test]
fn what_load_balancers_forward_is_free_there_and_leads_to_node_ports() {
    let with = |forward: &str| {
        let line = format!("[load-balancers]\nforward = {forward}\n");
        read(&changed("[load-balancers]\n", &line))
    };
    let good = with("{ 80 = 30080, 443 = 30443 }").cluster.unwrap();
    assert_eq!(good.load_balancers.forward, [(80, 30_080), (443, 30_443)].into());
    for (forward, says) in [
        ("{ 6443 = 30080 }", "port 6443 is the cluster's own"),
        ("{ 22 = 30080 }", "port 22 is the cluster's own"),
        ("{ 10262 = 30080 }", "port 10262 is the cluster's own"),
        ("{ 80 = 8080 }", "8080 is no node port"),
        ("{ http = 30080 }", "'http' forwards nothing"),
        ("{ 80 = \"30080\" }", "'80' forwards nothing"),
        ("{ 0 = 30080 }", "'0' forwards nothing"),
        ("{ 80 = 99999 }", "'80' forwards nothing"),
    ] {
        let reading = with(forward);
        assert!(reading.cluster.is_none(), "{forward}");
        let told: Vec<_> = reading.findings.iter().map(|f| f.message.as_str()).collect();
        assert!(told.iter().any(|message| message.contains(says)), "{forward}: {told:?}");
    }
    // Elsewhere node ports may be others.
    let text = changed("[load-balancers]\n", "[load-balancers]\nforward = { 80 = 8080 }\n")
        .replace(
            "[control-plane]\n",
            "[control-plane]\napi-server = { service-node-port-range = \"8000-9000\" }\n",
        );
    assert!(read(&text).cluster.is_some());
    let text = changed("hosts = [\"jetty-{a,b}\"]\n", "forward = { 80 = 30080 }\n");
    let reading = read(&text);
    assert!(reading.findings.iter().any(|f| f.message.contains("there are no load balancers")));
}
