//! The types of values, as PostgreSQL names them.

use std::borrow::Cow;
use std::fmt;

use gossip_protocol::system::ColumnType;

use crate::canonical::{Canonical, Encoder};

/// The type of a column or an expression, in PostgreSQL's words.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Type {
    /// `true` or `false`.
    Bool,
    /// 16-bit signed integer.
    Int2,
    /// 32-bit signed integer.
    Int4,
    /// 64-bit signed integer.
    Int8,
    /// IEEE 754 double.
    Float8,
    /// IEEE 754 single; compares as a double.
    Float4,
    /// Decimal number of any size, exact.
    Numeric,
    /// Text, compared by bytes.
    Text,
    /// Text in which trailing spaces are insignificant (`char(n)`); they are removed.
    Bpchar,
    /// Bytes.
    Bytea,
    /// RFC 9562, in lower case with hyphens.
    Uuid,
    /// A day.
    Date,
    /// A time of day.
    Time,
    /// Date and time without a zone.
    Timestamp,
    /// A moment in time.
    Timestamptz,
    /// JSON (RFC 8259), as the database writes it. Not compared.
    Json,
    /// JSON in normal form, without the order of keys. Not compared.
    Jsonb,
    /// An array of any dimensions with elements of a type. Its values are JSON. Not compared.
    Array(Element),
    /// One of a type's labels: equal or not, without an order.
    Enum,
    /// Anything else, as the database writes it. Not compared.
    Other,
    /// A column without a declared type: values are used as stored.
    Any,
}

/// All types but arrays and [`Type::Any`].
static SCALARS: [Type; 19] = {
    use Type::*;
    [
        Bool,
        Int2,
        Int4,
        Int8,
        Float8,
        Float4,
        Numeric,
        Text,
        Bytea,
        Uuid,
        Date,
        Time,
        Timestamp,
        Timestamptz,
        Json,
        Bpchar,
        Jsonb,
        Enum,
        Other,
    ]
};

/// The type of an array's elements, which is not an array itself. An index into [`SCALARS`]: one byte, because every expression
/// has types.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Element(u8);

impl Element {
    fn of(scalar: Type) -> Element {
        let place = SCALARS.iter().position(|t| *t == scalar).unwrap_or(SCALARS.len() - 1);
        Element(place as u8)
    }

    /// The type.
    pub fn ty(self) -> Type {
        SCALARS[usize::from(self.0)]
    }
}

impl Type {
    /// The name in the protocol and in messages. An array's is its element's with `[]`.
    pub fn name(self) -> Cow<'static, str> {
        Cow::Borrowed(match self {
            Type::Bool => "bool",
            Type::Int2 => "int2",
            Type::Int4 => "int4",
            Type::Int8 => "int8",
            Type::Float8 => "float8",
            Type::Float4 => "float4",
            Type::Numeric => "numeric",
            Type::Text => "text",
            Type::Bpchar => "bpchar",
            Type::Bytea => "bytea",
            Type::Uuid => "uuid",
            Type::Date => "date",
            Type::Time => "time",
            Type::Timestamp => "timestamp",
            Type::Timestamptz => "timestamptz",
            Type::Json => "json",
            Type::Jsonb => "jsonb",
            Type::Array(element) => return Cow::Owned(format!("{}[]", element.ty().name())),
            Type::Enum => "enum",
            Type::Other => "other",
            Type::Any => "any",
        })
    }

    /// The type with a name, as returned by [`Type::name`]; `any` for all others.
    pub fn named(name: &str) -> Type {
        if let Some(element) = name.strip_suffix("[]") {
            // Arrays of arrays are arrays of more dimensions.
            return match Type::named(element.trim_end_matches("[]")) {
                Type::Any => Type::Any,
                element => Type::array(element),
            };
        }
        SCALARS.iter().copied().find(|t| t.name() == name).unwrap_or(Type::Any)
    }

    /// Arrays with elements of this type; of more dimensions, if it is an array itself.
    pub fn array(element: Type) -> Type {
        match element {
            Type::Array(_) => element,
            scalar => Type::Array(Element::of(scalar)),
        }
    }

    /// The types that a column of a topic can have.
    pub fn declarable() -> impl Iterator<Item = Type> {
        SCALARS.iter().copied().filter(|t| !matches!(t, Type::Bpchar | Type::Jsonb | Type::Enum | Type::Other))
    }

    /// Whether values of the two types can be compared.
    pub fn comparable(self, other: Type) -> bool {
        if !self.is_compared() || !other.is_compared() {
            return false;
        }
        let days = |t| matches!(t, Type::Date | Type::Timestamp);
        self == other
            || self == Type::Any
            || other == Type::Any
            || (self.is_number() && other.is_number())
            || (days(self) && days(other))
    }

    /// Whether its values can be compared at all.
    pub fn is_compared(self) -> bool {
        !matches!(self, Type::Json | Type::Jsonb | Type::Array(_) | Type::Other)
    }

    /// Whether values of this type have an order, beyond being equal or not.
    pub fn is_ordered(self) -> bool {
        self != Type::Enum
    }

    /// Whether its values are numbers.
    pub fn is_number(self) -> bool {
        self.is_integer() || matches!(self, Type::Float8 | Type::Float4 | Type::Numeric)
    }

    /// Whether its values are whole numbers.
    pub fn is_integer(self) -> bool {
        matches!(self, Type::Int2 | Type::Int4 | Type::Int8)
    }

    /// Whether an integer type is wide enough for a number.
    pub fn holds(self, n: i64) -> bool {
        match self {
            Type::Int2 => i16::try_from(n).is_ok(),
            Type::Int4 => i32::try_from(n).is_ok(),
            _ => true,
        }
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name())
    }
}

impl From<ColumnType> for Type {
    fn from(ty: ColumnType) -> Type {
        match ty {
            ColumnType::Bool => Type::Bool,
            ColumnType::Int8 => Type::Int8,
            ColumnType::Float8 => Type::Float8,
            ColumnType::Text => Type::Text,
            ColumnType::Json => Type::Json,
            ColumnType::Timestamptz => Type::Timestamptz,
        }
    }
}

impl Canonical for Type {
    fn encode(&self, to: &mut Encoder) {
        to.text(&self.name());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_leads_back_to_its_type() {
        let arrays = SCALARS.iter().map(|t| Type::array(*t));
        for ty in SCALARS.iter().copied().chain(arrays) {
            assert_eq!(Type::named(&ty.name()), ty);
        }
        assert_eq!(Type::named("int4[][]"), Type::array(Type::array(Type::Int4)));
        assert_eq!((Type::named("nothing"), Type::named("nothing[]")), (Type::Any, Type::Any));
    }
}
