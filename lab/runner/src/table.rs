//! Which tests there are, and which of them run.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use serde::Deserialize;

/// A test program, and the folder that it runs in.
#[derive(Clone, Debug)]
pub struct Program {
    pub folder: PathBuf,
    pub path: PathBuf,
}

impl Program {
    pub fn parse(text: &str) -> Result<Self, String> {
        let (folder, path) = text.split_once('=').ok_or("a program is FOLDER=PROGRAM")?;
        Ok(Self { folder: folder.into(), path: path.into() })
    }

    /// Its tests that need the lab, by its own word.
    pub fn scenes(&self) -> Result<Vec<(String, Self)>, String> {
        let output = Command::new(&self.path)
            .args(["--ignored", "--list", "--format", "terse"])
            .current_dir(&self.folder)
            .output()
            .map_err(|error| format!("{}: {error}", self.path.display()))?;
        if !output.status.success() {
            return Err(format!("{} does not list its tests", self.path.display()));
        }
        let text = String::from_utf8_lossy(&output.stdout);
        let names = text.lines().filter_map(|line| line.strip_suffix(": test"));
        Ok(names.map(|name| (name.to_owned(), self.clone())).collect())
    }
}

/// `lab/scenes.toml`.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Table {
    scene: Vec<Row>,
}

/// A row: of one test, or of all whose names begin so.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Row {
    /// The beginning of the tests' names; the longest one that fits counts.
    pub name: String,
    /// The cluster that they share, if they do.
    #[serde(default)]
    pub cluster: String,
    /// They run in each so manieth run; 1 is every run.
    #[serde(default = "one")]
    pub every: u64,
    /// How long one takes on a quiet machine, in seconds, as long as this machine has not run it.
    pub seconds: u64,
    /// A change below these paths has them run.
    #[serde(default)]
    pub touched_by: Vec<String>,
    /// What they prove that cheaper tests do not.
    pub proves: String,
}

fn one() -> u64 {
    1
}

/// A test with its row.
#[derive(Clone, Debug)]
pub struct Scene {
    pub name: String,
    pub program: Program,
    pub row: Row,
    /// Where its row stands: those in turn are spread by it.
    at: usize,
    /// Why it runs.
    pub why: String,
    /// What it is expected to take here.
    pub seconds: u64,
}

impl Table {
    pub fn parse(text: &str) -> Result<Self, String> {
        let table: Self = toml::from_str(text).map_err(|error| format!("scenes: {error}"))?;
        for row in &table.scene {
            if row.every == 0 || row.proves.trim().is_empty() {
                return Err(format!(
                    "the row of {} says nothing of how often, or of what",
                    row.name
                ));
            }
        }
        Ok(table)
    }

    /// The page of the documentation that says what each proves.
    pub fn page(&self) -> String {
        let mut out = String::from(
            "# Tests that need the lab\n\n\
             What each proves that cheaper tests (unit, rehearsal, the program on files) do not. A cluster that several share \
             is raised once for each program; *its own* means that the test raises what it needs, or nothing. This page is \
             written by `cargo run -p zoisite-lab-runner -- --page` from `lab/scenes.toml`.\n\n\
             | tests whose names begin so | cluster | run | prove |\n|---|---|---|---|\n",
        );
        for row in &self.scene {
            let cluster = if row.cluster.is_empty() { "its own" } else { row.cluster.as_str() };
            let every = match row.every {
                1 => "each".to_owned(),
                n => format!("every {n}, and when touched"),
            };
            out.push_str(&format!("| `{}` | {cluster} | {every} | {} |\n", row.name, row.proves));
        }
        out
    }

    /// Every test with its row. One without is an error, and so is a row that no test has.
    pub fn known(&self, found: Vec<(String, Program)>) -> Result<Vec<Scene>, String> {
        let mut wrong = Vec::new();
        let mut used = vec![false; self.scene.len()];
        let mut out = Vec::new();
        for (name, program) in found {
            let rows = self.scene.iter().enumerate();
            let best = rows
                .filter(|(_, row)| name.starts_with(&row.name))
                .max_by_key(|(_, row)| row.name.len());
            match best {
                Some((at, row)) => {
                    used[at] = true;
                    let (row, seconds) = (row.clone(), row.seconds);
                    out.push(Scene { name, program, row, at, why: String::new(), seconds });
                }
                None => wrong.push(format!("{name} has no row")),
            }
        }
        let rows = self.scene.iter().zip(used);
        wrong.extend(
            rows.filter(|(_, used)| !used).map(|(row, _)| format!("no test is {}", row.name)),
        );
        if wrong.is_empty() { Ok(out) } else { Err(format!("scenes: {}", wrong.join("; "))) }
    }
}

