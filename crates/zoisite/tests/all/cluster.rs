//! The whole road on real hosts: from bare machines to nodes that carry pods.

use std::process::Command;
use std::time::Duration;

use crate::common::Done;
use crate::common::clusters::{ELEVEN, ONE, THREE};
use crate::common::lab::{Lab, lab};
use crate::common::load::under_load;
use crate::common::waits::{patience, until};
use serde_json::{Value, json};

impl Lab {
    fn raise_converges_and_every_proof_holds(&self) {
        self.must_converge();
        self.every_proof_holds();
    }

    fn every_proof_holds(&self) {
        let done = self.zoisite(&["verify", "--timeout", &patience(120), "--json"]);
        let proofs = done.json();
        let tried = proofs["tried"].as_array().unwrap();
        let failed: Vec<&Value> = tried.iter().filter(|proof| !proof["fault"].is_null()).collect();
        assert!(done.status == 0 && failed.is_empty(), "{failed:#?} {}", done.stderr);
        for check in ["pod runs", "service address", "DNS", "logs", "cleaned up"] {
            assert!(tried.iter().any(|t| t["check"] == check), "{check} was tried: {proofs:#}");
        }
        let _ = self.zoisite(&["status"]).ended(0).says("nodes: all Ready");
    }

    /// No authority's key and no join token is on any host's disk.
    fn nothing_that_signs_or_lets_in_is_on_hosts(&self) {
        let run = |program: &str, args: &[&str]| {
            Done::of(Command::new(program).args(args)).ended(0).stdout.trim().to_owned()
        };
        let out = self.place.path("files");
        let _ = self.zoisite(&["files", "--out", out.to_str().unwrap()]).ended(0);
        // What was written on each host's disk, besides its base system.
        let disks = self.disks();
        let search = |options: &[&str]| Done::of(Command::new("grep").args(options).args(&disks));
        // Every authority, by its public key.
        let find = |folder: &str, name: &str| -> Vec<String> {
            let found = run("find", &[folder, "-type", "f", "-name", name]);
            found.lines().map(ToOwned::to_owned).collect()
        };
        let authorities: Vec<String> = find(out.to_str().unwrap(), "*authority.crt")
            .iter()
            .map(|path| run("openssl", &["x509", "-in", path, "-noout", "-pubkey"]))
            .collect();
        assert!(authorities.len() >= 4);
        let listed = search(&["-rlI", "-e", "BEGIN .*PRIVATE KEY"]);
        let keys: Vec<&str> = listed.stdout.lines().collect();
        assert!(keys.len() > 10, "{listed:?}");
        for path in keys.iter().filter(|path| !path.contains("ssh_host_")) {
            let public = Done::of(Command::new("openssl").args(["pkey", "-in", path, "-pubout"]));
            if public.status == 0 {
                let own = public.stdout.trim();
                assert!(!authorities.iter().any(|a| a.contains(own)), "an authority's key: {path}");
            }
        }
        let tokens = self.zoisite(&["tokens", "--all", "--json"]).ended(0).json();
        let tokens = tokens["tokens"].as_array().unwrap().clone();
        assert!(!tokens.is_empty());
        for token in &tokens {
            // One that a killed run had made was taken back by the next; a batch by a person.
            let state = token["state"].as_str().unwrap();
            assert!(["used-up", "revoked"].contains(&state), "{token:#}");
            assert_eq!(state == "used-up", token["used"] != json!([]), "{token:#}");
            let pattern = format!("{}\\.[a-z0-9]{{16}}", token["id"].as_str().unwrap());
            let found = search(&["-rlaE", &pattern]);
            assert_eq!(found.stdout, "", "the token is on a disk");
        }
        let published = self.kubectl(
            &self.glass(),
            &self.api(),
            &["get", "secrets", "-n", "kube-system", "-o", "name"],
        );
        assert!(!published.ended(0).stdout.contains("bootstrap-token"), "a token is published");
    }
}

