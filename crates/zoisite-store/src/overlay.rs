//! Looking ahead: a store in which changes are seen and never written.

use std::collections::BTreeMap;

use jiff::Timestamp;

use crate::StoreError;
use crate::records::{Change, LockHolder, Records};

/// Records of another store with changes laid over them, which are forgotten with this value.
#[derive(Default)]
pub struct Overlay {
    base: Option<Box<dyn Records>>,
    /// By kind and key; `None` for what was taken out.
    changes: BTreeMap<(&'static str, String), Option<Vec<u8>>>,
    events: Vec<(u64, Timestamp, String)>,
}

impl Overlay {
    /// Lays an overlay over `base`, or over an empty store.
    pub fn over(base: Option<Box<dyn Records>>) -> Self {
        Self { base, ..Self::default() }
    }
}

impl Records for Overlay {
    fn get(&self, kind: &'static str, key: &str) -> Result<Option<Vec<u8>>, StoreError> {
        match (self.changes.get(&(kind, key.to_owned())), &self.base) {
            (Some(changed), _) => Ok(changed.clone()),
            (None, Some(base)) => base.get(kind, key),
            (None, None) => Ok(None),
        }
    }

    fn list(&self, kind: &'static str) -> Result<Vec<(String, Vec<u8>)>, StoreError> {
        let below = self.base.as_ref().map_or(Ok(Vec::new()), |base| base.list(kind))?;
        let changes = self.changes.range((kind, String::new())..);
        let changes: Vec<_> = changes.take_while(|((k, _), _)| *k == kind).collect();
        if changes.is_empty() {
            return Ok(below);
        }
        let mut all: BTreeMap<String, Vec<u8>> = below.into_iter().collect();
        for ((_, key), value) in changes {
            match value {
                Some(value) => all.insert(key.clone(), value.clone()),
                None => all.remove(key),
            };
        }
        Ok(all.into_iter().collect())
    }

    fn write(&mut self, changes: &[Change]) -> Result<(), StoreError> {
        for change in changes {
            match change {
                Change::Put { kind, key, value } => {
                    self.changes.insert((kind, key.clone()), Some(value.clone()));
                }
                Change::Remove { kind, key } => {
                    self.changes.insert((kind, key.clone()), None);
                }
            }
        }
        Ok(())
    }

    fn append(&mut self, run: u64, at: Timestamp, event: &str) -> Result<(), StoreError> {
        self.events.push((run, at, event.to_owned()));
        Ok(())
    }

    fn events(&self, run: u64) -> Result<Vec<(Timestamp, String)>, StoreError> {
        let own = self.events.iter().filter(|(of, _, _)| *of == run);
        Ok(own.map(|(_, at, event)| (*at, event.clone())).collect())
    }

    fn lock(&mut self, _: &LockHolder, _: Timestamp, _: Timestamp) -> Result<(), StoreError> {
        Ok(()) // Nobody else sees an overlay.
    }

    fn unlock(&mut self, _: &LockHolder) -> Result<(), StoreError> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SqliteRecords;

    fn put(key: &str, value: &[u8]) -> Change {
        Change::Put { kind: "tide", key: key.into(), value: value.into() }
    }

    #[test]
    fn changes_are_seen_and_never_written() {
        let dir = tempfile::tempdir().unwrap();
        let mut base = SqliteRecords::open(dir.path()).unwrap();
        base.write(&[put("a", b"low"), put("b", b"high")]).unwrap();
        let mut over = Overlay::over(Some(Box::new(base)));
        let gone = Change::Remove { kind: "tide", key: "a".into() };
        over.write(&[gone, put("b", b"ebb"), put("c", b"flood")]).unwrap();
        assert_eq!(over.get("tide", "a").unwrap(), None);
        assert_eq!(over.get("tide", "b").unwrap().as_deref(), Some(&b"ebb"[..]));
        let all = over.list("tide").unwrap();
        assert_eq!(all, [("b".into(), b"ebb".to_vec()), ("c".into(), b"flood".to_vec())]);
        drop(over);
        let again = SqliteRecords::open(dir.path()).unwrap();
        let kept = again.list("tide").unwrap();
        assert_eq!(kept, [("a".into(), b"low".to_vec()), ("b".into(), b"high".to_vec())]);
    }

    #[test]
    fn over_nothing_it_is_an_empty_store() {
        let mut over = Overlay::over(None);
        assert!(over.list("tide").unwrap().is_empty());
        over.write(&[put("a", b"low")]).unwrap();
        assert_eq!(over.list("tide").unwrap().len(), 1);
        assert!(over.list("ti").unwrap().is_empty() && over.list("tides").unwrap().is_empty());
    }
}
