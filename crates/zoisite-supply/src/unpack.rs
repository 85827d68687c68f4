//! What is wanted of a compressed archive; an archive that holds anything but folders and plain files is refused.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::{Component, Path};

use flate2::bufread::GzDecoder;
use tar::{Archive, EntryType};

/// A file of an archive is not larger than this.
const LARGEST: u64 = 4 << 30;

/// Why an archive's entry may not be there, if it may not.
pub(crate) fn refused(path: &Path, kind: EntryType) -> Option<String> {
    let climbs =
        path.components().any(|part| !matches!(part, Component::Normal(_) | Component::CurDir));
    let what = match kind {
        EntryType::Regular | EntryType::Continuous | EntryType::Directory => None,
        EntryType::Symlink | EntryType::Link => Some("a link"),
        EntryType::Char | EntryType::Block | EntryType::Fifo => Some("a device"),
        _ => Some("something that is neither a file nor a folder"),
    };
    match (climbs, what) {
        (true, _) => Some(format!("it holds {}, which leads out of it", path.display())),
        (false, Some(what)) => Some(format!("it holds {what}, {}", path.display())),
        (false, None) => None,
    }
}

/// What is read, which must have so many octets: an archive that is cut ends an entry without a word.
pub(crate) struct Whole<R> {
    pub inner: R,
    pub left: u64,
}

impl<R: Read> Read for Whole<R> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let n = self.inner.read(into)?;
        if n == 0 && self.left > 0 && !into.is_empty() {
            return Err(std::io::Error::other("its end is missing"));
        }
        self.left = self.left.saturating_sub(n as u64);
        Ok(n)
    }
}

/// Hands each wanted member of a gzip-compressed tar file to `take`.
///
/// # Errors
/// Why the archive is not taken: nothing of it may be used then.
pub(crate) fn members(
    archive: &Path,
    wanted: &[&str],
    mut take: impl FnMut(&str, &mut dyn Read) -> Result<(), String>,
) -> Result<(), String> {
    let words = |error: std::io::Error| format!("it cannot be read to its end: {error}");
    let file = File::open(archive).map_err(words)?;
    let mut archive = Archive::new(GzDecoder::new(BufReader::with_capacity(1 << 20, file)));
    let mut missing: Vec<&str> = wanted.to_vec();
    for entry in archive.entries().map_err(words)? {
        let mut entry = entry.map_err(words)?;
        let path = entry.path().map_err(words)?.into_owned();
        let kind = entry.header().entry_type();
        if matches!(kind, EntryType::XGlobalHeader | EntryType::XHeader) {
            continue;
        }
        if let Some(why) = refused(&path, kind) {
            return Err(why);
        }
        let name = path.to_string_lossy().trim_start_matches("./").to_owned();
        let Some(at) = missing.iter().position(|one| *one == name) else { continue };
        if kind == EntryType::Directory {
            return Err(format!("{name} is a folder in it"));
        }
        let left = entry.size();
        if left > LARGEST {
            return Err(format!("{name} in it is larger than {} GiB", LARGEST >> 30));
        }
        take(missing.swap_remove(at), &mut Whole { inner: &mut entry, left })?;
    }
    match missing.as_slice() {
        [] => Ok(()),
        missing => Err(format!("it has no {}", missing.join(" and no "))),
    }
}
