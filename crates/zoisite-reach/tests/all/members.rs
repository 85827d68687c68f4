//! Members of the quorum come, move and go on simulated hosts, while somebody writes and while this program, hosts
//! and disks fail at any moment. What is judged is what became of the writes, not what a rule says of itself.

use std::panic::{AssertUnwindSafe, catch_unwind};

use crate::lives::{BUGS, Bug, Ended, HOSTS, Stage};
use crate::simulated::{by_chance, host};
use proptest::prelude::*;
use proptest::sample::Index;
use proptest::strategy::ValueTree as _;
use proptest::test_runner::{FailurePersistence, FileFailurePersistence, TestRunner};
use zoisite_core::aim::{Arm, Why};
use zoisite_core::cluster::HostName;
use zoisite_reach::Fault;

#[test]
fn from_one_to_five_and_back_under_writes() {
    let mut stage = Stage::raised(&["heron"]);
    stage.world().write_all_the_while();
    stage.world().write(&host("heron"), "eggs", "3").unwrap();
    for members in [&HOSTS[..3], &HOSTS, &HOSTS[2..], &HOSTS[4..], &HOSTS[..1]] {
        let before = stage.world().acknowledged();
        stage.want(members);
        stage.must_converge(&format!("{members:?}"));
        assert!(stage.world().acknowledged() > before + 10, "somebody wrote meanwhile");
        assert_eq!(stage.world().read(&host(members[0]), "eggs"), Ok(Some("3")));
    }
}

#[test]
fn killed_at_every_operation_between_two_memberships_it_goes_on() {
    // One leaves, one comes, and one that was a member before comes back with its old data.
    let (from, to) = (["heron", "egret", "ibis"], ["egret", "ibis", "curlew"]);
    let mut operations = 0;
    let mut at = 0;
    while at == 0 || at <= operations {
        let mut stage = Stage::raised(&from);
        stage.world().write_all_the_while();
        stage.want(&to);
        let begins = stage.world().operations();
        stage.world().fault(Fault::Killed { operation: begins + at });
        let ended = stage.raise();
        match (at, &ended) {
            (0, _) | (_, Ended::Killed | Ended::Reached) => {}
            _ => panic!("{at}: {ended:?}"),
        }
        stage.must_converge(&format!("killed {at} operations later"));
        operations = stage.world().operations() - begins;
        stage.want(&from);
        stage.must_converge("and back, with old data");
        at += 3;
    }
    assert!(operations > 25, "{operations}");
}

#[test]
fn a_learner_that_never_catches_up_is_taken_back_and_the_run_ends() {
    let mut stage = Stage::raised(&["heron"]);
    stage.world().write_all_the_while();
    for _ in 0..40 {
        stage.world().write(&host("heron"), "eggs", "3").unwrap();
    }
    stage.world().fault(Fault::Lags(host("egret")));
    stage.want(&["heron", "egret", "ibis"]);
    assert_eq!(stage.raise(), Ended::Failed);
    assert!(matches!(stage.taken.last(), Some(Arm::Promote { .. })), "{:?}", stage.taken);
    assert_eq!(stage.world().voters(), [host("heron")]);
    assert_eq!(stage.world().learners(), 0, "it was taken back");
    stage.must_converge("it hears the others again");
}

#[test]
fn one_raise_brings_a_member_back_beside_a_learner() {
    let mut beside = 0;
    for at in 0..90 {
        let mut stage = Stage::raised(&["heron"]);
        stage.want(&HOSTS[..3]);
        let operation = stage.world().operations() + at;
        // The script that had been started goes on: the learner comes up.
        stage.world().fault(Fault::LeftRunning { operation, pace: 1 });
        let _ = stage.raise();
        if stage.world().learners() == 0 || stage.world().voters().len() != 2 {
            continue;
        }
        // One that votes does not come up by itself.
        let egret = host("egret");
        stage.world().power(&egret, false);
        let unit = Some(zoisite_core::holdings::ETCD_UNIT);
        stage.world().fault(Fault::Refuses { host: egret.clone(), unit, times: 1 });
        stage.world().power(&egret, true);
        assert!(!stage.world().serves(&egret));
        let ended = stage.raise();
        assert_eq!(ended, Ended::Reached, "killed {at} operations later: {:?}", stage.troubles);
        assert!(stage.taken.contains(&Arm::Fix), "{:?}", stage.taken);
        beside += 1;
    }
    assert!(beside > 2, "{beside}");
}

