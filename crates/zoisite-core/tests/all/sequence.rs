//! Holdings, differences, plans, refusals and the engine, on data alone.

use crate::common::{Known, Trust, at, hold, host, saltmarsh};
use zoisite_core::cluster::{Cluster, HostName};
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{Holdings, Part, holdings};
use zoisite_core::item::{ComponentSums, Content, FIRST_START, Item, KeyText};
use zoisite_core::script::{EtcdStatus, Observed, Operation, Outcome, Reply, Stretch};
use zoisite_core::sequence::{
    ApiLook, Begun, Command, Engine, Event, Formation, Looks, PlanInput, PlanOptions, Proven, Rule,
    Sequence, State, StepOutcome, Unplannable, Work, differences, formation, plan,
};

const ID: &str = "0123456789abcdef";

struct Scene {
    cluster: Cluster,
    holdings: Holdings,
    sums: ComponentSums,
    looks: Looks,
    begun: Option<Begun>,
}

/// A host that holds nothing yet.
fn bare(name: &str) -> Observed {
    Observed {
        machine: format!("machine of {name}"),
        arch: "amd64".into(),
        init: "systemd".into(),
        ..Observed::default()
    }
}

impl Scene {
    fn new() -> Self {
        let cluster = saltmarsh();
        let mut trust = Trust::new(&cluster, at("2026-11-23"));
        trust.issue(&cluster, at("2026-11-23"));
        let known = Known::of(&cluster);
        let sources = known.sources(&trust.ledger, ID);
        let holdings = holdings(&cluster, sources, &[Part::Etcd]).unwrap();
        let mut sums = ComponentSums::default();
        for file in ["etcd", "etcdctl"] {
            sums.insert(format!("etcd/3.6.16/linux-amd64/{file}"), "ab".repeat(32));
        }
        let looks =
            cluster.etcd.members.iter().map(|m| (m.clone(), Ok(bare(m.as_str())))).collect();
        Self { cluster, holdings, sums, looks, begun: None }
    }

    /// All members hold everything and serve.
    fn raised() -> Self {
        let mut scene = Self::new();
        for (name, look) in &mut scene.looks {
            let observed = look.as_mut().unwrap();
            let holdings = scene.holdings.host(name).unwrap();
            for item in &holdings.items {
                hold(observed, item);
            }
            observed.etcd.data = true;
            observed.etcd.owner = Some(ID.into());
            observed.etcd.formed = Some("9".into());
            observed.etcd.status = Some(EtcdStatus {
                cluster_id: "9".into(),
                leader: "0000000000000009".into(),
                ..EtcdStatus::default()
            });
        }
        scene
    }

    fn edit(&mut self, name: &str, change: impl FnOnce(&mut Observed)) {
        change(self.looks.get_mut(&host(name)).unwrap().as_mut().unwrap());
    }

    fn plan(&self) -> Result<Sequence, Unplannable> {
        let Self { cluster, holdings, sums, looks, .. } = self;
        let api = &ApiLook::Absent;
        let (objects, nodes, tokens, accepted) = (&[], &[], &[], &[]);
        let (next, real) = crate::common::next(cluster, looks, self.begun.as_ref(), true);
        let (aim, real) = (&crate::common::stage(next), &real);
        let input = PlanInput {
            cluster,
            aim,
            real,
            holdings,
            looks,
            sums,
            api,
            objects,
            shelf: &[],
            nodes,
            tokens,
            accepted,
            identity: ID,
            begun: self.begun.as_ref(),
            marked: false,
            departed: &Default::default(),
            now: at("2026-11-23"),
        };
        plan(input, PlanOptions::default())
    }

    fn refused(&self) -> Vec<(Rule, Option<HostName>)> {
        self.plan().unwrap_err().refusals.into_iter().map(|r| (r.rule, r.host)).collect()
    }

    fn ids(&self) -> Vec<String> {
        self.plan().unwrap().steps.into_iter().map(|step| step.id).collect()
    }
}

const CONFIG: &str = "/etc/zoisite/etcd/etcd.yaml";
const UNIT: &str = "zoisite-etcd.service";

