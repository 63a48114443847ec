//! The loop's commands, their clients, and what it needs to start.

use std::net::SocketAddr;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, OnceLock};

use gossip_core::budget::Owner;
use gossip_core::engine::{Compiler, Limits, Request, SubId};
use gossip_core::position::Timestamp;
use gossip_core::rule::{Claims, RuleSet};
use gossip_core::schema::Table;
use gossip_core::seal::Sealer;
use gossip_core::topic::Topic;
use gossip_protocol::RpcError;
use gossip_relay::Relay;
use gossip_relay::ingest::Ingest;
use parking_lot::Mutex;
use serde_json::Value as Json;
use tokio::sync::{Notify, mpsc, oneshot, watch};

use super::question::{Answer, Explain, OneResult, Operate, Publish, Reservation, WhatIf};
use crate::audit_log::AuditLog;
use crate::authz_webhook::{Decided, Decisions, Undecided};
use crate::outbox::{Outbox, Receipt, Style};
use crate::query_ref::owner;
use crate::reading::Reading;
use crate::snapshots::Snapshots;
use crate::supervisor::Supervisor;

/// A connected client.
#[derive(Debug)]
pub struct Client {
    /// Its number in this instance.
    pub id: u64,
    /// Where it comes from.
    pub address: SocketAddr,
    /// When it came.
    pub since: Timestamp,
    /// The transport: `websocket` or `sse`.
    pub transport: &'static str,
    /// What waits to be sent to it.
    pub outbox: Outbox,
    /// Subscriptions that it ever made.
    pub subscriptions: AtomicU64,
    /// Who it is.
    pub claims: Mutex<Arc<Claims>>,
    /// An operator wants its connection to end.
    pub leave: Notify,
    /// Why its connection ended.
    pub ended: OnceLock<String>,
    /// All that concerns it up to here had been written when the loop last looked.
    pub written_to: Mutex<Option<String>>,
}

impl Client {
    /// Whom its subscriptions are charged to, as it is known now.
    pub fn owner(&self) -> Arc<Owner> {
        owner(Some(self.id), &self.claims.lock(), self.address)
    }
}

/// A command to the loop.
pub enum Command {
    /// A client has come.
    Connected(Arc<Client>),
    /// A client has gone.
    Disconnected(u64),
    /// A client has other claims than these before.
    Claims(u64, Arc<Claims>, Arc<Claims>),
    /// What was decided outside about a subscription, for the claims that it had then.
    Decided(SubId, Arc<Claims>, Result<Decided, Undecided>),
    /// What was decided outside about somebody whom an operator asks about.
    ExplainDecided(Explain, Result<Decided, Undecided>, Answer),
    /// A client's token has ended, and the time that it had to renew it.
    Expired(u64),
    /// A client subscribes; the answer goes to its outbox.
    Subscribe {
        /// The client.
        client: u64,
        /// The id of the call.
        call: Json,
        /// The request.
        request: Request,
        /// How results are sent.
        style: Style,
        /// The label under which it is observed.
        observed: Option<String>,
    },
    /// A client ends a subscription; the answer goes to its outbox.
    Unsubscribe {
        /// The client.
        client: u64,
        /// The id of the call.
        call: Json,
        /// The subscription's number within the connection.
        number: u64,
    },
    /// Somebody publishes an event.
    Publish(Box<Publish>),
    /// A client comes to a place; the answer goes to its outbox.
    Join {
        /// The client.
        client: u64,
        /// The id of the call.
        call: Json,
        /// The place.
        place: String,
        /// What it says of itself there.
        data: Json,
    },
    /// A client leaves a place; the answer goes to its outbox.
    Leave {
        /// The client.
        client: u64,
        /// The id of the call.
        call: Json,
        /// The place.
        place: String,
    },
    /// The instance stops: announce it to the others.
    Stopping,
    /// The loop ends.
    End,
    /// A slow client has read what was left.
    CatchUp(SubId),
    /// A delta that is observed has been written to its socket.
    Written(Box<Receipt>, Timestamp),
    /// A call of an operator.
    Operate(Box<Operate>),
    /// Continues a `what_if` with what was read for it.
    WhatIf(WhatIf, Answer, Reservation),
    /// One result, once.
    Rows(Request, oneshot::Sender<Result<OneResult, RpcError>>),
    /// Other rules from now on.
    Rules(Arc<RuleSet>),
    /// How things stand.
    State(oneshot::Sender<State>),
}

/// How an instance stands.
#[derive(Clone, Debug, Default)]
pub struct State {
    /// Whether it has a position and misses nothing.
    pub ready: bool,
    /// The source's position.
    pub position: String,
    /// Milliseconds since it was known to be current, 0 if it is.
    pub behind_ms: u64,
    /// What its reading thread does.
    pub reading: String,
}

/// What the loop needs to begin.
pub struct Start {
    /// The instance's name.
    pub name: String,
    /// Where it listens.
    pub address: SocketAddr,
    /// The source's name.
    pub source: Arc<str>,
    /// The schema of tables that are named without one.
    pub default_schema: Arc<str>,
    /// The tables at the start.
    pub tables: Vec<Arc<Table>>,
    /// The topics.
    pub topics: Vec<Arc<Topic>>,
    /// Topics that come from other programs, and from where.
    pub foreign: Vec<(String, Ingest)>,
    /// The rules.
    pub rules: Arc<RuleSet>,
    /// The engine's limits.
    pub limits: Limits,
    /// The cluster's key.
    pub sealer: Arc<Sealer>,
    /// Reads snapshots.
    pub snapshots: Arc<Snapshots>,
    /// The relay.
    pub relay: Arc<dyn Relay>,
    /// The reading thread.
    pub reading: Arc<Reading>,
    /// The loop's own questions, which must not keep it alive.
    pub asks: mpsc::WeakSender<Command>,
    /// Who was refused what.
    pub record: Arc<AuditLog>,
    /// Who decides about rights outside.
    pub decisions: Option<Arc<Decisions>>,
    /// Set when an operator has this instance drained.
    pub drain: watch::Sender<bool>,
    /// What connections compile with.
    pub compiler: watch::Sender<Option<Compiler>>,
    /// Watches over the loop, the writers and the relay.
    pub supervisor: Supervisor,
}
