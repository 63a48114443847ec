//! Conditions: what they are made of. [`evaluate`] says what one means for a row, [`bind`] fills its placeholders,
//! [`canonicalize`] gives those that mean the same one form and [`identity`] that form its bytes, [`show`] writes SQL.

mod bind;
mod canonicalize;
mod evaluate;
mod identity;
mod show;

use std::cmp::Ordering;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::like::LikePattern;
use super::values::ValueList;
use crate::canonical::{Canonical as _, Encoder};
use crate::schema::Table;
use crate::value::{Type, Value};
pub use bind::{MAX_LIST, PlaceholderError};
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

/// Where a value comes from that is not known when the text is parsed. Parameters and claims are nodes of their own
/// and never text, so that neither can pass for the other.
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
    /// A value to be filled in before evaluation.
    Placeholder(Placeholder, Arc<str>, Type),
    /// A comparison.
    Cmp(CmpOp, Box<Expr>, Box<Expr>),
    /// All of them; true if empty.
    And(Vec<Expr>),
    /// Any of them; false if empty.
    Or(Vec<Expr>),
    /// The opposite.
    Not(Box<Expr>),
    /// `IS NULL`.
    IsNull(Box<Expr>),
    /// `IN` a list.
    In(Box<Expr>, Vec<Expr>),
    /// `IN` a longer list of constants.
    InValues(Box<Expr>, Arc<ValueList>),
    /// `= ANY` a list that is one value of the client's, to be filled in before evaluation.
    AnyOf(Box<Expr>, Placeholder, Arc<str>, Type),
    /// Whether the values are among those that another table holds.
    Member {
        /// One value per column of the lookup.
        of: Vec<Expr>,
        /// What the other table is asked for.
        subquery: Arc<Subquery>,
        /// Whether it was written as `EXISTS`, which is never unknown.
        exists: bool,
    },
    /// A column of the row around a sub-select; only on the way to a [`Subquery`].
    Outer(usize),
    /// The text of a number or truth value.
    TextOf(Box<Expr>),
    /// `LIKE` a fixed pattern.
    Like(Box<Expr>, Arc<LikePattern>),
    /// `LIKE` a pattern that is a parameter or claim, with the escape character.
    LikePlaceholder(Box<Expr>, Box<Expr>, Option<char>),
}

const _: () = assert!(size_of::<Expr>() <= 40);

impl Expr {
    /// Always true.
    pub fn always() -> Expr {
        Expr::Const(Value::Bool(true))
    }

    /// Whether this is the constant truth value `b`.
    pub fn is_const(&self, b: bool) -> bool {
        *self == Expr::Const(Value::Bool(b))
    }

    /// A number that follows from its first two levels.
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

    /// Calls `f` on this expression and on all that it is made of. What a lookup asks of its own table is apart.
    pub fn for_each<'a>(&'a self, f: &mut impl FnMut(&'a Expr)) {
        f(self);
        match self {
            Expr::Const(_) | Expr::Column(_) | Expr::Outer(_) | Expr::Placeholder(..) => {}
            Expr::Cmp(_, a, b) | Expr::LikePlaceholder(a, b, _) => {
                a.for_each(f);
                b.for_each(f);
            }
            Expr::And(es) | Expr::Or(es) | Expr::Member { of: es, .. } => es.iter().for_each(|e| e.for_each(f)),
            Expr::Not(e) | Expr::IsNull(e) | Expr::TextOf(e) => e.for_each(f),
            Expr::Like(e, _) | Expr::AnyOf(e, ..) | Expr::InValues(e, _) => e.for_each(f),
            Expr::In(e, es) => {
                e.for_each(f);
                es.iter().for_each(|e| e.for_each(f));
            }
        }
    }

    /// Calls `f` on every column that is named, with repetition.
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
            _ => {}
        }
    }

    /// Calls `f` on every claim that is named, also in lookups.
    pub fn for_each_claim(&self, f: &mut dyn FnMut(&str)) {
        let mut subqueries = Vec::new();
        self.for_each(&mut |e| match e {
            Expr::Placeholder(Placeholder::Claim, name, _) | Expr::AnyOf(_, Placeholder::Claim, name, _) => f(name),
            Expr::Member { subquery, .. } => subqueries.push(subquery),
            _ => {}
        });
        subqueries.into_iter().for_each(|l| l.condition.for_each_claim(f));
    }
}

/// `SELECT columns FROM table WHERE condition`, as a set.
#[derive(Clone, Debug)]
pub struct Subquery {
    /// The table that is asked.
    pub table: Arc<Table>,
    /// The columns whose values are looked for; none where only the presence of a row matters.
    pub columns: Vec<usize>,
    /// Which of its rows count.
    pub condition: Expr,
    /// Differs where anything of the above does: lookups stand in maps that are asked for every row.
    fingerprint: [u8; 16],
}

impl Subquery {
    /// Brings the condition into its agreed form.
    pub fn new(table: Arc<Table>, columns: Vec<usize>, condition: Expr) -> Subquery {
        let condition = condition.canonicalize();
        let mut subquery = Subquery { table, columns, condition, fingerprint: [0; 16] };
        let mut identity = Encoder::new("look-up");
        subquery.encode(&mut identity);
        subquery.fingerprint.copy_from_slice(&identity.digest()[..16]);
        subquery
    }

    /// Whether no row can ever count.
    pub fn is_empty(&self) -> bool {
        self.condition.is_const(false) || self.condition == Expr::Const(Value::Null)
    }
}

impl PartialEq for Subquery {
    fn eq(&self, other: &Self) -> bool {
        self.fingerprint == other.fingerprint
    }
}

impl Eq for Subquery {}

impl Hash for Subquery {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.fingerprint.hash(state);
    }
}

impl PartialOrd for Subquery {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Subquery {
    fn cmp(&self, other: &Self) -> Ordering {
        self.fingerprint.cmp(&other.fingerprint)
    }
}
