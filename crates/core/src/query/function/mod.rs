//! Functions and operators on values, with PostgreSQL's meaning.
//!
//! A [`Function`] knows the types of its arguments; it dispatches on them and never on a value's variant, because a column
//! of one type may hold values in several forms. All of them are strict: if an argument is `NULL`, so is the result.

mod cast;
mod containment;
mod decimal;
pub(crate) mod document;
mod error;
mod float;
pub mod interval;
mod number;
mod operator;
mod text;
mod time;

use crate::canonical::{Canonical, Encoder};
use crate::value::{Type, Value};
pub use cast::{exists as can_cast, is_held_alike, is_total};
pub use containment::{MAX_PARTS, parts as parts_of_json};
pub use document::{array_literal, path as json_path};
pub use error::EvalError;
use interval::Interval;
pub use operator::{Arithmetic, Side};
pub use text::lower;
pub use time::Field;

/// A function or operator, for arguments of certain types.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Function {
    /// An operator on two numbers of this type, which is that of the result too.
    Arithmetic(Arithmetic, Type),
    /// `-x`, of this type.
    Negate(Type),
    /// `ABS(x)`, of this type.
    Abs(Type),
    /// `FLOOR(x)`, of this type: `numeric` or `float8`.
    Floor(Type),
    /// `CEIL(x)`, as [`Function::Floor`].
    Ceil(Type),
    /// `ROUND(x)`, as [`Function::Floor`]: halves away from zero, of `float8` to the even neighbour.
    Round(Type),
    /// `ROUND(numeric, digits)`: to so many digits after the point, or before it if negative.
    RoundTo,
    /// `a || b` of texts.
    Concat,
    /// `LOWER(text)`: each character by Unicode's simple mapping.
    Lower,
    /// `UPPER(text)`, likewise.
    Upper,
    /// `LENGTH(text)`, in characters.
    Length,
    /// `LEFT(text, n)`: the first characters; all but the last `-n` if negative.
    Left,
    /// `RIGHT(text, n)`: the last characters; all but the first `-n` if negative.
    Right,
    /// `SUBSTRING(text, start)` or `SUBSTRING(text, start, length)`, counted from 1.
    Substring,
    /// `TRIM(text)` of spaces, or `TRIM(text, characters)`.
    Trim(Side),
    /// `CAST(x AS type)`: from the first type to the second.
    Cast(Type, Type),
    /// `EXTRACT(field FROM x)` of a date or moment.
    Extract(Field),
    /// `DATE_TRUNC('unit', x)` of a moment, of this type.
    Truncate(Field, Type),
    /// A moment of this type and an interval.
    Shift(Type, Interval),
    /// A date and so many days.
    AddDays,
    /// A date and so many days before it.
    SubtractDays,
    /// The days from the second date to the first.
    DaysBetween,
    /// `->` of json of this type: the part under a key, or at a place; or `->>`, as text.
    Part {
        /// The type.
        of: Type,
        /// Whether it is `->>`.
        as_text: bool,
    },
    /// `#>` of json of this type, along a path that is a list; or `#>>`, as text.
    Path {
        /// The type.
        of: Type,
        /// Whether it is `#>>`.
        as_text: bool,
    },
    /// `value = ANY (array)`, of elements of this type.
    ElementOf(Type),
    /// `@>` of arrays with elements of this type.
    Contains(Type),
    /// `&&` of arrays with elements of this type.
    Overlaps(Type),
    /// `@>` of jsonb.
    ContainsJson,
}

