//! The protocol's messages, both directions: JSON-RPC 2.0 in text.
//!
//! What leaves an instance in numbers (deltas, rows) is written straight into text, once per feed; what is rare goes
//! through `serde_json`. `docs/protocol.md` is the text for users.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

use crate::datetime::{DAY, SINCE_1970, date_text};
use crate::engine::{Delta, ResyncReason};
use crate::feed::Change;
use crate::position::{Micros, Position, Term};
use crate::rule::{EffectiveQuery, VisibleRow};
use crate::schema::Key;
use crate::seal::{Cursor, Sealer};
use crate::value::Value;

/// The WebSocket subprotocol.
pub const SUBPROTOCOL: &str = "gossip.v1";

/// JSON-RPC error codes of the protocol.
pub mod code {
    /// The text is not JSON.
    pub const PARSE: i64 = -32700;
    /// Not a JSON-RPC 2.0 request.
    pub const INVALID_REQUEST: i64 = -32600;
    /// No such call.
    pub const NO_SUCH_CALL: i64 = -32601;
    /// The parameters do not fit the call.
    pub const INVALID_PARAMS: i64 = -32602;
    /// Something is wrong inside the instance.
    pub const INTERNAL: i64 = -32603;
    /// Not authenticated, or the token was refused.
    pub const NOT_AUTHENTICATED: i64 = -32001;
    /// Not known or not permitted; never told apart.
    pub const NOT_KNOWN: i64 = -32002;
    /// The query is not valid.
    pub const QUERY: i64 = -32003;
    /// No stored query, topic or subscription of that name.
    pub const UNKNOWN_NAME: i64 = -32004;
    /// A limit is reached.
    pub const LIMIT: i64 = -32005;
    /// Not available now.
    pub const UNAVAILABLE: i64 = -32006;
}

/// An error answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RpcError {
    /// One of [`code`].
    pub code: i64,
    /// What, where and what to do.
    pub message: String,
    /// More, for programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Json>,
}

impl RpcError {
    /// An error without further data.
    pub fn new(code: i64, message: impl Into<String>) -> RpcError {
        RpcError { code, message: message.into(), data: None }
    }

    /// Adds data for programs.
    pub fn with(mut self, data: Json) -> RpcError {
        self.data = Some(data);
        self
    }
}

impl std::fmt::Display for RpcError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({})", self.message, self.code)
    }
}

impl std::error::Error for RpcError {}

/// One row of a result.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RowEntry {
    /// Array of key values, or one opaque string.
    pub key: Json,
    /// Visible selected columns.
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
        /// Its columns.
        row: Map<String, Json>,
    },
    /// The row changed.
    Replace {
        /// Its key.
        key: Json,
        /// Its columns; what is absent is unchanged.
        row: Map<String, Json>,
        /// The columns that changed.
        changed: Vec<String>,
    },
    /// The row is no longer in the result.
    Remove {
        /// Its key.
        key: Json,
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

/// The answer to `subscribe`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Subscribed {
    /// The subscription's number within the connection.
    pub subscription: u64,
    /// The columns of the result.
    pub columns: Vec<ColumnInfo>,
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

/// What an instance tells a client unasked.
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
        /// The changes.
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
    },
    /// The connection's token has ended. Its subscriptions end too unless it authenticates in time.
    Expired {
        /// Milliseconds until then.
        closes_ms: u64,
    },
    /// How far this instance has followed its source.
    Current {
        /// The position, with its source. Operators and those beside them alone are told.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        position: Option<String>,
        /// How long ago the source was last known to be there, in milliseconds.
        behind_ms: u64,
    },
}

/// The protocol's word for the reason of a whole result.
pub fn why_word(why: ResyncReason) -> &'static str {
    match why {
        ResyncReason::First => "first",
        ResyncReason::Gap => "gap",
        ResyncReason::SchemaChanged => "schema-changed",
        ResyncReason::Truncated => "truncated",
        ResyncReason::RightsChanged => "rights-changed",
        ResyncReason::CaughtUp => "caught-up",
        ResyncReason::ResumedTooLate => "resumed-too-late",
    }
}

/// A time as RFC 3339 in UTC with microseconds; the nearest one with a year from 1970 to 9999.
pub fn rfc3339(at: Micros) -> String {
    // The last microsecond of 9999.
    let at = at.clamp(0, 253_402_300_799_999_999).saturating_sub(SINCE_1970);
    let (days, micros) = (at.div_euclid(DAY), at.rem_euclid(DAY));
    let (seconds, fraction) = (micros / 1_000_000, micros % 1_000_000);
    let (hour, minute, second) = (seconds / 3_600, seconds / 60 % 60, seconds % 60);
    format!("{}T{hour:02}:{minute:02}:{second:02}.{fraction:06}Z", date_text(days as i32))
}

/// The columns of a result, for the answer to `subscribe`.
pub fn columns(e: &EffectiveQuery) -> Vec<ColumnInfo> {
    let info = |&i: &usize| {
        let c = &e.table.columns[i];
        ColumnInfo { name: c.name.to_string(), ty: c.ty.name().into(), key: e.table.key.contains(&i) }
    };
    e.select.iter().map(info).collect()
}

fn write_str(out: &mut String, s: &str) {
    // Writing a string as JSON cannot fail.
    out.push_str(&serde_json::to_string(s).unwrap_or_default());
}

fn write_value(out: &mut String, v: &Value) {
    use std::fmt::Write;
    match v {
        Value::Null => out.push_str("null"),
        Value::Bool(b) => out.push_str(if *b { "true" } else { "false" }),
        Value::Text(s) => write_str(out, s),
        Value::Int(i) if i.unsigned_abs() < 1 << 53 => drop(write!(out, "{i}")),
        Value::Json(text) => out.push_str(text),
        other => out.push_str(&other.to_json().to_string()),
    }
}

