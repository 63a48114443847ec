//! The loop around the engine: one task that owns it, hands inputs to it and carries out its outputs.
//!
//! Everything that concerns subscriptions passes through here in one order. Connections, the relay and snapshot
//! threads send to bounded channels; nothing here waits for any of them. [`answering`] takes what connections ask,
//! [`deciding`] waits for the decision service; [`operators`] fills operators' system tables,
//! [`clients`] says who is connected, [`explain`] and [`what_if`] answer what they ask. [`calls`] is what operators have
//! done, here or elsewhere. [`alarms`] is what they have to do something about. [`events`] has what is published,
//! [`publishing`] who waits for it, [`presence`] who is present here; [`cluster`] drives what instances know of each other.
//!
//! [`state`] is the loop's state, [`command`] and [`question`] are its inputs; what comes over the relay enters by
//! [`incoming`], the engine's outputs are carried out in [`outputs`], and [`outgoing`] is what is sent.

mod alarms;
mod answering;
mod calls;
mod clients;
mod cluster;
pub(crate) mod command;
mod deciding;
mod event_rows;
mod events;
mod events_told;
mod explain;
mod explain_publication;
mod incoming;
mod operators;
mod outgoing;
mod outputs;
mod presence;
mod publishing;
mod question;
mod refusal;
mod state;
mod what_if;

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use foldhash::HashMap as FastMap;
use gossip_core::cluster::Cluster;
use gossip_core::engine::{Engine, Input};
use gossip_core::position::{Micros, Timestamp};
use gossip_protocol::message;
use gossip_relay::{Inbox, event};
use serde_json::{Value as Json, json};
use tokio::sync::{Semaphore, mpsc};

use alarms::Alarms;
pub use command::{Client, Command, Start, State};
use events_told::EventsTold;
use outgoing::Events;
use outputs::AUDIT_EVERY;
pub use publishing::Published;
pub use question::{Explain, OneResult, Operate, Publish, QuestionTarget, Reservation, WhatIf};
use state::{Counters, Node};

use crate::now;
use crate::outbox;
use crate::reading::HEARTBEAT;
use crate::supervisor::faults;
use crate::system::SystemTables;
use crate::writers::Writers;

/// Commands and inputs that may wait for the loop; further senders wait.
pub const CHANNEL: usize = 4_096;

/// Pieces of snapshots that may wait for the loop; the database is read no further meanwhile.
const PIECES: usize = 32;

/// One turn of the loop in so many is for what was read, however much else there is.
const TURNS: u32 = 8;

/// How often clients get the position that their results are current to.
const CURRENT_EVERY: Micros = 1_500_000;

/// A turn of the loop that takes so long never ends.
const HANGS: Duration = Duration::from_secs(20);

/// How often the system tables are sampled.
const SAMPLE_EVERY: Micros = 1_000_000;

