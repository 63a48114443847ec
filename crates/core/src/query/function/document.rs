//! Parts of json, and elements of arrays.
//!
//! Json is taken apart without being changed: what is found is as it was written.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};

use serde_json::Value as Json;
use serde_json::value::RawValue;

use crate::value::{Type, Value};

/// A part of json, as json or as text: of a text what it says, of `null` nothing.
fn found(part: Option<&str>, as_text: bool) -> Value {
    match part.map(str::trim) {
        None => Value::Null,
        Some(part) if !as_text => Value::Json(part.into()),
        Some("null") => Value::Null,
        Some(part) if part.starts_with('"') => serde_json::from_str::<String>(part).map_or(Value::Null, Value::from),
        Some(part) => Value::from(part),
    }
}

fn key<'a>(json: &'a str, key: &str) -> Option<&'a str> {
    // Of several equal keys the last one counts.
    let mut parts: BTreeMap<String, &'a RawValue> = serde_json::from_str(json).ok()?;
    parts.remove(key).map(RawValue::get)
}

fn place(json: &str, place: i64) -> Option<&str> {
    let parts: Vec<&RawValue> = serde_json::from_str(json).ok()?;
    let from_end = |n: i64| i64::try_from(parts.len()).ok()?.checked_add(n);
    let at = if place < 0 { from_end(place)? } else { place };
    parts.get(usize::try_from(at).ok()?).map(|part| part.get())
}

/// `json -> key` or `json ->> key`.
pub fn of_key(json: &str, name: &str, as_text: bool) -> Value {
    found(key(json, name), as_text)
}

/// `json -> place` or `json ->> place`: from 0, or from the end where it is negative.
pub fn at_place(of: Type, json: &str, at: i64, as_text: bool) -> Value {
    // PostgreSQL takes a jsonb that is neither an object nor a list for a list of itself.
    let is_single = of == Type::Jsonb && !json.trim_start().starts_with(['{', '[']);
    found(if is_single && matches!(at, 0 | -1) { Some(json) } else { place(json, at) }, as_text)
}

/// `json #> path` or `json #>> path`; the path is a list of texts.
pub fn along(json: &str, path: &str, as_text: bool) -> Value {
    let Ok(path) = serde_json::from_str::<Vec<String>>(path) else { return Value::Null };
    let mut part = Some(json);
    for step in &path {
        part = part.map(str::trim).and_then(|json| match json.as_bytes().first() {
            Some(b'{') => key(json, step),
            // PostgreSQL takes what it reads as an int4.
            Some(b'[') => place(json, step.trim().parse::<i32>().ok()?.into()),
            _ => None,
        });
    }
    found(part, as_text)
}

/// The elements of an array, of all of its dimensions; `None` where it is no array of such.
pub(crate) fn elements(ty: Type, array: &Value) -> Option<Vec<Value>> {
    let Value::Json(text) = array else { return None };
    let mut elements = Vec::new();
    let mut pending: Vec<Json> = match serde_json::from_str(text) {
        Ok(Json::Array(list)) => list,
        _ => return None,
    };
    while let Some(next) = pending.pop() {
        match next {
            Json::Array(list) => pending.extend(list),
            element => elements.push(Value::from_json(&element, ty).ok()?),
        }
    }
    Some(elements)
}

/// The elements of an array by their probes, so that equal ones are found.
fn by_probe(elements: Vec<Value>) -> HashMap<Value, Vec<Value>> {
    let mut found: HashMap<Value, Vec<Value>> = HashMap::new();
    for element in elements {
        if let Some(probe) = element.probe() {
            found.entry(probe).or_default().push(element);
        }
    }
    found
}

/// Whether an element is among others. `NULL` is not.
fn is_among(element: &Value, others: &HashMap<Value, Vec<Value>>) -> bool {
    let similar = element.probe().and_then(|probe| others.get(&probe));
    similar.is_some_and(|others| others.iter().any(|other| other.sql_cmp(element) == Some(Ordering::Equal)))
}

