//! Values and rows as JSON, directly and not by way of a tree.

use crate::plan::{EffectivePlan, VisibleRow};
use crate::value::Value;

/// A text as JSON.
pub(crate) fn write_str(out: &mut String, s: &str) {
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

/// Values of a result's columns, by their places, as a JSON object.
pub(crate) fn write_columns<'a>(out: &mut String, e: &EffectivePlan, values: impl Iterator<Item = (usize, &'a Value)>) {
    out.push('{');
    for (n, (i, v)) in values.enumerate() {
        out.push_str(if n > 0 { "," } else { "" });
        write_str(out, e.project.name(i, e.table()));
        out.push(':');
        write_value(out, v);
    }
    out.push('}');
}

/// The visible columns of a row as a JSON object.
pub(crate) fn row_json(e: &EffectivePlan, seen: &VisibleRow) -> String {
    let mut out = String::new();
    write_columns(&mut out, e, e.shown(seen));
    out
}

/// The values of a key as a JSON array.
pub(crate) fn key_json(values: &[Value]) -> String {
    let mut out = String::new();
    write_list(&mut out, values);
    out
}

/// Values as a JSON array.
pub(crate) fn write_list(out: &mut String, values: &[Value]) {
    out.push('[');
    for (i, v) in values.iter().enumerate() {
        out.push_str(if i > 0 { "," } else { "" });
        write_value(out, v);
    }
    out.push(']');
}
