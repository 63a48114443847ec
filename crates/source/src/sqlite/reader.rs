//! From the change log to intervals.
//!
//! The reader is the one process in a cluster that reads the log; a lock on a file beside the database decides which.
//! In one read transaction it takes the log's new entries and the current rows under all keys in them. Since only keys
//! and rows as they were come from the log, and rows as they are come from the tables, nested triggers and conflicts
//! cannot mislead: what it yields is the exact difference between two states that were committed.

use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::sync::Arc;

use rusqlite::types::Value as Stored;
use rusqlite::{Connection, OptionalExtension, Transaction as Read};

use super::schema::{Described, Found, describe};
use super::{SqliteSource, quote, to_value, triggers};
use crate::{Result, SourceError};
use gossip_core::position::{CommitTime, Interval, Micros, Old, Position, Reset, ResetWhy, RowChange, Transaction};
use gossip_core::schema::{ColumnSet, Key, Row, Table, TableName};
use gossip_core::value::Value;

/// Log entries in one interval beyond which the tables are read anew instead.
pub const MAX_ENTRIES: i64 = 200_000;

/// Log entries that are deleted at a time, so that no writer waits long.
const PRUNE: i64 = 500;

/// The right to read a source; given up when it is dropped or the process ends.
#[derive(Debug)]
pub struct ReaderLock {
    _file: File,
}

/// Takes the right to be the reader, if nobody has it.
pub fn try_lock(source: &SqliteSource) -> Result<Option<ReaderLock>> {
    let mut path = source.path.clone().into_os_string();
    path.push("-gossip-reader");
    let fail = |e: std::io::Error| SourceError::Open {
        path: path.to_string_lossy().into_owned(),
        problem: format!("{e}; the reader's lock file must be writable"),
    };
    let file = OpenOptions::new().create(true).truncate(false).write(true).open(&path).map_err(fail)?;
    match file.try_lock() {
        Ok(()) => Ok(Some(ReaderLock { _file: file })),
        Err(std::fs::TryLockError::WouldBlock) => Ok(None),
        Err(std::fs::TryLockError::Error(e)) => Err(fail(e)),
    }
}

/// Deletes the log but for its last entry if it is longer than what is ever handed on entry by entry, and nobody reads it.
pub fn let_go(source: &SqliteSource) -> Result<bool> {
    let Some(_lock) = try_lock(source)? else { return Ok(false) };
    let db = source.connect_to_write()?;
    let length = "SELECT coalesce(max(seq) - min(seq), 0) FROM gossip_log";
    if !triggers::is_prepared(&db)? || db.query_row(length, [], |r| r.get::<_, i64>(0))? <= MAX_ENTRIES {
        return Ok(false);
    }
    tracing::error!(
        "the change log of {} is longer than {MAX_ENTRIES} entries: we let it go, and all feeds are read anew",
        source.path.display()
    );
    // A few at a time, so that no writer waits long.
    while db.execute(
        "DELETE FROM gossip_log WHERE seq < (SELECT max(seq) FROM gossip_log) \
         AND seq < (SELECT min(seq) FROM gossip_log) + ?1",
        [PRUNE],
    )? > 0
    {}
    Ok(true)
}

/// A table that is followed.
struct Followed {
    described: Described,
    table: Arc<Table>,
    by_key: String,
}

/// Reads the change log.
pub struct Reader {
    source: SqliteSource,
    instance: Arc<str>,
    db: Connection,
    epoch: u64,
    lineage: u64,
    at: Position,
    /// By layout number; `None` for layouts of the past.
    layouts: HashMap<i64, Option<Followed>>,
    schema_version: i64,
    /// Rows that were left out because their key is NULL.
    pub nameless: u64,
    /// Values that do not fit their column's declared type.
    pub misfits: u64,
    _lock: ReaderLock,
}

/// One key in a stretch of the log.
struct Touched {
    key: Vec<Stored>,
    first: Option<Vec<Stored>>,
    /// An entry says that it was not there, or went, before or at it.
    absent: bool,
    /// The key was noted only after the insert, by the last entry about it.
    inserted_last: bool,
    /// More than one entry is about it: in between it may have been what it is neither before nor after.
    again: bool,
}