#[test]
fn a_vote_that_was_given_unheard_is_not_taken_back() {
    let mut unheard = 0;
    for at in 0..60 {
        let mut stage = Stage::raised(&["heron"]);
        stage.world().write_all_the_while();
        stage.want(&["heron", "egret", "ibis"]);
        // From then on whatever is asked for is done, and nobody hears so.
        let from = stage.world().operations() + at;
        for operation in from..from + 400 {
            stage.world().fault(Fault::AnswerLost { operation });
        }
        stage.raise();
        unheard += stage.troubles.iter().filter(|t| t.contains("it has its vote by now")).count();
        assert!(!stage.troubles.iter().any(|t| t.contains("was removed")), "{at}");
        stage.must_converge("answers come back again");
    }
    assert!(unheard > 0);
}

/// What is broken when a run begins while a script of a killed one is still at work.
fn beside_a_script(bug: Option<Bug>, at: u64, pace: u32) -> Vec<String> {
    let mut stage = Stage::raised(&["heron", "egret", "ibis"]);
    stage.bug = bug;
    stage.world().write_all_the_while();
    let edit = |stage: &Stage, name: &str| {
        let edited = |text: &str| format!("# somebody was here\n{text}");
        stage.world().edit(&host(name), "/etc/zoisite/etcd/etcd.yaml", edited);
    };
    edit(&stage, "ibis");
    let operation = stage.world().operations() + at;
    stage.world().fault(Fault::LeftRunning { operation, pace });
    let ended = stage.raise();
    assert!(matches!(ended, Ended::Killed | Ended::Reached), "{at}: {ended:?}");
    stage.world().fix();
    edit(&stage, "heron");
    stage.raise();
    let broken = stage.world().broken().to_vec();
    if bug.is_none() {
        stage.must_converge("after a script was left running");
    }
    broken
}

#[test]
fn s11_what_a_killed_run_left_running_is_waited_for() {
    let mut found = 0;
    for at in 0..12 {
        for pace in [1, 4, 9, 16, 25] {
            assert_eq!(beside_a_script(None, at, pace), [""; 0], "{at} {pace}");
            found += beside_a_script(Some(Bug::PlansBesideOthers), at, pace).len();
        }
    }
    assert!(found > 0, "and without that rule two members restart at once");
}

#[test]
fn a_member_whose_disk_is_another_one_comes_back_as_a_new_one() {
    let mut stage = Stage::raised(&["heron", "egret", "ibis"]);
    stage.world().write_all_the_while();
    stage.world().lose_data(&host("ibis"), true);
    stage.must_converge("a disk was lost");
    let arms: Vec<String> = stage.taken.iter().map(ToString::to_string).collect();
    assert!(arms[1].starts_with("take ibis, whose data is gone"), "{arms:?}");
    assert_eq!(
        arms[2..4],
        ["let ibis into the quorum, without a vote", "give ibis its vote, once it has everything"]
    );
}

/// Has a member show others what it shows to clients: another authority's.
fn spoil(stage: &Stage, name: &HostName) {
    let mut world = stage.world();
    let Some(other) = world.text(name, "/etc/zoisite/etcd/server/tls.crt") else { return };
    let other = other.to_owned();
    world.edit(name, "/etc/zoisite/etcd/peer/tls.crt", |_| other);
}

#[test]
fn what_a_member_shows_is_put_right_before_another_one_comes() {
    let mut stage = Stage::raised(&["heron"]);
    stage.world().write_all_the_while();
    spoil(&stage, &host("heron"));
    stage.want(&["heron", "egret", "ibis"]);
    stage.must_converge("heron showed what nobody trusts");
}

