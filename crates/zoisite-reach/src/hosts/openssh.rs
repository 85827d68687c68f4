//! The person's own OpenSSH as a carrier: their configuration, agent, jump hosts, known hosts and hardware
//! keys all just work.
//!
//! Each host has a master of its own that Zoisite starts, so that prompts reach the person, with its control
//! socket in the run's folder. Masters do not hear the terminal's interrupt: a run ends its steps in order
//! and then its connections. A run that is killed ends them too, by a guardian that waits for nothing else.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use openssh::{ForwardType, Session, Socket};
use tokio::io::AsyncReadExt as _;
use tokio::net::UnixStream;
use tokio::process::{Child, ChildStdin, Command};
use zoisite_core::login::is_changed_key;
use zoisite_core::pki::Secret;
use zoisite_core::text::plain;

use super::carrier::{Broken, Carrier, Connection, Hope, NotOpened, Process, Target};
use crate::access::Stream;
use crate::ssh_hosts::ssh_path;

/// Where ssh ended and did not say why.
pub(super) const WORDLESS: &str = "ssh ended without a word";

/// An interrupt at the terminal is for Zoisite alone; what is ignored stays so in what sh becomes.
const DEAF: &str = "trap '' INT HUP QUIT; exec \"$@\"";

/// Ends every master when its input ends, however that comes about, and clears the run's folder away.
const GUARDIAN: &str = r#"trap '' INT HUP QUIT TERM
read -r _
for _ in 1 2 3; do
  for socket in "$1"/m*; do
    [ -S "$socket" ] && ssh -F none -S "$socket" -O exit zoisite 2>/dev/null
  done
  [ -e "$1/done" ] || [ ! -d "$1" ] && break
  sleep 1
done
rm -rf -- "$1""#;

/// The person's own OpenSSH.
pub struct OpenSsh {
    /// Control sockets and configuration live here, and nowhere in the person's own folders.
    folder: Arc<Folder>,
    /// Our configuration around each of the person's, by path (`None`: their usual ones).
    configs: BTreeMap<Option<String>, Config>,
    /// Shared connections to jump hosts, by how the configuration names them.
    jumps: tokio::sync::Mutex<BTreeMap<String, Arc<Master>>>,
    /// What each target is reached through, once that was asked.
    behind: Mutex<BTreeMap<String, Option<String>>>,
    /// Prompts are asked one host at a time.
    prompt: tokio::sync::Mutex<()>,
    asking: Asking,
}

/// What becomes of what ssh would ask.
enum Asking {
    /// A person at the terminal is asked, if there is one.
    Person,
    /// Nobody is asked.
    Nobody,
    /// It is told a password, once on each connection.
    Told(Answers),
}

/// The environment variable that makes a program of this one that answers ssh (ssh(1), `SSH_ASKPASS`): it
/// names the socket where the answer is, which only this user reaches.
pub const ANSWERS: &str = "ZOISITE_ANSWERS";

/// Answers ssh's question for a password, and nothing else; `prompt` is what ssh asks. For the program's very
/// beginning, where [`ANSWERS`] is set.
///
/// # Errors
/// When it is another question, or the program that answers is gone.
pub fn answer(socket: &Path, prompt: &str) -> std::io::Result<String> {
    use std::io::Read as _;
    if !prompt.to_lowercase().contains("password") {
        return Err(std::io::Error::other("only a password is known"));
    }
    let mut password = String::new();
    std::os::unix::net::UnixStream::connect(socket)?.read_to_string(&mut password)?;
    Ok(password)
}

/// Answers with a password at a socket in the run's folder.
struct Answers {
    socket: PathBuf,
    giving: tokio::task::JoinHandle<()>,
}

