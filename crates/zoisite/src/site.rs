//! The cluster file, and what belongs to it: store, strongbox, components, logins.

use std::collections::BTreeMap;
use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use serde_json::json;
use zoisite_core::cluster::{Cluster, HostName, Reading, read};
use zoisite_core::holdings::{ApiObject, Placeholders, RegistryLogin, registry_secrets};
use zoisite_core::pki::{Ledger, Proof, Secret, SecretRef, edges, prove};
use zoisite_core::sequence::contradictions;
use zoisite_reach::Target;
use zoisite_store::{
    LockHolder, Met, Overlay, Records, RunRecord, SqliteRecords, State, StoreError, Strongbox,
};
use zoisite_supply::Ways;

use crate::asked;
use crate::failure::{Failure, Kind};
use crate::options::Options;
use crate::view::{self, events};

/// The largest cluster file that is read, in bytes: 5,000 hosts of a line each need a tenth of it.
const LARGEST: u64 = 4 * 1_024 * 1_024;

/// A valid cluster file and where things around it are.
#[derive(Debug)]
pub struct Site {
    pub cluster: Cluster,
    /// The cluster file.
    pub file: PathBuf,
    /// Its folder: relative paths in it start here.
    pub folder: PathBuf,
    /// Folder of the store.
    pub(crate) store: PathBuf,
    identity: Option<PathBuf>,
    ssh_config: Option<PathBuf>,
    /// Whether sudo's password is asked for, and what was answered: it is asked once.
    ask_sudo: bool,
    sudo_password: OnceLock<Secret>,
    /// Secrets that stand in files beside the cluster file, once they were read: what is sent is what was compared.
    own_secrets: OnceLock<OwnSecrets>,
    /// Opened when it is first needed.
    strongbox: OnceLock<Strongbox>,
    /// Whether it is a rehearsal's, with an identity that opens nothing of worth.
    staged: bool,
}

/// Secrets of registries, from files beside the cluster file.
#[derive(Debug, Default)]
pub struct OwnSecrets {
    /// What hosts are given of them.
    pub on_hosts: BTreeMap<SecretRef, Secret>,
    /// Name and password for the cluster's own registry, as basic authentication has them.
    pub registry_login: Option<Secret>,
}

impl OwnSecrets {
    fn read(site: &Site) -> Result<Self, Failure> {
        let (cluster, registry) = (&site.cluster, &site.cluster.registry);
        let credentials = match &cluster.preparation.credentials {
            Some(path) => Some(Ways::credentials_of(&site.folder.join(path))?),
            None => None,
        };
        let logins: Option<Vec<RegistryLogin<'_>>> = credentials.as_ref().map(|all| {
            let login = |(registry, name, password)| RegistryLogin { registry, name, password };
            all.all().map(login).collect()
        });
        let passwords = match &registry.passwords {
            Some(path) if registry.host.is_some() => Some(read_passwords(&site.folder.join(path))?),
            _ => None,
        };
        let login = RegistryLogin::of(logins.as_deref().unwrap_or_default(), &registry.name);
        if passwords.is_some() && login.is_none() {
            let what = format!(
                "the registry {} asks for passwords, and there is none to pull from it with",
                registry.name
            );
            let fix = format!(
                "add a line to the file that preparation.credentials names: machine {} login NAME password PASSWORD",
                registry.name
            );
            return Err(Failure::new(Kind::Usage, what, fix));
        }
        let login = login.map(|login| Secret::new(std::mem::take(&mut *login.basic())));
        let on_hosts = registry_secrets(cluster, logins.as_deref(), passwords);
        Ok(Self { on_hosts, registry_login: login })
    }
}

/// Names with bcrypt's digests of their passwords, as the registry reads them.
fn read_passwords(path: &Path) -> Result<Secret, Failure> {
    let text = fs::read_to_string(path).map_err(|e| Failure::file("reading", path, &e))?;
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).collect();
    let known = |line: &&&str| {
        let digest = line.split_once(':').filter(|(name, _)| !name.is_empty()).map(|(_, d)| d);
        digest.is_some_and(|d| ["$2a$", "$2b$", "$2y$"].iter().any(|kind| d.starts_with(kind)))
    };
    let good = lines.iter().filter(known).count();
    if good == 0 || good < lines.len() {
        let what = match lines.len() - good {
            0 => format!("{} holds no user", path.display()),
            n => format!(
                "{n} of {} lines of {} hold no name with a digest of bcrypt",
                lines.len(),
                path.display()
            ),
        };
        let fix = "write it with: htpasswd -B -c FILE NAME (of the package apache2-utils)";
        return Err(Failure::new(Kind::Usage, what, fix));
    }
    Ok(Secret::new(text))
}

