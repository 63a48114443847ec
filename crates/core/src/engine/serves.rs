//! Whom a feed is for.

use std::sync::Arc;

use crate::query::Subquery;

/// Whom a feed is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Serves {
    /// Clients, who share it.
    Clients,
    /// Feeds that ask a sub-select: it maintains its set.
    Set(Arc<Subquery>),
    /// Feeds that join its table: it reads the rows that they ask for.
    Joins,
}
