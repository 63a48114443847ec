//! What this instance sends over the relay beside intervals: events, and messages to the other instances.

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

/// History responses that may wait for room among those: as many as the largest topic takes. Whoever lacks what was
/// dropped requests it again.
const HISTORY_WAITING: usize = 1_024;

/// How long the relay may take for one event.
const SEND_WITHIN: Duration = Duration::from_secs(5);

/// Events on their way out, and other programs' on their way in.
pub(super) struct Events {
    /// What waits for the relay.
    pub(super) queue: mpsc::Sender<Arc<Event>>,
    /// History responses, which come many at a time and give way to all else.
    pub(super) history: mpsc::Sender<Arc<Event>>,
    pub(super) publishing: Publishing,
    /// Listening to topics of other programs, while this instance is the one that does.
    pub(super) foreign: Vec<AbortHandle>,
    /// How that stands, by topic; empty while it listens.
    pub(super) foreign_state: Arc<Mutex<BTreeMap<String, String>>>,
    pub(super) was_connected: bool,
}

impl Events {
    /// Starts the tasks that hand events to the relay, one after the other, so that each sender's stay in order.
    pub(super) fn start(relay: Arc<dyn Relay>) -> Events {
        let (queue, mut waiting) = mpsc::channel::<Arc<Event>>(WAITING);
        tokio::spawn(async move {
            while let Some(event) = waiting.recv().await {
                let outcome = tokio::time::timeout(SEND_WITHIN, relay.broadcast(event)).await;
                if !matches!(outcome, Ok(Ok(()))) {
                    tracing::debug!("the relay did not accept an event");
                }
            }
        });
        let (history, mut responses) = mpsc::channel(HISTORY_WAITING);
        let room = queue.clone();
        tokio::spawn(async move {
            while let Some(response) = responses.recv().await {
                if room.send(response).await.is_err() {
                    return;
                }
            }
        });
        Events {
            queue,
            history,
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
