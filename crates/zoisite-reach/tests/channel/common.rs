//! A carrier that misbehaves by order: it really runs what it gets, by sh on this machine, with a folder
//! in the place of Zoisite's own on hosts, and breaks off, hangs, prints or refuses as a test asks for it.

use std::collections::VecDeque;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use async_trait::async_trait;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use zoisite_core::cluster::{Endpoint, HostName, Login};
use zoisite_core::item::Component;
use zoisite_core::pki::{KeyRequest, LedgerEntry, NodeRequest, Secret, SecretRef};
use zoisite_core::token::TokenRecord;
use zoisite_reach::{
    Broken, Carrier, Connection, Contents, Deadlines, Hope, Hosts, NotOpened, Places, Process,
    Stream, Target,
};

/// What goes wrong with the next connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Opening {
    /// It is dropped, as in a crowd.
    Dropped,
    /// Nothing answers there.
    Away,
    /// It is refused for good.
    Refused,
}

/// What goes wrong with the next command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mishap {
    /// The connection breaks off once so many octets have come back.
    CutAfter(usize),
    /// It breaks off once so many octets have gone there.
    CutInput(usize),
    /// The command never says anything.
    Hang,
    /// These octets come before its own, as a login shell prints them.
    Noise(Vec<u8>),
}

/// What was counted.
#[derive(Debug, Default)]
pub struct Counted {
    pub opened: AtomicUsize,
    pub opening: AtomicUsize,
    pub opening_peak: AtomicUsize,
    pub sessions: AtomicUsize,
    pub sessions_peak: AtomicUsize,
    pub refused: AtomicUsize,
    pub octets_in: AtomicUsize,
}

fn up(now: &AtomicUsize, peak: &AtomicUsize) {
    let n = now.fetch_add(1, Ordering::SeqCst) + 1;
    peak.fetch_max(n, Ordering::SeqCst);
}

/// The carrier; every host is this machine.
pub struct StandIn {
    /// In the place of `/var/lib/zoisite`, and as long as that.
    pub state: PathBuf,
    pub openings: Mutex<VecDeque<Opening>>,
    pub mishaps: Arc<Mutex<VecDeque<Mishap>>>,
    /// Sessions at once on a connection.
    pub max_sessions: usize,
    /// How long a connection takes to open.
    pub slow: Duration,
    /// What every host is reached through.
    pub behind: Option<String>,
    /// Answers of commands that are not run at all.
    pub canned: Option<String>,
    pub counted: Arc<Counted>,
    pub standing: Mutex<Vec<Arc<AtomicBool>>>,
}

const OWN: &str = "/var/lib/zoisite";

impl StandIn {
    pub fn new() -> Self {
        let random = std::hash::BuildHasher::hash_one(&std::hash::RandomState::new(), 7);
        let state = PathBuf::from(format!("/tmp/zs{:09x}", random & 0xf_ffff_ffff));
        assert_eq!(state.to_string_lossy().len(), OWN.len(), "lengths stand in scripts");
        let bin = state.join("bin");
        std::fs::create_dir_all(&bin).unwrap();
        let new = Self {
            state,
            openings: Mutex::default(),
            mishaps: Arc::default(),
            max_sessions: 10,
            slow: Duration::ZERO,
            behind: None,
            canned: None,
            counted: Arc::default(),
            standing: Mutex::default(),
        };
        // Becoming root, and giving to root, are left out: nothing here needs it.
        new.program("sudo", "while [ $# -gt 0 ]; do\ncase $1 in --) shift; break ;; -*) shift ;; *) break ;; esac\ndone\nexec \"$@\"");
        new.program("chown", ":");
        new
    }

    /// Puts a program of sh in the place of the machine's.
    pub fn program(&self, name: &str, body: &str) {
        let path = self.state.join("bin").join(name);
        std::fs::write(&path, format!("#!/bin/sh\n{body}\n")).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    }

    pub fn order(&self, mishap: Mishap) {
        self.mishaps.lock().unwrap().push_back(mishap);
    }

    /// Every connection that stands breaks off.
    pub fn cut_all(&self) {
        for standing in self.standing.lock().unwrap().drain(..) {
            standing.store(false, Ordering::SeqCst);
        }
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.state);
    }
}

