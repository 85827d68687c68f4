//! One channel to a host: opened once, opened again when it is gone, with bounds and deadlines.
//!
//! Everything that passes to a host passes through its channel, over whatever [`Carrier`] carries it.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use futures_util::future::Either;
use tokio::io::{AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore};
use tokio::time::Instant;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::pki::Secret;
use zoisite_core::text::plain;

use super::carrier::{Broken, Carrier, Connection, Hope, NotOpened, Process, Target};
use super::lines::{self, Ended};

/// Connections that are being opened at once, at most.
const OPENING: usize = 32;
/// The same, of hosts behind one other host, until refusals teach a lower number.
const OPENING_BEHIND: usize = 8;
/// Scripts that run at once on all hosts, at most: each holds a handful of descriptors here.
const SCRIPTS: usize = 64;
/// Sessions at once on one connection, until refusals teach a lower number (sshd's `MaxSessions` is 10).
const SESSIONS: usize = 8;
/// For how long a connection that is dropped in a crowd is tried again.
const CROWD: Duration = Duration::from_secs(45);
/// The same where somebody waits to hear how far a host lets them in.
const ALONE: Duration = Duration::from_secs(3);
/// For how long a session more is asked for where none of ours runs: the last one may be ending there.
const ENDING: Duration = Duration::from_secs(10);
/// The longest pause between two tries.
const PAUSE: Duration = Duration::from_secs(15);
/// What is still on its way when a host has said its last: it is not waited for longer.
const LAST: Duration = Duration::from_secs(5);
/// How much of what comes on standard error is kept.
const SAID: u64 = 64 * 1_024;

/// What all channels of a run share, so that many hosts stay within bounds.
pub struct Limits {
    opening: Semaphore,
    scripts: Arc<Semaphore>,
    behind: Mutex<BTreeMap<String, Arc<Learnt>>>,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            opening: Semaphore::new(OPENING),
            scripts: Arc::new(Semaphore::new(SCRIPTS)),
            behind: Mutex::default(),
        }
    }
}

/// A bound that refusals lower, never below one.
struct Learnt {
    free: Arc<Semaphore>,
    bound: AtomicUsize,
}

impl Learnt {
    fn new(bound: usize) -> Self {
        Self { free: Arc::new(Semaphore::new(bound)), bound: AtomicUsize::new(bound) }
    }

    async fn take(&self) -> Option<OwnedSemaphorePermit> {
        Arc::clone(&self.free).acquire_owned().await.ok()
    }

    /// One less from now on, if more than one are allowed. Whether that is so.
    fn lower(&self, permit: Option<OwnedSemaphorePermit>) -> bool {
        let lower = |bound: usize| (bound > 1).then(|| bound - 1);
        let lowered = self.bound.fetch_update(Ordering::Relaxed, Ordering::Relaxed, lower).is_ok();
        if let (Some(permit), true) = (permit, lowered) {
            permit.forget();
        }
        lowered
    }
}

impl Limits {
    fn behind(&self, name: &str) -> Arc<Learnt> {
        let mut behind = self.behind.lock().unwrap_or_else(PoisonError::into_inner);
        let learnt = behind.entry(name.to_owned());
        Arc::clone(learnt.or_insert_with(|| Arc::new(Learnt::new(OPENING_BEHIND))))
    }
}

/// Whether a channel's connection stands.
enum Link {
    /// It was not opened yet.
    Never,
    /// It was open, and may still be.
    Open(Arc<dyn Connection>),
    /// It was open once, and the last try to open it again failed.
    Lost,
    /// It was refused: no host is asked twice in one run.
    Refused(Trouble),
}

/// How commands become root.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Root {
    /// By being root, or by sudo that asks nothing.
    #[default]
    Plainly,
    /// By sudo that insists on a terminal (`requiretty`).
    WithTerminal,
    /// By sudo with the password that the person gave.
    WithPassword,
}

/// What leads through a host.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Through {
    /// Nothing was reached yet.
    #[default]
    Unknown,
    /// Its SSH server forwards.
    Forward,
    /// A session passes octets on.
    Session,
}

/// What was learnt of a host's ways.
#[derive(Debug, Default)]
struct Ways {
    root: Root,
    through: Through,
    /// When a session was last tried as a way in vain, and what came of it.
    tried: Option<(Instant, String)>,
}

