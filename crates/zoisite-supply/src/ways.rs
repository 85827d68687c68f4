//! The ways to servers: mirrors, authorities, proxies, names and passwords.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use reqwest::redirect::Policy;
use reqwest::{Certificate, Client, Proxy, Url};
use zoisite_core::pki::Secret;

use crate::fault::Fault;

/// How servers are reached.
#[derive(Clone, Debug, Default)]
pub struct Ways {
    /// What holds published files, each below the name of its server: an address or a folder.
    pub mirror: Option<String>,
    /// What holds images, each below the name of its registry.
    pub images_mirror: Option<String>,
    /// Authorities that are believed beside those of this computer, PEM.
    pub authority: Option<String>,
    /// The proxy; without one, what the environment says (`HTTPS_PROXY`, `NO_PROXY`).
    pub proxy: Option<String>,
    /// Who one is to which server.
    pub credentials: Credentials,
    /// Folder that paths are relative to.
    pub folder: PathBuf,
}

/// Names and passwords by host, from a file in the form of netrc (documented with the file transfer program of BSD
/// and with curl): `machine HOST login NAME password PASSWORD`.
#[derive(Clone, Debug, Default)]
pub struct Credentials(BTreeMap<String, (String, Secret)>);

impl Credentials {
    /// Reads the file's text.
    ///
    /// # Errors
    /// With the word that cannot be there; never with a secret.
    pub fn read(text: &str) -> Result<Self, String> {
        let lines = text.lines().filter(|line| !line.trim_start().starts_with('#'));
        let mut words = lines.flat_map(str::split_whitespace);
        let mut all = BTreeMap::new();
        let (mut host, mut login) = (None::<String>, None::<String>);
        let mut number = 0;
        while let Some(word) = words.next() {
            number += 1;
            let mut next = || {
                words.next().map(str::to_owned).ok_or_else(|| format!("nothing follows '{word}'"))
            };
            match word {
                "machine" => (host, login) = (Some(next()?), None),
                "login" => login = Some(next()?),
                "password" => {
                    let password = Secret::new(next()?);
                    let known = host.clone().zip(login.clone());
                    let (host, login) =
                        known.ok_or("a password has no machine and login before it")?;
                    all.insert(host, (login, password));
                }
                _ => {
                    return Err(format!(
                        "entry {number} is neither machine nor login nor password"
                    ));
                }
            }
        }
        Ok(Self(all))
    }

    /// All of them: host, name, password.
    pub fn all(&self) -> impl Iterator<Item = (&str, &str, &Secret)> {
        self.0.iter().map(|(host, (login, password))| (host.as_str(), login.as_str(), password))
    }

    pub(crate) fn of(&self, host: &str) -> Option<(&str, &Secret)> {
        self.0.get(host).map(|(login, password)| (login.as_str(), password))
    }
}

/// Where something is taken from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    Web(Url),
    File(PathBuf),
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Web(url) => url.fmt(f),
            Self::File(path) => path.display().fmt(f),
        }
    }
}

/// For how long a server may say nothing.
const SILENCE: Duration = Duration::from_secs(60);

impl Ways {
    /// Where a published address is looked for.
    pub(crate) fn place(&self, address: &str) -> Result<Place, Fault> {
        let bare = address.split_once("://").map_or(address, |(_, bare)| bare);
        let whole = match &self.mirror {
            Some(mirror) if mirror.contains("://") => {
                format!("{}/{bare}", mirror.trim_end_matches('/'))
            }
            Some(folder) => return Ok(Place::File(self.folder.join(folder).join(bare))),
            None => address.to_owned(),
        };
        let wrong = |error: &dyn std::fmt::Display| {
            Fault::new(
                format!("reaching {whole}"),
                error.to_string(),
                "fix [components] in the cluster file",
            )
        };
        let url = Url::parse(&whole).map_err(|error| wrong(&error))?;
        if url.scheme() == "http"
            && url.host_str().is_some_and(|host| self.credentials.of(host).is_some())
        {
            return Err(wrong(&"no password is sent over plain http"));
        }
        Ok(Place::Web(url))
    }

    fn proxied(&self) -> Result<Option<Proxy>, reqwest::Error> {
        let Some(address) = &self.proxy else { return Ok(None) };
        let proxy = Proxy::all(address)?;
        let host = Url::parse(address).ok().and_then(|url| url.host_str().map(str::to_owned));
        let known = host.as_deref().and_then(|host| self.credentials.of(host));
        Ok(Some(match known {
            Some((login, password)) => proxy.basic_auth(login, password.expose()),
            None => proxy,
        }))
    }

