//! The state machine over all of it: inputs in, outputs out.
//!
//! The engine of one instance knows tables, rules, sources, subscriptions and feeds. It is told what was read, who
//! subscribes and what time it is, and answers with what is to be done: ask for a snapshot, send a delta to these
//! subscribers, fetch what is missing. It never waits, so a whole cluster of engines can be run in one thread from one
//! seed.
//!
//! Life of a subscription: [`Input::Subscribe`] is compiled against tables and rules; equal effective queries share a
//! [`Feed`]. A snapshot is asked for and joined with the stream through a [`Seam`]; then [`Output::Result`] carries the
//! rows and the subscription hears the feed's deltas. A gap, a changed table or changed rights send it through a new
//! seam, at whose end the result is replaced as a whole.
//!
//! This file has what the engine knows; [`subscriptions`], [`snapshots`] and [`changes`] have what happens to it.

mod changes;
mod io;
mod snapshots;
mod subscriptions;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::sync::Arc;

use crate::audience::Audience;
use crate::feed::Sent;
use crate::index::{FeedId, TableIndex};
use crate::pace::Pending;
use crate::position::{Interval, Micros, Position, Progress, RowChange, Transaction};
use crate::query::{QueryError, parse_query};
use crate::rule::{Effective, Permitted, RuleSet, Standing};
use crate::schema::{Catalog, Key, TableName};
use crate::seam::Seam;
pub use io::{Delta, Input, Limits, Output, Refusal, Request, Resume, SnapshotId, SubId, Why};

#[derive(Debug)]
struct Feed {
    effective: Arc<Effective>,
    live: Audience,
    // Boxed, because a change that touches a feed finds it in one cache line then.
    joining: Option<Box<Joining>>,
    sent: Option<Box<Sent>>,
    /// Microseconds between two deltas, and what waits meanwhile.
    every: Micros,
    pending: Option<Box<Pending>>,
    deltas: u64,
}

#[derive(Debug)]
struct Joining {
    snapshot: SnapshotId,
    seam: Seam,
    waiting: Vec<(SubId, Why)>,
    failures: u32,
    /// The last attempt failed; the next tick asks again.
    resting: bool,
}

#[derive(Debug)]
struct Sub {
    request: Request,
    feed: FeedId,
}

#[derive(Debug, Default)]
struct OnTable {
    index: TableIndex,
    feeds: HashSet<FeedId>,
    joining: HashSet<FeedId>,
    /// Tables without old values: which feeds have sent a key.
    holders: HashMap<Key, Vec<FeedId>>,
}

#[derive(Debug, Default)]
struct Followed {
    progress: Progress,
    /// Where the unbroken stretch that ends at `progress` began. A snapshot from before it cannot be joined.
    floor: Position,
    ahead: VecDeque<Arc<Interval>>,
    healing: bool,
    /// All transactions after this one are still in the window.
    remembered: Position,
}

/// What is known of a feed, for the system tables.
#[derive(Clone, Debug)]
pub struct FeedInfo {
    /// Its number in this engine.
    pub id: FeedId,
    /// What it asks.
    pub effective: Arc<Effective>,
    /// How many subscriptions share it.
    pub subscriptions: usize,
    /// Deltas since it began.
    pub deltas: u64,
}

/// The state machine of one instance.
#[derive(Debug)]
pub struct Engine {
    catalog: Catalog,
    rules: Arc<RuleSet>,
    limits: Limits,
    sources: BTreeMap<Arc<str>, Followed>,
    feeds: Vec<Option<Feed>>,
    free: Vec<FeedId>,
    by_effective: HashMap<(Arc<Effective>, Micros), FeedId>,
    tables: HashMap<TableName, OnTable>,
    subs: HashMap<SubId, Sub>,
    observed: Vec<SubId>,
    snapshots: HashMap<SnapshotId, FeedId>,
    next_snapshot: SnapshotId,
    window: VecDeque<(Arc<str>, Arc<Transaction>)>,
    /// Room for the pairs (feed, change) of one transaction, kept between transactions.
    touched: Vec<(FeedId, u32)>,
    /// Feeds of which something waits for its time, soonest first.
    paced: BTreeSet<(Micros, FeedId)>,
    /// When a table was last reset: what came before cannot be told as deltas.
    resets: HashMap<TableName, Position>,
    clock: Micros,
    out: Vec<Output>,
}

impl Engine {
    /// An engine that knows these rules and no tables yet.
    pub fn new(rules: Arc<RuleSet>, limits: Limits) -> Engine {
        Engine {
            catalog: Catalog::default(),
            rules,
            limits,
            sources: BTreeMap::new(),
            feeds: Vec::new(),
            free: Vec::new(),
            by_effective: HashMap::new(),
            tables: HashMap::new(),
            subs: HashMap::new(),
            observed: Vec::new(),
            snapshots: HashMap::new(),
            next_snapshot: 0,
            window: VecDeque::new(),
            touched: Vec::new(),
            paced: BTreeSet::new(),
            resets: HashMap::new(),
            clock: 0,
            out: Vec::new(),
        }
    }

