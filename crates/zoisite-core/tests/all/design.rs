//! What a design is worth, worked out from the cluster file alone: losses, addresses, sizes, and what to enter into
//! the site's own servers.

use std::collections::BTreeMap;

use crate::common::{SALTMARSH, changed, drafted, host, saltmarsh, two_families};
use zoisite_core::cluster::{
    Cluster, ClusterName, Fewest, Finding, Grade, Loss, Lost, NetworkFilesForm, RangeUse, Role,
    Topology, address_plan, draft_hosts, inventory, losses, network_files, read, sizes,
};

fn row<'a>(rows: &'a [Loss], name: &str) -> &'a Loss {
    let of = |row: &&Loss| matches!(&row.lost, Lost::OneOf(hosts) if hosts.contains(&host(name)));
    rows.iter().find(of).unwrap()
}

fn of(text: &str) -> Cluster {
    let reading = read(text);
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

#[test]
fn each_kind_of_host_is_a_row_and_so_is_each_kind_of_pair_that_is_too_much() {
    let rows = losses(&saltmarsh());
    assert_eq!(rows.len(), 6, "{rows:#?}");
    assert!(rows[..4].iter().all(|row| row.outage.is_none()), "{rows:#?}");
    let jetty = row(&rows, "jetty-a");
    assert_eq!(jetty.load_balancers.map(|left| (left.left, left.of)), Some((1, 2)));
    assert_eq!(row(&rows, "heron").members.left, 2);
    let members = ["heron", "egret", "ibis"].map(host).to_vec();
    assert_eq!(rows[4].lost, Lost::TwoOf(members));
    assert_eq!(rows[4].outage.as_deref(), Some("no quorum (1 of 3 members left)"));
    assert_eq!(rows[5].lost, Lost::TwoOf(["jetty-a", "jetty-b"].map(host).to_vec()));
    assert_eq!(rows[5].outage.as_deref(), Some("no load balancer"));
}

#[test]
fn a_host_with_two_layers_is_one_loss_of_both() {
    let text = changed(
        "members = [\"heron\", \"egret\", \"ibis\"]",
        "members = [\"curlew\", \"egret\", \"ibis\"]",
    );
    let text =
        text.replace("hosts = [\"curlew\", \"plover\", \"sandpiper\"]", "hosts = [\"curlew\"]");
    let rows = losses(&of(&text));
    let curlew = row(&rows, "curlew");
    assert_eq!((curlew.api_servers.left, curlew.members.left), (0, 2));
    assert_eq!(curlew.outage.as_deref(), Some("no API server"));
    // An API endpoint that is a host's own goes with it, and with no other.
    let text = changed("api.saltmarsh.example:6443", "10.77.0.31:6443");
    let rows = losses(&of(&text));
    assert!(row(&rows, "jetty-a").outage.as_ref().unwrap().contains("jetty-a's own address"));
    assert_eq!(row(&rows, "jetty-b").outage, None);
}

#[test]
fn places_are_lost_whole() {
    let mut text = SALTMARSH.to_owned();
    for (name, address, site, rack) in
        [("heron", "11", "north", "a"), ("egret", "12", "north", "b"), ("ibis", "13", "south", "a")]
    {
        text = text.replace(
            &format!("{name} = \"10.77.0.{address}\""),
            &format!("{name} = {{ address = \"10.77.0.{address}\", site = \"{site}\", rack = \"{rack}\" }}"),
        );
    }
    let rows = losses(&of(&text));
    let lost = |wanted: Lost| rows.iter().find(|row| row.lost == wanted).unwrap();
    assert!(lost(Lost::Site("north".into())).outage.is_some());
    assert_eq!(lost(Lost::Site("south".into())).outage, None);
    // Racks of the same name at different sites are different racks.
    assert_eq!(lost(Lost::Rack("a, north".into())).members.left, 2);
    assert_eq!(lost(Lost::Rack("a, south".into())).members.left, 2);
}

#[test]
fn the_table_is_as_short_and_as_quick_for_thousands_of_workers() {
    let text = changed(
        "\"tern-{1..3}\" = \"10.77.0.{101..103}\"",
        "\"tern-{1..4000}\" = \"10.{100..119}.1.{1..200}\"",
    );
    let text = text
        .replace("labels.", "# labels.")
        .replace("10.90.0.0/16", "10.128.0.0/9")
        .replace("10.91.0.0/20", "10.80.0.0/20");
    let rows = losses(&of(&text));
    assert_eq!(rows.len(), 6);
    assert_eq!(row(&rows, "tern-4000").workers.left, 3_999);
}

#[test]
fn the_fewest_machines_and_the_cheapest_change_follow_the_wanted_losses() {
    let two = Fewest::for_losses(2);
    assert_eq!((two.members, two.control_plane, two.load_balancers), (5, 3, 3));
    assert_eq!((two.shared, two.apart), (5, 11));
    let cluster = saltmarsh();
    let topology = Topology::of(&cluster);
    assert_eq!(topology.to_survive(&cluster, 1), None);
    assert_eq!(topology.to_survive(&cluster, 2), topology.next);
}

fn the<'a>(findings: &'a [Finding], code: &str) -> &'a Finding {
    findings.iter().find(|f| f.code == code).unwrap_or_else(|| panic!("{code} in {findings:#?}"))
}

