//! Records in one SQLite file.

use std::fs;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rusqlite::TransactionBehavior::Immediate;
use rusqlite::{Connection, ErrorCode, OptionalExtension as _, Transaction, params};

use crate::StoreError;
use crate::records::{Change, LockHolder, Over, Records, Stored};

/// The format that this program writes.
pub const FORMAT: i64 = 2;

const SCHEMA: &str = "
    CREATE TABLE record (kind TEXT, key TEXT, value BLOB, revision INTEGER NOT NULL,
                         PRIMARY KEY (kind, key)) WITHOUT ROWID;
    CREATE TABLE event (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, at TEXT NOT NULL, event TEXT NOT NULL);
    CREATE INDEX event_run ON event (run);
    CREATE TABLE lock (one INTEGER PRIMARY KEY CHECK (one = 1), holder TEXT, since TEXT, until TEXT);
";

/// From format 1: revisions, and a record for each host where one held all of them.
const FROM_1: &str = "
    CREATE TABLE new (kind TEXT, key TEXT, value BLOB, revision INTEGER NOT NULL,
                      PRIMARY KEY (kind, key)) WITHOUT ROWID;
    INSERT INTO new SELECT kind, key, value, 1 FROM record
        WHERE NOT (kind = 'meta' AND key IN ('pod-subnets', 'host-facts'));
    INSERT INTO new SELECT substr(record.key, 1, length(record.key) - (record.key = 'pod-subnets')),
                           each.key, CAST(each.value AS BLOB), 1
        FROM record, json_each(CAST(record.value AS TEXT)) AS each
        WHERE record.kind = 'meta' AND record.key IN ('pod-subnets', 'host-facts');
    DROP TABLE record;
    ALTER TABLE new RENAME TO record;
";

/// How long another process is waited for that writes at this moment, in seconds.
const BUSY: u64 = 20;

/// The store of one cluster.
#[derive(Debug)]
pub struct SqliteRecords {
    connection: Connection,
    path: PathBuf,
    /// The lock that was taken through this value; nothing is written once it is another's.
    held: Option<String>,
}

