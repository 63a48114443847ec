//! The loop around the engine: one task that owns it, hands inputs to it and carries out its outputs.
//!
//! Everything that concerns subscriptions passes through here in one order. Connections, the relay and snapshot
//! threads send to bounded channels; nothing here waits for any of them. [`operators`] is what operators are told,
//! [`explain`] what they ask.

mod explain;
mod operators;

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::Duration;

use bytes::Bytes;
use foldhash::HashMap as FastMap;
use gossip_core::engine::{Delta, Engine, Input, Limits, Output, Refusal, Request, SubId};
use gossip_core::explain::{Tally, Verdict};
use gossip_core::position::{Interval, Micros};
use gossip_core::query::QueryError;
use gossip_core::rule::{Claims, RuleSet};
use gossip_core::schema::Table;
use gossip_core::seal::Sealer;
use gossip_core::value::Value;
use gossip_core::wire::{self, RpcError, Wording, code};
use gossip_relay::{Inbox, Relay};
use parking_lot::Mutex;
use serde_json::{Value as Json, json};
use tokio::sync::{mpsc, oneshot};

pub use explain::{Explain, Whom};

use crate::now;
use crate::outbox::{self, Outbox, Receipt, Style, Subscription, Then, WholeResult};
use crate::reading::{HEARTBEAT, Reading, Snapshots};
use crate::system::SystemTables;
use crate::writers::Writers;

/// Questions and inputs that may wait for the loop; whoever sends more waits.
pub const CHANNEL: usize = 4_096;

/// Subscriptions of one connection.
pub const MAX_SUBSCRIPTIONS: usize = 1_000;

/// How often clients are told how current they are.
const CURRENT_EVERY: Micros = 1_500_000;

/// How often the system tables are sampled.
const SAMPLE_EVERY: Micros = 1_000_000;

/// A connected client.
#[derive(Debug)]
pub struct Client {
    /// Its number in this instance.
    pub id: u64,
    /// Where it comes from.
    pub address: SocketAddr,
    /// When it came.
    pub since: Micros,
    /// What it is to be told.
    pub outbox: Outbox,
    /// Subscriptions that it ever made.
    pub subscriptions: AtomicU64,
    /// Who it is.
    pub claims: Mutex<Arc<Claims>>,
}

/// What is asked of the loop.
pub enum Ask {
    /// A client has come.
    Connected(Arc<Client>),
    /// A client has gone.
    Disconnected(u64),
    /// A client has other claims.
    Claims(u64, Arc<Claims>),
    /// A client subscribes; the answer goes to its outbox.
    Subscribe {
        /// The client.
        client: u64,
        /// The id of the call.
        call: Json,
        /// What it asks for.
        request: Request,
        /// How it wants to be told.
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
    /// A slow client has read what was left.
    CatchUp(SubId),
    /// A delta that is observed has been written to its socket.
    Written(Box<Receipt>, Micros),
    /// Why a transaction did or did not reach somebody.
    Explain(Explain, oneshot::Sender<Result<Json, RpcError>>),
    /// One result, once.
    Rows(Request, oneshot::Sender<Result<String, RpcError>>),
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
    /// The tables at the start.
    pub tables: Vec<Arc<Table>>,
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
    pub reading: Arc<Mutex<Reading>>,
    /// The loop's own questions, which must not keep it alive.
    pub asks: mpsc::WeakSender<Ask>,
}

enum Target {
    Client(Arc<Client>),
    Once(Option<oneshot::Sender<Result<String, RpcError>>>),
}

struct Sub {
    subscription: Arc<Subscription>,
    target: Target,
    operator: bool,
    text: String,
}

#[derive(Default)]
struct Counters {
    changes: u64,
    deliveries: u64,
    of_table: HashMap<String, (u64, Micros)>,
}

struct Node {
    start: Start,
    engine: Engine,
    system: SystemTables,
    inputs: mpsc::Sender<Input>,
    writers: Writers,
    // The numbers are our own, so that nobody can choose them to collide.
    clients: FastMap<u64, (Arc<Client>, BTreeMap<u64, SubId>)>,
    subs: FastMap<SubId, Sub>,
    next_sub: SubId,
    counters: Counters,
    since: Micros,
    /// When the relay was last heard of the source, by our clock.
    heard: Micros,
    received: Micros,
    told_current: Micros,
    was_behind: bool,
    sampled: Micros,
    reader: Arc<str>,
}

/// Runs the loop until all senders of `asks` are gone.
pub async fn run(start: Start, mut asks: mpsc::Receiver<Ask>, mut inbox: Inbox) {
    let (inputs, mut from_threads) = mpsc::channel(CHANNEL);
    let mut engine = Engine::new(start.rules.clone(), start.limits);
    let system = SystemTables::new();
    for table in start.tables.iter().chain(system.tables()) {
        engine.handle(Input::Table(table.clone()));
    }
    let mut node = Node {
        engine,
        system,
        inputs,
        writers: Writers::start(&start.asks, &start.sealer),
        clients: FastMap::default(),
        subs: FastMap::default(),
        next_sub: 1,
        counters: Counters::default(),
        since: now(),
        heard: now(),
        received: now(),
        told_current: 0,
        was_behind: false,
        sampled: 0,
        reader: "".into(),
        start,
    };
    let sign = node.system.sign(now());
    node.handle(Input::Interval(Arc::new(sign)));
    let mut tick = tokio::time::interval(HEARTBEAT);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        let due = node.engine.next_due();
        tokio::select! {
            () = until(due) => node.handle(Input::Tick),
            interval = inbox.recv() => match interval {
                Some(interval) => node.hear(interval),
                // The relay is gone for good; what we have is still served, and is said not to be current.
                None => node.tick_only(&mut asks).await,
            },
            Some(input) = from_threads.recv() => node.handle(input),
            ask = asks.recv() => match ask {
                Some(ask) => node.answer(ask),
                None => return,
            },
            _ = tick.tick() => node.tick(),
        }
        node.writers.release();
    }
}

