//! A whole cluster in one thread from one seed: one source, three instances that crash and start anew, a relay that
//! drops, doubles, delays, reaches some of them only and loses what it kept, readers that are replaced, commits that are
//! in the log before anybody sees them, transactions in parts or several in one, rows that get other keys, large values that
//! changes leave out, tables that are emptied at once or altered, rules and keys that are replaced, clients that come, go,
//! resume, read slowly and change their rights, rights that follow other tables, topics and presence.
//!
//! What is held against it is written by hand below and shares nothing with the engine's evaluation. `GOSSIP_SEED=n`
//! replays one seed, `GOSSIP_SEEDS=n` sets how many are tried.
#![allow(clippy::unwrap_used)]

mod client;
mod deliver;
mod events;
#[path = "../common/page.rs"]
mod page;
mod source;
#[path = "../common/wanted.rs"]
mod wanted;
mod world;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use client::Client;
use events::{EventsOf, Listener};
use gossip_core::engine::{Engine, Input, Limits, Output, Request, ResyncReason, SnapshotId, SubId};
use gossip_core::plan::{EffectivePlan, VisibleRow};
use gossip_core::position::{CommitTime, Interval, Position, Reset, SnapshotPoint, Transaction, Visibility};
use gossip_core::schema::{Key, Row, TableName};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use sha2::{Digest, Sha256};
use world::{ARRANGED, LAWS, Person, Plain, QUERIES, TABLES, WINDOWS, World, rules, table};

/// Instances.
const NODES: usize = 3;

/// What stands in a client's queue.
#[derive(Clone)]
enum Message {
    Result(Arc<EffectivePlan>, Arc<Vec<(Key, VisibleRow)>>, Position, ResyncReason),
    Delta(Arc<gossip_core::engine::Delta>),
    /// The result that the client had stays.
    Resumed(Position),
}

impl Message {
    fn name(&self) -> String {
        match self {
            Message::Result(_, _, at, why) => format!("result of {at}, {why:?}"),
            Message::Delta(d) => format!("delta of {}", d.position),
            Message::Resumed(at) => format!("resumed at {at}"),
        }
    }
}

type Fetched = (SnapshotPoint, Vec<Row>);

struct Node {
    engine: Engine,
    /// Messages of the relay on their way: (not before this step, interval).
    inbox: Vec<(usize, Arc<Interval>)>,
    heals: Vec<(usize, Position)>,
    catch_ups: Vec<(usize, SubId)>,
    /// Rows of a snapshot, or that there are none because the table has been altered.
    snapshots: VecDeque<(usize, SnapshotId, Option<Fetched>)>,
    /// The rules in force.
    law: usize,
    /// When it learns of the rules that are in force elsewhere, and of what the tables are like.
    laws: Vec<(usize, usize)>,
    /// As of when they were asked for; at most one under way and one more.
    describes: VecDeque<(usize, u64)>,
    events: EventsOf,
}

impl Node {
    /// An instance that starts at this step.
    fn start(n: usize, step: usize, old_values: bool, window: usize, law: usize, altered: u64) -> Node {
        let limits =
            Limits { ahead: 4, window, attempts: 1_000, reserve: window % 3, large: window % 4, ..Limits::default() };
        let mut engine = Engine::new(Arc::new(rules(law)), limits);
        (0..TABLES.len()).for_each(|i| drop(engine.handle(Input::Table(table(i, old_values, altered)))));
        let events = EventsOf::start(n, step, &mut engine);
        let (inbox, heals, catch_ups) = (Vec::new(), Vec::new(), Vec::new());
        let (snapshots, laws, describes) = (VecDeque::new(), Vec::new(), VecDeque::new());
        Node { engine, inbox, heals, catch_ups, snapshots, law, laws, describes, events }
    }
}

/// A transaction that is in the log and that nobody sees yet. Its rows are locked.
struct Hidden {
    /// Not before this step.
    until: usize,
    number: u64,
    position: Position,
    before: BTreeMap<(usize, i64), Option<Plain>>,
}