#[test]
fn ranges_that_meet_anything_else_are_found_with_what_they_meet() {
    let more = |line: &str| changed("[network]\n", &format!("[network]\n{line}\n"));
    let blocks = [
        (more("reserved = [\"10.90.3.0/24\"]"), "overlaps network.reserved 10.90.3.0/24"),
        (more("service-addresses = [\"10.91.2.0/28\"]"), "overlaps network.services"),
        (
            more("service-addresses = [\"10.77.0.0/28\"]"),
            "holds the host heron 10.77.0.11 and 2 more",
        ),
        (
            more("name-servers = [\"10.90.0.2\", \"10.77.0.3\"]"),
            "holds network.name-servers 10.90.0.2",
        ),
        (changed("10.90.0.0/16", "169.254.0.0/16"), "169.254.0.0/16: link-local"),
        (
            changed(
                "heron = \"10.77.0.11\"",
                "heron = { address = \"10.77.0.11\", other-addresses = [\"10.90.0.7\"] }",
            ),
            "holds the host heron 10.90.0.7",
        ),
    ];
    for (text, wanted) in blocks {
        let reading = read(&text);
        let found = the(&reading.findings, "range-overlap");
        assert!(found.message.contains(wanted), "{wanted}: {found:?}");
        assert!(found.grade == Grade::Blocks && found.span.is_some(), "{found:?}");
        assert!(reading.cluster.is_none());
    }
    for (range, wanted) in [
        ("172.17.0.0/16", "container runtimes"),
        ("192.168.0.0/16", "home routers"),
        ("100.64.0.0/10", "RFC 6598"),
    ] {
        let reading = read(&changed("10.90.0.0/16", range));
        let warned = reading.findings.iter().any(|f| {
            f.code == "usual-range" && f.grade == Grade::Warns && f.message.contains(wanted)
        });
        assert!(warned && reading.cluster.is_some(), "{range}: {:?}", reading.findings);
    }
    // The site's own network may be taken, and a part of it kept.
    let text = more("reserved = [\"10.77.0.0/16\"]\nservice-addresses = [\"10.77.0.192/27\"]");
    assert_eq!(read(&text).findings, []);
}

#[test]
fn one_resolver_is_a_single_point_of_failure_where_the_api_endpoint_is_a_name() {
    let one = |text: String| {
        let findings = read(&text).findings;
        findings.iter().any(|f| f.message.starts_with("one resolver"))
    };
    let with = |list: &str| changed("[network]\n", &format!("[network]\nname-servers = {list}\n"));
    assert!(one(with("[\"10.77.0.2\"]")));
    assert!(!one(with("[\"10.77.0.2\", \"10.77.0.3\"]")));
    let by_address = with("[\"10.77.0.2\"]").replace("api.saltmarsh.example", "10.77.0.31");
    assert!(!one(by_address));
}

