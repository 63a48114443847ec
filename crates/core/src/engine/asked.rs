//! What is known of rows of tables that are joined, and who asks for them; [`partners`](super::partners) maintains it.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::frozen::Frozen;
use crate::index::FeedId;
use crate::schema::{ByKey, Key, Row, Table};
use crate::subquery::Partner;
use crate::value::Value;

/// A key as it is looked up: equal if SQL's `=` holds.
pub(super) type Probe = Box<[Value]>;

/// The probe of a key; `None` if a part of it equals nothing.
pub(super) fn probe(key: &[Value]) -> Option<Probe> {
    key.iter().map(Value::probe).collect()
}

/// The rows of a table that are asked for.
#[derive(Debug)]
pub(super) struct Asked {
    /// The feed that reads them.
    pub(super) feed: FeedId,
    pub(super) rows: HashMap<Probe, AskedRow>,
    /// Those of which nothing is known, and which no read under way will tell.
    pub(super) unread: BTreeMap<Probe, Key>,
    /// Those that the read under way will tell.
    pub(super) reading: BTreeSet<Probe>,
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
        Asked { feed, rows: HashMap::new(), unread: BTreeMap::new(), reading: BTreeSet::new(), bytes: 0 }
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
    pub(super) unknown: BTreeSet<(usize, Probe)>,
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
