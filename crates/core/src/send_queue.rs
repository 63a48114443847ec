//! One client's bounded send queue.
//!
//! Replies to the client's calls always fit: the connection stops reading calls while too many replies wait.
//! Deltas are limited in number and bytes. When one does not fit, its subscription *lags*: its queued
//! deltas are dropped, no more are queued, and when the client has read the rest it gets a snapshot of the newest
//! state instead. No other subscription of the client and no other client is held up.

use std::collections::{HashMap, VecDeque};

/// Limits of one client's queue.
#[derive(Clone, Copy, Debug)]
pub struct QueueLimits {
    /// Deltas, in number.
    pub deltas: usize,
    /// Deltas, in bytes.
    pub bytes: usize,
}

impl Default for QueueLimits {
    fn default() -> Self {
        QueueLimits { deltas: 4_096, bytes: 4 << 20 }
    }
}

#[derive(Debug)]
struct Entry<T> {
    subscription: Option<u64>,
    bytes: usize,
    is_delta: bool,
    item: T,
}

/// The outcome of offering a delta.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Offered {
    /// It is queued.
    Queued,
    /// It did not fit; the subscription lags from now on.
    LagsNow,
    /// The subscription lags already; a snapshot will include it.
    Lags,
}

/// A client's queue. `T` is whatever the shell writes.
#[derive(Debug)]
pub struct SendQueue<T> {
    entries: VecDeque<Entry<T>>,
    limits: QueueLimits,
    deltas: usize,
    bytes: usize,
    /// Lagging subscriptions, and whether their snapshot was requested.
    lagging: HashMap<u64, bool>,
}

impl<T> SendQueue<T> {
    /// An empty queue.
    pub fn new(limits: QueueLimits) -> Self {
        SendQueue { entries: VecDeque::new(), limits, deltas: 0, bytes: 0, lagging: HashMap::new() }
    }

    /// Queues a reply, or a notification that must not be lost.
    pub fn push(&mut self, subscription: Option<u64>, item: T) {
        self.entries.push_back(Entry { subscription, bytes: 0, is_delta: false, item });
    }

    /// Queues a whole result of a subscription, which is up to date with it.
    pub fn push_result(&mut self, subscription: u64, item: T) {
        self.lagging.remove(&subscription);
        self.push(Some(subscription), item);
    }

    /// Offers a delta of `bytes` bytes. If it revokes something, older deltas of its subscription are not written.
    pub fn offer(&mut self, subscription: u64, bytes: usize, revokes: bool, item: T) -> Offered {
        if revokes && self.unsend(subscription) {
            return Offered::LagsNow;
        }
        if self.lagging.contains_key(&subscription) {
            return Offered::Lags;
        }
        if self.deltas >= self.limits.deltas || self.bytes + bytes > self.limits.bytes {
            self.lagging.insert(subscription, false);
            self.drop_where(|e| e.is_delta && e.subscription == Some(subscription));
            return Offered::LagsNow;
        }
        self.deltas += 1;
        self.bytes += bytes;
        self.entries.push_back(Entry { subscription: Some(subscription), bytes, is_delta: true, item });
        Offered::Queued
    }

    /// Offers a delta that says all that those of its subscription say that are still unsent, which it replaces.
    pub fn offer_newest(&mut self, subscription: u64, bytes: usize, item: T) -> Offered {
        self.drop_where(|e| e.is_delta && e.subscription == Some(subscription));
        self.offer(subscription, bytes, false, item)
    }

    /// Drops a subscription's queued deltas because they may no longer be seen. If there were any, the subscription
    /// lags and gets a snapshot instead.
    pub fn unsend(&mut self, subscription: u64) -> bool {
        let waits = self.entries.iter().any(|e| e.subscription == Some(subscription));
        if waits {
            self.drop_where(|e| e.subscription == Some(subscription));
            self.lagging.insert(subscription, false);
        }
        waits
    }

    /// Drops everything unsent of a subscription: it ended, or its rights changed.
    pub fn discard(&mut self, subscription: u64) {
        self.lagging.remove(&subscription);
        self.drop_where(|e| e.subscription == Some(subscription));
    }

    fn drop_where(&mut self, gone: impl Fn(&Entry<T>) -> bool) {
        let (deltas, bytes) = (&mut self.deltas, &mut self.bytes);
        self.entries.retain(|e| {
            let keep = !gone(e);
            if !keep && e.is_delta {
                *deltas -= 1;
                *bytes -= e.bytes;
            }
            keep
        });
    }

