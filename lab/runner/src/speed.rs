//! How fast this machine is now: it is shared, and at times ten times slower than at others.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use sha2::{Digest as _, Sha256};

/// What a fixed piece of hashing takes on a quiet machine, in seconds.
const QUIET: f64 = 0.85;

/// What one host's boot takes there, until it lets one in.
const QUIET_BOOT: f64 = 6.0;

/// How many times slower than on a quiet machine a host boots here, at least 1.
pub fn boot(zoisite: &Path) -> Result<f64, String> {
    let lab = |script: &str, words: &[&str]| {
        let mut command = Command::new(Path::new("lab").join(script));
        command.args(words).env("ZOISITE", zoisite).stdin(Stdio::null()).stdout(Stdio::null());
        let done = command.stderr(Stdio::null()).status();
        match done.is_ok_and(|status| status.success()) {
            true => Ok(()),
            false => Err(format!("lab/{script} {} failed", words.join(" "))),
        }
    };
    let began = Instant::now();
    lab("up", &["lab/clusters/single.toml"])?;
    let took = began.elapsed().as_secs_f64();
    lab("down", &[])?;
    Ok((took / QUIET_BOOT).clamp(1.0, 20.0))
}

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