/// The store, locked for as long as this value lives (rule S11).
pub struct Working {
    pub state: State,
}

impl Working {
    /// Takes the lock, or renews it.
    pub fn lock(state: &mut State) -> Result<(), StoreError> {
        lock(state.records())
    }

    /// The same for a command that takes a moment: another one that takes a moment is waited for.
    pub fn briefly(mut state: State) -> Result<Self, Failure> {
        let end = Instant::now() + Duration::from_secs(10);
        loop {
            match Self::lock(&mut state) {
                Ok(()) => return Ok(Self { state }),
                Err(StoreError::Locked { .. }) if Instant::now() < end => {
                    std::thread::sleep(Duration::from_millis(100));
                }
                Err(error) => return Err(error.into()),
            }
        }
    }
}

/// Asks the person at the terminal for the passphrase that an identity is kept under.
///
/// # Errors
/// Where there is no terminal.
pub fn passphrase(identity: &Path) -> Result<Secret, String> {
    asked::secret(&format!("passphrase of {}: ", identity.display()))
        .map_err(|error| format!("it cannot be asked for here: {error}"))
}

impl Drop for Working {
    fn drop(&mut self) {
        // One that stays is taken over once this process is gone.
        let _ = self.state.records().unlock(&lock_holder());
    }
}

/// The file of the identity that opens the strongbox: the one that is named, or the usual one.
///
/// # Errors
/// Where none is named and the environment names no place for it.
pub fn identity_path(named: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(path) = named {
        return Ok(path.to_owned());
    }
    let config = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config")));
    config.map(|folder| folder.join("zoisite/identity.txt")).ok_or_else(|| {
        Failure::new(
            Kind::Usage,
            "neither XDG_CONFIG_HOME nor HOME is set",
            "name your identity with --identity FILE",
        )
    })
}

/// The text of a cluster file.
pub fn read_text(path: &Path) -> Result<String, Failure> {
    let failed = |error: std::io::Error| {
        let failure = Failure::file("reading the cluster file", path, &error);
        if error.kind() == std::io::ErrorKind::NotFound {
            return Failure::new(
                Kind::Usage,
                format!("there is no cluster file {}", path.display()),
                "write one with 'zoisite new NAME ADDRESS…', or name another with --cluster FILE",
            );
        }
        failure
    };
    let mut bytes = Vec::new();
    let file = fs::File::open(path).map_err(failed)?;
    file.take(LARGEST + 1).read_to_end(&mut bytes).map_err(failed)?;
    if bytes.len() as u64 > LARGEST {
        return Err(Failure::new(
            Kind::Usage,
            format!("{} is larger than {} MiB", path.display(), LARGEST >> 20),
            "this is hardly a cluster file: ranges such as tern-{1..5000} keep one small",
        ));
    }
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|b| **b == b'\n').count() + 1;
        Failure::new(
            Kind::Usage,
            format!("{} is not UTF-8 text: byte {} in line {line}", path.display(), at + 1),
            "save it as UTF-8",
        )
    })
}

impl Site {
    /// Reads the cluster file; findings that block are shown, and are a failure.
    pub fn load(options: &Options) -> Result<Self, Failure> {
        let text = read_text(&options.cluster)?;
        let Reading { cluster, findings } = read(&text);
        let Some(cluster) = cluster else {
            view::findings::print(&options.cluster, &text, &findings);
            return Err(Failure::new(
                Kind::Usage,
                format!("{} cannot be used as it is", options.cluster.display()),
                "fix what is shown above; zoisite check shows it again, with the warnings",
            ));
        };
        Ok(Self::of(cluster, options))
    }

    /// A site for a cluster that is valid already.
    pub fn of(cluster: Cluster, options: &Options) -> Self {
        let folder = zoisite_store::folder_of(&options.cluster).to_owned();
        Self {
            cluster,
            file: options.cluster.clone(),
            store: folder.join(".zoisite"),
            folder,
            identity: options.identity.clone(),
            ssh_config: options.ssh_config.clone(),
            ask_sudo: options.ask_sudo,
            sudo_password: OnceLock::new(),
            own_secrets: OnceLock::new(),
            strongbox: OnceLock::new(),
            staged: false,
        }
    }

    /// The same cluster with a store and an identity of its own in `folder`: for rehearsals.
    pub fn on_stage(mut self, folder: &Path) -> Self {
        self.store = folder.join("store");
        self.identity = Some(folder.join("identity.txt"));
        self.staged = true;
        self
    }

