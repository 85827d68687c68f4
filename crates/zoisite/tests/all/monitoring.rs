//! The site's monitoring: targets and a certificate in a folder, and on real hosts who is answered and who is not.

use std::process::Command;

use crate::common::lab::Lab;
use crate::common::{Done, Place};

const SERVED: &str = "[monitoring]\n\n[components]";
/// The same, with keys that hosts make.
const SERVED_WITH_OWN_KEYS: &str =
    "[monitoring]\n\n[certificates]\nkeys-made = \"on-hosts\"\n\n[components]";

#[test]
fn targets_and_a_certificate_are_written_once_and_kept_as_long_as_they_hold() {
    let place = &Place::saltmarsh();
    let shown = place.run(&["monitoring"]).ended(0).says("https://10.77.0.21:6443/metrics");
    let _ =
        shown.complains("with [monitoring] in the cluster file").complains("they cannot be read");
    let early = place.run(&["monitoring", "--out", "watch"]);
    let _ = early.ended(2).complains("nothing has been issued yet");

    place.write("zoisite.toml", crate::common::SALTMARSH.replace("[components]", SERVED));
    let _ = place.run(&["pki", "issue"]).ended(0);
    let made = place.run(&["monitoring", "--out", "watch"]).ended(0);
    let _ = made.says("watch: targets.json").says("client.crt and client.key made");
    let first = place.read("watch/client.crt");
    use std::os::unix::fs::PermissionsExt as _;
    let mode =
        |path: &str| std::fs::metadata(place.path(path)).unwrap().permissions().mode() & 0o7777;
    assert_eq!((mode("watch"), mode("watch/client.key")), (0o700, 0o600));
    let targets: serde_json::Value =
        serde_json::from_str(&place.read("watch/targets.json")).unwrap();
    let etcd = &targets.as_array().unwrap()[0];
    assert_eq!(etcd["targets"][0], "10.77.0.11:10263");
    assert_eq!(etcd["labels"]["__metrics_path__"], "/etcd");
    assert_eq!(etcd["labels"]["__scheme__"], "https");
    assert_eq!(etcd["labels"]["instance"], "heron");
    let list = place.read("watch/targets.txt");
    assert_eq!(list.lines().count(), targets.as_array().unwrap().len());
    assert!(list.contains("https://10.77.0.31:10263/load-balancer\n"), "{list}");

    // Said again it is kept; of another key, or on demand, it is made again.
    let kept = place.run(&["monitoring", "--out", "watch"]).ended(0);
    let _ = kept.says("kept as they are");
    assert_eq!(place.read("watch/client.crt"), first);
    place.write("watch/client.key", "gulls");
    let _ = place.run(&["monitoring", "--out", "watch"]).ended(0).says("client.key made");
    let second = place.read("watch/client.crt");
    assert_ne!(second, first);
    let _ = place.run(&["monitoring", "--out", "watch", "--reissue"]).ended(0).says("made");
    assert_ne!(place.read("watch/client.crt"), second);
    let listed = place.run(&["pki", "list"]).ended(0).says("the site's monitoring");
    let _ = listed.says("monitoring-server");
    let _ = place.run(&["monitoring"]).ended(0).complains("3 certificates for monitoring are");
}

#[test]
fn an_authority_is_written_out_for_machines_of_the_site() {
    let place = &Place::saltmarsh();
    let _ = place.run(&["pki", "export", "cluster"]).ended(2);
    let _ = place.run(&["pki", "issue"]).ended(0);
    let _ = place.run(&["pki", "export", "cluster"]).ended(0).says("BEGIN CERTIFICATE");
}

/// An issuer of tokens that the site has: OpenID Connect discovery and keys, as files that openssl serves.
struct Issuer<'a> {
    place: &'a Place,
    server: std::process::Child,
}

impl<'a> Issuer<'a> {
    /// Where it is: on this machine, as the lab's hosts dial it.
    const AT: &'static str = "10.77.0.254:9443";

