//! What the API shows of nodes, requests, tokens and wanted objects.

use std::collections::BTreeMap;

use base64::Engine as _;
use futures_util::future::{join, join_all, try_join4};
use serde_json::Value;
use zoisite_core::holdings::{ApiObject, PUT_ANNOTATION, Taint};
use zoisite_core::pki::{KUBELET_CLIENT_SIGNER, NodeRequest};
use zoisite_core::sequence::{ApiObserved, NodeFacts};
use zoisite_core::token::{TOKENS_PATH, token_id};

use super::workloads::waiting;
use super::{ApiClient, ApiResult};

/// Asks everything that a plan needs, all at once.
pub(crate) async fn look(api: &ApiClient, objects: &[ApiObject]) -> ApiResult<ApiObserved> {
    let tokens = format!("{TOKENS_PATH}?fieldSelector=type%3Dbootstrap.kubernetes.io%2Ftoken");
    let lists =
        try_join4(api.get("/version"), api.list("/api/v1/nodes"), requests(api), api.list(&tokens));
    let compared = join_all(objects.iter().map(|object| compare(api, object)));
    let (lists, compared) = join(lists, compared).await;
    let (version, nodes, requests, tokens) = lists?;
    let version = version.unwrap_or_default();
    let mut out = ApiObserved {
        version: version["gitVersion"].as_str().unwrap_or_default().trim_start_matches('v').into(),
        nodes: nodes.iter().map(|node| (text(node, "/metadata/name"), node_facts(node))).collect(),
        requests,
        tokens: tokens
            .iter()
            .map(|token| token_id(&text(token, "/metadata/name")).to_owned())
            .collect(),
        ..ApiObserved::default()
    };
    for (object, found) in compared {
        let live = match &found {
            Compared::Same(live) => Some(live),
            Compared::Differs(live) => live.as_ref(),
            Compared::Unknown(_) => None,
        };
        if let Some(live) = live.filter(|_| object.title() == DNS) {
            out.dns = image_version(live);
        }
        match found {
            Compared::Same(live) => {
                if let Some(why) = waiting(object, &live) {
                    out.waiting.insert(object.title(), why);
                }
            }
            Compared::Differs(_) => {
                out.differing.insert(object.title());
            }
            Compared::Unknown(why) => {
                out.uncompared.insert(object.title(), why);
            }
        }
    }
    Ok(out)
}

/// The DNS server's own object, by its title.
const DNS: &str = "Deployment kube-system/coredns";

/// The version in the tag of a workload's first image.
fn image_version(workload: &Value) -> String {
    let image = text(workload, "/spec/template/spec/containers/0/image");
    image.rsplit_once(':').map_or_else(String::new, |(_, tag)| tag.trim_start_matches('v').into())
}

enum Compared {
    Same(Value),
    /// What stands there, if anything.
    Differs(Option<Value>),
    /// It could not be compared: why.
    Unknown(String),
}

/// Whether applying an object would change what stands: the server itself is asked, without doing it.
async fn compare<'a>(api: &ApiClient, object: &'a ApiObject) -> (&'a ApiObject, Compared) {
    let live = async {
        let path = api.path(object).await?;
        api.get(&path).await
    };
    let live = match live.await {
        Ok(Some(live)) => live,
        Ok(None) => return (object, Compared::Differs(None)),
        // Its kind is made by an object before it, as with the site's own resources.
        Err(error) if error.code == 404 => return (object, Compared::Differs(None)),
        Err(error) => return (object, Compared::Unknown(error.to_string())),
    };
    let compared = match api.apply(object, true).await {
        Ok(applied) if settled(&live) == settled(&applied) => Compared::Same(live),
        Ok(_) => Compared::Differs(Some(live)),
        Err(error) if error.passing() && error.code != 409 => Compared::Unknown(error.to_string()),
        // A server that refuses it will say why when it is applied in earnest.
        Err(_) => Compared::Differs(Some(live)),
    };
    (object, compared)
}

/// What of an object is anybody's intent: without what servers write by themselves.
fn settled(object: &Value) -> Value {
    let mut object = object.clone();
    if let Some(map) = object.as_object_mut() {
        map.remove("status");
        if let Some(meta) = map.get_mut("metadata").and_then(Value::as_object_mut) {
            for key in
                ["managedFields", "resourceVersion", "generation", "uid", "creationTimestamp"]
            {
                meta.remove(key);
            }
        }
    }
    object
}

fn text(value: &Value, pointer: &str) -> String {
    value.pointer(pointer).and_then(Value::as_str).unwrap_or_default().to_owned()
}

fn strings(value: &Value, pointer: &str) -> Vec<String> {
    let list = value.pointer(pointer).and_then(Value::as_array);
    list.into_iter().flatten().filter_map(Value::as_str).map(ToOwned::to_owned).collect()
}

/// The condition of that type of an object.
pub(crate) fn condition<'a>(object: &'a Value, kind: &str) -> Option<&'a Value> {
    let conditions = object.pointer("/status/conditions").and_then(Value::as_array);
    conditions.into_iter().flatten().find(|condition| condition["type"] == kind)
}

/// Whether a node, or a pod, says that it is ready.
pub(crate) fn says_ready(object: &Value) -> bool {
    condition(object, "Ready").is_some_and(|ready| ready["status"] == "True")
}

