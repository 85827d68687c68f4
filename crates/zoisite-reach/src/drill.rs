//! Carrying out a drill: the same for real hosts and for simulated ones.
//!
//! A [`Ground`] loses and gives back, answers requests and is looked at; [`conduct`] asks several times a second,
//! loses, gives back, waits until all is as before, and keeps every answer.

use std::sync::Mutex;
use std::time::Duration;

use async_trait::async_trait;
use futures_util::StreamExt as _;
use futures_util::stream::FuturesUnordered;
use jiff::Timestamp;
use tokio::time::Instant;
use zoisite_core::cluster::HostName;
use zoisite_core::diagnosis::Trouble;
use zoisite_core::drill::{Ask, Asked, Change, Drill, Measured, Sight};
use zoisite_core::sequence::{Condition, Gate};

use crate::reach::Reach;

/// How often each request is made.
const EVERY: Duration = Duration::from_millis(250);
/// A request that takes longer has failed.
pub(crate) const TIMEOUT: Duration = Duration::from_secs(2);
/// For how long is asked before anything is lost, and after all is as before.
const BEFORE: Duration = Duration::from_secs(4);
const AFTER: Duration = Duration::from_secs(2);

/// A request that a host made by itself.
#[derive(Clone, Debug)]
pub struct Witnessed {
    /// What it asked.
    pub ask: Ask,
    /// Which host.
    pub from: HostName,
    /// When.
    pub at: Instant,
    /// For how long.
    pub took: Duration,
    /// What came instead of an answer.
    pub fault: Option<String>,
}

/// Where a drill is carried out.
#[async_trait]
pub trait Ground: Send + Sync {
    /// Loses what is to be lost; when that was.
    async fn lose(&self) -> Result<Instant, Trouble>;
    /// Gives it back, if the host has not done so by itself, and waits until it has.
    async fn fix(&self) -> Result<(), Trouble>;
    /// Makes one request, on a new connection; writes are told apart by their number.
    async fn ask(&self, ask: Ask, number: u32) -> Result<(), String>;
    /// How something stands now: empty for none, `None` where it is unknown.
    async fn see(&self, sight: &Sight) -> Option<String>;
    /// Has hosts make requests by themselves and tells of each, for as long as it lives.
    async fn watch(&self, heard: &(dyn Fn(Witnessed) + Send + Sync));
    /// Which of these writes are not there.
    async fn missing(&self, acknowledged: &[u32]) -> Vec<u32>;
}

/// For how long one look at what must hold may wait, in seconds: a kubelet reports every ten.
const WITHIN: u32 = 15;

/// What is carried out.
#[derive(Clone, Debug)]
pub struct Conduct {
    /// What is lost.
    pub drill: Drill,
    /// The host from which is asked.
    pub from: HostName,
    /// What is watched.
    pub sights: Vec<Sight>,
    /// What must hold again at the end.
    pub whole: Vec<Condition>,
    /// For how long that is waited for.
    pub timeout: Duration,
}

/// What goes on, for who looks on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stage {
    /// All is well, and asked.
    Before,
    /// Something is lost.
    Lost,
    /// It is given back.
    Fixing,
    /// It was given back; what is waited for.
    Waiting(String),
}

/// What was noted on the way, by the clock of this program.
#[derive(Default)]
struct Log {
    asked: Vec<Witnessed>,
    changes: Vec<(Instant, Sight, String)>,
    acknowledged: Vec<u32>,
}

