//! The built program on files in a temporary folder, without hosts.

use std::os::unix::fs::PermissionsExt as _;

use crate::common::refused::Untouched;
use crate::common::{Done, Place, SALTMARSH};

#[test]
fn help_shows_commands_and_examples() {
    let place = Place::new();
    let help = place.run(&["--help"]).ended(0).says("zoisite new saltmarsh").says("Exit status");
    for command in
        ["new", "check", "pki", "files", "sequence", "raise", "status", "history", "demo"]
    {
        assert!(help.stdout.contains(&format!("\n  {command}")), "{command}: {help:?}");
        let short = place.run(&[command, "-h"]).ended(0);
        assert!(short.stdout.contains("Usage: zoisite"), "{short:?}");
    }
    let _ = place.run(&["frobnicate"]).ended(2);
}

#[test]
fn clusters_whose_files_lie_side_by_side_share_no_address_and_no_router() {
    let place = Place::saltmarsh();
    let text = place.read("zoisite.toml");
    let other = |more: &str| {
        let text = text.replace("name = \"saltmarsh\"", "name = \"reedbed\"");
        text.replace("virtual-ip = \"10.77.0.5\"\n", more)
    };
    place.write("reedbed.toml", other("virtual-ip = \"10.77.0.5\"\n"));
    let _ = place.run(&["check"]).ended(2).says("reedbed.toml) has the virtual IP 10.77.0.5 too");
    place.write("zoisite.toml", text.replace("virtual-ip =", "router-id = 77\nvirtual-ip ="));
    place.write("reedbed.toml", other("virtual-ip = \"10.77.0.6\"\nrouter-id = 77\n"));
    let _ = place.run(&["check"]).ended(0).says("has the virtual router's id 77 too");
    place.write("reedbed.toml", other("virtual-ip = \"10.77.0.6\"\nrouter-id = 78\n"));
    place.write("Cargo.toml", "[package]\nname = \"no cluster\"\n");
    let _ = place.run(&["check"]).ended(0).says("no mistakes in");
}

#[test]
fn manual_pages_and_completions_are_made() {
    let place = Place::new();
    let _ = place.run(&["manual", "--out", "man"]).ended(0);
    assert!(place.read("man/zoisite-raise.1").contains(".TH"));
    let _ = place.run(&["completions", "bash"]).ended(0).says("complete -F");
}

#[test]
fn new_writes_a_file_that_passes_check_and_is_never_overwritten_unasked() {
    let place = Place::new();
    let _ = place
        .run(&["new", "saltmarsh", "10.77.0.11-13"])
        .ended(0)
        .says("Wrote zoisite.toml with 3 hosts")
        .says("saltmarsh-1, saltmarsh-2, saltmarsh-3");
    let _ = place.run(&["check"]).ended(0);
    let before = place.read("zoisite.toml");
    let _ = place
        .run(&["new", "saltmarsh", "10.77.0.99"])
        .ended(2)
        .complains("zoisite.toml is there already");
    assert_eq!(place.read("zoisite.toml"), before);
    let _ = place.run(&["new", "saltmarsh", "10.77.0.99", "--force"]).ended(0);
    assert!(place.read("zoisite.toml").contains("10.77.0.99"));
}

