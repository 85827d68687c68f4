//! `raise HOST…`: what concerns these hosts is done, and nothing else.

use crate::common::{Done, Place};

/// The demo raised on simulated hosts, and two workers more in the file.
fn two_more() -> Place {
    let place = Place::saltmarsh();
    let _ = place.raise_on_stage(&[]).ended(0);
    let text = place.read("zoisite.toml");
    let text =
        text.replace("\"tern-{1..3}\"", "\"tern-{1..5}\"").replace("{101..103}", "{101..105}");
    place.write("zoisite.toml", text);
    place
}

/// The hosts on which steps of a run began.
fn acted(done: &Done) -> Vec<&str> {
    let began = done.stderr.lines().filter(|line| line.contains(" begins "));
    let mut hosts: Vec<&str> = began
        .filter_map(|line| line.split(']').nth(1)?.trim_start().split_once('/'))
        .map(|(host, _)| host)
        .collect();
    hosts.sort_unstable();
    hosts.dedup();
    hosts
}

#[test]
fn a_named_worker_joins_alone_and_the_rest_is_told() {
    let place = two_more();
    let done = place.raise_on_stage(&["tern-5"]).ended(0);
    assert_eq!(acted(&done), ["tern-5"]);
    let done = done
        .complains("left as they are, and not as the file says: curlew … tern-4 (7)")
        .complains("routes to new nodes' pods are missing there until zoisite raise");
    assert!(done.stdout.lines().any(|line| line.trim_start().starts_with("tern-5     Ready")));
    let _ = place
        .raise_on_stage(&["tern-5"])
        .ended(0)
        .says("nothing differs on tern-5: nothing was done");
    // All of it, and then nothing is left.
    let done = place.raise_on_stage(&[]).ended(0);
    assert!(acted(&done).contains(&"tern-4"), "{done:?}");
    let _ = place.raise_on_stage(&[]).ended(0).says("nothing differs on 13 hosts");
}

#[test]
fn hosts_that_are_not_named_stay_as_they_are_and_the_order_of_the_others_holds() {
    let place = Place::saltmarsh();
    let _ = place.raise_on_stage(&[]).ended(0);
    let text = place.read("zoisite.toml");
    let text = text
        .replace("[etcd]\n", "[etcd]\nsettings = { heartbeat-interval = 200 }\n")
        .replace("[workers]\n", "[workers]\nkubelet = { maxPods = 77 }\n");
    place.write("zoisite.toml", text);
    let done = place.raise_on_stage(&["tern-2"]).ended(0);
    assert_eq!(acted(&done), ["tern-2"]);
    // A label is on no host's disk, and yet the others lack it.
    let text = place.read("zoisite.toml");
    place.write("zoisite.toml", text.replace("north", "south"));
    let done =
        place.raise_on_stage(&["tern-1"]).ended(0).complains("as the file says: curlew … tern-3");
    assert_eq!(acted(&done), ["tern-1"]);
    place.write("zoisite.toml", &text);
    let _ = place.raise_on_stage(&["tern-1"]).ended(0);
    // Between two members the quorum is proven, whoever would have come between them.
    let done = place.raise_on_stage(&["ibis", "heron"]).ended(0);
    assert_eq!(acted(&done), ["heron", "ibis"]);
    let at = |step: &str| {
        done.stderr.find(&format!("] {step} ")).unwrap_or_else(|| panic!("{step}: {done:?}"))
    };
    assert!(at("heron/etcd-restart") < at("quorum-after-heron"));
    assert!(at("quorum-after-heron") < at("ibis/etcd-restart"));
    assert!(at("ibis/etcd-restart") < at("quorum-after-ibis"));
    let done = place.raise_on_stage(&[]).ended(0);
    assert!(acted(&done).contains(&"egret") && !acted(&done).contains(&"heron"), "{done:?}");
}

#[test]
fn what_concerns_the_whole_cluster_is_refused_for_named_hosts() {
    let place = Place::saltmarsh();
    let _ = place
        .raise_on_stage(&["heron"])
        .ended(4)
        .complains("concerns the whole cluster, not single hosts: the first start of the quorum")
        .complains("name no host: zoisite raise");
    let _ =
        place.raise_on_stage(&["grebe"]).ended(2).complains("the cluster file has no host grebe");
    let place = two_more();
    let text = place.read("zoisite.toml").replace(
        "members = [\"heron\", \"egret\", \"ibis\"]",
        "members = [\"heron\", \"egret\", \"ibis\", \"tern-1\", \"tern-2\"]",
    );
    place.write("zoisite.toml", text);
    let _ = place
        .raise_on_stage(&["--yes", "tern-5"])
        .ended(4)
        .complains("not single hosts: let tern-1 into the quorum");
    // Unasked, who is a member stays as it is, and the worker joins.
    let done = place.raise_on_stage(&["tern-5"]).ended(0);
    assert_eq!(acted(&done), ["tern-5"]);
}
