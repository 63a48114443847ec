//! What a frame says, in few words.

use serde_json::Value as Json;

use crate::workbench::words::{counted, plain};

/// Entries of a delta that are named; the rest is counted.
const NAMED: usize = 3;

/// A frame in few words: its kind, and what it is about.
pub fn about(text: &str) -> (String, String) {
    let Ok(json) = serde_json::from_str::<Json>(text) else {
        // Long frames are cut where they are kept, so only their beginning is known.
        return (begins(text), String::new());
    };
    let params = &json["params"];
    match json["method"].as_str() {
        Some("delta") => ("delta".into(), changes(params)),
        Some(kind @ ("snapshot" | "rows")) => (kind.into(), rows(params)),
        Some("current") => match params["behind_ms"].as_u64() {
            Some(0) | None => ("current".into(), String::new()),
            Some(ms) => ("current".into(), format!("behind by {ms} ms")),
        },
        Some(kind @ "subscribe") => (kind.into(), query(params)),
        Some(kind @ "publish") => (kind.into(), plain(&params["topic"])),
        Some(kind @ ("join" | "leave")) => (kind.into(), plain(&params["place"])),
        Some(kind @ ("unsubscribe" | "closed")) => (kind.into(), [number(params), why(params)].concat()),
        Some(kind) => (kind.into(), why(params)),
        None if !json["error"].is_null() => ("refused".into(), plain(&json["error"]["message"])),
        None if !json["result"]["columns"].is_null() => ("answer".into(), rows(&json["result"])),
        None => ("answer".into(), format!("to call {}", plain(&json["id"]))),
    }
}

/// Whether it only says that the connection is alive and current.
pub fn is_beat(text: &str) -> bool {
    text.contains("\"method\":\"current\"")
}

/// The kind of a frame of which only the beginning is there.
fn begins(text: &str) -> String {
    let kind = text.split_once("\"method\":\"").and_then(|(_, rest)| rest.split('"').next());
    match kind {
        Some(kind) => format!("{kind}, cut"),
        None if text.contains("\"result\"") => "answer, cut".into(),
        None => "not JSON".into(),
    }
}

fn number(params: &Json) -> String {
    params["subscription"].as_u64().map_or(String::new(), |n| format!("subscription {n}"))
}

fn why(params: &Json) -> String {
    params["why"].as_str().map_or(String::new(), |why| format!(" ({why})"))
}

fn query(params: &Json) -> String {
    let named = |name: &str| params[name].as_str().map(String::from);
    named("query").or_else(|| named("name")).unwrap_or_else(|| "a grant".into())
}

fn rows(params: &Json) -> String {
    let n = params["rows"].as_array().map_or(0, Vec::len);
    let more = if params["more"] == true { ", more follow" } else { "" };
    format!("{}: {}{more}{}", number(params), counted(n, "row", "rows"), why(params))
}

/// What a delta does to which rows.
fn changes(params: &Json) -> String {
    let all = params["changes"].as_array().map(Vec::as_slice).unwrap_or_default();
    if all.is_empty() {
        return format!("{}: it has changed", number(params));
    }
    let one = |change: &Json| {
        let key = match &change["key"] {
            Json::Array(values) if values.is_empty() => String::new(),
            Json::Array(values) => format!(" {}", values.iter().map(plain).collect::<Vec<_>>().join(" ")),
            Json::String(_) => " (a hidden key)".into(),
            _ => String::new(),
        };
        let changed = change["changed"].as_array().map(|names| names.iter().map(plain).collect::<Vec<_>>().join(", "));
        let changed = changed.filter(|names| !names.is_empty()).map_or(String::new(), |names| format!(": {names}"));
        let place = change["place"].as_u64().map_or(String::new(), |place| format!(" at {place}"));
        format!("{}{key}{place}{changed}", plain(&change["op"]))
    };
    let named: Vec<String> = all.iter().take(NAMED).map(one).collect();
    let more = all.len().saturating_sub(NAMED);
    let more = if more > 0 { format!("; {more} more") } else { String::new() };
    format!("{}{more}", named.join("; "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_say_what_they_did() {
        let delta = r#"{"method":"delta","params":{"subscription":2,"changes":[
            {"op":"replace","key":[13],"row":{"id":13,"status":"inbound"},"changed":["status"]},
            {"op":"add","key":["a","b"],"row":{},"place":0},{"op":"remove","key":"k1"},{"op":"remove","key":[5]}]}}"#;
        for (text, kind, what) in [
            (delta, "delta", "replace 13: status; add a b at 0; remove (a hidden key); 1 more"),
            (r#"{"method":"delta","params":{"subscription":2}}"#, "delta", "subscription 2: it has changed"),
            (r#"{"method":"current","params":{"behind_ms":900}}"#, "current", "behind by 900 ms"),
            (r#"{"id":1,"method":"subscribe","params":{"query":"SELECT 1"}}"#, "subscribe", "SELECT 1"),
            (
                r#"{"id":1,"result":{"subscription":1,"columns":[],"rows":[1],"more":true}}"#,
                "answer",
                "subscription 1: 1 row, more follow",
            ),
            (
                r#"{"method":"snapshot","params":{"subscription":1,"rows":[],"why":"gap"}}"#,
                "snapshot",
                "subscription 1: 0 rows (gap)",
            ),
            (r#"{"id":4,"error":{"code":-32002,"message":"no such table"}}"#, "refused", "no such table"),
            (r#"{"id":4,"result":{}}"#, "answer", "to call 4"),
            (
                r#"{"method":"closed","params":{"subscription":3,"why":"expired"}}"#,
                "closed",
                "subscription 3 (expired)",
            ),
            (r#"{"method":"delta","params":{"chan…"#, "delta, cut", ""),
            ("nonsense", "not JSON", ""),
        ] {
            assert_eq!(about(text), (kind.to_string(), what.to_string()));
        }
    }
}
