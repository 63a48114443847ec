//! Reading a database for as long as one holds the office: when to look, when to clear the log, when to be patient.

use std::time::Duration;

use gossip_core::position::{Interval, Micros, Position, Timestamp};

use super::SqliteSource;
use super::leadership::try_lock;
use super::reader::Reader;
use super::watch::Watch;
use crate::{ChangeReader, Last, Result, now};

/// Log entries are deleted at most this often.
const PRUNE_EVERY: Micros = 200_000;

/// And only when nobody has committed for so long: a writer without a busy timeout would be told that the database is
/// locked.
const QUIET: Micros = 100_000;

/// Entries beyond which the log is cleared while they write, too.
const OVERDUE: i64 = 50_000;

/// Somebody may hold the database for so long before it is said.
const PATIENCE: Micros = 5_000_000;

/// A reader with what it needs to know when to look.
pub struct Following {
    reader: Reader,
    watch: Watch,
    /// The database's own count of changes at the last look.
    version: i64,
    /// When the log was last known to end where it did.
    quiet_until: Timestamp,
    pruned: Timestamp,
    /// When a commit was last seen.
    committed: Timestamp,
    busy_since: Option<(Timestamp, String)>,
}

impl Following {
    /// Takes the leadership if it is free.
    ///
    /// # Errors
    /// The file is busy, or what SQLite says.
    pub fn try_start(source: &SqliteSource, instance: &str, last: Option<Last>) -> Result<Option<Following>> {
        let Some(lock) = try_lock(source)? else { return Ok(None) };
        let reader = Reader::start(source, instance, lock, last)?;
        let (watch, time) = (Watch::new(&source.path), now());
        let (quiet_until, pruned, committed) = (time, time, time);
        Ok(Some(Following { reader, watch, version: -1, quiet_until, pruned, committed, busy_since: None }))
    }

    fn may_prune(&self) -> Result<bool> {
        Ok(now() - self.committed > QUIET || self.reader.log_length()? > OVERDUE)
    }

    /// Looks whether anything was committed, cheaply, and reads it.
    fn look(&mut self) -> Result<Option<Interval>> {
        let before = now();
        self.reader.check_file()?;
        let data = self.reader.data_version()?;
        let found = match data == self.version {
            true => None,
            false => self.reader.read(self.quiet_until, now)?,
        };
        (self.version, self.quiet_until) = (data, before);
        Ok(found)
    }
}

impl ChangeReader for Following {
    fn epoch(&self) -> u64 {
        self.reader.epoch()
    }

    fn heartbeat(&mut self) -> Result<Interval> {
        Ok(self.reader.heartbeat(now()))
    }

    fn next(&mut self, longest: Duration) -> Result<Option<Interval>> {
        match self.look() {
            Ok(Some(interval)) => {
                (self.busy_since, self.committed) = (None, now());
                return Ok(Some(interval));
            }
            Ok(None) => self.busy_since = None,
            // A writer that holds the database for long is theirs to explain; we wait.
            Err(e) if e.is_passing() => {
                self.busy_since.get_or_insert_with(|| (now(), String::new())).1 = e.to_string();
                self.version = -1;
                self.watch.wait(Duration::from_millis(5).min(longest));
                return Ok(None);
            }
            Err(e) => return Err(e),
        }
        if now() - self.pruned > PRUNE_EVERY && self.may_prune()? {
            // The relay has everything up to the reader's own position.
            let more = self.reader.prune(Position::at(u64::MAX))?;
            self.pruned = if more { now() - PRUNE_EVERY * 9 / 10 } else { now() };
        }
        self.watch.wait(longest);
        Ok(None)
    }

    fn acknowledge(&mut self, _: Position) -> Result<()> {
        self.reader.advance()?;
        self.watch.found();
        Ok(())
    }

    fn trouble(&self) -> Option<String> {
        let (since, why) = self.busy_since.as_ref()?;
        (now() - since > PATIENCE).then(|| format!("reading waits: {why}"))
    }
}