    /// Proves every edge; one that would fail is a failure that names client, server, name and reason.
    pub fn prove_edges(&self, ledger: &Ledger, now: Timestamp) -> Result<Proof, Failure> {
        let proof = prove(&edges(&self.cluster), ledger, &[], now);
        if proof.failed.is_empty() {
            return Ok(proof);
        }
        let mut failure: Option<Failure> = None;
        let all: Vec<String> = proof.failed.iter().map(ToString::to_string).collect();
        for text in all.iter().take(10) {
            failure = Some(match failure {
                None => Failure::new(
                    Kind::Run,
                    format!(
                        "{} of {} connections would fail",
                        proof.failed.len(),
                        proof.failed.len() + proof.held.len()
                    ),
                    "nothing was copied; 'zoisite pki issue' replaces certificates whose names changed",
                )
                .note("would fail", text),
                Some(failure) => failure.note("would fail", text),
            });
        }
        Err(failure.unwrap_or_else(|| Failure::reported(Kind::Run)))
    }

    /// Copies the store and the identity into a folder, for a rehearsal that goes on from there.
    ///
    /// # Errors
    /// Where they cannot be read or written.
    pub fn copy_store(&self, folder: &Path) -> Result<(), Failure> {
        let copy = |from: &Path, to: &Path| {
            fs::copy(from, to).map(|_| ()).map_err(|e| Failure::file("copying", from, &e))
        };
        let into = folder.join("store");
        fs::create_dir_all(&into).map_err(|e| Failure::file("making", &into, &e))?;
        let files = fs::read_dir(&self.store);
        for file in files.map_err(|e| Failure::file("reading", &self.store, &e))?.flatten() {
            if file.path().is_file() {
                copy(&file.path(), &into.join(file.file_name()))?;
            }
        }
        copy(&self.identity_path()?, &folder.join("identity.txt"))
    }

    /// The store, made when it is not there, locked for a command that takes a moment.
    pub fn briefly(&self) -> Result<Working, Failure> {
        Working::briefly(self.state()?)
    }

    /// The store, made when it is not there, locked for a run.
    pub fn working(&self) -> Result<Working, Failure> {
        let mut state = self.state()?;
        Working::lock(&mut state)?;
        Ok(Working { state })
    }

    /// A draft over the store, which is locked: what is worked out in it is judged before it is kept.
    pub fn draft(&self) -> Result<State, Failure> {
        let mut base = SqliteRecords::open(&self.store)?;
        lock(&mut base)?;
        Ok(State::new(Box::new(Overlay::over(Some(Box::new(base))))))
    }

    /// The store, made when it is not there.
    pub fn state(&self) -> Result<State, Failure> {
        Ok(State::new(Box::new(SqliteRecords::open(&self.store)?)))
    }

    /// The store, when there is one: to be read.
    pub fn existing_state(&self) -> Result<Option<State>, Failure> {
        if SqliteRecords::exists(&self.store) { self.state().map(Some) } else { Ok(None) }
    }

    /// Refuses what the cluster file alone contradicts of a cluster that stands, before anything is issued.
    pub fn contradicts_nothing(&self, state: &State) -> Result<(), Failure> {
        let refusals = contradictions(state.begun()?.as_ref(), &self.cluster);
        if refusals.is_empty() { Ok(()) } else { Err(refusals.into()) }
    }

    /// The store of a cluster that was raised, as far as this workstation knows.
    pub fn raised_state(&self) -> Result<State, Failure> {
        self.existing_state()?.ok_or_else(|| {
            Failure::new(
                Kind::Usage,
                format!("nothing has been raised from {} yet", self.file.display()),
                "zoisite sequence shows what would be done, zoisite raise does it",
            )
        })
    }

    /// The store under an overlay, for looking ahead: nothing is written.
    pub fn scratch(&self) -> Result<State, Failure> {
        let base: Option<Box<dyn Records>> = if SqliteRecords::exists(&self.store) {
            Some(Box::new(SqliteRecords::open(&self.store)?))
        } else {
            None
        };
        Ok(State::new(Box::new(Overlay::over(base))))
    }

    /// Where the identity of the person who runs this lies.
    pub fn identity_path(&self) -> Result<PathBuf, Failure> {
        identity_path(self.identity.as_deref())
    }

    /// The strongbox. A new identity is only in memory until [`Site::keep`].
    pub fn strongbox(&self) -> Result<&Strongbox, Failure> {
        if let Some(strongbox) = self.strongbox.get() {
            return Ok(strongbox);
        }
        let path = self.identity_path()?;
        let opened = Strongbox::open_or_new(&path, &|| passphrase(&path))?;
        Ok(self.strongbox.get_or_init(|| opened))
    }

