//! What follows from an input: carried out, in the engine's order.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;

use bytes::Bytes;
use foldhash::HashMap as FastMap;
use gossip_core::engine::{Delta, Input, Output, Refusal, ResyncReason, SnapshotId, SubId};
use gossip_core::explain::Verdict;
use gossip_core::plan::{EffectivePlan, SnapshotRequest};
use gossip_core::position::{Micros, Position, SnapshotPoint};
use gossip_core::wire::{self, Wording};
use gossip_protocol::call::Send;
use gossip_protocol::message;
use serde_json::json;

use super::alarms::AUDIT;
use super::operators::Passing;
use super::question::OneResult;
use super::refusal::refused;
use super::state::{Node, Sub, Target};
use crate::audit_log::Caller;
use crate::now;
use crate::outbox::{self, Receipt, Style, Then, WholeResult};
use crate::reading::HEARTBEAT;

/// Shortest time between two audits, and what each row of one adds to it: about 1 % of the time that reading it takes.
pub(super) const AUDIT_EVERY: Micros = 5_000_000;
const AUDIT_PAUSE: Micros = 500;

impl Node {
    pub(super) fn carry_out(&mut self, output: Output, inputs: &mut VecDeque<Input>) {
        match output {
            Output::FetchSnapshot { id, plan, request } => self.fetch(id, plan, *request, inputs),
            Output::CancelSnapshot(id) => self.start.snapshots.cancel(id),
            Output::Result { to, feed, rows, term, position } => {
                let cursor = wire::cursor(&feed, term, position, 0, &self.start.sealer).into();
                self.show(&to, &OneResult { feed, rows, cursor }, inputs);
            }
            Output::Resumed { sub, feed, term, position } => {
                let cursor = wire::cursor(&feed, term, position, 0, &self.start.sealer);
                self.resumed(sub, &feed, &cursor);
            }
            Output::Delta(delta, subscribers) => self.deliver(&delta, subscribers.as_slice()),
            Output::Revoke(subs) => subs.as_slice().iter().for_each(|id| self.unsend(*id)),
            Output::Discard(id) => {
                if let Some(Sub { target: Target::Client(client), .. }) = self.subs.get(&id) {
                    client.outbox.discard(id);
                }
            }
            Output::Closed(id, refusal) => self.closed(id, refusal),
            Output::Heal { source, after } => self.heal(source, after),
            Output::Verdict { sub, source, term, position, verdict, tally } => {
                if let Some(s) = self.subs.get(&sub) {
                    let matched = self.engine.plan(sub).filter(|_| verdict == Verdict::Matched);
                    let cursor = matched.map(|e| wire::cursor(&e, term, position, 0, &self.start.sealer));
                    let subscription = s.subscription.clone();
                    let passed = Passing { tally, at: now(), cursor };
                    self.record_verdict(&subscription, format!("{source}:{position}"), verdict.word(), passed);
                }
            }
            Output::Describe(source) => self.describe(&source),
            Output::Audited { feed, rows, difference } => self.audited(&feed, rows, difference),
            Output::Dropped(garbage) => drop(tokio::task::spawn_blocking(move || drop(garbage))),
            Output::Taken(interval, transaction) => self.taken(&interval, &transaction),
        }
    }

    /// Reads what a plan needs: at once where it is held here, else from the database when it is its turn.
    fn fetch(
        &mut self,
        id: SnapshotId,
        plan: Arc<EffectivePlan>,
        request: SnapshotRequest,
        inputs: &mut VecDeque<Input>,
    ) {
        let name = &request.table.name;
        let (rows, at) = if name.is_system() {
            // What is pending belongs to a later position than the one the snapshot stands at.
            self.sample_table(&name.name);
            inputs.extend(self.system.take(now()).map(|i| Input::Interval(Arc::new(i))));
            self.system.snapshot(&name.name)
        } else if request.table.is_topic() {
            self.cluster.topics().snapshot(&name.name, now())
        } else {
            let owner = self.engine.snapshot_owner(id);
            return self.start.snapshots.fetch(id, plan, request, owner, self.inputs.clone());
        };
        inputs.push_back(Input::SnapshotRows(id, rows));
        inputs.push_back(Input::SnapshotDone(id, SnapshotPoint::UpTo(at)));
    }

    /// Hands a whole result to those who wait for it.
    fn show(&mut self, to: &[(SubId, ResyncReason)], result: &OneResult, inputs: &mut VecDeque<Input>) {
        for &(id, why) in to {
            let Some(sub) = self.subs.get_mut(&id) else { continue };
            match &mut sub.target {
                Target::Client(client) => {
                    let OneResult { feed, rows, cursor } = result.clone();
                    let subscription = sub.subscription.clone();
                    client
                        .outbox
                        .push_result(id, WholeResult { subscription, why, feed, rows, cursor, next: 0, part: 0 });
                    self.writers.due(client);
                }
                Target::Reservation(settled) => {
                    if let Some(settled) = settled.take() {
                        let _ = settled.send(());
                    }
                }
                Target::Once(answer) => {
                    if let Some(answer) = answer.take() {
                        let _ = answer.send(Ok(result.clone()));
                    }
                    self.subs.remove(&id);
                    inputs.push_back(Input::Unsubscribe(id));
                }
            }
        }
    }

    /// Tells a client that its result is still good, and that it goes on from there.
    fn resumed(&mut self, sub: SubId, plan: &EffectivePlan, cursor: &str) {
        if let Some(Sub { subscription, target: Target::Client(client), .. }) = self.subs.get(&sub) {
            let (number, columns, shape) = (subscription.number, wire::columns(plan), wire::shape(plan));
            let result = json!({
                "subscription": number, "columns": columns, "shape": shape, "resumed": true, "cursor": cursor,
            });
            client.outbox.answer(subscription, plan, &message::reply(&subscription.call, result));
            self.writers.due(client);
        }
    }

