//! What subscribers know of rows that have changed, where the changes are not told yet: they wait for their time, or for a page
//! of a window. What is withdrawn meanwhile of a row that was told is noticed by it, wherever the row has gone since.

use crate::coalesce::MAX_KEYED;
use crate::plan::VisibleRow;
use crate::schema::{ByKey, Key};
use crate::value::Value;

/// Approximate bytes of a row besides its values.
const OF_A_ROW: usize = 120;

/// Rows for which room is kept.
const KEPT: usize = 16;

/// Rows that have changed since subscribers were told last, as they were then; `None` where there was none.
#[derive(Debug, Default)]
pub(super) struct Told {
    rows: ByKey<Option<VisibleRow>>,
    bytes: usize,
}

impl Told {
    /// Notes rows that change, each as it was sent.
    pub(super) fn note<'a>(&mut self, changed: impl Iterator<Item = (&'a Key, Option<&'a VisibleRow>)>) {
        for (key, sent) in changed {
            if self.rows.contains_key(key) {
                continue;
            }
            let values = key.iter().chain(sent.iter().flat_map(|seen| &*seen.row));
            self.bytes += OF_A_ROW + values.map(Value::size).sum::<usize>();
            self.rows.insert(key.clone(), sent.cloned());
        }
    }

    /// Whether anything has changed that is not told.
    pub(super) fn holds_something(&self) -> bool {
        !self.rows.is_empty()
    }

    /// All is told: forgets the rows, and hands out their keys.
    pub(super) fn take_keys(&mut self) -> Vec<Key> {
        if self.rows.is_empty() {
            return Vec::new();
        }
        self.bytes = 0;
        let keys = self.rows.drain().map(|(key, _)| key).collect();
        self.rows.shrink_to(KEPT);
        keys
    }

    /// The row as it was told, if it has changed since.
    pub(super) fn get(&self, key: &Key) -> Option<&VisibleRow> {
        self.rows.get(key).and_then(Option::as_ref)
    }

    /// Whether a row that was told is one of those that have changed since and are not held any more.
    pub(super) fn has_any_but(&self, is_held: impl Fn(&Key) -> bool) -> bool {
        self.rows.iter().any(|(key, row)| row.is_some() && !is_held(key))
    }

    /// Whether more have changed than are to wait.
    pub(super) fn is_full(&self) -> bool {
        self.rows.len() >= MAX_KEYED
    }

    /// Approximate bytes.
    pub(super) fn size(&self) -> usize {
        self.bytes
    }
}
