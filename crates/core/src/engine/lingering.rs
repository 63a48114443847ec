//! The feeds that nobody listens to any more and that stay a while; [`leaving`](super::leaving) says which and how long.

use std::collections::VecDeque;

use crate::index::FeedId;
use crate::position::Timestamp;

/// These feeds in the order in which they were left; those that somebody has come back to, too.
#[derive(Debug, Default)]
pub(super) struct Lingering(pub(super) VecDeque<(Timestamp, FeedId)>);
