//! One client's WebSocket: calls in, messages out.

use std::sync::Arc;
use std::time::Duration;

use futures_util::StreamExt;
use gossip_core::budget::Owner;
use gossip_core::engine::{Request, Resume};
use gossip_core::rule::Claims;
use gossip_core::seal::Sealer;
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{Call, CloudEvent, RpcError, call, close, code, message};
use serde_json::{Map, Value as Json, json};
use tokio::io::AsyncReadExt;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;
use tokio_tungstenite::tungstenite::protocol::CloseFrame;
use tokio_tungstenite::tungstenite::protocol::frame::Frame;
use tokio_tungstenite::tungstenite::{Error as SocketError, Message};

use crate::audit_log::{AuditLog, Caller};
use crate::auth::{Accepted, KeyId};
use crate::node::{Client, Command, Explain, Operate, Publish, WhatIf};
use crate::now;
use crate::outbox::{self, Flushed, Style};
use crate::query_ref::{Askable, QueryRef};
use crate::tap::Way;
use crate::upgrade::{Calls, MAX_MESSAGE};
use crate::writers::tell;

/// A client that takes nothing for so long is gone.
pub const STUCK: Duration = Duration::from_secs(60);

/// How long an ending connection may take to say so.
const FAREWELL: Duration = Duration::from_secs(1);

/// A connection ends after this at the latest, whatever its token says.
const LONGEST: Duration = Duration::from_secs(365 * 86_400);

/// Seconds as microseconds; a token may claim to end after the end of time.
fn micros(seconds: i64) -> i64 {
    seconds.saturating_mul(1_000_000)
}

/// What a connection works with.
pub struct Served {
    /// The client.
    pub client: Arc<Client>,
    /// The engine's loop.
    pub asks: mpsc::Sender<Command>,
    /// Where queries come from.
    pub askable: Askable,
    /// Who was refused what.
    pub record: Arc<AuditLog>,
    /// Seals keys and cursors.
    pub sealer: Arc<Sealer>,
    /// Turns true when the instance stops.
    pub stopping: watch::Receiver<bool>,
}

/// Waits until the instance stops, or is gone.
async fn stopped(stopping: &mut watch::Receiver<bool>) {
    drop(stopping.wait_for(|s| *s).await);
}

/// Waits until the set of keys is another one; for ever where there is none.
pub(crate) async fn changed(keys: &mut Option<watch::Receiver<u64>>) {
    if let Some(keys) = keys
        && keys.changed().await.is_ok()
    {
        return;
    }
    std::future::pending().await
}

/// Calls that a connection may make at once, and how many more each second.
const CALLS: u32 = 2_000;
const CALLS_PER_SECOND: u32 = 200;

/// A connection that has made no call within this time ends.
const FIRST_CALL: Duration = Duration::from_secs(30);

/// Why a connection ends.
struct End(u16, String);

type Flow = Result<(), Option<End>>;

/// Serves a connection to its end. `token` is the one of the upgrade.
pub async fn serve(mut calls: Calls, served: Served, token: Option<String>) {
    let mut c = Connection { owner: served.client.owner(), served, expires: None, key: None };
    let client = c.served.client.clone();
    if c.served.asks.send(Command::Connected(client.clone())).await.is_err() {
        return;
    }
    let _known = ConnectedClient { client: client.clone(), asks: c.served.asks.clone() };
    let mut flow: Flow = Ok(());
    if let Some(token) = token
        && let Err(e) = c.authenticate(&token).await
    {
        c.record(|record, who| record.refused(who, "the token of a connection", &e));
        client.outbox.say(&message::refuse(&Json::Null, &e));
        flow = Err(Some(End(close::POLICY, e.message)));
    }
    if flow.is_ok() {
        flow = c.run(&mut calls).await;
    }
    let ended = match &flow {
        Err(Some(End(_, why))) => why.clone(),
        _ => "the client has closed it, or is gone".into(),
    };
    client.ended.get_or_init(|| ended);
    // It is to hear why, whoever holds what waits for it.
    client.outbox.hold(None);
    match flow {
        // What ended it may have left the socket unusable.
        Err(Some(end)) => drop(tokio::time::timeout(FAREWELL, c.farewell(&mut calls, end)).await),
        // The answer to the client's own close may still wait.
        _ => drop(client.outbox.flush(&c.served.sealer)),
    }
}

