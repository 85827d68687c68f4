//! How far hosts have come in joining, told from the cluster's side.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use common::{SALTMARSH, Trust, at, host};
use zoisite_core::cluster::{Cluster, read};
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
}

impl Scene {
    fn new() -> Self {
        let cluster = read(SALTMARSH).cluster.unwrap();
        let trust = Trust::new(&cluster, at("2026-11-28"));
        Self { cluster, api: ApiObserved::default(), tokens: Vec::new(), trust }
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
            ends,
            used,
            gone: None,
            by_run: false,
        });
    }

    fn look(&self, callers: Option<&Callers>, hours: i64) -> Joining {
        let now = at("2026-11-28") + jiff::SignedDuration::from_hours(hours);
        let Self { cluster, api, tokens, trust } = self;
        let evidence = Evidence { cluster, api, tokens, ledger: &trust.ledger, callers, now };
        evidence.of(cluster.host(&host("tern-1")).unwrap())
    }
}

fn stopped(joining: &Joining) -> (Stage, String) {
    let (stage, seen, mend) = joining.stopped().unwrap();
    assert!(!mend.is_empty());
    (stage, seen.to_owned())
}

fn heard(who: &[&str]) -> Callers {
    Callers { who: who.iter().map(|at| at.parse().unwrap()).collect(), seconds: 12 }
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
    let seen = "nothing of it reached the stable address within 12 s; 203.0.113.9 did, of no host of the file";
    assert_eq!(stopped(&silent), (Stage::Dials, seen.into()));
    let dials = scene.look(Some(&heard(&["10.77.0.101"])), 0);
    assert_eq!(stopped(&dials).0, Stage::Asks);
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
    assert!(
        ready.stages.iter().all(|(_, passed)| matches!(passed, Passed::Yes { .. })),
        "{ready:?}"
    );
}

#[test]
fn hosts_say_who_dialled_them_or_why_they_cannot() {
    let script = callers_script(&host("jetty-a"), 6443, 12);
    assert!(script.contains("callers 12 6443"));
    let who =
        read_callers("@\tcaller\t10.77.0.101\n@\tcaller\tfd77::1\n@\tcounted\n@\tend\n").unwrap();
    assert_eq!(who.len(), 2);
    assert_eq!(read_callers("@\tuncounted\tthere is no nft\n").unwrap_err(), "there is no nft");
    assert!(
        read_callers("@\tcaller\t10.77.0.101\n").is_err(),
        "what was cut off counts for nothing"
    );
}
