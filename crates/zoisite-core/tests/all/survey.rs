//! What hosts say of themselves and what that means, on recorded replies: a tidy host has no findings, and each
//! thing that is wrong is found, graded and named, with nothing beside it.

use std::collections::BTreeMap;

use crate::common::{SALTMARSH, changed, host, saltmarsh, two_families};
use zoisite_core::cluster::{Cluster, Grade, HostName, read};
use zoisite_core::survey::{
    Facts, Fixer, Naming, SiteFinding, Times, changes, differences, groups, judge, names,
    survey_script,
};

const TIMES: Times = Times { asked: 1_000_000, answered: 1_000_300 };

/// What a tidy host answers, in the words of the script; the clock is right when it was asked.
fn tidy(cluster: &Cluster, name: &str) -> Vec<String> {
    let known = cluster.host(&host(name)).unwrap();
    let stable = cluster.api_leads_to();
    let mut lines: Vec<String> = Vec::new();
    let mut say = |fields: &[&str]| lines.push(fields.join("\t"));
    say(&["time", "1000.100"]);
    say(&["machine", &format!("id-of-{name}")]);
    say(&["host-key", &format!("ssh-ed25519 key-of-{name}")]);
    say(&["arch", "x86_64"]);
    say(&["os", "debian 13"]);
    say(&["release", "Debian GNU/Linux 13 (trixie)"]);
    say(&["kernel", "6.12.48"]);
    say(&["cores", "4"]);
    say(&["memory", "MemTotal:", "16777216"]);
    say(&["memory", "MemAvailable:", "15777216"]);
    say(&["zone", "Etc/UTC"]);
    say(&["cgroups", "2"]);
    say(&["container", "no"]);
    say(&["nftables", "yes"]);
    say(&["module", "overlay", "loaded"]);
    say(&["forwarding", "1"]);
    for (purpose, path) in [
        ("programs", "/usr/local/lib/zoisite"),
        ("etcd", "/var/lib/etcd"),
        ("images", "/var/lib/containerd"),
        ("pods", "/var/lib/kubelet"),
        ("logs", "/var/log"),
    ] {
        say(&[
            "place",
            purpose,
            path,
            "/dev/vda1",
            "ext4",
            "/",
            "100000000",
            "90000000",
            "6000000",
            "5900000",
            "rw,relatime",
        ]);
    }
    say(&[
        "place",
        "temporary files",
        "/tmp",
        "tmpfs",
        "tmpfs",
        "/tmp",
        "2000000",
        "2000000",
        "400000",
        "399000",
        "rw,nosuid,nodev",
    ]);
    say(&["written", "64", "0.032", ""]);
    say(&[
        "link",
        "1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 qdisc noqueue state UNKNOWN mode DEFAULT",
    ]);
    say(&[
        "link",
        "2: eth0: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc fq state UP mode DEFAULT\\    link/ether 52:54:00:00:00:0b brd ff:ff:ff:ff:ff:ff promiscuity 0",
    ]);
    say(&[
        "address",
        "1: lo    inet 127.0.0.1/8 scope host lo\\       valid_lft forever preferred_lft forever",
    ]);
    for address in known.dialled() {
        let family = if address.is_ipv4() { "inet" } else { "inet6" };
        say(&[
            "address",
            &format!(
                "2: eth0    {family} {address}/24 scope global eth0\\       valid_lft forever preferred_lft forever"
            ),
        ]);
    }
    say(&["route", "default via 10.77.0.254 dev eth0 proto static"]);
    say(&["route", "10.77.0.0/24 dev eth0 proto kernel scope link src 10.77.0.11"]);
    say(&["route", "fe80::/64 dev eth0 proto kernel metric 256 pref medium"]);
    say(&["resolver", "# the site's own"]);
    say(&["resolver", "nameserver 10.77.0.254"]);
    say(&["server", "10.77.0.254", "5a 6f 81 83"]);
    say(&["asked", "api.saltmarsh.example"]);
    for at in &stable {
        say(&["name", "api.saltmarsh.example", &format!("{at} STREAM api")]);
        say(&["name", "api.saltmarsh.example", &format!("{at} DGRAM")]);
    }
    for other in &cluster.hosts {
        let (name, address) = (&other.name, other.address);
        say(&["asked", name.as_str(), &address.to_string()]);
        say(&["name", name.as_str(), &format!("{address} STREAM {name}")]);
        say(&["reverse", &format!("{address} {name}.saltmarsh.example {name}")]);
    }
    say(&["time-service", "systemd-timesyncd"]);
    say(&["synchronized", "yes"]);
    say(&["listens", "tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:((\"sshd\",pid=311,fd=3))"]);
    say(&["unit-of", "311", "ssh.service"]);
    for (word, program) in [
        ("at-runtime", "/usr/bin/containerd"),
        ("at-plugins", "/usr/lib/cni/bridge"),
        ("at-haproxy", "/usr/sbin/haproxy"),
        ("at-keepalived", "/usr/sbin/keepalived"),
    ] {
        say(&[word, program]);
        say(&["program", program, "1.7.24~ds1"]);
    }
    say(&["at-apt", "/usr/bin/apt-get"]);
    say(&["packages", "apt-get"]);
    say(&["masked", "systemd-resolved.service"]);
    say(&["etcd-data", "absent"]);
    say(&["time", "1000.200"]);
    lines
}

