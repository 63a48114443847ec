//! Subscriptions whose rights come from the decision service: requested before they begin, renewed before they expire, and
//! closed when they expire without an answer.

use std::sync::Arc;
use std::time::{Duration, Instant};

use gossip_core::engine::{Input, Refusal, Request, SubId};
use gossip_core::explain::{Passed, Step};
use gossip_core::query::QueryError;
use gossip_core::rule::{Claims, RuleText};
use gossip_core::schema::TableName;
use gossip_protocol::RpcError;
use serde_json::{Value as Json, json};

use super::command::Command;
use super::question::{Answer, Explain, QuestionTarget};
use super::state::{Node, Outside, Target};
use crate::authz_webhook::{Decided, Undecided, with};

/// Time between two attempts while an answer still holds.
const AGAIN: Duration = Duration::from_secs(1);

impl Node {
    /// Begins a subscription, at once or when it is decided who may see what of it.
    pub(super) fn begin(&mut self, id: SubId, request: Request) {
        let table = match self.decided_outside(&request) {
            Ok(Some(table)) => table,
            Ok(None) => return self.handle(Input::Subscribe(id, Box::new(request))),
            Err(why) => return self.closed(id, Refusal::Query(why)),
        };
        let (params, claims) = (request.params.clone(), request.claims.clone());
        let outside = Outside { table, params, pending: Some(request), decided: None, next: None };
        self.outside.insert(id, outside);
        self.request_decision(id, claims);
    }

    /// The table of a request, if its rights are decided by the decision service. A client without a rule on it is refused at once.
    ///
    /// # Errors
    /// The request asks several tables, and the rights on one of them are decided: what is decided about one table adds to the claims, and
    /// must not decide about another.
    fn decided_outside(&self, request: &Request) -> Result<Option<String>, QueryError> {
        let Some(decisions) = self.start.decisions.as_ref() else { return Ok(None) };
        let tables = self.engine.tables_named(request);
        let rules = self.engine.rules();
        let decided = |table: &&TableName| {
            let concerns = |r: &RuleText| r.table == **table && request.claims.roles.contains(&r.role);
            decisions.concern(&table.to_string()) && rules.texts().iter().any(concerns)
        };
        let Some(table) = tables.iter().find(decided) else { return Ok(None) };
        if tables.len() > 1 {
            let text =
                format!("the decision service decides who may read {table}: a query of it cannot name another table");
            return Err(QueryError::Parameter(text));
        }
        Ok(Some(table.to_string()))
    }

    /// Answers an operator's question, once it is decided outside what is decided there.
    pub(super) fn explain_decided(&mut self, question: Explain, answer: Answer) {
        let of = match &question.whom {
            QuestionTarget::Anybody(request) => match self.decided_outside(request) {
                Ok(table) => table.map(|table| (table, request.clone())),
                Err(why) => {
                    let step = Step::new("decision", Passed::No, why.to_string(), vec![]);
                    let _ = answer.send(Ok(json!({"refused": why.to_string(), "steps": [step]})));
                    return;
                }
            },
            QuestionTarget::Subscription(_) | QuestionTarget::Publisher { .. } => None,
        };
        let (Some((table, request)), Some(decisions)) = (of, self.start.decisions.clone()) else {
            let _ = answer.send(self.explain(question));
            return;
        };
        let asks = self.start.asks.clone();
        tokio::spawn(async move {
            let decided = decisions.decide(&request.claims, &table, &request.params, false).await;
            if let Some(asks) = asks.upgrade() {
                let _ = asks.send(Command::ExplainDecided(question, decided, answer)).await;
            }
        });
    }

    /// The answer with what was decided, as its first step.
    pub(super) fn explain_with(
        &self,
        mut question: Explain,
        decided: &Result<Decided, Undecided>,
    ) -> Result<Json, RpcError> {
        let (passed, text, values) = match decided {
            Ok(decided) => {
                let names: Vec<&str> = decided.facts.keys().map(String::as_str).collect();
                let values = if names.is_empty() { vec![] } else { vec![format!("it adds {}", names.join(", "))] };
                (Passed::Yes, "the decision service permits it".to_string(), values)
            }
            Err(Undecided::Refused) => (Passed::No, "the decision service refuses it".into(), vec![]),
            Err(Undecided::Failed(why)) => (
                Passed::No,
                "the decision service did not answer, and without it there are no rights".into(),
                vec![why.clone()],
            ),
        };
        let step = Step::new("decision", passed, text.clone(), values);
        match (decided, &mut question.whom) {
            (Ok(decided), QuestionTarget::Anybody(request)) => request.claims = with(&request.claims, &decided.facts),
            _ => return Ok(json!({"refused": text, "steps": [step]})),
        }
        let mut answer = self.explain(question)?;
        match answer["steps"].as_array_mut() {
            Some(steps) => steps.insert(0, json!(step)),
            None => answer["steps"] = json!([step]),
        }
        Ok(answer)
    }