#[test]
fn new_reads_addresses_from_standard_input_and_judges_all_of_them() {
    use std::io::Write as _;
    let place = Place::new();
    let mut child = place
        .command()
        .args(["new", "saltmarsh", "-", "--out", "-"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(b"heron=10.77.0.11\negret=10.77.0.12\n").unwrap();
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    assert!(String::from_utf8(output.stdout).unwrap().contains("egret = \"10.77.0.12\""));
    let _ = place
        .run(&["new", "saltmarsh", "10.77.0.999", "a=b=c", "10.77.0.1", "10.77.0.1"])
        .ended(2)
        .complains("10.77.0.999")
        .complains("a=b=c")
        .complains("stands twice");
    assert!(!place.path("zoisite.toml").exists());
}

#[test]
fn check_shows_mistakes_in_their_place_and_answers_programs() {
    let place = Place::saltmarsh();
    let _ = place.run(&["check"]).ended(0).says("1 lost").says("a /24 per node: 256 fit");
    place.write(
        "zoisite.toml",
        SALTMARSH.replace("\"ibis\"]", "\"ibsi\"]").replace("10.77.0.12\"", "10.77.0.11\""),
    );
    let _ = place
        .run(&["check"])
        .ended(2)
        .says("blocks: unknown-host")
        .says("did you mean 'ibis'?")
        .says("members = [\"heron\", \"egret\", \"ibsi\"]")
        .says("blocks: duplicate-address")
        .says("2 mistakes");
    let json = place.run(&["check", "--json"]).ended(2).json();
    let finding = json["findings"].as_array().unwrap().iter().find(|f| f["code"] == "unknown-host");
    let finding = finding.unwrap();
    assert_eq!(finding["grade"], "blocks");
    assert_eq!(finding["line"], 19);
    assert!(finding["fix"].as_str().unwrap().contains("ibis"));
    place.write("zoisite.toml", SALTMARSH);
    let json = place.run(&["check", "--json"]).ended(0).json();
    assert_eq!(
        json["tolerance"],
        serde_json::json!({"load_balancers": 1, "api": 1, "etcd": 1, "whole": 1})
    );
    assert_eq!(json["hosts"].as_array().unwrap().len(), 11);
    assert_eq!(json["hosts"][0]["roles"][0], "etcd-member");
}

#[test]
fn files_that_cannot_be_read_are_one_clear_error_each() {
    let place = Place::new();
    let _ = place.run(&["check"]).ended(2).complains("there is no cluster file zoisite.toml");
    place.write("zoisite.toml", "");
    let _ = place.run(&["check"]).ended(2).says("the cluster file is empty");
    place.write("zoisite.toml", b"[cluster]\nname = \"salt\xffmarsh\"\n");
    let _ = place.run(&["check"]).ended(2).complains("not UTF-8 text").complains("line 2");
    place.write("zoisite.toml", "#".repeat(5 << 20));
    let _ = place.run(&["check"]).ended(2).complains("larger than 4 MiB");
    place.write("zoisite.toml", &SALTMARSH[..SALTMARSH.len() / 2]);
    let _ = place.run(&["check"]).ended(2).says("blocks:");
    // Another command on a faulty file says what is wrong, and that it is the file.
    let _ = place.run(&["pki", "list"]).ended(2).complains("cannot be used as it is");
    assert!(!place.path(".zoisite").exists(), "bad input makes nothing");
}

#[test]
fn issuing_twice_issues_nothing_and_a_changed_name_only_those_it_concerns() {
    let place = Place::saltmarsh();
    let _ = place
        .run(&["pki", "issue"])
        .ended(0)
        .says("made the etcd-peer authority")
        .says("39 certificates issued")
        .complains("made your identity");
    let _ = place.run(&["pki", "issue"]).ended(0).says("nothing was issued");
    place.write("zoisite.toml", SALTMARSH.replace("10.77.0.11\"", "10.77.0.14\""));
    let json = place.run(&["pki", "issue", "--json"]).ended(0).json();
    let issued: Vec<_> =
        json["certificates"].as_array().unwrap().iter().map(|c| c["profile"].clone()).collect();
    assert_eq!(issued, ["etcd-server", "etcd-peer"]);
    let _ = place.run(&["pki", "prove"]).ended(0).says("all 66 connections");
    let json = place.run(&["pki", "list", "--json"]).ended(0).json();
    let certificates = json["certificates"].as_array().unwrap();
    assert_eq!(certificates.len(), 39);
    for key in ["profile", "host", "authority", "serial", "not_after", "sha256", "path"] {
        assert!(!certificates[0][key].is_null(), "{key}");
    }
    let all = place.run(&["pki", "list", "--all", "--json"]).ended(0).json();
    assert_eq!(
        all["certificates"].as_array().unwrap().len(),
        41,
        "replaced ones are kept on record"
    );
    let _ = place.run(&["pki", "issue", "--reissue"]).ended(0).says("39 certificates issued");
}

#[test]
fn a_name_that_changed_is_found_by_proving_before_anything_is_issued() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    place.write("zoisite.toml", SALTMARSH.replace("10.77.0.11\"", "10.77.0.14\""));
    let _ = place
        .run(&["pki", "prove"])
        .ended(3)
        .says("egret (etcd-peer) → heron (etcd-peer), reached as 10.77.0.14 port 2380: 10.77.0.14 is missing");
}

#[test]
fn nothing_secret_is_readable_by_others_or_in_clear() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    for (name, mode) in place.files() {
        let bytes = std::fs::read(place.path(&name)).unwrap();
        let holds = |needle: &[u8]| bytes.windows(needle.len()).any(|w| w == needle);
        assert!(!holds(b"PRIVATE KEY"), "{name} holds a private key in clear");
        if name.contains("identity") || name.contains("store") {
            assert_eq!(mode & 0o077, 0, "{name} has mode {mode:o}");
        }
    }
    let identity = place.path("home/.config/zoisite/identity.txt");
    std::fs::set_permissions(&identity, std::fs::Permissions::from_mode(0o644)).unwrap();
    let _ = place
        .run(&["files", "--out", "x", "--with-keys"])
        .ended(2)
        .complains("may be read by others")
        .complains("chmod 600");
    assert!(!place.path("x").exists());
}

