//! What other rules would have delivered: evaluates the retained transactions under the rules in
//! force and against others.
//!
//! For both, the results of sub-selects are the current ones: their past results are
//! not retained.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::explain::{self, Verdict};
use crate::feed::{self, Change, ChangeError};
use crate::plan::{EffectivePlan, VisibleRow};
use crate::position::{RowChange, Timestamp, Transaction};
use crate::query::QueryError;
use crate::query::Subquery;
use crate::schema::TableName;
use crate::subquery::{SubqueryResults, ValueSet};
use crate::value::Value;

/// Most differences reported per query; the newest.
pub const TOLD: usize = 200;

/// A query under the rules in force and under others.
#[derive(Clone, Debug)]
pub struct Tried {
    /// Under the rules in force.
    pub now: Result<Arc<EffectivePlan>, QueryError>,
    /// Under the others.
    pub then: Result<Arc<EffectivePlan>, QueryError>,
}

impl Tried {
    fn both(&self) -> impl Iterator<Item = &Arc<EffectivePlan>> {
        self.now.iter().chain(self.then.iter())
    }
}

/// The queries and transactions of a what-if. Shares data with the engine that it comes from and
/// can run on another thread.
#[derive(Debug)]
pub struct Trial {
    /// The queries, in the order asked.
    pub asked: Vec<Tried>,
    /// The retained transactions, oldest first.
    pub transactions: VecDeque<(Arc<str>, Arc<Transaction>)>,
    /// The current results of the rules' sub-selects.
    pub subquery_results: BTreeMap<Arc<Subquery>, ValueSet>,
    /// What `NOW()` is, in microseconds since 2000.
    pub moment: Timestamp,
}

/// How other rules would have changed what is heard of a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Effect {
    /// Heard only under the other rules.
    More,
    /// No longer heard under them.
    Less,
    /// Heard under both, but with other contents.
    Otherwise,
}

/// The operation under which a row is heard.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It enters the result.
    Added,
    /// It stays in the result.
    Replaced,
    /// It leaves the result.
    Removed,
    /// The change omits a needed value: the result is read again.
    Anew,
}

/// A row of a transaction that would have been heard differently.
#[derive(Clone, Debug)]
pub struct Difference {
    /// The transaction's source.
    pub source: Arc<str>,
    /// The transaction.
    pub transaction: Arc<Transaction>,
    /// The row's index in it.
    pub row: usize,
    /// The difference.
    pub effect: Effect,
    /// Its verdict under the rules in force, and how it was heard.
    pub now: (Verdict, Option<How>),
    /// The same under the other rules.
    pub then: (Verdict, Option<How>),
}

impl Difference {
    /// The row.
    pub fn row(&self) -> &RowChange {
        &self.transaction.changes[self.row]
    }
}

/// The outcome for one query.
#[derive(Clone, Debug, Default)]
pub struct Outcome {
    /// Rows that are heard only under the other rules.
    pub more: usize,
    /// Rows that are no longer heard.
    pub less: usize,
    /// Rows that are heard with other contents.
    pub otherwise: usize,
    /// The newest differences, newest first.
    pub differences: Vec<Difference>,
}

impl SubqueryResults for Trial {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.subquery_results.get(of)
    }

    fn now(&self) -> Timestamp {
        self.moment
    }
}

impl Trial {
    /// The rules' sub-selects, including nested ones.
    pub fn subqueries(&self) -> BTreeSet<Arc<Subquery>> {
        let mut found = BTreeSet::new();
        let mut next: Vec<Arc<Subquery>> =
            self.asked.iter().flat_map(Tried::both).flat_map(|e| e.subqueries().into_keys()).collect();
        while let Some(subquery) = next.pop() {
            if found.insert(subquery.clone()) {
                next.extend(EffectivePlan::of_subquery(&subquery).subqueries().into_keys());
            }
        }
        found
    }

    /// The sub-selects without a known result. Rules that depend on them seem to admit nothing.
    pub fn unknown(&self) -> Vec<Arc<Subquery>> {
        self.subqueries().into_iter().filter(|l| !self.subquery_results.contains_key(l)).collect()
    }

    /// The tables that queries join: of their rows only the present is known, and not here, so that such queries seem to find nothing.
    pub fn joined(&self) -> BTreeSet<TableName> {
        let joins =
            self.asked.iter().flat_map(Tried::both).flat_map(|e| e.joins.iter().flat_map(|joins| joins.sides()));
        joins.map(|side| side.scan().table().name.clone()).collect()
    }

    /// Evaluates every transaction for every query.
    pub fn run(&self) -> Vec<Outcome> {
        self.asked.iter().map(|tried| self.run_one(tried)).collect()
    }

    fn run_one(&self, tried: &Tried) -> Outcome {
        let mut outcome = Outcome::default();
        for (source, transaction) in self.transactions.iter().rev() {
            for (row, c) in transaction.changes.iter().enumerate().rev() {
                let (now, then) = (self.shown_change(tried.now.as_ref(), c), self.shown_change(tried.then.as_ref(), c));
                let effect = match (&now, &then) {
                    (None, None) => continue,
                    (a, b) if a == b => continue,
                    (None, Some(_)) => Effect::More,
                    (Some(_), None) => Effect::Less,
                    _ => Effect::Otherwise,
                };
                *match effect {
                    Effect::More => &mut outcome.more,
                    Effect::Less => &mut outcome.less,
                    Effect::Otherwise => &mut outcome.otherwise,
                } += 1;
                if outcome.differences.len() < TOLD {
                    let verdict = |e: &Result<Arc<EffectivePlan>, QueryError>, shown_change| match e {
                        Err(_) => Verdict::Withheld,
                        Ok(e) => explain::row_verdict(e, c, self, shown_change),
                    };
                    outcome.differences.push(Difference {
                        source: source.clone(),
                        transaction: transaction.clone(),
                        row,
                        effect,
                        now: (verdict(&tried.now, now.is_some()), now.map(|h| h.how)),
                        then: (verdict(&tried.then, then.is_some()), then.map(|h| h.how)),
                    });
                }
            }
        }
        outcome
    }

    /// What is heard of a row.
    fn shown_change(&self, plan: Result<&Arc<EffectivePlan>, &QueryError>, c: &RowChange) -> Option<ShownChange> {
        let plan = &*plan.ok().filter(|e| e.is_about(c))?.of_rows();
        let cells = |seen: &VisibleRow| plan.shown(seen).map(|(i, v)| (i, v.clone())).collect();
        let shown_change = |how, cells| Some(ShownChange { how, cells });
        match feed::change(plan, c, self, None) {
            Err(ChangeError::MissingValue) => shown_change(How::Anew, vec![]),
            Err(ChangeError::Failed(_)) | Ok(None) => None,
            Ok(Some(Change::Add { row, .. })) => shown_change(How::Added, cells(&row)),
            Ok(Some(Change::Replace { row, .. })) => shown_change(How::Replaced, cells(&row)),
            Ok(Some(Change::Remove { .. })) => shown_change(How::Removed, vec![]),
        }
    }
}

#[derive(PartialEq)]
struct ShownChange {
    how: How,
    cells: Vec<(usize, Value)>,
}
