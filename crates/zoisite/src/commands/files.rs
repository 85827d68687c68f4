use std::collections::BTreeSet;
use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::Args;
use serde::{Deserialize, Serialize};
use zoisite_core::cluster::HostName;
use zoisite_core::holdings::Part;
use zoisite_core::item::{Content, Item};
use zoisite_core::pki::{Secret, SecretRef};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::prepared::prepare;
use crate::site::Site;
use crate::view::{self, count};

/// Write every file that hosts would get into a folder, to read, or to copy by hand
///
/// The folder has a folder for each host, like that host's file system, and a manifest with owners, modes, users
/// and units. raise places exactly these files.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite files --out hosts\n  zoisite files --out /media/stick/saltmarsh --with-keys"
)]
pub struct FilesArgs {
    /// Folder to write: empty, or written by this command before
    #[arg(long, short, value_name = "DIR")]
    out: PathBuf,
    /// Write private keys too (files 0600, folders 0700)
    #[arg(long)]
    with_keys: bool,
}

/// One line of the manifest.
#[derive(Debug, Serialize, Deserialize)]
struct Entry {
    host: String,
    kind: String,
    /// Path on the host, or a name.
    path: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    owner: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mode: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<String>,
    /// File below the folder, when it was written.
    #[serde(skip_serializing_if = "Option::is_none")]
    file: Option<PathBuf>,
}

/// What is in a file that is written.
enum Text {
    Open(String),
    Secret(SecretRef),
}

/// The lines of an item, each with its text where it is a file: two for a pair, else one.
fn entries_of(host: &HostName, item: &Item) -> Vec<(Entry, Option<Text>)> {
    let described = item.describe();
    let entry = |kind: &str, path: String| Entry {
        host: host.to_string(),
        kind: kind.to_owned(),
        path,
        owner: described.owner.map(ToOwned::to_owned),
        mode: described.mode.map(|mode| format!("{mode:04o}")),
        note: described.note.clone(),
        file: None,
    };
    let mut whole = entry(described.kind, described.what.clone());
    match item {
        Item::File(file) => {
            let text = match &file.content {
                Content::Secret { secret, .. } => Text::Secret(secret.clone()),
                content => Text::Open(content.whole_text().unwrap_or_default()),
            };
            vec![(whole, Some(text))]
        }
        Item::Pair(pair) => {
            whole.note = Some(format!("private key of {}: not written", pair.label));
            (whole.kind, whole.path) = ("file".into(), pair.key_path());
            let mut certificate = entry("file", pair.certificate_path());
            (certificate.owner, certificate.mode) = (Some("root".into()), Some("0644".into()));
            certificate.note = None;
            if pair.own_key.is_some() {
                whole.note = Some(format!("the host makes the key of {}", pair.label));
                (whole.kind, whole.path) = ("key".into(), pair.key_path());
                return vec![(whole, None)];
            }
            let key = SecretRef::Certificate(pair.serial.clone());
            vec![
                (certificate, Some(Text::Open(pair.certificate.to_string()))),
                (whole, Some(Text::Secret(key))),
            ]
        }
        _ => vec![(whole, None)],
    }
}

const MANIFEST: &str = "manifest.json";

