//! Pinned components: fetched from a server on this machine that holds what projects publish in their layouts,
//! well and badly; pinned, checked, carried in one file.

use std::path::PathBuf;
use std::process::Command;

use crate::common::served::{Badly, Served, archive_of, image_of, proxy, sha256};
use crate::common::{Done, Place, SALTMARSH};
use tar::EntryType;

/// A site with an empty home, and its mirror.
struct Scene {
    place: Place,
    served: Served,
}

const KUBELET: &str = "/published/dl.k8s.io/v1.36.3/bin/linux/amd64/kubelet";
const ETCD: &str =
    "/published/github.com/etcd-io/etcd/releases/download/v3.6.16/etcd-v3.6.16-linux-amd64.tar.gz";
const SUMS: &str = "/published/github.com/etcd-io/etcd/releases/download/v3.6.16/SHA256SUMS";
const PAUSE: &str = "/v2/kept/registry.k8s.io/pause/manifests/3.10";

impl Scene {
    fn new() -> Self {
        let place = Place::new();
        let served = Served::whole(place.path("server"));
        place.write("site/ca.pem", &served.authority);
        let scene = Self { place, served };
        scene.says("authority = \"ca.pem\"");
        scene
    }

    /// The cluster file, with these lines in [components] besides the mirrors.
    fn says(&self, lines: &str) {
        let base = self.served.base();
        let mirrors = format!(
            "mirror = \"{base}/published\"\nimages-mirror = \"localhost:{}/kept\"\n{lines}\n",
            self.served.port
        );
        let from = "from = \"components\"\n";
        self.place.write("site/zoisite.toml", SALTMARSH.replace(from, &format!("{from}{mirrors}")));
    }

    fn run(&self, words: &[&str]) -> Done {
        let mut command = Command::new(env!("CARGO_BIN_EXE_zoisite"));
        command.env_clear().env("HOME", self.place.path("home"));
        Done::of(command.args(words).current_dir(self.place.path("site")))
    }

    fn fetch(&self) -> Done {
        self.run(&["components", "fetch", "--arch", "amd64"])
    }

    fn at(&self, place: &str) -> PathBuf {
        self.place.path("site/components").join(place)
    }

    /// Nothing of this component, and nothing half done, is in its place.
    fn has_no(&self, place: &str) {
        assert!(!self.at(place).exists(), "{place} was put in its place");
    }
}

#[test]
fn everything_comes_is_pinned_and_does_not_come_again() {
    let scene = Scene::new();
    let list = ["components", "list", "--arch", "amd64", "--arch", "arm64"];
    let _ = scene.run(&list).ended(0).says("missing").says("22 of 22 files missing here");
    let fetch = ["components", "fetch", "--arch", "amd64", "--arch", "arm64"];
    let _ = scene.run(&fetch).ended(0).says("18 brought");
    let _ = scene.run(&list).ended(0).says("22 files, all here and pinned");
    let lock = scene.place.read("site/components.lock");
    for line in [
        "\"https://dl.k8s.io/v1.36.3/bin/linux/arm64/kubelet\" = \"",
        "\"registry.k8s.io/pause:3.10\" = \"sha256:",
        "\"etcd/3.6.16/linux-amd64/etcdutl\" = \"",
        "\"images/registry.k8s.io/coredns/coredns:v1.15.0/linux-arm64/image.tar\" = \"",
    ] {
        assert!(lock.contains(line), "{line}: {lock}");
    }
    let etcd = std::fs::read_to_string(scene.at("etcd/3.6.16/linux-arm64/etcd")).unwrap();
    assert_eq!(etcd, "etcd-v3.6.16-linux-arm64/etcd");
    assert!(!scene.at(".fetching").exists(), "nothing is on its way any more");
    // What is there is asked of nobody again; a part that is gone comes alone.
    scene.served.asked();
    let _ = scene.run(&fetch).ended(0).says("18 here already");
    assert_eq!(scene.served.asked(), []);
    std::fs::remove_file(scene.at("kubernetes/1.36.3/linux-arm64/kubelet")).unwrap();
    let _ = scene.run(&fetch).ended(0).says("1 brought").says("17 here already");
    assert!(scene.served.asked().iter().all(|(path, _)| path.contains("arm64/kubelet")));
    assert_eq!(scene.place.read("site/components.lock"), lock, "the same octets, the same pins");
    // A plan needs nothing else of it: what is brought is named by its pins.
    let _ = scene
        .run(&["components", "check", "--arch", "amd64"])
        .ended(0)
        .says("each as it is pinned");
    // A version that the file no longer says has no pins any more.
    let text = scene.place.read("site/zoisite.toml");
    scene.place.write("site/zoisite.toml", text.replace("etcd = \"3.6.16\"", "etcd = \"3.6.15\""));
    let _ = scene.fetch().ended(1).complains("it is not there").complains("v3.6.15/SHA256SUMS");
    assert!(
        scene.place.read("site/components.lock").contains("etcd/3.6.16"),
        "nothing is lost by a failure"
    );
}

