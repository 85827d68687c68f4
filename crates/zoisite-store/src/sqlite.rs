//! Records in one SQLite file.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use rusqlite::{Connection, ErrorCode, OptionalExtension as _, params};

use crate::StoreError;
use crate::records::{Change, LockHolder, Records};

/// The format that this program writes.
pub const FORMAT: i64 = 1;

const SCHEMA: &str = "
    CREATE TABLE record (kind TEXT, key TEXT, value BLOB NOT NULL, PRIMARY KEY (kind, key)) WITHOUT ROWID;
    CREATE TABLE event (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, at TEXT NOT NULL, event TEXT NOT NULL);
    CREATE INDEX event_run ON event (run);
    CREATE TABLE lock (one INTEGER PRIMARY KEY CHECK (one = 1), holder TEXT, since TEXT, until TEXT);
";

/// The store of one cluster.
#[derive(Debug)]
pub struct SqliteRecords {
    connection: Connection,
    path: PathBuf,
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
        if !folder.is_dir() {
            fs::DirBuilder::new()
                .mode(0o700)
                .create(folder)
                .map_err(file("making the folder", folder))?;
        }
        let ignore = folder.join(".gitignore");
        if !ignore.exists() {
            fs::write(&ignore, "*\n").map_err(file("writing", &ignore))?;
        }
        if !path.exists() {
            // Made empty by us, so that it never exists with another mode.
            fs::OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(&path)
                .and_then(|mut made| made.flush())
                .map_err(file("making", &path))?;
        }
        let empty = fs::metadata(&path).map_err(file("reading", &path))?.len() == 0;
        let connection = Connection::open(&path).map_err(|source| sort(source, &path))?;
        let store = Self { connection, path };
        store.prepare(empty)?;
        Ok(store)
    }

    /// Whether `folder` holds a store.
    pub fn exists(folder: &Path) -> bool {
        folder.join("store.sqlite").exists()
    }

    fn prepare(&self, empty: bool) -> Result<(), StoreError> {
        let connection = &self.connection;
        self.run(|| connection.busy_timeout(std::time::Duration::from_secs(20)))?;
        let format: i64 =
            self.run(|| connection.query_row("PRAGMA user_version", [], |row| row.get(0)))?;
        if format > FORMAT {
            return Err(StoreError::Newer {
                path: self.path.clone(),
                found: format,
                known: FORMAT,
            });
        }
        if format == 0 {
            if !empty {
                return Err(StoreError::Damaged {
                    path: self.path.clone(),
                    why: "it is not a Zoisite store".into(),
                });
            }
            self.run(|| {
                connection.execute_batch(&format!(
                    "PRAGMA journal_mode = WAL; BEGIN; {SCHEMA} PRAGMA user_version = {FORMAT}; COMMIT;"
                ))
            })?;
        }
        self.run(|| connection.execute_batch("PRAGMA synchronous = NORMAL;"))?;
        let verdict: String =
            self.run(|| connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0)))?;
        if verdict == "ok" {
            Ok(())
        } else {
            Err(StoreError::Damaged { path: self.path.clone(), why: verdict })
        }
    }

    fn run<T>(&self, work: impl FnOnce() -> rusqlite::Result<T>) -> Result<T, StoreError> {
        work().map_err(|source| sort(source, &self.path))
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

impl Records for SqliteRecords {
    fn get(&self, kind: &'static str, key: &str) -> Result<Option<Vec<u8>>, StoreError> {
        self.run(|| {
            self.connection
                .prepare_cached("SELECT value FROM record WHERE kind = ?1 AND key = ?2")?
                .query_row(params![kind, key], |row| row.get(0))
                .optional()
        })
    }

    fn list(&self, kind: &'static str) -> Result<Vec<(String, Vec<u8>)>, StoreError> {
        self.run(|| {
            self.connection
                .prepare_cached("SELECT key, value FROM record WHERE kind = ?1 ORDER BY key")?
                .query_map([kind], |row| Ok((row.get(0)?, row.get(1)?)))?
                .collect()
        })
    }

    fn write(&mut self, changes: &[Change]) -> Result<(), StoreError> {
        let path = self.path.clone();
        let mut write = || {
            let transaction = self.connection.transaction()?;
            for change in changes {
                match change {
                    Change::Put { kind, key, value } => transaction
                        .prepare_cached("INSERT OR REPLACE INTO record VALUES (?1, ?2, ?3)")?
                        .execute(params![kind, key, value])?,
                    Change::Remove { kind, key } => transaction
                        .prepare_cached("DELETE FROM record WHERE kind = ?1 AND key = ?2")?
                        .execute(params![kind, key])?,
                };
            }
            transaction.commit()
        };
        write().map_err(|source| sort(source, &path))
    }

    fn append(&mut self, run: u64, at: Timestamp, event: &str) -> Result<(), StoreError> {
        self.run(|| {
            self.connection
                .prepare_cached("INSERT INTO event (run, at, event) VALUES (?1, ?2, ?3)")?
                .execute(params![run.cast_signed(), at.to_string(), event])
        })?;
        Ok(())
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
            let transaction = self
                .connection
                .transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let found: Option<(String, String, String)> = transaction
                .query_row("SELECT holder, since, until FROM lock", [], |row| {
                    Ok((row.get(0)?, row.get(1)?, row.get(2)?))
                })
                .optional()?;
            let mut since = now.to_string();
            if let Some((other, other_since, other_until)) = found {
                let other: Option<LockHolder> = serde_json::from_str(&other).ok();
                let over = other_until.parse::<Timestamp>().is_ok_and(|until| until <= now);
                match other {
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
        take().map_err(|source| sort(source, &path))?
    }

    fn unlock(&mut self, holder: &LockHolder) -> Result<(), StoreError> {
        let text = serde_json::to_string(holder).map_err(|source| StoreError::Record {
            kind: "lock",
            key: String::new(),
            source,
        })?;
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
    /// `/proc/PID/stat`); `None` when there is no such process.
    pub fn started(pid: u32) -> Option<u64> {
        let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        stat.rsplit_once(')')?.1.split_whitespace().nth(19)?.parse().ok()
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
    fn a_newer_a_damaged_and_a_foreign_file_are_refused_with_a_mend() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("store.sqlite");
        let mut store = SqliteRecords::open(dir.path()).unwrap();
        let value = vec![7; 100_000];
        store.write(&[Change::Put { kind: "x", key: "y".into(), value }]).unwrap();
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
            assert!(error.mend().contains("backup"));
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
    fn the_lock_of_a_process_that_is_gone_is_taken_over() {
        let dir = tempfile::tempdir().unwrap();
        let mut store = SqliteRecords::open(dir.path()).unwrap();
        let me = holder(std::process::id());
        let reused = LockHolder { started: me.started + 1, ..me.clone() };
        store.lock(&reused, at(100), at(9_999)).unwrap();
        store.lock(&me, at(101), at(9_999)).unwrap();
    }
}
