//! Authorities under a company's root: asked for, signed there by openssl, taken, and refused where anything is wrong.

use std::process::Command;

use crate::common::lab::Lab;
use crate::common::{Done, Place};

const KINDS: [&str; 4] = ["cluster", "etcd-peer", "etcd-client", "front-proxy"];
const AUTHORITY: &str =
    "basicConstraints=critical,CA:TRUE,pathlen:0\nkeyUsage=critical,keyCertSign,cRLSign";
const ABOVE: &str = "basicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign,cRLSign";

/// The company: a root, an authority below it that signs for departments, and what else goes wrong there.
struct Company<'a> {
    place: &'a Place,
}

impl<'a> Company<'a> {
    fn at(place: &'a Place) -> Self {
        let company = Self { place };
        company.root("root", "ec -pkeyopt ec_paramgen_curve:P-384", "-sha384", 3650, ABOVE);
        company.below("middle", "root", ABOVE);
        company
    }

    fn openssl(&self, words: &str) -> Done {
        let mut command = Command::new("openssl");
        let _ = command.current_dir(self.place.path("."));
        Done::of(command.args(words.split_whitespace())).ended(0)
    }

    fn key(&self, name: &str, algorithm: &str) {
        let _ = self.openssl(&format!("genpkey -algorithm {algorithm} -out {name}.key"));
    }

    fn root(&self, name: &str, algorithm: &str, digest: &str, days: i32, extensions: &str) {
        self.key(name, algorithm);
        self.place.write(&format!("{name}.ext"), extensions);
        let _ = self.openssl(&format!(
            "req -new -key {name}.key -subj /O=Saltmarsh/CN={name} -out {name}.csr"
        ));
        let _ = self.openssl(&format!(
            "x509 -req -in {name}.csr -signkey {name}.key {digest} -days {days} -extfile {name}.ext -out {name}.crt"
        ));
    }

    /// An authority of the company's below another one.
    fn below(&self, name: &str, by: &str, extensions: &str) {
        self.key(name, "rsa -pkeyopt rsa_keygen_bits:2048");
        let _ = self.openssl(&format!(
            "req -new -key {name}.key -subj /O=Saltmarsh/CN={name} -out {name}.csr"
        ));
        self.sign(&format!("{name}.csr"), by, extensions, "-days 2000 -sha256", name);
    }

    fn sign(&self, request: &str, by: &str, extensions: &str, more: &str, out: &str) {
        self.place.write("sign.ext", extensions);
        let _ = self.openssl(&format!(
            "x509 -req -in {request} -CA {by}.crt -CAkey {by}.key -CAcreateserial -extfile sign.ext {more} -out {out}.crt"
        ));
    }

    fn serials(&self) -> usize {
        self.place.run(&["pki", "list", "--json"]).json()["authorities"]
            .as_array()
            .map_or(0, Vec::len)
    }
}

