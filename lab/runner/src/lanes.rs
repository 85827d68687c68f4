//! Labs beside each other, each in a network of its own.

use std::collections::BTreeMap;
use std::fmt;
use std::fs::File;
use std::io::Read as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::say;
use super::speed;
use super::table::Scene;

/// What one test may take at least, before it is ended, in seconds of a quiet machine.
const LIMIT_AT_LEAST: u64 = 400;
/// And how many times what it is expected to take.
const LIMIT_TIMES: u64 = 4;

/// What came of a test.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    Passed,
    Failed,
    /// It waited in vain.
    Late,
    /// It waited in vain, and passed when it was tried alone.
    Flaky,
    /// It was over its limit, and was ended.
    Over,
    /// It was planned, and there was no time to begin it.
    NotRun,
}

impl fmt::Display for Outcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Passed => "ok",
            Self::Failed => "FAILED",
            Self::Late => "LATE",
            Self::Flaky => "FLAKY",
            Self::Over => "OVER",
            Self::NotRun => "NOT RUN",
        })
    }
}

/// A test that ended.
#[derive(Clone, Debug)]
pub struct Ended {
    pub name: String,
    pub cluster: String,
    pub outcome: Outcome,
    pub took: Duration,
    /// Where it did not pass, the line that says so.
    pub why: String,
}

impl Ended {
    pub fn passed(&self) -> bool {
        matches!(self.outcome, Outcome::Passed | Outcome::Flaky)
    }
}

/// Networks for so many labs; their labs and networks are taken away in the end.
pub struct Lanes {
    count: usize,
    /// How much slower than on a quiet machine a host boots.
    boot: f64,
    lab: PathBuf,
    scratch: PathBuf,
}

impl Lanes {
    pub fn make(count: usize, boot: f64) -> Result<Self, String> {
        let lab = std::env::current_dir().map_err(|error| error.to_string())?.join("lab");
        let scratch = std::env::temp_dir().join(format!("zoisite-lanes-{}", std::process::id()));
        std::fs::create_dir_all(&scratch).map_err(|error| error.to_string())?;
        let lanes = Self { count, boot, lab, scratch };
        lanes.clean();
        for lane in 1..=count {
            let name = network(lane);
            let made = [&["netns", "add", &name][..], &["-n", &name, "link", "set", "lo", "up"]];
            for words in made {
                let done = Command::new("ip").args(words).status();
                if !done.is_ok_and(|status| status.success()) {
                    return Err(format!("ip {} failed", words.join(" ")));
                }
            }
        }
        Ok(lanes)
    }

    /// Whatever an earlier run on this machine left goes too.
    fn clean(&self) {
        for lane in 1..=self.count {
            self.down(lane);
            let _ = Command::new("ip")
                .args(["netns", "delete", &network(lane)])
                .stderr(Stdio::null())
                .status();
        }
    }

    fn down(&self, lane: usize) {
        let mut down = Command::new(self.lab.join("down"));
        down.env("ZOISITE_LANE", lane.to_string()).env("ZOISITE", "/bin/true");
        let _ = down.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status();
    }

    /// Runs all of them; what waited in vain once more, alone.
    pub fn run(&self, scenes: &[Scene], end: Instant) -> Vec<Ended> {
        let queue = Mutex::new(Queue::of(scenes));
        let ended = Mutex::new(Vec::new());
        std::thread::scope(|scope| {
            for lane in 1..=self.count {
                let (queue, ended) = (&queue, &ended);
                scope.spawn(move || {
                    let mut holds = String::new();
                    loop {
                        // The lock is let go of before the test begins.
                        let next = locked(queue).next(lane, &holds, end);
                        let Some(scene) = next else { break };
                        let one = self.one(lane, &scene);
                        holds =
                            if one.passed() { scene.row.cluster.clone() } else { String::new() };
                        locked(ended).push(one);
                    }
                    locked(queue).leaves(lane);
                    self.down(lane);
                });
            }
        });
        let mut ended = ended.into_inner().unwrap_or_else(PoisonError::into_inner);
        for one in ended.iter_mut().filter(|one| one.outcome == Outcome::Late) {
            let Some(scene) = scenes.iter().find(|scene| scene.name == one.name) else { continue };
            say(&format!("== {}: waited in vain; once more, alone", one.name));
            let again = self.one(1, scene);
            if again.outcome == Outcome::Passed {
                (one.outcome, one.took) = (Outcome::Flaky, again.took);
            }
        }
        self.down(1);
        let left = std::mem::take(&mut locked(&queue).all);
        ended.extend(left.into_iter().map(|scene| Ended {
            name: scene.name,
            cluster: scene.row.cluster,
            outcome: Outcome::NotRun,
            took: Duration::ZERO,
            why: "there was no time left to begin it".to_owned(),
        }));
        ended
    }