async fn until(due: Option<Micros>) {
    match due {
        Some(due) => tokio::time::sleep(Duration::from_micros((due - now()).max(0).unsigned_abs())).await,
        None => std::future::pending().await,
    }
}

impl Node {
    async fn tick_only(&mut self, asks: &mut mpsc::Receiver<Ask>) {
        if let Some(ask) = asks.recv().await {
            self.answer(ask);
        }
        self.tick();
    }

    fn hear(&mut self, interval: Arc<Interval>) {
        self.received = now();
        self.writers.joining = interval.transactions.len() > 1;
        if interval.source == self.start.source {
            self.heard = self.received;
            self.reader = interval.reader.clone();
        }
        self.handle(Input::Interval(interval));
    }

    /// Hands an input to the engine and carries out all that follows from it.
    fn handle(&mut self, input: Input) {
        self.engine.set_clock(now());
        let mut inputs = VecDeque::from([input]);
        while let Some(input) = inputs.pop_front() {
            for output in self.engine.handle(input) {
                self.carry_out(output, &mut inputs);
            }
            if inputs.is_empty() {
                inputs.extend(self.system.take(now()).map(|i| Input::Interval(Arc::new(i))));
            }
        }
    }

    fn carry_out(&mut self, output: Output, inputs: &mut VecDeque<Input>) {
        match output {
            Output::FetchSnapshot(id, feed) if feed.table.name.is_system() => {
                // What is pending belongs to a later position than the one the snapshot stands at.
                inputs.extend(self.system.take(now()).map(|i| Input::Interval(Arc::new(i))));
                let (rows, at) = self.system.snapshot(&feed.table.name.name);
                inputs.push_back(Input::SnapshotRows(id, rows));
                inputs.push_back(Input::SnapshotDone(id, at));
            }
            Output::FetchSnapshot(id, feed) => {
                self.start.snapshots.fetch(id, feed.table.clone(), self.inputs.clone());
            }
            Output::CancelSnapshot(id) => self.start.snapshots.cancel(id),
            Output::Result { to, feed, rows, epoch, position } => {
                let cursor: Arc<str> = wire::cursor(&feed, epoch, position, &self.start.sealer).into();
                let mut once = Vec::new();
                for (id, why) in to {
                    let Some(sub) = self.subs.get_mut(&id) else { continue };
                    let whole = WholeResult {
                        subscription: sub.subscription.clone(),
                        why,
                        feed: feed.clone(),
                        rows: rows.clone(),
                        cursor: cursor.clone(),
                        next: 0,
                        part: 0,
                    };
                    match &mut sub.target {
                        Target::Client(client) => {
                            client.outbox.push_result(id, whole);
                            self.writers.due(client);
                        }
                        Target::Once(answer) => {
                            let (rows, _) = wire::rows_json(&feed, &rows, usize::MAX, usize::MAX, &self.start.sealer);
                            let columns = json!(wire::columns(&feed));
                            let text = format!("{{\"columns\":{columns},\"rows\":{rows},\"cursor\":\"{cursor}\"}}");
                            if let Some(answer) = answer.take() {
                                let _ = answer.send(Ok(text));
                            }
                            once.push(id);
                        }
                    }
                }
                for id in once {
                    self.subs.remove(&id);
                    inputs.push_back(Input::Unsubscribe(id));
                }
            }
            Output::Resumed { sub, feed, epoch, position } => {
                let cursor = wire::cursor(&feed, epoch, position, &self.start.sealer);
                if let Some(Sub { subscription, target: Target::Client(client), .. }) = self.subs.get(&sub) {
                    let columns = wire::columns(&feed);
                    let number = subscription.number;
                    let result = json!({"subscription": number, "columns": columns, "resumed": true, "cursor": cursor});
                    client.outbox.answer(subscription, &wire::reply(&subscription.call, result));
                    self.writers.due(client);
                }
            }
            Output::Delta(delta, subscribers) => self.deliver(&delta, subscribers.as_slice()),
            Output::Discard(id) => {
                if let Some(Sub { target: Target::Client(client), .. }) = self.subs.get(&id) {
                    client.outbox.discard(id);
                }
            }
            Output::Closed(id, refusal) => self.closed(id, refusal),
            Output::Heal { source, after } => {
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
            Output::Verdict { sub, source, epoch, position, verdict, tally } => {
                if let Some(s) = self.subs.get(&sub) {
                    let cursor = match (verdict, self.engine.effective(sub)) {
                        (Verdict::Matched, Some(e)) => {
                            Value::from(wire::cursor(&e, epoch, position, &self.start.sealer))
                        }
                        _ => Value::Null,
                    };
                    let subscription = s.subscription.clone();
                    self.tell_verdict(&subscription, &source, position, word(verdict), tally, now(), cursor);
                }
            }
            Output::Taken(interval, transaction) => self.taken(&interval, &transaction),
        }
    }

    fn deliver(&mut self, delta: &Arc<Delta>, subscribers: &[SubId]) {
        let sealer = &self.start.sealer;
        let cursor = wire::cursor(&delta.feed, delta.epoch, delta.position, sealer);
        let mut bodies: FastMap<Wording, String> = FastMap::default();
        // Most clients' subscriptions have the same few numbers; then even the head is the same.
        let mut frames: FastMap<(u64, Wording), Bytes> = FastMap::default();
        let mut last: Option<((u64, Wording), Bytes)> = None;
        for id in subscribers {
            let Some(Sub { subscription, target: Target::Client(client), operator, .. }) = self.subs.get(id) else {
                continue;
            };
            let wording = Wording { position: *operator, only_changed: subscription.style.only_changed };
            let which = (subscription.number, wording);
            let frame = match &last {
                Some((of, frame)) if *of == which => frame.clone(),
                _ => {
                    let made = frames.entry(which).or_insert_with(|| {
                        let body =
                            bodies.entry(wording).or_insert_with(|| wire::delta_body(delta, &cursor, wording, sealer));
                        outbox::frame(&(wire::delta_head(which.0) + body.as_str()))
                    });
                    last = Some((which, made.clone()));
                    made.clone()
                }
            };
            let then = match &subscription.observed {
                None => Then::Nothing,
                Some(_) => Then::Tell(Box::new(Receipt {
                    subscription: subscription.clone(),
                    source: delta.feed.table.source.clone(),
                    position: delta.position,
                })),
            };
            client.outbox.offer(*id, frame, then);
            self.writers.due(client);
        }
        if !delta.feed.table.name.is_system() {
            self.counters.deliveries += subscribers.len() as u64;
        }
    }

    fn closed(&mut self, id: SubId, refusal: Refusal) {
        let Some(sub) = self.subs.remove(&id) else { return };
        let error = refused(&refusal);
        match sub.target {
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
                if sub.subscription.answered.swap(true, Relaxed) {
                    let why = match refusal {
                        Refusal::SchemaChanged(e) => format!("schema-changed: {e}"),
                        Refusal::RightsChanged(e) => format!("rights-changed: {e}"),
                        _ => error.message,
                    };
                    let number = sub.subscription.number;
                    client.outbox.say(&wire::notify("closed", json!({"subscription": number, "why": why})));
                } else {
                    client.outbox.say(&wire::refuse(&sub.subscription.call, &error));
                }
                self.writers.due(&client);
            }
        }
    }

