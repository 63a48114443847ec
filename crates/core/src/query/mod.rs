//! From the text of a live query to a checked plan.
//!
//! The language is a subset of SQL with PostgreSQL's meaning; what is not supported is refused with its place in the
//! text, never ignored. [`syntax`] says what was written, [`check`] what it means, [`expr`] what that is on a row.

mod check;
pub mod expr;
pub mod function;
pub mod like;
mod syntax;
pub mod values;

use std::fmt;
use std::sync::Arc;

use serde_json::{Map, Value as Json};

use crate::plan::{Arrange, MAX_WINDOW, Project, SortTerm};
use crate::schema::{Catalog, ColumnSet, Table};
use crate::value::Value;
pub use check::{MAX_FUNCTIONS, MAX_NODES, parse_condition, parse_mask, parse_query, parse_trusted_query};
use expr::MAX_LIST;
pub use expr::{Beside, Cells, CmpOp, Expr, Masked, Placeholder, PlaceholderError, Subquery};
pub use syntax::{MAX_DEPTH, MAX_TEXT};
pub use values::ValueList;

/// A `SELECT` on one table, checked against the table and what the client may see of it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct LiveQuery {
    /// The table that it reads.
    pub table: Arc<Table>,
    /// The condition; may have parameters still to be filled in, as may all that follows.
    pub condition: Expr,
    /// What is wanted of all rows together, if anything.
    pub arrange: Option<Box<Arrange>>,
    /// What is selected, in the order asked for.
    pub project: Project,
}

impl LiveQuery {
    /// All expressions on the table's rows that decide what is in the result: the condition, what is computed, and what is
    /// grouped and ordered by.
    pub fn decisive_exprs(&self) -> Vec<&Expr> {
        let grouped = self.arrange.as_ref().is_some_and(|a| a.group.is_some());
        let computed = self.project.exprs().filter(|e| !grouped && !matches!(e, Expr::Column(_)));
        let arranged = self.arrange.iter().flat_map(|a| a.exprs_of_scan());
        [&self.condition].into_iter().chain(arranged).chain(computed).collect()
    }

    /// The expressions on the table's rows that the result is ordered by.
    pub fn sorted_exprs(&self) -> Vec<&Expr> {
        let Some(arrange) = &self.arrange else { return Vec::new() };
        let Some(group) = &arrange.group else { return arrange.order.iter().map(|term| &term.value).collect() };
        let of_key = |term: &'_ SortTerm| match term.value {
            Expr::Column(i) => group.keys.get(i),
            _ => None,
        };
        arrange.order.iter().filter_map(of_key).collect()
    }

    /// Binds the client's parameters, and the claims that a trusted query names.
    ///
    /// # Errors
    /// A parameter is missing, not used, or not of the type that it is compared with.
    pub fn bind(mut self, params: &Map<String, Json>, claims: &Map<String, Json>) -> Result<LiveQuery, QueryError> {
        let (mut of_params, mut of_claims) = (MAX_LIST, MAX_LIST);
        let mut bound = |e: &Expr| -> Result<Expr, QueryError> {
            let e = e.bind_within(Placeholder::Param, params, &mut of_params)?;
            Ok(e.bind_within(Placeholder::Claim, claims, &mut of_claims)?.canonicalize())
        };
        self.condition = bound(&self.condition)?;
        if let Project::Items(items) = &mut self.project {
            for item in items {
                item.value = bound(&item.value)?;
            }
        }
        self.arrange = match self.arrange.take() {
            Some(arrange) => Some(Box::new(within_window(arrange.try_map(bound)?)?)),
            None => None,
        };
        Ok(self)
    }
}

/// Checks the bound numbers of `LIMIT` and `OFFSET`.
fn within_window(arrange: Arrange) -> Result<Arrange, QueryError> {
    let number = |e: &Option<Expr>, word: &str| match e {
        None | Some(Expr::Const(Value::Null)) => Ok(None),
        Some(Expr::Const(Value::Int(n))) if *n >= 0 => Ok(Some(*n)),
        Some(_) => Err(QueryError::Parameter(format!("{word} is not a number from 0 to {MAX_WINDOW}"))),
    };
    let (limit, offset) = (number(&arrange.limit, "LIMIT")?, number(&arrange.offset, "OFFSET")?);
    match limit.unwrap_or(0).saturating_add(offset.unwrap_or(0)) {
        rows if rows > MAX_WINDOW => Err(QueryError::Parameter(format!(
            "LIMIT and OFFSET together are {rows} rows; at most {MAX_WINDOW} are possible"
        ))),
        _ => Ok(arrange),
    }
}

/// Why a query is refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum QueryError {
    /// The text is not valid or not supported.
    Invalid {
        /// Line, from 1.
        line: u64,
        /// Column in characters, from 1.
        column: u64,
        /// What is wrong.
        message: String,
        /// What would have been understood here.
        expected: String,
    },
    /// A table or column that does not exist or that the client may not see. The two are never distinguished.
    NotKnown {
        /// Line, from 1.
        line: u64,
        /// Column in characters, from 1.
        column: u64,
        /// `table` or `column`.
        kind: &'static str,
        /// The name as it was written.
        name: String,
        /// A similar name that the client may see.
        similar: Option<String>,
    },
    /// A parameter is missing, not named in the query, or of the wrong type.
    Parameter(String),
}

impl fmt::Display for QueryError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            QueryError::Invalid { line, column, message, expected } => {
                write!(f, "line {line}, column {column}: {message}")?;
                if expected.is_empty() { Ok(()) } else { write!(f, "; expected {expected}") }
            }
            QueryError::NotKnown { line, column, kind, name, similar } => {
                write!(f, "line {line}, column {column}: {kind} {name} is not known or not permitted")?;
                match similar {
                    Some(s) => write!(f, "; did you mean {s}?"),
                    None => Ok(()),
                }
            }
            QueryError::Parameter(text) => f.write_str(text),
        }
    }
}

impl std::error::Error for QueryError {}

impl From<PlaceholderError> for QueryError {
    fn from(e: PlaceholderError) -> Self {
        QueryError::Parameter(match e.name.as_str() {
            "pattern" => format!("the pattern of LIKE {}", e.problem),
            name if e.placeholder == Placeholder::Claim => format!("the query needs claim.{name}, which {}", e.problem),
            name => format!("parameter :{name} {}", e.problem),
        })
    }
}

/// What a query may name: the tables and, in each, the columns.
pub trait Visible {
    /// The table under this name and the columns of it that may be named, `None` if it is unknown or not permitted.
    fn table(&self, schema: Option<&str>, name: &str, quoted: bool) -> Option<(Arc<Table>, ColumnSet)>;

    /// The names of all tables that may be named, for suggestions.
    fn names(&self) -> Vec<String>;
}

/// All tables with all their columns: for rules and trusted queries.
impl Visible for Catalog {
    fn table(&self, schema: Option<&str>, name: &str, quoted: bool) -> Option<(Arc<Table>, ColumnSet)> {
        let table = self.find(schema, name, quoted)?;
        Some((table.clone(), table.all_columns()))
    }

    fn names(&self) -> Vec<String> {
        self.iter().map(|t| t.name.to_string()).collect()
    }
}