#[test]
fn files_mirrors_hosts_and_writes_keys_only_when_asked() {
    let place = Place::saltmarsh();
    let _ = place.run(&["files", "--out", "out"]).ended(0).says("Private keys were left out");
    let config = place.read("out/heron/etc/zoisite/etcd/etcd.yaml");
    assert!(config.contains("name: heron") && config.contains("# First start only"));
    assert!(place.read("out/ibis/etc/systemd/system/zoisite-etcd.service").contains("Type=notify"));
    assert!(!place.path("out/heron/etc/zoisite/etcd/peer/tls.key").exists());
    assert!(!place.path("out/curlew/etc/zoisite/etcd").exists(), "only what its roles ask for");
    let unit = place.read("out/curlew/etc/systemd/system/zoisite-api-server.service");
    assert!(unit.contains("--etcd-servers=https://10.77.0.11:2379,"), "{unit}");
    let manager = place.read("out/curlew/etc/systemd/system/zoisite-controller-manager.service");
    assert!(!manager.contains("--cluster-signing"), "no key that signs is in the cluster");
    let load_balancer = place.read("out/jetty-a/etc/zoisite/load-balancer/haproxy.cfg");
    assert!(
        load_balancer.contains("server plover 10.77.0.22:6443 check-sni plover"),
        "{load_balancer}"
    );
    let worker = place.read("out/tern-1/etc/zoisite/network/routes");
    assert!(worker.contains("via 10.77.0.102 proto") && !worker.contains("10.77.0.101"));
    let objects = std::fs::read_dir(place.path("out/_objects")).unwrap().count();
    assert!(objects >= 9, "{objects}");
    assert!(!place.path("out/curlew/etc/zoisite/api-server/encryption.yaml").exists());
    let manifest: serde_json::Value =
        serde_json::from_str(&place.read("out/manifest.json")).unwrap();
    let key =
        manifest.as_array().unwrap().iter().find(|e| e["path"] == "/etc/zoisite/etcd/peer/tls.key");
    let key = key.unwrap();
    assert_eq!((key["owner"].as_str(), key["mode"].as_str()), (Some("zoisite-etcd"), Some("0600")));

    let _ = place
        .run(&["files", "--out", "out", "--with-keys"])
        .ended(0)
        .complains("private keys are among them");
    let mode = |name: &str| place.path(name).metadata().unwrap().permissions().mode() & 0o777;
    assert_eq!(mode("out/heron/etc/zoisite/etcd/peer/tls.key"), 0o600);
    assert_eq!(mode("out/heron/etc/zoisite"), 0o700);
    let again = place.read("out/heron/etc/zoisite/etcd/etcd.yaml");
    assert_eq!(again, config, "the same bytes every time");
    let _ = place.run(&["files", "--out", "out"]).ended(0);
    assert!(
        !place.path("out/heron/etc/zoisite/etcd/peer/tls.key").exists(),
        "keys of before are taken away"
    );

    place.write("mine/thesis.txt", "years of work");
    let _ = place.run(&["files", "--out", "mine"]).ended(2).complains("was left as it is");
    assert_eq!(place.read("mine/thesis.txt"), "years of work");
    let _ = place.run(&["files", "--out", "/proc/nowhere"]).ended(2).complains("error: ");
}

