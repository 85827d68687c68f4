//! Writing first-boot data, in the form that its medium needs.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};
use std::sync::Mutex;

use clap::{Args, ValueEnum};
use serde::Serialize;
use zoisite_core::cluster::{Host, HostName};
use zoisite_core::first_boot::{
    Carried, CarrierError, FirstFile, HostKey, JoinWord, Medium, PROPERTY_ROOM, Seed, SeedError,
    SeedInput, SeedRecord, carried,
};
use zoisite_core::join_file::Signer;
use zoisite_core::pki::Secret;
use zoisite_store::first_boot::{host_keys, record_seeds};
use zoisite_store::join_files::{signer, words};
use zoisite_store::{FreshKeys, State};

use super::reporting_in::reports;
use crate::commands::block_on;
use crate::commands::join_file::https_address;
use crate::commands::login::chosen_hosts;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::person;
use crate::road;
use crate::site::{Site, private_folder, write_private};
use crate::view::{self, count};

#[derive(Args, Debug)]
pub struct WriteArgs {
    /// Hosts, with '*' for any text [default: all]
    #[arg(value_name = "HOST")]
    hosts: Vec<String>,
    /// For the machines under first-boot.unnamed: they use the address that DHCP gives them, and report
    #[arg(long, conflicts_with_all = ["hosts", "own_ssh_keys", "join_files", "join_from"])]
    unnamed: bool,
    /// How long unnamed machines may report, such as 24h or 7d
    #[arg(long, value_name = "TIME", default_value = "72h", requires = "unnamed", value_parser = view::span)]
    expires: i64,
    /// Folder to write to
    #[arg(long, short, value_name = "DIR")]
    out: PathBuf,
    /// How the data gets to the machines
    #[arg(long = "format", value_enum, value_name = "FORM", default_value = "files")]
    form: Form,
    /// For properties: prefix of each key
    #[arg(long, value_name = "TEXT", default_value = "guestinfo.")]
    prefix: String,
    /// For properties: largest value, in bytes
    #[arg(long, value_name = "OCTETS", default_value_t = PROPERTY_ROOM)]
    max_size: usize,
    /// Machines make their own SSH host keys: nothing secret is written, and the first login is to an unknown host
    #[arg(long)]
    own_ssh_keys: bool,
    /// Include join files from this folder, for offline hosts, which run them by themselves
    #[arg(long, value_name = "DIR", conflicts_with = "own_ssh_keys")]
    join_files: Option<PathBuf>,
    /// Offline hosts fetch their join files from this web server, as HOST.join
    #[arg(long, value_name = "URL", conflicts_with_all = ["own_ssh_keys", "join_files"], value_parser = https_address)]
    join_from: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Form {
    /// user-data, meta-data and network-config, as they are
    Files,
    /// The same, in base64
    Base64,
    /// The same, compressed, in base64
    GzipBase64,
    /// Keys and values that a hypervisor gives to the machine
    Properties,
    /// A disk image to attach (ISO 9660, label CIDATA)
    Image,
    /// Files for a web server
    Web,
}

impl WriteArgs {
    /// In what the texts are packed; an image holds them as they are.
    fn carrier(&self) -> Medium {
        match self.form {
            Form::Files | Form::Image => Medium::Files,
            Form::Base64 => Medium::Base64,
            Form::GzipBase64 => Medium::GzipBase64,
            Form::Web => Medium::Web,
            Form::Properties => {
                Medium::Properties { prefix: self.prefix.clone(), max_size: self.max_size }
            }
        }
    }

    /// What a person does with what was written.
    fn next(&self) -> &'static str {
        match self.form {
            Form::Files => {
                "Put each folder's files into /var/lib/cloud/seed/nocloud of that machine's disk, then start it."
            }
            Form::Base64 | Form::GzipBase64 => {
                "Give each text to your provider or hypervisor under the key of its name, with its encoding."
            }
            Form::Properties => "Set these keys on each virtual machine, then start it.",
            Form::Image => {
                "Attach each image to its machine as a second disk or drive, then start it."
            }
            Form::Web => {
                "Serve the folder on a network of your own; machines boot with ds=nocloud;s=https://SERVER/HOST/ on their kernel's command line."
            }
        }
    }
}

