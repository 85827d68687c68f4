//! The standing connection to one host.
//!
//! Zoisite starts the master itself, so that prompts reach the person, with a control socket in the
//! run's own folder. The master's one session reads its input until it ends; the input is a pipe that
//! this process holds, so the connection ends with the process, however that ends.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use openssh::Session;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, BufReader};
use tokio::process::{Child, ChildStdin, Command};
use tokio::sync::Mutex;
use zoisite_core::diagnosis::Trouble;

use super::SshTarget;

/// What the far end says once the session stands.
const READY: &str = "zoisite: here";

pub(super) struct Master {
    pub session: Session,
    process: Mutex<(Child, Option<ChildStdin>)>,
}

impl Master {
    /// Connects: first without asking anything; where that fails for want of an answer and there is a
    /// terminal, once more with the person there to answer, one host at a time.
    pub async fn open(
        target: &SshTarget,
        socket: PathBuf,
        prompt: &Mutex<()>,
    ) -> Result<Self, Trouble> {
        match start(target, &socket, true).await {
            Ok(master) => Ok(master),
            Err(said) => {
                let asks = ["Permission denied", "Host key verification failed", "known"]
                    .iter()
                    .any(|word| said.contains(word))
                    && !said.contains("REMOTE HOST IDENTIFICATION HAS CHANGED");
                let terminal = std::io::IsTerminal::is_terminal(&std::io::stdin())
                    && std::io::IsTerminal::is_terminal(&std::io::stderr());
                if asks && terminal {
                    let _one = prompt.lock().await;
                    return start(target, &socket, false)
                        .await
                        .map_err(|said| trouble(target, &said));
                }
                Err(trouble(target, &said))
            }
        }
    }

    /// Ends the connection.
    pub async fn close(&self) {
        let mut process = self.process.lock().await;
        process.1.take();
        let (child, _) = &mut *process;
        if tokio::time::timeout(Duration::from_secs(2), child.wait()).await.is_err() {
            let _ = child.kill().await;
        }
    }
}

fn trouble(target: &SshTarget, said: &str) -> Trouble {
    let lines: Vec<&str> =
        said.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('@')).collect();
    let answer = match lines.len() {
        0 => "ssh ended without a word".to_owned(),
        n if n > 3 && !said.contains("IDENTIFICATION") => lines[n - 3..].join(" | "),
        _ => lines.join(" | "),
    };
    let answer = if said.contains("IDENTIFICATION HAS CHANGED") {
        "REMOTE HOST IDENTIFICATION HAS CHANGED".to_owned()
    } else {
        answer
    };
    Trouble::new(Some(target.name.clone()), "logging in over ssh", answer, Vec::new())
}

async fn start(target: &SshTarget, socket: &PathBuf, batch: bool) -> Result<Master, String> {
    let login = &target.login;
    let mut command = Command::new("ssh");
    if let Some(config) = &login.ssh_config {
        command.arg("-F").arg(config);
    }
    let address = login.address.clone().unwrap_or_else(|| target.address.to_string());
    command.arg("-M").arg("-S").arg(socket).arg("-T");
    for option in [
        "ControlPersist=no",
        "RemoteCommand=none",
        "ConnectTimeout=15",
        "ServerAliveInterval=10",
        "ServerAliveCountMax=6",
        "LogLevel=ERROR",
        "ForwardAgent=no",
    ] {
        command.arg("-o").arg(option);
    }
    // The host's name picks the person's `Host` section, the cluster file says where it is.
    command.arg("-o").arg(format!("HostName={address}"));
    if batch {
        command.arg("-o").arg("BatchMode=yes");
    }
    if let Some(port) = login.port {
        command.arg("-p").arg(port.to_string());
    }
    if let Some(user) = &login.user {
        command.arg("-l").arg(user);
    }
    command
        .arg("--")
        .arg(target.name.as_str())
        .arg(format!("printf '%s\\n' '{READY}'; exec cat >/dev/null"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true);
    let mut child = command.spawn().map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => {
            "the program ssh is not installed on this machine".to_owned()
        }
        _ => format!("starting ssh: {error}"),
    })?;
    let stdin = child.stdin.take();
    let (stdout, mut stderr) = (child.stdout.take(), child.stderr.take());
    if let Some(stdout) = stdout {
        let mut lines = BufReader::new(stdout).lines();
        while let Ok(Some(line)) = lines.next_line().await {
            if line.ends_with(READY) {
                let session = Session::resume_mux(socket.clone().into_boxed_path(), None);
                // Nothing may block on a full pipe later.
                if let Some(mut stderr) = stderr.take() {
                    tokio::spawn(async move {
                        let mut sink = Vec::new();
                        let _ = stderr.read_to_end(&mut sink).await;
                    });
                }
                tokio::spawn(async move { while let Ok(Some(_)) = lines.next_line().await {} });
                return Ok(Master { session, process: Mutex::new((child, stdin)) });
            }
        }
    }
    let mut said = String::new();
    if let Some(mut stderr) = stderr {
        let _ = stderr.read_to_string(&mut said).await;
    }
    let _ = child.wait().await;
    Err(zoisite_core::script::plain(&said).into_owned())
}