fn spoil(observed: &mut Observed, path: &str) {
    observed.found.files.get_mut(path).unwrap().sha256 = Some("00".into());
}

#[test]
fn members_are_configured_each_and_started_together() {
    let sequence = Scene::new().plan().unwrap();
    let ids: Vec<&str> = sequence.steps.iter().map(|s| s.id.as_str()).collect();
    assert_eq!(
        ids[ids.len() - 7..ids.len() - 3],
        ["quorum", "heron/etcd-note", "egret/etcd-note", "ibis/etcd-note"]
    );
    // Hosts save what their members hold once there is something.
    for beside in &sequence.steps[ids.len() - 3..] {
        assert!(beside.id.ends_with("/etcd-beside"), "{}", beside.id);
        assert_eq!(beside.needs.iter().map(|n| ids[*n]).collect::<Vec<_>>(), ["quorum"]);
    }
    for name in ["heron", "egret", "ibis"] {
        let start = sequence.steps.iter().find(|s| s.id == format!("{name}/etcd-start")).unwrap();
        let needs: Vec<&str> = start.needs.iter().map(|n| ids[*n]).collect();
        assert_eq!(needs, ["heron/etcd-configure", "egret/etcd-configure", "ibis/etcd-configure"]);
        assert!(start.disrupts.is_empty());
        let configure =
            sequence.steps.iter().find(|s| s.id == format!("{name}/etcd-configure")).unwrap();
        let Work::Act(Stretch { operations, .. }) = &configure.work else { panic!("an act") };
        let enabled = operations.iter().any(|o| matches!(o, Operation::Enable(_)));
        assert!(!enabled, "a reboot before the others are ready must start nothing");
    }
    for (index, step) in sequence.steps.iter().enumerate() {
        assert!(step.needs.iter().all(|need| *need < index), "{} needs what comes later", step.id);
        assert!(!step.why.is_empty(), "{} says no reason", step.id);
    }
}

#[test]
fn a_raised_cluster_needs_nothing() {
    assert_eq!(Scene::raised().ids(), [""; 0]);
}

#[test]
fn first_start_facts_are_no_difference() {
    let scene = Scene::raised();
    let member = scene.holdings.host(&host("heron")).unwrap();
    let config = member.files().find(|f| f.path == CONFIG).unwrap();
    let text = config.content.whole_text().unwrap();
    let (lasting, first) = text.split_once(FIRST_START).unwrap();
    assert!(first.contains("initial-cluster:") && !lasting.contains("initial-cluster"));
    let Content::Text { lasting: kept, .. } = &config.content else { panic!("it is text") };
    assert_eq!(**kept, *lasting);
}

#[test]
fn the_configuration_has_what_practitioners_forget() {
    let scene = Scene::new();
    let member = scene.holdings.host(&host("heron")).unwrap();
    let text = member.files().find(|f| f.path == CONFIG).unwrap().content.whole_text().unwrap();
    let yaml: serde_json::Value = serde_saphyr::from_str(&text).unwrap();
    let get = |pointer: &str| {
        yaml.pointer(pointer).unwrap_or_else(|| panic!("{pointer} in {text}")).clone()
    };
    assert_eq!(get("/name"), "heron");
    assert_eq!(get("/listen-peer-urls"), "https://10.77.0.11:2380");
    assert_eq!(get("/listen-client-http-urls"), "http://127.0.0.1:2381");
    assert_eq!(get("/client-transport-security/client-cert-auth"), true);
    assert_eq!(get("/peer-transport-security/client-cert-auth"), true);
    assert_eq!(get("/initial-cluster-token"), format!("saltmarsh-{ID}"));
    assert_eq!(
        get("/initial-cluster"),
        "heron=https://10.77.0.11:2380,egret=https://10.77.0.12:2380,ibis=https://10.77.0.13:2380"
    );
    let data = member.items.iter().find_map(|item| match item {
        Item::Directory(d) if d.path == get("/data-dir") => Some((d.owner, d.mode)),
        _ => None,
    });
    assert_eq!(data, Some(("zoisite-etcd", 0o700)));
}