    /// A client for published files. A mirror answers itself: sending elsewhere is no answer of one.
    pub(crate) fn client(&self) -> Result<Client, Fault> {
        let mirrored = self.mirror.is_some();
        let redirects = Policy::custom(move |attempt| {
            let first = attempt.previous().first().cloned();
            let same = first.as_ref().is_none_or(|first| {
                first.host_str() == attempt.url().host_str()
                    && first.port_or_known_default() == attempt.url().port_or_known_default()
            });
            let secure = first.is_none_or(|first| first.scheme() != "https")
                || attempt.url().scheme() == "https";
            let to = attempt.url().clone();
            if mirrored && !same {
                attempt.error(format!("the mirror sends elsewhere, to {to}"))
            } else if !secure {
                attempt.error(format!("it sends from https to {to}"))
            } else if attempt.previous().len() > 10 {
                attempt.error("it sends from one address to the next without end")
            } else {
                attempt.follow()
            }
        });
        let mut client = Client::builder()
            .redirect(redirects)
            .connect_timeout(Duration::from_secs(20))
            .read_timeout(SILENCE)
            .user_agent(concat!("zoisite/", env!("CARGO_PKG_VERSION")));
        let failed = |error: reqwest::Error| {
            Fault::new("preparing to fetch", words(&error), "fix [components] in the cluster file")
        };
        if let Some(pem) = &self.authority {
            for certificate in Certificate::from_pem_bundle(pem.as_bytes()).map_err(failed)? {
                client = client.add_root_certificate(certificate);
            }
        }
        if let Some(proxy) = self.proxied().map_err(failed)? {
            client = client.proxy(proxy);
        }
        client.build().map_err(failed)
    }

    /// The same as a client of registries takes it: who one is to the proxy stands in its address there.
    pub(crate) fn registry_proxy(&self) -> Option<String> {
        let address = self.proxy.as_ref()?;
        let mut url = Url::parse(address).ok()?;
        let known = url.host_str().and_then(|host| self.credentials.of(host));
        if let Some((login, password)) =
            known.map(|(login, password)| (login.to_owned(), password.clone()))
        {
            url.set_username(&login).ok()?;
            url.set_password(Some(password.expose())).ok()?;
        }
        Some(url.to_string())
    }

    /// Reads the file of names and passwords.
    ///
    /// # Errors
    /// When others may read it, or it cannot be read.
    pub fn credentials_of(path: &Path) -> Result<Credentials, Fault> {
        use std::os::unix::fs::PermissionsExt as _;
        let failed = |error: std::io::Error| Fault::here("reading", path, &error);
        let mode = std::fs::metadata(path).map_err(failed)?.permissions().mode();
        let refused = |why: String| {
            Fault::new(
                format!("reading {}", path.display()),
                why,
                format!("chmod 600 {}", path.display()),
            )
        };
        if mode & 0o077 != 0 {
            return Err(refused("others may read the passwords in it".into()));
        }
        let text = Secret::new(std::fs::read_to_string(path).map_err(failed)?);
        Credentials::read(text.expose()).map_err(|why| Fault {
            fix: "its lines are: machine HOST login NAME password PASSWORD".into(),
            ..refused(why)
        })
    }
}

/// What went wrong, from the bottom of it: the layers between say only that something was sent.
pub(crate) fn words(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    let said = zoisite_core::text::plain(&cause.to_string()).into_owned();
    if said.contains("UnknownIssuer") {
        format!("its certificate comes from an authority that is not known here ({said})")
    } else if said.contains("CaUsedAsEndEntity") {
        format!(
            "it shows an authority's certificate as its own; a server needs one that its authority signed ({said})"
        )
    } else {
        said
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_passwords_are_read_and_never_shown() {
        let text = "# of the site\nmachine mirror.example login gull password s3cret\nmachine b\n  login c password d\n";
        let all = Credentials::read(text).unwrap();
        let (login, password) = all.of("mirror.example").unwrap();
        assert_eq!((login, password.expose()), ("gull", "s3cret"));
        assert!(all.of("b").is_some() && all.of("c").is_none());
        assert!(!format!("{all:?}").contains("s3cret"));
        for wrong in ["password s3cret", "machine a login", "machine a s3cret"] {
            assert!(!Credentials::read(wrong).unwrap_err().contains("s3cret"), "{wrong}");
        }
    }

    #[test]
    fn a_mirror_holds_each_file_below_the_name_of_its_server() {
        let mut ways = Ways { folder: "/site".into(), ..Ways::default() };
        let address = "https://dl.example/v1/x";
        assert_eq!(ways.place(address).unwrap().to_string(), address);
        ways.mirror = Some("https://mirror.example:8443/kept/".into());
        let mirrored = "https://mirror.example:8443/kept/dl.example/v1/x";
        assert_eq!(ways.place(address).unwrap().to_string(), mirrored);
        ways.mirror = Some("stick".into());
        assert_eq!(ways.place(address).unwrap(), Place::File("/site/stick/dl.example/v1/x".into()));
        ways.mirror = Some("http://mirror.example".into());
        ways.credentials = Credentials::read("machine mirror.example login a password b").unwrap();
        assert!(ways.place(address).unwrap_err().answer.contains("plain http"));
    }
}
