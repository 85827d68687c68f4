//! Stepping stones: from any real state to what the file says, one safe change at a time.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::OnceLock;

use crate::common::scene::{ID, Scene, index, needs};
use crate::common::{Known, SALTMARSH, at, host, saltmarsh, stage};
use proptest::prelude::*;
use zoisite_core::aim::{
    Aim, Arm, Health, Machine, Member, Next, Quorum, Real, Records, Scope, Why, as_it_stands,
    assume, distance, forecast, next_aim, permits,
};
use zoisite_core::cluster::{Cluster, HostName, read};
use zoisite_core::holdings::{Part, Sources, holdings};
use zoisite_core::item::Item;
use zoisite_core::pki::{AtRestStage, AuthorityKind, TrustStage};
use zoisite_core::script::Operation;
use zoisite_core::sequence::{Condition, MemberWork, Work};

/// The demo with other members. (A file with an even number of them is refused before anything else; on the way from
/// one to another such numbers come up.)
fn file(members: &[&str]) -> Cluster {
    let mut cluster = demo().clone();
    cluster.etcd.members = members.iter().copied().map(host).collect();
    cluster
}

fn demo() -> &'static Cluster {
    static DEMO: OnceLock<Cluster> = OnceLock::new();
    DEMO.get_or_init(saltmarsh)
}

fn url(name: &str) -> String {
    format!("https://{}:2380", demo().host(&host(name)).unwrap().address)
}

fn urls(names: &[&str]) -> BTreeMap<HostName, String> {
    names.iter().map(|name| (host(name), url(name))).collect()
}

fn member(name: &str) -> Member {
    let (urls, learner, health) = (vec![url(name)], false, Health::Well);
    Member { id: format!("id of {name}"), name: name.to_owned(), urls, learner, health }
}

/// These members, all well, on hosts that hold their data; every other host of the demo is bare.
fn stands(members: &[&str]) -> Real {
    let machine =
        |name: &HostName| Machine::Seen { data: members.contains(&name.as_str()), spent: true };
    let machines = demo().hosts.iter().map(|h| (h.name.clone(), machine(&h.name)));
    let list = members.iter().map(|name| member(name)).collect();
    let quorum = Quorum::Listed(list);
    Real { quorum, machines: machines.collect(), entries: BTreeMap::new() }
}

/// What is recorded of members that this program made.
fn made(names: &[&str]) -> Records {
    Records { members: urls(names), ..Records::default() }
}

fn edit(real: &mut Real, name: &str, change: impl FnOnce(&mut Member)) {
    let Quorum::Listed(list) = &mut real.quorum else { panic!("no list") };
    change(list.iter_mut().find(|member| member.name == name).unwrap());
}

/// Where to go from members that this program made to those of the file.
fn aim(from: &[&str], to: &[&str], real: &Real) -> Aim {
    let kept = made(from);
    stage(next_aim(&file(to), &urls(to), &kept, real, true))
}

fn arms(from: &[&str], to: &[&str]) -> Vec<String> {
    let kept = made(from);
    let all = forecast(&file(to), &urls(to), &kept, &stands(from), true);
    all.iter().map(|aim| aim.arm.to_string()).collect()
}

#[test]
fn members_come_one_by_one_as_learners_and_go_one_by_one() {
    let last = "everything else that the file says";
    assert_eq!(
        arms(&["heron"], &["heron", "egret", "ibis"]),
        [
            "let egret into the quorum, without a vote",
            "give egret its vote, once it has everything",
            "let ibis into the quorum, without a vote",
            "give ibis its vote, once it has everything",
            last
        ]
    );
    assert_eq!(
        arms(&["heron", "egret", "ibis"], &["ibis"]),
        [
            "take heron out of the quorum",
            "take egret out of the quorum",
            "stop what is left of the member on egret",
            "stop what is left of the member on heron",
            last
        ]
    );
    // One moves to another host: the new one comes before the old one goes.
    assert_eq!(
        arms(&["heron", "egret", "ibis"], &["heron", "egret", "curlew"]),
        [
            "let curlew into the quorum, without a vote",
            "give curlew its vote, once it has everything",
            "take ibis out of the quorum",
            "stop what is left of the member on ibis",
            last
        ]
    );
}

