//! The channel to a host, over a carrier that misbehaves by order: without root, without hosts.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use sha2::Digest as _;
use zoisite_core::cluster::{Endpoint, Vrrp, read};
use zoisite_core::holdings::HostHoldings;
use zoisite_core::item::{Component, Content, File, Item, Pinned};
use zoisite_core::paths::{Link, Outcome, Service, probe_script, read_probes};
use zoisite_core::script::{Depth, Operation, Stretch};
use zoisite_core::sequence::StepOutcome;
use zoisite_reach::{Deadlines, Hosts, Reach as _};

use common::{Mishap, Opening, StandIn, hosts, name};

const SALTMARSH: &str = include_str!("../../../../demo/saltmarsh/zoisite.toml");
const QUIET: &(dyn Fn(String) + Send + Sync) = &|_| ();

fn wide() -> Deadlines {
    Deadlines { timeout: Duration::from_secs(60), ..Deadlines::default() }
}

/// What is looked at on a host.
fn holdings(host: &str) -> HostHoldings {
    let cluster = read(SALTMARSH).cluster.unwrap();
    HostHoldings::of_old_member(&cluster, (&name(host), None), "identity", None)
}

fn one(carrier: StandIn) -> (Arc<StandIn>, Hosts) {
    let carrier = Arc::new(carrier);
    let hosts = hosts(&carrier, &["heron".to_owned()], wide());
    (carrier, hosts)
}

/// A stretch that writes so many files below the stand-in's folder.
fn stretch(carrier: &StandIn, files: usize) -> Stretch {
    let file = |i: usize| {
        Operation::Put(Item::File(File {
            path: carrier.state.join(format!("file-{i}")).to_string_lossy().into_owned(),
            owner: "root",
            mode: 0o600,
            content: Content::text(format!("text {i}\n{}", "x".repeat(500))),
            restarts: None,
            reloads: false,
        }))
    };
    Stretch { host: name("heron"), operations: (0..files).map(file).collect() }
}

fn text(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap()
}

/// A component of that size, its checksum, and where it goes.
fn component(carrier: &StandIn, octets: usize) -> (Component, String, PathBuf) {
    let data: Vec<u8> = (0..octets).map(|i| (i * 31 + i / 255) as u8).collect();
    std::fs::write(carrier.state.join("component"), &data).unwrap();
    let sum = zoisite_core::pki::hex(&sha2::Sha256::digest(&data));
    let path = carrier.state.join("programs/program");
    let pinned = Pinned { name: "etcd", version: "3.6.16".parse().unwrap(), file: "etcd" };
    let path_text = path.to_string_lossy().into_owned();
    (Component { path: path_text, pinned, restarts: None }, sum, path)
}

#[tokio::test]
async fn a_connection_dropped_in_a_crowd_is_tried_again() {
    let (carrier, hosts) = one(StandIn::new());
    carrier.openings.lock().unwrap().extend([Opening::Dropped; 3]);
    let seen = hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap();
    assert!(!seen.boot.is_empty(), "the script has really run");
    assert_eq!(carrier.counted.opened.load(Ordering::SeqCst), 4);
}

#[tokio::test]
async fn a_host_that_is_away_or_refuses_is_told_at_once_and_asked_once() {
    for (opening, word) in [(Opening::Away, "refused"), (Opening::Refused, "Permission denied")] {
        let (carrier, hosts) = one(StandIn::new());
        carrier.openings.lock().unwrap().push_back(opening);
        for _ in 0..2 {
            let trouble = hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap_err();
            assert!(trouble.answer.contains(word), "{trouble}");
        }
        assert_eq!(carrier.counted.opened.load(Ordering::SeqCst), 1, "{opening:?}");
    }
}

