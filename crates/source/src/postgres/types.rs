//! PostgreSQL's types as the core knows them, and their texts as values.
//!
//! Snapshots and the stream both bring the text that a type's output function writes, under the same session settings
//! ([`PINNED`](super::connect::PINNED)), and both are read here: so a value is the same whichever way it came.

use std::str::FromStr;
use std::sync::Arc;

use bigdecimal::BigDecimal;
use gossip_core::canonical::{Canonical, Encoder};
use gossip_core::datetime;
use gossip_core::value::{Type, Value};

/// How deeply JSON may be nested to be sent as JSON; what is nested more deeply is sent as a text.
const MAX_DEPTH: usize = 100;

/// How a column's text is read.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Reading {
    /// As one value of this type.
    One(Type),
    /// As an array of such values, with this delimiter.
    Array(Box<Reading>, char),
}

impl Canonical for Reading {
    fn encode(&self, to: &mut Encoder) {
        match self {
            Reading::One(ty) => {
                to.tag(0);
                ty.encode(to);
            }
            Reading::Array(element, delimiter) => {
                to.tag(1);
                to.number(u32::from(*delimiter).into());
                element.encode(to);
            }
        }
    }
}

impl Reading {
    /// How to read a built-in type, by its name in `pg_catalog` with domains already resolved.
    pub fn of_builtin(name: &str) -> Reading {
        Reading::One(match name {
            "bool" => Type::Bool,
            "int2" => Type::Int2,
            "int4" => Type::Int4,
            // An oid is as wide as an int4 without its sign.
            "int8" | "oid" => Type::Int8,
            "float4" => Type::Float4,
            "float8" => Type::Float8,
            "numeric" => Type::Numeric,
            "text" | "varchar" | "name" => Type::Text,
            "bpchar" => Type::Bpchar,
            "bytea" => Type::Bytea,
            "uuid" => Type::Uuid,
            "date" => Type::Date,
            "time" => Type::Time,
            "timestamp" => Type::Timestamp,
            "timestamptz" => Type::Timestamptz,
            "json" => Type::Json,
            "jsonb" => Type::Jsonb,
            _ => Type::Other,
        })
    }

    /// The column's type for queries.
    pub fn ty(&self) -> Type {
        match self {
            Reading::One(ty) => *ty,
            Reading::Array(element, _) => Type::array(element.ty()),
        }
    }

    /// Reads a value. What cannot be read stays the text it is: it compares to nothing.
    pub fn value(&self, text: &str) -> Value {
        match self {
            Reading::One(ty) => one(text, *ty).unwrap_or_else(|| Value::text(text)),
            Reading::Array(element, delimiter) => match array(text, element, *delimiter) {
                Some(json) => Value::Json(json.into()),
                None => Value::text(text),
            },
        }
    }
}

fn one(text: &str, ty: Type) -> Option<Value> {
    Some(match ty {
        Type::Bool => Value::Bool(text == "t"),
        Type::Int2 | Type::Int4 | Type::Int8 => Value::Int(text.parse().ok()?),
        Type::Float8 => Value::Float(text.parse().ok()?),
        Type::Float4 => Value::Float4(text.parse().ok()?),
        Type::Numeric => match text {
            // Decimals have none of these; as doubles they compare the same way.
            "NaN" => Value::Float(f64::NAN),
            "Infinity" => Value::Float(f64::INFINITY),
            "-Infinity" => Value::Float(f64::NEG_INFINITY),
            digits => Value::Numeric(Arc::new(BigDecimal::from_str(digits).ok()?)),
        },
        Type::Date => Value::Date(datetime::parse_date(text)?),
        Type::Time => Value::Time(datetime::parse_time(text)?),
        Type::Timestamp => Value::Timestamp(datetime::parse_timestamp(text, false)?),
        Type::Timestamptz => Value::Timestamptz(datetime::parse_timestamp(text, true)?),
        Type::Json | Type::Jsonb if depth(text) <= MAX_DEPTH => Value::Json(text.into()),
        Type::Bytea | Type::Bpchar => Value::from_text(text, ty)?,
        Type::Json | Type::Jsonb | Type::Array(_) => Value::text(text),
        Type::Uuid | Type::Text | Type::Enum | Type::Other | Type::Any => Value::text(text),
    })
}