pub fn run(options: &Options, args: &FilesArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let old = earlier(&args.out)?;
    let mut work = site.briefly()?;
    site.contradicts_nothing(&work.state)?;
    let mut draft = site.draft()?;
    let prepared = prepare(&site, &mut draft, Part::ALL)?;
    site.keep(&mut draft)?;
    let state = &mut work.state;
    let strongbox = if args.with_keys { Some(site.strongbox()?) } else { None };

    let mut entries = Vec::new();
    let mut texts: Vec<(PathBuf, Secret, u32)> = Vec::new();
    for host in &prepared.holdings.hosts {
        for item in &host.items {
            let host_folder = Path::new(host.host.as_str());
            for (mut entry, text) in entries_of(&host.host, item) {
                let target = host_folder.join(entry.path.trim_start_matches('/'));
                let text = match (text, &strongbox) {
                    (Some(Text::Open(text)), _) => Some(Secret::new(text)),
                    (Some(Text::Secret(secret)), Some(strongbox)) => {
                        entry.note = None;
                        Some(state.secret(&secret, strongbox)?)
                    }
                    (Some(Text::Secret(_)), None) | (None, _) => None,
                };
                // Parts that share a host share some directories.
                let known = |other: &Entry| {
                    let name = |entry: &Entry| {
                        (entry.host.clone(), entry.kind.clone(), entry.path.clone())
                    };
                    name(other) == name(&entry)
                };
                if entries.iter().rev().take(2 * host.items.len()).any(known) {
                    continue;
                }
                if let Some(text) = text {
                    let mode = entry.mode.as_deref().and_then(|m| u32::from_str_radix(m, 8).ok());
                    texts.push((target.clone(), text, mode.unwrap_or(0o600)));
                    entry.file = Some(target);
                }
                entries.push(entry);
            }
        }
    }
    for (number, object) in prepared.objects.iter().enumerate() {
        let text = serde_saphyr::to_string(object).map_err(|error| {
            Failure::new(Kind::Run, format!("{}: {error}", object.title()), "report this, please")
        })?;
        let name = format!("{:02}-{}-{}", number + 1, object.kind(), object.name());
        let target = Path::new(OBJECTS).join(format!("{}.yaml", file_name(&name)));
        texts.push((target.clone(), Secret::new(text), 0o644));
        entries.push(Entry {
            host: OBJECTS.into(),
            kind: "object".into(),
            path: object.title(),
            owner: None,
            mode: None,
            note: Some("applied through the API".into()),
            file: Some(target),
        });
    }
    let wrote = texts.len();
    write_all(&args.out, &old, &texts, &entries, args.with_keys)?;
    if options.json {
        view::json(&entries);
        return Ok(ExitCode::SUCCESS);
    }
    view::out(&format!(
        "Wrote {} for {} to {}; owners and modes are in {MANIFEST}.",
        count(wrote, "file"),
        count(prepared.holdings.hosts.len(), "host"),
        args.out.display()
    ));
    if args.with_keys {
        view::note(
            "private keys are among them: anyone who reads this folder can act as your cluster",
        );
    } else {
        view::out("Private keys were left out; --with-keys writes them.");
    }
    Ok(ExitCode::SUCCESS)
}

/// The files that an earlier call wrote. A folder with anything else in it is left alone.
fn earlier(out: &Path) -> Result<Vec<PathBuf>, Failure> {
    let manifest = out.join(MANIFEST);
    if let Ok(text) = fs::read(&manifest) {
        let entries: Vec<Entry> = serde_json::from_slice(&text).map_err(|error| {
            let what = format!(
                "{} is not a manifest that this command wrote: {error}",
                manifest.display()
            );
            Failure::new(Kind::Usage, what, "choose another folder with --out")
        })?;
        return Ok(entries.into_iter().filter_map(|entry| entry.file).collect());
    }
    match fs::read_dir(out).map(Iterator::count) {
        Ok(1..) => Err(Failure::new(
            Kind::Usage,
            format!("{} holds other files, and was left as it is", out.display()),
            "choose a new or empty folder",
        )),
        Ok(_) => Ok(Vec::new()),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Vec::new()),
        Err(error) => Err(Failure::file("reading the folder", out, &error)),
    }
}

fn write_all(
    out: &Path,
    old: &[PathBuf],
    texts: &[(PathBuf, Secret, u32)],
    entries: &[Entry],
    with_keys: bool,
) -> Result<(), Failure> {
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |error: std::io::Error| Failure::file("writing", &path, &error)
    };
    let folder_mode = if with_keys { 0o700 } else { 0o755 };
    let folder = |path: &Path| {
        fs::DirBuilder::new()
            .recursive(true)
            .mode(folder_mode)
            .create(path)
            .map_err(failed(path))?;
        if with_keys {
            use std::os::unix::fs::PermissionsExt as _;
            fs::set_permissions(path, fs::Permissions::from_mode(0o700)).map_err(failed(path))?;
        }
        Ok::<(), Failure>(())
    };
    folder(out)?;
    let new: BTreeSet<&PathBuf> = texts.iter().map(|(path, _, _)| path).collect();
    for stale in old.iter().filter(|path| !new.contains(path)) {
        // Only what an earlier call listed, and only below the folder.
        if stale.components().all(|c| matches!(c, std::path::Component::Normal(_))) {
            let _ = fs::remove_file(out.join(stale));
        }
    }
    for (path, text, mode) in texts {
        let target = out.join(path);
        let mut parent = out.to_owned();
        for part in path.parent().into_iter().flat_map(Path::components) {
            parent.push(part);
            folder(&parent)?;
        }
        let _ = fs::remove_file(&target);
        fs::OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(*mode)
            .open(&target)
            .and_then(|mut file| file.write_all(text.expose().as_bytes()))
            .map_err(failed(&target))?;
    }
    let manifest = out.join(MANIFEST);
    let text = serde_json::to_vec_pretty(entries).unwrap_or_default();
    fs::write(&manifest, text).map_err(failed(&manifest))
}

/// Folder of the objects that are applied through the API; no host is named so.
const OBJECTS: &str = "_objects";

/// A name without what has a meaning in paths.
fn file_name(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' }).collect()
}
