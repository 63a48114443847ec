//! The state machine over all of it: inputs in, outputs out.
//!
//! The engine of one instance holds tables, rules, sources, subscriptions and feeds. Its inputs are what was read, who
//! subscribes and what time it is; its outputs are what the instance has to do: read a snapshot, send a delta to these
//! subscribers, fetch a missing interval. It never waits, so a whole cluster of engines can be run in one thread from one
//! seed.
//!
//! Life of a subscription: [`Input::Subscribe`] is compiled against tables and rules; equal effective plans share a
//! [`Feed`]. A snapshot is requested and joined with the stream through a [`SnapshotMerge`]; then [`Output::Result`] carries the
//! rows and the subscription hears the feed's deltas. A gap, a changed table or changed rights send it through a new
//! seam, at whose end the result is replaced as a whole.
//!
//! This file has the engine's state; [`subscriptions`], [`snapshots`] and [`changes`] handle the inputs, [`answers`] what
//! others want to know of it, [`materializing`], [`differences`], [`clock`] and [`subqueries`] what is different for feeds
//! that hold their rows, [`row_events`] the stream of row changes. [`audit`] compares feeds with the database. What a feed
//! remembers is in [`memory`].

mod answers;
mod as_of;
mod asked;
mod audit;
mod auditing;
mod changes;
mod clock;
mod commit;
mod compiler;
mod differences;
mod freezing;
mod frozen;
mod history;
pub(crate) mod io;
mod later;
mod leaving;
mod lingering;
mod materialized;
mod materializing;
mod memory;
mod moments;
mod partners;
mod probe;
mod recent;
mod recycling;
mod room;
mod row_events;
mod serves;
mod shared;
mod snapshots;
mod steps;
mod subqueries;
mod subquery_sets;
mod subscription;
mod subscriptions;
mod told;
mod window;
mod window_step;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::hash::{Hash as _, Hasher as _};
use std::sync::Arc;

use siphasher::sip::SipHasher13;

use crate::audience::Audience;
pub use crate::audience::SubId;
use crate::budget::Budget;
use crate::coalesce::Pending;
use crate::feed::Change;
use crate::index::{FeedId, TableIndex};
use crate::plan::{EffectivePlan, SnapshotRequest};
use crate::position::{Interval, Position, Progress, Timestamp, Transaction, Visibility};
use crate::row_changes;
use crate::rule::RuleSet;
use crate::schema::{ByKey, Catalog, ColumnSet, Key, Table, TableName};
use crate::seam::SnapshotMerge;
use audit::{Audit, Digest};
pub use compiler::Compiler;
pub use io::{
    Compiled, Delta, Garbage, Input, Limits, Output, Refusal, Request, Resume, ResyncReason, SnapshotId, Wants,
};
use later::Later;
use lingering::Lingering;
use memory::Memory;
use recent::RecentResults;
use recycling::Recycled;
use shared::SharedFeeds;
use subquery_sets::SubquerySets;
use subscription::Subscription;

/// One effective plan with subscribers. Exactly one cache line: with a million feeds, those that a change touches are
/// not in the cache, and every further line is another wait for memory.
#[derive(Debug)]
#[repr(align(64))]
struct Feed {
    plan: Arc<EffectivePlan>,
    live: Audience,
    joining: Option<Box<Joining>>,
    memory: Memory,
    /// What waits between two deltas, where its readers want time between them.
    pending: Option<Box<Pending>>,
    deltas: u64,
}

const _: () = assert!(size_of::<Option<Feed>>() == 64);

#[derive(Debug)]
struct Joining {
    snapshot: SnapshotId,
    seam: SnapshotMerge,
    /// The engine's position when the snapshot was requested, and the visible watermark then.
    since: Position,
    settled: Position,
    waiting: Vec<(SubId, ResyncReason)>,
    failures: u32,
    /// The last attempt failed; the next tick retries.
    resting: bool,
    /// Whose turn it takes, once it has begun; it waits for its turn before.
    turn: Turn,
    /// What was requested.
    request: SnapshotRequest,
}

/// Whether a snapshot has been requested.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Turn {
    /// Not yet: its owner has as many under way as allowed.
    Waits,
    /// Yes; it counts against this owner's limit, if it has one.
    Taken(Option<Arc<str>>),
}