#[test]
fn the_whole_cluster_stands_under_a_companys_root() {
    let place = &Place::saltmarsh();
    let company = Company::at(place);
    let asked = place.run(&["pki", "request"]).ended(0);
    let _ = asked
        .says("requests/etcd-peer.csr")
        .says("path length 0")
        .says("zoisite pki import-signed");
    let first = place.read("requests/etcd-peer.csr");
    // The same requests again, for the same keys.
    let _ = place.run(&["pki", "request", "etcd-peer"]).ended(0);
    assert_eq!(place.read("requests/etcd-peer.csr"), first);
    let shown = company.openssl("req -in requests/cluster.csr -noout -text -verify");
    assert!(shown.stdout.contains("CA:TRUE, pathlen:0"), "{shown:?}");
    // Nothing is made here meanwhile.
    for words in [&["pki", "issue"][..], &["sequence"], &["pki", "rotate", "cluster"]] {
        let refused = place.run(words);
        assert!(refused.status == 2, "{refused:?}");
    }
    let _ = place.run(&["pki", "issue"]).ended(2).complains("its answer has not come");

    for kind in KINDS {
        company.sign(
            &format!("requests/{kind}.csr"),
            "middle",
            AUTHORITY,
            "-days 1900 -sha256",
            kind,
        );
    }
    // One of them first, with all that stands above it.
    let taken =
        place.run(&["pki", "import-signed", "front-proxy.crt", "root.crt", "middle.crt"]).ended(0);
    let _ = taken.says("saltmarsh front-proxy authority").says("waits").says("etcd-peer authority");
    let _ = place.run(&["pki", "issue"]).ended(2).complains("its answer has not come");
    let all = [
        "pki",
        "import-signed",
        "cluster.crt",
        "etcd-peer.crt",
        "etcd-client.crt",
        "middle.crt",
        "root.crt",
    ];
    let _ = place.run(&all).ended(0).says("saltmarsh cluster authority");
    let _ = place.run(&all).ended(2).complains("no authority's certificate was asked for");
    let _ = place.run(&["pki", "issue"]).ended(0);
    let _ = place.run(&["pki", "prove"]).ended(0);
    assert_eq!(company.serials(), 4);
    let _ = place.run(&["pki", "list"]).ended(0).says("under O=Saltmarsh, CN=root");

    // Who believes the root alone believes what servers show: leaf, authority, and what is between.
    let _ = place.run(&["files", "--out", "files"]).ended(0);
    for (purpose, whose) in [("sslserver", "server"), ("sslserver", "peer"), ("sslclient", "peer")]
    {
        let leaf = format!("files/heron/etc/zoisite/etcd/{whose}/tls.crt");
        assert_eq!(place.read(&leaf).matches("BEGIN CERTIFICATE").count(), 3, "{whose}");
        let words = "verify -x509_strict -CAfile root.crt -untrusted";
        let verified = company.openssl(&format!("{words} {leaf} -purpose {purpose} {leaf}"));
        assert!(verified.stdout.trim_end().ends_with("OK"), "{verified:?}");
    }
    // Whom hosts believe is the authority itself: nobody else whom the company vouches for.
    let bundle = place.read("files/heron/etc/zoisite/etcd/client-authority.crt");
    assert_eq!(bundle.matches("BEGIN").count(), 1);
    // Everything follows from what is recorded: nothing more is due.
    let _ = place.run(&["pki", "issue"]).ended(0).says("nothing was issued");
}

