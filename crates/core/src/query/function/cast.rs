//! Casts.

use bigdecimal::{RoundingMode, ToPrimitive as _};

use super::decimal::Decimal;
use super::error::EvalError;
use super::{float, number};
use crate::value::{Type, Value};

/// Whether values of a type can be cast to another one at all.
pub fn exists(from: Type, to: Type) -> bool {
    use Type::{Bool, Bpchar, Bytea, Date, Enum, Int4, Json, Jsonb, Other, Text, Time, Timestamp, Timestamptz, Uuid};
    if from == to || (from.is_number() && to.is_number()) {
        return true;
    }
    let has_text = |ty: Type| ty.is_number() || matches!(ty, Bool | Bpchar | Enum | Json | Other | Text | Uuid);
    match (from, to) {
        (from, Text) => has_text(from),
        (Text, Bpchar) => true,
        (Text | Bpchar, to) => {
            to.is_number() || matches!(to, Bool | Bytea | Date | Time | Timestamp | Timestamptz | Uuid)
        }
        (Bool, Int4) | (Int4, Bool) | (Date, Timestamp) | (Timestamp, Date) => true,
        (Jsonb, _) => false,
        _ => false,
    }
}

/// Whether every value of a type is one of the other type too, in the form in which it is held: integers whatever their
/// width, and texts whatever their type.
pub fn is_held_alike(from: Type, to: Type) -> bool {
    let wider = from.is_integer() && ((to.is_integer() && to >= from) || to == Type::Numeric);
    from == to || wider || (to == Type::Text && matches!(from, Type::Bpchar | Type::Uuid | Type::Enum))
}

/// Whether a cast has a value for all values of a type.
pub fn is_total(from: Type, to: Type) -> bool {
    use Type::{Bool, Date, Float4, Float8, Int2, Int4, Int8, Numeric, Text, Timestamp};
    let wider = match from {
        Int2 => [Int4, Int8, Numeric, Float4, Float8].contains(&to),
        Int4 => [Int8, Numeric, Float4, Float8, Bool].contains(&to),
        Int8 => [Numeric, Float4, Float8].contains(&to),
        Float4 => [Float8, Numeric].contains(&to),
        Float8 => to == Numeric,
        Bool => to == Int4,
        Timestamp => to == Date,
        _ => false,
    };
    from == to || to == Text || (from == Text && to == Type::Bpchar) || wider
}

/// A value of one type as another; `NULL` if a stored value does not fit its column's declared type.
///
/// # Errors
/// The other type has no such value.
pub fn cast(v: &Value, from: Type, to: Type) -> Result<Value, EvalError> {
    if !fits(v, from) {
        return Ok(Value::Null);
    }
    match (v, to) {
        (_, to) if from == to => Ok(v.clone()),
        (_, Type::Text) => Ok(as_text(v)),
        (Value::Text(s), to) => Value::from_text(s, to).ok_or(EvalError::NotA(to)),
        (Value::Bool(b), _) => Ok(Value::Int(i64::from(*b))),
        (Value::Int(n), Type::Bool) => Ok(Value::Bool(*n != 0)),
        (Value::Date(days), _) => day_start(*days).map(Value::Timestamp).ok_or(EvalError::OutOfRange(to)),
        (Value::Timestamp(t), _) => Ok(Value::Date(day_of(*t))),
        (_, Type::Numeric) => Ok(as_numeric(v, from)),
        (_, Type::Float8) => in_range(number::double(v), v).map(Value::Float).ok_or(EvalError::OutOfRange(to)),
        (_, Type::Float4) => {
            let single = number::single(v).map(f64::from);
            in_range(single, v).map(|x| Value::Float4(x as f32)).ok_or(EvalError::OutOfRange(to))
        }
        (_, to) => as_integer(v, from).filter(|n| to.holds(*n)).map(Value::Int).ok_or(EvalError::OutOfRange(to)),
    }
}

