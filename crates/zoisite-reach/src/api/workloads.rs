use serde_json::Value;
use zoisite_core::holdings::ApiObject;

/// What a workload still waits for.
pub(super) fn waiting(object: &ApiObject, live: &Value) -> Option<String> {
    let number = |pointer: &str| live.pointer(pointer).and_then(Value::as_u64).unwrap_or(0);
    let (wanted, have) = match object.kind() {
        "Deployment" => {
            let updated =
                number("/status/updatedReplicas").min(number("/status/availableReplicas"));
            (number("/spec/replicas"), updated)
        }
        "StatefulSet" => (number("/spec/replicas"), number("/status/readyReplicas")),
        "DaemonSet" => {
            (number("/status/desiredNumberScheduled"), number("/status/numberAvailable"))
        }
        _ => return None,
    };
    let stale = number("/status/observedGeneration") < number("/metadata/generation");
    let title = object.title();
    if stale {
        Some(format!("{title} has not been looked at by its controller"))
    } else if have < wanted {
        Some(format!("{title}: {have} of {wanted} run"))
    } else {
        None
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn object(kind: &str) -> ApiObject {
        ApiObject(json!({"kind": kind, "metadata": {"name": "dns", "namespace": "kube-system"}}))
    }

    #[test]
    fn a_workload_is_waited_for_until_its_controller_has_seen_it_and_all_of_it_runs() {
        let deployment = |generation: u64, updated: u64, available: u64| {
            json!({
                "metadata": {"generation": 2},
                "spec": {"replicas": 2},
                "status": {"observedGeneration": generation, "updatedReplicas": updated,
                           "availableReplicas": available},
            })
        };
        let wait = |live: Value| waiting(&object("Deployment"), &live);
        assert_eq!(wait(deployment(2, 2, 2)), None);
        let stale = wait(deployment(1, 2, 2)).unwrap_or_default();
        assert!(stale.contains("has not been looked at"), "{stale}");
        // Two are available, and one of them is of before.
        let half = wait(deployment(2, 1, 2)).unwrap_or_default();
        assert_eq!(half, "Deployment kube-system/dns: 1 of 2 run");
        assert!(wait(json!({"spec": {"replicas": 2}})).is_some(), "nothing is known of it yet");

        let daemons = json!({"status": {"desiredNumberScheduled": 3, "numberAvailable": 2}});
        let some = waiting(&object("DaemonSet"), &daemons).unwrap_or_default();
        assert!(some.contains("2 of 3 run"), "{some}");
        assert_eq!(waiting(&object("ConfigMap"), &json!({})), None, "nothing of it runs");
    }
}
