//! The lines of Earshot: transactions, with what each watcher heard of them.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gossip_core::explain::Tally;
use serde_json::{Map, Value as Json};

use crate::workbench::ids::{Timestamp, WatcherId};
use gossip_source::database::KnownBy;

/// A position as the protocol writes it, `source:number`; ordered.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct At {
    /// The source.
    pub source: String,
    /// The number.
    pub number: u64,
    /// The part of a large transaction; 0 for whole ones and the last part.
    pub part: u32,
}

impl At {
    /// Reads `source:number` or `source:number.part`.
    pub fn parse(text: &str) -> Option<At> {
        let (source, place) = text.rsplit_once(':')?;
        let (number, part) = place.split_once('.').unwrap_or((place, "0"));
        Some(At { source: source.into(), number: number.parse().ok()?, part: part.parse().ok()? })
    }
}

impl std::fmt::Display for At {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.source, self.number)?;
        if self.part > 0 { write!(f, ".{}", self.part) } else { Ok(()) }
    }
}

/// One row of a transaction, as operators see it.
#[derive(Clone, Debug, PartialEq)]
pub struct RowShown {
    /// The table.
    pub table: String,
    /// The key, as text.
    pub key: String,
    /// Before, unless it was inserted.
    pub old: Option<Map<String, Json>>,
    /// After, unless it was deleted.
    pub new: Option<Map<String, Json>>,
}

/// What is known about a line for one watcher.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    /// The engine's verdict.
    pub verdict: String,
    /// What it did to the result.
    pub tally: Tally,
    /// When the engine decided.
    pub matched_at: Option<Timestamp>,
    /// When its instance wrote it to the socket.
    pub written_at: Option<Timestamp>,
    /// When it arrived at the watcher's socket.
    pub arrived_at: Option<Timestamp>,
    /// The frame as it arrived.
    pub frame: Option<Arc<str>>,
}

/// State of a change made here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stage {
    /// The database is running it.
    Running,
    /// Committed at this source; identified by this in the stream.
    Committed(String, KnownBy),
    /// It will not appear in the stream, and why.
    NeverComes(String),
}

/// One line of Earshot.
#[derive(Clone, Debug)]
pub struct Line {
    /// Its number, stable for its life.
    pub id: u64,
    /// The transaction's position; `None` for a change made here that has not arrived yet.
    pub at: Option<At>,
    /// The position before it.
    pub after: Option<At>,
    /// Commit time, earliest and latest.
    pub committed: (Timestamp, Timestamp),
    /// When it was read.
    pub read_at: Timestamp,
    /// The instance that read it.
    pub reader: String,
    /// When each instance received it.
    pub received: BTreeMap<usize, Timestamp>,
    /// Its first rows.
    pub rows: Vec<RowShown>,
    /// Number of all its rows.
    pub row_count: u64,
    /// What each watcher heard.
    pub cells: HashMap<WatcherId, Cell>,
    /// Set for a change made here: its SQL and state.
    pub made: Option<(String, Stage)>,
    /// The database's number for the transaction, 0 where it has none.
    pub xid: u64,
    /// Whether it is unfolded.
    pub unfolded: bool,
}

impl Line {
    /// A line for a change being made here.
    pub fn made_here(id: u64, now: Timestamp, sql: String) -> Line {
        Line {
            id,
            at: None,
            after: None,
            committed: (now, now),
            read_at: now,
            reader: String::new(),
            received: BTreeMap::new(),
            rows: vec![],
            row_count: 0,
            cells: HashMap::new(),
            made: Some((sql, Stage::Running)),
            xid: 0,
            unfolded: false,
        }
    }
}
