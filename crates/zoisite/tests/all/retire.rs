//! Hosts of every kind are retired: workers whose pods are kept by a budget, a member that is a control plane, a
//! load balancer, a machine that is dead already; and killed on the way.

use crate::common::Place;
use crate::common::lab::{Lab, lab};
use crate::common::load::under_load;
use crate::common::waits::patience;

#[test]
fn only_hosts_that_were_met_and_left_the_file_are_retired() {
    let place = Place::saltmarsh();
    let _ = place.run(&["retire", "tern-3", "--yes"]).ended(2).complains("nothing has been raised");
    let _ = place.run(&["retire"]).ended(2).complains("<HOST>");
    let _ = place.run(&["retire", "tern-3", "--lost", "--wipe"]).ended(2);
    assert!(!place.path(".zoisite").exists());
}

/// Three pods, of which none may be away.
const COUNTS: &str = r#"
apiVersion: apps/v1
kind: Deployment
metadata: {name: counts, namespace: default}
spec:
  replicas: 3
  selector: {matchLabels: {app: counts}}
  template:
    metadata: {labels: {app: counts}}
    spec:
      terminationGracePeriodSeconds: 2
      topologySpreadConstraints:
      - maxSkew: 1
        topologyKey: kubernetes.io/hostname
        whenUnsatisfiable: ScheduleAnyway
        labelSelector: {matchLabels: {app: counts}}
      containers:
      - {name: hold, image: "lab.saltmarsh.example/sandbox:3.10"}
---
apiVersion: policy/v1
kind: PodDisruptionBudget
metadata: {name: counts, namespace: default}
spec: {minAvailable: 3, selector: {matchLabels: {app: counts}}}
"#;

fn edit(lab: &Lab, pairs: &[(&str, &str)]) {
    let mut file = lab.place.read("zoisite.toml");
    for (from, to) in pairs {
        assert!(file.contains(from), "{from}: {file}");
        file = file.replacen(from, to, 1);
    }
    lab.place.write("zoisite.toml", file);
}

/// Nothing of ours is on a host, nor of it in the cluster.
fn must_be_gone(lab: &Lab, host: &str, answers: bool) {
    let nodes = lab.admin(&["get", "nodes", "-o", "name"]).ended(0).stdout;
    assert!(!nodes.lines().any(|node| node == format!("node/{host}")), "{nodes}");
    let status = lab.zoisite(&["status"]);
    assert!(!status.stdout.contains("no longer in the cluster file"), "{status:?}");
    let _ = lab.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let pki = lab.zoisite(&["pki", "list", "--json"]).ended(0).json();
    let held = pki["certificates"].as_array().unwrap().iter().filter(|one| one["host"] == host);
    assert_eq!(held.count(), 0, "{host}");
    if answers {
        let ours = "ls -d /etc/zoisite /usr/local/lib/zoisite /var/lib/kubelet /etc/cni; \
                    systemctl list-unit-files --no-legend \"zoisite*\"; pgrep -l kube";
        assert_eq!(
            lab.on(host, &format!("{{ {ours}; }} 2>/dev/null; true")).ended(0).stdout,
            "",
            "{host}"
        );
    }
}

/// The processes of a host that serve, by their units.
fn processes(lab: &Lab, host: &str) -> String {
    let units = "systemctl list-units --plain --no-legend --state=running \"zoisite-*.service\" containerd.service haproxy.service";
    let show = format!("systemctl show -p Id -p MainPID $({units} | cut -d \" \" -f 1)");
    let shown = lab.on(host, &show).ended(0).stdout;
    assert!(shown.contains("MainPID="), "{host}: {shown}");
    shown
}

/// A control plane, a load balancer and a worker come by an edit of the file, and nothing else restarts for it.
fn grows(lab: &Lab) {
    let whole = lab.place.read("zoisite.toml");
    let both = "\"jetty-{a,b}\" = \"10.77.0.{31,32}\"";
    let terns = "\"tern-{1..3}\" = \"10.77.0.{101..103}\"";
    let control = "[control-plane]\nhosts = [\"heron\", \"egret\", \"ibis\"]";
    edit(
        lab,
        &[
            (both, "jetty-a = \"10.77.0.31\""),
            ("hosts = [\"jetty-a\", \"jetty-b\"]", "hosts = [\"jetty-a\"]"),
            (terns, "\"tern-{1..2}\" = \"10.77.0.{101..102}\""),
            (control, "[control-plane]\nhosts = [\"heron\", \"egret\"]"),
        ],
    );
    let there = ["heron", "egret", "ibis", "jetty-a", "tern-1", "tern-2"];
    // The site's own names follow the file.
    let stable = "^10.77.0.32[[:space:]].*api.saltmarsh.example";
    for host in there {
        let apart =
            format!("grep \"{stable}\" /etc/hosts >/root/later; sed -i \"/{stable}/d\" /etc/hosts");
        let _ = lab.on(host, &apart).ended(0);
    }
    let _ = lab.zoisite(&["raise"]).ended(0);
    let before = there.map(|host| processes(lab, host));
    for host in there {
        let _ = lab.on(host, "cat /root/later >>/etc/hosts").ended(0);
    }
    lab.place.write("zoisite.toml", whole);
    let load = under_load(lab, || {
        let _ = lab.zoisite(&["raise"]).ended(0);
    });
    load.must_be_served("it grows");
    for (host, before) in there.iter().zip(&before) {
        let now = processes(lab, host);
        let gone: Vec<&str> = unit_lines(before).difference(&unit_lines(&now)).copied().collect();
        assert!(gone.is_empty(), "{host}: {gone:?} restarted\n{now}");
    }
    let _ = lab.zoisite(&["sequence"]).ended(0).says("nothing differs");
}