impl Answers {
    fn of(password: Secret, folder: &Folder) -> std::io::Result<Self> {
        let socket = folder.path('a');
        let listener = tokio::net::UnixListener::bind(&socket)?;
        let giving = tokio::spawn(async move {
            while let Ok((mut asking, _)) = listener.accept().await {
                let _ =
                    tokio::io::AsyncWriteExt::write_all(&mut asking, password.expose().as_bytes())
                        .await;
            }
        });
        Ok(Self { socket, giving })
    }
}

impl Drop for Answers {
    fn drop(&mut self) {
        self.giving.abort();
    }
}

struct Config {
    path: PathBuf,
    /// Whether it may name jump hosts: only then ssh is asked.
    jumps: bool,
}

struct Folder {
    dir: tempfile::TempDir,
    used: AtomicUsize,
    /// The guardian waits for this to close.
    guardian: Mutex<Option<(Child, Option<ChildStdin>)>>,
}

impl Folder {
    fn path(&self, kind: char) -> PathBuf {
        self.dir.path().join(format!("{kind}{}", self.used.fetch_add(1, Ordering::Relaxed)))
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        // Every master was told to end by now, or goes with its handle: the guardian need not try again.
        let _ = std::fs::write(self.dir.path().join("done"), "");
    }
}

impl OpenSsh {
    /// A carrier for these targets.
    ///
    /// # Errors
    /// When the run's folder cannot be made.
    pub fn new(targets: &[Target]) -> std::io::Result<Self> {
        raise_descriptors();
        // Socket paths have room for about a hundred characters, so they start near the root.
        let dir = tempfile::Builder::new().prefix("zoisite-").tempdir_in("/tmp")?;
        let mut configs = BTreeMap::new();
        for target in targets {
            let own = &target.login.ssh_config;
            if !configs.contains_key(own) {
                let path = dir.path().join(format!("config{}", configs.len()));
                let alike = targets.iter().filter(|other| other.login.ssh_config == *own);
                let (text, jumps) = config(own.as_deref(), alike);
                std::fs::write(&path, text)?;
                configs.insert(own.clone(), Config { path, jumps });
            }
        }
        let folder = Folder { dir, used: AtomicUsize::new(0), guardian: Mutex::default() };
        Ok(Self {
            folder: Arc::new(folder),
            configs,
            jumps: tokio::sync::Mutex::default(),
            behind: Mutex::default(),
            prompt: tokio::sync::Mutex::new(()),
            asking: Asking::Person,
        })
    }

    /// Asks nothing at the terminal, whatever ssh would ask.
    #[must_use]
    pub fn without_prompts(mut self) -> Self {
        self.asking = Asking::Nobody;
        self
    }

    /// Tells hosts this password when they ask for one; it goes to ssh past arguments, environment and files.
    ///
    /// # Errors
    /// When there is no socket to be had for that.
    pub fn with_password(mut self, password: Secret) -> std::io::Result<Self> {
        self.asking = Asking::Told(Answers::of(password, &self.folder)?);
        Ok(self)
    }

    /// What ssh makes of a target's configuration (ssh(1), `-G`): words by keyword, in lower case.
    ///
    /// # Errors
    /// What ssh says instead.
    pub async fn resolved(&self, target: &Target) -> Result<Vec<(String, String)>, String> {
        let said = Command::new("ssh")
            .arg("-G")
            .args(self.words(target))
            .args(["--", target.name.as_str()])
            .stdin(Stdio::null())
            .output()
            .await
            .map_err(|error| format!("asking ssh: {error}"))?;
        if !said.status.success() {
            return Err(plain(String::from_utf8_lossy(&said.stderr).trim()).into_owned());
        }
        let text = String::from_utf8_lossy(&said.stdout).into_owned();
        let pairs = text.lines().filter_map(|line| line.split_once(' '));
        Ok(pairs.map(|(key, value)| (key.to_owned(), value.to_owned())).collect())
    }

