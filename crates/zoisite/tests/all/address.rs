//! The virtual IP on real hosts: held, given away, lost and found again.

use std::io::{BufRead as _, BufReader};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

use crate::common::Done;
use crate::common::clusters::THREE;
use crate::common::lab::{Lab, MEMBERS, lab};
use crate::common::waits::{patience, until};

const VIRTUAL_IP: &str = "10.77.0.5";

/// Somebody who asks at the address for as long as it lives, each time on a new connection.
struct Asker {
    stop: Arc<AtomicBool>,
    asks: JoinHandle<Answers>,
}

#[derive(Debug, Default)]
struct Answers {
    asked: usize,
    failed: usize,
    /// Those that failed once more, at once.
    failed_again: usize,
}

impl Asker {
    fn begins() -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let asks = std::thread::spawn({
            let stop = Arc::clone(&stop);
            move || {
                let mut answers = Answers::default();
                while !stop.load(Ordering::Relaxed) {
                    answers.asked += 1;
                    if !ready() {
                        answers.failed += 1;
                        answers.failed_again += usize::from(!ready());
                    }
                    std::thread::sleep(Duration::from_millis(50));
                }
                answers
            }
        });
        Self { stop, asks }
    }

    fn ends(self) -> Answers {
        self.stop.store(true, Ordering::Relaxed);
        self.asks.join().unwrap()
    }
}

/// Whether an API server that is ready answers at the address.
fn ready() -> bool {
    let mut curl = Command::new("curl");
    let url = format!("https://{VIRTUAL_IP}:6443/readyz");
    let done = curl.args(["-sk", "--connect-timeout", "2", "--max-time", "4", &url]).output();
    done.unwrap().stdout == b"ok"
}