/// How deeply the brackets of a JSON text are nested.
fn depth(json: &str) -> usize {
    let (mut now, mut most, mut quoted, mut escaped) = (0usize, 0, false, false);
    for b in json.bytes() {
        match b {
            _ if escaped => escaped = false,
            b'\\' if quoted => escaped = true,
            b'"' => quoted = !quoted,
            b'[' | b'{' if !quoted => {
                now += 1;
                most = most.max(now);
            }
            b']' | b'}' if !quoted => now = now.saturating_sub(1),
            _ => {}
        }
    }
    most
}

/// An array's text as JSON; `None` if it is not one.
fn array(text: &str, element: &Reading, delimiter: char) -> Option<String> {
    // Lower bounds other than 1 are written before the braces; JSON has nothing for them.
    let braces = if text.starts_with('[') { &text[text.find('=')? + 1..] } else { text };
    let mut parser = ArrayText { rest: braces, element, delimiter, out: String::with_capacity(text.len() + 8) };
    parser.array(0)?;
    parser.rest.is_empty().then_some(parser.out)
}

struct ArrayText<'a> {
    rest: &'a str,
    element: &'a Reading,
    delimiter: char,
    out: String,
}

impl ArrayText<'_> {
    fn take(&mut self, c: char) -> bool {
        match self.rest.strip_prefix(c) {
            Some(rest) => {
                self.rest = rest;
                true
            }
            None => false,
        }
    }

    fn array(&mut self, depth: usize) -> Option<()> {
        // PostgreSQL allows six dimensions.
        if depth > 16 || !self.take('{') {
            return None;
        }
        self.out.push('[');
        if !self.take('}') {
            loop {
                if self.rest.starts_with('{') {
                    self.array(depth + 1)?
                } else {
                    self.item()?
                }
                if self.take('}') {
                    break;
                }
                if !self.take(self.delimiter) {
                    return None;
                }
                self.out.push(',');
            }
        }
        self.out.push(']');
        Some(())
    }

    fn item(&mut self) -> Option<()> {
        if self.take('"') {
            let mut text = String::new();
            let mut chars = self.rest.char_indices();
            loop {
                match chars.next()? {
                    (i, '"') => {
                        self.rest = &self.rest[i + 1..];
                        break;
                    }
                    (_, '\\') => text.push(chars.next()?.1),
                    (_, c) => text.push(c),
                }
            }
            self.write(&text);
        } else {
            let end = self.rest.find([self.delimiter, '}'])?;
            let (text, rest) = self.rest.split_at(end);
            self.rest = rest;
            if text == "NULL" { self.out.push_str("null") } else { self.write(text) }
        }
        Some(())
    }

    fn write(&mut self, text: &str) {
        match self.element.value(text) {
            Value::Json(json) => self.out.push_str(&json),
            other => self.out.push_str(&other.to_json().to_string()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arrays_become_json_of_their_elements() {
        let ints = Reading::Array(Box::new(Reading::One(Type::Int8)), ',');
        let texts = Reading::Array(Box::new(Reading::One(Type::Text)), ',');
        let json = |r: &Reading, s: &str| match r.value(s) {
            Value::Json(j) => j.to_string(),
            other => format!("{other}"),
        };
        assert_eq!(json(&ints, "{1,NULL,3}"), "[1,null,3]");
        assert_eq!(json(&ints, "{{1,2},{3,9007199254740993}}"), "[[1,2],[3,\"9007199254740993\"]]");
        assert_eq!(json(&ints, "[2:3]={1,2}"), "[1,2]");
        assert_eq!(json(&ints, "{}"), "[]");
        assert_eq!(json(&texts, r#"{a,"b,c","d\"e\\","NULL",NULL,"{}"}"#), r#"["a","b,c","d\"e\\","NULL",null,"{}"]"#);
        assert_eq!(json(&texts, "{a"), "'{a'", "what cannot be read stays as it is");
    }

    #[test]
    fn very_deep_json_is_a_text() {
        let deep = "[".repeat(MAX_DEPTH + 1) + &"]".repeat(MAX_DEPTH + 1);
        assert!(matches!(Reading::One(Type::Json).value(&deep), Value::Text(_)));
        assert!(matches!(Reading::One(Type::Json).value(r#"{"a":"[[[\"[["}"#), Value::Json(_)));
    }
}