    /// The keys that a host shows before any login: lines of a known_hosts file. Nothing is accepted by that.
    ///
    /// # Errors
    /// What ssh says where the host shows none.
    pub async fn shown_keys(&self, target: &Target) -> Result<Vec<String>, String> {
        let known = self.folder.path('k');
        let said = Command::new("ssh")
            .args(self.words(target))
            .args(["-o", &format!("UserKnownHostsFile={}", known.display())])
            .args(["-o", "GlobalKnownHostsFile=/dev/null", "-o", "HashKnownHosts=no"])
            .args(["-o", "StrictHostKeyChecking=accept-new", "-o", "UpdateHostKeys=no"])
            // Nobody logs in.
            .args(["-o", "PreferredAuthentications=none", "-o", "BatchMode=yes"])
            .args(["-o", "ConnectTimeout=15", "-o", "LogLevel=ERROR"])
            .args(["--", target.name.as_str(), "true"])
            .stdin(Stdio::null())
            .output()
            .await
            .map_err(|error| format!("asking ssh: {error}"))?;
        let text = std::fs::read_to_string(&known).unwrap_or_default();
        match text.is_empty() {
            true => Err(in_short(&String::from_utf8_lossy(&said.stderr))),
            false => Ok(text.lines().map(ToOwned::to_owned).collect()),
        }
    }

    /// Starts the guardian with the first connection.
    fn guard(&self) {
        let mut guardian = self.folder.guardian.lock().unwrap_or_else(PoisonError::into_inner);
        if guardian.is_none() {
            let started = Command::new("sh")
                .args(["-c", GUARDIAN, "zoisite-guardian"])
                .arg(self.folder.dir.path())
                .stdin(Stdio::piped())
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn();
            *guardian = started.ok().map(|mut child| {
                let input = child.stdin.take();
                (child, input)
            });
        }
    }

    fn config(&self, target: &Target) -> Option<&Config> {
        self.configs.get(&target.login.ssh_config)
    }

    /// The words with which ssh logs in at a target.
    fn words(&self, target: &Target) -> Vec<String> {
        let login = &target.login;
        let mut words = Vec::new();
        if let Some(config) = self.config(target) {
            words.extend(["-F".into(), config.path.to_string_lossy().into_owned()]);
        }
        // What the cluster file says of the way in goes before the person's own configuration.
        if let Some(address) = &login.address {
            words.extend(["-o".into(), format!("HostName={address}")]);
        }
        if let Some(port) = login.port {
            words.extend(["-p".into(), port.to_string()]);
        }
        if let Some(user) = &login.user {
            words.extend(["-l".into(), user.clone()]);
        }
        words
    }

    /// What the person would type to log in the same way and accept the key that ssh missed, with what they
    /// have; their own configuration may lead to another address than the cluster file's.
    fn by_hand(&self, target: &Target, said: &str) -> String {
        let login = &target.login;
        let mut words = vec!["ssh".to_owned()];
        words.extend(login.ssh_config.iter().map(|path| format!("-F {path}")));
        let ours = login.address.clone().unwrap_or_else(|| target.address.to_string());
        if login.address.is_some() || said.contains(&format!("known for {ours} ")) {
            words.push(format!("-o HostName={ours}"));
        }
        words.extend(login.port.map(|port| format!("-p {port}")));
        words.extend(login.user.iter().map(|user| format!("-l {user}")));
        words.push(target.name.to_string());
        words.join(" ")
    }

    /// Logs in without asking anybody. A host's key may be known by its address or by the name alone, under
    /// which the person logs in.
    async fn log_in(
        &self,
        words: &[String],
        name: &str,
        prompts: Prompts<'_>,
    ) -> Result<Master, String> {
        let opened = Master::start(&self.folder, words, name, prompts).await;
        match opened {
            Err(said) if key_is_unknown(&said) => {
                let alias = ["-o".to_owned(), format!("HostKeyAlias={name}")];
                let by_name = [words, &alias[..]].concat();
                Master::start(&self.folder, &by_name, name, prompts).await.map_err(|_| said)
            }
            opened => opened,
        }
    }

