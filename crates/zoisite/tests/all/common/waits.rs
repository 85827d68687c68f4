//! Waiting for a condition, on a machine that may be ten times slower than at other times.
//!
//! What is waited for in vain is told apart from what is wrong: it ends the test as [`Late`], and CI tries that test once
//! more, alone. A failed assertion about what is there is never tried again.

use std::fmt::Display;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use sha2::{Digest as _, Sha256};

/// How often a condition is looked at: a look at hosts takes a second of the processor that it waits for.
pub const BETWEEN_LOOKS: Duration = Duration::from_secs(2);

/// What ends a test when a deadline passed.
#[derive(Debug)]
pub struct Late;

/// How many times slower than a quiet machine this one is, at least 1: what CI measured, else what hashing takes now.
pub fn slowness() -> f64 {
    static SLOWNESS: OnceLock<f64> = OnceLock::new();
    *SLOWNESS.get_or_init(|| {
        let told = std::env::var("ZOISITE_LAB_SLOWNESS").ok().and_then(|text| text.parse().ok());
        told.unwrap_or_else(measured).clamp(1.0, 20.0)
    })
}

/// By the time that a fixed piece of hashing takes; 0.85 s on a quiet machine.
fn measured() -> f64 {
    let began = Instant::now();
    let block = [7; 1 << 16];
    let mut hash = Sha256::new();
    for _ in 0..1_600 {
        hash.update(block);
    }
    assert_ne!(hash.finalize()[..], [0; 32]);
    began.elapsed().as_secs_f64() / 0.85
}

/// So many seconds of a quiet machine from now on.
pub fn within(seconds: u64) -> Instant {
    Instant::now() + Duration::from_secs(seconds).mul_f64(slowness())
}

/// So many seconds of a quiet machine, as a word for an option of the program.
pub fn patience(seconds: u64) -> String {
    (Duration::from_secs(seconds).mul_f64(slowness()).as_secs()).to_string()
}

/// Ends the test: something was waited for in vain.
#[track_caller]
pub fn late(what: impl Display) -> ! {
    let at = std::panic::Location::caller();
    eprintln!("late: {what}\n(at {at}; this machine counts as {:.1} times slower)", slowness());
    if let Some(file) = std::env::var_os("ZOISITE_LAB_LATE") {
        let _ = std::fs::write(file, what.to_string());
    }
    std::panic::panic_any(Late)
}

/// Waits until something holds, so many seconds of a quiet machine at the most.
#[track_caller]
pub fn until(what: impl Display, seconds: u64, mut holds: impl FnMut() -> bool) {
    let end = within(seconds);
    while !holds() {
        if Instant::now() > end {
            late(what);
        }
        std::thread::sleep(BETWEEN_LOOKS);
    }
}