    /// Tells the time, at which the inputs that follow happen.
    pub fn set_clock(&mut self, now: Micros) {
        self.clock = now;
    }

    /// When [`Input::Tick`] is wanted, if it is before long.
    pub fn next_due(&self) -> Option<Micros> {
        self.paced.first().map(|(due, _)| *due)
    }

    /// Takes one input and returns what is to be done, in order.
    pub fn handle(&mut self, input: Input) -> Vec<Output> {
        match input {
            Input::Interval(i) => self.interval(i),
            Input::Healed { source, intervals } => self.healed(&source, intervals),
            Input::Subscribe(sub, request) => self.subscribe(sub, request),
            Input::Unsubscribe(sub) => self.unsubscribe(sub),
            Input::CatchUp(sub) => self.catch_up(sub),
            Input::Claims(subs, claims) => self.claims(&subs, &claims),
            Input::Rules(rules) => {
                self.rules = rules;
                let all: Vec<SubId> = self.subs.keys().copied().collect();
                all.into_iter().for_each(|sub| self.recompile(sub, Why::RightsChanged));
            }
            Input::Table(table) => self.catalog.put(table),
            Input::SnapshotRows(id, rows) => self.snapshot_rows(id, rows),
            Input::SnapshotDone(id, at) => self.snapshot_done(id, at),
            Input::SnapshotFailed(id, why) => self.snapshot_failed(id, why),
            Input::Tick => self.tick(),
        }
        std::mem::take(&mut self.out)
    }

    /// The tables that queries can name.
    pub fn catalog(&self) -> &Catalog {
        &self.catalog
    }

    /// The rules in force.
    pub fn rules(&self) -> &Arc<RuleSet> {
        &self.rules
    }

    /// How far a source has been followed.
    pub fn progress(&self, source: &str) -> Progress {
        self.sources.get(source).map_or(Progress::default(), |s| s.progress)
    }

    /// Whether something of a source is missing at the moment.
    pub fn is_healing(&self, source: &str) -> bool {
        self.sources.get(source).is_some_and(|s| s.healing)
    }

    /// All feeds, for the system tables.
    pub fn feeds(&self) -> impl Iterator<Item = FeedInfo> + '_ {
        (0..self.feeds.len() as FeedId).filter_map(|id| self.info(id))
    }

    fn info(&self, id: FeedId) -> Option<FeedInfo> {
        let f = self.feed(id)?;
        let waiting = f.joining.as_ref().map_or(0, |j| j.waiting.len());
        let subscriptions = f.live.as_slice().len() + waiting;
        Some(FeedInfo { id, effective: f.effective.clone(), subscriptions, deltas: f.deltas })
    }

    /// The effective query of a subscription.
    pub fn effective(&self, sub: SubId) -> Option<Arc<Effective>> {
        self.subs.get(&sub).and_then(|s| self.feed(s.feed)).map(|f| f.effective.clone())
    }

    /// Everything needed to explain a transaction to a subscription: the transaction, the query and the rules.
    pub fn inquiry(&self, sub: SubId) -> Option<(Arc<Effective>, Vec<Standing>)> {
        let effective = self.effective(sub)?;
        let standing = self.rules.standing(&effective.table, &self.subs.get(&sub)?.request.claims);
        Some((effective, standing))
    }

    /// As [`Engine::inquiry`], for a query that nobody has subscribed to.
    pub fn hypothetical(&self, request: &Request) -> Result<(Arc<Effective>, Vec<Standing>), QueryError> {
        let effective = self.compile(request)?;
        let standing = self.rules.standing(&effective.table, &request.claims);
        Ok((Arc::new(effective), standing))
    }

    /// The feed that an effective query shares with others, one delta per transaction; `None` if nobody asks it now.
    pub fn feed_of(&self, effective: &Arc<Effective>) -> Option<FeedInfo> {
        let id = *self.by_effective.get(&(effective.clone(), 0))?;
        self.info(id)
    }

    /// The newest remembered change of a table.
    pub fn newest_change(&self, table: &TableName) -> Option<&RowChange> {
        self.window.iter().rev().find_map(|(_, t)| t.changes.iter().find(|c| c.table == *table))
    }

    /// A transaction that is still remembered.
    pub fn transaction(&self, source: &str, position: Position) -> Option<Arc<Transaction>> {
        let found = self.window.iter().rev().find(|(s, t)| &**s == source && t.position == position);
        found.map(|(_, t)| t.clone())
    }

    /// The effective query of a request under the rules in force.
    pub fn compile(&self, request: &Request) -> Result<Effective, QueryError> {
        let permitted = Permitted { catalog: &self.catalog, rules: &self.rules, claims: &request.claims };
        let query = parse_query(&request.query, &permitted, &request.params)?.bind(&request.params)?;
        let standing = self.rules.standing(&query.table, &request.claims);
        Ok(Effective::new(query, &standing))
    }

    fn feed(&self, id: FeedId) -> Option<&Feed> {
        self.feeds.get(id as usize).and_then(Option::as_ref)
    }

    fn feed_mut(&mut self, id: FeedId) -> Option<&mut Feed> {
        self.feeds.get_mut(id as usize).and_then(Option::as_mut)
    }
}