    /// The jump host's shared connection, where the configuration names one and it opens without a person.
    async fn jump(&self, target: &Target) -> Option<(String, Arc<Master>)> {
        let jump = self.behind(target).await?;
        let mut jumps = self.jumps.lock().await;
        if let Some(master) = jumps.get(&jump).filter(|master| master.stands()) {
            return Some((jump, Arc::clone(master)));
        }
        // `first,second`: the last one is what leads to the target, the others lead to it.
        let (before, last) = match jump.rsplit_once(',') {
            Some((before, last)) => (Some(before), last),
            None => (None, jump.as_str()),
        };
        let (user, host) = match last.rsplit_once('@') {
            Some((user, host)) => (Some(user), host),
            None => (None, last),
        };
        let (host, port) = match host.rsplit_once(':') {
            Some((name, port)) if !name.contains(':') || name.ends_with(']') => (name, Some(port)),
            _ => (host, None),
        };
        let mut words: Vec<String> = Vec::new();
        if let Some(config) = self.config(target) {
            words.extend(["-F".into(), config.path.to_string_lossy().into_owned()]);
        }
        words.extend(before.into_iter().flat_map(|before| ["-J".into(), before.to_owned()]));
        words.extend(user.into_iter().flat_map(|user| ["-l".into(), user.to_owned()]));
        words.extend(port.into_iter().flat_map(|port| ["-p".into(), port.to_owned()]));
        let name = host.trim_matches(['[', ']']);
        let master = Arc::new(self.log_in(&words, name, Prompts::Refused).await.ok()?);
        jumps.insert(jump.clone(), Arc::clone(&master));
        Some((name.to_owned(), master))
    }
}

/// The words that lead through a jump host's shared connection. Of ProxyCommand and ProxyJump the first counts, a
/// jump to `none` too (ssh_config(5)): the command line comes before any configuration.
fn through(socket: &Path, name: &str) -> [String; 2] {
    let socket = socket.display();
    ["-o".into(), format!("ProxyCommand=ssh -F none -S {socket} -W [%h]:%p {name}")]
}

/// As many open files as the system allows without asking: hundreds of hosts need them.
fn raise_descriptors() {
    use rustix::process::{Resource, getrlimit, setrlimit};
    let mut limit = getrlimit(Resource::Nofile);
    limit.current = limit.maximum;
    // Where that is refused, what is allowed already must do.
    let _ = setrlimit(Resource::Nofile, limit);
}

/// Our configuration around the person's: theirs first, as ssh takes the first value that it finds; then
/// where the cluster file says that hosts are. Also whether theirs may name jump hosts.
fn config<'a>(own: Option<&str>, targets: impl Iterator<Item = &'a Target>) -> (String, bool) {
    let usual = ["~/.ssh/config".to_owned(), "/etc/ssh/ssh_config".to_owned()];
    let included: Vec<String> = match own {
        Some(path) => vec![path.to_owned()],
        None => usual.to_vec(),
    };
    let mut text = String::new();
    let mut jumps = false;
    for path in &included {
        text.push_str(&format!("Include \"{path}\"\n"));
        let found = std::fs::read_to_string(ssh_path(path)).unwrap_or_default();
        let words = found.to_lowercase();
        let mentions = |word: &str| words.lines().any(|line| line.trim_start().starts_with(word));
        // Distributions include an empty folder by default.
        let includes = mentions("include") && path != &usual[1];
        jumps |= includes || mentions("proxyjump");
    }
    for target in targets {
        text.push_str(&format!("Host {}\n  HostName {}\n", target.name, target.address));
    }
    (text, jumps)
}

