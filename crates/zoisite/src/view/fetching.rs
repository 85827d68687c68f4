//! How far fetching is: what comes, octets, rate and what remains; in place on a terminal, else in lines.

use std::collections::BTreeMap;
use std::io::IsTerminal as _;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use zoisite_supply::Event;

use super::{Style, say, seconds, tame};

/// How often lines are written where nothing can change in place.
const SELDOM: Duration = Duration::from_secs(10);

/// Watches a fetch.
pub struct Fetching {
    style: Style,
    all: usize,
    began: Instant,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    ended: usize,
    /// Octets by what they are of: here, there were when it began, and in all.
    comes: BTreeMap<String, (u64, Option<u64>, Option<u64>)>,
    said: Option<Instant>,
    screen: Option<Screen>,
}

impl Inner {
    /// Octets that came since it was begun.
    fn came(&self) -> u64 {
        let came = |(have, begins, _): &(u64, Option<u64>, _)| have - begins.unwrap_or(*have);
        self.comes.values().map(came).sum()
    }
}

struct Screen {
    all: MultiProgress,
    sum: ProgressBar,
    bars: BTreeMap<String, ProgressBar>,
}

impl Fetching {
    /// So many things are to be there at the end.
    pub fn of(all: usize) -> Self {
        let terminal = std::io::stderr().is_terminal();
        let screen = terminal.then(|| {
            let all = MultiProgress::new();
            let sum = all.add(ProgressBar::new_spinner());
            sum.set_style(form("  {spinner:.cyan} {wide_msg}"));
            sum.enable_steady_tick(Duration::from_millis(120));
            Screen { all, sum, bars: BTreeMap::new() }
        });
        let inner = Mutex::new(Inner { screen, ..Inner::default() });
        Self { style: Style::stderr(), all, began: Instant::now(), inner }
    }

    /// Something happened.
    pub fn event(&self, event: Event) {
        let Ok(mut inner) = self.inner.lock() else { return };
        match event {
            Event::Begins(what) => {
                if inner.screen.is_none() {
                    say(&self.line("begins", &what));
                }
                inner.comes.insert(what, (0, None, None));
            }
            Event::Has(what, have, all) => {
                let known = inner.comes.entry(what.clone()).or_insert((0, None, None));
                // It went on from what an earlier run left, or began again.
                if known.1.is_none() || have < known.0 {
                    known.1 = Some(have);
                }
                (known.0, known.2) = (have, all);
                if let Some(screen) = &mut inner.screen {
                    let bar = screen.bars.entry(what.clone()).or_insert_with(|| {
                        let bar = screen.all.insert_before(&screen.sum, ProgressBar::new(1));
                        bar.set_style(form(
                            "    {bar:24.cyan/dim} {bytes:>10} of {total_bytes:10} {wide_msg}",
                        ));
                        bar.set_message(tame(&what).into_owned());
                        bar
                    });
                    bar.set_length(all.unwrap_or(have));
                    bar.set_position(have);
                }
            }
            Event::Same(what) => self.ended(&mut inner, "is here", &what, false),
            Event::Pinned(what) => self.ended(&mut inner, "pinned", &what, true),
            Event::Brought(what) => self.ended(&mut inner, "came", &what, true),
            Event::Failed(what) => self.ended(&mut inner, "failed", &what, true),
        }
        self.show(&mut inner);
    }

    fn line(&self, word: &str, what: &str) -> String {
        format!("[{:>8}] {word:<8} {what}", seconds(self.began.elapsed()))
    }

    fn ended(&self, inner: &mut Inner, word: &str, what: &str, told: bool) {
        inner.ended += 1;
        let octets = inner.comes.get(what).map_or(0, |(have, ..)| *have);
        let size = if octets > 0 { format!(", {}", size(octets)) } else { String::new() };
        match &mut inner.screen {
            Some(screen) => {
                if let Some(bar) = screen.bars.remove(what) {
                    bar.finish_and_clear();
                }
                if told {
                    let word =
                        if word == "failed" { self.style.bad(word) } else { self.style.good(word) };
                    let _ = screen.all.println(format!("  {word} {}{size}", tame(what)));
                }
            }
            None if told => say(&format!("{}{size}", self.line(word, what))),
            None => {}
        }
    }

    /// Sums up: octets, rate, what remains.
    fn show(&self, inner: &mut Inner) {
        let have: u64 = inner.comes.values().map(|(have, ..)| have).sum();
        let came = inner.came();
        let all: u64 = inner.comes.values().map(|(have, _, all)| all.unwrap_or(*have)).sum();
        let rate = came as f64 / self.began.elapsed().as_secs_f64().max(0.001);
        let mut text = format!("{} of {}", inner.ended, self.all);
        if have > 0 {
            text.push_str(&format!(" · {} of {} · {}/s", size(have), size(all), size(rate as u64)));
            if all > have && rate > 0.0 {
                let left = Duration::from_secs_f64((all - have) as f64 / rate);
                text.push_str(&format!(" · about {} left of what has begun", seconds(left)));
            }
        }
        match &inner.screen {
            Some(screen) => screen.sum.set_message(text),
            None if inner.said.unwrap_or(self.began).elapsed() >= SELDOM => {
                inner.said = Some(Instant::now());
                say(&self.line("so far", &text));
            }
            None => {}
        }
    }

    /// It is over; returns how much came and how fast, in words.
    pub fn end(self) -> String {
        let Ok(mut inner) = self.inner.lock() else { return String::new() };
        if let Some(screen) = inner.screen.take() {
            screen.bars.values().for_each(ProgressBar::finish_and_clear);
            screen.sum.finish_and_clear();
        }
        let came = inner.came();
        let took = self.began.elapsed();
        format!("{} in {}", size(came), seconds(took))
    }
}

fn form(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar())
}

/// Octets in words.
pub fn size(octets: u64) -> String {
    super::bytes(i64::try_from(octets).unwrap_or(i64::MAX))
}
