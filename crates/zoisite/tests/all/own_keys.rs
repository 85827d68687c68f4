//! Keys that hosts make, from the cluster file to the raised cluster: on simulated hosts. On real ones: `monitoring.rs`.

use std::collections::{BTreeMap, BTreeSet};

use crate::common::{Place, SALTMARSH};
use serde_json::Value;

const ON_HOSTS: &str = "[certificates]\nkeys-made = \"on-hosts\"\n";

fn place(policy: &str) -> Place {
    let place = Place::saltmarsh();
    say(&place, policy);
    place
}

fn say(place: &Place, policy: &str) {
    place.write(
        "zoisite.toml",
        SALTMARSH.replacen("[components]", &format!("{policy}[components]"), 1),
    );
}

/// Keys on simulated hosts, by path: every text of a private key that stands there.
fn keys(place: &Place) -> BTreeMap<String, String> {
    let hosts: Value = serde_json::from_str(&place.read("stage/hosts.json")).unwrap();
    let mut out = BTreeMap::new();
    for (name, host) in hosts["hosts"].as_object().unwrap() {
        for (path, file) in host["files"].as_object().unwrap() {
            let text = file["text"].as_str().unwrap();
            if path.ends_with("/tls.key") && text.contains("PRIVATE KEY") {
                out.insert(format!("{name}:{path}"), text.to_owned());
            }
        }
    }
    out
}

#[test]
fn every_host_makes_its_own_and_no_two_are_the_same() {
    let place = place(ON_HOSTS);
    let _ = place.raise_on_stage(&[]).ended(0);
    let made = keys(&place);
    let distinct: BTreeSet<&String> = made.values().collect();
    assert!(made.len() > 30 && distinct.len() == made.len(), "{}", made.len());
    assert!(!made.keys().any(|path| path.contains("/var/lib/zoisite/keys")), "{:?}", made.keys());
    let _ = place.raise_on_stage(&[]).ended(0).says("nothing differs");
    assert_eq!(keys(&place), made);

    // Names that changed: those alone are made again.
    let named = "profiles.api-server = { names = [\"api.gulls.example\"] }\n";
    say(&place, &format!("{ON_HOSTS}{named}"));
    let _ = place.raise_on_stage(&[]).ended(0);
    let changed: Vec<String> = differing(&made, &keys(&place));
    assert_eq!(changed.len(), 3, "{changed:?}");
    assert!(changed.iter().all(|path| path.ends_with("api-server/server/tls.key")), "{changed:?}");

    // One that is gone is made again by the next raise, and nothing else.
    let before = keys(&place);
    let mut hosts: Value = serde_json::from_str(&place.read("stage/hosts.json")).unwrap();
    let files = hosts["hosts"]["egret"]["files"].as_object_mut().unwrap();
    assert!(files.remove("/etc/zoisite/etcd/peer/tls.key").is_some());
    place.write("stage/hosts.json", hosts.to_string());
    let _ = place.raise_on_stage(&[]).ended(0);
    assert_eq!(differing(&before, &keys(&place)), ["egret:/etc/zoisite/etcd/peer/tls.key"]);
    let _ = place.raise_on_stage(&[]).ended(0).says("nothing differs");

    // Back to keys that are made here.
    say(&place, "");
    let before = keys(&place);
    let _ = place.raise_on_stage(&[]).ended(0);
    assert_eq!(differing(&before, &keys(&place)).len(), before.len());
    let _ = place.raise_on_stage(&[]).ended(0).says("nothing differs");
}

fn differing(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) -> Vec<String> {
    assert!(before.keys().eq(after.keys()));
    before
        .iter()
        .filter(|(path, key)| after[*path] != **key)
        .map(|(path, _)| path.clone())
        .collect()
}

#[test]
fn whatever_is_cut_off_on_the_way_goes_on_with_what_was_made() {
    for seed in 1..=6 {
        let place = place(ON_HOSTS);
        let seed = seed.to_string();
        let mut ended = 1;
        for _ in 0..40 {
            ended = place.raise_on_stage(&["--mishaps", &seed]).status;
            if ended == 0 {
                break;
            }
        }
        let _ = place.raise_on_stage(&[]).ended(0);
        let _ = place.raise_on_stage(&[]).ended(0).says("nothing differs");
        let left: Vec<String> =
            keys(&place).into_keys().filter(|path| path.contains("/var/lib/")).collect();
        assert!(left.is_empty(), "seed {seed}, ended {ended}: {left:?}");
    }
}

#[test]
fn what_cannot_be_made_on_hosts_is_refused_and_what_waits_for_them_is_said() {
    let place = place("[certificates]\nprofiles.person = { keys-made = \"on-hosts\" }\n");
    let _ = place.run(&["check"]).ended(2).says("person").says("--expires");
    say(&place, "[certificates]\nprofiles.kubelet-client = { keys-made = \"here\" }\n");
    let _ = place.run(&["check"]).ended(2).says("the kubelet makes its own key, always");
    say(&place, "[certificates]\nkeys-made = \"in-a-vault\"\n");
    let _ = place.run(&["check"]).ended(2).says("one of here, on-hosts");

    say(&place, ON_HOSTS);
    let _ = place
        .run(&["pki", "issue"])
        .ended(0)
        .says("made the cluster authority")
        .says("keys to be made on hosts. Next: zoisite raise");
    let _ = place
        .run(&["pki", "issue"])
        .ended(0)
        .says("Nothing was issued here")
        .says("keys to be made on hosts");
    let _ = place.run(&["files", "--out", "hosts", "--with-keys"]).ended(0);
    let manifest = place.read("hosts/manifest.json");
    assert!(manifest.contains("the host makes the key of etcd-peer of heron"), "{manifest:.600}");
    assert!(!place.path("hosts/heron/etc/zoisite/etcd/peer").exists());
}
