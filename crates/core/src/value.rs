//! Typed values with SQL's meaning.
//!
//! A value has two notions of equality, which must not be mixed up:
//!
//! - *identity* (`==`, `Hash`, `Ord`): is it the same stored value? Used to detect whether a column changed, to share
//!   effective plans and as keys of maps. `1` and `1.0` differ, `NULL` equals `NULL`.
//! - *SQL comparison* ([`Value::sql_cmp`]): what `=` and `<` mean in a condition, as PostgreSQL defines them. `NULL`
//!   compares to nothing.
//!
//! Text is compared by bytes (`COLLATE "C"`).

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::str::FromStr;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use bigdecimal::{BigDecimal, FromPrimitive};
use gossip_protocol::system::{Cell, JSON_SAFE};
use serde_json::Value as Json;

use crate::canonical::{Canonical, Encoder};
use crate::datetime;
pub use crate::types::Type;

/// Decimal exponents beyond this are refused: comparing `1e999999999` would need a billion digits.
const MAX_EXPONENT: i64 = 1_000;

/// One value of one column. Cloning is cheap: long contents are shared.
///
/// ```
/// use std::cmp::Ordering;
///
/// use gossip_core::value::{Type, Value};
///
/// let (one, exact) = (Value::Int(1), Value::from_text("1.00", Type::Numeric).unwrap());
/// assert_ne!(one, exact, "two stored values");
/// assert_eq!(one.sql_cmp(&exact), Some(Ordering::Equal), "but equal in SQL");
/// assert_eq!(one.sql_cmp(&Value::Null), None, "unknown");
/// ```
#[derive(Clone)]
pub enum Value {
    /// SQL `NULL`.
    Null,
    /// A truth value.
    Bool(bool),
    /// A 64-bit integer.
    Int(i64),
    /// A double; NaN equals itself and is greater than all others, as in PostgreSQL.
    Float(f64),
    /// A single; as [`Value::Float`].
    Float4(f32),
    /// An exact decimal.
    Numeric(Arc<BigDecimal>),
    /// Text.
    Text(Arc<str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
    /// Days from 2000-01-01; see [`moment`](crate::datetime).
    Date(i32),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds from 2000-01-01 without a zone.
    Timestamp(i64),
    /// Microseconds from 2000-01-01T00:00:00Z.
    Timestamptz(i64),
    /// JSON text.
    Json(Arc<str>),
}

/// `NULL`, to borrow where a column is hidden.
pub static NULL: Value = Value::Null;

impl Value {
    /// Text from anything that can be borrowed as a string.
    pub fn text(s: impl AsRef<str>) -> Value {
        Value::Text(Arc::from(s.as_ref()))
    }

    /// Whether this is `NULL`.
    pub fn is_null(&self) -> bool {
        matches!(self, Value::Null)
    }

    /// The narrowest type that this value has, `Any` for `NULL`.
    pub fn type_of(&self) -> Type {
        match self {
            Value::Null => Type::Any,
            Value::Bool(_) => Type::Bool,
            Value::Int(_) => Type::Int8,
            Value::Float(_) => Type::Float8,
            Value::Numeric(_) => Type::Numeric,
            Value::Text(_) => Type::Text,
            Value::Bytes(_) => Type::Bytea,
            Value::Float4(_) => Type::Float4,
            Value::Date(_) => Type::Date,
            Value::Time(_) => Type::Time,
            Value::Timestamp(_) => Type::Timestamp,
            Value::Timestamptz(_) => Type::Timestamptz,
            Value::Json(_) => Type::Json,
        }
    }

