//! A live query as it was written: checked, before a client's rules are folded into it.

use std::sync::Arc;

use serde_json::{Map, Value as Json};

use super::arrange::{Arrange, MAX_WINDOW, SortTerm};
use super::join::{Join, joined_shape};
use super::project::Project;
use crate::query::expr::MAX_LIST;
use crate::query::{Expr, Placeholder, QueryError, Subquery};
use crate::schema::Table;
use crate::subquery::subqueries_of;
use crate::value::Value;

/// A `SELECT` of one table's rows, checked against the tables that it names and what the client may see of them.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct LiveQuery {
    /// The table whose rows the result has.
    pub table: Arc<Table>,
    /// The tables that are joined to it, in the order in which their rows are found. All that follows speaks of the columns of all
    /// tables, one behind another.
    pub joins: Box<[Join]>,
    /// The condition; may have parameters still to be filled in, as may all that follows.
    pub condition: Expr,
    /// What is wanted of all rows together, if anything.
    pub arrange: Option<Box<Arrange>>,
    /// What is selected, in the order asked for.
    pub project: Project,
}

impl LiveQuery {
    /// The tables that it names, each once, that of its rows first.
    pub fn tables(&self) -> Vec<Arc<Table>> {
        let mut found = vec![self.table.clone()];
        for join in &self.joins {
            if found.iter().all(|table| table.name != join.table.name) {
                found.push(join.table.clone());
            }
        }
        let mut next: Vec<Arc<Subquery>> = subqueries_of([&self.condition]).into_keys().collect();
        while let Some(asked) = next.pop() {
            next.extend(subqueries_of([asked.condition()]).into_keys());
            if found.iter().all(|table| table.name != asked.table.name) {
                found.push(asked.table.clone());
            }
        }
        found
    }

    /// Whether an expression speaks of the query's own table alone.
    pub fn is_of_own(&self, e: &Expr) -> bool {
        let mut is = true;
        e.for_each_column(&mut |i| is &= i < self.table.columns.len());
        is
    }

    /// The part of the condition that speaks of its own table alone.
    pub fn condition_of_own(&self) -> Expr {
        match &self.condition {
            Expr::And(all) => Expr::And(all.iter().filter(|e| self.is_of_own(e)).cloned().collect()).canonicalize(),
            e if self.is_of_own(e) => e.clone(),
            _ => Expr::always(),
        }
    }

    /// What the row is like that its expressions speak of.
    pub fn shape(&self) -> Table {
        joined_shape([&self.table].into_iter().chain(self.joins.iter().map(|join| &join.table)).map(|table| &**table))
    }

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

    /// The column that orders a window, if it is one and that is a column: its first rows are the first of that.
    pub fn first_by(&self) -> Option<usize> {
        let arrange = self.arrange.as_ref().filter(|a| a.limit.is_some() && a.group.is_none() && a.first.is_empty());
        let arrange = arrange.filter(|_| self.joins.is_empty())?;
        match arrange.order.first()?.value {
            Expr::Column(column) => Some(column),
            _ => None,
        }
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
        for join in &mut self.joins {
            join.condition = bound(&join.condition)?;
        }
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
    if limit.is_none() && offset.is_some() {
        return Err(QueryError::Parameter("OFFSET without LIMIT, which is NULL".into()));
    }
    match limit.unwrap_or(0).saturating_add(offset.unwrap_or(0)) {
        rows if rows > MAX_WINDOW => Err(QueryError::Parameter(format!(
            "LIMIT and OFFSET together are {rows} rows; at most {MAX_WINDOW} are possible"
        ))),
        _ => Ok(arrange),
    }
}
