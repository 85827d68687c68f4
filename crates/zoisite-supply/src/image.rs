//! Images in archives: an OCI image layout (image-spec, image-layout.md) in a tar file.
//!
//! Archives are written in one form, the same octets from the same image: one image of one architecture, and its
//! name in the annotation that containerd's import reads.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use tar::{Archive, Builder, EntryType, Header};
use zoisite_core::cluster::ImageName;
use zoisite_core::components::{Blob, Manifest, Platform, ShelfContent, digest_of};
use zoisite_core::pki::hex;

use crate::unpack::refused;

/// The annotation with the whole name of an image, as containerd's import reads it.
const NAME: &str = "io.containerd.image.name";
/// The one of the OCI image specification (annotations.md), which may be a tag alone.
const REF_NAME: &str = "org.opencontainers.image.ref.name";
const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
/// A manifest or an index is not larger than this (the OCI distribution specification's least limit).
pub(crate) const MANIFEST_LIMIT: u64 = 4 << 20;

/// Octets of a blob, from a registry or an archive.
pub(crate) trait Blobs {
    /// Opens one by its digest.
    fn open(&mut self, digest: &str) -> Result<Box<dyn Read + '_>, String>;
}

/// What an index or a manifest says of another object.
fn described(object: &Value) -> Option<(&str, u64)> {
    Some((object["digest"].as_str()?, object["size"].as_u64()?))
}

/// The SHA-256 of a digest, in hexadecimal.
pub(crate) fn sum_of(digest: &str) -> Result<&str, String> {
    let sum = digest.strip_prefix("sha256:").filter(|sum| {
        sum.len() == 64 && sum.bytes().all(|b| b.is_ascii_hexdigit() && !b.is_ascii_uppercase())
    });
    sum.ok_or_else(|| format!("its digest {digest} is not one of SHA-256"))
}

/// Where a blob stands in a layout.
fn blob_path(digest: &str) -> Result<String, String> {
    Ok(format!("blobs/sha256/{}", sum_of(digest)?))
}

/// A manifest or index, held against its digest.
pub(crate) fn manifest(blobs: &mut dyn Blobs, digest: &str) -> Result<(Vec<u8>, Value), String> {
    let mut octets = Vec::new();
    let read = blobs.open(digest)?.take(MANIFEST_LIMIT + 1).read_to_end(&mut octets);
    read.map_err(|error| error.to_string())?;
    parsed(digest, octets)
}

pub(crate) fn parsed(digest: &str, octets: Vec<u8>) -> Result<(Vec<u8>, Value), String> {
    if octets.len() as u64 > MANIFEST_LIMIT {
        return Err("its manifest is too large".into());
    }
    if octets.trim_ascii_start().first() == Some(&b'<') {
        return Err("a web page came instead of its manifest".into());
    }
    if digest_of(&octets) != digest {
        return Err(format!("its manifest is {}, not {digest}", digest_of(&octets)));
    }
    let value =
        serde_json::from_slice(&octets).map_err(|error| format!("its manifest: {error}"))?;
    Ok((octets, value))
}

/// Which of the images that an index lists is for a platform.
///
/// # Errors
/// Which platforms there are instead.
pub(crate) fn choose(index: &Value, platform: &Platform) -> Result<String, String> {
    let all = index["manifests"].as_array().map_or(&[][..], Vec::as_slice);
    let known = |one: &Value| {
        let of = &one["platform"];
        Some((of["os"].as_str()?.to_owned(), of["architecture"].as_str()?.to_owned()))
    };
    let wanted = all.iter().find(|one| {
        known(one).is_some_and(|(os, arch)| os == platform.os && arch == platform.arch)
    });
    if let Some(digest) = wanted.and_then(|one| one["digest"].as_str()) {
        return Ok(digest.to_owned());
    }
    let mut there: Vec<String> =
        all.iter().filter_map(known).map(|(os, arch)| format!("{os}-{arch}")).collect();
    there.retain(|one| !one.starts_with("unknown"));
    there.dedup();
    Err(match there.as_slice() {
        [] => format!("its index lists nothing for {platform}"),
        there => format!("its index lists nothing for {platform}, only {}", there.join(", ")),
    })
}

