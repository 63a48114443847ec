//! What connections ask of the loop.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};

use gossip_core::engine::{Input, Refusal, Request, SubId};
use gossip_protocol::{RpcError, code, message};
use serde_json::{Value as Json, json};

use super::command::Command;
use super::operators::Passing;
use super::state::{Node, Sub, Target};
use crate::outbox::{Receipt, Style, Subscription};

/// Subscriptions of one connection.
const MAX_SUBSCRIPTIONS: usize = 1_000;

impl Node {
    #[expect(clippy::too_many_lines, reason = "one arm per command")]
    pub(super) fn answer(&mut self, ask: Command) {
        match ask {
            Command::Connected(client) => self.connected(client),
            Command::Disconnected(id) => {
                let Some((client, subs)) = self.clients.remove(&id) else { return };
                self.note_connection(&client, "disconnected", client.ended.get().cloned());
                self.leave_everywhere(id);
                for sub in subs.into_values() {
                    self.subs.remove(&sub);
                    self.forget_decision(sub);
                    self.handle(Input::Leave(sub));
                }
            }
            Command::Expired(client) => {
                let subs = self.clients.get(&client).map(|(_, subs)| subs.values().copied().collect::<Vec<_>>());
                for id in subs.unwrap_or_default() {
                    self.handle(Input::Unsubscribe(id));
                    self.closed(id, Refusal::Expired);
                }
                // Nor is it anywhere any more: that was said in the name of whom the token spoke of.
                self.leave_everywhere(client);
            }
            Command::Decided(id, claims, answer) => self.decided(id, claims, answer),
            Command::ExplainDecided(question, decided, answer) => {
                let _ = answer.send(self.explain_with(question, &decided));
            }
            Command::Claims(id, before, claims) => {
                let Some((client, subs)) = self.clients.get(&id) else { return };
                let (client, subs): (_, Vec<SubId>) = (client.clone(), subs.values().copied().collect());
                self.note_connection(&client, "authenticated", None);
                for id in &subs {
                    if let Some(sub) = self.subs.get_mut(id) {
                        sub.operator = claims.operator;
                    }
                }
                self.claims_of_decided(subs, &before, &claims);
                self.leave_where_not_permitted(Some(id));
            }
            Command::Subscribe { client, call, request, style, observed } => {
                self.subscribe(client, call, request, style, observed);
            }
            Command::Unsubscribe { client, call, number } => {
                let Some((client, subs)) = self.clients.get_mut(&client) else { return };
                match subs.remove(&number) {
                    Some(id) => {
                        // A result or delta that waits must not come after the answer.
                        client.outbox.discard(id);
                        let unanswered = self.subs.get(&id).filter(|s| !s.subscription.answered.swap(true, Relaxed));
                        if let Some(s) = unanswered {
                            let e = RpcError::new(code::UNKNOWN_NAME, "unsubscribed before the first result");
                            client.outbox.say(&message::refuse(&s.subscription.call, &e));
                        }
                        client.outbox.say(&message::reply(&call, json!({})));
                        self.writers.due(client);
                        self.subs.remove(&id);
                        self.forget_decision(id);
                        self.handle(Input::Leave(id));
                    }
                    None => {
                        let e =
                            RpcError::new(code::UNKNOWN_NAME, format!("this connection has no subscription {number}"));
                        client.outbox.say(&message::refuse(&call, &e));
                        self.writers.due(client);
                    }
                }
            }
            Command::Publish(publish) => self.publish(*publish),
            Command::Join { client, call, place, data } => {
                let outcome = self.join(client, place, data);
                self.presence(client, &call, outcome);
            }
            Command::Leave { client, call, place } => {
                let outcome = self.leave(client, &place);
                self.presence(client, &call, outcome);
            }
            Command::Stopping => self.leave_cluster(),
            // The loop itself sees to it.
            Command::End => {}
            Command::CatchUp(id) => self.handle(Input::CatchUp(id)),
            Command::Written(receipt, at) => {
                let Receipt { subscription, source, position } = *receipt;
                let passed = Passing { at, ..Passing::default() };
                self.record_verdict(&subscription, format!("{source}:{position}"), "written", passed);
                self.flush_system();
            }
            Command::Operate(o) => self.operate(*o),
            Command::WhatIf(question, answer, held) => self.what_if(question, answer, held),
            Command::Rows(request, answer) => {
                let id = self.new_sub(Target::Once(Some(answer)), &request);
                self.begin(id, request);
            }
            Command::Rules(rules) => {
                self.handle(Input::Rules(rules));
                self.announce_needs();
                self.leave_where_not_permitted(None);
            }
            Command::State(answer) => drop(answer.send(self.state())),
        }
    }

    /// A subscription that is not a connection's.
    pub(super) fn new_sub(&mut self, target: Target, request: &Request) -> SubId {
        let id = self.next_sub;
        self.next_sub += 1;
        let subscription = Arc::new(Subscription {
            id,
            number: 0,
            call: Json::Null,
            answered: AtomicBool::new(false),
            columns: AtomicU64::new(0),
            observed: None,
            style: Style::default(),
        });
        let (operator, text, paced) = (request.claims.operator, request.query.clone(), request.every > 0);
        self.subs.insert(id, Sub { subscription, target, operator, text, paced });
        id
    }

    fn subscribe(&mut self, client: u64, call: Json, mut request: Request, style: Style, observed: Option<String>) {
        let beside = if observed.is_some() { self.operators_addresses() } else { BTreeSet::new() };
        let Some((client, subs)) = self.clients.get_mut(&client) else { return };
        if subs.len() >= MAX_SUBSCRIPTIONS {
            let e = RpcError::new(code::LIMIT, format!("subscriptions of one connection, at most {MAX_SUBSCRIPTIONS}"));
            client.outbox.say(&message::refuse(&call, &e));
            return self.writers.due(client);
        }
        if observed.is_some() && !beside.contains(&client.address.ip()) {
            // The places are few, and for those who look why somebody did not hear.
            let text = "not available now: observed, only beside an operator's connection from the same address";
            let refused = RpcError::new(code::UNAVAILABLE, text).with(json!({"retry_after_ms": 1_000}));
            client.outbox.say(&message::refuse(&call, &refused));
            return self.writers.due(client);
        }
        let id = self.next_sub;
        self.next_sub += 1;
        // Counted within the connection: a number must not tell how much others do.
        let number = client.subscriptions.fetch_add(1, Relaxed) + 1;
        subs.insert(number, id);
        request.observed = observed.is_some();
        let (answered, columns) = (AtomicBool::new(false), AtomicU64::new(0));
        let subscription = Arc::new(Subscription { id, number, call, answered, columns, observed, style });
        let (operator, text, paced) = (request.claims.operator, request.query.clone(), request.every > 0);
        self.subs.insert(id, Sub { subscription, target: Target::Client(client.clone()), operator, text, paced });
        self.begin(id, request);
    }
}
