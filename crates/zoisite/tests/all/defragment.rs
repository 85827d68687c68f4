//! Defragmented of etcd's databases: room that is won, and a quorum that refuses writes for want of it.

use crate::common::Place;
use crate::common::clusters::ONE;
use crate::common::lab::{Lab, etcdctl_on};

#[test]
fn before_there_is_a_cluster_there_is_nothing_to_keep_up() {
    let place = Place::saltmarsh();
    let _ = place.run(&["defragment"]).ended(2).complains("nothing has been raised");
    assert!(!place.path(".zoisite").exists());
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_quorum_that_ran_full_is_told_early_and_takes_writes_again() {
    let lab = Lab::standing(&ONE);
    let file = lab.place.read("zoisite.toml");
    let small = "settings = { quota-backend-bytes = 50331648, ";
    assert!(file.contains("settings = { "));
    lab.place.write("zoisite.toml", file.replacen("settings = { ", small, 1));
    let _ = lab.zoisite(&["raise"]).ended(0);
    lab.until_well();
    // Half a mebibyte each, until there is no more room.
    let fill = |keys: &str| {
        let ctl = etcdctl_on("heron");
        let script = format!(
            "head -c 393216 /dev/urandom | base64 -w 0 >/root/mud; for i in {keys}; do {ctl} put /mud/$i </root/mud >/dev/null || exit 7; done"
        );
        lab.on("heron", &script)
    };
    let _ = fill("$(seq 70)").ended(0);
    let near = lab.zoisite(&["status"]).ended(3);
    let _ = near.says("% of its quota").says("zoisite defragment");
    let _ = fill("$(seq 200 300)").ended(7);
    let _ = lab.zoisite(&["status"]).ended(3).says("refuses writes (NOSPACE)");
    let _ = lab.etcdctl("heron", "del --prefix /mud/").ended(0);
    assert_ne!(
        lab.etcdctl("heron", "put /reeds 1").status,
        0,
        "room alone does not take the alarm back"
    );
    let done = lab.zoisite(&["defragment", "--json"]).ended(0).json();
    assert_eq!(done["alarm_taken_back"], true, "{done:#}");
    assert!(done["won"].as_i64().unwrap() > 20 << 20, "{done:#}");
    let _ = lab.etcdctl("heron", "put /reeds 1").ended(0);
    let _ = lab.etcdctl("heron", "del /reeds").ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    lab.until_well();
    let _ = lab.zoisite(&["status"]).ended(0);
    let _ = lab.zoisite(&["defragment"]).ended(0).says("little to win");
    // Nobody is stopped while somebody is away (rule S2).
    let _ = lab.on("heron", "systemctl stop zoisite-etcd").ended(0);
    let _ = lab.zoisite(&["defragment"]).ended(4).complains("S2 one at a time");
    let _ = lab.on("heron", "systemctl start zoisite-etcd").ended(0);
    lab.place.write("zoisite.toml", file);
    let _ = lab.zoisite(&["raise"]).ended(0);
}
