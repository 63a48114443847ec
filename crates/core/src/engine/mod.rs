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

mod io;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet, VecDeque};
use std::sync::Arc;

use crate::audience::Audience;
use crate::explain::{self, Tally, Verdict};
use crate::feed::{self, Change, Sent};
use crate::index::{FeedId, TableIndex};
use crate::pace::Pending;
use crate::position::{Continues, Interval, Micros, Position, Progress, Reset, ResetWhy, RowChange, Transaction};
use crate::query::{QueryError, parse_query};
use crate::rule::{Claims, Effective, Permitted, RuleSet, Standing};
use crate::schema::{Catalog, Key, Row, TableName};
pub use io::{Delta, Input, Limits, Output, Refusal, Request, Resume, SnapshotId, SubId, Why};

use crate::seam::Seam;

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

    // --- subscriptions

    fn subscribe(&mut self, sub: SubId, request: Request) {
        if self.subs.len() >= self.limits.subscriptions {
            let text = format!("subscriptions of this instance, at most {}", self.limits.subscriptions);
            return self.out.push(Output::Closed(sub, Refusal::Limit(text)));
        }
        if request.observed && self.observed.len() >= self.limits.observed {
            let text = format!("observed subscriptions, at most {}", self.limits.observed);
            return self.out.push(Output::Closed(sub, Refusal::Limit(text)));
        }
        match self.compile(&request) {
            Err(e) => self.out.push(Output::Closed(sub, Refusal::Query(e))),
            Ok(effective) => {
                let budget = self.limits.sent_bytes;
                if !effective.table.old_values && self.sent_bytes() > budget {
                    let text = format!("keys remembered for tables without old values, at most {budget} bytes");
                    return self.out.push(Output::Closed(sub, Refusal::Limit(text)));
                }
                if request.observed {
                    self.observed.push(sub);
                }
                self.attach(sub, request, effective, Why::First);
            }
        }
    }

    fn sent_bytes(&self) -> usize {
        self.feeds.iter().flatten().filter_map(|f| f.sent.as_ref()).map(|s| s.size()).sum()
    }

    fn attach(&mut self, sub: SubId, request: Request, effective: Effective, why: Why) {
        let shared = (Arc::new(effective), request.every);
        let resume = if why == Why::First { request.resume.clone() } else { None };
        let feed = match self.by_effective.get(&shared) {
            Some(id) => *id,
            None => self.new_feed(shared.0, shared.1),
        };
        self.subs.insert(sub, Sub { request, feed });
        match resume.map(|r| self.resume(sub, feed, &r)) {
            None => self.join(feed, vec![(sub, why)]),
            Some(Ok(())) => {}
            Some(Err(why)) => self.join(feed, vec![(sub, why)]),
        }
    }

    /// Lets a client go on from its cursor, with what came after it, or says why it cannot.
    fn resume(&mut self, sub: SubId, id: FeedId, resume: &Resume) -> Result<(), Why> {
        let Resume::At(cursor) = resume else { return Err(Why::ResumedTooLate) };
        let effective = self.feed(id).map(|f| f.effective.clone()).ok_or(Why::ResumedTooLate)?;
        if cursor.query != effective.fingerprint {
            return Err(Why::RightsChanged);
        }
        let (table, position) = (&effective.table, cursor.position());
        let followed = self.sources.get(&table.source).ok_or(Why::ResumedTooLate)?;
        let progress = followed.progress;
        let reset = self.resets.get(&table.name).copied().unwrap_or_default();
        let known = followed.floor.max(followed.remembered).max(reset)..=progress.at.unwrap_or_default();
        // Positions in Gossip's own tables begin anew with every start, and what was sent of tables without old values
        // is not remembered for those who left.
        let possible = table.old_values && !table.name.is_system() && !progress.lost && cursor.epoch <= progress.epoch;
        if !possible || !known.contains(&position) {
            return Err(Why::ResumedTooLate);
        }
        self.tell_pending(id);
        let epoch = progress.epoch;
        self.out.push(Output::Resumed { sub, feed: effective.clone(), epoch, position });
        let only = Audience::One(sub);
        for (_, t) in self.window.iter().filter(|(s, t)| *s == table.source && t.position > position) {
            let of_table = t.changes.iter().filter(|c| c.table == table.name);
            let changes: Vec<Change> = of_table.filter_map(|c| feed::change(&effective, c, None)).collect();
            if !changes.is_empty() {
                let (position, at) = (t.position, t.committed.to);
                let delta = Delta { feed: effective.clone(), epoch, position, at, changes, skipped: 0 };
                self.out.push(Output::Delta(Arc::new(delta), only.clone()));
            }
        }
        if let Some(feed) = self.feed_mut(id) {
            feed.live.extend([sub]);
        }
        Ok(())
    }

    /// Tells what a feed holds back.
    fn tell_pending(&mut self, id: FeedId) {
        let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) else { return };
        let Some(pending) = &mut feed.pending else { return };
        if let Some(due) = pending.due() {
            self.paced.remove(&(due, id));
        }
        if let Some(delta) = pending.take_out()
            && !feed.live.is_empty()
        {
            let live = feed.live.clone();
            self.out.push(Output::Delta(Arc::new(delta), live));
        }
    }

    fn new_feed(&mut self, effective: Arc<Effective>, every: Micros) -> FeedId {
        let id = self.free.pop().unwrap_or_else(|| {
            self.feeds.push(None);
            (self.feeds.len() - 1) as FeedId
        });
        let on_table = self.tables.entry(effective.table.name.clone()).or_default();
        on_table.index.insert(id, &effective);
        on_table.feeds.insert(id);
        self.by_effective.insert((effective.clone(), every), id);
        let (live, pending) = (Audience::default(), (every > 0).then(Box::default));
        self.feeds[id as usize] = Some(Feed { effective, live, joining: None, sent: None, every, pending, deltas: 0 });
        id
    }

    /// Lets subscriptions wait for the feed's next snapshot, and asks for one if none is on its way.
    fn join(&mut self, id: FeedId, who: Vec<(SubId, Why)>) {
        let next = self.next_snapshot;
        let Some(feed) = self.feed_mut(id) else { return };
        if let Some(joining) = &mut feed.joining {
            joining.waiting.extend(who);
            return;
        }
        let effective = feed.effective.clone();
        feed.joining = Some(Box::new(Joining {
            snapshot: next,
            seam: Seam::default(),
            waiting: who,
            failures: 0,
            resting: false,
        }));
        self.next_snapshot += 1;
        self.snapshots.insert(next, id);
        self.tables.entry(effective.table.name.clone()).or_default().joining.insert(id);
        self.out.push(Output::FetchSnapshot(next, effective));
    }

    /// Throws the snapshot under way away and asks for another, for the same subscriptions.
    fn take_again(&mut self, id: FeedId) {
        let next = self.next_snapshot;
        let Some(feed) = self.feed_mut(id) else { return };
        let effective = feed.effective.clone();
        let Some(joining) = &mut feed.joining else { return };
        let old = std::mem::replace(&mut joining.snapshot, next);
        joining.seam = Seam::default();
        joining.resting = false;
        self.next_snapshot += 1;
        self.snapshots.remove(&old);
        self.snapshots.insert(next, id);
        self.out.push(Output::CancelSnapshot(old));
        self.out.push(Output::FetchSnapshot(next, effective));
    }

    /// Sends the whole result anew to everybody on a feed.
    fn renew(&mut self, id: FeedId, why: Why) {
        let Some(feed) = self.feed_mut(id) else { return };
        let live = std::mem::take(&mut feed.live);
        feed.sent = None;
        let who: Vec<(SubId, Why)> = live.as_slice().iter().map(|s| (*s, why)).collect();
        live.as_slice().iter().for_each(|s| self.out.push(Output::Discard(*s)));
        if self.feed(id).is_some_and(|f| f.joining.is_some()) {
            self.join(id, who);
            self.take_again(id);
        } else if !who.is_empty() {
            self.join(id, who);
        }
        self.forget_holders(id);
    }

    fn forget_holders(&mut self, id: FeedId) {
        let Some(name) = self.feed(id).map(|f| f.effective.table.name.clone()) else { return };
        if let Some(on_table) = self.tables.get_mut(&name) {
            on_table.holders.retain(|_, feeds| {
                feeds.retain(|f| *f != id);
                !feeds.is_empty()
            });
        }
    }

    fn unsubscribe(&mut self, sub: SubId) {
        if self.detach(sub).is_some() {
            self.observed.retain(|s| *s != sub);
        }
    }

    /// Takes a subscription off its feed; the last one takes the feed with it.
    fn detach(&mut self, sub: SubId) -> Option<Sub> {
        let gone = self.subs.remove(&sub)?;
        let feed = self.feed_mut(gone.feed)?;
        feed.live.remove(sub);
        if let Some(joining) = &mut feed.joining {
            joining.waiting.retain(|(s, _)| *s != sub);
            if joining.waiting.is_empty() {
                self.stop_joining(gone.feed);
            }
        }
        let feed = self.feed(gone.feed)?;
        if feed.live.is_empty() && feed.joining.is_none() {
            self.remove_feed(gone.feed);
        }
        Some(gone)
    }

    fn stop_joining(&mut self, id: FeedId) -> Option<Box<Joining>> {
        let feed = self.feeds.get_mut(id as usize)?.as_mut()?;
        let joining = feed.joining.take()?;
        if let Some(on_table) = self.tables.get_mut(&feed.effective.table.name) {
            on_table.joining.remove(&id);
        }
        if self.snapshots.remove(&joining.snapshot).is_some() {
            self.out.push(Output::CancelSnapshot(joining.snapshot));
        }
        Some(joining)
    }

    fn remove_feed(&mut self, id: FeedId) {
        if self.feed(id).is_some_and(|f| f.sent.is_some()) {
            self.forget_holders(id);
        }
        let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::take) else { return };
        if let Some(due) = feed.pending.as_ref().and_then(|p| p.due()) {
            self.paced.remove(&(due, id));
        }
        self.by_effective.remove(&(feed.effective.clone(), feed.every));
        let name = &feed.effective.table.name;
        if let Some(on_table) = self.tables.get_mut(name) {
            on_table.index.remove(id, &feed.effective);
            on_table.feeds.remove(&id);
            if on_table.feeds.is_empty() {
                self.tables.remove(name);
            }
        }
        self.free.push(id);
    }

    fn catch_up(&mut self, sub: SubId) {
        let Some(id) = self.subs.get(&sub).map(|s| s.feed) else { return };
        let Some(feed) = self.feed_mut(id) else { return };
        // One that is waiting for a snapshot gets the newest state anyway.
        if feed.live.remove(sub) {
            self.join(id, vec![(sub, Why::CaughtUp)]);
        }
    }

    fn claims(&mut self, subs: &[SubId], claims: &Arc<Claims>) {
        for sub in subs {
            if let Some(s) = self.subs.get_mut(sub) {
                s.request.claims = claims.clone();
                self.recompile(*sub, Why::RightsChanged);
            }
        }
    }

    /// Compiles a subscription again after rules, claims or its table changed.
    fn recompile(&mut self, sub: SubId, why: Why) {
        let Some(s) = self.subs.get(&sub) else { return };
        match self.compile(&s.request) {
            Ok(effective) if self.feed(s.feed).is_some_and(|f| *f.effective == effective) => {}
            Ok(effective) => {
                if let Some(gone) = self.detach(sub) {
                    self.out.push(Output::Discard(sub));
                    self.attach(sub, gone.request, effective, why);
                }
            }
            Err(e) => {
                self.unsubscribe(sub);
                let refusal = match why {
                    Why::SchemaChanged => Refusal::SchemaChanged(e.to_string()),
                    _ => Refusal::RightsChanged(e.to_string()),
                };
                self.out.push(Output::Closed(sub, refusal));
            }
        }
    }

    // --- snapshots

    fn snapshot_feed(&mut self, id: SnapshotId) -> Option<(FeedId, &mut Feed)> {
        let feed = *self.snapshots.get(&id)?;
        self.feed_mut(feed).map(|f| (feed, f))
    }

    fn snapshot_rows(&mut self, id: SnapshotId, rows: Vec<Row>) {
        let limit = self.limits.result_rows;
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let effective = feed.effective.clone();
        let Some(joining) = &mut feed.joining else { return };
        joining.seam.rows(&effective, rows);
        if joining.seam.len() > limit {
            let text = format!("rows of one result, at most {limit}; narrow the query");
            self.give_up(feed_id, Refusal::Limit(text));
        }
    }

    fn snapshot_done(&mut self, id: SnapshotId, at: Position) {
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let source = feed.effective.table.source.clone();
        if let Some(joining) = &mut feed.joining {
            joining.seam.complete(at);
        }
        self.finish_seam(feed_id, &source);
    }

    fn snapshot_failed(&mut self, id: SnapshotId, why: String) {
        let attempts = self.limits.attempts;
        let Some((feed_id, feed)) = self.snapshot_feed(id) else { return };
        let Some(joining) = &mut feed.joining else { return };
        joining.failures += 1;
        joining.resting = true;
        if joining.failures >= attempts {
            self.give_up(feed_id, Refusal::Unavailable(why));
        }
    }

    fn give_up(&mut self, id: FeedId, refusal: Refusal) {
        let Some(joining) = self.stop_joining(id) else { return };
        for (sub, _) in joining.waiting {
            self.observed.retain(|s| *s != sub);
            self.subs.remove(&sub);
            self.out.push(Output::Closed(sub, refusal.clone()));
        }
        if self.feed(id).is_some_and(|f| f.live.is_empty()) {
            self.remove_feed(id);
        }
    }

    fn finish_seam(&mut self, id: FeedId, source: &Arc<str>) {
        let progress = self.progress(source);
        let Some(reached) = progress.at.filter(|_| !progress.lost) else { return };
        let floor = self.sources.get(source).map_or(Position::default(), |s| s.floor);
        let Some(feed) = self.feed_mut(id) else { return };
        let effective = feed.effective.clone();
        let Some(joining) = &mut feed.joining else { return };
        if joining.seam.stands_at().is_some_and(|at| at < floor) {
            let snapshot = joining.snapshot;
            return self.snapshot_failed(snapshot, "the snapshot is older than the stream".into());
        }
        let Some(rows) = joining.seam.finish(&effective, reached) else { return };
        // What waits is older than these rows: it is for those who were there before.
        self.tell_pending(id);
        let Some(joining) = self.stop_joining(id) else { return };
        // Nothing is to be cancelled: the snapshot is complete.
        self.out.retain(|o| !matches!(o, Output::CancelSnapshot(s) if *s == joining.snapshot));
        let track = !effective.table.old_values && !effective.table.key.is_empty();
        if track && self.feed(id).is_some_and(|f| f.live.is_empty() && f.sent.is_some()) {
            // Nobody was listening meanwhile: what is remembered as sent is out of date.
            self.forget_holders(id);
            self.feeds[id as usize].iter_mut().for_each(|f| f.sent = None);
        }
        if let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) {
            feed.live.extend(joining.waiting.iter().map(|(s, _)| *s));
            if track && feed.sent.is_none() {
                let mut sent = Sent::default();
                let holders = &mut self.tables.entry(effective.table.name.clone()).or_default().holders;
                for (key, seen) in &rows {
                    sent.note(&effective, key.clone(), seen);
                    holders.entry(key.clone()).or_default().push(id);
                }
                feed.sent = Some(Box::new(sent));
            }
        }
        self.out.push(Output::Result {
            to: joining.waiting,
            feed: effective,
            rows: Arc::new(rows),
            epoch: progress.epoch,
            position: reached,
        });
    }

    fn tick(&mut self) {
        while let Some((due, id)) = self.paced.first().copied()
            && due <= self.clock
        {
            self.tell_pending(id);
        }
        let resting = |f: &Feed| f.joining.as_ref().is_some_and(|j| j.resting);
        let again: Vec<FeedId> =
            (0..self.feeds.len() as FeedId).filter(|&i| self.feed(i).is_some_and(resting)).collect();
        again.into_iter().for_each(|id| self.take_again(id));
    }

    // --- changes

    fn interval(&mut self, interval: Arc<Interval>) {
        let followed = self.sources.entry(interval.source.clone()).or_default();
        match followed.progress.judge(&interval) {
            Continues::Nothing | Continues::OutOfOffice => {
                // An empty interval of a new reader still tells of its office.
                let p = &mut followed.progress;
                p.epoch = p.epoch.max(interval.epoch);
            }
            Continues::AfterGap => {
                if followed.ahead.len() < self.limits.ahead {
                    followed.ahead.push_back(interval.clone());
                }
                let after = followed.progress.at.unwrap_or_default();
                if !std::mem::replace(&mut followed.healing, true) {
                    self.out.push(Output::Heal { source: interval.source.clone(), after });
                }
            }
            Continues::Seamlessly => self.take(interval),
        }
    }

    fn healed(&mut self, source: &Arc<str>, intervals: Option<Vec<Arc<Interval>>>) {
        let given_up = intervals.is_none();
        let followed = self.sources.entry(source.clone()).or_default();
        followed.healing = false;
        let ahead = std::mem::take(&mut followed.ahead);
        intervals.into_iter().flatten().for_each(|i| self.interval(i));
        for i in ahead {
            // What was missing may have come late, by itself.
            if given_up && self.progress(source).judge(&i) == Continues::AfterGap {
                // It is not to be had: begin anew where the stream goes on.
                self.sources.entry(source.clone()).or_default().progress.lost = true;
                self.renew_source(source, Why::Gap);
            }
            self.interval(i);
        }
    }

    fn renew_source(&mut self, source: &Arc<str>, why: Why) {
        let own = |f: &Feed| f.effective.table.source == *source;
        let ids: Vec<FeedId> = (0..self.feeds.len() as FeedId).filter(|&i| self.feed(i).is_some_and(own)).collect();
        ids.into_iter().for_each(|id| self.renew(id, why));
    }

    fn take(&mut self, interval: Arc<Interval>) {
        let before = self.progress(&interval.source).at;
        for t in &interval.transactions {
            // The first interval ever may begin anywhere; later ones may overlap what is known.
            if before.is_none_or(|at| t.position > at) {
                self.transaction_in(&interval, t);
            }
        }
        let followed = self.sources.entry(interval.source.clone()).or_default();
        if before.is_none() || followed.progress.lost {
            followed.floor = interval.from;
        }
        followed.progress =
            Progress { epoch: interval.epoch.max(followed.progress.epoch), at: Some(interval.to), lost: false };
        interval.resets.iter().for_each(|r| self.reset(r, interval.to));
        let joining: Vec<FeedId> = self
            .tables
            .values()
            .flat_map(|t| t.joining.iter().copied())
            .filter(|&i| self.feed(i).is_some_and(|f| f.effective.table.source == interval.source))
            .collect();
        joining.into_iter().for_each(|id| self.finish_seam(id, &interval.source));
    }

    fn reset(&mut self, reset: &Reset, at: Position) {
        self.resets.insert(reset.name.clone(), at);
        let on_table = self.tables.get(&reset.name);
        let feeds: Vec<FeedId> = on_table.map(|t| t.feeds.iter().copied().collect()).unwrap_or_default();
        match &reset.table {
            Some(table) => self.catalog.put(table.clone()),
            None => drop(self.catalog.remove(&reset.name)),
        }
        let why = match reset.why {
            ResetWhy::SchemaChanged => Why::SchemaChanged,
            ResetWhy::TooLarge => Why::Gap,
        };
        for id in feeds {
            let Some(feed) = self.feed(id) else { continue };
            if reset.table.as_ref() == Some(&feed.effective.table) {
                self.renew(id, why);
                continue;
            }
            let waiting = feed.joining.iter().flat_map(|j| j.waiting.iter().map(|(s, _)| *s));
            let subs: Vec<SubId> = feed.live.as_slice().iter().copied().chain(waiting).collect();
            subs.into_iter().for_each(|sub| self.recompile(sub, why));
        }
    }

    fn transaction_in(&mut self, interval: &Arc<Interval>, t: &Arc<Transaction>) {
        let source = &interval.source;
        let mut touched = std::mem::take(&mut self.touched);
        touched.clear();
        for (i, change) in t.changes.iter().enumerate() {
            let Some(on_table) = self.tables.get(&change.table) else { continue };
            let old = match &change.old {
                crate::position::Old::Known(old) => old.as_ref(),
                crate::position::Old::Unknown => None,
            };
            on_table.index.touched(old, change.new.as_ref(), |f| touched.push((f, i as u32)));
            if let Some(holders) = on_table.holders.get(&change.key) {
                touched.extend(holders.iter().map(|f| (*f, i as u32)));
            }
            if !on_table.joining.is_empty() {
                let joining: Vec<FeedId> = on_table.joining.iter().copied().collect();
                joining.into_iter().for_each(|id| self.overlay(id, t.position, change));
            }
        }
        touched.sort_unstable();
        touched.dedup();
        // What follows from this transaction is told under the epoch that read it, also where that is a new one.
        let epoch = interval.epoch.max(self.progress(source).epoch);
        let matched = self.evaluate(epoch, t, &touched);
        self.touched = touched;
        self.tell_verdicts(source, epoch, t, &matched);
        if self.window.len() >= self.limits.window
            && let Some((source, t)) = self.window.pop_front()
            && let Some(followed) = self.sources.get_mut(&source)
        {
            followed.remembered = followed.remembered.max(t.position);
        }
        self.window.push_back((source.clone(), t.clone()));
        self.out.push(Output::Taken(interval.clone(), t.clone()));
    }

    fn overlay(&mut self, id: FeedId, position: Position, change: &crate::position::RowChange) {
        let Some(feed) = self.feed_mut(id) else { return };
        let effective = feed.effective.clone();
        if feed.joining.as_mut().is_some_and(|j| !j.seam.overlay(&effective, position, change)) {
            self.take_again(id);
        }
    }

    /// Evaluates the feeds that a transaction may touch, and returns what matched, by feed.
    fn evaluate(&mut self, epoch: u64, t: &Arc<Transaction>, touched: &[(FeedId, u32)]) -> HashMap<FeedId, Tally> {
        let observing = !self.observed.is_empty();
        self.out.reserve(touched.len() + self.observed.len() + 1);
        let (mut matched, mut full) = (HashMap::new(), Vec::new());
        for group in touched.chunk_by(|a, b| a.0 == b.0) {
            let id = group[0].0;
            let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::as_mut) else { continue };
            if feed.live.is_empty() {
                continue;
            }
            let effective = feed.effective.clone();
            let mut changes = Vec::with_capacity(group.len());
            for (_, i) in group {
                let row = &t.changes[*i as usize];
                let Some(change) = feed::change(&effective, row, feed.sent.as_deref_mut()) else { continue };
                if feed.sent.is_some() {
                    let holders = &mut self.tables.entry(row.table.clone()).or_default().holders;
                    let of_key = holders.entry(row.key.clone()).or_default();
                    of_key.retain(|f| *f != id);
                    match change {
                        Change::Remove { .. } if of_key.is_empty() => drop(holders.remove(&row.key)),
                        Change::Remove { .. } => {}
                        _ => of_key.push(id),
                    }
                }
                changes.push(change);
            }
            if changes.is_empty() {
                continue;
            }
            feed.deltas += 1;
            if observing {
                matched.insert(id, Tally::of(&changes));
            }
            let (position, at) = (t.position, t.committed.to);
            let delta = Arc::new(Delta { feed: effective, epoch, position, at, changes, skipped: 0 });
            if let Some(pending) = &mut feed.pending {
                let due = pending.take_in(delta, self.clock.saturating_add(feed.every));
                self.paced.insert((due, id));
                if pending.is_full() {
                    full.push(id);
                }
            } else {
                self.out.push(Output::Delta(delta, feed.live.clone()));
            }
        }
        full.into_iter().for_each(|id| self.tell_pending(id));
        matched
    }

    fn tell_verdicts(&mut self, source: &Arc<str>, epoch: u64, t: &Transaction, matched: &HashMap<FeedId, Tally>) {
        for sub in &self.observed {
            let Some(s) = self.subs.get(sub) else { continue };
            let Some(feed) = self.feeds.get(s.feed as usize).and_then(Option::as_ref) else { continue };
            if feed.effective.table.source != *source {
                continue;
            }
            let waiting = feed.joining.as_ref().is_some_and(|j| j.waiting.iter().any(|(w, _)| w == sub));
            let (verdict, tally) = match matched.get(&s.feed) {
                _ if waiting => (explain::verdict(&feed.effective, t).min(Verdict::Folded), Tally::default()),
                Some(tally) => (Verdict::Matched, *tally),
                None => (explain::verdict(&feed.effective, t).min(Verdict::Unchanged), Tally::default()),
            };
            let (source, position) = (source.clone(), t.position);
            self.out.push(Output::Verdict { sub: *sub, source, epoch, position, verdict, tally });
        }
    }
}
