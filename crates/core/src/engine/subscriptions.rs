//! The life of subscriptions and their feeds: they come, share, resume, wait for a snapshot, change their rights, go.

use std::collections::VecDeque;
use std::sync::Arc;

use serde_json::Value as Json;

use super::io::{Delta, Output, Refusal, Request, Resume, ResyncReason, Wants};
use super::memory::Memory;
use super::serves::Serves;
use super::subscription::{SharedRequest, Subscription};
use super::{Cleanup, Engine, Feed, Joining, OnTable, Turn, row_events};
use crate::audience::{Audience, SubId};
use crate::budget::Cost;
use crate::coalesce::Pending;
use crate::feed::{self, Change, ChangeError};
use crate::index::FeedId;
use crate::plan::{AccessPath, EffectivePlan, RowFilter};
use crate::position::{Micros, Position, Progress, Timestamp};
use crate::rule::Claims;
use crate::seam::SnapshotMerge;

impl Engine {
    pub(super) fn subscribe(&mut self, sub: SubId, mut request: Box<Request>) {
        if self.subs.len() >= self.limits.subscriptions {
            let text = format!("subscriptions of this instance, at most {}", self.limits.subscriptions);
            return self.out.push(Output::Closed(sub, Refusal::Limit(text)));
        }
        if request.observed && self.observed.len() >= self.limits.observed {
            let text = format!("observed subscriptions, at most {}", self.limits.observed);
            return self.out.push(Output::Closed(sub, Refusal::Limit(text)));
        }
        let compiled = match request.compiled.take().filter(|c| c.generation == self.generation) {
            Some(compiled) => compiled.outcome,
            None => self.compile(&request).map(Arc::new),
        };
        match compiled.and_then(|plan| request.suits(&plan).map(|()| plan)) {
            Err(e) => self.out.push(Output::Closed(sub, Refusal::Query(e))),
            Ok(plan) => {
                let cost = self.cost(&request, &plan);
                if let Err(which) = self.budget.charge(request.owner.as_deref(), cost, &self.limits.shares) {
                    return self.out.push(Output::Closed(sub, Refusal::Limit(which)));
                }
                // What is refused below was charged for nothing.
                self.budget.release(request.owner.as_deref(), cost);
                let budget = self.limits.sent_bytes;
                if !plan.table().old_values && self.sent_bytes() > budget {
                    let text = format!("keys remembered for tables without old values, at most {budget} bytes");
                    return self.out.push(Output::Closed(sub, Refusal::Limit(text)));
                }
                if plan.is_held()
                    && let Some(refusal) = self.has_no_room_for(request.owner.as_deref())
                {
                    return self.out.push(Output::Closed(sub, refusal));
                }
                if request.observed {
                    self.observed.push(sub);
                }
                self.attach(sub, request, plan, ResyncReason::First);
            }
        }
    }

    fn sent_bytes(&self) -> usize {
        self.feeds.iter().flatten().filter_map(|f| f.memory.tracked()).map(|s| s.size()).sum()
    }

    /// What a subscription costs.
    fn cost(&self, request: &Request, plan: &EffectivePlan) -> Cost {
        /// Bytes that every subscription takes.
        const EACH: usize = 1_024;
        let params = request.params.iter().map(|(name, v)| name.len() + json_size(v)).sum::<usize>();
        /// Parts of a condition that an event of the stream of row changes costs as much as.
        const OF_AN_EVENT: usize = 16;
        let (bytes, mut nodes) = plan.size();
        nodes += plan.row_changes.as_ref().map_or(0, |_| OF_AN_EVENT);
        let is_broad = |plan: &EffectivePlan| AccessPath::of(plan, &self.subquery_sets).is_broad();
        let is_scanned =
            is_broad(plan) || plan.asked_by_client().any(|asked| is_broad(&EffectivePlan::of_subquery(&asked)));
        let scanned = if is_scanned { nodes } else { 0 };
        Cost { bytes: EACH + request.query.len() + params + bytes, scanned }
    }

