//! What engines are given and what they put out.

use gossip_core::audience::Audience;
use gossip_core::engine::{Input, Output, SubId};
use gossip_core::explain::Verdict;
use gossip_core::position::{Position, SnapshotPoint};
use gossip_core::send_queue::{Offered, SendQueue};
use rand::Rng;
use sha2::Digest;

use crate::world::{TABLES, table};
use crate::{Cluster, Message};

impl Cluster {
    pub fn handle(&mut self, n: usize, input: Input) {
        self.nodes[n].engine.set_clock(self.step as i64);
        let by_stream = matches!(input, Input::Interval(_) | Input::Healed { .. });
        if let Some(course) = &mut self.course {
            course.update(format!("{} {n} {input:?}", self.step));
        }
        let outputs = self.nodes[n].engine.handle(input);
        if let Some(course) = &mut self.course {
            outputs.iter().for_each(|output| course.update(format!("{output:?}")));
        }
        let mut told = Vec::new();
        for output in outputs {
            match output {
                Output::FetchSnapshot { id, request, .. } if &*request.table.source != "harbour" => {
                    let (at, rows) = self.own_snapshot(n, &request.table.name);
                    let due = self.step + self.rng.random_range(0..6);
                    self.nodes[n].snapshots.push_back((due, id, Some((SnapshotPoint::UpTo(at), rows))));
                }
                Output::FetchSnapshot { id, request, .. } => {
                    // The snapshot is of now; its rows arrive later.
                    let which = TABLES.iter().position(|t| *t == &*request.table.name.name).unwrap();
                    let is_as_known = request.table == table(which, self.old_values, self.altered);
                    let found = is_as_known.then(|| self.snapshot(&request));
                    if let Some(page) = &request.page {
                        let on = page.after.is_some();
                        self.note_reached(if on { "a window reads on" } else { "a window reads a page" });
                    }
                    let due = self.step + self.rng.random_range(0..6);
                    self.nodes[n].snapshots.push_back((due, id, found));
                }
                Output::Heal { after, .. } => {
                    let due = self.step + self.rng.random_range(0..4);
                    self.nodes[n].heals.push((due, after));
                }
                Output::Result { to, feed, rows, position, .. } => {
                    for (sub, why) in to {
                        let Some(queue) = self.queue(sub) else { continue };
                        queue.push_result(sub, Message::Result(feed.clone(), rows.clone(), position, why));
                    }
                }
                Output::Delta(delta, subs) => {
                    told.push((delta.term.epoch, delta.position, subs.clone()));
                    let emptied = (delta.position, delta.feed.table().name.clone());
                    assert!(!by_stream || !self.emptied.contains(&emptied), "half of what {emptied:?} did is told");
                    for sub in subs.as_slice() {
                        let Some(queue) = self.queue(*sub) else { panic!("delta for nobody") };
                        let offered = queue.offer(*sub, 10, delta.revokes, Message::Delta(delta.clone()));
                        let engine = self.clients.get(sub).map(|c| c.engine);
                        assert!(offered != Offered::Queued || engine.is_none_or(|e| e == n));
                    }
                }
                Output::Resumed { sub, feed, position, .. } => {
                    self.resumed += 1;
                    if let Some(c) = self.clients.get_mut(&sub) {
                        c.fingerprint = feed.fingerprint;
                    }
                    let Some(queue) = self.queue(sub) else { panic!("resumed for nobody") };
                    queue.push_result(sub, Message::Resumed(position));
                }
                Output::Revoke(subs) => {
                    for sub in subs.as_slice() {
                        self.queue(*sub).unwrap().unsend(*sub);
                    }
                }
                Output::Discard(sub) => {
                    if let Some(queue) = self.queue(sub) {
                        queue.discard(sub);
                    }
                }
                Output::Closed(sub, why) => panic!("subscription {sub} closed: {why:?}"),
                Output::Verdict { sub, term, position, verdict: Verdict::Matched, .. } => {
                    let is_it = |(e, p, subs): &(u64, Position, Audience)| {
                        (*e, *p) == (term.epoch, position) && subs.as_slice().contains(&sub)
                    };
                    assert!(told.iter().any(is_it), "a match of {position} under {term:?} without its delta");
                }
                Output::Describe(source) if &*source != "harbour" => {}
                Output::Describe(_) => {
                    let due = self.step + self.rng.random_range(0..6);
                    let describes = &mut self.nodes[n].describes;
                    describes.truncate(1);
                    describes.push_back((due, self.altered));
                }
                Output::Audited { feed, rows, difference } => {
                    self.audits += u64::from(rows > 0);
                    assert_eq!(difference, None, "{} holds something else", feed.to_sql());
                }
                Output::CancelSnapshot(_) | Output::Verdict { .. } | Output::Dropped(_) | Output::Taken(..) => {}
            }
        }
    }

