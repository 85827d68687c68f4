//! Components on their way to real hosts: from a served copy of what projects publish, carried in one file, over a
//! link that is crossed once.

use std::path::Path;
use std::process::Command;

use crate::common::lab::{Lab, lab, project};
use crate::common::served::{Served, gzip, sha256};
use crate::common::{Done, Place};
use serde_json::Value;

const PUBLISHED: &str = "published/dl.k8s.io/v1.36.3/bin/linux/amd64";
const ETCD: &str = "published/github.com/etcd-io/etcd/releases/download/v3.6.16";

/// What the lab's builder made, served in the layouts of the projects that publish it.
fn served(lab_: &Lab) -> Served {
    let built = std::fs::read_link(lab_.place.path("components")).unwrap();
    let served = Served::new(lab_.place.path("server"));
    for file in std::fs::read_dir(built.join("kubernetes/1.36.3/linux-amd64")).unwrap() {
        let path = file.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap();
        let sum = sha256(&std::fs::read(&path).unwrap());
        served.put(&format!("{PUBLISHED}/{name}.sha256"), sum);
        std::os::unix::fs::symlink(&path, served.folder.join(PUBLISHED).join(name)).unwrap();
    }
    let (folder, archive) = ("etcd-v3.6.16-linux-amd64", "etcd-v3.6.16-linux-amd64.tar.gz");
    let etcd = built.join("etcd/3.6.16/linux-amd64");
    let tar = Command::new("tar")
        .args(["-c", "--transform", &format!("s|^|{folder}/|"), "-C"])
        .arg(&etcd)
        .args(["etcd", "etcdctl", "etcdutl"])
        .output()
        .unwrap();
    let octets = gzip(&tar.stdout);
    served.put(&format!("{ETCD}/SHA256SUMS"), format!("{}  {archive}\n", sha256(&octets)));
    served.put(&format!("{ETCD}/{archive}"), octets);
    for (repository, tag) in [("pause", "3.10"), ("coredns/coredns", "v1.15.0")] {
        let name = format!("registry.k8s.io/{repository}");
        let archive = built.join(format!("images/{name}:{tag}/linux-amd64/image.tar"));
        put_archive(&served, &format!("kept/{name}"), tag, &archive);
    }
    served
}

/// The image of an archive, as a registry gives it.
fn put_archive(served: &Served, repository: &str, tag: &str, archive: &Path) {
    let place = Place::new();
    let mut tar = Command::new("tar");
    let _ = Done::of(tar.arg("-xf").arg(archive).arg("-C").arg(place.folder())).ended(0);
    let mut blobs = Vec::new();
    for blob in std::fs::read_dir(place.path("blobs/sha256")).unwrap() {
        let path = blob.unwrap().path();
        let digest = format!("sha256:{}", path.file_name().unwrap().to_str().unwrap());
        blobs.push((digest, std::fs::read(path).unwrap()));
    }
    let index: Value = serde_json::from_str(&place.read("index.json")).unwrap();
    let manifest = index["manifests"][0]["digest"].as_str().unwrap();
    for (digest, blob) in &blobs {
        served.put(&format!("v2/{repository}/blobs/{digest}"), blob);
        if digest == manifest {
            served.put(&format!("v2/{repository}/manifests/{digest}"), blob);
            served.put(&format!("v2/{repository}/manifests/{tag}"), blob);
        }
    }
}

/// How fast the admin's link is: slow enough to be what all wait for, and the test has an end.
const RATE: &str = "60mbit";

/// The program as a new admin machine has it: nothing but what was in the packed file, and nothing but the lab's
/// network.
fn far(lab_: &Lab, words: &[&str]) -> Done {
    let mut command = Command::new(project().join("lab/admin"));
    let folder = lab_.place.path("far");
    command.args([RATE, "env", "-i", "PATH=/usr/bin:/bin:/usr/sbin:/sbin", "TERM=dumb"]);
    command.arg(format!("HOME={}", lab_.place.path("far-home").display()));
    command.arg(format!("ZOISITE_SSH_CONFIG={}", lab_.folder.join("ssh_config").display()));
    command.arg("./zoisite").args(words);
    Done::of(command.current_dir(folder))
}

