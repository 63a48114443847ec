//! Bounds within which a condition needs a value.
//!
//! Values are compared coarsely here and bounds belong to what they bound, so that too much may be found by them, never too
//! little.

use std::cmp::Ordering;
use std::sync::Arc;

use crate::datetime::DAY;
use crate::value::Value;

/// A value, as far as its place among others of its kind is concerned. If SQL has one value below another or equal to it, then
/// so it is here, whatever the types of two numbers are: all are rounded in the same way, and so are moments without a zone.
#[derive(Clone, Debug, PartialEq)]
pub enum Coarse {
    /// A number, rounded to a double. Not-a-number is above all others.
    Number(f64),
    /// A text, by its bytes.
    Text(Arc<str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
    /// `false`, then `true`.
    Bool(bool),
    /// The day of a date or timestamp.
    Day(i64),
    /// A time of day or a moment in time, in microseconds.
    Micros(i64),
}

impl Coarse {
    /// The place of a value; `None` for what has no order.
    pub fn of(v: &Value) -> Option<Coarse> {
        Some(match v {
            Value::Int(i) => Coarse::Number(*i as f64),
            Value::Float(x) => Coarse::Number(*x),
            Value::Float4(x) => Coarse::Number((*x).into()),
            // Its text is rounded to the nearest double, to infinity if it is beyond all.
            Value::Numeric(n) => Coarse::Number(n.to_string().parse().ok()?),
            Value::Text(s) => Coarse::Text(s.clone()),
            Value::Bytes(bytes) => Coarse::Bytes(bytes.clone()),
            Value::Bool(b) => Coarse::Bool(*b),
            Value::Date(days) => Coarse::Day((*days).into()),
            Value::Timestamp(i64::MIN) => Coarse::Day(i32::MIN.into()),
            Value::Timestamp(i64::MAX) => Coarse::Day(i32::MAX.into()),
            Value::Timestamp(t) => Coarse::Day(t.div_euclid(DAY)),
            Value::Time(t) | Value::Timestamptz(t) => Coarse::Micros(*t),
            Value::Json(_) | Value::Null => return None,
        })
    }

    /// A number that is less or the same if the place is: most comparisons need no more, and none needs more of numbers and
    /// moments. Above 0, and below the greatest.
    pub fn sketch(&self) -> u128 {
        let kind = u128::from(self.kind() + 1) << 120;
        let of_number = |n: u64| u128::from(n) << 56;
        let of_bytes = |bytes: &[u8]| {
            let mut first = [0; 16];
            let len = bytes.len().min(15);
            first[1..=len].copy_from_slice(&bytes[..len]);
            u128::from_be_bytes(first)
        };
        kind | match self {
            Coarse::Number(x) if x.is_nan() => of_number(u64::MAX),
            // The sign bit of zero is not to tell two equal numbers apart.
            Coarse::Number(x) => {
                let bits = (x + 0.0).to_bits();
                of_number(if bits >> 63 == 1 { !bits } else { bits | 1 << 63 })
            }
            Coarse::Text(s) => of_bytes(s.as_bytes()),
            Coarse::Bytes(bytes) => of_bytes(bytes),
            Coarse::Bool(b) => of_number((*b).into()),
            Coarse::Day(n) | Coarse::Micros(n) => of_number((*n as u64) ^ 1 << 63),
        }
    }

    fn kind(&self) -> u8 {
        match self {
            Coarse::Number(_) => 0,
            Coarse::Text(_) => 1,
            Coarse::Bytes(_) => 2,
            Coarse::Bool(_) => 3,
            Coarse::Day(_) => 4,
            Coarse::Micros(_) => 5,
        }
    }
}

impl Eq for Coarse {}

impl PartialOrd for Coarse {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Coarse {
    fn cmp(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Coarse::Number(a), Coarse::Number(b)) => a.partial_cmp(b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan())),
            (Coarse::Text(a), Coarse::Text(b)) => a.as_bytes().cmp(b.as_bytes()),
            (Coarse::Bytes(a), Coarse::Bytes(b)) => a.cmp(b),
            (Coarse::Bool(a), Coarse::Bool(b)) => a.cmp(b),
            (Coarse::Day(a), Coarse::Day(b)) | (Coarse::Micros(a), Coarse::Micros(b)) => a.cmp(b),
            (a, b) => a.kind().cmp(&b.kind()),
        }
    }
}

/// What lies between two values, both included; `None` is no bound.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Bounds {
    /// The lower end.
    pub low: Option<Coarse>,
    /// The upper end.
    pub high: Option<Coarse>,
}

impl Bounds {
    /// Whether a value lies in it.
    pub fn contains(&self, v: &Coarse) -> bool {
        self.low.as_ref().is_none_or(|low| low <= v) && self.high.as_ref().is_none_or(|high| v <= high)
    }

    /// What lies in both.
    pub fn within(self, other: Bounds) -> Bounds {
        let high = match (self.high, other.high) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
        // No bound is the least of all lower ends.
        Bounds { low: self.low.max(other.low), high }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::value::Type;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 1_000, failure_persistence: None, ..ProptestConfig::default() })]

        /// Where SQL has one value below another, so it is here.
        #[test]
        fn what_is_coarse_never_contradicts(a in 0..VALUES.len(), b in 0..VALUES.len()) {
            let value = |(text, ty): (&str, Type)| Value::from_text(text, ty).unwrap();
            let (a, b) = (value(VALUES[a]), value(VALUES[b]));
            if a.sql_cmp(&b).is_some_and(Ordering::is_le) {
                prop_assert!(Coarse::of(&a) <= Coarse::of(&b), "{:?} {:?}", a, b);
            }
            let order = Coarse::of(&a).zip(Coarse::of(&b)).map(|(a, b)| (a.cmp(&b), a.sketch().cmp(&b.sketch())));
            prop_assert!(order.is_none_or(|(order, of_sketch)| of_sketch == order || of_sketch.is_eq()), "{:?} {:?}", a, b);
        }
    }

    const VALUES: [(&str, Type); 27] = [
        ("9007199254740992", Type::Int8),
        ("9007199254740993", Type::Int8),
        ("9007199254740992.5", Type::Numeric),
        ("9007199254740993.0", Type::Numeric),
        ("9007199254740992", Type::Float8),
        ("9007199254740994", Type::Float8),
        ("1e400", Type::Numeric),
        ("-1e400", Type::Numeric),
        ("1e-400", Type::Numeric),
        ("0", Type::Int8),
        ("-0", Type::Float8),
        ("NaN", Type::Float8),
        ("Infinity", Type::Float8),
        ("-Infinity", Type::Float4),
        ("0.1", Type::Float4),
        ("0.1", Type::Float8),
        ("0.1", Type::Numeric),
        ("2024-02-29", Type::Date),
        ("infinity", Type::Date),
        ("2024-02-29 12:00", Type::Timestamp),
        ("-infinity", Type::Timestamp),
        ("infinity", Type::Timestamp),
        ("", Type::Text),
        ("berth", Type::Text),
        ("berth 0000000000", Type::Text),
        ("berth 0000000001", Type::Text),
        ("berth 00000001", Type::Text),
    ];
}