impl SqliteRecords {
    /// Opens the store in `folder`, making it (0700, out of version control) when it is not there.
    ///
    /// # Errors
    /// When the folder cannot be made, or the file is damaged or of a newer format.
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        let path = folder.join("store.sqlite");
        let file = |doing, path: &Path| {
            let path = path.to_owned();
            move |source| StoreError::File { doing, path, source }
        };
        // Two programs may do this at the same moment: what the other one made is as good.
        match fs::DirBuilder::new().mode(0o700).create(folder) {
            Err(error) if !folder.is_dir() => return Err(file("making the folder", folder)(error)),
            _ => {}
        }
        let ignore = folder.join(".gitignore");
        if !ignore.exists() {
            fs::write(&ignore, "*\n").map_err(file("writing", &ignore))?;
        }
        if !path.exists() {
            // Made empty by us, so that it never exists with another mode.
            let mut new = fs::OpenOptions::new();
            let made = new.append(true).create(true).mode(0o600).open(&path);
            made.and_then(|made| made.sync_all()).map_err(file("making", &path))?;
            crate::sync_folder(folder).map_err(file("writing", folder))?;
        }
        let connection = Connection::open(&path).map_err(|source| sort(source, &path))?;
        let mut store = Self { connection, path, held: None };
        store.prepare()?;
        Ok(store)
    }

    /// Everything in it as it is at one instant, as the octets of a store of its own; without who holds the lock.
    ///
    /// # Errors
    /// When it cannot be read, or nothing can be written beside it.
    pub fn dump(&self) -> Result<Vec<u8>, StoreError> {
        let folder = self.path.parent().unwrap_or(Path::new("."));
        let failed =
            |source| StoreError::File { doing: "copying", path: self.path.clone(), source };
        let stage =
            tempfile::Builder::new().prefix("copying-").tempdir_in(folder).map_err(failed)?;
        let path = stage.path().join("store.sqlite");
        let text = path.to_string_lossy().into_owned();
        self.run(|| self.connection.execute("VACUUM INTO ?1", [text]).map(|_| ()))?;
        self.run(|| Connection::open(&path)?.execute_batch("DELETE FROM lock; VACUUM;"))?;
        fs::read(&path).map_err(failed)
    }

    /// Takes the store in `folder` away, with every secret in it. What else is in the folder stays.
    ///
    /// # Errors
    /// When a file cannot be removed.
    pub fn forget(folder: &Path) -> Result<(), StoreError> {
        // What is written ahead (`-wal`) goes with it; the file that others look for goes first.
        for name in ["store.sqlite", "store.sqlite-wal", "store.sqlite-shm"] {
            let path = folder.join(name);
            match fs::remove_file(&path) {
                Err(source) if source.kind() != std::io::ErrorKind::NotFound => {
                    return Err(StoreError::File { doing: "removing", path, source });
                }
                _ => {}
            }
        }
        crate::sync_folder(folder).map_err(|source| StoreError::File {
            doing: "writing",
            path: folder.to_owned(),
            source,
        })
    }

    /// Whether `folder` holds a store.
    pub fn exists(folder: &Path) -> bool {
        folder.join("store.sqlite").exists()
    }

    fn prepare(&mut self) -> Result<(), StoreError> {
        let Self { connection, path, .. } = self;
        let path: &Path = path;
        let failed = |source| sort(source, path);
        connection.busy_timeout(std::time::Duration::from_secs(BUSY)).map_err(failed)?;
        let format = |connection: &Connection| -> rusqlite::Result<i64> {
            connection.query_row("PRAGMA user_version", [], |row| row.get(0))
        };
        let found = format(connection).map_err(failed)?;
        if found > FORMAT {
            return Err(StoreError::Newer { path: path.to_owned(), found, known: FORMAT });
        }
        if found < FORMAT {
            log_ahead(connection).map_err(failed)?;
            let transaction = connection.transaction_with_behavior(Immediate).map_err(failed)?;
            // Another program may have been faster.
            let found = format(&transaction).map_err(failed)?;
            let tables: i64 = transaction
                .query_row("SELECT count(*) FROM sqlite_master", [], |row| row.get(0))
                .map_err(failed)?;
            let steps = match found {
                0 if tables > 0 => {
                    return Err(StoreError::Damaged {
                        path: path.to_owned(),
                        why: "it is not a Zoisite store".into(),
                    });
                }
                0 => SCHEMA,
                1 => FROM_1,
                _ => "",
            };
            transaction
                .execute_batch(&format!("{steps} PRAGMA user_version = {FORMAT};"))
                .and_then(|()| transaction.commit())
                .map_err(failed)?;
        }
        // A lost write could lose an authority: every one is on the disk before it counts.
        connection.execute_batch("PRAGMA synchronous = FULL;").map_err(failed)?;
        let verdict: String =
            connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0)).map_err(failed)?;
        if verdict == "ok" {
            Ok(())
        } else {
            Err(StoreError::Damaged { path: path.to_owned(), why: verdict })
        }
    }

    fn run<T>(&self, work: impl FnOnce() -> rusqlite::Result<T>) -> Result<T, StoreError> {
        work().map_err(|source| sort(source, &self.path))
    }
}

/// Switches to the write-ahead log. SQLite does not wait for others here, however patient it is told to be.
fn log_ahead(connection: &Connection) -> rusqlite::Result<()> {
    let end = std::time::Instant::now() + std::time::Duration::from_secs(BUSY);
    loop {
        match connection.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(())) {
            Err(error)
                if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy)
                    && std::time::Instant::now() < end =>
            {
                std::thread::sleep(std::time::Duration::from_millis(20));
            }
            done => return done,
        }
    }
}

fn sort(source: rusqlite::Error, path: &Path) -> StoreError {
    match source.sqlite_error_code() {
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            StoreError::Damaged { path: path.to_owned(), why: source.to_string() }
        }
        _ => StoreError::Database { path: path.to_owned(), source },
    }
}

