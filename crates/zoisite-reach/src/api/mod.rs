//! The platform's API, through a tunnel: what a run asks of it and does with it.

mod drain;
mod fault;
mod look;
mod work;
mod workloads;

use std::collections::HashMap;
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::Duration;

use http::{Method, Request};
use hyper_util::client::legacy::connect::{Connected, Connection};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use rustls_pki_types::ServerName;
use serde_json::Value;
use tokio::time::Instant;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::ClientConfig;
use zoisite_core::holdings::ApiObject;
use zoisite_core::text::plain;

use crate::access::{Access, Dial, Secured};

pub use self::drain::in_waves;
pub(crate) use self::look::{condition, look, says_ready};
pub(crate) use self::work::{Readiness, ready_now, rollout, work};

/// Whose fields are Zoisite's own in objects that it applies.
pub const FIELD_MANAGER: &str = "zoisite";

/// What an API server answered instead of what was asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ApiError {
    /// HTTP status; 0 when there was no answer at all.
    pub code: u16,
    /// In the server's words, or the connection's.
    pub message: String,
    /// For how long the server asks to be left alone (`details.retryAfterSeconds` of a `Status`).
    pub retry_after: Option<Duration>,
}

impl std::fmt::Display for ApiError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.code {
            0 => f.write_str(&self.message),
            code => write!(f, "{} (HTTP {code})", self.message),
        }
    }
}

impl ApiError {
    /// No answer at all, or none that can be read.
    pub(crate) fn without_answer(message: impl Into<String>) -> Self {
        Self { code: 0, message: message.into(), retry_after: None }
    }

    /// Whether the same request may succeed a moment later.
    pub fn passing(&self) -> bool {
        matches!(self.code, 0 | 409 | 429 | 500 | 502 | 503 | 504)
    }
}

impl From<kube::Error> for ApiError {
    fn from(error: kube::Error) -> Self {
        match error {
            kube::Error::Api(status) => {
                let seconds =
                    status.details.as_ref().map_or(0, |details| details.retry_after_seconds);
                // Which disruption budget it is stands there alone.
                let causes = status.details.iter().flat_map(|details| &details.causes);
                let causes: Vec<&str> = causes.map(|cause| cause.message.as_str()).collect();
                let message = match (status.code, causes.as_slice()) {
                    (429, [_, ..]) => plain(&causes.join("; ")).into_owned(),
                    _ => plain(&status.message).into_owned(),
                };
                Self {
                    code: status.code,
                    message,
                    retry_after: (seconds > 0).then(|| Duration::from_secs(seconds.into())),
                }
            }
            other => {
                // The layers between say only that something was sent; what went wrong is at the bottom.
                let mut cause: &dyn std::error::Error = &other;
                while let Some(deeper) = cause.source() {
                    cause = deeper;
                }
                Self::without_answer(plain(&cause.to_string()))
            }
        }
    }
}

/// What the API's answers are read as.
pub type ApiResult<T> = Result<T, ApiError>;

/// A TLS stream over whatever the tunnel gave.
struct Tunnelled(TokioIo<Secured>);

impl Connection for Tunnelled {
    fn connected(&self) -> Connected {
        match self.0.inner().get_ref().1.alpn_protocol() {
            Some(HTTP_2) => Connected::new().negotiated_h2(),
            _ => Connected::new(),
        }
    }
}

impl hyper::rt::Read for Tunnelled {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: hyper::rt::ReadBufCursor<'_>,
    ) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.0).poll_read(cx, buf)
    }
}

impl hyper::rt::Write for Tunnelled {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(cx)
    }
}

/// By API version and kind: the plural name in paths, and whether objects have a namespace.
type Resources = HashMap<(String, String), (String, bool)>;

/// A client of one API server, or of the API endpoint.
#[derive(Clone)]
pub struct ApiClient {
    /// One connection carries every call.
    client: kube::Client,
    /// HTTP/1.1, which exec is an upgrade of.
    upgradable: kube::Client,
    resources: Arc<Mutex<Resources>>,
}

