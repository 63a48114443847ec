//! The order of values in `ORDER BY`, and which of them are equal in groups: PostgreSQL's, made total.

use std::cmp::Ordering;

use bigdecimal::{BigDecimal, FromPrimitive as _};

use crate::value::Value;

/// A value that is equal to another if SQL says so in a group: 1.0 to 1.00, and NULL to NULL, which comes last.
///
/// A column of SQLite may hold anything, whatever its type. Values of different kinds have an order too, and one in which
/// whatever is sorted can be found again.
#[derive(Clone, Debug)]
pub struct Sql(pub Value);

/// A value, different from those that only SQL takes for the same.
#[derive(Clone, Debug)]
pub struct Exact(pub Value);

/// The place of a value's kind among the others.
fn kind(v: &Value) -> u8 {
    match v {
        Value::Bool(_) => 0,
        Value::Int(_) | Value::Float(_) | Value::Float4(_) | Value::Numeric(_) => 1,
        Value::Text(_) => 2,
        Value::Bytes(_) => 3,
        Value::Date(_) | Value::Timestamp(_) => 4,
        Value::Time(_) => 5,
        Value::Timestamptz(_) => 6,
        Value::Json(_) => 7,
        Value::Null => 8,
    }
}

/// The order of two values.
pub fn compare(a: &Value, b: &Value) -> Ordering {
    match (a, b) {
        (Value::Float(_) | Value::Float4(_), Value::Int(_) | Value::Numeric(_))
        | (Value::Int(_) | Value::Numeric(_), Value::Float(_) | Value::Float4(_)) => exactly(a, b),
        (Value::Json(a), Value::Json(b)) => a.cmp(b),
        _ => a.sql_cmp(b).unwrap_or_else(|| kind(a).cmp(&kind(b))),
    }
}

/// Compares an exact number with a floating-point one: as exact ones, because rounding has no order.
fn exactly(a: &Value, b: &Value) -> Ordering {
    let exact = |v: &Value| match v {
        Value::Int(i) => Some(BigDecimal::from(*i)),
        Value::Numeric(n) => Some((**n).clone()),
        Value::Float(x) => BigDecimal::from_f64(*x),
        Value::Float4(x) => BigDecimal::from_f64((*x).into()),
        _ => None,
    };
    // What is not finite is below all numbers or above them.
    let beyond = |v: &Value| match v {
        Value::Float(x) if x.is_nan() || *x == f64::INFINITY => 1,
        Value::Float4(x) if x.is_nan() || *x == f32::INFINITY => 1,
        Value::Float(x) if x.is_infinite() => -1,
        Value::Float4(x) if x.is_infinite() => -1,
        _ => 0,
    };
    beyond(a).cmp(&beyond(b)).then_with(|| exact(a).cmp(&exact(b)))
}

impl PartialEq for Sql {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Sql {}

impl PartialOrd for Sql {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Sql {
    fn cmp(&self, other: &Self) -> Ordering {
        compare(&self.0, &other.0)
    }
}

impl PartialEq for Exact {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Exact {}

impl PartialOrd for Exact {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Exact {
    fn cmp(&self, other: &Self) -> Ordering {
        compare(&self.0, &other.0).then_with(|| self.0.cmp(&other.0))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::value::Type;

    fn value() -> impl Strategy<Value = Value> {
        let numbers = ["9007199254740992", "9007199254740993", "0", "0.0", "1.50", "1.5", "-3"];
        prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Bool),
            (-2..3_i64).prop_map(Value::Int),
            Just(Value::Int(9_007_199_254_740_993)),
            proptest::sample::select(vec![
                0.0,
                -0.0,
                1.5,
                f64::NAN,
                f64::INFINITY,
                f64::NEG_INFINITY,
                9_007_199_254_740_992.0
            ])
            .prop_map(Value::Float),
            proptest::sample::select(vec![1.5_f32, f32::NAN, f32::NEG_INFINITY]).prop_map(Value::Float4),
            proptest::sample::select(numbers.to_vec())
                .prop_map(|s| Value::from_text(s, Type::Numeric).unwrap_or(Value::Null)),
            "[ab]{0,2}".prop_map(Value::from),
            (0..2_i32).prop_map(Value::Date),
            Just(Value::Timestamp(86_400_000_000)),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 5_000, failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever is sorted can be found again.
        #[test]
        fn the_order_is_total(a in value(), b in value(), c in value()) {
            let (a, b, c) = (Sql(a), Sql(b), Sql(c));
            prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
            if a <= b && b <= c {
                prop_assert!(a <= c, "{:?} {:?} {:?}", a, b, c);
            }
            if let Some(said) = a.0.sql_cmp(&b.0) && a.0.type_of() == b.0.type_of() {
                prop_assert_eq!(a.cmp(&b), said);
            }
        }
    }
}
