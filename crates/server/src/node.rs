//! The loop around the engine: one task that owns it, hands inputs to it and carries out its outputs.
//!
//! Everything that concerns subscriptions passes through here in one order. Connections, the relay and snapshot
//! threads send to bounded channels; nothing here waits for any of them.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};

use gossip_core::engine::{Delta, Engine, Input, Limits, Output, Refusal, Request, SubId};
use gossip_core::explain::{Passed, Step, Tally, Verdict, explain};
use gossip_core::position::{Interval, Micros, Old, Position, RowChange, Transaction};
use gossip_core::query::QueryError;
use gossip_core::rule::{Claims, RuleSet};
use gossip_core::schema::{Row, SYSTEM_SCHEMA, Table};
use gossip_core::seal::Sealer;
use gossip_core::value::Value;
use gossip_core::wire::{self, RpcError, code};
use gossip_relay::{Inbox, Relay};
use parking_lot::Mutex;
use serde_json::{Value as Json, json};
use tokio::sync::{mpsc, oneshot};

use crate::now;
use crate::outbox::{Outbox, Outgoing, Receipt, Subscription, WholeResult};
use crate::reading::{HEARTBEAT, Reading, Snapshots};
use crate::system::SystemTables;

/// Questions and inputs that may wait for the loop; whoever sends more waits.
pub const CHANNEL: usize = 4_096;

/// Subscriptions of one connection.
pub const MAX_SUBSCRIPTIONS: usize = 1_000;

/// How often clients are told how current they are.
const CURRENT_EVERY: Micros = 1_500_000;

/// How often the system tables are sampled.
const SAMPLE_EVERY: Micros = 1_000_000;

/// Rows of one transaction that are shown to operators.
const SHOWN_ROWS: usize = 50;

/// Characters of one value that are shown to operators.
const SHOWN_TEXT: usize = 120;

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
    /// Who it is.
    pub claims: Mutex<Arc<Claims>>,
    /// Set by an operator to end the connection, or when the token has expired.
    pub kicked: tokio::sync::Notify,
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

/// A question of `explain`.
#[derive(Clone, Debug)]
pub struct Explain {
    /// The transaction's source.
    pub source: String,
    /// The transaction.
    pub position: Position,
    /// Whom it concerns.
    pub whom: Whom,
}

/// Whom an explanation concerns.
#[derive(Clone, Debug)]
pub enum Whom {
    /// A subscription of this instance.
    Subscription(SubId),
    /// Anybody with these claims and this query.
    Anybody(Box<Request>),
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
    clients: HashMap<u64, (Arc<Client>, BTreeMap<u64, SubId>)>,
    subs: HashMap<SubId, Sub>,
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
        clients: HashMap::new(),
        subs: HashMap::new(),
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
        tokio::select! {
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
        if interval.source == self.start.source {
            self.heard = self.received;
            self.reader = interval.reader.clone();
        }
        self.handle(Input::Interval(interval));
    }