    /// Drops what is unsent of a subscription.
    fn unsend(&mut self, sub: SubId) {
        if let Some(Sub { target: Target::Client(client), .. }) = self.subs.get(&sub) {
            client.outbox.unsend(sub);
            self.writers.due(client);
        }
    }

    /// Asks the relay for what is missing.
    fn heal(&self, source: Arc<str>, after: Position) {
        tracing::warn!(%source, %after, "something is missing; asking the relay for it");
        let (relay, inputs) = (self.start.relay.clone(), self.inputs.clone());
        tokio::spawn(async move {
            let mut intervals = relay.replay(&source, after).await;
            for _ in 0..20 {
                if intervals.is_ok() {
                    break;
                }
                tokio::time::sleep(HEARTBEAT).await;
                intervals = relay.replay(&source, after).await;
            }
            let intervals = intervals.unwrap_or(None);
            let _ = inputs.send(Input::Healed { source, intervals }).await;
        });
    }

    /// An audit has ended. The next one waits for longer, the more rows this one has read.
    pub(super) fn audited(&mut self, feed: &EffectivePlan, rows: usize, difference: Option<String>) {
        self.next_audit = now() + AUDIT_EVERY.max(rows as Micros * AUDIT_PAUSE);
        self.counters.audits += u64::from(rows > 0 || difference.is_some());
        let Some(difference) = difference else { return };
        self.counters.audit_differences += 1;
        let text =
            format!("a feed differed from the database ({difference}); all feeds of the table are being read again");
        self.alarms.raise(AUDIT, &feed.table().name.to_string(), text);
    }

    /// Requests new descriptions of the source's tables, unless that is under way.
    pub(super) fn describe(&mut self, source: &str) {
        if source == &*self.start.source {
            self.start.snapshots.describe(self.inputs.clone());
        }
    }

    pub(super) fn deliver(&mut self, delta: &Arc<Delta>, subscribers: &[SubId]) {
        let sealer = &self.start.sealer;
        let cursor = wire::cursor(&delta.feed, delta.term, delta.position, delta.at, sealer);
        let is_own = delta.feed.table().is_of_operators();
        let mut bodies: FastMap<Wording, String> = FastMap::default();
        // Most clients' subscriptions have the same few numbers; then even the head is the same.
        let mut frames: FastMap<(u64, Wording), Bytes> = FastMap::default();
        let mut last: Option<((u64, Wording), Bytes)> = None;
        for id in subscribers {
            let Some(Sub { subscription, target: Target::Client(client), operator, .. }) = self.subs.get(id) else {
                continue;
            };
            let Style { send, was, .. } = subscription.style;
            let is_signal = send == Send::Signal;
            if is_signal && delta.more {
                continue;
            }
            let wording = Wording { position: *operator, send, was };
            let which = (subscription.number, wording);
            let frame = match &last {
                Some((of, frame)) if *of == which => frame.clone(),
                _ => {
                    let made = frames.entry(which).or_insert_with(|| {
                        let body =
                            bodies.entry(wording).or_insert_with(|| wire::delta_body(delta, &cursor, wording, sealer));
                        outbox::frame(&(message::delta_head(which.0) + body.as_str()))
                    });
                    last = Some((which, made.clone()));
                    made.clone()
                }
            };
            let then = match &subscription.observed {
                None => Then::Nothing,
                // To say that something was said of Gossip's own tables would never end.
                Some(_) if is_own => Then::Nothing,
                Some(_) => Then::Tell(Box::new(Receipt {
                    subscription: subscription.clone(),
                    source: delta.feed.table().source.clone(),
                    position: delta.position,
                })),
            };
            if is_signal {
                client.outbox.offer_signal(*id, frame, then);
            } else {
                client.outbox.offer(*id, frame, delta.revokes, then);
            }
            self.writers.due(client);
        }
        if !delta.feed.table().name.is_system() {
            self.counters.deliveries += subscribers.len() as u64;
        }
    }

    pub(super) fn closed(&mut self, id: SubId, refusal: Refusal) {
        let Some(sub) = self.subs.remove(&id) else { return };
        self.forget_decision(id);
        let error = refused(&refusal);
        match sub.target {
            Target::Reservation(_) => {}
            Target::Once(answer) => {
                if let Some(answer) = answer {
                    let _ = answer.send(Err(error));
                }
            }
            Target::Client(client) => {
                if let Some((_, own)) = self.clients.get_mut(&client.id) {
                    own.remove(&sub.subscription.number);
                }
                client.outbox.discard(id);
                let claims = client.claims.lock().clone();
                self.start.record.refused(
                    &Caller { address: &client.address, claims: &claims },
                    "a subscription",
                    &error,
                );
                if sub.subscription.answered.swap(true, Relaxed) {
                    let why = match refusal {
                        Refusal::Failed(_) => "query-failed".into(),
                        Refusal::SchemaChanged(e) => format!("schema-changed: {e}"),
                        Refusal::RightsChanged(e) => format!("rights-changed: {e}"),
                        Refusal::Expired => "expired: authenticate with a new token and subscribe again".into(),
                        _ => error.message,
                    };
                    let mut told = json!({"subscription": sub.subscription.number, "why": why});
                    if let Some(data) = error.data.filter(|d| d.get("incident").is_some() || d.get("message").is_some())
                    {
                        told["data"] = data;
                    }
                    client.outbox.say(&message::notify("closed", told));
                } else {
                    client.outbox.say(&message::refuse(&sub.subscription.call, &error));
                }
                self.writers.due(&client);
            }
        }
    }
}
