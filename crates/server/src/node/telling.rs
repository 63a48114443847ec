//! What this instance says on the relay beside intervals: handed over one after the other.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use gossip_relay::{Event, Relay};
use parking_lot::Mutex;
use rand::Rng;
use tokio::sync::mpsc;
use tokio::task::AbortHandle;

use super::publishing::Publishing;

/// Events that may wait to be handed to the relay.
pub(super) const WAITING: usize = 1_024;

/// Longest wait of the relay for one event.
const TELL_WITHIN: Duration = Duration::from_secs(5);

/// What is under way.
pub(super) struct Events {
    /// What waits for the relay.
    pub(super) tell: mpsc::Sender<Arc<Event>>,
    pub(super) publishing: Publishing,
    /// Listening to topics of other programs, while this instance is the one that does.
    pub(super) foreign: Vec<AbortHandle>,
    /// How that stands, by topic; empty while it listens.
    pub(super) foreign_state: Arc<Mutex<BTreeMap<String, String>>>,
    pub(super) was_connected: bool,
}

impl Events {
    /// Starts the task that hands events to the relay, one after the other, so that each sender's stay in order.
    pub(super) fn start(relay: Arc<dyn Relay>) -> Events {
        let (tell, mut told) = mpsc::channel::<Arc<Event>>(WAITING);
        tokio::spawn(async move {
            while let Some(event) = told.recv().await {
                let outcome = tokio::time::timeout(TELL_WITHIN, relay.tell(event)).await;
                if !matches!(outcome, Ok(Ok(()))) {
                    tracing::debug!("an event was not taken by the relay");
                }
            }
        });
        Events {
            tell,
            publishing: Publishing::default(),
            foreign: Vec::new(),
            foreign_state: Arc::default(),
            was_connected: true,
        }
    }
}

impl Drop for Events {
    fn drop(&mut self) {
        self.foreign.iter().for_each(AbortHandle::abort);
    }
}

/// An id that nothing else has.
pub(super) fn new_id() -> String {
    format!("{:032x}", rand::rng().random::<u128>())
}