/// Hosts that read such data: Windows hosts do not, which is an error where one is named.
fn linux<'a>(hosts: &[&'a Host], words: &[String]) -> Result<Vec<&'a Host>, Failure> {
    let named = |host: &&&Host| words.iter().any(|word| word == host.name.as_str());
    if let Some(host) = hosts.iter().filter(|host| !host.is_linux()).find(named) {
        return Err(Failure::new(
            Kind::Usage,
            format!("{} runs Windows, which reads no cloud-init data", host.name),
            format!(
                "set it up by its own means; zoisite join-file write {} comes after that",
                host.name
            ),
        ));
    }
    Ok(hosts.iter().copied().filter(|host| host.is_linux()).collect())
}

/// What was written for one host.
#[derive(Debug, Serialize)]
struct Written {
    host: HostName,
    instance: String,
    files: Vec<PathBuf>,
    /// Of all its files, before an image is made of them.
    octets: usize,
}

pub fn write(options: &Options, args: &WriteArgs) -> Result<ExitCode, Failure> {
    let site = Site::load(options)?;
    let unnamed = site.cluster.unnamed();
    let hosts = match args.unnamed {
        true if unnamed.is_empty() => {
            return Err(Failure::new(
                Kind::Usage,
                "the cluster file names no unnamed machines that are not among its hosts",
                "name each by a card: [first-boot] unnamed = [\"02:00:5e:10:00:4d\"]",
            ));
        }
        true => unnamed.iter().collect(),
        false => linux(&chosen_hosts(&site, &args.hosts)?, &args.hosts)?,
    };
    if args.form == Form::Image {
        image_program()?;
    }
    // What is missing is an error before anything is made, kept or written.
    seeds_of(&site, &hosts, &[], (&BTreeMap::new(), None))?;
    let own = block_on(keys(&site))??;
    let mut work = site.briefly()?;
    let state = &mut work.state;
    let made = match args.own_ssh_keys {
        true => BTreeMap::new(),
        false => {
            site.recipients(state)?;
            let names: Vec<HostName> = hosts.iter().map(|host| host.name.clone()).collect();
            host_keys(state, site.strongbox()?, &names)?
        }
    };
    let carries = Carries::of(&site, state, &hosts, args)?;
    let seeds = seeds_of(&site, &hosts, &own, (&made, Some(&carries)))?;
    let packed = pack(&seeds, &args.carrier())?;
    let out = &args.out;
    private_folder(out)?;
    let written = match args.form {
        Form::Image => write_images(out, packed)?,
        _ => write_folders(out, packed)?,
    };
    let tellings = seeds.iter().map(|(host, seed)| {
        let telling = SeedRecord::of(seed)
            .map_err(|why| unwritable(&SeedError::Unwritable((*host).clone(), why)))?;
        Ok(((*host).clone(), telling))
    });
    record_seeds(state, tellings.collect::<Result<Vec<_>, Failure>>()?)?;
    let known = block_on(know(&site, &made))??;
    tell(options, args, &written, &known);
    Ok(ExitCode::SUCCESS)
}

/// What offline hosts need for join files.
#[derive(Debug, Default)]
pub struct Carries {
    signer: Option<Signer>,
    words: BTreeMap<HostName, Secret>,
    files: BTreeMap<HostName, Secret>,
    from: Option<String>,
}

impl Carries {
    fn of(
        site: &Site,
        state: &mut State,
        hosts: &[&Host],
        args: &WriteArgs,
    ) -> Result<Self, Failure> {
        let away = hosts.iter().filter(|host| host.offline);
        let away: Vec<HostName> = away.map(|host| host.name.clone()).collect();
        if away.is_empty() || args.own_ssh_keys {
            return Ok(Self::default());
        }
        let mut files = match args.unnamed {
            true => reports(site, state, hosts, args.expires)?,
            false => BTreeMap::new(),
        };
        if let Some(folder) = &args.join_files {
            for host in &away {
                files.insert(host.clone(), first_file(folder, host)?);
            }
        }
        let strongbox = site.strongbox()?;
        let signer = signer(state, strongbox, &FreshKeys)?;
        let words = words(state, strongbox, &away)?;
        Ok(Self { signer: Some(signer), words, files, from: args.join_from.clone() })
    }