/// What decides which of them run.
pub struct Choice<'a> {
    pub turn: u64,
    pub changed: &'a [&'a str],
    pub only: &'a [String],
    /// Seconds of all lanes together.
    pub capacity: u64,
    pub slowness: f64,
}

/// What runs, and what does not.
#[derive(Debug)]
pub struct Plan {
    pub chosen: Vec<Scene>,
    /// By name, why not.
    pub left: Vec<(String, String)>,
}

impl Plan {
    /// What runs in every run is planned whatever it takes. Of the others those come whose turn it is, so that everything runs
    /// within three runs, then those that a change touches, as long as there is time.
    pub fn of(scenes: Vec<Scene>, choice: Choice<'_>, durations: &Durations) -> Self {
        let mut plan = Self { chosen: Vec::new(), left: Vec::new() };
        let mut ranked: Vec<(u8, Scene)> = Vec::new();
        for mut scene in scenes {
            let seconds = durations.of(&scene.name).unwrap_or(scene.row.seconds);
            scene.seconds = (seconds as f64 * choice.slowness).ceil() as u64;
            let row = &scene.row;
            let asked = choice.only.iter().any(|text| scene.name.contains(text.as_str()));
            let touched = choice
                .changed
                .iter()
                .find(|path| row.touched_by.iter().any(|below| path.starts_with(below.as_str())));
            let due = (choice.turn + scene.at as u64).is_multiple_of(row.every);
            let (rank, why) = match () {
                () if asked => (0, "asked for".to_owned()),
                () if !choice.only.is_empty() => {
                    plan.left.push((scene.name, "not asked for".into()));
                    continue;
                }
                () if row.every == 1 => (0, "in every run".to_owned()),
                () if due => (1, "its turn".to_owned()),
                () if touched.is_some() => {
                    (2, format!("{} was changed", touched.copied().unwrap_or_default()))
                }
                () => {
                    let why = format!("each {} runs", row.every);
                    plan.left.push((scene.name, why));
                    continue;
                }
            };
            scene.why = why;
            ranked.push((rank, scene));
        }
        // Each run begins with others of those in turn: where there is no time for all, the same are not left out again.
        let rows = ranked.iter().map(|(_, scene)| scene.at + 1).max().unwrap_or(1);
        let begin = usize::try_from(choice.turn / 3 * 7).unwrap_or(0) % rows;
        ranked.sort_by_key(|(rank, scene)| match rank {
            0 => (0, scene.at),
            rank => (*rank, (scene.at + rows - begin) % rows),
        });
        let mut sum = 0;
        for (rank, scene) in ranked {
            if rank > 0 && sum + scene.seconds > choice.capacity {
                let why =
                    format!("{}, but there is no time for its {} s", scene.why, scene.seconds);
                plan.left.push((scene.name, why));
                continue;
            }
            sum += scene.seconds;
            plan.chosen.push(scene);
        }
        plan
    }
}

/// How long each test took when it last passed on this machine, on a quiet one's clock.
#[derive(Debug, Default)]
pub struct Durations(BTreeMap<String, u64>);

impl Durations {
    pub fn read(path: &Path) -> Self {
        let text = std::fs::read_to_string(path).unwrap_or_default();
        Self(serde_json::from_str(&text).unwrap_or_default())
    }

    fn of(&self, name: &str) -> Option<u64> {
        self.0.get(name).copied()
    }

    pub fn learn(&mut self, name: &str, took: Duration) {
        self.0.insert(name.to_owned(), took.as_secs().max(1));
    }

