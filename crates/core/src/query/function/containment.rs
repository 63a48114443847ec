//! `jsonb @> jsonb`: whether a document contains another one, as PostgreSQL has it.
//!
//! An object contains one with some of its keys, each with a value that is contained; a list contains one whose elements it
//! has, in any order and however often. A list contains a single value that is one of its elements, but only as a whole document.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};

use serde_json::Value as Json;
use serde_json::value::RawValue;

use crate::value::Value;

/// Most values in a document that is looked for: each that is a list or an object may be compared with all such of a row's.
pub const MAX_PARTS: usize = 64;

/// A document, with its parts as they were written.
enum Document<'a> {
    Object(BTreeMap<String, &'a RawValue>),
    List(Vec<&'a RawValue>),
    /// A text, a number or a truth value; `NULL` is `null`.
    Single(Value),
}

impl<'a> Document<'a> {
    /// Reads the outermost level. `None`: it is no JSON, or a number too long to be compared.
    fn read(json: &'a str) -> Option<Document<'a>> {
        let json = json.trim();
        Some(match (json.as_bytes().first()?, json) {
            (b'{', _) => Document::Object(serde_json::from_str(json).ok()?),
            (b'[', _) => Document::List(serde_json::from_str(json).ok()?),
            (b'"', _) => Document::Single(serde_json::from_str::<String>(json).ok()?.into()),
            (_, "null") => Document::Single(Value::Null),
            (_, "true") => Document::Single(Value::Bool(true)),
            (_, "false") => Document::Single(Value::Bool(false)),
            _ => Document::Single(Value::parse_number(json)?),
        })
    }

    /// Whether a part contains another one. `None`: one of them cannot be read.
    fn holds(&self, wanted: &Document<'_>) -> Option<bool> {
        match (self, wanted) {
            (Document::Object(own), Document::Object(wanted)) => {
                for (key, wanted) in wanted {
                    let Some(own) = own.get(key) else { return Some(false) };
                    if !Document::read(own.get())?.holds(&Document::read(wanted.get())?)? {
                        return Some(false);
                    }
                }
                Some(true)
            }
            (Document::List(own), Document::List(wanted)) => {
                let own = Elements::read(own)?;
                for wanted in wanted {
                    if !own.have(&Document::read(wanted.get())?)? {
                        return Some(false);
                    }
                }
                Some(true)
            }
            (Document::Single(own), Document::Single(wanted)) => Some(equal(own, wanted)),
            _ => Some(false),
        }
    }
}

fn equal(a: &Value, b: &Value) -> bool {
    a.is_null() && b.is_null() || a.sql_cmp(b) == Some(Ordering::Equal)
}

/// The elements of a list, of which single values are found at once.
struct Elements<'a> {
    singles: HashMap<Value, Vec<Value>>,
    others: Vec<Document<'a>>,
    has_null: bool,
}

impl<'a> Elements<'a> {
    fn read(parts: &[&'a RawValue]) -> Option<Elements<'a>> {
        let mut elements = Elements { singles: HashMap::new(), others: Vec::new(), has_null: false };
        for part in parts {
            match Document::read(part.get())? {
                Document::Single(Value::Null) => elements.has_null = true,
                Document::Single(value) => elements.singles.entry(value.probe()?).or_default().push(value),
                other => elements.others.push(other),
            }
        }
        Some(elements)
    }

    /// Whether one of them is this single value, or contains this list or object.
    fn have(&self, wanted: &Document<'_>) -> Option<bool> {
        if let Document::Single(value) = wanted {
            if value.is_null() {
                return Some(self.has_null);
            }
            return Some(
                self.singles.get(&value.probe()?).is_some_and(|similar| similar.iter().any(|own| equal(own, value))),
            );
        }
        for own in &self.others {
            if own.holds(wanted)? {
                return Some(true);
            }
        }
        Some(false)
    }
}

/// `own @> wanted`; `NULL` where one of them cannot be read.
pub fn contains(own: &str, wanted: &str) -> Value {
    let (Some(own), Some(wanted)) = (Document::read(own), Document::read(wanted)) else { return Value::Null };
    let found = match (&own, &wanted) {
        (Document::List(parts), Document::Single(_)) => Elements::read(parts).and_then(|own| own.have(&wanted)),
        (own, wanted) => own.holds(wanted),
    };
    found.map_or(Value::Null, Value::Bool)
}

/// How many values there are in a document, itself with them.
pub fn parts(document: &Json) -> usize {
    let (mut pending, mut count) = (vec![document], 0);
    while let Some(next) = pending.pop() {
        count += 1;
        match next {
            Json::Array(list) => pending.extend(list),
            Json::Object(object) => pending.extend(object.values()),
            _ => {}
        }
    }
    count
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn documents_contain_what_postgresql_says_they_do() {
        for (own, wanted, expected) in [
            (r#"{"a":1,"b":[1,2,{"c":3}]}"#, r#"{"b":[{"c":3.0},2,2]}"#, true),
            (r#"{"a":{"b":1,"c":2}}"#, r#"{"a":{}}"#, true),
            (r#"{"a":1}"#, r#"{"a":"1"}"#, false),
            (r#"{"a":null}"#, r#"{"a":null}"#, true),
            (r#"{"a":null}"#, r#"{"b":null}"#, false),
            (r#"["a","b"]"#, r#""b""#, true),
            (r#""b""#, r#"["b"]"#, false),
            (r#"[[1,2]]"#, "[1]", false),
            (r#"[[1,2]]"#, "[[2]]", true),
            (r#"{"a":[1]}"#, r#"{"a":1}"#, false),
            ("[]", "[]", true),
            ("{}", "[]", false),
            ("1", "[]", false),
            ("100", "1e2", true),
            ("12345678901234567890123", "12345678901234567890124", false),
            ("\"\u{e9}\"", r#""\u00e9""#, true),
        ] {
            assert_eq!(contains(own, wanted), Value::Bool(expected), "{own} @> {wanted}");
        }
        assert_eq!(contains("{\"a\":", "{}"), Value::Null);
        // However deep a row's document is, only as much of it is read as is asked for.
        let deep = "[".repeat(200_000) + &"]".repeat(200_000);
        assert_eq!(contains(&deep, "[[[1]]]"), Value::Bool(false));
        assert_eq!(parts(&serde_json::json!({"a": [1, {"b": null}], "c": {}})), 6);
    }
}
