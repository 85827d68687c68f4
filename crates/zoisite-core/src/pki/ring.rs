use super::issued::AuthorityCertificate;

/// A key that is used, and keys that are accepted beside it: what is replaced is first accepted everywhere, then
/// used, and the old one goes when nothing rests on it any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ring<T> {
    /// The one that signs, or encrypts.
    pub used: T,
    /// Those that are believed besides, the newest first.
    pub accepted: Vec<T>,
}

impl<T> Ring<T> {
    /// All of them, the used one first.
    pub fn all(&self) -> impl Iterator<Item = &T> {
        std::iter::once(&self.used).chain(&self.accepted)
    }
}

impl Ring<&AuthorityCertificate> {
    /// What a verifier is given: the certificates, PEM, one after another.
    pub fn bundle(&self) -> String {
        self.all().map(|authority| authority.pem.as_str()).collect()
    }

    /// The same, and all that stands above them, each once: for those whose TLS library believes a root alone.
    pub fn bundle_up_to_root(&self) -> String {
        let mut all: Vec<&str> = self.all().map(|authority| authority.pem.as_str()).collect();
        for above in self.all().flat_map(|authority| &authority.issuers) {
            if !all.contains(&above.as_str()) {
                all.push(above);
            }
        }
        all.concat()
    }
}
