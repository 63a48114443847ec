//! What is left for later; [`steps`](super::steps) goes on with it.

use std::collections::{BTreeSet, HashMap};

use super::probe::Probe;
use crate::index::FeedId;

/// What a feed that has ended had asked for.
#[derive(Debug)]
pub(super) struct Parting {
    pub(super) feed: FeedId,
    /// By the place of the table: its description and the keys.
    pub(super) asked: Vec<(u64, Vec<Probe>)>,
}

/// What is left for later.
#[derive(Debug, Default)]
pub(super) struct Later {
    /// Feeds whose difference is large, and waits for a step of its own.
    pub(super) postponed: BTreeSet<FeedId>,
    /// Feeds that have ended, and of which something is still to be forgotten.
    pub(super) partings: Vec<Parting>,
    /// How much has to end before the number of a feed is free for another one.
    pub(super) waits: HashMap<FeedId, u8>,
}