/// Carries a drill out. When `interrupt` completes, what was lost is given back at once, and what follows is still
/// seen to its end.
///
/// # Errors
/// When it could not be lost: then nothing was.
pub async fn conduct(
    (ground, reach): (&dyn Ground, &dyn Reach),
    what: &Conduct,
    began: Timestamp,
    interrupt: impl Future<Output = ()>,
    tell: &(dyn Fn(Stage) + Sync),
) -> Result<Measured, Trouble> {
    let log = Mutex::new(Log::default());
    let heard = |witnessed: Witnessed| {
        if let Ok(mut log) = log.lock() {
            log.asked.push(witnessed);
        }
    };
    let asking = async {
        let each = [Ask::Read, Ask::Write].map(|ask| asks(ground, what, ask, &log));
        futures_util::future::join_all(each).await;
    };
    let seeing =
        futures_util::future::join_all(what.sights.iter().map(|sight| sees(ground, sight, &log)));
    let course = async {
        let mut interrupt = std::pin::pin!(interrupt);
        tell(Stage::Before);
        tokio::select! {
            () = tokio::time::sleep(BEFORE) => {}
            () = &mut interrupt => {
                let answer = "stopped as you asked: nothing was lost";
                return Err(Trouble::new(None, "the drill", answer, Vec::new()));
            }
        }
        let lost = ground.lose().await?;
        tell(Stage::Lost);
        tokio::select! {
            () = tokio::time::sleep_until(lost + Duration::from_secs(what.drill.seconds.into())) => {}
            () = &mut interrupt => {}
        }
        tell(Stage::Fixing);
        let end = Instant::now() + what.timeout;
        let fixed = until(end, async || ground.fix().await, tell).await;
        let fixed = fixed.map(|()| Instant::now());
        let whole = match &fixed {
            Ok(_) => until(end, async || holds(reach, &what.whole).await, tell).await,
            Err(trouble) => Err(trouble.clone()),
        };
        let whole = whole.map(|()| Instant::now());
        tokio::time::sleep(AFTER).await;
        Ok::<_, Trouble>((lost, fixed.ok(), whole))
    };
    let (lost, fixed, whole) = tokio::select! {
        course = course => course?,
        _ = asking => return Err(ended()),
        _ = seeing => return Err(ended()),
        () = ground.watch(&heard) => return Err(ended()),
    };
    let log = log.into_inner().unwrap_or_default();
    let since = |at: Instant| match at.checked_duration_since(lost) {
        Some(after) => milliseconds(after),
        None => -milliseconds(lost.duration_since(at)),
    };
    let mut asked: Vec<Asked> = log
        .asked
        .into_iter()
        .map(|Witnessed { ask, from, at, took, fault }| Asked {
            ask,
            from,
            at: since(at),
            took: milliseconds(took),
            fault,
        })
        .collect();
    asked.sort_by_key(|asked| (asked.at, asked.ask));
    let changes = log.changes.into_iter().map(|(at, of, is)| Change { at: since(at), of, is });
    Ok(Measured {
        drill: what.drill.clone(),
        began,
        asked,
        changes: changes.collect(),
        fixed: fixed.map(since),
        left: whole.as_ref().err().map(ToString::to_string),
        whole: whole.ok().map(since),
        lost_writes: ground.missing(&log.acknowledged).await,
    })
}

/// What asks and watches does so until it is dropped.
fn ended() -> Trouble {
    Trouble::new(None, "watching the drill", "the watch has ended", Vec::new())
}

fn milliseconds(of: Duration) -> i64 {
    i64::try_from(of.as_millis()).unwrap_or(i64::MAX)
}

/// Makes one kind of request over and over, each at its time, whether or not the one before was answered.
async fn asks(ground: &dyn Ground, what: &Conduct, ask: Ask, log: &Mutex<Log>) {
    let mut tick = tokio::time::interval(EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut going = FuturesUnordered::new();
    let mut number = 0;
    loop {
        tokio::select! {
            _ = tick.tick() => {
                number += 1;
                going.push(async move {
                    let at = Instant::now();
                    let answer = tokio::time::timeout(TIMEOUT, ground.ask(ask, number)).await;
                    let late = format!("no answer within {} seconds", TIMEOUT.as_secs());
                    (number, at, at.elapsed(), answer.unwrap_or(Err(late)))
                });
            }
            Some((number, at, took, answer)) = going.next() => {
                let Ok(mut log) = log.lock() else { return };
                if ask == Ask::Write && answer.is_ok() {
                    log.acknowledged.push(number);
                }
                let (from, fault) = (what.from.clone(), answer.err());
                log.asked.push(Witnessed { ask, from, at, took, fault });
            }
        }
    }
}

/// Looks at one thing over and over, and notes when it is another.
async fn sees(ground: &dyn Ground, sight: &Sight, log: &Mutex<Log>) {
    let mut was: Option<String> = None;
    loop {
        let seen = tokio::time::timeout(TIMEOUT, ground.see(sight)).await;
        if let Ok(Some(is)) = seen
            && was.as_ref() != Some(&is)
        {
            let Ok(mut log) = log.lock() else { return };
            log.changes.push((Instant::now(), sight.clone(), is.clone()));
            was = Some(is);
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Tries until it works or the time is over.
async fn until(
    end: Instant,
    mut attempt: impl AsyncFnMut() -> Result<(), Trouble>,
    tell: &(dyn Fn(Stage) + Sync),
) -> Result<(), Trouble> {
    loop {
        match attempt().await {
            Ok(()) => return Ok(()),
            Err(trouble) if Instant::now() >= end => return Err(trouble),
            Err(trouble) => tell(Stage::Waiting(trouble.to_string())),
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Whether all of these hold, soon.
async fn holds(reach: &dyn Reach, conditions: &[Condition]) -> Result<(), Trouble> {
    let asked = conditions.iter().map(|condition| async move {
        let gate = Gate { condition: condition.clone(), seconds: WITHIN };
        reach.prove(&gate, &|_| {}).await.ended()
    });
    futures_util::future::try_join_all(asked).await.map(|_| ())
}