#[tokio::test]
async fn a_connection_that_is_gone_is_opened_again_when_it_is_needed() {
    let (carrier, hosts) = one(StandIn::new());
    hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap();
    carrier.cut_all();
    // It is rebooting: at first nothing answers there.
    carrier.openings.lock().unwrap().extend([Opening::Away, Opening::Away, Opening::Dropped]);
    let done = hosts.act(&stretch(&carrier, 2), QUIET).await;
    assert_eq!(done, StepOutcome::Done { changed: 2 });
    assert_eq!(carrier.counted.opened.load(Ordering::SeqCst), 5);
}

#[tokio::test]
async fn a_host_that_stays_away_ends_the_step_with_what_was_tried() {
    let carrier = Arc::new(StandIn::new());
    let short = Deadlines { timeout: Duration::from_millis(900), ..Deadlines::default() };
    let hosts = hosts(&carrier, &["heron".to_owned()], short);
    hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap();
    carrier.cut_all();
    carrier.openings.lock().unwrap().extend([Opening::Away; 50]);
    let StepOutcome::Failed(trouble) = hosts.act(&stretch(&carrier, 1), QUIET).await else {
        panic!("nobody was there");
    };
    assert!(trouble.attempted.contains("opening the connection again"), "{trouble}");
    // It is not given up for the run: once it is there again, it serves.
    carrier.openings.lock().unwrap().clear();
    assert_eq!(hosts.act(&stretch(&carrier, 1), QUIET).await, StepOutcome::Done { changed: 1 });
}

#[tokio::test]
async fn a_step_that_was_cut_is_looked_at_again_and_continued() {
    let (carrier, hosts) = one(StandIn::new());
    // Once on the way there, in the midst of the script; twice on the way back.
    carrier.order(Mishap::CutInput(3_000));
    carrier.order(Mishap::CutAfter(60));
    carrier.order(Mishap::CutAfter(150));
    let said = Mutex::new(Vec::new());
    let stretch = stretch(&carrier, 8);
    let done = hosts.act(&stretch, &|what| said.lock().unwrap().push(what)).await;
    // A script whose connection is gone runs on there, unseen, until the next one has the lock.
    assert!(matches!(done, StepOutcome::Done { .. }), "{done:?}");
    for i in 0..8 {
        assert!(text(&carrier.state.join(format!("file-{i}"))).starts_with(&format!("text {i}\n")));
    }
    let said = said.into_inner().unwrap();
    assert_eq!(said.iter().filter(|what| what.contains("broke off")).count(), 3, "{said:?}");
}

#[tokio::test]
async fn a_host_that_shuts_down_as_it_acts_is_waited_for() {
    let (carrier, hosts) = one(StandIn::new());
    // What cannot be written as long as it shuts down, which it does twice more when it is asked.
    let asked = carrier.state.join("asked");
    std::fs::create_dir(carrier.state.join("file-1")).unwrap();
    let state = carrier.state.display();
    let shutting_down = format!(
        "case $1 in is-system-running) ;; *) exit 1 ;; esac\necho once >>{state}/asked\n\
         if [ $(grep -c . {state}/asked) -gt 2 ]; then rmdir {state}/file-1 2>/dev/null; fi\necho stopping"
    );
    carrier.program("systemctl", &shutting_down);
    let said = Mutex::new(Vec::new());
    let done = hosts.act(&stretch(&carrier, 2), &|what| said.lock().unwrap().push(what)).await;
    assert!(matches!(done, StepOutcome::Done { .. }), "{done:?}");
    assert_eq!(text(&asked).lines().count(), 3);
    let said = said.into_inner().unwrap();
    assert_eq!(said.iter().filter(|what| what.contains("shuts down")).count(), 1, "{said:?}");

    // One that says that it runs has failed, at once.
    std::fs::create_dir(carrier.state.join("file-2")).unwrap();
    carrier.program("systemctl", "echo degraded");
    let StepOutcome::Failed(trouble) = hosts.act(&stretch(&carrier, 3), QUIET).await else {
        panic!("a folder stands there");
    };
    assert!(trouble.attempted.starts_with("replacing"), "{trouble}");
}

