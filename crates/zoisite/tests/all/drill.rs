//! Losing something on purpose: on simulated hosts, and on real ones.

use crate::common::Place;
use crate::common::clusters::THREE;
use crate::common::lab::{Lab, MEMBERS, lab, project};
use crate::common::waits::until;

#[test]
fn what_can_be_lost_is_listed_and_every_kind_is_rehearsed() {
    let place = Place::saltmarsh();
    let listed = place.run(&["drill"]).ended(0).says("one of jetty-a, jetty-b");
    let all = [
        ("holder", "the virtual IP is held by jetty-b"),
        ("load-balancer", "the load balancer of jetty-a is stopped for 20 s"),
        ("api-server", "the API server of curlew is stopped for 20 s"),
        ("member", "all is as before"),
        ("leader", "leads the etcd members"),
        ("control-plane", "node curlew is not Ready"),
        ("worker", "pods are ready on tern-2, tern-3"),
    ];
    for (kind, says) in all {
        assert!(listed.stdout.contains(kind), "{listed:?}");
        let _ = place.run(&["drill", kind, "--rehearse"]).ended(0).says(says).says("✓");
    }
    let link = ["drill", "link", "egret", "heron", "--rehearse", "--for", "5"];
    let _ = place.run(&link).ended(0).says("egret gets no packets from heron for 5 s");
    assert!(!place.path(".zoisite").exists(), "nothing is kept of a rehearsal");
    let told = place.run(&["drill", "holder", "--rehearse", "--json", "--svg", "h.svg"]);
    let told = told.ended(0).json();
    // The longest gap is one of those that were measured, and lies within the drill.
    let sums = told["sums"].as_array().unwrap();
    let gap = |ask: &str, of: &str| sum(&told, ask, of);
    assert!(sums.len() >= 3 && gap("dial", "failed") > 0, "{told:#}");
    assert!(gap("dial", "failed") < gap("dial", "asked"), "{told:#}");
    let lasted = told["measured"]["fixed"].as_i64().unwrap();
    assert!((1..lasted).contains(&gap("dial", "longest_gap")), "{told:#}");
    assert!(place.read("h.svg").contains("jetty-a is cut off"));
}

#[test]
fn in_a_mesh_each_host_asks_its_own_load_balancer_and_nobody_holds_the_address() {
    let place = Place::new();
    place.write("zoisite.toml", std::fs::read(project().join("lab/clusters/mesh.toml")).unwrap());
    let _ = place.run(&["drill"]).ended(0).says("none here");
    let holder = place.run(&["drill", "holder", "--rehearse"]).ended(2);
    let _ = holder.complains("in a mesh every host has the API endpoint itself");
    let failed = |kind: &str| {
        let told = place.run(&["drill", kind, "egret", "--rehearse", "--json"]).ended(0).json();
        let changes = told["measured"]["changes"].as_array().unwrap();
        assert!(changes.iter().all(|change| change["of"] != "holder"), "{told:#}");
        let dialled = &told["measured"]["asked"][0]["from"];
        (dialled.as_str().unwrap().to_owned(), sum(&told, "dial", "failed"))
    };
    // For as long as it is stopped, four times a second.
    let (from, lost) = failed("load-balancer");
    assert!(from == "egret" && (70..90).contains(&lost), "{from} {lost}");
    let (from, lost) = failed("control-plane");
    assert!(from != "egret" && lost == 0, "{from} {lost}");
}

#[test]
fn a_limit_that_is_passed_ends_with_status_1_and_bad_wishes_with_2() {
    let place = Place::saltmarsh();
    let file = place.read("zoisite.toml");
    place.write("zoisite.toml", format!("{file}\n[drill]\nlongest-gap = \"2s\"\n"));
    let _ = place
        .run(&["drill", "holder", "--rehearse"])
        .ended(1)
        .complains("dial: ")
        .complains(" without an answer, and [drill] longest-gap is 2.0 s");
    place.write("zoisite.toml", format!("{file}\n[drill]\nlongest-gap = \"1m\"\n"));
    let _ = place.run(&["drill", "holder", "--rehearse"]).ended(0);
    place.write("zoisite.toml", &file);
    let _ = place.run(&["drill", "wings"]).ended(2);
    let _ = place.run(&["drill", "holder", "goose", "--rehearse"]).ended(2).complains("goose");
    let _ = place.run(&["drill", "worker", "heron", "--rehearse"]).ended(2).complains("tern-1");
    let _ = place.run(&["drill", "holder", "--for", "1"]).ended(2);
    let _ = place.run(&["drill", "holder"]).ended(2).complains("nothing has been raised");
    assert!(!place.path(".zoisite").exists());
}

/// Whether the host still bears something of a drill.
fn bears(lab_: &Lab, host: &str) -> bool {
    let asks = "ls -d /run/zoisite-drill 2>/dev/null; nft list tables | grep zoisite_drill; true";
    !lab_.on(host, asks).ended(0).stdout.trim().is_empty()
}

fn sum(told: &serde_json::Value, ask: &str, of: &str) -> i64 {
    let sums = told["sums"].as_array().unwrap();
    let sum = sums.iter().find(|sum| sum["ask"] == ask).unwrap_or_else(|| panic!("{told:#}"));
    sum[of].as_i64().unwrap()
}

/// A member that stops lets the calls end that API servers made there: nobody is answered with what became of them.
fn ends_calls(told: &serde_json::Value) {
    let asked = told["measured"]["asked"].as_array().unwrap();
    let cut = |one: &&serde_json::Value| {
        one["fault"].as_str().is_some_and(|why| why.contains("rpc error"))
    };
    assert!(!asked.iter().any(|one| cut(&one)), "{told:#}");
}

