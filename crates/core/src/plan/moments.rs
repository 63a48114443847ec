//! Rows that come into a result, or leave it, as time passes: by the client's condition, or by those of the rules.

use super::{Admitted, EffectivePlan};
use crate::position::Timestamp;
use crate::query::function::EvalError;
use crate::query::{Beside, Cells, Expr, Masked, Subquery};
use crate::schema::Row;
use crate::subquery::{Partner, SubqueryResults, ValueSet};
use crate::value::Value;

/// `NOW()` is a whole second.
const SECOND: Timestamp = 1_000_000;

/// What sub-selects find, at another moment.
struct At<'a> {
    results: &'a dyn SubqueryResults,
    now: Timestamp,
}

impl SubqueryResults for At<'_> {
    fn set(&self, of: &Subquery) -> Option<&ValueSet> {
        self.results.set(of)
    }

    fn partner(&self, table: u64, key: &[Value]) -> Partner<'_> {
        self.results.partner(table, key)
    }

    fn now(&self) -> Timestamp {
        self.now
    }
}

/// The moments after `now` at which a comparison in a condition can become true or false, in order.
///
/// The truth of a comparison with `NOW()` changes once.
fn moments<'a>(conditions: impl Iterator<Item = &'a Expr>, cells: &impl Cells, now: Timestamp) -> Vec<Timestamp> {
    let mut moments = Vec::new();
    for condition in conditions {
        condition.for_each_moment(&mut |of, offset| {
            let at = match of.value(cells).as_deref() {
                // Beyond them lies nothing.
                Ok(Value::Timestamptz(Timestamp::MIN | Timestamp::MAX)) | Err(_) => return,
                Ok(Value::Timestamptz(at)) => at.saturating_sub(offset),
                Ok(_) => return,
            };
            // `>=` holds from the first whole second that is not before it, `>` from the first after it.
            let before = at.div_euclid(SECOND).saturating_mul(SECOND);
            moments.extend([before, before.saturating_add(SECOND)]);
        });
    }
    moments.retain(|at| *at > now);
    moments.sort_unstable();
    moments.dedup();
    moments
}

impl EffectivePlan {
    /// What of a row is in the result at a moment.
    fn at<'a>(&'a self, row: &'a Row, at: &At<'_>) -> Result<Option<Admitted<'a>>, EvalError> {
        let Some(admitted) = self.scan.admit(row, at) else { return Ok(None) };
        Ok(self.passes_alone(&admitted, at)?.then_some(admitted))
    }

    /// When a row comes into the result or leaves it by itself, or more or less of it may be seen, after the moment of
    /// `subquery_results`; `None` if it stays as it is. In microseconds since 2000.
    pub fn next_change(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> Option<Timestamp> {
        if !self.depends_on_time {
            return None;
        }
        let at = |now| At { results: subquery_results, now };
        let mut from = subquery_results.now();
        let at_present = self.at(row, &at(from));
        let grants = self.scan.grants().iter().map(|g| &g.condition);
        let of_rules = moments(grants, &Beside { row, subquery_results }, from);
        // Until one of these comes, the rules show what they show now; and it is on that that the condition is evaluated.
        for until in of_rules.into_iter().map(Some).chain([None]) {
            let admitted = self.scan.admit(row, &at(from));
            let of_condition = admitted.map(|admitted| {
                let beside = at(from);
                let cells = Masked { row: &admitted.row, visible: &admitted.columns, subquery_results: &beside };
                moments([self.condition_of_own()].into_iter(), &cells, from)
            });
            let before = |at: &Timestamp| until.is_none_or(|until| *at < until);
            let candidates = of_condition.into_iter().flatten().take_while(before).chain(until);
            if let Some(found) = candidates.into_iter().find(|moment| self.at(row, &at(*moment)) != at_present) {
                return Some(found);
            }
            from = until?;
        }
        None
    }

    /// Whether a row is in the result, or the query fails on it, or that may become so by itself.
    pub fn sees_at_any_time(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> bool {
        self.sees(row, subquery_results) || self.next_change(row, subquery_results).is_some()
    }
}