#[test]
fn one_that_is_dead_goes_first_and_one_whose_data_is_gone_comes_back_as_new() {
    let three = ["heron", "egret", "ibis"];
    let mut real = stands(&three);
    edit(&mut real, "ibis", |m| m.health = Health::Unknown);
    real.machines.insert(host("ibis"), Machine::Silent);
    let to = ["heron", "egret", "curlew"];
    let Arm::Remove { who, why: Why::Dead, .. } = aim(&three, &to, &real).arm else {
        panic!("the dead one goes first")
    };
    assert_eq!(who, "ibis");
    // Its host is in the file and silent: it may come back, and is waited for.
    let waits = aim(&three, &three, &real);
    assert_eq!((waits.arm, waits.held), (Arm::File, Vec::new()));
    // Nobody is let in while it is away; etcd would refuse.
    let four = ["heron", "egret", "ibis", "curlew"];
    let waits = aim(&three, &four, &real);
    assert_eq!(waits.arm, Arm::File);
    assert!(waits.held[0].why.contains("ibis is not known to be well"), "{waits:?}");
    // Its disk is another one: out, and in again.
    edit(&mut real, "ibis", |m| m.health = Health::Down);
    real.machines.insert(host("ibis"), Machine::Seen { data: false, spent: true });
    assert!(matches!(aim(&three, &three, &real).arm, Arm::Remove { why: Why::Lost, .. }));
    // Of two it cannot go: the other one alone is no quorum.
    let two = ["heron", "ibis"];
    let mut real = stands(&two);
    edit(&mut real, "ibis", |m| m.health = Health::Down);
    real.machines.insert(host("ibis"), Machine::Seen { data: false, spent: true });
    let waits = aim(&two, &["heron"], &real);
    assert_eq!(waits.arm, Arm::File);
    assert!(waits.held[0].why.contains("1 of 2 voters"), "{waits:?}");
}

#[test]
fn what_others_began_is_theirs_and_what_this_program_began_is_ended() {
    let three = ["heron", "egret", "ibis"];
    let learner = |name: &str, url: String| Member {
        id: "11".into(),
        name: name.into(),
        urls: vec![url],
        learner: true,
        health: Health::Unknown,
    };
    let with = |member: Member| {
        let mut real = stands(&three);
        let Quorum::Listed(list) = &mut real.quorum else { panic!("no list") };
        list.push(member);
        real
    };
    // A learner that nobody here knows.
    let real = with(learner("", "https://10.77.0.99:2380".into()));
    let waits = aim(&three, &["heron", "egret"], &real);
    assert_eq!(waits.arm, Arm::File);
    assert!(waits.held[0].why.contains("https://10.77.0.99:2380 is a learner"), "{waits:?}");
    assert!(waits.held[0].fix.contains("member remove 11"), "{waits:?}");
    // One that a run let in before it was cut: it goes on, or is taken back when the file names it no more.
    let real = with(learner("", url("curlew")));
    let four = ["heron", "egret", "ibis", "curlew"];
    assert!(
        matches!(aim(&three, &four, &real).arm, Arm::Promote { host, .. } if host.as_str() == "curlew")
    );
    let kept = made(&four);
    let back = stage(next_aim(&file(&three), &urls(&three), &kept, &real, true));
    assert!(back.arm.takes_back() && back.arm.to_string().contains("curlew"), "{back:?}");
}

#[test]
fn without_a_persons_word_nothing_of_the_membership_changes_and_the_rest_goes_on() {
    let (three, one) = (["heron", "egret", "ibis"], ["heron"]);
    let kept = made(&one);
    let next = |real: &Real| stage(next_aim(&file(&three), &urls(&three), &kept, real, false));
    let aim = next(&stands(&one));
    assert_eq!(aim.arm, Arm::File);
    assert_eq!(aim.etcd.members, urls(&one), "members are those that are in");
    assert_eq!(aim.etcd.dialled, [host("heron")], "and API servers dial nobody else");
    assert!(aim.held[0].fix.contains("--yes"), "{aim:?}");
    // Where nobody gave the list, members are brought back and no more.
    let mut real = stands(&one);
    real.quorum = Quorum::Unseen;
    let aim = next(&real);
    assert_eq!(aim.arm, Arm::Fix);
    assert_eq!(aim.etcd.members, urls(&one));
    assert!(aim.held[0].why.contains("a record is no proof"), "{aim:?}");
}