    fn answer(&mut self, ask: Ask) {
        match ask {
            Ask::Connected(client) => drop(self.clients.insert(client.id, (client, BTreeMap::new()))),
            Ask::Disconnected(id) => {
                let Some((_, subs)) = self.clients.remove(&id) else { return };
                for sub in subs.into_values() {
                    self.subs.remove(&sub);
                    self.handle(Input::Unsubscribe(sub));
                }
            }
            Ask::Claims(client, claims) => {
                let Some((_, subs)) = self.clients.get(&client) else { return };
                let subs: Vec<SubId> = subs.values().copied().collect();
                for id in &subs {
                    if let Some(sub) = self.subs.get_mut(id) {
                        sub.operator = claims.operator;
                    }
                }
                self.handle(Input::Claims(subs, claims));
            }
            Ask::Subscribe { client, call, request, style, observed } => {
                self.subscribe(client, call, request, style, observed);
            }
            Ask::Unsubscribe { client, call, number } => {
                let Some((client, subs)) = self.clients.get_mut(&client) else { return };
                match subs.remove(&number) {
                    Some(id) => {
                        // A result or delta that waits must not come after the answer.
                        client.outbox.discard(id);
                        let unanswered = self.subs.get(&id).filter(|s| !s.subscription.answered.swap(true, Relaxed));
                        if let Some(s) = unanswered {
                            let e = RpcError::new(code::UNKNOWN_NAME, "unsubscribed before the first result");
                            client.outbox.say(&wire::refuse(&s.subscription.call, &e));
                        }
                        client.outbox.say(&wire::reply(&call, json!({})));
                        self.writers.due(client);
                        self.subs.remove(&id);
                        self.handle(Input::Unsubscribe(id));
                    }
                    None => {
                        let e =
                            RpcError::new(code::UNKNOWN_NAME, format!("this connection has no subscription {number}"));
                        client.outbox.say(&wire::refuse(&call, &e));
                        self.writers.due(client);
                    }
                }
            }
            Ask::CatchUp(id) => self.handle(Input::CatchUp(id)),
            Ask::Written(receipt, at) => {
                let Receipt { subscription, source, position } = *receipt;
                self.tell_verdict(&subscription, &source, position, "written", Tally::default(), at, Value::Null);
                let pending = self.system.take(now());
                pending.into_iter().for_each(|i| self.handle(Input::Interval(Arc::new(i))));
            }
            Ask::Explain(question, answer) => drop(answer.send(self.explain(question))),
            Ask::Rows(request, answer) => {
                let id = self.next_sub;
                self.next_sub += 1;
                let subscription = Arc::new(Subscription {
                    id,
                    number: 0,
                    call: Json::Null,
                    answered: AtomicBool::new(false),
                    observed: None,
                    style: Style { batch: usize::MAX, only_changed: false },
                });
                let (operator, text) = (request.claims.operator, request.query.clone());
                self.subs.insert(id, Sub { subscription, target: Target::Once(Some(answer)), operator, text });
                self.handle(Input::Subscribe(id, request));
            }
            Ask::Rules(rules) => self.handle(Input::Rules(rules)),
            Ask::State(answer) => drop(answer.send(self.state())),
        }
    }

