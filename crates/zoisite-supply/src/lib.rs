//! Where pinned components come from: published files and images are fetched, checked against what is pinned and
//! what their projects list, and laid into the components folder; or carried there in one file.

mod download;
mod fault;
mod fetch;
mod image;
mod pack;
mod registry;
mod unpack;
mod ways;

pub use fault::Fault;
pub use fetch::{Event, Fetch, Fetched, fetch};
pub use image::{named as image_name, shelve};
pub use pack::{Packed, pack, unpack};
pub use ways::{Credentials, Ways};

use std::io::Read;
use std::path::Path;

use sha2::{Digest as _, Sha256};
use zoisite_core::pki::hex;

/// The SHA-256 of a file, in hexadecimal.
///
/// # Errors
/// When it cannot be read.
pub fn sha256_of(path: &Path) -> std::io::Result<String> {
    let mut file = std::fs::File::open(path)?;
    let mut digest = Sha256::new();
    let mut block = vec![0; 256 * 1_024];
    loop {
        match file.read(&mut block)? {
            0 => return Ok(hex(&digest.finalize())),
            n => digest.update(&block[..n]),
        }
    }
}
