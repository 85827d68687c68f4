//! Debian as it comes, with an SSH server and nothing of ours, brought to Ready by `raise` alone; and put back.

use std::collections::BTreeMap;
use std::process::{Command, Stdio};

use crate::common::Done;
use crate::common::lab::{Lab, MEMBERS, lab, lab_root};
use crate::common::waits::patience;

/// What may differ on a host that was put back: logs, what lies in caches to be had again, and two marks that keep
/// an older run's script from acting late.
const KEPT: &[&str] = &[
    "./var/log",
    "./var/cache",
    "./var/lib/apt",
    "./var/lib/systemd",
    "./var/lib/zoisite",
    "./var/tmp",
    // dpkg writes its list again; what it says is compared by itself.
    "./var/lib/dpkg/status",
    "./var/lib/dpkg/lock",
    "./var/lib/dpkg/triggers",
    // Copies that useradd and userdel keep of what was before.
    "./etc/passwd-",
    "./etc/shadow-",
    "./etc/group-",
    "./etc/gshadow-",
    "./etc/subuid-",
    "./etc/subgid-",
    "./etc/.updated",
    "./var/.updated",
    // It is the kernel's, or goes with the next boot.
    "./proc",
    "./sys",
    "./dev",
    "./run",
    "./tmp",
];

/// All that there is on a host, and in its kernel: a line each.
fn shape(lab_: &Lab, host: &str) -> BTreeMap<String, String> {
    let root = lab_root(lab_, host);
    let tree = Done::of(
        Command::new("sh").current_dir(&root).arg("-c").arg(
            "find . -xdev -printf '%p\\t%y %m %U %G %l\\n'; \
             find . -xdev -type f -print0 | xargs -0 sha256sum | sed 's/^\\([0-9a-f]*\\)  \\(.*\\)/\\2\\t\\1/'",
        ),
    );
    let mut all = BTreeMap::new();
    for line in tree.stdout.lines() {
        let Some((path, what)) = line.split_once('\t') else { continue };
        if !KEPT.iter().any(|kept| path == *kept || path.starts_with(kept)) {
            let known: &mut String = all.entry(path.to_owned()).or_default();
            known.push_str(what);
        }
    }
    assert!(tree.status == 0 && all.len() > 3_000, "{host}: {tree:?}");
    for (name, command) in [
        ("packages", "dpkg-query -W -f \"\\${Package} \\${Version} \\${Status}\\n\""),
        ("tables", "nft list ruleset"),
        ("routes", "ip route; ip -6 route"),
        ("links", "ip -br link | cut -d @ -f 1"),
        ("addresses", "ip -br address | sed \"s/@if[0-9]*//; s|/.*||\" | tr -s \" \""),
        ("forwarding", "cat /proc/sys/net/ipv4/ip_forward"),
        ("name", "hostname"),
        ("units", "systemctl list-unit-files --no-legend --type=service,swap,timer | sort"),
        (
            "running",
            "systemctl list-units --no-legend --plain --type=service --state=running | grep -v ssh@ | cut -d \" \" -f 1 | sort",
        ),
        ("mounts", "cut -d \" \" -f 2 /proc/mounts | sort"),
        ("processes", "ps -e -o comm= | grep -c containerd-shim || true"),
    ] {
        let done = lab_.on(host, command).ended(0);
        all.insert(name.to_owned(), done.stdout);
    }
    all
}

fn shapes(lab_: &Lab) -> BTreeMap<&'static str, BTreeMap<String, String>> {
    MEMBERS.map(|host| (host, shape(lab_, host))).into()
}

/// Nothing is left of ours but what is said to stay.
fn must_be_as(before: &BTreeMap<String, String>, now: &BTreeMap<String, String>, host: &str) {
    let only = |one: &BTreeMap<String, String>, other: &BTreeMap<String, String>| {
        let differs = one.iter().filter(|(path, what)| other.get(*path) != Some(*what));
        // What etcd wrote stays, and what was saved of it; it is reported.
        let stays = ["./var/lib/etcd", "./var/lib/zoisite/snapshots"];
        let differs =
            differs.filter(|(path, _)| !stays.iter().any(|stays| path.starts_with(stays)));
        differs.map(|(path, what)| format!("{path}: {what}")).collect::<Vec<_>>()
    };
    let (came, went) = (only(now, before), only(before, now));
    assert!(came.is_empty() && went.is_empty(), "{host}: {came:#?} in the place of {went:#?}");
}

fn restarted(host: &str) {
    lab("off", &[host, "clean"]);
    lab("on", &[host]);
}

