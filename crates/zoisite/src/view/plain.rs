use std::collections::HashMap;
use std::time::Duration;

use zoisite_core::sequence::{Engine, State, Step, Work};
use zoisite_reach::RunEvent;

use super::seconds;

/// A line, with the time since the run began, for each step that begins or ends.
#[derive(Default)]
pub struct Plain {
    last: Duration,
    said: HashMap<usize, String>,
}

impl Plain {
    pub fn event(&mut self, event: &RunEvent, engine: &Engine) {
        let steps = engine.steps();
        match event {
            RunEvent::Began { step, at, .. } => {
                self.last = *at;
                self.line(&steps[*step], "begins", &steps[*step].what);
            }
            // What a step waits for is worth a line when it is new, each single file is not.
            RunEvent::Doing { step, what, .. } => {
                let kind = what.split([' ', ':']).next().unwrap_or_default().to_owned();
                let gate = matches!(steps[*step].work, Work::Gate(_));
                let waits = what.starts_with("waiting") || what.starts_with("again") || gate;
                if waits && self.said.insert(*step, kind.clone()) != Some(kind) {
                    let what = what.strip_prefix("waiting: ").unwrap_or(what);
                    self.line(&steps[*step], "waits", what);
                }
            }
            RunEvent::Ended { step, state, at, took, .. } => {
                self.last = *at;
                let (word, text) = match state {
                    State::Done(0) => ("done", format!("in {}", seconds(*took))),
                    State::Done(n) => ("done", format!("in {}, {n} changed", seconds(*took))),
                    State::Failed(trouble) => ("failed", trouble.answer.clone()),
                    State::Waiting | State::Running | State::NotTaken => return,
                };
                self.line(&steps[*step], word, &text);
            }
            RunEvent::Interrupted => {
                super::say(&format!(
                    "[{:>8}] interrupted: nothing new is begun, what runs is waited for; once more stops at once",
                    seconds(self.last)
                ));
            }
            RunEvent::Stopped => {
                super::say(&format!("[{:>8}] stopped at once", seconds(self.last)));
            }
        }
    }

    fn line(&self, step: &Step, word: &str, text: &str) {
        let at = seconds(self.last);
        super::say(&format!("[{at:>8}] {:<31} {word:<7} {text}", step.id));
    }
}
