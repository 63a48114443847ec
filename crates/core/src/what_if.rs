//! What other rules would have let be heard: the transactions that are still remembered, held against the rules in
//! force and against others.
//!
//! What sub-selects find is taken as it is now, for both: what stood in the asked tables when a transaction was
//! committed is not remembered.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::explain::{self, Verdict};
use crate::feed::{self, Change};
use crate::plan::{EffectivePlan, VisibleRow};
use crate::position::{RowChange, Transaction};
use crate::query::QueryError;
use crate::query::Subquery;
use crate::subquery::{SubqueryResults, ValueSet};
use crate::value::Value;

/// Differences that are told of each query; the newest.
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

/// Queries and transactions to be held against each other. Shares what it can with the engine that it comes from and
/// can be run elsewhere.
#[derive(Debug)]
pub struct Trial {
    /// What was asked, in that order.
    pub asked: Vec<Tried>,
    /// The remembered transactions, oldest first.
    pub transactions: VecDeque<(Arc<str>, Arc<Transaction>)>,
    /// What the lookups of the rules find now.
    pub subquery_results: BTreeMap<Arc<Subquery>, ValueSet>,
}

/// How other rules would have changed what is heard of one row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Effect {
    /// Heard only under the other rules.
    More,
    /// No longer heard under them.
    Less,
    /// Heard under both, but not with the same content.
    Otherwise,
}

/// As what a row is heard.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It comes into the result.
    Added,
    /// It was and is in the result.
    Replaced,
    /// It leaves the result.
    Removed,
    /// The change leaves out a value that decides: the result is read anew.
    Anew,
}

/// One row of a transaction of which something else would have been heard.
#[derive(Clone, Debug)]
pub struct Difference {
    /// The transaction's source.
    pub source: Arc<str>,
    /// The transaction.
    pub transaction: Arc<Transaction>,
    /// The row's place in it.
    pub row: usize,
    /// What is different.
    pub effect: Effect,
    /// What became of the row under the rules in force, and how it was heard.
    pub now: (Verdict, Option<How>),
    /// What under the others.
    pub then: (Verdict, Option<How>),
}

impl Difference {
    /// The row.
    pub fn row(&self) -> &RowChange {
        &self.transaction.changes[self.row]
    }
}

/// What came of one query.
#[derive(Clone, Debug, Default)]
pub struct Outcome {
    /// Rows that are heard only under the other rules.
    pub more: usize,
    /// Rows that are no longer heard.
    pub less: usize,
    /// Rows that are heard with another content.
    pub otherwise: usize,
    /// The newest of all these, newest first.
    pub differences: Vec<Difference>,
}

impl SubqueryResults for BTreeMap<Arc<Subquery>, ValueSet> {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.get(of)
    }
}

impl Trial {
    /// The lookups that the rules ask, also through others.
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

    /// Those of them of which nothing is known. Where there are any, rules that ask them seem to admit nothing.
    pub fn unknown(&self) -> Vec<Arc<Subquery>> {
        self.subqueries().into_iter().filter(|l| !self.subquery_results.contains_key(l)).collect()
    }

    /// Holds every transaction against every query.
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
                        Ok(e) => explain::row_verdict(e, c, &self.subquery_results, shown_change),
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

    /// What is heard of a row, as its reader gets it.
    fn shown_change(&self, plan: Result<&Arc<EffectivePlan>, &QueryError>, c: &RowChange) -> Option<ShownChange> {
        let plan = plan.ok().filter(|e| e.is_about(c))?;
        let cells = |seen: &VisibleRow| plan.shown(seen).map(|(i, v)| (i, v.clone())).collect();
        let shown_change = |how, cells| Some(ShownChange { how, cells });
        match feed::change(plan, c, &self.subquery_results, None) {
            Err(feed::MissingValue) => shown_change(How::Anew, vec![]),
            Ok(None) => None,
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
