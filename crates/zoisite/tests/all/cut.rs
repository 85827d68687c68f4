//! Commands that write here, killed at every moment at which they have something written for good: the same command goes
//! on, and what stands is whole.

use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;

use crate::common::{Done, Place};

/// A library that is loaded before others: the program is killed where it asks the kernel for the Nth time to have
/// something on disk (`fsync(2)`), as it does around every transaction and behind every file.
const KILLS: &str = r#"
#include <signal.h>
#include <stdlib.h>
#include <sys/syscall.h>
#include <unistd.h>

static int asked;

static void cut(void) {
    const char *at = getenv("CUT_AT");
    if (at && __sync_add_and_fetch(&asked, 1) == atoi(at)) {
        kill(getpid(), SIGKILL);
        pause();
    }
}

int fsync(int file) { cut(); return syscall(SYS_fsync, file); }
int fdatasync(int file) { cut(); return syscall(SYS_fdatasync, file); }
"#;

const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJGTS2Dv4HyHCvEoW2nGGbyBM7CLDgHBRSIgsJsXT0aq bea@saltmarsh.example";

fn kills() -> &'static PathBuf {
    static BUILT: OnceLock<(tempfile::TempDir, PathBuf)> = OnceLock::new();
    let (_, library) = BUILT.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let (source, library) = (folder.path().join("kills.c"), folder.path().join("kills.so"));
        std::fs::write(&source, KILLS).unwrap();
        let mut cc = Command::new("cc");
        let _ = Done::of(cc.args(["-shared", "-fPIC", "-o"]).arg(&library).arg(&source)).ended(0);
        (folder, library)
    });
    library
}

/// A cluster of one host, for which these commands were run.
fn after(commands: &[&[&str]]) -> Place {
    let place = Place::new();
    let single = include_str!("../../../../lab/clusters/single.toml");
    let networks = "networks = { \"10.77.0.0/24\" = \"10.77.0.1\" }";
    let first_boot = format!("[first-boot]\nkeys = [\"bea.pub\"]\n{networks}\n");
    place.write("bea.pub", KEY);
    place.write("zoisite.toml", format!("{single}\n{first_boot}"));
    for words in commands {
        let _ = place.run(words).ended(0);
    }
    place
}

/// The names of all files, but for those that SQLite keeps beside an open database.
fn names(place: &Place) -> Vec<String> {
    let files = place.files().into_iter().map(|(name, _)| name);
    files.filter(|name| !name.ends_with("-wal") && !name.ends_with("-shm")).collect()
}

/// Kills a command at each of those moments, and runs it once more; how many there were. `done` is what it says where it
/// had come to its end but for the telling.
fn killed_everywhere(before: &[&[&str]], words: &[&str], done: &str) -> usize {
    let whole = after(before);
    let _ = whole.run(words).ended(0);
    for at in 1.. {
        let place = after(before);
        let mut cut = place.command();
        cut.args(words).env("LD_PRELOAD", kills()).env("CUT_AT", at.to_string());
        let cut = Done::of(&mut cut);
        if cut.status == 0 {
            return at - 1;
        }
        // A signal is no status.
        let cut = cut.ended(-1);
        let again = place.run(words);
        let goes_on = again.status == 0 || !done.is_empty() && again.stderr.contains(done);
        assert!(goes_on, "killed at {at} {cut:?}: {again:?}");
        let _ = place.run(&["pki", "prove"]).ended(0);
        assert_eq!(names(&place), names(&whole), "killed at {at} {cut:?}");
    }
    unreachable!("it ends");
}

#[test]
fn killed_wherever_something_was_written_the_same_command_goes_on() {
    let issued: &[&[&str]] = &[&["pki", "issue"]];
    let added: &[&[&str]] = &[&["pki", "issue"], &["strongbox", "add", KEY]];
    let drop: &[&str] = &["strongbox", "remove", "bea@saltmarsh.example"];
    for (before, words, done) in [
        (&[][..], &["pki", "issue"][..], ""),
        (issued, &["pki", "issue", "--reissue"], ""),
        (issued, &["strongbox", "add", KEY], "can open it already"),
        (added, drop, "no person of that name"),
        (issued, &["files", "--out", "files", "--with-keys"], ""),
        (issued, &["first-boot", "write", "--out", "first-boot"], ""),
    ] {
        let moments = killed_everywhere(before, words, done);
        assert!(moments >= 2, "{words:?} was killed at {moments} moments alone");
        eprintln!("{words:?}: killed at {moments} moments");
    }
}
