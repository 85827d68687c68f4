//! Every certificate renewed while somebody writes and watches; and all of them ended while nobody was there.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use crate::common::clusters::THREE;
use crate::common::lab::{Lab, MEMBERS, lab};
use crate::common::load;
use crate::common::waits::{patience, until};
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
fn all_is_renewed_while_somebody_writes_and_runs_are_killed() {
    let lab = Lab::standing(&THREE);
    let before = held(&lab);
    let _ = lab.glass();
    let load = load::under_load(&lab, || {
        let _ = lab.zoisite(&["pki", "issue", "--reissue"]).ended(0);
        lab.killed_at(&["raise"], &["\"step\":\"heron/etcd-", "\"step\":\"egret/control-plane-"]);
        let _ = lab.zoisite(&["raise"]).ended(0);
    });
    load.must_be_served("renewal");
    let after = held(&lab);
    for (which, (serial, _)) in &before {
        let renewed = &after[which].0 != serial;
        // A kubelet asks for its own, when it is time.
        assert_eq!(renewed, which.0 != "kubelet-client", "{which:?}");
    }
    // What lies on hosts and what is shown there is what was issued last.
    let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
}

/// Hosts that were off for weeks: what they hold ended meanwhile. It was issued by the program at a time of its own.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn what_ended_while_everybody_was_away_is_renewed_by_a_raise() {
    let lab_ = Lab::standing(&THREE);
    let plain = lab_.place.read("zoisite.toml");
    policy(&lab_, &plain, "backdated = \"1m\"\nlife = \"10d\"");
    let _ = lab_.faked("-20d", &["pki", "issue", "--reissue"]).ended(0);
    let files = lab_.place.path("ended");
    let out = files.to_str().unwrap();
    let _ = lab_.faked("-20d", &["files", "--out", out, "--with-keys"]).ended(0);
    let put: usize = MEMBERS.iter().map(|host| put_over(&lab_, &files, host)).sum();
    assert!(put > 30, "{put} certificates and keys");
    std::fs::remove_dir_all(&files).unwrap();
    lab_.place.write("zoisite.toml", &plain);
    // What runs has read what was there before.
    for host in MEMBERS {
        lab("off", &[host, "clean"]);
    }
    for host in MEMBERS {
        lab("on", &[host]);
    }
    let expiring = lab_.zoisite(&["pki", "list", "--expiring", "1d"]).ended(3);
    let _ = expiring.says("etcd-peer");
    let down = lab_.zoisite(&["status"]);
    assert_ne!(down.status, 0, "{down:?}");
    // No member serves a client before it has a leader: what they show each other has ended.
    let ended = "journalctl -u zoisite-etcd -o cat | grep -q \"certificate has expired\"";
    until("etcd on heron to refuse what the others show", 60, || {
        lab_.on("heron", ended).status == 0
    });
    let _ = lab_.etcdctl("heron", "endpoint health").ended(1);

    // The same command as always fixes it.
    let _ = lab_.zoisite(&["raise", "--timeout", &patience(300)]).ended(0);
    lab_.until_all_serve(3);
    lab_.must_converge();
    let _ = lab_.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
    let _ = lab_.zoisite(&["verify"]).ended(0).says("the cluster works");
}

/// Writes certificates and keys over those that a host has, owner and mode kept; how many.
fn put_over(lab: &Lab, files: &Path, host: &str) -> usize {
    let mut tar = Command::new("tar");
    let packed = tar.arg("-cC").arg(files.join(host)).arg(".").output().unwrap();
    assert!(packed.status.success(), "{packed:?}");
    let over = "set -e; mkdir /run/ended; cd /run/ended; tar x; \
        find . -name \"tls.*\" -type f | while read -r file; do cat \"$file\" >\"/$file\"; echo \"$file\"; done; \
        rm -r /run/ended";
    lab.on_with(host, over, packed.stdout).ended(0).stdout.lines().count()
}