impl std::fmt::Debug for ApiClient {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ApiClient").finish_non_exhaustive()
    }
}

fn client(
    config: Arc<ClientConfig>,
    server: &ServerName<'static>,
    way: Arc<dyn Dial>,
) -> kube::Client {
    let (connector, server) = (TlsConnector::from(config), server.clone());
    let connector = tower::service_fn(move |_: http::Uri| {
        let (way, connector, server) = (Arc::clone(&way), connector.clone(), server.clone());
        Box::pin(async move {
            let stream = tokio::time::timeout(CONNECT, way.connect(&connector, &server)).await;
            let stream =
                stream.map_err(|_| std::io::Error::from(std::io::ErrorKind::TimedOut))??;
            Ok::<_, std::io::Error>(Tunnelled(TokioIo::new(stream)))
        })
    });
    // A connection whose far end is gone without a word must not swallow later calls.
    let client = hyper_util::client::legacy::Client::builder(TokioExecutor::new())
        .timer(TokioTimer::new())
        .http2_keep_alive_interval(ALIVE)
        .http2_keep_alive_timeout(ALIVE)
        .build::<_, kube::client::Body>(connector);
    let base = kube::client::middleware::BaseUriLayer::new(http::Uri::from_static("https://api"));
    let service = tower::ServiceBuilder::new().layer(base).service(client);
    kube::Client::new(service, "default")
}

impl ApiClient {
    /// A client of the server that a way leads to, verified as `name`. Connects to nothing yet.
    ///
    /// # Errors
    /// When the certificates cannot be used.
    pub(crate) fn new(access: &Access, name: &str, way: Arc<dyn Dial>) -> Result<Self, String> {
        let server = ServerName::try_from(name.to_owned()).map_err(|e| e.to_string())?;
        Ok(Self {
            client: client(access.tls(&[HTTP_2, b"http/1.1"])?, &server, Arc::clone(&way)),
            upgradable: client(access.tls(&[])?, &server, way),
            resources: Arc::default(),
        })
    }

    /// A client whose server is a function: of method, path with its query, and body, to status and body.
    #[cfg(test)]
    pub(crate) fn answered(
        server: impl Fn(&Method, &str, Value) -> (u16, Value) + Clone + Send + Sync + 'static,
    ) -> Self {
        use kube::client::Body;
        let service = tower::service_fn(move |request: Request<Body>| {
            let server = server.clone();
            async move {
                let (parts, body) = request.into_parts();
                let bytes = body.collect_bytes().await?;
                let body = serde_json::from_slice(&bytes).unwrap_or_default();
                let path = parts.uri.path_and_query().expect("a path");
                let (status, answer) = server(&parts.method, path.as_str(), body);
                let answer = Body::from(answer.to_string().into_bytes());
                Ok::<_, kube::Error>(
                    http::Response::builder().status(status).body(answer).expect("a status"),
                )
            }
        });
        let client = kube::Client::new(service, "default");
        Self { client: client.clone(), upgradable: client, resources: Arc::default() }
    }

    /// The general client, for logs and exec.
    pub fn client(&self) -> kube::Client {
        self.upgradable.clone()
    }

    /// The general client on one connection, for servers that speak something else than the API.
    pub(crate) fn any_protocol(self) -> kube::Client {
        self.client
    }

    async fn text(&self, request: Request<Vec<u8>>) -> ApiResult<String> {
        match tokio::time::timeout(CALL, self.client.request_text(request)).await {
            Ok(answer) => Ok(answer?),
            Err(_) => Err(ApiError::without_answer("no answer: timed out")),
        }
    }