#[test]
fn pods_of_two_families_need_hosts_of_two_families() {
    let cluster = of(&two_families());
    assert_eq!(cluster.hosts[0].second.unwrap().to_string(), "fd77::11");
    let plan = address_plan(&cluster);
    let pods: Vec<_> = plan.iter().filter(|p| matches!(p.what, RangeUse::Pods { .. })).collect();
    assert_eq!(pods[1].what, RangeUse::Pods { prefix: 64, fit: Some(65_536), used: 6 });
    assert!(
        plan.iter().any(|p| p.what == RangeUse::Hosts(11) && p.range.to_string() == "fd77::/64")
    );
    let lame = two_families().replace("[\"10.77.0.22\", \"fd77::22\"]", "\"10.77.0.22\"");
    let found = read(&lame).findings;
    let found = the(&found, "family-mismatch");
    assert!(found.message.contains("fd5a:90::/48 would not reach plover"), "{found:?}");
    assert!(found.fix.contains("address = ["), "{found:?}");
}

#[test]
fn what_a_host_has_beside_its_address_is_judged() {
    let with = |table: &str| changed("heron = \"10.77.0.11\"", &format!("heron = {{ {table} }}"));
    for (table, code, words) in [
        ("address = [\"10.77.0.11\", \"10.77.0.9\"]", "bad-address", "two addresses of a family"),
        ("address = \"10.77.0.11\", mac = \"02:00:5e\"", "bad-address", "no hardware address"),
        (
            "address = \"10.77.0.11\", mac = \"01:00:5e:10:00:11\"",
            "bad-address",
            "no hardware address",
        ),
        ("address = \"10.77.0.11\", interface = \"an interface\"", "bad-name", "interface"),
        ("address = \"10.77.0.11\", site = \"\"", "bad-name", "site"),
        (
            "address = \"10.77.0.11\", other-addresses = [\"10.77.0.12\"]",
            "duplicate-address",
            "egret",
        ),
    ] {
        let findings = read(&with(table)).findings;
        let found = the(&findings, code);
        assert!(found.message.contains(words), "{table}: {found:?}");
    }
    let cluster = of(&with(
        "address = \"10.77.0.11\", mac = \"02-00-5E-10-00-11\", interface = \"enp2s0\", rack = \"a\"",
    ));
    let heron = &cluster.hosts[0];
    assert_eq!(heron.mac.unwrap().to_string(), "02:00:5e:10:00:11");
    assert_eq!(
        (heron.interface.as_deref(), heron.place.rack.as_deref()),
        (Some("enp2s0"), Some("a"))
    );
}

#[test]
fn sizes_follow_from_what_a_host_holds_and_from_how_much_there_is() {
    let all = sizes(&saltmarsh());
    let of = |name: &str| all.iter().find(|size| size.hosts.contains(&host(name))).unwrap();
    assert_eq!(of("heron").hosts.len(), 3);
    assert!(of("curlew").need.memory_mib > of("tern-1").need.memory_mib);
    assert!(of("tern-1").need.memory_mib > of("jetty-a").need.memory_mib);
    for size in &all {
        let sum: u64 = size.parts.iter().map(|(_, need)| need.memory_mib).sum();
        assert_eq!(sum, size.need.memory_mib);
    }
    // A larger database needs more disk; more nodes need larger API servers.
    let larger = changed("[etcd]\n", "[etcd]\nsettings = { quota-backend-bytes = 8589934592 }\n");
    let larger = sizes(&read(&larger).cluster.unwrap());
    assert_eq!(larger[0].need.disk_mib - of("heron").need.disk_mib, 2 * (8_192 - 4_096));
    let fuller = changed("[workers]\n", "[workers]\nkubelet = { maxPods = 250 }\n");
    let fuller = sizes(&read(&fuller).cluster.unwrap());
    assert!(fuller[1].need.memory_mib > of("curlew").need.memory_mib);
}

