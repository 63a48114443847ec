//! The reader of a PostgreSQL source: the stream of a replication slot as intervals.
//!
//! The slot that the database keeps is the reader's office: only one connection can use it. A second, ordinary
//! connection is looked through a few times a second for what the stream does not tell: which transactions have become
//! visible, and whether a table was altered, recreated or rewritten.
//!
//! Positions are the ends of commit records, so that "everything up to here has been sent", which the server says in
//! its keep-alives, and positions are compared as they are.

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

use gossip_core::canonical::Encoder;
use gossip_core::position::{CommitTime, Interval, Position, Reset, ResetReason, RowChange, Transaction};
use gossip_core::schema::{Table, TableName};
use tokio_postgres::Statement;

use super::PostgresSource;
use super::catalog::{self, Described};
use super::client::Client;
use super::connect::connect;
use super::pgoutput::{Lsn, Message, Oid, Relation, decode};
use super::rows::{Mapped, RowMessage};
use super::stream::{EPOCH, Event, Stream, System};
use super::transaction::{Building, Changes};
use super::visibility::visibility;
use crate::{ChangeReader, Last, Result, SourceError, now};

/// Transactions and row changes in one interval, at most.
const BATCH: (usize, usize) = (256, 2_000);

/// How often it is looked which transactions have become visible.
const LOOK_VISIBLE: Duration = Duration::from_millis(200);

/// How often it is looked whether a table has changed.
const LOOK_CATALOG: Duration = Duration::from_secs(1);

/// How often the server gets the confirmed position.
const TELL: Duration = Duration::from_millis(500);

/// How long a call of the second connection may take.
const SIDE: Duration = Duration::from_secs(10);

/// When this many transactions came with one read, the next read waits a moment, so that it brings more at once.
const BUSY: usize = 4;

/// That moment.
const PAUSE: Duration = Duration::from_micros(200);

/// Transactions that were sent and are not yet visible: beyond so many, reading pauses.
const MAX_UNSETTLED: usize = 1 << 20;

/// SQLSTATE: the slot is in use.
const IN_USE: &str = "55006";

/// SQLSTATE: there is no such slot.
const NO_SUCH_SLOT: &str = "42704";

/// SQLSTATE: the slot was given up by the server.
const NOT_IN_STATE: &str = "55000";

/// A relation of the stream.
enum StreamedRelation {
    Ours(Arc<Mapped>),
    /// A table of ours that was otherwise when its rows were written: what they did is not known.
    Past(TableName),
    /// None of ours.
    Foreign,
}

/// A large transaction that is handed out in parts.
struct Parts {
    changes: Changes,
    end: Lsn,
    committed: CommitTime,
    xid: u64,
    /// The number of the next part.
    next: u32,
}

/// Names the tables that the rest of a transaction is about.
fn tables_of(mut changes: Changes, first: Vec<RowChange>) -> Result<BTreeSet<TableName>> {
    let (mut names, mut part, mut is_last) = (BTreeSet::new(), first, false);
    loop {
        names.extend(part.into_iter().map(|c| c.table));
        if is_last {
            return Ok(names);
        }
        (part, is_last) = changes.next_part()?;
    }
}

/// What the next interval will hold.
#[derive(Default)]
struct Gathered {
    transactions: Vec<Arc<Transaction>>,
    changes: usize,
    /// Everything up to here has been sent.
    to: Option<Position>,
}

/// The reader at work.
pub struct PostgresReader {
    source: PostgresSource,
    instance: Arc<str>,
    stream: Stream,
    side: Client,
    epoch: u64,
    timeline: u64,
    /// Everything up to here has been acknowledged.
    at: Position,
    /// Where the slot began, and the position confirmed since.
    told: Lsn,
    settled: Position,
    /// Transactions that were sent and of which it is not known whether others see them.
    unsettled: VecDeque<(Position, u64)>,
    /// A full transaction number that was current a moment ago.
    recent_xid: u64,
    described: Vec<Described>,
    tables: HashMap<TableName, Arc<Table>>,
    by_oid: HashMap<Oid, usize>,
    /// What the stream has described, and what it is to us.
    relations: HashMap<Oid, (Relation, StreamedRelation)>,
    signature: String,
    building: Option<Building>,
    parts: Option<Parts>,
    gathered: Gathered,
    resets: Vec<Reset>,
    /// Much came at once the last time.
    busy: bool,
    /// Which transactions are visible.
    current: Statement,
    looked_visible: Instant,
    looked_catalog: Instant,
    spoke: Instant,
}

