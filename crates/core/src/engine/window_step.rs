//! Where a row stands in a window, as its rows are now: a step of an explanation.

use super::Engine;
use crate::explain::{Passed, Step, explained};
use crate::index::FeedId;
use crate::position::{Old, Transaction};
use crate::schema::{ColumnSet, Row};

impl Engine {
    /// Whether the row of a transaction that came furthest stands in the window of a feed, as it was or as it became: a row before
    /// the window moves it. `None` if the feed has no window or the row is none of its rows. What the other rows were at the time
    /// is not known any more.
    pub fn window_step(&self, id: FeedId, transaction: &Transaction) -> Option<Step> {
        let feed = self.feed(id)?;
        let (plan, materialized) = (&feed.plan, feed.memory.materialized()?);
        let arrange = plan.arrange.as_ref().filter(|_| plan.is_window() && plan.is_ordered())?;
        let (from, limit) = (arrange.offset(), arrange.limit()?);
        let (operators, until) = (materialized.operators.as_ref()?, from + limit);
        let change = explained(&plan.of_rows(), transaction, &self.subquery_sets)?;
        let place = |row: &Row| {
            let seen = plan.see(row, &self.subquery_sets).ok()??;
            let is_behind = materialized.is_behind(plan, &change.key, row, &ColumnSet::default());
            Some((operators.rank(plan, &change.key, &seen).ok()??, is_behind))
        };
        let old = if let Old::Known(old) = &change.old { old.as_ref() } else { None };
        let rows = [("as it became", change.new.as_ref()), ("as it was", old)];
        let places = rows.map(|(what, row)| Some((what, row.and_then(place)?)));
        let values: Vec<String> = places.into_iter().flatten().map(|(what, place)| words(what, place)).collect();
        let is_within = places.into_iter().flatten().any(|(_, (place, is_behind))| place < until && !is_behind);
        let text = match limit {
            0 => "the window has no places".to_string(),
            _ => format!("the window has the places {from} to {}", until - 1),
        };
        let passed = if is_within { Passed::Yes } else { Passed::No };
        (!values.is_empty()).then(|| Step::new("window", passed, text, values))
    }
}

fn words(what: &str, (place, is_behind): (usize, bool)) -> String {
    match is_behind {
        true => format!("{what}: behind the first {place} rows, as they are now"),
        false => format!("{what}: place {place} among the rows as they are now"),
    }
}
