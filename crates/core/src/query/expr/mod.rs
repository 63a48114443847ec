//! Conditions. [`evaluate`] says what one means for a row, [`bind`] fills its placeholders,
//! [`canonicalize`] brings it into canonical form and [`identity`] encodes that, [`show`] writes it as SQL.

mod bind;
mod canonicalize;
mod evaluate;
mod grant;
mod identity;
mod show;
mod subquery;

use std::sync::Arc;

use super::function::Function;
use super::like::LikePattern;
use super::values::ValueList;
use crate::position::Micros;
use crate::schema::{ColumnSet, Table};
use crate::value::{Type, Value};
pub use bind::{MAX_ARRAY, MAX_LIST, PlaceholderError};
pub use evaluate::{Beside, Cells, Masked};
pub use show::{Shown, write_name};

/// A comparison operator.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum CmpOp {
    /// `=`
    Eq,
    /// `<>`
    Ne,
    /// `<`
    Lt,
    /// `<=`
    Le,
    /// `>`
    Gt,
    /// `>=`
    Ge,
}

impl CmpOp {
    /// The same with its sides exchanged: `a < b` is `b > a`.
    pub fn flipped(self) -> CmpOp {
        match self {
            CmpOp::Eq | CmpOp::Ne => self,
            CmpOp::Lt => CmpOp::Gt,
            CmpOp::Le => CmpOp::Ge,
            CmpOp::Gt => CmpOp::Lt,
            CmpOp::Ge => CmpOp::Le,
        }
    }
}

/// A value that is not known when the text is parsed. Parameters and claims are nodes of their own
/// and never text, so that neither can be mistaken for the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Placeholder {
    /// `:name`, given by the client.
    Param,
    /// `claim.name`, from the client's token.
    Claim,
}

/// An expression over the columns of one table. Small, because every feed has several of them, and with a
/// million feeds those that a change touches are not in the cache.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Expr {
    /// A known value.
    Const(Value),
    /// Column of the table, by index.
    Column(usize),
    /// A value to be bound before evaluation.
    Placeholder(Placeholder, Arc<str>, Type),
    /// A comparison.
    Cmp(CmpOp, Box<Expr>, Box<Expr>),
    /// Conjunction; true if empty.
    And(Vec<Expr>),
    /// Disjunction; false if empty.
    Or(Vec<Expr>),
    /// Negation.
    Not(Box<Expr>),
    /// `IS NULL`.
    IsNull(Box<Expr>),
    /// `IN` a list.
    In(Box<Expr>, Vec<Expr>),
    /// `IN` a longer list of constants.
    InValues(Box<Expr>, Arc<ValueList>),
    /// `= ANY` a list that is one parameter, to be bound before evaluation.
    AnyOf(Box<Expr>, Placeholder, Arc<str>, Type),
    /// `IN (SELECT …)` or `EXISTS (SELECT …)`.
    Member {
        /// One expression per column of the sub-select.
        of: Vec<Expr>,
        /// The sub-select.
        subquery: Arc<Subquery>,
        /// Whether it was written as `EXISTS`, which is never unknown.
        exists: bool,
    },
    /// A column of the outer row; occurs only while a [`Subquery`] is being built.
    Outer(usize),
    /// A function, or another expression that is computed.
    Computed(Box<Computed>),
    /// `LIKE` a fixed pattern.
    Like(Box<Expr>, Arc<LikePattern>),
    /// `LIKE` a pattern that is a parameter or claim, with the escape character; or `ILIKE`.
    LikePlaceholder {
        /// What is matched; in lower case, for `ILIKE`.
        of: Box<Expr>,
        /// The pattern.
        pattern: Box<Expr>,
        /// The escape character.
        escape: Option<char>,
        /// Whether it is `ILIKE`.
        ignores_case: bool,
    },
}

const _: () = assert!(size_of::<Expr>() <= 40);

/// An expression that is computed from others.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Computed {
    /// A function of all its arguments.
    Function(Function, Box<[Expr]>),
    /// `CASE WHEN condition THEN value … ELSE otherwise END`: evaluates no more than it needs.
    Case {
        /// Conditions, each with its value.
        arms: Box<[(Expr, Expr)]>,
        /// The value if none of them holds.
        otherwise: Expr,
    },
    /// `COALESCE`: the first that is not `NULL`; evaluates no more than it needs.
    Coalesce(Box<[Expr]>),
    /// `GREATEST` or `LEAST` of those that are not `NULL`.
    Extreme {
        /// Whether it is `GREATEST`.
        greatest: bool,
        /// The values.
        of: Box<[Expr]>,
    },
    /// `IS DISTINCT FROM`: like `<>`, with `NULL` equal to itself.
    Distinct(Expr, Expr),
    /// `NOW()`, and so many microseconds.
    Now(Micros),
}

