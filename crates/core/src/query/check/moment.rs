//! `NOW()`: only compared with something, so that it is known for each row when that changes.

use super::{Checker, Result, Size, Typed};
use crate::position::Micros;
use crate::query::expr::{CmpOp, Computed, Expr};
use crate::query::function::Arithmetic;
use crate::query::function::interval::Interval;
use crate::query::syntax::{Ast, Location, Node, invalid};
use crate::value::Type;

/// Where `NOW()` may stand.
const PLACE: &str =
    "column < NOW() - INTERVAL '1 hour', or the like with <=, > or >=, in the condition of a live query or of a rule";

/// Comparisons with it in one text. When a row comes or goes is found by trying all of them, each with the whole condition.
const MAX_COMPARISONS: usize = 16;

/// Whether a name is the one of a function for the present moment.
pub(super) fn is_now(name: &str) -> bool {
    ["now", "statement_timestamp", "transaction_timestamp"].iter().any(|known| name.eq_ignore_ascii_case(known))
}

/// `NOW()` where it does not belong.
pub(super) fn misplaced(at: Location) -> crate::query::QueryError {
    invalid(at, "NOW() is not understood here", PLACE)
}

/// What is added to `NOW()` by an expression that is that and nothing else, in microseconds.
///
/// # Errors
/// It is another length than one in days and less.
pub(super) fn offset(e: &Ast) -> Result<Option<Micros>> {
    match &e.node {
        Node::Call(call) if is_now(&call.name.name) && call.args.as_ref().is_some_and(Vec::is_empty) => Ok(Some(0)),
        Node::Arithmetic(op @ (Arithmetic::Add | Arithmetic::Subtract), left, right) => {
            let Some(before) = offset(left)? else { return Ok(None) };
            let Some(interval) = interval(right)? else { return Err(misplaced(right.at)) };
            let signed = if *op == Arithmetic::Add { Some(interval) } else { interval.negated() };
            let micros = signed.and_then(Interval::in_micros).and_then(|m| before.checked_add(m));
            let too_long = "a length in days, hours, minutes or seconds: a month has none that is always the same";
            micros.map(Some).ok_or_else(|| invalid(right.at, "NOW() and months, or too much", too_long))
        }
        _ => Ok(None),
    }
}

/// A length of time that is written out.
///
/// # Errors
/// It is not read.
pub(super) fn interval(e: &Ast) -> Result<Option<Interval>> {
    let Node::Cast(text, ty) = &e.node else { return Ok(None) };
    let Node::Text(text) = &text.node else { return Ok(None) };
    if ty.name != "interval" {
        return Ok(None);
    }
    let expected = "numbers with units, as '90 minutes' or '1 day 02:30'";
    Interval::parse(text).map(Some).ok_or_else(|| invalid(e.at, "this is not a length of time", expected))
}

impl Checker<'_> {
    /// `value op NOW() + offset`; `at` is where `NOW()` stands.
    pub(super) fn compared_with_now(&mut self, op: CmpOp, value: Typed, offset: Micros, at: Location) -> Result<Typed> {
        if !self.knows_now || matches!(op, CmpOp::Eq | CmpOp::Ne) {
            return Err(misplaced(at));
        }
        if self.scopes.last().is_some_and(|scope| scope.table.key.is_empty()) {
            let text = "the rows of this table have no key, so that those that leave cannot be told";
            return Err(invalid(at, text, "a table or topic with a key"));
        }
        if value.ty != Some(Type::Timestamptz) {
            let found = value.ty.map_or("a text".into(), |ty| format!("a value of type {ty}"));
            let expected = match value.ty {
                // Only SQLite has such columns.
                Some(Type::Any) => "a column that is declared as TIMESTAMPTZ",
                _ => "a value of type timestamptz",
            };
            return Err(invalid(value.at, format!("{found} beside NOW()"), expected));
        }
        self.moments += 1;
        if self.moments > MAX_COMPARISONS {
            return Err(invalid(at, "NOW() once more", format!("at most {MAX_COMPARISONS} comparisons with it")));
        }
        let now = Expr::Computed(Box::new(Computed::Now(offset)));
        let size = value.size.beside(Size { depth: 1, nodes: 1 });
        self.node(Expr::Cmp(op, Box::new(value.expr), Box::new(now)), Some(Type::Bool), value.at, size)
    }

    /// `value BETWEEN low AND high`, where one of these is `NOW()` and something.
    pub(super) fn between_moments(&mut self, value: Ast, low: Ast, high: Ast) -> Result<Typed> {
        let value = self.expression(value)?;
        let at = value.at;
        // It stands in both comparisons: it is counted before it is copied.
        self.node(Expr::always(), None, at, value.size.beside(value.size))?;
        let copy = value.copy();
        let lower = self.bound(CmpOp::Ge, value, low)?;
        let upper = self.bound(CmpOp::Le, copy, high)?;
        let size = lower.size.beside(upper.size);
        self.node(Expr::And(vec![lower.expr, upper.expr]), Some(Type::Bool), at, size)
    }

    fn bound(&mut self, op: CmpOp, value: Typed, bound: Ast) -> Result<Typed> {
        if let Some(offset) = offset(&bound)? {
            return self.compared_with_now(op, value, offset, bound.at);
        }
        let (at, bound) = (value.at, self.expression(bound)?);
        let (a, b, size) = self.pair(value, bound)?;
        self.node(Expr::Cmp(op, Box::new(a), Box::new(b)), Some(Type::Bool), at, size)
    }
}
