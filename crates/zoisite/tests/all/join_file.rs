//! Offline hosts: join files that are carried there, and reports that come back.

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use crate::common::lab::{Lab, lab_root};
use crate::common::waits::until;
use crate::common::{Done, Place};

/// A cluster file with an offline worker, its join file, and a folder that stands for the host's file system.
struct Carried(Place);

impl Carried {
    fn new() -> Self {
        let place = Place::saltmarsh();
        let file = place.read("zoisite.toml");
        let own = "tern-5 = { address = \"10.77.0.105\", offline = true }";
        let file = file.replace("\n\n[etcd]", &format!("\n{own}\n\n[etcd]"));
        assert!(file.contains("offline"), "{file}");
        place.write("zoisite.toml", file);
        let carried = Self(place);
        let _ = carried.zoisite(&["join-file", "write", "--inspect", "--out", "stick"]).ended(0);
        let word = carried.zoisite(&["join-file", "passphrase", "tern-5"]).ended(0).stdout;
        carried.0.write("word", word);
        carried
    }

    fn zoisite(&self, words: &[&str]) -> Done {
        Done::of(self.0.command().args(words))
    }

    /// Runs a join file as the host would.
    fn run(&self, file: &str, words: &[&str]) -> Done {
        let mut sh = Command::new("sh");
        sh.arg(self.0.path(file)).args(words).env("ZOISITE_ROOT", self.0.path("host"));
        sh.args(["--passphrase", self.0.path("word").to_str().unwrap()]);
        Done::of(&mut sh)
    }

    fn here(&self, file: &str) -> Done {
        self.run(file, &["--here", "--report", self.0.path("report").to_str().unwrap()])
    }
}

#[test]
fn a_host_tells_what_it_is_like_and_only_its_own_newest_report_counts() {
    let carried = Carried::new();
    let _ = carried.zoisite(&["survey", "tern-5"]).ended(2).complains("no report describes it yet");
    let _ = carried.here("stick/tern-5.join").ended(0).says("looks at itself");
    let first = carried.0.read("report");
    let _ = carried.zoisite(&["reports", "read", "report"]).says("tern-5").says("booted");
    let _ = carried.zoisite(&["reports", "read", "report"]).complains("was taken in before");
    let _ = carried.here("stick/tern-5.join").ended(0);
    let _ = carried.zoisite(&["reports", "read", "report"]).says("1 reported");
    // What was altered, is old, or was cut is refused, and everything that is wrong is reported at once.
    carried.0.write("old", &first);
    carried.0.write("forged", carried.0.read("report").replace("outcome looked", "outcome done"));
    carried.0.write("cut", &first[..first.len() / 2]);
    carried.0.write("other", "The tide is out.\n");
    let _ = carried
        .zoisite(&["reports", "read", "old", "forged", "cut", "other"])
        .ended(2)
        .complains("old: it is older than the last one of tern-5: number 1 after 2")
        .complains("forged: its seal does not hold")
        .complains("cut: it is cut")
        .complains("other: it is no report of a host");
    // What it is like is known as of a host that was surveyed, and judged so.
    let _ = carried.zoisite(&["survey", "tern-5"]).says("by its report of").says("interface");
    let known = carried.zoisite(&["survey", "tern-5", "--json"]).json();
    assert!(known["hosts"]["tern-5"]["cores"].as_u64().unwrap() > 0, "{known:#}");
    assert_eq!(known["hosts"]["tern-5"]["clock"], serde_json::Value::Null);
    let codes = |told: &serde_json::Value| -> Vec<String> {
        let all = told["findings"].as_array().unwrap().iter();
        let own = all.filter(|found| found["host"] == "tern-5");
        own.map(|found| found["code"].as_str().unwrap().to_owned()).collect()
    };
    // No machine that runs this has that address.
    assert!(codes(&known).contains(&"address-missing".to_owned()), "{known:#}");
    let told = carried.zoisite(&["reports", "--json"]).ended(0).json();
    assert_eq!(codes(&told), codes(&known));
    let report = &told["reports"][0]["carried"]["report"];
    assert_eq!((&report["count"], &report["outcome"]), (&2.into(), &"looked".into()), "{told:#}");
    // Another cluster's is none of this one's.
    let other = Carried::new();
    let _ = other
        .zoisite(&["reports", "read", carried.0.path("report").to_str().unwrap()])
        .ended(2)
        .complains("it is of another cluster");
}

