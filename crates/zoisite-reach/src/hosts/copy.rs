//! Files from here to a host and from a host to here, continued where a cut left them.

use std::path::{Path, PathBuf};
use std::time::Duration;

use sha2::{Digest as _, Sha256};
use tokio::io::{AsyncReadExt as _, AsyncSeekExt as _};
use tokio::sync::oneshot;
use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::item::Component;
use zoisite_core::script::{Piece, Reply, fetch_script, sink_script, upload_script};
use zoisite_core::sequence::StepOutcome;
use zoisite_core::snapshot::SNAPSHOT;

use super::channel::{Input, Saying};
use super::{Hosts, gone};
use crate::reach::Progress;

const COMPONENT_FIX: &str = "nothing of it was put in place: put the right file into the components folder, or fix its line in SHA256SUMS if the file is the right one";

/// For how long a host may take nothing of what is sent.
const STALL: Duration = Duration::from_secs(120);
/// For how long a host may say nothing: while it takes a file it has nothing to say.
const TAKING: Duration = Duration::from_secs(4 * 3_600);
/// For how long it may say nothing while it gives one.
const GIVING: Duration = Duration::from_secs(300);
/// How much of a file is asked for at once: what a cut costs at most.
const PIECE: u64 = 16 << 20;
/// How many octets show how fast a host is reached.
const SAMPLE: usize = 1 << 20;
/// How often progress is reported.
const TELL: Duration = Duration::from_millis(500);

impl Hosts {
    /// Brings one component to a host: from another host of its site that has it, else from here.
    pub(super) async fn bring(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        progress: Progress<'_>,
    ) -> StepOutcome {
        // What passes from host to host passes in the clear.
        if component.pinned.name == SNAPSHOT {
            return self.bring_from_here(host, component, sha256, progress).await;
        }
        let site = match self.channel(host) {
            Ok(channel) => channel.target.site.as_deref(),
            Err(trouble) => return StepOutcome::Failed(trouble),
        };
        loop {
            let turn = self.relay.turn(site, host, sha256).await;
            let Some((source, path)) = turn.source.clone() else {
                let outcome = self.bring_from_here(host, component, sha256, progress).await;
                if let StepOutcome::Done { .. } = outcome {
                    turn.came(&component.path, 0);
                }
                return outcome;
            };
            progress(format!("{} from {source}", component.pinned));
            let passed = match self.offer(&source, &path, sha256).await {
                Ok(address) => self.pass_on(host, component, sha256, address).await,
                Err(why) => Err(why),
            };
            match passed {
                Ok((outcome, octets)) => {
                    turn.came(&component.path, octets);
                    return outcome;
                }
                // What came of it stays there: the next copy goes on from it.
                Err(why) => {
                    progress(format!(
                        "again: {} did not come from {source}: {why}",
                        component.pinned
                    ));
                }
            }
        }
    }

    /// Has a host take a component from another one that offers it; why it did not, if it did not.
    async fn pass_on(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        from: std::net::IpAddr,
    ) -> Result<(StepOutcome, u64), String> {
        let attempted = format!("bringing {}", component.pinned);
        let path = self.file_here(host, component, sha256)?;
        let size = tokio::fs::metadata(&path).await.map_err(|error| error.to_string())?.len();
        let script = upload_script(host, component, (sha256, size), self.generation, Some(from));
        let channel = self.channel(host).map_err(|trouble| trouble.answer)?;
        let mut reply = Reply::default();
        let mut line = |text: &str| drop(reply.line(text));
        let until = Instant::now();
        let saying = Saying { attempted: &attempted, script: 0, silence: TAKING, until };
        let heard = channel.script(&script, &saying, &mut line).await;
        let heard = heard.map_err(|trouble| trouble.answer)?;
        let had = reply.have().unwrap_or_default().min(size);
        match self.outcome(host, &attempted, reply.outcome(&heard.said)) {
            StepOutcome::Failed(trouble) => Err(trouble.answer),
            outcome => Ok((outcome, size - had)),
        }
    }

