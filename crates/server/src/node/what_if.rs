//! `what_if`: what clients would have received under other rules.

use std::time::Duration;

use gossip_core::engine::{Input, Request};
use gossip_protocol::{RpcError, code};
use serde_json::{Value as Json, json};
use tokio::sync::oneshot;

use super::command::Command;
use super::question::{Answer, QuestionTarget, Reservation, WhatIf};
use super::state::{Node, Target};
use crate::shown;

/// Questions that are being answered.
pub const MAX_UNDER_WAY: usize = 8;

/// Longest wait for that.
const PATIENCE: Duration = Duration::from_secs(5);

impl Node {
    pub(super) fn what_if(&mut self, question: WhatIf, answer: Answer, mut held: Reservation) {
        if held.place.is_none() {
            let Ok(place) = self.tries.clone().try_acquire_owned() else {
                let text = format!("limit reached: what_if at the same time, at most {MAX_UNDER_WAY}");
                let _ = answer.send(Err(RpcError::new(code::LIMIT, text)));
                return;
            };
            held.place = Some(place);
        }
        let requests = match self.requests(&question) {
            Ok(requests) => requests,
            Err(e) => {
                let _ = answer.send(Err(e));
                return self.release(held);
            }
        };
        let trial = self.engine.trial(&question.rules, &requests);
        if held.subscriptions.is_none() && !trial.unknown().is_empty() {
            return self.hold(question, &requests, answer, held);
        }
        let problems = question.rules.check(self.engine.catalog());
        let problems: Vec<Json> =
            problems.into_iter().map(|p| json!({"rule": p.line.saturating_sub(1), "message": p.message})).collect();
        let place = held.place.take();
        self.release(held);
        // The loop has other things to do than to judge thousands of changes.
        tokio::task::spawn_blocking(move || {
            let _ = answer.send(Ok(shown::trial(&trial, problems)));
            drop(place);
        });
    }

    fn requests(&self, question: &WhatIf) -> Result<Vec<Request>, RpcError> {
        let request = |whom: &QuestionTarget| match whom {
            QuestionTarget::Subscription(id) => {
                let known = self.engine.request(*id);
                let known = known.map(|r| Request { observed: false, resume: None, ..r });
                known.ok_or_else(|| {
                    RpcError::new(code::UNKNOWN_NAME, format!("this instance has no subscription {id} any more"))
                })
            }
            QuestionTarget::Anybody(request) => Ok((**request).clone()),
            QuestionTarget::Publisher { .. } => Err(RpcError::invalid("asked: expected queries")),
        };
        question.asked.iter().map(request).collect()
    }

    /// Subscribes to the queries, so that their sub-selects are read, and repeats the question then.
    fn hold(&mut self, question: WhatIf, requests: &[Request], answer: Answer, mut held: Reservation) {
        let mut ids = Vec::new();
        let mut waiting = Vec::new();
        for r in requests {
            for under in [None, Some(question.rules.clone())] {
                let (sender, receiver) = oneshot::channel();
                let request = Request { under, every: 0, owner: None, ..r.clone() };
                let id = self.new_sub(Target::Reservation(Some(sender)), &request);
                ids.push(id);
                waiting.push(receiver);
                self.handle(Input::Subscribe(id, Box::new(request)));
            }
        }
        held.subscriptions = Some(ids);
        let asks = self.start.asks.clone();
        tokio::spawn(async move {
            // Refused or oversized snapshots are not waited for: ending them drops the sender.
            let all = async {
                for receiver in waiting {
                    let _ = receiver.await;
                }
            };
            let _ = tokio::time::timeout(PATIENCE, all).await;
            if let Some(asks) = asks.upgrade() {
                let _ = asks.send(Command::WhatIf(question, answer, held)).await;
            }
        });
    }

    fn release(&mut self, held: Reservation) {
        for id in held.subscriptions.unwrap_or_default() {
            if self.subs.remove(&id).is_some() {
                self.handle(Input::Unsubscribe(id));
            }
        }
    }
}
