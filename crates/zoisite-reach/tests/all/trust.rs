//! Authorities are replaced on simulated hosts: killed at any moment it goes on, and whoever dials is believed at every
//! instant (rule S14, which the world judges at every operation).

use crate::lives::{Ended, HOSTS, Stage};
use crate::simulated::{host, now, turn};
use zoisite_core::aim::Arm;
use zoisite_core::pki::{AuthorityKind, TrustStage};
use zoisite_reach::Fault;
use zoisite_store::{FreshKeys, StoreError, authorities, token_key};

fn replace(stage: &mut Stage, kind: AuthorityKind) {
    let cluster = stage.issued.cluster.clone();
    stage.store(|state, strongbox| {
        let done = authorities::replace(state, strongbox, &cluster, kind, &FreshKeys, now());
        done.unwrap();
    });
}

/// Where hosts hold whom they believe, of each kind.
fn bundles(kind: AuthorityKind) -> &'static [&'static str] {
    match kind {
        AuthorityKind::Cluster => &[
            "/etc/zoisite/api-server/cluster-authority.crt",
            "/etc/zoisite/controller-manager/cluster-authority.crt",
        ],
        AuthorityKind::EtcdPeer => &["/etc/zoisite/etcd/peer-authority.crt"],
        AuthorityKind::EtcdClient => &[
            "/etc/zoisite/etcd/client-authority.crt",
            "/etc/zoisite/api-server/etcd-authority.crt",
        ],
        AuthorityKind::FrontProxy => &["/etc/zoisite/api-server/front-proxy-authority.crt"],
    }
}

/// Every host believes so many authorities of that kind, and everything in force was issued by that one of them.
fn must_be(stage: &mut Stage, kind: AuthorityKind, believed: usize, signs: &str, when: &str) {
    for name in &HOSTS[..3] {
        for path in bundles(kind) {
            let world = stage.world();
            let text = world.text(&host(name), path).unwrap();
            assert_eq!(text.matches("BEGIN CERT").count(), believed, "{when}: {name}: {path}");
        }
    }
    let ledger = &stage.issued.ledger;
    let signing = ledger.authority(kind).unwrap();
    assert_eq!(signing.subject, format!("saltmarsh {kind} authority{signs}"), "{when}");
    let of_it = ledger.entries.iter().filter(|entry| entry.authority == kind);
    for entry in of_it.filter(|entry| entry.is_in_force()) {
        assert_eq!(entry.authority_sha256, signing.sha256, "{when}: {}", entry.label());
    }
}

/// The stages that a person lets begin, to the end.
fn words(kind: AuthorityKind) -> usize {
    if kind.waits_for_people() { 3 } else { 1 }
}

#[test]
fn each_is_believed_beside_the_old_one_then_signs_then_the_old_one_goes() {
    let mut stage = Stage::of_three();
    for kind in AuthorityKind::ALL {
        let before = stage.taken.len();
        for _ in 0..words(kind) {
            replace(&mut stage, kind);
            stage.must_come_through(kind.id());
        }
        must_be(&mut stage, kind, 1, " 2", kind.id());
        let stages =
            [TrustStage::Believe, TrustStage::SignBy, TrustStage::Forget].map(|of| of(kind));
        let taken = stage.taken[before..].iter().filter_map(Arm::trust).collect::<Vec<_>>();
        assert_eq!(taken, stages, "{kind}");
        assert_eq!(stage.issued.ledger.replacing(), None);
        let before = stage.taken.len();
        assert_eq!(stage.raise(), Ended::Reached);
        assert_eq!(stage.taken.len(), before, "a second raise does nothing");
    }
}