#[test]
fn a_quorum_that_is_lost_is_told_with_what_is_left_of_it() {
    let three = ["heron", "egret", "ibis"];
    let mut real = stands(&three);
    real.quorum = Quorum::Unseen;
    real.machines.insert(host("ibis"), Machine::Silent);
    real.entries.insert(host("heron"), 812);
    let next = |to: &[&str], real: &Real| next_aim(&file(to), &urls(to), &made(&three), real, true);
    // Two of three hold their data: they are brought back before anything changes.
    assert_eq!(stage(next(&["heron", "egret", "curlew"], &real)).arm, Arm::Fix);
    real.machines.insert(host("egret"), Machine::Seen { data: false, spent: true });
    let Next::Refused { found, fix } = next(&["heron"], &real) else { panic!("there is a way on") };
    assert!(
        found.contains("only heron (812 entries) can be seen to hold its data, and 2"),
        "{found}"
    );
    assert!(fix.contains("heron is the newest"), "{fix}");
    // As long as the file names them all the silent one is waited for; the one that cannot begin without the others
    // keeps nobody from being brought back.
    let aim = stage(next(&three, &real));
    assert_eq!(aim.arm, Arm::Fix);
    assert_eq!(
        aim.etcd.members.keys().map(HostName::as_str).collect::<Vec<_>>(),
        ["heron", "ibis"]
    );
    assert!(aim.held[0].to_string().contains("its data is gone"), "{:?}", aim.held);
    // Where two have lost theirs there is nobody to bring back: the plan is refused, by rule S1.
    real.machines.insert(host("ibis"), Machine::Seen { data: false, spent: true });
    assert_eq!(stage(next(&three, &real)).etcd.members.len(), 3);
    // What comes after them is planned from what they say then: one of them may have no vote yet.
    real.machines = stands(&three).machines;
    let all = forecast(&file(&three), &urls(&three), &made(&three), &real, true);
    assert_eq!(all.iter().map(|aim| aim.arm.clone()).collect::<Vec<_>>(), [Arm::Fix, Arm::File]);
}

#[test]
fn one_that_leaves_is_looked_after_as_long_as_it_is_there() {
    let all = ["heron", "egret", "ibis"];
    let mut real = stands(&all);
    edit(&mut real, "ibis", |member| member.health = Health::Down);
    edit(&mut real, "egret", |member| member.health = Health::Down);
    // Too few are well to take one out: those that can be brought back are, whether the file names them or not.
    let fixes = aim(&all, &["heron", "curlew", "plover"], &real);
    assert_eq!(fixes.arm, Arm::Fix);
    assert!(fixes.held.iter().any(|held| held.what.contains("taking egret out")), "{fixes:?}");
    assert_eq!(fixes.etcd.members, urls(&all));
    // Unnamed machines are to trust those that leave, so that what these show is put right too.
    let comes = aim(&["heron"], &["curlew"], &stands(&["heron"]));
    assert!(matches!(comes.arm, Arm::Learn { .. }));
    assert_eq!(comes.etcd.members, urls(&["heron", "curlew"]));
    assert_eq!(comes.etcd.dialled, [host("heron")], "who votes, as long as nobody does who stays");
    let (kept, wanted) = (made(&["heron"]), urls(&["curlew"]));
    let unattended = next_aim(&file(&["curlew"]), &wanted, &kept, &stands(&["heron"]), false);
    assert_eq!(stage(unattended).etcd.dialled, [host("heron")]);
    // What is dialled elsewhere than the file has its host cannot be made again.
    let mut kept = made(&["heron"]);
    kept.members.insert(host("heron"), "https://10.9.9.9:2380".into());
    let comes =
        stage(next_aim(&file(&["curlew"]), &urls(&["curlew"]), &kept, &stands(&["heron"]), true));
    assert_eq!(comes.etcd.members, urls(&["curlew"]));
}

