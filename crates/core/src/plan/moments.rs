//! Rows that come into a result, or leave it, as time passes.

use super::EffectivePlan;
use crate::position::Timestamp;
use crate::query::Masked;
use crate::schema::Row;
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// `NOW()` is a whole second.
const SECOND: Timestamp = 1_000_000;

impl EffectivePlan {
    /// When the condition becomes true or false on a row by itself, after the moment of `subquery_results`; `None` if it stays
    /// as it is. In microseconds since 2000.
    ///
    /// The truth of a comparison with `NOW()` changes once. So the moments at which all of them do are all that have to be
    /// looked at.
    pub fn next_change(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> Option<Timestamp> {
        if !self.depends_on_time {
            return None;
        }
        let admitted = self.scan.admit(row, subquery_results)?;
        let now = subquery_results.now();
        let cells = Masked { row: &admitted.row, visible: &admitted.columns, now };
        let mut moments = Vec::new();
        self.filter.condition().for_each_moment(&mut |of, offset| {
            let at = match of.value(&cells).as_deref() {
                // Beyond them lies nothing.
                Ok(Value::Timestamptz(Timestamp::MIN | Timestamp::MAX)) | Err(_) => return,
                Ok(Value::Timestamptz(at)) => at.saturating_sub(offset),
                Ok(_) => return,
            };
            // `>=` holds from the first whole second that is not before it, `>` from the first after it.
            let before = at.div_euclid(SECOND).saturating_mul(SECOND);
            moments.extend([before, before.saturating_add(SECOND)]);
        });
        moments.retain(|at| *at > now);
        moments.sort_unstable();
        let passes = |now| self.filter.passes(&admitted, now);
        let at_present = passes(now);
        moments.into_iter().find(|at| passes(*at) != at_present)
    }

    /// Whether a row is in the result, or the query fails on it, or that may become so by itself.
    pub fn sees_at_any_time(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> bool {
        self.sees(row, subquery_results) || self.next_change(row, subquery_results).is_some()
    }
}
