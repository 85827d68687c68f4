//! Driving the built program on files in a temporary folder.

pub mod clusters;
pub mod custody;
pub mod lab;
pub mod load;
pub mod refused;
pub mod served;
pub mod terminal;
pub mod waits;

use std::fmt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

pub const SALTMARSH: &str = include_str!("../../../../../demo/saltmarsh/zoisite.toml");

/// What a command left behind: its status and both streams.
#[must_use = "a result is looked at"]
pub struct Done {
    pub status: i32,
    pub stdout: String,
    pub stderr: String,
    command: String,
}

impl fmt::Debug for Done {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "\n$ {} → {}", self.command, self.status)?;
        writeln!(f, "── stdout\n{}── stderr\n{}──", ends(&self.stdout), ends(&self.stderr))
    }
}

/// Both ends of a text, lines of bearable length: what went wrong stands last, and a log that is cut shows it.
fn ends(text: &str) -> String {
    let (head, tail) = (15, 80);
    let lines: Vec<&str> = text.lines().collect();
    let left = lines.len().saturating_sub(head + tail);
    let mut out = String::new();
    for (at, line) in lines.iter().enumerate() {
        if at == head && left > 0 {
            out.push_str(&format!("… {left} lines …\n"));
        }
        if at < head || at >= head + left {
            out.extend(line.chars().take(300).chain(['\n']));
        }
    }
    out
}

impl Done {
    /// Runs a command to its end.
    pub fn of(command: &mut Command) -> Self {
        Self::of_given(command, Stdio::null())
    }

    pub fn of_given(command: &mut Command, input: impl Into<Stdio>) -> Self {
        let shown = format!("{command:?}");
        let output = command.stdin(input).output().unwrap();
        Self {
            status: output.status.code().unwrap_or(-1),
            stdout: String::from_utf8(output.stdout).unwrap(),
            stderr: String::from_utf8(output.stderr).unwrap(),
            command: shown,
        }
    }

    #[track_caller]
    pub fn ended(self, status: i32) -> Self {
        assert_eq!(self.status, status, "{self:?}");
        self
    }

    #[track_caller]
    pub fn says(self, text: &str) -> Self {
        assert!(self.stdout.contains(text), "stdout has no '{text}': {self:?}");
        self
    }

    #[track_caller]
    pub fn complains(self, text: &str) -> Self {
        assert!(self.stderr.contains(text), "stderr has no '{text}': {self:?}");
        self
    }

    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|e| panic!("{e}: {self:?}"))
    }
}

/// A folder with a home of its own.
pub struct Place {
    folder: PathBuf,
    /// What removes it with the test; what scenes share stays.
    _temporary: Option<tempfile::TempDir>,
}

impl Place {
    /// A temporary one.
    pub fn new() -> Self {
        let temporary = tempfile::tempdir().unwrap();
        Self { folder: temporary.path().to_owned(), _temporary: Some(temporary) }
    }

    /// One that stays, and may be there already.
    pub fn at(folder: PathBuf) -> Self {
        Self { folder, _temporary: None }
    }

    /// With the demo's cluster file.
    pub fn saltmarsh() -> Self {
        let place = Self::new();
        place.write("zoisite.toml", SALTMARSH);
        place
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    pub fn folder(&self) -> &Path {
        &self.folder
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    /// A components folder that has checksums, and files that nobody will run.
    pub fn components(&self) {
        self.write("components/etcd/3.6.16/linux-amd64/etcd", "not etcd");
        let sum = "0".repeat(64);
        let sums = ["etcd", "etcdctl"].map(|f| format!("{sum}  etcd/3.6.16/linux-amd64/{f}\n"));
        self.write("components/SHA256SUMS", sums.concat());
    }

    pub fn command(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_zoisite"));
        command
            .current_dir(self.folder())
            .env_clear()
            .env("HOME", self.path("home"))
            .env("PATH", std::env::var_os("PATH").unwrap_or_default())
            .env("USER", "ada");
        command
    }

    pub fn run(&self, args: &[&str]) -> Done {
        Done::of(self.command().args(args))
    }

    /// Raises simulated hosts that last, in the folder `stage`.
    pub fn raise_on_stage(&self, more: &[&str]) -> Done {
        let words = ["raise", "--rehearse", "--stage", "stage"];
        self.run(&[&words, more].concat())
    }

    /// Every file below the folder, with its permission bits.
    pub fn files(&self) -> Vec<(String, u32)> {
        fn walk(root: &Path, folder: &Path, out: &mut Vec<(String, u32)>) {
            use std::os::unix::fs::PermissionsExt as _;
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                let mode = std::fs::metadata(&path).unwrap().permissions().mode() & 0o777;
                if path.is_dir() {
                    walk(root, &path, out);
                } else {
                    let name = path.strip_prefix(root).unwrap().to_string_lossy().into_owned();
                    out.push((name, mode));
                }
            }
        }
        let mut out = Vec::new();
        walk(self.folder(), self.folder(), &mut out);
        out.sort();
        out
    }
}