#[test]
fn firewalls_let_members_through_where_they_are_dialled_now() {
    let rules = "[preparation]\nfirewall = \"set\"\nadministrators = [\"10.77.0.0/24\"]\n";
    let text = SALTMARSH.replacen("[etcd]\n", "[etcd]\npeer-port = 2390\n", 1) + "\n" + rules;
    let mut scene = Scene::standing();
    scene.cluster = read(&text).cluster.unwrap();
    // Hosts that carry more than a member are prepared whatever becomes of that.
    scene.cluster.control_plane.hosts = ["heron", "egret", "ibis"].map(host).to_vec();
    scene.trust.issue(&scene.cluster, at("2026-11-23"));
    scene.known = Known::of(&scene.cluster);
    let rules = |scene: &Scene, consent: bool| -> String {
        let aim = stage(scene.next(consent).0);
        let sources = scene.known.sources(&scene.trust.ledger, ID);
        let sources = Sources { etcd: Some(&aim.etcd), ..sources };
        let cluster = aim.cluster(&scene.cluster);
        let made = holdings(&cluster, sources, Part::ALL).unwrap().within(&aim.scope);
        let heron = made.host(&host("heron")).unwrap().items.iter();
        heron
            .filter(|item| matches!(item, Item::Rules(_)))
            .map(|item| format!("{item:?}"))
            .collect()
    };
    // Nobody wants them to move yet, or one moves while the others have not: both ports are open.
    for consent in [false, true] {
        let rules = rules(&scene, consent);
        assert!(rules.contains("2380") && rules.contains("2390"), "{consent}: {rules}");
    }
    // All have moved.
    let moved = |url: &String| vec![url.replace("2380", "2390")];
    for name in ["heron", "egret", "ibis"] {
        scene.edit(name, |seen| {
            for member in seen.etcd.members.as_mut().unwrap() {
                member.peer_urls = moved(&member.peer_urls[0]);
            }
        });
    }
    let rules = rules(&scene, true);
    assert!(!rules.contains("2380") && rules.contains("2390"), "{rules}");
}

/// The steps of a stage, by id, and whether one stands behind another.
#[test]
fn a_stage_proves_the_quorum_before_and_after_and_api_servers_hear_of_it_first() {
    let mut scene = Scene::standing();
    scene.cluster = file(&["heron", "egret", "ibis", "curlew", "plover"]);
    scene.trust.issue(&scene.cluster, at("2026-11-23"));
    let (next, real) = scene.next(true);
    let aim = stage(next);
    let sequence = scene.plan_to(&aim, &real, &[]).unwrap();
    let learns = index(&sequence, "curlew/etcd-learn");
    for before in ["quorum", "curlew/etcd-configure"] {
        assert!(needs(&sequence, learns, index(&sequence, before)), "{before}");
    }
    assert!(needs(&sequence, index(&sequence, "curlew/etcd-start"), learns));
    let touched: BTreeSet<&HostName> =
        sequence.steps.iter().filter_map(|s| s.host.as_ref()).collect();
    assert_eq!(touched, [&host("curlew")].into(), "nothing else is touched in this stage");
    // It is told of all members, and to learn from them.
    let configure = &sequence.steps[index(&sequence, "curlew/etcd-configure")];
    let Work::Act(stretch) = &configure.work else { panic!("operations") };
    let config = stretch.operations.iter().find_map(|operation| match operation {
        Operation::Put(Item::File(file)) if file.path.ends_with("etcd.yaml") => {
            file.content.whole_text()
        }
        _ => None,
    });
    let config = config.unwrap();
    assert!(config.contains("initial-cluster-state: existing"), "{config}");
    let all: Vec<String> = ["heron", "egret", "ibis", "curlew"]
        .iter()
        .map(|name| format!("{name}={}", url(name)))
        .collect();
    assert!(config.contains(&format!("  {}\n", all.join(","))), "{config}");

    // One leaves: every API server dials the others before it goes.
    let mut scene = Scene::standing();
    scene.cluster = file(&["heron", "egret"]);
    let (next, real) = scene.next(true);
    let aim = stage(next);
    assert_eq!(aim.scope, Scope::Dialling);
    assert_eq!(aim.etcd.dialled, ["heron", "egret"].map(host));
    let sequence = scene.plan_to(&aim, &real, &[]).unwrap();
    let removes = index(&sequence, "ibis/etcd-remove");
    for name in ["curlew", "plover", "sandpiper"] {
        let gate = index(&sequence, &format!("api-{name}-after-restart"));
        assert!(needs(&sequence, removes, gate), "{name}");
    }
    let Work::Member { work: MemberWork::Remove { .. }, through, .. } =
        &sequence.steps[removes].work
    else {
        panic!("a removal")
    };
    assert!(!through.contains(&host("ibis")), "who goes is not asked");
    // S10: what they hold is saved before, from one that stays.
    let saves = index(&sequence, "snapshot");
    assert!(sequence.saves() && needs(&sequence, removes, saves));
    let Work::Save { through, .. } = &sequence.steps[saves].work else { panic!("a snapshot") };
    assert_eq!(*through, ["heron", "egret"].map(host));
    let after = &sequence.steps[index(&sequence, "quorum-without-ibis")];
    let Work::Gate(gate) = &after.work else { panic!("a gate") };
    assert_eq!(
        gate.condition,
        Condition::Quorum { members: ["heron", "egret"].map(host).to_vec(), learners: false }
    );
}

