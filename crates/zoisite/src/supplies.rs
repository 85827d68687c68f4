//! The pinned components of a site: its lock file, its components folder, and the ways to what is missing.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use zoisite_core::cluster::{ImageName, ImageSource};
use zoisite_core::components::{
    LOCK_FILE, Lock, Needed, NodeImages, Platform, Shelved, image_pinned, needed, node_images,
};
use zoisite_core::holdings::ApiObject;
use zoisite_core::item::ComponentSums;
use zoisite_core::sequence::{Looks, Sequence, Work};
use zoisite_core::snapshot::SNAPSHOT;
use zoisite_supply::{Fault, Ways};

use crate::failure::{Failure, Kind};
use crate::site::Site;
use crate::view;

const SUMS: &str = "SHA256SUMS";
/// What a person does about files that are not there.
const FETCH: &str = "zoisite components fetch brings and pins what is missing";

impl Site {
    /// Folder of the pinned files.
    pub fn components_folder(&self) -> PathBuf {
        self.folder.join(&self.cluster.components.from)
    }

    /// The lock file.
    pub fn lock_file(&self) -> PathBuf {
        self.folder.join(LOCK_FILE)
    }

    /// What is pinned, if anything is.
    pub fn lock(&self) -> Result<Option<Lock>, Failure> {
        let path = self.lock_file();
        match fs::read_to_string(&path) {
            Ok(text) => Lock::read(&text).map(Some).map_err(|error| {
                let fix =
                    "bring it back from your version control; zoisite components fetch wrote it";
                Failure::new(Kind::Usage, error.to_string(), fix)
            }),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(Failure::file("reading", &path, &error)),
        }
    }

    /// The checksums that somebody put into the components folder, if anybody did.
    pub fn folder_sums(&self) -> Result<Option<ComponentSums>, Failure> {
        let path = self.components_folder().join(SUMS);
        match fs::read_to_string(&path) {
            Ok(text) => ComponentSums::read(&text).map(Some).map_err(|error| {
                Failure::new(Kind::Usage, error.to_string(), "make it with sha256sum")
            }),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(Failure::file("reading", &path, &error)),
        }
    }

    /// The checksums of the pinned files, to look ahead with: where nothing is pinned nothing is known of them.
    pub fn sums_if_any(&self) -> Result<ComponentSums, Failure> {
        match (self.lock()?, self.folder_sums()?) {
            (None, None) => Ok(ComponentSums::unknown()),
            (None, Some(sums)) => Ok(sums),
            (Some(lock), sums) => {
                self.agree(&lock, sums.as_ref())?;
                let mut both = sums.unwrap_or_default();
                for (path, sum) in &lock.files {
                    both.insert(path.clone(), sum.clone());
                }
                Ok(both)
            }
        }
    }

    /// The checksums of the pinned files.
    pub fn sums(&self) -> Result<ComponentSums, Failure> {
        let sums = self.sums_if_any()?;
        match sums.are_known() {
            true => Ok(sums),
            false => Err(Failure::new(
                Kind::Usage,
                format!("no components are pinned: there is no {}", self.lock_file().display()),
                FETCH,
            )),
        }
    }

    /// Two lists of the same files that contradict each other stop everything.
    fn agree(&self, lock: &Lock, sums: Option<&ComponentSums>) -> Result<(), Failure> {
        let differs =
            |(path, sum): &(&str, &str)| lock.files.get(*path).is_some_and(|own| own != sum);
        let Some((path, sum)) = sums.and_then(|sums| sums.all().find(differs)) else {
            return Ok(());
        };
        let pinned = lock.files.get(path).map_or("", String::as_str);
        let folder = self.components_folder();
        Err(Failure::new(
            Kind::Usage,
            format!("{path} is pinned as {pinned}, and {} says {sum}", folder.join(SUMS).display()),
            "find out who changed it; a folder that zoisite components fetch filled needs no SHA256SUMS",
        ))
    }

