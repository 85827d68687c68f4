//! Images from registries (OCI distribution specification), blob by blob, continued where a cut left them.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::Duration;

use oci_client::client::{
    BlobResponse, Certificate, CertificateEncoding, ClientConfig, ClientProtocol,
};
use oci_client::errors::OciDistributionError;
use oci_client::manifest::OciDescriptor;
use oci_client::secrets::RegistryAuth;
use oci_client::{Client, Reference};
use serde_json::Value;
use zoisite_core::cluster::ImageName;
use zoisite_core::components::{Platform, digest_of};

use crate::download::{Broken, OnProgress, TRIES, pause, pour};
use crate::fault::Fault;
use crate::image::{self, Blobs, choose, is_index, sum_of};
use crate::ways::{Ways, words};

const ACCEPTED: &[&str] = &[
    "application/vnd.oci.image.index.v1+json",
    "application/vnd.oci.image.manifest.v1+json",
    "application/vnd.docker.distribution.manifest.list.v2+json",
    "application/vnd.docker.distribution.manifest.v2+json",
];

/// Registries, as they are reached.
pub(crate) struct Registries {
    client: Client,
    /// The mirror has no certificate.
    plain: bool,
    ways: Ways,
    parts: PathBuf,
}

/// A blob that is on this disk.
struct Parts<'a>(&'a BTreeMap<String, PathBuf>);

impl Blobs for Parts<'_> {
    fn open(&mut self, digest: &str) -> Result<Box<dyn Read + '_>, String> {
        let path = self.0.get(digest).ok_or_else(|| format!("{digest} is missing"))?;
        Ok(Box::new(File::open(path).map_err(|error| error.to_string())?))
    }
}

impl Registries {
    pub(crate) fn new(ways: &Ways, parts: &Path) -> Result<Self, Fault> {
        let plain = ways.images_mirror.as_deref().filter(|mirror| mirror.starts_with("http://"));
        let plain: Vec<String> =
            plain.map(|mirror| host_of(bare(mirror)).to_owned()).into_iter().collect();
        let authority = ways.authority.iter().map(|pem| Certificate {
            encoding: CertificateEncoding::Pem,
            data: pem.clone().into_bytes(),
        });
        let config = ClientConfig {
            protocol: ClientProtocol::HttpsExcept(plain.clone()),
            extra_root_certificates: authority.collect(),
            https_proxy: ways.registry_proxy(),
            http_proxy: ways.registry_proxy(),
            read_timeout: Some(Duration::from_secs(60)),
            connect_timeout: Some(Duration::from_secs(20)),
            user_agent: concat!("zoisite/", env!("CARGO_PKG_VERSION")),
            ..ClientConfig::default()
        };
        let client = Client::try_from(config).map_err(|error| {
            Fault::new(
                "preparing to fetch images",
                said(&error),
                "fix [components] in the cluster file",
            )
        })?;
        Ok(Self { client, plain: !plain.is_empty(), ways: ways.clone(), parts: parts.to_owned() })
    }

    /// An image where it is looked for: in its own registry, or below its name in a mirror.
    fn reference(
        &self,
        name: &ImageName,
        digest: Option<&str>,
    ) -> Result<(Reference, String), String> {
        let place = match &self.ways.images_mirror {
            Some(mirror) => format!(
                "{}/{}/{}",
                bare(mirror).trim_end_matches('/'),
                name.registry,
                name.repository
            ),
            None => format!("{}/{}", name.registry, name.repository),
        };
        let tail = match (digest.or(name.digest.as_deref()), &name.tag) {
            (Some(digest), _) => format!("@{digest}"),
            (None, Some(tag)) => format!(":{tag}"),
            (None, None) => String::new(),
        };
        let reference: Reference =
            format!("{place}{tail}").parse().map_err(|error| format!("{error}"))?;
        Ok((reference, host_of(&place).to_owned()))
    }