#[tokio::test]
async fn a_script_cut_on_its_way_there_does_nothing() {
    let carrier = Arc::new(StandIn::new());
    let none = Deadlines { timeout: Duration::ZERO, ..Deadlines::default() };
    let hosts = hosts(&carrier, &["heron".to_owned()], none);
    carrier.order(Mishap::CutInput(6_000));
    let StepOutcome::Failed(trouble) = hosts.act(&stretch(&carrier, 20), QUIET).await else {
        panic!("it was cut");
    };
    assert!(trouble.answer.contains("broke off"), "{trouble}");
    assert!(!carrier.state.join("file-0").exists());
}

#[tokio::test]
async fn a_copy_to_a_host_goes_on_where_it_broke_off() {
    let (carrier, hosts) = one(StandIn::new());
    let (component, sum, path) = component(&carrier, 3_000_000);
    carrier.order(Mishap::CutInput(1_200_000));
    carrier.order(Mishap::CutInput(900_000));
    let said = Mutex::new(Vec::new());
    let tell = |what: String| said.lock().unwrap().push(what);
    let done = hosts.upload(&name("heron"), &component, &sum, &tell).await;
    assert_eq!(done, StepOutcome::Done { changed: 1 }, "{:?}", said.lock().unwrap());
    assert_eq!(
        std::fs::read(&path).unwrap(),
        std::fs::read(carrier.state.join("component")).unwrap()
    );
    let sent = carrier.counted.octets_in.load(Ordering::SeqCst);
    assert!(sent < 4_000_000, "{sent} octets went there for a file of 3,000,000");
    let left: Vec<_> = std::fs::read_dir(path.parent().unwrap()).unwrap().collect();
    assert_eq!(left.len(), 1, "nothing else is left there: {left:?}");
}

#[tokio::test]
async fn a_copy_that_is_cut_before_the_host_answers_begins_again() {
    let (carrier, hosts) = one(StandIn::new());
    let (component, sum, path) = component(&carrier, 300_000);
    // In the midst of the script, and with the host's first word on its way.
    carrier.order(Mishap::CutInput(500));
    carrier.order(Mishap::CutAfter(0));
    let done = hosts.upload(&name("heron"), &component, &sum, QUIET).await;
    assert_eq!(done, StepOutcome::Done { changed: 1 });
    assert_eq!(
        std::fs::read(&path).unwrap(),
        std::fs::read(carrier.state.join("component")).unwrap()
    );
    assert_eq!(carrier.counted.opened.load(Ordering::SeqCst), 3);
}

#[tokio::test]
async fn what_an_earlier_copy_left_wrong_is_copied_again() {
    let (carrier, hosts) = one(StandIn::new());
    let (component, sum, path) = component(&carrier, 200_000);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    let left = format!("{}.zoisite-{sum}.1", path.display());
    std::fs::write(&left, vec![0; 100_000]).unwrap();
    let done = hosts.upload(&name("heron"), &component, &sum, QUIET).await;
    assert_eq!(done, StepOutcome::Done { changed: 1 });
    assert_eq!(
        std::fs::read(&path).unwrap(),
        std::fs::read(carrier.state.join("component")).unwrap()
    );
    assert!(!Path::new(&left).exists());
    // A file that is not what its checksum says is put nowhere.
    let wrong = "0".repeat(64);
    let StepOutcome::Failed(trouble) =
        hosts.upload(&name("heron"), &component, &wrong, QUIET).await
    else {
        panic!("its checksum was wrong");
    };
    assert!(trouble.answer.contains("checksum"), "{trouble}");
}

#[tokio::test]
async fn a_file_comes_from_a_host_whole_or_not_at_all() {
    let (carrier, hosts) = one(StandIn::new());
    let there = carrier.state.join("snapshot");
    let data: Vec<u8> = (0..2_000_000_u32).flat_map(|i| (i * 7).to_le_bytes()).collect();
    std::fs::write(&there, &data).unwrap();
    let into = carrier.state.join("taken");
    carrier.order(Mishap::CutAfter(3_000_000));
    carrier.order(Mishap::CutAfter(100));
    let path = there.to_string_lossy().into_owned();
    hosts.fetch(&name("heron"), &path, &into, QUIET).await.unwrap();
    assert_eq!(std::fs::read(&into).unwrap(), data);
    use std::os::unix::fs::PermissionsExt as _;
    assert_eq!(std::fs::metadata(&into).unwrap().permissions().mode() & 0o777, 0o600);
    let none = hosts.fetch(&name("heron"), "/no/such/file", &into, QUIET).await.unwrap_err();
    assert!(none.answer.contains("no such file"), "{none}");
    assert_eq!(std::fs::read(&into).unwrap(), data, "what was there is left");
}

