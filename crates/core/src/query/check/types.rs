//! Which values may stand beside which, and what a text in quotes means there.

use super::{Checker, Result, SUPPORTED, Typed};
use crate::query::expr::Expr;
use crate::query::syntax::{Location, TypeName, invalid};
use crate::value::{Type, Value};

impl Checker<'_> {
    /// Makes two operands comparable: texts in quotes and blanks take the other side's type.
    pub(super) fn pair(&self, a: Typed, b: Typed) -> Result<(Expr, Expr)> {
        let ty = match (a.ty, b.ty) {
            (Some(x), Some(y)) if x.comparable(y) => {
                // A decimal beside doubles is compared as a double; say so once instead of for every row.
                let double = [x, y].iter().any(|t| matches!(t, Type::Float8 | Type::Float4));
                return Ok(if double { (as_double(a.expr), as_double(b.expr)) } else { (a.expr, b.expr) });
            }
            (Some(x), Some(y)) => {
                return Err(invalid(b.at, format!("{x} cannot be compared with {y}"), format!("a value of type {x}")));
            }
            (Some(x), None) | (None, Some(x)) => x,
            (None, None) => {
                let placeholder = |e: &Expr| matches!(e, Expr::Placeholder(..));
                if placeholder(&a.expr) && placeholder(&b.expr) {
                    return Err(invalid(b.at, "neither side has a type", "a column or a value on one side"));
                }
                Type::Text
            }
        };
        Ok((self.of_type(a.expr, a.ty, ty, a.at)?, self.of_type(b.expr, b.ty, ty, b.at)?))
    }

    pub(super) fn of_type(&self, expr: Expr, ty: Option<Type>, wanted: Type, at: Location) -> Result<Expr> {
        match (expr, ty) {
            (Expr::Placeholder(kind, name, _), None) => Ok(Expr::Placeholder(kind, name, wanted)),
            (Expr::Const(Value::Text(s)), None) => match Value::from_text(&s, wanted) {
                Some(v) => Ok(Expr::Const(v)),
                None => Err(invalid(at, format!("this text is not a value of type {wanted}"), "")),
            },
            (_, Some(ty)) if !ty.comparable(wanted) => {
                Err(invalid(at, format!("a value of type {ty}"), format!("a value of type {wanted}")))
            }
            (expr, _) => Ok(expr),
        }
    }

    /// A value as another type. What could fail on a row is refused here.
    pub(super) fn cast(&self, mut value: Typed, to: &TypeName) -> Result<Typed> {
        let at = to.at;
        let Some(ty) = type_named(&to.name) else {
            return Err(invalid(at, "not the name of a type that values are cast to", "int8, text, date and so on"));
        };
        let from = value.ty;
        let refuse = || {
            let from = from.map_or("this text".to_string(), |t| format!("a value of type {t}"));
            Err(invalid(at, format!("{from} is not cast to {ty} here"), "a cast that cannot fail"))
        };
        let expr = match (std::mem::replace(&mut value.expr, Expr::Const(Value::Null)), value.ty) {
            (Expr::Placeholder(kind, name, _), None) => Expr::Placeholder(kind, name, ty),
            (Expr::Const(Value::Null), _) => Expr::Const(Value::Null),
            (Expr::Const(Value::Text(s)), None) => match Value::from_text(&s, ty) {
                Some(v) => Expr::Const(v),
                None => return Err(invalid(value.at, format!("this text is not a value of type {ty}"), "")),
            },
            (Expr::Const(v), Some(_)) => match Value::from_text(v.to_string().trim_matches('\''), ty) {
                Some(v) => Expr::Const(v),
                None => return refuse(),
            },
            (e, Some(from)) if from == ty => e,
            (e, Some(Type::Text | Type::Bpchar | Type::Uuid | Type::Enum)) if ty == Type::Text => e,
            (e, Some(Type::Int2 | Type::Int4 | Type::Int8 | Type::Bool)) if ty == Type::Text => {
                Expr::TextOf(Box::new(e))
            }
            (e, Some(from)) if from.is_integer() && matches!(ty, Type::Numeric | Type::Float8) => e,
            // No number is lost where the new type is as wide.
            (e, Some(from)) if from.is_integer() && ty.is_integer() && ty >= from => e,
            (e, Some(Type::Float4)) if ty == Type::Float8 => e,
            _ => return refuse(),
        };
        match expr {
            Expr::TextOf(_) => self.node(expr, Some(ty), value.at, value.size),
            expr => Ok(Typed { expr, ty: Some(ty), ..value }),
        }
    }

    /// Takes an expression as a condition.
    pub(super) fn condition(&self, e: Typed) -> Result<Expr> {
        match e.ty {
            Some(Type::Bool) => Ok(e.expr),
            None => self.of_type(e.expr, None, Type::Bool, e.at),
            Some(ty) => Err(invalid(e.at, format!("a value of type {ty} is not a condition"), SUPPORTED)),
        }
    }
}

/// The type that a name in a cast means, in lower case.
fn type_named(name: &str) -> Option<Type> {
    match name {
        "int" | "integer" => Some(Type::Int4),
        "smallint" => Some(Type::Int2),
        "bigint" => Some(Type::Int8),
        "varchar" => Some(Type::Text),
        "boolean" => Some(Type::Bool),
        "decimal" => Some(Type::Numeric),
        "real" => Some(Type::Float4),
        "double precision" => Some(Type::Float8),
        name => Some(Type::named(name)).filter(|t| t.is_compared() && !matches!(t, Type::Any | Type::Enum)),
    }
}

/// Refuses what can only be equal or not.
pub(super) fn ordered(side: &Typed) -> Result<()> {
    match side.ty.filter(|ty| !ty.is_ordered()) {
        Some(ty) => Err(invalid(side.at, format!("values of type {ty} have no order here"), "=, <> or IN")),
        None => Ok(()),
    }
}

fn as_double(e: Expr) -> Expr {
    match e {
        Expr::Const(v @ (Value::Int(_) | Value::Numeric(_))) => match Value::from_text(&v.to_string(), Type::Float8) {
            Some(x) => Expr::Const(x),
            None => Expr::Const(v),
        },
        e => e,
    }
}