    /// One test in a lane; what it printed is shown once it has ended.
    fn one(&self, lane: usize, scene: &Scene) -> Ended {
        let slowness = speed::measured().max(self.boot);
        let log = self.scratch.join(format!("lane-{lane}"));
        let late = self.scratch.join(format!("late-{lane}"));
        let _ = std::fs::remove_file(&late);
        say(&format!("== {} begins in lane {lane}", scene.name));
        let began = Instant::now();
        let limit = LIMIT_AT_LEAST.max(scene.row.seconds * LIMIT_TIMES);
        let limit = Duration::from_secs(limit).mul_f64(slowness.max(1.0));
        let told = (late.as_path(), format!("{slowness:.2}"));
        let (outcome, trouble) = match self.started(lane, scene, &log, &told) {
            Err(error) => (Outcome::Failed, error.to_string()),
            Ok(mut child) => match ends(&mut child, limit) {
                Some(true) => (Outcome::Passed, String::new()),
                Some(false) if late.exists() => (Outcome::Late, String::new()),
                Some(false) => (Outcome::Failed, String::new()),
                None => {
                    let evidence = self.evidence(lane);
                    end_group(&mut child);
                    let over = format!("it was at work for {} s, and is ended", limit.as_secs());
                    (Outcome::Over, format!("{evidence}\n{over}"))
                }
            },
        };
        let took = began.elapsed();
        let mut text = String::new();
        if let Ok(mut file) = File::open(&log) {
            let mut octets = Vec::new();
            let _ = file.read_to_end(&mut octets);
            text = String::from_utf8_lossy(&octets).into_owned();
        }
        let lines: Vec<String> =
            text.lines().chain(trouble.lines()).map(|line| format!("   {lane}| {line}")).collect();
        let head = format!("== {}: {outcome} after {} s", scene.name, took.as_secs());
        say(&format!("{head}\n{}", lines.join("\n")));
        let passed = outcome == Outcome::Passed;
        let why = if passed { String::new() } else { verdict(&text).unwrap_or(trouble) };
        let (name, cluster) = (scene.name.clone(), scene.row.cluster.clone());
        Ended { name, cluster, outcome, took, why }
    }

    fn started(
        &self,
        lane: usize,
        scene: &Scene,
        log: &Path,
        (late, slowness): &(&Path, String),
    ) -> std::io::Result<Child> {
        let out = File::create(log)?;
        let mut command = Command::new("nsenter");
        command
            .arg(format!("--net=/run/netns/{}", network(lane)))
            .arg(&scene.program.path)
            .args(["--exact", &scene.name, "--ignored", "--nocapture", "--test-threads=1"])
            .current_dir(&scene.program.folder)
            .env("ZOISITE_LANE", lane.to_string())
            .env("ZOISITE_LAB_SLOWNESS", slowness)
            .env("ZOISITE_LAB_LATE", late)
            .stdin(Stdio::null())
            .stdout(out.try_clone()?)
            .stderr(out)
            .process_group(0);
        command.spawn()
    }

    fn evidence(&self, lane: usize) -> String {
        let mut evidence = Command::new(self.lab.join("evidence"));
        evidence.env("ZOISITE_LANE", lane.to_string()).stdin(Stdio::null());
        let output = evidence.output();
        output
            .map(|output| String::from_utf8_lossy(&output.stdout).into_owned())
            .unwrap_or_default()
    }
}

impl Drop for Lanes {
    fn drop(&mut self) {
        self.clean();
        let _ = std::fs::remove_dir_all(&self.scratch);
    }
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn network(lane: usize) -> String {
    format!("zoisite-lane-{lane}")
}

/// Whether it ended well, within its limit.
fn ends(child: &mut Child, limit: Duration) -> Option<bool> {
    let end = Instant::now() + limit;
    loop {
        match child.try_wait() {
            Ok(Some(status)) => return Some(status.success()),
            Ok(None) if Instant::now() < end => std::thread::sleep(Duration::from_millis(200)),
            Ok(None) => return None,
            Err(_) => return Some(false),
        }
    }
}

/// What a test that failed says of it: from where it panicked to the stack's trace, as far as one reads at a glance.
fn verdict(text: &str) -> Option<String> {
    let lines = text.lines().skip_while(|line| !line.contains("panicked at"));
    let lines = lines.take_while(|line| !line.starts_with("stack backtrace"));
    let said: Vec<String> = lines.take(6).map(|line| line.chars().take(600).collect()).collect();
    (!said.is_empty()).then(|| said.join("\n"))
}

/// Ends a test with all that it started.
fn end_group(child: &mut Child) {
    let group = format!("-{}", child.id());
    let _ = Command::new("kill").args(["-KILL", "--", &group]).status();
    let _ = child.wait();
}

/// What is still to be run. Who has a cluster goes on with it; the cluster with the most left to do begins first.
struct Queue {
    all: Vec<Scene>,
    /// By lane, the cluster that it has.
    held: BTreeMap<usize, String>,
}

impl Queue {
    fn of(scenes: &[Scene]) -> Self {
        Self { all: scenes.to_vec(), held: BTreeMap::new() }
    }

