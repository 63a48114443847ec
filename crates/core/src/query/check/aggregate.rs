//! Aggregates: what is counted and summed up of a group's rows.

use super::types::ordered;
use super::{Checker, Result, Size, Typed};
use crate::plan::{Aggregate, AggregateFunction};
use crate::query::Expr;
use crate::query::syntax::{Call, Location, invalid};
use crate::value::Type;

/// Different aggregates of one query.
const MAX_AGGREGATES: usize = 32;

/// The names of aggregates.
const AGGREGATES: [(&str, AggregateFunction); 8] = [
    ("avg", AggregateFunction::Avg),
    ("bool_and", AggregateFunction::And),
    ("bool_or", AggregateFunction::Or),
    ("count", AggregateFunction::Count),
    ("every", AggregateFunction::And),
    ("max", AggregateFunction::Max),
    ("min", AggregateFunction::Min),
    ("sum", AggregateFunction::Sum),
];

/// The aggregate with this name.
pub(super) fn named(name: &str) -> Option<AggregateFunction> {
    AGGREGATES.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, function)| *function)
}

impl Checker<'_> {
    /// An aggregate. It stands in the expression around it as a value of an outer row, until all groups are known.
    pub(super) fn aggregate(&mut self, function: AggregateFunction, call: Call) -> Result<Typed> {
        let at = call.name.at;
        // Its own parts have none.
        let Some(mut aggregates) = self.aggregates.take() else {
            return Err(invalid(at, format!("{} is of many rows", call.name.name), "what every row has by itself"));
        };
        let wanted = self.checked_aggregate(function, call, at);
        let place = wanted.and_then(|wanted| {
            let ty = wanted.ty();
            let place = aggregates.iter().position(|a| *a == wanted).unwrap_or(aggregates.len());
            if place == MAX_AGGREGATES {
                return Err(invalid(at, "too many aggregates", format!("at most {MAX_AGGREGATES}")));
            }
            if place == aggregates.len() {
                aggregates.push(wanted);
            }
            Ok((place, ty))
        });
        self.aggregates = Some(aggregates);
        let (place, ty) = place?;
        self.node(Expr::Outer(place), Some(ty), at, Size::default())
    }

    fn checked_aggregate(&mut self, function: AggregateFunction, call: Call, at: Location) -> Result<Aggregate> {
        let name = call.name.name.to_ascii_lowercase();
        let filter = self.filter(call.filter)?.0;
        let of = match call.args {
            None if function == AggregateFunction::Count && call.distinct.is_none() => None,
            None => return Err(invalid(at, format!("{name}(*)"), format!("{name}(…) of a value"))),
            Some(args) => {
                let count = args.len();
                let Ok([of]) = <[_; 1]>::try_from(args) else {
                    return Err(invalid(at, format!("{name} has {count} arguments"), "1 argument"));
                };
                Some(self.expression(of)?)
            }
        };
        if let Some(distinct) = call.distinct.filter(|_| function != AggregateFunction::Count) {
            return Err(invalid(distinct, format!("DISTINCT in {name}"), "COUNT(DISTINCT …), or no DISTINCT"));
        }
        let ty = of.as_ref().map_or(Some(Type::Int8), |of| of.ty);
        if let Some(of) = &of {
            fits(function, of, call.distinct.is_some())?;
        }
        let of = match (of, function) {
            (Some(of), AggregateFunction::And | AggregateFunction::Or) => Some(self.condition(of)?),
            (of, _) => of.map(|of| of.expr),
        };
        Ok(Aggregate { function, of, of_type: ty.unwrap_or(Type::Text), distinct: call.distinct.is_some(), filter })
    }
}

/// Whether a function is one of such values.
fn fits(function: AggregateFunction, of: &Typed, distinct: bool) -> Result<()> {
    let refuse = |expected: &str| {
        let found = of.ty.map_or("a value without a type".into(), |ty| format!("a value of type {ty}"));
        Err(invalid(of.at, found, expected))
    };
    match (function, of.ty) {
        (AggregateFunction::Count, Some(ty)) if distinct && (!ty.is_compared() || ty == Type::Any) => {
            refuse("values that can be compared")
        }
        (AggregateFunction::Count | AggregateFunction::And | AggregateFunction::Or, _) => Ok(()),
        (AggregateFunction::Sum | AggregateFunction::Avg, Some(ty)) if ty.is_number() => Ok(()),
        (AggregateFunction::Sum | AggregateFunction::Avg, _) => refuse("a number"),
        (_, Some(Type::Bool)) => refuse("BOOL_AND or BOOL_OR"),
        (_, Some(ty)) if ty.is_compared() && ty != Type::Any => ordered(of),
        _ => refuse("values that have an order"),
    }
}
