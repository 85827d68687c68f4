use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand, ValueEnum};
use serde_json::json;
use zoisite_core::cluster::{ImageName, ImageSource};
use zoisite_core::components::{LOCK_FILE, Lock, Needed, images_named, pinnable};
use zoisite_core::item::ComponentSums;
use zoisite_supply::{Fault, Fetch, fetch, pack, sha256_of, unpack};

use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::site::Site;
use crate::supplies::{here, write_whole};
use crate::view::fetching::{Fetching, size};
use crate::view::{self, Style, count, table::table};

/// Programs and images at exact versions: list, fetch, check, pack
///
/// components.lock, beside the cluster file, pins each file and image by its SHA-256: commit it. A file that
/// differs stops a run before a host is changed.
#[derive(Args, Debug)]
pub struct ComponentsArgs {
    #[command(subcommand)]
    command: ComponentsCommand,
}

#[derive(Debug, Subcommand)]
enum ComponentsCommand {
    List(ListArgs),
    Fetch(FetchArgs),
    Check(CheckArgs),
    Pack(PackArgs),
    Unpack(UnpackArgs),
}

/// Architectures of the hosts.
#[derive(Args, Debug)]
struct ArchArgs {
    /// Architecture of the hosts; may be repeated [default: those of known hosts, else that of this computer]
    #[arg(long = "arch", value_name = "ARCH", value_enum)]
    arches: Vec<Arch>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Arch {
    /// 64-bit x86
    Amd64,
    /// 64-bit ARM
    Arm64,
}

impl ArchArgs {
    fn of(&self, site: &Site) -> Result<BTreeSet<String>, Failure> {
        let word = |arch: &Arch| match arch {
            Arch::Amd64 => "amd64".to_owned(),
            Arch::Arm64 => "arm64".to_owned(),
        };
        if !self.arches.is_empty() {
            return Ok(self.arches.iter().map(word).collect());
        }
        let (arches, met) = site.arches()?;
        if !met {
            let arch = arches.iter().next().cloned().unwrap_or_default();
            view::note(&format!(
                "no host was met yet: taken to be {arch}, as this computer is; --arch says otherwise"
            ));
        }
        Ok(arches)
    }
}

/// List what is needed, whether it is here, and where it comes from
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite components list\n  zoisite components list --arch amd64 --arch arm64"
)]
struct ListArgs {
    #[command(flatten)]
    arches: ArchArgs,
}

/// Download what is missing into the components folder, and pin it
///
/// Sources are the projects' own servers and registries, or the mirrors under [components]. Each file is verified
/// against its pin and against the checksum that its project publishes. An interrupted download resumes.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite components fetch\n  zoisite components fetch --arch amd64 --arch arm64\n  zoisite components fetch --repin registry.saltmarsh.example/gulls/counter:2.1"
)]
struct FetchArgs {
    #[command(flatten)]
    arches: ArchArgs,
    /// Forget the pin of this address or image, and pin what is published now; may be repeated
    #[arg(long, value_name = "WHAT")]
    repin: Vec<String>,
}

/// Verify every file of the components folder against its pin
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  zoisite components check && zoisite raise")]
struct CheckArgs {
    #[command(flatten)]
    arches: ArchArgs,
}

/// Pack everything that another workstation needs into one file
///
/// The program, the cluster file, the lock file, the manifests of the site and the components; no secret. The
/// file is a plain tar archive.
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  zoisite components pack saltmarsh.tar")]
struct PackArgs {
    /// File to write
    #[arg(value_name = "FILE")]
    file: PathBuf,
    #[command(flatten)]
    arches: ArchArgs,
    /// Replace the file if it exists
    #[arg(long)]
    force: bool,
}

/// Unpack such a file, and verify its checksums
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  zoisite components unpack saltmarsh.tar --out saltmarsh")]
struct UnpackArgs {
    /// The file
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// Folder to unpack into
    #[arg(long, value_name = "DIR", default_value = ".")]
    out: PathBuf,
}

pub fn run(options: &Options, args: &ComponentsArgs) -> Result<ExitCode, Failure> {
    match &args.command {
        ComponentsCommand::List(args) => list(options, args),
        ComponentsCommand::Fetch(args) => fetch_all(options, args),
        ComponentsCommand::Check(args) => check(options, args),
        ComponentsCommand::Pack(args) => pack_all(options, args),
        ComponentsCommand::Unpack(args) => unpack_all(options, args),
    }
}