#[test]
fn a_damaged_newer_or_locked_store_is_refused_and_left_alone() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    let path = place.path(".zoisite/store.sqlite");
    let good = std::fs::read(&path).unwrap();
    place.write(".zoisite/store.sqlite", &good[..good.len() / 3]);
    let _ = place.run(&["pki", "list"]).ended(2).complains("is damaged").complains("backup");
    assert_eq!(std::fs::read(&path).unwrap().len(), good.len() / 3);

    let blocked = Place::saltmarsh();
    blocked.write(".zoisite", "a file where the folder should be");
    let _ = blocked.run(&["pki", "issue"]).ended(2).complains("making the folder").complains("fix");

    // The format stands in the header of the file (user_version, at byte 60).
    let mut newer = good.clone();
    newer[60..64].copy_from_slice(&99_u32.to_be_bytes());
    place.write(".zoisite/store.sqlite", &newer);
    let _ = place.run(&["pki", "list"]).ended(2).complains("format 99").complains("newer zoisite");

    place.write(".zoisite/store.sqlite", &good);
    place.components();
    let me = zoisite_store::LockHolder {
        user: "eve".into(),
        host: "another-desk".into(),
        pid: 1,
        started: 1,
    };
    let now = jiff::Timestamp::now();
    let later = now + jiff::SignedDuration::from_hours(1);
    let mut store = zoisite_store::SqliteRecords::open(&place.path(".zoisite")).unwrap();
    zoisite_store::Records::lock(&mut store, &me, now, later).unwrap();
    drop(store);
    let _ = place
        .run(&["raise"])
        .ended(4)
        .complains("eve on another-desk (process 1) has been at work")
        .complains("S11 one hand");
}

#[test]
fn missing_components_and_logins_that_cannot_work_are_told_with_the_fix() {
    let place = Place::saltmarsh();
    let _ = place
        .run(&["raise"])
        .ended(2)
        .complains("no components are pinned")
        .complains("zoisite components fetch");
    assert!(!place.path(".zoisite").exists(), "nothing was begun");
    place.write("components/SHA256SUMS", "garbage\n");
    let _ = place.run(&["sequence"]).ended(2).complains("line 1 of SHA256SUMS");
    place.components();
    let _ = place.run(&["sequence", "--ssh-config", "nowhere"]).ended(2).complains("/nowhere");
    let _ = place.run(&["status"]).ended(2).complains("nothing has been raised");
    let _ = place.run(&["raise", "--accept", "gull"]).ended(2).complains("has no host gull");
}

