//! All that a cluster needs, brought into the components folder and pinned.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use futures_util::StreamExt as _;
use zoisite_core::cluster::ImageSource;
use zoisite_core::components::{Lock, Needed, Published, SUMS_LIMIT, WantedImage, sum_in};
use zoisite_core::item::ComponentSums;

use crate::download::Downloads;
use crate::fault::Fault;
use crate::registry::Registries;
use crate::unpack::members;
use crate::ways::{Place, Ways};
use crate::{image, sha256_of};

/// How many things are fetched at once.
const AT_ONCE: usize = 4;
/// Folder, in the components folder, for what is on its way.
const PARTS: &str = ".fetching";

/// Progress: of what, and how far it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// It begins to come.
    Begins(String),
    /// So many octets are here, of so many where that is known.
    Has(String, u64, Option<u64>),
    /// It stood there already, as it was pinned.
    Same(String),
    /// It stood there already, and is pinned now.
    Pinned(String),
    /// It came.
    Brought(String),
    /// It did not.
    Failed(String),
}

/// What is to be fetched, where to and how.
pub struct Fetch<'a> {
    /// The components folder.
    pub folder: &'a Path,
    /// What is needed.
    pub needed: &'a Needed,
    /// How servers are reached.
    pub ways: &'a Ways,
    /// What is pinned.
    pub lock: Lock,
    /// Checksums that somebody put into the folder: what they vouch for is taken as it stands there.
    pub sums: &'a ComponentSums,
    /// Keeps the lock file, each time something is pinned.
    pub keep: &'a (dyn Fn(&Lock) -> std::io::Result<()> + Sync),
    /// Gets the progress.
    pub told: &'a (dyn Fn(Event) + Sync),
}

impl std::fmt::Debug for Fetch<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Fetch").field("folder", &self.folder).finish_non_exhaustive()
    }
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct Fetched {
    /// What is pinned now.
    pub lock: Lock,
    /// How many things stood there as they were pinned.
    pub same: usize,
    /// How many stood there and were pinned.
    pub pinned: usize,
    /// How many came.
    pub brought: usize,
    /// What could not be had, and why.
    pub faults: Vec<Fault>,
}

enum End {
    Same,
    Pinned,
    Brought,
}

struct Work<'a> {
    job: &'a Fetch<'a>,
    downloads: Downloads,
    registries: Registries,
    lock: Mutex<Lock>,
}

/// Fetches what is not there, and pins it. Nothing is put in its place before its checksum was right; what failed
/// keeps nothing else from coming.
///
/// # Errors
/// When no way can be prepared at all.
pub async fn fetch(job: Fetch<'_>) -> Result<Fetched, Fault> {
    let parts = job.folder.join(PARTS);
    let downloads =
        Downloads { client: job.ways.client()?, ways: job.ways.clone(), parts: parts.clone() };
    let registries = Registries::new(job.ways, &parts)?;
    let lock = Mutex::new(job.lock.clone());
    let work = Work { job: &job, downloads, registries, lock };
    let published = job.needed.published.iter().map(Either::File);
    let jobs = published.chain(job.needed.images.iter().map(Either::Image));
    let ends: Vec<Result<End, Fault>> = futures_util::stream::iter(jobs)
        .map(|one| work.one(one))
        .buffer_unordered(AT_ONCE)
        .collect()
        .await;
    let mut fetched = Fetched::default();
    for end in ends {
        match end {
            Ok(End::Same) => fetched.same += 1,
            Ok(End::Pinned) => fetched.pinned += 1,
            Ok(End::Brought) => fetched.brought += 1,
            Err(fault) => fetched.faults.push(fault),
        }
    }
    fetched.faults.sort_by(|a, b| a.attempted.cmp(&b.attempted));
    fetched.lock = work.lock.into_inner().unwrap_or_default();
    if fetched.faults.is_empty() {
        // Nothing is on its way any more: what earlier versions left there is of no use.
        let _ = std::fs::remove_dir_all(&parts);
    }
    Ok(fetched)
}

