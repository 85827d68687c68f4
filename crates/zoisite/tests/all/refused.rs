//! Refused means untouched: whatever a run refuses, the store, the hosts and etcd are as they were. With the
//! built program, on simulated hosts that last; the same on real ones is in `changes.rs`.

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::common::lab::Running;
use crate::common::refused::{STANDING, Untouched};
use crate::common::{Done, Place, SALTMARSH};

/// A raised cluster of simulated hosts.
struct Stage(Place);

impl Stage {
    fn raised() -> Self {
        let stage = Self(Place::saltmarsh());
        let _ = stage.raise(&[]).ended(0);
        stage
    }

    fn raise(&self, more: &[&str]) -> Done {
        self.0.raise_on_stage(more)
    }

    fn hosts(&self) -> String {
        self.0.read("stage/hosts.json")
    }

    /// The simulated hosts hold their files, data and processes in one file.
    fn edit_hosts(&self, change: impl FnOnce(&mut serde_json::Value)) {
        let mut hosts: serde_json::Value = serde_json::from_str(&self.hosts()).unwrap();
        change(&mut hosts);
        self.0.write("stage/hosts.json", hosts.to_string());
    }

    /// Refused, with a rule, and nothing is another than before.
    fn refuses(&self, what: &str, more: &[&str], says: &str) {
        let before = Untouched::of(&self.0.path("stage/store"));
        let hosts = self.hosts();
        let done = self.raise(more).ended(4).complains(says).complains("docs/safety.md");
        assert_eq!(self.hosts(), hosts, "{what}: a host was touched: {done:?}");
        Untouched::of(&self.0.path("stage/store")).is(&before, what);
        assert!(!self.0.path(".zoisite").exists(), "{what}: the real store was made");
    }
}

#[test]
fn every_change_that_is_refused_leaves_store_hosts_and_etcd_as_they_were() {
    let stage = Stage::raised();
    for (from, to, says) in STANDING {
        assert!(SALTMARSH.contains(from), "the demo has no {from}");
        stage.0.write("zoisite.toml", SALTMARSH.replacen(from, to, 1));
        stage.refuses(to, &[], says);
    }
    stage.0.write("zoisite.toml", SALTMARSH);
    let _ = stage.raise(&[]).ended(0).says("nothing differs on 11 hosts");
}

#[test]
fn what_hosts_show_and_is_refused_leaves_store_hosts_and_etcd_as_they_were() {
    let stage = Stage::raised();
    let good = stage.hosts();
    type Spoil = fn(&mut serde_json::Value);
    let cases: [(&str, Spoil, &str); 5] = [
        (
            "another machine",
            |w| w["hosts"]["tern-1"]["machine"] = "ff".repeat(16).into(),
            "S4 same machine",
        ),
        (
            "foreign data",
            |w| w["hosts"]["egret"]["stray"] = "/var/lib/etcd/default/member".into(),
            "S3 no foreign data",
        ),
        (
            "lost data",
            |w| {
                for key in ["data", "process"] {
                    w["hosts"]["ibis"][key] = serde_json::Value::Null;
                }
                let files = w["hosts"]["ibis"]["files"].as_object_mut().unwrap();
                files.retain(|path, _| !path.starts_with("/var/lib/etcd/"));
            },
            "S1 quorum first",
        ),
        (
            "another cluster's host",
            |w| {
                w["hosts"]["tern-2"]["files"]["/var/lib/zoisite/cluster"]["text"] =
                    "ffffffffffffffff 1\n".into();
            },
            "it carries another cluster",
        ),
        (
            "a restart that the quorum does not survive",
            |w| {
                w["hosts"]["ibis"]["up"] = false.into();
                w["hosts"]["egret"]["files"]["/etc/zoisite/etcd/etcd.yaml"]["text"] =
                    "changed".into();
            },
            "S2 one at a time",
        ),
    ];
    for (what, spoil, says) in cases {
        stage.edit_hosts(spoil);
        stage.refuses(what, &[], says);
        stage.0.write("stage/hosts.json", &good);
    }
}

