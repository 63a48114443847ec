//! From a syntax tree to a checked query: names find their columns, values their types, and whatever has no meaning here
//! is refused at its place in the text.

mod aggregate;
mod compute;
mod condition;
mod document;
mod joined;
mod mask;
mod moment;
mod names;
mod scope;
mod select;
mod subquery;
mod time;
mod types;

use std::collections::BTreeSet;
use std::sync::Arc;

use serde_json::{Map, Value as Json};

use self::scope::Scope;
use super::syntax::{self, Location, MAX_DEPTH, invalid};
use super::{Expr, QueryError, Visible};
use crate::mask::Mask;
use crate::plan::{Aggregate, LiveQuery};
use crate::schema::{Catalog, Table, TableName};
use crate::value::Type;
use gossip_protocol::spelling::{shortened, similar};

/// Nodes of one expression.
pub const MAX_NODES: usize = 32_768;

/// Functions and the like in one condition. Each may go through a whole text, for every row.
pub const MAX_FUNCTIONS: usize = 256;

type Result<T> = std::result::Result<T, QueryError>;

/// Reads a live query. `params` are checked for names that the text does not use; they are filled in by
/// [`LiveQuery::bind`].
///
/// # Errors
/// The text is no query that is supported, or names what the asker may not see.
pub fn parse_query(text: &str, visible: &dyn Visible, params: &Map<String, Json>) -> Result<LiveQuery> {
    query(text, Checker::default(), visible, params)
}

/// As [`parse_query`], for a query that was not written by a client: it may name the claims of the client that runs it.
///
/// # Errors
/// The text is no query that is supported.
pub fn parse_trusted_query(text: &str, visible: &dyn Visible, params: &Map<String, Json>) -> Result<LiveQuery> {
    query(text, Checker { claims: true, ..Checker::default() }, visible, params)
}

/// The table that a query is about as it is written, before it is known whether there is one.
///
/// # Errors
/// The text is no query.
pub fn queried_table(text: &str) -> Result<TableName> {
    let from = syntax::select(text)?.from;
    let name = |ident: &syntax::Ident| if ident.quoted { ident.name.clone() } else { ident.name.to_lowercase() };
    let schema = from.schema.as_ref().map(name).unwrap_or_default();
    Ok(TableName { schema: schema.into(), name: name(&from.table).into() })
}

fn query<'a>(
    text: &str,
    mut checker: Checker<'a>,
    visible: &'a dyn Visible,
    params: &Map<String, Json>,
) -> Result<LiveQuery> {
    let query = checker.query(syntax::select(text)?, visible)?;
    if let Some(stray) = params.keys().find(|name| !checker.params.contains(name.as_str())) {
        let hint = match similar(stray, checker.params.iter().map(String::as_str)) {
            Some(s) => format!("; did you mean :{s}?"),
            None => String::new(),
        };
        return Err(QueryError::Parameter(format!("parameter :{} is not used by the query{hint}", shortened(stray))));
    }
    Ok(query)
}

/// Reads the row condition of a rule on `table`: all columns and claims may be named, parameters may not, and other
/// tables of the same source may be asked.
///
/// # Errors
/// The text is no condition that is supported.
pub fn parse_condition(text: &str, table: &Arc<Table>, catalog: &Catalog) -> Result<Expr> {
    let mut checker = Checker::of_rule(table, catalog);
    Ok(checker.filter(Some(syntax::expression(text)?))?.0.canonicalize())
}

/// Reads what a rule shows in the place of a column of `table`.
///
/// # Errors
/// The text is no mask that is supported, or not of the column's type.
pub fn parse_mask(text: &str, table: &Arc<Table>, column: usize) -> Result<Mask> {
    let nothing_else = Catalog::default();
    let mut checker = Checker { never_fails: false, knows_now: false, ..Checker::of_rule(table, &nothing_else) };
    checker.mask(syntax::expression(text)?, column)
}

