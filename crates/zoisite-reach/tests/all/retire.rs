//! A member's host leaves the cluster file altogether, on simulated hosts: the others do without it before anything is
//! done to it, whatever is killed or fails on the way, and it stays out when its machine comes back.

use crate::lives::{Ended, HOSTS, Stage};
use crate::simulated::host;
use zoisite_core::aim::{Arm, Why};
use zoisite_reach::Fault;

const LEAVES: &str = "ibis";
const STAY: [&str; 3] = ["heron", "egret", "curlew"];

/// Three members, of which one is no more in the file; another host is a member in its place.
fn leaving() -> Stage {
    let mut stage = Stage::raised(&HOSTS[..3]);
    stage.world().write_all_the_while();
    stage.cluster.hosts.retain(|one| one.name != host(LEAVES));
    stage.want(&STAY);
    stage
}

/// The others are the quorum, and nothing that its machine does changes that.
fn must_be_out(stage: &mut Stage, when: &str) {
    stage.world().power(&host(LEAVES), true);
    stage.must_converge(when);
    for on in [false, true] {
        let mut voters = stage.world().voters();
        voters.sort();
        let mut stay = STAY.map(host);
        stay.sort();
        assert_eq!(voters, stay, "{when}");
        stage.world().power(&host(LEAVES), on);
        stage.must_converge(&format!("{when}, its power {on}"));
    }
}

#[test]
fn another_one_comes_before_it_goes_and_it_stays_out() {
    let mut stage = leaving();
    let before = stage.taken.len();
    must_be_out(&mut stage, "retired");
    let arms = &stage.taken[before..];
    let at = |found: &dyn Fn(&Arm) -> bool| arms.iter().position(found).unwrap();
    let comes = at(&|arm| matches!(arm, Arm::Promote { host: one, .. } if *one == host("curlew")));
    let goes =
        at(&|arm| matches!(arm, Arm::Remove { who, why: Why::Unwanted, .. } if who == LEAVES));
    assert!(comes < goes, "{arms:?}");
}

#[test]
fn killed_or_without_power_at_every_operation_it_goes_on() {
    let mut whole = leaving();
    let begins = whole.world().operations();
    assert_eq!(whole.raise(), Ended::Reached);
    let operations = whole.world().operations() - begins;
    assert!(operations > 25, "{operations}");
    for at in (0..operations).step_by(2) {
        for lost in [None, Some(LEAVES), Some("egret")] {
            let mut stage = leaving();
            let operation = stage.world().operations() + at;
            stage.world().fault(match lost {
                None => Fault::Killed { operation },
                Some(name) => Fault::Power { operation, host: host(name), on: false },
            });
            stage.raise();
            must_be_out(&mut stage, &format!("{at} operations later, {lost:?}"));
        }
    }
}

#[test]
fn a_machine_that_is_dead_already_is_taken_out_by_the_others() {
    let mut stage = leaving();
    stage.world().power(&host(LEAVES), false);
    // Whoever comes is let in only when the dead one is out.
    stage.raise();
    let dead = |arm: &Arm| matches!(arm, Arm::Remove { who, why: Why::Dead, .. } if who == LEAVES);
    assert!(stage.taken.iter().any(dead), "{:?}", stage.taken);
    must_be_out(&mut stage, "dead");
}