fn facts_of(lines: &[String]) -> Facts {
    let text: String = lines.iter().map(|line| format!("@\t{line}\n")).collect();
    Facts::read(&format!("greetings from the marsh\n{text}@\tend\n"), TIMES).unwrap()
}

fn all_tidy(cluster: &Cluster) -> BTreeMap<HostName, Facts> {
    let names = cluster.hosts.iter().map(|host| host.name.clone());
    names.map(|name| (name.clone(), facts_of(&tidy(cluster, name.as_str())))).collect()
}

/// A host whose answer has these lines in the place of those that begin alike, or beside the others.
fn with(cluster: &Cluster, name: &str, lines: &[(&str, &str)]) -> Facts {
    let mut all = tidy(cluster, name);
    for (begins, line) in lines {
        if !begins.is_empty() {
            let before = all.len();
            all.retain(|known| !known.starts_with(begins));
            assert!(all.len() < before, "no line begins with {begins}");
        }
        if !line.is_empty() {
            all.insert(1, (*line).to_owned());
        }
    }
    facts_of(&all)
}

fn codes(found: &[SiteFinding]) -> Vec<(String, &'static str, Grade)> {
    let host = |f: &SiteFinding| f.host.as_ref().map_or("here".to_owned(), ToString::to_string);
    found.iter().map(|f| (host(f), f.code, f.grade)).collect()
}

#[test]
fn tidy_hosts_have_no_findings_and_differ_in_nothing() {
    let cluster = saltmarsh();
    let facts = all_tidy(&cluster);
    assert_eq!(codes(&judge(&cluster, &facts, None, None)), []);
    assert_eq!(differences(&facts), []);
    assert_eq!(changes(&facts, &facts), []);
    // Both families by the same rules.
    let both = read(&two_families()).cluster.unwrap();
    assert_eq!(codes(&judge(&both, &all_tidy(&both), None, None)), []);
}

