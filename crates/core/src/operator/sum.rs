//! Sums that can be taken back: exact, whatever was added and in which order.

use std::collections::BTreeMap;
use std::sync::Arc;

use bigdecimal::BigDecimal;
use bigdecimal::num_bigint::{BigInt, Sign};
use bigdecimal::num_traits::ToPrimitive as _;

use crate::query::function::{Arithmetic, EvalError, Function};
use crate::value::{Type, Value};

/// The exponent of the smallest double: all doubles are whole multiples of 2 to this power.
const SMALLEST: i32 = -1_074;

/// The sum of numbers of one type. PostgreSQL's results, but that a sum of doubles is exact and rounded once, where
/// PostgreSQL's depends on the order in which rows are read.
#[derive(Debug, Default)]
pub struct Sum {
    /// Numbers that are not NULL.
    count: i64,
    /// Of integers, by itself: it takes no memory elsewhere.
    integers: i128,
    /// Of other finite numbers: in units of 10 to the power of `-scale`, or of 2 to the power of [`SMALLEST`].
    total: BigInt,
    scale: i64,
    /// How many numbers have so many digits after the point, which is what the sum shows.
    scales: BTreeMap<i64, i64>,
    nan: i64,
    infinite: i64,
    negative_infinite: i64,
    /// Zeros with a sign: the sum of nothing else has it too.
    negative_zeros: i64,
}

impl Sum {
    /// Adds a number (`by` is 1), or takes one back (-1). NULL and what is no number changes nothing.
    pub fn add(&mut self, v: &Value, by: i64) {
        let special = |x: f64| match () {
            () if x.is_nan() => Some(0),
            () if x.is_infinite() => Some(if x > 0.0 { 1 } else { -1 }),
            () => None,
        };
        let double = match v {
            Value::Float(x) => Some(*x),
            Value::Float4(x) => Some(f64::from(*x)),
            _ => None,
        };
        match (v, double.and_then(special)) {
            (_, Some(0)) => self.nan += by,
            (_, Some(1)) => self.infinite += by,
            (_, Some(_)) => self.negative_infinite += by,
            // So many that they are too large for it cannot be counted.
            (Value::Int(i), None) => self.integers += i128::from(*i) * i128::from(by),
            (Value::Numeric(n), None) => {
                let n = if n.fractional_digit_count() < 0 { n.with_scale(0) } else { (**n).clone() };
                let (digits, scale) = n.into_bigint_and_scale();
                self.add_decimal(digits, scale, by);
            }
            _ => match double {
                Some(x) => {
                    self.negative_zeros += if x == 0.0 && x.is_sign_negative() { by } else { 0 };
                    self.total += units(x) * by;
                }
                None => return,
            },
        }
        self.count += by;
    }

    fn add_decimal(&mut self, digits: BigInt, scale: i64, by: i64) {
        if scale > self.scale {
            self.total *= ten(scale - self.scale);
            self.scale = scale;
        }
        self.total += digits * ten(self.scale - scale) * by;
        let of_scale = self.scales.entry(scale).or_default();
        *of_scale += by;
        if *of_scale == 0 {
            self.scales.remove(&scale);
        }
    }

    /// The sum of integers and decimals, in units of 10 to the power of `-scale`.
    fn decimal(&self) -> BigInt {
        let integers = BigInt::from(self.integers);
        let integers = if self.scale == 0 { integers } else { integers * ten(self.scale) };
        if self.total.sign() == Sign::NoSign { integers } else { integers + &self.total }
    }

    /// The sum as a value of `ty`; NULL if there is no number.
    ///
    /// # Errors
    /// The type cannot hold it.
    pub fn value(&self, ty: Type) -> Result<Value, EvalError> {
        if self.count == 0 {
            return Ok(Value::Null);
        }
        let out_of_range = EvalError::OutOfRange(ty);
        let special = match (self.nan, self.infinite, self.negative_infinite) {
            (0, 0, 0) => None,
            (0, _, 0) => Some(f64::INFINITY),
            (0, 0, _) => Some(f64::NEG_INFINITY),
            _ => Some(f64::NAN),
        };
        Ok(match (ty, special) {
            (Type::Float4, Some(x)) => Value::Float4(x as f32),
            (_, Some(x)) => Value::Float(x),
            (Type::Float4, None) if self.count == self.negative_zeros => Value::Float4(-0.0),
            (Type::Float8, None) if self.count == self.negative_zeros => Value::Float(-0.0),
            (Type::Float8, None) => {
                Value::Float(Some(rounded(&self.total)).filter(|x| x.is_finite()).ok_or(out_of_range)?)
            }
            (Type::Float4, None) => {
                let single = rounded(&self.total) as f32;
                Value::Float4(Some(single).filter(|x| x.is_finite()).ok_or(out_of_range)?)
            }
            (Type::Numeric, None) => {
                let shown = self.scales.last_key_value().map_or(0, |(scale, _)| *scale);
                let exact = BigDecimal::from_bigint(self.decimal(), self.scale);
                Value::Numeric(Arc::new(if shown == self.scale { exact } else { exact.with_scale(shown) }))
            }
            (_, None) => Value::Int(self.decimal().to_i64().ok_or(out_of_range)?),
        })
    }

