//! The values that rules have found in other tables.

use std::collections::HashMap;
use std::sync::Arc;

use crate::index::FeedId;
use crate::look_up::{Sets, ValueSet};
use crate::query::LookUp;

/// The values that all look-ups have found, and who asks them.
#[derive(Debug, Default)]
pub(super) struct Known(pub(super) HashMap<Arc<LookUp>, Asked>);

#[derive(Debug)]
pub(super) struct Asked {
    pub(super) values: ValueSet,
    /// The feed that keeps them up to date.
    pub(super) feed: FeedId,
    /// The feeds whose rules ask it.
    pub(super) by: Vec<FeedId>,
}

impl Sets for Known {
    fn set(&self, of: &LookUp) -> Option<&ValueSet> {
        self.0.get(of).map(|a| &a.values)
    }
}