#[test]
fn each_thing_that_is_wrong_is_found_alone_with_its_grade_and_a_fix() {
    use Grade::{Blocks, Warns};
    let cluster = saltmarsh();
    // host; what it says instead of lines that begin so; what is found; words of the message, evidence or fix
    type Case<'a> = (&'a str, &'a [(&'a str, &'a str)], &'static str, Grade, &'a str);
    let cases: &[Case<'_>] = &[
        (
            "heron",
            &[(
                "address\t2: eth0",
                "address\t2: eth0    inet 10.77.0.99/24 scope global eth0\\  valid_lft forever",
            )],
            "address-missing",
            Blocks,
            "it has 10.77.0.99 on eth0",
        ),
        (
            "heron",
            &[(
                "address\t2: eth0",
                "address\t2: eth0    inet 10.77.0.11/24 scope global dynamic eth0\\  valid_lft 43000sec preferred_lft 43000sec",
            )],
            "address-leased",
            Warns,
            "reserve it for 52:54:00:00:00:0b",
        ),
        (
            "tern-1",
            &[(
                "address\t2: eth0",
                "address\t2: eth0    inet 10.77.0.101/26 scope global eth0\\  valid_lft forever",
            )],
            "segment-differs",
            Blocks,
            "its network is 10.77.0.64/26; beyond it: curlew at 10.77.0.21",
        ),
        (
            "heron",
            &[("", "route\t10.90.4.0/22 via 10.77.0.1 dev eth0 proto static")],
            "range-in-use",
            Blocks,
            "10.90.4.0/22 via 10.77.0.1 on eth0",
        ),
        (
            "tern-1",
            &[("", "route\tunreachable 10.91.0.0/16")],
            "range-in-use",
            Blocks,
            "10.91.0.0/16 leads nowhere",
        ),
        (
            "heron",
            &[("resolver\tname", ""), ("server", "")],
            "resolver-none",
            Warns,
            "names no name server",
        ),
        (
            "tern-1",
            &[
                ("resolver\tname", "resolver\tnameserver 127.0.0.1"),
                ("server", "server\t127.0.0.1\t5a 6f 81 80"),
            ],
            "resolver-stub",
            Warns,
            "workers.kubelet.resolvConf",
        ),
        (
            "heron",
            &[("server", "server\t10.77.0.254\tsilent")],
            "resolver-silent",
            Warns,
            "no answer within 6 seconds",
        ),
        (
            "heron",
            &[
                ("", "listens\ttcp LISTEN 0 511 *:2379 *:* users:((\"nginx\",pid=77,fd=6))"),
                ("", "unit-of\t77\tnginx.service"),
            ],
            "port-busy",
            Blocks,
            "systemctl disable --now nginx.service",
        ),
        (
            "curlew",
            &[(
                "",
                "listens\ttcp LISTEN 0 511 127.0.0.1:10257 0.0.0.0:* users:((\"old\",pid=77,fd=6))",
            )],
            "port-busy",
            Blocks,
            "the controller manager",
        ),
        (
            "heron",
            &[(
                "place\tlogs",
                "place\tlogs\t/var/log\t/dev/vdb\text4\t/var/log\t1000000\t100000\t60000\t50000\trw",
            )],
            "disk-full",
            Blocks,
            "/var/log: 97 MiB of 976 free",
        ),
        (
            "heron",
            &[(
                "place\tetcd",
                "place\tetcd\t/var/lib/etcd\t/dev/vdb\text4\t/var/lib/etcd\t2000000\t1900000\t60000\t50000\trw",
            )],
            "disk-small",
            Warns,
            "etcd need 8832 MiB at least",
        ),
        (
            "heron",
            &[(
                "place\tetcd",
                "place\tetcd\t/var/lib/etcd\t/dev/vdb\text4\t/var/lib/etcd\t90000000\t80000000\t60000\t12\trw",
            )],
            "inodes-few",
            Blocks,
            "12 of 60000 free",
        ),
        (
            "heron",
            &[(
                "place\tetcd",
                "place\tetcd\t/var/lib/etcd\t/dev/vdb\text4\t/var/lib/etcd\t90000000\t80000000\t60000\t50000\tro",
            )],
            "mount-read-only",
            Blocks,
            "mount -o remount,rw /var/lib/etcd",
        ),
        (
            "heron",
            &[(
                "place\tprograms",
                "place\tprograms\t/usr/local/lib/zoisite\t/dev/vdb\text4\t/usr/local\t90000000\t80000000\t60000\t50000\trw,noexec",
            )],
            "mount-noexec",
            Blocks,
            "remount,exec /usr/local",
        ),
        (
            "heron",
            &[(
                "place\ttemp",
                "place\ttemporary files\t/tmp\ttmpfs\ttmpfs\t/tmp\t2000\t2000\t400000\t399000\trw,noexec",
            )],
            "mount-noexec",
            Warns,
            "remount,exec /tmp",
        ),
        (
            "heron",
            &[(
                "place\tetcd",
                "place\tetcd\t/var/lib/etcd\tnas:/etcd\tnfs4\t/var/lib/etcd\t90000000\t80000000\t60000\t50000\trw",
            )],
            "disk-unfit",
            Blocks,
            "over the network",
        ),
        ("heron", &[("written", "written\t64\t1.92\t")], "disk-slow", Warns, "30 ms each"),
        (
            "heron",
            &[("written", "written\t0\t2\tInput/output error")],
            "disk-fails",
            Blocks,
            "Input/output error",
        ),
        (
            "curlew",
            &[("memory\tMemTotal", "memory\tMemTotal:\t524288")],
            "memory-small",
            Warns,
            "512 MiB of memory",
        ),
        (
            "tern-1",
            &[
                ("at-runtime", ""),
                ("program\t/usr/bin/containerd", "sources\tno"),
                ("", "source\tdeb.saltmarsh.example\tConnection refused"),
            ],
            "packages-offline",
            Blocks,
            "packages come from (deb.saltmarsh.example: Connection refused); or name runtime",
        ),
        ("tern-1", &[("at-runtime", "")], "program-missing", Warns, "no containerd yet"),
        (
            "jetty-a",
            &[("at-haproxy", ""), ("at-apt", "")],
            "program-missing",
            Blocks,
            "apt-get install haproxy",
        ),
        (
            "tern-1",
            &[("program\t/usr/bin/containerd", "program\t/usr/bin/containerd\tv1.5.9")],
            "runtime-old",
            Blocks,
            "programs = \"pinned\"",
        ),
        (
            "tern-1",
            &[("", "masked\tcontainerd.service")],
            "unit-masked",
            Blocks,
            "systemctl unmask containerd.service",
        ),
        (
            "tern-1",
            &[("", "swaps\t/dev/vdb2\tpartition"), ("", "boot-swap\t/etc/fstab\t/dev/vdb2")],
            "swap",
            Warns,
            "nothing: raise turns it off",
        ),
        (
            "tern-1",
            &[("", "boot-swap\t/etc/systemd/zram-generator.conf\tzram")],
            "swap",
            Warns,
            "zram-generator.conf: zram",
        ),
        (
            "tern-1",
            &[("container", "container\tyes"), ("", "swaps\t/dev/vdb2\tpartition")],
            "swap",
            Blocks,
            "swapoff -a",
        ),
        (
            "heron",
            &[("os\t", "os\tfedora 43"), ("release", "release\tFedora Linux 43")],
            "system-unproven",
            Blocks,
            "Fedora Linux 43",
        ),
        (
            "tern-1",
            &[("module\toverlay", "module\toverlay\tmissing")],
            "module-missing",
            Blocks,
            "modprobe -n overlay fails on 6.12.48",
        ),
        (
            "tern-1",
            &[("cgroups", "cgroups\t1")],
            "cgroups-old",
            Warns,
            "systemd.unified_cgroup_hierarchy=1",
        ),
        (
            "heron",
            &[("time-service", ""), ("synchronized", "")],
            "time-unkept",
            Warns,
            "no time service",
        ),
        (
            "heron",
            &[("synchronized", "synchronized\tno")],
            "time-unkept",
            Warns,
            "found no time server yet",
        ),
        ("heron", &[("", "mandatory\tSELinux, enforcing")], "selinux", Warns, "ausearch"),
        (
            "tern-1",
            &[("", "policy\tip filter\tFORWARD\tforward\tdrop")],
            "forward-dropped",
            Warns,
            "zoisite paths rules tern-1",
        ),
        (
            "heron",
            &[("", "cluster\t0123456789abcdef 1")],
            "other-cluster",
            Blocks,
            "cluster 0123456789abcdef",
        ),
        (
            "heron",
            &[
                ("", "left\tfolder\t/var/lib/etcd\t2"),
                ("etcd-data", "etcd-data\tpresent"),
                ("", "etcd-owner\tffee"),
            ],
            "other-data",
            Blocks,
            "mv /var/lib/etcd /var/lib/etcd.before-zoisite",
        ),
        (
            "tern-1",
            &[
                ("", "left\tunit\tkubelet.service\tactive"),
                ("", "left\tchains\tip nat\t12"),
                (
                    "",
                    "link\t7: overlay.1: <BROADCAST,UP> mtu 1450 state UP\\ link/ether 3a:00:00:00:00:01 brd ff\\    vxlan id 1 dev eth0",
                ),
            ],
            "leftovers",
            Warns,
            "systemctl disable --now kubelet.service; ip link delete overlay.1; nft delete table ip nat",
        ),
        (
            "heron",
            &[("", "reboot\t/var/run/reboot-required is there")],
            "restart-due",
            Warns,
            "reboot",
        ),
        (
            "heron",
            &[(
                "link\t2",
                "link\t2: eth0: <UP> mtu 1400 state UP\\    link/ether 52:54:00:00:00:0b brd ff",
            )],
            "mtu-differs",
            Warns,
            "1400 octets, and 1500 on most others",
        ),
        (
            "tern-1",
            &[("name\tapi", "name\tapi.saltmarsh.example\t")],
            "name-unknown",
            Blocks,
            "leads nowhere",
        ),
        (
            "tern-1",
            &[
                ("name\tapi", "name\tapi.saltmarsh.example\t10.77.0.99 STREAM x"),
                ("", "hosts-file\t10.77.0.99 api.saltmarsh.example"),
            ],
            "name-wrong",
            Blocks,
            "put it right in its /etc/hosts",
        ),
        (
            "heron",
            &[("name\tapi", "name\tapi.saltmarsh.example\t10.77.0.99 STREAM x")],
            "name-wrong",
            Warns,
            "the DNS that it asks (10.77.0.254)",
        ),
        (
            "heron",
            &[("reverse\t10.77.0.12", "reverse\t10.77.0.12 oldname.saltmarsh.example")],
            "reverse-wrong",
            Warns,
            "oldname.saltmarsh.example, and not for egret",
        ),
    ];
    for (name, lines, code, grade, words) in cases {
        let mut facts = all_tidy(&cluster);
        facts.insert(host(name), with(&cluster, name, lines));
        let found = judge(&cluster, &facts, None, None);
        assert_eq!(codes(&found), [((*name).to_owned(), *code, *grade)], "{code}: {found:#?}");
        let told = format!("{} {:?} {}", found[0].message, found[0].evidence, found[0].fix);
        assert!(told.contains(words), "{code}: {words} is not in: {told}");
        assert!(!found[0].fix.is_empty() && !told.contains("HOST"), "{code}: {told}");
        // Fixed, it is gone by itself.
        assert_eq!(codes(&judge(&cluster, &all_tidy(&cluster), None, None)), []);
    }
}

