//! One file from a server or a folder, continued where a cut left it.

use std::path::{Path, PathBuf};
use std::time::Duration;

use futures_util::{Stream, StreamExt as _};
use reqwest::header::{CONTENT_RANGE, CONTENT_TYPE, RANGE};
use reqwest::{Client, Response, StatusCode, Url};
use tokio::io::AsyncWriteExt as _;

use crate::fault::Fault;
use crate::sha256_of;
use crate::ways::{Place, Ways, words};

/// How often a file is tried before it is given up; what came stays.
pub(crate) const TRIES: u32 = 6;
/// Called with the octets so far, and the total where it is known.
pub(crate) type OnProgress<'a> = &'a (dyn Fn(u64, Option<u64>) + Send + Sync);

/// A client and what it needs to know.
#[derive(Clone)]
pub(crate) struct Downloads {
    pub client: Client,
    pub ways: Ways,
    /// Folder for what is on its way.
    pub parts: PathBuf,
}

/// Why one try ended.
pub(crate) enum Broken {
    /// The same again may help.
    Passing(String),
    Lasting(String),
    Here(std::io::Error),
}

impl Downloads {
    fn asked(&self, url: &Url) -> reqwest::RequestBuilder {
        let request = self.client.get(url.clone());
        match url.host_str().and_then(|host| self.ways.credentials.of(host)) {
            Some((login, password)) => request.basic_auth(login, Some(password.expose())),
            None => request,
        }
    }

    /// A small text; `None` where there is none.
    pub(crate) async fn text(&self, place: &Place, limit: usize) -> Result<Option<String>, Fault> {
        let failed = |why: String| {
            Fault::new(format!("fetching {place}"), why, "fix it, and run the same command again")
        };
        let url = match place {
            Place::Web(url) => url,
            Place::File(path) => {
                return match std::fs::read(path) {
                    Ok(octets) if octets.len() > limit => Err(failed("it is too long".into())),
                    Ok(octets) => Ok(Some(String::from_utf8_lossy(&octets).into_owned())),
                    Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
                    Err(error) => Err(Fault::here("reading", path, &error)),
                };
            }
        };
        let mut tries = 0;
        loop {
            tries += 1;
            let read = async {
                let answer = self.asked(url).send().await.map_err(|error| sent(&error))?;
                if answer.status() == StatusCode::NOT_FOUND {
                    return Ok(None);
                }
                let mut octets = Vec::new();
                let mut stream = judged(answer, false)?.bytes_stream();
                while let Some(piece) = stream.next().await {
                    let piece = piece.map_err(|error| Broken::Passing(words(&error)))?;
                    octets.extend_from_slice(&piece);
                    if octets.len() > limit {
                        return Err(Broken::Lasting(
                            "it is too long for a list of checksums".into(),
                        ));
                    }
                }
                Ok(Some(String::from_utf8_lossy(&octets).into_owned()))
            };
            match read.await {
                Ok(text) => return Ok(text),
                Err(Broken::Passing(_)) if tries < TRIES => pause(tries).await,
                Err(Broken::Passing(why) | Broken::Lasting(why)) => return Err(failed(why)),
                Err(Broken::Here(error)) => return Err(failed(error.to_string())),
            }
        }
    }

    /// Brings a file whose SHA-256 is known; returns where it is until it is put in its place.
    pub(crate) async fn file(
        &self,
        place: &Place,
        sha256: &str,
        on_progress: OnProgress<'_>,
    ) -> Result<PathBuf, Fault> {
        // Kept by its checksum: what an earlier run left of another version is never gone on with.
        let part = self.parts.join(sha256);
        let here = |error: std::io::Error| Fault::here("writing", &part, &error);
        std::fs::create_dir_all(&self.parts)
            .map_err(|error| Fault::here("making", &self.parts, &error))?;
        let url = match place {
            Place::Web(url) => url,
            Place::File(path) => {
                std::fs::copy(path, &part).map_err(|error| Fault::here("taking", path, &error))?;
                return self.checked(place, &part, sha256).await.map(|()| part.clone());
            }
        };
        let mut tries = 0;
        let mut whole = false;
        loop {
            tries += 1;
            let before = std::fs::metadata(&part).map_or(0, |facts| facts.len());
            match self.try_file(url, &part, before, on_progress).await {
                Ok(()) => match self.checked(place, &part, sha256).await {
                    // Gone on from what an earlier try left, it may be wrong where that was.
                    Err(_) if before > 0 && !whole => whole = true,
                    checked => return checked.map(|()| part.clone()),
                },
                Err(Broken::Here(error)) => return Err(here(error)),
                Err(Broken::Passing(_)) if tries < TRIES => {
                    let now = std::fs::metadata(&part).map_or(0, |facts| facts.len());
                    if now > before {
                        tries = 0;
                    }
                    pause(tries + 1).await;
                }
                Err(Broken::Passing(why)) => {
                    let fix = "what came is kept: the same command goes on from there";
                    return Err(Fault::new(format!("fetching {place}"), why, fix));
                }
                Err(Broken::Lasting(why)) => {
                    let fix = "fix it, or name another mirror in [components]; nothing of it was put in place";
                    return Err(Fault::new(format!("fetching {place}"), why, fix));
                }
            }
        }
    }