    fn serving(lab: &'a Lab) -> Self {
        let place = &lab.place;
        let openssl = |words: &str| {
            let mut command = Command::new("openssl");
            let _ = command.current_dir(place.path("."));
            Done::of(command.args(words.split_whitespace())).ended(0).stdout
        };
        let _ = openssl(
            "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj /CN=sso -addext subjectAltName=IP:10.77.0.254 -keyout sso.key -out sso.crt -days 2",
        );
        let _ = openssl("genpkey -algorithm rsa -pkeyopt rsa_keygen_bits:2048 -out tokens.key");
        let shown = openssl("rsa -in tokens.key -noout -modulus");
        let modulus = shown.trim().strip_prefix("Modulus=").unwrap();
        let octet = |at: usize| u8::from_str_radix(&modulus[at..at + 2], 16).unwrap();
        let modulus: Vec<u8> = (0..modulus.len()).step_by(2).map(octet).collect();
        std::fs::create_dir(place.path(".well-known")).unwrap();
        let at = format!("https://{}", Self::AT);
        let document = serde_json::json!({
            "issuer": at, "jwks_uri": format!("{at}/keys"), "response_types_supported": ["id_token"],
            "subject_types_supported": ["public"], "id_token_signing_alg_values_supported": ["RS256"],
        });
        place.write(".well-known/openid-configuration", document.to_string());
        let keys = serde_json::json!({"keys": [
            {"kty": "RSA", "alg": "RS256", "use": "sig", "kid": "one", "n": in_url(&modulus), "e": "AQAB"},
        ]});
        place.write("keys", keys.to_string());
        let words = format!("s_server -accept {} -cert sso.crt -key sso.key -WWW -quiet", Self::AT);
        let mut command = Command::new("openssl");
        let server = command.current_dir(place.path(".")).args(words.split_whitespace());
        let server = server.stdin(std::process::Stdio::null()).spawn().unwrap();
        Self { place, server }
    }

    /// The lines of the cluster file that have API servers believe it.
    fn believed(&self) -> String {
        format!(
            "authentication.jwt = [{{ issuer = {{ url = \"https://{}\", audiences = [\"saltmarsh\"], certificateAuthority = '''\n{}''' }}, claimMappings = {{ username = {{ claim = \"sub\", prefix = \"sso:\" }} }} }}]\n\n",
            Self::AT,
            self.place.read("sso.crt")
        )
    }

    /// A token for somebody, made out to somebody.
    fn token(&self, audience: &str) -> String {
        let now = jiff::Timestamp::now().as_second();
        let claims = serde_json::json!({
            "iss": format!("https://{}", Self::AT), "sub": "ada", "aud": audience, "iat": now, "exp": now + 3_600,
        });
        let head = serde_json::json!({"alg": "RS256", "kid": "one", "typ": "JWT"});
        let signed = format!(
            "{}.{}",
            in_url(head.to_string().as_bytes()),
            in_url(claims.to_string().as_bytes())
        );
        self.place.write("unsigned", &signed);
        let mut command = Command::new("openssl");
        let command = command.current_dir(self.place.path("."));
        let command = command.args(["dgst", "-sha256", "-sign", "tokens.key", "unsigned"]);
        let output = command.output().unwrap();
        assert!(output.status.success(), "{output:?}");
        format!("{signed}.{}", in_url(&output.stdout))
    }