#[test]
fn what_was_cut_goes_on_where_it_was() {
    let scene = Scene::new();
    scene.served.badly(KUBELET, Badly::Cut(20_000, 2));
    let blob = image_of("dns", &["amd64", "arm64"])[0].0.clone();
    let layer = format!("/v2/kept/registry.k8s.io/coredns/coredns/blobs/{blob}");
    scene.served.badly(&layer, Badly::Cut(100, 1));
    let _ = scene.fetch().ended(0).says("brought");
    let asked = scene.served.asked();
    let ranges = |path: &str| {
        let of = asked.iter().filter(|(one, _)| one == path);
        of.map(|(_, range)| range.clone().unwrap_or_default()).collect::<Vec<_>>()
    };
    assert_eq!(ranges(KUBELET), ["", "bytes=20000-", "bytes=40000-"]);
    assert_eq!(ranges(&layer).len(), 2, "{asked:?}");
    // Cut again and again: what came is kept, and the next run goes on from there.
    std::fs::remove_dir_all(scene.at("kubernetes")).unwrap();
    scene.served.badly(KUBELET, Badly::Cut(10, 1_000));
    let killed = {
        let mut command = Command::new(env!("CARGO_BIN_EXE_zoisite"));
        command.env_clear().env("HOME", scene.place.path("home"));
        let words = ["components", "fetch", "--arch", "amd64"];
        command.args(words).current_dir(scene.place.path("site"));
        command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        let mut child = command.spawn().unwrap();
        let end = std::time::Instant::now() + std::time::Duration::from_secs(60);
        let part = scene
            .at(".fetching")
            .join(sha256(&std::fs::read(scene.served.folder.join(&KUBELET[1..])).unwrap()));
        while std::fs::metadata(&part).map_or(0, |facts| facts.len()) < 10
            && std::time::Instant::now() < end
        {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        // While it is at work, no second one is.
        let _ = scene.fetch().ended(2).complains("another fetch is at work");
        child.kill().unwrap();
        child.wait().unwrap();
        std::fs::metadata(&part).unwrap().len()
    };
    assert!(killed >= 10);
    scene.served.well();
    scene.served.asked();
    let _ = scene.fetch().ended(0);
    let asked = scene.served.asked();
    let (_, range) = asked.iter().find(|(path, _)| path == KUBELET).unwrap();
    assert!(range.as_ref().is_some_and(|range| range != "bytes=0-"), "{asked:?}");
    // What an earlier run left may be wrong: then the whole comes once more.
    let wanted = std::fs::read(scene.served.folder.join(&KUBELET[1..])).unwrap();
    std::fs::remove_file(scene.at("kubernetes/1.36.3/linux-amd64/kubelet")).unwrap();
    scene.place.write(&format!("site/components/.fetching/{}", sha256(&wanted)), "rubbish");
    let _ = scene.fetch().ended(0).says("1 brought");
    let found = std::fs::read(scene.at("kubernetes/1.36.3/linux-amd64/kubelet")).unwrap();
    assert_eq!(found, wanted);
}

#[test]
fn a_changed_checksum_stops_everything() {
    let scene = Scene::new();
    let _ = scene.fetch().ended(0);
    let place = "kubernetes/1.36.3/linux-amd64/kubelet";
    // A file here that somebody changed.
    let kept = std::fs::read(scene.at(place)).unwrap();
    std::fs::write(scene.at(place), "another").unwrap();
    let check = ["components", "check", "--arch", "amd64"];
    let _ = scene.run(&check).ended(3).says(place).says("is pinned");
    let _ =
        scene.run(&["components", "pack", "x.tar", "--arch", "amd64"]).ended(2).complains(place);
    // Its project publishes something else under the same version, with a checksum to match.
    std::fs::remove_file(scene.at(place)).unwrap();
    let sum = format!("{KUBELET}.sha256");
    scene.served.badly(KUBELET, Badly::Other(b"changed".into()));
    let _ = scene.fetch().ended(4).complains("its checksum is not the right one");
    scene.has_no(place);
    scene.served.badly(&sum, Badly::Other(sha256(b"changed").into()));
    let refused = scene.fetch().ended(4);
    let _ = refused
        .complains("lists")
        .complains("is pinned")
        .complains("--repin 'https://dl.k8s.io/v1.36.3/bin/linux/amd64/kubelet'");
    scene.has_no(place);
    let again = ["components", "fetch", "--arch", "amd64", "--repin"];
    let address = "https://dl.k8s.io/v1.36.3/bin/linux/amd64/kubelet";
    let _ = scene
        .run(&[&again[..], &["https://nobody.example/x"]].concat())
        .ended(2)
        .complains("nothing is pinned of");
    let _ = scene.run(&[&again[..], &[address]].concat()).ended(0).says("1 brought");
    assert_eq!(std::fs::read(scene.at(place)).unwrap(), b"changed");
    // An image under the same tag: what is pinned is fetched by its digest, whatever the tag says by now.
    let image = "images/registry.k8s.io/pause:3.10/linux-amd64/image.tar";
    let before = std::fs::read(scene.at(image)).unwrap();
    std::fs::remove_file(scene.at(image)).unwrap();
    scene.served.put_image("kept/registry.k8s.io/pause", "3.10", &image_of("other", &["amd64"]));
    let _ = scene.fetch().ended(0).says("1 brought");
    assert_eq!(std::fs::read(scene.at(image)).unwrap(), before);
    // Two lists that contradict each other.
    scene.place.write("site/components/SHA256SUMS", format!("{}  {place}\n", sha256(&kept)));
    let _ = scene.fetch().ended(2).complains("is pinned as").complains("SHA256SUMS says");
    // A lock file that somebody edited.
    scene.place.write("site/components.lock", "[files]\n\"x\" = \"1\"\n");
    let _ = scene.run(&check).ended(2).complains("components.lock says of \"x\"");
}

#[test]
fn bad_answers_get_one_clear_message_and_leave_nothing() {
    let scene = Scene::new();
    let etcd = "etcd/3.6.16/linux-amd64/etcd";
    let kubelet = "kubernetes/1.36.3/linux-amd64/kubelet";
    let pause = "images/registry.k8s.io/pause:3.10/linux-amd64/image.tar";
    let far = format!("https://127.0.0.1:{}{KUBELET}", scene.served.port);
    let archive =
        |more: &[(&str, EntryType, &[u8])]| Badly::Other(scene.served.etcd("amd64", more));
    let whole = scene.served.etcd("amd64", &[]);
    let only_arm = image_of("pause", &["arm64"]).pop().unwrap().1;
    let cases: Vec<(&str, Badly, &str, &str)> = vec![
        (KUBELET, Badly::Page, kubelet, "it answers with a web page instead of the file"),
        (
            KUBELET,
            Badly::Elsewhere(far),
            kubelet,
            "the mirror sends elsewhere, to https://127.0.0.1",
        ),
        (KUBELET, Badly::Gone, kubelet, "HTTP 404"),
        (SUMS, Badly::Page, etcd, "it is a web page, not a list of checksums"),
        (SUMS, Badly::Gone, etcd, "nothing says what the file must be"),
        (
            SUMS,
            Badly::Other(b"\n".into()),
            etcd,
            "it has no checksum of etcd-v3.6.16-linux-amd64.tar.gz",
        ),
        (
            ETCD,
            Badly::Other(whole[..whole.len() - 9].into()),
            etcd,
            "its checksum is not the right one",
        ),
        (
            ETCD,
            archive(&[("../../etc/x", EntryType::Regular, b"x")]),
            etcd,
            "which leads out of it",
        ),
        (ETCD, archive(&[("/etc/x", EntryType::Regular, b"x")]), etcd, "which leads out of it"),
        (ETCD, archive(&[("x", EntryType::Symlink, b"/etc/passwd")]), etcd, "it holds a link"),
        (ETCD, archive(&[("x", EntryType::Char, b"")]), etcd, "it holds a device"),
        (
            ETCD,
            Badly::Other(crate::common::served::gzip(b"no archive at all")),
            etcd,
            "it cannot be read to its end",
        ),
        (PAUSE, Badly::Gone, pause, "image"),
        (PAUSE, Badly::Page, pause, "page"),
        (
            PAUSE,
            Badly::Other(only_arm),
            pause,
            "its index lists nothing for linux-amd64, only linux-arm64",
        ),
    ];
    for (path, how, place, words) in cases {
        let _ = std::fs::remove_dir_all(scene.place.path("site/components"));
        let _ = std::fs::remove_file(scene.place.path("site/components.lock"));
        // What the list says is right for the bad archive: it is its content that is judged.
        if let (ETCD, Badly::Other(octets)) = (path, &how)
            && words != "its checksum is not the right one"
        {
            let line = format!("{}  etcd-v3.6.16-linux-amd64.tar.gz\n", sha256(octets));
            scene.served.badly(SUMS, Badly::Other(line.into()));
        }
        scene.served.badly(path, how);
        let done = scene.fetch();
        assert!([1, 4].contains(&done.status), "{words}: {done:?}");
        assert_eq!(
            done.stderr.lines().filter(|line| line.starts_with("error:")).count(),
            1,
            "{done:?}"
        );
        let _ = done.complains(words).complains("fix ");
        scene.has_no(place);
        scene.served.well();
    }
    // Whatever was wrong, all else came.
    let _ = scene.fetch().ended(0).says("1 brought").says("8 here already");
    std::fs::remove_dir_all(scene.place.path("site/components")).unwrap();
    std::fs::remove_file(scene.place.path("site/components.lock")).unwrap();
    scene.says("");
    let unknown = scene.fetch().ended(1);
    let _ = unknown.complains("its certificate comes from an authority that is not known here");
    // Nothing vouches for a file that comes in the clear and is not pinned.
    let text =
        scene.place.read("site/zoisite.toml").replace("\"https://localhost", "\"http://localhost");
    scene.place.write("site/zoisite.toml", text);
    let _ = scene.fetch().ended(1);
    scene.has_no(kubelet);
}

#[test]
fn passwords_are_asked_of_a_file_that_nobody_else_reads_and_never_shown() {
    use std::os::unix::fs::PermissionsExt as _;
    let scene = Scene::new();
    scene.served.wants("gull", "s3cret-mirror");
    let port = proxy("gull", "s3cret-proxy");
    let keys = format!("authority = \"ca.pem\"\nproxy = \"http://127.0.0.1:{port}\"");
    scene.says(&keys);
    let done = scene.fetch().ended(1);
    let _ = done.complains("proxy");
    scene.says(&format!("{keys}\ncredentials = \"netrc\""));
    let text = "machine localhost login gull password s3cret-mirror\nmachine 127.0.0.1 login gull password s3cret-proxy\n";
    scene.place.write("site/netrc", text);
    let open = std::fs::Permissions::from_mode(0o644);
    std::fs::set_permissions(scene.place.path("site/netrc"), open).unwrap();
    let _ = scene
        .fetch()
        .ended(1)
        .complains("others may read the passwords in it")
        .complains("chmod 600");
    let own = || std::fs::Permissions::from_mode(0o600);
    std::fs::set_permissions(scene.place.path("site/netrc"), own()).unwrap();
    let done = scene.fetch().ended(0).says("brought");
    assert!(!format!("{done:?}").contains("s3cret"));
    for kept in ["components.lock", "zoisite.toml"] {
        assert!(!scene.place.read(&format!("site/{kept}")).contains("s3cret"), "{kept}");
    }
    // A wrong one is reported, not shown.
    std::fs::remove_dir_all(scene.at("etcd")).unwrap();
    scene.place.write("site/netrc", text.replace("s3cret-mirror", "s3cret-wrong"));
    let done = scene.fetch().ended(1).complains("HTTP 401");
    assert!(!format!("{done:?}").contains("s3cret"));
    scene.says(&keys.replace("http://", "http://gull:s3cret@"));
    let done = scene.fetch().ended(2).complains("components.credentials names a file for them");
    let _ = done;
}

#[test]
fn a_full_disk_leaves_what_is_whole_and_the_next_run_goes_on() {
    let scene = Scene::new();
    // No file may grow beyond 40 kB: what the kubelet's is larger than.
    let limited = format!(
        "trap '' XFSZ; ulimit -f 80; exec {} components fetch --arch amd64",
        env!("CARGO_BIN_EXE_zoisite")
    );
    let mut command = Command::new("dash");
    command.env_clear().env("HOME", scene.place.path("home")).args(["-c", &limited]);
    let done = Done::of(command.current_dir(scene.place.path("site"))).ended(1);
    let _ = done.complains("writing").complains("File too large");
    scene.has_no("kubernetes/1.36.3/linux-amd64/kubelet");
    assert!(scene.at("etcd/3.6.16/linux-amd64/etcd").exists(), "what has room is whole");
    let _ = scene.fetch().ended(0);
    let _ = scene.run(&["components", "check", "--arch", "amd64"]).ended(0);
}

#[test]
fn archives_of_the_site_name_their_images_themselves() {
    let scene = Scene::new();
    scene.says("authority = \"ca.pem\"\nsandbox = \"images/pause.tar\"\nimages = [\"images/gulls.tar\", \"of-manifests\"]");
    let text = scene.place.read("site/zoisite.toml");
    let text = text.replace("[network]\n", "[network]\nmanifests = \"manifests\"\n");
    scene.place.write("site/zoisite.toml", text);
    let manifest = "apiVersion: apps/v1\nkind: DaemonSet\nmetadata: {name: tides}\nspec:\n  template:\n    spec:\n      initContainers: [{name: a, image: \"registry.k8s.io/tides:1\"}]\n      containers: [{name: b, image: \"registry.k8s.io/pause:3.10\"}]\n";
    scene.place.write("site/manifests/tides.yaml", manifest);
    let both = ["amd64", "arm64"];
    scene.place.write("site/images/pause.tar", archive_of("site.example/pause:9", "p", &both));
    scene.place.write("site/images/gulls.tar", archive_of("site.example/gulls:1", "g", &both));
    scene.served.put_image("kept/registry.k8s.io/tides", "1", &image_of("tides", &both));
    let _ = scene.fetch().ended(0).says("brought");
    let lock = scene.place.read("site/components.lock");
    assert!(lock.contains("\"images/gulls.tar\" = \"site.example/gulls:1\""), "{lock}");
    assert!(lock.contains("\"registry.k8s.io/tides:1\" = \"sha256:"), "{lock}");
    // The runtime's configuration asks for the sandbox by the name in its archive.
    let _ = scene.run(&["pki", "issue"]).ended(0);
    let _ = scene.run(&["files", "--out", "out"]).ended(0);
    let config = scene.place.read("site/out/tern-1/etc/zoisite/runtime/settings.toml");
    assert!(config.contains("sandbox_image = \"site.example/pause:9\""), "{config}");
    // Changed since it was pinned.
    scene
        .place
        .write("site/images/gulls.tar", archive_of("site.example/gulls:1", "changed", &both));
    let _ = scene
        .fetch()
        .ended(4)
        .complains("it is not what is pinned")
        .complains("--repin 'images/gulls.tar'");
    let again = ["components", "fetch", "--arch", "amd64", "--repin", "images/gulls.tar"];
    let _ = scene.run(&again).ended(0);
    // No image at all, one without a name, one for other hosts, one that is cut.
    let whole = archive_of("site.example/gulls:1", "g", &["arm64"]);
    for (octets, words) in [
        (b"nothing".to_vec(), "whole tar file"),
        (
            crate::common::served::tar_of(&[("x", EntryType::Regular, b"x")]),
            "there is no index.json in it",
        ),
        (
            crate::common::served::tar_of(&[("index.json", EntryType::Regular, b"{}")]),
            "does not say how its image is called",
        ),
        (whole.clone(), "for linux-amd64"),
        (whole[..whole.len() / 2].to_vec(), "whole tar file"),
    ] {
        scene.place.write("site/images/gulls.tar", octets);
        let _ = scene.run(&again).ended(1).complains(words);
    }
}

#[test]
fn one_file_carries_all_and_a_damaged_one_is_not_taken() {
    let scene = Scene::new();
    let _ = scene.fetch().ended(0);
    let _ = scene
        .run(&["components", "pack", "saltmarsh.tar", "--arch", "amd64"])
        .ended(0)
        .says("unpack");
    let _ = scene
        .run(&["components", "pack", "saltmarsh.tar", "--arch", "amd64"])
        .ended(2)
        .complains("--force");
    let pack = std::fs::read(scene.place.path("site/saltmarsh.tar")).unwrap();
    // On another machine, with nothing but what is in it.
    let far = Place::new();
    far.write("saltmarsh.tar", &pack);
    let tar = Done::of(
        Command::new("tar").args(["-xf", "saltmarsh.tar", "zoisite"]).current_dir(far.folder()),
    );
    let _ = tar.ended(0);
    let there = |words: &[&str]| {
        let mut command = Command::new(far.path("zoisite"));
        command.env_clear().env("HOME", far.path("home")).args(words);
        Done::of(command.current_dir(far.folder()))
    };
    let unpack = ["components", "unpack", "saltmarsh.tar", "--out", "saltmarsh"];
    let _ = there(&unpack).ended(0).says("each as it was packed");
    let again = there(&unpack).ended(0).says("each as it was packed");
    drop(again);
    let file = far.path("saltmarsh/zoisite.toml");
    let check = ["--cluster", file.to_str().unwrap(), "components", "check", "--arch", "amd64"];
    let _ = there(&check).ended(0).says("each as it is pinned");
    // What stands in the way is not replaced.
    far.write("saltmarsh/zoisite.toml", "mine");
    let _ = there(&unpack).ended(1).complains("stands there and is another one");
    assert_eq!(far.read("saltmarsh/zoisite.toml"), "mine");
    let other = ["components", "unpack", "saltmarsh.tar", "--out", "other"];
    for (octets, words) in [
        (pack[..pack.len() / 2].to_vec(), "its end is missing"),
        (b"x".repeat(2_000), "cannot be read"),
        (Vec::new(), "it is empty"),
        (crate::common::served::tar_of(&[("../x", EntryType::Regular, b"x")]), "leads out of it"),
        (crate::common::served::tar_of(&[("x", EntryType::Symlink, b"y")]), "a link"),
        (crate::common::served::tar_of(&[("x", EntryType::Regular, b"y")]), "it is no pack"),
    ] {
        far.write("saltmarsh.tar", octets);
        let done = there(&other).ended(1);
        assert!(
            done.stderr.contains(words) || done.stderr.contains("cannot be read to its end"),
            "{words}: {done:?}"
        );
        std::fs::remove_dir_all(far.path("other")).unwrap();
    }
    // One octet of a component is another one.
    let mut damaged = pack;
    let at = damaged.windows(12).position(|window| window == b"# kubelet fo").unwrap();
    damaged[at] = b'!';
    far.write("saltmarsh.tar", damaged);
    let _ = there(&other).ended(1).complains("is damaged");
    assert!(!far.path("other/components/kubernetes/1.36.3/linux-amd64/kubelet").exists());
}
