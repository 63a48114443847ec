//! The loop around the engine: one task that owns it, hands inputs to it and carries out its outputs.
//!
//! Everything that concerns subscriptions passes through here in one order. Connections, the relay and snapshot
//! threads send to bounded channels; nothing here waits for any of them. [`answering`] takes what connections ask,
//! [`deciding`] waits for rights that are decided elsewhere; [`operators`] is what operators are told,
//! [`explain`] and [`what_if`] what they ask. [`calls`] is what operators have done, here or elsewhere.
//! [`alarms`] is what they have to do something about. [`events`] has what is published, [`publishing`] who waits for it, [`members`] the other instances.

mod alarms;
mod answering;
mod ask;
mod calls;
mod deciding;
mod events;
mod explain;
mod members;
mod operators;
mod publishing;
mod what_if;

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, Instant};

use bytes::Bytes;
use foldhash::HashMap as FastMap;
use gossip_core::column_pruning;
use gossip_core::engine::{Delta, Engine, Input, Output, Refusal, SubId};
use gossip_core::explain::Verdict;
use gossip_core::position::{Interval, Micros, SnapshotPoint};
use gossip_core::query::QueryError;
use gossip_core::rule::EffectiveQuery;
use gossip_core::schema::TOPIC_SOURCE;
use gossip_core::seam::ResultRows;
use gossip_core::wire::{self, Wording};
use gossip_protocol::{RpcError, code, message};
use gossip_relay::{Heard, Inbox};
use serde_json::{Value as Json, json};
use tokio::sync::{Semaphore, mpsc, oneshot};

use alarms::Alarms;
pub use ask::{Client, Command, Start, State};
use calls::Calls;
pub use calls::Operate;
use deciding::Outside;
use events::Events;
pub use events::Publish;
pub use explain::{Explain, Whom};
pub use members::GONE_AFTER;
use members::Members;
use operators::Passing;
pub use publishing::Published;
pub use what_if::{Held, WhatIf};

use crate::audit_log::Who;
use crate::now;
use crate::outbox::{self, Receipt, Subscription, Then, WholeResult};
use crate::reading::HEARTBEAT;
use crate::supervisor::faults;
use crate::system::SystemTables;
use crate::topics::Topics;
use crate::writers::Writers;

/// Questions and inputs that may wait for the loop; whoever sends more waits.
pub const CHANNEL: usize = 4_096;

/// Pieces of snapshots that may wait for the loop; the database is read no further meanwhile.
const PIECES: usize = 32;

/// Subscriptions of one connection.
pub const MAX_SUBSCRIPTIONS: usize = 1_000;

/// How often clients are told how current they are.
const CURRENT_EVERY: Micros = 1_500_000;

/// A turn of the loop that takes so long never ends.
const HANGS: Duration = Duration::from_secs(20);

/// How often the system tables are sampled.
const SAMPLE_EVERY: Micros = 1_000_000;

/// Shortest time between two audits, and what each row of one adds to it: about 1 % of the time that reading it takes.
const AUDIT_EVERY: Micros = 5_000_000;
const AUDIT_PAUSE: Micros = 500;

/// For so long a reader may repeat what is known already.
const REWOUND_FOR: Micros = 5_000_000;

enum Target {
    Client(Arc<Client>),
    Once(Option<oneshot::Sender<Result<OneResult, RpcError>>>),
    /// Nobody: only that there is a result is told, and it is kept up to date.
    Held(Option<oneshot::Sender<()>>),
}

/// A result that is asked for once, to be put into words by whoever asks.
pub struct OneResult {
    /// What was asked.
    pub feed: Arc<EffectiveQuery>,
    /// The rows.
    pub rows: Arc<ResultRows>,
    /// Where it stands.
    pub cursor: Arc<str>,
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
    audits: u64,
    audit_differences: u64,
    of_table: HashMap<String, (u64, Micros)>,
}