    fn for_host(&self, host: &HostName) -> Option<JoinWord<'_>> {
        let first = match (self.files.get(host), &self.from) {
            (Some(text), _) => Some(FirstFile::Text(text)),
            (None, Some(from)) => Some(FirstFile::Web(from)),
            (None, None) => None,
        };
        Some(JoinWord { word: self.words.get(host)?, signer: self.signer.as_ref()?, first })
    }
}

fn first_file(folder: &Path, host: &HostName) -> Result<Secret, Failure> {
    let path = folder.join(format!("{host}.join"));
    let text = fs::read_to_string(&path).map_err(|error| {
        Failure::new(
            Kind::Usage,
            format!("reading the join file {}: {error}", path.display()),
            format!("zoisite join-file write {host} --out DIR writes it"),
        )
    })?;
    Ok(Secret::new(text))
}

/// The public keys of who may log in: those of the file, or the person's own.
pub async fn keys(site: &Site) -> Result<Vec<String>, Failure> {
    let first = site.cluster.first_boot.clone().unwrap_or_default();
    let mut keys = Vec::new();
    for file in &first.keys {
        keys.extend(person::keys_in(&site.folder.join(file))?);
    }
    if keys.is_empty() {
        let (targets, carrier) = road::carrier(site, &BTreeMap::new())?;
        if let Some(target) = targets.first() {
            keys.push(person::key_line(&carrier, target, "first-boot.keys").await?);
        }
    }
    Ok(keys)
}

/// Each host's data, or everything that is missing.
pub fn seeds_of<'a>(
    site: &Site,
    hosts: &[&'a Host],
    keys: &[String],
    (made, carries): (&BTreeMap<HostName, HostKey>, Option<&Carries>),
) -> Result<Vec<(&'a HostName, Seed)>, Failure> {
    let mut seeds = Vec::new();
    let mut errors = Vec::new();
    for host in hosts {
        let carried = carries.and_then(|carries| carries.for_host(&host.name));
        let told = SeedInput { keys, host_key: made.get(&host.name), carried };
        match Seed::of(&site.cluster, host, told) {
            Ok(seed) => seeds.push((&host.name, seed)),
            Err(error) if errors.contains(&error) => {}
            Err(error) => errors.push(error),
        }
    }
    match errors.iter().map(unwritable).reduce(Failure::and) {
        Some(failure) => Err(failure),
        None => Ok(seeds),
    }
}

fn unwritable(error: &SeedError) -> Failure {
    let fix = match error {
        SeedError::NoNetworks => {
            "add a table [first-boot] with: networks = { \"10.77.0.0/24\" = \"10.77.0.1\" }"
        }
        SeedError::NoUser(_) => "set the user that is made there: [login] user = \"warden\"",
        SeedError::Unwritable(..) => "report this, please",
    };
    Failure::new(Kind::Usage, error.to_string(), fix)
}

type Packed<'a> = Vec<(&'a HostName, &'a Seed, Vec<Carried>)>;

