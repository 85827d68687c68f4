//! How far hosts have come in joining, told from the cluster's side.

use std::collections::BTreeMap;

use crate::common::{SALTMARSH, Trust, at, host};
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::holdings::HostFacts;
use zoisite_core::joining::{
    Callers, Evidence, Joining, Passed, Stage, callers_script, read_callers,
};
use zoisite_core::sequence::{ApiObserved, NodeFacts};
use zoisite_core::token::TokenRecord;

struct Scene {
    cluster: Cluster,
    api: ApiObserved,
    tokens: Vec<TokenRecord>,
    trust: Trust,
    facts: BTreeMap<HostName, HostFacts>,
}

impl Scene {
    fn new() -> Self {
        Self::of(SALTMARSH)
    }

    fn of(text: &str) -> Self {
        let cluster = read(text).cluster.unwrap();
        let trust = Trust::new(&cluster, at("2026-11-28"));
        let (tokens, facts) = (Vec::new(), BTreeMap::new());
        Self { cluster, api: ApiObserved::default(), tokens, trust, facts }
    }

    fn token(&mut self, published: bool) {
        let made = at("2026-11-28");
        let ends = made + jiff::SignedDuration::from_hours(2);
        let (hosts, used) = (vec![host("tern-1")], Vec::new());
        let id = "abcdef".to_owned();
        if published {
            self.api.tokens.insert(id.clone());
        }
        self.tokens.push(TokenRecord {
            id,
            hosts,
            uses: 1,
            made,
            expires: ends,
            used,
            gone: None,
            by_run: false,
        });
    }

    fn look(&self, callers: Option<&Callers>, hours: i64) -> Joining {
        let now = at("2026-11-28") + jiff::SignedDuration::from_hours(hours);
        let Self { cluster, api, tokens, trust, facts } = self;
        let ledger = &trust.ledger;
        let evidence = Evidence { cluster, api, tokens, ledger, facts, callers, now };
        evidence.of(cluster.host(&host("tern-1")).unwrap())
    }
}

fn stopped(joining: &Joining) -> (Stage, String) {
    let (stage, seen, fix) = joining.stopped().unwrap();
    assert!(!fix.is_empty());
    (stage, seen.to_owned())
}

fn heard(who: &[&str]) -> Callers {
    let who = who.iter().map(|at| at.parse().unwrap()).collect();
    Callers { who, seconds: 12, ..Callers::default() }
}

#[test]
fn a_host_that_never_appears_is_told_apart_from_one_that_is_slow() {
    let mut scene = Scene::new();
    assert_eq!(stopped(&scene.look(None, 0)), (Stage::Token, "no token was made for it".into()));
    scene.token(false);
    assert_eq!(stopped(&scene.look(None, 0)).1, "abcdef is not published in the cluster any more");
    scene.api.tokens.insert("abcdef".into());
    // Nobody listened: nothing is claimed.
    assert_eq!(scene.look(None, 0).stopped(), None);
    assert_eq!(
        stopped(&scene.look(None, 3)),
        (Stage::Token, "abcdef ended on 2026-11-28 14:00".into())
    );
    let silent = scene.look(Some(&heard(&["10.77.0.21", "203.0.113.9"])), 0);
    let seen = "no packet of it reached the API endpoint within 12 s; 203.0.113.9 did, of no host of the file";
    assert_eq!(stopped(&silent), (Stage::Connects, seen.into()));
    let dials = scene.look(Some(&heard(&["10.77.0.101"])), 0);
    assert_eq!(stopped(&dials).0, Stage::Requests);
    let node = NodeFacts {
        ready: false,
        why: "cni plugin not initialized".into(),
        ..NodeFacts::default()
    };
    scene.api.nodes.insert("tern-1".into(), node);
    let slow = scene.look(Some(&heard(&[])), 3);
    assert_eq!(
        stopped(&slow),
        (Stage::Ready, "its node is not Ready: cni plugin not initialized".into())
    );
    scene.api.nodes.get_mut("tern-1").unwrap().ready = true;
    let ready = scene.look(None, 0);
    assert!(ready.is_ready() && ready.stopped().is_none());
    // It is in no mesh.
    let all = ready.stages.iter().filter(|(stage, _)| *stage != Stage::Mesh);
    assert!(all.clone().all(|(_, passed)| matches!(passed, Passed::Yes { .. })), "{ready:?}");
    assert_eq!(all.count() + 1, ready.stages.len());
}

#[test]
fn of_one_in_a_mesh_is_told_whether_its_key_is_known_and_who_knocks() {
    let mut scene = Scene::of(include_str!("../../../../lab/clusters/mesh-away.toml"));
    scene.token(true);
    assert_eq!(scene.look(None, 0).stopped(), None, "nobody listened");
    let mut heard = heard(&[]);
    heard.knocks.insert("203.0.113.9".parse().unwrap());
    let (stage, seen) = stopped(&scene.look(Some(&heard), 0));
    assert_eq!(stage, Stage::Mesh);
    assert_eq!(seen, "its key is not known; 203.0.113.9 knocks with an unknown key");
    let facts = HostFacts { mesh_key: Some("tern-1=".into()), ..HostFacts::default() };
    scene.facts.insert(host("tern-1"), facts);
    let (_, seen) = stopped(&scene.look(Some(&heard), 0));
    assert!(seen.starts_with("no host met it by its key, tern-1=, within 12 s; 203"), "{seen}");
    heard.met.insert("tern-1=".into());
    assert_eq!(
        stopped(&scene.look(Some(&heard), 0)).0,
        Stage::Connects,
        "it is met, and dials not"
    );
}

#[test]
fn hosts_say_who_dialled_them_or_why_they_cannot() {
    let ports = [6443, 6444].into();
    let script = callers_script(&host("jetty-a"), &ports, Some(51_820), 12);
    assert!(script.contains("callers 12 '6443, 6444' 51820 zoisite-mesh 180\n"), "{script}");
    let text = "@\tcaller\t10.77.0.101\n@\tcaller\tfd77::1\n@\tmet\tkey=\n@\tknocks\t203.0.113.9\n";
    let heard = read_callers(&format!("{text}@\tcounted\n@\tend\n"), 12).unwrap();
    assert_eq!((heard.who.len(), heard.met.len(), heard.knocks.len()), (2, 1, 1));
    assert_eq!(heard.seconds, 12);
    let none = read_callers("@\tuncounted\tthere is no nft\n", 12);
    assert_eq!(none.unwrap_err(), "there is no nft");
    assert!(read_callers(text, 12).is_err(), "what was cut off counts for nothing");
}