#[test]
fn every_host_that_does_not_answer_is_reported() {
    let place = Place::saltmarsh();
    // Loopback addresses on which nothing listens: refused at once, on every machine.
    let text =
        SALTMARSH.replace("10.77.0.", "127.77.0.").replace("[login]\n", "[login]\nport = 9\n");
    place.write("zoisite.toml", text);
    place.components();
    place.write("ssh", "Host *\n  StrictHostKeyChecking yes\n");
    let done = place.run(&["raise", "--ssh-config", "ssh"]).ended(1);
    // What all have in common is reported once, and every one is named.
    let done = done.complains("error: heron: logging in over ssh failed");
    assert_eq!(done.stderr.matches("error: ").count(), 1, "{done:?}");
    let all = "egret, ibis, curlew, jetty-a, jetty-b, plover, sandpiper, tern-1, tern-2, tern-3";
    let _ = done.complains(&format!("  alike     {all}\n")).complains("  fix ");
    let history = place.run(&["history", "--json"]).ended(0).json();
    assert!(history["runs"][0]["outcome"].as_str().unwrap().starts_with("failed: "));
    let _ = place.run(&["history", "2"]).ended(2).complains("there is no run 2");

    // Also of one whose quorum was proven once: there is nobody to bring back, and that is not all that is reported.
    let store = zoisite_store::SqliteRecords::open(&place.path(".zoisite")).unwrap();
    let mut state = zoisite_store::State::new(Box::new(store));
    let cluster = zoisite_core::cluster::read(&place.read("zoisite.toml")).cluster.unwrap();
    let identity = state.cluster_id().unwrap();
    let begun = zoisite_core::sequence::Begun::of(&cluster, &identity, jiff::Timestamp::now());
    let formed = Some("1f".repeat(8));
    state.put_begun(&zoisite_core::sequence::Begun { formed, ..begun }).unwrap();
    drop(state);
    let done = place.run(&["raise", "--ssh-config", "ssh"]).ended(1);
    assert_eq!(done.stderr.matches("error: ").count(), 1, "{done:?}");
    for host in ["curlew: logging in over ssh failed", "egret", "heron", "ibis", "tern-3"] {
        assert!(done.stderr.contains(host), "{host}: {done:?}");
    }
    assert!(!done.stdout.contains("✓"), "nothing was done: {done:?}");
}

#[test]
fn a_rehearsal_touches_and_stores_nothing() {
    let place = Place::saltmarsh();
    let _ = place
        .run(&["raise", "--rehearse"])
        .ended(0)
        .says("etcd quorum: healthy (3 of 3 members, led by egret)")
        .complains("heron/etcd-start")
        .complains("tern-3/admit")
        .complains("ready-tern-3")
        .complains("this was a rehearsal");
    assert_eq!(place.files(), [("zoisite.toml".to_owned(), 0o644)]);
}

#[test]
fn the_demo_goes_all_the_way_and_its_hints_work() {
    let place = Place::new();
    let done = place
        .run(&["demo", "--folder", "demo"])
        .ended(0)
        .says("all 66 connections hold")
        .says("proven  a key written through heron was read through egret and ibis")
        .says("nothing differs: there is nothing to do");
    assert!(!done.stdout.contains('\u{1b}'), "no colours where there is no terminal: {done:?}");
    let _ =
        place.run(&["--cluster", "demo/zoisite.toml", "pki", "list"]).ended(0).says("etcd-peer");
    let identity = "demo/identity.txt";
    let files = [
        "--cluster",
        "demo/zoisite.toml",
        "--identity",
        identity,
        "files",
        "--out",
        "r",
        "--with-keys",
    ];
    let _ = place.run(&files).ended(0);
    let _ =
        place.run(&["--cluster", "demo/zoisite.toml", "history"]).ended(0).says("raise, rehearsed");
}

/// Two first runs at once in a new folder: one set of authorities, which issued every leaf.
#[test]
fn two_that_issue_at_once_in_a_new_folder_do_not_destroy_the_trust() {
    for _ in 0..10 {
        let place = Place::saltmarsh();
        std::thread::scope(|scope| {
            let runs: Vec<_> =
                (0..2).map(|_| scope.spawn(|| place.run(&["pki", "issue"]))).collect();
            for run in runs {
                let done: Done = run.join().unwrap();
                assert_eq!(done.status, 0, "{done:?}");
            }
        });
        let _ = place.run(&["pki", "prove"]).ended(0).says("all 66 connections");
        let json = place.run(&["pki", "list", "--all", "--json"]).ended(0).json();
        let leaves = json["certificates"].as_array().unwrap();
        assert_eq!(leaves.len(), 39, "one set of leaves");
        let _ = place.run(&["files", "--out", "x", "--with-keys"]).ended(0);
    }
}