    fn attach(&mut self, sub: SubId, mut request: Box<Request>, plan: Arc<EffectivePlan>, why: ResyncReason) {
        let cost = self.cost(&request, &plan);
        self.budget.force(request.owner.as_deref(), cost);
        let (resume, wants) = (request.resume.take(), request.wants);
        let shared = self.shared.find((&plan, request.every), |id| self.feed(id).map(Feed::shared_by));
        let feed = shared.unwrap_or_else(|| self.new_feed(plan, request.every, Serves::Clients));
        let first = self.feed(feed).and_then(|f| f.subscribers().next()).and_then(|sub| self.subs.get(&sub));
        let shared_request = SharedRequest::shared(&mut request, first.map(|s| &s.shared_request));
        self.subs
            .insert(sub, Subscription { shared_request, claims: request.claims, owner: request.owner, feed, cost });
        match resume.map(|r| self.resume(sub, feed, &r)) {
            None if wants != Wants::Result && self.begin_with_changes(sub, feed, why) => {}
            None => self.join(feed, vec![(sub, why)]),
            Some(Ok(())) => {}
            Some(Err(why)) => self.join(feed, vec![(sub, why)]),
        }
    }

    /// Lets a client that does not want the result begin with what comes next, if that can be said without the result. Nothing
    /// is read for it.
    fn begin_with_changes(&mut self, sub: SubId, id: FeedId, why: ResyncReason) -> bool {
        let Some(feed) = self.feed(id) else { return false };
        let plan = feed.plan.clone();
        let Some(source) = self.sources.get(&plan.table().source) else { return false };
        let Progress { at: Some(position), lost: false, .. } = source.progress else { return false };
        let stands = !source.healing && source.unfinished.is_none();
        if !stands || !plan.table().old_values || feed.memory.materialized().is_some() {
            return false;
        }
        let term = source.progress.term();
        self.flush_pending(id);
        let (to, rows) = (vec![(sub, why)], Arc::default());
        self.out.push(Output::Result { to, feed: plan, rows, term, position });
        if let Some(feed) = self.feed_mut(id) {
            feed.live.extend([sub]);
        }
        true
    }

    /// Gives those who ask for a result what was read a moment ago, if nothing has changed in it since. Returns them if not.
    fn begin_with_recent(&mut self, id: FeedId, who: Vec<(SubId, ResyncReason)>) -> Option<Vec<(SubId, ResyncReason)>> {
        let Some(rows) = self.recent.get(id, self.clock) else { return Some(who) };
        let Some(feed) = self.feed(id).filter(|f| !f.live.is_empty()) else { return Some(who) };
        let plan = feed.plan.clone();
        let Some(source) = self.sources.get(&plan.table().source) else { return Some(who) };
        let Progress { at: Some(position), lost: false, .. } = source.progress else { return Some(who) };
        if source.healing || source.unfinished.is_some() {
            return Some(who);
        }
        let term = source.progress.term();
        if let Some(feed) = self.feed_mut(id) {
            feed.live.extend(who.iter().map(|(sub, _)| *sub));
        }
        self.out.push(Output::Result { to: who, feed: plan, rows, term, position });
        None
    }

    /// What a plan's result has missed since a position, by transaction.
    fn missed(
        &self,
        plan: &EffectivePlan,
        since: Position,
    ) -> Result<Vec<(Position, Timestamp, Vec<Change>)>, ResyncReason> {
        let source = &plan.table().source;
        let (mut missed, mut at) = (Vec::new(), since);
        for (_, t) in self.window.iter().filter(|(s, t)| *s == *source && t.position > since) {
            if !t.can_follow(at) {
                return Err(ResyncReason::ResumedTooLate);
            }
            at = t.position;
            let mut changes = Vec::new();
            for c in t.changes.iter().filter(|_| plan.row_changes.is_some()) {
                match row_events::change(plan, c, t.committed.to) {
                    Ok((change, false)) => changes.extend(change),
                    Ok((_, true)) => return Err(ResyncReason::RightsChanged),
                    Err(_) => return Err(ResyncReason::ResumedTooLate),
                }
            }
            for c in t.changes.iter().filter(|c| plan.is_about(c)) {
                let change = match feed::change(plan, c, &(), None) {
                    Ok(Some(change)) => change,
                    Ok(None) | Err(ChangeError::MissingValue) => continue,
                    // The snapshot says whether it still does.
                    Err(ChangeError::Failed(_)) => return Err(ResyncReason::ResumedTooLate),
                };
                if feed::revokes(plan, &change, c, &()) {
                    // What came before it may not be seen any more.
                    return Err(ResyncReason::RightsChanged);
                }
                changes.push(change);
            }
            missed.push((t.position, t.committed.to, changes));
        }
        Ok(missed)
    }