/// The number of a log: positions mean nothing in another. `generation` counts returns to an older state of it.
fn timeline_of(system: &System, generation: u16) -> u64 {
    let mut log = Encoder::new("postgresql log");
    log.number(system.id);
    log.number(system.timeline.into());
    log.text(&system.database);
    log.short_digest() & !0xffff | u64::from(generation)
}

/// Starts streaming from the slot, which makes this the only reader. False if another one has it.
fn acquire_slot(source: &PostgresSource, side: &mut Client, stream: &mut Stream) -> Result<bool> {
    let publications = source.publications_present(side)?;
    let names: Vec<&str> = publications.iter().map(String::as_str).collect();
    let Err(refused) = stream.start(&source.slot, &names)? else { return Ok(true) };
    match refused.code.as_str() {
        IN_USE => Ok(false),
        NO_SUCH_SLOT | NOT_IN_STATE => Err(SourceError::NotReady(format!(
            "replication slot {}: {}; gossip prepare creates it again",
            source.slot, refused.message
        ))),
        _ => Err(SourceError::Database(refused.message)),
    }
}

impl PostgresReader {
    /// Takes the leadership if it is free. `last` is where the reader before stopped.
    ///
    /// # Errors
    /// The slot cannot be used, or the connection is lost.
    pub fn try_start(source: &PostgresSource, instance: &str, last: Option<Last>) -> Result<Option<PostgresReader>> {
        let mut side = connect(&source.address)?;
        side.set_deadline(SIDE);
        // What we write must not wait for a standby.
        side.batch_execute("SET synchronous_commit = local")?;
        if !source.ready_slot(&mut side)? {
            return Ok(None);
        }
        let mut stream = Stream::connect(&source.replication)?;
        let system = stream.identify()?;
        if !acquire_slot(source, &mut side, &mut stream)? {
            return Ok(None);
        }
        // Read once the slot is ours: no one else moves it now.
        let sql = "SELECT (confirmed_flush_lsn - '0/0')::int8, (extract(epoch FROM clock_timestamp()) * 1e6)::int8, \
                   pg_current_snapshot()::text FROM pg_replication_slots WHERE slot_name = $1";
        let row = side.query_one(sql, &[&source.slot])?;
        let begins: i64 = row.get(0);
        let (begins, time): (Position, i64) = (Position::at(begins.unsigned_abs()), row.get(1));
        let recent = visibility(&row.get::<_, String>(2))?.none_from;
        let base = timeline_of(&system, 0);
        let (at, timeline) = match last.filter(|l| l.timeline & !0xffff == base) {
            // The same log, but behind what was read: the database was restored.
            Some(l) if l.position.commit > system.end => (begins, timeline_of(&system, l.timeline as u16 + 1)),
            Some(l) => (l.position.max(begins), l.timeline),
            None => (begins, base),
        };
        let current = side.prepare("SELECT pg_current_snapshot()::text")?;
        let mut reader = PostgresReader {
            source: source.clone(),
            instance: instance.into(),
            stream,
            side,
            // The database's clock, so that every take-over has a higher one, on whichever instance.
            epoch: last.map_or(0, |l| l.epoch + 1).max(time.unsigned_abs()),
            timeline,
            at,
            told: begins.commit,
            settled: begins,
            unsettled: VecDeque::new(),
            recent_xid: recent,
            described: vec![],
            tables: HashMap::new(),
            by_oid: HashMap::new(),
            relations: HashMap::new(),
            signature: String::new(),
            building: None,
            parts: None,
            gathered: Gathered::default(),
            resets: vec![],
            busy: false,
            current,
            looked_visible: Instant::now(),
            looked_catalog: Instant::now(),
            spoke: Instant::now(),
        };
        reader.reread_catalog(ResetReason::Described)?;
        reader.reset_dropped();
        Ok(Some(reader))
    }

