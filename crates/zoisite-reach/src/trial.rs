//! A trial of a snapshot: a member of its own is started from it on this machine, reachable from here alone, and asked what
//! it holds.

use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::time::Duration;

use tokio::process::{Child, Command};
use tokio::time::Instant;
use zoisite_core::snapshot::Taken;

use crate::etcd::EtcdClient;
use crate::reach::Progress;

/// The programs of etcd that a trial runs.
#[derive(Clone, Debug)]
pub struct EtcdPrograms {
    /// `etcd`.
    pub etcd: PathBuf,
    /// `etcdutl`, which makes a member's data from a snapshot.
    pub etcdutl: PathBuf,
}

/// The one member of a trial; nothing dials it there.
const PEER: &str = "http://localhost:2380";
/// Within which time it is to serve.
const START: Duration = Duration::from_secs(180);
/// So much of what a program said is worth telling.
const SAID: usize = 400;

/// Starts a member from a snapshot's stream in `file` and holds what it says against what was recorded. Everything is
/// made in `scratch`, a folder of this trial's that only its owner reads; the member listens on a socket there. Returns
/// the number of keys.
///
/// # Errors
/// What is wrong with the snapshot, or with trying it.
pub async fn try_snapshot(
    file: &Path,
    taken: &Taken,
    programs: &EtcdPrograms,
    scratch: &Path,
    progress: Progress<'_>,
) -> Result<u64, String> {
    let data = scratch.join("data");
    progress("making a member's data from it".into());
    let made = quiet(&programs.etcdutl)
        .args(["snapshot", "restore"])
        .arg(file)
        .args(["--name", "trial", "--initial-cluster"])
        .arg(format!("trial={PEER}"))
        .args(["--initial-advertise-peer-urls", PEER, "--initial-cluster-token", "trial"])
        .arg("--data-dir")
        .arg(&data)
        .stdin(Stdio::null())
        .output()
        .await
        .map_err(|error| format!("{}: {error}", programs.etcdutl.display()))?;
    if !made.status.success() {
        return Err(format!("etcd's own program refuses it: {}", last_words(&made.stderr)));
    }
    // A socket's path is short.
    let sockets = tempfile::tempdir().map_err(|error| format!("making a folder: {error}"))?;
    let socket = |name: &str| format!("unix://{}", sockets.path().join(name).display());
    let log = scratch.join("log");
    let said = std::fs::File::create(&log).map_err(|e| format!("{}: {e}", log.display()))?;
    progress("starting a member from it".into());
    let mut member = quiet(&programs.etcd)
        .args(["--name", "trial", "--data-dir"])
        .arg(&data)
        .args(["--initial-cluster", &format!("trial={PEER}")])
        .args(["--initial-advertise-peer-urls", PEER])
        .args(["--listen-peer-urls", &socket("peers"), "--listen-client-urls", &socket("clients")])
        .args(["--advertise-client-urls", "http://localhost:2379", "--log-level", "warn"])
        // What is thrown away need not outlast a power cut.
        .arg("--unsafe-no-fsync")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(said)
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| format!("{}: {error}", programs.etcd.display()))?;
    let asked = ask(&mut member, &sockets.path().join("clients"), taken).await;
    let _ = member.kill().await;
    asked.map_err(|why| match std::fs::read(&log) {
        Ok(said) if !said.is_empty() => format!("{why}; the member said: {}", last_words(&said)),
        _ => why,
    })
}

fn quiet(program: &Path) -> Command {
    let mut command = Command::new(program);
    // What is set here for other members says nothing to this one.
    command.env_clear();
    command
}

fn last_words(said: &[u8]) -> String {
    let text = String::from_utf8_lossy(said);
    let last = text.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or("nothing");
    zoisite_core::text::plain(last).chars().take(SAID).collect()
}

async fn ask(member: &mut Child, socket: &Path, taken: &Taken) -> Result<u64, String> {
    let client = serving(member, socket).await?;
    let hash = client.hash(taken.revision).await.map_err(|why| {
        format!("it does not hold everything up to revision {}: {why}", taken.revision)
    })?;
    taken.held_against(hash.hash, hash.compacted)?;
    client.count().await.map_err(|why| format!("counting its keys: {why}"))
}

/// Waits until it serves.
async fn serving(member: &mut Child, socket: &Path) -> Result<EtcdClient, String> {
    let ended = |status: ExitStatus| format!("the member that was started from it ended: {status}");
    let end = Instant::now() + START;
    loop {
        if let Some(status) = member.try_wait().map_err(|error| error.to_string())? {
            return Err(ended(status));
        }
        if let Ok(client) = EtcdClient::connect_here(socket).await
            && client.leader().await.is_ok_and(|leader| leader != 0)
        {
            return Ok(client);
        }
        if Instant::now() >= end {
            return Err(format!("it does not serve after {} seconds", START.as_secs()));
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}