    /// Lets a client go on from its cursor, with what came after it, or says why it cannot.
    fn resume(&mut self, sub: SubId, id: FeedId, resume: &Resume) -> Result<(), ResyncReason> {
        let Resume::At(cursor) = resume else { return Err(ResyncReason::ResumedTooLate) };
        let plan = self.feed(id).map(|f| f.plan.clone()).ok_or(ResyncReason::ResumedTooLate)?;
        if cursor.query != plan.fingerprint {
            return Err(ResyncReason::RightsChanged);
        }
        let (table, position) = (plan.table(), cursor.position());
        let state = self.sources.get(&table.source).ok_or(ResyncReason::ResumedTooLate)?;
        let progress = state.progress;
        let of_stream = plan.row_changes.iter().flat_map(|plans| plans.keys());
        let resets = of_stream.chain([&table.name]).filter_map(|name| self.resets.get(name));
        let reset = resets.max().copied().unwrap_or_default();
        let held = self.materialized(id).is_some();
        let remembered = if held { state.joined_until } else { state.remembered };
        let resumable = state.floor.max(remembered).max(reset)..=progress.at.unwrap_or_default();
        // Positions of system tables restart with the instance, and those of topics are local to an instance. What was sent of
        // tables without old values is not remembered for clients that left, unless the rows are held.
        let possible = (table.old_values || held)
            && (!table.name.is_system() || plan.row_changes.is_some())
            && (!table.is_topic() || cursor.epoch == progress.epoch)
            && !progress.lost
            && cursor.timeline == progress.timeline
            && (state.since_epoch..=progress.epoch).contains(&cursor.epoch);
        if !possible || !resumable.contains(&position) {
            return Err(ResyncReason::ResumedTooLate);
        }
        if held {
            return self.resume_held(sub, id, position);
        }
        let missed = self.missed(&plan, position)?;
        self.flush_pending(id);
        let term = progress.term();
        self.out.push(Output::Resumed { sub, feed: plan.clone(), term, position });
        // Parts of a large transaction were sent, but not its last one.
        let mut open = !position.is_whole();
        for (position, at, changes) in missed {
            let more = !position.is_whole();
            if !changes.is_empty() || (open && !more) {
                open = more;
                let (feed, revokes) = (plan.clone(), false);
                let delta = Delta { feed, term, position, at, changes, skipped: 0, revokes, more };
                self.out.push(Output::Delta(Arc::new(delta), Audience::One(sub)));
            }
        }
        if let Some(feed) = self.feed_mut(id) {
            feed.live.extend([sub]);
            if open && let Some(pending) = &mut feed.pending {
                pending.mark_partial();
            }
        }
        if open && let Some(unfinished) = self.sources.get_mut(&table.source).and_then(|s| s.unfinished.as_mut()) {
            unfinished.insert(id);
        }
        Ok(())
    }