struct Cluster {
    rng: StdRng,
    /// Snapshots go by visible transactions and not by a position.
    by_visibility: bool,
    hidden: Vec<Hidden>,
    running: BTreeSet<u64>,
    next_number: u64,
    step: usize,
    old_values: bool,
    /// A change leaves out what is large and as it was.
    leaves_out: bool,
    /// Its reader sees only states, and says what lies between two of them as one transaction.
    joins: bool,
    window: usize,
    /// The rules that operators have set last, which all nodes hear of.
    law: usize,
    /// How often `calls` has been altered.
    altered: u64,
    faults: bool,
    /// The node that the relay does not reach at the moment.
    cut: Option<usize>,
    rows: World,
    head: Position,
    /// Everything that readers have published, in order.
    published: Vec<Arc<Interval>>,
    unread: Vec<Arc<Transaction>>,
    /// Tables that were emptied, by the end of the transaction that did it, and of which nothing was read yet.
    resets: BTreeMap<Position, Reset>,
    /// Tables that were emptied, ever.
    emptied: BTreeSet<(Position, TableName)>,
    epoch: u64,
    nodes: Vec<Node>,
    clients: BTreeMap<SubId, Client>,
    next: SubId,
    history: BTreeMap<Position, World>,
    /// When the row came that stands under an id of `calls` now.
    came: BTreeMap<i64, Position>,
    resumed: u64,
    /// Feeds that were compared with the database.
    audits: u64,
    listeners: BTreeMap<SubId, Listener>,
    /// Events that were published, by number.
    published_events: u64,
    /// Messages that instances have said, in number.
    said: u64,
    /// What was read and told, by its kind.
    reached: BTreeMap<String, u64>,
    /// All that went into the engines and came out of them, where somebody wants to compare it.
    course: Option<Sha256>,
}

impl Cluster {
    fn new(seed: u64) -> Cluster {
        let mut rng = StdRng::seed_from_u64(seed);
        let old_values = rng.random_bool(0.5);
        let window = rng.random_range(1..30);
        let by_visibility = rng.random_bool(0.5);
        Cluster {
            by_visibility,
            joins: old_values && !by_visibility && rng.random_bool(0.5),
            window,
            law: 0,
            altered: 0,
            cut: None,
            hidden: Vec::new(),
            running: (1..4).collect(),
            next_number: 4,
            step: 0,
            old_values,
            leaves_out: !old_values && rng.random_bool(0.6),
            faults: rng.random_bool(0.8),
            rows: BTreeMap::new(),
            head: Position::at(0),
            published: Vec::new(),
            unread: Vec::new(),
            resets: BTreeMap::new(),
            emptied: BTreeSet::new(),
            epoch: 1,
            nodes: (0..NODES).map(|n| Node::start(n, 0, old_values, window, 0, 0)).collect(),
            clients: BTreeMap::new(),
            next: 0,
            history: BTreeMap::from([(Position::at(0), BTreeMap::new())]),
            came: BTreeMap::new(),
            resumed: 0,
            audits: 0,
            listeners: BTreeMap::new(),
            published_events: 0,
            said: 0,
            reached: BTreeMap::new(),
            course: None,
            rng,
        }
    }

    /// An instance ends without a word and is started anew. Its clients come back, here or elsewhere.
    fn crash(&mut self, n: usize) {
        self.nodes[n] = Node::start(n, self.step, self.old_values, self.window, self.law, self.altered);
        let of: Vec<SubId> = self.clients.iter().filter(|(_, c)| c.engine == n).map(|(sub, _)| *sub).collect();
        of.into_iter().for_each(|sub| self.come_back(sub));
        let of: Vec<SubId> = self.listeners.iter().filter(|(_, l)| l.engine == n).map(|(sub, _)| *sub).collect();
        of.into_iter().for_each(|sub| self.listen_again(sub));
    }

    /// An operator sets other rules somewhere. The other nodes hear of it later.
    fn other_rules(&mut self) {
        self.law = (self.law + self.rng.random_range(1..LAWS)) % LAWS;
        for node in &mut self.nodes {
            // In the order in which they were set.
            let before = node.laws.last().map_or(0, |(due, _)| *due);
            node.laws.push((before.max(self.step + self.rng.random_range(0..20)), self.law));
        }
    }

    /// Rules are in force at a node, for all that its clients read from now on.
    fn take_rules(&mut self, n: usize, law: usize) {
        self.nodes[n].law = law;
        self.clients.values_mut().filter(|c| c.engine == n).for_each(|c| c.person.law = law);
        self.handle(n, Input::Rules(Arc::new(rules(law))));
    }

