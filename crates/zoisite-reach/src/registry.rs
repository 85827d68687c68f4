//! The cluster's own registry, through the connection to its host (OCI distribution specification 1.1).

use std::collections::BTreeSet;
use std::time::Duration;

use http::header::{ACCEPT, AUTHORIZATION, CONTENT_TYPE, LOCATION};
use http::{Method, Request, Response, StatusCode};
use kube::client::Body;
use tokio::io::{AsyncReadExt as _, AsyncSeekExt as _};
use zoisite_core::cluster::ImageName;
use zoisite_core::components::{Blob, Manifest, Shelved};
use zoisite_core::pki::Secret;
use zoisite_core::text::plain;

use crate::reach::Progress;

/// What a manifest may be: of one image or of several, in the form of the OCI or in the one before it.
const MANIFESTS: &str = "application/vnd.oci.image.index.v1+json, \
    application/vnd.oci.image.manifest.v1+json, \
    application/vnd.docker.distribution.manifest.list.v2+json, \
    application/vnd.docker.distribution.manifest.v2+json";
const DIGEST: &str = "docker-content-digest";
/// So many octets go in one request.
const PIECE: usize = 4 << 20;
/// Deadline of one request; a piece may cross a slow link.
const REQUEST: Duration = Duration::from_secs(300);

/// A client of a registry.
#[derive(Clone)]
pub struct Registry {
    client: kube::Client,
    /// Name and password as basic authentication has them (RFC 7617).
    login: Option<Secret>,
}

impl std::fmt::Debug for Registry {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Registry").finish_non_exhaustive()
    }
}

impl Registry {
    pub(crate) fn new(client: kube::Client, login: Option<Secret>) -> Self {
        Self { client, login }
    }

    async fn send(
        &self,
        method: Method,
        path: &str,
        headers: &[(http::HeaderName, &str)],
        body: Vec<u8>,
    ) -> Result<Response<Body>, String> {
        let mut request = Request::builder().method(method).uri(path);
        for (name, value) in headers {
            request = request.header(name, *value);
        }
        if let Some(login) = &self.login {
            request = request.header(AUTHORIZATION, format!("Basic {}", login.expose()));
        }
        let request = request.body(Body::from(body)).map_err(|e| e.to_string())?;
        match tokio::time::timeout(REQUEST, self.client.send(request)).await {
            Ok(answer) => answer.map_err(|e| crate::api::ApiError::from(e).to_string()),
            Err(_) => Err("no answer: timed out".into()),
        }
    }

    /// The same, where these answers are as they should be.
    async fn expect(
        &self,
        method: Method,
        path: &str,
        headers: &[(http::HeaderName, &str)],
        body: Vec<u8>,
        wanted: &[StatusCode],
    ) -> Result<Response<Body>, String> {
        let answer = self.send(method, path, headers, body).await?;
        match wanted.contains(&answer.status()) {
            true => Ok(answer),
            false => Err(refused(answer).await),
        }
    }

    /// Whether it answers as a registry does, and takes the login.
    ///
    /// # Errors
    /// What came back instead.
    pub async fn answers(&self) -> Result<(), String> {
        self.expect(Method::GET, "/v2/", &[], Vec::new(), &[StatusCode::OK]).await.map(|_| ())
    }

    /// The digest of what stands under a name; `None` where nothing does.
    ///
    /// # Errors
    /// What came back instead.
    pub async fn digest(&self, name: &ImageName) -> Result<Option<String>, String> {
        let path = manifest_path(name, name.tag.as_deref().or(name.digest.as_deref()));
        let found = [StatusCode::OK, StatusCode::NOT_FOUND];
        let headers = &[(ACCEPT, MANIFESTS)];
        let answer = self.expect(Method::HEAD, &path, headers, Vec::new(), &found).await?;
        if answer.status() == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let digest = answer.headers().get(DIGEST).and_then(|value| value.to_str().ok());
        Ok(Some(digest.unwrap_or_default().to_owned()))
    }

    /// Those of these images that are not there as they are to be.
    ///
    /// # Errors
    /// What came back instead of an answer.
    pub async fn lacking(&self, shelf: &[Shelved]) -> Result<BTreeSet<String>, String> {
        let asked = shelf.iter().map(|image| async move {
            let digest = self.digest(&image.name).await?;
            Ok::<_, String>((!image.is_there(digest.as_deref())).then(|| image.name.to_string()))
        });
        let found = futures_util::future::try_join_all(asked).await?;
        Ok(found.into_iter().flatten().collect())
    }

