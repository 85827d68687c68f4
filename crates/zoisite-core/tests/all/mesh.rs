//! The mesh: what each host is told of the others, and why two do not meet, on data alone.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use crate::common::{Known, Trust, at, host};
use zoisite_core::aim::{Arm, Next, Quorum, Real, Records, Scope, next_aim};
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::holdings::{Holdings, HostFacts, Part, holdings, peer_urls};
use zoisite_core::item::Item;
use zoisite_core::mesh::{Peer, Peers, Seen, stranger};
use zoisite_core::pki::{Profile, wanted};

const LAB: &str = include_str!("../../../../lab/clusters/mesh.toml");
/// An office, and hosts elsewhere.
const AWAY: &str = include_str!("../../../../lab/clusters/mesh-away.toml");
const PEERS: &str = "/etc/zoisite/mesh/peers";

fn cluster(text: &str) -> Cluster {
    let reading = read(text);
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

fn keyed(known: &mut Known, names: &[&str]) {
    for name in names {
        let facts = HostFacts { mesh_key: Some(format!("{name}=")), ..HostFacts::default() };
        known.facts.insert(host(name), facts);
    }
}

fn trust(cluster: &Cluster) -> Trust {
    let mut trust = Trust::new(cluster, at("2026-11-28"));
    trust.issue(cluster, at("2026-11-28"));
    trust
}

fn held(cluster: &Cluster, trust: &Trust, known: &Known) -> Holdings {
    holdings(cluster, known.sources(&trust.ledger, "0123456789abcdef"), Part::ALL).unwrap()
}

fn text(all: &Holdings, name: &str, path: &str) -> String {
    let host = all.host(&host(name)).unwrap();
    let file = host.files().find(|file| file.path == path).unwrap();
    file.content.whole_text().unwrap()
}

#[test]
fn each_is_told_of_the_others_whose_keys_are_known_and_who_is_hidden_speaks_first() {
    let cluster = cluster(LAB);
    let trust = trust(&cluster);
    let mut known = Known::of(&cluster);
    keyed(&mut known, &["heron", "egret"]);
    let all = held(&cluster, &trust, &known);
    // Nobody has heard of ibis yet; egret, whom nobody finds, keeps its way to heron open.
    let egret = text(&all, "egret", PEERS);
    assert!(egret.starts_with("ListenPort = 51820\n"), "{egret}");
    assert!(egret.contains("PublicKey = heron=\nAllowedIPs = 10.99.0.11/32, 10.90."), "{egret}");
    assert!(egret.contains("Endpoint = 10.77.9.1:51820\nPersistentKeepalive = 25\n"), "{egret}");
    assert!(!egret.contains("ibis") && !egret.contains("PublicKey = egret"), "{egret}");
    // heron waits until egret speaks.
    let heron = text(&all, "heron", PEERS);
    assert!(heron.contains("PublicKey = egret="), "{heron}");
    assert!(!heron.contains("Endpoint") && !heron.contains("Keepalive"), "{heron}");
    // Whoever becomes known later touches one file of each of the others, which is taken by a reload.
    keyed(&mut known, &["heron", "egret", "ibis"]);
    let later = held(&cluster, &trust, &known);
    for name in ["heron", "egret"] {
        let (before, now) = (all.host(&host(name)).unwrap(), later.host(&host(name)).unwrap());
        let both = before.items.iter().zip(&now.items);
        let changed: Vec<&Item> = both.filter(|(b, n)| b != n).map(|(_, now)| now).collect();
        assert!(
            matches!(&changed[..], [Item::File(file)] if file.path == PEERS && file.reloads),
            "{name}: {} items",
            changed.len()
        );
    }
    // What goes through the mesh has room in it, and the API endpoint is everywhere.
    let pods = text(&later, "egret", "/etc/cni/net.d/10-zoisite.conflist");
    assert!(pods.contains("\"mtu\": 1420"), "{pods}");
    let set = text(&later, "egret", "/etc/zoisite/mesh/set");
    assert!(set.contains("10.99.0.12/24") && set.contains("10.99.0.5/32"), "{set}");
    assert!(later.hosts.iter().all(|host| !host.has(Part::Address)), "nothing moves");
}

#[test]
fn whoever_has_no_key_makes_one_before_anything_else() {
    let cluster = cluster(LAB);
    let wanted = peer_urls(&cluster).into_iter().collect();
    let kept = Records { keyless: [host("ibis")].into(), ..Records::default() };
    let real = Real { quorum: Quorum::Unbegun, ..Real::default() };
    let Next::Stage(aim) = next_aim(&cluster, &wanted, &kept, &real, true) else { panic!() };
    assert_eq!(aim.arm, Arm::Mesh { hosts: [host("ibis")].into() });
    assert!(!aim.arm.is_last() && !aim.arm.changes_membership());
    // Nothing but the machine and its place in the mesh is touched.
    assert_eq!(aim.scope, Scope::Mesh);
    let all = held(&cluster, &trust(&cluster), &Known::of(&cluster)).within(&aim.scope);
    let parts = |part| all.hosts.iter().any(|host| host.has(part));
    assert!(parts(Part::Mesh) && !parts(Part::Etcd) && !parts(Part::Nodes));
    // Members that are to be brought back are dialled through it: it is put right with them.
    let fixes = Scope::Members([host("ibis")].into());
    let all = held(&cluster, &trust(&cluster), &Known::of(&cluster)).within(&fixes);
    assert!(all.hosts.len() == 3 && all.hosts.iter().all(|host| host.has(Part::Mesh)));
    // Then the file.
    let kept = kept.after(&aim.arm);
    let Next::Stage(aim) = next_aim(&cluster, &wanted, &kept, &real, true) else { panic!() };
    assert_eq!(aim.arm, Arm::File);
}

#[test]
fn two_hundred_hosts_know_each_other() {
    let hosts = 1..=200;
    let mut table = String::new();
    for n in hosts {
        let _ = writeln!(
            table,
            "tern-{n} = {{ address = \"10.99.1.{n}\", login = {{ address = \"10.77.1.{n}\" }}, endpoint = \"10.77.1.{n}:51820\" }}"
        );
    }
    let text_ = LAB
        .replace("range = \"10.99.0.0/24\"", "range = \"10.99.0.0/22\"")
        .replace("[mesh]", &format!("{table}\n[mesh]"));
    let cluster = cluster(&text_);
    let mut known = Known::of(&cluster);
    let names: Vec<String> = cluster.hosts.iter().map(|host| host.name.to_string()).collect();
    keyed(&mut known, &names.iter().map(String::as_str).collect::<Vec<_>>());
    let all = held(&cluster, &trust(&cluster), &known);
    assert_eq!(all.hosts.len(), 203);
    for name in ["heron", "tern-1", "tern-200"] {
        let peers = text(&all, name, PEERS);
        assert_eq!(peers.matches("[Peer]").count(), 202, "{name}");
    }
}

/// What a host that knows everybody sees, changed.
fn sees(others: &[&str], change: impl Fn(&mut Peer)) -> Peers {
    let peer = |name: &&str| {
        let mut peer = Peer { key: Some(format!("{name}=")), lost: Some(100), ..Peer::default() };
        change(&mut peer);
        (host(name), peer)
    };
    Ok(Seen { peers: others.iter().map(peer).collect(), ahead: 0 })
}

#[test]
fn why_two_do_not_meet_is_told_by_what_both_count() {
    let cluster = cluster(LAB);
    let mut known = Known::of(&cluster);
    keyed(&mut known, &["heron", "egret", "ibis"]);
    let facts: &BTreeMap<HostName, HostFacts> = &known.facts;
    let (heron, egret) = (host("heron"), host("egret"));
    let told = |one: Option<&Peers>, other: Option<&Peers>| {
        stranger((&cluster, facts), (&heron, one), (&egret, other))
    };
    let silent = |name: &str| sees(&[name], |_| ());
    let (there, back) = (silent("egret"), silent("heron"));
    // They meet as soon as one of them is answered.
    let answered = sees(&["egret"], |peer| peer.lost = Some(25));
    assert_eq!(told(Some(&answered), Some(&back)), None);
    let (why, fix) = told(Some(&there), Some(&back)).unwrap();
    assert!(why.contains("no packets reach heron at its endpoint 10.77.9.1:51820"), "{why}");
    assert!(fix.contains("forward"), "{fix}");
    // heron gets packets of egret, and egret gets none.
    let hears = sees(&["egret"], |peer| peer.answered = true);
    let (why, fix) = told(Some(&hears), Some(&back)).unwrap();
    assert!(why.contains("egret gets no packets from heron"), "{why}");
    assert!(fix.contains("in front of egret"), "{fix}");
    let heard_back = sees(&["heron"], |peer| peer.answered = true);
    let (why, fix) = told(Some(&hears), Some(&heard_back)).unwrap();
    assert!(why.contains("both get packets") && fix.contains("restart"), "{why}: {fix}");
    // What a clock that was set back says counts as old.
    let mut late = back.clone().unwrap();
    late.ahead = -3_600;
    let (why, fix) = told(Some(&there), Some(&Ok(late))).unwrap();
    assert!(why.contains("10.77.9.1:51820"), "{why}");
    assert!(why.contains("the clock of egret is 3600 s behind that of heron"), "{why}");
    assert!(fix.starts_with("set the clocks right first") && fix.contains("forward"), "{fix}");
    // A key that is another one, and a host that was not told.
    let other = sees(&["heron"], |peer| peer.key = Some("old=".into()));
    let (why, fix) = told(Some(&there), Some(&other)).unwrap();
    assert_eq!(why, "egret knows heron by another key");
    assert!(fix.contains("zoisite raise"), "{fix}");
    let nobody = sees(&["heron"], |peer| peer.key = None);
    assert_eq!(told(Some(&there), Some(&nobody)).unwrap().0, "egret does not know heron");
    let out: Peers = Err("there is no interface zoisite-mesh".into());
    let (why, _) = told(Some(&there), Some(&out)).unwrap();
    assert!(why.starts_with("egret is not in the mesh"), "{why}");
    // What nobody could ask is judged by the one side.
    assert!(told(Some(&there), None).is_some());
    // A machine that was copied has the key of the other.
    let mut copied = known.facts.clone();
    copied.get_mut(&host("ibis")).unwrap().mesh_key = Some("egret=".into());
    let sees = (&heron, Some(&there));
    let (why, fix) = stranger((&cluster, &copied), sees, (&egret, Some(&back))).unwrap();
    assert!(why.contains("egret and ibis have the same key"), "{why}");
    assert!(fix.contains("rm /var/lib/zoisite/mesh/key"), "{fix}");
}

/// The office has a second host, and another one is elsewhere, out in the open.
fn away() -> Cluster {
    cluster(&AWAY.replace(
        "[mesh]\n",
        "egret = { address = \"10.77.1.12\", interface = \"host0\", endpoint = \"10.77.9.1:51821\" }\n\
         tern-2 = { address = \"10.99.0.102\", login = { address = \"203.0.113.7\" }, endpoint = \"203.0.113.7:51820\" }\n\n\
         [mesh]\n",
    ).replace("hosts = [\"tern-1\"]", "hosts = [\"tern-*\"]"))
}

#[test]
fn hosts_of_one_network_dial_each_other_and_those_elsewhere_through_the_mesh() {
    let cluster = away();
    let pair = |one, other| cluster.meet_in_mesh(&host(one), &host(other));
    assert!(pair("heron", "tern-1") && pair("tern-1", "tern-2") && pair("tern-2", "egret"));
    assert!(!pair("heron", "egret") && !pair("tern-1", "tern-1"));
    // The API endpoint moves in the office, and each host elsewhere has it for itself.
    assert_eq!(cluster.virtual_ip_holders(), [host("heron")]);
    assert_eq!(cluster.load_balancers.hosts, ["tern-1", "tern-2"].map(host));
    assert_eq!(cluster.shared_load_balancers(), []);
    assert!(cluster.is_depended_on(&host("heron")) && !cluster.is_depended_on(&host("tern-1")));

    let mut known = Known::of(&cluster);
    keyed(&mut known, &["heron", "egret", "tern-1", "tern-2"]);
    let all = held(&cluster, &trust(&cluster), &known);
    let told = |name: &str| {
        let peers = text(&all, name, PEERS);
        let names = peers.lines().filter_map(|line| line.strip_prefix("# ").map(str::to_owned));
        names.collect::<Vec<_>>()
    };
    assert_eq!(told("heron"), ["tern-1", "tern-2"]);
    assert_eq!(told("egret"), ["tern-1", "tern-2"]);
    assert_eq!(told("tern-1"), ["heron", "egret", "tern-2"]);
    let peers = text(&all, "tern-1", PEERS);
    assert!(peers.contains("AllowedIPs = 10.77.1.11/32, 10.90."), "{peers}");
    // Each knows by which way the others go, and from which address.
    let set = |name: &str| text(&all, name, "/etc/zoisite/mesh/set");
    let (office, home) = (set("egret"), set("tern-1"));
    let route = "ip route replace 10.99.0.101 dev \"$dev\" src 10.77.1.12 proto static\n";
    assert!(office.contains(route) && !office.contains("ip address"), "{office}");
    assert!(!office.contains("10.77.1.11"), "{office}");
    assert!(home.contains("ip address replace 10.99.0.101/24"), "{home}");
    assert!(home.contains("ip address replace 10.77.1.5/32"), "{home}");
    assert!(home.contains("ip route replace 10.77.1.11 dev \"$dev\" src 10.99.0.101"), "{home}");
    assert!(!home.contains("route replace 10.99."), "{home}");
    // Certificates name both addresses of who has two.
    let named = |name: &str| {
        let all = wanted(&cluster).into_iter();
        let mut of = all.filter(|one| one.host == Some(host(name)));
        let serving = of.find(|one| one.profile == Profile::KubeletServing).unwrap();
        serving.names.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ")
    };
    assert!(named("tern-2").contains("10.99.0.102") && named("tern-2").contains("203.0.113.7"));
    assert!(!named("egret").contains("10.99."), "{}", named("egret"));
    let holds = |name: &str, part| all.host(&host(name)).unwrap().has(part);
    assert!(holds("heron", Part::Address) && !holds("tern-1", Part::Address));
    assert!(holds("tern-1", Part::LoadBalancer) && !holds("heron", Part::LoadBalancer));
    // Pods take the same way, whatever interface leads to the others of the office.
    let routes = text(&all, "egret", "/etc/zoisite/network/routes");
    let by = |via: &str| routes.lines().find(|line| line.contains(via)).unwrap().to_owned();
    assert!(by("via 10.99.0.101 ").contains("dev zoisite-mesh"), "{routes}");
    assert!(by("via 10.77.1.11 ").contains("dev host0"), "{routes}");
}

#[test]
fn who_leaves_the_file_leaves_the_mesh_and_no_route_leads_through_it() {
    let before = away();
    let mut known = Known::of(&before);
    keyed(&mut known, &["heron", "egret", "tern-1", "tern-2"]);
    let mut after = before.clone();
    after.hosts.retain(|one| ![host("tern-1"), host("egret")].contains(&one.name));
    after.workers.hosts.retain(|one| ![host("tern-1"), host("egret")].contains(one));
    let gone = |name: &str| (host(name), before.host(&host(name)).unwrap().address);
    known.departed.extend([gone("tern-1"), gone("egret")]);
    let all = held(&after, &trust(&after), &known);
    let routes = text(&all, "heron", "/etc/zoisite/network/routes");
    assert!(!routes.contains("10.99.0.101"), "{routes}");
    // Those beside it run on until they are retired.
    assert!(routes.contains("via 10.77.1.12") && routes.contains("via 10.99.0.102"), "{routes}");
    assert!(!text(&all, "heron", PEERS).contains("tern-1"));
    // Without a mesh its list goes, and it with it.
    after.mesh = None;
    after.hosts.retain(|one| one.name == host("heron"));
    let all = held(&after, &trust(&after), &known);
    let heron = all.host(&host("heron")).unwrap();
    assert!(heron.items.iter().any(|item| matches!(item, Item::Absent(one) if one.path == PEERS)));
    assert!(!text(&all, "heron", "/etc/zoisite/network/routes").contains("10.99."));
}

#[test]
fn what_cannot_be_beside_a_mesh_is_found() {
    let good = || AWAY.to_owned();
    let codes = |text: &str| -> Vec<(String, String)> {
        let reading = read(text);
        let mesh = reading.findings.iter().filter(|finding| finding.code.starts_with("mesh-"));
        mesh.map(|finding| (finding.code.to_owned(), finding.message.clone())).collect()
    };
    assert_eq!(codes(&good()), []);
    let one = |old: &str, new: &str, code: &str, message: &str| {
        assert!(AWAY.contains(old), "{old}");
        let found = codes(&AWAY.replace(old, new));
        assert!(found.iter().any(|(c, m)| c == code && m.contains(message)), "{found:?}");
    };
    one(
        "10.77.1.11\", endpoint",
        "10.99.0.11\", endpoint",
        "mesh-address",
        "heron have addresses in mesh.range",
    );
    one("10.99.0.101", "10.77.2.101", "mesh-address", "tern-1 have addresses that are not in");
    one("10.77.9.1:", "10.77.1.11:", "mesh-endpoint", "heron should be found at 10.77.1.11");
    one(
        "virtual-ip = \"10.77.1.5\"",
        "virtual-ip = \"10.99.0.5\"",
        "mesh-address",
        "is in mesh.range",
    );
    one(", endpoint = \"10.77.9.1:51820\"", "", "mesh-strangers", "heron and tern-1");
    one(
        "hosts = [\"tern-1\"]",
        "hosts = [\"heron\"]",
        "mesh-load-balancers",
        "no host outside the mesh",
    );
    one("hosts = [\"tern-1\"]", "hosts = []", "mesh-empty", "is empty");
}