    /// Takes the next item to write.
    pub fn pop(&mut self) -> Option<T> {
        let e = self.entries.pop_front()?;
        if e.is_delta {
            self.deltas -= 1;
            self.bytes -= e.bytes;
        }
        Some(e.item)
    }

    /// Splits the front item, for results that are written in parts: `cut` returns a piece of it and whether
    /// the piece was the last. The piece is then in front.
    pub fn cut_front(&mut self, cut: impl FnOnce(&mut T) -> Option<(T, bool)>) {
        let Some(front) = self.entries.front_mut() else { return };
        match cut(&mut front.item) {
            None => {}
            Some((piece, true)) => front.item = piece,
            Some((item, false)) => {
                let piece = Entry { subscription: front.subscription, bytes: 0, is_delta: false, item };
                self.entries.push_front(piece);
            }
        }
    }

    /// The queued items, in order.
    pub fn iter(&self) -> impl Iterator<Item = &T> {
        self.entries.iter().map(|e| &e.item)
    }

    /// The subscriptions that need a snapshot, once the queue is empty; each is returned once. They
    /// lag until [`SendQueue::push_result`]: changes in between are in the snapshot.
    pub fn take_lagging(&mut self) -> Vec<u64> {
        if !self.entries.is_empty() {
            return Vec::new();
        }
        let asked = self.lagging.iter_mut().filter(|(_, asked)| !**asked);
        asked
            .map(|(subscription, asked)| {
                *asked = true;
                *subscription
            })
            .collect()
    }

    /// Whether any subscription needs a snapshot.
    pub fn lags(&self) -> bool {
        !self.lagging.is_empty()
    }

    /// Number of queued items.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether the queue is empty.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Bytes of queued deltas.
    pub fn bytes(&self) -> usize {
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_full_queue_drops_one_subscription_and_says_so_once() {
        let mut q = SendQueue::new(QueueLimits { deltas: 3, bytes: 100 });
        q.push(None, "reply");
        assert_eq!(q.offer(1, 10, false, "1a"), Offered::Queued);
        assert_eq!(q.offer(2, 10, false, "2a"), Offered::Queued);
        assert_eq!(q.offer(1, 90, false, "1b"), Offered::LagsNow);
        assert_eq!(q.offer(1, 1, false, "1c"), Offered::Lags);
        assert_eq!(q.offer(2, 90, false, "2b"), Offered::Queued, "the room of what was dropped is free");
        assert!(q.take_lagging().is_empty(), "not before the client has read what was left");
        assert_eq!(std::iter::from_fn(|| q.pop()).collect::<Vec<_>>(), ["reply", "2a", "2b"]);
        assert_eq!((q.take_lagging(), q.take_lagging()), (vec![1], vec![]));
        assert_eq!(q.offer(1, 10, false, "1d"), Offered::Lags, "its snapshot has been asked for and will show it");
        q.push_result(1, "1 whole");
        assert_eq!(q.offer(1, 10, false, "1e"), Offered::Queued);
    }

    #[test]
    fn what_is_taken_back_is_not_written_any_more() {
        let mut q = SendQueue::new(QueueLimits::default());
        assert_eq!(q.offer(7, 5, true, "first"), Offered::Queued, "nothing older waits");
        q.offer(8, 5, false, "other");
        assert_eq!(q.offer(7, 5, true, "second"), Offered::LagsNow);
        assert_eq!((q.pop(), q.take_lagging()), (Some("other"), vec![7]));
    }

    #[test]
    fn of_signals_only_the_newest_waits() {
        let mut q = SendQueue::new(QueueLimits { deltas: 3, bytes: 100 });
        q.push(Some(7), "result");
        q.offer(8, 90, false, "other");
        for _ in 0..5 {
            assert_eq!(q.offer_newest(7, 10, "older"), Offered::Queued);
        }
        q.offer_newest(7, 10, "newest");
        assert_eq!(std::iter::from_fn(|| q.pop()).collect::<Vec<_>>(), ["result", "other", "newest"]);
    }

    #[test]
    fn discarding_leaves_nothing_of_a_subscription() {
        let mut q = SendQueue::new(QueueLimits::default());
        q.push(Some(7), "result");
        q.offer(7, 5, false, "delta");
        q.offer(8, 6, false, "other");
        q.discard(7);
        assert_eq!((q.pop(), q.bytes(), q.pop()), (Some("other"), 0, None));
    }
}
