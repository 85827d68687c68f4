//! How fast this machine is now: it is shared, and at times ten times slower than at others.

use std::time::Instant;

use sha2::{Digest as _, Sha256};

/// What a fixed piece of hashing takes on a quiet machine, in seconds.
const QUIET: f64 = 0.85;

/// How many times slower than a quiet machine this one is, at least 1. (The tests measure it alike where nobody tells them:
/// `crates/zoisite/tests/all/common/waits.rs`.)
pub fn measured() -> f64 {
    let began = Instant::now();
    let block = [7; 1 << 16];
    let mut hash = Sha256::new();
    for _ in 0..1_600 {
        hash.update(block);
    }
    let sum = hash.finalize();
    let took = began.elapsed().as_secs_f64();
    debug_assert_ne!(sum[..], [0; 32]);
    (took / QUIET).clamp(1.0, 20.0)
}
