//! The lines of Earshot: transactions, with what each watcher heard of them.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gossip_core::explain::Tally;
use gossip_core::schema::{SYSTEM_SCHEMA, TOPIC_SOURCE};
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
    /// Reads a position that an instance reported. Each instance counts topics and presence by itself.
    pub fn reported(text: &str, instance: &str) -> Option<At> {
        let mut at = At::parse(text)?;
        if at.source == TOPIC_SOURCE || at.source == SYSTEM_SCHEMA {
            at.source = format!("{}@{instance}", at.source);
        }
        Some(at)
    }

    /// The position as the instance knows it that reported it.
    pub fn as_reported(&self) -> String {
        let source = self.source.split_once('@').map_or(self.source.as_str(), |(source, _)| source);
        At { source: source.into(), ..self.clone() }.to_string()
    }

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

/// Where what happened comes from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Kind {
    /// A transaction of the database.
    #[default]
    Tables,
    /// An event of a topic.
    Topics,
    /// Somebody came to a place, left it, or said something else there.
    Presence,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 3] = [Kind::Tables, Kind::Topics, Kind::Presence];

    /// Its words.
    pub fn words(self) -> &'static str {
        match self {
            Kind::Tables => "changes of tables",
            Kind::Topics => "events of topics",
            Kind::Presence => "who comes and goes",
        }
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
    /// What happened.
    pub kind: Kind,
    /// Its position at each further instance, where each counts by itself.
    pub elsewhere: Vec<At>,
    /// The hash of an event, by which instances mean the same.
    pub identity: Option<String>,
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
    /// Its position at an instance.
    pub fn at_place(&self, instance: &str) -> Option<&At> {
        let at = self.at.as_ref()?;
        if self.kind == Kind::Tables {
            return Some(at);
        }
        let here = |at: &&At| at.source.split_once('@').is_some_and(|(_, of)| of == instance);
        [at].into_iter().chain(&self.elsewhere).find(here)
    }

    /// Whether a row of it is the one with this key.
    pub fn is_about(&self, (table, key): &(String, String)) -> bool {
        self.rows.iter().any(|row| row.table == *table && row.key == *key)
    }

    /// A line for a change being made here.
    pub fn made_here(id: u64, now: Timestamp, sql: String) -> Line {
        Line {
            id,
            at: None,
            kind: Kind::Tables,
            elsewhere: vec![],
            identity: None,
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
