//! Names of container images, as workloads and registries write them.

use std::fmt;

use super::names::NameError;

/// A name of an image in its full form: registry, repository, tag or digest (OCI distribution specification,
/// "Pulling manifests").
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ImageName {
    /// Registry, with its port if there is one.
    pub registry: String,
    /// Repository, such as `coredns/coredns`.
    pub repository: String,
    /// Tag; `latest` where neither it nor a digest was written.
    pub tag: Option<String>,
    /// Digest, such as `sha256:…`.
    pub digest: Option<String>,
}

impl ImageName {
    /// Reads a name; what container runtimes add to short ones (registry, `library/`, `latest`) is added here.
    ///
    /// # Errors
    /// When it is no name of an image.
    pub fn new(text: &str) -> Result<Self, NameError> {
        let wrong = |why: &str| {
            NameError(format!(
                "{why}; an image is named like \"registry.saltmarsh.example/gulls/counter:2.1\""
            ))
        };
        let (name, digest) = match text.split_once('@') {
            Some((name, digest)) => (name, Some(digest)),
            None => (text, None),
        };
        if let Some(digest) = digest
            && !digest.strip_prefix("sha256:").is_some_and(is_sha256)
        {
            return Err(wrong("its digest is not sha256: and 64 hexadecimal digits"));
        }
        let (name, tag) = match name.rsplit_once(':') {
            Some((name, tag)) if !tag.contains('/') => (name, Some(tag)),
            _ => (name, None),
        };
        let word = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
        if tag.is_some_and(|tag| tag.is_empty() || tag.len() > 128 || !tag.chars().all(word)) {
            return Err(wrong("its tag may have letters, digits, '.', '_' and '-'"));
        }
        let (registry, repository) = match name.split_once('/') {
            Some((first, rest)) if first.contains(['.', ':']) || first == "localhost" => {
                (first.to_owned(), rest.to_owned())
            }
            Some(_) => ("docker.io".to_owned(), name.to_owned()),
            None => ("docker.io".to_owned(), format!("library/{name}")),
        };
        let lower = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "._-".contains(c);
        let part = |part: &str| !part.is_empty() && part.chars().all(lower) && !part.contains("..");
        if !repository.split('/').all(part) || repository.len() > 255 {
            return Err(wrong(
                "its repository may have lower-case letters, digits, '.', '_' and '-', parted by '/'",
            ));
        }
        let host = |c: char| c.is_ascii_alphanumeric() || ".-:[]".contains(c);
        if registry.is_empty() || !registry.chars().all(host) {
            return Err(wrong("its registry is no host"));
        }
        let tag = tag.map(str::to_owned);
        let latest = (tag.is_none() && digest.is_none()).then(|| "latest".to_owned());
        Ok(Self { registry, repository, tag: tag.or(latest), digest: digest.map(str::to_owned) })
    }
}

fn is_sha256(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
}

impl fmt::Display for ImageName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.registry, self.repository)?;
        if let Some(tag) = &self.tag {
            write!(f, ":{tag}")?;
        }
        self.digest.as_ref().map_or(Ok(()), |digest| write!(f, "@{digest}"))
    }
}

/// Where an image comes from.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ImageSource {
    /// A registry, by the image's name.
    Named(ImageName),
    /// An archive beside the cluster file, whose own index names the image.
    Archive(String),
}

impl ImageSource {
    /// Reads what the cluster file says: a path that ends in `.tar`, or a name.
    ///
    /// # Errors
    /// When it is neither.
    pub fn new(text: &str) -> Result<Self, NameError> {
        if !text.ends_with(".tar") {
            return ImageName::new(text).map(Self::Named);
        }
        match text.starts_with('/') || text.split('/').any(|part| part == "..") {
            true => Err(NameError("an archive stands beside the cluster file or below it".into())),
            false => Ok(Self::Archive(text.trim_start_matches("./").to_owned())),
        }
    }
}

impl fmt::Display for ImageSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Named(name) => name.fmt(f),
            Self::Archive(path) => f.write_str(path),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_names_mean_what_runtimes_take_them_for() {
        let digest = format!("sha256:{}", "0a".repeat(32));
        let full = format!("quay.example/a/b@{digest}");
        for (text, wanted) in [
            ("gulls", "docker.io/library/gulls:latest"),
            ("gulls/counter:2", "docker.io/gulls/counter:2"),
            ("localhost/a", "localhost/a:latest"),
            ("registry:5000/a/b:1.0_x", "registry:5000/a/b:1.0_x"),
            (full.as_str(), full.as_str()),
        ] {
            assert_eq!(ImageName::new(text).unwrap().to_string(), wanted, "{text}");
        }
        for text in ["", "a b", "A/b", "a:", "a@sha256:1", "a/../b", "x.y/", "a//b", ":1", "a:b/c:"]
        {
            assert!(ImageName::new(text).is_err(), "{text}");
        }
        assert_eq!(ImageSource::new("./images/a.tar").unwrap().to_string(), "images/a.tar");
        assert!(ImageSource::new("../a.tar").is_err());
    }
}