    /// Compares as SQL's `=`, `<` and so on do. `None` (unknown) if either side is `NULL` or the two are of classes
    /// that cannot be compared, which happens only to a value that does not fit its column's declared type.
    pub fn sql_cmp(&self, other: &Value) -> Option<Ordering> {
        use Value::*;
        match (self, other) {
            (Bool(a), Bool(b)) => Some(a.cmp(b)),
            (Int(a), Int(b)) => Some(a.cmp(b)),
            (Text(a), Text(b)) => Some(a.as_bytes().cmp(b.as_bytes())),
            (Bytes(a), Bytes(b)) => Some(a.cmp(b)),
            (Numeric(a), Numeric(b)) => Some(a.cmp(b)),
            (Int(a), Numeric(b)) => Some(BigDecimal::from(*a).cmp(b)),
            (Numeric(a), Int(b)) => Some(a.as_ref().cmp(&BigDecimal::from(*b))),
            (Date(a), Date(b)) => Some(a.cmp(b)),
            (Time(a), Time(b)) | (Timestamp(a), Timestamp(b)) | (Timestamptz(a), Timestamptz(b)) => Some(a.cmp(b)),
            (Date(a), Timestamp(b)) => Some(midnight(*a).cmp(&i128::from(*b))),
            (Timestamp(a), Date(b)) => Some(i128::from(*a).cmp(&midnight(*b))),
            // A double on either side makes the comparison one of doubles.
            (Float(_) | Float4(_), Int(_) | Float(_) | Float4(_) | Numeric(_))
            | (Int(_) | Numeric(_), Float(_) | Float4(_)) => Some(float_cmp(self.as_f64()?, other.as_f64()?)),
            _ => None,
        }
    }

    fn as_f64(&self) -> Option<f64> {
        match self {
            Value::Int(i) => Some(*i as f64),
            Value::Float(x) => Some(*x),
            Value::Float4(x) => Some((*x).into()),
            // Its text is read exactly, unlike what the crate makes of the digits.
            Value::Numeric(n) => n.to_string().parse().ok(),
            _ => None,
        }
    }

    /// A key for index lookups: values that are equal in SQL have equal probes. The reverse need not hold.
    /// `NULL` equals nothing and has none.
    pub fn probe(&self) -> Option<Value> {
        match self {
            Value::Null => None,
            Value::Date(days) => match midnight(*days).try_into() {
                Ok(at) => Some(Value::Timestamp(at)),
                Err(_) => Some(self.clone()),
            },
            Value::Int(_) | Value::Float(_) | Value::Float4(_) | Value::Numeric(_) => {
                let x = self.as_f64()?;
                Some(Value::Float(if x == 0.0 {
                    0.0
                } else if x.is_nan() {
                    f64::NAN
                } else {
                    x
                }))
            }
            other => Some(other.clone()),
        }
    }

    /// The JSON form of the protocol: integers beyond ±(2^53−1) and decimals as strings, bytes in base64.
    pub fn to_json(&self) -> Json {
        match self {
            Value::Null => Json::Null,
            Value::Bool(b) => Json::Bool(*b),
            Value::Int(i) if (-JSON_SAFE..=JSON_SAFE).contains(i) => Json::from(*i),
            Value::Int(i) => Json::String(i.to_string()),
            Value::Float(x) => match serde_json::Number::from_f64(*x) {
                Some(n) => Json::Number(n),
                None if x.is_nan() => Json::from("NaN"),
                None if *x > 0.0 => Json::from("Infinity"),
                None => Json::from("-Infinity"),
            },
            // The shortest text that reads back as this single.
            Value::Float4(x) if x.is_finite() => x
                .to_string()
                .parse::<f64>()
                .ok()
                .and_then(serde_json::Number::from_f64)
                .map_or(Json::Null, Json::Number),
            Value::Float4(x) => Value::Float((*x).into()).to_json(),
            Value::Numeric(n) => Json::String(n.to_plain_string()),
            Value::Text(s) => Json::String(s.to_string()),
            Value::Date(d) => Json::String(datetime::date_text(*d)),
            Value::Time(t) => Json::String(datetime::time_text(*t)),
            Value::Timestamp(t) => Json::String(datetime::timestamp_text(*t, false)),
            Value::Timestamptz(t) => Json::String(datetime::timestamp_text(*t, true)),
            Value::Json(text) => serde_json::from_str(text).unwrap_or_else(|_| Json::String(text.to_string())),
            Value::Bytes(b) => Json::String(BASE64.encode(b)),
        }
    }