    /// Resets tables that were dropped while there was no reader.
    fn reset_dropped(&mut self) {
        for wanted in self.source.tables.clone() {
            let (schema, table) = catalog::split_name(&wanted, &self.source.schema);
            let name = catalog::table_name(&schema, &table, &self.source.schema);
            if !self.tables.contains_key(&name) {
                self.reset(Reset { name, table: None, why: ResetReason::Described });
            }
        }
    }

    /// Describes the tables again if anything about them may have changed, and notes what has for the next interval.
    fn reread_catalog(&mut self, why: ResetReason) -> Result<()> {
        self.looked_catalog = Instant::now();
        let wanted = self.source.wanted(&self.source.tables);
        // All of it as it was at one moment.
        self.side.batch_execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")?;
        let signature = catalog::signature(&mut self.side, catalog::SIGNATURE, &wanted)?;
        if signature == self.signature {
            return self.side.batch_execute("COMMIT");
        }
        let found = catalog::describe(&mut self.side, &wanted)?;
        self.side.batch_execute("COMMIT")?;
        self.signature = signature;
        let (streaming, silent): (Vec<Described>, Vec<Described>) =
            found.into_values().filter(Described::can_stream).partition(Described::is_published);
        for d in silent.iter().filter(|d| self.tables.contains_key(&d.name) || why == ResetReason::Described) {
            tracing::error!(
                "table {} does not stream: it is in none of the publications, whole; see gossip check",
                d.name
            );
        }
        self.described = streaming;
        let now: HashMap<TableName, Arc<Table>> =
            self.described.iter().map(|d| (d.name.clone(), d.table(&self.source.name))).collect();
        let gone = self.tables.keys().filter(|name| !now.contains_key(*name)).cloned();
        let gone: Vec<TableName> = gone.collect();
        gone.into_iter().for_each(|name| self.reset(Reset { name, table: None, why }));
        for (name, table) in &now {
            if self.tables.get(name) != Some(table) {
                self.reset(Reset { name: name.clone(), table: Some(table.clone()), why });
            }
        }
        self.tables = now;
        self.by_oid.clear();
        for (i, d) in self.described.iter().enumerate() {
            self.by_oid.extend(d.leaves.iter().map(|l| (l.oid, i)));
        }
        if why != ResetReason::Described && !self.resets.is_empty() {
            self.nudge();
        }
        // Relations are mapped again; rows of another shape count as outdated from now on.
        for (oid, (relation, _)) in std::mem::take(&mut self.relations) {
            let known = self.streamed_relation(&relation);
            self.relations.insert(oid, (relation, known));
        }
        Ok(())
    }

    /// Writes something to the log, so that on a quiet server there is a place at which what was noticed takes effect.
    fn nudge(&mut self) {
        // Where we may not write, the server's own records come within seconds.
        let _ = self.side.query("SELECT pg_logical_emit_message(true, 'gossip', '')", &[]);
    }

    fn reset(&mut self, reset: Reset) {
        self.resets.retain(|r| r.name != reset.name);
        self.resets.push(reset);
    }

    fn on_relation(&mut self, relation: Relation) -> Result<()> {
        let mut known = self.streamed_relation(&relation);
        if !matches!(known, StreamedRelation::Ours(_)) {
            // The catalog may have changed since it was looked at; or this is a row of before it changed.
            self.reread_catalog(ResetReason::SchemaChanged)?;
            known = self.streamed_relation(&relation);
        }
        self.relations.insert(relation.id, (relation, known));
        Ok(())
    }