    async fn checked(&self, place: &Place, part: &Path, sha256: &str) -> Result<(), Fault> {
        let path = part.to_owned();
        let found = tokio::task::spawn_blocking(move || sha256_of(&path)).await;
        let found = found.unwrap_or_else(|error| Err(std::io::Error::other(error)));
        let found = found.map_err(|error| Fault::here("reading", part, &error))?;
        if found == sha256 {
            return Ok(());
        }
        let page = std::fs::read(part).is_ok_and(|octets| {
            octets.trim_ascii_start().get(..1) == Some(b"<") && octets.len() < 1 << 20
        });
        let _ = std::fs::remove_file(part);
        let what =
            if page { "a web page came instead" } else { "its checksum is not the right one" };
        let answer = format!("{what}: {found}, not {sha256}");
        let fix = "nothing of it was put in place; find out who changed it before you go on";
        Err(Fault::new(format!("checking {place}"), answer, fix).changed())
    }

    async fn try_file(
        &self,
        url: &Url,
        part: &Path,
        have: u64,
        on_progress: OnProgress<'_>,
    ) -> Result<(), Broken> {
        let mut request = self.asked(url);
        if have > 0 {
            request = request.header(RANGE, format!("bytes={have}-"));
        }
        let answer = request.send().await.map_err(|error| sent(&error))?;
        let begins = match answer.status() {
            StatusCode::PARTIAL_CONTENT => {
                let range =
                    answer.headers().get(CONTENT_RANGE).and_then(|range| range.to_str().ok());
                range
                    .and_then(|range| range.strip_prefix("bytes ")?.split('-').next()?.parse().ok())
            }
            // Nothing is missing, or the file is another one: its checksum tells.
            StatusCode::RANGE_NOT_SATISFIABLE => return Ok(()),
            _ => Some(0),
        };
        if begins.is_none_or(|begins: u64| begins > have) {
            return Err(Broken::Lasting("it answers with another part than was asked for".into()));
        }
        let mut have = begins.unwrap_or_default();
        let answer = judged(answer, true)?;
        let all = answer.content_length().map(|left| have + left);
        have = pour(answer.bytes_stream(), part, have, &|have| on_progress(have, all)).await?;
        match all.is_some_and(|all| have < all) {
            true => Err(Broken::Passing("the connection broke off".into())),
            false => Ok(()),
        }
    }
}

/// Adds what comes to what has come of a file so far, `have` octets; returns how many there are then.
pub(crate) async fn pour<B: AsRef<[u8]>, E: std::error::Error + 'static>(
    mut stream: impl Stream<Item = Result<B, E>> + Unpin,
    part: &Path,
    mut have: u64,
    on_progress: &(dyn Fn(u64) + Send + Sync),
) -> Result<u64, Broken> {
    let mut options = tokio::fs::OpenOptions::new();
    let open = options.create(true).truncate(false).write(true).open(part);
    let mut file = open.await.map_err(Broken::Here)?;
    file.set_len(have).await.map_err(Broken::Here)?;
    tokio::io::AsyncSeekExt::seek(&mut file, std::io::SeekFrom::Start(have))
        .await
        .map_err(Broken::Here)?;
    on_progress(have);
    let read = loop {
        match stream.next().await {
            None => break Ok(have),
            Some(Err(error)) => break Err(Broken::Passing(words(&error))),
            Some(Ok(piece)) => {
                file.write_all(piece.as_ref()).await.map_err(Broken::Here)?;
                have += piece.as_ref().len() as u64;
                on_progress(have);
            }
        }
    };
    // What came before a cut is kept.
    file.flush().await.map_err(Broken::Here)?;
    read
}

/// Waits before the next try, longer each time.
pub(crate) async fn pause(tries: u32) {
    tokio::time::sleep(Duration::from_millis(250 << tries.min(5))).await;
}

fn sent(error: &reqwest::Error) -> Broken {
    let why = words(error);
    match error.is_redirect() || why.contains("certificate") || why.contains("407") {
        true => Broken::Lasting(why),
        false => Broken::Passing(why),
    }
}

/// Whether an answer is one.
fn judged(answer: Response, no_page: bool) -> Result<Response, Broken> {
    let status = answer.status();
    let kind = answer.headers().get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok());
    if status.is_success() {
        return match no_page && kind.is_some_and(|kind| kind.starts_with("text/html")) {
            true => Err(Broken::Lasting("it answers with a web page instead of the file".into())),
            false => Ok(answer),
        };
    }
    let why = match status {
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
            format!("HTTP {status}: components.credentials names a file with names and passwords")
        }
        StatusCode::PROXY_AUTHENTICATION_REQUIRED => {
            format!(
                "the proxy wants a name and password (HTTP {status}): components.credentials names a file for them"
            )
        }
        _ => format!("HTTP {status}"),
    };
    match status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS {
        true => Err(Broken::Passing(why)),
        false => Err(Broken::Lasting(why)),
    }
}
