//! Changes of a cluster that stands: carried out within the rules, or refused with their reason.

use std::collections::BTreeSet;

use crate::common::scene::{ID, Scene, index, needs};
use crate::common::{SALTMARSH, at, changed, host, saltmarsh, stage};
use zoisite_core::aim::{Arm, Next, Quorum, Restoring};
use zoisite_core::cluster::{Cluster, Version, read};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{ETCD_UNIT, HostFacts, NodePut, Taint};
use zoisite_core::item::{Absent, Item, UnitFacts};
use zoisite_core::pki::{edges, prove};
use zoisite_core::script::{AddressFacts, EtcdMember, Identity, Observed, Operation, Reply};
use zoisite_core::sequence::{
    ApiLook, ApiWork, Begun, Command, Condition, Engine, Event, Rule, Sequence, Step, StepOutcome,
    Work, contradictions,
};

const CONFIG: &str = "/etc/zoisite/etcd/etcd.yaml";

/// The demo with its file changed after it was raised.
fn changed_after(from: &str, to: &str) -> Scene {
    assert!(SALTMARSH.contains(from), "the demo has no {from}");
    let mut scene = Scene::standing();
    scene.cluster = read(&SALTMARSH.replacen(from, to, 1)).cluster.unwrap();
    scene.trust.issue(&scene.cluster, at("2026-11-23"));
    scene
}

/// Rules and texts of all that is refused.
fn refused(scene: &Scene) -> Vec<(Rule, String)> {
    let none = scene.plan().unwrap_err();
    assert!(none.troubles.is_empty(), "{:?}", none.troubles);
    none.refusals.into_iter().map(|r| (r.rule, r.to_string())).collect()
}

fn ids(sequence: &Sequence) -> Vec<&str> {
    sequence.steps.iter().map(|step| step.id.as_str()).collect()
}

fn step<'s>(sequence: &'s Sequence, id: &str) -> &'s Step {
    &sequence.steps[index(sequence, id)]
}

/// A learner answers nobody who asks what all agree on, and which one it is may not be known.
#[test]
fn a_gate_before_which_a_member_is_brought_back_lets_learners_be_among_those_asked() {
    let mut scene = Scene::standing();
    // On the way from one member to three: ibis was let in, and has no vote yet.
    for look in scene.looks.values_mut().flatten() {
        let listed = look.etcd.members.iter_mut().flatten();
        listed.filter(|member| member.name == "ibis").for_each(|member| member.learner = true);
    }
    // A run was killed, and a member with it.
    scene.edit("ibis", |o| o.etcd.members = None);
    scene.edit("egret", |o| {
        o.found.units.get_mut(ETCD_UNIT).unwrap().active = "failed".into();
        (o.etcd.status, o.etcd.members) = (None, None);
    });
    let (aim, real) = scene.next(true);
    let aim = stage(aim);
    assert_eq!(aim.arm, Arm::Fix);
    let sequence = scene.plan_to(&aim, &real, &[]).unwrap();
    let Work::Gate(gate) = &sequence.steps[index(&sequence, "quorum")].work else {
        panic!("{:?}", ids(&sequence));
    };
    assert!(matches!(gate.condition, Condition::Quorum { learners: true, .. }), "{gate:?}");
    // Anywhere else whoever is asked has to have a vote.
    let mut scene = changed_after("etcd = \"3.6.16\"", "etcd = \"3.6.17\"");
    scene.edit("heron", |o| o.etcd.status = None);
    let sequence = scene.plan().unwrap();
    let Work::Gate(gate) = &sequence.steps[index(&sequence, "quorum")].work else {
        panic!("{:?}", ids(&sequence));
    };
    assert!(matches!(gate.condition, Condition::Quorum { learners: false, .. }), "{gate:?}");
}

#[test]
fn s2_a_changed_etcd_version_restarts_members_one_by_one_also_when_none_of_them_answers() {
    let mut scene = changed_after("etcd = \"3.6.16\"", "etcd = \"3.6.17\"");
    for name in ["heron", "egret", "ibis"] {
        scene.edit(name, |o| o.etcd.status = None);
    }
    let sequence = scene.plan().unwrap();
    let restarts: Vec<usize> = (0..sequence.steps.len())
        .filter(|step| {
            let Work::Act(stretch) = &sequence.steps[*step].work else { return false };
            stretch.operations.iter().any(|o| {
                matches!(o, Operation::Restart(unit) | Operation::Start(unit) if *unit == ETCD_UNIT)
            })
        })
        .collect();
    assert_eq!(restarts.len(), 3, "{:?}", ids(&sequence));
    for pair in restarts.windows(2) {
        assert!(!sequence.steps[pair[0]].disrupts.is_empty());
        assert!(needs(&sequence, pair[1], pair[0]), "{:?}", ids(&sequence));
    }
    // Nobody counts for the quorum before it has answered: a gate over the others stands before each.
    let Work::Gate(gate) = &step(&sequence, "quorum").work else { panic!("a gate") };
    let first = sequence.steps[restarts[0]].host.clone().unwrap();
    let text = format!("{:?}", gate.condition);
    assert!(!text.contains(first.as_str()) && text.contains("ibis"), "{text}");
}