    /// What a relation is to us, as the catalog was looked at last.
    fn streamed_relation(&self, relation: &Relation) -> StreamedRelation {
        let by_oid = self.by_oid.get(&relation.id).map(|i| &self.described[*i]);
        let mapped = by_oid.and_then(|d| Mapped::new(relation, d, self.tables.get(&d.name)?.clone()));
        if let Some(mapped) = mapped {
            return StreamedRelation::Ours(Arc::new(mapped));
        }
        // Ours under another name or shape; or another table that had the name of ours.
        let name = catalog::table_name(&relation.schema, &relation.name, &self.source.schema);
        match by_oid {
            Some(d) => StreamedRelation::Past(d.name.clone()),
            None if self.tables.contains_key(&name) => StreamedRelation::Past(name),
            None => StreamedRelation::Foreign,
        }
    }

    /// A transaction number of the stream, of which only the low half is sent, as the nearest full one.
    fn full_xid(&self, low: u32) -> u64 {
        let guess = self.recent_xid & !0xffff_ffff | u64::from(low);
        match guess as i64 - self.recent_xid as i64 {
            d if d > 1 << 31 => guess.saturating_sub(1 << 32),
            d if d < -(1 << 31) => guess + (1 << 32),
            _ => guess,
        }
    }

    /// Takes one message of the stream.
    fn take(&mut self, bytes: bytes::Bytes) -> Result<()> {
        let size = bytes.len();
        let message = decode(bytes).map_err(|e| SourceError::Protocol(e.to_string()))?;
        let (oid, row) = match message {
            Message::Begin { at, xid, .. } => {
                self.building = Some(Building::new(at + EPOCH, self.full_xid(xid)));
                return Ok(());
            }
            Message::Commit { end_lsn, .. } => return self.on_commit(end_lsn),
            Message::Relation(relation) => return self.on_relation(relation),
            Message::Truncate(tables) => return self.on_truncate(&tables),
            Message::Type | Message::Origin | Message::Logical { .. } => return Ok(()),
            Message::Insert(oid, new) => (oid, RowMessage::Insert(new)),
            Message::Update(oid, old, new) => (oid, RowMessage::Update(old, new)),
            Message::Delete(oid, old) => (oid, RowMessage::Delete(old)),
        };
        match (self.relations.get(&oid).map(|(_, known)| known), &mut self.building) {
            (Some(StreamedRelation::Ours(mapped)), Some(building)) => building.take(mapped, row, size),
            (Some(StreamedRelation::Past(name)), Some(_)) => {
                // The table may look today as it did before: only this says that it was written to meanwhile.
                let (name, table) = (name.clone(), self.tables.get(name).cloned());
                if !self.resets.iter().any(|r| r.name == name) {
                    self.reset(Reset { name, table, why: ResetReason::SchemaChanged });
                }
                Ok(())
            }
            (Some(StreamedRelation::Foreign), Some(_)) => Ok(()),
            _ => Err(SourceError::Protocol(
                "a row of a table that was not described, or outside of a transaction".into(),
            )),
        }
    }

    fn on_truncate(&mut self, tables: &[Oid]) -> Result<()> {
        // Emptying a table gives it another file; looking now spares a second reset when that is noticed.
        self.signature.clear();
        self.reread_catalog(ResetReason::Truncated)?;
        for oid in tables {
            let Some(described) = self.by_oid.get(oid).map(|i| &self.described[*i]) else { continue };
            let (name, table) = (described.name.clone(), self.tables.get(&described.name).cloned());
            if !self.resets.iter().any(|r| r.name == name) {
                self.reset(Reset { name, table, why: ResetReason::Truncated });
            }
        }
        Ok(())
    }

