//! One transaction on its way from the stream: its row messages are gathered until its end has been seen, then folded
//! so that each key stands in it once, and handed out in parts if there are many.
//!
//! Up to [`SPOOL_AT`] bytes stay in memory. Beyond, messages go to a file without a name, and only two places in it
//! are remembered for each key, under a hash of 128 bits: its first message, which has the old row, and its
//! last one, which has the new row. Reading the file once in order then yields the same folded changes, in the
//! same order, as folding in memory does. How a transaction is cut into parts is a function of these changes alone, so
//! that a part is the same for every reader, at any time.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::hash::{BuildHasher, RandomState};
use std::io::{BufReader, BufWriter, Read, Write};
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use bytes::{BufMut, Bytes, BytesMut};
use gossip_core::position::{Old, RowChange, fold};
use gossip_core::schema::{Key, TableName};

use super::pgoutput::{Cell, Cells, OldRow};
use super::rows::{Mapped, RowMessage};
use crate::{Result, SourceError};

/// Bytes of row messages that stay in memory.
pub const SPOOL_AT: usize = 8 << 20;

/// Changes in one part of a large transaction.
pub const PART: usize = 2_000;

/// Keys of one transaction beyond which its tables are reset instead: their places would not fit.
pub const MAX_KEYS: usize = 8_000_000;

/// A transaction that is being received.
#[derive(Debug)]
pub struct Building {
    /// When it was committed, in microseconds since 1970.
    pub at: i64,
    /// Its number.
    pub xid: u64,
    gathered: Gathered,
}

#[derive(Debug)]
enum Gathered {
    InMemory {
        bytes: usize,
        messages: Vec<(Arc<Mapped>, RowMessage)>,
    },
    InFile(Box<Spool>),
    /// Too many keys to track.
    TooMany,
}

impl Building {
    /// Begins with nothing.
    pub fn new(at: i64, xid: u64) -> Building {
        let gathered = Gathered::InMemory { bytes: 0, messages: vec![] };
        Building { at, xid, gathered }
    }

    /// Takes a row message of `bytes` bytes.
    ///
    /// # Errors
    /// The spool file cannot be written.
    pub fn take(&mut self, mapped: &Arc<Mapped>, message: RowMessage, size: usize) -> Result<()> {
        match &mut self.gathered {
            Gathered::InMemory { messages, bytes } => {
                *bytes += size;
                messages.push((mapped.clone(), message));
                if *bytes > SPOOL_AT {
                    let mut spool = Box::new(Spool::new()?);
                    for (mapped, message) in std::mem::take(messages) {
                        spool.push(&mapped, &message)?;
                    }
                    self.gathered = Gathered::InFile(spool);
                }
            }
            Gathered::InFile(spool) => {
                spool.push(mapped, &message)?;
                if spool.places.len() > MAX_KEYS {
                    self.gathered = Gathered::TooMany;
                }
            }
            Gathered::TooMany => {}
        }
        Ok(())
    }

    /// It is complete: its changes, or `None` if they are too many to send; and the tables whose changes cannot be sent and
    /// are left out.
    ///
    /// # Errors
    /// The spool file cannot be read.
    pub fn finish(self) -> Result<(Option<Changes>, Vec<TableName>)> {
        let mut unclear = Vec::new();
        let changes = match self.gathered {
            Gathered::InMemory { messages, .. } => {
                let mut changes = Vec::with_capacity(messages.len());
                for (mapped, message) in &messages {
                    mapped.changes(message, |c| changes.push(c))?;
                }
                // One row is the rule, and needs no folding.
                let one_that_counts = changes.len() == 1 && changes[0].old != Old::Known(changes[0].new.clone());
                let folded = if one_that_counts { changes } else { fold(changes) };
                Some(Changes::InMemory(folded.into_iter()))
            }
            Gathered::InFile(spool) => {
                unclear.extend(spool.unclear.iter().cloned());
                Some(Changes::InFile(Box::new(spool.read()?)))
            }
            Gathered::TooMany => None,
        };
        Ok((changes, unclear))
    }
}

/// The folded changes of a transaction, handed out a part at a time.
pub enum Changes {
    /// They were few.
    InMemory(std::vec::IntoIter<RowChange>),
    /// They are in a file.
    InFile(Box<SpoolReader>),
}