#[test]
fn where_every_members_certificate_has_ended_they_restart_together() {
    let ended = "transport: authentication handshake failed: tls: failed to verify certificate: x509: certificate has expired or is not yet valid: current time 2028-01-01T00:00:00Z is after 2027-11-23T12:00:00Z";
    let scene = |said: &[&str]| {
        let mut scene = changed_after("etcd = \"3.6.16\"", "etcd = \"3.6.17\"");
        for (name, said) in ["heron", "egret", "ibis"].into_iter().zip(said) {
            scene.edit(name, |o| {
                o.etcd.status = None;
                o.etcd.silent = Some((*said).to_owned());
            });
        }
        scene.plan().unwrap()
    };
    let together = scene(&[ended; 3]);
    let started: Vec<&str> =
        ids(&together).into_iter().filter(|id| id.ends_with("/etcd-start")).collect();
    assert_eq!(started, ["heron/etcd-start", "egret/etcd-start", "ibis/etcd-start"]);
    for host in ["heron", "egret", "ibis"] {
        // Each when all are configured, and none after another.
        for other in ["heron", "egret", "ibis"] {
            let (one, configured) =
                (format!("{host}/etcd-start"), format!("{other}/etcd-configure"));
            assert!(needs(&together, index(&together, &one), index(&together, &configured)));
        }
        let quorum = index(&together, "quorum");
        assert!(needs(&together, quorum, index(&together, &format!("{host}/etcd-start"))));
    }
    // One that is silent for another reason may serve: then each waits for the one before.
    let rolls = scene(&[ended, ended, "context deadline exceeded"]);
    assert!(!ids(&rolls).contains(&"heron/etcd-start"), "{:?}", ids(&rolls));
}

#[test]
fn s2_a_silent_member_counts_as_down_for_the_quorum_and_as_up_for_disruption() {
    // One is away and one silent: restarting the silent one could be the end of the quorum.
    let mut scene = Scene::standing();
    scene.lose("ibis");
    scene.edit("egret", |o| {
        o.etcd.status = None;
        o.found.files.get_mut(CONFIG).unwrap().sha256 = Some("00".into());
    });
    assert_eq!(refused(&scene)[0].0, Rule::OneAtATime);
    // What needs no restart is put right all the same.
    let mut scene = Scene::standing();
    scene.edit("egret", |o| {
        o.etcd.status = None;
        o.found.files.get_mut("/etc/zoisite/etcd/probe/tls.crt").unwrap().sha256 =
            Some("00".into());
    });
    let sequence = scene.plan().unwrap();
    assert_eq!(ids(&sequence), ["egret/etcd-put-right", "quorum"]);
}

#[test]
fn s1_members_that_all_moved_in_the_file_begin_no_second_quorum() {
    let members = "members = [\"heron\", \"egret\", \"ibis\"]";
    let mut scene = changed_after(members, "members = [\"curlew\", \"plover\", \"sandpiper\"]");
    // Nothing but the record knows of the old ones: the hosts of the new ones hold nothing of etcd.
    scene.forget_old_members();
    let (Next::Refused { found, fix }, _) = scene.next(true) else { panic!("there is a way on") };
    assert!(found.contains("of its 3 (egret, heron, ibis) none can be seen"), "{found}");
    assert!(fix.contains("named in etcd.members as before"), "{fix}");
}

#[test]
fn s1_a_lone_member_with_a_new_disk_is_not_started_as_if_new() {
    let text = SALTMARSH.replacen(
        "members = [\"heron\", \"egret\", \"ibis\"]",
        "members = [\"heron\"]",
        1,
    );
    let mut scene = Scene::of(read(&text).cluster.unwrap());
    assert!(scene.plan().is_ok(), "a first start begins");
    let mut begun = Begun::of(&scene.cluster, ID, at("2026-11-23"));
    scene.begun = Some(begun.clone());
    assert!(scene.plan().is_ok(), "and goes on when it was cut off");
    begun.formed = Some("9".into());
    scene.begun = Some(begun);
    assert_eq!(refused(&scene)[0].0, Rule::QuorumFirst);
}

#[test]
fn s1_hosts_that_carry_the_clusters_mark_are_believed_where_the_store_knows_nothing() {
    let mut scene = Scene::bare();
    scene.edit("tern-1", |o| o.cluster = Some(format!("{ID} 1")));
    let (rule, text) = refused(&scene).remove(0);
    assert_eq!(rule, Rule::QuorumFirst);
    assert!(text.contains("tern-1") && text.contains("the store does not know"), "{text}");
    // A run that was cut off has recorded that it began.
    scene.begun = Some(Begun::of(&scene.cluster, ID, at("2026-11-23")));
    assert!(scene.plan().is_ok());
}

