//! Control plane, load balancers and nodes: holdings, plans, requests, budgets, on data alone.

#![allow(clippy::disallowed_methods, reason = "kubelets and hosts make their own keys")]

use std::collections::BTreeSet;

use crate::common::scene::{Scene, index, needs};
use crate::common::{Trust, at, changed, host, saltmarsh, token};
use zoisite_core::cluster::read;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::holdings::{HostFacts, KUBELET_UNIT, assign_subnets, objects};
use zoisite_core::item::{Absent, Item};
use zoisite_core::pki::{
    Asker, KUBELET_CLIENT_SIGNER, KeyKind, NodeRequest, check_request, kubelet_client,
};
use zoisite_core::script::{Identity, Observed, Operation};
use zoisite_core::sequence::{
    ApiWork, Engine, Event, Rule, Sequence, State, Step, StepOutcome, Work,
};
use zoisite_core::token::TokenRecord;

#[test]
fn from_bare_hosts_everything_waits_for_what_it_needs() {
    let sequence = Scene::bare().plan().unwrap();
    for (later, earlier) in [
        ("curlew/control-plane-start", "quorum"),
        ("plover/control-plane-start", "api-curlew"),
        ("sandpiper/control-plane-start", "api-curlew"),
        ("jetty-a/load-balancers-start", "api-curlew"),
        ("objects", "load-balancer-jetty-b"),
        ("api-endpoint", "objects"),
        ("tern-1/token", "api-endpoint"),
        ("tern-1/join", "tern-1/token"),
        ("tern-1/join", "tern-1/nodes-prepare"),
        ("tern-1/admit", "tern-1/join"),
        ("tern-1/forget", "tern-1/join"),
        ("ready-tern-1", "tern-1/admit"),
        ("dns", "objects"),
    ] {
        let (l, e) = (index(&sequence, later), index(&sequence, earlier));
        assert!(needs(&sequence, l, e), "{later} waits for {earlier}");
    }
    // Hosts do not wait for each other's joining, and preparing waits for nothing.
    let (one, two) = (index(&sequence, "tern-1/join"), index(&sequence, "tern-2/join"));
    assert!(!needs(&sequence, one, two) && !needs(&sequence, two, one));
    let prepare = index(&sequence, "tern-1/nodes-prepare");
    assert!(!needs(&sequence, prepare, index(&sequence, "quorum")));
    // The kubelet is not started before its token is there.
    let Work::Act(stretch) = &sequence.steps[prepare].work else { panic!("an act") };
    assert!(!stretch.operations.contains(&Operation::Start(KUBELET_UNIT)));
    for (i, step) in sequence.steps.iter().enumerate() {
        assert!(step.needs.iter().all(|need| *need < i), "{} needs what comes before", step.id);
    }
}

#[test]
fn of_a_cluster_that_is_right_nothing_is_to_be_done() {
    let sequence = Scene::raised().plan().unwrap();
    let ids: Vec<&str> = sequence.steps.iter().map(|step| step.id.as_str()).collect();
    assert!(sequence.is_empty(), "{ids:?}");
}

