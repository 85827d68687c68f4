//! Looking ahead: a store in which changes are seen and never written.

use std::collections::BTreeMap;

use jiff::Timestamp;

use crate::StoreError;
use crate::records::{Change, LockHolder, Over, Records, Stored};

/// Records of another store with changes laid over them, which are forgotten with this value unless they
/// are kept.
#[derive(Default)]
pub struct Overlay {
    base: Option<Box<dyn Records>>,
    /// By kind and key.
    changes: BTreeMap<(&'static str, String), Laid>,
    events: Vec<(u64, Timestamp, String)>,
}

/// The new value, or `None` for what was taken out; and over what of the base it was laid first.
type Laid = (Option<Vec<u8>>, Over);

impl Overlay {
    /// Lays an overlay over `base`, or over an empty store.
    pub fn over(base: Option<Box<dyn Records>>) -> Self {
        Self { base, ..Self::default() }
    }
}

/// The revision of what is only laid over: nothing else can have changed it.
const LAID_OVER: u64 = u64::MAX;

impl Records for Overlay {
    fn get(&self, kind: &'static str, key: &str) -> Result<Option<Stored>, StoreError> {
        match (self.changes.get(&(kind, key.to_owned())), &self.base) {
            (Some((value, _)), _) => {
                Ok(value.clone().map(|value| Stored { value, revision: LAID_OVER }))
            }
            (None, Some(base)) => base.get(kind, key),
            (None, None) => Ok(None),
        }
    }

    fn list(&self, kind: &'static str) -> Result<Vec<(String, Stored)>, StoreError> {
        let below = self.base.as_ref().map_or(Ok(Vec::new()), |base| base.list(kind))?;
        let changes = self.changes.range((kind, String::new())..);
        let changes: Vec<_> = changes.take_while(|((k, _), _)| *k == kind).collect();
        if changes.is_empty() {
            return Ok(below);
        }
        let mut all: BTreeMap<String, Stored> = below.into_iter().collect();
        for ((_, key), (value, _)) in changes {
            match value {
                Some(value) => {
                    all.insert(key.clone(), Stored { value: value.clone(), revision: LAID_OVER })
                }
                None => all.remove(key),
            };
        }
        Ok(all.into_iter().collect())
    }

    fn write(&mut self, changes: &[Change]) -> Result<Vec<u64>, StoreError> {
        for Change { kind, key, value, over } in changes {
            let laid = self.changes.entry((kind, key.clone())).or_insert((None, *over));
            laid.0.clone_from(value);
        }
        Ok(vec![LAID_OVER; changes.len()])
    }

    fn keep(&mut self) -> Result<(), StoreError> {
        let Some(base) = &mut self.base else { return Ok(()) };
        let changes: Vec<Change> = std::mem::take(&mut self.changes)
            .into_iter()
            .map(|((kind, key), (value, over))| Change { kind, key, value, over })
            .collect();
        if changes.is_empty() { Ok(()) } else { base.write(&changes).map(|_| ()) }
    }

    fn append(&mut self, run: u64, at: Timestamp, event: &str) -> Result<(), StoreError> {
        self.events.push((run, at, event.to_owned()));
        Ok(())
    }

    fn events(&self, run: u64) -> Result<Vec<(Timestamp, String)>, StoreError> {
        let own = self.events.iter().filter(|(of, _, _)| *of == run);
        Ok(own.map(|(_, at, event)| (*at, event.clone())).collect())
    }

    // Nobody else sees what is laid over; what is kept is written under the base's lock.
    fn lock(
        &mut self,
        holder: &LockHolder,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<(), StoreError> {
        self.base.as_mut().map_or(Ok(()), |base| base.lock(holder, now, until))
    }

    fn unlock(&mut self, holder: &LockHolder) -> Result<(), StoreError> {
        self.base.as_mut().map_or(Ok(()), |base| base.unlock(holder))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::SqliteRecords;

    fn put(key: &str, value: &[u8]) -> Change {
        Change::put("tide", key, value.to_vec())
    }

    fn all(records: &dyn Records) -> Vec<(String, Vec<u8>)> {
        let all = records.list("tide").unwrap().into_iter();
        all.map(|(key, stored)| (key, stored.value)).collect()
    }

    #[test]
    fn changes_are_seen_and_written_only_when_they_are_kept() {
        let dir = tempfile::tempdir().unwrap();
        let mut base = SqliteRecords::open(dir.path()).unwrap();
        base.write(&[put("a", b"low"), put("b", b"high")]).unwrap();
        let changed = || {
            let base = SqliteRecords::open(dir.path()).unwrap();
            let mut over = Overlay::over(Some(Box::new(base)));
            over.write(&[Change::remove("tide", "a"), put("b", b"ebb"), put("c", b"flood")])
                .unwrap();
            over
        };
        let over = changed();
        assert_eq!(over.get("tide", "a").unwrap(), None);
        assert_eq!(over.get("tide", "b").unwrap().unwrap().value, b"ebb");
        let new = [("b".into(), b"ebb".to_vec()), ("c".into(), b"flood".to_vec())];
        assert_eq!(all(&over), new);
        drop(over);
        let old = [("a".into(), b"low".to_vec()), ("b".into(), b"high".to_vec())];
        assert_eq!(all(&base), old);
        changed().keep().unwrap();
        assert_eq!(all(&base), new);
    }

    #[test]
    fn what_was_changed_below_meanwhile_is_not_overwritten() {
        let dir = tempfile::tempdir().unwrap();
        let mut base = SqliteRecords::open(dir.path()).unwrap();
        base.write(&[put("a", b"low")]).unwrap();
        let below = SqliteRecords::open(dir.path()).unwrap();
        let mut over = Overlay::over(Some(Box::new(below)));
        let read = over.get("tide", "a").unwrap().unwrap().revision;
        let late = Change { over: Over::Revision(read), ..put("a", b"ebb") };
        over.write(&[put("c", b"flood"), late]).unwrap();
        over.write(&[put("a", b"slack")]).unwrap();
        base.write(&[put("a", b"high")]).unwrap();
        assert!(matches!(over.keep(), Err(StoreError::Overtaken { .. })));
        assert_eq!(all(&base), [("a".into(), b"high".to_vec())]);
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