    fn auth(&self, host: &str) -> RegistryAuth {
        let host = host.rsplit_once(':').map_or(host, |(host, _)| host);
        match self.ways.credentials.of(host) {
            Some((login, password)) => {
                RegistryAuth::Basic(login.to_owned(), password.expose().to_owned())
            }
            None => RegistryAuth::Anonymous,
        }
    }

    async fn manifest(
        &self,
        reference: &Reference,
        auth: &RegistryAuth,
    ) -> Result<(String, Vec<u8>, Value), String> {
        let mut tries = 0;
        let octets = loop {
            tries += 1;
            match self.client.pull_manifest_raw(reference, auth, ACCEPTED).await {
                Ok((octets, _)) => break octets.to_vec(),
                Err(error) if tries < TRIES && passing(&error) => pause(tries).await,
                Err(error) => return Err(said(&error)),
            }
        };
        let digest = reference.digest().map_or_else(|| digest_of(&octets), str::to_owned);
        let (octets, value) = image::parsed(&digest, octets)?;
        Ok((digest, octets, value))
    }

    /// Brings an image of one platform into an archive. Returns the digest that its name stands for.
    pub(crate) async fn bring(
        &self,
        name: &ImageName,
        (platform, pinned): (&Platform, Option<&str>),
        into: &Path,
        on_progress: OnProgress<'_>,
    ) -> Result<String, Fault> {
        let (reference, host) = self.reference(name, pinned).map_err(|why| {
            Fault::new(
                format!("fetching the image {name}"),
                why,
                "fix its name in the cluster file",
            )
        })?;
        let failed = |why: String| {
            let fix = "fix it, or name another mirror in components.images-mirror; what came is kept, and the same command goes on";
            Fault::new(format!("fetching the image {reference} for {platform}"), why, fix)
        };
        let auth = self.auth(&host);
        if self.plain && (pinned.is_none() && name.digest.is_none()) {
            return Err(failed(
                "over plain http nothing vouches for an image that is not pinned".into(),
            ));
        }
        if self.plain && auth != RegistryAuth::Anonymous {
            return Err(failed("no password is sent over plain http".into()));
        }
        let (outer, mut octets, mut value) =
            self.manifest(&reference, &auth).await.map_err(failed)?;
        let mut digest = outer.clone();
        if is_index(&value) {
            digest = choose(&value, platform).map_err(failed)?;
            let inner = reference.clone_with_digest(digest.clone());
            (_, octets, value) = self.manifest(&inner, &auth).await.map_err(failed)?;
        }
        let layers = value["layers"].as_array().map_or(&[][..], Vec::as_slice);
        let objects: Vec<&Value> = std::iter::once(&value["config"]).chain(layers).collect();
        let all: u64 = objects.iter().filter_map(|object| object["size"].as_u64()).sum();
        // Images that come at the same time may share layers: each has a folder of its own for its parts.
        let folder = self.parts.join(format!("image-{}", sum_of(&digest).map_err(failed)?));
        let mut blobs = BTreeMap::new();
        let mut before = 0;
        for object in objects {
            let size = object["size"].as_u64().unwrap_or_default();
            let blob_digest = object["digest"].as_str().unwrap_or_default();
            let path = self
                .blob(&reference, (blob_digest, size), &folder, &|have| {
                    on_progress(before + have, Some(all));
                })
                .await
                .map_err(failed)?;
            blobs.insert(blob_digest.to_owned(), path);
            before += size;
        }
        let mut parts = Parts(&blobs);
        image::fits(&mut parts, &value, platform).map_err(failed)?;
        image::write(into, name, platform, (&digest, &octets, &value), &mut parts)
            .map_err(failed)?;
        let _ = std::fs::remove_dir_all(&folder);
        Ok(outer)
    }