struct Node {
    start: Start,
    engine: Engine,
    system: SystemTables,
    topics: Topics,
    events: Events,
    members: Members,
    calls: Calls,
    alarms: Alarms,
    /// Texts of effective queries, for operators; only while one looks.
    texts: FastMap<u32, (Arc<EffectiveQuery>, Arc<str>)>,
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
    /// Since when the reader reads behind what is known here.
    rewound: Option<Micros>,
    /// When a feed is to be audited next.
    next_audit: Micros,
    /// Messages of the relay that wait for the loop.
    waiting: usize,
    /// Whether an operator wants to hear what comes over the relay; the second, what was told in it, and what was left out.
    traffic_wanted: bool,
    traffic_told: (Micros, u32, u64),
    told_current: Micros,
    was_behind: bool,
    sampled: Micros,
    reader: Arc<str>,
    /// Places for questions about other rules.
    tries: Arc<Semaphore>,
    /// Subscriptions whose rights are decided outside, and when to look at them again.
    outside: FastMap<SubId, Outside>,
    renewals: BTreeSet<(Instant, SubId)>,
}

/// Runs the loop until all senders of `asks` are gone.
pub async fn run(start: Start, mut asks: mpsc::Receiver<Command>, mut inbox: Inbox) {
    let (inputs, mut from_threads) = mpsc::channel(PIECES);
    let _guard = start.supervisor.guard("the loop");
    let beat = start.supervisor.beat("the loop", HANGS);
    let mut engine = Engine::new(start.rules.clone(), start.limits);
    engine.set_default_schema(&start.default_schema);
    engine.set_order_key(start.sealer.order_key());
    let system = SystemTables::new();
    let topics = Topics::new(&start.topics, rand::random());
    for table in start.tables.iter().chain(system.tables()).chain(topics.tables()) {
        engine.handle(Input::Table(table.clone()));
    }
    let mut node = Node {
        engine,
        system,
        topics,
        events: Events::start(start.relay.clone()),
        members: Members::new(),
        calls: Calls::default(),
        alarms: Alarms::default(),
        texts: FastMap::default(),
        inputs,
        writers: Writers::start(&start.asks, &start.sealer, &start.supervisor),
        clients: FastMap::default(),
        subs: FastMap::default(),
        next_sub: 1,
        counters: Counters::default(),
        since: now(),
        heard: now(),
        received: now(),
        rewound: None,
        next_audit: now() + AUDIT_EVERY,
        waiting: 0,
        traffic_wanted: false,
        traffic_told: (0, 0, 0),
        told_current: 0,
        was_behind: false,
        sampled: 0,
        reader: "".into(),
        tries: Arc::new(Semaphore::new(what_if::MAX_UNDER_WAY)),
        outside: FastMap::default(),
        renewals: BTreeSet::new(),
        start,
    };
    let sign = node.system.sign(now());
    node.handle(Input::Interval(Arc::new(sign)));
    let sign = node.topics.sign(now());
    node.handle(Input::Interval(Arc::new(sign)));
    node.ask_history();
    node.tell_needs();
    node.tell_compiler();
    let mut tick = tokio::time::interval(HEARTBEAT);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        beat.beat();
        faults::pass("loop");
        let due = node.engine.next_due();
        let renewal = node.renewals.first().map(|(at, _)| *at);
        tokio::select! {
            () = until(due) => node.handle(Input::Tick),
            () = at(renewal) => node.renew_decisions(),
            heard = inbox.recv() => match heard {
                Some(heard) => node.take(heard),
                None => {
                    node.start.supervisor.fail("the relay", "ended");
                    // What there is goes on being served until the process ends, and is said not to be current.
                    if node.tick_only(&mut asks).await {
                        return;
                    }
                }
            },
            Some(input) = from_threads.recv() => node.handle(input),
            ask = asks.recv() => match ask {
                Some(Command::End) | None => return,
                Some(ask) => node.answer(ask),
            },
            _ = tick.tick() => {
                node.waiting = inbox.len();
                node.tick();
            }
        }
        node.writers.release();
        node.tell_compiler();
    }
}

