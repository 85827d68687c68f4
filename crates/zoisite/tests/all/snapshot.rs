//! Snapshots of etcd: what is reported before there is a cluster, and on a real one.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;

use crate::common::Place;
use crate::common::clusters::ONE;
use crate::common::lab::Lab;

#[test]
fn before_there_is_anything_to_save_that_is_told_and_nothing_is_made() {
    let place = Place::saltmarsh();
    let _ = place.run(&["snapshot"]).ended(0).says("there is no snapshot yet");
    for args in [&["take"][..], &["take", "--try"], &["try"], &["prune"]] {
        let done = place.run(&[&["snapshot"], args].concat()).ended(2);
        let _ = done.complains("nothing has been raised");
    }
    assert_eq!(
        place.run(&["snapshot", "--json"]).ended(0).json()["snapshots"],
        serde_json::json!([])
    );
    let _ = place.run(&["snapshot", "check"]).ended(2).complains("there is no snapshot in");
    assert!(!place.path(".zoisite").exists());
    let file = place.read("zoisite.toml");
    let wrong =
        "\n[snapshots]\nkeep = 0\nkeep-for = \"0h\"\ntoo-old = \"soon\"\nwhere = \"/srv\"\n";
    place.write("zoisite.toml", format!("{file}{wrong}"));
    let told = place.run(&["check"]).ended(2);
    let all = format!("{}{}", told.stdout, told.stderr);
    for says in ["keep", "from an hour to ten years", "12h, 2d, 30d", "has no key 'where'"] {
        assert!(all.contains(says), "{says}: {all}");
    }
}

fn files(lab: &Lab, folder: &str) -> Vec<PathBuf> {
    let entries = fs::read_dir(lab.place.path(folder));
    let mut all: Vec<PathBuf> =
        entries.into_iter().flatten().map(|entry| entry.unwrap().path()).collect();
    all.sort();
    all
}

fn sealed(lab: &Lab) -> Vec<PathBuf> {
    let mut all = files(lab, ".zoisite/snapshots");
    all.retain(|path| path.extension().is_some_and(|ending| ending == "sealed"));
    all
}