/// A file that is needed, and what is known of it.
struct Row {
    place: String,
    from: String,
    pinned: Option<String>,
    octets: Option<u64>,
}

fn rows(site: &Site, needed: &Needed) -> Result<Vec<Row>, Failure> {
    let sums = site.sums_if_any()?;
    let pinned: BTreeMap<&str, &str> = sums.all().collect();
    let folder = site.components_folder();
    let files = needed
        .published
        .iter()
        .flat_map(|one| one.gives.iter().map(|(_, place)| (place.clone(), one.address.clone())));
    let images = needed.images.iter().map(|image| (image.place.clone(), image.source.to_string()));
    let mut rows: Vec<Row> = files
        .chain(images)
        .map(|(place, from)| Row {
            octets: fs::metadata(folder.join(&place)).ok().map(|facts| facts.len()),
            pinned: pinned.get(place.as_str()).map(|sum| (*sum).to_owned()),
            place,
            from,
        })
        .collect();
    rows.sort_by(|a, b| a.place.cmp(&b.place));
    rows.dedup_by(|a, b| a.place == b.place);
    Ok(rows)
}

fn list(options: &Options, args: &ListArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let (needed, images) = site.needed(&args.arches.of(&site)?)?;
    let rows = rows(&site, &needed)?;
    let state = |row: &Row| match (row.octets, &row.pinned) {
        (Some(_), Some(_)) => "here",
        (Some(_), None) => "not pinned",
        (None, _) => "missing",
    };
    if options.json {
        let row = |row: &Row| json!({"file": row.place, "from": row.from, "state": state(row), "sha256": row.pinned, "bytes": row.octets});
        view::json(&rows.iter().map(row).collect::<Vec<_>>());
        return Ok(ExitCode::SUCCESS);
    }
    let style = Style::stdout();
    let lines = rows.iter().map(|row| {
        let word = match state(row) {
            "here" => style.good("here"),
            other => style.warn(other),
        };
        vec![row.place.clone(), word, row.octets.map_or(String::new(), size), style.dim(&row.from)]
    });
    view::out(&table(&["file", "state", "size", "from"], lines));
    let missing = rows.iter().filter(|row| row.octets.is_none() || row.pinned.is_none()).count();
    let here: u64 = rows.iter().filter_map(|row| row.octets).sum();
    view::out(&match missing {
        0 => format!("\n{}, all here and pinned: {}", count(rows.len(), "file"), size(here)),
        n => {
            format!("\n{n} of {} missing here: zoisite components fetch", count(rows.len(), "file"))
        }
    });
    tell_foreign_images(&site, &images)?;
    Ok(ExitCode::SUCCESS)
}

/// Images that manifests name and that no node is brought.
fn tell_foreign_images(site: &Site, held: &[ImageSource]) -> Result<(), Failure> {
    let manifests = site.manifests()?;
    for (object, image) in images_named(manifests.iter().map(|object| &object.0)) {
        let known = ImageName::new(&image).ok().map(ImageSource::Named);
        if known.is_none_or(|known| !held.contains(&known)) {
            view::note(&format!(
                "{object} names the image {image}, which nodes must pull: put it into components.images (or \"of-manifests\") to have it brought"
            ));
        }
    }
    Ok(())
}

