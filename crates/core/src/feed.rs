//! One effective query over time: a row change in, a change of the result out.
//!
//! Where the table's changes bring the row as it was, a feed needs no memory at all: the old and the new row are both
//! looked at and compared. Where they do not, the feed remembers the keys it has sent, each with a hash of what was
//! shown, so that a change of hidden columns sends nothing.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::hash::{BuildHasher, Hash, Hasher};

use foldhash::quality::RandomState;

use crate::look_up::Sets;
use crate::position::{Old, RowChange};
use crate::rule::{Effective, Seen};
use crate::schema::Key;

/// A change of a feed's result. Speaks of the result, not of the table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The row is now in the result. Stands for a replacement too where columns that were shown are hidden now.
    Add {
        /// Its key.
        key: Key,
        /// The row as it is shown.
        row: Seen,
        /// Whether it stands for a replacement: the row was in the result before.
        instead: bool,
    },
    /// The row was and is in the result.
    Replace {
        /// Its key.
        key: Key,
        /// The row as it is shown now.
        row: Seen,
        /// Selected columns whose value differs, ascending in selection order.
        changed: Vec<usize>,
    },
    /// The row is no longer in the result.
    Remove {
        /// Its key.
        key: Key,
    },
}

impl Change {
    /// The key of the row.
    pub fn key(&self) -> &Key {
        match self {
            Change::Add { key, .. } | Change::Replace { key, .. } | Change::Remove { key } => key,
        }
    }
}

/// The keys that a feed has sent, for tables without old values.
#[derive(Debug, Default)]
pub struct Sent {
    keys: HashMap<Key, u64>,
    hasher: RandomState,
}

impl Sent {
    /// Notes a row as sent.
    pub fn note(&mut self, effective: &Effective, key: Key, seen: &Seen) {
        let hash = self.hash(effective, seen);
        self.keys.insert(key, hash);
    }

    fn hash(&self, effective: &Effective, seen: &Seen) -> u64 {
        let mut h = self.hasher.build_hasher();
        for (i, value) in effective.shown(seen) {
            (i, value).hash(&mut h);
        }
        h.finish()
    }

    /// Whether the key was sent and not removed since.
    pub fn contains(&self, key: &Key) -> bool {
        self.keys.contains_key(key)
    }

    /// All keys that were sent.
    pub fn keys(&self) -> impl Iterator<Item = &Key> {
        self.keys.keys()
    }

    /// Bytes that it takes, about.
    pub fn size(&self) -> usize {
        self.keys.keys().map(|k| 64 + k.iter().map(|v| v.size()).sum::<usize>()).sum()
    }
}

/// A change leaves out an unchanged value that is needed to tell what it does to a result.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Untold;

/// What a row change does to a result. `sent` is needed, and kept up to date, only where old values are unknown.
pub fn change(
    effective: &Effective,
    row: &RowChange,
    sets: &dyn Sets,
    sent: Option<&mut Sent>,
) -> Result<Option<Change>, Untold> {
    let key = row.key.clone();
    if !row.untold.is_empty() && row.new.is_some() && effective.is_decided_by_any_of(&row.untold) {
        return Err(Untold);
    }
    let mut new = row.new.as_ref().and_then(|r| effective.see(r, sets));
    if effective.table.key.is_empty() {
        return Ok(new.map(|row| Change::Add { key, row, instead: false }));
    }
    if let Some(seen) = new.as_mut().filter(|_| !row.untold.is_empty()) {
        seen.columns.remove_all(&row.untold);
        if effective.select.iter().any(|&i| row.untold.contains(i)) {
            return match sent {
                // What is under the key now may be another row than the one that was sent.
                Some(sent) if sent.contains(&key) && row.old != Old::Known(None) => {
                    Ok(replace_told(effective, key, seen.clone(), sent))
                }
                _ => Err(Untold),
            };
        }
    }
    Ok(match (&row.old, sent) {
        (_, Some(sent)) => match (sent.keys.contains_key(&key), new) {
            (false, None) => None,
            (false, Some(row)) => {
                sent.note(effective, key.clone(), &row);
                Some(Change::Add { key, row, instead: false })
            }
            (true, None) => {
                sent.keys.remove(&key);
                Some(Change::Remove { key })
            }
            (true, Some(row)) => {
                let hash = sent.hash(effective, &row);
                match sent.keys.entry(key.clone()) {
                    Entry::Occupied(known) if *known.get() == hash => None,
                    entry => {
                        entry.insert_entry(hash);
                        // What was shown before is not known: the row stands for itself.
                        Some(Change::Add { key, row, instead: true })
                    }
                }
            }
        },
        (Old::Known(old), None) => {
            between(effective, key, old.as_ref().and_then(|r| effective.see(r, sets)).as_ref(), new)
        }
        // Without any memory of what was sent, only what is in the result now can be told.
        (Old::Unknown, None) => new.map(|row| Change::Add { key, row, instead: false }),
    })
}

/// What takes a result from one row under a key to another.
pub fn between(effective: &Effective, key: Key, old: Option<&Seen>, new: Option<Seen>) -> Option<Change> {
    match (old, new) {
        (None, None) => None,
        (None, Some(row)) => Some(Change::Add { key, row, instead: false }),
        (Some(_), None) => Some(Change::Remove { key }),
        (Some(old), Some(row)) => replace(effective, key, old, row),
    }
}

/// Whether the change takes back something that its readers were allowed to see before: what of it is still unsent is
/// not to be sent any more. `row` is what changed.
pub fn takes_back(effective: &Effective, change: &Change, row: &RowChange, sets: &dyn Sets) -> bool {
    match change {
        Change::Remove { .. } => row.new.as_ref().is_some_and(|r| effective.admitted(r, sets).is_none()),
        Change::Add { row, instead: true, .. } => {
            !row.columns.covers(&effective.granted()) || !effective.maskable().is_empty()
        }
        // A mask may stand now where the value itself stood.
        Change::Replace { changed, .. } => {
            let maskable = effective.maskable();
            changed.iter().any(|c| maskable.contains(*c))
        }
        Change::Add { .. } => false,
    }
}

/// A row that was sent, of which some selected values did not change and are not told: all others are.
fn replace_told(effective: &Effective, key: Key, row: Seen, sent: &mut Sent) -> Option<Change> {
    sent.note(effective, key.clone(), &row);
    let changed: Vec<usize> = effective.select.iter().copied().filter(|&i| row.columns.contains(i)).collect();
    (!changed.is_empty()).then_some(Change::Replace { key, row, changed })
}

fn replace(effective: &Effective, key: Key, old: &Seen, row: Seen) -> Option<Change> {
    let lost = effective.select.iter().any(|&i| old.columns.contains(i) && !row.columns.contains(i));
    if lost {
        return Some(Change::Add { key, row, instead: true });
    }
    let differs = |&i: &usize| row.columns.contains(i) && (!old.columns.contains(i) || old.row[i] != row.row[i]);
    let changed: Vec<usize> = effective.select.iter().copied().filter(differs).collect();
    (!changed.is_empty()).then_some(Change::Replace { key, row, changed })
}
