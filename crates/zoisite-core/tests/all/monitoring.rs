//! What the site's monitoring reads: the door on each host, its certificate, its targets, on data alone.

use crate::common::{Known, Trust, at, changed, host};
use zoisite_core::cluster::{Cluster, read};
use zoisite_core::holdings::{
    Holdings, HostHoldings, MONITORING_UNIT, Part, Watched, holdings, targets,
};
use zoisite_core::paths::{Firewall, Service, demands, rules, served};
use zoisite_core::pki::{Profile, edges, prove, wanted};

fn with(lines: &str) -> Cluster {
    let reading = read(&changed("[components]\n", &format!("{lines}\n[components]\n")));
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

fn all(cluster: &Cluster) -> Holdings {
    let mut trust = Trust::new(cluster, at("2026-11-23"));
    trust.issue(cluster, at("2026-11-23"));
    let proof = prove(&edges(cluster), &trust.ledger, &[], at("2026-11-23"));
    assert!(proof.failed.is_empty(), "{:?}", proof.failed);
    let known = Known::of(cluster);
    holdings(cluster, known.sources(&trust.ledger, "0123456789abcdef"), Part::ALL).unwrap()
}

fn text(held: &HostHoldings, path: &str) -> Option<String> {
    held.files().find(|file| file.path == path).and_then(|file| file.content.whole_text())
}

const DOOR: &str = "/etc/zoisite/monitoring/haproxy.cfg";

#[test]
fn each_host_gives_out_what_it_runs_to_one_certificate_alone() {
    let cluster = with("[monitoring]\nport = 9555");
    let all = all(&cluster);
    for (name, behind, not) in [
        ("heron", &["backend etcd", "127.0.0.1:2381\n"][..], &["scheduler", "load-balancer"][..]),
        (
            "curlew",
            &["127.0.0.1:10259 ssl verify none", "127.0.0.1:10257 ssl verify none"],
            &["etcd", "backend load-balancer"],
        ),
        ("jetty-a", &["backend load-balancer", "127.0.0.1:10262\n"], &["scheduler", "2381"]),
    ] {
        let held = all.host(&host(name)).unwrap();
        let door = text(held, DOOR).unwrap();
        let address = cluster.host(&host(name)).unwrap().address;
        assert!(door.contains(&format!("bind {address}:9555 ssl ")), "{door}");
        assert!(door.contains("verify required"), "{door}");
        assert!(door.contains("unless { ssl_c_s_dn(cn) -m str zoisite:monitoring } { ssl_c_i_dn(cn) -m str \"saltmarsh cluster authority\" }"), "{door}");
        for part in behind {
            assert!(door.contains(part), "{name}: no {part} in {door}");
        }
        for part in not {
            assert!(!door.contains(part), "{name}: {part} in {door}");
        }
        assert!(held.units_of(Part::Monitoring).any(|unit| unit.name == MONITORING_UNIT));
        assert!(held.programs.contains(&"/usr/sbin/haproxy".to_owned()));
    }
    assert!(!all.host(&host("tern-1")).unwrap().has(Part::Monitoring));
    // Where it listens on loopback it may be asked by the door, which shows no certificate.
    let unit = |name: &str, unit: &str| {
        text(all.host(&host(name)).unwrap(), &format!("/etc/systemd/system/{unit}")).unwrap()
    };
    for of in ["zoisite-scheduler.service", "zoisite-controller-manager.service"] {
        assert!(unit("curlew", of).contains("/readyz,/metrics"), "{of}");
    }
    let load_balancer =
        text(all.host(&host("jetty-a")).unwrap(), "/etc/zoisite/load-balancer/haproxy.cfg");
    assert!(load_balancer.unwrap().contains("use-service prometheus-exporter"));
}

#[test]
fn the_door_finds_a_controller_manager_at_a_port_of_the_sites_own() {
    for port in ["10357", "\"10357\""] {
        let file = changed(
            "[control-plane]\n",
            &format!("[control-plane]\ncontroller-manager = {{ secure-port = {port} }}\n"),
        );
        let file = file.replace("[components]\n", "[monitoring]\n\n[components]\n");
        let all = all(&read(&file).cluster.unwrap());
        let door = text(all.host(&host("curlew")).unwrap(), DOOR).unwrap();
        assert!(door.contains("server own 127.0.0.1:10357 ssl"), "{port}: {door}");
    }
}

#[test]
fn without_the_table_nothing_of_it_stands_anywhere() {
    let cluster = with("");
    let all = all(&cluster);
    for held in &all.hosts {
        assert!(!held.has(Part::Monitoring), "{}", held.host);
        let texts = held.files().filter_map(|file| file.content.whole_text());
        for text in texts {
            assert!(!text.contains("prometheus-exporter") && !text.contains("readyz,/metrics"));
        }
    }
    assert!(!wanted(&cluster).iter().any(|one| one.profile == Profile::MonitoringServer));
    let read: Vec<Watched> = targets(&cluster).iter().map(|one| one.what).collect();
    assert!(read.iter().all(|what| matches!(what, Watched::ApiServer | Watched::Kubelet)));
    assert!(!read.is_empty());
}

#[test]
fn targets_name_everything_and_firewalls_let_the_sites_monitoring_in() {
    let cluster = with("[monitoring]\nfrom = [\"10.77.0.200/32\"]");
    let urls: Vec<String> = targets(&cluster)
        .iter()
        .map(|one| format!("{} {} {}", one.what.id(), one.host, one.url()))
        .collect();
    for expected in [
        "etcd heron https://10.77.0.11:10263/etcd",
        "api-server curlew https://10.77.0.21:6443/metrics",
        "controller-manager curlew https://10.77.0.21:10263/controller-manager",
        "scheduler sandpiper https://10.77.0.23:10263/scheduler",
        "load-balancer jetty-b https://10.77.0.32:10263/load-balancer",
        "kubelet tern-3 https://10.77.0.103:10250/metrics",
    ] {
        assert!(urls.contains(&expected.to_owned()), "no {expected} in {urls:#?}");
    }
    let asked: Vec<_> =
        demands(&cluster).into_iter().filter(|one| one.service == Service::Metrics).collect();
    assert_eq!(asked.len(), 3);
    let heron = cluster.host(&host("heron")).unwrap();
    let opened = rules(&cluster, heron, Firewall::Nftables, (&[], &[]));
    let line = opened.lines().find(|line| line.contains("10263")).unwrap();
    assert!(line.contains("10.77.0.200"), "{line}");
    assert!(served(&cluster, heron).iter().any(|one| one.port == 10_263 && !one.loopback));
    // A port that is taken is refused.
    let text = changed("[components]\n", "[monitoring]\nport = 2379\n[components]\n");
    let taken = read(&text).findings;
    let told = |f: &zoisite_core::cluster::Finding| {
        f.code == "port-clash"
            && f.message.contains("metrics on heron want port 2379, where etcd is")
    };
    assert!(taken.iter().any(told), "{taken:?}");
}