#[async_trait]
impl Carrier for StandIn {
    async fn open(&self, _: &Target) -> Result<Arc<dyn Connection>, NotOpened> {
        self.counted.opened.fetch_add(1, Ordering::SeqCst);
        up(&self.counted.opening, &self.counted.opening_peak);
        tokio::time::sleep(self.slow).await;
        self.counted.opening.fetch_sub(1, Ordering::SeqCst);
        let not = |said: &str, hope| NotOpened { said: said.to_owned(), hope, fix: None };
        match self.openings.lock().unwrap().pop_front() {
            Some(Opening::Dropped) => return Err(not("dropped in a crowd", Hope::Crowded)),
            Some(Opening::Away) => return Err(not("Connection refused", Hope::Away)),
            Some(Opening::Refused) => {
                return Err(not("Permission denied (publickey).", Hope::None));
            }
            None => {}
        }
        let stands = Arc::new(AtomicBool::new(true));
        self.standing.lock().unwrap().push(Arc::clone(&stands));
        Ok(Arc::new(Standing {
            stands,
            state: self.state.clone(),
            mishaps: Arc::clone(&self.mishaps),
            max_sessions: self.max_sessions,
            canned: self.canned.clone(),
            counted: Arc::clone(&self.counted),
            sessions: Arc::default(),
        }))
    }

    async fn behind(&self, _: &Target) -> Option<String> {
        self.behind.clone()
    }
}

struct Standing {
    stands: Arc<AtomicBool>,
    state: PathBuf,
    mishaps: Arc<Mutex<VecDeque<Mishap>>>,
    max_sessions: usize,
    canned: Option<String>,
    counted: Arc<Counted>,
    sessions: Arc<AtomicUsize>,
}

/// Puts the stand-in's folder in the place of Zoisite's own.
fn here(octets: &mut [u8], state: &Path) {
    let own = OWN.as_bytes();
    let state = state.to_string_lossy().into_owned();
    let mut at = 0;
    while let Some(found) = octets[at..].windows(own.len()).position(|window| window == own) {
        octets[at + found..at + found + own.len()].copy_from_slice(state.as_bytes());
        at += found + own.len();
    }
}

/// How much of the end may be the beginning of the name.
fn begun(octets: &[u8]) -> usize {
    let own = OWN.as_bytes();
    (1..own.len()).rev().find(|n| octets.ends_with(&own[..*n])).unwrap_or(0)
}

#[async_trait]
impl Connection for Standing {
    async fn start(&self, command: &str) -> Result<Process, Broken> {
        if !self.stands() {
            return Err(Broken::Gone("the connection is gone".into()));
        }
        if self.sessions.load(Ordering::SeqCst) >= self.max_sessions {
            self.counted.refused.fetch_add(1, Ordering::SeqCst);
            return Err(Broken::Crowded("one session more is refused".into()));
        }
        self.sessions.fetch_add(1, Ordering::SeqCst);
        up(&self.counted.sessions, &self.counted.sessions_peak);
        let mishap = self.mishaps.lock().unwrap().pop_front();
        let (input, mut to_child) = tokio::io::duplex(64 * 1_024);
        let (mut from_child, output) = tokio::io::duplex(64 * 1_024);
        let (mut errors_child, errors) = tokio::io::duplex(64 * 1_024);
        let (tell, told) = tokio::sync::oneshot::channel();
        let mut command = match (&mishap, &self.canned) {
            (Some(Mishap::Hang), _) => {
                let mut command = tokio::process::Command::new("sleep");
                command.arg("600");
                command
            }
            (_, Some(text)) => {
                let mut command = tokio::process::Command::new("printf");
                command.args(["%s", text]);
                command
            }
            (_, None) => {
                let mut run = tokio::process::Command::new("sh");
                run.args(["-c", command]);
                run
            }
        };
        let path = std::env::var("PATH").unwrap();
        let mut child = command
            .env("PATH", format!("{}:{path}", self.state.join("bin").display()))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .unwrap();
        let (mut stdin, mut stdout, mut stderr) = (
            child.stdin.take().unwrap(),
            child.stdout.take().unwrap(),
            child.stderr.take().unwrap(),
        );
        let (state, counted) = (self.state.clone(), Arc::clone(&self.counted));
        let (stands, sessions) = (Arc::clone(&self.stands), Arc::clone(&self.sessions));
        tokio::spawn(async move {
            let cut_input = match mishap {
                Some(Mishap::CutInput(n)) => n,
                _ => usize::MAX,
            };
            let cut_output = match mishap {
                Some(Mishap::CutAfter(n)) => n,
                _ => usize::MAX,
            };
            if let Some(Mishap::Noise(octets)) = &mishap {
                from_child.write_all(octets).await.unwrap();
            }
            let feed = async {
                let (mut all, mut block, mut sent) = (Vec::new(), [0; 8_192], 0);
                loop {
                    let n = to_child.read(&mut block).await.unwrap_or(0);
                    counted.octets_in.fetch_add(n, Ordering::SeqCst);
                    all.extend_from_slice(&block[..n]);
                    here(&mut all[sent..], &state);
                    // What may be the beginning of the name waits for its end.
                    let keep = if n == 0 { 0 } else { begun(&all[sent..]) };
                    let ready = all.len().saturating_sub(keep).max(sent).min(cut_input);
                    if stdin.write_all(&all[sent..ready]).await.is_err() {
                        break;
                    }
                    sent = ready;
                    if n == 0 {
                        break;
                    }
                    if sent >= cut_input {
                        return true;
                    }
                }
                drop(stdin);
                false
            };
            let pass = async {
                let (mut block, mut passed) = ([0; 1_024], 0);
                loop {
                    let n = stdout.read(&mut block).await.unwrap_or(0);
                    let some = n.min(cut_output - passed);
                    let _ = from_child.write_all(&block[..some]).await;
                    passed += some;
                    if passed >= cut_output {
                        return true;
                    }
                    if n == 0 {
                        return false;
                    }
                }
            };
            let cut_elsewhere = async {
                while stands.load(Ordering::SeqCst) {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                }
            };
            let hear = tokio::spawn(async move {
                let _ = tokio::io::copy(&mut stderr, &mut errors_child).await;
            });
            let cut = tokio::select! {
                true = feed => true,
                cut = pass => cut,
                () = cut_elsewhere => true,
            };
            let status = if cut {
                stands.store(false, Ordering::SeqCst);
                let _ = child.start_kill();
                hear.abort();
                None
            } else {
                // A script may end without having read all that it is sent.
                drop(from_child);
                let _ = hear.await;
                child.wait().await.ok().map(|status| status.code().unwrap_or(255))
            };
            sessions.fetch_sub(1, Ordering::SeqCst);
            counted.sessions.fetch_sub(1, Ordering::SeqCst);
            let _ = tell.send(status);
        });
        Ok(Process {
            input: Box::new(input),
            output: Box::new(output),
            errors: Box::new(errors),
            ended: Box::pin(async move { told.await.ok().flatten() }),
        })
    }

