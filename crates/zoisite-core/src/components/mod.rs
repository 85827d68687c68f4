//! The pinned files that a cluster needs: which they are, where their projects publish them, and the lock file
//! that says what each of them is.

mod lock;
mod published;
mod shelf;

use std::collections::{BTreeMap, BTreeSet};

pub use lock::{LOCK_FILE, Lock, LockError};
pub use published::{Published, SUMS_LIMIT, Sums, WEB, sum_in};
pub use shelf::{Blob, Manifest, ShelfContent, Shelved, digest_of};

use serde_json::Value;

use crate::cluster::{Cluster, ImageName, ImageSource};
use crate::item::Pinned;

/// An operating system and an architecture, in Go's words.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Platform {
    /// `linux`, `windows` or `darwin`.
    pub os: String,
    /// `amd64` or `arm64`.
    pub arch: String,
}

impl Platform {
    /// Architectures that components are published for.
    pub const ARCHES: [&str; 2] = ["amd64", "arm64"];

    /// What the other kind of hosts runs, as Go calls it.
    pub const WINDOWS: &str = "windows";

    /// Of a host.
    pub fn host(arch: &str) -> Self {
        Self { os: "linux".into(), arch: arch.into() }
    }

    /// Of a host that runs Windows: the platform has it for one architecture.
    pub fn windows() -> Self {
        Self { os: Self::WINDOWS.into(), arch: "amd64".into() }
    }

    /// From the words of Rust's `std::env::consts`.
    pub fn named(os: &str, arch: &str) -> Self {
        let os = if os == "macos" { "darwin" } else { os };
        let arch = match arch {
            "x86_64" => "amd64",
            "aarch64" => "arm64",
            other => other,
        };
        Self { os: os.into(), arch: arch.into() }
    }
}

impl std::fmt::Display for Platform {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}-{}", self.os, self.arch)
    }
}

/// An image for hosts of an architecture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WantedImage {
    /// Where it comes from.
    pub source: ImageSource,
    /// For which hosts.
    pub platform: Platform,
    /// Its place below the components folder.
    pub place: String,
}

/// All that is to be in the components folder.
#[derive(Clone, Debug, Default)]
pub struct Needed {
    /// What projects publish as files.
    pub published: Vec<Published>,
    /// Images.
    pub images: Vec<WantedImage>,
}

impl Needed {
    /// The places of all of it below the components folder.
    pub fn places(&self) -> impl Iterator<Item = &str> {
        let files =
            self.published.iter().flat_map(|one| &one.gives).map(|(_, place)| place.as_str());
        files.chain(self.images.iter().map(|image| image.place.as_str()))
    }
}

/// What a cluster needs for hosts of these architectures, and the person's own computer: the client for it.
pub fn needed(
    cluster: &Cluster,
    images: &[ImageSource],
    arches: &BTreeSet<String>,
    own: &Platform,
) -> Needed {
    let mut published = Vec::new();
    let of = |component: &'static str, version: &dyn std::fmt::Display, platform: &Platform| {
        published::of(component, &version.to_string(), platform, &cluster.components.sources)
    };
    let components = &cluster.components;
    let windows = cluster.windows().next().map(|_| Platform::windows());
    for platform in arches.iter().map(|arch| Platform::host(arch)).chain(windows) {
        published.extend(of("etcd", &cluster.etcd_version, &platform));
        published.extend(of("kubernetes", &cluster.kubernetes, &platform));
        if cluster.registry.host.is_some() {
            published.extend(of("registry", &components.registry, &platform));
        }
        for (component, version) in [
            ("runtime", &components.runtime),
            ("runc", &components.runc),
            ("network-plugins", &components.network_plugins),
        ] {
            published.extend(version.iter().flat_map(|version| of(component, version, &platform)));
        }
    }
    // What hosts of this computer's own kind get has the client among it.
    if own.os != "linux" || !arches.contains(&own.arch) {
        published.extend(of("client", &cluster.kubernetes, own));
    }
    let sources: BTreeSet<&ImageSource> = images.iter().collect();
    let images = sources.into_iter().flat_map(|source| {
        arches.iter().map(|arch| WantedImage {
            source: source.clone(),
            platform: Platform::host(arch),
            place: image_pinned(source).path(arch),
        })
    });
    Needed { published, images: images.collect() }
}

/// All that may be pinned for a cluster: for every architecture, and every computer of a person.
pub fn pinnable(cluster: &Cluster, images: &[ImageSource]) -> Needed {
    let arches = Platform::ARCHES.iter().map(|arch| (*arch).to_owned()).collect();
    let mut all = Needed::default();
    for os in ["linux", "darwin"] {
        for arch in Platform::ARCHES {
            let own = Platform { os: os.into(), arch: arch.into() };
            let one = needed(cluster, images, &arches, &own);
            all.published.extend(one.published);
            all.images = one.images;
        }
    }
    all
}

/// The images that every node holds: what the cluster itself needs, what the file lists, and what the site's own
/// manifests name, if it says so.
pub fn node_images<'a>(
    cluster: &Cluster,
    manifests: impl IntoIterator<Item = &'a Value>,
) -> Vec<ImageSource> {
    let components = &cluster.components;
    let mut all = vec![components.sandbox.clone(), components.dns_image.clone()];
    all.extend(components.images.iter().cloned());
    if components.images_of_manifests {
        let named = images_named(manifests).into_iter();
        all.extend(
            named.filter_map(|(_, name)| ImageName::new(&name).ok()).map(ImageSource::Named),
        );
    }
    let mut seen = BTreeSet::new();
    all.retain(|source| seen.insert(source.clone()));
    all
}

/// The images that manifests name, each with the title of the object that does: of every container of every pod
/// that they make (`containers`, `initContainers`, `ephemeralContainers`), however deep it stands.
pub fn images_named<'a>(manifests: impl IntoIterator<Item = &'a Value>) -> Vec<(String, String)> {
    fn walk(value: &Value, title: &str, out: &mut Vec<(String, String)>) {
        match value {
            Value::Array(all) => all.iter().for_each(|one| walk(one, title, out)),
            Value::Object(fields) => {
                for (key, inner) in fields {
                    if matches!(
                        key.as_str(),
                        "containers" | "initContainers" | "ephemeralContainers"
                    ) {
                        let images = inner.as_array().into_iter().flatten();
                        let images = images.filter_map(|one| one["image"].as_str());
                        out.extend(images.map(|image| (title.to_owned(), image.to_owned())));
                    }
                    walk(inner, title, out);
                }
            }
            _ => {}
        }
    }
    let mut out = Vec::new();
    for object in manifests {
        let word =
            |pointer: &str| object.pointer(pointer).and_then(Value::as_str).unwrap_or_default();
        let title = format!("{} {}", word("/kind"), word("/metadata/name"));
        walk(object, &title, &mut out);
    }
    out
}

/// An image in the components folder, under what the cluster file says of it.
pub fn image_pinned(source: &ImageSource) -> Pinned {
    Pinned { name: Pinned::IMAGES, version: source.to_string(), file: "image.tar" }
}

/// What images are called inside the cluster, by what the cluster file says of them.
pub type ImageNames = BTreeMap<String, String>;

/// The images that every node holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NodeImages {
    /// Where they come from.
    pub sources: Vec<ImageSource>,
    /// What they are called inside the cluster, where that is known.
    pub names: ImageNames,
}

impl NodeImages {
    /// What an image is called inside the cluster: as its archive names it, or as a registry does.
    pub fn name_of(&self, source: &ImageSource) -> String {
        let source = source.to_string();
        self.names.get(&source).cloned().unwrap_or(source)
    }
}