#[test]
fn what_would_keep_a_host_from_joining_is_told_before_anything_is_touched() {
    type Spoil = fn(&mut Observed);
    let cases: [(Spoil, &str, &str); 4] = [
        // A container's swap is the machine's beneath.
        (|o| o.swap = true, "the host swaps", "swapoff"),
        (|o| o.resolves = Some(false), "finds no address", "site's DNS"),
        (|o| o.lacks.push("/usr/bin/containerd".into()), "not there", "install containerd"),
        (|o| o.init = "runit".into(), "not systemd", "runs systemd"),
    ];
    // Nothing is brought by itself to these.
    let scene = || {
        let mut scene = Scene::bare();
        let contained = HostFacts {
            container: true,
            runtime: Some("/usr/bin/containerd".into()),
            plugins: Some("/usr/lib/cni/bridge".into()),
            ..HostFacts::default()
        };
        for name in ["tern-2", "tern-3"] {
            scene.known.facts.insert(host(name), contained.clone());
        }
        scene
    };
    let mut all = scene();
    for (spoil, says, fix) in cases {
        let mut scene = scene();
        scene.edit("tern-2", spoil);
        all.edit("tern-3", spoil);
        let sequence = scene.plan().unwrap();
        assert_eq!(sequence.left_out.len(), 1, "{says}");
        let Trouble { host: named, answer, fix: told, .. } = &sequence.left_out[0];
        assert_eq!(named.as_ref(), Some(&host("tern-2")));
        assert!(answer.contains(says) && told.contains(fix), "{answer}: {told}");
    }
    let sequence = all.plan().unwrap();
    assert_eq!(sequence.left_out.len(), 4, "all are told at once");
    let on = |name: &str| sequence.steps.iter().filter(|s| s.host == Some(host(name))).count();
    assert_eq!(on("tern-3"), 0, "it is left out");
    assert!(on("tern-1") > 3 && on("heron") > 1, "and the others are looked after");
    // What fails on a worker keeps nobody from bringing the quorum back.
    let mut scene = Scene::raised();
    scene.edit("tern-3", |o| o.init = "runit".into());
    scene.edit("heron", |o| {
        o.found.units.get_mut("zoisite-etcd.service").unwrap().active = "failed".into();
        o.etcd.status = None;
    });
    let sequence = scene.plan().unwrap();
    assert!(sequence.steps.iter().any(|step| step.id == "heron/etcd-start"));
    assert_eq!(sequence.left_out.len(), 1);
}

#[test]
fn what_the_running_kernel_lost_is_set_again_by_itself() {
    let mut scene = Scene::raised();
    let path = "/etc/zoisite/network/routes";
    scene.edit("tern-1", |o| {
        o.found.routes.insert(path.into(), vec!["10.90.1.0/24 via 10.77.0.102".into()]);
        o.found.sysctls.insert("net.ipv4.ip_forward".into(), "0".into());
    });
    let sequence = scene.plan().unwrap();
    let ids: Vec<&str> = sequence.steps.iter().map(|step| step.id.as_str()).collect();
    assert_eq!(ids, ["tern-1/nodes-put-right", "tern-1/routes", "ready-tern-1"]);
    assert_eq!(sequence.steps[0].why, ["sysctl net.ipv4.ip_forward is 0"]);
    assert!(sequence.steps[1].why[0].contains("10.90.1.0/24 via 10.77.0.102"));
    assert!(sequence.steps.iter().all(|step| step.disrupts.is_empty()), "nothing restarts");
}

#[test]
fn s4_a_node_name_that_another_machine_took_is_refused_until_it_is_accepted() {
    let mut scene = Scene::raised();
    scene.api(|api| api.nodes.get_mut("tern-2").unwrap().machine = "stranger".into());
    let none = scene.plan().unwrap_err();
    assert_eq!(none.refusals[0].rule, Rule::SameMachine);
    assert!(none.refusals[0].fix.contains("--accept tern-2"), "{}", none.refusals[0].fix);
    // Accepted, and not joined yet: the old node object goes before this machine joins.
    scene.edit("tern-2", |observed| observed.identity = Identity::Absent);
    assert!(scene.plan().is_err());
    let sequence = scene.plan_accepting(&[host("tern-2")]).unwrap();
    let (join, removed) =
        (index(&sequence, "tern-2/token"), index(&sequence, "tern-2/node-removed"));
    assert!(needs(&sequence, join, removed));
}

#[test]
fn s6_what_a_run_that_was_cut_off_left_of_a_token_is_taken_away() {
    let mut scene = Scene::raised();
    scene.edit("tern-1", |observed| observed.token_left = true);
    scene.tokens = vec![token("spent1", "tern-1"), token("other1", "tern-1")];
    scene.tokens[0].gone = Some(at("2026-11-23"));
    scene.api(|api| api.tokens = ["spent1".to_owned(), "other1".to_owned()].into());
    let sequence = scene.plan().unwrap();
    let ids: Vec<&str> = sequence.steps.iter().map(|step| step.id.as_str()).collect();
    assert_eq!(ids, ["tern-1/forget", "tokens"]);
    let Work::Api(ApiWork::Unpublish { ids }) = &sequence.steps[1].work else { panic!("tokens") };
    assert_eq!(*ids, ["spent1"], "a token that can still be used stays");
}

