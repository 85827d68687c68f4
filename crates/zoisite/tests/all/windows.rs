//! Nodes that run Windows, through the program: what it refuses, rehearses and writes.

use crate::common::{Done, Place};

const OWN: &str = "tern-9 = { address = \"10.77.0.109\", offline = true, windows = \"2022\" }";

/// The demo with a worker that runs Windows.
fn place() -> Place {
    let place = Place::saltmarsh();
    let file = place
        .read("zoisite.toml")
        .replace("[hosts]\n", &format!("[hosts]\n{OWN}\n"))
        .replace("[network]\n", "[network]\nwindows-pods = \"10.93.0.0/16\"\n")
        .replace(
            "[components]\n",
            "[components]\nruntime = \"2.1.4\"\nrunc = \"1.3.0\"\nnetwork-plugins = \"1.8.0\"\n",
        );
    place.write("zoisite.toml", file);
    place
}

fn zoisite(place: &Place, words: &[&str]) -> Done {
    Done::of(place.command().args(words))
}

#[test]
fn a_machine_that_only_says_so_carries_its_join_file_out() {
    let place = place();
    let _ = zoisite(&place, &["check"]).ended(0);
    let _ = zoisite(&place, &["raise", "--rehearse"])
        .ended(0)
        .complains("tern-9, which runs Windows: its join file was carried out")
        .complains("zoisite-containerd, zoisite-kube-proxy, zoisite-kubelet run");
    let _ = zoisite(&place, &["design", "addresses"]).ended(0).says("pods on Windows");
    let _ = zoisite(&place, &["paths"]).ended(0).says("overlay").says("4789");
}

#[test]
fn its_join_file_is_another_one_and_what_is_for_linux_leaves_it_out() {
    let place = place();
    let _ = zoisite(&place, &["join-file", "write", "--inspect", "--out", "stick"])
        .ended(0)
        .says("-ExecutionPolicy Bypass -File tern-9.ps1");
    let text = place.read("stick/tern-9.ps1");
    let word = zoisite(&place, &["join-file", "passphrase", "tern-9"]).ended(0).stdout;
    assert!(text.contains("Host = 'tern-9'") && !text.contains(word.trim()));
    let (_, mode) = place.files().into_iter().find(|(file, _)| file == "stick/tern-9.ps1").unwrap();
    assert_eq!(mode & 0o077, 0, "{mode:o}");
    // Programs that are not there are named all at once, before anybody is asked.
    place.write("components/SHA256SUMS", "");
    let _ = zoisite(&place, &["join-file", "write", "tern-9", "--show-script"])
        .ended(2)
        .complains("kubernetes/1.36.3/windows-amd64/kubelet.exe")
        .complains("network-plugins/1.8.0/windows-amd64/win-overlay.exe");
    let table = "\n[first-boot]\nnetworks = { \"10.77.0.0/24\" = \"10.77.0.254\" }\n";
    place.write("zoisite.toml", place.read("zoisite.toml") + table);
    let _ = zoisite(&place, &["first-boot", "write", "tern-9", "--out", "seeds"])
        .ended(2)
        .complains("reads no cloud-init data");
    let _ = zoisite(&place, &["paths", "rules", "tern-9"])
        .ended(0)
        .complains("its join file sets the rules");
}