    /// Reads the protocol's JSON form of a value of type `ty`. The error says what was expected.
    ///
    /// # Errors
    /// What was expected and what was found, without the value.
    pub fn from_json(json: &Json, ty: Type) -> Result<Value, String> {
        let refuse = || Err(format!("expected {ty}, found {}", json_kind(json)));
        match (json, ty) {
            (Json::Null, _) => Ok(Value::Null),
            (Json::Bool(b), Type::Bool | Type::Any) => Ok(Value::Bool(*b)),
            (Json::Number(n), ty) if ty.is_number() || ty == Type::Any => {
                // A whole number stays one whatever the column's type; a fraction is exact until compared with a double.
                match (n.as_i64(), ty) {
                    (Some(i), ty) if ty.is_integer() && !ty.holds(i) => Err(format!("number out of range of {ty}")),
                    (Some(i), ty) if ty.is_integer() || matches!(ty, Type::Any | Type::Numeric) => Ok(Value::Int(i)),
                    (_, Type::Float8) => n.as_f64().map(Value::Float).ok_or_else(|| "number out of range".into()),
                    (_, Type::Float4) => {
                        Value::from_text(&n.to_string(), ty).ok_or_else(|| "number out of range".into())
                    }
                    _ => Value::parse_number(&n.to_string()).ok_or_else(|| "number out of range".into()),
                }
            }
            (Json::String(s), Type::Text | Type::Any) => Ok(Value::text(s)),
            (Json::String(s), Type::Bytea) => match BASE64.decode(s) {
                Ok(b) => Ok(Value::Bytes(b.into())),
                Err(_) => Err("expected bytes in base64".into()),
            },
            (_, Type::Json | Type::Jsonb | Type::Array(_)) => Ok(Value::Json(json.to_string().into())),
            (Json::String(s), ty) if ty != Type::Bool => {
                Value::from_text(s, ty).ok_or_else(|| format!("expected {ty}, got text that is not one"))
            }
            _ => refuse(),
        }
    }

    /// Reads a text literal as PostgreSQL reads a quoted constant of type `ty`.
    pub fn from_text(s: &str, ty: Type) -> Option<Value> {
        let t = s.trim();
        match ty {
            Type::Text | Type::Any | Type::Enum | Type::Other => Some(Value::text(s)),
            Type::Bpchar => Some(Value::text(s.trim_end_matches(' '))),
            Type::Uuid => uuid_text(t).map(Value::from),
            Type::Date => datetime::parse_date(t).map(Value::Date),
            Type::Time => datetime::parse_time(t).map(Value::Time),
            Type::Timestamp => datetime::parse_timestamp(t, false).map(Value::Timestamp),
            Type::Timestamptz => datetime::parse_timestamp(t, true).map(Value::Timestamptz),
            Type::Json | Type::Jsonb | Type::Array(_) => Some(Value::Json(s.into())),
            Type::Float4 => match Value::from_text(s, Type::Float8)? {
                Value::Float(x) if x.is_finite() => {
                    let single = t.parse().ok().filter(|single: &f32| single.is_finite());
                    single.filter(|single| *single != 0.0 || x == 0.0).map(Value::Float4)
                }
                Value::Float(x) => Some(Value::Float4(x as f32)),
                _ => None,
            },
            Type::Int2 | Type::Int4 | Type::Int8 => t.parse().ok().filter(|i| ty.holds(*i)).map(Value::Int),
            Type::Float8 => match t.to_ascii_lowercase().as_str() {
                "nan" => Some(Value::Float(f64::NAN)),
                "infinity" | "inf" | "+infinity" => Some(Value::Float(f64::INFINITY)),
                "-infinity" | "-inf" => Some(Value::Float(f64::NEG_INFINITY)),
                // Rust parses some words that SQL does not; a number starts with a digit, sign or point.
                n if n.starts_with(|c: char| c.is_ascii_digit() || "+-.".contains(c)) => {
                    let zero = n.split('e').next().is_some_and(|digits| !digits.contains(|c| ('1'..='9').contains(&c)));
                    n.parse().ok().filter(|x: &f64| x.is_finite() && (*x != 0.0 || zero)).map(Value::Float)
                }
                _ => None,
            },
            // What is not finite is held as a double.
            Type::Numeric => match Value::from_text(s, Type::Float8) {
                Some(x @ Value::Float(f)) if !f.is_finite() => Some(x),
                _ => Value::parse_number(t),
            },
            Type::Bool => match t.to_ascii_lowercase().as_str() {
                "t" | "true" | "y" | "yes" | "on" | "1" => Some(Value::Bool(true)),
                "f" | "false" | "n" | "no" | "off" | "0" => Some(Value::Bool(false)),
                _ => None,
            },
            Type::Bytea => {
                let hex = t.strip_prefix("\\x")?;
                if hex.len() % 2 != 0 || !hex.is_ascii() {
                    return None;
                }
                (0..hex.len())
                    .step_by(2)
                    .map(|i| u8::from_str_radix(&hex[i..i + 2], 16).ok())
                    .collect::<Option<Vec<u8>>>()
                    .map(|b| Value::Bytes(b.into()))
            }
        }
    }