fn pack<'a>(seeds: &'a [(&'a HostName, Seed)], carrier: &Medium) -> Result<Packed<'a>, Failure> {
    let mut packed = Vec::new();
    let mut errors = Vec::new();
    for (host, seed) in seeds {
        match carried(host, seed, carrier) {
            Ok(files) => packed.push((*host, seed, files)),
            Err(error) => errors.push(error),
        }
    }
    let failure = |error: &CarrierError| {
        let fix = match error {
            CarrierError::TooLarge { .. } => {
                "tell it less (fewer keys or packages), name another --max-size, or choose --as image: nothing was written"
            }
            CarrierError::Unwritable(..) => "report this, please",
        };
        Failure::new(Kind::Usage, error.to_string(), fix)
    };
    match errors.iter().map(failure).reduce(Failure::and) {
        Some(failure) => Err(failure),
        None => Ok(packed),
    }
}

fn write_folders(out: &Path, packed: Packed<'_>) -> Result<Vec<Written>, Failure> {
    let mut written = Vec::new();
    for (host, seed, files) in packed {
        let own = out.join(host.as_str());
        private_folder(&own)?;
        written.push(Written {
            host: host.clone(),
            instance: seed.instance().to_owned(),
            octets: octets(&files),
            files: put(&own, &files)?,
        });
    }
    Ok(written)
}

fn octets(files: &[Carried]) -> usize {
    files.iter().map(|file| file.text.expose().len()).sum()
}

/// Writes files into a folder, each whole or not at all.
fn put(folder: &Path, files: &[Carried]) -> Result<Vec<PathBuf>, Failure> {
    let mut paths = Vec::new();
    for file in files {
        let path = folder.join(&file.name);
        write_private(&path, file.text.expose())?;
        paths.push(path);
    }
    Ok(paths)
}

/// The distribution's program for such images.
const IMAGE_PROGRAM: &str = "xorriso";

/// So many are made at once: of the tenth of a second that the program takes, it waits for itself all but a few milliseconds.
const IMAGES_AT_ONCE: usize = 48;

fn image_program() -> Result<(), Failure> {
    match Command::new(IMAGE_PROGRAM).arg("--version").output() {
        Ok(said) if said.status.success() => Ok(()),
        _ => Err(Failure::new(
            Kind::Usage,
            format!("disk images are written by the program {IMAGE_PROGRAM}, which is not here"),
            format!("apt-get install {IMAGE_PROGRAM}; or choose another form with --as"),
        )),
    }
}

/// An image for each host, several at once.
fn write_images(out: &Path, packed: Packed<'_>) -> Result<Vec<Written>, Failure> {
    let made = Mutex::new(Vec::new());
    let left = Mutex::new(packed);
    let work = || -> Result<(), Failure> {
        loop {
            let next = left.lock().ok().and_then(|mut left| left.pop());
            let Some((host, seed, files)) = next else { return Ok(()) };
            let path = image(out, host, &files)?;
            let written = Written {
                host: host.clone(),
                instance: seed.instance().to_owned(),
                octets: octets(&files),
                files: vec![path],
            };
            if let Ok(mut made) = made.lock() {
                made.push(written);
            }
        }
    };
    std::thread::scope(|scope| {
        let all: Vec<_> = (0..IMAGES_AT_ONCE).map(|_| scope.spawn(work)).collect();
        all.into_iter().try_for_each(|one| {
            one.join()
                .unwrap_or_else(|_| Err(Failure::new(Kind::Run, "making images", "try again")))
        })
    })?;
    let mut made = made.into_inner().unwrap_or_default();
    made.sort_by(|a: &Written, b| a.host.cmp(&b.host));
    Ok(made)
}

fn image(out: &Path, host: &HostName, files: &[Carried]) -> Result<PathBuf, Failure> {
    let path = out.join(format!("{host}.iso"));
    let failed = |error: std::io::Error| Failure::file("writing", &path, &error);
    let within = tempfile::Builder::new().prefix(".seed").tempdir_in(out).map_err(failed)?;
    let new = within.path().join("new.iso");
    let mut program = Command::new(IMAGE_PROGRAM);
    program.args(["-as", "mkisofs", "-quiet", "-V", "CIDATA", "-J", "-r", "-o"]).arg(&new);
    program.args(put(within.path(), files)?);
    // The same texts give the same image.
    let said = program.env("SOURCE_DATE_EPOCH", "1").output().map_err(failed)?;
    if !said.status.success() {
        let why = String::from_utf8_lossy(&said.stderr);
        return Err(Failure::new(
            Kind::Run,
            format!("making {}: {IMAGE_PROGRAM} says: {}", path.display(), why.trim()),
            "choose another form with --as, or try again",
        ));
    }
    use std::os::unix::fs::PermissionsExt as _;
    fs::set_permissions(&new, fs::Permissions::from_mode(0o600)).map_err(failed)?;
    fs::rename(&new, &path).map_err(failed)?;
    Ok(path)
}

/// What came of making machines known.
#[derive(Debug, Default)]
pub struct Known {
    file: Option<PathBuf>,
    /// Those that the file knows another key of.
    others: Vec<HostName>,
}

/// Adds the keys that were made to the person's known hosts, by name and by where they are dialled.
pub async fn know(site: &Site, made: &BTreeMap<HostName, HostKey>) -> Result<Known, Failure> {
    let (targets, carrier) = road::carrier(site, &BTreeMap::new())?;
    let mine: Vec<_> = targets.iter().filter(|target| made.contains_key(&target.name)).collect();
    let Some(first) = mine.first() else { return Ok(Known::default()) };
    let file = person::known_hosts(&carrier, first).await?;
    let there = fs::read_to_string(&file).unwrap_or_default();
    let there: BTreeSet<(&str, &str)> = there.lines().flat_map(entries).collect();
    let names: BTreeSet<&str> = there.iter().map(|(name, _)| *name).collect();
    let mut lines = Vec::new();
    let mut known = Known::default();
    for target in mine {
        let Some(key) = made.get(&target.name) else { continue };
        let at = target.login.address.clone().unwrap_or_else(|| target.address.to_string());
        let at = match target.login.port {
            Some(port) if port != 22 => format!("[{at}]:{port}"),
            _ => at,
        };
        let own = [target.name.as_str(), at.as_str()];
        let missing = own.iter().filter(|name| !there.contains(&(**name, key.public.as_str())));
        let missing: Vec<&str> = missing.copied().collect();
        if missing.iter().any(|name| names.contains(name)) {
            known.others.push(target.name.clone());
        }
        if !missing.is_empty() {
            lines.push(format!("{} {}", missing.join(","), key.public));
        }
    }
    if !lines.is_empty() {
        person::add_known(&file, &lines)?;
    }
    known.file = Some(file);
    Ok(known)
}

/// The names of a line of known_hosts (sshd(8)), each with the key; names that are hashed are not told.
fn entries(line: &str) -> impl Iterator<Item = (&str, &str)> {
    let (names, key) = line.split_once(' ').unwrap_or_default();
    let plain = !line.starts_with(['#', '@', '|']);
    let key = match key.match_indices(' ').nth(1) {
        Some((end, _)) => &key[..end],
        None => key,
    };
    names
        .split(',')
        .filter(move |name| plain && !name.is_empty())
        .map(move |name| (name, key.trim()))
}

fn tell(options: &Options, args: &WriteArgs, written: &[Written], known: &Known) {
    if options.json {
        view::json(&serde_json::json!({
            "written": written, "known_hosts": known.file, "known_by_another_key": known.others,
        }));
        return;
    }
    let largest = written.iter().max_by_key(|one| one.octets);
    let size = largest.map_or_else(String::new, |one| {
        let max_size = match args.form {
            Form::Properties => format!("; one value may have {}", args.max_size),
            _ => String::new(),
        };
        format!(" The largest is {}'s, {} octets{max_size}.", one.host, one.octets)
    });
    view::out(&format!(
        "Wrote the first-boot data of {} to {}.{size}",
        count(written.len(), "host"),
        args.out.display()
    ));
    view::out(args.next());
    if args.unnamed {
        view::out(
            "Once they have booted they report in: zoisite reports fetch, then zoisite first-boot unnamed.",
        );
    }
    match &known.file {
        None if args.unnamed => {}
        Some(file) => {
            view::out(&format!(
                "Their SSH keys are in {}: zoisite login shows when they let you in.",
                file.display()
            ));
        }
        None => view::out("zoisite login setup shows their SSH keys, once they are up."),
    }
    if !args.own_ssh_keys {
        view::note(
            "each holds its machine's private SSH key: anyone who reads it can pose as that machine",
        );
    }
    if !known.others.is_empty() {
        view::note(&format!(
            "your known hosts have another key for {}: ssh-keygen -R takes it out, once that machine is gone",
            view::few(&known.others)
        ));
    }
}
