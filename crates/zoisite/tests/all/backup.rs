//! A backup of the whole state: taken, carried elsewhere, brought back; and a workstation that is lost for good.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::common::Place;
use crate::common::clusters::ONE;
use crate::common::lab::Lab;

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
fn a_backup_brings_the_same_state_back_in_an_empty_folder() {
    let place = Place::saltmarsh();
    let _ = place.run(&["backup", "write"]).ended(2).complains("nothing has been raised");
    // A store that a failed raise left, with nothing in it: what is sealed is sealed for an identity that stays.
    fs::create_dir(place.path(".zoisite")).unwrap();
    place.write(".zoisite/store.sqlite", "");
    let _ = place.run(&["backup", "write", "--out", "early.backup"]).ended(0).complains("identity");
    let _ = place.run(&["backup", "check", "early.backup"]).ended(0);
    let _ = place.run(&["pki", "issue"]).ended(0);
    let listed = |place: &Place| place.run(&["pki", "list", "--json"]).ended(0).json();
    let before = listed(&place);
    let taken = place.run(&["backup", "write", "--out", "saltmarsh.backup"]).ended(0);
    let _ = taken.says("the state of saltmarsh").complains("which is not in it");
    let _ = place.run(&["backup", "check", "saltmarsh.backup"]).ended(0).says("is whole");
    let backup = fs::read(place.path("saltmarsh.backup")).unwrap();
    assert!(!backup.windows(9).any(|octets| octets == b"saltmarsh"), "nothing lies in the clear");

    let other = elsewhere(&place);
    fs::write(other.path("saltmarsh.backup"), &backup).unwrap();
    let bring = ["backup", "restore", "saltmarsh.backup", "--skip-hosts"];
    let _ = other.run(&bring).ended(0).says("holds again");
    assert_eq!(listed(&other), before);
    assert_eq!(other.read("zoisite.toml"), place.read("zoisite.toml"));
    // What is encrypted opens there: a certificate is issued from the same authority.
    let issued = other.run(&["pki", "issue", "--reissue", "--json"]).ended(0).json();
    assert_eq!(issued["authorities"], serde_json::json!([]), "{issued:#}");
    assert!(!issued["certificates"].as_array().unwrap().is_empty());
    let _ = other.run(&bring).ended(2).complains("is not written over");

    // Cut, altered, somebody else's, something else: each is reported, and nothing is made of it.
    let third = elsewhere(&place);
    let told = |text: &[u8]| {
        fs::write(third.path("saltmarsh.backup"), text).unwrap();
        let _ = third.run(&bring).ended(2).complains("saltmarsh.backup is not whole");
        assert!(!third.path(".zoisite").exists() && !third.path("zoisite.toml").exists());
    };
    told(&backup[..backup.len() - 1]);
    told(b"reeds");
    let mut altered = backup.clone();
    let at = altered.len() / 2;
    altered[at] ^= 1;
    told(&altered);
    let stranger = Place::saltmarsh();
    let _ = stranger.run(&["pki", "issue"]).ended(0);
    fs::write(stranger.path("saltmarsh.backup"), &backup).unwrap();
    let _ = stranger.run(&["backup", "check", "saltmarsh.backup"]).ended(2).complains("--identity");
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn a_workstation_that_is_lost_is_replaced_from_a_backup_that_is_older_than_the_last_run() {
    let mut lab = Lab::standing(&ONE);
    // In the end there is no cluster any more.
    lab.used_up();
    let file = lab.place.read("zoisite.toml");
    lab.place.write("zoisite.toml", format!("{file}\n[state]\nbackup = \"single.backup\"\n"));
    let _ = lab.zoisite(&["raise"]).ended(0);
    let backup = fs::read(lab.place.path("single.backup")).unwrap();
    // What is done since is not in the backup.
    let _ = lab.zoisite(&["pki", "issue", "--reissue"]).ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    assert_ne!(fs::read(lab.place.path("single.backup")).unwrap(), backup, "each raise writes one");

    // The state is gone, the file too.
    fs::remove_dir_all(lab.place.path(".zoisite")).unwrap();
    fs::write(lab.place.path("older.backup"), &backup).unwrap();
    let brought = lab.zoisite(&["backup", "restore", "older.backup"]).ended(0);
    let _ = brought.complains("know a run that is later than this backup");
    let _ = lab.zoisite(&["raise"]).ended(0);
    let _ = lab.zoisite(&["sequence"]).ended(0).says("nothing differs");
    let _ = lab.zoisite(&["status"]).ended(0);
    let _ = lab.zoisite(&["verify"]).ended(0);
    // A backup cannot be written where there is no room for it: the raise says so, and all else is done.
    lab.place
        .write("zoisite.toml", format!("{file}\n[state]\nbackup = \"nowhere/single.backup\"\n"));
    let _ = lab.zoisite(&["raise"]).ended(1).complains("no backup of the state was written");

    lab.place.write("zoisite.toml", &file);
    without_any_backup(&lab);
}

/// What of certificates their holders can know.
fn certificates(lab: &Lab) -> BTreeSet<(String, String, String, String)> {
    let listed = lab.zoisite(&["pki", "list", "--json"]).ended(0).json();
    let all = listed["certificates"].as_array().unwrap().iter();
    let text =
        |one: &serde_json::Value, key: &str| one[key].as_str().unwrap_or_default().to_owned();
    all.filter(|one| {
        one["host"].is_string() && !one["path"].as_str().unwrap_or_default().is_empty()
    })
    .map(|one| (text(one, "profile"), text(one, "host"), text(one, "serial"), text(one, "sha256")))
    .collect()
}

/// Hosts' own word is all there is: the record comes back, the authorities' keys do not.
fn without_any_backup(lab: &Lab) {
    let before = certificates(lab);
    assert!(before.len() > 8, "{before:?}");
    let _ = lab.zoisite(&["backup", "rebuild"]).ended(2).complains("not written over");
    fs::rename(lab.place.path(".zoisite"), lab.place.path("lost")).unwrap();
    // Another cluster's file is not taken for this one's.
    let file = lab.place.read("zoisite.toml");
    let other = file.replace("10.91.0.0/20", "10.92.0.0/20");
    assert_ne!(other, file);
    lab.place.write("zoisite.toml", other);
    let _ = lab.zoisite(&["backup", "rebuild"]).ended(4).complains("services was 10.91.0.0/20");
    assert!(!lab.place.path(".zoisite").exists());
    lab.place.write("zoisite.toml", &file);

    let adopted = lab.zoisite(&["backup", "rebuild"]).ended(0);
    let _ = adopted.says("known here again").says("members heron").says("authorities' keys");
    assert_eq!(certificates(lab), before);
    let _ = lab.zoisite(&["pki", "prove"]).ended(0);
    let keys = lab.zoisite(&["encryption", "--json"]).ended(0).json();
    assert_eq!(keys["keys"][0]["name"], "first");
    let mode = fs::metadata(lab.place.path(".zoisite/store.sqlite")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    assert!(
        !lab.place.files().iter().any(|(name, _)| name.contains("adopting-")),
        "nothing is left"
    );
    // What needs an authority's key says so, and nothing is done.
    for words in [
        &["raise"][..],
        &["sequence"],
        &["snapshot", "take"],
        &["access", "ada", "--group", "admins"],
    ] {
        let refused = lab.zoisite(words);
        assert!(
            refused.status != 0 && refused.stderr.contains("authority was lost"),
            "{refused:?}"
        );
    }
    // Whose hosts they are is known: they can be taken back.
    let _ = lab.zoisite(&["uninstall", "--whole-cluster", "--yes"]).ended(0).says("Took back");
}
