//! The relay within one process.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use async_trait::async_trait;
use gossip_core::position::{Interval, Position};
use parking_lot::Mutex;
use tokio::sync::mpsc;

use crate::{INBOX, Inbox, Relay, RelayError};

/// Intervals that are kept per source.
const KEPT: usize = 4_096;

#[derive(Default)]
struct Kept {
    intervals: VecDeque<Arc<Interval>>,
    last: Option<Arc<Interval>>,
}

#[derive(Default)]
struct Hub {
    members: Vec<mpsc::Sender<Arc<Interval>>>,
    sources: HashMap<Arc<str>, Kept>,
}

/// A relay for instances in one process. Clones are the same relay.
#[derive(Clone, Default)]
pub struct InProcess {
    hub: Arc<Mutex<Hub>>,
}

#[async_trait]
impl Relay for InProcess {
    async fn publish(&self, interval: Arc<Interval>) -> Result<(), RelayError> {
        let mut hub = self.hub.lock();
        let kept = hub.sources.entry(interval.source.clone()).or_default();
        if interval.from < interval.to {
            if kept.intervals.len() == KEPT {
                kept.intervals.pop_front();
            }
            kept.intervals.push_back(interval.clone());
        }
        kept.last = Some(interval.clone());
        // A full inbox loses this one and notices the gap; a closed one has left.
        hub.members.retain(|m| !matches!(m.try_send(interval.clone()), Err(mpsc::error::TrySendError::Closed(_))));
        Ok(())
    }

    async fn join(&self) -> Result<Inbox, RelayError> {
        let (sender, inbox) = mpsc::channel(INBOX);
        let mut hub = self.hub.lock();
        for last in hub.sources.values().filter_map(|k| k.last.as_ref()) {
            // Only where the source is: what happened before is in snapshots.
            let sign = Interval { from: last.to, transactions: vec![], resets: vec![], ..(**last).clone() };
            let _ = sender.try_send(Arc::new(sign));
        }
        hub.members.push(sender);
        Ok(inbox)
    }

    async fn replay(&self, source: &str, after: Position) -> Result<Option<Vec<Arc<Interval>>>, RelayError> {
        let hub = self.hub.lock();
        let Some(kept) = hub.sources.get(source) else { return Ok(None) };
        let whole = kept.intervals.front().is_some_and(|first| first.from <= after);
        Ok(whole.then(|| kept.intervals.iter().filter(|i| i.to > after).cloned().collect()))
    }

    async fn last(&self, source: &str) -> Result<Option<Position>, RelayError> {
        Ok(self.hub.lock().sources.get(source).and_then(|k| k.last.as_ref()).map(|i| i.to))
    }
}