    /// A number as SQL writes it: an integer if it is one and fits, else an exact decimal.
    pub fn parse_number(s: &str) -> Option<Value> {
        if let Ok(i) = s.parse::<i64>() {
            return Some(Value::Int(i));
        }
        if let Some((_, exponent)) = s.split_once(['e', 'E']) {
            exponent.parse::<i64>().ok().filter(|e| e.unsigned_abs() <= MAX_EXPONENT.unsigned_abs())?;
        }
        if s.len() > 1_000 {
            return None;
        }
        BigDecimal::from_str(s).ok().map(|n| Value::Numeric(Arc::new(n)))
    }

    /// A decimal, even if it is a whole number, with the number of fractional digits as written.
    pub fn decimal(s: &str) -> Option<Value> {
        BigDecimal::from_str(s).ok().map(|n| Value::Numeric(Arc::new(n)))
    }

    /// The decimal with the same text as this double.
    pub fn numeric_from_f64(x: f64) -> Option<Value> {
        BigDecimal::from_f64(x).map(|n| Value::Numeric(Arc::new(n)))
    }

    /// Whether it owns heap memory.
    pub fn is_apart(&self) -> bool {
        matches!(self, Value::Text(_) | Value::Json(_) | Value::Bytes(_) | Value::Numeric(_))
    }

    /// Approximate bytes in memory.
    pub fn size(&self) -> usize {
        24 + match self {
            Value::Text(s) | Value::Json(s) => s.len(),
            Value::Bytes(b) => b.len(),
            Value::Numeric(_) => 40,
            _ => 0,
        }
    }

    fn rank(&self) -> u8 {
        match self {
            Value::Null => 0,
            Value::Bool(_) => 1,
            Value::Int(_) => 2,
            Value::Float(_) => 3,
            Value::Numeric(_) => 4,
            Value::Text(_) => 5,
            Value::Bytes(_) => 6,
            Value::Float4(_) => 7,
            Value::Date(_) => 8,
            Value::Time(_) => 9,
            Value::Timestamp(_) => 10,
            Value::Timestamptz(_) => 11,
            Value::Json(_) => 12,
        }
    }
}

/// The start of a day, in microseconds; beyond the range of timestamps.
fn midnight(days: i32) -> i128 {
    match days {
        datetime::FOREVER_DATE => datetime::FOREVER.into(),
        datetime::NEVER_DATE => datetime::NEVER.into(),
        days => i128::from(days) * i128::from(datetime::DAY),
    }
}

/// A UUID in canonical form; `None` if it is invalid. Braces and missing hyphens are
/// allowed, as PostgreSQL does.
fn uuid_text(s: &str) -> Option<String> {
    let inner = s.strip_prefix('{').map_or(Some(s), |s| s.strip_suffix('}'))?;
    let digits: String = inner.chars().filter(|c| *c != '-').map(|c| c.to_ascii_lowercase()).collect();
    let whole = digits.len() == 32 && digits.bytes().all(|b| b.is_ascii_hexdigit());
    let [a, b, c, d, e] = [0..8, 8..12, 12..16, 16..20, 20..32].map(|r| digits.get(r).unwrap_or(""));
    whole.then(|| format!("{a}-{b}-{c}-{d}-{e}"))
}

/// PostgreSQL's order of doubles: NaN equals itself and is above all others.
fn float_cmp(a: f64, b: f64) -> Ordering {
    a.partial_cmp(&b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan()))
}