impl Computed {
    /// The expressions that it is computed from, in order.
    pub fn parts(&self) -> Box<dyn Iterator<Item = &Expr> + '_> {
        match self {
            Computed::Function(_, of) | Computed::Coalesce(of) | Computed::Extreme { of, .. } => Box::new(of.iter()),
            Computed::Case { arms, otherwise } => {
                Box::new(arms.iter().flat_map(|(condition, value)| [condition, value]).chain([otherwise]))
            }
            Computed::Distinct(a, b) => Box::new([a, b].into_iter()),
            Computed::Now(_) => Box::new(std::iter::empty()),
        }
    }

    /// The same with its parts replaced.
    ///
    /// # Errors
    /// Those of `f`.
    pub fn try_map<E>(&self, mut f: impl FnMut(&Expr) -> Result<Expr, E>) -> Result<Computed, E> {
        let mut many = |of: &[Expr]| of.iter().map(&mut f).collect::<Result<Box<[Expr]>, E>>();
        Ok(match self {
            Computed::Function(function, of) => Computed::Function(*function, many(of)?),
            Computed::Coalesce(of) => Computed::Coalesce(many(of)?),
            Computed::Extreme { greatest, of } => Computed::Extreme { greatest: *greatest, of: many(of)? },
            Computed::Case { arms, otherwise } => {
                let arms = arms.iter().map(|(condition, value)| Ok((f(condition)?, f(value)?)));
                Computed::Case { arms: arms.collect::<Result<_, E>>()?, otherwise: f(otherwise)? }
            }
            Computed::Distinct(a, b) => Computed::Distinct(f(a)?, f(b)?),
            Computed::Now(offset) => Computed::Now(*offset),
        })
    }

    /// Whether it has a value whenever its parts have one.
    pub fn is_total(&self) -> bool {
        match self {
            Computed::Function(function, _) => function.is_total(),
            _ => true,
        }
    }
}

impl Expr {
    /// Always true.
    pub fn always() -> Expr {
        Expr::Const(Value::Bool(true))
    }

    /// Whether this is the constant truth value `b`.
    pub fn is_const(&self, b: bool) -> bool {
        *self == Expr::Const(Value::Bool(b))
    }

    /// A number that depends on its first two levels.
    pub(crate) fn weight(&self) -> usize {
        let leaf = |e: &Expr| match e {
            Expr::Column(i) => *i,
            Expr::Const(v) => usize::from(v.is_null()),
            _ => 1,
        };
        match self {
            Expr::Cmp(_, a, b) => leaf(a) + leaf(b),
            Expr::And(all) | Expr::Or(all) => all
                .iter()
                .take(4)
                .map(|e| match e {
                    Expr::Cmp(_, a, b) => leaf(a) + leaf(b),
                    _ => 0,
                })
                .sum(),
            e => leaf(e),
        }
    }

    /// Calls `f` on this expression and on all its parts, except the conditions of sub-selects.
    pub fn for_each<'a>(&'a self, f: &mut impl FnMut(&'a Expr)) {
        f(self);
        match self {
            Expr::Const(_) | Expr::Column(_) | Expr::Outer(_) | Expr::Placeholder(..) => {}
            Expr::Cmp(_, a, b) | Expr::LikePlaceholder { of: a, pattern: b, .. } => {
                a.for_each(f);
                b.for_each(f);
            }
            Expr::Computed(computed) => computed.parts().for_each(|e| e.for_each(f)),
            Expr::And(es) | Expr::Or(es) | Expr::Member { of: es, .. } => es.iter().for_each(|e| e.for_each(f)),
            Expr::Not(e) | Expr::IsNull(e) => e.for_each(f),
            Expr::Like(e, _) | Expr::AnyOf(e, ..) | Expr::InValues(e, _) => e.for_each(f),
            Expr::In(e, es) => {
                e.for_each(f);
                es.iter().for_each(|e| e.for_each(f));
            }
        }
    }