/// Everything that is sent to a host passes through here.
pub struct Channel {
    /// The host.
    pub target: Target,
    carrier: Arc<dyn Carrier>,
    limits: Arc<Limits>,
    standing: tokio::sync::Mutex<Link>,
    sessions: Learnt,
    password: Option<Secret>,
    ways: Mutex<Ways>,
    /// Told when sessions that are held open are in the way.
    yields: Arc<Notify>,
}

/// What is said to a host, and for how long it may be silent.
pub struct Saying<'a> {
    /// What is attempted, for messages.
    pub attempted: &'a str,
    /// How long the first part of the input is, in octets, where more follows it; 0 when all of it is script.
    pub script: usize,
    /// For how long the host may say nothing.
    pub silence: Duration,
    /// Until when a connection that is gone is opened again.
    pub until: Instant,
}

/// What a host has said.
pub struct Answer<T> {
    /// How sending went; `None` when it was given up.
    pub sent: Option<T>,
    /// What came on standard error.
    pub said: String,
    /// Whether the connection broke off before the end.
    pub cut: bool,
    /// Whether the host said nothing for too long, or too much.
    pub fault: Option<String>,
}

/// A session of a connection, with its places under the bounds.
pub(super) struct Session {
    pub process: Process,
    pub places: Places,
}

/// The standard input of what runs on a host: it ends there when it is dropped here.
pub(super) struct Input(Box<dyn AsyncWrite + Send + Unpin>);

impl Input {
    /// Sends octets; whether they went.
    pub async fn send(&mut self, octets: &[u8]) -> bool {
        self.0.write_all(octets).await.is_ok()
    }

    /// Says that nothing more comes.
    pub async fn end(mut self) {
        let _ = self.0.shutdown().await;
    }
}

/// A script's place among all, and a session's on its connection.
pub(super) type Places = (Option<OwnedSemaphorePermit>, Option<OwnedSemaphorePermit>);

impl Channel {
    /// A channel to a host; opens nothing yet. `password` is what sudo is told where it asks.
    pub fn new(
        target: Target,
        carrier: Arc<dyn Carrier>,
        limits: Arc<Limits>,
        password: Option<Secret>,
    ) -> Self {
        Self {
            target,
            carrier,
            limits,
            standing: tokio::sync::Mutex::new(Link::Never),
            sessions: Learnt::new(SESSIONS),
            password,
            ways: Mutex::default(),
            yields: Arc::default(),
        }
    }

    fn trouble(&self, attempted: &str, answer: impl Into<String>) -> Trouble {
        Trouble::new(Some(self.target.name.clone()), attempted, answer, Vec::new())
    }

    /// The connection: the one that stands, or a new one. One that has stood is opened again until then;
    /// one that never stood is tried once, unless it was only dropped in a crowd.
    ///
    /// # Errors
    /// What kept it from opening.
    pub async fn connection(&self, until: Instant) -> Result<Arc<dyn Connection>, Trouble> {
        self.connection_in_crowd(until, CROWD).await
    }

    /// The same, for somebody who waits for the answer: only behind another host is there a crowd of our own,
    /// which it pays to wait for.
    ///
    /// # Errors
    /// What kept it from opening.
    pub async fn connection_now(&self) -> Result<Arc<dyn Connection>, Trouble> {
        let crowd = match self.carrier.behind(&self.target).await {
            Some(_) => CROWD,
            None => ALONE,
        };
        self.connection_in_crowd(Instant::now(), crowd).await
    }