#[tokio::test]
async fn a_host_that_hangs_is_told_by_what_hangs() {
    let carrier = Arc::new(StandIn::new());
    let short = Deadlines {
        looking: Duration::from_millis(1_500),
        acting: Duration::from_millis(1_500),
        ..wide()
    };
    let hosts = hosts(&carrier, &["heron".to_owned()], short);
    carrier.order(Mishap::Hang);
    let trouble = hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap_err();
    assert!(trouble.answer.contains("said nothing"), "{trouble}");
    assert!(trouble.fix.contains("heron hangs"), "{}", trouble.fix);
    carrier.order(Mishap::Hang);
    let outcome = hosts.act(&stretch(&carrier, 1), QUIET).await;
    assert!(
        matches!(&outcome, StepOutcome::Failed(t) if t.answer.contains("said nothing")),
        "{outcome:?}"
    );
    // One that hangs in the midst says at what.
    carrier.program("df", "exec sleep 600");
    let trouble = hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap_err();
    assert!(trouble.answer.ends_with("at: etcd"), "{trouble}");
}

#[tokio::test]
async fn what_a_login_shell_prints_is_no_answer_and_no_harm() {
    let (carrier, hosts) = one(StandIn::new());
    let noise = b"Welcome!\n\xff\xfe no text\n@ not ours\n\x1b[2Jlast without end ".to_vec();
    for _ in 0..2 {
        carrier.order(Mishap::Noise([&noise[..], b"\n"].concat()));
    }
    let seen = hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap();
    assert!(!seen.boot.is_empty());
    let done = hosts.act(&stretch(&carrier, 1), QUIET).await;
    assert_eq!(done, StepOutcome::Done { changed: 1 });
}

#[tokio::test]
async fn one_session_at_a_time_is_enough() {
    let mut carrier = StandIn::new();
    carrier.max_sessions = 1;
    let (carrier, hosts) = one(carrier);
    let holdings = holdings("heron");
    let looks = (0..6).map(|_| hosts.observe(&holdings, Depth::Quick));
    for look in futures_util::future::join_all(looks).await {
        assert!(look.is_ok(), "{look:?}");
    }
    assert_eq!(carrier.counted.sessions_peak.load(Ordering::SeqCst), 1);
    assert!(carrier.counted.refused.load(Ordering::SeqCst) > 0, "it was learnt from refusals");
}

#[tokio::test]
async fn hundreds_of_hosts_stay_within_bounds() {
    let mut carrier = StandIn::new();
    carrier.slow = Duration::from_millis(10);
    carrier.canned = Some("@\tmachine\tm\n@\tarch\tx86_64\n@\tend\n".into());
    let carrier = Arc::new(carrier);
    let names: Vec<String> = (0..500).map(|i| format!("tern-{i}")).collect();
    let hosts = Arc::new(hosts(&carrier, &names, wide()));
    let before = descriptors();
    let all_holdings: Vec<HostHoldings> = names.iter().map(|name| holdings(name)).collect();
    let peak = Arc::new(AtomicUsize::new(0));
    let watching = {
        let peak = Arc::clone(&peak);
        tokio::spawn(async move {
            loop {
                peak.fetch_max(descriptors(), Ordering::SeqCst);
                tokio::time::sleep(Duration::from_millis(2)).await;
            }
        })
    };
    let looks = all_holdings.iter().map(|holdings| hosts.observe(holdings, Depth::Quick));
    let looks = futures_util::future::join_all(looks).await;
    watching.abort();
    assert!(looks.iter().all(|look| look.as_ref().is_ok_and(|seen| seen.machine == "m")));
    let counted = &carrier.counted;
    assert!(counted.opening_peak.load(Ordering::SeqCst) <= 32, "{counted:?}");
    assert!(counted.sessions_peak.load(Ordering::SeqCst) <= 64, "{counted:?}");
    let used = peak.load(Ordering::SeqCst) - before;
    assert!(used < 600, "{used} descriptors");
}