fn json_kind(json: &Json) -> &'static str {
    match json {
        Json::Null => "null",
        Json::Bool(_) => "a truth value",
        Json::Number(_) => "a number",
        Json::String(_) => "a text",
        Json::Array(_) => "an array",
        Json::Object(_) => "an object",
    }
}

impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for Value {}

impl PartialOrd for Value {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Value {
    fn cmp(&self, other: &Self) -> Ordering {
        use Value::*;
        match (self, other) {
            (Bool(a), Bool(b)) => a.cmp(b),
            (Int(a), Int(b)) => a.cmp(b),
            (Float(a), Float(b)) => a.total_cmp(b),
            (Numeric(a), Numeric(b)) => {
                a.cmp(b).then_with(|| a.fractional_digit_count().cmp(&b.fractional_digit_count()))
            }
            (Text(a), Text(b)) => a.cmp(b),
            (Bytes(a), Bytes(b)) => a.cmp(b),
            (Float4(a), Float4(b)) => a.total_cmp(b),
            (Date(a), Date(b)) => a.cmp(b),
            (Time(a), Time(b)) | (Timestamp(a), Timestamp(b)) | (Timestamptz(a), Timestamptz(b)) => a.cmp(b),
            (Json(a), Json(b)) => a.cmp(b),
            _ => self.rank().cmp(&other.rank()),
        }
    }
}

impl Hash for Value {
    fn hash<H: Hasher>(&self, h: &mut H) {
        h.write_u8(self.rank());
        match self {
            Value::Null => {}
            Value::Bool(b) => b.hash(h),
            Value::Int(i) => i.hash(h),
            Value::Float(x) => x.to_bits().hash(h),
            // As it is compared: with its scale.
            Value::Numeric(n) => n.as_bigint_and_exponent().hash(h),
            Value::Text(s) => s.hash(h),
            Value::Bytes(b) => b.hash(h),
            Value::Float4(x) => x.to_bits().hash(h),
            Value::Date(d) => d.hash(h),
            Value::Time(t) | Value::Timestamp(t) | Value::Timestamptz(t) => t.hash(h),
            Value::Json(s) => s.hash(h),
        }
    }
}

impl fmt::Debug for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

impl Canonical for Value {
    fn encode(&self, to: &mut Encoder) {
        match self {
            Value::Null => to.tag(0),
            Value::Bool(b) => {
                to.tag(1);
                to.tag(u8::from(*b));
            }
            Value::Int(i) => {
                to.tag(2);
                to.number(i.cast_unsigned());
            }
            Value::Float(x) => {
                to.tag(3);
                to.number(x.to_bits());
            }
            Value::Numeric(n) => {
                to.tag(4);
                let (digits, scale) = n.as_bigint_and_exponent();
                to.bytes(&digits.to_signed_bytes_be());
                to.number(scale.cast_unsigned());
            }
            Value::Text(s) => {
                to.tag(5);
                to.text(s);
            }
            Value::Bytes(b) => {
                to.tag(6);
                to.bytes(b);
            }
            Value::Float4(x) => {
                to.tag(7);
                to.number(x.to_bits().into());
            }
            Value::Date(days) => {
                to.tag(8);
                to.number(i64::from(*days).cast_unsigned());
            }
            Value::Time(t) => {
                to.tag(9);
                to.number(t.cast_unsigned());
            }
            Value::Timestamp(t) => {
                to.tag(10);
                to.number(t.cast_unsigned());
            }
            Value::Timestamptz(t) => {
                to.tag(11);
                to.number(t.cast_unsigned());
            }
            Value::Json(s) => {
                to.tag(12);
                to.text(s);
            }
        }
    }
}

/// As a literal in SQL, for explanations.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Null => f.write_str("NULL"),
            Value::Bool(b) => write!(f, "{b}"),
            Value::Int(i) => write!(f, "{i}"),
            Value::Float(x) => write!(f, "{x}"),
            Value::Numeric(n) => f.write_str(&n.to_plain_string()),
            Value::Float4(x) => write!(f, "{x}"),
            Value::Text(s) | Value::Json(s) => write!(f, "'{}'", s.replace('\'', "''")),
            Value::Date(d) => write!(f, "'{}'", datetime::date_text(*d)),
            Value::Time(t) => write!(f, "'{}'", datetime::time_text(*t)),
            Value::Timestamp(t) => write!(f, "'{}'", datetime::timestamp_text(*t, false)),
            Value::Timestamptz(t) => write!(f, "'{}'", datetime::timestamp_text(*t, true)),
            Value::Bytes(b) => {
                f.write_str("'\\x")?;
                b.iter().take(64).try_for_each(|x| write!(f, "{x:02x}"))?;
                f.write_str(if b.len() > 64 { "…'" } else { "'" })
            }
        }
    }
}