    /// The same where the feed holds its rows: with what it has told since.
    fn resume_held(&mut self, sub: SubId, id: FeedId, position: Position) -> Result<(), ResyncReason> {
        let feed = self.feed(id).ok_or(ResyncReason::ResumedTooLate)?;
        let plan = feed.plan.clone();
        let materialized = feed.memory.materialized().filter(|m| m.loaded).ok_or(ResyncReason::ResumedTooLate)?;
        // What the result was among several commits that were read as one here, nobody here knows; another instance may.
        if self.window.iter().any(|(of, t)| *of == plan.table().source && !t.can_follow(position)) {
            return Err(ResyncReason::ResumedTooLate);
        }
        let missed = materialized.history.since(position)?;
        let term = self.progress(&plan.table().source).term();
        self.flush_pending(id);
        self.out.push(Output::Resumed { sub, feed: plan, term, position });
        self.out.extend(missed.into_iter().map(|delta| Output::Delta(delta, Audience::One(sub))));
        if let Some(feed) = self.feed_mut(id) {
            feed.live.extend([sub]);
        }
        Ok(())
    }

    /// Sends what a paced feed holds back.
    pub(super) fn flush_pending(&mut self, id: FeedId) {
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
        // What operators hand on has waited before it was delivered.
        if self.materialized(id).is_some_and(|m| m.operators.is_none()) {
            self.forget_told(id);
        }
    }

    /// Begins a feed: one of clients, or one for other feeds.
    pub(super) fn new_feed(&mut self, plan: Arc<EffectivePlan>, every: Micros, serves: Serves) -> FeedId {
        let id = self.free.pop().unwrap_or_else(|| {
            self.feeds.push(None);
            (self.feeds.len() - 1) as FeedId
        });
        let of_clients = serves == Serves::Clients;
        let memory = self.initial_memory(id, &plan, serves);
        if of_clients && memory.materialized().is_some() {
            self.held_feeds.insert(id);
        }
        let (live, pending) = (Audience::default(), (every > 0).then(|| Box::new(Pending::new(every))));
        self.feeds[id as usize] = Some(Feed { plan: plan.clone(), live, joining: None, memory, pending, deltas: 0 });
        if of_clients {
            let Engine { feeds, shared, .. } = self;
            shared.insert(id, |id| feeds.get(id as usize).and_then(Option::as_ref).map(Feed::shared_by));
        }
        let access_path = self.access_path(id, &plan);
        let described = || OnTable { description: plan.table().identity(), ..OnTable::default() };
        let on_table = self.tables.entry(plan.table().name.clone()).or_insert_with(described);
        on_table.index.insert(id, &access_path);
        on_table.feeds.insert(id);
        id
    }

    /// Adds subscriptions to those waiting for the feed's next snapshot, and requests one if none is under way.
    fn join(&mut self, id: FeedId, who: Vec<(SubId, ResyncReason)>) {
        if self.feed(id).is_some_and(|f| f.plan.row_changes.is_some()) {
            return self.begin_stream(id, who);
        }
        let Some(who) = self.begin_with_recent(id, who) else { return };
        let next = self.next_snapshot;
        let (since, settled) = self.source_position(id);
        let wants_result = who.iter().any(|(sub, _)| self.subs.get(sub).is_none_or(Subscription::wants_result));
        let Some(feed) = self.feed_mut(id) else { return };
        if let Some(materialized) = feed.memory.materialized_mut() {
            materialized.waiting.extend(who);
            return self.settle_later(id);
        }
        let plan = feed.plan.clone();
        // Where nobody wants the rows, only where they stand is read: there may be more than a result may have.
        let request = match wants_result || !plan.table().old_values {
            true => plan.snapshot(&()),
            false => plan.snapshot_of(Some(RowFilter::default())),
        };
        if let Some(joining) = &mut feed.joining {
            joining.waiting.extend(who);
            if wants_result && joining.request != request {
                joining.request = request;
                self.retake_snapshot(id);
            }
            return;
        }
        feed.joining = Some(Box::new(Joining {
            snapshot: next,
            seam: SnapshotMerge::default(),
            since,
            settled,
            waiting: who,
            failures: 0,
            resting: true,
            turn: Turn::Waits,
            request,
        }));
        self.next_snapshot += 1;
        self.snapshots.insert(next, id);
        self.tables.entry(plan.table().name.clone()).or_default().joining.insert(id);
        self.waiting_feeds.push_back(id);
        self.take_turns();
    }