#[test]
fn s3_a_host_that_carries_another_cluster_is_not_touched() {
    let mut scene = Scene::standing();
    scene.edit("tern-2", |o| o.cluster = Some("ffffffffffffffff 1".into()));
    let (rule, text) = refused(&scene).remove(0);
    assert_eq!(rule, Rule::NoForeignData);
    assert!(text.contains("tern-2: it carries another cluster"), "{text}");
}

#[test]
fn s1_a_first_start_with_other_members_waits_until_the_old_ones_are_known_to_hold_nothing() {
    let members = "members = [\"heron\", \"egret\", \"ibis\"]";
    let other = SALTMARSH.replacen(members, "members = [\"heron\", \"egret\", \"curlew\"]", 1);
    let old = Scene::bare();
    let mut scene = Scene::of(read(&other).cluster.unwrap());
    scene.begun = Some(Begun::of(&old.cluster, ID, at("2026-11-23")));
    assert!(scene.plan().is_ok(), "ibis was looked at, and holds nothing");
    scene.edit("ibis", |o| o.etcd.data = true);
    assert!(refused(&scene)[0].1.contains("ibis: it holds data"), "{:?}", refused(&scene));
    let enabled = UnitFacts { enabled: true, ..UnitFacts::default() };
    for unit in [enabled, UnitFacts { active: "activating".into(), ..UnitFacts::default() }] {
        scene.edit("ibis", |o| {
            o.etcd.data = false;
            o.found.units.insert(ETCD_UNIT.into(), unit);
        });
        let told = &refused(&scene)[0].1;
        assert!(told.contains("at a boot it would begin a quorum"), "{told}");
    }
    scene.looks.remove(&host("ibis"));
    assert!(refused(&scene)[0].1.contains("cannot be seen"), "{:?}", refused(&scene));
}

#[test]
fn s12_a_virtual_ip_address_may_be_added_but_not_be_taken_over() {
    let floats = |line: &str| {
        let text = changed("virtual-ip = \"10.77.0.5\"\n", line);
        read(&text).cluster.unwrap()
    };
    let began = |cluster: &Cluster| {
        let begun = Begun::of(cluster, "0123456789abcdef", at("2026-11-23"));
        Begun { formed: Some("9".into()), ..begun }
    };
    let (without, with) = (floats(""), saltmarsh());
    assert_eq!(contradictions(Some(&began(&without)), &with), []);
    let stands = began(&with);
    assert_eq!(contradictions(Some(&stands), &with), []);
    let by_others = changed("hosts = [\"jetty-{a,b}\"]\n", "");
    let by_others = read(&by_others).cluster.unwrap();
    for other in [&without, &floats("virtual-ip = \"10.77.0.6\"\n"), &by_others] {
        let all = contradictions(Some(&stands), other);
        assert_eq!(all.len(), 1, "{all:?}");
        assert!(
            all[0]
                .found
                .contains("load-balancers.virtual-ip was 10.77.0.5, held by the load balancers")
        );
    }
}

#[test]
fn s12_what_has_no_safe_way_yet_is_refused_with_what_stands() {
    let cases = [
        ("10.90.0.0/16", "10.94.0.0/16", Rule::SafeWay, "network.pods was 10.90.0.0/16"),
        ("10.91.0.0/20", "10.95.0.0/20", Rule::SafeWay, "network.services was"),
        ("[network]\n", "[network]\npod-subnet = 25\n", Rule::SafeWay, "network.pod-subnet was 24"),
        (
            "[cluster]\n",
            "[cluster]\ndomain = \"tide.local\"\n",
            Rule::SafeWay,
            "cluster.domain was cluster.local",
        ),
        ("\"1.36.3\"", "\"1.35.4\"", Rule::Skew, "Kubernetes 1.36.3 runs on"),
        ("\"3.6.16\"", "\"3.5.21\"", Rule::Skew, "etcd 3.6.16 runs on"),
        (
            "[components]\n",
            "[components]\ndns = \"1.14.0\"\n",
            Rule::Skew,
            "CoreDNS 1.15.0 runs on",
        ),
    ];
    for (from, to, rule, says) in cases {
        let scene = changed_after(from, to);
        let all = refused(&scene);
        assert!(all.iter().all(|(found, _)| *found == rule), "{to}: {all:?}");
        assert!(all.iter().any(|(_, text)| text.contains(says)), "{to}: {all:?}");
    }
}