impl From<i64> for Value {
    fn from(i: i64) -> Value {
        Value::Int(i)
    }
}

impl From<&str> for Value {
    fn from(s: &str) -> Value {
        Value::text(s)
    }
}

impl From<String> for Value {
    fn from(s: String) -> Value {
        Value::Text(s.into())
    }
}

impl From<Cell> for Value {
    fn from(cell: Cell) -> Value {
        match cell {
            Cell::Null => Value::Null,
            Cell::Bool(b) => Value::Bool(b),
            Cell::Int(i) => Value::Int(i),
            Cell::Float(f) => Value::Float(f),
            Cell::Text(text) => Value::Text(text.into()),
            Cell::Json(text) => Value::Json(text.into()),
            // One that is not a time is none.
            Cell::Timestamp(text) => Value::from_text(&text, Type::Timestamptz).unwrap_or(Value::Null),
        }
    }
}

impl From<bool> for Value {
    fn from(b: bool) -> Value {
        Value::Bool(b)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn json_keeps_integers_exact() {
        for i in [0, JSON_SAFE, JSON_SAFE + 1, i64::MIN, i64::MAX] {
            let v = Value::Int(i);
            assert_eq!(Value::from_json(&v.to_json(), Type::Int8).unwrap(), v);
        }
        assert_eq!(Value::Int(JSON_SAFE + 1).to_json(), Json::from("9007199254740992"));
    }

    #[test]
    fn equal_in_sql_means_equal_probe() {
        let n = |s| Value::parse_number(s).unwrap();
        for (a, b) in [
            (Value::Int(1), Value::Float(1.0)),
            (Value::Int((1 << 53) + 1), Value::Float((1i64 << 53) as f64)),
            (Value::Float(0.0), Value::Float(-0.0)),
            (n("1.50"), Value::Float(1.5)),
            (n("2.0"), Value::Int(2)),
        ] {
            assert_eq!(a.sql_cmp(&b), Some(Ordering::Equal), "{a} = {b}");
            assert_eq!(a.probe(), b.probe(), "{a} = {b}");
        }
    }

    #[test]
    fn huge_exponents_are_refused() {
        assert!(Value::parse_number("1e999999999").is_none());
        assert!(Value::parse_number("1e300").is_some());
    }
}