#[test]
fn what_differs_at_nodes_is_put_right_without_joining_again() {
    let mut scene = Scene::raised();
    scene.edit("tern-1", |o| o.found.images.clear());
    scene.edit("tern-3", |o| {
        o.found.units.get_mut("containerd.service").unwrap().active = "failed".into();
        o.found.images.clear();
    });
    scene.api(|api| {
        api.nodes.get_mut("tern-2").unwrap().labels.clear();
        api.nodes.get_mut("curlew").unwrap().taints.clear();
        api.differing.insert("Deployment kube-system/coredns".into());
    });
    let sequence = scene.plan().unwrap();
    let put = &sequence.steps[index(&sequence, "tern-1/nodes-put-right")];
    let Work::Act(stretch) = &put.work else { panic!("an act") };
    assert_eq!(stretch.operations.len(), 2, "both images: {:?}", stretch.operations);
    let stopped = &sequence.steps[index(&sequence, "tern-3/nodes-put-right")];
    let told = |what: &str| stopped.why.iter().filter(|why| why.contains(what)).count();
    assert_eq!(told("containerd.service does not run (failed"), 1, "{:?}", stopped.why);
    assert_eq!(told("cannot be seen while containerd.service does not answer"), 2);
    // The same of a runtime that hangs: it is asked again, and nothing is called missing.
    scene.edit("tern-3", |o| {
        o.found.units.get_mut("containerd.service").unwrap().active = "active".into();
        o.hangs.push("the container runtime does not list its images".into());
    });
    let hanging = scene.plan().unwrap();
    let why = &hanging.steps[index(&hanging, "tern-3/nodes-put-right")].why;
    assert!(why.iter().all(|why| !why.contains("missing")), "{why:?}");
    let labels = &sequence.steps[index(&sequence, "tern-2/node-object")];
    assert!(labels.why.iter().any(|why| why.contains("shore=north")), "{:?}", labels.why);
    assert!(sequence.steps[index(&sequence, "curlew/node-object")].why[0].contains("taint"));
    index(&sequence, "objects");
    assert!(!sequence.steps.iter().any(|step| step.id.ends_with("/join")));
}

#[test]
fn s2_control_planes_and_load_balancers_restart_one_after_another() {
    let mut scene = Scene::raised();
    for name in ["curlew", "plover", "sandpiper"] {
        scene.edit(name, |o| {
            let path = "/etc/zoisite/api-server/audit.yaml";
            o.found.files.get_mut(path).unwrap().sha256 = Some("ff".into());
        });
    }
    for name in ["jetty-a", "jetty-b"] {
        scene.edit(name, |o| {
            let path = "/etc/zoisite/load-balancer/haproxy.cfg";
            o.found.files.get_mut(path).unwrap().sha256 = Some("ff".into());
        });
    }
    let sequence = scene.plan().unwrap();
    for (later, earlier) in [
        ("plover/control-plane-restart", "api-curlew-after-restart"),
        ("sandpiper/control-plane-restart", "api-plover-after-restart"),
        ("jetty-b/load-balancers-restart", "load-balancer-jetty-a-after-restart"),
    ] {
        let (l, e) = (index(&sequence, later), index(&sequence, earlier));
        assert!(needs(&sequence, l, e), "{later} waits for {earlier}");
    }
}

#[test]
fn pod_subnets_are_given_once_and_never_moved() {
    let cluster = saltmarsh();
    let mut assigned = std::collections::BTreeMap::new();
    assert!(assign_subnets(&cluster, &mut assigned));
    let before = assigned.clone();
    let distinct: BTreeSet<_> = assigned.values().flatten().collect();
    assert_eq!(distinct.len(), 6);
    // tern-1 goes, tern-9 comes: nobody else moves, and what was tern-1's stays its own.
    let text = changed(
        "\"tern-{1..3}\" = \"10.77.0.{101..103}\"",
        "\"tern-{2..3}\" = \"10.77.0.{102..103}\"\ntern-9 = \"10.77.0.109\"",
    )
    .replace("labels.\"tern-{1..2}\" = { shore = \"north\" }\n", "");
    let grown = read(&text).cluster.unwrap();
    assert!(assign_subnets(&grown, &mut assigned));
    for (name, nets) in &before {
        assert_eq!(assigned[name], *nets, "{name}");
    }
    assert!(!before.values().any(|nets| *nets == assigned[&host("tern-9")]));
    assert!(!assign_subnets(&grown, &mut assigned), "a second time there is nothing to give");
}

