//! Whose pods read only at their start whom to believe, perhaps: what a person looks through before another authority signs.

use std::collections::BTreeMap;

use serde_json::Value;
use zoisite_store::State;

use super::with_api;
use crate::failure::Failure;
use crate::site::Site;
use crate::view::count;

/// So many are named.
const NAMED: usize = 20;

/// The workloads whose pods run and are given the cluster's authorities (`kube-root-ca.crt`), with how many pods each;
/// what Zoisite itself runs is not among them.
pub fn workloads(site: &Site, state: &mut State) -> Result<Vec<String>, Failure> {
    let mut pods = Vec::new();
    with_api(site, state, async |api| {
        pods = api.list("/api/v1/pods").await?;
        Ok(())
    })?;
    Ok(named(&pods))
}

fn named(pods: &[Value]) -> Vec<String> {
    let mut found: BTreeMap<String, usize> = BTreeMap::new();
    for pod in pods.iter().filter(|pod| is_given_it(pod)) {
        let of = owner(pod);
        // Zoisite starts its own again by itself.
        if of != "kube-system: deployment coredns" {
            *found.entry(of).or_default() += 1;
        }
    }
    let more = found.len().saturating_sub(NAMED);
    let mut out: Vec<String> = found
        .into_iter()
        .take(NAMED)
        .map(|(what, pods)| format!("{what} ({})", count(pods, "pod")))
        .collect();
    if more > 0 {
        out.push(format!("and {} more", count(more, "workload")));
    }
    out
}

fn is_given_it(pod: &Value) -> bool {
    let list = |value: &Value, pointer: &str| -> Vec<Value> {
        value.pointer(pointer).and_then(Value::as_array).cloned().unwrap_or_default()
    };
    let phase = pod.pointer("/status/phase").and_then(Value::as_str);
    let given = list(pod, "/spec/volumes").iter().any(|volume| {
        let sources = list(volume, "/projected/sources");
        let is = |source: &Value| {
            source.pointer("/configMap/name").and_then(Value::as_str) == Some("kube-root-ca.crt")
        };
        sources.iter().any(is)
    });
    given && matches!(phase, Some("Running" | "Pending"))
}

/// The workload that a pod belongs to, such as `shore: deployment tides`.
fn owner(pod: &Value) -> String {
    let text = |pointer: &str| pod.pointer(pointer).and_then(Value::as_str).unwrap_or_default();
    let namespace = text("/metadata/namespace");
    let (kind, name) =
        (text("/metadata/ownerReferences/0/kind"), text("/metadata/ownerReferences/0/name"));
    match kind {
        "" => format!("{namespace}: pod {}, which no controller recreates", text("/metadata/name")),
        // A deployment's replica sets are called after it, with a sum of the template behind.
        "ReplicaSet" => {
            let deployment = name.rsplit_once('-').map_or(name, |(name, _)| name);
            format!("{namespace}: deployment {deployment}")
        }
        kind => format!("{namespace}: {} {name}", kind.to_lowercase()),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn pod(namespace: &str, owner: Option<(&str, &str)>, phase: &str, given: bool) -> Value {
        let owners = owner.map(|(kind, name)| json!([{"kind": kind, "name": name}]));
        let source = if given { "kube-root-ca.crt" } else { "tides" };
        json!({
            "metadata": {"name": "one", "namespace": namespace, "ownerReferences": owners},
            "spec": {"volumes": [{"projected": {"sources": [{"configMap": {"name": source}}]}}]},
            "status": {"phase": phase},
        })
    }

    #[test]
    fn pods_are_told_by_their_workload_but_for_those_that_are_not_given_it() {
        let pods = [
            pod("shore", Some(("ReplicaSet", "tides-7d4b9")), "Running", true),
            pod("shore", Some(("ReplicaSet", "tides-7d4b9")), "Running", true),
            pod("shore", Some(("DaemonSet", "wind")), "Pending", true),
            pod("shore", Some(("Job", "count")), "Succeeded", true),
            pod("shore", Some(("StatefulSet", "log")), "Running", false),
            pod("kube-system", Some(("ReplicaSet", "coredns-5f6c")), "Running", true),
            pod("dunes", None, "Running", true),
        ];
        assert_eq!(
            named(&pods),
            [
                "dunes: pod one, which no controller recreates (1 pod)",
                "shore: daemonset wind (1 pod)",
                "shore: deployment tides (2 pods)",
            ]
        );
        let many: Vec<Value> = (0..25)
            .map(|n| pod("shore", Some(("DaemonSet", &format!("wind-{n:02}"))), "Running", true))
            .collect();
        assert_eq!(named(&many).last().unwrap(), "and 5 workloads more");
    }
}