#[derive(Debug, Default)]
struct OnTable {
    /// The identity of the description that its feeds were made for.
    description: u64,
    index: TableIndex,
    feeds: HashSet<FeedId>,
    joining: HashSet<FeedId>,
    /// How many of its feeds carry a digest.
    carriers: usize,
    /// Tables without old values: which feeds have sent a key. May name feeds that have not, never too few.
    sent_by: ByKey<Vec<FeedId>>,
}

/// The feeds of each table. Looked up for every change; clients cannot choose table names, so a fast hash is safe.
type Tables = HashMap<TableName, OnTable, foldhash::fast::RandomState>;

impl OnTable {
    /// Notes whether a feed has sent a key.
    fn note(&mut self, feed: FeedId, key: &Key, has_sent: bool) {
        let of_key = self.sent_by.entry(key.clone()).or_default();
        of_key.retain(|f| *f != feed);
        if has_sent {
            of_key.push(feed);
        }
        if of_key.is_empty() {
            self.sent_by.remove(key);
        }
    }
}

/// Keys that a feed had sent, and whether its number is free for another one once they are forgotten.
struct Cleanup {
    table: TableName,
    feed: FeedId,
    keys: Box<dyn Iterator<Item = Key> + Send + Sync>,
    gone: bool,
}

impl std::fmt::Debug for Cleanup {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "LeftOver({} of {})", self.feed, self.table)
    }
}

#[derive(Debug, Default)]
struct SourceState {
    progress: Progress,
    /// Where the unbroken stretch that ends at `progress` began. A snapshot from before it cannot be joined.
    floor: Position,
    ahead: VecDeque<Arc<Interval>>,
    healing: bool,
    /// All transactions after this one are still in the window.
    remembered: Position,
    /// The last of several commits that were read as one and are not in the window any more.
    joined_until: Position,
    /// Every transaction up to here is visible to new snapshots.
    settled: Position,
    /// The numbers of the transactions taken last, for snapshots that go by visibility.
    passed: RecentNumbers,
    /// The first epoch in this lineage: cursors of older ones count in another log.
    since_epoch: u64,
    /// The last transaction taken goes on: feeds that have got some of it.
    unfinished: Option<BTreeSet<FeedId>>,
}

/// Transactions whose numbers are remembered. More unsettled ones than this, and snapshots have to wait.
const MAX_PASSED: usize = 1 << 16;

/// The numbers of the transactions taken last, in order.
#[derive(Debug, Default)]
struct RecentNumbers {
    numbers: VecDeque<(Position, u64)>,
    /// All after this one are there.
    complete_after: Position,
}

impl RecentNumbers {
    fn push(&mut self, position: Position, number: u64) {
        if self.numbers.len() == MAX_PASSED
            && let Some((dropped, _)) = self.numbers.pop_front()
        {
            self.complete_after = dropped;
        }
        self.numbers.push_back((position, number));
    }

    /// A transaction in `(after, to]` that a snapshot does not show, or that is not remembered any more.
    fn hidden(&self, by: &Visibility, after: Position, to: Position) -> Option<u64> {
        if after < self.complete_after && to > after {
            return self.numbers.front().map(|(_, number)| *number);
        }
        let first = self.numbers.partition_point(|(p, _)| *p <= after);
        let mut between = self.numbers.iter().skip(first).take_while(|(p, _)| *p <= to);
        between.find(|(_, number)| !by.shows(*number)).map(|(_, number)| *number)
    }
}

/// What is known of a feed, for the system tables.
#[derive(Clone, Debug)]
pub struct FeedInfo {
    /// Its number in this engine.
    pub id: FeedId,
    /// Its plan.
    pub plan: Arc<EffectivePlan>,
    /// How many subscriptions share it.
    pub subscriptions: usize,
    /// Deltas since it began.
    pub deltas: u64,
    /// Rows or keys that it remembers; `None` if it needs none.
    pub held: Option<usize>,
}