#[test]
fn what_is_wrong_elsewhere_does_not_matter_to_a_host() {
    let cluster = saltmarsh();
    // A load balancer needs no overlay file system, no runtime; it may swap, and forwards no pods.
    let lines = [
        ("", "swaps\t/dev/vdb2\tpartition"),
        ("module\toverlay", "module\toverlay\tmissing"),
        ("forwarding", "forwarding\t0"),
        ("", "masked\tcontainerd.service"),
        ("", "policy\tip filter\tFORWARD\tforward\tdrop"),
        ("cgroups", "cgroups\t1"),
        ("resolver\tname", "resolver\tnameserver 127.0.0.53"),
        ("server", "server\t127.0.0.53\t5a 6f 81 80"),
    ];
    let mut facts = all_tidy(&cluster);
    facts.insert(host("jetty-a"), with(&cluster, "jetty-a", &lines));
    assert_eq!(codes(&judge(&cluster, &facts, None, None)), []);
    // A host that carries this very cluster has its own data, its own routes, its own servers.
    let lines = [
        ("", "cluster\tfeed 1"),
        ("etcd-data", "etcd-data\tpresent"),
        ("", "left\tfolder\t/var/lib/etcd\t3"),
        ("", "listens\ttcp LISTEN 0 9 10.77.0.11:2379 0.0.0.0:* users:((\"etcd\",pid=9,fd=6))"),
        ("", "unit-of\t9\tzoisite-etcd.service"),
    ];
    facts.insert(host("heron"), with(&cluster, "heron", &lines));
    assert_eq!(codes(&judge(&cluster, &facts, None, Some("feed"))), []);
    // A kubelet that is told to bear swap does.
    let allowed = changed("[workers]", "[workers]\nkubelet = { failSwapOn = false }");
    let swaps = with(&cluster, "tern-1", &[("", "swaps\t/dev/vdb2\tpartition")]);
    let facts = BTreeMap::from([(host("tern-1"), swaps)]);
    assert_eq!(codes(&judge(&read(&allowed).cluster.unwrap(), &facts, None, None)), []);
    assert_eq!(codes(&judge(&cluster, &facts, None, None)).len(), 1);
}

