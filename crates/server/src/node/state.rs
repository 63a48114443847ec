//! What the loop holds.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Instant;

use foldhash::HashMap as FastMap;
use gossip_core::cluster::Cluster;
use gossip_core::engine::{Engine, Input, Request, SubId};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::Timestamp;
use gossip_protocol::RpcError;
use serde_json::{Map, Value as Json};
use tokio::sync::{Semaphore, mpsc, oneshot};

use super::alarms::Alarms;
use super::command::{Client, Start};
use super::events_told::EventsTold;
use super::outgoing::Events;
use super::question::{Answer, OneResult};
use crate::authz_webhook::Decided;
use crate::outbox::Subscription;
use crate::system::SystemTables;
use crate::writers::Writers;

/// Who receives a subscription's result.
pub(super) enum Target {
    Client(Arc<Client>),
    Once(Option<oneshot::Sender<Result<OneResult, RpcError>>>),
    /// No client: an internal subscription that is only kept up to date.
    Reservation(Option<oneshot::Sender<()>>),
}

/// A subscription.
pub(super) struct Sub {
    pub(super) subscription: Arc<Subscription>,
    pub(super) target: Target,
    pub(super) operator: bool,
    pub(super) text: String,
    /// Whether its deltas may have to wait for their time.
    pub(super) paced: bool,
}

/// What has been counted.
#[derive(Default)]
pub(super) struct Counters {
    pub(super) changes: u64,
    pub(super) deliveries: u64,
    pub(super) audits: u64,
    pub(super) audit_differences: u64,
    pub(super) of_table: HashMap<String, (u64, Timestamp)>,
}

/// An instance's loop.
pub(super) struct Node {
    pub(super) start: Start,
    pub(super) engine: Engine,
    pub(super) system: SystemTables,
    pub(super) cluster: Cluster,
    pub(super) events: Events,
    /// Who waits for the results of calls that were forwarded to other instances, by the call's id.
    pub(super) forwarded: HashMap<String, Answer>,
    pub(super) alarms: Alarms,
    /// Texts of effective plans, for operators; only while one looks.
    pub(super) texts: FastMap<u32, (Arc<EffectivePlan>, Arc<str>)>,
    pub(super) inputs: mpsc::Sender<Input>,
    pub(super) writers: Writers,
    // The numbers are our own, so that clients cannot choose them to collide.
    pub(super) clients: FastMap<u64, (Arc<Client>, BTreeMap<u64, SubId>)>,
    pub(super) subs: FastMap<SubId, Sub>,
    pub(super) next_sub: SubId,
    pub(super) counters: Counters,
    pub(super) since: Timestamp,
    /// When the relay last delivered something of the source, by our clock.
    pub(super) heard: Timestamp,
    pub(super) received: Timestamp,
    /// Since when the reader reads behind what is known here.
    pub(super) rewound: Option<Timestamp>,
    /// When a feed is to be audited next.
    pub(super) next_audit: Timestamp,
    /// Messages of the relay that wait for the loop.
    pub(super) waiting: usize,
    /// Whether an operator watches the relay's messages; the current second, messages shown in it, and left out.
    pub(super) traffic_wanted: bool,
    pub(super) traffic_told: (Timestamp, u32, u64),
    /// What operators are told of topics and presence.
    pub(super) events_told: EventsTold,
    pub(super) told_current: Timestamp,
    pub(super) was_behind: bool,
    pub(super) sampled: Timestamp,
    pub(super) reader: Arc<str>,
    /// Places for questions about other rules.
    pub(super) tries: Arc<Semaphore>,
    /// Subscriptions whose rights are decided outside, and when to look at them again.
    pub(super) outside: FastMap<SubId, Outside>,
    pub(super) renewals: BTreeSet<(Instant, SubId)>,
    /// Clients that an operator holds, and those whose frames one looks at.
    pub(super) held: BTreeSet<u64>,
    pub(super) tapped: BTreeSet<u64>,
}

/// A subscription's decisions from the decision service.
pub(super) struct Outside {
    pub(super) table: String,
    pub(super) params: Map<String, Json>,
    /// It has not begun yet.
    pub(super) pending: Option<Request>,
    pub(super) decided: Option<Decided>,
    /// When to look at it again.
    pub(super) next: Option<Instant>,
}