    /// Octets a second from here to a host, by sending it some that it does nothing with.
    pub(super) async fn rate_to(&self, host: &HostName) -> Option<f64> {
        let channel = self.channel(host).ok()?;
        let script = sink_script(SAMPLE);
        // Of a kind that no compression on the way makes shorter.
        let mut word = 0x9e37_79b9_7f4a_7c15_u64;
        let noise: Vec<u8> = std::iter::repeat_with(|| {
            word ^= word << 13;
            word ^= word >> 7;
            word ^= word << 17;
            word.to_le_bytes()
        })
        .take(SAMPLE / 8)
        .flatten()
        .collect();
        let mut began = Instant::now();
        let mut sunk = false;
        let mut line = |text: &str| sunk |= text == "@\tsunk";
        let until = Instant::now();
        let saying = Saying {
            attempted: "measuring the link",
            script: script.len(),
            silence: self.deadlines.asking,
            until,
        };
        let began_now = &mut began;
        let send = async |mut input: Input| {
            input.send(script.as_bytes()).await;
            *began_now = Instant::now();
            input.send(&noise).await;
            input.end().await;
        };
        channel.converse(&saying, send, &mut line).await.ok()?;
        let took = began.elapsed().as_secs_f64();
        (sunk && took > 0.0).then(|| SAMPLE as f64 / took)
    }

    fn file_here(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
    ) -> Result<PathBuf, String> {
        let arch = self.arch.lock().ok().and_then(|a| a.get(host).cloned()).unwrap_or_default();
        self.contents.component(component, sha256, &arch)
    }

    async fn bring_from_here(
        &self,
        host: &HostName,
        component: &Component,
        sha256: &str,
        progress: Progress<'_>,
    ) -> StepOutcome {
        let attempted = format!("bringing {}", component.pinned);
        let fail = |answer: String| {
            StepOutcome::Failed(Trouble::new(Some(host.clone()), attempted.clone(), answer, vec![]))
        };
        let path: PathBuf = match self.file_here(host, component, sha256) {
            Ok(path) => path,
            // What is wrong with a file here is plain: nothing on the host needs to be looked at.
            Err(why) => {
                return StepOutcome::Failed(
                    Trouble::new(Some(host.clone()), attempted.clone(), why, vec![])
                        .fix(COMPONENT_FIX),
                );
            }
        };
        let here = |error: std::io::Error| fail(format!("{}: {error}", path.display()));
        let size = match tokio::fs::metadata(&path).await {
            Ok(facts) => facts.len(),
            Err(error) => return here(error),
        };
        let channel = match self.channel(host) {
            Ok(channel) => channel,
            Err(trouble) => return StepOutcome::Failed(trouble),
        };
        let script = upload_script(host, component, (sha256, size), self.generation, None);
        let mut until = Instant::now() + self.deadlines.timeout;
        let mut reached = 0;
        // A copy that went on from an earlier one may be wrong where that one was; a whole one is not.
        let mut whole = false;
        loop {
            let (have, had) = oneshot::channel();
            let mut have = Some(have);
            let mut reply = Reply::default();
            let mut line = |text: &str| {
                reply.line(text);
                if let Some(octets) = reply.have()
                    && let Some(have) = have.take()
                {
                    let _ = have.send(octets);
                }
            };
            let send = async |mut input: Input| {
                input.send(script.as_bytes()).await;
                // A host that does not say how much it has tells why in its reply.
                let Ok(had) = had.await else { return Ok((0, 0)) };
                let tell = |text| progress(format!("{} {text}", component.pinned));
                let sent = send(&path, (had, size), &mut input, &tell).await?;
                input.end().await;
                Ok::<_, std::io::Error>((had, sent))
            };
            let saying =
                Saying { attempted: &attempted, script: script.len(), silence: TAKING, until };
            let heard = match channel.converse(&saying, send, &mut line).await {
                Ok(heard) => heard,
                Err(trouble) => return StepOutcome::Failed(trouble),
            };
            let (had, sent) = match heard.sent {
                Some(Err(error)) if error.kind() != std::io::ErrorKind::TimedOut => {
                    return here(error);
                }
                Some(Ok((had, sent))) => {
                    self.relay.crossed(sent);
                    (had, sent)
                }
                Some(Err(_)) | None => (0, 0),
            };
            // A host may go down before its first word. One that ends the script without a word of its own,
            // its connection whole, refuses it: that does not pass by itself.
            let begun = reply.have().is_some() && (heard.fault.is_some() || !reply.is_over());
            if (gone(&heard, &reply) || begun) && Instant::now() < until {
                if had + sent > reached {
                    reached = had + sent;
                    until = Instant::now() + self.deadlines.timeout;
                }
                progress(format!("{}: the connection broke off", component.pinned));
                tokio::time::sleep(Duration::from_millis(500)).await;
                continue;
            }
            let outcome = self.outcome(host, &attempted, reply.outcome(&heard.said));
            if had > 0
                && !whole
                && matches!(&outcome, StepOutcome::Failed(t) if t.attempted.starts_with("checking"))
            {
                whole = true;
                continue;
            }
            return outcome;
        }
    }

