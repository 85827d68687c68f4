//! How far a look at many hosts is: nothing where it is quick, else how many have answered and who has not.

use std::collections::BTreeSet;
use std::io::IsTerminal as _;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures_util::StreamExt as _;
use indicatif::{ProgressBar, ProgressStyle};
use zoisite_core::cluster::HostName;

use super::{count, say};

/// A look that is over sooner is not worth a word.
const SOON: Duration = Duration::from_millis(800);
/// How often lines are written where nothing can change in place.
const SELDOM: Duration = Duration::from_secs(10);

/// Watches a look.
pub struct Looking {
    all: usize,
    missing: BTreeSet<HostName>,
    began: Instant,
    /// What was said last, and when.
    said: Option<(Instant, String)>,
    bar: Option<ProgressBar>,
}

impl Looking {
    /// A look at these hosts begins.
    pub fn at(hosts: impl IntoIterator<Item = HostName>) -> Self {
        let missing: BTreeSet<HostName> = hosts.into_iter().collect();
        Self { all: missing.len(), missing, began: Instant::now(), said: None, bar: None }
    }

    /// A host has answered, or is known not to.
    pub fn seen(&mut self, host: &HostName) {
        self.missing.remove(host);
        self.show();
    }

    /// Shows how far it is, if it is time to.
    pub fn show(&mut self) {
        if self.began.elapsed() < SOON || self.missing.is_empty() {
            return;
        }
        let text = words(self.all, &self.missing);
        if std::io::stderr().is_terminal() {
            let bar = self.bar.get_or_insert_with(spinner);
            bar.set_message(super::tame(&text).into_owned());
            return;
        }
        let (last, before) = match &self.said {
            Some((last, before)) => (*last, before.as_str()),
            None => (self.began, ""),
        };
        // The same once more tells nothing.
        if last.elapsed() >= SELDOM && text != before {
            say(&text);
            self.said = Some((Instant::now(), text));
        }
    }

    /// The look is over: nothing of this stays on the screen.
    pub fn end(self) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
    }
}

/// What is being done, on a terminal: one line that changes in its place.
pub struct Doing {
    bar: Option<ProgressBar>,
    /// What was reported last to a program that watches.
    told: Mutex<String>,
}

impl Doing {
    /// Begins to tell.
    pub fn begin() -> Self {
        let lively = std::io::stderr().is_terminal() && !super::events::enabled();
        Self { bar: lively.then(spinner), told: Mutex::default() }
    }

    /// What is done now.
    pub fn says(&self, text: &str) {
        if let Some(bar) = &self.bar {
            bar.set_message(super::tame(text).into_owned());
        }
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        if super::events::enabled() && *told != text {
            text.clone_into(&mut told);
            super::events::tell(&serde_json::json!({"is": "doing", "what": text}));
        }
    }

    /// Nothing of it stays on the screen.
    pub fn end(self) {
        if let Some(bar) = self.bar {
            bar.finish_and_clear();
        }
    }
}

fn spinner() -> ProgressBar {
    let bar = ProgressBar::new_spinner();
    let form = ProgressStyle::with_template("  {spinner:.cyan} {wide_msg}");
    bar.set_style(form.unwrap_or_else(|_| ProgressStyle::default_spinner()));
    bar.enable_steady_tick(Duration::from_millis(120));
    bar
}

/// Looks at each of these hosts, so many at once, and says how far it is where that takes long; in this order.
pub async fn of_each<T>(
    hosts: &[HostName],
    at_once: usize,
    look: impl AsyncFn(&HostName) -> T,
) -> Vec<(HostName, T)> {
    let mut shown = Looking::at(hosts.iter().cloned());
    let mut again = tokio::time::interval(Duration::from_millis(500));
    let look = &look;
    let looks = hosts.iter().enumerate().map(|(i, host)| async move { (i, look(host).await) });
    let mut looking = futures_util::stream::iter(looks).buffer_unordered(at_once);
    let mut seen: Vec<(usize, T)> = Vec::with_capacity(hosts.len());
    loop {
        tokio::select! {
            one = looking.next() => match one {
                Some((i, one)) => {
                    shown.seen(&hosts[i]);
                    seen.push((i, one));
                }
                None => break,
            },
            _ = again.tick() => shown.show(),
        }
    }
    drop(looking);
    shown.end();
    seen.sort_by_key(|(i, _)| *i);
    seen.into_iter().map(|(i, one)| (hosts[i].clone(), one)).collect()
}

/// `looked at 9 of 11 hosts; heron and ibis have not answered yet`.
fn words(all: usize, missing: &BTreeSet<HostName>) -> String {
    let seen = all - missing.len();
    let named: Vec<&str> = missing.iter().take(3).map(HostName::as_str).collect();
    let more = missing.len() - named.len();
    let who = match (named.as_slice(), more) {
        ([], _) => String::new(),
        ([one], 0) => format!("; {one} has not answered yet"),
        ([some @ .., last], 0) => format!("; {} and {last} have not answered yet", some.join(", ")),
        (some, more) => format!("; {} and {more} more have not answered yet", some.join(", ")),
    };
    format!("looked at {seen} of {}{who}", count(all, "host"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_slow_are_named() {
        let hosts = |names: &[&str]| names.iter().map(|n| HostName::new(n).unwrap()).collect();
        assert_eq!(
            words(3, &hosts(&["heron"])),
            "looked at 2 of 3 hosts; heron has not answered yet"
        );
        assert_eq!(
            words(11, &hosts(&["heron", "ibis"])),
            "looked at 9 of 11 hosts; heron and ibis have not answered yet"
        );
        let many = ["tern-1", "tern-2", "tern-3", "tern-4", "tern-5"];
        assert_eq!(
            words(500, &hosts(&many)),
            "looked at 495 of 500 hosts; tern-1, tern-2, tern-3 and 2 more have not answered yet"
        );
    }
}
