//! Operator calls to instances.

use std::time::Duration;

use gossip_core::explain::Step;
use gossip_core::rule::RuleText;
use gossip_protocol::Call;
use gossip_protocol::call::{Explain, QuestionTarget, TriedRule, WhatIf};
use serde::de::DeserializeOwned;
use serde_json::{Map, Value as Json};
use tokio::sync::oneshot;

use super::Tasks;
use super::operating::Question;
use crate::personas::Persona;
use crate::workbench::line::At;
use crate::workbench::message::{Message, QueryUpdate};
use crate::workbench::views::ask::state::About;

/// Longest wait for an operator's answer.
pub(super) const PATIENCE: Duration = Duration::from_secs(5);

fn read<T: DeserializeOwned>(answer: Json) -> Result<T, String> {
    serde_json::from_value(answer).map_err(|e| e.to_string())
}

impl Tasks {
    /// Makes an operator call to an instance.
    pub(super) fn ask(&self, place: usize, call: Call) -> impl Future<Output = Result<Json, String>> + Send + 'static {
        let question = self.questions.get(place).cloned();
        async move {
            let (answer, answered) = oneshot::channel();
            let gone = || Err("its instance is not reachable".to_string());
            match question {
                Some(ask) if ask.try_send(Question { call, answer }).is_ok() => {
                    match tokio::time::timeout(PATIENCE, answered).await {
                        Ok(Ok(answer)) => answer,
                        _ => gone(),
                    }
                }
                _ => gone(),
            }
        }
    }

    /// Makes a call, and reports its result.
    pub(super) fn tell(
        &self,
        place: usize,
        call: Call,
        message: impl FnOnce(Result<Json, String>) -> Message + Send + 'static,
    ) {
        let (answer, messages) = (self.ask(place, call), self.messages.clone());
        tokio::spawn(async move {
            let _ = messages.send(message(answer.await)).await;
        });
    }

    pub(super) fn explain(
        &self,
        place: usize,
        subscription: u64,
        at: At,
        message: impl FnOnce(Result<Vec<Step>, String>) -> Message + Send + 'static,
    ) {
        let whom = QuestionTarget::Subscription { subscription };
        let call = Explain { instance: None, position: Some(at.as_reported()), whom };
        let steps = |mut answer: Json| read(answer["steps"].take());
        self.tell(place, Call::Explain(Box::new(call)), move |answer| message(answer.and_then(steps)));
    }

    /// Asks an instance to describe a persona's query.
    pub(super) fn describe(&self, id: u32, identity: Persona, query: String, params: Map<String, Json>) {
        let roles = Some(identity.roles).filter(|roles| !roles.is_empty());
        let whom = QuestionTarget::Anybody { query, claims: identity.claims, roles, params };
        let call = Explain { instance: None, position: None, whom };
        let about = |a: Json| About {
            query: a["query"].as_str().unwrap_or("").into(),
            feed: a["feed"]["id"].as_u64().zip(a["feed"]["subscriptions"].as_u64()),
            cost_ns: a["cost_ns"].as_u64(),
            rows: a["rows"].as_str().map(String::from),
            then: a["then"].as_str().map(String::from),
            found_by: a["found_by"].as_str().unwrap_or("").into(),
            reads: a["reads"].as_str().unwrap_or("").into(),
        };
        self.tell(0, Call::Explain(Box::new(call)), move |answer| {
            let refused = |a: &Json| (!a["refused"].is_null()).then(|| read(a["steps"].clone()).unwrap_or_default());
            let told = match answer.as_ref().ok().and_then(refused) {
                Some(steps) => QueryUpdate::WhyNot(steps),
                None => QueryUpdate::About(answer.map(about)),
            };
            Message::Asked(id, told)
        });
    }

    /// Asks an instance why somebody's query is refused.
    pub(super) fn why_refused(
        &self,
        place: usize,
        identity: Persona,
        query: String,
        message: impl FnOnce(Result<Vec<Step>, String>) -> Message + Send + 'static,
    ) {
        let roles = Some(identity.roles).filter(|roles| !roles.is_empty());
        let whom = QuestionTarget::Anybody { query, claims: identity.claims, roles, params: Map::new() };
        let call = Explain { instance: None, position: None, whom };
        let steps = |mut answer: Json| match answer["refused"].is_null() {
            true => Err("it is not refused any more: it asks again soon".to_string()),
            false => read(answer["steps"].take()),
        };
        self.tell(place, Call::Explain(Box::new(call)), move |answer| message(answer.and_then(steps)));
    }

    /// Asks an instance a what-if.
    pub(super) fn try_rules<T: DeserializeOwned>(
        &self,
        place: usize,
        asked: Vec<QuestionTarget>,
        rules: Vec<RuleText>,
        message: impl FnOnce(Result<T, String>) -> Message + Send + 'static,
    ) {
        let rule = |r: RuleText| TriedRule {
            may: Some(r.may.words().map(String::from).collect()),
            role: r.role,
            table: r.table.to_string(),
            rows: r.rows,
            columns: r.columns,
            masks: r.masks,
        };
        let call = WhatIf { instance: None, rules: rules.into_iter().map(rule).collect(), asked };
        self.tell(place, Call::WhatIf(call), move |answer| message(answer.and_then(read)));
    }

    pub(super) fn drain(&self, through: usize, name: String) {
        let call = Call::Drain { instance: Some(name.clone()) };
        self.tell(through, call, move |answer| {
            Message::Notice(match answer {
                Ok(_) => format!("{name} is draining: its clients are asked to reconnect elsewhere"),
                Err(why) => format!("{name} cannot be drained: {why}"),
            })
        });
    }
}