/// Where a worker's retiring is killed: while its pods leave, and while what was put there is taken back.
const DRAINS_AND_TAKES_BACK: [&str; 2] =
    ["\"command\":\"retire tern-2\"", "no pod is left then \"command\":\"retire tern-2\""];

/// `UNIT and its process`, a unit each.
fn unit_lines(shown: &str) -> std::collections::BTreeSet<&str> {
    shown.trim().split("\n\n").collect()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn workers_members_load_balancers_and_the_dead_are_retired() {
    let lab_ = Lab::of("leaving", None, 8);
    grows(&lab_);
    lab_.place.write("counts.yaml", COUNTS);
    let _ = lab_.admin(&["apply", "-f", lab_.place.path("counts.yaml").to_str().unwrap()]);
    let rolled_within = format!("{}s", patience(120));
    let rolled = ["rollout", "status", "deployment/counts", "--timeout", &rolled_within];
    let _ = lab_.admin(&rolled).ended(0);

    // What is still in the file is not retired.
    let _ = lab_.zoisite(&["retire", "tern-2", "--yes"]).ended(2).complains("still in");
    let terns = "\"tern-{1..3}\" = \"10.77.0.{101..103}\"";
    edit(&lab_, &[(terns, "tern-1 = \"10.77.0.101\"\ntern-3 = \"10.77.0.103\"")]);
    let _ = lab_.zoisite(&["retire", "tern-2"]).ended(4).complains("you did not agree");

    // A budget keeps a pod: which one and why is reported, and the pods are left in peace.
    let short = ["retire", "tern-2", "--yes", "--timeout", &patience(8)];
    let _ = lab_
        .zoisite(&short)
        .ended(1)
        .complains("The disruption budget counts needs 3 healthy pods and has 3 currently")
        .complains("--timeout");
    let _ = lab_.admin(&rolled).ended(0);
    let gives = ["patch", "pdb", "counts", "-p", "{\"spec\":{\"minAvailable\":2}}"];
    let _ = lab_.admin(&gives).ended(0);
    let retire = ["retire", "tern-2", "--yes"];
    lab_.killed_at(&retire, &DRAINS_AND_TAKES_BACK);
    let _ = lab_.zoisite(&retire).ended(0).says("Retired tern-2");
    let _ = lab_.zoisite(&retire).ended(0).complains("retired already").says("Retired tern-2");
    lab_.until_well();
    must_be_gone(&lab_, "tern-2", true);

    // A member that is a control plane; another one is a member in its place.
    let members = "members = [\"heron\", \"egret\", \"ibis\"]";
    edit(
        &lab_,
        &[
            ("ibis = \"10.77.0.13\"\n", ""),
            (members, "members = [\"heron\", \"egret\", \"tern-1\"]"),
            ("hosts = [\"heron\", \"egret\", \"ibis\"]", "hosts = [\"heron\", \"egret\"]"),
        ],
    );
    // While somebody writes, and killed again and again.
    let retire = ["retire", "ibis", "--wipe", "--yes"];
    let load = under_load(&lab_, || {
        // Its pods leave; another one learns, and gets its vote.
        let events = ["\"command\":\"retire ibis\"", "tern-1/etcd-learn", "tern-1/etcd-promote"];
        lab_.killed_at(&retire, &events);
        let _ = lab_.zoisite(&retire).ended(0).says("Retired ibis");
    });
    load.must_be_served("a member is retired");
    must_be_gone(&lab_, "ibis", true);
    let _ = lab_.on("ibis", "test ! -e /var/lib/etcd").ended(0);

    // A machine that is dead already, and a load balancer.
    lab("off", &["tern-3"]);
    edit(
        &lab_,
        &[
            ("tern-3 = \"10.77.0.103\"\n", ""),
            ("\"jetty-{a,b}\" = \"10.77.0.{31,32}\"", "jetty-a = \"10.77.0.31\""),
            ("hosts = [\"jetty-a\", \"jetty-b\"]", "hosts = [\"jetty-a\"]"),
        ],
    );
    let _ = lab_.zoisite(&["retire", "tern-3", "--yes"]).ended(1).complains("--lost");
    let _ = lab_.zoisite(&["retire", "tern-3", "--lost", "--yes"]).ended(0);
    let _ = lab_.zoisite(&["retire", "jetty-b", "--yes"]).ended(0).says("Retired jetty-b");
    must_be_gone(&lab_, "tern-3", false);
    must_be_gone(&lab_, "jetty-b", true);
    lab_.until_well();
}