#[async_trait]
impl Carrier for OpenSsh {
    async fn open(&self, target: &Target) -> Result<Arc<dyn Connection>, NotOpened> {
        self.guard();
        let mut words = self.words(target);
        let jump = self.jump(target).await;
        if let (None, Asking::Told(_), Some(behind)) =
            (&jump, &self.asking, self.behind(target).await)
        {
            // The password is the target's: it is not tried on others.
            let said = format!("the host {behind}, which leads there, does not let you in by key");
            let fix = Some(format!(
                "open that one first: ssh-copy-id {behind}, or zoisite login setup where it is in a cluster file"
            ));
            return Err(NotOpened { hope: Hope::None, said, fix });
        }
        if let Some((name, jump)) = jump {
            words.extend(through(&jump.socket, &name));
        }
        let name = target.name.as_str();
        let prompts = match &self.asking {
            Asking::Told(answers) => Prompts::Told(&answers.socket),
            Asking::Person | Asking::Nobody => Prompts::Refused,
        };
        let mut opened = self.log_in(&words, name, prompts).await;
        if let Err(said) = &opened {
            let asks = said.contains("Permission denied") || key_is_unknown(said);
            let terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
            if asks && terminal && matches!(self.asking, Asking::Person) {
                let _one = self.prompt.lock().await;
                opened = Master::start(&self.folder, &words, name, Prompts::Shown).await;
            }
        }
        match opened {
            Ok(master) => Ok(Arc::new(master)),
            Err(said) => Err(NotOpened {
                hope: hope(&said),
                fix: match key_is_unknown(&said) {
                    true => Some(format!(
                        "log in by hand once, compare its key and accept it: {}",
                        self.by_hand(target, &said)
                    )),
                    false => changed_key_fix(&said),
                },
                said: in_short(&said),
            }),
        }
    }

    async fn dials(&self, target: &Target) -> Option<(String, u16)> {
        let resolved = self.resolved(target).await.ok()?;
        let of = |wanted: &str| {
            let found = resolved.iter().find(|(key, _)| key == wanted);
            found.map(|(_, value)| value.as_str()).filter(|value| *value != "none")
        };
        match (of("proxyjump"), of("proxycommand")) {
            (None, None) => Some((of("hostname")?.to_owned(), of("port")?.parse().ok()?)),
            _ => None,
        }
    }

    async fn behind(&self, target: &Target) -> Option<String> {
        let config = self.config(target).filter(|config| config.jumps)?;
        let known = {
            let known = self.behind.lock().unwrap_or_else(PoisonError::into_inner);
            known.get(target.name.as_str()).cloned()
        };
        if let Some(known) = known {
            return known;
        }
        let asked = Command::new("ssh")
            .arg("-F")
            .arg(&config.path)
            .args(["-G", "--", target.name.as_str()])
            .stdin(Stdio::null())
            .output()
            .await
            .ok()?;
        let said = String::from_utf8_lossy(&asked.stdout).into_owned();
        let jump = said.lines().find_map(|line| line.strip_prefix("proxyjump "));
        let jump = jump.filter(|jump| *jump != "none").map(ToOwned::to_owned);
        let mut all = self.behind.lock().unwrap_or_else(PoisonError::into_inner);
        all.insert(target.name.to_string(), jump.clone());
        jump
    }
}

/// What ssh does with what it would ask.
#[derive(Clone, Copy)]
enum Prompts<'a> {
    /// It gives up.
    Refused,
    /// It asks at the terminal.
    Shown,
    /// It asks at this socket, once.
    Told(&'a Path),
}

/// Whether ssh stopped for want of a host's key, and not because it is another one than before.
fn key_is_unknown(said: &str) -> bool {
    said.contains("Host key verification failed") && !is_changed_key(said)
}

/// How the key that a host has no more is taken out: by the name that ssh looked it up by, as the lines of other hosts
/// move when one is taken out.
fn changed_key_fix(said: &str) -> Option<String> {
    let (_, place) = said.split_once("Offending ")?;
    let place = place.lines().next()?.split_once(" in ")?.1.trim();
    let (file, _) = place.rsplit_once(':')?;
    let (_, name) = said.split_once("Host key for ")?;
    let (name, _) = name.split_once(" has changed")?;
    let [file, name] = [file, name].map(|word| match word.contains(['[', ' ', '*', '\'']) {
        true => format!("'{}'", word.replace('\'', r"'\''")),
        false => word.to_owned(),
    });
    Some(format!(
        "if the machine was set up again on purpose, take its old key out, then accept the new one: ssh-keygen -f {file} -R {name}"
    ))
}