    fn subscribe(&mut self, client: u64, call: Json, mut request: Request, style: Style, observed: Option<String>) {
        let Some((client, subs)) = self.clients.get_mut(&client) else { return };
        if subs.len() >= MAX_SUBSCRIPTIONS {
            let e = RpcError::new(code::LIMIT, format!("subscriptions of one connection, at most {MAX_SUBSCRIPTIONS}"));
            client.outbox.say(&wire::refuse(&call, &e));
            return self.writers.due(client);
        }
        let id = self.next_sub;
        self.next_sub += 1;
        // Counted within the connection: a number must not tell how much others do.
        let number = client.subscriptions.fetch_add(1, Relaxed) + 1;
        subs.insert(number, id);
        request.observed = observed.is_some();
        let answered = AtomicBool::new(false);
        let subscription = Arc::new(Subscription { id, number, call, answered, observed, style });
        let (operator, text) = (request.claims.operator, request.query.clone());
        self.subs.insert(id, Sub { subscription, target: Target::Client(client.clone()), operator, text });
        self.handle(Input::Subscribe(id, request));
    }

    fn behind_ms(&self) -> u64 {
        let silent = now() - self.heard;
        let missing = self.engine.is_healing(&self.start.source);
        let limit = 3 * HEARTBEAT.as_micros() as Micros;
        if missing || silent > limit { (silent / 1_000).unsigned_abs().max(1) } else { 0 }
    }