/// An expression with its type, as far as it is known, and where it starts. Made by [`Checker::node`] alone.
struct Typed {
    expr: Expr,
    /// `None`: a quoted text, a blank or NULL, which take the type of what they meet.
    ty: Option<Type>,
    at: Location,
    size: Size,
}

/// How large an expression is.
#[derive(Clone, Copy, Debug, Default)]
struct Size {
    depth: usize,
    nodes: usize,
}

impl Size {
    /// Of several expressions side by side.
    fn beside(self, other: Size) -> Size {
        Size { depth: self.depth.max(other.depth), nodes: self.nodes.saturating_add(other.nodes) }
    }
}

/// The tables that sub-selects may name.
#[derive(Clone, Copy, Default)]
enum Others<'a> {
    /// None: sub-selects are not possible here.
    #[default]
    None,
    /// Those of a rule, which sees all of them.
    OfRule(&'a Catalog),
    /// Those that a client may see.
    OfClient(&'a dyn Visible),
}

/// What names mean at the moment, and which may be used.
#[derive(Default)]
struct Checker<'a> {
    /// The row that is spoken of is the last one's; a sub-select also sees the row of the one before.
    scopes: Vec<Scope>,
    /// The tables that sub-selects may name.
    others: Others<'a>,
    /// Sub-selects that were named.
    subqueries: usize,
    /// Whether claims may be named.
    claims: bool,
    /// The parameters that were named.
    params: BTreeSet<String>,
    /// The aggregates that were named; `None` where there may be none.
    aggregates: Option<Vec<Aggregate>>,
    /// Whether only what has a value on every row is accepted: the condition of a rule.
    never_fails: bool,
    /// Whether `NOW()` may be compared with something here.
    knows_now: bool,
    /// How often it was.
    moments: usize,
}

impl<'a> Checker<'a> {
    fn of_rule(table: &Arc<Table>, catalog: &'a Catalog) -> Checker<'a> {
        let scope = Scope::of(table.clone(), None, table.all_columns());
        Checker {
            scopes: vec![scope],
            others: Others::OfRule(catalog),
            claims: true,
            never_fails: true,
            knows_now: true,
            ..Checker::default()
        }
    }

    /// The condition of a `WHERE`, which holds on all rows if there is none.
    fn filter(&mut self, condition: Option<syntax::Ast>) -> Result<(Expr, Size)> {
        let Some(condition) = condition else { return Ok((Expr::always(), Size::default())) };
        let e = self.computed(condition)?;
        let size = e.size;
        Ok((self.condition(e)?, size))
    }

    /// An expression with no more functions than one may have.
    fn computed(&mut self, e: syntax::Ast) -> Result<Typed> {
        let e = self.expression(e)?;
        let mut functions = 0;
        e.expr.for_each(&mut |e| functions += usize::from(matches!(e, Expr::Computed(_))));
        if functions > MAX_FUNCTIONS {
            let found = format!("{functions} functions and operators");
            return Err(invalid(e.at, found, format!("at most {MAX_FUNCTIONS}")));
        }
        Ok(e)
    }

    /// Every expression that a text becomes is made here, of parts of this size together, so that none is deeper or
    /// larger than all that works on it can bear.
    fn node(&self, expr: Expr, ty: Option<Type>, at: Location, parts: Size) -> Result<Typed> {
        let size = Size { depth: parts.depth + 1, nodes: parts.nodes.saturating_add(1) };
        if size.depth > MAX_DEPTH {
            return Err(invalid(at, "nested too deeply", format!("at most {MAX_DEPTH} levels")));
        }
        if size.nodes > MAX_NODES {
            return Err(invalid(at, "too long a condition", format!("at most {MAX_NODES} parts")));
        }
        Ok(Typed { expr, ty, at, size })
    }

    fn leaf(&self, expr: Expr, ty: Option<Type>, at: Location) -> Result<Typed> {
        self.node(expr, ty, at, Size::default())
    }
}

const SUPPORTED: &str = "comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, ILIKE, IS NULL, IS DISTINCT FROM";
