//! The mesh: what each host is told of the others, and why two do not meet, on data alone.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::collections::BTreeMap;
use std::fmt::Write as _;

use common::{Known, Trust, at, host};
use zoisite_core::aim::{Arm, Next, Quorum, Real, Records, Scope, next_aim};
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::holdings::{Holdings, HostFacts, Part, holdings, peer_urls};
use zoisite_core::item::Item;
use zoisite_core::mesh::{Peer, Peers, stranger};

const LAB: &str = include_str!("../../../lab/clusters/mesh.toml");
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
    // What goes through the mesh has room in it, and the stable address is everywhere.
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
    let Next::Leg(aim) = next_aim(&cluster, &wanted, &kept, &real, true) else { panic!() };
    assert_eq!(aim.arm, Arm::Mesh { hosts: [host("ibis")].into() });
    assert!(!aim.arm.is_last() && !aim.arm.changes_membership());
    // Nothing but the machine and its place in the mesh is touched.
    assert_eq!(aim.scope, Scope::Mesh);
    let all = held(&cluster, &trust(&cluster), &Known::of(&cluster)).within(&aim.scope);
    let parts = |part| all.hosts.iter().any(|host| host.has(part));
    assert!(parts(Part::Mesh) && !parts(Part::Etcd) && !parts(Part::Nodes));
    // Members that are to be brought back are dialled through it: it is put right with them.
    let mends = Scope::Members([host("ibis")].into());
    let all = held(&cluster, &trust(&cluster), &Known::of(&cluster)).within(&mends);
    assert!(all.hosts.len() == 3 && all.hosts.iter().all(|host| host.has(Part::Mesh)));
    // Then the file.
    let kept = kept.after(&aim.arm);
    let Next::Leg(aim) = next_aim(&cluster, &wanted, &kept, &real, true) else { panic!() };
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
    Ok(others.iter().map(peer).collect())
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
    let (why, mend) = told(Some(&there), Some(&back)).unwrap();
    assert!(why.contains("nothing comes through at 10.77.9.1:51820"), "{why}");
    assert!(mend.contains("forward"), "{mend}");
    // egret is heard by heron, and hears nothing itself.
    let hears = sees(&["egret"], |peer| peer.heard = true);
    let (why, mend) = told(Some(&hears), Some(&back)).unwrap();
    assert!(why.contains("egret hears nothing of heron"), "{why}");
    assert!(mend.contains("in front of egret"), "{mend}");
    let heard_back = sees(&["heron"], |peer| peer.heard = true);
    let (why, mend) = told(Some(&hears), Some(&heard_back)).unwrap();
    assert!(why.contains("both hear each other") && mend.contains("clocks"), "{why}: {mend}");
    // A key that is another one, and a host that was not told.
    let other = sees(&["heron"], |peer| peer.key = Some("old=".into()));
    let (why, mend) = told(Some(&there), Some(&other)).unwrap();
    assert_eq!(why, "egret knows heron by another key");
    assert!(mend.contains("zoisite raise"), "{mend}");
    let nobody = sees(&["heron"], |peer| peer.key = None);
    assert_eq!(told(Some(&there), Some(&nobody)).unwrap().0, "egret was not told of heron");
    let out: Peers = Err("there is no interface zoisite-mesh".into());
    let (why, _) = told(Some(&there), Some(&out)).unwrap();
    assert!(why.starts_with("egret is not in the mesh"), "{why}");
    // What nobody could ask is judged by the one side.
    assert!(told(Some(&there), None).is_some());
}