impl Reader {
    /// Begins a new term of office. Continues after `after` if that is known, else at the end of the log.
    pub fn start(source: &SqliteSource, instance: &str, lock: ReaderLock, after: Option<Position>) -> Result<Reader> {
        let mut db = source.connect()?;
        if !triggers::is_prepared(&db)? {
            let text = format!("database {} is not prepared; run gossip prepare first", source.path.display());
            return Err(SourceError::NotReady(text));
        }
        triggers::reinstall(&mut db, source)?;
        db.execute(
            "INSERT INTO gossip_meta VALUES ('epoch', 1) ON CONFLICT (name) DO UPDATE SET value = value + 1",
            [],
        )?;
        let epoch: i64 = db.query_row("SELECT value FROM gossip_meta WHERE name = 'epoch'", [], |r| r.get(0))?;
        let database: String =
            db.query_row("SELECT value FROM gossip_meta WHERE name = 'database'", [], |r| r.get(0))?;
        // Half of the 128 random bits tell databases apart as well.
        let lineage = u64::from_str_radix(database.get(..16).unwrap_or(""), 16).unwrap_or_default();
        let (first, last): (i64, i64) =
            db.query_row("SELECT min(seq), max(seq) FROM gossip_log", [], |r| Ok((r.get(0)?, r.get(1)?)))?;
        let (first, last) = (first.max(0) as u64, last.max(0) as u64);
        // Somebody's memory of another log, or of one that was pruned since, is of no use.
        let at = after.filter(|p| p.commit >= first && p.commit <= last).unwrap_or(Position::at(last));
        let mut reader = Reader {
            source: source.clone(),
            instance: instance.into(),
            db,
            epoch: epoch.max(1) as u64,
            lineage,
            at,
            layouts: HashMap::new(),
            schema_version: -1,
            nameless: 0,
            misfits: 0,
            _lock: lock,
        };
        let version = schema_version(&reader.db)?;
        reader.learn_layouts()?;
        reader.schema_version = version;
        Ok(reader)
    }

    /// The tables that are followed, as they are now.
    pub fn tables(&self) -> Vec<Arc<Table>> {
        self.layouts.values().flatten().map(|f| f.table.clone()).collect()
    }

    /// The reader's epoch.
    pub fn epoch(&self) -> u64 {
        self.epoch
    }

    /// Whether the database has been written to since the last call, cheaply.
    pub fn data_version(&self) -> Result<i64> {
        Ok(self.db.query_row("PRAGMA data_version", [], |r| r.get(0))?)
    }

    fn learn_layouts(&mut self) -> Result<()> {
        self.layouts.clear();
        for wanted in self.source.tables.clone() {
            let Found::Table(described) = describe(&self.db, &wanted)? else { continue };
            let Some((layout, _)) = triggers::layout_of(&self.db, &wanted)? else { continue };
            let names: Vec<String> = described.columns.iter().map(|(n, _)| quote(n)).collect();
            let of_key: Vec<String> = described.key_names().map(|k| format!("{} = ?", quote(k))).collect();
            let by_key =
                format!("SELECT {} FROM {} WHERE {}", names.join(", "), quote(&described.name), of_key.join(" AND "));
            let table = described.table(&self.source.name);
            self.layouts.insert(layout, Some(Followed { described, table, by_key }));
        }
        Ok(())
    }

    /// An interval that says only that nothing has happened.
    pub fn heartbeat(&self, now: Micros) -> Interval {
        self.interval(self.at, vec![], vec![], now)
    }

    fn interval(&self, to: Position, transactions: Vec<Arc<Transaction>>, resets: Vec<Reset>, now: Micros) -> Interval {
        Interval {
            source: self.source.name.clone(),
            epoch: self.epoch,
            from: self.at,
            to,
            transactions,
            resets,
            settled: to,
            lineage: self.lineage,
            reader: self.instance.clone(),
            read_at: now,
        }
    }