#[test]
fn cgroups_and_container_limits_come_from_what_the_host_has() {
    let mut scene = Scene::bare();
    let text = |scene: &Scene, path: &str| {
        let holdings = scene.holdings();
        let file = holdings.host(&host("tern-1")).unwrap().files().find(|f| f.path == path);
        file.unwrap().content.whole_text().unwrap()
    };
    let (kubelet, runtime) =
        ("/etc/zoisite/kubelet/kubelet.yaml", "/etc/zoisite/runtime/settings.toml");
    assert!(text(&scene, kubelet).contains("cgroupDriver: systemd"));
    assert!(text(&scene, runtime).contains("SystemdCgroup = true"));
    let facts = HostFacts {
        unified_cgroups: false,
        container: true,
        nftables: false,
        ..HostFacts::default()
    };
    scene.known.facts.insert(host("tern-1"), facts);
    assert!(text(&scene, kubelet).contains("cgroupDriver: cgroupfs"));
    assert!(text(&scene, runtime).contains("SystemdCgroup = false"));
    assert!(text(&scene, "/etc/zoisite/kube-proxy/kube-proxy.yaml").contains("mode: iptables"));
    assert!(text(&scene, "/etc/cni/net.d/10-zoisite.conflist").contains("\"ipMasq\": true"));
}

#[test]
fn own_settings_are_merged_and_what_is_computed_is_refused() {
    let own =
        "[control-plane]\napi-server = { event-ttl = \"2h\" }\nscheduler = { parallelism = 8 }\n";
    let text = changed("[control-plane]\n", own).replace(
        "[workers]\n",
        "[workers]\nkubelet = { maxPods = 60, systemReserved = { memory = \"1Gi\" } }\n",
    );
    let scene = Scene::of(read(&text).cluster.unwrap());
    let holdings = scene.holdings();
    let text = |name: &str, path: &str| {
        let file = holdings.host(&host(name)).unwrap().files().find(|f| f.path == path).unwrap();
        file.content.whole_text().unwrap()
    };
    let unit = text("curlew", "/etc/systemd/system/zoisite-api-server.service");
    assert!(unit.contains("--event-ttl=2h"), "{unit}");
    assert!(text("curlew", "/etc/zoisite/scheduler/scheduler.yaml").contains("parallelism: 8"));
    let kubelet = text("tern-1", "/etc/zoisite/kubelet/kubelet.yaml");
    assert!(kubelet.contains("maxPods: 60") && kubelet.contains("memory: 1Gi"), "{kubelet}");
    assert!(kubelet.contains("cpu: 100m"), "the rest of a table stays");

    let clash = "[control-plane]\napi-server = { etcd-servers = \"https://mine\" }\ncontroller-manager = { cluster-signing-key-file = \"/k\" }\n";
    let text = changed("[control-plane]\n", clash)
        .replace("[workers]\n", "[workers]\nkubelet = { cgroupDriver = \"systemd\" }\n");
    let reading = read(&text);
    let clashes: Vec<&str> = reading
        .findings
        .iter()
        .filter(|finding| finding.code == "setting-clash")
        .map(|finding| finding.message.as_str())
        .collect();
    assert_eq!(clashes.len(), 3, "{clashes:?}");
}

#[test]
fn a_pod_network_of_the_sites_own_comes_before_nodes_are_waited_for() {
    let text = changed("[network]\n", "[network]\npod-network = \"manifests\"\n");
    let reading = read(&text);
    assert!(reading.findings.iter().any(|finding| finding.code == "no-pod-network"));
    let text =
        changed("[network]\n", "[network]\npod-network = \"manifests\"\nmanifests = \"site\"\n");
    let scene = Scene::of(read(&text).cluster.unwrap());
    let holdings = scene.holdings();
    let paths: Vec<_> =
        holdings.host(&host("tern-1")).unwrap().files().map(|f| f.path.clone()).collect();
    assert!(!paths.iter().any(|path| path.contains("conflist") || path.contains("masquerade")));
}