    /// Puts an image there: what it has of its blobs already does not go again. Returns whether anything changed.
    ///
    /// # Errors
    /// What was attempted, and what came back.
    pub async fn put(&self, image: &Shelved, progress: Progress<'_>) -> Result<bool, String> {
        let Some(content) = &image.content else {
            return Err(format!("{}: its archive is not in the components folder", image.name));
        };
        if image.is_there(self.digest(&image.name).await?.as_deref()) {
            return Ok(false);
        }
        let repository = &image.name.repository;
        for (i, blob) in content.blobs.iter().enumerate() {
            let told = |done: u64| {
                let mib = |octets: u64| octets.div_ceil(1 << 20);
                let (i, all) = (i + 1, content.blobs.len());
                progress(format!(
                    "{}: part {i} of {all}, {} of {} MiB",
                    image.name,
                    mib(done),
                    mib(blob.size)
                ));
            };
            self.put_blob(repository, blob, told)
                .await
                .map_err(|why| format!("{}: pushing {}: {why}", image.name, blob.digest))?;
        }
        let last = content.manifests.len().saturating_sub(1);
        for (i, manifest) in content.manifests.iter().enumerate() {
            let tag = image.name.tag.as_deref().filter(|_| i == last);
            self.put_manifest(&image.name, tag, manifest)
                .await
                .map_err(|why| format!("{}: pushing its manifest: {why}", image.name))?;
        }
        Ok(true)
    }

    /// Puts a manifest under a tag, or under its digest alone.
    pub(crate) async fn put_manifest(
        &self,
        name: &ImageName,
        tag: Option<&str>,
        manifest: &Manifest,
    ) -> Result<(), String> {
        let path = manifest_path(name, tag.or(Some(&manifest.digest)));
        let headers = &[(CONTENT_TYPE, manifest.media.as_str())];
        let text = manifest.text.clone();
        self.expect(Method::PUT, &path, headers, text, &[StatusCode::CREATED]).await.map(|_| ())
    }

    /// Takes a manifest away.
    pub(crate) async fn remove(&self, name: &ImageName, digest: &str) -> Result<(), String> {
        let gone = [StatusCode::ACCEPTED, StatusCode::NOT_FOUND];
        let path = manifest_path(name, Some(digest));
        self.expect(Method::DELETE, &path, &[], Vec::new(), &gone).await.map(|_| ())
    }

    /// Begins an upload; where its octets go. `None` where the registry has them already.
    async fn begin(&self, repository: &str, digest: &str) -> Result<Option<String>, String> {
        let path = format!("/v2/{repository}/blobs/{digest}");
        let found = [StatusCode::OK, StatusCode::NOT_FOUND];
        let there = self.expect(Method::HEAD, &path, &[], Vec::new(), &found).await?;
        if there.status() == StatusCode::OK {
            return Ok(None);
        }
        let path = format!("/v2/{repository}/blobs/uploads/");
        let begun = self.expect(Method::POST, &path, &[], Vec::new(), &[StatusCode::ACCEPTED]);
        location(&begun.await?).map(Some)
    }

    /// Ends an upload: the registry holds what came against the digest.
    async fn end(&self, at: &str, digest: &str, rest: Vec<u8>) -> Result<(), String> {
        let joined = if at.contains('?') { '&' } else { '?' };
        let path = format!("{at}{joined}digest={digest}");
        let octets = &[(CONTENT_TYPE, "application/octet-stream")];
        self.expect(Method::PUT, &path, octets, rest, &[StatusCode::CREATED]).await.map(|_| ())
    }

    /// Puts few octets there, all at once.
    pub(crate) async fn put_octets(
        &self,
        repository: &str,
        digest: &str,
        octets: Vec<u8>,
    ) -> Result<(), String> {
        match self.begin(repository, digest).await? {
            Some(at) => self.end(&at, digest, octets).await,
            None => Ok(()),
        }
    }