fn written(cluster: &Cluster, form: NetworkFilesForm) -> String {
    let mut subnets = BTreeMap::new();
    zoisite_core::holdings::assign_subnets(cluster, &mut subnets);
    network_files(cluster, &subnets, form).unwrap().text
}

#[test]
fn names_go_both_ways_and_the_stable_name_leads_to_the_virtual_ip_address() {
    let cluster =
        of(&two_families().replace("fd77::11\"]", "fd77::11\"], mac = \"02:00:5e:10:00:11\""));
    let hosts = written(&cluster, NetworkFilesForm::Hosts);
    assert!(hosts.contains("\nfd77::103 tern-3.saltmarsh.example tern-3\n"), "{hosts}");
    assert!(hosts.contains("\n10.77.0.5 api.saltmarsh.example\n"), "{hosts}");
    let text = two_families().replace("virtual-ip = \"10.77.0.5\"\n", "");
    let without = written(&of(&text), NetworkFilesForm::Hosts);
    let both = "\n10.77.0.31 api.saltmarsh.example\n10.77.0.32 api.saltmarsh.example\n";
    assert!(without.contains(both), "{without}");
    let zone = written(&cluster, NetworkFilesForm::Zone);
    assert!(zone.contains("$ORIGIN saltmarsh.example.\n"), "{zone}");
    assert!(zone.contains("\nheron IN A 10.77.0.11\nheron IN AAAA fd77::11\n"), "{zone}");
    assert!(zone.contains("\napi IN A 10.77.0.5\n"), "{zone}");
    let reverse = written(&cluster, NetworkFilesForm::Reverse);
    assert!(reverse.contains("$ORIGIN 0.77.10.in-addr.arpa.\n"), "{reverse}");
    assert!(reverse.contains("\n103 IN PTR tern-3.saltmarsh.example.\n"), "{reverse}");
    let v6 = "$ORIGIN 0.0.0.0.0.0.0.0.0.0.0.0.7.7.d.f.ip6.arpa.\n";
    assert!(reverse.contains(v6), "{reverse}");
    assert!(
        reverse.contains("\n1.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0 IN PTR heron.saltmarsh.example.\n")
    );
    let csv = written(&cluster, NetworkFilesForm::Reservations);
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines[..2], ["name,mac,address", "heron,02:00:5e:10:00:11,10.77.0.11"]);
    let left =
        network_files(&cluster, &BTreeMap::new(), NetworkFilesForm::Reservations).unwrap().left_out;
    assert!(left.len() == 1 && left[0].starts_with("egret and 9 more"), "{left:?}");
    let dnsmasq = written(&cluster, NetworkFilesForm::Dnsmasq);
    assert!(
        dnsmasq.contains("\ndhcp-host=02:00:5e:10:00:11,10.77.0.11,[fd77::11],heron\n"),
        "{dnsmasq}"
    );
    let routes = written(&cluster, NetworkFilesForm::Routes);
    assert!(routes.contains("\nroute replace 10.90.3.0/24 via 10.77.0.101\n"), "{routes}");
    assert!(routes.contains("\nroute replace fd5a:90:0:3::/64 via fd77::101\n"), "{routes}");
}

#[test]
fn a_zone_that_nobody_named_is_asked_for() {
    let cluster = of(&changed("api.saltmarsh.example", "10.77.0.31"));
    let why = network_files(&cluster, &BTreeMap::new(), NetworkFilesForm::Zone).unwrap_err();
    assert!(why.contains("network.zone"), "{why}");
    assert!(written(&cluster, NetworkFilesForm::Hosts).contains("10.77.0.11 heron\n"));
}

