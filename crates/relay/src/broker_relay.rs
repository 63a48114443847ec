//! The relay over a broker, whichever it is.
//!
//! What an instance lacks it gets from what the broker keeps, where it does; else from another instance, which it asks
//! over the same broker: each remembers the newest intervals of its sources in a bounded [`Window`]. The answer comes as
//! events under the answering instance's own name. Whatever cannot be read is counted, and the newest of it can be shown;
//! it is never more than a message that did not come.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use bytes::Bytes;
use gossip_core::column_pruning::Needed;
use gossip_core::datetime;
use gossip_core::position::{Interval, Micros, Position, ResetReason, Timestamp};
use gossip_core::schema::{Identified, Table};
use gossip_protocol::timestamp::rfc3339;
use parking_lot::Mutex;
use rand::Rng;
use serde_json::{Value as Json, json};
use tokio::sync::{Semaphore, mpsc};

use crate::broker::{Broker, Stored, TIMEOUT};
use crate::event::{self, Tables};
use crate::message::{Message, Path, token};
use crate::parts::{Part, Parts};
use crate::vouch::Keys;
use crate::window::{Window, sign, unbroken};
use crate::{About, Event, INBOX, Inbox, Received, Relay, RelayError, Settings, Standing};
use gossip_protocol::cloudevent::{CloudEvent, MAX_EVENT, SENDER};

/// Asks another instance for intervals.
const ASK: &str = "gossip.replay.ask.v1";

/// One interval of an answer, or that there are none.
const ANSWER: &str = "gossip.replay.answer.v1";

/// How long the reader's instance, and then all the others, have to begin their answer, and between two events of it.
const ANSWER_WITHIN: Duration = Duration::from_millis(1_500);

/// Answers that an instance gives at the same time.
const ANSWERING: usize = 2;

/// Bytes of topics' events that are not whole yet.
const EVENTS_IN_PARTS: usize = 32 * MAX_EVENT;

/// By how much clocks may differ, of instances and of programs that publish events.
const CLOCKS: Micros = 60_000_000;

/// Why a message of a stranger is not believed.
const NOT_OURS: &str = "not sent by an instance of this cluster, or signed with another secret";

/// How often the broker is asked how much it stores.
const ASK_STORED: Duration = Duration::from_secs(5);

/// Characters of an unreadable message that are shown.
const SHOWN: usize = 120;

/// What is spoken of here.
struct TableData {
    sources: BTreeSet<Arc<str>>,
    tables: Tables,
    /// What the rules here can show or ask; `None`: everything.
    needed: Option<Arc<Needed>>,
    /// The version of the format that everybody reads.
    version: u32,
}

impl Default for TableData {
    fn default() -> TableData {
        let version = *event::READS.end();
        TableData { sources: BTreeSet::new(), tables: Tables::new(), needed: None, version }
    }
}

impl TableData {
    fn encode(&self, interval: &Interval) -> Vec<u8> {
        event::encode_for(interval, &self.tables, self.needed.as_deref(), self.version)
    }
}

/// What is put together of parts, by who may send it: rights on a broker differ by kind, and nobody fills what holds
/// another kind.
struct Assembly {
    rows: Parts,
    topics: Parts,
    members: Parts,
}

impl Default for Assembly {
    fn default() -> Assembly {
        let (rows, topics, members) = (Parts::default(), Parts::with_room(EVENTS_IN_PARTS), Parts::default());
        Assembly { rows, topics, members }
    }
}

impl Assembly {
    fn of(&mut self, path: &Path) -> &mut Parts {
        match path {
            Path::Rows(_) | Path::Beat(_) => &mut self.rows,
            Path::Topic(_) => &mut self.topics,
            Path::Member(_) => &mut self.members,
        }
    }
}

/// An event of an answer: which question, its place, how many there are, and the interval.
struct Answer {
    number: usize,
    of: usize,
    interval: Option<Arc<Interval>>,
}

struct Shared {
    instance: Arc<str>,
    /// What all names begin with, and by what instances know each other.
    prefix: String,
    keys: Option<Keys>,
    /// Tells this process from one of the same name that ran before.
    run: u64,
    described: Mutex<TableData>,
    window: Mutex<Window>,
    /// Questions that wait for their answer.
    asked: Mutex<HashMap<String, mpsc::Sender<Answer>>>,
    answering: Arc<Semaphore>,
    next: AtomicU64,
    sent: AtomicU64,
    heard: AtomicU64,
    lost: AtomicU64,
    malformed: AtomicU64,
    last_malformed: Mutex<Option<String>>,
    /// What the broker stored when it was asked last.
    stored: Mutex<Option<Stored>>,
    follows_stored: AtomicBool,
}

