//! Watching a run: the same events, live on a terminal and as quiet lines elsewhere.

use std::io::IsTerminal as _;

use zoisite_core::sequence::Engine;
use zoisite_reach::RunEvent;

use super::live::Live;
use super::plain::Plain;

/// Something that watches a run.
pub enum Watch {
    /// Rows that change in place.
    Live(Box<Live>),
    /// A line for each thing that happened.
    Plain(Plain),
    /// A line of JSON for each, on the standard error stream: the answer is JSON too.
    Json,
}

impl Watch {
    /// The view that fits: live on a terminal, plain elsewhere, and for programs when the answer is JSON.
    pub fn fitting(engine: &Engine, json: bool) -> Self {
        if json {
            Self::Json
        } else if std::io::stderr().is_terminal()
            && std::env::var_os("TERM").is_some_and(|t| t != "dumb")
        {
            Self::Live(Box::new(Live::new(engine)))
        } else {
            Self::Plain(Plain::default())
        }
    }

    /// Shows an event.
    pub fn event(&mut self, event: &RunEvent, engine: &Engine) {
        match self {
            Self::Live(live) => live.event(event, engine),
            Self::Plain(plain) => plain.event(event, engine),
            Self::Json => super::say(&serde_json::json!(event).to_string()),
        }
    }

    /// Leaves the last state on the screen.
    pub fn end(&mut self, engine: &Engine) {
        if let Self::Live(live) = self {
            live.end(engine);
        }
    }
}