/// How many octets went over the admin's link so far.
fn crossed() -> u64 {
    lab("admin", &[RATE, "cat", "/sys/class/net/eth0/statistics/tx_bytes"]).trim().parse().unwrap()
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn eleven_hosts_from_a_packed_file_over_a_link_that_is_crossed_once() {
    let lab_ = Lab::of("saltmarsh", None, 11);
    let served = served(&lab_);
    // An empty home, the published layouts, and nothing else of the lab's builder.
    std::fs::remove_file(lab_.place.path("components")).unwrap();
    lab_.place.write("ca.pem", &served.authority);
    let keys = format!(
        "from = \"components\"\nmirror = \"{}/published\"\nimages-mirror = \"localhost:{}/kept\"\nauthority = \"ca.pem\"\n",
        served.base(),
        served.port
    );
    let text = lab_.place.read("zoisite.toml").replace("from = \"components\"\n", &keys);
    // All of them stand at one site.
    let placed = text.lines().map(|line| match line.split_once(" = \"10.77.0.") {
        Some((name, rest)) if name != "virtual-ip" => {
            format!("{name} = {{ address = \"10.77.0.{rest}, site = \"hide\" }}\n")
        }
        _ => format!("{line}\n"),
    });
    lab_.place.write("zoisite.toml", placed.collect::<String>());
    let _ = lab_.zoisite(&["components", "fetch", "--arch", "amd64"]).ended(0).says("9 brought");
    let _ = lab_.zoisite(&["components", "pack", "carry.tar", "--arch", "amd64"]).ended(0);
    let carried = lab_.place.path("carry.tar");
    let words = ["components", "unpack", carried.to_str().unwrap(), "--out"];
    let _ =
        lab_.zoisite(&[&words[..], &[lab_.place.path("far").to_str().unwrap()]].concat()).ended(0);

    let before = crossed();
    let done = far(&lab_, &["raise"]).ended(0);
    let over = crossed() - before;
    // Of the client for people's own computers, and of etcdutl, hosts get nothing.
    let folder = lab_.place.path("far/components");
    let size = |place: &str| std::fs::metadata(folder.join(place)).unwrap().len();
    let kubernetes =
        ["kube-apiserver", "kube-controller-manager", "kube-scheduler", "kubelet", "kube-proxy"];
    let once: u64 = kubernetes
        .iter()
        .map(|name| size(&format!("kubernetes/1.36.3/linux-amd64/{name}")))
        .sum::<u64>()
        + ["etcd", "etcdctl"]
            .iter()
            .map(|name| size(&format!("etcd/3.6.16/linux-amd64/{name}")))
            .sum::<u64>()
        + ["pause:3.10", "coredns/coredns:v1.15.0"]
            .iter()
            .map(|name| size(&format!("images/registry.k8s.io/{name}/linux-amd64/image.tar")))
            .sum::<u64>();
    assert!(over >= once, "{over} of {once}");
    assert!(over < once + once / 8, "one copy crosses: {over} of {once}");
    let _ = done
        .complains("to bring over this link")
        .complains("from host to host")
        .complains("(forecast ");
    let _ = far(&lab_, &["verify"]).ended(0);
    let _ = far(&lab_, &["raise"]).ended(0).says("nothing differs");
    // Nothing of it stays on the hosts.
    for host in ["heron", "curlew", "tern-1", "tern-3"] {
        let left = lab_.on(host, "systemctl list-units --all --plain --no-legend 'zoisite-relay*'; ls -d /run/zoisite-relay /run/systemd/system/zoisite-relay* 2>/dev/null; find /usr/local/lib/zoisite -name '*.zoisite-*'");
        assert_eq!(left.stdout, "", "{host}");
    }

    // A host that its neighbours do not reach gets it straight from here.
    let gone =
        "systemctl stop zoisite-kube-proxy; rm /usr/local/lib/zoisite/kubernetes-1.36.3/kube-proxy";
    let _ = lab_.on("tern-3", gone).ended(0);
    let _ = lab("cut", &["tern-3", "2382"]);
    let before = crossed();
    let _ = far(&lab_, &["raise"]).ended(0).complains("kube-proxy 1.36.3 did not come from");
    assert!(crossed() - before > size("kubernetes/1.36.3/linux-amd64/kube-proxy"));
    let _ = lab("fix", &[]);
    // And one that they do reach gets it from them, though nothing else is to be done.
    let _ = lab_.on("tern-3", gone).ended(0);
    let before = crossed();
    let _ = far(&lab_, &["raise"]).ended(0);
    assert!(crossed() - before < 20 << 20, "it came from a neighbour");
    // A disk that is full on the way: told as that, and nothing half done; with room the next run goes on.
    let full = "systemctl stop zoisite-kube-proxy; mount -t tmpfs -o size=30m full /usr/local/lib/zoisite/kubernetes-1.36.3";
    let _ = lab_.on("tern-2", full).ended(0);
    let _ =
        far(&lab_, &["raise"]).ended(1).complains("tern-2").complains("No space left on device");
    let whole = "ls -A /usr/local/lib/zoisite/kubernetes-1.36.3 | grep -v '\\.zoisite-'";
    assert_eq!(lab_.on("tern-2", whole).stdout, "");
    let _ = lab_.on("tern-2", "umount /usr/local/lib/zoisite/kubernetes-1.36.3").ended(0);
    let _ = far(&lab_, &["raise"]).ended(0);
    // A file here that was changed stops everything before a host is touched.
    let kept = lab_.place.path("far/components/kubernetes/1.36.3/linux-amd64/kube-proxy");
    std::fs::write(&kept, "another").unwrap();
    let _ = lab_.on("tern-3", gone).ended(0);
    let _ = far(&lab_, &["raise"])
        .ended(1)
        .complains("is pinned: it is another file, or damaged")
        .complains("no host was touched");
}

/// The other architecture: real programs, built for it, come beside this one's and are told apart.
#[test]
#[ignore = "needs the lab: Go, and the components that it builds"]
fn both_architectures_stand_side_by_side() {
    let build = |arch: &str| {
        let mut command = Command::new(project().join("lab/components/build"));
        let done = Done::of(command.args(["etcd", "sandbox"]).env("ARCH", arch)).ended(0);
        std::path::PathBuf::from(done.stdout.trim())
    };
    let place = Place::saltmarsh();
    let image = |arch: &str| format!("images/registry.k8s.io/pause:3.10/linux-{arch}/image.tar");
    let mut sums = String::new();
    for arch in ["amd64", "arm64"] {
        let built = build(arch);
        for file in [format!("etcd/3.6.16/linux-{arch}/etcd"), image(arch)] {
            let octets = std::fs::read(built.join(&file)).unwrap();
            sums.push_str(&format!("{}  {file}\n", sha256(&octets)));
            place.write(&format!("components/{file}"), octets);
        }
    }
    place.write("components/SHA256SUMS", sums);
    // ELF header, e_machine: 0x3e is x86-64, 0xb7 is AArch64.
    for (arch, machine) in [("amd64", 0x3e), ("arm64", 0xb7)] {
        let program =
            std::fs::read(place.path(&format!("components/etcd/3.6.16/linux-{arch}/etcd")))
                .unwrap();
        assert_eq!((&program[..4], program[18]), (&b"\x7fELF"[..], machine), "{arch}");
    }
    // An archive for one of them is none for the other.
    place.write(
        "images/pause.tar",
        std::fs::read(place.path(&format!("components/{}", image("arm64")))).unwrap(),
    );
    let text = place.read("zoisite.toml");
    let from = "from = \"components\"\n";
    place.write("zoisite.toml", text.replace(from, &format!("{from}sandbox = \"images/pause.tar\"\nmirror = \"nowhere\"\nimages-mirror = \"localhost:9\"\n")));
    let fetch = |arch: &str| place.run(&["components", "fetch", "--arch", arch]).ended(1);
    let _ = fetch("amd64").complains("it is for linux-arm64, not for linux-amd64");
    let done = fetch("arm64");
    assert!(!done.stderr.contains("taking ./images/pause.tar"), "{done:?}");
    assert!(place.path("components/images/images/pause.tar/linux-arm64/image.tar").exists());
}

/// A host that only says that it is of the other architecture: the files that are brought there are looked at. They run
/// nowhere here.
#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_host_that_says_it_is_of_the_other_architecture_is_brought_what_is_built_for_that() {
    let lab_ = Lab::fresh();
    let built = std::fs::read_link(lab_.place.path("components")).unwrap();
    let mut command = Command::new(project().join("lab/components/build"));
    let other = Done::of(command.args(["etcd", "sandbox"]).env("ARCH", "arm64")).ended(0).stdout;
    std::fs::remove_file(lab_.place.path("components")).unwrap();
    let mut sums = String::new();
    for (folder, arch) in [(built.as_path(), "amd64"), (Path::new(other.trim()), "arm64")] {
        for file in ["etcd", "etcdctl", "etcdutl"] {
            let file = format!("etcd/3.6.16/linux-{arch}/{file}");
            let octets = std::fs::read(folder.join(&file)).unwrap();
            sums.push_str(&format!("{}  {file}\n", sha256(&octets)));
            lab_.place.write(&format!("components/{file}"), octets);
        }
    }
    lab_.place.write("components/SHA256SUMS", sums);
    let says = "printf '#!/bin/sh\\ncase $1 in -m) echo aarch64 ;; *) exec /usr/bin/uname \"$@\" ;; esac\\n' >/usr/local/bin/uname; chmod 755 /usr/local/bin/uname";
    let _ = lab_.on("ibis", says).ended(0);
    let _ = lab_.zoisite(&["survey", "ibis"]).says("on arm64");
    // Two of three are of this machine's kind: the third cannot start, and that is told of it alone.
    let raised = lab_.zoisite(&["raise"]).ended(1);
    assert!(
        raised.stderr.contains("ibis") && !raised.stderr.contains("error: heron"),
        "{raised:?}"
    );
    for (host, machine) in [("heron", "3e"), ("egret", "3e"), ("ibis", "b7")] {
        let look = "od -An -tx1 -j18 -N1 /usr/local/lib/zoisite/etcd-3.6.16/etcd";
        assert_eq!(lab_.on(host, look).ended(0).stdout.trim(), machine, "{host}");
    }
}