#[test]
fn a_file_that_was_altered_cut_ended_or_is_for_another_host_does_nothing() {
    let carried = Carried::new();
    let whole = carried.0.read("stick/tern-5.join");
    let signed = "cut or altered: its signature does not hold";
    let lines = whole.lines().count();
    let altered = [
        whole.replacen("ends=", "ends=9", 1),
        whole.replacen("check_host() {\n", "check_host() {\n  return\n", 1),
        whole
            .lines()
            .take(lines - 6)
            .chain(whole.lines().skip(lines - 5))
            .fold(String::new(), |text, line| text + line + "\n"),
    ];
    for text in altered {
        assert_ne!(text, whole);
        carried.0.write("altered.join", text);
        let _ = carried.here("altered.join").ended(1).says(signed).says("nothing was done");
    }
    // Wherever it is cut, also between two functions.
    let head = whole.find("#sealed").unwrap();
    let between =
        whole[..head].match_indices("\n}\n").map(|(at, _)| at + 3).filter(|at| *at < head);
    for part in between.chain([whole.len() - 200, whole.len() / 2, head, 2_000]) {
        carried.0.write("cut.join", &whole[..part]);
        let done = carried.here("cut.join");
        assert_eq!(done.status, 2, "{part}: {done:?}");
    }
    let _ = carried
        .run("stick/tern-5.join", &[])
        .ended(1)
        .says("this join file is for tern-5, and this machine calls itself");
    carried.0.write("word", "aaaaa-bbbbb-ccccc-ddddd-eeeee\n");
    let _ = carried
        .here("stick/tern-5.join")
        .ended(1)
        .says("the passphrase does not open this join file");
    // As a person may type it.
    let word = carried.zoisite(&["join-file", "passphrase", "tern-5"]).ended(0).stdout;
    carried.0.write("word", word.trim().replace('-', " ").to_uppercase());
    let _ = carried.here("stick/tern-5.join").ended(0);
    // One that is older than what was done last is not carried out.
    carried.0.write("host/var/lib/zoisite/join/number", "9999999999999999\n");
    let _ = carried.here("stick/tern-5.join").ended(1).says("an older file is not carried out");
    fs::remove_file(carried.0.path("host/var/lib/zoisite/join/number")).unwrap();
    // Nor is one of another signer, once the host knows one.
    carried.0.write("host/var/lib/zoisite/join/signer", "0000\n");
    let _ = carried.here("stick/tern-5.join").ended(1).says("signed by somebody else");
    fs::remove_file(carried.0.path("host/var/lib/zoisite/join/signer")).unwrap();
    // A clock that is past its end, as the host sees it.
    let late = carried.0.path("late");
    fs::create_dir(&late).unwrap();
    carried.0.write(
        "late/date",
        "#!/bin/sh\ncase $* in +%s) echo 4102444800 ;; *) exec /bin/date \"$@\" ;; esac\n",
    );
    let _ = Done::of(Command::new("chmod").arg("755").arg(late.join("date"))).ended(0);
    let mut sh = Command::new("sh");
    sh.arg(carried.0.path("stick/tern-5.join")).arg("--here");
    sh.env("ZOISITE_ROOT", carried.0.path("host"));
    sh.env("PATH", format!("{}:{}", late.display(), std::env::var("PATH").unwrap()));
    let _ = Done::of(&mut sh).ended(1).says("this join file ended on");
}

/// A forged file is run by nobody who looks first: it would say of itself whatever it wants.
#[test]
fn nothing_of_a_forged_file_runs_where_it_is_proven_first() {
    let carried = Carried::new();
    let _ = carried.zoisite(&["join-file", "verifier", "--out", "verify-join"]).ended(0);
    let verify = |file: &str, words: &[&str]| {
        let mut sh = Command::new("sh");
        sh.arg(carried.0.path("verify-join")).args(words).arg(carried.0.path(file));
        sh.args(["--here", "--passphrase", carried.0.path("word").to_str().unwrap()]);
        sh.args(["--report", carried.0.path("report").to_str().unwrap()]);
        Done::of(sh.env("ZOISITE_ROOT", carried.0.path("host")))
    };
    let whole = carried.0.read("stick/tern-5.join");
    let other = Carried::new();
    let ran = carried.0.path("ran");
    let run = format!("touch {}\n", ran.display());
    let forged = |whole: &str| whole.replacen("{\n", &format!("{{\n{run}"), 1);
    let (signed, signature) = whole.split_once("#signature\n").unwrap();
    for (what, text) in [
        ("altered", forged(&whole)),
        ("another signer's", other.0.read("stick/tern-5.join")),
        ("another signer's, altered", forged(&other.0.read("stick/tern-5.join"))),
        ("cut in the signature", whole[..whole.len() - 20].to_owned()),
        ("without its signature", forged(signed)),
        ("with a forged file behind it", format!("{run}exit\n{whole}")),
        ("with commands behind it", format!("{whole}{run}")),
        ("with commands before the signature", format!("{signed}{run}#signature\n{signature}")),
        ("with two signatures", format!("{}#signature\n{signature}{whole}", forged(signed))),
        ("nothing but a signature", format!("#signature\n{signature}")),
        ("empty", String::new()),
    ] {
        carried.0.write("forged.join", text);
        for words in [&[][..], &["--only"]] {
            let done = verify("forged.join", words).ended(1);
            let _ = done.complains("cut or altered").complains("nothing of it was run");
            assert!(!ran.exists(), "{what}");
        }
    }
    // Before there was what proves it, it would have been run.
    carried.0.write("forged.join", forged(&whole));
    let _ = carried.here("forged.join").ended(1);
    assert!(ran.exists());
    fs::remove_file(&ran).unwrap();

    let _ = verify("no-such.join", &[]).ended(1).complains("cannot be read");
    let _ = verify("stick/tern-5.join", &["--only"]).ended(0);
    assert!(!carried.0.path("report").exists());
    let _ = verify("stick/tern-5.join", &[]).ended(0).says("looks at itself");
    // One of before is not run again.
    carried.0.write("host/var/lib/zoisite/join/number", "9999999999999999\n");
    let _ = verify("stick/tern-5.join", &[]).ended(1).complains("9999999999999999 was carried out");
    // The script itself, cut anywhere, runs nothing either.
    let script = carried.0.read("verify-join");
    for part in (1..script.len() - 3).step_by(97) {
        carried.0.write("verify-join", &script[..part]);
        let _ = verify("forged.join", &[]);
        let _ = verify("stick/tern-5.join", &[]);
    }
    assert_eq!(carried.0.read("host/var/lib/zoisite/join/count").trim(), "1");
    assert!(!ran.exists());
}