#[test]
fn own_settings_reach_the_configuration_and_replace_defaults() {
    let text = crate::common::changed(
        "[etcd]\n",
        "[etcd]\nsettings = { heartbeat-interval = 500, max-txn-ops = 256 }\n",
    );
    let cluster = zoisite_core::cluster::read(&text).cluster.unwrap();
    let mut trust = Trust::new(&cluster, at("2026-11-23"));
    trust.issue(&cluster, at("2026-11-23"));
    let made =
        holdings(&cluster, Known::of(&cluster).sources(&trust.ledger, ID), &[Part::Etcd]).unwrap();
    let written =
        made.hosts[0].files().find(|f| f.path == CONFIG).unwrap().content.whole_text().unwrap();
    let yaml: serde_json::Value = serde_saphyr::from_str(&written).unwrap();
    assert_eq!(yaml["heartbeat-interval"], 500);
    assert_eq!(yaml["max-txn-ops"], 256);
    assert_eq!(yaml["election-timeout"], 1_000);
    // etcd lets calls end for five seconds and two election timeouts.
    let stops = |text: &str| {
        let cluster = zoisite_core::cluster::read(text).cluster.unwrap();
        let known = Known::of(&cluster);
        let made = holdings(&cluster, known.sources(&trust.ledger, ID), &[Part::Etcd]).unwrap();
        let unit = made.hosts[0].files().find(|f| f.path.ends_with("zoisite-etcd.service"));
        let unit = unit.unwrap().content.whole_text().unwrap();
        let line = unit.lines().find_map(|line| line.strip_prefix("TimeoutStopSec=")).unwrap();
        line.parse::<u64>().unwrap()
    };
    assert_eq!(stops(&text), 32);
    assert_eq!(stops(&text.replace("max-txn-ops = 256", "election-timeout = 50000")), 130);
}

#[test]
fn holdings_without_certificates_names_every_one_that_is_missing() {
    let cluster = saltmarsh();
    let ledger = zoisite_core::pki::Ledger::default();
    let errors =
        holdings(&cluster, Known::of(&cluster).sources(&ledger, ID), &[Part::Etcd]).unwrap_err();
    assert_eq!(errors.len(), 3 * (2 + 3), "two authorities and three leaves for each member");
}

#[test]
fn keys_are_for_their_host_and_readable_by_their_owner_alone() {
    let scene = Scene::new();
    for host in &scene.holdings.hosts {
        let secret = |item: &Item| item.secret().map(|(_, label)| label.to_owned());
        let keys: Vec<_> =
            host.items.iter().filter_map(|i| Some((secret(i)?, i.describe().mode))).collect();
        assert_eq!(keys.len(), 3);
        for (label, mode) in keys {
            assert!(label.ends_with(&format!(" of {}", host.host)), "{label} on {}", host.host);
            assert_eq!(mode, Some(0o600));
        }
    }
}

#[test]
fn what_needs_a_restart_rolls_and_what_does_not_is_put_right_at_once() {
    let mut scene = Scene::raised();
    scene.edit("egret", |o| spoil(o, CONFIG));
    scene.edit("ibis", |o| spoil(o, "/etc/zoisite/etcd/peer-authority.crt"));
    scene.edit("heron", |o| spoil(o, "/etc/zoisite/etcd/server/tls.crt"));
    assert_eq!(
        scene.ids(),
        [
            "heron/etcd-put-right",
            "quorum",
            "egret/etcd-restart",
            "quorum-after-egret",
            "ibis/etcd-restart",
            "quorum-after-ibis"
        ]
    );
    let sequence = scene.plan().unwrap();
    for pair in sequence.steps[1..].windows(2) {
        let before = sequence.steps.iter().position(|s| s.id == pair[0].id).unwrap();
        assert_eq!(pair[1].needs, [before], "{} waits for {}", pair[1].id, pair[0].id);
    }
    assert_eq!(sequence.steps.iter().filter(|s| !s.disrupts.is_empty()).count(), 2);
}

