//! A command at a real pseudo-terminal: what it shows is read, and keys are pressed, the interrupt's too.

use std::io::{Read as _, Write as _};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// The program in a terminal of script(1).
pub struct Terminal {
    child: Child,
    keys: ChildStdin,
    shown: Arc<Mutex<String>>,
}

pub const CTRL_C: &str = "\u{3}";

impl Terminal {
    /// Starts a command there, with its folder and environment.
    pub fn of(command: &Command) -> Self {
        let quoted: Vec<String> = std::iter::once(command.get_program())
            .chain(command.get_args())
            .map(|word| format!("'{}'", word.to_str().unwrap()))
            .collect();
        let mut script = Command::new("script");
        script.args(["-qefc", &format!("exec {}", quoted.join(" ")), "/dev/null"]);
        script.env_clear();
        for (name, value) in command.get_envs() {
            script.env(name, value.unwrap_or_default());
        }
        // As wide as a person's: texts are looked for whole.
        script.env("TERM", "xterm").env("COLUMNS", "200").env("LINES", "50");
        let mut child = script
            .current_dir(command.get_current_dir().unwrap())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let keys = child.stdin.take().unwrap();
        let mut screen = child.stdout.take().unwrap();
        let shown = Arc::new(Mutex::new(String::new()));
        let reading = Arc::clone(&shown);
        std::thread::spawn(move || {
            let mut block = [0; 4_096];
            while let Ok(n @ 1..) = screen.read(&mut block) {
                reading.lock().unwrap().push_str(&String::from_utf8_lossy(&block[..n]));
            }
        });
        Self { child, keys, shown }
    }

    /// What was shown so far.
    pub fn shown(&self) -> String {
        self.shown.lock().unwrap().clone()
    }

    /// Waits until a text was shown.
    pub fn until(&self, text: &str) {
        self.until_times(text, 1);
    }

    /// Waits until a text was shown so many times.
    pub fn until_times(&self, text: &str, times: usize) {
        let end = Instant::now() + Duration::from_secs(400);
        while self.shown().matches(text).count() < times {
            assert!(Instant::now() < end, "'{text}' was not shown:\n{}", self.shown());
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Presses keys.
    pub fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
        self.keys.flush().unwrap();
    }

    /// Waits for the end; the exit status.
    pub fn status(&mut self) -> i32 {
        let end = Instant::now() + Duration::from_secs(400);
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.code().unwrap_or(-1);
            }
            assert!(Instant::now() < end, "it does not end:\n{}", self.shown());
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
