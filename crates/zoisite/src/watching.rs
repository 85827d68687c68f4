//! Looking again and again until all is well: on a terminal in its place, elsewhere a line for what has changed.

use std::io::IsTerminal as _;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use clap::Args;

use crate::failure::{Failure, Kind};
use crate::interrupt::Interrupts;
use crate::view::{self, Style};

/// How long it is from the end of one look to the next.
const PAUSE: Duration = Duration::from_secs(5);

/// Whether, and for how long, something is watched.
#[derive(Args, Debug)]
pub struct WatchArgs {
    /// Repeat until everything is well; exits with 3 when the time is over
    #[arg(long)]
    pub watch: bool,
    /// How long to watch
    #[arg(long = "for", value_name = "TIME", default_value = "1h", value_parser = span, requires = "watch")]
    time: i64,
}

/// Reads `90s`, and what other commands take: `30m`, `8h`.
fn span(text: &str) -> Result<i64, String> {
    match text.strip_suffix('s').map(str::parse) {
        Some(Ok(seconds @ 1..=86_400)) => Ok(seconds),
        Some(_) => Err("from one second to a day of them: 90s".into()),
        None => view::span(text),
    }
}

/// What one look came to.
pub struct Round {
    /// How far it is, in a few words.
    pub headline: String,
    /// Everything that keeps it from being well, a line each.
    pub ailing: Vec<String>,
    /// The whole picture, for a terminal.
    pub picture: String,
    /// The exit status that it is worth.
    pub status: Result<ExitCode, Failure>,
}

/// Looks until all is well, the time is over, a safety rule refuses, or somebody has seen enough.
pub fn watch(
    args: &WatchArgs,
    json: bool,
    mut look: impl AsyncFnMut() -> Result<Round, Failure>,
) -> Result<ExitCode, Failure> {
    crate::commands::block_on(async {
        let end = Instant::now() + Duration::from_secs(args.time.unsigned_abs());
        let interrupts = Interrupts::listen();
        let in_place = std::io::stdout().is_terminal() && !json;
        let mut last: Option<Round> = None;
        loop {
            let round = tokio::select! {
                round = look() => round?,
                () = interrupts.asked(1) => break,
            };
            let news = news(last.as_ref(), &round);
            if in_place {
                view::again();
                view::out(&format!("{}\n\n{}", round.headline, round.picture.trim_end()));
                let style = Style::stdout();
                news.iter().for_each(|line| view::out(&style.busy(line)));
            } else if !json {
                news.iter().for_each(|line| view::out(line));
            }
            match &round.status {
                Err(failure) if failure.kind() == Kind::Findings => {}
                _ => return round.status,
            }
            if Instant::now() >= end {
                view::say("the time is over, and not all is well yet");
                return round.status;
            }
            last = Some(round);
            tokio::select! {
                () = tokio::time::sleep(PAUSE.min(end.saturating_duration_since(Instant::now()))) => {}
                () = interrupts.asked(1) => break,
            }
        }
        view::say("stopped as you asked");
        last.map_or_else(|| Err(Failure::reported(Kind::Findings)), |round| round.status)
    })?
}

/// Looks until nothing ails, or the timeout is over; what ails at first is reported once. Some things come back only
/// a moment after the step that disturbed them is done: a daemon's own check of a restarted service, pods on
/// nodes that were silent.
pub async fn settled<T, E>(
    timeout: Duration,
    mut look: impl AsyncFnMut() -> Result<(T, Vec<String>), E>,
    tell: impl FnOnce(Vec<String>),
) -> Result<T, E> {
    let end = tokio::time::Instant::now() + timeout;
    let mut tell = Some(tell);
    loop {
        let (seen, ailing) = look().await?;
        if ailing.is_empty() || tokio::time::Instant::now() >= end {
            return Ok(seen);
        }
        if let Some(tell) = tell.take() {
            tell(ailing);
        }
        tokio::time::sleep(PAUSE).await;
    }
}

/// A line for what is another than the time before.
fn news(before: Option<&Round>, now: &Round) -> Vec<String> {
    let mut out = Vec::new();
    if before.is_none_or(|before| before.headline != now.headline) {
        out.push(now.headline.clone());
    }
    let known = before.map_or(&[][..], |before| &before.ailing);
    let gone = known.iter().filter(|line| !now.ailing.contains(line));
    out.extend(gone.map(|line| format!("no more: {line}")));
    let new = now.ailing.iter().filter(|line| !known.contains(line));
    out.extend(new.map(|line| format!("found: {line}")));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn what_is_disturbed_may_come_back_within_the_timeout() {
        for (well_at, timeout, looks_wanted) in [(1, 60, 1), (3, 60, 3), (99, 12, 4)] {
            let (mut looks, mut told) = (0, Vec::new());
            let look = async || {
                looks += 1;
                let ailing = (looks < well_at).then(|| "heron: it is not ready".to_owned());
                Ok::<_, ()>((looks, ailing.into_iter().collect()))
            };
            let seen = settled(Duration::from_secs(timeout), look, |ailing| told = ailing).await;
            assert_eq!((seen, told.len()), (Ok(looks_wanted), usize::from(well_at > 1)));
        }
    }

    #[test]
    fn only_what_has_changed_is_told() {
        let round = |headline: &str, ailing: &[&str]| Round {
            headline: headline.into(),
            ailing: ailing.iter().map(|line| (*line).to_owned()).collect(),
            picture: String::new(),
            status: Ok(ExitCode::SUCCESS),
        };
        let first = round("1 of 2 hosts", &["heron: it swaps", "egret: no answer"]);
        assert_eq!(news(None, &first).len(), 3);
        assert_eq!(news(Some(&first), &first), [] as [&str; 0]);
        let second = round("2 of 2 hosts", &["heron: it swaps"]);
        assert_eq!(news(Some(&first), &second), ["2 of 2 hosts", "no more: egret: no answer"]);
    }
}
