//! Those who have published and wait until their event comes back over the relay.

use std::collections::HashMap;

use gossip_core::position::{Micros, Timestamp};
use gossip_protocol::RpcError;
use serde_json::{Value as Json, json};
use tokio::sync::oneshot;

/// How long a publisher waits.
const PATIENCE: Micros = 5_000_000;

/// Publishers that may wait at the same time; further ones are asked to retry.
pub(super) const MOST: usize = 16_384;

/// An event that was taken.
#[derive(Clone, Debug)]
pub struct Published {
    /// Where the topics stand with it.
    pub position: String,
    /// Whether a later event of its key was there before, so that it changed nothing.
    pub older: bool,
}

impl Published {
    /// As the result of a call.
    pub fn to_json(&self) -> Json {
        match self.older {
            true => json!({"position": self.position, "older": true}),
            false => json!({"position": self.position}),
        }
    }
}

/// Where a publisher gets the outcome of its event.
pub(super) type Answer = oneshot::Sender<Result<Published, RpcError>>;

/// An event's topic, sender, source and id.
pub(super) type Name = (String, Option<String>, String, String);

struct Waiting {
    answers: Vec<Answer>,
    until: Timestamp,
}

/// Who waits for which event.
#[derive(Default)]
pub(super) struct Publishing {
    by_name: HashMap<Name, Waiting>,
    waiting: usize,
}

impl Publishing {
    /// Whether all places are taken.
    pub(super) fn is_full(&self) -> bool {
        self.waiting >= MOST
    }

    /// One more waits; a retry waits with the one before, and no longer than that one.
    pub(super) fn wait(&mut self, name: Name, answer: Answer, now: Timestamp) {
        let of_name = self.by_name.entry(name).or_insert_with(|| Waiting { answers: vec![], until: now + PATIENCE });
        of_name.answers.push(answer);
        self.waiting += 1;
    }

    /// An event has come back: those who wait no longer.
    pub(super) fn came_back(&mut self, name: &Name) -> Vec<Answer> {
        let answers = self.by_name.remove(name).map_or_else(Vec::new, |w| w.answers);
        self.waiting -= answers.len();
        answers
    }

    /// Those who have waited long enough.
    pub(super) fn late(&mut self, now: Timestamp) -> Vec<Answer> {
        let late = self.by_name.extract_if(|_, w| w.until < now);
        let answers: Vec<Answer> = late.flat_map(|(_, w)| w.answers).collect();
        self.waiting -= answers.len();
        answers
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_more_wait_than_may_and_whoever_leaves_makes_room() {
        let mut p = Publishing::default();
        let name = |i: usize| ("tide".to_string(), None, "/gauges".to_string(), i.to_string());
        let add = |p: &mut Publishing, i, now| p.wait(name(i), oneshot::channel().0, now);
        add(&mut p, 0, 0);
        (0..MOST - 1).for_each(|i| add(&mut p, i / 2, 1));
        assert!(p.is_full());
        assert_eq!(p.came_back(&name(0)).len(), 3);
        assert!(!p.is_full() && p.came_back(&name(0)).is_empty());
        (0..3).for_each(|_| add(&mut p, MOST, 2));
        assert!(p.is_full() && p.late(PATIENCE + 1).is_empty());
        assert_eq!((p.late(PATIENCE + 2).len(), p.late(PATIENCE + 3).len()), (MOST - 3, 3));
        assert!(!p.is_full() && p.by_name.is_empty() && p.waiting == 0);
    }
}