/// Makes a change, unless what stands there is not what it was made over; the revision it then has.
fn change(transaction: &Transaction<'_>, change: &Change) -> rusqlite::Result<Option<u64>> {
    let Change { kind, key, value, over } = change;
    let found: Option<(bool, u64)> = transaction
        .prepare_cached(
            "SELECT value IS NOT NULL, revision FROM record WHERE kind = ?1 AND key = ?2",
        )?
        .query_row(params![kind, key], |row| {
            Ok((row.get(0)?, row.get::<_, i64>(1)?.cast_unsigned()))
        })
        .optional()?;
    let fits = match (over, found) {
        (Over::Whatever, _) | (Over::Nothing, None | Some((false, _))) => true,
        (Over::Revision(read), Some((true, revision))) => *read == revision,
        (Over::Nothing, Some((true, _))) | (Over::Revision(_), _) => false,
    };
    if !fits {
        return Ok(None);
    }
    let revision = found.map_or(0, |(_, revision)| revision) + 1;
    transaction
        .prepare_cached("INSERT OR REPLACE INTO record VALUES (?1, ?2, ?3, ?4)")?
        .execute(params![kind, key, value, revision.cast_signed()])?;
    Ok(Some(revision))
}

/// Who holds the lock, as it is written down.
fn holder_in(connection: &Connection) -> rusqlite::Result<Option<String>> {
    connection.query_row("SELECT holder FROM lock", [], |row| row.get(0)).optional()
}

impl Records for SqliteRecords {
    fn get(&self, kind: &'static str, key: &str) -> Result<Option<Stored>, StoreError> {
        self.run(|| {
            self.connection
                .prepare_cached(
                    "SELECT value, revision FROM record WHERE kind = ?1 AND key = ?2 AND value IS NOT NULL",
                )?
                .query_row(params![kind, key], |row| {
                    let revision = row.get::<_, i64>(1)?.cast_unsigned();
                    Ok(Stored { value: row.get(0)?, revision })
                })
                .optional()
        })
    }

    fn list(&self, kind: &'static str) -> Result<Vec<(String, Stored)>, StoreError> {
        self.run(|| {
            self.connection
                .prepare_cached(
                    "SELECT key, value, revision FROM record WHERE kind = ?1 AND value IS NOT NULL ORDER BY key",
                )?
                .query_map([kind], |row| {
                    let revision = row.get::<_, i64>(2)?.cast_unsigned();
                    Ok((row.get(0)?, Stored { value: row.get(1)?, revision }))
                })?
                .collect()
        })
    }

    fn write(&mut self, changes: &[Change]) -> Result<Vec<u64>, StoreError> {
        let Self { connection, path, held } = self;
        let mut write = || {
            let transaction = connection.transaction_with_behavior(Immediate)?;
            if let Some(held) = held {
                let found = holder_in(&transaction)?;
                if found.as_ref() != Some(held) {
                    let other =
                        found.and_then(|text| serde_json::from_str::<LockHolder>(&text).ok());
                    let by = other.map_or_else(|| "nobody".into(), |other| other.to_string());
                    return Ok(Err(StoreError::LockLost { by }));
                }
            }
            let mut revisions = Vec::with_capacity(changes.len());
            for one in changes {
                let Some(revision) = change(&transaction, one)? else {
                    let key = one.key.clone();
                    return Ok(Err(StoreError::Overtaken { kind: one.kind, key }));
                };
                revisions.push(revision);
            }
            transaction.commit()?;
            Ok(Ok(revisions))
        };
        write().map_err(|source| sort(source, path))?
    }

    fn append(&mut self, run: u64, at: Timestamp, event: &str) -> Result<(), StoreError> {
        // There are hundreds of these in a run, and the last ones may be lost with the power.
        let quickly = |speed| self.run(|| self.connection.execute_batch(speed));
        quickly("PRAGMA synchronous = NORMAL;")?;
        let appended = self.run(|| {
            self.connection
                .prepare_cached("INSERT INTO event (run, at, event) VALUES (?1, ?2, ?3)")?
                .execute(params![run.cast_signed(), at.to_string(), event])
        });
        quickly("PRAGMA synchronous = FULL;")?;
        appended.map(|_| ())
    }

