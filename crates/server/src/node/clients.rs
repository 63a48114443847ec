//! Who is connected here, for operators: who comes and goes and why, what goes over a client's connection, and what is done
//! to one to try out how it copes.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, Instant};

use gossip_core::engine::SubId;
use gossip_core::plan::{AccessPath, Anchor};
use gossip_core::schema::TableName;
use gossip_core::value::Value;
use gossip_protocol::system::{ClientRow, ClientSubscription, ConnectionRow, Embedded, FrameRow, SystemRow};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{RpcError, code};
use serde_json::{Value as Json, json};

use super::command::Client;
use super::state::Node;
use crate::now;

impl Node {
    /// A client has come.
    pub(super) fn connected(&mut self, client: Arc<Client>) {
        self.note_connection(&client, "connected", None);
        self.clients.insert(client.id, (client, BTreeMap::new()));
    }

    /// Says what became of a connection.
    pub(super) fn note_connection(&mut self, client: &Client, what: &str, why: Option<String>) {
        let claims = client.claims.lock().clone();
        self.system.add(ConnectionRow {
            at: now(),
            instance: self.start.name.clone(),
            client: client.id,
            subject: claims.subject().map(String::from),
            roles: claims.roles.join(", "),
            operator: claims.operator,
            address: client.address.to_string(),
            transport: client.transport.into(),
            what: what.into(),
            why,
            sent: client.outbox.sent.load(Relaxed),
        });
    }

    fn client(&self, id: u64) -> Result<&Arc<Client>, RpcError> {
        let unknown = || RpcError::new(code::UNKNOWN_NAME, format!("no client {id} is connected here"));
        self.clients.get(&id).map(|(client, _)| client).ok_or_else(unknown)
    }

    /// Ends a client's connection.
    pub(super) fn disconnect(&self, id: u64) -> Result<Json, RpcError> {
        self.client(id)?.leave.notify_one();
        Ok(json!({}))
    }

    /// Writes nothing to a client for so long.
    pub(super) fn hold_client(&mut self, id: u64, ms: u64) -> Result<Json, RpcError> {
        let client = self.client(id)?.clone();
        if client.claims.lock().operator {
            return Err(RpcError::invalid("client: an operator's own connection cannot be held"));
        }
        client.outbox.hold(Some(Instant::now() + Duration::from_millis(ms)).filter(|_| ms > 0));
        self.held.insert(id);
        self.release_held();
        Ok(json!({}))
    }

    /// Writes again to those whose time is over.
    pub(super) fn release_held(&mut self) {
        let Node { held, clients, writers, .. } = self;
        held.retain(|id| {
            let Some((client, _)) = clients.get(id) else { return false };
            let holds = client.outbox.held_for().is_some();
            if !holds {
                client.outbox.hold(None);
                writers.due(client);
            }
            holds
        });
    }

    /// Opens the taps of those clients that somebody looks at, and closes all others.
    pub(super) fn tap_clients(&mut self) {
        let table = TableName::system(FrameRow::SHAPE.name);
        if !self.engine.has_feeds_on(&table) && self.tapped.is_empty() {
            return;
        }
        let column = FrameRow::SHAPE.column("client");
        let mut wanted = BTreeSet::new();
        for feed in self.engine.feeds().filter(|feed| feed.plan.table().name == table) {
            let path = AccessPath::of(&feed.plan, &());
            let ids = path.anchors().unwrap_or_default().iter().filter_map(|(of, anchor)| match anchor {
                // Numbers are looked up as floats, whatever their type.
                Anchor::Value(Value::Float(id)) if Some(*of) == column && *id >= 0.0 => Some(*id as u64),
                _ => None,
            });
            wanted.extend(ids);
        }
        for id in self.tapped.iter().chain(&wanted) {
            if let Some((client, _)) = self.clients.get(id) {
                // What an operator is sent would be sent to it again, as a frame.
                client.outbox.tap.set(wanted.contains(id) && !client.claims.lock().operator);
            }
        }
        self.tapped = wanted;
    }

    /// Tells what has gone over the connections that somebody looks at.
    pub(super) fn tell_frames(&mut self) {
        for id in self.tapped.clone() {
            let Some((client, _)) = self.clients.get(&id) else { continue };
            for frame in client.outbox.tap.take() {
                self.system.add(FrameRow {
                    at: frame.at,
                    instance: self.start.name.clone(),
                    client: id,
                    direction: frame.way.word().into(),
                    bytes: frame.bytes as u64,
                    text: frame.text,
                    left_out: frame.left_out,
                });
            }
        }
    }

    pub(super) fn sample_clients(&mut self) {
        let mut rows = Vec::new();
        let waits: BTreeSet<SubId> = self.engine.waiting().collect();
        let at = Some(self.position()).filter(|at| !at.is_empty() && !self.engine.is_healing(&self.start.source));
        for (c, subs) in self.clients.values() {
            let claims = c.claims.lock().clone();
            let (waiting, bytes) = c.outbox.waiting();
            let known: Vec<_> = subs.iter().filter_map(|(number, id)| Some((number, id, self.subs.get(id)?))).collect();
            let subscription = |(number, id, s): &(&u64, &u64, &super::state::Sub)| {
                let (query, observed) = (s.text.clone(), s.subscription.observed.clone());
                let claims = observed.is_some().then(|| claims.facts.clone());
                ClientSubscription { id: **id, number: **number, query, observed, claims }
            };
            // Everything passes through its queue in order; what is told at a pace waits elsewhere.
            let has_all =
                known.iter().all(|(_, id, s)| !s.paced && !waits.contains(id) && s.subscription.answered.load(Relaxed));
            if has_all && at.is_some() && c.outbox.is_up_to_date() {
                c.written_to.lock().clone_from(&at);
            }
            rows.push(ClientRow {
                id: c.id,
                subject: claims.subject().map(String::from),
                roles: claims.roles.join(", "),
                operator: claims.operator,
                address: c.address.to_string(),
                transport: c.transport.into(),
                since: rfc3339(c.since),
                subscriptions: Embedded(known.iter().map(subscription).collect()),
                waiting: waiting as u64,
                waiting_bytes: bytes as u64,
                // Otherwise watching this table would keep changing it.
                sent: if claims.operator { 0 } else { c.outbox.sent.load(Relaxed) },
                caught_up: c.outbox.caught_up.load(Relaxed),
                written_to: c.written_to.lock().clone().filter(|_| !claims.operator),
                held_ms: c.outbox.held_for().map_or(0, |left| left.as_millis() as u64),
            });
        }
        self.system.show(rows);
    }
}