/// A client that the loop knows, until this is dropped, however its connection ends.
pub(crate) struct ConnectedClient {
    pub(crate) client: Arc<Client>,
    pub(crate) asks: mpsc::Sender<Command>,
}

impl Drop for ConnectedClient {
    fn drop(&mut self) {
        self.client.outbox.close();
        let (asks, id) = (self.asks.clone(), self.client.id);
        // Where the runtime is ending, so is the loop.
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move { asks.send(Command::Disconnected(id)).await });
        }
    }
}

struct Connection {
    served: Served,
    /// Whom its subscriptions are charged to.
    owner: Arc<Owner>,
    /// When the token ends, in seconds since 1970.
    expires: Option<i64>,
    /// The key that it is signed with.
    key: Option<KeyId>,
}

impl Connection {
    /// Reads calls. Writing is the writers' work, until the socket takes no more: then this waits for it, and reads
    /// nothing meanwhile, so that a client that does not listen cannot go on asking.
    #[expect(clippy::too_many_lines, reason = "one select over timers that are pinned here")]
    async fn run(&mut self, calls: &mut Calls) -> Flow {
        let silence = self.served.askable.admission.silence;
        // Asked twice, in vain, before it counts as gone.
        let mut ping = tokio::time::interval(silence / 3);
        ping.tick().await;
        let mut heard = Instant::now();
        let client = self.served.client.clone();
        let tcp = calls.get_ref().tcp.clone();
        let mut stopping = self.served.stopping.clone();
        let mut keys = self.served.askable.tokens.as_ref().map(|t| t.changes());
        let mut stopped = std::pin::pin!(stopped(&mut stopping));
        let mut ends = std::pin::pin!(tokio::time::sleep(Duration::MAX));
        let mut known_end = None;
        // Whether the client was notified that its token has expired.
        let mut noticed = false;
        let mut calls_left = f64::from(CALLS);
        let mut refilled = Instant::now();
        let mut first_call = std::pin::pin!(tokio::time::sleep(FIRST_CALL));
        let mut called = self.expires.is_some();
        let mut blocked = self.write().await?;
        let mut stuck = std::pin::pin!(tokio::time::sleep(STUCK));
        loop {
            if self.expires != known_end {
                known_end = self.expires;
                let left = self.expires.map_or(0, |at| micros(at).saturating_sub(now())).max(0);
                ends.as_mut().reset(Instant::now() + Duration::from_micros(left.unsigned_abs()).min(LONGEST));
                noticed = false;
            }
            // A client that calls too fast is read from more slowly; no other is affected.
            let since = refilled.elapsed().as_secs_f64() * f64::from(CALLS_PER_SECOND);
            (calls_left, refilled) = ((calls_left + since).min(f64::from(CALLS)), Instant::now());
            let too_fast = calls_left < 1.0;
            tokio::select! {
                () = &mut stopped => {
                    return Err(Some(End(close::RESTART, "the instance stops; connect again".into())));
                }
                () = tokio::time::sleep(Duration::from_millis(20)), if too_fast => {}
                () = &mut first_call, if !called => {
                    let reason = format!("no call within {} s", FIRST_CALL.as_secs());
                    return Err(Some(End(close::POLICY, reason)));
                }
                message = calls.next(), if !blocked && !too_fast => match message {
                    Some(Ok(message)) => {
                        heard = Instant::now();
                        if message.is_text() {
                            (called, calls_left) = (true, calls_left - 1.0);
                        }
                        self.read(message).await?;
                        blocked = self.write().await?;
                    }
                    Some(Err(e)) => return Err(too_big(&e)),
                    None => return Err(None),
                },
                () = client.outbox.blocked(), if !blocked => blocked = self.write().await?,
                writable = tcp.writable(), if blocked => {
                    writable.map_err(|_| None)?;
                    stuck.as_mut().reset(Instant::now() + STUCK);
                    blocked = self.write().await?;
                }
                () = &mut stuck, if blocked => return Err(self.lost(format!("it read nothing for {} s", STUCK.as_secs()))),
                () = client.leave.notified() => {
                    return Err(Some(End(close::RESTART, "an operator has ended this connection; connect again".into())));
                }
                () = &mut ends, if known_end.is_some() => {
                    if noticed {
                        self.expire().await?;
                        known_end = None;
                    } else {
                        let grace = self.served.askable.tokens.as_ref().map_or(Duration::ZERO, |t| t.grace());
                        let told = json!({"closes_ms": grace.as_millis() as u64});
                        client.outbox.say(&message::notify("expired", told));
                        ends.as_mut().reset(Instant::now() + grace);
                        noticed = true;
                    }
                    blocked = self.write().await?;
                }
                () = changed(&mut keys) => {
                    let tokens = self.served.askable.tokens.as_ref();
                    if self.key.is_some_and(|key| tokens.is_none_or(|t| !t.has(&key))) {
                        // What it let in it lets in no more, and there is nothing to wait for.
                        client.outbox.say(&message::notify("expired", json!({"closes_ms": 0})));
                        self.expire().await?;
                        known_end = None;
                    }
                    blocked = self.write().await?;
                }
                _ = ping.tick(), if !blocked => {
                    if heard.elapsed() > silence {
                        return Err(self.lost(format!("it was silent for {} s", silence.as_secs())));
                    }
                    client.outbox.push(outbox::control(Frame::ping(Vec::new())));
                    blocked = self.write().await?;
                }
            }
            if blocked {
                // Nothing is read from it meanwhile, so it is not idle.
                heard = Instant::now();
            } else {
                stuck.as_mut().reset(Instant::now() + STUCK);
            }
        }
    }