    fn queue(&mut self, sub: SubId) -> Option<&mut SendQueue<Message>> {
        let client = self.clients.get_mut(&sub).map(|c| &mut c.queue);
        client.or_else(|| self.listeners.get_mut(&sub).map(|l| &mut l.queue))
    }

    pub fn deliver(&mut self, calm: bool) {
        self.reveal(calm);
        for n in 0..self.nodes.len() {
            let step = self.step;
            let node = &mut self.nodes[n];
            let due = |due: usize| calm || due <= step;
            let mut inputs = Vec::new();
            let (now, later): (Vec<_>, Vec<_>) = node.inbox.drain(..).partition(|m| due(m.0));
            node.inbox = later;
            inputs.extend(now.into_iter().map(|(_, i)| Input::Interval(i)));
            let (now, later): (Vec<_>, Vec<_>) = node.heals.drain(..).partition(|h| due(h.0));
            node.heals = later;
            for (_, after) in now {
                let kept = !(self.faults && self.rng.random_bool(0.3));
                let intervals = self.published.iter().filter(|i| i.to > after).cloned().collect();
                inputs.push(Input::Healed { source: "harbour".into(), intervals: kept.then_some(intervals) });
            }
            let (now, later): (Vec<_>, Vec<_>) = self.nodes[n].catch_ups.drain(..).partition(|c| due(c.0));
            self.nodes[n].catch_ups = later;
            inputs.extend(now.into_iter().map(|(_, sub)| Input::CatchUp(sub)));
            self.hear(n, calm);
            let (now, later): (Vec<_>, Vec<_>) = self.nodes[n].laws.drain(..).partition(|l| due(l.0));
            self.nodes[n].laws = later;
            now.into_iter().for_each(|(_, law)| self.take_rules(n, law));
            while self.nodes[n].describes.front().is_some_and(|d| due(d.0)) {
                let Some((_, altered)) = self.nodes[n].describes.pop_front() else { break };
                let tables = (0..TABLES.len()).map(|i| table(i, self.old_values, altered));
                inputs.push(Input::Described("harbour".into(), tables.collect()));
            }
            while self.nodes[n].snapshots.front().is_some_and(|s| due(s.0)) {
                let Some((_, id, found)) = self.nodes[n].snapshots.pop_front() else { break };
                let fails = self.faults && self.rng.random_bool(0.1);
                let Some((at, rows)) = found.filter(|_| !fails) else {
                    inputs.push(Input::SnapshotFailed(id, "busy, or altered".into()));
                    continue;
                };
                inputs.extend(rows.chunks(3).map(|piece| Input::SnapshotRows(id, piece.to_vec())));
                inputs.push(Input::SnapshotDone(id, at));
            }
            inputs.push(Input::Tick);
            inputs.push(Input::Audit);
            inputs.into_iter().for_each(|i| self.handle(n, i));
            // Sometimes there is no time.
            while self.nodes[n].engine.has_more_to_do() && (calm || self.rng.random_bool(0.5)) {
                self.handle(n, Input::Proceed);
            }
        }
    }
}
