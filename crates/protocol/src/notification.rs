//! Notifications: results and their changes.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

/// One row of a result.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RowEntry {
    /// Array of key values, or one opaque string.
    pub key: Json,
    /// Visible selected columns; none where only keys were asked for.
    #[serde(default)]
    pub row: Map<String, Json>,
}

/// One entry of a delta.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "op", rename_all = "lowercase")]
pub enum ChangeEntry {
    /// The row is now in the result, whole.
    Add {
        /// Its key.
        key: Json,
        /// Its place in an ordered result, from 0, once all changes of the delta are made.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        place: Option<u64>,
        /// Its columns; none where only keys were asked for.
        #[serde(default)]
        row: Map<String, Json>,
        /// The row that it replaces, as it was, if that was asked for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        was: Option<Map<String, Json>>,
    },
    /// The row changed.
    Replace {
        /// Its key.
        key: Json,
        /// Its place in an ordered result, if it has moved.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        place: Option<u64>,
        /// Its columns; what is absent is unchanged.
        #[serde(default)]
        row: Map<String, Json>,
        /// The columns that changed.
        #[serde(default)]
        changed: Vec<String>,
        /// Its columns as they were, if that was asked for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        was: Option<Map<String, Json>>,
    },
    /// The row is no longer in the result.
    Remove {
        /// Its key.
        key: Json,
        /// The row as it was, if that was asked for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        was: Option<Map<String, Json>>,
    },
}

/// A column of a result.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ColumnInfo {
    /// Its name.
    pub name: String,
    /// Its type's name.
    #[serde(rename = "type")]
    pub ty: String,
    /// Whether it is part of the key.
    pub key: bool,
}

/// What a result is, and so what its deltas can do to it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// It only gains rows, which have no key.
    Stream,
    /// Rows come, change and go under their keys, in no order.
    #[default]
    Keyed,
    /// The same, in an order: the rows stand in it, and what comes or moves has a place.
    Ordered,
}

impl Shape {
    /// The protocol's word for it.
    pub fn word(self) -> &'static str {
        match self {
            Shape::Stream => "stream",
            Shape::Keyed => "keyed",
            Shape::Ordered => "ordered",
        }
    }
}

/// The answer to `subscribe`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Subscribed {
    /// The subscription's number within the connection.
    pub subscription: u64,
    /// The columns of the result.
    pub columns: Vec<ColumnInfo>,
    /// What the result is.
    #[serde(default)]
    pub shape: Shape,
    /// The first rows. None if `resumed`.
    #[serde(default)]
    pub rows: Vec<RowEntry>,
    /// Where the result stands.
    #[serde(default)]
    pub cursor: String,
    /// Whether `rows` notifications follow.
    #[serde(default)]
    pub more: bool,
    /// The result that the client has stays; deltas from its cursor on follow.
    #[serde(default)]
    pub resumed: bool,
    /// Why a client that had a cursor gets all rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// A message from an instance that does not answer a call.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "method", content = "params", rename_all = "lowercase")]
pub enum Notification {
    /// More rows of a result.
    Rows {
        /// The subscription.
        subscription: u64,
        /// Number of this part, from 1.
        part: u64,
        /// The rows.
        rows: Vec<RowEntry>,
        /// Whether yet more follow.
        #[serde(default)]
        more: bool,
    },
    /// The result changed.
    Delta {
        /// The subscription.
        subscription: u64,
        /// Where the result stands after it.
        cursor: String,
        /// Commit time, RFC 3339.
        at: String,
        /// The changes; none where only a signal was asked for.
        #[serde(default)]
        changes: Vec<ChangeEntry>,
        /// The transaction's position, for operators.
        #[serde(default)]
        position: Option<String>,
        /// Additions that were dropped because too many came between two deltas.
        #[serde(default)]
        skipped: u64,
        /// The transaction goes on in the next delta.
        #[serde(default)]
        more: bool,
    },
    /// The result is replaced as a whole.
    Snapshot {
        /// The subscription.
        subscription: u64,
        /// The first rows.
        rows: Vec<RowEntry>,
        /// Where the result stands.
        cursor: String,
        /// Why.
        why: String,
        /// The columns of the result, where they are others than before.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        columns: Option<Vec<ColumnInfo>>,
        /// Whether `rows` notifications follow.
        #[serde(default)]
        more: bool,
    },
    /// The subscription has ended.
    Closed {
        /// The subscription.
        subscription: u64,
        /// Why.
        why: String,
        /// What else is known: the `message` of a query that failed, the `incident` under which more is in the log.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        data: Option<Json>,
    },
    /// The connection's token has ended. Its subscriptions end too unless it authenticates in time.
    Expired {
        /// Milliseconds until then.
        closes_ms: u64,
    },
    /// How far this instance has followed its source.
    Current {
        /// The position, with its source. Only for operators and clients on an operator's address.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        position: Option<String>,
        /// How long ago the source was last known to be there, in milliseconds.
        behind_ms: u64,
    },
}