#[test]
fn one_whose_vote_nobody_heard_of_and_whose_data_is_gone_comes_back_as_a_new_one() {
    let mut taken_out = 0;
    for at in 40..110 {
        let mut stage = Stage::raised(&["heron"]);
        stage.world().write_all_the_while();
        stage.want(&["heron", "egret", "curlew"]);
        // It has its vote, and the host did not hear of it yet: nothing on it says that it ever served.
        let operation = stage.world().operations() + at;
        stage.world().fault(Fault::AnswerLost { operation });
        stage.raise();
        stage.world().fix();
        if !stage.world().lose_data_that_others_hold(&host("curlew"), true) {
            continue;
        }
        stage.must_converge(&format!("{at} operations later"));
        let lost = |arm: &Arm| matches!(arm, Arm::Remove { why: Why::Lost, .. });
        taken_out += usize::from(stage.taken.iter().any(lost));
    }
    assert!(taken_out > 0);
}

#[test]
fn a_first_start_in_whose_midst_the_file_names_others_is_told_and_goes_on_once_they_are_named() {
    let (mut waits, mut dropped) = (0, 0);
    for at in 40..90 {
        let mut stage = Stage::new(&HOSTS[..3]);
        // Some have data of it, and some have none yet.
        let operation = stage.world().operations() + at;
        stage.world().fault(Fault::LeftRunning { operation, pace: 1 });
        stage.raise();
        stage.want(&["ibis"]);
        if stage.raise() == Ended::Refused {
            let told = |words: &str| stage.troubles.iter().any(|why| why.contains(words));
            waits += usize::from(told("which was that of egret, heron, ibis"));
            dropped += usize::from(told("no longer names it a member"));
        }
        stage.must_converge(&format!("killed {at} operations later"));
    }
    assert!(waits > 0 && dropped > 0, "{waits} {dropped}");
}

#[test]
fn members_that_the_file_dropped_in_the_midst_of_their_first_start_begin_no_quorum_at_a_boot() {
    let mut told = 0;
    for at in 30..90 {
        let mut stage = Stage::new(&HOSTS[..3]);
        let operation = stage.world().operations() + at;
        stage.world().fault(Fault::Killed { operation });
        stage.raise();
        stage.world().fix();
        stage.want(&["heron"]);
        let ended = stage.raise();
        told +=
            stage.troubles.iter().filter(|why| why.contains("at a boot it would begin")).count();
        for name in &HOSTS[..3] {
            stage.world().power(&host(name), true);
        }
        let served = HOSTS.iter().filter(|name| stage.world().serves(&host(name)));
        let served: Vec<&str> = served.copied().collect();
        if ended == Ended::Reached {
            assert_eq!(served, ["heron"], "killed {at} operations later");
        }
        stage.must_converge(&format!("killed {at} operations later"));
    }
    assert!(told > 0);
}

#[test]
fn a_bare_machine_where_a_leaving_member_was_keeps_nobody_out() {
    for at in (0..80).step_by(8) {
        let mut stage = Stage::raised(&["heron", "egret", "ibis"]);
        stage.world().write_all_the_while();
        stage.want(&["egret", "ibis", "curlew"]);
        let operation = stage.world().operations() + at;
        stage.world().fault(Fault::Killed { operation });
        stage.raise();
        stage.world().fix();
        if stage.world().lose_data_that_others_hold(&host("heron"), false) {
            stage.world().another_machine(&host("heron"));
        }
        stage.must_converge(&format!("killed {at} operations later"));
    }
}

#[test]
fn one_whose_data_is_gone_keeps_nobody_from_bringing_the_others_back() {
    let mut stage = Stage::raised(&["heron", "egret", "ibis"]);
    stage.world().write_all_the_while();
    stage.world().lose_data(&host("ibis"), false);
    spoil(&stage, &host("egret"));
    assert!(!stage.world().serves(&host("heron")), "two of three are away");
    stage.must_converge("a disk and a certificate were lost");
    assert_eq!(stage.taken[1], Arm::Fix, "{:?}", stage.taken);
}

