//! Getting into hosts that are as they come, on real OpenSSH and sudo: a password, a rule in the way, another
//! user and port behind a jump host, IPv6 alone.

use std::process::Command;

use crate::common::Done;
use crate::common::lab::{Lab, MEMBERS};
use crate::common::terminal::Terminal;
use crate::common::waits::until;
use serde_json::Value;

/// Hosts as they come; root gets in by the lab's key, for the test alone.
struct Bare {
    lab: Lab,
    config: String,
}

/// Where each is reached.
const AT: [(&str, &str); 3] =
    [("heron", "fd77::11"), ("egret", "10.77.0.12"), ("ibis", "10.77.0.13")];

impl Bare {
    fn new() -> Self {
        let lab = Lab::of("compact", None, 3);
        lab.speaks_both_families();
        // Nobody looks as often in a minute as this test: sshd would turn it away.
        let common = "set -e; mkdir -p -m 0700 /root/.ssh; cp /home/warden/.ssh/authorized_keys /root/.ssh/; \
                      chown -R root:root /root/.ssh; \
                      printf \"PasswordAuthentication yes\\nPerSourcePenalties no\\n\" >/etc/ssh/sshd_config.d/site.conf; ";
        for (host, own) in [
            // One that knows a password alone, and has no IPv4 address.
            (
                "heron",
                "ip address add fd77::11/64 dev host0 nodad; usermod -aG sudo warden; \
                 echo \"%sudo ALL=(ALL:ALL) ALL\" >/etc/sudoers.d/sudo; rm /etc/sudoers.d/warden; \
                 rm /home/warden/.ssh/authorized_keys; later=\"ip -4 address flush dev host0;\"; ",
            ),
            // One that lets the key in, and whose rule without a password is overridden by a later one.
            (
                "egret",
                "groupadd staff-of-the-marsh; usermod -aG staff-of-the-marsh warden; \
                 echo \"%staff-of-the-marsh ALL=(ALL:ALL) ALL\" >/etc/sudoers.d/zz-staff; ",
            ),
            // One with another user and another port, behind that one.
            (
                "ibis",
                "useradd -m -s /bin/bash keeper; \
                 echo \"keeper ALL=(ALL:ALL) ALL\" >/etc/sudoers.d/keeper; \
                 printf \"Port 22\\nPort 2222\\n\" >>/etc/ssh/sshd_config.d/site.conf; \
                 nft add table ip site; \
                 nft \"add chain ip site input { type filter hook input priority 0; }\"; \
                 nft add rule ip site input tcp dport 2222 ip saddr != 10.77.0.12 drop; ",
            ),
        ] {
            let user = if host == "ibis" { "keeper" } else { "warden" };
            let keep = "cat >/root/entry; ";
            let command = format!(
                "{keep}{common}{own}chpasswd </root/entry; rm /root/entry; \
                 systemd-run sh -c \"sleep 1; ${{later:-}} systemctl restart ssh; touch /root/ready\""
            );
            let _ = lab.on_with(host, &command, format!("{user}:high-tide\n")).ended(0);
        }
        let file = lab
            .place
            .read("zoisite.toml")
            .replace(
                "heron = \"10.77.0.11\"",
                "heron = { address = \"10.77.0.11\", login = { address = \"fd77::11\" } }",
            )
            .replace(
                "ibis = \"10.77.0.13\"",
                "ibis = { address = \"10.77.0.13\", login = { user = \"keeper\", port = 2222 } }",
            );
        lab.place.write("zoisite.toml", file);
        let (folder, place) = (lab.folder.display(), lab.place.folder().display());
        lab.place.write(
            "ssh_config",
            format!(
                "Host ibis\n  ProxyJump egret\nHost *\n  User warden\n  IdentityFile {folder}/key\n  IdentitiesOnly yes\n  \
                 UserKnownHostsFile {place}/known_hosts\n  GlobalKnownHostsFile /dev/null\n  StrictHostKeyChecking yes\n"
            ),
        );
        let config = lab.place.path("ssh_config").to_str().unwrap().to_owned();
        let bare = Self { lab, config };
        for (host, _) in AT {
            until(format!("{host} to let root in"), 120, || {
                bare.root(host, "test -e /root/ready").status == 0
            });
        }
        bare
    }

    fn root(&self, host: &str, command: &str) -> Done {
        let (_, at) = AT.iter().find(|(name, _)| *name == host).unwrap();
        let mut ssh = Command::new("ssh");
        ssh.args(["-F", self.lab.folder.join("ssh_config").to_str().unwrap()])
            .args(["-o", &format!("HostName={at}"), "-o", "BatchMode=yes"])
            .args(["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"])
            .args(["-o", "LogLevel=ERROR", "-l", "root", host, command]);
        Done::of(&mut ssh)
    }