#[test]
fn where_it_goes_is_sure_before_anything_is_issued_or_published() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    let before = Untouched::of(&place.path(".zoisite"));
    place.write("home/.kube/config", "- no\n- config\n");
    for command in [
        &["access", "ada", "--out", "nowhere/ada.yaml"][..],
        &["access", "ada", "--out", "."],
        &["access", "ada", "--merge"],
        &["tokens", "issue", "tern-1", "--out", "nowhere/token"],
    ] {
        let _ = place.run(command).ended(2).complains("error: ");
        Untouched::of(&place.path(".zoisite")).is(&before, command[0]);
    }
    assert_eq!(place.read("home/.kube/config"), "- no\n- config\n");
    let files = place.files();
    assert!(!files.iter().any(|(name, _)| name.contains(".lock")), "{files:?}");
}

#[test]
fn an_identity_that_is_not_there_is_named() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    let _ = place
        .run(&["--identity", "gone.txt", "files", "--out", "x", "--with-keys"])
        .ended(2)
        .complains("there is no identity gone.txt")
        .complains("the one of age1");
    assert!(!place.path("gone.txt").exists(), "none is made that could open nothing");
}

#[test]
fn without_a_components_folder_what_would_be_brought_is_told() {
    let place = Place::saltmarsh();
    let text =
        SALTMARSH.replace("10.77.0.", "127.77.0.").replace("[login]\n", "[login]\nport = 9\n");
    place.write("zoisite.toml", text);
    place.write("ssh", "Host *\n  StrictHostKeyChecking yes\n");
    let done = place.run(&["sequence", "--ssh-config", "ssh"]).ended(1);
    assert!(!done.stderr.contains("no components are pinned"), "{done:?}");
    // Hosts that do not answer are what stands in the way of the quorum, not the folder.
    assert!(done.stderr.contains("logging in over ssh failed"), "{done:?}");
}

#[test]
fn a_file_with_mistakes_without_end_is_told_of_in_a_moment() {
    let place = Place::saltmarsh();
    let many: String = (0..60_000).map(|n| format!("k{n} = 1\n")).collect();
    place.write("zoisite.toml", format!("{many}{SALTMARSH}"));
    let done = place.run(&["check"]).ended(2).says("and 59900 findings more");
    assert!(done.stdout.len() < 100_000, "{}", done.stdout.len());
    // A command that cannot use it says the same.
    let done = place.run(&["pki", "list"]).ended(2).complains("cannot be used as it is");
    assert!(done.stderr.len() < 100_000, "{}", done.stderr.len());
    place.write("zoisite.toml", format!("x = \"{}\"\n{SALTMARSH}", "y".repeat(100_000)));
    let done = place.run(&["check"]).ended(2).says("unknown-key");
    assert!(done.stdout.len() < 20_000, "{}", done.stdout.len());
}

#[test]
fn a_file_brings_nothing_to_a_terminal_that_it_would_obey() {
    let place = Place::saltmarsh();
    let odd = SALTMARSH.replacen("\"saltmarsh\"", "\"salt\\u001b]0;owned\\u0007\"", 1).replacen(
        "# The saltmarsh",
        "# \u{1b}[2J\u{9b}1m",
        1,
    );
    place.write("zoisite.toml", odd);
    let done = place.run(&["check"]).ended(2);
    let text = format!("{}{}", done.stdout, done.stderr);
    assert!(!text.contains(['\u{1b}', '\u{7}', '\u{9b}']), "{text:?}");
}

/// Two programs at once on one new store: neither fails, and one set of authorities is made.
#[test]
fn a_store_is_made_once_also_when_two_begin_together() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    std::thread::scope(|scope| {
        let runs: Vec<_> = (0..4).map(|_| scope.spawn(|| place.run(&["pki", "issue"]))).collect();
        for run in runs {
            let done: Done = run.join().unwrap();
            assert_eq!(done.status, 0, "{done:?}");
        }
    });
    let json = place.run(&["pki", "list", "--all", "--json"]).ended(0).json();
    assert_eq!(json["certificates"].as_array().unwrap().len(), 39);
}