/// How many nodes are interrupted at once before the first one is back, and at most, when all goes well.
fn most_nodes_at_once(sequence: &Sequence) -> (usize, usize) {
    let mut engine = Engine::new(sequence.clone(), 1_000);
    let (mut first, mut most) = (0, 0);
    let mut running: Vec<usize> = engine.begin().iter().map(|command| command.step).collect();
    let mut away = BTreeSet::new();
    while !running.is_empty() {
        let step = running.remove(0);
        let is = &sequence.steps[step];
        if is.disrupts.iter().any(|part| part.id() == "nodes") {
            away.insert(step);
        }
        if away.len() > most {
            (first, most) = (if first == 0 { away.len() } else { first }, away.len());
        }
        if matches!(is.work, Work::Gate(_)) {
            away.retain(|away| !is.needs.contains(away));
        }
        let outcome = StepOutcome::Done { changed: 1 };
        let commands = engine.handle(Event::Finished { step, outcome });
        running.extend(commands.iter().map(|command| command.step));
    }
    assert!(engine.finished());
    (first, most)
}

#[test]
fn patch_releases_go_members_and_api_servers_behind_gates_and_kubelets_a_few_at_a_time() {
    let mut scene = changed_after("\"1.36.3\"", "\"1.36.4\"");
    let sequence = scene.plan().unwrap();
    let of = |sequence: &Sequence, part: &str| -> Vec<usize> {
        let all = sequence.steps.iter().enumerate();
        let of = all.filter(|(_, s)| s.disrupts.iter().any(|p| p.id() == part));
        of.map(|(index, _)| index).collect()
    };
    let control = of(&sequence, "control-plane");
    assert_eq!(control.len(), 3, "{:?}", ids(&sequence));
    for pair in control.windows(2) {
        assert!(needs(&sequence, pair[1], pair[0]), "{:?}", ids(&sequence));
    }
    assert_eq!(of(&sequence, "nodes").len(), 6, "{:?}", ids(&sequence));
    assert_eq!(most_nodes_at_once(&sequence), (1, 1));
    // Kubelets may be older than API servers, never newer.
    let last = index(&sequence, "api-sandpiper-after-restart");
    assert!(needs(&sequence, index(&sequence, "tern-1/nodes-put-right"), last));
    // Of a large cluster one goes first, then ten side by side.
    let text = crate::common::workers_text(308);
    let mut scene2 = Scene::standing_of(read(&text).cluster.unwrap());
    scene2.cluster = read(&text.replacen("\"1.36.3\"", "\"1.36.4\"", 1)).cluster.unwrap();
    assert_eq!(most_nodes_at_once(&scene2.plan().unwrap()), (1, 10));
    // What runs is what counts, not what the file of a unit says by now.
    scene.edit("tern-1", |o| {
        let unit = o.found.units.get_mut("zoisite-kubelet.service").unwrap();
        unit.runs = Some("/usr/local/lib/zoisite/kubernetes-1.35.4/kubelet".into());
    });
    assert!(refused(&scene)[0].1.contains("Kubernetes 1.35.4 runs on tern-1"));
}

#[test]
fn s1_what_an_older_quorum_says_is_not_heard_and_what_heard_of_a_later_one_is_not_led_back() {
    let mut scene = Scene::standing();
    // A member that came back with what was before a snapshot was put back: egret is the first by name.
    scene.edit("egret", |o| {
        o.etcd.status.as_mut().unwrap().cluster_id = "8".into();
        o.etcd.members.as_mut().unwrap().truncate(1);
    });
    let (_, real) = scene.next(true);
    let Quorum::Listed(list) = &real.quorum else { panic!("{real:?}") };
    assert_eq!(list.len(), 3, "the list is of those that serve");

    let mut scene = Scene::standing();
    scene.edit("ibis", |o| o.cluster = Some(format!("{ID} 2")));
    let (rule, text) = refused(&scene).remove(0);
    assert_eq!(rule, Rule::QuorumFirst);
    assert!(text.contains("ibis") && text.contains("it has been in quorum 2"), "{text}");
    let begun = scene.begun.as_mut().unwrap();
    begun.epoch = 2;
    assert!(scene.plan().is_ok());
}

#[test]
fn members_are_counted_from_etcds_own_list() {
    let mut scene = Scene::standing();
    let stranger = EtcdMember {
        id: "00000000000000aa".into(),
        name: "gull".into(),
        peer_urls: vec!["https://10.77.0.99:2380".into()],
        learner: false,
        served: true,
    };
    for name in ["heron", "egret", "ibis"] {
        let stranger = stranger.clone();
        scene.edit(name, |o| o.etcd.members.as_mut().unwrap().push(stranger));
    }
    // Nobody here made it: it is reported, the rest goes on, and it counts.
    let (next, real) = scene.next(true);
    let aim = stage(next);
    assert_eq!(aim.arm, Arm::File);
    assert!(aim.held[0].why.contains("gull is a member of the quorum that stands"), "{aim:?}");
    assert!(scene.plan_to(&aim, &real, &[]).unwrap().is_empty());
    // The record gives way to the list: a member that was moved with etcd's own client stands where it is.
    let mut scene = Scene::standing();
    let list: Vec<EtcdMember> = scene.members("https://10.77.0.14:2380");
    for name in ["heron", "egret", "ibis"] {
        let list = list.clone();
        scene.edit(name, |o| o.etcd.members = Some(list));
    }
    scene.cluster = read(&SALTMARSH.replacen("10.77.0.11\"", "10.77.0.14\"", 1)).cluster.unwrap();
    assert_eq!(stage(scene.next(true).0).arm, Arm::File);
    scene.cluster = saltmarsh();
    assert!(
        matches!(stage(scene.next(true).0).arm, Arm::Move { host, .. } if host.as_str() == "heron")
    );
}

