//! How long each kind of step took in a run.

use std::time::Duration;

use crate::view;

/// Time that each kind of step took, first begin to last end, in order.
#[derive(Debug, Default)]
pub struct Phases(Vec<(String, Duration, Duration)>);

impl Phases {
    /// Adds one span of time to a phase.
    pub fn add(&mut self, name: &str, from: Duration, to: Duration) {
        match self.0.iter_mut().find(|(known, _, _)| known == name) {
            Some((_, start, end)) => {
                *start = (*start).min(from);
                *end = (*end).max(to);
            }
            None => self.0.push((name.to_owned(), from, to)),
        }
    }

    /// Adds what the same kinds of steps took in another stage.
    pub fn and(&mut self, other: Self) {
        for (name, from, to) in other.0 {
            match self.0.iter_mut().find(|(known, _, _)| *known == name) {
                Some((_, _, end)) => *end += to.saturating_sub(from),
                None => self.0.push((name, from, to)),
            }
        }
    }

    /// `components 1.2 s · configuration 0.4 s`, a few on a line.
    pub fn render(&self) -> String {
        let all: Vec<String> = self
            .0
            .iter()
            .map(|(name, from, to)| format!("{name} {}", view::seconds(to.saturating_sub(*from))))
            .collect();
        all.chunks(5).map(|line| line.join(" · ")).collect::<Vec<_>>().join("\n        ")
    }
}