    async fn connection_in_crowd(
        &self,
        until: Instant,
        crowd: Duration,
    ) -> Result<Arc<dyn Connection>, Trouble> {
        let mut standing = self.standing.lock().await;
        let stood = match &*standing {
            Link::Open(connection) if connection.stands() => return Ok(Arc::clone(connection)),
            Link::Refused(trouble) => return Err(trouble.clone()),
            Link::Open(_) | Link::Lost => true,
            Link::Never => false,
        };
        let began = Instant::now();
        let mut pause = Duration::from_millis(250);
        loop {
            let not = match self.open().await {
                Ok(connection) => {
                    *standing = Link::Open(Arc::clone(&connection));
                    return Ok(connection);
                }
                Err(not) => not,
            };
            let attempted = match stood {
                true => "opening the connection again, which was gone",
                false => "logging in over ssh",
            };
            let trouble = self.trouble(attempted, not.said);
            let trouble = match not.fix {
                Some(fix) => trouble.fix(fix),
                None => trouble,
            };
            let end = match (not.hope, stood) {
                (Hope::Crowded, _) => until.max(began + crowd),
                (Hope::Away, true) => until,
                (Hope::Away, false) | (Hope::None, _) => began,
            };
            if Instant::now() + pause >= end {
                *standing = match (stood, not.hope) {
                    (true, Hope::Crowded | Hope::Away) => Link::Lost,
                    _ => Link::Refused(trouble.clone()),
                };
                return Err(trouble);
            }
            tokio::time::sleep(jittered(pause)).await;
            pause = (pause * 2).min(PAUSE);
        }
    }

    async fn open(&self) -> Result<Arc<dyn Connection>, NotOpened> {
        let behind = self.carrier.behind(&self.target).await;
        let behind = behind.map(|name| self.limits.behind(&name));
        let place = match &behind {
            Some(behind) => behind.take().await,
            None => None,
        };
        let _opening = self.limits.opening.acquire().await.ok();
        let opened = self.carrier.open(&self.target).await;
        if let (Err(not), Some(behind)) = (&opened, &behind)
            && not.hope == Hope::Crowded
        {
            behind.lower(place);
        }
        opened
    }