const NAMES: [&str; 7] = ["heron", "egret", "ibis", "curlew", "plover", "sandpiper", "jetty-a"];

fn some(most: usize) -> impl Strategy<Value = Vec<&'static str>> {
    proptest::sample::subsequence(NAMES.to_vec(), 1..=most)
}

/// A quorum somewhere between two files, with what may go wrong.
fn anywhere() -> impl Strategy<Value = (Vec<&'static str>, Records, Real)> {
    let health =
        prop_oneof![6 => Just(Health::Well), 1 => Just(Health::Down), 1 => Just(Health::Unknown)];
    let quirks = proptest::collection::vec((health, any::<[bool; 5]>()), NAMES.len());
    let learner = proptest::option::weighted(0.4, 0..NAMES.len());
    (some(7), some(5), quirks, learner, any::<bool>()).prop_map(
        |(wanted, members, quirks, learner, stranger)| {
            let mut real = stands(&members);
            let mut kept = made(&members);
            for (name, (health, [silent, gone, moved, recorded, rare])) in NAMES.iter().zip(quirks)
            {
                let rare = rare && recorded;
                if members.contains(name) {
                    edit(&mut real, name, |m| {
                        m.health = health;
                        if moved && rare {
                            m.urls = vec![format!("https://192.0.2.1:{}", 2000 + name.len())];
                        }
                    });
                    if gone && rare && health == Health::Down {
                        let lost = Machine::Seen { data: false, spent: true };
                        real.machines.insert(host(name), lost);
                    }
                } else if gone && recorded {
                    // It was a member once, and its data is still there.
                    kept.left.insert(host(name));
                    real.machines.insert(host(name), Machine::Seen { data: true, spent: true });
                }
                if silent && health == Health::Unknown {
                    real.machines.insert(host(name), Machine::Silent);
                }
            }
            if let Some(name) =
                learner.map(|index| NAMES[index]).filter(|name| !members.contains(name))
            {
                let Quorum::Listed(list) = &mut real.quorum else { panic!("no list") };
                let mut member = Member { learner: true, ..member(name) };
                if stranger {
                    member.name = String::new();
                    member.urls = vec!["https://10.77.0.99:2380".into()];
                } else {
                    kept.members.insert(host(name), url(name));
                }
                list.push(member);
            }
            (wanted, kept, real)
        },
    )
}

