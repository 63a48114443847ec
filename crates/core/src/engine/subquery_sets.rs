//! What feeds know of other tables: the sets of values of sub-selects, and the rows that are joined.

use std::collections::HashMap;
use std::sync::Arc;

use super::asked::Asked;
use crate::index::FeedId;
use crate::position::Timestamp;
use crate::query::Subquery;
use crate::subquery::{Partner, SubqueryResults, ValueSet};
use crate::value::Value;

/// The values of all sub-selects, and the feeds that depend on them, at a moment.
#[derive(Debug, Default)]
pub(super) struct SubquerySets {
    pub(super) sets: HashMap<Arc<Subquery>, MaintainedSet>,
    /// By the description of the table.
    pub(super) asked: HashMap<u64, Asked>,
    /// What `NOW()` is: whole seconds, in microseconds since 2000.
    pub(super) moment: Timestamp,
}

#[derive(Debug)]
pub(super) struct MaintainedSet {
    pub(super) values: ValueSet,
    /// Whether they were all there once.
    pub(super) is_begun: bool,
    /// The feed that maintains them.
    pub(super) feed: FeedId,
    /// The feeds that depend on it.
    pub(super) dependents: Vec<FeedId>,
}

impl SubqueryResults for SubquerySets {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.sets.get(of).map(|a| &a.values)
    }

    fn partner(&self, table: u64, key: &[Value]) -> Partner<'_> {
        self.asked.get(&table).map_or(Partner::Unknown, |asked| asked.partner(key))
    }

    fn now(&self) -> Timestamp {
        self.moment
    }
}