    /// Who shows a token of its is known by it, with the prefix; one that is made out to another cluster is not taken.
    fn lets_in(&self, lab: &Lab) {
        let shows = |audience: &str| {
            let mut curl = Command::new("curl");
            // As every client of an API endpoint must, it tries again where its connection was ended: a load balancer
            // ends those to a server that does not answer it in time, as happens where the machine stands still.
            curl.args(["--silent", "--show-error", "--retry", "3", "--retry-all-errors"]);
            curl.args(["--insecure", "--noproxy", "*", "--max-time", "20"]);
            let token = self.token(audience);
            curl.args(["--header", &format!("Authorization: Bearer {token}")]);
            curl.args(["--header", "Content-Type: application/json", "--data"]);
            curl.arg(r#"{"apiVersion":"authentication.k8s.io/v1","kind":"SelfSubjectReview"}"#);
            let at = "/apis/authentication.k8s.io/v1/selfsubjectreviews";
            Done::of(curl.arg(format!("{}{at}", lab.api()))).ended(0).json()
        };
        crate::common::waits::until("the API to know whom the issuer vouches for", 180, || {
            shows("saltmarsh")["status"]["userInfo"]["username"] == "sso:ada"
        });
        assert_eq!(shows("fen")["code"], 401);
    }
}

impl Drop for Issuer<'_> {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

/// Octets as JSON Web Signatures have them (RFC 7515 section 2).
fn in_url(octets: &[u8]) -> String {
    use base64::Engine as _;
    base64::prelude::BASE64_URL_SAFE_NO_PAD.encode(octets)
}

/// What curl says of an address, with this pair or none.
fn asked(lab: &Lab, url: &str, pair: Option<(&str, &str)>) -> (i32, String) {
    let path = |name: &str| lab.place.path(name).to_str().unwrap().to_owned();
    let mut curl = Command::new("curl");
    curl.args(["--silent", "--max-time", "20", "--write-out", "\n%{http_code}", "--noproxy", "*"]);
    curl.args(["--cacert", &path("watch/authority.crt")]);
    if let Some((certificate, key)) = pair {
        curl.args(["--cert", &path(certificate), "--key", &path(key)]);
    }
    let done = Done::of(curl.arg(url));
    let (body, code) = done.stdout.rsplit_once('\n').unwrap();
    (code.parse().unwrap(), body.to_owned())
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn every_target_answers_the_certificate_for_monitoring_and_nobody_else() {
    let lab = Lab::with_programs("virtual-ip", 3);
    let text = lab.place.read("zoisite.toml");
    let text =
        text.replace("[load-balancers]\n", "[load-balancers]\nhosts = [\"heron\", \"egret\"]\n");
    let text = text.replace("[components]", SERVED_WITH_OWN_KEYS);
    let issuer = Issuer::serving(&lab);
    let text = text.replace("[load-balancers]", &format!("{}[load-balancers]", issuer.believed()));
    lab.place.write("zoisite.toml", text);
    let _ = lab.zoisite(&["raise"]).ended(0);
    issuer.lets_in(&lab);
    let listed = lab.zoisite(&["pki", "list", "--json"]).ended(0).json();
    let listed = listed["certificates"].as_array().unwrap();
    assert!(listed.len() > 30, "{listed:#?}");
    assert!(listed.iter().all(|one| one["key"] == "on its host"), "{listed:#?}");
    let _ = lab.zoisite(&["monitoring", "--out", "watch"]).ended(0);
    let own = Some(("watch/client.crt", "watch/client.key"));

    // Somebody whom the API knows and who may look at most things; and somebody with everything in etcd.
    let _ = lab.zoisite(&["access", "ada", "--out", "ada.yaml"]).ended(0);
    let config: serde_json::Value = serde_saphyr::from_str(&lab.place.read("ada.yaml")).unwrap();
    for (field, file) in [("client-certificate-data", "ada.crt"), ("client-key-data", "ada.key")] {
        use base64::Engine as _;
        let octets = config["users"][0]["user"][field].as_str().unwrap();
        let octets = base64::prelude::BASE64_STANDARD.decode(octets).unwrap();
        lab.place.write(file, octets);
    }
    let given = lab.zoisite(&["access", "ada", "--etcd", "ada-etcd", "--expires", "1h"]).ended(0);
    let _ = given.says("ada-etcd/env");
    let _ = lab.zoisite(&["access", "ada", "--etcd", "x", "--expires", "3d"]).ended(2);
    let _ = lab.zoisite(&["access"]).ended(0).says("everything in etcd");
    // Into a store of secrets: a command of the site's own reads it, and it stands nowhere else.
    let handed = lab.zoisite(&["access", "bea", "--pipe-to", "cat >kept.yaml"]).ended(0);
    let _ = handed.complains("handed to: cat >kept.yaml");
    assert!(lab.place.read("kept.yaml").contains("client-key-data"));
    let failed = lab.zoisite(&["access", "bea", "--pipe-to", "cat >/dev/null; exit 3"]);
    let _ = failed.ended(1).complains("exit status: 3").complains("run the same command again");
    let etcd =
        Done::of(Command::new("sh").current_dir(lab.place.path(".")).args([
            "-c",
            ". ./ada-etcd/env && components/etcd/3.6.16/linux-*/etcdctl member list",
        ]))
        .ended(0);
    assert_eq!(etcd.stdout.lines().count(), 3, "{etcd:?}");

    let targets: serde_json::Value =
        serde_json::from_str(&lab.place.read("watch/targets.json")).unwrap();
    let mut seen = std::collections::BTreeMap::<String, usize>::new();
    for target in targets.as_array().unwrap() {
        let (at, labels) = (target["targets"][0].as_str().unwrap(), &target["labels"]);
        let url = format!("https://{at}{}", labels["__metrics_path__"].as_str().unwrap());
        let what = labels["job"].as_str().unwrap().to_owned();
        let counts = match what.as_str() {
            "etcd" => "etcd_server_has_leader 1",
            "api-server" => "apiserver_request_total",
            "scheduler" => "scheduler_pending_pods",
            "controller-manager" => "workqueue_adds_total",
            "load-balancer" => "haproxy_backend_status",
            _ => "kubelet_running_pods",
        };
        let (code, body) = asked(&lab, &url, own);
        assert!(code == 200 && body.contains(counts), "{url}: {code} {body:.400}");
        // Nobody, somebody else, and one of another authority's: refused, or not even let through the handshake.
        for pair in [
            None,
            Some(("ada.crt", "ada.key")),
            Some(("ada-etcd/client.crt", "ada-etcd/client.key")),
        ] {
            let (code, body) = asked(&lab, &url, pair);
            assert!(matches!(code, 0 | 401 | 403), "{url} with {pair:?}: {code} {body:.200}");
            assert!(!body.contains(counts));
        }
        *seen.entry(what).or_default() += 1;
    }
    let expected = [
        ("api-server", 3),
        ("load-balancer", 2),
        ("controller-manager", 3),
        ("etcd", 3),
        ("kubelet", 3),
        ("scheduler", 3),
    ];
    assert_eq!(seen, expected.map(|(what, times)| (what.to_owned(), times)).into());
    // It reads metrics and nothing else, and is nobody to etcd.
    for path in ["/api/v1/namespaces/kube-system/secrets", "/api/v1/nodes", "/version"] {
        let (code, _) = asked(&lab, &format!("https://10.77.0.11:6443{path}"), own);
        assert!(code == 403 || path == "/version", "{path}: {code}");
    }
    for path in ["/pods", "/containerLogs/a/b/c", "/configz"] {
        let (code, _) = asked(&lab, &format!("https://10.77.0.11:10250{path}"), own);
        assert_eq!(code, 403, "{path}");
    }
    assert_eq!(asked(&lab, "https://10.77.0.11:10263/metrics", own).0, 404);
    assert_eq!(asked(&lab, "https://10.77.0.11:2379/metrics", own).0, 0);

    // Its own certificate is renewed without anybody being turned away.
    let pid = |lab: &Lab| {
        let show = "systemctl show zoisite-monitoring -p MainPID -p NRestarts";
        lab.on("heron", show).ended(0).stdout
    };
    let before = (pid(&lab), lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0).stdout);
    let _ = lab.zoisite(&["pki", "issue", "--reissue", "--profile", "monitoring-server"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    assert_eq!(pid(&lab), before.0);
    let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
    lab.must_converge();
    let _ = lab.zoisite(&["status"]).ended(0);
    planted_faults_are_named(&lab);
}

/// A fault, how it is planted, and what is said of it.
type Plant<'a> = (&'a str, &'a dyn Fn(), &'a [&'a str]);

/// What is wrong with certificates on hosts is found there, told by what it is, and put right by a raise.
fn planted_faults_are_named(lab: &Lab) {
    let etcd = "/etc/zoisite/etcd";
    let pair = |host: &str, half: &str| {
        lab.on(host, &format!("cat {etcd}/peer/tls.{half}")).ended(0).stdout
    };
    let elsewhere = (pair("egret", "crt"), pair("egret", "key"));
    let put = |path: &str, text: &str| {
        let _ = lab.on_with("heron", &format!("cat >{path}"), text).ended(0);
    };
    let on_heron = |command: &str| drop(lab.on("heron", command).ended(0));
    let door = "/etc/zoisite/monitoring/server";
    let plants: [Plant<'_>; 5] = [
        (
            "the right file on the wrong host",
            &|| {
                put(&format!("{etcd}/peer/tls.crt"), &elsewhere.0);
                put(&format!("{etcd}/peer/tls.key"), &elsewhere.1);
            },
            &["it is the certificate etcd-peer of egret", "10.77.0.11"],
        ),
        (
            "a key that does not fit",
            &|| on_heron(&format!("cat {etcd}/server/tls.key >{etcd}/probe/tls.key")),
            &["the key beside it is not the one"],
        ),
        (
            "a key that everybody may read",
            &|| on_heron("chmod 644 /etc/zoisite/api-server/server/tls.key"),
            &["/etc/zoisite/api-server/server", "644"],
        ),
        (
            "another authority's bundle",
            &|| on_heron(&format!("cat {etcd}/peer-authority.crt >{etcd}/client-authority.crt")),
            &["/etc/zoisite/etcd/client-authority.crt"],
        ),
        (
            "a process that shows what was replaced",
            &|| {
                let issue = ["pki", "issue", "--reissue", "--profile", "monitoring-server"];
                on_heron(&format!("rm -rf /root/old; cp -rL {door} /root/old"));
                let _ = lab.zoisite(&issue).ended(0);
                let _ = lab.zoisite(&["raise"]).ended(0);
                // It began with the old one, and has not read the one that took its place.
                on_heron(&format!(
                    "cp -rL {door} /root/new; cp /root/old/* {door}/; systemctl restart zoisite-monitoring; cp /root/new/* {door}/"
                ));
            },
            &["it shows a certificate that was replaced", "monitoring-server"],
        ),
    ];
    // Those that lie on one host beside each other are found at once; the last one is a process's.
    let (last, lying) = plants.split_last().unwrap();
    for (together, reloads) in [(lying, false), (std::slice::from_ref(last), true)] {
        for (_, plant, _) in together {
            plant();
        }
        let found = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(3);
        for (what, _, words) in together {
            for word in *words {
                assert!(found.stdout.contains(word), "{what}: no '{word}' in {found:?}");
            }
        }
        if reloads {
            on_heron("systemctl reload zoisite-monitoring");
        }
        lab.must_converge();
        let _ = lab.zoisite(&["pki", "prove", "--on-hosts"]).ended(0);
    }
}