    /// Requests the snapshots of waiting feeds whose turn it is.
    pub(super) fn take_turns(&mut self) {
        let mut still = VecDeque::new();
        while let Some(id) = self.waiting_feeds.pop_front() {
            let Some(joining) = self.feed(id).and_then(|f| f.joining.as_ref()) else { continue };
            if joining.turn != Turn::Waits {
                continue;
            }
            let owner = self.snapshot_owner(joining.snapshot);
            let under_way = owner.as_ref().and_then(|o| self.turns.get(o)).copied().unwrap_or(0);
            if under_way >= self.limits.joining {
                still.push_back(id);
                continue;
            }
            if let Some(owner) = &owner {
                *self.turns.entry(owner.clone()).or_default() += 1;
            }
            if let Some(joining) = self.feed_mut(id).and_then(|f| f.joining.as_mut()) {
                joining.turn = Turn::Taken(owner);
            }
            self.begin_snapshot(id, false);
        }
        self.waiting_feeds = still;
    }

    /// The last transaction taken of a feed's source, whether or not its interval is done, and what is settled.
    pub(super) fn source_position(&self, id: FeedId) -> (Position, Position) {
        let source = self.feed(id).and_then(|f| self.sources.get(&f.plan.table().source));
        let source_position = |s: &super::SourceState| {
            let taken = s.passed.numbers.back().map_or(Position::default(), |(p, _)| *p);
            (taken.max(s.progress.at.unwrap_or_default()), s.settled)
        };
        source.map(source_position).unwrap_or_default()
    }

    /// Cancels the snapshot under way and requests another for the same subscriptions.
    pub(super) fn retake_snapshot(&mut self, id: FeedId) {
        if self.feed(id).and_then(|f| f.joining.as_ref()).is_some_and(|j| j.turn != Turn::Waits) {
            self.begin_snapshot(id, true);
        }
    }

    /// Asks for a feed's snapshot, under a new number, as the engine stands now.
    fn begin_snapshot(&mut self, id: FeedId, again: bool) {
        self.forget_early(id);
        let next = self.next_snapshot;
        let source_position = self.source_position(id);
        let Some(feed) = self.feed_mut(id) else { return };
        let plan = feed.plan.clone();
        let Some(joining) = &mut feed.joining else { return };
        let request = joining.request.clone();
        let old = std::mem::replace(&mut joining.snapshot, next);
        joining.seam = SnapshotMerge::default();
        (joining.since, joining.settled) = source_position;
        joining.resting = false;
        if let Some(materialized) = feed.memory.materialized_mut() {
            materialized.changed_since.clear();
            materialized.fetched.clear();
            materialized.fetched_bytes = 0;
            if let Some(window) = &mut materialized.window {
                window.begin_again();
            }
        }
        self.next_snapshot += 1;
        self.snapshots.remove(&old);
        self.snapshots.insert(next, id);
        if again {
            self.out.push(Output::CancelSnapshot(old));
        }
        self.out.push(Output::FetchSnapshot { id: next, plan, request: Box::new(request) });
    }

    /// Sends all subscribers of a feed a new result.
    pub(super) fn renew(&mut self, id: FeedId, why: ResyncReason) {
        self.recent.forget(id);
        if self.audit.as_ref().is_some_and(|a| a.feed == id) {
            self.stop_audit();
        }
        if self.materialized(id).is_some() {
            return self.refetch_all(id, why);
        }
        let Some(feed) = self.feed_mut(id) else { return };
        let live = std::mem::take(&mut feed.live);
        self.drop_digest(id);
        self.forget_sent(id);
        let who: Vec<(SubId, ResyncReason)> = live.as_slice().iter().map(|s| (*s, why)).collect();
        live.as_slice().iter().for_each(|s| self.out.push(Output::Discard(*s)));
        if self.feed(id).is_some_and(|f| f.joining.is_some()) {
            self.join(id, who);
            self.retake_snapshot(id);
        } else if !who.is_empty() {
            self.join(id, who);
        }
    }

