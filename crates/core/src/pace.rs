//! Several transactions' changes of one result, as one: for subscribers that want a delta every so often and not one
//! per transaction.
//!
//! Per key only what is left of all changes is kept: a row that came and went is not told at all. Where rows have no
//! key every one is told, up to a limit, after which the oldest are dropped and counted.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use crate::engine::Delta;
use crate::feed::Change;
use crate::position::Micros;
use crate::schema::Key;

/// Rows without a key that are held back at most.
pub const MAX_KEYLESS: usize = 4_096;

/// Changes of rows with a key that are held back at most; then they are told before their time.
pub const MAX_KEYED: usize = 100_000;

/// What waits to be told.
#[derive(Debug, Default)]
pub struct Pending {
    keyed: BTreeMap<Key, Change>,
    keyless: VecDeque<Change>,
    skipped: u64,
    newest: Option<Arc<Delta>>,
    due: Option<Micros>,
}

impl Pending {
    /// Takes the changes of a delta in. It is to be told at `due`, unless something earlier waits already.
    pub fn take_in(&mut self, delta: Arc<Delta>, due: Micros) {
        for change in &delta.changes {
            if change.key().is_empty() {
                if self.keyless.len() >= MAX_KEYLESS {
                    self.keyless.pop_front();
                    self.skipped += 1;
                }
                self.keyless.push_back(change.clone());
            } else {
                let left = match self.keyed.remove(change.key()) {
                    None => Some(change.clone()),
                    Some(before) => merge(before, change.clone()),
                };
                left.map(|left| self.keyed.insert(left.key().clone(), left));
            }
        }
        self.due.get_or_insert(due);
        self.newest = Some(delta);
    }

    /// When it is to be told, if anything waits.
    pub fn due(&self) -> Option<Micros> {
        if self.keyed.len() >= MAX_KEYED { Some(Micros::MIN) } else { self.due }
    }

    /// Everything that waits, as a delta of the newest transaction. `None` if nothing is left of it.
    pub fn take_out(&mut self) -> Option<Delta> {
        let Pending { keyed, keyless, skipped, newest, .. } = std::mem::take(self);
        let newest = newest?;
        let changes: Vec<Change> = keyed.into_values().chain(keyless).collect();
        (!changes.is_empty()).then(|| Delta {
            feed: newest.feed.clone(),
            epoch: newest.epoch,
            position: newest.position,
            at: newest.at,
            changes,
            skipped,
        })
    }
}

/// Two changes of one key in a row as one; `None` if nothing is left of them.
fn merge(before: Change, after: Change) -> Option<Change> {
    // Whether the client has the row already.
    let had = !matches!(before, Change::Add { instead: false, .. });
    match (before, after) {
        (_, Change::Remove { key }) => had.then_some(Change::Remove { key }),
        (Change::Replace { changed: earlier, .. }, Change::Replace { key, row, mut changed }) => {
            changed.extend(earlier.into_iter().filter(|c| row.columns.contains(*c)));
            changed.sort_unstable();
            changed.dedup();
            Some(Change::Replace { key, row, changed })
        }
        (_, Change::Replace { key, row, .. } | Change::Add { key, row, .. }) => {
            Some(Change::Add { key, row, instead: had })
        }
    }
}