impl Changes {
    /// The next part, and whether it is the last.
    ///
    /// # Errors
    /// The spool file cannot be read.
    pub fn next_part(&mut self) -> Result<(Vec<RowChange>, bool)> {
        match self {
            Changes::InMemory(changes) => {
                let part = changes.by_ref().take(PART).collect();
                Ok((part, changes.len() == 0))
            }
            Changes::InFile(reader) => {
                let mut part = std::mem::take(&mut reader.ahead);
                while part.len() <= PART {
                    match reader.next_message()? {
                        Some(changes) => part.extend(changes),
                        None => break,
                    }
                }
                // Reads one more than it returns, to know whether that was the last.
                if part.len() > PART {
                    reader.ahead = part.split_off(PART);
                }
                Ok((part, reader.ahead.is_empty()))
            }
        }
    }
}

/// The first and last message of a key.
#[derive(Clone, Copy, Debug)]
struct Places {
    first: u64,
    last: u64,
}

/// Row messages in a file.
#[derive(Debug)]
struct Spool {
    file: BufWriter<File>,
    end: u64,
    tables: Vec<Arc<Mapped>>,
    places: HashMap<u128, Places>,
    hashers: (RandomState, RandomState),
    /// Tables with a row that was changed twice, of which the later change leaves out a value that an earlier one may
    /// have told.
    unclear: HashSet<TableName>,
}

impl Spool {
    fn new() -> Result<Spool> {
        Ok(Spool {
            file: BufWriter::with_capacity(256 << 10, tempfile::tempfile()?),
            end: 0,
            tables: vec![],
            places: HashMap::new(),
            hashers: (RandomState::new(), RandomState::new()),
            unclear: HashSet::new(),
        })
    }

    fn push(&mut self, mapped: &Arc<Mapped>, message: &RowMessage) -> Result<()> {
        let table = match self.tables.iter().rposition(|t| Arc::ptr_eq(t, mapped)) {
            Some(i) => i,
            None => {
                self.tables.push(mapped.clone());
                self.tables.len() - 1
            }
        };
        let mut record = BytesMut::new();
        record.put_u32(0);
        record.put_u32(table as u32);
        write_message(&mut record, message);
        let length = record.len() as u32;
        record[..4].copy_from_slice(&length.to_be_bytes());
        self.file.write_all(&record)?;
        let at = self.end;
        self.end += u64::from(length);
        let (hashers, places, unclear) = (&self.hashers, &mut self.places, &mut self.unclear);
        mapped.changes(message, |change| {
            if !change.key.is_empty() {
                let hash = hash_of(hashers, &change.table, &change.key);
                let of_key = places.entry(hash).or_insert(Places { first: at, last: at });
                of_key.last = at;
                if of_key.first < at && !change.omitted_columns.is_empty() {
                    unclear.insert(change.table);
                }
            }
        })
    }

    fn read(self) -> Result<SpoolReader> {
        let Spool { file, tables, places, hashers, end, unclear } = self;
        let file = file.into_inner().map_err(std::io::IntoInnerError::into_error)?;
        let mut sequential = file.try_clone()?;
        std::io::Seek::rewind(&mut sequential)?;
        let sequential = BufReader::with_capacity(256 << 10, sequential);
        Ok(SpoolReader { sequential, file, at: 0, end, tables, places, hashers, unclear, ahead: vec![] })
    }
}

fn hash_of(hashers: &(RandomState, RandomState), table: &TableName, key: &Key) -> u128 {
    let one = |h: &RandomState| u128::from(h.hash_one((table, key)));
    one(&hashers.0) << 64 | one(&hashers.1)
}

/// Reads a spool once in order.
pub struct SpoolReader {
    sequential: BufReader<File>,
    file: File,
    at: u64,
    end: u64,
    tables: Vec<Arc<Mapped>>,
    places: HashMap<u128, Places>,
    hashers: (RandomState, RandomState),
    unclear: HashSet<TableName>,
    ahead: Vec<RowChange>,
}

impl SpoolReader {
    /// The next message that is the first of its key, with the key's final row.
    fn next_message(&mut self) -> Result<Option<Vec<RowChange>>> {
        while self.at < self.end {
            let at = self.at;
            let mut head = [0; 8];
            self.sequential.read_exact(&mut head)?;
            let (length, table) = lengths(head);
            let mut body = vec![0; length.saturating_sub(8)];
            self.sequential.read_exact(&mut body)?;
            self.at += length as u64;
            let mut told = Vec::new();
            self.changes_of(table, body.into(), |change| told.push(change))?;
            let mut folded = Vec::with_capacity(told.len());
            for change in told {
                folded.extend(self.in_the_end(change, at)?);
            }
            if !folded.is_empty() {
                return Ok(Some(folded));
            }
        }
        Ok(None)
    }

