//! Twenty workers are emptied against a simulated API server that keeps budgets, ends pods and has them made again.

use std::sync::{Arc, Mutex};

use super::*;
use crate::api::drain::in_waves;
use zoisite_core::sequence::StepOutcome;

const APPS: usize = 12;
const REPLICAS: usize = 5;
/// Every budget lets one pod of its application be away.
const AWAY: usize = 1;

#[derive(Clone, Debug)]
struct Pod {
    app: usize,
    number: usize,
    node: usize,
    /// Looks at the node until it is ready, or gone once it is to go.
    takes: u32,
    goes: bool,
}

#[derive(Debug, Default)]
struct Shore {
    closed: Vec<bool>,
    pods: Vec<Pod>,
    made: usize,
    evictions: usize,
    kept: usize,
    /// Nodes that somebody is emptying at the moment, and how many at most were.
    emptied: Vec<usize>,
    at_once: usize,
}

impl Shore {
    fn new(nodes: usize) -> Self {
        let mut shore = Self { closed: vec![false; nodes], ..Self::default() };
        for app in 0..APPS {
            for _ in 0..REPLICAS {
                shore.make(app);
                shore.pods.last_mut().unwrap().takes = 0;
            }
        }
        shore
    }

    /// A new pod goes to the open node that has the fewest.
    fn make(&mut self, app: usize) {
        let on = |node: usize| self.pods.iter().filter(|pod| pod.node == node).count();
        let open = (0..self.closed.len()).filter(|node| !self.closed[*node]);
        let node = open.min_by_key(|node| on(*node)).unwrap();
        self.made += 1;
        self.pods.push(Pod { app, number: self.made, node, takes: 3, goes: false });
    }

    fn ready(&self, app: usize) -> usize {
        self.pods.iter().filter(|pod| pod.app == app && pod.takes == 0 && !pod.goes).count()
    }

    /// Time passes: each look is a moment.
    fn passes(&mut self) {
        for pod in &mut self.pods {
            pod.takes = pod.takes.saturating_sub(1);
        }
        let gone: Vec<Pod> =
            self.pods.iter().filter(|pod| pod.goes && pod.takes == 0).cloned().collect();
        self.pods.retain(|pod| !(pod.goes && pod.takes == 0));
        for pod in gone {
            self.make(pod.app);
        }
    }

    fn listed(&mut self, node: usize) -> Value {
        self.passes();
        if !self.emptied.contains(&node) {
            self.emptied.push(node);
        }
        self.at_once = self.at_once.max(self.emptied.len());
        let here: Vec<Value> = self
            .pods
            .iter()
            .filter(|pod| pod.node == node)
            .map(|pod| {
                let mut shown = json!({
                    "metadata": {
                        "namespace": "shore", "name": format!("app-{}-{}", pod.app, pod.number),
                        "ownerReferences": [{"kind": "ReplicaSet", "controller": true}],
                    },
                    "status": {"phase": "Running"},
                });
                if pod.goes {
                    shown["metadata"]["deletionTimestamp"] = "2026-11-27T03:00:00Z".into();
                }
                shown
            })
            .collect();
        if here.is_empty() {
            self.emptied.retain(|one| *one != node);
        }
        json!({"items": here})
    }

    fn evicted(&mut self, name: &str) -> (u16, Value) {
        let number: usize = name.rsplit('-').next().unwrap().parse().unwrap();
        let Some(at) = self.pods.iter().position(|pod| pod.number == number) else {
            return (404, status(404, "not found"));
        };
        let app = self.pods[at].app;
        if self.ready(app) <= REPLICAS - AWAY && self.pods[at].takes == 0 {
            self.kept += 1;
            return (429, status(429, "Cannot evict pod as it would violate the budget."));
        }
        self.evictions += 1;
        self.pods[at].goes = true;
        self.pods[at].takes = 2;
        assert!(self.ready(app) >= REPLICAS - AWAY, "the budget of app {app} is broken");
        (201, json!({}))
    }

