//! Groups of rows, and what is counted and summed up of each.

use crate::canonical::{Canonical, Encoder};
use crate::query::Expr;
use crate::value::Type;

/// `GROUP BY … HAVING …`. Without keys, all rows are one group, which is there even if no row is.
///
/// A group is a row of its keys' values, then its aggregates' ones. Keys that are equal in SQL are one group.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Group {
    /// What the rows of a group have in common, of the row of the scan.
    pub keys: Box<[Expr]>,
    /// What is computed of a group's rows.
    pub aggregates: Box<[Aggregate]>,
    /// Holds on the groups that are left, on the row of a group.
    pub having: Expr,
}

/// What an aggregate computes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum AggregateFunction {
    /// `COUNT(*)`, or `COUNT(x)`: of values that are not NULL.
    Count,
    /// `SUM(x)`.
    Sum,
    /// `AVG(x)`.
    Avg,
    /// `MIN(x)`.
    Min,
    /// `MAX(x)`.
    Max,
    /// `BOOL_AND(x)`, also called `EVERY`.
    And,
    /// `BOOL_OR(x)`.
    Or,
}

/// `function([DISTINCT] x) FILTER (WHERE …)`
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Aggregate {
    /// The function.
    pub function: AggregateFunction,
    /// What it is of, of the row of the scan; `None` for `COUNT(*)`.
    pub of: Option<Expr>,
    /// The type of that.
    pub of_type: Type,
    /// Whether equal values count once.
    pub distinct: bool,
    /// Holds on the rows that count.
    pub filter: Expr,
}

impl Aggregate {
    /// The type of its value, as in PostgreSQL.
    pub fn ty(&self) -> Type {
        match (self.function, self.of_type) {
            (AggregateFunction::Count, _) => Type::Int8,
            (AggregateFunction::Sum, Type::Int2 | Type::Int4) => Type::Int8,
            (AggregateFunction::Sum, Type::Int8) => Type::Numeric,
            (AggregateFunction::Avg, Type::Float4 | Type::Float8) => Type::Float8,
            (AggregateFunction::Avg, _) => Type::Numeric,
            (AggregateFunction::And | AggregateFunction::Or, _) => Type::Bool,
            (AggregateFunction::Sum | AggregateFunction::Min | AggregateFunction::Max, ty) => ty,
        }
    }

    /// Its expressions on the row of the scan.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        self.of.iter().chain([&self.filter])
    }
}

impl Group {
    /// Its expressions on the row of the scan.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        self.keys.iter().chain(self.aggregates.iter().flat_map(Aggregate::exprs))
    }
}

impl Canonical for Aggregate {
    fn encode(&self, to: &mut Encoder) {
        to.tag(self.function as u8);
        to.option(self.of.as_ref(), |e, to| e.encode(to));
        self.of_type.encode(to);
        to.tag(self.distinct.into());
        self.filter.encode(to);
    }
}

impl Canonical for Group {
    fn encode(&self, to: &mut Encoder) {
        to.list(&self.keys);
        to.list(&self.aggregates);
        self.having.encode(to);
    }
}