#[test]
fn a_lone_member_with_a_new_disk_begins_no_second_quorum() {
    let stage = Stage(Place::new());
    let single = SALTMARSH.replacen("[\"heron\", \"egret\", \"ibis\"]", "[\"heron\"]", 1);
    stage.0.write("zoisite.toml", single);
    let _ = stage.raise(&["--part", "etcd"]).ended(0);
    // Its whole disk is new: no data, no marks, nothing.
    stage.edit_hosts(|world| {
        let fresh = world["hosts"]["tern-1"].clone();
        let old = world["hosts"]["heron"].clone();
        world["hosts"]["heron"] = fresh;
        for kept in ["address", "machine"] {
            world["hosts"]["heron"][kept] = old[kept].clone();
        }
    });
    stage.refuses("a new disk", &["--part", "etcd"], "S1 quorum first");
}

/// A part that comes before the quorum, or is tried before it, does not keep the whole from being raised.
#[test]
fn parts_alone_begin_no_cluster() {
    let mesh = include_str!("../../../../lab/clusters/mesh.toml");
    for (file, part) in [
        (mesh, "mesh"),
        (SALTMARSH, "load-balancers"),
        (SALTMARSH, "control-plane"),
        (SALTMARSH, "nodes"),
    ] {
        let stage = Stage(Place::new());
        stage.0.write("zoisite.toml", file);
        let done = stage.raise(&["--part", part]);
        assert_eq!(done.status == 0, part == "mesh", "nothing else stands without etcd: {done:?}");
        let done = stage.raise(&[]).ended(0);
        assert!(!done.stderr.contains("begun"), "{done:?}");
    }
}

/// The store's copy is from before the quorum began, as of a run of other parts: what members hold is gone on with.
#[test]
fn a_store_that_knows_of_marks_alone_begins_no_second_quorum() {
    let stage = Stage(Place::saltmarsh());
    let _ = stage.raise(&["--part", "load-balancers"]);
    let (store, older) = (stage.0.path("stage/store"), stage.0.path("older"));
    let copy = |from: &Path, to: &Path| {
        let _ = std::fs::remove_dir_all(to);
        assert!(Command::new("cp").arg("-a").args([from, to]).status().unwrap().success());
    };
    copy(&store, &older);
    let _ = stage.raise(&[]).ended(0);
    let quorum = |stage: &Stage| {
        let hosts: serde_json::Value = serde_json::from_str(&stage.hosts()).unwrap();
        hosts["hosts"]["heron"]["data"]["cluster_id"].clone()
    };
    let before = quorum(&stage);
    assert!(before.is_u64(), "{before}");
    copy(&older, &store);
    stage.edit_hosts(|world| {
        for member in ["heron", "egret", "ibis"] {
            world["hosts"][member]["process"] = serde_json::Value::Null;
        }
    });
    let _ = stage.raise(&[]).ended(0);
    assert_eq!(quorum(&stage), before);
}

/// A first run that is refused makes nothing but a store with its own line in the journal.
#[test]
fn a_first_run_that_is_refused_issues_nothing_and_makes_no_identity() {
    let stage = Stage(Place::saltmarsh());
    let _ = stage.raise(&["--part", "etcd"]).ended(0);
    let strays = Stage(Place::saltmarsh());
    let _ = std::fs::create_dir(strays.0.path("stage"));
    strays.0.write("stage/hosts.json", stage.hosts());
    let _ = strays.raise(&[]).ended(4).complains("S3 no foreign data");
    assert!(!strays.0.path("stage/identity.txt").exists(), "no identity is made for it");
    let store = Untouched::of(&strays.0.path("stage/store"));
    assert_eq!(store.kinds(), ["run"], "nothing is recorded but the run");
}