/// What may become of a connection that ssh did not open, by its words. Behind a jump host several of them
/// come together: what happened last stands first.
fn hope(said: &str) -> Hope {
    let any = |words: &[&str]| words.iter().any(|word| said.contains(word));
    if any(&["Permission denied", "verification failed"]) || is_changed_key(said) {
        return Hope::None;
    }
    if any(&["during banner exchange", "Not allowed at this time"]) {
        return Hope::Crowded;
    }
    if any(&["Connection refused", "timed out", "No route to host", "unreachable", "Host is down"])
    {
        return Hope::Away;
    }
    let dropped = ["kex_exchange_identification", "onnection closed by", "onnection reset by"];
    if any(&dropped) { Hope::Crowded } else { Hope::None }
}

/// The last words of ssh, without the frames that it draws.
fn in_short(said: &str) -> String {
    if is_changed_key(said) {
        return "REMOTE HOST IDENTIFICATION HAS CHANGED".to_owned();
    }
    let lines: Vec<&str> =
        said.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('@')).collect();
    match lines.len() {
        0 => WORDLESS.to_owned(),
        _ if said.contains("ssh: not found") => {
            "the program ssh is not installed on this machine".to_owned()
        }
        n => lines[n.saturating_sub(3)..].join(" | "),
    }
}

/// The standing connection to one host.
struct Master {
    socket: PathBuf,
    session: Arc<Session>,
    folder: Arc<Folder>,
    process: Mutex<Child>,
    /// Sockets here that lead somewhere through the host.
    forwards: tokio::sync::Mutex<BTreeMap<(String, u16), PathBuf>>,
}

impl Master {
    /// Starts a master and waits until it stands. The error is what ssh said.
    async fn start(
        folder: &Arc<Folder>,
        words: &[String],
        name: &str,
        prompts: Prompts<'_>,
    ) -> Result<Self, String> {
        let socket = folder.path('m');
        let mut command = Command::new("sh");
        command.args(["-c", DEAF, "zoisite", "ssh", "-M", "-N", "-T", "-S"]).arg(&socket);
        for option in [
            "ControlPersist=no",
            "RemoteCommand=none",
            "ConnectTimeout=15",
            "ServerAliveInterval=10",
            "ServerAliveCountMax=6",
            "LogLevel=ERROR",
            "ForwardAgent=no",
            "ClearAllForwardings=yes",
        ] {
            command.arg("-o").arg(option);
        }
        match prompts {
            Prompts::Shown => {}
            Prompts::Refused => {
                command.arg("-o").arg("BatchMode=yes");
            }
            Prompts::Told(socket) => {
                let program = std::env::current_exe().map_err(|error| error.to_string())?;
                command
                    .args(["-o", "BatchMode=no", "-o", "NumberOfPasswordPrompts=1"])
                    .args(["-o", "StrictHostKeyChecking=yes"])
                    .args([
                        "-o",
                        "PreferredAuthentications=publickey,keyboard-interactive,password",
                    ])
                    .env("SSH_ASKPASS", program)
                    .env("SSH_ASKPASS_REQUIRE", "force")
                    .env(ANSWERS, socket);
            }
        }
        command
            .args(words)
            .arg("--")
            .arg(name)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .kill_on_drop(true);
        let mut child = command.spawn().map_err(|error| format!("starting ssh: {error}"))?;
        let mut errors = child.stderr.take();
        let mut said = Vec::new();
        let mut block = [0; 4_096];
        loop {
            if UnixStream::connect(&socket).await.is_ok() {
                let session = Arc::new(Session::resume_mux(socket.clone().into_boxed_path(), None));
                let (folder, process) = (Arc::clone(folder), Mutex::new(child));
                let forwards = tokio::sync::Mutex::default();
                return Ok(Self { socket, session, folder, process, forwards });
            }
            let read = async {
                match &mut errors {
                    Some(errors) => errors.read(&mut block).await.unwrap_or(0),
                    None => 0,
                }
            };
            match tokio::time::timeout(Duration::from_millis(5), read).await {
                Err(_) => {}
                Ok(0) => {
                    let _ = child.wait().await;
                    return Err(plain(&String::from_utf8_lossy(&said)).into_owned());
                }
                Ok(n) if said.len() < 64 * 1_024 => said.extend_from_slice(&block[..n]),
                Ok(_) => {}
            }
        }
    }

