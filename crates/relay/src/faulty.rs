//! A relay that does its worst, for tests and for trying out what then happens.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering::Relaxed};
use std::time::Duration;

use async_trait::async_trait;
use gossip_core::column_pruning::Needed;
use gossip_core::position::{Interval, Position, Transaction};
use gossip_core::schema::Table;
use tokio::sync::mpsc;

use crate::{Event, INBOX, Inbox, Received, Relay, RelayError, Standing};

/// What goes wrong for one member. All of it can be changed while it runs.
#[derive(Debug, Default)]
pub struct Faults {
    /// So many of the next intervals that carry changes are lost on the way in.
    pub drop_next: AtomicU32,
    /// So many of the next intervals arrive twice.
    pub double_next: AtomicU32,
    /// So many of the next intervals that carry changes arrive without them, as if they were whole: nobody can notice but by
    /// looking at the database.
    pub empty_next: AtomicU32,
    /// Every interval arrives so many milliseconds late.
    pub delay_ms: AtomicU32,
    /// Nothing arrives, nothing can be published and nothing is replayed.
    pub cut: AtomicBool,
}

/// Wraps another relay.
#[derive(Clone)]
pub struct Faulty {
    inner: Arc<dyn Relay>,
    faults: Arc<Faults>,
}

impl Faulty {
    /// Wraps `inner`, without any fault at first.
    pub fn new(inner: Arc<dyn Relay>) -> Faulty {
        Faulty { inner, faults: Arc::default() }
    }

    /// The faults, to be set.
    pub fn faults(&self) -> &Arc<Faults> {
        &self.faults
    }

    fn reachable(&self) -> Result<(), RelayError> {
        if self.faults.cut.load(Relaxed) { Err(RelayError::Unreachable("cut off".into())) } else { Ok(()) }
    }
}

fn emptied(interval: &Interval) -> Interval {
    let empty = |t: &Arc<Transaction>| Arc::new(Transaction { changes: vec![], ..(**t).clone() });
    Interval { transactions: interval.transactions.iter().map(empty).collect(), ..interval.clone() }
}

fn take_one(counter: &AtomicU32) -> bool {
    counter.fetch_update(Relaxed, Relaxed, |n| n.checked_sub(1)).is_ok()
}

#[async_trait]
impl Relay for Faulty {
    fn describe(&self, tables: &[Arc<Table>]) {
        self.inner.describe(tables);
    }

    fn speak(&self, version: u32) {
        self.inner.speak(version);
    }

    fn need(&self, needed: Option<Needed>) {
        self.inner.need(needed);
    }

    async fn publish(&self, interval: Arc<Interval>) -> Result<(), RelayError> {
        self.reachable()?;
        self.inner.publish(interval).await
    }

    async fn broadcast(&self, event: Arc<Event>) -> Result<(), RelayError> {
        self.reachable()?;
        self.inner.broadcast(event).await
    }

    async fn join(&self) -> Result<Inbox, RelayError> {
        let mut from = self.inner.join().await?;
        let faults = self.faults.clone();
        let (to, inbox) = mpsc::channel(INBOX);
        tokio::spawn(async move {
            while let Some(heard) = from.recv().await {
                let delay = faults.delay_ms.load(Relaxed);
                if delay > 0 {
                    tokio::time::sleep(Duration::from_millis(delay.into())).await;
                }
                let carries = match &heard {
                    Received::Interval(interval) => !interval.transactions.is_empty(),
                    Received::Event(_) => false,
                };
                let heard = match heard {
                    Received::Interval(interval) if carries && take_one(&faults.empty_next) => {
                        Received::Interval(Arc::new(emptied(&interval)))
                    }
                    heard => heard,
                };
                let lost = carries && take_one(&faults.drop_next);
                if faults.cut.load(Relaxed) || lost {
                    continue;
                }
                if take_one(&faults.double_next) && to.send(heard.clone()).await.is_err() {
                    break;
                }
                if to.send(heard).await.is_err() {
                    break;
                }
            }
        });
        Ok(inbox)
    }

    async fn replay(&self, source: &str, after: Position) -> Result<Option<Vec<Arc<Interval>>>, RelayError> {
        self.reachable()?;
        self.inner.replay(source, after).await
    }

    async fn last(&self, source: &str) -> Result<Option<Arc<Interval>>, RelayError> {
        self.inner.last(source).await
    }

    fn standing(&self) -> Standing {
        let standing = self.inner.standing();
        Standing { connected: standing.connected && !self.faults.cut.load(Relaxed), ..standing }
    }
}