    async fn put_blob(
        &self,
        repository: &str,
        blob: &Blob,
        told: impl Fn(u64),
    ) -> Result<(), String> {
        let Some(mut at) = self.begin(repository, &blob.digest).await? else { return Ok(()) };
        let words = |error: std::io::Error| format!("reading {}: {error}", blob.archive.display());
        let mut file = tokio::fs::File::open(&blob.archive).await.map_err(words)?;
        file.seek(std::io::SeekFrom::Start(blob.at)).await.map_err(words)?;
        let mut done = 0;
        while done < blob.size {
            told(done);
            let left = usize::try_from(blob.size - done).unwrap_or(usize::MAX);
            let mut piece = vec![0; left.min(PIECE)];
            file.read_exact(&mut piece).await.map_err(words)?;
            let end = done + piece.len() as u64;
            let range = format!("{done}-{}", end - 1);
            let headers = &[
                (CONTENT_TYPE, "application/octet-stream"),
                (http::header::CONTENT_RANGE, range.as_str()),
            ];
            let taken =
                self.expect(Method::PATCH, &at, headers, piece, &[StatusCode::ACCEPTED]).await?;
            at = location(&taken)?;
            done = end;
        }
        self.end(&at, &blob.digest, Vec::new()).await
    }
}

fn manifest_path(name: &ImageName, reference: Option<&str>) -> String {
    format!("/v2/{}/manifests/{}", name.repository, reference.unwrap_or("latest"))
}

/// Where an upload goes on: the path, whatever the registry takes its own name for.
fn location(answer: &Response<Body>) -> Result<String, String> {
    let location = answer.headers().get(LOCATION).and_then(|value| value.to_str().ok());
    let uri = location.and_then(|text| text.parse::<http::Uri>().ok());
    let path = uri.as_ref().and_then(|uri| uri.path_and_query());
    path.map(ToString::to_string).ok_or_else(|| "it does not say where the upload goes on".into())
}

