//! Getting into hosts: what ssh and sudo say is told apart, and the scripts that open a host do it whole or
//! not at all. They really run here, in a scratch folder and as whoever runs the tests.

use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use zoisite_core::cluster::HostName;
use zoisite_core::login::{
    Inside, Opened, Opening, Stage, WayIn, closing_scripts, find_clones, find_key_script,
    fingerprint, key_script, look_around, overriding_rule, read_inside, rule_script, stage_of,
};

fn host(name: &str) -> HostName {
    HostName::new(name).unwrap()
}

/// A folder of its own for each test, gone with it.
struct Scratch(PathBuf);

impl Scratch {
    fn new(name: &str) -> Self {
        let path =
            std::env::temp_dir().join(format!("zoisite-login-{name}-{}", std::process::id()));
        let _ = std::fs::remove_dir_all(&path);
        std::fs::create_dir_all(path.join("bin")).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
        Self(path)
    }

    fn program(&self, name: &str, body: &str) {
        let path = self.0.join("bin").join(name);
        std::fs::write(&path, format!("#!/bin/sh\n{body}\n")).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    }

    fn write(&self, name: &str, text: &str) {
        let path = self.0.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.0.join(name)).unwrap_or_default()
    }

    fn list(&self, name: &str) -> Vec<String> {
        let mut all: Vec<String> = std::fs::read_dir(self.0.join(name))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        all.sort();
        all
    }

    /// Runs a script with this folder in the place of its home, and of sudo's rules.
    fn run(&self, script: &str) -> String {
        let script = script.replace("/etc/sudoers", &self.0.join("sudoers").to_string_lossy());
        let path = format!("{}:{}", self.0.join("bin").display(), std::env::var("PATH").unwrap());
        let mut sh = Command::new("sh")
            .env("HOME", &self.0)
            .env("PATH", path)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut sh.stdin.take().unwrap(), script.as_bytes()).unwrap();
        String::from_utf8(sh.wait_with_output().unwrap().stdout).unwrap()
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

fn mode(path: &Path) -> u32 {
    std::fs::metadata(path).unwrap().permissions().mode() & 0o777
}

#[test]
fn words_of_ssh_tell_the_stage_at_which_it_stopped() {
    for (said, stage) in [
        ("ssh: Could not resolve hostname heron: Name or service not known", Stage::Name),
        ("ssh: connect to host 10.77.0.11 port 22: No route to host", Stage::Route),
        ("ssh: connect to host 10.77.0.11 port 22: Connection refused", Stage::Port),
        ("ssh: connect to host 10.77.0.11 port 22: Connection timed out", Stage::Port),
        ("Connection timed out during banner exchange", Stage::Server),
        ("kex_exchange_identification: Connection closed by remote host", Stage::Server),
        ("No ED25519 host key is known for heron | Host key verification failed.", Stage::HostKey),
        ("REMOTE HOST IDENTIFICATION HAS CHANGED", Stage::HostKey),
        ("warden@heron: Permission denied (publickey,password).", Stage::Login),
    ] {
        assert_eq!(stage_of(said), stage, "{said}");
    }
}

#[test]
fn stages_before_the_one_that_stopped_were_passed_and_those_after_it_are_not_known() {
    let trouble = zoisite_core::diagnosis::Trouble::new(None, "logging in", "no", Vec::new());
    let way = WayIn::stopped(&host("heron"), Stage::Login, trouble);
    assert_eq!(way.passed(Stage::HostKey), Some(true));
    assert_eq!(way.passed(Stage::Login), Some(false));
    assert_eq!(way.passed(Stage::Root), None);
}

#[test]
fn the_rule_that_overrides_is_named_by_its_file() {
    let entry = |file: &str, free: bool| {
        let options = if free { "    Options: !authenticate\n" } else { "" };
        format!("Sudoers entry: {file}\n    RunAsUsers: ALL\n{options}    Commands:\n\tALL\n")
    };
    let overridden = [
        entry("/etc/sudoers", false),
        entry("/etc/sudoers.d/10-warden", true),
        entry("/etc/sudoers.d/staff", false),
    ];
    assert_eq!(overriding_rule(&overridden.concat()).as_deref(), Some("/etc/sudoers.d/staff"));
    let well = [entry("/etc/sudoers", false), entry("/etc/sudoers.d/zz", true)];
    assert_eq!(overriding_rule(&well.concat()), None);
    assert_eq!(overriding_rule("sudo: a password is required"), None);
}

