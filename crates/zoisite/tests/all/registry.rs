//! The cluster's own registry, and one that the site has: on real hosts, with real pulls.

use std::fs::Permissions;
use std::os::unix::fs::PermissionsExt as _;
use std::process::{Child, Command, Stdio};

use crate::common::lab::Lab;
use crate::common::waits::patience;
use crate::common::{Done, Place};
use serde_json::Value;

/// `warden` with the password `s3cret`, as `htpasswd -B` writes it.
const PASSWORDS: &str = "warden:$2y$05$abcdefghijklmnopqrstuuLK7U1u6pVRmL7L1BBM2aS35PSZnDXlK\n";
const OWN: &str = "registry.saltmarsh.example";

/// The site's own registry: on this machine, with an authority of its own, and a password.
struct Site {
    child: Child,
}

impl Site {
    /// Where hosts find it; `kept.saltmarsh.example` is its name in images.
    const AT: &'static str = "10.77.0.254:5443";

    fn begins(place: &Place) -> Self {
        let openssl = |args: &[&str]| {
            let mut command = Command::new("openssl");
            let _ = Done::of(command.current_dir(place.folder()).args(args)).ended(0);
        };
        let key = ["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes"];
        let authority = ["-subj", "/CN=the site", "-keyout", "site-ca.key", "-out", "site-ca.crt"];
        openssl(&[&["req", "-x509", "-days", "3"][..], &key, &authority].concat());
        let server = ["-subj", "/CN=kept", "-keyout", "site.key", "-out", "site.csr"];
        openssl(&[&["req"][..], &key, &server].concat());
        place.write("site.ext", "subjectAltName=IP:10.77.0.254\n");
        openssl(&[
            "x509",
            "-req",
            "-days",
            "3",
            "-in",
            "site.csr",
            "-CA",
            "site-ca.crt",
            "-CAkey",
            "site-ca.key",
            "-extfile",
            "site.ext",
            "-out",
            "site.crt",
        ]);
        place.write("site.htpasswd", PASSWORDS);
        let path = |name: &str| place.path(name).display().to_string();
        let config = serde_json::json!({
            "version": "0.1",
            "log": {"accesslog": {"disabled": true}},
            "storage": {"filesystem": {"rootdirectory": path("site-images")}},
            "http": {"addr": Self::AT, "tls": {"certificate": path("site.crt"), "key": path("site.key")}},
            "auth": {"htpasswd": {"realm": "site", "path": path("site.htpasswd")}},
        });
        // YAML reads JSON.
        place.write("site.yaml", config.to_string());
        let folder = place.path("components/registry");
        let version = std::fs::read_dir(folder).unwrap().next().unwrap().unwrap();
        let child = Command::new(version.path().join("linux-amd64/registry"))
            .args(["serve", &path("site.yaml")])
            .env("OTEL_TRACES_EXPORTER", "none")
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        Self { child }
    }

    /// Asks it or another registry, as a person would: method, path, and what goes on.
    fn curl(place: &Place, authority: &str, url: &str, more: &[&str]) -> Done {
        let mut curl = Command::new("curl");
        curl.current_dir(place.folder());
        curl.args(["-sS", "--max-time", "30", "--cacert", authority, "-u", "warden:s3cret"]);
        Done::of(curl.args(more).arg(url))
    }

    /// Copies an image there from the cluster's registry, blob by blob.
    fn takes(
        place: &Place,
        (from, from_authority): (&str, &str),
        repository: &str,
        tag: &str,
        to: &str,
    ) {
        let own = |path: &str, more: &[&str]| {
            Self::curl(place, from_authority, &format!("{from}/v2/{repository}/{path}"), more)
                .ended(0)
        };
        let at = |path: &str| format!("https://{}{path}", Self::AT);
        let media = "application/vnd.oci.image.manifest.v1+json";
        let accept = format!("Accept: {media}");
        let manifest = own(&format!("manifests/{tag}"), &["-H", &accept]);
        let read: Value = serde_json::from_str(&manifest.stdout).unwrap();
        place.write("manifest", &manifest.stdout);
        let layers = read["layers"].as_array().unwrap().iter();
        for blob in std::iter::once(&read["config"]).chain(layers) {
            let digest = blob["digest"].as_str().unwrap();
            let _ = own(&format!("blobs/{digest}"), &["-o", "blob"]);
            let begun = Self::curl(
                place,
                "site-ca.crt",
                &at(&format!("/v2/{to}/blobs/uploads/")),
                &["-X", "POST", "-D", "-"],
            );
            let location = header(&begun.ended(0), "location");
            let url = format!("{location}&digest={digest}");
            let octets = [
                "-X",
                "PUT",
                "-H",
                "Content-Type: application/octet-stream",
                "--data-binary",
                "@blob",
                "--fail",
            ];
            let _ = Self::curl(place, "site-ca.crt", &url, &octets).ended(0);
        }
        let kind = format!("Content-Type: {media}");
        let put = ["-X", "PUT", "-H", &kind, "--data-binary", "@manifest", "--fail"];
        let _ = Self::curl(place, "site-ca.crt", &at(&format!("/v2/{to}/manifests/{tag}")), &put)
            .ended(0);
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        let _ = (self.child.kill(), self.child.wait());
    }
}