#[tokio::test]
async fn behind_one_jump_host_fewer_are_opened_at_once_and_refusals_teach_how_many() {
    let mut carrier = StandIn::new();
    carrier.slow = Duration::from_millis(20);
    carrier.behind = Some("egret".into());
    carrier.canned = Some("@\tmachine\tm\n@\tend\n".into());
    carrier.openings.lock().unwrap().extend([Opening::Dropped; 7]);
    let carrier = Arc::new(carrier);
    let names: Vec<String> = (0..30).map(|i| format!("tern-{i}")).collect();
    let hosts = hosts(&carrier, &names, wide());
    let all_holdings: Vec<HostHoldings> = names.iter().map(|name| holdings(name)).collect();
    let looks = all_holdings.iter().map(|holdings| hosts.observe(holdings, Depth::Quick));
    assert!(futures_util::future::join_all(looks).await.iter().all(Result::is_ok));
    assert!(carrier.counted.opening_peak.load(Ordering::SeqCst) <= 8);
    // Seven were dropped: from then on one after another.
    carrier.cut_all();
    carrier.counted.opening_peak.store(0, Ordering::SeqCst);
    let looks = all_holdings.iter().map(|holdings| hosts.observe(holdings, Depth::Quick));
    assert!(futures_util::future::join_all(looks).await.iter().all(Result::is_ok));
    assert_eq!(carrier.counted.opening_peak.load(Ordering::SeqCst), 1);
}

#[tokio::test]
async fn sudo_of_another_language_is_understood() {
    let (carrier, hosts) = one(StandIn::new());
    carrier.program("id", "echo 1000");
    let words = "case ${LC_ALL:-} in\nC) echo 'sudo: a password is required' >&2 ;;\n\
                 *) echo 'sudo: Ein Passwort ist notwendig' >&2 ;;\nesac\nexit 1";
    carrier.program("sudo", words);
    let trouble = hosts.observe(&holdings("heron"), Depth::Quick).await.unwrap_err();
    assert_eq!(trouble.cause.as_deref(), Some("sudo asks for a password"), "{trouble}");
    assert!(trouble.fix.contains("--ask-sudo"), "{}", trouble.fix);
}

/// Open descriptors of this process.
fn descriptors() -> usize {
    std::fs::read_dir("/proc/self/fd").unwrap().count()
}

#[tokio::test]
async fn addresses_are_dialled_from_the_host() {
    let (_carrier, hosts) = one(StandIn::new());
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let open = listener.local_addr().unwrap();
    let closed = {
        let gone = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        gone.local_addr().unwrap()
    };
    let targets = [open, closed].map(|address| Endpoint::new(&address.to_string()).unwrap());
    let found = hosts.probe(&name("heron"), &targets).await;
    assert_eq!(found, [None, Some("Connection refused".to_owned())]);
}

