//! What waits to be written to one client, and the socket that takes it.
//!
//! The engine's loop pushes; [`Outbox::flush`] writes as much as the socket takes at once and never waits, so that
//! whoever has a turn can do it: a writer of [`crate::writers`] or the connection's own task. Frames are made once, for
//! all clients that get the same text, and are written from where they lie. Rows of large results are put into words in
//! parts, as the socket takes them; until then they are shared, not copied. Whatever has not begun to leave can be
//! thrown away.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::io::{ErrorKind, IoSlice};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use bytes::Bytes;
use gossip_core::engine::{Request, ResyncReason, SubId, Wants};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::Position;
use gossip_core::seal::Sealer;
use gossip_core::seam::ResultRows;
use gossip_core::send_queue::{Offered, QueueLimits, SendQueue};
use gossip_core::wire;
use gossip_protocol::call::Send;
use parking_lot::Mutex;
use serde_json::{Value as Json, json};
use tokio::net::TcpStream;
use tokio::sync::Notify;
use tokio_tungstenite::tungstenite::protocol::frame::coding::{Data, OpCode};
use tokio_tungstenite::tungstenite::protocol::frame::{Frame, FrameHeader};

use crate::tap::{Tap, Way};

/// Rows are sent in parts of about this many bytes.
const PART: usize = 64 * 1024;

/// The first byte of a whole frame of text (RFC 6455, 5.2).
const TEXT: u8 = 0x81;

/// Frames joined in one write.
const JOINED: usize = 64;

/// A text as a WebSocket frame (RFC 6455), as servers send it: unmasked, so that it is the same for every client.
pub fn frame(text: &str) -> Bytes {
    let header = FrameHeader { opcode: OpCode::Data(Data::Text), ..FrameHeader::default() };
    let length = text.len() as u64;
    let mut bytes = Vec::with_capacity(header.len(length) + text.len());
    // Writing to memory does not fail.
    let _ = header.format(length, &mut bytes);
    bytes.extend_from_slice(text.as_bytes());
    bytes.into()
}

/// A control frame in bytes.
pub fn control(frame: Frame) -> Bytes {
    let mut bytes = Vec::with_capacity(frame.len());
    let _ = frame.format(&mut bytes);
    bytes.into()
}

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
    /// A hash of the columns that its client knows; 0 for none.
    pub columns: AtomicU64,
    /// The label under which operators observe it.
    pub observed: Option<String>,
    /// How results are sent.
    pub style: Style,
}

impl Subscription {
    /// A result with these columns has left, or what stands for it.
    fn note_answered(&self, columns: u64) {
        self.columns.store(columns, Relaxed);
        self.answered.store(true, Relaxed);
    }
}

/// How a result is sent to a client.
#[derive(Clone, Copy, Debug)]
pub struct Style {
    /// Most rows in one message.
    pub batch: usize,
    /// What of a changed row.
    pub send: Send,
    /// Whether rows that were replaced or removed are sent as they were, too.
    pub was: bool,
    /// Whether results are sent without their rows.
    pub changes_only: bool,
}

impl Default for Style {
    fn default() -> Style {
        Style { batch: usize::MAX, send: Send::Rows, was: false, changes_only: false }
    }
}

impl Style {
    /// A request that says what of its result is wanted.
    pub fn of(self, request: Request) -> Request {
        let wants = match (self.send, self.changes_only) {
            (Send::Signal, _) => Wants::Signal,
            (_, true) => Wants::Changes,
            _ => Wants::Result,
        };
        Request { wants, was: self.was, ..request }
    }
}

/// What is reported once a delta of an observed subscription has been written.
#[derive(Clone, Debug)]
pub struct Receipt {
    /// The subscription.
    pub subscription: Arc<Subscription>,
    /// The transaction's source.
    pub source: Arc<str>,
    /// The transaction.
    pub position: Position,
}

/// What follows once a frame has begun to leave.
#[derive(Debug)]
pub enum Then {
    /// Nothing.
    Nothing,
    /// The call that made this subscription is answered, with [these columns](columns_of).
    Answered(Arc<Subscription>, u64),
    /// It was a delta that is observed.
    Tell(Box<Receipt>),
}

/// Something to write.
#[derive(Debug)]
enum Outgoing {
    /// A frame, ready. That of a delta is shared by all subscribers of its feed with the same number.
    Frame(Bytes, Then),
    /// A whole result, from a row on.
    Result(Box<WholeResult>),
}

/// A result on its way, possibly in parts.
#[derive(Debug)]
pub struct WholeResult {
    /// Whose it is.
    pub subscription: Arc<Subscription>,
    /// Why it is sent.
    pub why: ResyncReason,
    /// The plan.
    pub feed: Arc<EffectivePlan>,
    /// All rows.
    pub rows: Arc<ResultRows>,
    /// Where it stands.
    pub cursor: Arc<str>,
    /// The first row that has not been sent.
    pub next: usize,
    /// Parts sent so far.
    pub part: u64,
}