/// Runs the loop until all senders of `asks` are gone.
pub async fn run(start: Start, mut asks: mpsc::Receiver<Command>, mut inbox: Inbox) {
    let (inputs, mut from_threads) = mpsc::channel(PIECES);
    let _guard = start.supervisor.guard("the loop");
    let beat = start.supervisor.beat("the loop", HANGS);
    let mut node = Node::new(start, inputs);
    node.sign_on();
    let mut tick = tokio::time::interval(HEARTBEAT);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut turn = 0_u32;
    loop {
        beat.beat();
        faults::pass("loop");
        let due = node.engine.next_due();
        // What was read waits for the stream and for clients, but not for ever.
        turn = turn.wrapping_add(1);
        let has_time = turn.is_multiple_of(TURNS) || inbox.is_empty() && asks.is_empty();
        let renewal = node.renewals.first().map(|(at, _)| *at);
        tokio::select! {
            () = until(due) => node.handle(Input::Tick),
            () = std::future::ready(()), if has_time && node.engine.has_more_to_do() => node.handle(Input::Proceed),
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
            Some(input) = from_threads.recv(), if has_time => node.handle(input),
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
        node.publish_compiler();
    }
}

async fn at(due: Option<Instant>) {
    match due {
        Some(due) => tokio::time::sleep_until(due.into()).await,
        None => std::future::pending().await,
    }
}

async fn until(due: Option<Timestamp>) {
    match due {
        Some(due) => tokio::time::sleep(Duration::from_micros((due - now()).max(0).unsigned_abs())).await,
        None => std::future::pending().await,
    }
}

impl Node {
    /// A node without clients yet. `inputs` is where other threads send theirs.
    fn new(start: Start, inputs: mpsc::Sender<Input>) -> Node {
        let mut engine = Engine::new(start.rules.clone(), start.limits);
        engine.set_default_schema(&start.default_schema);
        engine.set_order_key(start.sealer.order_key());
        let system = SystemTables::new();
        let run = now().unsigned_abs();
        let cluster = Cluster::new(&start.name, run, rand::random(), event::READS, &start.topics);
        for table in start.tables.iter().chain(system.tables()).chain(cluster.topics().tables()) {
            engine.handle(Input::Table(table.clone()));
        }
        Node {
            engine,
            system,
            cluster,
            events: Events::start(start.relay.clone()),
            forwarded: HashMap::new(),
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
            events_told: EventsTold::default(),
            told_current: 0,
            was_behind: false,
            sampled: 0,
            reader: "".into(),
            tries: Arc::new(Semaphore::new(what_if::MAX_UNDER_WAY)),
            outside: FastMap::default(),
            renewals: BTreeSet::new(),
            held: BTreeSet::new(),
            tapped: BTreeSet::new(),
            start,
        }
    }

    /// Lets snapshots of local sources be merged, and requests what other instances keep.
    fn sign_on(&mut self) {
        let sign = self.system.sign(now());
        self.handle(Input::Interval(Arc::new(sign)));
        let sign = self.cluster.topics().sign(now());
        self.handle(Input::Interval(Arc::new(sign)));
        let outputs = self.cluster.request_history();
        self.cluster_outputs(outputs);
        self.announce_needs();
        self.publish_compiler();
    }

    async fn tick_only(&mut self, asks: &mut mpsc::Receiver<Command>) -> bool {
        match asks.recv().await {
            Some(Command::End) | None => return true,
            Some(ask) => self.answer(ask),
        }
        self.tick();
        false
    }

    /// Lets connections compile under the tables and rules that are in force now.
    fn publish_compiler(&self) {
        let generation = self.engine.generation();
        if self.start.compiler.borrow().as_ref().is_none_or(|c| c.generation() != generation) {
            self.start.compiler.send_replace(Some(self.engine.compiler()));
        }
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
        // Before anything is queued for everybody: what waits then waits for a client.
        if time - self.sampled > SAMPLE_EVERY {
            self.sampled = time;
            self.sample();
            self.flush_system();
        }
        let known = self.engine.progress(&self.start.source).at.is_some();
        if known && (flipped || time - self.told_current > CURRENT_EVERY) {
            self.told_current = time;
            // How much happens is for operators to know.
            let frame = |told: Json| outbox::frame(&message::notify("current", told));
            let (position, for_all) = (self.position(), frame(json!({"behind_ms": behind})));
            let for_operators = frame(json!({"position": position, "behind_ms": behind}));
            let beside = self.operators_addresses();
            for (client, subs) in self.clients.values() {
                // A client that has not read the last messages is not current anyway.
                if !subs.is_empty() && (flipped || client.outbox.is_up_to_date()) {
                    let told = beside.contains(&client.address.ip());
                    client.outbox.push(if told { for_operators.clone() } else { for_all.clone() });
                    self.writers.due(client);
                }
            }
        }
        self.release_held();
        self.tell_frames();
        if time > self.next_audit {
            self.next_audit = time + AUDIT_EVERY;
            self.handle(Input::Audit);
        }
        let reads = self.start.reading.is_reading();
        self.tend_topics(reads);
        let outputs = self.cluster.tick(now());
        self.cluster_outputs(outputs);
    }
}
