//! The key by which secrets are encrypted in etcd is replaced while secrets are read and written, and programs killed.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::common::Place;
use crate::common::clusters::THREE;
use crate::common::lab::{Lab, lab};
use crate::common::waits::BETWEEN_LOOKS;

#[test]
fn before_anything_stands_there_is_nothing_to_replace() {
    let place = Place::saltmarsh();
    let _ = place.run(&["encryption"]).ended(0).says("No key yet");
    let _ = place.run(&["encryption", "rotate"]).ended(2).complains("nothing has been raised");
    assert!(!place.path(".zoisite").exists());
    let _ = place.run(&["pki", "issue"]).ended(0);
    let _ = place.run(&["encryption"]).ended(0).says("first").says("encrypts");
    let _ = place.run(&["encryption", "rotate"]).ended(2).complains("no quorum was proven yet");
    let keys = place.run(&["encryption", "--json"]).ended(0).json();
    assert_eq!((keys["keys"].as_array().unwrap().len(), keys["next"].is_null()), (1, true));
}

/// How many secrets etcd holds, by what each value begins with.
fn in_etcd(lab: &Lab, beginning: &str) -> usize {
    let values = format!(
        "get --prefix /registry/secrets/ --print-value-only | grep -ac {beginning} || true"
    );
    lab.etcdctl("heron", &values).ended(0).stdout.trim().parse().unwrap()
}

/// Each turn starts a client: there is a processor for others too.
const PAUSE: Duration = Duration::from_millis(500);

/// What was read and written while a key was replaced.
#[derive(Debug, Default)]
struct Used {
    read: usize,
    written: Vec<String>,
    away: usize,
}

/// Reads a secret through each API server in turn and writes more of them, until it is told to stop. An API server that
/// restarts may refuse; none may answer that it cannot read.
fn used(lab: &Lab, stop: &AtomicBool) -> Used {
    let mut used = Used::default();
    let config = lab.glass();
    let servers = ["10.77.0.11", "10.77.0.12", "10.77.0.13"];
    for (turn, server) in servers.iter().cycle().enumerate() {
        if stop.load(Ordering::Relaxed) {
            break;
        }
        let server = format!("https://{server}:6443");
        let words =
            ["get", "secret", "gate", "-o", "jsonpath={.data.word}", "--request-timeout=20s"];
        let done = lab.kubectl(&config, &server, &words);
        match done.status {
            // "reeds", as Kubernetes tells it.
            0 => assert_eq!(done.stdout, "cmVlZHM="),
            _ => {
                let unread = ["no matching", "decrypt", "transform", "Internal error", "NotFound"];
                assert!(!unread.iter().any(|why| done.stderr.contains(why)), "{done:?}");
                used.away += 1;
                // It comes back in a while: asking all the time would take it the processor.
                std::thread::sleep(BETWEEN_LOOKS);
                continue;
            }
        }
        used.read += 1;
        std::thread::sleep(PAUSE);
        let name = format!("nest-{turn}");
        let words = ["create", "secret", "generic", &name, "--from-literal=heron=3"];
        if lab.kubectl(&config, &server, &words).status == 0 {
            used.written.push(name);
        }
    }
    used
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_secret_can_be_read_at_every_instant() {
    let lab_ = Lab::standing(&THREE);
    let words = ["create", "secret", "generic", "gate", "--from-literal=word=reeds"];
    let _ = lab_.admin(&words).ended(0);
    // More than a page of them.
    let many: String = (0..150)
        .map(|n| format!("{{apiVersion: v1, kind: Secret, metadata: {{name: reed-{n}}}}}\n---\n"))
        .collect();
    lab_.place.write("reeds.yaml", many);
    let _ = lab_.admin(&["create", "-f", lab_.place.path("reeds.yaml").to_str().unwrap()]).ended(0);
    let took = lab_.zoisite(&["snapshot", "take", "--json"]).ended(0).json();
    let before = took["snapshot"]["name"].as_str().unwrap().to_owned();
    assert!(in_etcd(&lab_, "k8s:enc:secretbox:v1:first:") > 150);

    // One API server cannot be brought to it: nothing of it begins, and why is reported.
    lab("off", &["ibis"]);
    let held = lab_.zoisite(&["encryption", "rotate"]).ended(1);
    let _ = held.complains("the API server of ibis could not be brought to it");
    assert_eq!(in_etcd(&lab_, "k8s:enc:secretbox:v1:key-2:"), 0);
    lab("on", &["ibis"]);
    let _ = lab_.zoisite(&["status"]).ended(3).says("is being replaced, and that is not done");
    let _ = lab_.zoisite(&["sequence"]).says("accept key-2").says("written again by key-2");

    let stop = AtomicBool::new(false);
    let used = std::thread::scope(|scope| {
        let using = scope.spawn(|| used(&lab_, &stop));
        // The stage that was begun goes on, whichever command comes next.
        lab_.killed_at(&["encryption", "rotate"], &["\"step\":\"heron/control-plane-"]);
        lab_.killed_at(
            &["raise"],
            &["\"step\":\"egret/control-plane-", "\"step\":\"ibis/control-plane-"],
        );
        lab_.killed_at(&["raise"], &["written again by then \"is\":\"begun\""]);
        let done = lab_.zoisite(&["raise"]);
        stop.store(true, Ordering::Relaxed);
        let used = using.join().unwrap();
        let _ = done.ended(0);
        used
    });
    eprintln!(
        "read {}, written {}, an API server was away {} times",
        used.read,
        used.written.len(),
        used.away
    );
    assert!(used.read > 20 && !used.written.is_empty(), "{used:?}");
    lab_.until_well();
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let keys = lab_.zoisite(&["encryption", "--json"]).ended(0).json();
    assert!(keys["next"].is_null(), "{keys}");
    let name = keys["keys"][0]["name"].as_str().unwrap().to_owned();
    let by_it = format!("k8s:enc:secretbox:v1:{name}:");
    let all =
        lab_.etcdctl("heron", "get --prefix /registry/secrets/ --keys-only | grep -c registry");
    let all: usize = all.ended(0).stdout.trim().parse().unwrap();
    assert_eq!(in_etcd(&lab_, &by_it), all);
    assert_eq!(in_etcd(&lab_, "k8s:enc:secretbox:v1:first:"), 0);
    let listed = lab_.admin(&["get", "secrets", "-o", "name"]).ended(0).stdout;
    for name in &used.written {
        assert!(listed.lines().any(|line| line == format!("secret/{name}")), "{name} is lost");
    }
    for host in ["heron", "egret", "ibis"] {
        let file = lab_.on(host, "grep -c name: /etc/zoisite/api-server/encryption.yaml");
        assert_eq!(file.ended(0).stdout.trim(), "1", "{host}");
    }

    // A snapshot of before is read by the key of its time, and written again by the one in use.
    let _ = lab_.zoisite(&["snapshot", "check", &before]).ended(0);
    let _ = lab_.zoisite(&["snapshot", "restore", &before, "--yes"]).ended(0);
    let gate = lab_.admin(&["get", "secret", "gate", "-o", "jsonpath={.data.word}"]);
    assert_eq!(gate.ended(0).stdout, "cmVlZHM=");
    assert_eq!(in_etcd(&lab_, "k8s:enc:secretbox:v1:first:"), 0);
    assert!(in_etcd(&lab_, &by_it) > 150);
    let _ = lab_.admin(&["delete", "secrets", "--all", "-n", "default"]).ended(0);
}
