//! A snapshot is put back: into a quorum that serves, while programs are killed, and where most of it is gone for good.

use crate::common::Place;
use crate::common::clusters::THREE;
use crate::common::lab::{Lab, lab};
use crate::common::waits::{patience, until};

#[test]
fn what_cannot_be_put_back_is_told_and_nothing_is_made() {
    let place = Place::saltmarsh();
    let done = place.run(&["snapshot", "restore", "2026-11-27-030000", "--yes"]).ended(2);
    let _ = done.complains("nothing has been raised");
    let _ = place.run(&["snapshot", "restore"]).ended(2).complains("<NAME>");
    let _ = place.run(&["snapshot", "restore", "--cancel"]).ended(2);
    assert!(!place.path(".zoisite").exists());
}

/// Whether the cluster knows of so many nests, and of none that were counted later.
fn must_be_as_saved(lab: &Lab) {
    lab.until_well();
    let nests = lab.admin(&["get", "configmap", "nests", "-o", "jsonpath={.data.heron}"]);
    let _ = nests.ended(0).says("3");
    let gate = lab.admin(&["get", "secret", "gate", "-o", "jsonpath={.data.word}"]);
    // "reeds", as Kubernetes tells it.
    let _ = gate.ended(0).says("cmVlZHM=");
    let _ = lab.admin(&["get", "configmap", "later"]).ended(1).complains("not found");
    let _ = lab.zoisite(&["sequence"]).ended(0).says("nothing differs");
    // Who watched before looks again: DNS and proxies tell of what is made now. They try to reach an API server less and
    // less often while none answers, so that takes a moment.
    let waits = patience(180);
    until("verify to pass", 600, || lab.zoisite(&["verify", "--timeout", &waits]).status == 0);
}

fn spoil(lab: &Lab) {
    let _ = lab.admin(&["create", "configmap", "later", "--from-literal=heron=0"]).ended(0);
    let _ = lab.admin(&["delete", "configmap", "nests"]).ended(0);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn what_was_saved_is_there_again_whatever_happens_on_the_way() {
    let lab_ = Lab::standing(&THREE);
    let _ = lab_.admin(&["create", "configmap", "nests", "--from-literal=heron=3"]).ended(0);
    let words = ["create", "secret", "generic", "gate", "--from-literal=word=reeds"];
    let _ = lab_.admin(&words).ended(0);
    let took = lab_.zoisite(&["snapshot", "take", "--json"]).ended(0).json();
    let name = took["snapshot"]["name"].as_str().unwrap().to_owned();
    spoil(&lab_);

    // Nobody agreed: nothing was done.
    let put_back = ["snapshot", "restore", &name];
    let _ = lab_
        .zoisite(&put_back)
        .ended(4)
        .complains("was not tried yet")
        .complains("3 members serve now: what was written since is LOST")
        .complains("you did not agree");
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");

    // Killed again and again on the way: it is seen, and goes on; nobody goes on unasked.
    lab_.killed_at(&[&put_back[..], &["--yes"]].concat(), &["\"is\":\"begun\",\"command\":"]);
    let _ = lab_.zoisite(&["raise"]).ended(4).complains("is being restored");
    let _ = lab_.zoisite(&["raise", "--part", "etcd", "--yes"]).ended(4);
    lab_.killed_at(
        &["raise", "--yes"],
        &[
            "\"step\":\"heron/etcd-",
            "\"step\":\"egret/etcd-",
            "\"step\":\"ibis/etcd-",
            "/control-plane-",
        ],
    );
    let _ = lab_.zoisite(&["raise", "--yes"]).ended(0);
    must_be_as_saved(&lab_);
    for host in ["heron", "egret", "ibis"] {
        let kept = lab_.on(host, "ls -d /var/lib/etcd/left-*/member").ended(0);
        let _ = kept.says("/var/lib/etcd/left-");
        let left = "test ! -e /var/lib/zoisite/put-back || ls -A /var/lib/zoisite/put-back";
        assert_eq!(lab_.on(host, left).ended(0).stdout, "", "{host}");
    }

    // And once more: two machines burn, and what was before them is lost with them.
    spoil(&lab_);
    lab("off", &["egret"]);
    lab("off", &["ibis"]);
    // The one that is left saves what it holds, though it carries no quorum.
    let _ = lab_.on("heron", "systemctl start zoisite-snapshot.service").ended(0);
    let fetched = lab_.zoisite(&["snapshot", "fetch"]).ended(1).says("saved by heron");
    let _ = fetched.complains("egret").complains("ibis");
    let yes = [&put_back[..], &["--yes"]].concat();
    let refused = lab_.zoisite(&yes).ended(4);
    let _ = refused.complains("egret, ibis cannot be looked at").complains("--lost");
    // Nothing has begun, and nobody is left to serve: it cannot be left either.
    let _ = lab_.zoisite(&["snapshot", "restore", "--cancel"]).ended(4).complains("does not serve");
    let gone = [&yes[..], &["--lost", "egret", "--lost", "ibis"]].concat();
    let done = lab_.zoisite(&gone).ended(1);
    let _ = done.complains("✓ put snapshot").complains("egret").complains("ibis");
    // New machines in their place: they come in as any new member does.
    for host in ["egret", "ibis"] {
        lab("on", &[host]);
        let wipe = "systemctl stop zoisite-etcd; rm -rf /var/lib/etcd/* /var/lib/zoisite/etcd-*";
        let _ = lab_.on(host, wipe).ended(0);
    }
    let _ = lab_.zoisite(&["raise", "--yes"]).ended(0);
    must_be_as_saved(&lab_);
    let _ = lab_.admin(&["delete", "secret/gate", "configmap/nests"]).ended(0);
}