#[derive(Clone, Copy)]
enum Either<'a> {
    File(&'a Published),
    Image(&'a WantedImage),
}

impl Either<'_> {
    fn title(&self) -> String {
        match self {
            Self::File(one) if one.is_archive() => one.file().to_owned(),
            Self::File(one) => format!("{} {} for {}", one.file(), one.version, one.platform),
            Self::Image(one) => format!("image {} for {}", one.source, one.platform),
        }
    }

    fn places(&self) -> Vec<&str> {
        match self {
            Self::File(one) => one.gives.iter().map(|(_, place)| place.as_str()).collect(),
            Self::Image(one) => vec![&one.place],
        }
    }
}

impl Work<'_> {
    async fn one(&self, one: Either<'_>) -> Result<End, Fault> {
        let title = one.title();
        let end = match self.stands(&one).await {
            Ok(Some(end)) => Ok(end),
            Ok(None) => {
                (self.job.told)(Event::Begins(title.clone()));
                match one {
                    Either::File(file) => self.file(file, &title).await,
                    Either::Image(image) => self.image(image, &title).await,
                }
                .map(|()| End::Brought)
            }
            Err(fault) => Err(fault),
        };
        (self.job.told)(match &end {
            Ok(End::Same) => Event::Same(title),
            Ok(End::Pinned) => Event::Pinned(title),
            Ok(End::Brought) => Event::Brought(title),
            Err(_) => Event::Failed(title),
        });
        end
    }

    fn pinned<T>(&self, ask: impl FnOnce(&Lock) -> T) -> T {
        let lock = self.lock.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        ask(&lock)
    }

    fn pin(&self, change: impl FnOnce(&mut Lock)) -> Result<(), Fault> {
        let mut lock = self.lock.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        change(&mut lock);
        (self.job.keep)(&lock).map_err(|error| {
            Fault::here("writing", Path::new(zoisite_core::components::LOCK_FILE), &error)
        })
    }

    /// Whether all of it stands in its place: as it is pinned, or as the folder's own checksums vouch for.
    async fn stands(&self, one: &Either<'_>) -> Result<Option<End>, Fault> {
        let mut sums = Vec::new();
        let mut vouched = false;
        for place in one.places() {
            let pinned = self.pinned(|lock| lock.files.get(place).cloned());
            let listed = self.job.sums.all().find(|(path, _)| *path == place);
            let wanted = match (pinned, listed) {
                (Some(pinned), _) => pinned,
                (None, Some((_, listed))) => {
                    vouched = true;
                    listed.to_owned()
                }
                (None, None) => return Ok(None),
            };
            let path = self.job.folder.join(place);
            if !path.exists() {
                return Ok(None);
            }
            let found = hashed(&path).await?;
            if found != wanted && vouched {
                let answer = format!("its checksum is {found}, and SHA256SUMS there says {wanted}");
                let fix = "remove the file, or put the right one there";
                return Err(Fault::new(format!("taking {}", path.display()), answer, fix).changed());
            }
            if found != wanted {
                return Ok(None);
            }
            sums.push((place.to_owned(), found));
        }
        if let (Either::Image(image), false) = (one, vouched) {
            self.unchanged(image)?;
        }
        if !vouched {
            return Ok(Some(End::Same));
        }
        let name = match one {
            Either::Image(image) => {
                let path = self.job.folder.join(&image.place);
                let name = image::named(&path).map_err(|why| {
                    let fix = "put the right archive there; components.images takes any other";
                    Fault::new(format!("taking {}", path.display()), why, fix)
                })?;
                Some((image.source.to_string(), name))
            }
            Either::File(_) => None,
        };
        self.pin(|lock| {
            lock.files.extend(sums);
            if let Some((source, name)) = name.filter(|(source, name)| source != name) {
                lock.names.insert(source, name);
            }
        })?;
        Ok(Some(End::Pinned))
    }

    /// An archive beside the cluster file may have been changed since it was taken.
    fn unchanged(&self, image: &WantedImage) -> Result<(), Fault> {
        let ImageSource::Archive(path) = &image.source else { return Ok(()) };
        let archive = self.job.ways.folder.join(path);
        if !archive.exists() {
            return Ok(());
        }
        let into = self.part(&image.place)?;
        let taken = self.take_archive(image, &archive, &into)?;
        let _ = std::fs::remove_file(&into);
        let source = image.source.to_string();
        match self.pinned(|lock| lock.images.get(&source).cloned()) {
            Some(pinned) if pinned != taken.digest => {
                Err(changed(&format!("taking {}", archive.display()), &source))
            }
            _ => Ok(()),
        }
    }

    fn part(&self, place: &str) -> Result<PathBuf, Fault> {
        let parts = &self.downloads.parts;
        std::fs::create_dir_all(parts).map_err(|error| Fault::here("making", parts, &error))?;
        Ok(parts.join(place.replace('/', "+")))
    }

    fn take_archive(
        &self,
        image: &WantedImage,
        archive: &Path,
        into: &Path,
    ) -> Result<image::Taken, Fault> {
        image::take(archive, &image.platform, into).map_err(|why| {
            let fix = "save the image again as an OCI archive, for every architecture that your hosts have";
            Fault::new(format!("taking {} for {}", archive.display(), image.platform), why, fix)
        })
    }

    /// Puts a finished file in its place, all at once.
    async fn place(&self, part: &Path, place: &str, mode: u32) -> Result<String, Fault> {
        use std::os::unix::fs::PermissionsExt as _;
        let path = self.job.folder.join(place);
        let sum = hashed(part).await?;
        let put = || {
            std::fs::set_permissions(part, std::fs::Permissions::from_mode(mode))?;
            std::fs::File::open(part)?.sync_all()?;
            if let Some(folder) = path.parent() {
                std::fs::create_dir_all(folder)?;
            }
            std::fs::rename(part, &path)
        };
        put().map_err(|error| Fault::here("writing", &path, &error))?;
        Ok(sum)
    }

    /// The checksum that a published file must have: as it is pinned, and as its project lists it.
    async fn wanted(&self, one: &Published, place: &Place) -> Result<String, Fault> {
        let pinned = self.pinned(|lock| lock.published.get(&one.address).cloned());
        let plain = matches!(place, Place::Web(url) if url.scheme() == "http");
        let sums = self.job.ways.place(one.sums.address())?;
        let listed = match self.downloads.text(&sums, SUMS_LIMIT).await {
            // Who can change the file on its way can change the list as well.
            Ok(_) if plain => None,
            Ok(Some(text)) => Some(sum_in(&text, one.file(), &one.sums)),
            Ok(None) => None,
            // What is pinned needs no list.
            Err(_) if pinned.is_some() => None,
            Err(fault) => return Err(fault),
        };
        let attempted = || format!("checking {place}");
        match (pinned, listed) {
            (Some(pinned), Some(Ok(listed))) if pinned != listed => {
                let answer = format!("{sums} lists {listed}, and {pinned} is pinned");
                Err(Fault { answer, ..changed(&attempted(), &one.address) })
            }
            (Some(pinned), _) => Ok(pinned),
            (None, Some(listed)) => listed.map_err(|why| {
                Fault::new(format!("reading {sums}"), why, "name another mirror in [components], or pin the file where its project can be reached")
            }),
            (None, None) if plain => Err(Fault::new(
                attempted(),
                "over plain http nothing vouches for a file that is not pinned",
                "use https, or bring the components.lock of a place that has it",
            )),
            (None, None) => Err(Fault::new(
                format!("finding {sums}"),
                "it is not there: nothing says what the file must be",
                "let the mirror hold the projects' checksum files too, or bring a components.lock",
            )),
        }
    }

    async fn file(&self, one: &Published, title: &str) -> Result<(), Fault> {
        let place = self.job.ways.place(&one.address)?;
        let wanted = self.wanted(one, &place).await?;
        let told = |have, all| (self.job.told)(Event::Has(title.to_owned(), have, all));
        let part = self.downloads.file(&place, &wanted, &told).await?;
        let mut files = Vec::new();
        if one.is_archive() {
            let names: Vec<&str> = one.gives.iter().map(|(member, _)| member.as_str()).collect();
            let mut taken = Vec::new();
            let take = |name: &str, from: &mut dyn Read| {
                let place =
                    one.gives.iter().find(|(member, _)| member == name).map(|(_, place)| place);
                let place = place.map_or("", String::as_str);
                let into = self.part(place).map_err(|fault| fault.answer)?;
                let words = |error: std::io::Error| format!("writing {}: {error}", into.display());
                let mut file = std::fs::File::create(&into).map_err(words)?;
                std::io::copy(from, &mut file).map_err(words)?;
                taken.push((into, place.to_owned()));
                Ok(())
            };
            let unpacked = members(&part, &names, take);
            if let Err(why) = unpacked {
                taken.iter().for_each(|(into, _)| drop(std::fs::remove_file(into)));
                let fix =
                    "nothing of it was put in place; name another mirror, or find out what it is";
                return Err(Fault::new(format!("unpacking {place}"), why, fix));
            }
            for (into, place) in taken {
                files.push((place.clone(), self.place(&into, &place, 0o755).await?));
            }
            let _ = std::fs::remove_file(&part);
        } else {
            for (_, place) in &one.gives {
                files.push((place.clone(), self.place(&part, place, 0o755).await?));
            }
        }
        self.pin(|lock| {
            lock.published.insert(one.address.clone(), wanted);
            lock.files.extend(files);
        })
    }

    async fn image(&self, one: &WantedImage, title: &str) -> Result<(), Fault> {
        let source = one.source.to_string();
        let pinned = self.pinned(|lock| lock.images.get(&source).cloned());
        let into = self.part(&one.place)?;
        let (name, digest) = match &one.source {
            ImageSource::Named(name) => {
                let told = |have, all| (self.job.told)(Event::Has(title.to_owned(), have, all));
                let wanted = (&one.platform, pinned.as_deref());
                let digest = self.registries.bring(name, wanted, &into, &told).await?;
                (name.to_string(), digest)
            }
            ImageSource::Archive(path) => {
                let archive = self.job.ways.folder.join(path);
                let taken = self.take_archive(one, &archive, &into)?;
                if pinned.is_some_and(|pinned| pinned != taken.digest) {
                    let _ = std::fs::remove_file(&into);
                    return Err(changed(&format!("taking {}", archive.display()), &source));
                }
                (taken.name.to_string(), taken.digest)
            }
        };
        let known = self.pinned(|lock| lock.files.get(&one.place).cloned());
        if let Some(known) = known {
            let found = hashed(&into).await?;
            if found != known {
                let answer = format!("its archive is {found}, and {known} is pinned");
                return Err(Fault { answer, ..changed(&format!("taking {source}"), &source) });
            }
        }
        let sum = self.place(&into, &one.place, 0o644).await?;
        self.pin(|lock| {
            lock.images.insert(source.clone(), digest);
            if source != name {
                lock.names.insert(source, name);
            }
            lock.files.insert(one.place.clone(), sum);
        })
    }
}

fn changed(attempted: &str, of: &str) -> Fault {
    let fix =
        format!("find out who changed it; if it is meant, zoisite components fetch --repin '{of}'");
    Fault::new(attempted, "it is not what is pinned", fix).changed()
}

async fn hashed(path: &Path) -> Result<String, Fault> {
    let owned = path.to_owned();
    let found = tokio::task::spawn_blocking(move || sha256_of(&owned)).await;
    let found = found.unwrap_or_else(|error| Err(std::io::Error::other(error)));
    found.map_err(|error| Fault::here("reading", path, &error))
}
