//! A copy of the whole state: taken, carried elsewhere, brought back; and a workstation that is lost for good.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::fs;

use common::Place;
use common::lab::Lab;

/// Another workstation: an empty folder, with the identity of the first.
fn elsewhere(place: &Place) -> Place {
    let other = Place::new();
    let identity = ".config/zoisite/identity.txt";
    let own = other.path("home").join(identity);
    fs::create_dir_all(own.parent().unwrap()).unwrap();
    fs::copy(place.path("home").join(identity), &own).unwrap();
    other
}

#[test]
fn a_copy_brings_the_same_state_back_in_an_empty_folder() {
    let place = Place::saltmarsh();
    let _ = place.run(&["copy", "take"]).ended(2).complains("nothing has been raised");
    // A store that a failed raise left, with nothing in it: what is sealed is sealed for an identity that stays.
    fs::create_dir(place.path(".zoisite")).unwrap();
    place.write(".zoisite/store.sqlite", "");
    let _ = place.run(&["copy", "take", "--out", "early.copy"]).ended(0).complains("identity");
    let _ = place.run(&["copy", "check", "early.copy"]).ended(0);
    let _ = place.run(&["pki", "issue"]).ended(0);
    let listed = |place: &Place| place.run(&["pki", "list", "--json"]).ended(0).json();
    let before = listed(&place);
    let taken = place.run(&["copy", "take", "--out", "saltmarsh.copy"]).ended(0);
    let _ = taken.says("the state of saltmarsh").complains("which is not in it");
    let _ = place.run(&["copy", "check", "saltmarsh.copy"]).ended(0).says("is whole");
    let copy = fs::read(place.path("saltmarsh.copy")).unwrap();
    assert!(!copy.windows(9).any(|octets| octets == b"saltmarsh"), "nothing lies in the clear");

    let other = elsewhere(&place);
    fs::write(other.path("saltmarsh.copy"), &copy).unwrap();
    let bring = ["copy", "bring", "saltmarsh.copy", "--unseen"];
    let _ = other.run(&bring).ended(0).says("holds again");
    assert_eq!(listed(&other), before);
    assert_eq!(other.read("zoisite.toml"), place.read("zoisite.toml"));
    // What is encrypted opens there: a certificate is issued from the same authority.
    let issued = other.run(&["pki", "issue", "--again", "--json"]).ended(0).json();
    assert_eq!(issued["authorities"], serde_json::json!([]), "{issued:#}");
    assert!(!issued["certificates"].as_array().unwrap().is_empty());
    let _ = other.run(&bring).ended(2).complains("is not written over");

    // Cut, altered, somebody else's, something else: each is told, and nothing is made of it.
    let third = elsewhere(&place);
    let told = |text: &[u8]| {
        fs::write(third.path("saltmarsh.copy"), text).unwrap();
        let _ = third.run(&bring).ended(2).complains("saltmarsh.copy is not whole");
        assert!(!third.path(".zoisite").exists() && !third.path("zoisite.toml").exists());
    };
    told(&copy[..copy.len() - 1]);
    told(b"reeds");
    let mut altered = copy.clone();
    let at = altered.len() / 2;
    altered[at] ^= 1;
    told(&altered);
    let stranger = Place::saltmarsh();
    let _ = stranger.run(&["pki", "issue"]).ended(0);
    fs::write(stranger.path("saltmarsh.copy"), &copy).unwrap();
    let _ = stranger.run(&["copy", "check", "saltmarsh.copy"]).ended(2).complains("--identity");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_workstation_that_is_lost_is_replaced_from_a_copy_that_is_older_than_the_last_run() {
    let lab = Lab::of("single", None, 1);
    let file = lab.place.read("zoisite.toml");
    lab.place.write("zoisite.toml", format!("{file}\n[state]\ncopy = \"single.copy\"\n"));
    let _ = lab.zoisite(&["raise"]).ended(0);
    let copy = fs::read(lab.place.path("single.copy")).unwrap();
    // What is done since is not in the copy.
    let _ = lab.zoisite(&["pki", "issue", "--again"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    assert_ne!(fs::read(lab.place.path("single.copy")).unwrap(), copy, "each raise writes one");

    // The state is gone, the file too.
    fs::remove_dir_all(lab.place.path(".zoisite")).unwrap();
    fs::write(lab.place.path("older.copy"), &copy).unwrap();
    let brought = lab.zoisite(&["copy", "bring", "older.copy"]).ended(0);
    let _ = brought.complains("know a run that is later than this copy");
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let _ = lab.zoisite(&["status"]).ended(0);
    let _ = lab.zoisite(&["verify"]).ended(0);
    // A copy cannot be written where there is no room for it: the raise says so, and all else is done.
    lab.place.write("zoisite.toml", format!("{file}\n[state]\ncopy = \"nowhere/single.copy\"\n"));
    let _ = lab.zoisite(&["raise"]).ended(1).complains("no copy of the state was written");
}
