//! A hostile site, on real hosts: everything that is wrong is found, named and fixed by what is printed, and
//! nothing else is reported.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead as _, BufReader};
use std::net::UdpSocket;
use std::process::{Command, Stdio};

use crate::common::Done;
use crate::common::lab::{Lab, lab, lab_root};
use serde_json::Value;

/// The site's name server: it answers that it knows nothing, as long as the test runs.
fn name_server() {
    let socket = UdpSocket::bind("10.77.0.254:53").unwrap();
    std::thread::spawn(move || {
        let mut query = [0; 512];
        while let Ok((length, from)) = socket.recv_from(&mut query) {
            if length > 3 {
                (query[2], query[3]) = (0x81, 0x83);
                let _ = socket.send_to(&query[..length], from);
            }
        }
    });
}

/// A unit that serves something else at a port.
const SQUATTER: &str = "[Service]\\nExecStart=/usr/bin/socat TCP-LISTEN:6443,fork,reuseaddr SYSTEM:cat\\n[Install]\\nWantedBy=multi-user.target\\n";

/// What is done to hosts before anybody looks.
fn spoil(lab_: &Lab) {
    let user = "useradd -m -s /bin/bash keeper; echo \"keeper ALL=(ALL) NOPASSWD: ALL\" >/etc/sudoers.d/keeper; \
                mkdir -m 0700 /home/keeper/.ssh; cp /home/warden/.ssh/authorized_keys /home/keeper/.ssh/; \
                chown -R keeper:keeper /home/keeper/.ssh; ";
    let jump = format!(
        "{user} printf \"Port 22\\nPort 2222\\n\" >/etc/ssh/sshd_config.d/site.conf; systemctl restart ssh"
    );
    let squatter = format!(
        "printf \"{SQUATTER}\" >/etc/systemd/system/squatter.service; systemctl enable -q --now squatter"
    );
    for (host, command) in [
        // Its firewall drops etcd's peer port from one side, and /tmp starts no program.
        (
            "heron",
            "nft add table ip site; nft \"add chain ip site input { type filter hook input priority 0; }\"; \
             nft add rule ip site input ip saddr 10.77.0.13 tcp dport 2380 drop; \
             mount -o remount,noexec /tmp",
        ),
        // A rule of sudo that a later one overrides.
        (
            "egret",
            "groupadd staff-of-the-marsh; usermod -aG staff-of-the-marsh warden; \
             echo \"%staff-of-the-marsh ALL=(ALL:ALL) ALL\" >/etc/sudoers.d/zz-staff",
        ),
        // Another cluster's data.
        (
            "ibis",
            "mkdir -p /var/lib/etcd/data/member; echo 0123456789abcdef >/var/lib/etcd/cluster",
        ),
        // Another port and user behind a jump host.
        ("curlew", &jump),
        // A busy port.
        ("plover", &squatter),
        // Disks that are nearly full, and out of inodes; a wrong reverse name.
        (
            "sandpiper",
            "mount -t tmpfs -o size=20m tmpfs /var/log; mkdir -p /usr/local/lib/zoisite; \
             mount -t tmpfs -o size=2g,nr_inodes=60 tmpfs /usr/local/lib/zoisite; \
             sed -i \"s/^10.77.0.11 .*/10.77.0.11 oldname heron/\" /etc/hosts",
        ),
        // A login that greets.
        (
            "jetty-a",
            "usermod -s /bin/bash warden; echo \"echo Welcome to jetty-a\" >/home/warden/.bashrc",
        ),
        // Swap from the next start on, a runtime that cannot be started, a resolver of its own.
        (
            "tern-1",
            "echo \"/dev/vdb2 none swap sw 0 0\" >>/etc/fstab; systemctl mask -q containerd; \
             echo nameserver 127.0.0.53 >/etc/resolv.conf; \
             systemd-run -q socat UDP-LISTEN:53,bind=127.0.0.53,fork EXEC:cat",
        ),
        // Two clones.
        ("tern-2", "true"),
        ("tern-3", "true"),
    ] {
        let _ = lab_.on(host, command).ended(0);
    }
    let id = lab_.on("tern-2", "cat /etc/machine-id").ended(0).stdout;
    let _ = lab_.on("tern-3", &format!("echo {} >/etc/machine-id", id.trim())).ended(0);
    lab("off", &["jetty-b"]);
    let file = lab_.place.read("zoisite.toml").replace(
        "curlew = \"10.77.0.21\"",
        "curlew = { address = \"10.77.0.21\", login = { user = \"keeper\", port = 2222 } }",
    );
    lab_.place.write("zoisite.toml", file);
    let own = std::fs::read_to_string(lab_.folder.join("ssh_config")).unwrap();
    lab_.place.write("ssh_config", format!("Host curlew\n  ProxyJump plover\n{own}"));
}