    /// For whom secrets are sealed. An identity that is not written yet is written first: nothing may be sealed for one
    /// that is forgotten with this program.
    pub fn recipients(&self, state: &mut State) -> Result<Vec<String>, Failure> {
        let strongbox = self.strongbox()?;
        self.keep_strongbox()?;
        Ok(state.recipients(strongbox)?)
    }

    /// Keeps a draft that was judged. A new identity, if this run made one, is written first: nothing that
    /// was encrypted for it may be kept without it.
    pub fn keep(&self, draft: &mut State) -> Result<(), Failure> {
        self.keep_strongbox()?;
        Ok(draft.keep()?)
    }

    fn keep_strongbox(&self) -> Result<(), Failure> {
        let Some(strongbox) = self.strongbox.get() else { return Ok(()) };
        if strongbox.keep()? && !self.staged {
            view::note(&format!(
                "made your identity {}: keep a copy of it, it opens this cluster's secrets",
                self.identity_path()?.display()
            ));
        }
        Ok(())
    }

    /// How to reach the hosts of the cluster file, and those that were taken out of it.
    pub fn targets(&self, departed: &BTreeMap<HostName, Met>) -> Vec<Target> {
        let own = self.cluster.hosts.iter().map(|host| {
            let login = self.cluster.login_of(host);
            (host.name.clone(), Met { address: host.address, login })
        });
        own.chain(departed.clone())
            .map(|(name, Met { address, mut login })| {
                let own = login.ssh_config.take().map(|path| self.folder.join(path));
                let config = self.ssh_config.clone().or(own);
                // ssh takes a file that another one includes for one of ~/.ssh, unless its whole path is said.
                let config = config.map(|path| std::path::absolute(&path).unwrap_or(path));
                login.ssh_config = config.map(|path| path.to_string_lossy().into_owned());
                let site = self.cluster.host(&name).and_then(|host| host.place.site.clone());
                Target { name, address, site, login }
            })
            .collect()
    }

    /// The password for sudo on hosts that ask, where the person wants to be asked for it.
    pub fn sudo_password(&self) -> Result<Option<Secret>, Failure> {
        if !self.ask_sudo {
            return Ok(None);
        }
        if let Some(known) = self.sudo_password.get() {
            return Ok(Some(known.clone()));
        }
        let answer = asked::secret("password for sudo on the hosts: ").map_err(|error| {
            Failure::new(
                Kind::Usage,
                format!("asking for sudo's password: {error}"),
                "--ask-sudo needs a terminal; without one, give the user passwordless sudo",
            )
        })?;
        Ok(Some(self.sudo_password.get_or_init(|| answer).clone()))
    }

    /// Secrets that stand in files beside the cluster file.
    pub fn own_secrets(&self) -> Result<&OwnSecrets, Failure> {
        if let Some(known) = self.own_secrets.get() {
            return Ok(known);
        }
        let read = OwnSecrets::read(self)?;
        Ok(self.own_secrets.get_or_init(|| read))
    }

    /// The host of the file that is called so, if there is one.
    pub fn known_host(&self, name: &str) -> Option<HostName> {
        HostName::new(name).ok().filter(|name| self.cluster.host(name).is_some())
    }

    /// The host of that name, as a person wrote it.
    pub fn host_named(&self, name: &str) -> Result<HostName, Failure> {
        let known = self.known_host(name);
        known.ok_or_else(|| {
            Failure::new(
                Kind::Usage,
                format!("the cluster file has no host {name}"),
                "name a host of the cluster file",
            )
        })
    }

    /// The files of the site's own manifests, in their order.
    pub fn manifest_files(&self) -> Result<Vec<PathBuf>, Failure> {
        let Some(folder) = &self.cluster.network.manifests else { return Ok(Vec::new()) };
        let folder = self.folder.join(folder);
        let listed = fs::read_dir(&folder).map_err(|e| Failure::file("reading", &folder, &e))?;
        let mut paths: Vec<PathBuf> = listed.filter_map(|entry| Some(entry.ok()?.path())).collect();
        paths.retain(|path| {
            path.extension().is_some_and(|e| e == "yaml" || e == "yml" || e == "json")
        });
        paths.sort();
        Ok(paths)
    }