impl Function {
    /// Its value for arguments of its types; `NULL` also if a stored value does not fit its column's declared type.
    ///
    /// # Errors
    /// It has none for these.
    pub fn value(self, args: &[Value]) -> Result<Value, EvalError> {
        if let (Function::ElementOf(ty), [value, array]) = (self, args) {
            // In an empty array nothing is, not even what is not known.
            return Ok(document::is_element(ty, value, array));
        }
        if args.iter().any(Value::is_null) {
            return Ok(Value::Null);
        }
        match (self, args) {
            (Function::Part { as_text, .. }, [Value::Json(json), Value::Text(key)]) => {
                Ok(document::of_key(json, key, as_text))
            }
            (Function::Part { of, as_text }, [Value::Json(json), Value::Int(place)]) => {
                Ok(document::at_place(of, json, *place, as_text))
            }
            (Function::Path { as_text, .. }, [Value::Json(json), Value::Json(path)]) => {
                Ok(document::along(json, path, as_text))
            }
            (Function::Contains(ty), [a, b]) => Ok(document::contains(ty, a, b)),
            (Function::Overlaps(ty), [a, b]) => Ok(document::overlaps(ty, a, b)),
            (Function::ContainsJson, [Value::Json(own), Value::Json(wanted)]) => Ok(containment::contains(own, wanted)),
            (Function::Arithmetic(op, ty), [a, b]) => number::arithmetic(op, ty, a, b),
            (Function::Negate(ty), [a]) => number::arithmetic(Arithmetic::Subtract, ty, &number::zero(ty), a),
            (Function::Abs(ty), [a]) => number::abs(ty, a),
            (Function::Floor(ty), [a]) => number::rounded(ty, a, number::Rounding::Floor),
            (Function::Ceil(ty), [a]) => number::rounded(ty, a, number::Rounding::Ceil),
            (Function::Round(ty), [a]) => number::rounded(ty, a, number::Rounding::Nearest),
            (Function::RoundTo, [a, Value::Int(digits)]) => number::round_to(a, *digits),
            (Function::Cast(from, to), [a]) => cast::cast(a, from, to),
            (Function::Concat, args) => text::concat(args),
            (Function::Lower, [Value::Text(s)]) => Ok(text::mapped(s, text::lower)),
            (Function::Upper, [Value::Text(s)]) => Ok(text::mapped(s, text::upper)),
            (Function::Length, [Value::Text(s)]) => Ok(Value::Int(s.chars().count() as i64)),
            (Function::Left, [Value::Text(s), Value::Int(n)]) => Ok(text::left(s, *n).into()),
            (Function::Right, [Value::Text(s), Value::Int(n)]) => Ok(text::right(s, *n).into()),
            (Function::Substring, [Value::Text(s), Value::Int(start)]) => text::substring(s, *start, None),
            (Function::Substring, [Value::Text(s), Value::Int(start), Value::Int(length)]) => {
                text::substring(s, *start, Some(*length))
            }
            (Function::Trim(side), [Value::Text(s)]) => Ok(text::trim(side, s, " ").into()),
            (Function::Trim(side), [Value::Text(s), Value::Text(characters)]) => {
                Ok(text::trim(side, s, characters).into())
            }
            (Function::Extract(field), [a]) => Ok(time::extract(field, a)),
            (Function::Truncate(unit, ty), [a]) => time::truncate(unit, ty, a),
            (Function::Shift(ty, interval), [a]) => time::shift(interval, ty, a),
            (Function::AddDays, [Value::Date(date), Value::Int(days)]) => time::shift_days(*date, *days),
            (Function::SubtractDays, [Value::Date(date), Value::Int(days)]) => {
                time::shift_days(*date, days.checked_neg().unwrap_or(i64::MAX))
            }
            (Function::DaysBetween, [Value::Date(a), Value::Date(b)]) => time::days_between(*a, *b),
            // A stored value that does not fit its column's declared type.
            _ => Ok(Value::Null),
        }
    }

    /// Whether it has a value for all arguments of its types.
    pub fn is_total(self) -> bool {
        match self {
            Function::Arithmetic(..) | Function::Negate(_) | Function::RoundTo | Function::Concat => false,
            Function::Substring | Function::Shift(..) | Function::Truncate(..) => false,
            Function::AddDays | Function::SubtractDays | Function::DaysBetween => false,
            Function::Abs(ty) => !ty.is_integer(),
            Function::Cast(from, to) => cast::is_total(from, to),
            _ => true,
        }
    }

    /// The type of its value.
    pub fn ty(self) -> Type {
        match self {
            Function::Arithmetic(_, ty)
            | Function::Negate(ty)
            | Function::Abs(ty)
            | Function::Floor(ty)
            | Function::Ceil(ty)
            | Function::Round(ty)
            | Function::Cast(_, ty)
            | Function::Truncate(_, ty)
            | Function::Shift(ty, _) => ty,
            Function::RoundTo | Function::Extract(_) => Type::Numeric,
            Function::Length | Function::DaysBetween => Type::Int4,
            Function::AddDays | Function::SubtractDays => Type::Date,
            Function::Part { of, as_text: false } | Function::Path { of, as_text: false } => of,
            Function::ElementOf(_) | Function::Contains(_) | Function::Overlaps(_) => Type::Bool,
            Function::ContainsJson => Type::Bool,
            _ => Type::Text,
        }
    }