fn fetch_all(options: &Options, args: &FetchArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let (needed, images) = site.needed(&args.arches.of(&site)?)?;
    let all = pinnable(&site.cluster, &images);
    let mut lock = site.lock()?.unwrap_or_default();
    lock.retain(&all);
    for what in &args.repin {
        if !lock.forget(what, &all) {
            return Err(Failure::new(
                Kind::Usage,
                format!("nothing is pinned of {what}"),
                format!("name it as {LOCK_FILE} does, in [published] or [images]"),
            ));
        }
    }
    let folder = site.components_folder();
    fs::create_dir_all(&folder).map_err(|error| Failure::file("making", &folder, &error))?;
    let _alone = alone(&folder)?;
    // What was pinned is held against the folder's own list before anything comes.
    site.sums_if_any()?;
    let sums = site.folder_sums()?.unwrap_or_else(ComponentSums::unknown);
    let ways = site.ways()?;
    let path = site.lock_file();
    let keep = |lock: &Lock| write_whole(&path, &lock.text());
    let watching = Fetching::of(needed.published.len() + needed.images.len());
    let told = |event| {
        if !options.json {
            watching.event(event);
        }
    };
    let job = Fetch {
        folder: &folder,
        needed: &needed,
        ways: &ways,
        lock: lock.clone(),
        sums: &sums,
        keep: &keep,
        told: &told,
    };
    let fetched = super::block_on(fetch(job))?.map_err(Failure::from)?;
    if fetched.faults.is_empty() && site.lock()?.as_ref() != Some(&fetched.lock) {
        keep(&fetched.lock).map_err(|error| Failure::file("writing", &path, &error))?;
    }
    let how = watching.end();
    if options.json {
        view::json(
            &json!({"brought": fetched.brought, "pinned": fetched.pinned, "same": fetched.same, "failed": fetched.faults.len()}),
        );
    } else {
        let mut parts = Vec::new();
        if fetched.brought > 0 {
            parts.push(format!("{} brought: {how}", fetched.brought));
        }
        if fetched.pinned > 0 {
            parts.push(format!("{} pinned as they stood there", fetched.pinned));
        }
        if fetched.same > 0 {
            parts.push(format!("{} here already", fetched.same));
        }
        if !fetched.faults.is_empty() {
            parts.push(format!("{} failed", fetched.faults.len()));
        }
        view::out(&parts.join(" · "));
        tell_foreign_images(&site, &images)?;
    }
    let failures = alike(fetched.faults).into_iter().map(|(fault, others)| {
        let failure = Failure::from(fault);
        match others {
            0 => failure,
            n => failure.note("likewise", count(n, "other thing")),
        }
    });
    match failures
        .reduce(|all, one| if one.kind() == Kind::Refused { one.and(all) } else { all.and(one) })
    {
        Some(failure) => Err(failure),
        None => Ok(ExitCode::SUCCESS),
    }
}

/// What failed for one reason, told once: the first of it, and how many others there are.
fn alike(faults: Vec<Fault>) -> Vec<(Fault, usize)> {
    let mut told: Vec<(Fault, usize)> = Vec::new();
    for fault in faults {
        let same =
            |(one, _): &&mut (Fault, usize)| one.answer == fault.answer && one.fix == fault.fix;
        match told.iter_mut().find(same) {
            Some((_, others)) => *others += 1,
            None => told.push((fault, 0)),
        }
    }
    told
}

/// Two that fetch into the same folder at once would write into each other's files.
fn alone(folder: &Path) -> Result<fs::File, Failure> {
    let path = folder.join(".lock");
    let failed = |error: std::io::Error| Failure::file("locking", &path, &error);
    let file = fs::File::create(&path).map_err(failed)?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(fs::TryLockError::WouldBlock) => Err(Failure::new(
            Kind::Usage,
            format!("another fetch is at work in {}", folder.display()),
            "wait until it has ended",
        )),
        Err(fs::TryLockError::Error(error)) => Err(failed(error)),
    }
}

/// What is not as it is pinned.
fn wrong(site: &Site, rows: &[Row]) -> Vec<(String, String)> {
    let folder = site.components_folder();
    let judge = |row: &Row| {
        let path = folder.join(&row.place);
        let why = match (&row.pinned, row.octets) {
            (_, None) => "it is missing".to_owned(),
            (None, Some(_)) => "it is not pinned".to_owned(),
            (Some(pinned), Some(_)) => match sha256_of(&path) {
                Ok(found) if found == *pinned => return None,
                Ok(found) => format!("its checksum is {found}, and {pinned} is pinned"),
                Err(error) => error.to_string(),
            },
        };
        Some((row.place.clone(), why))
    };
    rows.iter().filter_map(judge).collect()
}

fn check(options: &Options, args: &CheckArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let (needed, _) = site.needed(&args.arches.of(&site)?)?;
    let rows = rows(&site, &needed)?;
    let wrong = wrong(&site, &rows);
    if options.json {
        let one = |(place, why): &(String, String)| json!({"file": place, "why": why});
        view::json(
            &json!({"files": rows.len(), "wrong": wrong.iter().map(one).collect::<Vec<_>>()}),
        );
    } else if wrong.is_empty() {
        view::out(&format!("{}, each as it is pinned", count(rows.len(), "file")));
    } else {
        let style = Style::stdout();
        view::out(&table(
            &["file", "what is wrong"],
            wrong.iter().map(|(place, why)| vec![place.clone(), style.bad(why)]),
        ));
        view::out(&format!(
            "\n{} of {} not as pinned: zoisite components fetch brings what is missing",
            wrong.len(),
            count(rows.len(), "file")
        ));
    }
    Ok(if wrong.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(3) })
}