/// The state machine of one instance.
#[derive(Debug)]
pub struct Engine {
    catalog: Arc<Catalog>,
    rules: Arc<RuleSet>,
    /// Rises when either of these changes.
    generation: u64,
    budget: Budget,
    limits: Limits,
    sources: BTreeMap<Arc<str>, SourceState>,
    feeds: Vec<Option<Feed>>,
    free: Vec<FeedId>,
    shared: SharedFeeds,
    tables: Tables,
    subs: HashMap<SubId, Subscription>,
    observed: Vec<SubId>,
    snapshots: HashMap<SnapshotId, FeedId>,
    /// Snapshots under way by whose turn they take, and feeds that wait for one.
    turns: HashMap<Arc<str>, usize>,
    waiting_feeds: VecDeque<FeedId>,
    turn_is_free: bool,
    next_snapshot: SnapshotId,
    window: VecDeque<(Arc<str>, Arc<Transaction>)>,
    /// Row changes in the window.
    window_changes: usize,
    /// Buffer for the pairs (feed, change) of one transaction.
    touched: Vec<(FeedId, u32)>,
    /// Of each change of the transaction the columns that differ, where it touches feeds and that is known.
    differing: Vec<Option<ColumnSet>>,
    /// What other tables hold, for rules that ask.
    subquery_sets: SubquerySets,
    /// Feeds that keep their rows and have something to do, by level.
    unsettled: BTreeSet<(u8, FeedId)>,
    /// Subscriptions that got their whole result with the transaction that is taken.
    fresh: Vec<SubId>,
    /// Keys sent by feeds that ended or restarted, to be removed from `sent_by` in small steps.
    cleanups: VecDeque<Cleanup>,
    later: Later,
    /// Feeds of clients that hold their rows.
    held_feeds: BTreeSet<FeedId>,
    /// Bytes of rows that such feeds keep, about.
    materialized_bytes: usize,
    /// Feeds of which something waits for its time, soonest first.
    paced: BTreeSet<(Timestamp, FeedId)>,
    /// Feeds whose results change as time passes, by when they do next.
    timed: BTreeSet<(Timestamp, FeedId)>,
    clock_was_set_back: bool,
    /// Events that say that a table was emptied, for the transaction that did it.
    emptied: Vec<(FeedId, Change)>,
    /// When a table was last reset: earlier changes cannot be sent as deltas.
    resets: HashMap<TableName, Position>,
    clock: Timestamp,
    order_key: [u64; 2],
    /// The sums of the rows of some feeds of every table, for the audit.
    digests: HashMap<FeedId, Digest, foldhash::fast::RandomState>,
    /// Results that were read a moment ago.
    recent: RecentResults,
    /// Feeds that nobody listens to any more.
    lingering: Lingering,
    /// The audit under way, and the feed that was audited last.
    audit: Option<Audit>,
    audited: FeedId,
    out: Vec<Output>,
    /// What [`Engine::reuse`] took back.
    recycled: Recycled,
}

impl Engine {
    /// An engine that knows these rules and no tables yet.
    pub fn new(rules: Arc<RuleSet>, limits: Limits) -> Engine {
        Engine {
            catalog: Arc::default(),
            rules,
            generation: 0,
            budget: Budget::default(),
            limits,
            sources: BTreeMap::new(),
            feeds: Vec::new(),
            free: Vec::new(),
            shared: SharedFeeds::default(),
            tables: HashMap::default(),
            subs: HashMap::new(),
            observed: Vec::new(),
            snapshots: HashMap::new(),
            turns: HashMap::new(),
            waiting_feeds: VecDeque::new(),
            turn_is_free: false,
            next_snapshot: 0,
            window: VecDeque::new(),
            window_changes: 0,
            touched: Vec::new(),
            differing: Vec::new(),
            subquery_sets: SubquerySets { moment: Timestamp::MIN, ..SubquerySets::default() },
            unsettled: BTreeSet::new(),
            fresh: Vec::new(),
            cleanups: VecDeque::new(),
            later: Later::default(),
            held_feeds: BTreeSet::new(),
            materialized_bytes: 0,
            paced: BTreeSet::new(),
            timed: BTreeSet::new(),
            clock_was_set_back: false,
            emptied: Vec::new(),
            resets: HashMap::new(),
            clock: 0,
            order_key: [0; 2],
            digests: HashMap::default(),
            recent: RecentResults::default(),
            lingering: Lingering::default(),
            audit: None,
            audited: 0,
            out: Vec::new(),
            recycled: Recycled::default(),
        }
    }

    /// Says which schema is meant where a query names none.
    pub fn set_default_schema(&mut self, schema: &str) {
        Arc::make_mut(&mut self.catalog).default_schema = schema.into();
        self.generation += 1;
    }

    /// When [`Input::Tick`] is wanted, if it is before long.
    pub fn next_due(&self) -> Option<Timestamp> {
        // In the middle of a transaction nothing is due before its end.
        let between = self.sources.values().all(|s| s.unfinished.is_none());
        let paced = self.paced.first().map(|(due, _)| *due);
        paced.into_iter().chain(self.next_moment()).min().filter(|_| between)
    }

