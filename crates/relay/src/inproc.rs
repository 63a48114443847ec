//! The relay within one process.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use gossip_core::position::{Interval, Position};
use parking_lot::Mutex;
use tokio::sync::mpsc;

use crate::window::{Window, sign, size};
use crate::{Event, INBOX, Inbox, Received, Relay, RelayError, Standing};

/// An interval with this many row changes waits until the members have taken most of those before it.
const LARGE: usize = 500;

/// How many may wait before it.
const BEFORE_LARGE: usize = 16;

/// How long it waits at most: a member that takes nothing for so long loses it, and notices.
const PATIENCE: Duration = Duration::from_secs(5);

#[derive(Default)]
struct Hub {
    members: Vec<mpsc::Sender<Received>>,
    window: Window,
}

impl Hub {
    /// Whether some member has much to take yet.
    fn is_behind(&self) -> bool {
        let waiting = |m: &mpsc::Sender<_>| m.max_capacity() - m.capacity();
        self.members.iter().any(|m| !m.is_closed() && waiting(m) > BEFORE_LARGE)
    }

    /// Hands it to all; the number of those that had no room for it.
    fn deliver(&mut self, heard: &Received) -> u64 {
        let mut lost = 0;
        // A full inbox loses this one and notices; a closed one has left.
        self.members.retain(|m| match m.try_send(heard.clone()) {
            Ok(()) => true,
            Err(mpsc::error::TrySendError::Full(_)) => {
                lost += 1;
                true
            }
            Err(mpsc::error::TrySendError::Closed(_)) => false,
        });
        lost
    }
}

/// A relay for instances in one process. Clones are the same relay.
#[derive(Clone, Default)]
pub struct InProcess {
    hub: Arc<Mutex<Hub>>,
    sent: Arc<AtomicU64>,
    lost: Arc<AtomicU64>,
}

#[async_trait]
impl Relay for InProcess {
    async fn publish(&self, interval: Arc<Interval>) -> Result<(), RelayError> {
        let changes = size(&interval);
        let until = Instant::now() + PATIENCE;
        while changes >= LARGE && self.hub.lock().is_behind() && Instant::now() < until {
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        let mut hub = self.hub.lock();
        hub.window.add(&interval);
        let lost = hub.deliver(&Received::Interval(interval));
        self.sent.fetch_add(1, Relaxed);
        self.lost.fetch_add(lost, Relaxed);
        Ok(())
    }

    async fn broadcast(&self, event: Arc<Event>) -> Result<(), RelayError> {
        let lost = self.hub.lock().deliver(&Received::Event(event));
        self.sent.fetch_add(1, Relaxed);
        self.lost.fetch_add(lost, Relaxed);
        Ok(())
    }

    async fn join(&self) -> Result<Inbox, RelayError> {
        let (sender, inbox) = mpsc::channel(INBOX);
        let mut hub = self.hub.lock();
        for last in hub.window.all_last() {
            let _ = sender.try_send(Received::Interval(Arc::new(sign(last))));
        }
        hub.members.push(sender);
        Ok(inbox)
    }

    async fn replay(&self, source: &str, after: Position) -> Result<Option<Vec<Arc<Interval>>>, RelayError> {
        Ok(self.hub.lock().window.since(source, after))
    }

    async fn last(&self, source: &str) -> Result<Option<Arc<Interval>>, RelayError> {
        Ok(self.hub.lock().window.last(source))
    }

    fn standing(&self) -> Standing {
        let sent = self.sent.load(Relaxed);
        Standing {
            kind: "inproc",
            connected: true,
            sent,
            heard: sent,
            lost: self.lost.load(Relaxed),
            ..Standing::default()
        }
    }
}
