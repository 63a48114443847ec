//! What is computed of dates and moments.

use super::types::exactly;
use super::{Checker, Result, Typed};
use crate::query::expr::Expr;
use crate::query::function::interval::Interval;
use crate::query::function::{Arithmetic, Field, Function};
use crate::query::syntax::{Ast, Location, invalid};
use crate::value::{Type, Value};

/// The function that an operator is between two types, if one of them is a date.
pub(super) fn of_dates(op: Arithmetic, left: Option<Type>, right: Option<Type>) -> Option<Function> {
    let days = |ty: Type| matches!(ty, Type::Int2 | Type::Int4);
    match (op, left?, right?) {
        (Arithmetic::Add, Type::Date, ty) if days(ty) => Some(Function::AddDays),
        (Arithmetic::Subtract, Type::Date, ty) if days(ty) => Some(Function::SubtractDays),
        (Arithmetic::Subtract, Type::Date, Type::Date) => Some(Function::DaysBetween),
        _ => None,
    }
}

fn is_moment(ty: Option<Type>) -> bool {
    matches!(ty, Some(Type::Timestamp | Type::Timestamptz))
}

fn refused(e: &Typed, expected: &str) -> crate::query::QueryError {
    let found = e.ty.map_or("a text".into(), |ty| format!("a value of type {ty}"));
    invalid(e.at, format!("{found} is not of a type that has this"), expected)
}

impl Checker<'_> {
    /// A date or moment, and an interval that is added or subtracted.
    pub(super) fn shifted(&mut self, op: Arithmetic, of: Ast, by: Interval, at: Location) -> Result<Typed> {
        let by = match op {
            Arithmetic::Add => Some(by),
            Arithmetic::Subtract => by.negated(),
            _ => None,
        };
        let by = by.ok_or_else(|| invalid(at, "an interval here", "+ or - between a timestamp and an interval"))?;
        let mut of = self.expression(of)?;
        if of.ty == Some(Type::Date) {
            of = self.converted(of, Type::Timestamp)?;
        }
        let Some(ty) = of.ty.filter(|_| is_moment(of.ty)) else {
            return Err(refused(&of, "a date, timestamp or timestamptz beside an interval"));
        };
        self.function(Function::Shift(ty, by), vec![of], at)
    }

    /// `EXTRACT(field FROM value)`.
    pub(super) fn extract(&self, args: Vec<Typed>, at: Location) -> Result<Typed> {
        let [field, of] = exactly(args, at)?;
        let field = field_of(&field)?;
        let of_day = matches!(field, Field::Second | Field::Minute | Field::Hour);
        match of.ty {
            ty if is_moment(ty) => {}
            Some(Type::Date) if !of_day => {}
            Some(Type::Date) => return Err(refused(&of, "a timestamp: a date has no time of day")),
            _ => return Err(refused(&of, "a date, timestamp or timestamptz")),
        }
        self.function(Function::Extract(field), vec![of], at)
    }

    /// `DATE_TRUNC('unit', value)`.
    pub(super) fn truncate(&self, args: Vec<Typed>, at: Location) -> Result<Typed> {
        let [unit, of] = exactly(args, at)?;
        let found = field_of(&unit)?;
        if !found.is_unit() {
            let units: Vec<&str> = Field::words().take_while(|w| *w != "dow").collect();
            return Err(invalid(unit.at, "not a unit of time", units.join(", ")));
        }
        let Some(ty) = of.ty.filter(|_| is_moment(of.ty)) else {
            return Err(refused(&of, "a timestamp or timestamptz"));
        };
        self.function(Function::Truncate(found, ty), vec![of], at)
    }
}

fn field_of(e: &Typed) -> Result<Field> {
    let found = match &e.expr {
        Expr::Const(Value::Text(word)) => Field::named(word),
        _ => None,
    };
    found.ok_or_else(|| invalid(e.at, "not a field of a date or time", Field::words().collect::<Vec<_>>().join(", ")))
}