#[test]
fn commands_that_issue_are_judged_by_what_is_recorded() {
    let place = Place::saltmarsh();
    let stage = Stage(place);
    let _ = stage.raise(&[]).ended(0);
    // The same store, as the real one would be.
    let copy = |from: &str, to: &str| {
        let bytes = std::fs::read(stage.0.path(from)).unwrap();
        stage.0.write(to, bytes);
    };
    std::fs::create_dir(stage.0.path(".zoisite")).unwrap();
    for file in ["store.sqlite", "store.sqlite-wal"] {
        if stage.0.path(&format!("stage/store/{file}")).exists() {
            copy(&format!("stage/store/{file}"), &format!(".zoisite/{file}"));
        }
    }
    stage.0.write("zoisite.toml", SALTMARSH.replacen("10.90.0.0/16", "10.94.0.0/16", 1));
    let identity = stage.0.path("stage/identity.txt");
    std::fs::set_permissions(&identity, std::os::unix::fs::PermissionsExt::from_mode(0o600))
        .unwrap();
    let identity = identity.to_str().unwrap().to_owned();
    let before = Untouched::of(&stage.0.path(".zoisite"));
    for command in [&["pki", "issue"][..], &["files", "--out", "out"]] {
        let words: Vec<&str> =
            ["--identity", &identity].iter().chain(command.iter()).copied().collect();
        let _ = stage.0.run(&words).ended(4).complains("network.pods was 10.90");
        Untouched::of(&stage.0.path(".zoisite")).is(&before, command[0]);
    }
    assert!(!stage.0.path("out").exists());
    // Nor does a command that only looks.
    stage.0.write("ssh", "Host *\n  StrictHostKeyChecking yes\n");
    let text =
        SALTMARSH.replace("10.77.0.", "127.77.0.").replace("[login]\n", "[login]\nport = 9\n");
    stage.0.write("zoisite.toml", text);
    for command in [
        &["sequence"][..],
        &["status"],
        &["access"],
        &["tokens"],
        &["pki", "list"],
        &["pki", "prove"],
        &["check"],
        &["history"],
        &["verify"],
    ] {
        let words: Vec<&str> = ["--identity", &identity, "--ssh-config", "ssh"]
            .iter()
            .chain(command.iter())
            .copied()
            .collect();
        // Each of them did its work: it read the file, and looked where nobody answers or at what is recorded.
        let done = stage.0.run(&words);
        assert!([0, 1, 3, 4].contains(&done.status), "{done:?}");
        assert!(!done.stdout.is_empty() || done.stderr.contains("127.77.0."), "{done:?}");
        Untouched::of(&stage.0.path(".zoisite")).is(&before, command[0]);
    }
}

/// A run whose lock is another's by now begins nothing more, and writes nothing.
#[test]
fn s11_a_run_that_lost_its_lock_stops() {
    let stage = Stage(Place::saltmarsh());
    // Time is virtual there: with so many hosts the run is not over before the lock is.
    let many = stage
        .0
        .read("zoisite.toml")
        .replace("tern-{1..3}\" = \"10.77.0.{101..103}", "tern-{1..140}\" = \"10.77.0.{101..240}");
    stage.0.write("zoisite.toml", many);
    let mut command = stage.0.command();
    command.args(["raise", "--rehearse", "--stage", "stage"]);
    let mut running = Running::of(command);
    let path = stage.0.path("stage/store/store.sqlite");
    running.until("\"is\":\"begun\",\"command\"");
    for _ in 0..5 {
        running.until("\"is\":\"begun\"");
    }
    let eve = serde_json::json!({"user": "eve", "host": "another-desk", "pid": 1, "started": 1});
    let store = rusqlite::Connection::open(&path).unwrap();
    store.busy_timeout(Duration::from_secs(20)).unwrap();
    store.execute("UPDATE lock SET holder = ?1", [eve.to_string()]).unwrap();
    let (status, said) = running.end();
    assert_eq!(status, 4, "{said}");
    assert!(said.contains("eve on another-desk (process 1) has been at work"), "{said}");
    assert!(!said.contains("ready-tern-1"), "it went on: {said}");
    let holder: String = store.query_row("SELECT holder FROM lock", [], |row| row.get(0)).unwrap();
    assert!(holder.contains("eve"), "the lock stays hers");
}
