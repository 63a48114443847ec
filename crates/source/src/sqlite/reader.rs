//! From the change log to intervals.
//!
//! The reader is the one process in a cluster that reads the log; a lock on a file beside the database decides which.
//! In one read transaction it takes the log's new entries and the current rows under all keys in them. Since only keys
//! and rows as they were come from the log, and rows as they are come from the tables, nested triggers and conflicts
//! cannot mislead: what it yields is the exact difference between two states that were committed.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use rusqlite::types::Value as Stored;
use rusqlite::{Connection, OptionalExtension, Transaction as Read};

use super::leadership::{FileIdentity, ReaderLock, try_lock};
use super::schema::{Described, Lookup, describe};
use super::{SqliteSource, quote, to_value, triggers};
use crate::{Last, Result, SourceError, now as wall_clock};
use gossip_core::position::{
    CommitTime, Interval, Old, Position, Reset, ResetReason, RowChange, Timestamp, Transaction,
};
use gossip_core::schema::{ColumnSet, Row, Table, TableName};
use gossip_core::value::Value;

/// Log entries in one interval beyond which the tables are reset instead.
pub const MAX_ENTRIES: i64 = 200_000;

/// Log entries that are deleted at a time, so that no writer waits long.
const PRUNE: i64 = 200;

/// Deletes the log but for its last entry if it is longer than what is ever handed on entry by entry, and nobody reads it.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn drop_backlog(source: &SqliteSource) -> Result<bool> {
    let Some(_lock) = try_lock(source)? else { return Ok(false) };
    let db = source.connect_to_write()?;
    let length = "SELECT coalesce(max(seq) - min(seq), 0) FROM gossip_log";
    if !triggers::is_prepared(&db)? || db.query_row(length, [], |r| r.get::<_, i64>(0))? <= MAX_ENTRIES {
        return Ok(false);
    }
    tracing::error!(
        "the change log of {} has more than {MAX_ENTRIES} entries: the backlog was dropped, and all feeds take new snapshots",
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
    /// The table's identity.
    identity: u64,
    by_key: String,
}

/// Reads the change log.
pub struct Reader {
    source: SqliteSource,
    instance: Arc<str>,
    db: Connection,
    epoch: u64,
    timeline: u64,
    at: Position,
    /// The tag of the log's entry at `at`: while it stands there the log has not been put back.
    tag: i64,
    /// The end of what was read last, with its tag.
    read_up_to: (Position, i64),
    /// The file that was opened.
    file: FileIdentity,
    /// By layout number; `None` for layouts of the past.
    layouts: HashMap<i64, Option<Followed>>,
    schema_version: i64,
    /// Rows that were left out because their key is NULL.
    pub nameless: u64,
    /// Values that do not fit their column's declared type.
    pub misfits: u64,
    lock: ReaderLock,
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
    /// Begins a new term of office. Continues where the last reader stopped, as far as that is known, by others (`last`) or
    /// from the file beside the database, and as the log still is what was read. Else it begins at the end of the log,
    /// as one of another database: whoever knows positions of it learns that they mean nothing any more.
    ///
    /// # Errors
    /// The database cannot be opened or written, or is not prepared.
    pub fn start(source: &SqliteSource, instance: &str, lock: ReaderLock, last: Option<Last>) -> Result<Reader> {
        let replaced = || SourceError::Busy(format!("{} is being replaced", source.path.display()));
        let file = FileIdentity::of(&source.path);
        let mut db = source.connect()?;
        let file = file.filter(|f| FileIdentity::of(&source.path) == Some(*f)).ok_or_else(replaced)?;
        if !triggers::is_prepared(&db)? {
            let text = format!("database {} is not prepared; run gossip prepare first", source.path.display());
            return Err(SourceError::NotReady(text));
        }
        triggers::reinstall(&mut db, source)?;
        let known: Vec<Last> = last.into_iter().chain(lock.remembered()).collect();
        let write = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        let counted: i64 = write
            .query_row("SELECT value FROM gossip_meta WHERE name = 'epoch'", [], |r| r.get(0))
            .optional()?
            .unwrap_or(0);
        // Higher than that of any reader before, also where the database has forgotten it: by the clock.
        let epoch = known.iter().map(|l| l.epoch + 1).fold((counted + 1).max(wall_clock()).unsigned_abs(), u64::max);
        let set = "INSERT INTO gossip_meta VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET value = excluded.value";
        write.execute(set, rusqlite::params!["epoch", epoch as i64])?;
        let mut timeline = timeline(&write)?;
        let is_as_read = |l: &Last| -> Result<bool> {
            Ok(l.timeline == timeline && tag_at(&write, l.position)?.map(i64::cast_unsigned) == Some(l.mark))
        };
        let as_read = known.iter().map(is_as_read).collect::<Result<Vec<bool>>>()?.into_iter().all(|fits| fits);
        if !as_read {
            tracing::warn!(
                "the change log of {} is not the one that was read before: the database was restored or replaced, or its \
                 log was dropped; all feeds take new snapshots",
                source.path.display()
            );
            let other = "UPDATE gossip_meta SET value = lower(hex(randomblob(16))) WHERE name = 'database'";
            write.execute(other, [])?;
            timeline = self::timeline(&write)?;
        }
        let (end, end_tag) = end_of_log(&write)?;
        let furthest = known.iter().filter(|_| as_read).max_by_key(|l| l.position);
        let (at, tag) = furthest.map_or((end, end_tag), |l| (l.position, l.mark.cast_signed()));
        write.commit()?;
        let mut reader = Reader {
            source: source.clone(),
            instance: instance.into(),
            db,
            epoch,
            timeline,
            at,
            tag,
            read_up_to: (at, tag),
            file,
            layouts: HashMap::new(),
            schema_version: -1,
            nameless: 0,
            misfits: 0,
            lock,
        };
        reader.lock.remember(&reader.last())?;
        let version = schema_version(&reader.db)?;
        reader.learn_layouts()?;
        reader.schema_version = version;
        Ok(reader)
    }