#[test]
fn first_start_facts_that_are_out_of_date_never_start() {
    let members = "members = [\"heron\", \"egret\", \"ibis\"]";
    let other = SALTMARSH.replacen(members, "members = [\"heron\", \"egret\", \"curlew\"]", 1);
    let mut scene = Scene::standing();
    let cluster = read(&other).cluster.unwrap();
    // A first run failed before any member had data; then the list was changed.
    for name in ["heron", "egret", "ibis"] {
        scene.edit(name, |o| {
            o.etcd = Default::default();
            o.etcd.owner = Some(ID.into());
            o.found.units.get_mut(ETCD_UNIT).unwrap().active = "activating".into();
        });
    }
    scene.begun = Some(Begun::of(&scene.cluster, ID, at("2026-11-23")));
    scene.cluster = cluster;
    scene.trust.issue(&scene.cluster, at("2026-11-23"));
    let refusals = scene.plan().unwrap_err().refusals;
    assert!(refusals[0].fix.contains("ssh ibis sudo systemctl disable --now zoisite-etcd.service"));
    scene.edit("ibis", |o| {
        o.found.units.get_mut(ETCD_UNIT).unwrap().active = "inactive".into();
        o.found.units.get_mut(ETCD_UNIT).unwrap().enabled = false;
    });
    let sequence = scene.plan().unwrap();
    for name in ["heron", "egret"] {
        let configure = step(&sequence, &format!("{name}/etcd-configure"));
        let stale = format!("{CONFIG} says something else for the first start");
        assert!(configure.why.contains(&stale), "{:?}", configure.why);
        let Work::Act(start) = &step(&sequence, &format!("{name}/etcd-start")).work else {
            panic!("an act")
        };
        assert!(start.operations.contains(&Operation::Restart(ETCD_UNIT)), "{start:?}");
    }
}

#[test]
fn hosts_that_a_run_left_without_the_virtual_ip_address_take_part_again_before_anything_else() {
    let mut scene = Scene::standing();
    let answer = "@\tmachine\tm\n@\taddress\tno\tno\tFAULT\t0\taway\n@\tend\n";
    let facts = Observed::read(answer).unwrap().address.unwrap();
    assert!(facts.away && !facts.serves && !facts.held);
    for name in ["jetty-a", "jetty-b"] {
        scene.edit(name, |o| o.address = Some(facts.clone()));
    }
    let sequence = scene.plan().unwrap();
    assert_eq!(ids(&sequence), ["jetty-a/address-back", "jetty-b/address-back"]);
    let Work::Act(stretch) = &sequence.steps[0].work else { panic!("an act") };
    assert_eq!(stretch.operations, [Operation::TakePart]);
    // Whatever dials it waits for that.
    scene.edit("curlew", |o| {
        o.found.units.remove("zoisite-api-server.service");
    });
    let sequence = scene.plan().unwrap();
    let (back, start) =
        (index(&sequence, "jetty-a/address-back"), index(&sequence, "curlew/control-plane-start"));
    assert!(needs(&sequence, start, back));
    scene.edit("jetty-a", |o| o.address = Some(AddressFacts { away: false, ..facts.clone() }));
    assert!(!ids(&scene.plan().unwrap()).contains(&"jetty-a/address-back"));
}

#[test]
fn a_kubelet_whose_certificate_has_ended_joins_again() {
    let mut scene = Scene::standing();
    scene.edit("tern-1", |o| o.identity = Identity::Until(at("2026-11-22")));
    scene.edit("tern-2", |o| o.identity = Identity::Until(at("2026-11-24")));
    scene.edit("tern-3", |o| o.identity = Identity::Unreadable);
    let sequence = scene.plan().unwrap();
    let join = step(&sequence, "tern-1/join");
    assert_eq!(join.why, ["its certificate ended on 2026-11-22"]);
    let Work::Act(stretch) = &join.work else { panic!("an act") };
    let link = Operation::Remove("/var/lib/kubelet/pki/kubelet-client-current.pem".into());
    assert_eq!(stretch.operations[0], link, "what has ended is not in the way");
    assert!(ids(&sequence).contains(&"tern-3/join"));
    assert!(!ids(&sequence).iter().any(|id| id.starts_with("tern-2/")), "it is good for a day");
}