pub(super) fn node_facts(node: &Value) -> NodeFacts {
    let ready = condition(node, "Ready");
    let labels: BTreeMap<String, String> = node
        .pointer("/metadata/labels")
        .and_then(|labels| serde_json::from_value(labels.clone()).ok())
        .unwrap_or_default();
    let taints: Vec<Taint> = node
        .pointer("/spec/taints")
        .and_then(|taints| serde_json::from_value(taints.clone()).ok())
        .unwrap_or_default();
    NodeFacts {
        ready: ready.is_some_and(|ready| ready["status"] == "True"),
        why: ready.map(|ready| text(ready, "/message")).unwrap_or_default(),
        version: text(node, "/status/nodeInfo/kubeletVersion").trim_start_matches('v').into(),
        machine: text(node, "/status/nodeInfo/machineID"),
        since: text(node, "/metadata/creationTimestamp"),
        subnets: strings(node, "/spec/podCIDRs")
            .iter()
            .filter_map(|net| net.parse().ok())
            .collect(),
        labels,
        taints,
        put: node
            .pointer("/metadata/annotations")
            .and_then(|all| serde_json::from_str(all.get(PUT_ANNOTATION)?.as_str()?).ok()),
    }
}

/// Requests for kubelets' client certificates that are neither signed nor refused.
pub(super) async fn requests(api: &ApiClient) -> ApiResult<Vec<NodeRequest>> {
    let path = format!(
        "/apis/certificates.k8s.io/v1/certificatesigningrequests?fieldSelector=spec.signerName%3D{}",
        KUBELET_CLIENT_SIGNER.replace('/', "%2F")
    );
    let open = |request: &Value| {
        request.pointer("/status/certificate").is_none()
            && condition(request, "Denied").is_none()
            && condition(request, "Failed").is_none()
    };
    Ok(api.list(&path).await?.iter().filter(|request| open(request)).map(node_request).collect())
}

fn node_request(request: &Value) -> NodeRequest {
    let encoded = text(request, "/spec/request");
    let pem = base64::engine::general_purpose::STANDARD.decode(encoded).unwrap_or_default();
    NodeRequest {
        name: text(request, "/metadata/name"),
        username: text(request, "/spec/username"),
        groups: strings(request, "/spec/groups"),
        signer: text(request, "/spec/signerName"),
        usages: strings(request, "/spec/usages"),
        pem: String::from_utf8_lossy(&pem).into_owned(),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_servers_write_by_themselves_is_no_difference_and_all_else_is() {
        let live = json!({
            "metadata": {"name": "dns", "uid": "1", "resourceVersion": "7", "generation": 2,
                         "managedFields": [{"manager": "zoisite"}], "labels": {"a": "b"}},
            "spec": {"replicas": 2},
            "status": {"replicas": 1},
        });
        let mut dry = live.clone();
        dry["metadata"]["resourceVersion"] = json!("9");
        dry["metadata"]["managedFields"] = json!([]);
        dry["status"] = json!({"replicas": 2});
        assert_eq!(settled(&live), settled(&dry));
        for (pointer, value) in [("/spec/replicas", json!(3)), ("/metadata/labels/a", json!("c"))] {
            let mut other = dry.clone();
            *other.pointer_mut(pointer).unwrap() = value;
            assert_ne!(settled(&live), settled(&other), "{pointer}");
        }
    }

    #[test]
    fn a_node_object_is_read_with_what_is_missing_left_empty() {
        let facts = node_facts(&json!({"metadata": {"name": "tern-1"}}));
        assert_eq!(facts, NodeFacts::default());
        let facts = node_facts(&json!({
            "metadata": {"name": "tern-1", "labels": {"shore": "north"}},
            "spec": {"podCIDRs": ["10.90.3.0/24", "not a range"],
                     "taints": [{"key": "slow", "effect": "NoSchedule"}]},
            "status": {
                "conditions": [
                    {"type": "MemoryPressure", "status": "True"},
                    {"type": "Ready", "status": "False", "message": "cni plugin not initialized"},
                ],
                "nodeInfo": {"kubeletVersion": "v1.36.3", "machineID": "abc"},
            },
        }));
        assert!(!facts.ready);
        assert_eq!(facts.why, "cni plugin not initialized");
        assert_eq!((facts.version.as_str(), facts.machine.as_str()), ("1.36.3", "abc"));
        assert_eq!(facts.subnets, ["10.90.3.0/24".parse().unwrap()]);
        assert_eq!(
            (facts.labels["shore"].as_str(), facts.taints[0].key.as_str()),
            ("north", "slow")
        );
    }

    #[test]
    fn a_request_is_read_out_of_its_wrapping() {
        let pem = "-----BEGIN CERTIFICATE REQUEST-----\n";
        let request = node_request(&json!({
            "metadata": {"name": "csr-1"},
            "spec": {
                "request": base64::engine::general_purpose::STANDARD.encode(pem),
                "signerName": KUBELET_CLIENT_SIGNER,
                "username": "system:bootstrap:abcdef",
                "groups": ["system:bootstrappers"],
                "usages": ["client auth"],
            },
        }));
        assert_eq!((request.name.as_str(), request.pem.as_str()), ("csr-1", pem));
        assert_eq!(request.username, "system:bootstrap:abcdef");
        assert_eq!(request.subject(), None, "what cannot be read names nobody");
    }
}