    fn position(&self) -> String {
        let at = self.engine.progress(&self.start.source).at;
        at.map_or(String::new(), |at| format!("{}:{at}", self.start.source))
    }

    fn state(&self) -> State {
        State {
            ready: self.engine.progress(&self.start.source).at.is_some() && self.behind_ms() == 0,
            position: self.position(),
            behind_ms: self.behind_ms(),
            reading: self.start.reading.lock().status(),
        }
    }

    fn tick(&mut self) {
        self.handle(Input::Tick);
        let (time, behind) = (now(), self.behind_ms());
        let flipped = std::mem::replace(&mut self.was_behind, behind > 0) != (behind > 0);
        let known = self.engine.progress(&self.start.source).at.is_some();
        if known && (flipped || time - self.told_current > CURRENT_EVERY) {
            self.told_current = time;
            let text = wire::notify("current", json!({"position": self.position(), "behind_ms": behind}));
            let frame = outbox::frame(&text);
            for (client, subs) in self.clients.values() {
                // Whoever has not read the last messages yet is not current anyway.
                if !subs.is_empty() && (flipped || client.outbox.is_up_to_date()) {
                    client.outbox.push(frame.clone());
                    self.writers.due(client);
                }
            }
        }
        if time - self.sampled > SAMPLE_EVERY {
            self.sampled = time;
            self.sample();
            let pending = self.system.take(time);
            pending.into_iter().for_each(|i| self.handle(Input::Interval(Arc::new(i))));
        }
    }
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Elsewhere => "elsewhere",
        Verdict::Withheld => "withheld",
        Verdict::Outside => "outside",
        Verdict::Unchanged => "unchanged",
        Verdict::Folded => "folded",
        Verdict::Matched => "matched",
    }
}

/// A refusal as the protocol says it.
pub fn refused(refusal: &Refusal) -> RpcError {
    match refusal {
        Refusal::Query(e @ QueryError::NotKnown { line, column, .. }) => {
            RpcError::new(code::NOT_KNOWN, e.to_string()).with(json!({"line": line, "column": column}))
        }
        Refusal::Query(e @ QueryError::Invalid { line, column, expected, .. }) => {
            RpcError::new(code::QUERY, e.to_string())
                .with(json!({"line": line, "column": column, "expected": expected}))
        }
        Refusal::Query(e @ QueryError::Parameter(_)) => RpcError::new(code::QUERY, e.to_string()),
        Refusal::Limit(which) => RpcError::new(code::LIMIT, format!("limit reached: {which}")),
        Refusal::Unavailable(why) => {
            RpcError::new(code::UNAVAILABLE, format!("not available now: {why}; try again in a second"))
                .with(json!({"retry_after_ms": 1_000}))
        }
        Refusal::SchemaChanged(why) | Refusal::RightsChanged(why) => RpcError::new(code::NOT_KNOWN, why.clone()),
    }
}