#[test]
fn clones_are_found_by_what_belongs_to_one_machine_alone() {
    let inside = |machine: &str, key: &str| Inside {
        machine: machine.into(),
        host_keys: vec![key.into()],
        systemd: true,
        ..Inside::default()
    };
    let mut ways = vec![
        WayIn::of_inside(&host("heron"), inside("a", "k1")),
        WayIn::of_inside(&host("egret"), inside("a", "k2")),
        WayIn::of_inside(&host("ibis"), inside("b", "k2")),
        WayIn::of_inside(&host("curlew"), inside("c", "k3")),
    ];
    find_clones(&mut ways);
    let answer = |i: usize| ways[i].stopped.as_ref().map(|s| (s.stage, s.trouble.answer.clone()));
    assert!(answer(0).unwrap().1.contains("the same machine id as egret"));
    assert!(answer(1).unwrap().1.contains("the same machine id as heron"));
    let (stage, why) = answer(2).unwrap();
    assert!(stage == Stage::Machine && why.contains("the same SSH host keys as egret"), "{why}");
    assert_eq!(answer(3), None);
}

#[test]
fn a_host_that_lacks_something_is_stopped_there() {
    let inside = Inside { lacks: vec!["awk".into(), "timeout".into()], ..Inside::default() };
    let way = WayIn::of_inside(&host("heron"), inside);
    let stopped = way.stopped.unwrap();
    assert!(stopped.stage == Stage::Tools && stopped.trouble.answer == "it lacks awk, timeout");
    let way = WayIn::of_inside(&host("heron"), Inside::default());
    assert_eq!(way.stopped.unwrap().stage, Stage::Systemd);
    let way = WayIn::of_inside(&host("heron"), Inside { systemd: true, ..Inside::default() });
    assert_eq!(way.stopped.unwrap().stage, Stage::Machine);
}

#[test]
fn looking_around_tells_what_is_missing_and_comes_to_its_end() {
    let scratch = Scratch::new("around");
    let text = scratch.run(&look_around());
    let inside = read_inside(&text).unwrap();
    assert_eq!(inside.lacks, [""; 0]);
    assert!(!inside.user.is_empty());
    assert_eq!(read_inside(text.trim_end().trim_end_matches("@\tend")), None, "cut");
}

#[test]
fn a_fingerprint_is_what_ssh_keygen_shows() {
    let scratch = Scratch::new("print");
    let key = scratch.0.join("key");
    let mut make = Command::new("ssh-keygen");
    make.args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).stdin(Stdio::null());
    assert!(make.status().unwrap().success());
    let shown = Command::new("ssh-keygen").arg("-lf").arg(&key).output().unwrap();
    let shown = String::from_utf8(shown.stdout).unwrap();
    let ours = fingerprint(&format!("heron {}", scratch.read("key.pub")));
    let (sum, kind) = ours.split_once(' ').unwrap();
    assert_eq!(kind, "(ssh-ed25519)");
    assert!(shown.contains(sum), "{shown} {ours}");
}

const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 warden's key";

#[test]
fn a_key_is_added_once_behind_what_is_there_and_taken_back_alone() {
    let scratch = Scratch::new("key");
    let done = |text: String| Opening::read(&text).unwrap();
    assert_eq!(done(scratch.run(&key_script(KEY))), Opening::KeyPlaced);
    assert_eq!(
        (mode(&scratch.0.join(".ssh")), mode(&scratch.0.join(".ssh/authorized_keys"))),
        (0o700, 0o600)
    );
    assert_eq!(done(scratch.run(&key_script(KEY))), Opening::KeyHad);
    assert_eq!(scratch.read(".ssh/authorized_keys"), format!("{KEY}\n"));
    // A list whose last line has no end keeps that line.
    scratch.write(".ssh/authorized_keys", "ssh-rsa AAAA other");
    assert_eq!(done(scratch.run(&key_script(KEY))), Opening::KeyPlaced);
    assert_eq!(scratch.read(".ssh/authorized_keys"), format!("ssh-rsa AAAA other\n{KEY}\n"));
    let opened = Opened { user: "warden".into(), key: Some(KEY.into()), ..Opened::default() };
    let (rule, key) = closing_scripts(&opened);
    assert_eq!(rule, None);
    assert_eq!(done(scratch.run(&key.unwrap())), Opening::Taken);
    assert_eq!(scratch.read(".ssh/authorized_keys"), "ssh-rsa AAAA other\n");
    assert_eq!(scratch.list(".ssh"), ["authorized_keys"]);
}

#[test]
fn a_home_in_which_sshd_trusts_no_key_is_named_and_gets_none() {
    let scratch = Scratch::new("home");
    std::fs::set_permissions(&scratch.0, std::fs::Permissions::from_mode(0o775)).unwrap();
    let why = Opening::read(&scratch.run(&key_script(KEY))).unwrap_err().0;
    assert!(why.contains("chmod go-w"), "{why}");
    assert_eq!(scratch.list(".").iter().filter(|name| *name == ".ssh").count(), 0);
    // Where the list cannot be written, that is said.
    std::fs::set_permissions(&scratch.0, std::fs::Permissions::from_mode(0o755)).unwrap();
    std::fs::create_dir_all(scratch.0.join(".ssh/authorized_keys")).unwrap();
    let why = Opening::read(&scratch.run(&key_script(KEY))).unwrap_err().0;
    assert!(why.contains("cannot be written"), "{why}");
}

