//! The cluster's own registry, and what nodes are told of registries: holdings, certificates, plans, on data alone.

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::common::scene::{Scene, index, needs};
use crate::common::{Known, Trust, at, changed, host};
use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use serde_json::{Value, json};
use zoisite_core::cluster::{Cluster, Grade, ImageName, read};
use zoisite_core::components::{Manifest, ShelfContent, Shelved};
use zoisite_core::holdings::{
    API_SERVER_UNIT, HostHoldings, Part, REGISTRY_UNIT, RegistryLogin, holdings, registry_secrets,
};
use zoisite_core::item::{Content, Item, ReadBy};
use zoisite_core::paths::{Service, demands, served};
use zoisite_core::pki::{Profile, San, Secret, SecretRef, wanted};
use zoisite_core::sequence::{Condition, Work};
use zoisite_core::text::digest;

const OWN: &str = "[registry]\nhost = \"jetty-a\"\nname = \"registry.saltmarsh.example\"\n\
                   mirrors = [\"registry.k8s.io\", \"kept.saltmarsh.example:5000\"]\n";

fn with(lines: &str) -> Cluster {
    let reading = read(&changed("[components]\n", &format!("{lines}\n[components]\n")));
    reading.cluster.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

fn held(cluster: &Cluster, secrets: &[SecretRef], of: &str) -> HostHoldings {
    let mut trust = Trust::new(cluster, at("2026-11-23"));
    trust.issue(cluster, at("2026-11-23"));
    let mut known = Known::of(cluster);
    known.site_secrets = secrets.iter().map(|one| (one.clone(), "ab".repeat(32))).collect();
    let sources = known.sources(&trust.ledger, "0123456789abcdef");
    holdings(cluster, sources, Part::ALL).unwrap().host(&host(of)).unwrap().clone()
}

fn text(held: &HostHoldings, path: &str) -> String {
    let file = held.files().find(|file| file.path == path);
    let file = file.unwrap_or_else(|| panic!("no {path} on {}", held.host));
    file.content.whole_text().unwrap()
}

fn hosts_toml(held: &HostHoldings, registry: &str) -> Value {
    let path = format!("/etc/zoisite/runtime/registries/{registry}/hosts.toml");
    toml::from_str(&text(held, &path)).unwrap()
}

#[test]
fn one_host_keeps_the_registry_and_every_node_is_told_of_it() {
    let cluster = with(OWN);
    let jetty = held(&cluster, &[], "jetty-a");
    let config = text(&jetty, "/etc/zoisite/registry/registry.yaml");
    for line in ["addr: 10.77.0.31:5000", "rootdirectory: /var/lib/zoisite-registry", "minimumtls"]
    {
        assert!(config.contains(line), "{line}: {config}");
    }
    assert!(!config.contains("auth:"), "{config}");
    let unit = text(&jetty, "/etc/systemd/system/zoisite-registry.service");
    for line in ["User=zoisite-registry", "ProtectSystem=strict", "/registry-3.1.2/registry serve"]
    {
        assert!(unit.contains(line), "{line}: {unit}");
    }
    assert!(jetty.units().any(|unit| unit.name == REGISTRY_UNIT && unit.port == Some(5000)));
    // It reads its certificate when it starts: another one restarts it.
    let read_by = jetty.items.iter().find_map(|item| match item {
        Item::Pair(pair) if pair.path.ends_with("/registry/server") => pair.read_by,
        _ => None,
    });
    assert_eq!(read_by, Some(ReadBy { unit: REGISTRY_UNIT, reloads: false }));
    let certificate = wanted(&cluster);
    let certificate =
        certificate.iter().find(|one| one.profile == Profile::RegistryServer).unwrap();
    for name in ["jetty-a", "registry.saltmarsh.example", "localhost"] {
        assert!(certificate.names.contains(&San::Dns(name.into())), "{:?}", certificate.names);
    }
    assert!(certificate.names.contains(&San::Ip("10.77.0.31".parse().unwrap())));
    let all = served(&cluster, cluster.host(&host("jetty-a")).unwrap());
    assert!(all.iter().any(|one| one.port == 5000 && !one.loopback));
    assert!(demands(&cluster).iter().any(|demand| demand.service == Service::Registry));

    let tern = held(&cluster, &[], "tern-1");
    let authority = "/etc/zoisite/runtime/registries/cluster-authority.crt";
    assert!(text(&tern, authority).contains("BEGIN CERTIFICATE"));
    let asked = json!({"capabilities": ["pull", "resolve"], "ca": authority});
    let own = hosts_toml(&tern, "registry.saltmarsh.example");
    assert_eq!(own["server"], "https://10.77.0.31:5000");
    assert_eq!(own["host"]["https://10.77.0.31:5000"], asked);
    for (other, folder) in [
        ("registry.k8s.io", "registry.k8s.io"),
        ("kept.saltmarsh.example:5000", "kept.saltmarsh.example-5000"),
    ] {
        let file = hosts_toml(&tern, other);
        assert_eq!(file["server"], format!("https://{other}"));
        let asked = &file["host"][format!("https://10.77.0.31:5000/v2/{folder}")];
        assert_eq!(asked["override_path"], true, "{file}");
        // What is put there under the other's name is found there.
        let image = ImageName::new(&format!("{other}/gulls/counter:2.1")).unwrap();
        let kept = cluster.registry.keeps(&image);
        assert_eq!(kept.repository, format!("{folder}/gulls/counter"));
        assert!(ImageName::new(&kept.to_string()).is_ok_and(|read| read == kept));
    }
    // One of its own name is not put below it again.
    let image = ImageName::new("registry.saltmarsh.example/gulls:2").unwrap();
    assert_eq!(cluster.registry.keeps(&image), image);
    // Nobody else holds anything of it.
    assert!(!held(&cluster, &[], "jetty-b").has(Part::Registry));
    let plain = held(&crate::common::saltmarsh(), &[], "tern-1");
    assert!(!plain.files().any(|file| file.path.contains("/registries/")));
}

#[test]
fn passwords_are_for_their_owners_eyes_and_go_to_those_that_are_asked() {
    let lines = format!(
        "{OWN}passwords = \"registry.htpasswd\"\n[preparation]\ncredentials = \"netrc\"\n\
         registries.\"docker.io\" = {{ addresses = [\"https://kept.saltmarsh.example:8443\", \"https://open.saltmarsh.example\"] }}\n"
    );
    let cluster = with(&lines);
    let (own, kept) = (Secret::new("s3cret".into()), Secret::new("k3pt".into()));
    let logins = [
        RegistryLogin { registry: "registry.saltmarsh.example", name: "warden", password: &own },
        RegistryLogin { registry: "kept.saltmarsh.example", name: "gull", password: &kept },
    ];
    let passwords = Secret::new("warden:$2y$05$abc\n".into());
    let secrets = registry_secrets(&cluster, Some(&logins), Some(passwords));
    let basic = |text: &str| format!("Basic {}", BASE64_STANDARD.encode(text));
    let file = |registry: &str| {
        let secret = &secrets[&SecretRef::RegistryHosts(registry.into())];
        toml::from_str::<Value>(secret.expose()).unwrap()
    };
    let header = |file: &Value, at: &str| file["host"][at]["header"]["authorization"].clone();
    let mirrored = file("registry.k8s.io");
    let at = "https://10.77.0.31:5000/v2/registry.k8s.io";
    assert_eq!(header(&mirrored, at), basic("warden:s3cret"));
    assert_eq!(
        header(&file("registry.saltmarsh.example"), "https://10.77.0.31:5000"),
        basic("warden:s3cret")
    );
    let docker = file("docker.io");
    assert_eq!(header(&docker, "https://kept.saltmarsh.example:8443"), basic("gull:k3pt"));
    assert_eq!(docker["host"]["https://open.saltmarsh.example"]["header"], Value::Null);
    let kubelet: Value =
        serde_json::from_str(secrets[&SecretRef::RegistryLogins].expose()).unwrap();
    let auth = kubelet["auths"]["registry.saltmarsh.example"]["auth"].as_str().unwrap();
    assert_eq!(BASE64_STANDARD.decode(auth).unwrap(), b"warden:s3cret");

    let known: Vec<SecretRef> = secrets.keys().cloned().collect();
    assert!(!format!("{secrets:?}").contains("s3cret"), "nothing of it is shown");
    let (tern, jetty) = (held(&cluster, &known, "tern-1"), held(&cluster, &known, "jetty-a"));
    for (held, path, owner) in [
        (&tern, "/var/lib/kubelet/config.json", "root"),
        (&tern, "/etc/zoisite/runtime/registries/docker.io/hosts.toml", "root"),
        (&jetty, "/etc/zoisite/registry/passwords", "zoisite-registry"),
    ] {
        let file = held.files().find(|file| file.path == path).unwrap_or_else(|| panic!("{path}"));
        assert_eq!((file.mode, file.owner), (0o600, owner), "{path}");
        assert!(matches!(file.content, Content::Secret { .. }), "{path}");
    }
    assert!(text(&jetty, "/etc/zoisite/registry/registry.yaml").contains("htpasswd"));
    assert!(!jetty.files().any(|file| file.path == "/var/lib/kubelet/config.json"));
}

fn shelved(name: &str, content: &str) -> Shelved {
    let text = content.as_bytes().to_vec();
    let digest = format!("sha256:{}", digest(content));
    let manifests = vec![Manifest { digest, media: "application/json".into(), text }];
    Shelved {
        name: ImageName::new(name).unwrap(),
        archives: Vec::new(),
        content: Some(Arc::new(ShelfContent { blobs: Vec::new(), manifests })),
    }
}

#[test]
fn images_are_put_there_when_it_answers_and_only_what_it_lacks() {
    let gulls = "registry.saltmarsh.example/registry.k8s.io/gulls:2";
    let shelf = vec![
        shelved("registry.saltmarsh.example/registry.k8s.io/pause:3.10", "pause"),
        shelved(gulls, "gulls"),
    ];
    let mut scene = Scene::of(with(OWN));
    scene.shelf.clone_from(&shelf);
    let sequence = scene.plan().unwrap();
    let fill = index(&sequence, "jetty-a/registry-images");
    let gate = index(&sequence, "registry-jetty-a");
    assert!(needs(&sequence, fill, gate));
    assert!(needs(&sequence, gate, index(&sequence, "jetty-a/registry-start")));
    let Work::Fill { images, .. } = &sequence.steps[fill].work else { panic!("images") };
    assert_eq!(*images, shelf);
    // Nodes join without it.
    assert!(!needs(&sequence, index(&sequence, "tern-1/join"), gate));

    // It stands: what it lacks is put there once it was asked.
    let mut scene = Scene::raised_of(with(OWN));
    scene.shelf = shelf;
    for (of, unit, path) in [
        ("jetty-a", REGISTRY_UNIT, "registry-3.1.2/registry"),
        ("curlew", API_SERVER_UNIT, "kubernetes-1.36.3/kube-apiserver"),
    ] {
        let runs = format!("/usr/local/lib/zoisite/{path}");
        let seen = scene.looks.get_mut(&host(of)).unwrap().as_mut().unwrap();
        seen.found.units.get_mut(unit).unwrap().runs = Some(runs);
    }
    // Its version is its own: no rule holds it against that of Kubernetes.
    assert!(scene.plan().unwrap().is_empty());
    scene.api(|api| api.lacking = BTreeSet::from([gulls.to_owned()]));
    let sequence = scene.plan().unwrap();
    let ids: Vec<&str> = sequence.steps.iter().map(|step| step.id.as_str()).collect();
    assert_eq!(ids, ["registry-jetty-a", "jetty-a/registry-images"]);
    let Work::Gate(gate) = &sequence.steps[0].work else { panic!("a gate") };
    assert_eq!(gate.condition, Condition::Registry { host: host("jetty-a") });
    let Work::Fill { images, .. } = &sequence.steps[1].work else { panic!("images") };
    assert_eq!(images.len(), 1);
    // One that does not answer is waited for; what it has is asked again then.
    scene.api(|api| {
        api.lacking.clear();
        api.registry_silent = Some("Connection refused".into());
    });
    let sequence = scene.plan().unwrap();
    assert!(sequence.steps[1].why[0].contains("Connection refused"), "{:?}", sequence.steps[1]);
}

#[test]
fn another_image_under_the_same_name_is_not_there() {
    let image = shelved("registry.saltmarsh.example/gulls:2", "gulls");
    let own = format!("sha256:{}", digest("gulls"));
    assert!(image.is_there(Some(&own)));
    assert!(!image.is_there(Some(&format!("sha256:{}", digest("others")))));
    assert!(!image.is_there(None));
    // Where its archive is not at hand, its name is all that there is to go by.
    let unknown = Shelved { content: None, ..image };
    assert!(unknown.is_there(Some(&own)) && !unknown.is_there(None));
}

#[test]
fn what_cannot_be_is_said_in_its_place() {
    let findings = |lines: &str, grade: Grade| {
        let reading =
            read(&changed("[components]\n", &format!("[registry]\n{lines}\n\n[components]\n")));
        let codes: Vec<&str> = reading.of(grade).map(|finding| finding.code).collect();
        (codes.join(" "), reading.findings)
    };
    for (lines, code) in [
        ("port = 5000", "missing-key"),
        ("host = \"jetty-c\"", "unknown-host"),
        ("host = \"jetty-a\"\nname = \"registry\"", "bad-name"),
        ("host = \"jetty-a\"\nport = 6443", "port-clash"),
        ("host = \"jetty-a\"\nread-only = \"yes\"", "wrong-type"),
        ("host = \"jetty-a\"\nfolder = \"images\"", "bad-path"),
        ("host = \"jetty-a\"\nmirrors = [\"a b\"]", "bad-range"),
        ("host = \"jetty-a\"\nname = \"r.example\"\nmirrors = [\"r.example\"]", "registry-loop"),
        ("host = \"jetty-a\"\npasswords = \"registry.htpasswd\"", "no-login"),
    ] {
        let (codes, all) = findings(lines, Grade::Blocks);
        assert_eq!(codes, code, "{lines}: {all:?}");
    }
    // A host that does nothing else has something to do.
    let text = changed("[components]\n", "[registry]\nhost = \"knot\"\n\n[components]\n").replacen(
        "[hosts]\n",
        "[hosts]\nknot = \"10.77.0.99\"\n",
        1,
    );
    let reading = read(&text);
    assert!(reading.cluster.is_some(), "{:?}", reading.findings);
    assert!(reading.findings.iter().all(|f| f.code != "idle-host"), "{:?}", reading.findings);
    assert_eq!(reading.cluster.unwrap().registry.name, "registry.saltmarsh.example");
}