    /// A feed forgets what it has sent. Where it stands in `holders` is taken out bit by bit: there may be very many keys.
    pub(super) fn forget_sent(&mut self, id: FeedId) {
        let Some(feed) = self.feed_mut(id) else { return };
        if feed.memory.tracked().is_some()
            && let Memory::Tracked(sent) = std::mem::take(&mut feed.memory)
        {
            let keys = Box::new(sent.into_keys());
            let table = feed.plan.table().name.clone();
            self.cleanups.push_back(Cleanup { table, feed: id, keys, gone: false });
        }
    }

    /// Takes some of what is left over out.
    pub(super) fn clean_up(&mut self) {
        /// Keys in one turn: some microseconds each.
        const SOME: usize = 2_000;
        for _ in 0..SOME {
            let Some(first) = self.cleanups.front_mut() else { return };
            let Some(key) = first.keys.next() else {
                if let Some(over) = self.cleanups.pop_front().filter(|first| first.gone) {
                    self.has_ended(over.feed);
                }
                continue;
            };
            let id = first.feed;
            let table = first.table.clone();
            // It may have sent the key again since.
            let again = self.feed(id).and_then(|f| f.memory.tracked()).is_some_and(|s| s.has(&key));
            let Some(on_table) = self.tables.get_mut(&table) else { continue };
            if on_table.sent_by.contains_key(&key) {
                on_table.note(id, &key, again);
            }
        }
    }

    pub(super) fn unsubscribe(&mut self, sub: SubId) {
        if self.detach(sub).is_some() {
            self.observed.retain(|s| *s != sub);
        }
    }

    /// Takes a subscription off its feed; the last one takes the feed with it.
    fn detach(&mut self, sub: SubId) -> Option<Subscription> {
        let gone = self.subs.remove(&sub)?;
        self.budget.release(gone.owner.as_deref(), gone.cost);
        let feed = self.feed_mut(gone.feed)?;
        feed.live.remove(sub);
        if let Some(materialized) = feed.memory.materialized_mut() {
            materialized.waiting.retain(|(s, _)| *s != sub);
        } else if let Some(joining) = &mut feed.joining {
            joining.waiting.retain(|(s, _)| *s != sub);
            if joining.waiting.is_empty() {
                self.stop_joining(gone.feed);
            }
        }
        let feed = self.feed(gone.feed)?;
        if feed.live.is_empty() && feed.waiting().is_empty() {
            self.remove_feed(gone.feed);
        }
        Some(gone)
    }

    pub(super) fn stop_joining(&mut self, id: FeedId) -> Option<Box<Joining>> {
        let feed = self.feeds.get_mut(id as usize)?.as_mut()?;
        let joining = feed.joining.take()?;
        if let Some(on_table) = self.tables.get_mut(&feed.plan.table().name) {
            on_table.joining.remove(&id);
        }
        let begun = joining.turn != Turn::Waits;
        if self.snapshots.remove(&joining.snapshot).is_some() && begun {
            self.out.push(Output::CancelSnapshot(joining.snapshot));
        }
        if let Turn::Taken(Some(owner)) = &joining.turn
            && let Some(under_way) = self.turns.get_mut(owner)
        {
            *under_way -= 1;
            self.turn_is_free = true;
            if *under_way == 0 {
                self.turns.remove(owner);
            }
        }
        Some(joining)
    }