    /// The operator that it is between its two arguments.
    pub fn sign(self) -> Option<&'static str> {
        Some(match self {
            Function::Arithmetic(op, _) => op.sign(),
            Function::AddDays => "+",
            Function::SubtractDays | Function::DaysBetween => "-",
            Function::Part { as_text: false, .. } => "->",
            Function::Part { .. } => "->>",
            Function::Path { as_text: false, .. } => "#>",
            Function::Path { .. } => "#>>",
            Function::Contains(_) | Function::ContainsJson => "@>",
            Function::Overlaps(_) => "&&",
            _ => return None,
        })
    }

    /// Its name in SQL, for those that are called by one.
    pub fn name(self) -> &'static str {
        match self {
            Function::Abs(_) => "abs",
            Function::Floor(_) => "floor",
            Function::Ceil(_) => "ceil",
            Function::Round(_) | Function::RoundTo => "round",
            Function::Lower => "lower",
            Function::Upper => "upper",
            Function::Length => "length",
            Function::Left => "left",
            Function::Right => "right",
            Function::Substring => "substring",
            Function::Trim(Side::Both) => "btrim",
            Function::Trim(Side::Leading) => "ltrim",
            Function::Trim(Side::Trailing) => "rtrim",
            // Written in a way of their own.
            Function::Arithmetic(..) | Function::Negate(_) | Function::Concat | Function::Cast(..) => "",
            Function::Extract(_) | Function::Truncate(..) | Function::Shift(..) => "",
            Function::AddDays | Function::SubtractDays | Function::DaysBetween => "",
            Function::Part { .. } | Function::Path { .. } => "",
            Function::ElementOf(_) | Function::Contains(_) | Function::Overlaps(_) | Function::ContainsJson => "",
        }
    }
}

impl Canonical for Function {
    fn encode(&self, to: &mut Encoder) {
        // The tag of a function, then what else it is.
        let (tag, ty) = match *self {
            Function::Arithmetic(op, ty) => (op as u8, Some(ty)),
            Function::Negate(ty) => (5, Some(ty)),
            Function::Abs(ty) => (6, Some(ty)),
            Function::Floor(ty) => (7, Some(ty)),
            Function::Ceil(ty) => (8, Some(ty)),
            Function::Round(ty) => (9, Some(ty)),
            Function::RoundTo => (10, None),
            Function::Concat => (11, None),
            Function::Lower => (12, None),
            Function::Upper => (13, None),
            Function::Length => (14, None),
            Function::Left => (15, None),
            Function::Right => (16, None),
            Function::Substring => (17, None),
            Function::Trim(side) => (18 + side as u8, None),
            Function::AddDays => (22, None),
            Function::SubtractDays => (23, None),
            Function::DaysBetween => (24, None),
            Function::Part { of, as_text } => (if as_text { 29 } else { 28 }, Some(of)),
            Function::Path { of, as_text } => (if as_text { 31 } else { 30 }, Some(of)),
            Function::ElementOf(ty) => (32, Some(ty)),
            Function::Contains(ty) => (33, Some(ty)),
            Function::Overlaps(ty) => (34, Some(ty)),
            Function::ContainsJson => (35, None),
            Function::Extract(field) => {
                to.tag(25);
                return to.tag(field as u8);
            }
            Function::Truncate(unit, ty) => {
                to.tag(26);
                to.tag(unit as u8);
                return ty.encode(to);
            }
            Function::Shift(ty, Interval { months, days, micros }) => {
                to.tag(27);
                ty.encode(to);
                return [months.into(), days.into(), micros]
                    .into_iter()
                    .for_each(|n: i64| to.number(n.cast_unsigned()));
            }
            Function::Cast(from, ty) => {
                to.tag(21);
                from.encode(to);
                return ty.encode(to);
            }
        };
        to.tag(tag);
        if let Some(ty) = ty {
            ty.encode(to);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A column of SQLite may hold anything, whatever its type.
    #[test]
    fn of_a_value_that_does_not_fit_its_type_nothing_is_computed() {
        let (text, number) = (Value::from("abc"), Value::Int(5));
        let int = Type::Int8;
        let cases: [(Function, &[&Value]); 14] = [
            (Function::Arithmetic(Arithmetic::Add, int), &[&text, &number]),
            (Function::Arithmetic(Arithmetic::Divide, Type::Numeric), &[&number, &text]),
            (Function::Negate(Type::Float8), &[&text]),
            (Function::Abs(int), &[&text]),
            (Function::Round(Type::Numeric), &[&text]),
            (Function::RoundTo, &[&number, &text]),
            (Function::Concat, &[&text, &number]),
            (Function::Length, &[&number]),
            (Function::Left, &[&text, &text]),
            (Function::Substring, &[&text, &number, &text]),
            (Function::Trim(Side::Both), &[&text, &number]),
            (Function::Cast(int, Type::Bool), &[&text]),
            (Function::Cast(Type::Bool, Type::Int4), &[&text]),
            (Function::Cast(Type::Float8, int), &[&text]),
        ];
        for (function, args) in cases {
            let args: Vec<Value> = args.iter().map(|v| (*v).clone()).collect();
            assert_eq!(function.value(&args), Ok(Value::Null), "{function:?} {args:?}");
        }
    }
}