#[test]
fn an_answer_that_is_wrong_is_refused_with_every_reason_and_changes_nothing() {
    let place = &Place::saltmarsh();
    let company = Company::at(place);
    let _ = place.run(&["pki", "import-signed", "root.crt"]).ended(2).complains("was asked for");
    let _ = place.run(&["pki", "request"]).ended(0);
    let csr = "requests/etcd-peer.csr";
    let refused = |files: &[&str], reasons: &[&str]| {
        let words = [&["pki", "import-signed"], files].concat();
        let done = place.run(&words).ended(2);
        for reason in reasons {
            assert!(done.stderr.contains(reason), "no '{reason}': {done:?}");
        }
        assert_eq!(company.serials(), 0);
    };
    let good = "-days 1900 -sha256";
    let chain = ["etcd-peer.crt", "middle.crt", "root.crt"];
    let answered = |extensions: &str, more: &str, reasons: &[&str]| {
        company.sign(csr, "middle", extensions, more, "etcd-peer");
        refused(&chain, reasons);
    };
    let signing = "keyUsage=critical,keyCertSign,cRLSign";
    let plain = |length: &str| format!("basicConstraints=critical,CA:TRUE{length}\n{signing}");

    // Another request's.
    company.key("other", "ec -pkeyopt ec_paramgen_curve:P-256");
    let _ = company.openssl("req -new -key other.key -subj /CN=other -out other.csr");
    company.sign("other.csr", "middle", AUTHORITY, good, "other");
    refused(&["other.crt", "middle.crt", "root.crt"], &["for a key that was asked for"]);
    refused(&["gulls.crt"], &["gulls.crt"]);
    place.write("nonsense.pem", "-----BEGIN CERTIFICATE-----\nZ\n-----END CERTIFICATE-----\n");
    refused(&["nonsense.pem"], &["was asked for"]);

    answered(&plain(""), good, &["it has no path length"]);
    answered(&plain(",pathlen:1"), good, &["its path length is 1"]);
    answered("basicConstraints=critical,CA:FALSE", good, &["it is no authority", "keyCertSign"]);
    answered(AUTHORITY, "-days 90 -sha256", &["sooner than what it is to sign"]);
    answered(AUTHORITY, "-days -1 -sha256", &["it ended on"]);
    answered(AUTHORITY, "-days 2500 -sha256", &["CN=middle ends on", "before what stands below"]);
    answered(AUTHORITY, "-days 1900 -sha1", &["SHA-1 with RSA, which is weak"]);
    answered(
        &format!("{AUTHORITY}\nextendedKeyUsage=serverAuth"),
        good,
        &["limited to some extended usages"],
    );
    // Another name.
    company.place.write("sign.ext", AUTHORITY);
    let renamed = "x509 -new -subj /CN=gulls -force_pubkey peer.pub -CA middle.crt -CAkey middle.key -extfile sign.ext -days 1900 -out etcd-peer.crt";
    let _ = company.openssl(&format!("req -in {csr} -noout -pubkey -out peer.pub"));
    let _ = company.openssl(renamed);
    refused(&chain, &["its subject is CN=gulls"]);

    // What stands above: not there, not allowed to have anybody below, weak, ended, no authority at all.
    company.sign(csr, "middle", AUTHORITY, good, "etcd-peer");
    refused(&["etcd-peer.crt", "root.crt"], &["CN=middle issued it", "is not there"]);
    refused(&["etcd-peer.crt", "middle.crt"], &["CN=root issued", "is not there"]);
    let above = |name: &str, extensions: &str, reason: &str| {
        company.below(name, "root", extensions);
        company.sign(csr, name, AUTHORITY, good, "etcd-peer");
        refused(&["etcd-peer.crt", &format!("{name}.crt"), "root.crt"], &[reason]);
    };
    above("narrow", &plain(",pathlen:0"), "allows a path length of 0, and 1 is needed");
    above("leaf", "basicConstraints=critical,CA:FALSE", "CN=leaf is no authority");
    above(
        "constrained",
        &format!(
            "{}\nnameConstraints=critical,permitted;DNS:gulls.example,permitted;IP:192.0.2.0/255.255.255.0",
            plain("")
        ),
        "not allowed above it (name constraints)",
    );
    company.root("small", "rsa -pkeyopt rsa_keygen_bits:1024", "-sha256", 3650, ABOVE);
    company.sign(csr, "small", AUTHORITY, good, "etcd-peer");
    refused(&["etcd-peer.crt", "small.crt"], &["a weak key: RSA of 1024 bits"]);
    company.root("old", "ec -pkeyopt ec_paramgen_curve:P-256", "-sha256", -1, ABOVE);
    company.sign(csr, "old", AUTHORITY, good, "etcd-peer");
    refused(&["etcd-peer.crt", "old.crt"], &["CN=old ended on"]);
    // One of the same name that did not sign it.
    company.root("root", "ec -pkeyopt ec_paramgen_curve:P-384", "-sha384", 3650, ABOVE);
    company.sign(csr, "middle", AUTHORITY, good, "etcd-peer");
    refused(&chain, &["a signature in its chain does not fit"]);

    // After all that the request is still open, and is withdrawn once.
    let _ =
        place.run(&["pki", "request", "etcd-peer", "--cancel"]).ended(0).says("not asked for any");
    let again = place.run(&["pki", "request", "etcd-peer", "--cancel"]).ended(2);
    let _ = again.complains("no certificate was asked for of the etcd-peer authority");
    let _ = place.run(&["pki", "request", "--cancel"]).ended(0);
    let _ = place.run(&["pki", "issue"]).ended(0);
    assert_eq!(company.serials(), 4);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_real_cluster_stands_under_a_companys_root_and_believes_nobody_else_there() {
    let lab = Lab::with_programs("virtual-ip", 3);
    let company = Company::at(&lab.place);
    let _ = lab.zoisite(&["pki", "request"]).ended(0);
    let good = "-days 1900 -sha256";
    for kind in KINDS {
        company.sign(&format!("requests/{kind}.csr"), "middle", AUTHORITY, good, kind);
    }
    let chain = ["middle.crt", "root.crt"];
    let answers = KINDS.map(|kind| format!("{kind}.crt"));
    let answers: Vec<&str> = answers.iter().map(String::as_str).chain(chain).collect();
    let _ = lab.zoisite(&[&["pki", "import-signed"], &answers[..]].concat()).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.zoisite(&["verify"]).ended(0).says("the cluster works");
    let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);

    // Somebody outside believes the root alone.
    let at = lab.api();
    let at = at.strip_prefix("https://").unwrap();
    let name = "-verify_return_error -verify_hostname api.saltmarsh.example";
    let dialled = company.openssl(&format!("s_client -connect {at} -CAfile root.crt {name}"));
    assert!(dialled.stdout.contains("Verify return code: 0"), "{dialled:?}");
    let pods = ["get", "configmap", "kube-root-ca.crt", "-o", "jsonpath={.data.ca\\.crt}"];
    assert_eq!(lab.admin(&pods).ended(0).stdout.matches("BEGIN").count(), 3);

    // Somebody else whom the company vouches for is nobody, whatever the certificate says.
    company.key("mallory", "ec -pkeyopt ec_paramgen_curve:P-256");
    let _ = company
        .openssl("req -new -key mallory.key -subj /O=system:masters/CN=mallory -out mallory.csr");
    company.sign("mallory.csr", "middle", "extendedKeyUsage=clientAuth", good, "mallory");
    let whole = format!("{}{}", lab.place.read("mallory.crt"), lab.place.read("middle.crt"));
    lab.place.write("mallory.pem", whole);
    let file = |name: &str| lab.place.path(name).to_str().unwrap().to_owned();
    let mut kubectl = Command::new(lab.kubectl_command(&lab.glass(), "", &[]).get_program());
    let _ = kubectl.args(["--server", &lab.api(), "--certificate-authority", &file("root.crt")]);
    let _ = kubectl.args(["--client-certificate", &file("mallory.pem")]);
    let _ = kubectl.args(["--client-key", &file("mallory.key"), "get", "nodes"]);
    let refused = Done::of(&mut kubectl);
    assert!(refused.status != 0 && refused.stderr.contains("must be logged in"), "{refused:?}");
    let member =
        format!("s_client -connect 10.77.0.11:2379 -CAfile root.crt -cert {}", file("mallory.pem"));
    // Refused within the handshake, where TLS 1.3 would tell only afterwards.
    let member = format!("{member} -tls1_2 -key {}", file("mallory.key"));
    let mut openssl = Command::new("openssl");
    let _ = openssl.current_dir(lab.place.path("."));
    let refused = Done::of(openssl.args(member.split_whitespace()));
    assert!(refused.stderr.contains("alert"), "{refused:?}");

    // One is replaced by another one of the company's, and one by one that signs itself.
    let _ = lab.zoisite(&["pki", "request", "etcd-peer"]).ended(0).says("etcd-peer authority 2");
    company.sign("requests/etcd-peer.csr", "middle", AUTHORITY, good, "etcd-peer");
    let taken =
        lab.zoisite(&["pki", "import-signed", "etcd-peer.crt", "middle.crt", "root.crt"]).ended(0);
    let _ = taken.says("zoisite pki rotate etcd-peer brings it to every host");
    for kind in ["etcd-peer", "front-proxy"] {
        let done = lab.zoisite(&["pki", "rotate", kind]).ended(0);
        let _ = done.says(&format!("no other {kind} authority is believed"));
    }
    lab.must_converge();
    let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
}