#[test]
fn what_raise_does_by_itself_is_told_apart() {
    let cluster = saltmarsh();
    let lines = [("forwarding", "forwarding\t0"), ("module\toverlay", "module\toverlay\tloadable")];
    let facts = BTreeMap::from([(host("tern-1"), with(&cluster, "tern-1", &lines))]);
    let found = judge(&cluster, &facts, None, None);
    assert_eq!(found.len(), 2);
    assert!(found.iter().all(|found| found.fixer == Fixer::Raise), "{found:#?}");
}

#[test]
fn a_clock_is_held_against_the_others_with_the_way_taken_out() {
    let cluster = saltmarsh();
    let right = facts_of(&tidy(&cluster, "heron")).clock.unwrap();
    // 300 ms passed here, 100 there: 100 on each way, and it was asked at 1000.000.
    assert_eq!((right.ahead, right.within), (0, 100));
    let at = |first: &str, last: &str| {
        let lines = [("time\t", ""), ("", first), ("", last)];
        let mut all = with(&cluster, "egret", &lines);
        all.clock = {
            let text = format!("@\t{first}\n@\t{last}\n@\tend\n");
            Facts::read(&text, TIMES).unwrap().clock
        };
        all
    };
    let mut facts = all_tidy(&cluster);
    facts.insert(host("egret"), at("time\t1300.100", "time\t1300.200"));
    let found = judge(&cluster, &facts, None, None);
    assert_eq!(codes(&found), [("egret".into(), "clock-off", Grade::Blocks)]);
    assert!(found[0].message.contains("5 min fast"), "{}", found[0].message);
    facts.insert(host("egret"), at("time\t998.100", "time\t998.200"));
    let found = judge(&cluster, &facts, None, None);
    assert_eq!(codes(&found), [("egret".into(), "clock-off", Grade::Warns)]);
    assert!(found[0].message.contains("2.0 s slow"), "{}", found[0].message);
    // Less than what may be due to the way is none.
    facts.insert(host("egret"), at("time\t1001.100", "time\t1001.200"));
    assert_eq!(codes(&judge(&cluster, &facts, None, None)), []);
    // Where hosts agree, it is the clock here.
    for facts in facts.values_mut() {
        facts.clock =
            Facts::read("@\ttime\t1300.1\n@\ttime\t1300.2\n@\tend\n", TIMES).unwrap().clock;
    }
    let found = judge(&cluster, &facts, None, None);
    assert_eq!(codes(&found), [("here".into(), "clock-off", Grade::Blocks)]);
    assert!(found[0].message.contains("5 min slow"), "{}", found[0].message);
}

