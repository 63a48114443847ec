//! Which values may stand beside which, and what a text in quotes means there.

use super::{Checker, Result, SUPPORTED, Size, Typed};
use crate::query::expr::{Computed, Expr};
use crate::query::function::{Function, can_cast, is_held_alike, is_total};
use crate::query::syntax::{Location, TypeName, invalid};
use crate::value::{Type, Value};

impl Checker<'_> {
    /// Makes two operands comparable: texts in quotes and blanks take the other side's type.
    ///
    /// Returns them with their size together.
    pub(super) fn pair(&self, a: Typed, b: Typed) -> Result<(Expr, Expr, Size)> {
        let size = a.size.beside(b.size);
        let ty = match (a.ty, b.ty) {
            (Some(x), Some(y)) if x.comparable(y) => {
                // A decimal beside doubles is compared as a double; say so once instead of for every row.
                let double = [x, y].iter().any(|t| matches!(t, Type::Float8 | Type::Float4));
                let (a, b) = if double { (self.as_double(a)?, self.as_double(b)?) } else { (a, b) };
                let size = a.size.beside(b.size);
                return Ok((a.expr, b.expr, size));
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
        Ok((self.of_type(a.expr, a.ty, ty, a.at)?, self.of_type(b.expr, b.ty, ty, b.at)?, size))
    }

    /// A number beside a double, as PostgreSQL converts it there; a column is compared as one without that.
    fn as_double(&self, e: Typed) -> Result<Typed> {
        match (e.expr, e.ty) {
            (Expr::Const(v @ (Value::Int(_) | Value::Numeric(_))), _) => {
                let double = Value::from_text(&v.to_string(), Type::Float8).unwrap_or(v);
                Ok(Typed { expr: Expr::Const(double), ..e })
            }
            (expr @ Expr::Computed(_), Some(Type::Numeric)) => {
                let computed = Computed::Function(Function::Cast(Type::Numeric, Type::Float8), [expr].into());
                self.node(Expr::Computed(Box::new(computed)), Some(Type::Float8), e.at, e.size)
            }
            (expr, _) => Ok(Typed { expr, ..e }),
        }
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

    /// A value as another type.
    pub(super) fn cast(&self, mut value: Typed, to: &TypeName) -> Result<Typed> {
        let at = to.at;
        let Some(ty) = type_named(&to.name) else {
            return Err(invalid(at, "not the name of a type that values are cast to", "int8, text, date and so on"));
        };
        let from = value.ty;
        let refuse = || {
            let from = from.map_or("this text".to_string(), |t| format!("a value of type {t}"));
            let expected = if self.never_fails { "a cast that cannot fail" } else { "another type" };
            Err(invalid(at, format!("{from} is not cast to {ty} here"), expected))
        };
        let expr = std::mem::replace(&mut value.expr, Expr::Const(Value::Null));
        match (expr, from) {
            (Expr::Placeholder(kind, name, _), None) => {
                Ok(Typed { expr: Expr::Placeholder(kind, name, ty), ty: Some(ty), ..value })
            }
            (Expr::Const(Value::Null), _) => Ok(Typed { ty: Some(ty), ..value }),
            (Expr::Const(Value::Text(s)), None) => match Value::from_text(&s, ty) {
                Some(v) => Ok(Typed { expr: Expr::Const(v), ty: Some(ty), ..value }),
                None => Err(invalid(value.at, format!("this text is not a value of type {ty}"), "")),
            },
            (Expr::Const(v), Some(from)) if can_cast(from, ty) => match Function::Cast(from, ty).value(&[v]) {
                Ok(v) => Ok(Typed { expr: Expr::Const(v), ty: Some(ty), ..value }),
                Err(error) => Err(invalid(value.at, error.to_string(), format!("a value of type {ty}"))),
            },
            // In a rule, which grants nothing on an error, only what cannot fail.
            (expr, Some(from)) if can_cast(from, ty) && (!self.never_fails || is_total(from, ty)) => {
                if is_held_alike(from, ty) {
                    return Ok(Typed { expr, ty: Some(ty), ..value });
                }
                let computed = Computed::Function(Function::Cast(from, ty), [expr].into());
                self.node(Expr::Computed(Box::new(computed)), Some(ty), value.at, value.size)
            }
            _ => refuse(),
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

/// As many arguments as a function takes.
pub(super) fn exactly<const N: usize>(args: Vec<Typed>, at: Location) -> Result<[Typed; N]> {
    args.try_into().map_err(|_| invalid(at, "another number of arguments", format!("{N} arguments")))
}