    /// The average as a value of `ty`: `numeric` or `float8`; NULL if there is no number.
    ///
    /// # Errors
    /// The type cannot hold it.
    pub fn average(&self, ty: Type) -> Result<Value, EvalError> {
        let count = if ty == Type::Float8 { Value::Float(self.count as f64) } else { Value::Int(self.count) };
        // Here a zero has no sign, in PostgreSQL too.
        let sum = match self.value(ty)? {
            Value::Float(x) => Value::Float(x + 0.0),
            sum => sum,
        };
        Function::Arithmetic(Arithmetic::Divide, ty).value(&[sum, count])
    }
}

fn ten(power: i64) -> BigInt {
    BigInt::from(10).pow(power.unsigned_abs().min(u64::from(u32::MAX)) as u32)
}

/// A finite double in units of 2 to the power of [`SMALLEST`].
fn units(x: f64) -> BigInt {
    let bits = x.to_bits();
    let exponent = (bits >> 52 & 0x7ff) as u32;
    let fraction = bits & ((1 << 52) - 1);
    let digits = if exponent == 0 { fraction } else { fraction | 1 << 52 };
    let magnitude = BigInt::from(digits) << exponent.saturating_sub(1);
    if x.is_sign_negative() { -magnitude } else { magnitude }
}

/// The double nearest to so many units, of two the even one; infinite if there is none.
fn rounded(total: &BigInt) -> f64 {
    let (sign, magnitude) = (total.sign(), total.magnitude());
    let bits = magnitude.bits();
    let dropped = bits.saturating_sub(53);
    let mut digits = (magnitude >> dropped).to_u64().unwrap_or(0);
    if dropped > 0 {
        let half = magnitude.bit(dropped - 1);
        let more = magnitude.trailing_zeros().is_some_and(|zeros| zeros < dropped - 1);
        digits += u64::from(half && (more || digits % 2 == 1));
    }
    let exponent = SMALLEST + i32::try_from(dropped).unwrap_or(i32::MAX / 2);
    let power = match exponent {
        e if e > 1_023 => f64::INFINITY,
        e if e >= -1_022 => f64::from_bits(((e + 1_023) as u64) << 52),
        e => f64::from_bits(1 << (e - SMALLEST)),
    };
    let x = if digits == 0 { 0.0 } else { digits as f64 * power };
    if sign == Sign::Minus { -x } else { x }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2_000, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn one_double_is_its_own_sum(x in any::<f64>().prop_filter("finite", |x| x.is_finite())) {
            prop_assert_eq!(rounded(&units(x)), x);
        }

        /// What was taken back has left no trace, not even of rounding.
        #[test]
        fn a_sum_forgets_what_is_taken_back(kept in any::<f64>(), others in proptest::collection::vec(any::<f64>(), 0..6)) {
            let (mut sum, mut alone) = (Sum::default(), Sum::default());
            alone.add(&Value::Float(kept), 1);
            others.iter().for_each(|x| sum.add(&Value::Float(*x), 1));
            sum.add(&Value::Float(kept), 1);
            others.iter().rev().for_each(|x| sum.add(&Value::Float(*x), -1));
            prop_assert_eq!(sum.value(Type::Float8), alone.value(Type::Float8));
        }
    }

    #[test]
    fn a_sum_is_exact_and_shows_the_digits_of_its_numbers() {
        let (mut sum, mut decimal) = (Sum::default(), Sum::default());
        [1e308, 1.0, 1e308, -1e308, -1e308].iter().for_each(|x| sum.add(&Value::Float(*x), 1));
        assert_eq!(sum.value(Type::Float8), Ok(Value::Float(1.0)));
        sum.add(&Value::Float(f64::MAX), 1);
        sum.add(&Value::Float(f64::MAX), 1);
        assert_eq!(sum.value(Type::Float8), Err(EvalError::OutOfRange(Type::Float8)));
        let number = |s: &str| Value::from_text(s, Type::Numeric).unwrap();
        ["1.50", "2", "-0.5000"].iter().for_each(|s| decimal.add(&number(s), 1));
        assert_eq!(decimal.value(Type::Numeric).unwrap().to_string(), "3.0000");
        decimal.add(&number("-0.5000"), -1);
        assert_eq!(decimal.value(Type::Numeric).unwrap().to_string(), "3.50");
        assert_eq!(decimal.average(Type::Numeric).unwrap().to_string(), "1.7500000000000000");
        // As `any` columns have them, side by side.
        decimal.add(&Value::Int(i64::MAX), 1);
        decimal.add(&Value::Int(2), 1);
        assert_eq!(decimal.value(Type::Numeric).unwrap().to_string(), "9223372036854775812.50");
        assert_eq!(decimal.value(Type::Int8), Err(EvalError::OutOfRange(Type::Int8)));
    }
}