/// By the file's own text, without what it ends with.
#[test]
fn ready_is_what_says_so_and_not_what_tells_nothing() {
    let carried = Carried::new();
    let whole = carried.0.read("stick/tern-5.join");
    let (functions, _) = whole.split_once("\nmain \"$@\"").unwrap();
    carried.0.write("at.sh", format!("{functions}\ndir=$1\nat_stage\n}}\n"));
    let booted = "@\tstage\tbooted\tyes\tfor 9 s\n";
    for (stands, at) in [
        ("", "how far it is was not told\n"),
        (booted, "how far it is was not told, but that booted is passed\n"),
        (&format!("{booted}@\tstage\tname\tno\tnobody knows it\n"), "name: nobody knows it\n"),
        (&format!("{booted}@\tstage\tReady\tyes\tits node is Ready\n"), "Ready\n"),
        (&format!("{booted}@\tstage\tReady\topen\tnot yet\n"), "Ready: not yet\n"),
    ] {
        carried.0.write("stands", stands);
        let mut sh = Command::new("sh");
        sh.arg(carried.0.path("at.sh")).arg(carried.0.path(""));
        assert_eq!(Done::of(&mut sh).ended(0).stdout, at, "{stands}");
    }
}

#[test]
fn nothing_secret_is_for_others_to_read_and_who_is_dialled_gets_no_file() {
    let carried = Carried::new();
    let word = carried.0.read("word");
    for (file, mode) in carried.0.files() {
        let text = fs::read(carried.0.path(&file)).unwrap();
        let text = String::from_utf8_lossy(&text);
        assert!(file == "word" || !text.contains(word.trim()), "{file} holds the word");
        assert!(!file.ends_with(".join") || mode & 0o077 == 0, "{file} {mode:o}");
    }
    let _ = carried
        .zoisite(&["join-file", "write", "--inspect", "heron", "--out", "stick"])
        .ended(2)
        .complains("heron is not offline");
    let _ = carried
        .zoisite(&["join-file", "passphrase", "heron"])
        .ended(2)
        .complains("heron has no passphrase");
    for words in [&["login", "tern-5"][..], &["first-boot", "changes", "tern-5"]] {
        let _ = carried.zoisite(words).ended(2).complains("tern-5 is offline");
    }
    // Before there is a cluster nobody joins it.
    let _ = carried.zoisite(&["join-file", "write", "--out", "stick"]).complains("error:");
    // What others depend on must be dialled.
    let file = carried.0.read("zoisite.toml");
    carried.0.write(
        "zoisite.toml",
        file.replace(
            "heron = \"10.77.0.11\"",
            "heron = { address = \"10.77.0.11\", offline = true }",
        ),
    );
    let _ = carried.zoisite(&["check"]).ended(2).says("heron is offline, and etcd member");
}

