//! One file to carry: a plain tar file, which any tar can unpack too.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufReader, Read as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use tar::{Archive, Builder, EntryType, Header};

use crate::fault::Fault;
use crate::sha256_of;
use crate::unpack::{Whole, refused};

/// Name of the list of checksums in a pack, which stands there first.
const CONTENTS: &str = "CONTENTS.sha256";
/// A list of checksums is not longer than this, in bytes.
const CONTENTS_LIMIT: u64 = 16 << 20;

/// What a pack holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Packed {
    /// Names in it.
    pub names: Vec<String>,
    /// Octets in all.
    pub octets: u64,
}

/// Packs files under names, all or nothing; calls `on_progress` for each.
///
/// # Errors
/// When one cannot be read, or the pack cannot be written.
pub fn pack(
    into: &Path,
    files: &BTreeMap<String, PathBuf>,
    on_progress: &mut dyn FnMut(&str, u64),
) -> Result<Packed, Fault> {
    let folder = into.parent().filter(|folder| !folder.as_os_str().is_empty());
    let failed = |error: std::io::Error| Fault::here("writing", into, &error);
    let new = tempfile::NamedTempFile::new_in(folder.unwrap_or(Path::new("."))).map_err(failed)?;
    let mut contents = String::new();
    for (name, path) in files {
        let sum = sha256_of(path).map_err(|error| Fault::here("reading", path, &error))?;
        contents.push_str(&format!("{sum}  {name}\n"));
    }
    let mut out = Builder::new(new.as_file());
    let header = |size: u64, mode: u32| {
        let mut header = Header::new_gnu();
        header.set_size(size);
        header.set_mode(mode);
        header.set_mtime(0);
        header.set_entry_type(EntryType::Regular);
        header
    };
    let list = &mut header(contents.len() as u64, 0o644);
    out.append_data(list, CONTENTS, contents.as_bytes()).map_err(failed)?;
    let mut packed = Packed::default();
    for (name, path) in files {
        let reading = |error: std::io::Error| Fault::here("reading", path, &error);
        let file = File::open(path).map_err(reading)?;
        let facts = file.metadata().map_err(reading)?;
        let mode = if facts.permissions().mode() & 0o100 == 0 { 0o644 } else { 0o755 };
        out.append_data(&mut header(facts.len(), mode), name, file).map_err(failed)?;
        packed.octets += facts.len();
        packed.names.push(name.clone());
        on_progress(name, facts.len());
    }
    out.finish().map_err(failed)?;
    drop(out);
    new.as_file().sync_all().map_err(failed)?;
    new.persist(into).map_err(|error| failed(error.error))?;
    Ok(packed)
}

/// Unpacks into a folder that has nothing of it, or the same: each file is held against the pack's own list before
/// it is put in its place. A run that was cut goes on.
///
/// # Errors
/// What is wrong with the pack, or stands in its way; every file that is in its place then is whole.
pub fn unpack(
    from: &Path,
    folder: &Path,
    on_progress: &mut dyn FnMut(&str, u64),
) -> Result<Packed, Fault> {
    let attempted = || format!("unpacking {}", from.display());
    let broken = |why: String| {
        Fault::new(
            attempted(),
            why,
            "carry it here again: every file that was unpacked is whole, and the same command goes on",
        )
    };
    let reading = |error: std::io::Error| broken(format!("it cannot be read to its end: {error}"));
    let file = File::open(from).map_err(|error| Fault::here("reading", from, &error))?;
    let mut archive = Archive::new(BufReader::with_capacity(1 << 20, file));
    let mut listed: Option<BTreeMap<String, String>> = None;
    let mut packed = Packed::default();
    for entry in archive.entries().map_err(reading)? {
        let mut entry = entry.map_err(reading)?;
        let path = entry.path().map_err(reading)?.into_owned();
        if let Some(why) = refused(&path, entry.header().entry_type()) {
            return Err(broken(why));
        }
        let name = path.to_string_lossy().into_owned();
        let Some(sums) = &listed else {
            if name != CONTENTS || entry.size() > CONTENTS_LIMIT {
                return Err(Fault::new(
                    attempted(),
                    "it is no pack: it does not begin with its list of contents",
                    "zoisite components pack makes one",
                ));
            }
            let mut text = String::new();
            entry.read_to_string(&mut text).map_err(reading)?;
            let line = |line: &str| {
                line.split_once("  ").map(|(sum, name)| (name.to_owned(), sum.to_owned()))
            };
            listed = Some(text.lines().filter_map(line).collect());
            continue;
        };
        let sum =
            sums.get(&name).ok_or_else(|| broken(format!("its list does not name {name}")))?;
        let (size, mode) = (entry.size(), entry.header().mode().unwrap_or(0o644));
        let to = folder.join(&path);
        let writing = |error: std::io::Error| Fault::here("writing", &to, &error);
        if to.exists() {
            let found = sha256_of(&to).map_err(|error| Fault::here("reading", &to, &error))?;
            if found != *sum {
                return Err(Fault::new(
                    attempted(),
                    format!("{} stands there and is another one", to.display()),
                    "unpack into a folder of its own, or move that file away",
                ));
            }
        } else {
            let below = to.parent().unwrap_or(folder);
            std::fs::create_dir_all(below).map_err(writing)?;
            let mut new = tempfile::NamedTempFile::new_in(below).map_err(writing)?;
            let mut whole = Whole { inner: &mut entry, left: size };
            std::io::copy(&mut whole, &mut new).map_err(|error| match error.kind() {
                std::io::ErrorKind::Other => reading(error),
                _ => writing(error),
            })?;
            let found = sha256_of(new.path()).map_err(writing)?;
            if found != *sum {
                return Err(broken(format!(
                    "{name} in it is damaged: its checksum is {found}, not {sum}"
                )));
            }
            let mode = if mode & 0o100 == 0 { 0o644 } else { 0o755 };
            new.as_file()
                .set_permissions(std::fs::Permissions::from_mode(mode))
                .map_err(writing)?;
            new.as_file().sync_all().map_err(writing)?;
            new.persist(&to).map_err(|error| writing(error.error))?;
        }
        on_progress(&name, size);
        packed.octets += size;
        packed.names.push(name);
    }
    let known: BTreeSet<&String> = packed.names.iter().collect();
    let missing = listed.iter().flatten().find(|(name, _)| !known.contains(name));
    match (&listed, missing) {
        (Some(_), None) => Ok(packed),
        (_, Some((name, _))) => Err(broken(format!("its end is missing: {name} is not in it"))),
        (None, None) => Err(broken("it is empty".into())),
    }
}