/// What a registry says of a refusal, in one line.
async fn refused(answer: Response<Body>) -> String {
    let status = answer.status();
    let said = answer.into_body().collect_bytes().await.unwrap_or_default();
    let value: serde_json::Value = serde_json::from_slice(&said).unwrap_or_default();
    let message = value["errors"][0]["message"].as_str().map(plain);
    let why = match (status, message) {
        (StatusCode::UNAUTHORIZED, _) => {
            "it wants a name and a password that it knows: preparation.credentials names the file"
                .into()
        }
        (StatusCode::METHOD_NOT_ALLOWED, _) => "it is read-only".into(),
        (_, Some(message)) => message.into_owned(),
        (_, None) => status.canonical_reason().unwrap_or("it refused").to_owned(),
    };
    format!("{why} (HTTP {})", status.as_u16())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;
    use std::sync::{Arc, Mutex};

    use zoisite_core::components::{ShelfContent, digest_of};

    use super::*;

    /// What a registry of a few lines knows.
    #[derive(Default)]
    struct Known {
        /// Blobs and manifests, by path.
        stands: BTreeMap<String, Vec<u8>>,
        /// What came of an upload.
        upload: Vec<u8>,
        /// Every request.
        asked: Vec<String>,
    }

    #[derive(Clone, Default)]
    struct Kept(Arc<Mutex<Known>>);

    impl Kept {
        fn answer(
            &self,
            method: &Method,
            uri: &http::Uri,
            login: bool,
            body: &[u8],
        ) -> Response<Body> {
            let path = uri.path();
            let mut kept = self.0.lock().unwrap();
            let Known { stands, upload, asked } = &mut *kept;
            asked.push(format!("{method} {path}"));
            let status = |code: u16| Response::builder().status(code);
            let to = "https://elsewhere.example/v2/gulls/blobs/uploads/1?state=x";
            let answer = match method.as_str() {
                _ if !login => status(401),
                "HEAD" => match stands.get(path) {
                    None => status(404),
                    Some(octets) => status(200).header(DIGEST, digest_of(octets)),
                },
                "POST" => {
                    upload.clear();
                    status(202).header(LOCATION, to)
                }
                "PATCH" => {
                    upload.extend_from_slice(body);
                    status(202).header(LOCATION, to)
                }
                "PUT" if path.contains("/uploads/") => {
                    let digest = uri.query().unwrap_or_default().rsplit('=').next().unwrap();
                    assert!(uri.query().unwrap().starts_with("state=x&"), "{uri}");
                    match digest_of(upload) == digest {
                        false => status(400),
                        true => {
                            stands.insert(format!("/v2/gulls/blobs/{digest}"), upload.clone());
                            status(201)
                        }
                    }
                }
                _ => {
                    stands.insert(path.to_owned(), body.to_vec());
                    status(201)
                }
            };
            answer.body(Body::from(Vec::new())).unwrap()
        }

        fn client(&self, login: Option<&str>) -> Registry {
            let kept = self.clone();
            let service = tower::service_fn(move |request: Request<Body>| {
                let kept = kept.clone();
                async move {
                    let (parts, body) = request.into_parts();
                    let octets = body.collect_bytes().await?;
                    let login = parts.headers.get(AUTHORIZATION);
                    let known = login.is_some_and(|login| login == "Basic Z3VsbDpibHVl");
                    let answer = kept.answer(&parts.method, &parts.uri, known, &octets);
                    Ok::<_, kube::Error>(answer)
                }
            });
            let login = login.map(|login| Secret::new(login.to_owned()));
            Registry::new(kube::Client::new(service, "default"), login)
        }
    }

    #[tokio::test]
    async fn an_image_is_put_there_once_its_blobs_before_its_manifest() {
        let folder = tempfile::tempdir().unwrap();
        let archive = folder.path().join("image.tar");
        let layer = vec![7_u8; PIECE + 100];
        std::fs::write(&archive, [b"before".as_slice(), &layer, b"{}after"].concat()).unwrap();
        let blob = |octets: &[u8], at: u64| Blob {
            digest: digest_of(octets),
            archive: archive.clone(),
            at,
            size: octets.len() as u64,
        };
        let manifest = br#"{"schemaVersion":2}"#.to_vec();
        let content = ShelfContent {
            blobs: vec![blob(b"{}", 6 + layer.len() as u64), blob(&layer, 6)],
            manifests: vec![Manifest {
                digest: digest_of(&manifest),
                media: "application/vnd.oci.image.manifest.v1+json".into(),
                text: manifest,
            }],
        };
        let name = ImageName::new("registry.saltmarsh.example/gulls:2.1").unwrap();
        let image = Shelved { name, archives: Vec::new(), content: Some(Arc::new(content)) };
        let kept = Kept::default();
        let registry = kept.client(Some("Z3VsbDpibHVl"));
        let shelf = std::slice::from_ref(&image);
        assert_eq!(registry.lacking(shelf).await.unwrap().len(), 1);
        assert!(registry.put(&image, &|_| ()).await.unwrap());
        assert!(registry.lacking(shelf).await.unwrap().is_empty());
        let tagged = "PUT /v2/gulls/manifests/2.1";
        let asked = || kept.0.lock().unwrap().asked.clone();
        let puts = asked().iter().filter(|one| one.starts_with("P")).cloned().collect::<Vec<_>>();
        assert_eq!(puts.iter().filter(|one| one.starts_with("PATCH")).count(), 3, "{puts:?}");
        assert_eq!(puts.last().unwrap(), tagged);
        // What is there is not sent again.
        assert!(!registry.put(&image, &|_| ()).await.unwrap());
        assert_eq!(asked().iter().filter(|one| *one == tagged).count(), 1);
        // Another one under the same tag is not taken for it.
        let mut other = image.clone();
        let manifest =
            Manifest { digest: digest_of(b"{ }"), media: "a/b".into(), text: b"{ }".to_vec() };
        other.content = Some(Arc::new(ShelfContent { blobs: vec![], manifests: vec![manifest] }));
        assert_eq!(registry.lacking(&[other]).await.unwrap().len(), 1);
        // Octets that are not what the digest says are refused.
        let mut wrong = image.clone();
        let blobs = vec![Blob { digest: digest_of(b"else"), at: 0, size: 4, archive }];
        wrong.name.tag = Some("2.2".into());
        wrong.content = Some(Arc::new(ShelfContent { blobs, manifests: vec![] }));
        let told = registry.put(&wrong, &|_| ()).await.unwrap_err();
        assert!(told.contains("gulls:2.2: pushing sha256:") && told.contains("HTTP 400"), "{told}");
        // Without a password it says what it wants.
        let told = kept.client(None).answers().await.unwrap_err();
        assert!(told.contains("preparation.credentials"), "{told}");
    }
}
