//! Pods leave a node, within their disruption budgets (the eviction API, `policy/v1`).

use std::collections::BTreeMap;
use std::time::Duration;

use futures_util::StreamExt as _;
use http::Method;
use serde_json::{Value, json};
use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::sequence::StepOutcome;

use super::fault::{WorkError, failed, refused};
use super::{ApiClient, ApiError, JSON};
use crate::reach::Progress;

/// How often it is looked at what is left.
const PAUSE: Duration = Duration::from_secs(1);
/// After so long what a budget keeps is asked for again.
const AGAIN: Duration = Duration::from_secs(5);

/// Hosts that are emptied at once: a wave.
const AT_ONCE: usize = 4;

/// Does something about each of many hosts, a few at once; what became of each, in the order in which they ended.
pub async fn in_waves(
    hosts: &[HostName],
    each: impl AsyncFn(&HostName) -> StepOutcome,
) -> Vec<StepOutcome> {
    futures_util::stream::iter(hosts.iter().map(|host| each(host)))
        .buffer_unordered(AT_ONCE)
        .collect()
        .await
}

/// A pod that is to leave its node.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PodLeft {
    /// Its namespace.
    pub namespace: String,
    /// Its name.
    pub name: String,
    /// Nobody makes it again elsewhere: what it is goes with it.
    pub alone: bool,
    /// It is on its way out.
    pub ending: bool,
}

impl std::fmt::Display for PodLeft {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}/{}", self.namespace, self.name)
    }
}

/// Those of a node's pods that are to leave it: neither those that have ended, nor those of DaemonSets, which are of
/// every node, nor those that the kubelet makes of files of its own.
pub(super) fn left_on(pods: &[Value]) -> Vec<PodLeft> {
    let text = |pod: &Value, at: &str| {
        pod.pointer(at).and_then(Value::as_str).unwrap_or_default().to_owned()
    };
    let leaves = |pod: &&Value| {
        let ended = matches!(text(pod, "/status/phase").as_str(), "Succeeded" | "Failed");
        let mirror = pod.pointer("/metadata/annotations/kubernetes.io~1config.mirror").is_some();
        !ended && !mirror && controller(pod) != Some("DaemonSet")
    };
    let left = pods.iter().filter(leaves).map(|pod| PodLeft {
        namespace: text(pod, "/metadata/namespace"),
        name: text(pod, "/metadata/name"),
        alone: controller(pod).is_none(),
        ending: pod.pointer("/metadata/deletionTimestamp").is_some(),
    });
    left.collect()
}

/// The kind of what makes a pod again.
fn controller(pod: &Value) -> Option<&str> {
    let owners = pod.pointer("/metadata/ownerReferences")?.as_array()?;
    let owner = owners.iter().find(|owner| owner["controller"] == true)?;
    owner["kind"].as_str()
}

/// Lets no more pods onto a node; where it has no object there is nothing to do.
pub(super) async fn close(api: &ApiClient, host: &HostName) -> Result<usize, WorkError> {
    let path = format!("/api/v1/nodes/{host}");
    let node = api.get(&path).await.map_err(failed("reading the node object"))?;
    match node.map(|node| node.pointer("/spec/unschedulable") == Some(&Value::Bool(true))) {
        None | Some(true) => Ok(0),
        Some(false) => {
            let patch = json!({"spec": {"unschedulable": true}});
            api.merge(&path, &patch).await.map_err(failed("keeping new pods off the node"))?;
            Ok(1)
        }
    }
}