    /// The images that every node holds, with what they are called inside the cluster.
    pub fn node_images(&self, manifests: &[ApiObject]) -> Result<NodeImages, Failure> {
        let sources = node_images(&self.cluster, manifests.iter().map(|object| &object.0));
        let lock = self.lock()?.unwrap_or_default();
        let mut names = BTreeMap::new();
        for source in &sources {
            let named = match lock.names.get(&source.to_string()) {
                Some(name) => Some(name.clone()),
                None => self.name_in_folder(source, &lock)?,
            };
            match (named, source) {
                (Some(name), _) => {
                    names.insert(source.to_string(), name);
                }
                (None, ImageSource::Archive(path)) => {
                    let what = format!(
                        "the archive {path} was not taken yet: what its image is called is not known"
                    );
                    return Err(Failure::new(Kind::Usage, what, FETCH));
                }
                (None, ImageSource::Named(_)) => {}
            }
        }
        Ok(NodeImages { sources, names })
    }

    /// The images that the cluster's own registry is to hold: those that nodes hold. What cannot be read in the
    /// components folder now is reported when it is to be brought.
    pub fn shelf(&self, images: &NodeImages) -> Vec<Shelved> {
        let registry = &self.cluster.registry;
        if registry.host.is_none() || registry.read_only {
            return Vec::new();
        }
        let one = |source: &ImageSource| {
            let name = ImageName::new(&images.name_of(source)).ok()?;
            let pinned = image_pinned(source);
            let folder = self.components_folder();
            let there =
                Platform::ARCHES.map(|arch| (Platform::host(arch), folder.join(pinned.path(arch))));
            let there: Vec<_> = there.into_iter().filter(|(_, path)| path.exists()).collect();
            let content = zoisite_supply::shelve(&there).ok().filter(|_| !there.is_empty());
            Some(Shelved {
                name: registry.keeps(&name),
                archives: there.into_iter().map(|(of, _)| (of, pinned.clone())).collect(),
                content: content.map(Arc::new),
            })
        };
        images.sources.iter().filter_map(one).collect()
    }

    /// What an archive in the components folder calls its image, where nothing is pinned of it.
    fn name_in_folder(&self, source: &ImageSource, lock: &Lock) -> Result<Option<String>, Failure> {
        let pinned = image_pinned(source);
        for arch in Platform::ARCHES {
            let place = pinned.path(arch);
            let path = self.components_folder().join(&place);
            if lock.files.contains_key(&place) || !path.exists() {
                continue;
            }
            let name = zoisite_supply::image_name(&path).map_err(|why| {
                Failure::new(Kind::Usage, format!("{}: {why}", path.display()), FETCH)
            })?;
            return Ok(Some(name));
        }
        Ok(None)
    }

    /// Holds all that a sequence brings to hosts against its pins, before a host is touched. Returns the checksums
    /// that were found, by path.
    pub fn vouched(
        &self,
        sequence: &Sequence,
        looks: &Looks,
        sums: &ComponentSums,
    ) -> Result<HashMap<PathBuf, String>, Failure> {
        let mut found: HashMap<PathBuf, String> = HashMap::new();
        let mut wrong = BTreeMap::new();
        for step in &sequence.steps {
            let brought: Vec<(String, &str)> = match &step.work {
                Work::Upload { host, components } => {
                    let Some(Ok(observed)) = looks.get(host) else { continue };
                    // A snapshot is no file of that folder: it is opened and checked for the run.
                    let all = components.iter().filter(|(one, _)| one.pinned.name != SNAPSHOT);
                    all.map(|(one, sum)| (one.pinned.path(&observed.arch), sum.as_str())).collect()
                }
                Work::Fill { images, .. } => images
                    .iter()
                    .flat_map(|image| &image.archives)
                    .map(|(platform, pinned)| {
                        let sum = sums.sha256(pinned, &platform.arch).unwrap_or("nothing");
                        (pinned.path(&platform.arch), sum)
                    })
                    .collect(),
                _ => continue,
            };
            for (place, pinned) in brought {
                let path = self.components_folder().join(place);
                let sum = match found.get(&path) {
                    Some(sum) => sum.clone(),
                    None => match zoisite_supply::sha256_of(&path) {
                        Ok(sum) => found.entry(path.clone()).or_insert(sum).clone(),
                        Err(error) => {
                            wrong.insert(path, error.to_string());
                            continue;
                        }
                    },
                };
                if sum != pinned {
                    let why = format!(
                        "its checksum is {sum}, and {pinned} is pinned: it is another file, or damaged"
                    );
                    wrong.insert(path, why);
                }
            }
        }
        let faults = wrong.into_iter().map(|(path, why)| {
            let what = format!("{} cannot be brought to hosts: {why}", path.display());
            let fix =
                "no host was touched: put the right file there, or run zoisite components fetch";
            Failure::new(Kind::Run, what, fix)
        });
        match faults.reduce(Failure::and) {
            Some(failure) => Err(failure),
            None => Ok(found),
        }
    }