/// Whether an object is an index of several images.
pub(crate) fn is_index(value: &Value) -> bool {
    value["manifests"].is_array()
}

/// Writes an image of one platform under a name; every blob is held against its digest.
///
/// # Errors
/// What is wrong with it.
pub(crate) fn write(
    into: &Path,
    name: &ImageName,
    platform: &Platform,
    (digest, octets, manifest): (&str, &[u8], &Value),
    blobs: &mut dyn Blobs,
) -> Result<(), String> {
    let words = |error: std::io::Error| format!("writing {}: {error}", into.display());
    let mut out = Builder::new(File::create(into).map_err(words)?);
    let media = manifest["mediaType"].as_str().unwrap_or(MANIFEST);
    let index = json!({
        "schemaVersion": 2,
        "manifests": [{
            "mediaType": media,
            "digest": digest,
            "size": octets.len(),
            "platform": {"os": platform.os, "architecture": platform.arch},
            "annotations": {NAME: name.to_string()},
        }],
    });
    let layout = br#"{"imageLayoutVersion":"1.0.0"}"#;
    append(&mut out, "oci-layout", layout.len() as u64, &mut &layout[..]).map_err(words)?;
    let index = index.to_string();
    append(&mut out, "index.json", index.len() as u64, &mut index.as_bytes()).map_err(words)?;
    append(&mut out, &blob_path(digest)?, octets.len() as u64, &mut &octets[..]).map_err(words)?;
    let layers = manifest["layers"].as_array().map_or(&[][..], Vec::as_slice);
    let mut seen = BTreeMap::new();
    for object in std::iter::once(&manifest["config"]).chain(layers) {
        let (digest, size) = described(object).ok_or("its manifest is none of an image")?;
        if seen.insert(digest.to_owned(), size).is_some() {
            continue;
        }
        let mut blob = Checked { inner: blobs.open(digest)?, digest: Sha256::new(), left: size };
        append(&mut out, &blob_path(digest)?, size, &mut blob).map_err(words)?;
        let found = hex(&blob.digest.finalize());
        if found != sum_of(digest)? {
            return Err(format!("a layer of it is sha256:{found}, not {digest}"));
        }
    }
    let mut file = out.into_inner().map_err(words)?;
    file.flush().and_then(|()| file.sync_all()).map_err(words)
}

/// What is read, summed; and no more of it than there is to be.
struct Checked<'a> {
    inner: Box<dyn Read + 'a>,
    digest: Sha256,
    left: u64,
}

impl Read for Checked<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        if self.left == 0 {
            return Ok(0);
        }
        let n = self.inner.read(into)?;
        if n == 0 {
            return Err(std::io::Error::other("a part of it is missing"));
        }
        let n = n.min(usize::try_from(self.left).unwrap_or(usize::MAX));
        self.digest.update(&into[..n]);
        self.left -= n as u64;
        Ok(n)
    }
}

fn append(
    out: &mut Builder<File>,
    path: &str,
    size: u64,
    from: &mut dyn Read,
) -> std::io::Result<()> {
    let mut header = Header::new_ustar();
    header.set_size(size);
    header.set_mode(0o644);
    header.set_mtime(0);
    header.set_entry_type(EntryType::Regular);
    out.append_data(&mut header, path, from)
}

/// An archive with its entries, by their names.
struct Layout {
    path: PathBuf,
    file: File,
    entries: BTreeMap<String, (u64, u64)>,
}