    /// One request with a JSON body, or none.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn send(
        &self,
        method: Method,
        path: &str,
        kind: &str,
        body: Option<&Value>,
    ) -> ApiResult<Value> {
        let bytes = body.map(|body| body.to_string().into_bytes()).unwrap_or_default();
        let request = || {
            Request::builder()
                .method(method.clone())
                .uri(path)
                .header(http::header::CONTENT_TYPE, kind)
                .header(http::header::ACCEPT, "application/json")
                .body(bytes.clone())
                .map_err(|e| ApiError::without_answer(e.to_string()))
        };
        let attempt = || {
            let request = request();
            async move { self.text(request?).await }
        };
        let text = patiently(Instant::now() + CALL, attempt).await?;
        Ok(serde_json::from_str(&text).unwrap_or(Value::String(text)))
    }

    /// What stands at a path; `None` when nothing does.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn get(&self, path: &str) -> ApiResult<Option<Value>> {
        match self.send(Method::GET, path, JSON, None).await {
            Ok(value) => Ok(Some(value)),
            Err(error) if error.code == 404 => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The items of a list.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn list(&self, path: &str) -> ApiResult<Vec<Value>> {
        let mut list = self.send(Method::GET, path, JSON, None).await?;
        Ok(match list.get_mut("items").map(Value::take) {
            Some(Value::Array(items)) => items,
            _ => Vec::new(),
        })
    }

    /// Makes an object.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn create(&self, path: &str, body: &Value) -> ApiResult<Value> {
        self.send(Method::POST, path, JSON, Some(body)).await
    }

    /// Deletes an object; one that is not there is fine.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn delete(&self, path: &str) -> ApiResult<()> {
        match self.send(Method::DELETE, path, JSON, None).await {
            Err(error) if error.code != 404 => Err(error),
            _ => Ok(()),
        }
    }

    /// Lays a merge patch (RFC 7386) over an object.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn merge(&self, path: &str, patch: &Value) -> ApiResult<Value> {
        self.send(Method::PATCH, path, "application/merge-patch+json", Some(patch)).await
    }

    /// The path of an object, from the server's own list of resources.
    ///
    /// # Errors
    /// When the server knows no such kind, or does not answer.
    pub async fn path(&self, object: &ApiObject) -> ApiResult<String> {
        let (version, kind) = (object.api_version(), object.kind());
        let root = match version.contains('/') {
            true => format!("/apis/{version}"),
            false => format!("/api/{version}"),
        };
        let key = (version.to_owned(), kind.to_owned());
        let known = self.resources.lock().ok().and_then(|known| known.get(&key).cloned());
        let (plural, namespaced) = match known {
            Some(known) => known,
            None => {
                let unknown = || ApiError {
                    code: 404,
                    message: format!("the API has no kind {kind} in {version}"),
                    retry_after: None,
                };
                let list = self.get(&root).await?.ok_or_else(unknown)?;
                let found = list["resources"].as_array().into_iter().flatten().find(|resource| {
                    resource["kind"] == kind
                        && !resource["name"].as_str().unwrap_or_default().contains('/')
                });
                let found = found.ok_or_else(unknown)?;
                let plural = found["name"].as_str().unwrap_or_default().to_owned();
                let namespaced = found["namespaced"].as_bool().unwrap_or(false);
                if let Ok(mut known) = self.resources.lock() {
                    known.insert(key, (plural.clone(), namespaced));
                }
                (plural, namespaced)
            }
        };
        let name = object.name();
        Ok(match namespaced {
            true => {
                let namespace = match object.namespace() {
                    "" => "default",
                    namespace => namespace,
                };
                format!("{root}/namespaces/{namespace}/{plural}/{name}")
            }
            false => format!("{root}/{plural}/{name}"),
        })
    }

    /// Applies an object (server-side apply), every field checked; or only says what would stand then.
    ///
    /// # Errors
    /// What the server answered instead.
    pub async fn apply(&self, object: &ApiObject, dry: bool) -> ApiResult<Value> {
        let path = self.path(object).await?;
        let dry = if dry { "&dryRun=All" } else { "" };
        let path =
            format!("{path}?fieldManager={FIELD_MANAGER}&force=true&fieldValidation=Strict{dry}");
        self.send(Method::PATCH, &path, "application/apply-patch+yaml", Some(&object.0)).await
    }

    /// Whether the server says that it is ready.
    ///
    /// # Errors
    /// What it answered instead.
    pub async fn readyz(&self) -> ApiResult<()> {
        let answer = self.send(Method::GET, "/readyz", JSON, None).await;
        answer.map(|_| ()).map_err(|e| ApiError { message: failed_checks(e.message), ..e })
    }
}