/// A relay over a broker.
pub struct BrokerRelay {
    broker: Arc<dyn Broker>,
    shared: Arc<Shared>,
}

impl BrokerRelay {
    /// For the instance of this name.
    pub fn new(broker: Arc<dyn Broker>, settings: &Settings, instance: &str) -> BrokerRelay {
        let shared = Shared {
            instance: instance.into(),
            prefix: settings.prefix.clone(),
            keys: settings.keys.clone(),
            run: rand::rng().random(),
            described: Mutex::default(),
            window: Mutex::default(),
            asked: Mutex::default(),
            answering: Arc::new(Semaphore::new(ANSWERING)),
            next: AtomicU64::new(1),
            sent: AtomicU64::new(0),
            heard: AtomicU64::new(0),
            lost: AtomicU64::new(0),
            malformed: AtomicU64::new(0),
            last_malformed: Mutex::default(),
            stored: Mutex::default(),
            follows_stored: AtomicBool::new(false),
        };
        BrokerRelay { broker, shared: Arc::new(shared) }
    }

    /// Asks instances for what follows a position: the one named, or all.
    async fn ask(&self, whom: Option<&str>, source: &str, after: Position) -> Option<Vec<Arc<Interval>>> {
        let shared = &self.shared;
        let id = shared.id();
        let (sender, mut answers) = mpsc::channel(INBOX);
        shared.asked.lock().insert(id.clone(), sender);
        let data = json!({"source": source, "after": after.to_string(), "whom": whom});
        let question = shared.event(ASK, id.clone(), data);
        let mut found: BTreeMap<usize, Arc<Interval>> = BTreeMap::new();
        if publish(&*self.broker, shared, Path::Member(token(&shared.instance)), &question.to_bytes()).await.is_ok() {
            while let Ok(Some(answer)) = tokio::time::timeout(ANSWER_WITHIN, answers.recv()).await {
                let Some(interval) = answer.interval else {
                    // Somebody else may know.
                    if whom.is_some() { break } else { continue }
                };
                found.insert(answer.number, interval);
                if found.len() == answer.of {
                    break;
                }
            }
        }
        shared.asked.lock().remove(&id);
        unbroken(after, found.into_values())
    }

    /// Asks the broker now and then how much it stores, as long as the relay is there. Where that may not be asked it is
    /// not known.
    fn follow_stored(&self) {
        if self.shared.follows_stored.swap(true, Relaxed) {
            return;
        }
        let (broker, shared) = (Arc::downgrade(&self.broker), Arc::downgrade(&self.shared));
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(ASK_STORED).await;
                let (Some(broker), Some(shared)) = (broker.upgrade(), shared.upgrade()) else { return };
                let sources: Vec<Arc<str>> = shared.described.lock().sources.iter().cloned().collect();
                let mut all: Option<Stored> = None;
                for source in sources {
                    let answer = tokio::time::timeout(TIMEOUT, broker.stored(&source)).await;
                    if let Ok(Ok(Some(stored))) = answer {
                        let of = all.get_or_insert_default();
                        (of.messages, of.bytes) = (of.messages + stored.messages, of.bytes + stored.bytes);
                    }
                }
                *shared.stored.lock() = all;
            }
        });
    }

    /// Whole intervals of what the broker keeps.
    fn whole(&self, messages: Vec<Message>) -> Vec<Arc<Interval>> {
        let mut parts = Parts::default();
        let now = Instant::now();
        let ours = messages.into_iter().filter(|m| self.shared.is_instances(m));
        let whole = ours.filter_map(|m| parts.add("", m.part, m.bytes, now));
        whole.filter_map(|bytes| self.shared.read(&bytes).ok()).map(Arc::new).collect()
    }
}

impl Shared {
    fn id(&self) -> String {
        format!("{:016x}-{}", self.run, self.next.fetch_add(1, Relaxed))
    }

    fn event(&self, kind: &str, id: String, data: Json) -> CloudEvent {
        let time = rfc3339(now());
        CloudEvent::new(kind, &format!("/gossip/{}", self.instance), id, time, data)
    }

    fn malformed(&self, path: &Path, bytes: &[u8], why: &str) {
        if self.malformed.fetch_add(1, Relaxed) == 0 {
            tracing::warn!("a message on {path} cannot be read: {why}; others like it are counted");
        }
        let begin: String = String::from_utf8_lossy(&bytes[..bytes.len().min(4 * SHOWN)]).chars().take(SHOWN).collect();
        *self.last_malformed.lock() = Some(format!("{path}: {why}: {begin}"));
    }

