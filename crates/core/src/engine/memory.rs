//! What a feed remembers of its result, to derive what a change does to it.

use super::materialized::Materialized;
use crate::feed::Sent;
use crate::plan::EffectivePlan;
use crate::schema::{Key, Row};
use crate::subquery::SubqueryResults;

/// What a feed remembers, as its plan and its table require.
#[derive(Debug, Default)]
pub(super) enum Memory {
    /// Nothing: changes of the table carry the old row. Also a feed that has no result yet.
    #[default]
    Stateless,
    /// The keys that were sent, with hashes of the values shown: changes do not carry the old row.
    Tracked(Box<Sent>),
    /// The rows themselves: the result depends on other tables too, or on all rows together.
    Materialized(Box<Materialized>),
}

impl Memory {
    /// The keys that were sent, if the feed is tracked.
    pub(super) fn tracked(&self) -> Option<&Sent> {
        if let Memory::Tracked(sent) = self { Some(sent) } else { None }
    }

    /// Mutable [`Memory::tracked`].
    pub(super) fn tracked_mut(&mut self) -> Option<&mut Sent> {
        if let Memory::Tracked(sent) = self { Some(sent) } else { None }
    }

    /// The rows, if the feed is materialized.
    pub(super) fn materialized(&self) -> Option<&Materialized> {
        if let Memory::Materialized(materialized) = self { Some(materialized) } else { None }
    }

    /// Mutable [`Memory::materialized`].
    pub(super) fn materialized_mut(&mut self) -> Option<&mut Materialized> {
        if let Memory::Materialized(materialized) = self { Some(materialized) } else { None }
    }

    /// Whether the feed is for other feeds; such a feed has no subscribers.
    pub(super) fn is_of_subquery(&self) -> bool {
        self.materialized().is_some_and(Materialized::is_subquery)
    }

    /// Number of rows remembered; `None` for a stateless feed.
    pub(super) fn rows(&self) -> Option<usize> {
        match self {
            Memory::Stateless => None,
            Memory::Tracked(sent) => Some(sent.len()),
            Memory::Materialized(materialized) => Some(materialized.entries.len()),
        }
    }

    /// Keys of the remembered rows that are in the result.
    pub(super) fn keys(&self) -> Box<dyn Iterator<Item = &Key> + '_> {
        match self {
            Memory::Stateless => Box::new(std::iter::empty()),
            Memory::Tracked(sent) => Box::new(sent.keys()),
            Memory::Materialized(materialized) => {
                Box::new(materialized.entries.iter().filter(|(_, e)| e.now.is_some()).map(|(k, _)| k))
            }
        }
    }

    /// Whether the row remembered under `key` shows the same values as `row`, by the plan of the feed's rows.
    pub(super) fn matches(
        &self,
        plan: &EffectivePlan,
        key: &Key,
        row: &Row,
        subquery_results: &dyn SubqueryResults,
    ) -> bool {
        let see = |row| plan.see(row, subquery_results).unwrap_or(None);
        let now = see(row);
        match self {
            Memory::Stateless => false,
            Memory::Tracked(sent) => now.is_some_and(|now| sent.is_as_sent(plan, key, &now)),
            Memory::Materialized(materialized) => {
                // Only shown values count: a change may have omitted the others.
                let held = materialized.entries.get(key).and_then(|e| see(e.now.as_ref()?));
                let shown = |seen| plan.shown(seen).collect::<Vec<_>>();
                held.as_ref().map(shown) == now.as_ref().map(shown)
            }
        }
    }
}
