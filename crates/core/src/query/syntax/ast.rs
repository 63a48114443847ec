//! The syntax tree. Each part knows where it stands in the text.

use super::lexer::{Location, invalid};
use crate::query::function::Arithmetic;
use crate::query::{CmpOp, QueryError};

/// Deepest nesting of an expression. Whatever walks one (checks, evaluates, encodes, drops it) goes down as deep.
pub const MAX_DEPTH: usize = 64;

/// An expression as it was written. Made by [`Ast::new`] alone.
#[derive(Debug)]
pub(crate) struct Ast {
    pub(crate) at: Location,
    pub(crate) node: Node,
    depth: usize,
}

/// What an expression is made of.
#[derive(Debug)]
pub(crate) enum Node {
    Null,
    Bool(bool),
    /// Digits, with a sign if there is one.
    Number(String),
    Text(String),
    /// `:name`
    Param(String),
    /// A name of one or more parts: a column, perhaps with its table, or a claim.
    Name(Vec<Ident>),
    Not(Box<Ast>),
    And(Vec<Ast>),
    Or(Vec<Ast>),
    Compare(CmpOp, Box<Ast>, Box<Ast>),
    /// `value = ANY (list)`
    AnyOf(Box<Ast>, Box<Ast>),
    IsNull(Box<Ast>),
    In(Box<Ast>, Vec<Ast>),
    InSelect(Box<Ast>, Box<Select>),
    Exists(Box<Select>),
    Between {
        value: Box<Ast>,
        low: Box<Ast>,
        high: Box<Ast>,
    },
    Like {
        value: Box<Ast>,
        pattern: Box<Ast>,
        escape: Option<char>,
        /// `ILIKE`
        ignores_case: bool,
    },
    /// `IS DISTINCT FROM`
    Distinct(Box<Ast>, Box<Ast>),
    /// `IS TRUE`, `IS FALSE`, or `IS UNKNOWN`
    IsTruth(Box<Ast>, Option<bool>),
    Arithmetic(Arithmetic, Box<Ast>, Box<Ast>),
    /// `- a`
    Negate(Box<Ast>),
    Case {
        /// What the values after `WHEN` are compared with; without it they are conditions.
        operand: Option<Box<Ast>>,
        arms: Vec<(Ast, Ast)>,
        otherwise: Option<Box<Ast>>,
    },
    Cast(Box<Ast>, TypeName),
    /// `a || b || …`
    Concat(Vec<Ast>),
    /// An operator of json or arrays.
    Infix(Infix, Box<Ast>, Box<Ast>),
    /// A function.
    Call(Box<Call>),
}

/// An operator of json or arrays.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Infix {
    /// `->`, or `->>` as text.
    Part { as_text: bool },
    /// `#>`, or `#>>` as text.
    Path { as_text: bool },
    /// `@>`
    Contains,
    /// `&&`
    Overlaps,
}

/// A function with its arguments.
#[derive(Debug)]
pub(crate) struct Call {
    pub(crate) name: Ident,
    /// `None` for `(*)`.
    pub(crate) args: Option<Vec<Ast>>,
    /// Where `DISTINCT` stands before them.
    pub(crate) distinct: Option<Location>,
    /// `FILTER (WHERE …)`
    pub(crate) filter: Option<Ast>,
}

/// A name as it was written, without quotes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Ident {
    pub(crate) name: String,
    /// Written in double quotes: compared exactly.
    pub(crate) quoted: bool,
    pub(crate) at: Location,
}

/// The name of a type, in lower case.
#[derive(Debug)]
pub(crate) struct TypeName {
    pub(crate) name: String,
    pub(crate) at: Location,
}

/// A table with the schema and the other name that it is given.
#[derive(Debug)]
pub(crate) struct TableRef {
    pub(crate) schema: Option<Ident>,
    pub(crate) table: Ident,
    pub(crate) alias: Option<Ident>,
}

impl TableRef {
    /// Where it stands.
    pub(crate) fn at(&self) -> Location {
        self.schema.as_ref().unwrap_or(&self.table).at
    }

    /// The name as it was written.
    pub(crate) fn full(&self) -> String {
        let schema = self.schema.as_ref().map(|s| format!("{}.", s.name)).unwrap_or_default();
        format!("{schema}{}", self.table.name)
    }
}