/// Codes of what was found, by host; how fast this machine's disk is today is not the test's matter.
fn codes(report: &Value) -> BTreeMap<String, BTreeSet<String>> {
    let mut out: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for found in report["findings"].as_array().unwrap() {
        let code = found["code"].as_str().unwrap();
        if found["fixer"] == "person" && code != "disk-slow" && !found["host"].is_null() {
            let host = found["host"].as_str().unwrap().to_owned();
            out.entry(host).or_default().insert(code.to_owned());
        }
    }
    for trouble in report["troubles"].as_array().unwrap() {
        let host = trouble["host"].as_str().unwrap().to_owned();
        out.entry(host).or_default().insert(trouble["answer"].as_str().unwrap().to_owned());
    }
    out
}

fn fix_of(report: &Value, host: &str, code: &str) -> String {
    let mut all = report["findings"].as_array().unwrap().iter();
    let found = all.find(|found| found["host"] == host && found["code"] == code).unwrap();
    found["fix"].as_str().unwrap().to_owned()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn everything_that_is_wrong_at_a_hostile_site_is_found_and_its_fixes_work() {
    let lab_ = Lab::of_suites("saltmarsh", None, 11, "tern-3=bookworm");
    name_server();
    spoil(&lab_);
    let config = lab_.place.path("ssh_config");
    let command = |args: &[&str]| {
        let mut command = lab_.command(args);
        command.env("ZOISITE_SSH_CONFIG", &config);
        command
    };
    let zoisite = |args: &[&str]| Done::of(&mut command(args));

    let report = zoisite(&["survey", "--json"]).ended(3).json();
    let found = codes(&report);
    let told = |host: &str| {
        found.get(host).cloned().unwrap_or_default().into_iter().collect::<Vec<_>>().join(" · ")
    };
    assert_eq!(told("heron"), "mount-noexec", "{found:#?}");
    assert!(told("egret").contains("a password is required"), "{found:#?}");
    assert_eq!(told("ibis"), "other-data", "{found:#?}");
    assert_eq!(told("curlew"), "", "{found:#?}");
    assert_eq!(told("plover"), "port-busy", "{found:#?}");
    assert_eq!(told("sandpiper"), "disk-full · inodes-few · reverse-wrong", "{found:#?}");
    assert_eq!(told("jetty-a"), "", "{found:#?}");
    assert!(told("jetty-b").contains("port 22: "), "{found:#?}");
    assert_eq!(told("tern-1"), "resolver-stub · swap-at-boot · unit-masked", "{found:#?}");
    assert_eq!((told("tern-2"), told("tern-3")), ("clone".into(), "clone".into()), "{found:#?}");
    let differs = report["differences"].to_string();
    assert!(differs.contains("debian 12"), "{differs}");

    // The same site, host to host: one port is dropped one way, one is held by somebody else.
    let tried = zoisite(&["paths", "try", "--json"]).ended(3).json();
    let blocked: BTreeSet<String> = tried["blocked"]
        .as_array()
        .unwrap()
        .iter()
        .map(|block| {
            let from = block["from"].as_array().unwrap().iter();
            let from: Vec<&str> = from.map(|host| host.as_str().unwrap()).collect();
            let outcome = block["outcome"].as_str().unwrap_or("busy");
            format!(
                "{} → {} {}: {outcome}",
                from.join(","),
                block["to"].as_str().unwrap(),
                block["ports"][0]
            )
        })
        .collect();
    let wanted = [
        "ibis → heron 2380: no-answer",
        "curlew,jetty-a,jetty-b,sandpiper,tern-1,tern-2,tern-3 → plover 6443: busy",
    ];
    assert_eq!(blocked, wanted.map(ToOwned::to_owned).into(), "{:#}", tried["blocked"]);
    assert_eq!(tried["untried"].as_object().unwrap().len(), 3, "{:#}", tried["untried"]);
    // What could not be tried is reported as that, of those two hosts alone.
    for trial in tried["trials"].as_array().unwrap() {
        if trial["outcome"].get("untried").is_some() {
            let ends = [&trial["link"]["from"], &trial["link"]["to"]];
            assert!(ends.iter().any(|end| *end == "egret" || *end == "jetty-b"), "{trial}");
        }
    }
    // Nothing of it stays on hosts.
    for host in ["heron", "ibis", "plover", "tern-1"] {
        let left = lab_.on(host, "ls /run/systemd/system | grep zoisite; systemctl list-units --all --no-legend \"zoisite-path*\"");
        assert_eq!(left.ended(0).stdout.trim(), "", "{host}");
    }

    // One machine behind two names is refused by rule, before anything else.
    let _ = zoisite(&["raise"]).ended(4).complains("S4 same machine");
    let fix = fix_of(&report, "tern-3", "clone");
    let typed = fix.split_once(" on tern-3: ").unwrap().1.split("; ").next().unwrap().to_owned();
    let _ = lab_.on("tern-3", &typed).ended(0);
    // So is data of another cluster; the printed fix moves it aside.
    let _ = zoisite(&["raise"]).ended(4).complains("S3 no foreign data");
    let fix = fix_of(&report, "ibis", "other-data");
    let _ = lab_.on("ibis", fix.split_once("move it aside: ").unwrap().1).ended(0);
    // A raise keeps out what is not fit, and says so; nothing is put there.
    let _ = zoisite(&["raise"])
        .ended(1)
        .complains("is held by socat")
        .complains("hardly any inodes left")
        .complains("is masked");
    let _ = lab_.on("tern-1", "test ! -e /etc/zoisite && test ! -e /var/lib/zoisite").ended(0);

    // Somebody watches while the printed fixes are typed.
    let mut watching = command(&["survey", "--watch", "--for", "20m"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(watching.stdout.take().unwrap()).lines();
    let mut until = |words: &str| {
        let line = lines.by_ref().map(Result::unwrap).find(|line| line.contains(words));
        line.unwrap_or_else(|| panic!("nothing said {words}"))
    };
    until("9 of 11 hosts have appeared");
    for (host, code) in [
        ("heron", "mount-noexec"),
        ("plover", "port-busy"),
        ("tern-1", "swap-at-boot"),
        ("tern-1", "unit-masked"),
    ] {
        let fix = fix_of(&report, host, code);
        let typed = fix.split(", ").next().unwrap();
        let _ = lab_.on_with(host, "sh -s", format!("{typed}\n")).ended(0);
    }
    let _ = lab_.on("sandpiper", "umount /var/log /usr/local/lib/zoisite").ended(0);
    // Nobody becomes root there but by this machine's own way in.
    std::fs::remove_file(lab_root(&lab_, "egret").join("etc/sudoers.d/zz-staff")).unwrap();
    lab("on", &["jetty-b"]);
    until("11 of 11 hosts have appeared: nothing is in the way any more");
    assert!(watching.wait().unwrap().success());
    let report = zoisite(&["survey", "--json"]).ended(0).json();
    let found = codes(&report);
    let left: BTreeSet<&str> = found.values().flatten().map(String::as_str).collect();
    assert_eq!(left, BTreeSet::from(["resolver-stub", "reverse-wrong"]), "{found:#?}");

    // Each path is open once the rule is gone; another machine in a host's place is reported.
    let _ = lab_.on("heron", "nft delete table ip site").ended(0);
    let _ = zoisite(&["paths", "try"]).ended(0).says("all open");
    let id = "tr -d - </proc/sys/kernel/random/uuid >/etc/machine-id";
    let _ = lab_.on("tern-2", id).ended(0);
    let report = zoisite(&["survey", "tern-2", "--json"]).ended(0).json();
    assert_eq!(report["changes"][0]["fact"], "machine", "{:#}", report["changes"]);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_trial_leaves_nothing_behind_however_it_ends() {
    let lab_ = Lab::of("compact", None, 3);
    let open = |host: &str| {
        lab_.on(host, "systemctl list-units --no-legend --state=active \"zoisite-path*.socket\"")
            .stdout
    };
    // Killed in the midst: hosts end it themselves.
    lab_.killed_at(&["paths", "try"], &["hosts connect to one another"]);
    assert!(
        crate::common::lab::MEMBERS.iter().any(|host| !open(host).is_empty()),
        "ports are served"
    );
    // Another one waits for what is left of it, and finds everything open.
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("all open");
    for host in crate::common::lab::MEMBERS {
        assert_eq!(open(host), "", "{host}");
        let left = lab_.on(host, "ls /run/systemd/system | grep zoisite");
        assert_eq!(left.stdout.trim(), "", "{host}");
    }
    // A firewall closed to everybody else, by the printed rules: every path is open, and the cluster is raised.
    for host in crate::common::lab::MEMBERS {
        let rules =
            lab_.zoisite(&["paths", "rules", host, "--administrators", "10.77.0.254"]).ended(0);
        let load =
            "cat >/etc/nftables.conf; nft -c -f /etc/nftables.conf && nft -f /etc/nftables.conf";
        let _ = lab_.on_with(host, load, rules.stdout).ended(0);
    }
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("all open");
    let _ = lab_.zoisite(&["raise"]).ended(0).says("nodes: all Ready (3 of 3)");
    let _ = lab_.zoisite(&["verify"]).ended(0).says("the cluster works");
    // What serves by now is tried itself; from here nothing is reached but SSH.
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("all open");
    for port in ["2379", "2380", "10250"] {
        let dial = format!("exec 3<>/dev/tcp/10.77.0.11/{port}");
        let done = Command::new("timeout").args(["3", "bash", "-c", &dial]).output().unwrap();
        assert!(!done.status.success(), "{port} is open from here");
    }
}