/// `value = ANY (array)`: unknown if it is not found and may be what is not known.
pub fn is_element(ty: Type, value: &Value, array: &Value) -> Value {
    let Some(elements) = elements(ty, array) else { return Value::Null };
    match () {
        () if elements.iter().any(|e| e.sql_cmp(value) == Some(Ordering::Equal)) => Value::Bool(true),
        () if elements.is_empty() || !value.is_null() && !elements.iter().any(Value::is_null) => Value::Bool(false),
        () => Value::Null,
    }
}

/// `a @> b`: whether every element of `b` is one of `a`. `NULL` is none.
pub fn contains(ty: Type, a: &Value, b: &Value) -> Value {
    let (Some(a), Some(b)) = (elements(ty, a), elements(ty, b)) else { return Value::Null };
    let a = by_probe(a);
    Value::Bool(b.iter().all(|wanted| is_among(wanted, &a)))
}

/// `a && b`: whether they have an element in common.
pub fn overlaps(ty: Type, a: &Value, b: &Value) -> Value {
    let (Some(a), Some(b)) = (elements(ty, a), elements(ty, b)) else { return Value::Null };
    let a = by_probe(a);
    Value::Bool(b.iter().any(|wanted| is_among(wanted, &a)))
}

/// A path as PostgreSQL writes it, `{a,"b c",0}`, as a list in JSON; `None` if it is not one.
pub fn path(text: &str) -> Option<String> {
    let steps: Option<Vec<String>> = texts(text)?.into_iter().collect();
    serde_json::to_string(&steps?).ok()
}

/// The elements of a one-dimensional array in quotes, `'{1,2,NULL}'`, with elements of this type; `None` if it is not one.
pub fn array_literal(text: &str, ty: Type) -> Option<Vec<Value>> {
    let value = |text: Option<String>| text.map_or(Some(Value::Null), |text| Value::from_text(&text, ty));
    texts(text)?.into_iter().map(value).collect()
}

/// The texts of a one-dimensional array as PostgreSQL writes it, `{a,"b c",NULL}`; `None` if it is not one.
fn texts(text: &str) -> Option<Vec<Option<String>>> {
    let inner = text.trim().strip_prefix('{')?.strip_suffix('}')?;
    let mut texts = Vec::new();
    let mut rest = inner.trim();
    while !rest.is_empty() {
        let (text, after) = match rest.strip_prefix('"') {
            Some(quoted) => quoted_text(quoted).map(|(text, after)| (Some(text), after))?,
            None => {
                let end = rest.find(',').unwrap_or(rest.len());
                let text = rest[..end].trim();
                if text.is_empty() || text.contains(['{', '}', '"', '\\']) {
                    return None;
                }
                (Some(text.to_string()).filter(|text| !text.eq_ignore_ascii_case("null")), &rest[end..])
            }
        };
        texts.push(text);
        rest = match after.trim_start() {
            "" => "",
            more => more.strip_prefix(',').map(str::trim_start).filter(|more| !more.is_empty())?,
        };
    }
    Some(texts)
}

/// A text up to its closing quote, and what follows.
fn quoted_text(text: &str) -> Option<(String, &str)> {
    let mut step = String::new();
    let mut chars = text.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Some((step, &text[at + 1..])),
            '\\' => step.push(chars.next()?.1),
            c => step.push(c),
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_read_as_postgresql_reads_them() {
        for (text, expected) in [
            ("{a,b}", Some(r#"["a","b"]"#)),
            (" { a , 0 } ", Some(r#"["a","0"]"#)),
            (r#"{"a,b","c\"d"}"#, Some(r#"["a,b","c\"d"]"#)),
            ("{}", Some("[]")),
            ("{a,}", None),
            ("{a,,b}", None),
            ("{null}", None),
            ("a", None),
            ("{{a}}", None),
            (r#"{"a}"#, None),
        ] {
            assert_eq!(path(text).as_deref(), expected, "{text}");
        }
    }
}