/// Three hosts that do everything: each kind of loss, measured.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn every_loss_is_measured_and_given_back() {
    let lab_ = Lab::standing(&THREE);
    let drill = |args: &[&str]| {
        let done = lab_.zoisite(&[&["drill", "--yes", "--json"], args].concat()).ended(0);
        lab_.until_well();
        done.json()
    };

    // The holder is cut off: another one has the address, and answers again.
    let told = drill(&["holder", "--svg", "holder.svg"]);
    assert!(lab_.place.read("holder.svg").contains("is cut off for 20 s"));
    for ask in ["dial", "read", "write"] {
        assert!(sum(&told, ask, "asked") > 30, "{told:#}");
        assert!(sum(&told, ask, "longest_gap") > 0, "it was lost, and found again: {told:#}");
    }
    let lost = told["measured"]["drill"]["host"].as_str().unwrap().to_owned();
    let changes = told["measured"]["changes"].as_array().unwrap();
    let held: Vec<&str> = changes
        .iter()
        .filter(|change| change["of"] == "holder")
        .map(|change| change["is"].as_str().unwrap())
        .collect();
    assert_eq!(held.first(), Some(&lost.as_str()), "{told:#}");
    assert!(held.iter().any(|is| *is != lost && MEMBERS.contains(is)), "{told:#}");
    assert_eq!(told["measured"]["lost_writes"], serde_json::json!([]), "{told:#}");
    assert!(told["expected"].as_array().is_some_and(|sums| !sums.is_empty()), "{told:#}");

    let told = drill(&["leader", "--for", "10"]);
    let led = told["measured"]["changes"].as_array().unwrap();
    assert!(led.iter().filter(|change| change["of"] == "leader").count() > 1, "{told:#}");
    ends_calls(&told);
    ends_calls(&drill(&["member", "--for", "10"]));
    // One that takes longer to stop than it is to be lost is given back once it has stopped.
    let more = "/run/systemd/system/zoisite-api-server.service.d";
    let slow = format!(
        "mkdir -p {more}; printf \"[Service]\\nExecStop=/bin/sleep 12\\n\" >{more}/slow.conf; systemctl daemon-reload"
    );
    let _ = lab_.on("egret", &slow).ended(0);
    let words = ["drill", "--yes", "--json", "api-server", "egret", "--for", "10"];
    let _ = lab_.zoisite(&words).ended(0).json();
    let _ = lab_.on("egret", &format!("rm -r {more}; systemctl daemon-reload")).ended(0);
    lab_.until_well();
    let _ = drill(&["link", "heron", "ibis", "--for", "10"]);
    let told = drill(&["control-plane", "ibis", "--by", "reboot"]);
    assert!(told["measured"]["fixed"].as_i64().is_some(), "{told:#}");
    // The worker's pods run elsewhere.
    let told = drill(&["worker", "heron", "--for", "110"]);
    let changes = told["measured"]["changes"].as_array().unwrap();
    let node = serde_json::json!({"node": "heron"});
    let missed = |c: &&serde_json::Value| c["of"] == node && c["is"] == "not Ready";
    assert!(changes.iter().any(|c| missed(&c)), "{told:#}");
    let left = |c: &&serde_json::Value| {
        let is = c["is"].as_str().unwrap();
        c["of"] == "pods"
            && c["at"].as_i64().unwrap() > 0
            && !is.is_empty()
            && !is.contains("heron")
    };
    assert!(changes.iter().any(|c| left(&c)), "{told:#}");
    assert!(sum(&told, "service", "asked") > 30, "{told:#}");

    // Once more: compared with the time before.
    let told = drill(&["member", "--for", "10"]);
    assert!(told["before"].as_array().is_some(), "{told:#}");
    let _ = lab_.zoisite(&["drill"]).ended(0).says("on ibis, ");
    let _ = lab_.zoisite(&["history"]).ended(0).says("without an answer");
    assert!(MEMBERS.iter().all(|host| !bears(&lab_, host)));
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn the_host_fixes_it_when_the_program_is_gone_and_nothing_is_lost_twice() {
    let lab_ = Lab::standing(&THREE);
    let begin = |args: &[&str]| lab_.begin(&[&["drill", "--yes"], args].concat());
    // Killed in the midst of it, with a connection that dies too.
    let drill = begin(&["api-server", "egret", "--for", "40"]);
    until("egret to bear the drill", 180, || bears(&lab_, "egret"));
    let is = || lab_.on("egret", "systemctl is-active zoisite-api-server").stdout;
    until("its API server to be lost", 180, || is().trim() == "inactive");
    drill.kill();
    // Not while something is lost already (rule S2), nor without anybody's word.
    let refused = lab_.zoisite(&["drill", "member", "--yes"]).ended(4);
    let _ = refused.complains("something is lost already").complains("egret");
    assert!(bears(&lab_, "egret"), "nobody else ends it");
    until("the host to fix it", 180, || !bears(&lab_, "egret"));
    lab_.until_well();
    let _ = lab_.zoisite(&["drill", "member"]).ended(4).complains("you did not agree");
    assert!(MEMBERS.iter().all(|host| !bears(&lab_, host)));

    // Asked to stop: it is given back at once, long before its time.
    let drill = begin(&["api-server", "egret", "--for", "900"]);
    until("egret to bear the drill", 180, || bears(&lab_, "egret"));
    drill.interrupt();
    // Its own time is a quarter of an hour.
    let (_, said) = drill.end();
    assert!(said.contains("what is lost is given back first"), "{said}");
    assert!(!bears(&lab_, "egret"), "{said}");
    lab_.until_well();

    // A host that is off is something that is lost.
    lab("off", &["ibis"]);
    let _ = lab_.zoisite(&["drill", "leader", "--yes"]).ended(4).complains("ibis");
    lab("on", &["ibis"]);
    lab_.until_well();
}