#[test]
fn the_end_of_a_kubelets_certificate_is_read_off_the_host() {
    let scene = Scene::bare();
    let entry = scene.trust.ledger.entries.iter().find(|e| e.host == Some(host("tern-1"))).unwrap();
    let base64: String = entry.pem.lines().filter(|line| !line.starts_with('-')).collect();
    let seen =
        |text: &str| Observed::read(&format!("@\tidentity\t{text}\n@\tend\n")).unwrap().identity;
    assert_eq!(seen(&base64), Identity::Until(entry.not_after));
    assert_eq!(seen(""), Identity::Unreadable);
    assert_eq!(seen("bm90IGEgY2VydGlmaWNhdGU="), Identity::Unreadable);
    assert_eq!(Observed::read("@\tend\n").unwrap().identity, Identity::Absent);
}

#[test]
fn what_hosts_say_of_versions_members_and_boots_is_read() {
    let members = r#"{"members":[{"ID":10276657743932975437,"name":"heron","peerURLs":["https://10.77.0.11:2380"]},
        {"ID":1,"peerURLs":["https://10.77.0.99:2380"],"isLearner":true}]}"#;
    let text = format!(
        "@\tunit\t{ETCD_UNIT}\tRuns\t/usr/local/lib/zoisite/etcd-3.6.15/etcd (deleted)\n\
         @\tunit\t{ETCD_UNIT}\tStarts\t/usr/local/lib/zoisite/etcd-3.6.16/etcd\n\
         @\tunit\tcontainerd.service\tRuns\t/usr/bin/containerd\n\
         @\tcluster\t{ID} 1\n@\tetcd-members\t{}\n@\tend\n",
        members.replace('\n', " ")
    );
    let seen = Observed::read(&text).unwrap();
    assert_eq!(
        seen.found.units[ETCD_UNIT].program(),
        Some(("etcd", Version::new("3.6.15").unwrap())),
        "what runs counts"
    );
    assert_eq!(seen.found.units["containerd.service"].program(), None);
    assert_eq!(seen.cluster.as_deref(), Some("0123456789abcdef 1"));
    let listed = seen.etcd.members.unwrap();
    assert_eq!((listed[1].id.as_str(), listed[1].name.as_str()), ("8e9e05c52164694d", "heron"));
    assert!(listed[0].learner && listed[0].name.is_empty());
}

#[test]
fn a_hosts_answer_brings_nothing_to_a_terminal_that_it_would_obey() {
    let mut reply = Reply::default();
    let said = reply.line("@\tbegin\t1\tfile \u{1b}]0;owned\u{7}\u{202e}x").unwrap();
    assert!(!said.contains(['\u{1b}', '\u{7}', '\u{202e}']), "{said:?}");
    let seen = Observed::read("@\tos\tdebian \u{1b}[2J13\n@\tend\n").unwrap();
    assert_eq!(seen.os, "debian ·[2J13");
}

#[test]
fn an_authoritys_key_leaves_a_host_that_is_a_control_plane_no_more() {
    let key = "/etc/zoisite/controller-manager/cluster-authority.key";
    let signing = SALTMARSH.replacen("[workers]\n", "[workers]\nsigner = \"in-cluster\"\n", 1);
    let demoted = signing.replacen("\"plover\", \"sandpiper\"]", "\"plover\"]", 1).replacen(
        "[\"tern-*\"]",
        "[\"tern-*\", \"sandpiper\"]",
        1,
    );
    let mut scene = Scene::standing_of(read(&signing).cluster.unwrap());
    scene.edit("sandpiper", |o| {
        o.found.leftovers.insert(key.into(), ());
    });
    scene.cluster = read(&demoted).cluster.unwrap();
    scene.trust.issue(&scene.cluster, at("2026-11-23"));
    let sequence = scene.plan().unwrap();
    let removed = Item::Absent(Absent { path: key.into() });
    let removes = sequence.steps.iter().any(|step| {
        let Work::Act(stretch) = &step.work else { return false };
        stretch.host == host("sandpiper")
            && stretch.operations.contains(&Operation::Put(removed.clone()))
    });
    assert!(removes, "{:?}", ids(&sequence));
}

#[test]
fn labels_and_taints_that_are_no_longer_asked_for_are_taken_away_and_no_others() {
    let mut scene = changed_after("labels.tern-3 = { shore = \"south\" }\n", "");
    let slow = Taint { key: "slow".into(), value: String::new(), effect: "NoSchedule".into() };
    scene.api(|api| {
        let facts = api.nodes.get_mut("tern-3").unwrap();
        facts.labels.insert("theirs".into(), "kept".into());
        facts.taints.push(slow.clone());
    });
    let sequence = scene.plan().unwrap();
    let object = step(&sequence, "tern-3/node-object");
    assert_eq!(object.why, ["the label shore is no longer asked for"]);
    // A taint that Zoisite put goes, one of somebody else's stays.
    scene.api(|api| {
        api.nodes.get_mut("tern-3").unwrap().put.as_mut().unwrap().taints.push(slow.clone());
    });
    let sequence = scene.plan().unwrap();
    let why = &step(&sequence, "tern-3/node-object").why;
    assert!(why.contains(&"the taint slow is no longer asked for".to_owned()), "{why:?}");
}