/// Has the pods of a node leave it. Returns how many left.
pub(super) async fn drain(
    api: &ApiClient,
    host: &HostName,
    delete_unmanaged_pods: bool,
    seconds: u32,
    progress: Progress<'_>,
) -> Result<usize, WorkError> {
    let attempted = || format!("having pods leave {host}");
    let listed = format!("/api/v1/pods?fieldSelector=spec.nodeName%3D{host}");
    let end = Instant::now() + Duration::from_secs(seconds.into());
    let mut asked: BTreeMap<String, Instant> = BTreeMap::new();
    let mut waits: BTreeMap<String, String> = BTreeMap::new();
    loop {
        let pods = api.list(&listed).await.map_err(failed("listing the node's pods"))?;
        let left = left_on(&pods);
        if left.is_empty() {
            return Ok(asked.len());
        }
        let alone: Vec<String> =
            left.iter().filter(|pod| pod.alone && !pod.ending).map(ToString::to_string).collect();
        if !alone.is_empty() && !delete_unmanaged_pods {
            let answer = format!("no controller recreates {} elsewhere", alone.join(", "));
            return Err(refused(attempted(), answer, Vec::new()));
        }
        for pod in left.iter().filter(|pod| !pod.ending) {
            let title = pod.to_string();
            if asked.get(&title).is_some_and(|at| at.elapsed() < AGAIN) {
                continue;
            }
            asked.insert(title.clone(), Instant::now());
            match evict(api, pod).await {
                Ok(()) => waits.remove(&title),
                // A budget keeps it for now.
                Err(error) if error.code == 429 => waits.insert(title, error.message),
                Err(error) => return Err(failed(attempted())(error)),
            };
        }
        waits.retain(|title, _| left.iter().any(|pod| pod.to_string() == *title));
        let told = told(&left, &waits);
        if Instant::now() >= end {
            let answer = format!("after {seconds} seconds {told}");
            let each = waits.iter().map(|(pod, why)| format!("{pod}: {why}")).collect();
            return Err(refused(attempted(), answer, each));
        }
        progress(told);
        tokio::time::sleep(PAUSE).await;
    }
}

fn told(left: &[PodLeft], waits: &BTreeMap<String, String>) -> String {
    let ending = left.len() - waits.len().min(left.len());
    match waits.iter().next() {
        None => format!("{ending} on their way out"),
        Some((pod, why)) => {
            format!("{} kept by budgets, {ending} on their way out: {pod}: {why}", waits.len())
        }
    }
}

async fn evict(api: &ApiClient, pod: &PodLeft) -> Result<(), ApiError> {
    let path = format!("/api/v1/namespaces/{}/pods/{}/eviction", pod.namespace, pod.name);
    let body = json!({
        "apiVersion": "policy/v1", "kind": "Eviction",
        "metadata": {"name": pod.name, "namespace": pod.namespace},
    });
    match api.send(Method::POST, &path, JSON, Some(&body)).await {
        Err(error) if error.code != 404 => Err(error),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod rehearsed;

#[cfg(test)]
mod tests {
    use super::*;

    fn pod(name: &str, owner: Option<&str>, more: Value) -> Value {
        let owners = owner.map(|kind| json!([{"kind": kind, "controller": true}]));
        let mut pod = json!({
            "metadata": {"namespace": "nests", "name": name, "ownerReferences": owners},
            "status": {"phase": "Running"},
        });
        for (at, value) in more.as_object().unwrap() {
            pod[at.as_str()].as_object_mut().unwrap().extend(value.as_object().unwrap().clone());
        }
        pod
    }

    #[test]
    fn pods_that_belong_to_the_node_stay_and_those_of_nobody_are_told_apart() {
        let mirror = json!({"metadata": {"annotations": {"kubernetes.io/config.mirror": "x"}}});
        let pods = [
            pod("counts", Some("ReplicaSet"), json!({})),
            pod("agent", Some("DaemonSet"), json!({})),
            pod("static", Some("Node"), mirror),
            pod("done", Some("Job"), json!({"status": {"phase": "Succeeded"}})),
            pod("lone", None, json!({})),
            pod("going", None, json!({"metadata": {"deletionTimestamp": "2026-11-27T03:00:00Z"}})),
        ];
        let left = left_on(&pods);
        let names: Vec<String> = left.iter().map(ToString::to_string).collect();
        assert_eq!(names, ["nests/counts", "nests/lone", "nests/going"]);
        let facts: Vec<(bool, bool)> = left.iter().map(|pod| (pod.alone, pod.ending)).collect();
        assert_eq!(facts, [(false, false), (true, false), (true, true)]);
        let waits = BTreeMap::from([("nests/counts".to_owned(), "the budget needs 2".to_owned())]);
        assert_eq!(
            told(&left, &waits),
            "1 kept by budgets, 2 on their way out: nests/counts: the budget needs 2"
        );
    }
}