async fn at(due: Option<Instant>) {
    match due {
        Some(due) => tokio::time::sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}

async fn until(due: Option<Micros>) {
    match due {
        Some(due) => tokio::time::sleep(Duration::from_micros((due - now()).max(0).unsigned_abs())).await,
        None => std::future::pending().await,
    }
}

impl Node {
    async fn tick_only(&mut self, asks: &mut mpsc::Receiver<Command>) -> bool {
        match asks.recv().await {
            Some(Command::End) | None => return true,
            Some(ask) => self.answer(ask),
        }
        self.tick();
        false
    }

    /// Lets connections compile under the tables and rules that are in force now.
    fn tell_compiler(&self) {
        let generation = self.engine.generation();
        if self.start.compiler.borrow().as_ref().is_none_or(|c| c.generation() != generation) {
            self.start.compiler.send_replace(Some(self.engine.compiler()));
        }
    }

    fn take(&mut self, heard: Heard) {
        self.tell_traffic(&heard);
        match heard {
            Heard::Interval(interval) => self.hear(interval),
            Heard::Event(event) => self.told(&event),
        }
    }

    fn hear(&mut self, interval: Arc<Interval>) {
        self.received = now();
        self.writers.joining = interval.transactions.len() > 1;
        if interval.source == self.start.source {
            self.note_life(&interval);
            self.note_streaming(&interval);
        }
        let altered = !interval.resets.is_empty();
        self.handle(Input::Interval(interval));
        if altered {
            self.tell_needs();
        }
    }

    /// Notes that the reader lives, if what it says goes on from what is known here. One that reads behind that for long
    /// reads a log that has gone back.
    fn note_life(&mut self, interval: &Interval) {
        let progress = self.engine.progress(&interval.source);
        if progress.is_sign_of_life(interval) {
            (self.heard, self.rewound) = (self.received, None);
            self.reader = interval.reader.clone();
        } else if interval.epoch >= progress.epoch {
            let since = *self.rewound.get_or_insert(self.received);
            if self.received - since > REWOUND_FOR {
                let text = "it has gone back behind what was read: was the database restored? All feeds are read anew";
                self.alarms.raise(alarms::LOG_WENT_BACK, &interval.source, text.into());
                self.rewound = None;
                self.handle(Input::Forget(interval.source.clone()));
            }
        }
    }

    /// Tells the relay which columns are worth the way.
    fn tell_needs(&self) {
        self.start.relay.need(column_pruning::needed(self.engine.rules(), self.engine.catalog()));
    }

    /// Hands an input to the engine and carries out all that follows from it.
    fn handle(&mut self, input: Input) {
        self.engine.set_clock(now());
        let mut inputs = VecDeque::from([input]);
        while let Some(input) = inputs.pop_front() {
            let mut outputs = self.engine.handle(input);
            for output in outputs.drain(..) {
                self.carry_out(output, &mut inputs);
            }
            self.engine.reuse(outputs);
            if inputs.is_empty() {
                inputs.extend(self.system.take(now()).map(|i| Input::Interval(Arc::new(i))));
            }
        }
    }

    fn carry_out(&mut self, output: Output, inputs: &mut VecDeque<Input>) {
        match output {
            Output::FetchSnapshot(id, feed, _) if feed.table.name.is_system() => {
                // What is pending belongs to a later position than the one the snapshot stands at.
                self.sample_table(&feed.table.name.name);
                inputs.extend(self.system.take(now()).map(|i| Input::Interval(Arc::new(i))));
                let (rows, at) = self.system.snapshot(&feed.table.name.name);
                inputs.push_back(Input::SnapshotRows(id, rows));
                inputs.push_back(Input::SnapshotDone(id, SnapshotPoint::UpTo(at)));
            }
            Output::FetchSnapshot(id, feed, _) if feed.table.is_topic() => {
                let (rows, at) = self.topics.snapshot(&feed.table.name.name, now());
                inputs.push_back(Input::SnapshotRows(id, rows));
                inputs.push_back(Input::SnapshotDone(id, SnapshotPoint::UpTo(at)));
            }
            Output::FetchSnapshot(id, feed, wanted) => {
                let owner = self.engine.snapshot_owner(id);
                self.start.snapshots.fetch(id, feed, wanted, owner, self.inputs.clone());
            }
            Output::CancelSnapshot(id) => self.start.snapshots.cancel(id),
            Output::Result { to, feed, rows, term, position } => {
                let cursor: Arc<str> = wire::cursor(&feed, term, position, &self.start.sealer).into();
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
                        Target::Held(settled) => {
                            if let Some(settled) = settled.take() {
                                let _ = settled.send(());
                            }
                        }
                        Target::Once(answer) => {
                            let (feed, rows, cursor) = (feed.clone(), rows.clone(), cursor.clone());
                            if let Some(answer) = answer.take() {
                                let _ = answer.send(Ok(OneResult { feed, rows, cursor }));
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
            Output::Resumed { sub, feed, term, position } => {
                let cursor = wire::cursor(&feed, term, position, &self.start.sealer);
                if let Some(Sub { subscription, target: Target::Client(client), .. }) = self.subs.get(&sub) {
                    let columns = wire::columns(&feed);
                    let number = subscription.number;
                    let result = json!({"subscription": number, "columns": columns, "resumed": true, "cursor": cursor});
                    client.outbox.answer(subscription, &message::reply(&subscription.call, result));
                    self.writers.due(client);
                }
            }
            Output::Delta(delta, subscribers) => self.deliver(&delta, subscribers.as_slice()),
            Output::Revoke(subs) => {
                for id in subs.as_slice() {
                    if let Some(Sub { target: Target::Client(client), .. }) = self.subs.get(id) {
                        client.outbox.unsend(*id);
                        self.writers.due(client);
                    }
                }
            }
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
            Output::Verdict { sub, source, term, position, verdict, tally } => {
                if &*source != TOPIC_SOURCE
                    && let Some(s) = self.subs.get(&sub)
                {
                    let matched = self.engine.effective(sub).filter(|_| verdict == Verdict::Matched);
                    let cursor = matched.map(|e| wire::cursor(&e, term, position, &self.start.sealer));
                    let subscription = s.subscription.clone();
                    let passed = Passing { tally, at: now(), cursor };
                    self.tell_verdict(&subscription, format!("{source}:{position}"), word(verdict), passed);
                }
            }
            Output::Describe(source) => self.describe(&source),
            Output::Audited { feed, rows, difference } => self.audited(&feed, rows, difference),
            Output::Taken(interval, transaction) => self.taken(&interval, &transaction),
        }
    }

    /// An audit has ended. The next one waits for longer, the more rows this one has read.
    fn audited(&mut self, feed: &EffectiveQuery, rows: usize, difference: Option<String>) {
        self.next_audit = now() + AUDIT_EVERY.max(rows as Micros * AUDIT_PAUSE);
        self.counters.audits += u64::from(rows > 0 || difference.is_some());
        let Some(difference) = difference else { return };
        self.counters.audit_differences += 1;
        let text = format!("a feed held something else than the database ({difference}); all its feeds are read anew");
        self.alarms.raise(alarms::AUDIT, &feed.table.name.to_string(), text);
    }

    /// Has the tables of the source described anew, unless that is under way already.
    fn describe(&mut self, source: &str) {
        if source == &*self.start.source {
            self.start.snapshots.describe(self.inputs.clone());
        }
    }

    fn deliver(&mut self, delta: &Arc<Delta>, subscribers: &[SubId]) {
        let sealer = &self.start.sealer;
        let cursor = wire::cursor(&delta.feed, delta.term, delta.position, sealer);
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
                        outbox::frame(&(message::delta_head(which.0) + body.as_str()))
                    });
                    last = Some((which, made.clone()));
                    made.clone()
                }
            };
            let then = match &subscription.observed {
                Some(_) if delta.feed.table.is_topic() => Then::Nothing,
                None => Then::Nothing,
                Some(_) => Then::Tell(Box::new(Receipt {
                    subscription: subscription.clone(),
                    source: delta.feed.table.source.clone(),
                    position: delta.position,
                })),
            };
            client.outbox.offer(*id, frame, delta.revokes, then);
            self.writers.due(client);
        }
        if !delta.feed.table.name.is_system() {
            self.counters.deliveries += subscribers.len() as u64;
        }
    }

    fn closed(&mut self, id: SubId, refusal: Refusal) {
        let Some(sub) = self.subs.remove(&id) else { return };
        self.forget_decision(id);
        let error = refused(&refusal);
        match sub.target {
            Target::Held(_) => {}
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
                self.start.record.refused(&Who { address: &client.address, claims: &claims }, "a subscription", &error);
                if sub.subscription.answered.swap(true, Relaxed) {
                    let why = match refusal {
                        Refusal::SchemaChanged(e) => format!("schema-changed: {e}"),
                        Refusal::RightsChanged(e) => format!("rights-changed: {e}"),
                        Refusal::Expired => "expired: authenticate with a new token and subscribe again".into(),
                        _ => error.message,
                    };
                    let mut told = json!({"subscription": sub.subscription.number, "why": why});
                    if let Some(data) = error.data.filter(|d| d.get("incident").is_some()) {
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

    /// The addresses that operators are connected from: whoever is beside one is a workbench's watcher, or might as well
    /// look over its shoulder.
    fn operators_addresses(&self) -> BTreeSet<IpAddr> {
        let operators = self.clients.values().filter(|(c, _)| c.claims.lock().operator);
        operators.map(|(c, _)| c.address.ip()).collect()
    }

    fn state(&self) -> State {
        State {
            ready: self.engine.progress(&self.start.source).at.is_some() && self.behind_ms() == 0,
            position: self.position(),
            behind_ms: self.behind_ms(),
            reading: self.start.reading.status(),
        }
    }

    /// Hands what has changed in the system tables to the engine.
    fn flush_system(&mut self) {
        if let Some(pending) = self.system.take(now()) {
            self.handle(Input::Interval(Arc::new(pending)));
        }
    }

    fn tick(&mut self) {
        self.handle(Input::Tick);
        let (time, behind) = (now(), self.behind_ms());
        let flipped = std::mem::replace(&mut self.was_behind, behind > 0) != (behind > 0);
        let known = self.engine.progress(&self.start.source).at.is_some();
        if known && (flipped || time - self.told_current > CURRENT_EVERY) {
            self.told_current = time;
            // How much happens is for operators to know.
            let frame = |told: Json| outbox::frame(&message::notify("current", told));
            let (position, for_all) = (self.position(), frame(json!({"behind_ms": behind})));
            let for_operators = frame(json!({"position": position, "behind_ms": behind}));
            let beside = self.operators_addresses();
            for (client, subs) in self.clients.values() {
                // Whoever has not read the last messages yet is not current anyway.
                if !subs.is_empty() && (flipped || client.outbox.is_up_to_date()) {
                    let told = beside.contains(&client.address.ip());
                    client.outbox.push(if told { for_operators.clone() } else { for_all.clone() });
                    self.writers.due(client);
                }
            }
        }
        if time > self.next_audit {
            self.next_audit = time + AUDIT_EVERY;
            self.handle(Input::Audit);
        }
        if time - self.sampled > SAMPLE_EVERY {
            self.sampled = time;
            self.sample();
            self.flush_system();
        }
        let reads = self.start.reading.is_reading();
        self.tend_topics(reads);
        self.tend_calls();
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

/// What fails behind the instance is not for clients: they are told a number under which the log has it.
fn unavailable(what: &str, why: &str) -> RpcError {
    let incident = format!("{:08x}", rand::random::<u32>());
    tracing::warn!(%incident, "{what}: {why}");
    RpcError::new(code::UNAVAILABLE, format!("not available now: {what}; try again in a second"))
        .with(json!({"retry_after_ms": 1_000, "incident": incident}))
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
        Refusal::Unavailable(why) => unavailable("the source cannot be read at the moment", why),
        Refusal::Undecided(why) => unavailable("the decision service did not answer", why),
        Refusal::Expired => RpcError::new(code::NOT_AUTHENTICATED, "the token has expired"),
        Refusal::SchemaChanged(why) | Refusal::RightsChanged(why) => RpcError::new(code::NOT_KNOWN, why.clone()),
    }
}