    /// A key leaves the set that tokens are signed with. Who came by it is put out, and comes again with another.
    fn other_keys(&mut self) {
        let gone = self.rng.random_range(0..3);
        let of: Vec<SubId> = self.clients.iter().filter(|(_, c)| c.key == gone).map(|(sub, _)| *sub).collect();
        for sub in of {
            if let Some(c) = self.clients.get_mut(&sub) {
                c.key = (gone + 1) % 3;
            }
            self.come_back(sub);
        }
    }

    fn note_reached(&mut self, what: &str) {
        match self.reached.get_mut(what) {
            Some(times) => *times += 1,
            None => drop(self.reached.insert(what.into(), 1)),
        }
    }

    fn run(&mut self, steps: usize) {
        for _ in 0..steps {
            self.step += 1;
            match self.rng.random_range(0..100) {
                0..35 => self.write(),
                35..60 => self.read(),
                60..72 if self.clients.len() < 12 => self.arrive(),
                72..76 => {
                    if let Some(sub) = self.random_client() {
                        let gone = self.clients.remove(&sub).map(|c| c.engine);
                        gone.into_iter().for_each(|e| self.handle(e, Input::Unsubscribe(sub)));
                    }
                }
                76..80 => {
                    if let Some(sub) = self.random_client() {
                        let Some(c) = self.clients.get_mut(&sub) else { continue };
                        let person = Person::random(&mut self.rng, c.person.law);
                        c.person = person.clone();
                        let engine = c.engine;
                        self.handle(engine, Input::Claims(vec![sub], person.claims()));
                    }
                }
                80..85 => {
                    if let Some(sub) = self.random_client() {
                        self.come_back(sub);
                    }
                }
                85 if self.faults => {
                    let n = self.rng.random_range(0..NODES);
                    self.crash(n);
                }
                86 if self.faults => {
                    self.cut = if self.cut.is_some() { None } else { Some(self.rng.random_range(0..NODES)) };
                }
                87..90 if self.listeners.len() < 6 => self.listen(),
                90..95 => self.say_something(),
                95..98 => self.come_or_leave(),
                98 => match self.rng.random_range(0..4) {
                    0 => self.other_rules(),
                    1 => self.other_keys(),
                    2 => self.call_elsewhere(),
                    _ => self.come_or_leave(),
                },
                _ => {}
            }
            if self.step.is_multiple_of(5) {
                self.tell_others();
            }
            self.deliver(false);
            self.listeners_read(false);
            for sub in self.clients.keys().copied().collect::<Vec<_>>() {
                let reads = self.clients.get(&sub).map_or(0.0, |c| c.reads);
                if self.rng.random_bool(reads) {
                    self.client_reads(sub);
                }
            }
        }
        // Rest: nothing is written, everything arrives, everybody reads.
        (self.faults, self.cut) = (false, None);
        for _ in 0..60 {
            self.step += 20;
            self.read();
            self.tell_others();
            self.deliver(true);
            self.listeners_read(true);
            for sub in self.clients.keys().copied().collect::<Vec<_>>() {
                (0..20).for_each(|_| self.client_reads(sub));
            }
        }
        for (sub, c) in &self.clients {
            assert!(c.position.is_some(), "client {sub} never got a result");
            assert!(!c.unfinished, "client {sub} was not told that a transaction ended");
            c.hold_against(&self.rows, &"at rest");
        }
        for node in &self.nodes {
            assert_eq!(node.engine.progress("harbour").at, Some(self.head));
        }
        self.events_are_the_same_everywhere();
    }
}

