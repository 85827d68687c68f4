//! Each authority is replaced while somebody writes and programs are killed; nobody who dials is ever not believed.

use crate::common::Place;
use crate::common::clusters::THREE;
use crate::common::custody::{self, Secrets};
use crate::common::lab::{Lab, lab};
use crate::common::load;

#[test]
fn before_anything_stands_there_is_nothing_to_replace() {
    let place = Place::saltmarsh();
    let replace = ["pki", "rotate", "cluster"];
    let _ = place.run(&replace).ended(2).complains("nothing has been raised");
    assert!(!place.path(".zoisite").exists());
    let _ = place.run(&["pki", "issue"]).ended(0);
    let _ = place.run(&replace).ended(2).complains("no quorum was proven yet");
    let _ = place.run(&["pki", "rotate"]).ended(2).complains("<AUTHORITY>");
    let _ = place.run(&["pki", "rotate", "gulls"]).ended(2).complains("etcd-peer, etcd-client");
    let all = place.run(&["pki", "list", "--json"]).ended(0).json();
    let all = all["authorities"].as_array().unwrap();
    assert!(all.len() == 4 && all.iter().all(|one| one["is"] == "signs"), "{all:?}");
}

#[test]
fn what_ends_when_is_shown_and_cron_is_told() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "expiry"]).ended(2).complains("zoisite pki issue");
    let _ = place.run(&["pki", "issue"]).ended(0);
    let shown = place.run(&["pki", "expiry"]).ended(0);
    let _ = shown
        .says("saltmarsh cluster authority")
        .says("etcd-peer")
        .says("none is to be renewed yet");
    let ends = place.run(&["pki", "expiry", "--json"]).ended(0).json();
    let ends = ends["ends"].as_array().unwrap().clone();
    let whole: usize = ends
        .iter()
        .filter(|one| one["authority"].is_null())
        .map(|one| one["holders"].as_array().unwrap().len())
        .sum();
    let listed = place.run(&["pki", "list", "--json"]).ended(0).json();
    assert_eq!(whole, listed["certificates"].as_array().unwrap().len());
    // Kinds that end on one day stand together, the first to end first.
    let at = |one: &serde_json::Value| one["ends"].as_str().unwrap()[..10].to_owned();
    assert!(ends.len() < whole && ends.windows(2).all(|two| at(&two[0]) <= at(&two[1])));
    let _ = place.run(&["pki", "expiry", "--svg", "ends.svg"]).ended(0).complains("ends.svg");
    let drawn = place.read("ends.svg");
    assert!(drawn.starts_with("<svg") && drawn.trim_end().ends_with("</svg>"), "{drawn}");
    assert!(drawn.matches("<text").count() > ends.len() && drawn.contains("etcd-peer"), "{drawn}");

    let _ = place.run(&["pki", "list", "--expiring", "60d"]).ended(0).says("nothing ends within");
    let soon = place.run(&["pki", "list", "--expiring", "370d"]).ended(3).says("kubelet-serving");
    assert!(!soon.stdout.contains("cluster authority"), "{soon:?}");
    let soon = place.run(&["pki", "list", "--expiring", "370d", "--json"]).ended(3).json();
    assert!(soon["expiring"].as_array().unwrap().iter().all(|one| one["authority"].is_null()));
    let _ = place.run(&["pki", "list", "--expiring", "soon"]).ended(2).complains("a number and a");
}

#[test]
fn chosen_certificates_are_issued_again_and_no_others() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    let serials = || {
        let listed = place.run(&["pki", "list", "--json"]).ended(0).json();
        let all = listed["certificates"].as_array().unwrap().clone();
        let text = |one: &serde_json::Value, key: &str| one[key].as_str().unwrap().to_owned();
        let each = |one: &serde_json::Value| {
            ((text(one, "profile"), text(one, "host")), text(one, "serial"))
        };
        all.iter().map(each).collect::<std::collections::BTreeMap<_, _>>()
    };
    let before = serials();
    let words = ["pki", "issue", "--reissue", "--host", "heron", "--host", "egret"];
    let words = [&words[..], &["--profile", "etcd-peer"]].concat();
    let _ = place.run(&words).ended(0).says("2 certificates issued").says("as you asked");
    let now = serials();
    let other: Vec<_> = now.iter().filter(|(which, serial)| before[*which] != **serial).collect();
    let named = |host: &str| ("etcd-peer".to_owned(), host.to_owned());
    let changed: Vec<_> = other.iter().map(|(which, _)| (*which).clone()).collect();
    assert_eq!(changed, [named("egret"), named("heron")]);
    let _ = place.run(&["pki", "issue", "--host", "heron"]).ended(2).complains("--reissue");
    let _ =
        place.run(&["pki", "issue", "--reissue", "--host", "gull"]).ended(2).complains("no host");
    let _ = place.run(&["pki", "issue", "--reissue", "--profile", "person"]).ended(2);
    assert_eq!(serials(), now);
}

const HOSTS: [&str; 3] = ["heron", "egret", "ibis"];

