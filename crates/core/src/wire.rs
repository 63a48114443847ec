//! Writes rows and deltas as the protocol's JSON: directly from values, and once for all subscribers. Everything
//! else about the protocol is in `gossip_protocol`.

use gossip_protocol::call::Send;
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{ColumnInfo, Shape};

use crate::engine::{Delta, ResyncReason};
use crate::feed::Change;
use crate::json::{write_columns, write_list, write_str};
use crate::plan::{EffectivePlan, VisibleRow};
use crate::position::{Position, Term, Timestamp};
use crate::schema::Key;
use crate::seal::{Cursor, Sealer};

/// The protocol's word for the reason of a snapshot.
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

/// The columns of a result, for the answer to `subscribe`.
pub fn columns(e: &EffectivePlan) -> Vec<ColumnInfo> {
    e.output().map(|c| ColumnInfo { name: c.name.into(), ty: c.ty.name().into(), key: c.key }).collect()
}

/// What a result is.
pub fn shape(e: &EffectivePlan) -> Shape {
    match () {
        () if e.is_ordered() => Shape::Ordered,
        () if e.is_keyed() => Shape::Keyed,
        () => Shape::Stream,
    }
}

fn write_key(out: &mut String, e: &EffectivePlan, key: &Key, sealer: &Sealer) {
    if !e.open_key() {
        return write_str(out, &sealer.opaque_key(&e.table().name, key));
    }
    write_list(out, key);
}

/// Rows of a result as a JSON array, from the start of `rows`, up to about `bytes` bytes or `most` rows; returns how many
/// were written. With `keys_only` they are the keys of the rows alone.
pub fn rows_json(
    e: &EffectivePlan,
    rows: &[(Key, VisibleRow)],
    bytes: usize,
    most: usize,
    keys_only: bool,
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
        if !keys_only {
            out.push_str(",\"row\":");
            write_columns(&mut out, e, e.shown(seen));
        }
        out.push('}');
        taken += 1;
    }
    out.push(']');
    (out, taken)
}

/// The cursor after a delta of this commit or moment, or after a result.
pub fn cursor(e: &EffectivePlan, term: Term, position: Position, at: Timestamp, sealer: &Sealer) -> String {
    sealer.seal(&Cursor {
        source: e.table().source.to_string(),
        epoch: term.epoch,
        timeline: term.timeline,
        commit: position.commit,
        index: position.index,
        query: e.fingerprint,
        moment: if e.changes_with_time { at } else { 0 },
    })
}

/// How a delta is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Wording {
    /// With the transaction's position, for operators.
    pub position: bool,
    /// What of a changed row is written.
    pub send: Send,
    /// Whether a row that was replaced or removed is written as it was, too.
    pub was: bool,
}

/// The part of a `delta` message that subscribers of a feed share: everything after the subscription's number, closing brackets
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
        write_str(&mut out, &format!("{}:{}", e.table().source, d.position));
    }
    if d.skipped > 0 {
        out.push_str(&format!(",\"skipped\":{}", d.skipped));
    }
    if d.more {
        out.push_str(",\"more\":true");
    }
    if wording.send == Send::Signal {
        out.push_str("}}");
        return out;
    }
    out.push_str(",\"changes\":[");
    // What is taken back is not sent as what was, either.
    let wording = Wording { was: wording.was && !d.revokes, ..wording };
    for (i, change) in d.changes.iter().enumerate() {
        out.push_str(if i > 0 { "," } else { "" });
        write_change(&mut out, e, change, wording, sealer);
    }
    out.push_str("]}}");
    out
}

fn write_change(out: &mut String, e: &EffectivePlan, change: &Change, wording: Wording, sealer: &Sealer) {
    out.push_str(match change {
        Change::Add { .. } => "{\"op\":\"add\",\"key\":",
        Change::Replace { .. } => "{\"op\":\"replace\",\"key\":",
        Change::Remove { .. } => "{\"op\":\"remove\",\"key\":",
    });
    write_key(out, e, change.key(), sealer);
    if let Change::Add { place: Some(place), .. } | Change::Replace { place: Some(place), .. } = change {
        out.push_str(&format!(",\"place\":{place}"));
    }
    if wording.send == Send::Keys {
        return out.push('}');
    }
    let only = match change {
        Change::Replace { changed, .. } if wording.send == Send::Changed => Some(changed),
        _ => None,
    };
    let mut columns = |name: &str, seen: &VisibleRow| {
        out.push_str(name);
        write_columns(out, e, e.shown(seen).filter(|(i, _)| only.is_none_or(|only| only.contains(*i))));
    };
    if let Some(row) = change.row() {
        columns(",\"row\":", row);
    }
    if let Some(was) = change.was().filter(|_| wording.was) {
        columns(",\"was\":", was);
    }
    if let Change::Replace { changed, .. } = change {
        out.push_str(",\"changed\":[");
        for (n, i) in changed.iter().enumerate() {
            out.push_str(if n > 0 { "," } else { "" });
            write_str(out, e.project.name(i, e.table()));
        }
        out.push(']');
    }
    out.push('}');
}