    fn broken(&self, error: &openssh::Error) -> Broken {
        // What went wrong is at the bottom of what is wrapped around it.
        let mut cause: &dyn std::error::Error = error;
        while let Some(deeper) = cause.source() {
            cause = deeper;
        }
        let said = plain(&cause.to_string()).into_owned();
        // ssh's own process closes its end before it has ended.
        let closed = matches!(error, openssh::Error::Disconnected) || cause.is::<std::io::Error>();
        if closed || !self.stands() {
            return Broken::Gone(format!("the connection is gone: {said}"));
        }
        match said.contains("refused by peer") || error.to_string().contains("refused by peer") {
            true => Broken::Crowded("the host refuses one more session".to_owned()),
            false => Broken::Refused(said),
        }
    }
}

#[async_trait]
impl Connection for Master {
    async fn start(&self, command: &str) -> Result<Process, Broken> {
        let piped = openssh::Stdio::piped;
        let mut command = Arc::clone(&self.session).arc_raw_command(command);
        command.stdin(piped()).stdout(piped()).stderr(piped());
        let mut child = command.spawn().await.map_err(|error| self.broken(&error))?;
        let lost = || Broken::Refused("a session without its streams".to_owned());
        Ok(Process {
            input: Box::new(child.stdin().take().ok_or_else(lost)?),
            output: Box::new(child.stdout().take().ok_or_else(lost)?),
            errors: Box::new(child.stderr().take().ok_or_else(lost)?),
            ended: Box::pin(async move {
                let status = child.wait().await.ok()?;
                // Ended by a signal is ended all the same.
                Some(status.code().unwrap_or(255))
            }),
        })
    }

    async fn dial(&self, host: &str, port: u16) -> Result<Box<dyn Stream>, Broken> {
        let mut forwards = self.forwards.lock().await;
        let key = (host.to_owned(), port);
        let socket = match forwards.get(&key) {
            Some(socket) => socket.clone(),
            None => {
                let socket = self.folder.path('f');
                let there = Socket::TcpSocket { host: host.to_owned().into(), port };
                self.session
                    .request_port_forward(ForwardType::Local, socket.as_path(), there)
                    .await
                    .map_err(|error| self.broken(&error))?;
                forwards.insert(key, socket.clone());
                socket
            }
        };
        drop(forwards);
        let stream = UnixStream::connect(&socket).await;
        Ok(Box::new(stream.map_err(|error| Broken::Gone(error.to_string()))?))
    }

    fn stands(&self) -> bool {
        let mut process = self.process.lock().unwrap_or_else(PoisonError::into_inner);
        matches!(process.try_wait(), Ok(None))
    }

