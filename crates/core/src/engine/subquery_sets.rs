//! The sets of values of rules' sub-selects.

use std::collections::HashMap;
use std::sync::Arc;

use crate::index::FeedId;
use crate::position::Timestamp;
use crate::query::Subquery;
use crate::subquery::{SubqueryResults, ValueSet};

/// The values of all sub-selects, and the feeds that depend on them, at a moment.
#[derive(Debug, Default)]
pub(super) struct SubquerySets {
    pub(super) sets: HashMap<Arc<Subquery>, MaintainedSet>,
    /// What `NOW()` is: whole seconds, in microseconds since 2000.
    pub(super) moment: Timestamp,
}

#[derive(Debug)]
pub(super) struct MaintainedSet {
    pub(super) values: ValueSet,
    /// The feed that maintains them.
    pub(super) feed: FeedId,
    /// The feeds that depend on it.
    pub(super) dependents: Vec<FeedId>,
}

impl SubqueryResults for SubquerySets {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.sets.get(of).map(|a| &a.values)
    }

    fn now(&self) -> Timestamp {
        self.moment
    }
}
