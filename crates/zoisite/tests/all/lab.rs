//! Real systemd hosts, real sshd, real etcd.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use crate::common::lab::{Lab, MEMBERS, lab, lab_root, project};
use crate::common::waits::{patience, until};
use crate::common::{Done, Place};
use zoisite_core::cluster::Vrrp;
use zoisite_core::drill::{By, Drill, Kind, fix_script, lose_script, watch_script};
use zoisite_core::first_boot::Way;
use zoisite_core::holdings::{HostHoldings, NodePaths};
use zoisite_core::item::{
    Absent, Block, Directory, Image, Item, KeyText, Link, Module, NoSwap, OwnName, Package, Pods,
    Rules, Sysctl, Unit, User, Workspace,
};
use zoisite_core::join_file::{self, Addressed, Errand, Signer, make_word};
use zoisite_core::layout::RUNTIME_UNIT;
use zoisite_core::paths::{Firewall, advertise_script, hear_script, heard_routers_script};
use zoisite_core::pki::{KeyKind, KeySource as _};
use zoisite_core::script::Depth;
use zoisite_core::sequence::Sequence;

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn three_real_hosts_form_a_quorum_and_a_second_raise_changes_nothing() {
    let lab = Lab::fresh();
    let _ = lab
        .zoisite(&["sequence"])
        .ended(0)
        .says("16 steps")
        .complains("33 certificates would be issued");
    assert!(!lab.place.path(".zoisite").exists(), "looking ahead leaves no trace");
    let done = lab.zoisite(&["raise", "--json"]).ended(0).json();
    assert_eq!(done["proven"]["wrote"], "heron");
    assert_eq!(done["proven"]["read"], serde_json::json!(["egret", "ibis"]));
    let _ = lab.zoisite(&["raise"]).ended(0).says("nothing differs on 3 hosts");
    let _ = lab.zoisite(&["sequence"]).ended(0).says("nothing differs: there is nothing to do");
    let _ = lab.zoisite(&["status"]).ended(0).says("healthy (3 of 3 members, led by");
    let _ = lab.zoisite(&["history"]).ended(0).says("changed in 16 steps").says("nothing differed");

    for host in MEMBERS {
        let _ =
            lab.on(host, "stat -c '%U %a' /var/lib/etcd/data").ended(0).says("zoisite-etcd 700");
        let keys = lab.on(host, "stat -c '%a %n' /etc/zoisite/etcd/*-*/tls.key").ended(0);
        assert_eq!(keys.stdout.matches("600 /etc").count(), 3, "{keys:?}");
        let _ = lab.on(host, "systemctl is-enabled zoisite-etcd").ended(0).says("enabled");
        // The proof was removed again, and no temporary file is left.
        let _ =
            lab.etcdctl(host, "get --prefix /zoisite --count-only -w fields").says("\"Count\" : 0");
        let left = lab.on(host, "find / -xdev -name \"*zoisite-new*\" 2>/dev/null; true").ended(0);
        assert_eq!(left.stdout, "", "temporary files are left on {host}");
        // Authorities' keys never leave the strongbox (rule S5).
        let search =
            "grep -rlsE 'BEGIN [A-Z ]*PRIVATE[ ]KEY' /etc /var /root /home /tmp /run/zoisite; true";
        let found = lab.on(host, search).ended(0).stdout;
        for path in found.lines().filter(|p| !p.starts_with("/etc/ssh/")) {
            assert!(path.starts_with("/etc/zoisite/etcd/"), "a key stands in {path} of {host}");
        }
    }
    // Without a client certificate etcd answers nobody.
    let refused = lab.on(
        "heron",
        "curl -sS --cacert /etc/zoisite/etcd/client-authority.crt https://10.77.0.12:2379/health",
    );
    assert_ne!(refused.status, 0, "{refused:?}");
    assert!(refused.stderr.contains("certificate"), "{refused:?}");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn one_member_off_reading_and_writing_go_on_and_it_heals_without_a_hand() {
    let lab_ = Lab::raised();
    lab("off", &["egret"]);
    lab_.write("heron", "tide", "low");
    let _ = lab_.etcdctl("ibis", "get tide --print-value-only").ended(0).says("low");
    let status = lab_.zoisite(&["status", "--json"]).ended(3).json();
    assert_eq!((&status["healthy"], &status["serves"]), (&2.into(), &true.into()), "{status:#}");
    assert_eq!(status["members"][1]["state"], "unreachable");
    let _ = lab_.zoisite(&["raise"]).ended(1).complains("egret: logging in over ssh failed");
    lab("on", &["egret"]);
    lab_.until_well();
    let _ = lab_.etcdctl("egret", "get tide --print-value-only").ended(0).says("low");
    // Cut off instead of off.
    lab("cut", &["ibis"]);
    lab_.write("heron", "tide", "high");
    lab("fix", &[]);
    lab_.until_well();
    let _ = lab_.etcdctl("ibis", "get tide --print-value-only").ended(0).says("high");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn killed_at_many_points_the_next_raise_converges() {
    let lab = Lab::fresh();
    // As each of these has begun: before anything is put there, on the way, while members start, at the last proof.
    let events = [
        "\"command\":\"raise\"",
        "\"step\":\"stage\"",
        "heron/etcd-components",
        "egret/etcd-components",
        "ibis/etcd-configure",
        "heron/etcd-start",
        "quorum",
    ];
    lab.killed_at(&["raise"], &events);
    lab.must_converge();
    let _ = lab.zoisite(&["history"]).ended(0).says("was cut off");

    // And while members restart one after another.
    for host in ["egret", "ibis"] {
        let _ =
            lab.on(host, "sed -i s/4294967296/2147483648/ /etc/zoisite/etcd/etcd.yaml").ended(0);
    }
    let events = ["\"step\":\"quorum\"", "egret/etcd-restart", "ibis/etcd-restart"];
    lab.killed_at(&["raise"], &events);
    lab.must_converge();
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn an_interrupt_stops_after_what_runs_and_the_next_raise_goes_on() {
    let lab = Lab::fresh();
    let mut raise = lab.begin(&["raise"]);
    raise.until("\"step\":\"heron/");
    raise.interrupt();
    let (status, said) = raise.end();
    assert_eq!(status, 1, "{said}");
    assert!(said.contains("stopped as you asked"), "{said}");
    lab.must_converge();
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn what_is_changed_by_hand_is_shown_and_put_right_one_member_at_a_time() {
    let lab = Lab::raised();
    let started =
        |host: &str| lab.on(host, "systemctl show zoisite-etcd -p MainPID --value").stdout;
    let before: Vec<String> = MEMBERS.iter().map(|host| started(host)).collect();
    for host in ["egret", "ibis"] {
        let _ =
            lab.on(host, "sed -i s/4294967296/2147483648/ /etc/zoisite/etcd/etcd.yaml").ended(0);
    }
    let _ = lab
        .on(
            "heron",
            "chmod 644 /etc/zoisite/etcd/peer/tls.key; echo x >/etc/zoisite/etcd/probe/tls.crt",
        )
        .ended(0);
    let _ = lab.zoisite(&["status"]).ended(3).says("etcd.yaml has other content");
    let steps = lab.zoisite(&["sequence", "--json"]).ended(0).json();
    let ids: Vec<&str> =
        steps["steps"].as_array().unwrap().iter().map(|s| s["id"].as_str().unwrap()).collect();
    assert!(ids.iter().any(|id| id.starts_with("heron/")), "{ids:?}");
    assert!(ids.contains(&"egret/etcd-restart") && ids.contains(&"ibis/etcd-restart"), "{ids:?}");
    lab.must_converge();
    assert_ne!(started("egret"), before[1], "egret was restarted");
    let _ = lab.on("heron", "stat -c %a /etc/zoisite/etcd/peer/tls.key").ended(0).says("600");
    let config = lab.on("egret", "cat /etc/zoisite/etcd/etcd.yaml").stdout;
    assert!(config.contains("quota-backend-bytes: 4294967296"), "{config}");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn every_host_at_fault_is_reported_at_once_and_after_fixing_it_goes_on() {
    let lab = Lab::fresh();
    let _ = lab.on("heron", "mv /home/warden/.ssh/authorized_keys /root/").ended(0);
    let _ = lab
        .on("ibis", "mkdir -p /var/lib/etcd && mount -t tmpfs -o size=1m tmpfs /var/lib/etcd")
        .ended(0);
    let _ = lab.on("egret", "mv /etc/sudoers.d/warden /root/").ended(0);
    let done = lab
        .zoisite(&["raise"])
        .ended(1)
        .complains("heron: logging in over ssh failed")
        .complains("the host refused your SSH key")
        .complains("egret: looking at the host failed")
        .complains("sudo")
        .complains("ibis: surveying the host before anything is put on it failed")
        .complains("the file system of etcd is nearly full");
    assert_eq!(done.stderr.matches("  fix ").count(), 3, "{done:?}");

    let root = |host: &str, path: &str| lab_root(&lab, host).join(path);
    std::fs::rename(root("egret", "root/warden"), root("egret", "etc/sudoers.d/warden")).unwrap();
    std::fs::rename(
        root("heron", "root/authorized_keys"),
        root("heron", "home/warden/.ssh/authorized_keys"),
    )
    .unwrap();
    let _ = lab.on("ibis", "umount /var/lib/etcd").ended(0);

    // The three hosts answer; now one holds another etcd's data (rule S3), which is left as it is.
    let _ = lab
        .on(
            "egret",
            "mkdir -p /var/lib/etcd/default/member && echo tide >/var/lib/etcd/default/member/snap",
        )
        .ended(0);
    let _ = lab
        .zoisite(&["raise"])
        .ended(4)
        .complains("egret: /var/lib/etcd holds data of another etcd")
        .complains("S3 no foreign data");
    let _ = lab.on("egret", "cat /var/lib/etcd/default/member/snap").ended(0).says("tide");
    let _ = lab.on("heron", "test ! -e /etc/zoisite").ended(0);
    let _ = lab.on("egret", "mv /var/lib/etcd /var/lib/etcd.aside").ended(0);
    lab.must_converge();

    // Another machine behind an address (rule S4), until a person accepts it.
    let _ =
        lab.on("heron", "cp /etc/machine-id /root/ && systemd-id128 new >/etc/machine-id").ended(0);
    let _ = lab
        .zoisite(&["raise"])
        .ended(4)
        .complains("heron: another machine answers")
        .complains("S4 same machine")
        .complains("zoisite raise --accept heron");
    let _ = lab.zoisite(&["raise", "--accept", "heron"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);

    // A member whose data is gone is not started as if new (rule S1).
    let _ =
        lab.on("ibis", "systemctl stop zoisite-etcd && rm -rf /var/lib/etcd/data/member").ended(0);
    let _ = lab.zoisite(&["raise"]).ended(4).complains("S1 quorum first").complains("ibis");
    let _ = lab.etcdctl("heron", "put tide low").ended(0);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn members_that_cannot_reach_their_peers_say_so_and_join_when_they_can() {
    let lab_ = Lab::fresh();
    lab("cut", &["heron", "2380"]);
    let _ = lab_
        .zoisite(&["raise", "--timeout", &patience(25)])
        .ended(1)
        .complains("heron: waiting for zoisite-etcd.service failed")
        .complains("the member does not reach its peers");
    lab("fix", &[]);
    lab_.must_converge();
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_wrong_setting_a_taken_port_and_a_wrong_checksum_are_diagnosed() {
    let lab = Lab::fresh();
    // A file of somebody else's stands where ours goes: it is replaced, and kept (rule S9).
    let _ = lab
        .on("ibis", "mkdir -p /etc/zoisite/etcd && echo theirs >/etc/zoisite/etcd/etcd.yaml")
        .ended(0);
    let socat = "socat TCP-LISTEN:2380,bind=10.77.0.13,fork EXEC:/bin/true";
    let _ = lab.on("ibis", &format!("systemd-run -q --unit squatter {socat}")).ended(0);
    // A port that is taken is seen before anything is put there.
    let _ = lab
        .zoisite(&["raise"])
        .ended(1)
        .complains("port 2380, which etcd needs, is held by socat (squatter.service)");
    let _ = lab.on("ibis", "cat /etc/zoisite/etcd/etcd.yaml").ended(0).says("theirs");
    let _ = lab.on("ibis", "systemctl stop squatter").ended(0);
    // One that is taken on the way shows when the member does not start.
    let lurk = "until grep -q listen-peer /etc/zoisite/etcd/etcd.yaml; do sleep 0.02; done; exec";
    let _ =
        lab.on("ibis", &format!("systemd-run -q --unit lurker sh -c \"{lurk} {socat}\"")).ended(0);
    let _ = lab
        .zoisite(&["raise", "--timeout", &patience(25)])
        .ended(1)
        .complains("ibis: waiting for zoisite-etcd.service failed")
        .complains("another process holds the port");
    let _ = lab.on("ibis", "cat /var/lib/zoisite/kept/*").ended(0).says("theirs");
    let _ = lab
        .on("ibis", "cat /var/lib/zoisite/notes")
        .ended(0)
        .says("file\t/etc/zoisite/etcd/etcd.yaml\tfile\t");
    let _ = lab.on("ibis", "systemctl stop lurker").ended(0);
    lab.must_converge();

    // A setting that etcd cannot read: the first member that takes it fails, the others serve on.
    let text = lab.place.read("zoisite.toml");
    lab.place.write(
        "zoisite.toml",
        text.replace("heartbeat-interval = 500", "heartbeat-interval = \"fast\""),
    );
    let _ = lab
        .zoisite(&["raise", "--timeout", &patience(40)])
        .ended(1)
        .complains("heron: waiting for zoisite-etcd.service failed")
        .complains("a setting is wrong");
    let _ = lab.etcdctl("egret", "put tide low").ended(0).says("OK");
    lab.place.write("zoisite.toml", text);
    lab.must_converge();

    let real = std::fs::read_link(lab.place.path("components")).unwrap();
    std::fs::remove_file(lab.place.path("components")).unwrap();
    let sums = std::fs::read_to_string(real.join("SHA256SUMS")).unwrap();
    let zero = "0".repeat(64);
    let wrong: String = sums.lines().map(|line| format!("{zero}{}\n", &line[64..])).collect();
    std::os::unix::fs::symlink(real.join("etcd"), {
        std::fs::create_dir(lab.place.path("components")).unwrap();
        lab.place.path("components/etcd")
    })
    .unwrap();
    lab.place.write("components/SHA256SUMS", wrong);
    let _ = lab
        .zoisite(&["raise"])
        .ended(1)
        .complains("is pinned: it is another file, or damaged")
        .complains("no host was touched")
        .complains("another file, or damaged");
    let _ = lab.etcdctl("heron", "endpoint health").ended(0);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn two_runs_never_act_at_once_and_an_older_one_never_after_a_newer() {
    let lab = Lab::fresh();
    let mut first = lab.begin(&["raise"]);
    // It is at work, and holds the lock as long as that.
    first.until("heron/etcd-components");
    let _ = lab.zoisite(&["raise"]).ended(4).complains("S11 one hand");
    let (status, said) = first.end();
    assert_eq!(status, 0, "{said}");
    let _ = lab.on("egret", "chmod 644 /etc/zoisite/etcd/peer/tls.key; echo 9999999999999999 >/var/lib/zoisite/generation").ended(0);
    let _ = lab.zoisite(&["raise"]).ended(1).complains("a newer run (9999999999999999) has acted");
    let _ = lab.on("egret", "stat -c %a /etc/zoisite/etcd/peer/tls.key").ended(0).says("644");
}

/// The certificates that hosts get, as files, of every hierarchy and algorithm: chain and purposes by openssl and GnuTLS,
/// and a public linter.
#[test]
#[ignore = "needs the lab: openssl, certtool and a linter built from Go modules"]
fn openssl_gnutls_and_a_public_linter_accept_every_certificate() {
    let lint = lab("components/lint", &[]);
    for hierarchy in ["separate", "one-root"] {
        for key in ["ecdsa-p256", "ecdsa-p384", "rsa-3072"] {
            let place = Place::new();
            let table = format!("[certificates]\nkey = \"{key}\"\nhierarchy = \"{hierarchy}\"");
            let more = "organization = \"Saltmarsh Bird Observatory\"\n[components]";
            let text =
                crate::common::SALTMARSH.replace("[components]", &format!("{table}\n{more}"));
            place.write("zoisite.toml", text);
            accepted(&place, &lint, &format!("{hierarchy}, {key}"));
        }
    }
}

fn accepted(place: &Place, lint: &str, what: &str) {
    let _ = place.run(&["pki", "issue"]).ended(0);
    let store = zoisite_store::SqliteRecords::open(&place.path(".zoisite")).unwrap();
    let ledger = zoisite_store::State::new(Box::new(store)).ledger().unwrap();
    let linted = |file: &str| {
        let done = Done::of(
            Command::new(lint)
                .args(["-includeSources", "RFC5280,RFC5480,RFC5891,RFC8813,Community"])
                .arg(place.path(file)),
        )
        .ended(0);
        for (name, result) in done.json().as_object().unwrap() {
            let result = result["result"].as_str().unwrap();
            assert!(!matches!(result, "error" | "fatal"), "{what}: {name}: {result} for {file}");
        }
    };
    for authority in &ledger.authorities {
        // Who believes a root believes what stands below it.
        let root = authority.issuers.last().unwrap_or(&authority.pem);
        place.write(&format!("{}.ca", authority.kind), root);
        for (number, pem) in authority.issuers.iter().chain([&authority.pem]).enumerate() {
            let file = format!("{}-{number}.crt", authority.kind);
            place.write(&file, pem);
            linted(&file);
        }
    }
    assert_eq!(ledger.entries.len(), 39);
    let mut seen = std::collections::HashSet::new();
    for entry in &ledger.entries {
        let (chain, leaf) = (format!("{}.pem", entry.serial), format!("{}.crt", entry.serial));
        place.write(&chain, &entry.pem);
        let end = entry.pem.find("-----END CERTIFICATE-----\n").unwrap();
        place.write(&leaf, &entry.pem[..end + 26]);
        if seen.insert(entry.profile) {
            linted(&leaf);
        }
        let believed = place.path(&format!("{}.ca", entry.authority));
        let usage = entry.profile.usage();
        for (purpose, oid, wanted) in [
            ("sslserver", "1.3.6.1.5.5.7.3.1", usage.server()),
            ("sslclient", "1.3.6.1.5.5.7.3.2", usage.client()),
        ] {
            let mut openssl = Command::new("openssl");
            openssl.args(["verify", "-x509_strict", "-purpose", purpose, "-CAfile"]);
            openssl.arg(&believed).arg("-untrusted").arg(place.path(&chain));
            let mut gnutls = Command::new("certtool");
            gnutls.args(["--verify", "--verify-profile", "medium", "--verify-purpose", oid]);
            gnutls.arg("--load-ca-certificate").arg(&believed).arg("--infile");
            for command in [openssl.arg(place.path(&leaf)), gnutls.arg(place.path(&chain))] {
                let done = Done::of(command);
                let accepts = done.status == 0;
                assert_eq!(accepts, wanted, "{what}: {} as {purpose}: {done:?}", entry.label());
            }
        }
    }
}

/// `files --with-keys` for members on loopback: etcd processes started by hand form a quorum.
#[test]
#[ignore = "needs the lab: root and etcd"]
fn what_files_writes_forms_a_quorum_when_started_by_hand() {
    let place = Place::new();
    let text = std::fs::read_to_string(project().join("lab/clusters/compact.toml")).unwrap();
    place.write("zoisite.toml", text.replace("10.77.0.", "127.0.0."));
    let _ = place.run(&["files", "--out", "out", "--with-keys"]).ended(0);
    let components = PathBuf::from(lab("components/build", &[])).join("etcd/3.6.16/linux-amd64");
    // Each process sees its own host's folders in their places, as on a host of its own.
    let script =
        "set -e; mkdir -p /etc/zoisite /var/lib/etcd \"$1.data/data\"; chmod 700 \"$1.data/data\"
        mount --bind \"$1/etc/zoisite\" /etc/zoisite; mount --bind \"$1.data\" /var/lib/etcd
        exec \"$2/etcd\" --config-file /etc/zoisite/etcd/etcd.yaml";
    let members: Vec<Ended> = MEMBERS
        .iter()
        .map(|member| {
            let log = std::fs::File::create(place.path(&format!("{member}.log"))).unwrap();
            let child = Command::new("unshare")
                .args(["--mount", "sh", "-c", script, "sh"])
                .arg(place.path("out").join(member))
                .arg(&components)
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(log)
                .spawn();
            Ended(child.unwrap())
        })
        .collect();
    let pki = place.path("out/heron/etc/zoisite/etcd");
    let etcdctl = |endpoint: &str, with_certificate: bool, words: &[&str]| {
        let mut command = Command::new(components.join("etcdctl"));
        command.arg("--endpoints").arg(format!("https://{endpoint}:2379"));
        command
            .arg("--cacert")
            .arg(pki.join("client-authority.crt"))
            .args(["--command-timeout", "5s"]);
        if with_certificate {
            command
                .arg("--cert")
                .arg(pki.join("probe/tls.crt"))
                .arg("--key")
                .arg(pki.join("probe/tls.key"));
        }
        Done::of(command.args(words))
    };
    until(format!("a quorum, as {} says", place.path("heron.log").display()), 120, || {
        etcdctl("127.0.0.11", true, &["endpoint", "health"]).status == 0
    });
    let _ = etcdctl("127.0.0.12", true, &["put", "tide", "low"]).ended(0);
    let _ = etcdctl("127.0.0.13", true, &["get", "tide"]).ended(0).says("low");
    for address in ["127.0.0.11", "127.0.0.12", "127.0.0.13"] {
        let done = etcdctl(address, false, &["get", "tide"]);
        assert_ne!(done.status, 0, "{done:?}");
        assert!(!done.stdout.contains("low"), "{done:?}");
    }
    drop(members);
}

/// A process that ends with the test.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
#[ignore = "needs the lab: root, shellcheck and systemd hosts"]
fn scripts_for_hosts_are_clean_posix_shell() {
    let lab = Lab::of("compact", None, 3);
    // Some keys come from here, and some are made there.
    let text = lab.place.read("zoisite.toml");
    let made = "\n[certificates]\nprofiles.\"etcd-*\" = { keys-made = \"on-hosts\" }\n";
    lab.place.write("zoisite.toml", text + made);
    let shown = lab
        .zoisite(&["sequence", "--show-script", "heron"])
        .ended(0)
        .says("own_key /etc/zoisite/etcd/peer")
        .says("own_pair /etc/zoisite/etcd/peer");
    assert!(!shown.stdout.contains("PRIVATE KEY"), "keys are masked");
    let scripts: Vec<&str> =
        shown.stdout.split_inclusive("</dev/null\n").filter(|s| s.len() > 99).collect();
    // Of every part: uploads, configuring, preparing, starting, joining, forgetting.
    assert!(scripts.len() > 15, "{}: {shown:?}", scripts.len());
    // And those that only look, or serve ports for a trial.
    let cluster = zoisite_core::cluster::read(&lab.place.read("zoisite.toml")).cluster.unwrap();
    let heron = &cluster.hosts[0];
    let floats = std::fs::read_to_string(project().join("lab/clusters/virtual-ip.toml")).unwrap();
    let floats = zoisite_core::cluster::read(&floats).cluster.unwrap();
    let mut holdings = HostHoldings::new(&heron.name);
    holdings.items.extend([
        Item::User(User { name: "zoisite-etcd", home: "/".into() }),
        Item::Directory(Directory { path: "/etc/zoisite".into(), owner: "root", mode: 0o755 }),
        Item::Absent(Absent { path: "/etc/cni/net.d/10-zoisite.conflist".into() }),
        Item::Module(Module { name: "br_netfilter" }),
        Item::Sysctl(Sysctl { key: "net.ipv4.ip_forward", value: "1", optional: false }),
        Item::Unit(Unit { name: RUNTIME_UNIT, port: None }),
        Item::Image(Image { name: "zoisite.local/probe:1".into(), archive: "/probe".into() }),
        Item::Package(Package { name: "containerd" }),
        Item::NoSwap(NoSwap),
        Item::Block(Block { path: "/etc/hosts", text: "10.77.0.11 heron\n".into() }),
        Item::OwnName(OwnName { name: heron.name.clone() }),
        Item::Link(Link { path: "/etc/localtime".into(), to: "/dev/null".into() }),
        Item::Workspace(Workspace { path: "/var/lib/cni" }),
        Item::Pods(Pods),
        Item::Rules(Rules {
            words: Firewall::Ufw,
            table: "saltmarsh_hosts".into(),
            text: "allow 22/tcp comment 'zoisite: SSH'\n".into(),
        }),
    ]);
    holdings.needs.extend(["runtime", "plugins"]);
    holdings.names.push("api.saltmarsh.example".into());
    let ports = [(heron.address, 2380)];
    let api_end = &cluster.control_plane.endpoint;
    let stable = std::slice::from_ref(api_end);
    let drill = |kind, by| Drill { kind, host: heron.name.clone(), from: None, by, seconds: 20 };
    let other = "10.77.0.12".parse().unwrap();
    let gone = [("warden".to_owned(), "ssh-ed25519 AAAA".to_owned())];
    let looking = [
        zoisite_core::script::observe(&holdings, Depth::Quick),
        zoisite_core::script::uninstall_script(&heron.name, 1),
        zoisite_core::script::notes_script(&heron.name),
        zoisite_core::script::keep_rules_script(&heron.name, 1),
        zoisite_core::script::offer_script(&heron.name, heron.address, "ab", "/x"),
        zoisite_core::script::withdraw_script(&heron.name),
        zoisite_core::script::sink_script(1),
        zoisite_core::joining::callers_script(&heron.name, &[6443].into(), Some(51820), 1),
        zoisite_core::mesh::renew_key_script(&heron.name, 1),
        zoisite_core::mesh::pairs_script(&heron.name, [(&heron.name, "10.99.0.11".into())]),
        zoisite_core::first_boot::state_script(&heron.name),
        zoisite_core::first_boot::apply_script(&heron.name, &[], &gone, Way::InPlace, 1),
        zoisite_core::first_boot::apply_script(&heron.name, &[], &gone, Way::Restart, 1),
        zoisite_core::survey::survey_script(&cluster, heron),
        zoisite_core::survey::survey_script(&floats, &floats.hosts[0]),
        zoisite_core::paths::listen_script(&heron.name, &ports, "word"),
        zoisite_core::paths::probe_script(&heron.name, &[(heron.address, 2380, Some("word"))]),
        zoisite_core::paths::end_script(&heron.name),
        zoisite_core::paths::keep_datagrams_script(&heron.name, 51820),
        zoisite_core::paths::send_datagrams_script(&heron.name, "word", &[api_end]),
        zoisite_core::paths::arrived_script(&heron.name, "word"),
        hear_script(&heron.name, heron.address, &[other], Vrrp::Multicast),
        advertise_script(&heron.name, heron.address, &[other], Vrrp::Unicast),
        heard_routers_script(&heron.name),
        lose_script(&cluster, &drill(Kind::Holder, By::Cut), 1),
        lose_script(&cluster, &drill(Kind::Leader, By::Stop), 1),
        lose_script(&cluster, &drill(Kind::Worker, By::Reboot), 1),
        fix_script(&heron.name, 1),
        watch_script(&heron.name, 9, Some(heron.address), stable),
        zoisite_core::snapshot::begin_trial_script(&heron.name, 1),
        zoisite_core::snapshot::trial_script(&heron.name, 1),
        zoisite_core::snapshot::end_trial_script(&heron.name),
        std::fs::read_to_string(project().join("crates/zoisite-core/src/snapshot/trial_member.sh"))
            .unwrap(),
        zoisite_core::login::look_around(),
        zoisite_core::login::rule_script("warden"),
    ];
    // What is carried to offline hosts.
    let known = zoisite_core::cluster::read(
        &std::fs::read_to_string(project().join("lab/clusters/offline.toml")).unwrap(),
    );
    let known = known.cluster.unwrap();
    let host = known.offline().next().unwrap();
    let made = jiff::Timestamp::UNIX_EPOCH;
    let to = Addressed { cluster: &known, identity: "ab", host, number: 1, made, expires: made };
    let mut joins = HostHoldings::new(&host.name);
    joins.node = Some(NodePaths { client: "/x".into(), signed_by: None, api_name: None });
    let (sequence, word) = (Sequence::default(), make_word([7; 25]));
    let errand = Errand::Join { sequence: &sequence, arch: "amd64", from: None, by: None };
    let mut carried: Vec<String> = join_file::scripts(to, errand, &joins, KeyText::Masked)
        .unwrap()
        .into_iter()
        .map(|(_, script)| script.expose().to_owned())
        .collect();
    let key = zoisite_store::FreshKeys.key(KeyKind::EcdsaP256).unwrap().private;
    let how = (KeyText::Masked, &word, &Signer::of(&key).unwrap());
    let whole = join_file::join_file(to, errand, &joins, how).unwrap();
    carried.push(whole.expose().split("\n#sealed\n").next().unwrap().to_owned() + "\n");
    let all = scripts.iter().copied().chain(looking.iter().chain(&carried).map(String::as_str));
    for (i, script) in all.enumerate() {
        let name = format!("script-{i}.sh");
        lab.place.write(&name, script);
        let path = lab.place.path(&name);
        // A script has helpers for everything, and uses some of them.
        let _ = Done::of(
            Command::new("shellcheck").args(["-s", "sh", "-e", "SC2317,SC2329"]).arg(&path),
        )
        .ended(0);
        for shell in ["dash", "busybox"] {
            let mut command = Command::new(shell);
            if shell == "busybox" {
                command.arg("sh");
            }
            let _ = Done::of(command.arg("-n").arg(&path)).ended(0);
        }
    }
    // Cut in transit, it does nothing: not even a syntax error makes half of it run.
    let configure = scripts.iter().find(|s| s.contains("heron/etcd-configure")).unwrap();
    let cut = &configure[..configure.len() - 30];
    lab.place.write("cut.sh", cut);
    let done = Done::of(Command::new("dash").arg(lab.place.path("cut.sh")));
    assert!(!done.stdout.contains('@'), "{done:?}");
    assert!(!Path::new("/etc/zoisite/etcd").exists() && !Path::new("/var/lib/zoisite").exists());
}