    /// Reads what was committed since the last call; `None` if nothing was. `quiet_until` is when the log was last
    /// known to end where it did. The caller hands the interval on and then calls [`Reader::advance`].
    pub fn read(&mut self, quiet_until: Micros, now: impl Fn() -> Micros) -> Result<Option<Interval>> {
        if schema_version(&self.db)? != self.schema_version {
            triggers::reinstall(&mut self.db, &self.source)?;
            // Read before the layouts: what changes in between is noticed at the next call.
            let version = schema_version(&self.db)?;
            self.learn_layouts()?;
            self.schema_version = version;
        }
        let read = self.db.unchecked_transaction()?;
        if schema_version(&read)? != self.schema_version {
            return Err(SourceError::Changed(self.source.name.to_string()));
        }
        let last: Option<i64> = read.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get(0))?;
        let to = Position::at(last.unwrap_or(0).max(0) as u64);
        if to == self.at {
            return Ok(None);
        }
        if to < self.at {
            let text = format!("the change log of {} ends before the last position read", self.source.path.display());
            return Err(SourceError::NotReady(text));
        }
        let committed = CommitTime { from: quiet_until, to: now() };
        let resets = self.resets(&read, to)?;
        let mut misfits = 0;
        let mut nameless = 0;
        let changes = if resets.iter().any(|r| r.why == ResetWhy::TooLarge) {
            Vec::new()
        } else {
            self.changes(&read, &mut misfits, &mut nameless)?
        };
        drop(read);
        self.misfits += misfits;
        self.nameless += nameless;
        let transaction =
            Arc::new(Transaction { position: to, committed, xid: 0, joined_after: Some(self.at), changes });
        Ok(Some(self.interval(to, vec![transaction], resets, now())))
    }

    /// Notes that everything up to here has been handed on.
    pub fn advance(&mut self, to: Position) {
        self.at = to;
    }

    fn resets(&self, read: &Read<'_>, to: Position) -> Result<Vec<Reset>> {
        let mut resets: Vec<Reset> = Vec::new();
        let sql = "SELECT DISTINCT y.tbl FROM gossip_log g JOIN gossip_layout y ON y.id = g.layout \
                   WHERE g.seq > ?1 AND g.op = 'r'";
        let mut s = read.prepare_cached(sql)?;
        let mut changed = s.query_map([self.at.commit as i64], |r| r.get::<_, String>(0))?;
        let mut reset = |name: String, why| {
            let own = |f: &&Followed| f.described.name.eq_ignore_ascii_case(&name);
            let table = self.layouts.values().flatten().find(own).map(|f| f.table.clone());
            let name = table.as_ref().map_or(TableName::plain(&name), |t| t.name.clone());
            if !resets.iter().any(|r| r.name == name) {
                resets.push(Reset { name, table, why });
            }
        };
        changed.try_for_each(|name| name.map(|n| reset(n, ResetWhy::SchemaChanged)))?;
        if to.commit.saturating_sub(self.at.commit) as i64 > MAX_ENTRIES {
            self.layouts.values().flatten().for_each(|f| reset(f.described.name.clone(), ResetWhy::TooLarge));
        }
        Ok(resets)
    }

    fn changes(&self, read: &Read<'_>, misfits: &mut u64, nameless: &mut u64) -> Result<Vec<RowChange>> {
        let mut order: Vec<(i64, Vec<Stored>)> = Vec::new();
        let mut touched: HashMap<(i64, String), Touched> = HashMap::new();
        let mut s = read.prepare_cached("SELECT * FROM gossip_log WHERE seq > ?1 ORDER BY seq")?;
        let mut entries = s.query([self.at.commit as i64])?;
        while let Some(e) = entries.next()? {
            let layout: i64 = e.get(1)?;
            // Entries of a past layout are covered by the reset of their table.
            let Some(Some(followed)) = self.layouts.get(&layout) else { continue };
            let op: String = e.get(2)?;
            if op == "r" {
                continue;
            }
            let d = &followed.described;
            let key = d.key.iter().map(|&i| e.get(3 + i)).collect::<rusqlite::Result<Vec<Stored>>>()?;
            if key.contains(&Stored::Null) {
                *nameless += 1;
                continue;
            }
            let name = (layout, format!("{key:?}"));
            if !touched.contains_key(&name) {
                order.push((layout, key.clone()));
            }
            let has_row = matches!(op.as_str(), "u" | "m" | "d" | "c");
            let first = |_: ()| -> rusqlite::Result<Option<Vec<Stored>>> {
                has_row.then(|| (0..d.columns.len()).map(|i| e.get(3 + i)).collect()).transpose()
            };
            let t = match touched.entry(name) {
                std::collections::hash_map::Entry::Occupied(t) => {
                    let t = t.into_mut();
                    t.again = true;
                    t
                }
                std::collections::hash_map::Entry::Vacant(v) => {
                    v.insert(Touched { key, first: first(())?, absent: false, inserted_last: false, again: false })
                }
            };
            if op == "i" && !t.absent {
                // A trigger of the application changed the row before ours could note its insert.
                t.first = None;
            }
            t.inserted_last = op == "i";
            t.absent |= op != "u";
        }
        drop(entries);
        let mut changes = Vec::with_capacity(order.len());
        for (layout, key) in order {
            let Some(Some(followed)) = self.layouts.get(&layout) else { continue };
            let Some(t) = touched.remove(&(layout, format!("{key:?}"))) else { continue };
            let now = self.current(read, followed, &t.key, misfits)?;
            // Inserted last and yet not there: it was deleted before its insert was noted.
            let first = if t.inserted_last && now.is_none() { None } else { t.first };
            let old: Option<Row> = first.map(|stored| convert(&followed.table, &stored, misfits));
            if old != now || t.again {
                let key: Key = followed
                    .described
                    .key
                    .iter()
                    .zip(&t.key)
                    .map(|(&i, v)| to_value(v.into(), followed.table.columns[i].ty).0)
                    .collect();
                changes.push(RowChange {
                    table: followed.table.name.clone(),
                    key,
                    old: Old::Known(old),
                    new: now,
                    untold: ColumnSet::default(),
                });
            }
        }
        Ok(changes)
    }

    /// The row under a key as it is now. The column's collation may find another key's row: that is not it.
    fn current(&self, read: &Read<'_>, f: &Followed, key: &[Stored], misfits: &mut u64) -> Result<Option<Row>> {
        let mut s = read.prepare_cached(&f.by_key)?;
        let width = f.described.columns.len();
        let row = s.query_row(rusqlite::params_from_iter(key), |r| {
            (0..width).map(|i| r.get(i)).collect::<rusqlite::Result<Vec<Stored>>>()
        });
        let Some(stored) = row.optional()? else { return Ok(None) };
        let same = f.described.key.iter().zip(key).all(|(&i, k)| stored[i] == *k);
        Ok(same.then(|| convert(&f.table, &stored, misfits)))
    }

    /// Deletes some of the log's oldest entries up to `acknowledged`, never the last one, from which the numbering goes
    /// on. Gives way at once if somebody is writing. Returns whether there is more to delete.
    pub fn prune(&mut self, acknowledged: Position) -> Result<bool> {
        // Looking costs no lock; a delete that finds nothing would still take the writers' one.
        let first: i64 = self.db.query_row("SELECT min(seq) FROM gossip_log", [], |r| r.get(0))?;
        if first.unsigned_abs() >= acknowledged.commit.min(self.at.commit) {
            return Ok(false);
        }
        let sql = "DELETE FROM gossip_log WHERE seq < ?1 AND seq < (SELECT max(seq) FROM gossip_log) \
                   AND seq < (SELECT min(seq) FROM gossip_log) + ?2";
        self.db.busy_timeout(std::time::Duration::ZERO)?;
        let deleted = self.db.execute(sql, [acknowledged.commit.min(self.at.commit) as i64, PRUNE]);
        self.db.busy_timeout(std::time::Duration::from_millis(200))?;
        match deleted.map_err(SourceError::from) {
            Ok(n) => Ok(n as i64 >= PRUNE),
            Err(e) if e.is_passing() => Ok(false),
            Err(e) => Err(e),
        }
    }
}

fn convert(table: &Table, stored: &[Stored], misfits: &mut u64) -> Row {
    let one = |(v, c): (&Stored, &gossip_core::schema::Column)| -> Value {
        let (value, fits) = to_value(v.into(), c.ty);
        *misfits += u64::from(!fits);
        value
    };
    stored.iter().zip(&table.columns).map(one).collect()
}

fn schema_version(db: &Connection) -> Result<i64> {
    Ok(db.query_row("PRAGMA schema_version", [], |r| r.get(0))?)
}