    /// Takes one input and returns what is to be done, in order.
    pub fn handle(&mut self, input: Input) -> Vec<Output> {
        self.pass_time();
        match input {
            Input::Interval(i) => self.interval(i),
            Input::Forget(source) => self.forget_source(&source),
            Input::Healed { source, intervals } => self.healed(&source, intervals),
            Input::Subscribe(sub, request) => self.subscribe(sub, request),
            Input::Unsubscribe(sub) => self.unsubscribe(sub),
            Input::Leave(sub) => self.leave(sub),
            Input::CatchUp(sub) => self.catch_up(sub),
            Input::Claims(subs, claims) => self.claims(&subs, &claims),
            Input::Rules(rules) => {
                self.rules = rules;
                self.generation += 1;
                // What came before may lack what these rules show and those before did not.
                for state in self.sources.values_mut() {
                    state.remembered = state.remembered.max(state.progress.at.unwrap_or_default());
                }
                let mut all: Vec<SubId> = self.subs.keys().copied().collect();
                // In an order that a seed repeats.
                all.sort_unstable();
                all.into_iter().for_each(|sub| self.recompile(sub, ResyncReason::RightsChanged));
            }
            Input::Table(table) => self.put_table(table),
            Input::Described(source, tables) => self.described(&source, tables),
            Input::SnapshotRows(id, mut rows) => {
                if !self.audit_rows(id, &mut rows) {
                    self.snapshot_rows(id, rows);
                }
            }
            Input::SnapshotDone(id, at) => {
                if !self.audit_done(id, Some(at.clone())) {
                    self.snapshot_done(id, at);
                }
            }
            Input::SnapshotFailed(id, why) => {
                if !self.audit_done(id, None) {
                    self.snapshot_failed(id, why);
                }
            }
            Input::Audit => self.audit(),
            Input::Tick => self.tick(),
            Input::Proceed => self.proceed(),
        }
        if !self.unsettled.is_empty() {
            self.settle_now();
        }
        if std::mem::take(&mut self.turn_is_free) {
            self.take_turns();
        }
        if !self.cleanups.is_empty() {
            self.clean_up();
        }
        let next = self.recycled.outputs();
        let mut out = std::mem::replace(&mut self.out, next);
        out.iter_mut().for_each(|o| self.hide_order(o));
        out
    }

    /// Takes back a list that [`Engine::handle`] returned, to use its memory again.
    pub fn reuse(&mut self, outputs: Vec<Output>) {
        self.recycled.put(outputs);
    }

    /// Sets the key by which rows are ordered whose own keys are hidden.
    pub fn set_order_key(&mut self, key: [u64; 2]) {
        self.order_key = key;
    }

    /// Where keys are hidden, the order of rows must not reveal them.
    fn hide_order(&self, output: &mut Output) {
        let place = |key: &Key| {
            let mut hasher = SipHasher13::new_with_keys(self.order_key[0], self.order_key[1]);
            key.hash(&mut hasher);
            hasher.finish()
        };
        match output {
            // Their order is part of them.
            Output::Result { feed, .. } if feed.is_ordered() => {}
            Output::Result { feed, rows, .. } if !feed.open_key() => {
                Arc::make_mut(rows).sort_by_cached_key(|(key, _)| place(key));
            }
            Output::Delta(delta, _) if !delta.feed.open_key() => {
                Arc::make_mut(delta).changes.sort_by_cached_key(|c| place(c.key()));
            }
            _ => {}
        }
    }

    /// Enters a table, or another description of it.
    fn put_table(&mut self, table: Arc<Table>) {
        let name = table.name.clone();
        let is_database = !name.is_system() && !table.is_topic();
        let catalog = Arc::make_mut(&mut self.catalog);
        let of_changes = row_changes::table(&table.source);
        if is_database && catalog.get(&of_changes.name).is_none() {
            catalog.put(Arc::new(of_changes));
        }
        catalog.put(table);
        self.generation += 1;
        if let (Some(on_table), Some(identity)) = (self.tables.get_mut(&name), self.catalog.identity(&name)) {
            on_table.description = identity;
        }
    }

    fn feed(&self, id: FeedId) -> Option<&Feed> {
        self.feeds.get(id as usize).and_then(Option::as_ref)
    }

    fn feed_mut(&mut self, id: FeedId) -> Option<&mut Feed> {
        self.feeds.get_mut(id as usize).and_then(Option::as_mut)
    }
}