#[test]
fn a_control_plane_that_becomes_a_worker_too_loses_its_taint() {
    let mut scene = changed_after("[\"tern-*\"]", "[\"tern-*\", \"curlew\"]");
    // Also where the object is from before it remembered what was put there.
    scene.api(|api| api.nodes.get_mut("curlew").unwrap().put = None);
    let sequence = scene.plan().unwrap();
    let object = step(&sequence, "curlew/node-object");
    assert_eq!(
        object.why,
        [
            "the label node-role.kubernetes.io/worker= is missing",
            "the taint node-role.kubernetes.io/control-plane is no longer asked for"
        ]
    );
    let Work::Api(ApiWork::SetNode { node }) = &object.work else { panic!("the node") };
    assert_eq!(
        node.put(),
        NodePut { labels: node.labels.keys().cloned().collect(), taints: vec![] }
    );
}

#[test]
fn an_object_that_could_not_be_compared_is_not_one_that_differs() {
    let mut scene = Scene::standing();
    scene.api(|api| {
        api.uncompared.insert("Service kube-system/coredns".into(), "no answer: timed out".into());
    });
    assert!(scene.plan().unwrap().is_empty());
}

#[test]
fn a_host_taken_out_of_the_file_is_dialled_on_left_out_of_proofs_and_not_touched() {
    let two = SALTMARSH
        .replacen("tern-{1..3}\" = \"10.77.0.{101..103}", "tern-{1..2}\" = \"10.77.0.{101..102}", 1)
        .replacen("labels.tern-3 = { shore = \"south\" }\n", "", 1);
    let mut scene = Scene::standing();
    scene.cluster = read(&two).cluster.unwrap();
    scene.known.departed.insert(host("tern-3"), "10.77.0.103".parse().unwrap());
    scene.departed.insert(host("tern-3"));
    scene.looks.remove(&host("tern-3"));
    let routes = scene.holdings();
    let routes =
        routes.host(&host("tern-1")).unwrap().files().find(|f| f.path.ends_with("network/routes"));
    let routes = routes.unwrap().content.whole_text().unwrap();
    assert!(routes.contains("via 10.77.0.103"), "its pods are dialled on: {routes}");
    // It asks for its next certificate: that is neither signed nor refused here.
    let before = scene.plan().unwrap();
    scene.api(|api| {
        api.requests.push(zoisite_core::pki::NodeRequest {
            name: "next".into(),
            username: "system:node:tern-3".into(),
            pem: crate::common::request_pem("tern-3"),
            ..Default::default()
        });
    });
    assert_eq!(ids(&scene.plan().unwrap()), ids(&before));
    // A year later its certificates have ended, and everybody else's were renewed.
    scene.trust.issue(&scene.cluster, at("2027-11-01"));
    let proof = prove(&edges(&scene.cluster), &scene.trust.ledger, &[], at("2027-12-01"));
    assert_eq!(proof.failed, [], "{:?}", proof.failed.first());
}

#[test]
fn s6_a_join_that_fails_takes_its_token_back_whatever_failed() {
    for fails in ["token", "join", "admit"] {
        let mut scene = Scene::standing();
        scene.edit("tern-1", |o| o.identity = Identity::Absent);
        let mut engine = Engine::new(scene.plan().unwrap(), 40);
        let mut commands = engine.begin();
        let mut back = false;
        while let Some(Command { step, work }) = commands.pop() {
            let id = engine.steps()[step].id.clone();
            back |= work == Work::Api(ApiWork::Retract { host: host("tern-1") });
            let outcome = match id == format!("tern-1/{fails}") {
                true => StepOutcome::Failed(Trouble::new(None, "it", "failed", Vec::new())),
                false => StepOutcome::Done { changed: 0 },
            };
            commands.extend(engine.handle(Event::Finished { step, outcome }));
        }
        assert!(engine.finished() && back, "{fails}");
    }
}

#[test]
fn s6_a_token_that_a_run_made_for_a_host_that_is_in_by_now_is_taken_back() {
    let mut scene = Scene::standing();
    scene.tokens =
        vec![crate::common::token("abcdef", "tern-1"), crate::common::token("ghijkl", "tern-2")];
    scene.tokens[0].by_run = true;
    scene.api(|api| api.tokens = ["abcdef".to_owned(), "ghijkl".to_owned()].into());
    let sequence = scene.plan().unwrap();
    assert_eq!(ids(&sequence), ["tern-1/token-back"], "a person's token is theirs");
}