#[test]
fn a_machine_is_told_its_word_at_its_first_boot_and_nobody_else_reads_it() {
    let carried = Carried::new();
    let word = carried.0.read("word").trim().to_owned();
    let table =
        "\n[first-boot]\nnetworks = { \"10.77.0.0/24\" = \"10.77.0.254\" }\nkeys = [\"ada.pub\"]\n";
    carried.0.write("zoisite.toml", carried.0.read("zoisite.toml") + table);
    let key =
        "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDtFKKmEfzcAKT1+yzGJLI4jEW4HCyT/2tKsoUyBuPGF ada";
    carried.0.write("ada.pub", key);
    let known = carried.0.path("known_hosts");
    carried.0.write("ssh_config", format!("Host *\n  UserKnownHostsFile {}\n", known.display()));
    let told = |words: &[&str]| {
        let mut command = carried.0.command();
        command.args(["first-boot", "write", "tern-5", "heron", "--out", "seeds"]).args(words);
        Done::of(command.env("ZOISITE_SSH_CONFIG", carried.0.path("ssh_config")))
    };
    let _ = told(&["--join-files", "nowhere"]).ended(2).complains("reading the join file");
    let _ = told(&["--join-from", "ftp://tern"]).ended(2).complains("https://SERVER/FOLDER");
    let _ = told(&["--join-from", "http://tern"]).ended(2).complains("over https only");
    let _ = told(&["--join-files", "stick"]).ended(0);
    let data = carried.0.read("seeds/tern-5/user-data");
    assert!(data.contains(&word) && data.contains("zoisite-join.service"), "{data}");
    assert!(data.contains("#signature") && data.contains("/var/lib/zoisite/join/signer"), "{data}");
    // What runs it at the first boot proves it first, by a key that does not come with it.
    let run = "ExecStart=/bin/sh /var/lib/zoisite/join/verify /var/lib/zoisite/join/tern-5.join";
    assert!(data.contains(run) && data.contains("BEGIN PUBLIC KEY"), "{data}");
    assert!(!carried.0.read("seeds/heron/user-data").contains("zoisite/join"));
    let _ = told(&["--join-from", "https://files.saltmarsh.example/join/"]).ended(0);
    let data = carried.0.read("seeds/tern-5/user-data");
    assert!(data.contains("https://files.saltmarsh.example/join/tern-5.join"), "{data}");
    let _ = told(&["--own-ssh-keys"]).ended(0);
    assert!(!carried.0.read("seeds/tern-5/user-data").contains(&word));
    // What is recorded of it holds none of it.
    let database = fs::read(carried.0.path(".zoisite/store.sqlite")).unwrap();
    assert!(!String::from_utf8_lossy(&database).contains(&word));
}