    /// What is not written costs the next run its order, and nothing else.
    pub fn write(&self, path: &Path) {
        let written = || -> std::io::Result<()> {
            if let Some(folder) = path.parent() {
                std::fs::create_dir_all(folder)?;
            }
            let new = path.with_extension("new");
            std::fs::write(&new, serde_json::to_string_pretty(&self.0)?)?;
            std::fs::rename(new, path)
        };
        if let Err(error) = written() {
            super::say(&format!("{}: {error}", path.display()));
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

    use super::*;

    const TABLE: &str = r#"
[[scene]]
name = "drill::"
cluster = "virtual-ip"
seconds = 100
proves = "losses"

[[scene]]
name = "mesh::"
every = 3
seconds = 60
touched-by = ["crates/zoisite-core/src/mesh"]
proves = "networks that do not reach each other"

[[scene]]
name = "registry::"
every = 3
seconds = 50
proves = "pulls"

[[scene]]
name = "registry::of_the_site"
every = 3
seconds = 40
proves = "passwords"
"#;

    fn found(names: &[&str]) -> Vec<(String, Program)> {
        let program = Program { folder: "/".into(), path: "/bin/true".into() };
        names.iter().map(|name| ((*name).to_owned(), program.clone())).collect()
    }

    const ALL: [&str; 4] =
        ["drill::every_loss", "mesh::three", "registry::images", "registry::of_the_site_only"];

    fn plan(turn: u64, changed: &[&str], capacity: u64, durations: &Durations) -> Plan {
        let scenes = Table::parse(TABLE).unwrap().known(found(&ALL)).unwrap();
        let choice = Choice { turn, changed, only: &[], capacity, slowness: 1.0 };
        Plan::of(scenes, choice, durations)
    }

    fn names(plan: &Plan) -> Vec<&str> {
        plan.chosen.iter().map(|scene| scene.name.as_str()).collect()
    }

    #[test]
    fn a_test_without_a_row_and_a_row_without_a_test_are_both_told() {
        let table = Table::parse(TABLE).unwrap();
        let wrong = table.known(found(&["drill::x", "geese::y"])).unwrap_err();
        for says in ["geese::y has no row", "no test is mesh::", "no test is registry::of_the_site"]
        {
            assert!(wrong.contains(says), "{wrong}");
        }
        assert!(Table::parse("[[scene]]\nname = \"x\"\nseconds = 1\nproves = \"\"\n").is_err());
        assert!(Table::parse("[[scene]]\nname = \"x\"\nhow = 1\n").is_err());
    }

    #[test]
    fn every_test_runs_within_three_runs_and_some_in_each() {
        let mut seen = std::collections::BTreeSet::new();
        for turn in 7..10 {
            let plan = plan(turn, &[], 10_000, &Durations::default());
            assert!(names(&plan).contains(&"drill::every_loss"), "{plan:?}");
            assert_eq!(plan.chosen.len() + plan.left.len(), ALL.len());
            seen.extend(names(&plan).into_iter().map(str::to_owned));
        }
        assert_eq!(seen.len(), ALL.len(), "{seen:?}");
    }

    #[test]
    fn what_a_change_touches_runs_after_what_is_due_and_nothing_beyond_the_time() {
        // Turn 1: registry::images (third row) is due, the mesh (second row) is not.
        let due = plan(1, &[], 10_000, &Durations::default());
        assert_eq!(names(&due), ["drill::every_loss", "registry::images"]);
        let changed = ["crates/zoisite-core/src/mesh/keys.rs", "README.md"];
        let both = plan(1, &changed, 10_000, &Durations::default());
        assert_eq!(names(&both), ["drill::every_loss", "registry::images", "mesh::three"]);
        let short = plan(1, &changed, 165, &Durations::default());
        assert_eq!(names(&short), ["drill::every_loss", "registry::images"]);
        assert!(
            short.left.iter().any(|(name, why)| name == "mesh::three" && why.contains("no time"))
        );
        // What runs in every run is planned however long it takes.
        let slow = plan(1, &[], 10, &Durations::default());
        assert_eq!(names(&slow), ["drill::every_loss"]);
    }

    #[test]
    fn the_page_of_the_documentation_is_that_of_the_table() {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let table = std::fs::read_to_string(root.join("lab/scenes.toml")).unwrap();
        let page = std::fs::read_to_string(root.join("docs/lab-tests.md")).unwrap();
        let written = Table::parse(&table).unwrap().page();
        assert!(page == written, "write it again: cargo run -p zoisite-lab-runner -- --page");
    }

    #[test]
    fn what_touches_a_test_is_there() {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let table = std::fs::read_to_string(root.join("lab/scenes.toml")).unwrap();
        for row in Table::parse(&table).unwrap().scene {
            assert!(row.every == 1 || !row.touched_by.is_empty(), "{}", row.name);
            for below in &row.touched_by {
                // The beginning of a path: of a folder, or of a file's name.
                let (folder, name) = below.rsplit_once('/').unwrap();
                let entries = std::fs::read_dir(root.join(folder)).unwrap();
                let mut names =
                    entries.map(|entry| entry.unwrap().file_name().into_string().unwrap());
                assert!(names.any(|found| found.starts_with(name)), "{}: no {below}", row.name);
            }
        }
    }

    #[test]
    fn what_was_measured_counts_and_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("below/durations.json");
        let mut durations = Durations::read(&path);
        durations.learn("drill::every_loss", Duration::from_millis(41_900));
        durations.write(&path);
        let plan = plan(0, &[], 10_000, &Durations::read(&path));
        assert_eq!(plan.chosen[0].seconds, 41);
    }
}