#[test]
fn killed_at_every_operation_it_goes_on() {
    for kind in AuthorityKind::ALL {
        let mut whole = Stage::of_three();
        let begins = whole.world().operations();
        let mut rounds = Vec::new();
        for _ in 0..words(kind) {
            replace(&mut whole, kind);
            assert_eq!(whole.raise(), Ended::Reached);
            rounds.push(whole.world().operations());
        }
        let operations = whole.world().operations() - begins;
        assert!(operations > 20, "{kind}: {operations}");
        // Every operation: in turn this program is killed there, and the power of a host fails.
        for at in (turn(3) as u64..operations).step_by(3) {
            let mut stage = Stage::of_three();
            let lost = at % 2 == 1;
            let operation = begins + at;
            stage.world().fault(match lost {
                false => Fault::Killed { operation },
                true => Fault::Power { operation, host: host("egret"), on: false },
            });
            let when = format!("{kind}: {at} operations later, power lost: {lost}");
            for _ in 0..words(kind) {
                replace(&mut stage, kind);
                if stage.raise() != Ended::Reached {
                    stage.must_come_through(&when);
                }
            }
            stage.must_come_through(&when);
            must_be(&mut stage, kind, 1, " 2", &when);
        }
    }
}

/// How many public keys for tokens each API server accepts, and by which it signs.
fn token_keys(stage: &mut Stage) -> Vec<(usize, String)> {
    let of = |name: &&str| {
        let world = stage.world();
        let text = |path: &str| world.text(&host(name), path).unwrap().to_owned();
        let accepted =
            text("/etc/zoisite/api-server/service-accounts.pub").matches("BEGIN").count();
        (accepted, text("/etc/zoisite/api-server/service-accounts.key"))
    };
    HOSTS[..3].iter().map(of).collect()
}

#[test]
fn the_key_of_tokens_is_accepted_then_signs_and_the_old_one_goes_by_a_word() {
    let replace = |stage: &mut Stage| {
        stage.store(|state, strongbox| {
            token_key::replace(state, strongbox, &FreshKeys).unwrap();
        });
    };
    let mut whole = Stage::of_three();
    let first = token_keys(&mut whole);
    let begins = whole.world().operations();
    replace(&mut whole);
    whole.must_come_through("replaced");
    let operations = whole.world().operations() - begins;
    let second = token_keys(&mut whole);
    assert!(second.iter().zip(&first).all(|(now, then)| now.0 == 2 && now.1 != then.1));
    let taken: Vec<TrustStage> = whole.taken.iter().filter_map(Arm::trust).collect();
    assert_eq!(taken, [TrustStage::AcceptTokens, TrustStage::SignTokens]);
    // What the old one signed is accepted until a person says so, and it may be taken back until then.
    whole.store(|state, strongbox| {
        token_key::uninstall(state, strongbox).unwrap();
    });
    whole.must_come_through("taken back");
    assert!(
        token_keys(&mut whole).iter().zip(&first).all(|(now, then)| now.0 == 2 && now.1 == then.1)
    );
    replace(&mut whole);
    whole.must_come_through("ended");
    assert_eq!(token_keys(&mut whole), first);
    whole.store(|state, strongbox| {
        let refused = token_key::uninstall(state, strongbox);
        assert!(matches!(refused, Err(StoreError::NoTokenKey)));
    });
    for at in 0..operations {
        let mut stage = Stage::of_three();
        stage.world().fault(Fault::Killed { operation: begins + at });
        replace(&mut stage);
        stage.raise();
        // Said again it makes no third one.
        if stage.issued.shared.service_accounts_turn.stage().is_some() {
            replace(&mut stage);
        }
        stage.must_come_through(&format!("{at} operations later"));
        let now = token_keys(&mut stage);
        assert!(now.iter().all(|(accepted, key)| *accepted == 2 && *key == now[0].1), "{at}");
    }
}