    fn command(&self, args: &[&str]) -> Command {
        let mut command = self.lab.command(args);
        command.env("ZOISITE_SSH_CONFIG", &self.config);
        command
    }

    fn zoisite(&self, args: &[&str]) -> Done {
        Done::of(&mut self.command(args))
    }

    /// Stages at which hosts stop one, by host, and what is said of it.
    fn stops(&self, status: i32) -> Value {
        let said = self.zoisite(&["login", "--json"]).ended(status).json();
        let mut stops = serde_json::Map::new();
        for host in said["hosts"].as_array().unwrap() {
            let stopped = host["stopped"].as_object().cloned().map_or(Value::Null, Value::Object);
            stops.insert(host["host"].as_str().unwrap().to_owned(), stopped);
        }
        Value::Object(stops)
    }

    fn refused_passwords(&self, host: &str) -> String {
        let said =
            self.root(host, "journalctl -u ssh -o cat --no-pager | grep -c 'Failed password'");
        said.stdout.trim().to_owned()
    }
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn hosts_as_they_come_are_opened_by_one_command_and_closed_again() {
    let bare = Bare::new();
    // Keys that nobody accepted.
    let stops = bare.stops(3);
    assert_eq!(stops["heron"]["stage"], "host-key", "{stops:#}");
    let _ =
        bare.zoisite(&["login", "setup"]).ended(4).complains("not accepted, and nothing was done");
    assert!(!bare.lab.place.path("known_hosts").exists());

    // They are shown; then the password is wrong: it is tried on one host, once.
    let mut terminal = Terminal::of(&bare.command(&["login", "setup"]));
    terminal.until("Is each of these keys the host's own?");
    assert!(terminal.shown().contains("SHA256:"), "{}", terminal.shown());
    terminal.press("y\n");
    // The host behind another one shows its key when that one is known.
    terminal.until_times("Is each of these keys the host's own?", 2);
    terminal.press("y\n");
    terminal.until("password on heron, egret, ibis");
    terminal.press("low-tide\n");
    assert_eq!(terminal.status(), 3, "{}", terminal.shown());
    assert_eq!(bare.refused_passwords("heron"), "1");
    assert_eq!(bare.refused_passwords("egret"), "0");
    let stops = bare.stops(3);
    assert_eq!(stops["heron"]["stage"], "login", "{stops:#}");
    assert_eq!(stops["egret"]["stage"], "root", "{stops:#}");
    let cause = stops["egret"]["trouble"]["cause"].as_str().unwrap();
    assert!(cause.contains("/etc/sudoers.d/zz-staff"), "{cause}");

    // The right one. What is printed to be done is what is typed.
    let fix = stops["egret"]["trouble"]["fix"].as_str().unwrap();
    assert!(fix.starts_with("zoisite login setup egret "), "{fix}");
    let mut terminal = Terminal::of(&bare.command(&["login", "setup", "egret", "heron"]));
    terminal.until("password on ");
    terminal.press("high-tide\n");
    assert_eq!(terminal.status(), 0, "{}", terminal.shown());
    assert!(!terminal.shown().contains("high-tide"));
    let mut terminal = Terminal::of(&bare.command(&["login", "setup"]));
    terminal.until("password on ibis");
    terminal.press("high-tide\n");
    assert_eq!(terminal.status(), 0, "{}", terminal.shown());
    let said = bare.zoisite(&["login"]).ended(0).says("all 3 hosts let you in, as root");
    assert!(said.stdout.contains("keeper"), "{}", said.stdout);
    // Whoever is in already is left alone.
    let _ = bare.zoisite(&["login", "setup"]).ended(0).says("There was nothing to open.");
    assert_eq!(bare.root("heron", "wc -l </home/warden/.ssh/authorized_keys").stdout.trim(), "1");
    let _ = bare.root("heron", "chmod 0440 /etc/sudoers.d/sudo; visudo -c").ended(0);
    // The password is nowhere.
    for (host, _) in AT {
        let found = bare.root(host, "journalctl --no-pager | grep -c high-tide; grep -rls high-tide /etc /var/lib /home /root /run");
        assert_eq!(found.stdout.trim(), "0", "{host}: {found:?}");
    }
    let found =
        Command::new("grep").args(["-rla", "high-tide"]).arg(bare.lab.place.folder()).output();
    assert_eq!(String::from_utf8_lossy(&found.unwrap().stdout), "");

    // A host that shows another key than before: refused, and accepted on purpose by what is printed.
    let _ = bare.root("egret", "rm /etc/ssh/ssh_host_ed25519_key* && ssh-keygen -q -t ed25519 -N '' -f /etc/ssh/ssh_host_ed25519_key && systemctl restart ssh");
    let stops = bare.stops(4);
    assert_eq!(stops["egret"]["stage"], "host-key", "{stops:#}");
    let fix = stops["egret"]["trouble"]["fix"].as_str().unwrap();
    let (_, typed) = fix.split_once("accept the new one: ").unwrap();
    let _ = Done::of(Command::new("sh").args(["-c", typed])).ended(0);
    let _ = bare.zoisite(&["login", "setup", "egret", "--accept-new"]).ended(0);

    // What was placed is taken back, and nothing else.
    let _ =
        bare.zoisite(&["login", "setup", "--undo", "heron", "ibis"]).ended(0).says("heron, ibis");
    let stops = bare.stops(3);
    assert_eq!(stops["heron"]["stage"], "login", "{stops:#}");
    assert_eq!(stops["ibis"]["stage"], "login", "{stops:#}");
    assert_eq!(stops["egret"], Value::Null, "{stops:#}");
    let left = bare.root("heron", "ls /etc/sudoers.d; cat /home/warden/.ssh/authorized_keys");
    assert!(!left.stdout.contains("zoisite"), "{left:?}");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn what_stops_one_is_told_apart_and_gone_once_the_printed_fix_was_typed() {
    let lab = Lab::of("compact", None, 3);
    let root = |host: &str, command: &str| {
        let mut ssh = Command::new("ssh");
        ssh.args(["-F", lab.folder.join("ssh_config").to_str().unwrap(), "-l", "root"])
            .args([host, command]);
        Done::of(&mut ssh)
    };
    let common = "set -e; cat >/root/entry; mkdir -p -m 0700 /root/.ssh; \
         cp /home/warden/.ssh/authorized_keys /root/.ssh/; chown -R root:root /root/.ssh; \
         echo PerSourcePenalties no >/etc/ssh/sshd_config.d/site.conf; systemctl restart ssh; \
         chpasswd </root/entry; rm /root/entry /etc/sudoers.d/warden; ";
    for (host, own) in [
        // Its /etc cannot be written. At another port something greets as SSH does, and closes.
        (
            "heron",
            "echo \"warden ALL=(ALL:ALL) ALL\" >/etc/sudoers.d/warden; \
             printf \"[Socket]\\nListenStream=2200\\nAccept=yes\\n\" >/etc/systemd/system/greeter.socket; \
             printf \"[Service]\\nExecStart=/usr/bin/printf SSH-2.0-greeter\\\\\\\\n\\nStandardOutput=socket\\n\" >/etc/systemd/system/greeter@.service; \
             systemctl daemon-reload; systemctl start greeter.socket; \
             mount --bind /etc /etc; mount -o remount,ro,bind /etc",
        ),
        // Its rules are in one file, which includes no folder.
        (
            "egret",
            "sed -i /includedir/d /etc/sudoers; echo \"warden ALL=(ALL:ALL) ALL\" >>/etc/sudoers",
        ),
        // A clone of that one.
        ("ibis", "echo \"warden ALL=(ALL:ALL) NOPASSWD: ALL\" >/etc/sudoers.d/warden"),
    ] {
        let _ = lab.on_with(host, &format!("{common}{own}"), "warden:high-tide\n").ended(0);
    }
    let copied = root("egret", "cat /etc/machine-id /etc/ssh/ssh_host_ed25519_key.pub").ended(0);
    let (id, key) = copied.stdout.split_once('\n').unwrap();
    let _ = root(
        "ibis",
        &format!("echo {id} >/etc/machine-id; echo '{key}' >/etc/ssh/ssh_host_rsa_key.pub"),
    )
    .ended(0);
    let file = lab.place.read("zoisite.toml").replace(
        "[hosts]\n",
        "[hosts]\nplover = { address = \"10.77.0.98\", login = { address = \"10.77.0.11\", port = 2200 } }\n\
         sandpiper = \"10.77.0.99\"\n",
    );
    lab.place.write("zoisite.toml", file);
    let stops = |status: i32| {
        let said = lab.zoisite(&["login", "--json"]).ended(status).json();
        let hosts = said["hosts"].as_array().unwrap().iter();
        hosts
            .map(|host| (host["host"].as_str().unwrap().to_owned(), host["stopped"].clone()))
            .collect::<std::collections::BTreeMap<String, Value>>()
    };
    let open = |hosts: &[&str], status: i32| {
        let mut terminal = Terminal::of(&lab.command(&[&["login", "setup"][..], hosts].concat()));
        terminal.until("password on ");
        terminal.press("high-tide\n");
        assert_eq!(terminal.status(), status, "{}", terminal.shown());
        terminal.shown()
    };

    let all = stops(3);
    for (host, stage, says) in [
        ("heron", "root", "a password is required"),
        ("egret", "root", "a password is required"),
        ("plover", "server", "closes the connection"),
        ("sandpiper", "route", "No route to host"),
    ] {
        assert_eq!(all[host]["stage"], stage, "{host}: {:#}", all[host]);
        let trouble = all[host]["trouble"].to_string();
        assert!(trouble.contains(says), "{host}: {trouble}");
    }
    // Neither is opened, each says why, and nothing is left half done.
    let shown = open(&["heron", "egret"], 3);
    assert!(shown.contains("cannot be written: Read-only file system"), "{shown}");
    assert!(shown.contains("does not include /etc/sudoers.d"), "{shown}");
    for host in ["heron", "egret"] {
        let left =
            root(host, "ls -A /etc/sudoers.d; cat /home/warden/.ssh/authorized_keys").ended(0);
        assert!(!left.stdout.contains("zoisite") && left.stdout.lines().count() < 5, "{left:?}");
    }
    let _ = root("heron", "mount -o remount,rw,bind /etc").ended(0);
    let (_, typed) = shown.split_once("add the line '").unwrap();
    let (line, _) = typed.split_once('\'').unwrap();
    let _ = root("egret", &format!("echo '{line}' >>/etc/sudoers && visudo -c")).ended(0);
    let _ = open(&["heron", "egret"], 0);

    // What belongs to one machine alone: its id, then its keys.
    let typed = |stop: &Value| {
        let fix = stop["trouble"]["fix"].as_str().unwrap().to_owned();
        let (_, typed) = fix.split_once(" on ibis: ").unwrap();
        typed.split_once("; ").unwrap().0.to_owned()
    };
    let all = stops(3);
    assert!(all["ibis"]["trouble"].to_string().contains("the same machine id as egret"));
    let _ = root("ibis", &typed(&all["ibis"])).ended(0);
    crate::common::lab::lab("off", &["ibis"]);
    crate::common::lab::lab("on", &["ibis"]);
    let all = stops(3);
    assert!(all["ibis"]["trouble"].to_string().contains("the same SSH host keys as egret"));
    let _ = root("ibis", &typed(&all["ibis"])).ended(0);
    let all = stops(4);
    let fix = all["ibis"]["trouble"]["fix"].as_str().unwrap();
    let (_, typed) = fix.split_once("accept the new one: ").unwrap();
    let _ = Done::of(Command::new("sh").args(["-c", typed])).ended(0);
    let _ = lab.zoisite(&["login", "setup", "ibis", "--accept-new"]).ended(0);
    let all = stops(3);
    for host in MEMBERS {
        assert_eq!(all[host], Value::Null, "{host}");
    }

    // What was opened stands in the history; a run that was killed is taken back all the same.
    let _ =
        lab.zoisite(&["history"]).ended(0).says("opened 2 of 2 hosts").says("opened 0 of 2 hosts");
    let _ = lab.zoisite(&["login", "setup", "--undo"]).ended(0).says("egret, heron");
    assert_eq!(stops(3)["egret"]["stage"], "root");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_cluster_of_both_families_is_raised_as_new_writes_it_from_a_table() {
    let lab = Lab::of("compact", None, 3);
    lab.speaks_both_families();
    let mut table = String::from("name;address\n");
    for (host, last) in [("heron", 11), ("egret", 12), ("ibis", 13)] {
        let _ = lab.on(host, &format!("ip address add fd77::{last}/64 dev host0 nodad")).ended(0);
        table.push_str(&format!("{host};10.77.0.{last} fd77::{last}\n"));
    }
    lab.place.write("hosts.csv", table);
    let _ = lab.zoisite(&["new", "saltmarsh", "--table", "hosts.csv", "--force"]).ended(0);
    // The lab's hosts share two busy cores.
    let slow = "[etcd]\nsettings = { heartbeat-interval = 500, election-timeout = 5000 }";
    let file = lab.place.read("zoisite.toml").replace("[etcd]", slow);
    lab.place.write("zoisite.toml", file.replace("# user = \"warden\"", "user = \"warden\""));
    let _ = lab.zoisite(&["raise"]).ended(0).says("nodes: all Ready (3 of 3)");
    let _ = lab.zoisite(&["verify"]).ended(0).says("the cluster works");
    // Pods of the other family are reached from every host.
    let said = lab.kubectl(
        &lab.glass(),
        "https://10.77.0.11:6443",
        &["get", "pods", "-n", "kube-system", "-o", "jsonpath={.items[*].status.podIPs[1].ip}"],
    );
    let pods: Vec<&str> = said.stdout.split_whitespace().collect();
    assert!(pods.len() >= 2 && pods.iter().all(|ip| ip.starts_with("fd5a:90:")), "{said:?}");
    for host in ["heron", "egret", "ibis"] {
        for pod in &pods {
            let dial = format!("timeout 20 bash -c \"exec 3<>/dev/tcp/{pod}/1053\"");
            let _ = lab.on(host, &dial).ended(0);
        }
    }
}