#[tokio::test]
async fn a_host_tells_what_it_is_like_in_one_round_trip_and_keeps_nothing_of_it() {
    let (carrier, hosts) = one(StandIn::new());
    // Nobody but the stand-in's own programs is asked about services.
    for program in ["systemctl", "nft", "modprobe", "timedatectl", "ctr"] {
        carrier.program(program, "exit 1");
    }
    carrier.program("dd", "echo '147200 bytes (147 kB) copied, 0.128 s, 1.1 MB/s' >&2");
    carrier
        .program("ss", "echo 'tcp LISTEN 0 5 127.0.0.1:2381 0.0.0.0:* users:((\"x\",pid=1,fd=3))'");
    carrier.order(Mishap::Noise(b"Welcome to heron\r\n".to_vec()));
    let cluster = read(SALTMARSH).cluster.unwrap();
    let facts = hosts.survey(&cluster, &name("heron")).await.unwrap();
    assert!(facts.cores > 0 && facts.memory > 0 && !facts.kernel.is_empty(), "{facts:?}");
    let purposes: Vec<&str> = facts.places.iter().map(|place| place.purpose.as_str()).collect();
    assert_eq!(purposes, ["programs", "etcd", "logs", "temporary files"]);
    assert!(facts.places.iter().all(|place| place.size > 0 && place.mount.starts_with('/')));
    assert!(facts.addresses.iter().any(|address| address.net.addr().is_loopback()), "{facts:?}");
    assert_eq!(facts.listening[0].port, 2381);
    assert_eq!(facts.names.len(), cluster.hosts.len() + 1, "{:?}", facts.names);
    assert_eq!(facts.reverse.len(), cluster.hosts.len());
    // It is this machine's own clock.
    let clock = facts.clock.unwrap();
    assert!(clock.ahead.abs() <= clock.within + 5, "{clock:?}");
    let left = std::fs::read_dir("/var/lib").unwrap();
    let left = left.filter(|entry| {
        entry.as_ref().unwrap().file_name().to_string_lossy().contains("zoisite-write")
    });
    assert_eq!(left.count(), 0);
    assert_eq!(carrier.counted.sessions_peak.load(Ordering::SeqCst), 1);

    // A look that was cut is made again.
    carrier.order(Mishap::CutAfter(900));
    let again = hosts.survey(&cluster, &name("heron")).await.unwrap();
    assert_eq!(again.machine, facts.machine);
}

#[tokio::test]
async fn paths_are_dialled_for_real_and_told_apart() {
    use std::io::{BufRead as _, Read as _, Write as _};
    let (carrier, hosts) = one(StandIn::new());
    carrier.program("systemctl", "exit 1");
    // What a host would serve, here by hand: one that answers as it must, one that says something else.
    let serve = |answer: &'static str| {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let _ = stream.write_all(answer.as_bytes());
                let mut large = vec![0; 16_000];
                if stream.read_exact(&mut large).is_ok() {
                    let _ = stream.write_all(b"got 16000\n");
                    let _ = stream.write_all(&large);
                }
            }
        });
        port
    };
    let (well, other) = (serve("zoisite word\n"), serve("SSH-2.0-other\n"));
    let closed = {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        listener.local_addr().unwrap().port()
    };
    let at = "127.0.0.1".parse().unwrap();
    let paths = [
        (at, well, Some("word")),
        (at, other, Some("word")),
        (at, closed, Some("word")),
        (at, other, None),
    ];
    let script = probe_script(&name("heron"), &paths);
    let mut sh = std::process::Command::new("sh")
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    sh.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    let lines = std::io::BufReader::new(sh.stdout.take().unwrap()).lines();
    let text: String = lines.map(|line| line.unwrap() + "\n").collect();
    assert!(sh.wait().unwrap().success());
    let wanted =
        [Outcome::Open, Outcome::Other("SSH-2.0-other".into()), Outcome::Refused, Outcome::Open];
    assert_eq!(read_probes(4, &text), wanted, "{text}");

    // Where nothing can be served, that is what is reported, and nothing is dialled.
    let link = Link {
        from: name("heron"),
        to: name("heron"),
        service: Service::EtcdPeer,
        address: at,
        port: closed,
        endpoint: None,
        meshed: false,
    };
    carrier.program("systemd-run", "exit 1");
    carrier.program("ss", "exit 0");
    carrier.program("cat", "exit 0");
    carrier.program("rm", "exit 0");
    let trials = hosts.try_paths((&[link], Vrrp::Unicast), "word", &|_| ()).await;
    assert!(
        matches!(&trials[0].outcome, Outcome::Untried(why) if why.contains("timer")),
        "{trials:?}"
    );
}
