//! Every certificate renewed while somebody writes and watches; and all of them ended while nobody was there.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::print_stderr, reason = "what was counted is worth reading")]

mod common;

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use common::lab::Lab;
use common::load;
use jiff::Timestamp;

/// Serial number and end of what hosts hold, by profile and host.
fn held(lab: &Lab) -> BTreeMap<(String, String), (String, Timestamp)> {
    let listed = lab.zoisite(&["pki", "list", "--json"]).ended(0).json();
    let text = |one: &serde_json::Value, key: &str| Some(one[key].as_str()?.to_owned());
    listed["certificates"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|one| {
            let which = (text(one, "profile")?, text(one, "host")?);
            Some((which, (text(one, "serial")?, text(one, "not_after")?.parse().unwrap())))
        })
        .collect()
}

/// The cluster file, with this table for certificates.
fn policy(lab: &Lab, plain: &str, table: &str) {
    lab.place.write("zoisite.toml", format!("{plain}\n[certificates]\n{table}\n"));
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn all_is_renewed_under_load_and_comes_back_after_all_of_it_has_ended() {
    let lab = Lab::with_programs("floating", 3);
    let plain = lab.place.read("zoisite.toml");
    // Kubelets ask anew by themselves while they still can; nobody signs it here.
    policy(&lab, &plain, "backdated = \"1m\"\nprofiles.kubelet-client = { life = \"6m\" }");
    let _ = lab.zoisite(&["raise"]).ended(0);
    let before = held(&lab);
    let _ = lab.glass();
    let load = load::under_load(&lab, || {
        let _ = lab.zoisite(&["pki", "issue", "--again"]).ended(0);
        let killed = lab.raises_killed_after([2_000, 5_000]);
        eprintln!("renewal: killed {killed} of 2");
        let _ = lab.zoisite(&["raise"]).ended(0);
    });
    eprintln!("renewal: {load:?}");
    assert!(load.worked > 20 && load.failed == 0, "{load:?}");
    let after = held(&lab);
    for (which, (serial, _)) in &before {
        let renewed = &after[which].0 != serial;
        assert_eq!(renewed, which.0 != "kubelet-client", "{which:?}");
    }
    // What lies on hosts and what is shown there is what was issued last.
    let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);

    // Everything is to end in five minutes, and nobody looks after it.
    policy(
        &lab,
        &plain,
        "backdated = \"1m\"\nlife = \"5m\"\nprofiles.kubelet-client = { life = \"6m\" }",
    );
    let _ = lab.zoisite(&["check"]).ended(0).says("short-life");
    let _ = lab.zoisite(&["pki", "issue", "--again"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    let last = held(&lab).values().map(|(_, end)| *end).max().unwrap();
    let waits = Instant::now() + Duration::from_secs(900);
    while Timestamp::now() < last {
        assert!(Instant::now() < waits, "until {last}");
        std::thread::sleep(Duration::from_secs(5));
    }
    std::thread::sleep(Duration::from_secs(10));
    let expiring = lab.zoisite(&["pki", "list", "--expiring", "1d"]).ended(3);
    let _ = expiring.says("etcd-peer");
    let down = lab.zoisite(&["status"]);
    assert_ne!(down.status, 0, "{down:?}");

    // The same command as always mends it.
    policy(&lab, &plain, "");
    let began = Instant::now();
    let _ = lab.zoisite(&["raise"]).ended(0);
    eprintln!("after the end of everything: raised in {:?}", began.elapsed());
    lab.until_all_serve(3);
    lab.must_converge();
    let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
    let _ = lab.zoisite(&["verify"]).ended(0).says("the cluster works");
}