#[test]
fn each_kind_of_difference_is_seen() {
    type Spoil = fn(&mut Observed);
    let cases: [(Spoil, &str); 8] = [
        (
            |o| {
                o.found.users.clear();
            },
            "user zoisite-etcd is missing",
        ),
        (
            |o| {
                o.found.directories.get_mut("/var/lib/etcd/data").unwrap().mode = "755".into();
            },
            "/var/lib/etcd/data has owner and mode zoisite-etcd 755",
        ),
        (
            |o| {
                o.found.files.remove(CONFIG);
            },
            "/etc/zoisite/etcd/etcd.yaml is missing",
        ),
        (
            |o| {
                o.found.files.get_mut("/etc/zoisite/etcd/peer/tls.key").unwrap().owner =
                    "root".into();
            },
            "/etc/zoisite/etcd/peer has owner and mode root 600",
        ),
        (
            |o| {
                o.found
                    .components
                    .insert("/usr/local/lib/zoisite/etcd-3.6.16/etcd".into(), "cd".into());
            },
            "/usr/local/lib/zoisite/etcd-3.6.16/etcd has other content",
        ),
        (
            |o| {
                o.found.units.get_mut(UNIT).unwrap().enabled = false;
            },
            "zoisite-etcd.service does not start at boot",
        ),
        (
            |o| {
                o.found.units.get_mut(UNIT).unwrap().active = "failed".into();
            },
            "zoisite-etcd.service does not run (failed, )",
        ),
        (
            |o| {
                o.found.units.get_mut(UNIT).unwrap().pending = true;
            },
            "zoisite-etcd.service runs with older files than are there",
        ),
    ];
    for (spoil, says) in cases {
        let mut scene = Scene::raised();
        scene.edit("egret", spoil);
        let observed = scene.looks[&host("egret")].as_ref().unwrap();
        let found =
            differences(scene.holdings.host(&host("egret")).unwrap(), observed, &scene.sums);
        let texts: Vec<String> = found.iter().map(ToString::to_string).collect();
        assert_eq!(texts, [says]);
        assert!(!scene.plan().unwrap().is_empty(), "{says}");
    }
}

#[test]
fn s1_a_member_that_lost_its_data_is_never_started_as_if_new() {
    let mut scene = Scene::raised();
    scene.edit("egret", |o| {
        o.etcd = Default::default();
        o.found.units.get_mut(UNIT).unwrap().active = "failed".into();
    });
    assert_eq!(scene.refused(), [(Rule::QuorumFirst, Some(host("egret")))]);
}

#[test]
fn s2_no_restart_without_a_quorum_of_the_others() {
    let mut scene = Scene::raised();
    scene.edit("egret", |o| spoil(o, CONFIG));
    let lost = Trouble::new(Some(host("ibis")), "logging in", "No route to host", vec![]);
    scene.looks.insert(host("ibis"), Err(lost));
    assert_eq!(scene.refused(), [(Rule::OneAtATime, Some(host("egret")))]);
}

#[test]
fn s3_foreign_data_is_refused_on_every_host_that_has_it() {
    let mut scene = Scene::new();
    scene.edit("heron", |o| o.etcd.strays = vec!["/var/lib/etcd/default/member".into()]);
    scene.edit("egret", |o| o.etcd.owner = Some("another".into()));
    scene.edit("ibis", |o| o.etcd.data = true);
    let refused = scene.refused();
    assert_eq!(refused.len(), 3);
    assert!(refused.iter().all(|(rule, _)| *rule == Rule::NoForeignData));
}

#[test]
fn a_first_start_that_was_interrupted_goes_on_and_a_formed_one_is_known_by_any_evidence() {
    let mut scene = Scene::new();
    scene.edit("heron", |o| {
        o.etcd.data = true;
        o.etcd.owner = Some(ID.into());
    });
    let all =
        |s: &Scene| formation(s.looks.values().filter_map(|l| l.as_ref().ok()), s.begun.as_ref());
    assert_eq!(all(&Scene::new()), Formation::Fresh);
    assert_eq!(all(&scene), Formation::Forming);
    assert!(scene.ids().contains(&"egret/etcd-start".to_owned()));
    scene.edit("heron", |o| o.etcd.formed = Some("9".into()));
    assert_eq!(all(&scene), Formation::Formed);
}