#[test]
fn an_authoritys_key_goes_to_a_host_only_when_the_file_says_so() {
    let keys = |scene: &Scene| -> Vec<String> {
        let holdings = scene.holdings();
        let files = holdings.hosts.iter().flat_map(|h| h.files().cloned().collect::<Vec<_>>());
        files.map(|f| f.path).filter(|path| path.ends_with("authority.key")).collect()
    };
    assert!(keys(&Scene::bare()).is_empty());
    let text = changed("[workers]\n", "[workers]\nsigner = \"in-cluster\"\n");
    let reading = read(&text);
    assert!(reading.findings.iter().any(|finding| finding.code == "signer-in-cluster"));
    let scene = Scene::of(reading.cluster.unwrap());
    assert_eq!(keys(&scene).len(), 3, "on control planes and nowhere else");
    let titles: Vec<String> =
        objects(&scene.cluster, &scene.known.images).iter().map(|o| o.title()).collect();
    assert!(titles.contains(&"ClusterRoleBinding zoisite:join-signed".to_owned()), "{titles:?}");
    let unit = "/etc/systemd/system/zoisite-controller-manager.service";
    let holdings = scene.holdings();
    let file = holdings.host(&host("curlew")).unwrap().files().find(|f| f.path == unit).unwrap();
    let text = file.content.whole_text().unwrap();
    assert!(text.contains("--cluster-signing-key-file=") && !text.contains("-signing-controller"));
}

#[test]
fn s5_an_authoritys_key_that_is_no_longer_wanted_on_hosts_is_removed() {
    let mut scene = Scene::raised();
    let path = "/etc/zoisite/controller-manager/cluster-authority.key";
    scene.edit("plover", |o| {
        o.found.leftovers.insert(path.into(), ());
    });
    let sequence = scene.plan().unwrap();
    let step = &sequence.steps[index(&sequence, "plover/control-plane-put-right")];
    assert!(step.why[0].contains("is still there"), "{:?}", step.why);
    let Work::Act(stretch) = &step.work else { panic!("an act") };
    assert_eq!(stretch.operations, [Operation::Put(Item::Absent(Absent { path: path.into() }))]);
}

/// A request as a kubelet makes it, with one thing changed.
fn request(change: impl FnOnce(&mut rcgen::CertificateParams, &mut NodeRequest)) -> NodeRequest {
    let mut params = rcgen::CertificateParams::default();
    params.distinguished_name.push(rcgen::DnType::OrganizationName, "system:nodes");
    params.distinguished_name.push(rcgen::DnType::CommonName, "system:node:tern-1");
    let mut out = NodeRequest {
        name: "node-csr-1".into(),
        username: "system:bootstrap:abcdef".into(),
        groups: vec!["system:bootstrappers".into(), "system:authenticated".into()],
        signer: KUBELET_CLIENT_SIGNER.into(),
        usages: vec!["digital signature".into(), "client auth".into()],
        pem: String::new(),
    };
    change(&mut params, &mut out);
    if out.pem.is_empty() {
        let key = rcgen::KeyPair::generate().unwrap();
        out.pem = params.serialize_request(&key).unwrap().pem().unwrap();
    }
    out
}