    fn leaves(&mut self, lane: usize) {
        self.held.remove(&lane);
    }

    /// The next one for a lane, of those for which there is time.
    fn next(&mut self, lane: usize, holds: &str, end: Instant) -> Option<Scene> {
        let left = end.saturating_duration_since(Instant::now()).as_secs();
        let fits = |scene: &Scene| scene.seconds <= left;
        let same = |scene: &Scene| !holds.is_empty() && scene.row.cluster == holds;
        let mut at = self.all.iter().position(|scene| same(scene) && fits(scene));
        if at.is_none() {
            // A cluster that another lane has is left to it, as long as there is something else.
            let work = |scene: &Scene| -> u64 {
                let cluster = &scene.row.cluster;
                if cluster.is_empty() {
                    return scene.seconds;
                }
                let of = self.all.iter().filter(|other| other.row.cluster == *cluster);
                of.map(|other| other.seconds).sum()
            };
            let taken = |scene: &Scene| {
                let cluster = &scene.row.cluster;
                !cluster.is_empty()
                    && self.held.iter().any(|(by, has)| *by != lane && has == cluster)
            };
            let fitting = self.all.iter().enumerate().filter(|(_, scene)| fits(scene));
            at = fitting
                .max_by_key(|(at, scene)| (!taken(scene), work(scene), usize::MAX - at))
                .map(|(at, _)| at);
        }
        let scene = self.all.remove(at?);
        self.held.insert(lane, scene.row.cluster.clone());
        Some(scene)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

    use super::*;
    use crate::table::{Choice, Durations, Plan, Program, Table};

    fn scenes(rows: &[(&str, &str, u64)], program: &str) -> Vec<Scene> {
        let text: String = rows
            .iter()
            .map(|(name, cluster, seconds)| {
                format!(
                    "[[scene]]\nname = \"{name}\"\ncluster = \"{cluster}\"\nseconds = {seconds}\nproves = \"x\"\n"
                )
            })
            .collect();
        let program = Program { folder: "/".into(), path: program.into() };
        let found = rows.iter().map(|(name, ..)| ((*name).to_owned(), program.clone())).collect();
        let known = Table::parse(&text).unwrap().known(found).unwrap();
        let choice = Choice { turn: 0, changed: &[], only: &[], capacity: 10_000, slowness: 1.0 };
        Plan::of(known, choice, &Durations::default()).chosen
    }

    #[test]
    fn who_has_a_cluster_goes_on_with_it_and_others_take_something_else() {
        let all = scenes(
            &[("a", "three", 60), ("b", "", 90), ("c", "three", 70), ("d", "one", 20)],
            "/bin/true",
        );
        let mut queue = Queue::of(&all);
        let end = Instant::now() + Duration::from_secs(1_000);
        // The cluster with the most to do, then the longest of the others, then on with what one has.
        assert_eq!(queue.next(1, "", end).unwrap().name, "a");
        assert_eq!(queue.next(2, "", end).unwrap().name, "b");
        assert_eq!(queue.next(1, "three", end).unwrap().name, "c");
        assert_eq!(queue.next(2, "", end).unwrap().name, "d");
        assert!(queue.next(1, "three", end).is_none());
    }

    #[test]
    fn what_does_not_fit_into_the_time_is_not_begun() {
        let all = scenes(&[("long", "", 500), ("short", "", 5)], "/bin/true");
        let mut queue = Queue::of(&all);
        let end = Instant::now() + Duration::from_secs(60);
        assert_eq!(queue.next(1, "", end).unwrap().name, "short");
        assert!(queue.next(1, "", end).is_none());
        assert_eq!(queue.all.len(), 1, "it is told as not run");
    }

    #[test]
    fn of_a_test_that_failed_its_own_words_are_told_and_not_the_trace() {
        let text = "running 1 test\nthread 'x' (7) panicked at a.rs:3:5:\negret is off\nstack backtrace:\n   0: x\n";
        let said = verdict(text).unwrap();
        assert_eq!(said, "thread 'x' (7) panicked at a.rs:3:5:\negret is off");
        assert_eq!(verdict("it was ended"), None);
    }

    #[test]
    fn a_test_that_hangs_is_ended_with_what_it_started() {
        let mut sh = Command::new("sh");
        let mut child = sh.args(["-c", "sleep 600 & echo $!; wait"]);
        child = child.stdout(Stdio::piped()).process_group(0);
        let mut child = child.spawn().unwrap();
        let mut line = String::new();
        std::io::BufRead::read_line(
            &mut std::io::BufReader::new(child.stdout.take().unwrap()),
            &mut line,
        )
        .unwrap();
        assert_eq!(ends(&mut child, Duration::from_millis(300)), None);
        end_group(&mut child);
        let gone = Instant::now() + Duration::from_secs(20);
        while Path::new("/proc").join(line.trim()).join("exe").exists() {
            assert!(Instant::now() < gone, "what it started goes too");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}