#[test]
fn machines_that_are_one_or_copies_block() {
    let cluster = saltmarsh();
    let mut facts = all_tidy(&cluster);
    let machine = facts[&host("heron")].machine.clone();
    facts.get_mut(&host("egret")).unwrap().machine = machine;
    let keys = facts[&host("ibis")].host_keys.clone();
    facts.get_mut(&host("curlew")).unwrap().host_keys = keys;
    let found = judge(&cluster, &facts, None, None);
    let hosts: Vec<String> = codes(&found).into_iter().map(|(host, _, _)| host).collect();
    assert_eq!(hosts, ["curlew", "egret", "heron", "ibis"], "{found:#?}");
    assert!(found.iter().all(|found| found.code == "clone" && found.grade == Grade::Blocks));
}

#[test]
fn names_are_told_by_who_gets_which_answer() {
    let cluster = saltmarsh();
    let mut facts = all_tidy(&cluster);
    let wrong = [("name\tegret", "name\tegret\t10.77.0.99 STREAM egret")];
    facts.insert(host("heron"), with(&cluster, "heron", &wrong));
    facts.insert(host("ibis"), with(&cluster, "ibis", &wrong));
    let here = with(&cluster, "tern-1", &[("name\tapi", "name\tapi.saltmarsh.example\t")]);
    let rows = names(&cluster, &facts, Some(&here));
    let worst = &rows[0];
    assert_eq!((worst.asked.as_str(), worst.naming), ("egret", Naming::Wrong));
    assert_eq!(worst.askers, [Some(host("heron")), Some(host("ibis"))]);
    assert_eq!(
        (&worst.expected[..], &worst.got[..]),
        (&["10.77.0.12".to_owned()][..], &["10.77.0.99".to_owned()][..])
    );
    assert_eq!(
        (rows[1].naming, rows[1].stable, &rows[1].askers[..]),
        (Naming::Unknown, true, &[None][..])
    );
    assert!(rows[2..].iter().all(|row| row.naming == Naming::Right), "{rows:#?}");
    // A host's own name may lead to loopback, as Debian's installer has it; another's may not.
    let own = [("name\tegret", "name\tegret\t127.0.1.1 STREAM egret")];
    let facts = BTreeMap::from([(host("egret"), with(&cluster, "egret", &own))]);
    assert!(names(&cluster, &facts, None).iter().all(|row| row.naming == Naming::Right));
    let facts = BTreeMap::from([(host("heron"), with(&cluster, "heron", &own))]);
    assert_eq!(names(&cluster, &facts, None)[0].naming, Naming::Wrong);
}

