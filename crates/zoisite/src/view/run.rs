//! Watching a run: the same events, live on a terminal and as quiet lines elsewhere.

use std::io::IsTerminal as _;

use zoisite_core::sequence::Engine;
use zoisite_reach::RunEvent;

use super::live::Live;
use super::plain::Plain;

/// For whom a run is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Audience {
    /// A person.
    Person,
    /// A program, of every event.
    Events,
    /// A program, of the end alone.
    End,
}

impl Audience {
    /// Whom the options name.
    pub fn fitting(json: bool) -> Self {
        match (super::events::enabled(), json) {
            (true, _) => Self::Events,
            (false, true) => Self::End,
            (false, false) => Self::Person,
        }
    }
}

/// Something that watches a run.
pub enum Watch {
    /// Rows that change in place.
    Live(Box<Live>),
    /// A line for each thing that happened.
    Plain(Plain),
    /// A line of JSON for each.
    Events,
    /// Nothing: the answer is JSON.
    Silent,
}

impl Watch {
    /// The view that fits: for a person live on a terminal, and plain elsewhere.
    pub fn fitting(engine: &Engine, audience: Audience) -> Self {
        let lively = || {
            std::io::stderr().is_terminal()
                && std::env::var_os("TERM").is_some_and(|term| term != "dumb")
        };
        match audience {
            Audience::Events => Self::Events,
            Audience::End => Self::Silent,
            Audience::Person if lively() => Self::Live(Box::new(Live::new(engine))),
            Audience::Person => Self::Plain(Plain::default()),
        }
    }

    /// Shows an event.
    pub fn event(&mut self, event: &RunEvent, engine: &Engine) {
        match self {
            Self::Live(live) => live.event(event, engine),
            Self::Plain(plain) => plain.event(event, engine),
            Self::Events => super::events::tell(event),
            Self::Silent => {}
        }
    }

    /// Leaves the last state on the screen.
    pub fn end(&mut self, engine: &Engine) {
        if let Self::Live(live) = self {
            live.end(engine);
        }
    }
}