/// A server that is not ready lists every check, a line each (`[+]ping ok`, `[-]etcd failed: reason withheld`):
/// those that failed are what is to be read.
fn failed_checks(answer: String) -> String {
    let failed = answer.lines().filter_map(|line| line.strip_prefix("[-]")?.split(' ').next());
    let failed: Vec<&str> = failed.collect();
    match failed[..] {
        [] => answer,
        [one] => format!("not ready yet: {one}"),
        [one, two] => format!("not ready yet: {one} and {two}"),
        [one, two, ref more @ ..] => format!("not ready yet: {one}, {two} and {} more", more.len()),
    }
}

/// Makes a request again where the server asks to be left alone for a while first: it has not done what was
/// asked. Every other answer is the caller's to judge.
pub(crate) async fn patiently<T, F: Future<Output = ApiResult<T>>>(
    end: Instant,
    mut attempt: impl FnMut() -> F,
) -> ApiResult<T> {
    loop {
        match attempt().await {
            Err(ApiError { retry_after: Some(pause), .. }) if Instant::now() + pause < end => {
                tokio::time::sleep(pause).await;
            }
            answer => return answer,
        }
    }
}

const HTTP_2: &[u8] = b"h2";
const JSON: &str = "application/json";

/// Deadline for reaching a server; the host's own connection may have to be opened again for it.
const CONNECT: Duration = Duration::from_secs(30);
/// How often a connection is asked whether it is alive, and for how long it may not answer.
const ALIVE: Duration = Duration::from_secs(10);
/// Deadline of one call.
const CALL: Duration = Duration::from_secs(40);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_that_is_not_ready_tells_in_one_line_which_checks_failed() {
        let told = |failed: &[&str]| {
            let mut lines = vec!["[+]ping ok".to_owned()];
            lines.extend(failed.iter().map(|check| format!("[-]{check} failed: reason withheld")));
            lines.extend(["[+]log ok".into(), "readyz check failed".into()]);
            failed_checks(lines.join("\n"))
        };
        assert_eq!(told(&["etcd"]), "not ready yet: etcd");
        assert_eq!(told(&["etcd", "informer-sync"]), "not ready yet: etcd and informer-sync");
        let many = ["etcd", "informer-sync", "poststarthook/crd-informer-synced"];
        assert_eq!(told(&many), "not ready yet: etcd, informer-sync and 1 more");
        assert_eq!(failed_checks("connection refused".into()), "connection refused");
    }

    #[tokio::test(start_paused = true)]
    async fn a_server_that_asks_to_be_left_alone_is_asked_again_when_it_said() {
        let busy = || ApiError {
            code: 429,
            message: "too many requests".into(),
            retry_after: Some(Duration::from_secs(3)),
        };
        let began = Instant::now();
        let mut asked = 0;
        let answer = patiently(began + CALL, || {
            asked += 1;
            std::future::ready(if asked < 3 { Err(busy()) } else { Ok(asked) })
        });
        assert_eq!(answer.await, Ok(3));
        assert_eq!(began.elapsed(), Duration::from_secs(6));
        // Not beyond the deadline, and nothing else is asked again.
        let mut asked = 0;
        let end = Instant::now() + Duration::from_secs(10);
        let answer: ApiResult<()> = patiently(end, || {
            asked += 1;
            std::future::ready(Err(busy()))
        })
        .await;
        assert_eq!((answer, asked), (Err(busy()), 4));
        let answer: ApiResult<()> =
            patiently(end, || std::future::ready(Err(ApiError::without_answer("gone")))).await;
        assert_eq!(answer.unwrap_err().code, 0);
    }
}
