//! From text to a syntax tree: what was written, before names and types mean anything.
//!
//! Tokens by `logos`, a grammar of our own. A live query is a small part of SQL, and everything outside of it must be
//! refused at its place with what is supported instead; a parser of all SQL would accept, and so invite us to overlook,
//! far more. Operators bind as in PostgreSQL: `OR`, `AND`, `NOT`, `IS`, comparisons, then `IN`, `BETWEEN` and `LIKE`,
//! then `||` and casts.

mod ast;
mod expression;
mod keyword;
mod lexer;
mod select;
mod tokens;

pub use ast::MAX_DEPTH;
pub(super) use ast::{Ast, Call, Distinct, Ident, Infix, Item, Join, Node, OrderBy, Select, TableRef, Tail, TypeName};
use lexer::Spanned;
pub(super) use lexer::{Location, invalid};

use super::QueryError;

/// Longest text of a query or condition, in bytes.
pub const MAX_TEXT: usize = 64 * 1024;

/// Deepest nesting of brackets, `NOT` and functions: what the parser itself goes down by.
const MAX_BRACKETS: usize = 48;

type Result<T> = std::result::Result<T, QueryError>;

/// Reads a `SELECT`.
///
/// # Errors
/// Where the text leaves the grammar, and what would have been understood there.
pub(super) fn select(text: &str) -> Result<Select> {
    let mut p = Parser::new(text)?;
    let select = p.select()?;
    p.end_of_query()?;
    Ok(select)
}

/// Reads an expression that is the whole text.
///
/// # Errors
/// As [`select`].
pub(super) fn expression(text: &str) -> Result<Ast> {
    let mut p = Parser::new(text)?;
    let e = p.expression(0)?;
    p.end()?;
    Ok(e)
}

/// A text on its way to a tree.
struct Parser<'a> {
    tokens: Vec<Spanned<'a>>,
    next: usize,
    end: Location,
}

const OPERAND: &str = "a column, a value, :parameter or ( … )";