    /// Takes a file from a host, into one that only its owner reads. What stands there is replaced in one
    /// instant, once the checksum of the whole was right.
    pub(super) async fn take(
        &self,
        host: &HostName,
        path: &str,
        into: &Path,
        progress: Progress<'_>,
    ) -> Result<(), Trouble> {
        let attempted = format!("taking {path}");
        let trouble =
            |answer: String| Trouble::new(Some(host.clone()), attempted.clone(), answer, vec![]);
        let here = |error: std::io::Error| trouble(format!("{}: {error}", into.display()));
        let folder = into.parent().filter(|folder| !folder.as_os_str().is_empty());
        let mut file =
            tempfile::NamedTempFile::new_in(folder.unwrap_or(Path::new("."))).map_err(here)?;
        let channel = self.channel(host)?;
        let mut until = Instant::now() + self.deadlines.timeout;
        let mut told = CopyProgress::new();
        let (mut have, mut known, mut sum) = (0_u64, None, None);
        let mut digest = Sha256::new();
        loop {
            let mut piece = Piece::default();
            let mut line = |text: &str| piece.line(text);
            let saying = Saying { attempted: &attempted, script: 0, silence: GIVING, until };
            let heard =
                channel.script(&fetch_script(path, have, PIECE), &saying, &mut line).await?;
            let Some(facts) = piece.file else {
                if heard.cut && Instant::now() < until {
                    continue;
                }
                let said = heard.fault.unwrap_or(heard.said);
                return Err(trouble(match (piece.complete, said.trim()) {
                    (true, _) => "there is no such file".to_owned(),
                    (false, "") => "no answer".to_owned(),
                    (false, said) => said.to_owned(),
                }));
            };
            if known.is_some_and(|known| known != facts) {
                return Err(trouble("it changed while it was taken".to_owned()));
            }
            known = Some(facts);
            sum = sum.or(piece.sha256);
            // A piece that was cut counts as far as it came: lines are whole or missing.
            if !piece.octets.is_empty() {
                until = Instant::now() + self.deadlines.timeout;
            }
            std::io::Write::write_all(&mut file, &piece.octets).map_err(here)?;
            digest.update(&piece.octets);
            have += piece.octets.len() as u64;
            told.maybe(have, facts.0, &|text| progress(format!("{path} {text}")));
            if have >= facts.0 && (piece.complete || sum.is_some()) {
                break;
            }
            if piece.octets.is_empty() && Instant::now() >= until {
                return Err(trouble("the connection breaks off again and again".to_owned()));
            }
        }
        let found = zoisite_core::pki::hex(&digest.finalize());
        if sum.as_ref() != Some(&found) {
            let wanted = sum.unwrap_or_default();
            return Err(trouble(format!("its checksum is {found} here, and {wanted} there")));
        }
        file.as_file().sync_all().map_err(here)?;
        file.persist(into).map(|_| ()).map_err(|error| here(error.error))
    }
}

/// Sends a file from an offset on; how much was sent. A host that takes no more has said why.
async fn send(
    path: &Path,
    (had, size): (u64, u64),
    input: &mut Input,
    progress: &(dyn Fn(String) + Send + Sync),
) -> std::io::Result<u64> {
    let mut file = tokio::fs::File::open(path).await?;
    file.seek(std::io::SeekFrom::Start(had)).await?;
    let mut told = CopyProgress::new();
    let mut sent = 0;
    let mut block = vec![0; 256 * 1_024];
    loop {
        let n = file.read(&mut block).await?;
        if n == 0 {
            break;
        }
        match tokio::time::timeout(STALL, input.send(&block[..n])).await {
            Ok(true) => sent += n as u64,
            Ok(false) => break,
            Err(_) => return Err(std::io::ErrorKind::TimedOut.into()),
        }
        told.maybe(had + sent, size, progress);
    }
    Ok(sent)
}

/// Tells how far a copy is, now and then.
struct CopyProgress {
    began: Instant,
    last: Instant,
    first: Option<u64>,
}

impl CopyProgress {
    fn new() -> Self {
        let now = Instant::now();
        Self { began: now, last: now, first: None }
    }

    fn maybe(&mut self, done: u64, all: u64, tell: &(dyn Fn(String) + Send + Sync)) {
        let first = *self.first.get_or_insert(done);
        if self.last.elapsed() < TELL {
            return;
        }
        self.last = Instant::now();
        let mib = |octets: f64| octets / f64::from(1 << 20);
        let rate = mib((done - first) as f64) / self.began.elapsed().as_secs_f64().max(0.001);
        tell(format!("{:.1} of {:.1} MiB, {rate:.1} MiB/s", mib(done as f64), mib(all as f64)));
    }
}