    async fn close(&self) {
        let pid = {
            let process = self.process.lock().unwrap_or_else(PoisonError::into_inner);
            process.id().and_then(|id| rustix::process::Pid::from_raw(id.cast_signed()))
        };
        let Some(pid) = pid else { return };
        let _ = rustix::process::kill_process(pid, rustix::process::Signal::TERM);
        let end = tokio::time::Instant::now() + Duration::from_secs(2);
        while self.stands() && tokio::time::Instant::now() < end {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_ssh_says_tells_whether_trying_again_may_help() {
        for (said, wanted) in [
            ("heron: Permission denied (publickey).", Hope::None),
            ("Host key verification failed.", Hope::None),
            ("kex_exchange_identification: read: Connection reset by peer", Hope::Crowded),
            ("Connection closed by 10.77.0.11 port 22", Hope::Crowded),
            ("Connection timed out during banner exchange", Hope::Crowded),
            ("ssh: connect to host 10.77.0.11 port 22: Connection refused", Hope::Away),
            (
                "channel 0: open failed: connect failed: No route to host\nstdio forwarding failed\n\
                 Connection closed by UNKNOWN port 65535",
                Hope::Away,
            ),
            ("Bad configuration option: tide", Hope::None),
        ] {
            assert_eq!(hope(said), wanted, "{said}");
        }
    }

    #[test]
    fn what_is_printed_for_two_changed_keys_takes_these_two_out_and_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("known_hosts");
        let key =
            "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJGTS2Dv4HyHCvEoW2nGGbyBM7CLDgHBRSIgsJsXT0aq";
        let names = ["10.77.0.11", "[10.77.0.12]:2222", "10.77.0.13"];
        std::fs::write(&file, names.map(|name| format!("{name} {key}\n")).concat()).unwrap();
        for (line, name) in names.iter().enumerate().take(2) {
            let said = format!(
                "WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED!\nOffending ED25519 key in {}:{}\n\
                 Host key for {name} has changed and you have requested strict checking.\n",
                file.display(),
                line + 1
            );
            let fix = changed_key_fix(&said).unwrap();
            let typed = fix.split_once("new one: ").unwrap().1;
            let done = std::process::Command::new("sh").args(["-c", typed]).output().unwrap();
            assert!(done.status.success(), "{typed}: {done:?}");
        }
        let left = std::fs::read_to_string(&file).unwrap();
        assert_eq!(left, format!("10.77.0.13 {key}\n"));
    }

    #[test]
    fn ssh_goes_through_the_shared_connection_where_the_configuration_names_a_jump() {
        let folder = tempfile::tempdir().unwrap();
        let config = folder.path().join("config");
        std::fs::write(&config, "Host ibis\n  ProxyJump egret\n").unwrap();
        let words = through(&folder.path().join("m1"), "egret");
        // What ssh itself makes of it.
        let mut ssh = std::process::Command::new("ssh");
        let read = ssh.arg("-G").arg("-F").arg(&config).args(words).arg("ibis").output().unwrap();
        let read = String::from_utf8(read.stdout).unwrap();
        let proxy = read.lines().find(|line| line.starts_with("proxycommand "));
        assert!(proxy.is_some_and(|line| line.contains("m1 -W [%h]:%p egret")), "{read}");
        assert!(!read.lines().any(|line| line.starts_with("proxyjump ")), "{read}");
    }

    #[test]
    fn the_persons_configuration_comes_first_and_the_cluster_file_fills_the_gaps() {
        let target = Target {
            site: None,
            name: zoisite_core::cluster::HostName::new("heron").unwrap(),
            address: "10.77.0.11".parse().unwrap(),
            login: zoisite_core::cluster::Login::default(),
        };
        let own = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(&own, "Host heron\n  HostName fd77::11\n").unwrap();
        let path = own.path().to_str().unwrap();
        let (text, jumps) = config(Some(path), [&target].into_iter());
        assert!(text.starts_with(&format!("Include \"{path}\"\n")), "{text}");
        assert!(text.ends_with("Host heron\n  HostName 10.77.0.11\n"), "{text}");
        assert!(!jumps, "ssh need not be asked for a jump host");
        std::fs::write(&own, "Host *\n  ProxyJump egret\n").unwrap();
        assert!(config(Some(path), [&target].into_iter()).1);
    }
}
