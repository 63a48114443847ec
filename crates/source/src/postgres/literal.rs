//! Values as PostgreSQL reads them in a statement, and columns in the order that they have here.

use std::collections::HashSet;

use gossip_core::datetime::{self, DAY};
use gossip_core::query::function::Function;
use gossip_core::schema::Column;
use gossip_core::value::{Type, Value};

use super::connect::quote;
use crate::page::Dialect;
use crate::row_filter::pattern;

/// The dialect of a database.
pub struct Literals<'a> {
    /// Whether it has text in UTF-8, whose bytes are in the order of its characters.
    pub unicode: bool,
    /// The columns whose own order is that of their bytes, so that their own indexes serve.
    pub by_bytes: HashSet<&'a str>,
    /// The columns that `LIKE` knows: their texts are equal only if they are the same.
    pub plain_texts: HashSet<&'a str>,
}

fn quoted(text: &str) -> String {
    format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''"))
}

/// A date by its days from 2000-01-01: no year is too far to be written.
fn date(days: i32) -> String {
    match datetime::date_text(days) {
        text if text.ends_with("infinity") => format!("'{text}'::date"),
        _ => format!("('2000-01-01'::date + {days})"),
    }
}

fn timestamp(micros: i64) -> String {
    match datetime::timestamp_text(micros, false) {
        text if text.ends_with("infinity") => format!("'{text}'::timestamp"),
        _ => {
            let (days, rest) = (micros.div_euclid(DAY), micros.rem_euclid(DAY));
            format!("(('2000-01-01'::date + {days})::timestamp + '{rest} microseconds'::interval)")
        }
    }
}

impl Dialect for Literals<'_> {
    fn name(&self, column: &Column) -> String {
        quote(&column.name)
    }

    fn column(&self, column: &Column) -> Option<String> {
        let name = quote(&column.name);
        match column.ty {
            Type::Text if !self.unicode => None,
            Type::Text if !self.by_bytes.contains(&*column.name) => Some(format!("{name} COLLATE \"C\"")),
            _ => Some(name),
        }
    }

    fn value(&mut self, value: &Value, column: &Column) -> Option<String> {
        self.literal(value, column.ty)
    }

    fn compared(&self, value: &Value, column: &Column) -> Option<String> {
        match (value, column.ty) {
            // Its own type, so that an index of another size of integers serves.
            (Value::Int(i), ty) if ty.is_integer() => Some(i.to_string()),
            // A bound of single precision is not rounded to what the column can have.
            (Value::Float(_), Type::Float4) => self.literal(value, Type::Float8),
            _ => self.literal(value, column.ty),
        }
    }

    fn begins(&self, column: &Column, prefix: &str) -> Option<String> {
        let knows = self.plain_texts.contains(&*column.name) && self.can_say(prefix);
        knows.then(|| format!("{} LIKE {}", quote(&column.name), quoted(&pattern(prefix))))
    }
}

impl Literals<'_> {
    /// Whether a text can be part of a statement: the database has all of its characters.
    fn can_say(&self, text: &str) -> bool {
        !text.contains('\0') && (self.unicode || text.is_ascii())
    }

    fn literal(&self, value: &Value, ty: Type) -> Option<String> {
        match value {
            Value::Text(text) if !self.can_say(text) => None,
            _ => literal(value, ty),
        }
    }
}

fn literal(value: &Value, ty: Type) -> Option<String> {
    Some(match (value, ty) {
        (Value::Text(text), Type::Text) => quoted(text),
        (Value::Text(text), ty) => format!("{}::{}", quoted(text), ty.name()),
        (Value::Date(days), _) => date(*days),
        (Value::Timestamp(at), _) => timestamp(*at),
        // Whatever the session's zone is.
        (Value::Timestamptz(at), _) => format!("({} AT TIME ZONE 'UTC')", timestamp(*at)),
        (number, ty) => match Function::Cast(ty, Type::Text).value(std::slice::from_ref(number)) {
            Ok(Value::Text(text)) => format!("{}::{}", quoted(&text), ty.name()),
            _ => return None,
        },
    })
}