    async fn dial(&self, _: &str, _: u16) -> Result<Box<dyn Stream>, Broken> {
        Err(Broken::Refused("the stand-in forwards nothing".into()))
    }

    fn stands(&self) -> bool {
        self.stands.load(Ordering::SeqCst)
    }

    async fn close(&self) {
        self.stands.store(false, Ordering::SeqCst);
    }
}

/// Nothing but a component's file.
pub struct OneFile(pub PathBuf);

impl Contents for OneFile {
    fn secret(&self, _: &SecretRef) -> Option<Secret> {
        None
    }

    fn component(&self, _: &Component, _: &str, _: &str) -> Result<PathBuf, String> {
        Ok(self.0.clone())
    }

    fn join_token(&self, _: &HostName) -> Result<(TokenRecord, Secret), String> {
        Err("nobody joins here".into())
    }

    fn snapshot(&self, _: &str) -> Result<Box<dyn zoisite_reach::SnapshotFile>, String> {
        Err("nothing is kept in a test".into())
    }

    fn retire_tokens(&self, _: &HostName, _: bool) -> Result<Vec<String>, String> {
        Ok(Vec::new())
    }

    fn sign(&self, _: &HostName, _: &NodeRequest) -> Result<String, Vec<String>> {
        Err(vec!["nobody joins here".into()])
    }

    fn certify(&self, _: &HostName, _: &[KeyRequest]) -> Result<Vec<LedgerEntry>, Vec<String>> {
        Err(vec!["no host makes keys in this test".into()])
    }
}

pub fn name(text: &str) -> HostName {
    HostName::new(text).unwrap()
}

/// Hosts over a stand-in.
pub fn hosts(carrier: &Arc<StandIn>, names: &[String], deadlines: Deadlines) -> Hosts {
    let target = |text: &String| Target {
        name: name(text),
        address: "127.0.0.1".parse().unwrap(),
        site: None,
        login: Login::default(),
    };
    let places = Places {
        etcd_port: 2379,
        api_hosts: Vec::new(),
        api_port: 6443,
        stable: Endpoint::new("127.0.0.1:6443").unwrap(),
        registry: None,
    };
    let targets = names.iter().map(target).collect();
    let contents = Arc::new(OneFile(carrier.state.join("component")));
    let carrier: Arc<dyn Carrier> = Arc::clone(carrier) as _;
    let mut hosts = Hosts::new(targets, carrier, contents, places, 7, None);
    hosts.set_deadlines(deadlines);
    hosts
}