#[test]
fn before_the_quorum_every_missing_host_is_reported_and_nothing_is_planned() {
    let mut scene = Scene::new();
    for name in ["heron", "ibis"] {
        let lost = Trouble::new(Some(host(name)), "logging in", "Connection timed out", vec![]);
        scene.looks.insert(host(name), Err(lost));
    }
    scene.edit("egret", |o| o.arch = "riscv64".into());
    let none = scene.plan().unwrap_err();
    assert_eq!(none.troubles.len(), 3, "two hosts, and one of an unknown architecture");
    let unknown = none.troubles.iter().find(|trouble| trouble.host == Some(host("egret"))).unwrap();
    assert_eq!(unknown.answer, "nothing pins etcd 3.6.16, etcdctl 3.6.16");
}

#[test]
fn a_member_that_is_down_is_started_before_any_other_restarts() {
    let mut scene = Scene::raised();
    scene.edit("ibis", |o| {
        o.found.units.get_mut(UNIT).unwrap().active = "failed".into();
        o.etcd.status = None;
    });
    assert_eq!(scene.ids(), ["ibis/etcd-configure", "ibis/etcd-start", "quorum"]);
    let sequence = scene.plan().unwrap();
    let Work::Act(Stretch { operations, .. }) = &sequence.steps[1].work else { panic!("an act") };
    assert_eq!(operations[..2], [Operation::Enable(UNIT), Operation::Start(UNIT)]);
}

/// Takes the engine through, each step done at once, and returns the order of ids.
fn take(engine: &mut Engine, mut outcome: impl FnMut(&str) -> StepOutcome) -> Vec<String> {
    let mut order = Vec::new();
    let mut commands = engine.begin();
    while !commands.is_empty() {
        let Command { step, .. } = commands.remove(0);
        let id = engine.steps()[step].id.clone();
        let outcome = outcome(&id);
        order.push(id);
        commands.extend(engine.handle(Event::Finished { step, outcome }));
    }
    assert!(engine.finished());
    order
}

fn well(id: &str) -> StepOutcome {
    if id.starts_with("quorum") {
        StepOutcome::Proven(Proven { cluster_id: "cafe".into(), ..Proven::default() })
    } else {
        StepOutcome::Done { changed: 1 }
    }
}

#[test]
fn the_engine_takes_every_step_and_the_mark_says_what_the_gate_showed() {
    let mut engine = Engine::new(Scene::new().plan().unwrap(), 40);
    let mut marks = 0;
    let mut commands = engine.begin();
    while let Some(Command { step, work }) = commands.pop() {
        if let Work::Act(Stretch { operations, .. }) = &work
            && let [Operation::Mark { text, .. }] = operations.as_slice()
        {
            assert_eq!(text, "cafe");
            marks += 1;
        }
        let outcome = well(&engine.steps()[step].id.clone());
        commands.extend(engine.handle(Event::Finished { step, outcome }));
    }
    assert!(engine.finished());
    assert_eq!(marks, 3);
    assert_eq!(engine.tally().done, 16);
}

#[test]
fn a_failure_stops_what_needs_it_and_nothing_else() {
    let mut engine = Engine::new(Scene::new().plan().unwrap(), 40);
    let order = take(&mut engine, |id| match id {
        "egret/etcd-components" => {
            StepOutcome::Failed(Trouble::new(Some(host("egret")), "x", "y", vec![]))
        }
        id => well(id),
    });
    assert!(order.contains(&"ibis/etcd-configure".to_owned()), "others go on");
    assert!(!order.iter().any(|id| id.ends_with("/etcd-start")), "nobody starts alone");
    let tally = engine.tally();
    assert_eq!((tally.done, tally.failed, tally.not_taken), (4, 1, 11));
    let failed: Vec<_> = engine.troubles().map(|trouble| trouble.host.clone()).collect();
    assert_eq!(failed, [Some(host("egret"))]);
}

