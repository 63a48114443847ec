//! `numeric`: exact decimals, and the three values that are not finite.
//!
//! The number of digits after the point that a result shows is PostgreSQL's (`numeric.c`).

use std::sync::Arc;

use bigdecimal::num_bigint::{BigInt, Sign};
use bigdecimal::{BigDecimal, RoundingMode, Zero as _};

use super::error::EvalError;
use super::operator::Arithmetic;
use crate::value::{Type, Value};

/// Most digits of a result, before and after the point together. PostgreSQL has a hundred times as many; what is computed
/// for every row has to be bounded.
pub const MAX_DIGITS: u64 = 1_000;

/// Significant digits that a quotient has at least.
const SIGNIFICANT: i64 = 16;

/// Most digits after the point of a quotient.
const MAX_SCALE: i64 = 1_000;

/// A `numeric`.
#[derive(Clone, Debug, PartialEq)]
pub enum Decimal {
    /// A number; its scale is the number of digits after the point and never negative.
    Finite(BigDecimal),
    /// Larger than all numbers, or smaller.
    Infinite { negative: bool },
    /// Not a number.
    Nan,
}

use Decimal::{Finite, Infinite, Nan};

impl Decimal {
    /// Reads a value of a numeric type in whatever form it is held.
    pub fn of(v: &Value) -> Option<Decimal> {
        Some(match v {
            Value::Int(i) => Finite(BigDecimal::from(*i)),
            Value::Numeric(n) if n.fractional_digit_count() < 0 => Finite(n.with_scale(0)),
            Value::Numeric(n) => Finite((**n).clone()),
            Value::Float(x) if x.is_nan() => Nan,
            Value::Float(x) if x.is_infinite() => Infinite { negative: *x < 0.0 },
            _ => return None,
        })
    }

    /// The value.
    ///
    /// # Errors
    /// It has too many digits.
    pub fn into_value(self) -> Result<Value, EvalError> {
        match self {
            Finite(n) if n.digits() > MAX_DIGITS => Err(EvalError::OutOfRange(Type::Numeric)),
            Finite(n) => Ok(Value::Numeric(Arc::new(n))),
            Infinite { negative } => Ok(Value::Float(if negative { f64::NEG_INFINITY } else { f64::INFINITY })),
            Nan => Ok(Value::Float(f64::NAN)),
        }
    }

    fn is_negative(&self) -> bool {
        match self {
            Finite(n) => n.sign() == Sign::Minus,
            Infinite { negative } => *negative,
            Nan => false,
        }
    }

    fn is_zero(&self) -> bool {
        matches!(self, Finite(n) if n.is_zero())
    }

    /// An operator of arithmetic.
    ///
    /// # Errors
    /// Division by zero.
    pub fn arithmetic(self, op: Arithmetic, other: Decimal) -> Result<Decimal, EvalError> {
        match op {
            Arithmetic::Add => Ok(self.plus(other)),
            Arithmetic::Subtract => Ok(self.plus(other.negated())),
            Arithmetic::Multiply => Ok(self.times(other)),
            Arithmetic::Divide => self.divided_by(other),
            Arithmetic::Modulo => self.modulo(other),
        }
    }

    fn negated(self) -> Decimal {
        match self {
            Finite(n) => Finite(-n),
            Infinite { negative } => Infinite { negative: !negative },
            Nan => Nan,
        }
    }

    /// Its absolute value.
    pub fn abs(self) -> Decimal {
        if self.is_negative() { self.negated() } else { self }
    }

    fn plus(self, other: Decimal) -> Decimal {
        match (self, other) {
            (Finite(a), Finite(b)) => {
                let (a, b, scale) = aligned(&a, &b);
                Finite(BigDecimal::from_bigint(a + b, scale))
            }
            (Nan, _) | (_, Nan) => Nan,
            (Infinite { negative: a }, Infinite { negative: b }) if a != b => Nan,
            (Infinite { negative }, _) | (_, Infinite { negative }) => Infinite { negative },
        }
    }

    fn times(self, other: Decimal) -> Decimal {
        let negative = self.is_negative() != other.is_negative();
        match (self, other) {
            (Finite(a), Finite(b)) => {
                // Digit by digit: zero keeps its scale.
                let ((a, a_scale), (b, b_scale)) = (a.into_bigint_and_scale(), b.into_bigint_and_scale());
                Finite(BigDecimal::from_bigint(a * b, a_scale + b_scale))
            }
            (Nan, _) | (_, Nan) => Nan,
            (a, b) if a.is_zero() || b.is_zero() => Nan,
            _ => Infinite { negative },
        }
    }