/// What is selected.
#[derive(Debug)]
pub(crate) enum Item {
    /// `*`
    Star(Location, Option<Ident>),
    /// An expression, and the name that it is given.
    Expr(Ast, Option<Ident>),
}

/// Which of several equal rows are left.
#[derive(Debug)]
pub(crate) enum Distinct {
    /// All.
    No,
    /// `DISTINCT`: one of each.
    Rows(Location),
    /// `DISTINCT ON (…)`: the first of each.
    On(Location, Vec<Ast>),
}

/// A part of `ORDER BY`.
#[derive(Debug)]
pub(crate) struct OrderBy {
    pub(crate) value: Ast,
    pub(crate) descending: bool,
    pub(crate) nulls_first: bool,
}

/// `SELECT … FROM … WHERE …`
#[derive(Debug)]
pub(crate) struct Select {
    pub(crate) at: Location,
    pub(crate) distinct: Distinct,
    pub(crate) items: Vec<Item>,
    pub(crate) from: TableRef,
    pub(crate) joins: Vec<Join>,
    pub(crate) condition: Option<Ast>,
    pub(crate) tail: Tail,
}

/// `[LEFT] JOIN table ON condition`
#[derive(Debug)]
pub(crate) struct Join {
    pub(crate) at: Location,
    pub(crate) is_left: bool,
    pub(crate) table: TableRef,
    pub(crate) on: Ast,
}

/// What follows the condition.
#[derive(Debug, Default)]
pub(crate) struct Tail {
    pub(crate) group_by: Vec<Ast>,
    pub(crate) having: Option<Ast>,
    pub(crate) order_by: Vec<OrderBy>,
    pub(crate) limit: Option<Ast>,
    pub(crate) offset: Option<Ast>,
}

impl Select {
    /// The deepest of its expressions.
    fn depth(&self) -> usize {
        let of = |item: &Item| if let Item::Expr(e, _) = item { e.depth } else { 0 };
        let conditions = self.condition.iter().chain(self.joins.iter().map(|join| &join.on));
        self.items.iter().map(of).chain(conditions.map(|c| c.depth)).max().unwrap_or(0)
    }
}

impl Node {
    /// The deepest of its parts.
    fn depth(&self) -> usize {
        let of = |all: &[Ast]| all.iter().map(|a| a.depth).max().unwrap_or(0);
        match self {
            Node::Null | Node::Bool(_) | Node::Number(_) | Node::Text(_) | Node::Param(_) | Node::Name(_) => 0,
            Node::Not(a) | Node::IsNull(a) | Node::Cast(a, _) | Node::IsTruth(a, _) | Node::Negate(a) => a.depth,
            Node::And(all) | Node::Or(all) | Node::Concat(all) => of(all),
            Node::Compare(_, a, b)
            | Node::AnyOf(a, b)
            | Node::Distinct(a, b)
            | Node::Arithmetic(_, a, b)
            | Node::Infix(_, a, b) => a.depth.max(b.depth),
            Node::Case { operand, arms, otherwise } => {
                let arms = arms.iter().flat_map(|(when, then)| [when.depth, then.depth]);
                let ends = operand.iter().chain(otherwise).map(|e| e.depth);
                arms.chain(ends).max().unwrap_or(0)
            }
            Node::In(a, list) => a.depth.max(of(list)),
            Node::InSelect(a, select) => a.depth.max(select.depth()),
            Node::Exists(select) => select.depth(),
            Node::Between { value, low, high } => value.depth.max(low.depth).max(high.depth),
            Node::Like { value, pattern, .. } => value.depth.max(pattern.depth),
            Node::Call(call) => {
                let filter = call.filter.as_ref().map_or(0, |e| e.depth);
                filter.max(call.args.as_deref().map_or(0, of))
            }
        }
    }
}

impl Ast {
    /// An expression at its place.
    ///
    /// # Errors
    /// It is deeper than [`MAX_DEPTH`]. How many parts a text becomes is bounded by its length.
    pub(super) fn new(at: Location, node: Node) -> Result<Ast, QueryError> {
        let depth = node.depth() + 1;
        if depth > MAX_DEPTH {
            return Err(invalid(at, "nested too deeply", format!("at most {MAX_DEPTH} levels")));
        }
        Ok(Ast { at, node, depth })
    }

    /// The same at another place: where its brackets open.
    pub(super) fn placed(mut self, at: Location) -> Ast {
        self.at = at;
        self
    }
}
