//! The life of subscriptions and their feeds: they come, share, resume, wait for a snapshot, change their rights, go.

use std::sync::Arc;

use super::io::{Delta, Output, Refusal, Request, Resume, SubId, Why};
use super::{Engine, Feed, Joining, Sub};
use crate::audience::Audience;
use crate::feed::{self, Change};
use crate::index::FeedId;
use crate::position::Micros;
use crate::rule::{Claims, Effective};
use crate::seam::Seam;

impl Engine {
    pub(super) fn subscribe(&mut self, sub: SubId, request: Request) {
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
    pub(super) fn tell_pending(&mut self, id: FeedId) {
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
    pub(super) fn take_again(&mut self, id: FeedId) {
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
    pub(super) fn renew(&mut self, id: FeedId, why: Why) {
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

    pub(super) fn forget_holders(&mut self, id: FeedId) {
        let Some(name) = self.feed(id).map(|f| f.effective.table.name.clone()) else { return };
        if let Some(on_table) = self.tables.get_mut(&name) {
            on_table.holders.retain(|_, feeds| {
                feeds.retain(|f| *f != id);
                !feeds.is_empty()
            });
        }
    }

    pub(super) fn unsubscribe(&mut self, sub: SubId) {
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

    pub(super) fn stop_joining(&mut self, id: FeedId) -> Option<Box<Joining>> {
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

    pub(super) fn remove_feed(&mut self, id: FeedId) {
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

    pub(super) fn catch_up(&mut self, sub: SubId) {
        let Some(id) = self.subs.get(&sub).map(|s| s.feed) else { return };
        let Some(feed) = self.feed_mut(id) else { return };
        // One that is waiting for a snapshot gets the newest state anyway.
        if feed.live.remove(sub) {
            self.join(id, vec![(sub, Why::CaughtUp)]);
        }
    }

    pub(super) fn claims(&mut self, subs: &[SubId], claims: &Arc<Claims>) {
        for sub in subs {
            if let Some(s) = self.subs.get_mut(sub) {
                s.request.claims = claims.clone();
                self.recompile(*sub, Why::RightsChanged);
            }
        }
    }

    /// Compiles a subscription again after rules, claims or its table changed.
    pub(super) fn recompile(&mut self, sub: SubId, why: Why) {
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
}