    /// The site's own manifests, in the order of their files.
    pub fn manifests(&self) -> Result<Vec<ApiObject>, Failure> {
        let mut out = Vec::new();
        let placeholders = Placeholders::of(&self.cluster);
        for path in self.manifest_files()? {
            let text =
                fs::read_to_string(&path).map_err(|e| Failure::file("reading", &path, &e))?;
            let documents: Vec<serde_json::Value> =
                serde_saphyr::from_multiple(&text).map_err(|error| {
                    Failure::new(
                        Kind::Usage,
                        format!("{} is not YAML: {error}", path.display()),
                        "fix the file; manifests are applied in the order of their names",
                    )
                })?;
            for mut document in documents.into_iter().filter(|document| !document.is_null()) {
                placeholders.fill(&mut document).map_err(|faults| {
                    let what = format!("{}: {}", path.display(), faults.join("; "));
                    Failure::new(
                        Kind::Usage,
                        what,
                        "docs/cluster-file.md lists what can stand there",
                    )
                })?;
                let object = ApiObject(document);
                if object.kind().is_empty()
                    || object.api_version().is_empty()
                    || object.name().is_empty()
                {
                    return Err(Failure::new(
                        Kind::Usage,
                        format!(
                            "{}: an object has no apiVersion, kind or metadata.name",
                            path.display()
                        ),
                        "every document of a manifest names one object",
                    ));
                }
                out.push(object);
            }
        }
        Ok(out)
    }
}

/// A file that only its owner may read, begun before there is anything to write: that it can be written is
/// sure by then.
pub struct Private {
    pub path: PathBuf,
    file: tempfile::NamedTempFile,
}

impl Private {
    /// Makes room for it beside its place.
    pub fn begin(path: &Path) -> Result<Self, Failure> {
        let failed = |error: std::io::Error| Failure::file("writing", path, &error);
        if path.is_dir() {
            return Err(failed(std::io::ErrorKind::IsADirectory.into()));
        }
        let file = zoisite_store::begin_file(path, 0o600).map_err(failed)?;
        Ok(Self { path: path.to_owned(), file })
    }

    /// Writes it, after what was written into it, in one instant.
    pub fn end(self, text: &str) -> Result<(), Failure> {
        let Self { path, mut file } = self;
        let written = std::io::Write::write_all(&mut file, text.as_bytes())
            .and_then(|()| file.as_file().sync_all())
            .and_then(|()| file.persist(&path).map(|_| ()).map_err(|error| error.error));
        written.map_err(|error| Failure::file("writing", &path, &error))
    }
}

impl std::io::Write for Private {
    fn write(&mut self, octets: &[u8]) -> std::io::Result<usize> {
        self.file.write(octets)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

/// Writes a file that only its owner may read, in one instant.
pub fn write_private(path: &Path, text: &str) -> Result<(), Failure> {
    Private::begin(path)?.end(text)
}

/// A folder that only its owner reads.
pub fn private_folder(path: &Path) -> Result<(), Failure> {
    let mut folder = fs::DirBuilder::new();
    std::os::unix::fs::DirBuilderExt::mode(folder.recursive(true), 0o700);
    folder.create(path).map_err(|error| Failure::file("making", path, &error))
}

/// Takes a store's lock for this process, or renews it: long enough for the longest silence of a run.
fn lock(records: &mut dyn Records) -> Result<(), StoreError> {
    let until = now().saturating_add(SignedDuration::from_mins(60)).unwrap_or(now());
    records.lock(&lock_holder(), now(), until)
}

/// Begins a run in the journal, in the name of who runs this program.
pub fn begin_run(state: &mut State, command: &str) -> Result<RunRecord, StoreError> {
    let who = lock_holder();
    let run = state.begin_run(command, &format!("{} on {}", who.user, who.host), now())?;
    events::tell(&json!({"run": run.generation, "is": "begun", "command": command}));
    Ok(run)
}

/// How a run ended, in the history and for a program that watches.
pub fn end_run(state: &mut State, run: RunRecord, outcome: &str) -> Result<(), StoreError> {
    events::tell(&json!({"run": run.generation, "is": "ended", "outcome": outcome}));
    state.end_run(run, outcome, now())
}

/// This process, as the holder of a lock.
fn lock_holder() -> LockHolder {
    let pid = std::process::id();
    let name = |path: &str| fs::read_to_string(path).map(|text| text.trim().to_owned());
    LockHolder {
        user: std::env::var("USER")
            .or_else(|_| std::env::var("LOGNAME"))
            .unwrap_or_else(|_| "root".into()),
        host: name("/proc/sys/kernel/hostname").unwrap_or_else(|_| "this machine".into()),
        pid,
        started: LockHolder::started(pid).unwrap_or(0),
    }
}

/// The wall clock: the one place where the program reads it.
pub fn now() -> Timestamp {
    Timestamp::now()
}