    fn divided_by(self, other: Decimal) -> Result<Decimal, EvalError> {
        let negative = self.is_negative() != other.is_negative();
        match (self, other) {
            (Nan, _) | (_, Nan) | (Infinite { .. }, Infinite { .. }) => Ok(Nan),
            (_, Finite(b)) if b.is_zero() => Err(EvalError::DivisionByZero),
            (Infinite { .. }, Finite(_)) => Ok(Infinite { negative }),
            (Finite(_), Infinite { .. }) => Ok(Finite(BigDecimal::zero())),
            (Finite(a), Finite(b)) => Ok(Finite(quotient(&a, &b))),
        }
    }

    fn modulo(self, other: Decimal) -> Result<Decimal, EvalError> {
        match (self, other) {
            (Nan, _) | (_, Nan) => Ok(Nan),
            (_, Finite(b)) if b.is_zero() => Err(EvalError::DivisionByZero),
            (Infinite { .. }, _) => Ok(Nan),
            (a @ Finite(_), Infinite { .. }) => Ok(a),
            (Finite(a), Finite(b)) => {
                let (a, b, scale) = aligned(&a, &b);
                Ok(Finite(BigDecimal::from_bigint(a % b, scale)))
            }
        }
    }

    /// Rounded to so many digits after the point, before it if negative.
    pub fn rounded(self, scale: i64, mode: RoundingMode) -> Decimal {
        match self {
            // What is beyond its first digit is zero, and need not be written out.
            Finite(n) if scale < -(n.digits() as i64) => Finite(BigDecimal::zero()),
            Finite(n) => Finite(n.with_scale_round(scale, mode).with_scale(scale.max(0))),
            other => other,
        }
    }
}

/// The digits of two numbers at the larger scale of both, and that scale.
fn aligned(a: &BigDecimal, b: &BigDecimal) -> (BigInt, BigInt, i64) {
    let scale = a.fractional_digit_count().max(b.fractional_digit_count());
    let digits = |n: &BigDecimal| n.with_scale(scale).into_bigint_and_scale().0;
    (digits(a), digits(b), scale)
}

/// The quotient of two numbers, rounded to the digits that PostgreSQL shows.
fn quotient(a: &BigDecimal, b: &BigDecimal) -> BigDecimal {
    let scale = quotient_scale(a, b);
    let ((a, a_scale), (b, b_scale)) = (a.as_bigint_and_exponent(), b.as_bigint_and_exponent());
    // a / b with one more digit, which decides about rounding: halves go away from zero.
    let shift = scale + 1 - a_scale + b_scale;
    let ten = |n: i64| BigInt::from(10).pow(n.unsigned_abs() as u32);
    let (a, b) = if shift >= 0 { (a * ten(shift), b) } else { (a, b * ten(shift)) };
    BigDecimal::from_bigint(a / b, scale + 1).with_scale_round(scale, RoundingMode::HalfUp)
}

/// `select_div_scale` of PostgreSQL's `numeric.c`.
fn quotient_scale(a: &BigDecimal, b: &BigDecimal) -> i64 {
    let ((a_weight, a_first), (b_weight, b_first)) = (leading(a), leading(b));
    let weight = a_weight - b_weight - i64::from(a_first <= b_first);
    let scale = SIGNIFICANT - weight * 4;
    scale.max(a.fractional_digit_count()).max(b.fractional_digit_count()).clamp(0, MAX_SCALE)
}

/// The weight and the value of a number's first digit other than zero, in base 10,000; 0 and 0 of zero.
fn leading(n: &BigDecimal) -> (i64, i64) {
    if n.is_zero() {
        return (0, 0);
    }
    let (digits, scale) = n.as_bigint_and_exponent();
    let digits = digits.magnitude().to_str_radix(10);
    // The decimal exponent of the first digit.
    let exponent = digits.len() as i64 - 1 - scale;
    let weight = exponent.div_euclid(4);
    let count = exponent.rem_euclid(4) as usize + 1;
    let first: String = digits.chars().chain(std::iter::repeat('0')).take(count).collect();
    (weight, first.parse().unwrap_or(0))
}