    fn on_commit(&mut self, end: Lsn) -> Result<()> {
        let building = self.building.take();
        let building =
            building.ok_or_else(|| SourceError::Protocol("the end of a transaction that did not begin".into()))?;
        let (position, xid, at) = (Position::at(end), building.xid, building.at);
        self.unsettled.push_back((position, xid));
        // Sent again, because it had not been confirmed to the slot yet.
        if position <= self.at {
            return Ok(());
        }
        let (changes, unclear) = building.finish()?;
        for name in unclear {
            let table = self.tables.get(&name).cloned();
            self.reset(Reset { name, table, why: ResetReason::TooLarge });
        }
        let committed = CommitTime { from: at, to: at };
        self.gathered.to = Some(position);
        let Some(mut changes) = changes else {
            let all: Vec<(TableName, Arc<Table>)> = self.tables.iter().map(|(n, t)| (n.clone(), t.clone())).collect();
            for (name, table) in all {
                self.reset(Reset { name, table: Some(table), why: ResetReason::TooLarge });
            }
            self.add(Transaction { position, committed, number: xid, inexact_after: None, changes: vec![] });
            return Ok(());
        };
        let (first, is_last) = changes.next_part()?;
        if is_last {
            self.add(Transaction { position, committed, number: xid, inexact_after: None, changes: first });
            return Ok(());
        }
        if self.at > Position::part(end, 0) {
            // The reader before handed parts of it on. Where they were cut depended on how the tables were described
            // then: the rest cannot be sent in parts.
            for name in tables_of(changes, first)? {
                let table = self.tables.get(&name).cloned();
                self.reset(Reset { name, table, why: ResetReason::TooLarge });
            }
            self.add(Transaction { position, committed, number: xid, inexact_after: None, changes: vec![] });
            return Ok(());
        }
        self.parts = Some(Parts { changes, end, committed, xid, next: 1 });
        self.add_part(first, false);
        Ok(())
    }

    fn add(&mut self, t: Transaction) {
        self.gathered.changes += t.changes.len();
        self.gathered.to = Some(t.position);
        self.gathered.transactions.push(Arc::new(t));
    }

    /// Adds a part of the large transaction.
    fn add_part(&mut self, changes: Vec<RowChange>, is_last: bool) {
        let Some(parts) = &mut self.parts else { return };
        let position = if is_last { Position::at(parts.end) } else { Position::part(parts.end, parts.next) };
        let t = Transaction { position, committed: parts.committed, number: parts.xid, inexact_after: None, changes };
        parts.next += 1;
        if is_last {
            self.parts = None;
        }
        self.add(t);
    }

    /// What has been gathered as an interval, or `None` if it says nothing new.
    fn interval(&mut self) -> Option<Interval> {
        let to = self.gathered.to.filter(|to| *to > self.at)?;
        let gathered = std::mem::take(&mut self.gathered);
        self.busy = gathered.transactions.len() >= BUSY;
        // What is noticed while a transaction arrives takes effect when all of it has: a snapshot that is asked for before
        // need not show it. Of a large one that is with its first part: what follows has the new shape already.
        let resets = if self.building.is_none() { std::mem::take(&mut self.resets) } else { vec![] };
        Some(self.make(to, gathered.transactions, resets))
    }

    fn make(&self, to: Position, transactions: Vec<Arc<Transaction>>, resets: Vec<Reset>) -> Interval {
        Interval {
            source: self.source.name.clone(),
            epoch: self.epoch,
            from: self.at,
            to,
            transactions,
            resets,
            settled: self.settled,
            timeline: self.timeline,
            mark: 0,
            reader: self.instance.clone(),
            read_at: now(),
        }
    }

    /// Looks which of the transactions that were sent others see.
    fn poll_visibility(&mut self) -> Result<()> {
        self.looked_visible = Instant::now();
        let text: String = self.side.query_one(&self.current, &[])?.get(0);
        let seen = visibility(&text)?;
        self.recent_xid = self.recent_xid.max(seen.none_from);
        while let Some((position, _)) = self.unsettled.front().copied().filter(|(_, xid)| seen.shows(*xid)) {
            self.unsettled.pop_front();
            self.settled = self.settled.max(position);
        }
        if self.unsettled.is_empty() && self.building.is_none() && self.parts.is_none() {
            self.settled = self.settled.max(self.at);
        }
        Ok(())
    }

