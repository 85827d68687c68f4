//! A cluster across networks that do not reach each other, through the mesh that is laid over them.

use crate::common::lab::{Lab, MEMBERS, etcdctl_on, lab};
use crate::common::waits::until;
use crate::common::{Done, Place};
use serde_json::Value;

/// The lab's cluster file, with something else in the place of a piece of it.
fn with(old: &str, new: &str) -> Place {
    let place = Place::new();
    let file = crate::common::lab::project().join("lab/clusters/mesh.toml");
    let text = std::fs::read_to_string(file).unwrap();
    assert!(text.contains(old), "{old} is not there");
    place.write("zoisite.toml", text.replace(old, new));
    place
}

#[test]
fn a_mesh_that_cannot_be_is_refused_before_anything_is_touched() {
    let good = with("range", "range").run(&["check"]).ended(0);
    assert!(!good.stdout.contains("mesh-"), "{good:?}");
    // Nobody finds the other.
    let hidden = with(", endpoint = \"10.77.3.13:51820\"", "").run(&["check"]).ended(2);
    let _ = hidden.says("neither finds the other").says("egret and ibis").says("endpoint");
    // An address outside, two hosts with one, a range that something else has.
    let outside = with("\"10.99.0.12\"", "\"10.98.0.12\"").run(&["check"]).ended(2);
    let _ = outside.says("egret have addresses that are not in mesh.range").says("login.address");
    let twice = with("\"10.99.0.12\"", "\"10.99.0.11\"").run(&["check"]).ended(2);
    let _ = twice.says("same address, 10.99.0.11");
    let taken = with("\"10.90.0.0/16\"", "\"10.99.0.0/16\"").run(&["check"]).ended(2);
    let _ = taken.says("mesh.range");
    let stable =
        with("virtual-ip = \"10.99.0.5\"", "virtual-ip = \"10.77.1.5\"").run(&["check"]).ended(2);
    let _ = stable.says("10.77.1.5").says("not in mesh.range");
    // A node that would have no way to the API endpoint.
    let some = "virtual-ip = \"10.99.0.5\"\nhosts = [\"heron\", \"egret\"]";
    let _ = with("virtual-ip = \"10.99.0.5\"", some)
        .run(&["check"])
        .ended(2)
        .says("ibis would not reach");
    let unraised = with("range", "range").run(&["mesh", "renew"]).ended(2);
    let _ = unraised.complains("nothing has been raised");
    let bad = with("10.77.9.1:51820", "10.77.9.1").run(&["check"]).ended(2);
    let _ = bad.says("is no endpoint").says("the port is missing");
    let _ = with("[mesh]\nrange = \"10.99.0.0/24\"", "")
        .run(&["check"])
        .ended(2)
        .says("there is no mesh");
}

#[test]
fn rehearsed_hosts_make_their_keys_first_and_meet_before_anything_else() {
    let done = with("range", "range").run(&["raise", "--rehearse"]).ended(0);
    let at = |text: &str| {
        let all = format!("{}{}", done.stderr, done.stdout);
        all.find(text).unwrap_or_else(|| panic!("{text} is not in {done:?}"))
    };
    assert!(at("make their keys for the mesh") < at("quorum"), "{done:?}");
}

/// What `zoisite mesh` tells; its pairs by name.
fn pairs(lab_: &Lab) -> (i32, Vec<(String, bool, String)>) {
    let done: Done = lab_.zoisite(&["mesh", "--json"]);
    let told = done.json();
    let pair = |pair: &Value| {
        let host = |at: usize| pair["hosts"][at].as_str().unwrap().to_owned();
        let fault = pair["fault"]["what"].as_str().unwrap_or_default().to_owned();
        (format!("{} {}", host(0), host(1)), pair["meet"].as_bool().unwrap(), fault)
    };
    (done.status, told["pairs"].as_array().unwrap().iter().map(pair).collect())
}