    fn events(&self, run: u64) -> Result<Vec<(Timestamp, String)>, StoreError> {
        self.run(|| {
            self.connection
                .prepare_cached("SELECT at, event FROM event WHERE run = ?1 ORDER BY id")?
                .query_map([run.cast_signed()], |row| {
                    let at: String = row.get(0)?;
                    Ok((at.parse().unwrap_or(Timestamp::UNIX_EPOCH), row.get(1)?))
                })?
                .collect()
        })
    }

    fn lock(
        &mut self,
        holder: &LockHolder,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<(), StoreError> {
        let path = self.path.clone();
        let text = serde_json::to_string(holder).map_err(|source| StoreError::Record {
            kind: "lock",
            key: String::new(),
            source,
        })?;
        let mut take = || {
            let transaction = self.connection.transaction_with_behavior(Immediate)?;
            let found: Option<(String, String, String)> = transaction
                .query_row("SELECT holder, since, until FROM lock", [], |row| {
                    Ok((row.get(0)?, row.get(1)?, row.get(2)?))
                })
                .optional()?;
            let mut since = now.to_string();
            if let Some((other, other_since, other_until)) = found {
                let other: Option<LockHolder> = serde_json::from_str(&other).ok();
                let ends = other_until.parse::<Timestamp>();
                let over = ends.as_ref().is_ok_and(|until| *until <= now);
                let left = |until: &Timestamp| until.as_second() - now.as_second();
                let enough = ends.as_ref().is_ok_and(|ends| left(ends) > left(&until) / 2);
                match other {
                    // It is asked for at every event of a run: most times there is nothing to write.
                    Some(other) if other == *holder && enough => return Ok(Ok(())),
                    Some(other) if other == *holder => since = other_since,
                    Some(other) if !over && !gone(&other, holder) => {
                        let since = other_since.parse().unwrap_or(now);
                        return Ok(Err(StoreError::Locked { holder: other, since }));
                    }
                    _ => {}
                }
            }
            transaction.execute(
                "INSERT OR REPLACE INTO lock VALUES (1, ?1, ?2, ?3)",
                params![text, since, until.to_string()],
            )?;
            transaction.commit()?;
            Ok(Ok(()))
        };
        let taken = take().map_err(|source| sort(source, &path))?;
        if taken.is_ok() {
            self.held = Some(text);
        }
        taken
    }

    fn unlock(&mut self, holder: &LockHolder) -> Result<(), StoreError> {
        let text = serde_json::to_string(holder).map_err(|source| StoreError::Record {
            kind: "lock",
            key: String::new(),
            source,
        })?;
        // Whoever only looks writes nothing, not even this.
        if self.held.take().is_none() {
            return Ok(());
        }
        self.run(|| self.connection.execute("DELETE FROM lock WHERE holder = ?1", [text]))?;
        Ok(())
    }
}

/// Whether a holder on this very machine is a process that no longer exists.
fn gone(other: &LockHolder, me: &LockHolder) -> bool {
    other.host == me.host && LockHolder::started(other.pid) != Some(other.started)
}

impl LockHolder {
    /// When a process of this machine started, in the kernel's clock ticks (proc(5), field 22 of
    /// `/proc/PID/stat`); `None` when there is no such process, or it has ended and its parent has not waited for it.
    pub fn started(pid: u32) -> Option<u64> {
        let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        let mut fields = stat.rsplit_once(')')?.1.split_whitespace();
        match fields.next()? {
            "Z" | "X" => None,
            _ => fields.nth(18)?.parse().ok(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn holder(pid: u32) -> LockHolder {
        let started = LockHolder::started(pid).unwrap_or(1);
        LockHolder { user: "ada".into(), host: "desk".into(), pid, started }
    }

    #[test]
    fn the_file_is_private_and_out_of_version_control() {
        use std::os::unix::fs::PermissionsExt as _;
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join(".zoisite");
        SqliteRecords::open(&folder).unwrap();
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!(mode(&folder), 0o700);
        assert_eq!(mode(&folder.join("store.sqlite")), 0o600);
        assert_eq!(fs::read_to_string(folder.join(".gitignore")).unwrap(), "*\n");
    }

    #[test]
    fn a_newer_a_damaged_and_a_foreign_file_are_refused_with_a_fix() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("store.sqlite");
        let mut store = SqliteRecords::open(dir.path()).unwrap();
        let value = vec![7; 100_000];
        store.write(&[Change::put("x", "y", value)]).unwrap();
        drop(store);
        let good = fs::read(&path).unwrap();

        let connection = Connection::open(&path).unwrap();
        connection.execute_batch("PRAGMA user_version = 99").unwrap();
        drop(connection);
        let error = SqliteRecords::open(dir.path()).unwrap_err();
        assert!(matches!(error, StoreError::Newer { found: 99, known: FORMAT, .. }), "{error}");

        for damaged in [good[..good.len() / 2].to_vec(), b"not a database at all".to_vec()] {
            fs::write(&path, &damaged).unwrap();
            let error = SqliteRecords::open(dir.path()).unwrap_err();
            assert!(matches!(error, StoreError::Damaged { .. }), "{error}");
            assert!(error.fix().contains("backup"));
            assert_eq!(fs::read(&path).unwrap(), damaged, "a damaged store is not touched");
        }
    }

    #[test]
    fn two_runs_never_hold_the_lock_at_once() {
        let dir = tempfile::tempdir().unwrap();
        let mut one = SqliteRecords::open(dir.path()).unwrap();
        let mut two = SqliteRecords::open(dir.path()).unwrap();
        let me = holder(std::process::id());
        // A process that lives as long as this test: its own parent.
        let other = holder(std::os::unix::process::parent_id());
        one.lock(&me, at(100), at(160)).unwrap();
        one.lock(&me, at(110), at(170)).unwrap();
        let error = two.lock(&other, at(120), at(180)).unwrap_err();
        assert!(
            matches!(&error, StoreError::Locked { holder, since } if *holder == me && *since == at(100))
        );
        two.unlock(&other).unwrap();
        assert!(two.lock(&other, at(121), at(180)).is_err(), "only its holder lets a lock go");
        two.lock(&other, at(171), at(200)).unwrap();
        assert!(one.lock(&me, at(172), at(230)).is_err());
        two.unlock(&other).unwrap();
        one.lock(&me, at(173), at(230)).unwrap();
    }

    #[test]
    fn a_process_that_has_ended_is_gone_though_nobody_has_asked_how() {
        assert!(LockHolder::started(std::process::id()).is_some());
        let mut child = std::process::Command::new("true").spawn().unwrap();
        let end = std::time::Instant::now() + std::time::Duration::from_secs(60);
        while LockHolder::started(child.id()).is_some() {
            assert!(std::time::Instant::now() < end, "it never ends");
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
        child.wait().unwrap();
    }

    #[test]
    fn the_lock_of_a_process_that_is_gone_is_taken_over() {
        let dir = tempfile::tempdir().unwrap();
        let mut store = SqliteRecords::open(dir.path()).unwrap();
        let me = holder(std::process::id());
        let reused = LockHolder { started: me.started + 1, ..me.clone() };
        store.lock(&reused, at(100), at(9_999)).unwrap();
        store.lock(&me, at(101), at(9_999)).unwrap();
    }

    #[test]
    fn a_record_is_written_only_over_what_was_read() {
        let dir = tempfile::tempdir().unwrap();
        let mut one = SqliteRecords::open(dir.path()).unwrap();
        let mut two = SqliteRecords::open(dir.path()).unwrap();
        let put = |value: &[u8], over| Change { over, ..Change::put("tide", "a", value.to_vec()) };
        one.write(&[put(b"low", Over::Nothing)]).unwrap();
        let read = one.get("tide", "a").unwrap().unwrap();
        two.write(&[put(b"high", Over::Revision(read.revision))]).unwrap();
        // Not one change of a transaction is made when another of it comes too late.
        let beside = Change::put("tide", "b", b"ebb".to_vec());
        for over in [Over::Revision(read.revision), Over::Nothing] {
            let error = one.write(&[beside.clone(), put(b"flood", over)]).unwrap_err();
            assert!(matches!(&error, StoreError::Overtaken { kind: "tide", key } if key == "a"));
        }
        assert_eq!(one.get("tide", "a").unwrap().unwrap().value, b"high");
        assert!(one.get("tide", "b").unwrap().is_none());
        // What was taken out and made again is not what was read.
        two.write(&[Change::remove("tide", "a"), put(b"high", Over::Nothing)]).unwrap();
        let late = put(b"flood", Over::Revision(read.revision + 1));
        assert!(matches!(one.write(&[late]), Err(StoreError::Overtaken { .. })));
    }

    #[test]
    fn s11_nothing_is_written_once_the_lock_is_anothers() {
        let dir = tempfile::tempdir().unwrap();
        let mut one = SqliteRecords::open(dir.path()).unwrap();
        let mut two = SqliteRecords::open(dir.path()).unwrap();
        let me = holder(std::process::id());
        let other = holder(std::os::unix::process::parent_id());
        one.lock(&me, at(100), at(160)).unwrap();
        one.write(&[Change::put("tide", "a", b"low".to_vec())]).unwrap();
        // Its time is over, and another run takes it.
        two.lock(&other, at(161), at(300)).unwrap();
        let error = one.write(&[Change::put("tide", "a", b"high".to_vec())]).unwrap_err();
        assert!(
            matches!(&error, StoreError::LockLost { by } if *by == other.to_string()),
            "{error}"
        );
        assert_eq!(two.get("tide", "a").unwrap().unwrap().value, b"low");
    }

    #[test]
    fn two_programs_may_make_the_store_at_the_same_moment() {
        for _ in 0..10 {
            let dir = tempfile::tempdir().unwrap();
            let folder = dir.path().join(".zoisite");
            std::thread::scope(|scope| {
                let open = || SqliteRecords::open(&folder).map(|_| ());
                let all: Vec<_> = (0..4).map(|_| scope.spawn(open)).collect();
                all.into_iter().for_each(|one| one.join().unwrap().unwrap());
            });
        }
    }

    #[test]
    fn a_store_of_the_first_format_is_brought_up_with_a_record_for_each_host() {
        let dir = tempfile::tempdir().unwrap();
        let old = Connection::open(dir.path().join("store.sqlite")).unwrap();
        old.execute_batch(
            "CREATE TABLE record (kind TEXT, key TEXT, value BLOB NOT NULL, PRIMARY KEY (kind, key)) WITHOUT ROWID;
             CREATE TABLE event (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, at TEXT NOT NULL, event TEXT NOT NULL);
             CREATE TABLE lock (one INTEGER PRIMARY KEY CHECK (one = 1), holder TEXT, since TEXT, until TEXT);
             INSERT INTO record VALUES ('meta', 'cluster-id', CAST('abc' AS BLOB)),
               ('meta', 'pod-subnets', CAST('{\"tern-1\":[\"10.90.0.0/24\"],\"tern-2\":[]}' AS BLOB)),
               ('meta', 'host-facts', CAST('{\"tern-1\":{\"container\":true}}' AS BLOB));
             PRAGMA user_version = 1;",
        )
        .unwrap();
        drop(old);
        let store = SqliteRecords::open(dir.path()).unwrap();
        let text = |kind, key: &str| {
            String::from_utf8(store.get(kind, key).unwrap().unwrap().value).unwrap()
        };
        assert_eq!(text("meta", "cluster-id"), "abc");
        assert_eq!(text("pod-subnet", "tern-1"), "[\"10.90.0.0/24\"]");
        assert_eq!(text("host-facts", "tern-1"), "{\"container\":true}");
        assert!(store.get("meta", "pod-subnets").unwrap().is_none());
        assert_eq!(store.list("pod-subnet").unwrap().len(), 2);
    }
}
