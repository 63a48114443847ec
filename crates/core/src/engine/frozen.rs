//! What a joined result was at a commit at which not all of its partners were known: it waits for these while the stream goes on, so
//! that a result which always lacks some partner is not silent for ever.

use std::collections::BTreeSet;

use super::commit::Commit;
use crate::audience::SubId;
use crate::plan::VisibleRow;
use crate::position::Position;
use crate::schema::{ByKey, Key, Row};
use crate::value::Value;

/// The difference between what was sent last and the result at a commit.
#[derive(Debug)]
pub(super) struct Frozen {
    pub(super) commit: Commit,
    pub(super) rows: ByKey<FrozenRow>,
    /// Whether the difference withdraws something.
    pub(super) revokes: bool,
    /// Who waited for the whole result then.
    pub(super) waiting: BTreeSet<SubId>,
    /// How many of what it asks for were known when it was looked last.
    pub(super) known: usize,
    /// The first commit after it that may have changed the result.
    pub(super) changed_since: Option<Position>,
}

/// A row of a difference that is frozen.
#[derive(Debug)]
pub(super) enum FrozenRow {
    /// What was seen of it.
    Seen(Option<VisibleRow>),
    /// Not all of its partners are known.
    Waits {
        row: Row,
        /// What was seen of it, without what is joined.
        own: VisibleRow,
    },
}

/// Under which a difference that is frozen asks for its partners: no row has this key.
pub(super) fn key_of_frozen() -> Key {
    [].into()
}

impl Frozen {
    /// What was seen of a row, if it is one of these.
    pub(super) fn seen(&self, key: &Key) -> Option<&VisibleRow> {
        match self.rows.get(key)? {
            FrozenRow::Seen(seen) => seen.as_ref(),
            FrozenRow::Waits { own, .. } => Some(own),
        }
    }

    /// Bytes of it, about, without the rows that are held.
    pub(super) fn size(&self) -> usize {
        const EACH: usize = 112;
        let of = |row: &FrozenRow| match row {
            FrozenRow::Seen(Some(seen)) => EACH + seen.row.iter().map(Value::size).sum::<usize>(),
            FrozenRow::Seen(None) | FrozenRow::Waits { .. } => EACH,
        };
        self.rows.values().map(of).sum()
    }
}
