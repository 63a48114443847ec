//! Finds the feeds that a changed row may touch.
//!
//! A feed whose rows must have one of a few values is found by those values ([`AccessPath`]); all others are evaluated for
//! every change. The index may return too many feeds, never too few: what it returns is evaluated.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::plan::AccessPath;
use crate::schema::Row;
use crate::value::Value;

/// A feed of one engine.
pub type FeedId = u32;

/// Feeds by the probe of the value that they need.
type ByValue = HashMap<Value, Vec<FeedId>, RandomState>;

/// The feeds on one table, by access path.
#[derive(Debug, Default)]
pub struct TableIndex {
    /// For each indexed column.
    by_value: Vec<(usize, ByValue)>,
    /// Feeds that every change may touch.
    always: Vec<FeedId>,
}

impl TableIndex {
    /// Adds a feed under its access path.
    pub fn insert(&mut self, feed: FeedId, access_path: &AccessPath) {
        let Some(anchors) = access_path.anchors() else { return self.always.push(feed) };
        for (column, value) in anchors {
            let place = match self.by_value.iter().position(|(c, _)| c == column) {
                Some(i) => i,
                None => {
                    self.by_value.push((*column, HashMap::default()));
                    self.by_value.len() - 1
                }
            };
            self.by_value[place].1.entry(value.clone()).or_default().push(feed);
        }
    }

    /// Removes a feed. `access_path` must be the one it was added under.
    pub fn remove(&mut self, feed: FeedId, access_path: &AccessPath) {
        match access_path.anchors() {
            None => self.always.retain(|f| *f != feed),
            Some(anchors) => {
                for (column, value) in anchors {
                    let Some((_, map)) = self.by_value.iter_mut().find(|(c, _)| c == column) else { continue };
                    if let Some(feeds) = map.get_mut(value) {
                        feeds.retain(|f| *f != feed);
                        if feeds.is_empty() {
                            map.remove(value);
                        }
                    }
                }
            }
        }
        self.by_value.retain(|(_, map)| !map.is_empty());
    }

    /// Calls `found` for every feed whose result may contain the old or the new row; for some more than once.
    pub fn touched(&self, old: Option<&Row>, new: Option<&Row>, mut found: impl FnMut(FeedId)) {
        self.always.iter().for_each(|f| found(*f));
        for (column, map) in &self.by_value {
            let old = old.map(|r| &r[*column]);
            let new = new.map(|r| &r[*column]);
            let mut look = |v: Option<&Value>| {
                if let Some(feeds) = v.and_then(Value::probe).and_then(|p| map.get(&p)) {
                    feeds.iter().for_each(|f| found(*f));
                }
            };
            look(new);
            if old != new {
                look(old);
            }
        }
    }
}