    fn request_decision(&self, id: SubId, claims: Arc<Claims>) {
        let (Some(decisions), Some(of)) = (self.start.decisions.clone(), self.outside.get(&id)) else { return };
        let (table, params, asks) = (of.table.clone(), of.params.clone(), self.start.asks.clone());
        let again = of.decided.is_some();
        tokio::spawn(async move {
            let answer = decisions.decide(&claims, &table, &params, again).await;
            if let Some(asks) = asks.upgrade() {
                let _ = asks.send(Command::Decided(id, claims, answer)).await;
            }
        });
    }

    /// An answer has come for the claims that a client had.
    pub(super) fn decided(&mut self, id: SubId, claims: Arc<Claims>, answer: Result<Decided, Undecided>) {
        let Some(sub) = self.subs.get(&id) else {
            self.outside.remove(&id);
            return;
        };
        let now_claims = match &sub.target {
            Target::Client(client) => client.claims.lock().clone(),
            Target::Once(_) | Target::Reservation(_) => claims.clone(),
        };
        if now_claims != claims {
            return self.request_decision(id, now_claims);
        }
        let half = self.start.decisions.as_ref().map_or(AGAIN, |d| d.cache() / 2);
        let again = AGAIN.min(half / 2);
        let Some(of) = self.outside.get_mut(&id) else { return };
        match answer {
            Ok(decided) => {
                let claims = with(&claims, &decided.facts);
                let next = (decided.until.checked_sub(half).unwrap_or(decided.until)).max(Instant::now() + again);
                let next = next.min(decided.until);
                of.decided = Some(decided);
                let pending = of.pending.take();
                if matches!(sub.target, Target::Client(_)) {
                    self.recheck_later(id, next);
                } else {
                    // One result, once.
                    self.forget_decision(id);
                }
                match pending {
                    // Compiled before, it was for other claims.
                    Some(request) => {
                        self.handle(Input::Subscribe(id, Box::new(Request { claims, compiled: None, ..request })))
                    }
                    None => self.handle(Input::Claims(vec![id], claims)),
                }
            }
            Err(Undecided::Refused) => {
                self.handle(Input::Unsubscribe(id));
                self.closed(id, Refusal::RightsChanged("the table is not known or not permitted".into()));
            }
            Err(Undecided::Failed(why)) => {
                match of.decided.as_ref().map(|d| d.until).filter(|until| *until > Instant::now()) {
                    Some(until) => self.recheck_later(id, until.min(Instant::now() + again)),
                    None => self.undecided(id, &why),
                }
            }
        }
    }

    fn recheck_later(&mut self, id: SubId, at: Instant) {
        let Some(of) = self.outside.get_mut(&id) else { return };
        if let Some(before) = of.next.replace(at) {
            self.renewals.remove(&(before, id));
        }
        self.renewals.insert((at, id));
    }

    /// A subscription has ended.
    pub(super) fn forget_decision(&mut self, id: SubId) {
        if let Some(next) = self.outside.remove(&id).and_then(|of| of.next) {
            self.renewals.remove(&(next, id));
        }
    }

    /// Without an answer there are no rights.
    fn undecided(&mut self, id: SubId, why: &str) {
        self.handle(Input::Unsubscribe(id));
        self.closed(id, Refusal::Undecided(why.into()));
    }

    /// Asks again where an answer's time is half over, and closes where it is over.
    pub(super) fn renew_decisions(&mut self) {
        let now = Instant::now();
        while let Some((at, id)) = self.renewals.first().copied().filter(|(at, _)| *at <= now) {
            self.renewals.remove(&(at, id));
            let Some(of) = self.outside.get_mut(&id) else { continue };
            of.next = None;
            let until = of.decided.as_ref().map_or(now, |d| d.until);
            match self.subs.get(&id).map(|s| &s.target) {
                Some(Target::Client(client)) if until > now => {
                    let claims = client.claims.lock().clone();
                    self.recheck_later(id, until);
                    self.request_decision(id, claims);
                }
                Some(Target::Client(_)) => self.undecided(id, "the last one is too old"),
                _ => drop(self.outside.remove(&id)),
            }
        }
    }

    /// Somebody's token says something else now. What was decided about the same person holds for its time; whether it
    /// still fits is asked at once.
    pub(super) fn claims_of_decided(&mut self, subs: Vec<SubId>, before: &Claims, claims: &Arc<Claims>) {
        let (outside, plain): (Vec<_>, Vec<_>) = subs.into_iter().partition(|id| self.outside.contains_key(id));
        self.handle(Input::Claims(plain, claims.clone()));
        for id in outside {
            let Some(of) = self.outside.get(&id) else { continue };
            if of.pending.is_some() {
                continue;
            }
            let same = before.subject().is_some() && before.subject() == claims.subject();
            let claims_now = match of.decided.as_ref().filter(|_| same) {
                Some(d) => with(claims, &d.facts),
                None => claims.clone(),
            };
            self.handle(Input::Claims(vec![id], claims_now));
            self.request_decision(id, claims.clone());
        }
    }
}