fn listed(real: &Real) -> &[Member] {
    match &real.quorum {
        Quorum::Listed(list) => list,
        _ => panic!("no list"),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4_000, failure_persistence: None, ..ProptestConfig::default() })]

    /// From anywhere the stages come to an end; each is permitted, and each is nearer to the file.
    #[test]
    fn every_stage_is_safe_and_nearer_and_they_end((wanted, mut kept, mut real) in anywhere()) {
        let (cluster, urls) = (file(&wanted), urls(&wanted));
        for _ in 0..64 {
            let aim = match next_aim(&cluster, &urls, &kept, &real, true) {
                Next::Stage(aim) => aim,
                Next::Refused { found, .. } => panic!("{found}"),
            };
            if aim.arm == Arm::File {
                // Where nothing waits, the members are those of the file.
                let names: BTreeSet<&str> = listed(&real).iter().map(|m| m.name.as_str()).collect();
                if aim.held.is_empty() {
                    prop_assert_eq!(names, wanted.iter().copied().collect::<BTreeSet<_>>());
                }
                return Ok(());
            }
            let before = distance(&urls, &kept, &real);
            let next = assume(&real, &aim);
            if let Err(why) = permits(listed(&real), listed(&next)) {
                prop_assert!(false, "{}: {why}", aim.arm);
            }
            // Whom nobody here made stays as it is.
            let strangers = |real: &Real| {
                listed(real).iter().filter(|m| m.urls[0].contains("10.77.0.99")).count()
            };
            prop_assert_eq!(strangers(&real), strangers(&next));
            kept = kept.after(&aim.arm);
            real = next;
            let after = distance(&urls, &kept, &real);
            prop_assert!(after < before, "{}: {before} to {after}", aim.arm);
        }
        prop_assert!(false, "it does not end");
    }
}

#[test]
fn what_holds_a_replacement_back_is_told_also_while_members_have_no_leader() {
    let names = ["heron", "egret", "ibis"];
    let mut real = stands(&names);
    // An API server's host is off, and its member led: the others have not agreed on another one yet.
    real.machines.insert(host("curlew"), Machine::Silent);
    let kept = Records { at_rest: Some(AtRestStage::Accept("key-2".into())), ..made(&names) };
    for quorum in [real.quorum.clone(), Quorum::Unseen] {
        let real = Real { quorum, ..real.clone() };
        let aim = as_it_stands(&file(&names), &urls(&names), &kept, &real);
        let why: Vec<&str> = aim.held.iter().map(|held| held.why.as_str()).collect();
        assert_eq!(why, ["the API server of curlew could not be brought to it"], "{real:?}");
        assert_eq!(aim.arm, Arm::File);
    }
}

#[test]
fn who_is_brought_by_hand_to_what_nodes_believe_holds_its_next_stage_back() {
    let names = ["heron", "egret", "ibis"];
    let mut real = stands(&names);
    // Nobody looks at it.
    real.machines.insert(host("tern-1"), Machine::Silent);
    let mut file = file(&names);
    file.hosts.iter_mut().find(|one| one.name == host("tern-1")).unwrap().offline = true;
    let (unbrought, kind) = ([host("tern-1")].into(), AuthorityKind::Cluster);
    let mut kept = Records { unbrought, ..made(&names) };
    let staged = |kept: &Records| match next_aim(&file, &urls(&names), kept, &real, true) {
        Next::Stage(aim) => aim,
        Next::Refused { found, .. } => panic!("{found}"),
    };
    for stage in [TrustStage::Believe(kind), TrustStage::SignBy(kind), TrustStage::Forget(kind)] {
        kept.trust = Some(stage);
        let aim = staged(&kept);
        assert_eq!(aim.arm, Arm::File, "{stage:?}: it does not count as done");
        let [held] = &aim.held[..] else { panic!("{:?}", aim.held) };
        assert_eq!(held.host, Some(host("tern-1")));
        assert!(held.fix.contains("zoisite join-file write tern-1"), "{}", held.fix);
    }
    // Of the others nodes know nothing; and once its report came it goes on.
    let of_etcd = TrustStage::Believe(AuthorityKind::EtcdPeer);
    kept.trust = Some(of_etcd);
    assert_eq!(staged(&kept).arm, Arm::Trust { stage: of_etcd });
    let stage = TrustStage::SignBy(kind);
    kept = Records { trust: Some(stage), unbrought: BTreeSet::new(), ..kept };
    assert_eq!(staged(&kept).arm, Arm::Trust { stage });
}