    /// The same with its parts replaced, but for the conditions of sub-selects. What has no parts stays.
    ///
    /// # Errors
    /// Those of `f`.
    pub fn try_map<E>(&self, mut f: impl FnMut(&Expr) -> Result<Expr, E>) -> Result<Expr, E> {
        let f = &mut f;
        let mut boxed = |e: &Expr| f(e).map(Box::new);
        Ok(match self {
            Expr::Const(_) | Expr::Column(_) | Expr::Outer(_) | Expr::Placeholder(..) => self.clone(),
            Expr::Cmp(op, a, b) => Expr::Cmp(*op, boxed(a)?, boxed(b)?),
            Expr::Not(e) => Expr::Not(boxed(e)?),
            Expr::IsNull(e) => Expr::IsNull(boxed(e)?),
            Expr::InValues(e, list) => Expr::InValues(boxed(e)?, list.clone()),
            Expr::Like(e, pattern) => Expr::Like(boxed(e)?, pattern.clone()),
            Expr::AnyOf(e, kind, name, ty) => Expr::AnyOf(boxed(e)?, *kind, name.clone(), *ty),
            Expr::LikePlaceholder { of, pattern, escape, ignores_case } => Expr::LikePlaceholder {
                of: boxed(of)?,
                pattern: boxed(pattern)?,
                escape: *escape,
                ignores_case: *ignores_case,
            },
            Expr::In(e, es) => Expr::In(boxed(e)?, es.iter().map(f).collect::<Result<_, E>>()?),
            Expr::And(es) => Expr::And(es.iter().map(f).collect::<Result<_, E>>()?),
            Expr::Or(es) => Expr::Or(es.iter().map(f).collect::<Result<_, E>>()?),
            Expr::Member { of, subquery, exists } => Expr::Member {
                of: of.iter().map(f).collect::<Result<_, E>>()?,
                subquery: subquery.clone(),
                exists: *exists,
            },
            Expr::Computed(computed) => Expr::Computed(Box::new(computed.try_map(f)?)),
        })
    }

    /// Calls `f` on every column in it, with repetition.
    pub fn for_each_column(&self, f: &mut impl FnMut(usize)) {
        self.for_each(&mut |e| {
            if let Expr::Column(i) = e {
                f(*i);
            }
        });
    }

    /// Calls `f` on every column that is compared by order, with repetition.
    pub fn for_each_ordered_column(&self, f: &mut impl FnMut(usize)) {
        match self {
            Expr::Cmp(CmpOp::Lt | CmpOp::Le | CmpOp::Gt | CmpOp::Ge, a, b) => {
                a.for_each_column(f);
                b.for_each_column(f);
            }
            Expr::And(es) | Expr::Or(es) => es.iter().for_each(|e| e.for_each_ordered_column(f)),
            Expr::Not(e) | Expr::IsNull(e) => e.for_each_ordered_column(f),
            Expr::Computed(computed) => match &**computed {
                Computed::Extreme { of, .. } => of.iter().for_each(|e| e.for_each_column(f)),
                computed => computed.parts().for_each(|e| e.for_each_ordered_column(f)),
            },
            _ => {}
        }
    }

    /// Whether it has a value on every row.
    pub fn is_total(&self) -> bool {
        let mut total = true;
        self.for_each(&mut |e| {
            if let Expr::Computed(computed) = e {
                total &= computed.is_total();
            }
        });
        total
    }

    /// Calls `f` on every comparison of something with `NOW()`: what is compared, and how much is added to `NOW()`.
    pub fn for_each_moment(&self, f: &mut impl FnMut(&Expr, Micros)) {
        self.for_each(&mut |e| {
            if let Expr::Cmp(_, of, now) = e
                && let Expr::Computed(now) = &**now
                && let Computed::Now(offset) = **now
            {
                f(of, offset);
            }
        });
    }

    /// Calls `f` on every claim in it, also in sub-selects.
    pub fn for_each_claim(&self, f: &mut dyn FnMut(&str)) {
        let mut subqueries = Vec::new();
        self.for_each(&mut |e| match e {
            Expr::Placeholder(Placeholder::Claim, name, _) | Expr::AnyOf(_, Placeholder::Claim, name, _) => f(name),
            Expr::Member { subquery, .. } => subqueries.push(subquery),
            _ => {}
        });
        subqueries.iter().flat_map(|asked| asked.conditions()).for_each(|e| e.for_each_claim(f));
    }
}

/// `SELECT columns FROM table WHERE condition`, as a set: of the rows and columns that whoever asks may see.
#[derive(Clone, Debug)]
pub struct Subquery {
    /// Its table.
    pub table: Arc<Table>,
    /// Its columns; none if only the presence of a row matters.
    pub columns: Vec<usize>,
    /// What may be seen of the table; `None` until it is known who asks, and nothing is found.
    grants: Option<Box<[Grant]>>,
    /// The client's condition, on what may be seen.
    condition: Expr,
    /// Identifies all of the above: sub-selects are keys of maps that are read for every row.
    fingerprint: [u8; 16],
}

/// A condition with the columns that are visible where it holds.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Grant {
    /// Holds on the rows that are admitted.
    pub condition: Expr,
    /// Visible on those rows, as they are or masked.
    pub columns: ColumnSet,
    /// What is shown in place of some of them.
    pub masks: Masks,
}

/// What is shown in place of columns, by column.
pub type Masks = Vec<(usize, Mask)>;

/// What a rule shows in place of a column's value: an expression on the whole row, whatever the client may see of it. Where it
/// fails on a row, it is `NULL`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Mask(pub(crate) Expr);
