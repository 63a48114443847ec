//! Explanations for operators: why a transaction did or did not reach a client, and a query's effective plan.

use std::time::Instant;

use gossip_core::engine::{Limits, Refusal, SubId};
use gossip_core::explain::{Passed, Step, Verdict, explain};
use gossip_core::plan::{AccessPath, EffectivePlan};
use gossip_core::value::Value;
use gossip_protocol::system::{SystemRow, VerdictRow};
use gossip_protocol::{RpcError, code};
use serde_json::{Value as Json, json};

use super::question::{Explain, QuestionTarget};
use super::refusal::refused;
use super::state::Node;

impl Node {
    pub(super) fn explain(&self, q: Explain) -> Result<Json, RpcError> {
        let (plan, standing) = match &q.whom {
            QuestionTarget::Subscription(id) => self.engine.inquiry(*id).ok_or_else(|| {
                RpcError::new(
                    code::UNKNOWN_NAME,
                    format!("this instance has no subscription {id}; gossip.clients lists them"),
                )
            })?,
            QuestionTarget::Publisher { to, data, claims } => return Ok(self.explain_publication(to, data, claims)),
            QuestionTarget::Anybody(request) => match self.engine.hypothetical(request) {
                Ok(found) => found,
                Err(e) => {
                    let steps = self.engine.refusal_steps(request, &e);
                    return Ok(json!({"refused": refused(&Refusal::Query(e)).message, "steps": steps}));
                }
            },
        };
        let feed = match &q.whom {
            QuestionTarget::Subscription(id) => self.engine.feed_of_subscription(*id),
            QuestionTarget::Anybody(_) | QuestionTarget::Publisher { .. } => self.engine.feed_of(&plan),
        };
        let id = feed.as_ref().map(|f| f.id);
        let feed =
            feed.map(|f| json!({"id": f.id, "subscriptions": f.subscriptions, "deltas": f.deltas, "held": f.held}));
        let about = json!({
            "query": plan.to_sql(),
            "rows": plan.condition_sql(),
            "then": plan.arranged_sql(),
            "found_by": AccessPath::of(&plan, self.engine.subquery_results()).text(plan.table()),
            "reads": plan.reads(self.engine.subquery_results()),
            "feed": feed,
            "cost_ns": self.cost_ns(&plan.of_rows()),
        });
        let Some((source, position)) = &q.at else { return Ok(about) };
        let t = self.engine.transaction(source, *position).ok_or_else(|| {
            let newest = Limits::default().window;
            let text = format!("transaction {source}:{position} is not remembered; the newest {newest} are");
            RpcError::new(code::UNKNOWN_NAME, text)
        })?;
        let mut steps = explain(&plan, &standing, &t, self.engine.subquery_results());
        if steps.iter().all(|s| s.verdict == Passed::Yes) {
            let mut step = id.and_then(|id| self.engine.window_step(id, &t));
            // The places are those of now; whether it came into the window then is known only of who is observed.
            let recorded = match &q.whom {
                QuestionTarget::Subscription(id) => self.has_matched(*id, &format!("{source}:{position}")),
                QuestionTarget::Anybody(_) | QuestionTarget::Publisher { .. } => None,
            };
            if let (Some(step), Some(has_matched)) = (&mut step, recorded) {
                step.verdict = if has_matched { Passed::Yes } else { Passed::No };
            }
            steps.extend(step);
        }
        let stopped = steps.iter().any(|s| s.verdict != Passed::Yes);
        let passed = if stopped { Passed::NotReached } else { Passed::Yes };
        let text = if stopped { "" } else { "the delta went to the client's queue" };
        steps.push(Step::new("queue", passed, text, vec![]));
        let mut answer = about;
        answer["steps"] = json!(steps);
        Ok(answer)
    }

    /// Whether a transaction changed something for an observed subscription, if that was recorded and is still kept.
    fn has_matched(&self, of: SubId, position: &str) -> Option<bool> {
        self.system.newest(VerdictRow::SHAPE.name).find_map(|row| match &row[..] {
            [Value::Text(at), _, _, Value::Int(sub), Value::Text(verdict), ..]
                if **at == *position && u64::try_from(*sub) == Ok(of) =>
            {
                let is = |known: Verdict| **verdict == *known.word();
                (is(Verdict::Matched) || is(Verdict::Outside)).then_some(is(Verdict::Matched))
            }
            _ => None,
        })
    }

    /// What it costs to hold the newest change of its table against an effective plan, in nanoseconds, measured here
    /// and now.
    fn cost_ns(&self, plan: &EffectivePlan) -> Option<u64> {
        const TIMES: u32 = 32;
        let change = self.engine.newest_change(plan)?;
        let begun = Instant::now();
        for _ in 0..TIMES {
            let _ = std::hint::black_box(gossip_core::feed::change(plan, change, self.engine.subquery_results(), None));
        }
        Some((begun.elapsed() / TIMES).as_nanos() as u64)
    }
}