#[test]
fn every_client_sees_what_it_may_and_no_more() {
    let number = |name| std::env::var(name).ok().and_then(|s| s.parse::<u64>().ok());
    let seeds = match number("GOSSIP_SEED") {
        Some(seed) => seed..seed + 1,
        None => 0..number("GOSSIP_SEEDS").unwrap_or(4_000),
    };
    let count = seeds.clone().count() as u64;
    let (mut reached, mut most) = (BTreeMap::<String, u64>::new(), BTreeMap::<String, u64>::new());
    for seed in seeds {
        let run = std::panic::AssertUnwindSafe(|| {
            let mut cluster = Cluster::new(seed);
            cluster.run(250);
            cluster.note_reached("seeds");
            cluster.reached.extend([("resumed".into(), cluster.resumed), ("audits".into(), cluster.audits)]);
            cluster.reached
        });
        match std::panic::catch_unwind(run) {
            Ok(of_seed) => {
                for (what, times) in of_seed {
                    *reached.entry(what.clone()).or_default() += times;
                    *most.entry(what).or_default() += u64::from(times > 0);
                }
            }
            Err(panic) => {
                eprintln!("seed {seed} failed; replay with GOSSIP_SEED={seed}");
                std::panic::resume_unwind(panic);
            }
        }
    }
    for (what, times) in &reached {
        eprintln!("{what}: {times}, in {} of {count} seeds", most[what]);
    }
    let mut wanted = vec!["resumed".to_string(), "audits".into(), "a window reads a page".into()];
    wanted.push("a window reads on".into());
    wanted.extend((0..QUERIES.len()).map(|query| format!("deltas of query {query}")));
    wanted.extend(WINDOWS.chain(ARRANGED).map(|query| format!("resumed query {query}")));
    for what in wanted {
        let times = reached.get(&what).copied().unwrap_or(0);
        assert!(count < 100 || times > count / 10, "{what}: hardly ever ({times})");
    }
}

/// A seed that fails is only worth something if it fails again: nothing depends on what is not in it.
#[test]
fn two_runs_of_a_seed_do_the_same() {
    let run = |seed| {
        let mut cluster = Cluster::new(seed);
        cluster.course = Some(Sha256::new());
        cluster.run(250);
        cluster.course.take().map(Sha256::finalize)
    };
    for seed in 0..100 {
        assert_eq!(run(seed), run(seed), "seed {seed}");
    }
    assert_ne!(run(0), run(1));
}

/// While a transaction is in the log and not visible, snapshots are taken again at their time and not at every change.
#[test]
fn a_stream_that_is_busy_does_not_use_up_a_snapshots_attempts() {
    let mut engine = Engine::new(Arc::new(rules(0)), Limits::default());
    engine.handle(Input::Table(table(0, true, 0)));
    let interval = |at: u64, settled: u64| {
        let changes = vec![];
        let t = Transaction {
            position: Position::at(at),
            committed: CommitTime::default(),
            number: at,
            inexact_after: None,
            changes,
        };
        Input::Interval(Arc::new(Interval {
            source: "harbour".into(),
            epoch: 1,
            from: Position::at(at - 1),
            to: Position::at(at),
            transactions: vec![Arc::new(t)],
            resets: vec![],
            settled: Position::at(settled),
            timeline: 0,
            mark: 0,
            reader: "one".into(),
            read_at: 0,
        }))
    };
    engine.handle(interval(5, 4));
    let claims = Person::pilot(9).claims();
    let request = Request { query: QUERIES[0].into(), claims, ..Request::default() };
    let fetches = |outputs: Vec<Output>| {
        let closed = outputs.iter().any(|o| matches!(o, Output::Closed(..)));
        assert!(!closed, "given up: {outputs:?}");
        outputs.iter().find_map(|o| if let Output::FetchSnapshot { id, .. } = o { Some(*id) } else { None })
    };
    let first = fetches(engine.handle(Input::Subscribe(1, Box::new(request)))).unwrap();
    // Transaction 5 was told before the snapshot was asked for, and is not in it.
    let blind = Arc::new(Visibility { all_below: 5, none_from: 6, running: vec![5] });
    fetches(engine.handle(Input::SnapshotDone(first, SnapshotPoint::Visible(blind, Position::at(5)))));
    for at in 6..200 {
        assert_eq!(fetches(engine.handle(interval(at, 4))), None);
    }
    let again = fetches(engine.handle(Input::Tick)).expect("asked for again");
    let sees = Arc::new(Visibility { all_below: 200, none_from: 200, running: vec![] });
    let outputs = engine.handle(Input::SnapshotDone(again, SnapshotPoint::Visible(sees, Position::at(199))));
    assert!(outputs.iter().any(|o| matches!(o, Output::Result { .. })), "{outputs:?}");
}
