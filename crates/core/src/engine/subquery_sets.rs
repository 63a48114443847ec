//! The values that rules have found in other tables.

use std::collections::HashMap;
use std::sync::Arc;

use crate::index::FeedId;
use crate::query::Subquery;
use crate::subquery::{SubqueryResults, ValueSet};

/// The values that all lookups have found, and who asks them.
#[derive(Debug, Default)]
pub(super) struct SubquerySets(pub(super) HashMap<Arc<Subquery>, MaintainedSet>);

#[derive(Debug)]
pub(super) struct MaintainedSet {
    pub(super) values: ValueSet,
    /// The feed that keeps them up to date.
    pub(super) feed: FeedId,
    /// The feeds whose rules ask it.
    pub(super) by: Vec<FeedId>,
}

impl SubqueryResults for SubquerySets {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.0.get(of).map(|a| &a.values)
    }
}
