//! What a query makes of the rows that it found, all of them together: groups, the first of each, an order, a window.

use super::group::Group;
use crate::canonical::{Canonical, Encoder};
use crate::query::Expr;
use crate::value::Value;

/// Rows of a window, with those before it: `LIMIT` and `OFFSET` together.
pub const MAX_WINDOW: i64 = 1_000;

/// The operators above the filter that have a state. `None` and empty lists stand for those that a query lacks; they work
/// in the order of the fields.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Arrange {
    /// `GROUP BY`, and `SELECT DISTINCT`.
    pub group: Option<Group>,
    /// `DISTINCT ON`: what those have in common of which the first is taken.
    pub first: Box<[Expr]>,
    /// `ORDER BY`.
    pub order: Box<[SortTerm]>,
    /// `LIMIT`: a constant, once it is bound.
    pub limit: Option<Expr>,
    /// `OFFSET`, likewise.
    pub offset: Option<Expr>,
}

/// A part of `ORDER BY`.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SortTerm {
    /// What is compared.
    pub value: Expr,
    /// Whether the largest is the first.
    pub descending: bool,
    /// Whether NULL is before everything else.
    pub nulls_first: bool,
}

/// The number that a bound `LIMIT` or `OFFSET` is; `None` for NULL, which limits nothing.
fn number(e: &Expr) -> Option<usize> {
    match e {
        Expr::Const(Value::Int(n)) => usize::try_from(*n).ok(),
        _ => None,
    }
}

impl Arrange {
    /// Whether it leaves the rows as they are.
    pub fn is_nothing(&self) -> bool {
        self.group.is_none()
            && self.first.is_empty()
            && self.order.is_empty()
            && self.limit.is_none()
            && self.offset.is_none()
    }

    /// Whether the result is in an order.
    pub fn is_ordered(&self) -> bool {
        !self.order.is_empty()
    }

    /// How many rows come before the window.
    pub fn offset(&self) -> usize {
        self.offset.as_ref().and_then(number).unwrap_or(0)
    }

    /// How many rows are in the window; `None` for all that follow.
    pub fn limit(&self) -> Option<usize> {
        self.limit.as_ref().and_then(number)
    }

    /// Its expressions on the row of the scan.
    pub fn exprs_of_scan(&self) -> Box<dyn Iterator<Item = &Expr> + '_> {
        match &self.group {
            Some(group) => Box::new(group.exprs()),
            None => Box::new(self.exprs_above()),
        }
    }

    /// Its expressions on the row that is shown: that of a group, where there are groups.
    pub fn exprs_above(&self) -> impl Iterator<Item = &Expr> {
        self.first.iter().chain(self.order.iter().map(|term| &term.value))
    }

    /// All its expressions.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        let group = self.group.iter().flat_map(|g| g.exprs().chain([&g.having]));
        group.chain(self.exprs_above()).chain(&self.limit).chain(&self.offset)
    }

    /// The same with its expressions replaced.
    ///
    /// # Errors
    /// Those of `f`.
    pub fn try_map<E>(mut self, mut f: impl FnMut(&Expr) -> Result<Expr, E>) -> Result<Arrange, E> {
        let mut replace = |e: &mut Expr| f(e).map(|new| *e = new);
        if let Some(group) = &mut self.group {
            group.keys.iter_mut().try_for_each(&mut replace)?;
            for aggregate in &mut group.aggregates {
                aggregate.of.iter_mut().try_for_each(&mut replace)?;
                replace(&mut aggregate.filter)?;
            }
            replace(&mut group.having)?;
        }
        self.first.iter_mut().try_for_each(&mut replace)?;
        self.order.iter_mut().try_for_each(|term| replace(&mut term.value))?;
        self.limit.iter_mut().chain(&mut self.offset).try_for_each(replace)?;
        Ok(self)
    }
}

impl Canonical for SortTerm {
    fn encode(&self, to: &mut Encoder) {
        self.value.encode(to);
        to.tag(u8::from(self.descending) << 1 | u8::from(self.nulls_first));
    }
}

impl Canonical for Arrange {
    fn encode(&self, to: &mut Encoder) {
        to.option(self.group.as_ref(), |g, to| g.encode(to));
        to.list(&self.first);
        to.list(&self.order);
        to.option(self.limit.as_ref(), |e, to| e.encode(to));
        to.option(self.offset.as_ref(), |e, to| e.encode(to));
    }
}