    /// The connection ends without a word; operators are told why.
    fn lost(&self, why: String) -> Option<End> {
        let _ = self.served.client.ended.set(why);
        None
    }

    /// Writes until nothing waits, or the socket takes no more: then it is true.
    async fn write(&self) -> Result<bool, Option<End>> {
        write(&self.served.client, &self.served.asks, &self.served.sealer).await
    }

    /// Says why the connection ends, behind whatever else waits, and lets the client take it.
    async fn farewell(&self, calls: &mut Calls, end: End) {
        let End(code, reason) = end;
        let reason: String = reason.chars().take(100).collect();
        let frame = Frame::close(Some(CloseFrame { code: code.into(), reason: reason.into() }));
        self.served.client.outbox.push(outbox::control(frame));
        let tcp = calls.get_ref().tcp.clone();
        while let Ok(true) = self.write().await {
            if tcp.writable().await.is_err() {
                return;
            }
        }
        // A socket that is closed with something unread takes back what was written to it.
        let _ = socket2::SockRef::from(&*tcp).shutdown(std::net::Shutdown::Write);
        let mut unread = [0; 4 * 1024];
        while let Ok(1..) = calls.get_mut().read(&mut unread).await {}
    }

    async fn ask(&self, ask: Command) -> Flow {
        self.served.asks.send(ask).await.map_err(|_| None)
    }

    async fn read(&mut self, message: Message) -> Flow {
        let text = match message {
            Message::Text(text) => text,
            Message::Binary(_) => {
                return Err(Some(End(close::UNSUPPORTED, "binary messages are not part of gossip.v1".into())));
            }
            Message::Ping(_) | Message::Pong(_) | Message::Frame(_) => return Ok(()),
            // The next turn answers it and finds the end.
            Message::Close(_) => return Ok(()),
        };
        self.served.client.outbox.tap.note(Way::Received, text.as_bytes());
        let request = match message::Request::read(&text) {
            Ok(Some(request)) => request,
            Ok(None) => return Ok(()),
            Err(no) => {
                self.served.client.outbox.say(&message::refuse(&no.id, &no.error));
                return Ok(());
            }
        };
        let message::Request { id, method, params } = request;
        match self.call(&method, params, &id).await {
            Ok(Some(result)) => self.served.client.outbox.say(&message::reply(&id, result)),
            Ok(None) => {}
            Err(Failed::Call(e)) => {
                self.record(|record, who| record.refused(who, &format!("the call {method}"), &e));
                self.served.client.outbox.say(&message::refuse(&id, &e));
            }
            Err(Failed::Connection(end)) => return Err(end),
        }
        Ok(())
    }

