//! What a command does, as lines of JSON on the standard error stream, where a program watches (`--events`).

use std::sync::atomic::{AtomicBool, Ordering};

use serde::Serialize;

/// The option is one of the whole process, and what it concerns is written from many places.
static ENABLED: AtomicBool = AtomicBool::new(false);

/// Prints events from now on.
pub fn enable() {
    ENABLED.store(true, Ordering::Relaxed);
}

/// Whether a program watches.
pub fn enabled() -> bool {
    ENABLED.load(Ordering::Relaxed)
}

/// Tells an event, where a program watches.
pub fn tell(event: &impl Serialize) {
    if enabled()
        && let Ok(line) = serde_json::to_string(event)
    {
        super::say(&line);
    }
}

/// The same of one that is a line of JSON already.
pub fn tell_line(line: &str) {
    if enabled() {
        super::say(line);
    }
}
