//! The parser: tokens by `logos`, a grammar of our own.
//!
//! A grammar of our own, because a live query is a small part of SQL and everything outside of it must be refused at
//! its place with what is supported instead; a parser of all SQL would accept, and so invite us to overlook, far more.
//! Binding strength is PostgreSQL's: `OR`, `AND`, `NOT`, `IS`, comparisons, then `IN`, `BETWEEN` and `LIKE`.

mod condition;
mod keyword;
mod lexer;
mod lookahead;
mod mask;
mod select;
mod subquery;
mod types;

use std::collections::BTreeSet;
use std::sync::Arc;

use serde_json::{Map, Value as Json};

use self::lexer::{Location, Spanned};
use super::{Expr, LiveQuery, QueryError, Visible};
use crate::mask::Mask;
use crate::schema::{Catalog, ColumnSet, Table};
use crate::value::Type;
use gossip_protocol::spelling::{shortened, similar};

/// Longest text of a query or condition, in bytes.
pub const MAX_TEXT: usize = 64 * 1024;

/// Deepest nesting of brackets, `NOT` and functions: what the parser itself goes down by.
const MAX_BRACKETS: usize = 48;

/// Deepest nesting of an expression. Whatever walks one (evaluates, encodes, drops it) goes down as deep.
pub const MAX_DEPTH: usize = 64;

/// Nodes of one expression.
pub const MAX_NODES: usize = 32_768;

type Result<T> = std::result::Result<T, QueryError>;

/// Reads a live query. `params` are checked for names that the text does not use; they are filled in by
/// [`LiveQuery::bind`].
///
/// # Errors
/// The text is no query that is supported, or names what the asker may not see.
pub fn parse_query(text: &str, visible: &dyn Visible, params: &Map<String, Json>) -> Result<LiveQuery> {
    query(Parser::new(text)?, visible, params)
}

/// As [`parse_query`], for a query that no client has written: it may name the claims of whoever asks.
///
/// # Errors
/// The text is no query that is supported.
pub fn parse_trusted_query(text: &str, visible: &dyn Visible, params: &Map<String, Json>) -> Result<LiveQuery> {
    let mut p = Parser::new(text)?;
    p.claims = true;
    query(p, visible, params)
}

fn query(mut p: Parser<'_>, visible: &dyn Visible, params: &Map<String, Json>) -> Result<LiveQuery> {
    let query = p.query(visible)?;
    if let Some(stray) = params.keys().find(|name| !p.params.contains(name.as_str())) {
        let hint = match similar(stray, p.params.iter().map(String::as_str)) {
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
    let mut p = Parser::of_rule(text, table, catalog)?;
    let e = p.expression(0)?;
    let condition = p.condition(e)?;
    p.end()?;
    Ok(condition.canonicalize())
}

/// Reads what a rule shows in the place of a column of `table`.
///
/// # Errors
/// The text is no mask that is supported, or not of the column's type.
pub fn parse_mask(text: &str, table: &Arc<Table>, column: usize) -> Result<Mask> {
    let nothing_else = Catalog::default();
    let mut p = Parser::of_rule(text, table, &nothing_else)?;
    let mask = p.mask(column)?;
    p.end()?;
    Ok(mask)
}

/// What column names mean at the moment.
struct Scope {
    table: Arc<Table>,
    /// The other name that the table was given.
    alias: Option<String>,
    visible: ColumnSet,
}

/// An expression with its type, as far as it is known, and where it starts. Made by [`Parser::node`] alone.
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

struct Parser<'a> {
    tokens: Vec<Spanned<'a>>,
    next: usize,
    end: Location,
    /// The row that is spoken of is the last one's; a sub-select also sees the row of the one before.
    scopes: Vec<Scope>,
    /// The tables that sub-selects may name. Only rules have it.
    catalog: Option<&'a Catalog>,
    /// Whether claims may be named.
    claims: bool,
    params: BTreeSet<String>,
}

impl<'a> Parser<'a> {
    /// Every expression that a text becomes is made here, of parts of this size together, so that none is deeper or
    /// larger than all that works on it can bear.
    fn node(&self, expr: Expr, ty: Option<Type>, at: Location, parts: Size) -> Result<Typed> {
        let size = Size { depth: parts.depth + 1, nodes: parts.nodes.saturating_add(1) };
        if size.depth > MAX_DEPTH {
            return Err(lexer::invalid(at, "nested too deeply", format!("at most {MAX_DEPTH} levels")));
        }
        if size.nodes > MAX_NODES {
            return Err(lexer::invalid(at, "too long a condition", format!("at most {MAX_NODES} parts")));
        }
        Ok(Typed { expr, ty, at, size })
    }

    fn of_rule(text: &'a str, table: &Arc<Table>, catalog: &'a Catalog) -> Result<Parser<'a>> {
        let mut p = Parser::new(text)?;
        p.scopes.push(Scope { table: table.clone(), alias: None, visible: table.all_columns() });
        p.catalog = Some(catalog);
        p.claims = true;
        Ok(p)
    }
}

const OPERAND: &str = "a column, a value, :parameter or ( … )";
const SUPPORTED: &str = "comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, IS NULL";