#[test]
fn an_interrupt_lets_what_runs_end_and_begins_nothing_new() {
    let mut engine = Engine::new(Scene::new().plan().unwrap(), 40);
    let commands = engine.begin();
    assert_eq!(commands.len(), 3);
    assert!(engine.handle(Event::Interrupt).is_empty());
    assert!(!engine.finished());
    for Command { step, .. } in commands {
        assert!(
            engine
                .handle(Event::Finished { step, outcome: StepOutcome::Done { changed: 1 } })
                .is_empty()
        );
    }
    assert!(engine.finished());
    assert_eq!((engine.tally().done, engine.tally().not_taken), (3, 13));
}

#[test]
fn the_limit_is_kept() {
    let mut engine = Engine::new(Scene::new().plan().unwrap(), 2);
    assert_eq!(engine.begin().len(), 2);
    assert_eq!(engine.states().iter().filter(|s| **s == State::Running).count(), 2);
}

#[test]
fn s2_the_engine_itself_holds_a_second_disruption_back() {
    let mut scene = Scene::raised();
    scene.edit("egret", |o| spoil(o, CONFIG));
    scene.edit("ibis", |o| spoil(o, CONFIG));
    let mut sequence = scene.plan().unwrap();
    // A faulty plan that lets both restart at once.
    for step in &mut sequence.steps {
        if !step.disrupts.is_empty() {
            step.needs.clear();
        }
    }
    let mut engine = Engine::new(sequence, 40);
    let begun: Vec<String> =
        engine.begin().iter().map(|c| engine.steps()[c.step].id.clone()).collect();
    assert_eq!(begun.iter().filter(|id| id.ends_with("/etcd-restart")).count(), 1, "{begun:?}");
}

#[test]
fn a_script_masks_keys_for_reading_and_is_nothing_when_cut() {
    let sequence = Scene::new().plan().unwrap();
    let step = sequence.steps.iter().find(|s| s.id == "heron/etcd-configure").unwrap();
    let Work::Act(stretch) = &step.work else { panic!("an act") };
    let shown = stretch.script(7, KeyText::Masked).unwrap();
    let text = shown.expose();
    assert!(text.contains("(private key: etcd-peer of heron, sha256 "));
    assert!(!text.contains("PRIVATE KEY"));
    assert!(text.contains("lock 7\n"));
    assert!(text.ends_with("}\nzoisite </dev/null\n"), "one function, called on the last line");
    let missing = stretch.script(7, KeyText::Opened(&|_| None)).unwrap_err();
    assert_eq!(missing, "etcd-server of heron");
}

#[test]
fn replies_are_read_among_noise_and_a_cut_one_is_not_taken_for_done() {
    let read = |text: &str| {
        let mut reply = Reply::default();
        text.lines().for_each(|line| {
            reply.line(line);
        });
        reply.outcome("sudo: a password is required\n")
    };
    let good =
        "Welcome!\n@\tbegin\t1\tfile /x\n@\tchanged\t1\n@\tbegin\t2\tfile /y\n@\tsame\t2\n@\tend\n";
    assert_eq!(read(good), Outcome::Done { changed: 1 });
    assert_eq!(read("@\tbusy\n"), Outcome::Busy);
    assert_eq!(read("@\tnewer\t99\n"), Outcome::Newer(99));
    let failed = read(
        "@\tlog\tbind: address already in use\n@\tfailed\t3\twaiting for x\tit stopped 3 times\n",
    );
    let Outcome::Failed { attempted, evidence, .. } = failed else { panic!("{failed:?}") };
    assert_eq!((attempted.as_str(), evidence.len()), ("waiting for x", 1));
    assert_eq!(
        read("Welcome!\n@\tbegin\t1\tx\n"),
        Outcome::Cut("Welcome! | sudo: a password is required".into())
    );
    assert!(Observed::read("@\tmachine\tabc\n").is_err(), "without its end it is not an answer");
}