#[test]
fn tokens_access_and_proofs_need_a_cluster_and_sensible_words() {
    let place = Place::saltmarsh();
    for command in [&["tokens"][..], &["access", "ada"], &["verify"], &["status"]] {
        let _ = place.run(command).ended(2).complains("nothing has been raised");
    }
    assert_eq!(place.files().len(), 1, "nothing was made");
    let _ = place.run(&["pki", "issue"]).ended(0);
    let _ = place.run(&["tokens"]).ended(0).says("no token can be used");
    let _ = place.run(&["tokens", "--json"]).ended(0).says("\"tokens\": []");
    let _ =
        place.run(&["tokens", "revoke", "abcdef"]).ended(2).complains("there is no token abcdef");
    let _ = place.run(&["tokens", "issue", "gull"]).ended(2).complains("has no host gull");
    let _ = place.run(&["tokens", "issue"]).ended(2);
    let _ =
        place.run(&["tokens", "issue", "tern-1", "--expires", "soon"]).ended(2).complains("30m");
    let never = ["tokens", "issue", "--hosts", "5", "--expires", "3h", "--unless-good-for", "3h"];
    let _ = place.run(&never).ended(2).complains("one would be made each time");
    let _ = place
        .run(&["access", "ada", "--break-glass", "--expires", "2d"])
        .ended(2)
        .complains("a day at most");
    let _ = place.run(&["access", "ada", "--group", "system:masters"]).ended(2);
    let _ = place.run(&["access", "system:admin"]).ended(2);
    let edits = ["access", "ada", "--role", "edit"];
    let _ = place.run(&edits).ended(2).complains("--namespaces ONE,TWO, or --all-namespaces");
    let both = [&edits[..], &["--namespaces", "birds", "--all-namespaces"]].concat();
    let _ = place.run(&both).ended(2);
    let wrong = [&edits[..], &["--namespaces", "Birds"]].concat();
    let _ = place.run(&wrong).ended(2).complains("lower-case letters");
    let most = ["access", "ada", "--role", "everything", "--namespaces", "birds"];
    let _ = place.run(&most).ended(2).complains("the whole cluster");
    let _ = place.run(&["access", "sso:ada"]).ended(2).complains("--bind-only");
    let in_etcd = ["access", "ada lovelace", "--etcd", "keys"];
    let _ = place.run(&in_etcd).ended(2).complains("goes into no certificate");
    let group = ["access", "ada", "--group", "wardens", "--bind-only"];
    let _ = place.run(&group).ended(2).complains("one user or one group");
    let _ = place.run(&["access", "ada", "--break-glass", "--role", "edit"]).ended(2);
    let files = place.files();
    assert!(!files.iter().any(|(name, _)| name.contains("kube")), "{files:?}");
}

#[test]
fn manifests_of_the_site_are_read_in_order_and_faults_name_the_file() {
    let place = Place::saltmarsh();
    let text =
        place.read("zoisite.toml").replace("[network]\n", "[network]\nmanifests = \"site\"\n");
    place.write("zoisite.toml", text);
    let _ = place.run(&["files", "--out", "out"]).ended(2).complains("site");
    place.write(
        "site/20-second.yaml",
        "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: two}\n---\n",
    );
    place.write(
        "site/10-first.yaml",
        "apiVersion: v1\nkind: Namespace\nmetadata: {name: tides}\n---\napiVersion: v1\nkind: ConfigMap\nmetadata: {name: one, namespace: tides}\n",
    );
    place.write("site/notes.txt", "not a manifest");
    let _ = place.run(&["files", "--out", "out"]).ended(0);
    let mut objects: Vec<String> =
        place.files().into_iter().map(|(n, _)| n).filter(|n| n.contains("_objects/")).collect();
    objects.sort();
    let last: Vec<&str> =
        objects[objects.len() - 3..].iter().map(|name| name.rsplit_once('-').unwrap().1).collect();
    assert_eq!(last, ["tides.yaml", "one.yaml", "two.yaml"], "{objects:?}");
    // What the cluster file says stands in them by its name.
    place.write(
        "site/20-second.yaml",
        "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: two}\ndata: {at: <zoisite:endpoint>}\n",
    );
    let _ = place.run(&["files", "--out", "out"]).ended(0);
    let two = objects.iter().find(|name| name.ends_with("-two.yaml")).unwrap();
    assert!(place.read(two).contains("api.saltmarsh.example:6443"), "{}", place.read(two));
    for (broken, says) in [
        ("kind: [", "is not YAML"),
        ("kind: Pod\n", "has no apiVersion"),
        ("kind: Pod\nspec: <zoisite:wings>\n", "there is no <zoisite:wings>"),
        ("kind: Pod\nspec: <zoisite:service-addresses>\n", "the cluster file says nothing for"),
    ] {
        place.write("site/30-broken.yaml", broken);
        let _ = place
            .run(&["files", "--out", "out"])
            .ended(2)
            .complains("30-broken.yaml")
            .complains(says);
    }
}

