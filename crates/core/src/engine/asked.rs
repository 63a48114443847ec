//! What is known of rows of tables that are joined, and who asks for them; [`partners`](super::partners) maintains it.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use super::frozen::Frozen;
use super::probe::{Probe, probe};
use crate::index::FeedId;
use crate::schema::{ByKey, Key, Row, Table};
use crate::subquery::Partner;
use crate::value::Value;

/// Rows that are read at once.
const MOST_AT_ONCE: usize = 500;

/// The rows of a table that are asked for.
#[derive(Debug)]
pub(super) struct Asked {
    /// The feed that reads them.
    pub(super) feed: FeedId,
    pub(super) rows: HashMap<Probe, AskedRow>,
    /// Those of which nothing is known, and which no read under way will tell.
    pub(super) unread: HashSet<Probe>,
    /// The same by who asks for them: each has its turn, however much others ask for. Some may have been read meanwhile.
    wanted: BTreeMap<FeedId, BTreeSet<Probe>>,
    /// Who had the last turn.
    turn: FeedId,
    /// Those that the read under way will tell.
    pub(super) reading: HashSet<Probe>,
    pub(super) bytes: usize,
}

/// A row that is asked for.
#[derive(Debug)]
pub(super) struct AskedRow {
    pub(super) key: Key,
    /// What there is; `None` if that is not known.
    pub(super) known: Option<Option<Row>>,
    /// Who asks, with the place of the table among those that it joins.
    pub(super) by: BTreeSet<(FeedId, usize)>,
}

/// Bytes of a row that is asked for, about.
pub(super) fn size(row: &AskedRow) -> usize {
    const EACH: usize = 128;
    EACH + row.known.iter().flatten().flat_map(|row| row.iter()).map(Value::size).sum::<usize>()
}

impl Asked {
    /// Nothing yet, to be read by a feed.
    pub(super) fn new(feed: FeedId) -> Asked {
        let (rows, unread, wanted, reading) = (HashMap::new(), HashSet::new(), BTreeMap::new(), HashSet::new());
        Asked { feed, rows, unread, wanted, turn: 0, reading, bytes: 0 }
    }

    /// Has a row read that somebody asks for, unless it is being read.
    pub(super) fn want(&mut self, by: FeedId, probe: &Probe) {
        if !self.reading.contains(probe) {
            self.unread.insert(probe.clone());
            self.wanted.entry(by).or_default().insert(probe.clone());
        }
    }

    /// Somebody does not ask for a row any more; whoever else does has it read in their turn.
    pub(super) fn want_no_more(&mut self, by: FeedId, probe: &Probe) {
        if let Some(wanted) = self.wanted.get_mut(&by) {
            wanted.remove(probe);
            if wanted.is_empty() {
                self.wanted.remove(&by);
            }
        }
    }

    /// Takes the rows that are to be read next: those that each asks for in turn, so that nobody waits for all that another wants.
    pub(super) fn next_to_read(&mut self) -> Vec<Key> {
        let mut keys = Vec::new();
        while keys.len() < MOST_AT_ONCE && !self.unread.is_empty() {
            let next = self.wanted.range(self.turn.saturating_add(1)..).next().or_else(|| self.wanted.iter().next());
            let Some(by) = next.map(|(by, _)| *by) else { break };
            self.turn = by;
            let Some(probe) = self.wanted.get_mut(&by).and_then(BTreeSet::pop_first) else {
                self.wanted.remove(&by);
                continue;
            };
            if self.unread.remove(&probe)
                && let Some(row) = self.rows.get(&probe)
            {
                keys.push(row.key.clone());
                self.reading.insert(probe);
            }
        }
        if self.unread.is_empty() {
            self.wanted.clear();
        }
        keys
    }

    /// What is known under a key.
    pub(super) fn partner(&self, key: &[Value]) -> Partner<'_> {
        // What equals nothing has no partner.
        let Some(probe) = probe(key) else { return Partner::Known(None) };
        match self.rows.get(&probe).and_then(|row| row.known.as_ref()) {
            Some(row) => Partner::Known(row.as_ref()),
            None => Partner::Unknown,
        }
    }

    /// Whether a row is one that the read under way is for.
    pub(super) fn wants(&self, table: &Table, row: &Row) -> bool {
        probe(&table.key_of(row)).is_some_and(|probe| self.reading.contains(&probe))
    }

    /// Notes what there is under a key that is asked for.
    pub(super) fn learn(&mut self, probe: &Probe, row: Option<Row>) {
        let Some(asked) = self.rows.get_mut(probe) else { return };
        let before = size(asked);
        asked.known = Some(row);
        self.bytes = self.bytes + size(asked) - before;
        self.unread.remove(probe);
        self.reading.remove(probe);
    }
}

/// What the rows of a joined result ask for.
#[derive(Debug, Default)]
pub(super) struct Asks {
    /// By the key of the row.
    pub(super) of: ByKey<Box<[(usize, Probe)]>>,
    /// The rows that ask for a partner.
    pub(super) by: HashMap<(usize, Probe), BTreeSet<Key>>,
    /// Partners of which it is not known yet whether they are there.
    pub(super) unknown: HashSet<(usize, Probe)>,
    /// Rows that have changed, or of whose partners something was told, since it was looked at what they ask for.
    pub(super) changed: BTreeSet<Key>,
    /// What waits for some of these partners while the stream goes on.
    pub(super) frozen: Option<Box<Frozen>>,
}

impl Asks {
    /// Whether every partner is known.
    pub(super) fn are_answered(&self) -> bool {
        self.unknown.is_empty()
    }

    /// Bytes of it, about, without the rows.
    pub(super) fn size(&self) -> usize {
        const EACH: usize = 160;
        (self.of.len() + self.by.len()) * EACH + self.frozen.as_ref().map_or(0, |frozen| frozen.size())
    }
}
