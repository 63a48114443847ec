//! Detects whether instances keep the same events of each topic, and when to request missing ones.
//!
//! What a topic keeps is a function of the set of its events, so two instances that have received the same events have the same
//! digest. Instances exchange digests periodically. While events arrive, digests differ for a moment,
//! which means nothing; if both sides have been quiet and still differ, an event was lost on the way to one of
//! them, and each requests what the other keeps.

use std::collections::HashMap;
use std::sync::Arc;

use crate::position::{Micros, Timestamp};

/// Shortest time between two requests for one topic, in microseconds.
const ASK_AFTER: Micros = 3_000_000;

/// Longest time between requests that do not help, as when two instances declare a topic differently, in microseconds.
const ASK_AT_MOST_AFTER: Micros = 300_000_000;

/// A topic.
#[derive(Debug, Default)]
struct Compared {
    /// The digest reported last, and whether it was equal to the one before.
    mine: Option<(u64, bool)>,
    /// The last digest of each other instance.
    theirs: HashMap<Arc<str>, u64>,
    /// Time of the last request, and how long to wait after it.
    asked: Option<(Timestamp, Micros)>,
}

/// Compares the digests of instances.
#[derive(Debug, Default)]
pub struct AntiEntropy {
    topics: HashMap<Arc<str>, Compared>,
}

impl AntiEntropy {
    /// Records this instance's digest of a topic.
    pub fn record_local(&mut self, topic: &str, digest: u64) {
        let topic = self.topics.entry(topic.into()).or_default();
        topic.mine = Some((digest, topic.mine.is_some_and(|(before, _)| before == digest)));
    }

    /// Compares another instance's digest. Returns whether to request its events.
    pub fn compare(&mut self, instance: &str, topic: &str, digest: u64, now: Timestamp) -> bool {
        // Ignore topics that this instance does not have.
        let Some(topic) = self.topics.get_mut(topic) else { return false };
        let quiet = topic.theirs.insert(instance.into(), digest) == Some(digest);
        let Some((mine, true)) = topic.mine else { return false };
        if mine == digest {
            topic.asked = None;
            return false;
        }
        let due = topic.asked.is_none_or(|(at, wait)| now.saturating_sub(at) >= wait);
        if quiet && due {
            let wait = topic.asked.map_or(ASK_AFTER, |(_, wait)| (wait * 2).min(ASK_AT_MOST_AFTER));
            topic.asked = Some((now, wait));
        }
        quiet && due
    }

    /// An instance is gone.
    pub fn forget(&mut self, instance: &str) {
        for topic in self.topics.values_mut() {
            topic.theirs.remove(instance);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_differs_at_rest_is_asked_for_and_more_and_more_seldom() {
        let mut anti_entropy = AntiEntropy::default();
        assert!(!anti_entropy.compare("two", "tide", 1, 0), "not a topic of this instance");
        anti_entropy.record_local("tide", 1);
        anti_entropy.compare("two", "tide", 2, 0);
        assert!(!anti_entropy.compare("two", "tide", 2, 0), "it may have changed here just now");
        anti_entropy.record_local("tide", 1);
        assert!(!anti_entropy.compare("two", "tide", 3, 0), "it changes there");
        assert!(anti_entropy.compare("two", "tide", 3, 0));
        let asked: Vec<i64> = (1..40).filter(|s| anti_entropy.compare("two", "tide", 3, s * 1_000_000)).collect();
        assert_eq!(asked, [3, 9, 21]);
        assert!(!anti_entropy.compare("two", "tide", 1, 40_000_000));
        anti_entropy.compare("two", "tide", 4, 41_000_000);
        assert!(anti_entropy.compare("two", "tide", 4, 41_000_000), "another difference is another question");
        anti_entropy.record_local("tide", 5);
        anti_entropy.forget("two");
        anti_entropy.record_local("tide", 5);
        assert!(!anti_entropy.compare("two", "tide", 4, 900_000_000), "what it said before it went does not count");
    }
}
