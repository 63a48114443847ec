//! Finds the feeds that a changed row may touch.
//!
//! A feed whose rows must have a column with one of a few values, with one of them as an element, within bounds, or `NULL` is
//! found by that ([`AccessPath`]); all others are evaluated for every change. The index may return too many feeds, never too
//! few: what it returns is evaluated.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use crate::bounds::Coarse;
use crate::intervals::Intervals;
use crate::plan::{AccessPath, Anchor};
use crate::query::function::document;
use crate::schema::Row;
use crate::value::{Type, Value};

/// A feed of one engine.
pub type FeedId = u32;

/// Feeds by the probe of the value that they need.
type ByValue = HashMap<Value, Vec<FeedId>, RandomState>;

/// The feeds that are found by one column.
#[derive(Debug)]
struct ByColumn<T> {
    column: usize,
    feeds: T,
}

/// Feeds by the probe of an element that they need in an array.
#[derive(Debug)]
struct ByElement {
    /// The type of the array's elements.
    ty: Type,
    feeds: ByValue,
}

impl Default for ByElement {
    fn default() -> ByElement {
        ByElement { ty: Type::Any, feeds: ByValue::default() }
    }
}

/// The feeds on one table, by access path.
#[derive(Debug, Default)]
pub struct TableIndex {
    by_value: Vec<ByColumn<ByValue>>,
    by_element: Vec<ByColumn<ByElement>>,
    by_bounds: Vec<ByColumn<Intervals>>,
    by_null: Vec<ByColumn<Vec<FeedId>>>,
    /// Feeds that every change may touch.
    always: Vec<FeedId>,
}

/// What there is of a column; begun where there is nothing yet.
fn of_column<T: Default>(all: &mut Vec<ByColumn<T>>, column: usize) -> &mut T {
    let place = all.iter().position(|c| c.column == column).unwrap_or_else(|| {
        all.push(ByColumn { column, feeds: T::default() });
        all.len() - 1
    });
    &mut all[place].feeds
}

/// Takes a feed out of those that need a value.
fn take_out(map: &mut ByValue, v: &Value, feed: FeedId) {
    if let Some(feeds) = map.get_mut(v) {
        feeds.retain(|f| *f != feed);
        if feeds.is_empty() {
            map.remove(v);
        }
    }
}

impl TableIndex {
    /// Adds a feed under its access path.
    pub fn insert(&mut self, feed: FeedId, access_path: &AccessPath) {
        let Some(anchors) = access_path.anchors() else { return self.always.push(feed) };
        for (column, anchor) in anchors {
            match anchor {
                Anchor::Value(v) => {
                    of_column(&mut self.by_value, *column).entry(v.clone()).or_default().push(feed);
                }
                Anchor::Element(ty, v) => {
                    let by_element = of_column(&mut self.by_element, *column);
                    by_element.ty = *ty;
                    by_element.feeds.entry(v.clone()).or_default().push(feed);
                }
                Anchor::Within(bounds) => of_column(&mut self.by_bounds, *column).insert(bounds.clone(), feed),
                Anchor::Null => of_column(&mut self.by_null, *column).push(feed),
            }
        }
    }

    /// Removes a feed. `access_path` must be the one it was added under.
    pub fn remove(&mut self, feed: FeedId, access_path: &AccessPath) {
        let Some(anchors) = access_path.anchors() else { return self.always.retain(|f| *f != feed) };
        for (column, anchor) in anchors {
            match anchor {
                Anchor::Value(v) => take_out(of_column(&mut self.by_value, *column), v, feed),
                Anchor::Element(_, v) => take_out(&mut of_column(&mut self.by_element, *column).feeds, v, feed),
                Anchor::Within(bounds) => of_column(&mut self.by_bounds, *column).remove(bounds, feed),
                Anchor::Null => of_column(&mut self.by_null, *column).retain(|f| *f != feed),
            }
        }
        self.by_value.retain(|c| !c.feeds.is_empty());
        self.by_element.retain(|c| !c.feeds.feeds.is_empty());
        self.by_bounds.retain(|c| !c.feeds.is_empty());
        self.by_null.retain(|c| !c.feeds.is_empty());
    }

    /// Calls `found` for every feed whose result may contain the old or the new row; for some more than once.
    pub fn touched(&self, old: Option<&Row>, new: Option<&Row>, mut found: impl FnMut(FeedId)) {
        self.always.iter().for_each(|f| found(*f));
        for ByColumn { column, feeds: map } in &self.by_value {
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
        for ByColumn { column, feeds: ByElement { ty, feeds: map } } in &self.by_element {
            let old = old.map(|r| &r[*column]);
            let new = new.map(|r| &r[*column]);
            let mut look = |array: Option<&Value>| {
                let elements = array.and_then(|array| document::elements(*ty, array)).into_iter().flatten();
                let by_element = elements.filter_map(|e| map.get(&e.probe()?)).flatten();
                by_element.for_each(|f| found(*f));
            };
            look(new);
            if old != new {
                look(old);
            }
        }
        for ByColumn { column, feeds: intervals } in &self.by_bounds {
            let old = old.and_then(|r| Coarse::of(&r[*column]));
            let new = new.and_then(|r| Coarse::of(&r[*column]));
            if let Some(new) = &new {
                intervals.containing(new, &mut found);
            }
            if let Some(old) = old.filter(|old| new.as_ref() != Some(old)) {
                intervals.containing(&old, &mut found);
            }
        }
        for ByColumn { column, feeds } in &self.by_null {
            if [old, new].into_iter().flatten().any(|r| r[*column].is_null()) {
                feeds.iter().for_each(|f| found(*f));
            }
        }
    }
}
