//! What waits to be written to one client, and how it is put into words when its turn comes.
//!
//! The engine's loop pushes, the connection's task pops. Rows of large results are put into words in parts, as the
//! socket takes them; until then they are shared, not copied.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};

use axum::extract::ws::Utf8Bytes;
use gossip_core::engine::{SubId, Why};
use gossip_core::position::Position;
use gossip_core::rule::Effective;
use gossip_core::seal::Sealer;
use gossip_core::seam::ResultRows;
use gossip_core::send_queue::{Offered, QueueLimits, SendQueue};
use gossip_core::wire;
use parking_lot::Mutex;
use serde_json::{Value as Json, json};
use tokio::sync::Notify;

/// Rows are sent in parts of about this many bytes.
const PART: usize = 64 * 1024;

/// One subscription, as the engine's loop and the connection both know it.
#[derive(Debug)]
pub struct Subscription {
    /// Its number in the engine.
    pub id: SubId,
    /// Its number within the connection.
    pub number: u64,
    /// The id of the call that made it.
    pub call: Json,
    /// Whether that call has been answered.
    pub answered: AtomicBool,
    /// The label under which operators observe it.
    pub observed: Option<String>,
}

/// What is to be told when a delta of an observed subscription has been written.
#[derive(Clone, Debug)]
pub struct Receipt {
    /// The subscription.
    pub subscription: Arc<Subscription>,
    /// The transaction's source.
    pub source: Arc<str>,
    /// The transaction.
    pub position: Position,
}

/// Something to write.
#[derive(Debug)]
pub enum Outgoing {
    /// A reply or notification, ready.
    Text(String),
    /// A delta, in words that are shared by all subscribers of its feed with the same number.
    Delta {
        /// The whole message.
        text: Utf8Bytes,
        /// Set if it is observed.
        receipt: Option<Box<Receipt>>,
    },
    /// A whole result, from a row on.
    Result(Box<WholeResult>),
}

/// A result on its way, possibly in parts.
#[derive(Debug)]
pub struct WholeResult {
    /// Whose it is.
    pub subscription: Arc<Subscription>,
    /// Why it is sent.
    pub why: Why,
    /// What was asked.
    pub feed: Arc<Effective>,
    /// All rows.
    pub rows: Arc<ResultRows>,
    /// Where it stands.
    pub cursor: Arc<str>,
    /// The first row that has not been sent.
    pub next: usize,
    /// Parts sent so far.
    pub part: u64,
}

/// A message in words, with its receipt if it is observed.
pub type InWords = (Utf8Bytes, Option<Box<Receipt>>);

/// A client's queue and what is counted about it.
#[derive(Debug)]
pub struct Outbox {
    queue: Mutex<SendQueue<Outgoing>>,
    wake: Notify,
    /// Messages written.
    pub sent: AtomicU64,
    /// Times that a subscription was brought up to date by a snapshot because the client was slow.
    pub caught_up: AtomicU64,
}

impl Outbox {
    /// An empty outbox.
    pub fn new(limits: QueueLimits) -> Outbox {
        Outbox {
            queue: Mutex::new(SendQueue::new(limits)),
            wake: Notify::new(),
            sent: AtomicU64::new(0),
            caught_up: AtomicU64::new(0),
        }
    }

    /// Queues a whole result.
    pub fn push_result(&self, subscription: SubId, whole: WholeResult) {
        self.queue.lock().push_result(subscription, Outgoing::Result(Box::new(whole)));
        self.wake.notify_one();
    }

    /// Queues text.
    pub fn say(&self, text: String) {
        self.queue.lock().push(None, Outgoing::Text(text));
        self.wake.notify_one();
    }

    /// Offers a delta.
    pub fn offer(&self, subscription: SubId, item: Outgoing, bytes: usize) -> Offered {
        let offered = self.queue.lock().offer(subscription, bytes, item);
        match offered {
            Offered::LagsNow => drop(self.caught_up.fetch_add(1, Relaxed)),
            Offered::Queued => self.wake.notify_one(),
            Offered::Lags => {}
        }
        offered
    }

    /// Throws away what is unsent of a subscription.
    pub fn discard(&self, subscription: SubId) {
        self.queue.lock().discard(subscription);
    }

    /// Waits until there may be something to write.
    pub async fn filled(&self) {
        self.wake.notified().await;
    }

    /// What waits: items and bytes of deltas.
    pub fn waiting(&self) -> (usize, usize) {
        let q = self.queue.lock();
        (q.len(), q.bytes())
    }

    /// Takes up to `count` messages in words, with the receipts of those that are observed. Empty: the queue is, and
    /// the second list names subscriptions that wait to be brought up to date.
    pub fn take(&self, count: usize, sealer: &Sealer) -> (Vec<InWords>, Vec<SubId>) {
        let mut texts = Vec::new();
        let mut queue = self.queue.lock();
        while texts.len() < count {
            match queue.pop() {
                None => break,
                Some(Outgoing::Text(text)) => texts.push((text.into(), None)),
                Some(Outgoing::Delta { text, receipt }) => texts.push((text, receipt)),
                Some(Outgoing::Result(mut r)) => {
                    texts.push((in_words(&mut r, sealer).into(), None));
                    if r.next < r.rows.len() {
                        queue.push_front(Some(r.subscription.id), Outgoing::Result(r));
                    }
                    // One part at a time: a part may be large, and other tasks want their turn.
                    break;
                }
            }
        }
        let lagging = if texts.is_empty() { queue.take_lagging() } else { Vec::new() };
        drop(queue);
        self.sent.fetch_add(texts.len() as u64, Relaxed);
        (texts, lagging)
    }
}

/// The next part of a result in words.
fn in_words(r: &mut WholeResult, sealer: &Sealer) -> String {
    let (rows, taken) = wire::rows_json(&r.feed, &r.rows[r.next..], PART, sealer);
    r.next += taken;
    r.part += 1;
    let more = if r.next < r.rows.len() { ",\"more\":true" } else { "" };
    let number = r.subscription.number;
    if r.part > 1 {
        let part = r.part - 1;
        return format!(
            "{{\"jsonrpc\":\"2.0\",\"method\":\"rows\",\"params\":{{\"subscription\":{number},\"part\":{part},\
             \"rows\":{rows}{more}}}}}"
        );
    }
    let cursor = &r.cursor;
    if r.subscription.answered.swap(true, Relaxed) {
        let why = wire::why_word(r.why);
        return format!(
            "{{\"jsonrpc\":\"2.0\",\"method\":\"snapshot\",\"params\":{{\"subscription\":{number},\"rows\":{rows},\
             \"cursor\":\"{cursor}\",\"why\":\"{why}\"{more}}}}}"
        );
    }
    let columns = json!(wire::columns(&r.feed));
    let call = &r.subscription.call;
    format!(
        "{{\"jsonrpc\":\"2.0\",\"id\":{call},\"result\":{{\"subscription\":{number},\"columns\":{columns},\
         \"rows\":{rows},\"cursor\":\"{cursor}\"{more}}}}}"
    )
}