/// Serves a folder over TLS, with a certificate that nothing trusts yet.
fn served_over_tls(lab: &Lab) -> std::process::Child {
    let at = |file: &str| lab.place.path(file);
    let mut made = Command::new("openssl");
    made.args(["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"]);
    made.args(["-days", "2", "-subj", "/CN=files", "-addext", "subjectAltName=IP:10.77.0.254"]);
    let _ =
        Done::of(made.arg("-keyout").arg(at("web.key")).arg("-out").arg(at("web.crt"))).ended(0);
    let mut served = Command::new("openssl");
    served.args(["s_server", "-WWW", "-accept", "10.77.0.254:8443", "-cert"]).arg(at("web.crt"));
    served.arg("-key").arg(at("web.key")).current_dir(at("web"));
    served.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

/// A machine fetches its join file and its programs from web servers from its first boot on, and leaves its reports with the
/// cluster: no login is ever needed. A forged file it does not run.
fn joins_by_itself_from_its_first_boot_on(lab: &Lab) {
    let key = lab.folder.join("key.pub");
    let table = format!(
        "\n[first-boot]\nnetworks = {{ \"10.77.0.0/24\" = \"10.77.0.254\" }}\nkeys = [{key:?}]\n"
    );
    lab.place.write("zoisite.toml", lab.place.read("zoisite.toml") + &table);
    let from = "http://10.77.0.254:8081/components";
    let write =
        ["join-file", "write", "tern-2", "--like", "tern-1", "--from", from, "--out", "web"];
    let _ = lab.zoisite(&write).ended(0);
    let components = fs::canonicalize(lab.place.path("components")).unwrap();
    std::os::unix::fs::symlink(components, lab.place.path("web/components")).unwrap();
    let mut served = Command::new("busybox");
    served.args(["httpd", "-f", "-p", "10.77.0.254:8081", "-h"]).arg(lab.place.path("web"));
    let mut served = served.spawn().unwrap();
    let mut joins = served_over_tls(lab);
    let whole = lab.place.read("web/tern-2.join");
    lab.place.write("web/tern-2.join", whole.replacen("{\n", "{\ntouch /root/forged\n", 1));
    let told = [
        "first-boot",
        "write",
        "tern-2",
        "--format",
        "image",
        "--join-from",
        "https://10.77.0.254:8443",
        "--out",
        "seeds",
    ];
    let _ = lab.zoisite(&told).ended(0);
    crate::common::lab::lab(
        "seed",
        &["tern-2", lab.place.path("seeds/tern-2.iso").to_str().unwrap()],
    );
    // Its administrator lets it trust the server that has the join files.
    let root = lab_root(lab, "tern-2");
    let trusted = root.join("etc/ssl/certs/ca-certificates.crt");
    let all = fs::read_to_string(&trusted).unwrap_or_default() + &lab.place.read("web.crt");
    fs::create_dir_all(trusted.parent().unwrap()).unwrap();
    fs::write(&trusted, all).unwrap();
    let fetched = || fs::metadata(root.join("var/lib/zoisite/join/tern-2.join.new"))?.modified();
    until("a forged join file to be fetched", 450, || fetched().is_ok());
    let first = fetched().unwrap();
    until("it to be fetched again", 450, || fetched().unwrap() != first);
    assert!(!root.join("root/forged").exists());
    assert!(!root.join("var/lib/zoisite/join/tern-2.join").exists());
    lab.place.write("web/tern-2.join", whole);
    let mut asked = false;
    until("a machine that was told at its first boot to be Ready", 450, || {
        let _ = lab.zoisite(&["raise"]).ended(0);
        let _ = lab.zoisite(&["reports", "fetch"]);
        let told = lab.zoisite(&["reports", "--json"]).ended(0).json();
        let carried = &told["reports"][1]["carried"];
        let report = &carried["report"];
        // What was signed for the key that it made it fetches by itself.
        if report["outcome"] == "asked" && report["number"] == carried["number"] {
            let _ = lab.zoisite(&write).ended(0);
            asked = true;
        }
        let stages = report["stages"].as_array().cloned();
        let last = stages.and_then(|stages| stages.last().cloned()).unwrap_or_default();
        last["stage"] == "Ready" && last["passed"] == true
    });
    assert!(asked, "it made a key");
    for served in [&mut served, &mut joins] {
        served.kill().unwrap();
        served.wait().unwrap();
    }
    let _ = lab.zoisite(&["status"]).ended(0).says("tern-2 is offline: its report of");
    let _ = lab.on("tern-2", "cat /run/issue.d/zoisite.issue").ended(0).says("Ready");
    let unit = "systemctl show zoisite-join -p Result --value; ls -d /run/zoisite/join.??????";
    let _ = lab.on("tern-2", unit).ended(2).says("success");
}

/// Carries what is in a folder to a host, as a stick would.
fn carry(lab: &Lab, stick: &str) {
    let to: PathBuf = lab_root(lab, "tern-1").join("root");
    let _ = Done::of(Command::new("cp").arg("-r").arg(lab.place.path(stick)).arg(&to)).ended(0);
}

/// Brings the report back, and gives it to the program.
fn bring_back(lab: &Lab, stick: &str) -> Done {
    let report = lab_root(lab, "tern-1").join("root").join(stick).join("tern-1.report");
    fs::copy(report, lab.place.path("tern-1.report")).unwrap();
    lab.zoisite(&["reports", "read", "tern-1.report"])
}

/// Runs the join file on its host, and kills it with all that it started once it has told so many things that it does.
fn cut_after(lines: usize) -> String {
    format!(
        "setsid sh /root/stick/tern-1.join --passphrase /root/word >/root/cut 2>&1 & pid=$!; \
         until [ $(grep -c . /root/cut) -ge {lines} ]; do \
         if ! kill -0 $pid; then echo ended; cat /root/cut; exit 1; fi; sleep 0.05; done; \
         kill -0 $pid && kill -s KILL -- -$pid && echo cut in the midst of it"
    )
}

/// The host carries its join file out, and runs elsewhere let it in; what its file ended with.
fn carried_out_while_raises(lab: &Lab, end_with: i32) -> Option<i32> {
    let run = "sh /root/stick/tern-1.join --passphrase /root/word --wait 900 >/root/said 2>&1";
    let mut joins = Command::new("ssh");
    joins.arg("-F").arg(lab.folder.join("ssh_config"));
    joins.args(["tern-1", "sudo", "sh", "-c", &format!("'{run}'")]);
    let mut joins = joins.stdin(Stdio::null()).spawn().unwrap();
    let mut ended = None;
    until("tern-1 to carry out its join file (/root/said there)", 450, || {
        let _ = lab.zoisite(&["raise"]).ended(end_with);
        ended = joins.try_wait().unwrap();
        ended.is_some()
    });
    ended.and_then(|ended| ended.code())
}

fn joins_while_raises_sign(lab: &Lab) {
    let ended = carried_out_while_raises(lab, 0);
    let said = lab.on("tern-1", "cat /root/said /run/issue.d/zoisite.issue").ended(0);
    assert_eq!(ended, Some(0), "{said:?}");
    let _ = said.says("Ready");
}

/// The next stage of the replacement of the cluster's authority: it waits for the host, which is brought to it by hand.
fn brought_to_the_next_stage(lab: &Lab) {
    let replace = ["pki", "rotate", "cluster"];
    let held = lab.zoisite(&replace).ended(3);
    let _ = held.complains("no report of tern-1 says yet that it has this stage");
    let mut ended = Some(3);
    for _ in 0..2 {
        let _ = lab.zoisite(&["join-file", "write", "--out", "stick"]).ended(0);
        carry(lab, "stick");
        ended = carried_out_while_raises(lab, 3);
        // What it asks for is signed as its report is taken in.
        let _ = bring_back(lab, "stick").ended(0);
        if ended == Some(0) {
            break;
        }
    }
    assert_eq!(ended, Some(0), "{:?}", lab.on("tern-1", "cat /root/said"));
    let _ = lab.zoisite(&replace).ended(0);
}

/// A machine at home, where the others are in an office: it is offline, behind a router without an open port. Its report tells the key by which the mesh lets it in.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_worker_behind_a_router_joins_through_the_mesh_without_being_dialled() {
    let lab = Lab::with_programs("mesh-away", 2);
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.zoisite(&["mesh"]).ended(3).says("the key of tern-1 is not known yet");
    let _ = lab.zoisite(&["join-file", "write", "--like", "heron", "--out", "stick"]).ended(0);
    let word = lab.zoisite(&["join-file", "passphrase", "tern-1"]).ended(0).stdout;
    fs::write(lab_root(&lab, "tern-1").join("root/word"), word).unwrap();
    carry(&lab, "stick");
    // Nobody knows its key yet, and it says so, at its own screen too.
    let run = "sh /root/stick/tern-1.join --passphrase /root/word --wait 1";
    let alone = "mesh: none of 1 answers: do they know its key";
    // It makes its own keys besides, and asks for them to be signed.
    let _ = lab.on("tern-1", run).ended(3).says("asks for them to be signed").says(alone);
    let _ = lab.on("tern-1", "cat /run/issue.d/zoisite.issue").ended(0).says(alone);
    let read = bring_back(&lab, "stick").ended(0).says("none of 1 answers");
    assert!(!read.stdout.contains("authority"), "nobody could be asked: {read:?}");
    let _ = read.says("asks for signatures").complains("they are signed: ").complains("kube-proxy");
    let kept = "cat /var/lib/zoisite/keys/*kube-proxy*/tls.key";
    let own = lab.on("tern-1", kept).ended(0).stdout;
    assert!(own.contains("PRIVATE KEY"), "the key itself is there alone");
    let again = bring_back(&lab, "stick").ended(0);
    let _ = again.complains("taken in before");
    // Its key is known here, and others do not have it yet: what it sends is heard, and not answered.
    let knocks = lab.zoisite(&["status", "joining", "tern-1", "--listen", "20"]).ended(3);
    let _ = knocks.says("no host met it by its key").says("10.77.9.2 knocks with an unknown key");
    let _ = lab.zoisite(&["join-file", "write", "--out", "stick"]).ended(0);
    carry(&lab, "stick");

    joins_while_raises_sign(&lab);
    let stands = "cat $(find / -xdev -path /proc -prune -o -path '*kube-proxy*/tls.key' -print)";
    let stands = lab.on("tern-1", &stands.replace('\'', "\"")).ended(0).stdout;
    assert!(stands.contains(own.trim()), "it is the one that it made");
    let _ = lab.zoisite(&["reports", "fetch"]).ended(0).says("its node is Ready");
    let told = lab.zoisite(&["reports", "--json"]).ended(0).json();
    let report = &told["reports"][0]["carried"]["report"];
    assert_eq!(report["differs"], serde_json::json!([]), "{report:#}");
    let _ = lab.zoisite(&["mesh"]).ended(0).says("heron – tern-1").says("1 of 1 pair meet");
    let _ = lab.zoisite(&["verify"]).ended(0).says("tern-1 → heron");
    // The office goes on at its own addresses, and it alone has the API endpoint to move.
    let _ = lab.on("heron", "ip route get 10.99.0.101").ended(0).says("src 10.77.1.11");
    let _ = lab.on("tern-1", "ip route get 10.77.1.11").ended(0).says("src 10.99.0.101");
    let _ = lab.on("tern-1", "ip address show zoisite-mesh").ended(0).says("10.77.1.5/32");
    let _ = lab
        .on("heron", "systemctl is-active zoisite-address && ! test -e /etc/zoisite/load-balancer")
        .ended(0);
    let _ = lab.on("tern-1", "test ! -e /etc/zoisite/address").ended(0);
    let _ = lab.zoisite(&["status"]).ended(0).says("heron");
    let client = "/var/lib/kubelet/pki/kubelet-client-current.pem";
    let issuer = format!("openssl x509 -noout -issuer -in {client}");
    let before = lab.on("tern-1", &issuer).ended(0).stdout;
    for _ in 0..3 {
        brought_to_the_next_stage(&lab);
    }
    let after = lab.on("tern-1", &issuer).ended(0).stdout;
    assert!(after != before && after.contains(" 2"), "{before} {after}");
    let _ = lab.zoisite(&["status"]).ended(0).says("Ready");
    // Its key is nobody else's.
    let key = lab.on("tern-1", "cat /var/lib/zoisite/mesh/key").ended(0).stdout;
    let mut grep = Command::new("grep");
    let _ = Done::of(grep.args(["-rqF", "-e", key.trim()]).arg(lab.place.folder())).ended(1);

    // Without a mesh in the file nobody who was in it has a way in any more.
    let text = lab.place.read("zoisite.toml");
    let kept =
        text.lines().filter(|line| !line.starts_with("tern-1 ") && !line.starts_with("[mesh]"));
    let kept = kept.filter(|line| !line.starts_with("range = ") && *line != "hosts = [\"tern-1\"]");
    let kept: Vec<String> =
        kept.map(|line| line.replace(", endpoint = \"10.77.9.1:51820\"", "")).collect();
    lab.place.write("zoisite.toml", kept.join("\n"));
    let _ = lab.zoisite(&["raise"]).ended(0);
    until("the mesh to be gone", 180, || lab.on("heron", "ip link show zoisite-mesh").status != 0);
    let _ = lab.on("heron", "systemctl is-enabled zoisite-mesh.service").ended(1);
    let _ = lab.zoisite(&["raise"]).ended(0).says("nothing was done");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_worker_joins_without_being_dialled_and_is_changed_and_taken_back_by_hand() {
    let lab = Lab::of_seeded("offline", 3, "tern-2");
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab
        .zoisite(&["status", "joining", "tern-1", "--listen", "0"])
        .ended(3)
        .says("no token was made");

    // It tells what it is like.
    let write = |words: &[&str], out: &str| {
        let words = [&["join-file", "write", "tern-1"], words, &["--out", out]].concat();
        lab.zoisite(&words)
    };
    let _ = write(&["--inspect"], "look").ended(0);
    let word = lab.zoisite(&["join-file", "passphrase", "tern-1"]).ended(0).stdout;
    fs::write(lab_root(&lab, "tern-1").join("root/word"), word).unwrap();
    carry(&lab, "look");
    let _ = lab.on("tern-1", "sh /root/look/tern-1.join --passphrase /root/word").ended(0);
    let _ = bring_back(&lab, "look").ended(0).says("lets it in").says("authority");
    let _ = lab.on("tern-1", "test ! -e /etc/zoisite").ended(0);

    // It makes a key, and leaves with the cluster what it asks for it, before it has joined.
    let asks = write(&["--with-components"], "stick").ended(0);
    let _ = asks.complains("tern-1 makes its keys, and asks for them to be signed");
    carry(&lab, "stick");
    let asks = lab.on("tern-1", "sh /root/stick/tern-1.join --passphrase /root/word --wait 20");
    let _ = asks.ended(3).says("asks for them to be signed").says("is with the cluster");
    let _ = lab.zoisite(&["reports", "fetch"]).ended(0).complains("they are signed: kube-proxy");

    // It is put right and joins. Cut at some places on the way, it goes on.
    let _ = write(&["--with-components"], "stick").ended(0).says("zoisite raise signs");
    carry(&lab, "stick");
    for lines in [1, 3, 5] {
        let _ = lab.on("tern-1", &cut_after(lines)).ended(0).says("cut in the midst of it");
    }
    // Nobody has signed yet, and it says so.
    let _ = lab
        .on("tern-1", "sh /root/stick/tern-1.join --passphrase /root/word --wait 20")
        .ended(3)
        .says("signed: its request waits");
    let _ = bring_back(&lab, "stick").ended(0).says("the cluster knows its token");
    let _ = lab.zoisite(&["status", "joining", "tern-1", "--listen", "0"]).ended(3).says("waits");
    joins_while_raises_sign(&lab);
    let _ = bring_back(&lab, "stick").ended(0).says("its node is Ready").says("done");
    let told = lab.zoisite(&["reports", "--json"]).ended(0).json();
    let report = &told["reports"][0]["carried"]["report"];
    assert_eq!(report["differs"], serde_json::json!([]), "{report:#}");
    let _ = lab.zoisite(&["status"]).ended(0).says("tern-1 is offline: its report of");
    let _ = lab.zoisite(&["reports", "fetch"]).complains("was taken in before");
    let _ = lab.zoisite(&["verify"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0).says("nothing differs");
    let _ = lab.on("tern-1", "test ! -e /run/zoisite/join.token").ended(0);
    let _ = lab.on("tern-1", "ls -d /run/zoisite/join.?????? ").ended(2);
    let _ = lab.zoisite(&["tokens"]).ended(0).says("no token can be used");
    let again = lab.on("tern-1", "sh /root/stick/tern-1.join --passphrase /root/word").ended(0);
    let _ = again.says("nothing is done again");
    let _ = lab
        .on("tern-1", "sh /root/look/tern-1.join --passphrase /root/word")
        .ended(1)
        .says("older");

    // A change is another file; what is touched starts again, and no more.
    let file = lab.place.read("zoisite.toml");
    lab.place.write(
        "zoisite.toml",
        file.replace("[workers]\n", "[workers]\nkubelet = { maxPods = 42 }\n"),
    );
    let _ = lab.zoisite(&["raise"]).ended(0);
    let runtime = "systemctl show containerd -p ExecMainStartTimestampMonotonic";
    let before = lab.on("tern-1", runtime).ended(0).stdout;
    let _ = write(&[], "change").ended(0);
    carry(&lab, "change");
    let _ = lab.on("tern-1", "sh /root/change/tern-1.join --passphrase /root/word").ended(0);
    let _ = bring_back(&lab, "change").ended(0);
    assert_eq!(lab.on("tern-1", runtime).ended(0).stdout, before);
    let pods = ["get", "node", "tern-1", "-o", "jsonpath={.status.capacity.pods}"];
    until("the kubelet to take the setting", 120, || lab.admin(&pods).ended(0).stdout == "42");

    joins_by_itself_from_its_first_boot_on(&lab);
    pods_on_windows_are_reached_through_the_overlay(&lab);

    // And it is taken back the same way.
    let _ = write(&["--uninstall"], "back").ended(0);
    carry(&lab, "back");
    let _ = lab.on("tern-1", "sh /root/back/tern-1.join --passphrase /root/word").ended(0);
    let _ = lab
        .on("tern-1", "test ! -e /etc/zoisite && ! systemctl is-active -q zoisite-kubelet")
        .ended(0);
    let _ = bring_back(&lab, "back").says("done");
}

/// Where a worker runs Windows, its pods are reached through the overlay: its end is played by an interface of this machine,
/// as Windows would set it up, and its report is written here. Windows itself runs nowhere here.
fn pods_on_windows_are_reached_through_the_overlay(lab: &Lab) {
    let before = lab.place.read("zoisite.toml");
    let own = "tern-9 = { address = \"10.77.0.109\", offline = true, windows = \"2022\" }";
    let file = before
        .replace("[hosts]\n", &format!("[hosts]\n{own}\n"))
        .replace("[network]\n", "[network]\nwindows-pods = \"10.93.0.0/16\"\n")
        .replace(
            "[components]\n",
            "[components]\nruntime = \"2.1.4\"\nrunc = \"1.3.0\"\nnetwork-plugins = \"1.8.0\"\n",
        )
        .replace("sandbox = \"pause.tar\"\n", "")
        .replace("keys-made = \"on-hosts\"", "keys-made = \"here\"");
    lab.place.write("zoisite.toml", file);
    let look = ["join-file", "write", "tern-9", "--inspect", "--out", "windows"];
    let _ = lab.zoisite(&look).ended(0);
    let text = lab.place.read("windows/tern-9.ps1");
    let told = |key: &str| {
        let line = text.lines().find_map(|line| line.trim().strip_prefix(&format!("{key} = ")));
        line.unwrap().trim_matches('\'').to_owned()
    };
    let word = lab.zoisite(&["join-file", "passphrase", "tern-9"]).ended(0).stdout;
    let mac = "00:15:5d:00:00:09";
    let report = format!(
        "Zoisite report, form 1\nhost tern-9\ncluster {}\nnumber {}\ncount 1\nat {}\noutcome looked\n#-- said\n#-- stands\n\
         #-- looked\n@\tmachine\t0123456789abcdef0123456789abcdef\n@\tos\twindows 10.0.20348\n@\tarch\tx86_64\n@\tinit\twindows\n\
         @\toverlay\t{mac}\n@\tend\n#-- surveyed\n@\tos\twindows 10.0.20348\n\
         @\taddress\t2: Ethernet    inet 10.77.0.109/24 scope global\n@\tend\n#-- end\n",
        told("Id"),
        told("Number"),
        told("Made")
    );
    let hmac = |key: &str, text: &str| {
        lab.place.write("sealed", text);
        let key = format!("hexkey:{key}");
        let mut openssl = Command::new("openssl");
        openssl.args(["dgst", "-sha256", "-mac", "HMAC", "-macopt", &key]);
        let sum = Done::of(openssl.arg(lab.place.path("sealed"))).ended(0).stdout;
        sum.trim().rsplit(' ').next().unwrap().to_owned()
    };
    let plain: String = word.trim().replace('-', "");
    let plain: String = plain.bytes().map(|octet| format!("{octet:02x}")).collect();
    let seal = hmac(&hmac(&plain, "zoisite report of tern-9"), &report);
    lab.place.write("windows.report", format!("{report}seal {seal}\n"));
    let _ = lab.zoisite(&["reports", "read", "windows.report"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.on("heron", "ip route show 10.93.0.0/24").ended(0).says("dst 10.77.0.109");

    // The other end, as Windows sets it up: one entry a node, and nothing learnt.
    let pods = ["get", "pods", "-n", "kube-system", "-o", "jsonpath={.items[0].status.podIP}"];
    let pod = lab.admin(&pods).ended(0).stdout;
    let heron = "02:7a:0a:4d:00:0b";
    let net = pod.rsplit_once('.').unwrap().0;
    let script = format!(
        "set -e
        bridge=$(ip -o link show type bridge | awk -F ': ' '/zlab/ {{ print $2; exit }}')
        w=zwindows$$; ip netns add $w; trap 'ip netns delete $w' EXIT
        ip link add zwindows0 type veth peer name eth0 netns $w; ip link set zwindows0 master $bridge up
        n() {{ ip netns exec $w \"$@\"; }}
        n ip address add 10.77.0.109/24 dev eth0; n ip link set eth0 up
        n ip link add vx type vxlan id 4096 dstport 4789 local 10.77.0.109 nolearning
        n ip link set vx address {mac} up; n ip address add 10.93.0.2/24 dev vx
        n bridge fdb append {heron} dev vx dst 10.77.0.11
        n ip route add {net}.0/24 via {net}.0 dev vx onlink
        n ip neigh add {net}.0 lladdr {heron} dev vx nud permanent
        for try in 1 2 3 4 5 6 7 8 9 10; do n timeout 3 bash -c 'exec 3<>/dev/tcp/{pod}/8080' && exit 0; done; exit 1"
    );
    let _ = Done::of(Command::new("bash").args(["-c", &script])).ended(0);
    lab.place.write("zoisite.toml", before);
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.on("heron", "! ip route show 10.93.0.0/24 | grep .").ended(0);
}