/// A host of the file that was never switched on; and one that dials, and asks for nothing.
fn of_hosts_that_never_appear(lab_: &Lab) {
    let _ = lab_.zoisite(&["status", "joining", "tern-*"]).ended(0).says("3 nodes Ready");
    let file = lab_.place.read("zoisite.toml");
    let with = file.replace("[etcd]", "tern-4 = \"10.77.0.104\"\n\n[etcd]");
    lab_.place.write("zoisite.toml", with);
    let joining =
        |seconds: &str| lab_.zoisite(&["status", "joining", "tern-4", "--listen", seconds]);
    let _ = joining("0").ended(3).says("token, no token was made for it");
    // A batch in a secret store, which a timer keeps there.
    let store = lab_.place.path("store");
    let into = format!("cat >{}", store.display());
    let batch = |command: &str| {
        let words = [
            "tokens",
            "issue",
            "--hosts",
            "5",
            "--expires",
            "2h",
            "--unless-good-for",
            "1h",
            "--pipe-to",
            command,
        ];
        lab_.zoisite(&words)
    };
    let _ = batch("exit 3").ended(1).complains("handing the token to 'exit 3'");
    let _ = lab_.zoisite(&["tokens"]).ended(0).says("no token can be used");
    let _ = batch(&into).ended(0).complains("for any 5 hosts");
    let token = std::fs::read_to_string(&store).unwrap();
    assert_eq!(token.trim().len(), 23, "an id and its secret half");
    let _ = batch(&into).ended(0).complains("none was made");
    assert_eq!(std::fs::read_to_string(&store).unwrap(), token);
    let silence = patience(4);
    let silent = joining(&silence)
        .ended(3)
        .says(&format!("no packet of it reached the API endpoint within {silence} s"));
    assert!(silent.stdout.contains("✗ tern-4: connects"), "{silent:?}");
    // Something at its address dials, and asks for no certificate.
    let dials = "ip address add 10.77.0.104/24 dev host0; systemd-run -q --unit dials sh -c 'while :; do curl -sk --max-time 2 --interface 10.77.0.104 https://10.77.0.5:6443/readyz; sleep 1; done'";
    let _ = lab_.on("tern-1", dials).ended(0);
    let _ = joining(&patience(10))
        .ended(3)
        .says("requests, it connects to the API endpoint, and no request of its arrives");
    let _ =
        lab_.on("tern-1", "systemctl stop dials; ip address del 10.77.0.104/24 dev host0").ended(0);
    let left = lab_.on("jetty-a", "nft list tables").ended(0);
    assert!(!left.stdout.contains("zoisite_callers"), "{left:?}");
    let _ = lab_.zoisite(&["tokens", "revoke", token.trim().split_once('.').unwrap().0]).ended(0);
    lab_.place.write("zoisite.toml", file);
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn eleven_hosts_from_nothing_to_ready_nodes_and_one_of_each_may_be_lost() {
    let lab_ = Lab::standing(&ELEVEN);
    lab_.every_proof_holds();
    lab_.nothing_that_signs_or_lets_in_is_on_hosts();
    // Copies of the hosts as they are differ as little; a changed file is tried on them, and nothing here knows of it.
    let copies = ["raise", "--rehearse", "--as-they-are"];
    let _ = lab_.zoisite(&copies).ended(0).says("nothing differs on 11 hosts");
    let file = lab_.place.read("zoisite.toml");
    lab_.place.write("zoisite.toml", file.replace("shore = \"south\"", "shore = \"north\""));
    let _ = lab_.zoisite(&copies).ended(0).complains("tern-3");
    lab_.place.write("zoisite.toml", file);
    let _ = lab_.zoisite(&["raise"]).ended(0).says("nothing differs on 11 hosts");

    // Labels, taints, versions, addresses as the cluster file says.
    let (glass, api) = (lab_.glass(), lab_.api());
    let nodes = lab_.kubectl(&glass, &api, &["get", "nodes", "-o", "json"]).ended(0).json();
    let node = |name: &str| {
        let items = nodes["items"].as_array().unwrap();
        items.iter().find(|n| n["metadata"]["name"] == name).unwrap().clone()
    };
    assert_eq!(node("tern-3")["metadata"]["labels"]["shore"], "south");
    // Where people look: kubectl get nodes.
    let shown = lab_.kubectl(&glass, &api, &["get", "nodes"]).ended(0).stdout;
    let role = |name: &str| {
        shown.lines().find(|line| line.starts_with(name)).unwrap().split_whitespace().nth(2)
    };
    assert_eq!((role("tern-1"), role("curlew")), (Some("worker"), Some("control-plane")));
    assert_eq!(node("curlew")["spec"]["taints"][0]["effect"], "NoSchedule");
    assert_eq!(node("tern-1")["status"]["addresses"][0]["address"], "10.77.0.101");
    assert_eq!(node("tern-1")["status"]["nodeInfo"]["kubeletVersion"], "v1.36.3");

    // Every manifest passes the server's own strict validation.
    let objects = lab_.place.path("files/_objects");
    let words = [
        "apply",
        "--dry-run=server",
        "--validate=strict",
        "--server-side",
        "--force-conflicts",
        "-f",
    ];
    let words: Vec<&str> = words.into_iter().chain([objects.to_str().unwrap()]).collect();
    let _ = lab_.kubectl(&glass, &api, &words).ended(0).says("deployment.apps/coredns");

    // A person may do what was asked for and no more.
    let reader = lab_.place.path("reader.yaml");
    let out = reader.to_str().unwrap();
    let _ = lab_.zoisite(&["access", "bea", "--expires", "8h", "--out", out]).ended(0);
    let _ = lab_.kubectl(&reader, &api, &["get", "pods", "-A"]).ended(0).says("coredns");
    let refused = lab_.kubectl(&reader, &api, &["get", "secrets", "-A"]).ended(1);
    assert!(refused.stderr.contains("forbidden"), "{refused:?}");

    // While etcd's members have no leader writes wait; nobody is turned away.
    let stalled = |signal: &str| {
        for host in ["heron", "egret"] {
            let kill = format!("systemctl kill --signal={signal} zoisite-etcd");
            let _ = lab_.on(host, &kill).ended(0);
        }
    };
    let load = under_load(&lab_, || {
        stalled("STOP");
        std::thread::sleep(Duration::from_secs(8));
        stalled("CONT");
    });
    assert_eq!(load.failed, 0, "no leader: {load:?}");
    lab_.until_well();

    // One etcd member, one control plane, one worker, in turn.
    for lost in ["egret", "plover", "tern-2"] {
        let load = under_load(&lab_, || {
            lab("off", &[lost]);
            // The platform calls a silent node not Ready after its own grace period.
            until(format!("{lost} not to be Ready"), 300, || {
                let done = lab_.zoisite(&["status", "--json"]);
                assert_eq!(done.status, 3, "{lost} is off, and status says so: {done:?}");
                let status = done.json();
                let nodes = status["nodes"].as_array().unwrap();
                let node = nodes.iter().find(|node| node["host"] == lost);
                node.is_none_or(|node| node["state"] == "not Ready")
            });
        });
        eprintln!("{lost} lost: {load:?}");
        assert!(load.worked > 20 && load.failed < 3, "{lost} lost: {load:?}");
        lab("on", &[lost]);
        lab_.until_well();
    }
    let _ = lab_.zoisite(&["verify"]).ended(0).says("the cluster works");

    of_hosts_that_never_appear(&lab_);

    // A host that cannot be logged in to, set up by hand with a token: the next run lets it in.
    let _ = lab_
        .on("tern-3", "systemctl stop zoisite-kubelet; rm -rf /var/lib/kubelet/pki /var/lib/kubelet/kubeconfig")
        .ended(0);
    let _ = lab_.kubectl(&glass, &api, &["delete", "node", "tern-3"]).ended(0);
    let token = lab_.place.path("token");
    let _ = lab_.zoisite(&["tokens", "issue", "tern-3", "--out", token.to_str().unwrap()]).ended(0);
    let by_hand = "umask 077; mkdir -p /run/zoisite; cat >/run/zoisite/join.token; systemctl start zoisite-kubelet";
    let _ = lab_.on_with("tern-3", by_hand, std::fs::read(token).unwrap()).ended(0);
    lab("cut", &["tern-3", "22"]);
    let _ = lab_
        .zoisite(&["raise"])
        .ended(1)
        .complains("tern-3 is Ready")
        .complains("tern-3: logging in over ssh failed");
    let listed = lab_.zoisite(&["tokens", "--all"]).ended(0).stdout;
    assert!(listed.lines().any(|line| line.contains("tern-3") && line.ends_with("used up")));
    lab("fix", &[]);
    lab_.raise_converges_and_every_proof_holds();
    lab_.nothing_that_signs_or_lets_in_is_on_hosts();
}

/// Asks for a node's certificate as whoever has `credentials` (curl's options), in a request of that name;
/// what the API says to that.
fn ask_for(lab: &Lab, credentials: &[&str], node: &str, name: &str) -> Done {
    let key = lab.place.path(&format!("{name}.key"));
    let subject = format!("/O=system:nodes/CN=system:node:{node}");
    let request = Done::of(Command::new("openssl").args([
        "req",
        "-new",
        "-newkey",
        "ec",
        "-pkeyopt",
        "ec_paramgen_curve:P-256",
        "-nodes",
        "-keyout",
        key.to_str().unwrap(),
        "-subj",
        &subject,
    ]))
    .ended(0)
    .stdout;
    let encoded =
        Done::of(Command::new("sh").args(["-c", "printf %s \"$1\" | base64 -w0", "sh", &request]))
            .ended(0)
            .stdout;
    let body = json!({
        "apiVersion": "certificates.k8s.io/v1",
        "kind": "CertificateSigningRequest",
        "metadata": {"name": name},
        "spec": {
            "signerName": "kubernetes.io/kube-apiserver-client-kubelet",
            "request": encoded,
            "usages": ["client auth", "digital signature"],
        },
    });
    let url = format!("{}/apis/certificates.k8s.io/v1/certificatesigningrequests", lab.api());
    Done::of(
        Command::new("curl")
            .args([
                "-sSk",
                "--fail-with-body",
                "-H",
                "Content-Type: application/json",
                "-d",
                &body.to_string(),
                &url,
            ])
            .args(credentials),
    )
}

/// What became of a request: its certificate or null, and the type of its condition.
fn answer_to(lab: &Lab, request: &str) -> (Value, Value) {
    let words = ["get", "csr", request, "-o", "json"];
    let status = lab.kubectl(&lab.glass(), &lab.api(), &words).ended(0).json()["status"].clone();
    (status["certificate"].clone(), status["conditions"][0]["type"].clone())
}

/// How often a node's client certificate was issued, as the ledger says.
fn kubelet_certificates(lab: &Lab, host: &str) -> usize {
    let listed = lab.zoisite(&["pki", "list", "--all", "--json"]).ended(0).json();
    let all = listed["certificates"].as_array().unwrap();
    all.iter().filter(|c| c["profile"] == "kubelet-client" && c["host"] == host).count()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn three_hosts_that_do_everything_faults_and_stolen_tokens() {
    let lab_ = Lab::standing(&THREE);
    lab_.every_proof_holds();
    lab_.nothing_that_signs_or_lets_in_is_on_hosts();

    // The runtime stopped, an image gone, a configuration changed: shown, and put right.
    let _ = lab_.on("ibis", "systemctl stop containerd").ended(0);
    let _ =
        lab_.on("egret", "ctr -n k8s.io images rm lab.saltmarsh.example/coredns:1.15.0").ended(0);
    // An image that is not pinned would go when the disk fills.
    let unpinned =
        "ctr -n k8s.io images label lab.saltmarsh.example/sandbox:3.10 io.cri-containerd.pinned=";
    let _ = lab_.on("egret", unpinned).ended(0);
    let _ = lab_.on("heron", "sed -i s/maxPods/x/ /etc/zoisite/kubelet/kubelet.yaml; echo >>/etc/zoisite/kubelet/kubelet.yaml").ended(0);
    let _ = lab_
        .zoisite(&["status"])
        .ended(3)
        .says("containerd.service does not run")
        .says("image lab.saltmarsh.example/sandbox:3.10 is missing")
        .says("image lab.saltmarsh.example/coredns:1.15.0 is missing")
        .says("kubelet.yaml has other content");
    lab_.must_converge();

    // A name that does not resolve on one host stops the run before anything is touched.
    let _ = lab_.on("egret", "sed -i.kept /api.saltmarsh/d /etc/hosts").ended(0);
    let _ = lab_
        .zoisite(&["raise"])
        .ended(1)
        .complains("egret: resolving api.saltmarsh.example failed")
        .complains("must resolve on every node");
    let _ = lab_.on("egret", "mv /etc/hosts.kept /etc/hosts").ended(0);

    // A token of egret, stolen, asks for ibis; and one for a node that nobody knows.
    let path = lab_.place.path("token");
    let _ = lab_.zoisite(&["tokens", "issue", "egret", "--out", path.to_str().unwrap()]).ended(0);
    let token = lab_.place.read("token").trim().to_owned();
    let bearer = format!("Authorization: Bearer {token}");
    let _ = ask_for(&lab_, &["-H", &bearer], "ibis", "stolen").ended(0);
    let _ = ask_for(&lab_, &["-H", &bearer], "stranger", "unexpected").ended(0);
    let listed = lab_.zoisite(&["tokens"]).ended(0).says("egret").says("usable");
    assert!(!listed.stdout.contains(&token), "a list never shows the secret half");
    // ibis joins again meanwhile, so that its own request is looked at too.
    let _ = lab_
        .on("ibis", "systemctl stop zoisite-kubelet; rm -rf /var/lib/kubelet/pki /var/lib/kubelet/kubeconfig")
        .ended(0);
    let _ = lab_.zoisite(&["raise"]).ended(0);
    for name in ["stolen", "unexpected"] {
        assert_eq!(answer_to(&lab_, name), (Value::Null, json!("Denied")), "{name}");
    }
    let id = token.split('.').next().unwrap();
    let _ = lab_.zoisite(&["tokens", "revoke", id]).ended(0);
    let _ = lab_.zoisite(&["tokens"]).ended(0).says("no token can be used");

    // A kubelet asks for its next certificate with the one it holds, and gets it; none of another host.
    let pem = lab_.on("ibis", "cat /var/lib/kubelet/pki/kubelet-client-current.pem").ended(0);
    lab_.place.write("ibis.pem", pem.stdout);
    let own = lab_.place.path("ibis.pem");
    let before = kubelet_certificates(&lab_, "ibis");
    let _ = ask_for(&lab_, &["--cert", own.to_str().unwrap()], "ibis", "next").ended(0);
    let other = ask_for(&lab_, &["--cert", own.to_str().unwrap()], "heron", "not-its-own");
    let _ = other.ended(22).says("Forbidden");
    let _ = lab_.zoisite(&["raise"]).ended(0).complains("sign the next certificate of ibis");
    let (certificate, answer) = answer_to(&lab_, "next");
    assert_eq!(answer, "Approved");
    assert!(certificate.as_str().is_some_and(|text| !text.is_empty()), "it is signed");
    assert_eq!(kubelet_certificates(&lab_, "ibis"), before + 1, "and recorded");
    lab_.raise_converges_and_every_proof_holds();
}

/// Manifests of a site, of which one needs the other.
const MANIFESTS: [(&str, &str); 3] = [
    (
        "10-kind",
        "\
apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
metadata: {name: tides.saltmarsh.example}
spec:
  group: saltmarsh.example
  scope: Cluster
  names: {kind: Tide, plural: tides, singular: tide}
  versions:
    - name: v1
      served: true
      storage: true
      schema:
        openAPIV3Schema:
          type: object
          properties:
            spec: {type: object, properties: {at: {type: string}}}
",
    ),
    (
        "20-tide",
        "\
apiVersion: saltmarsh.example/v1
kind: Tide
metadata: {name: spring}
spec: {at: <zoisite:endpoint>}
",
    ),
    (
        "30-gulls",
        "\
apiVersion: v1
kind: ConfigMap
metadata: {name: gulls, namespace: default}
data: {Corefile: \".:1053 {\\n ready :8181\\n}\\n\"}
---
apiVersion: apps/v1
kind: Deployment
metadata: {name: gulls, namespace: default}
spec:
  replicas: 1
  selector: {matchLabels: {app: gulls}}
  template:
    metadata: {labels: {app: gulls}}
    spec:
      containers:
        - name: gulls
          image: DNS-IMAGE
          imagePullPolicy: IfNotPresent
          args: [-conf, /etc/gulls/Corefile]
          readinessProbe: {httpGet: {path: /ready, port: 8181}}
          volumeMounts: [{name: config, mountPath: /etc/gulls}]
      volumes: [{name: config, configMap: {name: gulls}}]
",
    ),
];

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_single_host_is_a_whole_cluster() {
    let mut lab = Lab::standing(&ONE);
    lab.used_up();
    lab.every_proof_holds();
    lab.nothing_that_signs_or_lets_in_is_on_hosts();

    // The site's manifests: one defines the kind of the next, and names what the file says; the last is waited for.
    let text = lab.place.read("zoisite.toml");
    lab.place
        .write("zoisite.toml", text.replace("[network]\n", "[network]\nmanifests = \"site\"\n"));
    // An image that every node has.
    let pods = "jsonpath={.spec.template.spec.containers[0].image}";
    let asks = ["get", "deployment", "coredns", "-n", "kube-system", "-o", pods];
    let image = lab.kubectl(&lab.glass(), &lab.api(), &asks).ended(0).stdout;
    for (name, text) in MANIFESTS {
        lab.place.write(&format!("site/{name}.yaml"), text.replace("DNS-IMAGE", &image));
    }
    let _ = lab.zoisite(&["raise"]).ended(0).complains("manifests");
    let asks = ["get", "tide", "spring", "-o", "jsonpath={.spec.at}"];
    let at = lab.kubectl(&lab.glass(), &lab.api(), &asks).ended(0).stdout;
    assert_eq!(at, "10.77.0.11:6443", "what the file says");
    let asks = ["get", "deployment", "gulls", "-o", "jsonpath={.status.readyReplicas}"];
    let ready = lab.kubectl(&lab.glass(), &lab.api(), &asks).ended(0).stdout;
    assert_eq!(ready, "1", "it was waited for");
    lab.must_converge();

    // Where the file says so, the cluster itself signs.
    let text = lab.place.read("zoisite.toml");
    assert!(text.contains("[workers]\n"));
    let text = text.replace("[workers]\n", "[workers]\nsigner = \"in-cluster\"\n");
    lab.place.write("zoisite.toml", text);
    lab.must_converge();
    let _ = lab
        .on("heron", "systemctl stop zoisite-kubelet; rm -rf /var/lib/kubelet/pki /var/lib/kubelet/kubeconfig")
        .ended(0);
    lab.raise_converges_and_every_proof_holds();
    let words = ["get", "csr", "-o", "jsonpath={.items[*].status.conditions[*].reason}"];
    let reasons = lab.kubectl(&lab.glass(), &lab.api(), &words).ended(0).stdout;
    assert!(reasons.contains("AutoApproved"), "the platform's own approver: {reasons}");
    // And where it no longer does, the key goes from the host again.
    let text = lab.place.read("zoisite.toml").replace("signer = \"in-cluster\"\n", "");
    lab.place.write("zoisite.toml", text);
    lab.must_converge();
    let _ =
        lab.on("heron", "test ! -e /etc/zoisite/controller-manager/cluster-authority.key").ended(0);
}