/// Whether a value is of the kind that its type says. A database without strict types may hold any.
fn fits(v: &Value, ty: Type) -> bool {
    match v {
        Value::Int(_) | Value::Float(_) | Value::Float4(_) | Value::Numeric(_) => ty.is_number(),
        Value::Bool(_) => ty == Type::Bool,
        Value::Date(_) => ty == Type::Date,
        Value::Timestamp(_) => ty == Type::Timestamp,
        Value::Json(_) => ty == Type::Json,
        Value::Text(_) => matches!(ty, Type::Text | Type::Bpchar | Type::Uuid | Type::Enum | Type::Other),
        _ => false,
    }
}

/// A number that is infinite, or zero, only if the value it is made of was.
fn in_range(x: Option<f64>, of: &Value) -> Option<f64> {
    let x = x?;
    let was_infinite =
        matches!(of, Value::Float(y) if y.is_infinite()) || matches!(of, Value::Float4(y) if y.is_infinite());
    let was_zero = match of {
        Value::Int(i) => *i == 0,
        Value::Float(y) => *y == 0.0,
        Value::Float4(y) => *y == 0.0,
        Value::Numeric(n) => n.to_string().bytes().all(|b| !(b'1'..=b'9').contains(&b)),
        _ => false,
    };
    (was_infinite || !x.is_infinite()).then_some(x).filter(|x| *x != 0.0 || was_zero)
}

fn as_text(v: &Value) -> Value {
    match v {
        Value::Text(_) => v.clone(),
        Value::Json(s) => Value::Text(s.clone()),
        Value::Float(x) => Value::from(float::text(*x)),
        Value::Float4(x) => Value::from(float::text(*x)),
        Value::Int(_) | Value::Bool(_) | Value::Numeric(_) => Value::from(v.to_string()),
        _ => Value::Null,
    }
}

fn as_integer(v: &Value, from: Type) -> Option<i64> {
    match (from, v) {
        (_, Value::Int(i)) => Some(*i),
        (Type::Numeric, v) => match Decimal::of(v)?.rounded(0, RoundingMode::HalfUp) {
            Decimal::Finite(n) => n.to_i64(),
            _ => None,
        },
        (Type::Float4, v) => whole(number::single(v)?.round_ties_even().into()),
        (_, v) => whole(number::double(v)?.round_ties_even()),
    }
}

/// A whole double as an integer, if there is one.
fn whole(x: f64) -> Option<i64> {
    // 2^63 is a double, and the first that is too large.
    (-9_223_372_036_854_775_808.0..9_223_372_036_854_775_808.0).contains(&x).then_some(x as i64)
}

/// As PostgreSQL does it: by as many digits as the type is sure of.
fn as_numeric(v: &Value, from: Type) -> Value {
    let (x, digits) = match from {
        Type::Float4 => (number::single(v).map(f64::from), 6),
        Type::Float8 => (number::double(v), 15),
        _ => (None, 0),
    };
    match x {
        Some(x) if !x.is_finite() => Value::Float(x),
        Some(x) => Value::decimal(&trimmed(&format!("{:.*e}", digits - 1, x))).unwrap_or(Value::Null),
        None => v.clone(),
    }
}

/// `1.500e2` as `1.5e2`: zeros at the end are no digits of the number.
fn trimmed(text: &str) -> String {
    let (mantissa, exponent) = text.split_once('e').unwrap_or((text, "0"));
    let mantissa = if mantissa.contains('.') { mantissa.trim_end_matches('0').trim_end_matches('.') } else { mantissa };
    format!("{mantissa}e{exponent}")
}

fn day_start(days: i32) -> Option<i64> {
    use crate::datetime::{DAY, FOREVER, FOREVER_DATE, NEVER, NEVER_DATE};
    match days {
        FOREVER_DATE => Some(FOREVER),
        NEVER_DATE => Some(NEVER),
        // The last year of a timestamp is 294276.
        days => i64::from(days).checked_mul(DAY).filter(|t| *t < 9_223_371_331_200_000_000),
    }
}

fn day_of(t: i64) -> i32 {
    use crate::datetime::{DAY, FOREVER, FOREVER_DATE, NEVER, NEVER_DATE};
    match t {
        FOREVER => FOREVER_DATE,
        NEVER => NEVER_DATE,
        t => t.div_euclid(DAY) as i32,
    }
}