/// How many certificates a host's bundle has.
fn believed(lab: &Lab, host: &str, path: &str) -> usize {
    let count = format!("grep -c BEGIN /etc/zoisite/{path}");
    lab.on(host, &count).ended(0).stdout.trim().parse().unwrap()
}

/// Who issued the certificate that a server shows.
fn issuer(lab: &Lab, host: &str, port: u16) -> String {
    let command = format!(
        "openssl s_client -connect $(hostname -i | cut -d ' ' -f 1):{port} </dev/null 2>/dev/null | openssl x509 -noout -issuer"
    );
    lab.on(host, &command).ended(0).stdout.trim().to_owned()
}

/// Writes, reads and watches all the while.
fn under_load(lab: &Lab, what: &str, during: impl FnOnce()) {
    load::under_load(lab, during).must_be_served(what);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn each_is_replaced_while_the_cluster_works() {
    let lab_ = Lab::standing(&THREE);
    let mut said = vec![lab_.zoisite(&["raise", "--deep"]).ended(0)];
    let secrets = Secrets::of(&lab_, &HOSTS);

    // A host is away: nothing of it begins, and why is reported.
    lab("off", &["ibis"]);
    let held = lab_.zoisite(&["pki", "rotate", "front-proxy"]);
    let _ = held.ended(1).complains("ibis could not be brought to it");
    lab("on", &["ibis"]);
    let _ = lab_.zoisite(&["status"]).ended(3).says("the front-proxy authority is being replaced");
    let _ = lab_.zoisite(&["pki", "rotate", "cluster"]).ended(2).complains("one at a time");
    let _ = lab_.zoisite(&["pki", "list"]).ended(0).says("front-proxy authority 2").says("comes");
    lab_.until_all_serve(3);

    for (kind, path) in [
        ("front-proxy", "api-server/front-proxy-authority.crt"),
        ("etcd-client", "api-server/etcd-authority.crt"),
        ("etcd-peer", "etcd/peer-authority.crt"),
    ] {
        under_load(&lab_, kind, || {
            if kind == "etcd-peer" {
                lab_.killed_at(&["pki", "rotate", kind], &["\"step\":\"egret/etcd-"]);
            }
            let done = lab_.zoisite(&["pki", "rotate", kind]).ended(0);
            let _ = done.says(&format!("no other {kind} authority is believed"));
        });
        for host in HOSTS {
            assert_eq!(believed(&lab_, host, path), 1, "{kind}: {host}");
        }
    }
    lab_.must_converge();
    let peers = issuer(&lab_, "heron", 2380);
    assert!(peers.contains("etcd-peer authority"), "{peers}");

    of_tokens(&lab_);
    of_the_cluster(&lab_);
    lab_.must_converge();
    let _ = lab_.zoisite(&["status"]).ended(0);

    // A whole raise, renewals and replacements later.
    for words in
        [&["raise"][..], &["pki", "list"], &["pki", "prove"], &["sequence"], &["encryption"]]
    {
        said.push(lab_.zoisite(words).ended(0));
        said.push(lab_.zoisite(&[words, &["--json"]].concat()).ended(0));
    }
    custody::must_be_kept(&secrets, &lab_, &HOSTS, &said);
    custody::no_core_is_left(&lab_, &HOSTS);
    planted_secrets_are_found(&lab_, &secrets);
}

/// A token that the key before signed is accepted until a person says that it is not any more.
fn of_tokens(lab_: &Lab) {
    let create = ["create", "token", "default", "--duration=2h"];
    let token = lab_.admin(&create).ended(0).stdout.trim().to_owned();
    let accepted = |token: &str| {
        let review = format!(
            "{{apiVersion: authentication.k8s.io/v1, kind: TokenReview, spec: {{token: \"{token}\"}}}}"
        );
        lab_.place.write("review.yaml", review);
        let path = lab_.place.path("review.yaml");
        let path = path.to_str().unwrap();
        let answer = lab_.admin(&["create", "-f", path, "-o", "jsonpath={.status.authenticated}"]);
        answer.ended(0).stdout == "true"
    };
    assert!(accepted(&token));
    let replace = ["pki", "rotate", "service-accounts"];
    under_load(lab_, "service-accounts", || {
        lab_.killed_at(&replace, &["\"step\":\"egret/control-plane-"]);
        let _ = lab_.zoisite(&["raise"]).ended(0);
    });
    let newer = lab_.admin(&create).ended(0).stdout.trim().to_owned();
    assert!(accepted(&token) && accepted(&newer));
    let done = lab_.zoisite(&replace).ended(0);
    let _ = done.says("no other is accepted");
    assert!(!accepted(&token) && accepted(&newer));
}

/// The one that people and pods hold something of: each of its stages waits for a person's word. Its first one is taken
/// back once.
fn of_the_cluster(lab_: &Lab) {
    let replace = ["pki", "rotate", "cluster"];
    let bundle = "api-server/cluster-authority.crt";
    let _ = lab_.glass();
    under_load(lab_, "believed", || {
        let done = lab_.zoisite(&replace).ended(0).says("every host believes both");
        let _ = done.says("ada, until").says("zoisite access ada").says("has the other one sign");
    });
    assert_eq!(believed(lab_, "egret", bundle), 2);
    let pods = ["get", "configmap", "kube-root-ca.crt", "-o", "jsonpath={.data.ca\\.crt}"];
    let pods = || lab_.admin(&pods).ended(0).stdout.matches("BEGIN").count();
    assert_eq!(pods(), 2);
    let _ = lab_.zoisite(&["status"]).ended(0);
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let waits = "signs when you say so";
    let _ = lab_.zoisite(&["pki", "list"]).ended(0).says(waits);
    // Taken back: nothing of the other one is believed any more.
    let _ = lab_.zoisite(&["pki", "rotate", "cluster", "--cancel"]).ended(0);
    assert_eq!(believed(lab_, "egret", bundle), 1);
    let _ = lab_.zoisite(&["pki", "rotate", "cluster", "--cancel"]).ended(2).complains("not being");

    let _ = lab_.zoisite(&replace).ended(0).says("every host believes both");
    let before = renewed_glass(lab_);
    under_load(lab_, "issued", || {
        lab_.killed_at(&replace, &["\"step\":\"heron/"]);
        // Said twice, it would be the word for the last stage.
        lab_.killed_at(&["raise"], &["\"step\":\"egret/control-plane-"]);
        let _ = lab_.zoisite(&["raise"]).ended(0);
    });
    let now = issuer(lab_, "egret", 6443);
    assert!(now.contains("cluster authority") && now != before.issuer, "{now} {}", before.issuer);
    for host in HOSTS {
        assert_eq!(issuer(lab_, host, 6443), now, "{host}");
        assert_eq!(issuer(lab_, host, 10250), now, "{host}");
        let client =
            "openssl x509 -noout -issuer -in /var/lib/kubelet/pki/kubelet-client-current.pem";
        assert_eq!(lab_.on(host, client).ended(0).stdout.trim(), now, "{host}");
        assert_eq!(believed(lab_, host, bundle), 2, "{host}");
    }
    let _ = lab_.zoisite(&["status"]).ended(0);
    let _ = lab_.zoisite(&["pki", "list"]).ended(0).says("goes when you say so");

    // Who was given both believes what is shown now; what the one before signed is good until the last word.
    let nodes = |glass: &std::path::Path| lab_.kubectl(glass, &lab_.api(), &["get", "nodes"]);
    let unbelieving = nodes(&before.glass);
    assert!(unbelieving.stderr.contains("unknown authority"), "{unbelieving:?}");
    let both = renewed_glass(lab_).glass;
    let _ = nodes(&both).ended(0);
    under_load(lab_, "spent", || {
        lab_.killed_at(&replace, &["\"step\":\"egret/"]);
        let _ = lab_.zoisite(&["pki", "list"]).ended(0).says("it is no longer trusted");
        let late = lab_.zoisite(&["pki", "rotate", "cluster", "--cancel"]).ended(2);
        let _ = late.complains("too late to take that back");
        let _ = lab_.zoisite(&["raise"]).ended(0);
    });
    for host in HOSTS {
        assert_eq!(believed(lab_, host, bundle), 1, "{host}");
    }
    assert_eq!(pods(), 1);
    let refused = nodes(&both);
    assert!(refused.status != 0 && refused.stderr.contains("must be logged in"), "{refused:?}");
    let _ = lab_.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
    let _ = lab_.zoisite(&["verify"]).ended(0).says("the cluster works");
}

/// What held before somebody got a kubeconfig again.
struct Before {
    glass: std::path::PathBuf,
    /// Of what API servers showed.
    issuer: String,
}

fn renewed_glass(lab_: &Lab) -> Before {
    let others = |n: &u32| !lab_.place.path(&format!("glass-{n}.yaml")).exists();
    let glass = lab_.place.path(&format!("glass-{}.yaml", (1..).find(others).unwrap()));
    std::fs::rename(lab_.glass(), &glass).unwrap();
    let _ = lab_.glass();
    Before { glass, issuer: issuer(lab_, "egret", 6443) }
}

/// The search finds what it is there for: a key in a file that everybody reads, and one in a journal.
fn planted_secrets_are_found(lab_: &Lab, secrets: &Secrets) {
    let key = "/etc/zoisite/api-server/service-accounts.key";
    for (plant, place) in [
        (format!("install -m 0644 {key} /tmp/gull"), "heron:/tmp/gull"),
        (format!("rm /tmp/gull; base64 -w 0 {key} | logger"), "journal-heron"),
    ] {
        let _ = lab_.on("heron", &plant).ended(0);
        let found = custody::found(secrets, lab_, &HOSTS, &[]);
        assert!(found.iter().any(|at| at.contains(place)), "{plant}: {found:?}");
        // A journal is a file on its host too.
        assert!(found.iter().all(|at| at.contains("heron")), "{plant}: {found:?}");
    }
    let _ = lab_.on("heron", "rm -f /tmp/gull").ended(0);
}