    /// Starts a command, on a connection that is opened again when it is gone.
    pub(super) async fn start(
        &self,
        command: &str,
        attempted: &str,
        until: Instant,
    ) -> Result<Session, Trouble> {
        let script = Arc::clone(&self.limits.scripts).acquire_owned().await.ok();
        let began = Instant::now();
        loop {
            let session = self.sessions.take().await;
            let connection = self.connection(until).await?;
            match connection.start(command).await {
                Ok(process) => return Ok(Session { process, places: (script, session) }),
                Err(Broken::Crowded(said)) => {
                    if self.through() == Through::Session {
                        self.yields.notify_waiters();
                    }
                    if !self.sessions.lower(session) && began.elapsed() >= ENDING {
                        return Err(self.trouble(attempted, said));
                    }
                }
                Err(Broken::Gone(said)) => {
                    if Instant::now() >= until {
                        return Err(self.trouble(attempted, said));
                    }
                }
                Err(Broken::Refused(said)) => return Err(self.trouble(attempted, said)),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Has sh run a script as root and converses with it: `send` has its standard input, `line` gets each
    /// line of its answer.
    ///
    /// # Errors
    /// When nothing could be started there.
    pub async fn converse<T>(
        &self,
        saying: &Saying<'_>,
        send: impl AsyncFnOnce(Input) -> T,
        line: &mut (dyn FnMut(&str) + Send),
    ) -> Result<Answer<T>, Trouble> {
        let root = self.ways().root;
        let command = command(root, saying.script);
        let Session { mut process, places: _places } =
            self.start(&command, saying.attempted, saying.until).await?;
        let mut input = Input(process.input);
        let send = async {
            if let (Root::WithPassword, Some(password)) = (root, &self.password) {
                input.send(password.expose().as_bytes()).await;
                input.send(b"\n").await;
            }
            send(input).await
        };
        let mut errors = process.errors.take(SAID);
        let said = Mutex::new(Vec::new());
        let hear = async {
            let mut block = [0; 1_024];
            while let Ok(n @ 1..) = errors.read(&mut block).await {
                let mut said = said.lock().unwrap_or_else(PoisonError::into_inner);
                said.extend_from_slice(&block[..n]);
            }
        };
        let sides = std::pin::pin!(async { tokio::join!(send, hear).0 });
        let receive = std::pin::pin!(lines::read(&mut *process.output, saying.silence, line));
        // A host that has fallen silent may not read what it is sent either.
        let (sent, ended) = match futures_util::future::select(sides, receive).await {
            Either::Left((sent, receive)) => (Some(sent), receive.await),
            Either::Right((Ended::Well, sides)) => {
                (tokio::time::timeout(LAST, sides).await.ok(), Ended::Well)
            }
            Either::Right((ended, _)) => (None, ended),
        };
        let fault = match ended {
            Ended::Silent => {
                Some(format!("it said nothing for {} seconds", saying.silence.as_secs()))
            }
            Ended::TooMuch => Some("it says more than is read".to_owned()),
            Ended::Well => None,
        };
        let status = match &fault {
            Some(_) => None,
            None => tokio::time::timeout(LAST, process.ended).await.ok().flatten(),
        };
        let said = said.lock().unwrap_or_else(PoisonError::into_inner);
        let said = plain(&String::from_utf8_lossy(&said)).into_owned();
        Ok(Answer { sent, said, cut: fault.is_none() && status.is_none(), fault })
    }

    /// Runs a script that goes by standard input; `line` gets each line of its answer. Where sudo wants a
    /// terminal or a password, that is learnt from the first answer, and the script is sent again.
    ///
    /// # Errors
    /// When nothing could be started there.
    pub async fn script(
        &self,
        script: &str,
        saying: &Saying<'_>,
        line: &mut (dyn FnMut(&str) + Send),
    ) -> Result<Answer<()>, Trouble> {
        loop {
            let mut answered = false;
            let mut each = |text: &str| {
                answered |= text.starts_with('@');
                line(text);
            };
            let send = async |mut input: Input| {
                // A shell that does not start (sudo refuses) closes its end: its words tell why.
                input.send(script.as_bytes()).await;
                input.end().await;
            };
            let heard = self.converse(saying, send, &mut each).await?;
            if answered || heard.cut || !self.learn(&heard.said, saying).await? {
                return Ok(heard);
            }
        }
    }

    /// Has the login user's own sh run a script; what it said, and what came on standard error.
    ///
    /// # Errors
    /// When nothing could be started there, or it fell silent.
    pub async fn as_user(
        &self,
        script: &str,
        attempted: &str,
        silence: Duration,
    ) -> Result<(String, String), Trouble> {
        let until = Instant::now();
        let Session { mut process, places: _places } =
            self.start("env LC_ALL=C sh", attempted, until).await?;
        let talk = async {
            let _ = process.input.write_all(script.as_bytes()).await;
            let _ = process.input.shutdown().await;
            drop(process.input);
            let (mut out, mut said) = (Vec::new(), Vec::new());
            let (mut output, mut errors) = (process.output.take(SAID), process.errors.take(SAID));
            let _ = tokio::join!(output.read_to_end(&mut out), errors.read_to_end(&mut said));
            let text = |octets: &[u8]| plain(&String::from_utf8_lossy(octets)).into_owned();
            (text(&out), text(&said))
        };
        tokio::time::timeout(silence, talk).await.map_err(|_| {
            let answer = format!("it said nothing for {} seconds", silence.as_secs());
            self.trouble(attempted, answer)
        })
    }

    /// Where the connection is dialled from here, if it is.
    pub async fn dials(&self) -> Option<(String, u16)> {
        self.carrier.dials(&self.target).await
    }

    /// The same, with everything that it said.
    ///
    /// # Errors
    /// As [`Self::script`].
    pub async fn script_output(
        &self,
        script: &str,
        saying: &Saying<'_>,
    ) -> Result<(String, Answer<()>), Trouble> {
        let mut text = String::new();
        let mut line = |line: &str| {
            text.push_str(line);
            text.push('\n');
        };
        let heard = self.script(script, saying, &mut line).await?;
        Ok((text, heard))
    }

    /// Learns from sudo's words how to become root; whether there is another way than before.
    async fn learn(&self, said: &str, saying: &Saying<'_>) -> Result<bool, Trouble> {
        if self.ways().root != Root::Plainly {
            return Ok(false);
        }
        if said.contains("must have a tty") {
            self.ways().root = Root::WithTerminal;
            return Ok(true);
        }
        let asks = said.contains("a password is required")
            || said.contains("a terminal is required to read the password");
        let Some(password) = self.password.as_ref().filter(|_| asks) else { return Ok(false) };
        // Tried with nothing behind it: after a wrong password sudo would take the next line for another one.
        let only_asked = "env LC_ALL=C sudo -k -S -p '' -- true";
        let Session { mut process, places: _places } =
            self.start(only_asked, saying.attempted, saying.until).await?;
        let _ = process.input.write_all(password.expose().as_bytes()).await;
        let _ = process.input.write_all(b"\n").await;
        let _ = process.input.shutdown().await;
        drop(process.input);
        let mut said = String::new();
        let _ =
            tokio::time::timeout(saying.silence, process.errors.read_to_string(&mut said)).await;
        match tokio::time::timeout(saying.silence, process.ended).await {
            Ok(Some(0)) => {
                self.ways().root = Root::WithPassword;
                Ok(true)
            }
            _ => Err(self
                .trouble("becoming root with the password given", said.trim())
                .fix(PASSWORD_FIX)),
        }
    }

    fn ways(&self) -> MutexGuard<'_, Ways> {
        self.ways.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn through(&self) -> Through {
        self.ways().through
    }

    /// Notes what led somewhere.
    pub(super) fn leads(&self, through: Through) {
        self.ways().through = through;
    }

    /// Whether a session may be held open for long beside those of scripts.
    pub(super) fn has_sessions_to_spare(&self) -> bool {
        self.sessions.bound.load(Ordering::Relaxed) > 1
    }

    /// Completes when a session that is held open is in the way of scripts.
    pub(super) fn yields(&self) -> impl Future<Output = ()> + use<> {
        Arc::clone(&self.yields).notified_owned()
    }

    /// What came of the last session that was tried as a way in vain, if that is not long ago.
    pub(super) fn tried_lately(&self, seldom: Duration) -> Option<String> {
        let ways = self.ways();
        ways.tried.as_ref().filter(|(at, _)| at.elapsed() < seldom).map(|(_, why)| why.clone())
    }

    /// Notes that a session was tried as a way in vain.
    pub(super) fn tried_in_vain(&self, why: &str) {
        self.ways().tried = Some((Instant::now(), why.to_owned()));
    }

    /// Opens a connection beside the one that stands, once, and ends it again: whether the host lets in who comes
    /// now.
    ///
    /// # Errors
    /// What kept it from opening.
    pub async fn open_again(&self) -> Result<(), Trouble> {
        let attempted = "logging in again, through its firewall's new rules";
        let connection = self.open().await.map_err(|not| self.trouble(attempted, not.said))?;
        connection.close().await;
        Ok(())
    }

    /// Ends the connection.
    pub async fn close(&self) {
        let standing = std::mem::replace(&mut *self.standing.lock().await, Link::Never);
        if let Link::Open(connection) = standing {
            connection.close().await;
        }
    }
}

const PASSWORD_FIX: &str =
    "give the password again with --ask-sudo; one password is used for all hosts that ask";

/// The command with which sh runs as root: it takes a script of so many octets from its input and leaves the
/// rest to it, or all of it where that is 0. One line, and words that every login shell reads alike.
fn command(root: Root, script: usize) -> String {
    // Octet by octet, as sh may read ahead from a pipe what belongs to the script.
    const LOAD: &str = r#"test "$1" = 0 && exec sh; eval "$(dd bs=1 count="$1" 2>/dev/null)""#;
    let become_root = match root {
        Root::Plainly => r#"test "$(id -u)" = 0 && exec "$@"; exec sudo -n -- "$@""#,
        Root::WithPassword => r#"exec sudo -k -S -p "" -- "$@""#,
        // The terminal is sudo's; what is said goes past it.
        Root::WithTerminal => {
            r#"export L="$3" N="$5"; exec script -qec "exec sudo -n -- sh -c \"\$L\" zoisite \"\$N\" <&3 >&4 2>&5" /dev/null 3<&0 4>&1 5>&2 </dev/null >/dev/null 2>&1"#
        }
    };
    // Programs are started once where they can be: this is in the way of everything.
    let shell = match (script, root) {
        (0, Root::Plainly | Root::WithPassword) => "sh".to_owned(),
        _ => format!("sh -c '{LOAD}' zoisite {script}"),
    };
    format!("sh -c 'export LC_ALL=C; {become_root}' zoisite {shell}")
}

/// A pause, more or less: what was dropped together does not come back together.
fn jittered(pause: Duration) -> Duration {
    let random = std::hash::BuildHasher::hash_one(&std::hash::RandomState::new(), 0);
    pause.mul_f64(0.75 + (random % 512) as f64 / 1_024.0)
}
