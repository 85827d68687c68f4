//! What the API shows of nodes, requests, tokens and wanted objects.

use std::collections::BTreeMap;

use base64::Engine as _;
use futures_util::future::{join, join_all, try_join4};
use serde_json::Value;
use zoisite_core::blueprint::{ApiObject, Taint};
use zoisite_core::pki::{KUBELET_CLIENT_SIGNER, NodeRequest};
use zoisite_core::sequence::{ApiObserved, NodeFacts};
use zoisite_core::token::{TOKENS_PATH, token_id};

use super::work::waiting;
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
        match found {
            Compared::Same(live) => {
                if let Some(why) = waiting(object, &live) {
                    out.waiting.insert(object.title(), why);
                }
            }
            Compared::Differs => {
                out.differing.insert(object.title());
            }
        }
    }
    Ok(out)
}

enum Compared {
    Same(Value),
    Differs,
}

/// Whether applying an object would change what stands: the server itself is asked, without doing it.
async fn compare<'a>(api: &ApiClient, object: &'a ApiObject) -> (&'a ApiObject, Compared) {
    let live = async {
        let path = api.path(object).await.ok()?;
        api.get(&path).await.ok()?
    };
    let Some(live) = live.await else { return (object, Compared::Differs) };
    // A server that refuses it will say why when it is applied in earnest.
    let Ok(applied) = api.apply(object, true).await else { return (object, Compared::Differs) };
    if settled(&live) == settled(&applied) {
        (object, Compared::Same(live))
    } else {
        (object, Compared::Differs)
    }
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
