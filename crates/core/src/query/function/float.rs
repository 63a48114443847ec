//! `float4` and `float8`: IEEE 754, where PostgreSQL raises an error for a result that left the range; and their texts.

use std::fmt;
use std::str::FromStr;

use bigdecimal::BigDecimal;

use super::error::EvalError;
use super::operator::Arithmetic;
use crate::value::Type;

/// Floating-point numbers of either width.
pub trait Float: Copy + PartialEq + PartialOrd + FromStr + fmt::Display + fmt::LowerExp {
    /// Its type.
    const TYPE: Type;
    /// The decimal exponent from which on its text has an exponent.
    const LONG: i32;
    /// From here on all numbers are whole.
    const WHOLE: Self;
    /// The operator's result.
    fn apply(self, op: Arithmetic, other: Self) -> Self;
    /// Whether it is zero.
    fn is_zero(self) -> bool;
    /// Whether it is not a number.
    fn is_nan(self) -> bool;
    /// Whether it is infinite.
    fn is_infinite(self) -> bool;
    /// Without its sign.
    fn abs(self) -> Self;
    /// The next smaller and the next larger number.
    fn neighbours(self) -> [Self; 2];
}

macro_rules! float {
    ($float:ty, $ty:expr, $long:expr, $whole:expr) => {
        impl Float for $float {
            const TYPE: Type = $ty;
            const LONG: i32 = $long;
            const WHOLE: Self = $whole;

            fn apply(self, op: Arithmetic, other: Self) -> Self {
                match op {
                    Arithmetic::Add => self + other,
                    Arithmetic::Subtract => self - other,
                    Arithmetic::Multiply => self * other,
                    Arithmetic::Divide => self / other,
                    Arithmetic::Modulo => self % other,
                }
            }

            fn is_zero(self) -> bool {
                self == 0.0
            }

            fn is_nan(self) -> bool {
                self.is_nan()
            }

            fn is_infinite(self) -> bool {
                self.is_infinite()
            }

            fn abs(self) -> Self {
                self.abs()
            }

            fn neighbours(self) -> [Self; 2] {
                [self.next_down(), self.next_up()]
            }
        }
    };
}

float!(f32, Type::Float4, 6, 16_777_216.0);
float!(f64, Type::Float8, 15, 9_007_199_254_740_992.0);

/// An operator of arithmetic.
///
/// # Errors
/// Division by zero, or a result that is infinite or zero though neither argument explains it.
pub fn arithmetic<F: Float>(op: Arithmetic, a: F, b: F) -> Result<F, EvalError> {
    let divides = matches!(op, Arithmetic::Divide | Arithmetic::Modulo);
    // Not a number divided by zero stays what it is.
    if divides && b.is_zero() && !a.is_nan() {
        return Err(EvalError::DivisionByZero);
    }
    let result = a.apply(op, b);
    let overflow = result.is_infinite() && !a.is_infinite() && !b.is_infinite();
    let underflow = match op {
        Arithmetic::Multiply => result.is_zero() && !a.is_zero() && !b.is_zero(),
        Arithmetic::Divide => result.is_zero() && !a.is_zero() && !b.is_infinite(),
        _ => false,
    };
    if overflow || underflow { Err(EvalError::OutOfRange(F::TYPE)) } else { Ok(result) }
}

/// The text of a number as PostgreSQL writes it: the shortest that reads back as the same number, with an exponent where it
/// would be long.
pub fn text<F: Float>(x: F) -> String {
    if x.is_nan() {
        return "NaN".into();
    }
    let sign = if x.to_string().starts_with('-') { "-" } else { "" };
    if x.is_infinite() {
        return format!("{sign}Infinity");
    }
    let shortest = shortest(x.abs());
    let Some((mantissa, exponent)) = shortest.split_once('e') else { return shortest };
    let exponent: i32 = exponent.parse().unwrap_or(0);
    let digits: String = mantissa.chars().filter(char::is_ascii_digit).collect();
    let whole = exponent.unsigned_abs() as usize + 1;
    match exponent {
        e if !(-4..F::LONG).contains(&e) => {
            let (first, rest) = digits.split_at(1);
            let point = if rest.is_empty() { "" } else { "." };
            format!("{sign}{first}{point}{rest}e{}{:02}", if e < 0 { '-' } else { '+' }, e.abs())
        }
        ..0 => format!("{sign}0.{}{digits}", "0".repeat(whole - 2)),
        _ if digits.len() <= whole => format!("{sign}{digits:0<whole$}"),
        _ => format!("{sign}{}.{}", &digits[..whole], &digits[whole..]),
    }
}

/// The shortest digits that read back as the same number, as `1.5e3`; of several the nearest, of two equally near ones the
/// even. Not digits that lie exactly between a number and its neighbour, because others may read them as the neighbour: that
/// happens only among numbers that are all whole.
fn shortest<F: Float>(x: F) -> String {
    let reads_back = |s: &str| s.parse::<F>().is_ok_and(|y| y == x);
    let found = format!("{x:e}");
    let count = found.split('e').next().unwrap_or_default().bytes().filter(u8::is_ascii_digit).count();
    // With as many digits, the nearest is written, and of two the even one.
    let nearest = Some(format!("{x:.*e}", count.saturating_sub(1))).filter(|s| reads_back(s)).unwrap_or(found);
    if x < F::WHOLE {
        return nearest;
    }
    let number = |s: &str| s.parse::<BigDecimal>().ok();
    let exact = |x: F| number(&format!("{x:.0}"));
    let sum = |y: F| Some(exact(x)? + exact(y)?);
    let sums = x.neighbours().map(sum);
    let is_between = |s: &str| number(s).is_some_and(|n| sums.contains(&Some(n * 2)));
    if !is_between(&nearest) {
        return nearest;
    }
    let longer = (count..20).map(|digits| format!("{x:.digits$e}"));
    longer.into_iter().find(|s| reads_back(s) && !is_between(s)).unwrap_or(nearest)
}
