mod rebuild;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::json;
use zoisite_core::cluster::HostName;
use zoisite_core::components::LOCK_FILE;
use zoisite_core::holdings::Part;
use zoisite_store::{
    Backup, BackupHeading, BackupOf, SqliteRecords, State, Strongbox, read_backup, write_backup,
};

use super::block_on;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::road;
use crate::site::{Site, identity_path, now, passphrase};
use crate::supplies::write_whole;
use crate::view::{self, Style};

/// The cluster file's own name in a backup.
const CLUSTER_FILE: &str = "zoisite.toml";

/// Back up and restore the state of this workstation: keys, certificates, records, history
///
/// The state exists on this workstation only. A backup contains all of it and the cluster file in one file,
/// encrypted for everyone who may open the strongbox. It can be written during a run. It does not contain your
/// identity, the key that opens it: keep that elsewhere. To back up etcd, see zoisite snapshot.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  zoisite backup write --out /mnt/other/saltmarsh.backup\n  zoisite backup check /mnt/other/saltmarsh.backup\n  zoisite backup restore /mnt/other/saltmarsh.backup      # in an empty folder, elsewhere\n  zoisite backup rebuild                                # where there is no backup"
)]
pub struct BackupArgs {
    #[command(subcommand)]
    what: BackupCommand,
}

#[derive(Debug, Subcommand)]
enum BackupCommand {
    /// Write a backup, and read it back
    Write {
        /// File to write; an existing one is replaced [default: NAME.backup]
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Open a backup and verify its checksums
    Check {
        /// The backup
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Without a backup: rebuild the records from what hosts have. Private keys of authorities cannot be recovered
    Rebuild,
    /// Restore a backup into a folder that has no state, and compare it with the hosts
    Restore {
        /// The backup
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Do not compare with the hosts
        #[arg(long)]
        skip_hosts: bool,
    },
}

pub fn run(options: &Options, args: &BackupArgs) -> Result<ExitCode, Failure> {
    match &args.what {
        BackupCommand::Write { out } => {
            let site = Site::load(options)?;
            let named = format!("{}.backup", site.cluster.name);
            let out = out.clone().unwrap_or_else(|| site.folder.join(named));
            let mut state = site.raised_state()?;
            let heading = write(&site, &mut state, &out)?;
            tell(options, &heading, &format!("{} holds", out.display()));
            view::note(&format!(
                "it opens with your identity ({}), which is not in it",
                identity_path(options.identity.as_deref())?.display()
            ));
            Ok(ExitCode::SUCCESS)
        }
        BackupCommand::Check { file } => {
            let backup = opened(options, file)?;
            tell(options, &backup.heading, &format!("{} is whole: it holds", file.display()));
            Ok(ExitCode::SUCCESS)
        }
        BackupCommand::Rebuild => rebuild::run(options),
        BackupCommand::Restore { file, skip_hosts } => restore(options, file, *skip_hosts),
    }
}

/// Writes a backup and reads it back.
///
/// # Errors
/// When it cannot be written, or what is read back is not what was written.
pub fn write(site: &Site, state: &mut State, out: &Path) -> Result<BackupHeading, Failure> {
    let strongbox = site.strongbox()?;
    let of = BackupOf {
        name: site.cluster.name.to_string(),
        cluster: state.known_cluster_id()?.unwrap_or_default(),
        at: now(),
        last_run: state.runs()?.last().map_or(0, |run| run.generation),
    };
    let mut files = Vec::new();
    for (name, path) in [(CLUSTER_FILE, site.file.clone()), (LOCK_FILE, site.lock_file())] {
        match std::fs::read(&path) {
            Ok(text) => files.push((name.to_owned(), text)),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(Failure::file("reading", &path, &error)),
        }
    }
    let recipients = site.recipients(state)?;
    let store = SqliteRecords::open(&site.store)?;
    let heading = write_backup(&store, &files, &of, &recipients, out)?;
    let read = read_backup(out, strongbox)?;
    if read.heading != heading {
        return Err(Failure::new(
            Kind::Run,
            format!("{}: what is read back is not what was written", out.display()),
            "something else writes there, or the disk is not well: try another place",
        ));
    }
    Ok(heading)
}

fn opened(options: &Options, file: &Path) -> Result<Backup, Failure> {
    let path = identity_path(options.identity.as_deref())?;
    let strongbox = Strongbox::open(&path, &|| passphrase(&path))?;
    Ok(read_backup(file, &strongbox)?)
}

fn tell(options: &Options, heading: &BackupHeading, what: &str) {
    if options.json {
        view::json(&json!({"backup": heading}));
        return;
    }
    let style = Style::stdout();
    view::out(&format!(
        "{} {what} the state of {} as it was at {}",
        style.good("✓"),
        heading.name,
        view::minute(heading.at)
    ));
}

fn restore(options: &Options, file: &Path, skip_hosts: bool) -> Result<ExitCode, Failure> {
    let backup = opened(options, file)?;
    let folder = zoisite_store::folder_of(&options.cluster);
    let store = folder.join(".zoisite");
    if SqliteRecords::exists(&store) {
        return Err(Failure::new(
            Kind::Usage,
            format!("there is a state in {} already, and it is not written over", store.display()),
            "bring it in an empty folder; or move that folder aside first",
        ));
    }
    let beside = [(CLUSTER_FILE, options.cluster.clone()), (LOCK_FILE, folder.join(LOCK_FILE))];
    let mut kept = Vec::new();
    for (name, path) in &beside {
        let Some(text) = backup.file(name) else { continue };
        match std::fs::read(path) {
            Ok(own) if own == text => {}
            // What somebody wrote here is theirs.
            Ok(_) => kept.push(path.display().to_string()),
            Err(_) => {
                let text = String::from_utf8_lossy(text);
                write_whole(path, &text).map_err(|e| Failure::file("writing", path, &e))?;
            }
        }
    }
    backup.restore(&store)?;
    tell(options, &backup.heading, &format!("{} holds again", folder.display()));
    for path in kept {
        view::note(&format!("{path} stays as it is here, and is another one in the backup"));
    }
    view::note("snapshots are not in it: zoisite snapshot --from lists those of another folder");
    if skip_hosts {
        return Ok(ExitCode::SUCCESS);
    }
    let site = Site::load(options)?;
    held_against_hosts(&site, &backup.heading)
}

/// What hosts know of runs since the backup was made.
fn held_against_hosts(site: &Site, heading: &BackupHeading) -> Result<ExitCode, Failure> {
    let (ahead, ()) = block_on(road::look_ahead(site, (Part::ALL, false), async |_, _, _, _| ()))??;
    let looks = &ahead.sighting.looks;
    let seen = looks.iter().filter_map(|(host, look)| Some((host, look.as_ref().ok()?)));
    let newer: Vec<&HostName> =
        seen.filter(|(_, seen)| seen.generation > heading.last_run).map(|(host, _)| host).collect();
    let silent: Vec<&HostName> =
        looks.iter().filter(|(_, look)| look.is_err()).map(|(host, _)| host).collect();
    if !newer.is_empty() {
        view::note(&format!(
            "{} know a run that is later than this backup: what it issued is not here. zoisite sequence shows what differs; the next raise puts it right, one by one",
            view::names(&newer)
        ));
    }
    if !silent.is_empty() {
        view::note(&format!(
            "{} did not answer, and may know a later run: zoisite login says why",
            view::names(&silent)
        ));
    }
    if newer.is_empty() && silent.is_empty() {
        view::note("no host knows a run that is later than this backup");
    }
    Ok(ExitCode::SUCCESS)
}