#[test]
#[ignore = "needs the lab: root and systemd hosts"]
fn what_a_real_member_holds_is_saved_tried_kept_and_thinned_out() {
    let mut lab = Lab::standing(&ONE);
    // Its file says something else in the end, and snapshots stay.
    lab.used_up();
    let file = lab.place.read("zoisite.toml");
    let keeping = |what: &str| {
        lab.place.write("zoisite.toml", format!("{file}\n[snapshots]\n{what}\n"));
    };
    keeping("too-old = \"1h\"");
    let _ = lab.zoisite(&["status"]).ended(3).says("there is no snapshot that was tried");
    let _ = lab.zoisite(&["raise"]).ended(0);

    // Taken and tried: sealed, and with every key.
    let took = lab.zoisite(&["snapshot", "take", "--try", "--json"]).ended(0).json();
    let snapshot = &took["snapshot"];
    assert!(snapshot["tried"]["keys"].as_u64().unwrap() > 100, "{took:#}");
    assert!(snapshot["revision"].as_i64().unwrap() > 100, "{took:#}");
    let first = sealed(&lab).pop().unwrap();
    let octets = fs::read(&first).unwrap();
    assert!(octets.starts_with(b"age-encryption.org/v1"));
    assert!(!octets.windows(12).any(|found| found == b"/registry/na"), "nothing lies in the clear");
    assert_eq!(files(&lab, ".zoisite/snapshots").len(), 2, "a trial leaves nothing");
    let _ = lab.zoisite(&["status"]).ended(0).says("newest good snapshot");
    let _ = lab.zoisite(&["snapshot"]).ended(0).says("asked for").says("good, ");

    // Opened for etcd's own tools, in the clear and for its owner alone.
    let _ = lab.zoisite(&["snapshot", "export", "--out", "clear"]).ended(0).complains("remove it");
    let clear = fs::read(lab.place.path("clear")).unwrap();
    assert_eq!(clear.len() as u64, snapshot["octets"].as_u64().unwrap());
    assert!(clear.windows(12).any(|found| found == b"/registry/na"));
    let mode = fs::metadata(lab.place.path("clear")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);

    // Killed in the midst of one: nothing of it counts, and the next sweeps it.
    for event in ["\"command\":\"snapshot take\"", "from heron", "from heron"] {
        lab.killed_at(&["snapshot", "take"], &[event]);
        let listed = lab.zoisite(&["snapshot", "--json"]).ended(0).json();
        let listed = listed["snapshots"].as_array().unwrap().len();
        assert!(listed <= sealed(&lab).len());
    }
    keeping("keep = 2\ncopies = \"copies\"");
    for _ in 0..2 {
        let _ = lab.zoisite(&["snapshot", "take"]).ended(0).complains("copied to");
    }
    // The newest, one more, and the newest that is known to be good.
    let kept = sealed(&lab);
    assert_eq!(kept.len(), 3, "{kept:?}");
    assert!(kept.contains(&first));
    assert_eq!(files(&lab, ".zoisite/snapshots").len(), 6, "each and its record, and nothing else");
    assert_eq!(files(&lab, "copies").len(), 6);
    let _ = lab.zoisite(&["snapshot", "check", "--all", "--from", "copies"]).ended(0);

    // Where a copy cannot go, the snapshot is there all the same.
    lab.place.write("in-the-way", "a file");
    keeping("copies = \"in-the-way/copies\"");
    let there = sealed(&lab).len();
    let _ = lab.zoisite(&["snapshot", "take"]).ended(2).says("was taken from").complains("copies");
    assert_eq!(sealed(&lab).len(), there + 1);
    keeping("keep = 2");

    // Spoiled, cut, another person's: told, and never taken for good.
    let _ = lab.zoisite(&["snapshot", "check", "--all"]).ended(0).says("is whole");
    let mut spoiled = octets.clone();
    let at = spoiled.len() / 2;
    spoiled[at] ^= 1;
    fs::write(&first, &spoiled).unwrap();
    let name = first.file_stem().unwrap().to_str().unwrap();
    let _ = lab.zoisite(&["snapshot", "check", name]).ended(3).says("cannot be read to its end");
    let _ = lab.zoisite(&["snapshot", "try", name]).ended(3).says("it is not good");
    fs::write(&first, &octets[..octets.len() - 20]).unwrap();
    let _ = lab.zoisite(&["snapshot", "check", name]).ended(3).says("cannot be read to its end");
    fs::write(&first, &octets).unwrap();
    let _ = lab.zoisite(&["snapshot", "try", name]).ended(0).says("it is good");
    let _ =
        lab.zoisite(&["snapshot", "check", "2020-01-01-000000"]).ended(2).complains("no snapshot");
    // A record that says something else than what is in it.
    let record = first.with_extension("json");
    let text = fs::read_to_string(&record).unwrap();
    let hash = serde_json::from_str::<serde_json::Value>(&text).unwrap()["hash"].to_string();
    fs::write(&record, text.replace(&format!("\"hash\": {hash}"), "\"hash\": 7")).unwrap();
    let _ = lab.zoisite(&["snapshot", "try", name]).ended(3).says("its keys are others");
    tried_on_a_host(&lab, name);
    fs::write(&record, text.replace("\"cluster\": \"", "\"cluster\": \"beef")).unwrap();
    let _ = lab.zoisite(&["snapshot", "check", name]).ended(3).says("of another cluster");
    fs::write(&record, &text).unwrap();

    // No member serves: there is no member to save from, within a time that a person waits.
    let _ = lab.on("heron", "systemctl stop zoisite-etcd").ended(0);
    let _ = lab.zoisite(&["snapshot", "take"]).ended(1).complains("no member is known to be well");
    let _ = lab.on("heron", "systemctl start zoisite-etcd").ended(0);
    let _ = lab.zoisite(&["raise"]).ended(0);
    members_save_by_themselves(&lab, &file);
}

/// Trials there, of a record that says something else than what is in it; nothing of them stays.
fn tried_on_a_host(lab: &Lab, spoilt: &str) {
    let on = |command: &str| -> String { lab.on("heron", command).ended(0).stdout };
    let nothing_stays = || {
        let left = on("ls -d /var/lib/zoisite/trial 2>/dev/null || true; \
             systemctl list-units --all --no-legend 'zoisite-trial*'");
        assert_eq!(left.trim(), "");
    };
    let try_it =
        |more: &[&str]| lab.zoisite(&[&["snapshot", "try", "--on", "heron"][..], more].concat());
    let _ = try_it(&[]).ended(0).says("it is good");
    nothing_stays();
    let _ = try_it(&[spoilt]).ended(3).says("its keys are others");
    nothing_stays();
    let _ = lab.zoisite(&["snapshot", "try", "--on", "gull"]).ended(2).complains("no host gull");
    // Cut off in the midst of it: the next one begins again. The member that serves is another one, and serves on.
    let trial = ["snapshot", "try", "--on", "heron"];
    lab.killed_at(&trial, &["bringing", "starting a member from it"]);
    let _ = try_it(&["--json"]).ended(0);
    nothing_stays();
    // No room there, which is known before anything is brought.
    let small = "mkdir /run/small; mount -t tmpfs -o size=192m tmpfs /run/small; \
         cp -a /var/lib/zoisite/. /run/small; mount --bind /run/small /var/lib/zoisite";
    let _ = on(small);
    let _ = try_it(&[]).ended(1).complains("MiB are free below /var/lib");
    let _ = on("umount /var/lib/zoisite /run/small; rmdir /run/small");
    nothing_stays();
    let _ = lab.zoisite(&["status"]).ended(0);
}