/// Both releases of Debian, from packages; each host restarted; everything taken back; raised once more without any
/// source of packages, by what is pinned; and taken back again.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn bare_machines_go_to_ready_and_back_on_both_releases() {
    let lab_ = Lab::of_bare("compact", 3, "egret=bookworm");
    // Raised behind what its own firewall lets in: nothing else comes through.
    let file = lab_.place.read("zoisite.toml");
    let own = "\n[preparation]\nfirewall = \"set\"\nadministrators = [\"10.77.0.254/32\"]\n";
    let (before, after) = file.split_once("[components]").unwrap();
    lab_.place.write("zoisite.toml", format!("{before}{own}\n[components]{after}"));
    let before = shapes(&lab_);

    // What is lacking is reported, and in nobody's way.
    let survey = lab_.zoisite(&["survey"]).ended(0);
    let _ = survey.says("raise fixes by itself").says("nothing is in the way of a raise");
    let _ = lab_
        .zoisite(&["sequence"])
        .ended(0)
        .says("prepare the machine")
        .says("package containerd is missing")
        .says("lines of /etc/hosts is missing");
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let _ = lab_.zoisite(&["verify", "--timeout", &patience(120)]).ended(0);
    for host in MEMBERS {
        let held = lab_.on(host, "hostname; apt-mark showhold; getent hosts ibis").ended(0);
        let _ = held.says(host).says("containerd").says("10.77.0.13");
        let _ =
            lab_.on(host, "nft list chain inet saltmarsh_hosts input").ended(0).says("policy drop");
        // The site's own configuration is read, and what is computed counts.
        let merged = lab_
            .on(host, "containerd --config /etc/zoisite/runtime/containerd.toml config dump")
            .ended(0);
        let _ = merged.says("lab.saltmarsh.example/sandbox:3.10").says("/usr/lib/cni");
    }

    // A restart of each changes nothing.
    for host in MEMBERS {
        restarted(host);
        lab_.until_well();
        let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    }

    // A host that others depend on goes with all of them.
    let _ = lab_.zoisite(&["uninstall", "heron", "--yes"]).ended(4).complains("S1 quorum first");
    let listed = lab_.zoisite(&["uninstall", "heron", "--list"]).ended(0);
    let _ = listed.says("package").says("/etc/systemd/system/zoisite-etcd.service").says("nothing");
    let _ = lab_.zoisite(&["uninstall", "--whole-cluster", "--yes"]).ended(0).says("Took back");
    for (host, before) in &before {
        must_be_as(before, &shape(&lab_, host), host);
    }
    let _ = lab_.zoisite(&["uninstall", "--whole-cluster", "--yes"]).ended(0);

    // No source of packages answers, and nothing is pinned: told before anything is touched.
    lab("mirror", &["stop"]);
    let done = lab_.zoisite(&["raise"]).ended(1);
    let _ = done.complains("no source of packages answers").complains("network-plugins");
    // What is pinned is brought instead.
    let file = lab_.place.read("zoisite.toml");
    let pins = format!("{file}{}", pinned(&lab_));
    lab_.place.write("zoisite.toml", &pins);
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let _ = lab_.zoisite(&["verify", "--timeout", &patience(120)]).ended(0);
    for host in MEMBERS {
        let runs =
            lab_.on(host, "readlink /proc/$(systemctl show containerd -p MainPID --value)/exe");
        let _ = runs.ended(0).says("/usr/local/lib/zoisite/containerd-");
    }
    // And nothing of it is left anywhere: another cluster begins there at once.
    let all = ["uninstall", "--whole-cluster", "--wipe", "--forget"];
    let _ = lab_.zoisite(&all).ended(4).complains("you did not agree");
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let all = [&all[..], &["--yes"]].concat();
    let _ = lab_.zoisite(&all).ended(0).says("The cluster is forgotten here");
    for (host, before) in &before {
        must_be_as(before, &shape(&lab_, host), host);
        let left = "ls -A /var/lib/etcd /var/lib/zoisite/snapshots 2>/dev/null; true";
        assert_eq!(lab_.on(host, left).ended(0).stdout, "", "{host}");
    }
    let _ = lab_.zoisite(&["status"]).ended(2).complains("nothing has been raised");
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
}

/// The lines under [components] that pin what the lab's builder made of the runtime.
fn pinned(lab_: &Lab) -> String {
    let version = |component: &str| {
        let folder = lab_.place.path("components").join(component);
        let mut all = std::fs::read_dir(folder).unwrap();
        all.next().unwrap().unwrap().file_name().into_string().unwrap()
    };
    format!(
        "runtime = \"{}\"\nrunc = \"{}\"\nnetwork-plugins = \"{}\"\n",
        version("containerd"),
        version("runc"),
        version("network-plugins")
    )
}