impl Layout {
    fn open(path: &Path) -> Result<Self, String> {
        let words = |error: std::io::Error| error.to_string();
        let mut archive = Archive::new(File::open(path).map_err(words)?);
        let mut entries = BTreeMap::new();
        for entry in archive.entries_with_seek().map_err(words)? {
            let entry = entry.map_err(|error| format!("it is no whole tar file: {error}"))?;
            let name = entry.path().map_err(words)?.into_owned();
            if let Some(why) = refused(&name, entry.header().entry_type()) {
                return Err(why);
            }
            let name = name.to_string_lossy().trim_start_matches("./").to_owned();
            entries.insert(name, (entry.raw_file_position(), entry.size()));
        }
        let file = File::open(path).map_err(words)?;
        let size = file.metadata().map_err(words)?.len();
        if entries.values().any(|(at, length)| at + length > size) {
            return Err("its end is missing".into());
        }
        Ok(Self { path: path.to_owned(), file, entries })
    }

    fn at(&mut self, name: &str) -> Result<Box<dyn Read + '_>, String> {
        let (at, size) = *self.entries.get(name).ok_or_else(|| format!("it has no {name}"))?;
        self.file.seek(SeekFrom::Start(at)).map_err(|error| error.to_string())?;
        Ok(Box::new((&mut self.file).take(size)))
    }

    fn index(&mut self) -> Result<Value, String> {
        if !self.entries.contains_key("index.json") {
            return Err(match self.entries.contains_key("manifest.json") {
                true => "it is an archive of an older form, without an index.json: save the image as an OCI archive".into(),
                false => "it is no image: there is no index.json in it".into(),
            });
        }
        let mut text = Vec::new();
        let read = self.at("index.json")?.take(MANIFEST_LIMIT).read_to_end(&mut text);
        read.map_err(|error| error.to_string())?;
        serde_json::from_slice(&text).map_err(|error| format!("its index.json: {error}"))
    }
}

impl Blobs for Layout {
    fn open(&mut self, digest: &str) -> Result<Box<dyn Read + '_>, String> {
        self.at(&blob_path(digest)?)
    }
}

/// What an index calls its one image: the name that containerd's import reads, else the specification's.
fn name_in(index: &Value) -> Result<String, String> {
    let all = index["manifests"].as_array().map_or(&[][..], Vec::as_slice);
    let names = |key: &str| {
        let mut names: Vec<&str> =
            all.iter().filter_map(|one| one["annotations"][key].as_str()).collect();
        names.sort_unstable();
        names.dedup();
        names
    };
    let (whole, short) = (names(NAME), names(REF_NAME));
    match (whole.as_slice(), short.as_slice()) {
        ([one], _) | ([], [one]) if one.contains(['/', ':']) => Ok((*one).to_owned()),
        ([], []) => Err("it does not say how its image is called".into()),
        ([], [tag]) => Err(format!("it says only the tag of its image, {tag}")),
        ([], several) | (several, _) => {
            Err(format!("it holds several images: {}", several.join(", ")))
        }
    }
}

/// What the image in an archive is called.
///
/// # Errors
/// What is wrong with the archive.
pub fn named(archive: &Path) -> Result<String, String> {
    name_in(&Layout::open(archive)?.index()?)
}