/// A folder with sudo's rules; `sudo` and `visudo` answer as told.
fn rules(name: &str, visudo: &str, sudo: &str) -> Scratch {
    let scratch = Scratch::new(name);
    scratch.write(
        "sudoers",
        &format!("root ALL=(ALL:ALL) ALL\n@includedir {}.d\n", scratch.0.join("sudoers").display()),
    );
    scratch.write("sudoers.d/staff", "%staff ALL=(ALL:ALL) ALL\n");
    scratch.write("sudoers.d/zzz-site", "");
    scratch.program("visudo", visudo);
    scratch.program("sudo", sudo);
    scratch
}

#[test]
fn a_rule_sorts_after_every_other_one_and_is_taken_back() {
    let scratch = rules("rule", "exit 0", "exit 0");
    let Opening::Rule(file) = Opening::read(&scratch.run(&rule_script("war.den"))).unwrap() else {
        panic!("no rule")
    };
    let name = Path::new(&file).file_name().unwrap().to_str().unwrap();
    assert!(name > "zzz-site" && name.ends_with("zz-zoisite-war_den"), "{name}");
    let text = scratch.read(&format!("sudoers.d/{name}"));
    assert!(text.ends_with("\nwar.den ALL=(ALL:ALL) NOPASSWD: ALL\n"), "{text}");
    assert_eq!(mode(&scratch.0.join("sudoers.d").join(name)), 0o440);
    // Again: the same file, not another one.
    let again = Opening::read(&scratch.run(&rule_script("war.den"))).unwrap();
    assert_eq!(again, Opening::Rule(file.clone()));
    assert_eq!(scratch.list("sudoers.d").len(), 3);
    let opened = Opened { user: "war.den".into(), rule: Some(file), ..Opened::default() };
    let (rule, _) = closing_scripts(&opened);
    assert_eq!(Opening::read(&scratch.run(&rule.unwrap())).unwrap(), Opening::Taken);
    assert_eq!(scratch.list("sudoers.d"), ["staff", "zzz-site"]);
    // What somebody else placed is not taken.
    let staff = scratch.0.join("sudoers.d/staff").to_string_lossy().into_owned();
    let (rule, _) = closing_scripts(&Opened { rule: Some(staff), ..opened });
    assert!(Opening::read(&scratch.run(&rule.unwrap())).is_err());
    assert_eq!(scratch.list("sudoers.d"), ["staff", "zzz-site"]);
}

#[test]
fn what_was_begun_and_not_ended_is_found_and_taken_back() {
    let scratch = rules("begun", "exit 0", "exit 0");
    for user in ["warden", "wardens"] {
        let _ = Opening::read(&scratch.run(&rule_script(user))).unwrap();
    }
    scratch.write("sudoers.d/.zoisite-new", "half a ru");
    let look = || Opening::read(&scratch.run(&find_key_script(KEY))).unwrap();
    assert_eq!(look(), Opening::KeyLacks);
    let _ = Opening::read(&scratch.run(&key_script(KEY))).unwrap();
    assert_eq!(look(), Opening::KeyHad);
    let begun = Opened { user: "warden".into(), begun: true, ..Opened::default() };
    let (rule, key) = closing_scripts(&begun);
    assert_eq!((Opening::read(&scratch.run(&rule.unwrap())).unwrap(), key), (Opening::Taken, None));
    let left = scratch.list("sudoers.d");
    assert!(left.len() == 3 && left.iter().any(|file| file.ends_with("-wardens")), "{left:?}");
}

#[test]
fn a_rule_that_does_not_help_is_not_left_behind() {
    let refused = |scratch: &Scratch| {
        let why = Opening::read(&scratch.run(&rule_script("warden"))).unwrap_err().0;
        assert_eq!(scratch.list("sudoers.d"), ["staff", "zzz-site"], "{why}");
        why
    };
    // The folder is not included.
    let scratch = rules("included", "exit 0", "exit 0");
    scratch.write("sudoers", "root ALL=(ALL:ALL) ALL\n");
    assert!(refused(&scratch).contains("does not include"));
    // sudo's own checker finds fault.
    let scratch = rules("checker", "echo 'parse error near line 2'; exit 1", "exit 0");
    assert!(refused(&scratch).contains("parse error near line 2"));
    // Another rule overrides it.
    let sudo = "case $1 in -ll) echo '  Sudoers entry: /etc/late' ;; *) exit 1 ;; esac";
    let scratch = rules("overridden", "exit 0", sudo);
    assert!(refused(&scratch).contains("overrides it: what stands last is in /etc/late"));
    // There is no such folder.
    let scratch = rules("none", "exit 0", "exit 0");
    std::fs::remove_dir_all(scratch.0.join("sudoers.d")).unwrap();
    let why = Opening::read(&scratch.run(&rule_script("warden"))).unwrap_err().0;
    assert!(why.contains("there is no folder"), "{why}");
    // What was cut off has not been done.
    assert!(Opening::read("@\trule\t/etc/sudoers.d/x\n").is_err());
}
