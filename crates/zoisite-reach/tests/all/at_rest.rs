//! The key by which secrets are encrypted in etcd is replaced, on simulated hosts: killed at any moment it goes on, and
//! every API server can read every secret at every instant (rule S13, which the world judges at every operation).

use crate::lives::{Ended, HOSTS, Stage};
use crate::simulated::{host, now};
use zoisite_core::aim::Arm;
use zoisite_core::holdings::API_SERVER_UNIT;
use zoisite_reach::Fault;
use zoisite_store::{FreshKeys, at_rest};

fn replace(stage: &mut Stage) {
    stage.store(|state, strongbox| {
        at_rest::replace(state, strongbox, &FreshKeys, now()).unwrap();
    });
}

/// All is encrypted by that key, every API server has it alone, and nothing was ever unreadable.
fn must_be_by(stage: &mut Stage, key: &str, when: &str) {
    stage.must_come_through(when);
    assert_eq!(stage.world().keys_of_secrets(), [key].into(), "{when}");
    let path = "/etc/zoisite/api-server/encryption.yaml";
    for name in &HOSTS[..3] {
        let world = stage.world();
        let text = world.text(&host(name), path).unwrap();
        let names: Vec<&str> =
            text.lines().filter_map(|line| line.trim().strip_prefix("- name: ")).collect();
        assert_eq!(names, [key], "{when}: {name}");
        assert!(world.runs(&host(name), API_SERVER_UNIT), "{when}: {name}");
    }
}

#[test]
fn it_is_accepted_everywhere_then_used_then_the_old_one_goes() {
    let mut stage = Stage::of_three();
    assert_eq!(stage.world().keys_of_secrets(), ["first"].into());
    for key in ["key-2", "key-3"] {
        let before = stage.taken.len();
        replace(&mut stage);
        must_be_by(&mut stage, key, "replaced");
        let arms: Vec<Arm> = stage.taken[before..].to_vec();
        let name = || key.to_owned();
        let all = [Arm::AcceptKey { key: name() }, Arm::RewriteBy { key: name() }, Arm::File];
        assert_eq!(arms, all);
        let before = stage.taken.len();
        assert_eq!(stage.raise(), Ended::Reached);
        assert_eq!(stage.taken.len(), before, "a second raise does nothing");
    }
}

#[test]
fn killed_at_every_operation_it_goes_on() {
    let mut whole = Stage::of_three();
    let begins = whole.world().operations();
    replace(&mut whole);
    assert_eq!(whole.raise(), Ended::Reached);
    let operations = whole.world().operations() - begins;
    assert!(operations > 40, "{operations}");
    for at in 0..operations {
        for lost in [false, true] {
            let mut stage = Stage::of_three();
            replace(&mut stage);
            let operation = stage.world().operations() + at;
            stage.world().fault(match lost {
                false => Fault::Killed { operation },
                true => Fault::Power { operation, host: host("egret"), on: false },
            });
            stage.raise();
            // Whoever asks for another one meanwhile goes on with this one.
            replace(&mut stage);
            let when = format!("{at} operations later, power lost: {lost}");
            let one_more = stage.issued.shared.at_rest_keys().all().count() > 2;
            must_be_by(&mut stage, if one_more { "key-3" } else { "key-2" }, &when);
        }
    }
}

#[test]
fn an_api_server_that_cannot_be_brought_to_it_holds_it_back() {
    let mut stage = Stage::of_three();
    replace(&mut stage);
    stage.world().power(&host("ibis"), false);
    assert_eq!(stage.raise(), Ended::Held);
    let why = "the API server of ibis could not be brought to it";
    assert!(stage.troubles.iter().any(|told| told.contains(why)), "{:?}", stage.troubles);
    assert_eq!(stage.world().keys_of_secrets(), ["first"].into());
    let held = stage.taken.iter().any(|arm| arm.at_rest().is_some());
    assert!(!held, "{:?}", stage.taken);
    must_be_by(&mut stage, "key-2", "it is back");
}

#[test]
fn a_key_that_is_dropped_before_all_is_written_again_is_seen() {
    // What the program is kept from: the world must notice.
    let mut stage = Stage::of_three();
    replace(&mut stage);
    stage.store(|state, strongbox| {
        for _ in 0..2 {
            let stage = state.shared_secrets().unwrap().unwrap().at_rest_keys().stage().unwrap();
            at_rest::go_on(state, strongbox, &stage).unwrap();
        }
    });
    stage.raise();
    let broken = stage.world().broken().to_vec();
    assert!(broken.iter().any(|how| how.starts_with("S13:")), "{broken:?}");
}

#[test]
fn a_snapshot_of_before_is_read_by_the_key_of_its_time() {
    const SAVED: &str = "2026-11-27-030000";
    let mut stage = Stage::of_three();
    let ids: Vec<String> = {
        let keys = stage.issued.shared.at_rest_keys();
        keys.ring().all().map(|key| key.id.clone()).collect()
    };
    stage.world().take_snapshot(SAVED);
    replace(&mut stage);
    must_be_by(&mut stage, "key-2", "replaced");
    stage.store(|state, strongbox| {
        assert!(at_rest::accept_again(state, strongbox, &["another".into()]).unwrap().is_none());
        at_rest::accept_again(state, strongbox, &ids).unwrap().unwrap();
    });
    stage.put_back(SAVED);
    must_be_by(&mut stage, "key-2", "put back");
    assert!(stage.taken.iter().any(|arm| matches!(arm, Arm::Restore { .. })));
}