fn until_all_meet(lab_: &Lab) {
    until("all to meet", 300, || {
        let (status, pairs) = pairs(lab_);
        let all = pairs.len() == 3 && pairs.iter().all(|(_, meet, _)| *meet);
        assert!(status != 0 || all, "{pairs:?}");
        status == 0
    });
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn three_networks_behind_translations_are_one_cluster() {
    let lab_ = Lab::with_programs("mesh", 3);
    // The networks do not reach each other, but for the one in the open.
    for (from, to) in [("heron", "10.77.2.12"), ("ibis", "10.77.2.12"), ("ibis", "10.77.1.11")] {
        let _ = lab_.on(from, &format!("ping -c 1 -W 2 {to}")).ended(1);
    }
    let _ = lab_.on("egret", "ping -c 1 -W 5 10.77.3.13").ended(0);

    // What the mesh will send is tried before there is one, through the routers between.
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("4 of 4 paths").says("30 paths, which");
    let nft = |words: &str| {
        let words = words.split(' ');
        Done::of(std::process::Command::new("nft").args(words)).ended(0)
    };
    let _ = nft("insert rule ip zlab-nat pre ip daddr 10.77.9.1 udp dport 51820 counter drop");
    let _ = lab_
        .zoisite(&["paths", "try"])
        .ended(3)
        .says("egret, ibis → heron, UDP 51820 (mesh): no answer")
        .says("nothing that is sent to 10.77.9.1:51820 arrives at heron");
    let rules = nft("-a list chain ip zlab-nat pre").stdout;
    let ours = rules.lines().find(|line| line.contains("drop")).unwrap();
    let (_, handle) = ours.rsplit_once(' ').unwrap();
    let _ = nft(&format!("delete rule ip zlab-nat pre handle {handle}"));
    let left = "ls /run/zoisite-path.heard /run/systemd/system/zoisite-path-*";
    let _ = lab_.on("heron", left).ended(2);

    let _ = lab_.zoisite(&["raise"]).ended(0).complains("make their keys for the mesh");
    until_all_meet(&lab_);
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("34 paths are tried, all open");
    let _ = lab_.zoisite(&["verify"]).ended(0);
    let again = lab_.zoisite(&["raise"]).ended(0);
    assert!(again.stdout.contains("nothing was done"), "{again:?}");

    // Each key is its host's own, and nowhere else.
    let mut keys = Vec::new();
    for host in MEMBERS {
        let seen =
            lab_.on(host, "stat -c %a /var/lib/zoisite/mesh/key; cat /var/lib/zoisite/mesh/key");
        let seen = seen.ended(0).stdout;
        let (mode, key) = seen.trim().split_once('\n').unwrap();
        assert!(mode == "600" && key.len() == 44, "{host}: {mode}");
        keys.push(key.to_owned());
    }
    let grep = |folder: &str, key: &str| {
        let mut grep = std::process::Command::new("grep");
        Done::of(grep.args(["-rqF", key, folder])).ended(1)
    };
    for key in &keys {
        let _ = grep(lab_.place.folder().to_str().unwrap(), key);
    }
    for host in MEMBERS {
        for key in &keys {
            let _ = lab_.on(host, &format!("grep -rqF -e {key} /etc")).ended(1);
        }
    }
    // A packet of the size that is promised goes through whole, from pod network to pod network too.
    let _ = lab_.on("egret", "ping -c 1 -W 5 -M do -s 1392 10.99.0.11").ended(0);
    let _ = lab_.on("egret", "grep -q '\"mtu\": 1420' /etc/cni/net.d/10-zoisite.conflist").ended(0);
    // Each host forwards the API endpoint itself: no API server of its own, and it is reached all the same.
    let ask = "curl -sk -o /dev/null -w '%{http_code}' https://10.99.0.5:6443/readyz";
    let _ = lab_.on("egret", "systemctl stop zoisite-api-server").ended(0);
    until("the API endpoint to answer on egret", 60, || {
        ["200", "401"].contains(&lab_.on("egret", ask).stdout.trim())
    });
    let _ = lab_.on("egret", "systemctl start zoisite-api-server").ended(0);

    // A partition: who is cut off is reported, the others go on, and all meet again by themselves.
    lab("cut", &["egret"]);
    let (status, cut) = pairs(&lab_);
    assert_eq!(status, 3);
    let meet = |name: &str| cut.iter().find(|(pair, ..)| pair == name).unwrap().1;
    assert!(meet("heron ibis") && !meet("heron egret") && !meet("egret ibis"), "{cut:?}");
    let put = etcdctl_on("heron").replace("10.77.0.", "10.99.0.") + " put /tide high";
    let _ = lab_.on("heron", &put).ended(0);
    lab("fix", &[]);
    until_all_meet(&lab_);
    lab_.until_well();

    let drill = |words: &[&str]| {
        let done = lab_.zoisite(&[&["drill", "--yes", "--json", "--for", "10"], words].concat());
        lab_.until_well();
        done.ended(0).json()
    };
    // Who is cut off still answers its login, which is outside.
    let told = drill(&["control-plane", "ibis"]);
    assert!(told["measured"]["fixed"].as_i64().is_some(), "{told:#}");
    assert_eq!(told["measured"]["lost_writes"], serde_json::json!([]), "{told:#}");
    let told = drill(&["load-balancer", "egret"]);
    let asked = told["measured"]["asked"].as_array().unwrap();
    let refused =
        |one: &&Value| one["ask"] == "dial" && one["from"] == "egret" && !one["fault"].is_null();
    assert!(asked.iter().filter(refused).count() > 5, "its own load balancer: {told:#}");
    let told = drill(&["link", "heron", "ibis"]);
    assert_eq!(told["measured"]["lost_writes"], serde_json::json!([]), "{told:#}");

    // Where both have learnt something that holds no more, they look where the other should be found.
    let rules = "table inet mute { chain in { type filter hook input priority -10; udp dport 51820 drop; }; \
                 chain out { type filter hook output priority -10; udp sport 51820 drop; }; }";
    let _ = lab_.on("heron", &format!("echo \"{rules}\" | nft -f -")).ended(0);
    for (host, other) in [("egret", "heron"), ("heron", "egret")] {
        let key = lab_.on(other, "cat /var/lib/zoisite/mesh/public").ended(0).stdout;
        let lost = format!("wg set zoisite-mesh peer {} endpoint 10.77.9.77:9", key.trim());
        let _ = lab_.on(host, &lost).ended(0);
    }
    let _ = lab_.on("heron", "nft delete table inet mute").ended(0);
    until_all_meet(&lab_);
    let said = lab_.on("egret", "journalctl -q -o cat -u zoisite-mesh-find").ended(0);
    let _ = said.says("heron is silent, and looked for at 10.77.9.1:51820");
    lab_.until_well();

    // One way is blocked: where, is reported.
    let rules = "table inet deaf { chain in { type filter hook input priority -10; udp dport 51820 drop; }; }";
    let deaf = format!("echo '{rules}' | nft -f - && systemctl restart zoisite-mesh");
    let _ = lab_.on("heron", &deaf.replace('\'', "\"")).ended(0);
    let (status, blocked) = pairs(&lab_);
    assert_eq!(status, 3);
    let why = &blocked.iter().find(|(pair, ..)| pair == "heron egret").unwrap().2;
    assert!(why.contains("10.77.9.1:51820") || why.contains("gets no packets"), "{blocked:?}");
    let _ = lab_.on("heron", "nft delete table inet deaf").ended(0);
    until_all_meet(&lab_);
    lab_.until_well();

    // A key that is lost is made again; a raise tells the others, and nobody's mesh restarts but its own.
    let since = |host: &str| {
        lab_.on(host, "systemctl show -p ActiveEnterTimestampMonotonic zoisite-mesh")
            .ended(0)
            .stdout
    };
    let before = ["heron", "ibis"].map(since);
    let lost = "rm /var/lib/zoisite/mesh/key && systemctl restart zoisite-mesh";
    let _ = lab_.on("egret", lost).ended(0);
    let (_, strangers) = pairs(&lab_);
    assert!(strangers.iter().any(|(_, meet, _)| !meet), "{strangers:?}");
    let _ = lab_.zoisite(&["raise"]).ended(0);
    until_all_meet(&lab_);
    assert_eq!(["heron", "ibis"].map(since), before, "they were told by a reload");
    lab_.until_well();

    // Another one for each host that is named, one at a time, and only where all is well.
    let key = |host: &str| lab_.on(host, "cat /var/lib/zoisite/mesh/public").ended(0).stdout;
    let before: Vec<String> = MEMBERS.iter().map(|host| key(host)).collect();
    let ran = MEMBERS.map(since);
    let renew = ["mesh", "renew", "heron", "egret"];
    let _ = lab_.zoisite(&renew).ended(0).says("another key on 2 hosts, and all is well");
    let after: Vec<String> = MEMBERS.iter().map(|host| key(host)).collect();
    let changed: Vec<bool> = before.iter().zip(&after).map(|(was, is)| was != is).collect();
    assert_eq!(changed, [true, true, false]);
    assert_eq!(MEMBERS.map(since), ran, "nobody's mesh restarts for it");
    until_all_meet(&lab_);
    let _ = lab_.on("ibis", "systemctl stop zoisite-etcd").ended(0);
    let _ = lab_.zoisite(&renew).ended(4).complains("S2").complains("ibis");
    assert_eq!(key("heron"), after[0], "refused means untouched");
    let _ = lab_.on("ibis", "systemctl start zoisite-etcd").ended(0);
    lab_.until_well();
}