/// What a registry must be given of an image that stands in archives, one for each platform.
///
/// # Errors
/// What is wrong with an archive.
pub fn shelve(archives: &[(Platform, PathBuf)]) -> Result<ShelfContent, String> {
    let mut content = ShelfContent::default();
    let mut listed = Vec::new();
    for (platform, archive) in archives {
        let wrong = |why: String| format!("{}: {why}", archive.display());
        let mut layout = Layout::open(archive).map_err(wrong)?;
        let (_, digest, octets, value) = of_platform(&mut layout, platform).map_err(wrong)?;
        let layers = value["layers"].as_array().map_or(&[][..], Vec::as_slice);
        for object in std::iter::once(&value["config"]).chain(layers) {
            let (digest, size) = described(object)
                .ok_or_else(|| wrong("its manifest is none of an image".into()))?;
            if content.blobs.iter().any(|blob| blob.digest == digest) {
                continue;
            }
            let name = blob_path(digest).map_err(wrong)?;
            let place = layout.entries.get(&name).filter(|(_, length)| *length == size);
            let (at, size) = *place.ok_or_else(|| wrong(format!("it has no {name} as it says")))?;
            let (digest, archive) = (digest.to_owned(), archive.clone());
            content.blobs.push(Blob { digest, archive, at, size });
        }
        let media = value["mediaType"].as_str().unwrap_or(MANIFEST).to_owned();
        listed.push(json!({
            "mediaType": media,
            "digest": digest,
            "size": octets.len(),
            "platform": {"os": platform.os, "architecture": platform.arch},
        }));
        content.manifests.push(Manifest { digest, media, text: octets });
    }
    if content.manifests.len() > 1 {
        let media = "application/vnd.oci.image.index.v1+json";
        let index = json!({"schemaVersion": 2, "mediaType": media, "manifests": listed});
        let text = index.to_string().into_bytes();
        content.manifests.push(Manifest { digest: digest_of(&text), media: media.into(), text });
    }
    Ok(content)
}

/// The image of one platform in a layout: the digest of what stands under its name; its own digest, manifest
/// and the same, read.
fn of_platform(
    layout: &mut Layout,
    platform: &Platform,
) -> Result<(String, String, Vec<u8>, Value), String> {
    let index = layout.index()?;
    // Each architecture may stand in the outer index, or in one below it.
    let only = index["manifests"].as_array().filter(|all| all.len() == 1);
    let outer = match only.and_then(|all| all[0]["digest"].as_str()) {
        Some(digest) => digest.to_owned(),
        None => choose(&index, platform)?,
    };
    let (mut digest, (mut octets, mut value)) = (outer.clone(), manifest(layout, &outer)?);
    if is_index(&value) {
        digest = choose(&value, platform)?;
        (octets, value) = manifest(layout, &digest)?;
    }
    fits(layout, &value, platform)?;
    Ok((outer, digest, octets, value))
}

/// What was taken from an archive: the image's name, and the digest of what stands under it there.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Taken {
    pub name: ImageName,
    pub digest: String,
}

/// Takes the image of one platform out of any archive that is an image layout, into one of our form.
///
/// # Errors
/// What is wrong with the archive.
pub(crate) fn take(archive: &Path, platform: &Platform, into: &Path) -> Result<Taken, String> {
    let mut layout = Layout::open(archive)?;
    let index = layout.index()?;
    let name = name_in(&index)?;
    let name = ImageName::new(&name).map_err(|why| format!("it is called {name}: {why}"))?;
    let (outer, digest, octets, value) = of_platform(&mut layout, platform)?;
    write(into, &name, platform, (&digest, &octets, &value), &mut layout)
        .map_err(|why| format!("{}: {why}", layout.path.display()))?;
    Ok(Taken { name, digest: outer })
}

/// Whether an image is for a platform, by its own configuration (image-spec, config.md).
pub(crate) fn fits(
    blobs: &mut dyn Blobs,
    manifest: &Value,
    platform: &Platform,
) -> Result<(), String> {
    let (digest, _) = described(&manifest["config"]).ok_or("its manifest is none of an image")?;
    let mut text = Vec::new();
    let read = blobs.open(digest)?.take(MANIFEST_LIMIT).read_to_end(&mut text);
    read.map_err(|error| error.to_string())?;
    let config: Value =
        serde_json::from_slice(&text).map_err(|error| format!("its configuration: {error}"))?;
    let word = |key: &str| config[key].as_str().unwrap_or("unknown").to_owned();
    match (word("os"), word("architecture")) {
        (os, arch) if os == platform.os && arch == platform.arch => Ok(()),
        (os, arch) => Err(format!("it is for {os}-{arch}, not for {platform}")),
    }
}
