//! Who must reach whom, what trials mean, and the rules that firewalls need.

use std::collections::BTreeSet;

use crate::common::{changed, host, saltmarsh, two_families};
use zoisite_core::cluster::{Cluster, read};
use zoisite_core::paths::{
    Datagrams, Firewall, Link, Listener, Outcome, Service, Trial, blocked, links, listen_script,
    outside, probe_script, read_listeners, read_probes, rules, sample,
};
use zoisite_core::survey::{Facts, Listening, unneeded};

fn of(text: &str) -> Cluster {
    let reading = read(text);
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

#[test]
fn paths_follow_from_the_topology_and_etcd_is_for_api_servers_alone() {
    let all = links(&saltmarsh());
    let count = |service| all.iter().filter(|link| link.service == service).count();
    assert_eq!(count(Service::EtcdPeer), 6);
    assert_eq!(count(Service::EtcdClient), 9);
    assert_eq!(count(Service::StableAddress), 12);
    assert_eq!(count(Service::Kubelet), 15);
    // From two load balancers and five other nodes to each of three servers.
    assert_eq!(count(Service::Api), 21);
    let to_etcd = all.iter().filter(|link| [2379, 2380].contains(&link.port));
    let from: BTreeSet<&str> = to_etcd.map(|link| link.from.as_str()).collect();
    assert_eq!(from, BTreeSet::from(["heron", "egret", "ibis", "curlew", "plover", "sandpiper"]));
    // Without load balancers of its own, everybody comes to the API servers.
    let own = of(&changed("hosts = [\"jetty-{a,b}\"]", "hosts = []"));
    assert!(links(&own).iter().all(|link| link.service != Service::StableAddress));
}

/// Of a mesh each is dialled where it is found; whoever is found nowhere dials the others.
#[test]
fn a_meshs_own_paths_lead_to_endpoints_and_what_is_stopped_there_is_told() {
    let mesh = of(include_str!("../../../../lab/clusters/mesh.toml"));
    let own = |link: &Link| link.service == Service::Mesh;
    let all: Vec<Link> = links(&mesh).into_iter().filter(own).collect();
    let told: Vec<String> = all
        .iter()
        .map(|link| {
            let end = link.endpoint.as_ref().unwrap();
            format!("{} {} {end} {}", link.from, link.to, link.protocol())
        })
        .collect();
    assert_eq!(
        told,
        [
            "egret heron 10.77.9.1:51820 UDP 51820",
            "egret ibis 10.77.3.13:51820 UDP 51820",
            "heron ibis 10.77.3.13:51820 UDP 51820",
            "ibis heron 10.77.9.1:51820 UDP 51820",
        ]
    );
    assert!(links(&saltmarsh()).iter().all(|link| !own(link) && link.endpoint.is_none()));

    let ended = |silent: &[usize]| -> Vec<Trial> {
        let outcome = |at| if silent.contains(&at) { Outcome::NoAnswer } else { Outcome::Open };
        all.iter()
            .enumerate()
            .map(|(at, link)| Trial { link: link.clone(), outcome: outcome(at) })
            .collect()
    };
    let nobody = blocked(&ended(&[0, 3]));
    assert_eq!((nobody.len(), &nobody[0].ports[..]), (1, &[51820][..]), "{nobody:?}");
    assert!(nobody[0].cause.contains("sent to 10.77.9.1:51820 arrives at heron"), "{nobody:?}");
    assert!(nobody[0].fix.contains("forward that UDP port"), "{nobody:?}");
    let one = blocked(&ended(&[0]));
    assert!(one[0].cause.contains("stopped on the way from egret"), "{one:?}");

    let said = "@\theard\tegret\n@\theard\tno host\n@\tunsent\t10.77.9.1\tNetwork is unreachable\n";
    let said = Datagrams::read(said);
    assert_eq!(said.from, BTreeSet::from([host("egret")]));
    assert!(said.why_unsent(all[0].endpoint.as_ref().unwrap()).unwrap().contains("unreachable"));
    assert!(said.why_unsent(all[1].endpoint.as_ref().unwrap()).is_none());
}

#[test]
fn a_firewall_lets_in_what_is_needed_and_nobody_else() {
    let cluster = saltmarsh();
    let rules_of = |name: &str, firewall| {
        let admins = ["10.77.0.254/32".parse().unwrap()];
        rules(&cluster, cluster.host(&host(name)).unwrap(), firewall, (&admins, &[]))
    };
    let text = rules_of("heron", Firewall::Nftables);
    assert!(text.contains("policy drop;"), "{text}");
    assert!(text.contains("ip saddr { 10.77.0.254 } tcp dport 22 accept"), "{text}");
    assert!(text.contains("ip saddr { 10.77.0.12, 10.77.0.13 } tcp dport 2380 accept"), "{text}");
    assert!(
        text.contains("ip saddr { 10.77.0.21, 10.77.0.22, 10.77.0.23 } tcp dport 2379 accept"),
        "{text}"
    );
    assert!(!text.contains("chain forward") && !text.contains("10250"), "{text}");
    let text = rules_of("tern-1", Firewall::Nftables);
    assert!(text.contains("ip daddr 10.90.0.0/16 accept"), "{text}");
    assert!(!text.contains("dport 6443"), "{text}");
    // Whoever uses the cluster is anybody, until it is said who.
    assert!(rules_of("jetty-a", Firewall::Nftables).contains("\n    tcp dport 6443 accept"));
    let text = rules_of("heron", Firewall::Firewalld);
    assert!(text.contains("--add-rich-rule='rule family=\"ipv4\" source address=\"10.77.0.12\" port port=\"2380\" protocol=\"tcp\" accept'"), "{text}");
    assert!(
        text.contains("--remove-service=ssh") && text.ends_with("firewall-cmd --reload\n"),
        "{text}"
    );
    let text = rules_of("heron", Firewall::Ufw);
    assert!(
        text.contains("ufw allow proto tcp from 10.77.0.13 to any port 2380 comment 'etcd peers'"),
        "{text}"
    );
    assert!(!text.contains("ufw allow 2379"), "{text}");
    assert_eq!(Firewall::of(&["nftables".into(), "ufw".into()]), Firewall::Ufw);
    assert_eq!(Firewall::of(&[]), Firewall::Nftables);
    // Hosts of a site give one another files; a node alone has pods too.
    let sites = changed(
        "egret = \"10.77.0.12\"\nibis = \"10.77.0.13\"",
        "egret = { address = \"10.77.0.12\", site = \"north\" }\nibis = { address = \"10.77.0.13\", site = \"north\" }",
    );
    let sites = of(&sites);
    let text = rules(&sites, sites.host(&host("ibis")).unwrap(), Firewall::Nftables, (&[], &[]));
    assert!(text.contains("ip saddr { 10.77.0.12 } tcp dport 2382 accept"), "{text}");
    assert!(!rules_of("ibis", Firewall::Nftables).contains("2382"));
    let alone = of(include_str!("../../../../lab/clusters/single.toml"));
    let text = rules(&alone, alone.host(&host("heron")).unwrap(), Firewall::Ufw, (&[], &[]));
    assert!(text.contains("ufw route allow from 10.90.0.0/16 comment 'pods'"), "{text}");
    // Both families, each in its own words.
    let both = of(&two_families());
    let text = rules(&both, both.host(&host("heron")).unwrap(), Firewall::Nftables, (&[], &[]));
    assert!(text.contains("ip6 saddr { fd77::12, fd77::13 } tcp dport 2380 accept"), "{text}");
}

#[test]
fn devices_in_front_are_told_what_comes_from_outside_and_between_sites() {
    let rows = outside(&saltmarsh());
    let told: Vec<(&str, &str)> =
        rows.iter().map(|row| (row.from.as_str(), row.protocol.as_str())).collect();
    assert_eq!(
        told,
        [
            ("administrators", "TCP 22"),
            ("clients of the cluster", "TCP 6443"),
            ("every host", "UDP and TCP 53"),
            ("every host", "UDP 123")
        ]
    );
    let two =
        changed("ibis = \"10.77.0.13\"", "ibis = { address = \"10.77.0.13\", site = \"north\" }");
    let rows = outside(&of(&two));
    assert!(
        rows.iter().any(|row| row.protocol == "TCP 2380" && row.until == "always"),
        "{rows:#?}"
    );
}

#[test]
fn of_hundreds_of_hosts_a_few_stand_for_the_others() {
    let text =
        changed("tern-{1..3}\" = \"10.77.0.{101..103}", "tern-{1..140}\" = \"10.77.0.{101..240}");
    let cluster = of(&text);
    let (tried, sampling) = sample(&cluster, links(&cluster));
    assert!(tried.len() * 4 < sampling.all, "{sampling:?}");
    assert_eq!(sampling.tried, tried.len());
    let stand_in: Vec<&str> = sampling.stand_in.iter().map(|host| host.as_str()).collect();
    assert!(stand_in.contains(&"tern-1") && stand_in.contains(&"tern-140"), "{stand_in:?}");
    // What carries the cluster is tried whole.
    let peers = tried.iter().filter(|link| link.service == Service::EtcdPeer).count();
    assert_eq!(peers, 6);
    // Few hosts are all tried.
    let few = saltmarsh();
    let all = links(&few);
    assert_eq!(sample(&few, all.clone()).0, all);
}

#[test]
fn what_hosts_say_of_a_trial_is_read_and_what_they_do_not_say_is_not_made_up() {
    let text = "@\tlistens\t0\n@\ttaken\t1\tnginx\tnginx.service\n@\ttaken\t2\tetcd\tzoisite-etcd.service\n\
                @\tfailed\t3\tno\n@\tlistens\t9\n@\tlistens\tmany\n@\tend\n";
    let heard = read_listeners(5, text);
    assert_eq!(heard[0], Listener::Serves);
    assert_eq!(heard[1], Listener::Taken("nginx (nginx.service)".into()));
    assert_eq!(heard[2], Listener::Real);
    assert!(matches!(&heard[3..], [Listener::Failed(a), Listener::Failed(_)] if a == "no"));
    // A port that nothing would end is none.
    assert!(
        read_listeners(1, "@\tlistens\t0\n@\tuntimed\n").iter().all(|h| *h != Listener::Serves)
    );

    let said = [
        ("connected well", Outcome::Open),
        ("connected", Outcome::Open),
        (
            "bash: connect: Connection refused bash: line 2: /dev/tcp/10.77.0.12/2380: Connection refused",
            Outcome::Refused,
        ),
        ("silent", Outcome::NoAnswer),
        ("bash: connect: Connection timed out", Outcome::NoAnswer),
        ("bash: connect: No route to host", Outcome::Unreachable("No route to host".into())),
        ("connected other SSH-2.0-OpenSSH", Outcome::Other("SSH-2.0-OpenSSH".into())),
        ("connected mute", Outcome::Mute),
        ("connected stuck there", Outcome::LargeLost(true)),
        ("connected stuck back", Outcome::LargeLost(false)),
    ];
    let text: String =
        said.iter().enumerate().map(|(i, (said, _))| format!("@\ttried\t{i}\t{said}\n")).collect();
    let read = read_probes(said.len() + 1, &text);
    for (i, (said, outcome)) in said.iter().enumerate() {
        assert_eq!(read[i], *outcome, "{said}");
    }
    assert!(matches!(read.last(), Some(Outcome::Untried(_))));
    assert!(
        matches!(&read_probes(1, "@\twithout\tbash\n")[0], Outcome::Untried(why) if why.contains("bash"))
    );
}

#[test]
fn where_a_path_is_stopped_is_told_by_who_gets_through() {
    let cluster = saltmarsh();
    let all = links(&cluster);
    let trials = |not: &dyn Fn(&Link) -> Option<Outcome>| -> Vec<Trial> {
        let ended = |link: &Link| not(link).unwrap_or(Outcome::Open);
        all.iter().map(|link| Trial { link: link.clone(), outcome: ended(link) }).collect()
    };
    let one = |not: &dyn Fn(&Link) -> Option<Outcome>| {
        let found = blocked(&trials(not));
        assert_eq!(found.len(), 1, "{found:#?}");
        found.into_iter().next().unwrap()
    };
    assert_eq!(blocked(&trials(&|_| None)), []);
    // One way, from one host.
    let found = one(&|link| {
        let it = (link.from.as_str(), link.to.as_str(), link.port) == ("heron", "egret", 2380);
        it.then_some(Outcome::NoAnswer)
    });
    assert_eq!((found.to.as_str(), &found.ports[..]), ("egret", &[2380][..]));
    assert_eq!((found.from, found.open_from), (vec![host("heron")], vec![host("ibis")]));
    assert!(found.cause.contains("stopped on the way from heron"), "{}", found.cause);
    // That port for nobody, others are open.
    let found =
        one(&|link| (link.to.as_str() == "egret" && link.port == 2380).then_some(Outcome::Refused));
    assert!(found.cause.contains("a firewall refuses this one"), "{}", found.cause);
    assert!(found.fix.starts_with("zoisite paths rules egret"), "{}", found.fix);
    // Nothing of it at all.
    let found =
        blocked(&trials(&|link| (link.to.as_str() == "egret").then_some(Outcome::NoAnswer)));
    assert!(found.iter().all(|b| b.cause.contains("no port of egret is reached")), "{found:#?}");
    assert_eq!(found.iter().map(|b| b.ports.len()).sum::<usize>(), 2, "{found:#?}");
    let found = one(&|link| {
        let it = link.to.as_str() == "jetty-a" && link.service != Service::Vrrp;
        it.then(|| Outcome::Busy("nginx".into()))
    });
    assert!(found.cause.starts_with("nginx has the port on jetty-a"), "{}", found.cause);
    let found = one(&|link| {
        let it = (link.from.as_str(), link.to.as_str()) == ("heron", "ibis");
        it.then_some(Outcome::LargeLost(true))
    });
    assert!(found.cause.contains("from heron to ibis"), "{}", found.cause);
    // A protocol without ports, which some networks drop: told apart from a host that is gone.
    let vrrp = |link: &Link| (link.service == Service::Vrrp).then_some(Outcome::NoAnswer);
    let found = blocked(&trials(&vrrp));
    assert_eq!(found.len(), 2, "each of the two does not hear the other: {found:#?}");
    assert!(found[0].cause.contains("jetty-a is reached at its ports"), "{}", found[0].cause);
    assert!(found[0].fix.contains("both hold the virtual IP"), "{}", found[0].fix);
    let gone = |link: &Link| (link.to.as_str() == "jetty-a").then_some(Outcome::NoAnswer);
    let found = blocked(&trials(&gone));
    assert!(found.iter().any(|one| one.cause.contains("it may be the host")), "{found:#?}");
}

#[test]
fn what_listens_and_is_not_needed_is_named() {
    let cluster = saltmarsh();
    let heron = cluster.host(&host("heron")).unwrap();
    let socket = |port: u16, address: Option<&str>| Listening {
        protocol: "tcp".into(),
        address: address.map(|address| address.parse().unwrap()),
        port,
        program: "x".into(),
        unit: String::new(),
    };
    let listening = vec![
        socket(22, None),
        socket(2379, None),
        socket(8080, None),
        socket(8080, Some("10.77.0.11")),
        socket(6010, Some("127.0.0.1")),
        socket(40_000, None),
    ];
    let facts = Facts { listening, ..Facts::default() };
    let ports: Vec<u16> = unneeded(&cluster, heron, &facts).iter().map(|s| s.port).collect();
    assert_eq!(ports, [8080]);
}

#[test]
fn scripts_of_a_trial_hold_what_they_are_given_and_end_by_themselves() {
    let at = "10.77.0.11".parse().unwrap();
    let script = listen_script(&host("heron"), &[(at, 2380)], "word");
    assert!(script.contains("serve 0 10.77.0.11 2380 word\nstart_paths 90"), "{script}");
    assert!(script.contains("systemd-run") && script.contains("--on-active"), "{script}");
    let script = probe_script(&host("heron"), &[(at, 2380, Some("word")), (at, 2379, None)]);
    assert!(script.contains("0 10.77.0.11 2380 word\n1 10.77.0.11 2379 -\n"), "{script}");
}

#[test]
fn what_load_balancers_forward_comes_from_anywhere_and_goes_to_every_worker() {
    let cluster =
        of(&changed("[load-balancers]\n", "[load-balancers]\nforward = { 80 = 30080 }\n"));
    let all = links(&cluster);
    let to_workers: Vec<_> = all.iter().filter(|link| link.port == 30_080).collect();
    assert_eq!(to_workers.len(), 6, "from two load balancers to three workers");
    assert!(to_workers.iter().all(|link| link.from.as_str().starts_with("jetty-")));
    let words =
        |name: &str| rules(&cluster, cluster.host(&host(name)).unwrap(), Firewall::Ufw, (&[], &[]));
    assert!(
        words("jetty-a").contains("ufw allow 80/tcp comment 'forwarded'"),
        "{}",
        words("jetty-a")
    );
    assert!(words("tern-1").contains("from 10.77.0.31 to any port 30080"), "{}", words("tern-1"));
    assert!(!words("heron").contains("30080"));
}