    /// Carries out a call. `None`: the engine's loop answers.
    async fn call(&mut self, method: &str, params: Map<String, Json>, id: &Json) -> Result<Option<Json>, Failed> {
        if call::is_for_operators(method) && !self.served.client.claims.lock().operator {
            return Err(RpcError::new(code::NOT_KNOWN, format!("{method} is not known or not permitted")).into());
        }
        let client = self.served.client.id;
        match Call::read(method, params)? {
            Call::Authenticate { token } => return self.renew(&token).await.map(Some),
            Call::Subscribe(asked) => self.subscribe(*asked, id).await?,
            Call::Unsubscribe { subscription } => {
                self.ask(Command::Unsubscribe { client, call: id.clone(), number: subscription }).await?;
            }
            Call::Publish(asked) => self.publish(asked, id).await?,
            Call::Join { place, data } => self.ask(Command::Join { client, call: id.clone(), place, data }).await?,
            Call::Leave { place } => self.ask(Command::Leave { client, call: id.clone(), place }).await?,
            call @ (Call::Explain(_)
            | Call::WhatIf(_)
            | Call::Drain { .. }
            | Call::Disconnect { .. }
            | Call::Hold { .. }) => self.operate(call, method, id).await?,
        }
        Ok(None)
    }

    async fn renew(&mut self, token: &str) -> Result<Json, Failed> {
        let before = self.served.client.claims.lock().clone();
        let accepted = self.authenticate(token).await?;
        let subject = accepted.claims.subject().map(String::from);
        if before.subject().is_some() && before.subject() != subject.as_deref() {
            let reason = "another subject; connect again".to_string();
            return Err(Failed::Connection(Some(End(close::POLICY, reason))));
        }
        let (roles, expires) = (accepted.claims.roles, rfc3339(micros(accepted.expires)));
        Ok(json!(call::Authenticated { subject, roles, expires }))
    }

    async fn subscribe(&self, asked: call::Subscribe, id: &Json) -> Result<(), Failed> {
        let call::Subscribe { query, name, grant, params, cursor, every_ms, batch, send, changes_only, was, observed } =
            asked;
        let resume = cursor.map(|c| match self.served.sealer.open(&c) {
            Some(cursor) => Resume::At(cursor),
            None => Resume::Unreadable,
        });
        let claims = self.served.client.claims.lock().clone();
        let every = every_ms.cast_signed() * 1_000;
        let client = &self.served.client;
        let asked = QueryRef { query, name, grant, params };
        let request = self.served.askable.request(asked, claims, self.owner.clone()).await?;
        let request = Request { observed: observed.is_some(), every, resume: resume.map(Box::new), ..request };
        let batch = usize::try_from(batch.unwrap_or(call::MAX_BATCH)).unwrap_or(usize::MAX).max(1);
        let style = Style { batch, send, was, changes_only };
        let request = style.of(request);
        let subscribe = Command::Subscribe { client: client.id, call: id.clone(), request, style, observed };
        Ok(self.ask(subscribe).await?)
    }

    async fn publish(&self, asked: call::Publish, id: &Json) -> Result<(), Failed> {
        let call::Publish { topic, data, id: event_id } = asked;
        let claims = self.served.client.claims.lock().clone();
        let mut event = CloudEvent::new(&topic, "", event_id.unwrap_or_default(), String::new(), data);
        event.time = None;
        let (answer, answered) = oneshot::channel();
        self.ask(Command::Publish(Box::new(Publish { topic, claims, event, answer }))).await?;
        let (told, tell) = oneshot::channel();
        self.respond_later(id.clone(), tell);
        tokio::spawn(async move {
            if let Ok(outcome) = answered.await {
                let _ = told.send(outcome.map(|published| published.to_json()));
            }
        });
        Ok(())
    }