#[test]
fn a_quorum_that_is_lost_for_good_is_refused() {
    let mut stage = Stage::raised(&["heron", "egret", "ibis"]);
    for name in ["egret", "ibis"] {
        stage.world().power(&host(name), false);
    }
    stage.want(&["heron"]);
    assert_eq!(stage.raise(), Ended::Refused);
    // It is brought back as soon as there are enough of them.
    stage.want(&["heron", "egret", "ibis"]);
    stage.must_converge("they are back");
}

#[test]
fn a_learner_whose_links_were_cut_goes_on_when_they_are_whole() {
    let mut stage = Stage::raised(&["heron"]);
    stage.world().write_all_the_while();
    stage.want(&["heron", "egret", "ibis"]);
    stage.world().fault(Fault::Cut(host("egret"), host("heron")));
    assert_eq!(stage.raise(), Ended::Failed);
    stage.world().power(&host("heron"), false);
    assert_eq!(stage.raise(), Ended::Failed);
    stage.must_converge("all is whole again");
}

#[test]
fn one_that_comes_back_with_old_data_begins_no_second_quorum() {
    // It was the only member once: its configuration of then would have it begin alone again.
    let mut stage = Stage::raised(&["heron"]);
    stage.world().write_all_the_while();
    stage.want(&["curlew"]);
    let mut left = false;
    for at in 0..60 {
        let operation = stage.world().operations() + at;
        stage.world().fault(Fault::Killed { operation });
        stage.raise();
        stage.world().fix();
        left |= stage.world().voters() == [host("curlew")];
        stage.want(if at % 2 == 0 { &["heron"] } else { &["curlew"] });
    }
    assert!(left, "it was taken out meanwhile");
    stage.want(&["heron"]);
    stage.must_converge("back again");
}

