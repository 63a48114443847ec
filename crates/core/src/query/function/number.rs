//! Arithmetic and rounding, by the type of the numbers.

use bigdecimal::RoundingMode;

use super::decimal::Decimal;
use super::error::EvalError;
use super::operator::Arithmetic;
use super::{decimal, float};
use crate::value::{Type, Value};

/// Zero as a value of a type of numbers.
pub fn zero(ty: Type) -> Value {
    match ty {
        // Taken from zero, zero changes its sign.
        Type::Float4 => Value::Float4(-0.0),
        Type::Float8 => Value::Float(-0.0),
        _ => Value::Int(0),
    }
}

/// An operator on two numbers of type `ty`.
///
/// # Errors
/// Division by zero, or a result out of the range of `ty`.
pub fn arithmetic(op: Arithmetic, ty: Type, a: &Value, b: &Value) -> Result<Value, EvalError> {
    match ty {
        Type::Numeric => match (Decimal::of(a), Decimal::of(b)) {
            (Some(a), Some(b)) => a.arithmetic(op, b)?.into_value(),
            _ => Ok(Value::Null),
        },
        Type::Float8 => match (double(a), double(b)) {
            (Some(a), Some(b)) => float::arithmetic(op, a, b).map(Value::Float),
            _ => Ok(Value::Null),
        },
        Type::Float4 => match (single(a), single(b)) {
            (Some(a), Some(b)) => float::arithmetic(op, a, b).map(Value::Float4),
            _ => Ok(Value::Null),
        },
        ty => match (a, b) {
            (Value::Int(a), Value::Int(b)) => integer(op, ty, *a, *b).map(Value::Int),
            _ => Ok(Value::Null),
        },
    }
}

fn integer(op: Arithmetic, ty: Type, a: i64, b: i64) -> Result<i64, EvalError> {
    let result = match op {
        Arithmetic::Add => a.checked_add(b),
        Arithmetic::Subtract => a.checked_sub(b),
        Arithmetic::Multiply => a.checked_mul(b),
        Arithmetic::Divide | Arithmetic::Modulo if b == 0 => return Err(EvalError::DivisionByZero),
        Arithmetic::Divide => a.checked_div(b),
        // The smallest number has no opposite, but what remains of it is known.
        Arithmetic::Modulo => Some(a.checked_rem(b).unwrap_or(0)),
    };
    result.filter(|n| ty.holds(*n)).ok_or(EvalError::OutOfRange(ty))
}

/// The absolute value of a number of type `ty`.
///
/// # Errors
/// The smallest integer has none.
pub fn abs(ty: Type, v: &Value) -> Result<Value, EvalError> {
    match ty {
        Type::Numeric => Decimal::of(v).map_or(Ok(Value::Null), |n| n.abs().into_value()),
        Type::Float8 => Ok(double(v).map_or(Value::Null, |x| Value::Float(x.abs()))),
        Type::Float4 => Ok(single(v).map_or(Value::Null, |x| Value::Float4(x.abs()))),
        ty => match v {
            Value::Int(i) => match i.checked_abs().filter(|n| ty.holds(*n)) {
                Some(n) => Ok(Value::Int(n)),
                None => Err(EvalError::OutOfRange(ty)),
            },
            _ => Ok(Value::Null),
        },
    }
}

/// How to get to a whole number.
#[derive(Clone, Copy, Debug)]
pub enum Rounding {
    /// Downwards.
    Floor,
    /// Upwards.
    Ceil,
    /// To the nearest.
    Nearest,
}

/// A `numeric` or `float8` as a whole number.
///
/// # Errors
/// It has too many digits.
pub fn rounded(ty: Type, v: &Value, rounding: Rounding) -> Result<Value, EvalError> {
    if ty == Type::Float8 {
        let round = match rounding {
            Rounding::Floor => f64::floor,
            Rounding::Ceil => f64::ceil,
            Rounding::Nearest => f64::round_ties_even,
        };
        return Ok(double(v).map_or(Value::Null, |x| Value::Float(round(x))));
    }
    let mode = match rounding {
        Rounding::Floor => RoundingMode::Floor,
        Rounding::Ceil => RoundingMode::Ceiling,
        Rounding::Nearest => RoundingMode::HalfUp,
    };
    Decimal::of(v).map_or(Ok(Value::Null), |n| n.rounded(0, mode).into_value())
}

/// A `numeric` with so many digits after the point.
///
/// # Errors
/// It has too many digits.
pub fn round_to(v: &Value, digits: i64) -> Result<Value, EvalError> {
    let most = decimal::MAX_DIGITS as i64 + 1;
    let digits = digits.clamp(-most, most);
    Decimal::of(v).map_or(Ok(Value::Null), |n| n.rounded(digits, RoundingMode::HalfUp).into_value())
}

/// A number as a `float8`.
pub fn double(v: &Value) -> Option<f64> {
    use bigdecimal::ToPrimitive as _;
    match v {
        Value::Int(i) => Some(*i as f64),
        Value::Float(x) => Some(*x),
        Value::Float4(x) => Some((*x).into()),
        Value::Numeric(n) => n.to_string().parse().ok().or_else(|| n.to_f64()),
        _ => None,
    }
}

/// A number as a `float4`.
pub fn single(v: &Value) -> Option<f32> {
    match v {
        Value::Int(i) => Some(*i as f32),
        Value::Float(x) => Some(*x as f32),
        Value::Float4(x) => Some(*x),
        Value::Numeric(n) => n.to_string().parse().ok(),
        _ => None,
    }
}