    async fn operate(&self, call: Call, method: &str, id: &Json) -> Result<(), Failed> {
        let what = match &call {
            // Looked at here already, so that what is recorded says what was asked.
            Call::Explain(asked) => Explain::of(asked)?.to_string(),
            Call::WhatIf(asked) => {
                format!("what other rules would mean for {} queries", WhatIf::of(asked)?.asked.len())
            }
            _ => method.to_string(),
        };
        let at = call.instance().map_or(String::new(), |name| format!(" at {}", name.escape_debug()));
        self.record(|record, who| record.looked(who, &format!("{what}{at}")));
        let (answer, answered) = oneshot::channel();
        self.ask(Command::Operate(Box::new(Operate { call, answer }))).await?;
        self.respond_later(id.clone(), answered);
        Ok(())
    }

    /// Says the answer to a call when it is there. The connection goes on meanwhile.
    fn respond_later(&self, call: Json, answered: oneshot::Receiver<Result<Json, RpcError>>) {
        let (client, asks, sealer) = (self.served.client.clone(), self.served.asks.clone(), self.served.sealer.clone());
        tokio::spawn(async move {
            let Ok(answer) = answered.await else { return };
            client
                .outbox
                .say(&answer.map_or_else(|e| message::refuse(&call, &e), |found| message::reply(&call, found)));
            let _ = write(&client, &asks, &sealer).await;
        });
    }

    fn record(&self, tell: impl FnOnce(&AuditLog, &Caller<'_>)) {
        let claims = self.served.client.claims.lock().clone();
        tell(&self.served.record, &Caller { address: &self.served.client.address, claims: &claims });
    }

    /// The token has expired without renewal: its subscriptions are closed, and the client is anonymous.
    async fn expire(&mut self) -> Flow {
        (self.expires, self.key) = (None, None);
        *self.served.client.claims.lock() = Arc::new(Claims::anonymous());
        self.owner = self.served.client.owner();
        self.ask(Command::Expired(self.served.client.id)).await
    }

    async fn authenticate(&mut self, token: &str) -> Result<Accepted, RpcError> {
        let Some(tokens) = &self.served.askable.tokens else {
            let text = "this instance takes no tokens: its configuration has no [auth]";
            return Err(RpcError::new(code::NOT_AUTHENTICATED, text));
        };
        let accepted = tokens.accept(token).await.map_err(|e| RpcError::new(code::NOT_AUTHENTICATED, e))?;
        let claims = Arc::new(accepted.claims.clone());
        let before = std::mem::replace(&mut *self.served.client.claims.lock(), claims.clone());
        self.owner = self.served.client.owner();
        (self.expires, self.key) = (Some(accepted.expires), Some(accepted.key));
        if before != claims {
            let ask = Command::Claims(self.served.client.id, before, claims);
            self.ask(ask).await.map_err(|_| RpcError::new(code::UNAVAILABLE, "the instance stops"))?;
        }
        Ok(accepted)
    }
}

/// Writes until nothing waits, or the socket takes no more: then it is true.
async fn write(client: &Client, asks: &mpsc::Sender<Command>, sealer: &Sealer) -> Result<bool, Option<End>> {
    loop {
        let told = client.outbox.flush(sealer);
        let flushed = told.flushed;
        tell(told, asks).await.map_err(|()| None)?;
        match flushed {
            Flushed::Empty => return Ok(false),
            Flushed::Blocked => return Ok(true),
            Flushed::Gone => return Err(None),
            Flushed::More => tokio::task::yield_now().await,
        }
    }
}

fn too_big(e: &SocketError) -> Option<End> {
    let big = matches!(e, SocketError::Capacity(_));
    big.then(|| End(close::TOO_BIG, format!("a message has at most {MAX_MESSAGE} bytes")))
}

enum Failed {
    Call(RpcError),
    Connection(Option<End>),
}

impl From<RpcError> for Failed {
    fn from(e: RpcError) -> Self {
        Failed::Call(e)
    }
}

impl From<Option<End>> for Failed {
    fn from(e: Option<End>) -> Self {
        Failed::Connection(e)
    }
}