    /// Where it stands.
    fn last(&self) -> Last {
        Last { epoch: self.epoch, position: self.at, timeline: self.timeline, mark: self.tag.cast_unsigned() }
    }

    /// Whether the open file is still the one at its path.
    ///
    /// # Errors
    /// It is another one, or none.
    pub fn check_file(&self) -> Result<()> {
        if FileIdentity::of(&self.source.path) == Some(self.file) {
            return Ok(());
        }
        Err(SourceError::NotReady(format!("database {} was replaced by another file", self.source.path.display())))
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
    ///
    /// # Errors
    /// The file is busy, or what SQLite says.
    pub fn data_version(&self) -> Result<i64> {
        Ok(self.db.query_row("PRAGMA data_version", [], |r| r.get(0))?)
    }

    fn learn_layouts(&mut self) -> Result<()> {
        self.layouts.clear();
        for wanted in self.source.tables.clone() {
            let Lookup::Table(described) = describe(&self.db, &wanted)? else { continue };
            let Some((layout, _)) = triggers::layout_of(&self.db, &wanted)? else { continue };
            let names: Vec<String> = described.columns.iter().map(|(n, _)| quote(n)).collect();
            let of_key: Vec<String> = described.key_names().map(|k| format!("{} = ?", quote(k))).collect();
            let by_key =
                format!("SELECT {} FROM {} WHERE {}", names.join(", "), quote(&described.name), of_key.join(" AND "));
            let table = described.table(&self.source.name);
            let identity = table.identity();
            self.layouts.insert(layout, Some(Followed { described, table, identity, by_key }));
        }
        Ok(())
    }

    /// An interval that says only that nothing has happened.
    pub fn heartbeat(&self, now: Timestamp) -> Interval {
        self.interval((self.at, self.tag), vec![], vec![], now)
    }

    fn interval(
        &self,
        (to, tag): (Position, i64),
        transactions: Vec<Arc<Transaction>>,
        resets: Vec<Reset>,
        now: Timestamp,
    ) -> Interval {
        Interval {
            source: self.source.name.clone(),
            epoch: self.epoch,
            from: self.at,
            to,
            transactions,
            resets,
            settled: to,
            timeline: self.timeline,
            mark: tag.cast_unsigned(),
            reader: self.instance.clone(),
            read_at: now,
        }
    }

    /// Reads what was committed since the last call; `None` if nothing was. `quiet_until` is when the log was last
    /// known to end where it did. The caller hands the interval on and then calls [`Reader::advance`].
    ///
    /// # Errors
    /// The file is busy, or what SQLite says.
    pub fn read(&mut self, quiet_until: Timestamp, now: impl Fn() -> Timestamp) -> Result<Option<Interval>> {
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
        if tag_at(&read, self.at)? != Some(self.tag) {
            return Err(SourceError::NotReady(format!(
                "the change log of {} was put back to an earlier state: the database was restored",
                self.source.path.display()
            )));
        }
        let (to, tag) = end_of_log(&read)?;
        if to == self.at {
            return Ok(None);
        }
        let committed = CommitTime { from: quiet_until, to: now() };
        let resets = self.resets(&read, to)?;
        let mut misfits = 0;
        let mut nameless = 0;
        let changes = if resets.iter().any(|r| r.why == ResetReason::TooLarge) {
            Vec::new()
        } else {
            self.changes(&read, &mut misfits, &mut nameless)?
        };
        drop(read);
        self.misfits += misfits;
        self.nameless += nameless;
        let transaction =
            Arc::new(Transaction { position: to, committed, number: 0, inexact_after: Some(self.at), changes });
        self.read_up_to = (to, tag);
        Ok(Some(self.interval((to, tag), vec![transaction], resets, now())))
    }

    /// Notes that everything that was read last has been handed on.
    ///
    /// # Errors
    /// That cannot be noted beside the database.
    pub fn advance(&mut self) -> Result<()> {
        (self.at, self.tag) = self.read_up_to;
        self.lock.remember(&self.last())
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
        changed.try_for_each(|name| name.map(|n| reset(n, ResetReason::SchemaChanged)))?;
        if to.commit.saturating_sub(self.at.commit) as i64 > MAX_ENTRIES {
            self.layouts.values().flatten().for_each(|f| reset(f.described.name.clone(), ResetReason::TooLarge));
        }
        Ok(resets)
    }

    fn changes(&self, read: &Read<'_>, misfits: &mut u64, nameless: &mut u64) -> Result<Vec<RowChange>> {
        let touched = self.touched(read, nameless)?;
        let mut changes = Vec::with_capacity(touched.len());
        for (layout, t) in touched {
            let Some(Some(followed)) = self.layouts.get(&layout) else { continue };
            let now = self.current(read, followed, &t.key, misfits)?;
            // Inserted last and yet absent: it was deleted before its insert was logged.
            let first = if t.inserted_last && now.is_none() { None } else { t.first };
            let old: Option<Row> = first.map(|stored| convert(&followed.table, &stored, misfits));
            if old != now || t.again {
                let columns = followed.described.key.iter().map(|&i| followed.table.columns[i].ty);
                changes.push(RowChange {
                    table: followed.table.name.clone(),
                    description: followed.identity,
                    key: t.key.iter().zip(columns).map(|(v, ty)| to_value(v.into(), ty).0).collect(),
                    old: Old::Known(old),
                    new: now,
                    omitted_columns: ColumnSet::default(),
                });
            }
        }
        Ok(changes)
    }

    /// The keys with entries in the log since the last read, each with its layout, in the order of their first entries.
    fn touched(&self, read: &Read<'_>, nameless: &mut u64) -> Result<Vec<(i64, Touched)>> {
        let mut touched: Vec<(i64, Touched)> = Vec::new();
        let mut places: HashMap<(i64, String), usize> = HashMap::new();
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
            let key =
                d.key.iter().map(|&i| e.get(triggers::BEFORE_ROW + i)).collect::<rusqlite::Result<Vec<Stored>>>()?;
            if key.contains(&Stored::Null) {
                *nameless += 1;
                continue;
            }
            let has_row = matches!(op.as_str(), "u" | "m" | "d" | "c");
            let place = match places.entry((layout, format!("{key:?}"))) {
                Entry::Occupied(place) => {
                    touched[*place.get()].1.again = true;
                    *place.get()
                }
                Entry::Vacant(place) => {
                    let row = || (0..d.columns.len()).map(|i| e.get(triggers::BEFORE_ROW + i)).collect();
                    let first = has_row.then(row).transpose()?;
                    touched.push((layout, Touched { key, first, absent: false, inserted_last: false, again: false }));
                    *place.insert(touched.len() - 1)
                }
            };
            let t = &mut touched[place].1;
            if op == "i" && !t.absent {
                // A trigger of the application changed the row before ours could log its insert.
                t.first = None;
            }
            t.inserted_last = op == "i";
            t.absent |= op != "u";
        }
        Ok(touched)
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

    /// How many entries the log has, about.
    ///
    /// # Errors
    /// The file is busy, or what SQLite says.
    pub fn log_length(&self) -> Result<i64> {
        Ok(self.db.query_row("SELECT coalesce(max(seq) - min(seq), 0) FROM gossip_log", [], |r| r.get(0))?)
    }

    /// Deletes some of the log's oldest entries up to `acknowledged`, never the last one, from which the numbering goes
    /// on. Gives way at once to a writer. Returns whether there is more to delete.
    ///
    /// # Errors
    /// The file is busy, or what SQLite says.
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

/// The number of the log: half of the 128 random bits tell databases apart as well.
fn timeline(db: &Connection) -> Result<u64> {
    let database: String = db.query_row("SELECT value FROM gossip_meta WHERE name = 'database'", [], |r| r.get(0))?;
    Ok(u64::from_str_radix(database.get(..16).unwrap_or(""), 16).unwrap_or_default())
}

/// The tag of the log's entry at a position, if it is there.
fn tag_at(db: &Connection, at: Position) -> Result<Option<i64>> {
    let mut s = db.prepare_cached("SELECT tag FROM gossip_log WHERE seq = ?1")?;
    Ok(s.query_row([at.commit.cast_signed()], |r| r.get(0)).optional()?)
}

/// The last entry of the log, which is never deleted.
fn end_of_log(db: &Connection) -> Result<(Position, i64)> {
    let mut s = db.prepare_cached("SELECT seq, tag FROM gossip_log ORDER BY seq DESC LIMIT 1")?;
    let (seq, tag): (i64, i64) = s.query_row([], |r| Ok((r.get(0)?, r.get(1)?)))?;
    Ok((Position::at(seq.max(0).unsigned_abs()), tag))
}

fn schema_version(db: &Connection) -> Result<i64> {
    Ok(db.query_row("PRAGMA schema_version", [], |r| r.get(0))?)
}