#[derive(Clone, Debug)]
enum Mishap {
    /// The file names these members.
    Want(Vec<&'static str>),
    /// This program is killed after so many operations.
    Kill(u64),
    /// This program is killed after so many operations, and the script that it had started goes on.
    Leave(u64, u32),
    /// So many operations later, one fails.
    Fail(u64),
    /// So many operations later, one is done and nobody hears of it; what is left of its script goes on.
    Unheard(u64),
    /// A member's unit does not come up, once.
    Refuse(Index),
    /// A host's clock is off, by so many days.
    Clock(Index, i64),
    /// A host's disk is full.
    Full(Index),
    /// Whatever goes to a host takes seconds.
    Slow(Index),
    /// From now on whatever takes time takes another time each time.
    Pace(u64),
    /// A program that was begun earlier comes to its hosts only now.
    Late,
    Off(Index),
    On(Index),
    /// A host loses its power so many operations later, in the midst of a run, and has it again later still.
    Dip(u64, u64, Index),
    /// Two hosts do not hear each other any more.
    Cut(Index, Index),
    /// From now on the first host dials the second in vain.
    Block(Index, Index),
    /// All links are whole again.
    Fix,
    /// A disk is replaced, or loses the data alone, where the others can bear that.
    Lose(Index, bool),
    /// Somebody changes the configuration of a member.
    Edit(Index),
    /// A member shows the others what it shows clients: another authority's certificate, without its key.
    Swap(Index),
    /// Somebody starts a unit by hand.
    Start(Index),
    /// Another cluster's data is found on a host, or is gone again.
    Foreign(Index, bool),
    /// Another machine answers at a host's address, where the others can bear that.
    Machine(Index),
    /// A snapshot is taken; the last one is kept.
    Save,
    /// A person has it put back.
    PutBack,
    Raise,
}

fn mishap() -> impl Strategy<Value = Mishap> {
    let members = proptest::sample::subsequence(HOSTS.to_vec(), 1..=5);
    prop_oneof![
        3 => members.prop_map(|mut all| {
            if all.len() % 2 == 0 {
                all.pop();
            }
            Mishap::Want(all)
        }),
        2 => (0..80_u64).prop_map(Mishap::Kill),
        2 => (0..80_u64, 1..30_u32).prop_map(|(n, pace)| Mishap::Leave(n, pace)),
        1 => (0..80_u64).prop_map(Mishap::Fail),
        1 => (0..80_u64).prop_map(Mishap::Unheard),
        1 => any::<Index>().prop_map(Mishap::Refuse),
        1 => (any::<Index>(), -5_000..5_000_i64).prop_map(|(i, days)| Mishap::Clock(i, days)),
        1 => any::<Index>().prop_map(Mishap::Full),
        1 => any::<Index>().prop_map(Mishap::Slow),
        2 => any::<u64>().prop_map(Mishap::Pace),
        1 => Just(Mishap::Late),
        1 => any::<Index>().prop_map(Mishap::Off),
        1 => any::<Index>().prop_map(Mishap::On),
        1 => (0..80_u64, 1..80_u64, any::<Index>()).prop_map(|(n, m, i)| Mishap::Dip(n, m, i)),
        1 => any::<(Index, Index)>().prop_map(|(a, b)| Mishap::Cut(a, b)),
        1 => any::<(Index, Index)>().prop_map(|(from, to)| Mishap::Block(from, to)),
        1 => Just(Mishap::Fix),
        1 => any::<(Index, bool)>().prop_map(|(i, alone)| Mishap::Lose(i, alone)),
        1 => any::<Index>().prop_map(Mishap::Edit),
        1 => any::<Index>().prop_map(Mishap::Swap),
        1 => any::<Index>().prop_map(Mishap::Start),
        1 => any::<(Index, bool)>().prop_map(|(i, there)| Mishap::Foreign(i, there)),
        1 => any::<Index>().prop_map(Mishap::Machine),
        1 => Just(Mishap::Save),
        1 => Just(Mishap::PutBack),
        5 => Just(Mishap::Raise),
    ]
}

/// Lives through mishaps; what was broken by then, in words.
fn live_through(stage: &mut Stage, mishaps: &[Mishap]) -> Option<String> {
    stage.world().write_all_the_while();
    let at = |i: &Index| host(HOSTS[i.index(HOSTS.len())]);
    for mishap in mishaps {
        let now = stage.world().operations();
        match mishap {
            Mishap::Want(members) => stage.want(members),
            Mishap::Kill(n) => stage.world().fault(Fault::Killed { operation: now + n }),
            Mishap::Leave(n, pace) => {
                let (operation, pace) = (now + n, *pace);
                stage.world().fault(Fault::LeftRunning { operation, pace });
            }
            Mishap::Unheard(n) => stage.world().fault(Fault::AnswerLost { operation: now + n }),
            Mishap::Refuse(i) => {
                let (host, unit) = (at(i), Some(zoisite_core::holdings::ETCD_UNIT));
                stage.world().fault(Fault::Refuses { host, unit, times: 1 });
            }
            Mishap::Clock(i, days) => {
                stage.world().fault(Fault::ClockAhead(at(i), days * 86_400_000));
            }
            Mishap::Full(i) => stage.world().fault(Fault::DiskFull(at(i))),
            Mishap::Slow(i) => {
                stage.world().fault(Fault::Slow(at(i), std::time::Duration::from_secs(7)));
            }
            Mishap::Pace(seed) => stage.world().fault(Fault::Pace(*seed)),
            Mishap::Late => {
                let newest = std::mem::replace(&mut stage.runs, 0);
                stage.raise();
                stage.runs = newest;
            }
            Mishap::Fail(n) => stage.world().fault(Fault::Fails { operation: now + n }),
            Mishap::Off(i) => stage.world().power(&at(i), false),
            Mishap::On(i) => stage.world().power(&at(i), true),
            Mishap::Dip(n, m, i) => {
                for (operation, on) in [(now + n, false), (now + n + m, true)] {
                    stage.world().fault(Fault::Power { operation, host: at(i), on });
                }
            }
            Mishap::Cut(a, b) if at(a) != at(b) => stage.world().fault(Fault::Cut(at(a), at(b))),
            Mishap::Block(from, to) if at(from) != at(to) => {
                stage.world().fault(Fault::Blocked(at(from), at(to)));
            }
            Mishap::Cut(..) | Mishap::Block(..) => {}
            Mishap::Fix => stage.world().fix(),
            // What a quorum cannot bear is no fault of this program.
            Mishap::Lose(i, alone) => {
                stage.world().lose_data_that_others_hold(&at(i), *alone);
            }
            Mishap::Edit(i) => {
                let edited = |text: &str| format!("# somebody was here\n{text}");
                stage.world().edit(&at(i), "/etc/zoisite/etcd/etcd.yaml", edited);
            }
            Mishap::Swap(i) => spoil(stage, &at(i)),
            Mishap::Start(i) => stage.world().start_enabled_units(&at(i)),
            Mishap::Foreign(i, there) => {
                let path = there.then_some("/var/lib/etcd/other/member");
                stage.world().foreign_data(&at(i), path);
            }
            Mishap::Machine(i) => {
                if stage.world().lose_data_that_others_hold(&at(i), false) {
                    stage.world().another_machine(&at(i));
                }
            }
            Mishap::Save => stage.world().take_snapshot("saved"),
            Mishap::PutBack if stage.world().has_snapshot("saved") => stage.put_back("saved"),
            Mishap::PutBack => {}
            Mishap::Raise => {
                stage.raise();
            }
        }
        let broken = stage.world().broken().join("; ");
        if !broken.is_empty() {
            return Some(format!("after {mishap:?}: {broken}"));
        }
    }
    None
}

/// Whether a schedule shows that something is wrong: a rule broken, a write lost, no way to what the file says.
fn shows(bug: Option<Bug>, mishaps: &[Mishap]) -> bool {
    let mut stage = Stage::raised(&["heron"]);
    stage.bug = bug;
    if live_through(&mut stage, mishaps).is_some() {
        return true;
    }
    let whole = AssertUnwindSafe(|| stage.must_converge(""));
    catch_unwind(whole).is_err()
}

#[test]
fn every_planted_bug_is_found() {
    let strategy = proptest::collection::vec(mishap(), 1..16);
    let mut found = Vec::new();
    for bug in BUGS {
        let mut runner = TestRunner::deterministic();
        let caught = (0..10_000).find(|_| {
            let mishaps = strategy.new_tree(&mut runner).unwrap().current();
            shows(Some(bug), &mishaps) && !shows(None, &mishaps)
        });
        found.push((bug, caught));
    }
    assert!(found.iter().all(|(_, caught)| caught.is_some()), "{found:?}");
    eprintln!("seeds until each was found: {found:?}");
}

/// Lives that failed once are lived through at each run, whatever the seed.
fn regressions() -> Option<Box<dyn FailurePersistence>> {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/members.regressions");
    Some(Box::new(FileFailurePersistence::Direct(file)))
}

/// Lives through a schedule, and comes to what the file says once all is fixed.
fn lives_through(mut stage: Stage, mishaps: &[Mishap]) -> Result<(), TestCaseError> {
    if let Some(broken) = live_through(&mut stage, mishaps) {
        prop_assert!(false, "{broken}");
    }
    stage.must_converge(&format!("{mishaps:?}"));
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: regressions(), ..by_chance(250) })]

    #[test]
    fn whatever_happens_between_memberships_nothing_acknowledged_is_lost(
        mishaps in proptest::collection::vec(mishap(), 1..16),
    ) {
        lives_through(Stage::raised(&["heron"]), &mishaps)?;
    }

    #[test]
    fn whatever_happens_in_long_lives_nothing_acknowledged_is_lost(
        mishaps in proptest::collection::vec(mishap(), 8..24),
    ) {
        lives_through(Stage::raised(&["heron"]), &mishaps)?;
    }
    #[test]
    fn whatever_happens_from_the_first_start_on_nothing_acknowledged_is_lost(
        mishaps in proptest::collection::vec(mishap(), 1..16),
    ) {
        lives_through(Stage::new(&HOSTS[..3]), &mishaps)?;
    }
}