#[test]
fn a_program_that_watches_is_told_every_event_and_the_journal_holds_the_same() {
    let place = Place::saltmarsh();
    place.components();
    let done =
        place.run(&["raise", "--rehearse", "--stage", "stage", "--events", "--json"]).ended(0);
    let steps = done.json()["steps"].as_u64().unwrap() as usize;
    let lines: Vec<serde_json::Value> = done
        .stderr
        .lines()
        // Notes stand between them.
        .filter(|line| line.starts_with('{'))
        .map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {line}")))
        .collect();
    // The run itself begins and ends; in between stand its stages and their steps.
    let (first, last) = (&lines[0], &lines[lines.len() - 1]);
    assert_eq!((&first["is"], &last["is"]), (&"begun".into(), &"ended".into()), "{lines:?}");
    assert_eq!(first["run"], last["run"]);
    let lines = &lines[1..lines.len() - 1];
    assert!(lines.iter().all(|line| line["step"].is_string()), "{lines:?}");
    let of = |kind: &str| {
        lines.iter().filter(|line| line["is"] == kind && line["step"] != "stage").count()
    };
    assert_eq!((of("begun"), of("done"), of("failed")), (steps, steps, 0));
    let store = zoisite_store::SqliteRecords::open(&place.path("stage/store")).unwrap();
    let state = zoisite_store::State::new(Box::new(store));
    let run = state.runs().unwrap().iter().map(|run| run.generation).max().unwrap();
    let kept = state.events(run).unwrap();
    let kept: Vec<serde_json::Value> =
        kept.iter().filter_map(|line| serde_json::from_str(&line.event).ok()).collect();
    assert!(lines.iter().all(|line| kept.contains(line)), "{kept:?}");
}

#[test]
fn taking_back_wants_hosts_that_exist_and_a_word_from_somebody() {
    let place = Place::saltmarsh();
    let _ = place.run(&["uninstall"]).ended(2).complains("<HOST>");
    let _ = place.run(&["uninstall", "gull"]).ended(2).complains("no host gull");
    let _ = place.run(&["uninstall", "tern-1", "--whole-cluster"]).ended(2);
    for words in [&["tern-1", "--wipe"][..], &["--whole-cluster", "--forget"]] {
        let _ = place.run(&[&["uninstall"], words].concat()).ended(2);
    }
    // Nobody answers (loopback addresses on which nothing listens): told host by host, and nothing is said to be back.
    let text =
        SALTMARSH.replace("10.77.0.", "127.77.0.").replace("[login]\n", "[login]\nport = 9\n");
    place.write("zoisite.toml", text);
    let done = place.run(&["uninstall", "tern-1", "tern-2", "--yes", "--events"]).ended(1);
    assert!(!done.stdout.contains("Took back"), "{done:?}");
    let done = done.complains("tern-1: ").complains("  alike     tern-2\n");
    // A program that watches is told of this run as of any other.
    let _ = done
        .complains("\"is\":\"begun\",\"command\":\"uninstall tern-1, tern-2\"}")
        .complains("\"is\":\"ended\",\"outcome\":\"took back 0 of 2 hosts\"}");
}