    /// Cuts bytes into messages that the broker takes, each with its code.
    fn cut(&self, most: usize, path: &Path, to: Option<Position>, id: &str, bytes: &Bytes) -> Vec<Message> {
        let mut messages = cut(most, path, to, id, bytes);
        if let Some(keys) = &self.keys {
            messages.iter_mut().for_each(|m| m.code = Some(keys.code(&self.prefix, m)));
        }
        messages
    }

    /// Whether an instance said this, as far as that is known.
    fn is_instances(&self, m: &Message) -> bool {
        self.keys.as_ref().is_none_or(|keys| keys.vouch_for(&self.prefix, m))
    }

    /// Whether a name is of anybody who is listened to here: what comes in parts under another is not begun.
    fn is_spoken_of(&self, path: &Path) -> bool {
        match path {
            Path::Rows(name) | Path::Beat(name) => self.described.lock().sources.iter().any(|s| token(s) == *name),
            Path::Topic(_) | Path::Member(_) => true,
        }
    }

    fn read(&self, bytes: &[u8]) -> Result<Interval, String> {
        let needed = self.described.lock().needed.clone();
        let mut interval = event::decode_for(bytes, needed.as_deref())?;
        // A table that needs a new snapshot still exists.
        for r in interval.resets.iter_mut().filter(|r| r.why == ResetReason::TooLarge && r.table.is_none()) {
            r.table = self.described.lock().tables.get(&r.name).map(|t| t.table().clone());
        }
        Ok(interval)
    }

    /// An interval of a source that is spoken of here; others are another cluster's, or nobody's.
    fn interval(&self, interval: Interval) -> Option<Arc<Interval>> {
        let interval = Arc::new(interval);
        {
            let mut described = self.described.lock();
            if !described.sources.contains(&interval.source) {
                return None;
            }
            event::learn(&mut described.tables, &interval);
        }
        self.window.lock().add(&interval);
        Some(interval)
    }

    /// What a whole message is to this instance; `None` if nothing. `instances`: whether an instance sent it.
    ///
    /// # Errors
    /// The message is malformed.
    fn received(
        self: &Arc<Self>,
        broker: &Arc<dyn Broker>,
        path: &Path,
        whole: &Bytes,
        instances: bool,
    ) -> Result<Option<Received>, String> {
        match path {
            Path::Rows(_) | Path::Beat(_) => self.read(whole).map(|i| self.interval(i).map(Received::Interval)),
            Path::Topic(name) => CloudEvent::read(whole)
                .and_then(|event| if instances { Ok(event) } else { as_a_strangers(event) })
                .map(|event| Some(Received::Event(Arc::new(Event { about: About::Topic(name.clone()), event })))),
            // Answers hold whole intervals: only their form is looked at.
            Path::Member(_) => serde_json::from_slice::<CloudEvent>(whole)
                .map_err(|e| format!("not a CloudEvent: line {}, column {}", e.line(), e.column()))
                .and_then(|event| event.check().map(|()| event))
                .and_then(|event| if self.keys.is_some() { as_of_now(event) } else { Ok(event) })
                .map(|event| {
                    let theirs = self.own(broker, event)?;
                    Some(Received::Event(Arc::new(Event { about: About::Members, event: theirs })))
                }),
        }
    }

    /// Takes an event of the relay's own, and gives back one that is not.
    fn own(self: &Arc<Self>, broker: &Arc<dyn Broker>, event: CloudEvent) -> Option<CloudEvent> {
        match event.kind.as_str() {
            ASK => {
                let me = event.source.strip_prefix("/gossip/") == Some(&*self.instance)
                    && event.id.starts_with(&format!("{:016x}-", self.run));
                let whom = event.data["whom"].as_str();
                if !me && whom.is_none_or(|w| w == &*self.instance) {
                    self.answer(broker, &event);
                }
                None
            }
            ANSWER => {
                let d = &event.data;
                let number = |name: &str| d[name].as_u64().map(|n| n as usize);
                let waiting = d["ask"].as_str().and_then(|id| self.asked.lock().get(id).cloned());
                let (Some(waiting), Some(number), Some(of)) = (waiting, number("number"), number("of")) else {
                    return None;
                };
                let interval = d["interval"].as_str().and_then(|text| BASE64.decode(text).ok());
                let interval = interval.and_then(|bytes| self.read(&bytes).ok()).map(Arc::new);
                let _ = waiting.try_send(Answer { number, of, interval });
                None
            }
            _ => Some(event),
        }
    }