/// What a person reads first on the new machine.
const START: &str = "\
This folder holds all that an admin machine needs to raise the cluster: the program (zoisite), the cluster file, the
pinned components and their lock file. Put the program where your shell finds it, and go on here:

  ./zoisite components check
  ./zoisite login
  ./zoisite raise

No secret is in it. A cluster that was raised before is looked after from the machine that has its .zoisite folder
and the identity that opens it: carry those by a way of their own.
";

fn pack_all(options: &Options, args: &PackArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let (needed, _) = site.needed(&args.arches.of(&site)?)?;
    let rows = rows(&site, &needed)?;
    if site.lock()?.is_none() {
        return Err(Failure::new(
            Kind::Usage,
            format!("there is no {}", site.lock_file().display()),
            "zoisite components fetch pins what is to be packed",
        ));
    }
    let wrong = wrong(&site, &rows);
    if !wrong.is_empty() {
        let all: Vec<String> = wrong.iter().map(|(place, why)| format!("{place}: {why}")).collect();
        return Err(Failure::new(
            Kind::Usage,
            format!("not everything is here as it is pinned: {}", all.join("; ")),
            "zoisite components fetch brings what is missing",
        ));
    }
    if args.file.exists() && !args.force {
        return Err(Failure::new(
            Kind::Usage,
            format!("{} is there already", args.file.display()),
            "name another file, or replace it with --force",
        ));
    }
    let program = std::env::current_exe()
        .map_err(|error| Failure::file("finding", Path::new("the program"), &error))?;
    let start = tempfile::NamedTempFile::new()
        .and_then(|file| fs::write(file.path(), START).map(|()| file));
    let start = start.map_err(|error| Failure::file("writing", Path::new("START"), &error))?;
    let mut files = BTreeMap::from([
        ("START".to_owned(), start.path().to_owned()),
        ("zoisite".to_owned(), program),
        ("zoisite.toml".to_owned(), site.file.clone()),
        (LOCK_FILE.to_owned(), site.lock_file()),
    ]);
    let folder = inside(&site.cluster.components.from)?;
    for row in &rows {
        files.insert(format!("{folder}/{}", row.place), site.components_folder().join(&row.place));
    }
    if let Some(manifests) = &site.cluster.network.manifests {
        let name = inside(manifests)?;
        for path in site.manifest_files()? {
            let file = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            files.insert(format!("{name}/{file}"), path);
        }
    }
    let mut told = |_: &str, _| {};
    let packed = pack(&args.file, &files, &mut told)?;
    if options.json {
        view::json(&json!({"file": args.file, "names": packed.names, "bytes": packed.octets}));
    } else {
        view::out(&format!(
            "{}: {}, {}",
            args.file.display(),
            count(packed.names.len(), "file"),
            size(packed.octets)
        ));
        view::out(&format!(
            "on the new machine: tar -xf {} zoisite && ./zoisite components unpack {}",
            name_of(&args.file),
            name_of(&args.file)
        ));
        view::note(&format!("the program in it is this one, for {}", here()));
    }
    Ok(ExitCode::SUCCESS)
}

fn name_of(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// A folder of the cluster file, as it can stand in a pack.
fn inside(folder: &str) -> Result<&str, Failure> {
    let path = Path::new(folder);
    let plain = path
        .components()
        .all(|part| matches!(part, std::path::Component::Normal(_) | std::path::Component::CurDir));
    match plain {
        true => Ok(folder.trim_start_matches("./").trim_end_matches('/')),
        false => Err(Failure::new(
            Kind::Usage,
            format!("{folder} does not stand beside the cluster file"),
            "a pack holds what stands beside the cluster file or below it: name the folder so there",
        )),
    }
}

fn unpack_all(options: &Options, args: &UnpackArgs) -> Result<ExitCode, Failure> {
    fs::create_dir_all(&args.out).map_err(|error| Failure::file("making", &args.out, &error))?;
    let mut told = |name: &str, octets| {
        if !options.json {
            view::say(&format!("{name} ({})", size(octets)));
        }
    };
    let packed = unpack(&args.file, &args.out, &mut told)?;
    if options.json {
        view::json(&json!({"folder": args.out, "names": packed.names, "bytes": packed.octets}));
    } else {
        view::out(&format!(
            "{} in {}, {}, each as it was packed",
            count(packed.names.len(), "file"),
            args.out.display(),
            size(packed.octets)
        ));
    }
    Ok(ExitCode::SUCCESS)
}
