//! What is done through the API: objects applied, tokens published and taken back, nodes let in.

use std::time::Duration;

use base64::Engine as _;
use http::Method;
use serde_json::{Value, json};
use tokio::time::Instant;
use zoisite_core::cluster::{HostName, Signer};
use zoisite_core::holdings::{ApiObject, NodePut, NodeWanted, PUT_ANNOTATION};
use zoisite_core::pki::NodeRequest;
use zoisite_core::sequence::ApiWork;
use zoisite_core::text::digest;
use zoisite_core::token::{TOKENS_PATH, token_object, token_path};

use super::drain::{close, drain};
use super::fault::{WorkError, failed, refused};
use super::look::{condition, node_facts, requests};
use super::workloads::waiting;
use super::{ApiClient, ApiError, ApiResult, FIELD_MANAGER};
use crate::reach::{Contents, Progress};

const LEASES: &str = "/apis/coordination.k8s.io/v1/namespaces/kube-node-lease/leases";
const REQUESTS: &str = "/apis/certificates.k8s.io/v1/certificatesigningrequests";

/// For how long the API may take to know a kind that an object of before defines.
const KNOWN: Duration = Duration::from_secs(60);

/// The path of an object. One whose kind an object before it defines is waited for.
async fn path_once_known(
    api: &ApiClient,
    object: &ApiObject,
    before: &[ApiObject],
    progress: Progress<'_>,
) -> ApiResult<String> {
    let group = object.api_version().split_once('/').map_or("", |(group, _)| group);
    let defines = |other: &ApiObject| {
        let of = |pointer: &str| other.0.pointer(pointer).and_then(Value::as_str);
        other.kind() == "CustomResourceDefinition"
            && of("/spec/group") == Some(group)
            && of("/spec/names/kind") == Some(object.kind())
    };
    let end = Instant::now() + KNOWN;
    loop {
        match api.path(object).await {
            Err(error)
                if error.code == 404 && Instant::now() < end && before.iter().any(defines) => {}
            found => return found,
        }
        progress(format!("waiting until the API knows the kind {}", object.kind()));
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
}

/// Does one piece of work; returns how many things changed. Doing it twice does no harm.
pub(crate) async fn work(
    api: &ApiClient,
    contents: &dyn Contents,
    work: &ApiWork,
    progress: Progress<'_>,
) -> Result<usize, WorkError> {
    match work {
        ApiWork::Apply { objects } => {
            let mut changed = 0;
            for (i, object) in objects.iter().enumerate() {
                let title = object.title();
                progress(title.clone());
                let version = |object: &Value| object.pointer("/metadata/resourceVersion").cloned();
                let path = path_once_known(api, object, &objects[..i], progress).await;
                let path = path.map_err(failed(format!("finding {title}")))?;
                let before = api.get(&path).await.map_err(failed(format!("reading {title}")))?;
                let applied =
                    api.apply(object, false).await.map_err(failed(format!("applying {title}")))?;
                changed += usize::from(before.as_ref().and_then(version) != version(&applied));
            }
            Ok(changed)
        }
        ApiWork::Publish { host } => publish(api, contents, host).await,
        ApiWork::Unpublish { ids } => {
            for id in ids {
                unpublish(api, id).await?;
            }
            Ok(ids.len())
        }
        ApiWork::Admit { node, signer, seconds } => {
            admit(api, contents, (node, *signer), *seconds, progress).await
        }
        ApiWork::Retract { host } => retract(api, contents, host).await,
        ApiWork::Renew { host, request } => {
            let attempted = format!("signing the request {request}");
            let all = requests(api).await.map_err(failed("listing requests"))?;
            let Some(found) = all.iter().find(|found| found.name == *request) else {
                return Ok(0);
            };
            match answer(api, contents, host, found).await? {
                Ok(()) => Ok(1),
                Err(faults) => Err(refused(attempted, "it was refused", faults)),
            }
        }
        ApiWork::Deny { request, why } => {
            deny(api, request, why).await.map_err(failed(format!("refusing {request}")))?;
            Ok(1)
        }
        ApiWork::SetNode { node } => set_node(api, node).await,
        ApiWork::Close { host } => close(api, host).await,
        ApiWork::Drain { host, delete_unmanaged_pods, seconds } => {
            drain(api, host, *delete_unmanaged_pods, *seconds, progress).await
        }
        ApiWork::Believe { bundle, workloads, seconds } => {
            believe(api, bundle, workloads, *seconds, progress).await
        }
        ApiWork::RemoveNode { host } => {
            let attempted = format!("removing the node object {host}");
            api.delete(&format!("/api/v1/nodes/{host}")).await.map_err(failed(attempted))?;
            Ok(1)
        }
    }
}

/// What controller managers publish in every namespace for pods to believe.
const PUBLISHED: &str = "/api/v1/namespaces/kube-system/configmaps/kube-root-ca.crt";
/// By whom a workload's pods were last made to read whom they believe.
const BELIEVES_ANNOTATION: &str = "zoisite/believes";

/// Starts workloads again that read once, when they start, whom they believe.
async fn believe(
    api: &ApiClient,
    bundle: &str,
    workloads: &[ApiObject],
    seconds: u32,
    progress: Progress<'_>,
) -> Result<usize, WorkError> {
    let end = Instant::now() + Duration::from_secs(seconds.into());
    loop {
        let found = api.get(PUBLISHED).await.map_err(failed("reading whom pods are to believe"))?;
        let text = found.as_ref().and_then(|found| found.pointer("/data/ca.crt")?.as_str());
        if text.is_some_and(|text| text.trim() == bundle.trim()) {
            break;
        }
        if Instant::now() >= end {
            let answer = format!(
                "after {seconds} seconds controller managers have not published both authorities"
            );
            return Err(refused("having pods believe both".into(), answer, Vec::new()));
        }
        progress("waiting until controller managers publish both authorities".into());
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    let believes = digest(bundle);
    let mut begun = 0;
    for object in workloads {
        let title = object.title();
        let path = api.path(object).await.map_err(failed(format!("finding {title}")))?;
        let live = api.get(&path).await.map_err(failed(format!("reading {title}")))?;
        let annotations =
            live.as_ref().and_then(|live| live.pointer("/spec/template/metadata/annotations"));
        if live.is_none() || annotations.is_some_and(|all| all[BELIEVES_ANNOTATION] == believes) {
            continue;
        }
        let patch = json!({"spec": {"template": {"metadata": {"annotations": {BELIEVES_ANNOTATION: believes}}}}});
        api.merge(&path, &patch).await.map_err(failed(format!("starting {title} again")))?;
        begun += 1;
    }
    Ok(begun)
}

async fn publish(
    api: &ApiClient,
    contents: &dyn Contents,
    host: &HostName,
) -> Result<usize, WorkError> {
    let attempted = || "publishing the join token".to_owned();
    let unrecorded = |why: String| refused(attempted(), why, Vec::new());
    for id in contents.retire_tokens(host, false).map_err(unrecorded)? {
        unpublish(api, &id).await?;
    }
    let stale = requests(api).await.map_err(failed("listing requests"))?;
    for request in stale.iter().filter(|request| request.joins(host)) {
        let why = "its token was revoked: the host is let in again";
        deny(api, &request.name, why).await.map_err(failed("refusing a stale request"))?;
    }
    let (record, token) = contents.join_token(host).map_err(unrecorded)?;
    match api.create(TOKENS_PATH, &token_object(&record, &token)).await {
        Ok(_) => Ok(1),
        // It is there already: this step was tried before.
        Err(error) if error.code == 409 => Ok(0),
        Err(error) => Err(failed(attempted())(error)),
    }
}

async fn retract(
    api: &ApiClient,
    contents: &dyn Contents,
    host: &HostName,
) -> Result<usize, WorkError> {
    let attempted = "taking the join token back".to_owned();
    let ids =
        contents.retire_tokens(host, true).map_err(|why| refused(attempted, why, Vec::new()))?;
    for id in &ids {
        unpublish(api, id).await?;
    }
    Ok(ids.len())
}

async fn unpublish(api: &ApiClient, id: &str) -> Result<(), WorkError> {
    api.delete(&token_path(id)).await.map_err(failed("taking a join token back"))
}

/// Waits for the kubelet's request, answers it, waits for its node object, and gives it what it must have.
async fn admit(
    api: &ApiClient,
    contents: &dyn Contents,
    (node, signer): (&NodeWanted, Signer),
    seconds: u32,
    progress: Progress<'_>,
) -> Result<usize, WorkError> {
    let host = &node.host;
    let end = Instant::now() + Duration::from_secs(seconds.into());
    let mut seen = Admission::default();
    loop {
        // One error that passes must not cost the host its token: it is asked again.
        match try_admit(api, contents, (host, signer), &mut seen, progress).await {
            Ok(true) => break,
            Err(error) if !error.passing || Instant::now() >= end => return Err(error),
            Err(error) => progress(format!("again: {}", error.answer)),
            Ok(false) => progress(match seen.signed || signer == Signer::InCluster {
                false => "waiting for the kubelet's request".to_owned(),
                true => "waiting for the node to register".to_owned(),
            }),
        }
        if Instant::now() >= end {
            let waited = if seen.signed { "the node object" } else { "the kubelet's request" };
            let answer = format!("{waited} did not appear within {seconds} seconds");
            return Err(refused(format!("waiting for {waited}"), answer, seen.evidence));
        }
        tokio::time::sleep(Duration::from_millis(250)).await;
    }
    set_node(api, node).await?;
    Ok(1)
}

/// What was seen so far of a host that is let in.
#[derive(Default)]
struct Admission {
    /// When its node reported last before it was let in; the outer `None` before that was asked.
    before: Option<Option<Value>>,
    signed: bool,
    evidence: Vec<String>,
}

/// Answers what the host asks for by now; whether its kubelet is in.
async fn try_admit(
    api: &ApiClient,
    contents: &dyn Contents,
    (host, signer): (&HostName, Signer),
    seen: &mut Admission,
    progress: Progress<'_>,
) -> Result<bool, WorkError> {
    // What counts is that its kubelet reports again: a node object may be there from before, and a kubelet that died after it
    // asked has no use for what was signed, and asks once more.
    let reported = |why: &'static str| async move { renewed(api, host).await.map_err(failed(why)) };
    if seen.before.is_none() {
        seen.before = Some(reported("asking when the node reported last").await?);
    }
    let open = match signer {
        Signer::Run => requests(api).await.map_err(failed("listing requests"))?,
        Signer::InCluster => Vec::new(),
    };
    // What the node itself asked for before its certificate ended is of a key that nobody waits for any more.
    for request in open.iter().filter(|open| open.joins(host)) {
        progress(format!("checking the request {}", request.name));
        match answer(api, contents, host, request).await? {
            Ok(()) => seen.signed = true,
            Err(faults) => seen.evidence.extend(
                faults.into_iter().map(|fault| format!("{} was refused: {fault}", request.name)),
            ),
        }
    }
    let path = format!("/api/v1/nodes/{host}");
    let found = api.get(&path).await.map_err(failed("asking for the node"))?;
    Ok(found.is_some() && seen.before != Some(reported("asking whether the node reports").await?))
}

/// When a node's kubelet last renewed its lease, as the API words it.
async fn renewed(api: &ApiClient, host: &HostName) -> ApiResult<Option<Value>> {
    let lease = api.get(&format!("{LEASES}/{host}")).await?;
    Ok(lease.and_then(|lease| lease.pointer("/spec/renewTime").cloned()))
}

/// Signs a request, or refuses it with the reasons.
async fn answer(
    api: &ApiClient,
    contents: &dyn Contents,
    host: &HostName,
    request: &NodeRequest,
) -> Result<Result<(), Vec<String>>, WorkError> {
    let name = &request.name;
    match contents.sign(host, request) {
        Ok(certificate) => {
            let attempted = format!("signing the request {name}");
            approve(api, name, &certificate).await.map_err(failed(attempted))?;
            Ok(Ok(()))
        }
        Err(faults) => {
            let attempted = format!("refusing the request {name}");
            deny(api, name, &faults.join("; ")).await.map_err(failed(attempted))?;
            Ok(Err(faults))
        }
    }
}

/// Sets a condition of a request through its approval (`certificates.k8s.io/v1`).
async fn judge(api: &ApiClient, name: &str, kind: &str, message: &str) -> ApiResult<()> {
    let path = format!("{REQUESTS}/{name}");
    let Some(mut request) = api.get(&path).await? else { return Ok(()) };
    if condition(&request, kind).is_some() {
        return Ok(());
    }
    let message: String = message.chars().take(900).collect();
    let entry = json!({"type": kind, "status": "True", "reason": "Zoisite", "message": message});
    match request.pointer_mut("/status/conditions").and_then(Value::as_array_mut) {
        Some(conditions) => conditions.push(entry),
        None => request["status"] = json!({"conditions": [entry]}),
    }
    api.send(Method::PUT, &format!("{path}/approval"), "application/json", Some(&request))
        .await
        .map(|_| ())
}

async fn approve(api: &ApiClient, name: &str, certificate: &str) -> ApiResult<()> {
    judge(api, name, "Approved", "checked and signed by zoisite from the strongbox").await?;
    let path = format!("{REQUESTS}/{name}");
    let Some(mut request) = api.get(&path).await? else { return Ok(()) };
    let encoded = base64::engine::general_purpose::STANDARD.encode(certificate);
    request["status"]["certificate"] = Value::String(encoded);
    api.send(Method::PUT, &format!("{path}/status"), "application/json", Some(&request))
        .await
        .map(|_| ())
}

/// Refuses a request. One that was approved before (by a run that was cut before it signed) cannot be denied
/// any more (`certificates.k8s.io/v1`: the two exclude each other): it is deleted, and its kubelet asks again.
async fn deny(api: &ApiClient, name: &str, why: &str) -> ApiResult<()> {
    let path = format!("{REQUESTS}/{name}");
    match api.get(&path).await? {
        Some(request) if condition(&request, "Approved").is_some() => api.delete(&path).await,
        _ => judge(api, name, "Denied", why).await,
    }
}

/// Gives a node object its labels, taints and pod subnets. Its kubelet and the platform's controllers
/// write it too, most of all while it is new: what one of them was faster with is done once more.
async fn set_node(api: &ApiClient, node: &NodeWanted) -> Result<usize, WorkError> {
    let mut tries = 0;
    loop {
        tries += 1;
        match try_set_node(api, node).await {
            Err(error) if error.code == 409 && tries < 20 => {}
            result => {
                return result
                    .map(|()| 1)
                    .map_err(failed(format!("putting the node object {} right", node.host)));
            }
        }
    }
}

async fn try_set_node(api: &ApiClient, node: &NodeWanted) -> ApiResult<()> {
    let path = format!("/api/v1/nodes/{}", node.host);
    let labels = ApiObject(json!({
        "apiVersion": "v1",
        "kind": "Node",
        "metadata": {
            "name": node.host,
            "labels": node.labels,
            "annotations": {PUT_ANNOTATION: json!(node.put()).to_string()},
        },
    }));
    // What Zoisite put there is read before it is written again: what is no longer asked for goes.
    let before = node_facts(&api.get(&path).await?.unwrap_or_default());
    let put = before.put.unwrap_or_else(NodePut::unremembered);
    let applied = api.apply(&labels, false).await?;
    let facts = node_facts(&applied);
    let left = put.left_over(node, &facts.labels, &facts.taints);
    let mut spec = serde_json::Map::new();
    if let (true, Some(first)) = (facts.subnets.is_empty(), node.subnets.first()) {
        spec.insert("podCIDR".into(), json!(first));
        spec.insert("podCIDRs".into(), json!(node.subnets));
    }
    let mut taints = facts.taints.clone();
    taints.retain(|taint| !left.taints.contains(taint));
    taints.extend(node.taints.iter().filter(|t| !facts.taints.contains(t)).cloned());
    if taints != facts.taints {
        spec.insert("taints".into(), json!(taints));
    }
    let labels: serde_json::Map<String, Value> =
        left.labels.into_iter().map(|key| (key, Value::Null)).collect();
    if !spec.is_empty() || !labels.is_empty() {
        // Taints are one list: the version says that nobody else changed it meanwhile.
        let version = applied.pointer("/metadata/resourceVersion");
        let patch = json!({
            "metadata": {"resourceVersion": version, "labels": labels},
            "spec": spec,
        });
        let path = format!("{path}?fieldManager={FIELD_MANAGER}");
        api.merge(&path, &patch).await?;
    }
    Ok(())
}

/// Whether a node is Ready and its kubelet has reported lately, by the clock of the newest report of all.
pub(crate) async fn ready_now(api: &ApiClient, host: &HostName) -> Result<(), String> {
    let words = |error: ApiError| error.to_string();
    let node = api.get(&format!("/api/v1/nodes/{host}")).await.map_err(words)?;
    let Some(node) = node else { return Err("it has no node object yet".into()) };
    let facts = node_facts(&node);
    if !facts.ready {
        return Err(format!("it is not Ready: {}", facts.why));
    }
    let leases = api.list(LEASES).await.map_err(words)?;
    let time = |object: &Value, pointer: &str| -> Option<jiff::Timestamp> {
        object.pointer(pointer)?.as_str()?.parse().ok()
    };
    // The lease of a kubelet that has just registered may come ten seconds later than its word.
    let heartbeat = condition(&node, "Ready").and_then(|ready| time(ready, "/lastHeartbeatTime"));
    let renewed = |lease: &Value| time(lease, "/spec/renewTime");
    let own = leases
        .iter()
        .find(|lease| lease.pointer("/metadata/name").is_some_and(|name| name == host.as_str()))
        .and_then(renewed)
        .max(heartbeat);
    let newest = leases.iter().filter_map(renewed).max();
    match own {
        None => Err("its kubelet has not reported yet".into()),
        Some(own) if newest.is_some_and(|newest| newest.as_second() - own.as_second() > 45) => {
            Err("its kubelet has not reported for a while".into())
        }
        Some(_) => Ok(()),
    }
}

/// Watches whether a node is Ready in a way that counts: it is the machine's own node, its kubelet has
/// reported since this watch began, and it has stayed Ready for some seconds. (A Ready that a lost host or a
/// stopped kubelet left behind does not count, nor one that a kubelet is about to take back.)
#[derive(Default)]
pub(crate) struct Readiness {
    /// What its kubelet had reported when this watch began.
    before: Option<Report>,
    /// Since when it is Ready without a break, and the transition that made it so.
    ready: Option<(Instant, Option<String>)>,
}

/// When a kubelet reported last, by its lease and by the condition that it writes.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Report {
    lease: Option<Value>,
    heartbeat: Option<String>,
}

/// For how long a node must stay Ready.
const STANDS: Duration = Duration::from_secs(5);

impl Readiness {
    /// Asks once; what is still missing.
    pub async fn ask(
        &mut self,
        api: &ApiClient,
        host: &HostName,
        machine: Option<&str>,
    ) -> Result<(), String> {
        let words = |error: ApiError| error.to_string();
        let node = api.get(&format!("/api/v1/nodes/{host}")).await.map_err(words)?;
        let lease = renewed(api, host).await.map_err(words)?;
        self.judge(node.as_ref(), lease, machine, Instant::now())
    }

    fn judge(
        &mut self,
        node: Option<&Value>,
        lease: Option<Value>,
        machine: Option<&str>,
        now: Instant,
    ) -> Result<(), String> {
        let Some(node) = node else {
            self.ready = None;
            return Err("it has no node object yet".into());
        };
        let condition = condition(node, "Ready");
        let said = |key: &str| condition.and_then(|c| c[key].as_str()).map(ToOwned::to_owned);
        let report = Report { lease, heartbeat: said("lastHeartbeatTime") };
        let before = self.before.get_or_insert_with(|| report.clone()).clone();
        let facts = node_facts(node);
        if machine.is_some_and(|machine| !machine.is_empty() && facts.machine != machine) {
            self.ready = None;
            return Err("its node object is another machine's".into());
        }
        if !facts.ready {
            self.ready = None;
            return Err(format!("it is not Ready: {}", facts.why));
        }
        let turned = said("lastTransitionTime");
        let since = match &self.ready {
            Some((since, transition)) if *transition == turned => *since,
            _ => {
                self.ready = Some((now, turned));
                now
            }
        };
        if report == before {
            return Err("its kubelet has not reported yet".into());
        }
        if now.duration_since(since) < STANDS {
            return Err("it has just become Ready".into());
        }
        Ok(())
    }
}

/// Whether workloads run as wanted.
pub(crate) async fn rollout(api: &ApiClient, workloads: &[ApiObject]) -> Result<(), String> {
    for object in workloads {
        let title = object.title();
        let path = api.path(object).await.map_err(|e| format!("{title}: {e}"))?;
        let live = api.get(&path).await.map_err(|e| format!("{title}: {e}"))?;
        let Some(live) = live else { return Err(format!("{title} is not there")) };
        if let Some(why) = waiting(object, &live) {
            return Err(why);
        }
    }
    Ok(())
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
mod tests {
    use std::collections::BTreeMap;
    use std::path::PathBuf;
    use std::sync::{Arc, Mutex};

    use zoisite_core::item::Component;
    use zoisite_core::pki::{KeyRequest, LedgerEntry, Secret, SecretRef};
    use zoisite_core::token::TokenRecord;

    use super::*;

    #[test]
    fn a_node_counts_as_ready_when_its_own_kubelet_says_so_and_it_stands() {
        let node = |ready: &str, machine: &str, heartbeat: &str| {
            json!({"status": {
                "conditions": [{"type": "Ready", "status": ready, "message": "CSINode is not yet initialized",
                                "lastHeartbeatTime": heartbeat, "lastTransitionTime": ready}],
                "nodeInfo": {"machineID": machine},
            }})
        };
        let begin = Instant::now();
        let mut watch = Readiness::default();
        let mut at = |seconds: u64, node: &Value, lease: &str| {
            let now = begin + Duration::from_secs(seconds);
            watch.judge(Some(node), Some(json!(lease)), Some("m1"), now).err().unwrap_or_default()
        };
        // A stopped kubelet left a Ready behind: however long it stands, nobody reports.
        assert!(at(0, &node("True", "m1", "h1"), "l1").contains("has not reported"));
        assert!(at(60, &node("True", "m1", "h1"), "l1").contains("has not reported"));
        // It reports, and takes its word back.
        assert!(at(61, &node("False", "m1", "h2"), "l2").contains("CSINode"));
        assert!(at(62, &node("True", "m1", "h3"), "l2").contains("just become"));
        assert!(at(66, &node("True", "m1", "h3"), "l2").contains("just become"));
        assert_eq!(at(68, &node("True", "m1", "h3"), "l2"), "");
        assert!(at(69, &node("True", "m2", "h4"), "l3").contains("another machine's"));
        let gone = Readiness::default().judge(None, None, None, begin);
        assert!(gone.is_err_and(|why| why.contains("no node object")));
    }

    #[test]
    fn requests_made_with_a_token_are_told_from_a_nodes_own() {
        let host = HostName::new("tern-1").unwrap_or_else(|e| panic!("{e}"));
        let request =
            |username: &str| NodeRequest { username: username.into(), ..NodeRequest::default() };
        assert!(!request("system:node:tern-1").joins(&host));
        assert!(!request("system:bootstrap:abcdef").joins(&host), "it names nobody");
    }

    /// Requests as an API server keeps them, with its rule that what is approved cannot be denied.
    type Kept = Arc<Mutex<BTreeMap<String, Value>>>;

    fn server(kept: &Kept) -> ApiClient {
        let kept = Arc::clone(kept);
        ApiClient::answered(move |method, path, body| {
            let mut kept = kept.lock().unwrap();
            let rest = path.strip_prefix(REQUESTS).unwrap().trim_start_matches('/');
            let (name, part) = rest.split_once('/').unwrap_or((rest, ""));
            if !kept.contains_key(name) {
                return (404, json!({"kind": "Status", "code": 404, "message": "not found"}));
            }
            match (method.as_str(), part) {
                ("GET", "") => (200, kept[name].clone()),
                ("DELETE", "") => (200, kept.remove(name).unwrap()),
                ("PUT", "approval") => {
                    let both =
                        ["Approved", "Denied"].iter().all(|kind| condition(&body, kind).is_some());
                    if both {
                        let message = "Approved and Denied conditions are mutually exclusive";
                        return (422, json!({"kind": "Status", "code": 422, "message": message}));
                    }
                    kept.insert(name.to_owned(), body.clone());
                    (200, body)
                }
                other => panic!("nobody asks for {other:?}"),
            }
        })
    }

    #[tokio::test]
    async fn a_request_that_a_cut_run_approved_is_taken_away_where_it_cannot_be_denied() {
        let named = |name: &str| (name.to_owned(), json!({"metadata": {"name": name}}));
        let kept: Kept = Arc::new(Mutex::new([named("new"), named("approved")].into()));
        let api = server(&kept);
        judge(&api, "approved", "Approved", "cut before it was signed").await.unwrap();
        for name in ["new", "approved", "gone"] {
            deny(&api, name, "the host is let in again").await.unwrap();
        }
        let left = kept.lock().unwrap().clone();
        assert_eq!(left.keys().collect::<Vec<_>>(), ["new"]);
        let denied = condition(&left["new"], "Denied").unwrap();
        assert_eq!(denied["message"], "the host is let in again");
    }

    /// Contents of work that needs none.
    struct Nothing;

    impl Contents for Nothing {
        fn secret(&self, _: &SecretRef) -> Option<Secret> {
            None
        }
        fn component(&self, _: &Component, _: &str, _: &str) -> Result<PathBuf, String> {
            Err("there is none".into())
        }
        fn join_token(&self, _: &HostName) -> Result<(TokenRecord, Secret), String> {
            Err("there is none".into())
        }
        fn snapshot(&self, _: &str) -> Result<Box<dyn crate::reach::SnapshotFile>, String> {
            Err("nothing is kept in a test".into())
        }

        fn retire_tokens(&self, _: &HostName, _: bool) -> Result<Vec<String>, String> {
            Ok(Vec::new())
        }
        fn sign(&self, _: &HostName, _: &NodeRequest) -> Result<String, Vec<String>> {
            Err(Vec::new())
        }
        fn certify(&self, _: &HostName, _: &[KeyRequest]) -> Result<Vec<LedgerEntry>, Vec<String>> {
            Err(Vec::new())
        }
    }

    /// An API that knows a kind when it has been asked for it three times.
    #[tokio::test(start_paused = true)]
    async fn an_object_waits_for_its_kind_where_one_before_it_defines_that() {
        let asked = Arc::new(Mutex::new(0));
        let api = ApiClient::answered({
            let asked = Arc::clone(&asked);
            move |method, path, body| {
                let missing = (404, json!({"kind": "Status", "code": 404, "message": "not found"}));
                match (method.as_str(), path.split('?').next().unwrap()) {
                    ("GET", "/apis/tides.example/v1") => {
                        let mut asked = asked.lock().unwrap();
                        *asked += 1;
                        let kinds = json!([{"kind": "Tide", "name": "tides", "namespaced": false}]);
                        if *asked < 3 { missing } else { (200, json!({"resources": kinds})) }
                    }
                    ("GET", "/apis/apiextensions.k8s.io/v1") => {
                        let name = "customresourcedefinitions";
                        let kind = "CustomResourceDefinition";
                        let kinds = json!([{"kind": kind, "name": name, "namespaced": false}]);
                        (200, json!({"resources": kinds}))
                    }
                    ("PATCH", _) => (200, body),
                    _ => missing,
                }
            }
        });
        let defines = ApiObject(json!({
            "apiVersion": "apiextensions.k8s.io/v1", "kind": "CustomResourceDefinition",
            "metadata": {"name": "tides.tides.example"},
            "spec": {"group": "tides.example", "names": {"kind": "Tide"}},
        }));
        let tide = ApiObject(json!({
            "apiVersion": "tides.example/v1", "kind": "Tide", "metadata": {"name": "spring"},
        }));
        let apply = async |objects: Vec<ApiObject>| {
            let all = ApiWork::Apply { objects };
            work(&api, &Nothing, &all, &|_| {}).await.map_err(|error| error.answer)
        };
        let alone = apply(vec![tide.clone()]).await.unwrap_err();
        assert!(alone.contains("the API has no kind Tide"), "{alone}");
        assert_eq!(*asked.lock().unwrap(), 1, "its kind is not defined: it is not waited for");
        assert!(apply(vec![defines, tide]).await.is_ok());
        assert_eq!(*asked.lock().unwrap(), 3);
    }
}
