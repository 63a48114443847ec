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

use crate::schema::{Catalog, ColumnSet, Table};
pub use check::{
    MAX_FUNCTIONS, MAX_NODES, parse_condition, parse_mask, parse_query, parse_trusted_query, queried_table,
};
pub use expr::{Beside, Cells, CmpOp, Expr, Masked, Placeholder, PlaceholderError, Subquery};
pub use syntax::{MAX_DEPTH, MAX_TEXT};
pub use values::ValueList;

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
    /// A parameter is missing, not named in the query, or of the wrong type; or one of the call does not suit the query.
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
