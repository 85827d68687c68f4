//! Another quorum begins with a snapshot, on simulated hosts: killed at any moment it goes on, nothing serves beside it,
//! and nothing of what the snapshot holds is lost.

use crate::lives::{Ended, HOSTS, Stage};
use crate::simulated::host;
use zoisite_core::aim::Arm;
use zoisite_reach::Fault;

const SAVED: &str = "2026-11-27-030000";

/// Three members with five counts that a snapshot holds, and one that was written after it.
fn counted() -> Stage {
    let stage = Stage::raised(&HOSTS[..3]);
    let heron = host("heron");
    for nest in 1..=5 {
        stage.world().write(&heron, &format!("nest-{nest}"), "3").unwrap();
    }
    stage.world().take_snapshot(SAVED);
    stage.world().write(&heron, "nest-6", "spoilt").unwrap();
    stage
}

/// What the snapshot holds is there, what came after it is not, and the file is reached.
fn must_be_back(stage: &mut Stage, when: &str) {
    stage.must_converge(when);
    for name in &HOSTS[..3] {
        let read = |key| stage.world().read(&host(name), key).unwrap().map(ToOwned::to_owned);
        assert_eq!(read("nest-5"), Some("3".into()), "{when}: {name}");
        assert_eq!(read("nest-6"), None, "{when}: {name}");
    }
    let begun = stage.begun.as_ref().unwrap();
    assert!(begun.restoring.is_none(), "{when}");
}

#[test]
fn members_begin_with_it_together() {
    let mut stage = counted();
    let before = stage.begun.clone().unwrap();
    stage.put_back(SAVED);
    assert_eq!(stage.raise(), Ended::Reached, "{:?}", stage.troubles);
    let arms: Vec<String> = stage.taken.iter().skip(1).map(ToString::to_string).collect();
    assert_eq!(arms, ["put snapshot 2026-11-27-030000 back on egret, heron, ibis"]);
    must_be_back(&mut stage, "put back");
    let after = stage.begun.clone().unwrap();
    assert_eq!((before.epoch, after.epoch), (1, 2));
    assert_ne!(before.formed, after.formed, "it is another quorum");
    // And once more, from one that knows nothing of the others.
    stage.put_back(SAVED);
    must_be_back(&mut stage, "put back again");
    assert_eq!(stage.begun.unwrap().epoch, 3);
}

#[test]
fn killed_at_every_operation_it_goes_on() {
    let mut whole = counted();
    let begins = whole.world().operations();
    whole.put_back(SAVED);
    assert_eq!(whole.raise(), Ended::Reached);
    let operations = whole.world().operations() - begins;
    assert!(operations > 25, "{operations}");
    for at in 0..operations {
        for lost in [false, true] {
            let mut stage = counted();
            stage.put_back(SAVED);
            let operation = stage.world().operations() + at;
            stage.world().fault(match lost {
                false => Fault::Killed { operation },
                true => Fault::Power { operation, host: host("egret"), on: false },
            });
            stage.raise();
            must_be_back(&mut stage, &format!("{at} operations later, power lost: {lost}"));
        }
    }
}

#[test]
fn a_quorum_that_is_lost_for_good_begins_again_without_those_that_are_gone() {
    let mut stage = counted();
    for name in ["heron", "ibis"] {
        stage.world().power(&host(name), false);
    }
    stage.put_back(SAVED);
    let operations = stage.world().operations();
    assert_eq!(stage.raise(), Ended::Refused, "who is not seen may still serve");
    assert_eq!(stage.world().operations(), operations, "nothing was done");
    let begun = stage.begun.as_mut().unwrap();
    let from = begun.restoring.as_mut().unwrap();
    from.lost = ["heron", "ibis"].map(host).into();
    from.hosts = [host("egret")].into();
    // The two are let in when they answer; they are known to be gone, and nobody waits for them.
    assert_eq!(stage.raise(), Ended::Held, "{:?}", stage.troubles);
    assert_eq!(stage.world().voters(), [host("egret")]);
    assert_eq!(stage.world().read(&host("egret"), "nest-5"), Ok(Some("3")));
    // One was not gone after all, and starts with what it had: nobody hears it, and it comes in again. In the place of
    // the other there is a new machine.
    stage.world().lose_data(&host("ibis"), false);
    stage.world().another_machine(&host("ibis"));
    must_be_back(&mut stage, "one is back with its old data, one is new");
    let learns =
        |old| move |arm: &&Arm| matches!(arm, Arm::Learn { old_data, .. } if *old_data == old);
    let counted = |old| stage.taken.iter().filter(learns(old)).count();
    assert_eq!((counted(true), counted(false)), (1, 1), "{:?}", stage.taken);
}

#[test]
fn what_was_made_of_another_one_is_not_taken_for_it() {
    let mut left = 0;
    for at in 4..20 {
        let mut stage = counted();
        stage.world().take_snapshot("later");
        stage.put_back("later");
        let operation = stage.world().operations() + at;
        stage.world().fault(Fault::Killed { operation });
        stage.raise();
        // Nothing has begun: the person leaves it, and takes the one of before.
        if !HOSTS[..3].iter().all(|name| stage.world().serves(&host(name))) {
            break;
        }
        assert!(at < 19, "it has begun by then");
        stage.begun.as_mut().unwrap().restoring = None;
        stage.put_back(SAVED);
        must_be_back(&mut stage, &format!("killed {at} operations later"));
        left += 1;
    }
    assert!(left >= 3, "it was left {left} times before it had begun");
}

#[test]
fn a_snapshot_that_cannot_be_read_there_stops_nothing() {
    let mut stage = counted();
    stage.put_back("another-one");
    assert_eq!(stage.raise(), Ended::Failed);
    assert!(stage.troubles[0].contains("making a member's data"), "{:?}", stage.troubles);
    for name in &HOSTS[..3] {
        assert!(stage.world().serves(&host(name)), "{name} serves on");
    }
    // The person takes the right one instead.
    stage.put_back(SAVED);
    must_be_back(&mut stage, "the right one");
}