/// What goes wrong while a machine is prepared is one message, and the next run goes on.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn what_is_in_the_way_of_preparing_is_told_and_the_next_run_goes_on() {
    let lab_ = Lab::of_bare("single", 1, "");
    let prepare = || lab_.zoisite(&["raise", "--part", "preparation"]);
    // A file that cannot be replaced.
    let _ = lab_.on("heron", "mount --bind /etc/hosts /etc/hosts").ended(0);
    let _ = prepare().ended(1).complains("replacing /etc/hosts");
    let _ = lab_.on("heron", "umount /etc/hosts").ended(0);
    // One that may not be changed at all, and a whole folder.
    let _ = lab_.on("heron", "chattr +i /etc/hosts").ended(0);
    let _ = prepare().ended(1).complains("/etc/hosts").complains("Operation not permitted");
    let _ = lab_.on("heron", "chattr -i /etc/hosts").ended(0);
    let _ = lab_.on("heron", "mount --bind /etc /etc; mount -o remount,bind,ro /etc").ended(0);
    let _ = prepare().ended(1).complains("Read-only file system");
    let _ = lab_.on("heron", "umount -l /etc; ls /etc | grep -c zoisite-new").ended(1).says("0");
    // dpkg was interrupted by somebody else: that is theirs to end, and it is said how.
    let spoil = "cp /var/lib/dpkg/status /root/; \
                 sed -i \"/^Package: cron\\$/,/^\\$/ s/^Status: .*/Status: install ok half-configured/\" /var/lib/dpkg/status";
    let _ = lab_.on("heron", spoil).ended(0);
    let _ = prepare().ended(1).complains("dpkg was interrupted earlier").complains("cron");
    let _ = lab_.on("heron", "mv /root/status /var/lib/dpkg/status").ended(0);
    // A package that others keep from changing.
    let conflict = "printf \"Package: containerd\\nPin: version *\\nPin-Priority: -1\\n\" >/etc/apt/preferences.d/site";
    let _ = lab_.on("heron", conflict).ended(0);
    let _ = prepare().ended(1).complains("planning to install containerd");
    let _ = lab_.on("heron", "rm /etc/apt/preferences.d/site").ended(0);
    // A mirror that goes away in between.
    lab("mirror", &["stop"]);
    let _ = prepare().ended(1).complains("no source of packages answers");
    lab("mirror", &["start"]);
    // Somebody else installs something: waited for, with their name; then it goes on.
    let held = "perl -e 'use Fcntl; open(F, \">>/var/lib/dpkg/lock-frontend\"); \
                $l = pack(\"s s l! l! i\", F_WRLCK, 0, 0, 0, 0); fcntl(F, F_SETLK, $l) or die; sleep 600'";
    let mut holder = Command::new("ssh")
        .arg("-F")
        .arg(lab_.folder.join("ssh_config"))
        .args(["-tt", "heron", "sudo", held])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let mut waiting = lab_.begin(&["raise", "--part", "preparation"]);
    waiting.until("has the package database");
    let _ = lab_.on("heron", "pkill perl").ended(0);
    let _ = holder.wait();
    // And this very run is cut in the midst of it: the next one goes on from there.
    waiting.until("Get:");
    assert!(waiting.said().contains("perl (process"), "{}", waiting.said());
    waiting.kill();
    let _ = prepare().ended(0);
    let _ = lab_.zoisite(&["sequence", "--part", "preparation"]).ended(0).says("nothing differs");
    let _ = lab_.on("heron", "apt-mark showhold").ended(0).says("containernetworking-plugins");
    // A power cut in the midst of it, on the host itself.
    let _ = lab_.zoisite(&["uninstall", "--whole-cluster", "--yes"]).ended(0);
    let mut cut = lab_.begin(&["raise", "--part", "preparation"]);
    cut.until("Get:");
    lab("off", &["heron"]);
    let (status, said) = cut.end();
    assert_eq!(status, 1, "it tells that its host is lost: {said}");
    lab("on", &["heron"]);
    let _ = prepare().ended(0);
    let _ = lab_.zoisite(&["sequence", "--part", "preparation"]).ended(0).says("nothing differs");
    // Rules of the firewall that keep us out too: the host takes them back by itself.
    let file = lab_.place.read("zoisite.toml");
    let own = "\n[preparation]\nfirewall = \"set\"\nadministrators = [\"192.0.2.0/24\"]\n";
    lab_.place.write("zoisite.toml", format!("{file}{own}"));
    let _ = prepare().ended(1).complains("undone them by itself").complains("administrators");
    let _ = lab_.on("heron", "nft list tables | grep saltmarsh").ended(1);
    lab_.place.write("zoisite.toml", &file);
}