/// What the host's own timer starts, and what is made of it here.
fn members_save_by_themselves(lab: &Lab, file: &str) {
    let on = |command: &str| -> String { lab.on("heron", command).ended(0).stdout };
    let saves = |times: usize| {
        for _ in 0..times {
            // A name has a second.
            let _ = on("sleep 1.1; systemctl start zoisite-snapshot.service");
        }
    };
    let there = |lab: &Lab| {
        let listed = lab.on("heron", "ls -1 /var/lib/zoisite/snapshots").ended(0).stdout;
        listed.lines().map(ToOwned::to_owned).collect::<Vec<String>>()
    };
    let timer = on("systemctl list-timers --no-legend zoisite-snapshot.timer");
    assert!(timer.contains("zoisite-snapshot.service"), "{timer}");
    lab.place
        .write("zoisite.toml", format!("{file}\n[snapshots]\non-members-keep = 2\nkeep = 50\n"));
    let _ = lab.zoisite(&["raise"]).ended(0);
    saves(3);
    let kept = there(lab);
    assert_eq!(kept.len(), 2, "{kept:?}");
    let modes = on("stat -c %a /var/lib/zoisite/snapshots /var/lib/zoisite/snapshots/*/stream");
    assert_eq!(modes.split_whitespace().collect::<Vec<_>>(), ["700", "600", "600"]);
    let _ =
        lab.zoisite(&["status"]).ended(0).says(&format!("newest saved by members: {}", kept[1]));

    // The newest comes, and is good: its hash is what the member said of itself.
    let before = sealed(lab).len();
    let brought = lab.zoisite(&["snapshot", "fetch", "--try", "--json"]).ended(0).json();
    let brought = brought["brought"].as_array().unwrap();
    assert_eq!(brought[0]["name"], kept[1].as_str());
    assert!(brought[0]["tried"]["keys"].as_u64().unwrap() > 100, "{brought:#?}");
    assert_eq!(sealed(lab).len(), before + 1);
    let _ = lab.zoisite(&["snapshot", "fetch"]).ended(0).says("nothing newer");
    let _ = lab.zoisite(&["snapshot", "fetch", "--all"]).ended(0).says(&kept[0]);

    // One that is spoilt there, or is none, does not come; the next one does.
    saves(1);
    let newest = there(lab).pop().unwrap();
    let stream = format!("/var/lib/zoisite/snapshots/{newest}/stream");
    let _ = on(&format!("printf x | dd of={stream} bs=1 seek=5000 conv=notrunc status=none"));
    let _ = on(
        "mkdir /var/lib/zoisite/snapshots/nonsense; cp /etc/hostname /var/lib/zoisite/snapshots/nonsense/stream",
    );
    let _ =
        lab.zoisite(&["snapshot", "fetch"]).ended(1).complains("cut or altered").complains(&newest);
    let _ = on("rm -r /var/lib/zoisite/snapshots/nonsense");

    // No room there: nothing is taken, what is there stays, and it is reported.
    let small = "mount -t tmpfs -o size=64k tmpfs /var/lib/zoisite/snapshots";
    let _ = on(&format!("{small}; systemctl start zoisite-snapshot.service || true"));
    let told = lab.zoisite(&["status"]).ended(3);
    let _ = told.says("heron could not save its member").says("MiB are free for a snapshot");
    let _ = on("umount /var/lib/zoisite/snapshots; systemctl start zoisite-snapshot.service");
    let _ = lab.zoisite(&["status"]).ended(0);
    // Killed in the midst: the next one sweeps it.
    let _ = on("mkdir /var/lib/zoisite/snapshots/.half; systemctl start zoisite-snapshot.service");
    assert_eq!(on("ls -A /var/lib/zoisite/snapshots | grep -c half || true").trim(), "0");

    // Nobody wants them any more: nothing restarts, and none is taken.
    lab.place.write("zoisite.toml", format!("{file}\n[snapshots]\non-members = \"never\"\n"));
    let pid = on("systemctl show -p MainPID zoisite-etcd");
    let _ = lab.zoisite(&["raise"]).ended(0);
    assert_eq!(on("systemctl show -p MainPID zoisite-etcd"), pid);
    let before = there(lab);
    saves(1);
    assert_eq!(there(lab), before);
}