    /// Answers a request with the retained messages; ignores it if there are too many requests already.
    fn answer(self: &Arc<Self>, broker: &Arc<dyn Broker>, question: &CloudEvent) {
        let Ok(place) = self.answering.clone().try_acquire_owned() else { return };
        let after = question.data["after"].as_str().and_then(|t| t.parse().ok());
        let (Some(source), Some(after)) = (question.data["source"].as_str(), after) else { return };
        let since = self.window.lock().since(source, after);
        let (shared, broker, ask) = (self.clone(), broker.clone(), question.id.clone());
        tokio::spawn(async move {
            let _place = place;
            let path = Path::Member(token(&shared.instance));
            let all = since.unwrap_or_default();
            let mut said = all.iter().enumerate().map(|(i, interval)| {
                let bytes = shared.described.lock().encode(interval);
                json!({"ask": ask, "number": i, "of": all.len(), "interval": BASE64.encode(bytes)})
            });
            let none = all.is_empty().then(|| json!({"ask": ask, "number": 0, "of": 0}));
            for data in none.into_iter().chain(&mut said) {
                let event = shared.event(ANSWER, shared.id(), data);
                if publish(&*broker, &shared, path.clone(), &event.to_bytes()).await.is_err() {
                    return;
                }
            }
        });
    }
}

/// An event that no instance vouches for: nobody says here who sent it, and it has not happened later than now, or it
/// would be the last one of its key for ever.
///
/// # Errors
/// It says that it happens later.
fn as_a_strangers(mut event: CloudEvent) -> Result<CloudEvent, String> {
    event.more.remove(SENDER);
    match ahead(&event) {
        Some(ahead) if ahead > CLOCKS => Err("time: later than now".into()),
        _ => Ok(event),
    }
}

/// What an instance says, unless it was said long ago: somebody may have kept it to say it again.
///
/// # Errors
/// It is not of now.
fn as_of_now(event: CloudEvent) -> Result<CloudEvent, String> {
    match ahead(&event) {
        Some(ahead) if ahead.saturating_abs() <= CLOCKS => Ok(event),
        _ => Err("time: more than a minute from now; are the clocks of all instances right?".into()),
    }
}

/// How far in the future an event has happened.
fn ahead(event: &CloudEvent) -> Option<Micros> {
    let time = datetime::parse_event_time(event.time.as_deref()?)?.saturating_add(datetime::SINCE_1970);
    Some(time.saturating_sub(now()))
}

fn now() -> Timestamp {
    jiff::Timestamp::now().as_microsecond()
}

/// Cuts bytes into messages that the broker takes.
fn cut(most: usize, path: &Path, to: Option<Position>, id: &str, bytes: &Bytes) -> Vec<Message> {
    let of = bytes.len().div_ceil(most).max(1);
    let piece = |index: usize| Message {
        path: path.clone(),
        part: Part { index, of },
        to,
        id: id.into(),
        code: None,
        bytes: bytes.slice(index * most..bytes.len().min((index + 1) * most)),
    };
    (0..of).map(piece).collect()
}

async fn publish(broker: &dyn Broker, shared: &Shared, path: Path, bytes: &[u8]) -> Result<(), RelayError> {
    for m in shared.cut(broker.max_message_bytes(), &path, None, "", &Bytes::copy_from_slice(bytes)) {
        broker.publish(m).await?;
    }
    shared.sent.fetch_add(1, Relaxed);
    Ok(())
}

#[async_trait]
impl Relay for BrokerRelay {
    fn describe(&self, tables: &[Arc<Table>]) {
        let mut described = self.shared.described.lock();
        described.sources.extend(tables.iter().map(|t| t.source.clone()));
        described.tables.extend(tables.iter().map(|t| (t.name.clone(), Identified::new(t.clone()))));
    }

    fn speak(&self, version: u32) {
        self.shared.described.lock().version = version;
    }

    fn need(&self, needed: Option<Needed>) {
        let mut described = self.shared.described.lock();
        if described.needed.as_deref() != needed.as_ref() {
            described.needed = needed.map(Arc::new);
            drop(described);
            // What was heard before may lack what is needed now, and no longer says so.
            self.shared.window.lock().forget();
        }
    }