    pub(super) fn remove_feed(&mut self, id: FeedId) {
        self.recent.forget(id);
        if self.audit.as_ref().is_some_and(|a| a.feed == id) {
            self.stop_audit();
        }
        self.stop_joining(id);
        self.forget_sent(id);
        self.drop_digest(id);
        let Some(feed) = self.feed(id) else { return };
        let access_path = self.access_path(id, &feed.plan);
        let (plan, every) = (feed.plan.clone(), feed.every());
        self.shared.remove(id, (&plan, every));
        let Some(feed) = self.feeds.get_mut(id as usize).and_then(Option::take) else { return };
        self.held_feeds.remove(&id);
        if let Some(due) = feed.pending.as_ref().and_then(|p| p.due()) {
            self.paced.remove(&(due, id));
        }
        if let Some(open) = self.sources.get_mut(&feed.plan.table().source).and_then(|s| s.unfinished.as_mut()) {
            // Another feed gets its number, perhaps one of another source.
            open.remove(&id);
        }
        let name = &feed.plan.table().name;
        if let Some(on_table) = self.tables.get_mut(name) {
            on_table.index.remove(id, &access_path);
            on_table.feeds.remove(&id);
            if on_table.feeds.is_empty()
                && let Some(on_table) = self.tables.remove(name)
                && !on_table.sent_by.is_empty()
            {
                let keys = Box::new(on_table.sent_by.into_keys());
                self.cleanups.push_back(Cleanup { table: name.clone(), feed: FeedId::MAX, keys, gone: false });
            }
        }
        let mut memory = feed.memory;
        if let Some(materialized) = memory.materialized() {
            self.forget_moments(id, &materialized.moments);
            materialized.held.map(|held| self.paced.remove(&(held.due, id)));
        }
        if let Some(materialized) = memory.materialized_mut().filter(|_| !feed.plan.table().old_values) {
            let keys = Box::new(std::mem::take(&mut materialized.entries).into_keys());
            let table = feed.plan.table().name.clone();
            self.cleanups.push_back(Cleanup { table, feed: id, keys, gone: false });
        }
        let cleaned_up = self.cleanups.iter_mut().rev().find(|l| l.feed == id);
        let cleaned_up = cleaned_up.map(|cleanup| cleanup.gone = true).is_some();
        let asks = memory.materialized_mut().and_then(|m| m.asks.take());
        self.part(id, &feed.plan, asks.map(|asks| *asks), cleaned_up);
        if let Memory::Materialized(materialized) = memory {
            self.release_subqueries(id, &materialized);
            self.throw_away(materialized.entries.len(), materialized);
        }
    }

    pub(super) fn catch_up(&mut self, sub: SubId) {
        let Some(id) = self.subs.get(&sub).map(|s| s.feed) else { return };
        let Some(feed) = self.feed_mut(id) else { return };
        // One that is waiting for a snapshot gets the newest state anyway.
        if feed.live.remove(sub) {
            // Revocations do not reach it while it waits: nothing older may be left unsent.
            self.out.push(Output::Discard(sub));
            self.join(id, vec![(sub, ResyncReason::CaughtUp)]);
        }
    }

    pub(super) fn claims(&mut self, subs: &[SubId], claims: &Arc<Claims>) {
        for sub in subs {
            if let Some(s) = self.subs.get_mut(sub) {
                s.claims = claims.clone();
                self.recompile(*sub, ResyncReason::RightsChanged);
            }
        }
    }

    /// Compiles a subscription again after rules, claims or its table changed.
    pub(super) fn recompile(&mut self, sub: SubId, why: ResyncReason) {
        let Some(s) = self.subs.get(&sub) else { return };
        let request = s.request();
        match self.compile(&request).and_then(|plan| request.suits(&plan).map(|()| plan)) {
            Ok(plan) if self.feed(s.feed).is_some_and(|f| *f.plan == plan) => {}
            Ok(plan) => {
                if self.detach(sub).is_some() {
                    self.out.push(Output::Discard(sub));
                    self.attach(sub, Box::new(request), Arc::new(plan), why);
                }
            }
            Err(e) => {
                self.unsubscribe(sub);
                let refusal = match why {
                    ResyncReason::SchemaChanged => Refusal::SchemaChanged(e.to_string()),
                    _ => Refusal::RightsChanged(e.to_string()),
                };
                self.out.push(Output::Closed(sub, refusal));
            }
        }
    }
}

/// Bytes that a parameter takes, about.
fn json_size(v: &Json) -> usize {
    const EACH: usize = 32;
    EACH + match v {
        Json::String(s) => s.len(),
        Json::Array(all) => all.iter().map(json_size).sum(),
        Json::Object(all) => all.iter().map(|(name, v)| name.len() + json_size(v)).sum(),
        _ => 0,
    }
}
