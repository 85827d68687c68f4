//! Images as a registry holds them (OCI distribution specification, "Pushing").

use std::path::PathBuf;
use std::sync::Arc;

use super::Platform;
use crate::cluster::ImageName;
use crate::item::Pinned;
use crate::pki::sha256;

/// What a blob, a manifest or an index is called by its octets: `sha256:…` (OCI image specification, descriptor.md).
pub fn digest_of(octets: &[u8]) -> String {
    format!("sha256:{}", sha256(octets))
}

/// An image that the cluster's own registry is to hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shelved {
    /// What it is called there.
    pub name: ImageName,
    /// The archives that it comes from, by platform.
    pub archives: Vec<(Platform, Pinned)>,
    /// What is in them; `None` where they are not at hand.
    pub content: Option<Arc<ShelfContent>>,
}

impl Shelved {
    /// Whether a registry has it, by the digest that it gives for its name.
    pub fn is_there(&self, digest: Option<&str>) -> bool {
        let wanted = self.content.as_ref().and_then(|content| content.manifests.last());
        match (digest, wanted) {
            (None, _) => false,
            (Some(_), None) => true,
            (Some(digest), Some(wanted)) => digest == wanted.digest,
        }
    }
}

/// What a registry must be given of an image, the blobs first.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ShelfContent {
    /// Configurations and layers.
    pub blobs: Vec<Blob>,
    /// Manifests, one for each platform; where there are several, then the index of them. The last one has the name.
    pub manifests: Vec<Manifest>,
}

/// Octets in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Blob {
    /// `sha256:…`
    pub digest: String,
    /// The archive.
    pub archive: PathBuf,
    /// Where in it they begin.
    pub at: u64,
    /// How many they are.
    pub size: u64,
}

/// A manifest or an index.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Manifest {
    /// `sha256:…`
    pub digest: String,
    /// Its media type.
    pub media: String,
    /// Its text.
    pub text: Vec<u8>,
}