/// How far a [`Outbox::flush`] came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Flushed {
    /// Nothing waits.
    Empty,
    /// More waits; the rest is for another turn, so that others have theirs.
    More,
    /// The socket takes no more now. The connection waits for it.
    Blocked,
    /// The socket is gone.
    Gone,
}

/// What is to be said of a flush.
#[derive(Debug)]
pub struct FlushReport {
    /// How far it came.
    pub flushed: Flushed,
    /// Observed deltas that have left.
    pub receipts: Vec<Receipt>,
    /// Subscriptions that wait to be brought up to date.
    pub lagging: Vec<SubId>,
}

impl FlushReport {
    /// Nothing has left, and nothing is to be done about it.
    fn nothing() -> FlushReport {
        FlushReport { flushed: Flushed::Empty, receipts: Vec::new(), lagging: Vec::new() }
    }

    /// Whether there is anything to report.
    pub fn has_news(&self) -> bool {
        !self.receipts.is_empty() || !self.lagging.is_empty()
    }
}

#[derive(Debug)]
struct State {
    queue: SendQueue<Outgoing>,
    /// A frame of which some bytes have left. It cannot be taken back.
    begun: Option<(Bytes, usize, Then)>,
    way: Sink,
    /// Nothing leaves before this.
    held: Option<Instant>,
}

/// How what waits leaves.
#[derive(Debug)]
enum Sink {
    /// Not at all, yet or any more.
    Detached,
    /// Into a socket.
    Socket(Arc<TcpStream>),
    /// Somebody takes it out.
    Pulled,
}

/// What was taken out.
#[derive(Debug)]
pub struct NextMessage {
    /// A message, if one waited.
    pub text: Option<Bytes>,
    /// What is to be said of it.
    pub told: FlushReport,
}

/// A client's queue and what is counted about it.
#[derive(Debug)]
pub struct Outbox {
    state: Mutex<State>,
    blocked: Notify,
    /// Whether a writer has it on its list.
    pub due: AtomicBool,
    /// For an operator who looks at what goes over the connection.
    pub tap: Tap,
    /// Messages written.
    pub sent: AtomicU64,
    /// Times that a subscription was brought up to date by a snapshot because the client was slow.
    pub caught_up: AtomicU64,
}

impl Outbox {
    /// An empty outbox without a socket: what is pushed waits.
    pub fn new(limits: QueueLimits) -> Outbox {
        Outbox {
            state: Mutex::new(State { queue: SendQueue::new(limits), begun: None, way: Sink::Detached, held: None }),
            blocked: Notify::new(),
            due: AtomicBool::new(false),
            tap: Tap::default(),
            sent: AtomicU64::new(0),
            caught_up: AtomicU64::new(0),
        }
    }

    /// Gives it the socket to write to.
    pub fn open(&self, socket: Arc<TcpStream>) {
        self.state.lock().way = Sink::Socket(socket);
    }

    /// Wakes the task that awaits [`Outbox::blocked`].
    pub fn open_to_take(&self) {
        self.state.lock().way = Sink::Pulled;
    }

    /// Takes the next message out.
    pub fn take(&self, sealer: &Sealer) -> NextMessage {
        let mut receipts = Vec::new();
        let mut state = self.state.lock();
        if state.is_held() {
            return NextMessage { text: None, told: FlushReport::nothing() };
        }
        state.cut(sealer);
        let text = match state.queue.pop() {
            Some(Outgoing::Frame(bytes, then)) => {
                done(then, &mut receipts);
                self.sent.fetch_add(1, Relaxed);
                let text = payload(bytes);
                self.tap.note(Way::Sent, &text);
                Some(text)
            }
            _ => None,
        };
        let lagging = if state.queue.is_empty() { state.queue.take_lagging() } else { Vec::new() };
        let flushed = if text.is_some() { Flushed::More } else { Flushed::Empty };
        NextMessage { text, told: FlushReport { flushed, receipts, lagging } }
    }

    /// Lets nothing leave before this; `None`: no longer.
    pub fn hold(&self, until: Option<Instant>) {
        self.state.lock().held = until;
        self.blocked.notify_one();
    }

    /// For how long nothing leaves yet.
    pub fn held_for(&self) -> Option<Duration> {
        let left = self.state.lock().held?.saturating_duration_since(Instant::now());
        Some(left).filter(|left| !left.is_zero())
    }

    /// Takes its socket away. What waits, and what is still pushed, goes nowhere.
    pub fn close(&self) {
        let mut state = self.state.lock();
        state.way = Sink::Detached;
        state.begun = None;
        while state.queue.pop().is_some() {}
    }