    async fn publish(&self, interval: Arc<Interval>) -> Result<(), RelayError> {
        let bytes: Bytes = {
            let mut described = self.shared.described.lock();
            event::learn(&mut described.tables, &interval);
            described.encode(&interval).into()
        };
        let source = token(&interval.source);
        if interval.from == interval.to {
            return publish(&*self.broker, &self.shared, Path::Beat(source), &bytes).await;
        }
        let id =
            format!("{}-{}-{}-{}-{}", interval.timeline, interval.epoch, interval.reader, interval.from, interval.to);
        let messages =
            self.shared.cut(self.broker.max_message_bytes(), &Path::Rows(source), Some(interval.to), &id, &bytes);
        self.broker.publish_durable(&interval.source, messages).await?;
        // Instances that missed it can request it here, whether or not it comes back.
        self.shared.window.lock().add(&interval);
        self.shared.sent.fetch_add(1, Relaxed);
        Ok(())
    }

    async fn broadcast(&self, event: Arc<Event>) -> Result<(), RelayError> {
        let path = match &event.about {
            About::Topic(name) => Path::Topic(token(name)),
            About::Members => Path::Member(token(&self.shared.instance)),
        };
        publish(&*self.broker, &self.shared, path, &event.event.to_bytes()).await
    }

    async fn join(&self) -> Result<Inbox, RelayError> {
        let mut messages = self.broker.listen().await?;
        let (sender, inbox) = mpsc::channel(INBOX);
        let sources = self.shared.described.lock().sources.clone();
        for source in sources {
            if let Some(last) = self.last(&source).await? {
                let _ = sender.try_send(Received::Interval(Arc::new(sign(&last))));
            }
        }
        self.follow_stored();
        let (shared, broker) = (self.shared.clone(), self.broker.clone());
        tokio::spawn(async move {
            let mut assembly = Assembly::default();
            loop {
                let m = tokio::select! {
                    m = messages.recv() => m,
                    () = sender.closed() => return,
                };
                let Some(m) = m else { return };
                let instances = shared.is_instances(&m);
                let Message { path, part, bytes, .. } = m;
                // Whole events of topics are anybody's to publish whom the broker lets; nothing else is.
                let is_free = matches!(path, Path::Topic(_)) && part == Part::WHOLE;
                if !instances && !is_free {
                    shared.malformed(&path, &bytes, NOT_OURS);
                    continue;
                }
                if part != Part::WHOLE && !shared.is_spoken_of(&path) {
                    continue;
                }
                let Some(whole) = assembly.of(&path).add(&path.to_string(), part, bytes, Instant::now()) else {
                    continue;
                };
                shared.heard.fetch_add(1, Relaxed);
                match shared.received(&broker, &path, &whole, instances) {
                    Ok(None) => {}
                    // A full inbox loses this one and notices.
                    Ok(Some(heard)) => {
                        if sender.try_send(heard).is_err() {
                            shared.lost.fetch_add(1, Relaxed);
                        }
                    }
                    Err(why) => shared.malformed(&path, &whole, &why),
                }
            }
        });
        Ok(inbox)
    }

    async fn replay(&self, source: &str, after: Position) -> Result<Option<Vec<Arc<Interval>>>, RelayError> {
        let kept = self.broker.replay(source, after).await?;
        if let Some(since) = kept.and_then(|messages| unbroken(after, self.whole(messages))) {
            return Ok(Some(since));
        }
        if !self.broker.is_connected() {
            return Err(RelayError::Unreachable("not connected".into()));
        }
        // What this instance has heard itself may be what its engine had no room for.
        if let Some(since) = self.shared.window.lock().since(source, after) {
            return Ok(Some(since));
        }
        let reader = self.shared.window.lock().last(source).map(|i| i.reader.clone());
        if let Some(reader) = reader.filter(|r| *r != self.shared.instance)
            && let Some(since) = self.ask(Some(&reader), source, after).await
        {
            return Ok(Some(since));
        }
        Ok(self.ask(None, source, after).await)
    }

    async fn last(&self, source: &str) -> Result<Option<Arc<Interval>>, RelayError> {
        let heard = self.shared.window.lock().last(source);
        let kept = self.whole(self.broker.newest(source).await?).pop();
        Ok(match (heard, kept) {
            (Some(heard), Some(kept)) if (heard.epoch, heard.to) < (kept.epoch, kept.to) => Some(kept),
            (heard, kept) => heard.or(kept),
        })
    }

    fn standing(&self) -> Standing {
        let s = &self.shared;
        Standing {
            kind: self.broker.kind(),
            connected: self.broker.is_connected(),
            sent: s.sent.load(Relaxed),
            heard: s.heard.load(Relaxed),
            lost: s.lost.load(Relaxed),
            malformed: s.malformed.load(Relaxed),
            last_malformed: s.last_malformed.lock().clone(),
            broker: self.broker.about(),
            stored: s.stored.lock().map(|stored| (stored.messages, stored.bytes)),
            names: self.broker.names(),
        }
    }
}