#[test]
fn it_is_taken_back_in_every_stage() {
    let kind = AuthorityKind::Cluster;
    for rounds in 1..=2 {
        let mut stage = Stage::of_three();
        for _ in 0..rounds {
            replace(&mut stage, kind);
            stage.must_come_through("there");
        }
        must_be(&mut stage, kind, 2, if rounds == 2 { " 2" } else { "" }, "half way");
        stage.store(|state, strongbox| {
            authorities::uninstall(state, strongbox, kind).unwrap();
        });
        stage.must_come_through("back");
        if rounds == 2 {
            // What the other one signed was in use: the last stage waits for a word here too.
            must_be(&mut stage, kind, 2, "", "back");
            replace(&mut stage, kind);
            stage.must_come_through("back");
        }
        must_be(&mut stage, kind, 1, "", "back");
    }
    // One at a time, and what is not there is not taken back.
    let mut stage = Stage::of_three();
    replace(&mut stage, kind);
    let cluster = stage.issued.cluster.clone();
    stage.store(|state, strongbox| {
        let other = AuthorityKind::EtcdPeer;
        let refused = authorities::replace(state, strongbox, &cluster, other, &FreshKeys, now());
        assert!(matches!(refused, Err(StoreError::Replacing(AuthorityKind::Cluster))));
        let refused = authorities::uninstall(state, strongbox, other);
        assert!(matches!(refused, Err(StoreError::NotReplacing(AuthorityKind::EtcdPeer))));
        let all = state.ledger().unwrap().authorities.len();
        assert_eq!(all, AuthorityKind::ALL.len() + 1);
    });
}

#[test]
fn a_host_that_cannot_be_brought_to_it_holds_it_back() {
    // Of etcd's own, members would restart for it while one is away: rule S2 refuses that.
    let of_etcd = (AuthorityKind::EtcdPeer, Ended::Refused);
    for (kind, ended) in [(AuthorityKind::FrontProxy, Ended::Held), of_etcd] {
        let mut stage = Stage::of_three();
        replace(&mut stage, kind);
        stage.world().power(&host("ibis"), false);
        assert_eq!(stage.raise(), ended, "{kind}");
        if ended == Ended::Held {
            let why = "ibis could not be brought to it";
            assert!(stage.troubles.iter().any(|told| told.contains(why)), "{:?}", stage.troubles);
        }
        assert_eq!(stage.issued.ledger.stage(), Some(TrustStage::Believe(kind)));
        stage.must_come_through("it is back");
        must_be(&mut stage, kind, 1, " 2", "it is back");
    }
}

#[test]
fn one_that_signs_before_it_is_believed_is_seen() {
    // What the program is kept from: the world must notice.
    for kind in [AuthorityKind::EtcdPeer, AuthorityKind::EtcdClient] {
        let mut stage = Stage::of_three();
        replace(&mut stage, kind);
        stage.store(|state, strongbox| {
            for _ in 0..2 {
                let stage = state.ledger().unwrap().stage().unwrap();
                authorities::go_on(state, strongbox, stage).unwrap();
            }
            let ledger = state.ledger().unwrap();
            let left = ledger.authorities.iter().filter(|one| !one.standing.is_believed());
            assert_eq!(left.count(), 1);
        });
        stage.raise();
        let broken = stage.world().broken().to_vec();
        assert!(broken.iter().any(|how| how.starts_with("S14:")), "{kind}: {broken:?}");
    }
}

#[test]
fn everything_has_ended_and_the_same_raise_fixes_it_killed_anywhere() {
    // Certificates, which last a year; and the authorities too, which last ten.
    for then in ["2028-03-01T12:00:00Z", "2038-03-01T12:00:00Z"] {
        let ended = || {
            let mut stage = Stage::of_three();
            stage.world().judge_trust(false);
            stage.nobody_was_there_until(then);
            assert!(!stage.world().serves(&host("heron")), "{then}: nobody believes anybody");
            stage
        };
        let mut stage = ended();
        let before = stage.world().operations();
        stage.must_come_through(then);
        let all = stage.world().operations() - before;
        assert!(HOSTS[..3].iter().all(|name| stage.world().serves(&host(name))), "{then}");
        let ledger = &stage.issued.ledger;
        for entry in ledger.entries.iter().filter(|entry| entry.is_in_force()) {
            assert!(entry.not_after > stage.now && ledger.believes(entry), "{then}: {entry:?}");
        }
        for cut in 0..all {
            let mut stage = ended();
            let operation = stage.world().operations() + cut;
            stage.world().fault(Fault::Killed { operation });
            let _ = stage.raise();
            stage.must_come_through(&format!("{then}, killed at {cut} of {all}"));
        }
    }
}