    /// Hands an input to the engine and carries out all that follows from it.
    fn handle(&mut self, input: Input) {
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
                        Target::Client(client) => client.outbox.push_result(id, whole),
                        Target::Once(answer) => {
                            let (rows, _) = wire::rows_json(&feed, &rows, usize::MAX, &self.start.sealer);
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
            Output::Delta(delta, subscribers) => self.deliver(&delta, &subscribers),
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
            Output::Verdict { sub, source, position, verdict, tally } => {
                if let Some(s) = self.subs.get(&sub) {
                    let cursor = match (verdict, self.engine.effective(sub)) {
                        (Verdict::Matched, Some(e)) => {
                            let epoch = self.engine.progress(&source).epoch;
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

    #[allow(clippy::too_many_arguments)]
    fn tell_verdict(
        &mut self,
        sub: &Subscription,
        source: &str,
        position: Position,
        verdict: &str,
        tally: Tally,
        at: Micros,
        cursor: Value,
    ) {
        self.system.add(
            "verdicts",
            vec![
                format!("{source}:{position}").into(),
                self.start.name.as_str().into(),
                sub.observed.as_deref().unwrap_or("").into(),
                Value::Int(sub.id as i64),
                verdict.into(),
                Value::Int(tally.added.into()),
                Value::Int(tally.replaced.into()),
                Value::Int(tally.removed.into()),
                Value::Int(at),
                cursor,
            ],
        );
    }

    fn taken(&mut self, interval: &Interval, t: &Transaction) {
        if &*interval.source == SYSTEM_SCHEMA {
            return;
        }
        self.counters.changes += t.changes.len() as u64;
        for c in &t.changes {
            let of_table = self.counters.of_table.entry(c.table.to_string()).or_default();
            *of_table = (of_table.0 + 1, t.committed.to);
        }
        let before = interval.transactions.iter().rev().find(|b| b.position < t.position).map(|b| b.position);
        let shown: Vec<Json> = t.changes.iter().take(SHOWN_ROWS).map(|c| self.show_change(c)).collect();
        self.system.add(
            "changes",
            vec![
                format!("{}:{}", interval.source, t.position).into(),
                format!("{}:{}", interval.source, before.unwrap_or(interval.from)).into(),
                Value::Int(t.committed.from),
                Value::Int(t.committed.to),
                Value::Int(interval.read_at),
                Value::Int(self.received),
                interval.reader.as_ref().into(),
                self.start.name.as_str().into(),
                Value::Int(t.changes.len() as i64),
                Json::from(shown).to_string().into(),
            ],
        );
    }

    fn show_change(&self, c: &RowChange) -> Json {
        let row = |row: &Row| -> Json {
            let Some(table) = self.engine.catalog().get(&c.table) else { return Json::Null };
            let cell = |(column, v): (&gossip_core::schema::Column, &Value)| {
                let v = match v.to_json() {
                    Json::String(s) if s.chars().count() > SHOWN_TEXT => {
                        Json::from(s.chars().take(SHOWN_TEXT).chain(['…']).collect::<String>())
                    }
                    v => v,
                };
                (column.name.to_string(), v)
            };
            table.columns.iter().zip(row.iter()).map(cell).collect::<serde_json::Map<_, _>>().into()
        };
        let old = match &c.old {
            Old::Known(Some(old)) => row(old),
            _ => Json::Null,
        };
        let key: Vec<Json> = c.key.iter().map(Value::to_json).collect();
        json!({"table": c.table.to_string(), "key": key, "old": old, "new": c.new.as_ref().map(row)})
    }

    fn deliver(&mut self, delta: &Arc<Delta>, subscribers: &[SubId]) {
        let sealer = &self.start.sealer;
        let cursor = wire::cursor(&delta.feed, delta.epoch, delta.position, sealer);
        let mut bodies: [Option<Arc<str>>; 2] = [None, None];
        for id in subscribers {
            let Some(Sub { subscription, target: Target::Client(client), operator, .. }) = self.subs.get(id) else {
                continue;
            };
            let body = bodies[usize::from(*operator)]
                .get_or_insert_with(|| wire::delta_body(delta, &cursor, *operator, sealer).into())
                .clone();
            let receipt = subscription.observed.as_ref().map(|_| {
                Box::new(Receipt {
                    subscription: subscription.clone(),
                    source: delta.feed.table.source.clone(),
                    position: delta.position,
                })
            });
            let bytes = body.len();
            client.outbox.offer(*id, Outgoing::Delta { number: subscription.number, body, receipt }, bytes);
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
                    client.outbox.say(wire::notify("closed", json!({"subscription": number, "why": why})));
                } else {
                    client.outbox.say(wire::refuse(&sub.subscription.call, &error));
                }
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
            Ask::Subscribe { client, call, request, observed } => self.subscribe(client, call, request, observed),
            Ask::Unsubscribe { client, call, number } => {
                let Some((client, subs)) = self.clients.get_mut(&client) else { return };
                match subs.remove(&number) {
                    Some(id) => {
                        // A result or delta that waits must not come after the answer.
                        client.outbox.discard(id);
                        let unanswered = self.subs.get(&id).filter(|s| !s.subscription.answered.swap(true, Relaxed));
                        if let Some(s) = unanswered {
                            let e = RpcError::new(code::UNKNOWN_NAME, "unsubscribed before the first result");
                            client.outbox.say(wire::refuse(&s.subscription.call, &e));
                        }
                        client.outbox.say(wire::reply(&call, json!({})));
                        self.subs.remove(&id);
                        self.handle(Input::Unsubscribe(id));
                    }
                    None => {
                        let e =
                            RpcError::new(code::UNKNOWN_NAME, format!("this connection has no subscription {number}"));
                        client.outbox.say(wire::refuse(&call, &e));
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
                });
                let (operator, text) = (request.claims.operator, request.query.clone());
                self.subs.insert(id, Sub { subscription, target: Target::Once(Some(answer)), operator, text });
                self.handle(Input::Subscribe(id, request));
            }
            Ask::Rules(rules) => self.handle(Input::Rules(rules)),
            Ask::State(answer) => drop(answer.send(self.state())),
        }
    }

    fn subscribe(&mut self, client: u64, call: Json, mut request: Request, observed: Option<String>) {
        let Some((client, subs)) = self.clients.get_mut(&client) else { return };
        if subs.len() >= MAX_SUBSCRIPTIONS {
            let e = RpcError::new(code::LIMIT, format!("subscriptions of one connection, at most {MAX_SUBSCRIPTIONS}"));
            return client.outbox.say(wire::refuse(&call, &e));
        }
        let id = self.next_sub;
        self.next_sub += 1;
        let number = subs.last_key_value().map_or(0, |(n, _)| *n).max(id);
        subs.insert(number, id);
        request.observed = observed.is_some();
        let answered = AtomicBool::new(false);
        let subscription = Arc::new(Subscription { id, number, call, answered, observed });
        let (operator, text) = (request.claims.operator, request.query.clone());
        self.subs.insert(id, Sub { subscription, target: Target::Client(client.clone()), operator, text });
        self.handle(Input::Subscribe(id, request));
    }

    fn explain(&self, q: Explain) -> Result<Json, RpcError> {
        let (effective, standing) = match &q.whom {
            Whom::Subscription(id) => self.engine.inquiry(*id).ok_or_else(|| {
                RpcError::new(
                    code::UNKNOWN_NAME,
                    format!("this instance has no subscription {id}; gossip.clients lists them"),
                )
            })?,
            Whom::Anybody(request) => self.engine.hypothetical(request).map_err(|e| refused(&Refusal::Query(e)))?,
        };
        let t = self.engine.transaction(&q.source, q.position).ok_or_else(|| {
            let text = format!(
                "transaction {}:{} is not remembered; the newest {} are",
                q.source,
                q.position,
                Limits::default().window
            );
            RpcError::new(code::UNKNOWN_NAME, text)
        })?;
        let mut steps = explain(&effective, &standing, &t);
        let stopped = steps.iter().any(|s| s.verdict != Passed::Yes);
        let passed = if stopped { Passed::NotReached } else { Passed::Yes };
        let text = if stopped { "" } else { "the delta went to the client's queue" };
        steps.push(Step::new("queue", passed, text, vec![]));
        Ok(json!({"steps": steps, "query": effective.to_sql()}))
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
        if flipped || time - self.told_current > CURRENT_EVERY {
            self.told_current = time;
            let text = wire::notify("current", json!({"position": self.position(), "behind_ms": behind}));
            for (client, subs) in self.clients.values() {
                // Whoever has not read the last messages yet is not current anyway.
                if !subs.is_empty() && (flipped || client.outbox.waiting().0 == 0) {
                    client.outbox.say(text.clone());
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

    fn sample(&mut self) {
        let int = |n: usize| Value::Int(n as i64);
        let progress = self.engine.progress(&self.start.source);
        let feeds: Vec<_> = self.engine.feeds().filter(|f| !f.effective.table.name.is_system()).collect();
        let own = feeds.iter().map(|f| f.subscriptions).sum();
        let reading = self.start.reading.lock().status();
        let instance = vec![
            self.start.name.as_str().into(),
            self.start.address.to_string().into(),
            wire::rfc3339(self.since).into(),
            self.start.source.as_ref().into(),
            Value::Bool(reading == "reading"),
            self.reader.as_ref().into(),
            Value::Int(progress.epoch as i64),
            self.position().into(),
            Value::Int(self.behind_ms() as i64),
            reading.into(),
            int(self.clients.len()),
            int(own),
            int(feeds.len()),
            Value::Int(self.counters.changes as i64),
            Value::Int(self.counters.deliveries as i64),
            self.engine.rules().hash().into(),
            env!("CARGO_PKG_VERSION").into(),
        ];
        self.system.show("instances", vec![instance]);

        let row = |f: &gossip_core::engine::FeedInfo| {
            let e = &f.effective;
            let deltas = Value::Int(f.deltas as i64);
            vec![int(f.id as usize), e.table.name.to_string().into(), e.to_sql().into(), int(f.subscriptions), deltas]
        };
        self.system.show("feeds", feeds.iter().map(row).collect());

        let mut tables = Vec::new();
        for t in self.engine.catalog().iter().filter(|t| !t.name.is_system()) {
            let (changes, last) = self.counters.of_table.get(&t.name.to_string()).copied().unwrap_or_default();
            let columns: Vec<Json> = t.columns.iter().map(|c| json!({"name": &*c.name, "type": c.ty.name()})).collect();
            let key: Vec<&str> = t.key.iter().map(|&i| &*t.columns[i].name).collect();
            let rules = self.engine.rules().texts().iter().filter(|r| r.table == t.name);
            let roles: std::collections::BTreeSet<&str> = rules.map(|r| r.role.as_str()).collect();
            tables.push(vec![
                t.name.to_string().into(),
                t.source.as_ref().into(),
                Json::from(columns).to_string().into(),
                key.join(", ").into(),
                Value::Bool(t.old_values),
                int(feeds.iter().filter(|f| f.effective.table.name == t.name).count()),
                Value::Int(changes as i64),
                if changes > 0 { wire::rfc3339(last).into() } else { Value::Null },
                roles.into_iter().collect::<Vec<_>>().join(", ").into(),
            ]);
        }
        self.system.show("tables", tables);

        let mut clients = Vec::new();
        for (c, subs) in self.clients.values() {
            let claims = c.claims.lock().clone();
            let (waiting, bytes) = c.outbox.waiting();
            let subs: Vec<Json> = subs
                .iter()
                .filter_map(|(number, id)| {
                    let s = self.subs.get(id)?;
                    Some(json!({"id": id, "number": number, "query": s.text, "observed": s.subscription.observed}))
                })
                .collect();
            clients.push(vec![
                Value::Int(c.id as i64),
                claims.subject().map_or(Value::Null, Value::from),
                claims.roles.join(", ").into(),
                c.address.to_string().into(),
                "websocket".into(),
                wire::rfc3339(c.since).into(),
                Json::from(subs).to_string().into(),
                int(waiting),
                int(bytes),
                // Whoever watches this table would otherwise keep changing it.
                Value::Int(if claims.operator { 0 } else { c.outbox.sent.load(Relaxed) as i64 }),
                Value::Int(c.outbox.caught_up.load(Relaxed) as i64),
            ]);
        }
        self.system.show("clients", clients);
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