/// Who has the address, by the hosts' own word.
fn holders(lab_: &Lab, hosts: &[&'static str]) -> Vec<&'static str> {
    let asks = format!("ip -o address show to {VIRTUAL_IP}");
    let has = |host: &&&str| lab_.on(host, &asks).stdout.contains(VIRTUAL_IP);
    hosts.iter().filter(has).copied().collect()
}

/// The one that has it, once one of these does.
fn holder(lab_: &Lab, hosts: &[&'static str]) -> &'static str {
    let mut held = None;
    until(format!("one of {hosts:?} to hold the address"), 120, || {
        match holders(lab_, hosts)[..] {
            [one] => held = Some(one),
            _ => held = None,
        }
        held.is_some()
    });
    held.unwrap()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn the_address_is_given_away_before_it_is_needed_and_taken_when_it_is_lost() {
    let lab_ = Lab::standing(&THREE);
    assert!(ready());

    // A change of all API servers, one after another: whoever asks is asked to try again at most once.
    let file = lab_.place.read("zoisite.toml");
    let changed =
        file.replace("\nendpoint = ", "\napi-server = { event-ttl = \"2h\" }\nendpoint = ");
    assert_ne!(file, changed);
    lab_.place.write("zoisite.toml", &changed);
    let asker = Asker::begins();
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let answers = asker.ends();
    assert!(answers.asked > 10 && answers.failed_again == 0, "{answers:?}");

    // Its holder loses power: another one takes it, and it stays there when the first is back.
    let first = holder(&lab_, &MEMBERS);
    lab("off", &[first]);
    let others: Vec<&'static str> = MEMBERS.into_iter().filter(|host| *host != first).collect();
    let second = holder(&lab_, &others);
    lab_.until_told(&format!("held by {second}"));
    lab("on", &[first]);
    lab_.until_well();
    assert_eq!(holders(&lab_, &MEMBERS), [second], "nobody takes it back");
    lab_.until_told(&format!("held by {second}"));

    // An API server that cannot serve gives it away, though its host and the daemon live on.
    let _ = lab_.on(second, "systemctl stop zoisite-api-server").ended(0);
    let others: Vec<&'static str> = MEMBERS.into_iter().filter(|host| *host != second).collect();
    let third = holder(&lab_, &others);
    assert!(holders(&lab_, &[second]).is_empty());
    let _ = lab_.zoisite(&["raise"]).ended(0);

    // Hosts that do not hear one another both hold it: that is said, and ends by itself.
    let deaf = MEMBERS.into_iter().find(|host| *host != third).unwrap();
    let drop = "nft -f - <<RULES\ntable inet deaf {\n chain in { type filter hook input priority 0; meta l4proto 112 drop; }\n}\nRULES";
    let _ = lab_.on(deaf, drop).ended(0);
    lab_.until_told("they do not hear one another");
    let _ = lab_.zoisite(&["status"]).ended(3);
    let _ = lab_.on(deaf, "nft delete table inet deaf").ended(0);
    let _ = holder(&lab_, &MEMBERS);
    lab_.until_well();

    // Others that would take it over have no safe way to do so.
    let balanced =
        changed.replace("[load-balancers]\n", "[load-balancers]\nhosts = [\"egret\", \"ibis\"]\n");
    lab_.place.write("zoisite.toml", balanced);
    let _ = lab_.zoisite(&["raise"]).ended(4).complains("held by the control planes");
    lab_.place.write("zoisite.toml", file);
    let _ = lab_.zoisite(&["raise"]).ended(0);
}

/// On two of three hosts that do everything load balancers stand in front, at the same port.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn load_balancers_hold_the_address_beside_api_servers_at_the_same_port() {
    let lab_ = Lab::with_programs("virtual-ip", 3);
    let file = lab_.place.read("zoisite.toml");
    let lines = "[load-balancers]\nhosts = [\"egret\", \"ibis\"]\nforward = { 80 = 30080 }\n";
    let balanced = file.replace("[load-balancers]\n", lines);
    assert_ne!(file, balanced);
    lab_.place.write("zoisite.toml", balanced);
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let first = holder(&lab_, &["egret", "ibis"]);
    let listens = format!("ss -Htlnp 'src {VIRTUAL_IP}:6443'");
    for host in ["egret", "ibis"] {
        let _ = lab_.on(host, &listens).ended(0).says("haproxy");
    }
    assert!(ready());
    // Settings of its own are taken by a reload: a watch through the address goes on, and sees what comes after.
    let (glass, server) = (lab_.glass(), format!("https://{VIRTUAL_IP}:6443"));
    let kubectl = |words: &[&str]| lab_.kubectl_command(&glass, &server, words);
    let words = ["get", "configmaps", "--watch-only", "-o", "name"];
    let mut watch = kubectl(&words).stdout(Stdio::piped()).spawn().unwrap();
    let process =
        |host: &str| lab_.on(host, "systemctl show zoisite-load-balancer -p MainPID").stdout;
    let before = ["egret", "ibis"].map(process);
    let own = |lines: &str| {
        let text = file.replace("[load-balancers]\n", &format!("[load-balancers]\n{lines}"));
        lab_.place.write("zoisite.toml", text);
    };
    let load_balancers = "hosts = [\"egret\", \"ibis\"]\nforward = { 80 = 30080 }\n";
    own(&format!("{load_balancers}settings = {{ \"timeout client\" = \"2h\" }}\n"));
    let _ = lab_.zoisite(&["raise"]).ended(0);
    assert_eq!(["egret", "ibis"].map(process), before, "the process that was asked lives on");
    assert_eq!(holder(&lab_, &["egret", "ibis"]), first, "nobody had to give it away");
    let config = "grep -c 'timeout client 2h' /etc/zoisite/load-balancer/haproxy.cfg";
    let _ = lab_.on(first, config).ended(0);
    let words = ["create", "configmap", "tide", "--from-literal=at=flood"];
    let _ = Done::of(&mut kubectl(&words)).ended(0);
    let mut line = String::new();
    BufReader::new(watch.stdout.take().unwrap()).read_line(&mut line).unwrap();
    assert_eq!(line.trim(), "configmap/tide");
    let _ = (watch.kill(), watch.wait());
    // Bad ones are judged before: the load balancer goes on with those that it has.
    own(&format!("{load_balancers}settings = {{ \"timeout wings\" = \"2h\" }}\n"));
    let _ = lab_.zoisite(&["raise"]).ended(1).complains("read its files again").complains("wings");
    assert!(ready());
    own(load_balancers);
    let _ = lab_.zoisite(&["raise"]).ended(0);

    // A load balancer that is gone gives it away; status tells of one that reaches no API server.
    let _ = lab_.on(first, "systemctl stop zoisite-load-balancer").ended(0);
    let second = if first == "egret" { "ibis" } else { "egret" };
    let _ = holder(&lab_, &[second]);
    assert!(ready());
    let _ = lab_.zoisite(&["raise"]).ended(0);
    // From outside to a workload: three node ports, two load balancers, and the address.
    let verified = lab_.zoisite(&["verify", "--timeout", &patience(120), "--json"]).ended(0).json();
    let ways = verified["tried"].as_array().unwrap().iter();
    let ways: Vec<&str> = ways
        .filter(|tried| tried["check"] == "forwarded")
        .map(|tried| tried["on"].as_str().unwrap())
        .collect();
    let all = ["heron:30080", "egret:30080", "ibis:30080", "egret:80", "ibis:80", "10.77.0.5:80"];
    assert_eq!(ways, all, "{verified:#}");
}

/// Before anything is raised: whether those who are to share the address would hear one another, and whether somebody
/// else has its id already.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn who_is_to_share_the_address_hears_the_others_and_strangers() {
    let lab_ = Lab::with_programs("virtual-ip", 3);
    let text = lab_.place.read("zoisite.toml");
    lab_.place.write(
        "zoisite.toml",
        text.replace("[load-balancers]\n", "[load-balancers]\nrouter-id = 77\n"),
    );
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("IP 112").says("6 of 6 paths");
    let nothing_stays = || {
        for host in MEMBERS {
            let tables = lab_.on(host, "nft list tables").ended(0).stdout;
            assert!(!tables.contains("zoisite"), "{host}: {tables}");
        }
    };
    nothing_stays();
    // Dropped on one host: told with who does not hear whom, and that it is the protocol.
    let rules = "nft -f - <<RULES\ntable inet deaf {\n chain in { type filter hook input priority 0; meta l4proto 112 drop; }\n}\nRULES";
    let _ = lab_.on("egret", rules).ended(0);
    let told =
        lab_.zoisite(&["paths", "try"]).ended(3).says("IP protocol 112 does not come through");
    let told = told.says("heron, ibis → egret").says("4 of 6 paths");
    assert!(!told.stdout.contains("→ heron, IP 112"), "{told:?}");
    let _ = lab_.on("egret", "nft delete table inet deaf").ended(0);
    let multicast = text
        .replace("[load-balancers]\n", "[load-balancers]\nrouter-id = 77\nvrrp = \"multicast\"\n");
    lab_.place.write("zoisite.toml", &multicast);
    let _ = lab_.zoisite(&["paths", "try"]).ended(0).says("6 of 6 paths");
    nothing_stays();

    // A stranger with the same id is heard by the survey: it advertises to heron for as long as this takes.
    let strange = "nft -f - <<RULES\ntable inet strange {\n chain out { type filter hook output priority -300;\n\
                   ip daddr 10.77.0.11 udp dport 9 udp sport set 0x214d ip saddr set 10.77.0.99 ip ttl set 255 ip protocol set 112\n }\n}\nRULES";
    let _ = lab_.on("ibis", strange).ended(0);
    let forever = "systemd-run -q --unit=strange bash -c 'while :; do echo x >/dev/udp/10.77.0.11/9; sleep 0.2; done'";
    let _ = lab_.on("ibis", forever).ended(0);
    let told = lab_.zoisite(&["survey"]).ended(3).says("router-id-taken").says("10.77.0.99");
    assert!(told.stdout.contains("77"), "{told:?}");
    let _ = lab_.on("ibis", "systemctl stop strange; nft delete table inet strange").ended(0);
    let after = lab_.zoisite(&["survey"]);
    assert!(!after.stdout.contains("router-id-taken"), "{after:?}");
    nothing_stays();
}