    async fn blob(
        &self,
        reference: &Reference,
        (digest, size): (&str, u64),
        parts: &Path,
        on_progress: &(dyn Fn(u64) + Send + Sync),
    ) -> Result<PathBuf, String> {
        std::fs::create_dir_all(parts).map_err(|error| error.to_string())?;
        let part = parts.join(sum_of(digest)?);
        let descriptor = OciDescriptor {
            digest: digest.to_owned(),
            size: i64::try_from(size).unwrap_or(i64::MAX),
            ..OciDescriptor::default()
        };
        let mut tries = 0;
        loop {
            tries += 1;
            let before = std::fs::metadata(&part).map_or(0, |facts| facts.len());
            if before >= size {
                let found = crate::sha256_of(&part).map_err(|error| error.to_string())?;
                if Some(found.as_str()) == digest.strip_prefix("sha256:") {
                    return Ok(part);
                }
                std::fs::remove_file(&part).map_err(|error| error.to_string())?;
                if tries > 2 {
                    return Err(format!("a layer of it is sha256:{found}, not {digest}"));
                }
                continue;
            }
            match self.try_blob(reference, &descriptor, &part, before, on_progress).await {
                Ok(()) => {}
                Err((true, why)) if tries < TRIES => {
                    let now = std::fs::metadata(&part).map_or(0, |facts| facts.len());
                    if now > before {
                        tries = 0;
                    }
                    let _ = why;
                    pause(tries + 1).await;
                }
                Err((_, why)) => return Err(why),
            }
            if tries >= TRIES {
                return Err("the connection breaks off again and again".into());
            }
        }
    }

    /// One try; with its error, whether the same again may help.
    async fn try_blob(
        &self,
        reference: &Reference,
        descriptor: &OciDescriptor,
        part: &Path,
        before: u64,
        on_progress: &(dyn Fn(u64) + Send + Sync),
    ) -> Result<(), (bool, String)> {
        let pulled = match before {
            0 => self.client.pull_blob_stream(reference, descriptor).await.map(BlobResponse::Full),
            _ => self.client.pull_blob_stream_partial(reference, descriptor, before, None).await,
        };
        let (have, stream) = match pulled {
            Ok(BlobResponse::Full(stream)) => (0, stream.stream),
            Ok(BlobResponse::Partial(stream)) => (before, stream.stream),
            Err(error) => return Err((passing(&error), said(&error))),
        };
        match pour(stream, part, have, on_progress).await {
            Ok(_) => Ok(()),
            Err(Broken::Passing(why)) => Err((true, why)),
            Err(Broken::Lasting(why)) => Err((false, why)),
            Err(Broken::Here(error)) => {
                Err((false, format!("writing {}: {error}", part.display())))
            }
        }
    }
}

fn bare(mirror: &str) -> &str {
    mirror.split_once("://").map_or(mirror, |(_, bare)| bare)
}

fn host_of(place: &str) -> &str {
    place.split('/').next().unwrap_or_default()
}

fn passing(error: &OciDistributionError) -> bool {
    match error {
        OciDistributionError::RequestError(error) => {
            !(error.is_redirect() || words(error).contains("certificate"))
        }
        OciDistributionError::ServerError { code, .. } => *code >= 500 || *code == 429,
        OciDistributionError::IoError(_) => true,
        _ => false,
    }
}

fn said(error: &OciDistributionError) -> String {
    match error {
        OciDistributionError::ImageManifestNotFoundError(_) => {
            "the registry has no such image".into()
        }
        OciDistributionError::UnauthorizedError { .. }
        | OciDistributionError::AuthenticationFailure(_) => {
            format!(
                "{}: components.credentials names a file with names and passwords",
                words(error)
            )
        }
        OciDistributionError::RegistryError { envelope, .. } => {
            zoisite_core::text::plain(&envelope.to_string()).into_owned()
        }
        OciDistributionError::ServerError { code: 404, .. } => {
            "the registry has no such image".into()
        }
        OciDistributionError::ServerError { code, message, .. } => {
            format!("HTTP {code} {}", zoisite_core::text::plain(message)).trim().to_owned()
        }
        other => words(other),
    }
}