#[test]
fn a_request_is_signed_only_when_it_says_exactly_what_it_must() {
    let cluster = saltmarsh();
    let wanted = kubelet_client(&cluster, &host("tern-1"));
    let token = Asker::Token("abcdef");
    let good = request(|_, _| {});
    assert_eq!(good.subject().as_deref(), Some("system:node:tern-1"));
    let trust = Trust::new(&cluster, at("2026-11-23"));
    let checked = check_request(&good, &wanted, token).unwrap();
    let authority =
        trust.authorities.iter().find(|a| a.certificate().kind.id() == "cluster").unwrap();
    let entry = authority.sign(&checked, &wanted, &trust.keys, at("2026-11-23")).unwrap();
    assert_eq!((entry.common_name.as_str(), entry.names.len()), ("system:node:tern-1", 0));
    assert_eq!(entry.key, KeyKind::EcdsaP256);

    type Spoil = fn(&mut rcgen::CertificateParams, &mut NodeRequest);
    let cases: [(Spoil, &str); 10] = [
        (|_, r| r.username = "system:bootstrap:ffffff".into(), "only system:bootstrap:abcdef may"),
        (|_, r| r.username = "system:node:tern-1".into(), "only system:bootstrap:abcdef may"),
        (|_, r| r.groups.clear(), "not in the group"),
        (|_, r| r.signer = "kubernetes.io/kubelet-serving".into(), "asks the signer"),
        (|_, r| r.usages.push("server auth".into()), "the usage 'server auth'"),
        (
            |p, _| p.distinguished_name.push(rcgen::DnType::CommonName, "system:node:tern-2"),
            "names system:node:tern-2",
        ),
        (
            |p, _| p.distinguished_name.push(rcgen::DnType::OrganizationName, "system:masters"),
            "not exactly system:nodes",
        ),
        (
            |p, _| p.subject_alt_names.push(rcgen::SanType::DnsName("api".try_into().unwrap())),
            "names or addresses",
        ),
        (
            |p, r| {
                let key = rcgen::KeyPair::generate_for(&rcgen::PKCS_ECDSA_P384_SHA384).unwrap();
                r.pem = p.serialize_request(&key).unwrap().pem().unwrap();
            },
            "not ECDSA on P-256",
        ),
        (|_, r| r.pem = "nothing".into(), "cannot be read"),
    ];
    for (spoil, says) in cases {
        let faults = check_request(&request(spoil), &wanted, token).unwrap_err();
        assert!(faults.iter().any(|fault| fault.contains(says)), "{says}: {faults:?}");
    }
    // A node asks for its own next certificate, and for no other's.
    let own = request(|_, r| {
        r.username = "system:node:tern-1".into();
        r.groups = vec!["system:nodes".into()];
    });
    assert!(check_request(&own, &wanted, Asker::Node(&host("tern-1"))).is_ok());
    let other = kubelet_client(&cluster, &host("tern-2"));
    assert!(check_request(&own, &other, Asker::Node(&host("tern-2"))).is_err());
}

#[test]
fn requests_that_wait_are_answered_nodes_own_signed_and_others_refused() {
    let mut scene = Scene::raised();
    let own = request(|_, r| {
        r.name = "own".into();
        r.username = "system:node:tern-1".into();
    });
    let stolen = request(|p, r| {
        r.name = "stolen".into();
        p.distinguished_name.push(rcgen::DnType::CommonName, "system:node:tern-2");
    });
    scene.api(|api| api.requests = vec![own, stolen]);
    let sequence = scene.plan().unwrap();
    let work = |id: &str| sequence.steps[index(&sequence, id)].work.clone();
    assert!(matches!(work("request-own"), Work::Api(ApiWork::Renew { .. })));
    assert!(matches!(work("request-stolen"), Work::Api(ApiWork::Deny { .. })));
}

#[test]
fn a_host_that_was_set_up_by_other_means_is_let_in_with_its_token_and_no_other() {
    let mut scene = Scene::raised();
    let trouble = Trouble::new(Some(host("tern-1")), "logging in", "it is behind NAT", Vec::new());
    scene.looks.insert(host("tern-1"), Err(trouble));
    scene.api(|api| {
        api.nodes.remove("tern-1");
        api.requests = vec![request(|_, _| {})];
    });
    let mut plan = |tokens: Vec<TokenRecord>| {
        scene.tokens = tokens;
        let sequence = scene.plan().unwrap();
        let request = sequence.steps[index(&sequence, "request-node-csr-1")].work.clone();
        (matches!(request, Work::Api(ApiWork::Admit { .. })), sequence)
    };
    let (admitted, sequence) = plan(vec![token("abcdef", "tern-1")]);
    assert!(admitted);
    let (ready, request) =
        (index(&sequence, "ready-tern-1"), index(&sequence, "request-node-csr-1"));
    assert!(needs(&sequence, ready, request), "it is waited for");
    let batch = TokenRecord { hosts: Vec::new(), uses: 2, ..token("abcdef", "tern-1") };
    assert!(plan(vec![batch.clone()]).0, "a batch lets any host of the file in");

    let now = at("2026-11-23");
    let used = vec![(host("tern-2"), now), (host("tern-3"), now)];
    for (tokens, what) in [
        (Vec::new(), "nobody made it"),
        (vec![token("abcdef", "tern-2")], "it is another host's"),
        (vec![TokenRecord { gone: Some(now), ..token("abcdef", "tern-1") }], "it was taken back"),
        (vec![TokenRecord { used, ..batch }], "two have used it"),
    ] {
        assert!(!plan(tokens).0, "{what}");
    }
}