    fn answers(&mut self, method: &str, path: &str) -> (u16, Value) {
        let node = |name: &str| name.strip_prefix("tern-").unwrap().parse::<usize>().unwrap();
        if let Some(name) = path.strip_prefix("/api/v1/nodes/") {
            let at = node(name);
            self.closed[at] |= method == "PATCH";
            return (200, json!({"spec": {"unschedulable": self.closed[at]}}));
        }
        if let Some((_, name)) = path.split_once("spec.nodeName%3D") {
            return (200, self.listed(node(name)));
        }
        let rest = path.strip_prefix("/api/v1/namespaces/shore/pods/").unwrap();
        self.evicted(rest.strip_suffix("/eviction").unwrap())
    }
}

fn status(code: u16, message: &str) -> Value {
    json!({"kind": "Status", "code": code, "message": message})
}

/// Empties the first of so many workers; `None` when it was cut off after so many answers.
async fn emptied(shore: &Arc<Mutex<Shore>>, nodes: usize, answers: usize) -> Option<usize> {
    let left = Arc::new(Mutex::new(answers));
    let cut = Arc::new(tokio::sync::Notify::new());
    let api = ApiClient::answered({
        let (shore, cut) = (Arc::clone(shore), Arc::clone(&cut));
        move |method, path, _| {
            let mut left = left.lock().unwrap();
            *left = left.saturating_sub(1);
            if *left == 0 {
                cut.notify_one();
            }
            shore.lock().unwrap().answers(method.as_str(), path)
        }
    });
    let hosts: Vec<HostName> =
        (0..nodes).map(|n| HostName::new(&format!("tern-{n}")).unwrap()).collect();
    let outcome = |done: Result<usize, WorkError>| match done {
        Ok(changed) => StepOutcome::Done { changed },
        Err(error) => panic!("{}", error.answer),
    };
    let whole = async {
        let closed = in_waves(&hosts, async |host| outcome(close(&api, host).await)).await;
        let told = |_| {};
        let left =
            in_waves(&hosts, async |host| outcome(drain(&api, host, false, 900, &told).await));
        closed.len() + left.await.len()
    };
    tokio::select! {
        biased;
        () = cut.notified() => None,
        done = whole => Some(done),
    }
}

#[tokio::test(start_paused = true)]
async fn twenty_workers_are_emptied_in_waves_and_no_budget_is_broken() {
    let shore = Arc::new(Mutex::new(Shore::new(30)));
    assert_eq!(emptied(&shore, 20, usize::MAX).await, Some(40));
    let shore = shore.lock().unwrap();
    assert!(shore.pods.iter().all(|pod| pod.node >= 20), "{shore:?}");
    // As all were closed first, no pod moved twice.
    assert_eq!(shore.evictions, 40, "each of the pods that were there, once");
    assert!(shore.kept > 0, "budgets kept some for a while");
    assert!(shore.at_once > 1 && shore.at_once <= 4, "{} at once", shore.at_once);
}

#[tokio::test(start_paused = true)]
async fn cut_off_after_any_answer_it_goes_on() {
    let whole = Arc::new(Mutex::new(Shore::new(30)));
    let _ = emptied(&whole, 20, usize::MAX).await;
    for answers in (1..).step_by(7) {
        let shore = Arc::new(Mutex::new(Shore::new(30)));
        let cut = emptied(&shore, 20, answers).await;
        shore.lock().unwrap().emptied.clear();
        assert_eq!(emptied(&shore, 20, usize::MAX).await, Some(40), "cut after {answers}");
        let shore = shore.lock().unwrap();
        assert!(shore.pods.iter().all(|pod| pod.node >= 20), "cut after {answers}: {shore:?}");
        assert_eq!(shore.evictions, 40, "cut after {answers}");
        if cut.is_some() {
            break;
        }
    }
}