#[test]
fn hundreds_of_equals_are_one_line_and_the_odd_ones_are_named() {
    let text =
        changed("tern-{1..3}\" = \"10.77.0.{101..103}", "tern-{1..140}\" = \"10.77.0.{101..240}");
    let cluster = read(&text).cluster.unwrap();
    let mut facts = all_tidy(&cluster);
    assert_eq!(groups(&facts).len(), 1);
    facts.get_mut(&host("tern-7")).unwrap().kernel = "5.10.0".into();
    facts.get_mut(&host("tern-9")).unwrap().swaps = vec!["/dev/vdb2 (partition)".into()];
    let lines = groups(&facts);
    assert_eq!(lines.iter().map(|group| group.hosts.len()).collect::<Vec<_>>(), [146, 1, 1]);
    let differs = differences(&facts);
    let told: Vec<(&str, &str, usize, &str)> = differs
        .iter()
        .map(|d| (d.fact, d.values[0].0.as_str(), d.values[0].1.len(), d.values[1].1[0].as_str()))
        .collect();
    assert_eq!(told, [("kernel", "6.12.48", 147, "tern-7"), ("swap", "none", 147, "tern-9")]);
    // Another time.
    let before = all_tidy(&cluster);
    let told = changes(&before, &facts);
    assert_eq!(told.len(), 2, "{told:#?}");
    assert_eq!(
        (told[0].host.as_str(), told[0].before.as_str(), told[0].now.as_str()),
        ("tern-7", "6.12.48", "5.10.0")
    );
}

#[test]
fn an_answer_that_was_cut_is_none_and_odd_words_do_no_harm() {
    let cluster = saltmarsh();
    let text: String = tidy(&cluster, "heron").iter().map(|line| format!("@\t{line}\n")).collect();
    assert_eq!(Facts::read(&text, TIMES), None);
    let odd = "@\twritten\tmany\tsoon\t\n@\tplace\tetcd\n@\tlink\t\n@\tlink\t2: eth0\n@\taddress\t2: eth0 inet\n\
               @\troute\t\n@\tlistens\ttcp\n@\tserver\tnobody\tsilent\n@\treverse\tx\ty\n@\ttime\tnow\n@\tend\n";
    let facts = Facts::read(odd, TIMES).unwrap();
    assert_eq!((facts.written, facts.places.len(), facts.clock), (None, 0, None));
    // What a terminal would obey does not get through.
    let facts = Facts::read("@\trelease\tDebian \u{1b}[2J\n@\tend\n", TIMES).unwrap();
    assert_eq!(facts.release, "Debian ·[2J");
}

