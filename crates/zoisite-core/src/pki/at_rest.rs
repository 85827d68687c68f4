use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Ring;

/// A key by which secrets are encrypted in etcd, without the key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AtRestKey {
    /// Its name, which etcd's values carry (`k8s:enc:secretbox:v1:NAME:`).
    pub name: String,
    /// Tells it from every other key: the first octets of a SHA-256.
    pub id: String,
    /// When it was made, where that is known.
    #[serde(default)]
    pub made: Option<Timestamp>,
}

/// The ring of keys by which secrets are encrypted in etcd: one is replaced in stages, each of which holds on every
/// API server before the next begins, so that a secret can be read at every instant (rule S13).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AtRestKeys {
    /// The one that encrypts.
    pub used: AtRestKey,
    /// The one that will, once every API server accepts it.
    #[serde(default)]
    pub coming: Option<AtRestKey>,
    /// Those that did before: accepted as long as something may be encrypted by them.
    #[serde(default)]
    pub going: Vec<AtRestKey>,
    /// Those that were: no API server has them any more, and snapshots of their time need them.
    #[serde(default)]
    pub gone: Vec<AtRestKey>,
}

/// What is to be done next of a replacement, by the name of the key that it is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AtRestStage {
    /// Every API server is to accept it.
    Accept(String),
    /// Every API server is to encrypt by it, and then everything is to be written again.
    Rewrite(String),
}

impl AtRestKeys {
    /// One key, and no other.
    pub fn only(key: AtRestKey) -> Self {
        Self { used: key, coming: None, going: Vec::new(), gone: Vec::new() }
    }

    /// What API servers have: the first encrypts, all of them decrypt.
    pub fn ring(&self) -> Ring<&AtRestKey> {
        Ring { used: &self.used, accepted: self.coming.iter().chain(&self.going).collect() }
    }

    /// What is to be done next; `None` where nothing is being replaced.
    pub fn stage(&self) -> Option<AtRestStage> {
        match (&self.coming, self.going.is_empty()) {
            (Some(key), _) => Some(AtRestStage::Accept(key.name.clone())),
            (None, false) => Some(AtRestStage::Rewrite(self.used.name.clone())),
            (None, true) => None,
        }
    }

    /// The ring once that stage holds on every API server.
    pub fn after(&self, stage: &AtRestStage) -> Self {
        let mut next = self.clone();
        match stage {
            AtRestStage::Accept(name) => {
                if let Some(key) = next.coming.take_if(|key| key.name == *name) {
                    next.going.insert(0, std::mem::replace(&mut next.used, key));
                }
            }
            AtRestStage::Rewrite(name) if next.used.name == *name => {
                next.gone.append(&mut next.going);
            }
            AtRestStage::Rewrite(_) => {}
        }
        next
    }

    /// The ring in which that key is accepted too, until everything is written again; `None` where it is unknown.
    pub fn accepting(&self, id: &str) -> Option<Self> {
        if self.ring().all().any(|key| key.id == id) {
            return Some(self.clone());
        }
        let mut next = self.clone();
        let known = next.gone.iter().position(|key| key.id == id)?;
        next.going.push(next.gone.remove(known));
        Some(next)
    }

    /// Every key that there ever was.
    pub fn all(&self) -> impl Iterator<Item = &AtRestKey> {
        std::iter::once(&self.used).chain(&self.coming).chain(&self.going).chain(&self.gone)
    }

    /// A name that no key ever had.
    pub fn next_name(&self) -> String {
        let free = |name: &String| self.all().all(|key| key.name != *name);
        (self.all().count() + 1..).map(|n| format!("key-{n}")).find(free).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str) -> AtRestKey {
        AtRestKey { name: name.into(), id: format!("{name}'s"), made: None }
    }

    fn names(keys: &AtRestKeys) -> Vec<&str> {
        keys.ring().all().map(|key| key.name.as_str()).collect()
    }

    #[test]
    fn a_key_is_accepted_before_it_is_used_and_the_old_one_goes_last() {
        let mut keys = AtRestKeys::only(key("first"));
        assert_eq!(keys.stage(), None);
        keys.coming = Some(key("key-2"));
        let accept = AtRestStage::Accept("key-2".into());
        assert_eq!((keys.stage(), names(&keys)), (Some(accept.clone()), vec!["first", "key-2"]));
        let used = keys.after(&accept);
        let rewrite = AtRestStage::Rewrite("key-2".into());
        assert_eq!((used.stage(), names(&used)), (Some(rewrite.clone()), vec!["key-2", "first"]));
        // The same once more changes nothing.
        assert_eq!(used.after(&accept), used);
        let done = used.after(&rewrite);
        assert_eq!((done.stage(), names(&done)), (None, vec!["key-2"]));
        assert_eq!((&done.gone, done.after(&rewrite)), (&vec![key("first")], done.clone()));
        assert_eq!(done.next_name(), "key-3");
    }

    #[test]
    fn a_key_that_is_gone_comes_back_to_read_and_goes_again() {
        let keys = AtRestKeys { gone: vec![key("first")], ..AtRestKeys::only(key("key-2")) };
        assert_eq!(keys.accepting("key-2's"), Some(keys.clone()));
        assert_eq!(keys.accepting("another's"), None);
        let back = keys.accepting("first's").unwrap();
        assert_eq!(names(&back), ["key-2", "first"]);
        let rewrite = AtRestStage::Rewrite("key-2".into());
        assert_eq!(back.stage(), Some(rewrite.clone()));
        assert_eq!(back.after(&rewrite), keys);
    }
}