    /// Confirms to the server what it may forget: what is acknowledged and visible.
    fn send_status(&mut self, answer: bool) -> Result<()> {
        self.spoke = Instant::now();
        let done = self.at.min(self.settled);
        // Within a large transaction, everything before it.
        self.told = self.told.max(if done.is_whole() { done.commit } else { 0 });
        self.stream.status(self.told, answer)
    }

    /// What is due by the clock.
    fn keep_house(&mut self) -> Result<()> {
        if self.looked_visible.elapsed() >= LOOK_VISIBLE && self.settled < self.at {
            self.poll_visibility()?;
        }
        if self.looked_catalog.elapsed() >= LOOK_CATALOG {
            self.reread_catalog(ResetReason::SchemaChanged)?;
        }
        if self.spoke.elapsed() >= TELL {
            self.send_status(true)?;
        }
        Ok(())
    }

    fn is_full(&self) -> bool {
        // What was noticed takes effect at the next end of a transaction and not later.
        let due = !self.resets.is_empty() && self.building.is_none() && !self.gathered.transactions.is_empty();
        due || self.gathered.transactions.len() >= BATCH.0 || self.gathered.changes >= BATCH.1
    }

    fn on_event(&mut self, event: Event) -> Result<()> {
        match event {
            Event::Data(bytes) => self.take(bytes),
            Event::Keepalive { sent, answer } => {
                if self.building.is_none() && self.parts.is_none() {
                    let sent = Position::at(sent);
                    self.gathered.to = Some(self.gathered.to.map_or(sent, |to| to.max(sent)));
                }
                if answer { self.send_status(false) } else { Ok(()) }
            }
        }
    }
}

impl ChangeReader for PostgresReader {
    fn epoch(&self) -> u64 {
        self.epoch
    }

    fn heartbeat(&mut self) -> Result<Interval> {
        Ok(self.make(self.at, vec![], vec![]))
    }

    fn next(&mut self, longest: Duration) -> Result<Option<Interval>> {
        let end = Instant::now() + longest;
        self.keep_house()?;
        if self.unsettled.len() >= MAX_UNSETTLED {
            std::thread::sleep(longest.min(LOOK_VISIBLE));
            return Ok(None);
        }
        loop {
            while let Some(parts) = &mut self.parts {
                let (changes, is_last) = parts.changes.next_part()?;
                self.add_part(changes, is_last);
                if let Some(interval) = self.interval() {
                    return Ok(Some(interval));
                }
            }
            while !self.is_full() && self.parts.is_none() {
                match self.stream.buffered()? {
                    Some(event) => self.on_event(event)?,
                    None => break,
                }
            }
            if let Some(interval) = self.interval() {
                return Ok(Some(interval));
            }
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(None);
            }
            match self.stream.next(left)? {
                Some(event) => self.on_event(event)?,
                None => return Ok(None),
            }
            // Within a very long transaction time passes as well. Otherwise what has arrived is sent first.
            if self.spoke.elapsed() >= 2 * TELL {
                self.keep_house()?;
            }
        }
    }

    fn acknowledge(&mut self, to: Position) -> Result<()> {
        self.at = to;
        if std::mem::take(&mut self.busy) {
            std::thread::sleep(PAUSE);
        }
        Ok(())
    }

    fn trouble(&self) -> Option<String> {
        let full = self.unsettled.len() >= MAX_UNSETTLED;
        full.then(|| "reading waits: too many transactions are not visible; is a synchronous standby missing?".into())
    }
}

impl PostgresSource {
    /// Becomes the reader, if there is none.
    ///
    /// # Errors
    /// The slot cannot be used, or the connection is lost.
    pub fn try_to_lead(&self, instance: &str, last: Option<Last>) -> Result<Option<Box<dyn ChangeReader>>> {
        let reader = PostgresReader::try_start(self, instance, last)?;
        Ok(reader.map(|r| Box::new(r) as Box<dyn ChangeReader>))
    }
}