/// What `verify` tried of a check.
fn tried<'a>(proofs: &'a Value, check: &str) -> Vec<&'a str> {
    let all = proofs["tried"].as_array().unwrap().iter().filter(|one| one["check"] == check);
    all.map(|one| one["on"].as_str().unwrap()).collect()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn images_are_pushed_and_pulled_with_authorities_and_passwords() {
    let lab_ = Lab::of("registry", None, 2);
    let place = &lab_.place;
    let site = Site::begins(place);
    let _ = lab_.zoisite(&["raise"]).ended(0);
    lab_.must_converge();
    // What was pushed a moment ago is pulled on every node, by each name that leads there.
    let proofs = lab_.zoisite(&["verify", "--json"]).ended(0).json();
    assert_eq!(tried(&proofs, "image pushed").len(), 2, "{proofs:#}");
    let pulled = tried(&proofs, "image pulled");
    for node in ["heron", "egret"] {
        for registry in [OWN, "lab.saltmarsh.example"] {
            let on = format!("{node}: {registry}");
            assert!(pulled.contains(&on.as_str()), "{on}: {pulled:?}");
        }
    }
    let _ = lab_.zoisite(&["sequence"]).ended(0).says("nothing differs");
    // Whoever has the cluster's authority may look.
    let files = lab_.place.path("files");
    let _ = lab_.zoisite(&["files", "--out", files.to_str().unwrap()]).ended(0);
    let authority = "files/egret/etc/zoisite/runtime/registries/cluster-authority.crt";
    let own = "https://10.77.0.12:5000";
    let catalog = Site::curl(place, authority, &format!("{own}/v2/_catalog"), &[]).ended(0);
    assert!(catalog.stdout.contains("lab.saltmarsh.example/sandbox"), "{catalog:?}");

    // What somebody takes away is noticed, and put there again: only that.
    let tags = format!("{own}/v2/lab.saltmarsh.example/sandbox");
    let head = Site::curl(
        place,
        authority,
        &format!("{tags}/manifests/3.10"),
        &["-I", "-H", "Accept: application/vnd.oci.image.manifest.v1+json"],
    );
    let digest = header(&head.ended(0), "docker-content-digest");
    let gone = format!("{tags}/manifests/{digest}");
    let _ = Site::curl(place, authority, &gone, &["-X", "DELETE", "--fail"]).ended(0);
    let _ = lab_
        .zoisite(&["status"])
        .ended(3)
        .says("the registry lacks registry.saltmarsh.example/lab.saltmarsh.example/sandbox:3.10");
    let sequence = lab_.zoisite(&["sequence"]).ended(0).says("sandbox:3.10: it is not there");
    assert!(!sequence.stdout.contains("coredns"), "{sequence:?}");
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let _ = lab_.zoisite(&["status"]).ended(0).says("registry");

    // With passwords, and one of the site's that stands in for another: nodes show it theirs.
    let tag = image_tag(&catalog, place, authority, own);
    Site::takes(place, (own, authority), "lab.saltmarsh.example/coredns", &tag, "gulls/counter");
    place.write("registry.htpasswd", PASSWORDS);
    let open = place.read("zoisite.toml");
    let text = format!(
        "{open}passwords = \"registry.htpasswd\"\n\n[preparation]\ncredentials = \"netrc\"\n\
         registries.\"kept.saltmarsh.example\" = {{ addresses = [\"https://{}\"], authority = \"/etc/ssl/site.pem\" }}\n",
        Site::AT
    );
    place.write("zoisite.toml", &text);
    place.write("netrc", "machine 10.77.0.254 login warden password s3cret\n");
    std::fs::set_permissions(place.path("netrc"), Permissions::from_mode(0o600)).unwrap();
    // Without one of its own nothing is begun.
    let _ = lab_.zoisite(&["raise"]).ended(2).complains("none to pull from it with");
    place.write("netrc", format!("machine {OWN} login warden password s3cret\nmachine 10.77.0.254 login warden password s3cret\n"));
    for host in ["heron", "egret"] {
        let given = place.read("site-ca.crt");
        let _ = lab_.on_with(host, "cat >/etc/ssl/site.pem", given).ended(0);
    }
    let _ = lab_.zoisite(&["raise"]).ended(0);
    lab_.must_converge();
    let image = format!("kept.saltmarsh.example/gulls/counter:{tag}");
    let held = format!("lab.saltmarsh.example/coredns:{tag}");
    let _ = lab_.zoisite(&["verify", "--pull", &held]).ended(2).complains("would unpin it");
    let proofs = lab_.zoisite(&["verify", "--json", "--pull", &image]).ended(0).json();
    let pulled = tried(&proofs, "image pulled");
    assert_eq!(pulled.len(), 6, "{pulled:?}");
    assert!(pulled.contains(&format!("heron: {image}").as_str()), "{pulled:?}");
    let nobody = ["-u", "warden:wrong", "-o", "/dev/null", "-w", "%{http_code}"];
    let refused = Site::curl(place, authority, &format!("{own}/v2/"), &nobody).ended(0);
    assert_eq!(refused.stdout, "401");
    for (host, path) in [
        ("heron", "/etc/zoisite/runtime/registries/kept.saltmarsh.example/hosts.toml"),
        ("egret", "/etc/zoisite/registry/passwords"),
    ] {
        let _ = lab_.on(host, &format!("stat -c %a {path}")).ended(0).says("600");
    }
    // Gone, it is missed by who pulls, and by status.
    drop(site);
    let failed = lab_.zoisite(&["verify", "--timeout", &patience(20), "--pull", &image]).ended(1);
    assert!(
        failed.stdout.contains("image pulled") && failed.stdout.contains("10.77.0.254:5443"),
        "{failed:?}"
    );
    let _ = lab_.zoisite(&["uninstall", "egret", "--yes"]).ended(4).complains("depend on egret");
    let _ = lab_.on("egret", "systemctl stop zoisite-registry").ended(0);
    let _ = lab_.zoisite(&["status"]).ended(3).says("not running");
    let _ = lab_.zoisite(&["raise"]).ended(0);

    // Read-only: nothing is put there any more, not by us either, and what is there is pulled.
    place.write(
        "zoisite.toml",
        text.replace(
            "passwords = \"registry.htpasswd\"\n",
            "passwords = \"registry.htpasswd\"\nread-only = true\n",
        ),
    );
    let _ = lab_.zoisite(&["raise"]).ended(0);
    let upload = format!("{own}/v2/gulls/blobs/uploads/");
    let put = ["-X", "POST", "-o", "/dev/null", "-w", "%{http_code}"];
    assert_eq!(Site::curl(place, authority, &upload, &put).ended(0).stdout, "405");
    let kept = format!("{OWN}/lab.saltmarsh.example/coredns:{tag}");
    let proofs = lab_.zoisite(&["verify", "--json", "--pull", &kept]).ended(0).json();
    assert!(tried(&proofs, "image pushed").is_empty());
    assert_eq!(tried(&proofs, "image pulled").len(), 2);
}

/// A header of an answer that was printed with its head; HTTP/2 writes their names small.
fn header(answer: &Done, name: &str) -> String {
    let mut lines = answer.stdout.lines().filter_map(|line| line.split_once(':'));
    let found = lines.find(|(known, _)| known.eq_ignore_ascii_case(name));
    found.unwrap_or_else(|| panic!("no {name}: {answer:?}")).1.trim().to_owned()
}

/// The tag of CoreDNS, as the registry lists it.
fn image_tag(catalog: &Done, place: &Place, authority: &str, own: &str) -> String {
    assert!(catalog.stdout.contains("lab.saltmarsh.example/coredns"), "{catalog:?}");
    let url = format!("{own}/v2/lab.saltmarsh.example/coredns/tags/list");
    let mut tag = String::new();
    crate::common::waits::until("CoreDNS to be listed", 60, || {
        let listed = Site::curl(place, authority, &url, &[]).ended(0);
        let listed: Value = serde_json::from_str(&listed.stdout).unwrap();
        tag = listed["tags"][0].as_str().unwrap_or_default().to_owned();
        !tag.is_empty()
    });
    tag
}