#[test]
fn swap_is_no_obstacle_where_the_kubelet_is_told_to_bear_it() {
    let mut scene = Scene::standing();
    // One that came back is turned off again; where the machine beneath swaps, a person is needed.
    scene.edit("tern-1", |o| {
        o.swap = true;
        o.found.swaps.insert("now /dev/vdb2".into(), ());
    });
    assert_eq!(ids(&scene.plan().unwrap()), ["tern-1/prepare"]);
    let contained = HostFacts { container: true, ..HostFacts::default() };
    scene.known.facts.insert(host("tern-1"), contained);
    assert_eq!(scene.plan().unwrap().left_out.len(), 1);
    let text =
        SALTMARSH.replacen("[workers]\n", "[workers]\nkubelet = { failSwapOn = false }\n", 1);
    scene.cluster = read(&text).cluster.unwrap();
    assert_eq!(scene.plan().unwrap().left_out, []);
}

#[test]
fn where_no_control_plane_can_be_reached_nobody_waits_for_the_api() {
    let mut scene = Scene::standing();
    for name in ["curlew", "plover", "sandpiper"] {
        scene.lose(name);
    }
    scene.api = ApiLook::Absent;
    scene.edit("heron", |o| {
        o.found.units.get_mut("zoisite-etcd.service").unwrap().active = "failed".into();
        o.etcd.status = None;
    });
    let sequence = scene.plan().unwrap();
    let waits = sequence.steps.iter().filter(|step| matches!(step.work, Work::Api(_)));
    assert_eq!(waits.count(), 0, "{:?}", ids(&sequence));
    assert!(ids(&sequence).contains(&"heron/etcd-start"), "the quorum is looked after");
}

#[test]
fn what_is_published_again_for_pods_is_read_by_dns_when_every_node_is_there() {
    let mut scene = Scene::standing();
    for name in ["curlew", "plover", "sandpiper"] {
        scene.edit(name, |o| {
            let path = "/etc/zoisite/controller-manager/pods-authority.crt";
            o.found.files.get_mut(path).unwrap().sha256 = Some("00".into());
        });
    }
    // A node joins in the same run.
    scene.edit("tern-1", |o| o.identity = Identity::Absent);
    let sequence = scene.plan().unwrap();
    let believe = index(&sequence, "believe");
    assert!(needs(&sequence, believe, index(&sequence, "ready-tern-1")), "{:?}", ids(&sequence));
    assert!(needs(&sequence, index(&sequence, "believed"), believe));
}

#[test]
fn a_cluster_that_stands_needs_nothing() {
    assert_eq!(ids(&Scene::standing().plan().unwrap()), [""; 0]);
}

#[test]
fn a_changed_controller_manager_goes_host_by_host_and_is_waited_for_at_its_port() {
    let address = "endpoint = \"api.saltmarsh.example:6443\"\n";
    let scene = changed_after(address, &format!("{address}controller-manager = {{ v = \"3\" }}\n"));
    let sequence = scene.plan().unwrap();
    let restarts: Vec<usize> = (0..sequence.steps.len())
        .filter(|step| sequence.steps[*step].name() == "control-plane-restart")
        .collect();
    assert_eq!(restarts.len(), 3, "{:?}", ids(&sequence));
    for pair in restarts.windows(2) {
        assert!(needs(&sequence, pair[1], pair[0]), "a wrong setting stops at the first host");
    }
    let Work::Act(stretch) = &sequence.steps[restarts[0]].work else { panic!("an act") };
    let unit = "zoisite-controller-manager.service";
    let restarted: Vec<_> =
        stretch.operations.iter().filter(|o| matches!(o, Operation::Restart(_))).collect();
    assert_eq!(restarted, [&Operation::Restart(unit)], "the API server goes on");
    let waits = |o: &Operation| matches!(o, Operation::Settle { unit: u, port: Some(10_257), .. } if *u == unit);
    assert!(stretch.operations.iter().any(waits), "{:?}", stretch.operations);
}

/// Members that began with a snapshot before are looked for, and stopped, though another quorum begins elsewhere now.
#[test]
fn hosts_of_a_restore_that_was_cut_are_not_forgotten_by_the_next_one() {
    let scene = Scene::bare();
    let begun = Begun::of(&scene.cluster, ID, at("2026-11-23"));
    let from = |hosts: &[&str], epoch| Restoring {
        snapshot: "saved".into(),
        sha256: "cafe".into(),
        hosts: hosts.iter().map(|name| host(name)).collect(),
        epoch,
        of_epoch: 1,
        lost: BTreeSet::new(),
    };
    let first = begun.restore(from(&["curlew", "plover", "heron"], 2));
    assert!(first.left.is_empty());
    let second = first.restore(from(&["curlew", "egret"], 3));
    // heron is a member of the record itself, and curlew begins again.
    assert_eq!(second.left, BTreeSet::from([host("plover")]));
    assert_eq!(second.restoring.unwrap().epoch, 3);
}