fn write_key(out: &mut String, e: &EffectiveQuery, key: &Key, sealer: &Sealer) {
    if !e.open_key {
        return write_str(out, &sealer.opaque_key(&e.table.name, key));
    }
    out.push('[');
    for (i, v) in key.iter().enumerate() {
        out.push_str(if i > 0 { "," } else { "" });
        write_value(out, v);
    }
    out.push(']');
}

fn write_columns<'a>(out: &mut String, e: &EffectiveQuery, values: impl Iterator<Item = (usize, &'a Value)>) {
    out.push('{');
    for (n, (i, v)) in values.enumerate() {
        out.push_str(if n > 0 { "," } else { "" });
        write_str(out, &e.table.columns[i].name);
        out.push(':');
        write_value(out, v);
    }
    out.push('}');
}

/// Rows of a result as a JSON array, from the start of `rows`, until about `bytes` bytes or `most` rows; says how many
/// were taken.
pub fn rows_json(
    e: &EffectiveQuery,
    rows: &[(Key, VisibleRow)],
    bytes: usize,
    most: usize,
    sealer: &Sealer,
) -> (String, usize) {
    let mut out = String::from("[");
    let mut taken = 0;
    for (key, seen) in rows {
        if taken > 0 {
            if out.len() >= bytes || taken >= most {
                break;
            }
            out.push(',');
        }
        out.push_str("{\"key\":");
        write_key(&mut out, e, key, sealer);
        out.push_str(",\"row\":");
        write_columns(&mut out, e, e.shown(seen));
        out.push('}');
        taken += 1;
    }
    out.push(']');
    (out, taken)
}

/// The cursor after a delta or a result.
pub fn cursor(e: &EffectiveQuery, term: Term, position: Position, sealer: &Sealer) -> String {
    sealer.seal(&Cursor {
        source: e.table.source.to_string(),
        epoch: term.epoch,
        timeline: term.timeline,
        commit: position.commit,
        index: position.index,
        query: e.fingerprint,
    })
}

/// How a delta is put into words; the same for all who want it the same way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Wording {
    /// With the transaction's position, for operators.
    pub position: bool,
    /// Of a replaced row only the columns that changed.
    pub only_changed: bool,
}

/// What subscribers of a feed share of a `delta` message: everything after the subscription's number, closing brackets
/// included.
pub fn delta_body(d: &Delta, cursor: &str, wording: Wording, sealer: &Sealer) -> String {
    let e = &d.feed;
    let mut out = String::with_capacity(192 + d.changes.len() * 96);
    out.push_str(",\"cursor\":");
    write_str(&mut out, cursor);
    out.push_str(",\"at\":\"");
    out.push_str(&rfc3339(d.at));
    out.push('"');
    if wording.position {
        out.push_str(",\"position\":");
        write_str(&mut out, &format!("{}:{}", e.table.source, d.position));
    }
    if d.skipped > 0 {
        out.push_str(&format!(",\"skipped\":{}", d.skipped));
    }
    if d.more {
        out.push_str(",\"more\":true");
    }
    out.push_str(",\"changes\":[");
    for (i, change) in d.changes.iter().enumerate() {
        out.push_str(if i > 0 { "," } else { "" });
        out.push_str(match change {
            Change::Add { .. } => "{\"op\":\"add\",\"key\":",
            Change::Replace { .. } => "{\"op\":\"replace\",\"key\":",
            Change::Remove { .. } => "{\"op\":\"remove\",\"key\":",
        });
        write_key(&mut out, e, change.key(), sealer);
        match change {
            Change::Replace { row, changed, .. } if wording.only_changed => {
                out.push_str(",\"row\":");
                write_columns(&mut out, e, e.shown(row).filter(|(i, _)| changed.contains(i)));
            }
            Change::Add { row, .. } | Change::Replace { row, .. } => {
                out.push_str(",\"row\":");
                write_columns(&mut out, e, e.shown(row));
            }
            Change::Remove { .. } => {}
        }
        if let Change::Replace { changed, .. } = change {
            out.push_str(",\"changed\":[");
            for (n, i) in changed.iter().enumerate() {
                out.push_str(if n > 0 { "," } else { "" });
                write_str(&mut out, &e.table.columns[*i].name);
            }
            out.push(']');
        }
        out.push('}');
    }
    out.push_str("]}}");
    out
}

/// What stands before a delta's body.
pub fn delta_head(subscription: u64) -> String {
    format!("{{\"jsonrpc\":\"2.0\",\"method\":\"delta\",\"params\":{{\"subscription\":{subscription}")
}

/// An answer with a result.
pub fn reply(id: &Json, result: Json) -> String {
    json!({"jsonrpc": "2.0", "id": id, "result": result}).to_string()
}

/// An answer with an error.
pub fn refuse(id: &Json, error: &RpcError) -> String {
    json!({"jsonrpc": "2.0", "id": id, "error": error}).to_string()
}

/// A notification.
pub fn notify(method: &str, params: Json) -> String {
    json!({"jsonrpc": "2.0", "method": method, "params": params}).to_string()
}

#[cfg(test)]
mod tests {
    use super::rfc3339;

    #[test]
    fn times_are_rfc_3339() {
        for (at, text) in [
            (0, "1970-01-01T00:00:00.000000Z"),
            (951_868_799_999_999, "2000-02-29T23:59:59.999999Z"),
            (1_700_000_000_123_456, "2023-11-14T22:13:20.123456Z"),
            (i64::MAX, "9999-12-31T23:59:59.999999Z"),
            (i64::MIN, "1970-01-01T00:00:00.000000Z"),
        ] {
            assert_eq!(rfc3339(at), text);
        }
    }
}