    /// Queues a whole result.
    pub fn push_result(&self, subscription: SubId, whole: WholeResult) {
        self.state.lock().queue.push_result(subscription, Outgoing::Result(Box::new(whole)));
    }

    /// Queues the answer to the call that made a subscription, where no rows belong to it.
    pub fn answer(&self, subscription: &Arc<Subscription>, feed: &EffectivePlan, text: &str) {
        let item = Outgoing::Frame(frame(text), Then::Answered(subscription.clone(), columns_of(feed)));
        self.state.lock().queue.push(Some(subscription.id), item);
    }

    /// Queues text.
    pub fn say(&self, text: &str) {
        self.push(frame(text));
    }

    /// Queues a frame.
    pub fn push(&self, bytes: Bytes) {
        self.state.lock().queue.push(None, Outgoing::Frame(bytes, Then::Nothing));
    }

    /// Offers a delta.
    pub fn offer(&self, subscription: SubId, bytes: Bytes, revokes: bool, then: Then) -> Offered {
        let size = bytes.len();
        let offered = self.state.lock().queue.offer(subscription, size, revokes, Outgoing::Frame(bytes, then));
        self.count(offered)
    }

    /// Offers a signal, in place of those that are still unsent.
    pub fn offer_signal(&self, subscription: SubId, bytes: Bytes, then: Then) -> Offered {
        let size = bytes.len();
        let offered = self.state.lock().queue.offer_newest(subscription, size, Outgoing::Frame(bytes, then));
        self.count(offered)
    }

    fn count(&self, offered: Offered) -> Offered {
        if offered == Offered::LagsNow {
            self.caught_up.fetch_add(1, Relaxed);
        }
        offered
    }

    /// Drops what is unsent of a subscription because it may not be seen any more; it catches up by a snapshot then.
    pub fn unsend(&self, subscription: SubId) {
        if self.state.lock().queue.unsend(subscription) {
            self.caught_up.fetch_add(1, Relaxed);
        }
    }

    /// Throws away what is unsent of a subscription.
    pub fn discard(&self, subscription: SubId) {
        self.state.lock().queue.discard(subscription);
    }

    /// Waits until another task's flush was blocked, or found the socket closed.
    pub async fn blocked(&self) {
        self.blocked.notified().await;
    }

    /// Whether everything has been written and nothing was left out.
    pub fn is_up_to_date(&self) -> bool {
        let state = self.state.lock();
        state.queue.is_empty() && state.begun.is_none() && !state.queue.lags()
    }

    /// What waits: items and bytes of deltas.
    pub fn waiting(&self) -> (usize, usize) {
        let state = self.state.lock();
        (state.queue.len() + usize::from(state.begun.is_some()), state.queue.bytes())
    }

    /// Writes up to [`JOINED`] frames in one write, or as much of them as the socket takes.
    pub fn flush(&self, sealer: &Sealer) -> FlushReport {
        let mut receipts = Vec::new();
        let mut state = self.state.lock();
        if state.is_held() {
            return FlushReport::nothing();
        }
        let flushed = state.flush(sealer, &mut receipts, &self.sent, &self.tap);
        let lagging = if flushed == Flushed::Empty { state.queue.take_lagging() } else { Vec::new() };
        drop(state);
        if matches!(flushed, Flushed::Blocked | Flushed::Gone) {
            self.blocked.notify_one();
        }
        FlushReport { flushed, receipts, lagging }
    }
}

impl State {
    fn is_held(&self) -> bool {
        self.held.is_some_and(|until| until > Instant::now())
    }

    fn flush(&mut self, sealer: &Sealer, receipts: &mut Vec<Receipt>, sent: &AtomicU64, tap: &Tap) -> Flushed {
        let socket = match &self.way {
            Sink::Detached => return Flushed::Gone,
            Sink::Pulled => return Flushed::Blocked,
            Sink::Socket(socket) => socket.clone(),
        };
        self.cut(sealer);
        let taken = match self.write(&socket) {
            None => return Flushed::Empty,
            Some(Ok(taken)) => taken,
            Some(Err(e)) if e.kind() == ErrorKind::WouldBlock => return Flushed::Blocked,
            Some(Err(_)) => return Flushed::Gone,
        };
        sent.fetch_add(self.take_out(taken, receipts, tap), Relaxed);
        if self.begun.is_none() && self.queue.is_empty() { Flushed::Empty } else { Flushed::More }
    }

    /// Puts the next part of a result into words, if one is next.
    fn cut(&mut self, sealer: &Sealer) {
        self.queue.cut_front(|item| match item {
            Outgoing::Result(result) => Some(next_part(result, sealer)),
            Outgoing::Frame(..) => None,
        });
    }