    /// The architectures of the hosts, as far as they were met; and this computer's own where none was.
    pub fn arches(&self) -> Result<(BTreeSet<String>, bool), Failure> {
        let facts = match self.existing_state()? {
            Some(state) => state.facts()?,
            None => BTreeMap::new(),
        };
        let own = |host: &zoisite_core::cluster::HostName| self.cluster.host(host).is_some();
        let known: BTreeSet<String> = facts
            .into_iter()
            .filter(|(host, facts)| own(host) && !facts.arch.is_empty())
            .map(|(_, facts)| facts.arch)
            .collect();
        Ok(match known.is_empty() {
            true => (BTreeSet::from([here().arch]), false),
            false => (known, true),
        })
    }

    /// All that the cluster needs for hosts of these architectures.
    pub fn needed(&self, arches: &BTreeSet<String>) -> Result<(Needed, Vec<ImageSource>), Failure> {
        let manifests = self.manifests()?;
        let images = node_images(&self.cluster, manifests.iter().map(|object| &object.0));
        Ok((needed(&self.cluster, &images, arches, &here()), images))
    }

    /// How servers with components are reached.
    pub fn ways(&self) -> Result<Ways, Failure> {
        let components = &self.cluster.components;
        let authority = components.authority.as_ref().map(|path| {
            let path = self.folder.join(path);
            fs::read_to_string(&path).map_err(|error| Failure::file("reading", &path, &error))
        });
        let credentials = components
            .credentials
            .as_ref()
            .map(|path| Ways::credentials_of(&self.folder.join(path)).map_err(Failure::from));
        Ok(Ways {
            mirror: components.mirror.clone(),
            images_mirror: components.images_mirror.clone(),
            authority: authority.transpose()?,
            proxy: components.proxy.clone(),
            credentials: credentials.transpose()?.unwrap_or_default(),
            folder: self.folder.clone(),
        })
    }
}

/// This computer.
pub fn here() -> Platform {
    Platform::named(std::env::consts::OS, std::env::consts::ARCH)
}

/// Writes a file all at once.
pub fn write_whole(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    let mut file = zoisite_store::begin_file(path, 0o644)?;
    file.write_all(text.as_bytes())?;
    file.as_file().sync_all()?;
    file.persist(path).map(|_| ()).map_err(|error| error.error)
}

impl From<Fault> for Failure {
    fn from(fault: Fault) -> Self {
        let kind = if fault.changed { Kind::Refused } else { Kind::Run };
        let what = format!("{} failed", fault.attempted);
        Self::new(kind, what, fault.fix).note("came back", fault.answer)
    }
}

/// Where there is no components folder: what would be brought from where.
pub fn tell_components(site: &Site, sums: &ComponentSums, sequence: &Sequence) {
    if sums.are_known() {
        return;
    }
    let mut files: BTreeMap<(&str, &str), BTreeSet<&str>> = BTreeMap::new();
    for step in &sequence.steps {
        let Work::Upload { components, .. } = &step.work else { continue };
        for (component, _) in components {
            let pinned = &component.pinned;
            let known = files.entry((pinned.name, &pinned.version)).or_default();
            known.insert(pinned.file);
        }
    }
    let folder = site.components_folder();
    let all: Vec<String> = files
        .iter()
        .map(|((name, version), files)| {
            let files: Vec<&str> = files.iter().copied().collect();
            format!("{name}/{version} ({})", files.join(", "))
        })
        .collect();
    let what = match all.is_empty() {
        true => "nothing would be brought from it".to_owned(),
        false => format!("from it would be brought: {}", all.join("; ")),
    };
    view::note(&format!("there is no {} yet; {what}", folder.join("SHA256SUMS").display()));
}
