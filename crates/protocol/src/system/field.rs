//! What a column of a system table can hold.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

/// The largest integer that every reader of JSON takes exactly; larger ones are texts (I-JSON, RFC 7493).
pub const JSON_SAFE: i64 = (1 << 53) - 1;

/// The type of a column, by PostgreSQL's names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ColumnType {
    /// `bool`.
    Bool,
    /// `int8`.
    Int8,
    /// `float8`.
    Float8,
    /// `text`.
    Text,
    /// `json`.
    Json,
    /// `timestamptz`.
    Timestamptz,
}

/// A value in a column.
#[derive(Clone, Debug, PartialEq)]
pub enum Cell {
    /// NULL.
    Null,
    /// A `bool`.
    Bool(bool),
    /// An `int8`.
    Int(i64),
    /// A `float8`.
    Float(f64),
    /// A `text`.
    Text(String),
    /// A `json`, as text.
    Json(String),
    /// A `timestamptz`, RFC 3339.
    Timestamp(String),
}

impl Cell {
    /// As the protocol has it.
    pub fn into_json(self) -> Json {
        match self {
            Cell::Null => Json::Null,
            Cell::Bool(b) => b.into(),
            Cell::Int(i) if i.unsigned_abs() <= JSON_SAFE.unsigned_abs() => i.into(),
            Cell::Int(i) => i.to_string().into(),
            Cell::Float(f) => f.into(),
            Cell::Text(text) | Cell::Timestamp(text) => text.into(),
            // It was written by the same program.
            Cell::Json(text) => serde_json::from_str(&text).unwrap_or_default(),
        }
    }
}

/// A type that stands for a column's values.
pub trait Field: Sized {
    /// The column's type.
    const TYPE: ColumnType;

    /// As an instance keeps it.
    fn cell(self) -> Cell;

    /// As a client reads it; `None` if it does not fit.
    fn read(json: &Json) -> Option<Self>;
}

impl Field for bool {
    const TYPE: ColumnType = ColumnType::Bool;

    fn cell(self) -> Cell {
        Cell::Bool(self)
    }

    fn read(json: &Json) -> Option<bool> {
        json.as_bool()
    }
}

/// Beyond 2^53 they are texts on the wire (I-JSON).
impl Field for i64 {
    const TYPE: ColumnType = ColumnType::Int8;

    fn cell(self) -> Cell {
        Cell::Int(self)
    }

    fn read(json: &Json) -> Option<i64> {
        json.as_i64().or_else(|| json.as_str()?.parse().ok())
    }
}

impl Field for u64 {
    const TYPE: ColumnType = ColumnType::Int8;

    fn cell(self) -> Cell {
        Cell::Int(i64::try_from(self).unwrap_or(i64::MAX))
    }

    fn read(json: &Json) -> Option<u64> {
        json.as_u64().or_else(|| json.as_str()?.parse().ok())
    }
}

impl Field for f64 {
    const TYPE: ColumnType = ColumnType::Float8;

    fn cell(self) -> Cell {
        Cell::Float(self)
    }

    fn read(json: &Json) -> Option<f64> {
        json.as_f64()
    }
}

impl Field for String {
    const TYPE: ColumnType = ColumnType::Text;

    fn cell(self) -> Cell {
        Cell::Text(self)
    }

    fn read(json: &Json) -> Option<String> {
        json.as_str().map(String::from)
    }
}

impl Field for Json {
    const TYPE: ColumnType = ColumnType::Json;

    fn cell(self) -> Cell {
        Cell::Json(self.to_string())
    }

    fn read(json: &Json) -> Option<Json> {
        Some(json.clone())
    }
}

impl<T: Field> Field for Option<T> {
    const TYPE: ColumnType = T::TYPE;

    fn cell(self) -> Cell {
        self.map_or(Cell::Null, Field::cell)
    }

    fn read(json: &Json) -> Option<Option<T>> {
        T::read(json).map(Some)
    }
}

/// A moment, RFC 3339, in a column that compares as a time.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Moment(pub String);

impl Field for Moment {
    const TYPE: ColumnType = ColumnType::Timestamptz;

    fn cell(self) -> Cell {
        Cell::Timestamp(self.0)
    }

    fn read(json: &Json) -> Option<Moment> {
        json.as_str().map(|text| Moment(text.into()))
    }
}

/// Something with parts, in a column of text: as JSON.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Embedded<T>(pub T);

impl<T: Serialize + DeserializeOwned> Field for Embedded<T> {
    const TYPE: ColumnType = ColumnType::Text;

    fn cell(self) -> Cell {
        // What is embedded has texts as keys, so this cannot fail.
        serde_json::to_string(&self.0).map_or(Cell::Null, Cell::Text)
    }

    fn read(json: &Json) -> Option<Embedded<T>> {
        serde_json::from_str(json.as_str()?).ok().map(Embedded)
    }
}
