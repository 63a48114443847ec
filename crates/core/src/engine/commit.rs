//! The commit with which something is sent.

use crate::position::{Position, Term, Timestamp};

/// The commit with which something is sent.
#[derive(Clone, Copy, Debug)]
pub(super) struct Commit {
    pub term: Term,
    pub position: Position,
    pub at: Timestamp,
}