#[test]
fn a_table_of_hosts_becomes_a_cluster_file_with_what_it_says() {
    let table = "\u{feff}Name;Address;MAC;Role;Site;Floor\r\n\
                 heron;10.77.0.11 fd77::11;02:00:5e:10:00:11;etcd+control-plane;north hide;2\r\n\
                 # the boat house\r\n\
                 egret;10.77.0.12;;load-balancer;\"the \"\"old\"\" one\";1\r\n\
                 ibis;10.77.0.13;;;;\r\n";
    let read_table = inventory(table.as_bytes()).unwrap();
    assert_eq!(read_table.ignored, ["floor"]);
    let heron = &read_table.hosts[0];
    assert_eq!(
        heron.roles.iter().copied().collect::<Vec<_>>(),
        [Role::EtcdMember, Role::ControlPlane]
    );
    let cluster = ClusterName::new("saltmarsh").unwrap();
    let text = drafted(&cluster, &read_table.hosts);
    let made = of(&text);
    assert_eq!(made.holders(Role::LoadBalancer), [host("egret")]);
    assert_eq!(made.holders(Role::Worker), [host("ibis")], "who has no role works");
    assert_eq!(made.hosts[1].place.site.as_deref(), Some("the \"old\" one"));
    assert_eq!(made.hosts[0].second.unwrap().to_string(), "fd77::11");
    // The same in the other encoding of spreadsheets.
    let wide: Vec<u8> = table.encode_utf16().flat_map(u16::to_le_bytes).collect();
    assert_eq!(inventory(&wide).unwrap(), read_table);
}

#[test]
fn everything_wrong_with_a_table_is_said_at_once_with_its_line() {
    let wrong = |octets: &[u8]| inventory(octets).unwrap_err().0;
    let table = b"name,address,mac,role\n\
                  heron,10.77.0.11,,etcd\n\
                  egret,10.77.0.11,,\n\
                  heron,10.77.0.300,02:00,ectd\n\
                  sand piper,,,\n";
    let all = wrong(table);
    let wanted = [
        "line 3: 10.77.0.11 stands on line 2 too",
        "line 4: heron stands on line 2 too",
        "line 4: '10.77.0.300' is no IPv4 or IPv6 address",
        "line 4: '02:00' is no hardware address",
        "line 4: there is no role 'ectd': did you mean 'etcd'?",
        "line 5: 'sand piper' cannot name a host",
        "line 5: it has no address",
    ];
    for wanted in wanted {
        assert!(all.iter().any(|text| text.starts_with(wanted)), "{wanted} in {all:#?}");
    }
    assert_eq!(all.len(), wanted.len(), "{all:#?}");
    for (octets, wanted) in [
        (
            &b"host,ip\nheron,10.77.0.11\n"[..],
            "no column 'name' and no column 'address'; its first line has: host, ip",
        ),
        (b"", "it is empty"),
        (b"name,address\n", "no host below them"),
        (b"name,address\nh\xe9ron,10.77.0.11\n", "line 2 is not in UTF-8"),
        (b"PK\x03\x04\x00\x00name,address", "zero octet"),
    ] {
        let all = wrong(octets);
        assert!(all.len() == 1 && all[0].contains(wanted), "{wanted}: {all:?}");
    }
}

#[test]
fn a_draft_for_five_hosts_is_dialled_where_something_answers() {
    let cluster = ClusterName::new("saltmarsh").unwrap();
    for n in [2, 5, 9] {
        let hosts = draft_hosts(&cluster, &[format!("10.77.0.{{11..{}}}", 10 + n)]).unwrap();
        let made = of(&drafted(&cluster, &hosts));
        let stable = made.api_ip().unwrap();
        let owner = made.hosts.iter().find(|host| host.address == stable).unwrap();
        let answers = match made.load_balancers.hosts.as_slice() {
            [] => &made.control_plane.hosts,
            load_balancers => load_balancers,
        };
        assert!(answers.contains(&owner.name), "{n} hosts");
    }
}
