//! Hosts as sites have them, on real OpenSSH and sudo: shells, bounds, jump hosts, terminals, passwords.

use std::process::{Command, Stdio};

use crate::common::clusters::ONE;
use crate::common::lab::{Lab, lab, lab_root};
use crate::common::terminal::{CTRL_C, Terminal};
use crate::common::waits::until;

/// A host's own public key.
fn key_of(lab: &Lab, host: &str) -> String {
    let path = lab_root(lab, host).join("etc/ssh/ssh_host_ed25519_key.pub");
    let text = std::fs::read_to_string(path).unwrap();
    text.split(' ').take(2).collect::<Vec<_>>().join(" ").trim().to_owned()
}

/// The person's own configuration of a site, in the place of the lab's: its path.
fn configuration(lab: &Lab, own: &str) -> String {
    let known: String = ["heron", "egret", "ibis"]
        .iter()
        .map(|host| format!("{host} {}\n", key_of(lab, host)))
        .collect();
    lab.place.write("known_hosts", known);
    let (folder, place) = (lab.folder.display(), lab.place.folder().display());
    let text = format!(
        "{own}Host *\n  User warden\n  IdentityFile {folder}/key\n  IdentitiesOnly yes\n  \
         UserKnownHostsFile {place}/known_hosts\n  GlobalKnownHostsFile /dev/null\n  \
         StrictHostKeyChecking yes\n"
    );
    lab.place.write("ssh_config", text);
    lab.place.path("ssh_config").to_str().unwrap().to_owned()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn hosts_of_odd_sites_are_raised_like_others() {
    let lab_ = Lab::of("compact", Some("etcd"), 3);
    // One reached by the person's own HostName over IPv6, with one session at a time, no forwarding, csh, and a
    // shell that greets.
    lab_.speaks_both_families();
    let _ = lab_
        .on(
            "heron",
            "ip address add fd77::11/64 dev host0 nodad; usermod -s /bin/csh warden; \
             echo \"echo Welcome to heron\" >/home/warden/.cshrc; \
             printf \"MaxSessions 1\\nAllowTcpForwarding no\\n\" >/etc/ssh/sshd_config.d/site.conf; \
             systemctl restart ssh",
        )
        .ended(0);
    // One whose sudo wants a terminal, with fish; it leads to the third one.
    let _ = lab_
        .on(
            "egret",
            "usermod -s /usr/bin/fish warden; echo \"Defaults requiretty\" >/etc/sudoers.d/00-tty",
        )
        .ended(0);
    // One where root logs in and there is no sudo, and sshd forwards nothing: bash passes it on.
    let _ = lab_
        .on(
            "ibis",
            "mkdir -p -m 0700 /root/.ssh; cp /home/warden/.ssh/authorized_keys /root/.ssh/; \
             chown -R root:root /root/.ssh; echo \"AllowTcpForwarding no\" >/etc/ssh/sshd_config.d/site.conf; \
             systemctl restart ssh; mv /usr/bin/sudo /usr/bin/sudo.away",
        )
        .ended(0);
    // The file names no user, so that the person's configuration does.
    let file = lab_.place.read("zoisite.toml").replace("user = \"warden\"", "");
    lab_.place.write("zoisite.toml", file);
    let config = configuration(
        &lab_,
        "Host heron\n  HostName fd77::11\nHost egret\n  HostName 10.77.0.12\n\
         Host ibis\n  User root\n  ProxyJump egret\n",
    );
    let zoisite = |args: &[&str]| {
        crate::common::Done::of(lab_.command(args).env("ZOISITE_SSH_CONFIG", &config))
    };
    let _ = zoisite(&["raise"]).ended(0).says("heron was read through egret and ibis");
    let _ = zoisite(&["raise"]).ended(0).says("nothing differs on 3 hosts");
    let status = zoisite(&["status", "--json"]).ended(0).json();
    assert_eq!(status["healthy"], 3, "{status:#}");

    // A host whose key nobody accepted: what is printed to be done is done, and works.
    let jump = key_of(&lab_, "egret");
    lab_.place.write("known_hosts", format!("egret {jump}\n10.77.0.12 {jump}\n"));
    let done = zoisite(&["raise"]).ended(1);
    let mut accepted = 0;
    for line in done.stderr.lines() {
        let Some((_, by_hand)) = line.split_once("accept it: ") else { continue };
        let words: Vec<&str> = by_hand.split_whitespace().collect();
        let accepting = Command::new(words[0])
            .args(["-o", "StrictHostKeyChecking=accept-new"])
            .args(&words[1..])
            .arg("true")
            .stdin(Stdio::null())
            .status()
            .unwrap();
        assert!(accepting.success(), "{by_hand}");
        accepted += 1;
    }
    assert_eq!(accepted, 2, "{done:?}");
    let _ = zoisite(&["raise"]).ended(0).says("nothing differs on 3 hosts");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_password_for_sudo_is_asked_once_and_seen_by_nobody() {
    let lab_ = Lab::of("compact", Some("etcd"), 3);
    for host in ["heron", "ibis"] {
        let _ = lab_.on_with(host, "chpasswd", "warden:high-tide\n").ended(0);
        let _ = lab_.on(host, "echo \"warden ALL=(ALL) ALL\" >/etc/sudoers.d/warden").ended(0);
    }
    let _ = lab_
        .zoisite(&["raise"])
        .ended(1)
        .complains("heron: looking at the host failed")
        .complains("sudo asks for a password")
        .complains("--ask-sudo");
    // The wrong one is reported before anything else is sent there.
    let mut terminal = Terminal::of(&lab_.command(&["raise", "--ask-sudo"]));
    terminal.until("password for sudo on the hosts");
    terminal.press("low-tide\n");
    assert_eq!(terminal.status(), 1, "{}", terminal.shown());
    assert!(terminal.shown().contains("becoming root with the password given"));

    let mut terminal = Terminal::of(&lab_.command(&["raise", "--ask-sudo"]));
    terminal.until("password for sudo on the hosts");
    terminal.press("high-tide\n");
    // The first raise of a cluster says what it changes, and asks.
    terminal.until("Begin?");
    terminal.press("y\n");
    assert_eq!(terminal.status(), 0, "{}", terminal.shown());
    assert!(!terminal.shown().contains("high-tide"));
    for host in ["heron", "egret", "ibis"] {
        // From within: /run and /tmp are file systems of the host's own.
        let search = "grep -rlsa high-tide /etc /var/log /var/lib /home /root /run /tmp; true";
        assert_eq!(lab_.on(host, search).ended(0).stdout, "", "{host}");
        // And the search finds it where it stands.
        let plant = "echo high-tide >/run/planted; grep -rlsa high-tide /run; rm /run/planted";
        let planted = lab_.on(host, plant).ended(0).stdout;
        assert_eq!(planted.trim(), "/run/planted", "{host}");
    }
    for (file, _) in lab_.place.files() {
        let bytes = std::fs::read(lab_.place.path(&file)).unwrap();
        assert!(!bytes.windows(9).any(|window| window == b"high-tide"), "{file}");
    }
}

/// Tokens that let hosts in: in the cluster, and on its only host.
fn tokens(lab: &Lab) -> (String, String) {
    let words = ["get", "secrets", "-n", "kube-system", "-o", "name"];
    let secrets = lab.kubectl(&lab.glass(), &lab.api(), &words).ended(0).stdout;
    let tokens = secrets.lines().filter(|name| name.contains("bootstrap-token"));
    let there = "find /run/zoisite -name \"*token*\" | grep -c . || true";
    (tokens.collect(), lab.on("heron", there).ended(0).stdout.trim().to_owned())
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn an_interrupt_in_the_midst_of_a_join_leaves_no_token_and_breaks_nothing() {
    let lab_ = Lab::standing(&ONE);
    // Its node is to join once more.
    let lost =
        "systemctl stop zoisite-kubelet; rm -rf /var/lib/kubelet/pki /var/lib/kubelet/kubeconfig";
    let _ = lab_.on("heron", lost).ended(0);
    let _ = lab_.admin(&["delete", "node", "heron"]).ended(0);
    let mut terminal = Terminal::of(&lab_.command(&["raise"]));
    terminal.until("▸ join");
    terminal.press(CTRL_C);
    terminal.until("stopping");
    assert_eq!(terminal.status(), 1, "{}", terminal.shown());
    let shown = terminal.shown();
    assert!(shown.contains("stopped as you asked"), "{shown}");
    assert!(!shown.contains("broke off") && !shown.contains("✗"), "{shown}");
    assert_eq!(tokens(&lab_), (String::new(), "0".to_owned()), "{shown}");

    // Twice: it ends at once, and the next run puts in order what was left.
    let _ = lab_.on("heron", lost).ended(0);
    let mut terminal = Terminal::of(&lab_.command(&["raise"]));
    terminal.until("▸ admit");
    terminal.press(CTRL_C);
    terminal.press(CTRL_C);
    assert_eq!(terminal.status(), 1, "{}", terminal.shown());
    let _ = lab_.zoisite(&["raise"]).ended(0);
    assert_eq!(tokens(&lab_), (String::new(), "0".to_owned()));
    // The connection of a run that is killed ends with it, and leaves no folder here. Labs that run beside this one are
    // in networks of their own.
    let network = |process: &str| std::fs::read_link(format!("/proc/{process}/ns/net")).ok();
    let ours = || {
        let listed = Command::new("pgrep").args(["-f", "ssh -M -N -T -S /tmp/zoisite-"]).output();
        let listed = String::from_utf8(listed.unwrap().stdout).unwrap();
        let here = |process: &&str| network(process) == network("self");
        listed.lines().filter(here).map(str::to_owned).collect::<Vec<_>>()
    };
    let mut killed = lab_.command(&["verify"]);
    let mut killed = killed.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    until("a connection of ours", 60, || !ours().is_empty());
    killed.kill().unwrap();
    killed.wait().unwrap();
    until("the connection to end", 60, || ours().is_empty());
}

/// Kills the first two lives of a kubelet, each in the instant in which the API has its request.
const REAPER: &str = r#"log=/var/log/zoisite-api/audit.log
while [ ! -e $log ]; do sleep 0.1; done
for life in 1 2; do
  tail ---disable-inotify -s 0.01 -n 0 -F $log 2>/dev/null |
    grep -m 1 --line-buffered 'certificatesigningrequests","verb":"create"' >/dev/null
  pkill -9 -x kubelet && echo $life >>/run/reaped
done
"#;

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_kubelet_that_dies_as_it_asks_is_let_in_all_the_same() {
    let lab_ = Lab::standing(&ONE);
    let lost =
        "systemctl stop zoisite-kubelet; rm -rf /var/lib/kubelet/pki /var/lib/kubelet/kubeconfig";
    let _ = lab_.on("heron", lost).ended(0);
    std::fs::write(lab_root(&lab_, "heron").join("root/reaper.sh"), REAPER).unwrap();
    let _ = lab_.on("heron", "systemd-run -q --unit=reaper sh /root/reaper.sh").ended(0);
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let _ = lab_.on("heron", "cat /run/reaped").ended(0).says("1\n2");
    assert_eq!(tokens(&lab_), (String::new(), "0".to_owned()));
    lab_.must_converge();
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_host_that_reboots_or_is_cut_off_in_the_midst_is_waited_for() {
    let lab_ = Lab::of("compact", Some("etcd"), 3);
    let mut raise = lab_.begin(&["raise"]);
    // While its components are on their way.
    raise.until("\"step\":\"egret/etcd-components\"");
    lab("off", &["egret"]);
    lab("on", &["egret"]);
    // As its member is started.
    raise.until("\"step\":\"ibis/etcd-start\"");
    lab("off", &["ibis"]);
    lab("on", &["ibis"]);
    let (status, said) = raise.end();
    assert_eq!(status, 0, "{said}");
    lab_.must_converge();
}
