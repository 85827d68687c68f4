//! What must be the same before and after a change that is refused.

use std::collections::BTreeMap;
use std::path::Path;

/// Changes of the demo's cluster file that are refused on a cluster that stands: what is replaced, by what,
/// and words of the refusal.
pub const STANDING: [(&str, &str, &str); 6] = [
    ("10.90.0.0/16", "10.94.0.0/16", "network.pods was 10.90.0.0/16"),
    ("10.91.0.0/20", "10.95.0.0/20", "network.services was 10.91.0.0/20"),
    ("[network]\n", "[network]\npod-subnet = 25\n", "network.pod-subnet was 24"),
    ("[cluster]\n", "[cluster]\ndomain = \"tide.local\"\n", "cluster.domain was cluster.local"),
    ("\"1.36.3\"", "\"1.35.4\"", "S8 skew"),
    ("\"3.6.16\"", "\"3.5.21\"", "S8 skew"),
];

/// A dump of a store: every record, and the journal but for the lines of runs themselves.
#[derive(Debug, PartialEq, Eq)]
pub struct Untouched {
    records: BTreeMap<(String, String), Vec<u8>>,
    events: Vec<String>,
}

impl Untouched {
    pub fn of(folder: &Path) -> Self {
        let path = folder.join("store.sqlite");
        let connection = rusqlite::Connection::open(path).unwrap();
        let mut records = BTreeMap::new();
        let mut all = connection
            .prepare("SELECT kind, key, coalesce(value, x'00'), revision FROM record")
            .unwrap();
        let rows = all.query_map([], |row| {
            let (kind, key): (String, String) = (row.get(0)?, row.get(1)?);
            let mut value: Vec<u8> = row.get(2)?;
            value.extend(row.get::<_, i64>(3)?.to_be_bytes());
            Ok(((kind, key), value))
        });
        for row in rows.unwrap() {
            let (key, value) = row.unwrap();
            records.insert(key, value);
        }
        let mut all =
            connection.prepare("SELECT run || at || event FROM event ORDER BY id").unwrap();
        let events = all.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect();
        Self { records, events }
    }

    /// The kinds of records that there are.
    pub fn kinds(&self) -> Vec<&str> {
        let mut kinds: Vec<&str> = self.records.keys().map(|(kind, _)| kind.as_str()).collect();
        kinds.dedup();
        kinds
    }

    /// The same as before, but for lines of runs.
    pub fn is(&self, before: &Self, what: &str) {
        let but_runs = |one: &Self| {
            let mut records = one.records.clone();
            records.retain(|(kind, _), _| kind != "run");
            records
        };
        let (now, then) = (but_runs(self), but_runs(before));
        for (key, value) in &now {
            assert_eq!(then.get(key), Some(value), "{what}: the record {key:?} was changed");
        }
        assert_eq!(now.len(), then.len(), "{what}: a record was taken out");
        assert_eq!(self.events, before.events, "{what}: something was done");
    }
}

/// Changes of who is a member, and words of what waits where no person wants them.
pub const MEMBERS: [(&str, &str, &str); 5] = [
    (
        "egret = \"10.77.0.12\"",
        "egret = \"10.77.0.14\"",
        "have the others reach egret at https://10.77.0.14",
    ),
    ("\"ibis\"]", "\"ibis\", \"curlew\", \"plover\"]", "let curlew into the quorum"),
    ("\"egret\", \"ibis\"]", "\"egret\", \"curlew\"]", "let curlew into the quorum"),
    ("[\"heron\", \"egret\", \"ibis\"]", "[\"heron\"]", "take egret out of the quorum"),
    (
        "[etcd]\n",
        "[etcd]\npeer-port = 2390\n",
        "have the others reach egret at https://10.77.0.12:2390",
    ),
];