fn fail() -> StepOutcome {
    StepOutcome::Failed(Trouble::new(None, "trying", "it failed", Vec::new()))
}

/// Runs a sequence in which the steps for which `fails` holds fail; the states by id.
fn play(
    sequence: Sequence,
    budget: usize,
    fails: impl Fn(&Step) -> bool,
) -> std::collections::BTreeMap<String, State> {
    let mut engine = Engine::new(sequence, 4).with_budget(budget);
    let mut commands: std::collections::VecDeque<_> = engine.begin().into();
    while let Some(command) = commands.pop_front() {
        let step = command.step;
        let outcome = match fails(&engine.steps()[step]) {
            true => fail(),
            false => StepOutcome::Done { changed: 1 },
        };
        commands.extend(engine.handle(Event::Finished { step, outcome }));
    }
    assert!(engine.finished());
    engine.steps().iter().map(|s| s.id.clone()).zip(engine.states().iter().cloned()).collect()
}

#[test]
fn a_host_that_fails_to_join_stops_no_other_and_its_token_goes_in_any_case() {
    let sequence = Scene::bare().plan().unwrap();
    let states = play(sequence, 3, |step| step.id == "tern-2/admit");
    assert!(matches!(states["tern-2/admit"], State::Failed(_)));
    assert!(matches!(states["tern-2/forget"], State::Done(_)), "the token is removed");
    assert_eq!(states["ready-tern-2"], State::NotTaken);
    for name in ["tern-1", "tern-3"] {
        assert!(matches!(states[&format!("ready-{name}")], State::Done(_)), "{name}");
    }
    assert!(matches!(states["dns"], State::Done(_)), "the others carry DNS");
    let states = play(Scene::bare().plan().unwrap(), 3, |step| step.id == "tern-2/nodes-prepare");
    assert_eq!(states["tern-2/forget"], State::NotTaken, "nothing was begun, nothing is tidied");
}

#[test]
fn an_interrupt_begins_nothing_new_but_takes_a_token_back() {
    let mut engine = Engine::new(Scene::bare().plan().unwrap(), 1);
    let mut commands: std::collections::VecDeque<_> = engine.begin().into();
    while let Some(command) = commands.pop_front() {
        let step = command.step;
        if engine.steps()[step].id == "tern-1/join" {
            commands.extend(engine.handle(Event::Interrupt));
        }
        commands.extend(
            engine.handle(Event::Finished { step, outcome: StepOutcome::Done { changed: 1 } }),
        );
    }
    assert!(engine.finished());
    let state = |id: &str| {
        let at = engine.steps().iter().position(|step| step.id == id).unwrap();
        engine.states()[at].clone()
    };
    assert!(matches!(state("tern-1/join"), State::Done(_)));
    assert!(matches!(state("tern-1/forget"), State::Done(_)), "the token does not stay");
    for id in ["tern-1/admit", "dns", "ready-tern-1"] {
        assert_eq!(state(id), State::NotTaken, "{id}");
    }
}

#[test]
fn once_the_budget_is_spent_no_other_host_is_begun() {
    let cluster = crate::common::workers(60);
    let scene = Scene::of(cluster);
    let states = play(scene.plan().unwrap(), 2, |step| {
        step.id.starts_with("tern-") && step.id.ends_with("/admit")
    });
    let failed = states.values().filter(|state| matches!(state, State::Failed(_))).count();
    assert!(
        (3..=12).contains(&failed),
        "{failed} failed, of a budget of two and what was under way"
    );
    let begun = states.iter().filter(|(id, s)| id.ends_with("/join") && **s != State::NotTaken);
    assert!(begun.count() < 40);
}
