//! Who can open the strongbox: people come with keys of age's and of SSH, and go again.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use common::{Done, Place};

/// A key pair in the place: `NAME` and `NAME.pub`.
fn ssh_key(place: &Place, name: &str, kind: &str, passphrase: &str) {
    let path = place.path(name);
    let words = ["-q", "-t", kind, "-N", passphrase, "-C", &format!("{name}@desk"), "-f"];
    let done = Command::new("ssh-keygen").args(words).arg(&path).status().unwrap();
    assert!(done.success(), "{name}");
    assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, 0o600);
}

/// Writes keys in the clear, which the strongbox must be opened for.
fn opens(place: &Place, identity: &str) -> Done {
    let folder = format!("opened-by-{}", identity.replace('/', "-"));
    place.run(&["--identity", identity, "files", "--with-keys", "--out", &folder])
}

#[test]
fn people_come_with_their_own_keys_and_go_and_all_is_sealed_anew() {
    let place = Place::saltmarsh();
    let _ = place.run(&["strongbox"]).ended(0).says("Nothing is in the strongbox yet");
    ssh_key(&place, "bea", "ed25519", "");
    ssh_key(&place, "cor", "rsa", "");
    let early = place.run(&["strongbox", "add", "--file", "bea.pub"]).ended(2);
    let _ = early.complains("nothing has been raised");
    assert!(!place.path(".zoisite").exists());

    let _ = place.run(&["pki", "issue"]).ended(0);
    let own = "home/.config/zoisite/identity.txt";
    for name in ["bea", "cor"] {
        let _ = opens(&place, name).ended(2).complains("cannot open this cluster's secrets");
        let file = format!("{name}.pub");
        let _ = place.run(&["strongbox", "add", "--file", &file]).ended(0).says("sealed anew");
    }
    for identity in [own, "bea", "cor"] {
        let _ = opens(&place, identity).ended(0);
    }
    let key = |by: &str| place.read(&format!("opened-by-{by}/heron/etc/zoisite/etcd/peer/tls.key"));
    assert_eq!(key("bea"), key("cor"));
    let listed = place.run(&["strongbox"]).ended(0);
    let _ = listed.says("bea@desk").says("cor@desk").says("this identity").says("age1");
    let json = place.run(&["strongbox", "--json"]).ended(0).json();
    assert_eq!(json["people"].as_array().unwrap().len(), 3);
    assert_eq!(json["people"][1]["name"], "bea@desk");

    // What is made from now on is for all of them, whoever makes it.
    let by = ["--identity", "bea", "pki", "issue", "--again"];
    let _ = place.run(&by).ended(0);
    for identity in [own, "bea", "cor"] {
        let _ = opens(&place, identity).ended(0);
    }

    // One goes, by another one's word, and nobody by their own.
    let own_word = ["--identity", "bea", "strongbox", "drop", "bea@desk"];
    let _ = place.run(&own_word).ended(2).complains("opens it here");
    let _ = place
        .run(&["strongbox", "drop", "bea@desk"])
        .ended(0)
        .says("cannot open it any more")
        .says("open for them still");
    let _ = opens(&place, "bea").ended(2).complains("name the right file with --identity");
    let _ = opens(&place, "cor").ended(0);
    let _ = place.run(&["strongbox", "drop", "bea@desk"]).ended(2).complains("nobody of that name");
    let stranger = ["--identity", "bea", "strongbox", "add", "--file", "bea.pub"];
    let _ = place.run(&stranger).ended(2).complains("cannot open this cluster's secrets");
    let _ = place.run(&["history"]).ended(0).says("strongbox drop bea@desk").says("sealed anew");
}

#[test]
fn keys_that_are_none_are_told_and_nothing_changes() {
    let place = Place::saltmarsh();
    let _ = place.run(&["pki", "issue"]).ended(0);
    ssh_key(&place, "dan", "ecdsa", "");
    ssh_key(&place, "eve", "ed25519", "reeds and mud");
    place.write("empty.pub", "\n");
    let before = place.run(&["strongbox", "--json"]).ended(0).stdout;
    for (words, says) in [
        (&["add", "heron"][..], "'heron' is no public key"),
        (&["add", "age1heron"], "'age1heron' is no public key"),
        (&["add", "--file", "empty.pub"], "is no public key"),
        (&["add", "--file", "gone.pub"], "gone.pub"),
        (&["add", "--file", "dan.pub"], "is no public key"),
        (&["drop", "nobody"], "nobody of that name"),
    ] {
        let _ = place.run(&[&["strongbox"], words].concat()).ended(2).complains(says);
    }
    let own = serde_json::from_str::<serde_json::Value>(&before).unwrap();
    let own = own["people"][0]["key"].as_str().unwrap().to_owned();
    let _ = place.run(&["strongbox", "add", &own]).ended(2).complains("can open it already");
    assert_eq!(place.run(&["strongbox", "--json"]).ended(0).stdout, before);
    // One that is kept under a passphrase may be let in, and is told when it is to open anything here.
    let _ = place.run(&["strongbox", "add", "--file", "eve.pub"]).ended(0);
    let _ = opens(&place, "eve").ended(2).complains("passphrase");
    let _ = opens(&place, "dan").ended(2).complains("ed25519 and RSA do");
}