#[test]
fn the_script_asks_each_host_for_what_matters_to_it() {
    let cluster = saltmarsh();
    let script = |name: &str| survey_script(&cluster, cluster.host(&host(name)).unwrap());
    assert!(script("heron").contains("written /var/lib/etcd"));
    assert!(!script("tern-1").contains("\nwritten "), "only members' disks are tried");
    assert!(script("tern-1").contains("found containerd plugins"));
    assert!(script("jetty-a").contains("found haproxy"));
    assert!(script("tern-1").contains("ask_names api.saltmarsh.example heron"));
}

#[test]
fn a_virtual_ip_address_that_somebody_has_or_that_stands_elsewhere_keeps_its_holders_out() {
    let floats = |at: &str| {
        let text = changed("virtual-ip = \"10.77.0.5\"\n", &format!("virtual-ip = \"{at}\"\n"));
        read(&text).cluster.unwrap()
    };
    let cluster = floats("10.77.0.5");
    let mut facts = all_tidy(&cluster);
    // (That raise brings keepalived is reported too.)
    let about = |cluster: &Cluster, facts: &_| {
        let mut all = codes(&judge(cluster, facts, None, None));
        all.retain(|(_, code, _)| code.starts_with("virtual-ip"));
        all
    };
    let judged = |facts: &_| about(&cluster, facts);
    assert_eq!(judged(&facts), []);
    let script = survey_script(&cluster, cluster.host(&host("jetty-a")).unwrap());
    assert!(script.contains("\nneighbour 10.77.0.5\n"));
    let other = survey_script(&cluster, cluster.host(&host("heron")).unwrap());
    assert!(!other.contains("\nneighbour 10"), "it holds no such address");
    let taken = "neighbour\t10.77.0.5\t52:54:00:00:00:99";
    facts.insert(host("jetty-a"), with(&cluster, "jetty-a", &[("", taken)]));
    assert_eq!(judged(&facts), [("jetty-a".into(), "virtual-ip-taken", Grade::Blocks)]);
    // Somebody else's router of the same id is reported, and keeps a router out that speaks to the whole segment.
    assert!(
        script.contains("\nrouters_begin ")
            && script.contains("01:00:5e:00:00:12 10.77.0.31 10.77.0.31 10.77.0.32\n"),
        "{script}"
    );
    assert!(script.contains("\nrouters_heard\n") && !other.contains("\nrouters_begin "));
    let heard = with(&cluster, "jetty-a", &[("", "router\t10.77.0.200")]);
    let among = |text: &str| {
        let cluster = read(text).cluster.unwrap();
        let facts = [(host("jetty-a"), heard.clone())].into();
        codes(&judge(&cluster, &facts, None, None))
            .into_iter()
            .find(|(_, code, _)| *code == "router-id-taken")
    };
    assert_eq!(among(SALTMARSH).unwrap().2, Grade::Warns);
    let multicast = changed("virtual-ip =", "vrrp = \"multicast\"\nvirtual-ip =");
    assert_eq!(among(&multicast).unwrap().2, Grade::Blocks);
    // Once the cluster stands, one of its own hosts has it.
    facts.get_mut(&host("jetty-b")).unwrap().cluster = Some("0123456789abcdef 1".into());
    assert_eq!(judged(&facts), []);

    let cluster = floats("10.99.0.5");
    let found = about(&cluster, &all_tidy(&cluster));
    let elsewhere =
        ["jetty-a", "jetty-b"].map(|name| (name.to_owned(), "virtual-ip-elsewhere", Grade::Blocks));
    assert_eq!(found, elsewhere);
}