    fn changes_of(&self, table: usize, body: Bytes, found: impl FnMut(RowChange)) -> Result<()> {
        let damaged = || SourceError::Protocol("a spool file that is damaged".into());
        let mapped = self.tables.get(table).ok_or_else(damaged)?;
        mapped.changes(&read_message(body).ok_or_else(damaged)?, found)
    }

    /// The change of a key over the whole transaction, if this is the first message about it.
    fn in_the_end(&self, mut change: RowChange, at: u64) -> Result<Option<RowChange>> {
        if self.unclear.contains(&change.table) {
            return Ok(None);
        }
        if change.key.is_empty() {
            return Ok(Some(change));
        }
        let hash = hash_of(&self.hashers, &change.table, &change.key);
        let Some(places) = self.places.get(&hash).filter(|p| p.first == at) else { return Ok(None) };
        if places.last != at {
            let mut head = [0; 8];
            self.file.read_exact_at(&mut head, places.last)?;
            let (length, table) = lengths(head);
            let mut body = vec![0; length.saturating_sub(8)];
            self.file.read_exact_at(&mut body, places.last + 8)?;
            let mut last = None;
            self.changes_of(table, body.into(), |c| {
                if c.key == change.key {
                    last = Some(c);
                }
            })?;
            let last = last.ok_or_else(|| SourceError::Protocol("a spool file that is damaged".into()))?;
            (change.new, change.omitted_columns) = (last.new, last.omitted_columns);
        }
        Ok((change.old != Old::Known(change.new.clone())).then_some(change))
    }
}

fn lengths(head: [u8; 8]) -> (usize, usize) {
    let [a, b, c, d, e, f, g, h] = head;
    (u32::from_be_bytes([a, b, c, d]) as usize, u32::from_be_bytes([e, f, g, h]) as usize)
}

fn write_cells(out: &mut BytesMut, cells: &Cells) {
    out.put_u32(cells.len() as u32);
    for cell in cells {
        match cell {
            Cell::Null => out.put_u8(b'n'),
            Cell::Unchanged => out.put_u8(b'u'),
            Cell::Text(bytes) => {
                out.put_u8(b't');
                out.put_u32(bytes.len() as u32);
                out.put_slice(bytes);
            }
        }
    }
}

fn write_old(out: &mut BytesMut, old: &OldRow) {
    let (kind, cells) = match old {
        OldRow::Key(cells) => (b'K', cells),
        OldRow::Full(cells) => (b'O', cells),
    };
    out.put_u8(kind);
    write_cells(out, cells);
}

fn write_message(out: &mut BytesMut, message: &RowMessage) {
    match message {
        RowMessage::Insert(new) => {
            out.put_u8(b'I');
            write_cells(out, new);
        }
        RowMessage::Update(None, new) => {
            out.put_u8(b'U');
            write_cells(out, new);
        }
        RowMessage::Update(Some(old), new) => {
            out.put_u8(b'V');
            write_old(out, old);
            write_cells(out, new);
        }
        RowMessage::Delete(old) => {
            out.put_u8(b'D');
            write_old(out, old);
        }
    }
}

fn read_cells(from: &mut Bytes) -> Option<Cells> {
    let n = from.try_get_u32()?;
    (0..n)
        .map(|_| {
            Some(match from.try_get_u8()? {
                b'n' => Cell::Null,
                b'u' => Cell::Unchanged,
                _ => {
                    let n = from.try_get_u32()? as usize;
                    Cell::Text((n <= from.len()).then(|| from.split_to(n))?)
                }
            })
        })
        .collect()
}

fn read_old(from: &mut Bytes) -> Option<OldRow> {
    Some(match from.try_get_u8()? {
        b'K' => OldRow::Key(read_cells(from)?),
        _ => OldRow::Full(read_cells(from)?),
    })
}

fn read_message(mut from: Bytes) -> Option<RowMessage> {
    Some(match from.try_get_u8()? {
        b'I' => RowMessage::Insert(read_cells(&mut from)?),
        b'U' => RowMessage::Update(None, read_cells(&mut from)?),
        b'V' => {
            let old = read_old(&mut from)?;
            RowMessage::Update(Some(old), read_cells(&mut from)?)
        }
        _ => RowMessage::Delete(read_old(&mut from)?),
    })
}

/// Taking numbers off the front, or nothing where there are too few bytes.
trait TryGet {
    fn try_get_u8(&mut self) -> Option<u8>;
    fn try_get_u32(&mut self) -> Option<u32>;
}

impl TryGet for Bytes {
    fn try_get_u8(&mut self) -> Option<u8> {
        bytes::Buf::try_get_u8(self).ok()
    }

    fn try_get_u32(&mut self) -> Option<u32> {
        bytes::Buf::try_get_u32(self).ok()
    }
}