    /// Writes what is ready, in one call; `None` if nothing is.
    fn write(&self, socket: &TcpStream) -> Option<std::io::Result<usize>> {
        let begun = self.begun.iter().map(|(bytes, written, _)| &bytes[*written..]);
        let ready = self.queue.iter().map_while(|item| match item {
            Outgoing::Frame(bytes, _) => Some(&bytes[..]),
            Outgoing::Result(_) => None,
        });
        let mut frames = begun.chain(ready);
        let first = frames.next()?;
        Some(match frames.next() {
            // By far the most frequent case, and the system does it with less.
            None => socket.try_write(first),
            Some(second) => {
                let mut slices = [IoSlice::new(&[]); JOINED];
                let mut count = 0;
                for (slice, bytes) in slices.iter_mut().zip([first, second].into_iter().chain(frames)) {
                    *slice = IoSlice::new(bytes);
                    count += 1;
                }
                socket.try_write_vectored(&slices[..count])
            }
        })
    }

    /// Takes the frames out that have left with these bytes; what has left in part remains begun. Returns how many
    /// were whole.
    fn take_out(&mut self, mut taken: usize, receipts: &mut Vec<Receipt>, tap: &Tap) -> u64 {
        let mut whole = 0;
        while taken > 0 {
            let (bytes, written, then) = match self.begun.take() {
                Some(begun) => begun,
                None => match self.queue.pop() {
                    Some(Outgoing::Frame(bytes, then)) => (bytes, 0, then),
                    _ => return whole,
                },
            };
            if let Then::Answered(subscription, columns) = &then {
                subscription.note_answered(*columns);
            }
            let rest = bytes.len() - written;
            if taken < rest {
                self.begun = Some((bytes, written + taken, then));
                return whole;
            }
            taken -= rest;
            whole += 1;
            if bytes.first() == Some(&TEXT) {
                tap.note(Way::Sent, &payload(bytes));
            }
            if let Then::Tell(receipt) = then {
                receipts.push(*receipt);
            }
        }
        whole
    }
}

/// What follows from a message that has left.
fn done(then: Then, receipts: &mut Vec<Receipt>) {
    match then {
        Then::Nothing => {}
        Then::Answered(subscription, columns) => subscription.note_answered(columns),
        Then::Tell(receipt) => receipts.push(*receipt),
    }
}

/// The text of a frame that [`frame`] has made.
fn payload(bytes: Bytes) -> Bytes {
    let header = match bytes.get(1) {
        Some(126) => 4,
        Some(127) => 10,
        _ => 2,
    };
    bytes.slice(header.min(bytes.len())..)
}

/// The next part of a result as a frame, and whether it was the last.
fn next_part(r: &mut WholeResult, sealer: &Sealer) -> (Outgoing, bool) {
    let bytes = frame(&in_words(r, sealer));
    let then = match r.part {
        1 => Then::Answered(r.subscription.clone(), columns_of(&r.feed)),
        _ => Then::Nothing,
    };
    (Outgoing::Frame(bytes, then), r.next >= r.rows.len())
}

/// A hash of the columns of a result, not 0.
fn columns_of(feed: &EffectivePlan) -> u64 {
    let mut hasher = DefaultHasher::new();
    feed.output().for_each(|column| (column.name, column.ty, column.key).hash(&mut hasher));
    hasher.finish().max(1)
}

/// The next part of a result in words.
fn in_words(r: &mut WholeResult, sealer: &Sealer) -> String {
    let Style { batch, send, changes_only, .. } = r.subscription.style;
    if changes_only || send == Send::Signal {
        r.next = r.rows.len();
    }
    let (rows, taken) = wire::rows_json(&r.feed, &r.rows[r.next..], PART, batch, send == Send::Keys, sealer);
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
    let (cursor, columns) = (&r.cursor, || json!(wire::columns(&r.feed)));
    if r.subscription.answered.load(Relaxed) {
        let why = wire::why_word(r.why);
        let are_new = r.subscription.columns.load(Relaxed) != columns_of(&r.feed);
        let columns = if are_new { format!(",\"columns\":{}", columns()) } else { String::new() };
        return format!(
            "{{\"jsonrpc\":\"2.0\",\"method\":\"snapshot\",\"params\":{{\"subscription\":{number}{columns},\"rows\":{rows},\
             \"cursor\":\"{cursor}\",\"why\":\"{why}\"{more}}}}}"
        );
    }
    let (columns, shape) = (columns(), wire::shape(&r.feed).word());
    let call = &r.subscription.call;
    let why = match r.why {
        ResyncReason::First => String::new(),
        why => format!(",\"why\":\"{}\"", wire::why_word(why)),
    };
    format!(
        "{{\"jsonrpc\":\"2.0\",\"id\":{call},\"result\":{{\"subscription\":{number},\"columns\":{columns},\
         \"shape\":\"{shape}\",\"rows\":{rows},\"cursor\":\"{cursor}\"{why}{more}}}}}"
    )
}
